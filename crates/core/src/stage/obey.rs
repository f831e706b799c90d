//! How the stage carries out commands, or refuses them.

use super::exercise::{Exercise, Exercising};
use super::wiggle::Wiggle;
use super::{Act, Command, EventKind, Knob, Output, Owner, Play, Refusal, Stage};
use crate::estimate::{Estimate, Known};
use crate::unit::Micros;
use std::time::Duration;

/// A held key's next nudge waits until what is left of the last takes no longer than this.
const REPEAT_REACH: Duration = Duration::from_millis(50);
/// The most that a stop is trimmed.
const MOST_TRIM: Micros = Micros::new(100.0);

impl Stage {
    fn refuse(&mut self, now: Duration, servo: usize, why: Refusal) {
        self.note(now, EventKind::Refused(why), Some(servo));
    }

    pub(super) fn obey(&mut self, now: Duration, command: Command) {
        // What turns a joint together with others is told through the first of them.
        match self.run.plan.to_leader(command, &self.run.servos) {
            Command::Cut => self.cut(now),
            Command::Hold => self.hold(now),
            Command::Drive => self.drive_on(now),
            Command::Engage { servo, pulse, told } => self.engage(now, servo, pulse, told),
            Command::Release { servo } => self.release(now, servo),
            Command::Jog { servo, by, repeat } => self.jog(now, servo, by, repeat),
            Command::GoTo { servo, pulse } => self.go_to(now, servo, pulse),
            Command::Wiggle { servo } => self.wiggle(now, servo),
            Command::Disarm { servo } => self.arm(servo, |_| Duration::MAX),
            Command::Arm { servo } => self.arm(servo, |time| time),
            Command::GiveBack { servo } => self.give_back(now, servo),
            Command::Knob { servo, input, low, high } => self.take_knob(now, servo, (input, low, high)),
            Command::Exercise { servo, what } => self.exercise(now, servo, what),
            Command::StandStill { servo } => self.stand_still(servo),
            Command::Trim { servo, by } => self.trim(servo, by),
            Command::Play { sequence } => {
                let (driving, run) = (self.output == Output::Driving, &mut self.run);
                run.player.start(&run.plan, &run.servos, sequence, driving);
            }
            Command::Pause => self.run.player.pause(),
            Command::Seek { sequence, at } => {
                let (driving, run) = (self.output == Output::Driving, &mut self.run);
                run.player.seek(&run.plan, &run.servos, sequence, at, driving);
                for servo in run.servos.iter_mut().filter(|s| s.owner == Owner::Sequence) {
                    servo.start_glide();
                }
            }
            Command::StopPlaying => self.run.player.stop(),
        }
    }

    fn cut(&mut self, now: Duration) {
        self.output = Output::Cut;
        self.run.player.stop();
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

    fn hold(&mut self, now: Duration) {
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
                state => state.arming().map(|_| Refusal::Arming),
            },
        }
    }

    fn engage(&mut self, now: Duration, servo: usize, pulse: Micros, told: bool) {
        match self.hindrance(servo) {
            Some(Refusal::NotEngaged) => {}
            // It is engaged already.
            Some(Refusal::Arming) | None => return,
            Some(why) => return self.refuse(now, servo, why),
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let (low, high) = plan.guard.endpoints;
        // What turns without end stands nowhere: its first pulse is its neutral, whatever was asked.
        let pulse = plan.arming.map(|(neutral, _)| neutral).or(plan.stop).unwrap_or(pulse).within(low, high);
        state.arming = plan.arming.map_or(Duration::ZERO, |(_, time)| time);
        state.engaged = true;
        state.pulse = pulse;
        state.target = pulse;
        // The first pulse stands at once, also when a hold follows within the same beat.
        state.ticks = plan.guard.clock.quantise(pulse, low, high).ok();
        state.hand = Some(pulse);
        state.owner = Owner::Hand;
        state.gliding = false;
        // Not told where it stands, it may have come from the far end; it is known when it had the time.
        let farthest = if pulse - low > high - pulse { low } else { high };
        state.estimate = Estimate::assumed(if told { pulse } else { farthest }, now);
        if told {
            state.estimate.known = Known::Modelled;
        }
        self.output = Output::Driving;
        self.note(now, EventKind::Engaged, Some(servo));
        self.engage_followers(now, servo, told);
    }

    /// Engages what turns the same joint, where that stands then.
    fn engage_followers(&mut self, now: Duration, leader: usize, told: bool) {
        let Some(at) = self.run.servos.get(leader).map(|state| state.pulse) else { return };
        for n in 0..self.run.servos.len() {
            let led = self.run.plan.servos.get(n).and_then(|plan| plan.led.as_ref());
            let Some(pulse) = led.filter(|led| led.leader == leader).map(|led| led.pulse_for(at)) else {
                continue;
            };
            self.engage(now, n, pulse, told);
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
    fn take_knob(&mut self, now: Duration, servo: usize, (input, low, high): (usize, Micros, Micros)) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        if let Some(state) = self.run.servos.get_mut(servo) {
            state.interrupt();
            state.hand = Some(state.hand.unwrap_or(state.pulse - state.trim));
            state.knob = Some(Knob { input, taken: None, low, high });
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

    /// Ends a wiggle, an exercise or a knob's turn where the servo stands; what turns without end stops.
    fn stand_still(&mut self, servo: usize) {
        let stop = self.run.plan.servos.get(servo).and_then(|plan| plan.stop);
        if let Some(state) = self.run.servos.get_mut(servo).filter(|state| state.engaged) {
            state.interrupt();
            state.hand = Some(stop.unwrap_or(state.pulse));
        }
    }

    fn trim(&mut self, servo: usize, by: Micros) {
        let turns = self.run.plan.servos.get(servo).is_some_and(|plan| plan.stop.is_some());
        if let Some(state) = self.run.servos.get_mut(servo).filter(|_| turns && by.is_finite()) {
            state.trim = (state.trim + by).within(-MOST_TRIM, MOST_TRIM);
            state.idle = Duration::ZERO;
        }
    }

    fn release(&mut self, now: Duration, servo: usize) {
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

    fn jog(&mut self, now: Duration, servo: usize, by: Micros, repeat: bool) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let from = state.hand.unwrap_or(state.pulse - state.trim);
        let left = (from + state.trim - state.pulse).abs().get();
        if repeat && left > plan.guard.speed * REPEAT_REACH.as_secs_f64() {
            return;
        }
        let (to, stopped) = plan.guard.bound(from + by);
        state.interrupt();
        state.hand = Some(to);
        if let Some(stopped) = stopped {
            self.note(now, EventKind::Stopped(stopped), Some(servo));
        }
    }

    fn go_to(&mut self, now: Duration, servo: usize, pulse: Micros) {
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
        if self.run.player.play == Play::Ended {
            self.run.player.stop();
        }
        if let Some(state) = self.run.servos.get_mut(servo) {
            // A knob or an exercise would take it back at once.
            state.interrupt();
            state.hand = None;
        }
    }
}
