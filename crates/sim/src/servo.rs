//! A simulated servo: pulses in, a horn that turns, with its own idea of where.

use crate::truth::{LinkageTruth, ServoTruth};
use wasvolta_core::rig::Ends;

/// One servo in motion. Angles in degrees, as the horn stands; currents in amperes.
#[derive(Debug, Clone)]
pub struct SimServo {
    truth: ServoTruth,
    motor: f64,
    horn: f64,
    moving: bool,
    stalled: bool,
}

impl SimServo {
    /// A servo that stands where its truth says.
    pub const fn new(truth: ServoTruth) -> Self {
        Self { truth, motor: truth.stands_deg, horn: truth.stands_deg, moving: false, stalled: false }
    }

    /// Its truth, for tests that judge what was found out about it.
    pub const fn truth(&self) -> &ServoTruth {
        &self.truth
    }

    /// Where the horn stands.
    pub const fn horn(&self) -> f64 {
        self.horn
    }

    /// Where what it moves by a rod stands, counted from where that stands with the horn at 0°.
    pub fn joint(&self) -> Option<f64> {
        let linkage = self.truth.linkage?;
        Some(linkage.arm(self.horn)? - linkage.arm(0.0)?)
    }

    /// Its supply gives way, and it twitches.
    pub fn twitches(&self) -> bool {
        self.truth.sag > 0.0 && self.horn.abs() > SAGS_FROM_DEG
    }

    /// It pushes against a stop and can be heard.
    pub const fn buzzes(&self) -> bool {
        self.stalled
    }

    /// What it draws.
    pub const fn amps(&self) -> f64 {
        if self.stalled {
            self.truth.stall_a
        } else if self.moving {
            self.truth.stall_a * 0.3
        } else {
            0.01
        }
    }

    /// One step of time, with the pulse it gets, if any. Seconds in, both of them.
    pub fn step(&mut self, pulse: Option<f64>, dt: f64) {
        let Some(pulse) = pulse else {
            (self.moving, self.stalled) = (false, false);
            return;
        };
        let aim = self.truth.angle(pulse * 1e6) * (1.0 - self.truth.sag);
        let deaf = (self.truth.deadband_us * self.truth.gain_deg_per_100us / 100.0).abs();
        if (aim - self.motor).abs() > deaf {
            self.moving = true;
        }
        if !self.moving {
            self.stalled = false;
            return;
        }
        let reach = self.truth.speed_deg_s * dt;
        let Ends { low, high } = self.truth.stops_deg;
        let next = self.motor + (aim - self.motor).clamp(-reach, reach);
        self.motor = next.clamp(low, high);
        self.stalled = next < low || next > high;
        self.moving = self.stalled || (self.motor - aim).abs() > f64::EPSILON;
        let loose = self.truth.slack_deg / 2.0;
        self.horn = self.horn.clamp(self.motor - loose, self.motor + loose);
    }
}

/// A supply that gives way does so under a servo that has gone so far.
const SAGS_FROM_DEG: f64 = 15.0;

impl LinkageTruth {
    /// The arm's angle with the horn read at an angle: where the rod's end lies on both circles. None out of reach.
    fn arm(&self, horn: f64) -> Option<f64> {
        let turned = (horn + self.horn_at_deg).to_radians();
        let tip = (self.horn_mm * libm::cos(turned), self.horn_mm * libm::sin(turned));
        let (dx, dy) = (tip.0 - self.pivots_mm, tip.1);
        let far = libm::hypot(dx, dy);
        let along = (far * far + self.arm_mm * self.arm_mm - self.rod_mm * self.rod_mm) / (2.0 * far);
        let aside = self.arm_mm * self.arm_mm - along * along;
        let aside = (aside >= 0.0).then(|| libm::sqrt(aside))?;
        // Clockwise of the line to the tip, unless it is crossed.
        let aside = if self.crossed { aside } else { -aside };
        let (x, y) = ((dx * along - dy * aside) / far, (dy * along + dx * aside) / far);
        Some(libm::atan2(y, x).to_degrees())
    }
}

impl ServoTruth {
    /// The angle this servo goes to for a pulse, hard stops aside.
    pub fn angle(&self, pulse_us: f64) -> f64 {
        let Ends { low, high } = self.follows_us;
        let from_zero = pulse_us.clamp(low, high) - self.zero_us;
        let bend = self.curve_deg * libm::sin(std::f64::consts::PI * from_zero / 500.0);
        self.gain_deg_per_100us * from_zero / 100.0 + bend
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn servo() -> SimServo {
        let truth = ServoTruth {
            deadband_us: 2.0,
            slack_deg: 1.0,
            curve_deg: 0.0,
            gain_deg_per_100us: 10.0,
            zero_us: 1500.0,
            speed_deg_s: 400.0,
            stops_deg: Ends { low: -60.0, high: 60.0 },
            stands_deg: 20.0,
            ..ServoTruth::drawn(1, 0)
        };
        SimServo::new(truth)
    }

    fn run(servo: &mut SimServo, pulse_us: f64, milliseconds: u32) {
        for _ in 0..milliseconds {
            servo.step(Some(pulse_us * 1e-6), 1e-3);
        }
    }

    #[test]
    fn it_lurches_from_where_it_stood_at_its_own_speed() {
        let mut servo = servo();
        run(&mut servo, 1500.0, 20);
        assert!((servo.motor - 12.0).abs() < 1e-9);
        run(&mut servo, 1500.0, 100);
        assert!(servo.motor.abs() < 1e-9);
    }

    #[test]
    fn slack_shows_as_a_difference_between_the_two_directions() {
        let mut servo = servo();
        run(&mut servo, 1400.0, 500);
        run(&mut servo, 1500.0, 500);
        let rising = servo.horn();
        run(&mut servo, 1600.0, 500);
        run(&mut servo, 1500.0, 500);
        assert!((servo.horn() - rising - 1.0).abs() < 1e-9);
    }

    #[test]
    fn a_stop_makes_it_buzz_and_draw_its_stall_current() {
        let mut servo = servo();
        run(&mut servo, 2200.0, 500);
        assert!(servo.buzzes() && (servo.horn() - 60.0).abs() < 0.51);
        assert!((servo.amps() - servo.truth().stall_a).abs() < 1e-12);
        run(&mut servo, 2000.0, 500);
        assert!(!servo.buzzes());
    }

    #[test]
    fn a_rod_moves_an_arm_as_the_worked_linkage_does() {
        let linkage = LinkageTruth {
            horn_mm: 16.0,
            rod_mm: 50.0,
            arm_mm: 22.0,
            pivots_mm: 52.0,
            horn_at_deg: 90.0,
            crossed: false,
        };
        for (horn, arm) in [(-30.0, 75.683), (0.0, 96.122), (30.0, 117.952)] {
            assert!((linkage.arm(horn).unwrap() - arm).abs() < 5e-4);
        }
        assert_eq!(LinkageTruth { rod_mm: 200.0, ..linkage }.arm(0.0), None);
    }

    #[test]
    fn within_its_deadband_it_does_not_stir_and_without_pulses_it_stays() {
        let mut servo = servo();
        run(&mut servo, 1500.0, 500);
        run(&mut servo, 1501.5, 500);
        assert!(servo.motor.abs() < 1e-9);
        let before = servo.horn();
        servo.step(None, 1.0);
        assert!((servo.horn() - before).abs() < 1e-12);
    }
}
