//! The tables of keys in the documentation of the rig format are made from the types: what a key is, what it may be, in
//! which unit, and what counts where it is left out.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use serde_json::{Value, json};
use std::fmt::Write as _;
use std::path::Path;
use wasvolta_core::rig::{Flow, Framing, Protocol, Rig};

const BEGIN: &str = "<!-- From here on made from the types. -->\n";
const END: &str = "<!-- Up to here. -->";

/// What a part of the schema is, behind its name and beside nothing.
fn behind<'s>(root: &'s Value, part: &'s Value) -> &'s Value {
    if let Some(name) = part["$ref"].as_str() {
        return &root["$defs"][name.rsplit('/').next().unwrap()];
    }
    match part["anyOf"].as_array().and_then(|choices| choices.iter().find(|c| c["type"] != "null")) {
        Some(choice) if part.get("type").is_none() => behind(root, choice),
        _ => part,
    }
}

/// A number as it is read: thousands apart.
fn number(value: &Value) -> String {
    let value = value.as_f64().unwrap();
    let text = value.abs().to_string();
    let (whole, rest) =
        text.split_once('.').map_or((text.as_str(), String::new()), |(w, r)| (w, format!(".{r}")));
    let mut apart = String::new();
    for (n, digit) in whole.chars().enumerate() {
        if n > 0 && (whole.len() - n).is_multiple_of(3) && whole.len() > 4 {
            apart.push('\u{a0}');
        }
        apart.push(digit);
    }
    format!("{}{apart}{rest}", if value < 0.0 { "−" } else { "" })
}

fn with_unit(text: &str, said: &Value) -> String {
    match said["x-unit"].as_str() {
        Some("°") => format!("{text}°"),
        Some(unit) => format!("{text} {unit}"),
        None => text.to_owned(),
    }
}

fn bounds(said: &Value, of: &Value) -> String {
    match (&of["minimum"], &of["maximum"]) {
        (Value::Null, Value::Null) => with_unit("a number", said),
        (least, Value::Null) => with_unit(&format!("from {}", number(least)), said),
        (least, greatest) => with_unit(&format!("{} to {}", number(least), number(greatest)), said),
    }
}

/// What may stand under a key.
fn may_be(root: &Value, said: &Value) -> String {
    let what = behind(root, said);
    if let Some(words) = what["oneOf"].as_array() {
        let words = words.iter().map(|word| format!("`{}`", word["const"].as_str().unwrap()));
        return words.collect::<Vec<_>>().join(", ");
    }
    if let Some(words) = what["enum"].as_array() {
        let words = words.iter().filter_map(Value::as_str).map(|word| format!("`{word}`"));
        return words.collect::<Vec<_>>().join(", ");
    }
    let kind = what["type"].as_array().map_or(&what["type"], |kinds| &kinds[0]);
    match kind.as_str() {
        Some("number" | "integer") => bounds(said, if said["maximum"].is_number() { said } else { what }),
        Some("boolean") => "`true`, `false`".to_owned(),
        Some("string") if said["pattern"].as_str().is_some_and(|p| p.contains("Alphabetic")) => {
            "a name".to_owned()
        }
        Some("string") if said["pattern"].is_string() => "words".to_owned(),
        Some("string") => "a name that there is".to_owned(),
        Some("array") if what["prefixItems"].is_array() => {
            format!("two, each {}", bounds(said, &said["items"]))
        }
        Some("array") if behind(root, &what["items"])["properties"].is_object() => "tables, below".to_owned(),
        Some("array") if what["items"]["type"] == "string" => "names that there are".to_owned(),
        Some("array") if what["items"]["type"] == "number" => {
            format!("numbers, each {}", bounds(said, &what["items"]))
        }
        Some("array") => "pairs of numbers".to_owned(),
        Some("object") if what["additionalProperties"].is_object() => {
            let each = &what["additionalProperties"];
            if behind(root, each)["properties"].is_object() {
                "a table for each name, below".to_owned()
            } else {
                format!("for each name {}", bounds(said, each))
            }
        }
        Some("object") => "a table, below".to_owned(),
        _ => "a number, or words".to_owned(),
    }
}

fn usual(said: &Value) -> String {
    match &said["default"] {
        Value::Array(list) => with_unit(&list.iter().map(number).collect::<Vec<_>>().join(" and "), said),
        Value::Null => String::new(),
        one => with_unit(&number(one), said),
    }
}

/// Writes a table and, behind it, those within it; one that was written already stands for all of its kind.
fn write(root: &Value, title: &str, table: &Value, written: &mut Vec<String>, out: &mut String) {
    let what = table["description"].as_str().unwrap_or_default();
    write!(
        out,
        "### {title}\n\n{what}\n\n| key | what it is | what it may be | left out |\n|---|---|---|---|\n"
    )
    .unwrap();
    let required: Vec<&str> =
        table["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let mut keys: Vec<(&String, &Value)> = table["properties"].as_object().unwrap().iter().collect();
    keys.sort_by_key(|(key, _)| (*key != "format", *key != "name", !required.contains(&key.as_str())));
    for (key, said) in &keys {
        let what = said["description"].as_str().unwrap_or_default().replace('\n', " ").replace('|', "\\|");
        let left = if required.contains(&key.as_str()) { "needed".to_owned() } else { usual(said) };
        writeln!(out, "| `{key}` | {what} | {} | {left} |", may_be(root, said)).unwrap();
    }
    out.push('\n');
    for (key, said) in keys {
        let what = behind(root, said);
        let inner = [what, behind(root, &what["items"]), behind(root, &what["additionalProperties"])];
        let Some(inner) = inner.into_iter().find(|inner| inner["properties"].is_object()) else { continue };
        let title = if title == "The file itself" { format!("`{key}`") } else { format!("{title} `{key}`") };
        let name = inner["description"].to_string();
        if !written.contains(&name) {
            written.push(name);
            write(root, &title, inner, written, out);
        }
    }
}

#[test]
fn the_tables_of_keys_in_the_documentation_are_made_from_the_types() {
    let schema = schemars::schema_for!(Rig);
    let mut made = String::new();
    write(schema.as_value(), "The file itself", schema.as_value(), &mut Vec::new(), &mut made);
    is_documented(BEGIN, &made);
}

#[test]
fn the_table_of_protocols_in_the_documentation_is_made_from_their_rows() {
    let mut made =
        "\n| protocol | stands on | what it is | it sends | channels |\n|---|---|---|---|---|\n".to_owned();
    for protocol in Protocol::ALL {
        let row = protocol.row();
        let on: Vec<String> =
            row.on.iter().map(|kind| format!("`{}`", json!(kind).as_str().unwrap())).collect();
        let on = if protocol == Protocol::Firmata { "a board on `serial`".to_owned() } else { on.join(", ") };
        let sends = if row.flow == Flow::Streaming { "by itself" } else { "when something changes" };
        let mut line = if row.baud > 0 { format!(", {} baud", row.baud) } else { String::new() };
        if row.framing == Framing::EightEven2 {
            line += ", even parity, two stop bits";
        }
        writeln!(made, "| `{}` | {on} | {}{line} | {sends} | {} |", row.word, row.title, row.has).unwrap();
    }
    is_documented("<!-- From here on made from the table of protocols. -->", &(made + "\n"));
}

/// What stands behind a mark in the documentation, up to the end of what is made.
fn is_documented(mark: &str, made: &str) {
    // Two tests write one file.
    static WRITING: std::sync::Mutex<()> = std::sync::Mutex::new(());
    let _alone = WRITING.lock();
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/rig-format.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let (before, rest) = text.split_once(mark).unwrap();
    let (kept, after) = rest.split_once(END).unwrap();
    if std::env::var_os("WASVOLTA_WRITE_SCHEMA").is_some() {
        std::fs::write(&path, format!("{before}{mark}\n{made}{END}{after}")).unwrap();
        return;
    }
    assert!(
        kept == format!("\n{made}"),
        "docs/rig-format.md is not that of the types; WASVOLTA_WRITE_SCHEMA=1 cargo test writes it anew"
    );
}
