//! What stands between a servo's shaft and the joint: nothing, a gear or belt, a four-bar linkage, and for one wheel
//! of a steered pair the geometry of both.
//!
//! Angles of a linkage are drawn like this: the horn turns about (0, 0), the arm about (`pivots`, 0), both counted from
//! the line between the two, anticlockwise. The servo's 0° is the horn at `horn_at_deg`, and there the joint stands at
//! `offset_deg`; a servo that turns clockwise is drawn mirrored.
//!
//! ```text
//!      tip ──── rod ──── arm's tip
//!     horn                 arm
//!    (0,0) ··· pivots ··· (d,0)
//! ```

use crate::curve::root;
use crate::rig::bounds;
use crate::rig::number::{self, numbers};
use crate::unit::{Degrees, Millimetres};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A gear or a belt: joint = ratio · servo + offset.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Gear>)]
pub struct Gear {
    /// Degrees of the joint for each degree of the servo; negative if it turns the other way.
    #[schemars(transform = bounds::ratio)]
    pub ratio: f64,
    /// The joint's angle with the servo at 0°.
    #[serde(default, skip_serializing_if = "is_no_angle")]
    pub offset_deg: Degrees,
}

numbers! { Gear { ratio: RATIO, offset_deg: ANGLE = [0.0] } }

/// A four-bar linkage: a horn moves an arm through a rod.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<FourBar>)]
pub struct FourBar {
    /// The distance from the servo's shaft to the rod's pin.
    pub horn_mm: Millimetres,
    /// The length of the rod, between its two pins.
    pub rod_mm: Millimetres,
    /// The distance from the joint's axis to the rod's pin.
    pub arm_mm: Millimetres,
    /// The distance from the servo's shaft to the joint's axis.
    pub pivots_mm: Millimetres,
    /// The horn's angle with the servo at 0°, from the line between the two axes: 90° is square to it.
    pub horn_at_deg: Degrees,
    /// Which of its two solutions is meant: the side of the line from the arm's axis to the horn's tip on which the arm lies.
    /// By default horn and arm lie on the same side.
    #[serde(default, skip_serializing_if = "is_right")]
    pub branch: Branch,
    /// The joint's angle with the servo at 0°.
    #[serde(default, skip_serializing_if = "is_no_angle")]
    pub offset_deg: Degrees,
    /// The joint's angle increases against the arm's direction in the drawing.
    #[serde(default, skip_serializing_if = "is_false")]
    pub reversed: bool,
}

numbers! {
    FourBar {
        horn_mm: LENGTH, rod_mm: LENGTH, arm_mm: LENGTH, pivots_mm: LENGTH, horn_at_deg: ANGLE,
        offset_deg: ANGLE = [0.0],
    }
}

/// Which of the two ways a linkage can be put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Branch {
    /// The arm lies clockwise of the line to the horn's tip: horn and arm on the same side (σ = −1).
    #[default]
    SameSide,
    /// The arm lies anticlockwise of it: the rod crosses over (σ = 1).
    Crossed,
}

impl Branch {
    const fn sign(self) -> f64 {
        match self {
            Self::SameSide => -1.0,
            Self::Crossed => 1.0,
        }
    }

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::SameSide => "same side",
            Self::Crossed => "crossed",
        }
    }
}

/// The geometry of two steered wheels on one axle.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Steering>)]
pub struct Steering {
    /// The distance between the two kingpins.
    pub track_mm: Millimetres,
    /// The distance from the steered axle to the other axle.
    pub wheelbase_mm: Millimetres,
}

numbers! { Steering { track_mm: LENGTH, wheelbase_mm: LENGTH } }

/// Which wheel of a steered pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Hand {
    /// The left one.
    Left,
    /// The right one.
    Right,
}

fn is_no_angle(angle: &Degrees) -> bool {
    *angle == Degrees::ZERO
}
const fn is_false(value: &bool) -> bool {
    !*value
}
fn is_right(branch: &Branch) -> bool {
    *branch == Branch::default()
}

/// Why a linkage cannot be.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum Unclosed {
    /// The rod is too short or too long to join horn and arm.
    #[error(
        "the linkage cannot close with the horn at {horn_at_deg:.0}°: a rod of {rod_mm} mm would have to be {least:.1} to {most:.1} mm"
    )]
    OutOfReach {
        /// The rod as it is.
        rod_mm: f64,
        /// The horn's angle.
        horn_at_deg: f64,
        /// The shortest rod that would reach.
        least: f64,
        /// The longest rod that would reach, in millimetres.
        most: f64,
    },
    /// Where it is put together nothing can turn.
    #[error("horn and rod line up with the horn at {horn_at_deg:.0}°: put the horn on at another tooth")]
    LinedUp {
        /// The horn's angle.
        horn_at_deg: f64,
    },
}

/// Everything between a servo's shaft and its joint.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Transmission {
    bar: Bar,
    wheel: Option<(Hand, Steering)>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Bar {
    Gear(Gear),
    Four(Linked),
}

/// A four-bar linkage with the stretch on which it can be used.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Linked {
    bars: FourBar,
    /// The horn's angles between which the joint only turns one way.
    closes: (f64, f64),
    /// What is there at either end.
    bounds: (Bound, Bound),
    /// The part of it on which the joint can be driven.
    stretch: (f64, f64),
    /// The arm's angle when the servo stands at 0°.
    arm_at: f64,
    /// The arm turns with the horn (1) or against it (−1) on that stretch.
    sense: f64,
}

/// What ends the stretch on which a linkage can be used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Bound {
    /// Horn and rod line up: the joint turns back.
    TurningPoint,
    /// Rod and arm line up: beyond, the rod does not reach.
    Reach,
    /// Half a turn, more than a servo makes.
    HalfTurn,
}

/// What is awkward about a linkage at some angle.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Caution {
    /// The horn is within 15° of where the joint turns back.
    NearTurningPoint {
        /// The servo's angle at which it turns back.
        at: Degrees,
    },
    /// Rod and arm stand at less than 30° to each other: much force for little.
    FlatRod {
        /// The angle between them.
        angle: Degrees,
    },
    /// The rod does not reach that far.
    OutOfReach {
        /// The last servo angle that it reaches.
        last: Degrees,
    },
}

impl std::fmt::Display for Caution {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NearTurningPoint { at } => {
                write!(f, "near the turning point: the joint turns back with the servo at {:+.0}°", at.get())
            }
            Self::FlatRod { angle } => {
                write!(
                    f,
                    "near dead centre: rod and arm at {:.0}° to each other push more than they turn",
                    angle.get()
                )
            }
            Self::OutOfReach { last } => {
                write!(f, "out of reach: the linkage ends with the servo at {:+.0}°", last.get())
            }
        }
    }
}

/// Where the joint turns more than this, or less than its inverse, for a degree of the servo, nothing is driven.
const MOST_RATIO: f64 = 20.0;
/// The joint is not driven nearer than this to where it turns back, in degrees of horn or of a wheel.
const AWAY_DEG: f64 = 1.0;
/// Nearer than this to a turning point is worth a word.
const NEAR_TURNING_DEG: f64 = 15.0;
/// A rod that stands flatter than this on the arm is worth a word.
const FLAT_DEG: f64 = 30.0;

impl Transmission {
    /// The servo's shaft is the joint.
    pub const DIRECT: Self =
        Self { bar: Bar::Gear(Gear { ratio: 1.0, offset_deg: Degrees::ZERO }), wheel: None };

    /// Through a gear or a belt.
    pub const fn geared(gear: Gear) -> Self {
        Self { bar: Bar::Gear(gear), wheel: None }
    }

    /// Through a four-bar linkage.
    ///
    /// # Errors
    /// When it cannot be put together with the servo at 0°, or could not be turned there.
    pub fn linked(bars: FourBar) -> Result<Self, Unclosed> {
        Ok(Self { bar: Bar::Four(Linked::of(bars)?), wheel: None })
    }

    /// The same, turning one wheel of a steered pair: the joint is then the angle of a wheel in the middle.
    #[must_use]
    pub const fn steering(self, hand: Hand, pair: Steering) -> Self {
        Self { wheel: Some((hand, pair)), ..self }
    }

    /// Ratio and offset, where it is no more than that.
    pub const fn gear(&self) -> Option<Gear> {
        match (self.bar, self.wheel) {
            (Bar::Gear(gear), None) => Some(gear),
            _ => None,
        }
    }

    /// The linkage, where there is one.
    pub const fn linkage(&self) -> Option<&Linked> {
        match &self.bar {
            Bar::Four(linked) => Some(linked),
            Bar::Gear(_) => None,
        }
    }

    /// Whether the shaft is the joint.
    pub fn is_direct(&self) -> bool {
        *self == Self::DIRECT
    }

    /// The joint's angle when the servo stands at an angle; beyond what a linkage can do, that of its end.
    pub fn joint_at(&self, servo: Degrees) -> Degrees {
        let turned = match &self.bar {
            Bar::Gear(gear) => servo * gear.ratio + gear.offset_deg,
            Bar::Four(linked) => linked.joint_at(servo),
        };
        self.wheel.map_or(turned, |(hand, pair)| pair.middle_of(hand, turned))
    }

    /// The servo's angle for an angle of the joint; beyond what a linkage can do, that of its end.
    pub fn servo_at(&self, joint: Degrees) -> Degrees {
        let turned = self.wheel.map_or(joint, |(hand, pair)| pair.wheel(hand, joint));
        match &self.bar {
            Bar::Gear(gear) => (turned - gear.offset_deg) * (1.0 / gear.ratio),
            Bar::Four(linked) => linked.servo_at(turned),
        }
    }

    /// Degrees of the joint for a degree of the servo, where the servo stands at an angle.
    pub fn ratio_at(&self, servo: Degrees) -> f64 {
        let (turned, ratio) = match &self.bar {
            Bar::Gear(gear) => (servo * gear.ratio + gear.offset_deg, gear.ratio),
            Bar::Four(linked) => (linked.joint_at(servo), linked.ratio_at(servo)),
        };
        let wheel = self.wheel.map_or(1.0, |(hand, pair)| {
            const STEP: Degrees = Degrees::new(1e-4);
            let rise = pair.middle_of(hand, turned + STEP) - pair.middle_of(hand, turned - STEP);
            rise / (STEP * 2.0)
        });
        ratio * wheel
    }

    /// The most degrees of the joint that a degree of the servo turns anywhere, without its sign.
    pub fn most_ratio(&self) -> f64 {
        /// How far a servo is taken to turn where nothing bounds it.
        const USUAL: (Degrees, Degrees) = (Degrees::new(-60.0), Degrees::new(60.0));
        const LOOKS: u32 = 48;
        if let Some(gear) = self.gear() {
            return libm::fabs(gear.ratio);
        }
        let (low, high) = self.usable().unwrap_or(USUAL);
        // The very ends are left out: there the rod may need no force and all speed.
        let look = |n: u32| low + (high - low) * (f64::from(n) / f64::from(LOOKS));
        (1..LOOKS).map(|n| libm::fabs(self.ratio_at(look(n)))).fold(0.0, libm::fmax)
    }

    /// The servo's angles between which the joint can be driven, where a linkage or the geometry of a steered pair
    /// bounds them: from |dθ/dψ| = 1/20 to 20, and at least 1° of horn before a turning point.
    pub fn usable(&self) -> Option<(Degrees, Degrees)> {
        let linked = self.linkage().map(Linked::usable);
        let Some((hand, pair)) = self.wheel else { return linked };
        let most = pair.most();
        let (a, b) = (pair.wheel(hand, -most), pair.wheel(hand, most));
        let shaft = |wheel: Degrees| match &self.bar {
            Bar::Gear(gear) => (wheel - gear.offset_deg) * (1.0 / gear.ratio),
            Bar::Four(linked) => linked.servo_at(wheel),
        };
        let (a, b) = (shaft(a), shaft(b));
        let (a, b) = if a < b { (a, b) } else { (b, a) };
        Some(linked.map_or((a, b), |(low, high)| {
            let low = if a > low { a } else { low };
            (low, if b < high { b } else { high })
        }))
    }

    /// What is awkward about the linkage with the servo at an angle.
    pub fn caution(&self, servo: Degrees) -> Option<Caution> {
        self.linkage()?.caution(servo)
    }
}

/// A linkage as it stands, in mm: the two axes and the two pins of the rod.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Standing {
    /// The horn's pin.
    pub tip: (f64, f64),
    /// The arm's pin.
    pub arm: (f64, f64),
    /// The arm's axis; the servo's shaft is at (0, 0).
    pub axis: (f64, f64),
}

impl FourBar {
    fn lengths(&self) -> [f64; 4] {
        [self.horn_mm, self.rod_mm, self.arm_mm, self.pivots_mm].map(Millimetres::get)
    }

    /// From the arm's axis to the horn's tip: how far, and in which direction.
    fn tip_from_axis(&self, horn: f64) -> (f64, f64) {
        let [r, _, _, d] = self.lengths();
        let (x, y) = (r * libm::cos(horn.to_radians()) - d, r * libm::sin(horn.to_radians()));
        (libm::hypot(x, y), libm::atan2(y, x).to_degrees())
    }

    /// The arm's angle for one of the horn: output = φ + σ·acos(c), c = (D² + k² − L²)/(2Dk).
    ///
    /// # Errors
    /// When the rod does not reach.
    pub fn arm_at(&self, horn: Degrees) -> Result<Degrees, Unclosed> {
        let [_, rod, arm, _] = self.lengths();
        let (far, direction) = self.tip_from_axis(horn.get());
        let c = (far * far + arm * arm - rod * rod) / (2.0 * far * arm);
        if libm::fabs(c) > 1.0 {
            let (least, most) = (libm::fabs(far - arm), far + arm);
            return Err(Unclosed::OutOfReach { rod_mm: rod, horn_at_deg: horn.get(), least, most });
        }
        Ok(Degrees::new(direction + self.branch.sign() * libm::acos(c).to_degrees()))
    }

    /// The arm's angle where the rod is known to reach, to the last bit of its end.
    fn arm_within(&self, horn: f64) -> f64 {
        let [_, rod, arm, _] = self.lengths();
        let (far, direction) = self.tip_from_axis(horn);
        let c = (far * far + arm * arm - rod * rod) / (2.0 * far * arm);
        direction + self.branch.sign() * libm::acos(c.clamp(-1.0, 1.0)).to_degrees()
    }

    fn standing(&self, horn: f64) -> Standing {
        let [r, _, k, d] = self.lengths();
        let at = |length: f64, degrees: f64| {
            (length * libm::cos(degrees.to_radians()), length * libm::sin(degrees.to_radians()))
        };
        let (x, y) = at(k, self.arm_within(horn));
        Standing { tip: at(r, horn), arm: (x + d, y), axis: (d, 0.0) }
    }

    /// Where this branch turns back: the horn's angles at which horn and rod line up.
    fn turning_points(&self) -> Vec<f64> {
        let [r, rod, k, d] = self.lengths();
        let mut found = Vec::new();
        for along in [r + rod, r - rod] {
            let c = (along * along + d * d - k * k) / (2.0 * along * d);
            if c.is_nan() || libm::fabs(c) > 1.0 {
                continue;
            }
            let size = libm::acos(c).to_degrees();
            for horn in [size, -size] {
                // The arm's pin is then on the horn's own line: of this branch, or of the other.
                let arm = self.standing(horn).arm;
                let there = (along * libm::cos(horn.to_radians()), along * libm::sin(horn.to_radians()));
                if libm::hypot(arm.0 - there.0, arm.1 - there.1) < 1e-6 * (rod + r) {
                    found.push(horn);
                }
            }
        }
        found
    }

    /// The horn's angles at which arm and rod line up: beyond one of them the rod does not reach.
    fn reach_ends(&self) -> Vec<f64> {
        let [r, rod, k, d] = self.lengths();
        let mut found = Vec::new();
        for far in [rod + k, libm::fabs(rod - k)] {
            let c = (r * r + d * d - far * far) / (2.0 * r * d);
            if libm::fabs(c) <= 1.0 {
                let size = libm::acos(c).to_degrees();
                found.extend([size, -size]);
            }
        }
        found
    }
}

impl Linked {
    fn of(bars: FourBar) -> Result<Self, Unclosed> {
        let horn = bars.horn_at_deg.get();
        let arm_at = bars.arm_at(bars.horn_at_deg)?.get();
        let bounds = bars
            .turning_points()
            .into_iter()
            .map(|at| (at, Bound::TurningPoint))
            .chain(bars.reach_ends().into_iter().map(|at| (at, Bound::Reach)));
        let (mut low, mut high) = ((horn - 180.0, Bound::HalfTurn), (horn + 180.0, Bound::HalfTurn));
        for (at, bound) in bounds {
            let above = round(at - horn);
            if horn + above < high.0 {
                high = (horn + above, bound);
            }
            if horn + above - 360.0 > low.0 {
                low = (horn + above - 360.0, bound);
            }
        }
        let closes = (low.0, high.0);
        let mut linked = Self { bars, closes, bounds: (low.1, high.1), stretch: closes, arm_at, sense: 1.0 };
        linked.stretch = (linked.driven_until(horn, low), linked.driven_until(horn, high));
        if linked.stretch.1 - horn < 0.5 || horn - linked.stretch.0 < 0.5 {
            return Err(Unclosed::LinedUp { horn_at_deg: horn });
        }
        linked.sense = linked.arm_ratio(horn).signum();
        Ok(linked)
    }

    /// How far the horn can be turned from an angle towards an end so that the joint is driven all the way.
    fn driven_until(&self, horn: f64, (end, bound): (f64, Bound)) -> f64 {
        /// Between two looks the ratio of no linkage passes both bounds and comes back.
        const STEP: f64 = 0.25;
        let away = if bound == Bound::TurningPoint { AWAY_DEG } else { 0.0 };
        let (sense, room) = ((end - horn).signum(), libm::fabs(end - horn) - away);
        let drives = |turned: f64| {
            let ratio = libm::fabs(self.arm_ratio(horn + sense * turned));
            (1.0 / MOST_RATIO..=MOST_RATIO).contains(&ratio)
        };
        if room <= 0.0 || !drives(0.0) {
            return horn;
        }
        let mut good = 0.0;
        while good < room {
            let next = libm::fmin(good + STEP, room);
            if !drives(next) {
                let (mut inside, mut outside) = (good, next);
                for _ in 0..40 {
                    let middle = f64::midpoint(inside, outside);
                    if drives(middle) { inside = middle } else { outside = middle }
                }
                return horn + sense * inside;
            }
            good = next;
        }
        horn + sense * room
    }

    /// The lengths it was made from.
    pub const fn bars(&self) -> &FourBar {
        &self.bars
    }

    /// The servo's angles between which the joint can be driven.
    pub fn usable(&self) -> (Degrees, Degrees) {
        self.of_servo(self.stretch)
    }

    /// The servo's angles at which the joint turns back, or the rod reaches no further.
    pub fn closes(&self) -> (Degrees, Degrees) {
        self.of_servo(self.closes)
    }

    fn of_servo(&self, (low, high): (f64, f64)) -> (Degrees, Degrees) {
        let zero = self.bars.horn_at_deg.get();
        (Degrees::new(low - zero), Degrees::new(high - zero))
    }

    /// What is where it closes no further, below and above.
    pub const fn bounds(&self) -> (Bound, Bound) {
        self.bounds
    }

    fn horn(&self, servo: Degrees) -> f64 {
        (servo + self.bars.horn_at_deg).get().clamp(self.stretch.0, self.stretch.1)
    }

    /// How far the arm has turned from where it stands at the servo's 0°, with the horn at an angle of the stretch.
    fn turned(&self, horn: f64) -> f64 {
        let forwards = self.sense * (horn - self.bars.horn_at_deg.get()).signum();
        let way = round(forwards * (self.bars.arm_within(horn) - self.arm_at));
        // Next to where it begins the last bit may fall on the other side of a whole turn.
        forwards * if way > 359.0 { way - 360.0 } else { way }
    }

    fn counted(&self, turned: f64) -> f64 {
        if self.bars.reversed { -turned } else { turned }
    }

    fn joint_at(&self, servo: Degrees) -> Degrees {
        Degrees::new(self.counted(self.turned(self.horn(servo)))) + self.bars.offset_deg
    }

    fn servo_at(&self, joint: Degrees) -> Degrees {
        let wanted = self.counted((joint - self.bars.offset_deg).get());
        let rest = |horn: f64| self.sense * (self.turned(horn) - wanted);
        let (low, high) = self.stretch;
        let horn = if rest(low) >= 0.0 {
            low
        } else if rest(high) <= 0.0 {
            high
        } else {
            root((low, high), rest, |horn| libm::fabs(self.arm_ratio(horn)))
        };
        Degrees::new(horn) - self.bars.horn_at_deg
    }

    /// Degrees of the arm for one of the horn: r·sin(θ₂ − θ₃) / (k·sin(θ₄ − θ₃)), θ₃ being the rod's angle.
    fn arm_ratio(&self, horn: f64) -> f64 {
        let [r, _, k, _] = self.bars.lengths();
        let Standing { tip, arm, .. } = self.bars.standing(horn);
        let rod = libm::atan2(arm.1 - tip.1, arm.0 - tip.0);
        let out = self.bars.arm_within(horn).to_radians();
        r * libm::sin(horn.to_radians() - rod) / (k * libm::sin(out - rod))
    }

    fn ratio_at(&self, servo: Degrees) -> f64 {
        self.counted(self.arm_ratio(self.horn(servo)))
    }

    /// The angle between rod and arm, 0–90°: cos μ = (k² + L² − D²)/(2kL).
    pub fn transmission_angle(&self, servo: Degrees) -> Degrees {
        let [_, rod, k, _] = self.bars.lengths();
        let (far, _) = self.bars.tip_from_axis(self.horn(servo));
        let c = (k * k + rod * rod - far * far) / (2.0 * k * rod);
        Degrees::new(libm::acos(libm::fabs(c).min(1.0)).to_degrees())
    }

    /// Where pins and axes are with the servo at an angle.
    pub fn standing(&self, servo: Degrees) -> Standing {
        self.bars.standing(self.horn(servo))
    }

    fn caution(&self, servo: Degrees) -> Option<Caution> {
        let (low, high) = self.usable();
        if servo < low || servo > high {
            return Some(Caution::OutOfReach { last: servo.within(low, high) });
        }
        let (low, high) = self.closes();
        for (end, bound) in [(low, self.bounds.0), (high, self.bounds.1)] {
            if bound == Bound::TurningPoint && (servo - end).abs().get() < NEAR_TURNING_DEG {
                return Some(Caution::NearTurningPoint { at: end });
            }
        }
        let angle = self.transmission_angle(servo);
        (angle.get() < FLAT_DEG).then_some(Caution::FlatRod { angle })
    }
}

/// An angle as one within a turn, from 0 up to 360°.
fn round(degrees: f64) -> f64 {
    let rest = libm::fmod(degrees, 360.0);
    if rest < 0.0 { rest + 360.0 } else { rest }
}

impl Steering {
    /// The greatest angle of the wheel in the middle, to either side: a degree before the inner wheel would have to
    /// stand square to the axle, where the pair turns about that wheel itself: tan = 2w/t.
    pub fn most(&self) -> Degrees {
        let square = libm::atan2(2.0 * self.wheelbase_mm.get(), self.track_mm.get()).to_degrees();
        Degrees::new(square - AWAY_DEG)
    }

    /// The angle of one wheel when a wheel in the middle would stand at `middle`, left positive:
    /// tan δ = wκ / (1 ∓ κt/2) with κ = tan(middle)/w.
    pub fn wheel(&self, hand: Hand, middle: Degrees) -> Degrees {
        let (track, base) = (self.track_mm.get(), self.wheelbase_mm.get());
        let bend = libm::tan(middle.get().clamp(-89.0, 89.0).to_radians());
        let inner = base - hand.sign() * bend * track / 2.0;
        Degrees::new(libm::atan2(base * bend * inner.signum(), libm::fabs(inner)).to_degrees())
    }

    /// The angle of a wheel in the middle when one of the two stands at an angle.
    pub fn middle_of(&self, hand: Hand, wheel: Degrees) -> Degrees {
        let (track, base) = (self.track_mm.get(), self.wheelbase_mm.get());
        let tan = libm::tan(wheel.get().clamp(-89.9, 89.9).to_radians());
        Degrees::new(libm::atan2(base * tan, base + hand.sign() * tan * track / 2.0).to_degrees())
    }
}

impl Hand {
    const fn sign(self) -> f64 {
        match self {
            Self::Left => 1.0,
            Self::Right => -1.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn bars(branch: Branch, horn_at: f64) -> FourBar {
        FourBar {
            horn_mm: Millimetres::new(16.0),
            rod_mm: Millimetres::new(50.0),
            arm_mm: Millimetres::new(22.0),
            pivots_mm: Millimetres::new(52.0),
            horn_at_deg: Degrees::new(horn_at),
            branch,
            offset_deg: Degrees::ZERO,
            reversed: false,
        }
    }

    #[test]
    fn the_worked_linkage_gives_the_worked_angles() {
        for (horn, same, crossed) in
            [(60.0, 75.683, 249.357), (90.0, 96.122, 229.672), (120.0, 117.952, 216.040)]
        {
            for (branch, wanted) in [(Branch::SameSide, same), (Branch::Crossed, crossed)] {
                let arm = bars(branch, 90.0).arm_at(Degrees::new(horn)).unwrap().get();
                assert!((round(arm) - wanted).abs() < 5e-4, "{horn} {branch:?} {arm}");
            }
        }
    }

    #[test]
    fn it_is_usable_between_the_points_at_which_horn_and_rod_line_up() {
        let linked = Linked::of(bars(Branch::SameSide, 90.0)).unwrap();
        assert!((linked.closes.0 - 16.66).abs() < 5e-3 && (linked.closes.1 - 197.30).abs() < 5e-3);
        assert_eq!(linked.bounds(), (Bound::TurningPoint, Bound::TurningPoint));
        for end in [linked.closes.0, linked.closes.1] {
            assert!(linked.arm_ratio(end).abs() < 1e-6);
        }
        // A twentieth of a degree for a degree, and a degree away: whichever comes first.
        for (end, inside) in [(linked.closes.0, linked.stretch.0), (linked.closes.1, linked.stretch.1)] {
            assert!((end - inside).abs() >= 1.0 - 1e-9, "{end} {inside}");
            let ratio = linked.arm_ratio(inside).abs();
            assert!((end - inside).abs() < 1.0 + 1e-9 || (ratio - 0.05).abs() < 1e-6, "{ratio}");
        }
    }

    #[test]
    fn near_dead_centre_it_ends_where_the_arm_turns_twenty_times_as_far() {
        let steep = FourBar {
            horn_mm: Millimetres::new(20.0),
            rod_mm: Millimetres::new(40.0),
            pivots_mm: Millimetres::new(50.0),
            ..bars(Branch::SameSide, 90.0)
        };
        let linked = Linked::of(steep).unwrap();
        let (low, high) =
            (linked.arm_ratio(linked.stretch.0).abs(), linked.arm_ratio(linked.stretch.1).abs());
        assert_eq!(linked.bounds().1, Bound::Reach);
        assert!((high - 20.0).abs() < 1e-6 && low >= 0.05 - 1e-9, "{low} {high}");
        assert!(linked.stretch.1 < linked.closes.1);
    }

    #[test]
    fn what_does_not_close_says_which_rod_would() {
        let long = FourBar { rod_mm: Millimetres::new(90.0), ..bars(Branch::SameSide, 90.0) };
        let error = Transmission::linked(long).unwrap_err().to_string();
        assert_eq!(
            error,
            "the linkage cannot close with the horn at 90°: a rod of 90 mm would have to be 32.4 to 76.4 mm"
        );
        let lined = Transmission::linked(bars(Branch::SameSide, 16.66));
        assert!(matches!(lined, Err(Unclosed::LinedUp { .. })), "{lined:?}");
    }

    #[test]
    fn dead_centres_and_turning_points_are_warned_of() {
        let through = Transmission::linked(bars(Branch::SameSide, 90.0)).unwrap();
        let caution = |servo: f64| through.caution(Degrees::new(servo));
        assert_eq!(caution(0.0), None);
        assert!(
            matches!(caution(-60.0), Some(Caution::NearTurningPoint { at }) if (at.get() + 73.34).abs() < 0.01)
        );
        assert!(matches!(caution(-80.0), Some(Caution::OutOfReach { .. })));
        let flat = FourBar {
            arm_mm: Millimetres::new(60.0),
            rod_mm: Millimetres::new(110.0),
            ..bars(Branch::SameSide, 170.0)
        };
        let flat = Transmission::linked(flat).unwrap();
        let found = (-200..200).filter_map(|n| flat.caution(Degrees::new(f64::from(n))));
        assert!(found.into_iter().any(|c| matches!(c, Caution::FlatRod { angle } if angle.get() < 30.0)));
    }

    #[test]
    fn the_worked_steering_pair_holds() {
        let pair = Steering { track_mm: Millimetres::new(190.0), wheelbase_mm: Millimetres::new(310.0) };
        let middle = pair.middle_of(Hand::Right, Degrees::new(20.0));
        assert!(
            (pair.wheel(Hand::Left, middle).get() - 25.102).abs() < 5e-4,
            "to the left the left one is inner"
        );
        let middle = pair.middle_of(Hand::Left, Degrees::new(-20.0));
        assert!((pair.wheel(Hand::Right, middle).get() + 25.102).abs() < 5e-4);
        // tan 72.96° = 2·310/190: there the inner wheel would stand square.
        assert!((pair.most().get() - 71.962).abs() < 5e-4, "{:?}", pair.most());
    }

    #[test]
    fn a_gear_multiplies_and_shifts() {
        let geared = Transmission::geared(Gear { ratio: -0.5, offset_deg: Degrees::new(10.0) });
        assert_eq!(geared.joint_at(Degrees::new(40.0)), Degrees::new(-10.0));
        assert_eq!(geared.servo_at(Degrees::new(-10.0)), Degrees::new(40.0));
        assert!(Transmission::DIRECT.is_direct() && !geared.is_direct());
    }

    proptest! {
        #[test]
        fn the_way_back_undoes_the_way_there(
            horn in 8.0..30.0f64, rod in 30.0..90.0f64, arm in 10.0..50.0f64, pivots in 30.0..80.0f64,
            horn_at in 30.0..150.0f64, crossed: bool, reversed: bool, share in 0.02..0.98f64,
        ) {
            let bars = FourBar {
                horn_mm: Millimetres::new(horn), rod_mm: Millimetres::new(rod), arm_mm: Millimetres::new(arm),
                pivots_mm: Millimetres::new(pivots), horn_at_deg: Degrees::new(horn_at),
                branch: if crossed { Branch::Crossed } else { Branch::SameSide },
                offset_deg: Degrees::new(3.0), reversed,
            };
            if let Ok(through) = Transmission::linked(bars) {
                let (low, high) = through.usable().unwrap();
                prop_assert!((through.joint_at(Degrees::ZERO).get() - 3.0).abs() < 1e-9);
                let servo = low + (high - low) * share;
                let steep = through.ratio_at(servo);
                let rise = (through.joint_at(servo + Degrees::new(1e-4)) - through.joint_at(servo - Degrees::new(1e-4))).get() / 2e-4;
                prop_assert!((steep - rise).abs() < 1e-3 * (1.0 + steep.abs() * steep.abs()), "{steep} {rise}");
                if steep.abs() > 0.05 {
                    let back = through.servo_at(through.joint_at(servo));
                    prop_assert!((back - servo).abs().get() < 1e-9, "{back:?} {servo:?}");
                }
            }
        }

        #[test]
        fn a_wheel_and_the_middle_agree(middle in -60.0..60.0f64, track in 50.0..300.0f64, left: bool) {
            let pair = Steering { track_mm: Millimetres::new(track), wheelbase_mm: Millimetres::new(310.0) };
            let hand = if left { Hand::Left } else { Hand::Right };
            let back = pair.middle_of(hand, pair.wheel(hand, Degrees::new(middle)));
            prop_assert!((back.get() - middle).abs() < 1e-9, "{back:?}");
        }
    }
}
