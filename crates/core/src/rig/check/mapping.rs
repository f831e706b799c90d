//! What mappings and presses speak of, and whether two of them want one joint at a time.

use super::found::Found;
use super::names::Names;
use super::{Path, Range, range};
use crate::rig::{Does, Failsafe, Goal, GoalKind, Kind, Layer, Mapping, OwnUnit, Parts, Switch, While};
use std::collections::HashMap;

/// Every mapping, and what two of them have in common.
pub(super) fn check(found: &mut Found, rig: Parts<'_>, names: &Names<'_>) {
    for (n, mapping) in rig.rig.mappings.iter().enumerate() {
        one(found, (rig, names), (&Path::of("mapping", n), mapping));
    }
    found.unique("mapping", rig.rig.mappings.iter().map(|mapping| mapping.name.as_str()));
    shared(found, rig);
    once(found, rig);
}

/// One input alone says how fast what plays goes, and one where in a sequence.
fn once(found: &mut Found, rig: Parts<'_>) {
    let mut seen: HashMap<Option<&str>, &str> = HashMap::new();
    for (n, mapping) in rig.rig.mappings.iter().enumerate() {
        let place = match mapping.to.kind() {
            Some(GoalKind::Tempo) => None,
            Some(GoalKind::Place) => mapping.to.place.as_deref(),
            _ => continue,
        };
        if let Some(other) = seen.insert(place, &mapping.name) {
            let what = place.map_or_else(|| "the tempo".to_owned(), |place| format!("the place in {place}"));
            let message = format!("{other} and {} both set {what}", mapping.name);
            found.say(Path::of("mapping", n).key("to"), message, "remove one of the two");
        }
    }
}

fn one(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), (at, mapping): (&Path, &Mapping)) {
    found.name(at, &mapping.name);
    found.numbers(at, mapping);
    shares(found, (rig, names), (at, mapping));
    if let Some(only) = &mapping.only_while {
        let at = at.key("while");
        found.numbers(&at, only);
        position(found, (rig, names), &at, (&only.input, only.place()));
        if only.place().is_none() {
            found.say(
                at,
                "this is not a position",
                "write pressed = true or false, or position, counted from 1",
            );
        }
    }
    if let (Some(_), Some(_)) = (&mapping.failsafe, mapping.when_lost) {
        let help = "keep when_lost, or failsafe, which is where it goes then";
        found.say(at.key("when_lost"), "there are two rules for a lost link", help);
    }
    let goal_at = at.key("to");
    found.numbers(&goal_at, &mapping.to);
    let Some(kind) = mapping.to.kind() else {
        let help = "name one of joint, level, rate, blend, toggle, tempo_percent and place";
        return found.say(goal_at, "this is not a goal", help);
    };
    let driven = named(found, (rig, names), (&goal_at, &mapping.to, kind));
    if let Some(place) = &mapping.to.place
        && found.known(goal_at.key("place"), place, &names.sequences)
        && rig.sequence(place).is_some_and(|sequence| sequence.layer != Layer::Beside)
    {
        let help = "name one that plays beside others";
        found.say(goal_at.key("place"), format!("{place} is a layer, and has no place of its own"), help);
    }
    poses(found, names, (&goal_at, mapping, kind), rig);
    course(found, (rig, kind, driven), (&goal_at, mapping));
    if let Some(failsafe) = &mapping.failsafe {
        check_failsafe(found, names, (&at.key("failsafe"), failsafe), kind);
    }
}

/// Its inputs: of one kind, and one switch for a toggle.
fn shares(found: &mut Found, (rig, names): (Parts<'_>, &Names<'_>), (at, mapping): (&Path, &Mapping)) {
    let at = at.key("from");
    if mapping.from.is_empty() {
        found.say(at.clone(), "no input moves it", "write from = { INPUT = 1 }");
    }
    for input in mapping.from.keys() {
        found.known(at.key(input), input, &names.inputs);
    }
    let inputs: Vec<_> = mapping.from.keys().filter_map(|input| rig.input(input)).collect();
    let in_degrees = inputs.iter().filter(|input| input.unit == Some(OwnUnit::Deg)).count();
    if in_degrees > 0 && (in_degrees < inputs.len() || mapping.to.kind() != Some(GoalKind::Joint)) {
        let help = "inputs in degrees move a joint, each by itself";
        found.say(at.clone(), "an input in degrees cannot have a share here", help);
    }
    if mapping.to.kind() == Some(GoalKind::Toggle) && inputs.iter().any(|input| input.switch.is_none())
        || mapping.to.kind() == Some(GoalKind::Toggle) && inputs.len() > 1
    {
        found.say(at, "a toggle follows the presses of one switch", "give it one input that is a switch");
    }
}

/// An input that is a switch, with a position that it has.
fn position(
    found: &mut Found,
    (rig, names): (Parts<'_>, &Names<'_>),
    at: &Path,
    (input, place): (&str, Option<u8>),
) {
    if !found.known(at.key("input"), input, &names.inputs) {
        return;
    }
    let switch = rig.input(input).and_then(|input| input.switch.as_ref()).and_then(Switch::works);
    match (switch, place) {
        (None, _) => {
            let help = "make it one: switch = { on_above = …, off_below = … }, or positions";
            found.say(at.key("input"), format!("{input} is not a switch"), help);
        }
        (Some(switch), Some(place)) if usize::from(place) >= switch.positions() => {
            let message = format!("{input} has {} positions", switch.positions());
            found.say(at.clone(), message, "give one of them, counted from 1");
        }
        _ => {}
    }
}

/// What the goal names itself, and what that is.
fn named(
    found: &mut Found,
    (rig, names): (Parts<'_>, &Names<'_>),
    (at, goal, kind): (&Path, &Goal, GoalKind),
) -> Option<Kind> {
    let name = goal.name()?;
    let at = at.key(kind.word());
    let level = rig.servo(name).filter(|servo| servo.kind.levels().is_some());
    match (kind, level) {
        (GoalKind::Rate, Some(servo)) if servo.kind.turns_on() => Some(servo.kind),
        (GoalKind::Joint | GoalKind::Rate, _) => {
            found.known(at, name, &names.joints).then_some(Kind::Positional)
        }
        (GoalKind::Level, Some(servo)) if servo.kind.turns_on() => {
            let message = format!("{name} is continuous: it gets a rate");
            found.say(at, message, "write rate in place of level");
            None
        }
        (_, level) => {
            found.known(at, name, &names.levels);
            level.map(|servo| servo.kind)
        }
    }
}

fn poses(
    found: &mut Found,
    names: &Names<'_>,
    (at, mapping, kind): (&Path, &Mapping, GoalKind),
    rig: Parts<'_>,
) {
    let goal = &mapping.to;
    if !kind.has_poses() {
        if !goal.joints.is_empty() {
            let help = "remove the line: it is for a blend or a toggle";
            found.say(at.key("joints"), "its poses name what it moves already", help);
        }
        return;
    }
    let known = goal
        .poses()
        .iter()
        .enumerate()
        .filter(|(n, pose)| found.known(at.key(kind.word()).at(*n), pose, &names.poses))
        .count();
    let wanted = if kind == GoalKind::Toggle { 2..=2 } else { 2..=64 };
    if !wanted.contains(&goal.poses().len()) {
        let message =
            if kind == GoalKind::Toggle { "a toggle has two poses" } else { "a blend has 2 to 64 poses" };
        found.say(at.key(kind.word()), message, "name them in the order in which they follow each other");
    }
    let moved = rig.moved_by(mapping);
    if known == goal.poses().len() && moved.is_empty() && goal.joints.is_empty() {
        found.say(
            at.key(kind.word()),
            "these poses have no joint in common",
            "name poses that share a joint",
        );
    }
    for (n, joint) in goal.joints.iter().enumerate() {
        if !moved.contains(&joint.as_str()) {
            let message = format!("{joint} is not in all of these poses");
            found.say(at.key("joints").at(n), message, "remove it, or add it to the poses");
        }
    }
}

/// The range of what a goal is told in its own unit, and the key under which its two ends stand.
const fn told(kind: GoalKind, driven: Option<Kind>) -> Option<(&'static Range, &'static str)> {
    match (kind, driven) {
        (GoalKind::Joint, _) => Some((&range::ANGLE, "angles_deg")),
        (GoalKind::Level, _) => Some((&range::LEVEL, "levels_percent")),
        (GoalKind::Rate, Some(Kind::Continuous)) => Some((&range::RATE_LEVEL, "levels_percent")),
        (GoalKind::Rate, _) => Some((&range::TURN_RATE, "rates_deg_s")),
        (GoalKind::Blend, _) => Some((&range::LEVEL, "points")),
        (GoalKind::Tempo, _) => Some((&range::TEMPO, "tempo_percent")),
        (GoalKind::Toggle | GoalKind::Place, _) => None,
    }
}

/// Two ends in the goal's unit, or points, or nothing where the input is in that unit already.
fn course(
    found: &mut Found,
    (rig, kind, driven): (Parts<'_>, GoalKind, Option<Kind>),
    (at, mapping): (&Path, &Mapping),
) {
    let goal = &mapping.to;
    let said = [
        ("angles_deg", goal.angles_deg.is_some()),
        ("levels_percent", goal.levels_percent.is_some()),
        ("rates_deg_s", goal.rates_deg_s.is_some()),
        ("tempo_percent", goal.tempo_percent.is_some()),
        ("points", !goal.points.is_empty()),
    ];
    let told = told(kind, driven);
    let own = told.map_or("", |(_, key)| key);
    for (key, _) in said.into_iter().filter(|(key, is)| *is && *key != own && *key != "points") {
        let help = if own.is_empty() { "remove the line".to_owned() } else { format!("write {own} instead") };
        found.say(at.key(key), format!("a goal that is a {} has no {key}", kind.word()), help);
    }
    if goal.over_s.is_some() && kind != GoalKind::Toggle {
        found.say(at.key("over_s"), "only a toggle has a time", "remove the line");
    }
    let in_degrees =
        mapping.from.keys().filter_map(|input| rig.input(input)).any(|input| input.unit.is_some());
    let ways = said.into_iter().filter(|(_, is)| *is).count();
    let (least, most) = match kind {
        GoalKind::Toggle | GoalKind::Place => (0, 0),
        _ if in_degrees => (0, 0),
        GoalKind::Blend => (0, 1),
        _ => (1, 1),
    };
    if ways > most && !own.is_empty() {
        let help =
            if most == 0 { "remove it: the input is in degrees" } else { "keep the two ends, or the points" };
        found.say(at.clone(), "the goal has two courses", help);
    } else if ways > most {
        found.say(at.key("points"), format!("a {} has no course", kind.word()), "remove the line");
    } else if ways < least {
        let help = format!("write {own} = [at -1, at 1], or points");
        found.say(at.clone(), "the goal has no course", help);
    }
    let Some((range, _)) = told else { return };
    for (n, (_, value)) in goal.points.iter().enumerate() {
        found.range(at.key("points").at(n), range, *value);
    }
    let rising = goal.points.windows(2).all(|pair| pair[1].0 > pair[0].0);
    let inside = goal.points.iter().all(|(from, _)| from.abs() <= 1.0);
    if !goal.points.is_empty() && (goal.points.len() < 2 || !rising || !inside) {
        let help = "two points or more, ordered, from -1 to 1";
        found.say(at.key("points"), "this is not a course", help);
    }
    if let Some(levels) = goal.levels_percent.filter(|_| own == "levels_percent") {
        for (n, level) in [levels.low, levels.high].into_iter().enumerate() {
            found.range(at.key("levels_percent").at(n), range, level.get());
        }
    }
}

fn check_failsafe(found: &mut Found, names: &Names<'_>, (at, failsafe): (&Path, &Failsafe), kind: GoalKind) {
    found.numbers(at, failsafe);
    let said = [
        ("angle_deg", failsafe.angle_deg.is_some()),
        ("level_percent", failsafe.level_percent.is_some()),
        ("pose", failsafe.pose.is_some()),
    ];
    let own = match kind {
        GoalKind::Joint => "angle_deg",
        GoalKind::Level => "level_percent",
        GoalKind::Blend | GoalKind::Toggle => "pose",
        GoalKind::Rate | GoalKind::Tempo | GoalKind::Place => "",
    };
    let is_own = said.iter().all(|(key, is)| *is == (*key == own));
    if own.is_empty() {
        let help = "remove it: when_lost may be \"home\" or \"release\"";
        let message = if kind == GoalKind::Rate {
            "a rate stops when its link is lost"
        } else {
            "a tempo or a place stays as it is when its link is lost"
        };
        found.say(at.clone(), message, help);
    } else if !is_own {
        let message = format!("this failsafe does not fit a goal that is a {}", kind.word());
        found.say(at.clone(), message, format!("write {own} and over_s"));
    }
    if let Some(pose) = failsafe.pose.as_deref().filter(|_| own == "pose") {
        found.known(at.key("pose"), pose, &names.poses);
    }
}

/// A joint has one owner at a time: of the mappings that move it no two may hold at once.
fn shared(found: &mut Found, rig: Parts<'_>) {
    let mut movers: HashMap<&str, Vec<usize>> = HashMap::new();
    let mut met = Vec::new();
    for (n, mapping) in rig.rig.mappings.iter().enumerate() {
        for name in rig.moved_by(mapping) {
            let movers = movers.entry(name).or_default();
            if movers.is_empty() {
                met.push(name);
            }
            movers.push(n);
        }
    }
    for name in met {
        let Some([first, others @ ..]) = movers.get(name).map(Vec::as_slice) else { continue };
        let of = |n: usize| rig.rig.mappings.get(n);
        let held = |n: usize| of(n)?.only_while.as_ref();
        // By the position of the one switch that all of them look at: two that hold there are in each other's way.
        let mut by_place = HashMap::from([(held(*first).and_then(While::place), *first)]);
        for &n in others {
            let switch = |n: usize| held(n).map(|only| only.input.as_str());
            let apart = switch(n).is_some() && switch(n) == switch(*first);
            let place = held(n).and_then(While::place);
            let other = if apart { by_place.insert(place, n) } else { Some(*first) };
            if let (Some(other), Some(mapping)) = (other.and_then(of), of(n)) {
                let message = format!("{} and {} both move {name}", other.name, mapping.name);
                let help =
                    "give both a while, with another position of one switch each; or remove one of the two";
                found.say(Path::of("mapping", n).key("to"), message, help);
            }
        }
    }
}

/// What presses do.
pub(super) fn presses(found: &mut Found, rig: Parts<'_>, names: &Names<'_>) {
    let mut acts = HashMap::new();
    for (n, press) in rig.rig.presses.iter().enumerate() {
        let at = Path::of("press", n);
        found.numbers(&at, press);
        position(found, (rig, names), &at, (&press.input, Some(press.place())));
        if let Some(other) = acts.insert((press.input.as_str(), press.place()), press.does) {
            let message = format!("{} already does {} there", press.input, other.word());
            found.say(at.clone(), message, "a press does one thing: remove one of the two");
        }
        let wanted = match press.does {
            Does::Play => "sequence",
            Does::Keep => "pose",
            Does::Stop | Does::Hold | Does::Cut => "",
        };
        for (key, said) in [("sequence", press.sequence.is_some()), ("pose", press.pose.is_some())] {
            if said && key != wanted {
                let message = format!("a press that does {} has no {key}", press.does.word());
                found.say(at.key(key), message, "remove the line");
            } else if !said && key == wanted {
                let help = format!("write {key} = \"…\"");
                found.say(at.key("does"), format!("{} needs a {key}", press.does.word()), help);
            }
        }
        if let Some(sequence) = press.sequence.as_deref().filter(|_| press.does == Does::Play) {
            found.known(at.key("sequence"), sequence, &names.sequences);
        }
        if let Some(pose) = press.pose.as_deref()
            && let Err(bad) = range::check_name(pose)
        {
            found.say(at.key("pose"), bad.to_string(), "choose a shorter or plainer name");
        }
    }
}
