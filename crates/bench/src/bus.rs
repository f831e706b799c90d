//! Bytes on the bus a beat, beside the least that any choice of transfers could do with.

use crate::report::Row;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use wasvolta_core::unit::number;
use wasvolta_port::expander::{Expander, ExpanderSettings, Wanted};
use wasvolta_port::{BusError, Clock, I2cBus, Transfer};
use wasvolta_sim::{Bench, ManualClock, SimBus, Truth};

const BEATS: usize = 5000;
const BEAT: Duration = Duration::from_millis(20);
const CHANNELS: usize = 16;
/// Registers of all channels.
const REGISTERS: usize = 4 * CHANNELS;
/// The most bytes of a transfer, and what each costs beside them: address and register.
const MOST: usize = 32;
const HEAD: usize = 2;

/// A simulated bus that counts what is written.
struct Counting {
    bus: SimBus,
    bytes: Arc<AtomicUsize>,
}

impl I2cBus for Counting {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        if let Transfer::Write { bytes, .. } = &transfer {
            self.bytes.fetch_add(HEAD + bytes.len(), Ordering::SeqCst);
        }
        self.bus.transfer(address, transfer)
    }
}

const MOST_ENGAGING: usize = 1000;

/// Any channels of a board move, from one to all of them.
pub fn measure() -> Vec<Row> {
    let clock = Arc::new(ManualClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    bench.ensure("bench", 0x40, &[]);
    let bytes = Arc::new(AtomicUsize::new(0));
    let mut bus = Counting { bus: bench.bus("bench"), bytes: Arc::clone(&bytes) };
    let frame = Duration::from_micros(19_989);
    let mut driver = Expander::new(ExpanderSettings { address: 0x40, prescale: 121, frame, widest: 595 });
    let mut wanted: Wanted = [Some(300); CHANNELS];
    let mut beat = |wanted: &Wanted| {
        clock.advance(BEAT);
        let before = bytes.load(Ordering::SeqCst);
        let _ = driver.service(&mut bus, clock.now(), wanted, &|time| clock.wait(time));
        (bytes.load(Ordering::SeqCst) - before, *driver.sent())
    };
    // First pulses come one after another; more than these beats they never take.
    if !(0..MOST_ENGAGING).any(|_| beat(&wanted).1 == wanted) {
        return Vec::new();
    }
    let (mut spent, mut least) = (0, 0);
    let mut dice = 1u64;
    for _ in 0..BEATS {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let moving: Vec<bool> = (0..CHANNELS).map(|n| dice >> (20 + n) & 1 == 1).collect();
        for (ticks, _) in wanted.iter_mut().zip(&moving).filter(|(_, moves)| **moves) {
            *ticks = ticks.map(|t| 200 + (t + 37) % 200);
        }
        spent += beat(&wanted).0;
        least += fewest_bytes(&moving);
    }
    let (own, fewest) = (number(spent) / number(BEATS), number(least) / number(BEATS));
    let row = Row::new("bytes on the bus, a board's beat", format!("{own:.2}"))
        .beside(format!("{fewest:.2}, the least of all choices of transfers"))
        .ratio(own / fewest)
        .wanted("≤ 1.02 ×", own <= 1.02 * fewest);
    vec![row]
}

/// The least bytes that carry both bytes of every moving channel's end, over all choices of transfers of at most
/// 32 bytes: a dynamic program from the last register back.
pub fn fewest_bytes(moving: &[bool]) -> usize {
    let must = |register: usize| register % 4 >= 2 && moving.get(register / 4).copied().unwrap_or(false);
    let mut from = [0usize; REGISTERS + 1];
    for register in (0..REGISTERS).rev() {
        let begin = |length: usize| HEAD + length + from[(register + length).min(REGISTERS)];
        let by_transfer = (1..=MOST.min(REGISTERS - register)).map(begin).min().unwrap_or(0);
        from[register] = if must(register) { by_transfer } else { from[register + 1].min(by_transfer) };
    }
    from[0]
}
