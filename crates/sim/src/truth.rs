//! The hidden truth of a simulated bench, read from a `*.sim.toml` file beside the rig.
//!
//! What the file leaves out is drawn from the seed, so that a rig on a simulated port always has servos.

use crate::sender::radio::Speech;
use serde::Deserialize;
use thiserror::Error;
use wasvolta_core::range::{self, OutOfRange, Range};
use wasvolta_core::rig::Ends;

/// A whole bench.
#[derive(Debug, Clone, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Truth {
    /// What is true of each board, by its name.
    #[serde(default, rename = "board")]
    pub boards: Vec<BoardTruth>,
    /// Knobs, buttons and rangefinders on serial lines.
    #[serde(default, rename = "knob")]
    pub knobs: Vec<KnobTruth>,
    /// Radio receivers on serial lines.
    #[serde(default, rename = "radio")]
    pub radios: Vec<RadioTruth>,
    /// Microcontrollers that speak Firmata.
    #[serde(default, rename = "firmata")]
    pub firmata: Vec<FirmataTruth>,
    /// Buses of smart servos.
    #[serde(default, rename = "smart")]
    pub smart: Vec<SmartTruth>,
    /// Devices on buses that are no expanders.
    #[serde(default, rename = "other")]
    pub others: Vec<OtherTruth>,
}

/// A microcontroller as it really is.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FirmataTruth {
    /// The line it is on: the NAME of `sim:NAME`.
    pub line: String,
    /// What is plugged in; a channel is a pin.
    #[serde(default, rename = "servo")]
    pub servos: Vec<ServoTruth>,
    /// Where what hangs on its analog inputs stands at first, 0–1; in their middle where nothing is said.
    #[serde(default)]
    pub analog: Vec<f64>,
}

/// A bus of smart servos as it really is.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SmartTruth {
    /// The line it is on: the NAME of `sim:NAME`.
    pub line: String,
    /// What is plugged in.
    #[serde(default, rename = "servo")]
    pub servos: Vec<SmartServoTruth>,
}

/// A smart servo as it really is.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SmartServoTruth {
    /// Its id on the bus, 0 to 252.
    pub id: u8,
    /// The model number that it says.
    #[serde(default = "usual_model")]
    pub model: u16,
    /// Where it stands before it drives, in counts.
    pub stands_counts: f64,
    /// The place at which its horn stands at 0°.
    pub zero_counts: f64,
    /// Higher counts turn it the other way.
    #[serde(default)]
    pub reversed: bool,
    /// How far the horn can be moved while it stands.
    #[serde(default)]
    pub slack_deg: f64,
    /// How hard its load pulls it where that is horizontal, as a share of its torque, 0–1.
    #[serde(default)]
    pub weight: f64,
    /// How much of its torque it rubs away, 0–1.
    #[serde(default = "usual_friction")]
    pub friction: f64,
    /// The fastest that it can go.
    #[serde(default = "usual_counts_s")]
    pub speed_counts_s: f64,
    /// Where its travel ends hard.
    pub stops_counts: Ends<f64>,
    /// Its delay before an answer.
    #[serde(default = "usual_delay")]
    pub return_delay_us: f64,
}

const fn usual_model() -> u16 {
    SmartServoTruth::MODEL
}

const fn usual_friction() -> f64 {
    0.08
}

const fn usual_counts_s() -> f64 {
    3000.0
}

const fn usual_delay() -> f64 {
    500.0
}

impl SmartServoTruth {
    /// The model number of one of which nothing is said. No real one has it.
    pub const MODEL: u16 = 4242;

    /// A plausible one, drawn from a seed, of so many places.
    pub fn drawn(seed: u64, id: u8, steps: u32) -> Self {
        let mut dice = Dice::new(seed ^ (u64::from(id) << 40) ^ 0x5A5A);
        let steps = f64::from(steps);
        Self {
            id,
            model: Self::MODEL,
            stands_counts: libm::round(steps * dice.between(0.42, 0.58)),
            zero_counts: libm::round(steps * dice.between(0.45, 0.55)),
            reversed: dice.between(0.0, 1.0) < 0.5,
            slack_deg: dice.between(0.1, 0.5),
            weight: 0.0,
            friction: usual_friction(),
            speed_counts_s: steps * dice.between(0.6, 0.9),
            stops_counts: Ends {
                low: libm::round(steps * dice.between(0.05, 0.15)),
                high: libm::round(steps * dice.between(0.85, 0.95)),
            },
            return_delay_us: usual_delay(),
        }
    }

    fn check(&self, place: &str) -> Result<(), BadTruth> {
        let place = format!("{place}, id {}", self.id);
        let numbers = [
            ("stands_counts", &range::STEPS, self.stands_counts),
            ("zero_counts", &range::STEPS, self.zero_counts),
            ("slack_deg", &range::ANGLE, self.slack_deg),
            ("weight", &range::SHARE, self.weight),
            ("friction", &range::SHARE, self.friction),
            ("speed_counts_s", &range::STEPS, self.speed_counts_s),
            ("stops_counts", &range::STEPS, self.stops_counts.low),
            ("stops_counts", &range::STEPS, self.stops_counts.high),
            ("return_delay_us", &range::STEPS, self.return_delay_us),
        ];
        within(&place, numbers)
    }
}

/// A device of another kind on a bus.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OtherTruth {
    /// The bus it is on: the NAME of `sim:NAME`.
    pub bus: String,
    /// Its address on that bus, seven bits.
    pub address: u8,
    /// What each of its registers reads as.
    pub reads: u8,
}

/// A board as it really is.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BoardTruth {
    /// The bus it is on: the NAME of `sim:NAME`.
    pub bus: String,
    /// Its address on that bus, seven bits.
    pub address: u8,
    /// Its real oscillator.
    #[serde(default = "nominal")]
    pub oscillator_hz: f64,
    /// Channels that pulse already before anything is said to it, as `[channel, ticks]`.
    #[serde(default)]
    pub running: Vec<Ends<u16>>,
    /// What is plugged in.
    #[serde(default, rename = "servo")]
    pub servos: Vec<ServoTruth>,
}

const fn nominal() -> f64 {
    25.0e6
}

/// What a part does with what it gets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Part {
    /// It goes to the angle of its pulse.
    #[default]
    Servo,
    /// It turns continuously, as fast as its pulse is off its stop pulse.
    Motor,
    /// It is as bright as the share of the frame.
    Lamp,
}

/// A servo as it really is, or another part. A motor stops at `zero_us` and `deadband_us` around it.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServoTruth {
    /// The channel it is plugged in.
    pub channel: u8,
    /// What it does.
    #[serde(default)]
    pub part: Part,
    /// Degrees for 100 µs; negative when it turns the other way.
    #[serde(default = "usual_gain")]
    pub gain_deg_per_100us: f64,
    /// The pulse at which its horn stands at 0°.
    #[serde(default = "usual_zero")]
    pub zero_us: f64,
    /// How far its travel bends off a straight line.
    #[serde(default)]
    pub curve_deg: f64,
    /// How fast it is.
    #[serde(default = "usual_speed")]
    pub speed_deg_s: f64,
    /// Errors this small it ignores.
    #[serde(default)]
    pub deadband_us: f64,
    /// How far the horn can be moved while it stands.
    #[serde(default)]
    pub slack_deg: f64,
    /// Pulses beyond these it does not follow.
    #[serde(default = "usual_range")]
    pub follows_us: Ends<f64>,
    /// Where its travel ends hard.
    #[serde(default = "usual_stops")]
    pub stops_deg: Ends<f64>,
    /// What it draws when stalled.
    #[serde(default = "usual_stall")]
    pub stall_a: f64,
    /// Where the horn stands before the first pulse.
    #[serde(default)]
    pub stands_deg: f64,
    /// How long a motor must see its stop pulse before it turns.
    #[serde(default)]
    pub arms_after_s: f64,
    /// What its horn moves by a rod.
    #[serde(default)]
    pub linkage: Option<LinkageTruth>,
    /// The share by which it falls short, twitching, because its supply gives way under it.
    #[serde(default)]
    pub sag: f64,
}

/// A horn that moves an arm by a rod, as it was really built. Lengths in mm, angles in degrees from the line between
/// the two axes, anticlockwise.
#[derive(Debug, Clone, Copy, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LinkageTruth {
    /// From the shaft to the rod.
    pub horn_mm: f64,
    /// The rod's true length, in millimetres.
    pub rod_mm: f64,
    /// From the arm's axis to the rod.
    pub arm_mm: f64,
    /// Between the two axes.
    pub pivots_mm: f64,
    /// The horn's angle where the servo's horn is read as 0°.
    pub horn_at_deg: f64,
    /// The rod crosses the line between the axes.
    #[serde(default)]
    pub crossed: bool,
}

const fn usual_gain() -> f64 {
    10.0
}
const fn usual_zero() -> f64 {
    1500.0
}

const fn usual_speed() -> f64 {
    400.0
}
const fn usual_range() -> Ends<f64> {
    Ends { low: 450.0, high: 2550.0 }
}
const fn usual_stops() -> Ends<f64> {
    Ends { low: -95.0, high: 95.0 }
}
const fn usual_stall() -> f64 {
    1.2
}

/// What a microcontroller that prints lines has on a pin; those on one line are printed together, in this order.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KnobTruth {
    /// The line it is on: the NAME of `sim:NAME`.
    pub line: String,
    /// The name it prints in front of its number.
    pub field: String,
    /// The number at its lower end.
    pub low: f64,
    /// The number at its upper end.
    pub high: f64,
    /// Where it stands at first, 0–1.
    pub stands: f64,
    /// What it is.
    #[serde(default)]
    pub kind: FieldKind,
    /// How far its number wanders by itself.
    #[serde(default = "usual_noise")]
    pub noise: f64,
    /// The share of its lines in which no echo came back.
    #[serde(default)]
    pub drop_outs: f64,
}

/// What a field of a line is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FieldKind {
    /// It is turned.
    #[default]
    Knob,
    /// It is pressed.
    Button,
    /// It measures how far something is, in tenths.
    Range,
}

const fn usual_noise() -> f64 {
    0.8
}

impl KnobTruth {
    /// A knob in its middle, as a converter of ten bits reads it.
    pub fn of(line: &str, field: &str) -> Self {
        Self {
            line: line.to_owned(),
            field: field.to_owned(),
            low: 0.0,
            high: 1023.0,
            stands: 0.5,
            kind: FieldKind::Knob,
            noise: usual_noise(),
            drop_outs: 0.0,
        }
    }
}

/// A radio's receiver.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RadioTruth {
    /// The line it is on: the NAME of `sim:NAME`.
    pub line: String,
    /// What it speaks.
    pub protocol: Speech,
    /// Where its sticks stand at first, 0–1, from channel 1; others stand in their middle.
    #[serde(default)]
    pub stands: Vec<f64>,
    /// How far a stick's pulse wanders by itself, in µs.
    #[serde(default = "usual_noise")]
    pub noise_us: f64,
}

impl RadioTruth {
    /// A receiver whose transmitter nobody touches.
    pub fn of(line: &str, protocol: Speech) -> Self {
        Self { line: line.to_owned(), protocol, stands: Vec::new(), noise_us: usual_noise() }
    }
}

/// A truth that cannot be.
#[derive(Debug, Error)]
pub enum BadTruth {
    /// It does not read as one.
    #[error("the simulation file cannot be read: {0}")]
    Form(#[from] toml_edit::de::Error),
    /// A number in it is none that such a thing can have.
    #[error("{place}: {why}")]
    Range {
        /// Where in the file it stands.
        place: String,
        /// Which bound it breaks.
        why: OutOfRange,
    },
}

impl Truth {
    /// Reads a `*.sim.toml`.
    ///
    /// # Errors
    /// When it is not TOML, has an unknown key, or a number that cannot be.
    pub fn parse(text: &str) -> Result<Self, BadTruth> {
        let truth: Self = toml_edit::de::from_str(text)?;
        for (n, board) in (1..).zip(&truth.boards) {
            let place = format!("board {n}");
            let ticks = board
                .running
                .iter()
                .map(|Ends { low: _, high: ticks }| ("running", &range::TICKS_12, f64::from(*ticks)));
            let channels = board
                .running
                .iter()
                .map(|Ends { low: channel, high: _ }| ("running", &range::CHANNEL, f64::from(*channel)));
            let oscillator = ("oscillator_hz", &range::OSCILLATOR, board.oscillator_hz);
            within(&place, ticks.chain(channels).chain([oscillator]))?;
            board.servos.iter().try_for_each(|servo| servo.check(&place))?;
        }
        for (n, board) in (1..).zip(&truth.firmata) {
            board.servos.iter().try_for_each(|servo| servo.check(&format!("firmata {n}")))?;
        }
        for (n, bus) in (1..).zip(&truth.smart) {
            bus.servos.iter().try_for_each(|servo| servo.check(&format!("smart {n}")))?;
        }
        for (n, knob) in (1..).zip(&truth.knobs) {
            let numbers = [
                ("low", &range::RAW, knob.low),
                ("high", &range::RAW, knob.high),
                ("stands", &range::SHARE, knob.stands),
                ("noise", &range::RAW, knob.noise),
                ("drop_outs", &range::SHARE, knob.drop_outs),
            ];
            within(&format!("knob {n}"), numbers)?;
        }
        for (n, radio) in (1..).zip(&truth.radios) {
            let stands = radio.stands.iter().map(|at| ("stands", &range::SHARE, *at));
            within(&format!("radio {n}"), stands.chain([("noise_us", &range::RAW, radio.noise_us)]))?;
        }
        Ok(truth)
    }
}

/// Numbers of one place, each with its key and its row of the table of ranges.
fn within<'r>(
    place: &str,
    numbers: impl IntoIterator<Item = (&'static str, &'r Range, f64)>,
) -> Result<(), BadTruth> {
    for (key, range, value) in numbers {
        range.check(value).map_err(|why| BadTruth::Range { place: format!("{place}, {key}"), why })?;
    }
    Ok(())
}

impl ServoTruth {
    fn check(&self, place: &str) -> Result<(), BadTruth> {
        let place = format!("{place}, channel {}", self.channel);
        let (follows, stops) = (self.follows_us, self.stops_deg);
        let numbers = [
            ("gain_deg_per_100us", &range::GAIN, self.gain_deg_per_100us),
            ("zero_us", &range::PULSE, self.zero_us),
            ("curve_deg", &range::ANGLE, self.curve_deg),
            ("speed_deg_s", &range::SPEED, self.speed_deg_s),
            ("deadband_us", &range::DEAD_PULSE, self.deadband_us),
            ("slack_deg", &range::ANGLE, self.slack_deg),
            ("follows_us", &range::WIDE_PULSE, follows.low),
            ("follows_us", &range::WIDE_PULSE, follows.high),
            ("stops_deg", &range::ANGLE, stops.low),
            ("stops_deg", &range::ANGLE, stops.high),
            ("stall_a", &range::CURRENT, self.stall_a),
            ("stands_deg", &range::ANGLE, self.stands_deg),
            ("arms_after_s", &range::TIME, self.arms_after_s),
            ("sag", &range::SHARE, self.sag),
        ];
        within(&place, numbers)?;
        let Some(bars) = self.linkage else { return Ok(()) };
        let lengths = [
            ("horn_mm", &range::LENGTH, bars.horn_mm),
            ("rod_mm", &range::LENGTH, bars.rod_mm),
            ("arm_mm", &range::LENGTH, bars.arm_mm),
            ("pivots_mm", &range::LENGTH, bars.pivots_mm),
            ("horn_at_deg", &range::ANGLE, bars.horn_at_deg),
        ];
        within(&place, lengths)
    }

    /// A plausible servo, drawn from a seed: travel, centre, bend, slack and speed all a little off.
    pub fn drawn(seed: u64, channel: u8) -> Self {
        let mut dice = Dice::new(seed ^ (u64::from(channel) << 32));
        Self {
            channel,
            part: Part::Servo,
            arms_after_s: 0.0,
            linkage: None,
            sag: 0.0,
            gain_deg_per_100us: dice.between(8.0, 12.0),
            zero_us: dice.between(1450.0, 1550.0),
            curve_deg: dice.between(-0.3, 0.3),
            speed_deg_s: dice.between(300.0, 500.0),
            deadband_us: dice.between(1.0, 3.0),
            slack_deg: dice.between(0.0, 0.3),
            follows_us: usual_range(),
            stops_deg: Ends { low: dice.between(-100.0, -85.0), high: dice.between(85.0, 100.0) },
            stall_a: dice.between(0.8, 2.0),
            stands_deg: dice.between(-40.0, 40.0),
        }
    }
}

/// Numbers from a seed: the same seed, the same numbers (the `SplitMix64` step).
#[derive(Debug, Clone)]
pub struct Dice(u64);

impl Dice {
    /// Dice that always fall the same way.
    pub const fn new(seed: u64) -> Self {
        Self(seed)
    }

    /// The next number, 64 bits.
    pub const fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// The next number from `low` up to `high`.
    pub fn between(&mut self, low: f64, high: f64) -> f64 {
        #[expect(clippy::cast_precision_loss, reason = "53 bits are left, which an f64 holds")]
        let share = (self.next() >> 11) as f64 / (1u64 << 53) as f64;
        low + (high - low) * share
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_draws_the_same_servo() {
        assert_eq!(ServoTruth::drawn(7, 3), ServoTruth::drawn(7, 3));
        assert_ne!(ServoTruth::drawn(7, 3), ServoTruth::drawn(8, 3));
        let gain = |channel| ServoTruth::drawn(7, channel).gain_deg_per_100us.to_bits();
        assert_ne!(gain(3), gain(4));
    }

    #[test]
    fn a_number_that_nothing_can_have_is_refused_with_its_place() {
        let said = |more: &str| {
            let text =
                format!("[[board]]\nbus = \"b\"\naddress = 64\n[[board.servo]]\nchannel = 3\n{more}\n");
            Truth::parse(&text).map_or_else(|error| error.to_string(), |_| String::new())
        };
        assert_eq!(said("gain_deg_per_100us = 9"), "");
        for (more, words) in [
            ("gain_deg_per_100us = nan", "board 1, channel 3, gain_deg_per_100us: gain is NaN"),
            ("speed_deg_s = 0", "board 1, channel 3, speed_deg_s: speed is 0"),
            ("sag = 2", "board 1, channel 3, sag: share is 2"),
            ("stops_deg = [-1e9, 3]", "board 1, channel 3, stops_deg: angle is -1000000000"),
            ("follows_us = [1, 2, 3]", "the simulation file cannot be read"),
            (
                "linkage = { horn_mm = 0, rod_mm = 1, arm_mm = 1, pivots_mm = 1, horn_at_deg = 0 }",
                "board 1, channel 3, horn_mm: length is 0",
            ),
        ] {
            assert!(said(more).starts_with(words), "{more}: {}", said(more));
        }
        let knob = "[[knob]]\nline = \"k\"\nfield = \"k\"\nlow = 0\nhigh = 1\nstands = 7\n";
        assert_eq!(Truth::parse(knob).unwrap_err().to_string(), "knob 1, stands: share is 7, outside 0 to 1");
    }

    #[test]
    fn an_unknown_key_is_refused() {
        let error =
            Truth::parse("[[board]]\nbus = \"b\"\naddress = 64\ncolour = 3\n").unwrap_err().to_string();
        assert!(error.contains("unknown field `colour`"), "{error}");
    }
}
