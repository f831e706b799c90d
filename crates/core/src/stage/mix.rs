//! What mappings make of inputs: a weighted sum, and from it a value in the goal's unit.
//!
//! A servo's plan says which mappings it follows and how: the value itself, the place along a row of angles, or a rate.

use super::{InputState, Plan};
use crate::rig::{GoalKind, InputId, Mapping, MappingId, OwnUnit, Parts, Take};
use crate::shape::along_points;
use crate::switch::Switch;
use crate::unit::{Position, held, number};

/// One mapping, compiled.
#[derive(Debug, Clone, PartialEq)]
pub struct MappingPlan {
    /// What it keeps while its name changes.
    pub id: MappingId,
    /// What it takes from inputs.
    pub shares: Box<[Share]>,
    /// From the sum to the goal's unit.
    pub course: Course,
    /// When it holds. Few have one, and it is large.
    gate: Option<Box<Gate>>,
    /// The time from one pose of a toggle to the other, in seconds; none of what is no toggle.
    toggle_s: Option<f64>,
    /// What it does to sequences, where it moves nothing itself.
    pub sways: Option<Sways>,
}

/// What a mapping does to sequences.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sways {
    /// It says how fast everything goes that plays.
    Tempo,
    /// It says where one stands, by its place.
    Place(usize),
}

/// What a mapping takes from one input.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Share {
    /// The input's place.
    pub input: usize,
    /// What its value is multiplied by before the shares are added.
    pub weight: f64,
    /// The input runs from 0 to 1, and counts from -1 to 1.
    one_ended: bool,
}

/// From a sum of −1 to 1 to the goal's unit.
#[derive(Debug, Clone, PartialEq)]
pub enum Course {
    /// As it is: the inputs are in the goal's unit.
    Own,
    /// Between two ends; they may fall.
    Ends(f64, f64),
    /// Along straight pieces between points, ordered by where they come from.
    Points(Box<[(f64, f64)]>),
}

/// The position of a switch at which a mapping holds.
#[derive(Debug, Clone, PartialEq)]
struct Gate {
    input: usize,
    switch: Switch,
    place: usize,
}

/// How a mapping stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Stand {
    /// Its switch is elsewhere, or was never heard.
    #[default]
    Waits,
    /// It moves what it moves.
    Moves,
    /// A link that it needs is not heard.
    Lost,
}

/// How a mapping stands to the sequence whose place it says.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) enum Grip {
    /// It has not taken it yet.
    #[default]
    Fresh,
    /// It has it.
    Holds,
    /// It was taken from it: it has it again once it passes where that stands; here it was then, 0–1.
    Waits(f64),
}

/// One mapping as it stands.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct MappingState {
    /// How it stands.
    pub stand: Stand,
    /// The weighted sum, clipped to −1..1; degrees where its inputs are in degrees.
    pub sum: f64,
    /// How much of the sum lay beyond that.
    pub clipped: f64,
    /// In the goal's unit: °, %, °/s; of poses the place from the first, 0, to the last, 1.
    pub value: f64,
    /// Its switch was at its position when that was heard last.
    holds: bool,
    /// Where a toggle goes, and how far it is, 0–1.
    to_second: bool,
    way: f64,
    /// How often the toggle's switch had been pressed when it was looked at last.
    pub(super) seen: u32,
    /// How it stands to the sequence whose place it says.
    pub(super) grip: Grip,
}

/// What a servo does with the value of a mapping.
#[derive(Debug, Clone, PartialEq)]
pub enum Along {
    /// It is its angle or level.
    Value,
    /// It is the place along these, from 0 to 1.
    Row(Box<[f64]>),
    /// It is its rate in °/s: by this factor it is that of the pulse in µs/s, or, behind what bends, that of the joint
    /// with the pulse's sign.
    Rate(f64),
}

/// What a servo does when a link of its mapping is lost.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Lost {
    /// It stays; a continuous servo stops.
    Stay,
    /// Its pulses stop.
    Release,
    /// It goes home.
    Home,
    /// It goes to a pulse, in so many seconds.
    To(Position, f64),
}

/// A mapping that moves a servo.
#[derive(Debug, Clone, PartialEq)]
pub struct Follow {
    /// The mapping's place.
    pub mapping: usize,
    /// What the servo does with its value.
    pub along: Along,
    /// What it does when a link is lost.
    pub lost: Lost,
    /// How it is met.
    pub take: Take,
}

impl Share {
    /// Whether it counts for no more and no less than it is.
    pub fn is_whole(&self) -> bool {
        self.weight.to_bits() == 1f64.to_bits()
    }
}

impl Course {
    /// The value at a sum.
    #[inline]
    pub fn at(&self, sum: f64) -> f64 {
        match self {
            Self::Own => sum,
            Self::Ends(low, high) => mixed(*low, *high, f64::midpoint(sum, 1.0)),
            Self::Points(points) => along_points(points, sum),
        }
    }
}

/// Between two values, and each of them to the last bit at its end.
#[inline]
fn mixed(low: f64, high: f64, share: f64) -> f64 {
    low * (1.0 - share) + high * share
}

/// The value at a place from 0 to 1 along some that stand at equal distances.
#[inline]
pub fn along_row(row: &[f64], place: f64) -> f64 {
    let Some(last) = row.len().checked_sub(1) else { return f64::NAN };
    let at = held(place, 0.0, 1.0) * number(last);
    let from = crate::unit::count16(libm::floor(at));
    let n = usize::from(from).min(last);
    match (row.get(n), row.get(n + 1)) {
        (Some(low), Some(high)) => mixed(*low, *high, at - f64::from(from)),
        (Some(end), None) => {
            if at.is_nan() {
                at
            } else {
                *end
            }
        }
        _ => f64::NAN,
    }
}

impl Along {
    /// The angle or level for a mapping's value; none where it is a rate.
    #[inline]
    pub fn angle(&self, value: f64) -> Option<f64> {
        match self {
            Self::Value => Some(value),
            Self::Row(row) => Some(along_row(row, value)),
            Self::Rate(_) => None,
        }
    }
}

impl Gate {
    /// Whether its switch is there; none while nobody knows.
    fn holds(&self, inputs: &[InputState]) -> Option<bool> {
        let state = inputs.get(self.input).filter(|state| state.live)?;
        Some(state.switch.position(&self.switch)? == self.place)
    }
}

impl MappingPlan {
    /// Compiles a mapping of a sound rig.
    pub(super) fn of(rig: Parts<'_>, mapping: &Mapping) -> Option<Self> {
        let share = |(name, weight): (&String, &f64)| {
            let input = rig.index.inputs.named(name)?;
            let of = rig.rig.inputs.get(input)?;
            Some(Share { input, weight: *weight, one_ended: of.centre.is_none() && of.unit.is_none() })
        };
        let shares: Box<[Share]> = mapping.from.iter().filter_map(share).collect();
        let in_degrees = |share: &Share| rig.rig.inputs.get(share.input)?.unit;
        let own = shares.iter().any(|share| in_degrees(share) == Some(OwnUnit::Deg));
        let kind = mapping.to.kind()?;
        let points = || mapping.to.points.iter().copied();
        let course = match mapping.to.ends() {
            _ if own => Course::Own,
            _ if kind == GoalKind::Blend && mapping.to.points.is_empty() => Course::Ends(0.0, 1.0),
            _ if kind == GoalKind::Place => Course::Ends(0.0, 1.0),
            _ if kind == GoalKind::Blend => Course::Points(points().map(|(x, y)| (x, y / 100.0)).collect()),
            Some(ends) => Course::Ends(ends.low, ends.high),
            None => Course::Points(points().collect()),
        };
        let gate = mapping.only_while.as_ref().and_then(|only| {
            let input = rig.index.inputs.named(&only.input)?;
            let switch = rig.rig.inputs.get(input)?.switch.as_ref()?.works()?;
            Some(Box::new(Gate { input, switch, place: usize::from(only.place()?) }))
        });
        let toggle = mapping.to.over_s.unwrap_or(crate::rig::Goal::USUAL_TOGGLE);
        let toggle_s = (kind == GoalKind::Toggle).then(|| toggle.get());
        let sways = match kind {
            GoalKind::Tempo => Some(Sways::Tempo),
            GoalKind::Place => Some(Sways::Place(rig.index.sequences.named(mapping.to.place.as_deref()?)?)),
            _ => None,
        };
        Some(Self { id: mapping.id, shares, course, gate, toggle_s, sways })
    }

    /// Whether its sum is in the goal's unit already, and so is not clipped.
    pub const fn is_own(&self) -> bool {
        matches!(self.course, Course::Own)
    }

    /// The weighted part that an input has in the sum.
    pub fn part(&self, share: &Share, shaped: f64) -> f64 {
        share.weight * if share.one_ended { 2.0 * shaped - 1.0 } else { shaped }
    }

    /// Brings its state a beat further.
    #[inline]
    pub(super) fn advance(&self, state: &mut MappingState, inputs: &[InputState], dt: f64) {
        let mut lost = false;
        // What is pressed while it does not hold turns nothing round later.
        let pressed = self.toggle_s.is_some() && {
            let pressed = self.pressed(inputs);
            pressed.wrapping_sub(std::mem::replace(&mut state.seen, pressed)) % 2 == 1
        };
        if let Some(gate) = &self.gate {
            match gate.holds(inputs) {
                Some(holds) => state.holds = holds,
                // Nobody knows where its switch is: what held last does as told for a lost link.
                None => lost = true,
            }
            if !state.holds {
                state.stand = Stand::Waits;
                return;
            }
        }
        let mut sum = 0.0;
        for share in &self.shares {
            let Some(input) = inputs.get(share.input).filter(|input| input.live) else {
                lost = true;
                continue;
            };
            sum += self.part(share, input.stages.shaped());
        }
        if lost {
            state.stand = Stand::Lost;
            return;
        }
        state.stand = Stand::Moves;
        if let Some(over) = self.toggle_s {
            toggle(state, pressed, over, dt);
            return;
        }
        let clipped = if self.is_own() { sum } else { held(sum, -1.0, 1.0) };
        (state.sum, state.clipped) = (clipped, sum - clipped);
        state.value = self.course.at(clipped);
    }

    /// How often its switch was pressed so far.
    fn pressed(&self, inputs: &[InputState]) -> u32 {
        let input = self.shares.first().and_then(|share| inputs.get(share.input));
        input.map_or(0, |input| input.switch.changes)
    }

    /// What it keeps of how the same mapping stood under another plan. How often its switch was pressed so far is counted
    /// anew: it may be another switch.
    pub(super) fn carried(&self, before: &MappingState, inputs: &[InputState]) -> MappingState {
        MappingState { seen: self.pressed(inputs), ..*before }
    }
}

/// Each press turns a toggle round, wherever it is.
fn toggle(state: &mut MappingState, pressed: bool, over: f64, dt: f64) {
    state.to_second ^= pressed;
    let goal = if state.to_second { 1.0 } else { 0.0 };
    let step = if over > 0.0 { dt / over } else { 1.0 };
    state.way += held(goal - state.way, -step, step);
    state.sum = if state.to_second { 1.0 } else { -1.0 };
    // Eased, so that it starts and arrives softly, and is at its ends to the last bit.
    state.value = state.way * state.way * (3.0 - 2.0 * state.way);
}

impl Plan {
    /// The inputs that a mapping needs to be heard, by their ids.
    pub fn inputs_of(&self, mapping: &MappingPlan) -> impl Iterator<Item = InputId> {
        let places = mapping.shares.iter().map(|share| share.input);
        places
            .chain(mapping.gate.as_ref().map(|gate| gate.input))
            .filter_map(|n| Some(self.inputs.get(n)?.id))
    }
}

#[cfg(test)]
#[expect(clippy::float_cmp, reason = "ends are reached to the last bit")]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_course_reaches_its_ends_to_the_last_bit_and_may_turn_back() {
        let ends = Course::Ends(10.1, -30.3);
        assert_eq!([ends.at(-1.0), ends.at(1.0)], [10.1, -30.3]);
        assert!((ends.at(0.0) + 10.1).abs() < 1e-12);
        let back = Course::Points([(-1.0, 0.0), (0.0, 40.0), (1.0, 7.7)].into());
        assert_eq!([-1.0, 0.0, 1.0, 2.0].map(|u| back.at(u)), [0.0, 40.0, 7.7, 7.7]);
        assert!((back.at(-0.5) - 20.0).abs() < 1e-12 && back.at(f64::NAN).is_nan());
    }

    #[test]
    fn a_raw_value_goes_to_a_pulse_in_real_numbers_all_the_way() {
        let at = 2.0 * (3001.0 / 4095.0) - 1.0;
        assert!((Course::Ends(610.0, 2390.0).at(at) - 1914.464).abs() < 5e-4);
        assert!((Course::Ends(2390.0, 610.0).at(at) - (2390.0 + 610.0 - 1914.464)).abs() < 5e-4);
    }

    #[test]
    fn a_row_is_passed_at_equal_distances() {
        let row = [-12.3, 4.5, 6.7];
        assert_eq!([0.0, 0.5, 1.0].map(|place| along_row(&row, place)), row);
        assert!((along_row(&row, 0.75) - 5.6).abs() < 1e-12);
        assert_eq!([along_row(&row, -3.0), along_row(&row, 9.0)], [-12.3, 6.7]);
        assert!(along_row(&row, f64::NAN).is_nan() && along_row(&[], 0.5).is_nan());
    }

    proptest! {
        #[test]
        fn what_is_between_two_stays_between_them(low in -90.0..90.0f64, high in -90.0..90.0f64, u in -1.0..1.0f64) {
            let value = Course::Ends(low, high).at(u);
            prop_assert!(value >= low.min(high) - 1e-9 && value <= low.max(high) + 1e-9);
        }
    }
}
