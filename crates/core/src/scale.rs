//! What a number that poses and hands give means as a pulse: an angle of a joint, or a level in percent.
//!
//! Sequences, players and gauges do not tell the two apart: a level travels as [`Degrees`] through them, and only
//! files and screens write the unit that it has, [`crate::rig::Kind::unit`].

use crate::curve::{Curve, Line};
use crate::linkage::Transmission;
use crate::unit::{Degrees, Micros};
use std::sync::Arc;

/// See the module.
#[derive(Debug, Clone, PartialEq)]
pub enum Scale {
    /// Degrees along a line: a straight fit, behind no more than a gear.
    Angle(Line),
    /// Degrees behind a fit that bends, or a linkage.
    Bent(Arc<Bent>),
    /// Percent of what the endpoints leave on either side of the pulses at which nothing happens.
    Level(Sides),
}

/// A fit that is not a line, or what turns its joint is more than a gear.
#[derive(Debug, Clone, PartialEq)]
pub struct Bent {
    /// Pulse to the servo's shaft.
    pub curve: Curve,
    /// Shaft to joint.
    pub through: Transmission,
}

impl Bent {
    fn slope_at(&self, pulse: Micros) -> f64 {
        self.curve.slope_at(pulse) * self.through.ratio_at(self.curve.angle_at(pulse))
    }
}

/// The pulses of −100 %, 0 % and 100 %. What has no backwards has its zero at the low end.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sides {
    /// The pulse of −100 %.
    pub low: Micros,
    /// The pulse of 0 %.
    pub zero: Micros,
    /// The pulse of 100 %.
    pub high: Micros,
    /// The pulses around that of 0 % between which nothing happens: n − b and n + b.
    pub still: (Micros, Micros),
}

impl Sides {
    /// Without a stretch around zero on which nothing happens.
    pub const fn sharp(low: Micros, zero: Micros, high: Micros) -> Self {
        Self { low, zero, high, still: (zero, zero) }
    }

    /// The µs that a percent is worth above or below.
    fn a_percent(&self, up: bool) -> Micros {
        (if up { self.high - self.still.1 } else { self.still.0 - self.low }) * 0.01
    }

    fn level_at(&self, pulse: Micros) -> f64 {
        let past = pulse - pulse.within(self.still.0, self.still.1);
        let a_percent = self.a_percent(past.get() > 0.0);
        // A side without width has nothing on it.
        if past == Micros::ZERO || a_percent == Micros::ZERO {
            return 0.0;
        }
        // Beyond its saturation it turns no faster.
        crate::unit::held(past / a_percent, -100.0, 100.0)
    }

    fn pulse_at(&self, level: f64) -> Micros {
        let level = level.clamp(-100.0, 100.0);
        if level == 0.0 {
            return self.zero;
        }
        let edge = if level > 0.0 { self.still.1 } else { self.still.0 };
        edge + self.a_percent(level > 0.0) * level
    }
}

impl Scale {
    /// A fit behind what turns the joint.
    pub fn of(curve: Curve, through: Transmission) -> Self {
        match (curve, through.gear()) {
            (Curve::Line(line), Some(gear)) => Self::Angle(line.geared(gear.ratio, gear.offset_deg)),
            (curve, _) => Self::Bent(Arc::new(Bent { curve, through })),
        }
    }

    /// Degrees or percent a microsecond at a pulse; of a level, what its side has.
    pub fn slope_at(&self, pulse: Micros) -> f64 {
        match self {
            Self::Angle(line) => line.gain(),
            Self::Bent(bent) => bent.slope_at(pulse),
            Self::Level(sides) => 1.0 / sides.a_percent(pulse >= sides.zero).get(),
        }
    }

    /// Whether a longer pulse means a lesser angle between two pulses.
    pub fn falls(&self, low: Micros, high: Micros) -> bool {
        self.angle_at(high) < self.angle_at(low)
    }

    /// The angle or level at a pulse.
    pub fn angle_at(&self, pulse: Micros) -> Degrees {
        match self {
            Self::Angle(line) => line.angle_at(pulse),
            Self::Bent(bent) => bent.through.joint_at(bent.curve.angle_at(pulse)),
            Self::Level(sides) => Degrees::new(sides.level_at(pulse)),
        }
    }

    /// The pulse for an angle or a level; what is beyond 100 %, or beyond a linkage's reach, is at its end.
    pub fn pulse_at(&self, angle: Degrees) -> Micros {
        match self {
            Self::Angle(line) => line.pulse_at(angle),
            Self::Bent(bent) => bent.curve.pulse_at(bent.through.servo_at(angle)),
            // Not a number stays so, for the guard to see.
            Self::Level(_) if !angle.is_finite() => Micros::new(f64::NAN),
            Self::Level(sides) => sides.pulse_at(angle.get()),
        }
    }

    /// The steepest that it gets between two pulses, in degrees or percent a microsecond, without its sign.
    pub fn steepest(&self, low: Micros, high: Micros) -> f64 {
        const LOOKS: u32 = 64;
        match self {
            Self::Angle(line) => libm::fabs(line.gain()),
            Self::Level(sides) => {
                let size = |up| 1.0 / sides.a_percent(up).get();
                libm::fmax(size(true), if sides.low < sides.still.0 { size(false) } else { 0.0 })
            }
            Self::Bent(bent) => (0..=LOOKS)
                .map(|n| low + (high - low) * (f64::from(n) / f64::from(LOOKS)))
                .map(|pulse| libm::fabs(bent.slope_at(pulse)))
                .filter(|slope| slope.is_finite())
                .fold(0.0, libm::fmax),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sides(low: f64, zero: f64, high: f64) -> Scale {
        Scale::Level(Sides::sharp(Micros::new(low), Micros::new(zero), Micros::new(high)))
    }

    #[test]
    fn a_level_is_the_share_of_its_own_side() {
        let winch = sides(1000.0, 1480.0, 2000.0);
        for (level, pulse) in
            [(-100.0, 1000.0), (-50.0, 1240.0), (0.0, 1480.0), (25.0, 1610.0), (100.0, 2000.0)]
        {
            assert!((winch.pulse_at(Degrees::new(level)).get() - pulse).abs() < 1e-9, "{level}");
            assert!((winch.angle_at(Micros::new(pulse)).get() - level).abs() < 1e-9, "{pulse}");
        }
        assert_eq!(winch.pulse_at(Degrees::new(140.0)), Micros::new(2000.0));
    }

    #[test]
    fn a_lamp_has_no_backwards() {
        let lamp = sides(0.0, 0.0, 20_000.0);
        assert_eq!(lamp.pulse_at(Degrees::new(40.0)), Micros::new(8000.0));
        assert_eq!(lamp.pulse_at(Degrees::new(-5.0)), Micros::ZERO);
        assert_eq!(lamp.angle_at(Micros::ZERO), Degrees::ZERO);
        assert!(!lamp.pulse_at(Degrees::new(f64::NAN)).is_finite(), "the guard must get to see it");
    }

    #[test]
    fn the_stop_is_a_band_and_each_side_begins_at_its_edge() {
        let [low, zero, high] = [830.0, 1195.0, 1560.0].map(Micros::new);
        let still = (Micros::new(1183.0), Micros::new(1207.0));
        let reeds = Scale::Level(Sides { low, zero, high, still });
        let level = |p: f64| reeds.angle_at(Micros::new(p)).get();
        assert!((level(1400.0) - 100.0 * 193.0 / 353.0).abs() < 1e-9 && (level(1400.0) - 54.7).abs() < 0.05);
        assert!((level(1006.5) + 50.0).abs() < 1e-9);
        assert_eq!([1184.0, 1206.0].map(|p| reeds.angle_at(Micros::new(p))), [Degrees::ZERO; 2]);
        assert_eq!(reeds.pulse_at(Degrees::ZERO), zero);
        assert_eq!(reeds.pulse_at(Degrees::new(-100.0)), low);
    }

    #[test]
    fn what_is_bent_goes_both_ways_and_a_gear_stays_a_line() {
        use crate::linkage::{Gear, Transmission};
        let line = Line::through(Micros::new(1500.0), Degrees::ZERO, 0.1);
        let gear = Gear { ratio: -2.0, offset_deg: Degrees::new(5.0) };
        let geared = Scale::of(Curve::Line(line), Transmission::geared(gear));
        assert!(matches!(geared, Scale::Angle(_)) && geared.falls(Micros::new(1000.0), Micros::new(2000.0)));
        assert_eq!(geared.angle_at(Micros::new(1600.0)), Degrees::new(-15.0));
        assert!((geared.steepest(Micros::new(1000.0), Micros::new(2000.0)) - 0.2).abs() < 1e-12);
    }

    proptest! {
        #[test]
        fn a_level_comes_back_from_its_pulse(level in -100.0..100.0f64, zero in 1100.0..1900.0f64) {
            let scale = sides(1000.0, zero, 2000.0);
            let back = scale.angle_at(scale.pulse_at(Degrees::new(level)));
            prop_assert!((back.get() - level).abs() < 1e-9);
        }
    }
}
