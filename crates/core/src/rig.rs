//! The rig document: everything a maker has said about a mechanism, as plain values.
//!
//! Names tie the parts together as a person writes them. [`check`] finds what does not fit together,
//! [`mod@file`] reads and writes the TOML, [`edit`] has every change, and `stage::Plan` is what runs.

mod board;
pub(crate) mod bounds;
pub mod card;
pub mod check;
pub mod chip;
pub mod edit;
pub mod file;
pub mod fresh;
pub mod id;
mod input;
mod joint;
mod kind;
pub mod layout;
pub mod link;
pub mod mapping;
mod merge;
mod named_scale;
pub(crate) mod number;
pub mod parts;
mod pose;
pub mod protocol;
mod sequence;
mod servo;
pub mod steps;
mod strict;
pub mod switch;
pub mod table;
pub mod worry;

use crate::guard::Stopped;
use crate::linkage::{Hand, Transmission};
use crate::scale::Scale;
use crate::unit::{DegreesPerSecond, Position, Seconds};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use bounds::{Formats, Noted};
use number::numbers;

pub use crate::fit::Side;
pub use board::{Board, Port, Rail};
pub use chip::{Chip, PortKind};
pub use id::{
    BoardId, Ids, InputId, JointId, LayoutId, LinkId, MappingId, PartId, PartNumbers, PortId, PoseId, RailId,
    ScaleId, SequenceId, ServoId,
};
pub use input::{Input, OwnUnit};
pub use joint::{Ailing, Back, CutTo, Joint, Limit, Mirror, QuitTo};
pub use kind::{Arming, Kind, Signal};
pub use layout::{Ail, Layout};
pub use link::{Link, Wave, WaveShape};
pub use mapping::{Does, Failsafe, Goal, GoalKind, Mapping, Press, Take, WhenLost, While};
pub use named_scale::{NamedScale, UNITS};
pub use parts::{Index, Parts};
pub use pose::Pose;
pub use protocol::{Channel, Flow, Framing, Protocol};
pub use sequence::{AtEnd, Awaited, Layer, Loop, Sequence, Step, StepJoint, Test, Then, Times, Wait, What};
pub use servo::{Exercised, Idle, Mark, MarkKind, Rated, ReadAt, Servo};
pub use strict::Ends;
pub use switch::{Pressed, Switch};

/// The format this program writes.
pub const FORMAT: u32 = <Rig as file::format::Versioned>::NEWEST;

/// A whole rig.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Rig>)]
pub struct Rig {
    /// The format's version, 12 at present. An older file is raised when it is opened; what it lacks gets its default.
    #[schemars(transform = Formats(FORMAT))]
    pub format: u32,
    /// The rig's name, 1 to 40 characters.
    #[schemars(transform = bounds::title)]
    pub name: String,
    /// Notes, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
    /// A servo that nobody has moved by hand for this long is released, unless its joint is loaded. Never by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub release_after_s: Option<Seconds>,
    /// What happens to what a mapping moves when a link is lost, unless the mapping says otherwise. It stays by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub when_lost: WhenLost,
    /// Power supplies, with the voltage and current that each can give.
    #[serde(default, rename = "rail", skip_serializing_if = "Vec::is_empty")]
    pub rails: Vec<Rail>,
    /// Ways to hardware.
    #[serde(default, rename = "port", skip_serializing_if = "Vec::is_empty")]
    pub ports: Vec<Port>,
    /// Boards with channels.
    #[serde(default, rename = "board", skip_serializing_if = "Vec::is_empty")]
    pub boards: Vec<Board>,
    /// Register layouts of smart servos, beside those that ship.
    #[serde(default, rename = "layout", skip_serializing_if = "Vec::is_empty")]
    pub layouts: Vec<Layout>,
    /// Scales of other code. Their numbers can be typed, and are shown beside µs and degrees; where there is room for only
    /// one, the first is shown.
    #[serde(default, rename = "scale", skip_serializing_if = "Vec::is_empty")]
    pub scales: Vec<NamedScale>,
    /// Servos, and whatever else hangs on a channel.
    #[serde(default, rename = "servo", skip_serializing_if = "Vec::is_empty")]
    pub servos: Vec<Servo>,
    /// Joints, which servos turn.
    #[serde(default, rename = "joint", skip_serializing_if = "Vec::is_empty")]
    pub joints: Vec<Joint>,
    /// Links that carry inputs, each with its own health.
    #[serde(default, rename = "link", skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<Link>,
    /// Input signals, each one channel of a link.
    #[serde(default, rename = "input", skip_serializing_if = "Vec::is_empty")]
    pub inputs: Vec<Input>,
    /// Mappings from inputs to what they move.
    #[serde(default, rename = "mapping", skip_serializing_if = "Vec::is_empty")]
    pub mappings: Vec<Mapping>,
    /// What the press of a switch does.
    #[serde(default, rename = "press", skip_serializing_if = "Vec::is_empty")]
    pub presses: Vec<Press>,
    /// Named sets of joint angles and levels.
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

const fn is_false(value: &bool) -> bool {
    !*value
}

fn is_zero(value: &f64) -> bool {
    *value == 0.0
}

fn is_usual<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
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

    /// A place on a board as it is said: `channel 4 of upper`, `pin 9 of desk`, `id 1 of neck-bus`.
    pub fn plug_words(&self, board: &str, channel: impl std::fmt::Display) -> String {
        let word = self.board(board).map_or("channel", |board| board.chip.row().channel_word);
        format!("{word} {channel} of {board}")
    }

    /// The servos on a board.
    pub fn servos_on<'a>(&'a self, board: &'a str) -> impl Iterator<Item = &'a Servo> {
        self.servos.iter().filter(move |s| s.board == board)
    }

    /// The scale that a word behind a number means; capitals do not matter.
    pub fn scale(&self, word: &str) -> Option<&NamedScale> {
        self.scales.iter().find(|scale| scale.is_called(word))
    }

    /// A place of something of that kind in every scale of the rig, the first scale first; nothing where it is told no
    /// pulses.
    pub fn in_scales(&self, kind: Kind, place: Position) -> impl Iterator<Item = String> {
        let scales = if kind.signal() == Signal::Pulse { self.scales.as_slice() } else { &[] };
        scales.iter().filter_map(move |scale| scale.words(place.micros()))
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

    /// The mapping of that name.
    pub fn mapping(&self, name: &str) -> Option<&Mapping> {
        self.mappings.iter().find(|m| m.name == name)
    }

    /// What a mapping moves, by the names that poses use: the one thing that it names, or all that each of its poses does.
    pub fn moved_by<'a>(&'a self, mapping: &'a Mapping) -> Vec<&'a str> {
        mapping::moved(mapping, |pose| self.pose(pose))
    }

    /// The mappings that move something, by the name that poses use.
    pub fn mappings_of<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Mapping> {
        self.mappings.iter().filter(move |mapping| self.moved_by(mapping).contains(&name))
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
