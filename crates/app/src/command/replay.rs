//! `replay`: a recorded run again, every setpoint compared.

use super::trace::Trace;
use crate::cli::Replay;
use crate::exit::Exit;
use crate::say;
use miette::{Context, IntoDiagnostic};
use std::fs::File;
use std::io::BufReader;
use std::process::ExitCode;
use wasvolta_engine::record;

/// Runs it; says how much was the same.
///
/// # Errors
/// When it is no recording of this version, or a setpoint differs.
pub fn run(replay: &Replay) -> miette::Result<ExitCode> {
    let named = replay.file.display().to_string();
    let file = File::open(&replay.file).into_diagnostic().wrap_err_with(|| format!("cannot read {named}"))?;
    let mut trace = replay.trace.as_deref().map(Trace::create).transpose()?;
    let mut unwritten = None;
    let replayed = record::replay(BufReader::new(file), |at, rig, stage| {
        if let (Some(trace), None) = (&mut trace, &unwritten) {
            unwritten = trace.rows(at, rig, stage.plan(), stage.servos()).err();
        }
    })
    .into_diagnostic()
    .wrap_err_with(|| format!("{named} was not run to its end"))?;
    if let Some(error) = unwritten {
        return Err(error);
    }
    if let Some(trace) = trace {
        trace.finish()?;
    }
    say::line(format_args!(
        "{} turns over {:.1} s: {} setpoints, the same byte for byte",
        replayed.turns,
        replayed.length.as_secs_f64(),
        replayed.compared
    ));
    if replayed.incomplete {
        say::trouble("the recording ends early: the run was killed, or its disk could not follow");
    }
    Ok(Exit::Done.into())
}
