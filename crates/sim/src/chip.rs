//! The expander as a register machine in time: what is written, and which pulses come out.
//!
//! Follows the data sheet's rules for sleep, auto-increment, the all-channel registers, restart and full-off,
//! and runs at an oscillator that may differ from the nominal one. Servos are not its business.

use std::time::Duration;
use wasvolta_wire::expander::{
    ALL_OFF_H, Access, CHANNEL_BYTES, CHANNELS, Channel, FULLY, MODE1, PRE_SCALE, STEPS, TABLE,
    channel_register, mode1,
};

const LAST_CHANNEL_REGISTER: u8 = 69;
const ALL_ON_L: u8 = 250;
/// The oscillator needs this long after sleep.
const WAKING: Duration = Duration::from_micros(500);

/// One output: what acts now, and what acts from its next frame on.
#[derive(Debug, Clone, Copy)]
struct OutputStage {
    acting: Channel,
    waiting: Option<(Channel, Duration)>,
}

/// See the module.
#[derive(Debug, Clone)]
pub struct Chip {
    registers: [u8; 256],
    outputs: [OutputStage; CHANNELS],
    oscillator_hz: f64,
    awake_since: Duration,
}

impl Chip {
    /// A chip just powered on, with the oscillator it really has.
    pub fn new(oscillator_hz: f64) -> Self {
        let mut registers = [0; 256];
        for register in TABLE {
            registers[usize::from(register.address)] = register.reset;
        }
        for channel in 0..CHANNELS {
            registers[usize::from(channel_register(channel)) + 3] = FULLY;
        }
        let off = OutputStage { acting: Channel::Released, waiting: None };
        Self { registers, outputs: [off; CHANNELS], oscillator_hz, awake_since: Duration::ZERO }
    }

    /// Lets its oscillator run at another rate from now on.
    pub const fn set_oscillator(&mut self, hz: f64) {
        self.oscillator_hz = hz;
    }

    /// Whether it answers the address that speaks to all boards.
    pub const fn answers_all_call(&self) -> bool {
        self.registers[0] & mode1::ALLCALL != 0
    }

    /// Cuts its supply and gives it back.
    pub fn power_cycle(&mut self) {
        *self = Self::new(self.oscillator_hz);
    }

    /// One write from the start to the stop condition.
    pub fn write(&mut self, register: u8, bytes: &[u8], now: Duration) {
        let mut at = register;
        for &byte in bytes {
            self.store(at, byte, now);
            at = self.next(at);
        }
        self.latch(now);
    }

    /// Reads registers from one on, as many as there is room for.
    pub fn read(&self, register: u8, into: &mut [u8]) {
        let mut at = register;
        for byte in into {
            *byte = self.registers[usize::from(at)];
            at = self.next(at);
        }
    }

    /// The pulse that an output gives at `now`, in seconds; none while it is released or asleep.
    pub fn pulse(&self, channel: usize, now: Duration) -> Option<f64> {
        if self.is_asleep() || now < self.awake_since + WAKING {
            return None;
        }
        let output = self.outputs.get(channel)?;
        let acting = match output.waiting {
            Some((waiting, from)) if now >= from => waiting,
            _ => output.acting,
        };
        match acting {
            Channel::Pulse { ticks, .. } if ticks > 0 => Some(f64::from(ticks) * self.tick()),
            _ => None,
        }
    }

    /// Frames a second at its outputs; none while asleep.
    pub fn frame_hz(&self) -> Option<f64> {
        (!self.is_asleep()).then(|| 1.0 / (self.tick() * f64::from(STEPS)))
    }

    fn is_asleep(&self) -> bool {
        self.registers[usize::from(MODE1.address)] & mode1::SLEEP != 0
    }

    /// A tick in seconds.
    fn tick(&self) -> f64 {
        (f64::from(self.registers[usize::from(PRE_SCALE.address)]) + 1.0) / self.oscillator_hz
    }

    fn next(&self, register: u8) -> u8 {
        if self.registers[usize::from(MODE1.address)] & mode1::AI == 0 {
            return register;
        }
        match register {
            LAST_CHANNEL_REGISTER => 0,
            other => other.wrapping_add(1),
        }
    }

    fn store(&mut self, register: u8, byte: u8, now: Duration) {
        if register == MODE1.address {
            return self.store_mode(byte, now);
        }
        if (ALL_ON_L..=ALL_OFF_H.address).contains(&register) {
            for channel in 0..CHANNELS {
                self.registers[usize::from(channel_register(channel) + (register - ALL_ON_L))] = byte;
            }
            return;
        }
        let only_in_sleep = TABLE.iter().any(|r| r.address == register && r.access == Access::WriteInSleep);
        if only_in_sleep && !self.is_asleep() {
            return;
        }
        // The divider's hardware has a least value.
        let byte = if register == PRE_SCALE.address { byte.max(3) } else { byte };
        self.registers[usize::from(register)] = byte;
    }

    fn store_mode(&mut self, byte: u8, now: Duration) {
        let place = usize::from(MODE1.address);
        let before = self.registers[place];
        let (slept, sleeps) = (before & mode1::SLEEP != 0, byte & mode1::SLEEP != 0);
        let ran = self.outputs.iter().any(|o| matches!(o.acting, Channel::Pulse { .. }));
        let mut restart = before & mode1::RESTART;
        if !slept && sleeps && ran {
            restart = mode1::RESTART;
        }
        if slept && !sleeps {
            self.awake_since = now;
            // Pulses that ran before a sleep stay off until they are written anew or revived on purpose.
            for output in &mut self.outputs {
                *output = OutputStage { acting: Channel::Released, waiting: None };
            }
        }
        if byte & mode1::RESTART != 0 && restart != 0 {
            restart = 0;
            self.revive();
        }
        self.registers[place] = (byte & !mode1::RESTART) | restart;
    }

    fn revive(&mut self) {
        for channel in 0..CHANNELS {
            self.outputs[channel] = OutputStage { acting: self.told(channel), waiting: None };
        }
    }

    fn told(&self, channel: usize) -> Channel {
        let at = usize::from(channel_register(channel));
        let mut bytes = [0; CHANNEL_BYTES];
        bytes.copy_from_slice(&self.registers[at..at + CHANNEL_BYTES]);
        Channel::parse(bytes)
    }

    /// At the stop condition new values are taken; each acts when its output's low time ends.
    fn latch(&mut self, now: Duration) {
        if self.is_asleep() {
            return;
        }
        for channel in 0..CHANNELS {
            let told = self.told(channel);
            let output = self.outputs[channel];
            let acting = match output.waiting {
                Some((waiting, from)) if now >= from => waiting,
                _ => output.acting,
            };
            let same = told == acting;
            let waiting = if same || told == Channel::Released {
                None
            } else {
                Some((told, self.next_rise(acting, now)))
            };
            let acting = if told == Channel::Released { told } else { acting };
            self.outputs[channel] = OutputStage { acting, waiting };
        }
    }

    fn next_rise(&self, acting: Channel, now: Duration) -> Duration {
        let frame = self.tick() * f64::from(STEPS);
        let rise = match acting {
            Channel::Pulse { on, .. } => f64::from(on) * self.tick(),
            _ => 0.0,
        };
        let since = now.saturating_sub(self.awake_since).as_secs_f64() - rise;
        let frames = libm::floor(since / frame) + 1.0;
        self.awake_since + Duration::try_from_secs_f64(frames * frame + rise).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MS: Duration = Duration::from_millis(1);

    fn started() -> Chip {
        let mut chip = Chip::new(25e6);
        chip.write(0, &[0x30], MS);
        chip.write(254, &[121], MS);
        chip.write(0, &[0x20], MS);
        chip
    }

    #[test]
    fn a_fresh_chip_sleeps_with_all_channels_off() {
        let chip = Chip::new(25e6);
        let mut modes = [0; 2];
        chip.read(0, &mut modes);
        assert_eq!(modes, [0x11, 0x11], "without auto-increment the address stands");
        assert_eq!(chip.frame_hz(), None);
        assert!((0..16).all(|n| chip.pulse(n, MS).is_none()));
    }

    #[test]
    fn the_divider_is_taken_only_in_sleep() {
        let mut chip = started();
        chip.write(254, &[60], 2 * MS);
        assert!((chip.frame_hz().unwrap() - 50.029).abs() < 5e-4);
    }

    #[test]
    fn a_pulse_comes_at_the_next_frame_and_a_release_at_once() {
        let mut chip = started();
        chip.write(6, &Channel::Pulse { on: 0, ticks: 307 }.emit(), 3 * MS);
        assert_eq!(chip.pulse(0, 4 * MS), None);
        assert!((chip.pulse(0, 22 * MS).unwrap() - 307.0 * 4.88e-6).abs() < 1e-12);
        chip.write(6, &Channel::Pulse { on: 0, ticks: 400 }.emit(), 25 * MS);
        assert!((chip.pulse(0, 26 * MS).unwrap() - 307.0 * 4.88e-6).abs() < 1e-12, "still the old one");
        assert!((chip.pulse(0, 42 * MS).unwrap() - 400.0 * 4.88e-6).abs() < 1e-12);
        chip.write(253, &[0x10], 43 * MS);
        assert_eq!(chip.pulse(0, 43 * MS), None);
    }

    #[test]
    fn without_auto_increment_a_block_ends_up_in_one_register() {
        let mut chip = Chip::new(25e6);
        chip.write(6, &[1, 2, 3, 4], MS);
        let mut bytes = [0];
        chip.read(6, &mut bytes);
        assert_eq!(bytes, [4]);
        chip.read(7, &mut bytes);
        assert_eq!(bytes, [0]);
    }

    #[test]
    fn the_address_wraps_after_the_last_channel() {
        let chip = started();
        let mut bytes = [0; 2];
        chip.read(69, &mut bytes);
        assert_eq!(bytes, [FULLY, 0x20]);
    }

    #[test]
    fn pulses_from_before_a_sleep_come_back_only_by_restart() {
        let mut chip = started();
        chip.write(6, &Channel::Pulse { on: 0, ticks: 307 }.emit(), 3 * MS);
        chip.write(7, &[0], 30 * MS);
        chip.write(0, &[0x30], 60 * MS);
        let mut mode = [0];
        chip.read(0, &mut mode);
        assert_eq!(mode, [0xB0], "the chip remembers that pulses ran");
        chip.write(0, &[0x20], 61 * MS);
        assert_eq!(chip.pulse(0, 62 * MS), None);
        chip.write(0, &[0xA0], 63 * MS);
        assert!(chip.pulse(0, 64 * MS).is_some());
    }

    #[test]
    fn an_oscillator_that_is_off_moves_frequency_and_pulse() {
        let mut chip = Chip::new(26.1e6);
        chip.write(0, &[0x30], MS);
        chip.write(254, &[121], MS);
        chip.write(0, &[0x20], MS);
        chip.write(6, &Channel::Pulse { on: 0, ticks: 307 }.emit(), 2 * MS);
        assert!((chip.frame_hz().unwrap() - 52.230).abs() < 5e-4);
        assert!((chip.pulse(0, 40 * MS).unwrap() * 1e6 - 1435.02).abs() < 5e-3);
    }
}
