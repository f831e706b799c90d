//! A line being typed: the one way in which anything is typed on the screen.
//!
//! What stood there before is replaced by the first letter, or edited once an arrow has gone into it. Ctrl-U clears, ↑
//! brings back what was typed here before. Enter and Esc are for whoever asks.

use crate::screen::keys::Key;
use crossterm::event::KeyCode;
use std::collections::BTreeMap;

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Typing {
    text: String,
    /// Where the next letter goes, in bytes: at the edge of a character.
    cursor: usize,
    /// What stands there was there before anything was typed: the first letter replaces it.
    prefilled: bool,
    /// How far back ↑ has gone, from 1; nothing while something new is being typed.
    back: usize,
    /// What was being typed when ↑ was pressed first.
    set_aside: String,
}

impl Typing {
    /// A line with what is likely in it.
    pub fn prefilled(text: impl Into<String>) -> Self {
        let text = text.into();
        Self { cursor: text.len(), prefilled: !text.is_empty(), text, ..Self::default() }
    }

    /// A line that was begun by typing.
    pub fn begun(text: impl Into<String>) -> Self {
        Self { prefilled: false, ..Self::prefilled(text) }
    }

    /// What stands there.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Nothing stands there.
    pub const fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// It is come to anew: what stands there is replaced by the first letter.
    pub fn offer(&mut self) {
        *self = Self::prefilled(std::mem::take(&mut self.text));
    }

    /// Forgets all of it.
    pub fn clear(&mut self) {
        *self = Self::default();
    }

    /// As it is shown, with the place where the next letter goes.
    pub fn shown(&self) -> String {
        let (before, after) = self.text.split_at_checked(self.cursor).unwrap_or((&self.text, ""));
        format!("{before}▏{after}")
    }

    /// Takes a key; `earlier` is what was typed here before, the newest last. Whether the key was for it.
    pub fn press(&mut self, key: Key, earlier: &[String]) -> bool {
        match (key.code, key.ctrl) {
            (KeyCode::Char('u' | 'U'), true) => self.clear(),
            (KeyCode::Char(c), false) if !c.is_control() => {
                if std::mem::take(&mut self.prefilled) {
                    self.clear();
                }
                self.text.insert(self.cursor, c);
                self.cursor += c.len_utf8();
                self.back = 0;
            }
            (KeyCode::Backspace, _) => {
                self.prefilled = false;
                if self.step_left() {
                    self.text.remove(self.cursor);
                }
            }
            (KeyCode::Delete, _) => {
                self.prefilled = false;
                if self.cursor < self.text.len() {
                    self.text.remove(self.cursor);
                }
            }
            (KeyCode::Left, _) => {
                self.prefilled = false;
                self.step_left();
            }
            (KeyCode::Right, _) => {
                self.prefilled = false;
                let next = self.text.get(self.cursor..).and_then(|rest| rest.chars().next());
                self.cursor += next.map_or(0, char::len_utf8);
            }
            (KeyCode::Home, _) => (self.prefilled, self.cursor) = (false, 0),
            (KeyCode::End, _) => (self.prefilled, self.cursor) = (false, self.text.len()),
            (KeyCode::Up, _) => return self.recall(self.back + 1, earlier),
            (KeyCode::Down, _) if self.back > 0 => return self.recall(self.back - 1, earlier),
            _ => return false,
        }
        true
    }

    fn step_left(&mut self) -> bool {
        let before = self.text.get(..self.cursor).and_then(|before| before.chars().next_back());
        self.cursor -= before.map_or(0, char::len_utf8);
        before.is_some()
    }

    fn recall(&mut self, back: usize, earlier: &[String]) -> bool {
        let Some(text) = (match back {
            0 => Some(self.set_aside.clone()),
            back => earlier.len().checked_sub(back).and_then(|n| earlier.get(n)).cloned(),
        }) else {
            return false;
        };
        if self.back == 0 {
            self.set_aside.clone_from(&self.text);
        }
        (self.cursor, self.text, self.prefilled, self.back) = (text.len(), text, false, back);
        true
    }
}

/// What was typed before, by what it was typed for; the newest last.
#[derive(Debug, Clone, Default)]
pub struct Recalled(BTreeMap<&'static str, Vec<String>>);

/// Lines that are kept for each.
const KEPT: usize = 20;

impl Recalled {
    /// What was typed for it.
    pub fn of(&self, what: &str) -> &[String] {
        self.0.get(what).map_or(&[], Vec::as_slice)
    }

    /// Keeps a line; the same again counts as the newest.
    pub fn keep(&mut self, what: &'static str, text: &str) {
        if text.trim().is_empty() {
            return;
        }
        let lines = self.0.entry(what).or_default();
        lines.retain(|line| line != text);
        if lines.len() == KEPT {
            lines.remove(0);
        }
        lines.push(text.to_owned());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn press(line: &mut Typing, codes: &[KeyCode]) {
        for code in codes {
            line.press(Key::of(*code), &["first".to_owned(), "second".to_owned()]);
        }
    }

    fn letters(line: &mut Typing, text: &str) {
        for c in text.chars() {
            line.press(Key::char(c), &[]);
        }
    }

    #[test]
    fn the_first_letter_replaces_what_was_there_and_an_arrow_edits_it() {
        let mut line = Typing::prefilled("pose-1");
        letters(&mut line, "bö");
        assert_eq!((line.text(), line.shown().as_str()), ("bö", "bö▏"));
        let mut line = Typing::prefilled("pöse");
        press(&mut line, &[KeyCode::Left, KeyCode::Left]);
        letters(&mut line, "t");
        assert_eq!(line.shown(), "pöt▏se");
        press(&mut line, &[KeyCode::Home, KeyCode::Right, KeyCode::Delete, KeyCode::End, KeyCode::Backspace]);
        assert_eq!(line.shown(), "pts▏");
        press(&mut line, &[KeyCode::Right, KeyCode::Delete]);
        assert_eq!(line.shown(), "pts▏", "nothing is behind its end");
        let mut line = Typing::prefilled("ab");
        press(&mut line, &[KeyCode::Backspace]);
        letters(&mut line, "c");
        assert_eq!(line.text(), "ac", "what was mended is not replaced");
    }

    #[test]
    fn it_can_be_cleared_and_what_was_typed_before_comes_back() {
        let mut line = Typing::begun("12");
        assert!(line.press(Key::ctrl('u'), &[]) && line.is_empty());
        letters(&mut line, "new");
        press(&mut line, &[KeyCode::Up]);
        assert_eq!(line.text(), "second");
        press(&mut line, &[KeyCode::Up, KeyCode::Up, KeyCode::Up]);
        assert_eq!(line.text(), "first", "the oldest stays");
        press(&mut line, &[KeyCode::Down, KeyCode::Down]);
        assert_eq!(line.text(), "new", "what was being typed was set aside");
        assert!(!line.press(Key::of(KeyCode::Down), &[]) && !line.press(Key::of(KeyCode::Up), &[]));
        assert!(!line.press(Key::of(KeyCode::Enter), &[]) && !line.press(Key::of(KeyCode::Esc), &[]));
        press(&mut line, &[KeyCode::Up]);
        letters(&mut line, "!");
        assert_eq!(line.text(), "second!", "what was brought back is edited");
    }
}
