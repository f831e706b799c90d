//! The chart of the calibration sheet, pulse to angle, and under it the strip of what the fit misses by.

use super::{Known, MARGIN, SMALL, degrees};
use crate::list::{Align, List, Point, Tone, at, dashed, solid};
use crate::scale::Axis;
use crate::trim::signed;
use wasvolta_core::curve::{Curve, Line};
use wasvolta_core::fit::Fit;
use wasvolta_core::rig::Ends;
use wasvolta_core::unit::{Degrees, Position};

/// A rectangle in mm.
#[derive(Clone, Copy)]
pub(super) struct Box {
    pub left: f64,
    pub right: f64,
    pub top: f64,
    pub bottom: f64,
}

impl Box {
    pub(super) fn frame(self, list: &mut List) {
        let Self { left, right, top, bottom } = self;
        let corners = vec![at(left, top), at(right, top), at(right, bottom), at(left, bottom)];
        list.form(corners, Some(solid(Tone::Rule, 0.2)), None);
    }
}

pub(super) fn span_of_pulses(known: &Known<'_>) -> (f64, f64) {
    let Ends { low, high } = known.servo.ends();
    let seen = known.servo.marks.iter().map(|m| m.place().get());
    let all: Vec<f64> = seen.chain([low.get(), high.get()]).collect();
    let least = all.iter().copied().fold(f64::MAX, f64::min);
    let most = all.iter().copied().fold(f64::MIN, f64::max);
    let air = (most - least) * 0.03;
    (least - air, most + air)
}

fn span_of_angles(known: &Known<'_>, pulses: Axis) -> (f64, f64) {
    let Known { fit, joint, .. } = known;
    let ends = [pulses.values.0, pulses.values.1].map(|p| fit.curve.angle_at(Position::new(p)).get());
    let shaft = |limit: &wasvolta_core::rig::Limit| known.through.servo_at(limit.angle_deg).get();
    let limits = joint.iter().flat_map(|j| [&j.low, &j.high]).flatten().map(shaft);
    let seen = fit.points.iter().map(|p| p.angle.get());
    let all: Vec<f64> = ends.into_iter().chain(limits).chain(seen).collect();
    let least = all.iter().copied().fold(f64::MAX, f64::min);
    let most = all.iter().copied().fold(f64::MIN, f64::max);
    let air = (most - least) * 0.04;
    (least - air, most + air)
}

pub(super) fn draw(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
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
    let on = |pulse: f64| place(pulse, fit.curve.angle_at(Position::new(pulse)).get());
    let (first, last) = outer_marks(fit, pulses);
    // A line needs its two ends only, a curve what is between.
    let steps = if matches!(fit.curve, Curve::Line(_)) { 1 } else { 60u32 };
    let between: Vec<Point> =
        (0..=steps).map(|n| on(first + (last - first) * f64::from(n) / f64::from(steps))).collect();
    list.line(&between, solid(Tone::Ink, 0.5));
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
            let pulse = Position::new(pulse);
            let angle = fit.curve.angle_at(pulse).get() + sign * fit.band(pulse).get();
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
    let Ends { low, high } = sheet.over();
    let at_angle = |angle: f64| line.pulse_at(Degrees::new(angle)).get();
    let (a, b) = (at_angle(angles.values.0), at_angle(angles.values.1));
    let from = low.get().max(a.min(b)).max(pulses.values.0);
    let to = high.get().min(a.max(b)).min(pulses.values.1);
    if from < to {
        let on =
            |pulse: f64| at(pulses.place(pulse), angles.place(line.angle_at(Position::new(pulse)).get()));
        list.line(&[on(from), on(to)], dashed(Tone::Quiet, 0.3, 0.3, 1.2));
    }
}

fn limits(list: &mut List, known: &Known<'_>, area: Box, angles: Axis) {
    let Some(joint) = known.joint else { return };
    for (limit, word, rise) in [(&joint.low, "low limit", 3.2), (&joint.high, "high limit", -1.2)] {
        let Some(limit) = limit else { continue };
        let y = angles.place(known.through.servo_at(limit.angle_deg).get());
        list.line(&[at(area.left, y), at(area.right, y)], dashed(Tone::Limit, 0.4, 3.0, 1.2));
        let words = format!("{word} {}", degrees(limit.angle_deg.get()));
        // Where the fit falls, the free corners are on the other side.
        let falls = (known.fit.line.gain() < 0.0) != (known.through.ratio_at(Degrees::ZERO) < 0.0);
        let left = (word == "high limit") != falls;
        let (x, align) =
            if left { (area.left + 10.0, Align::Left) } else { (area.right - 10.0, Align::Right) };
        list.text(at(x, y + rise), SMALL, Tone::Limit, align, &words);
    }
}

fn endpoints(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
    let Ends { low, high } = known.servo.ends();
    for pulse in [low.get(), high.get()] {
        let x = pulses.place(pulse);
        list.line(&[at(x, area.top), at(x, area.bottom)], solid(Tone::Ink, 0.7));
    }
}

pub(super) fn residuals(list: &mut List, known: &Known<'_>, area: Box, pulses: Axis) {
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
    let words = "seen − fitted; shaded: how far a reading may be off";
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
    list.text(
        at(area.right, area.bottom + 8.2),
        SMALL,
        Tone::Quiet,
        Align::Right,
        known.servo.kind.place_head(),
    );
}
