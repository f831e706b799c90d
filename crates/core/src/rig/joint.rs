//! What servos turn, and what holds it.

use super::bounds::{self, Named, Noted};
use super::number::{self, numbers};
use super::{JointId, is_false, is_usual, strict};
use crate::linkage::Steering;
use crate::unit::{Degrees, DegreesPerSecond, DegreesPerSecondSquared};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A joint, turned by one servo, or by several that move only together.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::joint)]
#[schemars(transform = number::ranged::<Joint>)]
pub struct Joint {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: JointId,
    /// Its name, which poses and mappings refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The servo that turns it; in a steered pair, the left one.
    pub servo: String,
    /// More servos that turn it together with that one, each with its own marks; in a steered pair, the right one.
    #[serde(default, rename = "with", skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// Makes it a pair of steered wheels. The joint's angle is that of an imagined wheel in the middle; left is positive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steering: Option<Steering>,
    /// Its lower limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<Limit>,
    /// Its upper limit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<Limit>,
    /// Its angle when nothing drives it, and at the start of a dry run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home_deg: Option<Degrees>,
    /// Its speed limit. The servo's rated speed by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speed_deg_s: Option<DegreesPerSecond>,
    /// Its acceleration in trapezoid moves.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accel_deg_s2: Option<DegreesPerSecondSquared>,
    /// The joint that it mirrors.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mirror_of: Option<Mirror>,
    /// What a cut does to it. Its pulses stop by default.
    #[serde(default, skip_serializing_if = "is_release")]
    pub cut: CutTo,
    /// What happens to it when the program quits. The same as at a cut by default.
    #[serde(default, skip_serializing_if = "is_as_cut")]
    pub quit: QuitTo,
    /// A weight pulls on it, so it falls when released.
    #[serde(default, skip_serializing_if = "is_false")]
    pub loaded: bool,
    /// What happens when its board comes back and its pulses had stopped meanwhile. By default it continues from its last
    /// pulse; if it is loaded, or its supply may have failed, you are asked first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub back: Option<Back>,
    /// What happens while its smart servo reports that it is too hot, overloaded, or draws too much current. It runs at half
    /// speed by default.
    #[serde(default, skip_serializing_if = "is_slower")]
    pub ailing: Ailing,
    /// The direction of its 0°, as you look at it, clockwise from straight up.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub mounted_deg: Degrees,
    /// Its angles increase anticlockwise, as you look at it.
    #[serde(default, skip_serializing_if = "is_false")]
    pub anticlockwise: bool,
}

numbers! { Joint { home_deg: ANGLE, speed_deg_s: SPEED, accel_deg_s2: ACCELERATION, mounted_deg: ANGLE = [0.0] } }

/// How a joint mirrors another one.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Mirror>)]
pub struct Mirror {
    /// The other joint.
    pub joint: String,
    /// It keeps the sign of the other joint's angles. By default the sign is reversed.
    #[serde(default, skip_serializing_if = "is_false")]
    pub same_sign: bool,
    /// The angle that is added after mirroring.
    #[serde(default, skip_serializing_if = "is_usual")]
    pub offset_deg: Degrees,
}

numbers! { Mirror { offset_deg: ANGLE = [0.0] } }

impl Mirror {
    /// The angle that mirrors one of the other joint.
    pub fn of(&self, other: Degrees) -> Degrees {
        (if self.same_sign { other } else { -other }) + self.offset_deg
    }

    /// The angle of the other joint that one is the mirror image of.
    pub fn back(&self, own: Degrees) -> Degrees {
        let turned = own - self.offset_deg;
        if self.same_sign { turned } else { -turned }
    }
}

/// A limit with its reason.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Limit>)]
pub struct Limit {
    /// The angle of the joint.
    pub angle_deg: Degrees,
    /// The reason, in words.
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

/// What happens to a joint while its servo says that it ails.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Ailing {
    /// It goes at half its speed until it is well again.
    #[default]
    Slower,
    /// It stops where it is; the hand has it then.
    Hold,
    /// It goes limp: what it carries may sag.
    Limp,
    /// It goes on; that it ails is said.
    GoOn,
}

impl Ailing {
    /// All of them, with their words.
    pub const ALL: [(Self, &'static str); 4] =
        [(Self::Slower, "slower"), (Self::Hold, "hold"), (Self::Limp, "limp"), (Self::GoOn, "go-on")];
}

fn is_slower(ailing: &Ailing) -> bool {
    *ailing == Ailing::Slower
}

impl Joint {
    /// All servos that turn it, the first one first.
    pub fn servos(&self) -> impl Iterator<Item = &str> {
        std::iter::once(&self.servo).chain(&self.others).map(String::as_str)
    }
}

fn is_as_cut(quit: &QuitTo) -> bool {
    *quit == QuitTo::AsCut
}

fn is_release(cut: &CutTo) -> bool {
    *cut == CutTo::Release
}
