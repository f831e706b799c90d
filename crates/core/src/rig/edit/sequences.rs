//! Edits of poses and sequences: they come, go, take other names and are copied; steps come, go, and change their places.

use super::{Edited, Refused, changed, missing, rounded_angle};
use crate::rig::{Kind, Mapping, Pose, PoseId, Rig, Sequence, SequenceId, Step};
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
            Some(old) => *old = Pose { id: old.id, ..pose },
            None => rig.poses.push(pose),
        }
        Ok(())
    })
}

/// Puts a step into a sequence, before `at`; a sequence of a new name is made.
pub fn insert_step(rig: &Rig, sequence: &str, at: usize, pose: &str) -> Edited {
    changed(rig, |rig| {
        let step = Step { pose: pose.to_owned(), move_s: Some(Seconds::new(1.0)), ..Step::default() };
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
        found.steps.remove(at);
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
        for played in rig.presses.iter_mut().filter_map(|press| press.sequence.as_mut()) {
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
/// When a press plays it: that is named.
pub fn remove_sequence(rig: &Rig, sequence: &str) -> Edited {
    if let Some(press) = rig.presses.iter().find(|press| press.sequence.as_deref() == Some(sequence)) {
        let message = format!("a press of {} plays {sequence}", press.input);
        return Err(Refused::Unsound { message, help: "let that press do something else first".to_owned() });
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
        for step in rig.sequences.iter_mut().flat_map(|s| &mut s.steps).filter(|step| step.pose == pose) {
            name.clone_into(&mut step.pose);
        }
        rig.mappings.iter_mut().for_each(|mapping| mapping.rename_pose(pose, name));
        Ok(())
    })
}

/// Puts a copy of a pose behind it, under a name of its own.
pub fn copy_pose(rig: &Rig, pose: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let at = rig.poses.iter().position(|p| p.name == pose).ok_or_else(|| missing("pose", pose))?;
        let copy = Pose { id: PoseId::default(), name: name.to_owned(), ..rig.poses[at].clone() };
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
        Ok(())
    })
}

/// The steps and mappings that go to a pose, in words: `steps 1 and 3 of wake`; empty when none does.
pub fn users_of(rig: &Rig, pose: &str) -> String {
    let of = |sequence: &Sequence| {
        let steps = sequence.steps.iter().enumerate().filter(|(_, step)| step.pose == pose);
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

    fn poses(rig: &Rig) -> Vec<&str> {
        rig.sequences[0].steps.iter().map(|step| step.pose.as_str()).collect()
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
