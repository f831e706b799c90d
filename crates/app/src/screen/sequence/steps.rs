//! Edits of steps: their times, what they do, where they are; all of the picked ones in one edit.

use super::acts::{picked, present_step};
use crate::screen::context::Context;
use crate::screen::scene::Scene;
use crate::screen::sequence::acts::pick_step;
use crate::screen::step::{moved, wrapped};
use wasvolta_core::easing::Easing;
use wasvolta_core::range;
use wasvolta_core::rig::edit::sequences as edit;
use wasvolta_core::rig::{Awaited, Kind, Loop, Pose, Rig, Step, StepJoint, Test, Then, Times, Wait, What};
use wasvolta_core::sequence::At;
use wasvolta_core::unit::{Degrees, DegreesPerSecond, DegreesPerSecondSquared, Percent, Seconds};

/// Changes every picked step that the change means.
pub fn change(desk: &mut Context, what: &str, change: impl Fn(&mut Step)) {
    let Some((name, _)) = picked(desk) else { return };
    let (from, to) = desk.model.in_sequence.picked();
    let which =
        if from == to { format!("step {}", from + 1) } else { format!("steps {} to {}", from + 1, to + 1) };
    desk.edit(&format!("{which}: {what}"), |rig| {
        let mut rig = rig.clone();
        for n in from..=to {
            rig = edit::change_step(&rig, &name, n, &change)?;
        }
        Ok(rig)
    });
}

fn of_poses(change: impl Fn(&mut Step)) -> impl Fn(&mut Step) {
    move |step: &mut Step| {
        if step.pose.is_some() {
            change(step);
        }
    }
}

/// The picked step goes to a pose.
pub fn is_pose(scene: &Scene) -> bool {
    present_step(scene).is_some_and(|step| step.pose.is_some())
}

/// Sets how long the picked steps move.
pub fn set_move(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change(
        desk,
        &format!("move {seconds:.3} s"),
        of_poses(|step| {
            step.move_s = Some(Seconds::new(seconds));
            step.speed_deg_s = None;
        }),
    );
}

/// Sets how long the picked steps stand.
pub fn set_dwell(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change(desk, &format!("dwell {seconds:.3} s"), of_poses(|step| step.dwell_s = Seconds::new(seconds)));
}

/// Sets how fast the picked steps move.
pub fn set_speed(desk: &mut Context, speed: Option<f64>) {
    let Some(speed) = speed else { return };
    change(
        desk,
        &format!("{speed:.1} °/s"),
        of_poses(|step| {
            step.speed_deg_s = Some(DegreesPerSecond::new(speed));
            step.move_s = None;
        }),
    );
}

/// How long the picked step moves, as it is written: at 100 % of the sequence's tempo.
pub fn written_move(scene: &Scene) -> Option<f64> {
    let (sequence, _) = scene.sequence()?;
    let written = present_step(scene)?.move_s.map(Seconds::get);
    written.or_else(|| super::acts::times(scene).map(|(_, moves, _)| moves * sequence.tempo()))
}

/// By what the picked step is timed.
pub fn timed(scene: &Scene) -> String {
    let Some(step) = present_step(scene) else { return "–".to_owned() };
    match (step.move_s, step.speed_deg_s) {
        (Some(_), _) => "its move time".to_owned(),
        (None, Some(_)) => "its speed".to_owned(),
        (None, None) => "as fast as they can".to_owned(),
    }
}

/// It is timed by its speed.
pub fn by_speed(scene: &Scene) -> bool {
    present_step(scene).is_some_and(|step| step.speed_deg_s.is_some() && step.pose.is_some())
}

/// It is timed by its move time, or not at all: then that is shown.
pub fn by_time(scene: &Scene) -> bool {
    is_pose(scene) && !by_speed(scene)
}

/// Times the picked steps otherwise.
pub fn next_timed(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(step) = present_step(&scene) else { return };
    let here = match (step.move_s, step.speed_deg_s) {
        (Some(_), _) => 0,
        (None, Some(_)) => 1,
        (None, None) => 2,
    };
    let moves = written_move(&scene).unwrap_or(1.0);
    let moves = (moves * 1000.0).round() / 1000.0;
    match wrapped(here, by, 3) {
        0 => set_move(desk, Some(if moves > 0.0 { moves } else { 1.0 })),
        1 => set_speed(desk, Some(60.0)),
        _ => change(
            desk,
            "as fast as they can",
            of_poses(|step| (step.move_s, step.speed_deg_s) = (None, None)),
        ),
    }
}

/// How hard a trapezoid speeds up.
pub fn set_acceleration(desk: &mut Context, acceleration: Option<f64>) {
    let words = acceleration.map_or_else(|| "ramps of a quarter".to_owned(), |a| format!("{a:.0} °/s²"));
    change(desk, &words, of_poses(|step| step.accel_deg_s2 = acceleration.map(DegreesPerSecondSquared::new)));
}

/// Gives the picked steps another pose.
pub fn next_pose(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(own) = present_step(&scene).and_then(|step| step.pose.clone()) else { return };
    let poses = &desk.session.document.rig.poses;
    let here = poses.iter().position(|p| p.name == own).unwrap_or(0);
    let Some(pose) = poses.get(moved(here, by, poses.len())).map(|p| p.name.clone()) else { return };
    change(desk, &format!("pose {pose}"), of_poses(|step| step.pose = Some(pose.clone())));
}

/// Gives the picked steps the pose of a name.
pub fn set_pose(desk: &mut Context, text: &str) -> Result<(), String> {
    let pose = text.trim().to_owned();
    let rig = &desk.session.document.rig;
    if rig.pose(&pose).is_none() {
        let all: Vec<&str> = rig.poses.iter().map(|pose| pose.name.as_str()).collect();
        return Err(format!("no pose is called {pose:?}: there is {}", all.join(", ")));
    }
    change(desk, &format!("pose {pose}"), of_poses(|step| step.pose = Some(pose.clone())));
    Ok(())
}

/// Lets the picked steps go to the opposite of their poses.
pub fn other_state(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let own = present_step(&scene).and_then(|step| step.pose.as_deref());
    let opposite = own.and_then(|own| scene.edition.parts().pose(own)?.opposite.clone());
    let Some(opposite) = opposite else {
        return desk.refuse("its pose has no opposite: ‹two states› makes two that are");
    };
    let rig = std::sync::Arc::clone(&desk.session.document.rig);
    let of = move |pose: &str| rig.pose(pose).and_then(|pose| pose.opposite.clone());
    change(
        desk,
        &format!("pose {opposite}"),
        of_poses(move |step| {
            if let Some(other) = step.pose.as_deref().and_then(&of) {
                step.pose = Some(other);
            }
        }),
    );
}

/// Eases the picked steps otherwise.
pub fn next_easing(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(step) = present_step(&scene) else { return };
    let here = Easing::ALL.iter().position(|e| *e == step.easing).unwrap_or(0);
    let Some(&easing) = Easing::ALL.get(moved(here, by, Easing::ALL.len())) else { return };
    change(desk, &format!("easing {}", easing.name()), of_poses(|step| step.easing = easing));
}

/// The name by which poses speak of the picked servo, and its kind.
fn spoken<'a>(scene: &Scene<'a>) -> Option<(&'a str, Kind)> {
    let picked = scene.picked()?;
    Some((scene.edition.parts().spoken_name(picked.servo)?, picked.servo.kind))
}

/// The picked joint has a part in the picked step.
pub fn has_joint(scene: &Scene) -> bool {
    is_pose(scene) && spoken(scene).is_some()
}

/// The picked joint's angle, or level, in the pose of the picked step.
pub fn joint_target(scene: &Scene) -> Option<f64> {
    let (name, kind) = spoken(scene)?;
    let pose = scene.edition.parts().pose(present_step(scene)?.pose.as_deref()?)?;
    Some(pose.target(kind, name)?.get())
}

/// Sets it, or takes the joint out of the pose.
pub fn set_joint_target(desk: &mut Context, target: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let (Some((name, kind)), Some(pose)) =
        (spoken(&scene), present_step(&scene).and_then(|s| s.pose.clone()))
    else {
        return;
    };
    let name = name.to_owned();
    let users = edit::users_of(scene.rig, &pose);
    let words = match target {
        Some(target) => format!("{pose}: {name} {}, in {users}", kind.show(Degrees::new(target))),
        None => format!("{name} is no longer in {pose}"),
    };
    let on = target.is_some() && desk.held;
    desk.edit_on(on, &words, |rig| {
        edit::change_pose(rig, &pose, |pose: &mut Pose| match (target, kind.has_angles()) {
            (Some(target), true) => drop(pose.angles_deg.insert(name.clone(), Degrees::new(target))),
            (Some(target), false) => drop(pose.levels_percent.insert(name.clone(), Percent::new(target))),
            (None, true) => drop(pose.angles_deg.remove(&name)),
            (None, false) => drop(pose.levels_percent.remove(&name)),
        })
    });
}

/// Puts the picked joint into the pose of the picked step where it stands, or takes it out.
pub fn joint_in_pose(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    if !has_joint(&scene) {
        return desk.refuse("the picked step does not go to a pose, or no joint is picked");
    }
    if joint_target(&scene).is_some() {
        return set_joint_target(desk, None);
    }
    let stands = scene.picked().and_then(|picked| Some(picked.angle()?.get()));
    set_joint_target(desk, Some(stands.map_or(0.0, |angle| (angle * 10.0).round() / 10.0)));
}

fn own<R: Default>(scene: &Scene, get: impl Fn(&StepJoint) -> R) -> R {
    let name = spoken(scene).map(|(name, _)| name);
    let step = present_step(scene);
    step.zip(name).and_then(|(step, name)| step.joints.get(name)).map(get).unwrap_or_default()
}

/// How much later the picked joint begins within the step.
pub fn lag(scene: &Scene) -> f64 {
    own(scene, |own| own.lag_s.get())
}

/// The share of the move time that it takes, in percent.
pub fn share(scene: &Scene) -> f64 {
    own(scene, |own| own.share).unwrap_or(1.0) * 100.0
}

/// Its own easing.
pub fn joint_easing(scene: &Scene) -> String {
    own(scene, |own| own.easing).map_or_else(|| "as the step".to_owned(), |easing| easing.name().to_owned())
}

fn change_own(desk: &mut Context, what: &str, set: impl Fn(&mut StepJoint)) {
    let scene = desk.model.scene(desk.session);
    let Some(name) = spoken(&scene).map(|(name, _)| name.to_owned()) else { return };
    change(
        desk,
        &format!("{name} {what}"),
        of_poses(move |step| {
            let own = step.joints.entry(name.clone()).or_default();
            set(own);
            // What differs in nothing is not written.
            if *own == StepJoint::default() {
                step.joints.remove(&name);
            }
        }),
    );
}

/// Sets how much later the picked joint begins.
pub fn set_lag(desk: &mut Context, seconds: Option<f64>) {
    let seconds = seconds.unwrap_or(0.0);
    change_own(desk, &format!("begins {seconds:.2} s later"), |own| own.lag_s = Seconds::new(seconds));
}

/// Sets the share of the move time that it takes.
pub fn set_share(desk: &mut Context, percent: Option<f64>) {
    let percent = percent.unwrap_or(100.0);
    let share = Some(percent / 100.0).filter(|share| *share < 1.0);
    change_own(desk, &format!("takes {percent:.0} % of the move time"), |own| own.share = share);
}

/// Eases the picked joint otherwise than the step.
pub fn next_joint_easing(desk: &mut Context, by: isize) {
    let now = own(&desk.model.scene(desk.session), |own| own.easing);
    let here = now.and_then(|now| Easing::ALL.iter().position(|e| *e == now)).map_or(0, |n| n + 1);
    let next = wrapped(here, by, Easing::ALL.len() + 1);
    let easing = next.checked_sub(1).and_then(|n| Easing::ALL.get(n)).copied();
    let words =
        easing.map_or_else(|| "eased as the step".to_owned(), |easing| format!("eased {}", easing.name()));
    change_own(desk, &words, |own| own.easing = easing);
}

/// The label of the picked step.
pub fn label(scene: &Scene) -> String {
    present_step(scene).and_then(|step| step.label.clone()).unwrap_or_else(|| "none".to_owned())
}

/// Labels the picked step, or takes its label off.
pub fn set_label(desk: &mut Context, text: &str) -> Result<(), String> {
    let (Some((name, _)), at) = (picked(desk), desk.model.in_sequence.step) else { return Ok(()) };
    let label = Some(text.trim()).filter(|label| !label.is_empty() && *label != "none");
    let words =
        label.map_or_else(|| format!("step {} has no label", at + 1), |l| format!("step {} is {l}", at + 1));
    desk.done(&words, |rig| edit::label_step(rig, &name, at, label)).map(|words| desk.say(&words))
}

/// Inserts a step behind the picked one.
pub fn insert(desk: &mut Context) {
    let first = desk.session.document.rig.poses.first().map(|p| p.name.clone());
    let Some(pose) = desk.model.in_sequence.last_pose.clone().or(first) else { return };
    let words = pose.clone();
    put(desk, Step::to_pose(&pose, Seconds::new(1.0)), &words);
}

fn put(desk: &mut Context, step: Step, words: &str) {
    let (name, at) = match picked(desk) {
        Some((name, 0)) => (name, 0),
        Some((name, _)) => (name, desk.model.in_sequence.picked().1 + 1),
        None => ("sequence-1".to_owned(), 0),
    };
    if desk.edit(&format!("step {} inserted: {words}", at + 1), |rig| edit::insert(rig, &name, at, step)) {
        pick_step(desk, at);
    }
}

/// Inserts a wait behind the picked step: for the first switch, else for a key.
pub fn insert_wait(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let switch = rig.inputs.iter().find(|input| input.switch.is_some()).map(|input| input.name.clone());
    let wait = match switch {
        Some(input) => Wait { input: Some(input), pressed: Some(true), ..Wait::default() },
        None => Wait { key: Some("g".to_owned()), ..Wait::default() },
    };
    let words = format!("wait until {}", wait.words());
    put(desk, Step { wait_for: Some(wait), ..Step::default() }, &words);
}

/// Inserts a step behind the picked one that plays another sequence.
pub fn insert_call(desk: &mut Context) {
    let here = picked(desk).map(|(name, _)| name);
    let rig = &desk.session.document.rig;
    // The first one that does not lead back here.
    let own = here.clone().unwrap_or_default();
    let other =
        rig.sequences.iter().find(|other| other.name != own && !leads(rig, other.name.as_str(), &own, 8));
    let Some(other) = other.map(|other| other.name.clone()) else {
        return desk.refuse("there is no other sequence that could be played here");
    };
    let words = format!("play {other}");
    put(desk, Step { play: Some(other), ..Step::default() }, &words);
}

fn leads(rig: &Rig, from: &str, to: &str, deep: usize) -> bool {
    let Some(of) = rig.sequences.iter().find(|s| s.name == from) else { return false };
    of.calls().any(|call| call == to || deep > 0 && leads(rig, call, to, deep - 1))
}

/// Takes the picked steps out.
pub fn remove(desk: &mut Context) {
    let Some((name, steps)) = picked(desk) else { return };
    let (from, to) = desk.model.in_sequence.picked();
    let words = if from == to {
        format!("step {} removed", from + 1)
    } else {
        format!("steps {} to {} removed", from + 1, to + 1)
    };
    let all = |rig: &Rig| {
        let mut rig = rig.clone();
        for _ in from..=to {
            rig = edit::remove_step(&rig, &name, from)?;
        }
        Ok(rig)
    };
    if desk.edit(&words, all) {
        pick_step(desk, from.min(steps.saturating_sub(2 + to - from)));
    }
}

/// The short steps with what they need: of the sequence itself, and of what it plays.
fn needs(scene: &Scene, only: Option<(usize, usize)>) -> Vec<(String, usize, f64)> {
    let Some((_, program)) = scene.sequence() else { return Vec::new() };
    let place = scene.edition.index.sequences.place(scene.model.sequence.id);
    let shorts = program.shorts().iter();
    let meant = shorts.filter(|short| {
        only.is_none_or(|(from, to)| Some(short.sequence) == place && (from..=to).contains(&short.step))
    });
    let named = meant.filter_map(|short| {
        Some((scene.rig.sequences.get(short.sequence)?.name.clone(), short.step, short.needs))
    });
    named.collect()
}

/// Gives the picked step, or else the first short one, the time it needs.
pub fn stretch(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let mut needs_now = needs(&scene, Some(desk.model.in_sequence.picked()));
    if needs_now.is_empty() {
        let all = needs(&scene, None);
        let first = all.first().map(|(name, step, _)| (name.clone(), *step));
        needs_now = all.into_iter().filter(|(name, step, _)| Some((name.clone(), *step)) == first).collect();
    }
    stretch_to(desk, &needs_now, false);
}

/// Gives every short step the time that it needs.
pub fn stretch_all(desk: &mut Context) {
    let all = needs(&desk.model.scene(desk.session), None);
    stretch_to(desk, &all, false);
}

/// The same, at the cost of their dwells.
pub fn stretch_keeping(desk: &mut Context) {
    let all = needs(&desk.model.scene(desk.session), None);
    stretch_to(desk, &all, true);
}

fn stretch_to(desk: &mut Context, needs: &[(String, usize, f64)], keep: bool) {
    let Some((first, step, most)) = needs.first() else {
        return desk.say("no step is short: every joint gets there in time");
    };
    let most =
        needs.iter().filter(|(name, n, _)| name == first && n == step).map(|own| own.2).fold(*most, f64::max);
    let mut steps: Vec<(&str, usize)> = needs.iter().map(|(name, step, _)| (name.as_str(), *step)).collect();
    steps.dedup();
    let words = match steps.as_slice() {
        [(_, step)] => {
            format!("step {}: stretched to {:.2} s", step + 1, wasvolta_core::sequence::rounded_up(most))
        }
        all => format!("{} steps stretched to what they need", all.len()),
    };
    let words = if keep { format!("{words}, at the cost of their dwells") } else { words };
    let here = picked(desk).map(|(name, _)| name);
    let goes = (Some(first) == here.as_ref()).then_some(*step);
    if desk.edit(&words, |rig| edit::stretch(rig, needs, keep))
        && let Some(step) = goes
    {
        pick_step(desk, step);
    }
}

/// Splits the picked step at the time looked at: there is a new pose then.
pub fn split(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (Some((sequence, program)), at) = (scene.sequence(), scene.model.in_sequence.step) else { return };
    let time = program.step(at).unwrap_or_default();
    let t = scene.model.in_sequence.time;
    let share = (t - time.starts) / time.moves;
    if !is_pose(&scene)
        || !(0.01..=0.99).contains(&share)
        || present_step(&scene).is_none_or(|s| s.move_s.is_none())
    {
        return desk.refuse("look at a time within the picked step's move first: it is split there");
    }
    let targets: Vec<(Kind, String, Degrees)> = program
        .tracks
        .iter()
        .filter_map(|track| {
            let servo = scene.rig.servos.get(track.servo)?;
            let name = scene.edition.parts().spoken_name(servo)?;
            let pose = scene.edition.parts().pose(present_step(&scene)?.pose.as_deref()?)?;
            // Only what the step moves.
            pose.target(servo.kind, name)?;
            Some((servo.kind, name.to_owned(), program.first_at(track.servo, At::seconds_in(t))?))
        })
        .collect();
    let name = sequence.name.clone();
    let rig = &desk.session.document.rig;
    // Among one name more than there are poses, one is free.
    let mut names = (1..=rig.poses.len() + 1).map(|n| format!("between-{n}"));
    let pose = names.find(|name| rig.pose(name).is_none()).unwrap_or_default();
    let own = sequence.steps.get(at).is_some_and(|step| !step.joints.is_empty());
    let own = if own { "; what its joints had of their own is left out" } else { "" };
    let words = format!("step {} split at {t:.2} s, at the new pose {pose}{own}", at + 1);
    desk.edit(&words, |rig| edit::split_step(rig, &name, at, (&pose, &targets), share));
}

/// Joins the picked step with the next one.
pub fn join(desk: &mut Context) {
    let (Some((name, _)), at) = (picked(desk), desk.model.in_sequence.step) else { return };
    let words = format!("steps {} and {} are one: the pose between is left out", at + 1, at + 2);
    if desk.edit(&words, |rig| edit::join_steps(rig, &name, at)) {
        pick_step(desk, at);
    }
}

/// The innermost loop around the picked step, by its place.
pub fn loop_here(scene: &Scene) -> Option<usize> {
    let (sequence, _) = scene.sequence()?;
    let at = scene.model.in_sequence.step;
    let around = sequence.loops.iter().enumerate().filter_map(|(n, own)| Some((n, sequence.span(own)?)));
    around
        .filter(|(_, (from, to))| (*from..=*to).contains(&at))
        .min_by_key(|(_, (from, to))| to - from)
        .map(|(n, _)| n)
}

pub fn the_loop<'a>(scene: &Scene<'a>) -> Option<&'a Loop> {
    scene.sequence()?.0.loops.get(loop_here(scene)?)
}

/// Plays the picked steps more than once, or takes the loop off that is just those.
pub fn loop_them(desk: &mut Context) {
    let Some((name, _)) = picked(desk) else { return };
    let (from, to) = desk.model.in_sequence.picked();
    let scene = desk.model.scene(desk.session);
    let same =
        scene.sequence().and_then(|(s, _)| s.loops.iter().position(|own| s.span(own) == Some((from, to))));
    if let Some(same) = same {
        desk.edit("the loop is taken off", |rig| edit::remove_loop(rig, &name, same));
        return;
    }
    let words = format!("steps {} to {} are played twice; the row loop says how often", from + 1, to + 1);
    desk.edit(&words, |rig| edit::loop_steps(rig, &name, (from, to), Some(Times::Count(2))));
}

fn change_loop(desk: &mut Context, what: &str, change: impl FnOnce(&mut Loop)) {
    let Some((name, _)) = picked(desk) else { return };
    let Some(at) = loop_here(&desk.model.scene(desk.session)) else { return };
    desk.edit(&format!("the loop is played {what}"), |rig| edit::change_loop(rig, &name, at, change));
}

/// How often the loop is played, in words.
pub fn rounds(of: &Loop) -> String {
    let until = of.until.as_ref().map(|until| format!("until {}", until.words()));
    let times = match &of.times {
        Some(Times::Count(count)) => Some(format!("× {count}")),
        Some(Times::Parameter(name)) => Some(format!("× {name}")),
        None => None,
    };
    match (times, until) {
        (Some(times), Some(until)) => format!("{times}, or {until}"),
        (Some(one), None) | (None, Some(one)) => one,
        (None, None) => "for ever".to_owned(),
    }
}

/// Plays the loop more or less often.
pub fn next_rounds(desk: &mut Context, by: isize) {
    let now = the_loop(&desk.model.scene(desk.session)).and_then(|own| own.times.clone());
    let next = match (now, by > 0) {
        (Some(Times::Count(1)), false) => None,
        (Some(Times::Count(count)), true) => Some(count.saturating_add(1).min(100_000)),
        (Some(Times::Count(count)), false) => Some(count.saturating_sub(1)),
        (_, true) => Some(1),
        (_, false) => None,
    };
    let words = next.map_or_else(|| "for ever".to_owned(), |n| format!("{n} times"));
    change_loop(desk, &words, |own| own.times = next.map(Times::Count));
}

/// Takes how often: a number, a parameter's name, `for ever`, or `until …`.
pub fn set_rounds(desk: &mut Context, text: &str) -> Result<(), String> {
    let text = text.trim();
    if let Some(until) = text.strip_prefix("until ") {
        let wait = read_wait(&desk.session.document.rig, until)?;
        if wait.arrived_deg.is_some() {
            return Err("a loop cannot end on arrival: let a step at its end wait for it".to_owned());
        }
        change_loop(desk, text, |own| own.until = Some(wait));
        return Ok(());
    }
    let times = match text.trim_start_matches('×').trim_start_matches('x').trim() {
        "for ever" | "forever" | "ever" => None,
        number if number.parse::<u32>().is_ok() => Some(Times::Count(number.parse().unwrap_or(1))),
        name => Some(Times::Parameter(name.to_owned())),
    };
    let scene = desk.model.scene(desk.session);
    let known = scene.sequence().map(|(sequence, _)| sequence.parameters.clone()).unwrap_or_default();
    if let Some(Times::Parameter(name)) = &times
        && !known.contains_key(name)
    {
        return Err("a number, for ever, until INPUT pressed, or a parameter of the sequence".to_owned());
    }
    change_loop(desk, text, |own| (own.times, own.until) = (times, None));
    Ok(())
}

/// The picked step waits.
pub fn is_wait(scene: &Scene) -> bool {
    wait(scene).is_some()
}

/// What it waits for.
pub fn wait<'a>(scene: &Scene<'a>) -> Option<&'a Wait> {
    present_step(scene)?.wait_for.as_ref()
}

/// What it waits for, in words.
pub fn awaited(scene: &Scene) -> String {
    wait(scene).map_or_else(|| "–".to_owned(), |wait| Wait { held_s: Seconds::ZERO, ..wait.clone() }.words())
}

fn change_wait(desk: &mut Context, what: &str, set: impl Fn(&mut Wait)) {
    change(desk, what, |step| {
        if let Some(wait) = &mut step.wait_for {
            set(wait);
        }
    });
}

/// Waits for another input, for an arrival, or for a key.
pub fn next_awaited(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(now) = wait(&scene) else { return };
    let inputs = &scene.rig.inputs;
    let here = now.input.as_ref().and_then(|own| inputs.iter().position(|input| input.name == *own));
    let none = if now.arrived_deg.is_some() { inputs.len() } else { inputs.len() + 1 };
    let next = wrapped(here.unwrap_or(none), by, inputs.len() + 2);
    let (held, at_most, then, to) = (now.held_s, now.at_most_s, now.then, now.to.clone());
    let rest = Wait { at_most_s: at_most, then, to, ..Wait::default() };
    let next = match inputs.get(next) {
        Some(input) if input.switch.is_some() => {
            Wait { input: Some(input.name.clone()), pressed: Some(true), held_s: held, ..rest }
        }
        Some(input) => Wait { input: Some(input.name.clone()), above: Some(0.5), held_s: held, ..rest },
        None if next == inputs.len() => arrival(USUAL_ARRIVAL_DEG, rest),
        None => Wait { key: Some("g".to_owned()), ..rest },
    };
    let words = format!("wait until {}", next.words());
    change_wait(desk, &words, |wait| *wait = next.clone());
}

/// How near is arrived, unless it is said.
const USUAL_ARRIVAL_DEG: f64 = 2.0;
/// How long an arrival is waited for, unless it is said: one that hangs is not to hold up the others.
const USUAL_ARRIVAL: Seconds = Seconds::new(2.0);

/// A wait for an arrival, which always has an end.
fn arrival(within: f64, rest: Wait) -> Wait {
    let at_most = rest.at_most_s.filter(|most| *most > Seconds::ZERO).unwrap_or(USUAL_ARRIVAL);
    Wait { arrived_deg: Some(within), at_most_s: Some(at_most), ..rest }
}

/// Reads what is waited for: `visitor pressed`, `visitor not pressed`, `gap above 0.4`, `gap < 0.2`, `arrived 2deg`,
/// `key g`.
fn read_wait(rig: &Rig, text: &str) -> Result<Wait, String> {
    const HELP: &str =
        "as visitor pressed, visitor not pressed, gap above 0.4, gap below 0.2, arrived 2deg, or key g";
    let words: Vec<&str> = text.split_whitespace().filter(|word| !matches!(*word, "is" | "the")).collect();
    let number = |text: &str| text.replace('−', "-").parse::<f64>().map_err(|_| HELP.to_owned());
    let wait = match words.as_slice() {
        ["arrived"] => arrival(USUAL_ARRIVAL_DEG, Wait::default()),
        ["arrived", within] => {
            let degrees = within.trim_end_matches("deg").trim_end_matches('°');
            let degrees = number(degrees)?;
            range::ARRIVAL.check(degrees).map_err(|why| why.to_string())?;
            arrival(degrees, Wait::default())
        }
        ["key", key] => Wait { key: Some((*key).to_owned()), ..Wait::default() },
        [input, "pressed"] => {
            Wait { input: Some((*input).to_owned()), pressed: Some(true), ..Wait::default() }
        }
        [input, "not", "pressed"] => {
            Wait { input: Some((*input).to_owned()), pressed: Some(false), ..Wait::default() }
        }
        [input, "above" | ">", value] => {
            Wait { input: Some((*input).to_owned()), above: Some(number(value)?), ..Wait::default() }
        }
        [input, "below" | "<", value] => {
            Wait { input: Some((*input).to_owned()), below: Some(number(value)?), ..Wait::default() }
        }
        _ => return Err(HELP.to_owned()),
    };
    if let Some(input) = &wait.input
        && rig.inputs.iter().all(|own| own.name != *input)
    {
        let all: Vec<&str> = rig.inputs.iter().map(|input| input.name.as_str()).collect();
        return Err(format!("no input is called {input:?}: there is {}", all.join(", ")));
    }
    wait.what().ok_or_else(|| HELP.to_owned())?;
    Ok(wait)
}

/// Takes what is waited for.
pub fn set_awaited(desk: &mut Context, text: &str) -> Result<(), String> {
    let read = read_wait(&desk.session.document.rig, text)?;
    let words = format!("wait until {}", read.words());
    change_wait(desk, &words, |wait| {
        let held_s = if read.key.is_some() { Seconds::ZERO } else { wait.held_s };
        let at_most_s = wait.at_most_s.or(read.at_most_s);
        let rest = Wait { held_s, at_most_s, then: wait.then, to: wait.to.clone(), ..read.clone() };
        *wait = match read.arrived_deg {
            Some(within) => arrival(within, rest),
            None => rest,
        };
    });
    Ok(())
}

/// It waits for a value that passes a threshold.
pub fn has_threshold(scene: &Scene) -> bool {
    matches!(wait(scene).and_then(Wait::what), Some(Awaited::Input(_, Test::Above(_) | Test::Below(_))))
}

pub fn threshold(scene: &Scene) -> Option<f64> {
    let wait = wait(scene)?;
    wait.above.or(wait.below)
}

pub fn set_threshold(desk: &mut Context, value: Option<f64>) {
    let Some(value) = value else { return };
    change_wait(desk, &format!("threshold {value:+.2}"), |wait| {
        if wait.above.is_some() {
            wait.above = Some(value);
        } else {
            wait.below = Some(value);
        }
    });
}

/// It waits for something that may last.
pub fn may_last(scene: &Scene) -> bool {
    wait(scene).is_some_and(|wait| wait.input.is_some() || wait.arrived_deg.is_some())
}

/// For how long that must be so.
pub fn set_held(desk: &mut Context, seconds: Option<f64>) {
    let seconds = seconds.unwrap_or(0.0);
    change_wait(desk, &format!("for {seconds:.2} s"), |wait| wait.held_s = Seconds::new(seconds));
}

/// How long it is waited at most.
pub fn set_at_most(desk: &mut Context, seconds: Option<f64>) {
    let words = seconds.map_or_else(|| "as long as it takes".to_owned(), |s| format!("at most {s:.2} s"));
    change_wait(desk, &words, |wait| {
        wait.at_most_s = seconds.map(Seconds::new);
        if seconds.is_none() {
            (wait.then, wait.to) = (Then::GoOn, None);
        }
    });
}

/// It is waited so long at most.
pub fn has_at_most(scene: &Scene) -> bool {
    wait(scene).is_some_and(|wait| wait.at_most_s.is_some())
}

/// What is done then.
pub fn then(scene: &Scene) -> String {
    wait(scene).map_or_else(
        || "–".to_owned(),
        |wait| match (&wait.to, wait.then) {
            (Some(label), Then::Jump) => format!("jump to {label}"),
            (_, then) => then.word().to_owned(),
        },
    )
}

/// Does something else then: goes on, ends, or jumps to one label after the other.
pub fn next_then(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let (Some((sequence, _)), Some(wait)) = (scene.sequence(), wait(&scene)) else { return };
    let labels: Vec<String> = sequence.steps.iter().filter_map(|step| step.label.clone()).collect();
    let here = match (wait.then, &wait.to) {
        (Then::GoOn, _) => 0,
        (Then::End, _) => 1,
        (Then::Jump, to) => 2 + to.as_ref().and_then(|to| labels.iter().position(|l| l == to)).unwrap_or(0),
    };
    let (then, to) = match wrapped(here, by, labels.len() + 2) {
        0 => (Then::GoOn, None),
        1 => (Then::End, None),
        n => (Then::Jump, labels.get(n - 2).cloned()),
    };
    let words = to.clone().map_or_else(|| then.word().to_owned(), |to| format!("jump to {to}"));
    change_wait(desk, &format!("then {words}"), |wait| (wait.then, wait.to) = (then, to.clone()));
}

/// The picked step plays another sequence.
pub fn is_call(scene: &Scene) -> bool {
    matches!(present_step(scene).and_then(Step::what), Some(What::Play(_)))
}

pub fn called(scene: &Scene) -> String {
    present_step(scene).and_then(|step| step.play.clone()).unwrap_or_else(|| "–".to_owned())
}

/// Plays another one there.
pub fn next_called(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let (Some((own, _)), Some(now)) = (scene.sequence(), present_step(&scene).and_then(|s| s.play.as_ref()))
    else {
        return;
    };
    let others: Vec<&str> = scene
        .rig
        .sequences
        .iter()
        .map(|s| s.name.as_str())
        .filter(|name| *name != own.name && !leads(scene.rig, name, &own.name, 8))
        .collect();
    let here = others.iter().position(|name| name == now).unwrap_or(0);
    let Some(next) = others.get(wrapped(here, by, others.len())).map(|name| (*name).to_owned()) else {
        return;
    };
    change(desk, &format!("plays {next}"), |step| {
        if step.play.is_some() {
            step.play = Some(next.clone());
            step.with.clear();
        }
    });
}

/// The parameters that it is given, in words.
pub fn given(scene: &Scene) -> String {
    let Some(step) = present_step(scene) else { return "–".to_owned() };
    let other = step.play.as_ref().and_then(|name| scene.edition.parts().sequence(name));
    let all = other.iter().flat_map(|other| &other.parameters).map(|(name, usual)| {
        let value = step.with.get(name).unwrap_or(usual);
        format!("{name} = {value}")
    });
    all.collect::<Vec<_>>().join(", ")
}

/// What it plays has parameters.
pub fn has_given(scene: &Scene) -> bool {
    is_call(scene) && !given(scene).is_empty()
}

/// Gives the first parameter one more or less.
pub fn next_given(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(step) = present_step(&scene) else { return };
    let other = step.play.as_ref().and_then(|name| scene.edition.parts().sequence(name));
    let Some((name, usual)) = other.and_then(|other| other.parameters.first_key_value()) else { return };
    let now = step.with.get(name).unwrap_or(usual);
    let next = if by > 0 { now.saturating_add(1).min(1000) } else { now.saturating_sub(1) };
    let name = name.clone();
    change(desk, &format!("{name} = {next}"), |step| {
        step.with.insert(name.clone(), next);
    });
}

/// Takes parameters, as `strokes = 3`.
pub fn set_given(desk: &mut Context, text: &str) -> Result<(), String> {
    let mut with = Vec::new();
    for said in text.split(',') {
        let (name, value) = said.split_once('=').ok_or("as strokes = 3")?;
        let value: u32 = value.trim().parse().map_err(|_| "a whole number from 0 to 1000".to_owned())?;
        with.push((name.trim().to_owned(), value));
    }
    let (Some((name, _)), at) = (picked(desk), desk.model.in_sequence.step) else { return Ok(()) };
    let words = format!("step {}: {}", at + 1, text.trim());
    let said = desk.done(&words, |rig| edit::change_step(rig, &name, at, |step| step.with.extend(with)))?;
    desk.say(&said);
    Ok(())
}

/// Shows the steps of what is played there, or one block again.
pub fn open_call(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    if !is_call(&scene) {
        return desk.refuse("the picked step plays no other sequence, and its row takes no words");
    }
    desk.model.in_sequence.open = !desk.model.in_sequence.open;
}
