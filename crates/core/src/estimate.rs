//! Where a servo is, as far as can be known without looking: the estimate.
//!
//! Works in places, for a servo without a fit has no angles. A servo that answers is measured.

use crate::unit::{Position, held};
use std::time::Duration;

/// How a position is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Known {
    /// Never engaged, or released under load.
    #[default]
    Unknown,
    /// Told by the maker or left there earlier; not followed since.
    Assumed,
    /// A follower at rated speed behind what was sent.
    Modelled,
    /// It has said so itself a moment ago.
    Measured,
}

/// What a servo said of where it is counts for so long; then it is followed from there.
const FRESH: Duration = Duration::from_millis(250);

impl Known {
    /// The word on the screen.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::Assumed => "assumed",
            Self::Modelled => "modelled",
            Self::Measured => "measured",
        }
    }
}

/// A position with how it is known and since when.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Estimate {
    /// The pulse whose place the horn is at.
    pub pulse: Position,
    /// How that is known.
    pub known: Known,
    /// When it was last true.
    pub at: Duration,
}

impl Estimate {
    /// A position the maker gave, or that was left behind at `at`.
    pub const fn assumed(pulse: Position, at: Duration) -> Self {
        Self { pulse, known: Known::Assumed, at }
    }

    /// Where a servo has said that it is, and when.
    pub const fn measured(pulse: Position, at: Duration) -> Self {
        Self { pulse, known: Known::Measured, at }
    }

    /// Follows what was sent at `rate` µs of travel a second for `dt` seconds. An assumed place is modelled once
    /// the horn has had the time to arrive from anywhere.
    #[inline]
    pub fn follow(&mut self, sent: Position, rate: f64, now: Duration, dt: f64) {
        if self.known == Known::Measured {
            if now.saturating_sub(self.at) < FRESH {
                return;
            }
            self.known = Known::Assumed;
        }
        let step = rate * dt;
        self.pulse = self.pulse + Position::new(held((sent - self.pulse).get(), -step, step));
        if self.pulse == sent {
            self.known = Known::Modelled;
        }
        self.at = now;
    }

    /// The pulses stopped: the horn stays where it is, unless a load moves it.
    pub const fn release(&mut self, loaded: bool) {
        self.known =
            if loaded || matches!(self.known, Known::Unknown) { Known::Unknown } else { Known::Assumed };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_servo_at_its_rated_speed_gets_only_so_far() {
        // 0.15 s/60° is 400 °/s; 110° need 0.275 s, and 0.20 s get 80° of it. Here 10 µs stand for a degree.
        let mut at = Estimate::assumed(Position::new(1000.0), Duration::ZERO);
        let beat = Duration::from_millis(20);
        for n in 1..=10 {
            at.follow(Position::new(2100.0), 4000.0, beat * n, 0.02);
        }
        assert!((at.pulse.get() - 1800.0).abs() < 1e-6);
        assert_eq!(at.known, Known::Assumed);
        for n in 11..=14 {
            at.follow(Position::new(2100.0), 4000.0, beat * n, 0.02);
        }
        assert_eq!((at.pulse, at.known), (Position::new(2100.0), Known::Modelled));
    }

    #[test]
    fn what_it_says_itself_counts_for_a_moment_and_is_then_followed() {
        let said = |ms| Duration::from_millis(ms);
        let mut at = Estimate::measured(Position::new(500.0), said(1000));
        at.follow(Position::new(600.0), 1000.0, said(1100), 0.02);
        assert_eq!(at, Estimate::measured(Position::new(500.0), said(1000)));
        at.follow(Position::new(600.0), 1000.0, said(1260), 0.02);
        assert_eq!((at.pulse, at.known), (Position::new(520.0), Known::Assumed));
    }

    #[test]
    fn release_leaves_it_assumed_unless_a_load_pulls_it_away() {
        let mut free = Estimate::assumed(Position::new(1500.0), Duration::ZERO);
        free.release(false);
        assert_eq!(free.known, Known::Assumed);
        free.release(true);
        assert_eq!(free.known, Known::Unknown);
        free.release(false);
        assert_eq!(free.known, Known::Unknown, "what was unknown stays unknown");
    }
}
