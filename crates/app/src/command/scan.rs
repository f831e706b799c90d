//! `scan`: what is there, for people or as JSON.

use crate::cli;
use crate::exit::Exit;
use crate::survey::{self, Outlook};
use crate::{files, hardware, say};
use miette::miette;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::Source;
use wasvolta_port::scan::{self, Bus, InputDevice, PwmChip, Roots, Scan, SerialPort};
use wasvolta_port::serial::Serial;
use wasvolta_port::{Clock, WallClock};

/// Looks, and says what was found. Finding nothing is no failure.
///
/// # Errors
/// When a rig was named that cannot be read.
pub fn run(wanted: &cli::Scan) -> miette::Result<ExitCode> {
    if let Some(path) = &wanted.ask {
        return ask(path, wanted);
    }
    let source = wanted.rig.as_deref().map(files::open).transpose()?;
    let rig = source.as_ref().map(Source::rig);
    let simulated = match (rig, &wanted.rig) {
        (Some(rig), Some(path)) => hardware::bench_of(rig, path, &(&wanted.bench).into())?,
        _ => None,
    };
    let scan = Outlook::of(&Roots::default(), rig, simulated.as_ref()).take();
    if wanted.json {
        say::json(&scan);
    } else {
        tell(&scan, rig);
    }
    Ok(Exit::Done.into())
}

/// Asks one serial port, and nothing else.
fn ask(path: &Path, wanted: &cli::Scan) -> miette::Result<ExitCode> {
    let mut line = Serial::open(path, wanted.baud).map_err(|error| miette!(help = error.help, "{error}"))?;
    let clock = WallClock::default();
    let answer = scan::ask(&mut line, &|time| clock.wait(time));
    if wanted.json {
        say::json(&answer);
    } else {
        say::line(format_args!("{} at {} baud {}", path.display(), wanted.baud, answer.words()));
    }
    Ok(Exit::Done.into())
}

fn tell(scan: &Scan, rig: Option<&Rig>) {
    for bus in &scan.buses {
        tell_bus(scan, bus, rig);
    }
    if scan.buses.is_empty() {
        say::line("no I²C bus: the kernel lists them as /dev/i2c-*; the module i2c-dev makes the entries");
    }
    for PwmChip { device, channels, barred, .. } in &scan.pwm {
        say::line(format_args!("{device}\n  PWM chip of the kernel, {channels} channels"));
        if let Some(barred) = barred {
            say::line(format_args!("  {barred}"));
        }
    }
    for SerialPort { way, lasting } in &scan.serial {
        let name = lasting.as_ref().map_or_else(String::new, |name| format!(", always as {name}"));
        say::line(format_args!(
            "{}\n  serial port{name}; not opened, for that resets many boards: --ask {0} asks it",
            way.path
        ));
        if let Some(barred) = &way.barred {
            say::line(format_args!("  {barred}"));
        }
    }
    if scan.serial.is_empty() {
        say::line("no serial port of a board");
    }
    for InputDevice { kind, noun, way, lasting, name } in &scan.inputs {
        let name = name.as_ref().map_or_else(String::new, |name| format!(", {name}"));
        let always = lasting.as_ref().map_or_else(String::new, |path| format!(", always as {path}"));
        say::line(format_args!(
            "{}\n  {noun}{name}{always}: a link on a port of kind {kind} hears it",
            way.path
        ));
        if let Some(barred) = &way.barred {
            say::line(format_args!("  {barred}"));
        }
    }
}

fn tell_bus(scan: &Scan, bus: &Bus, rig: Option<&Rig>) {
    say::line(&bus.path);
    if let Some(trouble) = &bus.trouble {
        say::line(format_args!("  {trouble}"));
    }
    for device in &bus.devices {
        let board = rig.and_then(|rig| survey::board_at(rig, &bus.path, device.address));
        let name = board.map_or_else(String::new, |b| format!(": {} in the rig", b.name));
        say::line(format_args!("  {:#04x}  {}{name}", device.address, survey::words(scan, bus, device)));
    }
    if bus.devices.is_empty() && bus.trouble.is_none() {
        say::line("  nothing answers from 0x40 to 0x7f");
    }
    for board in rig.map_or_else(Vec::new, |rig| survey::missing(rig, bus)) {
        say::line(format_args!(
            "  {}  nothing answers, the rig has {} there: check its supply, its two bus wires, its jumpers",
            board.at().trim_start_matches("at "),
            board.name
        ));
    }
}
