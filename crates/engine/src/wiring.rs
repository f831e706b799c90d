//! Which servo is which channel of which board on which port, as indices.

use crate::{Setup, chips};
use std::collections::HashMap;
use wasvolta_core::rig::{BoardId, Field, Input, Kind, Parts, Port, Rig, Servo, Signal};
use wasvolta_port::board::BoardSettings;
use wasvolta_port::firmata::Role;
use wasvolta_wire::lines as wire_lines;

/// What a pin must be able to do for a kind of servo.
pub const fn role(kind: Kind) -> Role {
    match kind.signal() {
        Signal::Pulse => Role::Servo,
        Signal::Share => Role::Level,
        Signal::Switch => Role::Switch,
    }
}

/// Where a servo is plugged in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ChannelPlace {
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

/// A board on a port: which, and what it is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wired {
    /// The board.
    pub id: BoardId,
    /// What it is to be.
    pub settings: BoardSettings,
}

/// The names of the ports that an engine has opened, in its order.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ways {
    /// Ports with boards.
    pub ports: Vec<String>,
    /// Lines on which numbers come in.
    pub lines: Vec<String>,
}

impl Ways {
    /// Those of a setup.
    pub fn of(setup: &Setup) -> Self {
        Self {
            ports: setup.boards.iter().map(|b| b.name.clone()).collect(),
            lines: setup.lines.iter().map(|l| l.name.clone()).collect(),
        }
    }
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Wiring {
    /// By servo.
    pub servos: Vec<Option<ChannelPlace>>,
    /// By input.
    pub inputs: Vec<Option<Source>>,
    /// By port, then by board on it.
    pub boards: Vec<Vec<Wired>>,
    places: HashMap<BoardId, (usize, usize)>,
    lines: Vec<String>,
}

impl Wiring {
    /// The wiring of a rig over the ways of an engine.
    pub fn of(rig: Parts<'_>, ways: &Ways) -> Self {
        let mut boards: Vec<Vec<Wired>> = vec![Vec::new(); ways.ports.len()];
        let mut places = HashMap::with_capacity(rig.boards.len());
        let port_of: HashMap<&str, usize> = ways.ports.iter().map(String::as_str).zip(0..).collect();
        for board in &rig.boards {
            let Some(&port) = port_of.get(board.port.as_str()) else { continue };
            let Some(there) = boards.get_mut(port) else { continue };
            places.insert(board.id, (port, there.len()));
            there.push(Wired { id: board.id, settings: (chips::row(board.chip).settings)(&rig, board) });
        }
        let place = |servo: &Servo| {
            let (port, board) = *places.get(&rig.board(&servo.board)?.id)?;
            Some(ChannelPlace { port, board, channel: usize::from(servo.channel) })
        };
        let source = |input: &Input| {
            let line = ways.lines.iter().position(|name| *name == input.port)?;
            let field = match &input.field {
                Field::Place(place) => wire_lines::Field::Place(*place),
                Field::Name(name) => wire_lines::Field::Name(name.clone()),
            };
            Some(Source { line, field })
        };
        Self {
            servos: rig.servos.iter().map(place).collect(),
            inputs: rig.inputs.iter().map(source).collect(),
            boards,
            places,
            lines: ways.lines.clone(),
        }
    }

    /// The port and the place there of a board.
    pub fn board(&self, board: BoardId) -> Option<(usize, usize)> {
        self.places.get(&board).copied()
    }

    /// The index of a line by its port's name.
    pub fn line(&self, port: &str) -> Option<usize> {
        self.lines.iter().position(|name| name == port)
    }
}

/// Ports that lead to boards, in rig order: every bus and chip, and lines with a board that speaks Firmata.
pub fn board_ports(rig: &Rig) -> impl Iterator<Item = &Port> {
    rig.ports.iter().filter(|port| !port.kind.row().brings_numbers || has_board(rig, port))
}

/// Ports on which numbers come in, in rig order.
pub fn lines(rig: &Rig) -> impl Iterator<Item = &Port> {
    rig.ports.iter().filter(|port| port.kind.row().brings_numbers && !has_board(rig, port))
}

fn has_board(rig: &Rig, port: &Port) -> bool {
    rig.boards.iter().any(|board| board.port == port.name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::snapshot::BoardState;
    use crate::{Compiled, Snapshot};
    use std::sync::Arc;
    use wasvolta_core::rig::file::{Loaded, load};
    use wasvolta_core::rig::{Board, PartId};

    #[test]
    fn boards_are_told_apart_though_the_rig_mixes_their_ports() {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        let mut rig = *rig;
        rig.ports.push(Port { name: "second-bus".into(), ..rig.ports[0].clone() });
        let upper = rig.boards[0].clone();
        let (far, lower) = (BoardId::of(70), BoardId::of(71));
        rig.boards.push(Board { id: far, name: "far".into(), port: "second-bus".into(), ..upper.clone() });
        rig.boards.push(Board { id: lower, name: "lower".into(), address: Some(0x41), ..upper.clone() });
        let ways = Ways { ports: vec!["bench-bus".into(), "second-bus".into()], lines: Vec::new() };
        let compiled = Compiled::of(Arc::new(rig), &ways, 0, false);
        let state = |id, lapses| BoardState { id, lapses, ..BoardState::default() };
        let boards = vec![vec![state(upper.id, 1), state(lower, 2)], vec![state(far, 3)]];
        let mut snapshot = Snapshot { boards, ..Snapshot::default() };
        let found = |snapshot: &Snapshot| -> Vec<_> {
            compiled.boards(snapshot).map(|(b, s)| (b.name.clone(), s.lapses)).collect()
        };
        let wanted = [("upper", 1), ("far", 3), ("lower", 2)].map(|(name, n)| (name.to_owned(), n));
        assert_eq!(found(&snapshot), wanted);
        // A report of the boards that were there before an edit is of none of those that stand there now.
        snapshot.boards[0].swap(0, 1);
        assert_eq!(found(&snapshot), wanted[1..2]);
    }

    #[test]
    fn every_servo_and_input_finds_its_place() {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        let ways = Ways { ports: vec!["bench-bus".into()], lines: vec!["knob-line".into()] };
        let wiring = Compiled::of(Arc::new(*rig), &ways, 0, false).wiring;
        assert_eq!(wiring.servos[1], Some(ChannelPlace { port: 0, board: 0, channel: 2 }));
        let BoardSettings::Expander(upper) = wiring.boards[0][0].settings else { panic!() };
        assert_eq!((upper.prescale, upper.widest), (121, 595));
        assert_eq!(wiring.inputs[0], Some(Source { line: 0, field: wire_lines::Field::Name("knob".into()) }));
    }
}
