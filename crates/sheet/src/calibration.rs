//! The calibration sheet: what one servo really does with a pulse, how that was found, and what holds it.

use crate::list::{Align, List, Point, Shape, Tone, at, dashed, solid};
use crate::scale::Axis;
use crate::trim::signed;
use crate::{NoSheet, Subject};
use wasvolta_core::fit::{Fit, Ground, Line};
use wasvolta_core::rig::{Board, Ends, How, Joint, Mark, Servo, Side};
use wasvolta_core::unit::{Degrees, Micros, number};

/// The margin on every side, in mm.
pub(crate) const MARGIN: f64 = 15.0;
/// Sizes of text, in mm to the em.
pub(crate) const TITLE: f64 = 7.0;
const LEAD: f64 = 4.4;
pub(crate) const BODY: f64 = 3.2;
pub(crate) const SMALL: f64 = 2.7;
/// What stands left of the chart: the angles.
const GUTTER: f64 = 13.0;
const STRIP: f64 = 22.0;

/// What the sheet is drawn from, looked up once.
struct Known<'a> {
    servo: &'a Servo,
    board: &'a Board,
    joint: Option<&'a Joint>,
    fit: Fit,
}

/// Draws the sheet.
///
/// # Errors
/// When the servo is not there, or has too few marks for a fit.
pub fn draw(subject: &Subject<'_>) -> Result<List, NoSheet> {
    let servo = subject.part()?;
    let no_fit = |why| NoSheet::NoFit { servo: servo.name.clone(), why };
    let fit = servo.fit().map_err(no_fit)?;
    let Some(board) = subject.rig.board(&servo.board) else { return Err(NoSheet::Pdf("no board".into())) };
    let known = Known { servo, board, joint: subject.rig.joint_of(&servo.name), fit };
    let (wide, high) = subject.paper.size_mm();
    let mut list = List::new(format!("{}: calibration", servo.name), (wide, high));
    head(&mut list, subject, "calibration sheet");
    lead(&mut list, &known);
    // What must be said has its height; the chart gets what is left of the paper's.
    let floor = high - MARGIN;
    let notes = crate::font::wrap(&servo.notes, SMALL, wide - 2.0 * MARGIN - TAB);
    let floor = floor - number(notes.len()) * SMALL * 1.35;
    let mut trial = List::new(String::new(), (wide, high));
    let tall = facts(&mut trial, &known, at(wide / 2.0 + 8.0, 0.0), wide - MARGIN);
    let below = floor - tall - 3.0;
    let strip = below - 16.0 - STRIP;
    let chart = Box { left: MARGIN + GUTTER, right: wide - MARGIN, top: 54.0, bottom: strip - 8.0 };
    let strip = Box { top: strip, bottom: strip + STRIP, ..chart };
    let pulses = Axis { values: span_of_pulses(&known), places: (chart.left, chart.right) };
    draw_chart(&mut list, &known, chart, pulses);
    draw_residuals(&mut list, &known, strip, pulses);
    marks(&mut list, &known, below, floor);
    facts(&mut list, &known, at(wide / 2.0 + 8.0, below), wide - MARGIN);
    if !notes.is_empty() {
        let mut column = Column { list: &mut list, start: at(MARGIN, floor + SMALL), right: wide - MARGIN };
        column.fact("notes", &servo.notes);
    }
    Ok(list)
}

/// Name, rig, kind of sheet and date; the same on every sheet.
pub(crate) fn head(list: &mut List, subject: &Subject<'_>, kind: &str) {
    let right = list.size.0 - MARGIN;
    let top = MARGIN + TITLE * 0.75;
    list.text(at(MARGIN, top), TITLE, Tone::Ink, Align::Left, subject.servo);
    list.text(at(right, top), BODY, Tone::Quiet, Align::Right, &format!("{kind}, {}", subject.date));
    let board = subject.rig.servo(subject.servo).and_then(|s| Some((s, subject.rig.board(&s.board)?)));
    let place = board.map_or_else(String::new, |(servo, board)| {
        format!(", channel {} of {} (0x{:02x})", servo.channel, board.name, board.address)
    });
    let words = format!("{}{place}", subject.rig.name);
    list.text(at(MARGIN, top + 6.0), BODY, Tone::Quiet, Align::Left, &words);
    list.line(&[at(MARGIN, top + 9.0), at(right, top + 9.0)], solid(Tone::Ink, 0.3));
}

/// The fit in a sentence or two.
fn lead(list: &mut List, known: &Known<'_>) {
    let fit = &known.fit;
    let gain = fit.line.gain() * 100.0;
    let big = format!("{} °/100 µs,  0° at {:.1} µs", signed(gain, 3), fit.zero().get());
    list.text(at(MARGIN, 37.0), LEAD, Tone::Ink, Align::Left, &big);
    let small = match fit.ground {
        Ground::Assumed => {
            "The slope is the data sheet's, assumed: one mark only. A second one would tell.".to_owned()
        }
        Ground::Measured => {
            let s = fit.s.map_or_else(String::new, |s| format!(", s = {:.2}°", s.get()));
            let middle = fit.zero();
            format!(
                "Least squares through {} marks: worst residual {:.2}°{s}; 95 % band ±{:.1}° at 0°.{}",
                fit.points.len(),
                fit.worst().get(),
                fit.band(middle).get(),
                against_the_sheet(known)
            )
        }
    };
    let wide = list.size.0 - 2.0 * MARGIN;
    list.paragraph(at(MARGIN, 42.0), SMALL, Tone::Quiet, wide, &small);
}

fn against_the_sheet(known: &Known<'_>) -> String {
    known.servo.rated.as_ref().map_or_else(String::new, |rated| {
        let share = known.fit.line.gain() / rated.slope().gain * 100.0;
        format!(" It turns {share:.0} % of what its data sheet says.")
    })
}

/// A rectangle in mm.
#[derive(Clone, Copy)]
struct Box {
    left: f64,
    right: f64,
    top: f64,
    bottom: f64,
}

impl Box {
    fn frame(self, list: &mut List) {
        let Self { left, right, top, bottom } = self;
        let corners = vec![at(left, top), at(right, top), at(right, bottom), at(left, bottom)];
        list.form(corners, Some(solid(Tone::Rule, 0.2)), None);
    }
}

fn span_of_pulses(known: &Known<'_>) -> (f64, f64) {
    let Ends(low, high) = known.servo.endpoints_us;
    let seen = known.servo.marks.iter().map(|m| m.pulse_us.get());
    let all: Vec<f64> = seen.chain([low.get(), high.get()]).collect();
    let least = all.iter().copied().fold(f64::MAX, f64::min);
    let most = all.iter().copied().fold(f64::MIN, f64::max);
    let air = (most - least) * 0.03;
    (least - air, most + air)
}

fn span_of_angles(known: &Known<'_>, pulses: Axis) -> (f64, f64) {
    let Known { fit, joint, .. } = known;
    let ends = [pulses.values.0, pulses.values.1].map(|p| fit.line.angle_at(Micros::new(p)).get());
    let limits = joint.iter().flat_map(|j| [&j.low, &j.high]).flatten().map(|l| l.angle_deg.get());
    let seen = fit.points.iter().map(|p| p.angle.get());
    let all: Vec<f64> = ends.into_iter().chain(limits).chain(seen).collect();
    let least = all.iter().copied().fold(f64::MAX, f64::min);
    let most = all.iter().copied().fold(f64::MIN, f64::max);
    let air = (most - least) * 0.04;
    (least - air, most + air)
}

fn draw_chart(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
    let angles = Axis { values: span_of_angles(known, pulses), places: (area.bottom, area.top) };
    legend(list, known, area);
    for pulse in pulses.ticks(10.0) {
        let x = pulses.place(pulse);
        list.line(&[at(x, area.top), at(x, area.bottom)], solid(Tone::Rule, 0.1));
    }
    for angle in angles.ticks(10.0) {
        let y = angles.place(angle);
        let width = if angle.abs() < 1e-9 { 0.3 } else { 0.1 };
        list.line(&[at(area.left, y), at(area.right, y)], solid(Tone::Rule, width));
        list.text(at(area.left - 1.5, y + 1.0), SMALL, Tone::Quiet, Align::Right, &degrees(angle));
    }
    let place = |pulse: f64, angle: f64| at(pulses.place(pulse), angles.place(angle));
    band(list, known, pulses, angles);
    area.frame(list);
    rated(list, known, (pulses, angles));
    limits(list, known, area, angles);
    endpoints(list, known, area, pulses);
    let fit = &known.fit;
    let on = |pulse: f64| place(pulse, fit.line.angle_at(Micros::new(pulse)).get());
    let (first, last) = outer_marks(fit, pulses);
    list.line(&[on(first), on(last)], solid(Tone::Ink, 0.5));
    for (from, to) in [(pulses.values.0, first), (last, pulses.values.1)] {
        list.line(&[on(from), on(to)], dashed(Tone::Ink, 0.4, 1.6, 1.6));
    }
    for seen in &fit.points {
        let here = place(seen.pulse.get(), seen.angle.get());
        list.circle(here, 1.2, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
    }
}

/// The pulses of the outermost marks.
fn outer_marks(fit: &Fit, pulses: Axis) -> (f64, f64) {
    match (fit.points.first(), fit.points.last()) {
        (Some(first), Some(last)) => (first.pulse.get(), last.pulse.get()),
        _ => pulses.values,
    }
}

fn legend(list: &mut List, known: &Known<'_>, area: Box) {
    let y = area.top - 2.5;
    let mid = y - 1.0;
    let mut x = area.left;
    let mut item = |list: &mut List, words: &str, sign: &dyn Fn(&mut List, f64)| {
        sign(list, x);
        list.text(at(x + 9.0, y), SMALL, Tone::Ink, Align::Left, words);
        x += 13.0 + crate::font::width(words, SMALL);
    };
    item(list, "mark", &|l, x| {
        l.circle(at(x + 4.0, mid), 1.2, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
    });
    item(list, "fit", &|l, x| l.line(&[at(x, mid), at(x + 7.0, mid)], solid(Tone::Ink, 0.5)));
    item(list, "beyond the marks", &|l, x| {
        l.line(&[at(x, mid), at(x + 7.0, mid)], dashed(Tone::Ink, 0.4, 1.6, 1.6));
    });
    item(list, "95 % band", &|l, x| {
        let corners =
            vec![at(x, mid - 1.2), at(x + 7.0, mid - 1.2), at(x + 7.0, mid + 1.2), at(x, mid + 1.2)];
        l.form(corners, None, Some(Tone::Band));
    });
    item(list, "endpoint", &|l, x| {
        l.line(&[at(x + 6.0, mid - 1.4), at(x + 6.0, mid + 1.4)], solid(Tone::Ink, 0.7));
    });
    if known.servo.rated.is_some() {
        item(list, "as the data sheet says", &|l, x| {
            l.line(&[at(x, mid), at(x + 7.0, mid)], dashed(Tone::Quiet, 0.3, 0.3, 1.2));
        });
    }
    list.text(at(MARGIN, y), SMALL, Tone::Quiet, Align::Left, "angle");
}

fn band(list: &mut List, known: &Known<'_>, pulses: Axis, angles: Axis) {
    let fit = &known.fit;
    let edge = |sign: f64| {
        (0..=60).map(move |n| {
            let pulse = pulses.values.0 + (pulses.values.1 - pulses.values.0) * f64::from(n) / 60.0;
            let pulse = Micros::new(pulse);
            let angle = fit.line.angle_at(pulse).get() + sign * fit.band(pulse).get();
            let angle = angle.clamp(angles.values.0, angles.values.1);
            at(pulses.place(pulse.get()), angles.place(angle))
        })
    };
    let mut corners: Vec<Point> = edge(1.0).collect();
    corners.extend(edge(-1.0).collect::<Vec<_>>().into_iter().rev());
    list.form(corners, None, Some(Tone::Band));
}

/// What the data sheet claims, as far as the chart reaches.
fn rated(list: &mut List, known: &Known<'_>, (pulses, angles): (Axis, Axis)) {
    let Some(sheet) = &known.servo.rated else { return };
    let slope = sheet.slope();
    let line = Line::through(slope.middle, Degrees::ZERO, slope.gain);
    let Ends(low, high) = sheet.pulses_us;
    let at_angle = |angle: f64| line.pulse_at(Degrees::new(angle)).get();
    let (a, b) = (at_angle(angles.values.0), at_angle(angles.values.1));
    let from = low.get().max(a.min(b)).max(pulses.values.0);
    let to = high.get().min(a.max(b)).min(pulses.values.1);
    if from < to {
        let on = |pulse: f64| at(pulses.place(pulse), angles.place(line.angle_at(Micros::new(pulse)).get()));
        list.line(&[on(from), on(to)], dashed(Tone::Quiet, 0.3, 0.3, 1.2));
    }
}

fn limits(list: &mut List, known: &Known<'_>, area: Box, angles: Axis) {
    let Some(joint) = known.joint else { return };
    for (limit, word, rise) in [(&joint.low, "low limit", 3.2), (&joint.high, "high limit", -1.2)] {
        let Some(limit) = limit else { continue };
        let y = angles.place(limit.angle_deg.get());
        list.line(&[at(area.left, y), at(area.right, y)], dashed(Tone::Limit, 0.4, 3.0, 1.2));
        let words = format!("{word} {}", degrees(limit.angle_deg.get()));
        // Where the fit falls, the free corners are on the other side.
        let falls = known.fit.line.gain() < 0.0;
        let left = (word == "high limit") != falls;
        let (x, align) =
            if left { (area.left + 10.0, Align::Left) } else { (area.right - 10.0, Align::Right) };
        list.text(at(x, y + rise), SMALL, Tone::Limit, align, &words);
    }
}

fn endpoints(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
    let Ends(low, high) = known.servo.endpoints_us;
    for pulse in [low.get(), high.get()] {
        let x = pulses.place(pulse);
        list.line(&[at(x, area.top), at(x, area.bottom)], solid(Tone::Ink, 0.7));
    }
}

fn draw_residuals(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
    let fit = &known.fit;
    let errors = fit.points.iter().map(|p| p.error.get()).fold(0.0, f64::max);
    let most = (fit.worst().get().max(errors) * 1.25).max(0.1);
    let axis = Axis { values: (-most, most), places: (area.bottom, area.top) };
    let (up, down) = (axis.place(errors), axis.place(-errors));
    let corners = vec![at(area.left, up), at(area.right, up), at(area.right, down), at(area.left, down)];
    list.form(corners, None, Some(Tone::Band));
    area.frame(list);
    for value in axis.ticks(3.0) {
        let y = axis.place(value);
        let width = if value.abs() < 1e-9 { 0.3 } else { 0.1 };
        list.line(&[at(area.left, y), at(area.right, y)], solid(Tone::Rule, width));
        list.text(
            at(area.left - 1.5, y + 1.0),
            SMALL,
            Tone::Quiet,
            Align::Right,
            &format!("{}°", signed(value, 1)),
        );
    }
    let words = "seen − fitted; shaded: what a reading may be off";
    list.text(at(area.left, area.top - 1.5), SMALL, Tone::Quiet, Align::Left, words);
    for (seen, residual) in fit.points.iter().zip(&fit.residuals) {
        let x = pulses.place(seen.pulse.get());
        let y = axis.place(residual.get());
        list.line(&[at(x, axis.place(0.0)), at(x, y)], solid(Tone::Ink, 0.4));
        list.circle(at(x, y), 0.9, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
    }
    for pulse in pulses.ticks(10.0) {
        let x = pulses.place(pulse);
        list.line(&[at(x, area.bottom), at(x, area.bottom + 1.0)], solid(Tone::Quiet, 0.2));
        list.text(at(x, area.bottom + 4.2), SMALL, Tone::Quiet, Align::Middle, &format!("{pulse:.0}"));
    }
    list.text(at(area.right, area.bottom + 8.2), SMALL, Tone::Quiet, Align::Right, "pulse, µs");
}

/// The columns of the table of marks: head, right edge in mm from the margin.
const COLUMNS: [(&str, f64); 5] =
    [("pulse, µs", 17.0), ("ticks", 28.0), ("seen", 43.0), ("fitted", 58.0), ("residual", 72.0)];

fn marks(list: &mut List, known: &Known<'_>, top: f64, floor: f64) {
    list.text(at(MARGIN, top), BODY, Tone::Ink, Align::Left, "Marks");
    let head = top + 5.5;
    for (words, edge) in COLUMNS {
        list.text(at(MARGIN + edge, head), SMALL, Tone::Quiet, Align::Right, words);
    }
    list.line(&[at(MARGIN, head + 1.4), at(MARGIN + 89.0, head + 1.4)], solid(Tone::Rule, 0.2));
    let rows = &known.servo.marks;
    let pitch = ((floor - head - 8.0) / number(rows.len()).max(1.0)).clamp(3.1, 4.6);
    let room = usize::from(wasvolta_core::unit::count16((floor - head - 6.0) / pitch));
    for (n, mark) in rows.iter().take(room).enumerate() {
        row(list, known, mark, head + 5.5 + pitch * number(n));
    }
    if rows.len() > room {
        let words = format!("and {} more, in the rig file", rows.len() - room);
        list.text(at(MARGIN, head + 5.5 + pitch * number(room)), SMALL, Tone::Quiet, Align::Left, &words);
    }
}

fn row(list: &mut List, known: &Known<'_>, mark: &Mark, y: f64) {
    let fitted = known.fit.line.angle_at(mark.pulse_us).get();
    let seen = mark.angle_deg.map(Degrees::get);
    let ticks = mark.ticks.or_else(|| ticks_of(known, mark.pulse_us));
    let aligned = seen.filter(|_| mark.seen == How::Aligned);
    let cells = [
        format!("{:.1}", mark.pulse_us.get()),
        ticks.map_or_else(String::new, |t| t.0.to_string()),
        seen.map_or_else(String::new, |a| format!("{}°", signed(a, 1))),
        format!("{}°", signed(fitted, 1)),
        aligned.map_or_else(String::new, |a| format!("{}°", signed(a - fitted, 2))),
    ];
    for ((_, edge), cell) in COLUMNS.iter().zip(&cells) {
        list.text(at(MARGIN + edge, y), BODY, Tone::Ink, Align::Right, cell);
    }
    let how = match mark.seen {
        How::Aligned => "",
        How::Starts => "starts",
        How::Stops => "stops",
        How::Buzzes => "buzzes",
    };
    let from = match mark.from {
        Side::Unknown => "",
        Side::Below => "rising",
        Side::Above => "falling",
    };
    let words = format!("{how} {from}");
    list.text(at(MARGIN + 75.0, y), SMALL, Tone::Quiet, Align::Left, words.trim());
}

fn ticks_of(known: &Known<'_>, pulse: Micros) -> Option<wasvolta_core::unit::Ticks> {
    known.board.clock().quantise(pulse, pulse - Micros::new(50.0), pulse + Micros::new(50.0)).ok()
}

/// What holds the servo, and what goes on the wire.
/// Gives the height that it took.
fn facts(list: &mut List, known: &Known<'_>, start: Point, right: f64) -> f64 {
    let Known { servo, board, joint, fit } = known;
    let mut column = Column { list, start, right };
    let Ends(low, high) = servo.endpoints_us;
    column.head("What holds it");
    let end = |p: Micros| format!("{:.0} µs ({})", p.get(), degrees(fit.line.angle_at(p).get()));
    column.fact("endpoints", &format!("{} to {}", end(low), end(high)));
    for (word, limit) in joint.iter().flat_map(|j| [("low limit", &j.low), ("high limit", &j.high)]) {
        let words = limit.as_ref().map_or_else(
            || "none".to_owned(),
            |l| match l.reason.as_str() {
                "" => degrees(l.angle_deg.get()),
                reason => format!("{}: {reason}", degrees(l.angle_deg.get())),
            },
        );
        column.fact(word, &words);
    }
    column.fact("centre", &format!("{:.1} µs", servo.centre().get()));
    if let Some(home) = joint.and_then(|j| j.home_deg) {
        column.fact("home", &format!("{}, {:.1} µs", degrees(home.get()), fit.line.pulse_at(home).get()));
    }
    column.gap();
    column.head("On the wire");
    let clock = board.clock();
    column.fact("board", &format!("{}, 12-bit PWM expander at 0x{:02x}", board.name, board.address));
    column.fact("channel", &servo.channel.to_string());
    column.fact("frame", &format!("{:.3} Hz, asked for {} Hz", clock.rate().get(), board.frame_hz.get()));
    let clock_words = format!("{:.3} MHz, divider {}", board.oscillator_hz.get() / 1e6, board.prescale());
    column.fact("oscillator", &clock_words);
    let fine = clock.fineness(fit.line.gain()).get();
    column.fact("one tick", &format!("{:.3} µs, {fine:.3}°", clock.tick().get()));
    column.fact("travel", &format!("{:.0} steps between the endpoints", clock.steps_in(low, high)));
    if let Some(rated) = &servo.rated {
        column.gap();
        column.head("Its data sheet says");
        let Ends(from, to) = rated.pulses_us;
        let travel = format!("{} ° over {:.0} to {:.0} µs", rated.travel_deg.get(), from.get(), to.get());
        column.fact("travel", &travel.replace(" °", "°"));
        if let Some(speed) = rated.s_per_60_deg {
            column.fact("speed", &format!("{} s/60°", speed.get()));
        }
        if let Some(stall) = rated.stall_a {
            column.fact("stall", &format!("{} A", stall.get()));
        }
    }
    column.start.y - start.y
}

/// How far a fact stands behind its name.
const TAB: f64 = 19.0;
/// A reason longer than this ends with an ellipsis; the rig file has all of it.
const MOST_LINES: usize = 5;

/// Facts under one another: a word, then what it is.
pub(crate) struct Column<'l> {
    /// Where they are written.
    pub list: &'l mut List,
    /// The next baseline's beginning.
    pub start: Point,
    /// The right edge.
    pub right: f64,
}

impl Column<'_> {
    /// A heading.
    pub fn head(&mut self, words: &str) {
        self.list.text(self.start, BODY, Tone::Ink, Align::Left, words);
        self.start.y += 5.5;
    }

    /// A fact; long ones take more lines, the longest five.
    pub fn fact(&mut self, name: &str, words: &str) {
        self.list.text(self.start, SMALL, Tone::Quiet, Align::Left, name);
        let place = at(self.start.x + TAB, self.start.y);
        let mut lines = crate::font::wrap(words, SMALL, self.right - place.x);
        if lines.len() > MOST_LINES {
            lines.truncate(MOST_LINES);
            lines.last_mut().into_iter().for_each(|line| line.push('…'));
        }
        for line in &lines {
            self.list.text(at(place.x, self.start.y), SMALL, Tone::Ink, Align::Left, line);
            self.start.y += SMALL * 1.35;
        }
        self.start.y += 0.7;
    }

    /// Some air.
    pub fn gap(&mut self) {
        self.start.y += 2.4;
    }
}

/// An angle as it stands on paper, with no more decimals than it needs.
pub(crate) fn degrees(angle: f64) -> String {
    let decimals = if (angle - angle.round()).abs() < 0.005 {
        0
    } else if (angle * 10.0 - (angle * 10.0).round()).abs() < 0.05 {
        1
    } else {
        2
    };
    format!("{}°", signed(angle, decimals))
}

/// All texts of a list, for tests of what a sheet says.
#[must_use]
pub fn words(list: &List) -> Vec<&str> {
    list.shapes
        .iter()
        .filter_map(|shape| match shape {
            Shape::Text { words, .. } => Some(words.as_str()),
            Shape::Line { .. } => None,
        })
        .collect()
}
