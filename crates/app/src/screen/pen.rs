//! Writing into a part of the buffer: nothing leaves its area, and widths are measured as terminals do.

use super::keymap::Keymap;
use super::theme;
use super::touch::{Touch, Touched};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};
use unicode_width::UnicodeWidthStr;

/// An area of the buffer to write into. Columns and rows count from its corner. Keys that a text names are put into it,
/// and what may be clicked is noted where it is drawn.
pub struct Pen<'a> {
    buffer: &'a mut Buffer,
    area: Rect,
    keys: &'a Keymap,
    touches: &'a mut Vec<Touch>,
}

impl<'a> Pen<'a> {
    /// A pen for an area, as far as it lies within the buffer.
    pub fn new(buffer: &'a mut Buffer, area: Rect, keys: &'a Keymap, touches: &'a mut Vec<Touch>) -> Self {
        let area = area.intersection(buffer.area);
        Self { buffer, area, keys, touches }
    }

    /// Notes what a click means on a part of this area. What is noted later lies over what was noted before.
    pub fn touch(&mut self, x: u16, y: u16, (columns, rows): (u16, u16), what: Touched) {
        let part = Rect { x: self.area.x + x, y: self.area.y + y, width: columns, height: rows };
        let part = part.intersection(self.area);
        if !part.is_empty() {
            self.touches.push(Touch { part, what });
        }
    }

    pub const fn width(&self) -> u16 {
        self.area.width
    }

    pub const fn height(&self) -> u16 {
        self.area.height
    }

    /// A part of this area by the columns and rows of the window.
    pub fn within(&self, part: Rect) -> Rect {
        Rect { x: self.area.x + part.x, y: self.area.y + part.y, ..part }.intersection(self.area)
    }

    /// The cells of the window that it draws into.
    pub const fn place(&self) -> Rect {
        self.area
    }

    /// Empties all of it, for something that lies over the view.
    pub fn clear(&mut self) {
        for y in 0..self.height() {
            for x in 0..self.width() {
                if let Some(cell) = self.cell(x, y) {
                    cell.reset();
                    cell.set_fg(theme::INK).set_bg(theme::GROUND);
                }
            }
        }
    }

    /// A pen for a part of this area.
    pub fn part(&mut self, x: u16, y: u16, width: u16, height: u16) -> Pen<'_> {
        let area = Rect {
            x: self.area.x + x.min(self.area.width),
            y: self.area.y + y.min(self.area.height),
            width,
            height,
        };
        let area = area.intersection(self.area);
        Pen { buffer: self.buffer, area, keys: self.keys, touches: self.touches }
    }

    /// Writes from a column on; gives the column behind. What does not fit is cut with an ellipsis.
    pub fn put(&mut self, x: u16, y: u16, text: &str, style: Style) -> u16 {
        if y >= self.area.height || x >= self.area.width {
            return x;
        }
        let room = usize::from(self.area.width - x);
        let fitted = fit(&self.keys.spell(text), room);
        self.buffer.set_stringn(self.area.x + x, self.area.y + y, &fitted, room, style);
        x + width(&fitted)
    }

    /// Writes so that the text ends before a column.
    pub fn put_right(&mut self, end: u16, y: u16, text: &str, style: Style) {
        let text = self.keys.spell(text);
        self.put(end.saturating_sub(width(&text)), y, &text, style);
    }

    /// Writes centred on a column, kept within the area.
    pub fn put_centred(&mut self, x: u16, y: u16, text: &str, style: Style) {
        let text = self.keys.spell(text);
        let wide = width(&text);
        let most = self.area.width.saturating_sub(wide);
        self.put(x.saturating_sub(wide / 2).min(most), y, &text, style);
    }

    /// Writes words in turn, each in its own style; gives the column behind.
    pub fn words(&mut self, x: u16, y: u16, words: &[(&str, Style)]) -> u16 {
        words.iter().fold(x, |x, (text, style)| self.put(x, y, text, *style))
    }

    /// Colours the ground of a part of a row.
    pub fn ground(&mut self, x: u16, y: u16, columns: u16, color: Color) {
        for column in x..x.saturating_add(columns).min(self.area.width) {
            if let Some(cell) = self.cell(column, y) {
                cell.set_bg(color);
            }
        }
    }

    /// One cell, if it lies in the area.
    pub fn cell(&mut self, x: u16, y: u16) -> Option<&mut ratatui::buffer::Cell> {
        (x < self.area.width && y < self.area.height)
            .then(|| self.buffer.cell_mut((self.area.x + x, self.area.y + y)))
            .flatten()
    }

    /// One character in a colour.
    pub fn glyph(&mut self, x: u16, y: u16, glyph: &str, color: Color) {
        if let Some(cell) = self.cell(x, y) {
            cell.set_symbol(glyph).set_fg(color);
        }
    }

    /// Text over several rows, broken between words; gives the row behind.
    pub fn paragraph(&mut self, x: u16, y: u16, text: &str, style: Style) -> u16 {
        let room = usize::from(self.area.width.saturating_sub(x)).max(1);
        let mut row = y;
        for line in wrap(&self.keys.spell(text), room) {
            self.put(x, row, &line, style);
            row += 1;
        }
        row
    }
}

/// Columns that a text takes.
pub fn width(text: &str) -> u16 {
    u16::try_from(text.width()).unwrap_or(u16::MAX)
}

/// The text, or as much of it as fits with an ellipsis.
pub fn fit(text: &str, room: usize) -> String {
    if text.width() <= room {
        return text.to_owned();
    }
    let mut cut = String::new();
    for c in text.chars() {
        if cut.width() + c.to_string().width() + 1 > room {
            break;
        }
        cut.push(c);
    }
    if room > 0 {
        cut.push('…');
    }
    cut
}

/// A text broken between words into lines of at most `room` columns, and where it breaks itself.
pub fn wrap(text: &str, room: usize) -> Vec<String> {
    text.split('\n').flat_map(|line| wrap_line(line, room)).collect()
}

fn wrap_line(text: &str, room: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    let mut words = text.split(' ').peekable();
    while let Some(word) = words.next() {
        let mut word = word.to_owned();
        // A number and its unit stand together.
        if word.ends_with(|c: char| c.is_ascii_digit())
            && let Some(unit) = words.next_if(|next| is_unit(next))
        {
            word = format!("{word} {unit}");
        }
        match lines.last_mut() {
            Some(line) if line.is_empty() => *line = word,
            Some(line) if line.width() + 1 + word.width() <= room => {
                line.push(' ');
                line.push_str(&word);
            }
            _ => lines.push(word),
        }
    }
    lines
}

fn is_unit(word: &str) -> bool {
    let bare = word.trim_end_matches([',', '.', ';', ':', ')']);
    ["s", "ms", "µs", "µs/s", "ticks", "°/s", "°/s²", "rpm", "%", "A", "V", "Hz", "kHz", "mm", "cm"]
        .contains(&bare)
}

/// A column or row from a computed number: rounded, never negative.
pub fn cell_of(value: f64) -> u16 {
    wasvolta_core::unit::count16(value)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wide_and_combining_characters_are_measured_right() {
        assert_eq!(width("日本"), 4);
        // An e with an accent of its own takes one column, and a cut never parts the two.
        assert_eq!(width("cre\u{301}me"), 5);
        assert_eq!(fit("cre\u{301}me", 4), "cre\u{301}…");
        assert_eq!(width("e\u{301}"), 1);
        assert_eq!(fit("日本語", 5), "日本…");
        assert_eq!(fit("neck", 4), "neck");
        assert_eq!(fit("necks", 4), "nec…");
    }

    #[test]
    fn text_is_broken_between_words() {
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
        assert_eq!(wrap("fast 8314 °/s², now", 10), ["fast", "8314 °/s²,", "now"]);
        assert_eq!(wrap("take 2 of 3", 6), ["take 2", "of 3"], "what is no unit goes by itself");
    }
}
