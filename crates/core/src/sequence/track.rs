//! One joint on a program's line of time: only the stretches in which it moves.

use super::program::Counts;
use super::{At, Program};
use crate::easing::{Easing, PLAIN_TRAPEZOID, Quintic, trapezoid, trapezoid_speed};
use crate::unit::Degrees;

/// The shape of a move.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Shape {
    /// By one of the easings, from rest to rest.
    Eased(Easing),
    /// Speeding up and slowing down at so many °/s².
    Ramped(f64),
    /// Through its ends at these speeds, in °/s.
    Flow(f64, f64),
}

/// A stretch in which a joint moves. Where it begins may depend on how often a loop has been played.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Segment {
    /// It begins to move.
    pub starts: At,
    /// It has arrived.
    pub ends: At,
    /// From where, in degrees or percent, when no loop around it has been played before.
    pub from: f64,
    /// The angle or level that it goes to, in degrees or percent.
    pub to: f64,
    /// The course between, from 0 to 1.
    pub shape: Shape,
    /// The step that it belongs to, laid out in line.
    pub step: u32,
    /// The first of its variants, and how many there are: none of most.
    pub(super) varies: u32,
    pub(super) variants: u8,
}

/// Where a stretch begins in later rounds of a loop.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Variant {
    /// How deep the loop is.
    pub slot: u8,
    /// Where its last round has left the joint.
    pub from: f64,
}

/// One joint of a program.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Track {
    /// The index of the servo that turns it.
    pub servo: usize,
    /// Where it is at the start, in degrees or percent.
    pub start: Degrees,
    /// Its stretches among all of the program's.
    pub(super) first: u32,
    pub(super) end: u32,
}

/// Where a jump has left a joint, and how many of its stretches had begun where the program went on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Left {
    at: f64,
    begun: u32,
}

impl Shape {
    /// How far a move over `distance` in `seconds` is at a share of its time, both 0–1.
    #[inline]
    pub(super) fn way(self, distance: f64, seconds: f64, u: f64) -> f64 {
        match self {
            Self::Eased(easing) => easing.at(u),
            Self::Ramped(acceleration) => trapezoid(u, ramped_peak(distance, seconds, acceleration)),
            Self::Flow(into, out) => {
                Quintic::new(0.0, distance, into * seconds, out * seconds).at(u) / distance
            }
        }
    }

    /// The greatest speed of a move over `distance` in `seconds`, without its sign.
    pub fn peak_speed(self, distance: f64, seconds: f64) -> f64 {
        let mean = libm::fabs(distance) / seconds;
        match self {
            Self::Eased(easing) => mean * easing.peak(),
            Self::Ramped(acceleration) => mean * ramped_peak(distance, seconds, acceleration),
            Self::Flow(into, out) => {
                Quintic::new(0.0, distance, into * seconds, out * seconds).peak_speed() / seconds
            }
        }
    }

    /// The greatest acceleration of it, in °/s², without its sign; infinite where the speed jumps.
    pub fn peak_acceleration(self, distance: f64, seconds: f64) -> f64 {
        let unit = libm::fabs(distance) / (seconds * seconds);
        match self {
            Self::Eased(easing) => unit * easing.peak_acceleration(),
            Self::Ramped(acceleration) => {
                let peak = ramped_peak(distance, seconds, acceleration);
                unit * peak / (1.0 - 1.0 / peak)
            }
            Self::Flow(into, out) => {
                let curve = Quintic::new(0.0, distance, into * seconds, out * seconds);
                curve.peak_acceleration() / (seconds * seconds)
            }
        }
    }
}

/// Peak over mean speed of a trapezoid with an acceleration: 2 where that is too little, and it only speeds up and slows
/// down.
fn ramped_peak(distance: f64, seconds: f64, acceleration: f64) -> f64 {
    let distance = libm::fabs(distance);
    match trapezoid_speed(distance, acceleration, seconds) {
        Some(speed) if distance > 0.0 => libm::fmin(libm::fmax(speed * seconds / distance, 1.0 + 1e-9), 2.0),
        Some(_) => PLAIN_TRAPEZOID,
        None => 2.0,
    }
}

/// How far an eased move was when it was last looked at. Joints that begin and arrive together are as far all of them, so
/// that this is worked out once for most.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Eased {
    /// Of which move, and when.
    of: (At, At, At),
    easing: Easing,
    way: f64,
}

impl Eased {
    /// The share of the way that is done at `t` of a move between two other places.
    #[inline]
    fn way(&mut self, (t, starts, ends): (At, At, At), easing: Easing) -> f64 {
        if self.of != (t, starts, ends) || self.easing != easing {
            self.work_out((t, starts, ends), easing);
        }
        self.way
    }

    #[inline(never)]
    fn work_out(&mut self, (t, starts, ends): (At, At, At), easing: Easing) {
        *self = Self { of: (t, starts, ends), easing, way: easing.at(t.share(starts, ends)) };
    }
}

impl Segment {
    /// The time that it takes, in seconds.
    pub fn seconds(&self) -> f64 {
        (self.ends - self.starts).seconds()
    }

    /// Where it is, having begun at `from`.
    #[inline]
    fn between(&self, from: f64, t: At, eased: &mut Eased) -> f64 {
        if t >= self.ends {
            return self.to;
        }
        let distance = self.to - from;
        if distance == 0.0 {
            return from;
        }
        match self.shape {
            Shape::Eased(easing) => from + distance * eased.way((t, self.starts, self.ends), easing),
            Shape::Ramped(_) | Shape::Flow(..) => self.shaped(from, distance, t),
        }
    }

    #[inline(never)]
    fn shaped(&self, from: f64, distance: f64, t: At) -> f64 {
        from + distance * self.shape.way(distance, self.seconds(), t.share(self.starts, self.ends))
    }
}

impl Program {
    /// The stretches in which a joint moves, in order.
    pub fn segments_of(&self, track: &Track) -> &[Segment] {
        let range = usize::try_from(track.first).unwrap_or(0)..usize::try_from(track.end).unwrap_or(0);
        self.segments.get(range).unwrap_or(&[])
    }

    /// Everywhere that a stretch may begin: as written, then in later rounds of the loops around it.
    pub fn begins(&self, segment: &Segment) -> impl Iterator<Item = f64> + '_ {
        let later = self.variants_of(segment).iter().map(|variant| variant.from);
        std::iter::once(segment.from).chain(later)
    }

    fn variants_of(&self, segment: &Segment) -> &[Variant] {
        let first = usize::try_from(segment.varies).unwrap_or(0);
        self.variants.get(first..first + usize::from(segment.variants)).unwrap_or(&[])
    }

    /// How many of a joint's stretches have begun at a place. `cursor` is what was found last, for the next time.
    #[inline]
    fn begun(segments: &[Segment], t: At, cursor: &mut u32) -> usize {
        let begun = |n: usize| n == 0 || segments.get(n - 1).is_some_and(|before| before.starts <= t);
        let is_last = |n: usize| segments.get(n).is_none_or(|next| t < next.starts);
        let known = usize::try_from(*cursor).unwrap_or(0);
        let n = if known <= segments.len() && begun(known) && is_last(known) {
            known
        } else if known < segments.len() && begun(known + 1) && is_last(known + 1) {
            known + 1
        } else {
            segments.partition_point(|segment| segment.starts <= t)
        };
        *cursor = u32::try_from(n).unwrap_or(0);
        n
    }

    /// Where a joint is at a place, when the loops around that have been played so often before. `cursor` is what was found
    /// last, for the next time.
    pub fn at(&self, track: &Track, t: At, counts: &Counts, cursor: &mut u32) -> Degrees {
        self.at_with(track, t, counts, cursor, &mut Eased::default())
    }

    /// The same, for one joint of several that are asked for at once.
    #[inline]
    fn at_with(&self, track: &Track, t: At, counts: &Counts, cursor: &mut u32, eased: &mut Eased) -> Degrees {
        let segments = self.segments_of(track);
        let n = Self::begun(segments, t, cursor);
        let Some(segment) = n.checked_sub(1).and_then(|n| segments.get(n)) else { return track.start };
        Degrees::new(self.within(segment, t, counts, eased))
    }

    /// The same for a joint that a jump may have left elsewhere: it is there until it moves next, and moves from there.
    #[inline]
    pub fn at_from(
        &self,
        track: &Track,
        t: At,
        counts: &Counts,
        (cursor, left): (&mut u32, &mut Option<Left>),
        eased: &mut Eased,
    ) -> Degrees {
        if left.is_none() {
            return self.at_with(track, t, counts, cursor, eased);
        }
        self.at_left(track, t, counts, (cursor, left))
    }

    #[inline(never)]
    fn at_left(
        &self,
        track: &Track,
        t: At,
        counts: &Counts,
        (cursor, left): (&mut u32, &mut Option<Left>),
    ) -> Degrees {
        let Some(Left { at, begun }) = *left else { return self.at(track, t, counts, cursor) };
        let segments = self.segments_of(track);
        let n = Self::begun(segments, t, cursor);
        let here = u32::try_from(n).unwrap_or(0);
        let segment = n.checked_sub(1).and_then(|n| segments.get(n));
        match segment {
            // It has gone back in a loop, or into one, and has not moved yet.
            _ if here <= begun => *left = Some(Left { at, begun: here }),
            Some(segment) if here == begun + 1 && segment.is_mark() => *left = Some(Left { at, begun: here }),
            Some(segment) if here == begun + 1 => {
                return Degrees::new(segment.between(at, t, &mut Eased::default()));
            }
            _ => {
                *left = None;
                return self.at(track, t, counts, cursor);
            }
        }
        Degrees::new(at)
    }

    /// What is to be kept of a joint when its program goes on at a place from one where it was `at`.
    pub fn left(&self, track: &Track, at: Degrees, to: At) -> Left {
        let begun = Self::begun(self.segments_of(track), to, &mut 0);
        Left { at: at.get(), begun: u32::try_from(begun).unwrap_or(0) }
    }

    #[inline]
    fn within(&self, segment: &Segment, t: At, counts: &Counts, eased: &mut Eased) -> f64 {
        if segment.variants == 0 {
            return segment.between(segment.from, t, eased);
        }
        self.in_a_loop(segment, t, counts, eased)
    }

    #[inline(never)]
    fn in_a_loop(&self, segment: &Segment, t: At, counts: &Counts, eased: &mut Eased) -> f64 {
        // The innermost loop that has been played before has left it where it is.
        let played =
            |variant: &&Variant| counts.get(usize::from(variant.slot)).is_some_and(|count| *count > 0);
        let from = self.variants_of(segment).iter().find(played).map_or(segment.from, |variant| variant.from);
        // A mark of where a loop begins is no way.
        if segment.is_mark() { from } else { segment.between(from, t, eased) }
    }
}

impl Segment {
    /// It only says where a joint is when a loop begins anew.
    pub const fn is_mark(&self) -> bool {
        self.step == u32::MAX
    }
}
