//! A sequence being played: which one, how far, and from which pose it started.

use super::ServoState;
use super::plan::Plan;
use crate::rig::SequenceId;
use crate::sequence::{Moment, Timeline};
use crate::unit::Degrees;
use std::time::Duration;

/// How playing stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Play {
    /// Nothing is played.
    #[default]
    Stopped,
    /// Time goes on.
    Playing,
    /// It stands.
    Paused,
    /// It is over and its last pose is kept.
    Ended,
}

/// See the module. Its room is made once, for all servos of the plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Player {
    /// How playing stands.
    pub play: Play,
    /// The sequence that is played, or was last.
    pub sequence: SequenceId,
    /// Its place in the plan.
    place: usize,
    /// The time within it.
    pub at: Duration,
    /// The time of its first move, in seconds.
    pub first_move: f64,
    /// It was started with output off: only the screen moves.
    pub screen_only: bool,
    starts: Vec<Option<Degrees>>,
    /// It goes on from this call: the time since the last one is not its own.
    fresh: bool,
}

impl Player {
    pub(super) fn with_room_for(servos: usize) -> Self {
        Self { starts: vec![None; servos], ..Self::default() }
    }

    /// Where a joint was when playing began, in degrees, by servo index.
    pub fn started_from(&self, servo: usize) -> Option<Degrees> {
        self.starts.get(servo).copied().flatten()
    }

    pub(super) fn start(&mut self, plan: &Plan, servos: &[ServoState], sequence: usize, driving: bool) {
        if self.play == Play::Paused && self.place == sequence && self.screen_only != driving {
            self.play = Play::Playing;
            self.fresh = true;
            return;
        }
        self.capture(plan, servos, sequence, driving);
        if plan.timelines.get(sequence).is_some_and(|t| !t.steps.is_empty()) {
            self.play = Play::Playing;
            self.fresh = true;
        }
    }

    pub(super) fn seek(
        &mut self,
        plan: &Plan,
        servos: &[ServoState],
        sequence: usize,
        at: Duration,
        driving: bool,
    ) {
        let new = self.play == Play::Stopped || self.place != sequence || self.screen_only == driving;
        if new {
            self.capture(plan, servos, sequence, driving);
        }
        let length = plan.timelines.get(sequence).map_or(0.0, |t| t.length(self.first_move));
        self.at = at.min(Duration::try_from_secs_f64(length).unwrap_or_default());
        self.play = Play::Paused;
    }

    fn capture(&mut self, plan: &Plan, servos: &[ServoState], sequence: usize, driving: bool) {
        for (start, (plan, state)) in self.starts.iter_mut().zip(plan.servos.iter().zip(servos)) {
            *start = plan.scale.as_ref().map(|scale| scale.angle_at(state.pulse));
        }
        self.place = sequence;
        self.sequence = plan.timelines.get(sequence).map(|line| line.id).unwrap_or_default();
        self.at = Duration::ZERO;
        self.screen_only = !driving;
        let starts = &self.starts;
        self.first_move = plan
            .timelines
            .get(sequence)
            .map_or(0.0, |line| line.first_move(|servo| starts.get(servo).copied().flatten()));
    }

    pub(super) fn pause(&mut self) {
        if self.play == Play::Playing {
            self.play = Play::Paused;
        }
    }

    pub(super) const fn stop(&mut self) {
        self.play = Play::Stopped;
    }

    /// Moves on; whether the sequence ended in this call.
    pub(super) fn advance(&mut self, plan: &Plan, dt: Duration) -> bool {
        if self.play != Play::Playing || std::mem::take(&mut self.fresh) {
            return false;
        }
        let length = plan.timelines.get(self.place).map_or(0.0, |line| line.length(self.first_move));
        let end = Duration::try_from_secs_f64(length).unwrap_or_default();
        self.at = (self.at + dt).min(end);
        let over = self.at >= end;
        if over {
            self.play = Play::Ended;
        }
        over
    }

    /// The moment that the playing sequence is at; none when it drives nothing.
    pub(super) fn moment<'p>(&self, plan: &'p Plan) -> Option<(&'p Timeline, Moment)> {
        if self.play == Play::Stopped || self.screen_only {
            return None;
        }
        let line = plan.timelines.get(self.place)?;
        Some((line, line.moment(self.at.as_secs_f64(), self.first_move)))
    }

    /// Where the sequence wants a joint at a moment, by servo index; none when it does not move it.
    pub(super) fn angle(&self, (line, moment): &(&Timeline, Moment), servo: usize) -> Option<Degrees> {
        let start = (*self.starts.get(servo)?)?;
        Some(line.at_moment(line.track_of(servo)?, moment, start))
    }

    /// Takes over from the player of an earlier plan.
    pub(super) fn carry(&mut self, old: &Self, before: &Plan, plan: &Plan) {
        for (start, servo) in self.starts.iter_mut().zip(&plan.servos) {
            *start = before.servo_place(servo.id).and_then(|n| old.started_from(n));
        }
        let Some(place) = plan.sequence_place(old.sequence) else { return };
        let Some(line) = plan.timelines.get(place).filter(|line| !line.steps.is_empty()) else { return };
        self.play = old.play;
        (self.sequence, self.place) = (old.sequence, place);
        self.at = old.at;
        self.screen_only = old.screen_only;
        self.fresh = old.fresh;
        let starts = &self.starts;
        self.first_move = line.first_move(|servo| starts.get(servo).copied().flatten());
    }
}
