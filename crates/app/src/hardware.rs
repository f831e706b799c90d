//! From a rig's ports to what the engine drives: real transports, or simulated ones behind the same traits.

use crate::files::input::{Unread, What};
use crate::files::output::Outputs;
use crate::files::{self, BadFile, input};
use crate::keyboard::Keyboard;
use crate::senders::{self, Senders};
use miette::{Context, IntoDiagnostic};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::{Board, Kind, Layout, Port, PortKind, Rig, Servo, Signal};
use wasvolta_engine::why::ASKED;
use wasvolta_engine::{BoardPort, OpenBus, Setup, Way, chips, wiring};
use wasvolta_port::board::Evidence;
use wasvolta_port::bridge::Bridge;
use wasvolta_port::expander::Seen;
use wasvolta_port::pwm::{self, Directory};
use wasvolta_port::serial::Serial;
use wasvolta_port::smart;
use wasvolta_port::{BusError, Clock, Fault, I2cBus, WallClock};
use wasvolta_sim::faults::{Faults, Struck};
use wasvolta_sim::truth::Part;
use wasvolta_sim::{Bench, Eye, Look, ManualClock, StandIn, Truth};
use wasvolta_wire::firmata;
use wasvolta_wire::smart::map::Map;

/// The time between two beats.
pub const BEAT: Duration = Duration::from_millis(20);

/// What a run has around it: how hardware is simulated, what makes time pass, and what is written down of it.
#[derive(Debug, Clone)]
pub struct Surroundings {
    /// The same seed gives the same simulated servos and readings.
    pub seed: u64,
    /// What is wrong with the simulated hardware.
    pub faults: Vec<Struck>,
    /// Time passes only by [`ManualClock`].
    pub by_hand: bool,
    /// Where every transfer that a simulated bus sees is written.
    pub sim_log: Option<PathBuf>,
    /// Where the run is recorded.
    pub record: Option<PathBuf>,
}

impl Default for Surroundings {
    fn default() -> Self {
        Self { seed: 1, faults: Vec::new(), by_hand: false, sim_log: None, record: None }
    }
}

/// The simulated side of a rig, as far as a person on the bench could touch or see it.
pub struct Simulated {
    pub eye: Eye,
    /// What sends on simulated lines.
    pub senders: Senders,
    bench: Bench,
}

impl Simulated {
    /// What stands in for what a link hears, on the way of a name or on the board that is there.
    pub fn stand_in(&self, way: &str, on_board: bool) -> Option<Box<dyn StandIn>> {
        if on_board { Some(Box::new(self.bench.firmata(way))) } else { self.senders.get(way) }
    }

    /// What an eye sees of a servo, wherever it is plugged in.
    pub fn look(&self, rig: &Rig, servo: &Servo) -> Option<Look> {
        let board = rig.board(&servo.board)?;
        let way = rig.port(&board.port).and_then(Port::simulated)?;
        match board.chip.row().port {
            PortKind::I2c => self.eye.look(way, board.address?, servo.plug()),
            PortKind::Serial if servo.kind.is_smart() => self.eye.look_at_smart(way, servo.plug()),
            PortKind::Serial => self.eye.look_at_pin(way, servo.plug()),
            PortKind::Pwm => self.eye.look_at_pwm(way, servo.plug()),
            _ => None,
        }
    }

    /// Moves a smart servo by hand, as far as it lets itself be moved: to a place in counts. Whether it is there.
    pub fn hand(&self, rig: &Rig, servo: &Servo, to: f64) -> bool {
        let port = rig.board(&servo.board).and_then(|board| rig.port(&board.port));
        let Some(bus) = port.and_then(Port::simulated).and_then(|way| self.bench.smart_bus(way)) else {
            return false;
        };
        bus.move_by_hand(servo.plug(), to);
        bus.place(servo.plug()).is_some_and(|at| (at - to).abs() < 1.0)
    }

    /// The bus of smart servos on a simulated line.
    #[cfg(test)]
    pub fn smart_bus(&self, way: &str) -> Option<wasvolta_sim::SmartBus> {
        self.bench.smart_bus(way)
    }

    /// What a meter at a board's outputs shows, where the board has a clock of its own.
    pub fn meter_hz(&self, rig: &Rig, board: &Board) -> Option<f64> {
        self.eye.meter_hz(rig.port(&board.port).and_then(Port::simulated)?, board.address?)
    }

    /// What is wrong with the bench, to be switched on and off.
    pub fn faults(&self) -> &Faults {
        self.bench.faults()
    }

    /// A servo that was added to a simulated board hangs there from now on; what is there already stays.
    pub fn plug_in(&self, rig: &Rig) {
        plug_in(&self.bench, rig);
    }
}

fn plug_in(bench: &Bench, rig: &Rig) {
    for board in &rig.boards {
        let Some(name) = rig.port(&board.port).and_then(Port::simulated) else { continue };
        let parts: Vec<(u8, Part)> = rig.servos_on(&board.name).map(|s| (s.plug(), part(s.kind))).collect();
        match board.chip.row().port {
            PortKind::I2c => bench.ensure_parts(name, board.address.unwrap_or_default(), &parts),
            PortKind::Serial if board.chip.row().is_smart => {
                let Some(map) = map_of(rig, board) else { continue };
                let made = bench.smart(name, &map);
                rig.servos_on(&board.name).for_each(|servo| made.ensure(servo.plug(), servo.model));
            }
            PortKind::Serial => {
                let made = bench.firmata(name);
                for (pin, part) in &parts {
                    made.ensure(*pin, *part);
                }
            }
            PortKind::Pwm => {
                let made = bench.pwm(name);
                for (channel, part) in &parts {
                    made.ensure(*channel, *part);
                }
            }
            _ => {}
        }
    }
}

/// What a simulated bench has on a channel for it.
const fn part(kind: Kind) -> Part {
    match kind.signal() {
        Signal::Pulse if kind.turns_on() => Part::Motor,
        Signal::Pulse | Signal::Counts => Part::Servo,
        Signal::Share | Signal::Switch => Part::Lamp,
    }
}

/// What the engine drives, and what goes with it.
pub struct Hardware {
    /// For the engine.
    pub setup: Setup,
    /// The clock, where it is moved by hand.
    pub manual: Option<Arc<ManualClock>>,
    /// What is simulated, if anything.
    pub simulated: Option<Simulated>,
    /// The faders that keys move.
    pub keyboard: Keyboard,
}

/// Resolves all ports of a rig.
///
/// # Errors
/// When the simulation cannot be made. A device that another program has, or that is missing is no
/// error here: the engine goes on trying.
pub fn resolve(rig: &Rig, path: &Path, around: &Surroundings, outputs: &Outputs) -> miette::Result<Hardware> {
    let manual = around.by_hand.then(|| Arc::new(ManualClock::default()));
    let clock: Arc<dyn Clock> = match &manual {
        Some(manual) => manual.clone(),
        None => Arc::new(WallClock::default()),
    };
    let simulation = if rig.ports.iter().any(|p| p.simulated().is_some()) {
        Some(simulate(rig, path, around, &clock, outputs)?)
    } else {
        None
    };
    let bench = simulation.as_ref().map(|(bench, _)| bench.clone());
    let board = |port: &Port| BoardPort { name: port.name.clone(), way: way_of(rig, port, bench.as_ref()) };
    let boards = wiring::board_ports(rig).map(board).collect();
    let simulated = simulation.map(|(_, simulated)| simulated);
    let keyboard = Keyboard::default();
    let opener = senders::opener(simulated.as_ref().map(|simulated| &simulated.senders), &keyboard);
    // A recording is written as the run goes: what is there when it ends stays, however it ends.
    let record = around
        .record
        .as_deref()
        .map(|path| outputs.begin("recording", path))
        .transpose()
        .into_diagnostic()?;
    let record = record.map(|stream| Box::new(stream) as Box<dyn Write + Send>);
    let setup = Setup { boards, opener, clock, beat: BEAT, record };
    Ok(Hardware { setup, manual, simulated, keyboard })
}

/// A port with boards, and how they are reached.
pub fn board_port(rig: &Rig, port: &Port, simulated: Option<&Simulated>) -> BoardPort {
    BoardPort { name: port.name.clone(), way: way(rig, port, simulated) }
}

/// The registers of the servos on a smart bus.
fn map_of(rig: &Rig, board: &Board) -> Option<Map> {
    Some(chips::map_of(Layout::named(rig, board.layout.as_deref()?)?))
}

/// The simulated name of a port, where there is a simulation for it.
fn simulation_of<'p>(port: &'p Port, simulation: Option<&Simulated>) -> Option<&'p str> {
    port.simulated().filter(|_| simulation.is_some())
}

/// How a port's boards are reached, simulated or real.
pub fn way(rig: &Rig, port: &Port, simulated: Option<&Simulated>) -> Way {
    way_of(rig, port, simulated.map(|s| &s.bench))
}

fn way_of(rig: &Rig, port: &Port, bench: Option<&Bench>) -> Way {
    let smart = rig.boards.iter().find(|board| board.port == port.name && board.chip.row().is_smart);
    let sim = port.simulated().zip(bench).map(|(name, bench)| (name.to_owned(), bench.clone()));
    let path = PathBuf::from(&port.path);
    match (port.kind, sim) {
        (PortKind::I2c, _) => Way::Bus(opener(port, bench)),
        (PortKind::Serial, Some((name, bench))) if smart.is_some() => {
            let map = smart.and_then(|board| map_of(rig, board)).unwrap_or_default();
            Way::Smart(Box::new(move || Ok(Box::new(bench.smart(&name, &map).open()?))))
        }
        (PortKind::Serial, None) if smart.is_some() => {
            let baud = port.baud.unwrap_or(smart::USUAL_BAUD);
            Way::Smart(Box::new(move || Ok(Box::new(open_line(&path, baud)?))))
        }
        (PortKind::Serial, Some((name, bench))) => {
            Way::Line(Box::new(move || Ok(Box::new(bench.firmata(&name).open()?))))
        }
        (PortKind::Serial, None) => {
            let baud = port.baud.unwrap_or(firmata::BAUD);
            Way::Line(Box::new(move || Ok(Box::new(open_line(&path, baud)?))))
        }
        (PortKind::Pwm, Some((name, bench))) => {
            Way::Files(Box::new(move || Ok(Box::new(bench.pwm(&name).open()?))))
        }
        // No board hangs on a port of any further kind.
        (_, None | Some(_)) => Way::Files(Box::new(move || Ok(Box::new(Directory::open(&path)?)))),
    }
}

fn open_line(path: &Path, baud: u32) -> Result<Serial, BusError> {
    Serial::open(path, baud).map_err(|error| {
        let fault = error.fault();
        BusError { doing: "open", device: error.path, fault }
    })
}

/// How a port's bus is opened, simulated or real.
fn opener(port: &Port, bench: Option<&Bench>) -> OpenBus {
    if let (Some(sim), Some(bench)) = (port.simulated(), bench) {
        let (sim, bench) = (sim.to_owned(), bench.clone());
        return Box::new(move || Ok(Box::new(bench.open(&sim)?)));
    }
    let path = PathBuf::from(&port.path);
    match port.baud {
        Some(baud) => Box::new(move || Ok(Box::new(Bridge::open(&path, baud)?))),
        None => Box::new(move || open_bus(&path)),
    }
}

/// The I²C ports of a rig with how each is opened, beside the engine, by reading only.
pub fn openers(rig: &Rig, simulated: Option<&Simulated>) -> Vec<(Port, OpenBus)> {
    let bench = simulated.map(|s| &s.bench);
    let buses = rig.ports.iter().filter(|port| port.kind.row().is_shared);
    buses.map(|port| (port.clone(), opener(port, bench))).collect()
}

/// What a board says of itself, by reading only. A line is not opened, for that resets many boards: nothing is known
/// of what is on it.
///
/// # Errors
/// When the board cannot be reached.
pub fn look_at(
    rig: &Rig,
    board: &Board,
    simulated: Option<&Simulated>,
) -> Result<Option<Evidence>, BusError> {
    let Some(port) = rig.port(&board.port) else { return Ok(None) };
    match way(rig, port, simulated) {
        Way::Bus(mut open) => {
            let address = board.address.unwrap_or_default();
            Ok(Some(Evidence::Expander(patiently(&mut *open()?, address)?)))
        }
        Way::Line(_) | Way::Smart(_) if simulation_of(port, simulated).is_some() => Ok(None),
        Way::Line(_) | Way::Smart(_) => {
            let looked = Serial::look(Path::new(&port.path));
            looked.map_err(|error| BusError { doing: "open", fault: error.fault(), device: error.path })?;
            Ok(None)
        }
        Way::Files(mut open) => {
            let mut files = open()?;
            if !files.is_open_to_writing() {
                let device = format!("{}/export", port.path);
                return Err(BusError { doing: "write", device, fault: Fault::Denied });
            }
            Ok(Some(Evidence::Pwm(pwm::Exported::read(&mut *files)?)))
        }
    }
}

/// Reads an expander. One answer that comes late on a busy machine says nothing of the board: it is asked again.
fn patiently(bus: &mut dyn I2cBus, address: u8) -> Result<Seen, BusError> {
    let mut asked = 1;
    loop {
        match Seen::read(&mut *bus, address) {
            Err(error) if error.fault == Fault::TimedOut && asked < ASKED => asked += 1,
            read => return read,
        }
    }
}

/// The simulated bench of a rig, without an engine; `None` where nothing is simulated.
///
/// # Errors
/// When the simulation cannot be made.
pub fn bench_of(rig: &Rig, path: &Path, around: &Surroundings) -> miette::Result<Option<Simulated>> {
    if !rig.ports.iter().any(|p| p.simulated().is_some()) {
        return Ok(None);
    }
    let clock: Arc<dyn Clock> = Arc::new(WallClock::default());
    Ok(Some(simulate(rig, path, around, &clock, &Outputs::default())?.1))
}

/// Opens a bus of this machine.
///
/// # Errors
/// When it is not there or may not be opened.
#[cfg(target_os = "linux")]
pub fn open_bus(path: &Path) -> Result<Box<dyn I2cBus>, BusError> {
    Ok(Box::new(wasvolta_port::linux_i2c::LinuxI2c::open(path)?))
}

/// There is no way to a bus on this kind of system yet.
///
/// # Errors
/// Always.
#[cfg(not(target_os = "linux"))]
pub fn open_bus(path: &Path) -> Result<Box<dyn I2cBus>, BusError> {
    let device = format!("{} (buses of this system are not known here; Linux is)", path.display());
    Err(BusError { doing: "open", device, fault: wasvolta_port::Fault::NoBus })
}

/// The truth's file stands beside the rig: `x.rig.toml` has `x.sim.toml`.
pub fn truth_path(rig: &Path) -> PathBuf {
    let stem = files::stem(rig);
    rig.with_file_name(format!("{stem}.sim.toml"))
}

fn simulate(
    rig: &Rig,
    path: &Path,
    around: &Surroundings,
    clock: &Arc<dyn Clock>,
    outputs: &Outputs,
) -> miette::Result<(Bench, Simulated)> {
    let truth_path = truth_path(path);
    outputs.reads(&truth_path);
    let named = || truth_path.display().to_string();
    let truth = match input::text(&truth_path, What::Bench) {
        Ok(text) => Truth::parse(&text).map_err(|why| BadFile::Bench { path: named(), why })?,
        Err(Unread::System(why)) if why.kind() == std::io::ErrorKind::NotFound => Truth::default(),
        Err(why) => return Err(BadFile::Unreadable { path: named(), why }.into()),
    };
    let bench = Bench::new(&truth, around.seed, Arc::clone(clock));
    plug_in(&bench, rig);
    for fault in &around.faults {
        bench.faults().set(*fault, true);
    }
    if let Some(log) = &around.sim_log {
        bench.log_to(Box::new(outputs.begin("simulation log", log).into_diagnostic()?));
    }
    let folder = files::passing().into_diagnostic().wrap_err("cannot make a folder for simulated lines")?;
    let senders = Senders::new(&truth, around.seed, around.by_hand, folder);
    let eye = bench.eye();
    Ok((bench.clone(), Simulated { eye, senders, bench }))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A bus whose first answers come too late, or not at all.
    struct Late(u32, Fault, u32);

    impl I2cBus for Late {
        fn transfer(&mut self, address: u8, transfer: wasvolta_port::Transfer<'_>) -> Result<(), BusError> {
            self.2 += 1;
            if self.0 == 0 {
                return Ok(());
            }
            self.0 -= 1;
            Err(BusError::transfer(address, &transfer, self.1))
        }
    }

    #[test]
    fn an_answer_that_comes_late_is_asked_for_again_and_a_refusal_is_not() {
        for late in 0..ASKED {
            let mut bus = Late(u32::try_from(late).unwrap(), Fault::TimedOut, 0);
            assert!(patiently(&mut bus, 0x40).is_ok(), "{late} late");
        }
        let mut bus = Late(99, Fault::TimedOut, 0);
        assert_eq!(patiently(&mut bus, 0x40).unwrap_err().fault, Fault::TimedOut);
        assert_eq!(bus.2, 3, "three times, no more");
        let mut bus = Late(99, Fault::Absent, 0);
        assert_eq!(patiently(&mut bus, 0x40).unwrap_err().fault, Fault::Absent);
        assert_eq!(bus.2, 1);
    }

    #[test]
    fn the_truth_stands_beside_the_rig() {
        assert_eq!(truth_path(Path::new("a/b.rig.toml")), Path::new("a/b.sim.toml"));
        assert_eq!(truth_path(Path::new("b.toml")), Path::new("b.sim.toml"));
    }
}
