//! All keys, from the tables that handle them, narrowed by what is typed.

use crate::screen::commands::{self, HelpLine};
use crate::screen::pen::{Pen, width};
use crate::screen::scene::Scene;
use crate::screen::theme;
use crate::screen::typing::Typing;

/// Keys of this width stand on the right of their column; longer ones push their sentence on.
const KEYS: u16 = 9;

/// Draws the help over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, query: &Typing, from: usize) {
    pen.clear();
    let x = pen.put(2, 1, "keys  find ", theme::strong(theme::INK));
    pen.put(x, 1, &query.shown(), theme::text(theme::INK));
    let lines = commands::help(scene.model.view, &scene.model.keys, query.text());
    if lines.is_empty() {
        pen.put(KEYS + 2, 3, "no key and no command has all these words", theme::text(theme::QUIET));
    }
    let last = pen.height().saturating_sub(1);
    for (y, line) in (3..last).zip(lines.iter().skip(from)) {
        match line {
            HelpLine::Gap => {}
            HelpLine::Group(name) => {
                pen.put(2, y, name, theme::strong(theme::INK));
            }
            HelpLine::Line { keys, words, action } => {
                pen.put(KEYS.saturating_sub(width(keys)).max(2), y, keys, theme::strong(theme::INK));
                let ready = |name: &str| {
                    let action = commands::named(name, scene.model.view);
                    action.is_some_and(|action| {
                        action.works_in(scene.model.view) && (action.ready)(scene).is_ok()
                    })
                };
                let color = if action.is_none_or(ready) { theme::INK } else { theme::QUIET };
                let x = (KEYS + 2).max(width(keys) + 4);
                pen.put(x, y, words, theme::text(color));
            }
        }
    }
    super::palette::more(
        pen,
        KEYS + 2,
        from,
        lines.len().saturating_sub(from + usize::from(last.saturating_sub(3))),
    );
}
