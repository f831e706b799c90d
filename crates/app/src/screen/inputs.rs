//! What comes in, how it is shaped, and what it drives.

pub mod acts;
mod advice;
mod bends;
pub mod course;
mod drag;
pub mod faders;
pub mod forms;
pub mod goals;
mod handles;
pub mod heard;
pub mod links;
pub mod listen;
pub mod rows;
pub mod stand_in;
pub mod state;
mod told;
pub mod view;

use super::action::{Action, code, key};
use super::calibrate;
use super::dialog::Purpose;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{
    always, has_link, input, is_switch, keyboard, mapped, rest_moved, sender, tieable, transmitter,
};
use crossterm::event::KeyCode;

/// Where one is, in this room.
pub const VIEW: View = View("Inputs");
const HERE: Option<View> = Some(VIEW);

/// See the module.
pub static PANEL: Panel = Panel {
    view: VIEW,
    show: Action {
        name: "Inputs",
        keys: &[code(KeyCode::F(3))],
        view: None,
        short: "",
        long: "go to Inputs",
        ready: always,
        run: |desk| desk.show(VIEW, PANEL.entered),
    },
    actions: ACTIONS,
    questions: &[links::QUESTIONS, forms::QUESTIONS],
    change: rows::change,
    pick: rows::pick_row,
    arrows: ("", ""),
    nudges: true,
    typed: Typed::For(Purpose::InputRow),
    first: |_| &[],
    advice: advice::RULES,
    entered: |_| {},
    lively: |model| !model.in_inputs.strip.is_empty(),
    mouse: Some(|desk, event, window| {
        drag::mouse(desk, event, |desk| view::handles(&desk.model.scene(desk.session), window));
    }),
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "add input", keys: &[key('I')], view: HERE, short: "add input", long: "make an input of a channel: move the one you mean, or pick it", ready: has_link, run: listen::for_new },
    Action { name: "watch", keys: &[key('V')], view: HERE, short: "watch", long: "learn the input's span, rest, noise and kind: move it all the way", ready: input, run: listen::watch },
    Action { name: "play faders", keys: &[key('J')], view: HERE, short: "play faders", long: "move the keyboard's faders, toggles and buttons", ready: keyboard, run: faders::play },
    Action { name: "take the new rest", keys: &[], view: HERE, short: "", long: "learn where the input rests now, where that has moved", ready: rest_moved, run: acts::take_rest },
    Action { name: "switch", keys: &[], view: HERE, short: "", long: "make the picked input a switch; then pressed the other way; then none", ready: input, run: acts::make_switch },
    Action { name: "add input by name", keys: &[], view: HERE, short: "", long: "make an input of a channel that you name", ready: has_link, run: links::add_input },
    Action { name: "swap channel", keys: &[], view: HERE, short: "", long: "let the input read another channel: move that one", ready: input, run: listen::for_picked },
    Action { name: "input's channel", keys: &[], view: HERE, short: "", long: "name the link and channel that the picked input reads", ready: input, run: links::move_input },
    Action { name: "rename input", keys: &[], view: None, short: "", long: "give the picked input another name; its mappings follow", ready: input, run: links::rename_input },
    Action { name: "remove input", keys: &[], view: None, short: "", long: "remove the picked input, and untie what it drives", ready: input, run: links::remove_input },
    Action { name: "add link", keys: &[key('K')], view: None, short: "", long: "add a way in: a receiver, lines of numbers, datagrams, a wave", ready: always, run: links::add_link },
    Action { name: "rename link", keys: &[], view: None, short: "", long: "give a link another name; its inputs follow", ready: has_link, run: links::rename_link },
    Action { name: "move link", keys: &[], view: None, short: "", long: "give a link another port or another protocol", ready: has_link, run: links::move_link },
    Action { name: "remove link", keys: &[], view: None, short: "", long: "remove a link that no input reads", ready: has_link, run: links::remove_link },
    Action { name: "signal level", keys: &[], view: HERE, short: "", long: "the voltage of the picked input's signal, and the most its pin takes", ready: input, run: calibrate::forms::pin_volts },
    Action { name: "tie", keys: &[key('t')], view: HERE, short: "tie or untie", long: "tie this input to the picked servo's joint, or untie it", ready: tieable, run: acts::tie },
    Action { name: "add share", keys: &[key('Y')], view: HERE, short: "", long: "add this input to the mapping that moves the picked servo's joint already", ready: tieable, run: acts::share },
    Action { name: "add mapping", keys: &[key('O')], view: HERE, short: "moves", long: "let this input move a joint, a level, a rate, a blend or a toggle of poses", ready: input, run: forms::add_mapping },
    Action { name: "rename mapping", keys: &[], view: HERE, short: "", long: "give the picked mapping another name", ready: mapped, run: forms::rename_mapping },
    Action { name: "remove mapping", keys: &[], view: HERE, short: "", long: "remove the picked mapping", ready: mapped, run: forms::remove_mapping },
    Action { name: "press", keys: &[key('U')], view: HERE, short: "", long: "what a press of this switch does: play, stop, hold, cut, keep a pose", ready: is_switch, run: forms::ask_press },
    Action { name: "bend", keys: &[key('B')], view: HERE, short: "", long: "put a point where the input stands, in its curve or in the mapping's course", ready: rows::bendable, run: rows::bend_here },
    Action { name: "remove", keys: &[code(KeyCode::Delete)], view: HERE, short: "", long: "remove the picked point from the input's curve or the mapping's course", ready: rows::straightenable, run: rows::straighten },
    Action { name: "transmitter", keys: &[], view: HERE, short: "transmitter off or on", long: "switch the simulated transmitter off, or on again", ready: transmitter, run: acts::transmitter },
    Action { name: "pull the plug", keys: &[], view: HERE, short: "pull or put in the plug", long: "pull the simulated input's plug, or plug it in again", ready: sender, run: acts::plug },
];
