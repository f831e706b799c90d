//! A line of what is known of a servo beside what another source says.

use wasvolta_core::rig::card::Difference;

/// A line: what is known here, and what the other source says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Beside {
    /// What it is about.
    pub what: String,
    /// What is known here; empty where the other's words need the room.
    pub one: String,
    pub other: String,
    /// They say the same, or near enough.
    pub agrees: bool,
}

impl From<Difference> for Beside {
    fn from(row: Difference) -> Self {
        Self { what: row.what.to_owned(), agrees: row.agrees(), one: row.one, other: row.other }
    }
}
