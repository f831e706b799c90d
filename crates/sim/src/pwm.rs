//! A simulated PWM chip of the kernel: its files, with the kernel's own refusals.

use crate::faults::{Faults, Kind};
use crate::plugged::{Look, Plugged, Signal};
use crate::truth::Part;
use rustix::io::Errno;
use std::io::{Error, Result};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::pwm::Files;
use wasvolta_port::{BusError, Clock, Fault};

/// A chip has so many channels.
const CHANNELS: usize = 4;
/// The files of a channel may be written so long after they appear.
const OWNED_AFTER: Duration = Duration::from_millis(25);

#[derive(Debug, Clone, Copy, Default)]
struct Channel {
    exported_at: Option<Duration>,
    period: u64,
    duty: u64,
    enabled: bool,
}

struct Inner {
    channels: [Channel; CHANNELS],
    plugged: Plugged,
    written: Vec<(String, String)>,
    seed: u64,
}

/// A handle to a chip; all handles are the same one.
#[derive(Clone)]
pub struct PwmChip {
    inner: Arc<Mutex<Inner>>,
    clock: Arc<dyn Clock>,
    faults: Arc<Faults>,
}

/// A chip is not on a bus: what strikes one address does not strike it.
const NO_ADDRESS: u8 = 0;

impl PwmChip {
    /// A chip with nothing exported.
    pub fn new(seed: u64, clock: Arc<dyn Clock>, faults: Arc<Faults>) -> Self {
        let (plugged, written) = (Plugged::new(clock.now()), Vec::new());
        let inner = Inner { channels: [Channel::default(); CHANNELS], plugged, written, seed };
        Self { inner: Arc::new(Mutex::new(inner)), clock, faults }
    }

    /// Makes sure that a part hangs on a channel.
    pub fn ensure(&self, channel: u8, part: Part) {
        let mut inner = self.lock();
        let seed = inner.seed ^ 0x9A17;
        inner.plugged.ensure(seed, channel, part);
    }

    /// Opens it as its path would be.
    ///
    /// # Errors
    /// When a fault keeps it from being there.
    pub fn open(&self) -> std::result::Result<Self, BusError> {
        if self.is(Kind::NoBus) || self.is(Kind::Pulled) || self.is(Kind::Absent) {
            let device = "the simulated chip".to_owned();
            return Err(BusError { doing: "find", device, fault: Fault::NoBus });
        }
        Ok(self.clone())
    }

    /// The pulse a channel gives now, in µs.
    pub fn pulse_us(&self, channel: usize) -> Option<f64> {
        signal(&self.caught_up().channels, channel).map(|signal| signal.high * 1e6)
    }

    /// One look at what is on a channel.
    pub fn look(&self, channel: u8) -> Option<Look> {
        let inner = self.caught_up();
        inner.plugged.look(channel, inner.seed)
    }

    /// Every write that was taken: file and text, in order.
    pub fn written(&self) -> Vec<(String, String)> {
        self.lock().written.clone()
    }

    fn is(&self, kind: Kind) -> bool {
        self.faults.on().iter().any(|fault| fault.strikes(kind, NO_ADDRESS))
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn caught_up(&self) -> MutexGuard<'_, Inner> {
        let now = self.clock.now();
        let limp = self.is(Kind::RailDip) || self.is(Kind::PlugOut);
        let mut inner = self.lock();
        let Inner { channels, plugged, .. } = &mut *inner;
        while plugged.next_step(now).is_some() {
            plugged.step(|channel| signal(channels, channel).filter(|_| !limp));
        }
        inner
    }
}

/// What a channel gives.
fn signal(channels: &[Channel], channel: usize) -> Option<Signal> {
    let channel = channels.get(channel).filter(|c| c.enabled && c.duty > 0)?;
    let seconds = |nanoseconds| Duration::from_nanos(nanoseconds).as_secs_f64();
    Some(Signal { high: seconds(channel.duty), frame: seconds(channel.period) })
}

fn refused<T>(errno: Errno) -> Result<T> {
    Err(Error::from_raw_os_error(errno.raw_os_error()))
}

/// A channel's number and the name of one of its files.
fn place(file: &str) -> Option<(usize, &str)> {
    let (channel, name) = file.strip_prefix("pwm")?.split_once('/')?;
    Some((channel.parse().ok()?, name))
}

impl Files for PwmChip {
    fn write(&mut self, file: &str, text: &str) -> Result<()> {
        if self.is(Kind::NoBus) || self.is(Kind::Pulled) || self.is(Kind::Absent) {
            return refused(Errno::NOENT);
        }
        if self.is(Kind::Denied) {
            return refused(Errno::ACCESS);
        }
        let (now, held) = (self.clock.now(), self.is(Kind::Held));
        let mut inner = self.caught_up();
        if file == "export" {
            let channel = text.parse().ok().and_then(|n: usize| inner.channels.get_mut(n));
            let Some(channel) = channel else { return refused(Errno::NODEV) };
            if held || channel.exported_at.is_some() {
                return refused(Errno::BUSY);
            }
            channel.exported_at = Some(now);
        } else {
            let Some((channel, name)) = place(file) else { return refused(Errno::NOENT) };
            let channel = inner.channels.get_mut(channel).filter(|c| c.exported_at.is_some());
            let Some(channel) = channel else { return refused(Errno::NOENT) };
            if channel.exported_at.is_some_and(|at| now < at + OWNED_AFTER) {
                return refused(Errno::ACCESS);
            }
            set(channel, name, text)?;
        }
        inner.written.push((file.to_owned(), text.to_owned()));
        Ok(())
    }

    fn read(&mut self, file: &str) -> Result<String> {
        if self.is(Kind::NoBus) || self.is(Kind::Pulled) || self.is(Kind::Absent) {
            return refused(Errno::NOENT);
        }
        if file == "npwm" {
            return Ok(CHANNELS.to_string());
        }
        let inner = self.caught_up();
        let found = place(file).and_then(|(n, name)| Some((inner.channels.get(n)?, name)));
        match found.filter(|(channel, _)| channel.exported_at.is_some()) {
            Some((channel, "period")) => Ok(channel.period.to_string()),
            Some((channel, "duty_cycle")) => Ok(channel.duty.to_string()),
            Some((channel, "enable")) => Ok(u8::from(channel.enabled).to_string()),
            Some((_, "polarity")) => Ok("normal".to_owned()),
            _ => refused(Errno::NOENT),
        }
    }
}

/// Takes a value as the kernel does: never a high time over the period, polarity only while off.
fn set(channel: &mut Channel, name: &str, text: &str) -> Result<()> {
    let number: std::result::Result<u64, _> = text.parse();
    match (name, number) {
        ("period", Ok(period)) if period >= channel.duty => channel.period = period,
        ("duty_cycle", Ok(duty)) if duty <= channel.period => channel.duty = duty,
        ("enable", Ok(0)) => channel.enabled = false,
        ("enable", Ok(1)) if channel.period > 0 => channel.enabled = true,
        ("polarity", Err(_)) if !channel.enabled => {}
        ("polarity", Err(_)) => return refused(Errno::BUSY),
        _ => return refused(Errno::INVAL),
    }
    Ok(())
}
