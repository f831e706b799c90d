//! What the screen remembers of Sequence.

/// The row that is picked at first: that of the step.
pub const STEP: usize = 2;

/// See the module.
#[derive(Debug)]
pub struct State {
    /// The row picked; at first that of the step.
    pub row: usize,
    /// The step picked.
    pub step: usize,
    /// The time looked at, in seconds.
    pub time: f64,
    /// The pose kept last.
    pub last_pose: Option<String>,
}

impl Default for State {
    fn default() -> Self {
        Self { row: STEP, step: 0, time: 0.0, last_pose: None }
    }
}
