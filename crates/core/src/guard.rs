//! The last check before the wire: endpoints, limits, speed, whole ticks.
//!
//! Works in pulses, so that it holds with a fit and without one. Which source asks makes no difference to it;
//! cut and held are the stage's.

use crate::clock::{Steps, WholeSteps};
use crate::unit::{Position, Ticks, held, single};

/// What may leave for one servo. `low ≤ high` in every pair.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Guard {
    /// Pulses that hold whatever asks.
    pub endpoints: (Position, Position),
    /// The joint's limits as pulses, where it has any.
    pub limits: (Option<Position>, Option<Position>),
    /// The steps that the output has.
    pub steps: Steps,
    /// What limits and endpoints leave free, found once.
    free: (Position, Position),
    /// The whole steps between the endpoints, found once; none where there are none.
    whole: Option<WholeSteps>,
}

/// What kept a servo from where it was asked to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stopped {
    /// A limit, at the short-pulse side.
    LimitLow,
    /// A limit, at the long-pulse side.
    LimitHigh,
    /// The low endpoint.
    EndpointLow,
    /// The high endpoint.
    EndpointHigh,
    /// What was asked is not a number.
    NotANumber,
}

impl Stopped {
    /// The words on the screen.
    pub const fn words(self) -> &'static str {
        match self {
            Self::LimitLow | Self::LimitHigh => "at its limit",
            Self::EndpointLow => "at its low endpoint",
            Self::EndpointHigh => "at its high endpoint",
            Self::NotANumber => "was asked for something that is not a number",
        }
    }
}

/// A setpoint that passed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Passed {
    /// The pulse before rounding.
    pub pulse: Position,
    /// What held it back, if anything.
    pub stopped: Option<Stopped>,
}

/// What a servo is told, in the steps of its own output: where to be, and how fast it goes there.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Setpoint {
    /// Whole steps: ticks of its clock.
    pub target: Ticks,
    /// Steps a second from where it was told to be a beat ago, 0 or more. Pulses carry none: a servo that is told by
    /// them goes to its target as fast as it can, and the speed is kept by telling it anew in every beat.
    pub speed: f32,
}

/// A target that sits on a limit is not held back by it, though the last bit may say so: so much is nothing, in µs.
pub(crate) const HAIR: f64 = 1e-6;

impl Guard {
    /// A guard between two endpoints, with limits as pulses, and the output's steps.
    pub fn new(
        endpoints: (Position, Position),
        limits: (Option<Position>, Option<Position>),
        steps: Steps,
    ) -> Self {
        let (low, high) = endpoints;
        let inner_low = limits.0.map_or(low, |l| l.within(low, high));
        let inner_high = limits.1.map_or(high, |h| h.within(low, high));
        let whole = steps.whole(low, high).ok();
        Self { endpoints, limits, steps, free: (inner_low, inner_high), whole }
    }

    /// The pulses that limits and endpoints leave free.
    pub const fn free(&self) -> (Position, Position) {
        self.free
    }

    /// `wanted`, brought inside limits and endpoints, with what held it back.
    #[inline]
    pub fn bound(&self, wanted: Position) -> (Position, Option<Stopped>) {
        let (low, high) = self.free();
        if wanted.get() < low.get() - HAIR {
            let at_limit = low > self.endpoints.0;
            (low, Some(if at_limit { Stopped::LimitLow } else { Stopped::EndpointLow }))
        } else if wanted.get() > high.get() + HAIR {
            let at_limit = high < self.endpoints.1;
            (high, Some(if at_limit { Stopped::LimitHigh } else { Stopped::EndpointHigh }))
        } else {
            (wanted.within(low, high), None)
        }
    }

    /// The whole ticks nearest to a pulse, between the endpoints.
    #[inline]
    pub fn nearest(&self, pulse: Position) -> Ticks {
        // The plan was refused at load where no tick lies between the endpoints.
        self.whole.map_or(Ticks(0), |whole| self.steps.nearest(pulse, whole))
    }

    /// What one step is worth.
    pub fn step(&self) -> Position {
        self.steps.place(Ticks(1))
    }

    /// The pulse that whole ticks are.
    #[inline]
    pub fn pulse(&self, ticks: Ticks) -> Position {
        self.steps.place(ticks)
    }

    /// What the servo is told where it stands still.
    #[inline]
    pub fn standing(&self, pulse: Position) -> Setpoint {
        Setpoint { target: self.nearest(pulse), speed: 0.0 }
    }

    /// What the servo is told on its way from one pulse to another within a beat, at so many beats a second.
    #[inline]
    pub fn going(&self, from: Position, to: Position, beats_a_second: f64) -> Setpoint {
        let speed = libm::fabs(self.steps.steps_in(to - from)) * beats_a_second;
        Setpoint { target: self.nearest(to), speed: single(speed) }
    }

    /// Brings `wanted` inside and goes there from `before` as far as `go` gets. A limit tightened
    /// past `before` closes in by such steps. What is not a number leaves the servo where it is.
    #[inline]
    pub fn pass(
        &self,
        before: Position,
        wanted: Position,
        go: impl FnOnce(Position, Position) -> Position,
    ) -> Passed {
        if !wanted.is_finite() {
            let stopped = Some(Stopped::NotANumber);
            return Passed { pulse: before, stopped };
        }
        let (target, stopped) = self.bound(wanted);
        Passed { pulse: go(before, target), stopped }
    }
}

/// From one pulse towards another, by `step` µs at most.
#[inline]
pub fn towards(from: Position, to: Position, step: f64) -> Position {
    let way = to - from;
    if way.abs().get() <= step { to } else { from + Position::new(held(way.get(), -step, step)) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::unit::Hertz;
    use proptest::prelude::*;

    fn guard() -> Guard {
        Guard::new(
            (Position::new(1000.0), Position::new(2000.0)),
            (Some(Position::new(1200.0)), None),
            crate::PwmClock::expander(Hertz::new(25e6), Hertz::new(50.0)).steps(),
        )
    }
    /// 1000 µs/s for a beat.
    const STEP: f64 = 20.0;

    fn go(from: Position, to: Position) -> Position {
        towards(from, to, STEP)
    }

    #[test]
    fn limits_come_before_endpoints_and_are_told_apart() {
        assert_eq!(guard().bound(Position::new(900.0)), (Position::new(1200.0), Some(Stopped::LimitLow)));
        assert_eq!(
            guard().bound(Position::new(2100.0)),
            (Position::new(2000.0), Some(Stopped::EndpointHigh))
        );
        assert_eq!(guard().bound(Position::new(1500.0)), (Position::new(1500.0), None));
    }

    #[test]
    fn a_limit_tightened_past_the_pulse_closes_in_at_the_speed_limit() {
        let passed = guard().pass(Position::new(1100.0), Position::new(1100.0), go);
        assert_eq!(passed.pulse, Position::new(1120.0));
        assert_eq!(passed.stopped, Some(Stopped::LimitLow));
    }

    #[test]
    fn not_a_number_leaves_the_servo_where_it_is() {
        for bad in [f64::NAN, f64::INFINITY, f64::NEG_INFINITY] {
            let passed = guard().pass(Position::new(1500.0), Position::new(bad), go);
            assert_eq!((passed.pulse, passed.stopped), (Position::new(1500.0), Some(Stopped::NotANumber)));
        }
    }

    proptest! {
        #[test]
        fn no_path_crosses_the_endpoints_or_the_speed(before in 1000.0..2000.0f64, wanted in -1e5..1e5f64) {
            let guard = guard();
            let passed = guard.pass(Position::new(before), Position::new(wanted), go);
            let sent = guard.pulse(guard.nearest(passed.pulse)).get();
            prop_assert!((1000.0..=2000.0).contains(&sent));
            prop_assert!((passed.pulse.get() - before).abs() <= 20.0 + 1e-9);
        }
    }
}
