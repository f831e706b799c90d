//! What the mouse does: a click picks what was drawn there, the wheel goes through rows, a drag turns the needle or what a
//! view has to be dragged. Never more than keys can do.

use super::dialog;
use super::intents;
use crate::screen::calibrate::hand;
use crate::screen::context::Context;
use crate::screen::dial::Does;
use crate::screen::dialog::Dialog;
use crate::screen::intent::Intent;
use crate::screen::keys::Key;
use crate::screen::layout;
use crate::screen::panels;
use crate::screen::pick::Pick;
use crate::screen::ready::positional_engaged;
use crate::screen::touch::{self, Needle, Touched};
use crate::screen::wiring::{acts as wiring, servo_bus};
use crossterm::event::{KeyCode, MouseButton, MouseEvent, MouseEventKind};
use wasvolta_core::unit::Degrees;

/// The needle is taken where the pointer is so many degrees from it at most: a click elsewhere moves nothing.
const NEAR: f64 = 12.0;

/// Takes what the mouse did.
pub fn mouse(desk: &mut Context, event: MouseEvent) {
    let cell = (event.column, event.row);
    let picks = matches!(
        event.kind,
        MouseEventKind::Down(MouseButton::Left) | MouseEventKind::ScrollUp | MouseEventKind::ScrollDown
    );
    if picks {
        // As with a key: what waits was asked of what was picked then, and what is held may be picked no more.
        (desk.model.waiting, desk.model.grip) = (None, None);
        if servo_bus::stop_feeling(desk) {
            return;
        }
    }
    match event.kind {
        MouseEventKind::Down(MouseButton::Left) => pressed(desk, event, cell),
        MouseEventKind::Drag(MouseButton::Left) => match desk.model.grip {
            Some(needle) => turn(desk, needle, cell),
            None => of_view(desk, event),
        },
        MouseEventKind::Up(_) => {
            desk.model.grip = None;
            of_view(desk, event);
        }
        MouseEventKind::ScrollUp => wheel(desk, cell, -1),
        MouseEventKind::ScrollDown => wheel(desk, cell, 1),
        _ => {}
    }
}

/// Hands it to what the view itself has for the mouse.
fn of_view(desk: &mut Context, event: MouseEvent) {
    let window = desk.model.window;
    if let Some(own) = panels::of(desk.model.view).mouse.filter(|_| desk.model.dialog.is_none()) {
        own(desk, event, window);
    }
}

fn pressed(desk: &mut Context, event: MouseEvent, cell: (u16, u16)) {
    of_view(desk, event);
    // What it has taken to be dragged lies over what may be clicked there.
    if desk.model.in_inputs.drag.is_some() || desk.model.in_sequence.drag.is_some() {
        return;
    }
    if let Some(touched) = touch::at(&desk.model.touches, cell) {
        clicked(desk, touched, cell);
    }
}

fn clicked(desk: &mut Context, touched: Touched, cell: (u16, u16)) {
    let asks = desk.model.dialog.is_some();
    match touched {
        Touched::Action("cut") => {
            // What was being asked is over, as with the key.
            desk.model.dialog = None;
            carry_out(desk, "cut");
        }
        Touched::Key(key) if asks => press(desk, key),
        Touched::Line(line) => choose(desk, line),
        Touched::Needle(needle) => grip(desk, needle, cell),
        // What is being asked is not left by a click beside it.
        _ if asks => {}
        Touched::Action(name) => carry_out(desk, name),
        Touched::Servo(place) => desk.model.pick_servo(&desk.session.document.rig.clone(), place),
        Touched::Mark(place) => desk.model.in_calibrate.mark = Some(place),
        Touched::Channel(board, channel) => wiring::pick_channel(desk, board, channel),
        Touched::Input(place) => desk.model.input = Pick::at(&desk.session.document.rig.inputs, place),
        Touched::Row(away) => (panels::of(desk.model.view).pick)(desk, away),
        Touched::Key(_) => {}
    }
}

fn carry_out(desk: &mut Context, name: &str) {
    intents::carry_out(desk, &Intent::of(name));
}

fn press(desk: &mut Context, key: Key) {
    dialog::key(desk, key);
    if let Some(intent) = desk.model.intent.take() {
        intents::carry_out(desk, &intent);
    }
}

/// A row of what is being asked is picked, and taken.
fn choose(desk: &mut Context, line: usize) {
    if let Some(Dialog::Palette { pick, .. }) = &mut desk.model.dialog {
        *pick = line;
        press(desk, Key::of(KeyCode::Enter));
    }
}

/// While an angle is asked for the needle goes where the pointer is. Else it must be taken before it turns: what it turns
/// is the mechanism.
fn grip(desk: &mut Context, needle: Needle, cell: (u16, u16)) {
    if desk.model.dialog.is_some() {
        desk.model.grip = Some(needle);
        return turn(desk, needle, cell);
    }
    if let Err(why) = positional_engaged(&desk.model.scene(desk.session)) {
        return desk.refuse(why);
    }
    let stands = desk.picked(|p| Some(p.drawn()?.0.angle_at(p.state.pulse).get())).flatten();
    if let (Some(stands), Some(at)) = (stands, needle.angle_at(cell))
        && (at - stands).abs() <= NEAR
    {
        desk.model.grip = Some(needle);
    } else {
        desk.say("take the needle itself to turn it: a click beside it moves nothing");
    }
}

fn turn(desk: &mut Context, needle: Needle, cell: (u16, u16)) {
    let Some(angle) = needle.angle_at(cell).map(f64::round) else { return };
    match &mut desk.model.dialog {
        Some(
            Dialog::Engage { dial, .. }
            | Dialog::Mark { dial, .. }
            | Dialog::Limit { dial, reason: None, .. },
        ) => {
            dial.value = angle + 0.0;
            dial.typing.clear();
        }
        Some(_) => desk.model.grip = None,
        None => {
            let pulse = desk.picked(|p| Some(p.drawn()?.0.pulse_at(Degrees::new(angle)))).flatten();
            match (positional_engaged(&desk.model.scene(desk.session)), pulse) {
                (Ok(()), Some(pulse)) => hand::glide(desk, pulse),
                (Err(why), _) => {
                    desk.model.grip = None;
                    desk.refuse(why);
                }
                (Ok(()), None) => desk.model.grip = None,
            }
        }
    }
}

/// The wheel goes through what lies under the pointer.
fn wheel(desk: &mut Context, (column, _): (u16, u16), by: isize) {
    if let Some(dialog) = &desk.model.dialog {
        let scrolls = if by < 0 { Does::Up } else { Does::Down };
        let key = dialog.keys().iter().flat_map(|row| row.keys).find(|(_, does)| *does == scrolls);
        if let Some(&(key, _)) = key {
            press(desk, key);
        }
        return;
    }
    if column < layout::roster_columns(desk.model.window.width) {
        return desk.pick_servo_by(by);
    }
    (panels::of(desk.model.view).pick)(desk, by);
}
