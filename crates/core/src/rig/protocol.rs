//! What may be spoken on a link: one row a protocol, and the names of its channels.
//!
//! Code asks the row; a new protocol is a row here, a decoder in `wire`, and a stand-in in `sim`.

use super::{PortKind, Pressed};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::Arc;

/// A channel of a link, as its protocol knows it: by a number, or by a name that only whoever sends it gives.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Channel {
    /// By a number; the protocol's row gives it a name.
    Code(u16),
    /// By a name.
    Name(Arc<str>),
}

/// What is spoken on a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Protocol {
    /// Lines of numbers, as any microcontroller can print them.
    Lines,
    /// A radio receiver that sends 14 channels of 16 bits at 115200.
    Ibus,
    /// A radio receiver that sends 16 channels of 11 bits at 100000, inverted.
    Sbus,
    /// A radio receiver that sends 16 channels of 11 bits at 420000, with the quality of its link.
    Crsf,
    /// MIDI 1.0, on a serial line at 31250.
    Midi,
    /// OSC 1.0 messages.
    Osc,
    /// Analog and digital pins of a board that speaks Firmata and drives servos too.
    Firmata,
    /// Events of the kernel: game pads, wheels, keyboards, rotary encoders.
    Evdev,
    /// Lines of a GPIO chip.
    Gpio,
    /// Sensors that the kernel has a driver for.
    Iio,
    /// MQTT 3.1.1 messages of a broker.
    Mqtt,
    /// Faders and buttons on the screen, moved by keys.
    Keys,
    /// A wave that this program makes itself.
    Wave,
}

/// Whether a link sends by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// It sends by itself: silence means something.
    Streaming,
    /// It speaks when something changes.
    Event,
}

/// The bits around each byte on a serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Framing {
    /// Eight bits, no parity, one stop bit.
    #[default]
    EightNone1,
    /// Eight bits, even parity, two stop bits.
    EightEven2,
}

/// Raw values at the two ends, and between them at rest of what returns to its middle.
pub type Usual = (f64, Option<f64>, f64);

/// What a protocol is.
pub struct ProtocolRow {
    /// The word in a file.
    pub word: &'static str,
    /// What a link of it is, in a word or two.
    pub title: &'static str,
    /// The kinds of port that it may stand on.
    pub on: &'static [PortKind],
    /// Whether it sends by itself.
    pub flow: Flow,
    /// The rate of a serial line, unless the port says another.
    pub baud: u32,
    /// The bits around each byte there.
    pub framing: Framing,
    /// The channels that it has, in words.
    pub has: &'static str,
    /// The channel of a name; none where it has no such channel.
    pub read: fn(&str) -> Option<Channel>,
    /// The name of a channel that has a number.
    pub write: fn(u16) -> String,
    /// The unit of its values; nothing where they have none.
    pub unit: fn(&Channel) -> &'static str,
    /// The raw values that are usual for a channel.
    pub usual: fn(&Channel) -> Usual,
    /// It is a radio's receiver: behind it there is a transmitter, which may be off.
    pub is_radio: bool,
    /// What to look at where nothing comes.
    pub silent: &'static str,
    /// Which of its two values means pressed, of a channel that is a switch.
    pub pressed: fn(&Channel) -> Option<Pressed>,
    /// Whether a channel sends by itself, of a protocol that otherwise speaks when something changes.
    pub streams: fn(&Channel) -> bool,
    /// Only those channels are to be had that were asked for when the way was opened.
    pub asks: bool,
}

/// What is pressed or not.
const ON_OFF: Usual = (0.0, None, 1.0);

/// What most rows have.
const PLAIN: ProtocolRow = ProtocolRow {
    word: "",
    title: "",
    on: &[],
    flow: Flow::Event,
    baud: 0,
    framing: Framing::EightNone1,
    has: "",
    read: |_| None,
    write: |code| code.to_string(),
    unit: |_| "",
    usual: |_| ON_OFF,
    is_radio: false,
    silent: "",
    pressed: |_| None,
    streams: |_| false,
    asks: false,
};

impl fmt::Debug for ProtocolRow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("ProtocolRow").field("word", &self.word).finish_non_exhaustive()
    }
}

/// The number of the channel that tells how well a receiver hears, in percent.
pub const QUALITY: u16 = 101;
/// The number of the channel that tells how strong a receiver's signal is, in dBm.
pub const SIGNAL: u16 = 102;

static LINES: ProtocolRow = ProtocolRow {
    word: "lines",
    title: "lines of numbers",
    on: &[PortKind::Serial, PortKind::Stdin, PortKind::Udp],
    flow: Flow::Streaming,
    baud: 115_200,
    has: "\"field 1\", \"field 2\" … by their place in the line, or the name that stands before = or :",
    read: |name| match name.strip_prefix("field ") {
        Some(place) => place.parse().ok().filter(|place| *place > 0).map(Channel::Code),
        None => (!name.is_empty()).then(|| Channel::Name(name.into())),
    },
    write: |place| format!("field {place}"),
    usual: |_| (0.0, None, 1023.0),
    silent: "is it plugged in, and does it print lines of numbers?",
    ..PLAIN
};

/// A receiver's channels, from 1 up to a number.
fn stick(name: &str, most: u16) -> Option<Channel> {
    let number: u16 = name.strip_prefix("ch")?.parse().ok()?;
    ((1..=most).contains(&number) && name == format!("ch{number}")).then_some(Channel::Code(number))
}

fn of_receiver(code: u16) -> String {
    match code {
        QUALITY => "quality".to_owned(),
        SIGNAL => "signal".to_owned(),
        _ => format!("ch{code}"),
    }
}

fn receivers_unit(channel: &Channel) -> &'static str {
    match channel {
        Channel::Code(QUALITY) => "%",
        Channel::Code(SIGNAL) => "dBm",
        _ => "µs",
    }
}

/// A stick's travel and its rest, in µs.
const STICK: Usual = (1000.0, Some(1500.0), 2000.0);

static IBUS: ProtocolRow = ProtocolRow {
    word: "ibus",
    title: "iBUS receiver",
    on: &[PortKind::Serial],
    flow: Flow::Streaming,
    baud: 115_200,
    has: "ch1 to ch14",
    read: |name| stick(name, 14),
    write: of_receiver,
    unit: receivers_unit,
    usual: |_| STICK,
    is_radio: true,
    silent: "is the receiver powered, and is its servo output of this bus on the adapter's RX pin?",
    ..PLAIN
};

static SBUS: ProtocolRow = ProtocolRow {
    word: "sbus",
    title: "SBUS receiver",
    on: &[PortKind::Serial],
    flow: Flow::Streaming,
    baud: 100_000,
    framing: Framing::EightEven2,
    has: "ch1 to ch18; ch17 and ch18 are on or off",
    read: |name| stick(name, 18),
    write: of_receiver,
    unit: receivers_unit,
    usual: |_| STICK,
    is_radio: true,
    silent: "is the receiver powered? Its signal is inverted: most adapters need an inverter before their RX pin",
    ..PLAIN
};

static CRSF: ProtocolRow = ProtocolRow {
    word: "crsf",
    title: "CRSF receiver",
    on: &[PortKind::Serial],
    flow: Flow::Streaming,
    baud: 420_000,
    has: "ch1 to ch16, quality (%) and signal (dBm)",
    read: |name| match name {
        "quality" => Some(Channel::Code(QUALITY)),
        "signal" => Some(Channel::Code(SIGNAL)),
        _ => stick(name, 16),
    },
    write: of_receiver,
    unit: receivers_unit,
    usual: |_| STICK,
    is_radio: true,
    silent: "is the receiver powered and bound, and does the adapter take 420000 baud? Some take only usual rates",
    ..PLAIN
};

/// What a MIDI channel has, by its words, as the decoder numbers them.
const MIDI_KINDS: [(&str, u16); 4] = [("cc", 0), ("note", 1), ("bend", 2), ("pressure", 3)];
const WIDE: u16 = 4;
const WIDE_WORD: &str = "-14bit";

fn midi(name: &str) -> Option<Channel> {
    let (channel, what) = name.split_once('/')?;
    let channel: u16 = channel.parse().ok().filter(|channel| (1..=16).contains(channel))?;
    let (word, kind) = MIDI_KINDS.into_iter().find(|(word, _)| what.starts_with(word))?;
    let (kind, number) = match (kind, what.strip_prefix(word)?) {
        (0, rest) if rest.ends_with(WIDE_WORD) => (WIDE, rest.strip_suffix(WIDE_WORD)?),
        (kind, rest) => (kind, rest),
    };
    let number: u16 = match kind {
        2 | 3 => number.is_empty().then_some(0)?,
        WIDE => number.parse().ok().filter(|number| *number < 32)?,
        _ => number.parse().ok().filter(|number| *number < 128)?,
    };
    let code = kind << 11 | (channel - 1) << 7 | number;
    (of_midi(code) == name).then_some(Channel::Code(code))
}

fn of_midi(code: u16) -> String {
    let (kind, channel, number) = (code >> 11, (code >> 7 & 0x0F) + 1, code & 0x7F);
    match kind {
        0 => format!("{channel}/cc{number}"),
        1 => format!("{channel}/note{number}"),
        2 => format!("{channel}/bend"),
        3 => format!("{channel}/pressure"),
        _ => format!("{channel}/cc{number}{WIDE_WORD}"),
    }
}

static MIDI: ProtocolRow = ProtocolRow {
    word: "midi",
    title: "MIDI instrument",
    on: &[PortKind::Midi, PortKind::Serial],
    baud: 31_250,
    has: "\"1/cc7\", \"1/cc7-14bit\", \"1/note60\", \"1/bend\", \"1/pressure\", behind the MIDI channel 1 to 16",
    read: midi,
    write: of_midi,
    usual: |_| (0.0, None, 127.0),
    silent: "it speaks when something is moved: is its MIDI out on the adapter's RX pin, behind an optocoupler?",
    ..PLAIN
};

/// An address, and behind its last colon which of a message's numbers; the first unless said.
fn address(name: &str) -> Option<Channel> {
    let (address, place) = match name.rsplit_once(':') {
        Some((address, place)) if place.bytes().all(|digit| digit.is_ascii_digit()) => {
            (address, place.parse::<u16>().ok().filter(|place| *place > 0)?)
        }
        _ => (name, 1),
    };
    let plain = |c: char| c.is_ascii_graphic() && !matches!(c, '#' | '*' | ',' | '?' | '[' | ']' | '{' | '}');
    let fits = address.starts_with('/') && address.len() > 1 && address.chars().all(plain);
    fits.then(|| Channel::Name(if place == 1 { address.into() } else { format!("{address}:{place}").into() }))
}

static OSC: ProtocolRow = ProtocolRow {
    word: "osc",
    title: "OSC messages",
    on: &[PortKind::Udp],
    has: "an address, as \"/wing\"; \"/wing:2\" is the second number of its message",
    read: address,
    write: |code| format!("/{code}"),
    silent: "does the sender send to this machine and this port? Only this machine is heard unless the port says otherwise",
    ..PLAIN
};

/// The first code of the analog pins of a Firmata board; digital pins stand from 0, those with a pull-up from 128.
pub const ANALOG: u16 = 256;
/// The first code of the digital pins with a pull-up.
pub const PULLED_UP: u16 = 128;
/// What stands behind the name of a line whose pull-up is to be on.
const PULL_UP: &str = " pull-up";

fn pin(name: &str) -> Option<Channel> {
    let (plain, pulled) = name.strip_suffix(PULL_UP).map_or((name, 0), |plain| (plain, PULLED_UP));
    let (base, number) = match (plain.strip_prefix('a'), plain.strip_prefix('d')) {
        (Some(number), _) if pulled == 0 => (ANALOG, number),
        (_, Some(number)) => (pulled, number),
        _ => return None,
    };
    let code = base + number.parse::<u16>().ok().filter(|number| *number < 128)?;
    (of_pin(code) == name).then_some(Channel::Code(code))
}

fn of_pin(code: u16) -> String {
    match code {
        ANALOG.. => format!("a{}", code - ANALOG),
        PULLED_UP.. => format!("d{}{PULL_UP}", code - PULLED_UP),
        _ => format!("d{code}"),
    }
}

/// The pin of a channel that reads a digital pin of a Firmata board.
pub fn digital_pin(channel: &Channel) -> Option<u8> {
    match channel {
        Channel::Code(code) if *code < ANALOG => u8::try_from(code % PULLED_UP).ok(),
        _ => None,
    }
}

static FIRMATA: ProtocolRow = ProtocolRow {
    word: "firmata",
    title: "pins of a Firmata board",
    on: &[PortKind::Serial],
    has: "a0, a1 … (analog), d2, d3 … (digital), or \"d2 pull-up\", of pins that no servo hangs on",
    read: pin,
    write: of_pin,
    usual: |channel| if (FIRMATA.streams)(channel) { (0.0, None, 1023.0) } else { ON_OFF },
    silent: "is the board plugged in, and does its firmware report its pins?",
    pressed: |channel| match channel {
        Channel::Code(ANALOG..) | Channel::Name(_) => None,
        Channel::Code(PULLED_UP..) => Some(Pressed::Low),
        Channel::Code(_) => Some(Pressed::High),
    },
    streams: |channel| matches!(channel, Channel::Code(ANALOG..)),
    ..PLAIN
};

/// An event's name as the kernel has it, in lower case.
fn event(name: &str) -> Option<Channel> {
    let (kind, rest) = name.split_once('-')?;
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let fits =
        matches!(kind, "abs" | "rel" | "btn" | "key" | "sw") && !rest.is_empty() && rest.chars().all(plain);
    fits.then(|| Channel::Name(name.into()))
}

fn begins(channel: &Channel, beginnings: &[&str]) -> bool {
    matches!(channel, Channel::Name(name) if beginnings.iter().any(|beginning| name.starts_with(beginning)))
}

static EVDEV: ProtocolRow = ProtocolRow {
    word: "evdev",
    title: "game pad or other input device",
    on: &[PortKind::Evdev],
    has: "the kernel's names in lower case: \"abs-x\", \"btn-south\", \"rel-dial\" (its steps added up)",
    read: event,
    usual: |channel| match channel {
        channel if begins(channel, &["abs-"]) => (0.0, None, 255.0),
        channel if begins(channel, &["rel-"]) => (0.0, None, 24.0),
        _ => ON_OFF,
    },
    pressed: |channel| begins(channel, &["btn-", "key-", "sw-"]).then_some(Pressed::High),
    silent: "it speaks when something is moved: is it switched on?",
    ..PLAIN
};

/// A line by its name or number, with its pull-up or without, or two lines of an encoder.
fn line(name: &str) -> Option<Channel> {
    let fits = match name.split_once(' ')? {
        ("line" | "pulse", line) => {
            let line = line.strip_suffix(PULL_UP).unwrap_or(line);
            !line.is_empty() && line.trim() == line
        }
        ("counts", lines) => {
            let lines = lines.strip_suffix(PULL_UP).unwrap_or(lines);
            lines.split(' ').filter(|line| !line.is_empty()).count() == 2 && lines.split(' ').count() == 2
        }
        _ => false,
    };
    fits.then(|| Channel::Name(name.into()))
}

/// A receiver's pulses come by themselves.
fn is_pulse(channel: &Channel) -> bool {
    begins(channel, &["pulse "])
}

static GPIO: ProtocolRow = ProtocolRow {
    word: "gpio",
    title: "lines of a GPIO chip",
    on: &[PortKind::Gpio],
    has: "\"line NAME\" or \"line 17\", \"line NAME pull-up\", \"counts A B\" for a rotary encoder on two lines, \"pulse NAME\" for a radio's pulse (µs)",
    read: line,
    unit: |channel| if is_pulse(channel) { "µs" } else { "" },
    pressed: |channel| match channel {
        Channel::Name(name) if name.starts_with("line ") && name.ends_with(PULL_UP) => Some(Pressed::Low),
        channel => begins(channel, &["line "]).then_some(Pressed::High),
    },
    streams: is_pulse,
    usual: |channel| match channel {
        channel if begins(channel, &["counts "]) => (0.0, None, 24.0),
        channel if is_pulse(channel) => STICK,
        _ => ON_OFF,
    },
    silent: "it speaks when a line changes: is the switch wired between the line and ground, with a pull-up?",
    asks: true,
    ..PLAIN
};

/// The kernel's name of a sensor's channel, without what kind of file it is.
fn sensor(name: &str) -> Option<Channel> {
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' || c == '-';
    let fits = name.strip_prefix("in_").is_some_and(|rest| !rest.is_empty() && rest.chars().all(plain));
    fits.then(|| Channel::Name(name.into()))
}

/// The units of the kernel's ABI, by how a channel's name begins.
const SENSED: [(&str, &str); 11] = [
    ("in_voltage", "mV"),
    ("in_current", "mA"),
    ("in_accel", "m/s²"),
    ("in_anglvel", "rad/s"),
    ("in_temp", "m°C"),
    ("in_distance", "m"),
    ("in_illuminance", "lx"),
    ("in_pressure", "kPa"),
    ("in_humidityrelative", "m%"),
    ("in_magn", "G"),
    ("in_resistance", "Ω"),
];

static IIO: ProtocolRow = ProtocolRow {
    word: "iio",
    title: "kernel sensor",
    on: &[PortKind::Iio],
    flow: Flow::Streaming,
    has: "the kernel's names: \"in_distance\" (m), \"in_voltage0\" (mV), \"in_accel_x\" (m/s²), \"in_temp\" (m°C)",
    read: sensor,
    unit: |channel| {
        let unit = SENSED.iter().find(|(beginning, _)| begins(channel, &[beginning]));
        unit.map_or("", |(_, unit)| unit)
    },
    silent: "does its driver measure? `cat` one of its in_…_raw files",
    ..PLAIN
};

/// A topic, and behind a `#` the place of a number in its JSON.
fn topic(name: &str) -> Option<Channel> {
    let (topic, pointer) =
        name.split_once('#').map_or((name, None), |(topic, pointer)| (topic, Some(pointer)));
    let fits =
        !topic.is_empty() && !topic.contains('+') && pointer.is_none_or(|pointer| pointer.starts_with('/'));
    fits.then(|| Channel::Name(name.into()))
}

static MQTT: ProtocolRow = ProtocolRow {
    word: "mqtt",
    title: "MQTT messages",
    on: &[PortKind::Mqtt],
    has: "a topic, as \"hut/gap\"; \"hut/gap#/cm\" is the number of that name in its JSON",
    read: topic,
    silent: "does the sender publish to this broker, below what the port listens to?",
    ..PLAIN
};

/// What the keyboard has, by its codes from 1.
pub const KEYS_HAVE: [&str; 6] = ["fader1", "fader2", "toggle1", "toggle2", "button1", "button2"];

static KEYS: ProtocolRow = ProtocolRow {
    word: "keys",
    title: "keyboard faders",
    on: &[PortKind::Keys],
    has: "fader1, fader2 (0 to 100 %), toggle1, toggle2, button1, button2",
    read: |name| {
        let place = KEYS_HAVE.iter().position(|own| *own == name)?;
        u16::try_from(place + 1).ok().map(Channel::Code)
    },
    write: |code| {
        let place = usize::from(code).checked_sub(1);
        place.and_then(|place| KEYS_HAVE.get(place)).map_or_else(String::new, |name| (*name).to_owned())
    },
    unit: |channel| if matches!(channel, Channel::Code(1 | 2)) { "%" } else { "" },
    usual: |channel| if matches!(channel, Channel::Code(1 | 2)) { (0.0, None, 100.0) } else { ON_OFF },
    pressed: |channel| (!matches!(channel, Channel::Code(1 | 2))).then_some(Pressed::High),
    silent: "its keys work in the Inputs view of this program: J plays them there",
    ..PLAIN
};

static WAVE: ProtocolRow = ProtocolRow {
    word: "wave",
    title: "wave generator",
    on: &[PortKind::Wave],
    flow: Flow::Streaming,
    has: "wave",
    read: |name| (name == "wave").then_some(Channel::Code(1)),
    write: |_| "wave".to_owned(),
    silent: "this program makes it itself: it comes with the next beat",
    ..PLAIN
};

impl Protocol {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 13] = [
        Self::Lines,
        Self::Ibus,
        Self::Sbus,
        Self::Crsf,
        Self::Midi,
        Self::Osc,
        Self::Firmata,
        Self::Evdev,
        Self::Gpio,
        Self::Iio,
        Self::Mqtt,
        Self::Keys,
        Self::Wave,
    ];

    /// What it is.
    pub const fn row(self) -> &'static ProtocolRow {
        match self {
            Self::Lines => &LINES,
            Self::Ibus => &IBUS,
            Self::Sbus => &SBUS,
            Self::Crsf => &CRSF,
            Self::Midi => &MIDI,
            Self::Osc => &OSC,
            Self::Firmata => &FIRMATA,
            Self::Evdev => &EVDEV,
            Self::Gpio => &GPIO,
            Self::Iio => &IIO,
            Self::Mqtt => &MQTT,
            Self::Keys => &KEYS,
            Self::Wave => &WAVE,
        }
    }

    /// The word in a file.
    pub const fn word(self) -> &'static str {
        self.row().word
    }

    /// The one that a word names.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|protocol| protocol.word() == word.trim())
    }

    /// Those that a kind of port can have.
    pub fn on(kind: PortKind) -> impl Iterator<Item = Self> {
        Self::ALL.into_iter().filter(move |protocol| protocol.row().on.contains(&kind))
    }

    /// Whether a channel sends by itself.
    pub fn flow_of(self, channel: &Channel) -> Flow {
        let row = self.row();
        if row.flow == Flow::Streaming || (row.streams)(channel) { Flow::Streaming } else { Flow::Event }
    }

    /// What a kind of port has where nothing is said.
    pub fn usual(kind: PortKind) -> Option<Self> {
        Self::on(kind).next()
    }

    /// The name of a channel.
    pub fn name(self, channel: &Channel) -> String {
        match channel {
            Channel::Code(code) => (self.row().write)(*code),
            Channel::Name(name) => name.to_string(),
        }
    }

    /// Whether it sends by itself.
    pub const fn streams(self) -> bool {
        matches!(self.row().flow, Flow::Streaming)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_words_in_a_file_are_those_of_the_rows_and_every_name_comes_back() {
        for protocol in Protocol::ALL {
            let row = protocol.row();
            assert_eq!(serde_json::to_value(protocol).unwrap(), row.word);
            assert_eq!(Protocol::of(row.word), Some(protocol));
            assert!(!row.on.is_empty() && !row.has.is_empty());
            for name in [
                "field 3",
                "ch1",
                "ch14",
                "ch16",
                "ch18",
                "quality",
                "signal",
                "wave",
                "knob",
                "1/cc7",
                "16/cc31-14bit",
                "2/note127",
                "1/bend",
                "9/pressure",
                "/wing",
                "/wing:2",
                "a0",
                "a15",
                "d2",
                "d127",
                "d7 pull-up",
                "abs-hat0x",
                "btn-south",
                "line GPIO17 pull-up",
                "pulse 4",
                "counts 17 27",
                "marsh/hut/gap",
                "marsh/hut/gap#/in/cm",
                "fader2",
                "button1",
            ] {
                if let Some(channel) = (row.read)(name) {
                    assert_eq!(protocol.name(&channel), name, "{}", row.word);
                }
            }
        }
    }

    #[test]
    fn a_channel_that_a_protocol_does_not_have_is_none() {
        let has = |protocol: Protocol, name| (protocol.row().read)(name).is_some();
        for wrong in ["ch0", "ch15", "ch01", "ch", "3", "quality", "chx", "", "ch-1", "ch99999999"] {
            assert!(!has(Protocol::Ibus, wrong), "{wrong}");
        }
        assert!(has(Protocol::Sbus, "ch18") && !has(Protocol::Sbus, "ch19"));
        assert!(has(Protocol::Crsf, "signal") && !has(Protocol::Crsf, "ch17"));
        for wrong in ["field 0", "field ", "field x", "field 99999", ""] {
            assert!(!has(Protocol::Lines, wrong), "{wrong}");
        }
        assert!(has(Protocol::Lines, "knob") && has(Protocol::Lines, "field 12"));
    }

    #[test]
    fn pins_lines_events_sensors_and_topics_that_there_are_not_are_none() {
        let has = |protocol: Protocol, name| (protocol.row().read)(name).is_some();
        for wrong in ["a", "d128", "a0 pull-up", "d02", "x2", "a-1", "d2 pull-down", ""] {
            assert!(!has(Protocol::Firmata, wrong), "{wrong}");
        }
        assert_eq!(pin("a3"), Some(Channel::Code(ANALOG + 3)));
        assert_eq!(pin("d3 pull-up"), Some(Channel::Code(PULLED_UP + 3)));
        let streams = |name| (FIRMATA.streams)(&pin(name).unwrap());
        assert!(streams("a0") && !streams("d2") && !streams("d2 pull-up"));
        for wrong in ["abs", "abs-", "ABS_X", "abs x", "led-0", "abs-x\u{1b}"] {
            assert!(!has(Protocol::Evdev, wrong), "{wrong}");
        }
        for wrong in
            ["GPIO17", "line", "line ", "counts 17", "counts 17  27", "counts 1 2 3", "pulse", "width 4"]
        {
            assert!(!has(Protocol::Gpio, wrong), "{wrong}");
        }
        for wrong in ["", "#/a", "a/+/b", "a#b", "#"] {
            assert!(!has(Protocol::Mqtt, wrong), "{wrong}");
        }
        for wrong in ["in_", "accel_x", "in_Accel", "in_accel x", "in_\u{1b}", ""] {
            assert!(!has(Protocol::Iio, wrong), "{wrong}");
        }
        let unit = |name| (IIO.unit)(&sensor(name).unwrap());
        let units = ["in_voltage0", "in_accel_x", "in_temp", "in_distance", "in_proximity0"].map(unit);
        assert_eq!(units, ["mV", "m/s²", "m°C", "m", ""], "those of the kernel's ABI");
        for wrong in ["fader0", "fader3", "fader", "1"] {
            assert!(!has(Protocol::Keys, wrong), "{wrong}");
        }
    }

    #[test]
    fn a_midi_channel_that_there_is_not_is_none() {
        for wrong in
            ["0/cc7", "17/cc7", "1/cc128", "1/cc32-14bit", "1/bend3", "1/", "cc7", "1/cc07", "1/note", "1/x3"]
        {
            assert_eq!(midi(wrong), None, "{wrong}");
        }
        assert_eq!(midi("1/cc7"), Some(Channel::Code(7)));
        assert_eq!(midi("3/note60"), Some(Channel::Code(0x093C)));
    }

    #[test]
    fn an_osc_address_is_split_at_its_last_colon() {
        let read = |name: &str| address(name).map(|channel| Protocol::Osc.name(&channel));
        assert_eq!(read("/wing:1").as_deref(), Some("/wing"));
        assert_eq!(read("/a:b:2").as_deref(), Some("/a:b:2"));
        assert_eq!(read("/a:b").as_deref(), Some("/a:b"));
        for wrong in ["wing", "/", "/wing:0", "/wing:99999", "/w ing", "/w*", ""] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
