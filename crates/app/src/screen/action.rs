//! The one table of actions: keys, names, where they work, what they say, when they may, and what they do.
//!
//! The keys line, the help, the palette and the dispatch are all read from it.

use super::advice;
use super::context::Context;
use super::keys::Key;
use super::model::View;
use super::scene::Scene;
use super::update::{
    ask, boards, calibrate, cards, continuous, general, inputs, marks, roster, sequence, sequences,
    test_move, wiring,
};
use crossterm::event::KeyCode;
use wasvolta_core::stage::{Command, Output, Play};
use wasvolta_port::board::Phase;

/// What keeps an action from being done now, in words; `Ok` when nothing does.
pub type Ready = Result<(), &'static str>;

/// One action.
pub struct Action {
    /// Its name in the palette.
    pub name: &'static str,
    /// Its keys; none for what only the palette offers.
    pub keys: &'static [Key],
    /// Where its keys work; none means everywhere.
    pub view: Option<View>,
    /// A word or two for the keys line; empty for what is not shown there.
    pub short: &'static str,
    /// A sentence for the help.
    pub long: &'static str,
    /// Whether it may be done now.
    pub ready: fn(&Scene) -> Ready,
    /// Does it.
    pub run: fn(&mut Context),
}

impl Action {
    /// Whether it is done by itself once the servo stands, where it was asked for before.
    pub fn waits(&self) -> bool {
        matches!(self.name, "limit here" | "endpoint here" | "centre here" | "home here")
    }

    /// Whether it works while the window is too small to show anything: it stops something.
    pub fn works_unseen(&self) -> bool {
        matches!(self.name, "cut" | "hold" | "quit")
    }

    /// Does it if it may be done, else says why not.
    pub fn carry_out(&self, desk: &mut Context) {
        let ready = (self.ready)(&desk.model.scene(desk.session));
        match ready {
            Ok(()) => (self.run)(desk),
            Err(STILL_MOVES) if self.waits() => {
                desk.model.waiting = Some(self.name);
                desk.say(&format!("{}: once it stands", self.name));
            }
            Err(why) => desk.refuse(why),
        }
    }

    /// Whether its keys work in a view.
    pub fn works_in(&self, view: View) -> bool {
        self.view.is_none_or(|own| own == view)
    }
}

const fn key(c: char) -> Key {
    Key::char(c)
}

const fn code(code: KeyCode) -> Key {
    Key::of(code)
}

#[expect(clippy::unnecessary_wraps, reason = "one of the answers that the table's column holds")]
fn always(_: &Scene) -> Ready {
    Ok(())
}

fn need(holds: bool, words: &'static str) -> Ready {
    if holds { Ok(()) } else { Err(words) }
}

fn servo(scene: &Scene) -> Ready {
    need(scene.picked().is_some(), "this rig has no servo yet: a adds one")
}

/// Neither cut nor held.
fn free(scene: &Scene) -> Ready {
    match scene.model.snapshot.output {
        Output::Cut => Err("output is cut: d enables it again"),
        Output::Held => Err("output is held: d drives on"),
        Output::Off | Output::Driving => Ok(()),
    }
}

fn engaged(scene: &Scene) -> Ready {
    free(scene)?;
    let words = "it gets no pulses, so it cannot move: engage it with e";
    need(scene.picked().is_some_and(|p| p.state.engaged), words)
}

fn released(scene: &Scene) -> Ready {
    servo(scene)?;
    free(scene)?;
    need(scene.picked().is_some_and(|p| !p.state.engaged), "it is engaged already; r releases it")
}

/// What is said of horns, angles and joints is said of positional servos.
fn positional(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.picked().is_none_or(|p| p.servo.kind.has_angles()), "it has a level, not a horn with angles")
}

/// What has servo pulses: no lamp or relay.
fn pulsed(scene: &Scene) -> Ready {
    engaged(scene)?;
    let accessory = scene.picked().is_some_and(|p| p.servo.kind.is_accessory());
    need(!accessory, "it gets no servo pulses but a share of each frame")
}

/// What gets servo pulses, whether engaged or not.
fn pulse_part(scene: &Scene) -> Ready {
    servo(scene)?;
    let accessory = scene.picked().is_some_and(|p| p.servo.kind.is_accessory());
    need(!accessory, "it gets no servo pulses but a share of each frame")
}

fn jointed(scene: &Scene) -> Ready {
    positional(scene)?;
    need(scene.picked().is_some_and(|p| p.joint.is_some()), "it turns no joint")
}

fn linked(scene: &Scene) -> Ready {
    let linked = scene.picked().is_some_and(|p| p.through.linkage().is_some());
    need(linked, "there is no linkage: the command linkage puts one between servo and joint")
}

fn mark_picked(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.model.mark.is_some(), "no mark is picked: ↑ ↓ pick one")
}

fn mark_picked_engaged(scene: &Scene) -> Ready {
    mark_picked(scene)?;
    engaged(scene)
}

fn continuous_engaged(scene: &Scene) -> Ready {
    continuous(scene)?;
    engaged(scene)
}

/// One key for looking closely: at where it goes, or at how fast it turns.
fn test_or_time(desk: &mut Context) {
    let turns = desk.picked(|p| p.servo.kind.turns_on()) == Some(true);
    if turns { continuous::stopwatch(desk) } else { test_move::begin(desk) }
}

/// Ends an exercise that is under way, or asks for one.
fn exercise(desk: &mut Context) {
    if desk.picked(|p| p.state.exercise().is_some()) == Some(true) {
        desk.servo_command(|servo| Command::StandStill { servo });
        return ask::seen(desk);
    }
    ask::exercise(desk);
}

fn horn_off(scene: &Scene) -> Ready {
    positional(scene)?;
    released(scene)
}

fn positional_engaged(scene: &Scene) -> Ready {
    positional(scene)?;
    engaged(scene)
}

fn continuous(scene: &Scene) -> Ready {
    servo(scene)?;
    need(
        scene.picked().is_some_and(|p| p.servo.kind.turns_on()),
        "it is not continuous; the command kind makes it so",
    )
}

/// Enter does only what is to be read on the screen.
fn goes_on(scene: &Scene) -> Ready {
    servo(scene)?;
    need(advice::names(&advice::next(scene), "Enter"), "Enter does nothing now: PgDn picks the next servo")
}

fn fitted(scene: &Scene) -> Ready {
    positional(scene)?;
    need(
        scene.picked().is_some_and(|p| p.plan.scale.is_some() && p.joint.is_some()),
        "it has no angles yet: keep two marks with m",
    )
}

/// What a calibration sheet has something to say of.
fn charted(scene: &Scene) -> Ready {
    let turns = scene.picked().is_some_and(|p| p.servo.kind.turns_on());
    if turns { continuous(scene) } else { fitted(scene) }
}

fn engaged_and_fitted(scene: &Scene) -> Ready {
    engaged(scene)?;
    fitted(scene)
}

/// What is read off a horn that still moves is not where it stands.
fn standing(scene: &Scene) -> Ready {
    positional_engaged(scene)?;
    still(scene)
}

/// Why something is not taken from where a servo is.
pub const STILL_MOVES: &str = "it still moves: wait until the horn stands";

fn still(scene: &Scene) -> Ready {
    let stands = scene.picked().is_some_and(|p| !p.state.engaged || (scene.heard && p.stands()));
    need(stands, STILL_MOVES)
}

fn pulsed_standing(scene: &Scene) -> Ready {
    pulsed(scene)?;
    still(scene)
}

fn fitted_standing(scene: &Scene) -> Ready {
    fitted(scene)?;
    still(scene)
}

fn engaged_standing(scene: &Scene) -> Ready {
    engaged_and_fitted(scene)?;
    still(scene)
}

/// Also while the output is held: what stands may be let go.
fn pulsing(scene: &Scene) -> Ready {
    need(scene.picked().is_some_and(|p| p.state.engaged), "it gets no pulses already")
}

/// What is plugged elsewhere, or taken out, must not be getting pulses.
fn unpulsed(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.picked().is_some_and(|p| !p.state.engaged), "it is engaged: release it first with r")
}

fn boarded(scene: &Scene) -> Ready {
    need(!scene.rig.boards.is_empty(), "this rig has no board: b in Wiring, F1, adds one")
}

fn driving(scene: &Scene) -> Ready {
    need(scene.model.snapshot.output == Output::Driving, "nothing is being driven")
}

fn stopped(scene: &Scene) -> Ready {
    need(
        matches!(scene.model.snapshot.output, Output::Held | Output::Cut),
        "the output is neither held nor cut; e engages a servo",
    )
}

fn marked(scene: &Scene) -> Ready {
    need(scene.picked().is_some_and(|p| !p.servo.marks.is_empty()), "it has no mark to drop")
}

fn playable(scene: &Scene) -> Ready {
    need(
        scene.sequence().is_some_and(|(_, line)| !line.steps.is_empty()),
        "there is no step to play: k keeps a pose, i inserts it as a step",
    )
}

fn playing(scene: &Scene) -> Ready {
    need(scene.model.snapshot.player.play != Play::Stopped, "nothing is being played")
}

fn stepped(scene: &Scene) -> Ready {
    need(scene.sequence().is_some_and(|(s, _)| !s.steps.is_empty()), "there is no step")
}

fn posed(scene: &Scene) -> Ready {
    need(!scene.rig.poses.is_empty(), "there is no pose yet: k keeps one")
}

fn posed_and_free(scene: &Scene) -> Ready {
    posed(scene)?;
    free(scene)
}

fn sequenced(scene: &Scene) -> Ready {
    need(scene.sequence().is_some(), "there is no sequence yet: the command new sequence begins one")
}

fn input(scene: &Scene) -> Ready {
    need(scene.input().is_some(), "this rig has no input: add one to its file")
}

fn tieable(scene: &Scene) -> Ready {
    input(scene)?;
    fitted(scene)
}

fn knob(scene: &Scene) -> Ready {
    need(scene.knob.is_some(), "this input is not simulated")
}

/// A servo on the picked channel; one that is released is asked about first.
fn wigglable(scene: &Scene) -> Ready {
    need(
        scene.plug().is_some_and(|(_, _, servo)| servo.is_some()),
        "no servo is on this channel: a adds one",
    )?;
    free(scene)
}

fn simulated(scene: &Scene) -> Ready {
    need(scene.simulated, "nothing is simulated here: what is wrong is really wrong")
}

/// A board waits for the maker's word.
fn found(scene: &Scene) -> Ready {
    let asks =
        |(_, state): (_, &wasvolta_engine::snapshot::BoardState)| matches!(state.phase, Phase::Asking(_));
    let any = scene.edition.boards(&scene.model.snapshot).any(asks);
    need(any, "no board was found with pulses that nobody here has sent")
}

fn by_hand(scene: &Scene) -> Ready {
    need(scene.by_hand, "time passes by itself here; --clock manual passes it by hand")
}

const WIRING: Option<View> = Some(View::Wiring);
const CALIBRATE: Option<View> = Some(View::Calibrate);
const INPUTS: Option<View> = Some(View::Inputs);
const SEQUENCE: Option<View> = Some(View::Sequence);

/// Every action, in the order in which the keys line and the help show them. A row a line, as a table is.
#[rustfmt::skip]
pub static TABLE: &[Action] = &[
    Action { name: "cut", keys: &[Key::ctrl('c')], view: None, short: "cut", long: "drop all pulses at once, from anywhere, until enabled again; it never quits", ready: always, run: general::cut },
    Action { name: "jog down, or less", keys: &[code(KeyCode::Left)], view: None, short: "", long: "jog towards shorter pulses, or make the selected value smaller", ready: always, run: general::less },
    Action { name: "jog up, or more", keys: &[code(KeyCode::Right)], view: None, short: "change", long: "jog towards longer pulses, or make the selected value larger", ready: always, run: general::more },
    Action { name: "row above", keys: &[code(KeyCode::Up)], view: None, short: "", long: "pick the row above: a mark, or a value of the view", ready: always, run: general::row_up },
    Action { name: "row below", keys: &[code(KeyCode::Down)], view: None, short: "row", long: "pick the row below", ready: always, run: general::row_down },
    Action { name: "smaller nudge", keys: &[key(',')], view: None, short: "", long: "make the arrows' steps smaller", ready: always, run: general::smaller_nudge },
    Action { name: "larger nudge", keys: &[key('.')], view: None, short: "nudge", long: "make the arrows' steps larger", ready: always, run: general::larger_nudge },
    Action { name: "engage", keys: &[key('e')], view: None, short: "engage", long: "give the servo its first pulse where its horn stands", ready: released, run: calibrate::engage },
    Action { name: "horn on", keys: &[key('o')], view: CALIBRATE, short: "horn on", long: "with the horn off: first pulse at 1500 µs, to put the horn on", ready: horn_off, run: calibrate::horn_on },
    Action { name: "mark", keys: &[key('m')], view: CALIBRATE, short: "mark", long: "keep a mark: this pulse, the angle you see", ready: standing, run: marks::mark },
    Action { name: "next", keys: &[key('n')], view: CALIBRATE, short: "next mark", long: "glide to the next pulse worth a mark", ready: positional_engaged, run: calibrate::next_mark },
    Action { name: "move by", keys: &[key('D')], view: CALIBRATE, short: "", long: "type how far it goes from where it stands: by 5deg, by -20us", ready: engaged, run: calibrate::move_by },
    Action { name: "widen", keys: &[key('W')], view: CALIBRATE, short: "widen", long: "move the nearer endpoint and the pulse outwards together, by a nudge a press", ready: pulsed, run: calibrate::widen },
    Action { name: "buzzes", keys: &[key('b')], view: CALIBRATE, short: "buzzes", long: "it buzzes here: back off 15 µs and propose the endpoint", ready: positional_engaged, run: calibrate::buzzes },
    Action { name: "stops", keys: &[key('s')], view: CALIBRATE, short: "stops", long: "the horn stopped following here: back off 15 µs and propose the endpoint", ready: positional_engaged, run: calibrate::stops },
    Action { name: "limit here", keys: &[key('l')], view: CALIBRATE, short: "limit", long: "set a limit from where it stands, with its reason", ready: fitted_standing, run: calibrate::limit },
    Action { name: "endpoint here", keys: &[key('E')], view: CALIBRATE, short: "", long: "make the present pulse the nearer endpoint", ready: pulsed_standing, run: calibrate::endpoint },
    Action { name: "centre here", keys: &[key('c')], view: CALIBRATE, short: "", long: "make the present pulse the servo's centre; of a continuous one, its stop", ready: pulsed_standing, run: calibrate::centre },
    Action { name: "home here", keys: &[key('h')], view: CALIBRATE, short: "", long: "make the present angle the joint's home", ready: engaged_standing, run: calibrate::home },
    Action { name: "drop mark", keys: &[code(KeyCode::Delete)], view: CALIBRATE, short: "", long: "drop the picked mark, or the one nearest to the present pulse", ready: marked, run: marks::drop },
    Action { name: "starts", keys: &[key('S')], view: CALIBRATE, short: "", long: "it just starts to move here; of a continuous one, an edge of its standstill", ready: pulsed, run: marks::starts },
    Action { name: "go to the mark", keys: &[key('v')], view: CALIBRATE, short: "", long: "glide to the picked mark's pulse, to see it again", ready: mark_picked_engaged, run: marks::visit },
    Action { name: "change the mark", keys: &[key('i')], view: CALIBRATE, short: "", long: "type another angle for the picked mark", ready: mark_picked, run: marks::change },
    Action { name: "horn moved", keys: &[key('H')], view: CALIBRATE, short: "", long: "the horn sits elsewhere on its spline: shift all marks by what is seen now", ready: engaged_and_fitted, run: marks::horn_moved },
    Action { name: "bend", keys: &[key('B')], view: CALIBRATE, short: "", long: "join the marks by a curve instead of a line, or by a line again", ready: positional, run: marks::bend },
    Action { name: "test or time", keys: &[key('t')], view: CALIBRATE, short: "test, time", long: "predict a move, look, name the cause; of a continuous one, time its turns", ready: pulsed, run: test_or_time },
    Action { name: "knob jogs", keys: &[key('j')], view: CALIBRATE, short: "", long: "jog by the picked input: a narrow window, then over all, then no more", ready: positional_engaged, run: calibrate::knob },
    Action { name: "exercise", keys: &[key('y')], view: CALIBRATE, short: "", long: "let it go to and fro, or through a routine; again ends it", ready: pulsed, run: exercise },
    Action { name: "fineness", keys: &[key('f')], view: CALIBRATE, short: "", long: "what a tick is worth here, and which rate or depth would do for a wish", ready: positional, run: calibrate::fineness },
    Action { name: "mechanism", keys: &[key('L')], view: CALIBRATE, short: "", long: "draw the linkage in the place of the protractor, or back", ready: linked, run: calibrate::mechanism },
    Action { name: "trim", keys: &[key('T')], view: CALIBRATE, short: "trim", long: "shift where a continuous servo stands still, while it turns", ready: continuous_engaged, run: continuous::trim },
    Action { name: "ends", keys: &[], view: None, short: "", long: "type endpoints, centre and home", ready: pulse_part, run: ask::ends },
    Action { name: "rated data", keys: &[], view: None, short: "", long: "what its sheet says, or its class: micro, mini, standard, large, winch", ready: pulse_part, run: ask::rated },
    Action { name: "spline", keys: &[], view: None, short: "", long: "teeth of its spline, and from which side it is to arrive", ready: positional, run: ask::spline },
    Action { name: "reverse", keys: &[], view: None, short: "", long: "let its angles rise the other way, about its centre or its ends", ready: positional, run: ask::reverse },
    Action { name: "gear", keys: &[], view: None, short: "", long: "a gear or a belt between servo and joint: its ratio and offset", ready: jointed, run: ask::gear },
    Action { name: "linkage", keys: &[], view: None, short: "", long: "horn, rod and arm between servo and joint: its four lengths", ready: jointed, run: ask::linkage },
    Action { name: "couple", keys: &[], view: None, short: "", long: "another servo turns the same joint: they move only together", ready: jointed, run: ask::couple },
    Action { name: "uncouple", keys: &[], view: None, short: "", long: "servos that turn one joint turn joints of their own again", ready: jointed, run: ask::uncouple },
    Action { name: "steered pair", keys: &[], view: None, short: "", long: "two servos of a joint turn two wheels: their track and wheelbase", ready: jointed, run: ask::steering },
    Action { name: "mounting", keys: &[], view: None, short: "", long: "where its 0° points, and which way its angles rise, as you see it", ready: jointed, run: ask::mounting },
    Action { name: "standing still", keys: &[], view: None, short: "", long: "whether a continuous servo stands by its stop pulse or by no pulse", ready: continuous, run: ask::idle },
    Action { name: "volts", keys: &[], view: None, short: "", long: "which supply and signal the picked servo takes, and which signal its board gives", ready: servo, run: ask::volts },
    Action { name: "signal level", keys: &[], view: INPUTS, short: "", long: "with which level the picked input's signal comes, and how much its pin takes", ready: input, run: ask::pin_volts },
    Action { name: "frame rate", keys: &[], view: None, short: "", long: "frames a second of the picked servo's board; pulses and angles stay", ready: servo, run: ask::frame_rate },
    Action { name: "auto-release", keys: &[], view: None, short: "", long: "after which time a servo that the hand leaves alone is released", ready: always, run: ask::auto_release },
    Action { name: "found pulses", keys: &[key('F')], view: None, short: "found pulses", long: "say what to do with pulses that were found running: keep or release them", ready: found, run: boards::found },
    Action { name: "board back", keys: &[], view: None, short: "", long: "what the picked joint does when its board is back and its pulses had stopped", ready: jointed, run: ask::back },
    Action { name: "save card", keys: &[], view: None, short: "", long: "write what is known of the picked servo on a card beside the rig", ready: servo, run: cards::save },
    Action { name: "load card", keys: &[], view: None, short: "", long: "put what a card says on the picked servo", ready: servo, run: ask::load_card },
    Action { name: "compare card", keys: &[], view: None, short: "", long: "see a card beside the picked servo, line by line", ready: servo, run: ask::compare_card },
    Action { name: "marks to a table", keys: &[], view: None, short: "", long: "write the picked servo's marks as comma-separated values", ready: pulse_part, run: ask::marks_out },
    Action { name: "marks from a table", keys: &[], view: None, short: "", long: "take marks over from comma-separated values", ready: pulse_part, run: ask::marks_in },
    Action { name: "correct clock", keys: &[key('C')], view: CALIBRATE, short: "", long: "type the frame rate a meter shows at the board, to correct its clock", ready: servo, run: calibrate::clock },
    Action { name: "next servo", keys: &[code(KeyCode::Enter)], view: CALIBRATE, short: "next servo", long: "go on to the next servo, once the next line says so", ready: goes_on, run: general::servo_next },
    Action { name: "wiggle", keys: &[key('w')], view: WIRING, short: "wiggle", long: "move the servo 20 µs to and fro, or blink, three times: which is it?", ready: wigglable, run: wiring::wiggle },
    Action { name: "name by wiggling", keys: &[key('W')], view: WIRING, short: "name one by one", long: "wiggle servo after servo, and name each as you see which it is", ready: servo, run: wiring::name_all },
    Action { name: "swap plugs", keys: &[key('S')], view: WIRING, short: "swap", long: "the picked servo and another are on each other's channel: swap them", ready: servo, run: roster::swap },
    Action { name: "look around", keys: &[key('s')], view: WIRING, short: "scan", long: "look what answers on the buses, by reading only; serial ports stay unopened", ready: |s| need(!s.looking, "a look is being taken already"), run: wiring::look_around },
    Action { name: "ask serial port", keys: &[key('P')], view: WIRING, short: "", long: "open a serial port to ask what is on it; that resets many boards", ready: always, run: wiring::ask_port },
    Action { name: "add board", keys: &[key('b')], view: WIRING, short: "add board", long: "add a board on a port or a new path, from what was found", ready: always, run: boards::add },
    Action { name: "rail of the board", keys: &[], view: None, short: "", long: "which supply feeds the picked board's servos, and what it gives", ready: boarded, run: boards::rail },
    Action { name: "rename board", keys: &[], view: None, short: "", long: "give the picked board another name; its servos follow", ready: boarded, run: boards::rename },
    Action { name: "remove board", keys: &[], view: None, short: "", long: "take the picked board out, once no servo is on it", ready: boarded, run: boards::remove },
    Action { name: "engage all", keys: &[key('A')], view: None, short: "", long: "engage servo after servo where each was left; asks for those not known", ready: free, run: wiring::engage_all },
    Action { name: "simulated fault", keys: &[], view: None, short: "", long: "let something be wrong with the simulated bench, or right again", ready: simulated, run: wiring::fault },
    Action { name: "tie", keys: &[key('t')], view: INPUTS, short: "tie or untie", long: "tie this input to the picked servo's joint, or untie it", ready: tieable, run: inputs::tie },
    Action { name: "pull the plug", keys: &[key('z')], view: INPUTS, short: "pull or put in the plug", long: "pull the simulated input's plug, or put it in again", ready: knob, run: inputs::plug },
    Action { name: "play", keys: &[key('p')], view: None, short: "play", long: "play the picked sequence, stand still in it, or go on", ready: playable, run: sequence::play },
    Action { name: "next step", keys: &[key('n')], view: SEQUENCE, short: "next step", long: "pick the next step", ready: stepped, run: sequence::next_step },
    Action { name: "insert step", keys: &[key('i')], view: SEQUENCE, short: "insert", long: "insert a step behind the picked one, with the pose kept last", ready: posed, run: sequence::insert },
    Action { name: "stretch", keys: &[key('f')], view: SEQUENCE, short: "stretch", long: "give a short step the time it needs", ready: stepped, run: sequence::stretch },
    Action { name: "remove step", keys: &[code(KeyCode::Delete)], view: SEQUENCE, short: "", long: "take the picked step out", ready: stepped, run: sequence::remove },
    Action { name: "step earlier", keys: &[key('<')], view: SEQUENCE, short: "", long: "move the picked step to the place before it", ready: stepped, run: sequences::step_earlier },
    Action { name: "step later", keys: &[key('>')], view: SEQUENCE, short: "", long: "move the picked step to the place behind it", ready: stepped, run: sequences::step_later },
    Action { name: "copy step", keys: &[key('c')], view: SEQUENCE, short: "", long: "put a copy of the picked step behind it", ready: stepped, run: sequences::copy_step },
    Action { name: "new sequence", keys: &[], view: SEQUENCE, short: "", long: "begin a sequence that has no step yet", ready: always, run: sequences::new_sequence },
    Action { name: "rename sequence", keys: &[], view: SEQUENCE, short: "", long: "give the picked sequence another name", ready: sequenced, run: sequences::rename_sequence },
    Action { name: "copy sequence", keys: &[], view: SEQUENCE, short: "", long: "put a copy of the picked sequence behind it", ready: sequenced, run: sequences::copy_sequence },
    Action { name: "remove sequence", keys: &[], view: SEQUENCE, short: "", long: "take the picked sequence out; its poses stay", ready: sequenced, run: sequences::remove_sequence },
    Action { name: "go to sequence", keys: &[], view: SEQUENCE, short: "", long: "pick a sequence by its name", ready: sequenced, run: sequences::go_to_sequence },
    Action { name: "rename pose", keys: &[], view: None, short: "", long: "give a pose another name; its steps follow", ready: posed, run: sequences::rename_pose },
    Action { name: "copy pose", keys: &[], view: None, short: "", long: "put a copy of a pose beside it", ready: posed, run: sequences::copy_pose },
    Action { name: "remove pose", keys: &[], view: None, short: "", long: "take a pose out that no step needs", ready: posed, run: sequences::remove_pose },
    Action { name: "go to pose", keys: &[], view: None, short: "", long: "let all engaged joints glide to a pose, by hand", ready: posed_and_free, run: sequences::go_to_pose },
    Action { name: "stop playing", keys: &[key('x')], view: None, short: "", long: "leave the sequence: its joints go back to input or home", ready: playing, run: sequence::stop },
    Action { name: "keep pose", keys: &[key('k')], view: None, short: "keep pose", long: "keep where all engaged joints stand as a pose", ready: always, run: sequence::keep_pose },
    Action { name: "give back", keys: &[key('g')], view: None, short: "give back", long: "the hand lets the joint go: back to sequence, input or home", ready: engaged, run: general::give_back },
    Action { name: "give all back", keys: &[key('G')], view: None, short: "", long: "the hand lets every joint go: back to sequence, input or home", ready: driving, run: general::give_all_back },
    Action { name: "release", keys: &[key('r')], view: None, short: "release", long: "stop the servo's pulses", ready: pulsing, run: general::release },
    Action { name: "servo above", keys: &[code(KeyCode::PageUp)], view: None, short: "", long: "pick the servo above", ready: always, run: general::servo_previous },
    Action { name: "servo below", keys: &[code(KeyCode::PageDown)], view: None, short: "", long: "pick the servo below", ready: always, run: general::servo_next },
    Action { name: "add servo", keys: &[key('a')], view: None, short: "", long: "add a servo: its name, and the channel its plug is on", ready: boarded, run: roster::add },
    Action { name: "rename servo", keys: &[key('R')], view: None, short: "", long: "give the picked servo another name; poses and mappings follow", ready: servo, run: roster::rename },
    Action { name: "move servo", keys: &[key('M')], view: None, short: "", long: "the picked servo's plug is on another channel", ready: unpulsed, run: roster::move_to },
    Action { name: "remove servo", keys: &[key('X')], view: None, short: "", long: "take the picked servo out, with its joint and what poses say of it", ready: unpulsed, run: roster::remove },
    Action { name: "kind", keys: &[], view: None, short: "", long: "what hangs there: a positional or continuous servo, a dimmer, or on-off", ready: unpulsed, run: roster::change_kind },
    Action { name: "arming", keys: &[], view: None, short: "", long: "the neutral that a speed controller must see before it follows, and for how long", ready: continuous, run: roster::arming },
    Action { name: "replace servo", keys: &[], view: None, short: "", long: "another servo is in its place: marks go to a card, limits and poses stay", ready: unpulsed, run: roster::replace },
    Action { name: "undo", keys: &[key('u')], view: None, short: "undo", long: "take the last edit back", ready: |s| need(s.undo.0, "there is nothing to undo"), run: general::undo },
    Action { name: "redo", keys: &[Key::ctrl('r')], view: None, short: "", long: "make the edit again that was taken back", ready: |s| need(s.undo.1, "there is nothing to redo"), run: general::redo },
    Action { name: "save", keys: &[Key::ctrl('s')], view: None, short: "save", long: "save the rig", ready: always, run: general::save },
    Action { name: "read the file again", keys: &[], view: None, short: "", long: "take in what another program has written to the rig's file", ready: always, run: general::read_again },
    Action { name: "hold", keys: &[code(KeyCode::Esc)], view: None, short: "hold", long: "hold: the last pulses stay, nothing moves", ready: driving, run: general::hold },
    Action { name: "drive on", keys: &[key('d')], view: None, short: "drive on", long: "go on after a hold, or enable the output again after a cut", ready: stopped, run: general::drive },
    Action { name: "next view", keys: &[code(KeyCode::Tab)], view: None, short: "view", long: "go to the next view", ready: always, run: general::next_view },
    Action { name: "Wiring", keys: &[code(KeyCode::F(1))], view: None, short: "", long: "go to Wiring", ready: always, run: |d| general::show(d, View::Wiring) },
    Action { name: "Calibrate", keys: &[code(KeyCode::F(2))], view: None, short: "", long: "go to Calibrate", ready: always, run: |d| general::show(d, View::Calibrate) },
    Action { name: "Inputs", keys: &[code(KeyCode::F(3))], view: None, short: "", long: "go to Inputs", ready: always, run: |d| general::show(d, View::Inputs) },
    Action { name: "Sequence", keys: &[code(KeyCode::F(4))], view: None, short: "", long: "go to Sequence", ready: always, run: |d| general::show(d, View::Sequence) },
    Action { name: "commands", keys: &[key(':')], view: None, short: "commands", long: "every command by its name", ready: always, run: general::palette },
    Action { name: "calibration sheet", keys: &[], view: None, short: "", long: "write the picked servo's chart, marks and limits as PDF or SVG", ready: charted, run: general::calibration_sheet },
    Action { name: "protractor sheet", keys: &[], view: None, short: "", long: "write a true-scale protractor to lay under the picked servo's horn", ready: positional, run: general::protractor_sheet },
    Action { name: "joint protractor sheet", keys: &[], view: None, short: "", long: "write a true-scale protractor for what the servo turns, about its axis", ready: jointed, run: general::joint_protractor_sheet },
    Action { name: "linkage sheet", keys: &[], view: None, short: "", long: "write horn, rod and arm with what one turns the other, as PDF or SVG", ready: linked, run: general::linkage_sheet },
    Action { name: "wiring sheet", keys: &[], view: None, short: "", long: "write boards, jumpers, pins, leads and rails as PDF or SVG", ready: boarded, run: general::wiring_sheet },
    Action { name: "pass beats", keys: &[], view: None, short: "", long: "let some beats pass, where time passes by hand", ready: by_hand, run: general::beats },
    Action { name: "quit", keys: &[key('q')], view: None, short: "quit", long: "release everything and quit; asks when edits are unsaved", ready: always, run: general::quit },
    Action { name: "all keys", keys: &[key('?')], view: None, short: "all keys", long: "show all keys", ready: always, run: general::help },
];

/// The action of a key in a view.
pub fn of(pressed: Key, view: View) -> Option<&'static Action> {
    TABLE.iter().find(|action| action.works_in(view) && action.keys.contains(&pressed))
}

/// The action of a name.
pub fn named(name: &str) -> Option<&'static Action> {
    TABLE.iter().find(|action| action.name == name)
}

/// Actions that have keys in a view: what the help shows.
pub fn keyed(view: View) -> impl Iterator<Item = &'static Action> {
    TABLE.iter().filter(move |a| a.works_in(view) && !a.keys.is_empty())
}

/// Commands that the palette shows for a query: those whose name or sentence holds all its words.
pub fn matching(query: &str) -> Vec<&'static Action> {
    let words: Vec<String> = query.split_whitespace().map(str::to_lowercase).collect();
    let holds = |action: &&Action| {
        let text = format!("{} {}", action.name, action.long).to_lowercase();
        words.iter().all(|word| text.contains(word))
    };
    let mut found: Vec<&Action> = TABLE.iter().filter(holds).collect();
    // The nearer a name is to what was typed, the earlier it comes; a whole name always comes first.
    let (typed, first) = (words.join(" "), words.first().map_or("", String::as_str));
    let far = |name: &str| match name {
        name if name == typed => 0,
        name if name.starts_with(&typed) => 1,
        name if words.iter().all(|word| name.contains(word)) => 2,
        name if name.starts_with(first) => 3,
        _ => 4,
    };
    found.sort_by_cached_key(|action| far(&action.name.to_lowercase()));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_in_one_view() {
        for view in View::ALL {
            let mut seen = Vec::new();
            for action in TABLE.iter().filter(|a| a.works_in(view)) {
                for key in action.keys {
                    assert!(!seen.contains(key), "{} has the key of another in {view:?}", action.name);
                    seen.push(*key);
                }
            }
        }
    }

    #[test]
    fn every_action_can_be_found_and_its_texts_fit() {
        for action in TABLE {
            assert!(action.long.chars().count() <= 80, "{}", action.long);
            assert!(action.short.chars().count() <= 24, "{}", action.short);
            assert!(action.name.chars().count() <= 24, "{}", action.name);
            assert_eq!(TABLE.iter().filter(|a| a.name == action.name).count(), 1, "{}", action.name);
            assert_eq!(matching(action.name)[0].name, action.name, "its whole name finds it first");
        }
    }

    #[test]
    fn no_key_needs_altgr_and_ctrl_is_kept_for_three() {
        let keys: Vec<Key> = TABLE.iter().flat_map(|a| a.keys.iter().copied()).collect();
        assert!(
            keys.iter()
                .all(|k| !matches!(k.code, KeyCode::Char('[' | ']' | '{' | '}' | '@' | '|' | '\\' | '~')))
        );
        assert_eq!(keys.iter().filter(|k| k.ctrl).count(), 3, "cut, save, redo");
        assert!(
            keys.iter().all(|k| !matches!(k.code, KeyCode::Char('0'..='9' | '+' | '-'))),
            "they start an entry"
        );
    }
}
