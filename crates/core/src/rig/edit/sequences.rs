//! Edits of poses and sequences: they come, go, take other names and are copied; steps come, go, and change their places.

use super::{Edited, Refused, changed, missing, rounded_angle};
use crate::rig::{Kind, Loop, Mapping, Pose, PoseId, Rig, Sequence, SequenceId, Step, Times};
use crate::unit::{Degrees, Percent, Seconds};

/// Keeps a pose under a name; one of that name is replaced. `targets` are angles of joints and levels of what has
/// those, by the names that poses have for them.
pub fn keep_pose(rig: &Rig, name: &str, targets: &[(Kind, String, Degrees)]) -> Edited {
    changed(rig, |rig| {
        let mut pose = Pose { name: name.to_owned(), ..Pose::default() };
        for (kind, part, target) in targets {
            let target = rounded_angle(*target);
            if kind.has_angles() {
                pose.angles_deg.insert(part.clone(), target);
            } else {
                pose.levels_percent.insert(part.clone(), Percent::new(target.get()));
            }
        }
        match rig.poses.iter_mut().find(|p| p.name == name) {
            Some(old) => *old = Pose { id: old.id, opposite: old.opposite.take(), ..pose },
            None => rig.poses.push(pose),
        }
        Ok(())
    })
}

/// Gives a part two states: two poses that speak of it alone, and that are each other's opposite.
pub fn two_states(
    rig: &Rig,
    (kind, part): (Kind, &str),
    (open, open_at): (&str, Degrees),
    (shut, shut_at): (&str, Degrees),
) -> Edited {
    let rig = keep_pose(rig, open, &[(kind, part.to_owned(), open_at)])?;
    let rig = keep_pose(&rig, shut, &[(kind, part.to_owned(), shut_at)])?;
    changed(&rig, |rig| {
        pose_mut(rig, open)?.opposite = Some(shut.to_owned());
        pose_mut(rig, shut)?.opposite = Some(open.to_owned());
        Ok(())
    })
}

/// Puts a step to a pose into a sequence, before `at`, with a second to get there; a sequence of a new name is made.
pub fn insert_step(rig: &Rig, sequence: &str, at: usize, pose: &str) -> Edited {
    insert(rig, sequence, at, Step::to_pose(pose, Seconds::new(1.0)))
}

/// Puts a step of any kind into a sequence, before `at`; a sequence of a new name is made.
pub fn insert(rig: &Rig, sequence: &str, at: usize, step: Step) -> Edited {
    changed(rig, |rig| {
        match rig.sequences.iter_mut().find(|s| s.name == sequence) {
            Some(found) => found.steps.insert(at.min(found.steps.len()), step),
            None => rig.sequences.push(Sequence {
                name: sequence.to_owned(),
                steps: vec![step],
                ..Sequence::default()
            }),
        }
        Ok(())
    })
}

/// Takes a step out of a sequence.
pub fn remove_step(rig: &Rig, sequence: &str, at: usize) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        if at >= found.steps.len() {
            return Err(missing("step", &(at + 1).to_string()));
        }
        let_go_of_loops(found, at);
        found.steps.remove(at);
        Ok(())
    })
}

/// A loop that begins or ends at a step begins at the next or ends at the one before; a loop of that step alone goes.
fn let_go_of_loops(sequence: &mut Sequence, at: usize) {
    let spans: Vec<Option<(usize, usize)>> = sequence.loops.iter().map(|own| sequence.span(own)).collect();
    for (n, span) in spans.into_iter().enumerate().rev() {
        match span {
            Some((from, to)) if from == at && to == at => drop(sequence.loops.remove(n)),
            Some((from, to)) if from == at || to == at => {
                let other = if from == at { from + 1 } else { to - 1 };
                let label = label(sequence, other);
                if let Some(own) = sequence.loops.get_mut(n) {
                    *(if from == at { &mut own.from } else { &mut own.to }) = label;
                }
            }
            _ => {}
        }
    }
}

/// The label of a step; one that has none gets one.
fn label(sequence: &mut Sequence, at: usize) -> String {
    if let Some(label) = sequence.steps.get(at).and_then(|step| step.label.clone()) {
        return label;
    }
    // Among one name more than there are steps, one is free.
    let names = (at + 1..=at + sequence.steps.len() + 1).map(|n| format!("step-{n}"));
    let free = names.into_iter().find(|name| sequence.labelled(name).is_none());
    let free = free.unwrap_or_default();
    if let Some(step) = sequence.steps.get_mut(at) {
        step.label = Some(free.clone());
    }
    free
}

/// Gives a step a label, or takes it off; loops and jumps that speak of it follow.
pub fn label_step(rig: &Rig, sequence: &str, at: usize, name: Option<&str>) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        let step = found.steps.get_mut(at).ok_or_else(|| missing("step", &(at + 1).to_string()))?;
        let before = std::mem::replace(&mut step.label, name.map(str::to_owned));
        if let (Some(before), Some(name)) = (before, name) {
            let ends = found.loops.iter_mut().flat_map(|own| [&mut own.from, &mut own.to]);
            let jumps = found.steps.iter_mut().filter_map(|step| step.wait_for.as_mut()?.to.as_mut());
            ends.chain(jumps).filter(|own| **own == before).for_each(|own| name.clone_into(own));
        }
        Ok(())
    })
}

/// Plays some steps more than once; labels are given where there are none.
pub fn loop_steps(rig: &Rig, sequence: &str, (from, to): (usize, usize), times: Option<Times>) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        if to >= found.steps.len() || from > to {
            return Err(missing("step", &(to + 1).to_string()));
        }
        let (from, to) = (label(found, from), label(found, to));
        found.loops.push(Loop { from, to, times, until: None });
        Ok(())
    })
}

/// Changes a loop.
pub fn change_loop(rig: &Rig, sequence: &str, at: usize, change: impl FnOnce(&mut Loop)) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        change(found.loops.get_mut(at).ok_or_else(|| missing("loop", &(at + 1).to_string()))?);
        Ok(())
    })
}

/// Takes a loop off; its steps and their labels stay.
pub fn remove_loop(rig: &Rig, sequence: &str, at: usize) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        if at >= found.loops.len() {
            return Err(missing("loop", &(at + 1).to_string()));
        }
        found.loops.remove(at);
        Ok(())
    })
}

/// Changes what a sequence says of itself.
pub fn change_sequence(rig: &Rig, sequence: &str, change: impl FnOnce(&mut Sequence)) -> Edited {
    changed(rig, |rig| {
        change(sequence_mut(rig, sequence)?);
        Ok(())
    })
}

/// Gives steps the move times that they need: each the greatest that is asked for it. With `keep` what that takes is taken
/// from the dwell, as far as there is one, so that the length stays.
pub fn stretch(rig: &Rig, needs: &[(String, usize, f64)], keep: bool) -> Edited {
    changed(rig, |rig| {
        for (sequence, at, needs) in needs {
            let found = sequence_mut(rig, sequence)?;
            let step = found.steps.get_mut(*at).ok_or_else(|| missing("step", &(at + 1).to_string()))?;
            let needs = crate::sequence::rounded_up(*needs);
            let before = step.move_s.unwrap_or(Seconds::ZERO).get();
            if needs <= before {
                continue;
            }
            step.move_s = Some(Seconds::new(needs));
            step.speed_deg_s = None;
            if keep {
                let left = libm::fmax(step.dwell_s.get() - (needs - before), 0.0);
                step.dwell_s = Seconds::new(libm::round(left * 1000.0) / 1000.0);
            }
        }
        Ok(())
    })
}

/// Makes a sequence longer or shorter by so many seconds: its dwells first, as far as there are any, then all times of its
/// own alike. What it plays and what goes as fast as it can stays.
///
/// # Errors
/// When its own times are less than what must go.
pub fn lengthen(rig: &Rig, sequence: &str, by: f64) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        let tempo = found.tempo();
        let by = by * tempo;
        let dwells: f64 = found.steps.iter().map(|step| step.dwell_s.get()).sum();
        let moves: f64 = found.steps.iter().filter_map(|step| Some(step.move_s?.get())).sum();
        if dwells + moves + by <= 0.0 {
            let message = format!("its fixed times add up to {:.2} s", (dwells + moves) / tempo);
            return Err(Refused::Unsound { message, help: "ask for more time".to_owned() });
        }
        let new_dwells = if dwells > 0.0 { libm::fmax(dwells + by, 0.0) } else { 0.0 };
        let new_moves = moves + by - (new_dwells - dwells);
        let scaled = |time: Seconds, old: f64, new: f64| {
            Seconds::new(libm::round(time.get() * new / old * 1000.0) / 1000.0)
        };
        for step in &mut found.steps {
            if dwells > 0.0 {
                step.dwell_s = scaled(step.dwell_s, dwells, new_dwells);
            }
            step.move_s =
                step.move_s.map(|time| if moves > 0.0 { scaled(time, moves, new_moves) } else { time });
        }
        Ok(())
    })
}

/// Splits a step's move: to a new pose at the share `share` of its time, and from there on. What its joints had of their
/// own, as a lag, means nothing in either part, and is left out.
pub fn split_step(
    rig: &Rig,
    sequence: &str,
    at: usize,
    (pose, targets): (&str, &[(Kind, String, Degrees)]),
    share: f64,
) -> Edited {
    let rig = keep_pose(rig, pose, targets)?;
    changed(&rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        let step = found.steps.get_mut(at).ok_or_else(|| missing("step", &(at + 1).to_string()))?;
        let whole = step.move_s.unwrap_or(Seconds::ZERO).get();
        let first = libm::round(whole * share * 1000.0) / 1000.0;
        let before = Step {
            label: step.label.take(),
            pose: Some(pose.to_owned()),
            move_s: Some(Seconds::new(first)),
            easing: step.easing,
            accel_deg_s2: step.accel_deg_s2,
            ..Step::default()
        };
        step.move_s = Some(Seconds::new(libm::round((whole - first) * 1000.0) / 1000.0));
        step.joints.clear();
        found.steps.insert(at, before);
        Ok(())
    })
}

/// Joins a step with the next one: its pose goes, its time is the next one's too.
///
/// # Errors
/// When one of the two does not go to a pose in a time of its own.
pub fn join_steps(rig: &Rig, sequence: &str, at: usize) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        let time = |step: Option<&Step>| {
            let step = step?;
            Some((step.move_s.filter(|_| step.pose.is_some())?.get(), step.dwell_s.get()))
        };
        let times = time(found.steps.get(at)).zip(time(found.steps.get(at + 1)));
        let Some(((moves, dwells), (next, _))) = times else {
            let message = "only two steps that go to poses in a time can be joined".to_owned();
            return Err(Refused::Unsound { message, help: "pick the first of two such steps".to_owned() });
        };
        let_go_of_loops(found, at);
        let gone = found.steps.remove(at);
        if let Some(step) = found.steps.get_mut(at) {
            step.move_s = Some(Seconds::new(moves + dwells + next));
            step.label = step.label.take().or(gone.label);
        }
        Ok(())
    })
}

/// Changes a pose.
pub fn change_pose(rig: &Rig, pose: &str, change: impl FnOnce(&mut Pose)) -> Edited {
    changed(rig, |rig| {
        change(pose_mut(rig, pose)?);
        Ok(())
    })
}

/// Keeps the mirror image of a pose under a name: what has one changes sides with it, the rest stays.
///
/// # Errors
/// When nothing of it has one.
pub fn mirror_pose(rig: &Rig, pose: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let of = rig.pose(pose).ok_or_else(|| missing("pose", pose))?.clone();
        let mut mirrored =
            Pose { id: PoseId::default(), name: name.to_owned(), opposite: None, ..of.clone() };
        let mut any = false;
        for joint in &rig.joints {
            let Some(mirror) = &joint.mirror_of else { continue };
            let (left, right) = (of.angles_deg.get(&mirror.joint), of.angles_deg.get(&joint.name));
            any |= left.is_some() || right.is_some();
            for (name, angle) in [
                (&joint.name, left.map(|angle| mirror.of(*angle))),
                (&mirror.joint, right.map(|angle| mirror.back(*angle))),
            ] {
                match angle {
                    Some(angle) => drop(mirrored.angles_deg.insert(name.clone(), rounded_angle(angle))),
                    None => drop(mirrored.angles_deg.remove(name)),
                }
            }
        }
        if !any {
            let message = format!("no joint of {pose} has a mirror image");
            let help = "write mirror_of = { joint = \"…\" } on one of two joints that mirror each other";
            return Err(Refused::Unsound { message, help: help.to_owned() });
        }
        match rig.poses.iter_mut().find(|p| p.name == name) {
            Some(old) => *old = Pose { id: old.id, opposite: old.opposite.take(), ..mirrored },
            None => rig.poses.push(mirrored),
        }
        Ok(())
    })
}

/// Keeps a pose between two others: `share` of the way from the first to the second, of what both speak of.
///
/// # Errors
/// When nothing is in both.
pub fn blend_poses(rig: &Rig, (one, other): (&str, &str), share: f64, name: &str) -> Edited {
    changed(rig, |rig| {
        let (a, b) = (
            rig.pose(one).ok_or_else(|| missing("pose", one))?,
            rig.pose(other).ok_or_else(|| missing("pose", other))?,
        );
        let between = |a: f64, b: f64| libm::round((a * (1.0 - share) + b * share) * 100.0) / 100.0;
        let angles = a.angles_deg.iter().filter_map(|(joint, from)| {
            Some((joint.clone(), Degrees::new(between(from.get(), b.angles_deg.get(joint)?.get()))))
        });
        let levels = a.levels_percent.iter().filter_map(|(part, from)| {
            Some((part.clone(), Percent::new(between(from.get(), b.levels_percent.get(part)?.get()))))
        });
        let mixed = Pose {
            name: name.to_owned(),
            angles_deg: angles.collect(),
            levels_percent: levels.collect(),
            ..Pose::default()
        };
        if mixed.angles_deg.is_empty() && mixed.levels_percent.is_empty() {
            let message = format!("{one} and {other} have no joint in common");
            return Err(Refused::Unsound { message, help: "blend poses that share a joint".to_owned() });
        }
        match rig.poses.iter_mut().find(|p| p.name == name) {
            Some(old) => *old = Pose { id: old.id, opposite: old.opposite.take(), ..mixed },
            None => rig.poses.push(mixed),
        }
        Ok(())
    })
}

/// Changes one step.
pub fn change_step(rig: &Rig, sequence: &str, at: usize, change: impl FnOnce(&mut Step)) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        change(found.steps.get_mut(at).ok_or_else(|| missing("step", &(at + 1).to_string()))?);
        Ok(())
    })
}

fn sequence_mut<'a>(rig: &'a mut Rig, name: &str) -> Result<&'a mut Sequence, Refused> {
    rig.sequences.iter_mut().find(|s| s.name == name).ok_or_else(|| missing("sequence", name))
}

/// Moves a step to another place of its sequence; those between make room.
pub fn move_step(rig: &Rig, sequence: &str, from: usize, to: usize) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        if from >= found.steps.len() || to >= found.steps.len() {
            return Err(missing("step", &(from.max(to) + 1).to_string()));
        }
        let step = found.steps.remove(from);
        found.steps.insert(to, step);
        Ok(())
    })
}

/// Puts a copy of a step behind it.
pub fn copy_step(rig: &Rig, sequence: &str, at: usize) -> Edited {
    changed(rig, |rig| {
        let found = sequence_mut(rig, sequence)?;
        let step = found.steps.get(at).cloned().ok_or_else(|| missing("step", &(at + 1).to_string()))?;
        found.steps.insert(at + 1, step);
        Ok(())
    })
}

/// Makes a sequence that has no step yet.
pub fn add_sequence(rig: &Rig, name: &str) -> Edited {
    changed(rig, |rig| {
        rig.sequences.push(Sequence { name: name.to_owned(), ..Sequence::default() });
        Ok(())
    })
}

/// Gives a sequence another name.
pub fn rename_sequence(rig: &Rig, sequence: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        name.clone_into(&mut sequence_mut(rig, sequence)?.name);
        let places = rig.mappings.iter_mut().filter_map(|mapping| mapping.to.place.as_mut());
        let calls = rig.sequences.iter_mut().flat_map(|s| &mut s.steps).filter_map(|step| step.play.as_mut());
        for played in
            rig.presses.iter_mut().filter_map(|press| press.sequence.as_mut()).chain(calls).chain(places)
        {
            if played == sequence {
                name.clone_into(played);
            }
        }
        Ok(())
    })
}

/// Puts a copy of a sequence behind it, under a name of its own.
pub fn copy_sequence(rig: &Rig, sequence: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let at = rig.sequences.iter().position(|s| s.name == sequence);
        let at = at.ok_or_else(|| missing("sequence", sequence))?;
        let copy = Sequence { id: SequenceId::default(), name: name.to_owned(), ..rig.sequences[at].clone() };
        rig.sequences.insert(at + 1, copy);
        Ok(())
    })
}

/// Takes a sequence out; its poses stay.
///
/// # Errors
/// When a press or another sequence plays it: that is named.
pub fn remove_sequence(rig: &Rig, sequence: &str) -> Edited {
    if let Some(press) = rig.presses.iter().find(|press| press.sequence.as_deref() == Some(sequence)) {
        let message = format!("a press of {} plays {sequence}", press.input);
        return Err(Refused::Unsound { message, help: "let that press do something else first".to_owned() });
    }
    if let Some(mapping) = rig.mappings.iter().find(|own| own.to.place.as_deref() == Some(sequence)) {
        let message = format!("the mapping {} sets the place in {sequence}", mapping.name);
        return Err(Refused::Unsound { message, help: "remove that mapping first".to_owned() });
    }
    if let Some(other) = rig.sequences.iter().find(|other| other.calls().any(|call| call == sequence)) {
        let message = format!("{} plays {sequence}", other.name);
        return Err(Refused::Unsound { message, help: "remove that step from it first".to_owned() });
    }
    changed(rig, |rig| {
        sequence_mut(rig, sequence)?;
        rig.sequences.retain(|s| s.name != sequence);
        Ok(())
    })
}

/// Gives a pose another name; the steps and mappings that go to it follow.
pub fn rename_pose(rig: &Rig, pose: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        name.clone_into(&mut pose_mut(rig, pose)?.name);
        let steps = rig.sequences.iter_mut().flat_map(|s| &mut s.steps);
        for own in steps.filter_map(|step| step.pose.as_mut()).filter(|own| *own == pose) {
            name.clone_into(own);
        }
        rig.mappings.iter_mut().for_each(|mapping| mapping.rename_pose(pose, name));
        for other in rig.poses.iter_mut().filter_map(|own| own.opposite.as_mut()).filter(|own| *own == pose) {
            name.clone_into(other);
        }
        Ok(())
    })
}

/// Puts a copy of a pose behind it, under a name of its own.
pub fn copy_pose(rig: &Rig, pose: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let at = rig.poses.iter().position(|p| p.name == pose).ok_or_else(|| missing("pose", pose))?;
        let copy =
            Pose { id: PoseId::default(), name: name.to_owned(), opposite: None, ..rig.poses[at].clone() };
        rig.poses.insert(at + 1, copy);
        Ok(())
    })
}

/// Takes a pose out.
///
/// # Errors
/// When a step or a mapping goes to it: those are named.
pub fn remove_pose(rig: &Rig, pose: &str) -> Edited {
    let users = users_of(rig, pose);
    if !users.is_empty() {
        let message = format!("the pose {pose} is used by {users}");
        return Err(Refused::Unsound { message, help: "give those another pose first".to_owned() });
    }
    changed(rig, |rig| {
        pose_mut(rig, pose)?;
        rig.poses.retain(|p| p.name != pose);
        rig.poses.iter_mut().for_each(|own| drop(own.opposite.take_if(|opposite| opposite == pose)));
        Ok(())
    })
}

/// The steps and mappings that go to a pose, in words: `steps 1 and 3 of wake`; empty when none does.
pub fn users_of(rig: &Rig, pose: &str) -> String {
    let of = |sequence: &Sequence| {
        let steps = sequence.steps.iter().enumerate().filter(|(_, step)| step.pose.as_deref() == Some(pose));
        let steps: Vec<String> = steps.map(|(n, _)| (n + 1).to_string()).collect();
        match steps.as_slice() {
            [] => None,
            [only] => Some(format!("step {only} of {}", sequence.name)),
            [first @ .., last] => Some(format!("steps {} and {last} of {}", first.join(", "), sequence.name)),
        }
    };
    let goes_there = |mapping: &&Mapping| {
        let failsafe = mapping.failsafe.as_ref().and_then(|failsafe| failsafe.pose.as_ref());
        mapping.to.poses().iter().chain(failsafe).any(|own| own == pose)
    };
    let mappings = rig.mappings.iter().filter(goes_there).map(|own| format!("the mapping {}", own.name));
    rig.sequences.iter().filter_map(of).chain(mappings).collect::<Vec<_>>().join(", ")
}

fn pose_mut<'a>(rig: &'a mut Rig, name: &str) -> Result<&'a mut Pose, Refused> {
    rig.poses.iter_mut().find(|p| p.name == name).ok_or_else(|| missing("pose", name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small as rig;
    use crate::rig::{StepJoint, Wait};
    use crate::unit::DegreesPerSecondSquared;

    fn poses(rig: &Rig) -> Vec<&str> {
        rig.sequences[0].steps.iter().filter_map(|step| step.pose.as_deref()).collect()
    }

    #[test]
    fn steps_change_places_and_are_copied_and_nothing_else_changes() {
        let rig = copy_step(&rig(), "wake", 1).unwrap();
        assert_eq!(poses(&rig), ["rest", "look", "look"]);
        assert_eq!(rig.sequences[0].steps[2], rig.sequences[0].steps[1], "with its times and easing");
        for (from, to, wanted) in [
            (0, 2, ["look", "look", "rest"]),
            (2, 0, ["look", "rest", "look"]),
            (1, 1, ["rest", "look", "look"]),
        ] {
            let moved = move_step(&rig, "wake", from, to).unwrap();
            assert_eq!(poses(&moved), wanted, "{from} to {to}");
            assert_eq!(move_step(&moved, "wake", to, from).unwrap(), rig, "and back");
        }
        assert!(move_step(&rig, "wake", 0, 3).is_err() && move_step(&rig, "wake", 3, 0).is_err());
        assert!(copy_step(&rig, "wake", 3).is_err() && copy_step(&rig, "sleep", 0).is_err());
    }

    #[test]
    fn loops_follow_their_steps_and_labels_what_speaks_of_them() {
        let rig = copy_step(&rig(), "wake", 1).unwrap();
        let looped = loop_steps(&rig, "wake", (0, 1), Some(Times::Count(3))).unwrap();
        let own = |rig: &Rig| rig.sequences[0].loops.first().map(|own| (own.from.clone(), own.to.clone()));
        assert_eq!(own(&looped), Some(("step-1".into(), "step-2".into())));
        let named = label_step(&looped, "wake", 0, Some("top")).unwrap();
        assert_eq!(own(&named), Some(("top".into(), "step-2".into())));
        let shorter = remove_step(&named, "wake", 0).unwrap();
        assert_eq!(own(&shorter), Some(("step-2".into(), "step-2".into())));
        assert_eq!(own(&remove_step(&shorter, "wake", 0).unwrap()), None);
        assert!(label_step(&looped, "wake", 2, Some("step-1")).is_err(), "a second one");
        let changed = change_loop(&looped, "wake", 0, |own| own.times = None).unwrap();
        assert_eq!(changed.sequences[0].loops[0].times, None);
        assert_eq!(remove_loop(&looped, "wake", 0).unwrap().sequences[0].loops, []);
    }

    #[test]
    fn what_sequences_wait_for_follows_its_name_and_does_not_go() {
        let wait = || Wait { input: Some("knob".into()), above: Some(0.5), ..Wait::default() };
        let waiting = insert(&rig(), "wake", 2, Step { wait_for: Some(wait()), ..Step::default() }).unwrap();
        let looped = loop_steps(&waiting, "wake", (0, 1), None).unwrap();
        let looped = change_loop(&looped, "wake", 0, |own| own.until = Some(wait())).unwrap();
        let renamed = super::super::links::rename_input(&looped, "knob", "dial").unwrap();
        assert!(renamed.sequences[0].waits().all(|wait| wait.input.as_deref() == Some("dial")));
        let words = super::super::links::remove_input(&renamed, "dial").unwrap_err().to_string();
        assert_eq!(words, "wake waits for dial: let it wait for something else first");
        // A joint takes its mirror image along, and lets go of it.
        let mut paired = rig();
        paired.joints[1].mirror_of =
            Some(crate::rig::Mirror { joint: "heron.neck".into(), ..crate::rig::Mirror::default() });
        let roster = super::super::roster::rename_servo(&paired, "heron.neck", "heron.throat").unwrap();
        assert_eq!(roster.joints[1].mirror_of.as_ref().unwrap().joint, "heron.throat");
        let gone = super::super::roster::remove_servo(&paired, "heron.neck").unwrap();
        assert!(gone.joints.iter().all(|joint| joint.mirror_of.is_none()));
    }

    #[test]
    fn steps_are_stretched_at_their_own_cost_or_at_that_of_their_dwell() {
        let rig = rig();
        let needs = [("wake".to_owned(), 1, 1.2345)];
        let longer = stretch(&rig, &needs, false).unwrap();
        let times = |rig: &Rig, n: usize| {
            let step = &rig.sequences[0].steps[n];
            (step.move_s.map(Seconds::get), step.dwell_s.get())
        };
        assert_eq!(times(&longer, 1), (Some(1.24), 0.5));
        assert_eq!(times(&stretch(&rig, &needs, true).unwrap(), 1), (Some(1.24), 0.26));
        assert_eq!(stretch(&rig, &[("wake".to_owned(), 1, 0.5)], false).unwrap(), rig, "it has more already");
        // 2 s in all, half a second of it a dwell.
        let fits = lengthen(&rig, "wake", -0.3).unwrap();
        assert_eq!((times(&fits, 0), times(&fits, 1)), ((Some(0.5), 0.0), (Some(1.0), 0.2)), "dwells first");
        let less = lengthen(&rig, "wake", -1.25).unwrap();
        assert_eq!((times(&less, 0), times(&less, 1)), ((Some(0.25), 0.0), (Some(0.5), 0.0)));
        assert!(lengthen(&rig, "wake", -2.0).is_err());
    }

    #[test]
    fn steps_are_split_at_a_pose_between_and_joined_again() {
        let rig = rig();
        let between = [(Kind::Positional, "heron.neck".to_owned(), Degrees::new(20.0))];
        let split = split_step(&rig, "wake", 1, ("half", &between), 0.25).unwrap();
        assert_eq!(poses(&split), ["rest", "half", "look"]);
        let step = &split.sequences[0].steps[1];
        assert_eq!(
            (step.move_s.map(Seconds::get), step.easing),
            (Some(0.25), rig.sequences[0].steps[1].easing)
        );
        let joined = join_steps(&split, "wake", 1).unwrap();
        assert_eq!(joined.sequences, rig.sequences);
        // Both parts keep their ramps; a lag of the whole means nothing in either.
        let ramped = change_step(&rig, "wake", 1, |step| {
            step.accel_deg_s2 = Some(DegreesPerSecondSquared::new(250.0));
            step.joints
                .insert("heron.neck".into(), StepJoint { lag_s: Seconds::new(0.1), ..StepJoint::default() });
        })
        .unwrap();
        let split = split_step(&ramped, "wake", 1, ("half", &between), 0.25).unwrap();
        for step in &split.sequences[0].steps[1..3] {
            assert!(step.accel_deg_s2.is_some() && step.joints.is_empty(), "{step:?}");
        }
        assert!(join_steps(&rig, "wake", 1).is_err(), "nothing is behind it");
    }

    #[test]
    fn a_part_with_two_states_has_two_poses_that_are_each_others_opposite() {
        let beak = (Kind::Positional, "heron.beak");
        let rig =
            two_states(&rig(), beak, ("open", Degrees::new(40.0)), ("shut", Degrees::new(2.0))).unwrap();
        let of = |rig: &Rig, name: &str| rig.pose(name).unwrap().opposite.clone();
        assert_eq!((of(&rig, "open"), of(&rig, "shut")), (Some("shut".into()), Some("open".into())));
        assert_eq!(rig.pose("open").unwrap().angles_deg.len(), 1);
        let named = rename_pose(&rig, "open", "agape").unwrap();
        assert_eq!(of(&named, "shut"), Some("agape".into()));
        let kept = keep_pose(&named, "shut", &[(beak.0, beak.1.into(), Degrees::new(3.0))]).unwrap();
        assert_eq!(of(&kept, "shut"), Some("agape".into()), "kept anew it stays one of the two");
        assert_eq!(of(&copy_pose(&kept, "shut", "tight").unwrap(), "tight"), None);
        assert_eq!(of(&remove_pose(&kept, "agape").unwrap(), "shut"), None);
        let alone = change_pose(&kept, "agape", |pose| pose.opposite = None).unwrap_err().to_string();
        assert!(alone.starts_with("shut and agape are not each other's opposite"), "{alone}");
    }

    #[test]
    fn poses_are_mirrored_and_blended() {
        let mut rig = rig();
        assert!(mirror_pose(&rig, "rest", "tser").is_err());
        rig.joints[1].mirror_of = Some(crate::rig::Mirror {
            joint: "heron.neck".into(),
            same_sign: false,
            offset_deg: Degrees::new(5.0),
        });
        rig.poses[1].angles_deg.insert("heron.beak".into(), Degrees::new(12.0));
        let twin = mirror_pose(&rig, "look", "kool").unwrap();
        let kool = twin.pose("kool").unwrap();
        assert_eq!((kool.angles_deg["heron.beak"].get(), kool.angles_deg["heron.neck"].get()), (-35.0, -7.0));
        let back = mirror_pose(&twin, "kool", "look").unwrap();
        assert_eq!(back.pose("look"), rig.pose("look"), "twice it is the same");
        let mixed = blend_poses(&rig, ("rest", "look"), 0.25, "mixed").unwrap();
        let mixed = mixed.pose("mixed").unwrap();
        assert_eq!(
            (mixed.angles_deg["heron.neck"].get(), mixed.angles_deg["heron.beak"].get()),
            (10.0, 10.5)
        );
    }

    #[test]
    fn sequences_come_go_take_other_names_and_are_copied_with_ids_of_their_own() {
        let rig = rig();
        let more = add_sequence(&rig, "sleep").unwrap();
        assert_eq!((more.sequences.len(), more.sequences[1].steps.len()), (2, 0));
        let twin = copy_sequence(&more, "wake", "wake-2").unwrap();
        assert_eq!(twin.sequences[1].steps, rig.sequences[0].steps);
        let ids: std::collections::BTreeSet<_> = twin.sequences.iter().map(|s| s.id).collect();
        assert_eq!(ids.len(), 3, "{ids:?}");
        let named = rename_sequence(&twin, "wake-2", "strike").unwrap();
        assert_eq!(
            (named.sequences[1].id, named.sequences[1].name.as_str()),
            (twin.sequences[1].id, "strike")
        );
        assert_eq!(remove_sequence(&twin, "wake-2").unwrap(), more);
        for taken in [add_sequence(&twin, "wake"), copy_sequence(&twin, "wake", "sleep")] {
            assert!(taken.unwrap_err().to_string().contains("a second sequence"));
        }
        assert!(
            rename_sequence(&twin, "wake", "two words").is_err() && remove_sequence(&twin, "no").is_err()
        );
    }

    #[test]
    fn a_pose_takes_its_steps_with_its_name_and_does_not_go_while_one_needs_it() {
        let rig = rig();
        let named = rename_pose(&rig, "look", "stare").unwrap();
        assert_eq!(poses(&named), ["rest", "stare"]);
        assert_eq!(named.poses[1].id, rig.poses[1].id);
        let twin = copy_pose(&rig, "look", "stare").unwrap();
        assert_eq!((twin.poses[2].angles_deg.len(), poses(&twin)), (1, vec!["rest", "look"]));
        assert_eq!(remove_pose(&twin, "stare").unwrap(), rig);
        let used = copy_step(&rig, "wake", 1).unwrap();
        let words = remove_pose(&used, "look").unwrap_err().to_string();
        assert_eq!(words, "the pose look is used by steps 2 and 3 of wake: give those another pose first");
        assert!(rename_pose(&rig, "look", "rest").is_err() && copy_pose(&rig, "no", "x").is_err());
    }
}
