//! What comes in: links as they stand, inputs with each stage of theirs, and what stands in for them.

use super::{About, AsIf, Event, EventKind, MOST_EVENTS, Stage};
use crate::estimate::Estimate;
use crate::inflow::{Batch, Inflow, Measured};
use crate::link::{Health, Heard, Link, Rules};
use crate::shape::{Memory, Stages};
use crate::switch;
use std::time::Duration;

/// One link as it stands.
#[derive(Debug, Clone, Default)]
pub struct LinkState {
    /// How it fares: absent, fresh, late, lost or stuck.
    pub health: Health,
    /// The age of its newest good frame.
    pub age: Option<Duration>,
    link: Link,
}

impl LinkState {
    /// Whether it is heard, moving or not.
    pub const fn is_heard(&self) -> bool {
        self.health.is_heard()
    }

    /// The usual interval between its frames; none before a few have come.
    pub fn usual(&self) -> Option<Duration> {
        Some(self.link.usual()).filter(|usual| !usual.is_zero() && self.link.has_rate())
    }

    /// Takes what came until `now`; whether its health changed in a way that matters.
    fn hear(&mut self, now: Duration, heard: &Heard, rules: &Rules) -> bool {
        self.link.hear(now, heard, rules);
        self.age = self.link.age(now);
        let health = self.link.health(now, rules);
        let before = std::mem::replace(&mut self.health, health);
        before != health
            && !matches!((before, health), (Health::Fresh, Health::Late) | (Health::Late, Health::Fresh))
    }
}

/// One input as it stands.
#[derive(Debug, Clone, Default)]
pub struct InputState {
    /// The newest raw value.
    pub raw: Option<f64>,
    /// What stands in for its link.
    pub as_if: Option<AsIf>,
    /// The raw value that counts in this beat: of its link, or of what stands in. None where there is none.
    pub counts: Option<f64>,
    /// It has a value, and what it says may move something.
    pub live: bool,
    /// How it stands, of a switch.
    pub switch: switch::State,
    /// The value after each stage.
    pub stages: Stages,
    pub(super) memory: Memory,
}

impl Stage {
    /// Takes what came since the last call: how links stand, and what each input makes of its newest value.
    pub(super) fn read(&mut self, now: Duration, inflow: Inflow<'_>, dt: f64) {
        for (n, (state, plan)) in self.run.links.iter_mut().zip(&self.run.plan.links).enumerate() {
            let heard = inflow.links.get(n).copied().unwrap_or_default();
            if state.hear(now, &heard, &plan.rules) && self.events.len() < MOST_EVENTS {
                let kind = EventKind::Link(state.health);
                self.events.push(Event { at: now, kind, about: About::Link(plan.id) });
            }
        }
        for (state, measured) in self.run.servos.iter_mut().zip(inflow.measured) {
            if let Some(Measured { at, when }) = *measured {
                state.estimate = Estimate::measured(at, when);
            }
        }
        for n in 0..self.run.inputs.len() {
            let stands_in = self.stands_in(n, now);
            let (Some(state), Some(plan)) = (self.run.inputs.get_mut(n), self.run.plan.inputs.get(n)) else {
                continue;
            };
            let batch = inflow.inputs.get(n);
            state.raw = batch.and_then(Batch::value).or(state.raw);
            let said = if state.as_if.is_some() { None } else { state.raw };
            state.counts = stands_in.or(said);
            let Some(raw) = state.counts else {
                state.live = false;
                state.switch.unheard();
                continue;
            };
            let link = self.run.links.get(plan.link);
            let rules = self.run.plan.links.get(plan.link).map(|link| link.rules);
            state.live = stands_in.is_some()
                || link.zip(rules).is_some_and(|(link, rules)| rules.may_move(link.health));
            let place = match &plan.switch {
                None => raw,
                // What came with a link that is not heard is not trusted: least of all for a press.
                Some(_) if stands_in.is_none() && !link.is_some_and(LinkState::is_heard) => {
                    state.switch.unheard();
                    continue;
                }
                Some(switch) => {
                    let batch = match stands_in {
                        Some(raw) => Batch::of(raw),
                        None => batch.copied().unwrap_or_default(),
                    };
                    switch.advance(&mut state.switch, &batch, raw, dt)
                }
            };
            state.stages = plan.shape.advance(&mut state.memory, place, dt);
        }
    }

    /// The raw value that an input has in place of what its link says; none where its link is what counts, or where what
    /// stands in is not heard itself.
    fn stands_in(&self, n: usize, now: Duration) -> Option<f64> {
        let by = self.run.inputs.get(n)?.as_if?;
        let share = by.share(now, |other| {
            let place = self.run.plan.input_place(other)?;
            let state = self.run.inputs.get(place).filter(|state| state.live)?;
            Some(self.run.plan.inputs.get(place)?.shape.span.share(state.stages.shaped()))
        });
        Some(self.run.plan.inputs.get(n)?.raw_at(share?))
    }
}
