//! What there is to do in Inputs, step by step.

use crate::screen::advice::{Rule, when};
use crate::screen::inputs::{goals, rows, stand_in};
use crate::screen::scene::{Picked, Scene};
use wasvolta_core::link::Health;
use wasvolta_core::stage::{AsIf, MappingState, Owner, Stand};

/// What may be said here, in order.
pub const RULES: &[Rule] = &[
    no_input,
    stands_in,
    plug_out,
    silent,
    stuck,
    rest_moved,
    to_bend,
    presses,
    drives_nothing,
    elsewhere,
    cannot_follow,
    to_engage,
    in_hand,
    to_be_passed,
    drives,
];

fn no_input(scene: &Scene) -> Option<String> {
    let words = if scene.rig.links.is_empty() {
        "This rig has no link yet. ‹add link› adds one: a receiver, lines of numbers, datagrams, a wave."
    } else {
        "This rig has no input yet. ‹add input› adds one: move the one you mean."
    };
    when(scene.input().is_none(), words)
}

fn health(scene: &Scene) -> Health {
    scene.input().and_then(|input| scene.link_of(input)).map_or(Health::Absent, |linked| linked.state.health)
}

fn plug_out(scene: &Scene) -> Option<String> {
    let out = health(scene) == Health::Lost && scene.sender.is_some_and(|sender| !sender.plugged);
    when(out, format!("{} is lost: its plug is out. ‹pull the plug› plugs it in again.", scene.input()?.name))
}

fn silent(scene: &Scene) -> Option<String> {
    let (input, health) = (scene.input()?, health(scene));
    if !matches!(health, Health::Absent | Health::Lost) {
        return None;
    }
    let linked = scene.link_of(input)?;
    Some(match scene.link_trouble {
        Some(why) => format!("{} is {}: {why}. It is tried again by itself.", input.link, health.word()),
        None => {
            let why = linked.report.silence(scene.model.snapshot.now, linked.protocol);
            format!("{} on {}: {why}.", input.link, linked.link.on)
        }
    })
}

fn stuck(scene: &Scene) -> Option<String> {
    let name = &scene.input()?.name;
    let link = &scene.input()?.link;
    let words = format!(
        "{link} has sent the same values for a long time: a receiver may repeat its last frame. Move {name}: is it still alive?"
    );
    when(health(scene) == Health::Stuck, words)
}

fn rest_moved(scene: &Scene) -> Option<String> {
    let input = scene.input()?;
    let rest = scene.model.in_inputs.rests.moved(input.id)?;
    Some(format!(
        "{} rests at {rest:.0} now, not at {:.0}: was the transmitter's trim moved? ‹take the new rest› keeps the new rest.",
        input.name, input.centre?
    ))
}

/// On a row of a line that can be bent.
fn to_bend(scene: &Scene) -> Option<String> {
    let what = rows::bends(scene)?;
    rows::bendable(scene).ok()?;
    let name = &scene.input()?.name;
    Some(format!(
        "Turn {name} to where {what} should bend: ‹bend› puts a point there, ‹remove› takes the picked one out."
    ))
}

fn drives_nothing(scene: &Scene) -> Option<String> {
    let input = scene.input()?;
    let name = &input.name;
    let to = match (scene.rig.servos.as_slice(), scene.picked()) {
        ([_], Some(picked)) => format!("‹tie› ties it to {}", picked.servo.name),
        _ => "pick a servo with ‹servo above› ‹servo below›, then ‹tie› ties it".to_owned(),
    };
    // What is simulated keeps to the ends that it was made with.
    let ends = match &scene.sender {
        None if input.switch.is_none() => "‹watch› learns its ends while you move it; ",
        _ => "",
    };
    when(
        scene.mapping().is_none(),
        format!("{name} moves nothing: {ends}{to}; ‹add mapping› asks for more: a blend, a rate, a toggle."),
    )
}

fn stands_in(scene: &Scene) -> Option<String> {
    let input = scene.input()?;
    let by = scene.input_state(scene.input_place()?)?.as_if?;
    let how = match by {
        AsIf::Hand(_) => "The row stands at moves it".to_owned(),
        AsIf::Like(_) => stand_in::like(scene).map_or_else(
            || "The input that stood in for it is gone".to_owned(),
            |other| format!("It stands as {other} does"),
        ),
        AsIf::Wave { .. } => "A wave moves it".to_owned(),
    };
    Some(format!(
        "{} reads as if it were moved, whatever its link says. {how}; the row as if takes that off.",
        input.name
    ))
}

/// A switch that moves nothing itself may do something all the same.
fn presses(scene: &Scene) -> Option<String> {
    let name = &scene.input()?.name;
    let press = scene.rig.presses.iter().find(|press| press.input == *name)?;
    when(
        scene.mapping().is_none(),
        format!("A press of {name} {}. ‹press› asks for something else.", goals::does(press)),
    )
}

fn state<'a>(scene: &Scene<'a>) -> Option<&'a MappingState> {
    let place = scene.shown.index.mappings.place(scene.mapping()?.id)?;
    scene.model.snapshot.mappings.get(place)
}

fn elsewhere(scene: &Scene) -> Option<String> {
    let mapping = scene.mapping()?;
    let waits = state(scene)?.stand == Stand::Waits;
    when(waits, format!("{} holds only while {}: now it does not.", mapping.name, goals::only_while(scene)))
}

fn to_be_passed(scene: &Scene) -> Option<String> {
    let ((servo, joint), input) = (driven(scene)?, &scene.input()?.name);
    let longer = servo.state.picked_up_from()?;
    let falls = servo.plan.scale.as_ref().is_some_and(|scale| {
        let (low, high) = servo.plan.guard.endpoints;
        scale.falls(low, high)
    });
    let way = if longer == falls { "more" } else { "less" };
    Some(format!("{joint} stands until {input} passes it: turn {input} so that it asks for {way}."))
}

/// What the picked input drives, with the name that poses have for it.
fn driven<'a>(scene: &Scene<'a>) -> Option<(Picked<'a>, &'a str)> {
    let picked = scene.moved()?;
    Some((picked, scene.rig.spoken_name(picked.servo)?))
}

fn cannot_follow(scene: &Scene) -> Option<String> {
    let (servo, joint) = driven(scene)?;
    when(
        servo.plan.scale.is_none(),
        format!("{joint} has no angles yet and cannot follow: ‹Calibrate› calibrates it."),
    )
}

/// How a servo is picked, where it is not.
fn to_pick(scene: &Scene, servo: &Picked) -> &'static str {
    let is_picked = scene.picked().is_some_and(|picked| picked.servo.id == servo.servo.id);
    if is_picked { "" } else { "pick it with ‹servo above› ‹servo below›; " }
}

fn to_engage(scene: &Scene) -> Option<String> {
    let ((servo, joint), input) = (driven(scene)?, &scene.input()?.name);
    let pick = to_pick(scene, &servo);
    let words =
        format!("{joint} is not engaged: {pick}‹engage› engages it, then ‹give back› lets {input} drive it.");
    when(!servo.state.engaged, words)
}

fn in_hand(scene: &Scene) -> Option<String> {
    let ((servo, joint), input) = (driven(scene)?, &scene.input()?.name);
    let pick = to_pick(scene, &servo);
    let words = format!("The hand has {joint}: {pick}‹give back› gives it to {input}.");
    when(servo.state.owner == Owner::Hand, words)
}

fn drives(scene: &Scene) -> Option<String> {
    let (input, mapping) = (&scene.input()?.name, scene.mapping()?);
    let how = if scene.sender.is_some_and(|sender| sender.at.is_some()) {
        "On the row turn it, ‹less› ‹more› move what is simulated."
    } else {
        "‹row above› ‹row below› pick a stage, ‹less› ‹more› change it."
    };
    // Whoever was sent here to move a joint for the second step is told how that goes on.
    let next = match scene.rig.sequences.as_slice() {
        [] => " ‹Sequence› sets poses in time.",
        [only] if only.steps.len() == 1 => " ‹keep pose› keeps where it stands, for the next step.",
        _ => "",
    };
    Some(format!("{input} {}. {how}{next}", goals::drives(mapping)))
}
