//! Arriving from one side: a servo that has slack goes past its target and comes back, so that it always stands on
//! the same flank.

use crate::unit::Position;

/// How a servo is told to arrive.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arrival {
    /// The pulse is to rise at the end (or to fall).
    pub rising: bool,
    /// How far it goes past first.
    pub past: Position,
}

/// Where it is on its way.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Approach {
    target: Position,
    leg: Leg,
}

#[derive(Debug, Clone, Copy, PartialEq, Default)]
enum Leg {
    /// The target has not stood still yet.
    #[default]
    Following,
    /// To beyond the target.
    Past,
    /// To the target, on the right flank.
    Home,
    Arrived,
}

impl Approach {
    /// Where to go now, from `at`, to arrive at `target` as told. `free` are the pulses it may have.
    ///
    /// A target that moves is followed as it is: only one that stands can be arrived at.
    pub(super) fn aim(
        &mut self,
        at: Position,
        target: Position,
        told: Arrival,
        free: (Position, Position),
    ) -> Position {
        if target != self.target {
            *self = Self { target, leg: Leg::Following };
            return target;
        }
        let beyond = if told.rising { target - told.past } else { target + told.past }.within(free.0, free.1);
        let wrong_side = if told.rising { at >= target } else { at <= target };
        // There may be no room to go past.
        let is_beyond = (at - beyond).abs().get() < 1e-6;
        self.leg = match self.leg {
            Leg::Following if wrong_side => Leg::Past,
            Leg::Following => Leg::Home,
            Leg::Past if is_beyond => Leg::Home,
            Leg::Home if at == target => Leg::Arrived,
            leg => leg,
        };
        if self.leg == Leg::Past && target.is_finite() { beyond } else { target }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The places it visits on its way, at 20 µs a beat.
    fn way(from: f64, to: f64, rising: bool) -> Vec<f64> {
        let told = Arrival { rising, past: Position::new(30.0) };
        let free = (Position::new(1000.0), Position::new(2000.0));
        let (mut approach, mut at) = (Approach::default(), Position::new(from));
        let mut turns = Vec::new();
        let mut step = Position::ZERO;
        for _ in 0..100 {
            let aim = approach.aim(at, Position::new(to), told, free);
            let next = (aim - at).within(Position::new(-20.0), Position::new(20.0));
            if next.get() * step.get() < 0.0 || (next == Position::ZERO && step != Position::ZERO) {
                turns.push(at.get());
            }
            (at, step) = (at + next, next);
        }
        turns
    }

    #[test]
    fn it_goes_past_and_comes_back_only_where_it_must() {
        assert_eq!(way(1800.0, 1500.0, true), [1470.0, 1500.0]);
        assert_eq!(way(1200.0, 1500.0, true), [1500.0]);
        assert_eq!(way(1200.0, 1500.0, false), [1530.0, 1500.0]);
        assert_eq!(way(1200.0, 1000.0, true), [1000.0], "there is no room to go past");
    }
}
