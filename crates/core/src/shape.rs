//! Shaping an input: raw → span → trim → deadband → curve → smoothing → rate, each stage visible.
//!
//! Where the raw value comes from and how old it is belongs to the link; what the shaped value drives
//! belongs to a mapping. `Shape::advance` must be called with the time since its last call.

use crate::unit::held;
use std::time::Duration;

/// The raw values at the ends of an input, and at its rest where it has one.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Span {
    /// Self-centring: −1 at `low`, 0 at `centre`, 1 at `high`; the sides may be unequal.
    TwoSided {
        /// Raw value at −1.
        low: f64,
        /// Raw value at rest.
        centre: f64,
        /// Raw value at 1.
        high: f64,
    },
    /// One-ended: 0 at `low`, 1 at `high`.
    OneEnded {
        /// Raw value at 0.
        low: f64,
        /// Raw value at 1.
        high: f64,
    },
    /// In the joint's own unit: as it is, from `low` to `high`.
    Own {
        /// The least that is expected.
        low: f64,
        /// The most that is expected.
        high: f64,
    },
}

impl Span {
    /// Whether the input rests in the middle.
    pub const fn is_two_sided(&self) -> bool {
        matches!(self, Self::TwoSided { .. })
    }

    /// The least shaped value: −1 or 0, or what is said of one in its own unit.
    pub const fn floor(&self) -> f64 {
        match *self {
            Self::TwoSided { .. } => -1.0,
            Self::OneEnded { .. } => 0.0,
            Self::Own { low, .. } => low,
        }
    }

    /// The greatest shaped value: 1, or what is said of one in its own unit.
    pub const fn ceiling(&self) -> f64 {
        match *self {
            Self::TwoSided { .. } | Self::OneEnded { .. } => 1.0,
            Self::Own { high, .. } => high,
        }
    }

    /// Whether its values are the joint's own.
    pub const fn is_own(&self) -> bool {
        matches!(self, Self::Own { .. })
    }

    /// Where a shaped value stands between the two, 0–1.
    pub fn share(&self, shaped: f64) -> f64 {
        (shaped - self.floor()) / (self.ceiling() - self.floor())
    }

    /// The unclipped position of `raw`; 1 beyond means one whole side too far.
    fn place(&self, raw: f64) -> f64 {
        match *self {
            Self::TwoSided { low, centre, high } => {
                let above = (raw - centre) / (high - centre);
                if above >= 0.0 { above } else { -((raw - centre) / (low - centre)) }
            }
            Self::OneEnded { low, high } => (raw - low) / (high - low),
            Self::Own { .. } => raw,
        }
    }
}

/// The curve stage.
#[derive(Debug, Clone, PartialEq)]
pub enum Curve {
    /// e·x³ + (1 − e)·x, with −0.5 ≤ e ≤ 1.
    Expo(f64),
    /// Straight pieces between points (from, to), both rising or falling together, ordered by `from`.
    Points(Vec<(f64, f64)>),
}

impl Curve {
    /// The curve's value at `x`; beyond its outer points it stays level.
    #[inline]
    pub fn at(&self, x: f64) -> f64 {
        match self {
            Self::Expo(e) => e * x * x * x + (1.0 - e) * x,
            Self::Points(points) => along_points(points, x),
        }
    }
}

/// The value at `at` of straight pieces between points (from, to) that are ordered by `from`. Beyond the outer points it
/// stays level; without points it is `at` itself, and what is not a number stays so, for the guard to see.
pub fn along_points(points: &[(f64, f64)], at: f64) -> f64 {
    let after = points.partition_point(|(from, _)| *from <= at);
    match (after.checked_sub(1).and_then(|n| points.get(n)), points.get(after)) {
        _ if at.is_nan() => at,
        (Some((x0, y0)), Some((x1, y1))) => y0 + (y1 - y0) * (at - x0) / (x1 - x0),
        (Some((_, y)), None) | (None, Some((_, y))) => *y,
        (None, None) => at,
    }
}

/// All six stages of one input.
#[derive(Debug, Clone, PartialEq)]
pub struct Shape {
    /// The raw values at its ends, and at rest.
    pub span: Span,
    /// Added after the span, then clipped once.
    pub trim: f64,
    /// How much around rest counts as rest, 0 ≤ d < 1.
    pub deadband: f64,
    /// The curve through which it goes, behind the deadband.
    pub curve: Curve,
    /// Time constant of the smoothing; zero for none.
    pub smoothing: Duration,
    /// Greatest rise a second, if limited.
    pub rise: Option<f64>,
    /// Greatest fall a second, if limited.
    pub fall: Option<f64>,
}

/// What the stages remember between two calls.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Memory {
    smoothed: Option<f64>,
    rated: Option<f64>,
    /// The time that `share` was computed for: it is the same from beat to beat.
    share_for: f64,
    share: f64,
}

impl Memory {
    /// Another shape goes on from what was remembered: only what was computed from the old one is forgotten.
    pub const fn shaped_anew(&mut self) {
        self.share_for = f64::NAN;
    }
}

/// The value after each stage, in their order.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Stages {
    /// After the span, clipped.
    pub span: f64,
    /// After the trim, clipped.
    pub trim: f64,
    /// After the deadband.
    pub deadband: f64,
    /// After the curve.
    pub curve: f64,
    /// After the smoothing.
    pub smoothing: f64,
    /// After the rate limit: the shaped value.
    pub rate: f64,
    /// How much of the raw value lay beyond the span, in shaped units; 0 within it.
    pub clipped: f64,
}

impl Stages {
    /// The shaped value.
    pub const fn shaped(&self) -> f64 {
        self.rate
    }
}

impl Shape {
    /// Shapes a raw value that holds for `dt` seconds since the last call.
    #[inline]
    pub fn advance(&self, memory: &mut Memory, raw: f64, dt: f64) -> Stages {
        let (floor, ceiling) = (self.span.floor(), self.span.ceiling());
        let placed = self.span.place(raw);
        let span = held(placed, floor, ceiling);
        let trim = held(span + self.trim, floor, ceiling);
        let deadband = dead(trim, self.deadband);
        let curve = self.curve.at(deadband);
        let smoothing = self.smooth(memory, curve, dt);
        let rate = self.limit(memory.rated, smoothing, dt);
        (memory.smoothed, memory.rated) = (Some(smoothing), Some(rate));
        Stages { span, trim, deadband, curve, smoothing, rate, clipped: placed - span }
    }

    /// The stages up to the curve at a raw value: what the input would rest at. No memory is touched.
    pub fn rest(&self, raw: f64) -> f64 {
        self.rest_at(self.span.place(raw))
    }

    /// The stages behind the span, up to the curve, at a place −1..1 or 0..1 of it.
    pub fn rest_at(&self, place: f64) -> f64 {
        self.curve.at(self.before_curve(place))
    }

    /// What the curve is asked for at a place −1..1 or 0..1 of the span: behind trim and deadband.
    pub fn before_curve(&self, place: f64) -> f64 {
        let (floor, ceiling) = (self.span.floor(), self.span.ceiling());
        dead(held(held(place, floor, ceiling) + self.trim, floor, ceiling), self.deadband)
    }

    /// The way back: the place in the span, −1..1 or 0..1, at which the curve is asked for `from`; none where no place is, for the trim
    /// leads away from it.
    pub fn place_before_curve(&self, from: f64) -> Option<f64> {
        let undead = if from == 0.0 {
            0.0
        } else {
            libm::copysign(libm::fabs(from) * (1.0 - self.deadband) + self.deadband, from)
        };
        let place = undead - self.trim;
        (self.span.floor()..=self.span.ceiling()).contains(&place).then_some(place)
    }

    fn smooth(&self, memory: &mut Memory, x: f64, dt: f64) -> f64 {
        let Some(before) = memory.smoothed.filter(|before| !self.smoothing.is_zero() && before.is_finite())
        else {
            return x;
        };
        if memory.share_for.to_bits() != dt.to_bits() {
            memory.share_for = dt;
            memory.share = smoothing_share(dt, self.smoothing.as_secs_f64());
        }
        before + (x - before) * memory.share
    }

    fn limit(&self, before: Option<f64>, x: f64, dt: f64) -> f64 {
        // What was not a number before is nothing to go on from.
        let Some(before) = before.filter(|before| before.is_finite()) else { return x };
        let up = self.rise.map_or(f64::INFINITY, |r| r * dt);
        let down = self.fall.map_or(f64::INFINITY, |r| r * dt);
        before + held(x - before, -down, up)
    }
}

/// How much of a change a first-order smoothing follows in `dt`: 1 − exp(−dt/τ), both in seconds.
pub fn smoothing_share(dt: f64, tau: f64) -> f64 {
    1.0 - libm::exp(-dt / tau)
}

/// sign(x)·max(0, (|x| − d)/(1 − d)).
fn dead(x: f64, d: f64) -> f64 {
    let beyond = libm::fabs(x) - d;
    if beyond > 0.0 { libm::copysign(beyond / (1.0 - d), x) } else { libm::copysign(0.0, x) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const STICK: Span = Span::TwoSided { low: 1040.0, centre: 1512.0, high: 1968.0 };

    fn plain(span: Span) -> Shape {
        let curve = Curve::Expo(0.0);
        Shape { span, trim: 0.0, deadband: 0.0, curve, smoothing: Duration::ZERO, rise: None, fall: None }
    }

    fn near(a: f64, b: f64, within: f64) {
        assert!((a - b).abs() <= within, "{a} is not {b} ± {within}");
    }

    #[test]
    fn unequal_sides_each_have_their_own_span() {
        let shape = plain(STICK);
        near(shape.rest(1276.0), -0.5, 1e-12);
        near(shape.rest(1740.0), 0.5, 1e-12);
    }

    #[test]
    fn beyond_the_span_is_clipped_and_how_much_is_kept() {
        let stages = plain(STICK).advance(&mut Memory::default(), 1968.0 + 45.6, 0.0);
        near(stages.shaped(), 1.0, 0.0);
        near(stages.clipped, 0.1, 1e-9);
    }

    #[test]
    fn a_falling_span_works_as_a_rising_one() {
        near(plain(Span::OneEnded { low: 1023.0, high: 0.0 }).rest(1023.0 * 0.75), 0.25, 1e-12);
        let reversed = Span::TwoSided { low: 1968.0, centre: 1512.0, high: 1040.0 };
        near(plain(reversed).rest(1740.0), -0.5, 1e-12);
    }

    #[test]
    fn trim_adds_then_clips_once() {
        let shape = Shape { trim: 0.2, ..plain(Span::OneEnded { low: 0.0, high: 100.0 }) };
        near(shape.rest(50.0), 0.7, 1e-12);
        near(shape.rest(95.0), 1.0, 0.0);
    }

    #[test]
    fn the_deadband_example_holds() {
        near(dead(0.31, 0.06), 0.265957, 5e-7);
        near(dead(-0.31, 0.06), -0.265957, 5e-7);
        near(dead(0.05, 0.06), 0.0, 0.0);
    }

    #[test]
    fn the_expo_example_holds() {
        near(Curve::Expo(0.4).at(0.5), 0.35, 1e-12);
        near(Curve::Expo(0.4).at(1.0), 1.0, 1e-12);
    }

    #[test]
    fn points_are_joined_by_straight_pieces() {
        let curve = Curve::Points(vec![(-1.0, -1.0), (0.0, 0.2), (1.0, 1.0)]);
        near(curve.at(0.5), 0.6, 1e-12);
        near(curve.at(-0.5), -0.4, 1e-12);
        near(curve.at(3.0), 1.0, 0.0);
        near(curve.at(-3.0), -1.0, 0.0);
    }

    #[test]
    fn the_place_before_the_curve_is_the_way_back_through_deadband_and_trim() {
        let shape = Shape { trim: 0.1, deadband: 0.2, ..plain(STICK) };
        for from in [-0.8, -0.4, 0.0, 0.3, 0.9] {
            let place = shape.place_before_curve(from).unwrap();
            near(shape.before_curve(place), from, 1e-12);
        }
        assert_eq!(shape.place_before_curve(-1.0), None, "the trim never lets it get there");
        near(plain(STICK).place_before_curve(-1.0).unwrap(), -1.0, 0.0);
    }

    #[test]
    fn smoothing_depends_on_time_and_not_on_frames() {
        near(smoothing_share(0.02, 0.08), 0.221199, 5e-7);
        let shape =
            Shape { smoothing: Duration::from_millis(80), ..plain(Span::OneEnded { low: 0.0, high: 1.0 }) };
        let run = |frames: u32| {
            let mut memory = Memory::default();
            shape.advance(&mut memory, 0.0, 0.0);
            (0..frames).map(|_| shape.advance(&mut memory, 1.0, 0.2 / f64::from(frames)).shaped()).last()
        };
        near(run(10).unwrap(), run(40).unwrap(), 1e-9);
    }

    #[test]
    fn the_first_value_is_taken_as_it_is() {
        let shape = Shape { smoothing: Duration::from_secs(5), rise: Some(0.1), ..plain(STICK) };
        near(shape.advance(&mut Memory::default(), 1968.0, 0.02).shaped(), 1.0, 0.0);
    }

    #[test]
    fn rising_and_falling_have_rates_of_their_own() {
        let shape =
            Shape { rise: Some(1.0), fall: Some(4.0), ..plain(Span::OneEnded { low: 0.0, high: 1.0 }) };
        let mut memory = Memory::default();
        let dt = 0.1;
        shape.advance(&mut memory, 0.5, dt);
        near(shape.advance(&mut memory, 1.0, dt).shaped(), 0.6, 1e-12);
        near(shape.advance(&mut memory, 0.0, dt).shaped(), 0.2, 1e-12);
    }

    proptest! {
        #[test]
        fn shaped_values_stay_in_their_range(raw in -1e6..1e6f64, trim in -1.0..1.0f64, d in 0.0..0.99f64, e in -0.5..1.0f64) {
            let shape = Shape { trim, deadband: d, curve: Curve::Expo(e), ..plain(STICK) };
            let shaped = shape.advance(&mut Memory::default(), raw, 0.0).shaped();
            prop_assert!((-1.0 - 1e-12..=1.0 + 1e-12).contains(&shaped), "{shaped}");
        }

        #[test]
        fn expo_never_turns_back(e in -0.5..1.0f64, a in -1.0..1.0f64, b in -1.0..1.0f64) {
            let (low, high) = (a.min(b), a.max(b));
            prop_assert!(Curve::Expo(e).at(low) <= Curve::Expo(e).at(high) + 1e-12);
        }
    }
}
