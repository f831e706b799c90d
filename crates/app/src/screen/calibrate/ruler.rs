//! The pulse ruler over the whole width, to scale, and the pulse itself in its frame.

use crate::screen::pen::{Pen, cell_of, width};
use crate::screen::scene::Picked;
use crate::screen::theme;
use wasvolta_core::rig::MarkKind;
use wasvolta_core::unit::Micros;

struct Axis {
    low: f64,
    high: f64,
    wide: u16,
}

impl Axis {
    /// Covers everything that is to be shown, in whole hundreds.
    fn of(picked: &Picked, wide: u16) -> Self {
        let (low, high) = picked.plan.guard.endpoints;
        let rated = picked.servo.rated.as_ref().map(|r| r.pulses_us);
        let least = rated.map_or(low.get(), |r| r.low.get().min(low.get())).min(900.0);
        let most = rated.map_or(high.get(), |r| r.high.get().max(high.get())).max(2100.0);
        Self {
            low: ((least - 60.0) / 100.0).floor() * 100.0,
            high: ((most + 60.0) / 100.0).ceil() * 100.0,
            wide,
        }
    }

    fn column(&self, pulse: Micros) -> u16 {
        let share = (pulse.get() - self.low) / (self.high - self.low);
        cell_of(share * f64::from(self.wide - 1)).min(self.wide - 1)
    }
}

/// Rows that the ruler needs.
pub const ROWS: u16 = 5;

/// Draws the ruler: pulse and marks above the line, scale below, the rated range last.
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
    if with_rated && let Some(rated) = &picked.servo.rated {
        let (a, b) = (axis.column(rated.pulses_us.low), axis.column(rated.pulses_us.high));
        for x in a..=b {
            pen.glyph(x, 4, "·", theme::QUIET);
        }
        let words = format!(
            " its sheet: {:.0}° over {:.0} to {:.0} µs ",
            rated.travel_deg.get(),
            rated.pulses_us.low.get(),
            rated.pulses_us.high.get()
        );
        pen.put_centred(u16::midpoint(a, b), 4, &words, theme::text(theme::QUIET));
    }
}

fn scale(pen: &mut Pen<'_>, axis: &Axis) {
    let label_every = if axis.wide >= 100 { 250.0 } else { 500.0 };
    let mut pulse = axis.low;
    while pulse <= axis.high {
        let x = axis.column(Micros::new(pulse));
        let labelled = (pulse / label_every).fract() == 0.0;
        if labelled && x + 6 > pen.width() {
            // The unit stands there.
        } else if labelled {
            let text = format!("{pulse:.0}");
            pen.put_centred(x, 3, &text, theme::text(theme::QUIET));
        } else if (pulse / 100.0).fract() == 0.0 && axis.wide >= 60 {
            pen.glyph(x, 3, "╵", theme::RULE);
        }
        pulse += 50.0;
    }
    let wide = pen.width();
    pen.put_right(wide, 3, " µs", theme::text(theme::QUIET));
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
        pen.put(axis.column(mark.pulse_us), 1, &sign, theme::strong(theme::MARK));
    }
}

/// The present pulse: a wedge on the line, its number above.
fn present(pen: &mut Pen<'_>, axis: &Axis, picked: &Picked) {
    if !picked.state.engaged {
        return;
    }
    let x = axis.column(picked.state.pulse);
    let text = format!("{:.0} µs", picked.wire_pulse().get());
    pen.put_centred(x, 0, &text, theme::strong(theme::COMMANDED));
    pen.glyph(x, 1, "▼", theme::COMMANDED);
    pen.glyph(x, 2, "█", theme::COMMANDED);
}

/// The pulse in its frame, to scale.
pub fn pulse(pen: &mut Pen<'_>, picked: &Picked) {
    let clock = picked.plan.guard.clock;
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
    let share = on.map_or(0.0, |on| on / clock.period());
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
