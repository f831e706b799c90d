//! What a person has set for good: `config.toml` in the program's folder of settings.

use crate::files::{self, BadFile, input};
use crate::screen::bindings::{self, Unbound};
use crate::screen::commands;
use crate::screen::keymap::Keymap;
use crate::screen::keys::Key;
use input::What;
use std::ops::Range;
use std::path::{Path, PathBuf};
use toml_edit::{Document, Item, Value};
use wasvolta_core::rig::file::Located;

/// Where it stands.
///
/// # Errors
/// When there is no home folder.
pub fn path() -> miette::Result<PathBuf> {
    Ok(files::folders()?.config.join("config.toml"))
}

/// The keys that are set there; the tables' own where there is no file.
///
/// # Errors
/// Says what is wrong with it, with the places underlined.
pub fn keys(path: &Path) -> Result<Keymap, BadFile> {
    if !path.exists() {
        return Ok(bindings::usual());
    }
    let text = files::read(path, What::Settings)?;
    let document: Document<String> = match text.parse() {
        Ok(document) => document,
        Err(error) => {
            let error: toml_edit::TomlError = error;
            let help = "it may only have a table [keys] with lines such as \"mark\" = \"m\"".to_owned();
            let located = Located { message: error.message().to_owned(), help, span: error.span() };
            return Err(files::malformed(path, What::Settings, text, &located));
        }
    };
    read(&document).map_err(|found| files::problems(path, text, &found))
}

fn read(document: &Document<String>) -> Result<Keymap, Vec<Located>> {
    let mut found = Vec::new();
    let mut keymap = bindings::usual();
    let mut lines: Vec<(&'static str, Option<Range<usize>>)> = Vec::new();
    let at = |message: String, help: &str, span| Located { message, help: help.to_owned(), span };
    for (name, item) in document.iter() {
        let span = document.key(name).and_then(toml_edit::Key::span);
        let Some(table) = item.as_table_like().filter(|_| name == "keys") else {
            found.push(at(format!("{name} is not a setting"), "the only table is [keys]", span));
            continue;
        };
        for (name, item) in table.iter() {
            let span = table.key(name).and_then(toml_edit::Key::span);
            let Some(action) = commands::all().find(|action| action.name == name) else {
                let near = commands::matching(name, |_| 0).first().map(|action| action.name);
                let help = match near {
                    Some(near) => format!("did you mean {near:?}? `wasvolta keys` lists them all"),
                    None => "`wasvolta keys` lists them all".to_owned(),
                };
                found.push(at(format!("no action is called {name:?}"), &help, span));
                continue;
            };
            let refused = |unbound: Unbound| at(unbound.why, &unbound.help, span.clone());
            match written(item) {
                Ok(keys) => match bindings::set(&mut keymap, action, keys) {
                    Ok(()) => lines.push((action.name, span)),
                    Err(unbound) => found.push(refused(unbound)),
                },
                Err(what) => {
                    let help =
                        "a key is written as m, M, Enter, Space, PgUp, F5, Ctrl-K or Shift-Left; [] is none";
                    found.push(at(what, help, item.span()));
                }
            }
        }
    }
    for clash in bindings::clashes(&keymap, |name| lines.iter().any(|(own, _)| *own == name)) {
        let span = lines.iter().find(|(name, _)| *name == clash.action).and_then(|(_, span)| span.clone());
        found.push(at(clash.why, &clash.help, span));
    }
    if found.is_empty() { Ok(keymap) } else { Err(found) }
}

/// The keys that stand behind a name: one, or several between brackets.
fn written(item: &Item) -> Result<Vec<Key>, String> {
    let one = |value: &Value| {
        let text = value.as_str().ok_or_else(|| format!("{} is not a key", value.to_string().trim()))?;
        Key::parse(text).ok_or_else(|| format!("{text:?} is not a key"))
    };
    match item.as_value() {
        Some(Value::Array(keys)) => keys.iter().map(one).collect(),
        Some(value) => Ok(vec![one(value)?]),
        None => Err("write a key here, or several in brackets".to_owned()),
    }
}
