//! The driver of one 16-channel expander: setpoints to register traffic.
//!
//! Starts the chip as its data sheet wants, asks before it disturbs pulses that run already, sends what
//! changed in as few transfers as blocks of eight channels allow, notices a chip that restarted, and releases
//! every channel as its last act. Which servo a channel is, and why it should be where it is, is known above.

mod seen;

pub use crate::board::{Decision, Found, Lapse, Noted, Phase};
pub use seen::Seen;

use crate::board::{self, Driver, Pace};

use crate::clock::Clock;
use crate::i2c::{BusError, Fault, I2cBus, Transfer};
use seen::{parse_group, read};
use std::ops::RangeInclusive;
use std::time::Duration;
use wasvolta_wire::expander::{
    ALL_OFF_H, BLOCK, CHANNEL_BYTES, CHANNELS, Channel, MODE1, MODE2, PRE_SCALE, UNTOUCHED, channel_register,
    mode1, mode2, off_register, spread,
};

/// Ticks for every channel, or no pulse.
pub type Wanted = [Option<u16>; CHANNELS];

/// Channels in one transfer.
const GROUP: usize = BLOCK / CHANNEL_BYTES;
const CHECK_EVERY: Duration = Duration::from_secs(1);
const OSCILLATOR_STARTS: Duration = Duration::from_millis(1);

/// What a board is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ExpanderSettings {
    /// Its 7-bit address.
    pub address: u8,
    /// Its clock's divider less one, 3..=255.
    pub prescale: u8,
    /// A frame, after which a channel may change again.
    pub frame: Duration,
    /// The widest pulse allowed, in ticks.
    pub widest: u16,
}

/// See the module.
#[derive(Debug)]
pub struct Expander {
    settings: ExpanderSettings,
    phase: Phase,
    sent: Wanted,
    on: [u16; CHANNELS],
    found_on: [u16; CHANNELS],
    /// Where each channel's pulse is known to begin on the chip: told, and no transfer about it has failed since.
    begins: [Option<u16>; CHANNELS],
    pace: Pace,
    checked_at: Duration,
    /// The group of channels that the next check reads back.
    checks: usize,
    seen: Option<Seen>,
    was_up: bool,
    /// Another frame rate was asked for: it is started anew, and that is no lapse.
    retimed: bool,
}

impl Expander {
    /// A driver that has not spoken to its board yet.
    pub fn new(settings: ExpanderSettings) -> Self {
        Self {
            settings,
            phase: Phase::Down,
            sent: [None; CHANNELS],
            on: std::array::from_fn(|channel| spread(channel, settings.widest)),
            found_on: [0; CHANNELS],
            begins: [None; CHANNELS],
            pace: Pace::default(),
            checked_at: Duration::ZERO,
            checks: 0,
            seen: None,
            was_up: false,
            retimed: false,
        }
    }

    /// What its registers said when they were last read.
    pub const fn seen(&self) -> Option<&Seen> {
        self.seen.as_ref()
    }

    /// How the board stands.
    pub fn phase(&self) -> Phase {
        self.phase.clone()
    }

    /// What the board was last told.
    pub const fn sent(&self) -> &Wanted {
        &self.sent
    }

    /// The board cannot be reached: start anew when it can.
    pub fn lost(&mut self) {
        self.phase = Phase::Down;
    }

    /// The settings in force.
    pub const fn settings(&self) -> ExpanderSettings {
        self.settings
    }

    /// Other settings. A changed clock restarts the chip, which releases all channels and engages them anew.
    pub fn reconfigure(&mut self, settings: ExpanderSettings) {
        if settings.prescale != self.settings.prescale && self.was_up {
            self.phase = Phase::Down;
            self.retimed = true;
        }
        self.settings = settings;
    }

    /// Answers what [`Phase::Asking`] asks.
    pub fn decide(
        &mut self,
        decision: Decision,
        bus: &mut dyn I2cBus,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        match (&self.phase, decision) {
            (Phase::Asking(Found::Pulsing { ticks, adoptable: true }), Decision::Adopt) => {
                let ticks = ticks.first();
                self.sent = ticks;
                // Where a running pulse begins stays, so that nothing jumps.
                for channel in (0..CHANNELS).filter(|&n| ticks[n].is_some()) {
                    self.on[channel] = self.found_on[channel];
                }
                self.phase = Phase::Started;
                self.was_up = true;
                Ok(())
            }
            (Phase::Asking(_), _) => self.start(bus, wait),
            _ => Ok(()),
        }
    }

    /// Brings the board towards `wanted`; to be called whenever that changes and once a frame.
    ///
    /// # Errors
    /// When the bus refuses a transfer; call [`Expander::lost`] then and try again later.
    pub fn service(
        &mut self,
        bus: &mut dyn I2cBus,
        now: Duration,
        wanted: &Wanted,
        wait: &dyn Fn(Duration),
    ) -> Result<Noted, BusError> {
        match &self.phase {
            Phase::Asking(_) => return Ok(Noted::Nothing),
            Phase::Down => return self.come_up(bus, now, wait),
            Phase::Started => {}
        }
        let due = now.saturating_sub(self.checked_at) >= CHECK_EVERY;
        // Before anything new is told, it must still be as it was left: what was told last is then where it stands.
        let lapse = if due {
            self.checked_at = now;
            self.check(bus)?
        } else if self.moves(now, wanted) && !self.is_awake(bus)? {
            self.check_modes(bus)?
        } else {
            None
        };
        if let Some(lapse) = lapse {
            if lapse.is_restart() {
                self.start(bus, wait)?;
            } else {
                let channels = self.seen_channels(bus)?;
                self.take_over(channels);
            }
            return Ok(Noted::Lapsed(lapse));
        }
        self.send(bus, now, wanted)?;
        Ok(Noted::Nothing)
    }

    /// Starts the chip, or finds it as it was left; what it is told waits until that is known above.
    fn come_up(
        &mut self,
        bus: &mut dyn I2cBus,
        now: Duration,
        wait: &dyn Fn(Duration),
    ) -> Result<Noted, BusError> {
        bus.claim(self.settings.address)?;
        if !self.was_up
            && let Some(found) = self.look(bus)?
        {
            self.phase = Phase::Asking(found);
            return Ok(Noted::Asks);
        }
        self.checked_at = now;
        let retimed = std::mem::take(&mut self.retimed);
        if self.was_up && !retimed {
            if let Some(lapse) = self.check_modes(bus)? {
                self.start(bus, wait)?;
                return Ok(Noted::Lapsed(lapse));
            }
            let channels = self.seen_channels(bus)?;
            self.take_over(channels);
            self.phase = Phase::Started;
            return Ok(Noted::Resumed);
        }
        self.start(bus, wait)?;
        Ok(Noted::Started)
    }

    /// Whether something would be told now that moves a channel with a pulse.
    fn moves(&self, now: Duration, wanted: &Wanted) -> bool {
        let changes = |(sent, wanted): (&Option<u16>, &Option<u16>)| {
            sent.is_some() && wanted.is_some() && sent != wanted
        };
        self.sent.iter().zip(wanted).any(changes) && self.due(wanted).is_some_and(|due| due <= now)
    }

    /// Whether its mode is that of a started chip, by reading one register.
    fn is_awake(&self, bus: &mut dyn I2cBus) -> Result<bool, BusError> {
        let mut mode = [0];
        read(bus, self.settings.address, MODE1.address, &mut mode)?;
        let [running, _, _] = self.running();
        Ok(mode[0] & !mode1::RESTART == running)
    }

    /// Takes what its channels hold for what they were told.
    fn take_over(&mut self, channels: [Channel; CHANNELS]) {
        for (n, channel) in channels.into_iter().enumerate() {
            (self.sent[n], self.begins[n]) = match channel {
                Channel::Pulse { on, ticks } if ticks > 0 => {
                    self.on[n] = on;
                    (Some(ticks), Some(on))
                }
                // A level of nothing is told as well.
                Channel::Pulse { .. } => (self.sent[n].filter(|ticks| *ticks == 0), None),
                Channel::Released => (None, None),
                Channel::FullyOn => (Some(u16::MAX), None),
            };
        }
    }

    /// Reads what its channels hold, in blocks: a started chip counts its address on by itself.
    fn seen_channels(&mut self, bus: &mut dyn I2cBus) -> Result<[Channel; CHANNELS], BusError> {
        let mut channels = [Channel::Released; CHANNELS];
        for group in 0..CHANNELS / GROUP {
            let mut block = [0; BLOCK];
            read(bus, self.settings.address, channel_register(group * GROUP), &mut block)?;
            parse_group(&block, &mut channels[group * GROUP..(group + 1) * GROUP]);
        }
        if let Some(seen) = &mut self.seen {
            seen.channels = channels;
        }
        Ok(channels)
    }

    /// When the next call of `service` can do something that this one could not.
    pub fn due(&self, wanted: &Wanted) -> Option<Duration> {
        let due = self.pace.due(self.settings.frame, &self.sent, wanted);
        due.filter(|_| self.phase == Phase::Started)
    }

    /// Releases every channel that has a pulse and is not to stay stiff, one transfer each. All are tried,
    /// whatever fails.
    ///
    /// # Errors
    /// The first failure.
    pub fn release_all(&mut self, bus: &mut dyn I2cBus, stay: &[bool; CHANNELS]) -> Result<(), BusError> {
        let mut first = Ok(());
        let may = board::may_pulse(self);
        for channel in 0..CHANNELS {
            if may.get(channel) && !stay[channel] {
                let bytes = &Channel::Released.emit();
                let done = write(bus, self.settings.address, channel_register(channel), bytes);
                if done.is_ok() {
                    self.sent[channel] = None;
                }
                first = first.and(done);
            }
        }
        first
    }

    fn look(&mut self, bus: &mut dyn I2cBus) -> Result<Option<Found>, BusError> {
        let seen = *self.seen.insert(Seen::read(bus, self.settings.address)?);
        if !seen.is_familiar() {
            return Ok(Some(Found::Unfamiliar));
        }
        if !seen.is_awake() || seen.pulsing() == 0 {
            return Ok(None);
        }
        let mut ticks = [None; CHANNELS];
        for (n, channel) in seen.channels.iter().enumerate() {
            if let Channel::Pulse { ticks: count, on } = *channel
                && count > 0
            {
                ticks[n] = Some(count);
                self.found_on[n] = on;
            }
            if *channel == Channel::FullyOn {
                ticks[n] = Some(u16::MAX);
            }
        }
        let adoptable = self.runs_as_told(&seen) && !seen.channels.contains(&Channel::FullyOn);
        Ok(Some(Found::Pulsing { ticks: ticks.into_iter().collect(), adoptable }))
    }

    /// Whether its modes and its divider are those of a chip that was started.
    fn runs_as_told(&self, seen: &Seen) -> bool {
        [seen.modes[0] & !mode1::RESTART, seen.modes[1], seen.prescale] == self.running()
    }

    /// Reads back whether the chip is as it was left: its modes and divider, and one of its groups in turn.
    fn check(&mut self, bus: &mut dyn I2cBus) -> Result<Option<Lapse>, BusError> {
        if let Some(lapse) = self.check_modes(bus)? {
            return Ok(Some(lapse));
        }
        let group = self.checks % (CHANNELS / GROUP);
        self.checks = group + 1;
        let mut block = [0; BLOCK];
        let first = group * GROUP;
        read(bus, self.settings.address, channel_register(first), &mut block)?;
        let mut channels = [Channel::Released; GROUP];
        parse_group(&block, &mut channels);
        if let Some(seen) = &mut self.seen {
            seen.channels[first..first + GROUP].copy_from_slice(&channels);
        }
        let as_told = channels.iter().zip(first..).all(|(channel, n)| match (self.sent[n], self.begins[n]) {
            // A pulse of no length is none.
            (None | Some(0), _) => matches!(channel, Channel::Released | Channel::Pulse { ticks: 0, .. }),
            // Not known to have arrived: nothing to compare with.
            (Some(_), None) => true,
            (Some(ticks), Some(on)) => *channel == Channel::Pulse { on, ticks },
        });
        Ok((!as_told).then_some(Lapse::Overwritten))
    }

    fn lapse(&self, seen: &Seen) -> Lapse {
        let [_, outputs, prescale] = self.running();
        if seen.modes[0] & !mode1::RESTART == MODE1.reset && seen.prescale == PRE_SCALE.reset {
            Lapse::Reset
        } else if !seen.is_awake() {
            Lapse::Asleep
        } else if seen.prescale != prescale {
            Lapse::OtherRate
        } else if seen.modes[1] != outputs {
            Lapse::OtherOutputs
        } else {
            Lapse::Reset
        }
    }

    /// `MODE1`, `MODE2` and `PRE_SCALE` of a started chip.
    const fn running(&self) -> [u8; 3] {
        [mode1::AI, mode2::OUTDRV, self.settings.prescale]
    }

    fn start(&mut self, bus: &mut dyn I2cBus, wait: &dyn Fn(Duration)) -> Result<(), BusError> {
        self.sent = [None; CHANNELS];
        let [mode, outputs, prescale] = self.running();
        let address = self.settings.address;
        write(bus, address, ALL_OFF_H.address, &Channel::Released.emit()[3..])?;
        write(bus, address, MODE1.address, &[mode1::SLEEP | mode1::AI])?;
        write(bus, address, MODE2.address, &[outputs])?;
        write(bus, address, PRE_SCALE.address, &[prescale])?;
        write(bus, address, MODE1.address, &[mode])?;
        wait(OSCILLATOR_STARTS);
        if self.check_modes(bus)?.is_none() {
            self.phase = Phase::Started;
            self.was_up = true;
            return Ok(());
        }
        let device = format!("the board at {address:#04x}");
        Err(BusError { doing: "start", device, fault: Fault::Transfer })
    }

    /// Whether its clock and its outputs are as they were started, and if not, what has happened.
    fn check_modes(&mut self, bus: &mut dyn I2cBus) -> Result<Option<Lapse>, BusError> {
        let mut modes = [0; 2];
        read(bus, self.settings.address, MODE1.address, &mut modes)?;
        let mut prescale = [0];
        read(bus, self.settings.address, PRE_SCALE.address, &mut prescale)?;
        let before =
            Seen { modes, prescale: prescale[0], own: UNTOUCHED, channels: [Channel::Released; CHANNELS] };
        let seen = self.seen.get_or_insert(before);
        (seen.modes, seen.prescale) = (modes, prescale[0]);
        let seen = *seen;
        Ok((!self.runs_as_told(&seen)).then(|| self.lapse(&seen)))
    }

    fn send(&mut self, bus: &mut dyn I2cBus, now: Duration, wanted: &Wanted) -> Result<(), BusError> {
        if self.sent == *wanted {
            return Ok(());
        }
        let next = self.pace.allowed((now, self.settings.frame), &self.sent, wanted);
        if self.drops_several(&next) {
            return self.drop_all(bus);
        }
        // Neighbours go together. Over a gap a transfer of its own is shorter than the gap.
        let mut n = 0;
        while n < CHANNELS {
            let group_ends = (n / GROUP + 1) * GROUP;
            let run = (n..group_ends).take_while(|&n| self.sent[n] != next[n]).count();
            if run > 0 {
                self.put(bus, now, &next, n..=n + run - 1)?;
            }
            n += run.max(1);
        }
        Ok(())
    }

    /// Whether several channels had a pulse and none is to have one.
    fn drops_several(&self, next: &Wanted) -> bool {
        next.iter().all(Option::is_none) && self.sent.iter().flatten().count() > 1
    }

    /// Releases all channels in one short transfer: a cut must not queue behind a slow bus.
    fn drop_all(&mut self, bus: &mut dyn I2cBus) -> Result<(), BusError> {
        self.begins = [None; CHANNELS];
        write(bus, self.settings.address, ALL_OFF_H.address, &Channel::Released.emit()[3..])?;
        self.sent = [None; CHANNELS];
        Ok(())
    }

    /// Writes neighbouring channels of one group in one transfer. They count as told before it is known to have worked:
    /// what may have got a pulse must be released in the end.
    fn put(
        &mut self,
        bus: &mut dyn I2cBus,
        now: Duration,
        next: &Wanted,
        channels: RangeInclusive<usize>,
    ) -> Result<(), BusError> {
        let (first, last) = (*channels.start(), *channels.end());
        // Where a pulse begins does not change while it lasts; only its end is told, both bytes of it at once.
        let pulsing = self.sent[first].is_some() && next[first].is_some();
        let lasts = pulsing && self.begins[first] == Some(self.on[first]);
        let (skipped, register) =
            if lasts { (CHANNEL_BYTES / 2, off_register(first)) } else { (0, channel_register(first)) };
        let mut block = [0; BLOCK];
        for channel in first..=last {
            let value = next[channel]
                .map_or(Channel::Released, |ticks| Channel::Pulse { on: self.on[channel], ticks });
            let at = (channel - first) * CHANNEL_BYTES;
            block[at..at + CHANNEL_BYTES].copy_from_slice(&value.emit());
            // A release that fails is still owed, and where a pulse begins is not known while this is under way.
            self.sent[channel] = next[channel].or(self.sent[channel]);
            self.begins[channel] = None;
        }
        let bytes = &block[skipped..(last - first + 1) * CHANNEL_BYTES];
        write(bus, self.settings.address, register, bytes)?;
        self.pace.written(now);
        self.sent[first..=last].copy_from_slice(&next[first..=last]);
        for channel in first..=last {
            self.begins[channel] = next[channel].map(|_| self.on[channel]);
        }
        Ok(())
    }
}

fn write(bus: &mut dyn I2cBus, address: u8, register: u8, bytes: &[u8]) -> Result<(), BusError> {
    bus.transfer(address, Transfer::Write { register, bytes })
}

impl Driver for Expander {
    type Way = Box<dyn I2cBus>;

    const POWERED_BY_ITS_WAY: bool = true;

    fn of(settings: &board::BoardSettings) -> Option<Self> {
        match settings {
            board::BoardSettings::Expander(settings) => Some(Self::new(*settings)),
            _ => None,
        }
    }

    fn is_for(&self, settings: &board::BoardSettings) -> bool {
        matches!(settings, board::BoardSettings::Expander(s) if s.address == self.settings.address)
    }

    fn address(&self) -> Option<u8> {
        Some(self.settings.address)
    }

    fn configure(&mut self, settings: &board::BoardSettings) {
        if let board::BoardSettings::Expander(settings) = settings
            && *settings != self.settings
        {
            self.reconfigure(*settings);
        }
    }

    fn phase(&self) -> Phase {
        self.phase.clone()
    }

    fn sent(&self) -> board::Wanted {
        self.sent.into_iter().collect()
    }

    fn evidence(&self) -> Option<board::Evidence> {
        self.seen.map(board::Evidence::Expander)
    }

    fn lost(&mut self) {
        Self::lost(self);
    }

    fn decide(
        &mut self,
        decision: Decision,
        bus: &mut Box<dyn I2cBus>,
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        Self::decide(self, decision, &mut **bus, &|time| clock.wait(time))
    }

    fn service(
        &mut self,
        bus: &mut Box<dyn I2cBus>,
        now: Duration,
        orders: &board::Orders,
        clock: &dyn Clock,
    ) -> Result<Noted, BusError> {
        Self::service(self, &mut **bus, now, &orders.wanted.first(), &|time| clock.wait(time))
    }

    fn due(&self, _now: Duration, wanted: &board::Wanted) -> Option<Duration> {
        Self::due(self, &wanted.first())
    }

    fn release(
        &mut self,
        bus: &mut Box<dyn I2cBus>,
        stay: &board::Stay,
        _clock: &dyn Clock,
    ) -> Result<(), BusError> {
        self.release_all(&mut **bus, &stay.first())
    }

    fn read_back(&mut self, bus: &mut Box<dyn I2cBus>, _clock: &dyn Clock) -> Result<bool, BusError> {
        let bus = &mut **bus;
        let mut mode = [0];
        read(bus, self.settings.address, MODE1.address, &mut mode)?;
        if mode[0] & mode1::SLEEP != 0 {
            // Its oscillator stands still.
            self.sent = [None; CHANNELS];
            return Ok(true);
        }
        let channels = if mode[0] & mode1::AI != 0 {
            self.seen_channels(bus)?
        } else {
            self.seen.insert(Seen::read(bus, self.settings.address)?).channels
        };
        self.take_over(channels);
        Ok(true)
    }
}
