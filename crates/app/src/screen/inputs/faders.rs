//! Playing the keyboard's faders: while this is open, keys move them and nothing else.

use crate::screen::context::Context;
use crate::screen::dial::Does;
use crate::screen::dialog::Dialog;
use crate::screen::scene::Scene;
use crate::session::Session;
use crossterm::event::{KeyCode, KeyEvent};
use wasvolta_core::faders::STEP;
use wasvolta_core::rig::protocol::KEYS_HAVE;

/// The first button among what the keyboard has.
const BUTTONS: usize = 4;
const TOGGLES: usize = 2;

/// Lets keys move them.
pub fn play(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Faders);
}

/// A key while they are played.
pub fn key(desk: &mut Context, does: Option<Does>) -> Dialog {
    desk.session.runner.keyboard.play(|faders, now| match does {
        Some(Does::Less) => faders.slide(0, -STEP),
        Some(Does::More) => faders.slide(0, STEP),
        Some(Does::Down) => faders.slide(1, -STEP),
        Some(Does::Up) => faders.slide(1, STEP),
        Some(Does::Number(n)) => match usize::from(n) {
            n @ BUTTONS.. => faders.press(n - BUTTONS, now),
            n => faders.toggle(n - TOGGLES),
        },
        _ => {}
    });
    Dialog::Faders
}

/// A key went up, on a terminal that says so.
pub fn released(session: &Session, key: KeyEvent) {
    let button = match key.code {
        KeyCode::Char('3') => 0,
        KeyCode::Char('4') => 1,
        _ => return,
    };
    session.runner.keyboard.play(|faders, _| faders.release(button));
}

/// How all of them stand.
pub fn words(scene: &Scene) -> String {
    let word = |(n, (name, value)): (usize, (&&str, f64))| match n {
        0 | 1 => format!("{name} {value:.0} %"),
        TOGGLES | 3 => format!("{name} {}", if value > 0.0 { "on" } else { "off" }),
        _ => format!("{name} {}", if value > 0.0 { "pressed" } else { "not pressed" }),
    };
    let all: Vec<String> =
        KEYS_HAVE.iter().zip(scene.model.in_inputs.keyboard).enumerate().map(word).collect();
    all.join("   ")
}
