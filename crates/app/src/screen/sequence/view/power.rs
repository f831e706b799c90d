//! What each rail must give along the time, against what its supply gives.

use super::time::{Time, place};
use crate::screen::pen::{Pen, fit};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::review::Review;

/// A row a rail.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, review: &Review, time: &Time, label: u16) {
    const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
    for (y, load) in (0..pen.height()).zip(&review.rails) {
        let name = scene.rig.rails.get(load.rail).map_or("", |rail| rail.name.as_str());
        let color = if load.is_tight() { theme::FAULT } else { theme::QUIET };
        pen.put(0, y, &fit(name, usize::from(label) - 1), theme::text(color));
        for x in 0..time.wide {
            let share = load.at(place(time.at(x))) / load.supply;
            // What cannot be given is more than full.
            let over = share > 0.9;
            let eighth = (1..=8usize)
                .rev()
                .find(|n| share * 8.0 >= wasvolta_core::unit::number(*n) - 0.5)
                .unwrap_or(0);
            let ink = if over { theme::FAULT } else { theme::SILHOUETTE };
            pen.glyph(label + x, y, EIGHTHS.get(eighth).copied().unwrap_or(" "), ink);
        }
        let (peak, has) = (load.peak.get(), load.supply.get());
        let start = if load.starts_hardest() {
            format!(", {:.1} A to start", load.start.peak.get())
        } else {
            String::new()
        };
        let words = format!(" ≈ {peak:.1} of {has:.1} A at {:.2} s{start}  ", load.at.seconds());
        pen.put_right(label + time.wide, y, &words, theme::text(color));
    }
}
