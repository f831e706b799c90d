//! Actions on boards and channels: which is which, who is there, and in which order they get their pulses.

use crate::screen::calibrate::acts as calibrate;
use crate::screen::context::Context;
use crate::screen::errand::Step;
use crate::screen::form::{Field, Subject};
use crate::screen::pick::Pick;
use crate::screen::question::questions;
use crate::screen::scene::Picked;
use crate::screen::step::moved;
use wasvolta_core::rig::Board;
use wasvolta_core::rig::edit::roster as edit;
use wasvolta_core::stage::Command;
use wasvolta_sim::faults::Struck;

questions! {
    ASK_PORT("ask port") => |desk, _, form| {
        let path = form.word(0).to_owned();
        desk.session.runner.lookout.ask_port(&desk.session.document.rig, &path)?;
        Ok(format!("asking {path}: a board that was reset takes three seconds to speak"))
    };
    NAME_WIGGLED("which moved?") => |desk, about, form| {
        let said = renamed(desk, &about.of, form.word(0))?;
        desk.say(&said);
        name_next(desk);
        Ok(String::new())
    };
    SWAP("swap servos", label: "swap", words: |_, form| {
        let with = form.fields.first().map_or_else(String::new, |f| f.typing.shown());
        let servo = &form.subject.of;
        format!(
            "{servo} is on the channel of {with}, and that on its. Both are released, then engaged one by one."
        )
    }) => |desk, about, form| swap_with(desk, &about.of, form.word(0));
    FAULT("fault") => |desk, _, form| switch_fault(desk, form.word(0));
}

/// ← and →: the board beside.
pub fn change(desk: &mut Context, direction: f64) {
    let by = if direction < 0.0 { -1 } else { 1 };
    let edition = &desk.session.runner.edition;
    let (picked, channel) = desk.model.in_wiring.plug;
    let here = edition.index.boards.place(picked.id).unwrap_or(0);
    let board = Pick::at(&edition.rig.boards, moved(here, by, edition.rig.boards.len()));
    let channels =
        edition.board(board.id).map_or_else(Vec::new, |board| desk.model.scene(desk.session).channels(board));
    // The same channel there, or the nearest that it has.
    let nearest = channels.iter().min_by_key(|c| c.abs_diff(channel)).copied();
    desk.model.in_wiring.plug = (board, nearest.unwrap_or(0));
    pick_what_is_there(desk);
}

/// ↑ and ↓: the channel above or below; behind a board's last comes the next one's first.
pub fn channel(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let channels = |(n, board)| {
        scene.channels(board).into_iter().map(move |channel| (n, board, channel)).collect::<Vec<_>>()
    };
    let all: Vec<(usize, &Board, u8)> = scene.rig.boards.iter().enumerate().flat_map(channels).collect();
    let (picked, channel) = desk.model.in_wiring.plug;
    let here =
        all.iter().position(|(_, board, there)| (board.id, *there) == (picked.id, channel)).unwrap_or(0);
    if let Some(&(n, _, channel)) = all.get(moved(here, by, all.len())) {
        pick_channel(desk, n, channel);
    }
}

/// Picks a channel of a board by the board's place, and the servo that is there.
pub fn pick_channel(desk: &mut Context, board: usize, channel: u8) {
    desk.model.in_wiring.plug = (Pick::at(&desk.session.document.rig.boards, board), channel);
    pick_what_is_there(desk);
}

fn pick_what_is_there(desk: &mut Context) {
    if let Some((_, _, Some(place))) = desk.model.scene(desk.session).plug() {
        desk.model.servo = Pick::at(&desk.session.document.rig.servos, place);
    }
}

/// Moves the picked servo a little; one that is released is asked about first.
pub fn wiggle(desk: &mut Context) {
    let engaged = desk.model.scene(desk.session).picked().is_some_and(|p| p.state.engaged);
    if engaged {
        desk.servo_command(|servo| Command::Wiggle { servo });
        let accessory = desk.model.scene(desk.session).picked().is_some_and(|p| p.servo.kind.is_accessory());
        desk.say(if accessory {
            "it blinks three times: is it the one you mean?"
        } else {
            "it moves a little back and forth, three times: is it the one you mean?"
        });
    } else {
        calibrate::engage(desk);
    }
}

/// Begins with the picked servo to name them one by one.
pub fn name_all(desk: &mut Context) {
    name_from(desk, desk.place().unwrap_or(0));
}

/// Goes on to the servo behind the picked one.
pub fn name_next(desk: &mut Context) {
    let next = desk.place().map_or(0, |place| place + 1);
    if next < desk.session.document.rig.servos.len() {
        name_from(desk, next);
    } else {
        desk.say("that was the last servo: each has its name");
    }
}

fn name_from(desk: &mut Context, servo: usize) {
    let Some(servo) = desk.session.document.rig.servos.get(servo).map(|servo| servo.id) else { return };
    desk.model.errands.begin([Step::Ask(servo), Step::Name(servo)]);
}

/// Wiggles the picked servo and asks which it was.
pub fn ask_which(desk: &mut Context) {
    let Some(name) = desk.servo().map(|s| s.name.clone()) else { return };
    desk.servo_command(|servo| Command::Wiggle { servo });
    let fields = vec![Field::new("name", name.clone(), "Enter keeps it and wiggles the next, Esc ends")];
    desk.ask(NAME_WIGGLED.name, Subject::of(&name), fields);
}

/// Asks which other servo is on the picked one's channel.
pub fn swap(desk: &mut Context) {
    let Some(name) = desk.servo().map(|servo| servo.name.clone()) else { return };
    let servos = &desk.session.document.rig.servos;
    let (before, behind) = servos.split_at(desk.place().unwrap_or(0).min(servos.len()));
    let Some(other) = behind.iter().skip(1).chain(before).next() else {
        return desk.refuse("there is no other servo to swap with; ‹move servo› moves this one");
    };
    let fields = vec![Field::new("with", other.name.clone(), "the servo that is on its channel")];
    desk.ask(SWAP.name, Subject::of(&name), fields);
}

/// Swaps two servos' plugs: both are released first, then those that were engaged get their channel's last pulse
/// again, one by one. What lies outside a servo's endpoints is not sent to it.
fn swap_with(desk: &mut Context, one: &str, other: &str) -> Result<String, String> {
    let scene = desk.model.scene(desk.session);
    let find = |name: &str| {
        let n = scene.rig.servos.iter().position(|s| s.name == name);
        let found = n.and_then(|n| Some((n, scene.servo(n)?)));
        found.ok_or_else(|| format!("no servo is called {name:?}"))
    };
    let (first, second) = (find(one)?, find(other)?);
    if first.0 == second.0 {
        return Err("a servo cannot change places with itself: name another".to_owned());
    }
    let mut steps: Vec<Step> =
        [first.1, second.1].map(|p| Step::Released { board: p.board.id, channel: p.servo.plug() }).into();
    let mut left_out = Vec::new();
    // Where a horn stands goes with its channel, for that is where its last pulse went.
    for (servo, channels_last) in [(first.1, second.1), (second.1, first.1)] {
        if !channels_last.state.engaged {
            continue;
        }
        let has_level = |p: &Picked| !p.servo.kind.has_angles();
        let pulse = if has_level(&servo) { servo.plan.start() } else { channels_last.wire_pulse() };
        // A lamp's pulse says nothing of where a horn stands.
        let unknown = has_level(&channels_last) && !has_level(&servo);
        if unknown || servo.plan.guard.bound(pulse).1.is_some() {
            left_out.push(servo.servo.name.clone());
            continue;
        }
        steps.push(Step::Engage { servo: servo.servo.id, pulse });
        steps.push(Step::Engaged(servo.servo.id));
    }
    let words = format!("{one} and {other} have changed places");
    // The stage releases what is on another channel than before.
    desk.session
        .edit(&words, |rig| edit::swap_servos(rig, one, other))
        .map_err(|refused| refused.to_string())?;
    desk.model.follow_servo(&desk.session.document.rig);
    desk.model.errands.begin(steps);
    Ok(match left_out.as_slice() {
        [] => words,
        names => {
            format!(
                "{words}; {} stays released: that channel's last pulse says nothing of where it stands",
                names.join(" and ")
            )
        }
    })
}

/// Takes a look at what is there.
pub fn look_around(desk: &mut Context) {
    let runner = &mut desk.session.runner;
    match runner.lookout.look_around(&runner.edition.rig, runner.simulated.as_ref()) {
        Ok(()) => desk.say("scanning, by reading only; serial ports stay unopened"),
        Err(error) => desk.refuse(&format!("the scan could not start: {error}")),
    }
}

/// Asks which serial port is to be asked; opening it is not without effect, and the question says so.
pub fn ask_port(desk: &mut Context) {
    let ports = &desk.session.document.rig.ports;
    let free = |path: &str| ports.iter().all(|port| port.path != path);
    let found = desk
        .session
        .runner
        .lookout
        .roots
        .serial_ports()
        .into_iter()
        .map(|port| port.way.path)
        .find(|path| free(path));
    let fields = vec![Field::new(
        "port",
        found.unwrap_or_default(),
        "opening it resets many boards: servos on it twitch",
    )];
    desk.ask(ASK_PORT.name, Subject::default(), fields);
}

/// Asks what is to be wrong with the simulated bench.
pub fn fault(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let place = scene.picked().map(|p| match p.board.address {
        Some(address) => format!("absent@{address:#04x}"),
        None if p.servo.kind.is_smart() => format!("mute@id{}", p.servo.plug()),
        None => "absent".to_owned(),
    });
    let place = place.unwrap_or_else(|| "absent".to_owned());
    let fields =
        vec![Field::new("fault", place, "KIND, KIND@0x40, KIND@0x40:3 or KIND@id3; the same again ends it")];
    desk.ask(FAULT.name, Subject::default(), fields);
}

/// Switches a fault of the simulated bench on, or off when it is on.
fn switch_fault(desk: &mut Context, said: &str) -> Result<String, String> {
    let fault: Struck = said.parse().map_err(|no: wasvolta_sim::faults::NoFault| no.to_string())?;
    let Some(simulated) = &desk.session.runner.simulated else {
        return Err("nothing is simulated here".to_owned());
    };
    let on = !simulated.faults().on().contains(&fault);
    simulated.faults().set(fault, on);
    Ok(if on { format!("simulated: {}", fault.kind.words()) } else { format!("{fault} is over") })
}

/// Gives a servo another name; where it stands is known by that too.
///
/// # Errors
/// In words, when the name cannot be.
pub fn renamed(desk: &mut Context, servo: &str, name: &str) -> Result<String, String> {
    if servo == name {
        return Ok(format!("{servo} keeps its name"));
    }
    let said = desk.done(&format!("{servo} is {name} now"), |rig| edit::rename_servo(rig, servo, name))?;
    desk.session.runner.last_known.copy(servo, name);
    Ok(said)
}
