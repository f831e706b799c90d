//! What building costs: a first release build, its size, and how many crates it takes. Goes last: it takes minutes.

use crate::report::Row;
use std::collections::BTreeSet;
use std::path::Path;
use std::process::Command;
use std::time::Instant;

/// See the module.
pub fn measure() -> Vec<Row> {
    let mut rows = Vec::new();
    let Ok(folder) = tempfile::tempdir() else { return rows };
    if let Some(minutes) = built("release", folder.path()) {
        let row = Row::new("a first release build, crates fetched before", format!("{minutes:.1} min"));
        rows.push(row.wanted("≤ 4 min", minutes <= 4.0));
    }
    let release = stripped(&folder.path().join("release/wasvolta"));
    let shipped =
        built("shipped", folder.path()).and_then(|_| stripped(&folder.path().join("shipped/wasvolta")));
    if let (Some(shipped), Some(release)) = (shipped, release) {
        let megabytes = |size: f64| format!("{:.1} MB", size / 1e6);
        let row = Row::new("the program as `cargo xtask dist` builds it, stripped", megabytes(shipped));
        let row = row.beside(format!("{}, built for release", megabytes(release)));
        rows.push(row.wanted("≤ 9 MB", shipped <= 9e6));
    }
    if let Some(crates) = crates() {
        let row = Row::new("crates that the program is built of, beside its own", crates.to_string());
        rows.push(row.wanted("≤ 170", crates <= 170));
    }
    rows
}

/// Builds the program by a profile; gives the minutes that took.
fn built(profile: &str, folder: &Path) -> Option<f64> {
    let start = Instant::now();
    let mut build = cargo(&["build", "--profile", profile, "-p", "wasvolta", "--target-dir"]);
    let done = build.arg(folder).status().is_ok_and(|status| status.success());
    done.then(|| start.elapsed().as_secs_f64() / 60.0)
}

fn cargo(arguments: &[&str]) -> Command {
    let mut cargo = Command::new(std::env::var_os("CARGO").unwrap_or_else(|| "cargo".into()));
    cargo.args(arguments);
    cargo
}

/// The size in bytes without symbols, where the system can strip.
fn stripped(program: &Path) -> Option<f64> {
    let bare = program.with_extension("stripped");
    let done = Command::new("strip").arg("-o").arg(&bare).arg(program).status().ok()?;
    let size = std::fs::metadata(if done.success() { &bare } else { program }).ok()?.len();
    Some(f64::from(u32::try_from(size).ok()?))
}

fn crates() -> Option<usize> {
    let tree = ["tree", "-p", "wasvolta", "-e", "normal,build", "--prefix", "none", "--no-dedupe"];
    let output = cargo(&tree).output().ok().filter(|output| output.status.success())?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let named = text.lines().filter_map(|line| {
        let mut words = line.split_whitespace();
        Some((words.next()?, words.next()?))
    });
    let all: BTreeSet<_> = named.filter(|(name, _)| !name.starts_with("wasvolta")).collect();
    Some(all.len())
}
