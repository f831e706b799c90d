//! Who is there: servos come and go, change their name, their kind or their plug; and the forms that ask for it.

use crate::say::counted;
use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::questions;
use crate::screen::wiring::acts as wiring;
use wasvolta_core::rig::edit::{list, roster as edit};
use wasvolta_core::rig::{Arming, Chip, Kind, Rig};
use wasvolta_core::unit::Seconds;

const NAME: &str = "as heron.neck: the part before a dot groups";

questions! {
    PASTE("add servos", label: "add", words: |scene, form| match list::read(&form.subject.with, scene.rig) {
        Ok(rows) => pasted_words(&rows),
        Err(why) => why.to_string(),
    }) => |desk, about, _| {
        let rows = list::read(&about.with, &desk.session.document.rig).map_err(|why| why.to_string())?;
        desk.done(&format!("{} added", counted(rows.len(), "servo")), |rig| list::add(rig, &rows))
    };
    ADD("add servo") => |desk, _, form| added(desk, form);
    RENAME("rename servo", label: "rename") => |desk, about, form| wiring::renamed(desk, &about.of, form.word(0));
    MOVE("move servo", label: "move") => |desk, about, form| moved(desk, &about.of, form);
    REMOVE("remove servo", label: "remove", words: |scene, form| {
        let servo = &form.subject.of;
        let refers = edit::spoken_of(scene.rig, servo);
        let with = if refers.is_empty() { String::new() } else { format!(" and what {refers} say of it") };
        format!("Remove {servo}, its joint and marks{with}? It can be undone.")
    }) => |desk, Subject { of: servo, .. }, _| {
        desk.done(&format!("{servo} removed; ‹undo› brings it back"), |rig| edit::remove_servo(rig, servo))
    };
    REPLACE("replace servo", label: "replace", words: |_, form| {
        let words = "Its marks and endpoints go to a card; limits, poses and mappings stay. Horn off first.";
        format!("Was {} exchanged for another servo? {words}", form.subject.of)
    }) => |desk, about, _| replaced(desk, &about.of);
    CHANGE_KIND("kind") => |desk, about, form| changed_kind(desk, &about.of, form);
    ARMING("arming") => |desk, about, form| armed(desk, &about.of, form);
}

fn picked(desk: &Context) -> Option<(String, String, u8)> {
    let servo = desk.servo()?;
    Some((servo.name.clone(), servo.board.clone(), servo.plug()))
}

/// What a pasted list would add.
fn pasted_words(rows: &[list::Row]) -> String {
    let shown = rows.iter().take(3).map(|row| format!("{} on {} {}", row.name, row.board, row.channel));
    let more = if rows.len() > 3 { ", …" } else { "" };
    let shown = shown.collect::<Vec<_>>().join(", ");
    format!("Add {}: {shown}{more}? It can be undone.", counted(rows.len(), "servo"))
}

/// Asks whether the servos of a pasted list are to be added: a name, a board and a channel in each row.
pub fn paste(desk: &mut Context, text: &str) {
    match list::read(text, &desk.session.document.rig) {
        Ok(_) => {
            let subject = Subject { with: text.to_owned(), ..Subject::default() };
            desk.ask(PASTE.name, subject, Vec::new());
        }
        Err(why) => desk.refuse(&format!("pasted: {why}")),
    }
}

/// Asks for a new servo's name and channel; the board only where there are several.
pub fn add(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    // In Wiring the picked channel is meant, if it is free.
    let here = desk.model.scene(desk.session).plug().filter(|(_, _, servo)| servo.is_none());
    let here = here
        .filter(|_| desk.model.view == crate::screen::wiring::VIEW)
        .map(|(board, channel, _)| (board.name.as_str(), channel));
    let Some((board, channel)) = here.or_else(|| edit::free_channel(rig)) else {
        return desk.refuse("every channel of every board has a servo: remove or move one first");
    };
    let mut fields = vec![Field::new("name", "", NAME)];
    fields.extend(plug(rig, board, channel));
    let smart = rig.board(board).is_some_and(|board| board.chip.row().is_smart);
    let kind = if smart { Kind::Smart } else { Kind::default() };
    fields.push(Field::new("kind", kind.word(), Kind::words()));
    desk.ask(ADD.name, Subject::default(), fields);
}

/// The fields that say where a plug is.
fn plug(rig: &Rig, board: &str, channel: u8) -> Vec<Field> {
    let chip = rig.board(board).map_or(Chip::ALL[0], |board| board.chip).row();
    let which =
        if chip.channel_word == "channel" { String::new() } else { format!("the {}, ", chip.channel_word) };
    let hint = if chip.is_smart {
        format!("its id, 0 to {}", chip.channels - 1)
    } else {
        format!("{which}0 to {}, as printed on the board", chip.channels - 1)
    };
    let label = if chip.is_smart { "id" } else { "channel" };
    let mut fields = vec![Field::new(label, channel.to_string(), hint)];
    if rig.boards.len() > 1 {
        fields.push(Field::new("board", board, "its name"));
    }
    fields
}

/// Asks for another name.
pub fn rename(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        let fields = vec![Field::new("name", name.clone(), NAME)];
        desk.ask(RENAME.name, Subject::of(&name), fields);
    }
}

/// Asks for another channel.
pub fn move_to(desk: &mut Context) {
    if let Some((name, board, channel)) = picked(desk) {
        let fields = plug(&desk.session.document.rig, &board, channel);
        desk.ask(MOVE.name, Subject::of(&name), fields);
    }
}

/// Asks whether a servo and what speaks of it may go.
pub fn remove(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        desk.ask(REMOVE.name, Subject::of(&name), Vec::new());
    }
}

/// Asks what hangs on the picked servo's channel.
pub fn change_kind(desk: &mut Context) {
    let Some(servo) = desk.servo() else { return };
    let (name, fields) = (servo.name.clone(), vec![Field::new("kind", servo.kind.word(), Kind::words())]);
    desk.ask(CHANGE_KIND.name, Subject::of(&name), fields);
}

/// Asks what the picked continuous servo must see before it follows.
pub fn arming(desk: &mut Context) {
    let Some(servo) = desk.servo() else { return };
    let (pulse, time) = servo.arms().unwrap_or((servo.centre(), Seconds::new(2.0)));
    let fields = vec![
        Field::new("neutral", format!("{}us", pulse.get()), "the pulse it must see"),
        Field::new("for", format!("{}s", time.get()), "its time; 0 when it follows at once"),
    ];
    let of = Subject::of(&servo.name);
    desk.ask(ARMING.name, of, fields);
}

/// Asks whether another servo has come in the place of the picked one.
pub fn replace(desk: &mut Context) {
    if let Some((name, _, _)) = picked(desk) {
        desk.ask(REPLACE.name, Subject::of(&name), Vec::new());
    }
}

fn added(desk: &mut Context, form: &Form) -> Result<String, String> {
    let (name, (channel, board)) = (form.word(0), plugged(form, &desk.session.document.rig)?);
    let kind = said_kind(form)?;
    let what = if kind.has_angles() { String::new() } else { format!(", {}", kind.word()) };
    let plug = desk.session.document.rig.plug_words(&board, channel);
    let words = format!("{name} added on {plug}{what}");
    // One that was found has said which model it is: another one in its place is known by that.
    let found = desk.session.document.rig.board(&board).map(|board| board.id);
    let model = found.and_then(|board| desk.model.in_wiring.found_at(board, channel)?.model);
    let words = model.map_or(words.clone(), |model| format!("{words}; it said that it is model {model}"));
    let said = desk.done(&words, |rig| {
        let rig = edit::add_servo(rig, name, (&board, channel), kind)?;
        match model {
            Some(model) => edit::set_model(&rig, name, model),
            None => Ok(rig),
        }
    })?;
    let last = desk.session.document.rig.servos.len().saturating_sub(1);
    desk.model.pick_servo(&desk.session.document.rig, last);
    Ok(said)
}

fn moved(desk: &mut Context, servo: &str, form: &Form) -> Result<String, String> {
    let (channel, board) = plugged(form, &desk.session.document.rig)?;
    let plug = desk.session.document.rig.plug_words(&board, channel);
    let words = format!("{servo} moved to {plug}");
    desk.done(&words, |rig| edit::move_servo(rig, servo, &board, channel))
}

fn changed_kind(desk: &mut Context, servo: &str, form: &Form) -> Result<String, String> {
    let kind = said_kind(form)?;
    if desk.session.document.rig.servo(servo).is_some_and(|part| part.kind == kind) {
        return Ok(format!("{servo} is {} already", kind.word()));
    }
    let words = format!("{servo} is {} now", kind.word());
    let said = desk.done(&words, |rig| edit::set_kind(rig, servo, kind))?;
    desk.session.runner.last_known.forget(servo);
    Ok(said)
}

/// What was found out about the old servo is on a card before it leaves the rig.
fn replaced(desk: &mut Context, servo: &str) -> Result<String, String> {
    let card = desk.session.document.keep_card(servo)?;
    let words = format!("{servo} is a new servo now: two marks make it usable; the old one's card is {card}");
    desk.done(&words, |rig| edit::replace_servo(rig, servo))?;
    desk.session.runner.last_known.forget(servo);
    Ok(words)
}

fn said_kind(form: &Form) -> Result<Kind, String> {
    let said = form.said("kind").unwrap_or_default();
    Kind::of(said).ok_or_else(|| format!("{said:?} is not a kind: {}", Kind::words()))
}

fn armed(desk: &mut Context, servo: &str, form: &Form) -> Result<String, String> {
    let time = Seconds::new(entry::seconds(form.said("for").unwrap_or_default())?);
    if time == Seconds::ZERO {
        return desk.done(&format!("{servo} follows at once"), |rig| edit::set_arming(rig, servo, None));
    }
    let context = desk.pulse_context().ok_or("no servo is picked")?;
    let pulse = entry::pulse(form.said("neutral").unwrap_or_default(), &context)?;
    let words = format!("{servo} sees {:.0} µs for {:.1} s before it follows", pulse.get(), time.get());
    let arming = Arming { pulse_us: Some(pulse.micros()), for_s: time };
    desk.done(&words, |rig| edit::set_arming(rig, servo, Some(arming)))
}

/// Channel and board that a form says; without a board's word there is one board only.
fn plugged(form: &Form, rig: &Rig) -> Result<(u8, String), String> {
    let channel = form.said("channel").or_else(|| form.said("id")).unwrap_or_default();
    let only = rig.boards.first().map_or("", |b| b.name.as_str());
    let board = form.said("board").unwrap_or(only);
    let last = rig.board(board).map_or(Chip::ALL[0], |board| board.chip).channels() - 1;
    let channel = channel.parse().map_err(|_| format!("a channel is a whole number from 0 to {last}"))?;
    Ok((channel, board.to_owned()))
}
