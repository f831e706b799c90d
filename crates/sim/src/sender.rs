//! What sends by itself on a line: a microcontroller that prints numbers, a radio's receiver. On a real pty.
//!
//! The serial port opens it by path as it would any other; pulling the plug closes the pty. What is said on it is a
//! speaker's business, one a protocol.

pub mod fields;
pub mod midi;
pub mod radio;

use crate::truth::Dice;
use rustix::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// What a person can move on it.
#[derive(Debug, Clone, PartialEq)]
pub struct Control {
    /// What it is called: the name of its channel.
    pub name: String,
    /// Where it stands, 0–1.
    pub at: f64,
}

/// How it fares.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Mood {
    /// It says where its controls stand.
    #[default]
    Well,
    /// What it listens to itself is off: a transmitter. What it says then is its protocol's way.
    Off,
    /// It says the very same again and again.
    Frozen,
    /// It says that it hears nothing, where its protocol has a word for that.
    Failsafe,
    /// It says nothing.
    Silent,
    /// It says bytes that mean nothing.
    Rubbish,
}

impl Mood {
    /// All of them, with their words.
    pub const ALL: [(Self, &'static str); 6] = [
        (Self::Well, "well"),
        (Self::Off, "off"),
        (Self::Frozen, "frozen"),
        (Self::Failsafe, "failsafe"),
        (Self::Silent, "silent"),
        (Self::Rubbish, "rubbish"),
    ];

    /// The word by which it is switched.
    pub fn word(self) -> &'static str {
        Self::ALL.into_iter().find(|(mood, _)| *mood == self).map_or("", |(_, word)| word)
    }

    /// The one of a word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|(_, own)| *own == word.trim()).map(|(mood, _)| mood)
    }
}

/// Says what a protocol says.
pub trait Speaker: Send {
    /// How often it speaks.
    fn every(&self) -> Duration;

    /// One frame, by where the controls stand. `hears` is false where what it listens to is off, or it is to say so.
    fn says(&mut self, hears: bool, dice: &mut Dice) -> Vec<u8>;

    /// What can be moved on it.
    fn controls(&mut self) -> &mut [Control];

    /// The place of the control behind a channel, by the name that a rig has for it.
    fn control(&mut self, channel: &str) -> Option<usize> {
        self.controls().iter().position(|control| control.name == channel)
    }

    /// Lets what it measures wander by so much, in its own unit.
    fn set_noise(&mut self, noise: f64);

    /// Whether it goes on with its last frame where what it listens to is off: its protocol has no word for that.
    fn repeats_when_off(&self) -> bool {
        false
    }
}

struct Inner {
    speaker: Box<dyn Speaker>,
    far: Option<OwnedFd>,
    mood: Mood,
    last: Vec<u8>,
    dice: Dice,
}

/// A handle to a sender; all handles move the same one.
#[derive(Clone)]
pub struct Sender {
    inner: Arc<Mutex<Inner>>,
    path: PathBuf,
    every: Duration,
    stop: Arc<AtomicBool>,
}

impl Sender {
    /// Plugs a sender in. Its line can be opened at `path`.
    ///
    /// # Errors
    /// When the system gives no pty, or the folder cannot be written.
    pub fn plug_in(speaker: Box<dyn Speaker>, seed: u64, path: &Path) -> std::io::Result<Self> {
        let every = speaker.every();
        let inner = Inner { speaker, far: None, mood: Mood::Well, last: Vec::new(), dice: Dice::new(seed) };
        let inner = Arc::new(Mutex::new(inner));
        let sender = Self { inner, path: path.to_owned(), every, stop: Arc::default() };
        sender.replug()?;
        Ok(sender)
    }

    /// The line's path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Where the control behind a channel stands, 0–1.
    pub fn position(&self, channel: &str) -> Option<f64> {
        let mut inner = self.lock();
        let place = inner.speaker.control(channel)?;
        inner.speaker.controls().get(place).map(|control| control.at)
    }

    /// Moves the control behind a channel by a share of its whole way; it stops at its ends.
    pub fn turn(&self, channel: &str, by: f64) {
        let mut inner = self.lock();
        let place = inner.speaker.control(channel);
        if let Some(control) = place.and_then(|place| inner.speaker.controls().get_mut(place)) {
            control.at = (control.at + by).clamp(0.0, 1.0);
        }
    }

    /// Lets what it measures wander by so much, in its own unit.
    pub fn set_noise(&self, noise: f64) {
        self.lock().speaker.set_noise(noise);
    }

    /// The names of what can be moved on it.
    pub fn controls(&self) -> Vec<String> {
        self.lock().speaker.controls().iter().map(|control| control.name.clone()).collect()
    }

    /// How it fares.
    pub fn mood(&self) -> Mood {
        self.lock().mood
    }

    /// Lets it fare otherwise.
    pub fn set_mood(&self, mood: Mood) {
        self.lock().mood = mood;
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
    /// As [`Sender::plug_in`].
    pub fn replug(&self) -> std::io::Result<()> {
        let (far, near) = crate::pty::pair()?;
        let _ = std::fs::remove_file(&self.path);
        std::os::unix::fs::symlink(near, &self.path)?;
        self.lock().far = Some(far);
        Ok(())
    }

    /// Says one frame, as the device would. A full line loses it, as on the wire. Gives the number of bytes that went
    /// out.
    pub fn say(&self) -> usize {
        let mut inner = self.lock();
        let frame = inner.next();
        inner.write(&frame)
    }

    /// Sends bytes as they are: what a faulty device might.
    pub fn send(&self, bytes: &[u8]) -> usize {
        self.lock().write(bytes)
    }

    /// Says what it would say in a time.
    pub fn pass(&self, time: Duration) {
        let frames = time.as_nanos() / self.every.as_nanos().max(1);
        (0..frames.max(1)).for_each(|_| {
            self.say();
        });
    }

    /// Speaks by itself until [`Sender::stop`].
    pub fn run(&self) {
        let sender = self.clone();
        std::thread::spawn(move || {
            while !sender.stop.load(Ordering::SeqCst) {
                sender.say();
                std::thread::sleep(sender.every);
            }
        });
    }

    /// Stops speaking by itself.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::SeqCst);
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Inner {
    fn next(&mut self) -> Vec<u8> {
        let repeats = self.mood == Mood::Off && self.speaker.repeats_when_off();
        match self.mood {
            Mood::Silent => Vec::new(),
            Mood::Rubbish => (0..25).map(|_| self.dice.next().to_le_bytes()[3]).collect(),
            _ if repeats || self.mood == Mood::Frozen => self.last.clone(),
            mood => {
                let frame = self.speaker.says(mood == Mood::Well, &mut self.dice);
                self.last.clone_from(&frame);
                frame
            }
        }
    }

    fn write(&self, bytes: &[u8]) -> usize {
        self.far.as_ref().and_then(|far| rustix::io::write(far, bytes).ok()).unwrap_or(0)
    }
}

#[cfg(test)]
mod tests {
    use super::fields::Fields;
    use super::*;
    use crate::truth::KnobTruth;
    use wasvolta_port::serial::{Got, Serial};

    #[test]
    fn its_line_is_opened_by_path_and_pulling_the_plug_ends_it() {
        let folder = tempfile::tempdir().unwrap();
        let knob = KnobTruth { stands: 1.0, ..KnobTruth::of("k", "knob") };
        let sender =
            Sender::plug_in(Box::new(Fields::new(vec![knob])), 3, &folder.path().join("line-k")).unwrap();
        let line = Serial::open(sender.path(), 115_200).unwrap();
        sender.turn("knob", 0.5);
        assert!(sender.say() > 0);
        let mut bytes = [0; 64];
        let mut ready = [rustix::event::PollFd::new(&line, rustix::event::PollFlags::IN)];
        rustix::event::poll(&mut ready, None).unwrap();
        let Got::Bytes(count) = line.read(&mut bytes) else { panic!("nothing came") };
        let text = std::str::from_utf8(&bytes[..count]).unwrap();
        assert!(text == "knob=1023\n" || text == "knob=1022\n", "{text:?}");
        sender.unplug();
        assert_eq!(line.read(&mut bytes), Got::Gone);
        assert!(!sender.is_plugged() && Serial::open(sender.path(), 115_200).is_err());
        sender.replug().unwrap();
        assert!(Serial::open(sender.path(), 115_200).is_ok());
    }

    #[test]
    fn a_mood_is_what_it_says_then() {
        for (mood, word) in Mood::ALL {
            assert_eq!((Mood::of(word), mood.word()), (Some(mood), word));
        }
        assert_eq!(Mood::of("merry"), None);
        let knob = KnobTruth { noise: 40.0, ..KnobTruth::of("k", "knob") };
        let speaker = Box::new(Fields::new(vec![knob]));
        let mut inner = Inner { speaker, far: None, mood: Mood::Well, last: Vec::new(), dice: Dice::new(1) };
        let said: Vec<_> = (0..9).map(|_| inner.next()).collect();
        assert!(said.iter().any(|line| *line != said[0]), "it is noisy");
        inner.mood = Mood::Frozen;
        assert!((0..9).all(|_| inner.next() == said[8]));
        inner.mood = Mood::Silent;
        assert!(inner.next().is_empty());
        inner.mood = Mood::Rubbish;
        assert_ne!(inner.next(), inner.next());
    }
}
