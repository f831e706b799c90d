//! Lines to whoever started the program, on standard output and standard error.
//!
//! Whoever reads them may be gone: a closed pipe, a terminal that hung up. The standard macros panic then, and a
//! panic within a panic ends the process before anything is released. Here such a line is lost and nothing else.

use std::fmt::Display;
use std::io::Write;

/// A line of what was asked for.
pub fn line(words: impl Display) {
    let mut out = std::io::stdout().lock();
    let _ = writeln!(out, "{words}").and_then(|()| out.flush());
}

/// A line of trouble, or of what to know beside what was asked for.
pub fn trouble(words: impl Display) {
    let _ = writeln!(std::io::stderr().lock(), "{words}");
}
