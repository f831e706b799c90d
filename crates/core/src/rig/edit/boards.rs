//! Edits of boards: they come with their ports, get their supply, change their name, and go.

use super::{Edited, Refused, changed, missing};
use crate::rig::{Board, Chip, Port, Rail, Rig};
use crate::unit::Volts;

/// A board that is to be added.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewBoard<'a> {
    /// Its name, which other parts refer to.
    pub name: &'a str,
    /// What it is.
    pub chip: Chip,
    /// The port it hangs on, which comes with it where the rig has none of that name.
    pub port: &'a str,
    /// The path of a port that comes with it, and the rate of a line that needs one said.
    pub path: (&'a str, Option<u32>),
    /// Its address, for an expander.
    pub address: Option<u8>,
    /// The layout of its registers, for a bus of smart servos.
    pub layout: Option<&'a str>,
}

impl<'a> NewBoard<'a> {
    /// An expander on a port that is there.
    pub const fn expander(name: &'a str, port: &'a str, address: u8) -> Self {
        Self { name, chip: Chip::PwmExpander, port, path: ("", None), address: Some(address), layout: None }
    }
}

/// Puts a board on a port, which is added where there is none of that name. It hangs on the rail that the rig has,
/// where there is just one.
pub fn add_board(rig: &Rig, new: &NewBoard) -> Edited {
    changed(rig, |rig| {
        if rig.port(new.port).is_none() {
            let ((path, baud), kind) = (new.path, new.chip.port());
            rig.ports.push(Port { baud, ..Port::new(new.port, kind, path) });
        }
        let rail = if let [only] = rig.rails.as_slice() { Some(only.name.clone()) } else { None };
        let board = Board::new(new.name, new.port, new.chip);
        let layout = new.layout.map(str::to_owned);
        rig.boards.push(Board { address: new.address, layout, rail, ..board });
        Ok(())
    })
}

/// Says which supply feeds a board's servos, and what that gives. A rail of that name is corrected, one that is not
/// there yet is added; without one the board hangs on none.
pub fn feed_board(rig: &Rig, board: &str, rail: Option<&Rail>) -> Edited {
    changed(rig, |rig| {
        let fed = rig.boards.iter_mut().find(|b| b.name == board).ok_or_else(|| missing("board", board))?;
        fed.rail = rail.map(|rail| rail.name.clone());
        let Some(rail) = rail else { return Ok(()) };
        match rig.rails.iter_mut().find(|there| there.name == rail.name) {
            Some(there) => *there = Rail { id: there.id, ..rail.clone() },
            None => rig.rails.push(rail.clone()),
        }
        Ok(())
    })
}

/// Gives a board another name; its servos follow.
pub fn rename_board(rig: &Rig, board: &str, name: &str) -> Edited {
    changed(rig, |rig| {
        let renamed =
            rig.boards.iter_mut().find(|b| b.name == board).ok_or_else(|| missing("board", board))?;
        name.clone_into(&mut renamed.name);
        for servo in rig.servos.iter_mut().filter(|s| s.board == board) {
            name.clone_into(&mut servo.board);
        }
        Ok(())
    })
}

/// Takes a board out that has no servo left.
pub fn remove_board(rig: &Rig, board: &str) -> Edited {
    let left = rig.servos_on(board).count();
    if left > 0 {
        return Err(Refused::BoardInUse { board: board.to_owned(), servos: left });
    }
    changed(rig, |rig| {
        let before = rig.boards.len();
        rig.boards.retain(|b| b.name != board);
        if rig.boards.len() == before { Err(missing("board", board)) } else { Ok(()) }
    })
}

/// A name for one more board that no board has: board, board-2, and so on.
pub fn free_board_name(rig: &Rig) -> String {
    let taken = |name: &str| rig.board(name).is_some();
    let numbered = (2..).map(|n| format!("board-{n}"));
    std::iter::once("board".to_owned()).chain(numbered).find(|name| !taken(name)).unwrap_or_default()
}

/// The rate of a line, in bits a second.
///
/// # Errors
/// When there is no such port.
pub fn set_rate(rig: &Rig, port: &str, baud: u32) -> Edited {
    changed(rig, |rig| {
        let place = rig.ports.iter_mut().find(|there| there.name == port);
        place.ok_or_else(|| missing("port", port))?.baud = Some(baud);
        Ok(())
    })
}

/// The name of the first I²C bus, or nothing.
pub fn first_bus(rig: &Rig) -> &str {
    rig.ports.iter().find(|p| p.kind.row().is_shared).map_or("", |p| p.name.as_str())
}

/// The first address on a port that no board has and a board may have without a warning.
pub fn free_address(rig: &Rig, port: &str) -> Option<u8> {
    let taken = |address: u8| rig.boards.iter().any(|b| b.port == port && b.address == Some(address));
    (0x40..super::super::worry::RESERVED_FROM).find(|address| *address != 0x70 && !taken(*address))
}

/// The level of the signals that a board gives.
///
/// # Errors
/// When there is no such board, or it is no level.
pub fn set_signal(rig: &Rig, board: &str, volts: Option<Volts>) -> Edited {
    changed(rig, |rig| {
        let place = rig.boards.iter_mut().find(|b| b.name == board);
        place.ok_or_else(|| missing("board", board))?.signal_volts = volts;
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::PortKind;
    use crate::rig::check::problems;
    use crate::rig::file::small as rig;
    use crate::unit::{Amps, Volts};

    #[test]
    fn a_board_brings_its_port_and_its_rail() {
        let wings = NewBoard {
            name: "wings",
            chip: Chip::Firmata,
            port: "line",
            path: ("/dev/ttyACM0", None),
            address: None,
            layout: None,
        };
        let more = add_board(&rig(), &wings).unwrap();
        let port = more.port("line").unwrap();
        assert_eq!((port.kind, port.path.as_str(), port.baud), (PortKind::Serial, "/dev/ttyACM0", None));
        let bridged = NewBoard {
            chip: Chip::PwmExpander,
            port: "bus",
            path: ("/dev/ttyUSB0", Some(9600)),
            address: Some(0x41),
            layout: None,
            ..wings.clone()
        };
        let bridged = add_board(&rig(), &bridged).unwrap();
        assert_eq!(bridged.port("bus").map(|p| (p.kind, p.baud)), Some((PortKind::I2c, Some(9600))));
        // An expander has an address, and a port is of the board's kind.
        assert!(add_board(&rig(), &NewBoard { chip: Chip::PwmExpander, ..wings.clone() }).is_err());
        assert!(add_board(&rig(), &NewBoard { port: "bench-bus", ..wings }).is_err());
        let rail = Rail {
            id: crate::rig::RailId::default(),
            name: "twelve".into(),
            volts: Volts::new(12.0),
            amps: Amps::new(3.0),
        };
        let fed = feed_board(&more, "wings", Some(&rail)).unwrap();
        assert_eq!(fed.board("wings").unwrap().rail.as_deref(), Some("twelve"));
        let stronger = Rail { amps: Amps::new(5.0), ..rail };
        let fed = feed_board(&fed, "wings", Some(&stronger)).unwrap();
        let there: Vec<_> = fed.rails.iter().filter(|rail| rail.name == "twelve").collect();
        assert_eq!((there.len(), there[0].amps), (1, stronger.amps));
        assert_eq!(feed_board(&fed, "wings", None).unwrap().board("wings").unwrap().rail, None);
        assert!(feed_board(&fed, "wings", Some(&Rail { volts: Volts::new(0.0), ..stronger })).is_err());
    }

    #[test]
    fn boards_come_and_go_and_take_their_servos_with_their_name() {
        let port = rig().ports[0].name.clone();
        assert_eq!(free_address(&rig(), &port), Some(0x41));
        let more = add_board(&rig(), &NewBoard::expander(&free_board_name(&rig()), &port, 0x41)).unwrap();
        assert!(problems(&more).is_empty() && more.board("board").unwrap().address == Some(0x41));
        assert_eq!(free_board_name(&more), "board-2");
        assert!(
            add_board(&more, &NewBoard::expander("third", &port, 0x41))
                .unwrap_err()
                .to_string()
                .contains("0x41")
        );
        assert!(
            add_board(&more, &NewBoard::expander("third", &port, 0x70))
                .unwrap_err()
                .to_string()
                .contains("all-call")
        );
        assert!(
            add_board(
                &more,
                &NewBoard {
                    name: "third",
                    chip: Chip::PwmExpander,
                    port: "no-port",
                    path: ("", None),
                    address: Some(0x42),
                    layout: None
                }
            )
            .is_err()
        );
        let named = rename_board(&more, "upper", "top").unwrap();
        assert!(named.servos.iter().all(|s| s.board == "top") && problems(&named).is_empty());
        let refused = remove_board(&named, "top").unwrap_err().to_string();
        assert_eq!(refused, "top still has 2 servos: move or remove them first");
        assert_eq!(remove_board(&more, "board").unwrap(), rig());
        assert!(remove_board(&more, "bord").is_err());
    }

    #[test]
    fn a_bus_of_smart_servos_comes_with_its_layout_and_gets_another_rate() {
        let new = NewBoard {
            name: "spine",
            chip: Chip::SmartBus,
            port: "spine-line",
            path: ("/dev/ttyUSB0", Some(1_000_000)),
            address: None,
            layout: Some("ten-bit"),
        };
        let with = add_board(&rig(), &new).unwrap();
        assert_eq!(with.board("spine").unwrap().layout.as_deref(), Some("ten-bit"));
        assert!(add_board(&rig(), &NewBoard { layout: None, ..new }).is_err(), "nobody knows its registers");
        let slow = set_rate(&with, "spine-line", 57_143).unwrap();
        assert_eq!(slow.port("spine-line").unwrap().baud, Some(57_143));
        assert!(set_rate(&with, "none", 57_143).is_err());
    }
}
