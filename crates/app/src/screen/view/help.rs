//! All keys, from the table that handles them.

use crate::screen::action;
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;

/// Draws the help over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, from: usize) {
    super::palette::clear(pen);
    let (_, name) = scene.model.view.title();
    pen.put(2, 1, &format!("keys in {name}"), theme::strong(theme::INK));
    let actions = action::keyed(scene.model.view);
    let last = pen.height().saturating_sub(1);
    for (y, action) in (3..last).zip(actions.skip(from)) {
        let keys: Vec<String> = action.keys.iter().map(|k| k.name()).collect();
        pen.put_right(9, y, &keys.join(" "), theme::strong(theme::INK));
        let ready = (action.ready)(scene).is_ok();
        pen.put(11, y, action.long, theme::text(if ready { theme::INK } else { theme::QUIET }));
    }
    let shown = usize::from(last.saturating_sub(3));
    let more = action::keyed(scene.model.view).count().saturating_sub(from + shown);
    if more > 0 {
        pen.put(11, last, &format!("↓ {more} more"), theme::text(theme::QUIET));
    }
}
