//! `replay`: a recorded run again, every setpoint compared.

use super::trace::Trace;
use crate::cli::Replay;
use crate::exit::Exit;
use crate::files::BadFile;
use crate::files::input::{self, What};
use crate::files::output::Outputs;
use crate::say;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::ExitCode;
use wasvolta_engine::record;

/// Runs it; says how much was the same.
///
/// # Errors
/// When it is no recording of this version, or a setpoint differs.
pub fn run(replay: &Replay, outputs: &Outputs) -> miette::Result<ExitCode> {
    let named = replay.file.display().to_string();
    let file: Box<dyn BufRead> = if replay.file == Path::new("-") {
        Box::new(std::io::stdin().lock())
    } else {
        let opened = input::open(&replay.file, What::Recording);
        Box::new(BufReader::new(opened.map_err(|why| BadFile::Unreadable { path: named.clone(), why })?))
    };
    let mut trace = replay.trace.as_deref().map(|path| Trace::begin(path, outputs)).transpose()?;
    let mut unwritten = None;
    let replayed = record::replay(file, |at, rig, stage| {
        if let (Some(trace), None) = (&mut trace, &unwritten) {
            unwritten = trace.rows(at, rig, stage.plan(), stage.servos()).err();
        }
    })
    .map_err(|why| BadFile::Recording { path: named, why })?;
    if let Some(error) = unwritten {
        return Err(error);
    }
    if let Some(trace) = trace {
        trace.finish()?;
    }
    say::note(format_args!(
        "{} turns over {:.1} s: {} setpoints, the same byte for byte",
        replayed.turns,
        replayed.length.as_secs_f64(),
        replayed.compared
    ));
    if replayed.incomplete {
        say::trouble("the recording ends early: the run was killed, or the disk could not keep up");
    }
    Ok(Exit::Done.into())
}
