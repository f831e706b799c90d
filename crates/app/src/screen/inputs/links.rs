//! Links and inputs come, change their names and places, and go.

use crate::screen::context::Context;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::pick::Pick;
use crate::screen::question::questions;
use std::path::Path;
use wasvolta_core::rig::edit::links::{self as edit, NewLink};
use wasvolta_core::rig::{Input, Port, PortKind, Protocol, Rig};
use wasvolta_core::stage::AsIf;
use wasvolta_port::claim;
use wasvolta_port::scan::Roots;

questions! {
    ADD_LINK("add link") => |desk, _, form| added_link(desk, form);
    RENAME_LINK("rename link") => |desk, _, form| {
        let (link, name) = (form.word(0), form.word(1));
        desk.done(&format!("the link {link} is called {name} now"), |rig| edit::rename_link(rig, link, name))
    };
    MOVE_LINK("move link") => |desk, _, form| {
        let link = form.word(0);
        let place = place(desk, form.word(1))?;
        let protocol = protocol(form.word(2))?;
        let to = NewLink { name: link, port: &place.port, way: place.way(), protocol };
        desk.done(&format!("the link {link} is on {} now", form.word(1)), |rig| edit::move_link(rig, link, &to))
    };
    REMOVE_LINK("remove link") => |desk, _, form| {
        let link = form.word(0);
        desk.done(&format!("the link {link} removed; ‹undo› brings it back"), |rig| edit::remove_link(rig, link))
    };
    ADD_INPUT("add input") => |desk, _, form| {
        let (name, link, channel) = (form.word(0), form.word(1), form.word(2));
        let rig = &desk.session.document.rig;
        let protocol = rig.link(link).and_then(|link| rig.protocol_of(link));
        let protocol = protocol.ok_or_else(|| no_link(rig, link))?;
        let ends = desk.model.snapshot_ends(&desk.session.runner.edition, link, channel);
        let input = edit::usual_input(name, (link, protocol), channel, ends);
        let said = desk.done(
            &format!("{name} is an input now"),
            |rig| edit::add_input(rig, input),
        )?;
        pick(desk, name);
        Ok(said)
    };
    RENAME_INPUT("rename input") => |desk, Subject { of, .. }, form| {
        let name = form.word(0);
        desk.done(&format!("{of} is called {name} now"), |rig| edit::rename_input(rig, of, name))
    };
    REMOVE_INPUT("remove input", words: |scene, form| {
        let of = &form.subject.of;
        let drives = scene.rig.mappings.iter().filter(|mapping| mapping.inputs().any(|name| name == of)).count();
        let id = scene.rig.inputs.iter().find(|input| input.name == *of).map(|input| input.id);
        let stands_in = (0..scene.rig.inputs.len())
            .filter_map(|n| scene.input_state(n)?.as_if)
            .any(|by| matches!(by, AsIf::Like(other) if Some(other) == id));
        let drives = match (drives, stands_in) {
            (_, true) => "Another input takes its value, and gets none then.",
            (0, false) => "It drives nothing.",
            _ => "What it drives is untied.",
        };
        format!("Remove the input {of}? {drives} It can be undone.")
    }) => |desk, Subject { of, .. }, _| {
        desk.done(&format!("{of} removed; ‹undo› brings it back"), |rig| edit::remove_input(rig, of))
    };
    MOVE_INPUT("input's channel") => |desk, Subject { of, .. }, form| {
        let (link, channel) = (form.word(0), form.word(1));
        let rig = &desk.session.document.rig;
        if rig.link(link).is_none() {
            return Err(no_link(rig, link));
        }
        let words = format!("{of} reads {channel} of {link} now; what it drives stays");
        desk.done(&words, |rig| edit::move_input(rig, of, link, channel))
    };
}

fn no_link(rig: &Rig, name: &str) -> String {
    let there: Vec<&str> = rig.links.iter().map(|link| link.name.as_str()).collect();
    if there.is_empty() {
        "this rig has no link yet: ‹add link› adds one".to_owned()
    } else {
        format!("no link is called {name:?}: there is {}", there.join(", "))
    }
}

/// Picks an input by its name, as edited last.
pub fn pick(desk: &mut Context, name: &str) {
    let inputs = &desk.session.document.rig.inputs;
    if let Some(place) = inputs.iter().position(|input| input.name == name) {
        desk.model.input = Pick::at(inputs, place);
        desk.model.in_inputs.strip.clear();
    }
}

/// Where a link is to stand: a port that is there, or one that comes with it.
struct Place {
    port: String,
    kind: PortKind,
    path: String,
    baud: Option<u32>,
}

impl Place {
    fn way(&self) -> (PortKind, &str, Option<u32>) {
        (self.kind, &self.path, self.baud)
    }
}

/// What was typed as a place: a port's name, `stdin`, `wave`, `udp:7000`, or the path of a serial line.
fn place(desk: &Context, text: &str) -> Result<Place, String> {
    let rig = &desk.session.document.rig;
    let (path, baud) = match text.rsplit_once('@') {
        Some((path, baud)) => (path, Some(baud.parse().map_err(|_| format!("{baud:?} is not a baud rate"))?)),
        None => (text, None),
    };
    if let Some(port) =
        rig.ports.iter().find(|port| port.name == path || (port.path == path && !path.is_empty()))
    {
        return Ok(Place {
            port: port.name.clone(),
            kind: port.kind,
            path: port.path.clone(),
            baud: port.baud,
        });
    }
    if let Some(port) = rig.board(path).and_then(|board| rig.port(&board.port)) {
        return Ok(Place { port: path.to_owned(), kind: port.kind, path: port.path.clone(), baud: None });
    }
    let (kind, path) = kind_of(path).ok_or_else(|| format!("say what it reads from: {PLACES}"))?;
    if !path.is_empty()
        && kind == PortKind::Serial
        && let Some(holder) = claim::who(Path::new(path), None)
    {
        return Err(format!("{path} is in use: {holder} has it; close that first"));
    }
    let word = kind.row().name;
    let taken = |name: &String| rig.port(name).is_some() || desk.session.runner.engine.has_port(name);
    let numbered = (2..).map(|n| format!("{word}-{n}"));
    let port = std::iter::once(word.to_owned()).chain(numbered).find(|name| !taken(name)).unwrap_or_default();
    Ok(Place { port, kind, path: path.to_owned(), baud })
}

/// What may be typed as a place.
const PLACES: &str =
    "a port, a Firmata board, PATH or PATH@BAUD, sim:knob, udp:7000, mqtt:HOST/TOPICS, stdin, keys or wave";

/// The kind of port that words mean, and its path; none for no words.
fn kind_of(place: &str) -> Option<(PortKind, &str)> {
    let whole = |(start, kind): (&str, PortKind)| place.starts_with(start).then_some((kind, place));
    let behind = |(start, kind): (&str, PortKind)| Some((kind, place.strip_prefix(start)?));
    let words = [("stdin", PortKind::Stdin), ("keys", PortKind::Keys), ("wave", PortKind::Wave)];
    let prefixes = [("udp:", PortKind::Udp), ("mqtt:", PortKind::Mqtt)];
    let paths = [
        ("/dev/input/", PortKind::Evdev),
        ("/dev/snd/midi", PortKind::Midi),
        ("/dev/gpiochip", PortKind::Gpio),
        ("/sys/bus/iio/", PortKind::Iio),
    ];
    let word = words.into_iter().find(|(word, _)| *word == place).map(|(_, kind)| (kind, ""));
    word.or_else(|| prefixes.into_iter().find_map(behind))
        .or_else(|| paths.into_iter().find_map(whole))
        .or_else(|| (!place.is_empty()).then_some((PortKind::Serial, place)))
}

fn protocol(text: &str) -> Result<Option<Protocol>, String> {
    if text.is_empty() {
        return Ok(None);
    }
    let words = Protocol::ALL.map(Protocol::word).join(", ");
    Protocol::of(text).map(Some).ok_or_else(|| format!("{text:?} is not a protocol: there are {words}"))
}

/// What the path of something simulated begins with.
const SIMULATED: &str = "sim:";
/// The path of a simulated knob.
const KNOB: &str = "sim:knob";

/// Where a link could stand: what this machine has and the rig does not use yet, then what in the rig has no link.
fn found(rig: &Rig) -> Vec<String> {
    let roots = Roots::default();
    let lines = roots.serial_ports().into_iter().map(|port| port.lasting.unwrap_or(port.way.path));
    let devices = roots.input_devices().into_iter().map(|device| device.path().to_owned());
    let new = lines.chain(devices).filter(|path| rig.ports.iter().all(|port| port.path != *path));
    let has_link = |name: &str| rig.links.iter().any(|link| link.on == name);
    let boards =
        rig.boards.iter().filter(|board| board.chip.row().reports.is_some() && rig.link_on(board).is_none());
    let is_free = |port: &&Port| {
        !has_link(&port.name)
            && rig.boards.iter().all(|board| board.port != port.name)
            && Protocol::ALL.iter().any(|protocol| protocol.row().on.contains(&port.kind))
    };
    let ports = rig.ports.iter().filter(is_free).map(|port| port.name.clone());
    // Where servos are simulated a simulated knob is likely.
    let is_simulated = rig.ports.iter().any(|port| port.path.starts_with(SIMULATED));
    let has_knob = rig.ports.iter().any(|port| port.path == KNOB);
    let knob = (is_simulated && !has_knob).then(|| KNOB.to_owned());
    new.chain(boards.map(|board| board.name.clone())).chain(ports).chain(knob).collect()
}

/// Asks for a new link's name, place and protocol; what was found is offered.
pub fn add_link(desk: &mut Context) {
    let rig = &desk.session.document.rig;
    let protocols = Protocol::ALL.map(Protocol::word).join(", ");
    let fields = vec![
        Field::new("name", edit::free_link_name(rig, "link"), "as it is called on the bench"),
        Field::new("on", "", PLACES).offering(found(rig)),
        Field::new(
            "protocol",
            "",
            format!("empty: what is usual there, lines on a serial line; or {protocols}"),
        ),
    ];
    desk.ask(ADD_LINK.name, Subject::default(), fields);
}

fn added_link(desk: &mut Context, form: &Form) -> Result<String, String> {
    let (name, on) = (form.word(0), form.word(1));
    let place = place(desk, on)?;
    let protocol = protocol(form.word(2))?;
    let new = NewLink { name, port: &place.port, way: place.way(), protocol };
    let words =
        format!("{name} listens on {on} now. In Inputs ‹add input› adds an input: move the one you mean");
    desk.done(&words, |rig| edit::add_link(rig, &new))
}

fn picked(desk: &Context) -> Option<Input> {
    desk.input().cloned()
}

/// The link of the picked input, or the first.
fn picked_link(desk: &Context) -> Option<String> {
    let of_input = desk.input().map(|input| input.link.clone());
    of_input.or_else(|| desk.session.document.rig.links.first().map(|link| link.name.clone()))
}

/// Asks for a link's new name.
pub fn rename_link(desk: &mut Context) {
    let Some(link) = picked_link(desk) else { return };
    let fields = vec![Field::new("link", &link, "which"), Field::new("name", &link, "its new name")];
    desk.ask(RENAME_LINK.name, Subject::default(), fields);
}

/// Asks for a link's new place.
pub fn move_link(desk: &mut Context) {
    let Some(name) = picked_link(desk) else { return };
    let rig = &desk.session.document.rig;
    let link = rig.link(&name);
    let protocol = link.and_then(|link| link.protocol).map_or("", Protocol::word);
    let fields = vec![
        Field::new("link", &name, "which"),
        Field::new("on", link.map_or("", |link| link.on.as_str()), PLACES),
        Field::new("protocol", protocol, Protocol::ALL.map(Protocol::word).join(", ")),
    ];
    desk.ask(MOVE_LINK.name, Subject::default(), fields);
}

/// Asks which link is to go.
pub fn remove_link(desk: &mut Context) {
    let Some(link) = picked_link(desk) else { return };
    desk.ask(
        REMOVE_LINK.name,
        Subject::default(),
        vec![Field::new("link", &link, "which; its inputs go first")],
    );
}

/// Asks for an input by the names of a link and its channel.
pub fn add_input(desk: &mut Context) {
    let Some(link) = picked_link(desk) else { return };
    ask_for_input(desk, &link, "");
}

/// Asks for the name of an input on a channel.
pub fn ask_for_input(desk: &mut Context, link: &str, channel: &str) {
    let rig = &desk.session.document.rig;
    let protocol = rig.link(link).and_then(|link| rig.protocol_of(link));
    let has = protocol.map_or("", |protocol| protocol.row().has);
    // A channel that was named by a person may be the input's name; a number is none.
    let plain = !channel.is_empty() && wasvolta_core::range::check_name(channel).is_ok();
    let like = if plain { channel } else { "input" };
    let fields = vec![
        Field::new("name", edit::free_input_name(rig, like), "what it is, as tiller or gap"),
        Field::new("link", link, "the link that it comes over"),
        Field::new("channel", channel, has),
    ];
    desk.ask(ADD_INPUT.name, Subject::default(), fields);
}

/// Asks for the picked input's new name.
pub fn rename_input(desk: &mut Context) {
    let Some(input) = picked(desk) else { return };
    let fields = vec![Field::new("name", &input.name, "its new name; its mappings follow")];
    desk.ask(RENAME_INPUT.name, Subject::of(&input.name), fields);
}

/// Asks whether the picked input is to go.
pub fn remove_input(desk: &mut Context) {
    let Some(input) = picked(desk) else { return };
    desk.ask(REMOVE_INPUT.name, Subject::of(&input.name), Vec::new());
}

/// Asks for the picked input's other channel.
pub fn move_input(desk: &mut Context) {
    let Some(input) = picked(desk) else { return };
    let rig = &desk.session.document.rig;
    let protocol = rig.link(&input.link).and_then(|link| rig.protocol_of(link));
    let has = protocol.map_or("", |protocol| protocol.row().has);
    let fields =
        vec![Field::new("link", &input.link, "the link"), Field::new("channel", &input.channel, has)];
    desk.ask(MOVE_INPUT.name, Subject::of(&input.name), fields);
}
