//! The formats that a file has had, and the steps that raise a text from each to the next.
//!
//! A step works on the document before any value is read from it. It may rename keys and rewrite values; comments and
//! order stay where they are. A new key with a usual value needs no work, only its number: an older file has none.

use crate::rig::Layout;
use crate::rig::Rig;
use crate::rig::card::Card;
use toml_edit::{ArrayOfTables, DocumentMut, InlineTable, Item, Key, RawString, Table, TableLike, Value};

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
    const STEPS: &'static [Step] = &[
        only_new_keys,
        only_new_keys,
        only_new_keys,
        only_new_keys,
        only_new_keys,
        servos_are_continuous,
        inputs_stand_on_links,
        mappings_have_goals,
        only_new_keys,
        only_new_keys,
        only_new_keys,
    ];
}

impl Versioned for Card {
    const STEPS: &'static [Step] = &[only_new_keys, only_new_keys, is_continuous, only_new_keys];
}

impl Versioned for Layout {
    const STEPS: &'static [Step] = &[];
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

/// Rig 7 → 8: health belongs to a link. Each port that inputs stand on gets one, with the longest of the silences that
/// they had; an input is a channel of it.
fn inputs_stand_on_links(rig: &mut Table) {
    let mut links: Vec<(String, Table)> = Vec::new();
    let mut place = None;
    match rig.get_mut("input") {
        Some(Item::ArrayOfTables(inputs)) => {
            place = inputs.iter().filter_map(Table::position).min();
            inputs.iter_mut().for_each(|input| stand_on_link(input, &mut links));
        }
        Some(Item::Value(Value::Array(list))) => {
            let inputs = list.iter_mut().filter_map(Value::as_inline_table_mut);
            inputs.for_each(|input| stand_on_link(input, &mut links));
        }
        _ => {}
    }
    if links.is_empty() {
        return;
    }
    let mut tables = ArrayOfTables::new();
    for (_, mut table) in links {
        table.decor_mut().set_prefix("\n");
        // Before the first of the inputs.
        table.set_position(place.map(|place| place - 1));
        tables.push(table);
    }
    rig.insert("link", Item::ArrayOfTables(tables));
}

/// Rig 8 → 9: a mapping has a name, shares of inputs and a goal. Its name is that of its joint.
fn mappings_have_goals(rig: &mut Table) {
    each_in(rig, "mapping", has_goal);
}

fn has_goal(mapping: &mut dyn TableLike) {
    let joint = mapping.get("joint").and_then(Item::as_str).map(str::to_owned);
    let (Some(joint), Some(Item::Value(input))) = (joint, mapping.get_mut("input")) else { return };
    if let Some(name) = input.as_str().map(str::to_owned) {
        let mut shares = InlineTable::new();
        shares.insert(name, 1.into());
        exchange(input, Value::InlineTable(shares));
    }
    let angles = mapping.key("angles_deg").cloned().zip(mapping.remove("angles_deg"));
    if let Some(Item::Value(place)) = mapping.get_mut("joint") {
        let mut goal = InlineTable::new();
        goal.insert("joint", joint.clone().into());
        let mut behind = String::new();
        if let Some((key, Item::Value(mut angles))) = angles {
            let text =
                |raw: Option<&RawString>| raw.and_then(RawString::as_str).unwrap_or_default().to_owned();
            // A table within a line has no room for comments: they stand before and behind the whole.
            behind = text(angles.decor().suffix());
            angles.decor_mut().clear();
            let before = text(key.leaf_decor().prefix());
            goal.insert("angles_deg", angles);
            if !before.trim().is_empty() {
                behind.push_str(&before.lines().map(str::trim).collect::<Vec<_>>().join(" "));
            }
        }
        let own = place.decor().suffix().and_then(RawString::as_str).unwrap_or_default().to_owned();
        exchange(place, Value::InlineTable(goal));
        if !behind.trim().is_empty() {
            place.decor_mut().set_suffix(format!("{own}{behind}"));
        }
    }
    rename(mapping, &[("input", "from"), ("joint", "to")]);
    let rest: Vec<Key> = mapping.iter().filter_map(|(key, _)| mapping.key(key).cloned()).collect();
    let rest: Vec<(Key, Item)> =
        rest.into_iter().filter_map(|key| Some((key.clone(), mapping.remove(key.get())?))).collect();
    mapping.insert("name", Item::Value(joint.into()));
    for (key, item) in rest {
        mapping.entry_format(&key).or_insert(item);
    }
}

fn stand_on_link(input: &mut dyn TableLike, links: &mut Vec<(String, Table)>) {
    let Some(port) = input.get("port").and_then(Item::as_str).map(str::to_owned) else { return };
    if let Some(Item::Value(field)) = input.get_mut("field") {
        let name = match &*field {
            Value::Integer(place) => Some(format!("field {}", place.value())),
            _ => None,
        };
        if let Some(name) = name {
            exchange(field, name.into());
        }
    }
    let known = links.iter().position(|(name, _)| *name == port);
    let place = known.unwrap_or_else(|| {
        let mut table = Table::new();
        table.insert("name", Item::Value(port.clone().into()));
        table.insert("on", Item::Value(port.clone().into()));
        links.push((port, table));
        links.len() - 1
    });
    let Some((_, link)) = links.get_mut(place) else { return };
    let longest = |of: &dyn TableLike| of.get("lost_after_ms").and_then(number).unwrap_or_default();
    let is_longer = longest(link) < longest(input);
    hand_over(input, "lost_after_ms", link, is_longer);
    let is_strict = link.get("stuck_is_lost").and_then(Item::as_bool) == Some(true);
    hand_over(input, "stuck_is_lost", link, !is_strict);
    rename(input, &[("port", "link"), ("field", "channel")]);
}

#[expect(clippy::cast_precision_loss, reason = "milliseconds")]
fn number(item: &Item) -> Option<f64> {
    item.as_float().or_else(|| item.as_integer().map(|whole| whole as f64))
}

/// Moves a value to another table, in the place of the one there or not. The comments of both stay.
fn hand_over(from: &mut dyn TableLike, key: &str, to: &mut Table, is_better: bool) {
    let (Some(own), Some(item)) = (from.key(key).cloned(), from.remove(key)) else { return };
    let Some((other, worse)) = to.remove_entry(key) else {
        to.entry_format(&own).or_insert(item);
        return;
    };
    let ((mut key, item), (lost, worse)) =
        if is_better { ((own, item), (other, worse)) } else { ((other, worse), (own, item)) };
    let text = |raw: Option<&RawString>| raw.and_then(RawString::as_str).unwrap_or_default().to_owned();
    let before = text(lost.leaf_decor().prefix());
    let behind = worse.as_value().map_or_else(String::new, |value| text(value.decor().suffix()));
    let mut comments: String =
        before.lines().chain(behind.lines()).map(str::trim).filter(|l| !l.is_empty()).fold(
            String::new(),
            |mut all, line| {
                all.push_str(line);
                all.push('\n');
                all
            },
        );
    comments.push_str(&text(key.leaf_decor().prefix()));
    key.leaf_decor_mut().set_prefix(comments);
    to.entry_format(&key).or_insert(item);
}

/// Gives keys other names, in their places and beside their comments.
fn rename(table: &mut dyn TableLike, names: &[(&str, &str)]) {
    let keys: Vec<Key> = table.iter().filter_map(|(key, _)| table.key(key).cloned()).collect();
    for key in keys {
        let Some(item) = table.remove(key.get()) else { continue };
        let renamed = names.iter().find(|(old, _)| *old == key.get());
        let key = renamed.map_or(key.clone(), |(_, new)| {
            Key::new(*new)
                .with_leaf_decor(key.leaf_decor().clone())
                .with_dotted_decor(key.dotted_decor().clone())
        });
        table.entry_format(&key).or_insert(item);
    }
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
    if let Some(Item::Value(value)) = table.get_mut(key)
        && value.as_str() == Some(old)
    {
        exchange(value, new.into());
    }
}

/// Puts another value in the place of one, beside its comment.
fn exchange(place: &mut Value, mut new: Value) {
    *new.decor_mut() = place.decor().clone();
    *place = new;
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
    if let Some(Item::Value(format)) = document.get_mut("format") {
        exchange(format, i64::from(T::NEWEST).into());
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
            let wanted =
                text.replace("endless", "continuous").replace("= 6", "= 12").replace("= 1 ", "= 12 ");
            assert_eq!(document.to_string(), wanted);
        }
    }

    #[test]
    fn inputs_get_a_link_a_port_with_the_longest_silence_and_keep_their_comments() {
        let text = "format = 7\nname = \"marsh\"\n\n[[port]]\nname = \"line\" # the micro\n\n# turned by hand\n\
                    [[input]] # first\nname = \"knob\"\nport = \"line\" # on it\nfield = 2 # of three\nends = [0, 1023]\n\
                    lost_after_ms = 300\n\n[[input]]\nname = \"gap\"\nport = \"line\"\nfield = \"gap\"\n\
                    lost_after_ms = 900 # it is slow\nstuck_is_lost = true\n\n[[pose]]\nname = \"rest\"\n";
        let mut document: DocumentMut = text.parse().unwrap();
        raise::<Rig>(&mut document);
        let wanted = "format = 12\nname = \"marsh\"\n\n[[port]]\nname = \"line\" # the micro\n\n\
                    [[link]]\nname = \"line\"\non = \"line\"\nlost_after_ms = 900 # it is slow\nstuck_is_lost = true\n\n\
                    # turned by hand\n\
                    [[input]] # first\nname = \"knob\"\nlink = \"line\" # on it\nchannel = \"field 2\" # of three\nends = [0, 1023]\n\n\
                    [[input]]\nname = \"gap\"\nlink = \"line\"\nchannel = \"gap\"\n\n[[pose]]\nname = \"rest\"\n";
        assert_eq!(document.to_string(), wanted);
        let inline = "format = 7\ninput = [{ name = \"knob\", port = \"line\", field = 1, ends = [0, 1] }]\n";
        let mut document: DocumentMut = inline.parse().unwrap();
        raise::<Rig>(&mut document);
        let wanted = "format = 12\ninput = [{ name = \"knob\", link = \"line\", channel = \"field 1\", ends = [0, 1] }]\n\n\
                      [[link]]\nname = \"line\"\non = \"line\"\n";
        assert_eq!(document.to_string(), wanted);
    }

    #[test]
    fn what_is_no_older_format_stays() {
        for said in ["12", "0", "-3", "99", "\"six\"", "1.5"] {
            let text = format!("format = {said}\n[[servo]]\nkind = \"endless\"\n");
            let mut document: DocumentMut = text.parse().unwrap();
            raise::<Rig>(&mut document);
            assert_eq!(document.to_string(), text);
        }
    }
    #[test]
    fn a_mapping_gets_a_name_shares_and_a_goal_and_keeps_its_comments() {
        let text = "format = 8\n\n# the beak\n[[mapping]] # first\ninput = \"knob\" # by hand\njoint = \"heron.beak\" # it opens\n\
                    angles_deg = [0, 40] # as far as the plate\nfailsafe = { angle_deg = 4, over_s = 0.8 }\n\n[[pose]]\nname = \"rest\"\n";
        let wanted = "format = 12\n\n# the beak\n[[mapping]] # first\nname = \"heron.beak\"\nfrom = { knob = 1 } # by hand\n\
                    to = { joint = \"heron.beak\", angles_deg = [0, 40] } # it opens # as far as the plate\n\
                    failsafe = { angle_deg = 4, over_s = 0.8 }\n\n[[pose]]\nname = \"rest\"\n";
        let mut document: DocumentMut = text.parse().unwrap();
        raise::<Rig>(&mut document);
        assert_eq!(document.to_string(), wanted);
        let inline =
            "format = 8\nmapping = [{ input = \"heron.knob\", joint = \"beak\", angles_deg = [0, 4] }]\n";
        let mut document: DocumentMut = inline.parse().unwrap();
        raise::<Rig>(&mut document);
        let wanted = "format = 12\nmapping = [{ name = \"beak\", from = { \"heron.knob\" = 1 }, to = { joint = \"beak\", angles_deg = [0, 4] }}]\n";
        assert_eq!(document.to_string(), wanted);
    }
}
