//! Which numbers a table of a rig has, and the range of each: said once a field, in one row beside its type.
//!
//! The check walks these rows, and the schema has its bounds and units from them; from the schema come the documentation's
//! tables and the tests that try every number at its ends and beyond. A number without a row fails one of those.

use super::Ends;
use crate::range::Range;
use crate::unit::{
    Amps, Counts, Degrees, DegreesPerSecond, DegreesPerSecondSquared, Hertz, Micros, Millimetres, Percent,
    Rpm, Seconds, Ticks, Volts, whole,
};
use schemars::Schema;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What stands under one key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shape {
    /// One number stands there.
    One,
    /// A list of them.
    Each,
    /// A map to them.
    Keyed,
}

/// Which of the numbers under a key.
pub(crate) enum Which<'a> {
    /// The only one.
    Only,
    /// The one at a place of a list, from 0.
    At(usize),
    /// The one under a key of a map.
    Key(&'a str),
}

/// A row: a key of a table with the range of the numbers there.
pub(crate) struct Number {
    pub(crate) key: &'static str,
    pub(crate) range: &'static Range,
    pub(crate) shape: Shape,
    /// What counts where nothing is written; none where nothing does.
    pub(crate) usual: &'static [f64],
}

/// What is a number, or holds some.
pub(crate) trait Numeric {
    const SHAPE: Shape;
    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64));
}

/// A table with its rows.
pub(crate) trait Numbered {
    const NUMBERS: &'static [Number];
    fn each_number(&self, see: &mut dyn FnMut(&'static Number, Which<'_>, f64));
}

/// Writes the rows of a table: `numbers! { Step { move_s: TIME, dwell_s: TIME = [0.0] } }`. A key is the field's name; what
/// stands behind `=` is what counts where nothing is written.
macro_rules! numbers {
    ($of:ty { $($field:ident: $range:ident $(= $usual:expr)?),* $(,)? }) => {
        impl $crate::rig::number::Numbered for $of {
            const NUMBERS: &'static [$crate::rig::number::Number] = &[$(
                $crate::rig::number::Number {
                    key: stringify!($field),
                    range: &$crate::range::$range,
                    shape: $crate::rig::number::shape(|of: &$of| &of.$field),
                    usual: &$crate::rig::number::numbers!(@usual $($usual)?),
                }
            ),*];

            fn each_number(
                &self,
                see: &mut dyn FnMut(&'static $crate::rig::number::Number, $crate::rig::number::Which<'_>, f64),
            ) {
                let mut rows = Self::NUMBERS.iter();
                $(if let Some(row) = rows.next() {
                    $crate::rig::number::Numeric::each(&self.$field, &mut |which, value| see(row, which, value));
                })*
            }
        }
    };
    (@usual) => { [] };
    (@usual $usual:expr) => { $usual };
}
pub(crate) use numbers;

/// The rows of what a rig and a card both know of a servo, with more behind them.
macro_rules! known_of_a_servo {
    ($of:ty { $($more:tt)* }) => {
        $crate::rig::number::numbers! {
            $of {
                endpoints_us: PULSE = [$crate::rig::Ends::cautious().low.get(), $crate::rig::Ends::cautious().high.get()], endpoints_counts: STEPS, centre_us: PULSE, centre_counts: STEPS, teeth: TEETH, volts: SUPPLY_VOLTS,
                signal_volts: SIGNAL_VOLTS, $($more)*
            }
        }
    };
}
pub(crate) use known_of_a_servo;

/// What a field is, by its type.
pub(crate) const fn shape<S, T: Numeric>(_: fn(&S) -> &T) -> Shape {
    T::SHAPE
}

impl Numeric for f64 {
    const SHAPE: Shape = Shape::One;

    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
        see(Which::Only, *self);
    }
}

macro_rules! numeric {
    ($($kind:ty: $get:expr),* $(,)?) => {$(
        impl Numeric for $kind {
            const SHAPE: Shape = Shape::One;

            fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
                let get: fn(Self) -> f64 = $get;
                see(Which::Only, get(*self));
            }
        }
    )*};
}

numeric! {
    u8: f64::from, u16: f64::from, u32: f64::from, Ticks: |ticks| f64::from(ticks.0),
    Amps: Amps::get, Degrees: Degrees::get, DegreesPerSecond: DegreesPerSecond::get,
    DegreesPerSecondSquared: DegreesPerSecondSquared::get, Hertz: Hertz::get,
    Counts: Counts::get, Micros: Micros::get, Millimetres: Millimetres::get, Percent: Percent::get, Rpm: Rpm::get,
    Seconds: Seconds::get, Volts: Volts::get,
}

impl<T: Numeric> Numeric for Option<T> {
    const SHAPE: Shape = T::SHAPE;

    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
        if let Some(value) = self {
            value.each(see);
        }
    }
}

impl<T: Numeric> Numeric for Ends<T> {
    const SHAPE: Shape = Shape::Each;

    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
        self.low.each(&mut |_, value| see(Which::At(0), value));
        self.high.each(&mut |_, value| see(Which::At(1), value));
    }
}

impl<T: Numeric> Numeric for Vec<T> {
    const SHAPE: Shape = Shape::Each;

    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
        for (n, value) in self.iter().enumerate() {
            value.each(&mut |_, value| see(Which::At(n), value));
        }
    }
}

impl<T: Numeric> Numeric for BTreeMap<String, T> {
    const SHAPE: Shape = Shape::Keyed;

    fn each(&self, see: &mut dyn FnMut(Which<'_>, f64)) {
        for (key, value) in self {
            value.each(&mut |_, value| see(Which::Key(key), value));
        }
    }
}

/// A number as a person writes it: a whole one without a point, as a count must be.
fn written(value: f64) -> Value {
    whole(value).map_or_else(|| json!(value), |whole| json!(whole))
}

/// Puts the bounds and units of a table's rows into its schema.
pub(crate) fn ranged<T: Numbered>(schema: &mut Schema) {
    let Some(Value::Object(properties)) = schema.get_mut("properties") else { return };
    for Number { key, range, shape, usual } in T::NUMBERS {
        let Some(Value::Object(property)) = properties.get_mut(*key) else { continue };
        if !range.unit.is_empty() {
            property.insert("x-unit".to_owned(), json!(range.unit));
        }
        let usual = match usual {
            [] => None,
            [one] => Some(written(*one)),
            several => Some(several.iter().copied().map(written).collect()),
        };
        if let Some(usual) = usual {
            property.insert("default".to_owned(), usual);
        }
        let bounded = match shape {
            Shape::One => property,
            Shape::Each => {
                // A pair has its kinds one by one.
                property.entry("items").or_insert_with(|| json!({}));
                let Some(Value::Object(items)) = property.get_mut("items") else { continue };
                items
            }
            Shape::Keyed => {
                let Some(Value::Object(values)) = property.get_mut("additionalProperties") else { continue };
                values
            }
        };
        bounded.insert("minimum".to_owned(), json!(range.least));
        bounded.insert("maximum".to_owned(), json!(range.greatest));
    }
}
