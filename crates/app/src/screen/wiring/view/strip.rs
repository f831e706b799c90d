//! One board: its address as its jumpers are to be soldered, and its sixteen channels as a strip of pins.

use crate::screen::pen::Pen;
use crate::screen::scene::{OnWire, Scene};
use crate::screen::theme;
use crate::screen::touch::Touched;
use ratatui::style::Color;
use wasvolta_core::rig::{Board, CutTo, Joint, QuitTo};
use wasvolta_engine::snapshot::BoardState;
use wasvolta_port::Fault;
use wasvolta_port::expander::Phase;

/// Rows of a board: its name, its jumpers, sixteen channels.
pub const ROWS: u16 = 2 + CHANNELS;
const CHANNELS: u16 = 16;
/// Jumpers, from the highest bit.
const JUMPERS: [u8; 6] = [5, 4, 3, 2, 1, 0];
/// Where the pins of a channel begin.
const PINS: u16 = 5;
/// From this width on the pins stand apart.
const APART: u16 = 30;
/// Ground, supply, signal: from the darkest lead to the lightest.
const LEADS: [Color; 3] = [theme::RULE, theme::QUIET, theme::INK];

/// Columns of a strip in a view of some width.
pub const fn width(view: u16) -> u16 {
    match view {
        0..66 => 28,
        66..100 => 31,
        _ => 33,
    }
}

/// Draws a board by its place.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene, place: usize) {
    let Some(board) = scene.rig.boards.get(place) else { return };
    let state = scene.board_state(board).cloned().unwrap_or_default();
    let here = scene.model.in_wiring.plug.0.id == board.id;
    head(pen, board, &state, here);
    if board.chip.row().is_smart {
        return super::ids::draw(pen, scene, board, here);
    }
    match board.address {
        Some(address) => jumpers(pen, address),
        None => {
            pen.put(0, 1, &format!("{} on {}", board.chip.word(), board.port), theme::text(theme::QUIET));
        }
    }
    let channels = scene.channels(board);
    let picked = channels.iter().position(|c| here && *c == scene.model.in_wiring.plug.1).unwrap_or(0);
    let shown = usize::from(CHANNELS);
    let first = (picked + 1).saturating_sub(shown).min(channels.len().saturating_sub(shown));
    for (y, channel) in (2..ROWS).zip(channels.into_iter().skip(first)) {
        row(&mut pen.part(0, y, u16::MAX, 1), scene, board, channel, here);
    }
}

fn head(pen: &mut Pen<'_>, board: &Board, state: &BoardState, here: bool) {
    let wide = pen.width();
    let name = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    let x = pen.put(0, 0, &board.name, name);
    let place = board.address.map_or_else(String::new, |address| format!("{address:#04x}"));
    pen.put(x + 1, 0, &place, theme::text(theme::QUIET));
    let (word, color) = match (state.trouble, &state.phase) {
        (Some(trouble), _) => (trouble_word(trouble.fault), theme::FAULT),
        (None, Phase::Started) => ("● started", theme::INK),
        (None, Phase::Asking(_)) => ("asks you", theme::COMMANDED),
        (None, Phase::Down) => ("○ not yet", theme::QUIET),
    };
    pen.put_right(wide, 0, word, theme::text(color));
}

/// A word or two for what keeps a board from being driven.
const fn trouble_word(fault: Fault) -> &'static str {
    match fault {
        Fault::NoBus => "✗ no bus",
        Fault::OtherKind => "✗ no such kind",
        Fault::TimedOut => "✗ no answer yet",
        Fault::Absent => "✗ no answer",
        Fault::Busy | Fault::Taken(_) => "✗ in use",
        Fault::Denied => "✗ barred",
        Fault::Transfer => "✗ fails",
        Fault::Silent => "✗ silent",
        Fault::Foreign => "✗ foreign",
    }
}

/// The jumpers as they are to be soldered: filled is closed.
fn jumpers(pen: &mut Pen<'_>, address: u8) {
    let mut x = 0;
    for bit in JUMPERS {
        let closed = address >> bit & 1 == 1;
        let (sign, color) = if closed { ("■", theme::INK) } else { ("□", theme::QUIET) };
        x = pen.put(x, 1, &format!("A{bit}"), theme::text(theme::QUIET));
        x = pen.put(x, 1, sign, theme::text(color)) + 1;
    }
}

/// A channel with its three pins, and who is plugged in.
fn row(pen: &mut Pen<'_>, scene: &Scene, board: &Board, channel: u8, board_here: bool) {
    let wide = pen.width();
    let here = board_here && scene.model.in_wiring.plug.1 == channel;
    if let Some(place) = scene.edition.index.boards.place(board.id) {
        pen.touch(0, 0, (wide, 1), Touched::Channel(place, channel));
    }
    if here {
        pen.ground(0, 0, wide, theme::RAISED);
        pen.glyph(0, 0, "▌", theme::COMMANDED);
    }
    pen.put_right(4, 0, &channel.to_string(), theme::text(theme::QUIET));
    let step = if wide >= APART { 2 } else { 1 };
    let behind = PINS + 2 * step + 1;
    pen.ground(PINS, 0, behind - PINS, theme::RAISED);
    let servo = scene.rig.servos.iter().position(|s| s.board == board.name && s.plug() == channel);
    let picked = servo.and_then(|n| scene.servo(n));
    for (n, lead) in (0u16..).zip(LEADS) {
        let (pin, color) = if picked.is_some() { ("■", lead) } else { ("□", theme::RULE) };
        pen.glyph(PINS + step * n, 0, pin, color);
    }
    let Some(picked) = picked else {
        if let Some(input) = scene.edition.parts().input_on_pin(board, channel) {
            pen.glyph(behind, 0, "←", theme::INPUT);
            let room = usize::from(wide.saturating_sub(behind + 2));
            pen.put(behind + 2, 0, &crate::screen::pen::fit(&input.name, room), theme::text(theme::INPUT));
        }
        return;
    };
    pen.glyph(behind, 0, "╶", theme::QUIET);
    let name = behind + 2;
    let style = if here { theme::strong(theme::INK) } else { theme::text(theme::INK) };
    let moves = if picked.state.is_wiggling() {
        if picked.servo.kind.is_accessory() { "blinks" } else { "wiggles" }.to_owned()
    } else {
        pulse(&picked)
    };
    let room = wide.saturating_sub(name + crate::screen::pen::width(&moves) + 1);
    pen.put(name, 0, &crate::screen::pen::fit(&picked.servo.name, usize::from(room)), style);
    let color = match (picked.state.engaged, picked.found()) {
        (true, _) => theme::COMMANDED,
        (false, Some(_)) => theme::FAULT,
        (false, None) => theme::QUIET,
    };
    pen.put_right(wide, 0, &moves, theme::text(color));
}

fn pulse(picked: &crate::screen::scene::Picked) -> String {
    let pulse = picked.wire_pulse();
    match picked.value(pulse).filter(|_| picked.servo.kind.levels().is_some()) {
        _ if !picked.state.engaged => match picked.wire {
            OnWire::Found(ticks) => format!("✗ {}", picked.at(picked.plan.guard.pulse(ticks))),
            OnWire::Last(_) | OnWire::Unknown => "?".to_owned(),
            OnWire::Told(_) | OnWire::Nothing => "off".to_owned(),
        },
        Some(level) => level,
        None => picked.at(pulse),
    }
}

/// What stays on a board's outputs when the program ends, in each way it can end; gives the rows used.
pub fn after_the_end(pen: &mut Pen<'_>, scene: &Scene, board: &Board) -> u16 {
    let told = |is: fn(&Joint) -> bool| -> String {
        let servos = scene.rig.servos_on(&board.name);
        let names = servos.filter(|s| scene.rig.joint_of(&s.name).is_some_and(is)).map(|s| s.name.as_str());
        names.collect::<Vec<_>>().join(", ")
    };
    let (stiff, home) =
        (told(|joint| joint.cut == CutTo::StayStiff), told(|joint| joint.quit == QuitTo::HomeFirst));
    let smart = board.chip.row().is_smart;
    let quit = match (stiff.as_str(), home.as_str()) {
        ("", "") if smart => "all its servos go limp: what they carry may sag".to_owned(),
        ("", home) if smart => format!("{home} home first, then all go limp"),
        (stiff, "") if smart => format!("{stiff} stays stiff as told, the rest goes limp"),
        (stiff, home) if smart => format!("{home} home first; {stiff} stays stiff, the rest goes limp"),
        ("", "") => "all its channels are released".to_owned(),
        ("", home) => format!("{home} home first, then all are released"),
        (stiff, "") => format!("{stiff} keep their pulse as told, the rest is released"),
        (stiff, home) => format!("{home} home first; {stiff} keep their pulse, the rest is released"),
    };
    let crash = board.chip.row().after_a_crash;
    let turning: Vec<&str> = scene
        .rig
        .servos_on(&board.name)
        .filter(|servo| servo.kind.turns_on())
        .map(|servo| servo.name.as_str())
        .collect();
    let turning = match turning.as_slice() {
        [] => String::new(),
        names => format!(", and {} may go on turning: have a switch at hand", names.join(", ")),
    };
    let words = format!(
        "What stays on {}: at quit, {quit}. After a crash or a pulled cable {crash}{turning}.",
        board.name
    );
    pen.paragraph(0, 0, &words, theme::text(theme::QUIET))
}
