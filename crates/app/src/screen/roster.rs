//! The left column: every servo in its group, with a gauge, its angle, and who drives it.

use crate::screen::calibrate;
use crate::screen::course;
use crate::screen::health;
use crate::screen::many;
use crate::screen::pen::{Pen, cell_of, fit, width};
use crate::screen::scene::{Picked, Scene};
use crate::screen::touch::Touched;
use crate::screen::{layout, theme};
use std::time::Duration;
use wasvolta_core::estimate::Known;
use wasvolta_core::stage::Owner;
use wasvolta_core::unit::Position;

/// Draws the roster, and under it what happened lately.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let rows = rows(scene);
    let picked =
        rows.iter().position(|r| matches!(r, Row::Servo(n) if scene.place() == Some(*n))).unwrap_or(0);
    let mut y = layout::air(pen.height());
    let room = usize::from(pen.height().saturating_sub(y));
    // Where not all of them fit, the last line says how many more there are.
    let high = if rows.len() > room { room.saturating_sub(1) } else { room };
    let first = picked.saturating_sub(high.saturating_sub(2));
    for row in rows.iter().skip(first).take(high) {
        match row {
            Row::Gap => {}
            Row::Group(name) => {
                pen.put(1, y, name, theme::text(theme::QUIET));
            }
            Row::Servo(n) => {
                if let Some(picked) = scene.servo(*n) {
                    let wide = pen.width();
                    pen.touch(0, y, (wide, 1), Touched::Servo(*n));
                    servo(pen, y, &picked, scene.place() == Some(*n));
                    if scene.place() != Some(*n) && scene.model.also.has(picked.servo.id) {
                        pen.ground(0, y, wide, theme::RAISED);
                        pen.glyph(0, y, "▌", theme::MARK);
                    }
                }
            }
        }
        y += 1;
    }
    if rows.len() > room {
        more(pen, &rows, first, high);
    }
    let several = many::count(scene.model, scene.edition);
    if several > 1 && pen.height() > 20 {
        pen.put_right(pen.width(), 0, &format!("{several} picked"), theme::strong(theme::INK));
    }
    if scene.rig.servos.is_empty() {
        pen.paragraph(1, 1, "no servo yet: ‹add servo› adds one", theme::text(theme::QUIET));
        y = 4;
    }
    let behind = log(pen, scene, y + 1);
    // The ground between belongs to what is picked.
    let free = behind.saturating_sub(y + 1);
    // What has a level has its last seconds in Calibrate, larger.
    let shown_there = |picked: &Picked| picked.level().is_some() && scene.model.view == calibrate::VIEW;
    let picked = scene.picked().filter(|picked| free >= course::LEAST && !shown_there(picked));
    if let Some(picked) = picked {
        let high = free.min(HIGHEST);
        let wide = pen.width();
        course::draw(&mut pen.part(0, behind - high, wide - 1, high - 1), scene, &picked);
    }
}

/// How many servos there are above and below what is shown.
fn more(pen: &mut Pen<'_>, rows: &[Row<'_>], first: usize, high: usize) {
    let servos = |rows: &[Row<'_>]| rows.iter().filter(|row| matches!(row, Row::Servo(_))).count();
    let above = servos(rows.get(..first).unwrap_or_default());
    let below = servos(rows.get(first + high..).unwrap_or_default());
    let words: Vec<String> = [("↑", above), ("↓", below)]
        .into_iter()
        .filter(|(_, count)| *count > 0)
        .map(|(sign, count)| format!("{sign} {count} more"))
        .collect();
    pen.put(1, pen.height().saturating_sub(1), &words.join("  "), theme::text(theme::QUIET));
}

/// Rows of the last seconds at most.
const HIGHEST: u16 = 11;

enum Row<'a> {
    Gap,
    Group(&'a str),
    Servo(usize),
}

fn rows<'a>(scene: &Scene<'a>) -> Vec<Row<'a>> {
    let mut rows = Vec::new();
    let mut group = "";
    let order = scene.edition.order.iter();
    for (n, servo) in order.filter_map(|&n| Some((n, scene.rig.servos.get(n)?))) {
        if servo.group() != group {
            group = servo.group();
            if !rows.is_empty() {
                rows.push(Row::Gap);
            }
            rows.push(Row::Group(group));
        }
        rows.push(Row::Servo(n));
    }
    rows
}

/// The angle or level, the pulse where there are no angles, or that it is unknown.
pub fn place(picked: &Picked) -> String {
    let shown = |pulse| picked.value(pulse).unwrap_or_else(|| picked.at(pulse));
    match (picked.state.engaged, picked.servo.kind.has_angles(), picked.state.estimate.known) {
        (true, _, _) => shown(picked.wire_pulse()),
        // Without pulses a lamp is dark and a motor stands: there is no place to be remembered.
        (false, false, _) => "–".to_owned(),
        (false, true, Known::Unknown) => "?".to_owned(),
        (false, true, _) => format!("({})", shown(picked.state.estimate.pulse)),
    }
}

fn servo(pen: &mut Pen<'_>, y: u16, picked: &Picked, here: bool) {
    let wide = pen.width();
    if here {
        pen.ground(0, y, wide, theme::RAISED);
        pen.glyph(0, y, "▌", theme::COMMANDED);
    }
    let name_style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    let (angle_end, name_room) = match wide {
        0..=24 => (wide - 5, 7),
        25..=34 => (wide - 6, 7),
        _ => (wide - 6, 11),
    };
    pen.put(2, y, &fit(picked.servo.short_name(), name_room), name_style);
    if picked.plan.stay_stiff {
        // A cut leaves this one its pulses.
        pen.glyph(1, y, "■", theme::QUIET);
    }
    let gauge_at = u16::try_from(name_room).unwrap_or(0) + 3;
    let place = place(picked);
    let gauge_wide = angle_end.saturating_sub(gauge_at + width(&place).max(7) + 1);
    if gauge_wide >= 4 {
        gauge(pen, (gauge_at, y, gauge_wide), picked);
    }
    let driven = picked.state.engaged;
    let color = if driven { theme::INK } else { theme::QUIET };
    pen.put_right(angle_end, y, &place, theme::text(color));
    let owner = picked.state.owner;
    let word = match (picked.state.arming(), picked.found()) {
        (Some(_), _) => "arms",
        // Nobody drives it, and it has pulses.
        (None, Some(_)) => "left",
        // It stands until its input has passed it.
        (None, None) if picked.state.picked_up_from().is_some() => "waits",
        (None, None) => owner.word(),
    };
    // What it says itself goes before who drives it, where that is worse, or nobody does.
    let said = health::word(picked).filter(|said| health::is_wrong(*said) || !driven);
    let word = said.map_or(word, |(word, _)| health::short(word));
    let color = match owner {
        _ if picked.found().is_some() => theme::FAULT,
        _ if said.is_some() => said.map_or(theme::QUIET, |(_, color)| color),
        Owner::LostMapping => theme::FAULT,
        Owner::Mapping => theme::INPUT,
        Owner::Hand | Owner::Sequence => theme::COMMANDED,
        _ => theme::QUIET,
    };
    pen.put_right(wide, y, word, theme::text(color));
}

/// A line over the endpoints, heavy between the limits, with a block where it is commanded.
fn gauge(pen: &mut Pen<'_>, (x, y, wide): (u16, u16, u16), picked: &Picked) {
    let (low, high) = picked.plan.guard.endpoints;
    let (inner_low, inner_high) = picked.plan.guard.free();
    let column = |pulse: Position| {
        let share = ((pulse - low) / (high - low)).clamp(0.0, 1.0);
        x + cell_of(share * f64::from(wide - 1))
    };
    let (least, most) = picked.plan.guard.endpoints;
    let reversed = picked.plan.scale.as_ref().is_some_and(|scale| scale.falls(least, most));
    let turned = |at: u16| if reversed { x + (wide - 1) - (at - x) } else { at };
    let (a, b) = (turned(column(inner_low)), turned(column(inner_high)));
    for at in x..x + wide {
        let heavy = (a.min(b)..=a.max(b)).contains(&at);
        pen.glyph(at, y, if heavy { "━" } else { "┈" }, theme::RULE);
    }
    let color = if picked.state.engaged { theme::COMMANDED } else { theme::QUIET };
    let shown = picked.servo.kind.has_angles() && !picked.is_unknown();
    if picked.state.engaged || shown {
        let at = if picked.servo.kind.is_accessory() { picked.wire_pulse() } else { picked.state.pulse };
        pen.glyph(turned(column(at)), y, if picked.state.engaged { "█" } else { "░" }, color);
    }
}

/// A moment, from the start of the run.
pub fn moment(at: Duration) -> String {
    let seconds = at.as_secs();
    format!("{:02}:{:02}", seconds / 60, seconds % 60)
}

/// What happened lately, at the bottom; gives the first row that it takes.
fn log(pen: &mut Pen<'_>, scene: &Scene, from: u16) -> u16 {
    let room = pen.height().saturating_sub(from + 2);
    if room < 3 || scene.model.log.is_empty() {
        return pen.height();
    }
    let shown = usize::from(room).min(if room > 24 { 12 } else { 8 }).min(scene.model.log.len());
    let count = u16::try_from(shown).unwrap_or(0);
    let top = pen.height().saturating_sub(count + 1);
    pen.put(1, top.saturating_sub(1), "lately", theme::text(theme::QUIET));
    let skipped = scene.model.log.len() - shown;
    for (y, (at, words)) in (top..).zip(scene.model.log.iter().skip(skipped)) {
        let x = pen.put(2, y, &moment(*at), theme::text(theme::QUIET)) + 1;
        pen.put(x, y, words, theme::text(theme::QUIET));
    }
    top.saturating_sub(1)
}
