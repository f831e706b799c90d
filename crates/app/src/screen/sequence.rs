//! Poses in time.

pub mod acts;
mod advice;
pub mod rows;
pub mod state;
mod view;
pub mod wholes;

use super::action::{Action, code, key};
use super::dialog::Purpose;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{always, keepable, playable, playing, posed, posed_and_free, sequenced, stepped};
use crossterm::event::KeyCode;

/// Where one is, in this room.
pub const VIEW: View = View("Sequence");
const HERE: Option<View> = Some(VIEW);

/// See the module.
pub static PANEL: Panel = Panel {
    view: VIEW,
    show: Action {
        name: "Sequence",
        keys: &[code(KeyCode::F(4))],
        view: None,
        short: "",
        long: "go to Sequence",
        ready: always,
        run: |desk| desk.show(VIEW, PANEL.entered),
    },
    actions: ACTIONS,
    questions: &[wholes::QUESTIONS],
    change: rows::change,
    pick: rows::pick_row,
    arrows: ("", ""),
    nudges: true,
    typed: Typed::For(Purpose::SequenceRow),
    first: |_| &[],
    advice: advice::RULES,
    entered: |_| {},
    lively: |_| false,
    mouse: None,
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "play", keys: &[key('p')], view: None, short: "play", long: "play the picked sequence, stand still in it, or go on", ready: playable, run: acts::play },
    Action { name: "next step", keys: &[key('n')], view: HERE, short: "next step", long: "pick the next step", ready: stepped, run: acts::next_step },
    Action { name: "insert step", keys: &[key('i')], view: HERE, short: "insert", long: "insert a step behind the picked one, with the pose kept last", ready: posed, run: acts::insert },
    Action { name: "stretch", keys: &[key('f')], view: HERE, short: "stretch", long: "give a short step the time it needs", ready: stepped, run: acts::stretch },
    Action { name: "remove step", keys: &[code(KeyCode::Delete)], view: HERE, short: "", long: "take the picked step out", ready: stepped, run: acts::remove },
    Action { name: "step earlier", keys: &[key('<')], view: HERE, short: "", long: "move the picked step to the place before it", ready: stepped, run: wholes::step_earlier },
    Action { name: "step later", keys: &[key('>')], view: HERE, short: "", long: "move the picked step to the place behind it", ready: stepped, run: wholes::step_later },
    Action { name: "copy step", keys: &[key('c')], view: HERE, short: "", long: "put a copy of the picked step behind it", ready: stepped, run: wholes::copy_step },
    Action { name: "new sequence", keys: &[], view: HERE, short: "", long: "begin a sequence that has no step yet", ready: always, run: wholes::new_sequence },
    Action { name: "rename sequence", keys: &[], view: HERE, short: "", long: "give the picked sequence another name", ready: sequenced, run: wholes::rename_sequence },
    Action { name: "copy sequence", keys: &[], view: HERE, short: "", long: "put a copy of the picked sequence behind it", ready: sequenced, run: wholes::copy_sequence },
    Action { name: "remove sequence", keys: &[], view: HERE, short: "", long: "take the picked sequence out; its poses stay", ready: sequenced, run: wholes::remove_sequence },
    Action { name: "go to sequence", keys: &[], view: HERE, short: "", long: "pick a sequence by its name", ready: sequenced, run: wholes::go_to_sequence },
    Action { name: "rename pose", keys: &[], view: None, short: "", long: "give a pose another name; its steps follow", ready: posed, run: wholes::rename_pose },
    Action { name: "copy pose", keys: &[], view: None, short: "", long: "put a copy of a pose beside it", ready: posed, run: wholes::copy_pose },
    Action { name: "remove pose", keys: &[], view: None, short: "", long: "take a pose out that no step needs", ready: posed, run: wholes::remove_pose },
    Action { name: "go to pose", keys: &[], view: None, short: "", long: "let all engaged joints glide to a pose, by hand", ready: posed_and_free, run: wholes::go_to_pose },
    Action { name: "stop playing", keys: &[key('x')], view: None, short: "", long: "leave the sequence: its joints go back to input or home", ready: playing, run: acts::stop },
    Action { name: "keep pose", keys: &[key('k')], view: None, short: "keep pose", long: "keep where all engaged joints stand as a new pose", ready: keepable, run: acts::keep_pose },
];
