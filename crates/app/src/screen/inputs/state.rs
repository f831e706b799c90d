//! What the screen remembers of Inputs.

use super::heard::{Listen, Rests};
use std::collections::VecDeque;
use std::time::Duration;

/// See the module.
#[derive(Debug, Default)]
pub struct State {
    /// The row picked.
    pub row: usize,
    /// Raw and shaped values of the picked input, oldest first: time, place in the span, shaped.
    pub strip: VecDeque<(Duration, f64, f64)>,
    /// What every channel does while nobody is asked to move one.
    pub background: Listen,
    /// Whether sticks still rest where it was learned.
    pub rests: Rests,
    /// Why the way of the picked input's link cannot be opened, and what to try.
    pub link_trouble: Option<String>,
    /// How the keyboard's faders, toggles and buttons stand.
    pub keyboard: [f64; 6],
}
