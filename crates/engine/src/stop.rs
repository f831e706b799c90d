//! The flags that every thread obeys: cut, and stop. Setting one never waits.

use rustix::event::{EventfdFlags, eventfd};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// See the module.
#[derive(Debug)]
pub struct Stop {
    stop: AtomicBool,
    cut: AtomicBool,
    event: OwnedFd,
}

impl Stop {
    /// Nothing cut, nothing stopped.
    ///
    /// # Errors
    /// When the system gives no descriptor.
    pub fn new() -> std::io::Result<Self> {
        let event = eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?;
        Ok(Self { stop: AtomicBool::new(false), cut: AtomicBool::new(false), event })
    }

    /// Cut the output, from any thread, without waiting.
    pub fn cut(&self) {
        self.cut.store(true, Ordering::SeqCst);
        self.wake();
    }

    /// Whether a cut was asked for since the last call.
    pub(crate) fn take_cut(&self) -> bool {
        self.cut.swap(false, Ordering::SeqCst)
    }

    /// End: release everything and return.
    pub fn set(&self) {
        self.stop.store(true, Ordering::SeqCst);
        self.wake();
    }

    /// Whether the end was asked for.
    pub fn is_set(&self) -> bool {
        self.stop.load(Ordering::SeqCst)
    }

    /// Wakes the beat thread.
    pub(crate) fn wake(&self) {
        // The counter is full only when the beat thread has very many wake-ups waiting already.
        let _ = rustix::io::write(&self.event, &1u64.to_ne_bytes());
    }

    /// Forgets the wake-ups so far.
    pub(crate) fn slept(&self) {
        let mut count = [0; 8];
        let _ = rustix::io::read(&self.event, &mut count);
    }
}

impl AsFd for Stop {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.event.as_fd()
    }
}

/// Stops everything when the thread that holds it panics.
pub struct Tripwire(Arc<Stop>);

impl Tripwire {
    /// A wire across this thread's way out.
    pub fn new(stop: &Arc<Stop>) -> Self {
        Self(Arc::clone(stop))
    }
}

impl Drop for Tripwire {
    fn drop(&mut self) {
        if std::thread::panicking() {
            self.0.set();
        }
    }
}
