//! What the system may tell a program that drives: which signals end it, with everything released.
//!
//! SIGKILL cannot be heard, nor can a real abort, a stack overflow or the end for want of memory be survived: what stays
//! on the wire then is what each board's note says. SIGPIPE stays ignored, for a closed output is an error and no end.

use signal_hook::consts::{
    SIGABRT, SIGALRM, SIGCONT, SIGHUP, SIGINT, SIGQUIT, SIGTERM, SIGTSTP, SIGUSR1, SIGUSR2,
};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Signals that end a run: everything is released first.
pub const ENDING: [i32; 7] = [SIGTERM, SIGHUP, SIGQUIT, SIGUSR1, SIGUSR2, SIGALRM, SIGABRT];

/// What a run without a screen was told.
#[derive(Debug, Clone, Default)]
pub struct Told {
    end: Arc<AtomicBool>,
    stop: Arc<AtomicBool>,
    go_on: Arc<AtomicBool>,
}

impl Told {
    /// Listens from now on: what ends, and Ctrl-C, which ends a run without a screen.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn listen() -> std::io::Result<Self> {
        let told = Self::default();
        for signal in ENDING.into_iter().chain([SIGINT]) {
            signal_hook::flag::register(signal, Arc::clone(&told.end))?;
        }
        signal_hook::flag::register(SIGTSTP, Arc::clone(&told.stop))?;
        signal_hook::flag::register(SIGCONT, Arc::clone(&told.go_on))?;
        Ok(told)
    }

    /// Whether it is to end.
    pub fn to_end(&self) -> bool {
        self.end.load(Ordering::SeqCst)
    }

    /// Whether it is to be stopped, once.
    pub fn to_stop(&self) -> bool {
        self.stop.swap(false, Ordering::SeqCst)
    }

    /// Stands still until it is continued.
    ///
    /// # Errors
    /// When the system refuses.
    pub fn stand(&self) -> std::io::Result<()> {
        self.go_on.store(false, Ordering::SeqCst);
        signal_hook::low_level::emulate_default_handler(SIGTSTP)
    }
}
