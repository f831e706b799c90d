//! Poses in time.

pub mod acts;
mod advice;
mod drag;
pub mod hold;
pub mod rows;
pub mod state;
mod steps;
pub mod told;
pub mod view;
pub mod wholes;

use super::action::{Action, code, key};
use super::dialog::Purpose;
use super::keys::Key;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{always, keepable, playable, playing, posed, posed_and_free, sequenced, servo, stepped};
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
    mouse: Some(|desk, event, window| {
        drag::mouse(desk, event, |desk| view::laid_in(&desk.model.scene(desk.session), window));
    }),
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "play", keys: &[key('p')], view: None, short: "play", long: "play the picked sequence, pause it, or go on", ready: playable, run: acts::play },
    Action { name: "next", keys: &[key('n')], view: HERE, short: "next step", long: "pick the next step", ready: stepped, run: acts::next_step },
    Action { name: "insert step", keys: &[key('i')], view: HERE, short: "insert", long: "insert a step behind the picked one, with the pose kept last", ready: posed, run: steps::insert },
    Action { name: "insert wait", keys: &[key('_')], view: HERE, short: "wait", long: "insert a wait behind the picked step; its rows say what it waits for", ready: sequenced, run: steps::insert_wait },
    Action { name: "insert call", keys: &[key('C')], view: HERE, short: "", long: "insert a step that plays another sequence", ready: sequenced, run: steps::insert_call },
    Action { name: "loop", keys: &[key('&')], view: HERE, short: "loop", long: "play the picked steps more than once, or take that loop off", ready: stepped, run: steps::loop_them },
    Action { name: "stretch", keys: &[key('f')], view: HERE, short: "stretch", long: "give a short step the time it needs", ready: stepped, run: steps::stretch },
    Action { name: "stretch all", keys: &[], view: HERE, short: "", long: "give every short step the time it needs", ready: stepped, run: steps::stretch_all },
    Action { name: "stretch, same length", keys: &[], view: HERE, short: "", long: "the same, at the cost of their dwells", ready: stepped, run: steps::stretch_keeping },
    Action { name: "fit to length", keys: &[], view: HERE, short: "", long: "make the sequence as long as wanted: its dwells first", ready: stepped, run: wholes::fit_length },
    Action { name: "play from here", keys: &[key('P')], view: HERE, short: "", long: "play from the beginning of the picked step", ready: playable, run: acts::play_from_step },
    Action { name: "play one step", keys: &[key(';')], view: HERE, short: "one step", long: "play the picked step alone; standing in the sequence, the next one", ready: playable, run: acts::play_step },
    Action { name: "slower", keys: &[key('/')], view: HERE, short: "", long: "play everything more slowly, down to 10 %", ready: always, run: acts::slower },
    Action { name: "faster", keys: &[key('*')], view: HERE, short: "", long: "play everything faster, up to 400 %", ready: always, run: acts::faster },
    Action { name: "finish loop", keys: &[key('Q')], view: HERE, short: "", long: "play no loop again: go on to the end of the sequence", ready: playing, run: acts::finish_loop },
    Action { name: "only this joint", keys: &[], view: HERE, short: "", long: "let what plays move the picked joint only; the others stay", ready: playing, run: acts::only_this },
    Action { name: "without this joint", keys: &[], view: HERE, short: "", long: "let what plays move all joints but the picked one, which stays", ready: playing, run: acts::without_this },
    Action { name: "press the key", keys: &[key(' ')], view: HERE, short: "", long: "press the key that what plays waits for", ready: playing, run: acts::press_key },
    Action { name: "closer", keys: &[key('z')], view: HERE, short: "closer", long: "show less of the time, around what is looked at", ready: stepped, run: acts::closer },
    Action { name: "wider", keys: &[key('Z')], view: HERE, short: "", long: "show more of the time", ready: stepped, run: acts::wider },
    Action { name: "whole sequence", keys: &[], view: HERE, short: "", long: "show all of the time", ready: stepped, run: acts::whole },
    Action { name: "one step more before", keys: &[Key::shift(KeyCode::Left)], view: HERE, short: "", long: "pick one more step towards the beginning, or unpick one", ready: stepped, run: acts::also_before },
    Action { name: "one step more behind", keys: &[Key::shift(KeyCode::Right)], view: HERE, short: "", long: "pick one more step towards the end, or unpick one", ready: stepped, run: acts::also_behind },
    Action { name: "remove", keys: &[code(KeyCode::Delete)], view: HERE, short: "", long: "remove the picked steps", ready: stepped, run: steps::remove },
    Action { name: "step earlier", keys: &[key('<')], view: HERE, short: "", long: "move the picked step one place earlier", ready: stepped, run: wholes::step_earlier },
    Action { name: "step later", keys: &[key('>')], view: HERE, short: "", long: "move the picked step one place later", ready: stepped, run: wholes::step_later },
    Action { name: "copy step", keys: &[key('%')], view: HERE, short: "", long: "put a copy of the picked step behind it", ready: stepped, run: wholes::copy_step },
    Action { name: "split step", keys: &[], view: HERE, short: "", long: "split the picked step in two, at the time looked at", ready: stepped, run: steps::split },
    Action { name: "join steps", keys: &[], view: HERE, short: "", long: "remove the picked step and give its time to the next one", ready: stepped, run: steps::join },
    Action { name: "joint in the pose", keys: &[key('!')], view: HERE, short: "", long: "put the picked joint into the step's pose where it stands, or take it out", ready: stepped, run: steps::joint_in_pose },
    Action { name: "other state", keys: &[], view: HERE, short: "", long: "let the picked steps go to the opposite pose: from open to shut, or back", ready: stepped, run: steps::other_state },
    Action { name: "go on", keys: &[code(KeyCode::Enter)], view: HERE, short: "", long: "edit the picked row, or open or close a call", ready: sequenced, run: rows::write_or_open },
    Action { name: "new sequence", keys: &[], view: HERE, short: "", long: "begin a sequence that has no step yet", ready: always, run: wholes::new_sequence },
    Action { name: "rename sequence", keys: &[], view: HERE, short: "", long: "give the picked sequence another name", ready: sequenced, run: wholes::rename_sequence },
    Action { name: "copy sequence", keys: &[], view: HERE, short: "", long: "put a copy of the picked sequence behind it", ready: sequenced, run: wholes::copy_sequence },
    Action { name: "remove sequence", keys: &[], view: HERE, short: "", long: "remove the picked sequence; its poses stay", ready: sequenced, run: wholes::remove_sequence },
    Action { name: "go to sequence", keys: &[], view: HERE, short: "", long: "pick a sequence by its name", ready: sequenced, run: wholes::go_to_sequence },
    Action { name: "parameters", keys: &[], view: HERE, short: "", long: "the whole numbers that a caller may give the sequence", ready: sequenced, run: wholes::parameters },
    Action { name: "rename pose", keys: &[], view: None, short: "", long: "give a pose another name; its steps follow", ready: posed, run: wholes::rename_pose },
    Action { name: "copy pose", keys: &[], view: None, short: "", long: "copy a pose under another name", ready: posed, run: wholes::copy_pose },
    Action { name: "mirror pose", keys: &[], view: None, short: "", long: "keep the mirror image of a pose, between joints with mirror_of", ready: posed, run: wholes::mirror_pose },
    Action { name: "blend poses", keys: &[], view: None, short: "", long: "keep a pose between two others", ready: posed, run: wholes::blend_poses },
    Action { name: "two states", keys: &[], view: None, short: "", long: "give the picked joint two poses, as open and shut: one value each", ready: servo, run: wholes::two_states },
    Action { name: "remove pose", keys: &[], view: None, short: "", long: "remove a pose that no step uses", ready: posed, run: wholes::remove_pose },
    Action { name: "go to pose", keys: &[], view: None, short: "", long: "let all engaged joints glide to a pose, by hand", ready: posed_and_free, run: wholes::go_to_pose },
    Action { name: "stop playing", keys: &[key('x')], view: None, short: "stop", long: "stop every sequence: their joints go back to input or home", ready: playing, run: acts::stop },
    Action { name: "stop this one", keys: &[], view: HERE, short: "", long: "stop the picked sequence; others go on", ready: playing, run: acts::stop_one },
    Action { name: "keep pose", keys: &[key('k')], view: None, short: "keep pose", long: "keep where all engaged joints stand as a new pose", ready: keepable, run: acts::keep_pose },
];
