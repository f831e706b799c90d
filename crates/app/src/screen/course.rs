//! The last seconds of the picked servo: what it was told and, where it says so, where it was.

use super::chart::Plot;
use super::moment::Moment;
use super::pen::Pen;
use super::scene::{Picked, Scene};
use super::theme;
use wasvolta_core::unit::Position;

/// So far back it goes, in seconds.
pub const SECONDS: f64 = 10.0;
/// Columns that labels take.
const LEFT: u16 = 8;
/// Rows without which it says nothing.
pub const LEAST: u16 = 6;

/// Draws it under a title: over its endpoints, in degrees or percent where it has a scale, else in µs or counts.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let (wide, rows) = (pen.width(), pen.height().saturating_sub(2));
    if rows < LEAST - 2 || wide < LEFT + 12 {
        return;
    }
    let value = |at: Position| picked.plan.scale.as_ref().map_or(at.get(), |scale| scale.angle_at(at).get());
    let (low, high) = picked.plan.guard.endpoints;
    let (a, b) = (value(low), value(high));
    let (least, most) = (a.min(b), a.max(b));
    let air = (most - least) * 0.03;
    let now = scene.model.course.back().map_or(0.0, |moment| moment.at_s);
    let moments = || scene.model.course.iter().filter(move |moment| moment.at_s >= now - SECONDS);
    let line = |of: fn(&Moment) -> Option<Position>| {
        moments().map(move |moment| (moment.at_s - now, of(moment).map_or(f64::NAN, value)))
    };
    let mut plot = Plot::new(wide - LEFT, rows, (-SECONDS, 0.0), (least - air, most + air));
    if least < 0.0 && most > 0.0 {
        plot.dashed((-SECONDS, 0.0), (0.0, 0.0), theme::RULE, (1, 4));
    }
    plot.curve(line(|moment| moment.measured), theme::MEASURED);
    plot.curve(line(|moment| moment.told), theme::COMMANDED);
    plot.canvas.lay(pen, LEFT, 1);
    let quiet = theme::text(theme::QUIET);
    let x = pen.put(1, 0, picked.servo.short_name(), quiet);
    let said = if moments().any(|moment| moment.measured.is_some()) {
        "  commanded, measured"
    } else {
        "  commanded"
    };
    pen.put(x, 0, if moments().any(|moment| moment.told.is_some()) { said } else { "  no command" }, quiet);
    let shown = |at: Position| picked.value(at + picked.state.trim()).unwrap_or_else(|| picked.at(at));
    let (top, bottom) = if a < b { (high, low) } else { (low, high) };
    pen.put_right(LEFT - 1, 1, &shown(top), quiet);
    pen.put_right(LEFT - 1, rows, &shown(bottom), quiet);
    pen.put(LEFT, rows + 1, &format!("{SECONDS:.0} s ago"), quiet);
    pen.put_right(wide, rows + 1, "now", quiet);
}
