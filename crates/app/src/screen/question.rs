//! A question that is asked by a form, as a value: what it is called, what it says, and what the answer does. A new question
//! is a row where its actions stand; nothing else knows of it.

use crate::screen::context::Context;
use crate::screen::form::{Form, Subject};
use crate::screen::scene::Scene;

/// See the module.
pub struct Question {
    /// What it is called. No two have one name.
    pub name: &'static str,
    /// What stands before it.
    pub label: &'static str,
    /// The words where it is not its fields that are shown.
    pub words: Option<fn(&Scene, &Form) -> String>,
    /// Does what was answered; gives the words for it.
    pub take: fn(&mut Context, &Subject, &Form) -> Result<String, String>,
}

impl Question {
    /// Whether its answer goes for each servo where several are picked.
    pub fn goes_for_each(&self) -> bool {
        matches!(self.name, "rated" | "spline" | "volts" | "put card" | "supply")
    }
}

/// Writes questions, and the list of them: `NAME("name", label: "before it", words: words) => take;`.
macro_rules! questions {
    ($($(#[$doc:meta])* $id:ident($name:literal $(, label: $label:literal)? $(, words: $words:expr)?) => $take:expr;)*) => {
        $(
            $(#[$doc])*
            pub static $id: $crate::screen::question::Question = $crate::screen::question::Question {
                name: $name,
                label: $crate::screen::question::questions!(@or $name $(, $label)?),
                words: $crate::screen::question::questions!(@words $($words)?),
                take: $take,
            };
        )*
        /// All questions that are asked here.
        pub static QUESTIONS: &[&$crate::screen::question::Question] = &[$(&$id),*];
    };
    (@or $name:literal) => { $name };
    (@or $name:literal, $label:literal) => { $label };
    (@words) => { None };
    (@words $words:expr) => { Some($words) };
}
pub(in crate::screen) use questions;
