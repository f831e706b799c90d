//! How long a program plays, with all rounds of its loops.

use super::program::Counts;
use super::{At, OpKind, Program, Rounds};
use crate::rig::AtEnd;
use std::ops::Range;

/// How long something plays.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Lasts {
    /// So many seconds.
    Seconds(f64),
    /// So many seconds, and as long as what it waits for takes.
    Waits(f64),
    /// Until it is stopped.
    Forever,
}

impl Lasts {
    /// What is left of it at a tempo, where 1 is 100 %, in words: *12 s left*. Nothing where it never ends by itself.
    pub fn left(self, tempo: f64) -> Option<String> {
        let whole = |seconds: f64| libm::ceil(seconds / tempo);
        match self {
            Self::Seconds(seconds) => Some(format!("{:.0} s left", whole(seconds))),
            Self::Waits(seconds) => Some(format!("{:.0} s left and what it waits for", whole(seconds))),
            Self::Forever => None,
        }
    }
}

impl Default for Lasts {
    fn default() -> Self {
        Self::Seconds(0.0)
    }
}

/// What was summed so far.
#[derive(Debug, Clone, Copy, Default)]
struct Sum {
    seconds: f64,
    waits: bool,
    forever: bool,
}

impl Sum {
    /// So many rounds more of something; without a count it goes on until something is so, or for ever.
    fn add(&mut self, body: Self, rounds: Option<u32>, until: bool) {
        match rounds {
            Some(0) => return,
            Some(rounds) => self.seconds += body.seconds * f64::from(rounds),
            None => self.seconds += body.seconds,
        }
        self.waits |= body.waits || until;
        self.forever |= body.forever || (rounds.is_none() && !until);
    }
}

/// Where a program is played from, and what it is given.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Onward<'a> {
    /// The next of what happens.
    pub op: usize,
    /// Where it stands in the sequence's time.
    pub at: At,
    /// How often the loops around it were played already.
    pub counts: &'a Counts,
    /// What its parameters are.
    pub given: &'a [u16],
    /// No loop is played again.
    pub finishes: bool,
}

impl Program {
    /// How long it plays from its beginning, with these parameters.
    pub fn lasts(&self, given: &[u16]) -> Lasts {
        let counts = Counts::default();
        self.lasts_from(&Onward { op: 0, at: At::ZERO, counts: &counts, given, finishes: false })
    }

    /// How long it plays from a place on.
    pub(crate) fn lasts_from(&self, from: &Onward<'_>) -> Lasts {
        let sum = self.sum(from.op..self.ops.len(), (from.at, self.end), from);
        match self.at_end {
            _ if sum.forever => Lasts::Forever,
            AtEnd::Again if !from.finishes => Lasts::Forever,
            _ if sum.waits => Lasts::Waits(sum.seconds),
            _ => Lasts::Seconds(sum.seconds),
        }
    }

    /// The sum over some of what happens, between two places.
    fn sum(&self, ops: Range<usize>, (mut from, to): (At, At), how: &Onward<'_>) -> Sum {
        let count = |rounds: Rounds| match rounds.count(how.given) {
            count if how.finishes => Some(count.unwrap_or(1).min(1)),
            count => count,
        };
        let mut sum = Sum::default();
        let mut n = ops.start;
        while n < ops.end {
            let Some(op) = self.ops.get(n) else { break };
            sum.seconds += (op.at - from).seconds();
            from = op.at.next();
            match op.kind {
                OpKind::Wait { at_most, .. } => sum.waits |= at_most.is_none_or(|most| !most.is_zero()),
                OpKind::Begin { rounds, end, .. } => {
                    let end = usize::try_from(end).unwrap_or(usize::MAX);
                    let Some(last) = self.ops.get(end) else { break };
                    let until = matches!(last.kind, OpKind::Repeat { until: Some(_), .. });
                    let body = self.sum(n + 1..end, (from, last.at), how);
                    sum.add(body, count(rounds), until && !how.finishes);
                    (n, from) = (end, last.at.next());
                }
                // A loop that began before: what is left of its rounds.
                OpKind::Repeat { slot, rounds, until, begin } => {
                    let begin = usize::try_from(begin).unwrap_or(usize::MAX);
                    let Some(first) = self.ops.get(begin) else { break };
                    let played = how.counts.get(usize::from(slot)).copied().unwrap_or(0).saturating_add(1);
                    let left = if how.finishes {
                        Some(0)
                    } else {
                        rounds.count(how.given).map(|count| count.saturating_sub(played))
                    };
                    let body = self.sum(begin + 1..n, (first.at.next(), op.at), how);
                    sum.add(body, left, until.is_some());
                }
            }
            n += 1;
        }
        sum.seconds += (to - from).seconds();
        sum
    }
}
