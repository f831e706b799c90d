//! The JSON Schema of the rig format is made from the types and the one table of ranges; the one in the documentation is
//! that one, and it refuses what a check refuses wherever a schema can.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use schemars::Schema;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::path::Path;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::check::{Part, problems};
use wasvolta_core::rig::file::{Loaded, load};

fn is_documented(file: &str, schema: &Schema) {
    let text = serde_json::to_string_pretty(schema).unwrap() + "\n";
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(file);
    if std::env::var_os("WASVOLTA_WRITE_SCHEMA").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == text,
        "docs/{file} is not that of the types; WASVOLTA_WRITE_SCHEMA=1 cargo test writes it anew"
    );
}

#[test]
fn the_schemas_in_the_documentation_are_made_from_the_types() {
    is_documented("rig.schema.json", &schemars::schema_for!(Rig));
    is_documented("card.schema.json", &schemars::schema_for!(Card));
}

/// What a part of a schema is, behind its name and beside nothing.
fn behind<'s>(root: &'s Value, part: &'s Value) -> &'s Value {
    if let Some(name) = part["$ref"].as_str().and_then(|name| name.strip_prefix("#/$defs/")) {
        return &root["$defs"][name];
    }
    match part["anyOf"].as_array().and_then(|choices| choices.iter().find(|c| c.get("$ref").is_some())) {
        Some(choice) => behind(root, choice),
        None => part,
    }
}

fn is_number(part: &Value) -> bool {
    let kinds = match &part["type"] {
        Value::Array(kinds) => kinds.clone(),
        kind => vec![kind.clone()],
    };
    kinds.iter().any(|kind| kind == "number" || kind == "integer")
}

#[test]
fn no_number_is_without_its_range() {
    for schema in [schemars::schema_for!(Rig), schemars::schema_for!(Card)] {
        let root = schema.as_value();
        let mut tables: Vec<(&str, &Value)> =
            root["$defs"].as_object().unwrap().iter().map(|(name, part)| (name.as_str(), part)).collect();
        tables.push(("the file", root));
        let mut numbers = 0;
        for (table, part) in tables {
            for (key, said) in part["properties"].as_object().into_iter().flatten() {
                let what = behind(root, said);
                let bounded = |part: &Value| part["minimum"].is_number() && part["maximum"].is_number();
                let right = match () {
                    () if is_number(what) => bounded(said),
                    () if what["prefixItems"].is_array() => bounded(&said["items"]),
                    () if is_number(behind(root, &what["additionalProperties"])) => {
                        bounded(&said["additionalProperties"])
                    }
                    () => continue,
                };
                numbers += 1;
                assert!(right, "{table}.{key} says no range: {said}");
            }
        }
        assert!(numbers > 15, "{numbers}");
    }
}

/// Every place in a document.
fn places(value: &Value, here: String, all: &mut Vec<String>) {
    match value {
        Value::Object(table) => {
            for (key, value) in table {
                places(value, format!("{here}/{}", key.replace('~', "~0").replace('/', "~1")), all);
            }
        }
        Value::Array(list) => {
            for (n, value) in list.iter().enumerate() {
                places(value, format!("{here}/{n}"), all);
            }
        }
        _ => {}
    }
    if !here.is_empty() {
        all.push(here);
    }
}

fn without(rig: &Value, place: &str) -> Value {
    let (parent, key) = place.rsplit_once('/').unwrap();
    let mut rig = rig.clone();
    match rig.pointer_mut(parent).unwrap() {
        Value::Object(table) => drop(table.remove(&key.replace("~1", "/").replace("~0", "~"))),
        Value::Array(list) => drop(list.remove(key.parse().unwrap())),
        _ => {}
    }
    rig
}

/// The same document with one place changed: to something beyond every range, of another kind, or with more or less in
/// it.
fn changed(rig: &Value, place: &str) -> Vec<Value> {
    let with = |value: Value| {
        let mut rig = rig.clone();
        *rig.pointer_mut(place).unwrap() = value;
        rig
    };
    let mut all = vec![without(rig, place)];
    all.extend(match rig.pointer(place).unwrap() {
        Value::Number(_) => {
            [json!(1e7), json!(-1e7), json!(1e-320), json!("much"), json!(true)].map(with).to_vec()
        }
        Value::String(_) => {
            let long = "n".repeat(401);
            [json!("no such\u{7} name"), json!(""), json!(long), json!(3)].map(with).to_vec()
        }
        Value::Bool(_) => [json!("yes"), json!(1)].map(with).to_vec(),
        Value::Array(list) => {
            let more = [&list[..], &[list.last().cloned().unwrap_or(json!(1))]].concat();
            vec![with(Value::Array(more)), with(json!([])), with(json!("list"))]
        }
        Value::Object(table) => {
            let mut more = table.clone();
            more.insert("colour".to_owned(), json!(3));
            vec![with(Value::Object(more)), with(json!(7))]
        }
        Value::Null => Vec::new(),
    });
    all
}

/// What no schema can say: what a name elsewhere is, whether two are the same, which of two numbers is greater, and what
/// a mechanism can do.
const BEYOND: &[&str] = &[
    "is called",
    "a second ",
    "is not below the second",
    "is not above the low one",
    "outside the limits",
    "beyond the",
    "has address",
    "is on this port already",
    "speed is missing",
    "written there is missing",
    "stand side by side",
    "it overlaps with",
    "the register has no such bit",
    "is behind the last",
    "a smart servo needs a smart bus",
    "only smart servos hang there",
    "know addresses up to",
    "is on channel",
    "turns joint",
    "stands here twice",
    "would arrive at",
    "both ends are the same",
    "the centre is not between",
    "is a PWM expander, and",
    "between its endpoints",
    "does not fit in a frame",
    "and turns no joint",
    "outside 0 to 15",
    "is not a curve",
    "pressed and released at once",
    "level is",
    "both move",
    "the goal has no course",
    "is not a position",
    "is not a switch",
    "has 2 positions",
    "has 3 positions",
    "a press of",
    "already does",
    "cannot have a share here",
    "follows the presses of one switch",
    "not in all of these poses",
    "these poses have no joint in common",
    "is not a course",
    "is continuous: it gets a rate",
    "degrees rise",
    "this failsafe does not fit",
    "stops when its link is lost",
    // The unit of what a goal is told depends on what it names.
    "a goal that is a rate has no",
    "rate is",
    "angle is",
    "the goal has two courses",
    "has no channel",
    // What is spoken where nothing is said is the port's usual.
    "of lines of numbers sends by itself",
    "cannot be met",
    "turns back",
    "cannot close",
    "does not reach",
    "never meet",
    "no whole tick",
    "the least volts are above",
    "is labelled",
    "has no parameter",
    "each other's opposite",
    "not a servo's pulse",
];

#[test]
fn the_schema_refuses_what_a_check_refuses_wherever_a_schema_can() {
    let validator = jsonschema::validator_for(schemars::schema_for!(Rig).as_value()).unwrap();
    let (mut refused, mut both, mut strict, mut open) = (0, 0, Vec::new(), Vec::new());
    for text in [
        include_str!("../../../examples/marsh-clock.rig.toml"),
        include_str!("data/small.rig.toml"),
        include_str!("data/crane.rig.toml"),
        include_str!("data/full.rig.toml"),
    ] {
        assert!(matches!(load(text), Loaded::Sound(_)), "{:?}", load(text));
        let rig: Value = toml_edit::de::from_str(text).unwrap();
        assert!(
            validator.is_valid(&rig),
            "{:?}",
            validator.iter_errors(&rig).map(|e| e.to_string()).collect::<Vec<_>>()
        );
        let mut all = Vec::new();
        places(&rig, String::new(), &mut all);
        for place in all {
            for (n, rig) in changed(&rig, &place).into_iter().enumerate() {
                let accepts = validator.is_valid(&rig);
                let text = toml_edit::ser::to_string(&rig).unwrap();
                match load(&text) {
                    Loaded::Sound(_) if !accepts => strict.push(format!("{place} {n}")),
                    Loaded::Sound(_) => {}
                    Loaded::Problems(found) => {
                        refused += 1;
                        both += usize::from(!accepts);
                        let within = |words: &str| BEYOND.iter().any(|beyond| words.contains(beyond));
                        if accepts && !found.iter().any(|one| within(&one.message)) {
                            open.push(format!("{place} {n}: {}", found[0].message));
                        }
                    }
                    Loaded::Unreadable(_) => {
                        refused += 1;
                        both += usize::from(!accepts);
                    }
                }
            }
        }
    }
    println!("{refused} changed rigs are refused by the check, {both} of them by the schema too");
    assert!(strict.is_empty(), "the schema refuses sound rigs: {strict:#?}");
    assert!(open.is_empty(), "the schema accepts what it could refuse: {open:#?}");
    assert!(refused > 3000, "{refused}");
}

/// A number of a document with what the schema says of it.
struct Number<'s> {
    /// Where it is, as a JSON pointer.
    place: String,
    /// The table's name and the key there.
    said: (String, String),
    least: f64,
    greatest: f64,
    usual: Option<&'s Value>,
}

/// Every number of a document, each beside its schema.
fn numbers<'s>(root: &'s Value, part: &'s Value, value: &Value, here: &str, all: &mut Vec<Number<'s>>) {
    let what = behind(root, part);
    let table = part["$ref"].as_str().or_else(|| part["anyOf"][0]["$ref"].as_str()).unwrap_or("/the file");
    let table = table.rsplit('/').next().unwrap_or_default();
    for (key, said) in what["properties"].as_object().into_iter().flatten() {
        let Some(value) = value.get(key) else { continue };
        let here = format!("{here}/{key}");
        let inner = behind(root, said);
        let bounds = [said, &said["items"], &said["additionalProperties"]];
        let bounds = bounds.into_iter().find(|bounds| bounds["minimum"].is_number());
        let number = |place: String| {
            bounds.map(|bounds| Number {
                place,
                said: (table.to_owned(), key.clone()),
                least: bounds["minimum"].as_f64().unwrap(),
                greatest: bounds["maximum"].as_f64().unwrap_or(f64::MAX),
                usual: said.get("default"),
            })
        };
        match value {
            Value::Number(_) => all.extend(number(here)),
            Value::Array(list) if bounds.is_some() => {
                all.extend((0..list.len()).filter_map(|n| number(format!("{here}/{n}"))));
            }
            Value::Array(list) => {
                for (n, value) in list.iter().enumerate() {
                    numbers(root, &inner["items"], value, &format!("{here}/{n}"), all);
                }
            }
            Value::Object(table) if inner["additionalProperties"].is_object() => {
                for (name, value) in table {
                    let here = format!("{here}/{name}");
                    match value {
                        Value::Number(_) => all.extend(number(here)),
                        _ => numbers(root, &inner["additionalProperties"], value, &here, all),
                    }
                }
            }
            Value::Object(_) => numbers(root, said, value, &here, all),
            _ => {}
        }
    }
}

fn full() -> Value {
    toml_edit::de::from_str(include_str!("data/full.rig.toml")).unwrap()
}

fn numbers_of_full<'s>(root: &'s Value, full: &Value) -> Vec<Number<'s>> {
    let mut all = Vec::new();
    numbers(root, root, full, "", &mut all);
    all
}

fn read(document: &Value) -> Option<Rig> {
    toml_edit::de::from_str(&toml_edit::ser::to_string(document).unwrap()).ok()
}

/// Whether the check says that the number at a place is outside its range; a rig that cannot even be read says so too.
fn is_refused(document: &Value, place: &str) -> bool {
    let Some(rig) = read(document) else { return true };
    problems(&rig).iter().any(|problem| {
        let parts = problem.path.0.iter().map(|part| match part {
            Part::Key(key) => format!("/{key}"),
            Part::At(n) => format!("/{n}"),
        });
        parts.collect::<String>() == place && problem.message.contains(", outside ")
    })
}

#[test]
fn every_number_is_taken_at_both_ends_of_its_range_and_refused_beyond_them() {
    let schema = schemars::schema_for!(Rig);
    let full = full();
    let all = numbers_of_full(schema.as_value(), &full);
    assert!(all.len() > 90, "{}", all.len());
    // What has another range for each chip, or kind of thing, or one that is counted otherwise.
    let apart = ["channel", "levels_percent", "field", "format"];
    let mut tried = 0;
    for Number { place, said: (table, key), least, greatest, .. } in &all {
        let with = |value: f64| {
            let mut document = full.clone();
            // A count is written without a point.
            let whole = document.pointer(place).unwrap().is_i64() && value.fract() == 0.0;
            let value = if whole { format!("{value:.0}").parse().unwrap() } else { json!(value) };
            *document.pointer_mut(place).unwrap() = value;
            is_refused(&document, place)
        };
        if apart.contains(&key.as_str()) {
            continue;
        }
        tried += 1;
        assert!(!with(*least) && !with(*greatest), "{table}.{key} at {place} is {least} to {greatest}");
        let beyond = (greatest - least) * 1e-3 + 1.0;
        assert!(with(greatest + beyond), "{table}.{key} at {place} may be more than {greatest}");
        assert!(with(least - beyond), "{table}.{key} at {place} may be less than {least}");
    }
    assert!(tried > 80, "{tried}");
}

#[test]
fn the_whole_rig_of_the_tests_has_every_number_that_there_is() {
    let schema = schemars::schema_for!(Rig);
    let root = schema.as_value();
    let full = full();
    let met: BTreeSet<(String, String)> =
        numbers_of_full(root, &full).into_iter().map(|number| number.said).collect();
    for (table, part) in root["$defs"].as_object().unwrap() {
        for (key, said) in part["properties"].as_object().into_iter().flatten() {
            let bounds = [said, &said["items"], &said["additionalProperties"]];
            if bounds.iter().any(|bounds| bounds["minimum"].is_number()) {
                assert!(met.contains(&(table.clone(), key.clone())), "{table}.{key} stands nowhere in it");
            }
        }
    }
}

#[test]
fn what_is_said_to_count_where_nothing_is_written_does() {
    let schema = schemars::schema_for!(Rig);
    let full = full();
    let mut kept = BTreeSet::new();
    let mut tried = 0;
    for Number { place, said, usual, .. } in numbers_of_full(schema.as_value(), &full) {
        let Some(usual) = usual else { continue };
        // Of a list the key, not the number.
        let place = if usual.is_array() { place.rsplit_once('/').unwrap().0.to_owned() } else { place };
        let mut with = full.clone();
        *with.pointer_mut(&place).unwrap() = usual.clone();
        let (with, without) = (read(&with).unwrap(), read(&without(&full, &place)).unwrap());
        tried += 1;
        if with != without {
            kept.insert(said.1);
        }
    }
    assert!(tried > 15, "{tried}");
    // These are kept as nothing, and what counts then stands in one constant each.
    assert_eq!(
        kept,
        [
            "adapter_ms",
            "at_most_deg",
            "bus_hz",
            "error_deg",
            "lost_after_ms",
            "over_s",
            "share",
            "tempo_percent",
        ]
        .map(str::to_owned)
        .into()
    );
}

/// Hands every value of a document over.
fn each(value: &mut Value, see: &mut dyn FnMut(&mut Value)) {
    see(value);
    match value {
        Value::Array(list) => list.iter_mut().for_each(|value| each(value, see)),
        Value::Object(table) => table.values_mut().for_each(|value| each(value, see)),
        _ => {}
    }
}

#[test]
fn what_is_not_so_is_not_written() {
    let mut document = full();
    // Of a switch, *not pressed* is as much of a position as *pressed*.
    for mapping in document["mapping"].as_array_mut().unwrap() {
        mapping.as_object_mut().unwrap().remove("while");
    }
    document["mapping"].as_array_mut().unwrap().truncate(1);
    document["sequence"].as_array_mut().unwrap().truncate(0);
    document["press"].as_array_mut().unwrap().truncate(0);
    let mut turned = 0;
    each(&mut document, &mut |value| {
        if *value == Value::Bool(true) {
            *value = Value::Bool(false);
            turned += 1;
        }
    });
    assert!(turned >= 5, "the full rig has every key: {turned}");
    let rig = read(&document).unwrap();
    let mut written = wasvolta_core::rig::file::to_values(&rig).unwrap();
    each(&mut written, &mut |value| assert_ne!(*value, Value::Bool(false), "a `false` says nothing"));
}
