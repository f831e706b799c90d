//! What carries servos: supplies, ports and boards.

use super::bounds::{self, Named, Worded};
use super::number::{self, numbers};
use super::{BoardId, Chip, Kind, PortId, PortKind, RailId, Signal};
use crate::clock::{PwmClock, Steps};
use crate::unit::{Amps, Hertz, Volts};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One power supply.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rail>)]
pub struct Rail {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: RailId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The voltage that it gives.
    pub volts: Volts,
    /// The most current that it can give.
    pub amps: Amps,
}

numbers! { Rail { volts: SUPPLY_VOLTS, amps: CURRENT } }

/// A way to hardware.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::port)]
#[schemars(transform = number::ranged::<Port>)]
pub struct Port {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: PortId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// What kind of port it is.
    pub kind: PortKind,
    /// The device's path, or `sim:NAME` for a simulated one. Of a PWM chip its device, because chip numbers may change. Of
    /// UDP a port number, which listens to this machine alone, or an address with it, as `0.0.0.0:7000`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Worded)]
    pub path: String,
    /// The serial rate. By default the usual one of its protocol, 115200 for lines. An I²C bus with a baud is behind a
    /// UART-to-I²C bridge.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baud: Option<u32>,
    /// The clock rate of an I²C bus, as its adapter is set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bus_hz: Option<Hertz>,
    /// The file with the name and the password for an MQTT broker, one line each. Only you may have permission to read it. An
    /// absolute path, or `~/NAME`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = Worded)]
    pub login_file: Option<String>,
}

numbers! { Port { baud: BAUD, bus_hz: BUS_RATE = [crate::traffic::USUAL_RATE.get()] } }

/// A board with channels.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::board)]
#[schemars(transform = number::ranged::<Board>)]
pub struct Board {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: BoardId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The port that it is connected to.
    pub port: String,
    /// The chip that it has.
    pub chip: Chip,
    /// The 7-bit address of a PWM expander, required there: 0x40 to 0x7F, except 0x70, which is the all-call address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<u8>,
    /// Requested frames a second. The chip's real rate may differ a little.
    #[serde(default = "fifty", skip_serializing_if = "is_fifty")]
    pub frame_hz: Hertz,
    /// The measured frequency of its oscillator.
    #[serde(default = "nominal", skip_serializing_if = "is_nominal")]
    pub oscillator_hz: Hertz,
    /// The rail that feeds its servos.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rail: Option<String>,
    /// The voltage of its signals.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
    /// The register layout of the servos on a smart bus: `ten-bit`, `twelve-bit` or `twelve-bit-compact`, or the
    /// name of a `[[layout]]` of this rig.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = Named)]
    pub layout: Option<String>,
    /// How long the adapter of a smart bus holds bytes back before it passes them on, in ms. Many adapters take 16; a latency
    /// timer of 1 is much faster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub adapter_ms: Option<f64>,
}

numbers! { Board { address: ADDRESS, frame_hz: FRAME_RATE = [fifty().get()], oscillator_hz: OSCILLATOR = [nominal().get()], signal_volts: SIGNAL_VOLTS, adapter_ms: ADAPTER = [Board::USUAL_ADAPTER_MS] } }

/// Where a broker listens unless it is said otherwise.
const MQTT_PORT: u16 = 1883;

/// Whether a broker takes it as a filter of topics: `#` alone at its end, `+` alone between two slashes.
fn is_filter(topics: &str) -> bool {
    let levels: Vec<&str> = topics.split('/').collect();
    let last = levels.len() - 1;
    let fits = |(n, level): (usize, &&str)| match *level {
        "#" => n == last,
        "+" => true,
        level => !level.contains(['#', '+']),
    };
    !topics.is_empty() && levels.iter().enumerate().all(fits)
}

impl Port {
    /// Where datagrams are listened for: on this machine alone unless an address is written; none where its path is no
    /// such place.
    pub fn listens_at(&self) -> Option<std::net::SocketAddr> {
        let own = |port: u16| (std::net::Ipv4Addr::LOCALHOST, port).into();
        let at = self.path.parse().ok().map(own).or_else(|| self.path.parse().ok());
        at.filter(|at: &std::net::SocketAddr| at.port() > 0)
    }

    /// The NAME of a simulated port, whose path is `sim:NAME`.
    pub fn simulated(&self) -> Option<&str> {
        self.path.strip_prefix("sim:")
    }

    /// The broker of an MQTT port: its host, its port, and what is listened to there, everything unless it is written
    /// behind a `/`. None where its path is none.
    pub fn broker(&self) -> Option<(&str, u16, &str)> {
        let (at, topics) = self.path.split_once('/').unwrap_or((&self.path, "#"));
        let (host, port) = match at.rsplit_once(':') {
            Some((host, port)) => (host, port.parse().ok().filter(|port| *port > 0)?),
            None => (at, MQTT_PORT),
        };
        let fits = !host.is_empty() && !host.contains(char::is_whitespace) && is_filter(topics);
        fits.then_some((host, port, topics))
    }

    /// A port with nothing said about it yet.
    pub fn new(name: &str, kind: PortKind, path: &str) -> Self {
        let (name, path) = (name.to_owned(), path.to_owned());
        Self { id: PortId::default(), name, kind, path, baud: None, bus_hz: None, login_file: None }
    }
}

impl Board {
    /// How long many adapters sit on bytes, in ms.
    pub const USUAL_ADAPTER_MS: f64 = 16.0;

    /// A board with nothing said about it yet.
    pub fn new(name: &str, port: &str, chip: Chip) -> Self {
        Self {
            id: BoardId::default(),
            name: name.to_owned(),
            port: port.to_owned(),
            chip,
            address: None,
            frame_hz: fifty(),
            oscillator_hz: nominal(),
            rail: None,
            signal_volts: None,
            layout: None,
            adapter_ms: None,
        }
    }

    /// The clock its channels really have; none on a bus of smart servos.
    pub fn clock(&self) -> Option<PwmClock> {
        self.clock_of(Kind::Positional)
    }

    /// The clock of what hangs on one of its channels: an accessory's counts a whole frame, and of one that is only
    /// on or off nothing between. What is told counts has none.
    pub fn clock_of(&self, kind: Kind) -> Option<PwmClock> {
        let clocks = self.chip.row().clocks.as_ref()?;
        match kind.signal() {
            Signal::Pulse => Some((clocks.pulse)(self)),
            Signal::Share => Some((clocks.share)(self)),
            Signal::Switch => Some((clocks.share)(self).all_or_nothing()),
            Signal::Counts => None,
        }
    }

    /// The steps in which what hangs on one of its channels is told where to be.
    pub fn steps_of(&self, kind: Kind) -> Steps {
        self.clock_of(kind).map_or(Steps::COUNTS, |clock| clock.steps())
    }

    /// Where it is on its port, in words that follow what happens there: `at 0x40`.
    pub fn at(&self) -> String {
        self.address.map_or_else(|| format!("on {}", self.port), |address| format!("at {address:#04x}"))
    }

    /// The divider its chip is set to.
    pub fn prescale(&self) -> u8 {
        crate::clock::expander_prescale(self.oscillator_hz, self.frame_hz)
    }
}

const fn fifty() -> Hertz {
    Hertz::new(50.0)
}

fn is_fifty(rate: &Hertz) -> bool {
    *rate == fifty()
}

const fn nominal() -> Hertz {
    Hertz::new(25.0e6)
}

fn is_nominal(rate: &Hertz) -> bool {
    *rate == nominal()
}
