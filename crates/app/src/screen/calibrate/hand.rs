//! The hand on the picked servo: where it sends it, and from which side it comes there.

use crate::screen::context::Context;
use wasvolta_core::rig::Side;
use wasvolta_core::rig::edit::End;
use wasvolta_core::stage::Command;
use wasvolta_core::unit::Position;

/// Notes which way the pulse goes, and where it was while nothing was heard.
pub fn goes(desk: &mut Context, by: Position) {
    if by == Position::ZERO {
        return;
    }
    desk.model.in_calibrate.side = if by.get() > 0.0 { Side::Below } else { Side::Above };
    desk.model.in_calibrate.quiet = desk
        .picked(|p| {
            let outwards = (p.nearer_end() == End::High) == (by.get() > 0.0);
            outwards.then(|| p.wire_pulse())
        })
        .flatten();
}

/// Glides to a pulse by hand.
pub fn glide(desk: &mut Context, to: Position) {
    if let Some(by) = desk.picked(|p| to - p.state.pulse) {
        goes(desk, by);
        desk.model.in_calibrate.quiet = None;
    }
    desk.servo_command(|servo| Command::GoTo { servo, pulse: to });
}
