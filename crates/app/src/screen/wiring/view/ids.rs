//! A bus of smart servos: one wire from servo to servo, each with its id, whether it drives, and how it is.

use crate::screen::health;
use crate::screen::pen::{Pen, fit, width};
use crate::screen::scene::{Picked, Scene};
use crate::screen::theme;
use crate::screen::touch::Touched;
use std::time::Duration;
use wasvolta_core::rig::{Board, Layout};
use wasvolta_engine::chips::map_of;
use wasvolta_port::board::{Evidence, Stand};
use wasvolta_port::smart;
use wasvolta_wire::smart::budget::{Budget, Load};
use wasvolta_wire::smart::exchange::Echo;

/// Where the wire runs.
const WIRE: u16 = 2;
/// Where a servo's sign stands.
const SIGN: u16 = 6;
/// A rate is grouped by thousands.
const THOUSAND: u32 = 1000;

/// Draws the bus under its name.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, board: &Board, here: bool) {
    let wide = pen.width();
    let baud = rate(scene, board);
    let layout = board.layout.as_deref().unwrap_or("no layout");
    let words = format!("{layout}, {} Bd", grouped(baud));
    pen.put(0, 1, &fit(&words, usize::from(wide)), theme::text(theme::QUIET));
    let ids = scene.channels(board);
    let rows = pen.height().saturating_sub(2);
    let tall: u16 = if ids.len() <= usize::from(rows / 2) { 2 } else { 1 };
    let picked = ids.iter().position(|id| here && *id == scene.model.in_wiring.plug.1).unwrap_or(0);
    let shown = usize::from(rows / tall);
    let first = (picked + 1).saturating_sub(shown).min(ids.len().saturating_sub(shown));
    let last = ids.len().min(first + shown);
    for (n, id) in ids.iter().enumerate().take(last).skip(first) {
        let y = 2 + tall * u16::try_from(n - first).unwrap_or(0);
        let own = here && *id == scene.model.in_wiring.plug.1;
        let ends = n + 1 == ids.len();
        servo(&mut pen.part(0, y, wide, tall), scene, board, *id, (own, ends));
    }
    if ids.is_empty() {
        pen.paragraph(
            0,
            3,
            "No servo of this rig hangs here. ‹scan ids› finds who answers.",
            theme::text(theme::QUIET),
        );
    }
}

/// One servo on the wire.
fn servo(pen: &mut Pen<'_>, scene: &Scene, board: &Board, id: u8, (here, ends): (bool, bool)) {
    let (wide, high) = (pen.width(), pen.height());
    if let Some(place) = scene.edition.index.boards.place(board.id) {
        pen.touch(0, 0, (wide, high), Touched::Channel(place, id));
    }
    if here {
        pen.ground(0, 0, wide, theme::RAISED);
        pen.glyph(0, 0, "▌", theme::COMMANDED);
    }
    for y in 0..high {
        pen.glyph(WIRE, y, if ends && y + 1 == high { "╵" } else { "│" }, theme::RULE);
    }
    pen.put_right(SIGN - 1, 0, &format!("╶{id}"), theme::text(theme::QUIET));
    let name = theme::text(theme::INK);
    let name = if here { theme::strong(theme::INK) } else { name };
    let place = scene.rig.servos.iter().position(|s| s.board == board.name && s.plug() == id);
    let Some(picked) = place.and_then(|n| scene.servo(n)) else {
        let found = scene.model.in_wiring.found_at(board.id, id);
        let twins = found.is_some_and(|found| found.is_twins());
        let words = if twins { "two servos have this id" } else { "found; ‹add servo› adds it" };
        pen.put(SIGN, 0, "?", theme::text(theme::QUIET));
        pen.put(SIGN + 2, 0, words, theme::text(if twins { theme::FAULT } else { theme::INK }));
        if let Some(model) = found.and_then(|found| found.model).filter(|_| high > 1) {
            pen.put(SIGN + 2, 1, &format!("model {model}"), theme::text(theme::QUIET));
        }
        return;
    };
    let sign = sign(&picked);
    pen.glyph(SIGN, 0, sign.0, sign.1);
    let (word, color) = health::word(&picked).unwrap_or(("not asked yet", theme::QUIET));
    let room = wide.saturating_sub(SIGN + 2 + width(word) + 1);
    pen.put(SIGN + 2, 0, &fit(&picked.servo.name, usize::from(room)), name);
    pen.put_right(wide, 0, word, theme::text(color));
    if high > 1 {
        says(pen, &picked);
    }
}

/// The second row of a servo: what it says of itself.
fn says(pen: &mut Pen<'_>, picked: &Picked) {
    let Some(own) = picked.feedback.filter(|own| own.at.is_some()) else { return };
    let x = match picked.measured() {
        Some(at) => pen.put(SIGN + 2, 1, &picked.at(at), theme::text(theme::MEASURED)),
        None => pen.put(SIGN + 2, 1, "place unknown", theme::text(theme::QUIET)),
    };
    if own.looked_at.is_some() && own.stand.answers() {
        let words = format!("{:.0} °C {:.1} V", own.celsius, own.volts);
        if x + 1 + width(&words) <= pen.width() {
            pen.put_right(pen.width(), 1, &words, theme::text(theme::QUIET));
        }
    }
}

/// A filled sign drives, an open one is limp.
fn sign(picked: &Picked) -> (&'static str, ratatui::style::Color) {
    match picked.feedback.map(|own| own.stand) {
        Some(Stand::Stiff) => ("■", theme::COMMANDED),
        Some(Stand::Limp) => ("□", theme::MEASURED),
        None | Some(Stand::Unasked) => ("·", theme::QUIET),
        Some(_) => ("✗", theme::FAULT),
    }
}

/// A number with its thousands apart.
pub fn grouped(number: u32) -> String {
    match number {
        0..THOUSAND => number.to_string(),
        _ => format!("{} {:03}", grouped(number / THOUSAND), number % THOUSAND),
    }
}

/// The rate of a bus.
pub fn rate(scene: &Scene, board: &Board) -> u32 {
    scene.rig.port(&board.port).and_then(|port| port.baud).unwrap_or(smart::USUAL_BAUD)
}

/// The bus of the picked board: what a beat on it takes as computed, and what is seen; gives the column behind.
pub fn bus(pen: &mut Pen<'_>, scene: &Scene, board: &Board) -> u16 {
    let Some(layout) = board.layout.as_deref().and_then(|name| Layout::named(scene.rig, name)) else {
        return pen.put(0, 0, &board.port, theme::strong(theme::INK));
    };
    let Some(port) = scene.rig.port(&board.port) else { return 0 };
    let seen = scene.board_state(board).and_then(|state| match &state.evidence {
        Some(Evidence::Smart(seen)) => Some(*seen),
        _ => None,
    });
    let adapter_ms = board.adapter_ms.unwrap_or(Board::USUAL_ADAPTER_MS);
    let load = Load {
        servos: scene.rig.servos_on(&board.name).count(),
        baud: rate(scene, board),
        return_delay: seen.map_or(smart::USUAL_RETURN_DELAY, |seen| seen.return_delay),
        adapter: Duration::try_from_secs_f64(adapter_ms / 1e3).unwrap_or_default(),
        frame: smart::FRAME,
    };
    let budget = Budget::of(&map_of(layout), &load);
    let milli = |time: Duration| time.as_secs_f64() * 1e3;
    let x = pen.put(0, 0, &port.name, theme::strong(theme::INK));
    // Its path stands in the chain; a long one would leave no room for what is seen.
    let form = format!("form {}", layout.form);
    let x = pen.put(x + 2, 0, &form, theme::text(theme::QUIET));
    if load.servos == 0 {
        return pen.put(x + 3, 0, "no servo of this rig hangs on it", theme::text(theme::QUIET));
    }
    let fits = budget.goals < smart::FRAME;
    let budget_words = format!(
        "computed, adapter {adapter_ms:.0} ms: goals {:.1} + places {:.1} ms of 20 ms, {:.0} Hz",
        milli(budget.goals),
        milli(budget.round),
        budget.hertz
    );
    let color = if fits { theme::QUIET } else { theme::FAULT };
    let x = pen.put(x + 3, 0, &budget_words, theme::text(color));
    let Some(seen) = seen else { return x };
    let echo = if seen.echo == Echo::Whole { ", the line echoes" } else { "" };
    let hertz = seen.hertz.map_or_else(String::new, |hertz| format!("{hertz:.0} Hz, "));
    let words = format!("seen: {hertz}{:.0} % in use{echo}", seen.used * 100.0);
    let words = if seen.lent { "busy with this job: no servo gets commands".to_owned() } else { words };
    if x + 3 + width(&words) > pen.width() {
        return x;
    }
    pen.put(x + 3, 0, &words, theme::text(theme::INK))
}
