//! One servo: its pulses, its marks, its angles, its limits.

pub mod acts;
mod advice;
pub mod behind;
pub mod cards;
pub mod compare;
pub mod continuous;
pub mod feel;
pub mod fineness;
pub mod forms;
pub mod hand;
pub mod lag;
mod level;
pub mod marks;
mod mechanism;
mod place;
pub mod practice;
mod protractor;
mod ruler;
pub mod state;
pub mod test_move;
mod view;

use super::action::{Action, code, key};
use super::advice::next;
use super::context::Context;
use super::dialog::Purpose;
use super::keymap::speaks_of;
use super::model::View;
use super::panel::{Panel, Typed};
use super::ready::{
    Ready, always, clocked, clocked_positional, continuous, continuous_engaged, engaged, engaged_and_fitted,
    engaged_standing, fitted_standing, horn_off, jointed, linked, mark_picked, mark_picked_engaged, marked,
    need, positional, positional_engaged, pulse_part, pulsed, pulsed_standing, servo, standing,
};
use super::scene::Scene;
use crossterm::event::KeyCode;
use wasvolta_core::stage::Command;

/// Where one is, in this room.
pub const VIEW: View = View("Calibrate");
const HERE: Option<View> = Some(VIEW);

/// See the module.
pub static PANEL: Panel = Panel {
    view: VIEW,
    show: Action {
        name: "Calibrate",
        keys: &[code(KeyCode::F(2))],
        view: None,
        short: "",
        long: "go to Calibrate",
        ready: always,
        run: |desk| desk.show(VIEW, PANEL.entered),
    },
    actions: ACTIONS,
    questions: &[acts::QUESTIONS, cards::QUESTIONS, forms::QUESTIONS, feel::QUESTIONS],
    change: acts::jog,
    pick: marks::pick,
    arrows: ("jog", "mark"),
    nudges: true,
    typed: Typed::For(Purpose::Pulse),
    first: of_mark,
    advice: advice::RULES,
    entered: |_| {},
    lively: |_| false,
    mouse: None,
    draw: view::draw,
};

/// What may be done, in the order in which it is shown. A row a line, as a table is.
#[rustfmt::skip]
static ACTIONS: &[Action] = &[
    Action { name: "horn on", keys: &[key('o')], view: HERE, short: "horn on", long: "with the horn off: first pulse at 1500 µs, to put the horn on", ready: horn_off, run: acts::horn_on },
    Action { name: "mark", keys: &[key('m')], view: HERE, short: "mark", long: "keep a mark: this pulse, the angle you see", ready: standing, run: marks::mark },
    Action { name: "next", keys: &[key('n')], view: HERE, short: "next mark", long: "glide to the next pulse that is worth a mark", ready: positional_engaged, run: acts::next_mark },
    Action { name: "move by", keys: &[key('D')], view: HERE, short: "", long: "move it by so much: by 5deg, by -20us", ready: engaged, run: acts::move_by },
    Action { name: "widen", keys: &[key('W')], view: HERE, short: "widen", long: "move the nearer endpoint and the pulse outwards together, by a nudge a press", ready: pulsed, run: acts::widen },
    Action { name: "buzzes", keys: &[key('b')], view: HERE, short: "buzzes", long: "it buzzes here: back off 15 µs and propose the endpoint", ready: positional_engaged, run: acts::buzzes },
    Action { name: "stops", keys: &[key('s')], view: HERE, short: "stops", long: "the horn stopped following here: back off 15 µs and propose the endpoint", ready: positional_engaged, run: acts::stops },
    Action { name: "limit here", keys: &[key('l')], view: HERE, short: "limit", long: "set a limit from where it stands, with its reason", ready: fitted_standing, run: acts::limit },
    Action { name: "endpoint here", keys: &[key('E')], view: HERE, short: "", long: "make the present pulse the nearer endpoint", ready: pulsed_standing, run: acts::endpoint },
    Action { name: "centre here", keys: &[key('c')], view: HERE, short: "", long: "make the present pulse the servo's centre; of a continuous one, its stop", ready: pulsed_standing, run: acts::centre },
    Action { name: "home here", keys: &[key('h')], view: HERE, short: "", long: "make the present angle the joint's home", ready: engaged_standing, run: acts::home },
    Action { name: "remove", keys: &[code(KeyCode::Delete)], view: HERE, short: "", long: "drop the picked mark, or the one nearest to the present pulse", ready: marked, run: marks::drop },
    Action { name: "starts", keys: &[key('S')], view: HERE, short: "", long: "it just starts to move here; of a continuous one, an edge of its standstill", ready: pulsed, run: marks::starts },
    Action { name: "go to the mark", keys: &[key('v')], view: HERE, short: "", long: "glide to the picked mark's pulse, to see it again", ready: mark_picked_engaged, run: marks::visit },
    Action { name: "change the mark", keys: &[key('=')], view: HERE, short: "", long: "type another angle for the picked mark", ready: mark_picked, run: marks::change },
    Action { name: "horn moved", keys: &[key('H')], view: HERE, short: "", long: "the horn was put on at another tooth: shift all marks to match what is seen now", ready: engaged_and_fitted, run: marks::horn_moved },
    Action { name: "bend", keys: &[key('B')], view: HERE, short: "", long: "join the marks by a curve instead of a line, or by a line again", ready: positional, run: marks::bend },
    Action { name: "test or time", keys: &[key('T')], view: HERE, short: "test, time", long: "predict a move, look, name the cause; of a continuous one, time its turns", ready: pulsed, run: test_or_time },
    Action { name: "knob jogs", keys: &[key('j')], view: HERE, short: "", long: "jog with the picked input: first a narrow range, then the whole range, then off", ready: positional_engaged, run: acts::knob },
    Action { name: "exercise", keys: &[key('y')], view: HERE, short: "", long: "run it back and forth, or through a routine; again stops it", ready: pulsed, run: exercise },
    Action { name: "fineness", keys: &[], view: HERE, short: "", long: "what one tick turns here, and which rate or bit depth would be fine enough", ready: clocked_positional, run: acts::fineness },
    Action { name: "mechanism", keys: &[key('M')], view: HERE, short: "", long: "draw the linkage instead of the protractor, or the protractor again", ready: linked, run: acts::mechanism },
    Action { name: "trim", keys: &[], view: HERE, short: "trim", long: "shift the pulse at which a continuous servo stands still, while you watch it", ready: continuous_engaged, run: continuous::trim },
    Action { name: "ends", keys: &[], view: None, short: "", long: "type endpoints, centre and home", ready: pulse_part, run: forms::ends },
    Action { name: "feel for ends", keys: &[], view: None, short: "", long: "a limp smart servo creeps outwards, gently, until something stops it", ready: feel::feelable, run: feel::ask },
    Action { name: "rated data", keys: &[], view: None, short: "", long: "what its data sheet says, or its class: micro, mini, standard, large, winch", ready: pulse_part, run: forms::rated },
    Action { name: "spline", keys: &[], view: None, short: "", long: "teeth of its spline, and the side from which it should arrive", ready: positional, run: forms::spline },
    Action { name: "reverse", keys: &[], view: None, short: "", long: "let its angles rise the other way, about its centre or its ends", ready: positional, run: forms::reverse },
    Action { name: "gear", keys: &[], view: None, short: "", long: "a gear or a belt between servo and joint: its ratio and offset", ready: jointed, run: forms::gear },
    Action { name: "linkage", keys: &[], view: None, short: "", long: "horn, rod and arm between servo and joint: its four lengths", ready: jointed, run: forms::linkage },
    Action { name: "couple", keys: &[], view: None, short: "", long: "another servo turns the same joint: they move only together", ready: jointed, run: forms::couple },
    Action { name: "uncouple", keys: &[], view: None, short: "", long: "split a shared joint: each servo turns a joint of its own again", ready: jointed, run: forms::uncouple },
    Action { name: "steered pair", keys: &[], view: None, short: "", long: "the two servos of a joint steer two wheels: their track and wheelbase", ready: jointed, run: forms::steering },
    Action { name: "mounting", keys: &[], view: None, short: "", long: "where its 0° points, and which way its angles rise, as you see it", ready: jointed, run: forms::mounting },
    Action { name: "standing still", keys: &[], view: None, short: "", long: "whether a continuous servo stands by its stop pulse or by no pulse", ready: continuous, run: forms::idle },
    Action { name: "volts", keys: &[], view: None, short: "", long: "which supply and signal the picked servo takes, and which signal its board gives", ready: servo, run: forms::volts },
    Action { name: "frame rate", keys: &[], view: None, short: "", long: "frames a second of the picked servo's board; pulses and angles stay", ready: servo, run: forms::frame_rate },
    Action { name: "auto-release", keys: &[], view: None, short: "", long: "release a servo that has been left alone for this long", ready: always, run: forms::auto_release },
    Action { name: "board back", keys: &[], view: None, short: "", long: "what the picked joint does when its board comes back and its pulses had stopped", ready: jointed, run: forms::back },
    Action { name: "on servo fault", keys: &[], view: None, short: "", long: "what the joint does while its smart servo reports a fault, such as too hot", ready: jointed, run: forms::ailing },
    Action { name: "save card", keys: &[], view: None, short: "", long: "write a card of the picked servo, beside the rig", ready: servo, run: cards::save },
    Action { name: "load card", keys: &[], view: None, short: "", long: "load a card into the picked servo", ready: servo, run: forms::load_card },
    Action { name: "compare card", keys: &[], view: None, short: "", long: "compare a card with the picked servo, line by line", ready: servo, run: forms::compare_card },
    Action { name: "show the truth", keys: &[], view: None, short: "", long: "in practice: what the dealt servo really is, beside what was found out", ready: practice::practised, run: practice::show },
    Action { name: "marks to a table", keys: &[], view: None, short: "", long: "write the picked servo's marks as comma-separated values", ready: pulse_part, run: forms::marks_out },
    Action { name: "marks from a table", keys: &[], view: None, short: "", long: "read marks from comma-separated values", ready: pulse_part, run: forms::marks_in },
    Action { name: "correct clock", keys: &[], view: HERE, short: "", long: "type the frame rate a meter shows at the board, to correct its clock", ready: clocked, run: acts::clock },
    Action { name: "go on", keys: &[code(KeyCode::Enter)], view: HERE, short: "next servo", long: "go on to the next servo, once the next line says so", ready: goes_on, run: |desk| desk.pick_servo_by(1) },
];

/// Enter does only what is to be read on the screen.
fn goes_on(scene: &Scene) -> Ready {
    servo(scene)?;
    need(
        speaks_of(&next(scene, advice::RULES), "go on"),
        "‹go on› does nothing now: ‹servo below› picks the next servo",
    )
}

/// Ends an exercise that is under way, or asks for one.
fn exercise(desk: &mut Context) {
    if desk.picked(|p| p.state.exercise().is_some()) == Some(true) {
        desk.servo_command(|servo| Command::StandStill { servo });
        return forms::seen(desk);
    }
    forms::exercise(desk);
}

/// One key for looking closely: at where it goes, or at how fast it turns.
fn test_or_time(desk: &mut Context) {
    let turns = desk.picked(|p| p.servo.kind.turns_on()) == Some(true);
    if turns { continuous::stopwatch(desk) } else { test_move::begin(desk) }
}

/// What may be done with a picked mark stands first.
fn of_mark(scene: &Scene) -> &'static [&'static str] {
    if scene.model.in_calibrate.mark.is_some() {
        &["go to the mark", "mark", "change the mark", "remove"]
    } else {
        &[]
    }
}
