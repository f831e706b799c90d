//! From marks to a fit: which angle a pulse gives, and how sure that is.
//!
//! Reads aligned marks only; where a horn stopped or buzzed is not where an angle is. Endpoints and limits
//! are applied by the guard, never here.

mod odd;

use crate::curve::{Cubic, Curve, Line};
use crate::unit::{Degrees, Micros, Position, number};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use thiserror::Error;

pub use odd::{Odd, odd_one};

/// From which side a pulse came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// From which side it came is not known.
    #[default]
    Unknown,
    /// The pulse was rising.
    Below,
    /// The pulse was falling.
    Above,
}

impl Side {
    /// The word for it: `from below`.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Unknown => "",
            Self::Below => "from below",
            Self::Above => "from above",
        }
    }

    /// How much of half a slack is to be added for it: −1, 0 or 1.
    const fn sign(self) -> f64 {
        match self {
            Self::Unknown => 0.0,
            Self::Below => -1.0,
            Self::Above => 1.0,
        }
    }
}

/// What a servo's marks are joined by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// A straight line, by least squares.
    #[default]
    Line,
    /// A monotone cubic through all of them; a line where there are too few.
    Cubic,
}

/// One aligned observation.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// The pulse that was sent.
    pub pulse: Position,
    /// The angle the horn stood at.
    pub angle: Degrees,
    /// How far the reading may be off, ±.
    pub error: Degrees,
    /// From which side the pulse came.
    pub from: Side,
    /// It was read twice and more, the same: it is not misread.
    pub sure: bool,
}

/// What the data sheet claims about the travel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RatedSlope {
    /// Degrees a microsecond; negative when reversed.
    pub gain: f64,
    /// The pulse at the middle of the rated range.
    pub middle: Position,
}

/// What carries a fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ground {
    /// One mark, and the slope of the data sheet: assumed, not seen.
    Assumed,
    /// Least squares through two or more different pulses.
    Measured,
}

/// How far a horn can be moved while its servo stands, as marks from both sides tell.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Slack {
    /// The mean of |falling − rising| over the pulses that were seen both ways.
    pub mean: Degrees,
    /// From the least of those to the greatest.
    pub spread: (Degrees, Degrees),
    /// At how many pulses.
    pub pulses: usize,
    /// Half the mean of falling − rising, with its sign: what is added when a pulse falls.
    half: Degrees,
}

/// A fit with what it was made from and how well it holds.
#[derive(Debug, Clone, PartialEq)]
pub struct Fit {
    /// What angles and pulses are converted by: between the two sides, where the horn has slack.
    pub curve: Curve,
    /// The straight line through the same points, which says slope and zero.
    pub line: Line,
    /// Whether the slope was seen or taken from the data sheet.
    pub ground: Ground,
    /// The marks, averaged where they share a pulse, ordered by pulse.
    pub points: Vec<Seen>,
    /// Seen − fitted, in the order of `points`.
    pub residuals: Vec<Degrees>,
    /// The standard deviation of the residuals, with two degrees of freedom gone; none below three points.
    pub s: Option<Degrees>,
    /// The slack, where marks tell it.
    pub slack: Option<Slack>,
    mean_pulse: f64,
    spread: f64,
    reading_error: Degrees,
    /// The one of the marks that the others do not agree with.
    odd: Option<Odd>,
}

/// Why there is no fit.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum NoFit {
    /// Nothing to go by.
    NoMark,
    /// One mark and no data sheet.
    OneMark,
    /// The angle does not follow the pulse.
    Flat {
        /// The slope found.
        gain_per_100us: f64,
    },
    /// Two marks contradict each other.
    TurnsBack(TurnsBack),
}

impl NoFit {
    /// The words for it, of places in µs or, as a smart servo's are, in counts.
    pub fn words(&self, unit: &str) -> String {
        let (places, place) = if unit == Micros::UNIT { ("pulses", "pulse") } else { (unit, "place") };
        match self {
            Self::NoMark => format!("no mark yet: only {places}, no angles; keep a mark with ‹mark›"),
            Self::OneMark => format!("one mark and no rated travel: keep a second mark at another {place}"),
            Self::Flat { gain_per_100us } => {
                format!("the marks turn only {gain_per_100us:.2} °/100 {unit}: is the horn following?")
            }
            Self::TurnsBack(TurnsBack { low, high }) => format!(
                "the marks turn back: {:+.1}° at {:.0} {unit} and {:+.1}° at {:.0} {unit}; drop or retake one, or was the \
                 horn moved?",
                low.angle.get(),
                low.pulse.get(),
                high.angle.get(),
                high.pulse.get()
            ),
        }
    }
}

impl std::fmt::Display for NoFit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.words(Micros::UNIT))
    }
}

impl std::error::Error for NoFit {}

/// Two marks between which the horn would turn back, by more than both readings can be off.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
#[error(
    "the marks turn back: {:+.1}° at {:.0} µs and {:+.1}° at {:.0} µs; drop or retake one, or was the horn moved?",
    .low.angle.get(), .low.pulse.get(), .high.angle.get(), .high.pulse.get()
)]
pub struct TurnsBack {
    /// The one at the lower pulse.
    pub low: Seen,
    /// The one at the higher pulse.
    pub high: Seen,
}

/// The least slope that counts as a servo following, in degrees a microsecond.
const LEAST_GAIN: f64 = 0.01;
/// Pulses closer than this are one pulse.
pub const SAME_PULSE: Position = Position::new(0.5);
/// The share of all pulses that an odd mark and the next one must be apart, for another mark between to tell.
const ROOM: f64 = 0.1;
/// Points from which on a cubic says more than a line.
const ENOUGH_TO_BEND: usize = 5;

impl Fit {
    /// Fits what was seen: a line, or a cubic where `shape` says so and there are five points or more. With one mark
    /// the rated slope is assumed.
    ///
    /// # Errors
    /// When there is too little to go by, the slope is under 0.01 °/µs, or two marks contradict each other.
    pub fn of(seen: &[Seen], rated: Option<RatedSlope>, shape: Shape) -> Result<Self, NoFit> {
        let groups = by_pulse(seen);
        let slack = slack(&groups);
        let points: Vec<Seen> = groups.iter().map(|group| averaged(group, slack)).collect();
        match points.as_slice() {
            [] => Err(NoFit::NoMark),
            [only] => {
                let gain = rated.ok_or(NoFit::OneMark)?.gain;
                let line = Line::through(only.pulse, only.angle, gain);
                Ok(Self::through(Curve::Line(line), line, Ground::Assumed, points, slack))
            }
            several => {
                let line = least_squares(several)?;
                if let Some(back) = turns_back(several, line.gain()) {
                    return Err(NoFit::TurnsBack(back));
                }
                let curve = (shape == Shape::Cubic).then(|| cubic(several)).flatten();
                let curve = curve.map_or(Curve::Line(line), |cubic| Curve::Cubic(Arc::new(cubic)));
                let fit = Self::through(curve, line, Ground::Measured, points, slack);
                // A fit that no mark is far off is not searched for one.
                let odd = if fit.misses_one() { odd_one(seen) } else { None };
                let odd = odd.map(|odd| Odd { or_bends: fit.may_bend(&odd), ..odd });
                Ok(Self { odd, ..fit })
            }
        }
    }

    fn through(curve: Curve, line: Line, ground: Ground, points: Vec<Seen>, slack: Option<Slack>) -> Self {
        let residuals: Vec<Degrees> = points.iter().map(|p| p.angle - curve.angle_at(p.pulse)).collect();
        let n = number(points.len());
        let mean_pulse = points.iter().map(|p| p.pulse.get()).sum::<f64>() / n;
        let spread = points.iter().map(|p| square(p.pulse.get() - mean_pulse)).sum();
        let squares: f64 = residuals.iter().map(|r| square(r.get())).sum();
        // A cubic goes through its points: what they scatter cannot be told from how it bends.
        let line_like = matches!(curve, Curve::Line(_)) && points.len() > 2;
        let s = line_like.then(|| Degrees::new(libm::sqrt(squares / (n - 2.0))));
        let reading_error = greatest(points.iter().map(|p| p.error));
        let odd = None;
        Self { curve, line, ground, points, residuals, s, slack, mean_pulse, spread, reading_error, odd }
    }

    /// The mark that the others do not agree with, by its place among those the fit was made from; none where all
    /// agree, and where they bend smoothly.
    pub const fn odd(&self) -> Option<&Odd> {
        self.odd.as_ref()
    }

    /// Half the width of the 95 % band at a pulse, with the reading error as its floor.
    ///
    /// Student's t times s times the root of the [`leverage`]. Two marks, or a cubic, leave nothing
    /// to estimate s from; the reading error stands in for it.
    pub fn band(&self, pulse: Position) -> Degrees {
        let n = number(self.points.len());
        let leverage =
            if self.spread > 0.0 { leverage(n, self.mean_pulse, self.spread, pulse.get()) } else { 1.0 };
        let root = libm::sqrt(leverage);
        let scatter =
            self.s.map_or(self.reading_error * root, |s| s * (student_95(self.points.len() - 2) * root));
        if scatter > self.reading_error { scatter } else { self.reading_error }
    }

    /// Whether a pulse lies outside the marks, where the fit is only continued.
    pub fn is_beyond_marks(&self, pulse: Position) -> bool {
        match (self.points.first(), self.points.last()) {
            (Some(first), Some(last)) => pulse < first.pulse || pulse > last.pulse,
            _ => true,
        }
    }

    /// The largest residual, without its sign.
    pub fn worst(&self) -> Degrees {
        greatest(self.residuals.iter().map(|r| r.abs()))
    }

    /// The pulse at which the servo stands at zero.
    pub fn zero(&self) -> Position {
        self.curve.pulse_at(Degrees::ZERO)
    }

    /// Whether the line misses a mark by more than that may be misread.
    fn misses_one(&self) -> bool {
        self.points.iter().any(|p| (p.angle - self.line.angle_at(p.pulse)).abs() > p.error)
    }

    /// Whether an odd mark may be one of marks that bend smoothly: a mark between it and the next one tells, while there
    /// is room for one.
    fn may_bend(&self, odd: &Odd) -> bool {
        let next = self.next_to(odd).map_or(0.0, |next| (next - odd.seen.pulse).abs().get());
        let all = self.points.first().zip(self.points.last()).map_or(0.0, |(a, b)| (b.pulse - a.pulse).get());
        next > all * ROOM && odd::is_smooth(&self.points)
    }

    /// The pulse of the mark that is nearest to an odd one.
    fn next_to(&self, odd: &Odd) -> Option<Position> {
        let others = self.points.iter().map(|p| p.pulse).filter(|p| (*p - odd.seen.pulse).abs() > SAME_PULSE);
        others.min_by(|a, b| (*a - odd.seen.pulse).abs().get().total_cmp(&(*b - odd.seen.pulse).abs().get()))
    }

    /// The pulse between an odd mark that may be of a bend and the next one, which tells what it is.
    pub fn between_odd_and_next(&self) -> Option<Position> {
        let odd = self.odd.filter(|odd| odd.or_bends)?;
        Some((self.next_to(&odd)? + odd.seen.pulse) * 0.5)
    }

    /// Whether a cubic is worth its while: five points or more, a line misses one by more than it may be misread, they
    /// bend smoothly, and no single one of them explains it.
    pub fn wants_to_bend(&self) -> bool {
        matches!(self.curve, Curve::Line(_))
            && self.misses_one()
            && self.odd.is_none()
            && odd::is_smooth(&self.points)
            && cubic(&self.points).is_some()
    }

    /// Where one more mark would lessen the band at the ends of a stretch of pulses most, and to which share of what it
    /// is now; none where no mark would make it a tenth less, or nothing is known of how marks scatter.
    pub fn mark_that_tells_most(&self, low: Position, high: Position) -> Option<(Position, f64)> {
        self.s?;
        let n = number(self.points.len());
        let freedom = self.points.len() - 2;
        // With another mark at `more`; the scatter is taken to stay what it is.
        let band = |more: Option<f64>| {
            let freedom = freedom + usize::from(more.is_some());
            let (count, mean, spread) = match more {
                None => (n, self.mean_pulse, self.spread),
                Some(p) => {
                    let mean = (self.mean_pulse * n + p) / (n + 1.0);
                    (n + 1.0, mean, self.spread + square(p - self.mean_pulse) * n / (n + 1.0))
                }
            };
            let ends = [low.get(), high.get()].map(|at| leverage(count, mean, spread, at));
            student_95(freedom) * libm::sqrt(libm::fmax(ends[0], ends[1]))
        };
        let now = band(None);
        let share = |pulse: &f64| band(Some(*pulse)) / now;
        let places = (0..=20u32).map(|n| low.get() + (high - low).get() * f64::from(n) / 20.0);
        let best = places.min_by(|a, b| share(a).total_cmp(&share(b)))?;
        (share(&best) < 0.9).then(|| (Position::new(best), share(&best)))
    }

    /// What the angle is when it was reached from one side.
    pub fn from_side(&self, side: Side) -> Curve {
        let off = self.slack.map_or(Degrees::ZERO, |slack| slack.half * side.sign());
        self.curve.shifted(off)
    }

    /// What an observation is off the fit, by the side that it was seen from.
    pub fn off_by(&self, seen: &Seen) -> Degrees {
        let own = self.slack.map_or(Degrees::ZERO, |slack| slack.half * seen.from.sign());
        seen.angle - own - self.curve.angle_at(seen.pulse)
    }
}

fn square(x: f64) -> f64 {
    x * x
}

/// How much a place is borne by the marks of a line: 1/n + (p − mean)²/Sxx, with pulses in µs and Sxx, their spread, in
/// µs². Textbook least squares.
fn leverage(count: f64, mean: f64, spread: f64, at: f64) -> f64 {
    1.0 / count + square(at - mean) / spread
}

fn greatest(values: impl Iterator<Item = Degrees>) -> Degrees {
    values.fold(Degrees::ZERO, |a, b| if b > a { b } else { a })
}

fn cubic(points: &[Seen]) -> Option<Cubic> {
    let knots: Vec<(Position, Degrees)> = points.iter().map(|p| (p.pulse, p.angle)).collect();
    (knots.len() >= ENOUGH_TO_BEND).then(|| Cubic::through(&knots)).flatten()
}

/// What was seen, by pulse, with what shares a pulse together.
fn by_pulse(seen: &[Seen]) -> Vec<Vec<Seen>> {
    let mut sorted: Vec<Seen> =
        seen.iter().copied().filter(|m| m.pulse.is_finite() && m.angle.is_finite()).collect();
    sorted.sort_by(|a, b| a.pulse.get().total_cmp(&b.pulse.get()));
    sorted.chunk_by(|a, b| b.pulse - a.pulse < SAME_PULSE).map(<[Seen]>::to_vec).collect()
}

/// The mean of the angles seen from one side.
fn mean_from(group: &[Seen], side: Side) -> Option<f64> {
    let angles: Vec<f64> = group.iter().filter(|m| m.from == side).map(|m| m.angle.get()).collect();
    (!angles.is_empty()).then(|| angles.iter().sum::<f64>() / number(angles.len()))
}

fn slack(groups: &[Vec<Seen>]) -> Option<Slack> {
    let both = |group: &Vec<Seen>| Some(mean_from(group, Side::Above)? - mean_from(group, Side::Below)?);
    let differences: Vec<f64> = groups.iter().filter_map(both).collect();
    let n = number(differences.len());
    let sizes = || differences.iter().map(|d| libm::fabs(*d));
    (!differences.is_empty()).then(|| Slack {
        mean: Degrees::new(sizes().sum::<f64>() / n),
        spread: (
            Degrees::new(sizes().fold(f64::INFINITY, libm::fmin)),
            Degrees::new(sizes().fold(0.0, libm::fmax)),
        ),
        pulses: differences.len(),
        half: Degrees::new(differences.iter().sum::<f64>() / n / 2.0),
    })
}

/// The point that a group of marks at one pulse makes: the middle between its two sides. What was seen from one side
/// only is brought to the middle by half the slack, where that is known.
fn averaged(group: &[Seen], slack: Option<Slack>) -> Seen {
    let share = 1.0 / number(group.len());
    let mean = |value: fn(&Seen) -> f64| group.iter().map(value).sum::<f64>() * share;
    let half = slack.map_or(0.0, |slack| slack.half.get());
    let middle = match (mean_from(group, Side::Below), mean_from(group, Side::Above)) {
        (Some(below), Some(above)) => f64::midpoint(below, above),
        _ => mean(|m| m.angle.get()) - half * mean(|m| m.from.sign()),
    };
    Seen {
        pulse: Position::new(mean(|m| m.pulse.get())),
        angle: Degrees::new(middle),
        error: Degrees::new(mean(|m| m.error.get())),
        from: Side::Unknown,
        sure: group.iter().any(|m| m.sure),
    }
}

/// The two points that turn back most, by more than both may be misread together.
fn turns_back(points: &[Seen], gain: f64) -> Option<TurnsBack> {
    let sense = if gain < 0.0 { -1.0 } else { 1.0 };
    let too_far = |low: &Seen, high: &Seen| ((low.angle - high.angle) * sense - low.error - high.error).get();
    let pairs =
        points.iter().enumerate().flat_map(|(n, low)| points[n + 1..].iter().map(move |high| (low, high)));
    let worst = pairs.max_by(|a, b| too_far(a.0, a.1).total_cmp(&too_far(b.0, b.1)))?;
    // The last bit of a sum is no contradiction.
    (too_far(worst.0, worst.1) > 1e-9).then_some(TurnsBack { low: *worst.0, high: *worst.1 })
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
    Ok(Line::through(Position::new(mean_pulse), Degrees::new(mean_angle), gain))
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
            .map(|&(p, a)| Seen {
                pulse: Position::new(p),
                angle: Degrees::new(a),
                error: Degrees::new(1.0),
                from: Side::Unknown,
                sure: false,
            })
            .collect()
    }

    const FIVE: [(f64, f64); 5] =
        [(700.0, -78.5), (1100.0, -39.2), (1500.0, 1.1), (1900.0, 40.3), (2300.0, 79.0)];
    const RATED: RatedSlope = RatedSlope { gain: 0.125, middle: Position::new(1500.0) };

    #[test]
    fn the_mark_that_would_lessen_the_band_most_lies_outside_what_was_seen() {
        let three =
            Fit::of(&seen(&[(1400.0, -9.0), (1500.0, 1.0), (1600.0, 10.5)]), None, Shape::Line).unwrap();
        let (low, high) = (Position::new(1300.0), Position::new(2200.0));
        let (pulse, share) = three.mark_that_tells_most(low, high).unwrap();
        assert_eq!(pulse, Position::new(2200.0));
        // With it there are two degrees of freedom in the place of one, and a wider base.
        assert!((0.05..0.2).contains(&share), "{share}");
        let mut more = [(1400.0, -9.0), (1500.0, 1.0), (1600.0, 10.5)].to_vec();
        more.push((2200.0, 70.5));
        let four = Fit::of(&seen(&more), None, Shape::Line).unwrap();
        assert!(four.mark_that_tells_most(low, high).is_none_or(|(_, next)| next > share));
        let two = Fit::of(&seen(&[(1400.0, -9.0), (1500.0, 1.0)]), None, Shape::Line).unwrap();
        assert_eq!(two.mark_that_tells_most(low, high), None);
    }

    #[test]
    fn five_marks_give_the_worked_line_and_residuals() {
        let fit = Fit::of(&seen(&FIVE), None, Shape::Line).unwrap();
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
        let fit = Fit::of(&seen(&FIVE), None, Shape::Line).unwrap();
        let s = fit.s.unwrap().get();
        let at_end = 3.182 * s * (0.2f64 + 800.0 * 800.0 / 1_600_000.0).sqrt();
        assert!((fit.band(Position::new(2300.0)).get() - at_end).abs() < 1e-9);
        assert_eq!(fit.band(Position::new(1500.0)), Degrees::new(1.0));
        assert!(fit.is_beyond_marks(Position::new(2301.0)) && !fit.is_beyond_marks(Position::new(2300.0)));
    }

    #[test]
    fn no_mark_is_no_fit_and_one_mark_takes_the_rated_slope() {
        assert_eq!(Fit::of(&[], Some(RATED), Shape::Line), Err(NoFit::NoMark));
        assert_eq!(Fit::of(&seen(&[(1500.0, 4.0)]), None, Shape::Line), Err(NoFit::OneMark));
        let fit = Fit::of(&seen(&[(1500.0, 4.0)]), Some(RATED), Shape::Line).unwrap();
        assert_eq!((fit.ground, fit.s), (Ground::Assumed, None));
        assert!((fit.line.angle_at(Position::new(1600.0)).get() - 16.5).abs() < 1e-9);
    }

    #[test]
    fn two_marks_go_through_both_and_marks_at_one_pulse_are_averaged() {
        let fit = Fit::of(&seen(&[(1000.0, -50.0), (2000.0, 50.0)]), None, Shape::Line).unwrap();
        assert_eq!((fit.worst(), fit.s), (Degrees::ZERO, None));
        let fit =
            Fit::of(&seen(&[(1000.0, -51.0), (1000.0, -49.0), (2000.0, 50.0)]), None, Shape::Line).unwrap();
        assert_eq!(fit.points.len(), 2);
        assert!((fit.points[0].angle.get() + 50.0).abs() < 1e-9);
    }

    #[test]
    fn a_horn_that_does_not_follow_is_not_fitted() {
        let flat = Fit::of(&seen(&[(1000.0, 3.0), (2000.0, 4.0)]), None, Shape::Line);
        assert!(matches!(flat, Err(NoFit::Flat { .. })), "{flat:?}");
    }

    fn both_ways(pairs: &[(f64, f64, f64)]) -> Vec<Seen> {
        let one = |p: f64, a: f64, from| Seen {
            pulse: Position::new(p),
            angle: Degrees::new(a),
            error: Degrees::new(1.0),
            from,
            sure: false,
        };
        pairs.iter().flat_map(|&(p, up, down)| [one(p, up, Side::Below), one(p, down, Side::Above)]).collect()
    }

    #[test]
    fn slack_is_the_mean_difference_of_the_two_sides_and_the_fit_the_middle() {
        let seen = both_ways(&[(1000.0, -51.0, -49.5), (1500.0, -0.5, 0.5), (2000.0, 49.0, 50.5)]);
        let fit = Fit::of(&seen, None, Shape::Line).unwrap();
        let slack = fit.slack.unwrap();
        assert!((slack.mean.get() - 4.0 / 3.0).abs() < 1e-9);
        assert_eq!((slack.spread, slack.pulses), ((Degrees::new(1.0), Degrees::new(1.5)), 3));
        assert!((fit.points[0].angle.get() + 50.25).abs() < 1e-9);
        let at = Position::new(1500.0);
        let (below, above) = (fit.from_side(Side::Below), fit.from_side(Side::Above));
        assert!(((above.angle_at(at) - below.angle_at(at)).get() - 4.0 / 3.0).abs() < 1e-9);
        assert_eq!(fit.from_side(Side::Unknown), fit.curve);
    }

    #[test]
    fn a_mark_from_one_side_is_brought_to_the_middle_by_half_the_slack() {
        let mut marks = both_ways(&[(1500.0, -1.0, 1.0)]);
        let one_sided = Seen { pulse: Position::new(2000.0), angle: Degrees::new(49.0), ..marks[0] };
        marks.push(one_sided);
        let fit = Fit::of(&marks, None, Shape::Line).unwrap();
        assert!((fit.points[1].angle.get() - 50.0).abs() < 1e-9);
        assert!(fit.off_by(&one_sided).abs().get() < 1e-9);
    }

    #[test]
    fn marks_that_turn_back_by_more_than_both_errors_are_named() {
        let turned = seen(&[(1000.0, -50.0), (1200.0, -30.0), (1250.0, -33.0), (2000.0, 50.0)]);
        let Err(NoFit::TurnsBack(back)) = Fit::of(&turned, None, Shape::Line) else { panic!() };
        assert_eq!((back.low.pulse.get(), back.high.pulse.get()), (1200.0, 1250.0));
        assert!(back.to_string().starts_with("the marks turn back: -30.0° at 1200 µs and -33.0° at 1250 µs"));
        let counts = NoFit::TurnsBack(back).words("counts");
        assert!(counts.contains("-30.0° at 1200 counts"), "{counts}");
        assert_eq!(
            NoFit::NoMark.words("counts"),
            "no mark yet: only counts, no angles; keep a mark with ‹mark›"
        );
        let misread = seen(&[(1000.0, -50.0), (1200.0, -30.0), (1250.0, -32.0), (2000.0, 50.0)]);
        assert!(Fit::of(&misread, None, Shape::Line).is_ok(), "as much as both may be misread");
    }

    #[test]
    fn a_cubic_is_offered_where_a_line_misses_and_taken_when_told() {
        let bent = seen(&[(700.0, -80.0), (1100.0, -36.0), (1500.0, 1.0), (1900.0, 38.0), (2300.0, 80.0)]);
        let line = Fit::of(&bent, None, Shape::Line).unwrap();
        assert!(line.wants_to_bend());
        let cubic = Fit::of(&bent, None, Shape::Cubic).unwrap();
        assert!(!cubic.wants_to_bend() && cubic.worst() < Degrees::new(1e-9) && cubic.s.is_none());
        assert!((cubic.curve.angle_at(Position::new(1100.0)).get() + 36.0).abs() < 1e-9);
        assert!(!Fit::of(&seen(&FIVE), None, Shape::Line).unwrap().wants_to_bend());
        assert!(matches!(Fit::of(&bent[..4], None, Shape::Cubic).unwrap().curve, Curve::Line(_)), "too few");
    }

    proptest! {
        #[test]
        fn any_marks_that_are_accepted_give_a_curve_that_only_rises_or_only_falls(
            angles in proptest::collection::vec(-90.0..90.0f64, 2..9), cubic: bool,
        ) {
            let pairs: Vec<_> = angles.iter().enumerate().map(|(n, a)| (700.0 + 200.0 * number(n), *a)).collect();
            let shape = if cubic { Shape::Cubic } else { Shape::Line };
            if let Ok(fit) = Fit::of(&seen(&pairs), None, shape) {
                let at = |n: usize| fit.curve.angle_at(Position::new(500.0 + 10.0 * number(n))).get() * fit.line.gain().signum();
                prop_assert!((1..200).all(|n| at(n) >= at(n - 1)));
            }
        }

        #[test]
        fn the_inverse_undoes_the_line(gain in prop_oneof![0.011..0.3f64, -0.3..-0.011f64], p in 300.0..2900.0f64) {
            let line = Line::through(Position::new(1500.0), Degrees::new(3.0), gain);
            let back = line.pulse_at(line.angle_at(Position::new(p)));
            prop_assert!((back.get() - p).abs() < 1e-9);
        }

        #[test]
        fn residuals_of_a_least_squares_line_sum_to_nothing(angles in proptest::collection::vec(-3.0..3.0f64, 3..12)) {
            let pairs: Vec<_> = angles.iter().enumerate()
                .map(|(i, noise)| (800.0 + 100.0 * number(i), 10.0 * number(i) + noise)).collect();
            let fit = Fit::of(&seen(&pairs), None, Shape::Line).unwrap();
            let sum: f64 = fit.residuals.iter().map(|r| r.get()).sum();
            prop_assert!(sum.abs() < 1e-8);
        }
    }
}
