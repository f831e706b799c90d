//! How far a step goes: the sizes of a nudge, and places in lists.

/// Sizes of a nudge on a servo, from small to large.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Nudge {
    Us(f64),
    Tick,
    Degree,
}

/// The nudges, in the order that , and . go through.
pub const NUDGES: [Nudge; 6] =
    [Nudge::Us(1.0), Nudge::Tick, Nudge::Us(5.0), Nudge::Us(10.0), Nudge::Degree, Nudge::Us(50.0)];

/// An index moved within a list; it stops at the ends.
pub fn moved(index: usize, by: isize, length: usize) -> usize {
    index.saturating_add_signed(by).min(length.saturating_sub(1))
}

/// The next of some, round and round.
pub fn round<T: Copy + PartialEq>(all: &[T], here: T, by: isize) -> T {
    let at = all.iter().position(|one| *one == here).unwrap_or(0);
    all.get(wrapped(at, by, all.len())).copied().unwrap_or(here)
}

/// An index moved within a list; behind the last comes the first.
pub fn wrapped(index: usize, by: isize, length: usize) -> usize {
    let length = isize::try_from(length).unwrap_or(1).max(1);
    usize::try_from((isize::try_from(index).unwrap_or(0) + by).rem_euclid(length)).unwrap_or(0)
}
