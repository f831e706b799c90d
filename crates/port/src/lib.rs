//! The ways to hardware: what a transport must do, the real transports, and the drivers that turn setpoints
//! into traffic.
//!
//! Simulated transports live in the `sim` crate and are used through the same traits. Which servo stands at
//! which channel is known above, not here.

pub mod board;
pub mod bridge;
pub mod claim;
pub mod clock;
pub mod expander;
pub mod firmata;
pub mod gpio;
pub mod i2c;
pub mod iio;
pub mod inlet;
#[cfg(target_os = "linux")]
pub mod linux_i2c;
pub mod mqtt;
pub mod pad;
pub mod posted;
pub mod pwm;
pub mod scan;
pub mod serial;
pub mod smart;

pub use board::Driver;
pub use clock::{Clock, WallClock};
pub use i2c::{BusError, Fault, I2cBus, Transfer};
