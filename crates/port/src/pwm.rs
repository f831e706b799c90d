//! The driver of a PWM chip of the Linux kernel, by its files: `/sys/class/pwm/pwmchipN` or the device behind it.
//!
//! The kernel gives back what was asked, not what the chip does, so nothing is measured here. Pulses go on after
//! the process ends; some chips have one period for all channels, so a board has one frame rate.

use crate::board::{self, CHANNELS, Driver, Evidence, Noted, Pace, Phase, Stay, Wanted};
use crate::i2c::{BusError, Fault};
use rustix::io::Errno;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A tick is this share of a frame: what is asked for is as fine as that, what the chip does is not known.
pub const STEPS: u64 = 1 << 16;
/// Files of a channel that was asked for may take this long until they may be written.
const APPEARS: Duration = Duration::from_secs(1);
const LOOK_AGAIN: Duration = Duration::from_millis(10);
/// It is looked at this often whether the chip is still there.
const CHECK_EVERY: Duration = Duration::from_secs(1);

/// What a board of this kind is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Settings {
    /// A frame.
    pub frame: Duration,
}

/// What the kernel says of a chip.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Exported {
    /// Its channels.
    pub channels: usize,
}

impl Exported {
    /// Reads what a chip has.
    ///
    /// # Errors
    /// When it is not there.
    pub fn read(files: &mut dyn Files) -> Result<Self, BusError> {
        Ok(Self { channels: usize::try_from(number(files, "npwm")?).unwrap_or(0) })
    }
}

/// The files of a chip.
pub trait Files: Send {
    /// Writes a file of the chip as a whole, `pwm0/period`.
    ///
    /// # Errors
    /// As the kernel says.
    fn write(&mut self, file: &str, text: &str) -> std::io::Result<()>;

    /// Reads a file of the chip.
    ///
    /// # Errors
    /// As the kernel says.
    fn read(&mut self, file: &str) -> std::io::Result<String>;
}

/// A chip's directory.
#[derive(Debug)]
pub struct Directory(PathBuf);

impl Directory {
    /// A chip by its entry or its device's path: the directory that has `npwm`, or holds the one that has it. Chip
    /// numbers move between starts, the device's path does not.
    ///
    /// # Errors
    /// When there is none.
    pub fn open(path: &Path) -> Result<Self, BusError> {
        let is_chip = |path: &Path| path.join("npwm").is_file();
        let inside = || {
            let within = [path.to_owned(), path.join("pwm")];
            let mut found: Vec<PathBuf> = within
                .iter()
                .filter_map(|folder| std::fs::read_dir(folder).ok())
                .flat_map(|entries| entries.flatten().map(|e| e.path()))
                .filter(|path| is_chip(path))
                .collect();
            found.sort();
            found.into_iter().next()
        };
        let chip = if is_chip(path) { Some(path.to_owned()) } else { inside() };
        let device = || path.display().to_string();
        chip.map(Self).ok_or_else(|| BusError { doing: "find", device: device(), fault: Fault::NoBus })
    }
}

impl Files for Directory {
    fn write(&mut self, file: &str, text: &str) -> std::io::Result<()> {
        use std::io::Write;
        // Opened for writing alone: the kernel's files may not be made.
        std::fs::File::options().write(true).open(self.0.join(file))?.write_all(text.as_bytes())
    }

    fn read(&mut self, file: &str) -> std::io::Result<String> {
        Ok(std::fs::read_to_string(self.0.join(file))?.trim().to_owned())
    }
}

/// See the module.
#[derive(Debug)]
pub struct Pwm {
    settings: Settings,
    phase: Phase,
    exported: [bool; CHANNELS],
    channels: usize,
    sent: Wanted,
    pace: Pace,
    checked_at: Duration,
}

fn failed(doing: &'static str, file: &str, error: &std::io::Error) -> BusError {
    let fault = match error.raw_os_error().map(Errno::from_raw_os_error) {
        Some(Errno::BUSY) => Fault::Busy,
        Some(Errno::ACCESS | Errno::PERM) => Fault::Denied,
        Some(Errno::NOENT | Errno::NODEV | Errno::NXIO) => Fault::NoBus,
        _ => Fault::Transfer,
    };
    BusError { doing, device: file.to_owned(), fault }
}

fn write(files: &mut dyn Files, file: &str, value: u64) -> Result<(), BusError> {
    files.write(file, &value.to_string()).map_err(|error| failed("write", file, &error))
}

fn number(files: &mut dyn Files, file: &str) -> Result<u64, BusError> {
    let text = files.read(file).map_err(|error| failed("read", file, &error))?;
    Ok(text.trim().parse().unwrap_or(0))
}

impl Pwm {
    /// What is wanted of the channels that the chip has.
    fn possible(&self, wanted: &Wanted) -> Wanted {
        let mut possible = *wanted;
        for channel in possible.iter_mut().skip(self.channels) {
            *channel = None;
        }
        possible
    }

    /// A frame, in ns.
    fn period(&self) -> u64 {
        u64::try_from(self.settings.frame.as_nanos()).unwrap_or(u64::MAX)
    }

    /// The high time of some ticks, in ns.
    fn high(&self, ticks: u16) -> u64 {
        (u64::from(ticks) * self.period() + STEPS / 2) / STEPS
    }

    /// Asks the kernel for a channel, once, and waits until its files may be written.
    fn export(
        &mut self,
        files: &mut dyn Files,
        channel: usize,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        if self.exported.get(channel).copied().unwrap_or(true) {
            return Ok(());
        }
        let enable = format!("pwm{channel}/enable");
        if files.read(&enable).is_err() {
            write(files, "export", u64::try_from(channel).unwrap_or(0))?;
        }
        let mut waited = Duration::ZERO;
        // A rule of the system gives the files to a group a moment after they have appeared.
        while let Err(error) = files.write(&enable, "0") {
            if waited >= APPEARS {
                return Err(failed("write", &enable, &error));
            }
            wait(LOOK_AGAIN);
            waited += LOOK_AGAIN;
        }
        if let Some(exported) = self.exported.get_mut(channel) {
            *exported = true;
        }
        Ok(())
    }

    /// First pulse: off, upright, period and high time in the order that never makes one longer than the other, on.
    fn engage(
        &mut self,
        files: &mut dyn Files,
        channel: usize,
        ticks: u16,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        self.export(files, channel, wait)?;
        let at = |name: &str| format!("pwm{channel}/{name}");
        write(files, &at("enable"), 0)?;
        // Not every chip can turn its output over; those that cannot are upright.
        let _ = files.write(&at("polarity"), "normal");
        let (period, high) = (self.period(), self.high(ticks));
        if period >= number(files, &at("duty_cycle"))? {
            write(files, &at("period"), period)?;
            write(files, &at("duty_cycle"), high)?;
        } else {
            write(files, &at("duty_cycle"), high)?;
            write(files, &at("period"), period)?;
        }
        write(files, &at("enable"), 1)
    }

    /// No pulse: the high time first, a frame's wait, then off, so that no pulse is cut short.
    fn stop(&self, files: &mut dyn Files, channel: usize, wait: &dyn Fn(Duration)) -> Result<(), BusError> {
        write(files, &format!("pwm{channel}/duty_cycle"), 0)?;
        wait(self.settings.frame);
        write(files, &format!("pwm{channel}/enable"), 0)
    }

    fn send(
        &mut self,
        files: &mut dyn Files,
        now: Duration,
        wanted: &Wanted,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        let next = self.pace.allowed((now, self.settings.frame), &self.sent, wanted);
        if next == self.sent {
            return Ok(());
        }
        for (channel, is) in next.iter().enumerate() {
            let Some(was) = self.sent.get(channel).copied() else { break };
            if was == *is {
                continue;
            }
            // What may have got a pulse must be released in the end, also when a write fails.
            if let Some(place) = self.sent.get_mut(channel) {
                *place = is.or(was);
            }
            match (was, *is) {
                (None, Some(ticks)) => self.engage(files, channel, ticks, wait)?,
                (_, Some(ticks)) => write(files, &format!("pwm{channel}/duty_cycle"), self.high(ticks))?,
                (_, None) => self.stop(files, channel, wait)?,
            }
            if let Some(place) = self.sent.get_mut(channel) {
                *place = *is;
            }
        }
        self.pace.written(now);
        Ok(())
    }
}

impl Driver for Pwm {
    type Way = Box<dyn Files>;

    fn of(settings: &board::Settings) -> Option<Self> {
        let board::Settings::Pwm(settings) = settings else { return None };
        Some(Self {
            settings: *settings,
            phase: Phase::Down,
            exported: [false; CHANNELS],
            channels: 0,
            sent: [None; CHANNELS],
            pace: Pace::default(),
            checked_at: Duration::ZERO,
        })
    }

    fn is_for(&self, settings: &board::Settings) -> bool {
        matches!(settings, board::Settings::Pwm(_))
    }

    fn configure(&mut self, settings: &board::Settings) {
        if let board::Settings::Pwm(settings) = settings
            && *settings != self.settings
        {
            self.settings = *settings;
            // Another frame for every channel: they are stopped and engaged anew.
            self.phase = Phase::Down;
        }
    }

    fn phase(&self) -> Phase {
        self.phase
    }

    fn sent(&self) -> Wanted {
        self.sent
    }

    fn evidence(&self) -> Option<Evidence> {
        (self.channels > 0).then_some(Evidence::Pwm(Exported { channels: self.channels }))
    }

    fn lost(&mut self) {
        self.phase = Phase::Down;
        self.exported = [false; CHANNELS];
    }

    fn service(
        &mut self,
        files: &mut Box<dyn Files>,
        now: Duration,
        wanted: &Wanted,
        wait: &dyn Fn(Duration),
    ) -> Result<Noted, BusError> {
        let files = &mut **files;
        let starts = self.phase == Phase::Down;
        if starts || now.saturating_sub(self.checked_at) >= CHECK_EVERY {
            self.checked_at = now;
            self.channels = Exported::read(files)?.channels;
        }
        if starts {
            for channel in 0..CHANNELS {
                if self.sent.get(channel).copied().flatten().is_some() {
                    // It may be gone with its chip: what is still there is stopped.
                    let _ = self.stop(files, channel, wait);
                }
            }
            self.sent = [None; CHANNELS];
            self.phase = Phase::Started;
        }
        let possible = self.possible(wanted);
        self.send(files, now, &possible, wait)?;
        Ok(if starts { Noted::Started } else { Noted::Nothing })
    }

    fn due(&self, _now: Duration, wanted: &Wanted) -> Option<Duration> {
        let possible = self.possible(wanted);
        self.pace.due(self.settings.frame, &self.sent, &possible).filter(|_| self.phase == Phase::Started)
    }

    fn release(
        &mut self,
        files: &mut Box<dyn Files>,
        stay: &Stay,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        let files = &mut **files;
        let mut first = Ok(());
        for (channel, stay) in stay.iter().enumerate() {
            let sent = self.sent.get(channel).copied().flatten().is_some();
            if sent && !stay {
                let done = self.stop(files, channel, wait);
                if done.is_ok()
                    && let Some(place) = self.sent.get_mut(channel)
                {
                    *place = None;
                }
                first = first.and(done);
            }
        }
        first
    }
}
