//! A sensor as the kernel lists one: a directory of files, with a range, two axes and a voltage.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// Its channels with their files: what they read at their two ends, and what makes a value of that.
const CHANNELS: [(&str, f64, f64); 4] = [
    ("in_accel_x", -2048.0, 2047.0),
    ("in_accel_y", -2048.0, 2047.0),
    ("in_distance", 30.0, 2000.0),
    ("in_voltage0", 0.0, 4095.0),
];
const SCALES: [(&str, &str); 4] = [
    ("in_accel_scale", "0.004788"),
    ("in_distance_scale", "0.001"),
    ("in_voltage_scale", "0.805664062"),
    ("name", "marsh-sensor"),
];

struct Inner {
    /// Where each stands between its ends, and whether a person has put it there.
    stands: [(f64, bool); CHANNELS.len()],
    passed: Duration,
}

/// See the module. All handles move the same one.
#[derive(Clone)]
pub struct SimSensor {
    directory: PathBuf,
    inner: Arc<Mutex<Inner>>,
    plug_out: Arc<AtomicBool>,
}

impl SimSensor {
    /// One whose files are in a directory.
    ///
    /// # Errors
    /// When they cannot be written there.
    pub fn new(directory: &Path) -> std::io::Result<Self> {
        let inner = Inner { stands: [(0.5, false); CHANNELS.len()], passed: Duration::ZERO };
        let sensor = Self {
            directory: directory.to_owned(),
            inner: Arc::new(Mutex::new(inner)),
            plug_out: Arc::default(),
        };
        sensor.replug()?;
        Ok(sensor)
    }

    /// The folder in which the kernel would have its files.
    pub fn directory(&self) -> &Path {
        &self.directory
    }

    /// Where a channel stands between its ends, 0–1.
    pub fn position(&self, channel: &str) -> Option<f64> {
        let place = CHANNELS.iter().position(|(name, ..)| *name == channel)?;
        self.lock().stands.get(place).map(|(at, _)| *at)
    }

    /// A person moves it by a share of its way; nothing else does from then on.
    pub fn turn(&self, channel: &str, by: f64) {
        let Some(place) = CHANNELS.iter().position(|(name, ..)| *name == channel) else { return };
        if let Some(stands) = self.lock().stands.get_mut(place) {
            *stands = ((stands.0 + by).clamp(0.0, 1.0), true);
        }
        self.write();
    }

    /// Something comes near and goes away for so long.
    pub fn pass(&self, time: Duration) {
        {
            let mut inner = self.lock();
            inner.passed += time;
            let now = inner.passed.as_secs_f64();
            for (n, (at, held)) in inner.stands.iter_mut().enumerate() {
                let period = 4.0 + f64::from(u8::try_from(n).unwrap_or(0));
                if !*held {
                    *at = 0.5 + 0.4 * libm::sin(now * std::f64::consts::TAU / period);
                }
            }
        }
        self.write();
    }

    /// Whether it is there.
    pub fn is_plugged(&self) -> bool {
        !self.plug_out.load(Ordering::SeqCst)
    }

    /// Takes it away: its directory goes.
    pub fn unplug(&self) {
        self.plug_out.store(true, Ordering::SeqCst);
        let _ = std::fs::remove_dir_all(&self.directory);
    }

    /// Brings it back.
    ///
    /// # Errors
    /// When its files cannot be written.
    pub fn replug(&self) -> std::io::Result<()> {
        std::fs::create_dir_all(&self.directory)?;
        for (name, content) in SCALES {
            std::fs::write(self.directory.join(name), format!("{content}\n"))?;
        }
        self.plug_out.store(false, Ordering::SeqCst);
        self.write();
        Ok(())
    }

    /// Each file at once, as the kernel gives it: a reader never sees half a number.
    fn write(&self) {
        if !self.is_plugged() {
            return;
        }
        let stands = self.lock().stands;
        for ((name, low, high), (at, _)) in CHANNELS.iter().zip(stands) {
            let raw = libm::round(low + (high - low) * at);
            let file = self.directory.join(format!("{name}_raw"));
            let new = self.directory.join(format!(".{name}"));
            let _ = std::fs::write(&new, format!("{raw}\n")).and_then(|()| std::fs::rename(&new, file));
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
