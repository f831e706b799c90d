//! Where each servo was left, kept between runs, so that engaging can begin there.

use crate::files;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use wasvolta_core::unit::Micros;

/// One servo's place.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Place {
    /// The last pulse it had.
    pub pulse_us: Micros,
    /// When, in seconds since 1970.
    pub at_s: u64,
}

/// By servo name.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct LastKnown {
    #[serde(default)]
    servo: BTreeMap<String, Place>,
}

impl LastKnown {
    /// What was kept for a rig; nothing if that cannot be read.
    pub fn read(rig: &Path) -> Self {
        let text = path(rig).and_then(|path| std::fs::read_to_string(path).ok()).unwrap_or_default();
        toml_edit::de::from_str(&text).unwrap_or_default()
    }

    /// Where a servo was left, and how long ago.
    pub fn of(&self, servo: &str) -> Option<(Micros, Duration)> {
        let place = self.servo.get(servo)?;
        Some((place.pulse_us, Duration::from_secs(now().saturating_sub(place.at_s))))
    }

    /// Notes where a servo is now.
    pub fn note(&mut self, servo: &str, pulse: Micros) {
        self.servo.insert(servo.to_owned(), Place { pulse_us: pulse, at_s: now() });
    }

    /// Another servo is there now: nobody knows where it stands.
    pub fn forget(&mut self, servo: &str) {
        self.servo.remove(servo);
    }

    /// A servo has another name now; the old one is kept, for the change may be undone.
    pub fn copy(&mut self, servo: &str, name: &str) {
        if let Some(place) = self.servo.get(servo).copied() {
            self.servo.insert(name.to_owned(), place);
        }
    }

    /// Keeps it. Losing it costs a question at the next start, so a full disk is not reported.
    pub fn write(&self, rig: &Path) {
        if let (Some(path), Ok(text)) = (path(rig), toml_edit::ser::to_string_pretty(self)) {
            let _ = files::write(&path, &text);
        }
    }
}

/// Seconds since 1970, as what is kept between runs counts them.
pub fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_secs())
}

fn path(rig: &Path) -> Option<PathBuf> {
    let name: String =
        crate::holder::file_name(rig).chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    Some(files::folders().ok()?.state.join(format!("last-known{name}")))
}

/// A time gone by, as a person says it.
pub fn ago(time: Duration) -> String {
    let seconds = time.as_secs();
    let (count, unit) = match seconds {
        0..60 => (seconds, "second"),
        60..3600 => (seconds / 60, "minute"),
        3600..86_400 => (seconds / 3600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    format!("{count} {unit}{} ago", if count == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_said_in_one_unit() {
        assert_eq!(ago(Duration::from_secs(59)), "59 seconds ago");
        assert_eq!(ago(Duration::from_mins(1)), "1 minute ago");
        assert_eq!(ago(Duration::from_secs(3 * 86_400 + 5)), "3 days ago");
    }
}
