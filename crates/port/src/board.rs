//! What every kind of board has in common: channels that are given pulses or none, and how it stands.
//!
//! A driver brings one board to what is wanted, over the way that its kind needs: a bus, a line, a directory.

use crate::clock::Clock;
use crate::expander::{self, Seen};
use crate::i2c::BusError;
use crate::smart::errand::Errand;
use crate::{firmata, pwm, smart};
use std::sync::Arc;
use std::time::Duration;

/// Something of each channel of a board, by its number; beyond the last that has something, nothing. A board has as many
/// channels as it has: nothing is reserved for more.
#[derive(Debug, Clone, Default)]
pub struct Channels<T>(Vec<T>);

impl<T: Copy + Default + PartialEq> Channels<T> {
    /// Of no channel anything.
    pub const NONE: Self = Self(Vec::new());

    /// What a channel has.
    pub fn get(&self, channel: usize) -> T {
        self.0.get(channel).copied().unwrap_or_default()
    }

    /// Gives a channel something.
    pub fn set(&mut self, channel: usize, value: T) {
        if let Some(place) = self.0.get_mut(channel) {
            *place = value;
        } else if value != T::default() {
            self.0.resize(channel, T::default());
            self.0.push(value);
        }
    }

    /// Takes all away; the room stays.
    pub fn clear(&mut self) {
        self.0.clear();
    }

    /// The same as another, in the room that there is.
    pub fn copy_from(&mut self, other: &Self) {
        self.0.clone_from(&other.0);
    }

    /// Each channel up to the last that has something, with that.
    pub fn iter(&self) -> impl Iterator<Item = (usize, T)> + '_ {
        self.0.iter().copied().enumerate()
    }

    /// The channels that have something.
    pub fn used(&self) -> impl Iterator<Item = usize> + '_ {
        self.iter().filter(|(_, value)| *value != T::default()).map(|(channel, _)| channel)
    }

    /// The first so many, as a list.
    pub fn first<const N: usize>(&self) -> [T; N] {
        std::array::from_fn(|channel| self.get(channel))
    }
}

impl<T: Copy + Default + PartialEq> PartialEq for Channels<T> {
    fn eq(&self, other: &Self) -> bool {
        let most = self.0.len().max(other.0.len());
        (0..most).all(|channel| self.get(channel) == other.get(channel))
    }
}

impl<T: Copy + Default + Eq> Eq for Channels<T> {}

impl<T: Copy + Default + PartialEq> FromIterator<T> for Channels<T> {
    fn from_iter<I: IntoIterator<Item = T>>(values: I) -> Self {
        Self(values.into_iter().collect())
    }
}

impl<T: Copy + Default + PartialEq> FromIterator<(usize, T)> for Channels<T> {
    fn from_iter<I: IntoIterator<Item = (usize, T)>>(values: I) -> Self {
        let mut channels = Self::NONE;
        for (channel, value) in values {
            channels.set(channel, value);
        }
        channels
    }
}

/// Steps for every channel, or no pulse. What a step is worth is the board's: ticks of its clock, or counts.
pub type Wanted = Channels<Option<u16>>;

/// Channels that keep their pulse when the program ends.
pub type Stay = Channels<bool>;

/// What channels are to be told.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Orders {
    /// Where each is to be.
    pub wanted: Wanted,
    /// How fast it goes there, in steps a second, where a board takes that.
    pub speeds: Channels<f32>,
}

impl Orders {
    /// Places without speeds, for boards that take none.
    pub const fn of(wanted: Wanted) -> Self {
        Self { wanted, speeds: Channels::NONE }
    }
}

/// What a board is to be, by its kind.
#[derive(Debug, Clone, PartialEq)]
pub enum BoardSettings {
    /// An expander on an I²C bus.
    Expander(expander::ExpanderSettings),
    /// A microcontroller that speaks Firmata on a line.
    Firmata(firmata::FirmataSettings),
    /// A PWM chip of the kernel.
    Pwm(pwm::PwmSettings),
    /// A bus of smart servos.
    Smart(Arc<smart::SmartSettings>),
}

impl BoardSettings {
    /// The address on its bus; none for a board that is alone on its port.
    pub const fn address(&self) -> Option<u8> {
        match self {
            Self::Expander(settings) => Some(settings.address),
            Self::Firmata(_) | Self::Pwm(_) | Self::Smart(_) => None,
        }
    }
}

/// What the maker says to pulses that run already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decision {
    /// Goes on with the pulses that were found, as they are.
    Adopt,
    /// Stops the pulses that were found, and starts the board anew.
    Release,
}

/// How a board stands.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
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
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Found {
    /// Pulses run; the ticks of each channel.
    Pulsing {
        /// The ticks of each channel that pulses.
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
    /// Nothing has happened that is worth one.
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
    /// Its oscillator stands: nothing is sent.
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
            Self::Overwritten => "held what was never sent: another program writes to it",
        }
    }

    /// Whether the chip had to be started again, which released its channels.
    pub const fn is_restart(self) -> bool {
        !matches!(self, Self::Overwritten)
    }
}

/// What a board has said of itself when it was last asked.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Evidence {
    /// An expander's registers.
    Expander(Seen),
    /// A microcontroller's firmware.
    Firmata(firmata::Firmware),
    /// A chip of the kernel.
    Pwm(pwm::Exported),
    /// What was seen on a bus.
    Smart(smart::BusSeen),
}

impl Evidence {
    /// An expander's registers, if it is one.
    pub const fn registers(&self) -> Option<&Seen> {
        match self {
            Self::Expander(seen) => Some(seen),
            Self::Firmata(_) | Self::Pwm(_) | Self::Smart(_) => None,
        }
    }
}

/// How what hangs on a channel stands, where it can say so itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Stand {
    /// It was not asked yet.
    #[default]
    Unasked,
    /// It does not answer.
    Silent,
    /// It says that it is another model than it should be: nothing is written to it.
    OtherModel(u16),
    /// Which model it may be was never said: nothing is written to it.
    UnknownModel(u16),
    /// It is set to be driven otherwise than by places: nothing is written to it.
    OtherMode(u32),
    /// It is set to answer less than everything: nothing is written to it.
    Curt,
    /// It may push with nothing, as after an overload: nothing is written to it.
    Weak,
    /// Its drive is off.
    Limp,
    /// Its drive is on.
    Stiff,
}

impl Stand {
    /// Whether it answers.
    pub const fn answers(self) -> bool {
        !matches!(self, Self::Unasked | Self::Silent)
    }

    /// Whether it may be driven.
    pub const fn may_drive(self) -> bool {
        matches!(self, Self::Limp | Self::Stiff)
    }
}

/// What a smart servo says of itself.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Feedback {
    /// How it stands.
    pub stand: Stand,
    /// Where it is, in its counts.
    pub position: f64,
    /// When it said so; none before it did.
    pub at: Option<Duration>,
    /// How often it was turned over the seam of its ring since it was first heard, upwards counted.
    pub turns: i32,
    /// How fast it turns, in counts a second.
    pub speed: f32,
    /// How hard it pushes, in percent.
    pub load: f32,
    /// Its supply, in volts.
    pub volts: f32,
    /// Its temperature, in °C.
    pub celsius: f32,
    /// What is wrong with it, a bit each.
    pub faults: u8,
    /// When it said the last five.
    pub looked_at: Option<Duration>,
    /// The model that it says it is.
    pub model: u16,
    /// Its own limits, in counts, where it has any.
    pub limits: Option<(i32, i32)>,
    /// How often what it was told may not have arrived, or stood no longer.
    pub interruptions: u32,
    /// The last answer that did not come had something else in its place: noise, or two servos with one id.
    pub garbled: bool,
    /// Answers of it that did not come, so far.
    pub missed: u32,
    /// How often it would not drive though it was told to.
    pub refusals: u32,
}

/// What was told, but for what is to have no pulse any more.
pub fn unchanged(sent: &Wanted, wanted: &Wanted) -> Wanted {
    sent.iter().map(|(channel, sent)| sent.filter(|_| wanted.get(channel).is_some())).collect()
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
    fn decide(&mut self, decision: Decision, way: &mut Self::Way, clock: &dyn Clock) -> Result<(), BusError>;

    /// Reads back what its channels have, and takes that for what they were told: what goes on all the same is released
    /// by the next release. Whether the board can say.
    ///
    /// # Errors
    /// When the way refuses, or the board does not answer.
    fn read_back(&mut self, way: &mut Self::Way, clock: &dyn Clock) -> Result<bool, BusError>;

    /// Brings the board towards what is ordered; to be called whenever that changes, when it is due, and now and then.
    ///
    /// # Errors
    /// When the way or the board refuses; call [`Driver::lost`] then and try again later.
    fn service(
        &mut self,
        way: &mut Self::Way,
        now: Duration,
        orders: &Orders,
        clock: &dyn Clock,
    ) -> Result<Noted, BusError>;

    /// Whether it has held back what is wanted for longer than a value may wait, for it does not know whether the last one
    /// was heard. What goes on meanwhile must not go on without it.
    fn holds_back(&self, _now: Duration, _wanted: &Wanted) -> bool {
        false
    }

    /// What those on its channels say of themselves, each with its channel.
    fn feedback(&self, _each: &mut dyn FnMut(usize, &Feedback)) {}

    /// Lends its way to an errand, once for each. A board that is no bus of smart servos has none to lend.
    fn errand(&mut self, errand: &Arc<Errand>) {
        errand.end(Err("this board is not a bus of smart servos".to_owned()));
    }

    /// When the next service can do something that this one could not.
    fn due(&self, now: Duration, wanted: &Wanted) -> Option<Duration>;

    /// Releases every channel that has a pulse, told or found, and is not to stay. All are tried, whatever fails.
    ///
    /// # Errors
    /// The first failure.
    fn release(&mut self, way: &mut Self::Way, stay: &Stay, clock: &dyn Clock) -> Result<(), BusError>;
}

/// Channels that may have a pulse: those that were told one, and those on which one was found.
pub fn may_pulse<D: Driver>(driver: &D) -> Channels<bool> {
    let mut may: Channels<bool> = driver.sent().used().map(|channel| (channel, true)).collect();
    if let Phase::Asking(Found::Pulsing { ticks, .. }) = driver.phase() {
        ticks.used().for_each(|channel| may.set(channel, true));
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
