//! From pulse to shaft to joint where that is no straight line: a fit that bends, a linkage, a steered wheel, tabulated
//! once so that a beat costs no more than a look at two knots.
//!
//! Between two knots everything is straight, so that the way back undoes the way there to the last bits. The knots are
//! so near to each other that the joint is never off by more than [`WITHIN_DEG`].

use crate::curve::Curve;
use crate::linkage::Transmission;
use crate::range;
use crate::unit::{Degrees, Position, count16, held, number};

/// How far the table may be off, in degrees of joint and of shaft.
pub const WITHIN_DEG: f64 = 0.005;
/// Half of that is aimed at, for the error is only looked at in some places.
const AIM: f64 = WITHIN_DEG / 2.0;
/// Knots nearer than this are one, in µs: the slope between them would be made of rounding.
const NEAR: f64 = 0.01;
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

/// Finds the knots around a value of one kind. Its way from the first knot to the last is cut into even cells, and
/// each knows which knots lie before it, so that only those within the cell are searched.
#[derive(Debug, Clone, PartialEq)]
struct Axis {
    first: f64,
    /// Cells a unit; negative where the values fall.
    per: f64,
    /// By cell, how many knots lie before it; one more than there are cells. Small, for all of it is to stay near.
    before: Vec<u16>,
}

/// Cells for every knot.
const CELLS: usize = 8;

impl Axis {
    /// Of knots whose values only rise or only fall.
    fn of(knots: &[Knot], of: impl Fn(&Knot) -> f64) -> Self {
        let (first, last) = (knots.first().map_or(0.0, &of), knots.last().map_or(1.0, &of));
        let cells = (knots.len() * CELLS).min(usize::from(u16::MAX) - 1);
        let per = number(cells) / (last - first);
        // The same rounding as a value's, so that both always agree.
        let cell = |knot: &Knot| count16((of(knot) - first) * per);
        let before = |n: usize| count16(number(knots.partition_point(|k| usize::from(cell(k)) < n)));
        let before = (0..=cells + 1).map(before).collect();
        Self { first, per, before }
    }

    /// The place of the latter of the two knots around a value; that of the outermost two beyond the ends.
    #[inline]
    fn after(&self, knots: &[Knot], value: f64, of: impl Fn(&Knot) -> f64) -> usize {
        let cell = usize::from(count16((value - self.first) * self.per)).min(self.before.len() - 2);
        let (from, to) = (usize::from(self.before[cell]), usize::from(self.before[cell + 1]));
        let falls = self.per < 0.0;
        let before = |k: &Knot| if falls { of(k) > value } else { of(k) < value };
        let last = knots.len() - 1;
        let after = if to - from <= 1 {
            // Nearly always: counted instead of branched on, for which way it goes nobody could foresee.
            from + ((to - from) & usize::from(before(&knots[from.min(last)])))
        } else {
            from + knots[from..to].partition_point(before)
        };
        after.clamp(1, last)
    }
}

/// See the module.
#[derive(Debug, Clone, PartialEq)]
pub struct Bent {
    /// By pulse, two or more; shaft and joint only rise or only fall.
    knots: Vec<Knot>,
    pulses: Axis,
    shafts: Axis,
    joints: Axis,
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
            let shaft = curve.angle_at(Position::new(pulse));
            Knot { pulse, shaft: shaft.get(), joint: through.joint_at(shaft).get() }
        };
        // Where one piece of the curve ends and another begins there is a knot: within each, what a few places show of the
        // error holds for all of it.
        let even = (0..=FIRST).map(|n| low + (high - low) * (f64::from(n) / f64::from(FIRST)));
        let inside = |pulse: &f64| *pulse > low + NEAR && *pulse < high - NEAR;
        let pieces = curve.pieces().map(Position::get).filter(inside);
        let mut edges: Vec<f64> = even.chain(pieces).collect();
        edges.sort_by(f64::total_cmp);
        edges.dedup_by(|later, earlier| *later - *earlier < NEAR);
        let mut knots = vec![knot(low)];
        for (from, to) in edges.iter().zip(edges.iter().skip(1)) {
            divide(&knot, knot(*from), knot(*to), HALVED, &mut knots);
        }
        let (pulses, shafts, joints) =
            (Axis::of(&knots, |k| k.pulse), Axis::of(&knots, |k| k.shaft), Axis::of(&knots, |k| k.joint));
        Self { knots, pulses, shafts, joints, ends: reach.is_some() }
    }

    /// The pulses between which the joint can be driven, where a linkage or a steered pair bounds them.
    pub fn reach(&self) -> Option<(Position, Position)> {
        let (first, last) = (self.knots.first()?, self.knots.last()?);
        self.ends.then(|| (Position::new(first.pulse), Position::new(last.pulse)))
    }

    /// The joint's angle at a pulse; beyond what a linkage can do, that of its end.
    #[inline]
    pub fn joint_at(&self, pulse: Position) -> Degrees {
        Degrees::new(self.look(&self.pulses, pulse.get(), |k| k.pulse, |k| k.joint))
    }

    /// The pulse for an angle of the joint; beyond what a linkage can do, that of its end.
    #[inline]
    pub fn pulse_at(&self, joint: Degrees) -> Position {
        Position::new(self.look(&self.joints, joint.get(), |k| k.joint, |k| k.pulse))
    }

    /// The angles of joint and shaft at a pulse.
    #[inline]
    pub fn at(&self, pulse: Position) -> (Degrees, Degrees) {
        let (a, b) = self.around(&self.pulses, pulse.get(), |k| k.pulse);
        let share = self.share(pulse.get(), a.pulse, b.pulse);
        (Degrees::new(self.part(share, a.joint, b.joint)), Degrees::new(self.part(share, a.shaft, b.shaft)))
    }

    /// The pulse and the shaft's angle for one of the joint.
    #[inline]
    pub fn with(&self, joint: Degrees) -> (Position, Degrees) {
        let (a, b) = self.around(&self.joints, joint.get(), |k| k.joint);
        let share = self.share(joint.get(), a.joint, b.joint);
        (Position::new(self.part(share, a.pulse, b.pulse)), Degrees::new(self.part(share, a.shaft, b.shaft)))
    }

    /// The shaft's angle for one of the joint.
    #[inline]
    pub fn shaft_for(&self, joint: Degrees) -> Degrees {
        Degrees::new(self.look(&self.joints, joint.get(), |k| k.joint, |k| k.shaft))
    }

    /// The pulse at an angle of the shaft.
    #[inline]
    pub fn pulse_for(&self, shaft: Degrees) -> Position {
        Position::new(self.look(&self.shafts, shaft.get(), |k| k.shaft, |k| k.pulse))
    }

    /// Degrees of the joint a microsecond at a pulse.
    pub fn slope_at(&self, pulse: Position) -> f64 {
        let (a, b) = self.around(&self.pulses, pulse.get(), |k| k.pulse);
        (b.joint - a.joint) / (b.pulse - a.pulse)
    }

    /// The steepest that the joint gets between two pulses, in degrees a microsecond, without its sign.
    pub fn steepest(&self, low: Position, high: Position) -> f64 {
        self.steepest_of(low, high, |k| k.joint)
    }

    /// The same of the shaft.
    pub fn steepest_shaft(&self, low: Position, high: Position) -> f64 {
        self.steepest_of(low, high, |k| k.shaft)
    }

    fn steepest_of(&self, low: Position, high: Position, of: impl Fn(&Knot) -> f64) -> f64 {
        let (low, high) = (low.get(), high.get());
        let pairs = self.knots.iter().zip(self.knots.iter().skip(1));
        pairs
            .filter(|(a, b)| b.pulse > low && a.pulse < high)
            .map(|(a, b)| libm::fabs((of(b) - of(a)) / (b.pulse - a.pulse)))
            .fold(0.0, libm::fmax)
    }

    /// The two knots around a value; the outermost two beyond the ends.
    #[inline]
    fn around(&self, axis: &Axis, value: f64, of: impl Fn(&Knot) -> f64) -> (&Knot, &Knot) {
        let n = axis.after(&self.knots, value, of);
        (&self.knots[n - 1], &self.knots[n])
    }

    /// How far a value is from `a` to `b`: 0..1 where that is all there is. Not a number stays so, for the guard to see.
    #[inline]
    const fn share(&self, value: f64, a: f64, b: f64) -> f64 {
        let share = (value - a) / (b - a);
        if self.ends { held(share, 0.0, 1.0) } else { share }
    }

    /// That share of the way from `a` to `b`, which is met to the bit.
    #[inline]
    fn part(&self, share: f64, a: f64, b: f64) -> f64 {
        if self.ends && share >= 1.0 { b } else { a + (b - a) * share }
    }

    // Apart from what is straight, which is most, and must not be slowed by it.
    #[inline(never)]
    fn look(&self, axis: &Axis, value: f64, from: impl Fn(&Knot) -> f64, to: impl Fn(&Knot) -> f64) -> f64 {
        let (a, b) = self.around(axis, value, &from);
        self.part(self.share(value, from(a), from(b)), to(a), to(b))
    }
}

/// The pulses at the ends of what a linkage or a steered pair can do, the lower one first.
fn reach(curve: &Curve, through: &Transmission) -> Option<(Position, Position)> {
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
        Curve::Line(Line::through(Position::new(1500.0), Degrees::ZERO, gain))
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
        let (low, high) = bent.reach().unwrap_or((Position::new(300.0), Position::new(2900.0)));
        let pulse = low + (high - low) * share;
        let shaft = curve.angle_at(pulse);
        let off = (bent.joint_at(pulse) - through.joint_at(shaft)).abs().get();
        assert!(off <= WITHIN_DEG, "{off}° off at {pulse:?}");
        let (joint, turned) = bent.at(pulse);
        assert!(joint == bent.joint_at(pulse) && (turned - shaft).abs().get() <= WITHIN_DEG);
        assert!((bent.pulse_at(joint) - pulse).abs().get() < 1e-6);
        let (back, with) = bent.with(joint);
        assert!(back == bent.pulse_at(joint) && with == bent.shaft_for(joint));
        assert!((with - turned).abs().get() < 1e-9 && (bent.pulse_for(turned) - pulse).abs().get() < 1e-6);
    }

    #[test]
    fn beyond_a_linkages_reach_is_its_end_and_beyond_a_fit_it_goes_on_straight() {
        let through = Transmission::linked(bars(16.0, 50.0, 22.0, 52.0, 90.0)).unwrap();
        let linked = Bent::of(&line(0.1), through);
        let (low, high) = linked.reach().unwrap();
        assert_eq!(linked.joint_at(high + Position::new(200.0)), linked.joint_at(high));
        assert_eq!(linked.pulse_at(linked.joint_at(low) - Degrees::new(9.0)), low);
        let points = [(700.0, -70.0), (1100.0, -40.0), (1500.0, 0.0), (1900.0, 42.0), (2300.0, 70.0)];
        let cubic = Cubic::through(&points.map(|(p, a)| (Position::new(p), Degrees::new(a)))).unwrap();
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
            let cubic = Cubic::through(&points.map(|(p, a)| (Position::new(p), Degrees::new(a)))).unwrap();
            let hand = if left { Hand::Left } else { Hand::Right };
            agrees(&Curve::Cubic(Arc::new(cubic)), Transmission::DIRECT.steering(hand, pair), share);
        }
    }
}
