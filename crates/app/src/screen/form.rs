//! Some words asked for at once: each has a label, arrows and Tab go between them, Enter takes all.

use super::keys::Key;
use super::update::ask::Ask;
use crossterm::event::KeyCode;
use std::borrow::Cow;

/// What is done with the words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Task {
    /// A new servo: name, board, channel.
    AddServo,
    /// Another name for a servo.
    RenameServo(String),
    /// Another plug for a servo: board, channel.
    MoveServo(String),
    /// A servo goes: nothing to type.
    RemoveServo(String),
    /// A servo changes places with another: its name.
    SwapServo(String),
    /// What hangs there is of another kind: its word.
    ChangeKind(String),
    /// What a continuous servo must see first: a pulse, and for how long.
    Arming(String),
    /// Which servo moved: its name; then on to the next.
    NameWiggled(String),
    /// Another servo comes in the place of one: nothing to type.
    ReplaceServo(String),
    /// A serial port is asked what is on it: its path.
    AskPort,
    /// A new board: name, kind, where it hangs, address.
    AddBoard,
    /// The supply that feeds a board's servos: name, volts, amperes.
    Rail(String),
    /// Another name for a board.
    RenameBoard(String),
    /// A board goes: nothing to type.
    RemoveBoard(String),
    /// Something is wrong with the simulated bench, or right again: what, and where.
    Fault,
    /// Anything about one part: what is asked, and the part's name.
    Ask(Ask, String),
    /// A new rig: bus, address, serial port, file.
    NewRig,
}

/// One of the words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Field {
    /// What it is.
    pub label: &'static str,
    /// What was typed so far.
    pub text: String,
    /// What may be typed.
    pub hint: Cow<'static, str>,
}

impl Field {
    /// A field with what is likely in it.
    pub fn new(label: &'static str, text: impl Into<String>, hint: impl Into<Cow<'static, str>>) -> Self {
        Self { label, text: text.into(), hint: hint.into() }
    }
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Form {
    /// What is done with it.
    pub task: Task,
    /// The words.
    pub fields: Vec<Field>,
    /// Which of them is being typed.
    pub here: usize,
    /// The word that is being typed was there before: the first letter replaces it.
    pub fresh: bool,
}

/// What a key did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pressed {
    /// It is still being typed.
    Typing,
    /// All is to be taken.
    Taken,
}

impl Form {
    /// A form with its first word being typed.
    pub const fn new(task: Task, fields: Vec<Field>) -> Self {
        Self { task, fields, here: 0, fresh: true }
    }

    /// A word, without the spaces around it.
    pub fn word(&self, n: usize) -> &str {
        self.fields.get(n).map_or("", |f| f.text.trim())
    }

    /// The word behind a label, where it is asked for.
    pub fn said(&self, label: &str) -> Option<&str> {
        self.fields.iter().find(|f| f.label == label).map(|f| f.text.trim())
    }

    /// Takes a key.
    pub fn press(&mut self, key: Key) -> Pressed {
        let fresh = std::mem::take(&mut self.fresh);
        match key.code {
            KeyCode::Enter => return Pressed::Taken,
            KeyCode::Tab | KeyCode::Down => self.go(1),
            KeyCode::BackTab | KeyCode::Up => self.go(self.fields.len().saturating_sub(1)),
            KeyCode::Backspace => {
                self.text().map(String::pop);
            }
            KeyCode::Char(c) if !key.ctrl && !c.is_control() => {
                if let Some(text) = self.text() {
                    if fresh {
                        text.clear();
                    }
                    text.push(c);
                }
            }
            _ => self.fresh = fresh,
        }
        Pressed::Typing
    }

    fn go(&mut self, by: usize) {
        self.here = (self.here + by) % self.fields.len().max(1);
        self.fresh = true;
    }

    fn text(&mut self) -> Option<&mut String> {
        self.fields.get_mut(self.here).map(|f| &mut f.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_that_was_there_is_replaced_by_typing_and_kept_by_going_past() {
        let fields = vec![Field::new("name", "servo", ""), Field::new("channel", "3", "")];
        let mut form = Form::new(Task::AddServo, fields);
        form.press(Key::of(KeyCode::Tab));
        form.press(Key::of(KeyCode::Up));
        assert_eq!(form.word(0), "servo");
        form.press(Key::char('a'));
        form.press(Key::char('b'));
        assert_eq!(form.word(0), "ab");
        form.press(Key::of(KeyCode::Down));
        form.press(Key::of(KeyCode::Backspace));
        form.press(Key::char('7'));
        assert_eq!(form.press(Key::of(KeyCode::Enter)), Pressed::Taken);
        assert_eq!(form.word(1), "7");
    }
}
