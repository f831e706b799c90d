//! The page of the command line and the schemas of what it says as JSON, made from the tables that the program itself
//! works by. A test compares them with what stands in the documentation.

use crate::cli::{Arguments, ENVIRONMENT};
use crate::command::SHAPES;
use crate::exit::Exit;
use crate::screen::action::Action;
use crate::screen::panel::Panel;
use crate::screen::{bindings, commands, entry, panels};
use clap::builder::StyledStr;
use clap::{Arg, Command, CommandFactory};
use std::fmt::Write;
use std::path::{Path, PathBuf};

fn words(text: Option<&StyledStr>) -> String {
    let text = text.map(ToString::to_string).unwrap_or_default();
    text.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|")
}

/// The same as a sentence.
fn sentence(text: Option<&StyledStr>) -> String {
    let text = words(text);
    if text.is_empty() || text.ends_with(['.', ':', ';']) { text } else { format!("{text}.") }
}

/// How an argument is written.
fn form(argument: &Arg) -> String {
    let values =
        argument.get_value_names().map(|names| names.iter().map(ToString::to_string).collect::<Vec<_>>());
    let takes = argument.get_action().takes_values();
    let value = values.filter(|_| takes).map_or_else(String::new, |names| format!(" {}", names.join(" ")));
    let long = argument.get_long().map(|long| format!("`--{long}{value}`"));
    let short = argument.get_short().map(|short| format!("`-{short}{value}`"));
    match (short, long) {
        (Some(short), Some(long)) => format!("{short}, {long}"),
        (Some(one), None) | (None, Some(one)) => one,
        (None, None) => format!("`{}`", value.trim()),
    }
}

/// What it does, and what may stand for it.
fn meaning(argument: &Arg) -> String {
    let help = sentence(argument.get_long_help().or_else(|| argument.get_help()));
    let choices: Vec<String> = argument
        .get_possible_values()
        .iter()
        .filter(|_| argument.get_action().takes_values())
        .map(|choice| match sentence(choice.get_help()) {
            help if help.is_empty() => format!("`{}`", choice.get_name()),
            help => format!("`{}`: {help}", choice.get_name()),
        })
        .collect();
    let usual = argument.get_default_values().iter().filter(|_| argument.get_action().takes_values());
    let usual: Vec<String> = usual.map(|value| format!("`{}`", value.to_string_lossy())).collect();
    let choices = if choices.is_empty() { String::new() } else { format!(" {}", choices.join(" ")) };
    let usual = if usual.is_empty() { String::new() } else { format!(" Default: {}.", usual.join(", ")) };
    format!("{help}{choices}{usual}")
}

fn table(command: &Command, global: bool) -> String {
    let own = command.get_arguments().filter(|a| a.is_global_set() == global && !a.is_hide_set());
    let named = own.filter(|a| !matches!(a.get_id().as_str(), "help" | "version"));
    let rows: Vec<String> = named.map(|a| format!("| {} | {} |\n", form(a), meaning(a))).collect();
    if rows.is_empty() {
        String::new()
    } else {
        format!("| written | meaning |\n|---|---|\n{}\n", rows.concat())
    }
}

fn section(name: &str, command: &Command, out: &mut String) {
    let about = sentence(command.get_long_about().or_else(|| command.get_about()));
    let _ = write!(out, "## `{name}`\n\n{about}\n\n{}", table(command, false));
    for (of, file, _) in SHAPES.iter().filter(|(of, ..)| *of == name || of.starts_with(&format!("{name} "))) {
        let _ = write!(out, "What `{of} --json` says has the shape of [{file}](json/{file}).\n\n");
    }
    for under in command.get_subcommands().filter(|c| c.get_name() != "help") {
        section(&format!("{name} {}", under.get_name()), under, out);
    }
}

fn page() -> String {
    let mut command = Arguments::command();
    command.build();
    let mut out = format!(
        "# The command line\n\n{} `wasvolta COMMAND --help` says the same, and `wasvolta man FOLDER` writes manual \
         pages. This page is made from the program's own tables.\n\nA path of `-` is standard input or standard output, \
         where it says so. Nothing that is read is ever written over, and no file that is there is replaced without \
         `--force`.\n\n",
        sentence(command.get_about())
    );
    for under in command.get_subcommands().filter(|c| c.get_name() != "help") {
        section(under.get_name(), under, &mut out);
    }
    out.push_str("## With every command\n\n");
    out.push_str(&table(&command, true));
    out.push_str("## Exit codes\n\n| code | meaning |\n|---|---|\n");
    for exit in Exit::ALL {
        let _ = writeln!(out, "| {} | {} |", exit.code(), exit.words());
    }
    out.push_str("\n## Environment\n\n| variable | meaning |\n|---|---|\n");
    for (name, words) in ENVIRONMENT {
        let _ = writeln!(out, "| `{name}` | {words} |");
    }
    out
}

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

fn is_documented(file: &str, text: &str) {
    let path = docs().join(file);
    if std::env::var_os("WASVOLTA_WRITE_DOCS").is_some() {
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == text,
        "docs/{file} is not that of the program; WASVOLTA_WRITE_DOCS=1 cargo test writes it anew"
    );
}

#[test]
fn the_page_of_the_command_line_is_made_from_its_tables() {
    is_documented("command-line.md", &page());
}

/// A table of actions, those with keys first.
fn rows(actions: &[&Action]) -> String {
    let usual = bindings::usual();
    let (keyed, named): (Vec<&Action>, Vec<&Action>) =
        actions.iter().partition(|action| !action.keys.is_empty());
    let row = |action: &&Action| {
        let keys = match usual.shown(action.name) {
            none if none.is_empty() => "–".to_owned(),
            keys => keys.split(' ').map(|key| format!("`{key}`")).collect::<Vec<_>>().join(" "),
        };
        format!("| {keys} | {} | {} |\n", action.name, action.long.replace('|', "\\|"))
    };
    let all = keyed.iter().chain(&named).map(row).collect::<Vec<_>>().concat();
    format!("| key | command | what it does |\n|---|---|---|\n{all}")
}

/// What stands in a page of the manual between its two marks: facts from the tables.
fn facts(page: &str) -> String {
    let of_view = |panel: &&&Panel| panel.view.0.eq_ignore_ascii_case(page);
    if let Some(panel) = panels::TABLE.iter().find(of_view) {
        return rows(&panel.actions.iter().collect::<Vec<_>>());
    }
    let mut out = String::new();
    let everywhere = commands::groups().filter(|(_, actions)| actions.iter().all(|a| a.view.is_none()));
    for (name, actions) in everywhere.filter(|(name, _)| !name.starts_with("of ")) {
        let _ = write!(
            out,
            "## {}\n\n{}\n",
            sentence(Some(&name.clone().into())).trim_end_matches('.'),
            rows(&actions)
        );
    }
    out.push_str("## What may be typed\n\n| typed | meaning |\n|---|---|\n");
    for (form, words) in entry::FORMS {
        let _ = writeln!(out, "| `{form}` | {words} |");
    }
    out
}

#[test]
fn every_page_of_the_manual_has_the_facts_of_the_tables_and_is_in_its_summary() {
    const BEGIN: &str = "<!-- made from the program's tables -->\n";
    const END: &str = "<!-- end -->";
    let folder = docs().join("manual/src");
    let summary = std::fs::read_to_string(folder.join("SUMMARY.md")).unwrap();
    let views = panels::TABLE.map(|panel| panel.view.0.to_lowercase());
    for page in views.iter().map(String::as_str).chain(["keys"]) {
        assert!(summary.contains(&format!("({page}.md)")), "{page}");
        let text = std::fs::read_to_string(folder.join(format!("{page}.md"))).unwrap();
        let (before, rest) = text.split_once(BEGIN).unwrap();
        let (_, behind) = rest.split_once(END).unwrap();
        is_documented(
            &format!("manual/src/{page}.md"),
            &format!("{before}{BEGIN}{}{END}{behind}", facts(page)),
        );
    }
    for page in std::fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name()) {
        let name = page.to_string_lossy().into_owned();
        assert!(name == "SUMMARY.md" || summary.contains(&format!("({name})")), "{name}");
    }
}

/// Keys that a page names in its prose are keys that there are.
#[test]
fn every_key_that_the_manual_names_is_one() {
    let folder = docs().join("manual/src");
    let known: Vec<String> =
        commands::all().flat_map(|action| action.keys.iter().map(|key| key.name())).collect();
    let mut seen = 0;
    for page in ["working", "wiring", "calibrate", "inputs", "sequence"] {
        let text = std::fs::read_to_string(folder.join(format!("{page}.md"))).unwrap();
        let prose = text.split("## Keys of your own").next().unwrap();
        let prose = prose.split("<!-- made").next().unwrap();
        for code in prose.split('`').skip(1).step_by(2).filter(|code| code.chars().count() == 1) {
            assert!(known.iter().any(|key| key == code), "{code} in {page}.md is nobody's key");
            seen += 1;
        }
    }
    assert!(seen > 30, "{seen}");
}

#[test]
fn every_shape_of_json_has_its_schema() {
    for (_, file, schema) in SHAPES {
        let text = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
        is_documented(&format!("json/{file}"), &text);
    }
    let files = std::fs::read_dir(docs().join("json")).unwrap().count();
    assert_eq!(files, SHAPES.len(), "a schema that no command says any more");
}
