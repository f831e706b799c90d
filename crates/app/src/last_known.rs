//! Where each servo was left, kept between runs, so that engaging can begin there.

use crate::date::now;
use crate::files;
use crate::files::input::{self, What};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;
use wasvolta_core::range;
use wasvolta_core::unit::Position;

/// One servo's place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct LastPlace {
    /// The last pulse it had.
    pub pulse_us: Position,
    /// When, in seconds since 1970.
    pub at_s: u64,
}

/// By servo name.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
struct Places {
    #[serde(default)]
    servo: BTreeMap<String, LastPlace>,
}

impl Places {
    /// What a text says that can be so: a pulse that no servo can have is not known, nor is one of the future.
    fn parse(text: &str) -> Self {
        let mut places: Self = toml_edit::de::from_str(text).unwrap_or_default();
        places.servo.retain(|_, place| range::PULSE.holds(place.pulse_us.get()) && place.at_s <= now());
        places
    }
}

/// See the module.
#[derive(Debug)]
pub struct LastKnown {
    rig: PathBuf,
    places: Places,
    /// The thread that writes while the program runs, once there was something to write.
    writer: Option<(Sender<String>, JoinHandle<()>)>,
}

impl LastKnown {
    /// What was kept for a rig; nothing if that cannot be read.
    pub fn read(rig: &Path) -> Self {
        let text = path(rig).and_then(|path| input::text(&path, What::Kept).ok()).unwrap_or_default();
        Self { rig: rig.to_owned(), places: Places::parse(&text), writer: None }
    }

    /// Where a servo was left, and how long ago.
    pub fn of(&self, servo: &str) -> Option<(Position, Duration)> {
        let place = self.places.servo.get(servo)?;
        Some((place.pulse_us, Duration::from_secs(now().saturating_sub(place.at_s))))
    }

    /// Notes where a servo is now, and when, while it has pulses; without them it was last seen there when it had.
    /// Whether that is another place than before.
    pub fn note(&mut self, servo: &str, pulse: Position, engaged: bool) -> bool {
        let before = self.places.servo.get(servo).map(|place| place.pulse_us);
        if before == Some(pulse) && !engaged {
            return false;
        }
        let at_s = now();
        let place = self.places.servo.insert(servo.to_owned(), LastPlace { pulse_us: pulse, at_s });
        place.is_none_or(|place| place.pulse_us != pulse || at_s > place.at_s + STALE_S)
    }

    /// Another servo is there now: nobody knows where it stands.
    pub fn forget(&mut self, servo: &str) {
        self.places.servo.remove(servo);
    }

    /// A servo has another name now; the old one is kept, for the change may be undone.
    pub fn copy(&mut self, servo: &str, name: &str) {
        if let Some(place) = self.places.servo.get(servo).copied() {
            self.places.servo.insert(name.to_owned(), place);
        }
    }

    /// Keeps it, on a thread of its own: a slow disk must not keep the screen.
    pub fn keep(&mut self) {
        let Ok(text) = toml_edit::ser::to_string_pretty(&self.places) else { return };
        if self.writer.is_none() {
            let rig = self.rig.clone();
            let (texts, arrives) = channel::<String>();
            let write = move || {
                while let Ok(mut text) = arrives.recv() {
                    // Of several that wait only the newest counts.
                    while let Ok(newer) = arrives.try_recv() {
                        text = newer;
                    }
                    put(&rig, &text);
                }
            };
            // Without a thread nothing is kept until the end.
            let thread = std::thread::Builder::new().name("places".to_owned()).spawn(write).ok();
            self.writer = thread.map(|thread| (texts, thread));
        }
        if let Some((texts, _)) = &self.writer {
            let _ = texts.send(text);
        }
    }

    /// Keeps it now. Losing it costs a question at the next start, so a full disk is not reported.
    pub fn write(&mut self) {
        // What is still on its way is older, and must not be written behind it.
        if let Some((texts, thread)) = self.writer.take() {
            drop(texts);
            let _ = thread.join();
        }
        if let Ok(text) = toml_edit::ser::to_string_pretty(&self.places) {
            put(&self.rig, &text);
        }
    }
}

/// The time of a place that stands still is written anew after so many seconds.
const STALE_S: u64 = 60;

fn put(rig: &Path, text: &str) {
    if let Some(path) = path(rig) {
        let _ = files::write(&path, text);
    }
}

fn path(rig: &Path) -> Option<PathBuf> {
    let name: String =
        crate::holder::file_name(rig).chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    Some(files::folders().ok()?.state.join(format!("last-known{name}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_that_cannot_be_is_not_known() {
        let one = |pulse: &str, at: &str| {
            let text = format!("[servo.\"heron.neck\"]\npulse_us = {pulse}\nat_s = {at}\n");
            Places::parse(&text).servo.len()
        };
        assert_eq!(one("1500", "1000"), 1);
        for bad in ["nan", "inf", "-1500", "1e308", "\"x\""] {
            assert_eq!(one(bad, "1000"), 0, "{bad}");
        }
        assert_eq!(one("1500", "9223372036854775807"), 0);
        assert!(Places::parse("\u{0}junk").servo.is_empty());
    }
}
