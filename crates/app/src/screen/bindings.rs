//! Keys that a person gives to actions: what may be given, and what would mean two things at once.

use super::action::Action;
use super::commands;
use super::keymap::Keymap;
use super::keys::Key;
use super::panels;

/// Why a key cannot be an action's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unbound {
    /// The action whose key it was to be.
    pub action: &'static str,
    /// What is wrong, in words.
    pub why: String,
    /// What to do.
    pub help: String,
}

/// The map of the tables' own keys.
pub fn usual() -> Keymap {
    Keymap::new(commands::all().map(|action| (action.name, action.keys)))
}

/// Gives an action other keys; none leaves it to the palette.
///
/// # Errors
/// When the action must keep its key, or a key begins an entry.
pub fn set(keymap: &mut Keymap, action: &'static Action, keys: Vec<Key>) -> Result<(), Unbound> {
    let refuse = |why: String, help: &str| Err(Unbound { action: action.name, why, help: help.to_owned() });
    if action.name == "cut" || keys.contains(&Key::ctrl('c')) {
        return refuse(
            "cut keeps Ctrl-C, and nothing else can be put there".to_owned(),
            "Ctrl-C cuts, always: leave that line out, or give another key",
        );
    }
    if let Some(key) = keys.iter().find(|key| key.starts_entry()) {
        return refuse(
            format!("{} begins an entry", key.name()),
            "digits, + and - are typed; give another key",
        );
    }
    keymap.put(action.name, keys);
    Ok(())
}

/// Keys that would do two things in one view. Of two actions the one is named that was given its key: `written` says
/// which were.
pub fn clashes(keymap: &Keymap, written: impl Fn(&str) -> bool) -> Vec<Unbound> {
    let mut found: Vec<Unbound> = Vec::new();
    for view in panels::TABLE.map(|panel| panel.view) {
        let here: Vec<&Action> = commands::all().filter(|action| action.works_in(view)).collect();
        for (n, action) in here.iter().enumerate() {
            for key in keymap.of(action.name) {
                let other = here.iter().skip(n + 1).find(|other| keymap.of(other.name).contains(key));
                let Some(other) = other else { continue };
                let (own, taken) = if written(action.name) { (action, other) } else { (other, action) };
                if found.iter().any(|one| one.action == own.name) {
                    continue;
                }
                found.push(Unbound {
                    action: own.name,
                    why: format!("{} is also the key of {} in {}", key.name(), taken.name, view.0),
                    help: format!(
                        "give {0} another key too, as \"{0}\" = \"…\", or choose another here",
                        taken.name
                    ),
                });
            }
        }
    }
    found
}
