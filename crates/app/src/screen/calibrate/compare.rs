//! What is known of a servo beside what another source says, line by line.

use crate::screen::beside::Beside;
use crate::screen::chart::{Plot, heights};
use crate::screen::pen::{Pen, fit};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::unit::Position;

/// Draws it over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, (other, rows, angles): (&str, &[Beside], &[(f64, f64)])) {
    pen.clear();
    let own = scene.picked().map_or("", |p| p.servo.name.as_str());
    let wide = (pen.width().saturating_sub(18) / 2).min(30);
    let (left, right) = (16, 16 + wide);
    pen.put(left, 1, &fit(own, usize::from(wide)), theme::strong(theme::INK));
    pen.put(right, 1, &fit(other, usize::from(wide)), theme::strong(theme::INK));
    let mut y = 3;
    for row in rows {
        let style = theme::text(if row.agrees { theme::QUIET } else { theme::INK });
        pen.put(2, y, &row.what, theme::text(theme::QUIET));
        if row.one.is_empty() {
            let part =
                &mut pen.part(left, y, pen.width().saturating_sub(left), pen.height().saturating_sub(y));
            y += part.paragraph(0, 0, &row.other, theme::text(theme::INK));
            continue;
        }
        if !row.agrees {
            pen.put(right - 2, y, "≠", theme::strong(theme::MARK));
        }
        // What is wider than its column goes on below: a number without its unit says nothing.
        let below = pen.height().saturating_sub(y);
        let one = pen.part(left, y, wide.saturating_sub(3), below).paragraph(0, 0, &row.one, style);
        let other = pen.part(right, y, wide, below).paragraph(0, 0, &row.other, style);
        y += one.max(other).max(1);
    }
    let room = pen.height().saturating_sub(y + 2);
    if let (Some(first), Some(last)) = (angles.first(), angles.last())
        && room >= 6
    {
        let (wide, high) = (pen.width().saturating_sub(4).min(100), room.min(26));
        both(&mut pen.part(2, y + 1, wide, high), scene, angles, (first.0, last.0));
    }
}

/// What stands left of a chart.
const LEFT: u16 = 6;

/// The fit with its marks, and the other's angles as dots; below it what the fit is off them, where there is room.
fn both(pen: &mut Pen<'_>, scene: &Scene, angles: &[(f64, f64)], (x0, x1): (f64, f64)) {
    let (wide, high) = (pen.width(), pen.height());
    let strip = if high >= 16 { high / 3 } else { 0 };
    if strip > 0 {
        misses(&mut pen.part(0, high - strip, wide, strip), scene, angles, (x0, x1));
    }
    let pen = &mut pen.part(0, 0, wide, high - strip);
    let most = angles.iter().fold(0.0, |most: f64, (_, angle)| most.max(angle.abs()));
    let top = ((most + 2.0) / 10.0).ceil() * 10.0;
    let rows = pen.height() - 1;
    let mut plot = Plot::new(wide - LEFT, rows, (x0, x1), (-top, top));
    plot.dashed((x0, 0.0), (x1, 0.0), theme::RULE, (1, 3));
    for pair in angles.windows(2) {
        plot.dashed(pair[0], pair[1], theme::MEASURED, (1, 2));
    }
    if let Some(Ok(fit)) = scene.fit() {
        let pulses = (0..=96u32).map(|n| x0 + (x1 - x0) * f64::from(n) / 96.0);
        let own = |pulse: f64| fit.curve.angle_at(Position::new(pulse)).get();
        let on = pulses.map(|pulse| (pulse, own(pulse))).filter(|(_, angle)| angle.abs() <= top);
        plot.curve(on, theme::INK);
        for point in &fit.points {
            plot.disc(point.pulse.get(), point.angle.get(), theme::MARK);
        }
    }
    plot.canvas.lay(pen, LEFT, 0);
    let quiet = theme::text(theme::QUIET);
    heights(pen, LEFT, rows, &[format!("{top:+.0}°"), "0°".to_owned(), format!("{:+.0}°", -top)]);
    pen.put(LEFT, rows, &format!("{x0:.0}"), quiet);
    pen.put_right(wide, rows, &format!("{x1:.0} µs"), quiet);
    pen.put_centred(LEFT + (wide - LEFT) / 2, rows, "── fit  ·· what it is", quiet);
}

/// What the fit is off the other's angles, between the endpoints: what may be told.
fn misses(pen: &mut Pen<'_>, scene: &Scene, angles: &[(f64, f64)], (x0, x1): (f64, f64)) {
    let (Some(Ok(fit)), Some(picked)) = (scene.fit(), scene.picked()) else { return };
    let (low, high) = picked.plan.guard.endpoints;
    let off: Vec<(f64, f64)> = angles
        .iter()
        .filter(|(pulse, _)| (low.get()..=high.get()).contains(pulse))
        .map(|&(pulse, angle)| (pulse, fit.curve.angle_at(Position::new(pulse)).get() - angle))
        .collect();
    let top = off.iter().fold(1.0, |most: f64, (_, off)| most.max(off.abs())).ceil();
    let (wide, rows) = (pen.width(), pen.height());
    let mut plot = Plot::new(wide - LEFT, rows, (x0, x1), (-top, top));
    plot.dashed((x0, 0.0), (x1, 0.0), theme::RULE, (1, 3));
    plot.curve(off.into_iter(), theme::MARK);
    plot.canvas.lay(pen, LEFT, 0);
    heights(pen, LEFT, rows, &[format!("{top:+.0}°"), "miss".to_owned(), format!("{:+.0}°", -top)]);
}
