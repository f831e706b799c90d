//! Which key does what, by the actions' names. Every text names a key by what it does, as `‹mark›`; the key itself is put
//! there by [`Keymap::spell`], in one place for all of them.

use super::keys::Key;
use std::borrow::Cow;
use std::collections::HashMap;

/// See the module.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Keymap {
    keys: HashMap<&'static str, Vec<Key>>,
}

impl Keymap {
    /// A map of actions with their keys.
    pub fn new(rows: impl Iterator<Item = (&'static str, &'static [Key])>) -> Self {
        Self { keys: rows.map(|(name, keys)| (name, keys.to_vec())).collect() }
    }

    /// The keys of an action; none for what only the palette offers.
    pub fn of(&self, name: &str) -> &[Key] {
        self.keys.get(name).map_or(&[], Vec::as_slice)
    }

    /// Gives an action other keys; none leaves it to the palette.
    pub fn put(&mut self, name: &'static str, keys: Vec<Key>) {
        self.keys.insert(name, keys);
    }

    /// How the keys of an action are written: `m`, `Ctrl-S`, several with a space between; empty without any.
    pub fn shown(&self, name: &str) -> String {
        self.of(name).iter().map(|key| key.name()).collect::<Vec<_>>().join(" ")
    }

    /// How one asks for an action of that name: by its first key, else by its name in the palette. None where no action
    /// is called that.
    pub fn way(&self, name: &str) -> Option<String> {
        let keys = self.keys.get(name)?;
        Some(keys.first().map_or_else(|| format!(":{name}"), |key| key.name()))
    }

    /// A text with the keys in the places of the names: `‹mark› keeps it` becomes `m keeps it`, and `:mark keeps it` where
    /// the action has no key. What is no action's name stays as it is.
    pub fn spell<'t>(&self, text: &'t str) -> Cow<'t, str> {
        spell(text, |name| self.way(name))
    }
}

const OPEN: char = '‹';
const CLOSE: char = '›';

/// A text with what `way` gives in the places of the names that stand in it as `‹name›`; where it gives nothing, that
/// stays as it is.
pub fn spell(text: &str, way: impl Fn(&str) -> Option<String>) -> Cow<'_, str> {
    if !text.contains(OPEN) {
        return Cow::Borrowed(text);
    }
    let mut spelled = String::with_capacity(text.len());
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once(OPEN) {
        spelled.push_str(before);
        match behind.split_once(CLOSE).and_then(|(name, left)| Some((way(name)?, left))) {
            Some((way, left)) => {
                spelled.push_str(&way);
                rest = left;
            }
            None => {
                spelled.push(OPEN);
                rest = behind;
            }
        }
    }
    spelled.push_str(rest);
    Cow::Owned(spelled)
}

/// The names that stand in a text.
#[cfg(test)]
pub fn names_in(text: &str) -> impl Iterator<Item = &str> {
    text.split(OPEN).skip(1).filter_map(|behind| Some(behind.split_once(CLOSE)?.0))
}

/// Whether a text speaks of an action, before it was spelled.
pub fn speaks_of(text: &str, name: &str) -> bool {
    text.match_indices(OPEN).any(|(at, open)| {
        text.get(at + open.len()..)
            .and_then(|behind| behind.split_once(CLOSE))
            .is_some_and(|(own, _)| own == name)
    })
}
