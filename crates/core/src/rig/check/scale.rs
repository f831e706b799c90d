//! What does not fit together in a named scale.

use super::Path;
use super::found::Found;
use crate::range;
use crate::rig::{NamedScale, UNITS};

/// Checks one scale: its name, its values, and the pulses that they stand for.
pub(super) fn check(found: &mut Found, at: &Path, scale: &NamedScale) {
    found.name(at, &scale.name);
    found.numbers(at, scale);
    found.notes(at, "notes", &scale.notes);
    let name = at.key("name");
    if UNITS.iter().any(|unit| scale.is_called(unit)) {
        let message = format!("{:?} behind a number means a unit already", scale.name);
        found.say(name, message, "give it another name, as lib");
    } else if !scale.name.starts_with(char::is_alphabetic) {
        let message = format!("{:?} does not begin with a letter", scale.name);
        found.say(name, message, "it stands behind numbers: begin it with a letter, as lib");
    }
    if scale.values.low >= scale.values.high {
        found.say(
            at.key("values"),
            "the first value is not below the second",
            "swap them, and the pulses with them",
        );
    }
    let Some(pulses) = scale.pulses() else {
        let help = "write pulses_us = [544, 2400], or steps = 4096 and rate_hz = 60";
        return found.say(at.clone(), "it gives its pulses in no way, or in two ways", help);
    };
    let key = if scale.pulses_us.is_some() { "pulses_us" } else { "values" };
    if scale.pulses_us.is_some() && (pulses.high - pulses.low).abs().get() < 1.0 {
        found.say(at.key(key), "its two pulses are equal", "write the pulse of each of its ends");
    } else if scale.pulses_us.is_none() {
        for (value, pulse) in [(scale.values.low, pulses.low), (scale.values.high, pulses.high)] {
            if !range::PULSE.holds(pulse.get()) {
                let value = scale.written(value);
                let message = format!("{value} would be {:.0} µs, which is not a servo's pulse", pulse.get());
                found.say(
                    at.key(key),
                    message,
                    "correct the values, the steps or the rate: a count means nothing without them",
                );
            }
        }
    }
}
