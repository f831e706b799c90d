//! Poses: where several joints are to be at once.

use super::bounds::Named;
use super::number::{self, numbers};
use super::{Kind, PoseId};
use crate::unit::{Degrees, Percent};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A named set of joint angles and levels.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Pose>)]
pub struct Pose {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: PoseId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The angle of each joint. A joint that is not named keeps its angle.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub angles_deg: BTreeMap<String, Degrees>,
    /// The other of two states, as open and shut. That pose must name this one too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opposite: Option<String>,
    /// The level of each lamp, relay or continuous servo.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub levels_percent: BTreeMap<String, Percent>,
}

numbers! { Pose { angles_deg: ANGLE, levels_percent: RATE_LEVEL } }

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
