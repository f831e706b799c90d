//! What the screen remembers of Wiring.

use crate::screen::pick::Pick;
use wasvolta_core::rig::{BoardId, Rig};
use wasvolta_port::scan::Scan;

/// See the module.
#[derive(Debug)]
pub struct State {
    /// The channel picked: the board, and the channel there.
    pub plug: (Pick<BoardId>, u8),
    /// What the last look has found.
    pub scan: Option<Scan>,
    /// What the serial port that was asked last has said.
    pub answer: Option<String>,
    /// By link, why its way cannot be opened, and what to try.
    pub link_troubles: Vec<Option<String>>,
    /// What is wrong with the simulated bench, as its faults are said.
    pub faults: Vec<String>,
}

impl State {
    /// At the first channel of the first board.
    pub fn new(rig: &Rig) -> Self {
        Self {
            plug: (Pick::at(&rig.boards, 0), 0),
            scan: None,
            answer: None,
            link_troubles: Vec::new(),
            faults: Vec::new(),
        }
    }
}
