//! Actions on poses, steps and playing.

use crate::screen::context::Context;
use crate::screen::dialog::{Dialog, Purpose};
use crate::screen::entry;
use crate::screen::pick::Pick;
use crate::screen::ready::keepable;
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use crate::screen::typing::Typing;
use std::time::Duration;
use wasvolta_core::easing::Easing;
use wasvolta_core::rig::edit;
use wasvolta_core::rig::{Kind, Step};
use wasvolta_core::stage::{Command, Output, Play};
use wasvolta_core::unit::{Degrees, Seconds};

/// The picked sequence's name and number of steps.
pub fn picked(desk: &Context) -> Option<(String, usize)> {
    let (sequence, _) = desk.model.scene(desk.session).sequence()?;
    Some((sequence.name.clone(), sequence.steps.len()))
}

/// Goes on to another sequence.
pub fn next_sequence(desk: &mut Context, by: isize) {
    let edition = &desk.session.runner.edition;
    let here = edition.index.sequences.place(desk.model.sequence.id).unwrap_or(0);
    let next = moved(here, by, edition.rig.sequences.len());
    desk.model.sequence = Pick::at(&edition.rig.sequences, next);
    desk.model.in_sequence.step = 0;
    desk.model.in_sequence.time = 0.0;
}

/// Goes on to another step.
pub fn step_by(desk: &mut Context, by: isize) {
    let steps = picked(desk).map_or(0, |(_, steps)| steps);
    pick_step(desk, moved(desk.model.in_sequence.step, by, steps));
}

/// Goes to the step of a number.
pub fn go_to_step(desk: &mut Context, text: &str) -> Result<(), String> {
    let wanted = entry::plain(text)?;
    let steps = picked(desk).map_or(0, |(_, steps)| steps);
    let found = (0..steps).find(|&n| wasvolta_core::unit::number(n + 1).to_bits() == wanted.to_bits());
    pick_step(desk, found.ok_or(format!("there are steps 1 to {steps}"))?);
    Ok(())
}

/// When the picked step begins, moves and dwells.
pub fn times(scene: &Scene) -> Option<(f64, f64, f64)> {
    let (_, line) = scene.sequence()?;
    let time = line.step(scene.model.in_sequence.step, scene.first_move())?;
    Some((time.starts, time.moves, time.dwells))
}

/// Changes the picked step of the picked sequence.
fn change_step(desk: &mut Context, what: &str, change: impl FnOnce(&mut Step)) {
    let Some((name, _)) = picked(desk) else { return };
    let at = desk.model.in_sequence.step;
    let words = format!("step {}: {what}", at + 1);
    desk.edit(&words, |rig| edit::change_step(rig, &name, at, change));
}

/// Sets how long the picked step moves.
pub fn set_move(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change_step(desk, &format!("move {seconds:.3} s"), |s| s.move_s = Some(Seconds::new(seconds)));
}

/// Sets how long the picked step stands.
pub fn set_dwell(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change_step(desk, &format!("dwell {seconds:.3} s"), |s| s.dwell_s = Seconds::new(seconds));
}

/// The picked step.
pub fn present_step(scene: &Scene) -> Option<Step> {
    let (sequence, _) = scene.sequence()?;
    sequence.steps.get(scene.model.in_sequence.step).cloned()
}

/// Gives the picked step another pose.
pub fn next_pose(desk: &mut Context, by: isize) {
    let Some(step) = present_step(&desk.model.scene(desk.session)) else { return };
    let poses = &desk.session.document.rig.poses;
    let here = poses.iter().position(|p| p.name == step.pose).unwrap_or(0);
    let Some(pose) = poses.get(moved(here, by, poses.len())).map(|p| p.name.clone()) else {
        return;
    };
    change_step(desk, &format!("pose {pose}"), |s| s.pose.clone_from(&pose));
}

/// Eases the picked step otherwise.
pub fn next_easing(desk: &mut Context, by: isize) {
    let Some(step) = present_step(&desk.model.scene(desk.session)) else { return };
    let here = Easing::ALL.iter().position(|e| *e == step.easing).unwrap_or(0);
    let Some(&easing) = Easing::ALL.get(moved(here, by, Easing::ALL.len())) else { return };
    change_step(desk, &format!("easing {}", easing.name()), |s| s.easing = easing);
}

/// Looks at a time; with output driving, the mechanism follows.
pub fn look_at(desk: &mut Context, time: Option<f64>) {
    let Some(time) = time else { return };
    let scene = desk.model.scene(desk.session);
    let first_move = scene.first_move();
    let Some((_, line)) = scene.sequence() else { return };
    let time = time.clamp(0.0, line.length(first_move));
    let step = line.step_at(time, first_move);
    desk.model.in_sequence.time = time;
    desk.model.in_sequence.step = step;
    if desk.model.snapshot.output == Output::Driving {
        let sequence = desk.model.sequence.id;
        let at = Duration::try_from_secs_f64(time).unwrap_or_default();
        desk.command(Command::Seek { sequence, at });
        return;
    }
    if desk.model.snapshot.player.play != Play::Stopped {
        desk.command(Command::StopPlaying);
    }
    desk.say("looking only: output is off, nothing moves");
}

pub fn pick_step(desk: &mut Context, step: usize) {
    let scene = desk.model.scene(desk.session);
    let first_move = scene.first_move();
    let arrives = scene.sequence().and_then(|(_, line)| line.step(step, first_move)).map(|s| s.arrives());
    desk.model.in_sequence.step = step;
    if let Some(time) = arrives {
        desk.model.in_sequence.time = time;
    }
}

/// Picks the next step, after the last the first.
pub fn next_step(desk: &mut Context) {
    if let Some((_, steps)) = picked(desk) {
        pick_step(desk, (desk.model.in_sequence.step + 1) % steps.max(1));
    }
}

/// Plays, stands still, or goes on.
pub fn play(desk: &mut Context) {
    let sequence = desk.model.sequence.id;
    let player = &desk.model.snapshot.player;
    if player.play == Play::Playing && player.sequence == sequence {
        return desk.command(Command::Pause);
    }
    desk.command(Command::Play { sequence });
    if desk.model.snapshot.output == Output::Driving {
        return;
    }
    desk.say("output is off: only the screen plays; e engages a servo");
}

/// Leaves the sequence.
pub fn stop(desk: &mut Context) {
    desk.command(Command::StopPlaying);
}

/// Inserts a step behind the picked one.
pub fn insert(desk: &mut Context) {
    let (name, at) = match picked(desk) {
        Some((name, 0)) => (name, 0),
        Some((name, _)) => (name, desk.model.in_sequence.step + 1),
        None => ("sequence-1".to_owned(), 0),
    };
    let first = desk.session.document.rig.poses.first().map(|p| p.name.clone());
    let Some(pose) = desk.model.in_sequence.last_pose.clone().or(first) else { return };
    if desk.edit(&format!("step {} inserted: {pose}", at + 1), |rig| edit::insert_step(rig, &name, at, &pose))
    {
        pick_step(desk, at);
    }
}

/// Takes the picked step out.
pub fn remove(desk: &mut Context) {
    let Some((name, steps)) = picked(desk) else { return };
    let at = desk.model.in_sequence.step;
    if desk.edit(&format!("step {} removed", at + 1), |rig| edit::remove_step(rig, &name, at)) {
        pick_step(desk, at.min(steps.saturating_sub(2)));
    }
}

/// Gives the picked step, or else the first short one, the time it needs.
pub fn stretch(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some((_, line)) = scene.sequence() else { return };
    let shorts = line.shorts(|n| scene.start_of(n));
    let here = desk.model.in_sequence.step;
    let step = shorts.iter().map(|s| s.step).find(|&s| s == here).or_else(|| shorts.first().map(|s| s.step));
    let Some(step) = step else { return desk.say("no step is short: every joint gets there in time") };
    let needs = shorts.iter().filter(|s| s.step == step).map(|s| s.needs).fold(0.0, f64::max);
    pick_step(desk, step);
    let needs = wasvolta_core::sequence::rounded_up(needs);
    change_step(desk, &format!("stretched to {needs:.2} s"), |s| s.move_s = Some(Seconds::new(needs)));
}

/// Asks for the name of a pose.
pub fn keep_pose(desk: &mut Context) {
    let taken = |n: usize| desk.session.document.rig.pose(&format!("pose-{n}")).is_some();
    // Among one name more than there are poses, one is free.
    let free = (1..=desk.session.document.rig.poses.len() + 1).find(|&n| !taken(n)).unwrap_or(1);
    desk.model.dialog =
        Some(Dialog::Entry { purpose: Purpose::Pose, typing: Typing::prefilled(format!("pose-{free}")) });
}

/// What a pose of that name would keep now.
///
/// # Errors
/// When the name is none, or nothing stands anywhere.
pub fn keep_standing(scene: &Scene, name: &str) -> Result<Vec<(Kind, String, Degrees)>, String> {
    wasvolta_core::range::check_name(name).map_err(|bad| bad.to_string())?;
    keepable(scene)?;
    Ok(standing(scene))
}

/// Where all engaged joints with angles stand, and the levels of what has those.
fn standing(scene: &Scene) -> Vec<(Kind, String, Degrees)> {
    (0..scene.rig.servos.len())
        .filter_map(|n| {
            let picked = scene.servo(n)?;
            picked.state.engaged.then_some(())?;
            let name = scene.rig.spoken_name(picked.servo)?;
            Some((picked.servo.kind, name.to_owned(), picked.angle()?))
        })
        .collect()
}

/// Keeps a pose.
///
/// # Errors
/// When the name is none.
pub fn keep_pose_as(desk: &mut Context, name: &str) -> Result<(), String> {
    // What stood when the name was asked for may have been released since.
    let angles = keep_standing(&desk.model.scene(desk.session), name)?;
    let count = angles.len();
    let all_turn = angles.iter().all(|(kind, _, _)| kind.has_angles());
    let joints = match (all_turn, count) {
        (true, 1) => "joint",
        (true, _) => "joints",
        (false, 1) => "part",
        (false, _) => "parts",
    };
    if desk.edit(&format!("pose {name} kept: {count} {joints}"), |rig| edit::keep_pose(rig, name, &angles)) {
        desk.model.in_sequence.last_pose = Some(name.to_owned());
        desk.model.bell = true;
    }
    Ok(())
}
