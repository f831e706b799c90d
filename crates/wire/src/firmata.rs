//! Firmata 2 over a serial line: messages to a microcontroller's board and from it.
//!
//! A message is a command byte with its data bytes below 0x80, or a *sysex* between F0 and F7. The decoder cuts a
//! stream into frames, in any chunking and fixed memory; what a frame says depends on who sent it. When to say
//! what is the driver's business.

/// The rate of the line.
pub const BAUD: u32 = 57_600;
/// Below this, common firmware takes a servo value for degrees.
pub const LEAST_PULSE_US: u16 = 544;
/// Pins that the protocol can name.
pub const PINS: usize = 128;
/// Pins that the short servo message reaches.
const SHORT_PINS: u8 = 16;
/// The longest sysex that is kept; the capabilities of 70 pins take about 700 bytes.
const ROOM: usize = 2048;

/// The most bytes that the value of a pin takes.
const PIN_VALUE_BYTES: usize = 3;

/// The command bytes of the protocol, without the channel in their lower half.
mod command {
    pub const DIGITAL: u8 = 0x90;
    pub const REPORT_ANALOG: u8 = 0xC0;
    pub const REPORT_DIGITAL: u8 = 0xD0;
    pub const ANALOG: u8 = 0xE0;
    pub const SYSEX: u8 = 0xF0;
    pub const PIN_MODE: u8 = 0xF4;
    pub const PIN_VALUE: u8 = 0xF5;
    pub const SYSEX_END: u8 = 0xF7;
    pub const VERSION: u8 = 0xF9;
    pub const RESET: u8 = 0xFF;
}

/// The numbers of the extended messages.
mod sysex {
    pub const ANALOG_MAPPING: u8 = 0x6A;
    pub const ASK_ANALOG_MAPPING: u8 = 0x69;
    pub const CAPABILITIES: u8 = 0x6C;
    pub const ASK_CAPABILITIES: u8 = 0x6B;
    pub const ASK_PIN: u8 = 0x6D;
    pub const PIN: u8 = 0x6E;
    pub const EXTENDED_ANALOG: u8 = 0x6F;
    pub const SERVO_CONFIG: u8 = 0x70;
    pub const TEXT: u8 = 0x71;
    pub const FIRMWARE: u8 = 0x79;
    pub const SAMPLING: u8 = 0x7A;
}

/// What a pin can be.
pub mod mode {
    /// A digital input.
    pub const INPUT: u8 = 0;
    /// A digital output.
    pub const OUTPUT: u8 = 1;
    /// An analog input.
    pub const ANALOG: u8 = 2;
    /// A pulse-width output.
    pub const PWM: u8 = 3;
    /// The pin mode in which a pin sends servo pulses.
    pub const SERVO: u8 = 4;
    /// A digital input with its pull-up.
    pub const PULL_UP: u8 = 0x0B;
}

/// One message as bytes, of at most sixteen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Bytes {
    bytes: [u8; 16],
    len: usize,
}

impl Bytes {
    fn of(parts: &[u8]) -> Self {
        let mut all = Self::default();
        for &byte in parts {
            if let Some(place) = all.bytes.get_mut(all.len) {
                *place = byte;
                all.len += 1;
            }
        }
        all
    }

    /// What was written so far, in the order in which it is sent.
    pub fn as_slice(&self) -> &[u8] {
        self.bytes.get(..self.len).unwrap_or_default()
    }
}

/// What is said to a board. Pins 0–127, values 0–16383, pulses in µs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToBoard {
    /// Which version of the protocol do you speak?
    AskVersion,
    /// Which firmware are you?
    AskFirmware,
    /// What can each pin do?
    AskCapabilities,
    /// Which pin is which analog channel?
    AskAnalogMapping,
    /// What is this pin now, and at which value?
    AskPin {
        /// The pin, as the board numbers them from 0.
        pin: u8,
    },
    /// A pin is to be something: see [`mode`].
    PinMode {
        /// The pin, as the board numbers them from 0.
        pin: u8,
        /// What it is to be.
        mode: u8,
    },
    /// A digital output is to be high or low.
    PinValue {
        /// The pin, as the board numbers them from 0.
        pin: u8,
        /// The pin is high, at its supply's level.
        high: bool,
    },
    /// A servo's pulse, or a pulse-width output's value.
    Value {
        /// The pin, as the board numbers them from 0.
        pin: u8,
        /// µs for a servo, 0–255 for an output.
        value: u16,
    },
    /// A pin becomes a servo; its pulses start at once.
    ServoConfig {
        /// The pin, as the board numbers them from 0.
        pin: u8,
        /// The least pulse the board will give, 36..1056 µs.
        least: u16,
        /// The greatest, 1892..2912 µs.
        greatest: u16,
    },
    /// An analog channel is to be reported, or no more.
    ReportAnalog {
        /// The channel, 0–15.
        channel: u8,
        /// It is to be reported; else no longer.
        on: bool,
    },
    /// Eight digital pins are to be reported, or no more.
    ReportDigital {
        /// The port: pins 8·port and on.
        port: u8,
        /// It is to be reported; else no longer.
        on: bool,
    },
    /// The time between two analog reports.
    Sampling {
        /// Milliseconds between two samples.
        interval_ms: u16,
    },
}

/// The two data bytes of a value of 14 bits, low one first.
const fn halves(value: u16) -> [u8; 2] {
    let [low, high] = (value << 1).to_le_bytes();
    [low >> 1, high & 0x7F]
}

/// A value of 14 bits from its two data bytes.
const fn whole(low: u8, high: u8) -> u16 {
    (low & 0x7F) as u16 | ((high & 0x7F) as u16) << 7
}

impl ToBoard {
    /// The bytes of it.
    pub fn emit(self) -> Bytes {
        use command::{PIN_MODE, PIN_VALUE, REPORT_ANALOG, REPORT_DIGITAL, SYSEX, SYSEX_END, VERSION};
        match self {
            Self::AskVersion => Bytes::of(&[VERSION]),
            Self::AskFirmware => Bytes::of(&[SYSEX, sysex::FIRMWARE, SYSEX_END]),
            Self::AskCapabilities => Bytes::of(&[SYSEX, sysex::ASK_CAPABILITIES, SYSEX_END]),
            Self::AskAnalogMapping => Bytes::of(&[SYSEX, sysex::ASK_ANALOG_MAPPING, SYSEX_END]),
            Self::AskPin { pin } => Bytes::of(&[SYSEX, sysex::ASK_PIN, pin & 0x7F, SYSEX_END]),
            Self::PinMode { pin, mode } => Bytes::of(&[PIN_MODE, pin & 0x7F, mode & 0x7F]),
            Self::PinValue { pin, high } => Bytes::of(&[PIN_VALUE, pin & 0x7F, u8::from(high)]),
            Self::Value { pin, value } => {
                let [low, high] = halves(value);
                if pin < SHORT_PINS {
                    Bytes::of(&[command::ANALOG | pin, low, high])
                } else {
                    Bytes::of(&[SYSEX, sysex::EXTENDED_ANALOG, pin & 0x7F, low, high, SYSEX_END])
                }
            }
            Self::ServoConfig { pin, least, greatest } => {
                let ([a, b], [c, d]) = (halves(least), halves(greatest));
                Bytes::of(&[SYSEX, sysex::SERVO_CONFIG, pin & 0x7F, a, b, c, d, SYSEX_END])
            }
            Self::ReportAnalog { channel, on } => {
                Bytes::of(&[REPORT_ANALOG | (channel & 0x0F), u8::from(on)])
            }
            Self::ReportDigital { port, on } => Bytes::of(&[REPORT_DIGITAL | (port & 0x0F), u8::from(on)]),
            Self::Sampling { interval_ms } => {
                let [low, high] = halves(interval_ms);
                Bytes::of(&[SYSEX, sysex::SAMPLING, low, high, SYSEX_END])
            }
        }
    }

    /// What a frame that came to a board says, for stand-ins; `None` for what is not used here.
    pub fn parse(frame: &Frame<'_>) -> Option<Self> {
        Some(match (frame.command & 0xF0, frame.command, frame.data) {
            (_, command::VERSION, _) => Self::AskVersion,
            (_, command::PIN_MODE, &[pin, mode]) => Self::PinMode { pin, mode },
            (_, command::PIN_VALUE, &[pin, value]) => Self::PinValue { pin, high: value != 0 },
            (_, command::SYSEX, [number, data @ ..]) => return Self::parse_sysex(*number, data),
            (command::ANALOG, short, &[low, high]) => {
                Self::Value { pin: short & 0x0F, value: whole(low, high) }
            }
            (command::REPORT_ANALOG, short, &[on]) => {
                Self::ReportAnalog { channel: short & 0x0F, on: on != 0 }
            }
            (command::REPORT_DIGITAL, short, &[on]) => {
                Self::ReportDigital { port: short & 0x0F, on: on != 0 }
            }
            _ => return None,
        })
    }

    fn parse_sysex(number: u8, data: &[u8]) -> Option<Self> {
        Some(match (number, data) {
            (sysex::FIRMWARE, []) => Self::AskFirmware,
            (sysex::ASK_CAPABILITIES, []) => Self::AskCapabilities,
            (sysex::ASK_ANALOG_MAPPING, []) => Self::AskAnalogMapping,
            (sysex::ASK_PIN, &[pin]) => Self::AskPin { pin },
            (sysex::EXTENDED_ANALOG, &[pin, low, high]) => Self::Value { pin, value: whole(low, high) },
            (sysex::SERVO_CONFIG, &[pin, a, b, c, d]) => {
                Self::ServoConfig { pin, least: whole(a, b), greatest: whole(c, d) }
            }
            (sysex::SAMPLING, &[low, high]) => Self::Sampling { interval_ms: whole(low, high) },
            _ => return None,
        })
    }
}

/// What a board says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FromBoard<'a> {
    /// The version of the protocol.
    Version {
        /// Its first number.
        major: u8,
        /// The number behind the dot of its version.
        minor: u8,
    },
    /// The firmware, with its name as pairs of seven bits.
    Firmware {
        /// Its first number.
        major: u8,
        /// The number behind the dot of its version.
        minor: u8,
        /// The name: two bytes a character, low one first.
        name: &'a [u8],
    },
    /// What each pin can do.
    Capabilities(Capabilities<'a>),
    /// By pin, its analog channel, or 7F.
    AnalogMapping(&'a [u8]),
    /// What a pin is now.
    Pin {
        /// The pin, as the board numbers them from 0.
        pin: u8,
        /// What it is: see [`mode`].
        mode: u8,
        /// Its value: of a servo its pulse in µs; of one to three bytes, low one first, as many as the board sends.
        value: u32,
    },
    /// An analog channel reads so.
    Analog {
        /// The analog channel, as the board numbers them from 0.
        channel: u8,
        /// What it reads, 14 bits.
        value: u16,
    },
    /// Eight digital pins read so.
    Digital {
        /// The port: pins 8·port and on.
        port: u8,
        /// A bit a pin, lowest first.
        bits: u8,
    },
    /// Words for a person, two bytes a character.
    Text(&'a [u8]),
    /// A sysex of another number.
    Other(u8),
}

impl<'a> FromBoard<'a> {
    /// What a frame that came from a board says; `None` for what boards do not send.
    pub fn parse(frame: &Frame<'a>) -> Option<Self> {
        Some(match (frame.command & 0xF0, frame.command, frame.data) {
            (_, command::VERSION, &[major, minor]) => Self::Version { major, minor },
            (_, command::SYSEX, [number, data @ ..]) => match (*number, data) {
                (sysex::FIRMWARE, [major, minor, name @ ..]) => {
                    Self::Firmware { major: *major, minor: *minor, name }
                }
                (sysex::CAPABILITIES, data) => Self::Capabilities(Capabilities(data)),
                (sysex::ANALOG_MAPPING, data) => Self::AnalogMapping(data),
                (sysex::TEXT, data) => Self::Text(data),
                (sysex::PIN, [pin, mode, value @ ..]) if value.len() <= PIN_VALUE_BYTES => {
                    let value = value.iter().rev().fold(0, |value, byte| value << 7 | u32::from(*byte));
                    Self::Pin { pin: *pin, mode: *mode, value }
                }
                (other, _) => Self::Other(other),
            },
            (command::ANALOG, short, &[low, high]) => {
                Self::Analog { channel: short & 0x0F, value: whole(low, high) }
            }
            (command::DIGITAL, short, &[low, high]) => {
                Self::Digital { port: short & 0x0F, bits: whole(low, high).to_le_bytes()[0] }
            }
            _ => return None,
        })
    }

    /// Writes it as a board would, for stand-ins.
    pub fn emit(&self, out: &mut Vec<u8>) {
        let enclosed = |out: &mut Vec<u8>, number: u8, data: &[u8]| {
            out.extend([command::SYSEX, number]);
            out.extend(data.iter().map(|byte| byte & 0x7F));
            out.push(command::SYSEX_END);
        };
        match *self {
            Self::Version { major, minor } => out.extend([command::VERSION, major & 0x7F, minor & 0x7F]),
            Self::Firmware { major, minor, name } => {
                let data = [&[major, minor], name].concat();
                enclosed(out, sysex::FIRMWARE, &data);
            }
            Self::Capabilities(Capabilities(data)) => enclosed(out, sysex::CAPABILITIES, data),
            Self::AnalogMapping(data) => enclosed(out, sysex::ANALOG_MAPPING, data),
            Self::Text(data) => enclosed(out, sysex::TEXT, data),
            Self::Other(number) => enclosed(out, number, &[]),
            Self::Pin { pin, mode, value } => {
                // As common firmware does: high bytes that are nothing are not sent.
                let byte = |n: u32| (value >> (7 * n)).to_le_bytes()[0] & 0x7F;
                let data = [pin, mode, byte(0), byte(1), byte(2)];
                let kept = if value < 1 << 7 {
                    3
                } else if value < 1 << 14 {
                    4
                } else {
                    5
                };
                enclosed(out, sysex::PIN, data.get(..kept).unwrap_or_default());
            }
            Self::Analog { channel, value } => {
                let [low, high] = halves(value);
                out.extend([command::ANALOG | (channel & 0x0F), low, high]);
            }
            Self::Digital { port, bits } => {
                let [low, high] = halves(u16::from(bits));
                out.extend([command::DIGITAL | (port & 0x0F), low, high]);
            }
        }
    }
}

/// The answer to what each pin can do: pairs of mode and resolution, a 7F behind each pin.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capabilities<'a>(pub &'a [u8]);

impl Capabilities<'_> {
    /// Whether each pin can be something, pin by pin.
    pub fn can(&self, wanted: u8) -> impl Iterator<Item = bool> {
        const PIN_ENDS: u8 = 0x7F;
        self.0
            .split_inclusive(|byte| *byte == PIN_ENDS)
            // Without its end a pin has been cut off.
            .filter_map(|pin| pin.strip_suffix(&[PIN_ENDS]))
            .map(move |pin| pin.chunks(2).any(|pair| pair.first() == Some(&wanted)))
    }
}

/// One message of the stream. The data of a sysex begins with its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Frame<'a> {
    /// The command byte.
    pub command: u8,
    /// Its data bytes, all below 0x80.
    pub data: &'a [u8],
}

/// What a decoder has counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// How many whole messages were decoded.
    pub good: u64,
    /// Messages that broke off or were too long.
    pub bad: u64,
    /// Bytes outside any message.
    pub skipped: u64,
}

/// Cuts a stream into frames. Takes bytes in any chunking, never grows, and goes on after rubbish.
#[derive(Debug)]
pub struct Decoder {
    room: Box<[u8; ROOM]>,
    len: usize,
    command: Option<u8>,
    overflow: bool,
    counts: Counts,
}

impl Default for Decoder {
    fn default() -> Self {
        Self { room: Box::new([0; ROOM]), len: 0, command: None, overflow: false, counts: Counts::default() }
    }
}

/// Data bytes that a command wants; none for what no command is.
const fn wants(command: u8, to_board: bool) -> Option<usize> {
    match command {
        0x90..=0x9F | 0xE0..=0xEF | command::PIN_MODE | command::PIN_VALUE => Some(2),
        command::VERSION => Some(if to_board { 0 } else { 2 }),
        0xC0..=0xDF => Some(1),
        command::RESET => Some(0),
        _ => None,
    }
}

impl Decoder {
    /// What was counted so far.
    pub const fn counts(&self) -> Counts {
        self.counts
    }

    /// Forgets what has begun: the line was opened anew.
    pub const fn restart(&mut self) {
        (self.len, self.command, self.overflow) = (0, None, false);
    }

    /// Takes one byte that a board sent; gives the message that it completes.
    pub fn from_board(&mut self, byte: u8) -> Option<Frame<'_>> {
        self.take(byte, false)
    }

    /// Takes one byte that came to a board.
    pub fn to_board(&mut self, byte: u8) -> Option<Frame<'_>> {
        self.take(byte, true)
    }

    fn take(&mut self, byte: u8, to_board: bool) -> Option<Frame<'_>> {
        match (self.command, byte) {
            (Some(command::SYSEX), command::SYSEX_END) => {
                let broken = std::mem::take(&mut self.overflow) || self.len == 0;
                self.command = None;
                if broken {
                    self.counts.bad += 1;
                    return None;
                }
                return Some(self.complete(command::SYSEX));
            }
            (open, 0x80..) => {
                self.counts.bad += u64::from(open.is_some());
                self.begin(byte, to_board);
            }
            (Some(_), data) => match self.room.get_mut(self.len) {
                Some(place) => {
                    *place = data;
                    self.len += 1;
                }
                None => self.overflow = true,
            },
            (None, _) => self.counts.skipped += 1,
        }
        let command = self.command.filter(|command| wants(*command, to_board) == Some(self.len))?;
        self.command = None;
        Some(self.complete(command))
    }

    const fn begin(&mut self, byte: u8, to_board: bool) {
        (self.len, self.overflow) = (0, false);
        self.command =
            if byte == command::SYSEX || wants(byte, to_board).is_some() { Some(byte) } else { None };
        if self.command.is_none() {
            self.counts.skipped += 1;
        }
    }

    fn complete(&mut self, command: u8) -> Frame<'_> {
        self.counts.good += 1;
        Frame { command, data: self.room.get(..self.len).unwrap_or_default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bytes(message: ToBoard) -> Vec<u8> {
        message.emit().as_slice().to_vec()
    }

    /// Everything that a stream says, as text.
    fn heard(stream: &[u8]) -> Vec<String> {
        let mut decoder = Decoder::default();
        let mut all = Vec::new();
        for &byte in stream {
            if let Some(frame) = decoder.from_board(byte) {
                all.extend(FromBoard::parse(&frame).map(|message| format!("{message:?}")));
            }
        }
        all
    }

    #[test]
    fn the_byte_vectors_of_the_design_hold() {
        assert_eq!(bytes(ToBoard::Value { pin: 9, value: 1500 }), [0xE9, 0x5C, 0x0B]);
        assert_eq!(bytes(ToBoard::Value { pin: 20, value: 1500 }), [0xF0, 0x6F, 0x14, 0x5C, 0x0B, 0xF7]);
        let config = ToBoard::ServoConfig { pin: 9, least: 600, greatest: 2400 };
        assert_eq!(bytes(config), [0xF0, 0x70, 0x09, 0x58, 0x04, 0x60, 0x12, 0xF7]);
        assert_eq!(bytes(ToBoard::ReportAnalog { channel: 0, on: true }), [0xC0, 0x01]);
        assert_eq!(heard(&[0xE0, 0x00, 0x04]), ["Analog { channel: 0, value: 512 }"]);
        assert_eq!(bytes(ToBoard::PinMode { pin: 3, mode: mode::OUTPUT }), [0xF4, 3, 1]);
        assert_eq!(bytes(ToBoard::PinValue { pin: 3, high: false }), [0xF5, 3, 0]);
        assert_eq!(bytes(ToBoard::AskPin { pin: 9 }), [0xF0, 0x6D, 0x09, 0xF7]);
        let standing = [0xF0, 0x6E, 0x09, 0x04, 0x5C, 0x0B, 0xF7];
        assert_eq!(heard(&standing), ["Pin { pin: 9, mode: 4, value: 1500 }"]);
        // Common firmware drops high zeros, and may send a third byte.
        assert_eq!(heard(&[0xF0, 0x6E, 9, 1, 0, 0xF7]), ["Pin { pin: 9, mode: 1, value: 0 }"]);
        assert_eq!(heard(&[0xF0, 0x6E, 9, 3, 0, 0, 1, 0xF7]), ["Pin { pin: 9, mode: 3, value: 16384 }"]);
        assert_eq!(bytes(ToBoard::AskVersion), [0xF9]);
        assert_eq!(bytes(ToBoard::AskFirmware), [0xF0, 0x79, 0xF7]);
        assert_eq!(bytes(ToBoard::AskCapabilities), [0xF0, 0x6B, 0xF7]);
        assert_eq!(bytes(ToBoard::AskAnalogMapping), [0xF0, 0x69, 0xF7]);
        assert_eq!(bytes(ToBoard::ReportDigital { port: 1, on: true }), [0xD1, 0x01]);
        assert_eq!(bytes(ToBoard::Sampling { interval_ms: 20 }), [0xF0, 0x7A, 20, 0, 0xF7]);
        assert_eq!((BAUD, LEAST_PULSE_US), (57_600, 544));
        assert_eq!((mode::INPUT, mode::ANALOG, mode::PWM, mode::SERVO, mode::PULL_UP), (0, 2, 3, 4, 0x0B));
    }

    #[test]
    fn a_board_says_who_it_is_and_what_its_pins_can() {
        let stream = [0xF9, 2, 7, 0xF0, 0x79, 2, 7, b'r', 0, b'u', 0, 0xF7, 0x91, 0x05, 0x01];
        assert_eq!(
            heard(&stream),
            [
                "Version { major: 2, minor: 7 }",
                "Firmware { major: 2, minor: 7, name: [114, 0, 117, 0] }",
                "Digital { port: 1, bits: 133 }"
            ]
        );
        // Pin 0 can do nothing, pin 1 in and out, pin 2 in, pwm and servo.
        let can = Capabilities(&[0x7F, 0, 1, 1, 1, 0x7F, 0, 1, 3, 8, 4, 14, 0x7F]);
        assert_eq!(can.can(mode::SERVO).collect::<Vec<_>>(), [false, false, true]);
        // A resolution of 4 is not the mode of that number.
        assert_eq!(Capabilities(&[0, 4, 0x7F]).can(mode::SERVO).collect::<Vec<_>>(), [false]);
    }

    #[test]
    fn rubbish_is_counted_and_gone_past() {
        let mut decoder = Decoder::default();
        // Bytes of nothing, a version that breaks off, an empty sysex, a byte that begins nothing.
        for byte in [0x11, 0x22, 0xF9, 0x02, 0xF0, 0xF7, 0xFE] {
            assert_eq!(decoder.from_board(byte), None);
        }
        assert_eq!(decoder.counts(), Counts { good: 0, bad: 2, skipped: 3 });
        for byte in [0xF9, 2] {
            assert_eq!(decoder.from_board(byte), None);
        }
        assert_eq!(decoder.from_board(7), Some(Frame { command: 0xF9, data: &[2, 7] }));
    }

    #[test]
    fn a_sysex_without_end_does_not_grow() {
        let mut decoder = Decoder::default();
        decoder.from_board(0xF0);
        for _ in 0..3 * ROOM {
            assert_eq!(decoder.from_board(0x01), None);
        }
        assert_eq!(decoder.from_board(0xF7), None);
        assert_eq!(decoder.counts().bad, 1);
        decoder.from_board(0xE1);
        decoder.from_board(0x00);
        assert!(decoder.from_board(0x04).is_some(), "and what comes behind it is heard");
    }

    proptest! {
        #[test]
        fn what_is_said_to_a_board_survives_the_round_trip(
            pin in 0u8..128, value in 0u16..16384, other in 0u16..16384, on: bool, which in 0usize..10
        ) {
            let message = [
                ToBoard::Value { pin, value },
                ToBoard::ServoConfig { pin, least: value, greatest: other },
                ToBoard::PinMode { pin, mode: (value % 12) as u8 },
                ToBoard::PinValue { pin, high: on },
                ToBoard::ReportAnalog { channel: pin % 16, on },
                ToBoard::ReportDigital { port: pin % 16, on },
                ToBoard::Sampling { interval_ms: value },
                ToBoard::AskVersion,
                ToBoard::AskCapabilities,
                ToBoard::AskPin { pin },
            ][which];
            let mut decoder = Decoder::default();
            let mut got = Vec::new();
            for &byte in message.emit().as_slice() {
                if let Some(frame) = decoder.to_board(byte) {
                    got.extend(ToBoard::parse(&frame));
                }
            }
            prop_assert_eq!(got, vec![message]);
        }

        #[test]
        fn what_a_board_says_survives_the_round_trip_and_no_high_byte_that_is_nothing_is_sent(
            pin in 0u8..128, mode in 0u8..128, bits in 0u32..21, low in 0u32..1 << 21, channel in 0u8..16, port in any::<u8>(),
        ) {
            // As many low bits as high ones are tried: values are not all great.
            let value = low & ((1 << (bits + 1)) - 1);
            let analog = u16::try_from(value & 0x3FFF).unwrap_or(0);
            for (said, length) in [
                (FromBoard::Pin { pin, mode, value }, 6 + usize::from(value >= 1 << 7) + usize::from(value >= 1 << 14)),
                (FromBoard::Analog { channel, value: analog }, 3),
                (FromBoard::Digital { port: channel, bits: port }, 3),
            ] {
                let mut bytes = Vec::new();
                said.emit(&mut bytes);
                prop_assert_eq!(bytes.len(), length);
                prop_assert_eq!(heard(&bytes), vec![format!("{said:?}")]);
            }
        }

        #[test]
        fn no_bytes_make_it_panic_and_each_is_counted_once(stream: Vec<u8>) {
            let mut decoder = Decoder::default();
            let mut used = 0u64;
            for &byte in &stream {
                if let Some(frame) = decoder.from_board(byte) {
                    used += 1;
                    if let Some(FromBoard::Capabilities(can)) = FromBoard::parse(&frame) {
                        let _ = can.can(mode::SERVO).count();
                    }
                    let _ = ToBoard::parse(&frame);
                }
            }
            prop_assert_eq!(decoder.counts().good, used);
        }
    }
}
