//! A rig compiled into what the stage runs: indices instead of names, pulses instead of angles.

use super::approach::Arrival;
use super::couple::Led;
use crate::fit::Side;
use crate::guard::Guard;
use crate::link::Rules;
use crate::linkage::Transmission;
use crate::rig::{Board, CutTo, Ends, Id, Idle, Input, Joint, Kind, Limit, Mapping, Rig, Servo};
use crate::scale::{Scale, Sides};
use crate::sequence::{Timeline, UNRATED_SPEED};
use crate::shape::{Curve, Shape, Span, between, two_sided};
use crate::unit::{Degrees, DegreesPerSecond, Hertz, Micros, Seconds, Ticks};
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
    /// Standing still it gets no pulse at all.
    pub idle_release: bool,
    /// How it is told to arrive, because of its slack.
    pub arrival: Option<Arrival>,
    /// After this time in which the hand has left it alone it is released.
    pub idle: Option<Duration>,
    /// The servo that it turns a joint together with, and goes where that goes.
    pub led: Option<Led>,
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
        let mut servos: Vec<ServoPlan> =
            rig.servos.iter().filter_map(|servo| servo_plan(rig, servo)).collect();
        super::couple::couple(rig, &mut servos);
        Self {
            servos,
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
    let Ends(low, high) = servo.endpoints_us;
    let scale = rig.scale_of(servo);
    let shaft_gain = shaft_gain(servo);
    let joint_gain = scale.as_ref().map(|scale| scale.steepest(low, high)).filter(|gain| *gain > 0.0);
    let gain = joint_gain.unwrap_or_else(|| shaft_gain * rig.through(servo).most_ratio());
    let pulses = |speed: DegreesPerSecond| speed.get() / gain;
    let follow = servo.rated_speed().unwrap_or(USUAL_FOLLOWING).get() / shaft_gain;
    // Behind a linkage the shaft may have to turn fast where the joint turns slowly.
    let fastest = libm::fmin(pulses(speed), follow);
    let guard = Guard::new((low, high), limits(joint, scale.as_ref(), servo), fastest, board.clock());
    ServoPlan {
        home: scale.as_ref().zip(joint.and_then(|j| j.home_deg)).map(|(scale, home)| scale.pulse_at(home)),
        scale,
        glide: libm::fmin(pulses(GLIDE), fastest),
        follow,
        stay_stiff: joint.is_some_and(|j| j.cut == CutTo::StayStiff),
        loaded: joint.is_some_and(|j| j.loaded),
        arrival: arrival(servo, shaft_gain),
        idle: rig.release_after_s.filter(|_| !joint.is_some_and(|j| j.loaded)).map(Seconds::duration),
        mapping: joint.and_then(|j| rig.mappings.iter().position(|m| m.joint == j.name)),
        centre: servo.centre(),
        ..ServoPlan::bare(servo, board, guard)
    }
}

/// Past its slack, or a degree where that is less.
fn arrival(servo: &Servo, shaft_gain: f64) -> Option<Arrival> {
    let fit = servo.fit().ok().filter(|_| servo.arrive != Side::Unknown)?;
    let past = fit.slack.map_or(1.0, |slack| libm::fmax(slack.mean.get(), 1.0));
    Some(Arrival { rising: servo.arrive == Side::Below, past: Micros::new(past / shaft_gain) })
}

/// The most degrees that the shaft turns for a microsecond: as seen, else as its sheet says, else as is usual.
fn shaft_gain(servo: &Servo) -> f64 {
    let Ends(low, high) = servo.endpoints_us;
    let seen = servo.fit().ok().map(|fit| Scale::of(fit.curve, Transmission::DIRECT).steepest(low, high));
    let rated = || servo.rated.as_ref().map(|rated| libm::fabs(rated.slope().gain));
    seen.or_else(rated).filter(|gain| *gain > 0.0).unwrap_or(USUAL_GAIN)
}

/// What turns without end stops where nothing drives it.
fn endless(servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let Ends(low, high) = servo.endpoints_us;
    let stop = servo.centre();
    let scale = Scale::Level(servo.sides());
    let percent = libm::fmax((high - stop).get(), (stop - low).get()) / 100.0;
    let guard = Guard::new((low, high), (None, None), speed.get() * percent, board.clock());
    ServoPlan {
        scale: Some(scale),
        home: Some(stop),
        centre: stop,
        glide: GLIDE.get() * percent,
        stop: Some(stop),
        idle_release: servo.idle == Idle::Release,
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
        scale: Some(Scale::Level(Sides::sharp(off, off, on))),
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
            idle_release: false,
            arrival: None,
            idle: None,
            led: None,
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
fn limits(joint: Option<&Joint>, scale: Option<&Scale>, servo: &Servo) -> (Option<Micros>, Option<Micros>) {
    let (Some(joint), Some(scale)) = (joint, scale) else { return (None, None) };
    let pulse = |limit: &Option<Limit>| limit.as_ref().map(|l| scale.pulse_at(l.angle_deg));
    let (low, high) = (pulse(&joint.low), pulse(&joint.high));
    let Ends(least, most) = servo.endpoints_us;
    let (low, high) = if scale.falls(least, most) { (high, low) } else { (low, high) };
    // Beyond its turning point a linkage goes back: nothing lies there.
    let reach = linkage_reach(servo);
    let tighter = |limit: Option<Micros>, end: Option<Micros>, more: bool| match (limit, end) {
        (Some(limit), Some(end)) => Some(if (limit > end) == more { limit } else { end }),
        (limit, end) => limit.or(end),
    };
    (tighter(low, reach.map(|r| r.0), true), tighter(high, reach.map(|r| r.1), false))
}

/// The pulses between which a servo's linkage can be used, the lower one first.
fn linkage_reach(servo: &Servo) -> Option<(Micros, Micros)> {
    let (a, b) = servo.through().usable()?;
    let curve = servo.fit().ok()?.curve;
    let (a, b) = (curve.pulse_at(a), curve.pulse_at(b));
    Some(if a < b { (a, b) } else { (b, a) })
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
