//! The curve of the picked input, drawn by hand: its points, and how they are put, moved and taken out.

use crate::screen::context::Context;
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use wasvolta_core::rig::Input;
use wasvolta_core::rig::edit::{change_input, points};
use wasvolta_core::shape::Span;

/// It goes along points.
pub fn has_points(scene: &Scene) -> bool {
    scene.input().is_some_and(|input| !input.curve.is_empty())
}

fn all<'a>(scene: &Scene<'a>) -> &'a [(f64, f64)] {
    scene.input().map_or(&[], |input| &input.curve)
}

/// The picked point's place among them.
pub fn place(scene: &Scene) -> usize {
    scene.model.in_inputs.bend.min(all(scene).len().saturating_sub(1))
}

pub fn which(scene: &Scene) -> String {
    format!("{} of {}", place(scene) + 1, all(scene).len())
}

/// Goes on to another point.
pub fn next(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    desk.model.in_inputs.bend = moved(place(&scene), by, all(&scene).len());
}

/// The picked point.
pub fn at(scene: &Scene) -> Option<(f64, f64)> {
    all(scene).get(place(scene)).copied()
}

/// The least and the greatest value that the curve is asked for.
fn ends(scene: &Scene) -> Option<(f64, f64)> {
    let span = &scene.edition.plan.inputs.get(scene.input_place()?)?.shape.span;
    Some((span.floor(), span.ceiling()))
}

fn change(desk: &mut Context, what: &str, change: impl FnOnce(&mut Input)) {
    let Some(name) = desk.input().map(|input| input.name.clone()) else { return };
    desk.edit(&format!("{name}: {what}"), |rig| change_input(rig, &name, change));
}

/// Moves the picked point along, between its neighbours.
pub fn set_from(desk: &mut Context, wish: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let place = place(&scene);
    let from =
        wish.zip(ends(&scene)).and_then(|(wish, ends)| points::from_for(all(&scene), place, wish, ends));
    let Some(from) = from else { return };
    change(desk, &format!("point {} from {from:+.2}", place + 1), |input| {
        if let Some(point) = input.curve.get_mut(place) {
            point.0 = from;
        }
    });
}

/// Moves the picked point up or down: the curve goes on rising, or falling.
pub fn set_to(desk: &mut Context, wish: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let (place, Some(wish), Some(ends)) = (place(&scene), wish, ends(&scene)) else { return };
    let to = points::to_for(all(&scene), place, (wish * 1e4).round() / 1e4, ends);
    change(desk, &format!("point {} to {to:+.2}", place + 1), |input| {
        if let Some(point) = input.curve.get_mut(place) {
            point.1 = to;
        }
    });
}

/// Puts a point where the input stands now, on the curve as it is: from there it can be bent.
pub fn bend_here(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(n) = scene.input_place() else { return };
    let (Some(plan), Some(state)) = (scene.edition.plan.inputs.get(n), scene.input_state(n)) else { return };
    let round = |value: f64| (value * 1e4).round() / 1e4;
    let on_curve = |from: f64| (from, round(plan.shape.curve.at(from)));
    let mut line = all(&scene).to_vec();
    if line.is_empty() {
        // A stick that rests in the middle goes on doing so.
        line = match plan.shape.span {
            Span::TwoSided { .. } => vec![-1.0, 0.0, 1.0],
            Span::OneEnded { .. } => vec![0.0, 1.0],
            Span::Own { .. } => return desk.refuse("an input in degrees has no curve"),
        }
        .into_iter()
        .map(on_curve)
        .collect();
    }
    let from = round(state.stages.deadband);
    let Some((line, place)) = points::with(&line, on_curve(from)) else {
        return desk.refuse("a point is there already: turn the input to where it should bend");
    };
    change(desk, &format!("its curve has a point at {from:+.2}"), |input| {
        (input.expo, input.curve) = (0.0, line);
    });
    desk.model.in_inputs.bend = place;
}

/// Takes the picked point out; of the last two a straight line is left.
pub fn straighten(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (place, mut line) = (place(&scene), all(&scene).to_vec());
    if line.is_empty() {
        return desk.refuse("the curve has no points: ‹bend› puts one where the input stands");
    }
    line.remove(place);
    if line.len() < 2 {
        line.clear();
    }
    change(desk, &format!("point {} of its curve removed", place + 1), |input| input.curve = line);
}
