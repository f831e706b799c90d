//! Along the time by the mouse: edges of steps, what is looked at, the rows.

use super::Bench;
use super::mappings::{DOWN, DRAG, UP, mouse};
use crate::screen::keys::Key;
use crate::screen::pick::Pick;
use crate::screen::sequence::hold::Laid;
use crate::screen::sequence::view::laid_in;
use crossterm::event::{KeyCode, MouseEventKind};
use ratatui::layout::Rect;
use std::sync::Arc;
use wasvolta_core::rig::Step;

fn at_work(name: &str) -> Bench {
    let mut bench = Bench::demo();
    let place = bench.session.document.rig.sequences.iter().position(|own| own.name == name).unwrap();
    bench.model.sequence = Pick::at(&bench.session.document.rig.sequences, place);
    bench.code(KeyCode::F(4));
    bench
}

fn laid(bench: &Bench) -> Laid {
    laid_in(&bench.model.scene(&bench.session), Rect::new(0, 0, 160, 47)).unwrap()
}

/// The column of a time.
fn column(laid: &Laid, seconds: f64) -> u16 {
    let columns = laid.cells.x..laid.cells.right();
    columns.min_by(|a, b| (laid.at(*a) - seconds).abs().total_cmp(&(laid.at(*b) - seconds).abs())).unwrap()
}

/// Takes what is at a cell, and draws it along its row without letting go.
fn draw(bench: &mut Bench, (column, row): (u16, u16), to: u16) {
    mouse(bench, DOWN, (column, row));
    mouse(bench, DRAG, (to, row));
}

fn step(bench: &Bench, n: usize) -> Step {
    bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap().steps[n].clone()
}

fn moves(bench: &Bench, n: usize) -> f64 {
    step(bench, n).move_s.unwrap().get()
}

#[test]
fn the_edge_of_a_move_is_dragged_and_the_whole_drag_is_one_edit() {
    let mut bench = at_work("strike");
    let before = Arc::clone(&bench.session.document.rig);
    let was = laid(&bench);
    let lunge = was.edges[1];
    let at = column(&was, lunge.arrives);
    mouse(&mut bench, DOWN, (at, was.steps));
    assert_eq!(bench.model.in_sequence.step, 1, "its step is picked");
    for by in [4, 9, 6] {
        mouse(&mut bench, DRAG, (at + by, was.steps + 20));
        // What is under the pointer stays there: the scale is the one that it was taken in.
        assert_eq!(laid(&bench).time, was.time);
        let edge = laid(&bench).edges[1];
        assert_eq!(column(&was, edge.arrives), at + by);
    }
    mouse(&mut bench, UP, (at + 6, was.steps));
    assert_ne!(laid(&bench).time, was.time, "let go, all of it is shown again");
    let wanted = ((was.at(at + 6) - lunge.starts) * 100.0).round() / 100.0;
    assert!((moves(&bench, 1) - wanted).abs() < 1e-9, "{} and not {wanted} s", moves(&bench, 1));
    assert_eq!(step(&bench, 1).dwell_s, before.sequences[1].steps[1].dwell_s, "its dwell stays");
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before, "three moves of the mouse are one edit");
    // Taken once more it is another edit.
    for by in [3, 5] {
        let now = laid(&bench);
        let at = column(&now, now.edges[1].arrives);
        draw(&mut bench, (at, now.steps), at + by);
        mouse(&mut bench, UP, (at + by, now.steps));
    }
    let twice = moves(&bench, 1);
    bench.press(Key::char('u'));
    assert!(moves(&bench, 1) > 0.25 && moves(&bench, 1) < twice);
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before);
}

#[test]
fn a_dwell_has_the_lower_row_and_no_edge_goes_beyond_what_can_be() {
    let mut bench = at_work("strike");
    let was = laid(&bench);
    let at = column(&was, was.edges[1].ends);
    draw(&mut bench, (at, was.steps + 1), at + 5);
    let dwell = step(&bench, 1).dwell_s.get();
    assert!(dwell > 0.7 && (moves(&bench, 1) - 0.25).abs() < 1e-9, "{dwell} s");
    // To the left of where it arrives there is no dwell, and to the left of its begin the least move.
    mouse(&mut bench, DRAG, (was.cells.x, was.steps + 1));
    assert!(step(&bench, 1).dwell_s.get() < 1e-9);
    mouse(&mut bench, UP, (at, was.steps));
    // Now both edges are one: the upper row has the move, the lower one the dwell.
    let now = laid(&bench);
    let at = column(&now, now.edges[1].ends);
    draw(&mut bench, (at, now.steps + 1), at + 4);
    mouse(&mut bench, UP, (at + 4, now.steps + 1));
    assert!(step(&bench, 1).dwell_s.get() > 0.05 && (moves(&bench, 1) - 0.25).abs() < 1e-9);
    bench.press(Key::char('u'));
    draw(&mut bench, (at, now.steps), 0);
    assert!((moves(&bench, 1) - 0.01).abs() < 1e-9 && step(&bench, 1).dwell_s.get() < 1e-9);
    mouse(&mut bench, UP, (0, now.steps));
}

#[test]
fn at_another_tempo_the_edge_is_under_the_pointer_and_both_times_are_said() {
    let mut bench = at_work("sleep");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("move       2.50 s, 3.12 s here"), "{frame}");
    let was = laid(&bench);
    let at = column(&was, was.edges[0].arrives);
    draw(&mut bench, (at, was.steps), at - 10);
    assert_eq!(column(&was, laid(&bench).edges[0].arrives), at - 10);
    let wanted = was.at(at - 10) * 0.8;
    assert!((moves(&bench, 0) - wanted).abs() < 0.0051, "{} s is written", moves(&bench, 0));
}

#[test]
fn elsewhere_along_the_time_the_mouse_moves_what_is_looked_at_and_the_wheel_the_rows() {
    let mut bench = at_work("strike");
    let before = Arc::clone(&bench.session.document.rig);
    let was = laid(&bench);
    let (x, y) = (was.cells.x + 30, was.steps + 6);
    mouse(&mut bench, DOWN, (x, y));
    assert!((bench.model.in_sequence.time - was.at(x)).abs() < 1e-9);
    mouse(&mut bench, DRAG, (x + 20, was.steps));
    assert!((bench.model.in_sequence.time - was.at(x + 20)).abs() < 1e-9);
    mouse(&mut bench, DRAG, (159, y));
    let end = bench.model.scene(&bench.session).sequence().unwrap().1.length();
    assert!(bench.model.in_sequence.time <= end + 1e-9, "no further than its end");
    // A key lets go.
    bench.press(Key::char('n'));
    let there = bench.model.in_sequence.time;
    mouse(&mut bench, DRAG, (x, y));
    assert!((bench.model.in_sequence.time - there).abs() < 1e-9);
    mouse(&mut bench, UP, (x, y));
    // Beside the time nothing is taken.
    mouse(&mut bench, DOWN, (3, 20));
    mouse(&mut bench, DRAG, (x, y));
    assert!((bench.model.in_sequence.time - there).abs() < 1e-9);
    assert_eq!(bench.session.document.rig, before, "to look is no edit");
    let row = bench.model.in_sequence.row;
    mouse(&mut bench, MouseEventKind::ScrollDown, (x, y));
    assert_eq!(bench.model.in_sequence.row, row + 1);
    mouse(&mut bench, MouseEventKind::ScrollUp, (x, y));
    assert_eq!(bench.model.in_sequence.row, row);
}

#[test]
fn a_key_while_an_edge_is_held_lets_it_go_and_what_it_did_stays() {
    let mut bench = at_work("strike");
    let was = laid(&bench);
    let at = column(&was, was.edges[2].arrives);
    draw(&mut bench, (at, was.steps), at - 5);
    let moved = moves(&bench, 2);
    assert!(moved < 1.39);
    bench.press(Key::char('n'));
    mouse(&mut bench, DRAG, (at - 9, was.steps));
    assert!((moves(&bench, 2) - moved).abs() < 1e-9);
}
