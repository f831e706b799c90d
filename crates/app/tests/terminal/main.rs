//! The real binary in a real terminal: keys in, screen out. Everything waits for what it wants to see.

mod calibrate;
mod ending;
mod harness;
mod work;
