//! The real binary in a real terminal: keys in, screen out. Everything waits for what it wants to see.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod calibrate;
mod ending;
mod face;
mod harness;
mod inputs;
mod recovery;
mod sequences;
mod smart;
mod start;
mod tutorial;
mod wiring;
mod work;
