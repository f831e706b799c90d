//! `scan`: what is there, for people or as JSON.

use crate::cli;
use crate::exit::Exit;
use crate::survey::{self, Outlook};
use crate::{files, hardware, layouts, say};
use miette::miette;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use std::time::Duration;
use wasvolta_core::rig::file::Source;
use wasvolta_core::rig::{Layout, Rig};
use wasvolta_engine::chips::map_of;
use wasvolta_port::scan::{self, Bus, InputDevice, PwmChip, Roots, Scan, SerialPort};
use wasvolta_port::serial::Serial;
use wasvolta_port::smart;
use wasvolta_port::smart::errand::{Errand, Found, What, Work};
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
    if let Some(layout) = &wanted.layout {
        return ask_bus(path, &layouts::said(layout)?, wanted);
    }
    let baud = wanted.baud.unwrap_or(wasvolta_wire::firmata::BAUD);
    let mut line = Serial::open(path, baud).map_err(|error| miette!(help = error.help, "{error}"))?;
    let clock = WallClock::default();
    let answer = scan::ask(&mut line, &|time| clock.wait(time));
    if wanted.json {
        say::json(&answer);
    } else {
        say::line(format_args!("{} at {} baud {}", path.display(), baud, answer.words()));
    }
    Ok(Exit::Done.into())
}

/// After so many questions it is said how far it is.
const PROGRESS: usize = 10;

/// Asks every id on a line who it is, by reading only; Ctrl-C ends that like anything else.
fn ask_bus(path: &Path, layout: &Layout, wanted: &cli::Scan) -> miette::Result<ExitCode> {
    let map = map_of(layout);
    let bauds: Vec<u32> = match wanted.baud {
        Some(baud) => vec![baud],
        None => map.bauds.iter().map(|(_, baud)| *baud).collect(),
    };
    let first = bauds.first().copied().unwrap_or(smart::USUAL_BAUD);
    let mut line = Serial::open(path, first).map_err(|error| miette!(help = error.help, "{error}"))?;
    let ids = wanted.ids.clone().unwrap_or(0..=map.form.greatest_id());
    let errand = Errand::new(What::Seek { bauds, ids });
    let usual = Duration::from_millis(16);
    let mut work = Work::of(&errand, &map, first, usual);
    let clock = WallClock::default();
    let mut asked = 0;
    while !work.go_on(&mut line, &clock) {
        let said = errand.said();
        if said.done >= asked + PROGRESS || said.done == 0 {
            asked = said.done;
            let (baud, id) = said.at;
            say::progress(&format!(
                "{asked} of {} asked: id {id} at {baud} Bd; {} found; Ctrl-C ends it",
                said.of,
                say::counted(said.found.len(), "servo")
            ));
        }
    }
    say::progress("");
    let said = errand.said();
    let found: Vec<OneFound> = said.found.iter().map(OneFound::of).collect();
    if wanted.json {
        say::json(&found);
    } else {
        for OneFound { id, baud, model, twins, garbled, of } in &found {
            let model = model.map_or_else(|| "no model".to_owned(), |model| format!("model {model}"));
            let pattern = match (twins, garbled) {
                (true, _) => format!(", two servos: {garbled} of {of} answers garbled"),
                (false, 0) => String::new(),
                (false, _) => format!(", {garbled} of {of} answers garbled"),
            };
            say::line(format_args!("id {id:<3} at {baud} Bd, {model}{pattern}"));
        }
    }
    match said.end {
        Some(Ok(words)) if !wanted.json => say::line(format_args!("{}: {words}", path.display())),
        Some(Err(why)) => return Err(miette!("{}: {why}", path.display())),
        _ => {}
    }
    Ok(Exit::Done.into())
}

/// A servo that answered.
#[derive(Serialize, JsonSchema)]
pub struct OneFound {
    /// The id at which it answered.
    id: u8,
    /// The rate at which it answered, in bits a second.
    baud: u32,
    /// The model that it says it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    model: Option<u16>,
    /// Two servos seem to have this id.
    twins: bool,
    /// How many of its answers were garbled.
    garbled: u32,
    /// Of so many.
    of: u32,
}

impl OneFound {
    const fn of(found: &Found) -> Self {
        let (garbled, of) = found.garbled;
        let Found { id, baud, model, .. } = *found;
        Self { id, baud, model, twins: found.is_twins(), garbled, of }
    }
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
        say::line("no serial port that looks like a board");
    }
    // Who is on a bus of smart servos is asked on purpose only, as on any line.
    for board in rig.iter().flat_map(|rig| &rig.boards).filter(|board| board.chip.row().is_smart) {
        let port = rig.and_then(|rig| rig.port(&board.port));
        let (path, layout) =
            (port.map_or("", |port| port.path.as_str()), board.layout.as_deref().unwrap_or_default());
        say::line(format_args!(
            "{path}\n  {}, smart servos in the rig; not opened: --ask {path} --layout {layout} asks who is there",
            board.name
        ));
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
