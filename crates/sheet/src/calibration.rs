//! The calibration sheet: what one servo really does with a pulse, how that was found, and what holds it.

mod chart;
mod turning;

use crate::list::{Align, List, Point, Shape, Tone, at, solid};
use crate::scale::Axis;
use crate::trim::signed;
use crate::{NoSheet, Subject};
use chart::Box;
use wasvolta_core::curve::Curve;
use wasvolta_core::fit::{Fit, Ground};
use wasvolta_core::linkage::Transmission;
use wasvolta_core::rig::{Board, Ends, Joint, Mark, MarkKind, NamedScale, ReadAt, Servo, Side, Signal};
use wasvolta_core::unit::{Position, number};

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
    /// How other code speaks of its pulses.
    scales: &'a [NamedScale],
    /// What is between the shaft, whose angles the chart shows, and the joint, whose limits are its own.
    through: Transmission,
}

/// Draws the sheet.
///
/// # Errors
/// When the servo is not there, or has too few marks for a fit.
pub fn draw(subject: &Subject<'_>) -> Result<List, NoSheet> {
    let servo = subject.part()?;
    if servo.kind.turns_on()
        && let Some(board) = subject.rig.board(&servo.board)
    {
        return turning::draw(subject, servo, board);
    }
    let servo = subject.turning()?;
    let no_fit = |why| NoSheet::NoFit { servo: servo.name.clone(), why };
    let fit = servo.fit().map_err(no_fit)?;
    let Some(board) = subject.rig.board(&servo.board) else { return Err(NoSheet::Pdf("no board".into())) };
    let through = subject.rig.through(servo);
    let (joint, scales) = (subject.rig.joint_of(&servo.name), subject.rig.scales.as_slice());
    let known = Known { servo, board, joint, fit, scales, through };
    let (wide, high) = subject.paper.size_mm();
    let mut list = List::new(&format!("{}: calibration", servo.name), (wide, high));
    head(&mut list, subject, "calibration sheet");
    lead(&mut list, &known);
    // What must be said has its height; the chart gets what is left of the paper's.
    let floor = high - MARGIN;
    let notes = crate::font::wrap(&servo.notes, SMALL, wide - 2.0 * MARGIN - TAB);
    let floor = floor - number(notes.len()) * SMALL * 1.35;
    let mut trial = List::new("", (wide, high));
    let tall = facts(&mut trial, &known, at(wide / 2.0 + 8.0, 0.0), wide - MARGIN);
    let below = floor - tall - 3.0;
    let strip = below - 16.0 - STRIP;
    let chart = Box { left: MARGIN + GUTTER, right: wide - MARGIN, top: 54.0, bottom: strip - 8.0 };
    let strip = Box { top: strip, bottom: strip + STRIP, ..chart };
    let pulses = Axis { values: chart::span_of_pulses(&known), places: (chart.left, chart.right) };
    chart::draw(&mut list, &known, chart, pulses);
    chart::residuals(&mut list, &known, strip, pulses);
    marks(&mut list, &known, below, floor);
    facts(&mut list, &known, at(wide / 2.0 + 8.0, below), wide - MARGIN);
    if !notes.is_empty() {
        let mut column = Column { list: &mut list, start: at(MARGIN, floor + SMALL), right: wide - MARGIN };
        column.fact("notes", &servo.notes);
    }
    Ok(list)
}

/// Name, rig, kind of sheet and date, of a servo's sheet.
pub(crate) fn head(list: &mut List, subject: &Subject<'_>, kind: &str) {
    let board = subject.rig.servo(subject.servo).and_then(|s| Some((s, subject.rig.board(&s.board)?)));
    let place = board.map_or_else(String::new, |(servo, board)| {
        let word = board.chip.row().channel_word;
        format!(", {word} {} of {} ({})", servo.plug(), board.name, place(board))
    });
    let words = format!("{}{place}", subject.rig.name);
    head_of(list, (subject.servo, &words), &format!("{kind}, {}", subject.date));
}

/// A title with a line under it, and what stands at its right; the same on every sheet.
pub(crate) fn head_of(list: &mut List, (title, below): (&str, &str), aside: &str) {
    let right = list.size.0 - MARGIN;
    let top = MARGIN + TITLE * 0.75;
    list.text(at(MARGIN, top), TITLE, Tone::Ink, Align::Left, title);
    list.text(at(right, top), BODY, Tone::Quiet, Align::Right, aside);
    list.text(at(MARGIN, top + 6.0), BODY, Tone::Quiet, Align::Left, below);
    list.line(&[at(MARGIN, top + 9.0), at(right, top + 9.0)], solid(Tone::Ink, 0.3));
}

/// The fit in a sentence or two.
fn lead(list: &mut List, known: &Known<'_>) {
    let fit = &known.fit;
    let gain = fit.line.gain() * 100.0;
    let unit = known.servo.kind.place_unit();
    let big = format!("{} °/100 {unit},  0° at {:.1} {unit}", signed(gain, 3), fit.zero().get());
    list.text(at(MARGIN, 37.0), LEAD, Tone::Ink, Align::Left, &big);
    let small = match fit.ground {
        Ground::Assumed => {
            "The slope is the data sheet's, assumed: one mark only. A second mark would measure it."
                .to_owned()
        }
        Ground::Measured => {
            let s = fit.s.map_or_else(String::new, |s| format!(", s = {:.2}°", s.get()));
            let middle = fit.zero();
            let how = if matches!(fit.curve, Curve::Line(_)) { "Least squares" } else { "A monotone curve" };
            format!(
                "{how} through {} marks: worst residual {:.2}°{s}; 95 % band ±{:.1}° at 0°.{}",
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

/// The columns of the table of marks behind the places: head, right edge in mm from the margin.
const COLUMNS: [(&str, f64); 4] = [("ticks", 28.0), ("seen", 43.0), ("fitted", 58.0), ("residual", 72.0)];
/// The right edge of the places.
const PLACES: f64 = 17.0;

/// All columns. What is told counts has no ticks of a clock.
fn columns(servo: &Servo) -> impl Iterator<Item = (&'static str, f64)> {
    let smart = servo.kind.is_smart();
    let rest =
        COLUMNS.into_iter().map(move |(word, edge)| (if smart && word == "ticks" { "" } else { word }, edge));
    std::iter::once((servo.kind.place_head(), PLACES)).chain(rest)
}

fn marks(list: &mut List, known: &Known<'_>, top: f64, floor: f64) {
    list.text(at(MARGIN, top), BODY, Tone::Ink, Align::Left, "Marks");
    let head = top + 5.5;
    for (words, edge) in columns(known.servo) {
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
    let fitted = known.fit.curve.angle_at(mark.place()).get();
    // Read at the joint, it is taken back to the shaft, whose angles all of the sheet shows.
    let at_shaft = mark.aligned(&known.servo.through());
    let seen = at_shaft.map(|seen| seen.angle.get());
    let ticks = mark.ticks.or_else(|| ticks_of(known, mark.place()));
    let aligned = seen.filter(|_| mark.seen == MarkKind::Aligned);
    let cells = [
        format!("{:.1}", mark.place().get()),
        ticks.map_or_else(String::new, |t| t.0.to_string()),
        seen.map_or_else(String::new, |a| format!("{}°", signed(a, 1))),
        format!("{}°", signed(fitted, 1)),
        at_shaft
            .filter(|_| aligned.is_some())
            .map_or_else(String::new, |seen| format!("{}°", signed(known.fit.off_by(&seen).get(), 2))),
    ];
    for ((_, edge), cell) in columns(known.servo).zip(&cells) {
        list.text(at(MARGIN + edge, y), BODY, Tone::Ink, Align::Right, cell);
    }
    let how = if mark.seen == MarkKind::Aligned { "" } else { mark.seen.word() };
    let from = match mark.from {
        Side::Unknown => "",
        Side::Below => "rising",
        Side::Above => "falling",
    };
    let joint = if mark.at == ReadAt::Joint { "joint" } else { "" };
    let words = format!("{how} {from} {joint}");
    list.text(at(MARGIN + 75.0, y), SMALL, Tone::Quiet, Align::Left, words.trim());
}

fn ticks_of(known: &Known<'_>, pulse: Position) -> Option<wasvolta_core::unit::Ticks> {
    known.board.clock()?.quantise(pulse, pulse - Position::new(50.0), pulse + Position::new(50.0)).ok()
}

/// The most scales of other code that there is room for.
const SCALES: usize = 2;

/// What holds the servo, and what goes on the wire.
/// Gives the height that it took.
fn facts(list: &mut List, known: &Known<'_>, start: Point, right: f64) -> f64 {
    let Known { servo, board, joint, fit, scales, through } = known;
    let mut column = Column { list, start, right };
    let Ends { low, high } = servo.ends();
    column.head("What limits it");
    let end =
        |p: Position| format!("{} ({})", servo.kind.show_place(p), degrees(fit.curve.angle_at(p).get()));
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
    let unit = servo.kind.place_unit();
    column.fact("centre", &format!("{:.1} {unit}", servo.centre().get()));
    for scale in scales.iter().filter(|_| servo.kind.signal() == Signal::Pulse).take(SCALES) {
        let number = |at: Position| scale.number(at.micros()).unwrap_or_default();
        let [low, high, centre] = [low, high, servo.centre()].map(number);
        let name = &scale.name;
        column.fact("other code", &format!("{low} to {high} {name}, centre {centre} {name}"));
    }
    if let Some(home) = joint.and_then(|j| j.home_deg) {
        let pulse = fit.curve.pulse_at(through.servo_at(home));
        column.fact("home", &format!("{}, {:.1} {unit}", degrees(home.get()), pulse.get()));
    }
    mechanics(&mut column, known);
    column.gap();
    on_the_wire(&mut column, servo, board);
    if let Some(clock) = board.clock() {
        let fine = clock.fineness(fit.line.gain()).get();
        column.fact("one tick", &format!("{:.3} µs, {fine:.3}°", clock.tick().get()));
        column.fact("travel", &format!("{:.0} steps between the endpoints", clock.steps_in(low, high)));
    } else {
        column.fact("one count", &format!("{:.3}°", fit.line.gain().abs()));
        column.fact("travel", &format!("{:.0} counts between the endpoints", (high - low).get()));
    }
    if let Some(rated) = &servo.rated {
        column.gap();
        column.head("Its data sheet says");
        let Ends { low: from, high: to } = rated.over();
        let to = servo.kind.show_place(to);
        let travel = format!("{} ° over {:.0} to {to}", rated.travel_deg.get(), from.get());
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

/// Where its pulses come from, and how they are counted.
fn on_the_wire(column: &mut Column<'_>, servo: &Servo, board: &Board) {
    column.head("On the wire");
    column.fact("board", &format!("{}, {} {}", board.name, kind(board), board.at()));
    column.fact(board.chip.row().channel_word, &servo.plug().to_string());
    let Some(clock) = board.clock() else {
        if let Some(layout) = &board.layout {
            column.fact("registers", layout);
        }
        return;
    };
    column.fact("frame", &format!("{:.3} Hz, asked for {} Hz", clock.rate().get(), board.frame_hz.get()));
    if board.chip.row().has_own_clock {
        let clock = format!("{:.3} MHz, divider {}", board.oscillator_hz.get() / 1e6, board.prescale());
        column.fact("oscillator", &clock);
    } else {
        // Nobody has said which oscillator counts, nor by what it is divided.
        column.fact("one tick", &format!("{:.3} µs", clock.tick().get()));
    }
}

/// What it turns, and how it stands there.
fn mechanics(column: &mut Column<'_>, known: &Known<'_>) {
    let Known { servo, joint, fit, .. } = known;
    if let Some(slack) = &fit.slack {
        let side = servo.arrive.word();
        let side = if side.is_empty() { String::new() } else { format!("; it arrives {side}") };
        column.fact(
            "slack",
            &format!(
                "{:.1}°, seen at {} {}{side}",
                slack.mean.get(),
                slack.pulses,
                if slack.pulses == 1 { "pulse" } else { "pulses" }
            ),
        );
    }
    if let Some(gear) = &servo.gear {
        let offset = degrees(gear.offset_deg.get());
        column.fact(
            "gear",
            &format!("{}° of the joint for each degree, {offset} at 0°", gear.ratio).replace(" °", "°"),
        );
    }
    if let Some(bars) = &servo.linkage {
        let [horn, rod, arm, pivots] = [bars.horn_mm, bars.rod_mm, bars.arm_mm, bars.pivots_mm]
            .map(|mm| crate::trim::number(mm.get(), 1));
        let words =
            format!("horn {horn}, rod {rod}, arm {arm}, axes {pivots} mm apart; it has a sheet of its own");
        column.fact("linkage", &words);
    }
    let others: Vec<&str> =
        joint.iter().flat_map(|j| j.servos()).filter(|name| *name != servo.name).collect();
    if !others.is_empty() {
        column.fact("together with", &others.join(", "));
    }
    if let Some(teeth) = servo.teeth {
        column.fact("spline", &format!("{teeth} teeth, {:.1}° each", 360.0 / f64::from(teeth)));
    }
    if let Some(last) = servo.exercised.last() {
        let seen = if last.seen.is_empty() { String::new() } else { format!(": {}", last.seen) };
        column.fact("exercised", &format!("{} times on {}{seen}", last.times, last.on));
    }
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
    /// Writes a heading, and goes on below it.
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

    /// Leaves 2.4 mm free.
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

/// Where a board is on its port: its address, or the port.
fn place(board: &Board) -> String {
    board.address.map_or_else(|| board.port.clone(), |address| format!("0x{address:02x}"))
}

/// A board's chip with the fineness of its counter.
const fn kind(board: &Board) -> &'static str {
    board.chip.row().full_word
}
