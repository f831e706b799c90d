//! `check`: what is wrong with a rig, for people on stderr or as JSON on stdout.

use crate::exit::Exit;
use crate::files;
use crate::hardware::BEAT;
use crate::say;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, Located, load};
use wasvolta_core::rig::worry::{Worry, worries};
use wasvolta_core::unit::Seconds;

#[derive(Serialize)]
struct Report<'a> {
    file: String,
    sound: bool,
    problems: Vec<Entry<'a>>,
    /// What is allowed, but worth a word.
    warnings: Vec<Warning>,
}

#[derive(Serialize)]
struct Warning {
    about: String,
    message: String,
    help: String,
}

/// What a sound rig is warned of.
fn warnings(rig: &Rig) -> Vec<Warning> {
    let all = worries(rig, Seconds::new(BEAT.as_secs_f64()));
    all.into_iter().map(|Worry { about, words: message, help }| Warning { about, message, help }).collect()
}

#[derive(Serialize)]
struct Entry<'a> {
    line: usize,
    column: usize,
    message: &'a str,
    help: &'a str,
}

/// Checks a rig: 0 sound, 1 with problems, 2 when it cannot be read.
pub fn run(path: &Path, json: bool) -> ExitCode {
    if json {
        return as_json(path);
    }
    match files::open(path) {
        Ok(source) => {
            let rig = source.rig();
            say::line(format_args!(
                "{} is sound: {}, {}, {}, {}",
                path.display(),
                counted(rig.servos.len(), "servo"),
                counted(rig.inputs.len(), "input"),
                counted(rig.poses.len(), "pose"),
                counted(rig.sequences.len(), "sequence")
            ));
            for Warning { about, message, help } in warnings(rig) {
                say::line(format_args!("· {about}: {message}; {help}"));
            }
            Exit::Done.into()
        }
        Err(bad) => {
            let report = miette::Report::new(bad);
            say::trouble(format_args!("{report:?}"));
            Exit::of(&report).into()
        }
    }
}

fn counted(n: usize, what: &str) -> String {
    format!("{n} {what}{}", if n == 1 { "" } else { "s" })
}

fn as_json(path: &Path) -> ExitCode {
    let text = match files::read(path) {
        Ok(text) => text,
        Err(bad) => {
            let message = bad.to_string();
            let located = Located { message, help: "check the path".to_owned(), span: None };
            return print((path, ""), &[located], Vec::new(), Exit::Unreadable);
        }
    };
    match load(&text) {
        Loaded::Sound(rig) => print((path, &text), &[], warnings(&rig), Exit::Done),
        Loaded::Problems(found) => print((path, &text), &found, Vec::new(), Exit::Failed),
        Loaded::Unreadable(one) => print((path, &text), &[one], Vec::new(), Exit::Unreadable),
    }
}

fn print((path, text): (&Path, &str), found: &[Located], warnings: Vec<Warning>, exit: Exit) -> ExitCode {
    let entry = |located: &'_ Located| {
        let (line, column) = located.line_column(text);
        (line, column)
    };
    let problems = found
        .iter()
        .map(|located| {
            let (line, column) = entry(located);
            Entry { line, column, message: &located.message, help: &located.help }
        })
        .collect();
    let report = Report { file: path.display().to_string(), sound: exit == Exit::Done, problems, warnings };
    match serde_json::to_string_pretty(&report) {
        Ok(text) => say::line(text),
        Err(error) => say::trouble(format_args!("cannot write JSON: {error}")),
    }
    exit.into()
}
