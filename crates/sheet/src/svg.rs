//! A display list as SVG, with a millimetre as its unit.
//!
//! Letters are drawn from the font's outlines, each outline written once: they look the same in every viewer
//! and on every printer, whatever fonts are installed.

use crate::font;
use crate::list::{List, Shape, Stroke, Tone};
use crate::trim::number;
use std::collections::BTreeSet;
use std::fmt::Write;

/// Writes the list down.
pub fn write(list: &List) -> String {
    let (wide, high) =
        (number(list.size.0, 2), number(list.size.1 * wasvolta_core::unit::number(list.pages), 2));
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{wide}mm\" height=\"{high}mm\" \
         viewBox=\"0 0 {wide} {high}\" stroke-linecap=\"round\" stroke-linejoin=\"round\">\n\
         <title>{}</title>\n<rect width=\"{wide}\" height=\"{high}\" fill=\"#ffffff\"/>\n<defs>\n",
        escaped(&list.title)
    );
    for glyph in used_glyphs(list) {
        let _ = writeln!(out, "<path id=\"g{glyph}\" d=\"{}\"/>", font::outline(glyph));
    }
    out.push_str("</defs>\n");
    for shape in &list.shapes {
        one(&mut out, shape);
    }
    out.push_str("</svg>\n");
    out
}

fn used_glyphs(list: &List) -> BTreeSet<u16> {
    let texts = list.shapes.iter().filter_map(|shape| match shape {
        Shape::Text { words, .. } => Some(words),
        Shape::Line { .. } => None,
    });
    texts.flat_map(|words| font::glyphs(words)).map(|g| g.glyph).collect()
}

fn one(out: &mut String, shape: &Shape) {
    match shape {
        Shape::Line { points, closed, stroke, fill } => {
            let corners: Vec<String> =
                points.iter().map(|p| format!("{},{}", number(p.x, 3), number(p.y, 3))).collect();
            let kind = if *closed { "polygon" } else { "polyline" };
            let fill = fill.map_or_else(|| "none".to_owned(), colour);
            let _ = writeln!(
                out,
                "<{kind} points=\"{}\" fill=\"{fill}\"{}/>",
                corners.join(" "),
                stroke.map(stroked).unwrap_or_default()
            );
        }
        Shape::Text { at, size, tone, words } => {
            let scale = size / font::units_per_em();
            let _ = write!(
                out,
                "<g aria-label=\"{}\" fill=\"{}\" transform=\"translate({} {}) scale({} -{})\">",
                escaped(words),
                colour(*tone),
                number(at.x, 3),
                number(at.y, 3),
                number(scale, 7),
                number(scale, 7)
            );
            let mut x = 0u32;
            for placed in font::glyphs(words) {
                let _ = write!(out, "<use href=\"#g{}\" x=\"{x}\"/>", placed.glyph);
                x += u32::from(placed.advance);
            }
            out.push_str("</g>\n");
        }
    }
}

fn stroked(stroke: Stroke) -> String {
    let dash = stroke
        .dash
        .map(|(dash, gap)| format!(" stroke-dasharray=\"{} {}\"", number(dash, 2), number(gap, 2)))
        .unwrap_or_default();
    format!(" stroke=\"{}\" stroke-width=\"{}\"{dash}", colour(stroke.tone), number(stroke.width, 2))
}

fn colour(tone: Tone) -> String {
    let (red, green, blue) = tone.rgb();
    format!("#{red:02x}{green:02x}{blue:02x}")
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
