//! Time as the drivers and the engine see it: from an arbitrary start, only forward.

use std::time::{Duration, Instant};

/// Tells the time and waits. A virtual clock waits by moving on.
pub trait Clock: Send + Sync {
    /// Time since the clock's start.
    fn now(&self) -> Duration;
    /// Lets some time pass.
    fn wait(&self, time: Duration);
}

/// The machine's monotonic clock.
#[derive(Debug, Clone)]
pub struct WallClock(Instant);

impl Default for WallClock {
    fn default() -> Self {
        Self(Instant::now())
    }
}

impl Clock for WallClock {
    fn now(&self) -> Duration {
        self.0.elapsed()
    }

    fn wait(&self, time: Duration) {
        std::thread::sleep(time);
    }
}
