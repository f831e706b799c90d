//! The keyboard's faders as a way in: moved on the screen, posted to the engine as any other.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;
use wasvolta_core::faders::Faders;
use wasvolta_core::rig::protocol::KEYS_HAVE;
use wasvolta_port::Fault;
use wasvolta_port::inlet::{Inlet, Shut};
use wasvolta_port::posted::{Poster, posted};
use wasvolta_wire::decode::{Frame, Sink};

struct Inner {
    faders: Faders,
    /// What was posted last.
    said: Option<[f64; 6]>,
    poster: Option<Poster>,
    /// There is a screen on which they are moved.
    is_shown: bool,
    began: Instant,
}

/// See the module. All handles move the same ones.
#[derive(Clone)]
pub struct Keyboard(Arc<Mutex<Inner>>);

impl Default for Keyboard {
    fn default() -> Self {
        let inner = Inner {
            faders: Faders::default(),
            said: None,
            poster: None,
            is_shown: false,
            began: Instant::now(),
        };
        Self(Arc::new(Mutex::new(inner)))
    }
}

impl Keyboard {
    /// There is a screen from now on.
    pub fn show(&self) {
        self.lock().is_shown = true;
    }

    /// Opens the way from it.
    ///
    /// # Errors
    /// When nobody can move them.
    pub fn open(&self) -> Result<Box<dyn Inlet>, Shut> {
        let mut inner = self.lock();
        if !inner.is_shown {
            return Err(Shut {
                words: "the keyboard's faders are moved on the screen alone".to_owned(),
                help: "open the rig in the program: in ‹Inputs› ‹play faders› plays them".to_owned(),
                fault: Fault::OtherKind,
            });
        }
        let (poster, inlet) = posted().map_err(|error| Shut {
            words: format!("cannot read the keyboard: {error}"),
            help: "close some programs: the system gives no more descriptors".to_owned(),
            fault: Fault::OtherKind,
        })?;
        (inner.poster, inner.said) = (Some(poster), None);
        inner.post();
        Ok(inlet)
    }

    /// Moves what is on it, and posts what has changed by it.
    pub fn play(&self, act: impl FnOnce(&mut Faders, std::time::Duration)) {
        let mut inner = self.lock();
        let now = inner.began.elapsed();
        act(&mut inner.faders, now);
        inner.post();
    }

    /// Posts what time has changed: a button whose key seems to be up.
    pub fn tick(&self) {
        self.lock().post();
    }

    /// How all of them stand.
    pub fn values(&self) -> [f64; 6] {
        let inner = self.lock();
        inner.faders.values(inner.began.elapsed())
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    fn post(&mut self) {
        let values = self.faders.values(self.began.elapsed());
        let Some(poster) = &mut self.poster else { return };
        let changed = |n: usize| self.said.is_none_or(|said| said.get(n) != values.get(n));
        let mut any = false;
        for ((code, value), n) in (1u16..).zip(values).zip(0..KEYS_HAVE.len()) {
            if changed(n) {
                poster.value(code, "", value);
                any = true;
            }
        }
        if any {
            poster.frame(Frame::Values);
        }
        self.said = Some(values);
    }
}
