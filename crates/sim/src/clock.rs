//! A clock that moves only when told to.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use wasvolta_port::Clock;

/// Stands at zero until moved. Waiting moves it on.
#[derive(Debug, Default)]
pub struct ManualClock(AtomicU64);

impl ManualClock {
    /// Moves the time on by so much; nothing waits.
    pub fn advance(&self, time: Duration) {
        let nanos = u64::try_from(time.as_nanos()).unwrap_or(u64::MAX);
        self.0.fetch_add(nanos, Ordering::SeqCst);
    }
}

impl Clock for ManualClock {
    fn now(&self) -> Duration {
        Duration::from_nanos(self.0.load(Ordering::SeqCst))
    }

    fn wait(&self, time: Duration) {
        self.advance(time);
    }
}
