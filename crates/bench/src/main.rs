//! Measures what the house promises, each figure beside the bare work it is made of, and writes the table.
//!
//! `cargo xtask bench [PART]…` builds the program and runs this. Nothing here decides whether a test passes: machines
//! differ, and a busy one is slow.

#![allow(clippy::indexing_slicing, reason = "rigs of known size are made here")]

mod beat;
mod boards;
mod build;
mod bus;
mod dry;
mod edit;
mod input;
mod linkage;
mod motion;
mod report;
mod rigs;
mod rubbish;
mod screen;
mod share;
mod smart;
mod stage;

use std::path::PathBuf;
use std::process::{Command, ExitCode};

/// What is measured, and how.
type Part = (&'static str, fn() -> Vec<report::Row>);

/// The program to measure: built beside this one.
pub fn program() -> PathBuf {
    std::env::current_exe().unwrap_or_default().with_file_name("wasvolta")
}

fn main() -> ExitCode {
    let mut rows = Vec::new();
    let parts: [Part; 13] = [
        ("the stage", stage::measure),
        ("linkages", linkage::measure),
        ("sequences", motion::measure),
        ("beats", beat::measure),
        ("inputs", input::measure),
        ("rubbish", rubbish::measure),
        ("the bus", bus::measure),
        ("62 boards", boards::measure),
        ("smart servos", smart::measure),
        ("a dry run", dry::measure),
        ("the screen", screen::measure),
        ("an edit", edit::measure),
        ("a build", build::measure),
    ];
    // Behind the table's place stand the parts that are wanted; all where none is named.
    let wanted: Vec<String> = std::env::args().skip(2).collect();
    for (name, measure) in parts {
        if !wanted.is_empty() && !wanted.iter().any(|part| part == name) {
            continue;
        }
        eprintln!("measuring {name}");
        let found = measure();
        if found.is_empty() {
            eprintln!("{name} could not be measured here");
        }
        rows.extend(found);
    }
    let table = report::table(&rows);
    println!("{table}");
    let missed = rows.iter().filter(|row| !row.held()).count();
    println!("{missed} of {} figures missed what was wanted", rows.len());
    let Some(path) = std::env::args_os().nth(1).map(PathBuf::from) else { return ExitCode::SUCCESS };
    match std::fs::write(&path, format!("{}{table}", head())) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("cannot write {}: {why}", path.display());
            ExitCode::FAILURE
        }
    }
}

fn head() -> String {
    let said = |command: &str, arguments: &[&str]| {
        let output = Command::new(command).args(arguments).output().ok();
        output.map_or_else(|| "?".to_owned(), |o| String::from_utf8_lossy(&o.stdout).trim().to_owned())
    };
    let cores = std::thread::available_parallelism().map_or(0, std::num::NonZero::get);
    let processor = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let processor = processor.lines().find_map(|l| l.strip_prefix("model name")?.split(": ").nth(1));
    format!(
        "# Figures\n\nMade by `cargo xtask bench`; never part of a test. What stands beside a figure was measured in the \
         same run,\nso that a ratio means something on a busy machine too.\n\n{}, {} cores, {}, Linux {}, {}.\n\n",
        said("date", &["+%Y-%m-%d"]),
        cores,
        processor.unwrap_or("processor that does not say its name"),
        said("uname", &["-r"]),
        said("rustc", &["--version"])
    )
}
