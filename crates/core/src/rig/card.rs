//! A servo card: what was found out about one servo, apart from where it was plugged in. Its file ends in
//! `.servo.toml`.

use super::{Ends, Mark, Rated, Servo};
use crate::unit::Micros;
use serde::{Deserialize, Serialize};

/// The format of the cards that this program writes.
pub const FORMAT: u32 = 1;

/// See the module.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Card {
    /// The version of the format.
    pub format: u32,
    /// What the servo was called.
    pub name: String,
    /// The day it was put on the card, as `2026-01-02`.
    pub kept: String,
    /// Its endpoints.
    pub endpoints_us: Ends<Micros>,
    /// Its centre.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre_us: Option<Micros>,
    /// What was written about it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub notes: String,
    /// What its sheet says.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rated: Option<Rated>,
    /// What was seen.
    #[serde(default, rename = "mark", skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<Mark>,
}

impl Card {
    /// The card of a servo.
    pub fn of(servo: &Servo, kept: &str) -> Self {
        Self {
            format: FORMAT,
            name: servo.name.clone(),
            kept: kept.to_owned(),
            endpoints_us: servo.endpoints_us,
            centre_us: servo.centre_us,
            notes: servo.notes.clone(),
            rated: servo.rated.clone(),
            marks: servo.marks.clone(),
        }
    }

    /// Its text.
    ///
    /// # Errors
    /// When a number in it has no form in TOML.
    pub fn text(&self) -> Result<String, toml_edit::ser::Error> {
        toml_edit::ser::to_string_pretty(self)
    }

    /// Reads one.
    ///
    /// # Errors
    /// When it is no card.
    pub fn parse(text: &str) -> Result<Self, toml_edit::de::Error> {
        toml_edit::de::from_str(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};

    #[test]
    fn a_card_keeps_what_was_found_out_and_reads_back_the_same() {
        let Loaded::Sound(rig) = load(include_str!("../../tests/data/small.rig.toml")) else { panic!() };
        let card = Card::of(&rig.servos[0], "2026-01-02");
        let text = card.text().unwrap();
        assert!(text.contains("[[mark]]") && text.contains("kept = \"2026-01-02\""), "{text}");
        assert!(!text.contains("channel") && !text.contains("board"), "{text}");
        assert_eq!(Card::parse(&text).unwrap(), card);
        assert!(Card::parse("format = 1\ncolour = 3\n").is_err());
    }
}
