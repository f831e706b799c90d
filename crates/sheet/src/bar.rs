//! A bar to measure on sheets that are in a scale of their own: printers like to shrink.

use crate::calibration::BODY;
use crate::list::{Align, List, Point, Tone, at, solid};

/// The bar to check the printer with, in mm.
pub const BAR_MM: f64 = 50.0;

/// Draws it with its left end at a place.
pub fn draw(list: &mut List, start: Point) {
    let end = at(start.x + BAR_MM, start.y);
    list.line(&[start, end], solid(Tone::Ink, 0.3));
    for x in [start.x, end.x] {
        list.line(&[at(x, start.y - 2.0), at(x, start.y + 2.0)], solid(Tone::Ink, 0.3));
    }
    let words = "50.00 mm: measure it. If it is not, print again at 100 %, without fitting to the page.";
    list.text(at(end.x + 4.0, start.y + 1.1), BODY, Tone::Ink, Align::Left, words);
}
