//! A simulated knob: a microcontroller that prints a line of numbers, on a real pty.
//!
//! The serial port opens it by path as it would any other; pulling the plug closes the pty.

use crate::truth::{Dice, KnobTruth};
use rustix::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How often it prints.
pub const PRINTS_EVERY: Duration = Duration::from_millis(20);

struct Inner {
    truth: KnobTruth,
    far: Option<OwnedFd>,
    position: f64,
    dice: Dice,
}

/// A handle to a knob; all handles turn the same one.
#[derive(Clone)]
pub struct Knob {
    inner: Arc<Mutex<Inner>>,
    path: PathBuf,
    stop: Arc<AtomicBool>,
}

impl Knob {
    /// Plugs a knob in. Its line can be opened at a path within `folder`.
    ///
    /// # Errors
    /// When the system gives no pty, or the folder cannot be written.
    pub fn plug_in(truth: KnobTruth, seed: u64, folder: &Path) -> std::io::Result<Self> {
        let path = folder.join(format!("line-{}", truth.line));
        let position = truth.stands;
        let inner = Inner { truth, far: None, position, dice: Dice::new(seed) };
        let knob = Self { inner: Arc::new(Mutex::new(inner)), path, stop: Arc::default() };
        knob.replug()?;
        Ok(knob)
    }

    /// The line's path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The line's name, as in `sim:NAME`.
    pub fn line(&self) -> String {
        self.lock().truth.line.clone()
    }

    /// Where it stands, 0–1.
    pub fn position(&self) -> f64 {
        self.lock().position
    }

    /// Turns it by a share of its whole way; it stops at its ends.
    pub fn turn(&self, by: f64) {
        let mut inner = self.lock();
        inner.position = (inner.position + by).clamp(0.0, 1.0);
    }

    /// Whether it is plugged in.
    pub fn is_plugged(&self) -> bool {
        self.lock().far.is_some()
    }

    /// Pulls its plug.
    pub fn unplug(&self) {
        self.lock().far = None;
        let _ = std::fs::remove_file(&self.path);
    }

    /// Plugs it in again.
    ///
    /// # Errors
    /// As [`Knob::plug_in`].
    pub fn replug(&self) -> std::io::Result<()> {
        let (far, near) = crate::pty::pair()?;
        let _ = std::fs::remove_file(&self.path);
        std::os::unix::fs::symlink(near, &self.path)?;
        self.lock().far = Some(far);
        Ok(())
    }

    /// Prints one line, as the microcontroller would. A full line buffer loses it, as on the wire. Gives the
    /// number of bytes that went out.
    pub fn print(&self) -> usize {
        let mut inner = self.lock();
        let noise = libm::round(inner.dice.between(-0.8, 0.8));
        let truth = &inner.truth;
        let (low, high) = (truth.low.min(truth.high), truth.low.max(truth.high));
        let raw = libm::round(truth.low + (truth.high - truth.low) * inner.position) + noise;
        let text = format!("{}={}\n", truth.field, raw.clamp(low, high));
        inner.far.as_ref().and_then(|far| rustix::io::write(far, text.as_bytes()).ok()).unwrap_or(0)
    }

    /// Sends bytes as they are: what a faulty microcontroller might.
    pub fn send(&self, bytes: &[u8]) -> usize {
        self.lock().far.as_ref().and_then(|far| rustix::io::write(far, bytes).ok()).unwrap_or(0)
    }

    /// Prints by itself, every 20 ms, until [`Knob::stop`].
    pub fn run(&self) {
        let knob = self.clone();
        std::thread::spawn(move || {
            while !knob.stop.load(Ordering::SeqCst) {
                knob.print();
                std::thread::sleep(PRINTS_EVERY);
            }
        });
    }

    /// Stops printing by itself.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_port::serial::{Got, Serial};

    #[test]
    fn its_line_is_opened_by_path_and_pulling_the_plug_ends_it() {
        let folder = std::env::temp_dir().join(format!("wasvolta-knob-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let truth = KnobTruth { line: "k".into(), field: "knob".into(), low: 0.0, high: 1023.0, stands: 1.0 };
        let knob = Knob::plug_in(truth, 3, &folder).unwrap();
        let line = Serial::open(knob.path(), 115_200).unwrap();
        knob.turn(0.5);
        assert!(knob.print() > 0);
        let mut bytes = [0; 64];
        let mut ready = [rustix::event::PollFd::new(&line, rustix::event::PollFlags::IN)];
        rustix::event::poll(&mut ready, None).unwrap();
        let Got::Bytes(count) = line.read(&mut bytes) else { panic!("nothing came") };
        let text = std::str::from_utf8(&bytes[..count]).unwrap();
        assert!(text == "knob=1023\n" || text == "knob=1022\n", "{text:?}");
        knob.unplug();
        assert_eq!(line.read(&mut bytes), Got::Gone);
        assert!(!knob.is_plugged() && Serial::open(knob.path(), 115_200).is_err());
        knob.replug().unwrap();
        assert!(Serial::open(knob.path(), 115_200).is_ok());
        std::fs::remove_dir_all(&folder).unwrap();
    }
}
