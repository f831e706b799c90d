//! Whether one mark is odd: misread, or taken at another tooth of the spline. And whether marks bend smoothly, which no
//! single one of them explains.
//!
//! Each mark is left out in turn; the others' line says what it should be. It is odd where the others agree far better
//! among themselves than with it.

use super::{SAME_PULSE, Seen, by_pulse, least_squares, slack};
use crate::curve::Line;
use crate::unit::{Degrees, Position, number};

/// A mark that the others do not agree with.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Odd {
    /// Its place among those that were seen.
    pub place: usize,
    /// What it says.
    pub seen: Seen,
    /// What the others say of its pulse.
    pub expected: Degrees,
    /// A smooth bend would explain it as well: a mark between it and the next one tells.
    pub or_bends: bool,
}

/// So many marks tell which of them is odd: four others make a line and agree with it, or do not.
const ENOUGH: usize = 5;
/// How far off it must be, in its own reading error: what is nearer may be a bend, and costs little.
const FAR: f64 = 3.0;
/// The square of how far off it must be, in what the others scatter (Student's t of 3).
const FAR_OFF_OTHERS: f64 = 9.0;
/// So many are left out in turn.
const TRIED: usize = 6;
/// Leaving it out must take so much of the squares with it.
const SHARE: f64 = 1.0 / 3.0;

/// The one that is odd, if one is.
pub fn odd_one(seen: &[Seen]) -> Option<Odd> {
    if seen.len() < ENOUGH {
        return None;
    }
    if let Some(odd) = odd_side(seen) {
        return Some(odd);
    }
    let all = Straight::through(seen)?;
    let without = |place: usize| -> Option<(f64, Odd)> {
        let others: Vec<Seen> =
            seen.iter().enumerate().filter(|(n, _)| *n != place).map(|(_, s)| *s).collect();
        let (rest, own) = (Straight::through(&others)?, seen.get(place)?);
        Some((rest.squares, Odd { place, seen: *own, expected: rest.says(own), or_bends: false }))
    };
    // The odd one is among those that the line through all misses most: of a thousand marks a few are tried.
    let mut farthest: Vec<usize> = (0..seen.len()).collect();
    let missed = |place: &usize| seen.get(*place).map_or(0.0, |s| all.misses(s).abs());
    farthest.sort_by(|a, b| missed(b).total_cmp(&missed(a)));
    // What was read twice is not misread.
    let tried = farthest.into_iter().filter(|n| seen.get(*n).is_some_and(|s| !s.sure)).take(TRIED);
    let (rest, odd) = tried.filter_map(without).min_by(|a, b| a.0.total_cmp(&b.0))?;
    let all = all.squares;
    // What the others scatter; never less than half of what a reading may be off.
    let least = odd.seen.error.get() * odd.seen.error.get() / 4.0;
    let scatter = libm::fmax(rest / number(seen.len() - 3), least);
    let off = (odd.seen.angle - odd.expected).abs();
    let far = off > odd.seen.error * FAR && all - rest > FAR_OFF_OTHERS * scatter;
    (far && rest <= all * SHARE).then_some(odd)
}

/// One of two marks at one pulse from both sides, where nothing else was seen both ways and they tell more slack than a
/// servo has: the one that is farther from the line of the others.
fn odd_side(seen: &[Seen]) -> Option<Odd> {
    let slack = slack(&by_pulse(seen)).filter(|slack| slack.pulses == 1)?;
    let twin_of = |a: &Seen| {
        let is_twin =
            |b: &&Seen| (b.pulse - a.pulse).abs() < SAME_PULSE && b.from.sign() * a.from.sign() < 0.0;
        seen.iter().find(is_twin).copied()
    };
    let others: Vec<Seen> = seen.iter().filter(|s| twin_of(s).is_none()).copied().collect();
    let rest = Straight::through(&others)?;
    let pair = seen.iter().enumerate().filter_map(|(place, own)| Some((place, *own, twin_of(own)?)));
    let (place, own, twin) = pair
        .filter(|(_, own, _)| !own.sure)
        .max_by(|a, b| rest.misses(&a.1).abs().total_cmp(&rest.misses(&b.1).abs()))?;
    let unlikely = slack.mean > own.error + twin.error + MUCH_SLACK;
    unlikely.then_some(Odd { place, seen: own, expected: twin.angle, or_bends: false })
}

/// Slack beyond this is more often a misreading.
const MUCH_SLACK: Degrees = Degrees::new(2.0);

/// The line through single marks, each by the side that it was seen from.
struct Straight {
    line: Line,
    half: Degrees,
    /// The sum of the squares of what it misses.
    squares: f64,
}

impl Straight {
    fn through(seen: &[Seen]) -> Option<Self> {
        let half = slack(&by_pulse(seen)).map_or(Degrees::ZERO, |slack| slack.half);
        let middle = |mark: &Seen| Seen { angle: mark.angle - half * mark.from.sign(), ..*mark };
        let middles: Vec<Seen> = seen.iter().map(middle).collect();
        let straight = Self { line: least_squares(&middles).ok()?, half, squares: 0.0 };
        let squares = seen.iter().map(|mark| straight.misses(mark)).map(|off| off * off).sum();
        Some(Self { squares, ..straight })
    }

    /// What it says of a mark's pulse, reached from the mark's side.
    fn says(&self, mark: &Seen) -> Degrees {
        self.line.angle_at(mark.pulse) + self.half * mark.from.sign()
    }

    fn misses(&self, mark: &Seen) -> f64 {
        (mark.angle - self.says(mark)).get()
    }
}

/// Whether points lie on a smooth bend: a cubic of least squares misses none by more than it may be misread. Of five
/// points it can take nearly everything in, but one that is odd at an end: that was looked for before.
pub(super) fn is_smooth(points: &[Seen]) -> bool {
    let Some(bend) = polynomial(points, 3) else { return false };
    points.iter().all(|p| (p.angle.get() - bend(p.pulse)).abs() <= p.error.get() * 1.25)
}

/// The polynomial of least squares, over pulses brought to −1 to 1.
fn polynomial(points: &[Seen], degree: usize) -> Option<impl Fn(Position) -> f64> {
    let (first, last) = (points.first()?.pulse.get(), points.last()?.pulse.get());
    let at = move |pulse: Position| 2.0 * (pulse.get() - first) / (last - first) - 1.0;
    let size = degree + 1;
    // The normal equations, a row an unknown, the right side behind.
    let mut rows = vec![vec![0.0; size + 1]; size];
    for point in points {
        let powers: Vec<f64> = powers(at(point.pulse)).take(2 * size).collect();
        for (n, row) in rows.iter_mut().enumerate() {
            for (m, value) in row.iter_mut().enumerate() {
                *value += if m == size { powers[n] * point.angle.get() } else { powers[n + m] };
            }
        }
    }
    let factors = solved(rows)?;
    Some(move |pulse| powers(at(pulse)).zip(&factors).map(|(power, factor)| power * factor).sum())
}

fn powers(x: f64) -> impl Iterator<Item = f64> {
    std::iter::successors(Some(1.0), move |power| Some(power * x))
}

/// Solves equations by elimination, the largest factor first.
fn solved(mut rows: Vec<Vec<f64>>) -> Option<Vec<f64>> {
    let size = rows.len();
    for n in 0..size {
        let pivot = (n..size).max_by(|&a, &b| rows[a][n].abs().total_cmp(&rows[b][n].abs()))?;
        rows.swap(n, pivot);
        if rows[n][n].abs() < 1e-9 {
            return None;
        }
        for m in 0..size {
            if m != n {
                let factor = rows[m][n] / rows[n][n];
                for column in n..=size {
                    rows[m][column] -= factor * rows[n][column];
                }
            }
        }
    }
    Some((0..size).map(|n| rows[n][size] / rows[n][n]).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fit::{Fit, Shape, Side};
    use proptest::prelude::*;

    fn marks(pairs: &[(f64, f64)]) -> Vec<Seen> {
        let mark = |&(pulse, angle): &(f64, f64)| Seen {
            pulse: Position::new(pulse),
            angle: Degrees::new(angle),
            error: Degrees::new(1.0),
            from: Side::Below,
            sure: false,
        };
        pairs.iter().map(mark).collect()
    }

    #[test]
    fn the_one_that_was_misread_is_named_and_nothing_is_bent_to_it() {
        // The zero of the others is at 1500 µs: −10° at 1498 µs is misread, +5° at 1503 µs is too.
        let seen = marks(&[
            (1100.0, -40.0),
            (1300.0, -20.0),
            (1498.0, -10.0),
            (1503.0, 0.3),
            (1700.0, 20.0),
            (1900.0, 40.0),
        ]);
        let odd = odd_one(&seen).unwrap();
        assert_eq!(odd.place, 2);
        assert!((odd.expected.get() + 0.2).abs() < 0.2, "{odd:?}");
        let fit = Fit::of(&seen, None, Shape::Line).unwrap();
        assert!(!fit.wants_to_bend());
        let both = marks(&[
            (1100.0, -40.0),
            (1300.0, -20.0),
            (1498.0, -10.0),
            (1503.0, 5.0),
            (1700.0, 20.0),
            (1900.0, 40.0),
        ]);
        assert_eq!(odd_one(&both).unwrap().place, 2, "the worse of two comes first");
        let mended = marks(&[
            (1100.0, -40.0),
            (1300.0, -20.0),
            (1498.0, 0.0),
            (1503.0, 5.0),
            (1700.0, 20.0),
            (1900.0, 40.0),
        ]);
        assert_eq!(odd_one(&mended).unwrap().place, 3, "then the other");
    }

    #[test]
    fn what_was_read_twice_is_not_blamed() {
        let mut seen =
            marks(&[(1100.0, -40.0), (1300.0, -20.0), (1500.0, 9.0), (1700.0, 20.0), (1900.0, 40.0)]);
        assert_eq!(odd_one(&seen).map(|odd| odd.place), Some(2));
        seen[2].sure = true;
        assert_eq!(odd_one(&seen), None);
    }

    #[test]
    fn an_outermost_mark_may_be_misread_or_the_end_of_a_bend_and_one_between_tells() {
        let bent = |p: f64| (p, (p - 1500.0) * 0.1 + 1.0 * ((p - 1500.0) / 250.0).powi(2));
        let at = |pulses: &[f64]| pulses.iter().map(|p| bent(*p)).collect::<Vec<_>>();
        let fit = |pairs: &[(f64, f64)]| Fit::of(&marks(pairs), None, Shape::Line).unwrap();
        let five = at(&[1000.0, 1250.0, 1500.0, 1750.0, 2000.0]);
        let odd = fit(&five).odd().copied();
        assert!(odd.is_none_or(|odd| odd.or_bends), "{odd:?}");
        let six = at(&[1000.0, 1250.0, 1500.0, 1750.0, 1875.0, 2000.0]);
        assert!(fit(&six).odd().is_none() && fit(&six).wants_to_bend());
        let straight = |p: f64| (p, (p - 1500.0) * 0.1);
        let mut misread: Vec<(f64, f64)> = [1000.0, 1250.0, 1500.0, 1750.0, 2000.0].map(straight).to_vec();
        misread[4].1 += 6.0;
        assert!(fit(&misread).odd().unwrap().or_bends);
        assert_eq!(fit(&misread).between_odd_and_next(), Some(Position::new(1875.0)));
        let mirrored: Vec<(f64, f64)> = misread.iter().rev().map(|(p, a)| (3000.0 - p, -a)).collect();
        assert_eq!(fit(&mirrored).between_odd_and_next(), Some(Position::new(1125.0)));
        misread.insert(4, straight(1875.0));
        let told = fit(&misread).odd().copied().unwrap();
        assert_eq!(fit(&misread).between_odd_and_next(), None);
        assert!(told.place == 5 && !told.or_bends && !fit(&misread).wants_to_bend(), "{told:?}");
    }

    #[test]
    fn few_marks_and_marks_that_agree_have_no_odd_one() {
        assert_eq!(odd_one(&marks(&[(1000.0, -50.0), (1500.0, 8.0), (2000.0, 50.0)])), None);
        assert_eq!(
            odd_one(&marks(&[
                (700.0, -78.5),
                (1100.0, -39.2),
                (1500.0, 1.1),
                (1900.0, 40.3),
                (2300.0, 79.0)
            ])),
            None
        );
    }

    #[test]
    fn a_smooth_bend_is_no_misreading() {
        let bent = |p: f64, depth: f64| (p, (p - 1500.0) * 0.1 + depth * ((p - 1500.0) / 400.0).powi(2));
        for depth in [1.5, 4.0, 7.0] {
            let seen =
                marks(&[1100.0, 1200.0, 1300.0, 1500.0, 1700.0, 1800.0, 1900.0].map(|p| bent(p, depth)));
            assert_eq!(odd_one(&seen), None, "{depth}");
            let fit = Fit::of(&seen, None, Shape::Line).unwrap();
            assert!(is_smooth(&fit.points) && fit.wants_to_bend() == (depth > 2.0), "{depth}");
        }
    }

    proptest! {
        /// A maker reads to ±1°, and one mark wrong by 5 to 15°: it is found wherever it is, and nobody else is blamed.
        #[test]
        fn a_misread_mark_is_found_and_no_other(
            place in 0..7usize, off in 5.0..15.0f64, up: bool, gain in 0.07..0.13f64,
            noise in proptest::collection::vec(-0.7..0.7f64, 7),
        ) {
            let pulses = [1000.0, 1125.0, 1250.0, 1500.0, 1625.0, 1750.0, 2000.0];
            let pairs: Vec<(f64, f64)> =
                pulses.iter().zip(&noise).map(|(p, noise)| (*p, (p - 1500.0) * gain + noise)).collect();
            prop_assert_eq!(odd_one(&marks(&pairs)), None);
            let mut wrong = pairs.clone();
            wrong[place].1 += if up { off } else { -off };
            prop_assert_eq!(odd_one(&marks(&wrong)).map(|odd| odd.place), Some(place));
        }
    }
}
