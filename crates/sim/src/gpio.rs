//! A GPIO chip in this process: lines that a hand sets, with the edges and times that the kernel gives.

use rustix::event::{EventfdFlags, eventfd};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::gpio::{Edge, Lines, Wanted};

#[derive(Default)]
struct Inner {
    /// By name: whether it is high. A line that nobody pulls is low, or high by its pull-up.
    lines: BTreeMap<String, bool>,
    /// What is held, in its order.
    held: Vec<String>,
    waiting: VecDeque<Edge>,
    gone: bool,
    /// Lines that a person holds: nothing else moves them any more.
    by_person: BTreeSet<String>,
    now: Duration,
}

/// See the module. All handles set the same lines.
#[derive(Clone)]
pub struct SimChip {
    inner: Arc<Mutex<Inner>>,
    event: Arc<OwnedFd>,
}

impl SimChip {
    /// One that has any line it is asked for.
    ///
    /// # Errors
    /// When the system gives no descriptor.
    pub fn new() -> std::io::Result<Self> {
        let event = eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?;
        Ok(Self { inner: Arc::default(), event: Arc::new(event) })
    }

    /// Holds lines, as a program does.
    ///
    /// # Errors
    /// When the chip was taken away.
    pub fn open(&self, wanted: &[Wanted]) -> std::io::Result<impl Lines + use<>> {
        let mut inner = self.lock();
        if inner.gone {
            return Err(std::io::ErrorKind::NotFound.into());
        }
        inner.waiting.clear();
        inner.held = wanted.iter().map(|wanted| wanted.line.clone()).collect();
        for wanted in wanted {
            inner.lines.entry(wanted.line.clone()).or_insert(wanted.pull_up);
        }
        drop(inner);
        Ok(Open(self.clone()))
    }

    /// Pulls a line up or down.
    pub fn set(&self, line: &str, high: bool) {
        let mut inner = self.lock();
        let before = inner.lines.insert(line.to_owned(), high);
        let place = inner.held.iter().position(|own| own == line);
        if let Some(place) = place.filter(|_| before != Some(high)) {
            let at = inner.now;
            inner.waiting.push_back(Edge { line: place, high, at });
        }
        drop(inner);
        self.wake();
    }

    /// Lets time pass on the kernel's clock.
    pub fn pass(&self, time: Duration) {
        self.lock().now += time;
    }

    /// A hand presses, turns, and a receiver sends for so long: every line that is held comes and goes, each in its time.
    pub fn play(&self, time: Duration) {
        let (held, now) = {
            let mut inner = self.lock();
            inner.now += time;
            (inner.held.clone(), inner.now)
        };
        for (n, line) in held.iter().enumerate().filter(|(_, line)| !self.is_held(line)) {
            let half = 400 + 100 * n as u128;
            self.set(line, (now.as_millis() / half).is_multiple_of(2));
        }
    }

    /// A person pulls a line up or down, and holds it there.
    pub fn hold(&self, line: &str, high: bool) {
        self.lock().by_person.insert(line.to_owned());
        self.set(line, high);
    }

    fn is_held(&self, line: &str) -> bool {
        self.lock().by_person.contains(line)
    }

    /// Whether a line is high; one that was never asked for is low.
    pub fn is_high(&self, line: &str) -> bool {
        self.lock().lines.get(line).copied().unwrap_or_default()
    }

    /// Whether the chip is there.
    pub fn is_there(&self) -> bool {
        !self.lock().gone
    }

    /// Brings the chip back.
    pub fn replug(&self) {
        self.lock().gone = false;
    }

    /// Takes the chip away.
    pub fn unplug(&self) {
        self.lock().gone = true;
        self.wake();
    }

    fn wake(&self) {
        let _ = rustix::io::write(&*self.event, &1u64.to_ne_bytes());
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

struct Open(SimChip);

impl Open {
    fn there(&self) -> std::io::Result<MutexGuard<'_, Inner>> {
        let inner = self.0.lock();
        if inner.gone { Err(std::io::ErrorKind::NotConnected.into()) } else { Ok(inner) }
    }
}

impl Lines for Open {
    fn descriptor(&self) -> BorrowedFd<'_> {
        self.0.event.as_fd()
    }

    fn take(&mut self, each: &mut dyn FnMut(Edge)) -> std::io::Result<()> {
        let mut count = [0; 8];
        let _ = rustix::io::read(&*self.0.event, &mut count);
        let waiting = std::mem::take(&mut self.there()?.waiting);
        waiting.into_iter().for_each(each);
        Ok(())
    }

    fn levels(&mut self) -> std::io::Result<Vec<bool>> {
        let inner = self.there()?;
        Ok(inner.held.iter().map(|line| inner.lines.get(line).copied().unwrap_or_default()).collect())
    }
}
