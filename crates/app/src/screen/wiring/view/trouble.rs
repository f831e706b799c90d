//! What is wrong or worth a word, and what a person must see to that cannot be seen from here.

use super::ids::grouped;
use crate::screen::pen::{Pen, wrap};
use crate::screen::scene::Scene;
use crate::screen::theme;
use std::time::Duration;
use wasvolta_port::scan::{Bus, Scan};
use wasvolta_port::smart::errand::{Found, Said};

/// Leads and grounds: what no program can see.
const REMINDERS: [&str; 2] = [
    "Leads: darkest = ground, middle = supply, lightest = signal; check yours. Pins are drawn in that order.",
    "Join all grounds: supply, board, controller. The board's logic supply sets the signal's level, 3.3 or 5 V.",
];
/// A lapse this long ago is history.
const RECENT: Duration = Duration::from_secs(30);

/// Draws what fits; what does not is counted.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let (wide, high) = (pen.width(), pen.height());
    let said = words(scene);
    let mut y = 0;
    for (n, (fault, line)) in said.iter().enumerate() {
        let rows = u16::try_from(wrap(line, usize::from(wide.saturating_sub(2)).max(1)).len()).unwrap_or(1);
        let left = said.len() - n;
        if y + rows + u16::from(left > 1) > high {
            pen.put(0, y, &format!("… and {left} more"), theme::text(theme::QUIET));
            return;
        }
        let (sign, color) = if *fault { ("✗", theme::FAULT) } else { ("·", theme::QUIET) };
        pen.put(0, y, sign, theme::text(color));
        y = pen.paragraph(2, y, line, theme::text(if *fault { theme::FAULT } else { theme::INK }));
    }
    y += u16::from(!said.is_empty());
    for line in REMINDERS {
        let rows = u16::try_from(wrap(line, usize::from(wide).max(1)).len()).unwrap_or(1);
        if y + rows <= high {
            y = pen.paragraph(0, y, line, theme::text(theme::QUIET));
        }
    }
}

/// Everything worth a word: whether it is a fault, and the words.
fn words(scene: &Scene) -> Vec<(bool, String)> {
    // What was put wrong on purpose comes first: it explains what follows.
    let put_wrong = scene.model.in_wiring.faults.iter();
    let mut all: Vec<_> = put_wrong.map(|fault| (false, format!("simulated fault: {fault}"))).collect();
    let snapshot = &scene.model.snapshot;
    for (board, state) in scene.edition.boards(snapshot) {
        if let Some(trouble) = state.trouble {
            all.push((
                true,
                format!(
                    "{} {}: {}; {}",
                    board.name,
                    board.at(),
                    trouble.fault,
                    scene.help(board, trouble.fault)
                ),
            ));
        }
        if let Some((at, lapse)) = state.lapse
            && snapshot.now.saturating_sub(at) < RECENT
        {
            let times =
                if state.lapses == 1 { String::new() } else { format!(", {} times so far", state.lapses) };
            all.push((true, format!("{} {}{times}", board.name, lapse.words())));
        }
    }
    for (linked, trouble) in scene.links().zip(&scene.model.in_wiring.link_troubles) {
        if let Some(trouble) = trouble {
            all.push((scene.drives(linked.link), format!("{}: {trouble}", linked.link.name)));
        } else if let Some(note) = linked.report.note {
            all.push((false, format!("{}: {note}", linked.link.name)));
        }
    }
    if let Some(lent) = &scene.model.in_wiring.lent
        && let Some(board) = scene.edition.board(lent.board)
    {
        all.push(lent_words(&board.name, &lent.errand.said()));
    }
    if scene.looking {
        all.push((false, "scanning …".to_owned()));
    } else if let Some(scan) = &scene.model.in_wiring.scan {
        all.extend(scan.buses.iter().flat_map(|bus| found(scene, scan, bus)));
        all.extend(
            scan.pwm
                .iter()
                .map(|chip| (false, format!("{}: PWM chip, {} channels", chip.device, chip.channels))),
        );
        all.extend(scan.serial.iter().map(|port| {
            (false, format!("{}: serial port, unopened; ‹ask serial port› asks it", port.way.path))
        }));
        all.extend(scan.inputs.iter().map(|device| {
            let name = device.name.as_ref().map_or_else(String::new, |name| format!(" {name}"));
            (
                false,
                format!("{}: {}{name}, unopened; ‹add link› makes a link of it", device.path(), device.noun),
            )
        }));
        if scan.serial.is_empty() && scan.pwm.is_empty() {
            all.push((
                false,
                "found no PWM chip of the kernel and no serial port that looks like a board".to_owned(),
            ));
        }
    }
    all.extend(scene.model.in_wiring.answer.iter().map(|answer| (false, answer.clone())));
    for worry in &scene.edition.worries {
        all.push((true, format!("{}: {}; {}", worry.about, worry.words, worry.help)));
    }
    all
}

/// How far it is with a bus that is lent, or how that ended.
fn lent_words(board: &str, said: &Said) -> (bool, String) {
    let found: Vec<String> = said.found.iter().map(one_found).collect();
    let found = if found.is_empty() { String::new() } else { format!("; {}", found.join(" · ")) };
    match &said.end {
        None => {
            let (baud, id) = said.at;
            let share = said.done * 100 / said.of.max(1);
            let words = format!(
                "{board} is asked: id {id} at {} Bd, {share} % done, ‹scan ids› stops it{found}",
                grouped(baud)
            );
            (false, words)
        }
        Some(Ok(words)) => (false, format!("{board}: {words}{found}")),
        Some(Err(why)) => (true, format!("{board}: {why}{found}")),
    }
}

/// Someone who answered on a bus.
fn one_found(found: &Found) -> String {
    let (garbled, of) = found.garbled;
    let model = found.model.map_or_else(|| "no model".to_owned(), |model| format!("model {model}"));
    let pattern = match (found.is_twins(), garbled) {
        (true, _) => format!(", two servos: {garbled} of {of} answers garbled"),
        (false, 0) => String::new(),
        (false, _) => format!(", {garbled} of {of} answers garbled"),
    };
    format!("id {} at {} Bd, {model}{pattern}", found.id, grouped(found.baud))
}

/// What the last look found on a bus.
fn found(scene: &Scene, scan: &Scan, bus: &Bus) -> Vec<(bool, String)> {
    if let Some(trouble) = &bus.trouble {
        return vec![(true, trouble.clone())];
    }
    let device = |d: &wasvolta_port::scan::Device| {
        let known = crate::survey::board_at(scene.rig, &bus.path, d.address);
        known.map_or_else(
            || format!("{:#04x} {}", d.address, crate::survey::words(scan, bus, d)),
            |b| format!("{:#04x} {}", d.address, b.name),
        )
    };
    let devices: Vec<String> = bus.devices.iter().map(device).collect();
    let there = if devices.is_empty() { "nothing answers".to_owned() } else { devices.join(" · ") };
    vec![(false, format!("found on {}: {there}", bus.path))]
}
