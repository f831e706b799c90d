//! What comes in between two beats, as the stage takes it: a batch for each input, and what was heard of each link.
//!
//! A batch is all that its channel said since the last call, in fixed room. Control uses the newest value; switches, and
//! whoever watches a channel, use the rest, so that a short press between two beats is not lost.

use crate::link::Heard;
use crate::unit::Position;
use std::time::Duration;

/// The most changes of an event channel that a batch keeps in their order.
pub const EDGES: usize = 16;

/// Changes of an event channel in order; those beyond its room are counted.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Edges {
    values: [f64; EDGES],
    kept: u8,
    /// How many more there were.
    pub more: u32,
}

impl Edges {
    /// Takes one more.
    pub fn push(&mut self, value: f64) {
        match self.values.get_mut(usize::from(self.kept)) {
            Some(place) => {
                *place = value;
                self.kept += 1;
            }
            None => self.more = self.more.saturating_add(1),
        }
    }

    /// Those that are kept, oldest first.
    pub fn kept(&self) -> &[f64] {
        self.values.get(..usize::from(self.kept)).unwrap_or_default()
    }
}

/// What came over one channel since the last call. Of a channel that said nothing the count is 0, and its values mean
/// nothing.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Batch {
    /// The newest value.
    pub newest: f64,
    /// The least value.
    pub least: f64,
    /// The greatest value.
    pub greatest: f64,
    /// How many values came.
    pub count: u32,
    /// The changes in order, of a channel whose link speaks when something changes.
    pub edges: Edges,
}

impl Batch {
    /// Takes a value; of an event channel each is kept in its order.
    pub fn push(&mut self, value: f64, is_event: bool) {
        if self.count == 0 {
            (self.least, self.greatest) = (value, value);
        } else {
            (self.least, self.greatest) = (libm::fmin(self.least, value), libm::fmax(self.greatest, value));
        }
        self.newest = value;
        self.count = self.count.saturating_add(1);
        if is_event {
            self.edges.push(value);
        }
    }

    /// A batch of one value, as a channel has it that streams.
    pub fn of(value: f64) -> Self {
        let mut batch = Self::default();
        batch.push(value, false);
        batch
    }

    /// The newest value, if any came.
    pub fn value(&self) -> Option<f64> {
        (self.count > 0).then_some(self.newest)
    }
}

/// Where a servo has said that it is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Measured {
    /// The place, in µs or counts.
    pub at: Position,
    /// When it came, since the engine was started.
    pub when: Duration,
}

/// All that came in since the last call. What is missing at the end of a list said nothing.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Inflow<'a> {
    /// In the order of the plan's links.
    pub links: &'a [Heard],
    /// In the order of the plan's inputs.
    pub inputs: &'a [Batch],
    /// In the order of the plan's servos, where each has said it is since the last call.
    pub measured: &'a [Option<Measured>],
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_batch_keeps_the_newest_the_extremes_and_the_count() {
        let mut batch = Batch::default();
        assert_eq!(batch.value(), None);
        for value in [3.0, -1.0, 7.0, 2.0] {
            batch.push(value, false);
        }
        assert_eq!((batch.newest, batch.least, batch.greatest, batch.count), (2.0, -1.0, 7.0, 4));
        assert!(batch.edges.kept().is_empty(), "what streams has no edges");
    }

    #[test]
    fn a_press_between_two_beats_is_kept_and_what_is_beyond_the_room_is_counted() {
        let mut batch = Batch::default();
        for value in [1.0, 0.0] {
            batch.push(value, true);
        }
        assert_eq!((batch.edges.kept(), batch.newest), (&[1.0, 0.0][..], 0.0));
        for n in 0..100 {
            batch.push(f64::from(n % 2), true);
        }
        assert_eq!((batch.edges.kept().len(), batch.edges.more, batch.count), (EDGES, 86, 102));
    }
}
