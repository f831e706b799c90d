//! A sequence as it runs: a line of time with what moves on it, and between that waits, loops and jumps.
//!
//! Pure: where a joint is follows from a place on the line and from how often the loops around it have been played, asked
//! in any order. Calls are laid out in line. What a program knows of a joint begins at its home; where it has none, at the
//! first angle that is asked of it. How it gets there, limits, and who drives a joint are the stage's.

mod at;
mod compile;
mod lasts;
mod program;
mod short;
mod track;

pub use at::At;
pub use compile::{Library, Mover, size};
pub use lasts::Lasts;
pub(crate) use lasts::Onward;
pub use program::{Counts, FlatStep, Jump, LOOPS, Op, OpKind, Program, Rounds, StepTime, Waited};
pub use short::Short;
pub use track::{Eased, Left, Segment, Shape, Track};

use crate::unit::DegreesPerSecond;

/// A speed to plan with where nothing is known of a servo.
pub const UNRATED_SPEED: DegreesPerSecond = DegreesPerSecond::new(100.0);
/// The most steps that a sequence may come to with all that it plays.
pub const MOST_STEPS: usize = 100_000;
/// How deep sequences may play others.
pub const MOST_CALLS: usize = 8;

/// A time that is needed, to a hundredth of a second upwards: rounded down it would still be short.
pub fn rounded_up(seconds: f64) -> f64 {
    libm::ceil(seconds * 100.0) / 100.0
}
