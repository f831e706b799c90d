//! Which servo is which channel of which board on which port, as indices.

use crate::snapshot::BoardState;
use crate::{Setup, Snapshot};
use std::time::Duration;
use wasvolta_core::rig::{Board, Chip, Field, Kind, Port, PortKind, Rig};
use wasvolta_core::unit::count16;
use wasvolta_port::board::Settings;
use wasvolta_port::firmata::Role;
use wasvolta_port::{expander, firmata, pwm};
use wasvolta_wire::lines as wire_lines;

/// What a pin must be able to do for a kind of servo.
pub const fn role(kind: Kind) -> Role {
    match kind {
        Kind::Positional | Kind::Continuous => Role::Servo,
        Kind::Dimmer => Role::Level,
        Kind::OnOff => Role::Switch,
    }
}

/// Where a servo is plugged in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// The port's index among those with boards.
    pub port: usize,
    /// The board's index on that port.
    pub board: usize,
    /// The channel.
    pub channel: usize,
}

/// Where an input comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// The line's index.
    pub line: usize,
    /// Which number of a line.
    pub field: wire_lines::Field,
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wiring {
    /// By servo.
    pub servos: Vec<Option<Place>>,
    /// By input.
    pub inputs: Vec<Option<Source>>,
    /// By port, then by board on it.
    pub boards: Vec<Vec<Settings>>,
    ports: Vec<String>,
    lines: Vec<String>,
}

/// The widest pulse that is ever allowed, in µs.
const WIDEST_US: f64 = 2900.0;

impl Wiring {
    /// The wiring of a rig over the ports of a setup.
    pub fn of(rig: &Rig, setup: &Setup) -> Self {
        let ports = setup.boards.iter().map(|b| b.name.clone()).collect();
        let lines = setup.lines.iter().map(|l| l.name.clone()).collect();
        Self { ports, lines, ..Self::default() }.again(rig)
    }

    /// The wiring of a changed rig over the same ports.
    #[must_use]
    pub fn again(&self, rig: &Rig) -> Self {
        let on = |port: &str| rig.boards.iter().filter(move |b| b.port == port).collect::<Vec<_>>();
        let place = |servo: &wasvolta_core::rig::Servo| {
            let board = rig.board(&servo.board)?;
            let port = self.ports.iter().position(|name| *name == board.port)?;
            let index = on(&board.port).iter().position(|b| b.name == board.name)?;
            Some(Place { port, board: index, channel: usize::from(servo.channel) })
        };
        let source = |input: &wasvolta_core::rig::Input| {
            let line = self.lines.iter().position(|name| *name == input.port)?;
            let field = match &input.field {
                Field::Place(place) => wire_lines::Field::Place(*place),
                Field::Name(name) => wire_lines::Field::Name(name.clone()),
            };
            Some(Source { line, field })
        };
        Self {
            servos: rig.servos.iter().map(place).collect(),
            inputs: rig.inputs.iter().map(source).collect(),
            boards: self
                .ports
                .iter()
                .map(|port| on(port).into_iter().map(|board| settings(rig, board)).collect())
                .collect(),
            ports: self.ports.clone(),
            lines: self.lines.clone(),
        }
    }

    /// The same with one more port behind those there are.
    #[must_use]
    pub fn with_port(mut self, name: &str) -> Self {
        self.ports.push(name.to_owned());
        self
    }

    /// Whether a port leads to boards here.
    pub fn has_port(&self, name: &str) -> bool {
        self.ports.iter().any(|port| port == name)
    }

    /// The addresses of a port's boards, in their order; none for a board that is alone on its port.
    pub fn addresses(&self, port: usize) -> impl Iterator<Item = Option<u8>> {
        self.boards.get(port).into_iter().flatten().map(|settings| match settings {
            Settings::Expander(settings) => Some(settings.address),
            Settings::Firmata(_) | Settings::Pwm(_) => None,
        })
    }

    /// The place of a board by its name.
    pub fn board(&self, rig: &Rig, name: &str) -> Option<(usize, usize)> {
        let board = rig.board(name)?;
        let port = self.ports.iter().position(|port| *port == board.port)?;
        let index = rig.boards.iter().filter(|b| b.port == board.port).position(|b| b.name == name)?;
        Some((port, index))
    }

    /// Every board with its state, in rig order; snapshots hold them by port.
    pub fn boards_in<'r, 's>(
        &'s self,
        rig: &'r Rig,
        snapshot: &'s Snapshot,
    ) -> impl Iterator<Item = (&'r Board, &'s BoardState)> {
        rig.boards.iter().filter_map(|board| {
            let (port, index) = self.board(rig, &board.name)?;
            Some((board, snapshot.boards.get(port)?.get(index)?))
        })
    }

    /// The index of a line by its port's name.
    pub fn line(&self, port: &str) -> Option<usize> {
        self.lines.iter().position(|name| name == port)
    }
}

/// Ports that lead to boards, in rig order: every bus and chip, and lines with a board that speaks Firmata.
pub fn board_ports(rig: &Rig) -> impl Iterator<Item = &Port> {
    rig.ports.iter().filter(|port| port.kind != PortKind::Serial || has_board(rig, port))
}

/// Ports on which numbers come in, in rig order.
pub fn lines(rig: &Rig) -> impl Iterator<Item = &Port> {
    rig.ports.iter().filter(|port| port.kind == PortKind::Serial && !has_board(rig, port))
}

fn has_board(rig: &Rig, port: &Port) -> bool {
    rig.boards.iter().any(|board| board.port == port.name)
}

fn settings(rig: &Rig, board: &Board) -> Settings {
    let clock = board.clock();
    let frame = Duration::try_from_secs_f64(clock.period().get() / 1e6).unwrap_or_default();
    match board.chip {
        Chip::PwmExpander => Settings::Expander(expander::Settings {
            address: board.address.unwrap_or_default(),
            prescale: board.prescale(),
            frame,
            widest: count16((WIDEST_US / clock.tick().get()).ceil()).min(4095),
        }),
        Chip::Firmata => Settings::Firmata(firmata_settings(rig, board)),
        Chip::LinuxPwm => Settings::Pwm(pwm::Settings { frame }),
    }
}

fn firmata_settings(rig: &Rig, board: &Board) -> firmata::Settings {
    let pins = |kind: Kind| {
        let pins = rig.servos_on(&board.name).filter(|s| s.kind == kind).map(|s| s.channel);
        pins.fold(0, |bits, pin| bits | 1u128.checked_shl(u32::from(pin)).unwrap_or(0))
    };
    firmata::Settings { levels: pins(Kind::Dimmer), switches: pins(Kind::OnOff) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::file::{Loaded, load};

    #[test]
    fn boards_are_told_apart_though_the_rig_mixes_their_ports() {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        let mut rig = *rig;
        rig.ports.push(wasvolta_core::rig::Port { name: "second-bus".into(), ..rig.ports[0].clone() });
        let upper = rig.boards[0].clone();
        rig.boards.push(Board { name: "far".into(), port: "second-bus".into(), ..upper.clone() });
        rig.boards.push(Board { name: "lower".into(), address: Some(0x41), ..upper });
        let ports = vec!["bench-bus".into(), "second-bus".into()];
        let wiring = Wiring { ports, ..Wiring::default() }.again(&rig);
        let state = |lapses| BoardState { lapses, ..BoardState::default() };
        let snapshot =
            Snapshot { boards: vec![vec![state(1), state(2)], vec![state(3)]], ..Snapshot::default() };
        let found: Vec<_> =
            wiring.boards_in(&rig, &snapshot).map(|(b, s)| (b.name.as_str(), s.lapses)).collect();
        assert_eq!(found, [("upper", 1), ("far", 3), ("lower", 2)]);
    }

    #[test]
    fn every_servo_and_input_finds_its_place() {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        let wiring =
            Wiring { ports: vec!["bench-bus".into()], lines: vec!["knob-line".into()], ..Wiring::default() };
        let wiring = wiring.again(&rig);
        assert_eq!(wiring.servos[1], Some(Place { port: 0, board: 0, channel: 2 }));
        let Settings::Expander(upper) = wiring.boards[0][0] else { panic!() };
        assert_eq!((upper.prescale, upper.widest), (121, 595));
        assert_eq!(wiring.inputs[0], Some(Source { line: 0, field: wire_lines::Field::Name("knob".into()) }));
    }
}
