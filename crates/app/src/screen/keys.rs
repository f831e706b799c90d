//! Keys as the table of actions names them.

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A key, with Ctrl or without; Shift is in the character, and told apart with arrows alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Key {
    pub code: KeyCode,
    /// Together with Ctrl.
    pub ctrl: bool,
    /// Together with Shift, of an arrow.
    pub shift: bool,
}

impl Key {
    /// A character's key.
    pub const fn char(c: char) -> Self {
        Self { code: KeyCode::Char(c), ctrl: false, shift: false }
    }

    /// Ctrl and a character.
    pub const fn ctrl(c: char) -> Self {
        Self { code: KeyCode::Char(c), ctrl: true, shift: false }
    }

    /// A key without a character.
    pub const fn of(code: KeyCode) -> Self {
        Self { code, ctrl: false, shift: false }
    }

    /// Shift and an arrow.
    pub const fn shift(code: KeyCode) -> Self {
        Self { code, ctrl: false, shift: true }
    }

    /// The keys of an event, in the order they were pressed. A terminal writes Esc as the byte that Alt puts before
    /// another key, so Esc with a key right behind it arrives as Alt and that key. Alt means nothing here, while an
    /// Esc that is lost would leave an entry open, or the output driving: it is always the two keys.
    pub fn pressed(event: KeyEvent) -> impl Iterator<Item = Self> {
        let plain =
            Self { code: event.code, ctrl: event.modifiers.contains(KeyModifiers::CONTROL), shift: false };
        let key = Self { shift: plain.is_arrow() && event.modifiers.contains(KeyModifiers::SHIFT), ..plain };
        let typed =
            matches!(event.code, KeyCode::Char(_) | KeyCode::Enter | KeyCode::Tab | KeyCode::Backspace);
        let escaped = typed && event.modifiers.contains(KeyModifiers::ALT);
        escaped.then_some(Self::of(KeyCode::Esc)).into_iter().chain([key])
    }

    /// Whether it begins an entry: a digit or a sign.
    pub fn starts_entry(self) -> bool {
        !self.ctrl && matches!(self.code, KeyCode::Char('0'..='9' | '+' | '-'))
    }

    /// A key from how it is written: as [`Self::name`] has it, or with words for the arrows: `Left`, `Shift-Up`. Not what a
    /// text in JSON would have to write otherwise.
    pub fn parse(text: &str) -> Option<Self> {
        if let Some(letter) = text.strip_prefix("Ctrl-") {
            let mut letters = letter.chars();
            return match (letters.next(), letters.next()) {
                (Some(c), None) if c.is_ascii_alphabetic() => Some(Self::ctrl(c.to_ascii_lowercase())),
                _ => None,
            };
        }
        if let Some(arrow) = text.strip_prefix("Shift-") {
            return Self::parse(arrow).filter(|key| key.is_arrow()).map(|key| Self { shift: true, ..key });
        }
        let mut letters = text.chars();
        if let (Some(c), None) = (letters.next(), letters.next())
            && !c.is_whitespace()
            && !c.is_control()
            && !matches!(c, '"' | '\\')
            && !matches!(c, '←' | '→' | '↑' | '↓')
        {
            return Some(Self::char(c));
        }
        let function = text.strip_prefix('F').and_then(|n| n.parse().ok()).filter(|n| (1..=12).contains(n));
        let code = match text {
            "Space" => KeyCode::Char(' '),
            "Left" | "←" => KeyCode::Left,
            "Right" | "→" => KeyCode::Right,
            "Up" | "↑" => KeyCode::Up,
            "Down" | "↓" => KeyCode::Down,
            "Enter" => KeyCode::Enter,
            "Esc" => KeyCode::Esc,
            "Tab" => KeyCode::Tab,
            "Del" => KeyCode::Delete,
            "Ins" => KeyCode::Insert,
            "Home" => KeyCode::Home,
            "End" => KeyCode::End,
            "PgUp" => KeyCode::PageUp,
            "PgDn" => KeyCode::PageDown,
            "Backspace" => KeyCode::Backspace,
            _ => KeyCode::F(function?),
        };
        Some(Self::of(code))
    }

    fn is_arrow(self) -> bool {
        matches!(self.code, KeyCode::Left | KeyCode::Right | KeyCode::Up | KeyCode::Down)
    }

    /// The keys that would type the first line of a text.
    pub fn typing(text: &str) -> impl Iterator<Item = Self> {
        text.lines().next().unwrap_or_default().chars().filter(|c| !c.is_control()).map(Self::char)
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
            KeyCode::Insert => "Ins".to_owned(),
            KeyCode::PageUp => "PgUp".to_owned(),
            KeyCode::PageDown => "PgDn".to_owned(),
            KeyCode::F(n) => format!("F{n}"),
            other => format!("{other:?}"),
        };
        match (self.ctrl, self.shift) {
            (true, _) => format!("Ctrl-{name}"),
            (false, true) => format!("Shift-{name}"),
            (false, false) => name,
        }
    }
}

/// Whether a key event is the cut.
pub fn is_cut(event: KeyEvent) -> bool {
    Key::pressed(event).any(|key| key == Key::ctrl('c'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pressed(code: KeyCode, modifiers: KeyModifiers) -> Vec<Key> {
        Key::pressed(KeyEvent::new(code, modifiers)).collect()
    }

    #[test]
    fn every_key_is_read_from_how_it_is_written() {
        let keys = crate::screen::commands::all().flat_map(|action| action.keys.iter().copied());
        for key in keys.chain([Key::shift(KeyCode::Up), Key::of(KeyCode::Insert), Key::of(KeyCode::F(12))]) {
            assert_eq!(Key::parse(&key.name()), Some(key), "{}", key.name());
        }
        assert_eq!(Key::parse("Shift-Left"), Some(Key::shift(KeyCode::Left)));
        for wrong in ["", " ", "Ctrl-", "Ctrl-Enter", "Shift-a", "F13", "F0", "mm", "Alt-x", "Left Right"] {
            assert_eq!(Key::parse(wrong), None, "{wrong:?}");
        }
    }

    #[test]
    fn escape_right_before_a_key_is_two_keys() {
        let escape = Key::of(KeyCode::Esc);
        assert_eq!(pressed(KeyCode::Char('1'), KeyModifiers::ALT), [escape, Key::char('1')]);
        assert_eq!(pressed(KeyCode::Enter, KeyModifiers::ALT), [escape, Key::of(KeyCode::Enter)]);
        let both = KeyModifiers::ALT | KeyModifiers::CONTROL;
        assert_eq!(pressed(KeyCode::Char('c'), both), [escape, Key::ctrl('c')]);
        assert!(is_cut(KeyEvent::new(KeyCode::Char('c'), both)));
        assert_eq!(pressed(KeyCode::Char('1'), KeyModifiers::NONE), [Key::char('1')]);
        // Arrows with Alt are written in another way: there was no Esc.
        assert_eq!(pressed(KeyCode::Left, KeyModifiers::ALT), [Key::of(KeyCode::Left)]);
    }
}
