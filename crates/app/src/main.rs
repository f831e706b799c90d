//! Wasvolta, the program: finds out what each servo really does with a pulse, says in degrees what may move,
//! and plays poses in time.
//!
//! This crate wires everything together and draws it; it computes nothing about servos itself.

#![deny(clippy::print_stdout, clippy::print_stderr, reason = "they panic when nobody reads: see `say`")]

mod cli;
mod command;
mod config;
mod date;
mod demo;
mod document;
#[cfg(test)]
mod documentation;
mod edition;
mod ending;
mod exit;
mod face;
mod files;
mod fresh;
mod hardware;
mod holder;
mod keyboard;
mod last_known;
mod layouts;
mod log;
mod look;
mod lookout;
mod paper;
mod practice;
mod recent;
mod recovery;
mod runner;
mod say;
mod screen;
mod senders;
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
    let arguments = match cli::Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) if error.use_stderr() => {
            // What was typed is repeated in it.
            say::trouble(error.render().to_string().trim_end());
            return exit::Exit::Unreadable.into();
        }
        Err(help) => {
            return match help.print() {
                Err(why) if why.kind() != std::io::ErrorKind::BrokenPipe => exit::Exit::Failed.into(),
                _ => exit::Exit::Done.into(),
            };
        }
    };
    let code = match command::run(arguments) {
        Ok(code) => code,
        Err(report) => {
            tracing::error!("{report}");
            say::report(&report);
            exit::Exit::of(&report).into()
        }
    };
    match say::unheard() {
        Some(why) if code == ExitCode::SUCCESS => {
            say::trouble(format_args!("standard output could not be written: {why}"));
            exit::Exit::Failed.into()
        }
        _ => code,
    }
}
