//! Which steps are too short for what they move.

use super::{Program, Segment};
use crate::sequence::track::Shape;

/// A step that asks more than a joint can do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Short {
    /// The step, laid out in line.
    pub flat: usize,
    /// The sequence that it is written in, by its place in the rig.
    pub sequence: usize,
    /// Its place there.
    pub step: usize,
    /// The servo's index.
    pub servo: usize,
    /// The move time that the joint needs, as it is to be written, in seconds.
    pub needs: f64,
    /// Nobody has said how fast it is: a usual speed is assumed.
    pub assumed: bool,
}

/// Times are written with three decimals; what is right to them is not short.
const HAIR: f64 = 5e-4;

impl Program {
    /// Every joint of every step that cannot get there in time at 100 % of the tempo, in step order.
    pub fn shorts(&self) -> &[Short] {
        self.shorts.get_or_init(|| self.shorts_at(1.0))
    }

    /// The same at another tempo, 1 being as written.
    pub fn shorts_at(&self, tempo: f64) -> Vec<Short> {
        let mut found = Vec::new();
        for track in &self.tracks {
            let Some(mover) = self.movers.get(track.servo) else { continue };
            for segment in self.segments_of(track).iter().filter(|segment| !segment.is_mark()) {
                let Some((flat, step)) = self.step_of(segment) else { continue };
                let there = segment.seconds() / tempo;
                let needs =
                    self.begins(segment).map(|from| mover.stretch_needs(segment, from)).fold(0.0, f64::max);
                if needs > there + HAIR {
                    let share =
                        if segment.seconds() > 0.0 { segment.seconds() / step.moves.seconds() } else { 1.0 };
                    found.push(Short {
                        flat,
                        sequence: step.sequence,
                        step: step.step,
                        servo: track.servo,
                        needs: needs / share * step.tempo,
                        assumed: !mover.known,
                    });
                }
            }
        }
        found.sort_by_key(|short| (short.flat, short.servo));
        found
    }

    /// The step that a stretch belongs to.
    pub fn step_of(&self, segment: &Segment) -> Option<(usize, &super::FlatStep)> {
        let flat = usize::try_from(segment.step).ok()?;
        Some((flat, self.steps.get(flat)?))
    }
}

impl super::Mover {
    /// The seconds that a stretch needs that begins at `from`.
    fn stretch_needs(&self, segment: &Segment, from: f64) -> f64 {
        let distance = segment.to - from;
        if distance == 0.0 {
            return 0.0;
        }
        let seconds = segment.seconds();
        let flows = matches!(segment.shape, Shape::Flow(..)) && seconds > 0.0;
        let joint = match segment.shape {
            Shape::Ramped(acceleration) => self.trapezoid_needs(distance, acceleration),
            // The same curve over more time: its speeds fall as that grows.
            shape if flows => shape.peak_speed(distance, seconds) * seconds / self.speed,
            Shape::Flow(..) => self.eased_needs(distance, crate::easing::Easing::Flow),
            Shape::Eased(easing) => self.eased_needs(distance, easing),
        };
        let seconds = if seconds > 0.0 { seconds } else { 1.0 };
        libm::fmax(joint, self.shaft_needs(from, segment.to, |u| segment.shape.way(distance, seconds, u)))
    }
}
