//! What has a level instead of an angle, in Calibrate: a bar from end to end, what was given lately, and what it is.

use crate::screen::calibrate::place::state_row;
use crate::screen::chart::Plot;
use crate::screen::pen::{Pen, cell_of};
use crate::screen::scene::{Picked, Scene};
use crate::screen::step::{NUDGES, Nudge};
use crate::screen::{digits, theme};
use wasvolta_core::rate::{NoRates, Rates};
use wasvolta_core::rig::{Idle, Kind, Signal};
use wasvolta_core::unit::{Degrees, Position};
use wasvolta_sim::Sight;

/// Rows of the bar with its scale.
const BAR: u16 = 4;
/// Frames a second under which a dimmed lamp is seen to flicker.
const CALM_HZ: f64 = 100.0;

/// The bar, what is seen, and the last seconds.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let (wide, high) = (pen.width(), pen.height());
    bar(&mut pen.part(0, 0, wide, BAR), picked);
    legend(&mut pen.part(0, BAR + 1, wide, 1), picked);
    let top = BAR + 3;
    if high >= top + 6 {
        strip(&mut pen.part(0, top, wide, (high - top - 1).min(22)), scene, picked);
    }
}

/// The least and the greatest level.
fn ends(picked: &Picked) -> (f64, f64) {
    picked.servo.kind.levels().map_or((0.0, 100.0), |range| (range.least, range.greatest))
}

/// Where levels lie along a bar.
struct Along {
    ends: (f64, f64),
    left: u16,
    wide: u16,
}

impl Along {
    fn column(&self, level: f64) -> u16 {
        let (least, most) = self.ends;
        self.left + cell_of((level - least) / (most - least) * f64::from(self.wide - 1))
    }
}

fn bar(pen: &mut Pen<'_>, picked: &Picked) {
    // The scale's last label carries its unit: it needs room behind the end.
    let along = Along { ends: ends(picked), left: 2, wide: pen.width().saturating_sub(5).max(10) };
    let level = picked.level().filter(|_| picked.state.engaged);
    let zero = along.column(0.0);
    let at = level.map(|level| along.column(level));
    let filled = at.filter(|_| level.is_some_and(|level| level.round() != 0.0));
    let filled = filled.map(|at| zero.min(at)..=zero.max(at));
    for x in along.left..along.left + along.wide {
        let full = filled.as_ref().is_some_and(|range| range.contains(&x));
        for y in 0..2 {
            let (sign, color) = if full { ("█", theme::COMMANDED) } else { ("░", theme::RULE) };
            pen.glyph(x, y, sign, color);
        }
    }
    // Where it stands still, between its two ways.
    if along.ends.0 < 0.0 {
        pen.glyph(zero, 2, "╵", theme::INK);
    }
    if let Some(at) = at {
        pen.glyph(at, 2, "▲", theme::COMMANDED);
    }
    labels(pen, picked.servo.kind, &along);
}

fn labels(pen: &mut Pen<'_>, kind: Kind, along: &Along) {
    const NARROW: u16 = 40;
    let (least, most) = along.ends;
    for n in 0..=4u8 {
        if along.wide < NARROW && n % 2 == 1 {
            continue;
        }
        let level = least + (most - least) * f64::from(n) / 4.0;
        let text = match (kind.is_switch(), n) {
            (true, 0) => "off".to_owned(),
            (true, 4) => "on".to_owned(),
            (true, _) => continue,
            (false, 2) if kind.turns_on() => "stop".to_owned(),
            _ => kind.show(Degrees::new(level)),
        };
        pen.put_centred(along.column(level), 3, &text, theme::text(theme::QUIET));
    }
}

/// What is commanded, and in a simulated rig what an eye sees.
fn legend(pen: &mut Pen<'_>, picked: &Picked) {
    let mut x = 2;
    // In little room what an eye sees stands alone: what is commanded stands among the readings too.
    let told = picked.value(picked.wire_pulse()).filter(|_| picked.state.engaged);
    if let Some(level) = told.filter(|_| picked.look.is_none() || pen.width() >= 50) {
        x = pen.put(x, 0, &format!("▲ commanded {level}"), theme::text(theme::COMMANDED)) + 3;
    }
    let Some(look) = picked.look else { return };
    let seen = match look.sight {
        Sight::Light(percent) if picked.servo.kind.is_switch() => {
            if percent >= 50.0 { "it is on" } else { "it is off" }.to_owned()
        }
        Sight::Light(percent) => format!("lit {percent:.0} %"),
        Sight::Turning(0.0) => "it stands still".to_owned(),
        Sight::Turning(rpm) if rpm.abs() < 2.0 => format!("it creeps, {rpm:+.1} rpm"),
        Sight::Turning(rpm) => format!("{rpm:+.0} rpm"),
        Sight::Horn(angle) => format!("a horn at {angle:+.0}°: is that the right channel?"),
    };
    let seen = format!("◇ simulated: {seen}");
    pen.put(x, 0, &seen, theme::text(theme::INK));
}

/// The level of the last seconds.
fn strip(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    const SECONDS: f64 = 10.0;
    let (least, most) = ends(picked);
    let (wide, rows) = (pen.width(), pen.height() - 1);
    let left = 6;
    let now = scene.model.course.back().map_or(0.0, |moment| moment.at_s);
    let air = (most - least) * 0.04;
    let mut plot = Plot::new(wide.saturating_sub(left + 2), rows, (-SECONDS, 0.0), (least - air, most + air));
    plot.dashed((-SECONDS, 0.0), (0.0, 0.0), theme::RULE, (1, 3));
    let level = |at: Option<Position>| {
        let scale = picked.plan.scale.as_ref().zip(at);
        scale.map_or(f64::NAN, |(scale, at)| scale.angle_at(at).get() + 0.0)
    };
    let given = scene.model.course.iter().map(|moment| (moment.at_s - now, level(moment.told)));
    let given = given.filter(|(t, _)| *t >= -SECONDS);
    plot.tint(given.clone(), 0.0, theme::COMMANDED);
    plot.curve(given, theme::COMMANDED);
    plot.canvas.lay(pen, left, 0);
    for level in [most, 0.0, least] {
        let (_, y) = plot.cell(0.0, level);
        let text = picked.servo.kind.show(Degrees::new(level));
        pen.put_right(left - 1, y.min(rows - 1), &text, theme::text(theme::QUIET));
    }
    pen.put(left, rows, &format!("{SECONDS:.0} s ago"), theme::text(theme::QUIET));
    pen.put_right(wide.saturating_sub(2), rows, "now", theme::text(theme::QUIET));
}

/// The readings beside it.
pub fn readings(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let color = if picked.state.engaged { theme::COMMANDED } else { theme::QUIET };
    let level = picked.level().filter(|_| picked.state.engaged);
    let text = level.map_or_else(|| "--".to_owned(), |level| format!("{:.0}", level.round() + 0.0));
    digits::put_right(pen, 4 * digits::PITCH, 0, &text, color);
    pen.put(4 * digits::PITCH, 2, "%", theme::text(color));
    if picked.servo.kind.is_switch()
        && let Some(word) = picked.value(picked.wire_pulse()).filter(|_| level.is_some())
    {
        pen.put(4 * digits::PITCH + 3, 2, &word, theme::strong(color));
    }
    let narrow = pen.width() < 40;
    let label = if narrow { 7 } else { 13 };
    let mut y = digits::ROWS + 1;
    for (long, short, value) in
        [("on the wire", "wire", on_the_wire(picked, narrow)), ("a nudge", "nudge", nudge(scene, picked))]
    {
        pen.put(0, y, if narrow { short } else { long }, theme::text(theme::QUIET));
        pen.put(label, y, &value, theme::text(theme::INK));
        y += 1;
    }
    if let Some(words) = picked.in_scales(scene.rig).first() {
        pen.put(0, y, if narrow { "code" } else { "other code" }, theme::text(theme::QUIET));
        pen.put(label, y, words, theme::text(theme::INK));
        y += 1;
    }
    y = state_row(pen, picked, y, label) + 1;
    y = marks(pen, scene, picked, y);
    for words in about(picked) {
        if y < pen.height() {
            y = pen.paragraph(0, y, &words, theme::text(theme::QUIET)) + u16::from(!narrow);
        }
    }
}

fn on_the_wire(picked: &Picked, narrow: bool) -> String {
    let Some(clock) = picked.clock() else { return picked.wire.without().to_owned() };
    match picked.wire.ticks() {
        None => picked.wire.without().to_owned(),
        Some(ticks) if picked.servo.kind.is_accessory() => {
            format!("{} of {} ticks", ticks.0, clock.longest())
        }
        Some(ticks) if narrow => format!("{} ticks {:.0} µs", ticks.0, clock.pulse(ticks).get()),
        Some(ticks) => {
            let rate = picked
                .servo
                .rates()
                .ok()
                .map(|rates| rates.rate_at(clock.pulse(ticks) - picked.state.trim()));
            let rate = rate.map_or_else(String::new, |rate| format!("  {:+.1} rpm", rate.get() + 0.0));
            format!("{} ticks  {:.1} µs{rate}", ticks.0, clock.pulse(ticks).get())
        }
    }
}

fn nudge(scene: &Scene, picked: &Picked) -> String {
    let nudge = NUDGES.get(scene.model.nudge).copied().unwrap_or(Nudge::Tick);
    let by = picked.nudge(nudge);
    let percent = picked
        .plan
        .scale
        .as_ref()
        .map_or(0.0, |scale| (scale.slope_at(picked.wire_pulse()) * by.get()).abs());
    match picked.servo.kind.signal() {
        Signal::Switch => "on or off".to_owned(),
        Signal::Share if percent < 0.1 => "1 tick".to_owned(),
        Signal::Share => format!("{percent:.0} %"),
        Signal::Pulse | Signal::Counts => format!("{:.1} µs  {percent:.1} %", by.get()),
    }
}

/// What is known of a continuous servo's stop and rates.
fn turning(picked: &Picked) -> Vec<String> {
    let servo = picked.servo;
    let stop = servo.centre().get();
    let by = if servo.idle == Idle::Release { "no pulse" } else { "its stop pulse" };
    let mut all = Vec::new();
    match servo.band() {
        Some(band) => {
            all.push(format!(
                "Continuous: it stands still from {:.1} to {:.1} µs, n {stop:.1}, ±{:.1}; held, it gets {by}.",
                band.low.get(),
                band.high.get(),
                band.half().get()
            ));
            let ticks = picked.plan.guard.steps.whole(band.low, band.high);
            if ticks.is_err() {
                all.push(
                    "No whole tick lies in that band, so it creeps at its stop. A higher rate has finer ticks."
                        .to_owned(),
                );
            }
        }
        None => {
            all.push(format!(
                "Continuous: it stops at {stop:.0} µs, also when held or when its sequence ends."
            ));
        }
    }
    if picked.state.trim() != Position::ZERO {
        all.push(format!(
            "Trimmed by {:+.1} µs until the program ends; ‹trim› can keep that for good.",
            picked.state.trim().get()
        ));
    }
    match servo.rates() {
        Ok(rates) => all.extend([true, false].into_iter().filter_map(|longer| fastest(&rates, longer))),
        Err(NoRates::None) => {}
        Err(why) => all.push(why.to_string()),
    }
    all
}

/// The fastest it was seen to turn one way, and from which pulse on it turns no faster, where that was seen.
fn fastest(rates: &Rates, longer: bool) -> Option<String> {
    let rate = rates.fastest(longer).get();
    (rate != 0.0).then_some(())?;
    let way = if longer { "longer" } else { "shorter" };
    Some(match rates.saturation(longer) {
        Some(pulse) => format!("{rate:+.1} rpm at most with {way} pulses, from {:.0} µs on.", pulse.get()),
        None => format!("{rate:+.1} rpm timed with {way} pulses; further out it may turn faster yet."),
    })
}

/// The marks of a continuous servo, by pulse.
fn marks(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked, mut y: u16) -> u16 {
    if picked.servo.marks.is_empty() {
        return y;
    }
    pen.put(0, y, "marks", theme::strong(theme::INK));
    for (n, mark) in picked.servo.marks.iter().enumerate() {
        y += 1;
        if y >= pen.height() {
            break;
        }
        let here = scene.model.in_calibrate.mark == Some(n);
        if here {
            pen.ground(0, y, pen.width(), theme::RAISED);
        }
        let style = if here { theme::strong(theme::MARK) } else { theme::text(theme::MARK) };
        pen.put(0, y, mark.seen.word(), style);
        let narrow = pen.width() < 40;
        let (end, decimals) = if narrow { (14, 0) } else { (18, 1) };
        pen.put_right(end, y, &format!("{:.decimals$} µs", mark.place().get()), style);
        let what =
            mark.rpm.map_or_else(|| mark.from.word().to_owned(), |rate| format!("{:+.1} rpm", rate.get()));
        let color = if mark.rpm.is_some() { theme::INK } else { theme::QUIET };
        pen.put(end + if narrow { 1 } else { 2 }, y, &what, theme::text(color));
    }
    y + 2
}

/// What it is, in sentences.
fn about(picked: &Picked) -> Vec<String> {
    let mut all = Vec::new();
    let hertz = picked.clock().map_or(0.0, |clock| clock.rate().get());
    match picked.servo.kind.signal() {
        Signal::Share => {
            all.push("Dimmer: a share of each frame.".to_owned());
            if picked.board.chip.row().sets_frame_rate && hertz < CALM_HZ {
                all.push(format!(
                    "At {hertz:.0} frames a second a dimmed lamp flickers, most of all in a camera; a board of its own \
                     could run at 200 Hz."
                ));
            }
        }
        Signal::Switch => {
            all.push("On or off, nothing between: a relay never chatters.".to_owned());
        }
        Signal::Pulse | Signal::Counts => {
            all.extend(turning(picked));
            all.push(match picked.servo.arms() {
                Some((pulse, time)) => {
                    format!("It must see {:.0} µs for {:.1} s before it follows.", pulse.get(), time.get())
                }
                None => "It follows at once; ‹arming› is for speed controllers.".to_owned(),
            });
        }
    }
    if picked.servo.kind.is_accessory() {
        all.push(
            "A pin gives a signal, not power: a transistor or a driver must switch what draws more."
                .to_owned(),
        );
    }
    if let Some(amps) = picked.servo.draw_a {
        all.push(format!("It draws {:.2} A at most.", amps.get()));
    }
    all
}
