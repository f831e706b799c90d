//! Wiring: boards as pin strips with who is on them, rails with their sums, links, what is wrong in words, and beside them
//! the chain of the picked servo from its port to its horn.

mod chain;
pub mod ids;
mod links;
mod power;
mod strip;
mod trouble;

use crate::screen::pen::{Pen, width};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::rig::worry;
use wasvolta_core::unit::Seconds;

/// Columns of the narrowest chain that can be read.
const CHAIN: u16 = 30;
/// Rows under the strips that the chain beside them may use too.
const ROOM_BELOW: u16 = 5;

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let (wide, high) = (pen.width(), pen.height());
    let Some((board, _, _)) = scene.plug() else { return nothing(pen, scene) };
    let roomy = high >= 30;
    let top = if roomy { 2 } else { 0 };
    let strip_wide = strip::width(wide);
    let shown =
        usize::from(((wide.saturating_sub(CHAIN + 3)) / (strip_wide + 2)).max(1)).min(scene.rig.boards.len());
    let first = first_shown(scene, shown);
    if roomy {
        let mut line = pen.part(0, 0, wide, 1);
        let end = if board.chip.row().is_smart {
            ids::bus(&mut line, scene, board)
        } else {
            bus(&mut line, scene, &board.port)
        };
        let all = scene.rig.boards.len();
        let words = format!("{shown} of {all} boards");
        if shown < all && end + width(&words) + 2 <= wide {
            pen.put_right(wide, 0, &words, theme::text(theme::QUIET));
        }
    }
    let strips_wide = (strip_wide + 2) * u16::try_from(shown).unwrap_or(1);
    for (n, place) in (0u16..).zip(first..first + shown) {
        let mut part = pen.part(n * (strip_wide + 2), top, strip_wide, strip::ROWS);
        strip::draw(&mut part, scene, place);
    }
    let beside = if roomy { strip::ROWS + ROOM_BELOW } else { high };
    chain::draw(&mut pen.part(strips_wide + 1, top, wide - strips_wide - 1, beside), scene);
    if high <= strip::ROWS + 1 {
        return;
    }
    let mut y = top + strip::ROWS;
    if roomy {
        let mut under = pen.part(0, y + 1, strips_wide - 2, high.saturating_sub(y + 1));
        // The chain beside has those rows too: what comes next begins under both.
        y += strip::after_the_end(&mut under, scene, board).max(ROOM_BELOW - 1) + 2;
    }
    let below = if roomy { wide } else { strips_wide };
    y += power::draw(&mut pen.part(0, y, below, high.saturating_sub(y)), scene) + u16::from(roomy);
    y += links::draw(&mut pen.part(0, y, below, high.saturating_sub(y)), scene) + u16::from(roomy);
    trouble::draw(&mut pen.part(0, y, below, high.saturating_sub(y)), scene);
}

/// The first board that is drawn, so that the picked one is among them.
fn first_shown(scene: &Scene, shown: usize) -> usize {
    let picked = scene.edition.index.boards.place(scene.model.in_wiring.plug.0.id).unwrap_or(0);
    (picked / shown.max(1) * shown.max(1)).min(scene.rig.boards.len().saturating_sub(shown))
}

fn nothing(pen: &mut Pen<'_>, scene: &Scene) {
    let mut y = pen.paragraph(0, 1, "No board in this rig.", theme::text(theme::QUIET)) + 1;
    let (wide, high) = (pen.width(), pen.height());
    y += links::draw(&mut pen.part(0, y, wide, high.saturating_sub(y)), scene) + 1;
    trouble::draw(&mut pen.part(0, y, wide, high.saturating_sub(y)), scene);
}

/// The picked board's bus: its way, its rate, and what it has the time for; gives the column behind.
fn bus(pen: &mut Pen<'_>, scene: &Scene, name: &str) -> u16 {
    let mut ports = scene.rig.ports.iter().zip(&scene.edition.traffic);
    let found = ports.find(|(port, _)| port.name == name && port.kind.row().is_shared);
    let Some((port, traffic)) = found else { return 0 };
    let beat = Seconds::new(crate::hardware::BEAT.as_secs_f64());
    let fits = if traffic.fits(beat) { "fits every beat" } else { "too long for a beat" };
    let x = pen.put(0, 0, &port.name, theme::strong(theme::INK));
    let x = pen.put(
        x + 2,
        0,
        &format!(
            "{}  {}{}",
            port.path,
            worry::rate(traffic.rate),
            port.baud.map_or_else(String::new, |baud| format!(" behind {baud} Bd"))
        ),
        theme::text(theme::QUIET),
    );
    let time = format!(
        "{} channel{} of {} board{} take{} {:.1} ms of it: {fits} of {:.0} ms",
        traffic.channels,
        if traffic.channels == 1 { "" } else { "s" },
        traffic.boards,
        if traffic.boards == 1 { "" } else { "s" },
        if traffic.channels == 1 { "s" } else { "" },
        traffic.round().get() * 1e3,
        beat.get() * 1e3
    );
    let color = if traffic.fits(beat) { theme::QUIET } else { theme::FAULT };
    pen.put(x + 3, 0, &time, theme::text(color))
}
