//! Keys of a document that its format does not have, all of them at once.

use super::Located;
use schemars::Schema;
use serde_json::Value as Json;
use toml_edit::{Document, Item, Key, TableLike, Value};

/// Every key that the schema does not have, in the order of the text.
pub(super) fn unknown(document: &Document<&str>, schema: &Schema) -> Vec<Located> {
    let mut found = Vec::new();
    Walk { root: schema.as_value() }.table(document.as_table(), schema.as_value(), &mut found);
    found.sort_by_key(|located| located.span.as_ref().map_or(0, |span| span.start));
    found
}

struct Walk<'s> {
    root: &'s Json,
}

impl<'s> Walk<'s> {
    /// What a part of the schema says, behind the name that it may go by, and beside the nothing that it may be.
    fn said(&self, schema: &'s Json) -> &'s Json {
        let named = schema.get("$ref").and_then(Json::as_str).and_then(|name| name.strip_prefix("#/$defs/"));
        if let Some(said) = named.and_then(|name| self.root.get("$defs")?.get(name)) {
            return said;
        }
        let choices = schema.get("anyOf").and_then(Json::as_array).map_or(&[][..], Vec::as_slice);
        match choices.iter().find(|choice| choice.get("type").and_then(Json::as_str) != Some("null")) {
            Some(choice) => self.said(choice),
            None => schema,
        }
    }

    fn table(&self, table: &dyn TableLike, schema: &'s Json, found: &mut Vec<Located>) {
        let schema = self.said(schema);
        let (keys, any) =
            (schema.get("properties").and_then(Json::as_object), schema.get("additionalProperties"));
        for (name, item) in table.iter() {
            let known = keys.and_then(|keys| keys.get(name)).or_else(|| any.filter(|any| any.is_object()));
            match (known, keys) {
                (Some(schema), _) => self.item(item, schema, found),
                (None, Some(keys)) => {
                    let span = table.get_key_value(name).and_then(|(key, _)| Key::span(key));
                    found.push(located(name, keys.keys().map(String::as_str), span));
                }
                (None, None) => {}
            }
        }
    }

    fn item(&self, item: &Item, schema: &'s Json, found: &mut Vec<Located>) {
        match item {
            Item::Table(table) => self.table(table, schema, found),
            Item::ArrayOfTables(tables) => {
                let Some(each) = self.said(schema).get("items") else { return };
                tables.iter().for_each(|table| self.table(table, each, found));
            }
            Item::Value(value) => self.value(value, schema, found),
            Item::None => {}
        }
    }

    fn value(&self, value: &Value, schema: &'s Json, found: &mut Vec<Located>) {
        match value {
            Value::InlineTable(table) => self.table(table, schema, found),
            Value::Array(list) => {
                let Some(each) = self.said(schema).get("items") else { return };
                list.iter().for_each(|value| self.value(value, each, found));
            }
            _ => {}
        }
    }
}

fn located<'k>(
    name: &str,
    keys: impl Iterator<Item = &'k str>,
    span: Option<std::ops::Range<usize>>,
) -> Located {
    let all: Vec<&str> = keys.collect();
    let near = all.iter().map(|key| (strsim::damerau_levenshtein(name, key), *key)).min();
    let help = match near {
        Some((steps, key)) if steps <= 2 => format!("write {key}"),
        _ => format!("there is: {}; or remove it", all.join(", ")),
    };
    Located { message: format!("there is no key `{name}` here"), help, span }
}
