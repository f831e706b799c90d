//! What an earlier run has left unsaved, as the lines that differ.

use crate::recovery::Offer;
use crate::screen::pen::Pen;
use crate::screen::theme;

/// Draws the offer over the view.
pub fn draw(pen: &mut Pen<'_>, offer: &Offer, from: usize) {
    pen.clear();
    pen.put(2, 1, "lines that differ", theme::strong(theme::INK));
    pen.put(21, 1, "+ unsaved   - in the file", theme::text(theme::QUIET));
    let last = pen.height().saturating_sub(1);
    for (y, (sign, line)) in (3..last).zip(offer.lines.iter().skip(from)) {
        let color = if *sign == '+' { theme::INK } else { theme::QUIET };
        pen.put(2, y, &sign.to_string(), theme::strong(theme::COMMANDED));
        pen.put(4, y, line, theme::text(color));
    }
    let shown = usize::from(last.saturating_sub(3));
    let more = offer.lines.len().saturating_sub(from + shown);
    if more > 0 {
        pen.put(4, last, &format!("↓ {more} more"), theme::text(theme::QUIET));
    }
}
