//! Boards come with their ports, are told their supply, change their name, and go.

use crate::fresh;
use crate::screen::context::Context;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::pick::Pick;
use crate::screen::question::questions;
use wasvolta_core::rig::edit::boards as edit;
use wasvolta_core::rig::{Chip, Layout, Rail, Rig};
use wasvolta_core::unit::{Amps, Volts};

questions! {
    ADD("add board") => |desk, _, form| added(desk, form);
    RAIL("supply") => |desk, about, form| fed(desk, &about.of, form);
    RENAME("rename board", label: "rename") => |desk, Subject { of: board, .. }, form| {
        let name = form.word(0);
        desk.done(&format!("{board} is {name} now"), |rig| edit::rename_board(rig, board, name))
    };
    REMOVE("remove board", label: "remove", words: |_, form| {
        format!("Remove the board {}? It can be undone.", form.subject.of)
    }) => |desk, Subject { of: board, .. }, _| {
        desk.done(&format!("{board} removed; ‹undo› brings it back"), |rig| edit::remove_board(rig, board))
    };
}

/// Asks for a new board's name, kind, place and address; what a look has found and the rig does not know is proposed.
pub fn add(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let found = desk.model.scene(desk.session).found_boards().next();
    let found = found.map(|(bus, device)| (port_or_path(rig, &bus.path), device.address));
    let bus = edit::first_bus(rig);
    let free = || Some((bus.to_owned(), edit::free_address(rig, bus)?));
    let Some((place, address)) = found.or_else(free) else {
        return desk.refuse("every address of this bus has a board");
    };
    let fields = vec![
        Field::new("name", edit::free_board_name(rig), "as it is called on the bench"),
        Field::new(
            "address",
            format!("{address:#04x}"),
            "of an expander: 0x40 to 0x7f, as its jumpers set it",
        ),
        Field::new("on", place, "a port, or a path such as /dev/i2c-1; PATH@BAUD behind a bridge"),
        Field::new("kind", "pwm-expander", kinds()),
        Field::new("layout", "", layouts(rig)),
    ];
    desk.ask(ADD.name, Subject::default(), fields);
}

/// The kinds of boards, by their names.
fn kinds() -> String {
    let words: Vec<&str> = Chip::ALL.iter().map(|chip| chip.word()).collect();
    words.join(", ")
}

/// The layouts that a rig knows, by their names.
fn layouts(rig: &Rig) -> String {
    let own = rig.layouts.iter().map(|layout| layout.name.as_str());
    let all: Vec<&str> = Layout::shipped().iter().map(|layout| layout.name.as_str()).chain(own).collect();
    format!("of a smart-bus: {}", all.join(", "))
}

/// The name of the port at a path, or the path itself.
fn port_or_path(rig: &Rig, path: &str) -> String {
    let port = rig.ports.iter().find(|port| port.path == path);
    port.map_or(path, |port| port.name.as_str()).to_owned()
}

/// Adds the board that a form says, and its port where there is none yet.
fn added(desk: &mut Context, form: &Form) -> Result<String, String> {
    let said = |label| form.said(label).unwrap_or_default();
    let chip = Chip::of(said("kind")).ok_or_else(|| format!("a board is one of {}", kinds()))?;
    let layout = Some(said("layout")).filter(|layout| !layout.is_empty());
    if chip.row().is_smart && layout.is_none() {
        let layouts = layouts(&desk.session.document.rig);
        return Err(format!("say where the registers of its servos stand: {layouts}"));
    }
    let address = match chip {
        chip if chip.has_address() => {
            Some(fresh::address(said("address")).map_err(|error| error.to_string())?)
        }
        _ => None,
    };
    let (path, baud) = match said("on").rsplit_once('@') {
        Some((path, baud)) => (path, Some(baud.parse().map_err(|_| format!("{baud:?} is not a baud rate"))?)),
        None => (said("on"), None),
    };
    if path.is_empty() {
        return Err("say where it hangs: a port's name, or a path such as /dev/i2c-1".to_owned());
    }
    let rig = &desk.session.document.rig;
    let there = rig.ports.iter().find(|port| port.name == path || port.path == path);
    let port = match there {
        Some(port) if baud.is_some() && baud != port.baud => {
            return Err(format!("{} is there already, at another rate: correct it in the file", port.name));
        }
        Some(port) if rig.links.iter().any(|link| link.on == port.name) => {
            return Err(format!("a link stands on {}: a board wants a line of its own", port.name));
        }
        Some(port) => port.name.clone(),
        None => desk.session.runner.name_for_port(chip, path)?,
    };
    let name = said("name");
    let place = address.map_or_else(|| format!("on {path}"), |address| format!("at {address:#04x}"));
    let drawn = if address.is_some() { ": its jumpers are drawn beside it" } else { "" };
    let new = edit::NewBoard { name, chip, port: &port, path: (path, baud), address, layout };
    let words = desk.done(&format!("{name} added {place}{drawn}"), |rig| edit::add_board(rig, &new))?;
    desk.model.in_wiring.plug = (Pick::at(&desk.session.document.rig.boards, usize::MAX), 0);
    Ok(words)
}

/// Asks which supply feeds the picked board's servos.
pub fn rail(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let Some(board) = desk.board() else { return };
    let of = |name: &String| rig.rails.iter().find(|rail| rail.name == *name);
    let rail = board.rail.as_ref().and_then(of).or_else(|| rig.rails.first());
    let number = |value: Option<f64>| value.map_or_else(String::new, |value| value.to_string());
    let fields = vec![
        Field::new("rail", rail.map_or("servo-supply", |r| r.name.as_str()), "its name; empty: on none"),
        Field::new("volts", number(rail.map(|r| r.volts.get())), "what it gives, as 6"),
        Field::new("amps", number(rail.map(|r| r.amps.get())), "what it can give at most, as 4"),
    ];
    let of = Subject::of(&board.name);
    desk.ask(RAIL.name, of, fields);
}

/// Puts a board on the rail that a form says.
fn fed(desk: &mut Context, board: &str, form: &Form) -> Result<String, String> {
    let name = form.said("rail").unwrap_or_default();
    if name.is_empty() {
        return desk.done(&format!("{board} hangs on no rail"), |rig| edit::feed_board(rig, board, None));
    }
    let number = |label: &str, unit: char| {
        let said = form.said(label).unwrap_or_default().trim_end_matches([unit, ' ']);
        said.parse::<f64>().map_err(|_| format!("{label}: write a number, as on the supply"))
    };
    let (volts, amps) = (Volts::new(number("volts", 'V')?), Amps::new(number("amps", 'A')?));
    let there = desk.session.document.rig.rails.iter().find(|rail| rail.name == name).cloned();
    let rail = Rail { name: name.to_owned(), volts, amps, ..there.unwrap_or_default() };
    let words = format!("{board} is fed by {name}, {} V and {} A", rail.volts.get(), rail.amps.get());
    desk.done(&words, |rig| edit::feed_board(rig, board, Some(&rail)))
}

fn picked(desk: &Context) -> Option<String> {
    desk.board().map(|b| b.name.clone())
}

/// Asks for another name for the picked board.
pub fn rename(desk: &mut Context) {
    if let Some(name) = picked(desk) {
        let fields = vec![Field::new("name", name.clone(), "as it is called on the bench")];
        desk.ask(RENAME.name, Subject::of(&name), fields);
    }
}

/// Asks whether the picked board may go.
pub fn remove(desk: &mut Context) {
    if let Some(name) = picked(desk) {
        desk.ask(REMOVE.name, Subject::of(&name), Vec::new());
    }
}

/// Asks again what to do with pulses that were found: the question was left open.
pub fn found(desk: &mut Context) {
    desk.model.ask_again();
}
