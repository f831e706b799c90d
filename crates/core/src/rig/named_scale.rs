//! The numbers by which other code speaks of pulses: 0 to 180 over 544–2400 µs, or 150 to 600 of 4096 steps at 60 Hz.
//!
//! A scale is told once and then typed and shown beside µs and degrees. It goes through the pulse alone: what the horn
//! does with that pulse is the marks' to say, and 90 of such a scale need not be 90°.

use super::bounds::{self, Named, Noted};
use super::number::{self, numbers};
use super::{Ends, ScaleId, strict};
use crate::unit::{Hertz, Micros};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A linear scale of other code: `values` at `pulses_us`, or counts of a frame of `steps` at `rate_hz`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::scale)]
#[schemars(transform = number::ranged::<NamedScale>)]
pub struct NamedScale {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: ScaleId,
    /// The word behind its numbers, as `lib` in `90 lib`. It must not be a unit.
    #[schemars(transform = Named)]
    pub name: String,
    /// The lowest and highest number of the other code.
    pub values: Ends<f64>,
    /// The pulses of those two numbers, in either order.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulses_us: Option<Ends<Micros>>,
    /// How many counts a frame has, where its numbers are counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steps: Option<u32>,
    /// The frame rate behind those counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate_hz: Option<Hertz>,
    /// Where it comes from, up to 400 characters.
    #[serde(default, deserialize_with = "strict::prose", skip_serializing_if = "String::is_empty")]
    #[schemars(transform = Noted)]
    pub notes: String,
}

numbers! { NamedScale { values: SCALE_VALUE, pulses_us: PULSE, steps: FRAME_STEPS, rate_hz: FRAME_RATE } }

/// What stands behind a number already, and so cannot be a scale's name; in small letters.
pub const UNITS: &[&str] = &[
    "u", "us", "µs", "μs", "ms", "s", "m", "mm", "cm", "d", "de", "deg", "t", "tick", "ticks", "c", "count",
    "counts", "r", "rpm", "h", "hz", "v", "a", "by",
];

impl NamedScale {
    /// Whether that word behind a number means this scale; capitals do not matter.
    pub fn is_called(&self, word: &str) -> bool {
        self.name.to_lowercase() == word.to_lowercase()
    }

    /// The pulses of its two ends; none where it says no pulses, or both ways.
    pub fn pulses(&self) -> Option<Ends<Micros>> {
        match (self.pulses_us, self.steps, self.rate_hz) {
            (Some(pulses), None, None) => Some(pulses),
            (None, Some(steps), Some(rate)) => {
                let count = 1.0e6 / rate.get() / f64::from(steps);
                let pulse = |value: f64| Micros::new(value * count);
                Some(Ends { low: pulse(self.values.low), high: pulse(self.values.high) })
            }
            _ => None,
        }
    }

    /// The pulse of a number, straight on beyond the ends too; none where it is no scale.
    pub fn pulse_of(&self, value: f64) -> Option<Micros> {
        let pulses = self.pulses()?;
        let share = (value - self.values.low) / (self.values.high - self.values.low);
        let pulse = pulses.low + (pulses.high - pulses.low) * share;
        pulse.is_finite().then_some(pulse)
    }

    /// The number of a pulse, straight on beyond the ends too; none where it is no scale.
    pub fn value_of(&self, pulse: Micros) -> Option<f64> {
        let pulses = self.pulses()?;
        let share = (pulse - pulses.low) / (pulses.high - pulses.low);
        let value = self.values.low + (self.values.high - self.values.low) * share;
        value.is_finite().then_some(value)
    }

    /// The µs of one of its numbers; none where it is no scale.
    pub fn each(&self) -> Option<Micros> {
        Some(self.pulse_of(self.values.low + 1.0)? - self.pulses()?.low)
    }

    /// A number as it is written: to a thousandth of the scale or finer, with no more than three decimals.
    pub fn written(&self, value: f64) -> String {
        let span = self.values.high - self.values.low;
        let decimals = [100.0, 10.0, 1.0].iter().filter(|&&coarse| span <= coarse * 10.0).count();
        format!("{value:.decimals$}", value = round(value, decimals))
    }

    /// A pulse in its numbers, with its name; what the other code cannot say is said as that. None where it is no scale.
    pub fn words(&self, pulse: Micros) -> Option<String> {
        Some(format!("{} {}", self.number(pulse)?, self.name))
    }

    /// The same without its name, for a column that has that at its head.
    pub fn number(&self, pulse: Micros) -> Option<String> {
        let value = self.value_of(pulse)?;
        // What is written as the end is at the end.
        let slack = (self.values.high - self.values.low) * 1e-4;
        let Ends { low, high } = self.values;
        Some(match () {
            () if value < low - slack => format!("below {low}"),
            () if value > high + slack => format!("above {high}"),
            () => self.written(value),
        })
    }

    /// The pulse that somebody asks for by one of its numbers.
    ///
    /// # Errors
    /// Says what it goes from and to where the number lies outside it.
    pub fn asked(&self, value: f64) -> Result<Micros, String> {
        let Ends { low, high } = self.values;
        let pulse = self.pulse_of(value).filter(|_| (low..=high).contains(&value));
        pulse.ok_or_else(|| format!("{value} {name} is outside {low} to {high} {name}", name = self.name))
    }

    /// What it is, in words: `0 to 180 over 544 to 2400 µs`, or `150 to 600 of 4096 at 60 Hz`.
    pub fn described(&self) -> String {
        let (low, high) = (self.values.low, self.values.high);
        match (self.pulses_us, self.steps, self.rate_hz) {
            (_, Some(steps), Some(rate)) => format!("{low} to {high} of {steps} at {} Hz", rate.get()),
            (Some(pulses), _, _) => {
                format!("{low} to {high} over {} to {} µs", pulses.low.get(), pulses.high.get())
            }
            _ => format!("{low} to {high}"),
        }
    }
}

/// A number at so many decimals, and no minus zero.
fn round(value: f64, decimals: usize) -> f64 {
    let tens = [1.0, 10.0, 100.0, 1000.0].get(decimals).copied().unwrap_or(1000.0);
    libm::round(value * tens) / tens + 0.0
}

#[cfg(test)]
mod tests {
    use super::*;

    fn over(low: f64, high: f64, from: f64, to: f64) -> NamedScale {
        NamedScale {
            name: "lib".to_owned(),
            values: Ends { low, high },
            pulses_us: Some(Ends { low: Micros::new(from), high: Micros::new(to) }),
            ..NamedScale::default()
        }
    }

    fn counts() -> NamedScale {
        NamedScale {
            name: "c60".to_owned(),
            values: Ends { low: 150.0, high: 600.0 },
            steps: Some(4096),
            rate_hz: Some(Hertz::new(60.0)),
            ..NamedScale::default()
        }
    }

    #[test]
    fn numbers_from_elsewhere_have_their_pulses() {
        let lib = over(0.0, 180.0, 544.0, 2400.0);
        assert_eq!(lib.pulse_of(90.0), Some(Micros::new(1472.0)));
        assert_eq!(lib.value_of(Micros::new(1472.0)), Some(90.0));
        assert!((lib.each().unwrap().get() - 1856.0 / 180.0).abs() < 1e-12);
        let signed = over(-90.0, 90.0, 1000.0, 2000.0);
        assert_eq!(signed.pulse_of(-45.0), Some(Micros::new(1250.0)));
        // 150 of 4096 at 60 Hz: 150 · 16 666.67 / 4096 = 610.35 µs; 600 are 2441.41 µs.
        let pulses = counts().pulses().unwrap();
        assert!((pulses.low.get() - 610.3516).abs() < 1e-4 && (pulses.high.get() - 2441.4063).abs() < 1e-4);
        assert!((counts().pulse_of(368.64).unwrap().get() - 1500.0).abs() < 1e-9);
        assert!((counts().each().unwrap().get() - 4.0690).abs() < 1e-4);
        let turned = over(0.0, 180.0, 2400.0, 544.0);
        assert_eq!(
            (turned.pulse_of(0.0), turned.value_of(Micros::new(544.0))),
            (Some(Micros::new(2400.0)), Some(180.0))
        );
    }

    #[test]
    fn there_and_back_is_the_same() {
        for scale in [over(0.0, 180.0, 544.0, 2400.0), over(-1.0, 1.0, 2000.0, 1000.0), counts()] {
            for pulse in [300.0, 544.0, 1234.5, 2900.0] {
                let back = scale.pulse_of(scale.value_of(Micros::new(pulse)).unwrap()).unwrap();
                assert!((back.get() - pulse).abs() < 1e-9, "{scale:?}");
            }
        }
    }

    #[test]
    fn what_the_other_code_cannot_say_is_said_as_that() {
        let lib = over(0.0, 180.0, 544.0, 2400.0);
        let words = |pulse| lib.words(Micros::new(pulse)).unwrap();
        assert_eq!([words(1500.0), words(544.0), words(2400.0)], ["92.7 lib", "0.0 lib", "180.0 lib"]);
        assert_eq!([words(500.0), words(2450.0)], ["below 0 lib", "above 180 lib"]);
        assert_eq!(lib.asked(90.0), Ok(Micros::new(1472.0)));
        assert_eq!(lib.asked(200.0).unwrap_err(), "200 lib is outside 0 to 180 lib");
        assert!(lib.asked(f64::NAN).is_err());
        let part = over(-1.0, 1.0, 1000.0, 2000.0);
        assert_eq!(part.words(Micros::new(1499.9999)).unwrap(), "0.000 lib", "no minus zero");
        assert_eq!(over(0.0, 20_000.0, 500.0, 2500.0).words(Micros::new(1500.0)).unwrap(), "10000 lib");
    }

    #[test]
    fn without_pulses_or_with_two_kinds_of_them_it_is_no_scale() {
        let plain = || NamedScale { pulses_us: None, ..over(0.0, 180.0, 544.0, 2400.0) };
        assert_eq!((plain().pulses(), plain().words(Micros::new(1500.0))), (None, None));
        assert!(plain().asked(90.0).is_err());
        assert_eq!(NamedScale { steps: Some(4096), ..plain() }.pulses(), None);
        assert_eq!(NamedScale { pulses_us: over(0.0, 1.0, 1e3, 2e3).pulses_us, ..counts() }.pulses(), None);
        let flat = over(5.0, 5.0, 1000.0, 2000.0);
        assert_eq!(flat.pulse_of(5.0), None, "it divides by nothing");
    }

    #[test]
    fn it_is_called_by_its_name_whatever_the_capitals() {
        let lib = NamedScale { name: "Lib".to_owned(), ..counts() };
        assert!(lib.is_called("lib") && lib.is_called("LIB") && !lib.is_called("li"));
        assert_eq!(counts().described(), "150 to 600 of 4096 at 60 Hz");
        assert_eq!(over(0.0, 180.0, 544.0, 2400.0).described(), "0 to 180 over 544 to 2400 µs");
    }
}
