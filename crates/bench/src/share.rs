//! Percentiles of what was measured.

use std::time::Duration;

/// Times, to be asked for their percentiles.
#[derive(Debug, Default)]
pub struct Times(Vec<Duration>);

impl Times {
    pub fn of(mut times: Vec<Duration>) -> Self {
        times.sort_unstable();
        Self(times)
    }

    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// The time that `per_mille` of them are under, in microseconds.
    pub fn at(&self, per_mille: usize) -> f64 {
        let place = (self.0.len() * per_mille / 1000).min(self.0.len().saturating_sub(1));
        self.0.get(place).map_or(f64::NAN, |t| t.as_secs_f64() * 1e6)
    }
}
