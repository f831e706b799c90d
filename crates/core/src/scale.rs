//! What a number that poses and hands give means as a pulse: an angle of a joint, or a level in percent.
//!
//! Sequences, players and gauges do not tell the two apart: a level travels as [`Degrees`] through them, and only
//! files and screens write the unit that it has, [`crate::rig::Kind::unit`].

use crate::bent::Bent;
use crate::curve::{Curve, Line};
use crate::linkage::Transmission;
use crate::unit::{Degrees, Position};
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

/// The pulses of −100 %, 0 % and 100 %. What has no backwards has its zero at the low end.
#[derive(Debug, Clone, PartialEq)]
pub struct Sides {
    /// The pulse of −100 %.
    pub low: Position,
    /// The pulse of 0 %.
    pub zero: Position,
    /// The pulse of 100 %.
    pub high: Position,
    /// The pulses around that of 0 % between which nothing happens: n − b and n + b.
    pub still: (Position, Position),
    /// Pulses with their levels by the rates that were seen, by pulse, from one end to the other; empty where nothing
    /// was timed, and a level is a share of the pulses.
    pub seen: Vec<(Position, f64)>,
}

/// A level smaller than this is none: what a sum of parts leaves of nothing.
const NO_LEVEL: f64 = 1e-6;

impl Sides {
    /// Without a stretch around zero on which nothing happens.
    pub const fn sharp(low: Position, zero: Position, high: Position) -> Self {
        Self { low, zero, high, still: (zero, zero), seen: Vec::new() }
    }

    /// The µs that a percent is worth above or below.
    fn a_percent(&self, up: bool) -> Position {
        (if up { self.high - self.still.1 } else { self.still.0 - self.low }) * 0.01
    }

    /// The two that were seen around the last one that is passed; none where nothing was timed.
    fn around(
        &self,
        passed: impl Fn(&(Position, f64)) -> bool,
    ) -> Option<((Position, f64), (Position, f64))> {
        let last = self.seen.len().checked_sub(1)?;
        let n = self.seen.partition_point(passed).clamp(1, last);
        Some((*self.seen.get(n - 1)?, *self.seen.get(n)?))
    }

    fn level_at(&self, pulse: Position) -> f64 {
        let past = pulse - pulse.within(self.still.0, self.still.1);
        if let Some((a, b)) = self.around(|(p, _)| *p <= pulse).filter(|_| past != Position::ZERO) {
            let share = (pulse - a.0) / (b.0 - a.0);
            return crate::unit::held(a.1 + (b.1 - a.1) * share, -100.0, 100.0);
        }
        let a_percent = self.a_percent(past.get() > 0.0);
        // A side without width has nothing on it.
        if past == Position::ZERO || a_percent == Position::ZERO {
            return 0.0;
        }
        // Beyond its saturation it turns no faster.
        crate::unit::held(past / a_percent, -100.0, 100.0)
    }

    #[inline(never)]
    fn pulse_at(&self, level: f64) -> Position {
        let level = level.clamp(-100.0, 100.0);
        if libm::fabs(level) < NO_LEVEL {
            return self.zero;
        }
        if let Some((a, b)) = self.around(|(_, l)| if level > 0.0 { *l < level } else { *l <= level }) {
            return a.0 + (b.0 - a.0) * ((level - a.1) / (b.1 - a.1));
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
            (curve, _) => Self::Bent(Arc::new(Bent::of(&curve, through))),
        }
    }

    /// Degrees or percent a microsecond at a pulse; of a level, what its side has.
    pub fn slope_at(&self, pulse: Position) -> f64 {
        match self {
            Self::Angle(line) => line.gain(),
            Self::Bent(bent) => bent.slope_at(pulse),
            Self::Level(sides) => 1.0 / sides.a_percent(pulse >= sides.zero).get(),
        }
    }

    /// Whether a longer pulse means a lesser angle between two pulses.
    pub fn falls(&self, low: Position, high: Position) -> bool {
        self.angle_at(high) < self.angle_at(low)
    }

    /// The angle or level at a pulse.
    pub fn angle_at(&self, pulse: Position) -> Degrees {
        match self {
            Self::Angle(line) => line.angle_at(pulse),
            Self::Bent(bent) => bent.joint_at(pulse),
            Self::Level(sides) => Degrees::new(sides.level_at(pulse)),
        }
    }

    /// The pulse for an angle or a level; what is beyond 100 %, or beyond a linkage's reach, is at its end.
    #[inline]
    pub fn pulse_at(&self, angle: Degrees) -> Position {
        match self {
            Self::Angle(line) => line.pulse_at(angle),
            Self::Bent(bent) => bent.pulse_at(angle),
            // Not a number stays so, for the guard to see.
            Self::Level(_) if !angle.is_finite() => Position::new(f64::NAN),
            Self::Level(sides) => sides.pulse_at(angle.get()),
        }
    }

    /// The steepest that it gets between two pulses, in degrees or percent a microsecond, without its sign.
    pub fn steepest(&self, low: Position, high: Position) -> f64 {
        match self {
            Self::Angle(line) => libm::fabs(line.gain()),
            Self::Level(sides) => {
                let size = |up| 1.0 / sides.a_percent(up).get();
                libm::fmax(size(true), if sides.low < sides.still.0 { size(false) } else { 0.0 })
            }
            Self::Bent(bent) => bent.steepest(low, high),
        }
    }

    /// What bends it, if anything does.
    pub fn bent(&self) -> Option<&Bent> {
        match self {
            Self::Bent(bent) => Some(bent),
            Self::Angle(_) | Self::Level(_) => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn sides(low: f64, zero: f64, high: f64) -> Scale {
        Scale::Level(Sides::sharp(Position::new(low), Position::new(zero), Position::new(high)))
    }

    #[test]
    fn a_level_is_the_share_of_its_own_side() {
        let winch = sides(1000.0, 1480.0, 2000.0);
        for (level, pulse) in
            [(-100.0, 1000.0), (-50.0, 1240.0), (0.0, 1480.0), (25.0, 1610.0), (100.0, 2000.0)]
        {
            assert!((winch.pulse_at(Degrees::new(level)).get() - pulse).abs() < 1e-9, "{level}");
            assert!((winch.angle_at(Position::new(pulse)).get() - level).abs() < 1e-9, "{pulse}");
        }
        assert_eq!(winch.pulse_at(Degrees::new(140.0)), Position::new(2000.0));
    }

    #[test]
    fn a_lamp_has_no_backwards() {
        let lamp = sides(0.0, 0.0, 20_000.0);
        assert_eq!(lamp.pulse_at(Degrees::new(40.0)), Position::new(8000.0));
        assert_eq!(lamp.pulse_at(Degrees::new(-5.0)), Position::ZERO);
        assert_eq!(lamp.angle_at(Position::ZERO), Degrees::ZERO);
        assert!(!lamp.pulse_at(Degrees::new(f64::NAN)).is_finite(), "the guard must get to see it");
    }

    #[test]
    fn the_stop_is_a_band_and_each_side_begins_at_its_edge() {
        let [low, zero, high] = [830.0, 1195.0, 1560.0].map(Position::new);
        let still = (Position::new(1183.0), Position::new(1207.0));
        let reeds = Scale::Level(Sides { low, zero, high, still, seen: Vec::new() });
        let level = |p: f64| reeds.angle_at(Position::new(p)).get();
        assert!((level(1400.0) - 100.0 * 193.0 / 353.0).abs() < 1e-9 && (level(1400.0) - 54.7).abs() < 0.05);
        assert!((level(1006.5) + 50.0).abs() < 1e-9);
        assert_eq!([1184.0, 1206.0].map(|p| reeds.angle_at(Position::new(p))), [Degrees::ZERO; 2]);
        assert_eq!(reeds.pulse_at(Degrees::ZERO), zero);
        assert_eq!(reeds.pulse_at(Degrees::new(-100.0)), low);
    }

    #[test]
    fn what_is_bent_goes_both_ways_and_a_gear_stays_a_line() {
        use crate::linkage::{Gear, Transmission};
        let line = Line::through(Position::new(1500.0), Degrees::ZERO, 0.1);
        let gear = Gear { ratio: -2.0, offset_deg: Degrees::new(5.0) };
        let geared = Scale::of(Curve::Line(line), Transmission::geared(gear));
        assert!(
            matches!(geared, Scale::Angle(_)) && geared.falls(Position::new(1000.0), Position::new(2000.0))
        );
        assert_eq!(geared.angle_at(Position::new(1600.0)), Degrees::new(-15.0));
        assert!((geared.steepest(Position::new(1000.0), Position::new(2000.0)) - 0.2).abs() < 1e-12);
    }

    /// A stop band of 1183 to 1207 µs, and rates that are no line: 20, 30 and 40 rpm, where it turns no faster.
    fn timed() -> Scale {
        use crate::fit::Side::{Above, Below, Unknown};
        use crate::rig::MarkKind::{Starts, Turns};
        let mut servo = crate::rig::Servo::new("reeds.sway", ("b", 0), crate::rig::Kind::Continuous);
        servo.endpoints_us =
            crate::rig::Ends { low: crate::unit::Micros::new(900.0), high: crate::unit::Micros::new(1600.0) };
        let mark = |pulse: f64, seen, from, rpm: Option<f64>| crate::rig::Mark {
            pulse_us: Some(crate::unit::Micros::new(pulse)),
            seen,
            from,
            rpm: rpm.map(crate::unit::Rpm::new),
            ..crate::rig::Mark::default()
        };
        servo.marks = vec![
            mark(1207.0, Starts, Below, None),
            mark(1183.0, Starts, Above, None),
            mark(1227.0, Turns, Unknown, Some(20.0)),
            mark(1300.0, Turns, Unknown, Some(30.0)),
            mark(1500.0, Turns, Unknown, Some(40.0)),
            mark(1580.0, Turns, Unknown, Some(40.2)),
            mark(1083.0, Turns, Unknown, Some(-30.0)),
        ];
        Scale::Level(servo.sides())
    }

    #[test]
    fn half_of_a_level_is_half_of_the_full_rate_by_the_marks() {
        let reeds = timed();
        let pulse = |level: f64| reeds.pulse_at(Degrees::new(level)).get();
        // Half of 40.2 rpm lies just beyond the first mark, nowhere near the middle of the pulses.
        assert!((pulse(50.0) - (1227.0 + 0.1 / 10.0 * 73.0)).abs() < 0.5, "{}", pulse(50.0));
        assert!((pulse(75.0) - 1301.0).abs() < 6.0, "{}", pulse(75.0));
        // The other side goes on straight to its endpoint, for it was never seen to turn no faster.
        assert!((pulse(-50.0) - (1183.0 - 283.0 / 2.0)).abs() < 1e-6, "{}", pulse(-50.0));
        assert!((pulse(-100.0) - 900.0).abs() < 1e-9 && (pulse(0.0) - 1195.0).abs() < 1e-9);
    }

    #[test]
    fn what_is_left_of_nothing_is_the_middle_of_the_stop_band() {
        // A flow that ends at 0 % ends a last bit beside it; the edge of the band may creep.
        for rest in [1e-12, -1e-12, 0.0] {
            assert_eq!(timed().pulse_at(Degrees::new(rest)), Position::new(1195.0), "{rest}");
        }
        assert!(timed().pulse_at(Degrees::new(0.01)).get() > 1207.0);
    }

    proptest! {
        #[test]
        fn a_timed_level_comes_back_from_its_pulse_and_only_rises(level in -100.0..100.0f64, more in 0.1..50.0f64) {
            let reeds = timed();
            let pulse = reeds.pulse_at(Degrees::new(level));
            prop_assert!((reeds.angle_at(pulse).get() - level).abs() < 1e-6);
            prop_assert!(reeds.pulse_at(Degrees::new((level + more).min(100.0))) > pulse);
        }

        #[test]
        fn a_level_comes_back_from_its_pulse(level in -100.0..100.0f64, zero in 1100.0..1900.0f64) {
            let scale = sides(1000.0, zero, 2000.0);
            let back = scale.angle_at(scale.pulse_at(Degrees::new(level)));
            prop_assert!((back.get() - level).abs() < 1e-9);
        }
    }
}
