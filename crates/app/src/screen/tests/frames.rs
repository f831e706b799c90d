//! The frames themselves, kept beside this file.

use super::Bench;
use crate::look::{Colours, Glyphs, Look, Theme};
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
    bench.text("-20deg");
    let entry = bench.frame(100, 30);
    bench.code(KeyCode::Esc);
    bench.act("correct clock");
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

/// The share of a view in which nothing is drawn: of its areas of 8 by 3 cells, which are about as wide as high.
fn emptiness(frame: &str) -> f64 {
    const ACROSS: usize = 8;
    const DOWN: usize = 3;
    // Beside the roster, and between the headline and the next line.
    let view: Vec<Vec<char>> = frame
        .lines()
        .skip(1)
        .take(44)
        .map(|line| format!("{line:<160}").chars().skip(38).collect())
        .collect();
    let is_blank = |c: &char| matches!(c, ' ' | '\u{2800}');
    let areas: Vec<bool> = (0..44 / DOWN)
        .flat_map(|y| (0..122 / ACROSS).map(move |x| (x * ACROSS, y * DOWN)))
        .map(|(x, y)| view[y..y + DOWN].iter().all(|line| line[x..x + ACROSS].iter().all(is_blank)))
        .collect();
    let empty = areas.iter().filter(|is_empty| **is_empty).count();
    f64::from(u32::try_from(empty).unwrap()) / f64::from(u32::try_from(areas.len()).unwrap())
}

#[test]
fn no_view_is_emptier_than_half() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/src/screen/tests/snapshots");
    let mut views = 0;
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.to_string_lossy();
        // Pages that a question lays over a view for a moment are no views.
        let is_page = ["watch_", "alike_"].iter().any(|page| name.contains(page));
        if is_page || !name.ends_with("_160x47.snap") {
            continue;
        }
        views += 1;
        let text = std::fs::read_to_string(&path).unwrap();
        let (_, frame) = text.trim_start_matches("---\n").split_once("\n---\n").unwrap();
        let share = emptiness(frame);
        assert!(share <= 0.5, "{}: {:.0} % empty", path.display(), share * 100.0);
    }
    assert!(views >= 11, "{views}");
    let blank = format!("{}\n", " ".repeat(160)).repeat(47);
    assert!(emptiness(&blank) > 0.99 && emptiness(&blank.replace(' ', "x")) < 0.01);
}

#[test]
fn too_small_and_empty() {
    let bench = Bench::new();
    insta::assert_snapshot!("too_small", bench.frame(60, 6));
    let empty = Bench::with(|_| "format = 12\nname = \"Empty marsh\"\n".to_owned());
    insta::assert_snapshot!("empty_calibrate", empty.frame(80, 24));
    let mut empty = empty;
    empty.code(KeyCode::F(3));
    insta::assert_snapshot!("empty_inputs", empty.frame(80, 24));
    empty.code(KeyCode::F(4));
    insta::assert_snapshot!("empty_sequence", empty.frame(80, 24));
}

/// Every view with its dialogs, dressed.
fn dressed(look: Look) -> Vec<ratatui::buffer::Buffer> {
    let mut bench = working();
    let mut all = Vec::new();
    for code in [KeyCode::F(2), KeyCode::F(3), KeyCode::F(4)] {
        bench.code(code);
        for key in [None, Some('?'), Some(':')] {
            if let Some(key) = key {
                bench.press(Key::char(key));
            }
            let mut buffer = bench.buffer(100, 30);
            look.dress(&mut buffer);
            all.push(buffer);
            if key.is_some() {
                bench.code(KeyCode::Esc);
                bench.press(Key::char('d'));
            }
        }
    }
    all
}

#[test]
fn a_terminal_with_letters_only_gets_letters_only() {
    let look = Look::of(Theme::Dark, Colours::Full, Glyphs::Ascii);
    let all = dressed(look);
    for buffer in &all {
        for cell in &buffer.content {
            assert!(cell.symbol().is_ascii(), "{cell:?}");
        }
    }
    // Nor are halves of a silhouette written as the other half, reversed.
    for buffer in dressed(Look::of(Theme::Dark, Colours::None, Glyphs::Ascii)) {
        let reversed =
            |cell: &&ratatui::buffer::Cell| cell.modifier.contains(ratatui::style::Modifier::REVERSED);
        assert!(buffer.content.iter().filter(reversed).all(|cell| cell.symbol() != "\""));
    }
    let row = |y: u16| (0..100).map(|x| all[0][(x, y)].symbol()).collect::<String>();
    let text: String = (0..30).map(|y| row(y).trim_end().to_owned() + "\n").collect();
    insta::assert_snapshot!("ascii_100x30", text);
}

#[test]
fn without_colours_everything_is_still_said() {
    use ratatui::style::{Color, Modifier};
    let look = Look::of(Theme::Dark, Colours::None, Glyphs::Braille);
    for buffer in dressed(look) {
        assert!(buffer.content.iter().all(|c| c.fg == Color::Reset && c.bg == Color::Reset));
        let driving = &buffer[(2, 0)];
        assert!(driving.modifier.contains(Modifier::REVERSED), "the output's block: {driving:?}");
        // A full block is never reversed into an empty cell.
        let blocks = buffer.content.iter().filter(|c| c.symbol() == "█");
        assert!(blocks.into_iter().all(|c| !c.modifier.contains(Modifier::REVERSED)));
    }
}

#[test]
fn every_colour_of_a_frame_is_one_that_the_terminal_has() {
    use ratatui::style::Color;
    for theme in [Theme::Dark, Theme::Light] {
        for buffer in dressed(Look::of(theme, Colours::Sixteen, Glyphs::Blocks)) {
            for color in buffer.content.iter().flat_map(|c| [c.fg, c.bg]) {
                assert!(!matches!(color, Color::Rgb(..) | Color::Indexed(_)), "{color:?}");
            }
        }
        for buffer in dressed(Look::of(theme, Colours::Table, Glyphs::Blocks)) {
            for color in buffer.content.iter().flat_map(|c| [c.fg, c.bg]) {
                assert!(!matches!(color, Color::Rgb(..)), "{color:?}");
            }
        }
    }
    // The light theme leaves no dark colour behind.
    let dark = dressed(Look::of(Theme::Dark, Colours::Full, Glyphs::Braille));
    let light = dressed(Look::of(Theme::Light, Colours::Full, Glyphs::Braille));
    for (dark, light) in dark.iter().zip(&light) {
        for (a, b) in dark.content.iter().zip(&light.content) {
            assert!(a.fg == Color::Reset || a.fg != b.fg, "{a:?}");
            assert!(a.bg == Color::Reset || a.bg != b.bg, "{a:?}");
        }
    }
}
