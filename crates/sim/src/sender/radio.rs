//! A radio's receiver: sticks, a switch and a dial of a transmitter, in one of three protocols.
//!
//! Where its transmitter is off each does as such receivers do: one repeats its last frame, one sets a flag, one sends
//! nothing but that it hears nothing.

use super::{Control, Speaker};
use crate::truth::{Dice, RadioTruth};
use std::time::Duration;
use wasvolta_wire::{crsf, ibus, sbus};

/// What a receiver speaks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Speech {
    /// 14 channels of 16 bits; no word for a transmitter that is off.
    Ibus,
    /// 16 channels of 11 bits, with a failsafe flag.
    Sbus,
    /// 16 channels of 11 bits with a checksum, and how well it hears.
    Crsf,
}

/// See the module.
pub struct Radio {
    truth: RadioTruth,
    controls: Vec<Control>,
    /// How many frames it has sent: every tenth tells how well it hears.
    sent: u32,
}

impl Radio {
    /// A receiver whose transmitter is on.
    pub fn new(truth: RadioTruth) -> Self {
        let channels = match truth.protocol {
            Speech::Ibus => ibus::CHANNELS,
            Speech::Sbus | Speech::Crsf => 16,
        };
        let at = |n: usize| truth.stands.get(n).copied().unwrap_or(0.5);
        let controls = (0..channels).map(|n| Control { name: format!("ch{}", n + 1), at: at(n) }).collect();
        Self { truth, controls, sent: 0 }
    }

    /// The pulse of each channel, in µs, with the noise of its sticks.
    fn pulses(&self, dice: &mut Dice) -> [f64; 16] {
        let mut pulses = [1500.0; 16];
        for (pulse, control) in pulses.iter_mut().zip(&self.controls) {
            *pulse = 1000.0 + 1000.0 * control.at + self.truth.noise_us * dice.between(-1.0, 1.0);
        }
        pulses
    }
}

impl Speaker for Radio {
    fn every(&self) -> Duration {
        Duration::from_millis(7)
    }

    fn says(&mut self, hears: bool, dice: &mut Dice) -> Vec<u8> {
        let pulses = self.pulses(dice);
        let eleven = || pulses.map(sbus::value_of);
        self.sent = self.sent.wrapping_add(1);
        match (self.truth.protocol, hears) {
            (Speech::Ibus, _) => {
                let mut values = [0; ibus::CHANNELS];
                for (value, pulse) in values.iter_mut().zip(pulses) {
                    *value = wasvolta_core::unit::count16(pulse);
                }
                ibus::emit(&values).to_vec()
            }
            (Speech::Sbus, hears) => {
                let flags = if hears { 0 } else { sbus::flags::FAILSAFE | sbus::flags::FRAME_LOST };
                sbus::emit(&eleven(), flags).to_vec()
            }
            (Speech::Crsf, false) => crsf::emit_link(0, 130),
            (Speech::Crsf, true) if self.sent.is_multiple_of(10) => {
                [crsf::emit(&eleven()), crsf::emit_link(100, 52)].concat()
            }
            (Speech::Crsf, true) => crsf::emit(&eleven()),
        }
    }

    fn controls(&mut self) -> &mut [Control] {
        &mut self.controls
    }

    fn set_noise(&mut self, noise: f64) {
        self.truth.noise_us = noise;
    }

    fn repeats_when_off(&self) -> bool {
        self.truth.protocol == Speech::Ibus
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_wire::decode::{Carrier, Frame, Sink, decoder};

    #[derive(Default)]
    struct Heard(Vec<(u16, f64)>, Vec<Frame>);

    impl Sink for Heard {
        fn value(&mut self, code: u16, _: &str, value: f64) {
            self.0.push((code, value));
        }

        fn frame(&mut self, frame: Frame) {
            self.1.push(frame);
        }
    }

    #[test]
    fn what_each_receiver_says_is_what_its_decoder_hears() {
        for (protocol, word) in [(Speech::Ibus, "ibus"), (Speech::Sbus, "sbus"), (Speech::Crsf, "crsf")] {
            let truth = RadioTruth { stands: vec![0.25, 1.0], ..RadioTruth::of("r", protocol) };
            let mut radio = Radio::new(RadioTruth { noise_us: 0.0, ..truth });
            let mut dice = Dice::new(1);
            let mut decoder = decoder(word, Carrier::Stream).unwrap();
            let mut heard = Heard::default();
            let gap = Some(radio.every());
            for _ in 0..10 {
                decoder.feed(&radio.says(true, &mut dice), gap, &mut heard);
            }
            assert!(
                heard.0.contains(&(1, 1250.0)) && heard.0.contains(&(2, 2000.0)),
                "{word}: {:?}",
                heard.0
            );
            let mut off = Heard::default();
            decoder.feed(&radio.says(false, &mut dice), gap, &mut off);
            let wanted: &[Frame] = match protocol {
                Speech::Ibus => &[Frame::Values],
                Speech::Sbus => &[Frame::Failsafe],
                Speech::Crsf => &[Frame::OfLink],
            };
            assert_eq!(off.1, wanted, "{word}");
            assert_eq!(radio.repeats_when_off(), protocol == Speech::Ibus);
        }
    }
}
