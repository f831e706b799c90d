//! What hangs on a channel: a servo that goes to an angle, or something that has a level in percent.

use super::number::{self, numbers};
use crate::range::{self, Range};
use crate::unit::{Counts, Degrees, DegreesPerSecond, Micros, Percent, Position, Seconds};
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
    /// A servo on a bus, which is told where to be in counts and says where it is.
    Smart,
}

/// What something on a channel is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signal {
    /// Servo pulses, whose length is what is told.
    Pulse,
    /// A share of each frame.
    Share,
    /// A whole frame or nothing.
    Switch,
    /// Counts of its own scale.
    Counts,
}

/// What a kind is.
#[derive(Debug)]
pub struct KindRow {
    /// The word for it, as a file has it.
    pub word: &'static str,
    /// What it is given.
    pub signal: Signal,
    /// It goes to angles and turns a joint; what does not is told levels, by its own name.
    pub has_angles: bool,
    /// Its last pulse keeps it turning: it must be told to stop, and it has marks of a standstill and of rates.
    pub turns_on: bool,
    /// The levels that it can be told; none for what is told angles.
    pub levels: Option<&'static Range>,
    /// How fast its level may change, in percent a second; none for what has angles.
    pub level_speed: Option<DegreesPerSecond>,
    /// A value as people read it.
    pub show: fn(Degrees) -> String,
}

// In what is shown, nothing is neither above nor below zero.
const POSITIONAL: KindRow = KindRow {
    word: "positional",
    signal: Signal::Pulse,
    has_angles: true,
    turns_on: false,
    levels: None,
    level_speed: None,
    show: |angle| format!("{:+.1}°", angle.get() + 0.0),
};

static SMART: KindRow = KindRow { word: "smart", signal: Signal::Counts, ..POSITIONAL };

static CONTINUOUS: KindRow = KindRow {
    word: "continuous",
    signal: Signal::Pulse,
    has_angles: false,
    turns_on: true,
    levels: Some(&range::RATE_LEVEL),
    // Full speed in a quarter of a second: less tears at what it drives.
    level_speed: Some(DegreesPerSecond::new(400.0)),
    show: |rate| {
        if libm::fabs(rate.get()) < 0.5 { "0 %".to_owned() } else { format!("{:+.0} %", rate.get()) }
    },
};

/// From dark to full within any beat.
const AT_ONCE: DegreesPerSecond = DegreesPerSecond::new(100_000.0);

static DIMMER: KindRow = KindRow {
    word: "dimmer",
    signal: Signal::Share,
    has_angles: false,
    turns_on: false,
    levels: Some(&range::LEVEL),
    level_speed: Some(AT_ONCE),
    show: |level| format!("{:.0} %", libm::round(level.get()) + 0.0),
};

static ON_OFF: KindRow = KindRow {
    word: "on-off",
    signal: Signal::Switch,
    has_angles: false,
    turns_on: false,
    levels: Some(&range::LEVEL),
    level_speed: Some(AT_ONCE),
    show: |level| if level.get() < 50.0 { "off" } else { "on" }.to_owned(),
};

impl Kind {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 5] = [Self::Positional, Self::Continuous, Self::Dimmer, Self::OnOff, Self::Smart];

    /// What it is.
    pub const fn row(self) -> &'static KindRow {
        match self {
            Self::Positional => &POSITIONAL,
            Self::Smart => &SMART,
            Self::Continuous => &CONTINUOUS,
            Self::Dimmer => &DIMMER,
            Self::OnOff => &ON_OFF,
        }
    }

    /// The word for it, as a file has it.
    pub const fn word(self) -> &'static str {
        self.row().word
    }

    /// The kind that a word begins to name: `d` is a dimmer.
    pub fn of(said: &str) -> Option<Self> {
        let said = said.trim().to_lowercase();
        let mut named =
            Self::ALL.into_iter().filter(|kind| !said.is_empty() && kind.word().starts_with(&said));
        named.next()
    }

    /// All words, as they are offered: `a, b or c`.
    pub fn words() -> String {
        let [first @ .., last] = Self::ALL.map(Self::word);
        format!("{} or {last}", first.join(", "))
    }

    /// Whether it goes to angles and turns a joint.
    pub const fn has_angles(self) -> bool {
        self.row().has_angles
    }

    /// Whether its last pulse keeps it turning.
    pub const fn turns_on(self) -> bool {
        self.row().turns_on
    }

    /// What it is given.
    pub const fn signal(self) -> Signal {
        self.row().signal
    }

    /// Whether it takes no servo pulses: what it gets is a share of each frame.
    pub const fn is_accessory(self) -> bool {
        matches!(self.row().signal, Signal::Share | Signal::Switch)
    }

    /// Whether it hangs on a bus, is told counts, and says where it is.
    pub const fn is_smart(self) -> bool {
        matches!(self.row().signal, Signal::Counts)
    }

    /// The unit of its places: `µs`, or `counts` of a smart servo.
    pub const fn place_unit(self) -> &'static str {
        if self.is_smart() { Counts::UNIT } else { Micros::UNIT }
    }

    /// What heads a column or an axis of its places: `pulse, µs`, or `place, counts` of a smart servo.
    pub const fn place_head(self) -> &'static str {
        if self.is_smart() { "place, counts" } else { "pulse, µs" }
    }

    /// A place of it as people read it: `1520 µs`, `2048 counts`.
    pub fn show_place(self, at: Position) -> String {
        format!("{:.0} {}", at.get() + 0.0, self.place_unit())
    }

    /// Whether it is on or off and nothing between.
    pub const fn is_switch(self) -> bool {
        matches!(self.row().signal, Signal::Switch)
    }

    /// The unit in which it is told where to be: `°` or `%`.
    pub const fn unit(self) -> &'static str {
        if self.has_angles() { Degrees::UNIT } else { Percent::UNIT }
    }

    /// How fast its level may change, in percent a second; none for what has angles.
    pub const fn level_speed(self) -> Option<DegreesPerSecond> {
        self.row().level_speed
    }

    /// A value as people read it: `+31.0°`, `−40 %`, `on`.
    pub fn show(self, value: Degrees) -> String {
        (self.row().show)(value)
    }

    /// The levels it can be told; none for what is told angles.
    pub const fn levels(self) -> Option<&'static Range> {
        self.row().levels
    }
}

/// The neutral pulse that a speed controller must see before it follows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = number::ranged::<Arming>)]
pub struct Arming {
    /// The neutral pulse. Its stop pulse by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pulse_us: Option<Micros>,
    /// How long it must see the pulse.
    pub for_s: Seconds,
}

numbers! { Arming { pulse_us: PULSE, for_s: ARMING } }

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
