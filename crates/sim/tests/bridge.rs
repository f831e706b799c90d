//! A bus behind a UART-to-I²C bridge: the real serial port, the real driver, a stand-in on a pty.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;
use wasvolta_port::bridge::Bridge;
use wasvolta_port::expander::{Expander, ExpanderSettings, Noted};
use wasvolta_port::{Clock, Fault, I2cBus, Transfer, WallClock};
use wasvolta_sim::faults::{Kind, Struck};
use wasvolta_sim::serve::{self, BridgedBus};
use wasvolta_sim::{Bench, Truth, pty};

const SETTINGS: ExpanderSettings =
    ExpanderSettings { address: 0x40, prescale: 121, frame: Duration::from_micros(19_989), widest: 595 };

struct Line {
    bench: Bench,
    bridge: Bridge,
    stop: Arc<AtomicBool>,
    served: Option<JoinHandle<()>>,
}

impl Line {
    fn new() -> Self {
        let bench = Bench::new(&Truth::default(), 1, Arc::new(WallClock::default()));
        bench.ensure("b", 0x40, &[0, 3]);
        let (far, near) = pty::pair().unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let (behind, ended) = (bench.bus("b"), Arc::clone(&stop));
        let served = std::thread::spawn(move || serve::bridge(&mut BridgedBus::new(behind), &far, &ended));
        let bridge = Bridge::open(&near, 115_200).unwrap();
        Self { bench, bridge, stop, served: Some(served) }
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::SeqCst);
        let _ = self.served.take().unwrap().join();
    }
}

#[test]
fn the_driver_starts_a_board_engages_and_releases_behind_a_bridge() {
    let mut line = Line::new();
    let mut driver = Expander::new(SETTINGS);
    let clock = WallClock::default();
    let mut wanted = [None; 16];
    let wait = |time| clock.wait(time);
    assert_eq!(driver.service(&mut line.bridge, clock.now(), &wanted, &wait).unwrap(), Noted::Started);
    assert_eq!(driver.seen().unwrap().prescale, 121);
    wanted = [Some(307); 16];
    while *driver.sent() != wanted {
        driver.service(&mut line.bridge, clock.now(), &wanted, &wait).unwrap();
    }
    let mut channels = [0; 32];
    line.bridge.transfer(0x40, Transfer::Read { register: 6, into: &mut channels }).unwrap();
    assert_eq!(&channels[..8], &[0x00, 0x00, 0x33, 0x01, 0xDA, 0x00, 0x0D, 0x02]);
    // All of them change at once: in pieces of whole channels.
    let before = line.bench.log().len();
    wanted = [Some(400); 16];
    while *driver.sent() != wanted {
        driver.service(&mut line.bridge, clock.now(), &wanted, &wait).unwrap();
    }
    let pieces: Vec<(u8, usize)> = line.bench.log()[before..]
        .iter()
        .filter(|entry| entry.write && !entry.bytes.is_empty())
        .map(|entry| (entry.register, entry.bytes.len()))
        .collect();
    assert_eq!(pieces, [(8, 14), (22, 12), (34, 4), (40, 14), (54, 12), (66, 4)]);
    driver.release_all(&mut line.bridge, &[false; 16]).unwrap();
    assert_eq!(line.bench.pulse_us("b", 0x40, 0), None);
}

#[test]
fn what_is_not_there_and_what_says_nothing_are_told_apart() {
    let mut line = Line::new();
    let mut byte = [0];
    let mut read = |line: &mut Line, address: u8| {
        line.bridge.transfer(address, Transfer::Read { register: 0, into: &mut byte }).map_err(|e| e.fault)
    };
    assert_eq!(read(&mut line, 0x40), Ok(()));
    assert_eq!(read(&mut line, 0x41), Err(Fault::Absent));
    let refuses = Struck { kind: Kind::Refuses, address: None, channel: None };
    line.bench.faults().set(refuses, true);
    let said: Vec<_> = (0..40).map(|_| read(&mut line, 0x40)).collect();
    assert!(said.contains(&Err(Fault::Transfer)) && said.contains(&Ok(())), "{said:?}");
    line.bench.faults().set(refuses, false);
    // Nobody serves the line any more: it is open, and silent.
    line.stop.store(true, Ordering::SeqCst);
    let (far, near) = pty::pair().unwrap();
    line.bridge = Bridge::open(&near, 115_200).unwrap();
    assert_eq!(read(&mut line, 0x40), Err(Fault::TimedOut));
    drop(far);
    assert_eq!(read(&mut line, 0x40), Err(Fault::NoBus));
}
