//! `list`: what is in a rig, a line each, for people and for shells that complete names.

use crate::cli::{List, Listed};
use crate::exit::Exit;
use crate::files;
use crate::say::{self, counted};
use schemars::JsonSchema;
use serde::Serialize;
use std::process::ExitCode;
use wasvolta_core::rig::{Ends, Input, Pose, Rig, Sequence, Servo};
use wasvolta_core::stage::Plan;

/// What `list --json` says: of each kind that was asked for, everything in the order of the rig.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Servos, and whatever else hangs on a channel.
    #[serde(skip_serializing_if = "Option::is_none")]
    servos: Option<Vec<OneServo>>,
    /// The poses, where they were asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    poses: Option<Vec<OnePose>>,
    /// The sequences, where they were asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    sequences: Option<Vec<OneSequence>>,
    /// The inputs, where they were asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    inputs: Option<Vec<OneInput>>,
}

/// A servo, or what else hangs on a channel.
#[derive(Serialize, JsonSchema)]
struct OneServo {
    /// The name of the servo.
    name: String,
    /// `positional`, `continuous`, `smart`, `dimmer` or `on-off`.
    kind: &'static str,
    /// The name of its board.
    board: String,
    /// Its channel there.
    #[serde(skip_serializing_if = "Option::is_none")]
    channel: Option<u8>,
    /// Its id there, of a smart servo.
    #[serde(skip_serializing_if = "Option::is_none")]
    id: Option<u8>,
    /// Its plug, as it is said.
    #[serde(skip)]
    plug: String,
    /// The joint that it turns.
    #[serde(skip_serializing_if = "Option::is_none")]
    joint: Option<String>,
    /// The pulses that hold whatever asks, low and high; of what takes servo pulses.
    #[serde(skip_serializing_if = "Option::is_none")]
    endpoints_us: Option<[f64; 2]>,
    /// The counts that hold whatever asks, low and high; of a smart servo.
    #[serde(skip_serializing_if = "Option::is_none")]
    endpoints_counts: Option<[f64; 2]>,
    /// How many marks it has.
    marks: usize,
    /// Whether its pulses have angles yet; of what goes to angles.
    #[serde(skip_serializing_if = "Option::is_none")]
    has_angles: Option<bool>,
}

/// A pose of the rig.
#[derive(Serialize, JsonSchema)]
struct OnePose {
    /// The name of the pose.
    name: String,
    /// Joints and parts that it speaks of.
    parts: usize,
}

/// A sequence of the rig.
#[derive(Serialize, JsonSchema)]
struct OneSequence {
    /// The name of the sequence.
    name: String,
    /// How many steps it has.
    steps: usize,
    /// How long it plays from home.
    length_s: f64,
}

/// A signal that comes in.
#[derive(Serialize, JsonSchema)]
struct OneInput {
    /// The name of the input.
    name: String,
    /// The link that carries it.
    link: String,
    /// Its channel there, by the name that the link's protocol gives it.
    channel: String,
    /// The joints that it drives.
    drives: Vec<String>,
}

/// Lists.
///
/// # Errors
/// When the rig cannot be used.
pub fn run(wanted: &List) -> miette::Result<ExitCode> {
    let source = files::open(&wanted.rig)?;
    let report = Report::of(source.rig(), wanted.what);
    if wanted.json {
        say::json(&report);
    } else {
        report.tell();
    }
    Ok(Exit::Done.into())
}

impl Report {
    fn of(rig: &Rig, what: Option<Listed>) -> Self {
        let asked = |kind| what.is_none_or(|what| what == kind);
        let plan = asked(Listed::Sequences).then(|| Plan::of(rig));
        let poses = || rig.poses.iter().map(OnePose::of).collect();
        let servos = || rig.servos.iter().map(|servo| OneServo::of(rig, servo)).collect();
        let inputs = || rig.inputs.iter().map(|input| OneInput::of(rig, input)).collect();
        let sequences = |plan: Plan| {
            let length = |n: usize| super::play::length(&plan, n);
            (0..).zip(&rig.sequences).map(|(n, sequence)| OneSequence::of(sequence, length(n))).collect()
        };
        Self {
            servos: asked(Listed::Servos).then(servos),
            poses: asked(Listed::Poses).then(poses),
            sequences: plan.map(sequences),
            inputs: asked(Listed::Inputs).then(inputs),
        }
    }

    fn tell(&self) {
        for OneServo { name, kind, plug, endpoints_us, endpoints_counts, marks, has_angles, .. } in
            self.servos.iter().flatten()
        {
            let pulses = endpoints_us.map(|[low, high]| format!(", {low} to {high} µs"));
            let counts = endpoints_counts.map(|[low, high]| format!(", {low} to {high} counts"));
            let ends = pulses.or(counts).unwrap_or_default();
            let known = match (endpoints_us.or(*endpoints_counts), has_angles) {
                (None, _) => String::new(),
                (Some(_), Some(false)) => format!(", {}, no angles yet", counted(*marks, "mark")),
                (Some(_), _) => format!(", {}", counted(*marks, "mark")),
            };
            say::line(format_args!("servo     {name:<20} {kind}, {plug}{ends}{known}"));
        }
        for OnePose { name, parts } in self.poses.iter().flatten() {
            say::line(format_args!("pose      {name:<20} {}", counted(*parts, "value")));
        }
        for OneSequence { name, steps, length_s } in self.sequences.iter().flatten() {
            say::line(format_args!(
                "sequence  {name:<20} {}, {length_s:.2} s from home",
                counted(*steps, "step")
            ));
        }
        for OneInput { name, link, channel, drives } in self.inputs.iter().flatten() {
            let drives = if drives.is_empty() { "nothing".to_owned() } else { drives.join(", ") };
            say::line(format_args!("input     {name:<20} {channel} of {link}, drives {drives}"));
        }
    }
}

impl OneServo {
    fn of(rig: &Rig, servo: &Servo) -> Self {
        let Ends { low, high } = servo.ends();
        let smart = servo.kind.is_smart();
        Self {
            name: servo.name.clone(),
            kind: servo.kind.word(),
            board: servo.board.clone(),
            channel: (!smart).then(|| servo.plug()),
            id: smart.then(|| servo.plug()),
            plug: rig.plug_words(&servo.board, servo.plug()),
            joint: rig.joint_of(&servo.name).map(|joint| joint.name.clone()),
            endpoints_us: (!smart && !servo.kind.is_accessory()).then(|| [low.get(), high.get()]),
            endpoints_counts: smart.then(|| [low.get(), high.get()]),
            marks: servo.marks.len(),
            has_angles: servo.kind.has_angles().then(|| servo.fit().is_ok()),
        }
    }
}

impl OnePose {
    fn of(pose: &Pose) -> Self {
        Self { name: pose.name.clone(), parts: pose.angles_deg.len() + pose.levels_percent.len() }
    }
}

impl OneSequence {
    fn of(sequence: &Sequence, length_s: f64) -> Self {
        Self { name: sequence.name.clone(), steps: sequence.steps.len(), length_s }
    }
}

impl OneInput {
    fn of(rig: &Rig, input: &Input) -> Self {
        let own = rig.mappings.iter().filter(|mapping| mapping.from.contains_key(&input.name));
        let drives = own.flat_map(|mapping| rig.moved_by(mapping)).map(str::to_owned);
        Self {
            name: input.name.clone(),
            link: input.link.clone(),
            channel: input.channel.clone(),
            drives: drives.collect(),
        }
    }
}
