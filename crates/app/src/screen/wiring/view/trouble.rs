//! What is wrong or worth a word, and what a person must see to that cannot be seen from here.

use crate::screen::pen::{Pen, wrap};
use crate::screen::scene::Scene;
use crate::screen::theme;
use std::time::Duration;
use wasvolta_port::scan::{Bus, Scan};

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
    let mut all = Vec::new();
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
    if scene.looking {
        all.push((false, "looking what is there …".to_owned()));
    } else if let Some(scan) = &scene.model.in_wiring.scan {
        all.extend(scan.buses.iter().flat_map(|bus| found(scene, scan, bus)));
        all.extend(
            scan.pwm
                .iter()
                .map(|chip| (false, format!("{}: PWM chip, {} channels", chip.device, chip.channels))),
        );
        all.extend(
            scan.serial
                .iter()
                .map(|port| (false, format!("{}: serial port, unopened; P asks it", port.way.path))),
        );
        all.extend(scan.inputs.iter().map(|device| {
            let name = device.name.as_ref().map_or_else(String::new, |name| format!(" {name}"));
            (false, format!("{}: {}{name}, unopened; K makes a link of it", device.path(), device.noun))
        }));
        if scan.serial.is_empty() && scan.pwm.is_empty() {
            all.push((false, "found no PWM chip of the kernel and no serial port of a board".to_owned()));
        }
    }
    all.extend(scene.model.in_wiring.answer.iter().map(|answer| (false, answer.clone())));
    for fault in &scene.model.in_wiring.faults {
        all.push((false, format!("simulated fault: {fault}")));
    }
    for worry in &scene.edition.worries {
        all.push((true, format!("{}: {}; {}", worry.about, worry.words, worry.help)));
    }
    all
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
