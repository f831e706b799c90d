//! The driver of one microcontroller board that speaks Firmata: handshake, servo pins, and what it does when the
//! board restarts or falls silent.
//!
//! The board is never the guard: its own limits are set as wide as it takes them. Opening the line may have reset
//! it, so it is given the time to say who it is before it is asked. What its pins are is asked before the first word,
//! and again beside every value: nothing new is told before the board has shown that it heard the last.

use crate::board::{
    self, Decision, Driver, Evidence, Found, Lapse, Noted, Orders, Pace, Phase, Stay, Wanted,
};
use crate::clock::Clock;
use crate::i2c::{BusError, Fault};
use crate::serial::{Got, Stream};
use std::time::Duration;
use wasvolta_wire::firmata::{BAUD, Decoder, FromBoard, ToBoard, mode};

/// A servo's frame there: the firmware's, and not to be changed.
pub const FRAME: Duration = Duration::from_millis(20);
/// A board that was reset by the opening of its line speaks by then.
const RESET_TAKES: Duration = Duration::from_secs(3);
/// An answer takes no longer than this.
const ANSWER: Duration = Duration::from_secs(2);
/// A board is asked whether its pins are as they were told at least this often.
const ASK_EVERY: Duration = Duration::from_millis(250);
/// What its pins are it says within this time, or its firmware does not know the question.
const PINS_ANSWER: Duration = Duration::from_millis(500);
/// A value waits no longer than this for the one before it to be heard: two frames.
const HEARD_WITHIN: Duration = Duration::from_millis(40);
/// The line is read this often while an answer is awaited before the next value may go.
const ANSWERED_SOON: Duration = Duration::from_millis(2);
/// While it is being got to know, the line is read this often.
const LISTEN: Duration = Duration::from_millis(10);
/// The widest limits that the firmware takes: eight signed bits of 4 µs around its own.
const LEAST: u16 = 544;
const GREATEST: u16 = 2912;
/// Bits of a byte on the line.
const BITS_A_BYTE: u32 = 10;
/// The version of the protocol that is spoken here.
const MAJOR: u8 = 2;

/// The pins that a board may have.
pub const PINS: usize = 72;
/// What each of them gives.
type Given = [Option<u16>; PINS];

/// What a board of this kind is to be: everything else is the firmware's. A bit a pin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct FirmataSettings {
    /// Pins that give a level, 0–255, instead of a servo's pulse.
    pub levels: u128,
    /// Pins that are on or off: any count but 0 is on.
    pub switches: u128,
    /// What is read from its other pins.
    pub reads: Reads,
}

/// Pins that are read. A bit a pin, or an analog channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Reads {
    /// The analog channels that are read, a bit each.
    pub analog: u16,
    /// The digital pins that are read, a bit each.
    pub digital: u128,
    /// Those of them whose pull-up is to be on.
    pub pulled_up: u128,
}

/// The first code of an analog channel among what is read; digital pins stand from 0.
pub const ANALOG: u16 = 256;
/// The first code of a digital pin with its pull-up.
pub const PULLED_UP: u16 = 128;
/// Pins of one digital report.
const PORT_PINS: u8 = 8;
/// The time between two reports of an analog channel.
const SAMPLING_MS: u16 = 20;
/// While something is read, the line is looked at this often.
const READ_EVERY: Duration = Duration::from_millis(5);
/// The most of what was read that waits.
const MOST_READ: usize = 1024;

/// What a pin is driven as.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// A servo: its values are pulses in µs.
    Servo,
    /// A level, 0–255.
    Level,
    /// On or off.
    Switch,
}

impl Role {
    /// What the pin must be able to be.
    pub const fn mode(self) -> u8 {
        match self {
            Self::Servo => mode::SERVO,
            Self::Level => mode::PWM,
            Self::Switch => mode::OUTPUT,
        }
    }

    /// What the pin must be able to do, in words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Servo => "drive a servo",
            Self::Level => "dim",
            Self::Switch => "switch",
        }
    }
}

impl FirmataSettings {
    /// What a pin is driven as.
    pub const fn role(&self, pin: usize) -> Role {
        match (is_set(self.levels, pin), is_set(self.switches, pin)) {
            (true, _) => Role::Level,
            (false, true) => Role::Switch,
            (false, false) => Role::Servo,
        }
    }
}

const fn is_set(bits: u128, pin: usize) -> bool {
    pin < 128 && bits >> pin & 1 == 1
}

/// What a board has said of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Firmware {
    /// The protocol's version.
    pub version: (u8, u8),
    /// Pins that can drive a servo, a bit a pin.
    pub servo_pins: u128,
    /// Pins that can give a level.
    pub level_pins: u128,
    /// Pins that can be an output.
    pub output_pins: u128,
    /// Pins that can be read.
    pub input_pins: u128,
    /// Pins that can be read with a pull-up.
    pub pulled_pins: u128,
    /// Analog channels that it has, a bit a channel; none before it has said which.
    pub analog: Option<u16>,
    /// How many pins it has.
    pub pins: usize,
    /// It says what a pin is when it is asked: what was told can be read back.
    pub says_pins: bool,
}

impl Firmware {
    /// Whether a pin can be what it is to be.
    pub const fn can(&self, role: Role, pin: usize) -> bool {
        let pins = match role {
            Role::Servo => self.servo_pins,
            Role::Level => self.level_pins,
            Role::Switch => self.output_pins,
        };
        is_set(pins, pin)
    }

    /// Whether a channel can be read, as far as it has said, by the code that its values come under.
    pub fn reads(&self, code: u16) -> bool {
        match code {
            ANALOG.. => {
                self.analog.is_none_or(|analog| code - ANALOG < 16 && analog >> (code - ANALOG) & 1 == 1)
            }
            PULLED_UP.. => is_set(self.pulled_pins, usize::from(code - PULLED_UP)),
            _ => is_set(self.input_pins, usize::from(code)),
        }
    }
}

/// How far the handshake is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    /// Nothing was done yet.
    Begin,
    /// It is given the time to speak first.
    Listening { since: Duration },
    /// It was asked for its version.
    Asked { since: Duration },
    /// It was asked what its pins can do.
    Learning { since: Duration },
    /// It was asked what its pins are.
    Finding { since: Duration },
    /// Pulses were found that nobody here has told.
    Asking,
    /// It does as it is told.
    Up,
}

/// See the module.
#[derive(Debug)]
pub struct Firmata {
    settings: FirmataSettings,
    step: Step,
    decoder: Decoder,
    firmware: Option<Firmware>,
    version: Option<(u8, u8)>,
    learned: bool,
    /// A question that shows whether it still is as it was told is open since then.
    asked_at: Option<Duration>,
    /// When it was put last: one that is lost on the way is put again.
    put_at: Duration,
    /// The pin that question is about; none when it is for the version.
    asked_pin: Option<u8>,
    /// Reports of version and firmware that were asked for and have not come yet.
    owed: (u32, u32),
    answered_at: Duration,
    restarted: bool,
    sent: Given,
    /// What its pins have said they are: mode and value.
    pins: [Option<(u8, u32)>; PINS],
    /// What was found running.
    found: Given,
    pace: Pace,
    /// What was written has left the line by then.
    free_at: Duration,
    out: Vec<u8>,
    was_up: bool,
    /// The pin that was asked last.
    last_pin: u8,
    /// What it was told to report.
    reading: Reads,
    /// By analog channel, its pin.
    analog_pins: [Option<u8>; 16],
    read: Vec<(u16, f64)>,
}

impl Default for Firmata {
    fn default() -> Self {
        Self {
            settings: FirmataSettings::default(),
            step: Step::Begin,
            decoder: Decoder::default(),
            firmware: None,
            version: None,
            learned: false,
            asked_at: None,
            put_at: Duration::ZERO,
            asked_pin: None,
            owed: (0, 0),
            answered_at: Duration::ZERO,
            restarted: false,
            sent: [None; PINS],
            pins: [None; PINS],
            found: [None; PINS],
            pace: Pace::default(),
            free_at: Duration::ZERO,
            out: Vec::with_capacity(512),
            was_up: false,
            last_pin: 0,
            reading: Reads::default(),
            analog_pins: [None; 16],
            read: Vec::new(),
        }
    }
}

fn failed(doing: &'static str, fault: Fault) -> BusError {
    BusError { doing, device: "the board on this line".to_owned(), fault }
}

impl Firmata {
    /// Takes in everything that the board has said.
    fn listen(&mut self, line: &mut dyn Stream, now: Duration) -> Result<(), BusError> {
        let mut bytes = [0; 256];
        loop {
            match line.read(&mut bytes) {
                Got::Bytes(count) => {
                    for &byte in bytes.get(..count).unwrap_or_default() {
                        self.hear(byte, now);
                    }
                }
                Got::Nothing => return Ok(()),
                Got::Gone => return Err(failed("hear", Fault::NoBus)),
            }
        }
    }

    fn hear(&mut self, byte: u8, now: Duration) {
        let Some(frame) = self.decoder.from_board(byte) else { return };
        match FromBoard::parse(&frame) {
            Some(FromBoard::Version { major, minor }) => {
                self.version = Some((major, minor));
                // Reports beyond those asked for: it has just started.
                self.restarted |= self.step == Step::Up && self.owed.0 == 0;
                self.owed.0 = self.owed.0.saturating_sub(1);
                if self.asked_pin.is_none() {
                    self.answered(now);
                }
            }
            Some(FromBoard::Firmware { .. }) => {
                self.restarted |= self.step == Step::Up && self.owed.1 == 0;
                self.owed.1 = self.owed.1.saturating_sub(1);
            }
            Some(FromBoard::Pin { pin, mode, value }) => {
                if let Some(place) = self.pins.get_mut(usize::from(pin)) {
                    *place = Some((mode, value));
                }
                if self.asked_pin == Some(pin) && self.asked_at.is_some() {
                    let role = self.settings.role(usize::from(pin));
                    let told = self.sent.get(usize::from(pin)).copied().flatten();
                    self.restarted |= self.step == Step::Up && told.is_some() && mode != role.mode();
                    // What it was told last may have been lost on the way: it has what it says.
                    if self.step == Step::Up
                        && mode == mode::SERVO
                        && let (Some(place), Some(_), Ok(value)) =
                            (self.sent.get_mut(usize::from(pin)), told, u16::try_from(value))
                    {
                        *place = Some(value);
                    }
                    self.answered(now);
                }
            }
            Some(FromBoard::Capabilities(can)) => {
                let pins_that_can = |mode| {
                    let able = can.can(mode).take(PINS).enumerate();
                    able.fold(0, |pins, (pin, can)| pins | u128::from(can) << pin)
                };
                self.firmware = Some(Firmware {
                    version: self.version.unwrap_or_default(),
                    servo_pins: pins_that_can(mode::SERVO),
                    level_pins: pins_that_can(mode::PWM),
                    output_pins: pins_that_can(mode::OUTPUT),
                    input_pins: pins_that_can(mode::INPUT),
                    pulled_pins: pins_that_can(mode::PULL_UP),
                    analog: self.firmware.and_then(|firmware| firmware.analog),
                    pins: can.can(mode::SERVO).take(PINS).count(),
                    says_pins: self.firmware.is_some_and(|firmware| firmware.says_pins),
                });
                self.learned = true;
            }
            Some(FromBoard::AnalogMapping(channels)) => {
                for (pin, channel) in (0u8..).zip(channels) {
                    if let Some(place) = self.analog_pins.get_mut(usize::from(*channel)) {
                        *place = Some(pin);
                    }
                }
                let has = |bits: u16, (n, pin): (usize, &Option<u8>)| bits | u16::from(pin.is_some()) << n;
                if let Some(firmware) = &mut self.firmware {
                    firmware.analog = Some(self.analog_pins.iter().enumerate().fold(0, has));
                }
            }
            Some(FromBoard::Analog { channel, value }) if self.reading.analog >> channel & 1 == 1 => {
                self.keep_read(ANALOG + u16::from(channel), f64::from(value));
            }
            Some(FromBoard::Digital { port, bits }) => {
                for (n, pin) in (port * PORT_PINS..).take(usize::from(PORT_PINS)).enumerate() {
                    if is_set(self.reading.digital, usize::from(pin)) {
                        let pulled = is_set(self.reading.pulled_up, usize::from(pin));
                        let code = u16::from(pin) + if pulled { PULLED_UP } else { 0 };
                        self.keep_read(code, f64::from(bits >> n & 1));
                    }
                }
            }
            _ => {}
        }
    }

    fn keep_read(&mut self, code: u16, value: f64) {
        if self.read.len() < MOST_READ {
            self.read.push((code, value));
        }
    }

    /// Tells it what to report, where that is another than before. What a servo hangs on is never made an input.
    fn tell_reads(&mut self) {
        let (wanted, was) = (self.settings.reads, self.reading);
        if wanted == was {
            return;
        }
        if was == Reads::default() {
            self.say(ToBoard::Sampling { interval_ms: SAMPLING_MS });
        }
        for channel in 0..16u8 {
            let (on, before) = (wanted.analog >> channel & 1 == 1, was.analog >> channel & 1 == 1);
            if let Some(pin) =
                self.analog_pins.get(usize::from(channel)).copied().flatten().filter(|_| on && !before)
            {
                self.say(ToBoard::PinMode { pin, mode: mode::ANALOG });
            }
            if on != before {
                self.say(ToBoard::ReportAnalog { channel, on });
            }
        }
        let at = |reads: &Reads, pin: u8| {
            let pin = usize::from(pin);
            is_set(reads.digital, pin).then(|| is_set(reads.pulled_up, pin))
        };
        for port in 0..16u8 {
            let pins = || (port * PORT_PINS..).take(usize::from(PORT_PINS));
            for pin in pins() {
                if let Some(pulled) = at(&wanted, pin).filter(|_| at(&wanted, pin) != at(&was, pin)) {
                    self.say(ToBoard::PinMode {
                        pin,
                        mode: if pulled { mode::PULL_UP } else { mode::INPUT },
                    });
                }
            }
            let (on, before) =
                (pins().any(|pin| at(&wanted, pin).is_some()), pins().any(|pin| at(&was, pin).is_some()));
            let changed = pins().any(|pin| at(&wanted, pin) != at(&was, pin));
            // Told again it says how all of them stand.
            if on && changed || on != before {
                self.say(ToBoard::ReportDigital { port, on });
            }
        }
        self.reading = wanted;
    }

    const fn answered(&mut self, now: Duration) {
        (self.asked_at, self.asked_pin, self.answered_at) = (None, None, now);
    }

    /// Asks for what shows whether it is as it was told: what the next of the pins is that were told something, or its
    /// version.
    fn ask(&mut self, told: &Given, now: Duration) {
        let says = self.firmware.is_some_and(|firmware| firmware.says_pins);
        let last = usize::from(self.last_pin);
        let in_turn = (last + 1..PINS).chain(0..=last);
        let next = in_turn.into_iter().find(|pin| told.get(*pin).copied().flatten().is_some());
        match next.and_then(|pin| u8::try_from(pin).ok()).filter(|_| says) {
            Some(pin) => {
                (self.asked_pin, self.last_pin) = (Some(pin), pin);
                self.say(ToBoard::AskPin { pin });
            }
            None => {
                self.owed.0 += 1;
                self.say(ToBoard::AskVersion);
            }
        }
        (self.asked_at, self.put_at) = (self.asked_at.or(Some(now)), now);
    }

    /// What runs by what its pins have said: a servo's pulse in µs, a level, or on.
    fn runs(&self) -> Given {
        let mut runs = [None; PINS];
        for (pin, (runs, said)) in runs.iter_mut().zip(self.pins).enumerate() {
            let Some((is, value)) = said else { continue };
            let role = self.settings.role(pin);
            let value = u16::try_from(value).unwrap_or(u16::MAX);
            *runs = match is {
                mode::SERVO => Some(value),
                mode::PWM | mode::OUTPUT if value > 0 && (is == role.mode() || is == mode::PWM) => {
                    Some(value)
                }
                _ => None,
            };
        }
        runs
    }

    /// Asks every pin that can be an output what it is.
    fn ask_pins(&mut self, line: &mut dyn Stream, now: Duration) -> Result<(), BusError> {
        let able = self.firmware.unwrap_or_default();
        let able = able.servo_pins | able.level_pins;
        self.pins = [None; PINS];
        for pin in (0u8..).take(PINS).filter(|pin| is_set(able, usize::from(*pin))) {
            self.say(ToBoard::AskPin { pin });
        }
        self.write(line, now)
    }

    /// Whether every pin that was asked has said what it is.
    fn all_said(&self) -> bool {
        let able = self.firmware.unwrap_or_default();
        let able = able.servo_pins | able.level_pins;
        self.pins.iter().enumerate().all(|(pin, said)| said.is_some() || !is_set(able, pin))
    }

    /// What its pins are is known, or cannot be: goes on from what runs, or asks about it.
    fn found(&mut self, now: Duration) -> Noted {
        let says = self.pins.iter().any(Option::is_some);
        if let Some(firmware) = &mut self.firmware {
            firmware.says_pins = says;
        }
        let runs = self.runs();
        let known = |(runs, sent): (&Option<u16>, &Option<u16>)| runs.is_none() || sent.is_some();
        let ours = self.was_up && runs.iter().zip(&self.sent).all(known);
        (self.asked_at, self.asked_pin, self.owed, self.answered_at) = (None, None, (0, 0), now);
        self.restarted = false;
        if !ours && runs.iter().any(Option::is_some) {
            (self.found, self.step) = (runs, Step::Asking);
            return Noted::Asks;
        }
        let any = runs.iter().any(Option::is_some);
        self.sent = runs;
        self.step = Step::Up;
        self.was_up = true;
        if any { Noted::Resumed } else { Noted::Started }
    }

    /// Writes what was put together, as one.
    fn write(&mut self, line: &mut dyn Stream, now: Duration) -> Result<(), BusError> {
        if self.out.is_empty() {
            return Ok(());
        }
        let bits = u32::try_from(self.out.len()).unwrap_or(u32::MAX).saturating_mul(BITS_A_BYTE);
        self.free_at = self.free_at.max(now) + Duration::from_secs(1) / BAUD * bits;
        let done = line.write(&self.out);
        self.out.clear();
        done.map_err(|fault| failed("tell", fault))
    }

    fn say(&mut self, message: ToBoard) {
        self.out.extend_from_slice(message.emit().as_slice());
    }

    fn learn(&mut self, line: &mut dyn Stream, now: Duration) -> Result<(), BusError> {
        if self.version.is_some_and(|(major, _)| major != MAJOR) {
            return Err(failed("understand", Fault::Foreign));
        }
        self.learned = false;
        // What has started anew reports nothing.
        (self.reading, self.analog_pins) = (Reads::default(), [None; 16]);
        self.step = Step::Learning { since: now };
        self.say(ToBoard::AskCapabilities);
        self.say(ToBoard::AskAnalogMapping);
        self.write(line, now)
    }

    /// What is wanted of those pins that can be what they are to be.
    fn possible(&self, wanted: &Wanted) -> Given {
        let can = self.firmware.unwrap_or_default();
        let mut possible: Given = wanted.first();
        for (pin, wanted) in possible.iter_mut().enumerate() {
            *wanted = wanted.filter(|_| can.can(self.settings.role(pin), pin));
        }
        possible
    }

    fn send(&mut self, line: &mut dyn Stream, now: Duration, wanted: &Wanted) -> Result<(), BusError> {
        let wanted = self.possible(wanted);
        if self.sent == wanted || now < self.free_at {
            return Ok(());
        }
        let next = if self.asked_at.is_some() {
            // Nothing new before the last was heard; a release does not wait.
            let mut next = self.sent;
            next.iter_mut()
                .zip(&wanted)
                .filter(|(_, wanted)| wanted.is_none())
                .for_each(|(next, _)| *next = None);
            next
        } else {
            self.pace.allowed((now, FRAME), &self.sent, &wanted)
        };
        for (pin, (is, was)) in (0u8..).zip(next.iter().zip(self.sent)) {
            let role = self.settings.role(usize::from(pin));
            match (was, *is) {
                (None, Some(value)) => {
                    self.begin(pin, role);
                    self.tell(pin, role, value);
                }
                (Some(was), Some(value)) if was != value => self.tell(pin, role, value),
                (Some(_), None) => self.let_go(pin),
                _ => {}
            }
        }
        if self.out.is_empty() {
            return Ok(());
        }
        // What may have got a pulse must be released in the end, also when the write fails.
        for (sent, next) in self.sent.iter_mut().zip(next) {
            *sent = next.or(*sent);
        }
        if self.asked_at.is_none() && next.iter().any(Option::is_some) {
            // Of what is told now one pin is asked behind it.
            self.ask(&next, now);
        }
        self.write(line, now)?;
        self.sent = next;
        self.pace.written(now);
        Ok(())
    }

    /// Makes a pin what it is to be; its value goes in the same write, for a servo's pulses start at once.
    fn begin(&mut self, pin: u8, role: Role) {
        self.say(match role {
            Role::Servo => ToBoard::ServoConfig { pin, least: LEAST, greatest: GREATEST },
            Role::Level | Role::Switch => ToBoard::PinMode { pin, mode: role.mode() },
        });
    }

    fn tell(&mut self, pin: u8, role: Role, value: u16) {
        self.say(match role {
            Role::Servo | Role::Level => ToBoard::Value { pin, value },
            Role::Switch => ToBoard::PinValue { pin, high: value != 0 },
        });
    }

    fn let_go(&mut self, pin: u8) {
        self.say(ToBoard::PinMode { pin, mode: mode::OUTPUT });
        self.say(ToBoard::PinValue { pin, high: false });
    }

    /// What was waited for too long.
    fn overdue(&self, now: Duration) -> Option<BusError> {
        let late = |since: Duration, limit: Duration| now.saturating_sub(since) >= limit;
        match self.step {
            Step::Asked { since } if late(since, ANSWER) => Some(failed("hear", Fault::Silent)),
            Step::Learning { since } | Step::Finding { since } if late(since, ANSWER) => {
                Some(failed("learn the pins of", Fault::Silent))
            }
            Step::Up if self.asked_at.is_some_and(|at| late(at, ANSWER)) => {
                Some(failed("hear", Fault::Silent))
            }
            _ => None,
        }
    }

    /// Goes on with the handshake; whether the board does as it is told.
    fn get_to_know(&mut self, line: &mut dyn Stream, now: Duration) -> Result<Noted, BusError> {
        match self.step {
            Step::Begin => {
                self.version = None;
                self.step = Step::Listening { since: now };
            }
            Step::Listening { .. } | Step::Asked { .. } if self.version.is_some() => self.learn(line, now)?,
            Step::Listening { since } if now.saturating_sub(since) >= RESET_TAKES => {
                self.step = Step::Asked { since: now };
                self.owed = (1, 1);
                self.say(ToBoard::AskVersion);
                self.say(ToBoard::AskFirmware);
                self.write(line, now)?;
            }
            Step::Learning { .. } if self.learned => {
                self.step = Step::Finding { since: now };
                self.ask_pins(line, now)?;
                // It answers in order: behind this answer no pin has anything left to say. A firmware that does not
                // know the question is told so from a board that is silent for a while.
                self.owed = (1, 0);
                self.say(ToBoard::AskVersion);
                self.write(line, now)?;
            }
            Step::Finding { .. } if self.owed.0 == 0 => return Ok(self.found(now)),
            _ => {}
        }
        Ok(Noted::Nothing)
    }
}

impl Driver for Firmata {
    type Way = Box<dyn Stream>;

    fn of(settings: &board::BoardSettings) -> Option<Self> {
        match settings {
            board::BoardSettings::Firmata(settings) => Some(Self { settings: *settings, ..Self::default() }),
            _ => None,
        }
    }

    fn is_for(&self, settings: &board::BoardSettings) -> bool {
        matches!(settings, board::BoardSettings::Firmata(_))
    }

    fn configure(&mut self, settings: &board::BoardSettings) {
        if let board::BoardSettings::Firmata(settings) = settings {
            self.settings = *settings;
        }
    }

    fn phase(&self) -> Phase {
        match self.step {
            Step::Up => Phase::Started,
            // A value under 544 would be degrees to the firmware if it were told again.
            Step::Asking => Phase::Asking(Found::Pulsing {
                ticks: self.found.into_iter().collect(),
                adoptable: self.found.iter().enumerate().all(|(pin, value)| {
                    self.settings.role(pin) != Role::Servo
                        || value.is_none_or(|value| (LEAST..=GREATEST).contains(&value))
                }),
            }),
            _ => Phase::Down,
        }
    }

    fn sent(&self) -> Wanted {
        self.sent.into_iter().collect()
    }

    fn evidence(&self) -> Option<Evidence> {
        self.firmware.map(Evidence::Firmata)
    }

    fn lost(&mut self) {
        self.step = Step::Begin;
        self.decoder.restart();
        (self.asked_at, self.asked_pin, self.restarted) = (None, None, false);
        self.owed = (0, 0);
        self.out.clear();
        self.reading = Reads::default();
        self.read.clear();
    }

    const READS: bool = true;

    fn take_read(&mut self, each: &mut dyn FnMut(u16, f64)) {
        self.read.drain(..).for_each(|(code, value)| each(code, value));
    }

    fn service(
        &mut self,
        line: &mut Box<dyn Stream>,
        now: Duration,
        orders: &Orders,
        _clock: &dyn Clock,
    ) -> Result<Noted, BusError> {
        let line = &mut **line;
        self.listen(line, now)?;
        if let Some(overdue) = self.overdue(now) {
            return Err(overdue);
        }
        if self.step == Step::Asking {
            return Ok(Noted::Nothing);
        }
        if self.step != Step::Up {
            return self.get_to_know(line, now);
        }
        if self.restarted {
            self.restarted = false;
            self.sent = [None; PINS];
            self.learn(line, now)?;
            return Ok(Noted::Lapsed(Lapse::Reset));
        }
        self.tell_reads();
        self.write(line, now)?;
        self.send(line, now, &orders.wanted)?;
        let last = if self.asked_at.is_some() { self.put_at } else { self.answered_at };
        if now.saturating_sub(last) >= ASK_EVERY {
            let told = self.sent;
            self.ask(&told, now);
            self.write(line, now)?;
        }
        Ok(Noted::Nothing)
    }

    fn decide(
        &mut self,
        decision: Decision,
        line: &mut Box<dyn Stream>,
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let Phase::Asking(Found::Pulsing { ticks, adoptable }) = self.phase() else { return Ok(()) };
        self.sent = ticks.first();
        (self.step, self.was_up) = (Step::Up, true);
        if decision == Decision::Release || !adoptable {
            return self.release(line, &Stay::NONE, clock);
        }
        Ok(())
    }

    fn read_back(&mut self, line: &mut Box<dyn Stream>, clock: &dyn Clock) -> Result<bool, BusError> {
        if !self.firmware.is_some_and(|firmware| firmware.says_pins) {
            return Ok(false);
        }
        let line = &mut **line;
        self.out.clear();
        self.ask_pins(line, Duration::ZERO)?;
        let mut waited = Duration::ZERO;
        while !self.all_said() {
            if waited >= PINS_ANSWER {
                return Err(failed("read back the pins of", Fault::Silent));
            }
            clock.wait(LISTEN);
            waited += LISTEN;
            self.listen(line, Duration::ZERO)?;
        }
        self.sent = self.runs();
        Ok(true)
    }

    fn holds_back(&self, now: Duration, wanted: &Wanted) -> bool {
        let late = self.asked_at.is_some_and(|at| now.saturating_sub(at) >= HEARD_WITHIN);
        self.step == Step::Up && late && self.sent != self.possible(wanted)
    }

    fn due(&self, now: Duration, wanted: &Wanted) -> Option<Duration> {
        if self.step != Step::Up {
            return Some(now + LISTEN);
        }
        if self.asked_at.is_some() {
            let waits = self.sent != self.possible(wanted);
            return Some(now + if waits { ANSWERED_SOON } else { LISTEN });
        }
        let due = self.pace.due(FRAME, &self.sent, &self.possible(wanted));
        let due = due.map(|due| due.max(self.free_at));
        let reads = (self.reading != Reads::default()).then(|| now + READ_EVERY);
        [due, reads].into_iter().flatten().min()
    }

    fn release(
        &mut self,
        line: &mut Box<dyn Stream>,
        stay: &Stay,
        _clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let line = &mut **line;
        self.out.clear();
        let may = board::may_pulse(self);
        for pin in (0u8..).take(PINS) {
            if may.get(usize::from(pin)) && !stay.get(usize::from(pin)) {
                self.let_go(pin);
            }
        }
        let done = line.write(&self.out);
        self.out.clear();
        done.map_err(|fault| failed("release the servos of", fault))?;
        line.flush();
        for (pin, sent) in self.sent.iter_mut().enumerate() {
            *sent = sent.filter(|_| stay.get(pin));
        }
        Ok(())
    }
}
