//! The last looks at how far a smart servo lags behind what it is told.

use std::collections::VecDeque;
use std::time::Duration;
use wasvolta_core::rig::ServoId;

/// Looks that are kept: the width of a wide screen.
const KEPT: usize = 240;
/// The last looks at one servo.
#[derive(Debug, Default)]
pub struct Behind {
    of: Option<ServoId>,
    /// When the last one was taken: a frame in which no time has passed tells nothing new.
    at: Duration,
    degrees: VecDeque<f64>,
    none: VecDeque<f64>,
}

impl Behind {
    /// Takes one more look; of another servo than before it begins anew.
    pub fn look(&mut self, at: Duration, of: ServoId, degrees: f64) {
        if self.of != Some(of) {
            (self.of, self.degrees) = (Some(of), VecDeque::with_capacity(KEPT));
        } else if at == self.at {
            return;
        }
        self.at = at;
        if self.degrees.len() == KEPT {
            self.degrees.pop_front();
        }
        self.degrees.push_back(degrees);
    }

    /// The looks at a servo, the newest last, in degrees; none where the last ones were at another.
    pub fn of_servo(&self, servo: ServoId) -> &VecDeque<f64> {
        if self.of == Some(servo) { &self.degrees } else { &self.none }
    }
}
