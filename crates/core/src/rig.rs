//! The rig document: everything a maker has said about a mechanism, as plain values.
//!
//! Names tie the parts together as a person writes them. [`check`] finds what does not fit together,
//! [`mod@file`] reads and writes the TOML, [`edit`] has every change, and `stage::Plan` is what runs.

pub(crate) mod bounds;
pub mod card;
pub mod check;
pub mod chip;
pub mod edit;
pub mod file;
pub mod fresh;
pub mod id;
mod kind;
mod merge;
pub(crate) mod number;
pub mod parts;
mod strict;
pub mod table;
pub mod worry;

use crate::clock::PwmClock;
use crate::easing::Easing;
use crate::fit::{Fit, NoFit, Odd, RatedSlope, Seen, Shape, odd_one};
use crate::guard::Stopped;
use crate::linkage::{FourBar, Gear, Hand, Steering, Transmission};
use crate::rate::{Band, NoRates, Rates, Turning};
use crate::scale::{Scale, Sides};
use crate::unit::{Amps, Degrees, DegreesPerSecond, Hertz, Micros, Percent, Rpm, Seconds, Ticks, Volts};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

use bounds::{Formats, Named, Noted, Worded};
use number::{known_of_a_servo, numbers};

pub use crate::fit::Side;
pub use chip::{Chip, PortKind};
pub use id::{
    BoardId, Ids, InputId, JointId, PartId, PartNumbers, PortId, PoseId, RailId, SequenceId, ServoId,
};
pub use kind::{Arming, Kind, Signal};
pub use parts::{Index, Parts};
pub use strict::Ends;

/// The format this program writes.
pub const FORMAT: u32 = <Rig as file::format::Versioned>::NEWEST;

/// A whole rig.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rig>)]
pub struct Rig {
    /// The version of the format, 7 at present. What an older one lacks has its usual value.
    #[schemars(transform = Formats(FORMAT))]
    pub format: u32,
    /// What the rig is called.
    #[schemars(transform = bounds::title)]
    pub name: String,
    /// Anything worth keeping, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
    /// A servo that the hand has left alone for this long is released, unless its joint is loaded; never unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release_after_s: Option<Seconds>,
    /// Power supplies.
    #[serde(default, rename = "rail", skip_serializing_if = "Vec::is_empty")]
    pub rails: Vec<Rail>,
    /// Ways to hardware.
    #[serde(default, rename = "port", skip_serializing_if = "Vec::is_empty")]
    pub ports: Vec<Port>,
    /// Boards with channels.
    #[serde(default, rename = "board", skip_serializing_if = "Vec::is_empty")]
    pub boards: Vec<Board>,
    /// Servos, and what else hangs on channels.
    #[serde(default, rename = "servo", skip_serializing_if = "Vec::is_empty")]
    pub servos: Vec<Servo>,
    /// What the servos turn.
    #[serde(default, rename = "joint", skip_serializing_if = "Vec::is_empty")]
    pub joints: Vec<Joint>,
    /// Signals that come in.
    #[serde(default, rename = "input", skip_serializing_if = "Vec::is_empty")]
    pub inputs: Vec<Input>,
    /// Inputs to joints.
    #[serde(default, rename = "mapping", skip_serializing_if = "Vec::is_empty")]
    pub mappings: Vec<Mapping>,
    /// Poses.
    #[serde(default, rename = "pose", skip_serializing_if = "Vec::is_empty")]
    pub poses: Vec<Pose>,
    /// Sequences of poses.
    #[serde(default, rename = "sequence", skip_serializing_if = "Vec::is_empty")]
    pub sequences: Vec<Sequence>,
    /// The ids that were given to its parts.
    #[serde(skip)]
    pub ids: Ids,
}

numbers! { Rig { release_after_s: IDLE } }

/// One power supply.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rail>)]
pub struct Rail {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: RailId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// What it gives.
    pub volts: Volts,
    /// What it can give at most.
    pub amps: Amps,
}

numbers! { Rail { volts: SUPPLY_VOLTS, amps: CURRENT } }

/// The way to hardware.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::port)]
#[schemars(transform = number::ranged::<Port>)]
pub struct Port {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: PortId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// What kind of way it is.
    pub kind: PortKind,
    /// A device path, or `sim:NAME` for a simulated one. Of a PWM chip its device, which stays where its number moves.
    #[schemars(transform = Worded)]
    pub path: String,
    /// The serial rate, 115200 unless said. An I²C bus that has one is behind a UART-to-I²C bridge.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baud: Option<u32>,
    /// Bits a second of an I²C bus as its adapter is set up, 100000 unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bus_hz: Option<Hertz>,
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
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// The port it hangs on.
    pub port: String,
    /// The chip on it.
    pub chip: Chip,
    /// Its 7-bit address, of a PWM expander, which needs it: 0x40 to 0x7F, but for 0x70, to which all of them listen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub address: Option<u8>,
    /// Frames a second that are asked for; the chip's real rate may differ a little.
    #[serde(default = "fifty", skip_serializing_if = "is_fifty")]
    pub frame_hz: Hertz,
    /// What its oscillator really is, once measured.
    #[serde(default = "nominal", skip_serializing_if = "is_nominal")]
    pub oscillator_hz: Hertz,
    /// The rail that feeds its servos.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rail: Option<String>,
    /// The level of the signals that it gives.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
}

numbers! { Board { address: ADDRESS, frame_hz: FRAME_RATE = [fifty().get()], oscillator_hz: OSCILLATOR = [nominal().get()], signal_volts: SIGNAL_VOLTS } }

/// A servo on a channel, or what else hangs there.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::servo)]
#[schemars(transform = number::ranged::<Servo>)]
pub struct Servo {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: ServoId,
    /// Its name; the part before a dot groups it.
    #[schemars(transform = Named)]
    pub name: String,
    /// Its board.
    pub board: String,
    /// Its channel there, 0–15; of a Firmata board its pin, 0–71.
    #[schemars(transform = bounds::channel)]
    pub channel: u8,
    /// What it is; a positional servo unless said.
    #[serde(default, skip_serializing_if = "is_positional")]
    pub kind: Kind,
    /// Pulses that hold whatever asks; 1000 to 2000 before any calibration.
    #[serde(default = "Ends::cautious", skip_serializing_if = "is_cautious")]
    pub endpoints_us: Ends<Micros>,
    /// The pulse that counts as its centre; of a continuous one, the pulse at which it stops.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_us: Option<Micros>,
    /// What its marks are joined by; a straight line unless said.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub fit: Shape,
    /// The side from which it arrives at every place, so that its slack does not matter; either unless said.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub arrive: Side,
    /// Teeth of its spline.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub teeth: Option<u8>,
    /// The supply that it takes, least and greatest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volts: Option<Ends<Volts>>,
    /// The least level of a signal that it follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
    /// A gear or a belt between it and its joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gear: Option<Gear>,
    /// A four-bar linkage between it and its joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub linkage: Option<FourBar>,
    /// What a continuous one is given when it is to stand still; its stop pulse unless said.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub idle: Idle,
    /// What a continuous one must see before it follows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arming: Option<Arming>,
    /// The most it draws, where no sheet says it: of an accessory or a continuous one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub draw_a: Option<Amps>,
    /// What its sheet says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rated: Option<Rated>,
    /// What was seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
    /// How it was exercised, and what was seen then.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub exercised: Vec<Exercised>,
    /// Anything worth keeping, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
}

known_of_a_servo!(Servo { draw_a: CURRENT });

/// What a continuous servo is given when it is to stand still.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Idle {
    /// The pulse at which it stands.
    #[default]
    Pulse,
    /// No pulse.
    Release,
}

/// An exercise that a servo went through.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Exercised>)]
pub struct Exercised {
    /// The day, as `2026-01-02`.
    #[schemars(transform = Worded)]
    pub on: String,
    /// The pulses between which it went.
    pub over_us: Ends<Micros>,
    /// How often it went there and back.
    pub times: u32,
    /// What was seen, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub seen: String,
}

numbers! { Exercised { over_us: PULSE, times: TIMES } }

/// What a data sheet says of a servo.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rated>)]
pub struct Rated {
    /// The angle over the pulses beside it.
    pub travel_deg: Degrees,
    /// The pulses of that travel.
    pub pulses_us: Ends<Micros>,
    /// Longer pulses turn it the other way.
    #[serde(default, skip_serializing_if = "is_false")]
    pub reversed: bool,
    /// Seconds for 60°.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub s_per_60_deg: Option<Seconds>,
    /// Current while it stands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub idle_a: Option<Amps>,
    /// Current while it turns freely.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moving_a: Option<Amps>,
    /// Current at a stall.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stall_a: Option<Amps>,
}

numbers! {
    Rated {
        travel_deg: TRAVEL, pulses_us: PULSE, s_per_60_deg: RATED_SPEED, idle_a: CURRENT, moving_a: CURRENT,
        stall_a: CURRENT,
    }
}

/// An observation: this pulse, this angle. Of a continuous servo: this pulse, this rate.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Mark>)]
pub struct Mark {
    /// The pulse.
    pub pulse_us: Micros,
    /// The angle seen, for an aligned mark.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angle_deg: Option<Degrees>,
    /// Whose angle that is; the servo's unless said.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub at: ReadAt,
    /// The rate seen, for one that turns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rpm: Option<Rpm>,
    /// How it was seen; aligned unless said.
    #[serde(default, skip_serializing_if = "is_aligned")]
    pub seen: MarkKind,
    /// From which side the pulse came; unknown unless said.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub from: Side,
    /// How far the reading may be off, ±; 1° unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error_deg: Option<Degrees>,
    /// How often it was read the same; once unless said. What was read twice is not misread.
    #[serde(default = "once", skip_serializing_if = "is_once")]
    pub read: u8,
    /// The ticks that were on the wire.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ticks: Option<Ticks>,
    /// The oscillator those ticks were counted with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub oscillator_hz: Option<Hertz>,
    /// How long one of those ticks was: no finer could be told then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tick_us: Option<Micros>,
}

numbers! {
    Mark {
        pulse_us: PULSE, angle_deg: ANGLE, rpm: RPM, error_deg: READING = [Mark::USUAL_ERROR.get()], read: READ = [1.0], ticks: COUNT,
        oscillator_hz: OSCILLATOR, tick_us: TICK,
    }
}

impl Default for Mark {
    /// A mark of nothing, to be filled in.
    fn default() -> Self {
        Self {
            pulse_us: Micros::ZERO,
            angle_deg: None,
            at: ReadAt::default(),
            rpm: None,
            seen: MarkKind::default(),
            from: Side::default(),
            error_deg: None,
            read: once(),
            ticks: None,
            oscillator_hz: None,
            tick_us: None,
        }
    }
}

/// Where an angle was read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ReadAt {
    /// At the servo's horn.
    #[default]
    Servo,
    /// At what it turns, behind gear or linkage; of a steered pair, at its wheel.
    Joint,
}

/// How a mark was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum MarkKind {
    /// Against an angle.
    #[default]
    Aligned,
    /// The horn starts to move here.
    Starts,
    /// The horn stops following here.
    Stops,
    /// The servo buzzes here.
    Buzzes,
    /// A continuous servo turned at a rate.
    Turns,
}

impl MarkKind {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Aligned => "aligned",
            Self::Starts => "starts",
            Self::Stops => "stops",
            Self::Buzzes => "buzzes",
            Self::Turns => "turns",
        }
    }
}

/// What servos turn: one, or several that move only together.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::joint)]
#[schemars(transform = number::ranged::<Joint>)]
pub struct Joint {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: JointId,
    /// Its name; poses and mappings speak of it.
    #[schemars(transform = Named)]
    pub name: String,
    /// The servo that turns it; of a steered pair, the left one.
    pub servo: String,
    /// More servos that turn it together with that one, each with marks of its own; of a steered pair, the right one.
    #[serde(default, rename = "with", skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// Two steered wheels: the joint's angle is that of a wheel in the middle, to the left positive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steering: Option<Steering>,
    /// How far down it may go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<Limit>,
    /// How far up it may go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<Limit>,
    /// Where it stands when nothing drives it, and where a dry run starts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home_deg: Option<Degrees>,
    /// The greatest speed it is allowed; the servo's rated speed unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_deg_s: Option<DegreesPerSecond>,
    /// What a cut does to it; its pulses stop unless said.
    #[serde(default, skip_serializing_if = "is_release")]
    pub cut: CutTo,
    /// What happens to it before the program ends; as at a cut unless said.
    #[serde(default, skip_serializing_if = "is_as_cut")]
    pub quit: QuitTo,
    /// A weight pulls on it: released, it falls.
    #[serde(default, skip_serializing_if = "is_false")]
    pub loaded: bool,
    /// What happens when its board is back and its pulses had stopped meanwhile. Unless said: it goes on from its last
    /// pulse, and is asked about where it is loaded or its supply may have fallen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<Back>,
    /// Where its 0° points as the maker sees it, clockwise from straight up.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub mounted_deg: Degrees,
    /// Its angles rise anticlockwise as the maker sees it.
    #[serde(default, skip_serializing_if = "is_false")]
    pub anticlockwise: bool,
}

numbers! { Joint { home_deg: ANGLE, speed_deg_s: SPEED, mounted_deg: ANGLE = [0.0] } }

/// A limit with its reason.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Limit>)]
pub struct Limit {
    /// The angle.
    pub angle_deg: Degrees,
    /// Why, in words.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub reason: String,
}

numbers! { Limit { angle_deg: ANGLE } }

/// What a cut does to a joint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CutTo {
    /// Its pulses stop.
    #[default]
    Release,
    /// Its last pulses stay: for what must not drop.
    StayStiff,
}

/// What happens to a joint before the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum QuitTo {
    /// The same as at a cut: released, or stiff.
    #[default]
    AsCut,
    /// It goes home first, while somebody waits for it.
    HomeFirst,
}

/// What happens to a joint when its board is back and its pulses had stopped meanwhile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Back {
    /// It gets its last pulse again, and glides on from there.
    Last,
    /// It stays released until somebody has said where it stands.
    Ask,
    /// It stays released.
    StayReleased,
}

/// A field of a line of numbers: its place from 1, or its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Field {
    /// The place in the line, from 1.
    Place(u16),
    /// The name in front of `=` or `:`.
    Name(String),
}

/// A signal that comes in, with its shaping.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::input)]
#[schemars(transform = number::ranged::<Input>)]
pub struct Input {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: InputId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// The port it comes from.
    pub port: String,
    /// Which number of a line it is.
    #[schemars(transform = bounds::field)]
    pub field: Field,
    /// Raw values at its ends.
    pub ends: Ends<f64>,
    /// Raw value at rest, for one that returns to its middle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre: Option<f64>,
    /// Added after the span.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub trim: f64,
    /// How much around rest counts as rest.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub deadband: f64,
    /// How much of a cube the curve has.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub expo: f64,
    /// Points of a curve instead of expo, as `[[from, to], …]`.
    #[serde(default, deserialize_with = "strict::pairs", skip_serializing_if = "Vec::is_empty")]
    #[schemars(transform = bounds::points)]
    pub curve: Vec<(f64, f64)>,
    /// Time constant of the smoothing, in milliseconds.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub smoothing_ms: f64,
    /// Greatest rise a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rise_per_s: Option<f64>,
    /// Greatest fall a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fall_per_s: Option<f64>,
    /// Silence that counts as lost; 500 ms unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost_after_ms: Option<f64>,
    /// The greatest level that its signal comes with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
    /// The greatest level that the pin takes on which it comes in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin_volts: Option<Volts>,
    /// Whether a stuck signal counts as lost.
    #[serde(default, skip_serializing_if = "is_false")]
    pub stuck_is_lost: bool,
}

numbers! {
    Input {
        ends: RAW, centre: RAW, trim: TRIM = [0.0], deadband: DEADBAND = [0.0], expo: EXPO = [0.0], smoothing_ms: SMOOTHING = [0.0],
        rise_per_s: RATE, fall_per_s: RATE, lost_after_ms: LOST_AFTER = [Input::USUAL_LOST_AFTER], signal_volts: SIGNAL_VOLTS,
        pin_volts: SIGNAL_VOLTS,
    }
}

/// One input to one joint.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Mapping>)]
pub struct Mapping {
    /// The input.
    pub input: String,
    /// The joint.
    pub joint: String,
    /// The joint's angles at the input's two ends; they may fall.
    pub angles_deg: Ends<Degrees>,
    /// What to do when the link is lost: stay unless a failsafe angle is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failsafe: Option<Failsafe>,
}

numbers! { Mapping { angles_deg: ANGLE } }

/// Where a joint goes when its link is lost.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Failsafe>)]
pub struct Failsafe {
    /// The angle.
    pub angle_deg: Degrees,
    /// The time to get there.
    pub over_s: Seconds,
}

numbers! { Failsafe { angle_deg: ANGLE, over_s: TIME } }

/// Angles of several joints at once.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Pose>)]
pub struct Pose {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: PoseId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// Joint to angle; joints not named keep what they had.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub angles_deg: BTreeMap<String, Degrees>,
    /// What has a level instead of an angle, by its own name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub levels_percent: BTreeMap<String, Percent>,
}

numbers! { Pose { angles_deg: ANGLE, levels_percent: RATE_LEVEL } }

/// A list of steps.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sequence {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: SequenceId,
    /// Its name.
    #[schemars(transform = Named)]
    pub name: String,
    /// Its steps in order.
    #[serde(default, rename = "step", skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
}

/// A pose with its move time, easing and dwell.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Step>)]
pub struct Step {
    /// The pose to reach.
    pub pose: String,
    /// The time to get there; without it, as fast as the slowest joint can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub move_s: Option<Seconds>,
    /// How the move is eased; cubic unless said.
    #[serde(default, skip_serializing_if = "is_cubic")]
    pub easing: Easing,
    /// The time to stand there.
    #[serde(default, skip_serializing_if = "is_no_time")]
    pub dwell_s: Seconds,
    /// Joints that differ within this step.
    #[serde(default, rename = "joint", skip_serializing_if = "BTreeMap::is_empty")]
    pub joints: BTreeMap<String, StepJoint>,
}

numbers! { Step { move_s: TIME, dwell_s: TIME = [0.0] } }

/// How one joint differs within a step.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<StepJoint>)]
pub struct StepJoint {
    /// How much later it starts.
    #[serde(default, skip_serializing_if = "is_no_time")]
    pub lag_s: Seconds,
    /// The share of the move time it takes, 0–1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// Its own easing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub easing: Option<Easing>,
}

numbers! { StepJoint { lag_s: TIME = [0.0], share: MOVE_SHARE = [1.0] } }

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
fn is_cautious(ends: &Ends<Micros>) -> bool {
    *ends == Ends::cautious()
}
const fn is_false(value: &bool) -> bool {
    !*value
}
fn is_zero(value: &f64) -> bool {
    *value == 0.0
}
fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}
fn is_positional(kind: &Kind) -> bool {
    *kind == Kind::default()
}
const fn once() -> u8 {
    1
}
#[expect(clippy::trivially_copy_pass_by_ref, reason = "as the serializer asks")]
const fn is_once(times: &u8) -> bool {
    *times == once()
}
fn is_aligned(how: &MarkKind) -> bool {
    *how == MarkKind::Aligned
}
fn is_as_cut(quit: &QuitTo) -> bool {
    *quit == QuitTo::AsCut
}
fn is_release(cut: &CutTo) -> bool {
    *cut == CutTo::Release
}
fn is_cubic(easing: &Easing) -> bool {
    *easing == Easing::Cubic
}
fn is_no_time(time: &Seconds) -> bool {
    *time == Seconds::ZERO
}

impl Rated {
    /// What no sheet says anything of.
    pub const NOTHING: Self = Self {
        travel_deg: Degrees::ZERO,
        pulses_us: Ends { low: Micros::ZERO, high: Micros::ZERO },
        reversed: false,
        s_per_60_deg: None,
        idle_a: None,
        moving_a: None,
        stall_a: None,
    };
}

impl Port {
    /// A port with nothing said about it yet.
    pub fn new(name: &str, kind: PortKind, path: &str) -> Self {
        let (id, baud, bus_hz) = (PortId::default(), None, None);
        Self { id, name: name.to_owned(), kind, path: path.to_owned(), baud, bus_hz }
    }
}

impl Board {
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
        }
    }
}

impl Input {
    /// Silence that counts as lost where nothing is said, in milliseconds.
    pub const USUAL_LOST_AFTER: f64 = 500.0;
}

impl Ends<Micros> {
    /// Endpoints before any calibration.
    pub const fn cautious() -> Self {
        Self { low: Micros::new(1000.0), high: Micros::new(2000.0) }
    }
}

impl Board {
    /// The clock its channels really have.
    pub fn clock(&self) -> PwmClock {
        (self.chip.row().clock)(self)
    }

    /// The clock of what hangs on one of its channels: an accessory's counts a whole frame, and of one that is only
    /// on or off nothing between.
    pub fn clock_of(&self, kind: Kind) -> PwmClock {
        let share = || (self.chip.row().share_clock)(self);
        match kind.signal() {
            Signal::Pulse => self.clock(),
            Signal::Share => share(),
            Signal::Switch => share().all_or_nothing(),
        }
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

impl Rated {
    /// The slope and middle that the sheet claims.
    pub fn slope(&self) -> RatedSlope {
        let Ends { low, high } = self.pulses_us;
        let sign = if self.reversed { -1.0 } else { 1.0 };
        RatedSlope { gain: sign * self.travel_deg.get() / (high - low).get(), middle: (low + high) * 0.5 }
    }
}

impl Joint {
    /// All servos that turn it, the first one first.
    pub fn servos(&self) -> impl Iterator<Item = &str> {
        std::iter::once(&self.servo).chain(&self.others).map(String::as_str)
    }
}

impl Pose {
    /// Where it wants what it speaks of by a name: the joint's angle in degrees, or a level in percent.
    pub fn target(&self, kind: Kind, name: &str) -> Option<Degrees> {
        if kind.has_angles() {
            return self.angles_deg.get(name).copied();
        }
        // From here on a level goes where an angle goes: see `scale`.
        self.levels_percent.get(name).map(|level| Degrees::new(level.get()))
    }
}

impl Mark {
    /// What it says of the servo's shaft, if it was aligned against an angle: what was read at the joint is taken back
    /// through what is between.
    pub fn aligned(&self, through: &Transmission) -> Option<Seen> {
        (self.seen == MarkKind::Aligned).then_some(())?;
        let (angle, error) = (self.angle_deg?, self.error_deg.unwrap_or(Self::USUAL_ERROR));
        let seen =
            |angle, error| Seen { pulse: self.pulse_us, angle, error, from: self.from, sure: self.read > 1 };
        Some(match self.at {
            ReadAt::Servo => seen(angle, error),
            ReadAt::Joint => {
                let shaft = through.servo_at(angle);
                // Where the joint hardly turns a misreading means much; at most a quarter of a turn.
                let ratio = libm::fmax(libm::fabs(through.ratio_at(shaft)), error.get() / 90.0);
                seen(shaft, error * (1.0 / ratio))
            }
        })
    }

    /// How far a reading against a protractor may be off, unless said.
    pub const USUAL_ERROR: Degrees = Degrees::new(1.0);

    /// How far its pulse may be off because it was counted in coarser ticks than `tick`, ±; none where it was not.
    pub fn carried_error(&self, tick: Micros) -> Option<Micros> {
        let then = self.tick_us?;
        (then.get() > tick.get() * 1.01).then(|| then * 0.5)
    }
}

impl Servo {
    /// A part on a channel of which nothing else is known.
    pub fn new(name: &str, (board, channel): (&str, u8), kind: Kind) -> Self {
        Self {
            id: ServoId::default(),
            name: name.to_owned(),
            board: board.to_owned(),
            channel,
            kind,
            endpoints_us: Ends::cautious(),
            centre_us: None,
            fit: Shape::default(),
            arrive: Side::default(),
            teeth: None,
            volts: None,
            signal_volts: None,
            gear: None,
            linkage: None,
            idle: Idle::default(),
            arming: None,
            draw_a: None,
            rated: None,
            marks: Vec::new(),
            exercised: Vec::new(),
            notes: String::new(),
        }
    }

    /// The fit through its aligned marks.
    ///
    /// # Errors
    /// When there are too few marks, or they do not turn.
    pub fn fit(&self) -> Result<Fit, NoFit> {
        let through = self.through();
        let seen: Vec<Seen> = self.marks.iter().filter_map(|mark| mark.aligned(&through)).collect();
        Fit::of(&seen, self.rated.as_ref().map(Rated::slope), self.fit)
    }

    /// The place among its marks of the one that the others do not agree with, with what they say.
    pub fn odd_mark(&self, fit: &Result<Fit, NoFit>) -> Option<(usize, Odd)> {
        let through = self.through();
        let odd = match fit {
            Ok(fit) => *fit.odd()?,
            Err(NoFit::TurnsBack(back)) => {
                let seen: Vec<Seen> = self.marks.iter().filter_map(|mark| mark.aligned(&through)).collect();
                // Of two that turn back one is odd; where the others do not tell which, the first.
                let of_the_two = |odd: &Odd| {
                    [back.low.pulse, back.high.pulse]
                        .iter()
                        .any(|p| (*p - odd.seen.pulse).abs() < Micros::new(0.6))
                };
                let first = || {
                    let place =
                        seen.iter().position(|s| (s.pulse - back.low.pulse).abs() < Micros::new(0.6))?;
                    let or_bends = false;
                    Some(Odd { place, seen: *seen.get(place)?, expected: back.high.angle, or_bends })
                };
                odd_one(&seen).filter(of_the_two).or_else(first)?
            }
            Err(_) => return None,
        };
        let mut aligned = self.marks.iter().enumerate().filter(|(_, mark)| mark.aligned(&through).is_some());
        Some((aligned.nth(odd.place)?.0, odd))
    }

    /// What is between its shaft and its joint. A linkage that cannot close was refused before.
    pub fn through(&self) -> Transmission {
        match (self.gear, self.linkage) {
            (_, Some(bars)) => Transmission::linked(bars).unwrap_or(Transmission::DIRECT),
            (Some(gear), None) => Transmission::geared(gear),
            (None, None) => Transmission::DIRECT,
        }
    }

    /// The band in which a continuous one stands still, where marks tell it.
    pub fn band(&self) -> Option<Band> {
        // A tick before it started it stood still: the edge lies between the two.
        let edge = |m: &Mark| {
            let half = m.tick_us.unwrap_or(Micros::ZERO) * 0.5;
            let edge = if m.from == Side::Below { m.pulse_us - half } else { m.pulse_us + half };
            (edge, m.from)
        };
        Band::of(&self.marks.iter().filter(|m| m.seen == MarkKind::Starts).map(edge).collect::<Vec<_>>())
    }

    /// How fast a continuous one turns.
    ///
    /// # Errors
    /// When nothing was timed yet, its stop band is not known, or two rates contradict each other.
    pub fn rates(&self) -> Result<Rates, NoRates> {
        let turning = |m: &Mark| Some(Turning { pulse: m.pulse_us, rate: m.rpm? });
        let seen: Vec<Turning> = self.marks.iter().filter_map(turning).collect();
        Rates::of(self.band().ok_or(NoRates::None)?, &seen)
    }

    /// The pulses of a continuous one's levels: its saturations where rates were seen, else its endpoints.
    pub fn sides(&self) -> Sides {
        let Ends { low, high } = self.endpoints_us;
        let stop = self.centre();
        let band = self.band().filter(|band| stop >= band.low && stop <= band.high);
        let still = band.map_or((stop, stop), |band| (band.low, band.high));
        let rates = self.rates().ok();
        let full = |longer: bool, end: Micros, edge: Micros| {
            let seen = rates.as_ref().and_then(|rates| rates.saturation(longer));
            let pulse = seen.unwrap_or(end).within(low, high);
            if (pulse > edge) == longer { pulse } else { end }
        };
        let (low, high) = (full(false, low, still.0), full(true, high, still.1));
        let seen = rates.map_or_else(Vec::new, |rates| rates.levels((low, high), still));
        Sides { low, zero: stop, high, still, seen }
    }

    /// Its centre, or 1500 µs. Of a continuous one the pulse at which it stops: the middle of the band that marks tell,
    /// or else what was said, or else the pulse that arms it.
    pub fn centre(&self) -> Micros {
        let neutral = self.arming.as_ref().and_then(|arming| arming.pulse_us);
        let band = self.kind.turns_on().then(|| self.band()).flatten().map(|band| band.middle());
        band.or(self.centre_us).or(neutral).unwrap_or(Micros::new(1500.0))
    }

    /// The pulse that it must see before it follows, and for how long; none when it follows at once.
    pub fn arms(&self) -> Option<(Micros, Seconds)> {
        let arming = self.arming.as_ref()?;
        Some((arming.pulse_us.unwrap_or_else(|| self.centre()), arming.for_s))
    }

    /// The part of the name before the dot, or nothing.
    pub fn group(&self) -> &str {
        self.name.split_once('.').map_or("", |(group, _)| group)
    }

    /// The part of the name after the dot, or all of it.
    pub fn short_name(&self) -> &str {
        self.name.split_once('.').map_or(self.name.as_str(), |(_, short)| short)
    }

    /// The greatest speed the sheet gives, in degrees a second.
    pub fn rated_speed(&self) -> Option<DegreesPerSecond> {
        let seconds = self.rated.as_ref()?.s_per_60_deg?;
        Some(DegreesPerSecond::new(60.0 / seconds.get()))
    }
}

impl Rig {
    /// The board of that name.
    pub fn board(&self, name: &str) -> Option<&Board> {
        self.boards.iter().find(|b| b.name == name)
    }

    /// The port of that name.
    pub fn port(&self, name: &str) -> Option<&Port> {
        self.ports.iter().find(|p| p.name == name)
    }

    /// The servos on a board.
    pub fn servos_on<'a>(&'a self, board: &'a str) -> impl Iterator<Item = &'a Servo> {
        self.servos.iter().filter(move |s| s.board == board)
    }

    /// The servo of that name.
    pub fn servo(&self, name: &str) -> Option<&Servo> {
        self.servos.iter().find(|s| s.name == name)
    }

    /// The joint of that name.
    pub fn joint(&self, name: &str) -> Option<&Joint> {
        self.joints.iter().find(|j| j.name == name)
    }

    /// The joint a servo turns, alone or with others.
    pub fn joint_of(&self, servo: &str) -> Option<&Joint> {
        self.joints.iter().find(|j| j.servos().any(|s| s == servo))
    }

    /// What is between a servo's shaft and its joint, the geometry of a steered pair included.
    pub fn through(&self, servo: &Servo) -> Transmission {
        through_of(servo, self.joint_of(&servo.name))
    }

    /// From pulse to the angle of a servo's joint, where there is a fit.
    pub fn scale_of(&self, servo: &Servo) -> Option<Scale> {
        Some(Scale::of(servo.fit().ok()?.from_side(servo.arrive), self.through(servo)))
    }

    /// What holds a servo back, with the limit's angle and its reason where it is one.
    pub fn stopped_words(&self, servo: &str, stopped: Stopped) -> String {
        let joint = self.joint_of(servo);
        let limit = match stopped {
            Stopped::LimitLow => joint.and_then(|joint| Some(("low", joint.low.as_ref()?))),
            Stopped::LimitHigh => joint.and_then(|joint| Some(("high", joint.high.as_ref()?))),
            Stopped::EndpointLow | Stopped::EndpointHigh | Stopped::NotANumber => None,
        };
        let Some((end, limit)) = limit else { return stopped.words().to_owned() };
        let why = if limit.reason.is_empty() { String::new() } else { format!(": {}", limit.reason) };
        format!("at its {end} limit {:+.1}°{why}", limit.angle_deg.get())
    }

    /// The servo that turns a joint, with its index.
    pub fn turned_by(&self, joint: &str) -> Option<(usize, &Servo)> {
        let name = &self.joint(joint)?.servo;
        self.servos.iter().enumerate().find(|(_, s)| &s.name == name)
    }

    /// The greatest speed of a servo's joint: the least of what it is allowed and what the sheets of the servos that
    /// turn it say, where what is between turns it fastest. Of what has a level, in percent a second.
    pub fn speed_of(&self, servo: &Servo) -> Option<DegreesPerSecond> {
        speed_of(servo, self.joint_of(&servo.name), |name| self.servo(name))
    }

    /// The name by which poses and steps speak of a servo: its joint's, or its own where it has a level.
    pub fn spoken_name<'a>(&'a self, servo: &'a Servo) -> Option<&'a str> {
        spoken_name(servo, self.joint_of(&servo.name))
    }

    /// The servos by index, group by group as each is first met, in a group as they stand here.
    pub fn by_group(&self) -> Vec<usize> {
        let mut groups: Vec<&str> = Vec::new();
        for servo in &self.servos {
            if !groups.contains(&servo.group()) {
                groups.push(servo.group());
            }
        }
        let group = |n: usize| self.servos.get(n).map_or("", Servo::group);
        let mut order: Vec<usize> = (0..self.servos.len()).collect();
        order.sort_by_cached_key(|&n| groups.iter().position(|known| *known == group(n)));
        order
    }

    /// The mapping that drives a joint.
    pub fn mapping_of(&self, joint: &str) -> Option<&Mapping> {
        self.mappings.iter().find(|m| m.joint == joint)
    }

    /// The pose of that name.
    pub fn pose(&self, name: &str) -> Option<&Pose> {
        self.poses.iter().find(|p| p.name == name)
    }
}

fn through_of(servo: &Servo, joint: Option<&Joint>) -> Transmission {
    let own = servo.through();
    let Some(joint) = joint else { return own };
    let hand = if joint.servo == servo.name { Hand::Left } else { Hand::Right };
    joint.steering.map_or(own, |pair| own.steering(hand, pair))
}

fn speed_of<'r>(
    servo: &Servo,
    joint: Option<&'r Joint>,
    find: impl Fn(&str) -> Option<&'r Servo>,
) -> Option<DegreesPerSecond> {
    if let Some(speed) = servo.kind.level_speed() {
        return Some(speed);
    }
    let turning = joint.into_iter().flat_map(Joint::servos).filter_map(find);
    // Through an angle that changes it is the shaft's speed that counts, wherever the joint is.
    let rated = turning.filter_map(|s| Some(s.rated_speed()? * through_of(s, joint).most_ratio()));
    let allowed = joint.and_then(|j| j.speed_deg_s);
    rated.chain(allowed).reduce(|a, b| if b < a { b } else { a })
}

fn spoken_name<'r>(servo: &'r Servo, joint: Option<&'r Joint>) -> Option<&'r str> {
    if !servo.kind.has_angles() {
        return Some(&servo.name);
    }
    // Of several servos that turn a joint together only the first is spoken of.
    joint.filter(|j| j.servo == servo.name).map(|joint| joint.name.as_str())
}
