//! What comes in, how it is shaped, and what it drives.

pub mod acts;
mod advice;
pub mod state;
mod view;

use super::action::{Action, code, key};
use super::calibrate;
use super::dialog::Purpose;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{always, input, sender, tieable, transmitter};
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
    questions: &[],
    change: acts::change,
    pick: acts::pick_row,
    arrows: ("", ""),
    nudges: true,
    typed: Typed::For(Purpose::InputRow),
    first: |_| &[],
    advice: advice::RULES,
    entered: |_| {},
    lively: |model| !model.in_inputs.strip.is_empty(),
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "signal level", keys: &[], view: HERE, short: "", long: "with which level the picked input's signal comes, and how much its pin takes", ready: input, run: calibrate::forms::pin_volts },
    Action { name: "tie", keys: &[key('t')], view: HERE, short: "tie or untie", long: "tie this input to the picked servo's joint, or untie it", ready: tieable, run: acts::tie },
    Action { name: "transmitter", keys: &[key('o')], view: HERE, short: "transmitter off or on", long: "switch the simulated transmitter off, or on again", ready: transmitter, run: acts::transmitter },
    Action { name: "pull the plug", keys: &[key('z')], view: HERE, short: "pull or put in the plug", long: "pull the simulated input's plug, or put it in again", ready: sender, run: acts::plug },
];
