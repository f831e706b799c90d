//! Which servo is which channel of which board on which port, as indices.

use crate::chips;
use crate::links::LinkSetup;
use std::collections::HashMap;
use wasvolta_core::rig::{
    Ail, Ailing, Board, BoardId, Channel, Kind, Layout, Link, Parts, Port, PortId, Protocol, Rig, Servo,
    Signal, Wave,
};
use wasvolta_port::board::BoardSettings;
use wasvolta_port::firmata::Role;

/// What a pin must be able to do for a kind of servo.
pub const fn role(kind: Kind) -> Role {
    match kind.signal() {
        Signal::Pulse | Signal::Counts => Role::Servo,
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
    /// The channel on its board, from 0.
    pub channel: usize,
}

/// A board on a port: which, and what it is to be.
#[derive(Debug, Clone, PartialEq)]
pub struct Wired {
    /// Which board, by its id in the rig.
    pub id: BoardId,
    /// What it is to be.
    pub settings: BoardSettings,
}

/// A port with links on it: what opens it anew when it is another, and what is heard there.
#[derive(Debug, Clone)]
pub struct WayIn {
    /// The port, with the links on it as far as they say how it is opened.
    pub setup: WaySetup,
    pub(crate) links: Vec<LinkSetup>,
}

/// All that says how a way in is opened. Two that are equal are the same way.
#[derive(Debug, Clone, PartialEq)]
pub struct WaySetup {
    /// The port; its own name and id do not matter.
    pub port: Port,
    /// What is spoken on its first link: it says the rate of a line and the bits around each byte.
    pub protocol: Protocol,
    /// The wave of a wave generator.
    pub wave: Option<Wave>,
    /// The board behind the port whose pins are read.
    pub board: Option<BoardId>,
    /// The names of the channels that are to be asked for, of a protocol that has no others.
    pub channels: Vec<String>,
    /// The topics to which the last wills of senders go.
    pub wills: Vec<String>,
}

impl WaySetup {
    fn of(port: &Port, board: Option<&Board>, link: &Link, protocol: Protocol) -> Self {
        let port = Port { name: String::new(), id: PortId::default(), ..port.clone() };
        let (channels, wills) = (Vec::new(), Vec::new());
        Self { port, protocol, wave: link.wave, board: board.map(|board| board.id), channels, wills }
    }
}

/// See the module.
#[derive(Debug, Clone, Default)]
pub struct Wiring {
    /// Where each servo's pulse goes, in the plan's order; none where it has no board.
    pub servos: Vec<Option<ChannelPlace>>,
    /// By servo, which bits of what it says mean that it ails, and what happens then.
    pub ails: Vec<(u8, Ailing)>,
    /// By port with links on it, in rig order.
    pub ways_in: Vec<WayIn>,
    /// By link, the place of its port among those.
    pub way_of_link: Vec<Option<usize>>,
    /// How many inputs there are.
    pub inputs: usize,
    /// By port, then by board on it.
    pub boards: Vec<Vec<Wired>>,
    places: HashMap<BoardId, (usize, usize)>,
}

impl Wiring {
    /// The wiring of a rig over the ports with boards that an engine has opened, by their names.
    pub fn of(rig: Parts<'_>, ports: &[String]) -> Self {
        let mut boards: Vec<Vec<Wired>> = vec![Vec::new(); ports.len()];
        let mut places = HashMap::with_capacity(rig.boards.len());
        let port_of: HashMap<&str, usize> = ports.iter().map(String::as_str).zip(0..).collect();
        for board in &rig.boards {
            let Some(&port) = port_of.get(board.port.as_str()) else { continue };
            let Some(there) = boards.get_mut(port) else { continue };
            places.insert(board.id, (port, there.len()));
            there.push(Wired { id: board.id, settings: (chips::row(board.chip).settings)(&rig, board) });
        }
        let place = |servo: &Servo| {
            let (port, board) = *places.get(&rig.board(&servo.board)?.id)?;
            Some(ChannelPlace { port, board, channel: usize::from(servo.plug()) })
        };
        let ways_in = ways_in(rig);
        let mut way_of_link = vec![None; rig.links.len()];
        for (way, links) in ways_in.iter().map(|way| &way.links).enumerate() {
            for link in links {
                if let Some(place) = way_of_link.get_mut(link.place) {
                    *place = Some(way);
                }
            }
        }
        Self {
            servos: rig.servos.iter().map(place).collect(),
            ails: rig.servos.iter().map(|servo| ails(rig, servo)).collect(),
            ways_in,
            way_of_link,
            inputs: rig.inputs.len(),
            boards,
            places,
        }
    }

    /// The port and the place there of a board.
    pub fn board(&self, board: BoardId) -> Option<(usize, usize)> {
        self.places.get(&board).copied()
    }
}

/// Which bits of what a servo says mean that it must be spared, and what its joint does then.
fn ails(rig: Parts<'_>, servo: &Servo) -> (u8, Ailing) {
    let ailing = rig.joint_of(&servo.name).map(|joint| joint.ailing).unwrap_or_default();
    let layout = rig.board(&servo.board).and_then(|board| board.layout.as_deref());
    let Some(layout) = layout.filter(|_| servo.kind.is_smart()).and_then(|name| Layout::named(&rig, name))
    else {
        return (0, ailing);
    };
    let spared = |ail: &Ail| matches!(ail, Ail::Hot | Ail::Overload | Ail::Current);
    let bits = (0..).zip(&layout.faults).filter(|(_, ail)| spared(ail));
    (bits.fold(0, |mask, (bit, _)| mask | 1u8.checked_shl(bit).unwrap_or(0)), ailing)
}

/// The ports with links on them, in rig order, each link with the channels that inputs stand on.
fn ways_in(rig: Parts<'_>) -> Vec<WayIn> {
    let mut wanted: Vec<Vec<(Channel, Vec<usize>)>> = vec![Vec::new(); rig.links.len()];
    for (n, input) in rig.inputs.iter().enumerate() {
        let Some(place) = rig.index.links.named(&input.link) else { continue };
        let Some(protocol) = rig.links.get(place).and_then(|link| rig.protocol_of(link)) else { continue };
        let Some(channel) = (protocol.row().read)(&input.channel) else { continue };
        let Some(channels) = wanted.get_mut(place) else { continue };
        match channels.iter_mut().find(|(there, _)| *there == channel) {
            Some((_, inputs)) => inputs.push(n),
            None => channels.push((channel, vec![n])),
        }
    }
    let mut ways: Vec<WayIn> = Vec::new();
    let mut way_of: HashMap<&str, usize> = HashMap::new();
    for ((place, link), wanted) in rig.links.iter().enumerate().zip(wanted) {
        let (Some((port, board)), Some(protocol)) = (rig.place_of(link), rig.protocol_of(link)) else {
            continue;
        };
        let way = *way_of.entry(&port.name).or_insert_with(|| {
            ways.push(WayIn { setup: WaySetup::of(port, board, link, protocol), links: Vec::new() });
            ways.len() - 1
        });
        if let Some(way) = ways.get_mut(way) {
            if protocol.row().asks {
                way.setup.channels.extend(wanted.iter().map(|(channel, _)| protocol.name(channel)));
            }
            way.setup.wills.extend(link.will.clone());
            way.links.push(LinkSetup { id: link.id, place, protocol, wanted, will: link.will.clone() });
        }
    }
    ways
}

/// Ports that lead to boards, in rig order: those with a board on them, and every one that is for boards alone.
pub fn board_ports(rig: &Rig) -> impl Iterator<Item = &Port> {
    let has_board = |port: &Port| rig.boards.iter().any(|board| board.port == port.name);
    rig.ports.iter().filter(move |port| Protocol::usual(port.kind).is_none() || has_board(port))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::snapshot::BoardState;
    use crate::{Compiled, Snapshot};
    use std::sync::Arc;
    use wasvolta_core::rig::PartId;
    use wasvolta_core::rig::file::{Loaded, load};

    #[test]
    fn boards_are_told_apart_though_the_rig_mixes_their_ports() {
        let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/small.rig.toml")) else { panic!() };
        let mut rig = *rig;
        rig.ports.push(Port { name: "second-bus".into(), ..rig.ports[0].clone() });
        let upper = rig.boards[0].clone();
        let (far, lower) = (BoardId::of(70), BoardId::of(71));
        rig.boards.push(Board { id: far, name: "far".into(), port: "second-bus".into(), ..upper.clone() });
        rig.boards.push(Board { id: lower, name: "lower".into(), address: Some(0x41), ..upper.clone() });
        let ports = ["bench-bus".to_owned(), "second-bus".to_owned()];
        let compiled = Compiled::of(Arc::new(rig), &ports, 0, false);
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
        let wiring = Compiled::of(Arc::new(*rig), &["bench-bus".to_owned()], 0, false).wiring;
        assert_eq!(wiring.servos[1], Some(ChannelPlace { port: 0, board: 0, channel: 2 }));
        let BoardSettings::Expander(upper) = wiring.boards[0][0].settings else { panic!() };
        assert_eq!((upper.prescale, upper.widest), (121, 595));
        let [way] = wiring.ways_in.as_slice() else { panic!("one line") };
        assert_eq!((way.setup.protocol, way.setup.port.path.as_str()), (Protocol::Lines, "sim:knob"));
        assert_eq!(way.links[0].wanted, [(Channel::Name("knob".into()), vec![0])]);
        assert_eq!(wiring.way_of_link, [Some(0)]);
    }
}
