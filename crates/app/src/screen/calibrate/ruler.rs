//! The pulse ruler over the whole width, to scale, and the pulse itself in its frame.

use crate::screen::pen::{Pen, cell_of, width};
use crate::screen::scene::Picked;
use crate::screen::theme;
use wasvolta_core::rig::MarkKind;
use wasvolta_core::unit::Position;

struct Axis {
    low: f64,
    high: f64,
    wide: u16,
    /// What stands between two numbers, and between two strokes.
    steps: (f64, f64),
    unit: &'static str,
}

/// Between two numbers of a scale in counts, the finest first.
const COUNTS: [f64; 6] = [50.0, 100.0, 250.0, 500.0, 1000.0, 5000.0];

impl Axis {
    /// Covers everything that is to be shown, in whole hundreds.
    fn of(picked: &Picked, wide: u16) -> Self {
        let (low, high) = picked.plan.guard.endpoints;
        let unit = picked.unit();
        if picked.servo.kind.is_smart() {
            // Its data sheet has all of its scale; the part of it that it may use is what is looked at.
            let air = (high - low).get() * 0.15;
            let (low, high) = ((low.get() - air).max(0.0), high.get() + air);
            let finest = (high - low) / f64::from(wide) * 10.0;
            let label = COUNTS.into_iter().find(|step| *step >= finest).unwrap_or(5000.0);
            return Self { low, high, wide, steps: (label, label / 5.0), unit };
        }
        let rated = picked.servo.rated.as_ref().map(wasvolta_core::rig::Rated::over);
        let least = rated.map_or(low.get(), |r| r.low.get().min(low.get())).min(900.0);
        let most = rated.map_or(high.get(), |r| r.high.get().max(high.get())).max(2100.0);
        Self {
            low: ((least - 60.0) / 100.0).floor() * 100.0,
            high: ((most + 60.0) / 100.0).ceil() * 100.0,
            wide,
            steps: (if wide >= 100 { 250.0 } else { 500.0 }, 50.0),
            unit,
        }
    }

    fn column(&self, pulse: Position) -> u16 {
        let share = (pulse.get() - self.low) / (self.high - self.low);
        cell_of(share * f64::from(self.wide - 1)).min(self.wide - 1)
    }
}

/// Rows that the ruler needs.
pub const ROWS: u16 = 5;

/// Draws the ruler: pulse and marks above the line, scale below, the rated range, or the servo's own limits, last.
pub fn draw(pen: &mut Pen<'_>, picked: &Picked, with_rated: bool) {
    let axis = Axis::of(picked, pen.width());
    let (low, high) = picked.plan.guard.endpoints;
    let (inner_low, inner_high) = picked.plan.guard.free();
    for x in 0..pen.width() {
        pen.glyph(x, 2, "─", theme::RULE);
    }
    for x in axis.column(low)..=axis.column(high) {
        pen.glyph(x, 2, "━", theme::RULE);
    }
    for x in axis.column(inner_low)..=axis.column(inner_high) {
        pen.glyph(x, 2, "━", theme::INK);
    }
    for (endpoint, left) in [(low, true), (high, false)] {
        let x = axis.column(endpoint);
        pen.glyph(x, 2, "▐", theme::FAULT);
        let label = format!("{:.0}", endpoint.get());
        if left {
            pen.put_right(x.saturating_sub(1), 1, &label, theme::text(theme::FAULT));
        } else {
            // Where there is no room behind it, it stands before its stop.
            let room = x + 2 + width(&label) <= pen.width();
            if room {
                pen.put(x + 2, 1, &label, theme::text(theme::FAULT));
            } else {
                pen.put_right(x, 0, &label, theme::text(theme::FAULT));
            }
        }
    }
    scale(pen, &axis);
    if picked.servo.kind.turns_on() {
        let x = axis.column(picked.servo.centre());
        pen.glyph(x, 2, "┃", theme::MARK);
        pen.put_centred(x, 4, "stop", theme::strong(theme::MARK));
    }
    marks(pen, &axis, picked);
    present(pen, &axis, picked);
    if picked.servo.kind.is_smart() {
        own_limits(pen, &axis, picked);
    }
    let rated = picked.servo.rated.as_ref().filter(|_| with_rated && !picked.servo.kind.is_smart());
    if let Some(rated) = rated {
        let (a, b) = (axis.column(rated.over().low), axis.column(rated.over().high));
        for x in a..=b {
            pen.glyph(x, 4, "·", theme::QUIET);
        }
        let words = format!(
            " its data sheet: {:.0}° over {:.0} to {} ",
            rated.travel_deg.get(),
            rated.over().low.get(),
            picked.at(rated.over().high)
        );
        pen.put_centred(u16::midpoint(a, b), 4, &words, theme::text(theme::QUIET));
    }
}

/// The limits that are kept in the servo, under those that are kept here: beyond them it refuses to go.
fn own_limits(pen: &mut Pen<'_>, axis: &Axis, picked: &Picked) {
    let Some((from, to)) = picked.feedback.and_then(|own| own.limits) else { return };
    let (low, high) = picked.plan.guard.endpoints;
    let (from, to) = (Position::new(f64::from(from)), Position::new(f64::from(to)));
    let (a, b) = (axis.column(from), axis.column(to));
    let cuts = from > low || to < high;
    let color = if cuts { theme::FAULT } else { theme::QUIET };
    for x in a..=b {
        pen.glyph(x, 4, "·", color);
    }
    let narrower = if cuts { ", narrower than the endpoints" } else { "" };
    let words = format!(" its own limits: {:.0} to {}{narrower} ", from.get(), picked.at(to));
    pen.put_centred(u16::midpoint(a, b), 4, &words, theme::text(color));
}

fn scale(pen: &mut Pen<'_>, axis: &Axis) {
    let (label_every, stroke_every) = axis.steps;
    let mut pulse = (axis.low / stroke_every).ceil() * stroke_every;
    while pulse <= axis.high {
        let x = axis.column(Position::new(pulse));
        let labelled = (pulse / label_every).fract() == 0.0;
        if labelled && x + width(axis.unit) + 4 > pen.width() {
            // The unit stands there.
        } else if labelled {
            let text = format!("{pulse:.0}");
            pen.put_centred(x, 3, &text, theme::text(theme::QUIET));
        } else if (axis.unit != "µs" || (pulse / 100.0).fract() == 0.0) && axis.wide >= 60 {
            pen.glyph(x, 3, "╵", theme::RULE);
        }
        pulse += stroke_every;
    }
    let wide = pen.width();
    pen.put_right(wide, 3, &format!(" {}", axis.unit), theme::text(theme::QUIET));
}

fn marks(pen: &mut Pen<'_>, axis: &Axis, picked: &Picked) {
    let mut number = 0;
    for mark in &picked.servo.marks {
        let sign = if mark.seen == MarkKind::Aligned {
            number += 1;
            number.to_string()
        } else {
            "×".to_owned()
        };
        pen.put(axis.column(mark.place()), 1, &sign, theme::strong(theme::MARK));
    }
}

/// The present pulse: a wedge on the line, its number above; and where a smart servo says it is.
fn present(pen: &mut Pen<'_>, axis: &Axis, picked: &Picked) {
    if let Some(at) = picked.measured() {
        let x = axis.column(at);
        pen.glyph(x, 2, "█", theme::MEASURED);
        if !picked.state.engaged {
            pen.put_centred(x, 0, &picked.at(at), theme::strong(theme::MEASURED));
        }
    }
    if !picked.state.engaged {
        return;
    }
    let x = axis.column(picked.state.pulse);
    let text = picked.servo.kind.show_place(picked.wire_pulse());
    pen.put_centred(x, 0, &text, theme::strong(theme::COMMANDED));
    pen.glyph(x, 1, "▼", theme::COMMANDED);
    pen.glyph(x, 2, "█", theme::COMMANDED);
}

/// The pulse in its frame, to scale.
pub fn pulse(pen: &mut Pen<'_>, picked: &Picked) {
    let Some(clock) = picked.clock() else { return };
    let on = picked.wire.ticks().map(|t| clock.pulse(t));
    let words = match on {
        Some(on) => {
            format!(
                "{:.3} ms high of {:.2} ms, {:.2} %",
                on.get() / 1e3,
                clock.period().get() / 1e3,
                clock.duty_percent(on)
            )
        }
        None => format!("{}; a frame is {:.2} ms", picked.wire.without(), clock.period().get() / 1e3),
    };
    let label = width("on the wire  ");
    pen.put(0, 1, picked.wire.label().0, theme::text(theme::QUIET));
    let wide = pen.width() - label;
    let color = if on.is_some() { theme::COMMANDED } else { theme::QUIET };
    let share = on.map_or(0.0, |on| on.micros() / clock.period());
    let high = cell_of(share * f64::from(wide)).max(u16::from(on.is_some()));
    for x in 0..wide {
        if x < high {
            pen.glyph(label + x, 0, "▄", color);
            pen.glyph(label + x, 1, "█", color);
        } else {
            pen.glyph(label + x, 1, "▁", color);
        }
    }
    pen.put(label + high + 2, 0, &words, theme::text(theme::QUIET));
}
