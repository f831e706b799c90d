//! Charts in dots: pulse against angle with its marks, and a curve with a dot on it.

use crate::screen::canvas::{Canvas, DOTS};
use crate::screen::pen::{Pen, cell_of};
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::shape::Span;

/// A rectangle of values shown on a canvas; `y` grows upwards.
pub struct Plot {
    pub canvas: Canvas,
    x: (f64, f64),
    y: (f64, f64),
}

impl Plot {
    /// An empty plot of so many cells over ranges of values.
    pub fn new(columns: u16, rows: u16, x: (f64, f64), y: (f64, f64)) -> Self {
        Self { canvas: Canvas::new(columns, rows), x, y }
    }

    /// Where a value lies, in dots.
    pub fn at(&self, x: f64, y: f64) -> (f64, f64) {
        let (wide, high) = self.canvas.size();
        let across = (x - self.x.0) / (self.x.1 - self.x.0);
        let up = (y - self.y.0) / (self.y.1 - self.y.0);
        (across * (wide - 1.0), (1.0 - up) * (high - 1.0))
    }

    /// The cell of a value.
    pub fn cell(&self, x: f64, y: f64) -> (u16, u16) {
        let (x, y) = self.at(x, y);
        (cell_of((x / f64::from(DOTS.0)).floor()), cell_of((y / f64::from(DOTS.1)).floor()))
    }

    /// A straight piece between two values.
    pub fn line(&mut self, from: (f64, f64), to: (f64, f64), color: Color) {
        if !to.1.is_finite() {
            return;
        }
        let (from, to) = (self.at(from.0, from.1), self.at(to.0, to.1));
        self.canvas.line(from, to, color);
    }

    /// A straight piece of `on` dots out of every `of`.
    pub fn dashed(&mut self, from: (f64, f64), to: (f64, f64), color: Color, (on, of): (u16, u16)) {
        let (from, to) = (self.at(from.0, from.1), self.at(to.0, to.1));
        self.canvas.dashed(from, to, color, on, of);
    }

    /// A line through many values; it breaks off where one is not a number.
    pub fn curve(&mut self, values: impl Iterator<Item = (f64, f64)>, color: Color) {
        let mut before: Option<(f64, f64)> = None;
        for value in values {
            if let Some(before) = before {
                self.line(before, value, color);
            }
            before = value.1.is_finite().then_some(value);
        }
    }

    /// A tint between a base line and many values: every other dot, so that a line over it stays a line.
    pub fn tint(&mut self, values: impl Iterator<Item = (f64, f64)>, base: f64, color: Color) {
        let (_, ground) = self.at(0.0, base);
        let mut before: Option<(f64, f64)> = None;
        for (x, y) in values {
            let here = y.is_finite().then(|| self.at(x, y));
            if let Some(((from_x, from_y), (to_x, to_y))) = before.zip(here) {
                for column in evens(from_x, to_x) {
                    let edge = from_y + (to_y - from_y) * (column - from_x) / (to_x - from_x);
                    evens(edge.min(ground), edge.max(ground))
                        .for_each(|dot| self.canvas.dot(column, dot, color));
                }
            }
            before = here;
        }
    }

    /// A small filled disc.
    pub fn disc(&mut self, x: f64, y: f64, color: Color) {
        let (x, y) = self.at(x, y);
        for (dx, dy) in [
            (0.0, 0.0),
            (1.0, 0.0),
            (-1.0, 0.0),
            (0.0, 1.0),
            (0.0, -1.0),
            (1.0, 1.0),
            (-1.0, -1.0),
            (1.0, -1.0),
            (-1.0, 1.0),
        ] {
            self.canvas.dot(x + dx, y + dy, color);
        }
    }
}

/// The even dots from one place to another, without that one.
fn evens(from: f64, to: f64) -> impl Iterator<Item = f64> {
    let first = (from.max(0.0) / 2.0).ceil() * 2.0;
    std::iter::successors(Some(first), |dot| Some(dot + 2.0)).take_while(move |dot| *dot < to)
}

/// What stands left of a chart of so many rows: at its top, in its middle and at its bottom.
pub fn heights(pen: &mut Pen<'_>, left: u16, rows: u16, words: &[String; 3]) {
    for (y, text) in [0, rows / 2, rows.saturating_sub(1)].into_iter().zip(words) {
        pen.put_right(left.saturating_sub(1), y, text, theme::text(theme::QUIET));
    }
}

/// What a horizontal bar shows, in shares of it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bar {
    /// Where the value stands.
    pub at: f64,
    /// Where it rests, and how much to either side counts as that.
    pub rest: (f64, f64),
}

impl Bar {
    /// A value over a span, with what counts as rest.
    pub fn of(span: &Span, value: f64, deadband: f64) -> Self {
        let rest = match span {
            Span::TwoSided { .. } => 0.5,
            Span::OneEnded { .. } => 0.0,
            Span::Own { .. } => span.share(0.0).clamp(0.0, 1.0),
        };
        let wide = span.ceiling() - span.floor();
        Self { at: span.share(value), rest: (rest, deadband / wide) }
    }
}

/// Draws one: heavy from rest to the value, thin elsewhere, dotted where it counts as rest.
pub fn bar(pen: &mut Pen<'_>, (x, y, wide): (u16, u16, u16), bar: Bar, color: Color) {
    let place = |share: f64| cell_of(share.clamp(0.0, 1.0) * f64::from(wide));
    let rest = place(bar.rest.0);
    // Of what nobody has said yet only the span is drawn.
    let end = if bar.at.is_finite() { place(bar.at) } else { rest };
    let dead = place(bar.rest.0 - bar.rest.1)..place(bar.rest.0 + bar.rest.1);
    for column in 0..wide {
        let heavy = (rest.min(end)..rest.max(end)).contains(&column);
        let thin = if dead.contains(&column) { "┄" } else { "─" };
        pen.glyph(x + column, y, if heavy { "━" } else { thin }, if heavy { color } else { theme::RULE });
    }
    if bar.rest.0 > 0.0 && bar.rest.0 < 1.0 {
        pen.glyph(x + rest.min(wide - 1), y, "┼", theme::INK);
    }
    if bar.at.is_finite() {
        pen.glyph(x + end.min(wide - 1), y, "●", color);
    }
}
