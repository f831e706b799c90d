//! From pulse to shaft to joint where that is no straight line: a fit that bends, a linkage, a steered wheel, tabulated
//! once so that a beat costs no more than a search.
//!
//! Between two knots everything is straight, so that the way back undoes the way there to the last bits. The knots are
//! so near to each other that the joint is never off by more than [`WITHIN_DEG`].

use crate::curve::Curve;
use crate::linkage::Transmission;
use crate::range;
use crate::unit::{Degrees, Micros};

/// How far the table may be off, in degrees of joint and of shaft.
pub const WITHIN_DEG: f64 = 0.005;
/// Half of that is aimed at, for the error is only looked at in some places.
const AIM: f64 = WITHIN_DEG / 2.0;
/// Stretches to begin with, and how often each may be halved.
const FIRST: u32 = 16;
const HALVED: u32 = 12;

/// One row of the table.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Knot {
    pulse: f64,
    shaft: f64,
    joint: f64,
}

/// See the module.
#[derive(Debug, Clone, PartialEq)]
pub struct Bent {
    /// By pulse, two or more; shaft and joint only rise or only fall.
    knots: Vec<Knot>,
    /// The joint falls where the pulse rises.
    falls: bool,
    /// Beyond its ends nothing is reached; else it goes on straight.
    ends: bool,
}

impl Bent {
    /// Tabulates what a fit gives behind what turns the joint, over all pulses there are; of a linkage, over the
    /// stretch on which the joint can be driven.
    pub fn of(curve: &Curve, through: Transmission) -> Self {
        let (mut low, mut high) = (range::PULSE.least, range::PULSE.greatest);
        let reach = reach(curve, &through);
        if let Some((a, b)) = reach {
            (low, high) = (libm::fmax(low, a.get()), libm::fmin(high, b.get()));
            if low >= high {
                // It is out of reach at every pulse there is: the nearest of its stretch.
                (low, high) = (a.get(), b.get());
            }
        }
        let knot = |pulse: f64| {
            let shaft = curve.angle_at(Micros::new(pulse));
            Knot { pulse, shaft: shaft.get(), joint: through.joint_at(shaft).get() }
        };
        let mut knots = vec![knot(low)];
        for n in 0..FIRST {
            let at = |n: u32| low + (high - low) * (f64::from(n) / f64::from(FIRST));
            let (from, to) = (knot(at(n)), knot(at(n + 1)));
            divide(&knot, from, to, HALVED, &mut knots);
        }
        let falls = knots.last().zip(knots.first()).is_some_and(|(last, first)| last.joint < first.joint);
        Self { knots, falls, ends: reach.is_some() }
    }

    /// The pulses between which the joint can be driven, where a linkage or a steered pair bounds them.
    pub fn reach(&self) -> Option<(Micros, Micros)> {
        let (first, last) = (self.knots.first()?, self.knots.last()?);
        self.ends.then(|| (Micros::new(first.pulse), Micros::new(last.pulse)))
    }

    /// The joint's angle at a pulse; beyond what a linkage can do, that of its end.
    #[inline]
    pub fn joint_at(&self, pulse: Micros) -> Degrees {
        Degrees::new(self.look(pulse.get(), |k| k.pulse, |k| k.joint, false))
    }

    /// The pulse for an angle of the joint; beyond what a linkage can do, that of its end.
    #[inline]
    pub fn pulse_at(&self, joint: Degrees) -> Micros {
        Micros::new(self.look(joint.get(), |k| k.joint, |k| k.pulse, self.falls))
    }

    /// The shaft's angle at a pulse.
    pub fn shaft_at(&self, pulse: Micros) -> Degrees {
        Degrees::new(self.look(pulse.get(), |k| k.pulse, |k| k.shaft, false))
    }

    /// The shaft's angle for one of the joint.
    #[inline]
    pub fn shaft_for(&self, joint: Degrees) -> Degrees {
        Degrees::new(self.look(joint.get(), |k| k.joint, |k| k.shaft, self.falls))
    }

    /// The joint's angle for one of the shaft.
    #[inline]
    pub fn joint_for(&self, shaft: Degrees) -> Degrees {
        let falls = self.knots.last().zip(self.knots.first()).is_some_and(|(z, a)| z.shaft < a.shaft);
        Degrees::new(self.look(shaft.get(), |k| k.shaft, |k| k.joint, falls))
    }

    /// Degrees of the joint a microsecond at a pulse.
    pub fn slope_at(&self, pulse: Micros) -> f64 {
        let (a, b) = self.around(pulse.get(), |k| k.pulse, false);
        (b.joint - a.joint) / (b.pulse - a.pulse)
    }

    /// The steepest that the joint gets between two pulses, in degrees a microsecond, without its sign.
    pub fn steepest(&self, low: Micros, high: Micros) -> f64 {
        let (low, high) = (low.get(), high.get());
        let inside = self.knots.windows(2).filter(|w| w[1].pulse > low && w[0].pulse < high);
        inside
            .map(|w| libm::fabs((w[1].joint - w[0].joint) / (w[1].pulse - w[0].pulse)))
            .fold(0.0, libm::fmax)
    }

    /// The two knots around a value; the outermost two beyond the ends.
    #[inline]
    fn around(&self, value: f64, of: impl Fn(&Knot) -> f64, falls: bool) -> (Knot, Knot) {
        let before = |k: &Knot| if falls { of(k) > value } else { of(k) < value };
        let n = self.knots.partition_point(before).clamp(1, self.knots.len() - 1);
        (self.knots[n - 1], self.knots[n])
    }

    #[inline]
    fn look(&self, value: f64, from: impl Fn(&Knot) -> f64, to: impl Fn(&Knot) -> f64, falls: bool) -> f64 {
        let (a, b) = self.around(value, &from, falls);
        let share = (value - from(&a)) / (from(&b) - from(&a));
        // Not a number stays so, for the guard to see.
        let share = if self.ends { share.clamp(0.0, 1.0) } else { share };
        // At its end to the bit.
        if self.ends && share >= 1.0 { to(&b) } else { to(&a) + (to(&b) - to(&a)) * share }
    }
}

/// The pulses at the ends of what a linkage or a steered pair can do, the lower one first.
fn reach(curve: &Curve, through: &Transmission) -> Option<(Micros, Micros)> {
    let (a, b) = through.usable()?;
    let (a, b) = (curve.pulse_at(a), curve.pulse_at(b));
    Some(if a < b { (a, b) } else { (b, a) })
}

/// Adds the knots after `from` up to `to`, as many as the straight lines between them need.
fn divide(knot: &impl Fn(f64) -> Knot, from: Knot, to: Knot, halvings: u32, into: &mut Vec<Knot>) {
    let straight = |share: f64| {
        let real = knot(from.pulse + (to.pulse - from.pulse) * share);
        let off = |a: f64, b: f64, is: f64| libm::fabs(a + (b - a) * share - is);
        off(from.joint, to.joint, real.joint) <= AIM && off(from.shaft, to.shaft, real.shaft) <= AIM
    };
    if halvings == 0 || [0.25, 0.5, 0.75].into_iter().all(straight) {
        return into.push(to);
    }
    let middle = knot(f64::midpoint(from.pulse, to.pulse));
    divide(knot, from, middle, halvings - 1, into);
    divide(knot, middle, to, halvings - 1, into);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::curve::{Cubic, Line};
    use crate::linkage::{FourBar, Hand, Steering};
    use crate::unit::Millimetres;
    use proptest::prelude::*;
    use std::sync::Arc;

    fn line(gain: f64) -> Curve {
        Curve::Line(Line::through(Micros::new(1500.0), Degrees::ZERO, gain))
    }

    fn bars(horn: f64, rod: f64, arm: f64, pivots: f64, horn_at: f64) -> FourBar {
        FourBar {
            horn_mm: Millimetres::new(horn),
            rod_mm: Millimetres::new(rod),
            arm_mm: Millimetres::new(arm),
            pivots_mm: Millimetres::new(pivots),
            horn_at_deg: Degrees::new(horn_at),
            branch: crate::linkage::Branch::default(),
            offset_deg: Degrees::ZERO,
            reversed: false,
        }
    }

    /// The table against what it was made from, at a share of the pulses there are.
    fn agrees(curve: &Curve, through: Transmission, share: f64) {
        let bent = Bent::of(curve, through);
        let (low, high) = bent.reach().unwrap_or((Micros::new(300.0), Micros::new(2900.0)));
        let pulse = low + (high - low) * share;
        let shaft = curve.angle_at(pulse);
        let off = (bent.joint_at(pulse) - through.joint_at(shaft)).abs().get();
        assert!(off <= WITHIN_DEG, "{off}° off at {pulse:?}");
        assert!((bent.shaft_at(pulse) - shaft).abs().get() <= WITHIN_DEG);
        let joint = bent.joint_at(pulse);
        assert!((bent.pulse_at(joint) - pulse).abs().get() < 1e-6);
        assert!((bent.joint_for(bent.shaft_for(joint)) - joint).abs().get() < 1e-9);
    }

    #[test]
    fn beyond_a_linkages_reach_is_its_end_and_beyond_a_fit_it_goes_on_straight() {
        let through = Transmission::linked(bars(16.0, 50.0, 22.0, 52.0, 90.0)).unwrap();
        let linked = Bent::of(&line(0.1), through);
        let (low, high) = linked.reach().unwrap();
        assert_eq!(linked.joint_at(high + Micros::new(200.0)), linked.joint_at(high));
        assert_eq!(linked.pulse_at(linked.joint_at(low) - Degrees::new(9.0)), low);
        let points = [(700.0, -70.0), (1100.0, -40.0), (1500.0, 0.0), (1900.0, 42.0), (2300.0, 70.0)];
        let cubic = Cubic::through(&points.map(|(p, a)| (Micros::new(p), Degrees::new(a)))).unwrap();
        let free = Bent::of(&Curve::Cubic(Arc::new(cubic)), Transmission::DIRECT);
        assert_eq!(free.reach(), None);
        let far = free.pulse_at(Degrees::new(400.0));
        assert!((free.joint_at(far).get() - 400.0).abs() < 1e-9 && far.get() > 2900.0);
        assert!(!free.pulse_at(Degrees::new(f64::NAN)).is_finite(), "the guard must get to see it");
    }

    #[test]
    fn a_table_has_no_more_rows_than_its_bends_need() {
        let through = Transmission::linked(bars(16.0, 50.0, 22.0, 52.0, 90.0)).unwrap();
        let rows = Bent::of(&line(0.1), through).knots.len();
        assert!((50..600).contains(&rows), "{rows}");
    }

    proptest! {
        #[test]
        fn a_table_is_as_good_as_what_it_was_made_from(
            horn in 8.0..30.0f64, rod in 30.0..90.0f64, arm in 10.0..50.0f64, pivots in 30.0..80.0f64,
            horn_at in 30.0..150.0f64, share in 0.0..1.0f64, falls: bool,
        ) {
            if let Ok(through) = Transmission::linked(bars(horn, rod, arm, pivots, horn_at)) {
                agrees(&line(if falls { -0.1 } else { 0.1 }), through, share);
            }
        }

        #[test]
        fn a_steered_wheel_behind_a_curve_is_tabulated_too(
            bend in 5.0..40.0f64, track in 60.0..250.0f64, share in 0.0..1.0f64, left: bool,
        ) {
            let pair = Steering { track_mm: Millimetres::new(track), wheelbase_mm: Millimetres::new(310.0) };
            let points = [(700.0, -70.0), (1100.0, -40.0), (1500.0, bend - 20.0), (1900.0, 42.0), (2300.0, 70.0)];
            let cubic = Cubic::through(&points.map(|(p, a)| (Micros::new(p), Degrees::new(a)))).unwrap();
            let hand = if left { Hand::Left } else { Hand::Right };
            agrees(&Curve::Cubic(Arc::new(cubic)), Transmission::DIRECT.steering(hand, pair), share);
        }
    }
}
