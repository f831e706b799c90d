//! Who is there: servos come and go, change their name or their plug.

use super::Desk;
use crate::screen::form::{Field, Form, Pressed, Task};
use crate::screen::keys::Key;
use crate::screen::model::Dialog;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::edit::roster as edit;

const NAME: &str = "as heron.neck: the part before a dot groups";

fn ask(desk: &mut Desk, task: Task, fields: Vec<Field>) {
    desk.model.dialog = Some(Dialog::Form(Form::new(task, fields)));
}

fn picked(desk: &Desk) -> Option<(String, String, u8)> {
    let servo = desk.session.rig.servos.get(desk.model.servo)?;
    Some((servo.name.clone(), servo.board.clone(), servo.channel))
}

/// Asks for a new servo's name and channel; the board only where there are several.
pub fn add(desk: &mut Desk) {
    let rig = &desk.session.rig;
    let Some((board, channel)) = edit::free_channel(rig) else {
        return desk.refuse("every channel of every board has a servo: remove or move one first");
    };
    let mut fields = vec![Field::new("name", "", NAME)];
    fields.extend(plug(rig, board, channel));
    ask(desk, Task::AddServo, fields);
}

/// The fields that say where a plug is.
fn plug(rig: &Rig, board: &str, channel: u8) -> Vec<Field> {
    let mut fields = vec![Field::new("channel", channel.to_string(), "0 to 15, as printed on the board")];
    if rig.boards.len() > 1 {
        fields.push(Field::new("board", board, "its name"));
    }
    fields
}

/// Asks for another name.
pub fn rename(desk: &mut Desk) {
    if let Some((name, _, _)) = picked(desk) {
        let fields = vec![Field::new("name", name.clone(), NAME)];
        ask(desk, Task::RenameServo(name), fields);
    }
}

/// Asks for another channel.
pub fn move_to(desk: &mut Desk) {
    if let Some((name, board, channel)) = picked(desk) {
        let fields = plug(&desk.session.rig, &board, channel);
        ask(desk, Task::MoveServo(name), fields);
    }
}

/// Asks whether a servo and what speaks of it may go.
pub fn remove(desk: &mut Desk) {
    if let Some((name, _, _)) = picked(desk) {
        ask(desk, Task::RemoveServo(name), Vec::new());
    }
}

/// Takes a key for a form.
pub fn key(desk: &mut Desk, key: Key, mut form: Form) -> Option<Dialog> {
    if form.press(key) == Pressed::Typing {
        return Some(Dialog::Form(form));
    }
    match carry_out(desk, &form) {
        Ok(()) => None,
        Err(words) => {
            desk.refuse(&words);
            Some(Dialog::Form(form))
        }
    }
}

fn carry_out(desk: &mut Desk, form: &Form) -> Result<(), String> {
    let rig = std::sync::Arc::clone(&desk.session.rig);
    let done = match &form.task {
        Task::AddServo => {
            let (name, (channel, board)) = (form.word(0), plugged(form, 1, &rig)?);
            let words = format!("{name} added on channel {channel} of {board}");
            let done = desk.session.edit(&words, |rig| edit::add_servo(rig, name, &board, channel));
            done.map(|()| {
                desk.model.servo = desk.session.rig.servos.len().saturating_sub(1);
                words
            })
        }
        Task::RenameServo(servo) => {
            let name = form.word(0);
            let words = format!("{servo} is {name} now");
            let done = desk.session.edit(&words, |rig| edit::rename_servo(rig, servo, name));
            done.map(|()| {
                desk.session.last_known.copy(servo, name);
                words
            })
        }
        Task::MoveServo(servo) => {
            let (channel, board) = plugged(form, 0, &rig)?;
            let words = format!("{servo} moved to channel {channel} of {board}");
            desk.session.edit(&words, |rig| edit::move_servo(rig, servo, &board, channel)).map(|()| words)
        }
        Task::RemoveServo(servo) => {
            let words = format!("{servo} removed; u brings it back");
            desk.session.edit(&words, |rig| edit::remove_servo(rig, servo)).map(|()| words)
        }
        Task::NewRig => return Ok(()),
    };
    let words = done.map_err(|refused| refused.to_string())?;
    desk.say(&words);
    Ok(())
}

/// Channel and board of a form whose channel is word `n`; without a board's word there is one board only.
fn plugged(form: &Form, n: usize, rig: &Rig) -> Result<(u8, String), String> {
    let channel = form.word(n).parse().map_err(|_| "a channel is a whole number from 0 to 15".to_owned())?;
    let only = rig.boards.first().map_or("", |b| b.name.as_str());
    let board = form.fields.get(n + 1).map_or(only, |f| f.text.trim());
    Ok((channel, board.to_owned()))
}
