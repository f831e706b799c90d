//! The frames themselves, kept beside this file.

use super::Bench;
use crate::screen::keys::Key;
use crossterm::event::KeyCode;

const SIZES: [(u16, u16); 3] = [(160, 47), (100, 30), (80, 24)];

fn keep(bench: &Bench, name: &str) {
    for (columns, rows) in SIZES {
        insta::assert_snapshot!(format!("{name}_{columns}x{rows}"), bench.frame(columns, rows));
    }
}

/// Neck at −30.9° by hand, beak with the knob.
fn working() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::PageUp);
    bench.press(Key::char('e'));
    bench.enter("5");
    bench.press(Key::char('g'));
    bench.code(KeyCode::PageUp);
    bench.press(Key::char('e'));
    bench.enter("0");
    bench.pass(10);
    bench.enter("1181us");
    bench.pass(400);
    bench
}

#[test]
fn calibrate_before_anything_was_done() {
    keep(&Bench::new(), "calibrate_first");
}

#[test]
fn calibrate_at_work() {
    keep(&working(), "calibrate");
}

#[test]
fn inputs_at_work() {
    let mut bench = working();
    bench.code(KeyCode::F(3));
    bench.pass(400);
    keep(&bench, "inputs");
}

#[test]
fn sequence_at_work() {
    let mut bench = working();
    bench.code(KeyCode::F(4));
    for code in [KeyCode::Up, KeyCode::Up, KeyCode::Right, KeyCode::Down, KeyCode::Down, KeyCode::Right] {
        bench.code(code);
    }
    bench.pass(400);
    keep(&bench, "sequence");
}

#[test]
fn what_is_asked() {
    let mut bench = Bench::new();
    bench.press(Key::char('e'));
    let engage = bench.frame(100, 30);
    bench.enter("23");
    bench.pass(100);
    bench.press(Key::char('m'));
    let mark = bench.frame(100, 30);
    let bottom = |frame: &str| frame.lines().skip(27).map(|l| l.to_owned() + "\n").collect::<String>();
    bench.code(KeyCode::Esc);
    bench.text("+5");
    let entry = bench.frame(100, 30);
    bench.code(KeyCode::Esc);
    bench.press(Key::char('C'));
    let clock = bench.frame(100, 30);
    insta::assert_snapshot!("asked", [engage, mark, entry, clock].map(|f| bottom(&f)).join("\n"));
}

#[test]
fn help_and_palette() {
    let mut bench = Bench::new();
    bench.press(Key::char('?'));
    insta::assert_snapshot!("help", bench.frame(100, 30));
    bench.code(KeyCode::Esc);
    bench.press(Key::char(':'));
    bench.text("step");
    insta::assert_snapshot!("palette", bench.frame(100, 30));
}

#[test]
fn too_small_and_empty() {
    let bench = Bench::new();
    insta::assert_snapshot!("too_small", bench.frame(60, 6));
    let empty = Bench::with(|_| "format = 1\nname = \"Empty marsh\"\n".to_owned());
    insta::assert_snapshot!("empty_calibrate", empty.frame(80, 24));
    let mut empty = empty;
    empty.code(KeyCode::F(3));
    insta::assert_snapshot!("empty_inputs", empty.frame(80, 24));
    empty.code(KeyCode::F(4));
    insta::assert_snapshot!("empty_sequence", empty.frame(80, 24));
}
