//! Who is there: servos come and go, change their name, their kind or their plug; and the forms that ask for it.

use super::{Context, boards, dialog, wiring};
use crate::screen::entry;
use crate::screen::form::{Field, Form, Pressed, Task};
use crate::screen::keys::Key;
use crate::screen::model::{Dialog, View};
use wasvolta_core::rig::edit::{Edited, boards as boards_edit, roster as edit};
use wasvolta_core::rig::{Arming, Chip, Kind, Rig};
use wasvolta_core::unit::Seconds;

const NAME: &str = "as heron.neck: the part before a dot groups";

pub(super) fn ask(desk: &mut Context, task: Task, fields: Vec<Field>) {
    desk.model.dialog = Some(Dialog::Form(Form::new(task, fields)));
}

fn picked(desk: &Context) -> Option<(String, String, u8)> {
    let servo = desk.servo()?;
    Some((servo.name.clone(), servo.board.clone(), servo.channel))
}

/// Asks for a new servo's name and channel; the board only where there are several.
pub fn add(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    // In Wiring the picked channel is meant, if it is free.
    let here = desk.model.scene(desk.session).plug().filter(|(_, _, servo)| servo.is_none());
    let here = here
        .filter(|_| desk.model.view == View::Wiring)
        .map(|(board, channel, _)| (board.name.as_str(), channel));
    let Some((board, channel)) = here.or_else(|| edit::free_channel(rig)) else {
        return desk.refuse("every channel of every board has a servo: remove or move one first");
    };
    let mut fields = vec![Field::new("name", "", NAME)];
    fields.extend(plug(rig, board, channel));
    fields.push(Field::new("kind", Kind::default().word(), Kind::words()));
    ask(desk, Task::AddServo, fields);
}

/// The fields that say where a plug is.
fn plug(rig: &Rig, board: &str, channel: u8) -> Vec<Field> {
    let chip = rig.board(board).map_or(Chip::ALL[0], |board| board.chip).row();
    let which =
        if chip.channel_word == "channel" { String::new() } else { format!("the {}, ", chip.channel_word) };
    let hint = format!("{which}0 to {}, as printed on the board", chip.channels - 1);
    let mut fields = vec![Field::new("channel", channel.to_string(), hint)];
    if rig.boards.len() > 1 {
        fields.push(Field::new("board", board, "its name"));
    }
    fields
}

/// Asks for another name.
pub fn rename(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        let fields = vec![Field::new("name", name.clone(), NAME)];
        ask(desk, Task::RenameServo(name), fields);
    }
}

/// Asks for another channel.
pub fn move_to(desk: &mut Context) {
    if let Some((name, board, channel)) = picked(desk) {
        let fields = plug(&desk.session.document.rig, &board, channel);
        ask(desk, Task::MoveServo(name), fields);
    }
}

/// Asks whether a servo and what speaks of it may go.
pub fn remove(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        ask(desk, Task::RemoveServo(name), Vec::new());
    }
}

/// Asks what hangs on the picked servo's channel.
pub fn change_kind(desk: &mut Context) {
    let Some(servo) = desk.servo() else { return };
    let (name, fields) = (servo.name.clone(), vec![Field::new("kind", servo.kind.word(), Kind::words())]);
    ask(desk, Task::ChangeKind(name), fields);
}

/// Asks what the picked continuous servo must see before it follows.
pub fn arming(desk: &mut Context) {
    let Some(servo) = desk.servo() else { return };
    let (pulse, time) = servo.arms().unwrap_or((servo.centre(), Seconds::new(2.0)));
    let fields = vec![
        Field::new("neutral", format!("{}us", pulse.get()), "the pulse it must see"),
        Field::new("for", format!("{}s", time.get()), "its time; 0 when it follows at once"),
    ];
    ask(desk, Task::Arming(servo.name.clone()), fields);
}

/// Asks whether another servo has come in the place of the picked one.
pub fn replace(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        ask(desk, Task::ReplaceServo(name), Vec::new());
    }
}

/// Asks which other servo is on the picked one's channel.
pub fn swap(desk: &mut Context) {
    let Some((name, _, _)) = picked(desk) else { return };
    let servos = &desk.session.document.rig.servos;
    let (before, behind) = servos.split_at(desk.place().unwrap_or(0).min(servos.len()));
    let Some(other) = behind.iter().skip(1).chain(before).next() else {
        return desk.refuse("there is no other servo to swap with; M moves this one");
    };
    let fields = vec![Field::new("with", other.name.clone(), "the servo that is on its channel")];
    ask(desk, Task::SwapServo(name), fields);
}

/// Takes a key for a form.
pub fn key(desk: &mut Context, key: Key, mut form: Form) -> Option<Dialog> {
    if form.press(key, &desk.model.recalled) == Pressed::Typing {
        return Some(Dialog::Form(form));
    }
    form.keep(&mut desk.model.recalled);
    match carry_out(desk, &form) {
        Ok(()) => None,
        Err(words) => {
            desk.refuse(&words);
            Some(Dialog::Form(form))
        }
    }
}

fn carry_out(desk: &mut Context, form: &Form) -> Result<(), String> {
    let words = match &form.task {
        Task::AddServo => added(desk, form)?,
        Task::RenameServo(servo) | Task::NameWiggled(servo) => renamed(desk, servo, form.word(0))?,
        Task::MoveServo(servo) => {
            let (channel, board) = plugged(form, &desk.session.document.rig)?;
            let words = format!("{servo} moved to channel {channel} of {board}");
            done(desk, &words, |rig| edit::move_servo(rig, servo, &board, channel))?
        }
        Task::RemoveServo(servo) => {
            let words = format!("{servo} removed; u brings it back");
            done(desk, &words, |rig| edit::remove_servo(rig, servo))?
        }
        Task::AskPort => {
            let path = form.word(0).to_owned();
            desk.session.runner.lookout.ask_port(&desk.session.document.rig, &path)?;
            format!("asking {path}: a board that was reset takes three seconds to speak")
        }
        Task::ReplaceServo(servo) => replaced(desk, servo)?,
        Task::ChangeKind(servo) => {
            let kind = said_kind(form)?;
            if desk.session.document.rig.servo(servo).is_some_and(|part| part.kind == kind) {
                desk.say(&format!("{servo} is {} already", kind.word()));
                return Ok(());
            }
            let said = done(desk, &format!("{servo} is {} now", kind.word()), |rig| {
                edit::set_kind(rig, servo, kind)
            })?;
            desk.session.runner.last_known.forget(servo);
            said
        }
        Task::Arming(servo) => armed(desk, servo, form)?,
        Task::SwapServo(servo) => wiring::swap(desk, servo, form.word(0))?,
        Task::AddBoard => boards::added(desk, form)?,
        Task::Rail(board) => boards::fed(desk, board, form)?,
        Task::RenameBoard(board) => {
            let name = form.word(0);
            done(desk, &format!("{board} is {name} now"), |rig| boards_edit::rename_board(rig, board, name))?
        }
        Task::RemoveBoard(board) => done(desk, &format!("{board} removed; u brings it back"), |rig| {
            boards_edit::remove_board(rig, board)
        })?,
        Task::Fault => wiring::switch_fault(desk, form.word(0))?,
        Task::Ask(what, of) => {
            let (what, of) = (*what, of.clone());
            super::ask::take(desk, what, &of, form)?
        }
        Task::Question(question, of) => {
            let (question, subject) = (*question, of.clone());
            (question.take)(desk, &subject, form)?
        }
        Task::NewRig => return Ok(()),
    };
    if !words.is_empty() {
        desk.say(&words);
    }
    if let Task::NameWiggled(_) = &form.task {
        wiring::name_next(desk);
    }
    Ok(())
}

/// Makes an edit; gives the words that say so.
pub(super) fn done(
    desk: &mut Context,
    words: &str,
    edit: impl FnOnce(&Rig) -> Edited,
) -> Result<String, String> {
    desk.session.edit(words, edit).map_err(|refused| refused.to_string())?;
    Ok(words.to_owned())
}

fn added(desk: &mut Context, form: &Form) -> Result<String, String> {
    let (name, (channel, board)) = (form.word(0), plugged(form, &desk.session.document.rig)?);
    let kind = said_kind(form)?;
    let what = if kind.has_angles() { String::new() } else { format!(", {}", kind.word()) };
    let words = format!("{name} added on channel {channel} of {board}{what}");
    let said = done(desk, &words, |rig| edit::add_servo(rig, name, (&board, channel), kind))?;
    let last = desk.session.document.rig.servos.len().saturating_sub(1);
    desk.model.pick_servo(&desk.session.document.rig, last);
    Ok(said)
}

/// What was found out about the old servo is on a card before it leaves the rig.
fn replaced(desk: &mut Context, servo: &str) -> Result<String, String> {
    let card = desk.session.document.keep_card(servo)?;
    let words =
        format!("{servo} is another servo now: two marks make it usable; the old one's card is {card}");
    done(desk, &words, |rig| edit::replace_servo(rig, servo))?;
    desk.session.runner.last_known.forget(servo);
    Ok(words)
}

fn renamed(desk: &mut Context, servo: &str, name: &str) -> Result<String, String> {
    if servo == name {
        return Ok(format!("{servo} keeps its name"));
    }
    let said = done(desk, &format!("{servo} is {name} now"), |rig| edit::rename_servo(rig, servo, name))?;
    desk.session.runner.last_known.copy(servo, name);
    Ok(said)
}

fn said_kind(form: &Form) -> Result<Kind, String> {
    let said = form.said("kind").unwrap_or_default();
    Kind::of(said).ok_or_else(|| format!("{said:?} is no kind: {}", Kind::words()))
}

fn armed(desk: &mut Context, servo: &str, form: &Form) -> Result<String, String> {
    let time = Seconds::new(entry::seconds(form.said("for").unwrap_or_default())?);
    if time == Seconds::ZERO {
        return done(desk, &format!("{servo} follows at once"), |rig| edit::set_arming(rig, servo, None));
    }
    let context = dialog::pulse_context(desk).ok_or("no servo is picked")?;
    let pulse = entry::pulse(form.said("neutral").unwrap_or_default(), &context)?;
    let words = format!("{servo} sees {:.0} µs for {:.1} s before it follows", pulse.get(), time.get());
    let arming = Arming { pulse_us: Some(pulse), for_s: time };
    done(desk, &words, |rig| edit::set_arming(rig, servo, Some(arming)))
}

/// Channel and board that a form says; without a board's word there is one board only.
fn plugged(form: &Form, rig: &Rig) -> Result<(u8, String), String> {
    let channel = form.said("channel").unwrap_or_default();
    let only = rig.boards.first().map_or("", |b| b.name.as_str());
    let board = form.said("board").unwrap_or(only);
    let last = rig.board(board).map_or(Chip::ALL[0], |board| board.chip).channels() - 1;
    let channel = channel.parse().map_err(|_| format!("a channel is a whole number from 0 to {last}"))?;
    Ok((channel, board.to_owned()))
}
