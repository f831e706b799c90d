//! A rig compiled into what the stage runs: indices instead of names, pulses instead of angles.

use crate::guard::Guard;
use crate::link::Rules;
use crate::rig::{Board, CutTo, Ends, Id, Input, Joint, Kind, Limit, Mapping, Rig, Servo};
use crate::scale::{Scale, Sides};
use crate::sequence::{Timeline, UNRATED_SPEED};
use crate::shape::{Curve, Shape, Span, between, two_sided};
use crate::unit::{Degrees, DegreesPerSecond, Hertz, Micros, Ticks};
use std::time::Duration;

/// The speed of a glide, where the joint allows it.
const GLIDE: DegreesPerSecond = DegreesPerSecond::new(60.0);
/// Degrees a microsecond to reckon speeds with where neither marks nor a sheet tell.
const USUAL_GAIN: f64 = 0.1;
/// The speed a servo is taken to have where its sheet is silent.
const USUAL_FOLLOWING: DegreesPerSecond = DegreesPerSecond::new(300.0);
const USUAL_LOST_AFTER: f64 = 500.0;
/// How far a wiggle goes to either side.
const WIGGLE: Micros = Micros::new(20.0);
/// The share of its way that a wiggle takes of what turns without end: less may not even start it.
const ENDLESS_WIGGLE: f64 = 0.1;

/// One servo with its joint.
#[derive(Debug, Clone, PartialEq)]
pub struct ServoPlan {
    /// What it keeps while its name changes.
    pub id: Id,
    /// What it is.
    pub kind: Kind,
    /// Where it is plugged in: its board and channel.
    pub plug: (Box<str>, u8),
    /// The last check.
    pub guard: Guard,
    /// Pulse to angle or level; none for a servo without a fit.
    pub scale: Option<Scale>,
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
    /// The pulse at which it stops, for what would go on turning: it stands for every last pulse.
    pub stop: Option<Micros>,
    /// The ticks of that.
    pub stop_ticks: Option<Ticks>,
    /// The pulse that it must see before it follows, and for how long.
    pub arming: Option<(Micros, Duration)>,
    /// How far a wiggle goes to either side.
    pub wiggle: Micros,
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
    let speed = rig.speed_of(servo).unwrap_or(UNRATED_SPEED);
    Some(match servo.kind {
        Kind::Positional => positional(rig, servo, board, speed),
        Kind::Endless => endless(servo, board, speed),
        Kind::Dimmer | Kind::OnOff => accessory(servo, board, speed),
    })
}

fn positional(rig: &Rig, servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let joint = rig.joint_of(&servo.name);
    let scale = servo.fit().ok().map(|fit| Scale::Angle(fit.line));
    let rated_gain = servo.rated.as_ref().map(|r| r.slope().gain);
    let gain = libm::fabs(scale.map(|s| s.gain()).or(rated_gain).unwrap_or(USUAL_GAIN));
    let pulses = |speed: DegreesPerSecond| speed.get() / gain;
    let rated = servo.rated_speed();
    let Ends(low, high) = servo.endpoints_us;
    let guard = Guard::new((low, high), limits(joint, scale), pulses(speed), board.clock());
    ServoPlan {
        home: scale.zip(joint.and_then(|j| j.home_deg)).map(|(scale, home)| scale.pulse_at(home)),
        scale,
        glide: pulses(if GLIDE < speed { GLIDE } else { speed }),
        follow: pulses(rated.unwrap_or(USUAL_FOLLOWING)),
        stay_stiff: joint.is_some_and(|j| j.cut == CutTo::StayStiff),
        loaded: joint.is_some_and(|j| j.loaded),
        mapping: joint.and_then(|j| rig.mappings.iter().position(|m| m.joint == j.name)),
        centre: servo.centre(),
        ..ServoPlan::bare(servo, board, guard)
    }
}

/// What turns without end stops where nothing drives it.
fn endless(servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let Ends(low, high) = servo.endpoints_us;
    let stop = servo.centre();
    let scale = Scale::Level(Sides { low, zero: stop, high });
    let percent = libm::fmax((high - stop).get(), (stop - low).get()) / 100.0;
    let guard = Guard::new((low, high), (None, None), speed.get() * percent, board.clock());
    ServoPlan {
        scale: Some(scale),
        home: Some(stop),
        centre: stop,
        glide: GLIDE.get() * percent,
        stop: Some(stop),
        stop_ticks: guard.clock.quantise(stop, low, high).ok(),
        arming: servo.arms().map(|(pulse, time)| (pulse, time.duration())),
        wiggle: (high - low) * (ENDLESS_WIGGLE / 2.0),
        ..ServoPlan::bare(servo, board, guard)
    }
}

/// A lamp or a relay is off where nothing drives it, and a wiggle is a blink.
fn accessory(servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let clock = board.clock_of(servo.kind);
    let (off, on) = (Micros::ZERO, clock.pulse(Ticks(clock.longest())));
    let speed = speed.get() * on.get() / 100.0;
    ServoPlan {
        scale: Some(Scale::Level(Sides { low: off, zero: off, high: on })),
        home: Some(off),
        centre: off,
        wiggle: on,
        ..ServoPlan::bare(servo, board, Guard::new((off, on), (None, None), speed, clock))
    }
}

impl ServoPlan {
    /// What every kind has in common, going wherever it may at once.
    fn bare(servo: &Servo, board: &Board, guard: Guard) -> Self {
        Self {
            id: servo.id,
            kind: servo.kind,
            plug: (servo.board.as_str().into(), servo.channel),
            scale: None,
            home: None,
            glide: guard.speed,
            follow: guard.speed,
            stay_stiff: false,
            loaded: false,
            stop: None,
            stop_ticks: None,
            arming: None,
            wiggle: WIGGLE,
            mapping: None,
            oscillator: board.oscillator_hz,
            centre: servo.centre(),
            guard,
        }
    }
}

/// A joint's limits as pulses, the lower pulse first whichever way the servo turns.
fn limits(joint: Option<&Joint>, scale: Option<Scale>) -> (Option<Micros>, Option<Micros>) {
    let (Some(joint), Some(scale)) = (joint, scale) else { return (None, None) };
    let pulse = |limit: &Option<Limit>| limit.as_ref().map(|l| scale.pulse_at(l.angle_deg));
    let (low, high) = (pulse(&joint.low), pulse(&joint.high));
    if scale.gain() < 0.0 { (high, low) } else { (low, high) }
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
