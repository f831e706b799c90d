//! What a scan has found, beside what a rig says should be there.

use crate::hardware::{self, Simulated};
use std::path::Path;
use wasvolta_core::rig::{Board, Port, Rig};
use wasvolta_engine::{OpenBus, why};
use wasvolta_port::scan::{self, Bus, Device, DeviceKind, PwmChip, Roots, Scan};
use wasvolta_port::serial::Serial;
use wasvolta_port::{BusError, Fault, I2cBus};
use wasvolta_port::{Clock, WallClock};
use wasvolta_wire::firmata;

/// A look that has not been taken yet: everything it needs to be taken on another thread.
pub struct Outlook {
    roots: Roots,
    simulated: Vec<(Port, OpenBus)>,
}

impl Outlook {
    /// On this machine, and on the simulated buses of a rig.
    pub fn of(roots: &Roots, rig: Option<&Rig>, simulated: Option<&Simulated>) -> Self {
        let ports = rig.map_or_else(Vec::new, |rig| hardware::openers(rig, simulated));
        let simulated = ports.into_iter().filter(|(port, _)| port.simulated().is_some()).collect();
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

/// Opens a serial port and asks what is on it; the answer in words, also when it cannot be opened.
pub fn ask(path: &Path) -> String {
    let shown = path.display();
    match Serial::open(path, firmata::BAUD) {
        Ok(mut line) => {
            let clock = WallClock::default();
            let answer = scan::ask(&mut line, &|time| clock.wait(time));
            format!("{shown} at {} baud {}", firmata::BAUD, answer.words())
        }
        Err(error) => format!("{error}; {}", error.help),
    }
}

/// What a device is, in words; of one that a driver of the kernel holds, with the PWM chip that leads to it.
pub fn words(scan: &Scan, bus: &Bus, device: &Device) -> String {
    let words = device.kind.words();
    if device.kind != DeviceKind::HeldByKernel {
        return words;
    }
    kernel_chip(&scan.pwm, &bus.path, device.address).map_or(words, |path| {
        format!("held by a driver of the kernel: a port of kind pwm at {path} drives it")
    })
}

/// The kernel's own PWM chip for a device on a bus, where one of its drivers has that device.
pub fn kernel_chip<'c>(chips: &'c [PwmChip], bus: &str, address: u8) -> Option<&'c str> {
    // The kernel names a device on a bus by the bus's number and the address.
    let number = bus.rsplit('-').next().unwrap_or_default();
    let name = format!("/{number}-00{address:02x}/");
    chips.iter().find(|chip| chip.device.contains(&name)).map(|chip| chip.device.as_str())
}

/// What helps with a fault of a board. `chips` are the kernel's own.
pub fn help(rig: &Rig, board: &Board, fault: Fault, chips: &[PwmChip]) -> String {
    let path = rig.port(&board.port).map_or("", |port| port.path.as_str());
    let held = board.address.filter(|_| fault == Fault::Busy);
    match held.and_then(|address| kernel_chip(chips, path, address)) {
        Some(chip) => why::by_kernel_chip(chip),
        None => fault.help().to_owned(),
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_board_that_a_driver_holds_is_offered_by_the_path_of_its_chip() {
        let device = Device { address: 0x40, kind: DeviceKind::HeldByKernel };
        let bus = Bus { path: "/dev/i2c-1".into(), trouble: None, devices: vec![device] };
        let chip = |device: &str| PwmChip {
            entry: "/sys/class/pwm/pwmchip0".into(),
            device: device.into(),
            channels: 16,
            barred: None,
        };
        let path = "/sys/devices/platform/i2c-1/1-0040/pwm/pwmchip0";
        let scan = |device: &str| Scan {
            buses: vec![bus.clone()],
            pwm: vec![chip(device)],
            serial: vec![],
            inputs: vec![],
        };
        let said = |device_path: &str| words(&scan(device_path), &bus, &device);
        assert!(said(path).ends_with(&format!("a port of kind pwm at {path} drives it")), "{}", said(path));
        assert!(said("/sys/devices/platform/i2c-1/1-0041/pwm/pwmchip0").contains("its PWM chip is the way"));
        let mut rig = crate::session::tests::small();
        rig.ports[0].path = "/dev/i2c-1".into();
        let helps = |fault| help(&rig, &rig.boards[0], fault, &[chip(path)]);
        assert!(helps(Fault::Busy).contains(&format!("kind pwm, at {path}")), "{}", helps(Fault::Busy));
        assert_eq!(helps(Fault::Absent), Fault::Absent.help());
    }
}
