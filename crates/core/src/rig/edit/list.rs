//! Servos from a list that was made elsewhere: a row each, with a name, a board and a channel.

use super::{Edited, changed, roster};
use crate::rig::{Kind, Rig};
use thiserror::Error;

/// A row of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The servo's name; the part before a dot groups.
    pub name: String,
    /// The name of the board that its plug is on.
    pub board: String,
    /// The channel there, or the id on a bus.
    pub channel: u8,
}

/// Why a text is no list of servos.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum NoList {
    /// It has no row.
    #[error("no row in it: write a name, a board and a channel in each, with commas or tabs between")]
    Empty,
    /// A row has fewer words or more.
    #[error("row {row} is not a name, a board and a channel, with commas or tabs between")]
    Words {
        /// Which row, from 1.
        row: usize,
    },
    /// A row's channel is none.
    #[error("row {row}: {said:?} is not a channel, a whole number from 0 to 255")]
    Channel {
        /// Which row, from 1.
        row: usize,
        /// What stands there.
        said: String,
    },
}

/// Reads a list: columns between commas, semicolons, tabs or spaces. A first row that ends in no number is taken as the
/// columns' names. A row of two words names no board, and means the rig's first one.
///
/// # Errors
/// With the row that does not fit.
pub fn read(text: &str, rig: &Rig) -> Result<Vec<Row>, NoList> {
    let only = rig.boards.first().map_or("", |board| board.name.as_str());
    let mut rows = Vec::new();
    let lines = text.lines().map(str::trim).enumerate().filter(|(_, line)| !line.is_empty());
    for (n, (at, line)) in lines.enumerate() {
        let row = at + 1;
        let between = |c: char| matches!(c, ',' | ';' | '\t') || c.is_whitespace();
        let words: Vec<&str> =
            line.split(between).map(|word| word.trim_matches('"')).filter(|w| !w.is_empty()).collect();
        let (name, board, said) = match words.as_slice() {
            [name, board, channel] => (*name, *board, *channel),
            [name, channel] => (*name, only, *channel),
            _ => return Err(NoList::Words { row }),
        };
        match said.parse() {
            Ok(channel) => rows.push(Row { name: name.to_owned(), board: board.to_owned(), channel }),
            Err(_) if n == 0 && said.chars().all(char::is_alphabetic) => {}
            Err(_) => return Err(NoList::Channel { row, said: said.to_owned() }),
        }
    }
    if rows.is_empty() { Err(NoList::Empty) } else { Ok(rows) }
}

/// Adds every servo of a list, or none.
///
/// # Errors
/// When one of them cannot be added: its name or channel is taken, or there is no such board.
pub fn add(rig: &Rig, rows: &[Row]) -> Edited {
    changed(rig, |rig| {
        for row in rows {
            roster::put_servo(rig, &row.name, (&row.board, row.channel), Kind::Positional);
        }
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::small;

    fn names(text: &str) -> Vec<(String, String, u8)> {
        let rows = read(text, &small()).unwrap();
        rows.into_iter().map(|row| (row.name, row.board, row.channel)).collect()
    }

    #[test]
    fn a_list_is_read_whatever_stands_between_its_columns_with_a_head_or_without() {
        let one = [("heron.tail".to_owned(), "upper".to_owned(), 9)];
        for text in [
            "heron.tail,upper,9",
            "name\tboard\tchannel\nheron.tail\tupper\t9\n",
            "\n  heron.tail ; upper ; 9\n",
            "\"heron.tail\", \"upper\", \"9\"\r\n",
            "heron.tail 9",
        ] {
            assert_eq!(names(text), one, "{text:?}");
        }
        assert_eq!(names("a,upper,9\nb,upper,10").len(), 2);
    }

    #[test]
    fn what_is_wrong_is_said_with_its_row() {
        let why = |text: &str| read(text, &small()).unwrap_err();
        assert_eq!(why(" \n"), NoList::Empty);
        assert_eq!(why("name,board,channel\n"), NoList::Empty);
        assert_eq!(why("a,upper,9\nb"), NoList::Words { row: 2 });
        assert_eq!(why("a,upper,9\n\nb,upper,x9"), NoList::Channel { row: 3, said: "x9".to_owned() });
        assert_eq!(why("a,upper,300"), NoList::Channel { row: 1, said: "300".to_owned() });
    }

    #[test]
    fn all_of_a_list_are_added_or_none() {
        let rig = small();
        let rows = read("heron.tail,upper,9\nheron.foot,upper,10\n", &rig).unwrap();
        let after = add(&rig, &rows).unwrap();
        assert_eq!(after.servos.len(), rig.servos.len() + 2);
        assert!(after.joint("heron.foot").is_some());
        let twice = read("heron.tail,upper,9\nheron.foot,upper,9\n", &rig).unwrap();
        let refused = add(&rig, &twice).unwrap_err().to_string();
        assert!(refused.contains("heron.tail") && refused.contains('9'), "{refused}");
        let nowhere = read("heron.tail,nowhere,9", &rig).unwrap();
        assert!(add(&rig, &nowhere).is_err());
    }
}
