//! What the mouse does along the time: it moves the edges of steps, and what is looked at.

use super::acts;
use super::hold::{Drag, Edge, Held, Laid, Part};
use crate::screen::context::Context;
use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use std::sync::Arc;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::edit::sequences as edit;
use wasvolta_core::unit::Seconds;

/// What the mouse does where the time is laid as `laid` gives: takes, moves, lets go.
pub fn mouse(desk: &mut Context, event: MouseEvent, laid: impl Fn(&Context) -> Option<Laid>) {
    let cell = (event.column, event.row);
    match event.kind {
        MouseEventKind::Down(MouseButton::Left) => {
            desk.model.in_sequence.drag = None;
            let Some(laid) = laid(desk) else { return };
            let Some(held) = laid.taken(cell) else { return };
            match held {
                Held::Cursor => acts::look_at(desk, Some(laid.at(event.column))),
                Held::Edge(edge, _) => acts::pick_step(desk, edge.step),
            }
            desk.model.in_sequence.drag = Some(Drag { laid, held, left: None });
        }
        MouseEventKind::Drag(MouseButton::Left) => {
            let Some(mut drag) = desk.model.in_sequence.drag.take() else { return };
            let at = drag.laid.at(event.column);
            match drag.held {
                Held::Cursor => acts::look_at(desk, Some(at)),
                Held::Edge(edge, part) => move_edge(desk, &mut drag.left, (edge, part), at),
            }
            desk.model.in_sequence.drag = Some(drag);
        }
        MouseEventKind::Up(_) => desk.model.in_sequence.drag = None,
        _ => {}
    }
}

/// The least that a step moves by the mouse, in seconds, and what its times are whole multiples of.
const FINE: f64 = 0.01;

fn move_edge(desk: &mut Context, left: &mut Option<Arc<Rig>>, (edge, part): (Edge, Part), at: f64) {
    let own = desk.model.scene(desk.session).sequence().map(|(own, _)| (own.name.clone(), own.tempo()));
    let Some((name, tempo)) = own else { return };
    let before = Arc::clone(&desk.session.document.rig);
    let goes_on = left.as_ref().is_some_and(|left| Arc::ptr_eq(left, &before));
    let (from, least, word) = match part {
        Part::Move => (edge.starts, FINE, "move"),
        Part::Dwell => (edge.arrives, 0.0, "dwell"),
    };
    // As it is written: the tempo makes of it what is drawn.
    let seconds = (((at - from) * tempo / FINE).round() * FINE).max(least);
    let words = format!("step {}: {word} {seconds:.2} s", edge.step + 1);
    desk.edit_on(goes_on, &words, |rig| {
        edit::change_step(rig, &name, edge.step, |step| match part {
            Part::Move => {
                step.move_s = Some(Seconds::new(seconds));
                step.speed_deg_s = None;
            }
            Part::Dwell => step.dwell_s = Seconds::new(seconds),
        })
    });
    // What changed nothing began no edit that could be gone on with.
    let after = &desk.session.document.rig;
    if !Arc::ptr_eq(&before, after) {
        *left = Some(Arc::clone(after));
    }
    acts::pick_step(desk, edge.step);
}
