//! What a number that poses and hands give means as a pulse: an angle along a fit, or a level in percent.
//!
//! Sequences, players and gauges do not tell the two apart: a level travels as [`Degrees`] through them, and only
//! files and screens write the unit that it has, [`crate::rig::Kind::unit`].

use crate::fit::Line;
use crate::travel::about_centre;
use crate::unit::{Degrees, Micros};

/// See the module.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Scale {
    /// Degrees along a fitted line.
    Angle(Line),
    /// Percent of what the endpoints leave on either side of the pulse at which nothing happens.
    Level(Sides),
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
}

impl Sides {
    /// The µs that a percent is worth where a pulse is.
    fn a_percent(&self, up: bool) -> Micros {
        (if up { self.high - self.zero } else { self.zero - self.low }) * 0.01
    }
}

impl Scale {
    /// Degrees or percent a microsecond: the fit's slope, or the upper side's.
    pub fn gain(&self) -> f64 {
        match self {
            Self::Angle(line) => line.gain(),
            Self::Level(sides) => 1.0 / sides.a_percent(true).get(),
        }
    }

    /// The angle or level at a pulse.
    pub fn angle_at(&self, pulse: Micros) -> Degrees {
        match self {
            Self::Angle(line) => line.angle_at(pulse),
            Self::Level(sides) => {
                let past = pulse - sides.zero;
                let a_percent = sides.a_percent(past.get() > 0.0);
                // A side without width has nothing on it.
                Degrees::new(if a_percent == Micros::ZERO { 0.0 } else { past / a_percent })
            }
        }
    }

    /// The pulse for an angle or a level; what is beyond 100 % is at its end.
    pub fn pulse_at(&self, angle: Degrees) -> Micros {
        match self {
            Self::Angle(line) => line.pulse_at(angle),
            Self::Level(sides) => about_centre(angle.get() * 0.01, sides.low, sides.zero, sides.high),
        }
    }

    /// The fitted line, where there is one.
    pub const fn line(&self) -> Option<Line> {
        match self {
            Self::Angle(line) => Some(*line),
            Self::Level(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sides(low: f64, zero: f64, high: f64) -> Scale {
        Scale::Level(Sides { low: Micros::new(low), zero: Micros::new(zero), high: Micros::new(high) })
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

    proptest! {
        #[test]
        fn a_level_comes_back_from_its_pulse(level in -100.0..100.0f64, zero in 1100.0..1900.0f64) {
            let scale = sides(1000.0, zero, 2000.0);
            let back = scale.angle_at(scale.pulse_at(Degrees::new(level)));
            prop_assert!((back.get() - level).abs() < 1e-9);
        }
    }
}
