//! The formats that a file has had, and the steps that raise a text from each to the next.
//!
//! A step works on the document before any value is read from it. It may rename keys and rewrite values; comments and
//! order stay where they are. A new key with a usual value needs no work, only its number: an older file has none.

use crate::rig::Rig;
use crate::rig::card::Card;
use toml_edit::{DocumentMut, Formatted, Item, Table, TableLike, Value};

/// Raises a document from one format to the next.
pub(crate) type Step = fn(&mut Table);

/// What stands in a file with a format number. The numbers start at 1; each step leads to the next.
pub(crate) trait Versioned {
    /// By format, from 1: what leads from it to the next.
    const STEPS: &'static [Step];
    /// The format that this program writes.
    const NEWEST: u32 = newest(Self::STEPS);
}

const fn newest(steps: &[Step]) -> u32 {
    #[expect(clippy::cast_possible_truncation, reason = "a format has a handful of steps")]
    let steps = steps.len() as u32;
    steps + 1
}

impl Versioned for Rig {
    const STEPS: &'static [Step] =
        &[only_new_keys, only_new_keys, only_new_keys, only_new_keys, only_new_keys, servos_are_continuous];
}

impl Versioned for Card {
    const STEPS: &'static [Step] = &[only_new_keys, only_new_keys, is_continuous];
}

fn only_new_keys(_: &mut Table) {}

/// Rig 6 → 7: the kind `endless` is called `continuous`.
fn servos_are_continuous(rig: &mut Table) {
    each_in(rig, "servo", is_continuous_in);
}

/// Card 3 → 4: the same.
fn is_continuous(card: &mut Table) {
    is_continuous_in(card);
}

fn is_continuous_in(part: &mut dyn TableLike) {
    rewrite(part, "kind", "endless", "continuous");
}

/// Every table of a list, however it is written: as `[[key]]` or as `key = [{ … }]`.
fn each_in(table: &mut dyn TableLike, key: &str, change: fn(&mut dyn TableLike)) {
    match table.get_mut(key) {
        Some(Item::ArrayOfTables(tables)) => tables.iter_mut().for_each(|table| change(table)),
        Some(Item::Value(Value::Array(list))) => {
            list.iter_mut().filter_map(Value::as_inline_table_mut).for_each(|table| change(table));
        }
        _ => {}
    }
}

/// Exchanges a text value, beside its comment.
fn rewrite(table: &mut dyn TableLike, key: &str, old: &str, new: &str) {
    if let Some(Item::Value(Value::String(text))) = table.get_mut(key)
        && text.value() == old
    {
        let decor = text.decor().clone();
        *text = Formatted::new(new.to_owned());
        *text.decor_mut() = decor;
    }
}

/// The format that a document says it has, where that is an older one than this program writes.
pub(crate) fn older<T: Versioned>(document: &Table) -> Option<u32> {
    let said = u32::try_from(document.get("format")?.as_integer()?).ok()?;
    (1..T::NEWEST).contains(&said).then_some(said)
}

/// Raises a document to the newest format, and the number in it, beside its comment. Of one that is not older nothing
/// changes.
pub(crate) fn raise<T: Versioned>(document: &mut DocumentMut) {
    let Some(said) = older::<T>(document) else { return };
    for step in T::STEPS.iter().skip(usize::try_from(said - 1).unwrap_or(usize::MAX)) {
        step(document.as_table_mut());
    }
    if let Some(Item::Value(Value::Integer(format))) = document.get_mut("format") {
        let decor = format.decor().clone();
        *format = Formatted::new(i64::from(T::NEWEST));
        *format.decor_mut() = decor;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_tables_is_raised_however_it_is_written() {
        for text in [
            "format = 6 # of old\nservo = [{ kind = \"endless\" }, { kind = \"dimmer\" }]\n",
            "format = 1 # of old\n[[servo]]\nkind = \"endless\" # it winds\n",
        ] {
            let mut document: DocumentMut = text.parse().unwrap();
            raise::<Rig>(&mut document);
            let wanted = text.replace("endless", "continuous").replace("= 6", "= 7").replace("= 1", "= 7");
            assert_eq!(document.to_string(), wanted);
        }
    }

    #[test]
    fn what_is_no_older_format_stays() {
        for said in ["7", "0", "-3", "99", "\"six\"", "1.5"] {
            let text = format!("format = {said}\n[[servo]]\nkind = \"endless\"\n");
            let mut document: DocumentMut = text.parse().unwrap();
            raise::<Rig>(&mut document);
            assert_eq!(document.to_string(), text);
        }
    }
}
