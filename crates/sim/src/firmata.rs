//! A simulated microcontroller that speaks Firmata: pins with servos on them, a start that takes its time, and the
//! habits of common firmware.
//!
//! In process it is a line to read from and write to; on a pty it is a path that any program can open.

use crate::faults::{Faults, Kind, Struck};
use crate::plugged::{Look, Plugged, Signal};
use crate::truth::{Dice, Part, ServoTruth};
use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::serial::{Got, Stream};
use wasvolta_port::{BusError, Clock, Fault};
use wasvolta_wire::firmata::{Capabilities, Decoder, FromBoard, ToBoard, mode};

/// Pins of the board: the first two are its serial line, the last six analog inputs too.
const PINS: usize = 20;
const FIRST_ANALOG: usize = 14;
/// Pins with a pulse-width output.
const PWM_PINS: [usize; 6] = [3, 5, 6, 9, 10, 11];
/// After a reset it says nothing for so long, unless it is told otherwise.
const BOOTS: Duration = Duration::from_millis(400);
/// The supply dips this often, where it does.
const RESETS: Duration = Duration::from_secs(3);
/// What the firmware's own limits are kept around, and in which steps.
const LEAST: i32 = 544;
const GREATEST: i32 = 2400;
const LIMIT_STEP: i32 = 4;

/// One pin as the firmware keeps it.
#[derive(Debug, Clone, Copy)]
struct Pin {
    mode: u8,
    value: u16,
    /// The limits of its servo, as far as eight signed bits hold them.
    limits: (i32, i32),
}

impl Pin {
    /// A servo's pulse, held within what the firmware keeps of its limits.
    fn pulse(&self) -> Option<u16> {
        if self.mode != mode::SERVO {
            return None;
        }
        let asked = i32::from(self.value);
        // Small values are degrees to it.
        let asked = if asked < LEAST { LEAST + asked.min(180) * (GREATEST - LEAST) / 180 } else { asked };
        u16::try_from(asked.max(self.limits.0).min(self.limits.1)).ok()
    }

    /// What its wire carries.
    fn signal(&self) -> Option<Signal> {
        let share = |high: f64, frame: f64| Some(Signal { high, frame }).filter(|s| s.high > 0.0);
        match self.mode {
            mode::SERVO => share(f64::from(self.pulse()?) * 1e-6, SERVO_FRAME_S),
            mode::PWM => share(f64::from(self.value.min(255)) / 255.0 * PWM_FRAME_S, PWM_FRAME_S),
            mode::OUTPUT if self.value != 0 => share(PWM_FRAME_S, PWM_FRAME_S),
            _ => None,
        }
    }
}

const SERVO_FRAME_S: f64 = 0.02;
/// A pulse-width output there repeats at about 490 Hz.
const PWM_FRAME_S: f64 = 1.0 / 490.0;

const FRESH: Pin = Pin { mode: mode::OUTPUT, value: 0, limits: (LEAST, GREATEST) };

struct Inner {
    pins: [Pin; PINS],
    plugged: Plugged,
    decoder: Decoder,
    out: VecDeque<u8>,
    /// It speaks from then on; none once it has.
    boots_at: Option<Duration>,
    heard: Vec<u8>,
    seed: u64,
    was_gone: bool,
    /// It is started anew when its line is opened.
    resets_when_opened: bool,
    /// Its firmware says what a pin is.
    says_pins: bool,
    /// After a reset it says nothing for so long.
    boots: Duration,
    /// What stands at its pins from outside: analog channels from 0 to 1, and digital pins.
    analog: [f64; ANALOG_PINS],
    high: [Option<bool>; PINS],
    /// What it was told to report: analog channels, and ports of eight pins.
    reports: ([bool; ANALOG_PINS], [bool; PORTS]),
    every: Duration,
    reported_at: Duration,
    said_ports: [Option<u8>; PORTS],
    dice: Dice,
}

const ANALOG_PINS: usize = PINS - FIRST_ANALOG;
const PORTS: usize = PINS.div_ceil(8);
/// Its converter has ten bits.
const TEN_BITS: f64 = 1023.0;
/// The usual time between two reports, unless it is told otherwise.
const REPORTS_EVERY: Duration = Duration::from_millis(19);

/// A handle to a board; all handles are the same one.
#[derive(Clone)]
pub struct FirmataBoard {
    inner: Arc<Mutex<Inner>>,
    clock: Arc<dyn Clock>,
    faults: Arc<Faults>,
    plug_out: Arc<AtomicBool>,
}

/// A board is not on a bus: what strikes one address does not strike it.
const NO_ADDRESS: u8 = 0;

impl FirmataBoard {
    /// A board that has not been switched on yet.
    pub fn new(seed: u64, clock: Arc<dyn Clock>, faults: Arc<Faults>) -> Self {
        let inner = Inner {
            pins: [FRESH; PINS],
            plugged: Plugged::new(clock.now()),
            decoder: Decoder::default(),
            out: VecDeque::new(),
            boots_at: None,
            heard: Vec::new(),
            seed,
            was_gone: false,
            resets_when_opened: true,
            says_pins: true,
            boots: BOOTS,
            analog: [0.5; ANALOG_PINS],
            high: [None; PINS],
            reports: ([false; ANALOG_PINS], [false; PORTS]),
            every: REPORTS_EVERY,
            reported_at: Duration::ZERO,
            said_ports: [None; PORTS],
            dice: Dice::new(seed),
        };
        Self { inner: Arc::new(Mutex::new(inner)), clock, faults, plug_out: Arc::default() }
    }

    /// Plugs in what the truth says.
    pub fn put(&self, truth: ServoTruth) {
        self.lock().plugged.put(truth);
    }

    /// Makes sure that a part hangs on a pin.
    pub fn ensure(&self, pin: u8, part: Part) {
        let mut inner = self.lock();
        let seed = inner.seed ^ 0x0F1A;
        inner.plugged.ensure(seed, pin, part);
    }

    /// Opens its line, which resets it as it does many boards.
    ///
    /// # Errors
    /// When a fault keeps it from being opened.
    pub fn open(&self) -> Result<FirmataLine, BusError> {
        let barred = self.faults.on().into_iter().find_map(|fault| match fault.kind {
            Kind::NoBus | Kind::Absent | Kind::Pulled if fault.strikes(fault.kind, NO_ADDRESS) => {
                Some(Fault::NoBus)
            }
            Kind::Denied if fault.strikes(fault.kind, NO_ADDRESS) => Some(Fault::Denied),
            Kind::Held if fault.strikes(fault.kind, NO_ADDRESS) => Some(Fault::Busy),
            _ => None,
        });
        if let Some(fault) = barred.or(self.is_gone().then_some(Fault::NoBus)) {
            return Err(BusError { doing: "open", device: "the simulated line".to_owned(), fault });
        }
        self.opened();
        Ok(FirmataLine(self.clone()))
    }

    /// Somebody has opened its line.
    pub fn opened(&self) {
        if self.lock().resets_when_opened {
            self.reset();
        }
    }

    /// Whether it is started anew when its line is opened, as many boards are.
    pub fn resets_when_opened(&self, resets: bool) {
        self.lock().resets_when_opened = resets;
    }

    /// Whether its firmware says what a pin is.
    pub fn says_pins(&self, says: bool) {
        self.lock().says_pins = says;
    }

    /// How long it says nothing after a reset.
    pub fn boots_in(&self, time: Duration) {
        self.lock().boots = time;
    }

    /// Starts it anew: its servos go limp, and it says who it is once it is up.
    pub fn reset(&self) {
        let now = self.clock.now();
        self.lock().reset(now);
    }

    /// The servo pulse a pin gives now, in µs.
    pub fn pulse_us(&self, pin: u8) -> Option<u16> {
        self.caught_up().pins.get(usize::from(pin))?.pulse()
    }

    /// One look at what is on a pin.
    pub fn look(&self, pin: u8) -> Option<Look> {
        let inner = self.caught_up();
        inner.plugged.look(pin, inner.seed)
    }

    /// Whether its plug is in.
    pub fn is_plugged(&self) -> bool {
        !self.plug_out.load(Ordering::SeqCst)
    }

    /// Pulls its plug, its supply with it, or puts it in again.
    pub fn set_plugged(&self, is_in: bool) {
        self.plug_out.store(!is_in, Ordering::SeqCst);
    }

    /// Moves what hangs on an analog channel, 0–1.
    pub fn set_analog(&self, channel: usize, at: f64) {
        if let Some(place) = self.lock().analog.get_mut(channel) {
            *place = at.clamp(0.0, 1.0);
        }
    }

    /// Where what hangs on an analog channel stands, 0–1.
    pub fn analog(&self, channel: usize) -> Option<f64> {
        self.lock().analog.get(channel).copied()
    }

    /// Pulls a pin up or down from outside; none lets it float: low, or high by its pull-up.
    pub fn set_pin(&self, pin: usize, high: Option<bool>) {
        if let Some(place) = self.lock().high.get_mut(pin) {
            *place = high;
        }
    }

    /// Whether what hangs on a pin pulls it up; none where it has no such pin.
    pub fn is_high(&self, pin: usize) -> Option<bool> {
        let inner = self.lock();
        (pin < PINS).then(|| inner.reads_high(pin))
    }

    /// Every byte that came to it.
    pub fn heard(&self) -> Vec<u8> {
        self.lock().heard.clone()
    }

    /// Takes bytes as they come over the line.
    pub fn take(&self, bytes: &[u8]) {
        let silent = self.is(Kind::Silent);
        let mut inner = self.caught_up();
        inner.heard.extend_from_slice(bytes);
        // While it starts it hears nothing.
        if inner.boots_at.is_some() || silent {
            return;
        }
        let version = if self.is(Kind::WrongFirmware) { (1, 0) } else { (2, 7) };
        for &byte in bytes {
            inner.take(byte, version);
        }
    }

    /// Gives what it has to say, as much as there is room for.
    pub fn give(&self, into: &mut [u8]) -> usize {
        let (now, silent) = (self.clock.now(), self.is(Kind::Silent));
        let version = if self.is(Kind::WrongFirmware) { (1, 0) } else { (2, 7) };
        let mut inner = self.caught_up();
        if inner.boots_at.is_some_and(|at| now >= at) {
            inner.boots_at = None;
            inner.introduce(version);
        }
        inner.report(now);
        if silent {
            inner.out.clear();
        }
        let count = into.len().min(inner.out.len());
        for place in into.iter_mut().take(count) {
            *place = inner.out.pop_front().unwrap_or_default();
        }
        count
    }

    fn is(&self, kind: Kind) -> bool {
        self.faults.on().iter().any(|fault| fault.strikes(kind, NO_ADDRESS))
    }

    fn is_gone(&self) -> bool {
        !self.is_plugged() || [Kind::NoBus, Kind::Absent, Kind::Pulled].into_iter().any(|kind| self.is(kind))
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn caught_up(&self) -> MutexGuard<'_, Inner> {
        let (now, faults, gone) = (self.clock.now(), self.faults.on(), self.is_gone());
        let mut inner = self.lock();
        // Its supply comes through the plug.
        if gone && !std::mem::replace(&mut inner.was_gone, gone) {
            inner.reset(now);
        }
        inner.was_gone = gone;
        inner.catch_up(now, &faults);
        inner
    }
}

impl Inner {
    fn reset(&mut self, now: Duration) {
        self.pins = [FRESH; PINS];
        self.decoder.restart();
        self.out.clear();
        self.reports = ([false; ANALOG_PINS], [false; PORTS]);
        (self.every, self.said_ports) = (REPORTS_EVERY, [None; PORTS]);
        self.boots_at = Some(now + self.boots);
    }

    fn catch_up(&mut self, now: Duration, faults: &[Struck]) {
        let dips = faults.iter().any(|fault| fault.strikes(Kind::Resets, NO_ADDRESS));
        while let Some(at) = self.plugged.next_step(now) {
            if dips && at.as_millis().is_multiple_of(RESETS.as_millis()) {
                self.reset(at);
            }
            let pins = &self.pins;
            self.plugged.step(|pin| {
                let limp = |kind| faults.iter().any(|fault| fault.hits(kind, NO_ADDRESS, pin));
                let signal = pins.get(pin)?.signal()?;
                (!limp(Kind::RailDip) && !limp(Kind::PlugOut)).then_some(signal)
            });
        }
    }

    fn introduce(&mut self, (major, minor): (u8, u8)) {
        self.say(FromBoard::Version { major, minor });
        self.say(FromBoard::Firmware { major, minor, name: &[b'm', 0, b'a', 0, b'r', 0, b's', 0, b'h', 0] });
    }

    /// Says what its inputs read: analog channels in their time, digital ports when they change.
    fn report(&mut self, now: Duration) {
        if self.boots_at.is_some() {
            return;
        }
        if now >= self.reported_at + self.every {
            self.reported_at = now;
            for channel in 0..ANALOG_PINS {
                if self.reports.0[channel] {
                    let noise = f64::from(u8::from(self.dice.between(0.0, 1.0) < 0.5));
                    #[expect(
                        clippy::cast_possible_truncation,
                        clippy::cast_sign_loss,
                        reason = "within ten bits"
                    )]
                    let value = (self.analog[channel] * TEN_BITS + noise).clamp(0.0, TEN_BITS) as u16;
                    self.say(FromBoard::Analog { channel: u8::try_from(channel).unwrap_or_default(), value });
                }
            }
        }
        for port in 0..PORTS {
            let bits = (0..8).fold(0, |bits, n| bits | u8::from(self.reads_high(port * 8 + n)) << n);
            if self.reports.1[port] && self.said_ports[port] != Some(bits) {
                self.said_ports[port] = Some(bits);
                self.say(FromBoard::Digital { port: u8::try_from(port).unwrap_or_default(), bits });
            }
        }
    }

    fn reads_high(&self, pin: usize) -> bool {
        let Some(state) = self.pins.get(pin) else { return false };
        let outside = self.high.get(pin).copied().flatten();
        match state.mode {
            mode::INPUT => outside.unwrap_or(false),
            mode::PULL_UP => outside.unwrap_or(true),
            _ => false,
        }
    }

    fn say(&mut self, message: FromBoard<'_>) {
        let mut bytes = Vec::new();
        message.emit(&mut bytes);
        self.out.extend(bytes);
    }

    fn take(&mut self, byte: u8, version: (u8, u8)) {
        let Some(message) = self.decoder.to_board(byte).and_then(|frame| ToBoard::parse(&frame)) else {
            return;
        };
        match message {
            ToBoard::AskVersion => self.say(FromBoard::Version { major: version.0, minor: version.1 }),
            ToBoard::AskFirmware => {
                let name = [b'm', 0, b'a', 0, b'r', 0, b's', 0, b'h', 0];
                self.say(FromBoard::Firmware { major: version.0, minor: version.1, name: &name });
            }
            ToBoard::AskCapabilities => {
                let can: Vec<u8> = (0..PINS).flat_map(capabilities).collect();
                self.say(FromBoard::Capabilities(Capabilities(&can)));
            }
            ToBoard::AskAnalogMapping => {
                let channel = |pin: usize| pin.checked_sub(FIRST_ANALOG).and_then(|n| u8::try_from(n).ok());
                let mapping: Vec<u8> = (0..PINS).map(|pin| channel(pin).unwrap_or(0x7F)).collect();
                self.say(FromBoard::AnalogMapping(&mapping));
            }
            ToBoard::AskPin { pin } => {
                if let Some(state) = self.pins.get(usize::from(pin)).copied().filter(|_| self.says_pins) {
                    self.say(FromBoard::Pin { pin, mode: state.mode, value: u32::from(state.value) });
                }
            }
            ToBoard::PinMode { pin, mode } => self.change(pin, |pin| (pin.mode, pin.value) = (mode, 0)),
            ToBoard::PinValue { pin, high } => self.change(pin, |pin| {
                if pin.mode != mode::SERVO {
                    pin.value = u16::from(high);
                }
            }),
            ToBoard::Value { pin, value } => self.change(pin, |pin| pin.value = value),
            ToBoard::ServoConfig { pin, least, greatest } => self.change(pin, |pin| {
                pin.limits = (kept(least, LEAST), kept(greatest, GREATEST));
                // Becoming a servo starts the pulses at once.
                (pin.mode, pin.value) = (mode::SERVO, 1500);
            }),
            ToBoard::ReportAnalog { channel, on } => {
                if let Some(place) = self.reports.0.get_mut(usize::from(channel)) {
                    *place = on;
                }
            }
            ToBoard::ReportDigital { port, on } => {
                let port = usize::from(port);
                if let (Some(place), Some(said)) =
                    (self.reports.1.get_mut(port), self.said_ports.get_mut(port))
                {
                    // Told to report, it says at once how they stand.
                    (*place, *said) = (on, None);
                }
            }
            ToBoard::Sampling { interval_ms } => {
                self.every = Duration::from_millis(interval_ms.max(1).into());
            }
        }
    }

    fn change(&mut self, pin: u8, change: impl FnOnce(&mut Pin)) {
        if let Some(pin) = self.pins.get_mut(usize::from(pin)) {
            change(pin);
        }
    }
}

/// A limit as the firmware keeps it: its distance from the usual one in steps, in eight signed bits that wrap.
fn kept(limit: u16, usual: i32) -> i32 {
    let steps = (usual - i32::from(limit)) / LIMIT_STEP;
    let [low, ..] = steps.to_le_bytes();
    usual - i32::from(i8::from_le_bytes([low])) * LIMIT_STEP
}

/// What a pin can be, each with its resolution in bits, and the end of the pin.
fn capabilities(pin: usize) -> Vec<u8> {
    let mut can = Vec::new();
    if pin >= 2 {
        can.extend([mode::INPUT, 1, mode::PULL_UP, 1, mode::OUTPUT, 1]);
        if pin >= FIRST_ANALOG {
            can.extend([mode::ANALOG, 10]);
        }
        if PWM_PINS.contains(&pin) {
            can.extend([mode::PWM, 8]);
        }
        can.extend([mode::SERVO, 14]);
    }
    can.push(0x7F);
    can
}

/// An open line to a board.
pub struct FirmataLine(FirmataBoard);

impl Stream for FirmataLine {
    fn read(&mut self, into: &mut [u8]) -> Got {
        if self.0.is_gone() {
            return Got::Gone;
        }
        match self.0.give(into) {
            0 => Got::Nothing,
            count => Got::Bytes(count),
        }
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        if self.0.is_gone() {
            return Err(Fault::NoBus);
        }
        self.0.take(bytes);
        Ok(())
    }

    fn flush(&mut self) {}

    fn set_baud(&mut self, _: u32) -> Result<(), Fault> {
        Err(Fault::OtherKind)
    }
}
