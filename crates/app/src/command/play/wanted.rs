//! What is to be played: which sequences, how often and how fast, from where, with what.

use super::summary;
use crate::cli::Play;
use crate::say;
use miette::{Report as Trouble, miette};
use std::time::Duration;
use wasvolta_core::range;
use wasvolta_core::review::Review;
use wasvolta_core::rig::{Awaited, Index, Layer, Parts, Rig, Sequence, SequenceId};
use wasvolta_core::stage::{Command, Given, Plan};

/// What is to be played.
pub struct Wanted {
    /// The places of the sequences that follow one another.
    pub order: Vec<usize>,
    /// The places of those that play beside them, as layers.
    pub layers: Vec<usize>,
    /// How often the order is gone through.
    pub times: u32,
    /// In percent, of what is written.
    pub tempo: f64,
    /// Where on its line the first of them begins, the first time.
    pub from: Option<Duration>,
    /// What was said about parameters, by their names.
    pub with: Vec<(String, u16)>,
}

impl Wanted {
    /// What a command line asks for.
    ///
    /// # Errors
    /// When a name of it is that of nothing, or a number is none.
    pub fn of(play: &Play, rig: &Rig) -> miette::Result<Self> {
        let place = |name: &String| {
            rig.sequences.iter().position(|s| s.name == *name).ok_or_else(|| unknown(rig, name))
        };
        let all: Vec<usize> = play.sequences.iter().map(place).collect::<miette::Result<_>>()?;
        let is_layer = |n: &usize| rig.sequences.get(*n).is_some_and(|s| s.layer != Layer::Beside);
        let (mut layers, mut order): (Vec<usize>, Vec<usize>) = all.into_iter().partition(is_layer);
        if order.is_empty() {
            // A layer alone is played for its own sake.
            order = layers.split_off(0);
            layers = order.split_off(1);
        }
        let tempo = play.tempo.unwrap_or(100.0);
        range::TEMPO.check(tempo).map_err(|bad| miette!("{bad}"))?;
        let mut wanted =
            Self { order, layers, times: play.times.max(1), tempo, from: None, with: Vec::new() };
        if let Some(label) = &play.from {
            wanted.from = Some(wanted.labelled(rig, label)?);
        }
        for said in &play.with {
            wanted.with.push(parameter(said)?);
        }
        for (name, _) in &wanted.with {
            let all = || wanted.order.iter().filter_map(|n| rig.sequences.get(*n));
            if !all().any(|sequence| sequence.parameters.contains_key(name)) {
                let there: Vec<&str> = all().flat_map(|s| s.parameters.keys()).map(String::as_str).collect();
                let help = if there.is_empty() {
                    "what is played has none".to_owned()
                } else {
                    format!("there is: {}", there.join(", "))
                };
                return Err(miette!(help = help, "no parameter is called {name:?}"));
            }
        }
        Ok(wanted)
    }

    fn labelled(&self, rig: &Rig, label: &str) -> miette::Result<Duration> {
        let first = self.order.first().copied().unwrap_or(0);
        let plan = Plan::of(rig);
        let place = rig.sequences.get(first).and_then(|sequence| Some((sequence, sequence.labelled(label)?)));
        let (Some((_, step)), Some(program)) = (place, plan.programs.get(first)) else {
            let sequence = rig.sequences.get(first);
            let labels: Vec<&str> =
                sequence.iter().flat_map(|s| &s.steps).filter_map(|step| step.label.as_deref()).collect();
            let help = if labels.is_empty() {
                "it has none: a label stands on a step".to_owned()
            } else {
                format!("there is: {}", labels.join(", "))
            };
            let name = sequence.map_or("", |sequence| sequence.name.as_str());
            return Err(miette!(help = help, "no step of {name} is labelled {label:?}"));
        };
        Ok(program.enters_at(step).duration())
    }

    /// All of them, each once.
    pub fn all(&self) -> Vec<usize> {
        let mut all: Vec<usize> = self.order.iter().chain(&self.layers).copied().collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// What a sequence is given of what was said.
    pub fn given(&self, sequence: &Sequence) -> Given {
        let mut given = Given::default();
        for (slot, name) in given.values.iter_mut().zip(sequence.parameters.keys()) {
            *slot = self.with.iter().find(|(own, _)| own == name).map(|(_, value)| *value);
        }
        given
    }

    /// What begins one of them; the first of all begins where it was said.
    pub fn begins(&self, rig: &Rig, place: usize, first: bool) -> Option<Command> {
        let sequence = rig.sequences.get(place)?;
        let at = if first { self.from } else { None };
        let at = at.or(Some(Duration::ZERO));
        Some(Command::PlayFrom { sequence: sequence.id, at, given: self.given(sequence), one_step: false })
    }

    /// The servos that they move.
    pub fn moved(&self, plan: &Plan) -> Vec<usize> {
        let programs = self.all().into_iter().filter_map(|place| plan.programs.get(place));
        let mut moved: Vec<usize> = programs.flat_map(|p| p.tracks.iter().map(|track| track.servo)).collect();
        moved.sort_unstable();
        moved.dedup();
        moved
    }

    /// Looks at all of them, and says what is short; gives what was found of each.
    pub fn looked_at(&self, rig: &Rig, plan: &Plan, quiet: bool) -> Vec<(SequenceId, Review)> {
        let index = Index::of(rig);
        let parts = Parts { rig, index: &index };
        let mut found = Vec::new();
        for place in self.all() {
            let Some(id) = plan.programs.get(place).map(|program| program.id) else { continue };
            let review = Review::of(parts, plan, place);
            if !quiet {
                for line in summary::lines(rig, &review) {
                    say::trouble(line);
                }
            }
            found.push((id, review));
        }
        found
    }
}

fn unknown(rig: &Rig, name: &str) -> Trouble {
    let names: Vec<&str> = rig.sequences.iter().map(|s| s.name.as_str()).collect();
    let there = if names.is_empty() { "this rig has none".to_owned() } else { names.join(", ") };
    miette!(help = format!("there is: {there}"), "no sequence is called {name:?}")
}

fn parameter(said: &str) -> miette::Result<(String, u16)> {
    let wrong = || {
        miette!(
            help = "write it as strokes=3, a whole number from 0 to 1000",
            "{said:?} does not set a parameter"
        )
    };
    let (name, value) = said.split_once('=').ok_or_else(wrong)?;
    let value: u16 = value.trim().parse().map_err(|_| wrong())?;
    range::PARAMETER.check(f64::from(value)).map_err(|bad| miette!("{bad}"))?;
    Ok((name.trim().to_owned(), value))
}

/// A key that a sequence waits for.
pub struct AwaitedKey<'r> {
    /// The sequence that says so.
    pub sequence: &'r Sequence,
    pub key: char,
    /// It goes on without it in the end.
    pub has_end: bool,
}

/// The keys that are waited for by sequences and what those play.
pub fn awaited_keys<'r>(rig: &'r Rig, places: Vec<usize>) -> Vec<AwaitedKey<'r>> {
    let mut left = places;
    let mut seen = Vec::new();
    let mut keys = Vec::new();
    while let Some(place) = left.pop() {
        let Some(sequence) = rig.sequences.get(place).filter(|_| !seen.contains(&place)) else { continue };
        for wait in sequence.steps.iter().filter_map(|step| step.wait_for.as_ref()) {
            if let Some(Awaited::Key(key)) = wait.what() {
                keys.push(AwaitedKey { sequence, key, has_end: wait.at_most_s.is_some() });
            }
        }
        seen.push(place);
        left.extend(sequence.calls().filter_map(|name| rig.sequences.iter().position(|s| s.name == name)));
    }
    keys
}
