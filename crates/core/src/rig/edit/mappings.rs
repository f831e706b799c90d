//! Edits of what inputs move: mappings and presses come, go, take other names, get other shares and goals.

use super::{Edited, Refused, changed, missing, rounded_angle};
use crate::rig::{Ends, Goal, GoalKind, Mapping, Press, Rig};
use crate::unit::Degrees;

/// Adds a mapping, under a name that no other has.
pub fn add(rig: &Rig, mapping: Mapping) -> Edited {
    changed(rig, |rig| {
        let name = free_name(rig, &mapping.name);
        rig.mappings.push(Mapping { name, ..mapping });
        Ok(())
    })
}

/// A name that no mapping has.
pub fn free_name(rig: &Rig, like: &str) -> String {
    super::links::free(like, |name| rig.mapping(name).is_some())
}

/// Changes one mapping.
pub fn change(rig: &Rig, mapping: &str, change: impl FnOnce(&mut Mapping)) -> Edited {
    changed(rig, |rig| {
        change(mapping_mut(rig, mapping)?);
        Ok(())
    })
}

/// Takes a mapping out.
pub fn remove(rig: &Rig, mapping: &str) -> Edited {
    changed(rig, |rig| {
        mapping_mut(rig, mapping)?;
        rig.mappings.retain(|own| own.name != mapping);
        Ok(())
    })
}

/// Ties an input to a joint, over the joint's limits or its travel; what turned that joint by itself before goes.
pub fn tie(rig: &Rig, input: &str, joint: &str, span: (Degrees, Degrees)) -> Edited {
    changed(rig, |rig| {
        rig.mappings.retain(|own| own.to.joint.as_deref() != Some(joint));
        let angles = Ends { low: rounded_angle(span.0), high: rounded_angle(span.1) };
        let in_degrees = rig.inputs.iter().any(|own| own.name == input && own.unit.is_some());
        let goal = Goal { angles_deg: (!in_degrees).then_some(angles), ..Goal::joint(joint, angles) };
        let name = free_name(rig, joint);
        rig.mappings.push(Mapping::of(&name, input, goal));
        Ok(())
    })
}

/// Gives an input another weight in a mapping, or takes its share away. A mapping goes with its last share.
pub fn set_share(rig: &Rig, mapping: &str, input: &str, weight: Option<f64>) -> Edited {
    changed(rig, |rig| {
        let own = mapping_mut(rig, mapping)?;
        match weight {
            Some(weight) => {
                own.from.insert(input.to_owned(), libm::round(weight * 1e4) / 1e4);
            }
            None => {
                own.from.remove(input);
            }
        }
        rig.mappings.retain(|own| !own.from.is_empty());
        Ok(())
    })
}

/// What a press of a switch does there; nothing any more without one.
pub fn set_press(rig: &Rig, input: &str, place: u8, press: Option<Press>) -> Edited {
    changed(rig, |rig| {
        let at = rig.presses.iter().position(|own| own.input == input && own.place() == place);
        match (at, press) {
            (Some(at), Some(press)) => rig.presses[at] = press,
            (Some(at), None) => {
                rig.presses.remove(at);
            }
            (None, Some(press)) => rig.presses.push(press),
            (None, None) => {}
        }
        Ok(())
    })
}

/// Takes out of mappings and presses what speaks of an input that is gone.
pub(super) fn without_input(rig: &mut Rig, input: &str) {
    for mapping in &mut rig.mappings {
        mapping.from.remove(input);
    }
    rig.mappings.retain(|own| !own.from.is_empty() && own.inputs().all(|name| name != input));
    rig.presses.retain(|press| press.input != input);
}

/// Takes out of mappings what speaks of a joint or a level that is gone.
pub(super) fn without_part(rig: &mut Rig, name: &str) {
    rig.mappings.retain(|own| own.to.name() != Some(name));
    for mapping in &mut rig.mappings {
        let narrowed = !mapping.to.joints.is_empty();
        mapping.to.joints.retain(|own| own != name);
        if narrowed && mapping.to.joints.is_empty() {
            // Nothing that it was to move is left; without the list it would move everything else.
            mapping.from.clear();
        }
    }
    rig.mappings.retain(|own| !own.from.is_empty());
    let moves = |rig: &Rig, own: &Mapping| {
        !own.to.kind().is_some_and(GoalKind::has_poses) || !rig.moved_by(own).is_empty()
    };
    let kept: Vec<bool> = rig.mappings.iter().map(|own| moves(rig, own)).collect();
    let mut kept = kept.into_iter();
    rig.mappings.retain(|_| kept.next().unwrap_or(true));
}

fn mapping_mut<'a>(rig: &'a mut Rig, name: &str) -> Result<&'a mut Mapping, Refused> {
    rig.mappings.iter_mut().find(|own| own.name == name).ok_or_else(|| missing("mapping", name))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::edit::{keep_pose, links, roster};
    use crate::rig::file::small as rig;
    use crate::rig::{Does, Kind, While};

    fn blend() -> Mapping {
        let to = Goal { blend: vec!["rest".to_owned(), "look".to_owned()], ..Goal::default() };
        Mapping::of("gaze", "knob", to)
    }

    #[test]
    fn a_joint_has_one_mapping_of_its_own_at_a_time() {
        let tied = tie(&rig(), "knob", "heron.beak", (Degrees::new(0.0), Degrees::new(30.0))).unwrap();
        assert_eq!(tied.mappings.len(), 1);
        assert!(remove(&tied, "heron.beak").unwrap().mappings.is_empty());
        assert!(tie(&rig(), "pedal", "heron.beak", (Degrees::ZERO, Degrees::new(1.0))).is_err());
    }

    #[test]
    fn what_moves_one_joint_at_a_time_is_refused_with_both_names_unless_a_switch_keeps_them_apart() {
        let bare = Rig { mappings: Vec::new(), ..rig() };
        let neck = tie(&bare, "knob", "heron.neck", (Degrees::ZERO, Degrees::new(10.0))).unwrap();
        let twice = add(&neck, blend()).unwrap_err().to_string();
        assert!(twice.starts_with("heron.neck and gaze both move heron.neck: give both a while"), "{twice}");
        let mode = crate::rig::Input {
            switch: Some(crate::rig::Switch::of_positions(vec![0.0, 512.0, 1023.0])),
            ..crate::rig::Input::new("mode", &bare.inputs[0].link, "mode", Ends { low: 0.0, high: 1023.0 })
        };
        let with = links::add_input(&neck, mode).unwrap();
        let at = |position| Some(While { input: "mode".to_owned(), position: Some(position), pressed: None });
        let first = change(&with, "heron.neck", |own| own.only_while = at(1)).unwrap();
        assert!(add(&first, Mapping { only_while: at(1), ..blend() }).is_err());
        assert!(add(&first, Mapping { only_while: at(4), ..blend() }).is_err());
        let both = add(&first, Mapping { only_while: at(2), ..blend() }).unwrap();
        assert_eq!(both.mappings.len(), 2);
        // Without their switch neither of the two is left.
        assert!(links::remove_input(&both, "mode").unwrap().mappings.is_empty());
    }

    #[test]
    fn a_mapping_goes_with_its_last_share_and_an_input_that_is_renamed_keeps_its_own() {
        let more = set_share(&rig(), "heron.beak", "knob", Some(0.333_333)).unwrap();
        assert_eq!(more.mappings[0].from["knob"].to_bits(), 0.3333f64.to_bits());
        let renamed = links::rename_input(&more, "knob", "dial").unwrap();
        assert!(renamed.mappings[0].from.contains_key("dial"));
        assert!(set_share(&renamed, "heron.beak", "dial", None).unwrap().mappings.is_empty());
    }

    #[test]
    fn a_blend_goes_with_the_last_part_that_it_moves() {
        let bare = Rig { mappings: Vec::new(), sequences: Vec::new(), ..rig() };
        let both = [
            (Kind::Positional, "heron.neck".to_owned(), Degrees::new(5.0)),
            (Kind::Positional, "heron.beak".to_owned(), Degrees::new(5.0)),
        ];
        let posed = keep_pose(&keep_pose(&bare, "rest", &both).unwrap(), "look", &both).unwrap();
        let only = Goal { joints: vec!["heron.beak".to_owned()], ..blend().to };
        let rig = add(
            &add(&posed, Mapping { to: only, ..blend() }).unwrap(),
            Mapping { to: Goal { joints: vec!["heron.neck".to_owned()], ..blend().to }, ..blend() },
        )
        .unwrap();
        assert_eq!(rig.mappings[1].name, "gaze-2");
        let without = roster::remove_servo(&rig, "heron.beak").unwrap();
        let left: Vec<&str> = without.mappings.iter().map(|own| own.name.as_str()).collect();
        assert_eq!(left, ["gaze-2"]);
    }

    #[test]
    fn a_press_does_one_thing_and_goes_with_its_switch() {
        let push = crate::rig::Input {
            switch: Some(crate::rig::Switch::between(
                Ends { low: 0.0, high: 1.0 },
                crate::rig::Pressed::High,
            )),
            ..crate::rig::Input::new("push", &rig().inputs[0].link, "push", Ends { low: 0.0, high: 1.0 })
        };
        let rig = links::add_input(&rig(), push).unwrap();
        let press = |does, sequence: Option<&str>| Press {
            input: "push".to_owned(),
            does,
            sequence: sequence.map(str::to_owned),
            ..Press::default()
        };
        let plays = set_press(&rig, "push", 1, Some(press(Does::Play, Some("wake")))).unwrap();
        assert!(set_press(&rig, "push", 1, Some(press(Does::Play, None))).is_err());
        assert!(set_press(&rig, "push", 1, Some(press(Does::Cut, Some("wake")))).is_err());
        let cuts = set_press(&plays, "push", 1, Some(press(Does::Cut, None))).unwrap();
        assert_eq!((cuts.presses.len(), cuts.presses[0].does), (1, Does::Cut));
        assert!(links::remove_input(&cuts, "push").unwrap().presses.is_empty());
        assert!(set_press(&cuts, "push", 1, None).unwrap().presses.is_empty());
    }
}
