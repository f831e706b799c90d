//! Keys as the table of actions names them.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A key, with Ctrl or without; Shift is in the character.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Key {
    /// Which.
    pub code: KeyCode,
    /// Together with Ctrl.
    pub ctrl: bool,
}

impl Key {
    /// A character's key.
    pub const fn char(c: char) -> Self {
        Self { code: KeyCode::Char(c), ctrl: false }
    }

    /// Ctrl and a character.
    pub const fn ctrl(c: char) -> Self {
        Self { code: KeyCode::Char(c), ctrl: true }
    }

    /// A key without a character.
    pub const fn of(code: KeyCode) -> Self {
        Self { code, ctrl: false }
    }

    /// The key of an event.
    pub fn pressed(event: KeyEvent) -> Self {
        Self { code: event.code, ctrl: event.modifiers.contains(KeyModifiers::CONTROL) }
    }

    /// How it is written on the screen.
    pub fn name(self) -> String {
        let name = match self.code {
            KeyCode::Char(' ') => "Space".to_owned(),
            KeyCode::Char(c) if self.ctrl => c.to_uppercase().to_string(),
            KeyCode::Char(c) => c.to_string(),
            KeyCode::Left => "←".to_owned(),
            KeyCode::Right => "→".to_owned(),
            KeyCode::Up => "↑".to_owned(),
            KeyCode::Down => "↓".to_owned(),
            KeyCode::Enter => "Enter".to_owned(),
            KeyCode::Esc => "Esc".to_owned(),
            KeyCode::Tab => "Tab".to_owned(),
            KeyCode::Delete => "Del".to_owned(),
            KeyCode::PageUp => "PgUp".to_owned(),
            KeyCode::PageDown => "PgDn".to_owned(),
            KeyCode::F(n) => format!("F{n}"),
            other => format!("{other:?}"),
        };
        if self.ctrl { format!("Ctrl-{name}") } else { name }
    }
}

/// Whether a key event is the cut.
pub fn is_cut(event: KeyEvent) -> bool {
    Key::pressed(event) == Key::ctrl('c')
}
