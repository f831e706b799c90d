//! A rig compiled into what the stage runs: indices instead of names, pulses instead of angles.

use super::ServoState;
use super::approach::Arrival;
use super::couple::Led;
use super::mix::{Along, Follow, Lost, MappingPlan};
use super::press::PressPlan;
use crate::bent::Bent;
use crate::curve::Curve;
use crate::fit::Side;
use crate::guard::{Guard, towards};
use crate::link::Rules;
use crate::rig::{
    Back, Board, CutTo, Ends, GoalKind, Idle, Index, Input, InputId, Joint, Kind, Limit, Link, LinkId,
    Mapping, MappingId, OwnUnit, Parts, Protocol, Rig, SequenceId, Servo, ServoId, WhenLost,
};
use crate::scale::{Scale, Sides};
use crate::sequence::{Library, Program, UNRATED_SPEED};
use crate::shape::{self, Shape, Span};
use crate::switch::Switch;
use crate::unit::{Degrees, DegreesPerSecond, Hertz, Position, Seconds, Ticks};
use std::collections::{HashMap, HashSet};
use std::time::Duration;

/// The speed of a glide, where the joint allows it.
pub(super) const GLIDE: DegreesPerSecond = DegreesPerSecond::new(60.0);
/// Degrees a microsecond to compute speeds with where neither marks nor a data sheet tell.
const USUAL_GAIN: f64 = 0.1;
/// The speed a servo is taken to have where its data sheet is silent.
const USUAL_FOLLOWING: DegreesPerSecond = DegreesPerSecond::new(300.0);
/// How far a wiggle goes to either side.
const WIGGLE: Position = Position::new(20.0);
/// The share of its way that a wiggle takes of a continuous servo: less may not even start it.
const CONTINUOUS_WIGGLE: f64 = 0.1;

/// One servo with its joint.
#[derive(Debug, Clone, PartialEq)]
pub struct ServoPlan {
    /// What it keeps while its name changes.
    pub id: ServoId,
    /// What it is.
    pub kind: Kind,
    /// Where it is plugged in: its board and channel.
    pub plug: (Box<str>, u8),
    /// The last check.
    pub guard: Guard,
    /// Pulse to angle or level; none for a servo without a fit.
    pub scale: Option<Scale>,
    /// Where it goes when nothing drives it.
    pub home: Option<Position>,
    /// How fast it may go.
    pub pace: Pace,
    /// The speed its horn is taken to follow with, µs/s.
    pub follow: f64,
    /// A cut leaves its pulses.
    pub stay_stiff: bool,
    /// A weight pulls on it.
    pub loaded: bool,
    /// The pulse at which it stops, for what would go on turning: it stands for every last pulse.
    pub stop: Option<Position>,
    /// Standing still it gets no pulse at all.
    pub idle_release: bool,
    /// How it is told to arrive, because of its slack.
    pub arrival: Option<Arrival>,
    /// After this time in which the hand has left it alone it is released.
    pub idle: Option<Duration>,
    /// The servo that it turns a joint together with, and goes where that goes.
    pub led: Option<Box<Led>>,
    /// The place in the rig of the joint that it turns together with others.
    pub shares: Option<usize>,
    /// What happens to it when its board is back and its pulses had stopped.
    pub back: Option<Back>,
    /// The pulse that it must see before it follows, and for how long.
    pub arming: Option<(Position, Duration)>,
    /// How far a wiggle goes to either side.
    pub wiggle: Position,
    /// The mappings that move it: the first that holds has it.
    pub follows: Box<[Follow]>,
    /// Its board's oscillator.
    pub oscillator: Hertz,
    centre: Position,
}

/// How fast a servo may go, where it is. Speeds are those of its place: of the pulse in µs/s, or behind what bends of
/// the joint in °/s, which is what must not be driven too fast.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pace {
    /// The greatest that may be asked, in degrees or percent.
    pub most: f64,
    /// In a glide.
    pub glide: f64,
    /// The most that its shaft may turn behind what bends, in °/s.
    pub shaft: f64,
    /// The most degrees that joint and shaft turn for a microsecond where it may be, behind what bends.
    steepest: (f64, f64),
}

impl ServoPlan {
    /// What bends between its pulse and its joint, if anything does.
    fn bent(&self) -> Option<&Bent> {
        self.scale.as_ref().and_then(Scale::bent)
    }

    /// How far it is from one pulse to another, in the unit of its speeds, without a sign.
    #[inline]
    pub fn way(&self, from: Position, to: Position) -> f64 {
        match self.bent() {
            Some(bent) => (bent.joint_at(to) - bent.joint_at(from)).abs().get(),
            None => (to - from).abs().get(),
        }
    }

    /// From one pulse towards another for `dt` seconds at no more than `speed`, nor than it may. Behind what bends
    /// it is the joint that moves at that speed, and its shaft no faster than it can.
    #[inline]
    pub fn go(&self, from: Position, to: Position, speed: f64, dt: f64) -> Position {
        let speed = if speed < self.pace.most { speed } else { self.pace.most };
        match self.bent() {
            None => towards(from, to, speed * dt),
            // Where it stands is no way.
            Some(_) if from == to => to,
            Some(bent) => self.go_bent(bent, (from, to), speed, dt),
        }
    }

    #[inline(never)]
    fn go_bent(&self, bent: &Bent, (from, to): (Position, Position), speed: f64, dt: f64) -> Position {
        if let Some((low, high)) = bent.reach()
            && (from < low || from > high)
        {
            // Out of reach the joint stands while the shaft comes back.
            return towards(from, to, self.follow * dt);
        }
        let (step, most) = (speed * dt, self.pace.shaft * dt);
        let (least, greatest) = self.guard.free();
        let near = (to - from).abs().get();
        let (joint_most, shaft_most) = self.pace.steepest;
        if near * joint_most <= step && near * shaft_most <= most && from >= least && from <= greatest {
            // Even where it is steepest that is no further than it may.
            return to;
        }
        let ((joint, shaft), (goal, goal_shaft)) = (bent.at(from), bent.at(to));
        let way = (goal - joint).get();
        let (next, next_shaft) = if libm::fabs(way) <= step {
            (to, goal_shaft)
        } else {
            bent.with(joint + Degrees::new(if way < 0.0 { -step } else { step }))
        };
        let turn = (next_shaft - shaft).get();
        if libm::fabs(turn) <= most {
            return next;
        }
        bent.pulse_for(shaft + Degrees::new(if turn < 0.0 { -most } else { most }))
    }

    /// What happens to it when its pulses had stopped: as its joint says; else it is asked about where a weight or a
    /// fallen supply may have moved it.
    pub fn back(&self, fallen: bool) -> Back {
        // One that says where it is need not be asked about.
        let may_have_moved = self.stop.is_none() && self.kind.has_angles() && !self.kind.is_smart();
        let usual = if may_have_moved && (self.loaded || fallen) { Back::Ask } else { Back::Last };
        self.back.unwrap_or(usual)
    }

    /// The state that it begins with.
    pub fn fresh(&self) -> ServoState {
        ServoState { pulse: self.start(), ..ServoState::default() }
    }

    /// Where it is shown before anything is known.
    pub fn start(&self) -> Position {
        self.guard.bound(self.home.unwrap_or(self.centre)).0
    }
}

/// How one input is read and shaped, with nothing left open.
#[derive(Debug, Clone, PartialEq)]
pub struct InputPlan {
    /// What it keeps while its name changes.
    pub id: InputId,
    /// The place of the link that it comes over.
    pub link: usize,
    /// Its channel there.
    pub channel: Box<str>,
    /// What its raw values mean, of a switch: its position is what is shaped.
    pub switch: Option<Switch>,
    /// From a raw value to −1..1 or 0..1.
    pub shape: Shape,
    /// The unit that its values have themselves.
    pub unit: Option<OwnUnit>,
    /// The raw values at its ends.
    ends: (f64, f64),
}

impl InputPlan {
    /// The raw value at a share of the way between its ends, 0–1.
    pub fn raw_at(&self, share: f64) -> f64 {
        self.ends.0 + (self.ends.1 - self.ends.0) * share
    }

    /// The share of the way between its ends at a raw value: what [`Self::raw_at`] was given.
    pub fn share_at(&self, raw: f64) -> f64 {
        (raw - self.ends.0) / (self.ends.1 - self.ends.0)
    }
}

/// When one link counts as late, lost or stuck, with nothing left open.
#[derive(Debug, Clone, PartialEq)]
pub struct LinkPlan {
    /// What it keeps while its name changes.
    pub id: LinkId,
    /// What is expected of it.
    pub rules: Rules,
    /// It drives something: its health matters.
    pub drives: bool,
    /// Where it stands, and what is spoken there: elsewhere it is another link, of which nothing is known yet.
    pub place: (Box<str>, Protocol),
}

/// A compiled rig.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
    /// In rig order.
    pub servos: Vec<ServoPlan>,
    /// In rig order.
    pub links: Vec<LinkPlan>,
    /// In rig order.
    pub inputs: Vec<InputPlan>,
    /// In rig order.
    pub mappings: Vec<MappingPlan>,
    /// In rig order.
    pub presses: Vec<PressPlan>,
    /// In rig order.
    pub programs: Vec<Program>,
    /// The servos that follow another one of their joint, by their places.
    pub(super) followers: Vec<usize>,
    /// Where what each program waits for begins among what all of them do, and where the last of it ends.
    pub(super) wait_bases: Vec<usize>,
    servo_places: HashMap<ServoId, usize>,
    link_places: HashMap<LinkId, usize>,
    input_places: HashMap<InputId, usize>,
    mapping_places: HashMap<MappingId, usize>,
    sequence_places: HashMap<SequenceId, usize>,
}

impl Plan {
    /// Compiles a sound rig; what is not sound was refused before.
    pub fn of(rig: &Rig) -> Self {
        Self::of_parts(Parts { rig, index: &Index::of(rig) })
    }

    /// The same of one whose parts were looked up already.
    pub fn of_parts(rig: Parts<'_>) -> Self {
        let mut servos: Vec<ServoPlan> =
            rig.servos.iter().filter_map(|servo| servo_plan(rig, servo)).collect();
        follow_mappings(rig, &mut servos);
        super::couple::couple(rig, &mut servos);
        let scales: Vec<Option<&Scale>> = servos.iter().map(|servo| servo.scale.as_ref()).collect();
        let library = Library::of(rig, &scales);
        let programs: Vec<Program> =
            (0..rig.sequences.len()).filter_map(|place| library.compile(place)).collect();
        let wait_bases = std::iter::once(0).chain(programs.iter().scan(0, |sum, program| {
            *sum += program.waits.len();
            Some(*sum)
        }));
        let inputs: Vec<InputPlan> = rig.inputs.iter().filter_map(|input| input_plan(rig, input)).collect();
        Self {
            servo_places: servos.iter().enumerate().map(|(n, servo)| (servo.id, n)).collect(),
            input_places: inputs.iter().enumerate().map(|(n, input)| (input.id, n)).collect(),
            sequence_places: programs.iter().enumerate().map(|(n, program)| (program.id, n)).collect(),
            followers: (0..servos.len())
                .filter(|n| servos.get(*n).is_some_and(|servo| servo.led.is_some()))
                .collect(),
            wait_bases: wait_bases.collect(),
            link_places: rig.links.iter().enumerate().map(|(n, link)| (link.id, n)).collect(),
            links: link_plans(rig),
            programs,
            servos,
            inputs,
            mapping_places: rig.mappings.iter().enumerate().map(|(n, mapping)| (mapping.id, n)).collect(),
            mappings: rig.mappings.iter().filter_map(|m| MappingPlan::of(rig, m)).collect(),
            presses: rig.presses.iter().filter_map(|press| PressPlan::of(rig, press)).collect(),
        }
    }

    /// The place of a servo.
    pub fn servo_place(&self, servo: ServoId) -> Option<usize> {
        self.servo_places.get(&servo).copied()
    }

    /// The place of an input.
    pub fn input_place(&self, input: InputId) -> Option<usize> {
        self.input_places.get(&input).copied()
    }

    /// The place of a mapping.
    pub fn mapping_place(&self, mapping: MappingId) -> Option<usize> {
        self.mapping_places.get(&mapping).copied()
    }

    /// The place of a link.
    pub fn link_place(&self, link: LinkId) -> Option<usize> {
        self.link_places.get(&link).copied()
    }

    /// The place of a sequence.
    pub fn sequence_place(&self, sequence: SequenceId) -> Option<usize> {
        self.sequence_places.get(&sequence).copied()
    }
}

fn servo_plan(rig: Parts<'_>, servo: &Servo) -> Option<ServoPlan> {
    let board = rig.board(&servo.board)?;
    let speed = rig.speed_of(servo).unwrap_or(UNRATED_SPEED);
    Some(match servo.kind {
        kind if kind.has_angles() => positional(rig, servo, board, speed),
        kind if kind.turns_on() => continuous(servo, board, speed),
        _ => accessory(servo, board, speed),
    })
}

fn positional(rig: Parts<'_>, servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let joint = rig.joint_of(&servo.name);
    let Ends { low, high } = servo.ends();
    let scale = rig.scale_of(servo);
    let shaft_gain = shaft_gain(servo);
    let shaft = servo.rated_speed().unwrap_or(USUAL_FOLLOWING).get();
    let follow = shaft / shaft_gain;
    let guard = Guard::new((low, high), limits(joint, scale.as_ref(), servo), board.steps_of(servo.kind));
    let pace = if let Some(bent) = scale.as_ref().and_then(Scale::bent) {
        let (low, high) = guard.free();
        let steepest = (bent.steepest(low, high), bent.steepest_shaft(low, high));
        Pace { most: speed.get(), glide: libm::fmin(GLIDE.get(), speed.get()), shaft, steepest }
    } else {
        let joint_gain = scale.as_ref().map(|scale| scale.steepest(low, high)).filter(|gain| *gain > 0.0);
        let gain = joint_gain.unwrap_or_else(|| shaft_gain * rig.through(servo).most_ratio());
        let most = libm::fmin(speed.get() / gain, follow);
        even(most, libm::fmin(GLIDE.get() / gain, most))
    };
    ServoPlan {
        home: scale.as_ref().zip(joint.and_then(|j| j.home_deg)).map(|(scale, home)| scale.pulse_at(home)),
        scale,
        pace,
        follow,
        back: joint.and_then(|j| j.back),
        stay_stiff: joint.is_some_and(|j| j.cut == CutTo::StayStiff),
        loaded: joint.is_some_and(|j| j.loaded),
        arrival: arrival(servo, shaft_gain),
        idle: rig.release_after_s.filter(|_| !joint.is_some_and(|j| j.loaded)).map(Seconds::duration),
        centre: servo.centre(),
        ..ServoPlan::bare(servo, board, guard)
    }
}

/// Past its slack, or a degree where that is less.
fn arrival(servo: &Servo, shaft_gain: f64) -> Option<Arrival> {
    let fit = servo.fit().ok().filter(|_| servo.arrive != Side::Unknown)?;
    let past = fit.slack.map_or(1.0, |slack| libm::fmax(slack.mean.get(), 1.0));
    Some(Arrival { rising: servo.arrive == Side::Below, past: Position::new(past / shaft_gain) })
}

/// The most degrees that the shaft turns for a microsecond: as seen, else as its data sheet says, else as is usual.
fn shaft_gain(servo: &Servo) -> f64 {
    let Ends { low, high } = servo.ends();
    let seen = servo.fit().ok().map(|fit| match fit.curve {
        Curve::Line(line) => libm::fabs(line.gain()),
        Curve::Cubic(cubic) => cubic.steepest(low, high),
    });
    let rated = || servo.rated.as_ref().map(|rated| libm::fabs(rated.slope().gain));
    seen.or_else(rated).filter(|gain| *gain > 0.0).unwrap_or(USUAL_GAIN)
}

/// A continuous servo stops where nothing drives it.
fn continuous(servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    let Ends { low, high } = servo.ends();
    let stop = servo.centre();
    let scale = Scale::Level(servo.sides());
    let percent = libm::fmax((high - stop).get(), (stop - low).get()) / 100.0;
    let pace = even(speed.get() * percent, GLIDE.get() * percent);
    let guard = Guard::new((low, high), (None, None), board.steps_of(servo.kind));
    ServoPlan {
        scale: Some(scale),
        home: Some(stop),
        centre: stop,
        pace,
        follow: pace.most,
        stop: Some(stop),
        idle_release: servo.idle == Idle::Release,
        arming: servo.arms().map(|(pulse, time)| (pulse, time.duration())),
        wiggle: (high - low) * (CONTINUOUS_WIGGLE / 2.0),
        ..ServoPlan::bare(servo, board, guard)
    }
}

/// Speeds in µs of pulse a second.
const fn even(most: f64, glide: f64) -> Pace {
    Pace { most, glide, shaft: f64::INFINITY, steepest: (0.0, 0.0) }
}

/// A lamp or a relay is off where nothing drives it, and a wiggle is a blink.
fn accessory(servo: &Servo, board: &Board, speed: DegreesPerSecond) -> ServoPlan {
    // Nothing of the kind hangs where there are no frames: that was refused before.
    let clock = board.clock_of(servo.kind).unwrap_or(crate::PwmClock::ideal(8, board.frame_hz));
    let (off, on) = (Position::ZERO, clock.pulse(Ticks(clock.longest())));
    let speed = speed.get() * on.get() / 100.0;
    ServoPlan {
        scale: Some(Scale::Level(Sides::sharp(off, off, on))),
        home: Some(off),
        centre: off,
        wiggle: on,
        pace: even(speed, speed),
        follow: speed,
        ..ServoPlan::bare(servo, board, Guard::new((off, on), (None, None), clock.steps()))
    }
}

impl ServoPlan {
    /// What every kind has in common, going wherever it may at once.
    fn bare(servo: &Servo, board: &Board, guard: Guard) -> Self {
        Self {
            id: servo.id,
            kind: servo.kind,
            plug: (servo.board.as_str().into(), servo.plug()),
            scale: None,
            home: None,
            pace: even(f64::INFINITY, f64::INFINITY),
            follow: f64::INFINITY,
            stay_stiff: false,
            loaded: false,
            stop: None,
            idle_release: false,
            arrival: None,
            idle: None,
            led: None,
            shares: None,
            back: None,
            arming: None,
            wiggle: WIGGLE,
            follows: Box::default(),
            oscillator: board.oscillator_hz,
            centre: servo.centre(),
            guard,
        }
    }
}

/// A joint's limits as pulses, the lower pulse first whichever way the servo turns.
fn limits(
    joint: Option<&Joint>,
    scale: Option<&Scale>,
    servo: &Servo,
) -> (Option<Position>, Option<Position>) {
    let (Some(joint), Some(scale)) = (joint, scale) else { return (None, None) };
    let pulse = |limit: &Option<Limit>| limit.as_ref().map(|l| scale.pulse_at(l.angle_deg));
    let (low, high) = (pulse(&joint.low), pulse(&joint.high));
    let Ends { low: least, high: most } = servo.ends();
    let (low, high) = if scale.falls(least, most) { (high, low) } else { (low, high) };
    // Beyond its reach a linkage drives nothing.
    let reach = scale.bent().and_then(Bent::reach);
    let tighter = |limit: Option<Position>, end: Option<Position>, more: bool| match (limit, end) {
        (Some(limit), Some(end)) => Some(if (limit > end) == more { limit } else { end }),
        (limit, end) => limit.or(end),
    };
    (tighter(low, reach.map(|r| r.0), true), tighter(high, reach.map(|r| r.1), false))
}

fn link_plans(rig: Parts<'_>) -> Vec<LinkPlan> {
    let needed = rig.mappings.iter().flat_map(Mapping::inputs);
    let needed = needed.chain(rig.presses.iter().map(|press| press.input.as_str()));
    let driving: HashSet<&str> = needed.filter_map(|input| Some(rig.input(input)?.link.as_str())).collect();
    let plan = |link: &Link| {
        let protocol = rig.protocol_of(link).unwrap_or(Protocol::Lines);
        LinkPlan {
            id: link.id,
            rules: link.rules(rig.flow_of(link, protocol)),
            drives: driving.contains(link.name.as_str()),
            place: (link.on.as_str().into(), protocol),
        }
    };
    rig.links.iter().map(plan).collect()
}

/// Lets every servo know which mappings move it.
fn follow_mappings(rig: Parts<'_>, servos: &mut [ServoPlan]) {
    for (servo, plan) in rig.rig.servos.iter().zip(servos) {
        let Some(name) = rig.spoken_name(servo) else { continue };
        let follow = |&place: &usize| follow(rig, (place, rig.rig.mappings.get(place)?), (servo, name), plan);
        plan.follows = rig.mapping_places(name).iter().filter_map(follow).collect();
    }
}

/// How a servo follows a mapping that moves it.
fn follow(
    rig: Parts<'_>,
    (place, mapping): (usize, &Mapping),
    (servo, name): (&Servo, &str),
    plan: &ServoPlan,
) -> Option<Follow> {
    let scale = plan.scale.as_ref()?;
    let goal = &mapping.to;
    let along = match goal.kind()? {
        GoalKind::Joint | GoalKind::Level => Along::Value,
        GoalKind::Rate if plan.stop.is_some() => Along::Value,
        GoalKind::Rate => Along::Rate(match scale {
            Scale::Angle(line) => 1.0 / line.gain(),
            bent => {
                if bent.falls(plan.guard.endpoints.0, plan.guard.endpoints.1) {
                    -1.0
                } else {
                    1.0
                }
            }
        }),
        // Those move no servo by themselves.
        GoalKind::Tempo | GoalKind::Place => return None,
        GoalKind::Blend | GoalKind::Toggle => {
            let at = |pose: &String| Some(rig.pose(pose)?.target(servo.kind, name)?.get());
            Along::Row(goal.poses().iter().map(at).collect::<Option<_>>()?)
        }
    };
    let failsafe = mapping.failsafe.as_ref().and_then(|failsafe| {
        let pose = || rig.pose(failsafe.pose.as_ref()?)?.target(servo.kind, name);
        let level = || failsafe.level_percent.map(|level| Degrees::new(level.get()));
        let angle = failsafe.angle_deg.or_else(level).or_else(pose)?;
        Some(Lost::To(scale.pulse_at(angle), failsafe.over_s.get()))
    });
    let lost = failsafe.unwrap_or(match mapping.when_lost.unwrap_or(rig.rig.when_lost) {
        WhenLost::Stay => Lost::Stay,
        WhenLost::Release => Lost::Release,
        WhenLost::Home => Lost::Home,
    });
    Some(Follow { mapping: place, along, lost, take: mapping.take })
}

fn input_plan(rig: Parts<'_>, input: &Input) -> Option<InputPlan> {
    let Ends { low, high } = input.ends;
    let switch = input.switch.as_ref().and_then(crate::rig::Switch::works);
    let span = match (&switch, input.centre) {
        _ if input.unit.is_some() => Span::Own { low, high },
        (Some(switch), _) => Span::OneEnded { low: 0.0, high: switch.last() },
        (None, Some(centre)) => Span::TwoSided { low, centre, high },
        (None, None) => Span::OneEnded { low, high },
    };
    let curve = if input.curve.is_empty() {
        shape::Curve::Expo(input.expo)
    } else {
        shape::Curve::Points(input.curve.clone())
    };
    let milliseconds = |ms: f64| Duration::try_from_secs_f64(ms / 1e3).unwrap_or_default();
    Some(InputPlan {
        id: input.id,
        link: rig.index.links.named(&input.link)?,
        channel: input.channel.as_str().into(),
        ends: (low, high),
        unit: input.unit,
        switch,
        shape: Shape {
            span,
            trim: input.trim,
            deadband: input.deadband,
            curve,
            smoothing: milliseconds(input.smoothing_ms),
            rise: input.rise_per_s,
            fall: input.fall_per_s,
        },
    })
}
