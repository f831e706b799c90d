//! Some words asked for at once: each has a label, arrows and Tab go between them, Enter takes all.

use crate::screen::keys::Key;
use crate::screen::typing::{Recalled, Typing};
use crossterm::event::KeyCode;
use std::borrow::Cow;

/// What a form is about.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Subject {
    /// The part's name.
    pub of: String,
    /// A file or another part that goes with it.
    pub with: String,
    /// What was found out before it was asked.
    pub words: String,
}

impl Subject {
    /// A part of that name.
    pub fn of(name: &str) -> Self {
        Self { of: name.to_owned(), ..Self::default() }
    }
}

/// One of the words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// What it is.
    pub label: &'static str,
    /// What stands in it.
    pub typing: Typing,
    /// What may be typed.
    pub hint: Cow<'static, str>,
    /// What else was found that could stand in it, the likeliest last: the arrows go through them.
    pub offers: Vec<String>,
}

impl Field {
    /// A field with what is likely in it.
    pub fn new(label: &'static str, text: impl Into<String>, hint: impl Into<Cow<'static, str>>) -> Self {
        Self { label, typing: Typing::prefilled(text), hint: hint.into(), offers: Vec::new() }
    }

    /// With what was found that could stand in it, the likeliest first, the first of them in it.
    pub fn offering(mut self, mut found: Vec<String>) -> Self {
        found.reverse();
        if found.len() > 1 {
            self.hint =
                format!("{} found: ‹row above› ‹row below› goes through them; or {}", found.len(), self.hint)
                    .into();
        }
        if let Some(first) = found.pop() {
            self.typing = Typing::prefilled(first);
        }
        self.offers = found;
        self
    }
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Form {
    /// Which question it asks, by its name.
    pub question: &'static str,
    pub subject: Subject,
    pub fields: Vec<Field>,
    /// Which of them is being typed.
    pub here: usize,
}

impl Form {
    /// A form with its first word being typed.
    pub const fn new(question: &'static str, subject: Subject, fields: Vec<Field>) -> Self {
        Self { question, subject, fields, here: 0 }
    }

    /// A word, without the spaces around it.
    pub fn word(&self, n: usize) -> &str {
        self.fields.get(n).map_or("", |f| f.typing.text().trim())
    }

    /// The word behind a label, where it is asked for.
    pub fn said(&self, label: &str) -> Option<&str> {
        self.fields.iter().find(|f| f.label == label).map(|f| f.typing.text().trim())
    }

    /// Takes a key. What was typed before is recalled by a word's label; with nothing to recall the arrows go from word
    /// to word.
    pub fn press(&mut self, key: Key, recalled: &Recalled) {
        let words = self.fields.len().max(1);
        let taken = self.fields.get_mut(self.here).is_some_and(|field| {
            let earlier = if field.offers.is_empty() { recalled.of(field.label) } else { &field.offers };
            field.typing.press(key, earlier)
        });
        match key.code {
            KeyCode::Tab => self.go(1),
            KeyCode::BackTab => self.go(words - 1),
            KeyCode::Down if !taken => self.go(1),
            KeyCode::Up if !taken => self.go(words - 1),
            _ => {}
        }
    }

    fn go(&mut self, by: usize) {
        self.here = (self.here + by) % self.fields.len().max(1);
        if let Some(field) = self.fields.get_mut(self.here) {
            field.typing.offer();
        }
    }

    /// Keeps what was typed, to be recalled.
    pub fn keep(&self, recalled: &mut Recalled) {
        self.fields.iter().for_each(|field| recalled.keep(field.label, field.typing.text()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_that_was_there_is_replaced_by_typing_and_kept_by_going_past() {
        let fields = vec![Field::new("name", "servo", ""), Field::new("channel", "3", "")];
        let mut form = Form::new("add servo", Subject::default(), fields);
        let mut recalled = Recalled::default();
        form.press(Key::of(KeyCode::Tab), &recalled);
        form.press(Key::of(KeyCode::Up), &recalled);
        assert_eq!(form.word(0), "servo");
        form.press(Key::char('a'), &recalled);
        form.press(Key::char('b'), &recalled);
        assert_eq!(form.word(0), "ab");
        form.press(Key::of(KeyCode::Down), &recalled);
        form.press(Key::of(KeyCode::Backspace), &recalled);
        form.press(Key::char('7'), &recalled);
        assert_eq!(form.word(1), "7");
        // What was typed there before comes back by the arrow; Tab goes from word to word all the same.
        form.keep(&mut recalled);
        let fields = vec![Field::new("name", "servo", ""), Field::new("channel", "3", "")];
        let mut next = Form::new("add servo", Subject::default(), fields);
        next.press(Key::of(KeyCode::Up), &recalled);
        next.press(Key::of(KeyCode::Tab), &recalled);
        assert_eq!((next.word(0), next.here), ("ab", 1));
    }
    #[test]
    fn the_arrows_go_through_what_was_found_to_be_taken_or_added_to() {
        let found = ["/dev/ttyACM0", "/dev/ttyUSB0", "desk"].map(str::to_owned).to_vec();
        let field = Field::new("on", "", "a place").offering(found);
        assert_eq!(field.hint, "3 found: ‹row above› ‹row below› goes through them; or a place");
        let mut form = Form::new("add link", Subject::default(), vec![field]);
        let recalled = Recalled::default();
        let mut on = |keys: &[KeyCode]| {
            for key in keys {
                form.press(Key::of(*key), &recalled);
            }
            form.word(0).to_owned()
        };
        assert_eq!(on(&[]), "/dev/ttyACM0");
        assert_eq!(on(&[KeyCode::Up]), "/dev/ttyUSB0");
        assert_eq!(on(&[KeyCode::Up]), "desk");
        assert_eq!(on(&[KeyCode::Down, KeyCode::Down]), "/dev/ttyACM0");
        assert_eq!(
            on(&[KeyCode::Char('@'), KeyCode::Char('9')]),
            "/dev/ttyACM0@9",
            "what was found may be added to"
        );
        let none = Field::new("on", "", "a place").offering(Vec::new());
        assert_eq!((none.hint.as_ref(), none.typing.text()), ("a place", ""));
    }
}
