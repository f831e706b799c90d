//! An exercise: one servo goes to and fro at a speed, or once through a routine, while its maker watches.

use crate::unit::{Position, exactly};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What a servo is put through.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Exercise {
    /// The lower pulse.
    #[serde(serialize_with = "exactly")]
    pub low: Position,
    /// The higher pulse.
    #[serde(serialize_with = "exactly")]
    pub high: Position,
    /// Where a routine begins and ends.
    #[serde(serialize_with = "exactly")]
    pub centre: Position,
    /// How fast, in µs of pulse a second; a routine ends with once over all at a quarter of it.
    pub us_per_s: f64,
    /// How long it stands at each end, in milliseconds.
    pub pause_ms: u32,
    /// How often it goes there and back; none is the routine: centre, one side, the other, then slowly over all.
    pub times: Option<u32>,
}

/// How much slower the end of a routine is.
const SLOWLY: f64 = 0.25;
/// How often a routine goes to a side or to its centre.
const ROUTINE: u32 = 8;

impl Exercise {
    /// Where it goes next, and how fast; none when it is over.
    fn leg(&self, n: u32) -> Option<(Position, f64)> {
        let (low, high, centre, fast, slow) =
            (self.low, self.high, self.centre, self.us_per_s, self.us_per_s * SLOWLY);
        match (self.times, n) {
            (Some(times), n) if n < times.saturating_mul(2) => {
                Some((if n.is_multiple_of(2) { low } else { high }, fast))
            }
            (None, 0 | 2 | 4) => Some((centre, fast)),
            (None, 1) => Some((low, fast)),
            (None, 3) => Some((high, fast)),
            (None, 5) => Some((low, slow)),
            (None, 6) => Some((high, slow)),
            (None, 7) => Some((centre, slow)),
            // Back to where it began.
            (Some(times), n) if n == times.saturating_mul(2) => Some((centre, fast)),
            _ => None,
        }
    }

    /// The legs that are counted, two for each time there and back.
    fn legs(&self) -> u32 {
        self.times.map_or(ROUTINE, |times| times.saturating_mul(2))
    }
}

/// One under way.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Exercising {
    what: Exercise,
    at: Position,
    leg: u32,
    stood: Duration,
}

impl Exercising {
    pub(super) const fn from(at: Position, what: Exercise) -> Self {
        Self { what, at, leg: 0, stood: Duration::ZERO }
    }

    /// What it is put through.
    pub const fn what(&self) -> &Exercise {
        &self.what
    }

    /// Whether nothing is left to do.
    pub fn is_over(&self) -> bool {
        self.what.leg(self.leg).is_none()
    }

    /// How often it was there and back, and how often it is to be; of a routine, the legs.
    pub fn count(&self) -> (u32, u32) {
        let (done, of) = (self.leg.min(self.what.legs()), self.what.legs());
        if self.what.times.is_some() { (done / 2, of / 2) } else { (done, of) }
    }

    /// Goes on by `dt`; gives where the servo is to be, none when it is over.
    pub(super) fn advance(&mut self, dt: Duration) -> Option<Position> {
        let (to, speed) = self.what.leg(self.leg)?;
        let step = speed * dt.as_secs_f64();
        self.at = self.at + (to - self.at).within(Position::new(-step), Position::new(step));
        if self.at == to {
            self.stood += dt;
            if self.stood >= Duration::from_millis(u64::from(self.what.pause_ms)) {
                (self.leg, self.stood) = (self.leg + 1, Duration::ZERO);
            }
        }
        Some(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(times: Option<u32>) -> (Vec<f64>, (u32, u32)) {
        let what = Exercise {
            low: Position::new(1000.0),
            high: Position::new(2000.0),
            centre: Position::new(1500.0),
            us_per_s: 1000.0,
            pause_ms: 100,
            times,
        };
        let mut under_way = Exercising::from(Position::new(1500.0), what);
        let mut turned = vec![1500.0];
        let mut before = (1500.0, 0.0);
        while let Some(at) = under_way.advance(Duration::from_millis(20)) {
            let step = at.get() - before.0;
            assert!(step.abs() <= 20.0 + 1e-9, "never faster than told");
            if step == 0.0 && before.1 != 0.0 {
                turned.push(at.get());
            }
            before = (at.get(), step);
        }
        (turned, under_way.count())
    }

    #[test]
    fn it_goes_there_and_back_as_often_as_told_and_returns() {
        let (turned, count) = run(Some(3));
        assert_eq!(turned, [1500.0, 1000.0, 2000.0, 1000.0, 2000.0, 1000.0, 2000.0, 1500.0]);
        assert_eq!(count, (3, 3));
    }

    #[test]
    fn a_routine_is_centre_side_side_and_slowly_over_all() {
        let (turned, count) = run(None);
        assert_eq!(turned, [1500.0, 1000.0, 1500.0, 2000.0, 1500.0, 1000.0, 2000.0, 1500.0]);
        assert_eq!(count, (8, 8));
    }
}
