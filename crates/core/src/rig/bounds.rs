//! What the JSON Schema of a rig says beyond the shapes of its types: ranges from the one table, names and words, and
//! what one key asks of another. It refuses what [`super::check`] refuses wherever a schema can.

use super::{Flow, PortKind, Protocol};
use crate::range;
use schemars::Schema;
use schemars::transform::Transform;
use serde_json::{Value, json};

/// A format that this program reads, up to the newest.
pub(crate) struct Formats(pub(crate) u32);
/// A text is a name.
pub(crate) struct Named;
/// A text is a word by which something outside is known.
pub(crate) struct Worded;
/// A text is notes.
pub(crate) struct Noted;

impl Transform for Named {
    fn transform(&mut self, schema: &mut Schema) {
        const LETTERS: &str = r"[\p{Alphabetic}\p{N}_-]+";
        schema.insert("pattern".to_owned(), json!(format!(r"^{LETTERS}(\.{LETTERS})?$")));
        schema.insert("maxLength".to_owned(), json!(range::NAME_LENGTH));
    }
}

impl Transform for Worded {
    fn transform(&mut self, schema: &mut Schema) {
        schema.insert("pattern".to_owned(), json!(SEEN));
        schema.insert("minLength".to_owned(), json!(1));
        schema.insert("maxLength".to_owned(), json!(range::PATH_LENGTH));
    }
}

/// Text without control codes. The marks that turn the direction of reading are `check`'s alone.
const SEEN: &str = r"^[^\u0000-\u001f\u007f-\u009f]*$";

impl Transform for Noted {
    fn transform(&mut self, schema: &mut Schema) {
        schema.insert(
            "pattern".to_owned(),
            json!(r"^[^\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f]*$"),
        );
        schema.insert("maxLength".to_owned(), json!(range::NOTES_LENGTH));
    }
}

/// A rig's own name: it need not be one word.
pub(crate) fn title(schema: &mut Schema) {
    schema.insert("pattern".to_owned(), json!(SEEN));
    schema.insert("minLength".to_owned(), json!(1));
    schema.insert("maxLength".to_owned(), json!(range::NAME_LENGTH));
}

impl Transform for Formats {
    fn transform(&mut self, schema: &mut Schema) {
        schema.insert("minimum".to_owned(), json!(1));
        schema.insert("maximum".to_owned(), json!(self.0));
    }
}

/// A table without some keys.
fn without(keys: &[&str]) -> Value {
    let missing: Vec<Value> = keys.iter().map(|key| json!({ "not": { "required": [key] } })).collect();
    json!({ "allOf": missing })
}

/// Where a key has one of some values, the table is as said; left out, it is or is not as the first of them.
fn where_is(key: &str, values: &[&str], left_out_too: bool, then: &Value) -> Value {
    let is = json!({ "properties": { key: { "enum": values } } });
    let condition = if left_out_too { is } else { json!({ "allOf": [is, { "required": [key] }] }) };
    json!({ "if": condition, "then": then })
}

/// What a servo's kind asks of its other keys, and what excludes what.
pub(crate) fn servo(schema: &mut Schema) {
    kinds(schema, "marks", true);
}

/// The same of a card, whose marks stand under another key.
pub(crate) fn card(schema: &mut Schema) {
    kinds(schema, "mark", false);
}

/// What is told pulses has its places in µs, and what is smart has them in counts; nothing has both.
fn in_one_unit(is_smart: bool, marks: &str, has_plug: bool) -> Value {
    let one = |pulses: &str, counts: &str| {
        let (wanted, other) = if is_smart { (counts, pulses) } else { (pulses, counts) };
        json!({ "required": [wanted], "not": { "required": [other] } })
    };
    let keys: &[&str] = if is_smart {
        &["channel", "centre_us"]
    } else {
        &["id", "endpoints_counts", "centre_counts", "model"]
    };
    let mut must = if is_smart { vec!["endpoints_counts"] } else { vec![] };
    if has_plug {
        must.push(if is_smart { "id" } else { "channel" });
    }
    let mut all = json!({
        "required": must,
        "allOf": [without(keys)],
        "properties": {
            marks: { "items": one("pulse_us", "counts") },
            "rated": one("pulses_us", "counts"),
            "exercised": { "items": one("over_us", "over_counts") },
        },
    });
    if is_smart {
        all["properties"]["endpoints_us"] = json!({ "const": [1000, 2000] });
    }
    all
}

fn kinds(schema: &mut Schema, marks: &str, has_plug: bool) {
    let by_pulses = in_one_unit(false, marks, has_plug);
    let by_counts = in_one_unit(true, marks, has_plug);
    let aligned = where_is("seen", &["aligned"], true, &json!({ "required": ["angle_deg"] }));
    let positional = json!({
        "allOf": [without(&["arming", "draw_a"])],
        "properties": {
            "idle": { "enum": ["pulse"] },
            marks: { "items": { "allOf": [{ "properties": { "seen": { "not": { "const": "turns" } } } }, aligned] } },
        },
    });
    let turns = where_is("seen", &["turns"], false, &json!({ "required": ["rpm"] }));
    let continuous = json!({
        "allOf": [
            without(&["gear", "linkage", "rated"]),
            { "not": { "required": ["arming", "idle"], "properties": { "idle": { "const": "release" } } } },
        ],
        "properties": {
            marks: {
                "items": {
                    "required": ["seen"],
                    "allOf": [{ "properties": { "seen": { "not": { "const": "aligned" } } } }, turns],
                },
            },
        },
    });
    let accessory = json!({
        "allOf": [without(&["gear", "linkage", "rated", "arming", "centre_us"])],
        "properties": { marks: { "maxItems": 0 }, "endpoints_us": { "const": [1000, 2000] } },
    });
    let all = json!([
        where_is("kind", &["positional"], true, &by_pulses),
        where_is("kind", &["continuous"], false, &by_pulses),
        where_is("kind", &["dimmer", "on-off"], false, &by_pulses),
        where_is("kind", &["smart"], false, &by_counts),
        where_is("kind", &["positional"], true, &positional),
        where_is("kind", &["smart"], false, &positional),
        where_is("kind", &["continuous"], false, &continuous),
        where_is("kind", &["dimmer", "on-off"], false, &accessory),
        { "not": { "required": ["gear", "linkage"] } },
    ]);
    schema.insert("allOf".to_owned(), all);
}

/// What a board's chip asks of its other keys.
pub(crate) fn board(schema: &mut Schema) {
    let expander = json!({
        "required": ["address"],
        "allOf": [without(&["layout", "adapter_ms"])],
        "properties": {
            "address": {
                "not": { "const": 0x70 },
            },
        },
    });
    let smart = json!({
        "required": ["layout"],
        "allOf": [without(&["address", "frame_hz", "oscillator_hz", "signal_volts"])],
    });
    let firmata = json!({ "allOf": [without(&["address", "layout", "adapter_ms"])], "properties": { "frame_hz": { "const": 50 } } });
    let all = json!([
        where_is("chip", &["pwm-expander"], false, &expander),
        where_is("chip", &["firmata"], false, &firmata),
        where_is("chip", &["linux-pwm"], false, &without(&["address", "layout", "adapter_ms"])),
        where_is("chip", &["smart-bus"], false, &smart),
    ]);
    schema.insert("allOf".to_owned(), all);
}

/// What a port's kind asks of its other keys.
pub(crate) fn port(schema: &mut Schema) {
    let all: Vec<Value> = PortKind::ALL
        .into_iter()
        .map(|kind| {
            let row = kind.row();
            let missing = [
                ("bus_hz", row.is_shared),
                ("baud", row.has_baud),
                ("path", row.path.is_some()),
                ("login_file", kind == PortKind::Mqtt),
            ];
            let missing: Vec<&str> =
                missing.into_iter().filter(|(_, has)| !has).map(|(key, _)| key).collect();
            let mut then = if missing.is_empty() { json!({}) } else { without(&missing) };
            if row.path.is_some() {
                then["required"] = json!(["path"]);
            }
            where_is("kind", &[&word(kind)], false, &then)
        })
        .collect();
    schema.insert("allOf".to_owned(), json!(all));
}

/// A value as a file has it.
fn word(value: impl serde::Serialize) -> String {
    serde_json::to_value(value).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}

/// What a link's protocol asks of its other keys.
pub(crate) fn link(schema: &mut Schema) {
    let words = |flow| {
        // Pins of a board and lines of a chip may be either.
        let of_flow = Protocol::ALL
            .into_iter()
            .filter(move |own| own.row().flow == flow && !matches!(own, Protocol::Firmata | Protocol::Gpio));
        of_flow.map(Protocol::word).collect::<Vec<_>>()
    };
    let all_but = |one| {
        Protocol::ALL.into_iter().filter(move |own| *own != one).map(Protocol::word).collect::<Vec<_>>()
    };
    let all = json!([
        where_is("protocol", &words(Flow::Streaming), false, &without(&["heartbeat_s"])),
        where_is("protocol", &words(Flow::Event), false, &without(&["lost_after_ms", "stuck_is_lost"])),
        where_is("protocol", &all_but(Protocol::Wave), false, &without(&["wave"])),
        where_is("protocol", &all_but(Protocol::Mqtt), false, &without(&["will"])),
    ]);
    schema.insert("allOf".to_owned(), all);
}

/// A scale says its pulses in one of two ways.
pub(crate) fn scale(schema: &mut Schema) {
    let by_pulses = json!({ "allOf": [without(&["steps", "rate_hz"]), { "required": ["pulses_us"] }] });
    let by_counts = json!({ "allOf": [without(&["pulses_us"]), { "required": ["steps", "rate_hz"] }] });
    schema.insert("allOf".to_owned(), json!([{ "oneOf": [by_pulses, by_counts] }]));
}

/// What a joint's keys ask of each other.
pub(crate) fn joint(schema: &mut Schema) {
    let pair = json!({
        "if": { "required": ["steering"] },
        "then": { "required": ["with"], "properties": { "with": { "minItems": 1, "maxItems": 1 } } },
    });
    let all = json!([pair, where_is("quit", &["home-first"], false, &json!({ "required": ["home_deg"] }))]);
    schema.insert("allOf".to_owned(), all);
}

/// What an input's keys ask of each other.
pub(crate) fn input(schema: &mut Schema) {
    let bent = json!({ "required": ["curve"], "properties": { "curve": { "minItems": 1 } } });
    let in_degrees = json!({ "required": ["unit"], "properties": { "unit": { "const": "deg" } } });
    let has_positions = json!({ "required": ["switch"], "properties": { "switch": { "type": "object" } } });
    schema.insert(
        "allOf".to_owned(),
        json!([
            { "if": bent, "then": { "properties": { "expo": { "const": 0 } } } },
            { "if": has_positions, "then": without(&["centre"]) },
            { "if": in_degrees, "then": { "allOf": [
                without(&["centre", "switch"]),
                { "properties": { "deadband": { "const": 0 }, "expo": { "const": 0 }, "curve": { "maxItems": 0 } } },
            ] } },
        ]),
    );
}

/// What a mapping's keys ask of each other.
pub(crate) fn mapping(schema: &mut Schema) {
    let shares = json!({ "properties": { "from": { "minProperties": 1 } } });
    schema.insert("allOf".to_owned(), json!([shares, { "not": { "required": ["when_lost", "failsafe"] } }]));
}

/// Exactly one kind of goal, with what belongs to that.
pub(crate) fn goal(schema: &mut Schema) {
    const LISTS: [&str; 2] = ["blend", "toggle"];
    let none = json!({ "maxItems": 0 });
    let form = |key: &str, others: &[&str], is: Value| {
        let sways: Vec<&str> = ["place", "tempo_percent"].into_iter().filter(|own| *own != key).collect();
        let others = [others, &sways[..]].concat();
        let mut properties = serde_json::Map::new();
        for list in LISTS.iter().chain(&["joints"]) {
            properties.insert((*list).to_owned(), none.clone());
        }
        properties.insert(key.to_owned(), is);
        if LISTS.contains(&key) {
            properties.remove("joints");
        }
        json!({ "allOf": [without(&others), { "required": [key], "properties": properties }] })
    };
    let one_of = |goal: Value, ends: &[&str]| {
        let some = json!({ "required": ["points"], "properties": { "points": { "minItems": 1 } } });
        let one = |key: &&str| json!({ "required": [key] });
        let ways: Vec<Value> = ends.iter().map(one).chain([some]).collect();
        json!({ "allOf": [goal, { "oneOf": ways }] })
    };
    let text = || json!({ "type": "string" });
    let two = json!({ "minItems": 2, "maxItems": 2 });
    let forms = json!([
        form("joint", &["level", "rate", "levels_percent", "rates_deg_s", "over_s"], text()),
        one_of(form("level", &["joint", "rate", "angles_deg", "rates_deg_s", "over_s"], text()), &["levels_percent"]),
        one_of(form("rate", &["joint", "level", "angles_deg", "over_s"], text()), &["levels_percent", "rates_deg_s"]),
        form("blend", &["joint", "level", "rate", "angles_deg", "levels_percent", "rates_deg_s", "over_s"], json!({ "minItems": 2 })),
        { "allOf": [
            form("toggle", &["joint", "level", "rate", "angles_deg", "levels_percent", "rates_deg_s"], two),
            { "properties": { "points": none } },
        ] },
        { "allOf": [
            form("tempo_percent", &["joint", "level", "rate", "angles_deg", "levels_percent", "rates_deg_s", "over_s"], json!({})),
            { "properties": { "points": none } },
        ] },
        { "allOf": [
            form("place", &["joint", "level", "rate", "angles_deg", "levels_percent", "rates_deg_s", "over_s"], text()),
            { "properties": { "points": none } },
        ] },
    ]);
    schema.insert("allOf".to_owned(), json!([{ "oneOf": forms }]));
}

/// Points of a mapping's course: none, or two and more.
pub(crate) fn course(schema: &mut Schema) {
    schema.insert("allOf".to_owned(), json!([{ "anyOf": [{ "maxItems": 0 }, { "minItems": 2 }] }]));
}

/// Pressed or not, or a position.
pub(crate) fn at_position(schema: &mut Schema) {
    let one = |key: &str, other: &str| json!({ "allOf": [without(&[other]), { "required": [key] }] });
    schema.insert(
        "allOf".to_owned(),
        json!([{ "oneOf": [one("pressed", "position"), one("position", "pressed")] }]),
    );
}

/// One of an angle, a level and a pose.
pub(crate) fn failsafe(schema: &mut Schema) {
    let one = |key: &str, others: [&str; 2]| json!({ "allOf": [without(&others), { "required": [key] }] });
    let forms = json!([
        one("angle_deg", ["level_percent", "pose"]),
        one("level_percent", ["angle_deg", "pose"]),
        one("pose", ["angle_deg", "level_percent"]),
    ]);
    schema.insert("allOf".to_owned(), json!([{ "oneOf": forms }]));
}

/// What each thing that a press does asks for.
pub(crate) fn press(schema: &mut Schema) {
    schema.insert(
        "allOf".to_owned(),
        json!([
            where_is(
                "does",
                &["play"],
                false,
                &json!({ "allOf": [{ "required": ["sequence"] }, without(&["pose"])] })
            ),
            where_is(
                "does",
                &["keep"],
                false,
                &json!({ "allOf": [{ "required": ["pose"] }, without(&["sequence"])] })
            ),
            where_is("does", &["stop", "hold", "cut"], false, &without(&["pose", "sequence"])),
        ]),
    );
}

/// A name, where there is one.
pub(crate) fn optional_name(schema: &mut Schema) {
    Named.transform(schema);
}

/// What a sequence's keys ask of each other.
pub(crate) fn sequence(schema: &mut Schema) {
    let plain = where_is("layer", &["beside", "over"], true, &without(&["at_most_deg"]));
    schema.insert("allOf".to_owned(), json!([plain]));
}

/// A step does one thing, and has what belongs to that.
pub(crate) fn step(schema: &mut Schema) {
    const OF_POSES: [&str; 6] = ["move_s", "speed_deg_s", "accel_deg_s2", "easing", "dwell_s", "joint"];
    let one = |key: &str, others: &[&str]| json!({ "allOf": [without(others), { "required": [key] }] });
    let forms = json!([
        one("pose", &["play", "with", "wait_for"]),
        one("play", &[&["pose", "wait_for"], &OF_POSES[..]].concat()),
        one("wait_for", &[&["pose", "play", "with"], &OF_POSES[..]].concat()),
    ]);
    let one_time = json!({ "not": { "required": ["move_s", "speed_deg_s"] } });
    schema.insert("allOf".to_owned(), json!([{ "oneOf": forms }, one_time]));
}

/// A wait is for one thing, and says where a jump goes.
pub(crate) fn wait(schema: &mut Schema) {
    let test =
        |key: &str, others: &[&str]| json!({ "allOf": [without(others), { "required": ["input", key] }] });
    let forms = json!([
        test("pressed", &["above", "below", "key", "arrived_deg"]),
        test("above", &["pressed", "below", "key", "arrived_deg"]),
        test("below", &["pressed", "above", "key", "arrived_deg"]),
        { "allOf": [
            without(&["input", "pressed", "above", "below", "key"]),
            { "required": ["arrived_deg", "at_most_s"] },
        ] },
        { "allOf": [
            without(&["input", "pressed", "above", "below", "held_s", "arrived_deg"]),
            { "required": ["key"], "properties": { "key": { "maxLength": 1 } } },
        ] },
    ]);
    let jump = where_is("then", &["jump"], false, &json!({ "required": ["to", "at_most_s"] }));
    let end = where_is("then", &["end"], false, &json!({ "required": ["at_most_s"] }));
    let no_jump = where_is("then", &["go-on", "end"], true, &without(&["to"]));
    schema.insert("allOf".to_owned(), json!([{ "oneOf": forms }, jump, end, no_jump]));
}

/// What ends a loop is looked at and not waited for.
pub(crate) fn repeated(schema: &mut Schema) {
    let until = json!({ "properties": { "until": without(&["at_most_s", "then", "to", "arrived_deg"]) } });
    schema.insert("allOf".to_owned(), json!([until]));
}

/// How often: a whole number, or a parameter's name.
pub(crate) fn times(schema: &mut Schema) {
    let Some(Value::Array(forms)) = schema.get_mut("anyOf") else { return };
    for form in forms.iter_mut().filter_map(Value::as_object_mut) {
        if form.get("type") == Some(&json!("integer")) {
            form.insert("minimum".to_owned(), json!(range::ROUNDS.least));
            form.insert("maximum".to_owned(), json!(range::ROUNDS.greatest));
        }
    }
}

/// One of its three forms, and nothing of the others.
pub(crate) fn switch(schema: &mut Schema) {
    let none = json!({ "maxItems": 0 });
    let button = |on: &str, off: &str, others: [&str; 2]| json!({ "allOf": [without(&others), { "required": [on, off], "properties": { "positions": none } }] });
    let several = json!({ "minItems": 2, "maxItems": crate::switch::MOST, "uniqueItems": true });
    let positions = json!({ "allOf": [
        without(&["on_above", "off_below", "on_below", "off_above"]),
        { "required": ["positions"], "properties": { "positions": several } },
    ] });
    let forms = json!([
        button("on_above", "off_below", ["on_below", "off_above"]),
        button("on_below", "off_above", ["on_above", "off_below"]),
        positions,
    ]);
    schema.insert("allOf".to_owned(), json!([{ "oneOf": forms }]));
}

/// Points of a curve: none, or two and more, within −1 to 1.
pub(crate) fn points(schema: &mut Schema) {
    let point = json!({ "items": { "minimum": -1, "maximum": 1 } });
    schema.insert(
        "allOf".to_owned(),
        json!([{ "anyOf": [{ "maxItems": 0 }, { "minItems": 2 }] }, { "items": point }]),
    );
}

/// A ratio at which something turns: none near zero.
pub(crate) fn ratio(schema: &mut Schema) {
    schema.insert("anyOf".to_owned(), json!([{ "minimum": 0.001 }, { "maximum": -0.001 }]));
}

/// A channel that some board has.
pub(crate) fn channel(schema: &mut Schema) {
    schema.insert("maximum".to_owned(), json!(super::chip::MOST_CHANNELS - 1));
}

/// A word for each of eight bits.
pub(crate) fn faults(schema: &mut Schema) {
    schema.insert("maxItems".to_owned(), json!(8));
}

/// An id that a smart servo may have.
pub(crate) fn bus_id(schema: &mut Schema) {
    schema.insert("maximum".to_owned(), json!(super::Chip::SmartBus.channels() - 1));
}
