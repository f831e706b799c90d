//! Wasvolta, the program: finds out what each servo really does with a pulse, says in degrees what may move,
//! and plays poses in time.
//!
//! This crate wires everything together and draws it; it computes nothing about servos itself.

#![deny(clippy::print_stdout, clippy::print_stderr, reason = "they panic when nobody reads: see `say`")]

mod cli;
mod command;
mod demo;
mod ending;
mod exit;
mod files;
mod fresh;
mod hardware;
mod holder;
mod last_known;
mod log;
mod paper;
mod recent;
mod recovery;
mod say;
mod screen;
mod session;
mod signals;
mod survey;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    // A fault of the program is said in one line; the engine releases every servo while unwinding.
    std::panic::set_hook(Box::new(|info| {
        tracing::error!("failed: {info}");
        say::trouble(format_args!("wasvolta has failed: {info}"));
        say::trouble("every servo is being released; please report this, with what you did before");
    }));
    let arguments = cli::Arguments::parse();
    match command::run(arguments) {
        Ok(code) => code,
        Err(report) => {
            tracing::error!("{}", log::plain(&report.to_string()));
            say::trouble(format_args!("{report:?}"));
            exit::Exit::of(&report).into()
        }
    }
}
