//! What inputs move: mappings, from shares of inputs to a goal, and what a press does.

use super::bounds::{self, Named};
use super::number::{self, numbers};
use super::{Ends, MappingId, Pose, is_usual, strict};
use crate::unit::{Degrees, DegreesPerSecond, Percent, Seconds};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A mapping from one input or several to one goal.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::mapping)]
#[schemars(transform = number::ranged::<Mapping>)]
pub struct Mapping {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: MappingId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// Inputs, each with its weight. Their weighted sum is clipped to -1 to 1; a one-ended input counts from -1 to 1 as well.
    pub from: BTreeMap<String, f64>,
    /// Its goal: what it moves.
    pub to: Goal,
    /// It acts only while a switch is at a position.
    #[serde(default, rename = "while", skip_serializing_if = "Option::is_none")]
    pub only_while: Option<While>,
    /// How it takes over what it moves.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub take: Take,
    /// What happens to what it moves when a link is lost. By default as the rig's own `when_lost` says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub when_lost: Option<WhenLost>,
    /// Where the goal goes when a link is lost, instead of `when_lost`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failsafe: Option<Failsafe>,
}

numbers! { Mapping { from: WEIGHT } }

/// What a mapping moves: a joint, a level, a rate, or the joints of poses.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::goal)]
#[schemars(transform = number::ranged::<Goal>)]
pub struct Goal {
    /// A joint that goes to an angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub joint: Option<String>,
    /// A lamp or a relay that goes to a level.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level: Option<String>,
    /// A joint whose speed it sets instead of its angle, or a continuous servo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<String>,
    /// Two poses or more. The joints that all of them name move from pose to pose.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blend: Vec<String>,
    /// Two poses: each press of a switch goes to the other one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub toggle: Vec<String>,
    /// A sequence whose place it sets, from the beginning at -1 to the end at 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// The tempo of whatever plays, at -1 and 1, in either order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tempo_percent: Option<Ends<Percent>>,
    /// Only these joints of the poses. All of them by default.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub joints: Vec<String>,
    /// The joint's angles at -1 and 1, in either order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angles_deg: Option<Ends<Degrees>>,
    /// The levels at -1 and 1, in either order; also for the rate of a continuous servo.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub levels_percent: Option<Ends<Percent>>,
    /// A joint's rates at -1 and 1, in either order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rates_deg_s: Option<Ends<DegreesPerSecond>>,
    /// Points instead of two ends, as `[[from, to], …]`: from -1 to 1, to the goal's unit (°, %, °/s; of a blend, % of its
    /// row of poses). The course may turn back.
    #[serde(default, deserialize_with = "strict::pairs", skip_serializing_if = "Vec::is_empty")]
    #[schemars(transform = bounds::course)]
    pub points: Vec<(f64, f64)>,
    /// The time of a toggle from one pose to the other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub over_s: Option<Seconds>,
}

numbers! {
    Goal { angles_deg: ANGLE, levels_percent: RATE_LEVEL, rates_deg_s: TURN_RATE, tempo_percent: TEMPO, over_s: TIME = [Goal::USUAL_TOGGLE.get()] }
}

/// The kinds of goals.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GoalKind {
    /// A joint's angle.
    Joint,
    /// A level in percent, of what has no angle.
    Level,
    /// How fast something turns.
    Rate,
    /// A place between poses.
    Blend,
    /// One of two poses.
    Toggle,
    /// How fast what plays goes.
    Tempo,
    /// Where in a sequence.
    Place,
}

impl GoalKind {
    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Joint => "joint",
            Self::Level => "level",
            Self::Rate => "rate",
            Self::Blend => "blend",
            Self::Toggle => "toggle",
            Self::Tempo => "tempo",
            Self::Place => "place",
        }
    }

    /// Whether it moves what poses name.
    pub const fn has_poses(self) -> bool {
        matches!(self, Self::Blend | Self::Toggle)
    }
}

/// When a mapping acts.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::at_position)]
#[schemars(transform = number::ranged::<While>)]
pub struct While {
    /// The name of the input, which must be a switch.
    pub input: String,
    /// Whether a button must be pressed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pressed: Option<bool>,
    /// The required position, counted from 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<u8>,
}

numbers! { While { position: POSITION } }

/// How a mapping meets what becomes its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Take {
    /// It glides to where the input is.
    #[default]
    Glide,
    /// Nothing moves until the input passes where the joint is.
    PickUp,
}

/// What becomes of what a mapping moves when a link is lost. A continuous servo stops in any case.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhenLost {
    /// It stays where it is.
    #[default]
    Stay,
    /// Its pulses stop.
    Release,
    /// It goes home, where it has one.
    Home,
}

impl WhenLost {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 3] = [Self::Stay, Self::Home, Self::Release];

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Stay => "stay",
            Self::Release => "release",
            Self::Home => "home",
        }
    }
}

/// Where the goal goes when a link is lost.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::failsafe)]
#[schemars(transform = number::ranged::<Failsafe>)]
pub struct Failsafe {
    /// The angle of a joint.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub angle_deg: Option<Degrees>,
    /// The level of a lamp or a relay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level_percent: Option<Percent>,
    /// The pose, of a blend or a toggle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pose: Option<String>,
    /// The time of the move.
    pub over_s: Seconds,
}

numbers! { Failsafe { angle_deg: ANGLE, level_percent: LEVEL, over_s: TIME } }

/// What happens when a switch is pressed, or reaches a position.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::press)]
#[schemars(transform = number::ranged::<Press>)]
pub struct Press {
    /// The name of the input, which must be a switch.
    pub input: String,
    /// The position that it must reach, counted from 1. By default it must be pressed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<u8>,
    /// What the press does.
    pub does: Does,
    /// The sequence to play.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sequence: Option<String>,
    /// The name of the kept pose. A number is added if the name is taken.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pose: Option<String>,
}

numbers! { Press { position: POSITION } }

/// What a press does. Cut and hold have the last word over all else that is asked at the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Does {
    /// A sequence begins, or goes on where it stood.
    #[default]
    Play,
    /// What plays is left.
    Stop,
    /// The last pulses stay.
    Hold,
    /// Everything is dropped until it is enabled again.
    Cut,
    /// Where the joints are told to be is kept as a pose.
    Keep,
}

impl Does {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 5] = [Self::Play, Self::Stop, Self::Hold, Self::Cut, Self::Keep];

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Play => "play",
            Self::Stop => "stop",
            Self::Hold => "hold",
            Self::Cut => "cut",
            Self::Keep => "keep",
        }
    }

    /// What is to be said of a press that changed nothing.
    pub const fn in_vain(self) -> &'static str {
        match self {
            Self::Play => "its sequence plays already, has no step, or another one has its joints",
            Self::Stop => "nothing plays",
            Self::Hold => "nothing is driven that it could hold",
            Self::Cut => "everything is cut already",
            Self::Keep => "no pose is kept",
        }
    }
}

impl Goal {
    /// The time from one pose of a toggle to the other.
    pub const USUAL_TOGGLE: Seconds = Seconds::new(0.5);

    /// A joint between two angles.
    pub fn joint(name: &str, ends: Ends<Degrees>) -> Self {
        Self { joint: Some(name.to_owned()), angles_deg: Some(ends), ..Self::default() }
    }

    /// What kind it is; none where it names nothing, or more than one thing.
    pub fn kind(&self) -> Option<GoalKind> {
        let named = [
            (self.joint.is_some(), GoalKind::Joint),
            (self.level.is_some(), GoalKind::Level),
            (self.rate.is_some(), GoalKind::Rate),
            (!self.blend.is_empty(), GoalKind::Blend),
            (!self.toggle.is_empty(), GoalKind::Toggle),
            (self.tempo_percent.is_some(), GoalKind::Tempo),
            (self.place.is_some(), GoalKind::Place),
        ];
        let mut kinds = named.into_iter().filter(|(is, _)| *is).map(|(_, kind)| kind);
        kinds.next().filter(|_| kinds.next().is_none())
    }

    /// The joint, lamp, relay or continuous servo that it names itself.
    pub fn name(&self) -> Option<&str> {
        self.joint.as_deref().or(self.level.as_deref()).or(self.rate.as_deref())
    }

    /// The poses that it names.
    pub fn poses(&self) -> &[String] {
        if self.blend.is_empty() { &self.toggle } else { &self.blend }
    }

    /// The ends in its own unit, where two are said.
    pub fn ends(&self) -> Option<Ends<f64>> {
        let angles = self.angles_deg.map(|ends| (ends.low.get(), ends.high.get()));
        let levels = || self.levels_percent.map(|ends| (ends.low.get(), ends.high.get()));
        let rates = || self.rates_deg_s.map(|ends| (ends.low.get(), ends.high.get()));
        let tempos = || self.tempo_percent.map(|ends| (ends.low.get(), ends.high.get()));
        angles.or_else(levels).or_else(rates).or_else(tempos).map(|(low, high)| Ends { low, high })
    }

    /// Every place that names what it moves or a pose.
    pub fn rename(&mut self, old: &str, new: &str) {
        for name in [&mut self.joint, &mut self.level, &mut self.rate].into_iter().flatten() {
            exchange(name, old, new);
        }
        self.joints.iter_mut().for_each(|name| exchange(name, old, new));
    }
}

fn exchange(name: &mut String, old: &str, new: &str) {
    if name == old {
        new.clone_into(name);
    }
}

impl Mapping {
    /// One input, at its full weight.
    pub fn of(name: &str, input: &str, to: Goal) -> Self {
        Self { name: name.to_owned(), from: BTreeMap::from([(input.to_owned(), 1.0)]), to, ..Self::default() }
    }

    /// The inputs that it needs to be heard: its shares, and its switch.
    pub fn inputs(&self) -> impl Iterator<Item = &str> {
        self.from.keys().chain(self.only_while.as_ref().map(|only| &only.input)).map(String::as_str)
    }

    /// Calls an input otherwise.
    pub fn rename_input(&mut self, old: &str, new: &str) {
        if let Some(weight) = self.from.remove(old) {
            self.from.insert(new.to_owned(), weight);
        }
        if let Some(only) = &mut self.only_while {
            exchange(&mut only.input, old, new);
        }
    }

    /// Calls a pose otherwise.
    pub fn rename_pose(&mut self, old: &str, new: &str) {
        self.to.blend.iter_mut().chain(&mut self.to.toggle).for_each(|name| exchange(name, old, new));
        if let Some(pose) = self.failsafe.as_mut().and_then(|failsafe| failsafe.pose.as_mut()) {
            exchange(pose, old, new);
        }
    }
}

/// What a mapping moves, by the names that poses use. `find` gives a pose by its name.
pub(super) fn moved<'a>(mapping: &'a Mapping, find: impl Fn(&'a str) -> Option<&'a Pose>) -> Vec<&'a str> {
    if let Some(name) = mapping.to.name() {
        return vec![name];
    }
    let mut poses = mapping.to.poses().iter().map(|pose| find(pose));
    let Some(Some(first)) = poses.next() else { return Vec::new() };
    let mut names: Vec<&str> =
        first.angles_deg.keys().chain(first.levels_percent.keys()).map(String::as_str).collect();
    for pose in poses.flatten() {
        names.retain(|name| pose.angles_deg.contains_key(*name) || pose.levels_percent.contains_key(*name));
    }
    let only = &mapping.to.joints;
    names.retain(|name| only.is_empty() || only.iter().any(|own| own == name));
    names
}

impl While {
    /// The position at which it holds, from 0.
    pub fn place(&self) -> Option<u8> {
        match (self.pressed, self.position) {
            (Some(pressed), None) => Some(u8::from(pressed)),
            (None, Some(position)) => position.checked_sub(1),
            _ => None,
        }
    }
}

impl Press {
    /// The position at which it acts, from 0.
    pub fn place(&self) -> u8 {
        self.position.map_or(1, |position| position.saturating_sub(1))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_goal_names_one_thing() {
        let ends = Ends { low: Degrees::ZERO, high: Degrees::new(40.0) };
        let beak = Goal::joint("heron.beak", ends);
        assert_eq!((beak.kind(), beak.name()), (Some(GoalKind::Joint), Some("heron.beak")));
        let both = Goal { toggle: vec!["shut".to_owned(), "open".to_owned()], ..beak };
        assert_eq!((both.kind(), Goal::default().kind()), (None, None));
    }

    #[test]
    fn a_position_is_counted_from_one_and_pressed_is_the_second() {
        let at = |pressed, position| While { input: "mode".to_owned(), pressed, position }.place();
        assert_eq!([at(Some(false), None), at(Some(true), None)], [Some(0), Some(1)]);
        assert_eq!([at(None, Some(3)), at(None, None), at(Some(true), Some(2))], [Some(2), None, None]);
        assert_eq!(Press::default().place(), 1);
    }
}
