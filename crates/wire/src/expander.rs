//! Registers of the 16-channel, 12-bit I²C PWM expander (the PCA9685 register set).
//!
//! Encodes and decodes what stands in them; when they are written is the driver's business, and what a chip
//! does with them is the simulator's. Low byte first everywhere.

use std::ops::RangeInclusive;

/// Channels on a chip.
pub const CHANNELS: usize = 16;
/// Bytes a channel takes: `ON_L ON_H OFF_L OFF_H`.
pub const CHANNEL_BYTES: usize = 4;
/// Counter steps in a frame.
pub const STEPS: u16 = 4096;
/// Addresses a board can have.
pub const ADDRESSES: RangeInclusive<u8> = 0x40..=0x7F;
/// Answers for every board at once, unless switched off.
pub const ALL_CALL: u8 = 0x70;
/// The most bytes an SMBus block transfer carries.
pub const BLOCK: usize = 32;

/// What may be done with a register.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Access {
    /// At any time.
    Always,
    /// Writes are taken only while the chip sleeps.
    WriteInSleep,
    /// Writes reach several channels; reads give nothing of use.
    WriteAll,
}

/// A register of the chip: its address, name and what it is after power-on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Register {
    /// Its address among the chip's registers.
    pub address: u8,
    /// Its name in the data sheet.
    pub name: &'static str,
    /// What may be done with it.
    pub access: Access,
    /// Its value after power-on.
    pub reset: u8,
}

const fn row(address: u8, name: &'static str, access: Access, reset: u8) -> Register {
    Register { address, name, access, reset }
}

/// Mode of the chip.
pub const MODE1: Register = row(0, "MODE1", Access::Always, 0x11);
/// Mode of the outputs.
pub const MODE2: Register = row(1, "MODE2", Access::Always, 0x04);
/// First of the three sub-addresses and the all-call address.
pub const SUBADR1: Register = row(2, "SUBADR1", Access::Always, 0xE2);
/// First register of channel 0.
pub const CHANNEL_0: Register = row(6, "LED0_ON_L", Access::Always, 0x00);
/// `ALL_LED_OFF_H`: one bit here releases all channels.
pub const ALL_OFF_H: Register = row(253, "ALL_LED_OFF_H", Access::WriteAll, 0x00);
/// The clock's divider less one.
pub const PRE_SCALE: Register = row(254, "PRE_SCALE", Access::WriteInSleep, 0x1E);

/// Every register that has a name of its own here; the channels follow from `CHANNEL_0`.
pub const TABLE: &[Register] = &[
    MODE1,
    MODE2,
    SUBADR1,
    row(3, "SUBADR2", Access::Always, 0xE4),
    row(4, "SUBADR3", Access::Always, 0xE8),
    row(5, "ALLCALLADR", Access::Always, 0xE0),
    CHANNEL_0,
    row(250, "ALL_LED_ON_L", Access::WriteAll, 0x00),
    row(251, "ALL_LED_ON_H", Access::WriteAll, 0x00),
    row(252, "ALL_LED_OFF_L", Access::WriteAll, 0x00),
    ALL_OFF_H,
    PRE_SCALE,
];

/// What registers 2..=5 hold on a chip nobody has touched.
pub const UNTOUCHED: [u8; 4] = [0xE2, 0xE4, 0xE8, 0xE0];

/// Bits of `MODE1`.
pub mod mode1 {
    /// Revives old pulses; never written as 1.
    pub const RESTART: u8 = 0x80;
    /// External clock; only a power cycle clears it.
    pub const EXTCLK: u8 = 0x40;
    /// The register address counts on by itself.
    pub const AI: u8 = 0x20;
    /// The oscillator stands.
    pub const SLEEP: u8 = 0x10;
    /// Answers the all-call address.
    pub const ALLCALL: u8 = 0x01;
}

/// Bits of `MODE2`.
pub mod mode2 {
    /// Inverted outputs; never written.
    pub const INVRT: u8 = 0x10;
    /// New values act at each acknowledge instead of at the stop.
    pub const OCH: u8 = 0x08;
    /// Outputs drive both ways.
    pub const OUTDRV: u8 = 0x04;
}

/// Bit 4 of `ON_H` and `OFF_H`: fully on, fully off.
pub const FULLY: u8 = 0x10;

/// What a channel is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Channel {
    /// Full off: no pulse at all.
    Released,
    /// A pulse from count `on`, `ticks` long, modulo the frame.
    Pulse {
        /// Where in the frame it begins, 0..4096.
        on: u16,
        /// How long it is, 0..4096.
        ticks: u16,
    },
    /// High throughout: never sent by this program.
    FullyOn,
}

impl Channel {
    /// The four bytes. A pulse of no length is fully off, and keeps where it would begin: two equal counts are not
    /// defined on the chip.
    pub fn emit(self) -> [u8; CHANNEL_BYTES] {
        match self {
            Self::Released => [0, 0, 0, FULLY],
            Self::Pulse { on, ticks: 0 } => {
                let [low, high] = on.to_le_bytes();
                [low, high, 0, FULLY]
            }
            Self::FullyOn => [0, FULLY, 0, 0],
            Self::Pulse { on, ticks } => {
                let off = (on + ticks) % STEPS;
                let ([on_low, on_high], [off_low, off_high]) = (on.to_le_bytes(), off.to_le_bytes());
                [on_low, on_high, off_low, off_high]
            }
        }
    }

    /// What four bytes say. Fully off wins over fully on, as in the chip.
    pub fn parse([on_low, on_high, off_low, off_high]: [u8; CHANNEL_BYTES]) -> Self {
        if off_high & FULLY != 0 {
            return Self::Released;
        }
        if on_high & FULLY != 0 {
            return Self::FullyOn;
        }
        let on = u16::from_le_bytes([on_low, on_high & 0x0F]);
        let off = u16::from_le_bytes([off_low, off_high & 0x0F]);
        Self::Pulse { on, ticks: (off + STEPS - on) % STEPS }
    }
}

/// The first register of a channel.
///
/// Channels above 15 do not exist; they give the register of channel 15.
pub fn channel_register(channel: usize) -> u8 {
    let channel = u8::try_from(channel.min(CHANNELS - 1)).unwrap_or(0);
    CHANNEL_0.address + 4 * channel
}

/// The register in which a channel's `OFF` begins, behind its two bytes of `ON`.
pub fn off_register(channel: usize) -> u8 {
    channel_register(channel) + 2
}

/// Where channel `n`'s pulse begins, so that no two channels rise together and none wraps past the frame
/// while pulses stay within `widest` ticks: n·floor((4096 − widest)/16).
pub fn spread(channel: usize, widest: u16) -> u16 {
    let apart = STEPS.saturating_sub(widest) / 16;
    apart * u16::try_from(channel.min(CHANNELS - 1)).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_byte_vectors_of_the_design_hold() {
        assert_eq!(channel_register(0), 6);
        assert_eq!(Channel::Pulse { on: 0, ticks: 307 }.emit(), [0x00, 0x00, 0x33, 0x01]);
        assert_eq!(Channel::Pulse { on: 218, ticks: 0 }.emit(), [0xDA, 0x00, 0x00, 0x10]);
        assert_eq!(Channel::Pulse { on: 218, ticks: 4095 }.emit(), [0xDA, 0x00, 0xD9, 0x00]);
        assert_eq!(channel_register(3), 18);
        assert_eq!(Channel::Released.emit(), [0x00, 0x00, 0x00, 0x10]);
    }

    #[test]
    fn the_register_table_is_that_of_the_chip() {
        assert_eq!((MODE1.reset, MODE2.reset, PRE_SCALE.reset), (0x11, 0x04, 0x1E));
        assert_eq!((MODE1.address, PRE_SCALE.address, ALL_OFF_H.address), (0, 254, 253));
        let four: Vec<u8> = TABLE.iter().filter(|r| (2..=5).contains(&r.address)).map(|r| r.reset).collect();
        assert_eq!(four, UNTOUCHED);
        assert_eq!((*ADDRESSES.start(), *ADDRESSES.end(), ALL_CALL), (0x40, 0x7F, 0x70));
        assert_eq!(usize::from(channel_register(15)) + CHANNEL_BYTES - 1, 69);
        assert_eq!((channel_register(0), channel_register(8)), (6, 38));
        assert_eq!((off_register(0), off_register(15)), (8, 68));
    }

    #[test]
    fn channels_rise_one_after_another() {
        assert_eq!(spread(1, 595), 218);
        for channel in 0..CHANNELS {
            assert!(spread(channel, 595) + 595 <= STEPS, "channel {channel} would wrap");
        }
        for beyond in [16, 17, 300] {
            assert_eq!(
                (channel_register(beyond), spread(beyond, 595)),
                (channel_register(15), spread(15, 595))
            );
        }
    }

    proptest! {
        #[test]
        fn a_pulse_survives_the_round_trip(on in 0u16..4096, ticks in 1u16..4096) {
            let channel = Channel::Pulse { on, ticks };
            prop_assert_eq!(Channel::parse(channel.emit()), channel);
        }

        #[test]
        fn any_bytes_can_be_read(bytes: [u8; 4]) {
            if let Channel::Pulse { on, ticks } = Channel::parse(bytes) {
                prop_assert!(on < STEPS && ticks < STEPS);
            }
        }
    }
}
