//! The commands of the command line.

mod check;
mod new;
mod play;
mod replay;
mod sheet;
mod trace;

use crate::cli::{Arguments, ClockKind, Command, Live};
use crate::files;
use crate::recent::Recent;
use crate::screen::start::{Choice, Offers};
use crate::session::Session;
use crate::{demo, screen};
use miette::IntoDiagnostic;
use std::io::IsTerminal;
use std::path::Path;
use std::process::ExitCode;

/// Carries out a command; gives its exit code.
///
/// # Errors
/// With one clear message.
pub fn run(arguments: Arguments) -> miette::Result<ExitCode> {
    let Some(command) = arguments.command else { return start() };
    match command {
        Command::Demo { fresh, live } => show(&demo::prepare(fresh)?, &live),
        Command::Open { rig, live } => open(&rig, &live),
        Command::New(new) => new::run(&new),
        Command::Check { rig, json } => Ok(check::run(&rig, json)),
        Command::Play(play) => play::run(&play),
        Command::Replay(replay) => replay::run(&replay),
        Command::Sheet(sheet) => sheet::run(&sheet),
    }
}

/// Without a command: asks on the screen what to work on.
fn start() -> miette::Result<ExitCode> {
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        return Err(miette::miette!(
            help = "name a command, such as `wasvolta demo`; `wasvolta --help` lists them",
            "there is no terminal to ask on what to work on"
        ));
    }
    let recent = Recent::read(&files::folders()?.state).there();
    let live = Live { seed: 1, clock: ClockKind::Wall, sim_log: None, record: None };
    match screen::start::run(Offers::look(recent, Path::new("/dev")))? {
        Choice::Demo => show(&demo::prepare(false)?, &live),
        Choice::Open(rig) => open(&rig, &live),
        Choice::Nothing => Ok(ExitCode::SUCCESS),
    }
}

fn open(path: &Path, live: &Live) -> miette::Result<ExitCode> {
    Recent::note(&files::folders()?.state, path);
    show(path, live)
}

fn show(path: &Path, live: &Live) -> miette::Result<ExitCode> {
    let mut session = Session::open(path, live)?;
    let left = session.keep_edits(&files::folders()?.state).into_diagnostic()?;
    screen::run(session, left)
}
