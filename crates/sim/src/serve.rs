//! Stand-ins that run by themselves on a pty, for any program that opens its path.

use crate::bench::SimBus;
use crate::firmata::FirmataBoard;
use crate::smart::SmartBus;
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wasvolta_port::{BusError, Fault, I2cBus, Transfer};
use wasvolta_wire::bridge::{Decoder, Status, ToBridge};

/// The line is looked at this often.
const LOOK: Duration = Duration::from_millis(2);

/// A bridge with a bus of the bench behind it.
pub struct BridgedBus {
    bus: SimBus,
    decoder: Decoder,
    /// The register that each device was told last, from which a read goes on.
    registers: [u8; 128],
    status: Status,
    out: Vec<u8>,
}

impl BridgedBus {
    /// A bridge before a bus.
    pub fn new(bus: SimBus) -> Self {
        let decoder = Decoder::default();
        Self { bus, decoder, registers: [0; 128], status: Status::Done, out: Vec::new() }
    }

    /// Takes bytes as they come over the line; gives what is said to them.
    pub fn take(&mut self, bytes: &[u8]) -> &[u8] {
        self.out.clear();
        let Self { bus, decoder, registers, status, out } = self;
        for &byte in bytes {
            match decoder.take(byte) {
                Some(ToBridge::Write { address, data }) => {
                    let (register, bytes) =
                        data.split_first().map_or((0, data), |(first, rest)| (*first, rest));
                    if let Some(place) = registers.get_mut(usize::from(address)) {
                        *place = register;
                    }
                    *status = became(&bus.transfer(address, Transfer::Write { register, bytes }));
                }
                Some(ToBridge::Read { address, count }) => {
                    let register = registers.get(usize::from(address)).copied().unwrap_or_default();
                    let mut into = vec![0; usize::from(count)];
                    let done = bus.transfer(address, Transfer::Read { register, into: &mut into });
                    *status = became(&done);
                    if done.is_ok() {
                        out.extend(into);
                    }
                }
                Some(ToBridge::AskStatus) => out.push(status.emit()),
                Some(ToBridge::Other(_)) => out.push(0),
                None => {}
            }
        }
        &self.out
    }
}

/// How a bridge says what became of a transfer.
fn became(done: &Result<(), BusError>) -> Status {
    match done.as_ref().map_err(|error| error.fault) {
        Ok(()) => Status::Done,
        Err(Fault::Transfer) => Status::NoData,
        Err(Fault::TimedOut | Fault::Silent) => Status::TimedOut,
        Err(_) => Status::NoAddress,
    }
}

/// Lets a bridge with boards behind it listen and answer on the far end of a pty until `stop`.
pub fn bridge(bridge: &mut BridgedBus, far: &OwnedFd, stop: &AtomicBool) {
    let mut bytes = [0; 512];
    while !stop.load(Ordering::SeqCst) {
        let count = rustix::io::read(far, &mut bytes).unwrap_or(0);
        let answer = bridge.take(bytes.get(..count).unwrap_or_default());
        if !answer.is_empty() {
            // A full line loses what is said, as on the wire.
            let _ = rustix::io::write(far, answer);
        }
        if count == 0 {
            std::thread::sleep(LOOK);
        }
    }
}

/// Lets a bus of smart servos hear and answer on the far end of a pty until `stop`, at the rate that the near end is set
/// to.
pub fn smart(bus: &SmartBus, far: &OwnedFd, stop: &AtomicBool) {
    let mut bytes = [0; 1024];
    while !stop.load(Ordering::SeqCst) {
        if let Ok(settings) = rustix::termios::tcgetattr(far) {
            bus.hears_at(settings.output_speed());
        }
        let count = rustix::io::read(far, &mut bytes).unwrap_or(0);
        if count > 0 {
            bus.take(bytes.get(..count).unwrap_or_default());
        }
        let given = bus.give(&mut bytes);
        // A full line loses what is said, as on the wire.
        let _ = rustix::io::write(far, bytes.get(..given).unwrap_or_default());
        if count == 0 && given == 0 {
            std::thread::sleep(LOOK / 10);
        }
    }
}

/// Lets a microcontroller listen and speak on the far end of a pty until `stop`. Opening the near end resets it, as
/// opening the line of many boards does, unless it is told otherwise.
pub fn firmata(board: &FirmataBoard, far: &OwnedFd, stop: &AtomicBool) {
    let mut bytes = [0; 512];
    let mut open = false;
    while !stop.load(Ordering::SeqCst) {
        let was_open = open;
        match rustix::io::read(far, &mut bytes) {
            Ok(count) => {
                open = true;
                board.take(bytes.get(..count).unwrap_or_default());
            }
            // Nothing waits, but somebody has it open.
            Err(Errno::AGAIN | Errno::INTR) => open = true,
            Err(_) => open = false,
        }
        if open && !was_open {
            board.opened();
        }
        let count = if open { board.give(&mut bytes) } else { 0 };
        // A full line loses what is said, as on the wire.
        let _ = rustix::io::write(far, bytes.get(..count).unwrap_or_default());
        std::thread::sleep(LOOK);
    }
}
