//! `firmware`: a program for the maker's own microcontroller.

use crate::cli::{Firmware, FirmwareKind};
use crate::exit::Exit;
use crate::files::output::{Outputs, Replace};
use crate::say;
use miette::IntoDiagnostic;
use std::path::Path;
use std::process::ExitCode;

const LINES: &str = include_str!("../../firmware/lines.c");

/// Writes the program; says what is left to do.
///
/// # Errors
/// When the file cannot be written, or is there already.
pub fn run(firmware: &Firmware, outputs: &Outputs) -> miette::Result<ExitCode> {
    let source = match firmware.kind {
        FirmwareKind::Lines => LINES
            .replace("#define KNOBS 2 ", &format!("#define KNOBS {} ", firmware.knobs))
            .replace("#define BUTTONS 1 ", &format!("#define BUTTONS {} ", firmware.buttons)),
    };
    let path = outputs.write(&firmware.output, source.as_bytes(), Replace::AsTold).into_diagnostic()?;
    if firmware.output != Path::new("-") {
        say::note(format_args!(
            "{}: write its read_converter and write_byte, load it, then `wasvolta scan --ask PORT` names its fields",
            path.display()
        ));
    }
    Ok(Exit::Done.into())
}
