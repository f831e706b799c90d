//! The rows that can be picked in a view, their names, and how large a step of each is.
//!
//! What a step does stands in `update`; how a row looks stands in the views.

/// Rows of the Inputs view that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InputRow {
    /// Which input.
    Which,
    /// The simulated knob itself.
    Turn,
    /// Raw value at the low end.
    Low,
    /// Raw value at rest.
    Centre,
    /// Raw value at the high end.
    High,
    /// Which way it is pressed, of a switch.
    Pressed,
    /// How long its contacts may bounce.
    Debounce,
    /// Trim.
    Trim,
    /// Deadband.
    Deadband,
    /// Expo.
    Expo,
    /// Smoothing.
    Smoothing,
    /// Rate upwards.
    Rise,
    /// Rate downwards.
    Fall,
    /// The joint's angle at the low end.
    MapLow,
    /// The joint's angle at the high end.
    MapHigh,
    /// What happens when the link is lost.
    Failsafe,
}

/// Rows of the Sequence view that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SequenceRow {
    /// Which sequence.
    Which,
    /// The time one looks at.
    Time,
    /// Which step.
    Step,
    /// Its pose.
    Pose,
    /// Its move time.
    Move,
    /// Its dwell.
    Dwell,
    /// Its easing.
    Easing,
}

impl SequenceRow {
    /// In the order they are drawn.
    pub const ALL: [Self; 7] =
        [Self::Which, Self::Time, Self::Step, Self::Pose, Self::Move, Self::Dwell, Self::Easing];

    /// The name of a row.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Which => "sequence",
            Self::Time => "look at",
            Self::Step => "step",
            Self::Pose => "pose",
            Self::Move => "move",
            Self::Dwell => "dwell",
            Self::Easing => "easing",
        }
    }
}

/// Sizes of a nudge on a servo, from small to large.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Nudge {
    /// Microseconds.
    Us(f64),
    /// One tick.
    Tick,
    /// One degree.
    Degree,
}

/// The nudges, in the order that , and . go through.
pub const NUDGES: [Nudge; 6] =
    [Nudge::Us(1.0), Nudge::Tick, Nudge::Us(5.0), Nudge::Us(10.0), Nudge::Degree, Nudge::Us(50.0)];

impl InputRow {
    /// The name of a row.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Which => "input",
            Self::Turn => "turn it",
            Self::Low => "low end",
            Self::Centre => "rest",
            Self::High => "high end",
            Self::Pressed => "pressed",
            Self::Debounce => "debounce",
            Self::Trim => "trim",
            Self::Deadband => "deadband",
            Self::Expo => "expo",
            Self::Smoothing => "smoothing",
            Self::Rise => "rise",
            Self::Fall => "fall",
            Self::MapLow => "at low end",
            Self::MapHigh => "at high end",
            Self::Failsafe => "when lost",
        }
    }

    /// The size of its step at a nudge, in its own unit.
    pub fn step(self, nudge: usize) -> f64 {
        let sizes = match self {
            Self::Low | Self::Centre | Self::High => RAW,
            Self::Smoothing | Self::Debounce => MILLISECONDS,
            Self::Rise | Self::Fall => RATE,
            Self::MapLow | Self::MapHigh | Self::Failsafe => ANGLE,
            _ => SHARE,
        };
        sizes.get(nudge).copied().unwrap_or(sizes[0])
    }
}

/// Step sizes by nudge, for each kind of value.
const RAW: [f64; 6] = [1.0, 2.0, 5.0, 10.0, 20.0, 50.0];
const SHARE: [f64; 6] = [0.01, 0.01, 0.02, 0.05, 0.1, 0.2];
const MILLISECONDS: [f64; 6] = [5.0, 5.0, 10.0, 20.0, 50.0, 100.0];
const RATE: [f64; 6] = [0.1, 0.1, 0.2, 0.5, 1.0, 2.0];
const ANGLE: [f64; 6] = [0.5, 1.0, 1.0, 2.0, 5.0, 10.0];

const TIMES: [f64; 6] = [0.01, 0.02, 0.05, 0.1, 0.2, 0.5];

/// The step of a time at a nudge, in seconds.
pub fn step_of_time(nudge: usize) -> f64 {
    TIMES.get(nudge).copied().unwrap_or(0.1)
}

/// An index moved within a list; it stops at the ends.
pub fn moved(index: usize, by: isize, length: usize) -> usize {
    index.saturating_add_signed(by).min(length.saturating_sub(1))
}
