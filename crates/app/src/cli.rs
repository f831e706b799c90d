//! The command line: what may be said, and the table of exit codes.

use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Something went wrong, or a check found problems.
pub const EXIT_FAILED: u8 = 1;
/// The rig cannot be read, or the command line was not understood.
pub const EXIT_UNREADABLE: u8 = 2;

/// Calibrate servos by pulse width, map inputs to angles, and play poses in time.
#[derive(Debug, Parser)]
#[command(name = "wasvolta", version, max_term_width = 100)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Open the Marsh Clock, a complete rig on simulated hardware.
    ///
    /// Your changes are kept in your data folder and found again the next time.
    Demo {
        /// Forget the changes of earlier demos and start from the beginning.
        #[arg(long)]
        fresh: bool,
        #[command(flatten)]
        live: Live,
    },
    /// Open a rig.
    Open {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        #[command(flatten)]
        live: Live,
    },
    /// Check a rig: exit code 0 when sound, 1 with problems, 2 when it cannot be read.
    Check {
        /// The rig, a *.rig.toml file.
        rig: PathBuf,
        /// Say it as JSON on standard output.
        #[arg(long)]
        json: bool,
    },
    /// Play a sequence without the screen.
    Play(Play),
}

/// How a live run behaves.
#[derive(Debug, Clone, Args)]
pub struct Live {
    /// Seed of the simulated hardware: the same seed gives the same servos and readings.
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
    /// Whether time passes by itself, or only by the command "pass beats" of the palette.
    #[arg(long, value_enum, default_value_t = ClockKind::Wall)]
    pub clock: ClockKind,
    /// Write every transfer that a simulated bus sees to a file.
    #[arg(long, value_name = "FILE")]
    pub sim_log: Option<PathBuf>,
}

/// What makes time pass.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ClockKind {
    /// The machine's clock.
    Wall,
    /// Beats that pass on command.
    Manual,
}

/// Play a sequence without the screen.
#[derive(Debug, Args)]
pub struct Play {
    /// The rig, a *.rig.toml file.
    pub rig: PathBuf,
    /// The sequence's name.
    pub sequence: String,
    #[command(flatten)]
    pub way: Way,
    /// Write what is sent, a row a servo a beat, as CSV.
    #[arg(long, value_name = "FILE.csv")]
    pub trace: Option<PathBuf>,
    #[command(flatten)]
    pub live: Live,
}

/// Exactly one of the two.
#[derive(Debug, Args)]
#[group(required = true, multiple = false)]
pub struct Way {
    /// No device is touched; time is virtual and as fast as it can be. Starts at home.
    #[arg(long)]
    pub dry: bool,
    /// Servos move. Engages those of the sequence at their last known place and glides in.
    #[arg(long)]
    pub drive: bool,
}
