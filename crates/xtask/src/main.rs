//! The project's own commands: `cargo xtask test` checks everything, `bench` measures, `shots` takes the pictures,
//! `dist` makes what is given to people.

mod dist;
mod pictures;
mod tools;

use std::process::{Command, ExitCode};

const HELP: &str = "cargo xtask test    check everything: format, clippy, tests; installs what they need
cargo xtask bench   measure, and write docs/bench.md; with names of parts, only those, as 'an edit'
cargo xtask shots   take the pictures of docs/screenshots from the demo
cargo xtask dist    make what is given to people, in target/dist: program, manual pages, completions, package, sums";

fn main() -> ExitCode {
    let done = match std::env::args().nth(1).as_deref() {
        Some("test") => test(),
        Some("bench") => bench(&std::env::args().skip(2).collect::<Vec<_>>()),
        Some("shots") => pictures::take(),
        Some("dist") => dist::make(),
        _ => {
            println!("{HELP}");
            return ExitCode::from(2);
        }
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("xtask: {why}");
            ExitCode::FAILURE
        }
    }
}

/// Format, lints, and all tests with Cargo's own runner.
fn test() -> Result<(), String> {
    tools::need(&[("tmux", "tmux"), ("mosquitto", "mosquitto")])?;
    run(&["fmt", "--all", "--check"])?;
    run(&["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    run(&["test", "--workspace"])
}

/// Builds what is measured and what measures, in release form; then measures.
/// Some of it goes beside the whole table, which it must not take the place of.
fn bench(parts: &[String]) -> Result<(), String> {
    run(&["build", "--release", "-p", "wasvolta", "-p", "wasvolta-bench"])?;
    let table = if parts.is_empty() { "docs/bench.md" } else { "target/bench.md" };
    let mut arguments = vec!["run", "--release", "-p", "wasvolta-bench", "--", table];
    arguments.extend(parts.iter().map(String::as_str));
    run(&arguments)
}

/// Runs cargo and lets it speak for itself.
fn run(arguments: &[&str]) -> Result<(), String> {
    println!("cargo {}", arguments.join(" "));
    let status = Command::new(env!("CARGO")).args(arguments).status().map_err(|e| e.to_string())?;
    if status.success() { Ok(()) } else { Err(format!("cargo {} failed", arguments.join(" "))) }
}
