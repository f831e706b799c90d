//! Drawing in braille dots: two columns and four rows of dots a cell, each cell in the colour drawn last.

use crate::screen::pen::Pen;
use ratatui::style::Color;

/// Dots a cell, across and down.
pub const DOTS: (u16, u16) = (2, 4);

/// A sheet of dots.
pub struct Canvas {
    columns: u16,
    rows: u16,
    cells: Vec<(u8, Color)>,
}

impl Canvas {
    /// An empty sheet of so many cells.
    pub fn new(columns: u16, rows: u16) -> Self {
        Self { columns, rows, cells: vec![(0, Color::Reset); usize::from(columns) * usize::from(rows)] }
    }

    /// Dots across and down.
    pub fn size(&self) -> (f64, f64) {
        (f64::from(self.columns * DOTS.0), f64::from(self.rows * DOTS.1))
    }

    /// One dot; outside the sheet nothing happens.
    pub fn dot(&mut self, x: f64, y: f64, color: Color) {
        const BITS: [[u8; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];
        let (x, y) = (x.floor(), y.floor());
        let (width, height) = self.size();
        if !(0.0..width).contains(&x) || !(0.0..height).contains(&y) {
            return;
        }
        let (x, y) = (wasvolta_core::unit::count16(x), wasvolta_core::unit::count16(y));
        let place = usize::from(y / DOTS.1) * usize::from(self.columns) + usize::from(x / DOTS.0);
        if let Some(cell) = self.cells.get_mut(place) {
            cell.0 |= BITS[usize::from(x % DOTS.0)][usize::from(y % DOTS.1)];
            cell.1 = color;
        }
    }

    /// A straight line.
    pub fn line(&mut self, from: (f64, f64), to: (f64, f64), color: Color) {
        self.dashed(from, to, color, 1, 1);
    }

    /// A line of `on` dots out of every `of`.
    pub fn dashed(&mut self, from: (f64, f64), to: (f64, f64), color: Color, on: u16, of: u16) {
        let (dx, dy) = (to.0 - from.0, to.1 - from.1);
        let steps = wasvolta_core::unit::count16(dx.abs().max(dy.abs()).ceil()).max(1);
        for step in 0..=steps {
            if step % of < on {
                let share = f64::from(step) / f64::from(steps);
                self.dot(from.0 + dx * share, from.1 + dy * share, color);
            }
        }
    }

    /// Puts the sheet down with its corner at a cell; cells without a dot stay as they are.
    pub fn lay(&self, pen: &mut Pen<'_>, x: u16, y: u16) {
        for (place, &(bits, color)) in (0u16..).zip(&self.cells) {
            if bits != 0
                && let Some(glyph) = char::from_u32(0x2800 + u32::from(bits))
            {
                let mut text = [0; 4];
                pen.glyph(
                    x + place % self.columns,
                    y + place / self.columns,
                    glyph.encode_utf8(&mut text),
                    color,
                );
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;

    #[test]
    fn dots_land_in_their_cell_and_outside_ones_nowhere() {
        let mut canvas = Canvas::new(2, 1);
        canvas.dot(0.0, 0.0, Color::Red);
        canvas.dot(3.9, 3.9, Color::Red);
        canvas.dot(-1.0, 0.0, Color::Red);
        canvas.dot(4.0, 0.0, Color::Red);
        let mut buffer = Buffer::empty(Rect::new(0, 0, 2, 1));
        let area = buffer.area;
        let (keys, mut touches) = (crate::screen::keymap::Keymap::default(), Vec::new());
        canvas.lay(&mut Pen::new(&mut buffer, area, &keys, &mut touches), 0, 0);
        let text: String = buffer.content.iter().map(ratatui::buffer::Cell::symbol).collect();
        assert_eq!(text, "\u{2801}\u{2880}");
    }
}
