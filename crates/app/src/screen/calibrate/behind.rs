//! How far a smart servo lags behind what it is told: a strip of the last seconds, by its own word.

use crate::screen::pen::{Pen, width};
use crate::screen::scene::{Picked, Scene};
use crate::screen::theme;

/// A strip is at least so many degrees high.
const LEAST_DEG: f64 = 2.0;
const BARS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// What the picked servo lags behind now, in degrees of its joint; none where it is not driven, or says nothing.
pub fn now(picked: &Picked) -> Option<f64> {
    let at = picked.measured().filter(|_| picked.state.engaged)?;
    Some((picked.wire_pulse() - at).abs().get() * picked.slope()?)
}

/// Draws the strip, two rows high, the newest look at the right.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let label = width("is behind by  ");
    let all = &scene.model.in_calibrate.behind;
    let degrees = all.of_servo(picked.servo.id);
    // What was never driven has nothing to show.
    if degrees.is_empty() && now(picked).is_none() {
        return;
    }
    pen.put(0, 1, "is behind by", theme::text(theme::QUIET));
    let wide = pen.width().saturating_sub(label);
    let shown = degrees.len().min(usize::from(wide));
    let top = degrees.iter().rev().take(shown).copied().fold(LEAST_DEG, f64::max);
    for x in 0..wide {
        pen.glyph(label + x, 1, "▁", theme::RULE);
    }
    let from = label + wide - u16::try_from(shown).unwrap_or(0);
    for (x, value) in (from..).zip(degrees.iter().skip(degrees.len() - shown)) {
        let bar = crate::screen::pen::cell_of(value / top * 8.0).clamp(1, 8);
        pen.glyph(x, 1, BARS.get(usize::from(bar)).copied().unwrap_or("█"), theme::MEASURED);
    }
    let words = match now(picked) {
        Some(now) => format!("{now:.1}° now, {top:.1}° at the top of the strip"),
        None => "it is not driven now".to_owned(),
    };
    pen.put(label, 0, &words, theme::text(theme::QUIET));
}
