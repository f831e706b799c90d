//! The sequence chart: steps to scale in time with loops, waits and labels, a band a joint, what rails must give, and what
//! was found when it was looked at; over several pages where it is long.

use crate::calibration::{BODY, MARGIN, SMALL, head_of};
use crate::list::{Align, List, Point, Tone, at, dashed, solid};
use crate::{NoSheet, Subject};
use wasvolta_core::review::{Load, Review};
use wasvolta_core::rig::{Index, Loop, Parts, Rig, Sequence, Step, Times, What};
use wasvolta_core::sequence::{At, Lasts, Program, Track};
use wasvolta_core::stage::Plan;
use wasvolta_core::unit::number;

/// Where the first row of time begins under the head.
const TOP: f64 = 34.0;
/// What stands to the left of the time.
const LABEL: f64 = 26.0;
/// The most seconds in a row; a longer sequence has more rows.
const SECONDS: f64 = 30.0;
const BRACKET: f64 = 4.5;
const BLOCK: f64 = 8.5;
const BAND: f64 = 9.0;
const RAIL: f64 = 7.0;
const AXIS: f64 = 9.0;
/// Looks a row of time.
const LOOKS: u16 = 300;

/// A row of time on a sheet.
struct Row<'a> {
    program: &'a Program,
    left: f64,
    wide: f64,
    from: f64,
    to: f64,
}

impl Row<'_> {
    fn x(&self, t: f64) -> f64 {
        let share = ((t - self.from) / (self.to - self.from)).clamp(0.0, 1.0);
        self.left + share * self.wide
    }

    fn shows(&self, from: f64, to: f64) -> bool {
        to >= self.from - 1e-9 && from <= self.to + 1e-9
    }
}

/// A small text to the right of a place, or to its left where there is no room.
fn beside(list: &mut List, row: &Row<'_>, place: Point, tone: Tone, words: &str) {
    let wide = crate::font::width(words, SMALL);
    if place.x + 0.8 + wide <= row.left + row.wide {
        list.text(at(place.x + 0.8, place.y), SMALL, tone, Align::Left, words);
    } else {
        list.text(at(place.x - 0.8, place.y), SMALL, tone, Align::Right, words);
    }
}

/// Where the next thing stands, over pages.
struct Pages {
    y: f64,
    high: f64,
}

impl Pages {
    /// Makes room for something; on the next page where this one has none.
    fn room(&mut self, list: &mut List, needed: f64) {
        let page = number(list.pages) * self.high;
        if self.y + needed > page - MARGIN {
            list.pages += 1;
            self.y = page + MARGIN;
        }
    }
}

/// Draws a sequence.
///
/// # Errors
/// When there is none of that name.
pub fn draw(subject: &Subject<'_>, name: &str) -> Result<List, NoSheet> {
    let rig = subject.rig;
    let Some(place) = rig.sequences.iter().position(|own| own.name == name) else {
        let names: Vec<&str> = rig.sequences.iter().map(|own| own.name.as_str()).collect();
        let there = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
        return Err(NoSheet::NoSequence { wanted: name.to_owned(), there });
    };
    let (plan, index) = (Plan::of(rig), Index::of(rig));
    let review = Review::of(Parts { rig, index: &index }, &plan, place);
    let (wide, high) = subject.paper.size_mm();
    let mut list = List::new(&format!("{}: {name}", rig.name), (wide, high));
    let (Some(sequence), Some(program)) = (rig.sequences.get(place), plan.programs.get(place)) else {
        return Ok(list);
    };
    let lasts = match review.lasts {
        Lasts::Seconds(seconds) => format!("{seconds:.2} s"),
        Lasts::Waits(seconds) => format!("{seconds:.2} s and what it waits for"),
        Lasts::Forever => "until it is stopped".to_owned(),
    };
    let loops = if sequence.loops.is_empty() { "" } else { ", each loop drawn once" };
    let below = format!("{}, {} steps, {lasts}{loops}", rig.name, sequence.steps.len());
    head_of(&mut list, (name, &below), &format!("sequence chart, {}", subject.date));
    let mut pages = Pages { y: TOP, high };
    let length = program.length().max(0.1);
    let count = (length / SECONDS).ceil().max(1.0);
    let span = length / count;
    for n in 0..wasvolta_core::unit::count16(count) {
        let from = f64::from(n) * span;
        let row =
            Row { program, left: MARGIN + LABEL, wide: wide - 2.0 * MARGIN - LABEL, from, to: from + span };
        strip(&mut list, &mut pages, rig, (sequence, &review), &row);
    }
    found(&mut list, &mut pages, rig, &review);
    Ok(list)
}

/// One row of time: steps, bands, rails.
fn strip(
    list: &mut List,
    pages: &mut Pages,
    rig: &Rig,
    (sequence, review): (&Sequence, &Review),
    row: &Row<'_>,
) {
    let levels = number(sequence.loops.len().min(3));
    pages.room(list, levels * BRACKET + BLOCK + 5.0 + BAND + AXIS);
    for (n, own) in sequence.loops.iter().take(3).enumerate() {
        bracket(list, row, sequence, own, pages.y + number(n) * BRACKET);
    }
    pages.y += levels * BRACKET + 4.0;
    for (n, step) in sequence.steps.iter().enumerate() {
        block(list, row, n, step, pages.y, review);
    }
    pages.y += BLOCK + 2.0;
    for track in &row.program.tracks {
        pages.room(list, BAND + AXIS);
        band(list, row, rig, track, pages.y, review);
        pages.y += BAND;
    }
    for load in &review.rails {
        pages.room(list, RAIL + AXIS);
        rail(list, row, rig, load, pages.y);
        pages.y += RAIL;
    }
    axis(list, row, pages.y);
    pages.y += AXIS;
}

fn bracket(list: &mut List, row: &Row<'_>, sequence: &Sequence, own: &Loop, y: f64) {
    let Some((from, to)) = sequence.span(own) else { return };
    let starts = row.program.enters_at(from).seconds();
    let ends = row.program.step(to).map_or(starts, |step| step.ends());
    if !row.shows(starts, ends) {
        return;
    }
    let (a, b) = (row.x(starts), row.x(ends));
    let mut line = vec![at(a, y + 1.0), at(b, y + 1.0)];
    if starts >= row.from - 1e-9 {
        line.insert(0, at(a, y + 3.0));
    }
    if ends <= row.to + 1e-9 {
        line.push(at(b, y + 3.0));
    }
    list.line(&line, solid(Tone::Quiet, 0.25));
    let times = match &own.times {
        Some(Times::Count(count)) => format!("× {count}"),
        Some(Times::Parameter(name)) => format!("× {name}"),
        None if own.until.is_none() => "for ever".to_owned(),
        None => String::new(),
    };
    let until = own.until.as_ref().map_or_else(String::new, |until| format!(" until {}", until.words()));
    list.text(at(a + 1.5, y + 3.6), SMALL, Tone::Ink, Align::Left, format!("{times}{until}").trim());
}

fn block(list: &mut List, row: &Row<'_>, n: usize, step: &Step, y: f64, review: &Review) {
    let Some(time) = row.program.step(n) else { return };
    if let Some(label) = step.label.as_ref().filter(|_| row.shows(time.starts, time.starts)) {
        beside(list, row, at(row.x(time.starts) - 0.8, y - 0.8), Tone::Quiet, label);
    }
    if !row.shows(time.starts, time.ends()) {
        return;
    }
    let (a, b, c) = (row.x(time.starts), row.x(time.arrives()), row.x(time.ends()));
    let name = match step.what() {
        Some(What::Wait(wait)) => {
            let x = a;
            list.line(&[at(x, y - 1.0), at(x, y + BLOCK)], dashed(Tone::Ink, 0.4, 1.0, 0.8));
            let words = format!("waits until {}", wait.words());
            return beside(list, row, at(x, y - 0.8), Tone::Ink, &words);
        }
        Some(What::Pose(pose)) => pose.to_owned(),
        Some(What::Play(other)) => format!("plays {other}"),
        None => return,
    };
    let edge = solid(Tone::Ink, 0.25);
    let form = |x: f64, to: f64| vec![at(x, y), at(to, y), at(to, y + BLOCK), at(x, y + BLOCK)];
    list.form(form(a, b), Some(edge), Some(Tone::Band));
    if c > b {
        list.form(form(b, c), Some(solid(Tone::Rule, 0.2)), None);
    }
    let flats = row.program.laid_out(n);
    let short = review
        .shorts
        .iter()
        .any(|short| row.program.steps.get(short.flat).is_some_and(|flat| flats.contains(flat)));
    let tone = if short { Tone::Limit } else { Tone::Ink };
    let room = c - a - 1.0;
    let words = format!("{} {name}", n + 1);
    let words = if crate::font::width(&words, SMALL) <= room { words } else { (n + 1).to_string() };
    if crate::font::width(&words, SMALL) <= room {
        list.text(at(a + 0.8, y + 3.4), SMALL, tone, Align::Left, &words);
    }
    let times = format!("{:.2}, {:.2} s", time.moves, time.dwells);
    if crate::font::width(&times, SMALL) <= room {
        list.text(at(a + 0.8, y + 7.2), SMALL, Tone::Quiet, Align::Left, &times);
    }
}

fn band(list: &mut List, row: &Row<'_>, rig: &Rig, track: &Track, y: f64, review: &Review) {
    let Some(servo) = rig.servos.get(track.servo) else { return };
    let mut cursor = 0;
    let counts = [0; wasvolta_core::sequence::LOOPS];
    let mut value = |t: f64| row.program.at(track, At::seconds_in(t), &counts, &mut cursor).get();
    let times: Vec<f64> =
        (0..=LOOKS).map(|n| row.from + (row.to - row.from) * f64::from(n) / f64::from(LOOKS)).collect();
    let values: Vec<f64> = times.iter().map(|t| value(*t)).collect();
    let (least, most) = values.iter().fold((0.0f64, 0.0f64), |(a, b), v| (a.min(*v), b.max(*v)));
    let (least, most) = if most - least < 10.0 { (least, least + 10.0) } else { (least, most) };
    let high = BAND - 2.0;
    let place = |value: f64| y + high - (value - least) / (most - least) * high;
    list.text(at(MARGIN, y + 3.0), SMALL, Tone::Ink, Align::Left, &servo.name);
    let lowest = values.iter().copied().fold(f64::INFINITY, f64::min);
    let highest = values.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let unit = if servo.kind.has_angles() { "°" } else { " %" };
    let reach = format!("{:.0} to {:.0}{unit}", lowest + 0.0, highest + 0.0);
    list.text(at(MARGIN, y + 6.4), SMALL, Tone::Quiet, Align::Left, &reach);
    let zero = place(0.0);
    let mut corners: Vec<Point> = times.iter().zip(&values).map(|(t, v)| at(row.x(*t), place(*v))).collect();
    let line = corners.clone();
    corners.extend([at(row.x(row.to), zero), at(row.x(row.from), zero)]);
    list.form(corners, None, Some(Tone::Band));
    list.line(&[at(row.x(row.from), zero), at(row.x(row.to), zero)], solid(Tone::Rule, 0.2));
    list.line(&line, solid(Tone::Ink, 0.3));
    for short in review.shorts.iter().filter(|short| short.servo == track.servo) {
        let Some(step) = row.program.steps.get(short.flat) else { continue };
        let (from, to) = (step.starts.seconds(), step.arrives().seconds());
        if !row.shows(from, to) {
            continue;
        }
        let part: Vec<Point> = times
            .iter()
            .zip(&line)
            .filter(|(t, _)| (from..=to).contains(*t))
            .map(|(_, point)| *point)
            .collect();
        list.line(&part, solid(Tone::Limit, 0.7));
        let needs = format!("needs {:.2} s", wasvolta_core::sequence::rounded_up(short.needs));
        beside(list, row, at(row.x(to), y + 3.0), Tone::Limit, &needs);
    }
}

fn rail(list: &mut List, row: &Row<'_>, rig: &Rig, load: &Load, y: f64) {
    let name = rig.rails.get(load.rail).map_or("", |rail| rail.name.as_str());
    let high = RAIL - 2.0;
    let place = |amps: f64| y + high - (amps / load.supply.get()).min(1.0) * high;
    let tone = if load.is_tight() { Tone::Limit } else { Tone::Ink };
    list.text(at(MARGIN, y + 2.6), SMALL, tone, Align::Left, name);
    let peak = format!("≈ {:.1} of {:.1} A", load.peak.get(), load.supply.get());
    list.text(at(MARGIN, y + 5.8), SMALL, Tone::Quiet, Align::Left, &peak);
    let mut corners = vec![at(row.x(row.from), y + high)];
    let mut before = load.at(At::seconds_in(row.from)).get();
    corners.push(at(row.x(row.from), place(before)));
    let changes = load.line.iter().map(|(t, amps)| (t.seconds(), amps.get()));
    for (t, amps) in changes.filter(|(t, _)| (row.from..=row.to).contains(t)) {
        corners.extend([at(row.x(t), place(before)), at(row.x(t), place(amps))]);
        before = amps;
    }
    corners.extend([at(row.x(row.to), place(before)), at(row.x(row.to), y + high)]);
    list.form(corners, Some(solid(tone, 0.2)), Some(Tone::Band));
}

fn axis(list: &mut List, row: &Row<'_>, y: f64) {
    let span = row.to - row.from;
    let pitch =
        [0.1, 0.2, 0.5, 1.0, 2.0, 5.0].into_iter().find(|p| p / span * row.wide >= 12.0).unwrap_or(10.0);
    list.line(&[at(row.left, y), at(row.left + row.wide, y)], solid(Tone::Ink, 0.25));
    let mut n = (row.from / pitch - 1e-9).ceil() + 0.0;
    while n * pitch <= row.to + 1e-9 {
        let x = row.x(n * pitch);
        list.line(&[at(x, y), at(x, y + 1.2)], solid(Tone::Ink, 0.25));
        let words = if pitch < 1.0 { format!("{:.1} s", n * pitch) } else { format!("{:.0} s", n * pitch) };
        list.text(at(x, y + 4.4), SMALL, Tone::Quiet, Align::Middle, &words);
        n += 1.0;
    }
}

/// What was found, in words.
fn found(list: &mut List, pages: &mut Pages, rig: &Rig, review: &Review) {
    let servo = |n: usize| rig.servos.get(n).map_or("", |servo| servo.name.as_str());
    let step = |sequence: usize, step: usize| {
        let name = rig.sequences.get(sequence).map_or("", |own| own.name.as_str());
        format!("Step {} of {name}", step + 1)
    };
    let mut lines = Vec::new();
    for short in &review.shorts {
        let assumed = if short.assumed { "; its speed is not known: assumed 100 °/s" } else { "" };
        let place = step(short.sequence, short.step);
        lines.push(format!("{place} is short: {} needs {:.3} s{assumed}.", servo(short.servo), short.needs));
    }
    for met in &review.met {
        lines.push(format!(
            "{} asks {} for {:.1}°, and it ends at {:.1}°.",
            step(met.sequence, met.step),
            servo(met.servo),
            met.asked.get(),
            met.gets.get()
        ));
    }
    for load in &review.rails {
        let rail = rig.rails.get(load.rail).map_or("", |rail| rail.name.as_str());
        if load.most() > load.idle {
            let start = if load.start.who.is_empty() {
                String::new()
            } else {
                format!(", and {}", load.starting(rig))
            };
            lines.push(format!(
                "{rail} gives at most {}{start}; its supply has {:.1} A. Estimated from the sheets.",
                load.playing(rig),
                load.supply.get()
            ));
        }
    }
    pages.y += 3.0;
    for line in lines {
        pages.room(list, 10.0);
        let wide = list.size.0 - 2.0 * MARGIN;
        pages.y = list.paragraph(at(MARGIN, pages.y), BODY, Tone::Ink, wide, &line) + 0.8;
    }
}
