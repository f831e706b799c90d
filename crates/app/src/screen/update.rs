//! The only place that changes the model: events in, actions and dialogs carried out.

pub mod ask;
pub mod boards;
pub mod calibrate;
pub mod cards;
pub mod continuous;
mod dialog;
mod errands;
pub mod general;
mod hand;
pub mod inputs;
pub mod marks;
pub mod questions;
pub mod roster;
pub mod sequence;
pub mod sequences;
pub mod test_move;
pub mod wiring;
mod written;

use super::action;
use super::context::Context;
use super::keys::{self, Key};
use super::model::{Dialog, Model, Purpose, View};
use super::typing::Typing;
use crate::session::Session;
use crossterm::event::{Event, KeyCode, KeyEventKind};
use std::time::Duration;

/// Presses of one key closer together than this come from a key that is held.
const HELD: Duration = Duration::from_millis(120);
/// Keyboards wait up to this long before a held key begins to repeat; a terminal does not tell the two apart.
const FIRST_REPEAT: Duration = Duration::from_millis(700);

/// Takes in what has happened since the last frame, and goes on with what is still to be done.
pub fn observe(model: &mut Model, session: &mut Session, now: Duration) {
    model.observe(session, now);
    let mut desk = Context { model, session, now, held: false, hurried: false };
    while let Some(words) = desk.session.document.outputs.news() {
        desk.model.note(now, words.clone());
        desk.refuse(&words);
    }
    errands::go_on(&mut desk);
    go_on_waiting(&mut desk);
}

/// Does what was asked for while a servo still moved, once it stands.
fn go_on_waiting(desk: &mut Context) {
    let Some(action) = desk.model.waiting.and_then(action::named) else { return };
    let ready = (action.ready)(&desk.model.scene(desk.session));
    if ready == Err(action::STILL_MOVES) {
        return;
    }
    desk.model.waiting = None;
    action.carry_out(desk);
}

/// Takes one event of the terminal.
pub fn event(model: &mut Model, session: &mut Session, event: &Event, now: Duration) {
    let Event::Key(pressed) = event else { return };
    if pressed.kind == KeyEventKind::Release {
        return;
    }
    // The cut was carried out by the key reader; here it only closes what was being asked.
    if keys::is_cut(*pressed) {
        (model.dialog, model.waiting) = (None, None);
        return;
    }
    for key in Key::pressed(*pressed) {
        take(model, session, key, now);
    }
}

/// Takes one key that was pressed now.
fn take(model: &mut Model, session: &mut Session, key: Key, now: Duration) {
    let within = |time| model.last_key.is_some_and(|(last, at)| last == key && now.saturating_sub(at) < time);
    let (held, hurried) = (within(HELD), within(FIRST_REPEAT));
    model.last_key = Some((key, now));
    model.waiting = None;
    let mut desk = Context { model, session, now, held, hurried };
    if desk.model.too_small {
        return take_unseen(&mut desk, key);
    }
    if desk.model.dialog.is_some() {
        return dialog::key(&mut desk, key);
    }
    if let KeyCode::Char(c @ ('0'..='9' | '+' | '-')) = key.code
        && !key.ctrl
    {
        return start_entry(&mut desk, c);
    }
    let Some(action) = action::of(key, desk.model.view) else {
        if let KeyCode::Char(c) = key.code {
            desk.refuse(&format!("{c} does nothing here; ? shows the keys that do"));
        }
        return;
    };
    let said = desk.model.said.clone();
    action.carry_out(&mut desk);
    // A question begins without the refusals of before.
    if desk.model.dialog.is_some() && desk.model.said == said {
        desk.model.said = None;
    }
}

/// Takes a key where nothing of the rig is shown: what stops things works, nothing else. What was being asked is left as
/// it is, for it cannot be seen either.
fn take_unseen(desk: &mut Context, key: Key) {
    let stops = action::of(key, desk.model.view).filter(|action| action.works_unseen());
    let Some(action) = stops else { return };
    // A question whether to save could not be read: unsaved edits are kept aside, and offered at the next start. Nor is
    // anything sent home first that nobody sees.
    if action.name == "quit" {
        desk.model.quit = true;
        return;
    }
    action.carry_out(desk);
}

fn start_entry(desk: &mut Context, first: char) {
    let purpose = match desk.model.view {
        View::Wiring => {
            return desk.refuse("nothing to type here: M moves a plug to a channel, F2 has pulses");
        }
        View::Calibrate => Purpose::Pulse,
        View::Inputs => Purpose::InputRow,
        View::Sequence => Purpose::SequenceRow,
    };
    desk.model.dialog = Some(Dialog::Entry { purpose, typing: Typing::begun(first) });
}
