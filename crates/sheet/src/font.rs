//! The one font that sheets are set in, carried inside the program; its licence stands beside it.
//!
//! Both writers take glyphs and widths from here, so that a text has the same place in either.

use ttf_parser::{Face, GlyphId, OutlineBuilder};

/// The font's file.
pub const DATA: &[u8] = include_bytes!("../fonts/DejaVuSansCondensed.ttf");

/// A glyph of a text: which, its bytes in the text, and how far it moves on, in font units.
pub struct Placed {
    /// The glyph's number.
    pub glyph: u16,
    /// Where its character stands in the text.
    pub bytes: std::ops::Range<usize>,
    /// In font units.
    pub advance: u16,
}

fn with_face<T>(use_it: impl FnOnce(&Face<'_>) -> T) -> Option<T> {
    thread_local! {
        static FACE: Option<Face<'static>> = Face::parse(DATA, 0).ok();
    }
    FACE.with(|face| face.as_ref().map(use_it))
}

/// Font units to the em.
pub fn units_per_em() -> f64 {
    with_face(|f| f64::from(f.units_per_em())).unwrap_or(2048.0)
}

/// What the font's letters have in common, in font units.
#[derive(Debug, Clone, Copy, Default)]
pub struct Outline {
    /// Left, below, right, above: around all letters.
    pub bounds: [f64; 4],
    /// From the line up.
    pub ascent: f64,
    /// From the line up: below it, and so negative.
    pub descent: f64,
    /// The height of a capital.
    pub capital: f64,
}

/// The font's outline as a whole.
pub fn shape() -> Outline {
    with_face(|face| {
        let bounds = face.global_bounding_box();
        Outline {
            bounds: [bounds.x_min, bounds.y_min, bounds.x_max, bounds.y_max].map(f64::from),
            ascent: f64::from(face.ascender()),
            descent: f64::from(face.descender()),
            capital: f64::from(face.capital_height().unwrap_or(face.ascender())),
        }
    })
    .unwrap_or_default()
}

/// A text's glyphs in order. A character that the font lacks is shown as its empty box.
pub fn glyphs(text: &str) -> Vec<Placed> {
    with_face(|face| {
        text.char_indices()
            .map(|(start, c)| {
                let glyph = face.glyph_index(c).unwrap_or(GlyphId(0));
                let advance = face.glyph_hor_advance(glyph).unwrap_or(0);
                Placed { glyph: glyph.0, bytes: start..start + c.len_utf8(), advance }
            })
            .collect()
    })
    .unwrap_or_default()
}

/// The width of a text in mm, at a size in mm to the em.
pub fn width(text: &str, size: f64) -> f64 {
    glyphs(text).iter().map(|g| f64::from(g.advance)).sum::<f64>() * size / units_per_em()
}

/// Lines of a text that are no wider than `wide` mm; a word that alone is wider stands alone.
pub fn wrap(text: &str, size: f64, wide: f64) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split_whitespace() {
        match lines.last_mut() {
            Some(line) if width(&format!("{line} {word}"), size) <= wide => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

/// A glyph's outline as path data in font units, y upwards.
pub fn outline(glyph: u16) -> String {
    let mut pen = Pen::default();
    with_face(|face| face.outline_glyph(GlyphId(glyph), &mut pen));
    pen.0
}

#[derive(Default)]
struct Pen(String);

impl Pen {
    fn go(&mut self, letter: char, numbers: &[f32]) {
        self.0.push(letter);
        let words: Vec<String> = numbers.iter().map(|n| crate::trim::number(f64::from(*n), 1)).collect();
        self.0.push_str(&words.join(" "));
    }
}

impl OutlineBuilder for Pen {
    fn move_to(&mut self, x: f32, y: f32) {
        self.go('M', &[x, y]);
    }
    fn line_to(&mut self, x: f32, y: f32) {
        self.go('L', &[x, y]);
    }
    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        self.go('Q', &[x1, y1, x, y]);
    }
    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        self.go('C', &[x1, y1, x2, y2, x, y]);
    }
    fn close(&mut self) {
        self.0.push('Z');
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_font_has_what_sheets_are_written_with() {
        for c in "µ°±−–×·²≈→←↻↺".chars() {
            assert!(with_face(|f| f.glyph_index(c)).flatten().is_some(), "{c}");
        }
    }

    #[test]
    fn lines_are_no_wider_than_asked_and_lose_no_word() {
        let text = "the cable in the neck is short and its plug is shorter still";
        let lines = wrap(text, 3.0, 30.0);
        assert!(lines.len() > 2);
        assert!(lines.iter().all(|l| width(l, 3.0) <= 30.0));
        assert_eq!(lines.join(" "), text);
    }
}
