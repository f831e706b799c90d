//! What the screen remembers of Inputs.

use std::collections::VecDeque;
use std::time::Duration;

/// See the module.
#[derive(Debug, Default)]
pub struct State {
    /// The row picked.
    pub row: usize,
    /// Raw and shaped values of the picked input, oldest first: time, place in the span, shaped.
    pub strip: VecDeque<(Duration, f64, f64)>,
    /// Why the way of the picked input's link cannot be opened, and what to try.
    pub link_trouble: Option<String>,
}
