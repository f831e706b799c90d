//! The protractor: limits as a heavy arc, endpoints as stops, marks as pins, the needle where it is
//! commanded, and in a simulated rig the horn as an eye sees it.
//!
//! Zero is up and positive angles turn to the right, unless the joint says how its maker sees it.

use crate::screen::canvas::{Canvas, DOTS};
use crate::screen::dialog::{Dialog, Scale};
use crate::screen::pen::{Pen, cell_of};
use crate::screen::scene::{Picked, Scene};
use crate::screen::theme;
use crate::screen::touch::{Needle, Touched};
use ratatui::layout::Rect;
use ratatui::style::Color;
use wasvolta_core::rig::{Joint, MarkKind};
use wasvolta_core::scale::Scale as Angles;
use wasvolta_core::stage::mix::Follow;
use wasvolta_core::stage::{Owner, Stand};
use wasvolta_core::unit::Degrees;

struct Dial {
    canvas: Canvas,
    centre: (f64, f64),
    radius: f64,
    /// How far the scale reaches to either side.
    reach: f64,
    /// Where 0° points, clockwise from straight up.
    mounted: f64,
    /// 1 where angles rise clockwise, −1 where anticlockwise.
    sense: f64,
}

/// Columns kept free at either side for the labels; in little room the labels are shorter.
const fn side(columns: u16) -> u16 {
    if columns < SPACIOUS { 1 } else { 5 }
}

/// From so many columns on, labels carry sign and unit.
const SPACIOUS: u16 = 50;

impl Dial {
    fn new(columns: u16, rows: u16, reach: f64, joint: Option<&Joint>) -> Self {
        let mounted = joint.map_or(0.0, |joint| joint.mounted_deg.get());
        let sense = if joint.is_some_and(|joint| joint.anticlockwise) { -1.0 } else { 1.0 };
        let canvas = Canvas::new(columns, rows);
        let (wide, high) = canvas.size();
        let sides = f64::from(side(columns) * DOTS.0);
        // Over a half disc the hub stays inside: its circle needs room under the base line.
        let below = match reach {
            // Turned about, any side may be the lowest.
            _ if mounted.abs() > 1.0 => 1.15,
            r if r <= 90.0 => 0.2,
            r if r <= 135.0 => 0.85,
            _ => 1.15,
        };
        let radius = ((wide / 2.0 - sides) / 1.16).min((high - 4.0) / (1.16 + below)).max(8.0);
        let spare = (high - 4.0 - radius * (1.16 + below)).max(0.0) / 2.0;
        let centre = (wide / 2.0, (4.0 + spare + radius * 1.14).floor());
        Self { canvas, centre, radius, reach, mounted, sense }
    }

    /// An angle as it is drawn: clockwise from straight up, −180 up to 180°.
    fn drawn(&self, degrees: f64) -> f64 {
        let turned = self.mounted + self.sense * degrees;
        if turned.abs() <= 180.0 { turned } else { turned - 360.0 * (turned / 360.0).round() }
    }

    fn at(&self, degrees: f64, share: f64) -> (f64, f64) {
        let angle = self.drawn(degrees).to_radians();
        (self.centre.0 + angle.sin() * share * self.radius, self.centre.1 - angle.cos() * share * self.radius)
    }

    fn ray(&mut self, degrees: f64, from: f64, to: f64, color: Color) {
        let (a, b) = (self.at(degrees, from), self.at(degrees, to));
        self.canvas.line(a, b, color);
    }

    /// A ray some dots wide.
    fn needle(&mut self, degrees: f64, from: f64, to: f64, color: Color) {
        self.stroke(degrees, (from, to), &[-0.8, 0.0, 0.8], color);
    }

    /// Rays side by side, so many dots off the middle one.
    fn stroke(&mut self, degrees: f64, (from, to): (f64, f64), offsets: &[f64], color: Color) {
        let across = self.drawn(degrees).to_radians();
        for &offset in offsets {
            let (dx, dy) = (across.cos() * offset, across.sin() * offset);
            let (a, b) = (self.at(degrees, from), self.at(degrees, to));
            self.canvas.line((a.0 + dx, a.1 + dy), (b.0 + dx, b.1 + dy), color);
        }
    }

    fn arc(&mut self, from: f64, to: f64, share: f64, color: Color) {
        let step = 40.0 / self.radius;
        let mut degrees = from;
        while degrees <= to {
            let (x, y) = self.at(degrees, share);
            self.canvas.dot(x, y, color);
            degrees += step;
        }
    }

    /// Where it is in the window.
    fn needle_in(&self, place: Rect) -> Needle {
        let axis = (
            f64::from(place.x) + self.centre.0 / f64::from(DOTS.0),
            f64::from(place.y) + self.centre.1 / f64::from(DOTS.1),
        );
        Needle { axis, mounted: self.mounted, sense: self.sense }
    }

    /// An arc of dashes: what a data sheet says, and no mark has shown.
    fn dashes(&mut self, from: f64, to: f64, color: Color) {
        const DASH: f64 = 3.0;
        let mut at = from;
        while at < to {
            for ring in 0..2 {
                let share = 0.985 - f64::from(ring) * 0.9 / self.radius;
                self.arc(at, (at + DASH).min(to), share, color);
            }
            at += 2.0 * DASH;
        }
    }

    fn cell(&self, degrees: f64, share: f64) -> (u16, u16) {
        let (x, y) = self.at(degrees, share);
        (cell_of((x / f64::from(DOTS.0)).floor()), cell_of((y / f64::from(DOTS.1)).floor()))
    }
}

/// Draws the protractor over the whole pen.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, picked: &Picked) {
    let Some((line, fitted)) = picked.drawn() else {
        return without_angles(pen, picked);
    };
    let mut dial = Dial::new(pen.width(), pen.height(), reach(picked, &line), picked.joint);
    scale(&mut dial);
    free_arc(&mut dial, picked, &line, fitted);
    if let Some(angle) = seen_joint(picked) {
        self::horn(&mut dial, angle);
    }
    if let Some(angle) = input_angle(scene, picked) {
        pointer(&mut dial, angle);
    }
    needles(&mut dial, scene, picked, &line);
    measured(&mut dial, picked, &line);
    dial.canvas.lay(pen, 0, 0);
    let room = (pen.width(), pen.height());
    pen.touch(0, 0, room, Touched::Needle(dial.needle_in(pen.place())));
    labels(pen, &dial);
    if fitted {
        pins(pen, &dial, picked);
    }
}

/// Where an eye sees the joint: behind a linkage at what the rod moves, else at the horn.
fn seen_joint(picked: &Picked) -> Option<f64> {
    let look = picked.look?;
    look.joint_deg.filter(|_| !picked.through.is_direct()).or_else(|| {
        let horn = look.angle_deg()?;
        // Of what a gear turns there is nothing to see but the horn.
        Some(picked.through.joint_at(Degrees::new(horn)).get())
    })
}

fn without_angles(pen: &mut Pen<'_>, picked: &Picked) {
    let (x, y) = (pen.width() / 2, pen.height() / 2);
    pen.put_centred(x, y, "no angles yet", theme::text(theme::QUIET));
    pen.put_centred(x, y + 1, "two marks make a fit", theme::text(theme::QUIET));
    if let Some(angle) = picked.look.and_then(|look| look.angle_deg()) {
        let words = format!("horn {:+.0}°, simulated", angle + 0.0);
        pen.put_centred(x, y + 3, &words, theme::text(theme::INK));
    }
}

/// A half disc, or more where the servo turns further.
fn reach(picked: &Picked, line: &Angles) -> f64 {
    let (low, high) = picked.plan.guard.endpoints;
    let most = line.angle_at(low).abs().get().max(line.angle_at(high).abs().get());
    match most {
        m if m <= 95.0 => 90.0,
        m if m <= 140.0 => 135.0,
        _ => 180.0,
    }
}

fn scale(dial: &mut Dial) {
    let reach = dial.reach;
    dial.arc(-reach, reach, 1.0, theme::RULE);
    for tens in (-18..=18i32).filter(|tens| f64::from(tens * 10).abs() <= reach) {
        let degrees = f64::from(tens * 10);
        if tens % 3 == 0 {
            dial.ray(degrees, 1.05, 1.12, theme::QUIET);
        } else {
            let (x, y) = dial.at(degrees, 1.06);
            dial.canvas.dot(x, y, theme::QUIET);
        }
    }
}

/// Heavy where it may go; the endpoints as stops across the arc.
fn free_arc(dial: &mut Dial, picked: &Picked, line: &Angles, fitted: bool) {
    let (low, high) = picked.plan.guard.free();
    let (a, b) = ordered(line.angle_at(low), line.angle_at(high));
    let (a, b) = (a.max(-180.0), b.min(180.0));
    if fitted {
        for ring in 0..4 {
            dial.arc(a, b, 0.985 - f64::from(ring) * 0.9 / dial.radius, theme::INK);
        }
    } else {
        dial.dashes(a, b, theme::QUIET);
    }
    let (low, high) = picked.plan.guard.endpoints;
    for endpoint in [line.angle_at(low).get(), line.angle_at(high).get()] {
        if endpoint.abs() <= 180.0 {
            dial.stroke(endpoint, (0.88, 1.09), &[-0.5, 0.5], theme::FAULT);
        }
    }
}

fn ordered(a: Degrees, b: Degrees) -> (f64, f64) {
    (a.get().min(b.get()), a.get().max(b.get()))
}

/// The horn's outline, seen from above: a hub and an arm that narrows.
fn horn(dial: &mut Dial, degrees: f64) {
    let hub = 0.16;
    let step = 40.0 / dial.radius;
    let mut around = 25.0;
    while around <= 335.0 {
        let (x, y) = dial.at(degrees + around, hub);
        dial.canvas.dot(x, y, theme::INK);
        around += step * 4.0;
    }
    for side in [-1.0, 1.0] {
        let from = dial.at(degrees + 25.0 * side, hub);
        let to = dial.at(degrees + 4.5 * side, 0.62);
        dial.canvas.line(from, to, theme::INK);
        let tip = dial.at(degrees, 0.66);
        dial.canvas.line(to, tip, theme::INK);
    }
    let centre = dial.centre;
    for (dx, dy) in [(0.0, 0.0), (1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0)] {
        dial.canvas.dot(centre.0 + dx, centre.1 + dy, theme::QUIET);
    }
}

/// Where its input wants it, as a hollow triangle outside the arc.
fn pointer(dial: &mut Dial, degrees: f64) {
    let tip = dial.at(degrees, 1.02);
    let (left, right) = (dial.at(degrees - 3.2, 1.15), dial.at(degrees + 3.2, 1.15));
    for (a, b) in [(tip, left), (tip, right), (left, right)] {
        dial.canvas.line(a, b, theme::INPUT);
    }
}

fn input_angle(scene: &Scene, picked: &Picked) -> Option<f64> {
    let state = |follow: &Follow| scene.model.snapshot.mappings.get(follow.mapping);
    let moves = |follow: &&Follow| state(follow).is_some_and(|state| state.stand == Stand::Moves);
    let follow = picked.plan.follows.iter().find(moves)?;
    follow.along.angle(state(follow)?.value)
}

fn needles(dial: &mut Dial, scene: &Scene, picked: &Picked, line: &Angles) {
    match &scene.model.dialog {
        Some(Dialog::Engage { dial: asked, scale: Scale::Fitted | Scale::Rated, .. }) => {
            hollow(dial, asked.value);
        }
        Some(Dialog::Mark { dial: asked, .. } | Dialog::Limit { dial: asked, .. }) => {
            commanded(dial, picked, line);
            dial.ray(asked.value, 0.7, 1.12, theme::MARK);
        }
        _ => commanded(dial, picked, line),
    }
}

fn commanded(dial: &mut Dial, picked: &Picked, line: &Angles) {
    if picked.state.owner == Owner::Nobody && !picked.state.engaged {
        return;
    }
    let angle = line.angle_at(picked.wire_pulse()).get();
    dial.needle(angle, 0.3, 0.93, theme::COMMANDED);
}

/// Where it says that it is: a short needle at the rim.
fn measured(dial: &mut Dial, picked: &Picked, line: &Angles) {
    if let Some(at) = picked.measured() {
        dial.needle(line.angle_at(at).get(), 0.76, 1.04, theme::MEASURED);
    }
}

/// The needle that is tilted before the first pulse.
fn hollow(dial: &mut Dial, degrees: f64) {
    let tip = dial.at(degrees, 0.93);
    for side in [-1.0, 1.0] {
        let from = dial.at(degrees + 7.0 * side, 0.3);
        dial.canvas.line(from, tip, theme::COMMANDED);
    }
}

fn labels(pen: &mut Pen<'_>, dial: &Dial) {
    let brief = pen.width() < SPACIOUS;
    let style = theme::text(theme::QUIET);
    // −180° and 180° are one place; it is labelled once.
    for degrees in (-5..=6i32).map(|n| f64::from(n * 30)).filter(|d| d.abs() <= dial.reach) {
        let text = match degrees {
            0.0 => "0°".to_owned(),
            180.0 => "180°".to_owned(),
            d if brief && d.abs() < 90.0 => format!("{:.0}", d.abs()),
            d => format!("{d:+.0}°"),
        };
        let (x, y) = dial.cell(degrees, 1.17);
        let drawn = dial.drawn(degrees);
        if brief && dial.reach <= 90.0 && drawn.abs() >= 90.0 {
            // Beside the scale there is no room: under its ends.
            let (x, y) = dial.cell(degrees, 1.0);
            pen.put_centred(x, y + 1, &text, style);
        } else if drawn.abs() < 15.0 {
            pen.put_centred(x, y.saturating_sub(1), &text, style);
        } else if drawn.abs() > 165.0 {
            pen.put_centred(x, y, &text, style);
        } else if drawn < 0.0 {
            pen.put_right(x + 1, y, &text, style);
        } else {
            pen.put(x, y, &text, style);
        }
    }
}

/// Marks by their numbers, where they were seen.
fn pins(pen: &mut Pen<'_>, dial: &Dial, picked: &Picked) {
    let aligned = picked.servo.marks.iter().filter(|m| m.seen == MarkKind::Aligned);
    for (number, mark) in (1..).zip(aligned) {
        let Some(seen) = mark.aligned(&picked.servo.through()) else { continue };
        let angle = picked.through.joint_at(seen.angle);
        let (x, y) = dial.cell(angle.get(), 0.84);
        pen.put(x, y, &format!("{number}"), theme::strong(theme::MARK));
    }
}

/// The legend in words: what is where.
pub fn legend(pen: &mut Pen<'_>, y: u16, scene: &Scene, picked: &Picked) {
    let mut x = 0;
    let mut item = |pen: &mut Pen<'_>, sign: &str, words: &str, color: Color| {
        if x + crate::screen::pen::width(words) + 2 <= pen.width() {
            x = pen.put(x, y, &format!("{sign} {words}"), theme::text(color)) + 3;
        }
    };
    let commanded = picked.state.engaged.then(|| match picked.angle() {
        Some(angle) => format!("commanded {:+.1}°", angle.get() + 0.0),
        None => format!("commanded {}", picked.at(picked.wire_pulse())),
    });
    let horn = picked.look.and_then(|look| {
        let buzz = match (look.buzzes, look.twitches) {
            (true, _) => ", it buzzes",
            (_, true) => ", it twitches",
            _ => "",
        };
        let joint = look.joint_deg.map_or_else(String::new, |joint| format!(", joint {:+.0}°", joint + 0.0));
        let horn = look.angle_deg()? + 0.0;
        Some(if pen.width() < 36 && !(joint.is_empty() && buzz.is_empty()) {
            format!("simulated {horn:+.0}°{joint}{buzz}")
        } else {
            format!("horn {horn:+.0}°{joint}, simulated{buzz}")
        })
    });
    // What is commanded stands among the readings too; what an eye sees stands only here.
    let measured = picked
        .measured()
        .zip(picked.drawn())
        .map(|(at, (line, _))| format!("measured {:+.1}°", line.angle_at(at).get() + 0.0));
    let mut items =
        [("━", commanded, theme::COMMANDED), ("╸", measured, theme::MEASURED), ("◇", horn, theme::INK)];
    if pen.width() < SPACIOUS {
        items.reverse();
    }
    for (sign, words, color) in items {
        if let Some(words) = words {
            item(pen, sign, &words, color);
        }
    }
    if let Some(angle) = input_angle(scene, picked) {
        item(pen, "▽", &format!("input {angle:+.1}°"), theme::INPUT);
    }
    item(pen, "▐", "endpoints", theme::FAULT);
}
