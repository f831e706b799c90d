//! Calibrate: one servo, its protractor, its ruler, its readings, its marks, its fit.

use super::{level, protractor, ruler};
use crate::screen::chart::Plot;
use crate::screen::digits;
use crate::screen::pen::{Pen, fit, width};
use crate::screen::rows::{NUDGES, Nudge};
use crate::screen::scene::{Picked, Scene};
use crate::screen::theme;
use wasvolta_core::fit::{Fit, Ground, NoFit};
use wasvolta_core::rig::{How, Kind, Mark};
use wasvolta_core::unit::{Degrees, Micros};

/// How the area is divided.
struct Layout {
    /// Columns of the readings.
    right: u16,
    /// Rows of the protractor, from row 1 or 2 on.
    protractor: (u16, u16),
    legend: u16,
    /// Rows for the limits' reasons under the legend.
    reasons: bool,
    ruler: u16,
    rated: bool,
    /// Where the pulse drawing begins, if there is room.
    pulse: Option<u16>,
}

impl Layout {
    fn of(wide: u16, high: u16) -> Self {
        let right = match wide {
            0..62 => 26,
            62..100 => 32,
            _ => 46,
        };
        let roomy = high >= 36;
        let rated = high >= 22;
        let pulse = roomy.then(|| high - 4);
        let ruler_rows = if rated { ruler::ROWS } else { ruler::ROWS - 1 };
        let ruler = high - ruler_rows - if roomy { 7 } else { 0 };
        let reasons = high >= 22;
        let legend = ruler - if roomy { 6 } else { 1 + 2 * u16::from(reasons) };
        let top = if roomy { 2 } else { 1 };
        Self { right, protractor: (top, legend - top), legend, reasons, ruler, rated, pulse }
    }
}

/// Before there is any servo.
fn empty(pen: &mut Pen<'_>) {
    let (x, y) = (pen.width() / 2, pen.height() / 3);
    pen.put_centred(x, y, "a adds a servo", theme::strong(theme::INK));
    pen.put_centred(x, y + 2, "a name, and the channel its plug is on", theme::text(theme::QUIET));
    pen.put_centred(x, y + 3, "nothing moves before you engage it", theme::text(theme::QUIET));
}

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let Some(picked) = scene.picked() else { return empty(pen) };
    let (wide, high) = (pen.width(), pen.height());
    let layout = Layout::of(wide, high);
    let left = wide - layout.right - 2;
    title(&mut pen.part(0, 0, left, 1), scene, &picked);
    if picked.servo.kind != Kind::Positional {
        return with_level(pen, scene, &picked, &layout);
    }
    protractor::draw(&mut pen.part(0, layout.protractor.0, left, layout.protractor.1), scene, &picked);
    protractor::legend(&mut pen.part(0, layout.legend, left, 1), 0, scene, &picked);
    if layout.reasons {
        reasons(&mut pen.part(0, layout.legend + 1, left, 2), &picked);
    }
    readings(&mut pen.part(left + 2, 0, layout.right, layout.ruler.saturating_sub(1)), scene, &picked);
    ruler::draw(&mut pen.part(0, layout.ruler, wide, ruler::ROWS), &picked, layout.rated);
    if let Some(row) = layout.pulse {
        ruler::pulse(&mut pen.part(0, row, wide, 2), &picked);
    }
}

/// What has a level instead of an angle: no protractor, and a ruler only for what gets servo pulses.
fn with_level(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, layout: &Layout) {
    let wide = pen.width();
    let left = wide - layout.right - 2;
    level::draw(
        &mut pen.part(0, layout.protractor.0, left, layout.ruler - layout.protractor.0),
        scene,
        picked,
    );
    level::readings(&mut pen.part(left + 2, 0, layout.right, layout.ruler.saturating_sub(1)), scene, picked);
    if !picked.servo.kind.is_accessory() {
        ruler::draw(&mut pen.part(0, layout.ruler, wide, ruler::ROWS), picked, layout.rated);
    }
    if let Some(row) = layout.pulse {
        ruler::pulse(&mut pen.part(0, row, wide, 2), picked);
    }
}

fn title(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let x = pen.put(0, 0, &picked.servo.name, theme::strong(theme::INK)) + 2;
    let cut = if picked.plan.stay_stiff { ", a cut leaves it stiff" } else { "" };
    let channel = if pen.width() < 36 { "ch." } else { "channel" };
    let place = format!("{}, {channel} {}{cut}", picked.board.name, picked.servo.channel);
    let mut x = pen.put(x, 0, &place, theme::text(theme::QUIET));
    if let Some(meter) = scene.model.meter
        && pen.width() >= 60
    {
        let off = (meter / picked.board.clock().rate().get() - 1.0).abs() > 0.002;
        let color = if off { theme::FAULT } else { theme::QUIET };
        x = pen.put(x, 0, &format!("  meter {meter:.3} Hz, simulated"), theme::text(color));
    }
    if !picked.servo.notes.is_empty() && pen.width() > x + 20 {
        pen.put(x, 0, &format!("  {}", picked.servo.notes), theme::text(theme::QUIET));
    }
}

fn reasons(pen: &mut Pen<'_>, picked: &Picked) {
    let Some(joint) = picked.joint else { return };
    for (y, (word, limit)) in (0..).zip([("low", &joint.low), ("high", &joint.high)]) {
        let Some(limit) = limit else {
            pen.put(0, y, &format!("{word:<4} limit none"), theme::text(theme::QUIET));
            continue;
        };
        let x = pen.put(0, y, &format!("{word:<4} limit "), theme::text(theme::QUIET));
        let x = pen.put(x, y, &format!("{:+.1}°", limit.angle_deg.get()), theme::text(theme::INK)).max(x + 7);
        pen.put(x + 1, y, &limit.reason, theme::text(theme::QUIET));
    }
}

fn readings(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    big_numbers(pen, picked);
    let y = wire(pen, scene, picked, digits::ROWS + 1);
    let y = marks(pen, scene, picked, y + 1);
    let room = pen.height().saturating_sub(y + 2);
    if room >= 8 && pen.width() >= 40 {
        let (wide, rows) = (pen.width(), room.min(16));
        chart(&mut pen.part(0, y + 1, wide, rows), scene, picked);
    }
}

/// The pulse, and where there is room the angle, large enough for the bench.
fn big_numbers(pen: &mut Pen<'_>, picked: &Picked) {
    let color = if picked.state.engaged { theme::COMMANDED } else { theme::QUIET };
    let known = picked.state.engaged || !picked.is_unknown();
    let pulse = if known { format!("{:.0}", picked.wire_pulse().get()) } else { "----".to_owned() };
    digits::put_right(pen, 4 * digits::PITCH, 0, &pulse, color);
    pen.put(4 * digits::PITCH, 2, "µs", theme::text(color));
    if pen.width() < 46 {
        return;
    }
    let angle = picked.plan.scale.filter(|_| known).map(|l| l.angle_at(picked.wire_pulse()).get());
    let color = if picked.state.engaged { theme::INK } else { theme::QUIET };
    let text = angle.map_or_else(
        || "--".to_owned(),
        |a| {
            let tenths = (a * 10.0).round() / 10.0;
            format!("{}{:.0}", if tenths < 0.0 { "-" } else { "+" }, tenths.abs().trunc())
        },
    );
    let end = pen.width() - 3;
    digits::put_right(pen, end, 0, &text, color);
    let rest =
        angle.map_or_else(|| "°".to_owned(), |a| format!(".{:.0}°", ((a.abs() * 10.0).round() % 10.0).abs()));
    pen.put(end, 2, &rest, theme::text(color));
}

/// What goes on the wire, what a tick and a nudge are worth; gives the row behind.
fn wire(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, y: u16) -> u16 {
    let clock = picked.plan.guard.clock;
    let gain = picked.drawn_line().map(|(l, _)| l.gain());
    let degrees = |us: Micros| gain.map_or_else(String::new, |g| format!("{:.2}°", (us.get() * g).abs()));
    let narrow = pen.width() < 40;
    let label = if narrow { 7 } else { 13 };
    let columns = if narrow { [label, label + 10, pen.width()] } else { [label, label + 11, label + 22] };
    let ticks = picked.state.ticks;
    let wire = match ticks {
        Some(t) => [
            format!("{} ticks", t.0),
            format!("{:.1} µs", clock.pulse(t).get()),
            format!("{:.2} %", clock.duty_percent(clock.pulse(t))),
        ],
        None => ["no pulse".to_owned(), String::new(), String::new()],
    };
    let nudge = NUDGES.get(scene.model.nudge).copied().unwrap_or(Nudge::Tick);
    let by = picked.nudge(nudge);
    let nudge_words = [format!("{:.1} µs", by.get()), format!("{:.1} ticks", by / clock.tick()), degrees(by)];
    let tick = [
        format!("{:.2} µs", clock.tick().get()),
        degrees(clock.tick()),
        format!("{:.2} Hz", clock.rate().get()),
    ];
    let rows: [(&str, &str, [String; 3]); 3] =
        [("on the wire", "wire", wire), ("one tick", "tick", tick), ("a nudge", "nudge", nudge_words)];
    for (row, (long, short, values)) in (y..).zip(rows) {
        pen.put(0, row, if narrow { short } else { long }, theme::text(theme::QUIET));
        for (x, value) in columns.into_iter().zip(&values) {
            pen.put(x, row, value, theme::text(theme::INK));
        }
    }
    state_row(pen, picked, y + 3, label)
}

/// Who drives it, and how well its place is known.
pub fn state_row(pen: &mut Pen<'_>, picked: &Picked, y: u16, label: u16) -> u16 {
    let names =
        if picked.servo.kind == Kind::Positional { ("where it is", "where") } else { ("driven by", "by") };
    pen.put(0, y, if label < 13 { names.1 } else { names.0 }, theme::text(theme::QUIET));
    let place = picked.place();
    let place = picked.value(place).unwrap_or_else(|| format!("{:.0} µs", place.get()));
    let known = picked.state.estimate.known.word();
    let words = if picked.is_unknown() { known.to_owned() } else { format!("{place} {known}") };
    let words = match (picked.state.arming(), picked.servo.kind) {
        (Some(_), _) if picked.state.is_unarmed() => "waits for its first pulses".to_owned(),
        (Some(left), _) => format!("arming, {:.1} s more", left.as_secs_f64()),
        (None, Kind::Positional) => words,
        // What a lamp or a motor does follows at once, and nothing is remembered of it.
        (None, _) if picked.state.engaged => picked.state.owner.word().to_owned(),
        (None, _) => "off".to_owned(),
    };
    let x = pen.put(label, y, &words, theme::text(theme::INK)) + 2;
    if let Some(stopped) = picked.state.stopped {
        pen.put(x, y, stopped.words(), theme::text(theme::FAULT));
    } else if picked.state.gliding {
        pen.put(x, y, "gliding", theme::text(theme::COMMANDED));
    } else if label >= 13
        && picked.servo.kind == Kind::Positional
        && picked.state.engaged
        && (picked.state.pulse - picked.wire_pulse()).abs().get() >= 1.0
    {
        // What is sent is whole ticks; a microsecond of difference is worth a word.
        pen.put(x, y, &format!("asked {:.1} µs", picked.state.pulse.get()), theme::text(theme::QUIET));
    }
    y + 1
}

/// The marks with their residuals, and the fit in a sentence; gives the row behind.
fn marks(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, y: u16) -> u16 {
    let fit = scene.derived.fits.get(scene.model.servo);
    let narrow = pen.width() < 40;
    let ends: [u16; 3] = if narrow { [11, 18, 25] } else { [20, 29, 38] };
    pen.put(0, y, "marks", theme::strong(theme::INK));
    for (end, word) in ends.into_iter().zip(["pulse", "angle", "off by"]) {
        pen.put_right(end, y, word, theme::text(theme::QUIET));
    }
    let room = usize::from(pen.height().saturating_sub(y + 3)).max(1);
    let skipped = picked.servo.marks.len().saturating_sub(room);
    let mut number = 0;
    let mut row = y + 1;
    for (n, mark) in picked.servo.marks.iter().enumerate() {
        if mark.seen == How::Aligned {
            number += 1;
        }
        if n < skipped {
            continue;
        }
        mark_row(pen, row, mark, number, fit.and_then(|f| f.as_ref().ok()), ends);
        row += 1;
    }
    if picked.servo.marks.is_empty() {
        pen.put(0, row, "none yet", theme::text(theme::QUIET));
        row += 1;
    }
    let words = fit.map_or_else(String::new, |fit| sentence(fit, picked));
    let off = fit.and_then(|f| f.as_ref().ok()).is_some_and(|f| is_off_its_sheet(f, picked).is_some());
    let style = theme::text(if off { theme::FAULT } else { theme::INK });
    pen.paragraph(0, row + u16::from(!narrow), &words, style)
}

fn mark_row(pen: &mut Pen<'_>, y: u16, mark: &Mark, number: usize, fit: Option<&Fit>, ends: [u16; 3]) {
    let name = match mark.seen {
        How::Aligned => number.to_string(),
        How::Starts => "starts".to_owned(),
        How::Stops => "stops".to_owned(),
        How::Buzzes => "buzzes".to_owned(),
    };
    let style = theme::text(theme::MARK);
    pen.put(0, y, &name, style);
    pen.put_right(ends[0], y, &format!("{:.0}", mark.pulse_us.get()), style);
    let Some(angle) = mark.angle_deg else { return };
    pen.put_right(ends[1], y, &format!("{:+.1}°", angle.get()), style);
    let Some(fit) = fit else { return };
    let off = angle - fit.line.angle_at(mark.pulse_us);
    let worst =
        off.abs().get() > 0.005 && (off.abs() - fit.worst()).abs().get() < 1e-9 && fit.points.len() > 2;
    let style = if worst { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    pen.put_right(ends[2], y, &format!("{:+.2}°", off.get() + 0.0), style);
    // A bar a quarter of a degree a cell, so that the worst is seen before it is read.
    let bars = usize::from(crate::screen::pen::cell_of(off.abs().get() * 4.0).min(5));
    pen.put(ends[2] + 1, y, &"▪".repeat(bars), theme::text(theme::QUIET));
}

/// How far the slope is off the sheet, in percent, when that is worth a warning.
fn is_off_its_sheet(fit: &Fit, picked: &Picked) -> Option<f64> {
    let rated = picked.servo.rated.as_ref()?.slope().gain;
    let ratio = fit.line.gain() / rated;
    (fit.ground == Ground::Measured && !(0.85..=1.15).contains(&ratio)).then_some(ratio * 100.0)
}

/// The fit in a sentence.
fn sentence(fit: &Result<Fit, NoFit>, picked: &Picked) -> String {
    let fit = match fit {
        Ok(fit) => fit,
        Err(why) => return why.to_string(),
    };
    let line = format!("{:.2} °/100 µs, 0° at {:.1} µs", fit.line.gain() * 100.0, fit.zero().get());
    if fit.ground == Ground::Assumed {
        return format!("{line}\nslope assumed from its sheet");
    }
    let ends = fit.points.first().zip(fit.points.last()).map(|(a, b)| (fit.band(a.pulse), fit.band(b.pulse)));
    let band: Degrees = ends.map_or(Degrees::ZERO, |(a, b)| if a > b { a } else { b });
    let n = fit.points.len();
    let sure = match fit.s {
        Some(s) => format!("{n} marks, s {:.2}°, ±{:.1}° at the ends", s.get(), band.get()),
        None => format!("{n} marks, ±{:.1}° at the ends", band.get()),
    };
    let sheet = is_off_its_sheet(fit, picked)
        .map_or_else(String::new, |p| format!("\n{p:.0} % of what its sheet says"));
    format!("{line}\n{sure}{sheet}")
}

/// The fit over a stretch of pulses, with its band and the marks it was made from.
fn plot_fit(plot: &mut Plot, fit: &Fit, (x0, x1): (f64, f64)) {
    let angle = |p: f64| fit.line.angle_at(Micros::new(p)).get();
    // Solid between the marks, dashed where the line is only continued.
    let (first, last) =
        fit.points.first().zip(fit.points.last()).map_or((x0, x0), |(a, b)| (a.pulse.get(), b.pulse.get()));
    plot.line((first, angle(first)), (last, angle(last)), theme::INK);
    for (from, to) in [(x0, first), (last, x1)] {
        plot.dashed((from, angle(from)), (to, angle(to)), theme::INK, (2, 5));
    }
    for side in [-1.0, 1.0] {
        for step in 0..60u32 {
            let p = x0 + (x1 - x0) * f64::from(step) / 60.0;
            let edge = angle(p) + side * fit.band(Micros::new(p)).get();
            let (x, y) = plot.at(p, edge);
            plot.canvas.dot(x, y, theme::QUIET);
        }
    }
    for point in &fit.points {
        plot.disc(point.pulse.get(), point.angle.get(), theme::MARK);
    }
}

/// Pulse against angle: the fit with its band, the marks, what the sheet claims, and the present place.
fn chart(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let Some((drawn, fitted)) = picked.drawn_line() else { return };
    let (low, high) = picked.plan.guard.endpoints;
    let (x0, x1) = (low.get() - 60.0, high.get() + 60.0);
    let most = drawn.angle_at(low).abs().get().max(drawn.angle_at(high).abs().get());
    let top = ((most + 5.0) / 30.0).ceil() * 30.0;
    let left = 6;
    let mut plot = Plot::new(pen.width() - left, pen.height() - 1, (x0, x1), (-top, top));
    plot.dashed((x0, 0.0), (x1, 0.0), theme::RULE, (1, 3));
    if let Some(rated) = &picked.servo.rated {
        let slope = rated.slope();
        let angle = |p: f64| (p - slope.middle.get()) * slope.gain;
        plot.dashed((x0, angle(x0)), (x1, angle(x1)), theme::QUIET, (1, 4));
    }
    if let Some(Ok(fit)) = scene.derived.fits.get(scene.model.servo) {
        plot_fit(&mut plot, fit, (x0, x1));
    }
    if picked.state.engaged && fitted {
        plot.disc(picked.wire_pulse().get(), drawn.angle_at(picked.wire_pulse()).get(), theme::COMMANDED);
    }
    plot.canvas.lay(pen, left, 0);
    let quiet = theme::text(theme::QUIET);
    let rows = pen.height() - 1;
    for (y, text) in
        [(0, format!("{top:+.0}°")), (rows / 2, "0°".to_owned()), (rows - 1, format!("{:+.0}°", -top))]
    {
        pen.put_right(left - 1, y, &text, quiet);
    }
    let legend = if fitted { "·· sheet  ── fit" } else { "·· sheet, no fit yet" };
    pen.put(left, rows, &format!("{x0:.0}"), quiet);
    let wide = pen.width();
    let end = format!("{x1:.0} µs");
    pen.put_right(wide, rows, &end, quiet);
    let middle = left + (wide - left) / 2;
    if wide >= 44 {
        pen.put_centred(middle - width(&end) / 4, rows, &fit(legend, 26), quiet);
    }
}
