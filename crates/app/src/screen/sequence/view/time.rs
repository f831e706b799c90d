//! Where something in time is on the screen.

use crate::screen::pen::cell_of;
use wasvolta_core::sequence::{At, Program};

/// Everything that is needed to place something in time.
pub struct Time<'a> {
    pub program: &'a Program,
    /// The seconds at the left.
    pub from: f64,
    /// The same at the right.
    pub to: f64,
    /// The columns for it.
    pub wide: u16,
}

impl Time<'_> {
    /// The column of a time, where that is shown.
    pub fn shown(&self, t: f64) -> Option<u16> {
        let place = (t - self.from) / (self.to - self.from);
        (-1e-9..=1.0 + 1e-9).contains(&place).then(|| self.column(t))
    }

    /// The column of a time; beyond an edge, the edge.
    pub fn column(&self, t: f64) -> u16 {
        let place = ((t - self.from) / (self.to - self.from)).clamp(0.0, 1.0);
        cell_of(place * f64::from(self.wide - 1)).min(self.wide - 1)
    }

    /// The time of a column, in seconds.
    pub fn at(&self, column: u16) -> f64 {
        self.from + f64::from(column) / f64::from(self.wide - 1) * (self.to - self.from)
    }
}

/// Where on the line a time in seconds is.
pub fn place(t: f64) -> At {
    At::seconds_in(t)
}
