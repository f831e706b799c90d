//! The one table of exit codes: help, man page and documentation are made from it.

use crate::files::BadFile;
use std::process::ExitCode;
use wasvolta_engine::record::BadRecording;

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
            Self::Done => {
                "done; a checked rig is sound; compared cards agree; a run ended with every servo released, read back"
            }
            Self::Failed => {
                "refused or failed, with words that say what to do; a checked rig has problems, with --strict also warnings; compared cards differ; a replay differs; a link of `why` has failed; something may still pulse; an output is not whole"
            }
            Self::Unreadable => {
                "the command line was not understood, or a file that it reads cannot be read as what it should be"
            }
        }
    }

    /// What an error of a command ends with.
    pub fn of(report: &miette::Report) -> Self {
        match report.downcast_ref::<BadFile>() {
            Some(BadFile::Recording { why: BadRecording::Differs { .. }, .. } | BadFile::Problems { .. })
            | None => Self::Failed,
            Some(
                BadFile::Unreadable { .. }
                | BadFile::Malformed { .. }
                | BadFile::Recording { .. }
                | BadFile::Bench { .. },
            ) => Self::Unreadable,
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
