//! A rig compiled into what the stage runs: indices instead of names, pulses instead of angles.

use crate::fit::Line;
use crate::guard::Guard;
use crate::link::Rules;
use crate::rig::{CutTo, Ends, Id, Input, Joint, Limit, Mapping, Rig, Servo};
use crate::sequence::{Timeline, UNRATED_SPEED};
use crate::shape::{Curve, Shape, Span, between, two_sided};
use crate::unit::{Degrees, DegreesPerSecond, Hertz, Micros};
use std::time::Duration;

/// The speed of a glide, where the joint allows it.
const GLIDE: DegreesPerSecond = DegreesPerSecond::new(60.0);
/// Degrees a microsecond to reckon speeds with where neither marks nor a sheet tell.
const USUAL_GAIN: f64 = 0.1;
/// The speed a servo is taken to have where its sheet is silent.
const USUAL_FOLLOWING: DegreesPerSecond = DegreesPerSecond::new(300.0);
const USUAL_LOST_AFTER: f64 = 500.0;

/// One servo with its joint.
#[derive(Debug, Clone, PartialEq)]
pub struct ServoPlan {
    /// What it keeps while its name changes.
    pub id: Id,
    /// Where it is plugged in: its board and channel.
    pub plug: (Box<str>, u8),
    /// The last check.
    pub guard: Guard,
    /// Pulse to angle, if there is a fit.
    pub line: Option<Line>,
    /// Where it goes when nothing drives it.
    pub home: Option<Micros>,
    /// The speed of a glide, µs/s.
    pub glide: f64,
    /// The speed its horn is taken to follow with, µs/s.
    pub follow: f64,
    /// A cut leaves its pulses.
    pub stay_stiff: bool,
    /// A weight pulls on it.
    pub loaded: bool,
    /// Its mapping's index.
    pub mapping: Option<usize>,
    /// Its board's oscillator.
    pub oscillator: Hertz,
    centre: Micros,
}

impl ServoPlan {
    /// Where it is shown before anything is known.
    pub fn start(&self) -> Micros {
        self.guard.bound(self.home.unwrap_or(self.centre)).0
    }
}

/// One input.
#[derive(Debug, Clone, PartialEq)]
pub struct InputPlan {
    /// What it keeps while its name changes.
    pub id: Id,
    /// Its shaping.
    pub shape: Shape,
    /// When its link is lost.
    pub rules: Rules,
}

/// One mapping.
#[derive(Debug, Clone, PartialEq)]
pub struct MappingPlan {
    /// The input's index.
    pub input: usize,
    angles: (Degrees, Degrees),
    /// Where to go when the link is lost, and in which time; stay without it.
    pub failsafe: Option<(Degrees, Duration)>,
}

impl MappingPlan {
    /// The angle for a shaped value of an input with the given span.
    pub fn angle(&self, shaped: f64, span: &Span) -> Degrees {
        Degrees::new(between(two_sided(shaped, span), self.angles.0.get(), self.angles.1.get()))
    }
}

/// A compiled rig.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// In rig order.
    pub servos: Vec<ServoPlan>,
    /// In rig order.
    pub inputs: Vec<InputPlan>,
    /// In rig order.
    pub mappings: Vec<MappingPlan>,
    /// In rig order.
    pub timelines: Vec<Timeline>,
}

impl Plan {
    /// Compiles a sound rig; what is not sound was refused before.
    pub fn of(rig: &Rig) -> Self {
        Self {
            servos: rig.servos.iter().filter_map(|servo| servo_plan(rig, servo)).collect(),
            inputs: rig.inputs.iter().map(input_plan).collect(),
            mappings: rig.mappings.iter().filter_map(|m| mapping_plan(rig, m)).collect(),
            timelines: rig.sequences.iter().map(|s| Timeline::of(rig, s)).collect(),
        }
    }
}

fn servo_plan(rig: &Rig, servo: &Servo) -> Option<ServoPlan> {
    let board = rig.board(&servo.board)?;
    let joint = rig.joint_of(&servo.name);
    let line = servo.fit().ok().map(|fit| fit.line);
    let rated_gain = servo.rated.as_ref().map(|r| r.slope().gain);
    let gain = libm::fabs(line.map(|l| l.gain()).or(rated_gain).unwrap_or(USUAL_GAIN));
    let pulses = |speed: DegreesPerSecond| speed.get() / gain;
    let rated = servo.rated_speed();
    let speed = rig.speed_of(servo).unwrap_or(UNRATED_SPEED);
    let Ends(low, high) = servo.endpoints_us;
    let guard = Guard::new((low, high), limits(joint, line), pulses(speed), board.clock());
    Some(ServoPlan {
        id: servo.id,
        plug: (servo.board.as_str().into(), servo.channel),
        home: line.zip(joint.and_then(|j| j.home_deg)).map(|(line, home)| line.pulse_at(home)),
        line,
        glide: pulses(if GLIDE < speed { GLIDE } else { speed }),
        follow: pulses(rated.unwrap_or(USUAL_FOLLOWING)),
        stay_stiff: joint.is_some_and(|j| j.cut == CutTo::StayStiff),
        loaded: joint.is_some_and(|j| j.loaded),
        mapping: joint.and_then(|j| rig.mappings.iter().position(|m| m.joint == j.name)),
        oscillator: board.oscillator_hz,
        centre: servo.centre(),
        guard,
    })
}

/// A joint's limits as pulses, the lower pulse first whichever way the servo turns.
fn limits(joint: Option<&Joint>, line: Option<Line>) -> (Option<Micros>, Option<Micros>) {
    let (Some(joint), Some(line)) = (joint, line) else { return (None, None) };
    let pulse = |limit: &Option<Limit>| limit.as_ref().map(|l| line.pulse_at(l.angle_deg));
    let (low, high) = (pulse(&joint.low), pulse(&joint.high));
    if line.gain() < 0.0 { (high, low) } else { (low, high) }
}

fn input_plan(input: &Input) -> InputPlan {
    let Ends(low, high) = input.ends;
    let span = match input.centre {
        Some(centre) => Span::TwoSided { low, centre, high },
        None => Span::OneEnded { low, high },
    };
    let curve =
        if input.curve.is_empty() { Curve::Expo(input.expo) } else { Curve::Points(input.curve.clone()) };
    let milliseconds = |ms: f64| Duration::try_from_secs_f64(ms / 1e3).unwrap_or_default();
    InputPlan {
        id: input.id,
        shape: Shape {
            span,
            trim: input.trim,
            deadband: input.deadband,
            curve,
            smoothing: milliseconds(input.smoothing_ms),
            rise: input.rise_per_s,
            fall: input.fall_per_s,
        },
        rules: Rules {
            lost_after: milliseconds(input.lost_after_ms.unwrap_or(USUAL_LOST_AFTER)),
            stuck_is_lost: input.stuck_is_lost,
        },
    }
}

fn mapping_plan(rig: &Rig, mapping: &Mapping) -> Option<MappingPlan> {
    let Ends(low, high) = mapping.angles_deg;
    Some(MappingPlan {
        input: rig.inputs.iter().position(|i| i.name == mapping.input)?,
        angles: (low, high),
        failsafe: mapping.failsafe.as_ref().map(|f| (f.angle_deg, f.over_s.duration())),
    })
}
