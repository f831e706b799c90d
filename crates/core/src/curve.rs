//! Curves from pulse to angle that can be gone both ways: a straight line, or a monotone cubic through knots.
//!
//! Which of them a servo has, and from which marks, is [`crate::fit`]'s.

use crate::unit::{Degrees, Position};
use std::sync::Arc;

/// A straight line between pulse and angle, in a form that computes both ways.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Line {
    /// Degrees a microsecond; negative when longer pulses turn the other way. Never zero.
    gain: f64,
    /// Microseconds a degree: its inverse, for the way back is asked in every beat.
    inverse: f64,
    /// A pulse on the line ...
    pulse: Position,
    /// ... and the angle there.
    angle: Degrees,
}

impl Line {
    /// The line through one point with a slope of `gain` degrees a microsecond.
    pub const fn through(pulse: Position, angle: Degrees, gain: f64) -> Self {
        Self { gain, inverse: 1.0 / gain, pulse, angle }
    }

    /// Degrees a microsecond.
    pub const fn gain(&self) -> f64 {
        self.gain
    }

    /// The same line with its angles multiplied and then shifted: what a gear turns.
    #[must_use]
    pub fn geared(&self, ratio: f64, offset: Degrees) -> Self {
        Self::through(self.pulse, self.angle * ratio + offset, self.gain * ratio)
    }

    /// The angle at a pulse.
    pub fn angle_at(&self, pulse: Position) -> Degrees {
        self.angle + Degrees::new((pulse - self.pulse).get() * self.gain)
    }

    /// The pulse for an angle.
    pub fn pulse_at(&self, angle: Degrees) -> Position {
        self.pulse + Position::new((angle - self.angle).get() * self.inverse)
    }
}

/// A curve from pulse to angle that only rises or only falls, so that each angle has its pulse.
#[derive(Debug, Clone, PartialEq)]
pub enum Curve {
    /// A straight line.
    Line(Line),
    /// A cubic between knots, straight beyond them.
    Cubic(Arc<Cubic>),
}

impl Curve {
    /// The pulses between which it bends by one polynomial each, or is straight.
    pub(crate) fn pieces(&self) -> impl Iterator<Item = Position> + '_ {
        let knots = match self {
            Self::Line(_) => &[],
            Self::Cubic(cubic) => cubic.knots.as_slice(),
        };
        knots.iter().map(|knot| Position::new(knot.pulse))
    }

    /// The angle at a pulse.
    pub fn angle_at(&self, pulse: Position) -> Degrees {
        match self {
            Self::Line(line) => line.angle_at(pulse),
            Self::Cubic(cubic) => cubic.angle_at(pulse),
        }
    }

    /// The pulse for an angle.
    pub fn pulse_at(&self, angle: Degrees) -> Position {
        match self {
            Self::Line(line) => line.pulse_at(angle),
            Self::Cubic(cubic) => cubic.pulse_at(angle),
        }
    }

    /// Degrees a microsecond at a pulse.
    pub fn slope_at(&self, pulse: Position) -> f64 {
        match self {
            Self::Line(line) => line.gain(),
            Self::Cubic(cubic) => cubic.slope_at(pulse),
        }
    }

    /// The same curve with every angle shifted.
    #[must_use]
    pub fn shifted(&self, by: Degrees) -> Self {
        match self {
            Self::Line(line) => Self::Line(line.geared(1.0, by)),
            Self::Cubic(cubic) => Self::Cubic(Arc::new(cubic.shifted(by))),
        }
    }
}

/// A point that a cubic goes through.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Knot {
    pulse: f64,
    angle: f64,
    /// Degrees a microsecond here.
    slope: f64,
}

/// A monotone cubic through strictly monotone points (Fritsch and Butland's weighted harmonic mean for the inner
/// slopes), straight by its end slopes beyond them.
#[derive(Debug, Clone, PartialEq)]
pub struct Cubic {
    /// Three or more, by pulse.
    knots: Vec<Knot>,
    falls: bool,
}

/// A third to three times the end chord is what an end slope may be.
const END_SLOPES: (f64, f64) = (1.0 / 3.0, 3.0);

impl Cubic {
    /// Through points in the order of their pulses; none unless there are three or more and their angles only rise or
    /// only fall.
    pub fn through(points: &[(Position, Degrees)]) -> Option<Self> {
        let points: Vec<(f64, f64)> = points.iter().map(|(p, a)| (p.get(), a.get())).collect();
        let chords: Vec<(f64, f64)> =
            points.windows(2).map(|w| (w[1].0 - w[0].0, (w[1].1 - w[0].1) / (w[1].0 - w[0].0))).collect();
        let falls = chords.first()?.1 < 0.0;
        let strict = chords.iter().all(|&(step, slope)| step > 0.0 && slope != 0.0 && (slope < 0.0) == falls);
        if !strict || chords.len() < 2 || points.iter().any(|(p, a)| !p.is_finite() || !a.is_finite()) {
            return None;
        }
        let last = chords.len() - 1;
        let slope = |n: usize| match n {
            0 => end_slope(chords[0], chords[1]),
            n if n > last => end_slope(chords[last], chords[last - 1]),
            n => harmonic(chords[n - 1], chords[n]),
        };
        let knots = points
            .iter()
            .enumerate()
            .map(|(n, &(pulse, angle))| Knot { pulse, angle, slope: slope(n) })
            .collect();
        Some(Self { knots, falls })
    }

    /// The knots with a pulse in or beyond the first and last.
    fn ends(&self) -> (Knot, Knot) {
        let nothing = Knot { pulse: 0.0, angle: 0.0, slope: 1.0 };
        (self.knots.first().copied().unwrap_or(nothing), self.knots.last().copied().unwrap_or(nothing))
    }

    /// The angle at a pulse.
    pub fn angle_at(&self, pulse: Position) -> Degrees {
        let p = pulse.get();
        Degrees::new(match self.piece(|knot| knot.pulse <= p) {
            Piece::Beyond(knot) => knot.angle + (p - knot.pulse) * knot.slope,
            Piece::Between(a, b) => between(a, b, p),
        })
    }

    /// Degrees a microsecond at a pulse.
    pub fn slope_at(&self, pulse: Position) -> f64 {
        let p = pulse.get();
        match self.piece(|knot| knot.pulse <= p) {
            Piece::Beyond(knot) => knot.slope,
            Piece::Between(a, b) => slope_between(a, b, p),
        }
    }

    /// The steepest between two pulses, in degrees a microsecond, without its sign.
    pub fn steepest(&self, low: Position, high: Position) -> f64 {
        const LOOKS: u32 = 64;
        let pulse = |n: u32| low + (high - low) * (f64::from(n) / f64::from(LOOKS));
        (0..=LOOKS).map(|n| libm::fabs(self.slope_at(pulse(n)))).fold(0.0, libm::fmax)
    }

    /// The pulse for an angle, by bisection that Newton's steps shorten.
    pub fn pulse_at(&self, angle: Degrees) -> Position {
        let wanted = angle.get();
        let passed = |knot: &Knot| if self.falls { knot.angle >= wanted } else { knot.angle <= wanted };
        Position::new(match self.piece(passed) {
            Piece::Beyond(knot) => knot.pulse + (wanted - knot.angle) / knot.slope,
            Piece::Between(a, b) => {
                let rest = |p: f64| (between(a, b, p) - wanted) * if self.falls { -1.0 } else { 1.0 };
                let slope = |p: f64| libm::fabs(slope_between(a, b, p));
                root((a.pulse, b.pulse), rest, slope)
            }
        })
    }

    fn shifted(&self, by: Degrees) -> Self {
        let knots = self.knots.iter().map(|knot| Knot { angle: knot.angle + by.get(), ..*knot }).collect();
        Self { knots, falls: self.falls }
    }

    /// The piece behind the last knot that is passed.
    fn piece(&self, passed: impl Fn(&Knot) -> bool) -> Piece {
        let n = self.knots.partition_point(passed);
        match (n.checked_sub(1).and_then(|before| self.knots.get(before)), self.knots.get(n)) {
            (Some(a), Some(b)) => Piece::Between(*a, *b),
            (None, _) => Piece::Beyond(self.ends().0),
            (_, None) => Piece::Beyond(self.ends().1),
        }
    }
}

enum Piece {
    Between(Knot, Knot),
    Beyond(Knot),
}

/// The cubic between two knots by their values and slopes (Hermite's form).
fn between(a: Knot, b: Knot, pulse: f64) -> f64 {
    let wide = b.pulse - a.pulse;
    let u = (pulse - a.pulse) / wide;
    let (rest, uu) = (1.0 - u, u * u);
    // From the nearer knot, so that the value there is exact.
    let bend = u * rest * (rest * a.slope - u * b.slope) * wide;
    a.angle + (b.angle - a.angle) * uu * (3.0 - 2.0 * u) + bend
}

fn slope_between(a: Knot, b: Knot, pulse: f64) -> f64 {
    let wide = b.pulse - a.pulse;
    let u = (pulse - a.pulse) / wide;
    let rest = 1.0 - u;
    (b.angle - a.angle) / wide * 6.0 * u * rest
        + a.slope * rest * (1.0 - 3.0 * u)
        + b.slope * u * (3.0 * u - 2.0)
}

/// Where a rising `rest` is nothing between two places; `slope` is its rise, without sign.
pub(crate) fn root(
    (mut low, mut high): (f64, f64),
    rest: impl Fn(f64) -> f64,
    slope: impl Fn(f64) -> f64,
) -> f64 {
    const ENOUGH: usize = 80;
    let mut at = f64::midpoint(low, high);
    for _ in 0..ENOUGH {
        let off = rest(at);
        if off == 0.0 {
            break;
        }
        if off > 0.0 {
            high = at;
        } else {
            low = at;
        }
        let newton = at - off / slope(at);
        let next = if newton > low && newton < high { newton } else { f64::midpoint(low, high) };
        #[expect(clippy::float_cmp, reason = "no nearer place exists")]
        if next == at {
            break;
        }
        at = next;
    }
    at
}

fn harmonic((before, left): (f64, f64), (after, right): (f64, f64)) -> f64 {
    let (w1, w2) = (2.0 * after + before, after + 2.0 * before);
    (w1 + w2) / (w1 / left + w2 / right)
}

/// The three-point slope at an end, kept near the end chord so that the cubic stays monotone.
fn end_slope((near, chord): (f64, f64), (far, next): (f64, f64)) -> f64 {
    let three_point = ((2.0 * near + far) * chord - near * next) / (near + far);
    chord * crate::unit::held(three_point / chord, END_SLOPES.0, END_SLOPES.1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn cubic(points: &[(f64, f64)]) -> Option<Cubic> {
        let points: Vec<_> = points.iter().map(|&(p, a)| (Position::new(p), Degrees::new(a))).collect();
        Cubic::through(&points)
    }

    #[test]
    fn it_goes_through_its_knots_and_straight_on_beyond_them() {
        let points = [(700.0, -80.0), (1100.0, -38.0), (1500.0, 1.0), (1900.0, 42.0), (2300.0, 79.0)];
        let curve = cubic(&points).unwrap();
        for (pulse, angle) in points {
            assert!((curve.angle_at(Position::new(pulse)).get() - angle).abs() < 1e-9);
        }
        let beyond = |p: f64| curve.angle_at(Position::new(p)).get();
        let slope = curve.slope_at(Position::new(2300.0));
        assert!((beyond(2400.0) - 79.0 - 100.0 * slope).abs() < 1e-9);
        assert!((beyond(2500.0) - beyond(2400.0) - (beyond(2400.0) - beyond(2300.0))).abs() < 1e-9);
    }

    #[test]
    fn points_that_turn_back_have_no_cubic() {
        assert!(cubic(&[(700.0, 1.0), (900.0, 3.0), (1100.0, 2.0)]).is_none());
        assert!(cubic(&[(700.0, 1.0), (900.0, 1.0), (1100.0, 2.0)]).is_none());
        assert!(cubic(&[(700.0, 1.0), (900.0, 2.0)]).is_none());
    }

    #[test]
    fn points_on_a_line_give_that_line() {
        let curve = cubic(&[(700.0, -80.0), (1000.0, -50.0), (1700.0, 20.0), (2300.0, 80.0)]).unwrap();
        for p in [500.0, 800.0, 1234.5, 2000.0, 2600.0] {
            assert!((curve.angle_at(Position::new(p)).get() - (p - 1500.0) * 0.1).abs() < 1e-9);
        }
    }

    proptest! {
        #[test]
        fn it_is_monotone_and_its_inverse_undoes_it(
            steps in proptest::collection::vec((20.0..500.0f64, 0.2..80.0f64), 2..8), falls: bool, at in 0.0..1.0f64,
        ) {
            let sense = if falls { -1.0 } else { 1.0 };
            let mut points = vec![(500.0, -90.0 * sense)];
            for (p, a) in steps {
                let last = points[points.len() - 1];
                points.push((last.0 + p, last.1 + a * sense));
            }
            let curve = cubic(&points).unwrap();
            let (first, last) = (points[0], points[points.len() - 1]);
            let mean = ((last.1 - first.1) / (last.0 - first.0)).abs();
            let mut before = f64::NEG_INFINITY;
            for n in 0..=400 {
                let p = first.0 - 100.0 + (last.0 - first.0 + 200.0) * f64::from(n) / 400.0;
                let angle = curve.angle_at(Position::new(p)).get() * sense;
                prop_assert!(angle >= before, "{p}");
                before = angle;
            }
            let p = first.0 + (last.0 - first.0) * at;
            if curve.slope_at(Position::new(p)).abs() > 0.05 * mean {
                let back = curve.pulse_at(curve.angle_at(Position::new(p)));
                prop_assert!((back.get() - p).abs() < 1e-9, "{back:?} {p}");
            }
        }
    }
}
