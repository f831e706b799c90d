//! Calibrate: one servo, its protractor, its ruler, its readings, its marks, its fit.

use crate::screen::calibrate::place::state_row;
use crate::screen::calibrate::{behind, level, mechanism, protractor, ruler};
use crate::screen::chart::{Plot, heights};
use crate::screen::health;
use crate::screen::pen::{Pen, fit, width};
use crate::screen::scene::{Picked, Scene};
use crate::screen::step::{NUDGES, Nudge};
use crate::screen::touch::Touched;
use crate::screen::{digits, theme};
use wasvolta_core::curve::Curve;
use wasvolta_core::fineness::Fineness;
use wasvolta_core::fit::{Fit, Ground, NoFit};
use wasvolta_core::rig::{Joint, Mark, MarkKind, ReadAt, Side};
use wasvolta_core::unit::{Degrees, Position};

/// How the area is divided.
struct Layout {
    /// Columns of the readings.
    right: u16,
    /// Rows of the protractor, from row 1 or 2 on.
    protractor: (u16, u16),
    legend: u16,
    /// Rows for the limits' reasons under the legend.
    reasons: bool,
    ruler: u16,
    rated: bool,
    /// Where the pulse drawing begins, if there is room.
    pulse: Option<u16>,
}

impl Layout {
    fn of(wide: u16, high: u16) -> Self {
        let right = match wide {
            0..62 => 26,
            62..100 => 32,
            _ => 46,
        };
        let roomy = high >= 36;
        let rated = high >= 22;
        let pulse = roomy.then(|| high - 4);
        let ruler_rows = if rated { ruler::ROWS } else { ruler::ROWS - 1 };
        let ruler = high - ruler_rows - if roomy { 6 } else { 0 };
        let reasons = high >= 22;
        let legend = ruler - if roomy { 5 } else { 1 + 2 * u16::from(reasons) };
        let top = if roomy { 2 } else { 1 };
        Self { right, protractor: (top, legend - top), legend, reasons, ruler, rated, pulse }
    }
}

/// From so many columns and rows on the mechanism is drawn beside the protractor.
const BOTH: u16 = 64;
const BOTH_ROWS: u16 = 16;

/// Before there is any servo.
fn empty(pen: &mut Pen<'_>) {
    let (x, y) = (pen.width() / 2, pen.height() / 3);
    pen.put_centred(x, y, "‹add servo› adds a servo", theme::strong(theme::INK));
    pen.put_centred(x, y + 2, "a name, and the channel its plug is on", theme::text(theme::QUIET));
    pen.put_centred(x, y + 3, "nothing moves before you engage it", theme::text(theme::QUIET));
}

/// Draws the view.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    let Some(picked) = scene.picked() else { return empty(pen) };
    let (wide, high) = (pen.width(), pen.height());
    let layout = Layout::of(wide, high);
    let left = wide - layout.right - 2;
    title(&mut pen.part(0, 0, left, 1), scene, &picked);
    if !picked.servo.kind.has_angles() {
        return with_level(pen, scene, &picked, &layout);
    }
    let (top, rows) = layout.protractor;
    let linked = picked.through.linkage().is_some();
    if linked && left >= BOTH && rows >= BOTH_ROWS {
        // The mechanism beside the angles that it makes.
        let beside = left * 9 / 20;
        protractor::draw(&mut pen.part(0, top, left - beside - 2, rows), scene, &picked);
        mechanism::draw(&mut pen.part(left - beside, top, beside, rows), &picked);
    } else if linked && scene.model.in_calibrate.mechanism {
        mechanism::draw(&mut pen.part(0, top, left, rows), &picked);
    } else {
        protractor::draw(&mut pen.part(0, top, left, rows), scene, &picked);
    }
    protractor::legend(&mut pen.part(0, layout.legend, left, 1), 0, scene, &picked);
    if layout.reasons {
        reasons(&mut pen.part(0, layout.legend + 1, left, 2), &picked);
    }
    readings(&mut pen.part(left + 2, 0, layout.right, layout.ruler.saturating_sub(1)), scene, &picked);
    ruler::draw(&mut pen.part(0, layout.ruler, wide, ruler::ROWS), &picked, layout.rated);
    match layout.pulse {
        Some(row) if picked.servo.kind.is_smart() => {
            behind::draw(&mut pen.part(0, row, wide, 2), scene, &picked);
        }
        Some(row) => ruler::pulse(&mut pen.part(0, row, wide, 2), &picked),
        None => {}
    }
}

/// What has a level instead of an angle: no protractor, and a ruler only for what gets servo pulses.
fn with_level(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, layout: &Layout) {
    let wide = pen.width();
    let left = wide - layout.right - 2;
    level::draw(
        &mut pen.part(0, layout.protractor.0, left, layout.ruler - layout.protractor.0),
        scene,
        picked,
    );
    level::readings(&mut pen.part(left + 2, 0, layout.right, layout.ruler.saturating_sub(1)), scene, picked);
    if !picked.servo.kind.is_accessory() {
        ruler::draw(&mut pen.part(0, layout.ruler, wide, ruler::ROWS), picked, layout.rated);
    }
    if let Some(row) = layout.pulse {
        ruler::pulse(&mut pen.part(0, row, wide, 2), picked);
    }
}

fn title(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let x = pen.put(0, 0, &picked.servo.name, theme::strong(theme::INK)) + 2;
    let cut = if picked.plan.stay_stiff { ", a cut leaves it stiff" } else { "" };
    let channel = match picked.board.chip.row().channel_word {
        "channel" if pen.width() < 36 => "ch.",
        word => word,
    };
    let place = format!("{}, {channel} {}{cut}", picked.board.name, picked.servo.plug());
    let mut x = pen.put(x, 0, &place, theme::text(theme::QUIET));
    if let (Some(meter), Some(clock)) = (scene.model.meter, picked.board.clock())
        && pen.width() >= 60
    {
        let off = (meter / clock.rate().get() - 1.0).abs() > 0.002;
        let color = if off { theme::FAULT } else { theme::QUIET };
        x = pen.put(x, 0, &format!("  meter {meter:.3} Hz, simulated"), theme::text(color));
    }
    if !picked.servo.notes.is_empty() && pen.width() > x + 20 {
        pen.put(x, 0, &format!("  {}", picked.servo.notes), theme::text(theme::QUIET));
    }
}

fn reasons(pen: &mut Pen<'_>, picked: &Picked) {
    let Some(joint) = picked.joint else { return };
    for (y, (word, limit)) in (0..).zip([("low", &joint.low), ("high", &joint.high)]) {
        let Some(limit) = limit else {
            pen.put(0, y, &format!("{word:<4} limit none"), theme::text(theme::QUIET));
            continue;
        };
        let x = pen.put(0, y, &format!("{word:<4} limit "), theme::text(theme::QUIET));
        let x = pen.put(x, y, &format!("{:+.1}°", limit.angle_deg.get()), theme::text(theme::INK)).max(x + 7);
        pen.put(x + 1, y, &limit.reason, theme::text(theme::QUIET));
    }
}

fn readings(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    big_numbers(pen, picked);
    let y = wire(pen, scene, picked, digits::ROWS + 1);
    // The line between gives way before a mark does.
    let count = u16::try_from(picked.servo.marks.len()).unwrap_or(u16::MAX);
    let is_tight = pen.width() < 40 && (y + 1 + BESIDE_MARKS).saturating_add(count) > pen.height();
    let y = marks(pen, scene, picked, if is_tight { y } else { y + 1 });
    let room = pen.height().saturating_sub(y + 2);
    if room >= 8 && pen.width() >= 40 {
        let (wide, rows) = (pen.width(), room.min(16));
        chart(&mut pen.part(0, y + 1, wide, rows), scene, picked);
    }
}

/// The pulse, and where there is room the angle, large enough for the bench.
fn big_numbers(pen: &mut Pen<'_>, picked: &Picked) {
    if picked.servo.kind.is_smart() {
        return big_angle(pen, picked);
    }
    let color = if picked.state.engaged { theme::COMMANDED } else { theme::QUIET };
    let known = picked.state.engaged || !picked.is_unknown();
    let pulse = if known { format!("{:.0}", picked.wire_pulse().get()) } else { "----".to_owned() };
    digits::put_right(pen, 4 * digits::PITCH, 0, &pulse, color);
    pen.put(4 * digits::PITCH, 2, picked.servo.kind.place_unit(), theme::text(color));
    if pen.width() < 46 {
        return;
    }
    let angle = picked.plan.scale.as_ref().filter(|_| known).map(|l| l.angle_at(picked.wire_pulse()).get());
    let color = if picked.state.engaged { theme::INK } else { theme::QUIET };
    let text = angle.map_or_else(
        || "--".to_owned(),
        |a| {
            let tenths = (a * 10.0).round() / 10.0;
            format!("{}{:.0}", if tenths < 0.0 { "-" } else { "+" }, tenths.abs().trunc())
        },
    );
    let end = pen.width() - 3;
    digits::put_right(pen, end, 0, &text, color);
    let rest =
        angle.map_or_else(|| "°".to_owned(), |a| format!(".{:.0}°", ((a.abs() * 10.0).round() % 10.0).abs()));
    pen.put(end, 2, &rest, theme::text(color));
}

/// Of a smart servo the angle, with the counts beside it: where it is told to be, or limp where it says it is.
fn big_angle(pen: &mut Pen<'_>, picked: &Picked) {
    let driven = picked.state.engaged;
    let color = match (driven, picked.measured()) {
        (true, _) => theme::COMMANDED,
        (false, Some(_)) => theme::MEASURED,
        (false, None) => theme::QUIET,
    };
    let at = if driven { Some(picked.wire_pulse()) } else { picked.measured() };
    let angle = at.zip(picked.plan.scale.as_ref()).map(|(at, scale)| scale.angle_at(at).get());
    let tenths = angle.map(|angle| (angle * 10.0).round() / 10.0);
    let text = tenths.map_or_else(
        || "--".to_owned(),
        |tenths| format!("{}{:.0}", if tenths < 0.0 { "-" } else { "+" }, tenths.abs().trunc()),
    );
    // Where room is short what stands beside it has more of it.
    let figures = if pen.width() < 40 { width(&text).clamp(3, 4) } else { 4 };
    let end = figures * digits::PITCH;
    digits::put_right(pen, end, 0, &text, color);
    let rest = tenths
        .map_or_else(|| "°".to_owned(), |t| format!(".{:.0}°", ((t.abs() * 10.0).round() % 10.0).abs()));
    let x = pen.put(end, 2, &rest, theme::text(color)) + 2;
    let room = pen.width().saturating_sub(x);
    let counts = at.map_or_else(|| "no position reported yet".to_owned(), |at| picked.at(at));
    // They stand below too, with their unit.
    if width(&counts) <= room {
        pen.put(x, 2, &counts, theme::text(theme::INK));
    }
    let (word, color) = health::word(picked).unwrap_or(("not asked yet", theme::QUIET));
    let word = if width(word) <= room { word } else { health::short(word) };
    pen.put(x, 1, word, theme::text(color));
}

/// How a smart servo is by its own word, and how far it is behind; gives the row behind.
fn health(pen: &mut Pen<'_>, picked: &Picked, y: u16, label: u16) -> u16 {
    let Some(own) = picked.feedback.filter(|own| own.looked_at.is_some()) else { return y };
    pen.put(0, y, if label < 13 { "says" } else { "it says" }, theme::text(theme::QUIET));
    let mut x = label;
    // What is wrong comes first: it must not be cut off where room is short.
    if let Some(ail) = health::ails(picked).first() {
        let color = if ail.is_lasting() { theme::FAULT } else { theme::QUIET };
        x = pen.put(x, y, &format!("✗ {}", ail.words().0), theme::text(color)) + 2;
    }
    let said = [
        format!("{:.0} °C", own.celsius),
        format!("{:.1} V", own.volts),
        format!("load {:.0} %", own.load.abs()),
    ];
    for words in said {
        if x + width(&words) > pen.width() {
            break;
        }
        x = pen.put(x, y, &words, theme::text(theme::INK)) + 2;
    }
    let behind = picked.measured().filter(|_| picked.state.engaged).map(|at| picked.wire_pulse() - at);
    let Some(behind) = behind else { return y + 1 };
    pen.put(0, y + 1, if label < 13 { "behind" } else { "is behind by" }, theme::text(theme::QUIET));
    let degrees =
        picked.slope().map_or_else(String::new, |slope| format!("  {:.1}°", behind.get().abs() * slope));
    let words = format!("{:.0} counts{degrees}", behind.get().abs());
    pen.put(label, y + 1, &words, theme::text(theme::MEASURED));
    y + 2
}

/// What stands above and below the marks where room is short: their head, and what the fit says.
const BESIDE_MARKS: u16 = 5;

/// The most scales of other code that have a row.
const SCALES: usize = 3;

/// What goes on the wire, what a tick and a nudge are worth; gives the row behind.
fn wire(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, y: u16) -> u16 {
    let gain = picked.slope();
    let degrees = |way: Position| gain.map_or_else(String::new, |g| format!("{:.2}°", (way.get() * g).abs()));
    let narrow = pen.width() < 40;
    let label = if narrow { 7 } else { 13 };
    let columns = if narrow { [label, label + 10, pen.width()] } else { [label, label + 11, label + 22] };
    let unit = picked.servo.kind.place_unit();
    let clock = picked.clock();
    let wire = match (picked.wire.ticks(), clock) {
        (Some(t), Some(clock)) => [
            format!("{} ticks", t.0),
            format!("{:.1} µs", clock.pulse(t).get()),
            format!("{:.2} %", clock.duty_percent(clock.pulse(t))),
        ],
        (Some(t), None) => [format!("{} {unit}", t.0), String::new(), String::new()],
        (None, _) => [picked.untold().to_owned(), String::new(), String::new()],
    };
    let nudge = NUDGES.get(scene.model.nudge).copied().unwrap_or(Nudge::Tick);
    let by = picked.nudge(nudge);
    let step = picked.plan.guard.step();
    let nudge_words = match clock {
        Some(clock) => {
            [format!("{:.1} µs", by.get()), format!("{:.1} ticks", by.micros() / clock.tick()), degrees(by)]
        }
        None => [format!("{:.0} {unit}", by.get()), degrees(by), String::new()],
    };
    let (long, short) = picked.wire.label();
    let step = match clock {
        Some(clock) => {
            let tick = format!("{:.2} µs", clock.tick().get());
            ("one tick", "tick", [tick, degrees(step), format!("{:.2} Hz", clock.rate().get())])
        }
        None => ("one count", "count", [degrees(step), String::new(), String::new()]),
    };
    let rows: [(&str, &str, [String; 3]); 3] = [(long, short, wire), step, ("a nudge", "nudge", nudge_words)];
    for (row, (long, short, values)) in (y..).zip(rows) {
        pen.put(0, row, if narrow { short } else { long }, theme::text(theme::QUIET));
        for (x, value) in columns.into_iter().zip(&values) {
            pen.put(x, row, value, theme::text(theme::INK));
        }
    }
    let mut y = y + 3;
    for words in picked.in_scales(scene.rig).into_iter().take(if narrow { 1 } else { SCALES }) {
        pen.put(0, y, if narrow { "code" } else { "other code" }, theme::text(theme::QUIET));
        pen.put(label, y, &words, theme::text(theme::INK));
        y += 1;
    }
    y = state_row(pen, picked, y, label);
    y = health(pen, picked, y, label);
    if !picked.through.is_direct() {
        y = shaft_row(pen, picked, y, label);
    }
    y
}

/// The same pulse as both angles that it means: the servo's and the joint's.
fn shaft_row(pen: &mut Pen<'_>, picked: &Picked, y: u16, label: u16) -> u16 {
    pen.put(0, y, if label < 13 { "servo" } else { "at the servo" }, theme::text(theme::QUIET));
    let Some((scale, _)) = picked.drawn() else { return y + 1 };
    let joint = scale.angle_at(picked.wire_pulse());
    let servo = picked.through.servo_at(joint);
    let words = if label < 13 {
        format!("{:+.1}° joint {:+.1}°", servo.get(), joint.get())
    } else {
        format!("{:+.1}°, the joint {:+.1}°", servo.get() + 0.0, joint.get() + 0.0)
    };
    pen.put(label, y, &words, theme::text(theme::INK));
    y + 1
}

/// The marks with their residuals, and the fit in a sentence; gives the row behind.
fn marks(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, y: u16) -> u16 {
    let narrow = pen.width() < 40;
    let mut row = list(pen, scene, picked, y);
    let mark = scene.model.in_calibrate.mark.and_then(|place| picked.servo.marks.get(place));
    if let Some(mark) = mark.filter(|_| !narrow) {
        pen.put(0, row, &provenance(mark), theme::text(theme::QUIET));
        row += 1;
    }
    found(pen, scene, picked, row + u16::from(!narrow))
}

/// The marks, a row each, as many as have room; gives the row behind.
fn list(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, y: u16) -> u16 {
    let fit = scene.fit();
    let narrow = pen.width() < 40;
    let smart = picked.servo.kind.is_smart();
    // A mark's number in other code stands where there is room for it.
    let scale = scene.rig.scales.first().filter(|_| !smart && !narrow);
    let ends: [u16; 3] = match scale {
        _ if narrow => [10 + u16::from(smart), 18, 25],
        Some(_) => [15, 24, 33],
        None => [20, 29, 38],
    };
    let room = usize::from(pen.height().saturating_sub(y + if narrow { BESIDE_MARKS } else { 9 })).max(3);
    let count = picked.servo.marks.len();
    let head = if count > room {
        format!("{room} of {count}")
    } else {
        // *counts* begins right behind it.
        if narrow && smart { "mark" } else { "marks" }.to_owned()
    };
    pen.put(0, y, &head, theme::strong(theme::INK));
    let pulse = match picked.servo.kind.place_unit() {
        "µs" if !narrow => "pulse",
        unit => unit,
    };
    for (end, word) in ends.into_iter().zip([pulse, "angle", "off by"]) {
        pen.put_right(end, y, word, theme::text(theme::QUIET));
    }
    if let Some(scale) = scale {
        pen.put_right(pen.width(), y, &scale.name, theme::text(theme::QUIET));
    }
    if count == 0 {
        pen.put(0, y + 1, "none yet", theme::text(theme::QUIET));
        return y + 2;
    }
    // The picked one is always in sight; without one, the last ones are.
    let skipped = match scene.model.in_calibrate.mark {
        Some(place) => (place + 1).saturating_sub(room).min(count.saturating_sub(room)),
        None => count.saturating_sub(room),
    };
    let odd = fit.and_then(|f| picked.servo.odd_mark(f)).map(|(place, _)| place);
    let mut number = 0;
    let mut row = y + 1;
    for (n, mark) in picked.servo.marks.iter().enumerate() {
        if mark.seen == MarkKind::Aligned {
            number += 1;
        }
        if n < skipped || n >= skipped + room {
            continue;
        }
        let here = scene.model.in_calibrate.mark == Some(n);
        let wide = pen.width();
        pen.touch(0, row, (wide, 1), Touched::Mark(n));
        if here {
            pen.ground(0, row, wide, theme::RAISED);
        }
        let odd = odd == Some(n);
        let line = MarkRow { mark, number, fit: fit.and_then(|f| f.as_ref().ok()), here, odd };
        line.draw(pen, picked, row, ends);
        if let Some(number) = scale.and_then(|scale| scale.number(mark.place().micros())) {
            pen.put_right(wide, row, &number, theme::text(theme::QUIET));
        }
        row += 1;
    }
    row
}

/// What the marks say together, and what a test move found; gives the row behind.
fn found(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, row: u16) -> u16 {
    let fit = scene.fit();
    let mut words = fit.map_or_else(String::new, |fit| sentence(fit, picked));
    // In a single row its first part stands whole.
    if row + 1 == pen.height() && width(words.lines().next().unwrap_or_default()) > pen.width() {
        words.truncate(words.find(", ").unwrap_or(words.len()));
    }
    let broken = matches!(fit, Some(Err(NoFit::TurnsBack(_))));
    let style = theme::text(if broken { theme::FAULT } else { theme::INK });
    let mut row = pen.paragraph(0, row, &words, style);
    // A servo that is not what its data sheet says is no trouble of the fit: it has a line of its own.
    if let Some(percent) = fit.and_then(|f| f.as_ref().ok()).and_then(|f| is_off_its_sheet(f, picked)) {
        let words = format!("≠ data sheet: turns {percent:.0} % of its rated travel");
        row = pen.paragraph(0, row, &words, theme::strong(theme::INK));
    }
    let finding = scene.model.in_calibrate.finding.as_ref().filter(|(id, _)| *id == picked.servo.id);
    if let Some((_, words)) = finding {
        row = pen.paragraph(0, row, &format!("test move: {words}"), theme::text(theme::FAULT));
    }
    row
}

/// How the picked mark was seen: from which side, in which ticks, by which clock.
fn provenance(mark: &Mark) -> String {
    let ticks = mark.ticks.map(|ticks| format!("{} ticks", ticks.0));
    let tick = mark.tick_us.map(|tick| format!("of {:.3} µs", tick.get()));
    let clock = mark.oscillator_hz.map(|hz| format!("at {:.3} MHz", hz.get() / 1e6));
    let side = Some(mark.from.word().to_owned()).filter(|side| !side.is_empty());
    let read = (mark.read > 1).then(|| format!("{} times the same", mark.read));
    let known: Vec<String> = [ticks, tick, clock, side, read].into_iter().flatten().collect();
    if known.is_empty() { "typed, not observed here".to_owned() } else { format!("seen {}", known.join(" ")) }
}

/// One line of the list of marks.
struct MarkRow<'a> {
    mark: &'a Mark,
    number: usize,
    fit: Option<&'a Fit>,
    here: bool,
    /// The others do not agree with it.
    odd: bool,
}

impl MarkRow<'_> {
    fn draw(&self, pen: &mut Pen<'_>, picked: &Picked, y: u16, ends: [u16; 3]) {
        let Self { mark, number, fit, here, odd } = *self;
        let narrow = pen.width() < 40;
        let name =
            if mark.seen == MarkKind::Aligned { number.to_string() } else { mark.seen.word().to_owned() };
        let style = if here { theme::strong(theme::MARK) } else { theme::text(theme::MARK) };
        pen.put(0, y, &name, style);
        pen.put_right(ends[0], y, &format!("{:.0}", mark.place().get()), style);
        // A mark whose pulse was counted in coarser ticks keeps their error, in words, until it is taken anew.
        let error = picked.clock().and_then(|clock| mark.carried_error(clock.tick()));
        if let Some(error) = error.filter(|_| !narrow) {
            pen.put_right(ends[0] - 5, y, &format!("±{:.0}", error.get()), theme::text(theme::QUIET));
        }
        let arrow = match mark.from {
            Side::Below => "↗",
            Side::Above => "↘",
            Side::Unknown => " ",
        };
        pen.put(ends[0], y, arrow, theme::text(theme::QUIET));
        let Some(angle) = mark.angle_deg else { return };
        pen.put_right(ends[1], y, &format!("{:+.1}°", angle.get()), style);
        if mark.at == ReadAt::Joint && !narrow {
            pen.put(ends[1], y, "j", theme::text(theme::QUIET));
        }
        let (Some(fit), Some(seen)) = (fit, mark.aligned(&picked.servo.through())) else { return };
        let off = fit.off_by(&seen);
        let worst =
            off.abs().get() > 0.005 && (off.abs() - fit.worst()).abs().get() < 1e-9 && fit.points.len() > 2;
        let style = if worst { theme::strong(theme::INK) } else { theme::text(theme::INK) };
        // Nothing is neither above nor below.
        let shown = (off.get() * 100.0).round() / 100.0 + 0.0;
        let style = if odd { theme::strong(theme::FAULT) } else { style };
        let sign = if odd { "✗ " } else { "" };
        pen.put_right(ends[2], y, &format!("{sign}{shown:+.2}°"), style);
        // A bar a quarter of a degree a cell, so that the worst is seen before it is read.
        let bars = usize::from(crate::screen::pen::cell_of(off.abs().get() * 4.0).min(5));
        pen.put(ends[2] + 1, y, &"▪".repeat(bars), theme::text(theme::QUIET));
    }
}

/// How far the slope is off the sheet, in percent, when that is worth a warning.
fn is_off_its_sheet(fit: &Fit, picked: &Picked) -> Option<f64> {
    let rated = picked.servo.rated.as_ref()?.slope().gain;
    let ratio = fit.line.gain() / rated;
    (fit.ground == Ground::Measured && !(0.85..=1.15).contains(&ratio)).then_some(ratio * 100.0)
}

/// Which mark would lessen the band most, where that is worth its while: never below what a reading may be off.
fn lessened(fit: &Fit, band: Degrees, (pulse, share): (Position, f64), unit: &str) -> String {
    let least = fit.points.iter().map(|p| p.error.get()).fold(0.0, f64::max);
    let then = (band.get() * share).max(least);
    let near = format!("\na mark near {:.0} {unit} would", (pulse.get() / 10.0).round() * 10.0);
    match then / band.get() {
        share if share > 0.8 => String::new(),
        share if (0.42..0.58).contains(&share) => format!("{near} halve that"),
        _ => format!("{near} make that ±{then:.1}°"),
    }
}

/// The fit in a sentence.
fn sentence(fit: &Result<Fit, NoFit>, picked: &Picked) -> String {
    let fit = match fit {
        Ok(fit) => fit,
        Err(why) => return why.words(picked.unit()),
    };
    let unit = picked.unit();
    let line = format!("{:.2} °/100 {unit}, 0° at {:.1} {unit}", fit.line.gain() * 100.0, fit.zero().get());
    if fit.ground == Ground::Assumed {
        // An encoder's steps are as its layout says; which way it is mounted one mark cannot tell.
        let from = if picked.servo.kind.is_smart() {
            "slope from its encoder; its direction was not seen yet"
        } else {
            "slope assumed from its data sheet"
        };
        return format!("{line}\n{from}");
    }
    let (low, high) = picked.plan.guard.endpoints;
    let (a, b) = (fit.band(low), fit.band(high));
    let band = if a > b { a } else { b };
    let n = picked.servo.marks.iter().filter(|m| m.seen == MarkKind::Aligned).count();
    let sure = match (fit.s, &fit.curve) {
        (_, Curve::Cubic(_)) => format!("{n} marks, a curve through them"),
        (Some(s), _) => {
            let more = fit
                .mark_that_tells_most(low, high)
                .map_or_else(String::new, |more| lessened(fit, band, more, picked.unit()));
            format!("{n} marks scatter by s {:.2}°; 95 % sure to ±{:.1}°{more}", s.get(), band.get())
        }
        (None, _) => format!("{n} marks, sure to ±{:.1}°", band.get()),
    };
    let slack = fit.slack.map_or_else(String::new, |slack| {
        let spread = if slack.pulses > 1 {
            format!(", {:.1} to {:.1}°", slack.spread.0.get(), slack.spread.1.get())
        } else {
            String::new()
        };
        let side = picked.servo.arrive.word();
        let side = if side.is_empty() { String::new() } else { format!("; arrives {side}") };
        format!("\nslack {:.1}°{spread}{side}", slack.mean.get())
    });
    let ends = picked.plan.guard.endpoints;
    let tick = picked.clock().map(|clock| Fineness::of(&clock, picked.slope().unwrap_or(0.0), ends));
    let coarse = tick.filter(Fineness::is_coarse).map_or_else(String::new, |tick| {
        format!("\na tick turns {:.1}°: ‹fineness› shows which rate or depth would do", tick.step.get())
    });
    let with: Vec<&str> =
        picked.joint.into_iter().flat_map(Joint::servos).filter(|name| *name != picked.servo.name).collect();
    let with = if with.is_empty() { String::new() } else { format!("\nmoves only with {}", with.join(", ")) };
    format!("{line}\n{sure}{slack}{coarse}{with}")
}

/// The fit over a stretch of pulses, with its band and the marks it was made from.
fn plot_fit(plot: &mut Plot, fit: &Fit, (x0, x1): (f64, f64)) {
    let angle = |p: f64| fit.curve.angle_at(Position::new(p)).get();
    // Solid between the marks, dashed where the line is only continued.
    let (first, last) =
        fit.points.first().zip(fit.points.last()).map_or((x0, x0), |(a, b)| (a.pulse.get(), b.pulse.get()));
    let between = (0..=48u32).map(|n| first + (last - first) * f64::from(n) / 48.0);
    plot.curve(between.map(|p| (p, angle(p))), theme::INK);
    for (from, to) in [(x0, first), (last, x1)] {
        plot.dashed((from, angle(from)), (to, angle(to)), theme::INK, (2, 5));
    }
    for side in [-1.0, 1.0] {
        for step in 0..60u32 {
            let p = x0 + (x1 - x0) * f64::from(step) / 60.0;
            let edge = angle(p) + side * fit.band(Position::new(p)).get();
            let (x, y) = plot.at(p, edge);
            plot.canvas.dot(x, y, theme::QUIET);
        }
    }
    for point in &fit.points {
        plot.disc(point.pulse.get(), point.angle.get(), theme::MARK);
    }
}

/// Pulse against angle: the fit with its band, the marks, what the sheet claims, and the present place.
fn chart(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let Some((drawn, fitted)) = picked.drawn() else { return };
    // Of the servo itself: what a linkage makes of it has a drawing of its own.
    let shaft = |pulse: Position| picked.through.servo_at(drawn.angle_at(pulse));
    let (low, high) = picked.plan.guard.endpoints;
    let (x0, x1) = (low.get() - 60.0, high.get() + 60.0);
    let most = shaft(low).abs().get().max(shaft(high).abs().get());
    let top = ((most + 5.0) / 30.0).ceil() * 30.0;
    let left = 6;
    let strip = residual_rows(pen, scene);
    let high = pen.height();
    if strip > 0 {
        let wide = pen.width();
        residuals(&mut pen.part(0, high - strip, wide, strip), scene, (x0, x1), left);
    }
    let pen = &mut pen.part(0, 0, pen.width(), high - strip);
    let mut plot = Plot::new(pen.width() - left, pen.height() - 1, (x0, x1), (-top, top));
    plot.dashed((x0, 0.0), (x1, 0.0), theme::RULE, (1, 3));
    if let Some(rated) = &picked.servo.rated {
        let slope = rated.slope();
        let angle = |p: f64| (p - slope.middle.get()) * slope.gain;
        plot.dashed((x0, angle(x0)), (x1, angle(x1)), theme::QUIET, (1, 4));
    }
    if let Some(Ok(fit)) = scene.fit() {
        plot_fit(&mut plot, fit, (x0, x1));
    }
    if picked.state.engaged && fitted {
        plot.disc(picked.wire_pulse().get(), shaft(picked.wire_pulse()).get(), theme::COMMANDED);
    }
    plot.canvas.lay(pen, left, 0);
    let quiet = theme::text(theme::QUIET);
    let rows = pen.height() - 1;
    heights(pen, left, rows, &[format!("{top:+.0}°"), "0°".to_owned(), format!("{:+.0}°", -top)]);
    let legend = if fitted { "·· rated  ── fit" } else { "·· rated, no fit yet" };
    pen.put(left, rows, &format!("{x0:.0}"), quiet);
    let wide = pen.width();
    let end = format!("{x1:.0} {}", picked.unit());
    pen.put_right(wide, rows, &end, quiet);
    let middle = left + (wide - left) / 2;
    if wide >= 44 {
        pen.put_centred(middle - width(&end) / 4, rows, &fit(legend, 26), quiet);
    }
}

/// Rows for what the marks are off the fit; none where there is no room, or nothing to tell.
fn residual_rows(pen: &Pen<'_>, scene: &Scene) -> u16 {
    let fit = scene.fit().and_then(|fit| fit.as_ref().ok());
    let tells = fit.is_some_and(|fit| fit.points.len() > 2);
    if tells && pen.height() >= 10 { 3 } else { 0 }
}

/// What each point is off the fit, under the chart and in its scale, with the reading error as a band.
fn residuals(pen: &mut Pen<'_>, scene: &Scene, pulses: (f64, f64), left: u16) {
    let Some(Ok(fit)) = scene.fit() else { return };
    let top = fit.worst().get().max(1.0).ceil();
    let rows = pen.height();
    let mut plot = Plot::new(pen.width() - left, rows, pulses, (-top, top));
    plot.dashed((pulses.0, 0.0), (pulses.1, 0.0), theme::RULE, (1, 3));
    for (point, off) in fit.points.iter().zip(&fit.residuals) {
        let pulse = point.pulse.get();
        plot.line((pulse, 0.0), (pulse, off.get()), theme::QUIET);
        plot.disc(pulse, off.get(), theme::MARK);
    }
    plot.canvas.lay(pen, left, 0);
    let quiet = theme::text(theme::QUIET);
    pen.put_right(left - 1, 0, &format!("{top:+.0}°"), quiet);
    pen.put_right(left - 1, rows - 1, &format!("{:+.0}°", -top), quiet);
    pen.put(0, rows / 2, "off", quiet);
}
