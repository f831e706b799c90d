//! Simulated boards, servos and senders that speak the real protocols, with a truth that stays hidden.
//!
//! Transports come out through port's traits and real ptys; what a person on the bench would see comes out
//! through the [`Eye`]. Nothing in the program may look further.

pub mod bench;
pub mod chip;
pub mod clock;
pub mod faults;
pub mod firmata;
pub mod gpio;
pub mod iio;
pub mod journal;
pub mod pad;
pub mod plugged;
pub mod practice;
pub mod pty;
pub mod pwm;
pub mod sender;
pub mod serve;
pub mod servo;
pub mod smart;
pub mod stand_in;
pub mod timed;
pub mod truth;

pub use bench::{Bench, Eye, Logged, SimBus};
pub use clock::ManualClock;
pub use firmata::FirmataBoard;
pub use gpio::SimChip;
pub use iio::SimSensor;
pub use pad::SimPad;
pub use plugged::{Look, Sight};
pub use sender::{Mood, Sender};
pub use smart::SmartBus;
pub use stand_in::StandIn;
pub use timed::TimedBus;
pub use truth::Truth;
