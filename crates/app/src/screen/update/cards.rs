//! Servo cards and tables of marks: what was found out about a servo, in files beside the rig.

use super::roster::done;
use super::{Desk, calibrate};
use crate::files;
use crate::screen::model::Dialog;
use std::path::PathBuf;
use wasvolta_core::rig::Ends;
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::edit::marks;
use wasvolta_core::rig::table;

/// Writes the picked servo's card beside the rig.
pub fn save(desk: &mut Desk) {
    let Some(servo) = calibrate::with(desk, |p| p.servo.name.clone()) else { return };
    match desk.session.keep_card(&servo) {
        Ok(name) => desk.say(&format!("card written: {name}; load card puts it on another channel")),
        Err(words) => desk.refuse(&words),
    }
}

/// A path as it is meant: beside the rig, unless it says more.
fn beside(desk: &Desk, said: &str) -> PathBuf {
    desk.session.path().with_file_name(said.trim())
}

fn read(desk: &Desk, said: &str) -> Result<Card, String> {
    let path = beside(desk, said);
    let text = std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    Card::parse(&text).map_err(|error| {
        let first = error.message().lines().next().unwrap_or("it cannot be read").to_owned();
        format!("{} is no servo card: {first}; nothing was taken over", path.display())
    })
}

/// Puts a card on a servo.
pub fn load(desk: &mut Desk, servo: &str, said: &str) -> Result<String, String> {
    let card = read(desk, said)?;
    let words =
        format!("{servo} is what the card of {} says, kept {}; u takes that back", card.name, card.kept);
    done(desk, &words, |rig| card.put(rig, servo))
}

/// Shows a card beside the servo as it is.
pub fn compare(desk: &mut Desk, servo: &str, said: &str) -> Result<String, String> {
    let card = read(desk, said)?;
    let rig = &desk.session.rig;
    let part = rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
    let own = Card { kept: "now".to_owned(), ..Card::of(rig, part, "") };
    desk.model.dialog = Some(Dialog::Compare { card: card.name.clone(), rows: own.beside(&card) });
    Ok(format!(
        "beside {}, kept {}: what differs is marked; the command compare card again for another",
        card.name, card.kept
    ))
}

/// Writes the marks of a servo as a table.
pub fn marks_out(desk: &mut Desk, servo: &str, said: &str) -> Result<String, String> {
    let part = desk.session.rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
    let path = beside(desk, said);
    files::write(&path, table::write(&part.marks)).map_err(|error| error.to_string())?;
    Ok(format!("{} marks written to {}", part.marks.len(), path.display()))
}

/// Takes marks over from a table.
pub fn marks_in(desk: &mut Desk, servo: &str, said: &str) -> Result<String, String> {
    let path = beside(desk, said);
    let text = std::fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?;
    let found = table::read(&text).map_err(|bad| format!("{}, {bad}", path.display()))?;
    let Ends(low, high) = desk.session.rig.servo(servo).map_or_else(Ends::cautious, |s| s.endpoints_us);
    let outside = found.iter().filter(|m| m.pulse_us < low || m.pulse_us > high).count();
    let beyond = if outside == 0 {
        String::new()
    } else {
        format!(
            "; {outside} outside its endpoints {:.0} to {:.0} µs: they count, nothing goes there",
            low.get(),
            high.get()
        )
    };
    let words = format!("{} marks taken over from {}{beyond}", found.len(), path.display());
    done(desk, &words, |rig| marks::add_marks(rig, servo, &found))
}
