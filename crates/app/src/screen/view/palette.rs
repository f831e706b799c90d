//! Every command by its name, narrowed by what is typed.

use crate::screen::commands::matching;
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;

/// Empties an area for something that lies over the view.
pub fn clear(pen: &mut Pen<'_>) {
    for y in 0..pen.height() {
        for x in 0..pen.width() {
            if let Some(cell) = pen.cell(x, y) {
                cell.reset();
                cell.set_fg(theme::INK).set_bg(theme::GROUND);
            }
        }
    }
}

/// From this width on sentences fit beside the names.
const WIDE: u16 = 115;

/// Draws the palette over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, query: &str, pick: usize) {
    clear(pen);
    let x = pen.put(2, 1, ": ", theme::strong(theme::COMMANDED));
    pen.put(x, 1, &format!("{query}▏"), theme::text(theme::INK));
    // What stands behind a colon answers what the command asks.
    let found = matching(query.split(':').next().unwrap_or_default());
    if found.is_empty() {
        pen.put(4, 3, "no command is called that", theme::text(theme::QUIET));
    }
    // Where sentences do not fit beside the names, that of the picked one stands below in full.
    let below = if pen.width() < WIDE { 3 } else { 0 };
    let room = usize::from(pen.height().saturating_sub(4 + below)).max(1);
    let first = (pick + 1).saturating_sub(room);
    for (y, (n, action)) in
        (3..pen.height().saturating_sub(1 + below)).zip(found.iter().enumerate().skip(first))
    {
        let here = n == pick;
        if here {
            let wide = pen.width();
            pen.ground(1, y, wide - 2, theme::RAISED);
            pen.glyph(1, y, "▌", theme::COMMANDED);
        }
        let hindrance = (action.ready)(scene).err();
        let color = if hindrance.is_none() { theme::INK } else { theme::QUIET };
        pen.put(3, y, action.name, if here { theme::strong(color) } else { theme::text(color) });
        let keys: Vec<String> = action.keys.iter().map(|k| k.name()).collect();
        pen.put_right(32, y, &keys.join(" "), theme::text(theme::QUIET));
        let words = hindrance.unwrap_or(action.long);
        pen.put(34, y, words, theme::text(theme::QUIET));
        if here && below > 0 {
            pen.paragraph(3, pen.height().saturating_sub(2), words, theme::text(theme::INK));
        }
    }
}
