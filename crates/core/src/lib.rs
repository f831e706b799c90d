//! Every calculation of Wasvolta and the rig document they work on.
//!
//! Nothing here reads a clock, opens a file or starts a thread: time and bytes come in as values.
//! What moves bytes and keeps time lives in the crates above.

pub mod alike;
pub mod bent;
pub mod clock;
pub mod curve;
pub mod diagnose;
pub mod easing;
pub mod estimate;
pub mod faders;
pub mod fineness;
pub mod fit;
pub mod guard;
pub mod inflow;
pub mod link;
pub mod linkage;
pub mod outside;
pub mod power;
pub mod preset;
pub mod range;
pub mod rate;
pub mod rest;
pub mod review;
pub mod rig;
pub mod scale;
pub mod sequence;
pub mod shape;
pub mod stage;
pub mod switch;
pub mod traffic;
pub mod travel;
pub mod unit;
pub mod watch;

pub use clock::PwmClock;
pub use stage::Stage;
