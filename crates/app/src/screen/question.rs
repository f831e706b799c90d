//! A question that is asked by a form, as a value: what it is called, what it says, and what the answer does. A new question
//! is a row where its actions stand; nothing else knows of it.

use super::form::Form;
use super::scene::Scene;
use super::update::Context;
use std::fmt;

/// What a question is about.
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

/// See the module.
pub struct Question {
    /// What it is called where it is asked. No two have one name.
    pub name: &'static str,
    /// The words where nothing is typed and Enter means yes.
    pub confirm: Option<fn(&Scene, &Subject) -> String>,
    /// Does what was answered; gives the words for it.
    pub take: fn(&mut Context, &Subject, &Form) -> Result<String, String>,
}

impl fmt::Debug for Question {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Question").field(&self.name).finish()
    }
}

impl PartialEq for Question {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

impl Eq for Question {}
