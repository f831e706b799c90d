//! What does not fit together in one servo, or in what else hangs on its channel.

use super::Path;
use super::found::Found;
use super::names::Names;
use crate::linkage::{FourBar, Transmission};
use crate::rig::{Board, Ends, Idle, Kind, Layout, Mark, MarkKind, Parts, Rated, Servo};
use crate::unit::{Micros, Position};
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
        let key = if servo.kind.is_smart() { "endpoints_counts" } else { "endpoints_us" };
        endpoints(found, &at.key(key), board, servo);
    }
    units(found, at, servo);
    if servo.kind.turns_on() {
        neutral(found, at, servo);
    }
    if let Some(rated) = &servo.rated {
        check_rated(found, &at.key("rated"), servo.kind, rated);
    }
    for (m, mark) in servo.marks.iter().enumerate() {
        check_mark(found, at.key(marks).at(m), mark, servo.kind);
    }
    for (m, exercise) in servo.exercised.iter().enumerate() {
        let at = at.key("exercised").at(m);
        found.word(at.key("on"), "a day", &exercise.on);
        found.numbers(&at, exercise);
        let key = if servo.kind.is_smart() { "over_counts" } else { "over_us" };
        place_ends(found, &at.key(key), servo.kind, exercise.over());
        let given =
            [("over_us", exercise.over_us.is_some()), ("over_counts", exercise.over_counts.is_some())];
        one_unit(found, &at, servo.kind, given);
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
                "with this ratio the joint does not turn",
                "give the joint's degrees for one of the servo",
            );
        }
        if servo.linkage.is_some() {
            found.say(at, "there are both a gear and a linkage", "keep one of the two");
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
    let given = [("channel", servo.channel.is_some()), ("id", servo.bus_id.is_some())];
    one_unit(found, &at, servo.kind, given);
    if let Some(board) = board.filter(|board| board.chip.row().is_smart != servo.kind.is_smart()) {
        let (message, help) = if servo.kind.is_smart() {
            (format!("{} is a {}; a smart servo needs a smart bus", board.name, board.chip.word()), "")
        } else {
            let message = format!("{} is a smart bus; only smart servos hang there", board.name);
            (message, "write kind = \"smart\", or ")
        };
        return found.say(at.key("board"), message, format!("{help}put it on another board"));
    }
    let (key, plug) = (if servo.kind.is_smart() { "id" } else { "channel" }, servo.plug());
    let layout = board.and_then(|board| Layout::named(rig.rig, board.layout.as_deref()?));
    // The greatest id of packets of form 2 is one less.
    let channels = channels - u8::from(layout.is_some_and(|layout| layout.form == 2));
    if plug >= channels {
        let message = format!("{key} is {plug}, outside 0 to {}", channels - 1);
        found.say(at.key(key), message, format!("give a number from 0 to {}", channels - 1));
    }
    match plugs.entry((servo.board.as_str(), plug)) {
        Entry::Occupied(twin) => {
            let message = format!("{} is on {key} {plug} of {} too", twin.get(), servo.board);
            let help = if servo.kind.is_smart() {
                "two servos never share an id: give one of them another"
            } else {
                "move one of them to the channel its plug is really on"
            };
            found.say(at.key(key), message, help);
        }
        Entry::Vacant(free) => {
            free.insert(&servo.name);
        }
    }
}

/// Of two keys that say the same in two units the one is written that a kind has, and the other never.
fn one_unit(found: &mut Found, at: &Path, kind: Kind, [pulses, counts]: [(&str, bool); 2]) {
    let (wanted, other) = if kind.is_smart() { (counts, pulses) } else { (pulses, counts) };
    let what = if kind.is_smart() { "a smart servo gets counts" } else { "it is not a smart servo" };
    if other.1 {
        let help =
            if wanted.1 { "remove the line".to_owned() } else { format!("write {} in its place", wanted.0) };
        found.say(at.key(other.0), format!("{what}: {} means nothing here", other.0), help);
    } else if !wanted.1 {
        found.say(at.clone(), format!("there is no {}", wanted.0), format!("write {} = …", wanted.0));
    }
}

/// What is in the other unit than the kind's.
fn units(found: &mut Found, at: &Path, servo: &Servo) {
    let smart = servo.kind.is_smart();
    if smart {
        let given = [
            ("endpoints_us", servo.endpoints_us != Ends::cautious()),
            ("endpoints_counts", servo.endpoints_counts.is_some()),
        ];
        one_unit(found, at, servo.kind, given);
    }
    let others = [
        ("endpoints_counts", !smart && servo.endpoints_counts.is_some(), "endpoints_us"),
        ("centre_us", smart && servo.centre_us.is_some(), "centre_counts"),
        ("centre_counts", !smart && servo.centre_counts.is_some(), "centre_us"),
    ];
    for (key, _, wanted) in others.into_iter().filter(|(_, given, _)| *given) {
        let what = if smart { "a smart servo gets counts" } else { "it is not a smart servo" };
        let message = format!("{what}: {key} means nothing here");
        found.say(at.key(key), message, format!("write {wanted} in its place"));
    }
    if !smart && servo.model.is_some() {
        found.say(at.key("model"), "only a smart servo says which model it is", "remove the line");
    }
}

fn check_mark(found: &mut Found, at: Path, mark: &Mark, kind: Kind) {
    found.numbers(&at, mark);
    if !kind.is_accessory() {
        let given = [("pulse_us", mark.pulse_us.is_some()), ("counts", mark.counts.is_some())];
        one_unit(found, &at, kind, given);
    }
    match (kind.turns_on(), mark.seen) {
        _ if kind.is_accessory() => {}
        (true, MarkKind::Turns) if mark.rpm.is_none() => {
            found.say(at, "a mark of how it turns needs its rate", "add rpm, or say how it was seen");
        }
        (true, MarkKind::Aligned) => {
            found.say(
                at,
                "a continuous servo has no angles to mark",
                "remove the mark, or make it positional",
            );
        }
        (false, MarkKind::Turns) => {
            found.say(
                at,
                "a positional servo does not turn without end",
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
        found.say(at.key("arming"), "only a continuous servo is armed", help);
    }
    if servo.idle != Idle::default() {
        found.say(at.key("idle"), "only a continuous servo has an idle state", "remove the line");
    }
    if servo.draw_a.is_some() {
        found.say(at.key("draw_a"), "the current of a servo belongs in rated", "write rated.stall_a instead");
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
        found.say(at.key(key), format!("a {word} channel has no servo pulses"), "remove the line");
    }
}

/// What something without angles cannot have.
fn angles_of_none(found: &mut Found, at: &Path, servo: &Servo) {
    let word = servo.kind.word();
    if servo.gear.is_some() || servo.linkage.is_some() {
        let key = at.key(if servo.gear.is_some() { "gear" } else { "linkage" });
        found.say(key, format!("a {word} channel turns no joint"), "remove the line");
    }
    if !servo.marks.is_empty() && servo.kind.is_accessory() {
        let message = format!("a {word} channel has no angles to mark");
        found.say(at.key("marks"), message, "remove the marks, or make it positional");
    }
    if servo.rated.is_some() {
        let message = format!("a {word} channel has no rated travel");
        found.say(at.key("rated"), message, "write draw_a for what it draws at most");
    }
}

/// The pulses at which a continuous servo stands still, and is armed, lie between its endpoints.
fn neutral(found: &mut Found, at: &Path, servo: &Servo) {
    let Ends { low, high } = servo.ends();
    let outside = |pulse: Position| pulse < low || pulse > high;
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
    if let Some(pulse) = arming.pulse_us.filter(|pulse| outside(pulse.place())) {
        let message = format!("its arming pulse {} µs is not between its endpoints", pulse.get());
        found.say(at.key("pulse_us"), message, "widen endpoints_us, or correct it");
    }
}

fn endpoints(found: &mut Found, at: &Path, board: Option<&Board>, servo: &Servo) {
    let Ends { low, high } = servo.ends();
    place_ends(found, at, servo.kind, servo.ends());
    let Some((board, clock)) = board.and_then(|board| Some((board, board.clock()?))) else { return };
    if servo.kind.is_smart() {
        return;
    }
    let widest = clock.period() - Micros::new(50.0);
    if high.micros() > widest {
        let message = format!("{} µs does not fit in a frame of {:.0} Hz", high.get(), board.frame_hz.get());
        found.say(at.clone(), message, "lower the endpoint or the frame rate");
    }
    if let Some(least) = board.chip.least_pulse().filter(|least| low.micros() < *least) {
        let message = format!("a {} takes {} µs for degrees", board.chip.word(), low.get());
        found.say(
            at.clone(),
            message,
            format!("{} µs is the least it gives: raise the endpoint", least.get()),
        );
    }
    if low < high
        && let Err(error) = clock.quantise(low, low, high)
    {
        found.say(at.clone(), error.to_string(), "widen the endpoints");
    }
}

fn check_rated(found: &mut Found, at: &Path, kind: Kind, rated: &Rated) {
    found.numbers(at, rated);
    one_unit(found, at, kind, [("pulses_us", rated.pulses_us.is_some()), ("counts", rated.counts.is_some())]);
    place_ends(found, &at.key(if kind.is_smart() { "counts" } else { "pulses_us" }), kind, rated.over());
}

fn place_ends(found: &mut Found, at: &Path, kind: Kind, Ends { low, high }: Ends<Position>) {
    if low >= high {
        let what = if kind.is_smart() { "place" } else { "pulse" };
        let message = format!("the first {what} is not below the second");
        found.say(at.clone(), message, "write them as [low, high]");
    }
}
