//! Servos of a kind on one sheet: their fits on one chart, what each is off the mean, and a table.

use crate::calibration::{BODY, MARGIN, SMALL, head_of};
use crate::list::{Align, List, Tone, at, dashed, solid};
use crate::scale::Axis;
use crate::trim::signed;
use crate::{NoSheet, Paper};
use wasvolta_core::alike::{Alike, Member};
use wasvolta_core::rig::Ends;
use wasvolta_core::unit::{Degrees, Position, number};

/// The most that a sheet has rows for.
pub const MOST: usize = 24;

/// What stands left of a chart: the angles. What stands right of it: the numbers of the lines.
const GUTTER: f64 = 13.0;
const LABELS: f64 = 8.0;

/// The columns of the table: head, right edge in mm from the margin.
const COLUMNS: [(&str, f64); 5] =
    [("slope", 80.0), ("0° at", 102.0), ("endpoints", 134.0), ("worst miss", 156.0), ("off the mean", 180.0)];

/// Draws the sheet.
///
/// # Errors
/// When they are more than a sheet has rows for.
pub fn draw(alike: &Alike, paper: Paper, date: &str) -> Result<List, NoSheet> {
    let count = alike.members.len();
    if count > MOST {
        return Err(NoSheet::TooMany { count, most: MOST });
    }
    let (wide, high) = paper.size_mm();
    let mut list = List::new(&format!("{count} of a kind"), (wide, high));
    let kind = format!("{count} cards, each {}", alike.kind.word());
    head_of(&mut list, (&format!("{count} of a kind"), &kind), &format!("cards of a kind, {date}"));
    list.paragraph(at(MARGIN, 36.0), BODY, Tone::Ink, wide - 2.0 * MARGIN, &alike.words());
    let table = high - MARGIN - 6.0 - 4.6 * number(count);
    let (left, right) = (MARGIN + GUTTER, wide - MARGIN - LABELS);
    let Ends { low, high: top } = alike.over;
    let pulses = Axis { values: (low.get(), top.get()), places: (left, right) };
    let room = table - 16.0 - 50.0;
    let angle = |own: &Member, at: Position, _: Degrees| own.fit.curve.angle_at(at).get();
    let off = |_: &Member, _: Position, off: Degrees| off.get();
    let (upper, lower) = ((50.0, 50.0 + room * 0.52), (50.0 + room * 0.52 + 14.0, table - 14.0));
    chart(&mut list, alike, (pulses, upper), &angle, "angle");
    chart(&mut list, alike, (pulses, lower), &off, "off the mean of all");
    for pulse in pulses.ticks(10.0) {
        let x = pulses.place(pulse);
        list.text(at(x, lower.1 + 4.2), SMALL, Tone::Quiet, Align::Middle, &format!("{pulse:.0}"));
    }
    list.text(at(right, lower.1 + 8.2), SMALL, Tone::Quiet, Align::Right, alike.kind.place_head());
    rows(&mut list, alike, table);
    Ok(list)
}

/// One chart: a line a servo, with its number where it ends.
fn chart(
    list: &mut List,
    alike: &Alike,
    (pulses, (top, bottom)): (Axis, (f64, f64)),
    value: &dyn Fn(&Member, Position, Degrees) -> f64,
    words: &str,
) {
    let all = || alike.members.iter().flat_map(|own| own.off.iter().map(|(at, off)| value(own, *at, *off)));
    let (least, most) = (all().fold(f64::MAX, f64::min), all().fold(f64::MIN, f64::max));
    let air = ((most - least) * 0.06).max(0.2);
    let values = Axis { values: (least - air, most + air), places: (bottom, top) };
    let (left, right) = pulses.places;
    list.text(at(left, top - 2.0), SMALL, Tone::Quiet, Align::Left, words);
    for pulse in pulses.ticks(10.0) {
        let x = pulses.place(pulse);
        list.line(&[at(x, top), at(x, bottom)], solid(Tone::Rule, 0.1));
    }
    for tick in values.ticks(8.0) {
        let y = values.place(tick);
        list.line(&[at(left, y), at(right, y)], solid(Tone::Rule, if tick.abs() < 1e-9 { 0.3 } else { 0.1 }));
        let decimals = usize::from(most - least < 8.0);
        list.text(
            at(left - 1.5, y + 1.0),
            SMALL,
            Tone::Quiet,
            Align::Right,
            &format!("{}°", signed(tick, decimals)),
        );
    }
    let corners = vec![at(left, top), at(right, top), at(right, bottom), at(left, bottom)];
    list.form(corners, Some(solid(Tone::Rule, 0.2)), None);
    let mut ends = Vec::new();
    for (n, own) in alike.members.iter().enumerate() {
        let point =
            |(p, off): &(Position, Degrees)| at(pulses.place(p.get()), values.place(value(own, *p, *off)));
        let line: Vec<_> = own.off.iter().map(point).collect();
        // What is odd is told by its stroke, on a printer without colours too.
        let stroke =
            if alike.odd == Some(n) { dashed(Tone::Limit, 0.5, 2.0, 1.0) } else { solid(Tone::Ink, 0.3) };
        list.line(&line, stroke);
        ends.push((line.last().map_or(bottom, |last| last.y), n));
    }
    // Numbers that would stand on one another are moved apart, in the order of their lines.
    ends.sort_by(|a, b| a.0.total_cmp(&b.0));
    let mut free = top;
    for (y, n) in ends {
        let place = y.max(free);
        free = place + SMALL;
        list.text(at(right + 1.5, place + 1.0), SMALL, Tone::Ink, Align::Left, &(n + 1).to_string());
    }
}

fn rows(list: &mut List, alike: &Alike, top: f64) {
    let right = list.size.0 - MARGIN;
    list.text(at(MARGIN, top), SMALL, Tone::Quiet, Align::Left, "name");
    for (head, edge) in COLUMNS {
        list.text(at(MARGIN + edge, top), SMALL, Tone::Quiet, Align::Right, head);
    }
    list.line(&[at(MARGIN, top + 1.4), at(right, top + 1.4)], solid(Tone::Rule, 0.2));
    let unit = alike.kind.place_unit();
    for (n, own) in alike.members.iter().enumerate() {
        let y = top + 5.6 + 4.6 * number(n);
        let tone = if alike.odd == Some(n) { Tone::Limit } else { Tone::Ink };
        list.text(at(MARGIN, y), BODY, tone, Align::Left, &format!("{}  {}", n + 1, own.name));
        let cells = [
            format!("{} °/100 {unit}", signed(own.fit.line.gain() * 100.0, 2)),
            format!("{:.1} {unit}", own.fit.zero().get()),
            format!("{:.0} to {:.0} {unit}", own.ends.low.get(), own.ends.high.get()),
            format!("{:.2}°", own.fit.worst().get()),
            format!("{}°", signed(alike.furthest(own).1.get(), 1)),
        ];
        for ((_, edge), cell) in COLUMNS.into_iter().zip(&cells) {
            list.text(at(MARGIN + edge, y), BODY, tone, Align::Right, cell);
        }
    }
}
