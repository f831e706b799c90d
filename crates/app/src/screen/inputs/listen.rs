//! *Move the one you mean*: every live channel, the liveliest first; and watching one to learn what it is.

use super::heard::{Ear, Listen, Watching};
use super::links;
use crate::edition::Edition;
use crate::screen::context::Context;
use crate::screen::dial::Does;
use crate::screen::dialog::Dialog;
use crate::screen::step::moved;
use wasvolta_core::rig::InputId;
use wasvolta_core::rig::edit;
use wasvolta_core::watch::{Kind, Watch};
use wasvolta_engine::Snapshot;

/// Lets a dialog that listens take in what came since the last frame, else what is heard in the background.
pub fn hear(dialog: &mut Option<Dialog>, background: &mut Listen, edition: &Edition, snapshot: &Snapshot) {
    match dialog {
        Some(Dialog::Listen(listen)) => listen.hear(snapshot, true),
        Some(Dialog::Watch(watching)) => watching.hear(edition, snapshot),
        _ => {
            background.hear(snapshot, false);
            // What has gone with its link is nobody's any more.
            background.ears.retain(|ear| edition.link(ear.link).is_some());
        }
    }
}

/// Listens for a new input.
pub fn for_new(desk: &mut Context) {
    listen(desk, None);
}

/// Listens for the channel that the picked input is to stand on.
pub fn for_picked(desk: &mut Context) {
    let Some(input) = desk.input().map(|input| input.id) else { return };
    listen(desk, Some(input));
}

fn listen(desk: &mut Context, for_input: Option<InputId>) {
    let simulated = desk.session.runner.simulated.is_some();
    let mut ears = std::mem::take(&mut desk.model.in_inputs.background.ears);
    for ear in &mut ears {
        ear.lively.begin();
    }
    desk.model.dialog = Some(Dialog::Listen(Listen { ears, for_input, simulated, ..Listen::default() }));
}

/// How far a key moves what is simulated.
const STEP: f64 = 0.1;

/// A key while channels are listened to.
pub fn key(desk: &mut Context, does: Option<Does>, mut listen: Listen) -> Option<Dialog> {
    let by = match does {
        Some(Does::Up) => -1,
        Some(Does::Down) => 1,
        Some(Does::Less | Does::More) => {
            // Before anything has moved it is the first one that does.
            let first = listen.chosen().or_else(|| listen.ears.first());
            if let Some((link, channel)) = first.and_then(|ear| named(desk, ear)) {
                turn(desk, does, &link, &channel);
            }
            return Some(Dialog::Listen(listen));
        }
        Some(Does::Answer) => return take(desk, listen),
        _ => return Some(Dialog::Listen(listen)),
    };
    // The first press picks what stands first.
    listen.pick = Some(listen.pick.map_or(0, |pick| moved(pick, by, listen.ears.len())));
    Some(Dialog::Listen(listen))
}

/// Moves what is simulated behind a channel.
fn turn(desk: &Context, does: Option<Does>, link: &str, channel: &str) {
    if let Some(sender) = desk.session.runner.sender(link) {
        sender.turn(channel, if does == Some(Does::Less) { -STEP } else { STEP });
    }
}

/// The names of the link and the channel that Enter takes.
fn chosen(desk: &Context, listen: &Listen) -> Option<(String, String)> {
    named(desk, listen.chosen()?)
}

fn named(desk: &Context, ear: &Ear) -> Option<(String, String)> {
    let edition = &desk.session.runner.edition;
    let link = edition.link(ear.link)?;
    Some((link.name.clone(), edition.rig.protocol_of(link)?.name(&ear.channel)))
}

fn take(desk: &mut Context, listen: Listen) -> Option<Dialog> {
    let Some((link, channel)) = chosen(desk, &listen) else {
        desk.refuse(
            "nothing has moved yet: move the one you mean, or pick a row with ‹row above› ‹row below›",
        );
        return Some(Dialog::Listen(listen));
    };
    let input = listen.for_input.and_then(|input| desk.session.runner.edition.input(input));
    match input.map(|input| input.name.clone()) {
        None => links::ask_for_input(desk, &link, &channel),
        Some(name) => {
            let words = format!("{name} reads {channel} of {link} now; what it drives stays");
            desk.edit(&words, |rig| edit::links::move_input(rig, &name, &link, &channel));
        }
    }
    None
}

/// Watches the picked input.
pub fn watch(desk: &mut Context) {
    let Some((input, link)) = desk.input().map(|input| (input.id, input.link.clone())) else { return };
    let simulated = desk.session.runner.sender(&link).is_some();
    let edition = &desk.session.runner.edition;
    let watch = edition.input(input).zip(edition.rig.link(&link)).and_then(|(input, link)| {
        let protocol = edition.rig.protocol_of(link)?;
        Some(Watch::of(protocol, &(protocol.row().read)(&input.channel)?))
    });
    let Some(watch) = watch else { return };
    desk.model.dialog = Some(Dialog::Watch(Watching::of(input, watch, simulated)));
}

/// A key while an input is watched: Enter keeps all that is proposed.
pub fn watching(desk: &mut Context, does: Option<Does>, mut watching: Watching) -> Option<Dialog> {
    match does {
        Some(Does::Retake) => {
            return Some(Dialog::Watch(Watching::of(
                watching.input,
                watching.watch.anew(),
                watching.simulated,
            )));
        }
        Some(Does::Pressed) => {
            watching.watch.is_pressed();
            return Some(Dialog::Watch(watching));
        }
        Some(Does::Less | Does::More) => {
            let input = desk.session.runner.edition.input(watching.input);
            if let Some((link, channel)) = input.map(|input| (input.link.clone(), input.channel.clone())) {
                turn(desk, does, &link, &channel);
            }
            return Some(Dialog::Watch(watching));
        }
        Some(Does::Answer) => {}
        _ => return Some(Dialog::Watch(watching)),
    }
    let Some(found) = watching.watch.judge() else {
        desk.refuse("it has not moved yet: move it to both ends, then let it rest");
        return Some(Dialog::Watch(watching));
    };
    let name = desk.session.runner.edition.input(watching.input)?.name.clone();
    let words = format!(
        "{name}: {:.0} to {:.0}, {}; ‹tie› ties it to the picked servo",
        found.ends.0,
        found.ends.1,
        found.switch().map_or_else(|| found.kind.words(), |switch| switch.words())
    );
    desk.edit(&words, |rig| {
        edit::change_input(rig, &name, |input| {
            (input.ends.low, input.ends.high) = found.ends;
            input.centre = found.centre;
            input.switch = found.switch();
            // A switch has no rest to be noisy at.
            if let Some(deadband) = found.deadband.filter(|_| !matches!(found.kind, Kind::Switch(_))) {
                input.deadband = (deadband * 1000.0).ceil() / 1000.0;
            }
        })
    });
    None
}
