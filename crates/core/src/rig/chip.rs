//! What boards are made of and hang on: one row a chip, one row a kind of port. Code asks the row; a new chip is a row.

use super::{Board, Protocol};
use crate::clock::PwmClock;
use crate::unit::{Hertz, Micros};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Kinds of port.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum PortKind {
    /// An I²C bus.
    I2c,
    /// A serial line: a link stands on it, or a board that speaks Firmata.
    Serial,
    /// A PWM chip of the Linux kernel, by its device's path or its entry in `/sys/class/pwm`.
    Pwm,
    /// What this program is given on its standard input, where it has no terminal of its own to draw on.
    Stdin,
    /// Datagrams at a port of this machine: its number, or an address with it.
    Udp,
    /// A MIDI device of the kernel, by its path: `/dev/snd/midiC1D0`.
    Midi,
    /// An input device of the kernel, by the path that stays: one of `/dev/input/by-id`.
    Evdev,
    /// A GPIO chip of the kernel, by its path: `/dev/gpiochip0`.
    Gpio,
    /// A sensor that the kernel has a driver for, by its directory: `/sys/bus/iio/devices/iio:device0`.
    Iio,
    /// An MQTT broker.
    Mqtt,
    /// The keyboard, with faders and buttons on the screen.
    Keys,
    /// A wave that this program makes itself.
    Wave,
}

/// What a kind of port is.
#[derive(Debug)]
pub struct PortRow {
    /// What it is, in a word or two.
    pub word: &'static str,
    /// What a new one is called.
    pub name: &'static str,
    /// Several boards take turns on it, each by its address, and several programs may.
    pub is_shared: bool,
    /// It may have a serial rate: it is a line, or behind one.
    pub has_baud: bool,
    /// What its path is, in words; nothing where it has none.
    pub path: Option<&'static str>,
    /// Several links may stand on it.
    pub shares_links: bool,
}

/// What most kinds have.
const PLAIN_PORT: PortRow = PortRow {
    word: "",
    name: "",
    is_shared: false,
    has_baud: false,
    path: Some("a path"),
    shares_links: false,
};

impl PortKind {
    /// All of them.
    pub const ALL: [Self; 12] = [
        Self::I2c,
        Self::Serial,
        Self::Pwm,
        Self::Stdin,
        Self::Udp,
        Self::Midi,
        Self::Evdev,
        Self::Gpio,
        Self::Iio,
        Self::Mqtt,
        Self::Keys,
        Self::Wave,
    ];

    /// What it is.
    pub const fn row(self) -> &'static PortRow {
        match self {
            Self::I2c => {
                &PortRow { word: "I²C bus", name: "bus", is_shared: true, has_baud: true, ..PLAIN_PORT }
            }
            Self::Serial => &PortRow { word: "serial line", name: "line", has_baud: true, ..PLAIN_PORT },
            Self::Pwm => &PortRow { word: "kernel PWM chip", name: "kernel-pwm", ..PLAIN_PORT },
            Self::Stdin => &PortRow { word: "standard input", name: "stdin", path: None, ..PLAIN_PORT },
            Self::Udp => &PortRow {
                word: "UDP port",
                name: "udp",
                path: Some("a port number, or an address with it"),
                shares_links: true,
                ..PLAIN_PORT
            },
            Self::Midi => &PortRow { word: "MIDI device", name: "midi", ..PLAIN_PORT },
            Self::Evdev => &PortRow { word: "input device", name: "pad", ..PLAIN_PORT },
            Self::Gpio => &PortRow { word: "GPIO chip", name: "gpio", ..PLAIN_PORT },
            Self::Iio => &PortRow { word: "kernel sensor", name: "sensor", ..PLAIN_PORT },
            Self::Mqtt => &PortRow {
                word: "MQTT broker",
                name: "broker",
                path: Some("a broker: HOST, HOST:PORT, or HOST:PORT/TOPICS"),
                shares_links: true,
                ..PLAIN_PORT
            },
            Self::Keys => &PortRow { word: "keyboard", name: "keys", path: None, ..PLAIN_PORT },
            Self::Wave => &PortRow {
                word: "wave generator",
                name: "wave",
                path: None,
                shares_links: true,
                ..PLAIN_PORT
            },
        }
    }

    /// What it is, in a word or two.
    pub const fn word(self) -> &'static str {
        self.row().word
    }
}

/// Kinds of chip on a board.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Chip {
    /// The 16-channel, 12-bit PWM expander.
    PwmExpander,
    /// A microcontroller that speaks Firmata; its channels are its pins.
    Firmata,
    /// A PWM chip of the Linux kernel.
    LinuxPwm,
    /// A bus of smart servos; its channels are their ids.
    SmartBus,
}

/// What a chip is.
#[derive(Debug)]
pub struct ChipRow {
    /// The word in a file.
    pub file_word: &'static str,
    /// What it is, in a word or two.
    pub word: &'static str,
    /// The same on paper, with the fineness of its counter where that is known.
    pub full_word: &'static str,
    /// The kind of port that it hangs on.
    pub port: PortKind,
    /// What its channels are called.
    pub channel_word: &'static str,
    /// Its channels, counted from 0. Of a microcontroller these are its pins, not all of which can drive a servo.
    pub channels: u8,
    /// The channels worth showing, and proposing, before it has said what they can: a microcontroller's first pins are
    /// its own serial line.
    pub usual_channels: Range<u8>,
    /// The least pulse that can be had from it, if it has one.
    pub least_pulse: Option<Micros>,
    /// It counts with an oscillator of its own, which can be measured and corrected; marks keep its ticks.
    pub has_own_clock: bool,
    /// Its frame rate can be set.
    pub sets_frame_rate: bool,
    /// The clocks of what it sends; none of what is told counts.
    pub clocks: Option<Clocks>,
    /// What hangs on it is smart: its own kind of servo, and no other.
    pub is_smart: bool,
    /// What a link on it speaks: it says how those of its pins stand that drive nothing.
    pub reports: Option<Protocol>,
    /// What becomes of its last pulses when nobody tells it to stop.
    pub after_a_crash: &'static str,
}

/// The clocks of a chip.
#[derive(Debug)]
pub struct Clocks {
    /// Of its pulses.
    pub pulse: fn(&Board) -> PwmClock,
    /// Of what takes a share of each frame.
    pub share: fn(&Board) -> PwmClock,
}

fn expander_clock(board: &Board) -> PwmClock {
    PwmClock::expander(board.oscillator_hz, board.frame_hz)
}

fn micros_clock(board: &Board) -> PwmClock {
    PwmClock::micros(board.frame_hz)
}

/// A pulse-width output there has eight bits, and a frame that only the board knows.
fn eight_bits(board: &Board) -> PwmClock {
    PwmClock::ideal(8, board.frame_hz)
}

fn sixteen_bits(board: &Board) -> PwmClock {
    PwmClock::ideal(16, board.frame_hz)
}

static PWM_EXPANDER: ChipRow = ChipRow {
    file_word: "pwm-expander",
    word: "PWM expander",
    full_word: "12-bit PWM expander",
    port: PortKind::I2c,
    channel_word: "channel",
    channels: 16,
    usual_channels: 0..16,
    least_pulse: None,
    has_own_clock: true,
    sets_frame_rate: true,
    clocks: Some(Clocks { pulse: expander_clock, share: expander_clock }),
    is_smart: false,
    reports: None,
    after_a_crash: "its last pulses go on until its supply is switched off",
};

static FIRMATA: ChipRow = ChipRow {
    file_word: "firmata",
    word: "Firmata board",
    full_word: "Firmata board",
    port: PortKind::Serial,
    channel_word: "pin",
    channels: 72,
    usual_channels: 2..14,
    least_pulse: Some(Micros::new(544.0)),
    has_own_clock: false,
    sets_frame_rate: false,
    clocks: Some(Clocks { pulse: micros_clock, share: eight_bits }),
    is_smart: false,
    reports: Some(Protocol::Firmata),
    after_a_crash: "its last pulses go on until it is reset, as it is when its line is opened again",
};

static LINUX_PWM: ChipRow = ChipRow {
    file_word: "linux-pwm",
    word: "kernel PWM",
    full_word: "kernel PWM chip",
    port: PortKind::Pwm,
    channel_word: "channel",
    channels: 16,
    usual_channels: 0..16,
    least_pulse: None,
    has_own_clock: false,
    sets_frame_rate: true,
    clocks: Some(Clocks { pulse: sixteen_bits, share: sixteen_bits }),
    is_smart: false,
    reports: None,
    after_a_crash: "the kernel goes on with the last pulses until the machine is off",
};

static SMART_BUS: ChipRow = ChipRow {
    file_word: "smart-bus",
    word: "smart bus",
    full_word: "smart-servo bus",
    port: PortKind::Serial,
    channel_word: "id",
    channels: 254,
    usual_channels: 1..17,
    least_pulse: None,
    has_own_clock: false,
    sets_frame_rate: false,
    clocks: None,
    is_smart: true,
    reports: None,
    after_a_crash: "its servos keep holding where they were told to be, until their supply is off",
};

impl Chip {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 4] = [Self::PwmExpander, Self::Firmata, Self::LinuxPwm, Self::SmartBus];

    /// What it is.
    pub const fn row(self) -> &'static ChipRow {
        match self {
            Self::PwmExpander => &PWM_EXPANDER,
            Self::Firmata => &FIRMATA,
            Self::LinuxPwm => &LINUX_PWM,
            Self::SmartBus => &SMART_BUS,
        }
    }

    /// The kind of port that it hangs on.
    pub const fn port(self) -> PortKind {
        self.row().port
    }

    /// Its channels, counted from 0.
    pub const fn channels(self) -> u8 {
        self.row().channels
    }

    /// The least pulse that can be had from it, if it has one.
    pub const fn least_pulse(self) -> Option<Micros> {
        self.row().least_pulse
    }

    /// Whether a board of it has an address on its port.
    pub const fn has_address(self) -> bool {
        self.row().port.row().is_shared
    }

    /// The kind that a word begins to name, as a file has them: `f` is a Firmata board.
    pub fn of(said: &str) -> Option<Self> {
        let said = said.trim().to_lowercase();
        let named = |chip: &Self| !said.is_empty() && chip.row().file_word.starts_with(&said);
        Self::ALL.into_iter().find(named)
    }

    /// What it is, in a word or two.
    pub const fn word(self) -> &'static str {
        self.row().word
    }
}

/// The greatest number of channels that any chip has that is no bus of smart servos.
pub const MOST_CHANNELS: u8 = {
    let (mut most, mut n) = (0, 0);
    while n < Chip::ALL.len() {
        let channels = Chip::ALL[n].channels();
        if channels > most && !Chip::ALL[n].row().is_smart {
            most = channels;
        }
        n += 1;
    }
    most
};

/// The frame rate of a chip whose rate cannot be set.
pub const FIXED_RATE: Hertz = Hertz::new(50.0);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_words_in_a_file_are_those_of_the_rows() {
        for chip in Chip::ALL {
            assert_eq!(serde_json::to_value(chip).unwrap(), chip.row().file_word);
            assert_eq!(Chip::of(chip.row().file_word), Some(chip));
            assert!(chip.row().usual_channels.end <= chip.channels());
        }
        assert_eq!([Chip::of(" Firm"), Chip::of(""), Chip::of("x")], [Some(Chip::Firmata), None, None]);
        assert_eq!(MOST_CHANNELS, 72);
    }
}
