//! The commands of the command line.

mod card;
mod check;
mod manual;
mod new;
mod play;
mod release;
mod replay;
mod scan;
mod sheet;
mod sim;
mod trace;
mod why;

use crate::cli::{Arguments, Command, Live};
use crate::exit::Exit;
use crate::files;
use crate::recent::Recent;
use crate::screen::look::Look;
use crate::screen::start::{Choice, Offers};
use crate::session::Session;
use crate::{demo, screen};
use miette::IntoDiagnostic;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_port::scan::Roots;

/// Carries out a command; gives its exit code.
///
/// # Errors
/// With one clear message.
pub fn run(arguments: Arguments) -> miette::Result<ExitCode> {
    crate::log::start(arguments.log.as_deref())?;
    let look = arguments.look.resolve(|name| std::env::var_os(name));
    if arguments.command.as_ref().is_none_or(Command::has_screen) {
        screen::terminal::possible(std::env::var_os("TERM"))?;
    }
    let Some(command) = arguments.command else { return start(&look) };
    match command {
        Command::Demo { fresh, live } => show(&demo::prepare(fresh)?, &live, &look),
        Command::Open { rig, live } => open(&rig, &live, &look),
        Command::New(new) => new::run(&new),
        Command::Check { rig, json } => Ok(check::run(&rig, json)),
        Command::Scan(scan) => scan::run(&scan),
        Command::Why(why) => why::run(&why),
        Command::Sim(sim) => sim::run(&sim),
        Command::Play(play) => play::run(&play),
        Command::Release(release) => release::run(&release),
        Command::Replay(replay) => replay::run(&replay),
        Command::Card(card) => card::run(&card),
        Command::Sheet(sheet) => sheet::run(&sheet),
        Command::Man { folder } => manual::pages(&folder),
        Command::Completions { shell } => Ok(manual::completions(shell)),
    }
}

/// Without a command: asks on the screen what to work on.
fn start(look: &Look) -> miette::Result<ExitCode> {
    let recent = Recent::read(&files::folders()?.state).there();
    let live = Live::default();
    match screen::start::run(Offers::look(recent, &Roots::default()), look)? {
        Choice::Demo => show(&demo::prepare(false)?, &live, look),
        Choice::Open(rig) => open(&rig, &live, look),
        Choice::Nothing => Ok(Exit::Done.into()),
    }
}

fn open(path: &Path, live: &Live, look: &Look) -> miette::Result<ExitCode> {
    Recent::note(&files::folders()?.state, path);
    show(path, live, look)
}

fn show(path: &Path, live: &Live, look: &Look) -> miette::Result<ExitCode> {
    let mut session = Session::open(path, live)?;
    let left = session.keep_edits(&files::folders()?.state).into_diagnostic()?;
    screen::run(session, left, look)
}
