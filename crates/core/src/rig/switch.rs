//! Inputs that are pressed or not, or have positions and nothing between.

use super::number::{self, numbers};
use super::{Ends, bounds};
use crate::switch;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What the raw values of a switch mean: `on_above` with `off_below`, or `on_below` with `off_above` where pressing lowers
/// the value, or `positions`.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::switch)]
#[schemars(transform = number::ranged::<Switch>)]
pub struct Switch {
    /// Pressed above this raw value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_above: Option<f64>,
    /// Released below this raw value. Between the two thresholds it keeps its state.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub off_below: Option<f64>,
    /// Pressed below this raw value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_below: Option<f64>,
    /// Released above this raw value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub off_above: Option<f64>,
    /// The raw values of its 2 to 8 positions, in counting order. The nearest one is its position.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub positions: Vec<f64>,
    /// How long its contacts may bounce, in milliseconds.
    #[serde(default = "usual_debounce", skip_serializing_if = "is_usual_debounce")]
    pub debounce_ms: f64,
}

numbers! {
    Switch {
        on_above: RAW, off_below: RAW, on_below: RAW, off_above: RAW, positions: RAW,
        debounce_ms: DEBOUNCE = [Switch::USUAL_DEBOUNCE_MS],
    }
}

const fn usual_debounce() -> f64 {
    Switch::USUAL_DEBOUNCE_MS
}

fn is_usual_debounce(debounce: &f64) -> bool {
    debounce.to_bits() == Switch::USUAL_DEBOUNCE_MS.to_bits()
}

/// Which of its two raw values means that it is pressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pressed {
    /// The higher one.
    High,
    /// The lower one, as of a button to ground with a pull-up.
    Low,
}

impl Switch {
    /// Contacts of small buttons bounce for less than that.
    pub const USUAL_DEBOUNCE_MS: f64 = 20.0;

    /// A button between two raw values, with its thresholds at 40 and 60 % of the way.
    pub fn between(ends: Ends<f64>, pressed: Pressed) -> Self {
        let (low, high) = (ends.low.min(ends.high), ends.low.max(ends.high));
        // As many decimals as a person would write.
        let at = |share: f64| libm::round((low + (high - low) * share) * 1e3) / 1e3;
        let plain = Self { debounce_ms: Self::USUAL_DEBOUNCE_MS, ..Self::default() };
        match pressed {
            Pressed::High => Self { on_above: Some(at(0.6)), off_below: Some(at(0.4)), ..plain },
            Pressed::Low => Self { on_below: Some(at(0.4)), off_above: Some(at(0.6)), ..plain },
        }
    }

    /// A switch of positions.
    pub fn of_positions(positions: Vec<f64>) -> Self {
        Self { positions, debounce_ms: Self::USUAL_DEBOUNCE_MS, ..Self::default() }
    }

    /// Which way it is pressed; none of one that has positions.
    pub const fn pressed(&self) -> Option<Pressed> {
        match (self.on_above, self.on_below) {
            (Some(_), _) => Some(Pressed::High),
            (_, Some(_)) => Some(Pressed::Low),
            _ => None,
        }
    }

    /// Where it is pressed and where it is not lie over one another.
    pub fn overlaps(&self) -> bool {
        self.on_above.zip(self.off_below).is_some_and(|(on, off)| on < off)
            || self.on_below.zip(self.off_above).is_some_and(|(on, off)| on > off)
    }

    /// How it works; none where what is said of it makes no switch.
    pub fn works(&self) -> Option<switch::Switch> {
        let debounce = self.debounce_ms / 1e3;
        if self.overlaps() {
            return None;
        }
        match (self.on_above, self.off_below, self.on_below, self.off_above, self.positions.as_slice()) {
            (Some(on), Some(off), None, None, []) => Some(switch::Switch::above(on, off, debounce)),
            (None, None, Some(on), Some(off), []) => Some(switch::Switch::below(on, off, debounce)),
            (None, None, None, None, positions @ [_, _, ..]) if are_apart(positions) => {
                Some(switch::Switch::of_positions(positions, debounce))
            }
            _ => None,
        }
    }

    /// What it is, in words.
    pub fn words(&self) -> String {
        let number = |value: f64| format!("{}", value + 0.0);
        match (self.on_above.zip(self.off_below), self.on_below.zip(self.off_above)) {
            (Some((on, off)), _) => format!("pressed above {}, not below {}", number(on), number(off)),
            (_, Some((on, off))) => format!("pressed below {}, not above {}", number(on), number(off)),
            _ => {
                let all: Vec<String> = self.positions.iter().copied().map(number).collect();
                format!("positions {}", all.join(", "))
            }
        }
    }
}

/// Some positions, no two of them at one place.
fn are_apart(positions: &[f64]) -> bool {
    let mut sorted = positions.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted.windows(2).all(|pair| pair[0] < pair[1]) && sorted.len() <= switch::MOST
}

/// What a switch at a position is called.
pub fn standing(position: usize, of: usize) -> String {
    match (position, of) {
        (0, 2) => "not pressed".to_owned(),
        (1, 2) => "pressed".to_owned(),
        (position, of) => format!("{} of {of}", position + 1),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thresholds_stand_at_40_and_60_percent_of_the_way() {
        let switch = Switch::between(Ends { low: 1023.0, high: 0.0 }, Pressed::High);
        assert_eq!((switch.on_above, switch.off_below), (Some(613.8), Some(409.2)));
        assert_eq!(switch.words(), "pressed above 613.8, not below 409.2");
        let pulled_up = Switch::between(Ends { low: 0.0, high: 1.0 }, Pressed::Low);
        assert_eq!((pulled_up.on_below, pulled_up.off_above), (Some(0.4), Some(0.6)));
        assert_eq!((pulled_up.pressed(), switch.pressed()), (Some(Pressed::Low), Some(Pressed::High)));
    }

    #[test]
    fn what_makes_no_switch_is_none() {
        let plain = || Switch::of_positions(Vec::new());
        let none = [
            plain(),
            Switch { on_above: Some(1.0), ..plain() },
            Switch { on_above: Some(1.0), off_below: Some(2.0), ..plain() },
            Switch { on_below: Some(2.0), off_above: Some(1.0), ..plain() },
            Switch { on_above: Some(2.0), off_above: Some(1.0), ..plain() },
            Switch { on_above: Some(2.0), off_below: Some(1.0), ..Switch::of_positions(vec![1.0, 2.0]) },
            Switch::of_positions(vec![1.0]),
            Switch::of_positions(vec![1.0, 2.0, 1.0]),
            Switch::of_positions((0..9).map(f64::from).collect()),
        ];
        for switch in none {
            assert_eq!(switch.works(), None, "{switch:?}");
        }
        assert_eq!(Switch::of_positions(vec![3.0, 1.0]).works().unwrap().positions(), 2);
    }
}
