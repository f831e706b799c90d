//! Protocols that are bytes: their decoders stand in `wire`.

use super::{Channel, Flow, Framing, PLAIN, ProtocolRow, Usual};
use crate::rig::PortKind;

/// The number of the channel that tells how well a receiver hears, in percent.
pub const QUALITY: u16 = 101;
/// The number of the channel that tells how strong a receiver's signal is, in dBm.
pub const SIGNAL: u16 = 102;

pub(super) static LINES: ProtocolRow = ProtocolRow {
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
pub(super) const STICK: Usual = (1000.0, Some(1500.0), 2000.0);

pub(super) static IBUS: ProtocolRow = ProtocolRow {
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

pub(super) static SBUS: ProtocolRow = ProtocolRow {
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

pub(super) static CRSF: ProtocolRow = ProtocolRow {
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

pub(super) static MIDI: ProtocolRow = ProtocolRow {
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

/// An address, and behind its last colon which of a message's numbers; the first by default.
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

pub(super) static OSC: ProtocolRow = ProtocolRow {
    word: "osc",
    title: "OSC messages",
    on: &[PortKind::Udp],
    has: "an address, as \"/wing\"; \"/wing:2\" is the second number of its message",
    read: address,
    write: |code| format!("/{code}"),
    silent: "does the sender send to this machine and this port? Only this machine is heard unless the port says otherwise",
    ..PLAIN
};
