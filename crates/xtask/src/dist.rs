//! What is given to people: one program that needs no library of the system, its manual pages and completions, a package,
//! and their sums.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The registry's tool that makes packages, and its version.
const PACKER: (&str, &str) = ("cargo-deb", "^3");
/// The profile it is built by; its name is not that of the folder, which is ours alone.
const PROFILE: &str = "shipped";
const SHELLS: [(&str, &str); 3] =
    [("bash", "wasvolta.bash"), ("zsh", "_wasvolta"), ("fish", "wasvolta.fish")];

/// Makes all of it in `target/dist`.
pub fn make() -> Result<(), String> {
    let host = host()?;
    let folder = Path::new("target/dist");
    let _ = fs::remove_dir_all(folder);
    let name = format!("wasvolta-{}-{host}", env!("CARGO_PKG_VERSION"));
    let inside = folder.join("wasvolta");
    fs::create_dir_all(inside.join("man")).map_err(|e| e.to_string())?;
    fs::create_dir_all(inside.join("completions")).map_err(|e| e.to_string())?;
    let (program, least) = program(&host)?;
    copy(&program, &inside.join("wasvolta"))?;
    for file in ["README.md", "LICENSE-APACHE", "LICENSE-MIT"] {
        copy(Path::new(file), &inside.join(file))?;
    }
    said(&program, &[OsStr::new("man"), inside.join("man").as_os_str()])?;
    for (shell, file) in SHELLS {
        let script = said(&program, &[OsStr::new("completions"), OsStr::new(shell)])?;
        fs::write(inside.join("completions").join(file), script).map_err(|e| e.to_string())?;
    }
    let named = format!("s/^wasvolta/{name}/");
    let archive = format!("target/dist/{name}.tar.gz");
    run("tar", &["-C", "target/dist", "--transform", &named, "-czf", &archive, "wasvolta"])?;
    package(&host, least)?;
    sums(folder)?;
    let size = fs::metadata(inside.join("wasvolta")).map_or(0, |found| found.len());
    println!(
        "target/dist: {name}.tar.gz, a .deb, SHA256SUMS; the program has {}.{:02} MB",
        size / 1_000_000,
        size / 10_000 % 100
    );
    Ok(())
}

/// The machine's own target: named, or the flags would go into build scripts too.
fn host() -> Result<String, String> {
    let said = said(Path::new("rustc"), &[OsStr::new("-vV")])?;
    let host = said.lines().find_map(|line| line.strip_prefix("host: ").map(str::to_owned));
    host.ok_or_else(|| "rustc does not say for which machine it is".to_owned())
}

/// Builds the program with the system's library inside it; where that cannot be, without, and says what it needs then.
fn program(host: &str) -> Result<(PathBuf, Option<(u32, u32)>), String> {
    let build = ["build", "--profile", PROFILE, "--target", host, "-p", "wasvolta"];
    let built = PathBuf::from(format!("target/{host}/{PROFILE}/wasvolta"));
    println!("cargo {} with +crt-static", build.join(" "));
    let fixed =
        Command::new(env!("CARGO")).args(build).env("RUSTFLAGS", "-C target-feature=+crt-static").status();
    if !fixed.is_ok_and(|status| status.success()) {
        println!("no static library of the system here: built without it");
        crate::run(&build)?;
    }
    let least = least_library(&fs::read(&built).map_err(|e| e.to_string())?);
    match least {
        None => println!("it needs no library of the system"),
        Some((major, minor)) => println!("it needs glibc {major}.{minor} or newer"),
    }
    Ok((built, least))
}

/// The newest version of glibc that a program asks for; none where it asks for none.
fn least_library(program: &[u8]) -> Option<(u32, u32)> {
    const MARK: &[u8] = b"GLIBC_";
    // A program with the library inside it speaks of its versions as well: what it loads at its start tells the two apart.
    let loads = program.windows(10).any(|window| window == b"libc.so.6\0");
    let versions = program.windows(MARK.len()).enumerate().filter(|(_, window)| *window == MARK);
    let read = |(at, _): (usize, &[u8])| {
        let rest = program.get(at + MARK.len()..)?;
        let end = rest.iter().position(|byte| !byte.is_ascii_digit() && *byte != b'.')?;
        let (major, minor) = std::str::from_utf8(rest.get(..end)?).ok()?.split_once('.')?;
        Some((major.parse().ok()?, minor.split('.').next()?.parse().ok()?))
    };
    versions.filter_map(read).max().filter(|_| loads)
}

/// A package for systems that take `.deb`, by the registry's own tool; it asks for the system's library where the program
/// does.
fn package(host: &str, least: Option<(u32, u32)>) -> Result<(), String> {
    let (tool, version) = PACKER;
    let root = Path::new("target/tools");
    let packer = root.join("bin").join(tool);
    if !packer.exists() {
        let root = root.to_string_lossy();
        crate::run(&["install", tool, "--version", version, "--locked", "--root", &root])?;
    }
    let packer = packer.to_string_lossy();
    let mut made = vec![
        "--no-build",
        "--no-strip",
        "--profile",
        PROFILE,
        "--target",
        host,
        "-p",
        "wasvolta",
        "--output",
        "target/dist",
    ];
    if least.is_some() {
        made.extend(["--variant", "dynamic"]);
    }
    run(&packer, &made)
}

fn sums(folder: &Path) -> Result<(), String> {
    let entries = fs::read_dir(folder).map_err(|e| e.to_string())?.flatten().map(|entry| entry.path());
    let mut files: Vec<PathBuf> = entries.filter(|path| path.is_file()).collect();
    files.sort();
    let names = files.iter().filter_map(|path| path.file_name()).collect::<Vec<_>>();
    let output =
        Command::new("sha256sum").args(&names).current_dir(folder).output().map_err(|e| e.to_string())?;
    fs::write(folder.join("SHA256SUMS"), output.stdout).map_err(|e| e.to_string())
}

fn copy(from: &Path, to: &Path) -> Result<(), String> {
    fs::copy(from, to).map(drop).map_err(|why| format!("cannot copy {}: {why}", from.display()))
}

/// What a program says.
fn said(program: &Path, arguments: &[&OsStr]) -> Result<String, String> {
    let output = Command::new(program).args(arguments).output();
    let output = output.map_err(|why| format!("cannot run {}: {why}", program.display()))?;
    if !output.status.success() {
        return Err(format!("{} failed: {}", program.display(), String::from_utf8_lossy(&output.stderr)));
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

fn run(program: &str, arguments: &[&str]) -> Result<(), String> {
    println!("{program} {}", arguments.join(" "));
    let status = Command::new(program).args(arguments).status();
    let status = status.map_err(|why| format!("cannot run {program}: {why}"))?;
    if status.success() { Ok(()) } else { Err(format!("{program} failed")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_program_asks_of_the_system_is_read_from_it() {
        assert_eq!(least_library(b"\0libc.so.6\0GLIBC_2.2.5\0GLIBC_2.34\0GLIBC_2.4\0"), Some((2, 34)));
        assert_eq!(least_library(b"GLIBC_2.34\0"), None, "it is inside");
        assert_eq!(least_library(b""), None);
    }
}
