//! Actions on inputs: changing a stage, tying an input to a joint, the simulated plug.

use super::goals;
use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::pick::Pick;
use crate::screen::scene::{Scene, Sending};
use crate::screen::step::moved;
use wasvolta_core::rig::edit::{self, mappings};
use wasvolta_core::rig::{Ends, Goal, Input, Mapping, OwnUnit, Pressed, Rig, Switch};
use wasvolta_core::unit::Percent;
use wasvolta_sim::{Mood, StandIn};

/// Which input, of how many.
pub fn which(scene: &Scene) -> String {
    let here = scene.input_place();
    let place = listed(scene.rig).iter().position(|place| Some(*place) == here).map_or(0, |place| place + 1);
    format!("{} ({place} of {})", scene.input().map_or("–", |input| &input.name), scene.rig.inputs.len())
}

/// Goes on to another input, in the order in which they are listed.
pub fn next_input(desk: &mut Context, by: isize) {
    let edition = &desk.session.runner.edition;
    let order = listed(&edition.rig);
    let here = edition.index.inputs.place(desk.model.input.id);
    let at = order.iter().position(|place| Some(*place) == here).unwrap_or(0);
    let Some(place) = order.get(moved(at, by, order.len())) else { return };
    desk.model.input = Pick::at(&edition.rig.inputs, *place);
    desk.model.in_inputs.strip.clear();
}

/// Inputs by their places, link by link.
pub fn listed(rig: &Rig) -> Vec<usize> {
    let link = |input: &Input| rig.links.iter().position(|link| link.name == input.link);
    let mut order: Vec<usize> = (0..rig.inputs.len()).collect();
    order.sort_by_cached_key(|place| rig.inputs.get(*place).and_then(link));
    order
}

/// What sends it is simulated, and has a control behind it.
pub fn is_simulated(scene: &Scene) -> bool {
    scene.sender.is_some_and(|sender| sender.at.is_some())
}

/// Where the simulated control stands.
pub fn turned(scene: &Scene) -> String {
    let fares = match scene.sender {
        Some(Sending { plugged: false, .. }) | None => "plug is out",
        Some(Sending { mood: Mood::Well, .. }) => "simulated",
        Some(Sending { mood, .. }) => mood.word(),
    };
    let at = scene.sender.and_then(|sender| sender.at).unwrap_or(0.0);
    format!("{:.0} %, {fares}", at * 100.0)
}

/// Turns the simulated control.
pub fn turn(desk: &mut Context, by: isize) {
    const STEPS: [f64; 6] = [0.01, 0.01, 0.02, 0.05, 0.1, 0.2];
    let step = STEPS.get(desk.model.nudge).copied().unwrap_or(0.05);
    turn_by(desk, if by > 0 { step } else { -step });
}

/// Turns the simulated control to a place.
pub fn turn_to(desk: &mut Context, text: &str) -> Result<(), String> {
    let text = text.trim();
    let share = match text.strip_suffix('%') {
        Some(percent) => entry::plain(percent.trim_end())? / 100.0,
        None => entry::plain(text)?,
    };
    let at = desk.model.scene(desk.session).sender.and_then(|sender| sender.at).unwrap_or(0.0);
    turn_by(desk, share - at);
    Ok(())
}

fn turn_by(desk: &mut Context, by: f64) {
    let Some((link, channel)) = desk.input().map(|input| (input.link.clone(), input.channel.clone())) else {
        return;
    };
    if let Some(sender) = desk.session.runner.sender(&link) {
        sender.turn(&channel, by);
    }
}

/// What its raw values are.
pub fn unit(scene: &Scene) -> String {
    match scene.input().and_then(|input| input.unit) {
        Some(OwnUnit::Deg) => "degrees of the joint".to_owned(),
        None => "its own, over its span".to_owned(),
    }
}

/// Its own, or degrees.
pub fn next_unit(desk: &mut Context, _: isize) {
    let Some(input) = desk.input().cloned() else { return };
    let unit = if input.unit.is_some() { None } else { Some(OwnUnit::Deg) };
    let words = if unit.is_some() { "its values are degrees" } else { "its values have a span" };
    desk.edit(&format!("{}: {words}", input.name), |rig| {
        edit::change_input(rig, &input.name, |input| input.unit = unit)
    });
}

/// How it is pressed.
pub fn pressed(scene: &Scene) -> String {
    match scene.input().and_then(|input| input.switch.as_ref()) {
        None => "no switch".to_owned(),
        Some(switch) => match (switch.on_above, switch.on_below) {
            (Some(on), _) => format!("above {}", on + 0.0),
            (_, Some(on)) => format!("below {}", on + 0.0),
            _ => format!("{} positions", switch.positions.len()),
        },
    }
}

/// No switch, one that reads more when it is pressed, one that reads less: to the next of them, and round.
fn press_the_other_way(desk: &mut Context, input: &Input) {
    let round = [None, Some(Pressed::High), Some(Pressed::Low)];
    let here = input.switch.as_ref().and_then(Switch::pressed);
    let at = round.iter().position(|pressed| *pressed == here).unwrap_or(0);
    let next = round[(at + 1) % round.len()];
    let switch = next.map(|pressed| Switch {
        debounce_ms: input.switch.as_ref().map_or(Switch::USUAL_DEBOUNCE_MS, |switch| switch.debounce_ms),
        ..Switch::between(input.ends, pressed)
    });
    let words = switch.as_ref().map_or_else(|| "no switch".to_owned(), Switch::words);
    desk.edit(&format!("{}: {words}", input.name), |rig| {
        edit::change_input(rig, &input.name, |input| {
            // It has no rest in its middle then; one that is a stick again learns its own by V.
            input.centre = input.centre.filter(|_| switch.is_none());
            input.switch = switch;
        })
    });
}

/// Makes the picked input a switch; one that is a switch is pressed the other way, or is none.
pub fn make_switch(desk: &mut Context) {
    let Some(input) = desk.input().cloned() else { return };
    press_the_other_way(desk, &input);
}

/// Ties the input to what the picked servo turns, over all that it may, or unties it.
pub fn tie(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (Some(input), Some(picked)) = (scene.input(), scene.picked()) else { return };
    let Some(name) = scene.rig.spoken_name(picked.servo) else { return };
    let (input, name) = (input.name.clone(), name.to_owned());
    let tied = scene
        .rig
        .mappings_of(&name)
        .find(|own| own.to.name() == Some(&name) && own.from.contains_key(&input));
    if let Some(mapping) = tied.map(|own| own.name.clone()) {
        desk.edit(&format!("{name} untied from {input}"), |rig| {
            mappings::set_share(rig, &mapping, &input, None)
        });
        return;
    }
    let words = format!("{input} tied to {name}; ‹give back› gives it over");
    let done = if picked.servo.kind.has_angles() {
        let Some(line) = picked.plan.scale.as_ref() else { return };
        let (low, high) = picked.plan.guard.free();
        let (a, b) = (line.angle_at(low), line.angle_at(high));
        let span = if a < b { (a, b) } else { (b, a) };
        desk.edit(&words, |rig| mappings::tie(rig, &input, &name, span))
    } else {
        let all = |low: f64| Some(Ends { low: Percent::new(low), high: Percent::new(100.0) });
        let goal = if picked.servo.kind.turns_on() {
            Goal { rate: Some(name.clone()), levels_percent: all(-100.0), ..Goal::default() }
        } else {
            Goal { level: Some(name.clone()), levels_percent: all(0.0), ..Goal::default() }
        };
        let mapping = Mapping::of(&name, &input, goal);
        desk.edit(&words, |rig| mappings::add(rig, mapping))
    };
    if done {
        goals::pick(desk, |own| own.to.name() == Some(&name) && own.from.contains_key(&input));
    }
}

/// Gives the input a share in what moves the picked servo's joint already.
pub fn share(desk: &mut Context) {
    const FIRST: f64 = 0.2;
    let scene = desk.model.scene(desk.session);
    let (Some(input), Some(picked)) = (scene.input(), scene.picked()) else { return };
    let Some(name) = scene.rig.spoken_name(picked.servo) else { return };
    let input = input.name.clone();
    let Some(mapping) = scene.rig.mappings_of(name).next() else {
        let words = format!("nothing moves {name} yet: ‹tie› ties {input} to it");
        return desk.refuse(&words);
    };
    if mapping.from.contains_key(&input) {
        let words = format!("{input} has a share in {} already: the row weight changes it", mapping.name);
        return desk.refuse(&words);
    }
    let mapping = mapping.name.clone();
    let words = format!("{input} has a share of {FIRST} in {mapping}; the row weight changes it");
    if desk.edit(&words, |rig| mappings::set_share(rig, &mapping, &input, Some(FIRST))) {
        goals::pick(desk, |own| own.name == mapping);
    }
}

fn picked_sender(desk: &Context) -> Option<Box<dyn StandIn>> {
    let link = desk.model.scene(desk.session).input()?.link.clone();
    desk.session.runner.sender(&link)
}

/// Switches the simulated transmitter off, or on again: what its receiver says then is its protocol's way.
pub fn transmitter(desk: &mut Context) {
    let Some(sender) = picked_sender(desk) else { return };
    let (mood, words) = if sender.mood() == Mood::Off {
        (Mood::Well, "transmitter on again")
    } else {
        (Mood::Off, "transmitter off; ‹transmitter› switches it on again")
    };
    sender.set_mood(mood);
    desk.say(words);
}

/// Pulls the simulated plug, or puts it in again.
pub fn plug(desk: &mut Context) {
    let Some(sender) = picked_sender(desk) else { return };
    if sender.is_plugged() {
        sender.unplug();
        desk.say("plug pulled; ‹pull the plug› plugs it in again");
    } else {
        match sender.replug() {
            Ok(()) => desk.say("plugged in again"),
            Err(error) => desk.refuse(&format!("cannot simulate the line: {error}")),
        }
    }
}

/// Takes in where the picked input rests now.
pub fn take_rest(desk: &mut Context) {
    let Some((id, name)) = desk.input().map(|input| (input.id, input.name.clone())) else { return };
    let Some(rest) = desk.model.in_inputs.rests.moved(id) else { return };
    let rest = if rest.abs() >= 100.0 { rest.round() } else { (rest * 1e3).round() / 1e3 };
    desk.edit(&format!("{name} rests at {rest}"), |rig| {
        edit::change_input(rig, &name, |input| input.centre = Some(rest))
    });
}
