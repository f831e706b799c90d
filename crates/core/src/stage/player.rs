//! A sequence being played: where on its line of time it is, and how often the loops around that have been played.
//!
//! A player is a small value that is copied. It knows no joint: those meet it as they meet any new owner, with a glide,
//! and it begins when they have.

use super::Waiting;
use crate::rig::{AtEnd, Layer, SequenceId, ServoId};
use crate::sequence::{At, Counts, Jump, LOOPS, Lasts, Onward, OpKind, Program, Rounds};
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// How many sequences may play at once.
pub const PLAYERS: usize = 8;
/// How many parameters a sequence may have.
pub const PARAMETERS: usize = 8;
/// How often it goes back in one beat: rounds that take no time wait for the next one.
const MOST_BACK: u32 = 64;

/// How playing stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Play {
    /// Nothing is played.
    #[default]
    Stopped,
    /// Its joints are on their way to where it goes on.
    Leading,
    /// Time goes on.
    Playing,
    /// Something is waited for.
    Waiting,
    /// It stands where it was, and may go on.
    Paused,
    /// It is over and its last pose is kept.
    Ended,
}

impl Play {
    /// Whether it goes on by itself.
    pub const fn goes_on(self) -> bool {
        matches!(self, Self::Leading | Self::Playing | Self::Waiting)
    }
}

/// Which of its joints a sequence moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Among {
    /// All of them.
    #[default]
    All,
    /// Only that of a servo; the others stay.
    Only(ServoId),
    /// All but that of a servo, which stays.
    Without(ServoId),
}

impl Among {
    /// Whether it moves the joint of a servo.
    pub fn moves(self, servo: ServoId) -> bool {
        match self {
            Self::All => true,
            Self::Only(only) => only == servo,
            Self::Without(other) => other != servo,
        }
    }
}

/// See the module.
#[expect(clippy::struct_excessive_bools, reason = "each is a fact of its own; no two of them make one state")]
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Player {
    /// How playing stands.
    pub play: Play,
    /// The sequence that is played, or was last.
    pub sequence: SequenceId,
    /// Where on its line of time it is.
    pub at: At,
    /// How often each loop around that has been played already.
    pub counts: Counts,
    /// What its parameters are.
    pub given: [u16; PARAMETERS],
    /// How much faster it plays than as written: 1 is as written.
    pub tempo: f64,
    /// It was started with output off: only the screen moves.
    pub screen_only: bool,
    /// Which of its joints it moves.
    pub among: Among,
    /// For how long it has waited.
    pub waited: Duration,
    /// No loop is played again.
    pub finishes: bool,
    /// Nothing is waited for, and what has no end is played once.
    pub rehearses: bool,
    /// Its place among the plan's programs.
    pub(super) place: usize,
    /// The next of what happens.
    op: usize,
    /// It stands when it comes here.
    stops_at: Option<At>,
    /// It goes on from this call: the time since the last one is not its own.
    fresh: bool,
    /// Which of several that play was begun last.
    pub(super) begun: u32,
}

impl Default for Player {
    fn default() -> Self {
        Self {
            play: Play::Stopped,
            sequence: SequenceId::default(),
            at: At::ZERO,
            counts: [0; LOOPS],
            given: [0; PARAMETERS],
            tempo: 1.0,
            screen_only: false,
            among: Among::All,
            waited: Duration::ZERO,
            finishes: false,
            rehearses: false,
            place: 0,
            op: 0,
            stops_at: None,
            fresh: false,
            begun: 0,
        }
    }
}

/// What a call has brought a player to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Brought {
    /// It begins again, and its joints are to be met there.
    pub again: bool,
    /// It has jumped, from this place in these rounds: its joints stay where they were.
    pub left: Option<(At, Counts)>,
    /// What is to be told of it.
    pub told: Option<Told>,
}

/// What is told of a sequence that plays.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    /// It begins, or goes on after a pause.
    Starts,
    /// It waits for something.
    Waits,
    /// What it waited for has come.
    GoesOn,
    /// What it waited for has not come in time.
    InVain,
    /// It is over.
    Ended,
}

/// What is written for a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Given {
    /// By their places; none for what the sequence says itself.
    pub values: [Option<u16>; PARAMETERS],
}

impl Player {
    /// A player of a program, at a place of it.
    pub(super) fn new(program: &Program, place: usize, at: At, given: &Given) -> Self {
        let mut player = Self { sequence: program.id, place, ..Self::default() };
        for (n, slot) in player.given.iter_mut().enumerate() {
            let usual = program.given.get(n).copied().unwrap_or(0);
            *slot = given.values.get(n).copied().flatten().unwrap_or(usual);
        }
        player.put(program, at);
        player
    }

    /// Puts it at a place, in the first round of every loop there.
    pub(super) fn put(&mut self, program: &Program, at: At) {
        self.at = at.min(program.end);
        self.op = program.next_op(self.at);
        self.counts = [0; LOOPS];
        self.waited = Duration::ZERO;
        self.stops_at = None;
    }

    /// It goes on from where it is, once its joints are there; up to the end of a step, if only that is played.
    pub(super) fn go(&mut self, program: &Program, one_step: bool) {
        self.play = if self.screen_only { Play::Playing } else { Play::Leading };
        self.fresh = true;
        self.finishes = false;
        // At the end of one the next is meant.
        let step = program.steps.iter().find(|step| step.ends() > self.at);
        self.stops_at = step.map(crate::sequence::FlatStep::ends).filter(|_| one_step);
    }

    pub(super) fn pause(&mut self) {
        if self.play.goes_on() {
            self.play = Play::Paused;
        }
    }

    /// What it waits for, among what happens in its program.
    pub fn waits_at<'p>(&self, program: &'p Program) -> Option<&'p crate::sequence::Op> {
        program.ops.get(self.op).filter(|_| self.play == Play::Waiting)
    }

    /// What is left of the longest that it waits; none where it waits as long as it takes.
    pub fn waits_yet(&self, program: &Program) -> Option<Duration> {
        match self.waits_at(program)?.kind {
            OpKind::Wait { at_most: Some(most), .. } => Some(most.saturating_sub(self.waited)),
            _ => None,
        }
    }

    /// How long it goes on from here, at 100 % of the tempo.
    pub fn lasts(&self, program: &Program) -> Lasts {
        program.lasts_from(&Onward {
            op: self.op,
            at: self.at,
            counts: &self.counts,
            given: &self.given,
            finishes: self.finishes,
        })
    }

    /// Moves on. `leads` says that joints of it are still on their way to where it is.
    pub(super) fn advance(
        &mut self,
        program: &Program,
        waiting: &[Waiting],
        dt: Duration,
        leads: bool,
    ) -> Brought {
        if !self.play.goes_on() || std::mem::take(&mut self.fresh) {
            return Brought::default();
        }
        match self.play {
            Play::Leading if leads => Brought::default(),
            Play::Waiting => self.wait(program, waiting, dt),
            _ => {
                self.play = Play::Playing;
                self.run(program, waiting, self.scaled(dt))
            }
        }
    }

    /// A time at the tempo that it has; at 100 % to the nanosecond.
    fn scaled(&self, dt: Duration) -> At {
        if self.tempo.to_bits() == 1f64.to_bits() {
            return At::of(dt);
        }
        At::seconds_in(dt.as_secs_f64() * self.tempo)
    }

    fn wait(&mut self, program: &Program, waiting: &[Waiting], dt: Duration) -> Brought {
        self.waited += dt;
        let Some(OpKind::Wait { what, at_most, then }) = program.ops.get(self.op).map(|op| op.kind) else {
            self.play = Play::Playing;
            return Brought::default();
        };
        let left = (self.at, self.counts);
        let mut jumped = None;
        let told = if waiting.get(what).is_some_and(|waiting| waiting.holds) {
            self.pass();
            Told::GoesOn
        } else if at_most.is_some_and(|most| self.waited >= most) {
            self.in_vain(program, then);
            jumped = then.map(|_| left);
            Told::InVain
        } else {
            return Brought::default();
        };
        self.play = Play::Playing;
        Brought { left: jumped, told: Some(told), ..Brought::default() }
    }

    /// What happens here is over.
    const fn pass(&mut self) {
        self.at = self.at.next();
        self.op += 1;
        self.waited = Duration::ZERO;
    }

    fn in_vain(&mut self, program: &Program, then: Option<Jump>) {
        self.waited = Duration::ZERO;
        match then {
            None => self.pass(),
            Some(jump) => {
                self.at = jump.at;
                self.op = usize::try_from(jump.op).unwrap_or(usize::MAX).min(program.ops.len());
                self.counts.iter_mut().skip(usize::from(jump.keeps)).for_each(|count| *count = 0);
            }
        }
    }

    /// Goes on for a time of the line, through all that happens there.
    fn run(&mut self, program: &Program, waiting: &[Waiting], mut left: At) -> Brought {
        let mut back = 0;
        loop {
            let next = program.ops.get(self.op);
            let limit = next.map_or(program.end, |op| op.at);
            if let Some(stop) = self.stops_at.filter(|stop| *stop <= limit && self.at + left >= *stop) {
                (self.at, self.play, self.stops_at) = (stop, Play::Paused, None);
                return Brought::default();
            }
            let room = limit - self.at;
            if left < room {
                self.at = self.at + left;
                return Brought::default();
            }
            (left, self.at) = (left - room, limit);
            let Some(op) = next else {
                if let Some(brought) = self.end(program) {
                    return brought;
                }
                back += 1;
                if back > MOST_BACK {
                    return Brought::default();
                }
                continue;
            };
            match op.kind {
                OpKind::Wait { what, at_most, then } => {
                    let told_now = program.waits.get(what).is_none_or(|waited| !waited.is_of_the_step());
                    let holds = told_now && waiting.get(what).is_some_and(|waiting| waiting.holds);
                    if self.rehearses || holds {
                        self.pass();
                    } else if at_most == Some(Duration::ZERO) {
                        let left = (self.at, self.counts);
                        self.in_vain(program, then);
                        if then.is_some() {
                            return Brought { left: Some(left), ..Brought::default() };
                        }
                    } else {
                        self.play = Play::Waiting;
                        return Brought { told: Some(Told::Waits), ..Brought::default() };
                    }
                }
                OpKind::Begin { slot, rounds, end } => {
                    if rounds.count(&self.given) == Some(0) {
                        // It is not played at all: its joints stay.
                        let left = (self.at, self.counts);
                        self.op = usize::try_from(end).unwrap_or(usize::MAX);
                        self.at = program.ops.get(self.op).map_or(program.end, |op| op.at);
                        self.pass();
                        return Brought { left: Some(left), ..Brought::default() };
                    }
                    self.count(slot, 0);
                    self.pass();
                }
                OpKind::Repeat { slot, rounds, until, begin } => {
                    let played = self.counts.get(usize::from(slot)).copied().unwrap_or(0).saturating_add(1);
                    let ends = until.and_then(|what| waiting.get(what)).is_some_and(|waiting| waiting.holds);
                    let endless = self.rehearses && rounds == Rounds::Forever;
                    if self.finishes
                        || endless
                        || ends
                        || rounds.count(&self.given).is_some_and(|most| played >= most)
                    {
                        self.count(slot, 0);
                        self.pass();
                    } else {
                        self.count(slot, played);
                        self.op = usize::try_from(begin).unwrap_or(usize::MAX);
                        self.at = program.ops.get(self.op).map_or(program.end, |op| op.at);
                        self.pass();
                        back += 1;
                        if back > MOST_BACK {
                            return Brought::default();
                        }
                    }
                }
            }
        }
    }

    fn count(&mut self, slot: u8, played: u32) {
        if let Some(count) = self.counts.get_mut(usize::from(slot)) {
            *count = played;
        }
    }

    /// It has come to its end; nothing where it goes on from its beginning at once.
    fn end(&mut self, program: &Program) -> Option<Brought> {
        if program.at_end == AtEnd::Again && !self.finishes && !self.rehearses {
            self.put(program, At::ZERO);
            if program.is_seamless() || self.screen_only {
                return None;
            }
            self.play = Play::Leading;
            return Some(Brought { again: true, ..Brought::default() });
        }
        let stays = program.at_end == AtEnd::Stay && program.layer == Layer::Beside;
        self.play = if stays || self.screen_only { Play::Ended } else { Play::Stopped };
        Some(Brought { told: Some(Told::Ended), ..Brought::default() })
    }

    /// Itself in a plan whose programs stand elsewhere or say something else. While its steps are as many as before it
    /// stays in the same step, at the same share of it.
    pub(super) fn carried(&self, before: &Program, program: &Program, place: usize) -> Self {
        let mut player = Self { place, ..*self };
        let n = before.steps.partition_point(|step| step.starts <= self.at).max(1) - 1;
        let at = match (before.steps.get(n), program.steps.get(n)) {
            (Some(old), Some(new))
                if before.steps.len() == program.steps.len() && before.ops.len() == program.ops.len() =>
            {
                let part = |t: At, from: At, old: At, new: At| {
                    let share = if old > At::ZERO { t.share(from, from + old) } else { 1.0 };
                    At::seconds_in(new.seconds() * crate::unit::held(share, 0.0, 1.0))
                };
                if before == program {
                    self.at
                } else if self.at < old.arrives() {
                    new.starts + part(self.at, old.starts, old.moves, new.moves)
                } else if self.at < old.ends() {
                    new.arrives() + part(self.at, old.arrives(), old.dwells, new.dwells)
                } else {
                    // Between steps: as far behind the last as before.
                    new.ends() + (self.at - old.ends())
                }
            }
            _ => self.at.min(program.end),
        };
        player.at = at.min(program.end);
        let same_ops = before.ops.len() == program.ops.len();
        if !same_ops {
            player.op = program.next_op(player.at);
            if player.play == Play::Waiting {
                player.play = Play::Playing;
            }
        } else if let Some(op) = program.ops.get(player.op) {
            // It is before what happens next, wherever that is now.
            player.at = player.at.min(op.at);
        }
        player.stops_at =
            player.stops_at.and(program.flat_at(player.at)).map(crate::sequence::FlatStep::ends);
        player
    }
}

/// All that plays, stands, or has ended and stays.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Players(pub(super) [Player; PLAYERS]);

impl Players {
    /// Those that do anything.
    pub fn all(&self) -> impl Iterator<Item = &Player> {
        self.0.iter().filter(|player| player.play != Play::Stopped)
    }

    /// The one of a sequence.
    pub fn of(&self, sequence: SequenceId) -> Option<&Player> {
        self.all().find(|player| player.sequence == sequence)
    }

    /// How a sequence stands.
    pub fn play(&self, sequence: SequenceId) -> Play {
        self.of(sequence).map_or(Play::Stopped, |player| player.play)
    }

    /// The one that was begun last: of those that go on, else of those that stand.
    pub fn last(&self) -> Option<&Player> {
        self.all().max_by_key(|player| (player.play.goes_on(), player.begun))
    }

    /// Whether anything goes on by itself.
    pub fn go_on(&self) -> bool {
        self.all().any(|player| player.play.goes_on())
    }
}

impl Player {
    /// The time to its end, where nothing happens before that and it goes on by itself.
    pub fn left(&self, program: &Program) -> Option<Duration> {
        let last = self.play == Play::Playing && self.op >= program.ops.len() && self.stops_at.is_none();
        let left = (program.end - self.at).duration();
        last.then(|| if self.tempo.to_bits() == 1f64.to_bits() { left } else { left.div_f64(self.tempo) })
    }
}
