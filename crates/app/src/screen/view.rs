//! What is drawn over a room: help, palette, questions.

pub mod help;
pub mod palette;
pub mod prompt;
pub mod recover;
