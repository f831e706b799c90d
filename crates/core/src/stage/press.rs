//! What presses do.

use super::{EventKind, Given, InputState, Output, Play, Stage};
use crate::rig::{Does, Parts, Press};
use crate::switch::Switch;
use std::time::Duration;

/// What a press of one switch does.
#[derive(Debug, Clone, PartialEq)]
pub struct PressPlan {
    /// The input's place.
    pub input: usize,
    /// What it is as a switch.
    switch: Switch,
    /// The position that it comes to, from 0.
    pub place: u8,
    /// What the press does.
    pub does: Does,
    /// The place of the sequence that is played.
    sequence: Option<usize>,
}

impl PressPlan {
    /// Compiles a press of a sound rig.
    pub(super) fn of(rig: Parts<'_>, press: &Press) -> Option<Self> {
        let input = rig.index.inputs.named(&press.input)?;
        Some(Self {
            input,
            switch: rig.rig.inputs.get(input)?.switch.as_ref()?.works()?,
            place: press.place(),
            does: press.does,
            sequence: press.sequence.as_ref().and_then(|name| rig.index.sequences.named(name)),
        })
    }

    /// How often its switch has changed so far.
    pub(super) fn changes(&self, inputs: &[InputState]) -> u32 {
        inputs.get(self.input).map_or(0, |input| input.switch.changes)
    }

    /// Whether it acts now, when its switch had changed so often before.
    fn acts(&self, seen: &mut u32, inputs: &[InputState]) -> bool {
        let Some(state) = inputs.get(self.input) else { return false };
        let changed = std::mem::replace(seen, state.switch.changes) != state.switch.changes;
        // A button counts its presses alone; what has more positions, each change.
        let button = self.switch.positions() == 2;
        let there = || state.switch.position(&self.switch) == Some(usize::from(self.place));
        changed && state.live && (button && self.place == 1 || there())
    }
}

impl Stage {
    /// Does what presses since the last call ask for. A cut has the last word, and before it a hold: what else was asked in
    /// the same beat must not undo them.
    pub(super) fn presses(&mut self, now: Duration) {
        let (mut hold, mut cut) = (None, None);
        for n in 0..self.run.plan.presses.len() {
            let Some(plan) = self.run.plan.presses.get(n) else { return };
            let Some(seen) = self.run.seen.get_mut(n) else { return };
            if !plan.acts(seen, &self.run.inputs) {
                continue;
            }
            let (does, sequence, input, place) = (plan.does, plan.sequence, plan.input, plan.place);
            let done = match does {
                Does::Play => sequence.is_some_and(|sequence| self.play_by_press(now, sequence)),
                Does::Stop => {
                    let plays = self.run.players.0.iter().any(|player| player.play != Play::Stopped);
                    self.stop_playing();
                    plays
                }
                Does::Hold => {
                    hold = hold.or(Some((input, place)));
                    continue;
                }
                Does::Cut => {
                    cut = cut.or(Some((input, place)));
                    continue;
                }
                // Whoever keeps the document hears of it by the event.
                Does::Keep => true,
            };
            self.note_input(now, input, EventKind::Pressed { place, does, done });
        }
        if let Some((input, place)) = hold {
            let done = self.output == Output::Driving;
            self.note_input(now, input, EventKind::Pressed { place, does: Does::Hold, done });
            self.hold(now);
        }
        if let Some((input, place)) = cut {
            let done = self.output != Output::Cut;
            self.note_input(now, input, EventKind::Pressed { place, does: Does::Cut, done });
            self.cut(now);
        }
    }

    /// Whether it began: one that plays already goes on as it does.
    fn play_by_press(&mut self, now: Duration, sequence: usize) -> bool {
        let plays = |stage: &Self| {
            stage.run.players.0.iter().any(|player| player.place == sequence && player.play.goes_on())
        };
        if plays(self) {
            return false;
        }
        self.play_from(now, sequence, None, &Given::default(), false);
        plays(self)
    }
}
