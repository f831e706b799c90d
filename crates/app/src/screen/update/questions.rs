//! The one table of questions: those of every room.

use super::{ask, boards, calibrate, cards, roster, sequences, wiring};
use crate::screen::question::Question;

static TABLE: [&[&Question]; 7] = [
    ask::QUESTIONS,
    boards::QUESTIONS,
    calibrate::QUESTIONS,
    cards::QUESTIONS,
    roster::QUESTIONS,
    sequences::QUESTIONS,
    wiring::QUESTIONS,
];

/// The question of a name.
pub fn of(name: &str) -> Option<&'static Question> {
    TABLE.into_iter().flatten().copied().find(|question| question.name == name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_two_questions_have_one_name_and_each_file_of_questions_is_in_the_table() {
        let names: Vec<&str> = TABLE.into_iter().flatten().map(|question| question.name).collect();
        for name in &names {
            assert_eq!(names.iter().filter(|other| *other == name).count(), 1, "{name}");
            assert_eq!(of(name).map(|question| question.name), Some(*name));
        }
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/screen/update");
        let asks = |entry: &std::fs::DirEntry| {
            std::fs::read_to_string(entry.path()).unwrap_or_default().contains("\nquestions! {")
        };
        let files = std::fs::read_dir(folder).unwrap().flatten().filter(asks).count();
        assert_eq!(files, TABLE.len());
    }
}
