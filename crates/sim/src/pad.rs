//! A game pad that speaks the kernel's events, in this process: two axes, a button and a dial.

use rustix::event::{EventfdFlags, eventfd};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use std::collections::{BTreeSet, VecDeque};
use std::f64::consts::TAU;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::pad::{Control, DROPPED, Event, Events, REPORT, kind};

/// What the kernel keeps for a reader that is slow; beyond that it drops.
const ROOM: usize = 256;
const SYNC: Event = Event { kind: kind::SYNC, code: REPORT, value: 0 };

struct Inner {
    controls: Vec<Control>,
    waiting: VecDeque<Event>,
    /// None while it is unplugged.
    plugged: bool,
    /// Raised by each plug: a reader of the one before is gone.
    plug: u64,
    passed: Duration,
    /// What a person has moved: nothing else moves it any more.
    held: BTreeSet<String>,
}

/// See the module. All handles move the same one.
#[derive(Clone)]
pub struct SimPad {
    inner: Arc<Mutex<Inner>>,
    event: Arc<OwnedFd>,
}

impl SimPad {
    /// One that is plugged in, with its axes in the middle.
    ///
    /// # Errors
    /// When the system gives no descriptor.
    pub fn new() -> std::io::Result<Self> {
        let control =
            |kind, code, name: &str, ends, now| Control { kind, code, name: name.to_owned(), ends, now };
        let controls = vec![
            control(kind::ABSOLUTE, 0, "abs-x", Some((0.0, 255.0)), Some(128.0)),
            control(kind::ABSOLUTE, 1, "abs-y", Some((0.0, 255.0)), Some(128.0)),
            control(kind::KEY, 0x130, "btn-south", None, Some(0.0)),
            control(kind::RELATIVE, 7, "rel-dial", None, None),
        ];
        let inner = Inner {
            controls,
            waiting: VecDeque::new(),
            plugged: true,
            plug: 0,
            passed: Duration::ZERO,
            held: BTreeSet::new(),
        };
        let event = eventfd(0, EventfdFlags::NONBLOCK | EventfdFlags::CLOEXEC)?;
        Ok(Self { inner: Arc::new(Mutex::new(inner)), event: Arc::new(event) })
    }

    /// Opens it as a program does.
    ///
    /// # Errors
    /// When it is unplugged.
    pub fn open(&self) -> std::io::Result<impl Events + use<>> {
        let mut inner = self.lock();
        if !inner.plugged {
            return Err(std::io::ErrorKind::NotFound.into());
        }
        inner.waiting.clear();
        let plug = inner.plug;
        drop(inner);
        Ok(Open { pad: self.clone(), plug })
    }

    /// Moves a control to a value; what turns, by so many steps. What comes beyond the room is dropped, as the kernel does.
    pub fn set(&self, name: &str, value: i32) {
        let mut inner = self.lock();
        let Some(control) = inner.controls.iter_mut().find(|control| control.name == name) else { return };
        if control.now.is_some() {
            control.now = Some(f64::from(value));
        }
        let event = Event { kind: control.kind, code: control.code, value };
        if inner.waiting.len() + 2 > ROOM {
            inner.waiting.clear();
            inner.waiting.extend([Event { kind: kind::SYNC, code: DROPPED, value: 0 }, SYNC]);
        } else {
            inner.waiting.extend([event, SYNC]);
        }
        drop(inner);
        self.wake();
    }

    /// Where a control stands between its ends, 0–1; none of what has no ends.
    pub fn position(&self, name: &str) -> Option<f64> {
        let inner = self.lock();
        let control = inner.controls.iter().find(|control| control.name == name)?;
        let (low, high) = control.ends.unwrap_or((0.0, 1.0));
        Some((control.now? - low) / (high - low))
    }

    /// A person moves a control by a share of its way: a button goes down or up, a dial one step. The hand that moves it by
    /// itself leaves it alone then.
    pub fn turn(&self, name: &str, by: f64) {
        let value = {
            let mut inner = self.lock();
            inner.held.insert(name.to_owned());
            let Some(control) = inner.controls.iter().find(|control| control.name == name) else { return };
            match (control.ends, control.now) {
                (Some((low, high)), Some(now)) => (now + by * (high - low)).clamp(low, high),
                (None, Some(_)) => f64::from(u8::from(by > 0.0)),
                (_, None) => by.signum(),
            }
        };
        #[expect(clippy::cast_possible_truncation, reason = "between its ends")]
        self.set(name, libm::round(value) as i32);
    }

    /// Whether its plug is in.
    pub fn is_plugged(&self) -> bool {
        self.lock().plugged
    }

    /// Pulls its plug.
    pub fn unplug(&self) {
        self.lock().plugged = false;
        self.wake();
    }

    /// Plugs it in again.
    pub fn replug(&self) {
        let mut inner = self.lock();
        inner.plugged = true;
        inner.plug += 1;
    }

    /// A hand moves it for so long: the axes in a slow round, a press and three steps of the dial every four seconds.
    pub fn pass(&self, time: Duration) {
        let mut inner = self.lock();
        let before = inner.passed.as_secs_f64();
        inner.passed += time;
        let now = inner.passed.as_secs_f64();
        let held = inner.held.clone();
        drop(inner);
        let set = |name: &str, value: i32| {
            if !held.contains(name) {
                self.set(name, value);
            }
        };
        #[expect(clippy::cast_possible_truncation, reason = "within 0 and 255")]
        let place = |angle: f64| (127.5 + 127.0 * angle) as i32;
        set("abs-x", place(libm::sin(now * TAU / 6.0)));
        set("abs-y", place(libm::cos(now * TAU / 6.0)));
        let round = |time: f64, shift: f64| libm::floor((time + shift) / 4.0);
        if round(before, 0.0) < round(now, 0.0) {
            set("btn-south", 1);
            set("rel-dial", 3);
        }
        if round(before, 3.5) < round(now, 3.5) {
            set("btn-south", 0);
        }
    }

    fn wake(&self) {
        let _ = rustix::io::write(&*self.event, &1u64.to_ne_bytes());
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

struct Open {
    pad: SimPad,
    plug: u64,
}

impl Open {
    fn there(&self) -> std::io::Result<MutexGuard<'_, Inner>> {
        let inner = self.pad.lock();
        if inner.plugged && inner.plug == self.plug {
            Ok(inner)
        } else {
            Err(std::io::ErrorKind::NotConnected.into())
        }
    }
}

impl Events for Open {
    fn descriptor(&self) -> BorrowedFd<'_> {
        self.pad.event.as_fd()
    }

    fn take(&mut self, each: &mut dyn FnMut(Event)) -> std::io::Result<()> {
        let mut count = [0; 8];
        let _ = rustix::io::read(&*self.pad.event, &mut count);
        let waiting = std::mem::take(&mut self.there()?.waiting);
        waiting.into_iter().for_each(each);
        Ok(())
    }

    fn controls(&mut self) -> std::io::Result<Vec<Control>> {
        Ok(self.there()?.controls.clone())
    }
}
