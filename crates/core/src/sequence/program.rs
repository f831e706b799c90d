//! What a program consists of, and what happens between its moves.

use super::At;
use super::compile::Mover;
use super::short::Short;
use super::track::{Segment, Track, Variant};
use crate::rig::{AtEnd, Layer, SequenceId, Test};
use crate::unit::Degrees;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

/// How deep loops may stand in each other, with those of what is played.
pub const LOOPS: usize = 12;

/// How often each loop around a place has been played already, the outermost first.
pub type Counts = [u32; LOOPS];

/// When a step happens, in seconds from the start.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct StepTime {
    /// Its move begins.
    pub starts: f64,
    /// How long it moves.
    pub moves: f64,
    /// How long it then stands.
    pub dwells: f64,
}

impl StepTime {
    /// Its move is over.
    pub fn arrives(&self) -> f64 {
        self.starts + self.moves
    }

    /// It is over.
    pub fn ends(&self) -> f64 {
        self.arrives() + self.dwells
    }
}

/// A step that goes to a pose, laid out in line: of the sequence itself, or of one that it plays.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FlatStep {
    /// The sequence that it is written in, by its place in the rig.
    pub sequence: usize,
    /// Its place there.
    pub step: usize,
    /// How deep the calls are that led to it; 0 in the sequence itself.
    pub depth: u8,
    /// Its move begins.
    pub starts: At,
    /// How long it moves.
    pub moves: At,
    /// How long it stands then.
    pub dwells: At,
    /// How much faster it plays than it is written.
    pub tempo: f64,
}

impl FlatStep {
    /// Its move is over.
    pub fn arrives(&self) -> At {
        self.starts + self.moves
    }

    /// It is over.
    pub fn ends(&self) -> At {
        self.arrives() + self.dwells
    }

    /// The same in seconds.
    pub fn time(&self) -> StepTime {
        StepTime { starts: self.starts.seconds(), moves: self.moves.seconds(), dwells: self.dwells.seconds() }
    }
}

/// What happens at a place on the line.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Op {
    /// The place; behind it is the next one.
    pub at: At,
    /// The step before which it stands, laid out in line.
    pub(super) before: u32,
    /// The sequence that it is written in, and its step there, by their places.
    pub of: (usize, usize),
    /// How deep the calls are that led to it.
    pub depth: u8,
    /// What it is.
    pub kind: OpKind,
}

/// Kinds of what happens.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum OpKind {
    /// Something is waited for.
    Wait {
        /// What, by its place among the program's.
        what: usize,
        /// How long at most.
        at_most: Option<Duration>,
        /// Where it goes on then; behind it by default.
        then: Option<Jump>,
    },
    /// A loop begins.
    Begin {
        /// How deep it is.
        slot: u8,
        /// How often it is played.
        rounds: Rounds,
        /// Its end, among what happens.
        end: u32,
    },
    /// A round of a loop is over.
    Repeat {
        /// How deep it is.
        slot: u8,
        /// How often it is played.
        rounds: Rounds,
        /// What ends it, by its place among the program's.
        until: Option<usize>,
        /// Its beginning, among what happens.
        begin: u32,
    },
}

/// How often a loop is played.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rounds {
    /// Again and again, until it is told to finish.
    Forever,
    /// So many times, from 1.
    Fixed(u32),
    /// As often as a parameter says that whoever plays the program gives, by its place.
    Given(u8),
}

impl Rounds {
    /// How often; none without end.
    pub fn count(self, given: &[u16]) -> Option<u32> {
        match self {
            Self::Forever => None,
            Self::Fixed(count) => Some(count),
            Self::Given(place) => Some(u32::from(given.get(usize::from(place)).copied().unwrap_or(1))),
        }
    }
}

/// Where it goes on elsewhere.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Jump {
    /// Where it stands in the sequence's time.
    pub at: At,
    /// What happens next there.
    pub op: u32,
    /// The step that is next there, laid out in line.
    pub(super) before: u32,
    /// How many of the loops around it go on being counted; others begin anew.
    pub keeps: u8,
}

/// Something that is waited for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Waited {
    /// An input, by its place.
    Input {
        /// Which input, by its place in the rig, from 0.
        input: usize,
        /// What it is to be.
        test: Test,
        /// How long it must be true without a break.
        held: Duration,
    },
    /// All joints that the program moves are where they are told to be.
    Arrived {
        /// So near, in degrees.
        within: f64,
        /// How long it must be true without a break.
        held: Duration,
    },
    /// The key is pressed, a letter or a sign.
    Key(char),
}

impl Waited {
    /// It is about what the step before it has brought about, so that it can be told only after that.
    pub const fn is_of_the_step(&self) -> bool {
        matches!(self, Self::Arrived { .. })
    }
}

/// A sequence, laid out in line.
#[derive(Debug, Clone)]
pub struct Program {
    /// The sequence's id.
    pub id: SequenceId,
    /// How it combines with others.
    pub layer: Layer,
    /// The most that it adds to an angle, where it is added to others.
    pub at_most: f64,
    /// What becomes of its joints at the end.
    pub at_end: AtEnd,
    /// The time that its joints are to take to where it begins, in seconds.
    pub lead_in: Option<f64>,
    /// What its parameters are where nobody gives others, in the order of their names.
    pub given: Box<[u16]>,
    /// Its steps that go to poses, with those of what it plays.
    pub steps: Vec<FlatStep>,
    /// Of each step as written, the first of `steps` and the one behind its last; none of those for a wait.
    pub(super) spans: Vec<(u32, u32)>,
    /// Of each step as written, the first of `ops` that stands before or in it.
    pub(super) enters: Vec<u32>,
    /// What happens between moves, in order.
    pub ops: Vec<Op>,
    /// What is waited for.
    pub waits: Vec<Waited>,
    /// It is over.
    pub end: At,
    /// Its joints are at its end where they are at its beginning.
    pub(super) seamless: bool,
    /// The joints that it moves, by their servos.
    pub tracks: Vec<Track>,
    pub(super) segments: Vec<Segment>,
    pub(super) variants: Vec<Variant>,
    /// What is known of everything that might be moved, by servo index.
    pub(super) movers: Arc<[Mover]>,
    /// Found once, by whoever asks first.
    pub(super) shorts: OnceLock<Vec<Short>>,
}

impl PartialEq for Program {
    fn eq(&self, other: &Self) -> bool {
        let all = |of: &Self| (of.id, of.layer, of.at_most, of.at_end, of.lead_in, of.end);
        all(self) == all(other)
            && self.given == other.given
            && self.steps == other.steps
            && (&self.spans, &self.ops, &self.waits) == (&other.spans, &other.ops, &other.waits)
            && (&self.tracks, &self.segments, &self.variants)
                == (&other.tracks, &other.segments, &other.variants)
    }
}

impl Program {
    /// Its length in seconds, each loop played once and nothing waited for.
    pub fn length(&self) -> f64 {
        self.end.seconds()
    }

    /// The track of a servo, by its index.
    pub fn track_of(&self, servo: usize) -> Option<&Track> {
        self.tracks.get(self.track_place(servo)?)
    }

    /// The place of the track of a servo.
    pub fn track_place(&self, servo: usize) -> Option<usize> {
        self.tracks.binary_search_by_key(&servo, |track| track.servo).ok()
    }

    /// Where a joint is at a place in the first round of every loop, by its servo's index.
    pub fn first_at(&self, servo: usize, t: At) -> Option<Degrees> {
        Some(self.at(self.track_of(servo)?, t, &[0; LOOPS], &mut 0))
    }

    /// When a step as written happens; a call with all that it plays, a wait at no time.
    pub fn step(&self, index: usize) -> Option<StepTime> {
        let &(first, end) = self.spans.get(index)?;
        let (first, end) = (usize::try_from(first).ok()?, usize::try_from(end).ok()?);
        match self.steps.get(first..end)? {
            [] => Some(StepTime { starts: self.enters_at(index).seconds(), ..StepTime::default() }),
            [only] if only.depth == 0 => Some(only.time()),
            [first, .., last] => {
                let starts = first.starts.seconds();
                Some(StepTime { starts, moves: last.ends().seconds() - starts, dwells: 0.0 })
            }
            [only] => {
                let moves = (only.ends() - only.starts).seconds();
                Some(StepTime { starts: only.starts.seconds(), moves, dwells: 0.0 })
            }
        }
    }

    /// The steps that a step as written is laid out as.
    pub fn laid_out(&self, index: usize) -> &[FlatStep] {
        let Some(&(first, end)) = self.spans.get(index) else { return &[] };
        let place = |n: u32| usize::try_from(n).unwrap_or(usize::MAX);
        self.steps.get(place(first)..place(end)).unwrap_or(&[])
    }

    /// Where a step as written is entered: before what happens there.
    pub fn enters_at(&self, index: usize) -> At {
        let op = self.enters.get(index).and_then(|op| self.ops.get(usize::try_from(*op).ok()?));
        let step = self.spans.get(index).and_then(|span| usize::try_from(span.0).ok());
        let step = step.and_then(|step| self.steps.get(step));
        match (op, step) {
            (Some(op), Some(step)) if op.at < step.starts => op.at,
            (Some(op), None) => op.at,
            (_, Some(step)) => step.starts,
            (None, None) => self.end,
        }
    }

    /// The step as written that is under way at a place; the last one from its end on.
    pub fn step_at(&self, t: At) -> usize {
        (0..self.spans.len()).rev().find(|n| self.enters_at(*n) <= t).unwrap_or(0)
    }

    /// The step under way at a place, laid out in line; the last one from its end on.
    pub fn flat_at(&self, t: At) -> Option<&FlatStep> {
        let n = self.steps.partition_point(|step| step.starts <= t).max(1) - 1;
        self.steps.get(n)
    }

    /// What happens next from a place on.
    pub fn next_op(&self, t: At) -> usize {
        self.ops.partition_point(|op| op.at < t)
    }

    /// The greatest speed of a joint, and whether that is known; assumed where it is not.
    pub fn speed_of(&self, servo: usize) -> (f64, bool) {
        self.movers.get(servo).map_or((super::UNRATED_SPEED.get(), false), |mover| (mover.speed, mover.known))
    }

    /// The bytes that its moves take, and how many there are.
    pub fn room(&self) -> (usize, usize) {
        let bytes = self.segments.capacity() * size_of::<Segment>()
            + self.variants.capacity() * size_of::<Variant>()
            + self.steps.capacity() * size_of::<FlatStep>();
        (bytes, self.segments.len())
    }
    /// Whether its joints are at its end where they are at its beginning, so that it can go on from there at once.
    pub const fn is_seamless(&self) -> bool {
        self.seamless
    }
}
