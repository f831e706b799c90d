//! Sequence: steps to scale in time, under them a silhouette a joint, the now line, and the picked step.

use crate::screen::pen::{Pen, cell_of, fit, width};
use crate::screen::scene::Scene;
use crate::screen::sequence::rows;
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::rig::{Kind, Sequence, Step};
use wasvolta_core::sequence::{Short, Timeline, Track, rounded_up};
use wasvolta_core::stage::Play;

/// Everything that is needed to place something in time.
struct Time<'a> {
    line: &'a Timeline,
    first_move: f64,
    length: f64,
    wide: u16,
}

impl Time<'_> {
    fn column(&self, t: f64) -> u16 {
        cell_of(t / self.length * f64::from(self.wide - 1)).min(self.wide - 1)
    }

    fn at(&self, column: u16) -> f64 {
        f64::from(column) / f64::from(self.wide - 1) * self.length
    }
}

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let Some((sequence, line)) = scene.sequence() else {
        pen.put(0, 0, "no sequence yet", theme::strong(theme::INK));
        let words = "A sequence is a list of poses with the time to reach each. Move joints by hand in F2, keep where they \
                     stand with k, and insert the pose here with i.";
        pen.paragraph(0, 2, words, theme::text(theme::QUIET));
        return;
    };
    let (wide, high) = (pen.width(), pen.height());
    let label = if wide >= 90 { 16 } else { 12 };
    let first_move = scene.first_move();
    let length = line.length(first_move);
    title(pen, scene, sequence, length);
    let roomy = high >= 34;
    let top = if roomy { 2 } else { 1 };
    let details = u16::try_from(rows::ROWS.len()).unwrap_or(7);
    let foot = if high >= 26 { details + 1 } else { 4 };
    let time = Time { line, first_move, length: length.max(0.001), wide: wide - label };
    let shorts = line.shorts(|n| scene.start_of(n));
    if sequence.steps.is_empty() {
        pen.put(0, top, "no step yet: i inserts a pose", theme::text(theme::QUIET));
    } else {
        heads(&mut pen.part(label, top, wide - label, 2), scene, sequence, &time, &shorts);
        pen.put(0, top, "steps", theme::text(theme::QUIET));
        pen.put(0, top + 1, "move, dwell", theme::text(theme::QUIET));
        let bands_top = top + if roomy { 3 } else { 2 };
        let bands_high = high.saturating_sub(bands_top + 2 + foot);
        let used = bands(&mut pen.part(0, bands_top, wide, bands_high), scene, &time, &shorts, label);
        axis(&mut pen.part(0, bands_top + used, wide, 2), scene, &time, label);
        now_line(&mut pen.part(label, top + 2, wide - label, bands_top + used - top - 2), scene, &time);
    }
    self::details(&mut pen.part(0, high - foot, wide, foot), scene, sequence, &shorts);
}

fn title(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, length: f64) {
    let x = pen.put(0, 0, &sequence.name, theme::strong(theme::INK)) + 2;
    let steps = sequence.steps.len();
    let words = format!("{steps} step{}, {length:.2} s", if steps == 1 { "" } else { "s" });
    let x = pen.put(x, 0, &words, theme::text(theme::QUIET));
    let player = &scene.model.snapshot.player;
    if player.sequence == scene.model.sequence.id && player.play != Play::Stopped {
        let word = match player.play {
            Play::Playing => "playing",
            Play::Paused => "standing",
            _ => "ended",
        };
        let only = if player.screen_only { " on the screen only: output is off" } else { "" };
        pen.put(x + 2, 0, &format!("{word}{only}"), theme::strong(theme::COMMANDED));
    }
}

/// The steps, to scale: move on a raised ground, dwell on a thin rule.
fn heads(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, time: &Time, shorts: &[Short]) {
    for (n, step) in sequence.steps.iter().enumerate() {
        let Some(when) = time.line.step(n, time.first_move) else { continue };
        let (a, b, c) = (time.column(when.starts), time.column(when.arrives()), time.column(when.ends()));
        let here = n == scene.model.in_sequence.step;
        let short = shorts.iter().any(|s| s.step == n);
        let color = if short {
            theme::FAULT
        } else if here {
            theme::COMMANDED
        } else {
            theme::INK
        };
        for y in 0..2 {
            pen.ground(a, y, b.saturating_sub(a).max(1), theme::RAISED);
            pen.glyph(a, y, if here { "▌" } else { "▏" }, if here { theme::COMMANDED } else { theme::QUIET });
        }
        let room = usize::from(c.saturating_sub(a + 2));
        let style = if here { theme::strong(color) } else { theme::text(color) };
        let name = format!("{} {}", n + 1, step.pose);
        let times = format!("{:.2}, {:.2} s", when.moves, when.dwells);
        let brief = if room >= 6 { fit(&name, room) } else { fit(&(n + 1).to_string(), room) };
        pen.put(a + 1, 0, &brief, style);
        if times.len() <= room {
            pen.put(a + 1, 1, &times, theme::text(theme::QUIET));
        } else if room >= 4 {
            pen.put(a + 1, 1, &fit(&format!("{:.2}", when.moves), room), theme::text(theme::QUIET));
        }
    }
}

/// A band a joint; gives the rows used.
fn bands(pen: &mut Pen<'_>, scene: &Scene, time: &Time, shorts: &[Short], label: u16) -> u16 {
    const LEAST: u16 = 3;
    let count = u16::try_from(time.line.tracks.len()).unwrap_or(u16::MAX).max(1);
    let pitch = (pen.height() / count).clamp(LEAST, 12);
    let wide = pen.width();
    // Where not all have room, the last row says how many more there are.
    let fits = if count * pitch <= pen.height() { count } else { (pen.height().saturating_sub(1)) / pitch };
    for (n, track) in (0..fits).zip(&time.line.tracks) {
        band(&mut pen.part(0, n * pitch, wide, pitch - 1), scene, time, track, shorts, label);
    }
    let used = fits * pitch;
    if fits == count {
        return used.min(pen.height());
    }
    let left = count - fits;
    let more = format!("↓ {left} more joint{}", if left == 1 { "" } else { "s" });
    pen.put(0, used, &more, theme::text(theme::QUIET));
    used + 1
}

fn band(pen: &mut Pen<'_>, scene: &Scene, time: &Time, track: &Track, shorts: &[Short], label: u16) {
    let Some(picked) = scene.servo(track.servo) else { return };
    let here = scene.place() == Some(track.servo);
    let start = scene.start_of(track.servo).unwrap_or_default();
    let angle = |column: u16| time.line.at(track, time.at(column), start, time.first_move);
    // What is on or off is drawn as what it gets, not as what eases towards it.
    let given = |value: f64| match picked.servo.kind {
        kind if kind.is_switch() => f64::from(u8::from(value >= 50.0)) * 100.0,
        _ => value,
    };
    let angles: Vec<f64> = (0..time.wide).map(|x| given(angle(x).get())).collect();
    let (least, most) = angles.iter().fold((0.0f64, 0.0f64), |(a, b), &v| (a.min(v), b.max(v)));
    let (least, most) =
        if most - least < 10.0 { (least.min(0.0), least.min(0.0) + 10.0) } else { (least, most) };
    let name = if picked.servo.group().is_empty() || label >= 16 {
        &picked.servo.name
    } else {
        picked.servo.short_name()
    };
    let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    pen.put(0, 0, &fit(name, usize::from(label) - 1), style);
    let lowest = angles.iter().copied().fold(f64::INFINITY, f64::min);
    let highest = angles.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    pen.put(
        0,
        1,
        &fit(&span(picked.servo.kind, (lowest, highest), usize::from(label) - 1), usize::from(label) - 1),
        theme::text(theme::QUIET),
    );
    let mine: Vec<&Short> = shorts.iter().filter(|s| s.servo == track.servo).collect();
    if let Some(worst) = mine.iter().map(|s| s.needs).reduce(f64::max) {
        let row = if pen.height() >= 3 { 2 } else { 1 };
        pen.put(0, row, &format!("needs {:.2} s", rounded_up(worst)), theme::text(theme::FAULT));
    }
    let rows = pen.height();
    let short_at = |column: u16| {
        let step = time.line.step_at(time.at(column), time.first_move);
        let moving = time.line.step(step, time.first_move).is_some_and(|s| time.at(column) <= s.arrives());
        moving && mine.iter().any(|s| s.step == step)
    };
    let color = if here { theme::COMMANDED } else { theme::SILHOUETTE };
    for (x, &value) in (0u16..).zip(&angles) {
        let ink = if short_at(x) { theme::FAULT } else { color };
        silhouette(
            pen,
            label + x,
            rows,
            ((value - least) / (most - least), (0.0 - least) / (most - least)),
            ink,
            short_at(x),
        );
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

/// One column of a silhouette between the zero line and a value, both 0..1 from the bottom, in eighths.
fn silhouette(pen: &mut Pen<'_>, x: u16, rows: u16, (value, zero): (f64, f64), color: Color, hatched: bool) {
    const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
    let scale = f64::from(rows) * 8.0;
    let (from, to) = (value.min(zero) * scale, value.max(zero) * scale);
    for row in 0..rows {
        let bottom = f64::from(rows - 1 - row) * 8.0;
        let (a, b) = ((from - bottom).clamp(0.0, 8.0), (to - bottom).clamp(0.0, 8.0));
        let holds_zero = (bottom..bottom + 8.0).contains(&(zero * scale - 1e-9).max(0.0));
        let (a, b) = (cell_of(a.round()), cell_of(b.round()));
        if b > a {
            let glyph = if hatched {
                "▒"
            } else if a == 0 {
                EIGHTHS[usize::from(b)]
            } else if b == 8 {
                EIGHTHS[usize::from(a)]
            } else {
                "━"
            };
            pen.glyph(x, row, glyph, color);
            // The ground too: a font's block may leave a seam between rows.
            if glyph == "█"
                && let Some(cell) = pen.cell(x, row)
            {
                cell.set_bg(color);
            }
            // Hanging from the top of a cell is the rest of it reversed.
            if a > 0
                && b == 8
                && !hatched
                && let Some(cell) = pen.cell(x, row)
            {
                cell.set_fg(theme::GROUND).set_bg(color);
            }
        } else if holds_zero {
            pen.glyph(x, row, "─", theme::RULE);
        }
    }
}

fn axis(pen: &mut Pen<'_>, scene: &Scene, time: &Time, label: u16) {
    let pitch = [0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0, 60.0, 300.0]
        .into_iter()
        .find(|p| p / time.length * f64::from(time.wide) >= 9.0)
        .unwrap_or(600.0);
    let mut t = 0.0;
    while t <= time.length + 1e-9 {
        let x = label + time.column(t);
        let text = if pitch < 1.0 { format!("{t:.1} s") } else { format!("{t:.0} s") };
        pen.put_centred(x, 0, &text, theme::text(theme::QUIET));
        t += pitch;
    }
    let now = format!("{:.2} s", scene.model.in_sequence.time);
    pen.put_centred(
        label + time.column(scene.model.in_sequence.time.min(time.length)),
        1,
        &now,
        theme::strong(theme::COMMANDED),
    );
}

fn now_line(pen: &mut Pen<'_>, scene: &Scene, time: &Time) {
    let x = time.column(scene.model.in_sequence.time.min(time.length));
    for y in 0..pen.height() {
        if let Some(cell) = pen.cell(x, y) {
            cell.set_symbol("│").set_fg(theme::MARK).set_bg(theme::GROUND);
        }
    }
}

/// The picked step's values, one of them picked, and which joints are short.
fn details(pen: &mut Pen<'_>, scene: &Scene, sequence: &Sequence, shorts: &[Short]) {
    let step = sequence.steps.get(scene.model.in_sequence.step);
    let rows = usize::from(pen.height());
    let all = &rows::ROWS;
    let picked = scene.model.in_sequence.row.min(all.len() - 1);
    let first = (picked + 1).saturating_sub(rows.saturating_sub(1)).min(all.len());
    for (y, (n, row)) in (0..pen.height()).zip(all.iter().enumerate().skip(first)) {
        let here = n == picked;
        if here {
            pen.ground(0, y, 44, theme::RAISED);
            pen.glyph(0, y, "▌", theme::COMMANDED);
        }
        pen.put(2, y, row.name, theme::text(theme::QUIET));
        let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        pen.put(13, y, &rows::value(scene, row), style);
        if here && rows::is_number(row) {
            let hint = format!("{} s", row.hint(scene).replace(" by", ""));
            pen.put(30, y, &hint, theme::text(theme::QUIET));
        }
    }
    let wide = pen.width();
    if wide >= 58 {
        notes(&mut pen.part(46, 0, wide - 46, 7), scene, step, shorts);
    }
}

/// The pose in angles, and what is short in words.
fn notes(pen: &mut Pen<'_>, scene: &Scene, step: Option<&Step>, shorts: &[Short]) {
    let Some(pose) = step.and_then(|s| scene.rig.pose(&s.pose)) else { return };
    pen.put(0, 0, &format!("pose {}", pose.name), theme::text(theme::QUIET));
    let rig = scene.rig;
    let said = rig.servos.iter().filter_map(|servo| {
        let name = rig.spoken_name(servo)?;
        Some(format!("{name} {}", servo.kind.show(pose.target(servo.kind, name)?)))
    });
    let angles: Vec<String> = said.collect();
    let y = pen.paragraph(0, 1, &angles.join("   "), theme::text(theme::INK));
    let mine: Vec<String> = shorts
        .iter()
        .filter(|s| s.step == scene.model.in_sequence.step)
        .filter_map(|s| {
            Some(format!("{} needs {:.2} s", scene.rig.servos.get(s.servo)?.name, rounded_up(s.needs)))
        })
        .collect();
    if !mine.is_empty() {
        pen.paragraph(
            0,
            y,
            &format!("cannot get there in time: {}", mine.join(", ")),
            theme::text(theme::FAULT),
        );
    }
}
