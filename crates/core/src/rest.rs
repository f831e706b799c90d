//! A rest that has moved: what a stick returns to is no longer what was learned, because the trim on its transmitter was
//! moved, or because it wears.
//!
//! A stick that is held off its rest is no new rest. It counts when the stick was let go at the same new place twice, with
//! a movement between.

use std::time::Duration;

/// What was learned of a stick, in raw units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Learned {
    /// Where it rested.
    pub centre: f64,
    /// From its rest to the nearer of its ends.
    pub side: f64,
    /// Three standard deviations of its noise at rest.
    pub deadband: f64,
}

/// It is let go when it does not move for so long.
const REST: Duration = Duration::from_millis(400);
/// A rest is told from so many values.
const SEEN: u32 = 5;
/// In standard deviations: what noise spans while nobody moves it, and how far a rest must have shifted.
const NOISE: f64 = 6.0;
const SHIFT: f64 = 5.0;
/// As a share of its side: what a trim can do, and what is a movement.
const TRIM: f64 = 0.35;
const MOVEMENT: f64 = 0.25;

/// Where a stick rests, as it is used.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Resting {
    stretch: Option<Stretch>,
    /// Where it was let go last, off its learned rest.
    last: Option<f64>,
    /// It has moved since.
    has_moved: bool,
    moved: Option<f64>,
}

/// Values that are all at one place.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Stretch {
    began: Duration,
    count: u32,
    mean: f64,
    least: f64,
    greatest: f64,
}

impl Resting {
    /// Where it rests now, where that is no longer what was learned.
    pub const fn moved(&self) -> Option<f64> {
        self.moved
    }

    /// Takes a raw value that came at a time; times only go forward.
    pub fn push(&mut self, at: Duration, value: f64, learned: &Learned) {
        let sigma = learned.deadband / 3.0;
        if !value.is_finite() || sigma <= 0.0 {
            return;
        }
        if self.last.is_some_and(|last| libm::fabs(value - last) > learned.side * MOVEMENT) {
            self.has_moved = true;
        }
        let with = |stretch: Stretch| Stretch {
            count: stretch.count + 1,
            mean: stretch.mean + (value - stretch.mean) / f64::from(stretch.count + 1),
            least: libm::fmin(stretch.least, value),
            greatest: libm::fmax(stretch.greatest, value),
            ..stretch
        };
        let longer =
            self.stretch.map(with).filter(|stretch| stretch.greatest - stretch.least <= sigma * NOISE);
        let stretch =
            longer.unwrap_or(Stretch { began: at, count: 1, mean: value, least: value, greatest: value });
        self.stretch = Some(stretch);
        if at.saturating_sub(stretch.began) >= REST && stretch.count >= SEEN {
            self.rested(stretch.mean, learned, sigma);
        }
    }

    fn rested(&mut self, place: f64, learned: &Learned, sigma: f64) {
        let off = libm::fabs(place - learned.centre);
        if off <= sigma * SHIFT {
            *self = Self { stretch: self.stretch, ..Self::default() };
        } else if off <= learned.side * TRIM {
            let again = self.last.is_some_and(|last| libm::fabs(place - last) <= sigma * NOISE / 2.0);
            if again && self.has_moved {
                self.moved = Some(place);
            }
            (self.last, self.has_moved) = (Some(place), again && self.has_moved);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LEARNED: Learned = Learned { centre: 1512.0, side: 456.0, deadband: 3.0 };

    /// What is said of a stick whose place every 20 ms follows from the time in seconds, with a noise of ±1.
    fn after(seconds: f64, learned: &Learned, at: impl Fn(f64) -> f64) -> Option<f64> {
        let mut resting = Resting::default();
        for n in (0u32..).take_while(|n| f64::from(*n) * 0.02 < seconds) {
            let t = f64::from(n) * 0.02;
            let noise = f64::from((n * 7919) % 3) - 1.0;
            resting.push(Duration::from_secs_f64(t), at(t) + noise, learned);
        }
        resting.moved()
    }

    /// At a rest, with a movement to one end from second 1 to 2 and from 3 to 4.
    fn used(t: f64, rest: f64) -> f64 {
        let moves = (1.0..2.0).contains(&t) || (3.0..4.0).contains(&t);
        rest + if moves { 400.0 * libm::sin(t.fract() * std::f64::consts::PI) } else { 0.0 }
    }

    #[test]
    fn a_stick_that_is_let_go_at_another_place_twice_has_another_rest() {
        let found = after(5.0, &LEARNED, |t| used(t, 1512.0 + 40.0)).unwrap();
        assert!((found - 1552.0).abs() < 1.0, "{found}");
        let once = after(2.9, &LEARNED, |t| if t < 1.0 { 1512.0 } else { used(t, 1552.0) });
        assert_eq!(once, None, "once may be a hand");
    }

    #[test]
    fn five_standard_deviations_are_the_edge() {
        assert_eq!(after(5.0, &LEARNED, |t| used(t, 1512.0 + 4.8)), None);
        assert!(after(5.0, &LEARNED, |t| used(t, 1512.0 + 5.5)).is_some());
    }

    #[test]
    fn a_stick_that_is_held_is_no_new_rest_nor_is_one_far_out() {
        assert_eq!(after(9.0, &LEARNED, |t| if t < 1.0 { 1512.0 } else { 1580.0 }), None);
        assert_eq!(after(5.0, &LEARNED, |t| used(t, 1512.0 + 170.0)), None, "no trim goes so far");
    }

    #[test]
    fn back_at_its_rest_it_is_well_again() {
        let at = |t: f64| if t < 5.0 { used(t, 1552.0) } else { 1512.0 };
        assert!(after(4.9, &LEARNED, at).is_some());
        assert_eq!(after(6.0, &LEARNED, at), None);
    }

    #[test]
    fn without_a_known_noise_nothing_is_said() {
        let unknown = Learned { deadband: 0.0, ..LEARNED };
        assert_eq!(after(5.0, &unknown, |t| used(t, 1552.0)), None);
    }
}
