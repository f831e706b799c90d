//! The program's face: texts that name keys ask the table, keys can be changed, and the mouse picks what is drawn.

use super::mappings::{DOWN, DRAG, UP, mouse};
use super::*;
use crate::config;
use crate::screen::bindings;
use crate::screen::commands;
use crate::screen::dialog::Dialog;
use crate::screen::keymap::{Keymap, names_in};
use crate::screen::touch::Touched;
use crossterm::event::MouseEventKind;

/// The keys of a file of settings.
fn set(text: &str) -> Result<Keymap, crate::files::BadFile> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("config.toml");
    std::fs::write(&path, text).unwrap();
    config::keys(&path)
}

fn engaged_neck() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageUp);
    bench.press(Key::char('e'));
    bench.enter("0");
    bench.pass(400);
    bench
}

#[test]
fn a_file_that_swaps_two_keys_changes_what_they_do_and_every_text_that_names_them() {
    let swapped = set("[keys]\nengage = \"n\"\nnext = \"e\"\n\"horn on\" = []\n").unwrap();
    let mut bench = Bench::new();
    let before = bench.frame(160, 47);
    assert!(
        before.contains("e gives punt.rudder its first pulse") && before.contains("Horn off? o gives"),
        "{before}"
    );
    bench.model.keys = swapped.clone();
    let next = bench.frame(160, 47);
    assert!(
        next.contains("n gives punt.rudder its first pulse") && next.contains("Horn off? :horn on gives"),
        "the next line: {next}"
    );
    assert!(next.contains("n engage   ") && !next.contains("e engage"), "the keys line: {next}");
    // The help and the palette.
    bench.press(Key::char('?'));
    bench.text("first pulse where");
    let help = bench.frame(160, 47);
    assert!(help.contains("        n  give the servo its first pulse where"), "{help}");
    bench.code(KeyCode::Esc);
    bench.press(Key::char(':'));
    bench.text("engage");
    let palette = bench.frame(160, 47);
    let row = palette.lines().find(|row| row.contains("▌ engage")).unwrap();
    assert!(row.contains(" n "), "{row}");
    bench.code(KeyCode::Esc);
    // A refusal, and what is done.
    bench.code(KeyCode::Right);
    assert!(bench.frame(160, 47).contains("engage it with n"), "{}", bench.frame(160, 47));
    bench.press(Key::char('o'));
    assert!(!bench.model.snapshot.servos[bench.picked()].engaged, "o is nobody's key now");
    bench.press(Key::char('n'));
    assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })));
    // What is spelled before it is drawn, and what the command line prints.
    assert_eq!(swapped.spell("‹engage› and ‹next›, ‹horn on›, ‹no such›"), "n and e, :horn on, ‹no such›");
    let shown: Vec<String> =
        commands::all().filter(|a| a.name == "engage").map(|a| swapped.shown(a.name)).collect();
    assert_eq!(shown, ["n"]);
}

#[test]
fn every_text_on_every_screen_follows_the_table() {
    // Each action gets a key that no text could have by chance.
    let mut keys = bindings::usual();
    let signs = ('\u{0400}'..).filter(|c| c.is_alphabetic());
    let mut given = std::collections::HashMap::new();
    for (sign, action) in signs.zip(commands::all()) {
        if action.name != "cut" && !given.contains_key(action.name) {
            bindings::set(&mut keys, action, vec![Key::char(sign)]).unwrap();
            given.insert(action.name, sign);
        }
    }
    let mut bench = Bench::demo();
    bench.model.keys = keys;
    let mut named = std::collections::BTreeSet::new();
    for view in crate::screen::panels::TABLE.map(|panel| panel.view) {
        bench.model.view = view;
        for servo in 0..bench.session.document.rig.servos.len() {
            bench.model.servo = crate::screen::pick::Pick::at(&bench.session.document.rig.servos, servo);
            let frame = bench.frame(160, 47);
            assert!(!frame.contains(['‹', '›']), "a name was not spelled: {frame}");
            for old in ["PgUp", "PgDn", "← →", "↑ ↓", "Ctrl-S", " F1", " F4", "Del "] {
                assert!(!frame.contains(old), "{old} was spelled by hand: {frame}");
            }
            named.extend(given.iter().filter(|(_, sign)| frame.contains(**sign)).map(|(name, _)| *name));
        }
    }
    assert!(named.len() > 25, "{named:?}");
}

#[test]
fn what_is_wrong_in_a_file_of_keys_is_said_with_its_line_and_what_to_do() {
    let told = |text: &str| {
        let bad = set(text).unwrap_err();
        let place = bad.first().unwrap();
        format!("{place:?}").replace('\n', " ")
    };
    for (text, words) in [
        ("[keys]\nmrak = \"m\"\n", "no action is called \\\"mrak\\\""),
        ("[keys]\nmark = \"n\"\n", "n is also the key of next in Calibrate"),
        ("[keys]\nmark = \"7\"\n", "7 begins an entry"),
        ("[keys]\ncut = \"k\"\n", "cut keeps Ctrl-C, and nothing else"),
        ("[keys]\nmark = \"Ctrl-C\"\n", "cut keeps Ctrl-C, and nothing else"),
        ("[keys]\nmark = \"Ctrl-\"\n", "\\\"Ctrl-\\\" is not a key"),
        ("[keys]\nmark = 7\n", "7 is not a key"),
        ("[colours]\nink = 7\n", "colours is not a setting"),
        ("keys = [\n", "does not"),
    ] {
        if words == "does not" {
            assert!(set(text).unwrap_err().to_string().contains("does not read as a file of settings"));
            continue;
        }
        assert!(told(text).contains(words), "{text} says {}", told(text));
    }
    assert!(told("[keys]\ngo = \"m\"\n").contains("did you mean"), "{}", told("[keys]\ngo = \"m\"\n"));
    assert_eq!(set("").unwrap(), bindings::usual());
    assert_eq!(config::keys(std::path::Path::new("/nowhere/config.toml")).unwrap(), bindings::usual());
}

/// Names in the program's own texts: each is an action's, or a word of the question that is open then.
#[test]
fn every_name_in_a_text_of_the_source_is_an_actions() {
    fn walk(folder: &std::path::Path, all: &mut Vec<std::path::PathBuf>) {
        for entry in std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
            if entry.is_dir() && !entry.ends_with("tests") {
                walk(&entry, all);
            } else if entry.extension().is_some_and(|kind| kind == "rs") {
                all.push(entry);
            }
        }
    }
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut files = Vec::new();
    for room in ["app/src", "engine/src", "core/src"] {
        walk(&root.join(room), &mut files);
    }
    let words: Vec<&str> =
        Dialog::TABLES.iter().flat_map(|(_, rows)| rows.iter().map(|row| row.word)).collect();
    let mut seen = 0;
    for file in files.iter().filter(|file| !file.ends_with("screen/keymap.rs")) {
        let text = std::fs::read_to_string(file).unwrap();
        for line in text.lines().filter(|line| !line.trim_start().starts_with("//")) {
            for name in names_in(line) {
                let is_asked = file.ends_with("view/prompt.rs") && words.contains(&name);
                let is_action = commands::all().any(|action| action.name == name);
                let is_test = file.ends_with("screen/keys.rs") || file.ends_with("screen/dialog.rs");
                assert!(
                    is_asked || is_action || is_test,
                    "{name:?} in {} is nothing that has a key",
                    file.display()
                );
                seen += 1;
            }
        }
    }
    assert!(seen > 200, "{seen} names");
}

/// Draws, and clicks the first part that means this.
fn click(bench: &mut Bench, what: Touched) {
    let at = touches(bench).into_iter().rev().find(|touch| touch.what == what).expect("it is drawn").part;
    click_at(bench, (at.x, at.y));
}

fn touches(bench: &mut Bench) -> Vec<crate::screen::touch::Touch> {
    let area = Rect::new(0, 0, 160, 47);
    let mut buffer = Buffer::empty(area);
    let touches = frame::draw(&bench.model.scene(&bench.session), area, &mut buffer);
    bench.model.touches.clone_from(&touches);
    touches
}

fn click_at(bench: &mut Bench, cell: (u16, u16)) {
    touches(bench);
    mouse(bench, DOWN, cell);
    mouse(bench, UP, cell);
}

#[test]
fn a_click_picks_what_is_drawn_there() {
    let mut bench = Bench::demo();
    let moon =
        bench.session.document.rig.servos.iter().position(|servo| servo.name.ends_with("moon")).unwrap();
    click(&mut bench, Touched::Servo(moon));
    assert_eq!(bench.picked(), moon);
    for view in ["Wiring", "Inputs", "Sequence", "Calibrate"] {
        click(&mut bench, Touched::Action(view));
        assert_eq!(bench.model.view.0, view);
    }
    click(&mut bench, Touched::Servo(0));
    click(&mut bench, Touched::Mark(2));
    assert_eq!(bench.model.in_calibrate.mark, Some(2));
    bench.code(KeyCode::F(1));
    click(&mut bench, Touched::Channel(0, 3));
    assert_eq!(bench.plug(), (0, 3));
    bench.code(KeyCode::F(3));
    click(&mut bench, Touched::Input(1));
    assert_eq!(bench.model.input.id, bench.session.document.rig.inputs[1].id);
    let row = bench.model.in_inputs.row;
    click(&mut bench, Touched::Row(2));
    assert_eq!(bench.model.in_inputs.row, row + 2);
    // A word of the keys line does what its key does.
    bench.code(KeyCode::F(2));
    click(&mut bench, Touched::Action("engage"));
    assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })));
    // While something is asked, a click beside it leaves nothing behind.
    let picked = bench.picked();
    click(&mut bench, Touched::Servo(moon));
    click(&mut bench, Touched::Action("Wiring"));
    assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })) && bench.picked() == picked);
    assert_eq!(bench.model.view.0, "Calibrate");
    click(&mut bench, Touched::Key(Key::of(KeyCode::Esc)));
    assert_eq!(bench.model.dialog, None);
}

#[test]
fn commands_are_chosen_by_a_click_and_what_was_chosen_comes_first_next_time() {
    let mut bench = Bench::new();
    bench.press(Key::char(':'));
    bench.text("save card");
    click(&mut bench, Touched::Line(0));
    assert_eq!(bench.model.recent, ["save card"]);
    bench.pass(2);
    bench.code(KeyCode::Esc);
    bench.press(Key::char(':'));
    let frame = bench.frame(160, 47);
    assert!(frame.lines().any(|row| row.contains("▌ save card")), "{frame}");
    assert!(frame.contains("more"), "how much there is below: {frame}");
    // What does not work here comes after all that does.
    let scene = bench.model.scene(&bench.session);
    let found = crate::screen::view::palette::commands(&scene, "");
    let works: Vec<bool> =
        found.iter().map(|a| a.works_in(bench.model.view) && (a.ready)(&scene).is_ok()).collect();
    assert!(works.is_sorted_by(|a, b| a >= b), "{works:?}");
}

#[test]
fn the_wheel_goes_through_what_is_under_the_pointer() {
    let mut bench = Bench::new();
    let (down, up) = (MouseEventKind::ScrollDown, MouseEventKind::ScrollUp);
    let first = bench.picked();
    mouse(&mut bench, down, (5, 8));
    assert_ne!(bench.picked(), first);
    mouse(&mut bench, up, (5, 8));
    assert_eq!(bench.picked(), first);
    bench.code(KeyCode::F(4));
    let row = bench.model.in_sequence.row;
    mouse(&mut bench, down, (90, 30));
    assert_eq!((bench.model.in_sequence.row, bench.picked()), (row + 1, first));
    bench.press(Key::char('?'));
    mouse(&mut bench, down, (90, 30));
    assert!(matches!(bench.model.dialog, Some(Dialog::Help { from: 1, .. })), "{:?}", bench.model.dialog);
}

#[test]
fn what_waits_and_what_is_held_are_given_up_when_the_mouse_picks_another_servo() {
    let mut bench = engaged_neck();
    bench.enter("-20deg");
    bench.pass(3);
    bench.press(Key::char('h'));
    assert_eq!(bench.model.waiting, Some("home here"));
    let before = bench.session.document.rig.clone();
    mouse(&mut bench, MouseEventKind::ScrollDown, (5, 8));
    bench.watch(200);
    assert_eq!(
        (bench.model.waiting, &*bench.session.document.rig),
        (None, &*before),
        "nothing is set of another"
    );
    // The needle in the hand, another servo under it.
    let mut bench = engaged_neck();
    let needle = touches(&mut bench).iter().rev().find_map(|touch| match touch.what {
        Touched::Needle(needle) => Some(needle),
        _ => None,
    });
    bench.model.grip = needle;
    assert!(bench.model.grip.is_some());
    bench.model.pick_servo(&bench.session.document.rig.clone(), 1);
    assert_eq!(bench.model.grip, None);
    // A click on the cut ends what is asked, as the key does.
    bench.press(Key::char('e'));
    assert!(bench.model.dialog.is_some());
    click(&mut bench, Touched::Action("cut"));
    bench.pass(5);
    assert!(bench.model.dialog.is_none() && bench.frame(160, 47).contains("  CUT  "));
}

#[test]
fn the_needle_is_turned_by_the_mouse_once_it_is_taken_and_never_by_a_click_beside_it() {
    let mut bench = engaged_neck();
    let Some(Touched::Needle(needle)) =
        touches(&mut bench).iter().map(|t| t.what).find(|what| matches!(what, Touched::Needle(_)))
    else {
        panic!("the protractor is drawn")
    };
    // A cell at so many degrees, some way out.
    let cell = |degrees: f64| {
        let turn = degrees.to_radians();
        let (x, y) = (needle.axis.0 + 24.0 * turn.sin(), needle.axis.1 - 12.0 * turn.cos());
        (wasvolta_core::unit::count16(x.floor()), wasvolta_core::unit::count16(y.floor()))
    };
    let angle = |bench: &Bench| {
        let scale = bench.session.runner.edition.plan.servos[0].scale.clone().unwrap();
        scale.angle_at(bench.model.snapshot.servos[0].pulse).get()
    };
    let stood = angle(&bench);
    click_at(&mut bench, cell(40.0));
    bench.pass(100);
    assert!((angle(&bench) - stood).abs() < 1e-9, "a click beside it moves nothing");
    assert!(bench.frame(160, 47).contains("take the needle itself"), "{}", bench.frame(160, 47));
    mouse(&mut bench, DOWN, cell(0.0));
    mouse(&mut bench, DRAG, cell(15.0));
    mouse(&mut bench, DRAG, cell(30.0));
    bench.pass(100);
    assert!((angle(&bench) - 30.0).abs() < 4.0, "{}", angle(&bench));
    // Let go, it stays; far beyond the limit it stops there.
    mouse(&mut bench, UP, cell(30.0));
    mouse(&mut bench, DRAG, cell(-30.0));
    bench.pass(100);
    assert!((angle(&bench) - 30.0).abs() < 4.0);
    touches(&mut bench);
    let stands = angle(&bench);
    mouse(&mut bench, DOWN, cell(stands));
    mouse(&mut bench, DRAG, cell(85.0));
    bench.pass(200);
    assert!(angle(&bench) <= 60.0 + 1e-9, "the limit holds: {}", angle(&bench));
    mouse(&mut bench, UP, cell(85.0));
    // While an angle is asked for the needle goes where the pointer is.
    bench.press(Key::char('m'));
    click_at(&mut bench, cell(-20.0));
    let Some(Dialog::Mark { dial, .. }) = &bench.model.dialog else { panic!("a mark is asked for") };
    assert!((dial.value + 20.0).abs() < 4.0, "{}", dial.value);
}
