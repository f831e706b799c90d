//! The project's own commands: `cargo xtask test` checks everything, `bench` measures, `shots` takes the pictures.

mod pictures;
mod tools;

use std::process::{Command, ExitCode};

const HELP: &str = "cargo xtask test    check everything: format, clippy, tests; installs what they need
cargo xtask bench   measure, and write docs/bench.md
cargo xtask shots   take the pictures of docs/screenshots from the demo";

fn main() -> ExitCode {
    let done = match std::env::args().nth(1).as_deref() {
        Some("test") => test(),
        Some("bench") => bench(),
        Some("shots") => pictures::take(),
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
    tools::need(&[("tmux", "tmux")])?;
    run(&["fmt", "--all", "--check"])?;
    run(&["clippy", "--workspace", "--all-targets", "--", "-D", "warnings"])?;
    run(&["test", "--workspace"])
}

/// Builds what is measured and what measures, in release form; then measures.
fn bench() -> Result<(), String> {
    run(&["build", "--release", "-p", "wasvolta", "-p", "wasvolta-bench"])?;
    run(&["run", "--release", "-p", "wasvolta-bench", "--", "docs/bench.md"])
}

/// Runs cargo and lets it speak for itself.
fn run(arguments: &[&str]) -> Result<(), String> {
    println!("cargo {}", arguments.join(" "));
    let status = Command::new(env!("CARGO")).args(arguments).status().map_err(|e| e.to_string())?;
    if status.success() { Ok(()) } else { Err(format!("cargo {} failed", arguments.join(" "))) }
}
