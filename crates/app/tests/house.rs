//! The program's own order: what runs a rig knows neither the terminal nor the command line.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::Path;

/// The modules of the program, each with those that it names; what only tests name is left out.
fn modules() -> BTreeMap<String, BTreeSet<String>> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut texts = BTreeMap::new();
    collect(&root, "", &mut texts);
    let known: BTreeSet<String> = texts.keys().cloned().collect();
    let named = |(module, text): (&String, &String)| {
        let paths = paths(text).into_iter().filter_map(|path| resolve(&known, module, &path));
        // What stands in a folder is spoken of by its own name.
        let inside = known.iter().filter(|other| {
            let child = other.strip_prefix(module.as_str()).and_then(|rest| rest.strip_prefix("::"));
            child.is_some_and(|child| !child.contains("::") && speaks_of(text, child))
        });
        (module.clone(), paths.chain(inside.cloned()).filter(|other| other != module).collect())
    };
    texts.iter().map(named).collect()
}

fn collect(folder: &Path, prefix: &str, texts: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let (path, stem) = (entry.path(), entry.path().file_stem().unwrap().to_str().unwrap().to_owned());
        let name = if prefix.is_empty() { stem.clone() } else { format!("{prefix}::{stem}") };
        if path.is_dir() {
            if stem != "tests" && stem != "snapshots" {
                collect(&path, &name, texts);
            }
        } else if path.extension().is_some_and(|extension| extension == "rs") && stem != "main" {
            let text = fs::read_to_string(&path).unwrap();
            let code = without_tests(&text).lines().filter(|line| !line.trim_start().starts_with("//"));
            texts.insert(name, code.collect::<Vec<_>>().join("\n"));
        }
    }
}

/// A file up to its tests, which stand last.
fn without_tests(text: &str) -> &str {
    let mut marks = text.match_indices("#[cfg(test)]\n");
    let tests = marks.find(|(at, mark)| {
        let line = text[at + mark.len()..].lines().next().unwrap_or_default();
        line.contains("mod ") && line.ends_with('{')
    });
    tests.map_or(text, |(at, _)| &text[..at])
}

/// Whether a text has a path that begins with a name.
fn speaks_of(text: &str, name: &str) -> bool {
    text.match_indices(&format!("{name}::")).any(|(at, _)| {
        !text[..at].chars().next_back().is_some_and(|c| c.is_alphanumeric() || c == '_' || c == ':')
    })
}

/// All paths that begin at the crate or above, with their groups taken apart.
fn paths(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for start in ["crate::", "super::"] {
        for (at, _) in text.match_indices(start) {
            let before = text[..at].chars().next_back();
            // A word that ends so, a macro's own path, or who may see something.
            let inside = before.is_some_and(|c| c.is_alphanumeric() || c == '_' || c == '$');
            if !inside && !text[..at].ends_with("super::") && !text[..at].ends_with("(in ") {
                expand(&text[at..], "", &mut found);
            }
        }
    }
    found
}

/// Reads a path at the beginning of a text; gives where it ends.
fn expand(text: &str, before: &str, found: &mut Vec<String>) -> usize {
    let end = text.find(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':')).unwrap_or(text.len());
    let path = format!("{before}{}", &text[..end]);
    if !text[end..].starts_with('{') {
        found.push(path);
        return end;
    }
    let mut at = end + 1;
    loop {
        at += text[at..].find(|c: char| !c.is_whitespace() && c != ',').unwrap_or(text.len() - at);
        if at >= text.len() || text[at..].starts_with('}') {
            return at + 1;
        }
        at += expand(&text[at..], &path, found).max(1);
    }
}

/// The module that a path leads into, from within another.
fn resolve(known: &BTreeSet<String>, from: &str, path: &str) -> Option<String> {
    let mut parts: Vec<&str> = path.split("::").filter(|part| !part.is_empty()).collect();
    let mut at: Vec<&str> = from.split("::").collect();
    if parts.first() == Some(&"crate") {
        at.clear();
        parts.remove(0);
    }
    while parts.first() == Some(&"super") {
        at.pop();
        parts.remove(0);
    }
    at.extend(parts);
    (1..=at.len()).rev().map(|n| at[..n].join("::")).find(|module| known.contains(module))
}

/// All that a module leads to.
fn reached(modules: &BTreeMap<String, BTreeSet<String>>, from: &str) -> BTreeSet<String> {
    let (mut seen, mut ahead) = (BTreeSet::new(), vec![from.to_owned()]);
    while let Some(module) = ahead.pop() {
        for next in &modules[&module] {
            if seen.insert(next.clone()) {
                ahead.push(next.clone());
            }
        }
    }
    seen
}

#[test]
fn the_document_and_the_runner_know_neither_the_terminal_nor_the_command_line() {
    let modules = modules();
    for of in ["document", "runner", "session"] {
        let reached = reached(&modules, of);
        let above = |module: &&String| {
            ["cli", "command", "screen"].contains(&module.split("::").next().unwrap_or_default())
        };
        assert_eq!(reached.iter().find(above), None, "{of} leads to {reached:?}");
        assert!(reached.contains("files"), "{reached:?}");
    }
    // The screen does lead to both: what finds nothing would prove nothing.
    let screen = reached(&modules, "screen");
    assert!(screen.contains("runner") && screen.contains("document"), "{screen:?}");
}

#[test]
fn no_file_of_the_program_leads_back_to_itself() {
    let modules = modules();
    assert!(modules.len() > 80, "{}", modules.len());
    let circle = modules.keys().find(|module| reached(&modules, module).contains(*module));
    let within = circle.map(|module| {
        let there = reached(&modules, module);
        let back = there.iter().filter(|other| reached(&modules, other).contains(module));
        back.cloned().collect::<Vec<_>>()
    });
    assert_eq!(within, None, "these files form a circle");
}

#[test]
fn the_document_knows_nothing_of_devices() {
    let reached = reached(&modules(), "document");
    for device in ["runner", "hardware", "lookout", "survey"] {
        assert!(!reached.contains(device), "{reached:?}");
    }
}

#[test]
fn paths_are_found_in_groups_too() {
    // What stands behind `as` is no path: it leads nowhere new.
    let text = "use super::{a, b::{c, d as e}};\nuse crate::screen::model::{Dialog, View};\nfn f(x: super::super::g::H) {}";
    let known: BTreeSet<String> = ["s::a", "s::b::c", "s::b", "g", "screen::model"].map(str::to_owned).into();
    let mut found: Vec<String> =
        paths(text).iter().filter_map(|path| resolve(&known, "s::t", path)).collect();
    found.sort();
    found.dedup();
    assert_eq!(found, ["g", "s::a", "s::b", "s::b::c", "screen::model"].map(str::to_owned));
}
