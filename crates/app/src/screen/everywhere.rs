//! What may be done in every room.

pub mod acts;
pub mod alike;
pub mod roster;
pub mod scales;

use super::action::{Action, code, key};
use super::calibrate;
use super::keys::Key;
use super::many;
use super::question::Question;
use super::ready::{
    always, boarded, by_hand, charted, continuous, driving, engaged, jointed, linked, need, positional,
    pulsing, released, scaled, scales_differ, servo, stepped, stopped, unpulsed,
};
use crossterm::event::KeyCode;

/// What is asked everywhere.
pub static QUESTIONS: &[&[&Question]] =
    &[roster::QUESTIONS, scales::QUESTIONS, alike::QUESTIONS, acts::QUESTIONS, many::QUESTIONS];

/// What stops and moves things: it stands before what a room has. A row a line, as a table is.
#[rustfmt::skip]
pub static FIRST: &[Action] = &[
    Action { name: "cut", keys: &[Key::ctrl('c')], view: None, short: "cut", long: "drop all pulses at once, from anywhere, until enabled again; it never quits", ready: always, run: acts::cut },
    Action { name: "less", keys: &[code(KeyCode::Left)], view: None, short: "", long: "jog towards shorter pulses, or make the selected value smaller", ready: always, run: acts::less },
    Action { name: "more", keys: &[code(KeyCode::Right)], view: None, short: "change", long: "jog towards longer pulses, or make the selected value larger", ready: always, run: acts::more },
    Action { name: "row above", keys: &[code(KeyCode::Up)], view: None, short: "", long: "pick the row above: a mark, or a value of the view", ready: always, run: acts::row_up },
    Action { name: "row below", keys: &[code(KeyCode::Down)], view: None, short: "row", long: "pick the row below", ready: always, run: acts::row_down },
    Action { name: "smaller nudge", keys: &[key(',')], view: None, short: "", long: "make the arrows' steps smaller", ready: always, run: acts::smaller_nudge },
    Action { name: "larger nudge", keys: &[key('.')], view: None, short: "nudge", long: "make the arrows' steps larger", ready: always, run: acts::larger_nudge },
    Action { name: "engage", keys: &[key('e')], view: None, short: "engage", long: "give the servo its first pulse where its horn stands", ready: released, run: calibrate::acts::engage },
];

/// What stands behind it, under the names that the help has for it.
pub static LAST: &[(&str, &[Action])] = &[
    ("the output", HANDS),
    ("servos", ROSTER),
    ("edits", EDITS),
    ("scales from other code", SCALES),
    ("sheets", SHEETS),
    ("the program", AROUND),
];

#[rustfmt::skip]
static HANDS: &[Action] = &[
    Action { name: "give back", keys: &[key('g')], view: None, short: "give back", long: "give the joint back to its sequence, input or home", ready: engaged, run: acts::give_back },
    Action { name: "give all back", keys: &[key('G')], view: None, short: "", long: "give every joint back to its sequence, input or home", ready: driving, run: acts::give_all_back },
    Action { name: "release", keys: &[key('r')], view: None, short: "release", long: "stop the servo's pulses", ready: pulsing, run: acts::release },
    Action { name: "hold", keys: &[code(KeyCode::Esc)], view: None, short: "hold", long: "hold: all keep their last command, continuous servos stop", ready: driving, run: acts::hold },
    Action { name: "drive on", keys: &[key('d')], view: None, short: "drive on", long: "go on after a hold, or enable the output again after a cut", ready: stopped, run: acts::drive },
];

#[rustfmt::skip]
static ROSTER: &[Action] = &[
    Action { name: "servo above", keys: &[code(KeyCode::PageUp)], view: None, short: "", long: "pick the servo above", ready: always, run: acts::servo_previous },
    Action { name: "servo below", keys: &[code(KeyCode::PageDown)], view: None, short: "", long: "pick the servo below", ready: always, run: acts::servo_next },
    Action { name: "servo above too", keys: &[Key::shift(KeyCode::Up)], view: None, short: "", long: "pick the servo above too, or unpick the last; commands then act on all of them", ready: servo, run: many::above },
    Action { name: "servo below too", keys: &[Key::shift(KeyCode::Down)], view: None, short: "", long: "pick the servo below too, or unpick the last", ready: servo, run: many::below },
    Action { name: "pick group", keys: &[], view: None, short: "", long: "pick every servo of a group: those with the same name before the dot", ready: servo, run: many::ask_group },
    Action { name: "add servo", keys: &[key('a')], view: None, short: "", long: "add a servo: its name, and the channel its plug is on", ready: boarded, run: roster::add },
    Action { name: "rename servo", keys: &[key('R')], view: None, short: "", long: "give the picked servo another name; poses and mappings follow", ready: servo, run: roster::rename },
    Action { name: "move servo", keys: &[], view: None, short: "", long: "the picked servo is plugged into another channel", ready: unpulsed, run: roster::move_to },
    Action { name: "remove servo", keys: &[key('X')], view: None, short: "", long: "remove the picked servo, with its joint and its part in poses", ready: unpulsed, run: roster::remove },
    Action { name: "kind", keys: &[], view: None, short: "", long: "what hangs there: a positional or continuous servo, a dimmer, or on-off", ready: unpulsed, run: roster::change_kind },
    Action { name: "arming", keys: &[], view: None, short: "", long: "the neutral that a speed controller must see before it follows, and for how long", ready: continuous, run: roster::arming },
    Action { name: "replace servo", keys: &[], view: None, short: "", long: "the servo was exchanged: its marks go to a card, limits and poses stay", ready: unpulsed, run: roster::replace },
];

#[rustfmt::skip]
static EDITS: &[Action] = &[
    Action { name: "undo", keys: &[key('u')], view: None, short: "undo", long: "undo the last edit", ready: |s| need(s.undo.0, "there is nothing to undo"), run: acts::undo },
    Action { name: "redo", keys: &[Key::ctrl('r')], view: None, short: "", long: "redo the edit that was undone", ready: |s| need(s.undo.1, "there is nothing to redo"), run: acts::redo },
    Action { name: "save", keys: &[Key::ctrl('s')], view: None, short: "save", long: "save the rig", ready: always, run: acts::save },
    Action { name: "read the file again", keys: &[], view: None, short: "", long: "load what another program has written to the rig's file", ready: always, run: acts::read_again },
];

#[rustfmt::skip]
static SCALES: &[Action] = &[
    Action { name: "name a scale", keys: &[], view: None, short: "", long: "numbers of other code, such as 0..180 over 544..2400us, to type and see", ready: always, run: scales::name },
    Action { name: "scale first", keys: &[], view: None, short: "", long: "choose the scale that is shown where there is room for one", ready: scales_differ, run: scales::first },
    Action { name: "forget scale", keys: &[], view: None, short: "", long: "remove a scale from the rig; no value depends on it", ready: scaled, run: scales::forget },
];

#[rustfmt::skip]
static SHEETS: &[Action] = &[
    Action { name: "calibration sheet", keys: &[], view: None, short: "", long: "write the picked servo's chart, marks and limits as PDF or SVG", ready: charted, run: acts::calibration_sheet },
    Action { name: "protractor sheet", keys: &[], view: None, short: "", long: "write a true-scale protractor to lay under the picked servo's horn", ready: positional, run: acts::protractor_sheet },
    Action { name: "joint protractor sheet", keys: &[], view: None, short: "", long: "write a true-scale protractor for what the servo turns, about its axis", ready: jointed, run: acts::joint_protractor_sheet },
    Action { name: "linkage sheet", keys: &[], view: None, short: "", long: "write the linkage, and which joint angle each servo angle gives, as PDF or SVG", ready: linked, run: acts::linkage_sheet },
    Action { name: "wiring sheet", keys: &[], view: None, short: "", long: "write boards, jumpers, pins, leads and rails as PDF or SVG", ready: boarded, run: acts::wiring_sheet },
    Action { name: "cards of a kind", keys: &[], view: None, short: "", long: "lay the picked servos, or the cards beside the rig, on one chart: which is odd?", ready: servo, run: alike::show },
    Action { name: "sheet of a kind", keys: &[], view: None, short: "", long: "write that chart as PDF or SVG", ready: servo, run: alike::ask },
    Action { name: "sequence sheet", keys: &[], view: None, short: "", long: "write the picked sequence's chart as PDF or SVG: steps, bands, rails", ready: stepped, run: acts::sequence_sheet },
];

#[rustfmt::skip]
static AROUND: &[Action] = &[
    Action { name: "next view", keys: &[code(KeyCode::Tab)], view: None, short: "view", long: "go to the next view", ready: always, run: acts::next_view },
    Action { name: "commands", keys: &[key(':')], view: None, short: "commands", long: "every command by its name", ready: always, run: acts::palette },
    Action { name: "pass beats", keys: &[], view: None, short: "", long: "let some beats pass, where time passes by hand", ready: by_hand, run: acts::beats },
    Action { name: "quit", keys: &[key('q')], view: None, short: "quit", long: "release everything and quit; asks when edits are unsaved", ready: always, run: acts::quit },
    Action { name: "all keys", keys: &[key('?')], view: None, short: "all keys", long: "show all keys", ready: always, run: acts::help },
];
