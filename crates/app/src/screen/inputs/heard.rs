//! What is heard while somebody moves something: every live channel, or one that is watched.

use crate::edition::Edition;
use std::time::Duration;
use wasvolta_core::rest::{Learned, Resting};
use wasvolta_core::rig::{Channel, Input, InputId, LinkId};
use wasvolta_core::watch::{Lively, Watch};
use wasvolta_engine::Snapshot;
use wasvolta_engine::snapshot::ChannelState;

/// A channel that is listened to.
#[derive(Debug, Clone, PartialEq)]
pub struct Ear {
    pub link: LinkId,
    /// Which of that link.
    pub channel: Channel,
    /// How lively it is.
    pub lively: Lively,
    /// What it said last.
    pub newest: Option<f64>,
    /// The ends that its device gives.
    pub ends: Option<(f64, f64)>,
    seen: u64,
}

/// Every channel there is, while somebody moves one.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Listen {
    /// The liveliest first; what has not moved stands in the order in which it was heard.
    pub ears: Vec<Ear>,
    /// Which row; none follows the liveliest.
    pub pick: Option<usize>,
    /// The input that is to stand on the chosen channel; none makes a new one.
    pub for_input: Option<InputId>,
    /// Something of it is simulated: keys move what stands on the chosen row.
    pub simulated: bool,
}

impl Listen {
    /// Takes in what came since. Only while somebody is asked to move one it is told which that is.
    pub fn hear(&mut self, snapshot: &Snapshot, is_asked: bool) {
        for report in &snapshot.reports {
            for state in &report.channels {
                let known =
                    self.ears.iter().position(|ear| ear.link == report.id && ear.channel == state.channel);
                let place = known.unwrap_or_else(|| {
                    self.ears.push(Ear {
                        link: report.id,
                        channel: state.channel.clone(),
                        lively: Lively::default(),
                        newest: None,
                        ends: None,
                        seen: state.count.saturating_sub(1),
                    });
                    self.ears.len() - 1
                });
                if let Some(ear) = self.ears.get_mut(place) {
                    ear.hear(snapshot.now, state, is_asked);
                }
            }
        }
        // While somebody goes through the list by keys nothing in it changes its place.
        if is_asked && self.pick.is_none() {
            self.ears.sort_by(|a, b| b.lively.best().total_cmp(&a.lively.best()));
        }
    }

    /// The row that Enter takes: the picked one, or the liveliest once something has moved.
    pub fn chosen(&self) -> Option<&Ear> {
        match self.pick {
            Some(place) => self.ears.get(place),
            None => self.ears.first().filter(|ear| ear.lively.best() > 0.0),
        }
    }
}

impl Ear {
    fn hear(&mut self, now: Duration, state: &ChannelState, is_asked: bool) {
        state.since(self.seen).for_each(|value| self.lively.push(now, value));
        if state.count > self.seen && is_asked {
            self.lively.settle();
        }
        (self.seen, self.newest, self.ends) = (state.count, state.newest, state.ends);
    }
}

/// One input while it is moved all the way.
#[derive(Debug, Clone, PartialEq)]
pub struct Watching {
    pub input: InputId,
    /// What was seen of it so far.
    pub watch: Watch,
    /// It is simulated: keys move it.
    pub simulated: bool,
    seen: Option<u64>,
}

impl Watching {
    /// Of which nothing was seen yet.
    pub const fn of(input: InputId, watch: Watch, simulated: bool) -> Self {
        Self { input, watch, simulated, seen: None }
    }

    /// Takes in what came since.
    pub fn hear(&mut self, edition: &Edition, snapshot: &Snapshot) {
        let input = edition.input(self.input);
        let Some(state) = input.and_then(|input| edition.channel_state(input, snapshot)) else { return };
        let seen = *self.seen.get_or_insert(state.count);
        state.since(seen).for_each(|value| self.watch.push(snapshot.now, value));
        self.seen = Some(state.count);
    }
}

/// Sticks while they are used: whether each still rests where it was learned.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Rests(Vec<RestOf>);

#[derive(Debug, Clone, PartialEq)]
struct RestOf {
    input: InputId,
    learned: Learned,
    seen: u64,
    resting: Resting,
}

/// What was learned of an input that rests in its middle, and how noisy it is; none of any other.
fn learned(input: &Input) -> Option<Learned> {
    let centre = input.centre.filter(|_| input.deadband > 0.0)?;
    let side = (centre - input.ends.low).abs().min((input.ends.high - centre).abs());
    Some(Learned { centre, side, deadband: input.deadband * side })
}

impl Rests {
    /// Takes in what came since; gives those whose rest has moved just now.
    pub fn hear(&mut self, edition: &Edition, snapshot: &Snapshot) -> Vec<InputId> {
        let mut moved = Vec::new();
        for input in &edition.rig.inputs {
            let Some((learned, state)) = learned(input).zip(edition.channel_state(input, snapshot)) else {
                continue;
            };
            let fresh =
                || RestOf { input: input.id, learned, seen: state.count, resting: Resting::default() };
            let place = self.0.iter().position(|rest| rest.input == input.id).unwrap_or_else(|| {
                self.0.push(fresh());
                self.0.len() - 1
            });
            let Some(rest) = self.0.get_mut(place) else { continue };
            if rest.learned != learned {
                *rest = fresh();
            }
            let was = rest.resting.moved().is_some();
            state.since(rest.seen).for_each(|value| rest.resting.push(snapshot.now, value, &learned));
            rest.seen = state.count;
            if !was && rest.resting.moved().is_some() {
                moved.push(input.id);
            }
        }
        self.0.retain(|rest| edition.input(rest.input).is_some());
        moved
    }

    /// Where an input rests now, where that is no longer what was learned.
    pub fn moved(&self, input: InputId) -> Option<f64> {
        self.0.iter().find(|rest| rest.input == input)?.resting.moved()
    }
}
