//! The handles of a line that is drawn, as they stand in a window, and which of them is held.

use crate::screen::pen::cell_of;
use ratatui::layout::Rect;
use std::sync::Arc;
use wasvolta_core::rig::Rig;

/// Which line is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Line {
    /// The input's own curve.
    Curve,
    /// What a mapping makes of its sum.
    Course,
}

/// What its handles are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Grip {
    /// Points, each moved along and up or down.
    Points,
    /// The two ends, moved up or down.
    Ends,
}

/// The handles of a line as they stand in a window.
#[derive(Debug, Clone, PartialEq)]
pub struct Handles {
    pub line: Line,
    /// What they are.
    pub grip: Grip,
    /// The cells that the line is drawn into.
    pub cells: Rect,
    /// The values at their outer edges, along.
    pub x: (f64, f64),
    /// The same, up and down.
    pub y: (f64, f64),
    /// Where each handle is, in values; none where it cannot be drawn.
    pub places: Vec<Option<(f64, f64)>>,
}

impl Handles {
    /// How far from a handle it can still be taken, in cells.
    const REACH: (f64, f64) = (2.0, 1.0);

    /// The values in the middle of a cell of the window, also outside of the drawing.
    pub fn value(&self, (column, row): (u16, u16)) -> (f64, f64) {
        let across = (f64::from(column) + 0.5 - f64::from(self.cells.x)) / f64::from(self.cells.width);
        let down = (f64::from(row) + 0.5 - f64::from(self.cells.y)) / f64::from(self.cells.height);
        (self.x.0 + (self.x.1 - self.x.0) * across, self.y.1 - (self.y.1 - self.y.0) * down)
    }

    /// The cell of the window in which a handle is.
    pub fn cell(&self, n: usize) -> Option<(u16, u16)> {
        let (x, y) = self.places.get(n).copied().flatten()?;
        let across = (x - self.x.0) / (self.x.1 - self.x.0) * f64::from(self.cells.width);
        let down = (self.y.1 - y) / (self.y.1 - self.y.0) * f64::from(self.cells.height);
        let within = |at: f64, most: u16| cell_of(at.floor()).min(most.saturating_sub(1));
        Some((
            self.cells.x + within(across, self.cells.width),
            self.cells.y + within(down, self.cells.height),
        ))
    }

    /// The handle that is taken at a cell of the window, if one is near.
    pub fn nearest(&self, (column, row): (u16, u16)) -> Option<usize> {
        let away = |n: usize| {
            let (x, y) = self.cell(n)?;
            let x = (f64::from(x) - f64::from(column)).abs() / Self::REACH.0;
            let y = (f64::from(y) - f64::from(row)).abs() / Self::REACH.1;
            (x <= 1.0 && y <= 1.0).then_some((n, x + y))
        };
        (0..self.places.len()).filter_map(away).min_by(|a, b| a.1.total_cmp(&b.1)).map(|(n, _)| n)
    }
}

/// A handle that is held.
#[derive(Debug, Clone)]
pub struct Drag {
    /// The line as it was drawn when the handle was taken: what is under the pointer must not run away with the scale.
    pub handles: Handles,
    /// Which of them.
    pub place: usize,
    /// The rig as its last step left it: the next one belongs to the same edit where nothing else was edited meanwhile.
    pub left: Option<Arc<Rig>>,
}
