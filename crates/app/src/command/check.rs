//! `check`: what is wrong with a rig and what is worth a word, for people on stderr or as JSON on stdout.

use super::play::lines;
use crate::cli::Check;
use crate::exit::Exit;
use crate::files::input::What;
use crate::files::{self, SHOWN};
use crate::hardware::BEAT;
use crate::say::{self, counted};
use miette::Diagnostic;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::review::Review;
use wasvolta_core::rig::file::{Loaded, Located, load};
use wasvolta_core::rig::worry::{Worry, worries};
use wasvolta_core::rig::{Awaited, Index, Parts, Rig, Wait};
use wasvolta_core::stage::Plan;
use wasvolta_core::unit::Seconds;

/// What `check --json` says.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// The rig's path, as it was given.
    file: String,
    /// Whether it can be opened.
    sound: bool,
    /// What must be mended first, at most fifty, in the order of the file.
    problems: Vec<Entry>,
    /// How many problems there are.
    all_problems: usize,
    /// What is allowed, but worth a word. A rig with problems has none: they are found in what is sound.
    warnings: Vec<Warning>,
}

/// What is worth a word.
#[derive(Serialize, JsonSchema)]
struct Warning {
    /// The name of what it is about: a board, rail, port, servo, joint, input, pose or sequence.
    about: String,
    /// What is wrong, in words.
    message: String,
    /// What to do.
    help: String,
}

/// What is wrong, and where.
#[derive(Serialize, JsonSchema)]
struct Entry {
    /// From 1; 1 where it is about the whole file.
    line: usize,
    /// From 1, in characters.
    column: usize,
    /// What is wrong, in words.
    message: String,
    /// What to do.
    help: String,
}

/// What a sound rig is warned of.
fn warnings(rig: &Rig) -> Vec<Warning> {
    let all = worries(rig, Seconds::new(BEAT.as_secs_f64()));
    let all = all.into_iter().map(|Worry { about, words: message, help }| Warning { about, message, help });
    all.chain(of_sequences(rig)).collect()
}

/// What is found when its sequences are looked at, each where it is written, and waits that nobody may be there for.
fn of_sequences(rig: &Rig) -> Vec<Warning> {
    let (plan, index) = (Plan::of(rig), Index::of(rig));
    let parts = Parts { rig, index: &index };
    let mut all: Vec<Warning> = Vec::new();
    for (n, sequence) in rig.sequences.iter().enumerate() {
        let about = &sequence.name;
        for line in lines(rig, &Review::of(parts, &plan, n)) {
            // What is played by several is said once.
            if all.iter().all(|known| known.message != line.words) {
                let help = line.help.to_owned();
                all.push(Warning { about: about.clone(), message: line.words, help });
            }
        }
        for (n, step) in sequence.steps.iter().enumerate() {
            let wait = step.wait_for.as_ref().filter(|wait| wait.at_most_s.is_none());
            if let Some(Awaited::Key(key)) = wait.and_then(Wait::what) {
                all.push(Warning {
                    about: about.clone(),
                    message: format!("step {} of {about} waits for the key {key}", n + 1),
                    help: "without a keyboard it waits for ever: give it at_most_s".to_owned(),
                });
            }
        }
    }
    all
}

/// Checks a rig: 0 sound, 1 with problems, or with warnings where those count, 2 when it cannot be read.
pub fn run(wanted: &Check) -> ExitCode {
    let path = wanted.rig.as_path();
    if wanted.json {
        return as_json(path, wanted.strict).into();
    }
    match files::open(path) {
        Ok(source) => {
            let (rig, warnings) = (source.rig(), warnings(source.rig()));
            say::note(format_args!(
                "{} is sound: {}, {}, {}, {}{}",
                path.display(),
                counted(rig.servos.len(), "servo"),
                counted(rig.inputs.len(), "input"),
                counted(rig.poses.len(), "pose"),
                counted(rig.sequences.len(), "sequence"),
                if warnings.is_empty() {
                    String::new()
                } else {
                    format!("; {}", counted(warnings.len(), "warning"))
                }
            ));
            for Warning { about, message, help } in &warnings {
                say::line(format_args!("· {about}: {message}; {help}"));
            }
            verdict(&warnings, wanted.strict).into()
        }
        Err(bad) => {
            let report = miette::Report::new(bad);
            say::report(&report);
            Exit::of(&report).into()
        }
    }
}

const fn verdict(warnings: &[Warning], strict: bool) -> Exit {
    if strict && !warnings.is_empty() { Exit::Failed } else { Exit::Done }
}

fn as_json(path: &Path, strict: bool) -> Exit {
    let text = match files::read(path, What::Rig) {
        Ok(text) => text,
        Err(bad) => {
            let help = bad.help().map_or_else(String::new, |help| help.to_string());
            print(path, "", &[Located { message: bad.to_string(), help, span: None }], Vec::new());
            return Exit::Unreadable;
        }
    };
    match load(&text) {
        Loaded::Sound(rig) => {
            let warnings = warnings(&rig);
            let exit = verdict(&warnings, strict);
            print(path, &text, &[], warnings);
            exit
        }
        Loaded::Problems(found) => {
            print(path, &text, &found, Vec::new());
            Exit::Failed
        }
        Loaded::Unreadable(one) => {
            print(path, &text, &[one], Vec::new());
            Exit::Unreadable
        }
    }
}

fn print(path: &Path, text: &str, found: &[Located], warnings: Vec<Warning>) {
    let entry = |located: &Located| {
        let (line, column) = located.line_column(text);
        Entry { line, column, message: located.message.clone(), help: located.help.clone() }
    };
    say::json(&Report {
        file: path.display().to_string(),
        sound: found.is_empty(),
        problems: found.iter().take(SHOWN).map(entry).collect(),
        all_problems: found.len(),
        warnings,
    });
}
