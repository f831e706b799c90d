//! Where a show stands, in a line that is written over: only where somebody watches it.

use crate::say;
use std::time::{Duration, Instant};
use wasvolta_core::rig::Rig;
use wasvolta_core::sequence::Program;
use wasvolta_core::stage::{Play, Player};

/// See the module.
pub struct Progress {
    shown: Option<Instant>,
}

/// How often it changes.
const PITCH: Duration = Duration::from_millis(200);
/// How many cells the bar has.
const CELLS: usize = 24;

impl Progress {
    /// Nothing is shown yet.
    pub const fn new() -> Self {
        Self { shown: None }
    }

    /// Shows where a player is.
    pub fn show(&mut self, rig: &Rig, program: &Program, player: &Player) {
        if self.shown.is_some_and(|shown| shown.elapsed() < PITCH) {
            return;
        }
        self.shown = Some(Instant::now());
        say::progress(&line(rig, program, player));
    }

    /// Takes the line away.
    pub fn clear(&self) {
        if self.shown.is_some() {
            say::progress("");
        }
    }
}

fn line(rig: &Rig, program: &Program, player: &Player) -> String {
    let sequence = rig.sequences.iter().find(|sequence| sequence.id == player.sequence);
    let name = sequence.map_or("", |sequence| sequence.name.as_str());
    let share = if program.length() > 0.0 { player.at.seconds() / program.length() } else { 1.0 };
    let done = (0..CELLS)
        .filter(|n| wasvolta_core::unit::number(*n) < share * wasvolta_core::unit::number(CELLS))
        .count();
    let bar = format!("{}{}", "━".repeat(done), "─".repeat(CELLS - done));
    let stands = match player.play {
        Play::Leading => "its joints go to where it begins".to_owned(),
        Play::Waiting => {
            let wait = player.waits_at(program).and_then(|op| rig.sequences.get(op.of.0)?.steps.get(op.of.1));
            let words = wait.and_then(|step| Some(step.wait_for.as_ref()?.words())).unwrap_or_default();
            match player.waits_yet(program) {
                Some(yet) => format!("waits until {words}, {:.0} s more at most", yet.as_secs_f64().ceil()),
                None => format!("waits until {words}"),
            }
        }
        Play::Paused => "stands".to_owned(),
        _ => player.lasts(program).left(player.tempo).unwrap_or_else(|| "until it is stopped".to_owned()),
    };
    format!("{name} {bar} {:.1} of {:.1} s, {stands}", player.at.seconds(), program.length())
}
