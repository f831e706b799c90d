//! What the screen remembers of Wiring.

use crate::screen::form::Subject;
use crate::screen::pick::Pick;
use std::sync::Arc;
use wasvolta_core::rig::{BoardId, Rig};
use wasvolta_port::scan::Scan;
use wasvolta_port::smart::errand::{Errand, Found, What};

/// See the module.
#[derive(Debug)]
pub struct State {
    /// The channel picked: the board, and the channel there.
    pub plug: (Pick<BoardId>, u8),
    /// What the last look has found.
    pub scan: Option<Scan>,
    /// What the serial port that was asked last has said.
    pub answer: Option<String>,
    /// A bus that is lent, or was last.
    pub lent: Option<Lent>,
    /// What is felt for: the servo, and how.
    pub feels: Option<Subject>,
    /// By link, why its way cannot be opened, and what to try.
    pub link_troubles: Vec<Option<String>>,
    /// What is wrong with the simulated bench, as its faults are said.
    pub faults: Vec<String>,
}

/// A bus that is lent.
#[derive(Debug)]
pub struct Lent {
    pub board: BoardId,
    pub errand: Arc<Errand>,
    /// How it ended was said.
    pub told: bool,
}

impl State {
    /// Who was found on a bus when it was lent last.
    pub fn found(&self, board: BoardId) -> Vec<Found> {
        // What was found before something was written is old news.
        let sought = |lent: &&Lent| lent.board == board && matches!(lent.errand.what, What::Seek { .. });
        let lent = self.lent.as_ref().filter(sought);
        lent.map_or_else(Vec::new, |lent| lent.errand.said().found)
    }

    /// Who was found there at an id.
    pub fn found_at(&self, board: BoardId, id: u8) -> Option<Found> {
        self.found(board).into_iter().find(|found| found.id == id)
    }

    /// At the first channel of the first board.
    pub fn new(rig: &Rig) -> Self {
        Self {
            plug: (Pick::at(&rig.boards, 0), 0),
            scan: None,
            answer: None,
            lent: None,
            feels: None,
            link_troubles: Vec::new(),
            faults: Vec::new(),
        }
    }
}
