//! Poses and sequences as wholes: they come, go, take other names, are copied and gone to; steps change their places.

use crate::screen::context::Context;
use crate::screen::form::{Field, Subject};
use crate::screen::pick::Pick;
use crate::screen::question::{Question, questions};
use crate::screen::sequence::acts as sequence;
use std::collections::HashSet;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::edit::sequences as edit;
use wasvolta_core::stage::Command;

questions! {
    NEW_SEQUENCE("new sequence") => |desk, _, form| {
        let name = form.word(0);
        let words = format!("{name} is a sequence now: ‹keep pose› keeps a pose, ‹insert step› inserts it as a step");
        let said = desk.done(&words, |rig| edit::add_sequence(rig, name))?;
        pick(desk, name);
        Ok(said)
    };
    RENAME_SEQUENCE("rename sequence") => |desk, Subject { of, .. }, form| {
        let name = form.word(0);
        desk.done(&format!("{of} is called {name} now"), |rig| edit::rename_sequence(rig, of, name))
    };
    COPY_SEQUENCE("copy sequence") => |desk, Subject { of, .. }, form| {
        let name = form.word(0);
        let said =
            desk.done(&format!("{name} is a copy of {of}"), |rig| edit::copy_sequence(rig, of, name))?;
        pick(desk, name);
        Ok(said)
    };
    REMOVE_SEQUENCE("remove sequence", words: |scene, form| {
        let of = &form.subject.of;
        let steps = scene.rig.sequences.iter().find(|s| s.name == *of).map_or(0, |s| s.steps.len());
        let steps = if steps == 1 { "its step".to_owned() } else { format!("its {steps} steps") };
        format!("Remove the sequence {of} with {steps}? Its poses stay. It can be undone.")
    }) => |desk, Subject { of, .. }, _| {
        desk.done(&format!("{of} removed; ‹undo› brings it back"), |rig| edit::remove_sequence(rig, of))
    };
    GO_TO_SEQUENCE("go to sequence") => |desk, _, form| {
        let name = form.word(0);
        if desk.session.document.rig.sequences.iter().all(|s| s.name != name) {
            return Err(format!(
                "no sequence is called {name:?}: there is {}",
                sequences(&desk.session.document.rig)
            ));
        }
        pick(desk, name);
        Ok(format!("{name} is picked"))
    };
    RENAME_POSE("rename pose") => |desk, _, form| {
        let (pose, name) = (form.word(0), form.word(1));
        let words = format!("the pose {pose} is called {name} now, in its steps too");
        let said = desk.done(&words, |rig| edit::rename_pose(rig, pose, name))?;
        if desk.model.in_sequence.last_pose.as_deref() == Some(pose) {
            desk.model.in_sequence.last_pose = Some(name.to_owned());
        }
        Ok(said)
    };
    MIRROR_POSE("mirror pose") => |desk, _, form| {
        let (pose, name) = (form.word(0), form.word(1));
        let words = format!("the pose {name} is the mirror image of {pose}; ‹insert step› inserts it as a step");
        let said = desk.done(&words, |rig| edit::mirror_pose(rig, pose, name))?;
        desk.model.in_sequence.last_pose = Some(name.to_owned());
        Ok(said)
    };
    BLEND_POSES("blend poses") => |desk, _, form| {
        let (one, other, name) = (form.word(0), form.word(1), form.word(3));
        let percent = crate::screen::entry::plain(form.word(2).trim_end_matches('%').trim_end())?;
        wasvolta_core::range::LEVEL.check(percent).map_err(|bad| bad.to_string())?;
        let words = format!("the pose {name} is {percent:.0} % of the way from {one} to {other}");
        let said = desk.done(&words, |rig| edit::blend_poses(rig, (one, other), percent / 100.0, name))?;
        desk.model.in_sequence.last_pose = Some(name.to_owned());
        Ok(said)
    };
    TWO_STATES("two states") => |desk, Subject { of, .. }, form| {
        let scene = desk.model.scene(desk.session);
        let servo = scene.rig.servos.iter().find(|servo| scene.rig.spoken_name(servo) == Some(of));
        let kind = servo.map(|servo| servo.kind).ok_or_else(|| format!("{of} is not there any more"))?;
        let value = |text: &str| {
            if kind.has_angles() {
                return crate::screen::entry::angle(text);
            }
            let percent = crate::screen::entry::plain(text.trim_end_matches('%').trim_end())?;
            Ok(wasvolta_core::unit::Degrees::new(percent))
        };
        let (open, shut) = (form.word(0), form.word(2));
        let (open_at, shut_at) = (value(form.word(1))?, value(form.word(3))?);
        let words = format!("{open} and {shut} are the two states of {of}; ‹other state› goes from one to the other");
        let edit = |rig: &Rig| edit::two_states(rig, (kind, of), (open, open_at), (shut, shut_at));
        let said = desk.done(&words, edit)?;
        desk.model.in_sequence.last_pose = Some(open.to_owned());
        Ok(said)
    };
    FIT_LENGTH("fit to length") => |desk, Subject { of, .. }, form| {
        let wanted = crate::screen::entry::seconds(form.word(0))?;
        let now = desk.model.scene(desk.session).sequence().map_or(0.0, |(_, program)| program.length());
        let words = format!("{of} takes {wanted:.2} s now, each loop once: its dwells first");
        desk.done(&words, |rig| edit::lengthen(rig, of, wanted - now))
    };
    PARAMETERS("parameters") => |desk, Subject { of, .. }, form| {
        let mut all = std::collections::BTreeMap::new();
        for said in form.word(0).split(',').map(str::trim).filter(|said| !said.is_empty()) {
            let (name, value) = said.split_once('=').ok_or("as strokes = 3, rounds = 1; empty removes all")?;
            let value: u32 = value.trim().parse().map_err(|_| "a whole number from 0 to 1000".to_owned())?;
            all.insert(name.trim().to_owned(), value);
        }
        let words = format!("{of} has {} now", crate::say::counted(all.len(), "parameter"));
        desk.done(&words, |rig| edit::change_sequence(rig, of, |own| own.parameters = all))
    };
    COPY_POSE("copy pose") => |desk, _, form| {
        let (pose, name) = (form.word(0), form.word(1));
        let words = format!("the pose {name} is a copy of {pose}; ‹insert step› inserts it as a step");
        let said = desk.done(&words, |rig| edit::copy_pose(rig, pose, name))?;
        desk.model.in_sequence.last_pose = Some(name.to_owned());
        Ok(said)
    };
    REMOVE_POSE("remove pose") => |desk, _, form| {
        let pose = form.word(0);
        let words = format!("the pose {pose} removed; ‹undo› brings it back");
        let said = desk.done(&words, |rig| edit::remove_pose(rig, pose))?;
        desk.model.in_sequence.last_pose.take_if(|last| last == pose);
        Ok(said)
    };
    GO_TO_POSE("go to pose") => |desk, _, form| glide_to(desk, form.word(0));
}

/// Picks a sequence by its name, from its beginning.
fn pick(desk: &mut Context, name: &str) {
    let place = desk.session.document.rig.sequences.iter().position(|s| s.name == name);
    if let Some(place) = place {
        desk.model.sequence = Pick::at(&desk.session.document.rig.sequences, place);
        let state = &mut desk.model.in_sequence;
        (state.step, state.anchor, state.time, state.zoom, state.open) = (0, 0, 0.0, 1.0, false);
    }
}

fn sequences(rig: &Rig) -> String {
    rig.sequences.iter().map(|s| s.name.as_str()).collect::<Vec<_>>().join(", ")
}

fn poses(rig: &Rig) -> String {
    const SHOWN: usize = 8;
    let names: Vec<&str> = rig.poses.iter().map(|p| p.name.as_str()).take(SHOWN).collect();
    let more = rig.poses.len().saturating_sub(SHOWN);
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    format!("there is {}{more}", names.join(", "))
}

/// A name that none of some has: the same with the least number behind it that is free.
fn free_name<'a>(like: &str, taken: impl Iterator<Item = &'a str>) -> String {
    let taken: HashSet<&str> = taken.collect();
    let numbered = (2..).map(|n| format!("{like}-{n}"));
    let free = |name: &String| !taken.contains(name.as_str());
    std::iter::once(like.to_owned()).chain(numbered).find(free).unwrap_or_default()
}

fn picked(desk: &Context) -> Option<String> {
    desk.session.runner.edition.sequence(desk.model.sequence.id).map(|sequence| sequence.name.clone())
}

fn open(desk: &mut Context, question: &Question, of: &str, fields: Vec<Field>) {
    desk.ask(question.name, Subject::of(of), fields);
}

/// Asks for a new sequence's name.
pub fn new_sequence(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let name = free_name("sequence", rig.sequences.iter().map(|s| s.name.as_str()));
    open(desk, &NEW_SEQUENCE, "", vec![Field::new("name", name, "as wake")]);
}

/// Asks for another name.
pub fn rename_sequence(desk: &mut Context) {
    let Some(of) = picked(desk) else { return };
    open(desk, &RENAME_SEQUENCE, &of, vec![Field::new("name", of.clone(), "as wake")]);
}

/// Asks for the name of a copy.
pub fn copy_sequence(desk: &mut Context) {
    let Some(of) = picked(desk) else { return };
    let name = free_name(&of, desk.session.document.rig.sequences.iter().map(|s| s.name.as_str()));
    open(desk, &COPY_SEQUENCE, &of, vec![Field::new("name", name, "of the copy")]);
}

/// Asks whether a sequence may go.
pub fn remove_sequence(desk: &mut Context) {
    let Some(of) = picked(desk) else { return };
    open(desk, &REMOVE_SEQUENCE, &of, Vec::new());
}

/// Asks which sequence to pick.
pub fn go_to_sequence(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let here = desk.session.runner.edition.index.sequences.place(desk.model.sequence.id).unwrap_or(0);
    let next = rig.sequences.get((here + 1) % rig.sequences.len().max(1));
    let name = next.map(|sequence| sequence.name.clone()).unwrap_or_default();
    let hint = format!("there is {}", sequences(rig));
    open(desk, &GO_TO_SEQUENCE, "", vec![Field::new("sequence", name, hint)]);
}

/// The pose that is likely meant: that of the picked step, else the one kept last.
fn likely_pose(desk: &Context) -> Option<String> {
    let sequence = desk.session.runner.edition.sequence(desk.model.sequence.id);
    let step = sequence.and_then(|sequence| sequence.steps.get(desk.model.in_sequence.step));
    let first = || desk.session.document.rig.poses.first().map(|pose| pose.name.clone());
    step.and_then(|step| step.pose.clone())
        .or_else(|| desk.model.in_sequence.last_pose.clone())
        .or_else(first)
}

fn about_pose(desk: &mut Context, question: &Question, name: Option<fn(&str, &Rig) -> String>) {
    let Some(pose) = likely_pose(desk) else { return };
    let mut fields = vec![Field::new("pose", pose.clone(), poses(&desk.session.document.rig))];
    if let Some(name) = name {
        fields.push(Field::new("name", name(&pose, &desk.session.document.rig), "its other name"));
    }
    open(desk, question, "", fields);
}

/// Asks for another name of a pose.
pub fn rename_pose(desk: &mut Context) {
    about_pose(desk, &RENAME_POSE, Some(|pose, _| pose.to_owned()));
}

/// Asks for the name of a pose's copy.
pub fn copy_pose(desk: &mut Context) {
    about_pose(
        desk,
        &COPY_POSE,
        Some(|pose, rig| free_name(pose, rig.poses.iter().map(|p| p.name.as_str()))),
    );
}

/// Asks for the name of a pose's mirror image.
pub fn mirror_pose(desk: &mut Context) {
    let free = |pose: &str, rig: &Rig| {
        free_name(&format!("{pose}-mirrored"), rig.poses.iter().map(|p| p.name.as_str()))
    };
    about_pose(desk, &MIRROR_POSE, Some(free));
}

/// Asks for a pose between two others.
pub fn blend_poses(desk: &mut Context) {
    let Some(one) = likely_pose(desk) else { return };
    let rig = &desk.session.document.rig;
    let other = rig.poses.iter().map(|pose| pose.name.clone()).find(|name| *name != one).unwrap_or_default();
    let name = free_name("between", rig.poses.iter().map(|p| p.name.as_str()));
    let fields = vec![
        Field::new("from", one, poses(rig)),
        Field::new("to", other, "another one with the same joints"),
        Field::new("how far", "50 %", "of the way, 0 to 100 %"),
        Field::new("name", name, "of the new pose"),
    ];
    open(desk, &BLEND_POSES, "", fields);
}

/// Asks for the two states of the picked joint: names, and a value each.
pub fn two_states(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(picked) = scene.picked() else { return };
    let Some(of) = scene.rig.spoken_name(picked.servo).map(str::to_owned) else {
        return desk.refuse("no pose can have it: it turns no joint");
    };
    let limit = |limit: Option<&wasvolta_core::rig::Limit>, usual: &str| {
        limit.map_or_else(|| usual.to_owned(), |limit| picked.servo.kind.show(limit.angle_deg))
    };
    let turns = picked.servo.kind.has_angles();
    let high = limit(picked.joint.and_then(|joint| joint.high.as_ref()), if turns { "40" } else { "100 %" });
    let low = limit(picked.joint.and_then(|joint| joint.low.as_ref()), if turns { "0" } else { "0 %" });
    let short = of.rsplit('.').next().unwrap_or_default().to_owned();
    let fields = vec![
        Field::new("open", format!("{short}-open"), "what the pose of the one state is called"),
        Field::new("at", high, "where the part is then"),
        Field::new("shut", format!("{short}-shut"), "what the pose of the other is called"),
        Field::new("at ", low, "where the part is then"),
    ];
    open(desk, &TWO_STATES, &of, fields);
}

/// Asks how long the sequence is to be.
pub fn fit_length(desk: &mut Context) {
    let Some(of) = picked(desk) else { return };
    let now = desk.model.scene(desk.session).sequence().map_or(0.0, |(_, program)| program.length());
    open(
        desk,
        &FIT_LENGTH,
        &of,
        vec![Field::new("length", format!("{now:.2} s"), "each loop once; dwells give way first")],
    );
}

/// Asks for the sequence's parameters.
pub fn parameters(desk: &mut Context) {
    let Some(of) = picked(desk) else { return };
    let rig = &desk.session.document.rig;
    let own = rig.sequences.iter().find(|s| s.name == of).map(|s| &s.parameters);
    let now: Vec<String> =
        own.into_iter().flatten().map(|(name, value)| format!("{name} = {value}")).collect();
    let hint = "as strokes = 3: what it is where nobody gives another; a loop's row may name it";
    open(desk, &PARAMETERS, &of, vec![Field::new("parameters", now.join(", "), hint)]);
}

/// Asks which pose may go.
pub fn remove_pose(desk: &mut Context) {
    about_pose(desk, &REMOVE_POSE, None);
}

/// Asks to which pose all engaged joints go.
pub fn go_to_pose(desk: &mut Context) {
    about_pose(desk, &GO_TO_POSE, None);
}

/// All engaged parts that a pose speaks of glide there; the hand has them then.
fn glide_to(desk: &mut Context, name: &str) -> Result<String, String> {
    let scene = desk.model.scene(desk.session);
    let pose = scene.edition.parts().pose(name);
    let pose = pose.ok_or_else(|| format!("no pose is called {name:?}: {}", poses(scene.rig)))?;
    let (mut goes, mut waits) = (Vec::new(), 0);
    for n in 0..scene.rig.servos.len() {
        let Some(part) = scene.servo(n) else { continue };
        let spoken = scene.edition.parts().spoken_name(part.servo);
        let target = spoken.and_then(|spoken| pose.target(part.servo.kind, spoken));
        let (Some(target), Some(scale)) = (target, &part.plan.scale) else { continue };
        if part.state.engaged {
            goes.push(Command::GoTo { servo: part.servo.id, pulse: scale.pulse_at(target) });
        } else {
            waits += 1;
        }
    }
    if goes.is_empty() {
        return Err(format!(
            "no joint of {name} is engaged and has marks: ‹engage› engages the picked servo"
        ));
    }
    let count = goes.len();
    for command in goes {
        desk.command(command);
    }
    let parts = if count == 1 { "1 part glides".to_owned() } else { format!("{count} parts glide") };
    let rest = if waits == 0 { String::new() } else { format!("; {waits} of it get no pulses and stay") };
    Ok(format!("{parts} to {name}; ‹give back› or ‹give all back› gives back{rest}"))
}

/// Moves the picked step to the place before it.
pub fn step_earlier(desk: &mut Context) {
    move_step(desk, desk.model.in_sequence.step.checked_sub(1));
}

/// Moves the picked step to the place behind it.
pub fn step_later(desk: &mut Context) {
    let steps = desk.session.runner.edition.sequence(desk.model.sequence.id).map_or(0, |s| s.steps.len());
    move_step(desk, Some(desk.model.in_sequence.step + 1).filter(|to| *to < steps));
}

fn move_step(desk: &mut Context, to: Option<usize>) {
    let (Some(name), from) = (picked(desk), desk.model.in_sequence.step) else { return };
    let Some(to) = to else { return desk.refuse("the step is at that end already") };
    let words = format!("step {} is step {} now", from + 1, to + 1);
    if desk.edit(&words, |rig| edit::move_step(rig, &name, from, to)) {
        sequence::pick_step(desk, to);
    }
}

/// Puts a copy of the picked step behind it.
pub fn copy_step(desk: &mut Context) {
    let (Some(name), at) = (picked(desk), desk.model.in_sequence.step) else { return };
    if desk
        .edit(&format!("step {} is a copy of step {}", at + 2, at + 1), |rig| edit::copy_step(rig, &name, at))
    {
        sequence::pick_step(desk, at + 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_free_name_has_the_least_number() {
        let taken = ["wake", "wake-2", "wake-4"];
        assert_eq!(free_name("wake", taken.into_iter()), "wake-3");
        assert_eq!(free_name("sleep", taken.into_iter()), "sleep");
    }
}
