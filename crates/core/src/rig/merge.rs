//! Carries the difference between two rigs into a third document: the one a person wrote.
//!
//! Only what differs between `before` and `after` is touched, so a value that a person spelled out, though it
//! is the default, stays as it is.

use toml_edit::{Array, ArrayOfTables, InlineTable, Item, Table, TableLike, Value};

/// Keys whose lists are written as tables of their own, `[[key]]`.
const TABLE_LISTS: &[&str] = &[
    "rail", "port", "board", "layout", "servo", "joint", "input", "mapping", "press", "pose", "sequence",
    "step",
];

/// Applies what changed from `before` to `after` to `target`.
pub(super) fn apply(target: &mut dyn TableLike, before: &dyn TableLike, after: &dyn TableLike) {
    let gone: Vec<String> =
        before.iter().filter(|(key, _)| after.get(key).is_none()).map(|(key, _)| key.to_owned()).collect();
    for key in gone {
        target.remove(&key);
    }
    for (key, new) in after.iter() {
        let Some(new) = new.as_value() else { continue };
        let old = before.get(key).and_then(Item::as_value);
        if old.is_some_and(|old| same(old, new)) {
            continue;
        }
        match (old, target.get_mut(key)) {
            (Some(old), Some(item)) => merge_item(key, item, old, new),
            _ => {
                target.insert(key, fresh_item(key, new));
            }
        }
    }
}

fn same(a: &Value, b: &Value) -> bool {
    a.to_string() == b.to_string()
}

fn merge_item(key: &str, target: &mut Item, old: &Value, new: &Value) {
    match (old, new) {
        (Value::InlineTable(old), Value::InlineTable(new)) => {
            if let Some(table) = target.as_table_like_mut() {
                return apply(table, old, new);
            }
        }
        (Value::Array(old), Value::Array(new)) => match target {
            Item::ArrayOfTables(tables) => return merge_tables(tables, old, new),
            Item::Value(Value::Array(list)) => return merge_list(list, old, new),
            _ => {}
        },
        _ => {}
    }
    match target {
        Item::Value(value) => replace(value, new),
        other => *other = fresh_item(key, new),
    }
}

/// Puts `new` where `target` stands, with the comments and spaces around it.
fn replace(target: &mut Value, new: &Value) {
    let decor = target.decor().clone();
    *target = bare(new);
    *target.decor_mut() = decor;
}

fn bare(value: &Value) -> Value {
    let mut value = value.clone();
    value.decor_mut().clear();
    value
}

/// For each element of `new`, the element of `old` that it was: by name where they have names, else by
/// matching the equal ones at both ends and pairing the middle in order.
fn origins(old: &Array, new: &Array) -> Vec<Option<usize>> {
    let name = |v: &Value| v.as_inline_table().and_then(|t| t.get("name")).map(ToString::to_string);
    let named = new.iter().chain(old.iter()).all(|v| name(v).is_some());
    if named {
        let by_name = |v: &Value| old.iter().position(|o| name(o) == name(v));
        let renamed = |n: usize| {
            let free = old.get(n).is_some_and(|o| !new.iter().any(|v| name(v) == name(o)));
            (old.len() == new.len() && free).then_some(n)
        };
        return new.iter().enumerate().map(|(n, v)| by_name(v).or_else(|| renamed(n))).collect();
    }
    let head = old.iter().zip(new.iter()).take_while(|(a, b)| same(a, b)).count();
    let room = old.len().min(new.len()) - head;
    let tail =
        (0..room).take_while(|n| matches!((old.get(old.len() - 1 - n), new.get(new.len() - 1 - n)), (Some(a), Some(b)) if same(a, b))).count();
    (0..new.len())
        .map(|n| {
            if n < head {
                Some(n)
            } else if n >= new.len() - tail {
                Some(n + old.len() - new.len())
            } else {
                (old.len() == new.len()).then_some(n)
            }
        })
        .collect()
}

fn merge_tables(target: &mut ArrayOfTables, old: &Array, new: &Array) {
    let kept: Vec<Table> = target.iter().cloned().collect();
    target.clear();
    for (value, origin) in new.iter().zip(origins(old, new)) {
        let Some(after) = value.as_inline_table() else { continue };
        let before = origin.and_then(|n| Some((kept.get(n)?, old.get(n)?.as_inline_table()?)));
        let table = match before {
            Some((table, before)) => {
                let mut table = table.clone();
                apply(&mut table, before, after);
                table
            }
            None => fresh_table(after),
        };
        target.push(table);
    }
}

fn merge_list(target: &mut Array, old: &Array, new: &Array) {
    let kept: Vec<Value> = target.iter().cloned().collect();
    let many_lines =
        kept.iter().any(|v| v.to_string().contains('\n')) || new.iter().any(Value::is_inline_table);
    target.clear();
    for (value, origin) in new.iter().zip(origins(old, new)) {
        let before = origin.and_then(|n| Some((kept.get(n)?, old.get(n)?)));
        let merged = if let Some((kept, before)) = before {
            let mut kept = kept.clone();
            match (&mut kept, before, value) {
                (Value::InlineTable(table), Value::InlineTable(before), Value::InlineTable(after)) => {
                    apply(table, before, after);
                }
                (kept, before, value) if !same(before, value) => replace(kept, value),
                _ => {}
            }
            kept
        } else {
            let mut value = bare(value);
            let gap = if many_lines {
                "\n  "
            } else if target.is_empty() {
                ""
            } else {
                " "
            };
            value.decor_mut().set_prefix(gap);
            value
        };
        target.push_formatted(merged);
    }
    if many_lines && !target.is_empty() && !target.trailing_comma() {
        target.set_trailing_comma(true);
        target.set_trailing("\n");
    }
}

fn fresh_item(key: &str, value: &Value) -> Item {
    match value {
        Value::Array(list) if TABLE_LISTS.contains(&key) && list.iter().all(Value::is_inline_table) => {
            let mut tables = ArrayOfTables::new();
            for table in list.iter().filter_map(Value::as_inline_table) {
                tables.push(fresh_table(table));
            }
            Item::ArrayOfTables(tables)
        }
        Value::Array(list) if list.iter().any(Value::is_inline_table) => {
            let mut lines = Array::new();
            for value in list {
                let mut value = bare(value);
                value.decor_mut().set_prefix("\n  ");
                lines.push_formatted(value);
            }
            lines.set_trailing_comma(true);
            lines.set_trailing("\n");
            Item::Value(Value::Array(lines))
        }
        other => Item::Value(bare(other)),
    }
}

fn fresh_table(values: &InlineTable) -> Table {
    let mut table = Table::new();
    table.decor_mut().set_prefix("\n");
    for (key, value) in values {
        table.insert(key, fresh_item(key, value));
    }
    table
}
