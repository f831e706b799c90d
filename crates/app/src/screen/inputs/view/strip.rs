//! The last seconds of the picked input, at the beat's own rate.

use crate::screen::chart::Plot;
use crate::screen::inputs::state::Sample;
use crate::screen::pen::{Pen, width};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::shape::Span;

const SECONDS: f64 = 12.0;
/// Over so long the spread of raw values is computed, in seconds.
const LATELY: f64 = 2.0;

pub fn draw(pen: &mut Pen<'_>, scene: &Scene, span: &Span) {
    let (wide, rows) = (pen.width(), pen.height());
    let left = 7;
    let (floor, ceiling) = (span.floor(), span.ceiling());
    let now = scene.model.snapshot.now.as_secs_f64();
    let mut plot = Plot::new(wide - left, rows - 1, (-SECONDS, 0.0), (floor, ceiling));
    plot.dashed((-SECONDS, 0.0), (0.0, 0.0), theme::RULE, (1, 4));
    let samples = || {
        let samples = scene.model.in_inputs.strip.iter();
        samples.map(move |sample| (sample.at.as_secs_f64() - now, sample)).filter(|(t, _)| *t >= -SECONDS)
    };
    let gap = |sample: &Sample| if sample.live { 0.0 } else { f64::NAN };
    plot.curve(
        samples().map(|(t, sample)| (t, sample.place.clamp(floor, ceiling) + gap(sample))),
        theme::QUIET,
    );
    plot.curve(samples().map(|(t, sample)| (t, sample.shaped + gap(sample))), theme::INPUT);
    plot.canvas.lay(pen, left, 0);
    let quiet = theme::text(theme::QUIET);
    // Silence is a stretch of its own, and said.
    let mut silent: Option<(u16, u16)> = None;
    for (t, _) in samples().filter(|(_, sample)| !sample.live) {
        let (x, _) = plot.cell(t, floor);
        let x = left + x.min(wide - left - 1);
        pen.glyph(x, rows - 2, "╳", theme::FAULT);
        silent = Some(silent.map_or((x, x), |(from, to)| (from.min(x), to.max(x))));
    }
    if let Some((from, to)) = silent.filter(|(from, to)| to - from >= 8) {
        pen.put(from + (to - from) / 2 - 4, (rows - 2) / 2, "not heard", theme::text(theme::FAULT));
    }
    let mark = |value: f64| if span.is_own() { format!("{value:+.0}°") } else { format!("{value:+.0}") };
    pen.put_right(left - 1, 0, &mark(ceiling), quiet);
    let (_, zero) = plot.cell(0.0, 0.0);
    if floor <= 0.0 && zero < rows - 1 {
        pen.put_right(left - 1, zero.min(rows - 2), "0", quiet);
    }
    if floor < 0.0 {
        pen.put_right(left - 1, rows - 2, &mark(floor), quiet);
    }
    pen.put(left, rows - 1, &format!("{SECONDS:.0} s ago"), quiet);
    let figures = [format!("{}now", figures(scene)), "now".to_owned()];
    // Where there is room for both: what the lines are, and then how much it spreads.
    let legend = left + 12 + 22;
    let fits = |words: &&String| legend + width(words) <= wide;
    pen.put_right(wide, rows - 1, figures.iter().find(fits).unwrap_or(&figures[1]), quiet);
    let x = pen.put(left + 12, rows - 1, "── raw   ", quiet);
    pen.put(x, rows - 1, "── shaped", theme::text(theme::INPUT));
}

/// How much the raw values have spread lately, and how often new ones come.
fn figures(scene: &Scene) -> String {
    let now = scene.model.snapshot.now.as_secs_f64();
    let samples = scene.model.in_inputs.strip.iter();
    let lately = samples.filter(|sample| sample.live && now - sample.at.as_secs_f64() <= LATELY);
    let raw: Vec<f64> = lately.map(|sample| sample.raw).filter(|raw| raw.is_finite()).collect();
    let link = scene.input().and_then(|input| scene.link_of(input)).filter(|linked| linked.state.is_heard());
    let rate = link.and_then(|linked| linked.state.usual());
    let rate =
        rate.map_or_else(String::new, |usual| format!("{:.0} frames /s   ", 1.0 / usual.as_secs_f64()));
    if raw.len() < 3 {
        return rate;
    }
    let count = wasvolta_core::unit::number(raw.len());
    let mean = raw.iter().sum::<f64>() / count;
    let spread = (raw.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / (count - 1.0)).sqrt();
    format!("spread ±{spread:.1} raw in {LATELY:.0} s   {rate}")
}
