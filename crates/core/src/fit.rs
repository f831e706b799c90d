//! From marks to a fit: which angle a pulse gives, and how sure that is.
//!
//! Reads aligned marks only; where a horn stopped or buzzed is not where an angle is. Endpoints and limits
//! are applied by the guard, never here.

use crate::unit::{Degrees, Micros, number};
use thiserror::Error;

/// A straight line between pulse and angle, in a form that computes both ways.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Line {
    /// Degrees a microsecond; negative when longer pulses turn the other way. Never zero.
    gain: f64,
    /// Microseconds a degree: its inverse, for the way back is asked in every beat.
    inverse: f64,
    /// A pulse on the line ...
    pulse: Micros,
    /// ... and the angle there.
    angle: Degrees,
}

impl Line {
    /// The line through one point with a slope of `gain` degrees a microsecond.
    pub const fn through(pulse: Micros, angle: Degrees, gain: f64) -> Self {
        Self { gain, inverse: 1.0 / gain, pulse, angle }
    }

    /// Degrees a microsecond.
    pub const fn gain(&self) -> f64 {
        self.gain
    }

    /// The angle at a pulse.
    pub fn angle_at(&self, pulse: Micros) -> Degrees {
        self.angle + Degrees::new((pulse - self.pulse).get() * self.gain)
    }

    /// The pulse for an angle.
    pub fn pulse_at(&self, angle: Degrees) -> Micros {
        self.pulse + Micros::new((angle - self.angle).get() * self.inverse)
    }
}

/// One aligned observation.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// The pulse that was sent.
    pub pulse: Micros,
    /// The angle the horn stood at.
    pub angle: Degrees,
    /// How far the reading may be off, ±.
    pub error: Degrees,
}

/// What the data sheet claims about the travel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RatedSlope {
    /// Degrees a microsecond; negative when reversed.
    pub gain: f64,
    /// The pulse at the middle of the rated range.
    pub middle: Micros,
}

/// What carries a fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ground {
    /// One mark, and the slope of the data sheet: assumed, not seen.
    Assumed,
    /// Least squares through two or more different pulses.
    Measured,
}

/// A fit with what it was made from and how well it holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Fit {
    /// The line itself.
    pub line: Line,
    /// Whether the slope was seen or taken from the data sheet.
    pub ground: Ground,
    /// The marks, averaged where they share a pulse, ordered by pulse.
    pub points: Vec<Seen>,
    /// Seen − fitted, in the order of `points`.
    pub residuals: Vec<Degrees>,
    /// The standard deviation of the residuals, with two degrees of freedom gone; none below three points.
    pub s: Option<Degrees>,
    mean_pulse: f64,
    spread: f64,
    reading_error: Degrees,
}

/// Why there is no fit.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum NoFit {
    /// Nothing to go by.
    #[error("no mark yet: only pulses, no angles; keep a mark with m")]
    NoMark,
    /// One mark and no data sheet.
    #[error("one mark and no rated travel: keep a second mark at another pulse")]
    OneMark,
    /// The angle does not follow the pulse.
    #[error("the marks turn only {gain_per_100us:.2} °/100 µs: is the horn following?")]
    Flat {
        /// The slope found.
        gain_per_100us: f64,
    },
}

/// The least slope that counts as a servo following, in degrees a microsecond.
const LEAST_GAIN: f64 = 0.01;
/// Pulses closer than this are one pulse.
const SAME_PULSE: Micros = Micros::new(0.5);

impl Fit {
    /// Fits a line through what was seen; with one mark the rated slope is assumed.
    ///
    /// # Errors
    /// When there is too little to go by, or the slope is under 0.01 °/µs.
    pub fn of(seen: &[Seen], rated: Option<RatedSlope>) -> Result<Self, NoFit> {
        let points = averaged(seen);
        match points.as_slice() {
            [] => Err(NoFit::NoMark),
            [only] => {
                let gain = rated.ok_or(NoFit::OneMark)?.gain;
                Ok(Self::from_line(Line::through(only.pulse, only.angle, gain), Ground::Assumed, points))
            }
            several => Ok(Self::from_line(least_squares(several)?, Ground::Measured, points)),
        }
    }

    fn from_line(line: Line, ground: Ground, points: Vec<Seen>) -> Self {
        let residuals: Vec<Degrees> = points.iter().map(|p| p.angle - line.angle_at(p.pulse)).collect();
        let n = number(points.len());
        let mean_pulse = points.iter().map(|p| p.pulse.get()).sum::<f64>() / n;
        let spread = points.iter().map(|p| square(p.pulse.get() - mean_pulse)).sum();
        let squares: f64 = residuals.iter().map(|r| square(r.get())).sum();
        let s = (points.len() > 2).then(|| Degrees::new(libm::sqrt(squares / (n - 2.0))));
        let reading_error =
            points.iter().map(|p| p.error).fold(Degrees::ZERO, |a, b| if b > a { b } else { a });
        Self { line, ground, points, residuals, s, mean_pulse, spread, reading_error }
    }

    /// Half the width of the 95 % band at a pulse, with the reading error as its floor.
    ///
    /// Student's t times s times the root of the leverage 1/n + (p − mean)²/Sxx. Two marks leave nothing to
    /// estimate s from; the reading error stands in for it.
    pub fn band(&self, pulse: Micros) -> Degrees {
        let n = number(self.points.len());
        let leverage = if self.spread > 0.0 {
            1.0 / n + square(pulse.get() - self.mean_pulse) / self.spread
        } else {
            1.0
        };
        let root = libm::sqrt(leverage);
        let scatter =
            self.s.map_or(self.reading_error * root, |s| s * (student_95(self.points.len() - 2) * root));
        if scatter > self.reading_error { scatter } else { self.reading_error }
    }

    /// Whether a pulse lies outside the marks, where the fit is only continued.
    pub fn is_beyond_marks(&self, pulse: Micros) -> bool {
        match (self.points.first(), self.points.last()) {
            (Some(first), Some(last)) => pulse < first.pulse || pulse > last.pulse,
            _ => true,
        }
    }

    /// The largest residual, without its sign.
    pub fn worst(&self) -> Degrees {
        self.residuals.iter().map(|r| r.abs()).fold(Degrees::ZERO, |a, b| if b > a { b } else { a })
    }

    /// The pulse at which the joint stands at zero.
    pub fn zero(&self) -> Micros {
        self.line.pulse_at(Degrees::ZERO)
    }
}

fn square(x: f64) -> f64 {
    x * x
}

fn averaged(seen: &[Seen]) -> Vec<Seen> {
    let mut sorted: Vec<Seen> =
        seen.iter().copied().filter(|m| m.pulse.is_finite() && m.angle.is_finite()).collect();
    sorted.sort_by(|a, b| a.pulse.get().total_cmp(&b.pulse.get()));
    sorted
        .chunk_by(|a, b| b.pulse - a.pulse < SAME_PULSE)
        .map(|group| {
            let share = 1.0 / number(group.len());
            group.iter().fold(
                Seen { pulse: Micros::ZERO, angle: Degrees::ZERO, error: Degrees::ZERO },
                |sum, m| Seen {
                    pulse: sum.pulse + m.pulse * share,
                    angle: sum.angle + m.angle * share,
                    error: sum.error + m.error * share,
                },
            )
        })
        .collect()
}

fn least_squares(points: &[Seen]) -> Result<Line, NoFit> {
    let n = number(points.len());
    let mean_pulse = points.iter().map(|p| p.pulse.get()).sum::<f64>() / n;
    let mean_angle = points.iter().map(|p| p.angle.get()).sum::<f64>() / n;
    let spread: f64 = points.iter().map(|p| square(p.pulse.get() - mean_pulse)).sum();
    let product: f64 =
        points.iter().map(|p| (p.pulse.get() - mean_pulse) * (p.angle.get() - mean_angle)).sum();
    let gain = product / spread;
    if !gain.is_finite() || libm::fabs(gain) < LEAST_GAIN {
        return Err(NoFit::Flat { gain_per_100us: gain * 100.0 });
    }
    Ok(Line::through(Micros::new(mean_pulse), Degrees::new(mean_angle), gain))
}

/// Student's t for a two-sided 95 % interval (the usual table; beyond 30 degrees of freedom 1.96).
fn student_95(freedom: usize) -> f64 {
    const TABLE: [f64; 30] = [
        12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262, 2.228, 2.201, 2.179, 2.160, 2.145,
        2.131, 2.120, 2.110, 2.101, 2.093, 2.086, 2.080, 2.074, 2.069, 2.064, 2.060, 2.056, 2.052, 2.048,
        2.045, 2.042,
    ];
    freedom.checked_sub(1).and_then(|row| TABLE.get(row)).copied().unwrap_or(1.96)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn seen(pairs: &[(f64, f64)]) -> Vec<Seen> {
        pairs
            .iter()
            .map(|&(p, a)| Seen { pulse: Micros::new(p), angle: Degrees::new(a), error: Degrees::new(1.0) })
            .collect()
    }

    const FIVE: [(f64, f64); 5] =
        [(700.0, -78.5), (1100.0, -39.2), (1500.0, 1.1), (1900.0, 40.3), (2300.0, 79.0)];
    const RATED: RatedSlope = RatedSlope { gain: 0.125, middle: Micros::new(1500.0) };

    #[test]
    fn five_marks_give_the_worked_line_and_residuals() {
        let fit = Fit::of(&seen(&FIVE), None).unwrap();
        assert!((fit.line.gain() * 100.0 - 9.8625).abs() < 1e-9);
        assert!((fit.zero().get() - 1494.525).abs() < 5e-4);
        let wanted = [-0.14, -0.29, 0.56, 0.31, -0.44];
        for (residual, wanted) in fit.residuals.iter().zip(wanted) {
            assert!((residual.get() - wanted).abs() < 5e-3, "{residual:?} {wanted}");
        }
        assert_eq!(fit.ground, Ground::Measured);
    }

    #[test]
    fn the_band_widens_outwards_and_never_falls_under_the_reading_error() {
        let fit = Fit::of(&seen(&FIVE), None).unwrap();
        let s = fit.s.unwrap().get();
        let at_end = 3.182 * s * (0.2f64 + 800.0 * 800.0 / 1_600_000.0).sqrt();
        assert!((fit.band(Micros::new(2300.0)).get() - at_end).abs() < 1e-9);
        assert_eq!(fit.band(Micros::new(1500.0)), Degrees::new(1.0));
        assert!(fit.is_beyond_marks(Micros::new(2301.0)) && !fit.is_beyond_marks(Micros::new(2300.0)));
    }

    #[test]
    fn no_mark_is_no_fit_and_one_mark_takes_the_rated_slope() {
        assert_eq!(Fit::of(&[], Some(RATED)), Err(NoFit::NoMark));
        assert_eq!(Fit::of(&seen(&[(1500.0, 4.0)]), None), Err(NoFit::OneMark));
        let fit = Fit::of(&seen(&[(1500.0, 4.0)]), Some(RATED)).unwrap();
        assert_eq!((fit.ground, fit.s), (Ground::Assumed, None));
        assert!((fit.line.angle_at(Micros::new(1600.0)).get() - 16.5).abs() < 1e-9);
    }

    #[test]
    fn two_marks_go_through_both_and_marks_at_one_pulse_are_averaged() {
        let fit = Fit::of(&seen(&[(1000.0, -50.0), (2000.0, 50.0)]), None).unwrap();
        assert_eq!((fit.worst(), fit.s), (Degrees::ZERO, None));
        let fit = Fit::of(&seen(&[(1000.0, -51.0), (1000.0, -49.0), (2000.0, 50.0)]), None).unwrap();
        assert_eq!(fit.points.len(), 2);
        assert!((fit.points[0].angle.get() + 50.0).abs() < 1e-9);
    }

    #[test]
    fn a_horn_that_does_not_follow_is_not_fitted() {
        let flat = Fit::of(&seen(&[(1000.0, 3.0), (2000.0, 4.0)]), None);
        assert!(matches!(flat, Err(NoFit::Flat { .. })), "{flat:?}");
    }

    proptest! {
        #[test]
        fn the_inverse_undoes_the_line(gain in prop_oneof![0.011..0.3f64, -0.3..-0.011f64], p in 300.0..2900.0f64) {
            let line = Line::through(Micros::new(1500.0), Degrees::new(3.0), gain);
            let back = line.pulse_at(line.angle_at(Micros::new(p)));
            prop_assert!((back.get() - p).abs() < 1e-9);
        }

        #[test]
        fn residuals_of_a_least_squares_line_sum_to_nothing(angles in proptest::collection::vec(-3.0..3.0f64, 3..12)) {
            let pairs: Vec<_> = angles.iter().enumerate()
                .map(|(i, noise)| (800.0 + 100.0 * number(i), 10.0 * number(i) + noise)).collect();
            let fit = Fit::of(&seen(&pairs), None).unwrap();
            let sum: f64 = fit.residuals.iter().map(|r| r.get()).sum();
            prop_assert!(sum.abs() < 1e-8);
        }
    }
}
