//! Picking in time, and playing.

use crate::screen::context::Context;
use crate::screen::dialog::{Dialog, Purpose};
use crate::screen::entry;
use crate::screen::pick::Pick;
use crate::screen::ready::keepable;
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use crate::screen::typing::Typing;
use std::time::Duration;
use wasvolta_core::rig::edit;
use wasvolta_core::rig::{Awaited, Kind, Step};
use wasvolta_core::sequence::At;
use wasvolta_core::stage::{Among, Command, Given, Output, Play};
use wasvolta_core::unit::Degrees;

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
    let state = &mut desk.model.in_sequence;
    (state.step, state.anchor, state.time, state.zoom, state.open) = (0, 0, 0.0, 1.0, false);
}

/// Goes on to another step.
pub fn step_by(desk: &mut Context, by: isize) {
    let steps = picked(desk).map_or(0, |(_, steps)| steps);
    pick_step(desk, moved(desk.model.in_sequence.step, by, steps));
}

/// Picks one step more towards the beginning, or one less.
pub fn also_before(desk: &mut Context) {
    also(desk, -1);
}

/// Picks one step more towards the end, or one less.
pub fn also_behind(desk: &mut Context) {
    also(desk, 1);
}

fn also(desk: &mut Context, by: isize) {
    let anchor = desk.model.in_sequence.anchor;
    let steps = picked(desk).map_or(0, |(_, steps)| steps);
    let step = desk.model.in_sequence.step.saturating_add_signed(by).min(steps.saturating_sub(1));
    pick_step(desk, step);
    desk.model.in_sequence.anchor = anchor;
    let (from, to) = desk.model.in_sequence.picked();
    desk.say(&format!("steps {} to {} are picked", from + 1, to + 1));
}

/// Goes to the step of a number.
pub fn go_to_step(desk: &mut Context, text: &str) -> Result<(), String> {
    let steps = picked(desk).map_or(0, |(_, steps)| steps);
    let labelled = desk.model.scene(desk.session).sequence().and_then(|(s, _)| s.labelled(text.trim()));
    if let Some(step) = labelled {
        pick_step(desk, step);
        return Ok(());
    }
    let wanted = entry::plain(text)?;
    let found = (0..steps).find(|&n| wasvolta_core::unit::number(n + 1).to_bits() == wanted.to_bits());
    pick_step(desk, found.ok_or(format!("there are steps 1 to {steps}"))?);
    Ok(())
}

/// When the picked step begins, moves and dwells.
pub fn times(scene: &Scene) -> Option<(f64, f64, f64)> {
    let (_, program) = scene.sequence()?;
    let time = program.step(scene.model.in_sequence.step)?;
    Some((time.starts, time.moves, time.dwells))
}

/// The picked step.
pub fn present_step<'a>(scene: &Scene<'a>) -> Option<&'a Step> {
    let (sequence, _) = scene.sequence()?;
    sequence.steps.get(scene.model.in_sequence.step)
}

/// Looks at a time; with output driving, the mechanism follows.
pub fn look_at(desk: &mut Context, time: Option<f64>) {
    let Some(time) = time else { return };
    let scene = desk.model.scene(desk.session);
    let Some((_, program)) = scene.sequence() else { return };
    let time = time.clamp(0.0, program.length());
    let step = program.step_at(At::seconds_in(time));
    desk.model.in_sequence.time = time;
    (desk.model.in_sequence.step, desk.model.in_sequence.anchor) = (step, step);
    if desk.model.snapshot.output == Output::Driving {
        let sequence = desk.model.sequence.id;
        let at = Duration::try_from_secs_f64(time).unwrap_or_default();
        desk.command(Command::Seek { sequence, at });
        return;
    }
    if desk.model.snapshot.players.last().is_some() {
        desk.command(Command::StopPlaying);
    }
    desk.say("looking only: output is off, nothing moves");
}

/// Picks a step, and looks at where its move is over.
pub fn pick_step(desk: &mut Context, step: usize) {
    let scene = desk.model.scene(desk.session);
    let arrives = scene.sequence().and_then(|(_, program)| program.step(step)).map(|s| s.arrives());
    (desk.model.in_sequence.step, desk.model.in_sequence.anchor) = (step, step);
    desk.model.in_sequence.open = false;
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
    if desk.model.snapshot.players.play(sequence).goes_on() {
        return desk.command(Command::PauseOne { sequence });
    }
    desk.command(Command::Play { sequence });
    only_the_screen(desk);
}

fn only_the_screen(desk: &mut Context) {
    if desk.model.snapshot.output != Output::Driving {
        desk.say("output is off: only the screen plays; ‹engage› engages a servo");
    }
}

/// Plays from the beginning of the picked step.
pub fn play_from_step(desk: &mut Context) {
    play_there(desk, false);
}

/// Plays the picked step alone, or the next one where it stands.
pub fn play_step(desk: &mut Context) {
    let sequence = desk.model.sequence.id;
    if desk.model.snapshot.players.play(sequence) == Play::Paused {
        desk.command(Command::PlayFrom { sequence, at: None, given: Given::default(), one_step: true });
        return only_the_screen(desk);
    }
    play_there(desk, true);
}

fn play_there(desk: &mut Context, one_step: bool) {
    let sequence = desk.model.sequence.id;
    let scene = desk.model.scene(desk.session);
    let step = scene.model.in_sequence.step;
    let Some(at) = scene.sequence().map(|(_, program)| program.enters_at(step).duration()) else { return };
    desk.command(Command::PlayFrom { sequence, at: Some(at), given: Given::default(), one_step });
    only_the_screen(desk);
}

/// Leaves every sequence.
pub fn stop(desk: &mut Context) {
    desk.command(Command::StopPlaying);
}

/// Leaves the picked sequence; others go on.
pub fn stop_one(desk: &mut Context) {
    desk.command(Command::StopOne { sequence: desk.model.sequence.id });
}

/// Plays no loop of the picked sequence again.
pub fn finish_loop(desk: &mut Context) {
    desk.command(Command::FinishLoop { sequence: desk.model.sequence.id });
    desk.say("no loop is played again: it goes on to its end");
}

const TEMPOS: [f64; 11] = [10.0, 25.0, 50.0, 70.0, 85.0, 100.0, 120.0, 150.0, 200.0, 300.0, 400.0];

/// Everything plays more slowly.
pub fn slower(desk: &mut Context) {
    let now = desk.model.snapshot.tempo * 100.0;
    set_tempo(desk, TEMPOS.into_iter().rev().find(|tempo| *tempo < now - 0.5));
}

/// Everything plays faster.
pub fn faster(desk: &mut Context) {
    let now = desk.model.snapshot.tempo * 100.0;
    set_tempo(desk, TEMPOS.into_iter().find(|tempo| *tempo > now + 0.5));
}

fn set_tempo(desk: &mut Context, percent: Option<f64>) {
    let Some(percent) = percent else { return desk.refuse("the tempo is at that end: 10 to 400 %") };
    desk.command(Command::Tempo { percent });
    desk.say(&format!("tempo {percent:.0} %, until the program ends"));
}

/// Only the picked joint is moved; again all are.
pub fn only_this(desk: &mut Context) {
    among(desk, Among::Only, "only");
}

/// All joints but the picked one are moved; again all are.
pub fn without_this(desk: &mut Context) {
    among(desk, Among::Without, "all but");
}

fn among(desk: &mut Context, which: fn(wasvolta_core::rig::ServoId) -> Among, word: &str) {
    let sequence = desk.model.sequence.id;
    let Some(servo) = desk.servo().map(|servo| (servo.id, servo.name.clone())) else { return };
    let scene = desk.model.scene(desk.session);
    let Some(now) = scene.player().map(|player| player.among) else {
        return desk.refuse("nothing plays here: ‹play› plays it, then it can be narrowed");
    };
    let among = which(servo.0);
    let (among, words) = if now == among {
        (Among::All, "all its joints are moved".to_owned())
    } else {
        (among, format!("{word} {} is moved; the same key moves all again", servo.1))
    };
    desk.command(Command::Among { sequence, among });
    desk.say(&words);
}

/// Presses the key that what plays waits for.
pub fn press_key(desk: &mut Context) {
    let key = {
        let scene = desk.model.scene(desk.session);
        scene.model.snapshot.players.all().find_map(|player| {
            let place = scene.edition.index.sequences.place(player.sequence)?;
            let op = player.waits_at(scene.edition.plan.programs.get(place)?)?;
            let wait = scene.rig.sequences.get(op.of.0)?.steps.get(op.of.1)?.wait_for.as_ref()?;
            match wait.what()? {
                Awaited::Key(key) => Some(key),
                Awaited::Input(..) | Awaited::Arrived(_) => None,
            }
        })
    };
    match key {
        Some(key) => {
            desk.command(Command::Key { key });
            desk.say(&format!("the key {key}"));
        }
        None => desk.refuse("nothing that plays waits for a key"),
    }
}

/// Shows more of the time.
pub fn wider(desk: &mut Context) {
    desk.model.in_sequence.zoom = (desk.model.in_sequence.zoom * 2.0).min(1.0);
}

/// Shows less of the time, and more of that.
pub fn closer(desk: &mut Context) {
    desk.model.in_sequence.zoom = (desk.model.in_sequence.zoom / 2.0).max(1.0 / 4096.0);
}

/// Shows all of the time.
pub fn whole(desk: &mut Context) {
    desk.model.in_sequence.zoom = 1.0;
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

/// Where all joints with angles stand that are engaged or were moved by hand while limp, and the levels of what has those.
fn standing(scene: &Scene) -> Vec<(Kind, String, Degrees)> {
    (0..scene.rig.servos.len())
        .filter_map(|n| {
            let picked = scene.servo(n)?;
            let name = scene.rig.spoken_name(picked.servo)?;
            Some((picked.servo.kind, name.to_owned(), picked.standing()?))
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
