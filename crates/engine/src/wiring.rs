//! Which servo is which channel of which board on which port, as indices.

use crate::snapshot::BoardState;
use crate::{Setup, Snapshot};
use std::time::Duration;
use wasvolta_core::rig::{Board, Field, PortKind, Rig};
use wasvolta_core::unit::count16;
use wasvolta_port::expander::Settings;
use wasvolta_wire::lines;

/// Where a servo is plugged in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Place {
    /// The port's index among the buses.
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
    pub field: lines::Field,
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
    buses: Vec<String>,
    lines: Vec<String>,
}

/// The widest pulse that is ever allowed, in µs.
const WIDEST_US: f64 = 2900.0;

impl Wiring {
    /// The wiring of a rig over the ports of a setup.
    pub fn of(rig: &Rig, setup: &Setup) -> Self {
        let buses = setup.buses.iter().map(|b| b.name.clone()).collect();
        let lines = setup.lines.iter().map(|l| l.name.clone()).collect();
        Self { buses, lines, ..Self::default() }.again(rig)
    }

    /// The wiring of a changed rig over the same ports.
    #[must_use]
    pub fn again(&self, rig: &Rig) -> Self {
        let on = |port: &str| rig.boards.iter().filter(move |b| b.port == port).collect::<Vec<_>>();
        let place = |servo: &wasvolta_core::rig::Servo| {
            let board = rig.board(&servo.board)?;
            let port = self.buses.iter().position(|name| *name == board.port)?;
            let index = on(&board.port).iter().position(|b| b.name == board.name)?;
            Some(Place { port, board: index, channel: usize::from(servo.channel) })
        };
        let source = |input: &wasvolta_core::rig::Input| {
            let line = self.lines.iter().position(|name| *name == input.port)?;
            let field = match &input.field {
                Field::Place(place) => lines::Field::Place(*place),
                Field::Name(name) => lines::Field::Name(name.clone()),
            };
            Some(Source { line, field })
        };
        Self {
            servos: rig.servos.iter().map(place).collect(),
            inputs: rig.inputs.iter().map(source).collect(),
            boards: self.buses.iter().map(|port| on(port).into_iter().map(settings).collect()).collect(),
            buses: self.buses.clone(),
            lines: self.lines.clone(),
        }
    }

    /// The addresses of a port's boards, in their order.
    pub fn addresses(&self, port: usize) -> impl Iterator<Item = u8> {
        self.boards.get(port).into_iter().flatten().map(|settings| settings.address)
    }

    /// The place of a board by its name.
    pub fn board(&self, rig: &Rig, name: &str) -> Option<(usize, usize)> {
        let board = rig.board(name)?;
        let port = self.buses.iter().position(|bus| *bus == board.port)?;
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

/// Names of the ports of one kind, in rig order.
pub fn ports(rig: &Rig, kind: PortKind) -> impl Iterator<Item = &wasvolta_core::rig::Port> {
    rig.ports.iter().filter(move |p| p.kind == kind)
}

fn settings(board: &Board) -> Settings {
    let clock = board.clock();
    Settings {
        address: board.address,
        prescale: board.prescale(),
        frame: Duration::try_from_secs_f64(clock.period().get() / 1e6).unwrap_or_default(),
        widest: count16((WIDEST_US / clock.tick().get()).ceil()).min(4095),
    }
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
        rig.boards.push(Board { name: "lower".into(), address: 0x41, ..upper });
        let buses = vec!["bench-bus".into(), "second-bus".into()];
        let wiring = Wiring { buses, ..Wiring::default() }.again(&rig);
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
            Wiring { buses: vec!["bench-bus".into()], lines: vec!["knob-line".into()], ..Wiring::default() };
        let wiring = wiring.again(&rig);
        assert_eq!(wiring.servos[1], Some(Place { port: 0, board: 0, channel: 2 }));
        assert_eq!(wiring.boards[0][0].prescale, 121);
        assert_eq!(wiring.boards[0][0].widest, 595);
        assert_eq!(wiring.inputs[0], Some(Source { line: 0, field: lines::Field::Name("knob".into()) }));
    }
}
