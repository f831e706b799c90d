//! Values that a form would take more loosely than a rig does: a list of two that has three, lines that end otherwise.

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::de::{Error as _, IgnoredAny, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use std::fmt;
use std::marker::PhantomData;

/// Low and high, in that order, as `[low, high]`: two, and no more. Of an input's ends, and of what a mapping makes of them,
/// the low one is that of the movement and may have the greater value.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Ends<T> {
    /// The low end, which stands first.
    pub low: T,
    /// The high end, which stands second.
    pub high: T,
}

impl<T: Serialize> Serialize for Ends<T> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        (&self.low, &self.high).serialize(to)
    }
}

impl<T: JsonSchema> JsonSchema for Ends<T> {
    fn schema_name() -> Cow<'static, str> {
        format!("EndsOf{}", T::schema_name()).into()
    }

    // A definition of its own: the range of both stands beside the reference to it.
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let mut schema = <(T, T)>::json_schema(generator);
        schema.insert("description".to_owned(), "Low and high, in that order: two, and no more.".into());
        schema
    }
}

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
                let two = Ends { low: next(0)?, high: next(1)? };
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
    Ok(pairs.into_iter().map(|ends| (ends.low, ends.high)).collect())
}
