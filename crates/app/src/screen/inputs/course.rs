//! The course of the picked mapping, from its sum to the goal's unit: two ends, or points that are put where it is bent.

use crate::screen::context::Context;
use crate::screen::inputs::goals::change;
use crate::screen::inputs::told::Told;
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use wasvolta_core::rig::edit::{End, points};
use wasvolta_core::rig::{Ends, Goal, GoalKind};
use wasvolta_core::unit::{Degrees, DegreesPerSecond, Percent};

/// Its course is said by two ends.
pub fn has_ends(scene: &Scene) -> bool {
    scene.mapping().is_some_and(|mapping| mapping.to.ends().is_some())
}

/// One of its two ends.
pub fn end(scene: &Scene, end: End) -> Option<f64> {
    let ends = scene.mapping()?.to.ends()?;
    Some(if end == End::Low { ends.low } else { ends.high })
}

/// Moves one of its two ends.
pub fn set_end(desk: &mut Context, end: End, value: Option<f64>) {
    let Some(value) = value else { return };
    let words = format!("{} {value}", if end == End::Low { "at low end" } else { "at high end" });
    change(desk, &words, |mapping| {
        let goal = &mut mapping.to;
        let set = |ends: &mut Ends<f64>| *ends.at_mut(end) = (value * 1e2).round() / 1e2;
        let mut ends = goal.ends().unwrap_or_default();
        set(&mut ends);
        put_ends(goal, ends);
    });
}

/// Sets both ends, in the unit that they have.
pub fn put_ends(goal: &mut Goal, ends: Ends<f64>) {
    if goal.angles_deg.is_some() {
        goal.angles_deg = Some(Ends { low: Degrees::new(ends.low), high: Degrees::new(ends.high) });
    } else if goal.tempo_percent.is_some() {
        goal.tempo_percent = Some(Ends { low: Percent::new(ends.low), high: Percent::new(ends.high) });
    } else if goal.levels_percent.is_some() {
        goal.levels_percent = Some(Ends { low: Percent::new(ends.low), high: Percent::new(ends.high) });
    } else {
        let rate = DegreesPerSecond::new;
        goal.rates_deg_s = Some(Ends { low: rate(ends.low), high: rate(ends.high) });
    }
}

/// It goes along points.
pub fn has_points(scene: &Scene) -> bool {
    scene.mapping().is_some_and(|mapping| !mapping.to.points.is_empty())
}

/// The picked point's place among them.
pub fn point_place(scene: &Scene) -> usize {
    let points = scene.mapping().map_or(0, |mapping| mapping.to.points.len());
    scene.model.in_inputs.point.min(points.saturating_sub(1))
}

pub fn point(scene: &Scene) -> String {
    let points = scene.mapping().map_or(0, |mapping| mapping.to.points.len());
    format!("{} of {points}", point_place(scene) + 1)
}

/// The picked point.
pub fn point_at(scene: &Scene) -> Option<(f64, f64)> {
    scene.mapping()?.to.points.get(point_place(scene)).copied()
}

/// Goes on to another point.
pub fn next_point(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let points = scene.mapping().map_or(0, |mapping| mapping.to.points.len());
    desk.model.in_inputs.point = moved(point_place(&scene), by, points);
}

/// Moves the picked point along, between its neighbours.
pub fn set_from(desk: &mut Context, value: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let (place, Some(mapping), Some(wish)) = (point_place(&scene), scene.mapping(), value) else { return };
    let Some(value) = points::from_for(&mapping.to.points, place, wish, (-1.0, 1.0)) else { return };
    change(desk, &format!("point {} from {value:+.2}", place + 1), |mapping| {
        if let Some(point) = mapping.to.points.get_mut(place) {
            point.0 = value;
        }
    });
}

/// Moves the picked point up or down.
pub fn set_to(desk: &mut Context, value: Option<f64>) {
    let Some(value) = value.map(|value| (value * 1e2).round() / 1e2) else { return };
    let place = point_place(&desk.model.scene(desk.session));
    change(desk, &format!("point {} to {value}", place + 1), |mapping| {
        if let Some(point) = mapping.to.points.get_mut(place) {
            point.1 = value;
        }
    });
}

/// Puts a point where the input stands now, on the course as it is: from there it can be bent.
pub fn bend_here(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some((mapping, told)) = scene.mapping().and_then(|own| Some((own, Told::of(&scene, own)?))) else {
        return desk.refuse("a toggle or a place has no course to bend");
    };
    if told == Told::Tempos {
        return desk.refuse("a tempo has no course to bend: it goes straight from end to end");
    }
    let place = scene.edition.index.mappings.place(mapping.id);
    let at = place
        .and_then(|n| Some((scene.edition.plan.mappings.get(n)?, scene.model.snapshot.mappings.get(n)?)));
    let Some((plan, state)) = at.filter(|(plan, _)| !plan.is_own()) else {
        return desk.refuse("an input in degrees has no course to bend");
    };
    let scale = if mapping.to.kind() == Some(GoalKind::Blend) { 100.0 } else { 1.0 };
    let from = (state.sum * 100.0).round() / 100.0;
    let value = |from: f64| (plan.course.at(from) * scale * 100.0).round() / 100.0;
    let mut points = mapping.to.points.clone();
    if points.is_empty() {
        points = vec![(-1.0, value(-1.0)), (1.0, value(1.0))];
    }
    let Some((points, here)) = points::with(&points, (from, value(from))) else {
        return desk.refuse("a point is there already: turn the input to where it should bend");
    };
    let words = format!("a point at {from:+.2}, {}", told.show(value(from)));
    change(desk, &words, |mapping| {
        let goal = &mut mapping.to;
        (goal.angles_deg, goal.levels_percent, goal.rates_deg_s) = (None, None, None);
        goal.points = points;
    });
    desk.model.in_inputs.point = here;
}

/// Takes the picked point out; of the last two its ends are left.
pub fn straighten(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (place, Some(mapping)) = (point_place(&scene), scene.mapping()) else { return };
    let mut points = mapping.to.points.clone();
    if points.is_empty() {
        return desk.refuse("it has no points: ‹bend› puts one where the input stands");
    }
    let told = Told::of(&scene, mapping);
    points.remove(place);
    let (first, last) = (points.first().copied(), points.last().copied());
    change(desk, &format!("point {} removed", place + 1), |mapping| {
        let goal = &mut mapping.to;
        let (Some((_, low)), Some((_, high)), true) = (first, last, points.len() <= 2) else {
            goal.points = points;
            return;
        };
        goal.points = Vec::new();
        let ends = Ends { low, high };
        match told {
            Some(Told::Degrees) => goal.angles_deg = Some(Ends::default()),
            Some(Told::Rates) => goal.rates_deg_s = Some(Ends::default()),
            // A blend without points passes its whole row.
            _ if !goal.blend.is_empty() => return,
            _ => goal.levels_percent = Some(Ends::default()),
        }
        put_ends(goal, ends);
    });
}
