//! The rows of Inputs: the stages of the picked input, and the mapping of it that is picked.

use super::told::Told;
use super::{acts, bends, course, goals, stand_in};
use crate::screen::context::Context;
use crate::screen::ready::{self, Ready};
use crate::screen::rows::{
    ANGLE, DEBOUNCE, EXPO, LEVEL, PART, PLACE, RATE, RATE_LEVEL, RAW, Row, SMOOTHING, Set, TEMPO, TIME, TRIM,
    TURN_RATE, Unit, WEIGHT,
};
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use wasvolta_core::rig::edit::End;
use wasvolta_core::rig::{Input, OwnUnit};

/// All of them, in the order in which they are drawn. A row a line or two, as a table is.
#[rustfmt::skip]
static ROWS: &[Row] = &[
    Row::choice("", "input", acts::which, acts::next_input).when(|s| s.rig.inputs.len() > 1),
    Row::choice("", "turn it", acts::turned, acts::turn).typed(acts::turn_to).when(acts::is_simulated),
    Row::choice("", "as if", stand_in::show, stand_in::next),
    Row::number("", "stands at", |_| &LEVEL, stand_in::share, Set::By(stand_in::set_share)).when(stand_in::by_hand),
    Row::number("", "a round", |_| &TIME, stand_in::period, Set::By(stand_in::set_period)).when(stand_in::by_wave),
    Row::number("span", "low end", |_| &RAW, |s| Some(s.input()?.ends.low), Set::Input(|i, v| put(&mut i.ends.low, v))),
    Row::number("", "rest", |_| &RAW, |s| s.input()?.centre, Set::Input(|i, v| i.centre = v.or(i.centre))).when(|s| of(s, |i| i.centre.is_some())),
    Row::number("", "high end", |_| &RAW, |s| Some(s.input()?.ends.high), Set::Input(|i, v| put(&mut i.ends.high, v))).behind(|stages| stages.span),
    Row::choice("", "unit", acts::unit, acts::next_unit).when(|s| of(s, |i| i.switch.is_none() && i.centre.is_none())),
    Row::choice("switch", "pressed", acts::pressed, |desk, _| acts::make_switch(desk)).when(is_switch),
    Row::number("", "debounce", |_| &DEBOUNCE, |s| Some(s.input()?.switch.as_ref()?.debounce_ms), Set::Input(set_debounce)).when(is_switch).behind(|stages| stages.span),
    Row::number("trim", "trim", |_| &TRIM, |s| Some(s.input()?.trim), Set::Input(|i, v| put(&mut i.trim, v))).when(|s| of(s, |i| i.switch.is_none() || i.trim != 0.0)).behind(|stages| stages.trim),
    Row::number("deadband", "deadband", |_| &PART, |s| Some(s.input()?.deadband), Set::Input(|i, v| put(&mut i.deadband, v))).when(|s| of(s, |i| is_shaped(i) || i.deadband != 0.0)).behind(|stages| stages.deadband),
    Row::number(CURVE, "expo", |_| &EXPO, |s| Some(s.input()?.expo), Set::Input(|i, v| put(&mut i.expo, v))).when(|s| of(s, |i| i.curve.is_empty() && (is_shaped(i) || i.expo != 0.0))).behind(|stages| stages.curve),
    Row::choice(CURVE, "point", bends::which, bends::next).when(bends::has_points),
    Row::number("", "  from", |_| &PLACE, |s| bends::at(s).map(|p| p.0), Set::By(bends::set_from)).when(bends::has_points),
    Row::number("", "  to", |_| &PLACE, |s| bends::at(s).map(|p| p.1), Set::By(bends::set_to)).when(bends::has_points).behind(|stages| stages.curve),
    Row::number("smoothing", "smoothing", |_| &SMOOTHING, |s| Some(s.input()?.smoothing_ms), Set::Input(|i, v| put(&mut i.smoothing_ms, v))).behind(|stages| stages.smoothing),
    Row::number("rate", "rise", |_| &RATE, |s| s.input()?.rise_per_s, Set::Input(|i, v| i.rise_per_s = v)).or("no limit"),
    Row::number("", "fall", |_| &RATE, |s| s.input()?.fall_per_s, Set::Input(|i, v| i.fall_per_s = v)).or("no limit").behind(|stages| stages.rate),
    Row::choice("press", "a press", goals::press, goals::next_press).when(is_switch),
    Row::choice(MAPPING, "mapping", goals::which, goals::next_mapping).when(mapped),
    Row::number("", "weight", |_| &WEIGHT, goals::weight, Set::By(goals::set_weight)).when(goals::has_weight),
    Row::number("", "at low end", goal_unit, |s| course::end(s, End::Low), Set::By(|d, v| course::set_end(d, End::Low, v))).when(course::has_ends),
    Row::number("", "at high end", goal_unit, |s| course::end(s, End::High), Set::By(|d, v| course::set_end(d, End::High, v))).when(course::has_ends),
    Row::choice("", "point", course::point, course::next_point).when(course::has_points),
    Row::number("", "  from", |_| &PLACE, |s| course::point_at(s).map(|p| p.0), Set::By(course::set_from)).when(course::has_points),
    Row::number("", "  to", goal_unit, |s| course::point_at(s).map(|p| p.1), Set::By(course::set_to)).when(course::has_points),
    Row::choice("", "poses", goals::poses, |desk, _| goals::turn_round(desk)).typed(goals::set_poses).when(goals::has_poses),
    Row::number("", "takes", |_| &TIME, goals::over, Set::By(goals::set_over)).when(goals::is_toggle),
    Row::choice("", "while", goals::only_while, goals::next_while).when(mapped),
    Row::choice("", "is taken", goals::take, |desk, _| goals::next_take(desk)).when(mapped),
    Row::choice("", "when lost", goals::when_lost, goals::next_lost).typed(goals::set_failsafe).when(mapped),
    Row::number("", "  in", |_| &TIME, goals::failsafe_time, Set::By(goals::set_failsafe_time)).when(goals::has_failsafe),
];

/// What the goal of the picked mapping is told in.
fn goal_unit(scene: &Scene) -> &'static Unit {
    match scene.mapping().and_then(|mapping| Told::of(scene, mapping)) {
        Some(Told::Levels) => &LEVEL,
        Some(Told::RateLevels) => &RATE_LEVEL,
        Some(Told::Rates) => &TURN_RATE,
        Some(Told::Tempos) => &TEMPO,
        Some(Told::Degrees) | None => &ANGLE,
    }
}

fn is_switch(scene: &Scene) -> bool {
    of(scene, |input| input.switch.is_some())
}

/// What the rows of a mapping belong to.
pub const MAPPING: &str = "mapping";
/// What the rows of the input's own curve belong to.
const CURVE: &str = "curve";

/// The rows that are there now.
pub fn shown(scene: &Scene) -> Vec<&'static Row> {
    if scene.input().is_none() {
        return Vec::new();
    }
    ROWS.iter().filter(|row| (row.applies)(scene)).collect()
}

/// The picked row.
pub fn picked(scene: &Scene) -> Option<&'static Row> {
    let rows = shown(scene);
    rows.get(scene.model.in_inputs.row).or(rows.last()).copied()
}

/// Changes the picked row by a step.
pub fn change(desk: &mut Context, direction: f64) {
    if let Some(row) = picked(&desk.model.scene(desk.session)) {
        row.change(desk, direction);
    }
}

/// Sets the picked row from what was typed.
///
/// # Errors
/// Says what is understood; nothing has changed then.
pub fn enter(desk: &mut Context, text: &str) -> Result<(), String> {
    let scene = desk.model.scene(desk.session);
    let of = scene.moved().map(|moved| moved.judges(scene.rig));
    picked(&scene).map_or(Ok(()), |row| row.enter(desk, text, of.as_ref()))
}

/// Picks a row so many further down; up where that is negative.
pub fn pick_row(desk: &mut Context, by: isize) {
    let rows = shown(&desk.model.scene(desk.session)).len();
    // What was the last row may have had more behind it.
    let here = desk.model.in_inputs.row.min(rows.saturating_sub(1));
    desk.model.in_inputs.row = moved(here, by, rows);
}

/// What a view has room for at once.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Which input it is.
    Which,
    Stages,
    /// Its goal: what it moves.
    Mapping,
}

/// The part that a row is in.
pub fn part(rows: &[&Row], at: usize) -> Part {
    let first = |name: &str| rows.iter().position(|row| row.stage == name).unwrap_or(rows.len());
    match at {
        at if at >= first(MAPPING) => Part::Mapping,
        at if at >= first("span") => Part::Stages,
        _ => Part::Which,
    }
}

/// Whether the picked row is one of the input's own curve: then that is what is bent.
fn is_of_curve(scene: &Scene) -> bool {
    let shown = shown(scene);
    let at = scene.model.in_inputs.row.min(shown.len().saturating_sub(1));
    let stage = shown.iter().take(at + 1).rev().find(|row| !row.stage.is_empty());
    stage.is_some_and(|row| row.stage == CURVE)
}

/// The line that the picked row is about, where it is one that can be bent.
pub fn bends(scene: &Scene) -> Option<String> {
    let row = picked(scene)?;
    if is_of_curve(scene) {
        return Some("its curve".to_owned());
    }
    let is_end = course::has_ends(scene) && row.name.starts_with("at ");
    let is_point = course::has_points(scene) && ["point", "  from", "  to"].contains(&row.name);
    (is_end || is_point).then(|| scene.mapping().map(|mapping| mapping.name.clone()))?
}

/// There is something to bend, and the input is heard.
pub fn bendable(scene: &Scene) -> Ready {
    if !is_of_curve(scene) {
        ready::mapped(scene)?;
    }
    ready::stands(scene)
}

/// There is something that could be straightened.
pub fn straightenable(scene: &Scene) -> Ready {
    if is_of_curve(scene) { Ok(()) } else { ready::mapped(scene) }
}

/// Puts a point where the input stands: into its curve where that is what is looked at, else into the mapping's course.
pub fn bend_here(desk: &mut Context) {
    if is_of_curve(&desk.model.scene(desk.session)) {
        bends::bend_here(desk);
    } else {
        course::bend_here(desk);
    }
}

/// Takes the picked point out of the one or the other.
pub fn straighten(desk: &mut Context) {
    if is_of_curve(&desk.model.scene(desk.session)) {
        bends::straighten(desk);
    } else {
        course::straighten(desk);
    }
}

fn of(scene: &Scene, is: fn(&Input) -> bool) -> bool {
    scene.input().is_some_and(is)
}

/// A switch has nothing between its positions, and degrees are what they are.
fn is_shaped(input: &Input) -> bool {
    input.switch.is_none() && input.unit != Some(OwnUnit::Deg)
}

fn mapped(scene: &Scene) -> bool {
    scene.mapping().is_some()
}

fn put(place: &mut f64, value: Option<f64>) {
    *place = value.unwrap_or(*place);
}

fn set_debounce(input: &mut Input, value: Option<f64>) {
    if let (Some(switch), Some(value)) = (&mut input.switch, value) {
        switch.debounce_ms = value;
    }
}
