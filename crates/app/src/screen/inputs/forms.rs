//! What is asked of what inputs move: a new mapping with its goal, and what a press does.

use super::goals;
use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::questions;
use wasvolta_core::rig::edit::mappings as edit;
use wasvolta_core::rig::{Does, Ends, Goal, GoalKind, Mapping, Press, Rig, Servo};
use wasvolta_core::unit::{Degrees, DegreesPerSecond, Percent};

questions! {
    ADD_MAPPING("add mapping") => |desk, Subject { of, .. }, form| {
        let (name, kind, what) = (form.word(0), form.word(1), form.word(2));
        let to = goal(&desk.session.document.rig, (kind, what, form.word(3)))?;
        let mapping = Mapping::of(name, of, to);
        let words = format!("{of} {} now", goals::words(&mapping));
        let said = desk.done(&words, |rig| edit::add(rig, mapping))?;
        goals::pick_last(desk);
        Ok(said)
    };
    RENAME_MAPPING("rename mapping") => |desk, Subject { of, .. }, form| {
        let name = form.word(0);
        desk.done(&format!("the mapping {of} is called {name} now"), |rig| {
            edit::change(rig, of, |own| name.clone_into(&mut own.name))
        })
    };
    PRESS("what a press does") => |desk, Subject { of, .. }, form| press(desk, of, form);
}

/// Asks for a new mapping of the picked input.
pub fn add_mapping(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input() else { return };
    let (rig, of) = (scene.rig, input.name.clone());
    let names = |of: fn(&Servo) -> bool| {
        let parts = rig.servos.iter().filter(|servo| of(servo)).filter_map(|servo| rig.spoken_name(servo));
        parts.collect::<Vec<_>>().join(", ")
    };
    let poses: Vec<&str> = rig.poses.iter().map(|pose| pose.name.as_str()).collect();
    let what = match poses.as_slice() {
        [] => names(|_| true),
        some => format!("{}; or poses: {}", names(|_| true), some.join(", ")),
    };
    let likely = scene.picked().and_then(|part| rig.spoken_name(part.servo)).unwrap_or_default().to_owned();
    let fields = vec![
        Field::new("name", edit::free_name(rig, &of), "as it is called in the list"),
        Field::new(
            "goal",
            "joint",
            "joint, level, rate, blend, toggle, tempo or place; ‹tie› ties it to the picked joint",
        ),
        Field::new("what", likely, format!("{what}; poses with a space between them")),
        Field::new("ends", "", "its two ends, as -30 30; empty for the joint's whole range"),
    ];
    desk.ask(ADD_MAPPING.name, Subject::of(&of), fields);
}

/// Asks for the picked mapping's new name.
pub fn rename_mapping(desk: &mut Context) {
    let Some(name) = desk.model.scene(desk.session).mapping().map(|own| own.name.clone()) else { return };
    let fields = vec![Field::new("name", &name, "its new name")];
    desk.ask(RENAME_MAPPING.name, Subject::of(&name), fields);
}

/// Takes the picked mapping out.
pub fn remove_mapping(desk: &mut Context) {
    let Some(name) = desk.model.scene(desk.session).mapping().map(|own| own.name.clone()) else { return };
    desk.edit(&format!("the mapping {name} removed; ‹undo› brings it back"), |rig| {
        edit::remove(rig, &name)
    });
}

/// Asks what a press of the picked switch does.
pub fn ask_press(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input() else { return };
    let now = scene.rig.presses.iter().find(|press| press.input == input.name);
    let positions = input.switch.as_ref().map_or(0, |switch| switch.positions.len());
    let sequences: Vec<&str> = scene.rig.sequences.iter().map(|sequence| sequence.name.as_str()).collect();
    let what = now.and_then(|press| press.sequence.clone().or_else(|| press.pose.clone()));
    let what = what.or_else(|| sequences.first().map(|name| (*name).to_owned())).unwrap_or_default();
    let of = input.name.clone();
    let mut fields = vec![
        Field::new(
            "does",
            now.map_or("play", |press| press.does.word()),
            "play, stop, hold, cut, keep or nothing",
        ),
        Field::new("what", what, format!("to play: {}; to keep: the pose's name", sequences.join(", "))),
    ];
    if positions > 0 {
        let at = now.and_then(|press| press.position).unwrap_or(1);
        fields.push(Field::new("position", at.to_string(), format!("1 to {positions}")));
    }
    desk.ask(PRESS.name, Subject::of(&of), fields);
}

fn press(desk: &mut Context, input: &str, form: &Form) -> Result<String, String> {
    let (does, what) = (form.word(0), form.word(1));
    let position = form
        .said("position")
        .map(|text| text.parse::<u8>().map_err(|_| format!("{text:?} is not a position")));
    let position = position.transpose()?;
    let place = position.map_or(1, |position| position.saturating_sub(1));
    if does == "nothing" {
        return desk.done(&format!("a press of {input} does nothing by itself"), |rig| {
            edit::set_press(rig, input, place, None)
        });
    }
    let all = Does::ALL.map(Does::word).join(", ");
    let does =
        Does::ALL.into_iter().find(|own| own.word() == does).ok_or(format!("write {all} or nothing"))?;
    let named = |wanted| (does == wanted).then(|| what.to_owned());
    let press = Press {
        input: input.to_owned(),
        position,
        does,
        sequence: named(Does::Play),
        pose: named(Does::Keep),
    };
    let words = format!("a press of {input} {}", goals::does(&press));
    desk.done(&words, |rig| edit::set_press(rig, input, place, Some(press)))
}

/// A goal as it was typed: its kind, what it names, and its ends.
fn goal(rig: &Rig, (kind, what, ends): (&str, &str, &str)) -> Result<Goal, String> {
    let kinds = [
        GoalKind::Joint,
        GoalKind::Level,
        GoalKind::Rate,
        GoalKind::Blend,
        GoalKind::Toggle,
        GoalKind::Tempo,
        GoalKind::Place,
    ];
    let kind = kinds.into_iter().find(|own| own.word() == kind);
    let kind = kind.ok_or("write joint, level, rate, blend, toggle, tempo or place")?;
    if kind.has_poses() {
        if !ends.is_empty() {
            return Err("poses have no ends: leave that empty".to_owned());
        }
        let poses = goals::known_poses(rig, what)?;
        let plain = Goal::default();
        return Ok(if kind == GoalKind::Blend {
            Goal { blend: poses, ..plain }
        } else {
            Goal { toggle: poses, ..plain }
        });
    }
    if kind == GoalKind::Tempo {
        let (low, high) = if ends.is_empty() { (50.0, 150.0) } else { two(ends)? };
        let tempo_percent = Some(Ends { low: Percent::new(low), high: Percent::new(high) });
        return Ok(Goal { tempo_percent, ..Goal::default() });
    }
    if kind == GoalKind::Place {
        return Ok(Goal { place: Some(what.to_owned()), ..Goal::default() });
    }
    let name = Some(what.to_owned());
    let turns_on = rig.servo(what).is_some_and(|servo| servo.kind.turns_on());
    let (low, high) = match kind {
        _ if !ends.is_empty() => two(ends)?,
        GoalKind::Joint => {
            travel(rig, what).ok_or_else(|| format!("give two ends: {what} has no limits to go by"))?
        }
        GoalKind::Level => (0.0, 100.0),
        _ if turns_on => (-100.0, 100.0),
        _ => (-60.0, 60.0),
    };
    Ok(match kind {
        GoalKind::Joint => Goal {
            joint: name,
            angles_deg: Some(Ends { low: Degrees::new(low), high: Degrees::new(high) }),
            ..Goal::default()
        },
        GoalKind::Rate if !turns_on => Goal {
            rate: name,
            rates_deg_s: Some(Ends { low: DegreesPerSecond::new(low), high: DegreesPerSecond::new(high) }),
            ..Goal::default()
        },
        own => {
            let levels = Some(Ends { low: Percent::new(low), high: Percent::new(high) });
            let (level, rate) = if own == GoalKind::Level { (name, None) } else { (None, name) };
            Goal { level, rate, levels_percent: levels, ..Goal::default() }
        }
    })
}

/// A joint's limits.
fn travel(rig: &Rig, joint: &str) -> Option<(f64, f64)> {
    let joint = rig.joint(joint)?;
    Some((joint.low.as_ref()?.angle_deg.get(), joint.high.as_ref()?.angle_deg.get()))
}

/// Two numbers, with or without their unit.
fn two(text: &str) -> Result<(f64, f64), String> {
    let bare = |word: &str| {
        word.trim_end_matches("/s").trim_end_matches(['°', '%']).trim_end_matches("deg").to_owned()
    };
    let words: Vec<String> = text.split([' ', ',']).filter(|word| !word.is_empty()).map(bare).collect();
    match words.as_slice() {
        [low, high] => Ok((entry::plain(low)?, entry::plain(high)?)),
        _ => Err("give two numbers, as -30 30".to_owned()),
    }
}
