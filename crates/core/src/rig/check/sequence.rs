//! What sequences speak of: poses, each other, inputs, and their own labels; and that none of them runs in a circle in
//! which no time passes.

use super::found::Found;
use super::names::Names;
use super::{Part, Path, range};
use crate::rig::{
    Awaited, Layer, Loop, OwnUnit, Parts, Sequence, Step, Switch, Test, Then, Times, Wait, What,
};
use crate::sequence::{LOOPS, MOST_CALLS, MOST_STEPS, size};
use crate::stage::PARAMETERS;
use crate::unit::Seconds;
use std::collections::HashMap;

/// Checks every sequence: its steps, its loops, what it calls.
pub(super) fn check(found: &mut Found, rig: Parts<'_>, names: &Names<'_>) {
    for (n, sequence) in rig.rig.sequences.iter().enumerate() {
        let first = found.0.len();
        one(found, (rig, names), (&Path::of("sequence", n), sequence));
        for problem in found.0.iter_mut().skip(first) {
            problem.message = format!("{}: {}", place(&problem.path, sequence), problem.message);
        }
    }
    found.unique("sequence", rig.rig.sequences.iter().map(|s| s.name.as_str()));
}

/// Where in a sequence something is, in words: `step 2 of strike`.
fn place(path: &Path, sequence: &Sequence) -> String {
    let name = &sequence.name;
    match path.0.get(2..4) {
        Some([Part::Key(list), Part::At(n)]) if list == "step" || list == "loop" => {
            format!("{list} {} of {name}", n + 1)
        }
        _ => name.clone(),
    }
}

fn one(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), (at, sequence): (&Path, &Sequence)) {
    found.name(at, &sequence.name);
    found.numbers(at, sequence);
    parameters(found, at, sequence);
    if sequence.at_most_deg.is_some() && sequence.layer != Layer::Added {
        let help = "remove the line, or write layer = \"added\"";
        found.say(at.key("at_most_deg"), "it adds to nothing", help);
    }
    labels(found, at, sequence);
    for (n, step) in sequence.steps.iter().enumerate() {
        self::step(found, (rig, names), (&at.key("step").at(n), sequence, step));
    }
    for (n, own) in sequence.loops.iter().enumerate() {
        repeated(found, (rig, names), (&at.key("loop").at(n), sequence, own));
    }
    crossing(found, at, sequence);
    if !called(found, rig, at, sequence) {
        timeless(found, rig, at, sequence);
    }
}

fn parameters(found: &mut Found, at: &Path, sequence: &Sequence) {
    let at = at.key("parameters");
    if sequence.parameters.len() > PARAMETERS {
        let message = format!("a sequence has {PARAMETERS} parameters at most");
        found.say(at.clone(), message, "remove some of them");
    }
    for name in sequence.parameters.keys() {
        if let Err(bad) = range::check_name(name) {
            found.say(at.key(name), bad.to_string(), "choose a shorter or plainer name");
        }
    }
}

fn labels(found: &mut Found, at: &Path, sequence: &Sequence) {
    let mut seen: HashMap<&str, usize> = HashMap::new();
    for (n, step) in sequence.steps.iter().enumerate() {
        let Some(label) = &step.label else { continue };
        let at = at.key("step").at(n).key("label");
        if let Err(bad) = range::check_name(label) {
            found.say(at.clone(), bad.to_string(), "choose a shorter or plainer label");
        }
        if let Some(first) = seen.insert(label, n) {
            let message = format!("a second step is labelled {label}: step {} is already", first + 1);
            found.say(at, message, "give one of them another label");
        }
    }
}

/// A label that one of the sequence's steps has.
fn known_label(found: &mut Found, at: Path, sequence: &Sequence, label: &str) -> bool {
    let known = sequence.labelled(label).is_some();
    if !known {
        let labels: Vec<&str> = sequence.steps.iter().filter_map(|step| step.label.as_deref()).collect();
        let help = if labels.is_empty() {
            format!("{} has no labels: write label = {label:?} on the step that is meant", sequence.name)
        } else {
            format!("{} has: {}", sequence.name, labels.join(", "))
        };
        found.say(at, format!("no step of {} is labelled {label:?}", sequence.name), help);
    }
    known
}

fn step(
    found: &mut Found,
    (rig, names): (Parts<'_>, &Names<'_>),
    (at, sequence, step): (&Path, &Sequence, &Step),
) {
    found.numbers(at, step);
    let Some(what) = step.what() else {
        let help = "write one of pose, play and wait_for";
        return found.say(at.clone(), "this is not a step", help);
    };
    let of_poses = [
        ("move_s", step.move_s.is_some()),
        ("speed_deg_s", step.speed_deg_s.is_some()),
        ("accel_deg_s2", step.accel_deg_s2.is_some()),
        ("easing", step.easing != crate::easing::Easing::default()),
        ("dwell_s", step.dwell_s != Seconds::ZERO),
        ("joint", !step.joints.is_empty()),
    ];
    if !matches!(what, What::Pose(_)) {
        for (key, _) in of_poses.into_iter().filter(|(_, is)| *is) {
            found.say(at.key(key), format!("only a step to a pose has {key}"), "remove it");
        }
    }
    if !step.with.is_empty() && !matches!(what, What::Play(_)) {
        found.say(at.key("with"), "only a step that plays a sequence gives parameters", "remove the line");
    }
    match what {
        What::Pose(pose) => {
            found.known(at.key("pose"), pose, &names.poses);
            self::pose(found, names, (at, step));
        }
        What::Play(name) => {
            if !found.known(at.key("play"), name, &names.sequences) {
                return;
            }
            let Some(other) = rig.sequence(name) else { return };
            for given in step.with.keys().filter(|given| !other.parameters.contains_key(*given)) {
                let there: Vec<&str> = other.parameters.keys().map(String::as_str).collect();
                let help = if there.is_empty() {
                    "it has none".to_owned()
                } else {
                    format!("it has: {}", there.join(", "))
                };
                found.say(at.key("with").key(given), format!("{name} has no parameter {given:?}"), help);
            }
        }
        What::Wait(wait) => {
            let at = at.key("wait_for");
            condition(found, (rig, names), (&at, wait));
            in_vain(found, (&at, sequence, wait));
        }
    }
}

/// A step to a pose has one time, and its joints arrive before it is over.
fn pose(found: &mut Found, names: &Names<'_>, (at, step): (&Path, &Step)) {
    if step.move_s.is_some() && step.speed_deg_s.is_some() {
        let help = "keep the time or the speed";
        found.say(at.key("speed_deg_s"), "the step has a time already", help);
    }
    for (joint, own) in &step.joints {
        let at = at.key("joint").key(joint);
        found.known(at.clone(), joint, &names.spoken);
        found.numbers(&at, own);
        let share = own.share.unwrap_or(1.0);
        if let Some(time) = step.move_s {
            let end = own.lag_s.get() + share * time.get();
            if end > time.get() + step.dwell_s.get() + 1e-9 {
                let message = format!("{joint} would arrive at {end:.2} s, after the step has ended");
                found.say(at, message, "shorten its lag or share, or lengthen the dwell");
            }
        }
    }
}

/// What is waited for is there, and can be so.
fn condition(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), (at, wait): (&Path, &Wait)) {
    found.numbers(at, wait);
    let Some(awaited) = wait.what() else {
        let help = "write input with one of pressed, above and below; or key = \"g\", or arrived_deg = 2";
        return found.say(at.clone(), "nothing is waited for", help);
    };
    if let Awaited::Arrived(_) = awaited {
        // One that hangs, or says nothing, would hold up the others for ever.
        if wait.at_most_s.is_none() {
            let help = "write at_most_s: it would wait for ever for a servo that is stuck";
            found.say(at.key("arrived_deg"), "an arrival that may never come", help);
        }
        return;
    }
    let Awaited::Input(input, test) = awaited else {
        if wait.held_s != Seconds::ZERO {
            found.say(at.key("held_s"), "a key can be pressed, not held", "remove the line");
        }
        return;
    };
    if !found.known(at.key("input"), input, &names.inputs) {
        return;
    }
    let Some(of) = rig.input(input) else { return };
    match test {
        Test::Pressed(_) if of.switch.as_ref().and_then(Switch::works).is_none() => {
            let help = "make it one: switch = { on_above = …, off_below = … }; or write above or below";
            found.say(at.key("input"), format!("{input} is not a switch"), help);
        }
        Test::Above(value) | Test::Below(value)
            if of.unit != Some(OwnUnit::Deg) && libm::fabs(value) > 1.0 =>
        {
            let key = if matches!(test, Test::Above(_)) { "above" } else { "below" };
            let help = "its shaped value is from -1 to 1, one-ended from 0 to 1";
            found.say(at.key(key), format!("{input} never is {value}"), help);
        }
        _ => {}
    }
}

/// What is done when it has not come.
fn in_vain(found: &mut Found, (at, sequence, wait): (&Path, &Sequence, &Wait)) {
    if wait.then != Then::GoOn && wait.at_most_s.is_none() {
        let help = "write at_most_s: without it, the wait never ends in vain";
        found.say(at.key("then"), "it never waits in vain", help);
    }
    match (&wait.to, wait.then) {
        (Some(label), Then::Jump) => {
            known_label(found, at.key("to"), sequence, label);
        }
        (None, Then::Jump) => {
            found.say(at.key("then"), "a jump into nothing", "write to = the label of a step");
        }
        (Some(_), _) => {
            found.say(at.key("to"), "it does not jump", "write then = \"jump\", or remove the line");
        }
        (None, _) => {}
    }
}

fn repeated(
    found: &mut Found,
    (rig, names): (Parts<'_>, &Names<'_>),
    (at, sequence, own): (&Path, &Sequence, &Loop),
) {
    let ends = [("from", &own.from), ("to", &own.to)];
    let known = ends.map(|(key, label)| known_label(found, at.key(key), sequence, label));
    if known == [true, true] && sequence.span(own).is_none() {
        let message = format!("{} stands behind {}", own.from, own.to);
        found.say(at.key("to"), message, "a loop goes from its first step to its last: swap the two");
    }
    match &own.times {
        Some(Times::Count(count)) => found.range(at.key("times"), &range::ROUNDS, f64::from(*count)),
        Some(Times::Parameter(name)) if !sequence.parameters.contains_key(name) => {
            let help = format!("write parameters = {{ {name} = 1 }} in {}", sequence.name);
            found.say(at.key("times"), format!("{} has no parameter {name:?}", sequence.name), help);
        }
        _ => {}
    }
    if let Some(until) = &own.until {
        let at = at.key("until");
        if let Some(Awaited::Arrived(_)) = until.what() {
            let help = "put a step that waits for it at the end of the loop";
            found.say(at.key("arrived_deg"), "a loop does not end by an arrival", help);
        } else {
            condition(found, (rig, names), (&at, until));
        }
        let waits = [
            ("at_most_s", until.at_most_s.is_some()),
            ("then", until.then != Then::GoOn),
            ("to", until.to.is_some()),
        ];
        for (key, _) in waits.into_iter().filter(|(_, is)| *is) {
            let help = "remove it: times says how often at most";
            found.say(at.key(key), "a loop checks its end, it does not wait for it", help);
        }
    }
}

/// Loops stand in each other or apart.
fn crossing(found: &mut Found, at: &Path, sequence: &Sequence) {
    let spans: Vec<Option<(usize, usize)>> = sequence.loops.iter().map(|own| sequence.span(own)).collect();
    for (n, own) in spans.iter().enumerate() {
        let Some((from, to)) = *own else { continue };
        let crosses = |other: &&Option<(usize, usize)>| {
            other.is_some_and(|(a, b)| (a < from && from <= b && b < to) || (from < a && a <= to && to < b))
        };
        if let Some(Some((a, b))) = spans.iter().take(n).find(crosses) {
            let message =
                format!("the loops of steps {} to {} and {} to {} cross", a + 1, b + 1, from + 1, to + 1);
            found.say(at.key("loop").at(n), message, "let one end before the other begins, or within it");
        }
    }
}

/// The calls end, and come to no more than can be played; whether they do not.
fn called(found: &mut Found, rig: Parts<'_>, at: &Path, sequence: &Sequence) -> bool {
    let deep = size(rig.rig, sequence);
    if let Some(steps) = deep.filter(|steps| *steps <= MOST_STEPS) {
        let loops = nested(rig, sequence, 0);
        if loops > LOOPS {
            let message = format!("loops are {loops} deep in each other, with those of what it plays");
            found.say(at.key("loop"), message, format!("{LOOPS} deep is the most"));
            return true;
        }
        return steps == 0;
    }
    // Said where the call is that leads there.
    let leads = |step: &Step| {
        let other = step.play.as_deref().and_then(|name| rig.sequence(name));
        other.is_some_and(|other| {
            other.name == sequence.name || reaches(rig, other, &sequence.name, MOST_CALLS)
        })
    };
    let place = sequence.steps.iter().position(leads);
    match (deep, place) {
        (None, Some(n)) => {
            let name = sequence.steps.get(n).and_then(|step| step.play.as_deref()).unwrap_or_default();
            let message = format!("it would play {name}, and so itself");
            found.say(at.key("step").at(n).key("play"), message, "let it play another one, or loop instead");
        }
        (None, None) => {
            let message = format!("it plays others more than {MOST_CALLS} deep, or one that plays itself");
            found.say(at.key("step"), message, "write the steps of one of them in its place");
        }
        (Some(_), _) => {
            let message = format!("with all that it plays it has more than {MOST_STEPS} steps");
            found.say(at.key("step"), message, "use loops instead of calls");
        }
    }
    true
}

/// Whether a sequence plays one of a name, through others too.
fn reaches(rig: Parts<'_>, sequence: &Sequence, name: &str, left: usize) -> bool {
    sequence.calls().any(|call| {
        call == name
            || left > 0 && rig.sequence(call).is_some_and(|other| reaches(rig, other, name, left - 1))
    })
}

/// How deep loops stand in each other, with those of what is played.
fn nested(rig: Parts<'_>, sequence: &Sequence, calls: usize) -> usize {
    let around = |n: usize| {
        let spans = sequence.loops.iter().filter_map(|own| sequence.span(own));
        spans.filter(|(from, to)| (*from..=*to).contains(&n)).count()
    };
    let of = |(n, step): (usize, &Step)| {
        let other = step.play.as_deref().and_then(|name| rig.sequence(name));
        around(n) + other.filter(|_| calls < MOST_CALLS).map_or(0, |other| nested(rig, other, calls + 1))
    };
    sequence.steps.iter().enumerate().map(of).max().unwrap_or(0)
}

/// Whether a step may take no time at all.
fn is_timeless(rig: Parts<'_>, step: &Step, calls: usize) -> bool {
    match step.what() {
        Some(What::Pose(_)) => step.move_s == Some(Seconds::ZERO) && step.dwell_s == Seconds::ZERO,
        Some(What::Wait(wait)) => wait.at_most_s == Some(Seconds::ZERO),
        Some(What::Play(name)) => rig.sequence(name).is_none_or(|other| {
            calls >= MOST_CALLS || other.steps.iter().all(|step| is_timeless(rig, step, calls + 1))
        }),
        None => true,
    }
}

/// Loops, jumps back, and what plays again take time.
fn timeless(found: &mut Found, rig: Parts<'_>, at: &Path, sequence: &Sequence) {
    let all_timeless = |from: usize, to: usize| {
        let steps = sequence.steps.get(from..=to).unwrap_or(&[]);
        steps.iter().all(|step| is_timeless(rig, step, 0))
    };
    let help = "give one of its steps a time, or a wait";
    for (n, own) in sequence.loops.iter().enumerate() {
        if let Some((from, to)) = sequence.span(own)
            && all_timeless(from, to)
        {
            let message = format!("the loop of steps {} to {} takes no time", from + 1, to + 1);
            found.say(at.key("loop").at(n), message, help);
        }
    }
    for (n, step) in sequence.steps.iter().enumerate() {
        let wait = step.wait_for.as_ref().filter(|wait| wait.then == Then::Jump);
        let to = wait.and_then(|wait| sequence.labelled(wait.to.as_deref()?));
        if let Some(to) = to.filter(|to| *to <= n)
            && all_timeless(to, n)
        {
            let message = format!("the jump back to step {} takes no time", to + 1);
            found.say(at.key("step").at(n).key("wait_for").key("to"), message, help);
        }
    }
    if sequence.at_end == crate::rig::AtEnd::Again
        && sequence.steps.iter().all(|step| is_timeless(rig, step, 0))
    {
        found.say(at.key("at_end"), "it would repeat without taking any time", help);
    }
}
