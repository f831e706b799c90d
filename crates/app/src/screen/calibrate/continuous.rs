//! A continuous servo: its rate by a stopwatch, and where it stands still when it is warm.

use crate::screen::calibrate::marks;
use crate::screen::context::Context;
use crate::screen::dial::Does;
use crate::screen::dialog::Dialog;
use wasvolta_core::rate::timed;
use wasvolta_core::rig::edit::{Observation, marks as edits};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::Position;

/// Begins to time turns: the press that opens it is the first.
pub fn stopwatch(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Stopwatch { presses: vec![desk.now.as_secs_f64()] });
    desk.say("timing its turns: say each time the same mark on it comes round");
}

/// A key while turns are timed.
pub fn timing(desk: &mut Context, does: Option<Does>, mut presses: Vec<f64>) -> Option<Dialog> {
    match does {
        Some(Does::Turn) => presses.push(desk.now.as_secs_f64()),
        Some(Does::Answer) => match timed(&presses) {
            Some(rate) => {
                marks::keep_rate(desk, rate);
                return None;
            }
            None => desk.refuse("time one whole turn at least: wait until the mark comes round again"),
        },
        _ => {}
    }
    Some(Dialog::Stopwatch { presses })
}

/// Begins to trim: arrows shift where it stands still.
pub fn trim(desk: &mut Context) {
    if let Some(before) = desk.picked(|p| p.state.trim()) {
        desk.model.dialog = Some(Dialog::Trim { before });
    }
}

/// A key while it is trimmed.
pub fn trimming(desk: &mut Context, does: Option<Does>, before: Position) -> Option<Dialog> {
    let tick = desk.picked(|p| p.plan.guard.step()).unwrap_or(Position::new(1.0));
    let now = desk.picked(|p| p.state.trim()).unwrap_or(Position::ZERO);
    match does {
        Some(Does::Less) => desk.servo_command(|servo| Command::Trim { servo, by: -tick }),
        Some(Does::More) => desk.servo_command(|servo| Command::Trim { servo, by: tick }),
        Some(Does::Zero) => desk.servo_command(|servo| Command::Trim { servo, by: -now }),
        Some(Does::Keep) => {
            keep_trim(desk);
            return None;
        }
        Some(Does::Answer) => {
            desk.say(&format!(
                "trimmed by {:+.1} µs until the program ends; ‹trim› would keep it for good",
                now.get()
            ));
            return None;
        }
        _ => {}
    }
    Some(Dialog::Trim { before })
}

/// Esc puts the trim back.
pub fn untrim(desk: &mut Context, before: Position) {
    if let Some(now) = desk.picked(|p| p.state.trim()) {
        desk.servo_command(|servo| Command::Trim { servo, by: before - now });
    }
}

/// Takes the trim into the marks; what is on the wire stays.
fn keep_trim(desk: &mut Context) {
    let Some((name, by)) = desk.picked(|p| (p.servo.name.clone(), p.state.trim())) else { return };
    if by == Position::ZERO {
        return desk.refuse("there is no trim to keep");
    }
    if desk.edit(&format!("stop and rates shifted by {:+.1} µs", by.get()), |rig| {
        edits::shift_stop(rig, &name, by)
    }) {
        desk.servo_command(|servo| Command::Trim { servo, by: -by });
    }
}

/// It starts to turn elsewhere than its marks say: trim, or keep that as a mark.
pub fn drift(desk: &mut Context, does: Option<Does>, what: Observation, by: Position) -> Option<Dialog> {
    match does {
        Some(Does::Trim) => {
            desk.servo_command(|servo| Command::Trim { servo, by });
            desk.say(&format!(
                "trimmed by {:+.1} µs until the program ends; ‹trim› can keep it for good",
                by.get()
            ));
            None
        }
        Some(Does::Answer) => {
            marks::keep_edge(desk, what);
            None
        }
        _ => Some(Dialog::Drift { what, by }),
    }
}
