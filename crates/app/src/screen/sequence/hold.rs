//! Where the time is laid in a window, and what of it the mouse holds.

use ratatui::layout::{Position, Rect};
use std::sync::Arc;
use wasvolta_core::rig::Rig;

/// When a step that goes to a pose begins, arrives and is over, in seconds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Edge {
    /// The step, from 0.
    pub step: usize,
    pub starts: f64,
    /// Its joints have arrived.
    pub arrives: f64,
    /// Its dwell is over.
    pub ends: f64,
}

/// Where the time is in a window.
#[derive(Debug, Clone, PartialEq)]
pub struct Laid {
    /// The cells over which it runs, from the loops down to the axis.
    pub cells: Rect,
    /// The upper of the two rows of the steps.
    pub steps: u16,
    /// The seconds in the middle of the first and the last column.
    pub time: (f64, f64),
    /// The edges that may be dragged.
    pub edges: Vec<Edge>,
}

/// What of a step is dragged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// How long it moves.
    Move,
    /// How long it stands.
    Dwell,
}

/// What is held.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Held {
    /// What is looked at.
    Cursor,
    /// An edge of a step.
    Edge(Edge, Part),
}

/// What is held, and how it was drawn when it was taken.
#[derive(Debug, Clone)]
pub struct Drag {
    /// Where the time was then.
    pub laid: Laid,
    pub held: Held,
    /// The rig as the last move of the mouse left it: the next one belongs to the same edit where nothing else was edited
    /// meanwhile.
    pub left: Option<Arc<Rig>>,
}

impl Laid {
    /// The time of a column of the window, also outside of the drawing.
    pub fn at(&self, column: u16) -> f64 {
        let (from, to) = self.time;
        let across = f64::from(column) - f64::from(self.cells.x);
        from + across / f64::from(self.cells.width.saturating_sub(1).max(1)) * (to - from)
    }

    /// What is taken at a cell: an edge of a step within a column of it, else what is looked at. Where a step does not
    /// dwell both its edges are one: its upper row has the move, the lower one the dwell, as that row says.
    pub fn taken(&self, (column, row): (u16, u16)) -> Option<Held> {
        if !self.cells.contains(Position { x: column, y: row }) {
            return None;
        }
        let lower = row == self.steps + 1;
        if row != self.steps && !lower {
            return Some(Held::Cursor);
        }
        let column_s = (self.time.1 - self.time.0) / f64::from(self.cells.width.saturating_sub(1).max(1));
        let at = self.at(column);
        let parts = self
            .edges
            .iter()
            .flat_map(|edge| [(edge, Part::Move, edge.arrives), (edge, Part::Dwell, edge.ends)]);
        let near = parts
            .map(|(edge, part, when)| (edge, part, (when - at).abs() / column_s))
            .filter(|(.., away)| *away <= 1.5)
            // Of two that are as near, the row decides.
            .min_by(|a, b| {
                let other = |part: Part| (part == Part::Dwell) != lower;
                a.2.round().total_cmp(&b.2.round()).then(other(a.1).cmp(&other(b.1)))
            });
        Some(near.map_or(Held::Cursor, |(edge, part, _)| Held::Edge(*edge, part)))
    }
}
