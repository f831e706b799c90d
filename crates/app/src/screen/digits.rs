//! Numbers large enough to be read from the bench, drawn in half blocks: three rows high.

use crate::screen::pen::Pen;
use ratatui::style::Color;

/// Columns of a digit with the gap behind it.
pub const PITCH: u16 = 5;
pub const ROWS: u16 = 3;

/// Five rows of four dots each, the leftmost dot highest.
const fn shape(c: char) -> [u8; 5] {
    match c {
        '0' => [0b1111, 0b1001, 0b1001, 0b1001, 0b1111],
        '1' => [0b0110, 0b0010, 0b0010, 0b0010, 0b0111],
        '2' => [0b1111, 0b0001, 0b1111, 0b1000, 0b1111],
        '3' => [0b1111, 0b0001, 0b0111, 0b0001, 0b1111],
        '4' => [0b1001, 0b1001, 0b1111, 0b0001, 0b0001],
        '5' => [0b1111, 0b1000, 0b1111, 0b0001, 0b1111],
        '6' => [0b1111, 0b1000, 0b1111, 0b1001, 0b1111],
        '7' => [0b1111, 0b0001, 0b0010, 0b0100, 0b0100],
        '8' => [0b1111, 0b1001, 0b1111, 0b1001, 0b1111],
        '9' => [0b1111, 0b1001, 0b1111, 0b0001, 0b1111],
        '-' | '−' => [0, 0, 0b0111, 0, 0],
        '+' => [0, 0b0010, 0b0111, 0b0010, 0],
        '?' => [0b1111, 0b0001, 0b0110, 0, 0b0100],
        _ => [0; 5],
    }
}

/// Writes a number so that it ends before column `end`.
pub fn put_right(pen: &mut Pen<'_>, end: u16, y: u16, text: &str, color: Color) {
    let count = u16::try_from(text.chars().count()).unwrap_or(0);
    let start = end.saturating_sub(count * PITCH);
    for (place, c) in (0u16..).zip(text.chars()) {
        let rows = shape(c);
        for row in 0..ROWS {
            let upper = rows.get(usize::from(row) * 2).copied().unwrap_or(0);
            let lower = rows.get(usize::from(row) * 2 + 1).copied().unwrap_or(0);
            for column in 0..4u16 {
                let bit = 0b1000 >> column;
                let glyph = match (upper & bit != 0, lower & bit != 0) {
                    (true, true) => {
                        // The ground too: a font's block may leave a seam between rows.
                        if let Some(cell) = pen.cell(start + place * PITCH + column, y + row) {
                            cell.set_bg(color);
                        }
                        "█"
                    }
                    (true, false) => "▀",
                    (false, true) => "▄",
                    (false, false) => continue,
                };
                pen.glyph(start + place * PITCH + column, y + row, glyph, color);
            }
        }
    }
}
