//! Rails: what hangs on each, against what its supply gives.

use crate::screen::pen::{Pen, cell_of};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::power::Budget;
use wasvolta_core::rig::Rail;

const NAME: u16 = 12;

/// Draws a row a rail; gives the rows used.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) -> u16 {
    let mut y = 0;
    for (rail, budget) in scene.rig.rails.iter().zip(&scene.edition.budgets) {
        if y < pen.height() {
            row(pen, y, rail, budget);
            y += 1;
        }
    }
    y
}

/// Name, supply, a bar of the worst case, and the sums.
fn row(pen: &mut Pen<'_>, y: u16, rail: &Rail, budget: &Budget) {
    let wide = pen.width();
    pen.put(0, y, &rail.name, theme::text(theme::INK));
    let supply = format!("{} V {} A", rail.volts.get(), rail.amps.get());
    let x = NAME + 10;
    let sums = format!(
        "≈ {:.2} A idle  {:.1} A moving  {:.1} A stalled",
        budget.idle.get(),
        budget.moving.get(),
        budget.stall.get()
    );
    let bar_wide = wide.saturating_sub(x + crate::screen::pen::width(&sums) + 22).min(30);
    if bar_wide < 8 {
        let color = if budget.is_tight() { theme::FAULT } else { theme::QUIET };
        let short = format!("≈ {:.1} of {} A", budget.stall.get(), rail.amps.get());
        pen.put(NAME, y, &short, theme::text(color));
        return;
    }
    pen.put(NAME, y, &supply, theme::text(theme::QUIET));
    bar(pen, (x, y, bar_wide), budget);
    let x = pen.put(x + bar_wide + 2, y, &sums, theme::text(theme::INK));
    let (verdict, color) = match (budget.is_tight(), budget.uncounted.len()) {
        (true, _) => ("✗ too little".to_owned(), theme::FAULT),
        (false, 0) if budget.servos + budget.accessories == 0 => ("nothing on it".to_owned(), theme::QUIET),
        (false, 0) => ("enough, estimated".to_owned(), theme::QUIET),
        (false, n) => (format!("and {n} not known"), theme::QUIET),
    };
    pen.put(x + 2, y, &verdict, theme::text(color));
}

/// The supply from end to end: what moves is heavy, what a stall of all would add is shaded.
fn bar(pen: &mut Pen<'_>, (x, y, wide): (u16, u16, u16), budget: &Budget) {
    let share = |amps: f64| cell_of((amps / budget.supply.get().max(1e-9)).min(1.0) * f64::from(wide));
    let (moving, stall) = (share(budget.moving.get()), share(budget.stall.get()));
    let color = if budget.is_tight() { theme::FAULT } else { theme::SILHOUETTE };
    for column in 0..wide {
        let (sign, color) = match column {
            c if c < moving => ("█", color),
            c if c < stall => ("▒", color),
            _ => ("─", theme::RULE),
        };
        pen.glyph(x + column, y, sign, color);
    }
    pen.glyph(x + wide, y, "▏", theme::QUIET);
}
