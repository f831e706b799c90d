//! Sequences as they are written: steps that go to poses, play other sequences or wait, and loops over them.
//!
//! What they mean in time is `crate::sequence`'s. A step does one thing; [`Step::what`] says which.

use super::bounds::{self, Named, Worded};
use super::number::{self, numbers};
use super::{SequenceId, is_usual};
use crate::easing::Easing;
use crate::unit::{Degrees, DegreesPerSecond, DegreesPerSecondSquared, Percent, Seconds};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A list of steps.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::sequence)]
#[schemars(transform = number::ranged::<Sequence>)]
pub struct Sequence {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: SequenceId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// Whole numbers that a caller may set, each with its default. A loop's `times` may name one.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub parameters: BTreeMap<String, u32>,
    /// Its tempo: at 200 it takes half the time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tempo_percent: Option<Percent>,
    /// The time to bring its joints to where it begins, never faster than their limits. As fast as a glide by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lead_in_s: Option<Seconds>,
    /// What happens to its joints when it ends.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub at_end: AtEnd,
    /// How it combines with others.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub layer: Layer,
    /// The most that an `added` sequence adds to an angle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most_deg: Option<Degrees>,
    /// Its steps in order.
    #[serde(default, rename = "step", skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// The steps that are repeated.
    #[serde(default, rename = "loop", skip_serializing_if = "Vec::is_empty")]
    pub loops: Vec<Loop>,
}

numbers! {
    Sequence { parameters: PARAMETER, tempo_percent: TEMPO = [100.0], lead_in_s: TIME, at_most_deg: ADDED = [10.0] }
}

/// What becomes of a sequence's joints when it is over. What goes on turning by itself stops in any case.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AtEnd {
    /// They stay where they are.
    #[default]
    Stay,
    /// They are let go: to what else moves them, or home.
    Home,
    /// Their pulses stop.
    Release,
    /// It plays again.
    Again,
}

impl AtEnd {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 4] = [Self::Stay, Self::Home, Self::Release, Self::Again];

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Stay => "stay",
            Self::Home => "home",
            Self::Release => "release",
            Self::Again => "again",
        }
    }
}

/// How a sequence plays beside others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Layer {
    /// Beside those that share no joint with it.
    #[default]
    Beside,
    /// Over others: it takes its joints with a glide, and gives them back when it is over.
    Over,
    /// Added to whatever else moves its joints: its poses are degrees on top, within limits.
    Added,
}

impl Layer {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 3] = [Self::Beside, Self::Over, Self::Added];

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Beside => "beside",
            Self::Over => "over",
            Self::Added => "added",
        }
    }
}

/// A pose with its time, a call of another sequence, or a wait.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::step)]
#[schemars(transform = number::ranged::<Step>)]
pub struct Step {
    /// Its label, for loops and jumps.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = bounds::optional_name)]
    pub label: Option<String>,
    /// The pose to reach.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pose: Option<String>,
    /// The time of the move.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub move_s: Option<Seconds>,
    /// Instead of a time, the mean speed of the joint with the longest way; the others arrive with it. Without either, as
    /// fast as the slowest joint can.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_deg_s: Option<DegreesPerSecond>,
    /// The acceleration of a trapezoid. By default the joint's, or else a quarter of the time speeding up and a quarter
    /// slowing down.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accel_deg_s2: Option<DegreesPerSecondSquared>,
    /// The easing of the move. Cubic by default.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub easing: Easing,
    /// The time to stay there.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub dwell_s: Seconds,
    /// Settings of single joints within this step.
    #[serde(default, rename = "joint", skip_serializing_if = "BTreeMap::is_empty")]
    pub joints: BTreeMap<String, StepJoint>,
    /// Another sequence to play here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub play: Option<String>,
    /// The parameters of that sequence.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub with: BTreeMap<String, u32>,
    /// What to wait for here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait_for: Option<Wait>,
}

numbers! {
    Step { move_s: TIME, speed_deg_s: SPEED, accel_deg_s2: ACCELERATION, dwell_s: TIME = [0.0], with: PARAMETER }
}

/// Settings of one joint within a step.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<StepJoint>)]
pub struct StepJoint {
    /// How much later it starts.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub lag_s: Seconds,
    /// The share of the move time that it uses.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// Its own easing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub easing: Option<Easing>,
}

numbers! { StepJoint { lag_s: TIME = [0.0], share: MOVE_SHARE = [1.0] } }

/// A condition, and how long to wait for it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::wait)]
#[schemars(transform = number::ranged::<Wait>)]
pub struct Wait {
    /// The input to wait for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input: Option<String>,
    /// The switch is pressed, or is not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pressed: Option<bool>,
    /// The input is above this shaped value, -1 to 1, or above these degrees if it is in degrees.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub above: Option<f64>,
    /// The input is below this shaped value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub below: Option<f64>,
    /// How long it must be true without a break.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub held_s: Seconds,
    /// All joints of the sequence are this close to their targets, in degrees: measured for a smart servo, modelled from its
    /// rated speed for others. It needs `at_most_s`, in case a servo is stuck.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arrived_deg: Option<f64>,
    /// A key of the keyboard to wait for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = Worded)]
    pub key: Option<String>,
    /// The longest wait; 0 makes it a test. No limit by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most_s: Option<Seconds>,
    /// What happens when `at_most_s` has passed in vain.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub then: Then,
    /// The label to jump to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
}

numbers! { Wait { above: THRESHOLD, below: THRESHOLD, arrived_deg: ARRIVAL, held_s: TIME = [0.0], at_most_s: TIME } }

/// What is done when a wait has been in vain.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    /// It goes on.
    #[default]
    GoOn,
    /// The sequence is over.
    End,
    /// It goes on at a label.
    Jump,
}

impl Then {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 3] = [Self::GoOn, Self::End, Self::Jump];

    /// The words for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::GoOn => "go on",
            Self::End => "end",
            Self::Jump => "jump",
        }
    }
}

/// Steps that are repeated.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::repeated)]
pub struct Loop {
    /// The label of its first step.
    pub from: String,
    /// The label of its last step, which may be the same.
    pub to: String,
    /// How often in all, or the name of a parameter. For ever by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub times: Option<Times>,
    /// Ends the loop after a round in which this is true.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Wait>,
}

/// How often a loop is played.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
#[schemars(transform = bounds::times)]
pub enum Times {
    /// So many times, from 1.
    Count(u32),
    /// As often as a parameter of the sequence says.
    Parameter(String),
}

/// What a step does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum What<'a> {
    /// It goes to a pose.
    Pose(&'a str),
    /// It plays another sequence.
    Play(&'a str),
    /// It waits until something holds.
    Wait(&'a Wait),
}

/// What is waited for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Awaited<'a> {
    /// An input, by its name, passes the test.
    Input(&'a str, Test),
    /// All joints that the sequence moves are so near to where they are told to be, in degrees.
    Arrived(f64),
    /// The key is pressed, a letter or a sign.
    Key(char),
}

/// What an input is to be.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Test {
    /// Pressed, or not.
    Pressed(bool),
    /// More than a value.
    Above(f64),
    /// Less than a value.
    Below(f64),
}

impl Sequence {
    /// The most that is added to an angle where nothing else is said.
    pub const USUAL_ADDED: Degrees = Degrees::new(10.0);

    /// How fast it goes beside what is written: 1 is as written.
    pub fn tempo(&self) -> f64 {
        self.tempo_percent.map_or(1.0, |percent| percent.get() / 100.0)
    }

    /// The place of the step with a label.
    pub fn labelled(&self, label: &str) -> Option<usize> {
        self.steps.iter().position(|step| step.label.as_deref() == Some(label))
    }

    /// The first and the last step of a loop, where its labels are there and in order.
    pub fn span(&self, of: &Loop) -> Option<(usize, usize)> {
        let (from, to) = (self.labelled(&of.from)?, self.labelled(&of.to)?);
        (from <= to).then_some((from, to))
    }

    /// All conditions that it waits for: those of steps, then those that end loops.
    pub fn waits(&self) -> impl Iterator<Item = &Wait> {
        let steps = self.steps.iter().filter_map(|step| step.wait_for.as_ref());
        steps.chain(self.loops.iter().filter_map(|of| of.until.as_ref()))
    }

    /// The names of the sequences that it plays itself.
    pub fn calls(&self) -> impl Iterator<Item = &str> {
        self.steps.iter().filter_map(|step| step.play.as_deref())
    }
}

impl Step {
    /// A move to a pose in a time.
    pub fn to_pose(pose: &str, move_s: Seconds) -> Self {
        Self { pose: Some(pose.to_owned()), move_s: Some(move_s), ..Self::default() }
    }

    /// What it does; none where it says nothing, or more than one thing.
    pub fn what(&self) -> Option<What<'_>> {
        match (&self.pose, &self.play, &self.wait_for) {
            (Some(pose), None, None) => Some(What::Pose(pose)),
            (None, Some(play), None) => Some(What::Play(play)),
            (None, None, Some(wait)) => Some(What::Wait(wait)),
            _ => None,
        }
    }
}

impl Wait {
    /// What is waited for; none where nothing is said, or more than one thing.
    pub fn what(&self) -> Option<Awaited<'_>> {
        let tests =
            [self.pressed.map(Test::Pressed), self.above.map(Test::Above), self.below.map(Test::Below)];
        let mut tests = tests.into_iter().flatten();
        let test = tests.next();
        if tests.next().is_some() {
            return None;
        }
        match (self.input.as_deref(), test, self.key.as_deref(), self.arrived_deg) {
            (Some(input), Some(test), None, None) => Some(Awaited::Input(input, test)),
            (None, None, None, Some(within)) => Some(Awaited::Arrived(within)),
            (None, None, Some(key), None) => {
                let mut letters = key.chars();
                let key = letters.next().filter(|_| letters.next().is_none())?;
                (!key.is_whitespace() && !key.is_control()).then_some(Awaited::Key(key))
            }
            _ => None,
        }
    }

    /// What is waited for, as a person says it: *visitor is pressed for 0.5 s*.
    pub fn words(&self) -> String {
        let held = if self.held_s == Seconds::ZERO {
            String::new()
        } else {
            format!(" for {} s", self.held_s.get())
        };
        match self.what() {
            Some(Awaited::Input(input, Test::Pressed(true))) => format!("{input} is pressed{held}"),
            Some(Awaited::Input(input, Test::Pressed(false))) => format!("{input} is not pressed{held}"),
            Some(Awaited::Input(input, Test::Above(value))) => format!("{input} is above {value}{held}"),
            Some(Awaited::Input(input, Test::Below(value))) => format!("{input} is below {value}{held}"),
            Some(Awaited::Arrived(within)) => format!("all have arrived within {within}°{held}"),
            Some(Awaited::Key(key)) => format!("the key {key} is pressed"),
            None => "nothing".to_owned(),
        }
    }
}
