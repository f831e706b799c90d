//! What does not fit together in one servo, or in what else hangs on its channel.

use super::Path;
use super::found::Found;
use super::names::Names;
use crate::linkage::{FourBar, Transmission};
use crate::rig::{Board, Ends, Idle, Kind, Mark, MarkKind, Parts, Rated, Servo};
use crate::unit::Micros;
use std::collections::HashMap;
use std::collections::hash_map::Entry;

/// One servo, or what else hangs on its channel.
pub(super) fn check(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), n: usize, servo: &Servo) {
    let at = Path::of("servo", n);
    let board = names.boards.places.get(servo.board.as_str()).and_then(|n| rig.boards.get(*n));
    itself(found, &at, board, servo, "marks");
}

/// What is said of a servo wherever it is plugged in; on a board its pulses must fit that board's clock. `marks` is the
/// key that its marks stand under.
pub(in crate::rig) fn itself(
    found: &mut Found,
    at: &Path,
    board: Option<&Board>,
    servo: &Servo,
    marks: &str,
) {
    found.name(at, &servo.name);
    found.notes(at, "notes", &servo.notes);
    found.numbers(at, servo);
    if let Some(Ends { low: least, high: most }) = servo.volts
        && least > most
    {
        let message = "the least volts are above the greatest";
        found.say(at.key("volts"), message, "write them as [least, greatest]");
    }
    if servo.kind.has_angles() {
        levels_of_none(found, at, servo);
        between(found, at, servo);
    } else {
        angles_of_none(found, at, servo);
    }
    if servo.kind.is_accessory() {
        pulses_of_none(found, at, servo);
    } else {
        endpoints(found, &at.key("endpoints_us"), board, servo);
    }
    if servo.kind.turns_on() {
        neutral(found, at, servo);
    }
    if let Some(rated) = &servo.rated {
        check_rated(found, &at.key("rated"), rated);
    }
    for (m, mark) in servo.marks.iter().enumerate() {
        check_mark(found, at.key(marks).at(m), mark, servo.kind);
    }
    for (m, exercise) in servo.exercised.iter().enumerate() {
        let at = at.key("exercised").at(m);
        found.word(at.key("on"), "a day", &exercise.on);
        found.numbers(&at, exercise);
        pulse_ends(found, &at.key("over_us"), exercise.over_us);
        found.notes(&at, "seen", &exercise.seen);
    }
}

/// What is between a servo and its joint: one thing at most, and one that can be.
fn between(found: &mut Found, at: &Path, servo: &Servo) {
    if let Some(gear) = &servo.gear {
        let at = at.key("gear");
        found.numbers(&at, gear);
        if gear.ratio.abs() < 1e-3 {
            found.say(
                at.key("ratio"),
                "with this ratio nothing turns",
                "give the joint's degrees for one of the servo",
            );
        }
        if servo.linkage.is_some() {
            found.say(at, "there is a gear and a linkage", "keep one of the two");
        }
    }
    if let Some(bars) = &servo.linkage {
        linkage(found, &at.key("linkage"), bars);
    }
}

fn linkage(found: &mut Found, at: &Path, bars: &FourBar) {
    let before = found.0.len();
    found.numbers(at, bars);
    if found.0.len() == before
        && let Err(open) = Transmission::linked(*bars)
    {
        found.say(at.clone(), open.to_string(), "measure its four lengths and the horn's angle again");
    }
}

/// Where it is plugged in: on a board that is there, on a channel that it has and that is free.
pub(super) fn plug<'r>(
    found: &mut Found,
    (rig, names): (Parts<'r>, &Names<'_>),
    (n, servo): (usize, &'r Servo),
    plugs: &mut HashMap<(&'r str, u8), &'r str>,
) {
    let at = Path::of("servo", n);
    found.known(at.key("board"), &servo.board, &names.boards);
    let board = names.boards.places.get(servo.board.as_str()).and_then(|n| rig.boards.get(*n));
    let channels = board.map_or(16, |board| board.chip.channels());
    if servo.channel >= channels {
        let message = format!("channel is {}, outside 0 to {}", servo.channel, channels - 1);
        found.say(at.key("channel"), message, format!("give a number from 0 to {}", channels - 1));
    }
    match plugs.entry((servo.board.as_str(), servo.channel)) {
        Entry::Occupied(twin) => {
            let message = format!("{} is on channel {} of {} too", twin.get(), servo.channel, servo.board);
            found.say(at.key("channel"), message, "move one of them to the channel its plug is really on");
        }
        Entry::Vacant(free) => {
            free.insert(&servo.name);
        }
    }
}

fn check_mark(found: &mut Found, at: Path, mark: &Mark, kind: Kind) {
    found.numbers(&at, mark);
    match (kind.turns_on(), mark.seen) {
        _ if kind.is_accessory() => {}
        (true, MarkKind::Turns) if mark.rpm.is_none() => {
            found.say(at, "a mark of how it turns needs its rate", "add rpm, or say how it was seen");
        }
        (true, MarkKind::Aligned) => {
            found.say(
                at,
                "a continuous servo has no angles to be marked",
                "remove the mark, or make it positional",
            );
        }
        (false, MarkKind::Turns) => {
            found.say(
                at,
                "a positional servo does not turn on",
                "remove the mark, or write kind = \"continuous\"",
            );
        }
        (false, MarkKind::Aligned) if mark.angle_deg.is_none() => {
            found.say(at, "an aligned mark needs its angle", "add angle_deg, or say how it was seen");
        }
        _ => {}
    }
}

/// What a positional servo cannot have.
fn levels_of_none(found: &mut Found, at: &Path, servo: &Servo) {
    if servo.arming.is_some() {
        let help = "remove it, or write kind = \"continuous\"";
        found.say(at.key("arming"), "it is not continuous, and so is not armed", help);
    }
    if servo.idle != Idle::default() {
        found.say(at.key("idle"), "it is not continuous, and stands by itself", "remove the line");
    }
    if servo.draw_a.is_some() {
        found.say(at.key("draw_a"), "what a servo draws stands in rated", "write rated.stall_a instead");
    }
}

/// What an accessory cannot have: it gets a share of the frame, not a servo's pulse.
fn pulses_of_none(found: &mut Found, at: &Path, servo: &Servo) {
    let word = servo.kind.word();
    let pulses = [
        ("endpoints_us", servo.endpoints_us != Ends::cautious()),
        ("centre_us", servo.centre_us.is_some()),
        ("arming", servo.arming.is_some()),
    ];
    for (key, _) in pulses.into_iter().filter(|(_, given)| *given) {
        found.say(at.key(key), format!("a channel that is {word} has no servo pulses"), "remove the line");
    }
}

/// What something without angles cannot have.
fn angles_of_none(found: &mut Found, at: &Path, servo: &Servo) {
    let word = servo.kind.word();
    if servo.gear.is_some() || servo.linkage.is_some() {
        let key = at.key(if servo.gear.is_some() { "gear" } else { "linkage" });
        found.say(key, format!("what is {word} turns no joint"), "remove the line");
    }
    if !servo.marks.is_empty() && servo.kind.is_accessory() {
        let message = format!("what is {word} has no angles to be marked");
        found.say(at.key("marks"), message, "remove the marks, or make it positional");
    }
    if servo.rated.is_some() {
        let message = format!("what is {word} has no rated travel");
        found.say(at.key("rated"), message, "write draw_a for what it draws at most");
    }
}

/// The pulses at which a continuous servo stands still, and is armed, lie between its endpoints.
fn neutral(found: &mut Found, at: &Path, servo: &Servo) {
    let Ends { low, high } = servo.endpoints_us;
    let outside = |pulse: Micros| pulse < low || pulse > high;
    if outside(servo.centre()) {
        let message = format!("its stop pulse {} µs is not between its endpoints", servo.centre().get());
        found.say(at.key("centre_us"), message, "write as centre_us the pulse at which it stands still");
    }
    let Some(arming) = &servo.arming else { return };
    if servo.idle == Idle::Release {
        let help = "write idle = \"pulse\", or remove arming";
        found.say(at.key("idle"), "without pulses it would have to be armed anew each time", help);
    }
    let at = at.key("arming");
    found.numbers(&at, arming);
    if let Some(pulse) = arming.pulse_us.filter(|pulse| outside(*pulse)) {
        let message = format!("its arming pulse {} µs is not between its endpoints", pulse.get());
        found.say(at.key("pulse_us"), message, "widen endpoints_us, or correct it");
    }
}

fn endpoints(found: &mut Found, at: &Path, board: Option<&Board>, servo: &Servo) {
    let Ends { low, high } = servo.endpoints_us;
    pulse_ends(found, at, servo.endpoints_us);
    let Some(board) = board else { return };
    let widest = board.clock().period() - Micros::new(50.0);
    if high > widest {
        let message = format!("{} µs does not fit in a frame of {:.0} Hz", high.get(), board.frame_hz.get());
        found.say(at.clone(), message, "lower the endpoint or the frame rate");
    }
    if let Some(least) = board.chip.least_pulse().filter(|least| low < *least) {
        let message = format!("a {} takes {} µs for degrees", board.chip.word(), low.get());
        found.say(
            at.clone(),
            message,
            format!("{} µs is the least it gives: raise the endpoint", least.get()),
        );
    }
    if low < high
        && let Err(error) = board.clock().quantise(low, low, high)
    {
        found.say(at.clone(), error.to_string(), "widen the endpoints");
    }
}

fn check_rated(found: &mut Found, at: &Path, rated: &Rated) {
    found.numbers(at, rated);
    pulse_ends(found, &at.key("pulses_us"), rated.pulses_us);
}

fn pulse_ends(found: &mut Found, at: &Path, Ends { low, high }: Ends<Micros>) {
    if low >= high {
        found.say(at.clone(), "the first pulse is not below the second", "write them as [low, high]");
    }
}
