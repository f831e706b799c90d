//! Cards of a kind on one chart: those beside the rig with the picked servo, or the picked servos themselves.

use crate::files;
use crate::paper;
use crate::screen::chart::{Plot, heights};
use crate::screen::context::Context;
use crate::screen::dialog::Dialog;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::pen::Pen;
use crate::screen::question::questions;
use crate::screen::{many, theme, written};
use std::path::Path;
use wasvolta_core::alike::Alike;
use wasvolta_core::rig::card::Card;
use wasvolta_sheet::Paper;

questions! {
    SHEET("sheet of a kind", label: "sheet to") => |desk, _, form| sheet(desk, form);
}

/// The cards that are laid side by side, with those that were left out and why.
fn cards(desk: &Context) -> (Vec<Card>, Vec<String>) {
    let (rig, edition) = (&desk.session.document.rig, &desk.session.runner.edition);
    let own = |id| edition.servo(id).map(|servo| Card::of(rig, servo, "now"));
    if many::count(desk.model, edition) > 1 {
        return (many::all(desk.model, edition).into_iter().filter_map(own).collect(), Vec::new());
    }
    let Some(picked) = own(desk.model.servo.id) else { return (Vec::new(), Vec::new()) };
    let mut out = Vec::new();
    let mut all = Vec::new();
    for name in desk.session.document.cards() {
        match files::card(&written::beside(desk, &name)) {
            Ok(card) if card.kind == picked.kind && card.servo().fit().is_ok() => all.push(card),
            Ok(_) => out.push(format!("{name} is of another kind, or without a fit")),
            Err(bad) => out.push(format!("{name}: {bad}")),
        }
    }
    // The servo's own card says the same again, or what was known of it before.
    if picked.servo().fit().is_ok() && !all.iter().any(|card| card.name == picked.name) {
        all.insert(0, picked);
    }
    (all, out)
}

/// Opens the page of cards of a kind, or says why there is none.
pub fn show(desk: &mut Context) {
    let (cards, out) = cards(desk);
    match Alike::of(&cards) {
        Ok(alike) => {
            let left = if out.is_empty() { String::new() } else { format!(" Left out: {}.", out.join("; ")) };
            let words = format!("{}{left} ‹sheet of a kind› draws it on paper.", alike.words());
            desk.model.dialog = Some(Dialog::Alike { words, alike: Box::new(alike) });
        }
        Err(why) => {
            desk.refuse(&format!("{why}: ‹servo below too› picks several here, ‹save card› writes cards"));
        }
    }
}

/// Asks where their sheet is written.
pub fn ask(desk: &mut Context) {
    let fields = vec![Field::new("file", "of-a-kind.pdf", ".pdf or .svg, beside the rig")];
    desk.ask(SHEET.name, Subject::default(), fields);
}

fn sheet(desk: &mut Context, form: &Form) -> Result<String, String> {
    let alike = Alike::of(&cards(desk).0).map_err(|why| why.to_string())?;
    let make = |desk: &mut Context, path: &Path, replace| {
        let of = (&alike, Paper::default(), crate::date::today());
        paper::make_alike(of, path, &desk.session.document.outputs, replace)
    };
    let path = written::write(desk, form.word(0), make, paper::NotMade::refused)?;
    Ok(format!("written: {}", path.display()))
}

/// Draws them over the view: a row each, and what each is off the mean of all.
pub fn draw(pen: &mut Pen<'_>, alike: &Alike) {
    pen.clear();
    let quiet = theme::text(theme::QUIET);
    let wide = pen.width();
    let columns: &[(u16, &str)] = match wide {
        0..76 => &[(20, "slope"), (39, "off the mean")],
        76..100 => &[(24, "slope"), (43, "0° at"), (56, "off the mean")],
        _ => &[(24, "slope"), (43, "0° at"), (56, "endpoints"), (76, "off the mean")],
    };
    pen.put(2, 1, "of a kind", theme::strong(theme::INK));
    for (x, word) in columns {
        pen.put(*x, 1, word, quiet);
    }
    let rows = alike.rows();
    // The chart keeps some room, the rows have the rest.
    let room = usize::from(pen.height().saturating_sub(12)).max(2);
    for (y, row) in (3..).zip(rows.iter().take(room)) {
        let style = if row.is_odd { theme::strong(theme::FAULT) } else { theme::text(theme::INK) };
        let sign = if row.is_odd { "≠" } else { " " };
        pen.put(2, y, &format!("{sign}{:>2}  {}", row.number, row.name), style);
        for (x, word) in columns {
            let text = match *word {
                "slope" => &row.slope,
                "0° at" => &row.zero,
                "endpoints" => &row.ends,
                _ => &row.off,
            };
            pen.put(*x, y, text, style);
        }
    }
    let shown = rows.len().min(room);
    let y = 4 + u16::try_from(shown).unwrap_or(u16::MAX);
    if rows.len() > shown {
        pen.put(4, y - 1, &format!("and {} more, on the sheet", rows.len() - shown), quiet);
    }
    let high = pen.height().saturating_sub(y + 1);
    if high >= 6 {
        chart(&mut pen.part(2, y + 1, wide.saturating_sub(4), high.min(36)), alike);
    }
}

/// What each is off the mean over the places that all may be told, a line each with its number.
fn chart(pen: &mut Pen<'_>, alike: &Alike) {
    const LEFT: u16 = 7;
    const RIGHT: u16 = 4;
    let all = alike.members.iter().flat_map(|own| &own.off);
    let top = all.map(|(_, off)| off.abs().get()).fold(0.5, f64::max).ceil();
    let (wide, rows) = (pen.width(), pen.height() - 1);
    let (x0, x1) = (alike.over.low.get(), alike.over.high.get());
    let mut plot = Plot::new(wide.saturating_sub(LEFT + RIGHT), rows, (x0, x1), (-top, top));
    plot.dashed((x0, 0.0), (x1, 0.0), theme::RULE, (1, 3));
    let mut ends = Vec::new();
    for (n, own) in alike.members.iter().enumerate() {
        let color = if alike.odd == Some(n) { theme::FAULT } else { theme::INK };
        plot.curve(own.off.iter().map(|(at, off)| (at.get(), off.get())), color);
        let last = own.off.last().map_or(0.0, |(_, off)| off.get());
        ends.push((plot.cell(x1, last).1, n));
    }
    plot.canvas.lay(pen, LEFT, 0);
    let quiet = theme::text(theme::QUIET);
    heights(pen, LEFT, rows, &[format!("{top:+.0}°"), "mean".to_owned(), format!("{:+.0}°", -top)]);
    // One number a row: those that have none are in the list above.
    let mut taken: Vec<u16> = Vec::new();
    for (y, n) in ends {
        if !taken.contains(&y) {
            taken.push(y);
            pen.put(wide - RIGHT + 1, y, &(n + 1).to_string(), theme::text(theme::INK));
        }
    }
    pen.put(LEFT, rows, &format!("{x0:.0}"), quiet);
    pen.put_right(wide - RIGHT, rows, &format!("{x1:.0} {}", alike.kind.place_unit()), quiet);
}
