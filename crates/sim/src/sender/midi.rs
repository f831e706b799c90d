//! An instrument with two controllers, a pitch wheel and four keys, which speaks when something is moved.

use super::{Control, Speaker};
use crate::truth::Dice;
use std::time::Duration;
use wasvolta_wire::midi::{self, BEND, CONTROLLER, NOTE};

/// Its channels: the name that a rig has for each, its code, and its least and greatest value.
const CHANNELS: [(&str, u16, f64, f64); 7] = [
    ("1/cc1", midi::code(CONTROLLER, 0, 1), 0.0, 127.0),
    ("1/cc7", midi::code(CONTROLLER, 0, 7), 0.0, 127.0),
    ("1/bend", midi::code(BEND, 0, 0), -8192.0, 8191.0),
    ("1/note60", midi::code(NOTE, 0, 60), 0.0, 127.0),
    ("1/note62", midi::code(NOTE, 0, 62), 0.0, 127.0),
    ("1/note64", midi::code(NOTE, 0, 64), 0.0, 127.0),
    ("1/note65", midi::code(NOTE, 0, 65), 0.0, 127.0),
];

/// See the module.
pub struct Instrument {
    controls: Vec<Control>,
    said: Vec<Option<i32>>,
}

impl Default for Instrument {
    fn default() -> Self {
        let at = |name: &str| if name.contains("note") { 0.0 } else { 0.5 };
        let control = |(name, ..): &(&str, u16, f64, f64)| Control { name: (*name).to_owned(), at: at(name) };
        Self { controls: CHANNELS.iter().map(control).collect(), said: vec![None; CHANNELS.len()] }
    }
}

impl Speaker for Instrument {
    fn every(&self) -> Duration {
        Duration::from_millis(5)
    }

    fn says(&mut self, _: bool, _: &mut Dice) -> Vec<u8> {
        let mut bytes = Vec::new();
        let parts = self.controls.iter().zip(&mut self.said).zip(CHANNELS);
        for ((control, said), (_, code, low, high)) in parts {
            let value = libm::round(low + (high - low) * control.at);
            #[expect(clippy::cast_possible_truncation, reason = "within the channel's few thousand")]
            let value = value as i32;
            // What it stood at first nobody has moved.
            if said.replace(value).is_some_and(|before| before != value) {
                bytes.extend(midi::emit(code, value));
            }
        }
        bytes
    }

    fn controls(&mut self) -> &mut [Control] {
        &mut self.controls
    }

    fn set_noise(&mut self, _: f64) {}
}
