//! The one list of commands, which act and are not undone, and of what the stage says back.
//!
//! Edits, which change the rig and are undone, stand in `rig::edit`.

use super::exercise::Exercise;
use super::player::{Among, Given, Told};
use super::{Plan, Wire};
use crate::guard::Stopped;
use crate::link::Health;
use crate::rig::{Back, Does, InputId, LinkId, SequenceId, ServoId, Wave, WaveShape};
use crate::unit::{Position, Seconds, Ticks, exactly};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// What may be asked of the stage. Parts are named by their ids; the stage itself knows them by their places.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Command<Servo = ServoId, Input = InputId, Sequence = SequenceId> {
    /// Drop everything until re-enabled.
    Cut,
    /// Keep the last pulses.
    Hold,
    /// Go on after a hold, or re-enable after a cut.
    Drive,
    /// Give a servo its first pulse; the hand has it then.
    Engage {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// The pulse, in µs or counts.
        #[serde(serialize_with = "exactly")]
        pulse: Position,
        /// Whether the maker said that the horn stands there already.
        #[serde(alias = "told")]
        stands_there: bool,
    },
    /// Stop a servo's pulses.
    Release {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// Nudge a servo; the hand has it then.
    Jog {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// How far from where it stands, in µs or counts; negative is towards less.
        #[serde(serialize_with = "exactly")]
        by: Position,
        /// From a key that is being held.
        repeat: bool,
    },
    /// Glide to a pulse; the hand has it then.
    GoTo {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// The pulse to go to, in µs or counts.
        #[serde(serialize_with = "exactly")]
        pulse: Position,
    },
    /// Move a servo a little to and fro around where it is, to see which it is; then as before.
    Wiggle {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// A servo goes slower than it may, until told otherwise: it ails.
    Ease {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// By how much, in percent of its speed: 0 to 90.
        percent: u8,
    },
    /// What hangs on the channel gets no pulses, whatever is sent: when it does it must see its neutral first.
    Disarm {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// Its pulses arrive from now on: the time that it must see its neutral begins.
    Arm {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// What is known of the way to a servo.
    Wire {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// What its board has said.
        said: Said,
    },
    /// Jog by an input's knob, between two pulses: from where both stand, so that nothing jumps.
    Knob {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// Which input, by its id in the rig.
        input: Input,
        /// The pulse at the knob's one end.
        #[serde(serialize_with = "exactly")]
        low: Position,
        /// The pulse at its other end.
        #[serde(serialize_with = "exactly")]
        high: Position,
    },
    /// Go to and fro; the hand has it then.
    Exercise {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// Over what, how fast, how often.
        what: Exercise,
    },
    /// End a wiggle, an exercise or a knob's turn where it stands.
    StandStill {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// Shift where a continuous servo stands still, until the program ends.
    Trim {
        /// Which servo, by its id in the rig.
        servo: Servo,
        /// How far from where it stands, in µs or counts; negative is towards less.
        #[serde(serialize_with = "exactly")]
        by: Position,
    },
    /// The hand lets go.
    GiveBack {
        /// Which servo, by its id in the rig.
        servo: Servo,
    },
    /// Play from the start, or go on after a pause.
    Play {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
    },
    /// Stand still within the sequence.
    Pause,
    /// Stand at a time of a sequence.
    Seek {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
        /// How far into the sequence, from its beginning.
        at: Duration,
    },
    /// Leave every sequence.
    StopPlaying,
    /// Play from a place, with parameters; on after a pause where no place is said.
    PlayFrom {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
        /// The time on its line.
        at: Option<Duration>,
        /// What its parameters are.
        given: Given,
        /// Only to the end of the step there.
        one_step: bool,
    },
    /// Stand still within one sequence; others go on.
    PauseOne {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
    },
    /// Leave one sequence; others go on.
    StopOne {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
    },
    /// Play no loop of a sequence again: it goes on to its end.
    FinishLoop {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
    },
    /// Play everything so fast; 100 is as written.
    Tempo {
        /// How fast everything plays, in percent of what is written.
        percent: f64,
    },
    /// Which of its joints a sequence moves.
    Among {
        /// Which sequence, by its id in the rig.
        sequence: Sequence,
        /// Which of its joints it may move.
        among: Among,
    },
    /// A key was pressed that a sequence may wait for.
    Key {
        /// The key that was pressed, a letter or a sign.
        key: char,
    },
    /// Let an input read as if something were moved, whatever its link says, until that is taken off again.
    AsIf {
        /// Which input, by its id in the rig.
        input: Input,
        /// What stands in; none for what its link says.
        by: Option<AsIf>,
    },
}

/// What stands in for an input for a while, over its own span.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum AsIf {
    /// It stands at a share of its span, 0–1, as a hand has put it.
    Hand(f64),
    /// It moves along a wave over all of its span.
    Wave {
        /// How the wave runs between its ends.
        shape: WaveShape,
        /// The time of one round, in seconds.
        period_s: f64,
    },
    /// It stands where another input stands in its own span: a keyboard's fader, for one.
    Like(InputId),
}

impl AsIf {
    /// Whether it is something that can be, for an input with that id.
    pub fn is_sound(&self, input: InputId) -> bool {
        match self {
            Self::Hand(share) => (0.0..=1.0).contains(share),
            Self::Wave { period_s, .. } => crate::range::PERIOD.holds(*period_s),
            Self::Like(other) => *other != input,
        }
    }

    /// The share of the span at a time; `like` tells where another input stands in its own, if that is heard.
    pub fn share(&self, now: Duration, like: impl FnOnce(InputId) -> Option<f64>) -> Option<f64> {
        match *self {
            Self::Hand(share) => Some(share),
            Self::Wave { shape, period_s } => {
                let period_s = Seconds::new(period_s);
                Some(Wave { shape, period_s, low: 0.0, high: 1.0, ..Wave::USUAL }.at(now))
            }
            Self::Like(other) => like(other),
        }
    }
}

/// A command whose parts are named by their places in the plan.
pub type Placed = Command<usize, usize, usize>;

impl<S: Copy, I: Copy, Q: Copy> Command<S, I, Q> {
    /// The same with its parts named otherwise; none when one of them has no such name.
    pub fn renamed<T, J, R>(
        self,
        servo_of: impl Fn(S) -> Option<T>,
        input_of: impl Fn(I) -> Option<J>,
        sequence_of: impl Fn(Q) -> Option<R>,
    ) -> Option<Command<T, J, R>> {
        Some(match self {
            Self::Cut => Command::Cut,
            Self::Hold => Command::Hold,
            Self::Drive => Command::Drive,
            Self::Engage { servo, pulse, stands_there } => {
                Command::Engage { servo: servo_of(servo)?, pulse, stands_there }
            }
            Self::Release { servo } => Command::Release { servo: servo_of(servo)? },
            Self::Jog { servo, by, repeat } => Command::Jog { servo: servo_of(servo)?, by, repeat },
            Self::GoTo { servo, pulse } => Command::GoTo { servo: servo_of(servo)?, pulse },
            Self::Wiggle { servo } => Command::Wiggle { servo: servo_of(servo)? },
            Self::Ease { servo, percent } => Command::Ease { servo: servo_of(servo)?, percent },
            Self::Disarm { servo } => Command::Disarm { servo: servo_of(servo)? },
            Self::Arm { servo } => Command::Arm { servo: servo_of(servo)? },
            Self::Wire { servo, said } => Command::Wire { servo: servo_of(servo)?, said },
            Self::Knob { servo, input, low, high } => {
                Command::Knob { servo: servo_of(servo)?, input: input_of(input)?, low, high }
            }
            Self::Exercise { servo, what } => Command::Exercise { servo: servo_of(servo)?, what },
            Self::StandStill { servo } => Command::StandStill { servo: servo_of(servo)? },
            Self::Trim { servo, by } => Command::Trim { servo: servo_of(servo)?, by },
            Self::GiveBack { servo } => Command::GiveBack { servo: servo_of(servo)? },
            Self::Play { sequence } => Command::Play { sequence: sequence_of(sequence)? },
            Self::Pause => Command::Pause,
            Self::Seek { sequence, at } => Command::Seek { sequence: sequence_of(sequence)?, at },
            Self::StopPlaying => Command::StopPlaying,
            Self::PlayFrom { sequence, at, given, one_step } => {
                Command::PlayFrom { sequence: sequence_of(sequence)?, at, given, one_step }
            }
            Self::PauseOne { sequence } => Command::PauseOne { sequence: sequence_of(sequence)? },
            Self::StopOne { sequence } => Command::StopOne { sequence: sequence_of(sequence)? },
            Self::FinishLoop { sequence } => Command::FinishLoop { sequence: sequence_of(sequence)? },
            Self::Tempo { percent } => Command::Tempo { percent },
            Self::Among { sequence, among } => Command::Among { sequence: sequence_of(sequence)?, among },
            Self::Key { key } => Command::Key { key },
            Self::AsIf { input, by } => Command::AsIf { input: input_of(input)?, by },
        })
    }
}

impl Command {
    /// The same for the parts of a plan; none when it is about one that is not there any more.
    pub fn placed(self, plan: &Plan) -> Option<Placed> {
        self.renamed(
            |servo| plan.servo_place(servo),
            |input| plan.input_place(input),
            |sequence| plan.sequence_place(sequence),
        )
    }
}

impl Placed {
    /// The same by the ids that the parts have in a plan; none when there are not so many.
    pub fn named(self, plan: &Plan) -> Option<Command> {
        self.renamed(
            |n| plan.servos.get(n).map(|servo| servo.id),
            |n| plan.inputs.get(n).map(|input| input.id),
            |n| plan.programs.get(n).map(|program| program.id),
        )
    }
}

/// What a board says of one of its channels.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Said {
    /// It does as it is told, and the channel has no pulse yet.
    Waits,
    /// The board is out of reach, or not started.
    Away,
    /// The board has said that this channel cannot do what it is to do.
    Cannot,
    /// These ticks stand on the wire.
    Arrives {
        /// Read back where the board had been out of reach.
        ticks: Ticks,
    },
    /// The board is back, and the channel's pulses had stopped.
    Stopped {
        /// What it was told last.
        told: Ticks,
        /// The supply of what hangs on it may have fallen too.
        fallen: bool,
    },
}

impl Said {
    /// What that makes of the way to the servo.
    pub const fn wire(self) -> Wire {
        match self {
            Self::Waits | Self::Stopped { .. } => Wire::Waits,
            Self::Away => Wire::Away,
            Self::Cannot => Wire::Cannot,
            Self::Arrives { .. } => Wire::Arrives,
        }
    }
}

/// Why a command was not carried out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// The servo gets no pulses.
    NotEngaged,
    /// The output is cut.
    Cut,
    /// The output is held.
    Held,
    /// It has not seen its neutral for long enough yet.
    Arming,
    /// Its board cannot be reached.
    Away,
    /// Its channel cannot drive it.
    Cannot,
    /// It turns a joint together with others, and one of them has no angles.
    NoMarks,
}

impl Refusal {
    /// Why, and what to do.
    pub const fn words(self) -> &'static str {
        match self {
            Self::NotEngaged => "gets no pulses, so it cannot move: engage it with ‹engage›",
            Self::Cut => "output is cut: ‹drive on› enables it again",
            Self::Held => "output is held: ‹drive on› drives on",
            Self::Arming => "is arming: it follows once it has seen its neutral for long enough",
            Self::Away => "is out of reach: its board does not answer",
            Self::Cannot => {
                "is plugged where its board cannot drive it: ‹move servo› moves it to a pin that can"
            }
            Self::NoMarks => {
                "turns its joint together with another, and one of the two has no marks: release the other one, \
                 then keep two marks of each"
            }
        }
    }
}

/// What happened in a beat that is worth a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventKind {
    /// A command was not carried out.
    Refused(Refusal),
    /// A movement ran into something.
    Stopped(Stopped),
    /// A servo got its first pulse.
    Engaged,
    /// A servo's pulses stopped.
    Released,
    /// They stopped because the hand has left it alone for long.
    IdleReleased,
    /// An exercise is over.
    Exercised,
    /// Everything was dropped.
    Cut,
    /// The last pulses stay.
    Held,
    /// Output was enabled again.
    Enabled,
    /// A sequence begins, waits, goes on or is over.
    Sequence {
        /// What became of it.
        told: Told,
        /// Where on its line of time.
        at: Duration,
    },
    /// A sequence does not start: another one that plays moves a joint of it too.
    Shares {
        /// The other one.
        with: SequenceId,
    },
    /// A sequence does not start: as many play as may.
    TooMany,
    /// The health of a link changed.
    Link(Health),
    /// A target was not a number.
    NotANumber,
    /// The board of a servo is back, and its pulses had stopped: what becomes of it.
    Interrupted(Back),
    /// The board of a servo is back, and its pulses had gone on.
    Resumed,
    /// A switch came to a position, from 0, at which something is done.
    Pressed {
        /// Which position of the switch, from 0 at the low end.
        place: u8,
        /// What it asks for.
        does: Does,
        /// Whether that changed anything here: what holds already is not held again.
        done: bool,
    },
    /// An input reads as if something were moved, or as what its link says again.
    AsIf(bool),
    /// A servo's pulses stopped because a link of what moves it is lost.
    LostReleased,
    /// An edit has left a servo where it may not stand: it glides to the nearest place where it may.
    Displaced,
}

impl EventKind {
    /// Whether it is the end of a sequence.
    pub const fn is_end(self) -> bool {
        matches!(self, Self::Sequence { told: Told::Ended, .. })
    }
}

/// What an event is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum About {
    /// All of the output, or the playing sequence.
    Output,
    /// What it says is about a servo.
    Servo(ServoId),
    /// What it says is about a link.
    Link(LinkId),
    /// What it says is about an input.
    Input(InputId),
    /// A sequence, and one of the servos that it moves.
    Sequence(SequenceId, Option<ServoId>),
}

impl About {
    /// The servo, where it is about one.
    pub const fn servo(self) -> Option<ServoId> {
        match self {
            Self::Servo(servo) => Some(servo),
            Self::Sequence(_, servo) => servo,
            Self::Output | Self::Link(_) | Self::Input(_) => None,
        }
    }
}

/// What happened, when, and to what.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Event {
    /// When it happened, in stage time.
    pub at: Duration,
    /// The kind of event.
    pub kind: EventKind,
    /// What it happened to.
    pub about: About,
}
