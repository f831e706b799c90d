//! The protractor: a scale in true size to lay under the horn, with a hole for the spline.
//!
//! Zero is up, and positive angles turn clockwise as one looks at the horn, as on the screen. It needs no
//! mark: it is what marks are read against.

use crate::calibration::{BODY, MARGIN, SMALL, degrees, head};
use crate::list::{Align, List, Point, Tone, arc, at, dashed, solid};
use crate::{NoSheet, Subject};
use wasvolta_core::curve::Curve;
use wasvolta_core::diagnose;
use wasvolta_core::linkage::Transmission;
use wasvolta_core::range;
use wasvolta_core::rig::{Ends, Joint, Servo};
use wasvolta_core::unit::{Degrees, Position};

/// From which side the horn is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum SeenFrom {
    /// The side of the horn: positive angles turn clockwise.
    #[default]
    Horn,
    /// Behind the servo: everything is mirrored.
    Back,
}

/// What the protractor is made for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fitting {
    /// From the spline's middle to the horn's tip.
    pub horn_mm: f64,
    /// The hole to cut for the spline.
    pub hole_mm: f64,
    /// The side one looks from.
    pub seen_from: SeenFrom,
    /// Whose angles it shows.
    pub under: Under,
}

/// What it is laid under.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Under {
    /// The servo's horn.
    #[default]
    Horn,
    /// The arm or wheel behind a gear or a linkage, about its axis.
    Joint,
}

impl Default for Fitting {
    fn default() -> Self {
        Self { horn_mm: 25.0, hole_mm: 8.0, seen_from: SeenFrom::Horn, under: Under::Horn }
    }
}

/// The scale begins this far beyond the horn's tip.
const CLEAR: f64 = 3.0;
/// Ticks and their numbers outside the scale's edge, and the arc of limits inside it.
const RING: f64 = 13.0;
pub use crate::bar::BAR_MM;
/// What stands above and below the disc: head and texts.
const ABOVE: f64 = 22.0;
const BELOW: f64 = 62.0;

/// The scale's geometry.
struct Disc {
    centre: Point,
    /// Where ticks begin.
    edge: f64,
    /// 1, or −1 when mirrored.
    sense: f64,
    /// The scale's ends in degrees.
    ends: (f64, f64),
}

impl Disc {
    fn place(&self, angle: f64, radius: f64) -> Point {
        self.centre.towards(self.sense * angle, radius)
    }

    /// How far it reaches below its middle: a whole circle as far as upwards, a half disc hardly.
    fn below(&self) -> f64 {
        let (a, b) = self.ends;
        let reach = |angle: f64| -libm::cos(angle.to_radians()) * (self.edge + RING);
        reach(a).max(reach(b)).max(self.edge * 0.4)
    }

    fn ray(&self, angle: f64, from: f64, to: f64) -> [Point; 2] {
        [self.place(angle, from), self.place(angle, to)]
    }
}

/// Draws the sheet.
///
/// # Errors
/// When the servo is not there, a length is out of its range, or the paper is too small for the horn.
pub fn draw(subject: &Subject<'_>, fitting: &Fitting) -> Result<List, NoSheet> {
    let servo = subject.turning()?;
    range::HORN.check(fitting.horn_mm)?;
    range::HOLE.check(fitting.hole_mm)?;
    let joint = subject.rig.joint_of(&servo.name);
    let drawn = Drawn { servo, joint, through: subject.rig.through(servo), under: fitting.under };
    let (wide, high) = subject.paper.size_mm();
    let edge = fitting.horn_mm.max(fitting.hole_mm) + CLEAR;
    let disc = Disc { centre: at(0.0, 0.0), edge, sense: sense(fitting, joint), ends: drawn.ends() };
    let (up, down) = (edge + RING, disc.below());
    let across = ("across", 2.0 * up, wide - 2.0 * MARGIN);
    let along = ("down", up + down, high - 2.0 * MARGIN - ABOVE - BELOW);
    for (way, needs_mm, has_mm) in [across, along] {
        if needs_mm > has_mm {
            let (horn_mm, paper) = (fitting.horn_mm, subject.paper.name());
            return Err(NoSheet::TooSmall { horn_mm, way, needs_mm, paper, has_mm });
        }
    }
    let mut list = List::new(&format!("{}: protractor", servo.name), (wide, high));
    head(&mut list, subject, "protractor, true scale");
    let centre = at(wide / 2.0, MARGIN + ABOVE + up);
    let disc = Disc { centre, ..disc };
    limits(&mut list, &disc, &drawn);
    ticks(&mut list, &disc);
    endpoints(&mut list, &disc, &drawn);
    horn(&mut list, &disc, fitting);
    marks(&mut list, &disc, &drawn);
    let below = centre.y + down + 10.0;
    legend(&mut list, &drawn, fitting, below);
    crate::bar::draw(&mut list, at(MARGIN, high - MARGIN - 4.0));
    Ok(list)
}

fn sense(fitting: &Fitting, joint: Option<&Joint>) -> f64 {
    let turned = fitting.under == Under::Joint && joint.is_some_and(|joint| joint.anticlockwise);
    if (fitting.seen_from == SeenFrom::Back) == turned { 1.0 } else { -1.0 }
}

/// What the angles are of.
struct Drawn<'a> {
    servo: &'a Servo,
    joint: Option<&'a Joint>,
    through: Transmission,
    under: Under,
}

impl Drawn<'_> {
    /// An angle of the shaft, as the one that is drawn.
    fn of_shaft(&self, angle: Degrees) -> f64 {
        match self.under {
            Under::Horn => angle.get(),
            Under::Joint => self.through.joint_at(angle).get(),
        }
    }

    /// An angle of the joint, as the one that is drawn.
    fn of_joint(&self, angle: Degrees) -> f64 {
        match self.under {
            Under::Horn => self.through.servo_at(angle).get(),
            Under::Joint => angle.get(),
        }
    }

    /// The angle at a pulse, and whether it was seen or only rated.
    fn at(&self, pulse: Position) -> Option<(f64, bool)> {
        let (curve, seen) = line(self.servo)?;
        Some((self.of_shaft(curve.angle_at(pulse)), seen))
    }

    /// The angles that were read, as those that are drawn.
    fn seen(&self) -> impl Iterator<Item = f64> {
        let own = self.servo.through();
        self.servo
            .marks
            .iter()
            .filter_map(move |mark| mark.aligned(&own))
            .map(|seen| self.of_shaft(seen.angle))
    }

    /// At least a half disc; more where the travel is more, up to the whole.
    fn ends(&self) -> (f64, f64) {
        let Ends { low, high } = self.servo.ends();
        let reach = self.at(low).zip(self.at(high)).map(|(low, high)| (low.0, high.0));
        let (a, b) = reach.unwrap_or((-90.0, 90.0));
        let round = |x: f64| (x / 10.0).ceil() * 10.0 + 10.0;
        ((-round(-a.min(b))).clamp(-180.0, -90.0), round(a.max(b)).clamp(90.0, 180.0))
    }

    /// The joint's limits with their words.
    fn limits(&self) -> impl Iterator<Item = (&'static str, f64, &str)> {
        let both = self.joint.into_iter().flat_map(|j| [("low limit", &j.low), ("high limit", &j.high)]);
        both.filter_map(|(word, limit)| {
            let limit = limit.as_ref()?;
            Some((word, self.of_joint(limit.angle_deg), limit.reason.as_str()))
        })
    }
}

/// The line angles are drawn by, and whether it was seen or only rated.
fn line(servo: &Servo) -> Option<(Curve, bool)> {
    if let Ok(fit) = servo.fit() {
        return Some((fit.curve, true));
    }
    let slope = servo.rated.as_ref()?.slope();
    Some((diagnose::from_sheet(slope), false))
}

fn ticks(list: &mut List, disc: &Disc) {
    let (from, to) = disc.ends;
    let signs = [disc.sense * from, disc.sense * to];
    list.line(&arc(disc.centre, disc.edge, signs[0], signs[1]), solid(Tone::Ink, 0.25));
    let whole = |x: f64| wasvolta_core::unit::whole(x).unwrap_or(0);
    for degree in whole(from)..=whole(to) {
        let angle = f64::from(i16::try_from(degree).unwrap_or(0));
        let (long, width) = match degree {
            _ if degree % 10 == 0 => (5.0, 0.3),
            _ if degree % 5 == 0 => (3.6, 0.2),
            _ => (2.2, 0.12),
        };
        list.line(&disc.ray(angle, disc.edge, disc.edge + long), solid(Tone::Ink, width));
        // The two ends of a whole circle are one place.
        if degree % 10 == 0 && degree > -180 {
            let place = disc.place(angle, disc.edge + 8.2);
            let words = if degree == 0 { "0°".to_owned() } else { crate::trim::signed(angle, 0) };
            list.text(at(place.x, place.y + 1.0), SMALL, Tone::Ink, Align::Middle, &words);
        }
    }
    list.line(&disc.ray(0.0, disc.edge * 0.25, disc.edge + 5.0), solid(Tone::Ink, 0.5));
}

fn limits(list: &mut List, disc: &Disc, drawn: &Drawn<'_>) {
    let all: Vec<f64> = drawn.limits().map(|(_, angle, _)| angle).collect();
    if let [low, high] = all[..] {
        let inner = arc(disc.centre, disc.edge - 1.2, disc.sense * low, disc.sense * high);
        list.line(&inner, solid(Tone::Ink, 1.2));
    }
    for limit in all {
        list.line(&disc.ray(limit, disc.edge * 0.45, disc.edge + 5.0), dashed(Tone::Limit, 0.5, 2.4, 1.0));
    }
}

fn endpoints(list: &mut List, disc: &Disc, drawn: &Drawn<'_>) {
    let Ends { low, high } = drawn.servo.ends();
    for (angle, _) in [low, high].into_iter().filter_map(|pulse| drawn.at(pulse)) {
        list.line(&disc.ray(angle, disc.edge * 0.6, disc.edge + 5.0), dashed(Tone::Quiet, 0.3, 0.6, 1.0));
    }
}

fn horn(list: &mut List, disc: &Disc, fitting: &Fitting) {
    let (root, tip) = (fitting.hole_mm * 0.5 + 1.2, 2.0);
    let end = fitting.horn_mm - tip;
    let centre = disc.centre;
    let mut outline = arc(centre.towards(0.0, end), tip, -90.0, 90.0);
    outline.extend(arc(centre, root, 100.0, 260.0));
    list.form(outline, Some(dashed(Tone::Quiet, 0.25, 1.2, 1.0)), None);
    list.circle(centre, fitting.hole_mm / 2.0, Some(solid(Tone::Ink, 0.3)), None);
    for angle in [0.0, 90.0] {
        let line = [centre.towards(angle, -1.5), centre.towards(angle, 1.5)];
        list.line(&line, solid(Tone::Ink, 0.2));
    }
}

fn marks(list: &mut List, disc: &Disc, drawn: &Drawn<'_>) {
    for angle in drawn.seen() {
        let place = disc.place(angle, disc.edge - 3.4);
        list.circle(place, 0.9, Some(solid(Tone::Ink, 0.4)), Some(Tone::Paper));
    }
}

fn legend(list: &mut List, drawn: &Drawn<'_>, fitting: &Fitting, top: f64) {
    let right = list.size.0 - MARGIN;
    let turns = if sense(fitting, drawn.joint) > 0.0 { "clockwise ↻" } else { "anticlockwise ↺" };
    let side = match (fitting.under, fitting.seen_from) {
        (Under::Horn, SeenFrom::Horn) => "Seen from the side of the horn",
        (Under::Horn, SeenFrom::Back) => "Seen from behind the servo, mirrored",
        (Under::Joint, SeenFrom::Horn) => "Of the joint, as you look at it",
        (Under::Joint, SeenFrom::Back) => "Of the joint, seen from behind, mirrored",
    };
    let side = format!("{side}: positive angles turn {turns}.");
    let y = list.paragraph(at(MARGIN, top), BODY, Tone::Ink, right - MARGIN, &side);
    let (hole, long) = (crate::trim::number(fitting.hole_mm, 1), crate::trim::number(fitting.horn_mm, 1));
    let how = match fitting.under {
        Under::Horn => format!(
            "Cut the hole of {hole} mm, put the sheet over the spline, and turn the servo until the horn of {long} mm \
             stands at an angle. The cross is the spline's middle."
        ),
        Under::Joint => format!(
            "Cut the hole of {hole} mm, put the sheet over the joint's axis, its 0° where the joint counts 0°, and read \
             what the servo turns at its end, {long} mm off the cross."
        ),
    };
    let y = list.paragraph(at(MARGIN, y + 0.8), BODY, Tone::Quiet, right - MARGIN, &how);
    let mut column = crate::calibration::Column { list, start: at(MARGIN, y + 3.0), right };
    for (word, angle, reason) in drawn.limits() {
        let colon = if reason.is_empty() { "" } else { ": " };
        column.fact(word, &format!("{}{colon}{reason}", degrees(angle)));
    }
    let Ends { low, high } = drawn.servo.ends();
    let at_angle = |pulse: Position| match drawn.at(pulse) {
        Some((angle, true)) => format!(" at {}", degrees(angle)),
        Some((angle, false)) => format!(" at {}, as the data sheet says: assumed", degrees(angle)),
        None => String::new(),
    };
    let place = |at: Position| drawn.servo.kind.show_place(at);
    let ends = format!("{}{}, {}{}", place(low), at_angle(low), place(high), at_angle(high));
    column.fact("endpoints", &ends);
    let seen: Vec<String> = drawn.seen().map(degrees).collect();
    if !seen.is_empty() {
        column.fact("marks", &seen.join(", "));
    }
    let signs = "heavy arc between the limits, dashed at them; dotted at the endpoints; a ring at each mark";
    column.fact("drawn", signs);
}
