//! A value that arrows tilt and digits replace.

use crate::screen::entry;
use crate::screen::keys::Key;
use crate::screen::typing::Typing;
use crossterm::event::KeyCode;
use wasvolta_core::unit::Degrees;

/// A value that arrows tilt and digits replace.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Dial {
    /// The value: degrees, or µs where there are no degrees.
    pub value: f64,
    /// What was typed instead.
    pub typing: Typing,
}

impl Dial {
    /// A dial at a value.
    pub fn at(value: f64) -> Self {
        // No dial stands at minus zero.
        Self { value: value + 0.0, typing: Typing::default() }
    }

    /// Turns or types it; gives whether the key was for it.
    pub fn turn(&mut self, key: Key, step: f64) -> bool {
        match key.code {
            KeyCode::Left | KeyCode::Down => self.value -= step,
            KeyCode::Right | KeyCode::Up => self.value += step,
            _ => return self.typing.press(key, &[]),
        }
        self.typing.clear();
        true
    }

    /// The angle on it.
    ///
    /// # Errors
    /// In words, where something else was typed.
    pub fn angle(&self) -> Result<Degrees, String> {
        if self.typing.is_empty() { Ok(Degrees::new(self.value)) } else { entry::angle(self.typing.text()) }
    }
}
