//! Poses, and sequences of them in time.

use super::bounds::Named;
use super::number::{self, numbers};
use super::{Kind, PoseId, SequenceId};
use crate::easing::Easing;
use crate::unit::{Degrees, Percent, Seconds};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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

fn is_cubic(easing: &Easing) -> bool {
    *easing == Easing::Cubic
}

fn is_no_time(time: &Seconds) -> bool {
    *time == Seconds::ZERO
}
