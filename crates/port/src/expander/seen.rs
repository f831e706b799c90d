//! What can be read off a chip without writing to it, and what that says about it.

use super::GROUP;
use crate::i2c::{BusError, I2cBus, Transfer};
use wasvolta_wire::expander::{
    BLOCK, CHANNEL_BYTES, CHANNELS, Channel, MODE1, PRE_SCALE, SUBADR1, UNTOUCHED, channel_register, mode1,
};

/// What the registers of a chip say, read without writing anything.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seen {
    /// `MODE1` and `MODE2`.
    pub modes: [u8; 2],
    /// The register `PRE_SCALE`: the oscillator's cycles a tick, less one.
    pub prescale: u8,
    /// The three sub-addresses and the all-call address.
    pub own: [u8; 4],
    /// What each channel was told.
    pub channels: [Channel; CHANNELS],
}

impl Seen {
    /// Reads a chip's registers one after another: it may not count its address on by itself yet.
    ///
    /// # Errors
    /// When nothing answers or the bus refuses.
    pub fn read(bus: &mut dyn I2cBus, address: u8) -> Result<Self, BusError> {
        let mut own = [0; 4];
        read_singly(bus, address, SUBADR1.address, &mut own)?;
        let mut modes = [0; 2];
        read_singly(bus, address, MODE1.address, &mut modes)?;
        let mut prescale = [0];
        read_singly(bus, address, PRE_SCALE.address, &mut prescale)?;
        let mut channels = [Channel::Released; CHANNELS];
        for group in 0..CHANNELS / GROUP {
            let mut block = [0; BLOCK];
            read_singly(bus, address, channel_register(group * GROUP), &mut block)?;
            parse_group(&block, &mut channels[group * GROUP..(group + 1) * GROUP]);
        }
        Ok(Self { modes, prescale: prescale[0], own, channels })
    }

    /// Whether the chip's own addresses are those it came with: else it may be of another kind.
    pub fn is_familiar(&self) -> bool {
        self.own == UNTOUCHED
    }

    /// Whether its oscillator runs.
    pub const fn is_awake(&self) -> bool {
        self.modes[0] & mode1::SLEEP == 0
    }

    /// Whether it also answers the address that speaks to all boards.
    pub const fn answers_all_call(&self) -> bool {
        self.modes[0] & mode1::ALLCALL != 0
    }

    /// Channels whose output changes level, or stays high.
    pub fn pulsing(&self) -> usize {
        let runs =
            |c: &&Channel| matches!(c, Channel::Pulse { ticks, .. } if *ticks > 0) || **c == Channel::FullyOn;
        self.channels.iter().filter(runs).count()
    }
}

pub(super) fn parse_group(block: &[u8; BLOCK], into: &mut [Channel]) {
    for (bytes, channel) in block.as_chunks::<CHANNEL_BYTES>().0.iter().zip(into) {
        *channel = Channel::parse(*bytes);
    }
}

pub(super) fn read(bus: &mut dyn I2cBus, address: u8, register: u8, into: &mut [u8]) -> Result<(), BusError> {
    bus.transfer(address, Transfer::Read { register, into })
}

/// Reads one register after another: before the start a chip may not count its address on by itself.
fn read_singly(bus: &mut dyn I2cBus, address: u8, register: u8, into: &mut [u8]) -> Result<(), BusError> {
    for (register, byte) in (register..=u8::MAX).zip(into) {
        read(bus, address, register, std::slice::from_mut(byte))?;
    }
    Ok(())
}
