//! Places on a program's line of time.

use crate::unit::{nanoseconds, number64};
use std::ops::{Add, Sub};
use std::time::Duration;

/// Whole nanoseconds from a program's start, so that a round of a loop takes the same time each time, to the bit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct At(u64);

impl At {
    /// The beginning of the sequence.
    pub const ZERO: Self = Self(0);

    /// So many seconds from the start; less than none, and what is no number, is the start.
    pub fn seconds_in(seconds: f64) -> Self {
        Self(nanoseconds(seconds * 1e9))
    }

    /// That time from the start.
    pub fn of(time: Duration) -> Self {
        Self(u64::try_from(time.as_nanos()).unwrap_or(u64::MAX))
    }

    /// The seconds from the start.
    #[inline]
    pub fn seconds(self) -> f64 {
        number64(self.0) / 1e9
    }

    /// The time from the start.
    pub const fn duration(self) -> Duration {
        Duration::from_nanos(self.0)
    }

    /// The next place: what happens at no time of its own takes a nanosecond, so that before and after it differ.
    #[must_use]
    pub const fn next(self) -> Self {
        Self(self.0.saturating_add(1))
    }

    /// How far it is between two others, 0–1; the second one must be behind the first.
    #[inline]
    pub fn share(self, from: Self, to: Self) -> f64 {
        number64(self.0.saturating_sub(from.0)) / number64(to.0.saturating_sub(from.0))
    }
}

impl Add for At {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl Sub for At {
    type Output = Self;

    /// No less than nothing.
    fn sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seconds_become_whole_nanoseconds_and_come_back() {
        for seconds in [0.0, 0.02, 1.25, 86_400.0] {
            assert!((At::seconds_in(seconds).seconds() - seconds).abs() < 1e-12);
        }
        assert_eq!((At::seconds_in(-1.0), At::seconds_in(f64::NAN)), (At::ZERO, At::ZERO));
        assert_eq!(At::seconds_in(0.1 + 0.2), At::seconds_in(0.3), "to the nearest");
        assert_eq!(At::ZERO - At::of(Duration::from_secs(1)), At::ZERO);
        assert!(At::ZERO < At::ZERO.next());
    }
}
