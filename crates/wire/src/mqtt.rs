//! What an MQTT message says: a number, or the numbers of its JSON by their places (RFC 6901).

use crate::decode::{Frame, Sink};
use serde_json::Value;
use std::fmt::Write;

/// Numbers of one message that are taken.
const MOST: usize = 32;
/// How deep they may be nested.
const DEEPEST: usize = 8;
/// The longest message that is read.
pub const LONGEST: usize = 64 * 1024;

/// Hands on the numbers of a message; whether there was any. A retained message was said nobody knows when.
pub fn read(topic: &str, payload: &[u8], is_retained: bool, sink: &mut dyn Sink) -> bool {
    let Some(text) = std::str::from_utf8(payload).ok().filter(|text| text.len() <= LONGEST) else {
        return false;
    };
    let mut take = |name: &str, value: f64| {
        if is_retained {
            sink.once(name, value);
        } else {
            sink.value(0, name, value);
        }
    };
    let mut found = 0;
    if let Some(value) = number(text.trim()) {
        take(topic, value);
        found = 1;
    } else if let Ok(json) = serde_json::from_str::<Value>(text) {
        let mut name = format!("{topic}#");
        walk(&json, &mut name, 0, &mut found, &mut take);
    }
    if found > 0 && !is_retained {
        sink.frame(Frame::Values);
    }
    found > 0
}

/// A number, or what is on or off.
fn number(text: &str) -> Option<f64> {
    let is = |words: [&str; 2]| words.iter().any(|word| text.eq_ignore_ascii_case(word));
    match text.parse::<f64>() {
        Ok(number) => Some(number).filter(|number| number.is_finite()),
        Err(_) if is(["on", "true"]) => Some(1.0),
        Err(_) if is(["off", "false"]) => Some(0.0),
        Err(_) => None,
    }
}

fn walk(json: &Value, name: &mut String, depth: usize, found: &mut usize, take: &mut dyn FnMut(&str, f64)) {
    if depth > DEEPEST || *found >= MOST {
        return;
    }
    let length = name.len();
    let inner: &mut dyn Iterator<Item = (String, &Value)> = match json {
        Value::Object(fields) => &mut fields.iter().map(|(key, value)| (escaped(key), value)),
        Value::Array(items) => &mut items.iter().enumerate().map(|(n, value)| (n.to_string(), value)),
        Value::Number(_) | Value::Bool(_) | Value::String(_) | Value::Null => {
            let value = match json {
                Value::Number(number) => number.as_f64(),
                Value::Bool(is) => Some(f64::from(u8::from(*is))),
                Value::String(text) => number(text),
                _ => None,
            };
            if let Some(value) = value {
                *found += 1;
                take(name, value);
            }
            return;
        }
    };
    for (key, value) in inner {
        let _ = write!(name, "/{key}");
        walk(value, name, depth + 1, found, take);
        name.truncate(length);
    }
}

/// A key as a pointer has it.
fn escaped(key: &str) -> String {
    key.replace('~', "~0").replace('/', "~1")
}

/// Whether a sender is there, by what was said where its last will goes.
pub fn is_there(payload: &[u8]) -> bool {
    let said = payload.trim_ascii();
    !(said.is_empty() || [&b"offline"[..], b"false", b"0"].iter().any(|word| said.eq_ignore_ascii_case(word)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[derive(Default)]
    struct Seen(Vec<(String, f64)>, Vec<(String, f64)>, usize);

    impl Sink for Seen {
        fn value(&mut self, _: u16, name: &str, value: f64) {
            self.0.push((name.to_owned(), value));
        }
        fn frame(&mut self, _: Frame) {
            self.2 += 1;
        }
        fn once(&mut self, name: &str, value: f64) {
            self.1.push((name.to_owned(), value));
        }
    }

    fn said(payload: &str) -> Vec<(String, f64)> {
        let mut seen = Seen::default();
        assert_eq!(read("hut/gap", payload.as_bytes(), false, &mut seen), !seen.0.is_empty());
        assert_eq!(seen.2, usize::from(!seen.0.is_empty()));
        seen.0
    }

    fn list(wanted: &[(&str, f64)]) -> Vec<(String, f64)> {
        wanted.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect()
    }

    #[test]
    fn a_message_is_a_number_or_the_numbers_of_its_json() {
        for (payload, value) in [("41.5", 41.5), (" -3 ", -3.0), ("ON", 1.0), ("false", 0.0)] {
            assert_eq!(said(payload), list(&[("hut/gap", value)]), "{payload}");
        }
        let json = r#"{"cm": 41.5, "in": {"a/b": [1, "2", true, null]}, "word": "x"}"#;
        let wanted = [
            ("hut/gap#/cm", 41.5),
            ("hut/gap#/in/a~1b/0", 1.0),
            ("hut/gap#/in/a~1b/1", 2.0),
            ("hut/gap#/in/a~1b/2", 1.0),
        ];
        assert_eq!(said(json), list(&wanted));
        for nothing in ["", "x", "nan", "inf", "1e999", "{", "{}", "[]", "null"] {
            assert_eq!(said(nothing), [], "{nothing}");
        }
    }

    #[test]
    fn what_is_too_deep_too_many_or_too_long_is_left_out() {
        let deep = |levels: usize| format!("{}1{}", "[".repeat(levels), "]".repeat(levels));
        assert_eq!(said(&deep(DEEPEST)).len(), 1);
        assert_eq!(said(&deep(DEEPEST + 1)), []);
        assert_eq!(said(&deep(100_000)), []);
        assert_eq!(said(&format!("[{}0]", "1,".repeat(1000))).len(), MOST);
        assert_eq!(said(&format!("{}1", " ".repeat(LONGEST))), []);
    }

    #[test]
    fn a_retained_message_was_said_nobody_knows_when() {
        let mut seen = Seen::default();
        assert!(read("hut/gap", b"7", true, &mut seen));
        assert_eq!((seen.0.len(), seen.1, seen.2), (0, list(&[("hut/gap", 7.0)]), 0));
    }

    #[test]
    fn a_last_will_says_that_its_sender_is_gone() {
        for gone in ["offline", "Offline\n", "0", "false", "", "  "] {
            assert!(!is_there(gone.as_bytes()), "{gone:?}");
        }
        assert!(is_there(b"online") && is_there(b"1"));
    }

    proptest! {
        #[test]
        fn no_message_does_harm(payload in proptest::collection::vec(any::<u8>(), 0..200), text in ".{0,80}") {
            let mut seen = Seen::default();
            read("t", &payload, false, &mut seen);
            read("t", text.as_bytes(), true, &mut seen);
            prop_assert!(seen.0.iter().chain(&seen.1).all(|(_, value)| value.is_finite()));
        }
    }
}
