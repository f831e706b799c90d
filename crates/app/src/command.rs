//! The commands of the command line.

mod card;
mod check;
mod firmware;
mod inputs;
mod keys;
mod list;
mod manual;
mod new;
mod play;
mod release;
mod replay;
mod scan;
mod sequence;
mod sheet;
mod sim;
mod trace;
mod why;

use crate::cli::{Arguments, Command};
use crate::exit::Exit;
use crate::face::Face;
use crate::files;
use crate::files::output::Outputs;
use crate::hardware::Surroundings;
use crate::recent::Recent;
use crate::say;
use crate::screen::bindings;
use crate::screen::start::{Choice, Offers};
use crate::session::Session;
use crate::{demo, practice, screen};
use miette::IntoDiagnostic;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_port::scan::Roots;

/// A shape of JSON.
#[cfg(test)]
type Shape = (&'static str, &'static str, fn() -> schemars::Schema);

/// What is said as JSON: by which command, the file of its schema, and how that is made.
#[cfg(test)]
pub const SHAPES: [Shape; 9] = [
    ("check", "check.schema.json", || schemars::schema_for!(check::Report)),
    ("inputs", "inputs.schema.json", || schemars::schema_for!(inputs::Report)),
    ("keys", "keys.schema.json", || schemars::schema_for!(keys::Report)),
    ("list", "list.schema.json", || schemars::schema_for!(list::Report)),
    ("play", "play.schema.json", || schemars::schema_for!(play::Report)),
    ("scan", "scan.schema.json", || schemars::schema_for!(wasvolta_port::scan::Scan)),
    ("scan --ask", "ask.schema.json", || schemars::schema_for!(wasvolta_port::scan::Answer)),
    ("sequence check", "sequence.schema.json", || schemars::schema_for!(sequence::Report)),
    ("why", "why.schema.json", || schemars::schema_for!(why::Report)),
];

/// Carries out a command; gives its exit code.
///
/// # Errors
/// With one clear message.
pub fn run(arguments: Arguments) -> miette::Result<ExitCode> {
    let look = arguments.look.resolve(|name| std::env::var_os(name));
    let keys = crate::config::path().and_then(|path| Ok(crate::config::keys(&path)?));
    let spelling = keys.as_ref().cloned().unwrap_or_else(|_| bindings::usual());
    let data = arguments.command.as_ref().is_some_and(Command::writes_to_standard_output);
    say::speak(arguments.quiet, data, look, Box::new(move |words| spelling.spell(words).into_owned()));
    let outputs = Outputs::new(arguments.force);
    let demo = matches!(arguments.command, Some(Command::Demo { .. })).then(demo::path).transpose()?;
    for path in arguments.command.iter().flat_map(Command::reads).chain(demo.as_deref()) {
        outputs.reads(path);
        // What is simulated beside a rig is read with it.
        outputs.reads(&crate::hardware::truth_path(path));
    }
    if arguments.command.as_ref().is_none_or(Command::has_screen) {
        outputs.show_screen();
    }
    crate::log::start(arguments.log.as_deref(), &outputs)?;
    // Keys that are not as they were meant must not be pressed; what needs none must not fail for them.
    let keys = if arguments.command.as_ref().is_none_or(Command::needs_keys) {
        keys?
    } else {
        keys.unwrap_or_else(|_| bindings::usual())
    };
    let done = carry_out(arguments, &Face { look, keys }, &outputs);
    // Where the command itself has failed, that is the first thing to know.
    if outputs.tell() && done.is_ok() { Ok(Exit::Failed.into()) } else { done }
}

fn carry_out(arguments: Arguments, face: &Face, outputs: &Outputs) -> miette::Result<ExitCode> {
    if arguments.command.as_ref().is_none_or(Command::has_screen) {
        screen::terminal::possible(std::env::var_os("TERM"))?;
    }
    let Some(command) = arguments.command else { return start(face, outputs) };
    match command {
        Command::Demo { fresh, live } => show(&demo::prepare(fresh)?, &(&live).into(), face, outputs),
        Command::Practice { deal, live } => practise(deal, &(&live).into(), face, outputs),
        Command::Open { rig, live } => open(&rig, &(&live).into(), face, outputs),
        Command::New(new) => new::run(&new, outputs),
        Command::Check(check) => Ok(check::run(&check)),
        Command::List(list) => list::run(&list),
        Command::Inputs(inputs) => inputs::run(&inputs),
        Command::Scan(scan) => scan::run(&scan),
        Command::Why(why) => why::run(&why),
        Command::Firmware(firmware) => firmware::run(&firmware, outputs),
        Command::Sim(sim) => sim::run(&sim),
        Command::Play(play) => play::run(&play, outputs),
        Command::Release(release) => release::run(&release, outputs),
        Command::Replay(replay) => replay::run(&replay, outputs),
        Command::Card(card) => card::run(&card, outputs),
        Command::Sheet(sheet) => sheet::run(&sheet, outputs),
        Command::Sequence(wanted) => sequence::run(&wanted),
        Command::Keys { json } => keys::run(&face.keys, json),
        Command::Man { folder } => manual::pages(&folder, &face.keys, outputs),
        Command::Completions { shell } => Ok(manual::completions(shell)),
    }
}

/// Without a command: asks on the screen what to work on.
fn start(face: &Face, outputs: &Outputs) -> miette::Result<ExitCode> {
    let recent = Recent::read(&files::folders()?.state).there();
    let around = Surroundings::default();
    match screen::start::run(Offers::look(recent, &Roots::default()), &face.look)? {
        Choice::Demo => show(&demo::prepare(false)?, &around, face, outputs),
        Choice::Practice => practise(None, &around, face, outputs),
        Choice::Open(rig) => open(&rig, &around, face, outputs),
        Choice::Nothing => Ok(Exit::Done.into()),
    }
}

fn open(path: &Path, around: &Surroundings, face: &Face, outputs: &Outputs) -> miette::Result<ExitCode> {
    Recent::note(&files::folders()?.state, path);
    show(path, around, face, outputs)
}

/// Deals a servo and shows it.
fn practise(
    number: Option<u32>,
    around: &Surroundings,
    face: &Face,
    outputs: &Outputs,
) -> miette::Result<ExitCode> {
    let deal = practice::deal(number);
    let mut session = Session::open(&practice::prepare(&deal)?, around, outputs)?;
    session.practice = Some(deal);
    work(session, face)
}

fn show(path: &Path, around: &Surroundings, face: &Face, outputs: &Outputs) -> miette::Result<ExitCode> {
    work(Session::open(path, around, outputs)?, face)
}

/// Keeps what is edited, and shows it until somebody quits.
fn work(mut session: Session, face: &Face) -> miette::Result<ExitCode> {
    let left = session.document.keep_edits(&files::folders()?.state).into_diagnostic()?;
    screen::run(session, left, face)
}
