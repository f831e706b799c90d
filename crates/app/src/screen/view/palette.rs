//! Every command by its name, narrowed by what is typed.

use crate::screen::action::Action;
use crate::screen::commands::matching;
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;
use crate::screen::touch::Touched;
use crate::screen::typing::Typing;

/// From this width on sentences fit beside the names.
const WIDE: u16 = 115;

/// Commands for what was typed: what works here comes before what does not, and what was chosen lately before the rest. What
/// stands behind a colon answers what the command asks.
pub fn commands(scene: &Scene, query: &str) -> Vec<&'static Action> {
    let name = query.split(':').next().unwrap_or_default();
    matching(name, |action| {
        let (ready, here) = ((action.ready)(scene).is_ok(), action.works_in(scene.model.view));
        let lately = scene.model.recent.iter().position(|name| *name == action.name);
        let of_view = action.view == Some(scene.model.view);
        [(ready && here, 60), (ready && !here, 30), (of_view, 10)]
            .iter()
            .filter_map(|(holds, worth)| holds.then_some(*worth))
            .chain(lately.map(|place| u32::try_from(20_usize.saturating_sub(place)).unwrap_or(0)))
            .sum()
    })
}

/// Says below a list how many rows are above and below what is shown of it.
pub fn more(pen: &mut Pen<'_>, x: u16, above: usize, below: usize) {
    let parts = [("↑", above), ("↓", below)].into_iter().filter(|(_, count)| *count > 0);
    let words: Vec<String> = parts.map(|(sign, count)| format!("{sign} {count} more")).collect();
    pen.put(x, pen.height().saturating_sub(1), &words.join("   "), theme::text(theme::QUIET));
}

/// Draws the palette over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, query: &Typing, pick: usize) {
    pen.clear();
    let x = pen.put(2, 1, ": ", theme::strong(theme::COMMANDED));
    pen.put(x, 1, &query.shown(), theme::text(theme::INK));
    let found = commands(scene, query.text());
    if found.is_empty() {
        pen.put(4, 3, "no command is called that", theme::text(theme::QUIET));
    }
    // Where sentences do not fit beside the names, that of the picked one stands below in full.
    let below = if pen.width() < WIDE { 3 } else { 0 };
    let room = usize::from(pen.height().saturating_sub(4 + below)).max(1);
    let first = (pick + 1).saturating_sub(room);
    let wide = pen.width();
    for (y, (n, action)) in (3..).zip(found.iter().enumerate().skip(first).take(room)) {
        let here = n == pick;
        if here {
            pen.ground(1, y, wide - 2, theme::RAISED);
            pen.glyph(1, y, "▌", theme::COMMANDED);
        }
        let hindrance = (action.ready)(scene).err();
        let color = if hindrance.is_none() { theme::INK } else { theme::QUIET };
        pen.put(3, y, action.name, if here { theme::strong(color) } else { theme::text(color) });
        pen.put_right(32, y, &scene.model.keys.shown(action.name), theme::text(theme::QUIET));
        let words = hindrance.unwrap_or(action.long);
        pen.put(34, y, words, theme::text(theme::QUIET));
        if here && below > 0 {
            pen.paragraph(3, pen.height().saturating_sub(1 + below), words, theme::text(theme::INK));
        }
        pen.touch(0, y, (wide, 1), Touched::Line(n));
    }
    more(pen, 3, first, found.len().saturating_sub(first + room));
}
