//! Tells the program which commit it is built from.

use std::process::Command;

fn main() {
    // The log of HEAD changes with every commit and checkout; a source without it is built once.
    println!("cargo:rerun-if-changed=../../.git/logs/HEAD");
    let asked = Command::new("git").args(["rev-parse", "--short=12", "HEAD"]).output();
    let commit = asked
        .ok()
        .filter(|output| output.status.success())
        .map(|output| String::from_utf8_lossy(&output.stdout).trim().to_owned())
        .filter(|commit| !commit.is_empty())
        .unwrap_or_else(|| "unknown commit".to_owned());
    println!("cargo:rustc-env=WASVOLTA_COMMIT={commit}");
}
