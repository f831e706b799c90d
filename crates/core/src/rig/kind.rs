//! What hangs on a channel: a servo that goes to an angle, or something that has a level in percent.

use super::bounds::Within;
use crate::range::{self, Range};
use crate::unit::{Degrees, DegreesPerSecond, Micros, Percent, Seconds};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What hangs on a channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A servo that goes to an angle and stands there.
    #[default]
    Positional,
    /// A servo for continuous rotation, or a motor behind a speed controller: its pulse is a speed.
    Continuous,
    /// A lamp, or anything that takes the share of a frame as its level.
    Dimmer,
    /// A relay, or anything that is on or off.
    OnOff,
}

impl Kind {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 4] = [Self::Positional, Self::Continuous, Self::Dimmer, Self::OnOff];

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Positional => "positional",
            Self::Continuous => "continuous",
            Self::Dimmer => "dimmer",
            Self::OnOff => "on-off",
        }
    }

    /// The kind that a word begins to name: `d` is a dimmer.
    pub fn of(said: &str) -> Option<Self> {
        let said = said.trim().to_lowercase();
        let mut named =
            Self::ALL.into_iter().filter(|kind| !said.is_empty() && kind.word().starts_with(&said));
        named.next()
    }

    /// Whether it takes no servo pulses: what it gets is a share of each frame.
    pub const fn is_accessory(self) -> bool {
        matches!(self, Self::Dimmer | Self::OnOff)
    }

    /// The unit in which it is told where to be: `°` or `%`.
    pub const fn unit(self) -> &'static str {
        match self {
            Self::Positional => Degrees::UNIT,
            Self::Continuous | Self::Dimmer | Self::OnOff => Percent::UNIT,
        }
    }

    /// How fast its level may change, in percent a second; none for what has angles.
    pub const fn level_speed(self) -> Option<DegreesPerSecond> {
        match self {
            Self::Positional => None,
            // Full speed in a quarter of a second: less tears at what it drives.
            Self::Continuous => Some(DegreesPerSecond::new(400.0)),
            // From dark to full within any beat.
            Self::Dimmer | Self::OnOff => Some(DegreesPerSecond::new(100_000.0)),
        }
    }

    /// A value as people read it: `+31.0°`, `−40 %`, `on`.
    pub fn show(self, value: Degrees) -> String {
        // Nothing is neither above nor below zero.
        match self {
            Self::Positional => format!("{:+.1}°", value.get() + 0.0),
            Self::Continuous if libm::fabs(value.get()) < 0.5 => "0 %".to_owned(),
            Self::Continuous => format!("{:+.0} %", value.get()),
            Self::Dimmer => format!("{:.0} %", libm::round(value.get()) + 0.0),
            Self::OnOff => if value.get() < 50.0 { "off" } else { "on" }.to_owned(),
        }
    }

    /// The levels it can be told; none for what is told angles.
    pub const fn levels(self) -> Option<&'static Range> {
        match self {
            Self::Positional => None,
            Self::Continuous => Some(&range::RATE_LEVEL),
            Self::Dimmer | Self::OnOff => Some(&range::LEVEL),
        }
    }
}

/// What a speed controller must see before it follows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Arming {
    /// The pulse; its stop pulse unless said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(transform = Within(&range::PULSE))]
    pub pulse_us: Option<Micros>,
    /// For how long.
    #[schemars(transform = Within(&range::ARMING))]
    pub for_s: Seconds,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_is_read_with_the_unit_it_has() {
        let show = |kind: Kind, value: f64| kind.show(Degrees::new(value));
        assert_eq!([show(Kind::Positional, -31.04), show(Kind::Positional, -0.0)], ["-31.0°", "+0.0°"]);
        assert_eq!([show(Kind::Continuous, -40.2), show(Kind::Continuous, 0.3)], ["-40 %", "0 %"]);
        assert_eq!(
            [show(Kind::Dimmer, 14.6), show(Kind::OnOff, 49.0), show(Kind::OnOff, 51.0)],
            ["15 %", "off", "on"]
        );
    }

    #[test]
    fn a_word_names_the_kind_that_it_begins() {
        for kind in Kind::ALL {
            assert_eq!(Kind::of(kind.word()), Some(kind));
            assert_eq!(kind.levels().is_some(), kind.unit() == "%" && kind.level_speed().is_some());
        }
        assert_eq!(
            [Kind::of(" Dim"), Kind::of("on"), Kind::of("x"), Kind::of("")],
            [Some(Kind::Dimmer), Some(Kind::OnOff), None, None]
        );
    }
}
