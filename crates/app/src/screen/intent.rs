//! Something that is asked of the program: an action by its name, with answers to what it asks. Keys, the palette and
//! tests send these; so can whatever else may ask for something.
//!
//! Written as a line it is `go to pose: look`, with `;` between several answers; as JSON it is
//! `{"action": "go to pose", "answers": ["look"]}`, where an answer may be any text.

use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use std::fmt;
use std::str::FromStr;

/// See the module.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Intent {
    /// The action's name.
    pub action: String,
    /// What is answered, in the order in which it is asked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub answers: Vec<String>,
}

impl Intent {
    /// An action without answers.
    pub fn of(action: &str) -> Self {
        Self { action: action.to_owned(), answers: Vec::new() }
    }
}

impl FromStr for Intent {
    type Err = Infallible;

    fn from_str(line: &str) -> Result<Self, Infallible> {
        let (action, answers) =
            line.split_once(':').map_or((line, None), |(action, rest)| (action, Some(rest)));
        let answers = answers.into_iter().flat_map(|rest| rest.split(';')).map(|a| a.trim().to_owned());
        Ok(Self { action: action.trim().to_owned(), answers: answers.collect() })
    }
}

impl fmt::Display for Intent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.action)?;
        if !self.answers.is_empty() {
            write!(f, ": {}", self.answers.join("; "))?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_line_says_the_action_and_its_answers() {
        let read = |line: &str| line.parse::<Intent>().unwrap();
        assert_eq!(read("undo"), Intent::of("undo"));
        assert_eq!(read(" go to pose :look ").answers, ["look"]);
        let two = read("rename pose: rest; asleep");
        assert_eq!((two.action.as_str(), two.answers.len()), ("rename pose", 2));
        assert_eq!(read("fault: absent@0x40:3").answers, ["absent@0x40:3"], "a colon may stand in an answer");
    }

    proptest! {
        #[test]
        fn every_intent_comes_back_from_a_line_and_from_json(
            action in "[a-z][a-z ]{0,20}[a-z]",
            answers in proptest::collection::vec("[^;\\s][^;]{0,10}[^;\\s]", 0..4),
        ) {
            let intent = Intent { action, answers };
            prop_assert_eq!(&intent.to_string().parse::<Intent>().unwrap(), &intent);
            let json = serde_json::to_string(&intent).unwrap();
            prop_assert_eq!(&serde_json::from_str::<Intent>(&json).unwrap(), &intent);
        }
    }
}
