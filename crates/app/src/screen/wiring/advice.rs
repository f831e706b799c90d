//! What there is to do in Wiring, step by step.

use crate::screen::advice::{Rule, when};
use crate::screen::scene::Scene;
use wasvolta_engine::why::Verdict;

/// What may be said here, in order.
pub const RULES: &[Rule] =
    &[no_board, found_board, missing_board, free_channel, broken_link, to_engage_here, to_wiggle];

fn no_board(scene: &Scene) -> Option<String> {
    let words = "No board in this rig. ‹scan› finds what is there, ‹add board› adds a board.";
    when(scene.rig.boards.is_empty(), words)
}

fn found_board(scene: &Scene) -> Option<String> {
    let (bus, device) = scene.found_boards().next()?;
    Some(format!(
        "{:#04x} answers on {} and is not in this rig: ‹add board› adds it as a board.",
        device.address, bus.path
    ))
}

fn missing_board(scene: &Scene) -> Option<String> {
    let (bus, board) = scene.missing_boards().next()?;
    Some(format!(
        "{} does not answer {} on {}: check its supply, its two bus wires, its jumpers. ‹scan› looks again.",
        board.name,
        board.at(),
        bus.path
    ))
}

fn free_channel(scene: &Scene) -> Option<String> {
    let (board, channel, servo) = scene.plug()?;
    if board.chip.row().is_smart {
        let words = match scene.model.in_wiring.found_at(board.id, channel) {
            Some(found) if found.is_twins() => format!(
                "Two servos have the id {channel}: plug in only one of them, ‹add servo› adds it, ‹another id› gives it another id."
            ),
            Some(_) => format!(
                "Id {channel} answers on {} and is not in this rig: ‹add servo› adds it as a servo.",
                board.name
            ),
            None => format!("‹scan ids› finds the servos on {}; ‹add servo› adds one by its id.", board.name),
        };
        return when(servo.is_none(), words);
    }
    let words = format!(
        "Channel {channel} of {} is free. ‹add servo› adds a servo here; ‹row above› ‹row below› pick a channel.",
        board.name
    );
    when(servo.is_none(), words)
}

fn broken_link(scene: &Scene) -> Option<String> {
    let links = scene.chain()?;
    let failed = links.iter().find(|link| link.verdict == Verdict::Failed)?;
    // What is not engaged is not broken: that is said by itself.
    when(
        failed.name != "engaged" && failed.name != "output",
        format!("{}: {}. Try: {}.", failed.name, failed.words, failed.help),
    )
}

fn to_engage_here(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let name = &picked.servo.name;
    let words = match picked.servo.kind {
        kind if kind.is_smart() => {
            format!("‹engage› makes {name} stiff where it is; then ‹wiggle› wiggles it.")
        }
        kind if kind.has_angles() => {
            format!("‹engage› gives {name} its first pulse where its horn stands; then ‹wiggle› wiggles it.")
        }
        kind if kind.turns_on() => {
            format!("‹engage› gives {name} the pulse at which it stands still; then ‹wiggle› wiggles it.")
        }
        _ => format!("‹engage› switches {name} to 0 %; then ‹wiggle› lets it blink."),
    };
    when(!picked.state.engaged, words)
}

fn to_wiggle(scene: &Scene) -> Option<String> {
    let name = &scene.picked()?.servo.name;
    Some(format!(
        "‹wiggle› moves {name} a little: is it the one you mean? ‹rename servo› names it, ‹swap plugs› \
         swaps two plugs, ‹Calibrate› calibrates it."
    ))
}
