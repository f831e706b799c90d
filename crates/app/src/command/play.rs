//! `play`: sequences without the screen, dry in virtual time or driving real servos.

mod drive;
mod dry;
mod keys;
mod progress;
mod summary;
mod wanted;

#[cfg(test)]
pub use summary::Report;
pub use summary::{OneSequence, lines};

use super::trace::Trace;
use crate::cli::Play;
use crate::files;
use crate::files::output::Outputs;
use miette::miette;
use std::path::Path;
use std::process::ExitCode;
use wanted::Wanted;
use wasvolta_core::sequence::Program;
use wasvolta_core::stage::Plan;

/// Plays; gives the exit code.
///
/// # Errors
/// When the rig or a sequence cannot be used, or the trace cannot be written.
pub fn run(play: &Play, outputs: &Outputs) -> miette::Result<ExitCode> {
    if play.way.drive && play.rig == Path::new("-") {
        return Err(miette!("--drive works on a file: give the rig's path, or play it with --dry"));
    }
    let source = files::open(&play.rig)?;
    let rig = source.rig();
    let wanted = Wanted::of(play, rig)?;
    let trace = play.trace.as_deref().map(|path| Trace::begin(path, outputs)).transpose()?;
    if play.way.dry { dry::run(play, rig, &wanted, trace) } else { drive::run(play, &wanted, trace, outputs) }
}

/// How long a sequence plays that starts at home, each loop once, in seconds.
pub fn length(plan: &Plan, sequence: usize) -> f64 {
    plan.programs.get(sequence).map_or(0.0, Program::length)
}
