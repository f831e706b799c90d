//! What was found wrong, and the looks that many places share.

use super::names::Listed;
use super::{Path, Problem};
use crate::outside;
use crate::range::{self, Range};
use crate::rig::number::{Numbered, Which};
use std::collections::HashSet;

/// What was found so far.
#[derive(Default)]
pub(in crate::rig) struct Found(pub(super) Vec<Problem>);

impl Found {
    /// The numbers of one table, each by its row.
    pub(super) fn numbers(&mut self, at: &Path, of: &impl Numbered) {
        self.numbers_but(at, of, "");
    }

    /// The same, but for those under one key.
    pub(super) fn numbers_but(&mut self, at: &Path, of: &impl Numbered, but: &str) {
        of.each_number(&mut |row, which, value| {
            if row.range.holds(value) || row.key == but {
                return;
            }
            let path = at.key(row.key);
            let path = match which {
                Which::Only => path,
                Which::At(n) => path.at(n),
                Which::Key(key) => path.key(key),
            };
            self.range(path, row.range, value);
        });
    }

    pub(super) fn say(&mut self, path: Path, message: impl Into<String>, help: impl Into<String>) {
        self.0.push(Problem { path, message: message.into(), help: help.into() });
    }

    pub(super) fn range(&mut self, path: Path, row: &Range, value: f64) {
        if let Err(outside) = row.check(value) {
            let help = format!("give a number from {} to {} {}", row.least, row.greatest, row.unit);
            self.say(path, outside.to_string(), help.trim_end().to_owned());
        }
    }

    pub(super) fn name(&mut self, at: &Path, name: &str) {
        if let Err(bad) = range::check_name(name) {
            self.say(at.key("name"), bad.to_string(), "choose a shorter or plainer name");
        }
    }

    pub(super) fn notes(&mut self, at: &Path, key: &str, notes: &str) {
        let length = notes.chars().count();
        if length > range::NOTES_LENGTH {
            let message = format!("{length} characters of notes, {} are kept", range::NOTES_LENGTH);
            self.say(at.key(key), message, "shorten it, or keep the rest as a comment");
        }
        if notes.chars().any(|c| outside::is_unfit(c) && !matches!(c, '\n' | '\t')) {
            self.say(at.key(key), "this text has invisible characters", "type it again in plain letters");
        }
    }

    /// A word by which something outside is known: a path, a field's name, a day.
    pub(super) fn word(&mut self, path: Path, what: &str, word: &str) {
        let length = word.chars().count();
        if length == 0 || length > range::PATH_LENGTH || word.chars().any(outside::is_unfit) {
            let message = format!("{what} needs 1 to {} visible characters", range::PATH_LENGTH);
            self.say(path, message, "type it again");
        }
    }

    pub(super) fn known(&mut self, path: Path, name: &str, names: &Listed<'_>) -> bool {
        if names.places.contains_key(name) {
            return true;
        }
        let what = names.what;
        let help = if names.listed.is_empty() {
            format!("there is no {what} in this rig yet; add a [[{what}]]")
        } else {
            format!("there is: {}", names.offered())
        };
        self.say(path, format!("no {what} is called {name:?}"), help);
        false
    }

    pub(super) fn unique<'a>(&mut self, list: &str, names: impl Iterator<Item = &'a str>) {
        let mut before = HashSet::new();
        for (n, name) in names.enumerate() {
            if !before.insert(name) {
                let path = Path::of(list, n).key("name");
                let message = format!("a second {list} is called {name:?}");
                self.say(path, message, "give one of them another name");
            }
        }
    }
}
