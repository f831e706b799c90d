//! Faults: those of a simulated bus that can be switched on and off while it runs, and a wrapper that lets any
//! bus fail at random, from a seed.

use crate::truth::Dice;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::time::Duration;
use wasvolta_port::{BusError, Clock, Fault, I2cBus, Transfer};

/// What is wrong with the bus at present. Nothing at first.
#[derive(Debug, Default)]
pub struct Faults {
    absent: AtomicBool,
    busy: AtomicBool,
    refuse: AtomicU32,
    delay_us: AtomicU64,
    panic: AtomicBool,
}

impl Faults {
    /// The boards do not answer.
    pub fn set_absent(&self, absent: bool) {
        self.absent.store(absent, Ordering::SeqCst);
    }

    /// A kernel driver holds the chip.
    pub fn set_busy(&self, busy: bool) {
        self.busy.store(busy, Ordering::SeqCst);
    }

    /// The next transfers fail.
    pub fn refuse_next(&self, transfers: u32) {
        self.refuse.store(transfers, Ordering::SeqCst);
    }

    /// Every transfer takes this long.
    pub fn set_delay(&self, delay: Duration) {
        self.delay_us.store(u64::try_from(delay.as_micros()).unwrap_or(u64::MAX), Ordering::SeqCst);
    }

    /// The next transfer panics: a fault of the program, for tests of how it ends.
    pub fn panic_next(&self) {
        self.panic.store(true, Ordering::SeqCst);
    }

    /// What the next transfer meets.
    pub(crate) fn strike(&self, clock: &dyn Clock) -> Option<Fault> {
        let delay = self.delay_us.load(Ordering::SeqCst);
        if delay > 0 {
            clock.wait(Duration::from_micros(delay));
        }
        assert!(!self.panic.swap(false, Ordering::SeqCst), "a panic that was asked for");
        if self.absent.load(Ordering::SeqCst) {
            return Some(Fault::Absent);
        }
        if self.busy.load(Ordering::SeqCst) {
            return Some(Fault::Busy);
        }
        let less = |left: u32| left.checked_sub(1);
        self.refuse.fetch_update(Ordering::SeqCst, Ordering::SeqCst, less).is_ok().then_some(Fault::Transfer)
    }
}

/// Any bus, of whose transfers a share fails: before it reached the device, or after.
#[derive(Debug)]
pub struct Faulty<B> {
    bus: B,
    dice: Dice,
    share: f64,
}

impl<B: I2cBus> Faulty<B> {
    /// Lets `share` (0–1) of all transfers of `bus` fail; the same seed, the same ones.
    pub const fn new(bus: B, seed: u64, share: f64) -> Self {
        Self { bus, dice: Dice::new(seed), share }
    }
}

impl<B: I2cBus> I2cBus for Faulty<B> {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        if self.dice.between(0.0, 1.0) >= self.share {
            return self.bus.transfer(address, transfer);
        }
        let failure = BusError::transfer(address, &transfer, Fault::Transfer);
        // A write may have arrived though its acknowledge did not: that is the harder case for a driver.
        if matches!(transfer, Transfer::Write { .. }) && self.dice.between(0.0, 1.0) < 0.5 {
            self.bus.transfer(address, transfer)?;
        }
        Err(failure)
    }
}
