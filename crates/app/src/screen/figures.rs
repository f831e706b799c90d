//! How well the screen does: what drawing costs, written to the log now and then.

use std::time::{Duration, Instant};

/// Time between two lines in the log.
const EVERY: Duration = Duration::from_secs(5);

/// See the module.
pub struct Figures {
    since: Instant,
    draws: Vec<Duration>,
}

impl Figures {
    /// Nothing drawn yet.
    pub fn new() -> Self {
        Self { since: Instant::now(), draws: Vec::new() }
    }

    /// A frame was drawn: view, difference and writing took so long together.
    pub fn drew(&mut self, took: Duration) {
        self.draws.push(took);
        if self.since.elapsed() >= EVERY {
            self.tell();
        }
    }

    /// Writes what has gathered.
    pub fn tell(&mut self) {
        self.draws.sort_unstable();
        let at = |share: usize| self.draws.get(self.draws.len() * share / 100).map_or(0.0, in_ms);
        let worst = self.draws.last().map_or(0.0, in_ms);
        let (draws, over) = (self.draws.len(), self.since.elapsed().as_secs_f64());
        tracing::debug!(
            "{draws} frames in {over:.1} s: half under {:.3} ms, 99 % under {:.3} ms, worst {worst:.3} ms",
            at(50),
            at(99)
        );
        self.draws.clear();
        self.since = Instant::now();
    }
}

fn in_ms(time: &Duration) -> f64 {
    time.as_secs_f64() * 1e3
}
