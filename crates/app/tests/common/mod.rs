//! The real binary, run with a home folder of its own.

#![allow(dead_code, clippy::unwrap_used, reason = "each test uses what it needs, and fails by panicking")]

use std::io::Write;
use std::path::PathBuf;
use std::process::{Command, Output, Stdio};
use tempfile::TempDir;

/// A folder that is home, with the demo's rig in it.
pub struct Home(TempDir, String);

impl Home {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let shown = folder.path().display().to_string();
        let home = Self(folder, shown);
        for (name, content) in [
            ("marsh-clock.rig.toml", include_str!("../../../../examples/marsh-clock.rig.toml")),
            ("marsh-clock.sim.toml", include_str!("../../../../examples/marsh-clock.sim.toml")),
        ] {
            std::fs::write(home.path(name), content).unwrap();
        }
        home
    }

    /// Where the folder is.
    pub fn folder(&self) -> &str {
        &self.1
    }

    /// The path of a name in it.
    pub fn path(&self, name: &str) -> String {
        self.0.path().join(name).display().to_string()
    }

    /// The demo's rig.
    pub fn rig(&self) -> String {
        self.path("marsh-clock.rig.toml")
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(PathBuf::from(env!("CARGO_BIN_EXE_wasvolta")));
        for name in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
            command.env(name, self.0.path());
        }
        command.env("NO_COLOR", "1").current_dir(self.0.path()).args(arguments);
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).stdin(Stdio::null()).output().unwrap()
    }

    /// Runs it with something on its standard input.
    pub fn piped(&self, arguments: &[&str], input: &[u8]) -> Output {
        let mut command = self.command(arguments);
        let mut child =
            command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        // It may have ended before it has read everything.
        let _ = child.stdin.take().unwrap().write_all(input);
        child.wait_with_output().unwrap()
    }
}

pub fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// All words of an error, whatever width it was broken at.
pub fn flat(bytes: &[u8]) -> String {
    text(bytes).replace(['│', '×', '╰', '╯', '▶', '─'], " ").split_whitespace().collect::<Vec<_>>().join(" ")
}
