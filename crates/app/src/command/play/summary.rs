//! What is said of a show: what was found before it ran, and how it went.

use schemars::JsonSchema;
use serde::Serialize;
use wasvolta_core::review::{Load, Review};
use wasvolta_core::rig::{Rig, SequenceId};
use wasvolta_core::sequence::Lasts;
use wasvolta_core::stage::Plan;

/// What `play --json` says.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// `dry`, `played`, `stopped`, `lost` where a board was, or `failed`.
    how: &'static str,
    /// How long it has played, in its own time.
    played_s: f64,
    /// How long that took to compute, of a dry run.
    #[serde(skip_serializing_if = "Option::is_none")]
    took_s: Option<f64>,
    /// How fast, beside what is written.
    tempo_percent: f64,
    /// How often it was played, 1 or more.
    times: u32,
    /// What was found of each sequence before it ran.
    sequences: Vec<OneSequence>,
}

/// How a show went.
#[derive(Debug, Clone, Copy)]
pub enum Played {
    /// In virtual time.
    Dry {
        /// How long it plays.
        seconds: f64,
        /// How long that took.
        took: f64,
    },
    Driven {
        /// How it ended.
        how: &'static str,
        /// How long it played.
        seconds: f64,
    },
}

/// A sequence, looked at before it runs.
#[derive(Serialize, JsonSchema)]
pub struct OneSequence {
    /// The name of the sequence.
    name: String,
    /// How long it plays, with all rounds of its loops; none where it plays until it is stopped.
    length_s: Option<f64>,
    /// Whether it waits for something that may take longer.
    waits: bool,
    /// Steps that are too short, with the time that each needs.
    short_steps: Vec<OneShort>,
    /// Angles that limits or endpoints hold back.
    limits_met: Vec<OneMet>,
    /// The greatest speed and acceleration of each joint.
    peaks: Vec<OnePeak>,
    /// Moves of less than a tick, or less than the play of the gears.
    too_fine: Vec<OneFine>,
    /// What each rail must give. Estimated from the sheets.
    rails: Vec<OneRail>,
}

/// A step that is too short.
#[derive(Serialize, JsonSchema)]
struct OneShort {
    /// The sequence that it is written in.
    sequence: String,
    /// The step, from 1.
    step: usize,
    /// The servo that is too slow.
    servo: String,
    /// The move time that it needs.
    needs_s: f64,
    /// Nobody has said how fast the servo is: 100 °/s are assumed.
    speed_assumed: bool,
}

/// An angle that is not reached.
#[derive(Serialize, JsonSchema)]
struct OneMet {
    /// The sequence that the step is written in.
    sequence: String,
    /// The step, from 1.
    step: usize,
    /// The name of the servo.
    servo: String,
    /// What is asked for.
    asked_deg: f64,
    /// Where it ends.
    gets_deg: f64,
}

/// How fast and hard a joint goes.
#[derive(Serialize, JsonSchema)]
struct OnePeak {
    /// The name of the servo.
    servo: String,
    /// Its greatest speed, in °/s or %/s.
    speed_per_s: f64,
    /// When the move begins that has it.
    at_s: f64,
    /// Its greatest acceleration, in °/s²; none where a speed jumps.
    acceleration_per_s2: Option<f64>,
}

/// A move that nobody will see.
#[derive(Serialize, JsonSchema)]
struct OneFine {
    /// The sequence that the step is written in.
    sequence: String,
    /// The step, from 1.
    step: usize,
    /// The name of the servo.
    servo: String,
    /// How far it goes.
    moves_deg: f64,
    /// What it must be to be seen.
    least_deg: f64,
}

/// What a rail must give.
#[derive(Serialize, JsonSchema)]
struct OneRail {
    /// The name of the rail.
    name: String,
    /// While nothing of the sequence moves.
    idle_a: f64,
    /// The greatest current, in amperes.
    peak_a: f64,
    /// When that is.
    peak_at_s: f64,
    /// What moves then.
    moving_then: Vec<String>,
    /// The most while its servos get their first pulses, 80 ms apart on each board: one that starts is taken to be
    /// stalled, those before it to stand.
    start_a: f64,
    /// What starts then.
    starting_then: Vec<String>,
    /// What the supply gives.
    supply_a: f64,
    /// What is not counted, because its current is not known.
    uncounted: Vec<String>,
}

/// To three decimals, as times are written.
fn rounded(value: f64) -> f64 {
    (value * 1e3).round() / 1e3
}

impl OneSequence {
    /// What was found of a sequence.
    pub fn of(rig: &Rig, name: &str, review: &Review) -> Self {
        let servo = |n: usize| rig.servos.get(n).map_or_else(String::new, |servo| servo.name.clone());
        let sequence = |n: usize| rig.sequences.get(n).map_or_else(String::new, |of| of.name.clone());
        let rail = |load: &Load| OneRail {
            name: rig.rails.get(load.rail).map_or_else(String::new, |rail| rail.name.clone()),
            idle_a: rounded(load.idle.get()),
            peak_a: rounded(load.peak.get()),
            peak_at_s: rounded(load.at.seconds()),
            moving_then: load.who.iter().map(|n| servo(*n)).collect(),
            start_a: rounded(load.start.peak.get()),
            starting_then: load.start.who.iter().map(|n| servo(*n)).collect(),
            supply_a: load.supply.get(),
            uncounted: load.uncounted.iter().map(|n| servo(*n)).collect(),
        };
        Self {
            name: name.to_owned(),
            length_s: match review.lasts {
                Lasts::Seconds(seconds) | Lasts::Waits(seconds) => Some(rounded(seconds)),
                Lasts::Forever => None,
            },
            waits: matches!(review.lasts, Lasts::Waits(_)),
            short_steps: review
                .shorts
                .iter()
                .map(|short| OneShort {
                    sequence: sequence(short.sequence),
                    step: short.step + 1,
                    servo: servo(short.servo),
                    needs_s: rounded(short.needs),
                    speed_assumed: short.assumed,
                })
                .collect(),
            limits_met: review
                .met
                .iter()
                .map(|met| OneMet {
                    sequence: sequence(met.sequence),
                    step: met.step + 1,
                    servo: servo(met.servo),
                    asked_deg: rounded(met.asked.get()),
                    gets_deg: rounded(met.gets.get()),
                })
                .collect(),
            peaks: review
                .peaks
                .iter()
                .map(|peak| OnePeak {
                    servo: servo(peak.servo),
                    speed_per_s: rounded(peak.speed),
                    at_s: rounded(peak.at.seconds()),
                    acceleration_per_s2: Some(rounded(peak.acceleration)).filter(|a| a.is_finite()),
                })
                .collect(),
            too_fine: review
                .fine
                .iter()
                .map(|fine| OneFine {
                    sequence: sequence(fine.sequence),
                    step: fine.step + 1,
                    servo: servo(fine.servo),
                    moves_deg: rounded(fine.moves.get()),
                    least_deg: rounded(fine.least.get()),
                })
                .collect(),
            rails: review.rails.iter().map(rail).collect(),
        }
    }
}

impl Report {
    /// What is said of a show.
    pub(super) fn of(
        rig: &Rig,
        plan: &Plan,
        (tempo_percent, times): (f64, u32),
        found: &[(SequenceId, Review)],
        played: Played,
    ) -> Self {
        let one = |(id, review): &(SequenceId, Review)| {
            let name = plan.sequence_place(*id).and_then(|place| rig.sequences.get(place));
            OneSequence::of(rig, name.map_or("", |sequence| sequence.name.as_str()), review)
        };
        let (how, seconds, took_s) = match played {
            Played::Dry { seconds, took } => ("dry", seconds, Some(took)),
            Played::Driven { how, seconds } => (how, seconds, None),
        };
        Self {
            how,
            played_s: rounded(seconds),
            took_s,
            tempo_percent,
            times,
            sequences: found.iter().map(one).collect(),
        }
    }
}

/// Something worth a word.
pub struct Line {
    pub words: String,
    /// What to do.
    pub help: &'static str,
}

impl std::fmt::Display for Line {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.words)
    }
}

/// What is worth a word, a line each.
pub fn lines(rig: &Rig, review: &Review) -> Vec<Line> {
    let servo = |n: usize| rig.servos.get(n).map_or("", |servo| servo.name.as_str());
    let step = |sequence: usize, step: usize| {
        format!("step {} of {}", step + 1, rig.sequences.get(sequence).map_or("", |of| of.name.as_str()))
    };
    let mut lines = Vec::new();
    for short in &review.shorts {
        let speed = if short.assumed { "; its speed is not known: assumed 100 °/s" } else { "" };
        lines.push(Line {
            words: format!(
                "{} is short: {} needs {:.3} s{speed}",
                step(short.sequence, short.step),
                servo(short.servo),
                short.needs
            ),
            help: "give the step that time: ‹stretch› in Sequence does that",
        });
    }
    for met in &review.met {
        lines.push(Line {
            words: format!(
                "{} asks {} for {:+.1}°, and it ends at {:+.1}°",
                step(met.sequence, met.step),
                servo(met.servo),
                met.asked.get(),
                met.gets.get()
            ),
            help: "change the angle, or widen the joint's limits and endpoints",
        });
    }
    for fine in &review.fine {
        let what = if fine.slack { "its gears have a play of" } else { "a tick is" };
        lines.push(Line {
            words: format!(
                "{} moves {} by {:.2}°, and {what} {:.2}°: too little to see",
                step(fine.sequence, fine.step),
                servo(fine.servo),
                fine.moves.get(),
                fine.least.get()
            ),
            help: "make the move larger, or leave the joint out of the pose",
        });
    }
    for load in review.rails.iter().filter(|load| load.is_tight()) {
        let rail = rig.rails.get(load.rail).map_or("", |rail| rail.name.as_str());
        lines.push(Line {
            words: format!("{rail} must give {}, and has {:.1} A", load.worst(rig), load.supply.get()),
            help: if load.starts_hardest() {
                "give the rail a stronger supply"
            } else {
                "let fewer joints move at once, or give the rail a stronger supply"
            },
        });
    }
    lines
}
