//! Handles of a line that are dragged: a point of the input's curve, a point or an end of the mapping's course.

use crate::screen::context::Context;
use crate::screen::inputs::course;
use crate::screen::inputs::handles::{Drag, Grip, Handles, Line};
use crate::screen::inputs::told::Told;
use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use std::sync::Arc;
use wasvolta_core::rig::Ends;
use wasvolta_core::rig::edit::{change_input, mappings, points};

/// What the mouse does: a handle of those that `drawn` gives is taken, moved, let go.
pub fn mouse(desk: &mut Context, event: MouseEvent, drawn: impl Fn(&Context) -> Option<Handles>) {
    let cell = (event.column, event.row);
    match event.kind {
        MouseEventKind::Down(MouseButton::Left) => {
            let grip = drawn(desk).and_then(|handles| Some((handles.nearest(cell)?, handles)));
            desk.model.in_inputs.drag = grip.map(|(place, handles)| {
                match handles.line {
                    Line::Curve => desk.model.in_inputs.bend = place,
                    Line::Course => desk.model.in_inputs.point = place,
                }
                Drag { handles, place, left: None }
            });
        }
        MouseEventKind::Drag(MouseButton::Left) => {
            if let Some(mut drag) = desk.model.in_inputs.drag.take() {
                let (to, before) = (drag.handles.value(cell), Arc::clone(&desk.session.document.rig));
                let goes_on = drag.left.as_ref().is_some_and(|left| Arc::ptr_eq(left, &before));
                match drag.handles.line {
                    Line::Curve => bend_curve(desk, &drag, goes_on, to),
                    Line::Course => bend_course(desk, &drag, goes_on, to),
                }
                // What changed nothing began no edit that could be gone on with.
                let after = &desk.session.document.rig;
                if !Arc::ptr_eq(&before, after) {
                    drag.left = Some(Arc::clone(after));
                }
                desk.model.in_inputs.drag = Some(drag);
            }
        }
        MouseEventKind::Up(_) => desk.model.in_inputs.drag = None,
        _ => {}
    }
}

fn round(value: f64, to: f64) -> f64 {
    (value / to).round() * to
}

fn bend_curve(desk: &mut Context, drag: &Drag, goes_on: bool, (x, y): (f64, f64)) {
    let scene = desk.model.scene(desk.session);
    let plan = scene.input_place().and_then(|n| scene.edition.plan.inputs.get(n));
    let (Some(input), Some(plan)) = (scene.input(), plan) else { return };
    let shape = &plan.shape;
    let ends = (shape.span.floor(), shape.span.ceiling());
    let place = drag.place;
    let x = round(shape.before_curve(x), 0.01);
    let from = points::from_for(&input.curve, place, x, ends);
    let to = points::to_for(&input.curve, place, round(y, 0.01), ends);
    let (name, words) = (input.name.clone(), format!("{}: point {} to {to:+.2}", input.name, place + 1));
    desk.edit_on(goes_on, &words, |rig| {
        change_input(rig, &name, |input| {
            if let Some(point) = input.curve.get_mut(place) {
                *point = (from.unwrap_or(point.0), to);
            }
        })
    });
}

fn bend_course(desk: &mut Context, drag: &Drag, goes_on: bool, (x, y): (f64, f64)) {
    let scene = desk.model.scene(desk.session);
    let Some(mapping) = scene.mapping() else { return };
    let (place, to) = (drag.place, round(y, 0.5));
    let told = Told::of(&scene, mapping);
    let written = told.map_or_else(String::new, |told| told.show(to));
    let (name, words) = (mapping.name.clone(), format!("{}: point {} to {written}", mapping.name, place + 1));
    if drag.handles.grip == Grip::Ends {
        let mut ends = mapping.to.ends().unwrap_or_default();
        let Ends { low, high } = &mut ends;
        *(if place == 0 { low } else { high }) = to;
        let end = if place == 0 { "low" } else { "high" };
        let words = format!("{name}: at {end} end {written}");
        desk.edit_on(goes_on, &words, |rig| {
            mappings::change(rig, &name, |mapping| course::put_ends(&mut mapping.to, ends))
        });
        return;
    }
    let from = points::from_for(&mapping.to.points, place, round(x, 0.01), (-1.0, 1.0));
    desk.edit_on(goes_on, &words, |rig| {
        mappings::change(rig, &name, |mapping| {
            if let Some(point) = mapping.to.points.get_mut(place) {
                *point = (from.unwrap_or(point.0), to);
            }
        })
    });
}
