//! What the screen remembers of Sequence.

use super::hold::Drag;

/// The row that is picked at first: that of the step.
pub const STEP: usize = 2;

/// See the module.
#[derive(Debug)]
pub struct State {
    /// The row picked; at first that of the step.
    pub row: usize,
    /// The step picked.
    pub step: usize,
    /// The other end of the steps picked, where more than one are.
    pub anchor: usize,
    /// The time looked at, in seconds.
    pub time: f64,
    /// The pose kept last.
    pub last_pose: Option<String>,
    /// How much is shown, 0–1; all of it at 1.
    pub zoom: f64,
    /// A call shows its own steps.
    pub open: bool,
    /// What the mouse holds.
    pub drag: Option<Drag>,
}

impl State {
    /// The first and the last of the steps picked.
    pub const fn picked(&self) -> (usize, usize) {
        if self.step < self.anchor { (self.step, self.anchor) } else { (self.anchor, self.step) }
    }
}

impl Default for State {
    fn default() -> Self {
        Self { row: STEP, step: 0, anchor: 0, time: 0.0, last_pose: None, zoom: 1.0, open: false, drag: None }
    }
}
