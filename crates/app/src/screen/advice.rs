//! The next line: from how things stand, what to do now. It never asks for what strips a gear.

use super::model::{Picked, Scene, View};
use wasvolta_core::fit::Fit;
use wasvolta_core::link::Health;
use wasvolta_core::rig::{Ends, How, Servo};
use wasvolta_core::stage::{Output, Owner, Play};
use wasvolta_port::expander::Phase;

/// Marks that make a fit sure.
const ENOUGH: usize = 5;

/// What to do next.
pub fn next(scene: &Scene) -> String {
    if let Some(words) = trouble(scene) {
        return words;
    }
    match scene.model.snapshot.output {
        Output::Cut => {
            return "Output is cut: no pulses. d enables it again, then e engages each servo where it stands."
                .to_owned();
        }
        Output::Held => {
            return "Held: the last pulses stay and nothing moves. d drives on, Ctrl-C cuts.".to_owned();
        }
        _ => {}
    }
    match scene.model.view {
        View::Calibrate => calibrate(scene),
        View::Inputs => inputs(scene),
        View::Sequence => sequence(scene),
    }
}

fn trouble(scene: &Scene) -> Option<String> {
    if scene.changed_outside {
        let words = "Another program has written this rig's file. The command read the file again takes that in; \
                     Ctrl-S twice overwrites it.";
        return Some(words.to_owned());
    }
    for (board, state) in scene.wiring.boards_in(scene.rig, &scene.model.snapshot) {
        if let Some(trouble) = state.trouble {
            return Some(format!(
                "{} at {:#04x}: {}. {}. It is tried again by itself.",
                board.name,
                board.address,
                trouble.fault,
                sentence(trouble.fault.help())
            ));
        }
        if matches!(state.phase, Phase::Asking(_)) {
            return Some(format!("{} waits for your word on the pulses it sends already.", board.name));
        }
    }
    None
}

/// The first letter large.
fn sentence(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().chain(chars).collect())
}

fn aligned(servo: &Servo) -> usize {
    servo.marks.iter().filter(|m| m.seen == How::Aligned).count()
}

fn calibrate(scene: &Scene) -> String {
    let Some(picked) = scene.picked() else {
        return "This rig has no servo yet. a adds one: its name, and the channel its plug is on.".to_owned();
    };
    let name = &picked.servo.name;
    if !picked.state.engaged {
        return if picked.plan.line.is_some() {
            format!("e engages {name} where its horn stands; nothing moves before that.")
        } else {
            format!(
                "e gives {name} its first pulse where its horn stands. Horn off? o gives 1500 µs to put it on."
            )
        };
    }
    let fit = scene.derived.fits.get(scene.model.servo);
    match (aligned(picked.servo), fit) {
        (0, _) => "Jog with ← → until the horn stands at an angle you can read, then m keeps it as a mark."
            .to_owned(),
        (1, _) => {
            "n glides to the next useful pulse; read the angle, m, Enter. Two marks make a fit.".to_owned()
        }
        (_, Some(Err(why))) => sentence(&format!("{why}.")),
        (n, Some(Ok(_))) if n < ENOUGH => {
            format!("{n} marks make a fit. n, m and Enter again: {ENOUGH} make it sure.")
        }
        (n, Some(Ok(fit))) => calibrated(&picked, fit, n),
        (_, None) => String::new(),
    }
}

fn calibrated(picked: &Picked, fit: &Fit, marks: usize) -> String {
    let worst = format!("{marks} marks fit a line, worst miss {:.2}°.", fit.worst().get());
    let probed = picked.servo.marks.iter().any(|m| matches!(m.seen, How::Buzzes | How::Stops));
    let cautious = picked.servo.endpoints_us == Ends::cautious();
    let joint = picked.joint;
    if cautious && !probed {
        return format!(
            "{worst} To go further: jog to an endpoint, W widens it; at the first buzz b backs off and sets it."
        );
    }
    if let Some(joint) = joint
        && (joint.low.is_none() || joint.high.is_none())
    {
        return format!("{worst} Jog to where it may go at most, l sets a limit with its reason.");
    }
    if joint.is_some_and(|j| j.home_deg.is_none()) {
        return format!("{worst} Jog to where it should rest, h makes that its home.");
    }
    if picked.state.owner == Owner::Hand && picked.plan.mapping.is_some() {
        return format!(
            "{worst} The hand has it; g gives it back to its input. Enter goes on to the next servo."
        );
    }
    format!("{worst} Enter goes on to the next servo; F3 ties a knob to it, F4 sets poses in time.")
}

fn inputs(scene: &Scene) -> String {
    let Some(input) = scene.input() else {
        return "This rig has no input. Add an [[input]] to its file; docs/rig-format.md shows how."
            .to_owned();
    };
    let health = scene.model.snapshot.inputs.get(scene.model.input).map_or(Health::Absent, |i| i.health);
    match health {
        Health::Lost if scene.knob.is_some_and(|(_, plugged)| !plugged) => {
            return format!("{} is lost: its plug is out. z puts it in again.", input.name);
        }
        Health::Absent | Health::Lost => {
            if let Some(why) = scene.line_trouble {
                return format!("{} is {}: {why}. It is tried again by itself.", input.name, health.word());
            }
            return format!(
                "Nothing comes from {} on {}. Is it plugged in, and does it print lines of numbers?",
                input.name, input.port
            );
        }
        Health::Stuck => {
            return format!(
                "{} has sent the very same value for long: move it. Is it still alive?",
                input.name
            );
        }
        Health::Fresh | Health::Late => {}
    }
    let Some(mapping) = scene.mapping() else {
        return format!("{} drives nothing. Pick a servo with PgUp PgDn, then t ties it.", input.name);
    };
    let driven = scene.rig.turned_by(&mapping.joint).and_then(|(n, _)| scene.servo(n));
    match driven {
        Some(p) if p.plan.line.is_none() => {
            format!("{} has no angles yet and cannot follow: F2 calibrates it.", mapping.joint)
        }
        Some(p) if !p.state.engaged => {
            format!(
                "Pick {} with PgUp PgDn and engage it with e; then g lets {} drive it.",
                mapping.joint, input.name
            )
        }
        Some(p) if p.state.owner == Owner::Hand => {
            format!("The hand has {}. Pick it with PgUp PgDn; g gives it to {}.", mapping.joint, input.name)
        }
        _ if scene.knob.is_some() => format!(
            "{} drives {}. On the row turn it, ← → turn the simulated knob.",
            input.name, mapping.joint
        ),
        _ => format!("{} drives {}. ↑ ↓ pick a stage, ← → change it.", input.name, mapping.joint),
    }
}

fn sequence(scene: &Scene) -> String {
    let Some((sequence, line)) = scene.sequence() else {
        return "No sequence yet. k keeps where the joints stand as a pose, i makes a sequence of it."
            .to_owned();
    };
    if sequence.steps.is_empty() {
        return "No step yet. k keeps where the joints stand as a pose, i inserts it.".to_owned();
    }
    let player = &scene.model.snapshot.player;
    if player.sequence == scene.model.sequence {
        match player.play {
            Play::Playing if player.screen_only => {
                return "Playing on the screen only: output is off. p stands still.".to_owned();
            }
            Play::Playing => return "Playing. p stands still, Esc holds, Ctrl-C cuts.".to_owned(),
            Play::Paused if !player.screen_only => {
                return "Standing in the sequence. p goes on, x leaves it.".to_owned();
            }
            Play::Ended if !player.screen_only => {
                return "Played; its joints keep the last pose. p plays again, x lets them go.".to_owned();
            }
            _ => {}
        }
    }
    let shorts = line.shorts(|n| scene.start_of(n));
    if let Some(first) = shorts.first() {
        let needs = shorts.iter().filter(|s| s.step == first.step).map(|s| s.needs).fold(0.0, f64::max);
        let needs = wasvolta_core::sequence::rounded_up(needs);
        return format!("Step {} is short: f stretches it to the {needs:.2} s it needs.", first.step + 1);
    }
    let still = line.tracks.iter().filter_map(|t| scene.servo(t.servo)).find(|p| !p.state.engaged);
    if let Some(still) = still {
        return format!(
            "p plays. {} is not engaged and will not move; pick it with PgUp PgDn, then e.",
            still.servo.name
        );
    }
    "p plays. Joints held by hand stay where they are until g gives them back.".to_owned()
}
