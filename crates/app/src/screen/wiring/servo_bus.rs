//! A bus of smart servos is lent: to look who is there, and to give a servo another id or another rate.

use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::questions;
use crate::screen::ready::{Ready, need, simulated};
use crate::screen::scene::Scene;
use crate::screen::wiring::state::Lent;
use crate::screen::wiring::view::ids;
use std::ops::RangeInclusive;
use std::sync::Arc;
use wasvolta_core::rig::edit::{boards as edit, roster};
use wasvolta_core::rig::{Board, BoardId, Layout};
use wasvolta_port::board::Stand;
use wasvolta_port::smart::errand::{Errand, What};

questions! {
    SEEK("scan ids") => |desk, about, form| sought(desk, &about.of, form);
    ID("another id") => |desk, about, form| page_id(desk, about, form);
    WRITE_ID("write id", label: "write", words: |_, form| form.subject.words.clone()) => |desk, about, _| {
        let (from, to) = two(&about.with)?;
        let (from, to) = (small(from)?, small(to)?);
        lend(desk, &about.of, What::Id { from, to })?;
        Ok(format!("looking whether id {from} is alone; then it is written"))
    };
    MODEL("keep model", label: "keep", words: |_, form| form.subject.words.clone()) => |desk, about, _| {
        let model = about.with.parse().map_err(|_| "which model is it?".to_owned())?;
        let servo = &about.of;
        desk.done(&format!("{servo} is model {model}: ‹engage› makes it stiff"), |rig| roster::set_model(rig, servo, model))
    };
    HAND("simulated hand") => |desk, about, form| moved_by_hand(desk, &about.of, form);
    RATE("another rate") => |desk, about, form| page_rate(desk, about, form);
    WRITE_RATE("write rate", label: "write", words: |_, form| form.subject.words.clone()) => |desk, about, _| {
        let (id, to) = two(&about.with)?;
        let id = small(id)?;
        lend(desk, &about.of, What::Baud { id, to })?;
        Ok(format!("looking whether id {id} is alone; then its rate is written"))
    };
}

/// The picked board is a bus of smart servos.
pub fn on_a_bus(scene: &Scene) -> Ready {
    let smart = scene.plug().is_some_and(|(board, _, _)| board.chip.row().is_smart);
    need(smart, "this is not a bus of smart servos: ‹less› ‹more› pick one, ‹add board› adds one")
}

/// The same, with a servo picked there.
pub fn on_an_id(scene: &Scene) -> Ready {
    on_a_bus(scene)?;
    let there = scene.plug().is_some_and(|(board, id, _)| scene.channels(board).contains(&id));
    need(there, "no id is picked: ‹scan ids› finds who answers")
}

/// The picked servo says that it is another model than the rig has, or the rig has none.
pub fn of_a_model(scene: &Scene) -> Ready {
    need(said_model(scene).is_some(), "it says no model that the rig does not have already")
}

fn said_model(scene: &Scene) -> Option<(u16, bool)> {
    match scene.picked()?.feedback?.stand {
        Stand::UnknownModel(model) => Some((model, false)),
        Stand::OtherModel(model) => Some((model, true)),
        _ => None,
    }
}

/// Asks whether the model that the picked servo says it is may be kept: by it another one is known that is plugged in later.
pub fn ask_model(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (Some((model, other)), Some(picked)) = (said_model(&scene), scene.picked()) else { return };
    let name = picked.servo.name.clone();
    let layout = picked.board.layout.clone().unwrap_or_default();
    let instead = match picked.servo.model.filter(|_| other) {
        Some(known) => format!(", not {known} as the rig has it"),
        None => String::new(),
    };
    let words = format!(
        "{name} says that it is model {model}{instead}. Does {layout} match its data sheet? A wrong layout \
         would write to the wrong registers. From then on, nothing is sent to a servo of another model."
    );
    desk.ask(MODEL.name, Subject { of: name, with: model.to_string(), words }, Vec::new());
}

/// A smart servo of the simulated bench is picked.
pub fn in_hand(scene: &Scene) -> Ready {
    simulated(scene)?;
    let smart = scene.picked().is_some_and(|picked| picked.servo.kind.is_smart());
    need(smart, "only a smart servo can be moved by the simulated hand: pick one")
}

/// Asks where the hand moves it.
pub fn hand(desk: &mut Context) {
    if let Some(name) = desk.servo().map(|servo| servo.name.clone()) {
        let fields =
            vec![Field::new("to", "", "as 20deg, by -5deg, 2300counts; a stiff one cannot be moved")];
        desk.ask(HAND.name, Subject::of(&name), fields);
    }
}

fn moved_by_hand(desk: &mut Context, servo: &str, form: &Form) -> Result<String, String> {
    let context = desk.pulse_context().ok_or("no servo is picked")?;
    let to = entry::pulse(form.word(0), &context)?;
    let rig = &desk.session.document.rig;
    let part = rig.servo(servo).ok_or("it is gone")?;
    let simulated = desk.session.runner.simulated.as_ref().ok_or("nothing is simulated here")?;
    if simulated.hand(rig, part, to.get()) {
        Ok(format!("{servo} was moved by hand to {}", part.kind.show_place(to)))
    } else {
        Err(format!("{servo} cannot be moved there: it is stiff, or its travel ends before"))
    }
}

fn picked(desk: &Context) -> Option<(Board, u8)> {
    let (board, id, _) = desk.model.scene(desk.session).plug()?;
    Some((board.clone(), id))
}

fn layout_of<'a>(desk: &'a Context, board: &Board) -> Option<&'a Layout> {
    let rig = &desk.session.document.rig;
    board.layout.as_deref().and_then(|name| Layout::named(rig, name))
}

/// Asks which ids at which rates are to be asked; while a bus is lent, gives that up.
pub fn seek(desk: &mut Context) {
    if let Some(lent) = desk.model.in_wiring.lent.as_ref().filter(|lent| !lent.errand.is_over()) {
        return lent.errand.give_up();
    }
    let Some((board, _)) = picked(desk) else { return };
    let Some(layout) = layout_of(desk, &board) else { return };
    let last = if layout.form == 1 { 253 } else { 252 };
    let own = ids::rate(&desk.model.scene(desk.session), &board);
    let fields = vec![
        Field::new("ids", format!("0 to {last}"), "the first and the last; only reading, some 6 s a rate"),
        Field::new("rates", own.to_string(), "in Bd, or all that its layout knows: all"),
    ];
    desk.ask(SEEK.name, Subject::of(&board.name), fields);
}

fn sought(desk: &mut Context, board: &str, form: &Form) -> Result<String, String> {
    let ids = ids_of(form.said("ids").unwrap_or_default())?;
    let rig = &desk.session.document.rig;
    let layout = rig.board(board).and_then(|board| Layout::named(rig, board.layout.as_deref()?));
    let bauds = match form.said("rates").unwrap_or_default() {
        "all" => layout.map_or_else(Vec::new, |layout| layout.bauds.iter().map(|row| row.baud).collect()),
        said => said
            .split([' ', ','])
            .filter(|word| !word.is_empty())
            .map(|word| {
                word.parse()
                    .map_err(|_| format!("{word:?} is not a rate: write one, such as 1000000, or all"))
            })
            .collect::<Result<Vec<u32>, _>>()?,
    };
    if bauds.is_empty() {
        return Err("give a rate, such as 1000000, or all".to_owned());
    }
    lend(desk, board, What::Seek { bauds, ids })?;
    Ok(format!("asking every id on {board}, by reading only; ‹scan ids› stops it"))
}

fn ids_of(said: &str) -> Result<RangeInclusive<u8>, String> {
    let wrong = || format!("{said:?}: write the first and the last id, as 0 to 20");
    let (first, last) = match said.split_once("to").or_else(|| said.split_once('-')) {
        Some((first, last)) => (first.trim(), last.trim()),
        None => (said.trim(), said.trim()),
    };
    let first: u8 = first.parse().map_err(|_| wrong())?;
    let last: u8 = last.parse().map_err(|_| wrong())?;
    if first > last || last > 253 {
        return Err(wrong());
    }
    Ok(first..=last)
}

/// Asks which id the picked servo is to have.
pub fn give_id(desk: &mut Context) {
    let Some((board, id)) = picked(desk) else { return };
    let fields = vec![Field::new("id", "", "0 to 252; the next page says what is written before it is")];
    let about = Subject { of: board.name, with: id.to_string(), words: String::new() };
    desk.ask(ID.name, about, fields);
}

/// The page before anything is written.
fn page_id(desk: &mut Context, about: &Subject, form: &Form) -> Result<String, String> {
    let from: u8 = about.with.parse().map_err(|_| "which id is it?".to_owned())?;
    let said = form.word(0);
    let to: u8 = said.parse().map_err(|_| format!("{said:?} is not an id: a whole number from 0 to 252"))?;
    let board = desk.session.document.rig.board(&about.of).cloned().ok_or("the bus is gone")?;
    let layout = layout_of(desk, &board).ok_or("its layout is gone")?;
    if to > if layout.form == 1 { 253 } else { 252 } {
        return Err(format!("{to} is not an id on a bus of form {}", layout.form));
    }
    if to == from {
        return Err(format!("it has the id {from} already"));
    }
    let rig = &desk.session.document.rig;
    if let Some(other) = rig.servos_on(&board.name).find(|servo| servo.plug() == to) {
        return Err(format!("{} has the id {to} in this rig: give that another one first", other.name));
    }
    let register = layout.registers.id.at;
    let words = format!(
        "Leave only this servo on {}. Its drive is switched off; then its id, register {register}, is written: {from} → {to}, \
         kept without supply. It is read back, and set back if it does not answer. ‹undo› does not undo it.",
        board.port
    );
    ask_page(desk, WRITE_ID.name, &board.name, &format!("{from} {to}"), words);
    Ok(String::new())
}

/// Starts the picked servo anew: nothing is kept in its memory by that.
pub fn start_anew(desk: &mut Context) {
    let Some((board, id)) = picked(desk) else { return };
    match lend(desk, &board.name, What::Anew { id }) {
        Ok(()) => desk.say(&format!("starting id {id} anew")),
        Err(why) => desk.refuse(&why),
    }
}

/// Asks which rate the picked servo is to have.
pub fn give_rate(desk: &mut Context) {
    let Some((board, id)) = picked(desk) else { return };
    let Some(layout) = layout_of(desk, &board) else { return };
    let own = ids::rate(&desk.model.scene(desk.session), &board);
    let rates =
        layout.bauds.iter().map(|row| row.baud).filter(|baud| *baud != own).map(|baud| baud.to_string());
    let field = Field::new("rate", "", "in Bd; the next page says what is written").offering(rates.collect());
    let about = Subject { of: board.name.clone(), with: id.to_string(), words: String::new() };
    desk.ask(RATE.name, about, vec![field]);
}

fn page_rate(desk: &mut Context, about: &Subject, form: &Form) -> Result<String, String> {
    let id: u8 = about.with.parse().map_err(|_| "which id is it?".to_owned())?;
    let said = form.word(0);
    let to: u32 = said.parse().map_err(|_| format!("{said:?} is not a rate"))?;
    let board = desk.session.document.rig.board(&about.of).cloned().ok_or("the bus is gone")?;
    let layout = layout_of(desk, &board).ok_or("its layout is gone")?;
    let Some(row) = layout.bauds.iter().find(|row| row.baud == to) else {
        let known: Vec<String> = layout.bauds.iter().map(|row| row.baud.to_string()).collect();
        return Err(format!("{} knows no {to} Bd, but {}", layout.name, known.join(", ")));
    };
    let (register, number) = (layout.registers.baud.at, row.number);
    let others = desk.session.document.rig.servos_on(&board.name).count().saturating_sub(1);
    let rest = match others {
        0 => String::new(),
        _ => " The others on this bus keep their rate and are not heard until they have this one too."
            .to_owned(),
    };
    let words = format!(
        "Leave only this servo on {}. Its drive is switched off; then its rate, register {register}, is written as {number}: {} Bd, \
         kept without supply. It is read back at that rate, and set back if it does not answer; the rig's port follows.{rest}",
        board.port,
        ids::grouped(to)
    );
    ask_page(desk, WRITE_RATE.name, &board.name, &format!("{id} {to}"), words);
    Ok(String::new())
}

fn ask_page(desk: &mut Context, question: &'static str, board: &str, with: &str, words: String) {
    desk.ask(question, Subject { of: board.to_owned(), with: with.to_owned(), words }, Vec::new());
}

fn two(said: &str) -> Result<(u32, u32), String> {
    let parts = said.split_once(' ').and_then(|(a, b)| Some((a.parse().ok()?, b.parse().ok()?)));
    parts.ok_or_else(|| format!("{said:?} was not understood"))
}

fn small(number: u32) -> Result<u8, String> {
    u8::try_from(number).map_err(|_| format!("{number} is not an id"))
}

/// Lends a bus of the rig to an errand.
///
/// # Errors
/// In words, when one is lent already or the bus is gone.
pub fn lend(desk: &mut Context, board: &str, what: What) -> Result<(), String> {
    if desk.model.in_wiring.lent.as_ref().is_some_and(|lent| !lent.errand.is_over()) {
        return Err("a bus is busy with another job already: ‹scan ids› stops that".to_owned());
    }
    let board = desk.session.document.rig.board(board).ok_or("the bus is gone")?.id;
    let errand = Errand::new(what);
    if !desk.session.runner.engine.lend(board, Arc::clone(&errand)) {
        return Err("the engine is busy: try again".to_owned());
    }
    desk.model.in_wiring.lent = Some(Lent { board, errand, told: false });
    Ok(())
}

/// Whether the last errand was to feel for ends, and ended well, and that was said.
pub fn has_felt(desk: &Context) -> bool {
    let lent = desk.model.in_wiring.lent.as_ref().filter(|lent| lent.told);
    lent.is_some_and(|lent| {
        matches!(lent.errand.what, What::Feel(_)) && matches!(lent.errand.said().end, Some(Ok(_)))
    })
}

/// Any key stops a servo that feels for its ends; whether one was.
pub fn stop_feeling(desk: &mut Context) -> bool {
    let feels = desk
        .model
        .in_wiring
        .lent
        .as_ref()
        .filter(|lent| matches!(lent.errand.what, What::Feel(_)) && !lent.errand.is_over());
    let Some(lent) = feels else { return false };
    lent.errand.give_up();
    true
}

/// What follows from an errand that has ended well: the rig knows the servo by what it has now.
pub fn follow(desk: &mut Context) {
    let Some(lent) = desk.model.in_wiring.lent.as_mut().filter(|lent| !lent.told && lent.errand.is_over())
    else {
        return;
    };
    lent.told = true;
    let (board, errand) = (lent.board, Arc::clone(&lent.errand));
    match errand.said().end {
        Some(Ok(words)) => {
            if matches!(errand.what, What::Id { .. } | What::Baud { .. }) {
                desk.model.note(desk.model.snapshot.now, &format!("written to memory: {words}"));
            }
            let followed = follow_in_rig(desk, board, &errand.what);
            desk.say(&format!("{words}{}", followed.unwrap_or_default()));
        }
        Some(Err(why)) => desk.refuse(&why),
        None => {}
    }
}

fn errand_found(desk: &Context) -> Vec<u8> {
    let lent = desk.model.in_wiring.lent.as_ref();
    lent.map_or_else(Vec::new, |lent| lent.errand.said().found.iter().map(|found| found.id).collect())
}

fn follow_in_rig(desk: &mut Context, board: BoardId, what: &What) -> Option<String> {
    let board = desk.session.runner.edition.board(board)?.clone();
    match *what {
        What::Seek { .. } => {
            // The first that the rig does not have is the next to be added.
            let found = errand_found(desk);
            let rig = &desk.session.document.rig;
            let known = |id: u8| rig.servos_on(&board.name).any(|servo| servo.plug() == id);
            if let Some(id) = found.into_iter().find(|id| !known(*id)) {
                desk.model.in_wiring.plug.1 = id;
            }
            None
        }
        What::Feel(_) | What::Anew { .. } => None,
        What::Id { from, to } => {
            let rig = &desk.session.document.rig;
            let servo = rig.servos_on(&board.name).find(|servo| servo.plug() == from)?.name.clone();
            let words = format!("{servo} has the id {to}");
            match desk.done(&words, |rig| roster::move_servo(rig, &servo, &board.name, to)) {
                Ok(_) => {
                    desk.model.in_wiring.plug.1 = to;
                    Some(format!("; {servo} has it in the rig too"))
                }
                Err(why) => Some(format!("; the rig does not follow: {why}")),
            }
        }
        What::Baud { to, .. } => {
            let words = format!("{} speaks at {to} Bd", board.port);
            match desk.done(&words, |rig| edit::set_rate(rig, &board.port, to)) {
                Ok(_) => Some("; so does the rig's port".to_owned()),
                Err(why) => Some(format!("; the rig does not follow: {why}")),
            }
        }
    }
}
