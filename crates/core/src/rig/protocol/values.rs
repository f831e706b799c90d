//! Ways in that bring values and no bytes: what opens them stands in `port`.

use super::bytes::STICK;
use super::{Channel, Flow, ON_OFF, PLAIN, ProtocolRow};
use crate::rig::{PortKind, Pressed};

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

pub(super) static FIRMATA: ProtocolRow = ProtocolRow {
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

pub(super) static EVDEV: ProtocolRow = ProtocolRow {
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

pub(super) static GPIO: ProtocolRow = ProtocolRow {
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

pub(super) static IIO: ProtocolRow = ProtocolRow {
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

pub(super) static MQTT: ProtocolRow = ProtocolRow {
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

pub(super) static KEYS: ProtocolRow = ProtocolRow {
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
    silent: "its keys work in the Inputs view of this program: ‹play faders› plays them there",
    ..PLAIN
};

pub(super) static WAVE: ProtocolRow = ProtocolRow {
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
