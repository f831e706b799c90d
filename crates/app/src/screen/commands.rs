//! Every action of every room, in the order in which the keys line, the help and the palette show them; all of those and
//! the dispatch are read from here.

use super::action::Action;
use super::keys::Key;
use super::model::View;
use super::{everywhere, panels};

/// Every action: what stops and moves things, what each room has, the rest.
pub fn all() -> impl Iterator<Item = &'static Action> {
    let rooms = panels::TABLE.into_iter().flat_map(|panel| panel.actions);
    let ways = panels::TABLE.into_iter().map(|panel| &panel.show);
    everywhere::FIRST.iter().chain(rooms).chain(everywhere::LAST).chain(ways)
}

/// The action of a key in a view.
pub fn of(pressed: Key, view: View) -> Option<&'static Action> {
    all().find(|action| action.works_in(view) && action.keys.contains(&pressed))
}

/// The action of a name.
pub fn named(name: &str) -> Option<&'static Action> {
    all().find(|action| action.name == name)
}

/// A line of the help.
pub enum HelpLine {
    /// What the lines behind it have in common.
    Group(&'static str),
    /// An action that has keys.
    Action(&'static Action),
    /// Nothing, before another group.
    Gap,
}

/// The help in a view: what works there only, then what works everywhere, room by room.
pub fn help(view: View) -> Vec<HelpLine> {
    let keyed = |own: bool| {
        let works = move |a: &&Action| a.works_in(view) && a.view.is_some() == own && !a.keys.is_empty();
        all().filter(works).map(HelpLine::Action)
    };
    let here = std::iter::once(HelpLine::Group(view.0)).chain(keyed(true));
    here.chain([HelpLine::Gap, HelpLine::Group("everywhere")]).chain(keyed(false)).collect()
}

/// Commands that the palette shows for a query: those whose name or sentence holds all its words.
pub fn matching(query: &str) -> Vec<&'static Action> {
    let words: Vec<String> = query.split_whitespace().map(str::to_lowercase).collect();
    let holds = |action: &&Action| {
        let text = format!("{} {}", action.name, action.long).to_lowercase();
        words.iter().all(|word| text.contains(word))
    };
    let mut found: Vec<&Action> = all().filter(holds).collect();
    // The nearer a name is to what was typed, the earlier it comes; a whole name always comes first.
    let (typed, first) = (words.join(" "), words.first().map_or("", String::as_str));
    let far = |name: &str| match name {
        name if name == typed => 0,
        name if name.starts_with(&typed) => 1,
        name if words.iter().all(|word| name.contains(word)) => 2,
        name if name.starts_with(first) => 3,
        _ => 4,
    };
    found.sort_by_cached_key(|action| far(&action.name.to_lowercase()));
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crossterm::event::KeyCode;

    #[test]
    fn no_key_means_two_things_in_one_view() {
        for view in panels::TABLE.map(|panel| panel.view) {
            let mut seen = Vec::new();
            for action in all().filter(|a| a.works_in(view)) {
                for key in action.keys {
                    assert!(!seen.contains(key), "{} has the key of another in {view:?}", action.name);
                    seen.push(*key);
                }
            }
        }
    }

    #[test]
    fn every_action_can_be_found_and_its_texts_fit() {
        for action in all() {
            assert!(action.long.chars().count() <= 80, "{}", action.long);
            assert!(action.short.chars().count() <= 24, "{}", action.short);
            assert!(action.name.chars().count() <= 24, "{}", action.name);
            assert_eq!(all().filter(|a| a.name == action.name).count(), 1, "{}", action.name);
            assert_eq!(matching(action.name)[0].name, action.name, "its whole name finds it first");
        }
    }

    #[test]
    fn no_key_needs_altgr_and_ctrl_is_kept_for_three() {
        let keys: Vec<Key> = all().flat_map(|a| a.keys.iter().copied()).collect();
        assert!(
            keys.iter()
                .all(|k| !matches!(k.code, KeyCode::Char('[' | ']' | '{' | '}' | '@' | '|' | '\\' | '~')))
        );
        assert_eq!(keys.iter().filter(|k| k.ctrl).count(), 3, "cut, save, redo");
        assert!(
            keys.iter().all(|k| !matches!(k.code, KeyCode::Char('0'..='9' | '+' | '-'))),
            "they start an entry"
        );
    }
}
