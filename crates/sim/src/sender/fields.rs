//! A microcontroller that prints a line of numbers: knobs, buttons, a rangefinder.

use super::{Control, Speaker};
use crate::truth::{Dice, FieldKind, KnobTruth};
use std::fmt::Write as _;
use std::time::Duration;

/// See the module.
pub struct Fields {
    truths: Vec<KnobTruth>,
    controls: Vec<Control>,
    /// What each field said last.
    last: Vec<f64>,
}

impl Fields {
    /// A microcontroller with these on its pins, in the order in which it prints them.
    pub fn new(truths: Vec<KnobTruth>) -> Self {
        let controls = truths.iter().map(|t| Control { name: t.field.clone(), at: t.stands }).collect();
        let last = truths.iter().map(|truth| truth.low).collect();
        Self { truths, controls, last }
    }
}

impl Speaker for Fields {
    fn every(&self) -> Duration {
        Duration::from_millis(20)
    }

    fn says(&mut self, _: bool, dice: &mut Dice) -> Vec<u8> {
        let mut line = String::new();
        for ((truth, control), last) in self.truths.iter().zip(&self.controls).zip(&mut self.last) {
            let noise = truth.noise * dice.between(-1.0, 1.0);
            let exact = truth.low + (truth.high - truth.low) * control.at;
            let (low, high) = (truth.low.min(truth.high), truth.low.max(truth.high));
            let value = match truth.kind {
                FieldKind::Knob => libm::round(exact + noise).clamp(low, high),
                FieldKind::Button => {
                    if control.at > 0.5 {
                        truth.high
                    } else {
                        truth.low
                    }
                }
                FieldKind::Range => libm::round((exact + noise).clamp(low, high) * 10.0) / 10.0,
            };
            // Now and then an echo does not come back, and it says the farthest that it can.
            let value = if dice.between(0.0, 1.0) < truth.drop_outs { high } else { value };
            *last = value;
            // To a text nothing can fail.
            let _ = write!(line, "{}{}={value}", if line.is_empty() { "" } else { " " }, truth.field);
        }
        line.push('\n');
        line.into_bytes()
    }

    fn controls(&mut self) -> &mut [Control] {
        &mut self.controls
    }

    fn set_noise(&mut self, noise: f64) {
        self.truths.iter_mut().for_each(|truth| truth.noise = noise);
    }

    fn control(&mut self, channel: &str) -> Option<usize> {
        if let Some(place) = channel.strip_prefix("field ").and_then(|place| place.parse::<usize>().ok()) {
            return place.checked_sub(1).filter(|place| *place < self.controls.len());
        }
        self.controls.iter().position(|control| control.name == channel)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_field_is_printed_with_its_name_and_what_it_is() {
        let button = KnobTruth { kind: FieldKind::Button, high: 1.0, ..KnobTruth::of("m", "button") };
        let gap = KnobTruth {
            kind: FieldKind::Range,
            low: 4.0,
            high: 400.0,
            noise: 0.0,
            stands: 0.1,
            ..KnobTruth::of("m", "gap")
        };
        let mut fields =
            Fields::new(vec![KnobTruth { noise: 0.0, ..KnobTruth::of("m", "knob") }, button, gap]);
        let mut dice = Dice::new(2);
        assert_eq!(fields.says(true, &mut dice), b"knob=512 button=0 gap=43.6\n");
        assert_eq!(
            (fields.control("field 2"), fields.control("gap"), fields.control("field 9")),
            (Some(1), Some(2), None)
        );
        fields.controls()[1].at = 1.0;
        assert_eq!(fields.says(true, &mut dice), b"knob=512 button=1 gap=43.6\n");
        fields.truths[2].drop_outs = 1.0;
        assert_eq!(fields.says(true, &mut dice), b"knob=512 button=1 gap=400\n");
    }
}
