//! Ways in: a link on a port, with the protocol that is spoken there and the names of its channels.
//!
//! What a protocol is stands in its row: see [`super::protocol`].

use super::bounds::{self, Named, Worded};
use super::number::{self, numbers};
use super::protocol::digital_pin;
use super::{Board, Chip, Ends, Flow, Input, LinkId, Parts, Port, Protocol, Rig, is_false};
use crate::link::Rules;
use crate::unit::Seconds;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
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
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// Its port, or its Firmata board. A port of the kinds `udp` and `mqtt` takes several links, any other port one.
    pub on: String,
    /// Its protocol. By default the first that its kind of port can carry; on a serial line, lines of numbers.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub protocol: Option<Protocol>,
    /// How long a link that sends by itself may be silent before it is lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost_after_ms: Option<f64>,
    /// Whether a link that repeats the same values for a long time counts as lost.
    #[serde(default, skip_serializing_if = "is_false")]
    pub stuck_is_lost: bool,
    /// How long a link that speaks only on changes may be silent before it is lost. No limit by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heartbeat_s: Option<Seconds>,
    /// The topic of its sender's last will, over MQTT. The message `offline`, `false`, `0` or an empty one makes the link lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = Worded)]
    pub will: Option<String>,
    /// The wave of a wave generator.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wave: Option<Wave>,
}

numbers! { Link { lost_after_ms: LOST_AFTER = [Link::USUAL_LOST_AFTER], heartbeat_s: HEARTBEAT } }

/// The wave of a wave generator, 50 values a second: for trials, and for idle motion.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Wave>)]
pub struct Wave {
    /// The shape between its ends.
    pub shape: WaveShape,
    /// The period; of noise, the time between two of its values.
    pub period_s: Seconds,
    /// The least value.
    #[serde(default)]
    pub low: f64,
    /// The greatest value.
    #[serde(default = "one")]
    pub high: f64,
    /// The seed of the noise: the same seed gives the same noise.
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

impl WaveShape {
    /// All of them, the smoothest first.
    pub const ALL: [Self; 4] = [Self::Sine, Self::Ramp, Self::Steps, Self::Noise];

    /// What it is called, also in a file.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Sine => "sine",
            Self::Ramp => "ramp",
            Self::Steps => "steps",
            Self::Noise => "noise",
        }
    }
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

impl Link {
    /// Silence that counts as lost where nothing is said, in milliseconds.
    pub const USUAL_LOST_AFTER: f64 = 500.0;

    /// A link with nothing said about it yet.
    pub fn new(name: &str, on: &str, protocol: Option<Protocol>) -> Self {
        Self { name: name.to_owned(), on: on.to_owned(), protocol, ..Self::default() }
    }

    /// What is expected of it, as it sends by itself or not.
    pub fn rules(&self, flow: Flow) -> Rules {
        let ms = self.lost_after_ms.unwrap_or(Self::USUAL_LOST_AFTER);
        match flow {
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

    /// The link that stands on a board; one on a port of the same name does not.
    pub fn link_on(&self, board: &Board) -> Option<&Link> {
        self.links.iter().find(|link| link.on == board.name && self.port(&link.on).is_none())
    }

    /// The port that a link stands on, and the board where it stands on one.
    pub fn place_of(&self, link: &Link) -> Option<(&Port, Option<&Board>)> {
        place_of(link, |name| self.port(name), |name| self.board(name))
    }

    /// What is spoken on a link; none where its port is not there, or can have none.
    pub fn protocol_of(&self, link: &Link) -> Option<Protocol> {
        spoken(link, self.place_of(link))
    }
}

/// A board that a link can stand on says itself what is spoken.
fn place_of<'r>(
    link: &Link,
    port: impl Fn(&str) -> Option<&'r Port>,
    board: impl Fn(&str) -> Option<&'r Board>,
) -> Option<(&'r Port, Option<&'r Board>)> {
    match port(&link.on) {
        Some(port) => Some((port, None)),
        None => board(&link.on).and_then(|board| Some((port(&board.port)?, Some(board)))),
    }
}

fn spoken(link: &Link, place: Option<(&Port, Option<&Board>)>) -> Option<Protocol> {
    link.protocol.or_else(|| match place? {
        (_, Some(board)) => board.chip.row().reports,
        (port, None) => Protocol::usual(port.kind),
    })
}

impl<'r> Parts<'r> {
    /// The input that is read from a digital pin of a board that speaks Firmata.
    pub fn input_on_pin(self, board: &Board, pin: u8) -> Option<&'r Input> {
        let link = self.rig.link_on(board)?;
        let read = self.protocol_of(link)?.row().read;
        let is_on_pin = |input: &&Input| {
            input.link == link.name
                && read(&input.channel).and_then(|channel| digital_pin(&channel)) == Some(pin)
        };
        self.rig.inputs.iter().find(is_on_pin)
    }

    /// The link of that name.
    pub fn link(self, name: &str) -> Option<&'r Link> {
        self.rig.links.get(self.index.links.named(name)?)
    }

    /// The port that a link stands on, as [`Rig::place_of`] says.
    pub fn place_of(self, link: &Link) -> Option<(&'r Port, Option<&'r Board>)> {
        place_of(link, |name| self.port(name), |name| self.board(name))
    }

    /// What is spoken on a link, as [`Rig::protocol_of`] says.
    pub fn protocol_of(self, link: &Link) -> Option<Protocol> {
        spoken(link, self.place_of(link))
    }

    /// Whether a link sends by itself: some of its channels may where others speak when something changes.
    pub fn flow_of(self, link: &Link, protocol: Protocol) -> Flow {
        let row = protocol.row();
        let of_link = self.rig.inputs.iter().filter(|input| input.link == link.name);
        let streams =
            |input: &Input| (row.read)(&input.channel).is_some_and(|channel| (row.streams)(&channel));
        if of_link.into_iter().any(streams) { Flow::Streaming } else { row.flow }
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
