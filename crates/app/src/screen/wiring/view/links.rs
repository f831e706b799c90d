//! Links: what comes in over which port, and how it stands.

use crate::screen::pen::{Pen, width};
use crate::screen::scene::{Linked, Scene};
use crate::screen::theme;
use wasvolta_core::link::Health;

const NAME: u16 = 12;
const HEALTH: u16 = 29;

/// Draws a row a link; gives the rows used.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) -> u16 {
    let mut y = 0;
    for linked in scene.links() {
        if y < pen.height() {
            row(pen, scene, y, &linked);
            y += 1;
        }
    }
    y
}

/// Name, health with its age, where it stands, how many inputs stand on it.
fn row(pen: &mut Pen<'_>, scene: &Scene, y: u16, linked: &Linked) {
    let Linked { link, protocol, state, report } = linked;
    let quiet = theme::text(theme::QUIET);
    let alarms = scene.drives(link) && matches!(state.health, Health::Lost | Health::Stuck);
    let (sign, color) = match state.health {
        Health::Fresh => ("●", theme::INK),
        Health::Late => ("◐", theme::INK),
        Health::Absent => ("○", theme::QUIET),
        Health::Lost | Health::Stuck => ("✗", if alarms { theme::FAULT } else { theme::QUIET }),
    };
    pen.put(0, y, &link.name, theme::text(theme::INK));
    let age = state.age.map_or_else(String::new, |age| match age.as_millis() {
        ms @ 0..1000 => format!(" {ms:>3} ms"),
        _ => format!(" {:.0} s", age.as_secs_f64()),
    });
    pen.put(
        NAME.max(width(&link.name) + 1),
        y,
        &format!("{sign} {}{age}", state.health.word()),
        theme::text(color),
    );
    // What has no path is known by its name.
    let port = scene.edition.parts().place_of(link).map(|(port, _)| port);
    let at = port.filter(|port| !port.path.is_empty()).map_or(&link.on, |port| &port.path);
    let on_it = || scene.rig.inputs.iter().enumerate().filter(|(_, input)| input.link == link.name);
    let count = on_it().count();
    let as_if =
        on_it().filter(|(n, _)| scene.input_state(*n).is_some_and(|state| state.as_if.is_some())).count();
    let mut inputs = if count == 1 { "1 input".to_owned() } else { format!("{count} inputs") };
    // What they say is not what the link says.
    let marked = match as_if {
        0 => String::new(),
        _ if count == 1 => " as if".to_owned(),
        some => format!(", {some} as if"),
    };
    inputs.push_str(&marked);
    let bad = report.counts.bad;
    let words = format!(
        "{} on {at}, {inputs}, {} good and {bad} bad frames",
        protocol.row().title,
        report.counts.good
    );
    let room = usize::from(pen.width().saturating_sub(HEALTH));
    let short = format!("{} on {at}{marked}", protocol.row().word);
    // What would be cut says nothing; that it is not what its link says must not be missed.
    let fitting = [words, short].into_iter().find(|words| words.chars().count() <= room);
    pen.put(HEALTH, y, fitting.as_deref().unwrap_or(marked.trim_start_matches([',', ' '])), quiet);
}
