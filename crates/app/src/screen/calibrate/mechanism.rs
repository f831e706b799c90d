//! The linkage between servo and joint, to scale: both axes, horn, rod, arm, and where the horn must not go.

use crate::screen::canvas::Canvas;
use crate::screen::pen::{Pen, cell_of};
use crate::screen::scene::Picked;
use crate::screen::theme;
use ratatui::style::Color;
use wasvolta_core::linkage::{Bound, Linked};
use wasvolta_core::unit::{Degrees, Position};

/// Millimetres on a sheet of dots; upwards is upwards.
struct Sheet {
    canvas: Canvas,
    /// Dots a millimetre.
    scale: f64,
    /// Where the servo's shaft is, in dots.
    shaft: (f64, f64),
}

impl Sheet {
    fn of(columns: u16, rows: u16, linked: &Linked) -> Self {
        const LOOKS: u32 = 48;
        let canvas = Canvas::new(columns, rows);
        let (wide, high) = canvas.size();
        // Everything that it can reach, with air around it and room for the words under the axes.
        let (low, most) = linked.usable();
        let places = (0..=LOOKS).flat_map(|n| {
            let at = linked.standing(low + (most - low) * (f64::from(n) / f64::from(LOOKS)));
            [at.tip, at.arm, at.axis, (0.0, 0.0)]
        });
        let (mut least, mut greatest) = ((0.0f64, 0.0f64), (0.0f64, 0.0f64));
        for (x, y) in places {
            least = (least.0.min(x), least.1.min(y));
            greatest = (greatest.0.max(x), greatest.1.max(y));
        }
        let (across, tall) = (greatest.0 - least.0, greatest.1 - least.1);
        let scale = ((wide - 10.0) / across).min((high - 14.0) / tall).max(0.05);
        let shaft = (
            (wide - across * scale) / 2.0 - least.0 * scale,
            (high - tall * scale) / 2.0 + greatest.1 * scale,
        );
        Self { canvas, scale, shaft }
    }

    fn at(&self, (x, y): (f64, f64)) -> (f64, f64) {
        (self.shaft.0 + x * self.scale, self.shaft.1 - y * self.scale)
    }

    /// A bar so many dots wide.
    fn bar(&mut self, from: (f64, f64), to: (f64, f64), half: f64, color: Color) {
        let (a, b) = (self.at(from), self.at(to));
        let (dx, dy) = (b.0 - a.0, b.1 - a.1);
        let long = dx.hypot(dy).max(1e-9);
        for side in [-1.0, 0.0, 1.0] {
            let (ox, oy) = (-dy / long * half * side, dx / long * half * side);
            self.canvas.line((a.0 + ox, a.1 + oy), (b.0 + ox, b.1 + oy), color);
        }
    }

    fn arc(&mut self, radius: f64, (from, to): (f64, f64), color: Color) {
        let step = 60.0 / (radius * self.scale).max(1.0);
        let mut degrees = from;
        while degrees <= to {
            let (x, y) = self.at((radius * degrees.to_radians().cos(), radius * degrees.to_radians().sin()));
            self.canvas.dot(x, y, color);
            degrees += step;
        }
    }

    fn pin(&mut self, place: (f64, f64), color: Color) {
        let (x, y) = self.at(place);
        for (dx, dy) in [(0.0, 0.0), (1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0)] {
            self.canvas.dot(x + dx, y + dy, color);
        }
    }

    fn cell(&self, place: (f64, f64)) -> (u16, u16) {
        let (x, y) = self.at(place);
        (cell_of((x / 2.0).floor()), cell_of((y / 4.0).floor()))
    }
}

/// The servo's angle that is drawn: what is on the wire, else 0°.
fn shaft(picked: &Picked) -> Degrees {
    let known = picked.state.engaged || !picked.is_unknown();
    picked.angle().filter(|_| known).map_or(Degrees::ZERO, |joint| picked.through.servo_at(joint))
}

/// Draws it over the whole pen, with what is to be said of it in the last rows.
pub fn draw(pen: &mut Pen<'_>, picked: &Picked) {
    let Some(linked) = picked.through.linkage() else { return };
    let servo = shaft(picked);
    let notes = notes(picked, linked, servo);
    let rows = pen.height().saturating_sub(notes_rows(pen.width(), &notes) + 2);
    let mut sheet = Sheet::of(pen.width(), rows, linked);
    let standing = linked.standing(servo);
    let horn_mm = linked.bars().horn_mm.get();
    let (low, high) = linked.usable();
    let turned = |servo: Degrees| (servo + linked.bars().horn_at_deg).get();
    sheet.arc(horn_mm, (turned(low), turned(high)), theme::RULE);
    // Where its endpoints let it go, heavier.
    if let Some((from, to)) = span(picked) {
        for ring in [0.0, 0.6] {
            sheet.arc(horn_mm + ring, (turned(from), turned(to)), theme::INK);
        }
    }
    let (low, high) = linked.closes();
    for (end, bound) in [(low, linked.bounds().0), (high, linked.bounds().1)] {
        if bound != Bound::HalfTurn {
            let at = turned(end).to_radians();
            let ray = |share: f64| (horn_mm * share * at.cos(), horn_mm * share * at.sin());
            sheet.bar(ray(0.8), ray(1.2), 0.5, theme::FAULT);
        }
    }
    sheet.canvas.dashed(sheet.at((0.0, 0.0)), sheet.at(standing.axis), theme::RULE, 1, 4);
    sheet.bar((0.0, 0.0), standing.tip, 1.0, theme::COMMANDED);
    sheet.bar(standing.tip, standing.arm, 0.0, theme::QUIET);
    sheet.bar(standing.axis, standing.arm, 1.0, theme::INK);
    for place in [(0.0, 0.0), standing.axis, standing.tip, standing.arm] {
        sheet.pin(place, theme::MARK);
    }
    sheet.canvas.lay(pen, 0, 0);
    for (place, word) in [((0.0, 0.0), "servo"), (standing.axis, "joint")] {
        let (x, y) = sheet.cell(place);
        pen.put_centred(x, (y + 1).min(rows.saturating_sub(1)), word, theme::text(theme::QUIET));
    }
    let mut y = rows + 1;
    for (words, color) in notes {
        y = pen.paragraph(0, y, &words, theme::text(color));
    }
}

/// The servo's angles at its endpoints and limits, the lesser first.
fn span(picked: &Picked) -> Option<(Degrees, Degrees)> {
    let (scale, _) = picked.drawn()?;
    let (low, high) = picked.plan.guard.free();
    let at = |pulse: Position| picked.through.servo_at(scale.angle_at(pulse));
    let (a, b) = (at(low), at(high));
    Some(if a < b { (a, b) } else { (b, a) })
}

fn notes_rows(wide: u16, notes: &[(String, Color)]) -> u16 {
    let rows: usize =
        notes.iter().map(|(words, _)| crate::screen::pen::wrap(words, usize::from(wide)).len()).sum();
    u16::try_from(rows).unwrap_or(4)
}

/// How both stand, how much one turns the other, and what is awkward there or at an end of the travel.
fn notes(picked: &Picked, linked: &Linked, servo: Degrees) -> Vec<(String, Color)> {
    let joint = picked.through.joint_at(servo);
    let ratio = picked.through.ratio_at(servo);
    let mut notes = vec![(
        format!(
            "servo {:+.1}°, joint {:+.1}°: {:.2}° for a degree; rod on arm {:.0}°",
            servo.get() + 0.0,
            joint.get() + 0.0,
            ratio,
            linked.transmission_angle(servo).get()
        ),
        theme::INK,
    )];
    if let Some(caution) = picked.through.caution(servo) {
        notes.push((caution.to_string(), theme::FAULT));
    } else if let Some(caution) =
        span(picked).and_then(|(a, b)| [a, b].into_iter().find_map(|at| picked.through.caution(at)))
    {
        notes.push((format!("at an end of its travel: {caution}"), theme::FAULT));
    }
    notes
}
