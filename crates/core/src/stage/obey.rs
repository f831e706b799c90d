//! How the stage carries out commands, or refuses them.

use super::exercise::{Exercise, Exercising};
use super::wiggle::Wiggle;
use super::{
    Act, AsIf, Command, EventKind, Given, Knob, Output, Owner, Play, Player, Refusal, Said, Stage, Wire,
};
use crate::estimate::{Estimate, Known};
use crate::rig::Back;
use crate::sequence::At;
use crate::unit::{Position, Ticks};
use std::time::Duration;

/// A held key's next nudge waits until what is left of the last takes no longer than this.
const REPEAT_REACH: Duration = Duration::from_millis(50);
/// Servos whose boards are back go on one after another, so that they do not all draw at once.
const ONE_BY_ONE: Duration = Duration::from_millis(80);
/// The most that a stop is trimmed.
const MOST_TRIM: Position = Position::new(100.0);

impl Stage {
    fn refuse(&mut self, now: Duration, servo: usize, why: Refusal) {
        self.note(now, EventKind::Refused(why), Some(servo));
    }

    /// A servo that stood still would never be well by going slower: something is left.
    fn ease(&mut self, servo: usize, percent: u8) {
        if let Some(state) = self.run.servos.get_mut(servo) {
            state.eased = f64::from(percent.min(90)) / 100.0;
        }
    }

    pub(super) fn obey(&mut self, now: Duration, command: Command) {
        // What turns a joint together with others is told through the first of them.
        let Some(command) = command.placed(&self.run.plan) else { return };
        match self.run.plan.to_leader(command, &self.run.servos) {
            Command::Cut => self.cut(now),
            Command::Hold => self.hold(now),
            Command::Drive => self.drive_on(now),
            Command::Engage { servo, pulse, stands_there } => self.engage(now, servo, pulse, stands_there),
            Command::Release { servo } => self.release(now, servo),
            Command::Jog { servo, by, repeat } => self.jog(now, servo, by, repeat),
            Command::GoTo { servo, pulse } => self.go_to(now, servo, pulse),
            Command::Wiggle { servo } => self.wiggle(now, servo),
            Command::Ease { servo, percent } => self.ease(servo, percent),
            Command::Disarm { servo } => self.arm(servo, |_| Duration::MAX),
            Command::Arm { servo } => self.arm(servo, |time| time),
            Command::GiveBack { servo } => self.give_back(now, servo),
            Command::Wire { servo, said } => self.hear(now, servo, said),
            Command::Knob { servo, input, low, high } => self.take_knob(now, servo, (input, low, high)),
            Command::Exercise { servo, what } => self.exercise(now, servo, what),
            Command::StandStill { servo } => self.stand_still(servo),
            Command::Trim { servo, by } => self.trim(servo, by),
            Command::Play { sequence } => self.play_from(now, sequence, None, &Given::default(), false),
            Command::PlayFrom { sequence, at, given, one_step } => {
                self.play_from(now, sequence, at.map(At::of), &given, one_step);
            }
            Command::Pause => self.each_player(None, Player::pause),
            Command::PauseOne { sequence } => self.each_player(Some(sequence), Player::pause),
            Command::Seek { sequence, at } => self.look_at(now, sequence, At::of(at)),
            Command::StopPlaying => self.stop_playing(),
            Command::StopOne { sequence } => {
                self.each_player(Some(sequence), |player| player.play = Play::Stopped);
            }
            Command::FinishLoop { sequence } => {
                self.each_player(Some(sequence), |player| player.finishes = true);
            }
            Command::Tempo { percent } => self.set_tempo(percent),
            Command::Among { sequence, among } => self.set_among(sequence, among),
            Command::Key { key } => self.keys.press(key),
            Command::AsIf { input, by } => self.stand_in(now, input, by),
        }
    }

    fn set_tempo(&mut self, percent: f64) {
        if crate::range::TEMPO.holds(percent) {
            self.tempo = percent / 100.0;
        }
    }

    /// An input reads as if something were moved, or as what its link says again.
    fn stand_in(&mut self, now: Duration, input: usize, by: Option<AsIf>) {
        let (Some(state), Some(plan)) = (self.run.inputs.get_mut(input), self.run.plan.inputs.get(input))
        else {
            return;
        };
        let was = state.as_if.is_some();
        state.as_if = by.filter(|by| by.is_sound(plan.id));
        let is = state.as_if.is_some();
        if was != is {
            // How a switch stands then is no press.
            state.switch.unheard();
            self.note_input(now, input, EventKind::AsIf(is));
        }
    }

    pub(super) fn cut(&mut self, now: Duration) {
        self.output = Output::Cut;
        self.stop_playing();
        for (state, plan) in self.run.servos.iter_mut().zip(&self.run.plan.servos) {
            state.hand = state.engaged.then_some(plan.stop.unwrap_or(state.pulse));
            state.interrupt();
            if state.engaged && !plan.stay_stiff {
                state.engaged = false;
                state.estimate.release(plan.loaded);
            }
        }
        self.note(now, EventKind::Cut, None);
    }

    pub(super) fn hold(&mut self, now: Duration) {
        if self.output != Output::Driving {
            return;
        }
        self.output = Output::Held;
        for (state, plan) in self.run.servos.iter_mut().zip(&self.run.plan.servos) {
            state.interrupt();
            state.hand = state.hand.map(|_| plan.stop.unwrap_or(state.pulse));
        }
        self.note(now, EventKind::Held, None);
    }

    fn drive_on(&mut self, now: Duration) {
        self.output = if self.run.servos.iter().any(|s| s.engaged) { Output::Driving } else { Output::Off };
        for state in self.run.servos.iter_mut().filter(|s| s.engaged && s.hand.is_none()) {
            state.start_glide();
        }
        self.note(now, EventKind::Enabled, None);
    }

    /// Why a servo may not be moved now, if it may not.
    fn hindrance(&self, servo: usize) -> Option<Refusal> {
        match self.output {
            Output::Cut => Some(Refusal::Cut),
            Output::Held => Some(Refusal::Held),
            _ => match self.run.servos.get(servo)? {
                state if !state.engaged => Some(Refusal::NotEngaged),
                state if state.wire == Wire::Away => Some(Refusal::Away),
                state => state.arming().map(|_| Refusal::Arming),
            },
        }
    }

    fn engage(&mut self, now: Duration, servo: usize, pulse: Position, stands_there: bool) {
        match self.hindrance(servo) {
            Some(Refusal::NotEngaged) => {}
            // It is engaged already.
            Some(Refusal::Arming | Refusal::Away) | None => return,
            Some(why) => return self.refuse(now, servo, why),
        }
        if self.run.servos.get(servo).is_some_and(|state| state.wire == Wire::Cannot) {
            return self.refuse(now, servo, Refusal::Cannot);
        }
        if self.would_pull(servo) {
            return self.refuse(now, servo, Refusal::NoMarks);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let (low, high) = plan.guard.endpoints;
        // A continuous servo stands nowhere: its first pulse is its neutral, whatever was asked.
        let pulse = plan.arming.map(|(neutral, _)| neutral).or(plan.stop).unwrap_or(pulse).within(low, high);
        // One that says where it is is driven there, also where it may not stay.
        let measured = state.estimate.known == Known::Measured;
        let pulse = if measured { state.estimate.pulse } else { pulse };
        state.arming = plan.arming.map_or(Duration::ZERO, |(_, time)| time);
        state.engaged = true;
        (state.lost_place, state.displaced, state.arrived) = (false, false, false);
        state.goes_on_at = Duration::ZERO;
        state.pulse = pulse;
        state.target = pulse;
        // The first pulse stands at once, also when a hold follows within the same beat.
        state.setpoint = Some(plan.guard.standing(pulse));
        state.hand = Some(pulse);
        state.owner = Owner::Hand;
        state.gliding = false;
        // Not told where it stands, it may have come from the far end; it is known when it had the time.
        let farthest = if pulse - low > high - pulse { low } else { high };
        if !measured {
            state.estimate = Estimate::assumed(if stands_there { pulse } else { farthest }, now);
            if stands_there {
                state.estimate.known = Known::Modelled;
            }
        }
        self.output = Output::Driving;
        self.note(now, EventKind::Engaged, Some(servo));
        self.engage_followers(now, servo, stands_there);
    }

    /// Whether a servo would turn a joint that another one holds, and nobody knows which angles of the two belong
    /// together.
    fn would_pull(&self, servo: usize) -> bool {
        let plans = &self.run.plan.servos;
        let Some(plan) = plans.get(servo) else { return false };
        let together = |n: usize| {
            plans.get(n).is_some_and(|other| {
                let tied = other.led.as_ref().map_or(n, |led| led.leader)
                    == plan.led.as_ref().map_or(servo, |led| led.leader);
                n != servo && plan.shares.is_some() && other.shares == plan.shares && !tied
            })
        };
        self.run.servos.iter().enumerate().any(|(n, state)| state.engaged && together(n))
    }

    /// What the board of a servo says of it.
    fn hear(&mut self, now: Duration, servo: usize, said: Said) {
        let slot = self.next_goes_on.max(now);
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let was = std::mem::replace(&mut state.wire, said.wire());
        match said {
            Said::Waits => {
                if state.arrived && state.engaged {
                    // Its pulses begin anew where they were, and from there it glides.
                    state.goes_on_at = now.max(Duration::from_nanos(1));
                }
            }
            Said::Away => {
                // It may turn on as it was told last; when it is told again it is to stop.
                if let Some(stop) = plan.stop {
                    (state.pulse, state.hand) = (stop + state.trim, state.hand.map(|_| stop));
                }
            }
            Said::Cannot => {
                // Engaged before the board has said so: it never had a pulse.
                if state.engaged {
                    self.release(now, servo);
                    self.refuse(now, servo, Refusal::Cannot);
                }
            }
            Said::Arrives { ticks } => {
                if !state.engaged {
                    return;
                }
                let resumed = std::mem::replace(&mut state.arrived, true) && was == Wire::Away;
                if plan.stop.is_none() && plan.guard.nearest(state.pulse) != ticks {
                    // What the wire holds is where it goes on from.
                    state.pulse = plan.guard.pulse(ticks);
                } else if !resumed && state.goes_on_at == Duration::ZERO {
                    return;
                }
                state.start_glide();
                state.goes_on_at = slot;
                self.next_goes_on = slot + ONE_BY_ONE;
                if resumed {
                    self.note(now, EventKind::Resumed, Some(servo));
                }
            }
            Said::Stopped { told, fallen } => self.interrupted(now, servo, told, fallen),
        }
    }

    /// The board of a servo is back, and its pulses had stopped.
    fn interrupted(&mut self, now: Duration, servo: usize, told: Ticks, fallen: bool) {
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        // What was engaged meanwhile gets its first pulse where a person placed it.
        if !state.engaged || !state.arrived {
            return;
        }
        let back = plan.back(fallen);
        if back == Back::Last {
            if plan.stop.is_none() {
                state.pulse = plan.guard.pulse(told);
            }
            state.interrupt();
            // Its first pulse comes in its turn; then it glides.
            state.goes_on_at = now.max(Duration::from_nanos(1));
            if state.estimate.known != Known::Measured {
                state.estimate = Estimate::assumed(state.pulse, now);
            }
        } else {
            let leader = plan.led.as_ref().map(|led| led.leader);
            state.release(true);
            state.lost_place = back == Back::Ask;
            if let Some(leader) = leader {
                self.release_one(leader);
                self.let_go_followers(leader);
            } else {
                self.let_go_followers(servo);
            }
            self.off_when_all_are();
        }
        self.note(now, EventKind::Interrupted(back), Some(servo));
    }

    /// Stops the pulses of one servo, without a word.
    fn release_one(&mut self, servo: usize) {
        if let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
            && state.engaged
        {
            state.release(plan.loaded);
        }
    }

    /// Engages what turns the same joint, where that stands then.
    fn engage_followers(&mut self, now: Duration, leader: usize, stands_there: bool) {
        let Some(at) = self.run.servos.get(leader).map(|state| state.pulse) else { return };
        for n in 0..self.run.servos.len() {
            let led = self.run.plan.servos.get(n).and_then(|plan| plan.led.as_ref());
            let Some(pulse) = led.filter(|led| led.leader == leader).map(|led| led.pulse_for(at)) else {
                continue;
            };
            self.engage(now, n, pulse, stands_there);
        }
    }

    /// Releases what turns the same joint.
    fn let_go_followers(&mut self, leader: usize) {
        for (state, plan) in self.run.servos.iter_mut().zip(&self.run.plan.servos) {
            if state.engaged && plan.led.as_ref().is_some_and(|led| led.leader == leader) {
                state.release(plan.loaded);
            }
        }
    }

    /// The hand jogs by a knob between two pulses, from where both stand: neither jumps.
    fn take_knob(&mut self, now: Duration, servo: usize, (input, low, high): (usize, Position, Position)) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let id = self.run.plan.inputs.get(input).map(|plan| plan.id);
        if let (Some(state), Some(id)) = (self.run.servos.get_mut(servo), id) {
            state.interrupt();
            state.hand = Some(state.hand.unwrap_or(state.pulse - state.trim));
            state.knob = Some(Knob { input: (id, input), taken: None, low, high });
        }
    }

    fn exercise(&mut self, now: Duration, servo: usize, what: Exercise) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        if let Some(state) = self.run.servos.get_mut(servo) {
            state.interrupt();
            state.hand = Some(state.pulse - state.trim);
            state.act = Some(Act::Exercise(Exercising::from(state.pulse, what)));
        }
    }

    /// Ends a wiggle, an exercise or a knob's turn where the servo stands; a continuous servo stops.
    fn stand_still(&mut self, servo: usize) {
        let stop = self.run.plan.servos.get(servo).and_then(|plan| plan.stop);
        if let Some(state) = self.run.servos.get_mut(servo).filter(|state| state.engaged) {
            state.interrupt();
            state.hand = Some(stop.unwrap_or(state.pulse));
        }
    }

    fn trim(&mut self, servo: usize, by: Position) {
        let turns = self.run.plan.servos.get(servo).is_some_and(|plan| plan.stop.is_some());
        if let Some(state) = self.run.servos.get_mut(servo).filter(|_| turns && by.is_finite()) {
            state.trim = (state.trim + by).within(-MOST_TRIM, MOST_TRIM);
            state.idle = Duration::ZERO;
        }
    }

    pub(super) fn release(&mut self, now: Duration, servo: usize) {
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        if !state.engaged {
            return;
        }
        state.release(plan.loaded);
        self.let_go_followers(servo);
        self.off_when_all_are();
        self.note(now, EventKind::Released, Some(servo));
    }

    fn jog(&mut self, now: Duration, servo: usize, by: Position, repeat: bool) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let from = state.hand.unwrap_or(state.pulse - state.trim);
        let left = if repeat { plan.way(state.pulse, from + state.trim) } else { 0.0 };
        if left > plan.pace.most * REPEAT_REACH.as_secs_f64() {
            return;
        }
        let (to, stopped) = plan.guard.bound(from + by);
        state.interrupt();
        state.hand = Some(to);
        if let Some(stopped) = stopped {
            self.note(now, EventKind::Stopped(stopped), Some(servo));
        }
    }

    fn go_to(&mut self, now: Duration, servo: usize, pulse: Position) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let (to, stopped) = plan.guard.bound(pulse);
        state.interrupt();
        state.hand = Some(to);
        state.owner = Owner::Hand;
        state.start_glide();
        if let Some(stopped) = stopped {
            self.note(now, EventKind::Stopped(stopped), Some(servo));
        }
    }

    fn wiggle(&mut self, now: Duration, servo: usize) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let reach = self.run.plan.servos.get(servo).map(|plan| plan.wiggle);
        if let (Some(state), Some(reach)) = (self.run.servos.get_mut(servo), reach)
            && !state.is_wiggling()
        {
            let wiggle = Wiggle::around(state.pulse, reach);
            state.interrupt();
            state.act = Some(Act::Wiggle(wiggle));
        }
    }

    /// Sets what is left of a servo's arming, from the whole of it; nothing for one that follows at once.
    fn arm(&mut self, servo: usize, left: impl FnOnce(Duration) -> Duration) {
        let time = self.run.plan.servos.get(servo).and_then(|plan| plan.arming).map(|(_, time)| time);
        if let (Some(state), Some(time)) = (self.run.servos.get_mut(servo), time) {
            state.arming = left(time);
            state.interrupt();
        }
    }

    fn give_back(&mut self, now: Duration, servo: usize) {
        if let Some(why) = self.hindrance(servo).filter(|why| *why != Refusal::Arming) {
            return self.refuse(now, servo, why);
        }
        self.each_player(None, |player| {
            if player.play == Play::Ended {
                player.play = Play::Stopped;
            }
        });
        if let Some(state) = self.run.servos.get_mut(servo) {
            // A knob or an exercise would take it back at once.
            state.interrupt();
            state.hand = None;
        }
    }
}
