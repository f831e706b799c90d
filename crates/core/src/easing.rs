//! Easings: how far along a move is after a share of its time.
//!
//! `u` is time from 0 to 1, `s` the way from 0 to 1; both ends are always reached. When a move is too fast
//! for its joint is the sequence's business.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The shape of a move in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Easing {
    /// One speed throughout.
    Linear,
    /// 3u² − 2u³: no speed at either end.
    #[default]
    Cubic,
    /// (1 − cos πu)/2.
    Sine,
    /// 10u³ − 15u⁴ + 6u⁵.
    MinimumJerk,
    /// Speeding up, a steady stretch, slowing down.
    Trapezoid,
    /// Passing through the poses without stopping at them.
    Flow,
}

/// The peak over the mean speed of a trapezoid when no acceleration is given: ramps of a quarter each.
pub const PLAIN_TRAPEZOID: f64 = 4.0 / 3.0;

impl Easing {
    /// All easings, in the order they are offered.
    pub const ALL: [Self; 6] =
        [Self::Linear, Self::Cubic, Self::Sine, Self::MinimumJerk, Self::Trapezoid, Self::Flow];

    /// The name a person reads.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Linear => "linear",
            Self::Cubic => "cubic",
            Self::Sine => "sine",
            Self::MinimumJerk => "minimum jerk",
            Self::Trapezoid => "trapezoid",
            Self::Flow => "flow",
        }
    }

    /// The way gone at time `u`. A trapezoid has quarter ramps and flow is taken at rest at both ends;
    /// what they do with an acceleration or with neighbours stands in [`trapezoid`] and [`Quintic`].
    pub fn at(self, u: f64) -> f64 {
        let u = u.clamp(0.0, 1.0);
        match self {
            Self::Linear => u,
            Self::Cubic => u * u * (3.0 - 2.0 * u),
            Self::Sine => (1.0 - libm::cos(std::f64::consts::PI * u)) / 2.0,
            Self::MinimumJerk | Self::Flow => u * u * u * (10.0 + u * (6.0 * u - 15.0)),
            Self::Trapezoid => trapezoid(u, PLAIN_TRAPEZOID),
        }
    }

    /// The greatest acceleration of a unit of way in a unit of time; infinite where the speed jumps.
    pub const fn peak_acceleration(self) -> f64 {
        match self {
            Self::Linear => f64::INFINITY,
            Self::Cubic => 6.0,
            Self::Sine => std::f64::consts::PI * std::f64::consts::PI / 2.0,
            // 10/√3, at (1 ∓ 1/√3)/2.
            Self::MinimumJerk | Self::Flow => 5.773_502_691_896_258,
            Self::Trapezoid => PLAIN_TRAPEZOID * 4.0,
        }
    }

    /// Peak over mean speed.
    pub const fn peak(self) -> f64 {
        match self {
            Self::Linear => 1.0,
            Self::Cubic => 1.5,
            Self::Sine => std::f64::consts::FRAC_PI_2,
            Self::MinimumJerk | Self::Flow => 1.875,
            Self::Trapezoid => PLAIN_TRAPEZOID,
        }
    }
}

/// The way gone at `u` in a trapezoid whose peak speed is `peak` times its mean, 1 < peak ≤ 2.
pub fn trapezoid(u: f64, peak: f64) -> f64 {
    let ramp = 1.0 - 1.0 / peak;
    if u < ramp {
        peak * u * u / (2.0 * ramp)
    } else if u > 1.0 - ramp {
        1.0 - peak * (1.0 - u) * (1.0 - u) / (2.0 * ramp)
    } else {
        peak * (u - ramp / 2.0)
    }
}

/// The least time for `distance` at a top speed and an acceleration, in the units of the three.
pub fn trapezoid_time(distance: f64, speed: f64, acceleration: f64) -> f64 {
    if distance >= speed * speed / acceleration {
        distance / speed + speed / acceleration
    } else {
        2.0 * libm::sqrt(distance / acceleration)
    }
}

/// The steady speed that covers `distance` in `time` with a given acceleration; none if that is too little.
pub fn trapezoid_speed(distance: f64, acceleration: f64, time: f64) -> Option<f64> {
    let at = acceleration * time;
    let rest = at * at - 4.0 * acceleration * distance;
    (rest >= 0.0).then(|| (at - libm::sqrt(rest)) / 2.0)
}

/// The quintic from 0 to 1 over one unit of time with given speeds at its ends and no acceleration there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Quintic {
    /// Way at the start and speed there.
    start: (f64, f64),
    /// Coefficients of u³, u⁴, u⁵.
    high: [f64; 3],
}

impl Quintic {
    /// From `a` to `b` over unit time, starting at speed `v0` and ending at `v1` (way a unit of time).
    pub fn new(a: f64, b: f64, v0: f64, v1: f64) -> Self {
        let d = b - a;
        Self {
            start: (a, v0),
            high: [
                10.0 * d - 6.0 * v0 - 4.0 * v1,
                -15.0 * d + 8.0 * v0 + 7.0 * v1,
                6.0 * d - 3.0 * (v0 + v1),
            ],
        }
    }

    /// The way at `u`.
    pub fn at(&self, u: f64) -> f64 {
        let [c, d, e] = self.high;
        self.start.0 + u * (self.start.1 + u * u * (c + u * (d + u * e)))
    }

    /// The speed at `u`.
    pub fn speed(&self, u: f64) -> f64 {
        let [c, d, e] = self.high;
        self.start.1 + u * u * (3.0 * c + u * (4.0 * d + u * 5.0 * e))
    }

    /// The greatest acceleration without its sign, found numerically.
    pub fn peak_acceleration(&self) -> f64 {
        let [c, d, e] = self.high;
        let at = |u: f64| u * (6.0 * c + u * (12.0 * d + u * 20.0 * e));
        (0..=64).map(|i| libm::fabs(at(f64::from(i) / 64.0))).fold(0.0, f64::max)
    }

    /// The greatest speed without its sign, found numerically.
    pub fn peak_speed(&self) -> f64 {
        (0..=64).map(|i| libm::fabs(self.speed(f64::from(i) / 64.0))).fold(0.0, f64::max)
    }
}

/// The speed to pass a pose with, from the mean speeds before and after it: none at a turning point, else
/// at most twice the smaller of the two.
pub fn passing_speed(before: f64, after: f64) -> f64 {
    if before * after <= 0.0 {
        return 0.0;
    }
    let least = libm::fabs(before).min(libm::fabs(after));
    libm::copysign((libm::fabs(before + after) / 2.0).min(2.0 * least), before)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_easing_reaches_both_ends_and_never_turns_back() {
        for easing in Easing::ALL {
            assert!(easing.at(0.0).abs() < 1e-12 && (easing.at(1.0) - 1.0).abs() < 1e-12, "{easing:?}");
            let way: Vec<f64> = (0..=200).map(|i| easing.at(f64::from(i) / 200.0)).collect();
            assert!(way.windows(2).all(|w| w[1] >= w[0] - 1e-12), "{easing:?}");
        }
    }

    #[test]
    fn peaks_are_those_of_the_design() {
        let wanted = [1.0, 1.5, std::f64::consts::FRAC_PI_2, 1.875, 4.0 / 3.0, 1.875];
        for (easing, wanted) in Easing::ALL.into_iter().zip(wanted) {
            assert!((easing.peak() - wanted).abs() < 1e-12);
            let h = 1e-4;
            let steepest = (0..9999)
                .map(|i| (easing.at(f64::from(i + 1) * h) - easing.at(f64::from(i) * h)) / h)
                .fold(0.0, f64::max);
            assert!((steepest - wanted).abs() < 1e-3, "{easing:?} {steepest}");
            let hardest = (1..9999)
                .map(|i| {
                    let at = |n: i32| easing.at(f64::from(n) * h);
                    ((at(i + 1) - 2.0 * at(i) + at(i - 1)) / (h * h)).abs()
                })
                .fold(0.0, f64::max);
            let said = easing.peak_acceleration();
            assert!(said.is_infinite() || (hardest - said).abs() < 2e-2, "{easing:?} {hardest} {said}");
        }
    }

    #[test]
    fn the_trapezoid_examples_hold() {
        assert!((trapezoid_time(90.0, 200.0, 800.0) - 0.7).abs() < 1e-12);
        assert!((trapezoid_time(2.0, 200.0, 800.0) - 0.1).abs() < 1e-12);
        assert!((trapezoid_speed(90.0, 800.0, 0.8).unwrap() - 145.64).abs() < 5e-3);
        assert_eq!(trapezoid_speed(90.0, 800.0, 0.5), None);
    }

    #[test]
    fn the_cubic_example_holds() {
        let at = 30.0 + 90.0 * Easing::Cubic.at(0.25);
        assert!((at - 44.0625).abs() < 1e-12);
        assert!((90.0 / 1.2 * Easing::Cubic.peak() - 112.5).abs() < 1e-12);
    }

    #[test]
    fn passing_is_still_at_a_turn_and_never_over_twice_the_smaller() {
        assert!(passing_speed(10.0, -10.0).abs() < 1e-12);
        assert!((passing_speed(10.0, 100.0) - 20.0).abs() < 1e-12);
        assert!((passing_speed(-10.0, -14.0) + 12.0).abs() < 1e-12);
    }

    proptest! {
        #[test]
        fn a_quintic_meets_its_ends(a in -90.0..90.0f64, b in -90.0..90.0f64, v0 in -99.0..99.0f64, v1 in -99.0..99.0f64) {
            let q = Quintic::new(a, b, v0, v1);
            prop_assert!((q.at(0.0) - a).abs() < 1e-9 && (q.at(1.0) - b).abs() < 1e-9);
            prop_assert!((q.speed(0.0) - v0).abs() < 1e-9 && (q.speed(1.0) - v1).abs() < 1e-9);
            prop_assert!(q.peak_speed() >= v0.abs() - 1e-9);
        }
    }
}
