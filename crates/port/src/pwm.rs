//! The driver of a PWM chip of the Linux kernel, by its files: `/sys/class/pwm/pwmchipN` or the device behind it.
//!
//! The kernel gives back what was asked, not what the chip does, so nothing is measured here. Pulses go on after
//! the process ends; some chips have one period for all channels, so a board has one frame rate.

use crate::board::{
    self, Decision, Driver, Evidence, Found, Lapse, Noted, Orders, Pace, Phase, Stay, Wanted,
};
use crate::claim;
use crate::clock::Clock;
use crate::i2c::{BusError, Fault};
use rustix::io::Errno;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// A tick is this share of a frame: what is asked for is as fine as that, what the chip does is not known.
pub const STEPS: u64 = 1 << 16;
/// Files of a channel that was asked for may take this long until they may be written.
const APPEARS: Duration = Duration::from_secs(1);
const LOOK_AGAIN: Duration = Duration::from_millis(10);
/// It is looked at this often whether the chip is still there.
const CHECK_EVERY: Duration = Duration::from_secs(1);

/// The channels that are used of a chip.
pub const CHANNELS: usize = 16;
/// What runs on each of them.
type Runs = [Option<u16>; CHANNELS];

/// What a board of this kind is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PwmSettings {
    /// The time from one pulse to the next.
    pub frame: Duration,
}

/// What the kernel says of a chip.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Exported {
    /// How many channels it has.
    pub channels: usize,
    /// What runs on those that are exported, in ticks of [`STEPS`] a frame.
    pub runs: Runs,
}

impl Exported {
    /// Reads what a chip has.
    ///
    /// # Errors
    /// When it is not there.
    pub fn read(files: &mut dyn Files) -> Result<Self, BusError> {
        let channels = count(files)?;
        let runs = runs(files, channels).map(|running| running.map(|(ticks, _)| ticks));
        Ok(Self { channels, runs })
    }
}

/// What runs by the kernel's word, in ticks, with the frame it has in ns. A channel that is not exported cannot be read:
/// nobody has asked for it.
fn runs(files: &mut dyn Files, channels: usize) -> [Option<(u16, u64)>; CHANNELS] {
    let mut found = [None; CHANNELS];
    for (channel, found) in found.iter_mut().enumerate().take(channels) {
        let mut at = |name: &str| number(files, &format!("pwm{channel}/{name}")).unwrap_or(0);
        if at("enable") == 0 {
            continue;
        }
        let (high, period) = (at("duty_cycle"), at("period"));
        if high > 0 && period > 0 {
            let ticks = (u128::from(high) * u128::from(STEPS) + u128::from(period) / 2) / u128::from(period);
            *found = Some((u16::try_from(ticks).unwrap_or(u16::MAX), period));
        }
    }
    found
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

    /// Whether this user may write to it.
    fn is_open_to_writing(&self) -> bool {
        true
    }

    /// Claims the chip for this program, before anything is written.
    ///
    /// # Errors
    /// When another program has it.
    fn claim(&mut self) -> Result<(), BusError> {
        Ok(())
    }
}

/// A chip's directory.
#[derive(Debug)]
pub struct Directory {
    path: PathBuf,
    /// The folder itself, once it is claimed.
    claim: Option<File>,
}

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
        chip.map(|path| Self { path, claim: None }).ok_or_else(|| BusError {
            doing: "find",
            device: device(),
            fault: Fault::NoBus,
        })
    }
}

impl Files for Directory {
    fn claim(&mut self) -> Result<(), BusError> {
        if self.claim.is_some() {
            return Ok(());
        }
        let failed = |fault| BusError { doing: "claim", device: self.path.display().to_string(), fault };
        // The real folder, whichever link led to it.
        let real = self.path.canonicalize().unwrap_or_else(|_| self.path.clone());
        let folder = claim::open(&real).map_err(|_| failed(Fault::NoBus))?;
        claim::whole(&folder).map_err(|taken| failed(Fault::Taken(taken)))?;
        self.claim = Some(folder);
        Ok(())
    }

    fn is_open_to_writing(&self) -> bool {
        use rustix::fs::{Access, AtFlags, CWD, accessat};
        accessat(CWD, self.path.join("export"), Access::WRITE_OK, AtFlags::EACCESS).is_ok()
    }

    fn write(&mut self, file: &str, text: &str) -> std::io::Result<()> {
        use std::io::Write;
        // Opened for writing alone: the kernel's files may not be made.
        std::fs::File::options().write(true).open(self.path.join(file))?.write_all(text.as_bytes())
    }

    fn read(&mut self, file: &str) -> std::io::Result<String> {
        Ok(std::fs::read_to_string(self.path.join(file))?.trim().to_owned())
    }
}

/// See the module.
#[derive(Debug)]
pub struct Pwm {
    settings: PwmSettings,
    phase: Phase,
    exported: [bool; CHANNELS],
    channels: usize,
    sent: Runs,
    pace: Pace,
    checked_at: Duration,
    was_up: bool,
    /// Another frame was asked for: every channel is stopped and engaged anew.
    retimed: bool,
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

/// How many channels a chip has.
fn count(files: &mut dyn Files) -> Result<usize, BusError> {
    Ok(usize::try_from(number(files, "npwm")?).unwrap_or(0))
}

impl Pwm {
    /// What is wanted of the channels that the chip has.
    fn possible(&self, wanted: &Wanted) -> Runs {
        let mut possible: Runs = wanted.first();
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

    /// Whether what runs is what was told: a pulse of no length is none.
    fn is_as_told(&self, runs: &Runs) -> bool {
        let told = |sent: Option<u16>| sent.filter(|ticks| *ticks > 0);
        self.sent.iter().zip(runs).all(|(sent, runs)| told(*sent) == *runs)
    }

    /// Whether every channel that would be told another pulse now still gives the last one: that is then where it stands.
    fn still_runs(&self, files: &mut dyn Files, now: Duration, wanted: &Runs) -> Result<bool, BusError> {
        let due = self.pace.due(self.settings.frame, &self.sent, wanted).is_some_and(|due| due <= now);
        for (channel, (sent, wanted)) in self.sent.iter().zip(wanted).enumerate().filter(|_| due) {
            let moves = sent.is_some_and(|ticks| ticks > 0) && wanted.is_some() && sent != wanted;
            if moves && number(files, &format!("pwm{channel}/enable"))? == 0 {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// What runs, and whether all of it has the frame that is wanted.
    fn runs(&self, files: &mut dyn Files) -> (Runs, bool) {
        let found = runs(files, self.channels);
        let ours = found.iter().flatten().all(|(_, period)| *period == self.period());
        (found.map(|running| running.map(|(ticks, _)| ticks)), ours)
    }

    /// Looks what runs before anything is written. Pulses that this program did not tell are asked about.
    fn come_up(
        &mut self,
        files: &mut dyn Files,
        now: Duration,
        wait: &dyn Fn(Duration),
    ) -> Result<Noted, BusError> {
        self.checked_at = now;
        files.claim()?;
        self.channels = count(files)?;
        if std::mem::take(&mut self.retimed) {
            for channel in 0..CHANNELS {
                if self.sent.get(channel).copied().flatten().is_some() {
                    // It may be gone with its chip: what is still there is stopped.
                    let _ = self.stop(files, channel, wait);
                }
            }
            self.sent = [None; CHANNELS];
            self.phase = Phase::Started;
            return Ok(Noted::Started);
        }
        let (runs, ours) = self.runs(files);
        let resumes = self.was_up && ours;
        if !resumes && runs.iter().any(Option::is_some) {
            let ticks = runs.into_iter().collect();
            self.phase = Phase::Asking(Found::Pulsing { ticks, adoptable: ours });
            return Ok(Noted::Asks);
        }
        self.sent = runs;
        self.exported = runs.map(|ticks| ticks.is_some());
        self.phase = Phase::Started;
        Ok(if std::mem::replace(&mut self.was_up, true) { Noted::Resumed } else { Noted::Started })
    }

    fn send(
        &mut self,
        files: &mut dyn Files,
        now: Duration,
        wanted: &Runs,
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

    fn of(settings: &board::BoardSettings) -> Option<Self> {
        let board::BoardSettings::Pwm(settings) = settings else { return None };
        Some(Self {
            settings: *settings,
            phase: Phase::Down,
            exported: [false; CHANNELS],
            channels: 0,
            sent: [None; CHANNELS],
            pace: Pace::default(),
            checked_at: Duration::ZERO,
            was_up: false,
            retimed: false,
        })
    }

    fn is_for(&self, settings: &board::BoardSettings) -> bool {
        matches!(settings, board::BoardSettings::Pwm(_))
    }

    fn configure(&mut self, settings: &board::BoardSettings) {
        if let board::BoardSettings::Pwm(settings) = settings
            && *settings != self.settings
        {
            self.settings = *settings;
            if self.was_up {
                (self.phase, self.retimed) = (Phase::Down, true);
            }
        }
    }

    fn phase(&self) -> Phase {
        self.phase.clone()
    }

    fn sent(&self) -> Wanted {
        self.sent.into_iter().collect()
    }

    fn evidence(&self) -> Option<Evidence> {
        let (channels, runs) = (self.channels, self.sent);
        (channels > 0).then_some(Evidence::Pwm(Exported { channels, runs }))
    }

    fn lost(&mut self) {
        self.phase = Phase::Down;
        self.exported = [false; CHANNELS];
    }

    fn service(
        &mut self,
        files: &mut Box<dyn Files>,
        now: Duration,
        orders: &Orders,
        clock: &dyn Clock,
    ) -> Result<Noted, BusError> {
        let files = &mut **files;
        match &self.phase {
            Phase::Asking(_) => return Ok(Noted::Nothing),
            Phase::Down => return self.come_up(files, now, &|time| clock.wait(time)),
            Phase::Started => {}
        }
        if now.saturating_sub(self.checked_at) >= CHECK_EVERY {
            self.checked_at = now;
            self.channels = count(files)?;
            let (runs, _) = self.runs(files);
            if !self.is_as_told(&runs) {
                self.sent = runs;
                return Ok(Noted::Lapsed(Lapse::Overwritten));
            }
        }
        let possible = self.possible(&orders.wanted);
        if !self.still_runs(files, now, &possible)? {
            let (runs, _) = self.runs(files);
            self.sent = runs;
            return Ok(Noted::Lapsed(Lapse::Overwritten));
        }
        self.send(files, now, &possible, &|time| clock.wait(time))?;
        Ok(Noted::Nothing)
    }

    fn decide(
        &mut self,
        decision: Decision,
        files: &mut Box<dyn Files>,
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let Phase::Asking(Found::Pulsing { ticks, adoptable }) = &self.phase else { return Ok(()) };
        let (ticks, adoptable): (Runs, bool) = (ticks.first(), *adoptable);
        self.sent = ticks;
        self.exported = ticks.map(|ticks| ticks.is_some());
        if decision == Decision::Release || !adoptable {
            for channel in (0..CHANNELS).filter(|n| ticks.get(*n).copied().flatten().is_some()) {
                self.stop(&mut **files, channel, &|time| clock.wait(time))?;
                if let Some(place) = self.sent.get_mut(channel) {
                    *place = None;
                }
            }
        }
        (self.phase, self.was_up) = (Phase::Started, true);
        Ok(())
    }

    fn read_back(&mut self, files: &mut Box<dyn Files>, _clock: &dyn Clock) -> Result<bool, BusError> {
        let chip = Exported::read(&mut **files)?;
        (self.channels, self.sent) = (chip.channels, chip.runs);
        Ok(true)
    }

    fn due(&self, _now: Duration, wanted: &Wanted) -> Option<Duration> {
        let possible = self.possible(wanted);
        self.pace.due(self.settings.frame, &self.sent, &possible).filter(|_| self.phase == Phase::Started)
    }

    fn release(
        &mut self,
        files: &mut Box<dyn Files>,
        stay: &Stay,
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let files = &mut **files;
        let mut first = Ok(());
        let may = board::may_pulse(self);
        for channel in 0..CHANNELS {
            if may.get(channel) && !stay.get(channel) {
                let done = self.stop(files, channel, &|time| clock.wait(time));
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
