//! The page of the command line and the schemas of what it says as JSON, made from the tables that the program itself
//! works by. A test compares them with what stands in the documentation.

use crate::cli::{Arguments, ENVIRONMENT};
use crate::command::SHAPES;
use crate::exit::Exit;
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
    let usual = if usual.is_empty() { String::new() } else { format!(" Unless said: {}.", usual.join(", ")) };
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

#[test]
fn every_shape_of_json_has_its_schema() {
    for (_, file, schema) in SHAPES {
        let text = serde_json::to_string_pretty(&schema()).unwrap() + "\n";
        is_documented(&format!("json/{file}"), &text);
    }
    let files = std::fs::read_dir(docs().join("json")).unwrap().count();
    assert_eq!(files, SHAPES.len(), "a schema that no command says any more");
}
