//! The Marsh Clock, carried inside the program, and put where its changes can be kept.

use crate::{files, recovery};
use miette::IntoDiagnostic;
use std::path::PathBuf;

const RIG: &str = include_str!("../../../examples/marsh-clock.rig.toml");
const SIM: &str = include_str!("../../../examples/marsh-clock.sim.toml");

/// Where the demo's rig is kept.
///
/// # Errors
/// When there is no home folder.
pub fn path() -> miette::Result<PathBuf> {
    Ok(files::folders()?.data.join("marsh-clock.rig.toml"))
}

/// The demo's rig file; it and its simulation are written where they are missing, or where `fresh` asks.
///
/// # Errors
/// When another program has the demo open and it is to be written anew, or the data folder cannot be written.
pub fn prepare(fresh: bool) -> miette::Result<PathBuf> {
    let files::Folders { data: folder, state, .. } = files::folders()?;
    let path = path()?;
    if fresh {
        recovery::forget(&state, &path).into_diagnostic()?;
    }
    for (path, text) in [(&path, RIG), (&folder.join("marsh-clock.sim.toml"), SIM)] {
        if fresh || !path.exists() {
            files::write(path, text).map_err(|error| miette::Report::msg(error.to_string()))?;
        }
    }
    Ok(path)
}
