//! What the screen says is so, and names keys that are in the keys line: odd marks, limits with their reason, refusals
//! that leave, files that are there already.

use super::calibrate::{NECK, RUDDER, engaged, fill, palette, pick, said, with_truth};
use super::*;
use crate::look::{Colours, Glyphs, Look, Theme};
use crate::screen::dialog::Dialog;
use crate::screen::model::Tone;
use ratatui::style::Modifier;
use wasvolta_core::fit::Side;
use wasvolta_core::rig::Ends;
use wasvolta_core::rig::edit::{self, Observation};
use wasvolta_core::rig::{MarkKind, ReadAt};
use wasvolta_core::unit::{Degrees, Position, Ticks};

fn rows(bench: &Bench, from_below: usize) -> String {
    let frame = bench.frame(160, 47);
    frame.lines().rev().nth(from_below).unwrap_or_default().trim().to_owned()
}

fn keys(bench: &Bench) -> String {
    rows(bench, 0)
}

/// The neck with a mark that says something else than the other five.
fn with_odd_mark() -> Bench {
    let mut bench = engaged(NECK);
    let odd = Observation {
        pulse: Position::new(1298.0),
        ticks: Ticks(266),
        seen: MarkKind::Aligned,
        from: Side::Below,
        angle: Some(Degrees::new(-28.0)),
        at: ReadAt::Servo,
        rate: None,
    };
    bench.session.edit("an odd mark", |rig| edit::keep_mark(rig, "heron.neck", odd)).unwrap();
    bench.pass(400);
    bench
}

#[test]
fn nothing_from_outside_reaches_a_cell_raw() {
    let mut bench = engaged(NECK);
    let odd = "x\u{1b}[31m\u{7}\u{9b}2J\u{202e}\u{2066}\u{200b}y";
    bench.model.say(Tone::Refused, odd, bench.now);
    bench.model.note(bench.now, odd);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("31m"), "{frame}");
    let raw = frame.chars().find(|&c| c != '\n' && wasvolta_core::outside::is_unfit(c));
    assert_eq!(raw, None, "{frame:?}");
}

#[test]
fn few_marks_are_told_which_one_would_lessen_what_is_not_sure_most() {
    let mut bench = engaged(NECK);
    for _ in 0..2 {
        bench.session.edit("fewer", |rig| edit::marks::drop_mark_at(rig, "heron.neck", 3)).unwrap();
    }
    bench.pass(5);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("a mark near 2380 µs would halve that")
            || frame.contains("a mark near 2380 µs would make that ±"),
        "{frame}"
    );
}

#[test]
fn one_misread_mark_is_named_with_its_keys_and_taken_again() {
    let mut bench = with_odd_mark();
    let frame = bench.frame(160, 47);
    assert!(frame.contains("The mark at 1298 µs says -28.0°, all others say -19."), "{frame}");
    assert!(frame.contains("✗ ") && !frame.contains("B bends it"), "{frame}");
    bench.press(Key::char('B'));
    assert!(
        said(&bench).contains("no curve explains one mark that disagrees with all others"),
        "{}",
        said(&bench)
    );
    bench.code(KeyCode::Up);
    assert_eq!(bench.model.in_calibrate.mark, Some(2), "the odd one, wherever it stands");
    for key in ["v go to the mark", "m mark", "= change the mark", "Del remove"] {
        assert!(keys(&bench).contains(key), "{key} is missing from {}", keys(&bench));
    }
    bench.press(Key::char('v'));
    bench.pass(200);
    bench.press(Key::char('m'));
    bench.enter("-19");
    bench.pass(400);
    let marks = &bench.session.document.rig.servos[NECK].marks;
    assert_eq!(marks.iter().filter(|m| (m.place().get() - 1298.0).abs() < 5.0).count(), 1, "in its place");
    assert!(!bench.frame(160, 47).contains("Misread?"));
    // Read twice the same, a mark is no misreading, and keeps saying so.
    let mut sure = with_odd_mark();
    sure.code(KeyCode::Up);
    sure.press(Key::char('v'));
    sure.pass(200);
    sure.press(Key::char('m'));
    sure.enter("-28");
    sure.pass(400);
    assert!(!sure.frame(160, 47).contains("Misread?"), "{}", sure.frame(160, 47));
    assert!(sure.session.document.rig.servos[NECK].marks.iter().any(|m| m.read == 2));
}

#[test]
fn a_servo_that_is_not_its_sheet_has_a_line_of_its_own_and_a_good_fit_is_no_trouble() {
    let rig = |text: &str| text.replacen("rated = { travel_deg = 120", "rated = { travel_deg = 60", 1);
    let bench = with_truth(NECK, rig, |sim| sim);
    let frame = bench.frame(160, 47);
    let row =
        frame.lines().position(|row| row.contains("≠ data sheet: turns")).expect("the sheet's own line");
    let fit = frame.lines().position(|row| row.contains("°/100 µs, 0° at")).expect("the fit's sentence");
    let buffer = bench.buffer(160, 47);
    for row in [row, fit] {
        let y = u16::try_from(row).unwrap();
        assert!((115..160).all(|x| buffer[(x, y)].fg != theme::FAULT), "no trouble: {frame}");
    }
    assert!(frame.contains("marks scatter by s") && frame.contains("95 % sure to ±"), "{frame}");
}

#[test]
fn a_refusal_at_a_limit_gives_its_reason_and_denies_nothing() {
    let mut bench = engaged(NECK);
    bench.enter("60deg");
    bench.pass(200);
    for _ in 0..3 {
        bench.code(KeyCode::Right);
        bench.pass(5);
    }
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("heron.neck is at its high limit +60.0°: the cable in the neck is short"),
        "{}",
        rows(&bench, 1)
    );
    assert!(rows(&bench, 1).starts_with('✗'), "{}", rows(&bench, 1));
}

#[test]
fn a_question_begins_without_what_was_refused_before() {
    let mut bench = engaged(NECK);
    bench.press(Key::char('Z'));
    assert!(bench.model.said.as_ref().is_some_and(|(tone, ..)| *tone == Tone::Refused));
    bench.press(Key::char('m'));
    assert!(bench.model.dialog.is_some() && bench.model.said.is_none());
    bench.enter("forty");
    assert!(bench.model.said.is_some(), "junk is refused");
    bench.press(Key::char('4'));
    assert!(bench.model.said.is_none(), "and the refusal leaves with the next key");
}

#[test]
fn what_has_played_with_every_joint_in_the_hand_says_that_nothing_moved() {
    let mut bench = Bench::new();
    for servo in 0..2 {
        pick(&mut bench, servo);
        bench.press(Key::char('e'));
        bench.code(KeyCode::Enter);
        bench.pass(60);
        bench.code(KeyCode::Right);
        bench.pass(10);
    }
    bench.code(KeyCode::F(4));
    bench.press(Key::char('p'));
    bench.pass(250);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("nothing has moved: the hand has every engaged joint of it. G gives all back"),
        "{}",
        rows(&bench, 1)
    );
    assert!(keys(&bench).contains("G give"), "{}", keys(&bench));
}

#[test]
fn the_inputs_line_shows_what_is_on_the_wire_beside_what_is_asked() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(3));
    bench.pass(20);
    assert!(bench.frame(160, 47).contains("would ask"), "nobody drives it");
    assert!(bench.frame(160, 47).contains("wire: "), "{}", bench.frame(160, 47));
    pick(&mut bench, 1);
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(60);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("would ask")
            && frame.contains(" ticks, ")
            && frame.contains(" old   heron.beak is driven by"),
        "{frame}"
    );
}

#[test]
fn a_servo_without_marks_is_engaged_by_pulses_and_promises_no_degrees() {
    let rig = |text: &str| {
        let from = text.find("name = \"punt.rudder\"").unwrap();
        let rated = text[from..].find("rated = ").map_or(text.len(), |at| from + at);
        let line = text[rated..].find('\n').map_or(text.len(), |at| rated + at + 1);
        format!("{}{}", &text[..rated], &text[line..])
    };
    let mut bench = Bench::with(rig);
    pick(&mut bench, RUDDER);
    bench.press(Key::char('e'));
    let Some(Dialog::Engage { dial, .. }) = bench.model.dialog.clone() else {
        panic!("{}", bench.frame(160, 47))
    };
    assert!(keys(&bench).contains("← → 10 µs") && !keys(&bench).contains('°'), "{}", keys(&bench));
    bench.code(KeyCode::Right);
    let Some(Dialog::Engage { dial: then, .. }) = bench.model.dialog.clone() else { panic!() };
    assert!((then.value - dial.value - 10.0).abs() < 1e-9);
}

#[test]
fn a_larger_nudge_is_larger_on_every_servo() {
    let mut bench = Bench::new();
    for servo in 0..bench.session.document.rig.servos.len() {
        pick(&mut bench, servo);
        for _ in 0..8 {
            bench.press(Key::char(','));
        }
        let size = |bench: &Bench| {
            let scene = bench.model.scene(&bench.session);
            let nudge = crate::screen::step::NUDGES[bench.model.nudge];
            scene.picked().unwrap().nudge(nudge).get()
        };
        let mut before = size(&bench);
        for _ in 0..5 {
            bench.press(Key::char('.'));
            assert!(size(&bench) >= before, "{servo}: {before} µs, then {}", size(&bench));
            before = size(&bench);
        }
    }
}

#[test]
fn widening_goes_by_the_nudge_and_a_buzz_leaves_one_mark_an_end() {
    let mut bench = engaged(RUDDER);
    bench.enter("2000us");
    bench.pass(150);
    bench.model.nudge =
        crate::screen::step::NUDGES.iter().position(|n| *n == crate::screen::step::Nudge::Us(5.0)).unwrap();
    bench.press(Key::char('W'));
    bench.pass(20);
    let Ends { low: _, high } = bench.session.document.rig.servos[RUDDER].ends();
    assert_eq!(high, Position::new(2005.0));
    for _ in 0..3 {
        bench.press(Key::char('b'));
        bench.pass(30);
        assert!(matches!(bench.model.dialog, Some(Dialog::Endpoint { .. })));
        assert!(keys(&bench).contains("b back off more"), "{}", keys(&bench));
    }
    let buzzes = |bench: &Bench| {
        bench.session.document.rig.servos[RUDDER].marks.iter().filter(|m| m.seen == MarkKind::Buzzes).count()
    };
    assert_eq!(buzzes(&bench), 1);
    bench.code(KeyCode::Enter);
    let Ends { low: _, high } = bench.session.document.rig.servos[RUDDER].ends();
    assert!(high < Position::new(1980.0), "{high:?}");
    bench.press(Key::char('u'));
    bench.press(Key::char('u'));
    assert_eq!(buzzes(&bench), 1, "each is undone by itself");
}

#[test]
fn a_buzz_that_is_said_while_it_still_goes_out_brings_it_back_to_the_endpoint() {
    let mut bench = engaged(RUDDER);
    bench.enter("1900us");
    bench.pass(150);
    // On its way out the buzz is said, and the endpoint taken, before it has turned round.
    bench.enter("1990us");
    bench.press(Key::char('b'));
    bench.code(KeyCode::Enter);
    let Ends { low: _, high } = bench.session.document.rig.servos[RUDDER].ends();
    assert!(high < Position::new(1950.0), "{high:?}");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("high endpoint") && !frame.contains("the edit left it outside"), "{frame}");
    bench.pass(100);
    let pulse = bench.model.snapshot.servos[RUDDER].pulse;
    assert!((pulse - high).abs() < Position::new(1.0), "{pulse:?} at {high:?}");
}

#[test]
fn a_file_that_is_there_is_asked_about_and_never_the_rig() {
    let mut bench = engaged(NECK);
    let file = bench.folder.path().join("heron.neck-marks.csv");
    std::fs::write(&file, "of somebody").unwrap();
    palette(&mut bench, "marks to a table");
    bench.code(KeyCode::Enter);
    assert!(said(&bench).contains("is there already: Enter again replaces it"), "{}", said(&bench));
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "of somebody");
    bench.code(KeyCode::Esc);
    palette(&mut bench, "marks to a table");
    bench.code(KeyCode::Enter);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "of somebody", "Esc has left it: it is asked again");
    bench.code(KeyCode::Enter);
    assert!(std::fs::read_to_string(&file).unwrap().starts_with("pulse_us"), "{}", said(&bench));
    let whole = file.canonicalize().unwrap().display().to_string();
    assert!(said(&bench).contains(&whole), "the whole path is said: {}", said(&bench));
    let rig = std::fs::read(bench.session.document.path()).unwrap();
    for command in ["marks to a table", "calibration sheet"] {
        palette(&mut bench, command);
        // The first letter replaces the name that was proposed.
        bench.enter("marsh-clock.rig.toml");
        bench.code(KeyCode::Enter);
        assert!(bench.model.dialog.is_some(), "{command} wrote something");
        bench.code(KeyCode::Esc);
        assert!(std::fs::read(bench.session.document.path()).unwrap() == rig, "{command}");
    }
}

#[test]
fn sheets_have_names_of_their_own_beside_the_rig() {
    let mut bench = Bench::with(str::to_owned);
    let mut names = Vec::new();
    for command in ["protractor sheet", "joint protractor sheet", "calibration sheet"] {
        pick(&mut bench, NECK);
        palette(&mut bench, command);
        let Some(Dialog::Entry { typing, .. }) = bench.model.dialog.clone() else { panic!("{command}") };
        names.push(typing.text().to_owned());
        bench.code(KeyCode::Enter);
        assert!(said(&bench).starts_with("written: /"), "{}", said(&bench));
    }
    names.dedup();
    assert_eq!(names.len(), 3, "{names:?}");
    assert!(names.iter().all(|name| bench.folder.path().join(name).exists()), "{names:?}");
}

#[test]
fn volts_are_typed_and_wiring_names_what_does_not_fit() {
    let mut bench = Bench::new();
    pick(&mut bench, NECK);
    palette(&mut bench, "volts");
    fill(&mut bench, &["4.8..5.5", "3.5", "3.3"]);
    palette(&mut bench, "signal level");
    fill(&mut bench, &["5", "3.3"]);
    bench.code(KeyCode::F(1));
    let frame = bench.frame(160, 60);
    let flat = frame.split_whitespace().collect::<Vec<_>>().join(" ");
    for words in ["it takes 4.8 to 5.5 V", "gives a signal of 3.3 V", "its pin takes 3.3 V at most"] {
        assert!(
            flat.contains(words)
                || bench.session.runner.edition.worries.iter().any(|w| w.words.contains(words)),
            "{words}: {frame}"
        );
    }
    assert!(flat.contains("heron.neck: its rail"), "{frame}");
}

#[test]
fn letters_alone_tell_every_sign_apart_from_a_question_and_driving_can_be_read_in_sixteen_colours() {
    let look = Look::of(Theme::Dark, Colours::Full, Glyphs::Ascii);
    for sign in
        ['✓', '✗', '□', '■', '≈', '≤', '≥', '≠', '±', '…', '∞', '◇', '●', '↗', '↘', '↻', '↺', '┃', '▲']
    {
        assert_ne!(look.text(&sign.to_string()), "?", "{sign}");
    }
    assert_ne!(look.text("✓"), look.text("✗"));
    assert_ne!(look.text("□"), look.text("■"));
    let snapshots = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/screen/tests/snapshots");
    for file in std::fs::read_dir(snapshots).unwrap() {
        let text = std::fs::read_to_string(file.unwrap().path()).unwrap();
        let lost = text.chars().find(|c| *c != '?' && look.text(&c.to_string()) == "?");
        assert_eq!(lost, None, "a sign of a view that letters do not tell");
    }
    let mut bench = engaged(NECK);
    bench.pass(2);
    for theme in [Theme::Dark, Theme::Light] {
        let mut buffer = bench.buffer(160, 47);
        Look::of(theme, Colours::Sixteen, Glyphs::Braille).dress(&mut buffer);
        let cell = &buffer[(2, 0)];
        assert_eq!(cell.symbol(), "R", "DRIVING begins the headline");
        assert_ne!(cell.fg, cell.bg);
        let dark = cell.fg == Color::Black;
        assert!(!dark || !cell.modifier.contains(Modifier::BOLD), "bold black is grey on many terminals");
    }
}

/// A name that an advice gives a key is one that works and that the keys line shows.
#[test]
fn what_the_next_line_names_is_in_the_keys_line() {
    let mut seen = 0;
    let mut bench = Bench::new();
    let mut look = |bench: &Bench| {
        let (next, keys) = (rows(bench, 1), keys(bench));
        for action in crate::screen::commands::all() {
            let Some(key) = action.keys.first().map(|key| key.name()) else { continue };
            let named = next
                .split(['.', ':', ';', ','])
                .flat_map(|part| part.split_whitespace().take(1))
                .any(|word| word == key);
            let ready = (action.ready)(&bench.model.scene(&bench.session)).is_ok();
            if named && ready && action.works_in(bench.model.view) && key.len() == 1 && key != "a" {
                seen += 1;
                assert!(
                    keys.split("   ").any(|item| item.trim().starts_with(&format!("{key} "))),
                    "{key} of {next:?} is not in {keys:?}"
                );
            }
        }
    };
    for view in 1..5 {
        bench.code(KeyCode::F(view));
        for servo in 0..bench.session.document.rig.servos.len() {
            pick(&mut bench, servo);
            look(&bench);
            bench.code(KeyCode::F(2));
            bench.press(Key::char('e'));
            if bench.model.dialog.is_some() {
                bench.code(KeyCode::Enter);
            }
            bench.pass(400);
            bench.code(KeyCode::F(view));
            look(&bench);
        }
    }
    assert!(seen > 20, "{seen}");
}

/// Two hundred tables changed at random are taken or refused in words with a line; the rig stays sound, and nothing that
/// is unfit to be seen reaches a cell of the screen.
#[test]
fn changed_tables_are_taken_or_refused_in_words() {
    let mut bench = engaged(NECK);
    let sound =
        "pulse_us,angle_deg,seen,from\n700,-78.5,aligned,below\n1500,1.1,aligned,\n2300,79,aligned,above\n";
    let odd = ["nan", "inf", "-1", "1e308", "\u{1b}[2J", "\u{9b}", "", "x", "\"", "\u{202e}", ",,", "\0"];
    let mut dice = wasvolta_sim::truth::Dice::new(0x7AB1E);
    let file = bench.folder.path().join("heron.neck-marks.csv");
    let mut refused = 0;
    for _ in 0..200 {
        let mut text = sound.to_owned();
        for _ in 0..=dice.next() % 3 {
            let at = usize::try_from(dice.next() % u64::try_from(text.len()).unwrap()).unwrap();
            let with = odd[usize::try_from(dice.next()).unwrap_or(0) % odd.len()];
            text.replace_range(at..=at, with);
        }
        std::fs::write(&file, &text).unwrap();
        palette(&mut bench, "marks from a table");
        bench.code(KeyCode::Enter);
        refused += usize::from(bench.model.dialog.is_some());
        let frame = bench.frame(160, 47);
        assert!(!frame.chars().any(|c| c != '\n' && wasvolta_core::outside::is_unfit(c)), "{frame:?}");
        assert!(wasvolta_core::rig::check::problems(&bench.session.document.rig).is_empty(), "{text:?}");
        if bench.model.dialog.is_some() {
            assert!(
                said(&bench).contains("line ") || said(&bench).contains("mark"),
                "{text:?}: {}",
                said(&bench)
            );
        }
        bench.code(KeyCode::Esc);
    }
    assert!(refused > 50, "{refused}");
}
