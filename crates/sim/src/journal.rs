//! Where what passes on a bench is written, if anywhere: a line each, shared by all of its buses.

use std::fmt::Display;
use std::io::Write;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// A handle to it; all handles are the same one. At first nothing is written.
#[derive(Clone, Default)]
pub struct Journal(Arc<Mutex<Option<Box<dyn Write + Send>>>>);

impl Journal {
    /// Writes there from now on.
    pub fn begin(&self, sink: Box<dyn Write + Send>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(sink);
    }

    /// A line: seconds since the clock's start, what happened, the bytes in hexadecimal.
    pub fn line(&self, at: Duration, what: impl Display, bytes: &[u8]) {
        if let Some(sink) = self.0.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
            let bytes: Vec<String> = bytes.iter().map(|b| format!("{b:02X}")).collect();
            // A full disk must not stop the simulation; the log simply ends there.
            let _ = writeln!(sink, "{:.6} {what} {}", at.as_secs_f64(), bytes.join(" "))
                .and_then(|()| sink.flush());
        }
    }
}
