//! Every action of every room, in the order in which the keys line, the help and the palette show them; all of those and
//! the dispatch are read from here.

use super::action::Action;
use super::dialog::Dialog;
use super::keymap::Keymap;
use super::keys::Key;
use super::model::View;
use super::panel::Panel;
use super::{entry, everywhere, panels};
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

/// Every action: what stops and moves things, what each room has, the rest.
pub fn all() -> impl Iterator<Item = &'static Action> {
    let rooms = panels::TABLE.into_iter().flat_map(|panel| panel.actions);
    let last = everywhere::LAST.iter().flat_map(|(_, actions)| *actions);
    let ways = panels::TABLE.into_iter().map(|panel| &panel.show);
    everywhere::FIRST.iter().chain(rooms).chain(last).chain(ways)
}

/// The action of a name: where several views have one of that name, the view's own.
pub fn named(name: &str, view: View) -> Option<&'static Action> {
    let own = || all().filter(|action| action.name == name);
    own().find(|action| action.works_in(view)).or_else(|| own().next())
}

/// Every action under the names that the help has for groups of them: what each view has, then what works everywhere.
pub fn groups() -> impl Iterator<Item = (String, Vec<&'static Action>)> {
    let of_view = |panel: &'static Panel| {
        let (own, anywhere) = panel.actions.iter().partition::<Vec<_>, _>(|action| action.view.is_some());
        [(format!("in {}", panel.view.0), own), (format!("of {}, from anywhere", panel.view.0), anywhere)]
    };
    let everywhere = std::iter::once((NAME_OF_FIRST.to_owned(), everywhere::FIRST.iter().collect()));
    let last = everywhere::LAST.iter().map(|(name, actions)| ((*name).to_owned(), actions.iter().collect()));
    let ways = ("views".to_owned(), panels::TABLE.into_iter().map(|panel| &panel.show).collect());
    let rooms = panels::TABLE.into_iter().flat_map(of_view);
    everywhere
        .chain(last)
        .chain([ways])
        .chain(rooms)
        .filter(|(_, actions): &(String, Vec<_>)| !actions.is_empty())
}

const NAME_OF_FIRST: &str = "stop, jog, engage";

/// The action that a key does in a view.
pub fn of(keys: &Keymap, pressed: Key, view: View) -> Option<&'static Action> {
    all().find(|action| action.works_in(view) && keys.of(action.name).contains(&pressed))
}

/// A line of the help.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HelpLine {
    /// What the lines behind it have in common.
    Group(String),
    /// Keys, or what is typed, with what they do.
    Line {
        /// How they are written.
        keys: String,
        /// What they do.
        words: String,
        /// The action that it is, by its name; none where something else takes the keys.
        action: Option<&'static str>,
    },
    /// Nothing, before another group.
    Gap,
}

/// The help in a view: what works there only, then what works everywhere; what else there is, what is asked, what may be
/// typed. With a query only lines that have all its words, also of commands without a key.
pub fn help(view: View, keys: &Keymap, query: &str) -> Vec<HelpLine> {
    let wanted: Vec<String> = query.split_whitespace().map(str::to_lowercase).collect();
    let mut lines = Vec::new();
    let mut group = |name: String, rows: Vec<HelpLine>| {
        let holds = |line: &HelpLine| match line {
            HelpLine::Line { keys, words, action } => {
                let text = format!("{keys} {words} {}", action.unwrap_or_default()).to_lowercase();
                wanted.iter().all(|word| text.contains(word))
            }
            HelpLine::Group(_) | HelpLine::Gap => false,
        };
        let rows: Vec<HelpLine> = rows.into_iter().filter(holds).collect();
        if !rows.is_empty() {
            lines.extend((!lines.is_empty()).then_some(HelpLine::Gap));
            lines.push(HelpLine::Group(name));
            lines.extend(rows);
        }
    };
    let shown = |action: &&'static Action| !keys.of(action.name).is_empty() || !wanted.is_empty();
    let line = |action: &'static Action| {
        let keys = match keys.shown(action.name) {
            none if none.is_empty() => format!(":{}", action.name),
            keys => keys,
        };
        HelpLine::Line { keys, words: action.long.to_owned(), action: Some(action.name) }
    };
    let table = |actions: &'static [Action]| actions.iter().filter(shown).map(line).collect::<Vec<_>>();
    let own = panels::of(view);
    group(format!("in {}", view.0), table(own.actions));
    group(NAME_OF_FIRST.to_owned(), table(everywhere::FIRST));
    for (name, actions) in everywhere::LAST {
        group((*name).to_owned(), table(actions));
    }
    group("views".to_owned(), panels::TABLE.into_iter().map(|panel| line(&panel.show)).collect());
    for panel in panels::TABLE.into_iter().filter(|panel| panel.view != view) {
        let rows = |from_here: bool| {
            let works = move |action: &&Action| action.works_in(view) == from_here;
            panel.actions.iter().filter(works).filter(shown).map(line).collect::<Vec<_>>()
        };
        group(format!("of {}, from anywhere", panel.view.0), rows(true));
        group(format!("in {} only", panel.view.0), rows(false));
    }
    let typed = entry::FORMS.iter().map(|(form, words)| HelpLine::Line {
        keys: (*form).to_owned(),
        words: (*words).to_owned(),
        action: None,
    });
    group("numbers with units, typed anywhere they are asked for".to_owned(), typed.collect());
    for (name, rows) in Dialog::TABLES {
        let rows = rows.iter().filter(|row| !row.shown.is_empty()).map(|row| HelpLine::Line {
            keys: row.shown.to_owned(),
            words: row.word.to_owned(),
            action: None,
        });
        group(format!("while it asks: {name}"), rows.collect());
    }
    lines
}

/// What a match in an action's sentence is worth beside one in its name.
const IN_SENTENCE: u32 = 20;
/// What it is worth that a whole word of the name is there: *step* means a step before it means a steered pair.
const WORD: u32 = 40;
/// What it is worth that all of the name is there.
const WHOLE: u32 = 10_000;

/// Commands for what was typed, the best first: letters in their order somewhere in the name, or whole words in the
/// sentence. `favour` says how much an action is worth for other reasons; without a query it alone decides, and what is
/// worth the same stays in the table's order.
pub fn matching(query: &str, favour: impl Fn(&Action) -> u32) -> Vec<&'static Action> {
    let mut matcher = Matcher::new(Config::DEFAULT);
    let of = |kind| Pattern::new(query, CaseMatching::Ignore, Normalization::Smart, kind);
    let (letters, words) = (of(AtomKind::Fuzzy), of(AtomKind::Substring));
    let (mut name, mut sentence) = (Vec::new(), Vec::new());
    let mut found: Vec<(u32, &Action)> = all()
        .filter_map(|action| {
            let in_name = letters.score(Utf32Str::new(action.name, &mut name), &mut matcher);
            let text = format!("{} {}", action.name, action.long);
            let in_sentence = words.score(Utf32Str::new(&text, &mut sentence), &mut matcher);
            let score = match (in_name, in_sentence) {
                (None, None) => return None,
                (Some(score), _) => score + IN_SENTENCE,
                (None, Some(_)) => IN_SENTENCE,
            };
            let is_whole = action.name.eq_ignore_ascii_case(query.trim());
            let has_word = action.name.split(' ').any(|word| word.eq_ignore_ascii_case(query.trim()));
            let exact = u32::from(is_whole) * WHOLE + u32::from(has_word) * WORD;
            Some((score + favour(action) + exact, action))
        })
        .collect();
    found.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    found.into_iter().map(|(_, action)| action).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::screen::bindings::{clashes, usual};
    use crossterm::event::KeyCode;

    #[test]
    fn a_key_means_one_thing_wherever_it_works() {
        for action in all() {
            for key in action.keys {
                for other in all().filter(|other| other.keys.contains(key)) {
                    assert_eq!(action.name, other.name, "{} means two things", key.name());
                }
            }
        }
        assert_eq!(clashes(&usual(), |_| true), []);
    }

    #[test]
    fn every_action_is_in_one_group() {
        let grouped: Vec<&Action> = groups().flat_map(|(_, actions)| actions).collect();
        assert_eq!(grouped.len(), all().count());
        for action in all() {
            assert_eq!(
                grouped.iter().filter(|own| std::ptr::eq(**own, action)).count(),
                1,
                "{}",
                action.name
            );
        }
    }

    #[test]
    fn an_action_of_several_views_has_one_name_one_key_and_a_sentence_for_each() {
        for action in all() {
            let same: Vec<&Action> = all().filter(|other| other.name == action.name).collect();
            for other in &same {
                assert_eq!(action.keys, other.keys, "{}", action.name);
                let clash = !std::ptr::eq(action, *other) && action.view == other.view;
                assert!(!clash, "two actions are called {} in {:?}", action.name, action.view);
            }
            assert!(same.len() == 1 || same.iter().all(|one| one.view.is_some()), "{}", action.name);
        }
    }

    #[test]
    fn a_whole_word_of_a_name_comes_before_letters_of_another_that_works_here() {
        let here = |action: &Action| if action.name == "steered pair" { 60 } else { 30 };
        let found = matching("step", here);
        assert!(found[0].name.split(' ').any(|word| word == "step"), "{}", found[0].name);
        assert!(found.iter().any(|action| action.name == "steered pair"));
    }

    #[test]
    fn every_action_can_be_found_and_its_texts_fit() {
        for action in all() {
            assert!(action.long.chars().count() <= 80, "{}", action.long);
            assert!(action.short.chars().count() <= 24, "{}", action.short);
            assert!(action.name.chars().count() <= 24, "{}", action.name);
            assert_eq!(matching(action.name, |_| 0)[0].name, action.name, "its whole name finds it first");
            let lines = help(panels::TABLE[0].view, &usual(), action.name);
            let has = |line: &HelpLine| matches!(line, HelpLine::Line { action: Some(own), .. } if *own == action.name);
            assert!(lines.iter().any(has), "the help finds {}", action.name);
        }
    }

    #[test]
    fn letters_in_their_order_find_a_command_and_favour_decides_among_equals() {
        assert_eq!(matching("calsh", |_| 0)[0].name, "calibration sheet");
        assert_eq!(matching("SAVCRD", |_| 0)[0].name, "save card");
        assert_eq!(matching("horn another tooth", |_| 0)[0].name, "horn moved", "by words of its sentence");
        assert!(matching("zzzz", |_| 0).is_empty());
        let names = |favoured: &'static str| {
            matching("", |action| u32::from(action.name == favoured))
                .iter()
                .map(|a| a.name)
                .collect::<Vec<_>>()
        };
        assert_eq!(names("quit")[0], "quit");
        assert_eq!(names("quit").len(), all().count());
        assert_eq!(names("none")[0], "cut", "else the table's order");
    }

    #[test]
    fn the_help_has_every_keyed_action_every_dialog_and_every_form_once() {
        for view in panels::TABLE.map(|panel| panel.view) {
            let lines = help(view, &usual(), "");
            for action in all().filter(|action| !action.keys.is_empty()) {
                let is = |line: &&HelpLine| {
                    matches!(line, HelpLine::Line { action: Some(own), words, .. }
                        if *own == action.name && words == action.long)
                };
                assert_eq!(lines.iter().filter(is).count(), 1, "{} in {view:?}", action.name);
            }
            let group = |name: &str| {
                lines.iter().any(|line| matches!(line, HelpLine::Group(own) if own.ends_with(name)))
            };
            for (name, _) in Dialog::TABLES {
                assert!(group(name), "{name}");
            }
            assert!(group("asked for"));
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
        assert!(keys.iter().all(|k| !k.starts_entry()), "they start an entry");
    }
}
