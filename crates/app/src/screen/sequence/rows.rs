//! The rows of Sequence.

use super::acts;
use super::state::STEP;
use crate::screen::context::Context;
use crate::screen::rows::{Holds, Row, Set, TIME};
use crate::screen::scene::Scene;
use crate::screen::step::moved;
use wasvolta_core::rig::Step;

/// In the order in which they are drawn.
pub static ROWS: [Row; 7] = [
    Row::choice("", "sequence", which, acts::next_sequence),
    Row::number("", "look at", |_| &TIME, |scene| Some(scene.model.in_sequence.time), Set::By(acts::look_at)),
    Row::choice("", "step", step, acts::step_by).typed(acts::go_to_step),
    Row::choice("", "pose", |scene| of_step(scene, |step| step.pose.clone()), acts::next_pose),
    Row::number(
        "",
        "move",
        |_| &TIME,
        |scene| acts::times(scene).map(|(_, moves, _)| moves),
        Set::By(acts::set_move),
    ),
    Row::number(
        "",
        "dwell",
        |_| &TIME,
        |scene| acts::times(scene).map(|(_, _, dwells)| dwells),
        Set::By(acts::set_dwell),
    ),
    Row::choice(
        "",
        "easing",
        |scene| of_step(scene, |step| step.easing.name().to_owned()),
        acts::next_easing,
    ),
];

/// The picked row.
pub fn picked(scene: &Scene) -> &'static Row {
    ROWS.get(scene.model.in_sequence.row).unwrap_or(&ROWS[STEP])
}

/// What stands in a row.
pub fn value(scene: &Scene, row: &Row) -> String {
    let fastest = row.name == "move" && acts::present_step(scene).is_some_and(|step| step.move_s.is_none());
    format!("{}{}", row.show(scene), if fastest { ", fastest" } else { "" })
}

/// Whether the arrows change it by a size.
pub const fn is_number(row: &Row) -> bool {
    matches!(row.holds, Holds::Number { .. })
}

fn which(scene: &Scene) -> String {
    let Some((sequence, _)) = scene.sequence() else { return "–".to_owned() };
    let place = scene.edition.index.sequences.place(sequence.id).unwrap_or(0);
    format!("{} ({} of {})", sequence.name, place + 1, scene.rig.sequences.len())
}

fn step(scene: &Scene) -> String {
    let steps = scene.sequence().map_or(0, |(sequence, _)| sequence.steps.len());
    if steps == 0 { "–".to_owned() } else { format!("{} of {steps}", scene.model.in_sequence.step + 1) }
}

fn of_step(scene: &Scene, show: fn(&Step) -> String) -> String {
    acts::present_step(scene).map_or_else(|| "–".to_owned(), |step| show(&step))
}

/// Changes the picked row by a step.
pub fn change(desk: &mut Context, direction: f64) {
    if acts::picked(desk).is_none() {
        return desk.refuse("there is no sequence yet: k keeps a pose, i inserts it as a step");
    }
    picked(&desk.model.scene(desk.session)).change(desk, direction);
}

/// Sets the picked row from what was typed.
///
/// # Errors
/// Says what is understood; nothing has changed then.
pub fn enter(desk: &mut Context, text: &str) -> Result<(), String> {
    picked(&desk.model.scene(desk.session)).enter(desk, text)
}

/// ↑ and ↓
pub fn pick_row(desk: &mut Context, by: isize) {
    desk.model.in_sequence.row = moved(desk.model.in_sequence.row, by, ROWS.len());
}
