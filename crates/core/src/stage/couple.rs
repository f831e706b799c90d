//! Several servos on one joint: the first leads, the others go to the pulses that mean the same angle to them.
//!
//! What is asked of any of them is asked of the first. The joint's angle is what moves: it goes no further and no faster
//! than all of them can, so that they never pull against each other. One without marks has no angles, and so neither
//! leads nor follows.

use super::command::{Command, Placed};
use super::drive::{Beat, Proposal};
use super::plan::ServoPlan;
use super::{Plan, ServoState};
use crate::rig::{Joint, Parts};
use crate::scale::Scale;
use crate::unit::{Degrees, Position};

/// What a servo that follows another one knows of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Led {
    /// The index of the one that leads.
    pub leader: usize,
    /// From that one's pulse to the joint's angle.
    theirs: Scale,
    /// The same of its own.
    own: Scale,
}

impl Led {
    /// Its pulse when the leader has one.
    pub fn pulse_for(&self, leading: Position) -> Position {
        self.own.pulse_at(self.theirs.angle_at(leading))
    }

    /// The leader's pulse when it has one itself.
    pub fn leading_for(&self, pulse: Position) -> Position {
        self.theirs.pulse_at(self.own.angle_at(pulse))
    }
}

/// Two servos stand at the same angle of their joint when they are as near as this, in degrees.
const TOGETHER_DEG: f64 = 1e-3;

/// Ties together in the plan what turns a joint together in the rig. `servos` are in rig order.
pub(super) fn couple(rig: Parts<'_>, servos: &mut [ServoPlan]) {
    for (n, joint) in rig.joints.iter().enumerate().filter(|(_, joint)| !joint.others.is_empty()) {
        tie(rig, (n, joint), servos);
    }
}

/// The members of a joint that have angles follow the first of them; the others are left to the hand.
fn tie(rig: Parts<'_>, (shared, joint): (usize, &Joint), servos: &mut [ServoPlan]) {
    let place = |name: &str| rig.index.servos.named(name);
    let places: Vec<usize> = joint.servos().filter_map(place).filter(|n| *n < servos.len()).collect();
    for &n in &places {
        servos[n].shares = Some(shared);
    }
    let members: Vec<(usize, Scale)> =
        places.iter().filter_map(|&n| Some((n, servos[n].scale.clone()?))).collect();
    // Poses and mappings speak to the first servo of the joint; without its angles nobody knows what they mean.
    let Some(((leader, theirs), others)) =
        members.split_first().filter(|((n, _), _)| places.first() == Some(n))
    else {
        return;
    };
    // The angles that all of them can reach.
    let (mut least, mut most) = (f64::NEG_INFINITY, f64::INFINITY);
    for (n, scale) in &members {
        let (low, high) = servos[*n].guard.free();
        let (a, b) = (scale.angle_at(low).get(), scale.angle_at(high).get());
        (least, most) = (libm::fmax(least, libm::fmin(a, b)), libm::fmin(most, libm::fmax(a, b)));
    }
    for (n, scale) in &members {
        let ends = [least, most].map(|angle| scale.pulse_at(Degrees::new(angle)));
        let (low, high) = if ends[0] < ends[1] { (ends[0], ends[1]) } else { (ends[1], ends[0]) };
        let guard = servos[*n].guard;
        servos[*n].guard = crate::guard::Guard::new(guard.endpoints, (Some(low), Some(high)), guard.steps);
    }
    for (n, own) in others {
        servos[*n].led = Some(Box::new(Led { leader: *leader, theirs: theirs.clone(), own: own.clone() }));
        servos[*n].idle = None;
        servos[*n].follows = Box::default();
    }
}

impl Plan {
    /// A command for a servo that follows, as it is for the one that leads.
    pub(super) fn to_leader(&self, command: Placed, states: &[ServoState]) -> Placed {
        let led = |servo: usize| self.servos.get(servo).and_then(|plan| plan.led.as_ref());
        let at = |servo: usize| {
            states.get(servo).map_or(Position::ZERO, |state| state.hand.unwrap_or(state.pulse))
        };
        match command {
            Command::Engage { servo, pulse, stands_there } => {
                // The followers are engaged by their leader, at a pulse of their own.
                let follows = led(servo).filter(|led| states.get(led.leader).is_some_and(|s| !s.engaged));
                follows.map_or(command, |led| Command::Engage {
                    servo: led.leader,
                    pulse: led.leading_for(pulse),
                    stands_there,
                })
            }
            Command::Release { servo } => {
                led(servo).map_or(command, |led| Command::Release { servo: led.leader })
            }
            Command::Ease { servo, percent } => {
                led(servo).map_or(command, |led| Command::Ease { servo: led.leader, percent })
            }
            Command::Jog { servo, by, repeat } => led(servo).map_or(command, |led| {
                let from = at(led.leader);
                let to = led.leading_for(led.pulse_for(from) + by);
                Command::Jog { servo: led.leader, by: to - from, repeat }
            }),
            Command::GoTo { servo, pulse } => led(servo)
                .map_or(command, |led| Command::GoTo { servo: led.leader, pulse: led.leading_for(pulse) }),
            Command::Wiggle { servo } => {
                led(servo).map_or(command, |led| Command::Wiggle { servo: led.leader })
            }
            Command::GiveBack { servo } => {
                led(servo).map_or(command, |led| Command::GiveBack { servo: led.leader })
            }
            Command::StandStill { servo } => {
                led(servo).map_or(command, |led| Command::StandStill { servo: led.leader })
            }
            Command::Knob { servo, input, low, high } => led(servo).map_or(command, |led| Command::Knob {
                servo: led.leader,
                input,
                low: led.leading_for(low),
                high: led.leading_for(high),
            }),
            Command::Exercise { servo, what } => led(servo).map_or(command, |led| {
                let [a, b, centre] = [what.low, what.high, what.centre].map(|pulse| led.leading_for(pulse));
                let (low, high) = if a < b { (a, b) } else { (b, a) };
                let scaled = (high - low) / (what.high - what.low);
                let what =
                    super::exercise::Exercise { low, high, centre, us_per_s: what.us_per_s * scaled, ..what };
                Command::Exercise { servo: led.leader, what }
            }),
            Command::Wire { .. }
            | Command::Cut
            | Command::Hold
            | Command::Drive
            | Command::Disarm { .. }
            | Command::Arm { .. }
            | Command::Trim { .. }
            | Command::Play { .. }
            | Command::Pause
            | Command::Seek { .. }
            | Command::StopPlaying
            | Command::PlayFrom { .. }
            | Command::PauseOne { .. }
            | Command::StopOne { .. }
            | Command::FinishLoop { .. }
            | Command::Tempo { .. }
            | Command::Among { .. }
            | Command::Key { .. }
            | Command::AsIf { .. } => command,
        }
    }
}

/// Lets every joint that several servos turn go only as far in this beat as all of them can. One that is not at the
/// joint's angle yet, for an edit put it there, holds nobody up: it catches up by itself.
pub(super) fn settle(plan: &Plan, states: &mut [ServoState], proposals: &mut [Proposal], beat: &Beat) {
    for &n in &plan.followers {
        let Some((plan, led)) = plan.servos.get(n).and_then(|plan| Some((plan, plan.led.as_ref()?))) else {
            continue;
        };
        let Some(leader) = states.get(led.leader).copied() else { continue };
        let Some(state) = states.get_mut(n) else { continue };
        if state.engaged && !leader.engaged {
            state.release(plan.loaded);
        }
        let frozen = state.is_frozen(beat.now);
        let mine = match (state.engaged, proposals.get_mut(led.leader)) {
            (false, _) => Proposal::Released,
            (true, Some(Proposal::Stands)) => Proposal::Stands,
            (true, Some(theirs)) if frozen => {
                // They turn together, so the joint waits.
                *theirs = Proposal::Frozen;
                Proposal::Frozen
            }
            (true, Some(Proposal::Goes(going))) => {
                let from = led.theirs.angle_at(leader.pulse);
                if (led.own.angle_at(state.pulse) - from).abs().get() < TOGETHER_DEG {
                    let wanted = led.pulse_for(going.pulse);
                    let reached = plan.go(state.pulse, wanted, plan.pace.most, beat.seconds);
                    if reached != wanted {
                        // Between where it is and where it was to go: while an edit has left it outside, the guard's
                        // nearest pulse would be a jump.
                        going.pulse = led.leading_for(reached).within(leader.pulse, going.pulse);
                    }
                }
                Proposal::Led
            }
            _ => Proposal::Frozen,
        };
        if let Some(place) = proposals.get_mut(n) {
            *place = mine;
        }
    }
}

/// Brings a servo that follows to the angle at which its leader is now.
pub(super) fn follow(led: &Led, leader: &ServoState, state: &mut ServoState, plan: &ServoPlan, beat: &Beat) {
    let before = led.theirs.angle_at(leader.before);
    let together = (led.own.angle_at(state.pulse) - before).abs().get() < TOGETHER_DEG;
    let wanted = led.pulse_for(leader.pulse);
    let (low, high) = plan.guard.endpoints;
    let (pulse, stopped) = if together && wanted >= low && wanted <= high {
        // Settled: all of them can, also on the way back from where an edit left them outside.
        (wanted, plan.guard.bound(wanted).1)
    } else {
        let passed =
            plan.guard.pass(state.pulse, wanted, |from, to| plan.go(from, to, plan.pace.glide, beat.seconds));
        (passed.pulse, passed.stopped)
    };
    (state.owner, state.gliding) = (leader.owner, leader.gliding || !together);
    (state.pulse, state.target, state.stopped) = (pulse, wanted, stopped);
    state.setpoint = Some(plan.guard.going(state.before, pulse, beat.a_second));
    state.hand = leader.hand.map(|_| pulse);
    state.estimate.follow(pulse, plan.follow, beat.now, beat.seconds);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bent::WITHIN_DEG;
    use crate::linkage::{Hand, Steering};
    use crate::rig::edit::joint::{couple, set_steering};
    use crate::rig::file::{Loaded, load};
    use crate::rig::{Ends, Rig};
    use crate::unit::Millimetres;

    fn coupled() -> Rig {
        let Loaded::Sound(rig) = load(include_str!("../../tests/data/small.rig.toml")) else { panic!() };
        let bare = Rig { poses: Vec::new(), sequences: Vec::new(), ..*rig };
        couple(&bare, "heron.neck", "heron.beak").unwrap()
    }

    #[test]
    fn the_others_go_to_the_same_angle_and_no_further_than_all_can() {
        let rig = coupled();
        let plan = Plan::of(&rig);
        let led = plan.servos[1].led.as_ref().unwrap();
        let scales = [0, 1].map(|n: usize| plan.servos[n].scale.clone().unwrap());
        for angle in [0.0, 17.0, 44.0].map(Degrees::new) {
            let leading = scales[0].pulse_at(angle);
            assert!((scales[1].angle_at(led.pulse_for(leading)) - angle).abs().get() < 1e-9);
            assert!((led.leading_for(led.pulse_for(leading)) - leading).abs().get() < 1e-9);
        }
        // The beak reaches from 0°, the neck's limits end at 45°: neither is asked for more.
        let free = |n: usize| {
            let (low, high) = plan.servos[n].guard.free();
            (scales[n].angle_at(low).get(), scales[n].angle_at(high).get())
        };
        for (low, high) in [free(0), free(1)] {
            assert!(low.abs() < 1e-6 && (high - 45.0).abs() < 1e-6, "{low} {high}");
        }
    }

    #[test]
    fn a_steered_pair_turns_its_wheels_about_one_middle() {
        let pair = Steering { track_mm: Millimetres::new(190.0), wheelbase_mm: Millimetres::new(310.0) };
        let rig = set_steering(&coupled(), "heron.neck", Some(pair)).unwrap();
        let plan = Plan::of(&rig);
        let led = plan.servos[1].led.as_ref().unwrap();
        let middle = Degrees::new(15.0);
        let leading = plan.servos[0].scale.as_ref().unwrap().pulse_at(middle);
        let wheel = |n: usize, pulse: Position| rig.servos[n].fit().unwrap().curve.angle_at(pulse);
        let (left, right) = (wheel(0, leading), wheel(1, led.pulse_for(leading)));
        assert!((left - pair.wheel(Hand::Left, middle)).abs().get() <= WITHIN_DEG);
        assert!((right - pair.wheel(Hand::Right, middle)).abs().get() <= WITHIN_DEG);
        assert!(left > right, "the inner wheel turns further");
        assert_eq!(rig.servos[0].ends(), Ends { low: Position::new(900.0), high: Position::new(2100.0) });
    }
}
