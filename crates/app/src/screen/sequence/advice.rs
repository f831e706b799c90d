//! What there is to do in Sequence, step by step.

use crate::screen::advice::{Rule, when};
use crate::screen::scene::Scene;
use wasvolta_core::stage::{Owner, Play};

/// What may be said here, in order.
pub const RULES: &[Rule] = &[no_sequence, no_step, playing, short_step, still_released, ready_to_play];

fn no_sequence(scene: &Scene) -> Option<String> {
    let words = "No sequence yet. k keeps where the joints stand as a pose, i makes a sequence of it.";
    when(scene.sequence().is_none(), words)
}

fn no_step(scene: &Scene) -> Option<String> {
    let empty = scene.sequence().is_some_and(|(s, _)| s.steps.is_empty());
    when(empty, "No step yet. k keeps where the joints stand as a pose, i inserts it.")
}

fn playing(scene: &Scene) -> Option<String> {
    let player = &scene.model.snapshot.player;
    let here = player.sequence == scene.model.sequence.id;
    // What the hand has does not move, whatever plays.
    let tracks = scene.sequence().map(|(_, line)| line.tracks.iter()).into_iter().flatten();
    let mut engaged = tracks.filter_map(|t| scene.servo(t.servo)).filter(|p| p.state.engaged).peekable();
    let all_in_hand = engaged.peek().is_some() && engaged.all(|p| p.state.owner == Owner::Hand);
    let words = match (player.play, player.screen_only) {
        (Play::Playing, false) if all_in_hand => {
            "Playing, and nothing moves: the hand has every engaged joint of it. G gives all back, g the picked one."
        }
        (Play::Ended, false) if all_in_hand => {
            "Played, and nothing has moved: the hand has every engaged joint of it. G gives all back; p plays again."
        }
        (Play::Playing, true) => "Playing on the screen only: output is off. p stands still.",
        (Play::Playing, false) => "Playing. p stands still, Esc holds, Ctrl-C cuts.",
        (Play::Paused, false) => "Standing in the sequence. p goes on, x leaves it.",
        (Play::Ended, false) => "Played; its joints keep the last pose. p plays again, x lets them go.",
        _ => return None,
    };
    when(here, words)
}

fn short_step(scene: &Scene) -> Option<String> {
    let (_, line) = scene.sequence()?;
    let shorts = line.shorts(|n| scene.start_of(n));
    let first = shorts.first()?.step;
    let needs = shorts.iter().filter(|s| s.step == first).map(|s| s.needs).fold(0.0, f64::max);
    let needs = wasvolta_core::sequence::rounded_up(needs);
    Some(format!("Step {} is short: f stretches it to the {needs:.2} s it needs.", first + 1))
}

fn still_released(scene: &Scene) -> Option<String> {
    let (_, line) = scene.sequence()?;
    let still = line.tracks.iter().filter_map(|t| scene.servo(t.servo)).find(|p| !p.state.engaged)?;
    let name = &still.servo.name;
    Some(format!("p plays. {name} is not engaged and will not move; pick it with PgUp PgDn, then e."))
}

fn ready_to_play(_: &Scene) -> Option<String> {
    when(true, "p plays. Joints held by hand stay where they are until g gives one back, G all.")
}
