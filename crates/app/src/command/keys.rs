//! `keys`: which key does what, with the keys that a person has set.

use crate::config;
use crate::exit::Exit;
use crate::say;
use crate::screen::action::Action;
use crate::screen::commands;
use crate::screen::keymap::Keymap;
use schemars::JsonSchema;
use serde::Serialize;
use std::process::ExitCode;

/// What `keys --json` says: every action, in the order of the help.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// All actions, in the order of the help.
    actions: Vec<One>,
}

/// An action, with its keys.
#[derive(Serialize, JsonSchema)]
struct One {
    /// Its name, by which its keys are set in `config.toml`. An action of several views has a row for each.
    action: &'static str,
    /// Its keys as they are written there; none where only the palette has it.
    keys: Vec<String>,
    /// The view in which they work; none where they work everywhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    view: Option<&'static str>,
    /// What it does.
    does: &'static str,
}

impl One {
    fn of(action: &'static Action, keys: &Keymap) -> Self {
        Self {
            action: action.name,
            keys: keys.of(action.name).iter().map(|key| key.name()).collect(),
            view: action.view.map(|view| view.0),
            does: action.long,
        }
    }
}

/// Prints the map, as lines or as JSON.
///
/// # Errors
/// When there is no home folder.
pub fn run(keys: &Keymap, json: bool) -> miette::Result<ExitCode> {
    let path = config::path()?;
    if json {
        say::json(&Report { actions: commands::all().map(|action| One::of(action, keys)).collect() });
        return Ok(Exit::Done.into());
    }
    for (name, actions) in commands::groups() {
        say::line(&name);
        for action in actions {
            let shown = keys.shown(action.name);
            let shown = if shown.is_empty() { "–" } else { shown.as_str() };
            say::line(format_args!("  {shown:<14} {:<24} {}", action.name, action.long));
        }
    }
    say::note(format_args!(
        "\nkeys are set by name in {}: a table [keys] with lines as \"mark\" = \"m\", or [\"m\", \"Space\"], or [] for none",
        path.display()
    ));
    Ok(Exit::Done.into())
}
