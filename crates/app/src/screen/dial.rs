//! What keys mean while something is asked, and a value that arrows tilt and digits replace.

use crate::screen::entry::{self, PulseContext};
use crate::screen::keys::Key;
use crate::screen::typing::Typing;
use wasvolta_core::unit::Degrees;

/// What a key means while something is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Does {
    /// Takes the answer as it stands.
    Answer,
    /// Leaves without a change.
    Leave,
    /// Makes the value a step smaller.
    Less,
    /// Makes it a step larger.
    More,
    /// Makes it ten steps smaller.
    MuchLess,
    /// Makes it ten steps larger.
    MuchMore,
    /// Goes to the other one of what can be meant.
    Other,
    /// The line above, or the row.
    Up,
    /// The line below, or the row.
    Down,
    /// Ten lines up.
    PageUp,
    /// Ten lines down.
    PageDown,
    /// Drops the mark that is contradicted.
    Drop,
    /// Takes the new one again.
    Retake,
    /// It is pressed just now.
    Pressed,
    /// The horn was moved: all marks are shifted.
    Shift,
    /// A whole turn is over.
    Turn,
    /// No trim at all.
    Zero,
    /// Keeps it for good.
    Keep,
    /// Trims by what was seen.
    Trim,
    /// It still buzzes.
    BackOff,
    /// It no longer follows.
    Stops,
    Save,
    /// Moves the one of that number.
    Number(u8),
    Without,
    /// Goes on from what was found.
    Adopt,
    /// Stops what was found.
    Release,
}

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

    /// Turns it by so much, in the place of what was typed.
    fn turn(&mut self, by: f64) {
        self.value += by;
        self.typing.clear();
    }

    /// Takes a key, by what it means: a step, ten, or something typed.
    pub fn press(&mut self, (key, does): (Key, Option<Does>), step: f64) {
        match does {
            Some(Does::Less) => self.turn(-step),
            Some(Does::More) => self.turn(step),
            Some(Does::MuchLess) => self.turn(-10.0 * step),
            Some(Does::MuchMore) => self.turn(10.0 * step),
            _ => {
                self.typing.press(key, &[]);
            }
        }
    }

    /// The angle on it.
    ///
    /// # Errors
    /// In words, where something else was typed.
    pub fn angle(&self) -> Result<Degrees, String> {
        self.angle_of(None)
    }

    /// The same, where it is the angle of a servo's joint.
    ///
    /// # Errors
    /// In words, where something else was typed.
    pub fn angle_of(&self, context: Option<&PulseContext>) -> Result<Degrees, String> {
        if self.typing.is_empty() {
            return Ok(Degrees::new(self.value));
        }
        entry::angle_of(self.typing.text(), context)
    }
}
