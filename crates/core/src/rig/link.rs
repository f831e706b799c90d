//! Ways in: a link on a port, with the protocol that is spoken there and the names of its channels.
//!
//! One row a protocol. Code asks the row; a new protocol is a row here, a decoder in `wire`, and a stand-in in `sim`.

use super::bounds::{self, Named};
use super::number::{self, numbers};
use super::{Chip, Ends, LinkId, Parts, PortKind, Rig, is_false};
use crate::link::Rules;
use crate::unit::Seconds;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::Arc;
use std::time::Duration;

/// A way in.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::link)]
#[schemars(transform = number::ranged::<Link>)]
pub struct Link {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: LinkId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// The port that it stands on. On a port of the kinds `udp` several links may stand; on others one.
    pub on: String,
    /// What is spoken there; the first that its kind of port can have unless said: of a serial line, lines of numbers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocol: Option<Protocol>,
    /// Silence that counts as lost, of a link that sends by itself; 500 ms unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost_after_ms: Option<f64>,
    /// Whether a link that sends the very same for long counts as lost.
    #[serde(default, skip_serializing_if = "is_false")]
    pub stuck_is_lost: bool,
    /// Silence that counts as lost, of a link that speaks when something changes; none unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heartbeat_s: Option<Seconds>,
    /// What a wave generator makes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wave: Option<Wave>,
}

numbers! { Link { lost_after_ms: LOST_AFTER = [Link::USUAL_LOST_AFTER], heartbeat_s: HEARTBEAT } }

/// What a wave generator makes, 50 values a second: for trials, and for motion while nobody is there.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Wave>)]
pub struct Wave {
    /// Its form.
    pub shape: WaveShape,
    /// The time of one round; of noise, the time between two of its values.
    pub period_s: Seconds,
    /// The least value.
    #[serde(default)]
    pub low: f64,
    /// The greatest value.
    #[serde(default = "one")]
    pub high: f64,
    /// The same seed gives the same noise.
    #[serde(default, skip_serializing_if = "is_none_yet")]
    pub seed: u32,
}

numbers! { Wave { period_s: PERIOD, low: RAW = [0.0], high: RAW = [1.0], seed: SEED = [0.0] } }

const fn one() -> f64 {
    1.0
}

const fn is_none_yet(seed: &u32) -> bool {
    *seed == 0
}

/// The form of a wave.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum WaveShape {
    /// Up and down without corners.
    Sine,
    /// From low to high at one speed, then from the start again.
    Ramp,
    /// Low for half of its round, then high.
    Steps,
    /// Another value between low and high each time.
    Noise,
}

impl Wave {
    /// What a generator makes of which nothing is said: a slow sine from 0 to 1.
    pub const USUAL: Self =
        Self { shape: WaveShape::Sine, period_s: Seconds::new(4.0), low: 0.0, high: 1.0, seed: 0 };

    /// Its value at a time: a pure function, the same on every machine.
    pub fn at(&self, time: Duration) -> f64 {
        let rounds = time.as_secs_f64() / self.period_s.get();
        let part = rounds - libm::floor(rounds);
        let share = match self.shape {
            WaveShape::Sine => 0.5 - 0.5 * libm::cos(part * std::f64::consts::TAU),
            WaveShape::Ramp => part,
            WaveShape::Steps => libm::floor(part * 2.0),
            WaveShape::Noise => scattered(libm::floor(rounds), self.seed),
        };
        self.low + (self.high - self.low) * share
    }

    /// Its ends as an input has them.
    pub const fn ends(&self) -> Ends<f64> {
        Ends { low: self.low, high: self.high }
    }
}

/// A number from 0 to 1 for a place in a row, by a seed (the `SplitMix64` step).
fn scattered(place: f64, seed: u32) -> f64 {
    let mut z =
        place.to_bits().wrapping_add(u64::from(seed).wrapping_add(1).wrapping_mul(0x9E37_79B9_7F4A_7C15));
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    #[expect(clippy::cast_precision_loss, reason = "53 bits are left, which an f64 holds")]
    let share = ((z ^ (z >> 31)) >> 11) as f64 / (1u64 << 53) as f64;
    share
}

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
    /// The raw values that are usual at the two ends, and at rest of what returns to its middle.
    pub usual: (f64, Option<f64>, f64),
    /// It is a radio's receiver: behind it there is a transmitter, which may be off.
    pub is_radio: bool,
    /// What to look at where nothing comes.
    pub silent: &'static str,
}

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
    framing: Framing::EightNone1,
    has: "\"field 1\", \"field 2\" … by their place in the line, or the name that stands before = or :",
    read: |name| match name.strip_prefix("field ") {
        Some(place) => place.parse().ok().filter(|place| *place > 0).map(Channel::Code),
        None => (!name.is_empty()).then(|| Channel::Name(name.into())),
    },
    write: |place| format!("field {place}"),
    unit: |_| "",
    usual: (0.0, None, 1023.0),
    is_radio: false,
    silent: "is it plugged in, and does it print lines of numbers?",
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
const STICK: (f64, Option<f64>, f64) = (1000.0, Some(1500.0), 2000.0);

static IBUS: ProtocolRow = ProtocolRow {
    word: "ibus",
    title: "iBUS receiver",
    on: &[PortKind::Serial],
    flow: Flow::Streaming,
    baud: 115_200,
    framing: Framing::EightNone1,
    has: "ch1 to ch14",
    read: |name| stick(name, 14),
    write: of_receiver,
    unit: receivers_unit,
    usual: STICK,
    is_radio: true,
    silent: "is the receiver powered, and is its servo output of this bus on the adapter's RX pin?",
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
    usual: STICK,
    is_radio: true,
    silent: "is the receiver powered? Its signal is inverted: most adapters need an inverter before their RX pin",
};

static CRSF: ProtocolRow = ProtocolRow {
    word: "crsf",
    title: "CRSF receiver",
    on: &[PortKind::Serial],
    flow: Flow::Streaming,
    baud: 420_000,
    framing: Framing::EightNone1,
    has: "ch1 to ch16, quality (%) and signal (dBm)",
    read: |name| match name {
        "quality" => Some(Channel::Code(QUALITY)),
        "signal" => Some(Channel::Code(SIGNAL)),
        _ => stick(name, 16),
    },
    write: of_receiver,
    unit: receivers_unit,
    usual: STICK,
    is_radio: true,
    silent: "is the receiver powered and bound, and does the adapter take 420000 baud? Some take only usual rates",
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
    on: &[PortKind::Serial],
    flow: Flow::Event,
    baud: 31_250,
    framing: Framing::EightNone1,
    has: "\"1/cc7\", \"1/cc7-14bit\", \"1/note60\", \"1/bend\", \"1/pressure\", behind the MIDI channel 1 to 16",
    read: midi,
    write: of_midi,
    unit: |_| "",
    usual: (0.0, None, 127.0),
    is_radio: false,
    silent: "it speaks when something is moved: is its MIDI out on the adapter's RX pin, behind an optocoupler?",
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
    flow: Flow::Event,
    baud: 0,
    framing: Framing::EightNone1,
    has: "an address, as \"/wing\"; \"/wing:2\" is the second number of its message",
    read: address,
    write: |code| format!("/{code}"),
    unit: |_| "",
    usual: (0.0, None, 1.0),
    is_radio: false,
    silent: "does the sender send to this machine and this port? Only this machine is heard unless the port says otherwise",
};

static WAVE: ProtocolRow = ProtocolRow {
    word: "wave",
    title: "wave generator",
    on: &[PortKind::Wave],
    flow: Flow::Streaming,
    baud: 0,
    framing: Framing::EightNone1,
    has: "wave",
    read: |name| (name == "wave").then_some(Channel::Code(1)),
    write: |_| "wave".to_owned(),
    unit: |_| "",
    usual: (0.0, None, 1.0),
    is_radio: false,
    silent: "this program makes it itself: it comes with the next beat",
};

impl Protocol {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 7] =
        [Self::Lines, Self::Ibus, Self::Sbus, Self::Crsf, Self::Midi, Self::Osc, Self::Wave];

    /// What it is.
    pub const fn row(self) -> &'static ProtocolRow {
        match self {
            Self::Lines => &LINES,
            Self::Ibus => &IBUS,
            Self::Sbus => &SBUS,
            Self::Crsf => &CRSF,
            Self::Midi => &MIDI,
            Self::Osc => &OSC,
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

impl Link {
    /// Silence that counts as lost where nothing is said, in milliseconds.
    pub const USUAL_LOST_AFTER: f64 = 500.0;

    /// A link with nothing said about it yet.
    pub fn new(name: &str, on: &str, protocol: Option<Protocol>) -> Self {
        Self { name: name.to_owned(), on: on.to_owned(), protocol, ..Self::default() }
    }

    /// What is expected of it.
    pub fn rules(&self, protocol: Protocol) -> Rules {
        let ms = self.lost_after_ms.unwrap_or(Self::USUAL_LOST_AFTER);
        match protocol.row().flow {
            Flow::Streaming => Rules::Streaming {
                lost_after: Duration::try_from_secs_f64(ms / 1e3).unwrap_or_default(),
                stuck_is_lost: self.stuck_is_lost,
            },
            Flow::Event => Rules::Event { heartbeat: self.heartbeat_s.map(Seconds::duration) },
        }
    }
}

impl Rig {
    /// The link of that name.
    pub fn link(&self, name: &str) -> Option<&Link> {
        self.links.iter().find(|link| link.name == name)
    }

    /// What is spoken on a link; none where its port is not there, or can have none.
    pub fn protocol_of(&self, link: &Link) -> Option<Protocol> {
        link.protocol.or_else(|| Protocol::usual(self.port(&link.on)?.kind))
    }
}

impl<'r> Parts<'r> {
    /// The link of that name.
    pub fn link(self, name: &str) -> Option<&'r Link> {
        self.rig.links.get(self.index.links.named(name)?)
    }

    /// What is spoken on a link, as [`Rig::protocol_of`] says.
    pub fn protocol_of(self, link: &Link) -> Option<Protocol> {
        link.protocol.or_else(|| Protocol::usual(self.port(&link.on)?.kind))
    }

    /// The chip of the board that has a port for itself.
    pub fn chip_on(self, port: &str) -> Option<Chip> {
        self.rig.boards.iter().find(|board| board.port == port).map(|board| board.chip)
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

    #[test]
    fn a_wave_has_its_form_and_the_same_seed_gives_the_same_noise() {
        let at = |shape, ms, seed| {
            let wave = Wave { shape, period_s: Seconds::new(2.0), low: 10.0, high: 20.0, seed };
            wave.at(Duration::from_millis(ms))
        };
        let close = |a: f64, b: f64| assert!((a - b).abs() < 1e-9, "{a} {b}");
        for (ms, value) in [(0, 10.0), (500, 15.0), (1000, 20.0), (2500, 15.0)] {
            close(at(WaveShape::Sine, ms, 0), value);
        }
        for (ms, value) in [(0, 10.0), (500, 12.5), (1999, 19.995), (2000, 10.0)] {
            close(at(WaveShape::Ramp, ms, 0), value);
        }
        for (ms, value) in [(0, 10.0), (999, 10.0), (1000, 20.0), (1999, 20.0), (2000, 10.0)] {
            close(at(WaveShape::Steps, ms, 0), value);
        }
        let noise = |seed| (0..50).map(|n| at(WaveShape::Noise, n * 2000, seed)).collect::<Vec<_>>();
        assert_eq!(noise(3), noise(3));
        assert_ne!(noise(3), noise(4));
        assert!(noise(3).iter().all(|value| (10.0..20.0).contains(value)));
        close(at(WaveShape::Noise, 100, 3), at(WaveShape::Noise, 1900, 3));
    }
}
