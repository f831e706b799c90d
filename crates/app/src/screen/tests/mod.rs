//! Frames of the screen: actions in, frame out, as text, and what colour alone says.

mod blind;
mod calibrate;
mod drags;
mod face;
mod frames;
mod inputs;
mod keys;
mod levels;
mod many;
mod mappings;
mod practice;
mod scales;
mod sequences;
mod smart;
mod wiring;
mod words;

use super::dialog::Dialog;
use super::keys::Key;
use super::model::Model;
use super::{frame, theme, update};
use crate::files::output::Outputs;
use crate::hardware::Surroundings;
use crate::session::Session;
use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Color;
use std::time::Duration;
use tempfile::TempDir;
use wasvolta_core::unit::Volts;
use wasvolta_port::scan::Roots;

/// A session of the demo in which time passes by hand, with someone at its keys.
struct Bench {
    session: Session,
    model: Model,
    now: Duration,
    folder: TempDir,
    /// Pages that said what is written into a servo's memory, and were agreed to.
    pages: u64,
}

impl Drop for Bench {
    /// Whatever a test was about: nothing was written into a servo's memory without a page that said so. What does not
    /// answer behind a page is set back, which is a second write.
    fn drop(&mut self) {
        let bus = self.session.runner.simulated.as_ref().and_then(|simulated| simulated.smart_bus("neck"));
        let writes = bus.map_or(0, |bus| bus.memory_writes());
        assert!(
            writes <= 2 * self.pages || std::thread::panicking(),
            "{writes} writes to memory and {} pages that said so",
            self.pages
        );
    }
}

/// The demo with its knob on the beak, and with nothing that moves by itself.
fn simple(rig: &str) -> String {
    let plain = "[[mapping]]\nname = \"heron.beak\"\nfrom = { knob = 1 }\nto = { joint = \"heron.beak\", angles_deg = [0, 40] }\n\
                 failsafe = { angle_deg = 4, over_s = 0.8 }\n\n[[mapping]]\nname = \"punt.rudder\"\nfrom = { tiller = 1 }\n\
                 to = { joint = \"punt.rudder\", angles_deg = [-30, 30] }\nfailsafe = { angle_deg = 0, over_s = 1.5 }\n\n";
    let mut text = rig.to_owned();
    for (from, to, instead) in [
        ("# The neck's smart servos", "[[port]]\nname = \"bench-bus\"", ""),
        ("[[port]]\nname = \"neck-line\"", "[[port]]\nname = \"breeze-port\"", ""),
        ("# The two smart servos", "# Calibrated on the bench", ""),
        ("# Where the neck grows", "[[joint]]\nname = \"heron.neck\"", ""),
        ("# The heron drinks", "[[pose]]\nname = \"dark\"", ""),
        ("[[port]]\nname = \"breeze-port\"", "[[board]]", ""),
        ("# The reeds:", "# The moon:", ""),
        ("# Air over the marsh", "[[input]]", ""),
        ("[[input]]\nname = \"air\"", "# The knob turns the heron", ""),
        ("# The knob turns the heron", "[[mapping]]\nname = \"punt.pole\"", plain),
        ("[[mapping]]\nname = \"sway\"", "[[pose]]\nname = \"rest\"", ""),
    ] {
        let start = text.find(from).unwrap_or_else(|| panic!("{from} stands in the demo"));
        let end = start + text[start..].find(to).unwrap_or_else(|| panic!("{to} comes behind it"));
        text.replace_range(start..end, instead);
    }
    text
}

impl Bench {
    /// The demo as it is.
    fn demo() -> Self {
        Self::with_text(include_str!("../../../../../examples/marsh-clock.rig.toml"))
    }

    fn new() -> Self {
        Self::with(str::to_owned)
    }

    fn with(change: impl Fn(&str) -> String) -> Self {
        Self::with_text(&change(&simple(include_str!("../../../../../examples/marsh-clock.rig.toml"))))
    }

    fn with_text(rig: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("marsh-clock.rig.toml");
        std::fs::write(&path, rig).unwrap();
        let sim = include_str!("../../../../../examples/marsh-clock.sim.toml");
        std::fs::write(folder.path().join("marsh-clock.sim.toml"), sim).unwrap();
        Self::reopened(&path, folder)
    }

    fn reopened(path: &std::path::Path, folder: TempDir) -> Self {
        Self::with_faults(path, folder, &[])
    }

    /// The bench with something wrong from the start.
    fn with_faults(path: &std::path::Path, folder: TempDir, faults: &[&str]) -> Self {
        let faults = faults.iter().map(|fault| fault.parse().unwrap()).collect();
        let around = Surroundings { by_hand: true, faults, ..Surroundings::default() };
        let mut session = Session::open(path, &around, &Outputs::default()).unwrap();
        // What the machine of a test has must not show.
        let nowhere = folder.path().to_owned();
        session.runner.lookout.roots = Roots { dev: nowhere.clone(), sys: nowhere.clone(), etc: nowhere };
        let mut model = Model::new(&mut session, crate::screen::calibrate::VIEW);
        model.keys = crate::screen::bindings::usual();
        let mut bench = Self { session, model, now: Duration::ZERO, folder, pages: 0 };
        bench.pass(20);
        bench
    }

    fn pass(&mut self, beats: u32) {
        self.session.runner.pass_beats(beats);
        self.now += Duration::from_millis(20) * beats;
        update::observe(&mut self.model, &mut self.session, self.now);
        self.model.new_frame();
    }

    fn press(&mut self, key: Key) {
        let modifiers = if key.ctrl { KeyModifiers::CONTROL } else { KeyModifiers::NONE };
        // A person's keys are further apart than a held key's.
        self.now += Duration::from_millis(200);
        let event = Event::Key(KeyEvent::new(key.code, modifiers));
        if let Some(Dialog::Form(form)) = &self.model.dialog {
            let is_page = form.question.starts_with("write ") && form.subject.words.contains("is written");
            self.pages += u64::from(is_page && key.code == KeyCode::Enter);
        }
        update::event(&mut self.model, &mut self.session, &event, self.now);
        self.pass(1);
    }

    /// Asks for something of parts by their places.
    fn tell(&mut self, command: wasvolta_core::stage::Placed) {
        let command = command.named(&self.session.runner.edition.plan).unwrap();
        assert!(self.session.runner.engine.command(command));
    }

    /// The place of the picked servo.
    fn picked(&self) -> usize {
        self.session.runner.edition.index.servos.place(self.model.servo.id).unwrap()
    }

    /// The place of the picked channel's board, and the channel.
    fn plug(&self) -> (usize, u8) {
        let (board, channel) = self.model.in_wiring.plug;
        (self.session.runner.edition.index.boards.place(board.id).unwrap(), channel)
    }

    fn code(&mut self, code: KeyCode) {
        self.press(Key::of(code));
    }

    fn text(&mut self, text: &str) {
        for c in text.chars() {
            self.press(Key::char(c));
        }
    }

    fn enter(&mut self, text: &str) {
        self.text(text);
        self.code(KeyCode::Enter);
    }

    /// Does what a command is for, by its name in the palette.
    fn act(&mut self, name: &str) {
        self.press(Key::char(':'));
        self.enter(name);
    }

    fn buffer(&self, columns: u16, rows: u16) -> Buffer {
        let area = Rect::new(0, 0, columns, rows);
        let mut buffer = Buffer::empty(area);
        frame::draw(&self.model.scene(&self.session), area, &mut buffer);
        buffer
    }

    fn frame(&self, columns: u16, rows: u16) -> String {
        let buffer = self.buffer(columns, rows);
        let row = |y: u16| (0..columns).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        (0..rows).map(|y| row(y).trim_end().to_owned() + "\n").collect()
    }

    /// Cells of a colour whose symbol is not blank.
    fn coloured(&self, color: Color) -> usize {
        let buffer = self.buffer(160, 47);
        buffer.content.iter().filter(|c| c.fg == color && c.symbol() != " ").count()
    }
}

#[test]
fn colours_are_used_for_what_they_mean() {
    let mut bench = Bench::new();
    // The desk's board takes its time to start.
    bench.pass(150);
    bench.code(KeyCode::PageUp);
    assert!(bench.coloured(theme::INPUT) > 5, "the beak's input is pointed at");
    bench.code(KeyCode::PageUp);
    assert_eq!(bench.coloured(theme::INPUT), 0, "the neck has no input");
    let faults = bench.coloured(theme::FAULT);
    bench.code(KeyCode::F(3));
    bench.act("pull the plug");
    bench.pass(60);
    assert!(bench.coloured(theme::FAULT) > 0 && faults > 0);
    assert!(bench.frame(160, 47).contains("✗ dial lost"), "a word and a sign say it too");
}

#[test]
fn every_size_from_the_least_on_can_be_drawn() {
    let mut bench = Bench::new();
    bench.press(Key::char('o'));
    bench.pass(10);
    for view in [KeyCode::F(1), KeyCode::F(2), KeyCode::F(3), KeyCode::F(4)] {
        bench.code(view);
        for dialog in [None, Some('?'), Some(':'), Some('1')] {
            if let Some(key) = dialog {
                bench.press(Key::char(key));
            }
            for columns in (1..240).step_by(7) {
                for rows in (1..90).step_by(4) {
                    bench.buffer(columns, rows);
                }
            }
            bench.code(KeyCode::Esc);
            bench.press(Key::char('d'));
        }
    }
}

#[test]
fn text_has_enough_contrast_on_its_ground() {
    for ink in
        [theme::INK, theme::QUIET, theme::COMMANDED, theme::MEASURED, theme::INPUT, theme::MARK, theme::FAULT]
    {
        for ground in [theme::GROUND, theme::RAISED] {
            assert!(
                theme::contrast(ink, ground) >= 4.5,
                "{ink:?} on {ground:?} is {:.2}",
                theme::contrast(ink, ground)
            );
        }
    }
}

#[test]
fn a_held_arrow_counts_once_a_frame_and_a_fresh_one_moves_by_its_nudge() {
    let mut bench = Bench::new();
    bench.press(Key::char('o'));
    bench.pass(10);
    let before = bench.session.runner.engine.snapshot().servos[2].pulse;
    let event = Event::Key(KeyEvent::new(KeyCode::Right, KeyModifiers::NONE));
    for _ in 0..9 {
        update::event(&mut bench.model, &mut bench.session, &event, bench.now);
    }
    bench.pass(20);
    let after = bench.session.runner.engine.snapshot().servos[2].pulse;
    assert!(((after - before).get() - 10.0).abs() < 1e-9, "{before:?} {after:?}");
}

#[test]
fn widening_is_deaf_to_a_held_key() {
    let mut bench = Bench::new();
    bench.press(Key::char('o'));
    bench.pass(10);
    bench.enter("2000us");
    bench.pass(100);
    let press = |bench: &mut Bench| {
        let event = Event::Key(KeyEvent::new(KeyCode::Char('W'), KeyModifiers::SHIFT));
        update::event(&mut bench.model, &mut bench.session, &event, bench.now);
    };
    press(&mut bench);
    bench.pass(2);
    // The first repeat of a held key comes after half a second, the others follow fast.
    for pause in [500, 30, 30, 30] {
        bench.now += Duration::from_millis(pause);
        press(&mut bench);
    }
    bench.pass(20);
    assert_eq!(bench.session.document.rig.servos[2].endpoints_us.high.get().to_bits(), 2010f64.to_bits());
    assert!(
        (bench.session.runner.engine.snapshot().servos[2].pulse.get() - 2010.0).abs() < 1e-6,
        "the pulse went along"
    );
    bench.press(Key::char('u'));
    bench.pass(60);
    assert_eq!(bench.session.document.rig.servos[2].endpoints_us.high.get().to_bits(), 2000f64.to_bits());
    assert!(
        bench.session.runner.engine.snapshot().servos[2].pulse.get() <= 2000.0,
        "undone in one, and closed in"
    );
}

#[test]
fn stops_backs_off_within_200_ms() {
    let mut bench = Bench::new();
    bench.press(Key::char('o'));
    bench.pass(10);
    bench.enter("1990us");
    bench.pass(100);
    let scene = bench.model.scene(&bench.session);
    let wire = scene.servo(2).unwrap().wire_pulse().get();
    assert!((wire - 1991.0).abs() < 0.1, "on the wire it is the nearest tick: {wire}");
    bench.press(Key::char('s'));
    bench.pass(9);
    let after = bench.session.runner.engine.snapshot().servos[2].pulse.get();
    assert!((wire - after - 15.0).abs() < 1e-6, "{wire} {after}");
    assert!(bench.frame(160, 47).contains(
        "Backed off to 1976 µs. Still heard? b backs off more. Quiet? Enter makes it the high endpoint."
    ));
}

#[test]
fn undo_and_redo_go_through_every_edit() {
    let mut bench = Bench::new();
    let first = bench.session.document.rig.clone();
    bench.code(KeyCode::F(4));
    bench.press(Key::char('i'));
    bench.press(Key::char('i'));
    bench.code(KeyCode::Delete);
    let last = bench.session.document.rig.clone();
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, first);
    assert!(!bench.session.document.is_unsaved());
    for _ in 0..3 {
        bench.press(Key::ctrl('r'));
    }
    assert_eq!(bench.session.document.rig, last);
    bench.press(Key::ctrl('r'));
    assert!(bench.frame(160, 47).contains("there is nothing to redo"));
}

#[test]
fn a_file_changed_by_another_program_is_not_overwritten_at_the_first_try() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(4));
    bench.press(Key::char('i'));
    let path = bench.session.document.path().to_owned();
    let theirs = std::fs::read_to_string(&path).unwrap().replacen("volts = 6", "volts = 5", 1);
    std::fs::write(&path, theirs).unwrap();
    bench.press(Key::ctrl('s'));
    assert!(bench.frame(160, 47).contains("was changed by another program"));
    assert!(bench.session.document.is_unsaved());
    bench.press(Key::ctrl('s'));
    assert!(!bench.session.document.is_unsaved());
    assert!(std::fs::read_to_string(&path).unwrap().contains("volts = 6"));
}

#[test]
fn a_file_that_was_only_touched_is_no_change() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(4));
    bench.press(Key::char('i'));
    let path = bench.session.document.path().to_owned();
    let old = std::fs::metadata(&path).unwrap().modified().unwrap();
    let file = std::fs::File::options().append(true).open(&path).unwrap();
    file.set_modified(old + Duration::from_secs(5)).unwrap();
    bench.press(Key::ctrl('s'));
    assert!(!bench.session.document.is_unsaved());
}

#[test]
fn what_another_program_wrote_is_noticed_and_can_be_read_again_and_undone() {
    let mut bench = Bench::new();
    bench.press(Key::char('o'));
    bench.pass(5);
    let pulse = bench.model.snapshot.servos[2].pulse;
    let path = bench.session.document.path().to_owned();
    let theirs = std::fs::read_to_string(&path).unwrap().replacen("volts = 6", "volts = 5", 1);
    // They also put a servo in front: what is engaged must stay so.
    let first = theirs.find("# Calibrated on the bench").unwrap();
    let servo = "[[servo]]\nname = \"crane.jib\"\nboard = \"upper\"\nchannel = 9\n\n";
    std::fs::write(&path, format!("{}{servo}{}", &theirs[..first], &theirs[first..])).unwrap();
    assert!(bench.session.document.look_at_file());
    // What was said last makes room after a while.
    bench.pass(400);
    assert!(bench.frame(160, 47).contains("Another program has written this rig's file"));
    bench.press(Key::char(':'));
    bench.enter("read the file again");
    bench.pass(5);
    assert_eq!(bench.session.document.rig.rails[0].volts, Volts::new(5.0));
    assert!(!bench.session.document.is_unsaved());
    let rudder = bench.session.document.rig.servos.iter().position(|s| s.name == "punt.rudder").unwrap();
    assert_eq!(rudder, 3);
    assert!(bench.model.snapshot.servos[rudder].engaged);
    assert_eq!(bench.model.snapshot.servos[rudder].pulse, pulse);
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig.rails[0].volts, Volts::new(6.0));
    assert!(bench.session.document.is_unsaved());
}

#[test]
fn every_action_of_the_palette_says_something_or_does_something() {
    for name in super::commands::all().map(|action| action.name) {
        if matches!(name, "quit" | "cut") {
            continue;
        }
        let mut bench = Bench::new();
        bench.press(Key::char(':'));
        bench.enter(name);
        bench.pass(2);
        assert!(bench.frame(80, 24).lines().count() == 24, "{name}");
        assert!(
            !matches!(bench.model.dialog, Some(super::dialog::Dialog::Palette { .. })) || name == "commands",
            "{name}"
        );
    }
}

#[test]
fn a_rigs_file_that_has_become_a_pipe_freezes_nothing_and_is_not_written_over() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(4));
    bench.press(Key::char('i'));
    let path = bench.session.document.path().to_owned();
    std::fs::remove_file(&path).unwrap();
    let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
    rustix::fs::mknodat(rustix::fs::CWD, &path, rustix::fs::FileType::Fifo, mode, 0).unwrap();
    assert!(bench.session.document.look_at_file(), "it is noticed, and not waited for");
    for _ in 0..2 {
        bench.press(Key::ctrl('s'));
    }
    assert!(bench.session.document.is_unsaved());
    assert!(bench.frame(160, 47).contains("it is a pipe, not a file"), "{}", bench.frame(160, 47));
    bench.press(Key::char(':'));
    bench.enter("read the file again");
    assert!(bench.frame(160, 47).contains("it is a pipe; a rig must be a file"), "{}", bench.frame(160, 47));
}

#[test]
fn a_file_of_an_older_format_is_unsaved_and_stays_as_it_is_until_it_is_saved() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("crane.rig.toml");
    let old = include_str!("../../../../core/tests/data/old/format-4.rig.toml");
    std::fs::write(&path, old).unwrap();
    let mut bench = Bench::reopened(&path, folder);
    bench.model.greet(&bench.session, crate::recovery::Left::Nothing);
    bench.pass(2);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("·unsaved") && frame.contains("this file has format 4: a save writes it in"),
        "{frame}"
    );
    // Another program has not touched it, and there is no edit to ask about.
    assert!(
        !bench.session.document.look_at_file()
            && bench.session.document.is_unsaved()
            && !bench.session.document.is_edited()
    );
    assert_eq!(std::fs::read_to_string(&path).unwrap(), old);
    bench.press(Key::ctrl('s'));
    let saved = std::fs::read_to_string(&path).unwrap();
    let newest = format!("format = {}", wasvolta_core::rig::FORMAT);
    assert_eq!(saved, old.replace("format = 4", &newest).replace("\"endless\"", "\"continuous\""));
    assert!(!bench.session.document.is_unsaved());
}
