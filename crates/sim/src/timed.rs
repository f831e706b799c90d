//! A bus that takes its time: every transfer moves a virtual clock on by what its bits take on the wire.

use crate::clock::ManualClock;
use std::sync::Arc;
use std::time::Duration;
use wasvolta_port::{BusError, Clock, I2cBus, Transfer};

/// Bits of a byte with its acknowledge, and of a start with a stop.
const BYTE: usize = 9;
const EDGES: usize = 2;

/// Any bus at a rate. `passes` is called with the time after each transfer: what happens meanwhile beside the bus.
pub struct TimedBus<B, F> {
    bus: B,
    clock: Arc<ManualClock>,
    bit: Duration,
    passes: F,
}

impl<B: I2cBus, F: FnMut(Duration) + Send> TimedBus<B, F> {
    /// Lets `bus` carry one bit in `bit`.
    pub const fn new(bus: B, clock: Arc<ManualClock>, bit: Duration, passes: F) -> Self {
        Self { bus, clock, bit, passes }
    }
}

impl<B: I2cBus, F: FnMut(Duration) + Send> I2cBus for TimedBus<B, F> {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        // The address and the register; a read has its address twice, behind a second start.
        let bits = match &transfer {
            Transfer::Write { bytes, .. } => (2 + bytes.len()) * BYTE + EDGES,
            Transfer::Read { into, .. } => (3 + into.len()) * BYTE + EDGES + 1,
        };
        let done = self.bus.transfer(address, transfer);
        self.clock.advance(self.bit * u32::try_from(bits).unwrap_or(u32::MAX));
        (self.passes)(self.clock.now());
        done
    }
}
