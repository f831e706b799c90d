//! `new`: a rig of one's own, without the screen.

use crate::cli::New;
use crate::exit::Exit;
use crate::files::output::Outputs;
use crate::fresh;
use crate::say;
use miette::IntoDiagnostic;
use std::process::ExitCode;
use wasvolta_core::rig::fresh::Beginning;

/// Writes the rig; says where.
///
/// # Errors
/// When the file is there already, or what was asked for cannot be; nothing is written then.
pub fn run(new: &New, outputs: &Outputs) -> miette::Result<ExitCode> {
    let address = fresh::address(&new.address).into_diagnostic()?;
    let bus = new.bus.clone().map(|path| (path, address));
    let (serial, firmata, pwm) = (new.serial.clone(), new.firmata.clone(), new.pwm.clone());
    let smart = new.smart.clone().map(|path| (path, new.layout.clone()));
    let beginning = Beginning { bus, baud: new.baud, serial, firmata, pwm, smart, ..Beginning::default() };
    let path = fresh::make(&new.file, beginning, outputs).into_diagnostic()?;
    say::note(format_args!(
        "{}: open it with `wasvolta open {}`, then ‹add servo› adds a servo",
        path.display(),
        path.display()
    ));
    Ok(Exit::Done.into())
}
