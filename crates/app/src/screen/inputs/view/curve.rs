//! The curve of the picked input, or the course of the mapping that is looked at, each with a dot where it is.

use crate::screen::chart::Plot;
use crate::screen::inputs::bends;
use crate::screen::inputs::course;
use crate::screen::inputs::handles::{Grip, Handles, Line};
use crate::screen::inputs::told::Told;
use crate::screen::pen::Pen;
use crate::screen::scene::Scene;
use crate::screen::theme;
use ratatui::layout::Rect;
use wasvolta_core::rig::{GoalKind, Mapping};
use wasvolta_core::shape::Shape;
use wasvolta_core::stage::{InputState, Stand};

/// The room at the left for what is written there.
const LEFT: u16 = 8;

/// Raw place to shaped value. Gives the handles.
pub fn of_input(pen: &mut Pen<'_>, scene: &Scene, shape: &Shape, state: &InputState) -> Option<Handles> {
    let (floor, ceiling) = (shape.span.floor(), shape.span.ceiling());
    let (wide, rows) = (pen.width(), pen.height());
    if rows < 5 {
        return None;
    }
    let cells = Rect { x: LEFT, y: 0, width: wide - LEFT, height: rows - 1 };
    let mut plot = Plot::new(cells.width, cells.height, (floor, ceiling), (floor, ceiling));
    plot.dashed((floor, floor), (ceiling, ceiling), theme::RULE, (1, 3));
    cross(&mut plot, (floor, ceiling), (floor, ceiling));
    let at = |n: u32| floor + (ceiling - floor) * f64::from(n) / 120.0;
    plot.curve((0..=120u32).map(at).map(|x| (x, shape.rest_at(x))), theme::INK);
    // What is drawn runs over the span, and the curve's points stand behind trim and deadband: each is drawn where the
    // line passes it.
    let points = scene.input().map_or(&[][..], |input| &input.curve);
    let places: Vec<_> =
        points.iter().map(|(from, to)| Some((shape.place_before_curve(*from)?, *to))).collect();
    for (n, (from, to)) in places.iter().enumerate().filter_map(|(n, place)| Some((n, (*place)?))) {
        plot.disc(from, to, theme::MARK);
        if n == bends::place(scene) {
            rings(&mut plot, (from, to));
        }
    }
    if state.live {
        plot.disc(state.stages.span, state.stages.shaped(), theme::INPUT);
    }
    plot.canvas.lay(pen, LEFT, 0);
    let quiet = theme::text(theme::QUIET);
    let label =
        |value: f64| if shape.span.is_own() { format!("{value:+.0}°") } else { format!("{value:+.0}") };
    pen.put_right(LEFT - 1, 0, &label(ceiling), quiet);
    pen.put_right(LEFT - 1, rows - 2, &label(floor), quiet);
    let input = scene.input()?;
    let number = |value: f64| format!("{}", (value * 1e3).round() / 1e3);
    pen.put(LEFT, rows - 1, &number(input.ends.low), quiet);
    pen.put_right(wide, rows - 1, &format!("{} raw", number(input.ends.high)), quiet);
    let ends = (floor, ceiling);
    let cells = pen.within(cells);
    Some(Handles { line: Line::Curve, grip: Grip::Points, cells, x: ends, y: ends, places })
}

fn cross(plot: &mut Plot, x: (f64, f64), y: (f64, f64)) {
    if y.0 < 0.0 && y.1 > 0.0 {
        plot.dashed((x.0, 0.0), (x.1, 0.0), theme::RULE, (1, 4));
    }
    if x.0 < 0.0 && x.1 > 0.0 {
        plot.dashed((0.0, y.0), (0.0, y.1), theme::RULE, (1, 4));
    }
}

/// The sum of the shares to the goal's unit, with the limits of what it moves. Gives the handles.
pub fn of_mapping(pen: &mut Pen<'_>, scene: &Scene) -> Option<Handles> {
    let mapping = scene.mapping()?;
    let (wide, rows) = (pen.width(), pen.height());
    let place = scene.shown.index.mappings.place(mapping.id);
    let plan =
        scene.edition.index.mappings.place(mapping.id).and_then(|n| scene.edition.plan.mappings.get(n));
    let plan = plan.filter(|_| rows >= 5)?;
    let state = place.and_then(|n| scene.model.snapshot.mappings.get(n));
    let Some(told) = Told::of(scene, mapping).filter(|_| !plan.is_own()) else {
        in_words(pen, mapping);
        return None;
    };
    let scale = if mapping.to.kind() == Some(GoalKind::Blend) { 100.0 } else { 1.0 };
    let at = |n: u32| -1.0 + f64::from(n) / 60.0;
    let value = |sum: f64| plan.course.at(sum) * scale;
    let limits = limits(scene, mapping, told);
    let all = || (0..=120u32).map(at).map(value).chain(limits.into_iter().flatten());
    let (low, high) = (all().fold(f64::MAX, f64::min), all().fold(f64::MIN, f64::max));
    let air = ((high - low) * 0.06).max(0.5);
    let y = (low - air, high + air);
    // A little air to the sides, so that a handle at an end is seen whole.
    let x = (-1.06, 1.06);
    let cells = Rect { x: LEFT, y: 0, width: wide - LEFT, height: rows - 1 };
    let mut plot = Plot::new(cells.width, cells.height, x, y);
    cross(&mut plot, x, y);
    for limit in limits.into_iter().flatten() {
        plot.dashed((-1.0, limit), (1.0, limit), theme::FAULT, (2, 3));
    }
    plot.curve((0..=120u32).map(at).map(|sum| (sum, value(sum))), theme::INK);
    let handles = handles(mapping, &value);
    let picked = course::point_place(scene);
    for (n, (from, to)) in handles.iter().enumerate() {
        plot.disc(*from, *to, theme::MARK);
        if n == picked && !mapping.to.points.is_empty() {
            rings(&mut plot, (*from, *to));
        }
    }
    if let Some(state) = state.filter(|state| state.stand == Stand::Moves) {
        plot.disc(state.sum, state.value * scale, theme::INPUT);
    }
    plot.canvas.lay(pen, LEFT, 0);
    let quiet = theme::text(theme::QUIET);
    pen.put_right(LEFT - 1, 0, &told.show(y.1), quiet);
    pen.put_right(LEFT - 1, rows - 2, &told.show(y.0), quiet);
    pen.put(LEFT, rows - 1, "-1", quiet);
    let what = if mapping.from.len() > 1 { "all shares together" } else { "shaped" };
    let middle = LEFT + (wide - LEFT) / 2;
    pen.put_right(middle + u16::try_from(what.len() / 2).unwrap_or(0), rows - 1, what, quiet);
    pen.put_right(wide, rows - 1, "+1", quiet);
    let grip = if mapping.to.points.is_empty() { Grip::Ends } else { Grip::Points };
    // A blend without points passes its whole row: it has no ends of its own to be moved.
    let held = grip == Grip::Points || course::has_ends(scene);
    let places = handles.into_iter().map(Some).filter(|_| held).collect();
    Some(Handles { line: Line::Course, grip, cells: pen.within(cells), x, y, places })
}

/// Marks the point that is picked.
fn rings(plot: &mut Plot, at: (f64, f64)) {
    let (x, y) = plot.at(at.0, at.1);
    for by in [1.6, 2.4] {
        for n in 0..16u32 {
            let turn = f64::from(n) / 16.0 * std::f64::consts::TAU;
            plot.canvas.dot(x + by * turn.cos(), y + by * turn.sin(), theme::MARK);
        }
    }
}

/// Its two ends, or its points.
fn handles(mapping: &Mapping, value: &impl Fn(f64) -> f64) -> Vec<(f64, f64)> {
    if mapping.to.points.is_empty() {
        return vec![(-1.0, value(-1.0)), (1.0, value(1.0))];
    }
    mapping.to.points.clone()
}

/// The limits of the joint that it turns to an angle.
fn limits(scene: &Scene, mapping: &Mapping, told: Told) -> [Option<f64>; 2] {
    let joint = mapping.to.name().filter(|_| told == Told::Degrees).and_then(|name| scene.rig.joint(name));
    let angle = |limit: Option<&wasvolta_core::rig::Limit>| limit.map(|limit| limit.angle_deg.get());
    joint.map_or([None; 2], |joint| [angle(joint.low.as_ref()), angle(joint.high.as_ref())])
}

/// What has no course: a toggle, a place, or degrees as they are.
fn in_words(pen: &mut Pen<'_>, mapping: &Mapping) {
    let words = match mapping.to.kind() {
        Some(GoalKind::Toggle) => {
            format!("Each press goes to the other pose: {}.", mapping.to.toggle.join(" or "))
        }
        Some(GoalKind::Place) => format!(
            "It puts {} to a place from its beginning to its end, and there it stands. Played it goes on by itself; the \
             input has it again once it passes where it stands.",
            mapping.to.place.as_deref().unwrap_or_default()
        ),
        _ => "Its input is in degrees: the joint goes where that says, inside its limits.".to_owned(),
    };
    pen.paragraph(0, 0, &words, theme::text(theme::QUIET));
}
