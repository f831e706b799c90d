//! A band a joint that moves in what is shown: a filled silhouette from the zero line, limits as thin lines, short parts
//! hatched, what was played dim.

use super::time::{Time, place};
use crate::screen::pen::{Pen, cell_of, fit, width};
use crate::screen::scene::{Picked, Scene};
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::rig::Kind;
use wasvolta_core::sequence::{Short, Track, rounded_up};

/// Draws them; gives the rows used.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, time: &Time, label: u16) -> u16 {
    const LEAST: u16 = 3;
    let (from, to) = (place(time.from), place(time.to));
    let moves = |track: &&Track| {
        let segments = time.program.segments_of(track);
        segments.iter().any(|segment| segment.starts <= to && segment.ends >= from && !segment.is_mark())
    };
    let tracks: Vec<&Track> = time.program.tracks.iter().filter(moves).collect();
    let still = time.program.tracks.len() - tracks.len();
    let count = u16::try_from(tracks.len()).unwrap_or(u16::MAX).max(1);
    let wide = pen.width();
    let note = u16::from(still > 0);
    let high = pen.height().saturating_sub(note);
    let pitch = (high / count).clamp(LEAST, 12);
    // Where not all have room, the last row says how many more there are.
    let all = count.saturating_mul(pitch) <= high;
    let fits = if all { count } else { high.saturating_sub(1) / pitch };
    // The picked joint is always among those that are shown.
    let picked = tracks.iter().position(|track| scene.place() == Some(track.servo)).unwrap_or(0);
    let first = (picked + 1).saturating_sub(usize::from(fits));
    for (n, track) in (0..fits).zip(tracks.iter().skip(first)) {
        band(&mut pen.part(0, n * pitch, wide, pitch - 1), scene, time, track, label);
    }
    let mut used = (fits * pitch).min(high);
    let quiet = theme::text(theme::QUIET);
    if !all {
        let left = tracks.len().saturating_sub(first + usize::from(fits));
        let more = [("↑", first), ("↓", left)].into_iter().filter(|(_, count)| *count > 0);
        let more: Vec<String> = more.map(|(arrow, count)| format!("{arrow} {count}")).collect();
        let joints = if first + left == 1 { "" } else { "s" };
        pen.put(
            0,
            used,
            &format!("{} more joint{joints}: ‹servo above› ‹servo below›", more.join("  ")),
            quiet,
        );
        used += 1;
    }
    if note > 0 {
        let joints = if still == 1 { "joint does" } else { "joints do" };
        pen.put(0, used, &format!("{still} {joints} not move here"), quiet);
        used += 1;
    }
    used
}

fn band(pen: &mut Pen<'_>, scene: &Scene, time: &Time, track: &Track, label: u16) {
    let Some(picked) = scene.servo(track.servo) else { return };
    let here = scene.place() == Some(track.servo);
    // What is on or off is drawn as what it gets, not as what eases towards it.
    let given = |value: f64| match picked.servo.kind {
        kind if kind.is_switch() => f64::from(u8::from(value >= 50.0)) * 100.0,
        _ => value,
    };
    let mut cursor = 0;
    let counts = scene.player().map_or([0; wasvolta_core::sequence::LOOPS], |player| player.counts);
    let mut angle = |x: u16| time.program.at(track, place(time.at(x)), &counts, &mut cursor).get();
    let angles: Vec<f64> = (0..time.wide).map(|x| given(angle(x))).collect();
    let (least, most) = angles.iter().fold((0.0f64, 0.0f64), |(a, b), &v| (a.min(v), b.max(v)));
    let (least, most) =
        if most - least < 10.0 { (least.min(0.0), least.min(0.0) + 10.0) } else { (least, most) };
    let (least, most) = limits(&picked).fold((least, most), with_near);
    let name = if picked.servo.group().is_empty() || label >= 16 {
        &picked.servo.name
    } else {
        picked.servo.short_name()
    };
    let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    let room = usize::from(label) - 1;
    pen.put(0, 0, &fit(name, room), style);
    let lowest = angles.iter().copied().fold(f64::INFINITY, f64::min);
    let highest = angles.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let reach = span(picked.servo.kind, (lowest, highest), room);
    pen.put(0, 1, &fit(&reach, room), theme::text(theme::QUIET));
    let mine: Vec<&Short> = time.program.shorts().iter().filter(|s| s.servo == track.servo).collect();
    if let Some(worst) = mine.iter().map(|s| s.needs).reduce(f64::max) {
        let row = if pen.height() >= 3 { 2 } else { 1 };
        let needs = rounded_up(worst);
        let words = format!("needs {needs:.2} s");
        let words = if usize::from(width(&words)) <= room { words } else { format!("≥ {needs:.2} s") };
        // In little room it stands in the place of how far the joint goes.
        pen.put(0, row, &format!("{words:<room$}"), theme::text(theme::FAULT));
    }
    let segments = time.program.segments_of(track);
    let short_at = |x: u16| {
        let t = place(time.at(x));
        segments.iter().any(|segment| {
            segment.starts <= t
                && t <= segment.ends
                && mine.iter().any(|s| u32::try_from(s.flat) == Ok(segment.step))
        })
    };
    let any_short = !mine.is_empty();
    let played = scene.player().filter(|player| player.play.goes_on()).map(|player| player.at.seconds());
    let rows = pen.height();
    for (x, &value) in (0u16..).zip(&angles) {
        let short = any_short && short_at(x);
        let past = played.is_some_and(|now| time.at(x) < now);
        let ink = match (short, past, here) {
            (true, ..) => theme::FAULT,
            (_, true, _) => theme::RULE,
            (_, _, true) => theme::COMMANDED,
            _ => theme::SILHOUETTE,
        };
        let share = |value: f64| (value - least) / (most - least);
        silhouette(pen, label + x, rows, (share(value), share(0.0)), ink, short);
    }
    for limit in limits(&picked).filter(|_| rows >= 2) {
        limit_line(pen, label, (time.wide, rows), (limit - least) / (most - least));
    }
}

/// The limits of a joint, in degrees.
fn limits(picked: &Picked<'_>) -> impl Iterator<Item = f64> {
    let both = picked.joint.map(|joint| [&joint.low, &joint.high]);
    both.into_iter().flatten().flatten().map(|limit| limit.angle_deg.get())
}

/// A band's ends with a limit that is near: one that is far would leave little room for what moves.
fn with_near((least, most): (f64, f64), limit: f64) -> (f64, f64) {
    let near = (most - least) * 0.5;
    if limit < least - near || limit > most + near {
        (least, most)
    } else {
        (least.min(limit), most.max(limit))
    }
}

/// A limit as a thin line, where it lies within the band; it never hides the silhouette.
fn limit_line(pen: &mut Pen<'_>, label: u16, (wide, rows): (u16, u16), share: f64) {
    if !(0.0..=1.0).contains(&share) {
        return;
    }
    let row = cell_of((1.0 - share) * f64::from(rows - 1)).min(rows - 1);
    for x in (0..wide).step_by(2) {
        if let Some(cell) = pen.cell(label + x, row)
            && cell.symbol() == " "
        {
            cell.set_symbol("╌").set_fg(theme::RULE);
        }
    }
}

/// From where to where something goes, with its unit; in little room without the word between.
fn span(kind: Kind, (lowest, highest): (f64, f64), room: usize) -> String {
    let (lowest, highest) = (lowest.round() + 0.0, highest.round() + 0.0);
    let words = match kind {
        kind if kind.has_angles() => format!("{lowest:+.0} to {highest:+.0}°"),
        kind if kind.turns_on() => format!("{lowest:+.0} to {highest:+.0} %"),
        _ => format!("{lowest:.0} to {highest:.0} %"),
    };
    if usize::from(width(&words)) <= room { words } else { words.replace(" to ", "…") }
}
/// The glyph for the part of a cell from `a` to `b`, in eighths from its bottom, with its ink and its ground. In many
/// terminals a block of the font leaves a seam below itself, so a part that joins what is below it is drawn as the ground
/// of an upper block, and one that hangs from above as an upper block.
fn part_of_a_cell((a, b): (u16, u16), joins: bool, color: Color) -> (&'static str, Color, Color) {
    const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
    match (a, b) {
        (a, b) if b <= a => (" ", color, theme::GROUND),
        // The ground too, so that rows join.
        (0..=2, 8) => ("█", color, color),
        (0, 0..=1) if joins => (" ", color, theme::GROUND),
        (0, 2..=5) if joins => ("▀", theme::GROUND, color),
        (0, _) if joins => ("▔", theme::GROUND, color),
        (0, b) => (EIGHTHS.get(usize::from(b)).copied().unwrap_or("█"), color, theme::GROUND),
        (3..=6, 8) => ("▀", color, theme::GROUND),
        (_, 8) => ("▔", color, theme::GROUND),
        _ => ("━", color, theme::GROUND),
    }
}

/// One column of a silhouette between the zero line and a value, both 0..1 from the bottom, in eighths.
fn silhouette(pen: &mut Pen<'_>, x: u16, rows: u16, (value, zero): (f64, f64), color: Color, hatched: bool) {
    let scale = f64::from(rows) * 8.0;
    let (from, to) = (value.min(zero) * scale, value.max(zero) * scale);
    for row in 0..rows {
        let bottom = f64::from(rows - 1 - row) * 8.0;
        let (a, b) = ((from - bottom).clamp(0.0, 8.0), (to - bottom).clamp(0.0, 8.0));
        let holds_zero = (bottom..bottom + 8.0).contains(&(zero * scale - 1e-9).max(0.0));
        let (a, b) = (cell_of(a.round()), cell_of(b.round()));
        let (glyph, ink, ground) = if hatched && b > a {
            ("▒", color, theme::GROUND)
        } else {
            part_of_a_cell((a, b), from < bottom, color)
        };
        if glyph != " " {
            if let Some(cell) = pen.cell(x, row) {
                cell.set_symbol(glyph).set_fg(ink).set_bg(ground);
            }
        } else if holds_zero {
            pen.glyph(x, row, "─", theme::RULE);
        }
    }
}
