//! What a person has chosen for the program's face: how it looks, and which key does what.

use crate::look::Look;
use crate::screen::keymap::Keymap;

/// See the module.
#[derive(Debug, Clone)]
pub struct Face {
    /// How it looks.
    pub look: Look,
    /// Which key does what.
    pub keys: Keymap,
}
