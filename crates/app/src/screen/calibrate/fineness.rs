//! What a tick is worth here, and which rate or depth would do for what is wished.

use crate::screen::pen::{Pen, cell_of};
use crate::screen::scene::Scene;
use crate::screen::theme;
use wasvolta_core::fineness::{self, Change, Offer};
use wasvolta_core::unit::{Degrees, Position};

/// Columns that the table takes before its bars.
const BARS: u16 = 54;

/// Draws it over the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, wish: &str) {
    pen.clear();
    let Some(picked) = scene.picked() else { return };
    let travel = picked.plan.guard.endpoints;
    let steepest = picked.drawn().map(|(scale, _)| scale.steepest(travel.0, travel.1));
    let Some(steepest) = steepest.filter(|steepest| *steepest > 0.0) else {
        pen.put(
            2,
            1,
            "no angles yet: two marks, or rated data, tell what a tick turns",
            theme::text(theme::QUIET),
        );
        return;
    };
    let angle = |pulse: Position| pulse.get() * steepest;
    let head = format!(
        "{}: {:.0} to {:.0} µs, up to {:.3} ° a µs",
        picked.servo.name,
        travel.0.get(),
        travel.1.get(),
        angle(Position::new(1.0))
    );
    pen.put(2, 1, &head, theme::strong(theme::INK));
    let wish = wish.trim().replace(',', ".").parse::<f64>().ok().filter(|wish| *wish > 0.0).map(Degrees::new);
    let quiet = theme::text(theme::QUIET);
    for (end, word) in [(24, "one tick"), (34, "turns"), (44, "steps")] {
        pen.put_right(end, 3, word, quiet);
    }
    if let Some(wish) = wish {
        pen.put(47, 3, &format!("for {}°", wish.get()), quiet);
    }
    let offers = fineness::offers(picked.board, steepest, travel);
    let mut y = 4;
    for offer in &offers {
        y += u16::from(starts_a_group(offer, &offers));
        row(pen, y, offer, wish);
        y += 1;
    }
    y = pen.paragraph(2, y + 1, &words(&offers, wish), theme::text(theme::INK));
    let note = "A higher rate makes ticks finer on a counter of fixed depth; only digital servos take more than 50 to 60 Hz. \
                No servo follows a tick smaller than its deadband, about 2 µs.";
    pen.paragraph(2, y + 1, note, quiet);
}

/// Rates, and depths, each begin behind a gap.
fn starts_a_group(offer: &Offer, offers: &[Offer]) -> bool {
    let first = |of: fn(&Change) -> bool| offers.iter().find(|o| of(&o.change)).map(|o| o.change);
    let (rate, bits) = (first(|c| matches!(c, Change::Rate(_))), first(|c| matches!(c, Change::Bits(_))));
    rate == Some(offer.change) || bits == Some(offer.change)
}

fn row(pen: &mut Pen<'_>, y: u16, offer: &Offer, wish: Option<Degrees>) {
    let own = offer.change == Change::None;
    let style = if own { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    pen.put(2, y, &offer.change.words(), style);
    pen.put_right(24, y, &format!("{:.3} µs", offer.fineness.tick.get()), style);
    pen.put_right(34, y, &format!("{:.3}°", offer.fineness.step.get()), style);
    pen.put_right(44, y, &format!("{:.0}", offer.fineness.steps), style);
    if !offer.fits {
        pen.put(47, y, "pulse too long", theme::text(theme::FAULT));
    } else if let Some(wish) = wish {
        let (word, color) = if offer.does(wish) { ("does", theme::INK) } else { ("coarse", theme::QUIET) };
        pen.put(47, y, word, theme::text(color));
    }
    // A bar a quarter of a degree a cell: what is fine is hardly there.
    let long = cell_of((offer.fineness.step.get() * 4.0).ceil()).min(pen.width().saturating_sub(BARS + 10));
    if pen.width() > BARS + 20 {
        pen.put(BARS + 8, y, &"▪".repeat(usize::from(long.max(1))), theme::text(theme::QUIET));
    }
}

fn words(offers: &[Offer], wish: Option<Degrees>) -> String {
    let Some(wish) = wish else {
        return "Type what one tick may turn at most, in degrees, such as 0.5.".to_owned();
    };
    let own = offers.first().is_some_and(|own| own.does(wish));
    let others = |rates: bool| {
        let kind = move |o: &&Offer| matches!(o.change, Change::Rate(_)) == rates && o.change != Change::None;
        offers.iter().filter(kind).find(|o| o.does(wish)).map(|o| o.change.words())
    };
    match (own, others(true), others(false)) {
        (true, _, _) => format!("A tick already turns less than {}°.", wish.get()),
        (false, Some(rate), Some(bits)) => {
            format!(
                "For {}° this board would have to send {rate}, or another board would need {bits}.",
                wish.get()
            )
        }
        (false, None, Some(bits)) => {
            format!("No rate of this board gives {}°; another board with {bits} would.", wish.get())
        }
        (false, Some(rate), None) => format!("For {}° this board would have to send {rate}.", wish.get()),
        (false, None, None) => {
            format!("No board gives {}°: a gear between servo and joint would help.", wish.get())
        }
    }
}
