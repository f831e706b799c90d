//! Codecs: bytes to values and back. No port, no clock, no thread is owned here.
//!
//! A decoder takes bytes in any split, never panics, never grows, and finds its way back after rubbish.

pub mod bridge;
pub mod crsf;
pub mod decode;
pub mod expander;
pub mod firmata;
pub mod ibus;
pub mod lines;
pub mod midi;
pub mod mqtt;
pub mod osc;
pub mod sbus;
pub mod smart;
