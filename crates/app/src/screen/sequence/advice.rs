//! What there is to do in Sequence, step by step.

use super::told;
use crate::screen::advice::{Rule, when};
use crate::screen::scene::Scene;
use wasvolta_core::stage::{Owner, Play};

/// What may be said here, in order.
pub const RULES: &[Rule] = &[
    no_sequence,
    no_step,
    waiting,
    playing,
    one_step,
    short_step,
    limit_met,
    tight,
    still_released,
    ready_to_play,
];

fn no_sequence(scene: &Scene) -> Option<String> {
    let words = if scene.rig.poses.is_empty() {
        "No sequence yet. ‹keep pose› keeps where the joints stand as a pose; the first step goes to it."
    } else {
        "No sequence yet. ‹insert step› begins one with a pose; ‹keep pose› keeps another."
    };
    when(scene.sequence().is_none(), words)
}

fn no_step(scene: &Scene) -> Option<String> {
    let empty = scene.sequence().is_some_and(|(s, _)| s.steps.is_empty());
    when(empty, "No step yet. ‹keep pose› keeps where the joints stand as a pose, ‹insert step› inserts it.")
}

/// One pose alone goes nowhere from there.
fn one_step(scene: &Scene) -> Option<String> {
    let (sequence, _) = scene.sequence()?;
    let is_one = sequence.steps.len() == 1 && sequence.steps.iter().all(|step| step.pose.is_some());
    let words = "One step. Move the joints elsewhere, in ‹Calibrate› or by an input; ‹keep pose› keeps \
     that, ‹insert step› here makes it the next step.";
    when(is_one, words)
}

fn waiting(scene: &Scene) -> Option<String> {
    let (_, program) = scene.sequence()?;
    let words = told::waits(scene.edition, program, scene.player()?)?;
    let key = if words.contains("the key") { " ‹press the key› presses it." } else { "" };
    Some(format!("It {words}.{key} ‹play› pauses, ‹stop playing› leaves it."))
}

fn playing(scene: &Scene) -> Option<String> {
    let player = scene.player()?;
    // What the hand has does not move, whatever plays.
    let tracks = scene.sequence().map(|(_, program)| program.tracks.iter()).into_iter().flatten();
    let mut engaged = tracks.filter_map(|t| scene.servo(t.servo)).filter(|p| p.state.engaged).peekable();
    let all_in_hand = engaged.peek().is_some() && engaged.all(|p| p.state.owner == Owner::Hand);
    let words = match (player.play, player.screen_only) {
        (play, false) if all_in_hand && play.goes_on() => {
            "Playing, and nothing moves: the hand has every engaged joint of it. ‹give all back› gives all \
             back, ‹give back› the picked one."
        }
        (Play::Ended, false) if all_in_hand => {
            "Played, and nothing has moved: the hand has every engaged joint of it. ‹give all back› gives all back; ‹play› plays again."
        }
        (Play::Playing, true) => "Playing on the screen only: output is off. ‹play› pauses.",
        (Play::Leading, _) => "Its joints go to where it begins; then it plays. ‹play› pauses, ‹hold› holds.",
        (Play::Playing, false) if player.finishes => {
            "Playing to its end: no loop is played again. ‹play› pauses."
        }
        (Play::Playing, false) => {
            "Playing. ‹play› pauses, ‹slower› and ‹faster› change the tempo, ‹finish loop› plays no loop again."
        }
        (Play::Paused, false) => {
            "Paused. ‹play› goes on, ‹play one step› plays one step, ‹stop playing› leaves it."
        }
        (Play::Ended, false) => {
            "Played; its joints keep the last pose. ‹play› plays again, ‹stop playing› lets them go."
        }
        _ => return None,
    };
    when(true, words)
}

fn short_step(scene: &Scene) -> Option<String> {
    let (_, program) = scene.sequence()?;
    let first = program.shorts().first()?;
    let same = |short: &&wasvolta_core::sequence::Short| {
        (short.sequence, short.step) == (first.sequence, first.step)
    };
    let needs = program.shorts().iter().filter(same).map(|s| s.needs).fold(0.0, f64::max);
    let needs = wasvolta_core::sequence::rounded_up(needs);
    let place = scene.edition.index.sequences.place(scene.model.sequence.id);
    let of = if Some(first.sequence) == place {
        String::new()
    } else {
        format!(" of {}", scene.rig.sequences.get(first.sequence).map_or("", |other| other.name.as_str()))
    };
    let speed = if first.assumed { ", its speed not known: assumed 100 °/s" } else { "" };
    Some(format!(
        "Step {}{of} is short: ‹stretch› stretches it to the {needs:.2} s it needs{speed}.",
        first.step + 1
    ))
}

fn limit_met(scene: &Scene) -> Option<String> {
    let met = *scene.review()?.met.first()?;
    let joint = scene.rig.servos.get(met.servo).map_or("", |servo| servo.name.as_str());
    Some(format!(
        "Step {} asks {joint} for {:+.1}°, and it ends at {:+.1}°: change the angle, or widen its limits.",
        met.step + 1,
        met.asked.get(),
        met.gets.get()
    ))
}

fn tight(scene: &Scene) -> Option<String> {
    let load = scene.review()?.rails.iter().find(|load| load.is_tight())?;
    let rail = scene.rig.rails.get(load.rail)?;
    let (name, has, most) = (&rail.name, load.supply.get(), load.most().get());
    Some(if load.starts_hardest() {
        format!(
            "{name} must give ≈ {most:.1} A while a servo starts and has {has:.1} A: it needs a stronger supply."
        )
    } else {
        let at = load.at.seconds();
        format!(
            "{name} must give ≈ {most:.1} A at {at:.2} s and has {has:.1} A: let fewer joints move at once."
        )
    })
}

fn still_released(scene: &Scene) -> Option<String> {
    let (_, program) = scene.sequence()?;
    let still = program.tracks.iter().filter_map(|t| scene.servo(t.servo)).find(|p| !p.state.engaged)?;
    let name = &still.servo.name;
    Some(format!(
        "‹play› plays. {name} is not engaged and will not move; pick it with ‹servo above› ‹servo below›, then ‹engage›."
    ))
}

fn ready_to_play(scene: &Scene) -> Option<String> {
    let (_, program) = scene.sequence()?;
    let mut played = program.tracks.iter().filter_map(|track| scene.servo(track.servo));
    let in_hand = played.any(|servo| servo.state.owner == Owner::Hand);
    let words = if in_hand {
        "‹play› plays. Joints held by hand stay where they are until ‹give back› gives one back, ‹give all back› all."
    } else {
        "‹play› plays. ‹insert step› inserts the next pose, ‹less› ‹more› change the picked row; ‹save› saves."
    };
    when(true, words)
}
