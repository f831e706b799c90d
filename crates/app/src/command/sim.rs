//! `sim`: a simulated board by itself, for this program or any other that opens its path.

use crate::cli::{Sim, SimKind};
use crate::exit::Exit;
use crate::say;
use miette::{IntoDiagnostic, WrapErr, miette};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use wasvolta_port::WallClock;
use wasvolta_sim::{Bench, Truth, pty, serve};

/// What the bus behind a bridge is called on the bench.
const BUS: &str = "bridged";
/// Pins with a servo on them.
const SERVO_PINS: std::ops::Range<u8> = 2..20;

/// Runs until a signal ends it.
///
/// # Errors
/// When the system gives no pty, or the link cannot be made.
pub fn run(wanted: &Sim) -> miette::Result<ExitCode> {
    match wanted.board {
        SimKind::Expander if wanted.steady => return Err(miette!("--steady is about a Firmata board")),
        SimKind::Firmata if !wanted.addresses.is_empty() => {
            return Err(miette!("a Firmata board has no address: leave --address out"));
        }
        SimKind::Expander | SimKind::Firmata => {}
    }
    let stop = Arc::new(AtomicBool::new(false));
    for signal in signal_hook::consts::TERM_SIGNALS {
        signal_hook::flag::register(*signal, Arc::clone(&stop)).into_diagnostic()?;
    }
    let bench = Bench::new(&Truth::default(), wanted.bench.seed, Arc::new(WallClock::default()));
    for fault in &wanted.bench.faults {
        bench.faults().set(*fault, true);
    }
    let (far, near) = pty::pair().into_diagnostic().wrap_err("the system gives no pty")?;
    let link = wanted.link.as_deref().map(|link| Link::make(link, &near)).transpose()?;
    let shown = link.as_ref().map_or(near.as_path(), |link| link.path);
    match wanted.board {
        SimKind::Expander => {
            let addresses = if wanted.addresses.is_empty() { &[0x40][..] } else { &wanted.addresses };
            let channels: Vec<u8> = (0..16).collect();
            for address in addresses {
                bench.ensure(BUS, *address, &channels);
            }
            let listed: Vec<String> = addresses.iter().map(|address| format!("{address:#04x}")).collect();
            say::line(format_args!(
                "a simulated bridge with expanders at {} listens at {}; in a rig: kind = \"i2c\", baud = 9600; Ctrl-C \
                 ends it",
                listed.join(", "),
                shown.display()
            ));
            serve::bridge(&mut serve::BridgedBus::new(bench.bus(BUS)), &far, &stop);
        }
        SimKind::Firmata => {
            let board = bench.firmata("line");
            board.resets_when_opened(!wanted.steady);
            SERVO_PINS.for_each(|pin| board.ensure(pin, wasvolta_sim::truth::Part::Servo));
            say::line(format_args!(
                "a simulated Firmata board listens at {}; Ctrl-C ends it",
                shown.display()
            ));
            serve::firmata(&board, &far, &stop);
        }
    }
    drop(link);
    Ok(Exit::Done.into())
}

/// A link that goes when the stand-in does.
struct Link<'a> {
    path: &'a Path,
    to: PathBuf,
}

impl<'a> Link<'a> {
    /// One that leads nowhere was left by a stand-in that was killed, and is replaced. Nothing else is.
    fn make(path: &'a Path, to: &Path) -> miette::Result<Self> {
        if path.is_symlink() && !path.exists() {
            std::fs::remove_file(path).into_diagnostic()?;
        }
        std::os::unix::fs::symlink(to, path).into_diagnostic().wrap_err_with(|| {
            format!("cannot make the link {}: is something there already?", path.display())
        })?;
        Ok(Self { path, to: to.to_owned() })
    }
}

impl Drop for Link<'_> {
    fn drop(&mut self) {
        // Whoever has put something else there since has taken the place.
        if std::fs::read_link(self.path).is_ok_and(|to| to == self.to) {
            let _ = std::fs::remove_file(self.path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_its_own_link_is_taken_away() {
        let folder = tempfile::tempdir().unwrap();
        let (path, to) = (folder.path().join("line"), folder.path().join("pty"));
        std::fs::write(&to, "").unwrap();
        drop(Link::make(&path, &to).unwrap());
        assert!(!path.is_symlink());
        let link = Link::make(&path, &to).unwrap();
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, "of somebody").unwrap();
        drop(link);
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "of somebody");
        assert!(Link::make(&path, &to).is_err(), "and it is not replaced");
        std::fs::remove_file(&path).unwrap();
        std::os::unix::fs::symlink(folder.path().join("gone"), &path).unwrap();
        assert!(Link::make(&path, &to).is_ok(), "what leads nowhere is");
    }
}
