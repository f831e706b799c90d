//! Every question of every room, found by its name.

use crate::screen::question::Question;
use crate::screen::{everywhere, panels};

fn all() -> impl Iterator<Item = &'static Question> {
    let rooms = panels::TABLE.into_iter().flat_map(|panel| panel.questions);
    rooms.chain(everywhere::QUESTIONS).copied().flatten().copied()
}

/// The question of a name.
pub fn of(name: &str) -> Option<&'static Question> {
    all().find(|question| question.name == name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    #[test]
    fn no_two_questions_have_one_name_and_each_file_of_questions_is_in_its_rooms_row() {
        let names: Vec<&str> = all().map(|question| question.name).collect();
        for name in &names {
            assert_eq!(names.iter().filter(|other| *other == name).count(), 1, "{name}");
            assert_eq!(of(name).map(|question| question.name), Some(*name));
        }
        let rows = panels::TABLE.into_iter().map(|panel| panel.questions.len()).sum::<usize>();
        let screen = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/screen");
        assert_eq!(asking(&screen), rows + everywhere::QUESTIONS.len());
    }

    /// How many files of a folder ask something.
    fn asking(folder: &Path) -> usize {
        let entries = std::fs::read_dir(folder).unwrap().flatten().map(|entry| entry.path());
        let asks = |path: &Path| std::fs::read_to_string(path).unwrap().contains("\nquestions! {");
        entries.map(|path| if path.is_dir() { asking(&path) } else { usize::from(asks(&path)) }).sum()
    }
}
