//! What is told of sequences, in words.

use crate::edition::Edition;
use std::time::Duration;
use wasvolta_core::rig::SequenceId;
use wasvolta_core::sequence::{OpKind, Program};
use wasvolta_core::stage::{About, Event, EventKind, PLAYERS, Play, Player, Told};

fn name(edition: &Edition, id: SequenceId) -> &str {
    edition.sequence(id).map_or("", |sequence| sequence.name.as_str())
}

/// What a sequence does now, for the log.
pub fn words(edition: &Edition, id: SequenceId, told: Told, at: Duration) -> String {
    let what = match told {
        Told::Starts => "plays",
        Told::Waits => "waits",
        Told::GoesOn => "goes on: what it waited for has come",
        Told::InVain => "waited in vain",
        Told::Ended => "is over",
    };
    format!("{} {what}, at {:.2} s", name(edition, id), at.as_secs_f64())
}

/// Why a sequence does not begin.
pub fn refused(edition: &Edition, event: Event) -> String {
    let About::Sequence(id, servo) = event.about else { return String::new() };
    let own = name(edition, id);
    match event.kind {
        EventKind::Shares { with } => {
            let servo = servo.and_then(|servo| edition.servo(servo));
            let joint = servo.and_then(|servo| edition.parts().spoken_name(servo)).unwrap_or("a joint");
            let other = name(edition, with);
            format!(
                "{own} does not start: {other} plays and moves {joint} too; ‹stop playing› stops what plays, or let {own} lie over others"
            )
        }
        _ => format!("{own} does not start: {PLAYERS} sequences play already; ‹stop playing› stops them"),
    }
}

/// What a player waits for, and for how long yet.
pub fn waits(edition: &Edition, program: &Program, player: &Player) -> Option<String> {
    if player.play != Play::Waiting {
        return None;
    }
    let op = player.waits_at(program)?;
    let OpKind::Wait { .. } = op.kind else { return None };
    let wait = edition.rig.sequences.get(op.of.0)?.steps.get(op.of.1)?.wait_for.as_ref()?;
    let left = player
        .waits_yet(program)
        .map_or_else(String::new, |left| format!(", {:.1} s more at most", left.as_secs_f64()));
    Some(format!("waits until {}{left}", wait.words()))
}
