//! Servo cards and tables of marks: what was found out about a servo, in files beside the rig.

use crate::files;
use crate::files::input::{self, What};
use crate::screen::context::Context;
use crate::screen::dialog::Dialog;
use crate::screen::form::Subject;
use crate::screen::question::questions;
use crate::screen::written;
use wasvolta_core::rig::Ends;
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::edit::marks;
use wasvolta_core::rig::table;

/// Writes the picked servo's card beside the rig.
pub fn save(desk: &mut Context) {
    let Some(servo) = desk.picked(|p| p.servo.name.clone()) else { return };
    match desk.session.document.keep_card(&servo) {
        Ok(name) => desk.say(&format!("card written: {name}; ‹load card› loads it into another servo")),
        Err(words) => desk.refuse(&words),
    }
}

fn read(desk: &Context, said: &str) -> Result<Card, String> {
    let path = written::beside(desk, said);
    files::card(&path).map_err(|bad| {
        let first = bad.first().map_or_else(String::new, |place| format!(": {place}"));
        format!("{bad}{first}; nothing was read in")
    })
}

questions! {
    PUT("put card", label: "load card", words: |_, form| form.subject.words.clone())
        => |desk, Subject { of: servo, with, .. }, _| {
            let card = read(desk, with)?;
            let words =
                format!("{servo} has the data of the card of {}, kept {}; ‹undo› takes that back", card.name, card.kept);
            desk.done(&words, |rig| card.put(rig, servo))
        };
}

/// Reads a card and asks whether what it says takes the place of what is known of a servo.
pub fn load(desk: &mut Context, servo: &str, said: &str) -> Result<String, String> {
    let card = read(desk, said)?;
    // What cannot be put there is refused before it is asked about.
    card.put(&desk.session.document.rig, servo).map_err(|refused| refused.to_string())?;
    let marks = desk.session.document.rig.servo(servo).map_or(0, |servo| servo.marks.len());
    let replaced = match marks {
        0 => "its endpoints".to_owned(),
        1 => "its mark and its endpoints".to_owned(),
        marks => format!("its {marks} marks and its endpoints"),
    };
    let words = format!(
        "Load the card of {}, kept {}, into {servo}? It replaces {replaced}. It can be undone.",
        card.name, card.kept
    );
    let subject = Subject { of: servo.to_owned(), with: said.to_owned(), words };
    desk.ask(PUT.name, subject, Vec::new());
    Ok(String::new())
}

/// Shows a card beside the servo as it is.
pub fn compare(desk: &mut Context, servo: &str, said: &str) -> Result<String, String> {
    let card = read(desk, said)?;
    let rig = &desk.session.document.rig;
    let part = rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
    let own = Card { kept: "now".to_owned(), ..Card::of(rig, part, "") };
    desk.model.dialog = Some(Dialog::Compare {
        other: format!("card of {}", card.name),
        words: format!("This servo beside the card of {}; ≠ stands where they differ.", card.name),
        angles: Vec::new(),
        rows: own.beside(&card).into_iter().map(Into::into).collect(),
    });
    Ok(format!(
        "beside {}, kept {}: what differs is marked; ‹compare card› again for another",
        card.name, card.kept
    ))
}

/// Writes the marks of a servo as a table.
pub fn marks_out(desk: &mut Context, servo: &str, said: &str) -> Result<String, String> {
    let part =
        desk.session.document.rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
    let (text, count) = (table::write(&part.marks), part.marks.len());
    let path = written::write(
        desk,
        said,
        |desk, path, replace| desk.session.document.outputs.write(path, text.as_bytes(), replace),
        |refused| Some(refused),
    )?;
    Ok(format!("{count} marks written to {}", path.display()))
}

/// Takes marks over from a table.
pub fn marks_in(desk: &mut Context, servo: &str, said: &str) -> Result<String, String> {
    let path = written::beside(desk, said);
    let text =
        input::text(&path, What::Table).map_err(|why| format!("cannot read {}: {why}", path.display()))?;
    let found = table::read(&text).map_err(|bad| format!("{}, {bad}", path.display()))?;
    let Ends { low, high } = desk
        .session
        .document
        .rig
        .servo(servo)
        .map_or_else(|| Ends::cautious().places(), wasvolta_core::rig::Servo::ends);
    let kind = desk.session.document.rig.servo(servo).map_or_else(Default::default, |servo| servo.kind);
    let outside = found.iter().filter(|m| m.place() < low || m.place() > high).count();
    let beyond = if outside == 0 {
        String::new()
    } else {
        format!(
            "; {outside} outside its endpoints {:.0} to {}: they count, but no pulse goes there",
            low.get(),
            kind.show_place(high)
        )
    };
    let words = format!("{} marks read from {}{beyond}", found.len(), path.display());
    desk.done(&words, |rig| marks::add_marks(rig, servo, &found))
}
