//! What a scan has found, beside what a rig says should be there.

use crate::hardware::{self, Simulated};
use std::path::Path;
use wasvolta_core::rig::{Board, Port, Rig};
use wasvolta_engine::OpenBus;
use wasvolta_port::BusError;
use wasvolta_port::I2cBus;
use wasvolta_port::scan::{self, Bus, Device, DeviceKind, Roots, Scan};

/// A look that has not been taken yet: everything it needs to be taken on another thread.
pub struct Outlook {
    roots: Roots,
    simulated: Vec<(Port, OpenBus)>,
}

impl Outlook {
    /// On this machine, and on the simulated buses of a rig.
    pub fn of(roots: &Roots, rig: Option<&Rig>, simulated: Option<&Simulated>) -> Self {
        let ports = rig.map_or_else(Vec::new, |rig| hardware::openers(rig, simulated));
        let simulated = ports.into_iter().filter(|(port, _)| hardware::simulated(port).is_some()).collect();
        Self { roots: roots.clone(), simulated }
    }

    /// Takes the look. Takes as long as the buses take.
    pub fn take(self) -> Scan {
        let open = |path: &Path| -> Result<Box<dyn I2cBus>, BusError> { hardware::open_bus(path) };
        let mut scan = scan::machine(&self.roots, open);
        for (port, mut open) in self.simulated {
            scan.buses.push(scan::bus(&port.path, open()));
        }
        scan
    }
}

/// The board of a rig that has an address on a bus.
pub fn board_at<'r>(rig: &'r Rig, path: &str, address: u8) -> Option<&'r Board> {
    rig.boards
        .iter()
        .find(|b| b.address == Some(address) && rig.port(&b.port).is_some_and(|p| p.path == path))
}

/// Expanders on a bus that the rig does not know.
pub fn unknown<'b>(rig: &Rig, bus: &'b Bus) -> Vec<&'b Device> {
    let expander = |device: &&Device| matches!(device.kind, DeviceKind::PwmExpander { .. });
    let known = |device: &Device| board_at(rig, &bus.path, device.address).is_some();
    bus.devices.iter().filter(expander).filter(|device| !known(device)).collect()
}

/// Boards that the rig has on a bus and that do not answer there.
pub fn missing<'r>(rig: &'r Rig, bus: &Bus) -> Vec<&'r Board> {
    let on = |board: &&Board| rig.port(&board.port).is_some_and(|p| p.path == bus.path);
    let found = |board: &&Board| bus.devices.iter().any(|d| Some(d.address) == board.address);
    rig.boards.iter().filter(on).filter(|board| bus.trouble.is_none() && !found(board)).collect()
}
