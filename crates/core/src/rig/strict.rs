//! Values that a form would take more loosely than a rig does: a list of two that has three, lines that end otherwise.

use schemars::JsonSchema;
use serde::de::{Error as _, IgnoredAny, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use std::fmt;
use std::marker::PhantomData;

/// Low and high, in that order, as `[low, high]`: two, and no more.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, JsonSchema)]
pub struct Ends<T>(pub T, pub T);

impl<'de, T: Deserialize<'de>> Deserialize<'de> for Ends<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        /// Counts too: of a tuple some forms drop what is beyond its end.
        struct Two<T>(PhantomData<T>);
        impl<'de, T: Deserialize<'de>> Visitor<'de> for Two<T> {
            type Value = Ends<T>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("two values, [low, high]")
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut values: A) -> Result<Ends<T>, A::Error> {
                let mut next = |n| values.next_element()?.ok_or_else(|| A::Error::invalid_length(n, &self));
                let two = Ends(next(0)?, next(1)?);
                let mut all = 2;
                while values.next_element::<IgnoredAny>()?.is_some() {
                    all += 1;
                }
                if all == 2 { Ok(two) } else { Err(A::Error::invalid_length(all, &self)) }
            }
        }
        from.deserialize_seq(Two(PhantomData))
    }
}

/// Words of a person. In a file whose lines end as on another system, those within a text do too, and mean the same.
pub(super) fn prose<'de, D: Deserializer<'de>>(from: D) -> Result<String, D::Error> {
    Ok(String::deserialize(from)?.replace("\r\n", "\n"))
}

/// Pairs as `[[from, to], …]`, each of two and no more.
pub(super) fn pairs<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<(f64, f64)>, D::Error> {
    let pairs = Vec::<Ends<f64>>::deserialize(from)?;
    Ok(pairs.into_iter().map(|Ends(from, to)| (from, to)).collect())
}
