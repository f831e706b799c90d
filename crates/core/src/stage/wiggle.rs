//! The wiggle: one servo moves a little around where it is, so that a maker sees which one it is.

use crate::unit::Position;
use std::time::Duration;

/// One to and fro.
const PERIOD: Duration = Duration::from_secs(1);
const TIMES: u32 = 3;

/// A wiggle under way.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Wiggle {
    middle: Position,
    /// How far to either side; the guard holds it inside endpoints and limits.
    reach: Position,
    gone: Duration,
}

impl Wiggle {
    pub(super) const fn around(middle: Position, reach: Position) -> Self {
        Self { middle, reach, gone: Duration::ZERO }
    }

    /// Goes on by `dt`; gives where the servo is to be, which is the middle again at the end.
    pub(super) fn advance(&mut self, dt: Duration) -> Position {
        self.gone += dt;
        if self.gone >= PERIOD * TIMES {
            return self.middle;
        }
        let turns = self.gone.as_secs_f64() / PERIOD.as_secs_f64();
        self.middle + self.reach * libm::sin(2.0 * std::f64::consts::PI * turns)
    }

    /// Whether it has ended and the servo stands as before; or cannot, for a limit was tightened past that.
    pub(super) fn is_over(&self, pulse: Position) -> bool {
        let ended = self.gone >= PERIOD * TIMES;
        ended && (pulse == self.middle || self.gone >= PERIOD * (TIMES + 1))
    }
}
