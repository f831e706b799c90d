//! Quantities as types, so that a pulse, an angle and a count of ticks cannot be mixed up.
//!
//! What they mean is left to the modules that compute with them. There is no `From<f64>`: a bare number
//! becomes a quantity only where its unit is written down.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize, Serializer};
use std::ops::{Add, Div, Mul, Neg, Sub};

/// Writes a quantity for a person: at most six decimals, and whole numbers without a point.
fn write_number<S: Serializer>(value: f64, serializer: S) -> Result<S::Ok, S::Error> {
    let rounded = libm::round(value * 1e6) / 1e6;
    match whole(rounded) {
        Some(integer) => serializer.serialize_i64(integer),
        None => serializer.serialize_f64(rounded),
    }
}

/// For what must come back to the last bit, as a recording's commands must.
///
/// A quantity of a rig file is kept to six decimals; `#[serde(serialize_with = "exactly")]` keeps all of it.
///
/// # Errors
/// As the serializer's.
pub fn exactly<S: Serializer>(value: &Position, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_f64(value.0)
}

macro_rules! quantity {
    ($(#[$doc:meta])* $name:ident, $unit:literal) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Default, Deserialize, JsonSchema)]
        #[serde(transparent)]
        pub struct $name(f64);

        impl $name {
            /// How the unit is written behind a number.
            pub const UNIT: &'static str = $unit;
            /// Nothing of it, in its own unit.
            pub const ZERO: Self = Self(0.0);

            /// A bare number, read in this unit.
            pub const fn new(value: f64) -> Self {
                Self(value)
            }

            /// The bare number in this unit.
            pub const fn get(self) -> f64 {
                self.0
            }

            /// The size without its sign.
            #[must_use]
            pub fn abs(self) -> Self {
                Self(libm::fabs(self.0))
            }

            /// Neither infinite nor not-a-number.
            pub fn is_finite(self) -> bool {
                self.0.is_finite()
            }

            /// The nearest value within `low..=high`; a range given the wrong way round is turned about.
            #[must_use]
            pub fn within(self, low: Self, high: Self) -> Self {
                let (low, high) = if low.0 <= high.0 { (low.0, high.0) } else { (high.0, low.0) };
                Self(held(self.0, low, high))
            }
        }

        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                write_number(self.0, serializer)
            }
        }

        impl Add for $name {
            type Output = Self;
            fn add(self, other: Self) -> Self {
                Self(self.0 + other.0)
            }
        }

        impl Sub for $name {
            type Output = Self;
            fn sub(self, other: Self) -> Self {
                Self(self.0 - other.0)
            }
        }

        impl Neg for $name {
            type Output = Self;
            fn neg(self) -> Self {
                Self(-self.0)
            }
        }

        impl Mul<f64> for $name {
            type Output = Self;
            fn mul(self, factor: f64) -> Self {
                Self(self.0 * factor)
            }
        }

        impl Div<$name> for $name {
            type Output = f64;
            fn div(self, other: Self) -> f64 {
                self.0 / other.0
            }
        }
    };
}

quantity!(
    /// A pulse width in microseconds.
    Micros, "µs"
);
quantity!(
    /// A place on a smart servo's own scale, in its counts.
    Counts, "counts"
);
quantity!(
    /// Where a servo is told to be, on its own scale: µs of pulse, or counts of a smart servo. Which of the two its servo
    /// says; whatever fits, guards and moves does not ask. Names that say *pulse* for one mean this.
    Position, ""
);
quantity!(
    /// A share of the most that something gives: a lamp's light, a continuous servo's rate. Backwards is negative.
    Percent, "%"
);
quantity!(
    /// An angle in degrees; zero and sense of rotation are the joint's own.
    Degrees, "°"
);
quantity!(
    /// Degrees a second.
    DegreesPerSecond, "°/s"
);
quantity!(
    /// Degrees a second more each second.
    DegreesPerSecondSquared, "°/s²"
);
quantity!(
    /// A rate in hertz.
    Hertz, "Hz"
);
quantity!(
    /// Seconds, where a file or a person writes them; in the code times are `Duration`.
    Seconds, "s"
);
quantity!(
    /// Millimetres, of what is measured on a mechanism.
    Millimetres, "mm"
);
quantity!(
    /// Turns a minute; backwards is negative.
    Rpm, "rpm"
);
quantity!(
    /// A voltage, in volts.
    Volts, "V"
);
quantity!(
    /// An electric current, in amperes.
    Amps, "A"
);
quantity!(
    /// A shaped signal: −1..1 when self-centring, 0..1 when one-ended.
    Norm, ""
);

impl Micros {
    /// The place of a servo that is told by pulses.
    pub const fn place(self) -> Position {
        Position(self.0)
    }
}

impl Counts {
    /// The place of a smart servo.
    pub const fn place(self) -> Position {
        Position(self.0)
    }
}

impl Position {
    /// The pulse of a servo that is told by pulses.
    pub const fn micros(self) -> Micros {
        Micros(self.0)
    }

    /// The counts of a smart servo.
    pub const fn counts(self) -> Counts {
        Counts(self.0)
    }
}

impl Seconds {
    /// The same time as a `Duration`; negative and non-finite times are zero.
    pub fn duration(self) -> std::time::Duration {
        std::time::Duration::try_from_secs_f64(self.0).unwrap_or_default()
    }
}

/// A count on the wire: how many steps of the chip's counter the pulse is high, 0..=steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Ticks(pub u16);

/// `value` as an integer if it is one that an `f64` holds exactly.
pub fn whole(value: f64) -> Option<i64> {
    const EXACT: f64 = 9.0e15;
    #[expect(
        clippy::cast_possible_truncation,
        clippy::float_cmp,
        reason = "checked to be exactly whole, and small enough"
    )]
    (libm::trunc(value) == value && libm::fabs(value) < EXACT).then_some(value as i64)
}

/// The nearest count of 16 bits; below zero and not-a-number are 0, too large is 65535.
pub fn count16(value: f64) -> u16 {
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a saturating cast, wanted here"
    )]
    {
        // A cast cuts off; what it cut decides. Much cheaper than a library's round, and as exact.
        let whole = value as u16;
        whole.saturating_add(u16::from(value - f64::from(whole) >= 0.5))
    }
}

/// A number brought within two others, the lower one first; what is not a number stays so.
///
/// As `clamp`, without its check of the order: this is the most frequent thing that the stage does.
#[inline]
pub const fn held(value: f64, low: f64, high: f64) -> f64 {
    let value = if value < low { low } else { value };
    if value > high { high } else { value }
}

/// The same number with half the digits, for what is only told on; too large is infinite.
#[inline]
pub const fn single(value: f64) -> f32 {
    #[expect(clippy::cast_possible_truncation, reason = "seven digits are enough where this is asked for")]
    {
        value as f32
    }
}

/// A count or an index as a number to compute with.
pub fn number(count: usize) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "counts here are far below 2^53")]
    {
        count as f64
    }
}

/// The same of a count of 64 bits.
#[inline]
pub const fn number64(count: u64) -> f64 {
    // With a sign it is one instruction, without one seven.
    #[expect(clippy::cast_precision_loss, reason = "nanoseconds here are far below 2^53: that is 104 days")]
    {
        count.cast_signed() as f64
    }
}

/// The nearest count of nanoseconds; below zero and not-a-number are 0.
pub fn nanoseconds(value: f64) -> u64 {
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a saturating cast, wanted here"
    )]
    {
        libm::round(value) as u64
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_are_the_nearest_and_never_wrap() {
        let cases =
            [(0.49999999999999994, 0), (0.5, 1), (323.5, 324), (-3.0, 0), (65534.6, 65535), (1e9, 65535)];
        for (value, count) in cases {
            assert_eq!(count16(value), count, "{value}");
        }
        assert_eq!((count16(f64::NAN), count16(f64::INFINITY)), (0, 65535));
    }

    #[test]
    fn whole_numbers_are_told_from_broken_ones() {
        assert_eq!(whole(1500.0), Some(1500));
        assert_eq!(whole(-3.0), Some(-3));
        assert_eq!(whole(0.5), None);
        assert_eq!(whole(f64::INFINITY), None);
        assert_eq!(whole(f64::NAN), None);
    }

    #[test]
    fn counts_saturate_instead_of_wrapping() {
        assert_eq!(count16(306.5), 307);
        assert_eq!(count16(-4.0), 0);
        assert_eq!(count16(1e9), u16::MAX);
        assert_eq!(count16(f64::NAN), 0);
    }

    #[test]
    fn within_holds_on_a_range_given_backwards() {
        let (low, high) = (Micros::new(2000.0), Micros::new(1000.0));
        assert_eq!(Micros::new(900.0).within(low, high), Micros::new(1000.0));
        assert_eq!(Micros::new(1200.0).within(low, high), Micros::new(1200.0));
    }
}
