//! Several servos of the roster picked at once: how they are picked, and how what is meant for one is done to each.

use super::also::Also;
use super::context::Context;
use super::errand::Step;
use super::form::{Field, Form, Subject};
use super::model::{Model, Tone};
use super::pick::Pick;
use super::question::{Question, questions};
use super::ready::{Ready, free};
use super::scene::Scene;
use super::step::moved;
use crate::edition::Edition;
use crate::say::counted;
use std::sync::Arc;
use wasvolta_core::estimate::Known;
use wasvolta_core::rig::ServoId;
use wasvolta_core::unit::Position;

/// Every picked servo that there still is, in the roster's order; the picked one among them.
pub fn all(model: &Model, edition: &Edition) -> Vec<ServoId> {
    let servos = edition.order.iter().filter_map(|&n| edition.rig.servos.get(n));
    servos.map(|servo| servo.id).filter(|id| *id == model.servo.id || model.also.has(*id)).collect()
}

/// How many are picked.
pub fn count(model: &Model, edition: &Edition) -> usize {
    if model.also.is_empty() { 1 } else { all(model, edition).len() }
}

questions! {
    GROUP("pick group") => |desk, _, form| picked_group(desk, form.word(0));
}

/// Picks the servo above too, or one less.
pub fn above(desk: &mut Context) {
    reach(desk, -1);
}

/// Picks the servo below too, or one less.
pub fn below(desk: &mut Context) {
    reach(desk, 1);
}

/// Moves the picked one and picks all from where that began.
fn reach(desk: &mut Context, by: isize) {
    let anchor = desk.model.also.anchor().unwrap_or(desk.model.servo.id);
    let edition = Arc::clone(&desk.session.runner.edition);
    let order = &edition.order;
    let at = |id: ServoId| order.iter().position(|n| edition.rig.servos.get(*n).is_some_and(|s| s.id == id));
    let (Some(from), Some(here)) = (at(anchor), at(desk.model.servo.id)) else { return };
    let to = moved(here, by, order.len());
    let Some(&place) = order.get(to) else { return };
    desk.model.pick_servo(&edition.rig, place);
    let between = order.iter().take(from.max(to) + 1).skip(from.min(to));
    let servos = between.filter_map(|n| edition.rig.servos.get(*n)).map(|servo| servo.id);
    desk.model.also = Also::of(Some(anchor), servos.collect());
}

/// Asks for a group, the part of a name before its dot.
pub fn ask_group(desk: &mut Context) {
    let Some(group) = desk.servo().map(|servo| servo.group().to_owned()) else { return };
    let fields = vec![Field::new("group", group, "the part of their names before the dot; * is all")];
    desk.ask(GROUP.name, Subject::default(), fields);
}

fn picked_group(desk: &mut Context, group: &str) -> Result<String, String> {
    let edition = Arc::clone(&desk.session.runner.edition);
    let own = |place: &&usize| {
        edition.rig.servos.get(**place).is_some_and(|servo| group == "*" || servo.group() == group)
    };
    let places: Vec<usize> = edition.order.iter().filter(own).copied().collect();
    let Some(&first) = places.first() else {
        return Err(format!("no servo's name begins with {group:?} and a dot"));
    };
    desk.model.pick_servo(&edition.rig, first);
    let servos = places.iter().filter_map(|n| edition.rig.servos.get(*n)).map(|servo| servo.id).collect();
    desk.model.also = Also::of(None, servos);
    Ok(format!("{} picked: what works on one works on all; ‹servo below› picks one again", places.len()))
}

/// Engages every servo where it was left, one after another; asks where those stand that are not known.
pub fn engage_all(desk: &mut Context) {
    engage_some(desk, |_| true);
}

/// The same for the picked servos.
fn engage_picked(desk: &mut Context) {
    let picked = all(desk.model, &desk.session.runner.edition);
    engage_some(desk, |servo| picked.contains(&servo));
}

fn engage_some(desk: &mut Context, wanted: impl Fn(ServoId) -> bool) {
    if let Err(why) = free(&desk.model.scene(desk.session)) {
        return desk.refuse(why);
    }
    let mut steps = Vec::new();
    let (mut known, mut unknown) = (0, 0);
    for (servo, state) in desk.model.scene(desk.session).servos() {
        if state.engaged || !wanted(servo.id) {
            continue;
        }
        let last = desk.session.runner.last_known.of(&servo.name).map(|(pulse, _)| pulse);
        let place = match (servo.kind.has_angles(), state.estimate.known) {
            // What turns may do so at once: it is asked about.
            _ if servo.kind.turns_on() => None,
            // What has a level otherwise begins off: nothing is to be asked.
            (false, _) => Some(Position::ZERO),
            (true, Known::Unknown) => last,
            (true, _) => Some(state.estimate.pulse),
        };
        match place {
            Some(pulse) => {
                known += 1;
                steps.push(Step::Engage { servo: servo.id, pulse });
                steps.push(Step::Engaged(servo.id));
            }
            None => {
                unknown += 1;
                steps.push(Step::Ask(servo.id));
            }
        }
    }
    if steps.is_empty() {
        return desk.refuse("all of them are engaged already");
    }
    desk.model.errands.begin(steps);
    desk.say(&format!(
        "{known} will be engaged one after another where they were left; {unknown} will be asked about"
    ));
}

/// What came of doing something to each.
#[derive(Default)]
struct Outcome {
    done: usize,
    refused: Option<String>,
}

impl Outcome {
    fn words(&self, what: &str) -> Result<String, String> {
        let of = counted(self.done, "servo");
        match &self.refused {
            None => Ok(format!("{what}, for {of}")),
            Some(why) if self.done > 0 => Ok(format!("{what}, for {of}; not all: {why}")),
            Some(why) => Err(why.clone()),
        }
    }
}

/// Does something to each picked servo as if it were the only one; all edits are undone at once. What it gives in words
/// where it did not is why.
fn each(desk: &mut Context, mut work: impl FnMut(&mut Context, &str) -> Result<(), String>) -> Outcome {
    let (picked, also) = (desk.model.servo, desk.model.also.clone());
    let mut outcome = Outcome::default();
    for id in all(desk.model, &desk.session.runner.edition) {
        let edition = Arc::clone(&desk.session.runner.edition);
        let Some(place) = edition.index.servos.place(id) else { continue };
        desk.model.servo = Pick::at(&edition.rig.servos, place);
        let before = Arc::clone(&desk.session.document.rig);
        let name = edition.rig.servos.get(place).map_or("", |servo| servo.name.as_str());
        match work(desk, name) {
            Ok(()) => outcome.done += 1,
            Err(why) => outcome.refused = outcome.refused.or(Some(format!("{name}: {why}"))),
        }
        desk.joined |= !Arc::ptr_eq(&before, &desk.session.document.rig);
    }
    desk.joined = false;
    (desk.model.servo, desk.model.also) = (picked, also);
    outcome
}

/// Does an action to each picked servo that it may be done to.
pub fn carry_out(desk: &mut Context, name: &str, ready: fn(&Scene) -> Ready, run: fn(&mut Context)) {
    // One after another, each where it was left: they must not all draw at once.
    if name == "engage" {
        return engage_picked(desk);
    }
    let outcome = each(desk, |desk, _| {
        ready(&desk.model.scene(desk.session)).map_err(str::to_owned)?;
        desk.model.said = None;
        run(desk);
        // What asks, asks about one: a servo that would sag is not let go with the others.
        match desk.model.dialog.take() {
            Some(_) => Err("it asks first; pick it alone".to_owned()),
            None => match desk.model.said.take() {
                Some((Tone::Refused, why, _)) => Err(why),
                _ => Ok(()),
            },
        }
    });
    match outcome.words(name) {
        Ok(words) => desk.say(&words),
        Err(words) => desk.refuse(&words),
    }
}

/// Takes the answer to a question for each picked servo.
///
/// # Errors
/// In words, when it goes for none.
pub fn answer(desk: &mut Context, question: &'static Question, form: &Form) -> Result<String, String> {
    let outcome = each(desk, |desk, name| {
        // A supply feeds a board, and with it every servo there.
        let board = desk.servo().map(|servo| servo.board.clone()).filter(|_| question.name == "supply");
        let of = board.unwrap_or_else(|| name.to_owned());
        (question.take)(desk, &Subject { of, ..form.subject.clone() }, form).map(drop)
    });
    outcome.words(question.label)
}
