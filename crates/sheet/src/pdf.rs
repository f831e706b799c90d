//! A display list as PDF, in which a millimetre is one unit of the page's own coordinates.
//!
//! The font is embedded, as far as it is used, and the text can be searched and copied.

use crate::NoSheet;
use crate::font;
use crate::list::{List, Point, Shape, Stroke, Tone};
use pdf_writer::types::{CidFontType, FontFlags, LineCapStyle, LineJoinStyle, SystemInfo, UnicodeCmap};
use pdf_writer::{Content, Filter, Finish, Name, Pdf, Rect, Ref, Str, TextStr};
use std::collections::BTreeMap;
use subsetter::GlyphRemapper;

const POINTS_PER_MM: f64 = 72.0 / 25.4;
/// The name of the one font on the page.
const FONT: Name<'static> = Name(b"F");
/// What the embedded part of the font is called; six letters mark it as a part.
const FONT_NAME: Name<'static> = Name(b"WASVOL+DejaVuSansCondensed");

/// Glyph numbers stand for themselves.
const IDENTITY: SystemInfo<'static> =
    SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };

/// The objects of the file, by number.
#[derive(Clone, Copy)]
enum Object {
    Catalog = 1,
    Pages,
    Page,
    Content,
    Info,
    Font,
    Glyphs,
    Descriptor,
    FontFile,
    Unicode,
}

const fn of(object: Object) -> Ref {
    Ref::new(object as i32)
}

/// Writes the list down.
///
/// # Errors
/// When the PDF cannot be put together.
pub fn write(list: &List) -> Result<Vec<u8>, NoSheet> {
    write_with(list, true)
}

fn write_with(list: &List, compressed: bool) -> Result<Vec<u8>, NoSheet> {
    let size = Rect::new(0.0, 0.0, single(list.size.0 * POINTS_PER_MM), single(list.size.1 * POINTS_PER_MM));
    let used = Used::of(list);
    let mut pdf = Pdf::new();
    pdf.catalog(of(Object::Catalog)).pages(of(Object::Pages));
    let all: Vec<(u16, Ref, Ref)> =
        (0..wasvolta_core::unit::count16(wasvolta_core::unit::number(list.pages)))
            .map(|n| {
                // Further pages stand behind all other objects.
                let more = Object::Unicode as i32 + 2 * i32::from(n);
                let own = (of(Object::Page), of(Object::Content));
                let (page, content) = if n == 0 { own } else { (Ref::new(more - 1), Ref::new(more)) };
                (n, page, content)
            })
            .collect();
    let count = i32::try_from(all.len()).unwrap_or(i32::MAX);
    pdf.pages(of(Object::Pages)).kids(all.iter().map(|(_, page, _)| *page)).count(count);
    for (n, number, place) in all {
        let mut page = pdf.page(number);
        page.parent(of(Object::Pages)).media_box(size).contents(place);
        page.resources().fonts().pair(FONT, of(Object::Font));
        page.finish();
        let content = content(list, &used, f64::from(n));
        let packed = packed(&content, compressed);
        let mut stream = pdf.stream(place, &packed);
        if compressed {
            stream.filter(Filter::FlateDecode);
        }
        stream.finish();
    }
    pdf.document_info(of(Object::Info)).title(TextStr(&list.title)).creator(TextStr("wasvolta"));
    used.embed(&mut pdf)?;
    Ok(pdf.finish())
}

fn packed(bytes: &[u8], compressed: bool) -> Vec<u8> {
    const LEVEL: u8 = 6;
    if compressed { miniz_oxide::deflate::compress_to_vec_zlib(bytes, LEVEL) } else { bytes.to_vec() }
}

/// PDF counts in single precision: at sheet sizes that is good to 0.00002 mm.
#[expect(clippy::cast_possible_truncation, reason = "the one place where sheets narrow a number")]
const fn single(value: f64) -> f32 {
    value as f32
}

/// Whether something is on a page, counted from 0.
fn is_on(shape: &Shape, page: f64, high: f64) -> bool {
    let on = |y: f64| (page * high - 1.0..=(page + 1.0) * high + 1.0).contains(&y);
    match shape {
        Shape::Line { points, .. } => points.iter().any(|point| on(point.y)),
        Shape::Text { at, .. } => on(at.y),
    }
}

/// A page: millimetres from its upper left corner, y downwards, as a list has them.
fn content(list: &List, used: &Used, page: f64) -> Vec<u8> {
    let mut content = Content::new();
    let scale = single(POINTS_PER_MM);
    let high = single((page + 1.0) * list.size.1 * POINTS_PER_MM);
    content.save_state().transform([scale, 0.0, 0.0, -scale, 0.0, high]);
    content.set_line_cap(LineCapStyle::RoundCap).set_line_join(LineJoinStyle::RoundJoin);
    for shape in list.shapes.iter().filter(|shape| is_on(shape, page, list.size.1)) {
        match shape {
            Shape::Line { points, closed, stroke, fill } => {
                line(&mut content, (points, *closed), *stroke, *fill);
            }
            Shape::Text { at, size, tone, words } => {
                let (red, green, blue) = colour(*tone);
                content.set_fill_rgb(red, green, blue);
                content.begin_text().set_font(FONT, single(*size));
                // Letters stand upright on a page whose y goes downwards.
                content.set_text_matrix([1.0, 0.0, 0.0, -1.0, single(at.x), single(at.y)]);
                content.show(Str(&used.codes(words))).end_text();
            }
        }
    }
    content.restore_state();
    content.finish().to_vec()
}

fn line(
    content: &mut Content,
    (points, closed): (&[Point], bool),
    stroke: Option<Stroke>,
    fill: Option<Tone>,
) {
    let mut places = points.iter().map(|p| (single(p.x), single(p.y)));
    let Some((x, y)) = places.next() else { return };
    if let Some(tone) = fill {
        let (red, green, blue) = colour(tone);
        content.set_fill_rgb(red, green, blue);
    }
    if let Some(Stroke { tone, width, dash }) = stroke {
        let (red, green, blue) = colour(tone);
        content.set_stroke_rgb(red, green, blue).set_line_width(single(width));
        content.set_dash_pattern(dash.into_iter().flat_map(|(dash, gap)| [single(dash), single(gap)]), 0.0);
    }
    content.move_to(x, y);
    for (x, y) in places {
        content.line_to(x, y);
    }
    if closed {
        content.close_path();
    }
    match (fill.is_some(), stroke.is_some()) {
        (true, true) => content.fill_nonzero_and_stroke(),
        (true, false) => content.fill_nonzero(),
        (false, true) => content.stroke(),
        (false, false) => content.end_path(),
    };
}

fn colour(tone: Tone) -> (f32, f32, f32) {
    let share = |byte: u8| f32::from(byte) / 255.0;
    let (red, green, blue) = tone.rgb();
    (share(red), share(green), share(blue))
}

/// The glyphs that a page needs, under the numbers that they have in the embedded part of the font.
struct Used {
    part: GlyphRemapper,
    /// By number in the part: how far the glyph moves on in font units, and the text that it stands for.
    glyphs: BTreeMap<u16, (u16, String)>,
}

impl Used {
    fn of(list: &List) -> Self {
        let mut used = Self { part: GlyphRemapper::new(), glyphs: BTreeMap::new() };
        let texts = list.shapes.iter().filter_map(|shape| match shape {
            Shape::Text { words, .. } => Some(words),
            Shape::Line { .. } => None,
        });
        for words in texts {
            for glyph in font::glyphs(words) {
                let text = words.get(glyph.bytes).unwrap_or_default().to_owned();
                used.glyphs.insert(used.part.remap(glyph.glyph), (glyph.advance, text));
            }
        }
        used
    }

    /// A text as the numbers of its glyphs, two bytes each.
    fn codes(&self, words: &str) -> Vec<u8> {
        let codes = font::glyphs(words).into_iter().filter_map(|glyph| self.part.get(glyph.glyph));
        codes.flat_map(u16::to_be_bytes).collect()
    }

    fn embed(&self, pdf: &mut Pdf) -> Result<(), NoSheet> {
        let part =
            subsetter::subset(font::DATA, 0, &self.part).map_err(|why| NoSheet::Pdf(why.to_string()))?;
        let thousandths = |units: f64| single(units * 1000.0 / font::units_per_em());
        let mut font = pdf.type0_font(of(Object::Font));
        font.base_font(FONT_NAME).encoding_predefined(Name(b"Identity-H"));
        font.descendant_font(of(Object::Glyphs)).to_unicode(of(Object::Unicode));
        font.finish();
        let mut glyphs = pdf.cid_font(of(Object::Glyphs));
        glyphs.subtype(CidFontType::Type2).base_font(FONT_NAME).system_info(IDENTITY);
        glyphs.font_descriptor(of(Object::Descriptor)).default_width(0.0);
        glyphs.cid_to_gid_map_predefined(Name(b"Identity"));
        let mut widths = glyphs.widths();
        for (number, (advance, _)) in &self.glyphs {
            widths.same(*number, *number, thousandths(f64::from(*advance)));
        }
        widths.finish();
        glyphs.finish();
        let shape = font::shape();
        let mut descriptor = pdf.font_descriptor(of(Object::Descriptor));
        descriptor.name(FONT_NAME).flags(FontFlags::SYMBOLIC).font_file2(of(Object::FontFile));
        let [left, below, right, above] = shape.bounds.map(thousandths);
        descriptor.bbox(Rect::new(left, below, right, above)).italic_angle(0.0).stem_v(80.0);
        descriptor.ascent(thousandths(shape.ascent)).descent(thousandths(shape.descent));
        descriptor.cap_height(thousandths(shape.capital));
        descriptor.finish();
        pdf.stream(of(Object::FontFile), &packed(&part, true)).filter(Filter::FlateDecode);
        let mut unicode = UnicodeCmap::new(Name(b"Custom"), IDENTITY);
        for (number, (_, text)) in &self.glyphs {
            unicode.pair_with_multiple(*number, text.chars());
        }
        pdf.cmap(of(Object::Unicode), &unicode.finish());
        Ok(())
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
        // The only scale above it is millimetres to points, from the upper edge down.
        assert!(text.contains("2.8346457 0 0 -2.8346457 0 841.8898 cm"), "{text}");
    }

    #[test]
    fn a_text_keeps_its_letters_and_their_widths() {
        let mut list = List::new("letters", (210.0, 297.0));
        list.text(at(20.0, 30.0), 4.0, Tone::Ink, crate::list::Align::Left, "−30.0° µ");
        let used = Used::of(&list);
        let words: String = used.codes("−30.0° µ").chunks(2).fold(String::new(), |words, code| {
            words + &used.glyphs[&u16::from_be_bytes([code[0], code[1]])].1
        });
        assert_eq!(words, "−30.0° µ");
        let wide: f64 = used
            .codes("−30.0°")
            .chunks(2)
            .fold(0.0, |wide, code| wide + f64::from(used.glyphs[&u16::from_be_bytes([code[0], code[1]])].0));
        assert!((wide * 4.0 / font::units_per_em() - font::width("−30.0°", 4.0)).abs() < 1e-9);
        let bytes = write_with(&list, true).unwrap();
        // Of 680 kB it holds the few glyphs that it needs.
        assert!(bytes.len() < 12_000, "{}", bytes.len());
    }
}
