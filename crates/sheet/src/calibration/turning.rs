//! The calibration sheet of a continuous servo: where it stands still, and how fast it turns at which pulse.

use super::chart::Box;
use super::{BODY, Column, GUTTER, LEAD, MARGIN, SMALL, head, on_the_wire};
use crate::list::{Align, List, Tone, at, dashed, solid};
use crate::scale::Axis;
use crate::trim::signed;
use crate::{NoSheet, Subject};
use wasvolta_core::rate::{Band, Rates};
use wasvolta_core::rig::{Board, Ends, Idle, Servo};
use wasvolta_core::unit::{Position, Rpm};

/// Where the chart ends on the paper.
const BOTTOM: f64 = 165.0;

/// Draws the sheet.
///
/// # Errors
/// When its stop band is not known yet.
pub(super) fn draw(subject: &Subject<'_>, servo: &Servo, board: &Board) -> Result<List, NoSheet> {
    let Some(band) = servo.band() else { return Err(NoSheet::NoBand { servo: servo.name.clone() }) };
    let rates = servo.rates().ok();
    let (wide, high) = subject.paper.size_mm();
    let mut list = List::new(&format!("{}: calibration", servo.name), (wide, high));
    head(&mut list, subject, "calibration sheet");
    let stop = servo.centre().get();
    let lead = format!(
        "stands still from {:.1} to {:.1} µs, its stop {stop:.1} µs",
        band.low.get(),
        band.high.get()
    );
    list.text(at(MARGIN, 37.0), LEAD, Tone::Ink, Align::Left, &lead);
    let small = if rates.is_some() {
        "Between the pulses at which it just starts to turn either way; rates were timed turn by turn."
    } else {
        "Between the pulses at which it just starts to turn either way; no rate was timed yet."
    };
    list.text(at(MARGIN, 42.0), SMALL, Tone::Quiet, Align::Left, small);
    let area = Box { left: MARGIN + GUTTER, right: wide - MARGIN, top: 54.0, bottom: BOTTOM };
    chart(&mut list, servo, &band, rates.as_ref(), area);
    marks(&mut list, servo, BOTTOM + 18.0);
    facts(&mut list, (servo, board), rates.as_ref(), (wide / 2.0 + 8.0, wide - MARGIN));
    Ok(list)
}

fn chart(list: &mut List, servo: &Servo, band: &Band, rates: Option<&Rates>, area: Box) {
    let Ends { low, high } = servo.ends();
    let air = (high - low).get() * 0.03;
    let pulses = Axis { values: (low.get() - air, high.get() + air), places: (area.left, area.right) };
    let fastest = rates.map_or(10.0, |rates| {
        let size = |longer| rates.fastest(longer).get().abs();
        size(true).max(size(false)) * 1.1
    });
    let turns = Axis { values: (-fastest, fastest), places: (area.bottom, area.top) };
    for pulse in pulses.ticks(10.0) {
        let x = pulses.place(pulse);
        list.line(&[at(x, area.top), at(x, area.bottom)], solid(Tone::Rule, 0.1));
        list.text(at(x, area.bottom + 4.0), SMALL, Tone::Quiet, Align::Middle, &format!("{pulse:.0}"));
    }
    for rate in turns.ticks(10.0) {
        let y = turns.place(rate);
        let width = if rate.abs() < 1e-9 { 0.3 } else { 0.1 };
        list.line(&[at(area.left, y), at(area.right, y)], solid(Tone::Rule, width));
        list.text(at(area.left - 1.5, y + 1.0), SMALL, Tone::Quiet, Align::Right, &signed(rate, 0));
    }
    let [from, to] = [band.low, band.high].map(|edge| pulses.place(edge.get()));
    let corners = vec![at(from, area.top), at(to, area.top), at(to, area.bottom), at(from, area.bottom)];
    list.form(corners, None, Some(Tone::Band));
    area.frame(list);
    for end in [low, high] {
        let x = pulses.place(end.get());
        list.line(&[at(x, area.top), at(x, area.bottom)], solid(Tone::Ink, 0.7));
    }
    let quiet = |list: &mut List, x: f64, align, words: &str| {
        list.text(at(x, area.top - 2.5), SMALL, Tone::Quiet, align, words);
    };
    quiet(list, MARGIN, Align::Left, "rpm; shaded: it stands still");
    list.text(at(area.right, area.bottom + 8.0), SMALL, Tone::Quiet, Align::Right, "pulse, µs");
    let Some(rates) = rates else { return };
    let on = |pulse: Position| at(pulses.place(pulse.get()), turns.place(rates.rate_at(pulse).get()));
    let line: Vec<_> = (0..=120).map(|n| on(low + (high - low) * (f64::from(n) / 120.0))).collect();
    list.line(&line, solid(Tone::Ink, 0.5));
    for longer in [false, true] {
        let Some(pulse) = rates.saturation(longer) else { continue };
        let x = pulses.place(pulse.get());
        list.line(&[at(x, area.top), at(x, area.bottom)], dashed(Tone::Quiet, 0.3, 0.6, 1.0));
    }
    for (pulse, rate) in servo.marks.iter().filter_map(|m| Some((m.place(), m.rpm?))) {
        let here = at(pulses.place(pulse.get()), turns.place(rate.get()));
        list.circle(here, 1.2, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
    }
}

fn marks(list: &mut List, servo: &Servo, top: f64) {
    list.text(at(MARGIN, top), BODY, Tone::Ink, Align::Left, "Marks");
    for (edge, word) in [(17.0, "pulse, µs"), (34.0, "rpm")] {
        list.text(at(MARGIN + edge, top + 5.5), SMALL, Tone::Quiet, Align::Right, word);
    }
    list.line(&[at(MARGIN, top + 6.9), at(MARGIN + 70.0, top + 6.9)], solid(Tone::Rule, 0.2));
    let mut y = top + 11.0;
    for mark in servo.marks.iter().take(18) {
        list.text(at(MARGIN + 17.0, y), BODY, Tone::Ink, Align::Right, &format!("{:.1}", mark.place().get()));
        if let Some(rate) = mark.rpm {
            list.text(at(MARGIN + 34.0, y), BODY, Tone::Ink, Align::Right, &signed(rate.get(), 1));
        }
        let words = format!("{} {}", mark.seen.word(), mark.from.word());
        list.text(at(MARGIN + 38.0, y), SMALL, Tone::Quiet, Align::Left, words.trim());
        y += 4.6;
    }
}

fn facts(
    list: &mut List,
    (servo, board): (&Servo, &Board),
    rates: Option<&Rates>,
    (left, right): (f64, f64),
) {
    let mut column = Column { list, start: at(left, BOTTOM + 18.0), right };
    let Ends { low, high } = servo.ends();
    column.head("What limits it");
    column.fact("endpoints", &format!("{:.0} to {:.0} µs", low.get(), high.get()));
    let by = if servo.idle == Idle::Release { "no pulse" } else { "its stop pulse" };
    column.fact("held", &format!("it gets {by}"));
    if let Some((pulse, time)) = servo.arms() {
        column.fact("arming", &format!("{:.0} µs for {} s before it follows", pulse.get(), time.get()));
    }
    for (word, longer) in [("longer", true), ("shorter", false)] {
        let Some(rate) = rates.map(|rates| rates.fastest(longer)).filter(|rate| *rate != Rpm::ZERO) else {
            continue;
        };
        let from = rates.and_then(|rates| rates.saturation(longer));
        let from =
            from.map_or_else(String::new, |pulse| format!(", from {:.0} µs on no faster", pulse.get()));
        column.fact(word, &format!("{} rpm{from}", signed(rate.get(), 1)));
    }
    column.gap();
    on_the_wire(&mut column, servo, board);
    if let Some(amps) = servo.draw_a {
        column.fact("draws", &format!("{} A at most", amps.get()));
    }
    if !servo.notes.is_empty() {
        column.fact("notes", &servo.notes);
    }
}
