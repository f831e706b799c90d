//! What every kind of board has in common: channels that are given pulses or none, and how it stands.
//!
//! A driver brings one board to what is wanted, over the way that its kind needs: a bus, a line, a directory.

use crate::expander::{self, Seen};
use crate::i2c::BusError;
use crate::{firmata, pwm};
use std::time::Duration;

/// The most channels that a board of any kind has.
pub const CHANNELS: usize = 72;

/// Ticks for every channel, or no pulse. What a tick is worth is the board's.
pub type Wanted = [Option<u16>; CHANNELS];

/// Channels that keep their pulse when the program ends.
pub type Stay = [bool; CHANNELS];

/// What a board is to be, by its kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BoardSettings {
    /// An expander on an I²C bus.
    Expander(expander::ExpanderSettings),
    /// A microcontroller that speaks Firmata on a line.
    Firmata(firmata::FirmataSettings),
    /// A PWM chip of the kernel.
    Pwm(pwm::PwmSettings),
}

impl BoardSettings {
    /// The address on its bus; none for a board that is alone on its port.
    pub const fn address(&self) -> Option<u8> {
        match self {
            Self::Expander(settings) => Some(settings.address),
            Self::Firmata(_) | Self::Pwm(_) => None,
        }
    }
}

/// What the maker says to pulses that run already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Keep them.
    Adopt,
    /// Stop them.
    Release,
}

/// How a board stands.
#[expect(clippy::large_enum_variant, reason = "one a board, copied with all else that is known of it")]
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Phase {
    /// Not started yet, or started no more.
    #[default]
    Down,
    /// It was found in a state that only the maker may change.
    Asking(Found),
    /// It does as it is told.
    Started,
}

/// What was found on a board before the first write.
#[expect(clippy::large_enum_variant, reason = "one a board, copied with all else that is known of it")]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// Pulses run; the ticks of each channel.
    Pulsing {
        /// What runs.
        ticks: Wanted,
        /// Its clock is the one wanted, so that they can be kept.
        adoptable: bool,
    },
    /// The chip's own addresses were changed: it may not be this kind of chip.
    Unfamiliar,
}

/// Something worth a line in the log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Noted {
    /// Nothing.
    Nothing,
    /// The start sequence is over: no channel has a pulse.
    Started,
    /// It was out of reach, and has gone on as it was told: what that is was read back.
    Resumed,
    /// The maker is asked.
    Asks,
    /// The chip was not as it was left; it has been told everything anew.
    Lapsed(Lapse),
}

/// How a started chip was found not to be as it was left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Lapse {
    /// As after power-on.
    Reset,
    /// Asleep.
    Asleep,
    /// At another frame rate.
    OtherRate,
    /// Its outputs work in another way.
    OtherOutputs,
    /// A channel holds what was never told.
    Overwritten,
}

impl Lapse {
    /// What was found, as it goes on behind the board's name.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Reset => "had restarted: its supply dipped, or its plug is loose",
            Self::Asleep => "was found asleep: something else put it to sleep",
            Self::OtherRate => "was found at another frame rate: something else set it",
            Self::OtherOutputs => "was found with its outputs set otherwise: something else did that",
            Self::Overwritten => "held what it was never told: another program writes to it",
        }
    }

    /// Whether the chip had to be started again, which released its channels.
    pub const fn is_restart(self) -> bool {
        !matches!(self, Self::Overwritten)
    }
}

/// What a board has said of itself when it was last asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Evidence {
    /// An expander's registers.
    Expander(Seen),
    /// A microcontroller's firmware.
    Firmata(firmata::Firmware),
    /// A chip of the kernel.
    Pwm(pwm::Exported),
}

impl Evidence {
    /// An expander's registers, if it is one.
    pub const fn registers(&self) -> Option<&Seen> {
        match self {
            Self::Expander(seen) => Some(seen),
            Self::Firmata(_) | Self::Pwm(_) => None,
        }
    }
}

/// What was told, but for what is to have no pulse any more.
pub fn unchanged(sent: &Wanted, wanted: &Wanted) -> Wanted {
    let mut same = *sent;
    same.iter_mut().zip(wanted).filter(|(_, wanted)| wanted.is_none()).for_each(|(same, _)| *same = None);
    same
}

/// Drives one board over a way to it.
pub trait Driver: Send + Sized {
    /// The way: a bus, a line, the files of a chip.
    type Way: Send;

    /// Its supply, and that of what hangs on it, may come by the same plug as its way: found as after power-on after it
    /// was out of reach, both may have fallen.
    const POWERED_BY_ITS_WAY: bool = false;

    /// It may read pins beside those that it drives.
    const READS: bool = false;

    /// Hands on what was read since the last call, by the codes that a link has for its channels.
    fn take_read(&mut self, _each: &mut dyn FnMut(u16, f64)) {}

    /// A driver that has not spoken to its board yet; none for settings of another kind.
    fn of(settings: &BoardSettings) -> Option<Self>;

    /// Whether these settings are for the board that it drives, though they may differ in other things.
    fn is_for(&self, settings: &BoardSettings) -> bool;

    /// Its address, where several such boards share a way.
    fn address(&self) -> Option<u8> {
        None
    }

    /// Takes the settings of its board; whatever must be said anew is said at the next service.
    fn configure(&mut self, settings: &BoardSettings);

    /// How the board stands.
    fn phase(&self) -> Phase;

    /// What the board was last told.
    fn sent(&self) -> Wanted;

    /// What it has said of itself.
    fn evidence(&self) -> Option<Evidence>;

    /// The board cannot be reached: start anew when it can.
    fn lost(&mut self);

    /// Answers what [`Phase::Asking`] asks.
    ///
    /// # Errors
    /// When the way refuses.
    fn decide(
        &mut self,
        decision: Decision,
        way: &mut Self::Way,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError>;

    /// Reads back what its channels have, and takes that for what they were told: what goes on all the same is released
    /// by the next release. Whether the board can say.
    ///
    /// # Errors
    /// When the way refuses, or the board does not answer.
    fn read_back(&mut self, way: &mut Self::Way, wait: &dyn Fn(Duration)) -> Result<bool, BusError>;

    /// Brings the board towards `wanted`; to be called whenever that changes, when it is due, and now and then.
    ///
    /// # Errors
    /// When the way or the board refuses; call [`Driver::lost`] then and try again later.
    fn service(
        &mut self,
        way: &mut Self::Way,
        now: Duration,
        wanted: &Wanted,
        wait: &dyn Fn(Duration),
    ) -> Result<Noted, BusError>;

    /// Whether it has held back what is wanted for longer than a value may wait, for it does not know whether the last one
    /// was heard. What goes on meanwhile must not go on without it.
    fn holds_back(&self, _now: Duration, _wanted: &Wanted) -> bool {
        false
    }

    /// When the next service can do something that this one could not.
    fn due(&self, now: Duration, wanted: &Wanted) -> Option<Duration>;

    /// Releases every channel that has a pulse, told or found, and is not to stay. All are tried, whatever fails.
    ///
    /// # Errors
    /// The first failure.
    fn release(&mut self, way: &mut Self::Way, stay: &Stay, wait: &dyn Fn(Duration)) -> Result<(), BusError>;
}

/// Channels that may have a pulse: those that were told one, and those on which one was found.
pub fn may_pulse<D: Driver>(driver: &D) -> [bool; CHANNELS] {
    let mut may = driver.sent().map(|ticks| ticks.is_some());
    if let Phase::Asking(Found::Pulsing { ticks, .. }) = driver.phase() {
        may.iter_mut().zip(ticks).for_each(|(may, ticks)| *may |= ticks.is_some());
    }
    may
}

/// Time between the first pulses of two servos, so that they do not all draw at once.
const ENGAGE_APART: Duration = Duration::from_millis(80);

/// When channels may change: releases always, pulses once a frame, first pulses one after another.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Pace {
    engaged_at: Option<Duration>,
    written_at: Option<Duration>,
}

impl Pace {
    /// What may be told now, of what is wanted.
    pub(crate) fn allowed<const N: usize>(
        &mut self,
        (now, frame): (Duration, Duration),
        sent: &[Option<u16>; N],
        wanted: &[Option<u16>; N],
    ) -> [Option<u16>; N] {
        let frame_over = self.written_at.is_none_or(|at| now >= at + frame);
        let mut may_engage = self.engaged_at.is_none_or(|at| now >= at + ENGAGE_APART);
        let mut next = *sent;
        for (next, &wanted) in next.iter_mut().zip(wanted) {
            match (*next, wanted) {
                (Some(_), None) => *next = None,
                (Some(_), Some(_)) if frame_over => *next = wanted,
                (None, Some(_)) if may_engage => {
                    *next = wanted;
                    may_engage = false;
                    self.engaged_at = Some(now);
                }
                _ => {}
            }
        }
        next
    }

    /// Something was told.
    pub(crate) const fn written(&mut self, now: Duration) {
        self.written_at = Some(now);
    }

    /// When more may be told, while something is still wanted.
    pub(crate) fn due<const N: usize>(
        &self,
        frame: Duration,
        sent: &[Option<u16>; N],
        wanted: &[Option<u16>; N],
    ) -> Option<Duration> {
        (sent != wanted).then(|| {
            let next_frame = self.written_at.map_or(Duration::ZERO, |at| at + frame);
            let engaging = sent.iter().zip(wanted).all(|(sent, wanted)| sent == wanted || sent.is_none());
            let next_engage = self.engaged_at.map_or(Duration::ZERO, |at| at + ENGAGE_APART);
            if engaging { next_frame.max(next_engage) } else { next_frame }
        })
    }
}
