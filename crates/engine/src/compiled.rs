//! A rig made ready to run, once an edit: where its parts stand, what the stage runs, which channel is whose.
//!
//! It is shared by `Arc`. A snapshot carries the version of the one that it is about, so that nothing is ever drawn with
//! the parts of one rig and the state of another.

use crate::record;
use crate::snapshot::{BoardState, LinkReport, Snapshot};
use crate::wiring::Wiring;
use std::sync::Arc;
use wasvolta_core::rig::{Board, BoardId, Index, LinkId, Parts, Rig};
use wasvolta_core::stage::{LinkState, Plan};

/// See the module.
#[derive(Debug, Clone)]
pub struct Compiled {
    /// The number of the edit: later ones are greater.
    pub version: u64,
    /// The rig as edited.
    pub rig: Arc<Rig>,
    /// Where its parts stand.
    pub index: Index,
    /// What the stage runs.
    pub plan: Arc<Plan>,
    /// Which servo is which channel of which board.
    pub wiring: Wiring,
}

impl Compiled {
    /// A sound rig over the ports with boards that there are; `as_written` with its numbers as a recording has them.
    pub(crate) fn of(rig: Arc<Rig>, ports: &[String], version: u64, as_written: bool) -> Self {
        let index = Index::of(&rig);
        let written = as_written.then(|| record::as_recorded(&rig));
        let runs = written.as_ref().unwrap_or(&rig);
        let plan = Arc::new(Plan::of_parts(Parts { rig: runs, index: &index }));
        let wiring = Wiring::of(Parts { rig: &rig, index: &index }, ports);
        Self { version, rig, index, plan, wiring }
    }

    /// The rig with the places of its parts.
    pub fn parts(&self) -> Parts<'_> {
        Parts { rig: &self.rig, index: &self.index }
    }

    /// The state of a board in a snapshot; none while its port has not spoken of it yet.
    pub fn board_state<'s>(&self, snapshot: &'s Snapshot, board: BoardId) -> Option<&'s BoardState> {
        let (port, place) = self.wiring.board(board)?;
        let state = snapshot.boards.get(port)?.get(place)?;
        (state.id == board).then_some(state)
    }

    /// How a link stands in a snapshot.
    pub fn link_state<'s>(
        &self,
        snapshot: &'s Snapshot,
        link: LinkId,
    ) -> Option<(&'s LinkState, &'s LinkReport)> {
        let place = self.index.links.place(link)?;
        Some((snapshot.links.get(place)?, snapshot.reports.get(place).filter(|report| report.id == link)?))
    }

    /// Every board with its state, in rig order.
    pub fn boards<'c, 's>(
        &'c self,
        snapshot: &'s Snapshot,
    ) -> impl Iterator<Item = (&'c Board, &'s BoardState)> + use<'c, 's> {
        let state = move |board: &'c Board| Some((board, self.board_state(snapshot, board.id)?));
        self.rig.boards.iter().filter_map(state)
    }
}
