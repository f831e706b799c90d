//! Programs of the system that tests and pictures need: found, or installed, or asked for.

use std::io::{IsTerminal, Write};
use std::process::{Command, Stdio};

/// Makes sure that programs are there, given with the packages that hold them. As root or in CI they are
/// installed; at a terminal the person is asked; else the line to type is said.
pub fn need(programs: &[(&str, &str)]) -> Result<(), String> {
    let missing: Vec<&str> =
        programs.iter().filter(|(program, _)| !is_there(program)).map(|(_, p)| *p).collect();
    if missing.is_empty() {
        return Ok(());
    }
    let packages = missing.join(" ");
    let line = format!("apt-get update && apt-get install -y {packages}");
    let root = is_root();
    let words = if root { line.clone() } else { format!("sudo sh -c '{line}'") };
    let unattended = root || std::env::var_os("CI").is_some();
    let may = unattended || (std::io::stdin().is_terminal() && agreed(&words));
    if !may {
        return Err(format!("{packages} is needed; install it with\n    {words}"));
    }
    println!("{words}");
    let status = Command::new("sh").args(["-c", &words]).status().map_err(|e| e.to_string())?;
    if status.success() {
        Ok(())
    } else {
        Err(format!("{packages} could not be installed; try\n    {words}"))
    }
}

fn is_there(program: &str) -> bool {
    let found = Command::new("sh")
        // A broker is where administrators have their programs.
        .args(["-c", &format!("PATH=$PATH:/usr/sbin command -v {program}")])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status();
    found.is_ok_and(|status| status.success())
}

fn is_root() -> bool {
    let id = Command::new("id").arg("-u").output();
    id.is_ok_and(|output| output.stdout.starts_with(b"0"))
}

fn agreed(line: &str) -> bool {
    print!("This is needed:\n    {line}\nRun it now? [y/N] ");
    let mut answer = String::new();
    std::io::stdout().flush().is_ok()
        && std::io::stdin().read_line(&mut answer).is_ok()
        && answer.trim().eq_ignore_ascii_case("y")
}
