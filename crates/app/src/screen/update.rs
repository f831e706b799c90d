//! The only place that changes the model: events in, actions and dialogs carried out.

mod dialog;
mod errands;
mod intents;
mod mouse;
pub mod questions;

use crate::screen::calibrate::feel;
use crate::screen::context::Context;
use crate::screen::dialog::Dialog;
use crate::screen::everywhere::roster;
use crate::screen::inputs::faders;
use crate::screen::intent::Intent;
use crate::screen::keys;
use crate::screen::keys::Key;
use crate::screen::model::Model;
use crate::screen::panel::Typed;
use crate::screen::ready::STILL_MOVES;
use crate::screen::typing::Typing;
use crate::screen::wiring::servo_bus;
use crate::screen::{commands, panels};
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
    let mut desk = Context { model, session, now, held: false, hurried: false, joined: false };
    while let Some(words) = desk.session.document.outputs.news() {
        desk.model.note(now, &words);
        desk.refuse(&words);
    }
    errands::go_on(&mut desk);
    servo_bus::follow(&mut desk);
    feel::propose(&mut desk);
    go_on_waiting(&mut desk);
}

/// Does what was asked for while a servo still moved, once it stands.
fn go_on_waiting(desk: &mut Context) {
    let Some(action) = desk.model.waiting.and_then(|name| commands::named(name, desk.model.view)) else {
        return;
    };
    let ready = (action.ready)(&desk.model.scene(desk.session));
    if ready == Err(STILL_MOVES) {
        return;
    }
    desk.model.waiting = None;
    action.carry_out(desk);
}

/// Takes one event of the terminal.
pub fn event(model: &mut Model, session: &mut Session, event: &Event, now: Duration) {
    if let Event::Mouse(event) = event {
        if wants_mouse(model) {
            mouse::mouse(
                &mut Context { model, session, now, held: false, hurried: false, joined: false },
                *event,
            );
        }
        return;
    }
    if let Event::Paste(text) = event {
        return paste(model, session, text, now);
    }
    let Event::Key(pressed) = event else { return };
    if pressed.kind == KeyEventKind::Release {
        if matches!(model.dialog, Some(Dialog::Faders)) {
            faders::released(session, *pressed);
        }
        return;
    }
    // The cut was carried out by the key reader; here it only closes what was being asked.
    if keys::is_cut(*pressed) {
        (model.dialog, model.waiting, model.grip) = (None, None, None);
        return;
    }
    for key in Key::pressed(*pressed) {
        take(model, session, key, now);
    }
}

/// The most that is taken of what was pasted, in bytes: a list of every channel of sixty boards is shorter.
const PASTED: usize = 64 * 1024;

/// Takes what was pasted: into what is being typed its first line, else a list of servos. It is never taken for keys.
fn paste(model: &mut Model, session: &mut Session, text: &str, now: Duration) {
    model.waiting = None;
    let mut desk = Context { model, session, now, held: false, hurried: false, joined: false };
    if desk.model.too_small || servo_bus::stop_feeling(&mut desk) {
        return;
    }
    if text.len() > PASTED {
        return desk.refuse("that is too much to paste here");
    }
    if desk.model.dialog.is_none() {
        return roster::paste(&mut desk, text);
    }
    for key in Key::typing(text) {
        // A question that takes no words takes these no more than others.
        if desk.model.dialog.as_ref().is_some_and(|dialog| dialog.does(key).is_none()) {
            dialog::key(&mut desk, key);
        }
    }
}

/// Whether there is something for the mouse to do. Elsewhere it stays the terminal's own.
pub fn wants_mouse(model: &Model) -> bool {
    !model.too_small
}

/// Takes one key that was pressed now.
fn take(model: &mut Model, session: &mut Session, key: Key, now: Duration) {
    let within = |time| model.last_key.is_some_and(|(last, at)| last == key && now.saturating_sub(at) < time);
    let (held, hurried) = (within(HELD), within(FIRST_REPEAT));
    model.last_key = Some((key, now));
    // A key that is held is one press.
    model.presses += usize::from(!held);
    model.waiting = None;
    // What is held by the mouse is let go: the key may lead elsewhere.
    (model.in_inputs.drag, model.grip) = (None, None);
    model.in_sequence.drag = None;
    let mut desk = Context { model, session, now, held, hurried, joined: false };
    if servo_bus::stop_feeling(&mut desk) {
        return;
    }
    if desk.model.too_small {
        return take_unseen(&mut desk, key);
    }
    if desk.model.dialog.is_some() {
        dialog::key(&mut desk, key);
        if let Some(intent) = desk.model.intent.take() {
            intents::carry_out(&mut desk, &intent);
        }
        return;
    }
    if let KeyCode::Char(c @ ('0'..='9' | '+' | '-')) = key.code
        && !key.ctrl
    {
        return start_entry(&mut desk, c);
    }
    let Some(action) = commands::of(&desk.model.keys, key, desk.model.view) else {
        if let KeyCode::Char(c) = key.code {
            desk.refuse(&format!("{c} does nothing here; ‹all keys› shows the keys that do"));
        }
        return;
    };
    let said = desk.model.said.clone();
    intents::carry_out(&mut desk, &Intent::of(action.name));
    // A question begins without the refusals of before.
    if desk.model.dialog.is_some() && desk.model.said == said {
        desk.model.said = None;
    }
}

/// Takes a key where nothing of the rig is shown: what stops things works, nothing else. What was being asked is left as
/// it is, for it cannot be seen either.
fn take_unseen(desk: &mut Context, key: Key) {
    let stops = commands::of(&desk.model.keys, key, desk.model.view).filter(|action| action.works_unseen());
    let Some(action) = stops else { return };
    // A question whether to save could not be read: unsaved edits are kept aside, and offered at the next start. Nor is
    // anything sent home first that nobody sees.
    if action.name == "quit" {
        desk.model.quit = true;
        return;
    }
    intents::carry_out(desk, &Intent::of(action.name));
}

fn start_entry(desk: &mut Context, first: char) {
    match &panels::of(desk.model.view).typed {
        Typed::For(purpose) => {
            let (purpose, typing) = (purpose.clone(), Typing::begun(first));
            desk.model.dialog = Some(Dialog::Entry { purpose, typing });
        }
        Typed::Nothing(why) => desk.refuse(why),
    }
}
