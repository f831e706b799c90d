//! What a servo keeps when another plan takes the place of the one that it was driven by.

use super::plan::ServoPlan;
use super::{Knob, Owner, ServoState, Wire};
use crate::rig::InputId;
use crate::unit::Position;
use std::time::Duration;

impl ServoState {
    /// Itself under `plan`, after `was`. `input` gives the place that an input has now.
    pub(super) fn carried(
        &self,
        was: &ServoPlan,
        plan: &ServoPlan,
        input: impl Fn(InputId) -> Option<usize>,
    ) -> Self {
        let mut state = *self;
        let factor = was.oscillator / plan.oscillator;
        // What was under way goes on through an edit, unless its pulses mean something else now.
        if was.oscillator != plan.oscillator || was.guard.endpoints != plan.guard.endpoints {
            state.act = None;
        }
        state.knob = state.knob.and_then(|knob| {
            let input = (knob.input.0, input(knob.input.0)?);
            Some(Knob { input, taken: None, low: knob.low * factor, high: knob.high * factor })
        });
        state.pulse = state.pulse * factor;
        state.trim = if plan.stop.is_some() { state.trim * factor } else { Position::ZERO };
        state.target = state.target * factor;
        state.hand = state.hand.map(|p| p * factor);
        state.estimate.pulse = state.estimate.pulse * factor;
        if plan.arming.is_none() {
            state.arming = Duration::ZERO;
        }
        if (&was.plug, was.kind) != (&plan.plug, plan.kind) {
            state.unplugged();
        }
        // Met anew under the new plan: with a glide, and with a failsafe's speed as it is now.
        if state.owner != Owner::Hand {
            state.owner = Owner::Nobody;
        }
        if let Some(hand) = self.hand.filter(|_| state.engaged && state.hand.is_some()) {
            state.keep_hand(was.guard.bound(hand + self.trim).0 * factor, plan);
        }
        state
    }

    /// What hangs on the new channel stands somewhere else: no pulse for it until it is engaged there. Nor is a lamp's
    /// pulse one for a servo.
    fn unplugged(&mut self) {
        self.engaged = false;
        self.hand = None;
        self.interrupt();
        self.trim = Position::ZERO;
        self.estimate.release(true);
        (self.wire, self.lost_place) = (Wire::default(), false);
    }

    /// The hand keeps where it had brought it, where that may be; else it is brought to the nearest such place, in a
    /// glide. What it had asked for in vain before is not asked for again.
    fn keep_hand(&mut self, asked: Position, plan: &ServoPlan) {
        let allowed = plan.guard.bound(asked).0;
        self.hand = Some(allowed - self.trim);
        // Less than a tick is no move, and on its way inside it is already.
        self.displaced = (allowed - asked).abs() > plan.guard.step();
        if plan.guard.bound(self.pulse).1.is_some() {
            self.start_glide();
        }
    }
}
