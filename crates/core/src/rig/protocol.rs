//! What may be spoken on a link: one row a protocol, and the names of its channels.
//!
//! Code asks the row; a new protocol is a row in [`bytes`] with a decoder in `wire`, or in [`values`] with what opens it in
//! `port`, and a stand-in in `sim`.

mod bytes;
mod values;

pub use bytes::{QUALITY, SIGNAL};
pub use values::{ANALOG, KEYS_HAVE, PULLED_UP, digital_pin};

use super::{PortKind, Pressed};
use bytes::{CRSF, IBUS, LINES, MIDI, OSC, SBUS};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::Arc;
use values::{EVDEV, FIRMATA, GPIO, IIO, KEYS, MQTT, WAVE};

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
        assert_eq!((FIRMATA.read)("a3"), Some(Channel::Code(ANALOG + 3)));
        assert_eq!((FIRMATA.read)("d3 pull-up"), Some(Channel::Code(PULLED_UP + 3)));
        let streams = |name| (FIRMATA.streams)(&(FIRMATA.read)(name).unwrap());
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
        let unit = |name| (IIO.unit)(&(IIO.read)(name).unwrap());
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
            assert_eq!((MIDI.read)(wrong), None, "{wrong}");
        }
        assert_eq!((MIDI.read)("1/cc7"), Some(Channel::Code(7)));
        assert_eq!((MIDI.read)("3/note60"), Some(Channel::Code(0x093C)));
    }

    #[test]
    fn an_osc_address_is_split_at_its_last_colon() {
        let read = |name: &str| (OSC.read)(name).map(|channel| Protocol::Osc.name(&channel));
        assert_eq!(read("/wing:1").as_deref(), Some("/wing"));
        assert_eq!(read("/a:b:2").as_deref(), Some("/a:b:2"));
        assert_eq!(read("/a:b").as_deref(), Some("/a:b"));
        for wrong in ["wing", "/", "/wing:0", "/wing:99999", "/w ing", "/w*", ""] {
            assert_eq!(read(wrong), None, "{wrong}");
        }
    }
}
