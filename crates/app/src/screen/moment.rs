//! A moment of what a servo was told, for a chart of the last seconds.

use wasvolta_core::unit::Position;

/// See the module.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    /// When, in seconds since the engine was started.
    pub at_s: f64,
    /// What it was told, in whole ticks and with its trim taken off; none while it is not engaged.
    pub told: Option<Position>,
    /// Where it said it was.
    pub measured: Option<Position>,
}
