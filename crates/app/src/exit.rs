//! The one table of exit codes: help, man page and documentation are made from it.

use crate::files::BadFile;
use std::process::ExitCode;

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// What was asked for was done.
    Done,
    /// It was not.
    Failed,
    /// There was nothing to do it with.
    Unreadable,
}

impl Exit {
    /// Every way to end, in the order of its code.
    pub const ALL: [Self; 3] = [Self::Done, Self::Failed, Self::Unreadable];

    /// What the system is told.
    pub const fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Failed => 1,
            Self::Unreadable => 2,
        }
    }

    /// What it means.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Done => "done; a checked rig is sound; a run ended with every servo released, read back",
            Self::Failed => {
                "refused or failed, with words that say what to do; a checked rig has problems; something may still pulse"
            }
            Self::Unreadable => "the command line was not understood, or the rig cannot be read",
        }
    }

    /// What an error of a command ends with.
    pub fn of(report: &miette::Report) -> Self {
        match report.downcast_ref::<BadFile>() {
            Some(BadFile::Unreadable { .. } | BadFile::Malformed { .. }) => Self::Unreadable,
            _ => Self::Failed,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}

/// The table as a text, a line a code.
pub fn table() -> String {
    let lines: Vec<String> =
        Exit::ALL.iter().map(|exit| format!("  {}  {}", exit.code(), exit.words())).collect();
    lines.join("\n") + "\n"
}
