//! A servo beside a card, line by line.

use crate::screen::pen::{Pen, fit};
use crate::screen::scene::Scene;
use crate::screen::theme;
use crate::screen::view::palette::clear;
use wasvolta_core::rig::card::Difference;

/// Draws it over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, card: &str, rows: &[Difference]) {
    clear(pen);
    let own = scene.picked().map_or("", |p| p.servo.name.as_str());
    let wide = (pen.width().saturating_sub(18) / 2).min(30);
    let (left, right) = (16, 16 + wide);
    pen.put(left, 1, &fit(own, usize::from(wide)), theme::strong(theme::INK));
    pen.put(right, 1, &fit(&format!("card of {card}"), usize::from(wide)), theme::strong(theme::INK));
    for (y, row) in (3..).zip(rows) {
        let style = theme::text(if row.agrees() { theme::QUIET } else { theme::INK });
        pen.put(2, y, row.what, theme::text(theme::QUIET));
        if !row.agrees() {
            pen.put(right - 2, y, "≠", theme::strong(theme::MARK));
        }
        pen.put(left, y, &fit(&row.one, usize::from(wide) - 3), style);
        pen.put(right, y, &fit(&row.other, usize::from(wide)), style);
    }
}
