//! The linkage between a servo and its joint, in true scale where the paper has the room: at both ends of the travel
//! and between, with what one turns the other.

use crate::calibration::{BODY, Column, MARGIN, SMALL, degrees, head};
use crate::list::{Align, List, Point, Stroke, Tone, arc, at, dashed, solid};
use crate::{NoSheet, Subject};
use wasvolta_core::linkage::{Bound, Linked, Transmission};
use wasvolta_core::rig::{Ends, Servo};
use wasvolta_core::unit::{Degrees, Position};

/// Where the drawing begins under the head, and how far it may reach down.
const TOP: f64 = 40.0;
const TALL: f64 = 110.0;
/// Rows of the table.
const STEPS: i32 = 6;

/// The linkage with the travel that it is used over.
struct Drawn<'a> {
    servo: &'a Servo,
    through: Transmission,
    linked: &'a Linked,
    /// The shaft's angles at the endpoints, the lesser first; what it can be used over where there is no fit.
    span: (Degrees, Degrees),
    /// Paper for a millimetre of the mechanism.
    scale: f64,
    /// The shaft on the paper.
    shaft: Point,
}

impl Drawn<'_> {
    fn place(&self, (x, y): (f64, f64)) -> Point {
        at(self.shaft.x + x * self.scale, self.shaft.y - y * self.scale)
    }

    fn position(&self, list: &mut List, servo: Degrees, stroke: impl Fn(f64) -> Stroke) {
        let standing = self.linked.standing(servo);
        let [tip, arm, axis] = [standing.tip, standing.arm, standing.axis].map(|p| self.place(p));
        list.line(&[self.shaft, tip], stroke(0.9));
        list.line(&[tip, arm], stroke(0.4));
        list.line(&[axis, arm], stroke(0.9));
        for pin in [tip, arm] {
            list.circle(pin, 0.8, Some(solid(Tone::Ink, 0.3)), Some(Tone::Paper));
        }
    }
}

/// Draws the sheet.
///
/// # Errors
/// When the servo is not there, has no angles, or turns its joint without a linkage.
pub fn draw(subject: &Subject<'_>) -> Result<List, NoSheet> {
    let servo = subject.turning()?;
    let through = subject.rig.through(servo);
    let Some(linked) = through.linkage() else {
        return Err(NoSheet::NoLinkage { servo: servo.name.clone() });
    };
    let (wide, high) = subject.paper.size_mm();
    let span = span(servo, linked);
    let (scale, shaft) = fitted(linked, (wide - 2.0 * MARGIN - 20.0, TALL - 14.0));
    let shaft = at(MARGIN + 10.0 + shaft.0, TOP + 7.0 + shaft.1);
    let drawn = Drawn { servo, through, linked, span, scale, shaft };
    let mut list = List::new(&format!("{}: linkage", servo.name), (wide, high));
    let how =
        if (scale - 1.0).abs() < 1e-9 { "true scale".to_owned() } else { format!("scale {scale:.2} : 1") };
    head(&mut list, subject, &format!("linkage, {how}"));
    mechanism(&mut list, &drawn);
    let right = list.size.0 - MARGIN;
    table(&mut list, &drawn, TOP + TALL + 8.0);
    facts(&mut list, &drawn, at(right / 2.0 + 20.0, TOP + TALL + 8.0), right);
    crate::bar::draw(&mut list, at(MARGIN, high - MARGIN - 4.0));
    Ok(list)
}

/// The shaft's angles that the endpoints leave, as far as the linkage can be used.
fn span(servo: &Servo, linked: &Linked) -> (Degrees, Degrees) {
    let (least, most) = linked.usable();
    let Ok(fit) = servo.fit() else { return (least, most) };
    let Ends { low, high } = servo.ends();
    let (a, b) = (fit.curve.angle_at(low), fit.curve.angle_at(high));
    let (a, b) = if a < b { (a, b) } else { (b, a) };
    (a.within(least, most), b.within(least, most))
}

/// How large it can be drawn, at most in true scale, and where its shaft is then in the room.
fn fitted(linked: &Linked, (wide, high): (f64, f64)) -> (f64, (f64, f64)) {
    const LOOKS: u32 = 60;
    let (low, most) = linked.usable();
    let (mut least, mut greatest) = ((0.0f64, 0.0f64), (0.0f64, 0.0f64));
    for n in 0..=LOOKS {
        let standing = linked.standing(low + (most - low) * (f64::from(n) / f64::from(LOOKS)));
        for (x, y) in [standing.tip, standing.arm, standing.axis] {
            least = (least.0.min(x), least.1.min(y));
            greatest = (greatest.0.max(x), greatest.1.max(y));
        }
    }
    let (across, tall) = (greatest.0 - least.0, greatest.1 - least.1);
    let scale = (wide / across).min(high / tall).min(1.0);
    let left = (wide - across * scale) / 2.0 - least.0 * scale;
    (scale, (left, (high - tall * scale) / 2.0 + greatest.1 * scale))
}

fn mechanism(list: &mut List, drawn: &Drawn<'_>) {
    let (low, high) = drawn.linked.usable();
    let horn = drawn.linked.bars().horn_mm.get() * drawn.scale;
    // Directions on paper are clockwise from straight up.
    let turned = |servo: Degrees| 90.0 - (servo + drawn.linked.bars().horn_at_deg).get();
    list.line(&arc(drawn.shaft, horn, turned(high), turned(low)), dashed(Tone::Quiet, 0.25, 0.6, 1.0));
    let (from, to) = drawn.span;
    list.line(&arc(drawn.shaft, horn, turned(to), turned(from)), solid(Tone::Ink, 1.0));
    let (low, high) = drawn.linked.closes();
    for (end, bound) in [(low, drawn.linked.bounds().0), (high, drawn.linked.bounds().1)] {
        if bound != Bound::HalfTurn {
            let ray = [0.75, 1.3].map(|share| drawn.shaft.towards(turned(end), horn * share));
            list.line(&ray, dashed(Tone::Limit, 0.5, 2.4, 1.0));
        }
    }
    let axis = drawn.place(drawn.linked.standing(Degrees::ZERO).axis);
    list.line(&[drawn.shaft, axis], dashed(Tone::Quiet, 0.2, 2.0, 1.4));
    for end in [from, to] {
        drawn.position(list, end, |width| dashed(Tone::Quiet, width, 1.6, 1.0));
    }
    drawn.position(list, Degrees::ZERO.within(from, to), |width| solid(Tone::Ink, width));
    for (place, word) in [(drawn.shaft, "servo"), (axis, "joint")] {
        list.circle(place, 1.6, Some(solid(Tone::Ink, 0.5)), Some(Tone::Paper));
        list.text(at(place.x, place.y + 6.0), SMALL, Tone::Quiet, Align::Middle, word);
    }
}

/// Heads and right edges of the table, in mm from the margin.
const COLUMNS: [(&str, f64); 4] =
    [("servo", 14.0), ("joint", 30.0), ("a degree turns", 54.0), ("rod on arm", 74.0)];
/// The right edge of the places that the servo is told, behind them.
const PLACES: f64 = 94.0;

fn table(list: &mut List, drawn: &Drawn<'_>, top: f64) {
    list.text(at(MARGIN, top), BODY, Tone::Ink, Align::Left, "Servo angle and joint angle");
    let columns = || COLUMNS.into_iter().chain([(drawn.servo.kind.place_head(), PLACES)]);
    for (word, edge) in columns() {
        list.text(at(MARGIN + edge, top + 5.5), SMALL, Tone::Quiet, Align::Right, word);
    }
    list.line(&[at(MARGIN, top + 6.9), at(MARGIN + 96.0, top + 6.9)], solid(Tone::Rule, 0.2));
    let fit = drawn.servo.fit().ok();
    let (from, to) = drawn.span;
    for n in 0..=STEPS {
        let servo = from + (to - from) * (f64::from(n) / f64::from(STEPS));
        let y = top + 11.0 + 4.6 * f64::from(n);
        let pulse: Option<Position> = fit.as_ref().map(|fit| fit.curve.pulse_at(servo));
        let cells = [
            format!("{}°", crate::trim::signed(servo.get(), 1)),
            format!("{}°", crate::trim::signed(drawn.through.joint_at(servo).get(), 1)),
            format!("{}°", crate::trim::signed(drawn.through.ratio_at(servo), 2)),
            format!("{:.0}°", drawn.linked.transmission_angle(servo).get()),
            pulse.map_or_else(|| "no fit".to_owned(), |pulse| format!("{:.1}", pulse.get())),
        ];
        let tone = if drawn.through.caution(servo).is_some() { Tone::Limit } else { Tone::Ink };
        for ((_, edge), cell) in columns().zip(&cells) {
            list.text(at(MARGIN + edge, y), BODY, tone, Align::Right, cell);
        }
    }
}

fn facts(list: &mut List, drawn: &Drawn<'_>, start: Point, right: f64) {
    let mut column = Column { list, start, right };
    let bars = drawn.linked.bars();
    column.head("As it is built");
    for (word, mm) in
        [("horn", bars.horn_mm), ("rod", bars.rod_mm), ("arm", bars.arm_mm), ("axes apart", bars.pivots_mm)]
    {
        column.fact(word, &format!("{} mm", crate::trim::number(mm.get(), 2)));
    }
    let horn_at = format!(
        "{}° to the line between the axes, the servo at 0°",
        crate::trim::number(bars.horn_at_deg.get(), 1)
    );
    column.fact("horn at", &horn_at);
    column.fact("arm", bars.branch.word());
    column.gap();
    column.head("Usable range");
    let (low, high) = drawn.linked.closes();
    for (end, bound) in [(low, drawn.linked.bounds().0), (high, drawn.linked.bounds().1)] {
        let why = match bound {
            Bound::TurningPoint => "horn and rod line up, the joint turns back",
            Bound::Reach => "rod and arm line up, the rod reaches no further",
            Bound::HalfTurn => "half a turn",
        };
        column.fact("to servo", &format!("{}: {why}", degrees(end.get())));
    }
    let (from, to) = drawn.span;
    let awkward = [from, to].into_iter().filter_map(|end| drawn.through.caution(end));
    for caution in awkward.take(2) {
        column.fact("at an end", &caution.to_string());
    }
}
