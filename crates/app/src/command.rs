//! The commands of the command line.

mod check;
mod play;
mod sheet;

use crate::cli::{Arguments, Command};
use crate::session::Session;
use crate::{demo, screen};
use std::path::Path;
use std::process::ExitCode;

/// Carries out a command; gives its exit code.
///
/// # Errors
/// With one clear message.
pub fn run(arguments: Arguments) -> miette::Result<ExitCode> {
    match arguments.command {
        Command::Demo { fresh, live } => show(&demo::prepare(fresh)?, &live),
        Command::Open { rig, live } => show(&rig, &live),
        Command::Check { rig, json } => Ok(check::run(&rig, json)),
        Command::Play(play) => play::run(&play),
        Command::Sheet(sheet) => sheet::run(&sheet),
    }
}

fn show(path: &Path, live: &crate::cli::Live) -> miette::Result<ExitCode> {
    let session = Session::open(path, live)?;
    screen::run(session)
}
