//! What the screen remembers of Inputs.

use super::handles::Drag;
use super::heard::{Listen, Rests};
use crate::screen::pick::Pick;
use std::collections::VecDeque;
use wasvolta_core::rig::MappingId;
pub use wasvolta_engine::snapshot::Sample;

/// See the module.
#[derive(Debug, Default)]
pub struct State {
    /// The row picked.
    pub row: usize,
    /// The mapping that is looked at, where it is one of the picked input; else its first is.
    pub mapping: Pick<MappingId>,
    /// The point picked of that mapping's course.
    pub point: usize,
    /// The point picked of the input's own curve.
    pub bend: usize,
    /// The handle that the mouse holds.
    pub drag: Option<Drag>,
    /// The picked input in each of the last beats, oldest first.
    pub strip: VecDeque<Sample>,
    /// How many beats of it were taken in.
    pub traced: u64,
    /// What every channel does while nobody is asked to move one.
    pub background: Listen,
    /// Whether sticks still rest where it was learned.
    pub rests: Rests,
    /// Why the way of the picked input's link cannot be opened, and what to try.
    pub link_trouble: Option<String>,
    /// How the keyboard's faders, toggles and buttons stand.
    pub keyboard: [f64; 6],
}
