//! All keys, from the tables that handle them.

use crate::screen::commands::{HelpLine, help};
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;

/// Draws the help over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, from: usize) {
    crate::screen::view::palette::clear(pen);
    pen.put(2, 1, "keys", theme::strong(theme::INK));
    let lines = help(scene.model.view);
    let last = pen.height().saturating_sub(1);
    for (y, line) in (3..last).zip(lines.iter().skip(from)) {
        match line {
            HelpLine::Gap => {}
            HelpLine::Group(name) => {
                pen.put(2, y, name, theme::strong(theme::INK));
            }
            HelpLine::Action(action) => {
                let keys: Vec<String> = action.keys.iter().map(|k| k.name()).collect();
                pen.put_right(9, y, &keys.join(" "), theme::strong(theme::INK));
                let ready = (action.ready)(scene).is_ok();
                pen.put(11, y, action.long, theme::text(if ready { theme::INK } else { theme::QUIET }));
            }
        }
    }
    let shown = usize::from(last.saturating_sub(3));
    let more = lines.len().saturating_sub(from + shown);
    if more > 0 {
        pen.put(11, last, &format!("↓ {more} more"), theme::text(theme::QUIET));
    }
}
