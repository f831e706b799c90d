//! A display list as PDF, in which a millimetre is one unit of the page's own coordinates.
//!
//! The font is embedded, as far as it is used, and the text can be searched and copied.

use crate::NoSheet;
use crate::font;
use crate::list::{List, Shape, Stroke, Tone};
use krilla::color::rgb;
use krilla::geom::{Path, PathBuilder, Point, Transform};
use krilla::metadata::Metadata;
use krilla::num::NormalizedF32;
use krilla::page::PageSettings;
use krilla::paint::{Fill, LineCap, LineJoin, StrokeDash};
use krilla::surface::Surface;
use krilla::text::{Font, GlyphId, KrillaGlyph};
use krilla::{Document, SerializeSettings};

const POINTS_PER_MM: f64 = 72.0 / 25.4;

/// Writes the list down.
///
/// # Errors
/// When the PDF cannot be put together.
pub fn write(list: &List) -> Result<Vec<u8>, NoSheet> {
    write_with(list, true)
}

fn write_with(list: &List, compressed: bool) -> Result<Vec<u8>, NoSheet> {
    let bad = |why: &str| NoSheet::Pdf(why.to_owned());
    let font = Font::new(font::DATA.to_vec().into(), 0).ok_or_else(|| bad("its font does not read"))?;
    let settings = SerializeSettings {
        compress_content_streams: compressed,
        enable_tagging: false,
        ..SerializeSettings::default()
    };
    let mut document = Document::new_with(settings);
    document.set_metadata(Metadata::new().title(list.title.clone()).creator("wasvolta".to_owned()));
    let (wide, high) = (single(list.size.0 * POINTS_PER_MM), single(list.size.1 * POINTS_PER_MM));
    let page = PageSettings::from_wh(wide, high).ok_or_else(|| bad("its page has no size"))?;
    let mut page = document.start_page_with(page);
    let mut surface = page.surface();
    surface.push_transform(&Transform::from_scale(single(POINTS_PER_MM), single(POINTS_PER_MM)));
    for shape in &list.shapes {
        one(&mut surface, &font, shape);
    }
    surface.pop();
    surface.finish();
    page.finish();
    document.finish().map_err(|why| NoSheet::Pdf(format!("{why:?}")))
}

/// PDF libraries count in single precision: at sheet sizes that is good to 0.00002 mm.
#[expect(clippy::cast_possible_truncation, reason = "the one place where sheets narrow a number")]
const fn single(value: f64) -> f32 {
    value as f32
}

fn one(surface: &mut Surface<'_>, font: &Font, shape: &Shape) {
    match shape {
        Shape::Line { points, closed, stroke, fill } => {
            let Some(path) = path(points, *closed) else { return };
            surface.set_fill(fill.map(filled));
            surface.set_stroke(stroke.map(stroked));
            surface.draw_path(&path);
        }
        Shape::Text { at, size, tone, words } => {
            surface.set_fill(Some(filled(*tone)));
            surface.set_stroke(None);
            let start = Point::from_xy(single(at.x), single(at.y));
            surface.draw_glyphs(start, &glyphs(words), font.clone(), words, single(*size), false);
        }
    }
}

fn path(points: &[crate::list::Point], closed: bool) -> Option<Path> {
    let mut builder = PathBuilder::new();
    let mut points = points.iter().map(|p| (single(p.x), single(p.y)));
    let (x, y) = points.next()?;
    builder.move_to(x, y);
    points.for_each(|(x, y)| builder.line_to(x, y));
    if closed {
        builder.close();
    }
    builder.finish()
}

fn glyphs(words: &str) -> Vec<KrillaGlyph> {
    let em = font::units_per_em();
    font::glyphs(words)
        .into_iter()
        .map(|g| KrillaGlyph {
            glyph_id: GlyphId::new(u32::from(g.glyph)),
            text_range: g.bytes,
            x_advance: single(f64::from(g.advance) / em),
            x_offset: 0.0,
            y_offset: 0.0,
            y_advance: 0.0,
            location: None,
        })
        .collect()
}

fn colour(tone: Tone) -> rgb::Color {
    let (red, green, blue) = tone.rgb();
    rgb::Color::new(red, green, blue)
}

fn filled(tone: Tone) -> Fill {
    Fill { paint: colour(tone).into(), opacity: NormalizedF32::ONE, ..Fill::default() }
}

fn stroked(stroke: Stroke) -> krilla::paint::Stroke {
    krilla::paint::Stroke {
        paint: colour(stroke.tone).into(),
        width: single(stroke.width),
        line_cap: LineCap::Round,
        line_join: LineJoin::Round,
        dash: stroke
            .dash
            .map(|(dash, gap)| StrokeDash { array: vec![single(dash), single(gap)], offset: 0.0 }),
        ..krilla::paint::Stroke::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::list::{at, solid};

    #[test]
    fn a_millimetre_is_one_unit_of_the_page() {
        let mut list = List::new("a bar", (210.0, 297.0));
        list.line(&[at(20.0, 30.0), at(70.0, 30.0)], solid(Tone::Ink, 0.3));
        let bytes = write_with(&list, false).unwrap();
        let text = String::from_utf8_lossy(&bytes);
        assert!(text.contains("20 30 m"), "{text}");
        assert!(text.contains("70 30 l"), "{text}");
        // The only scale above it is millimetres to points.
        assert!(text.contains("2.8346"), "{text}");
    }
}
