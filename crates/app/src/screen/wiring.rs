//! Ports, boards, channels, rails, and why nothing moves.

pub mod acts;
mod advice;
pub mod boards;
pub mod servo_bus;
pub mod state;
mod view;

use super::action::{Action, code, key};
use super::many;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{always, boarded, found, free, need, servo, simulated, wigglable};
use crossterm::event::KeyCode;

/// Where one is, in this room.
pub const VIEW: View = View("Wiring");
const HERE: Option<View> = Some(VIEW);

/// See the module.
pub static PANEL: Panel = Panel {
    view: VIEW,
    show: Action {
        name: "Wiring",
        keys: &[code(KeyCode::F(1))],
        view: None,
        short: "",
        long: "go to Wiring",
        ready: always,
        run: |desk| desk.show(VIEW, PANEL.entered),
    },
    actions: ACTIONS,
    questions: &[acts::QUESTIONS, boards::QUESTIONS, servo_bus::QUESTIONS],
    change: acts::change,
    pick: acts::channel,
    arrows: ("board", "channel"),
    nudges: false,
    typed: Typed::Nothing(
        "nothing to type here: ‹move servo› moves a servo to another channel, pulses are typed in ‹Calibrate›",
    ),
    first: |_| &["row below", "wiggle"],
    advice: advice::RULES,
    entered: |desk| desk.model.follow_servo(&desk.session.document.rig),
    lively: |_| false,
    mouse: None,
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "found pulses", keys: &[key('F')], view: None, short: "found pulses", long: "decide about pulses that were found running: keep or release them", ready: found, run: boards::found },
    Action { name: "wiggle", keys: &[key('w')], view: None, short: "", long: "move the servo 20 µs back and forth, or blink it, three times: which is it?", ready: wigglable, run: acts::wiggle },
    Action { name: "name by wiggling", keys: &[], view: HERE, short: "name one by one", long: "wiggle servo after servo, and name each as you see which it is", ready: servo, run: acts::name_all },
    Action { name: "swap plugs", keys: &[], view: HERE, short: "swap", long: "the picked servo and another are on each other's channel: swap them", ready: servo, run: acts::swap },
    Action { name: "scan", keys: &[key('L')], view: HERE, short: "scan", long: "scan the buses for what answers, by reading only; serial ports stay unopened", ready: |s| need(!s.looking, "a scan is running already"), run: acts::look_around },
    Action { name: "ask serial port", keys: &[], view: HERE, short: "", long: "open a serial port to ask what is on it; this resets many boards", ready: always, run: acts::ask_port },
    Action { name: "scan ids", keys: &[key('#')], view: HERE, short: "ids", long: "ask every id of a smart bus, by reading only; again stops it", ready: servo_bus::on_a_bus, run: servo_bus::seek },
    Action { name: "another id", keys: &[], view: HERE, short: "", long: "write another id into a smart servo's memory, after a page that says so", ready: servo_bus::on_an_id, run: servo_bus::give_id },
    Action { name: "keep model", keys: &[], view: None, short: "", long: "accept the model number that a smart servo reports, once its layout is right", ready: servo_bus::of_a_model, run: servo_bus::ask_model },
    Action { name: "restart servo", keys: &[], view: None, short: "", long: "restart a limp smart servo, which clears an overload that is over", ready: servo_bus::on_an_id, run: servo_bus::start_anew },
    Action { name: "another rate", keys: &[], view: None, short: "", long: "write another rate into a smart servo's memory, after a page that says so", ready: servo_bus::on_an_id, run: servo_bus::give_rate },
    Action { name: "add board", keys: &[key('N')], view: HERE, short: "add board", long: "add a board on a port or a new path, from what was found", ready: always, run: boards::add },
    Action { name: "rail of the board", keys: &[], view: None, short: "", long: "which supply feeds the picked board's servos, and what it can give", ready: boarded, run: boards::rail },
    Action { name: "rename board", keys: &[], view: None, short: "", long: "give the picked board another name; its servos follow", ready: boarded, run: boards::rename },
    Action { name: "remove board", keys: &[], view: None, short: "", long: "remove the picked board, once no servo is on it", ready: boarded, run: boards::remove },
    Action { name: "engage all", keys: &[key('A')], view: None, short: "", long: "engage servo after servo where each was left; asks for those not known", ready: free, run: many::engage_all },
    Action { name: "simulated hand", keys: &[], view: None, short: "", long: "move the picked smart servo of the simulated bench as a hand would", ready: servo_bus::in_hand, run: servo_bus::hand },
    Action { name: "simulated fault", keys: &[], view: None, short: "", long: "switch a fault of the simulated bench on or off", ready: simulated, run: acts::fault },
];
