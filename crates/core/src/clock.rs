//! The clock of a PWM output: from pulses to whole ticks and back.
//!
//! A count means nothing without its clock, so nothing else converts between the two. Which pulses are
//! allowed is the guard's business.

use crate::unit::{Degrees, Hertz, Micros, Position, Ticks, count16, held};
use thiserror::Error;

/// Counter steps a frame of the twelve-bit expander.
const EXPANDER_STEPS: f64 = 4096.0;

/// The whole steps of an output, on the scale of what hangs there: ticks of a clock in µs, or counts as they are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Steps {
    /// What one is worth.
    step: f64,
    /// Strides and steps in one of the scale's units, for every setpoint is counted in them.
    strides_a_unit: f64,
    steps_a_unit: f64,
    /// Steps between two that may be sent: one, or all of a frame for what is only on or off.
    stride: u16,
}

/// No whole step lies between the endpoints.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
#[error("no step of {step:.3} lies between {low} and {high}; widen the endpoints or raise the resolution")]
pub struct NoStepInside {
    step: f64,
    low: f64,
    high: f64,
}

/// The whole steps between two endpoints, in strides.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WholeSteps {
    least: f64,
    most: f64,
}

impl Steps {
    /// Counts of a smart servo: each is a step.
    pub const COUNTS: Self = Self { step: 1.0, strides_a_unit: 1.0, steps_a_unit: 1.0, stride: 1 };

    fn of(step: f64) -> Self {
        let steps_a_unit = 1.0 / step;
        Self { step, strides_a_unit: steps_a_unit, steps_a_unit, stride: 1 }
    }

    /// The place that so many steps are.
    pub fn place(&self, steps: Ticks) -> Position {
        Position::new(self.step * f64::from(steps.0))
    }

    /// The whole steps between two endpoints.
    ///
    /// # Errors
    /// When there is none.
    pub fn whole(&self, low: Position, high: Position) -> Result<WholeSteps, NoStepInside> {
        // A place made from whole steps must not be pushed off them by the last bit of a division, nor by the
        // six decimals that a file keeps of it.
        const HAIR: f64 = 1e-6;
        let stride = self.step * f64::from(self.stride);
        let least = libm::ceil(low.get() / stride - HAIR);
        let most = libm::floor(high.get() / stride + HAIR);
        if least > most {
            return Err(NoStepInside { step: self.step, low: low.get(), high: high.get() });
        }
        Ok(WholeSteps { least, most })
    }

    /// The whole step nearest to a place, of those between two endpoints.
    pub fn nearest(&self, at: Position, between: WholeSteps) -> Ticks {
        // Clamped before rounding, which gives the same between whole ends: halves go away from zero.
        let strides = at.get() * self.strides_a_unit;
        Ticks(count16(held(strides, between.least, between.most)) * self.stride)
    }

    /// Steps that a way between two places is, whole or not.
    #[inline]
    pub fn steps_in(&self, way: Position) -> f64 {
        way.get() * self.steps_a_unit
    }
}

/// What an output's counter really does: the length of a tick, and ticks a frame.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PwmClock {
    ticks: Steps,
    /// Ticks in a frame.
    frame: f64,
}

impl PwmClock {
    /// An exact clock: 2^`bits` ticks in a period of 1/`rate`.
    pub fn ideal(bits: u8, rate: Hertz) -> Self {
        let frame = libm::exp2(f64::from(bits));
        Self::of(1e6 / rate.get() / frame, frame)
    }

    /// The clock an expander really has when asked for `rate`: its divider is a whole number.
    pub fn expander(oscillator: Hertz, rate: Hertz) -> Self {
        let divider = f64::from(expander_prescale(oscillator, rate)) + 1.0;
        Self::of(divider / oscillator.get() * 1e6, EXPANDER_STEPS)
    }

    /// A clock that is told whole microseconds.
    pub fn micros(rate: Hertz) -> Self {
        Self::of(1.0, 1e6 / rate.get())
    }

    fn of(tick_us: f64, frame: f64) -> Self {
        Self { ticks: Steps::of(tick_us), frame }
    }

    /// The same clock for what is only on or off: no count, or the longest pulse that leaves the frame an end.
    #[must_use]
    pub fn all_or_nothing(self) -> Self {
        let stride = self.longest();
        let strides_a_unit = 1.0 / (self.ticks.step * f64::from(stride));
        Self { ticks: Steps { strides_a_unit, stride, ..self.ticks }, ..self }
    }

    /// Its ticks as steps.
    pub const fn steps(&self) -> Steps {
        self.ticks
    }

    /// Ticks of the longest pulse in a frame: one less than the frame has, so that it begins and ends.
    pub fn longest(&self) -> u16 {
        count16(self.frame - 1.0)
    }

    /// The length of one tick.
    pub const fn tick(&self) -> Micros {
        Micros::new(self.ticks.step)
    }

    /// The length of a frame.
    pub fn period(&self) -> Micros {
        self.tick() * self.frame
    }

    /// Frames a second.
    pub fn rate(&self) -> Hertz {
        Hertz::new(1e6 / self.period().get())
    }

    /// The pulse that `ticks` are.
    pub fn pulse(&self, ticks: Ticks) -> Position {
        self.ticks.place(ticks)
    }

    /// The share of a frame that a pulse is high, 0–100 %.
    pub fn duty_percent(&self, pulse: Position) -> f64 {
        pulse.micros() / self.period() * 100.0
    }

    /// The nearest whole tick, rounded inwards at the endpoints.
    ///
    /// # Errors
    /// When no tick lies within `low..=high`.
    pub fn quantise(&self, pulse: Position, low: Position, high: Position) -> Result<Ticks, NoStepInside> {
        Ok(self.ticks.nearest(pulse, self.ticks.whole(low, high)?))
    }

    /// Whole ticks that fit between two endpoints.
    pub fn steps_in(&self, low: Position, high: Position) -> f64 {
        // The hair keeps a span of exactly n ticks from being counted as n − 1.
        libm::floor((high - low).micros() / self.tick() + 1e-9)
    }

    /// The angle one tick is worth at `gain` degrees a microsecond.
    pub fn fineness(&self, gain: f64) -> Degrees {
        Degrees::new(libm::fabs(gain) * self.tick().get())
    }
}

/// The divider an expander is set to: round(osc / (4096·f)) − 1, within 3..=255 (its `PRE_SCALE` register).
pub fn expander_prescale(oscillator: Hertz, rate: Hertz) -> u8 {
    let ideal = libm::round(oscillator.get() / (EXPANDER_STEPS * rate.get())) - 1.0;
    u8::try_from(count16(ideal).clamp(3, 255)).unwrap_or(u8::MAX)
}

/// The oscillator an expander must have when `measured` is seen at its output.
pub fn oscillator_from(measured: Hertz, prescale: u8) -> Hertz {
    Hertz::new(measured.get() * EXPANDER_STEPS * (f64::from(prescale) + 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const LOW: Position = Position::new(300.0);
    const HIGH: Position = Position::new(2900.0);
    const MHZ_25: Hertz = Hertz::new(25e6);

    fn near(a: f64, b: f64, within: f64) {
        assert!((a - b).abs() <= within, "{a} is not {b} ± {within}");
    }

    #[test]
    fn a_tick_is_the_period_over_all_steps() {
        for (bits, tick) in [(8, 78.125), (10, 19.531), (12, 4.8828), (16, 0.3052)] {
            near(PwmClock::ideal(bits, Hertz::new(50.0)).tick().get(), tick, 5e-4);
        }
    }

    #[test]
    fn eight_bits_round_inwards_at_the_endpoint() {
        let clock = PwmClock::ideal(8, Hertz::new(50.0));
        let high = Position::new(2310.0);
        let ticks = clock.quantise(high, Position::new(690.0), high).unwrap();
        assert_eq!(ticks, Ticks(29));
        near(clock.pulse(Ticks(30)).get(), 2343.75, 1e-9);
    }

    #[test]
    fn the_real_clock_of_a_chip_differs_from_the_ideal_one() {
        let pulse = Position::new(1320.0);
        let ideal = PwmClock::ideal(12, Hertz::new(60.0));
        near(pulse.micros() / ideal.tick(), 324.403, 1e-3);
        near(ideal.pulse(ideal.quantise(pulse, LOW, HIGH).unwrap()).get(), 1318.36, 5e-3);
        let chip = PwmClock::expander(MHZ_25, Hertz::new(60.0));
        near(chip.tick().get(), 4.080, 1e-9);
        near(pulse.micros() / chip.tick(), 323.53, 5e-3);
        assert_eq!(chip.quantise(pulse, LOW, HIGH).unwrap(), Ticks(324));
        near(chip.pulse(Ticks(324)).get(), 1321.92, 1e-9);
    }

    #[test]
    fn the_expander_table_of_frequencies_holds() {
        let rows = [
            (50.0, 121, 4.880, 50.029, 307),
            (60.0, 101, 4.080, 59.838, 368),
            (100.0, 60, 2.440, 100.058, 615),
            (330.0, 17, 0.720, 339.084, 2083),
        ];
        for (wanted, prescale, tick, rate, ticks) in rows {
            assert_eq!(expander_prescale(MHZ_25, Hertz::new(wanted)), prescale);
            let clock = PwmClock::expander(MHZ_25, Hertz::new(wanted));
            near(clock.tick().get(), tick, 1e-9);
            near(clock.rate().get(), rate, 5e-4);
            assert_eq!(clock.quantise(Position::new(1500.0), LOW, HIGH).unwrap(), Ticks(ticks));
        }
    }

    #[test]
    fn the_power_on_divider_is_197_hz_and_307_ticks_are_381_us_there() {
        let tick = 31.0 / 25.0;
        near(1e6 / (tick * 4096.0), 197.0, 0.2);
        near(307.0 * tick, 381.0, 0.5);
    }

    #[test]
    fn counts_mean_nothing_without_rate_and_bits() {
        near(PwmClock::ideal(12, Hertz::new(50.0)).pulse(Ticks(290)).get(), 1416.02, 5e-3);
        near(PwmClock::ideal(12, Hertz::new(60.0)).pulse(Ticks(290)).get(), 1180.01, 5e-3);
    }

    #[test]
    fn a_chip_clock_that_is_off_moves_every_pulse() {
        let true_oscillator = oscillator_from(Hertz::new(52.230), 121);
        near(true_oscillator.get(), 26.1e6, 1e3);
        let tick = Micros::new(122.0 / 26.1);
        let clock = PwmClock::of(tick.get(), 4096.0);
        near(clock.rate().get(), 52.230, 5e-4);
        near(clock.pulse(Ticks(307)).get(), 1435.02, 5e-3);
        assert_eq!(clock.quantise(Position::new(1500.0), LOW, HIGH).unwrap(), Ticks(321));
    }

    #[test]
    fn duty_is_pulse_over_period() {
        near(PwmClock::ideal(12, Hertz::new(50.0)).duty_percent(Position::new(1700.0)), 8.5, 1e-9);
    }

    #[test]
    fn fineness_and_steps_follow_from_the_tick() {
        let gain = 160.0 / (2310.0 - 690.0);
        let (low, high) = (Position::new(690.0), Position::new(2310.0));
        for (bits, degrees, steps, within) in
            [(8, 7.716, 20.0, 5e-4), (12, 0.4823, 331.0, 5e-5), (16, 0.03014, 5308.0, 5e-6)]
        {
            let clock = PwmClock::ideal(bits, Hertz::new(50.0));
            near(clock.fineness(gain).get(), degrees, within);
            near(clock.steps_in(low, high), steps, 0.0);
        }
    }

    #[test]
    fn an_accessory_gets_nothing_or_up_to_all_but_a_tick_of_the_frame() {
        let lamp = PwmClock::expander(MHZ_25, Hertz::new(50.0));
        let all = lamp.pulse(Ticks(lamp.longest()));
        assert_eq!(lamp.longest(), 4095);
        let sent = |clock: PwmClock, share: f64| clock.quantise(all * share, Position::ZERO, all).unwrap();
        assert_eq!([0.0, 0.4, 1.0].map(|share| sent(lamp, share)), [Ticks(0), Ticks(1638), Ticks(4095)]);
        let relay = lamp.all_or_nothing();
        let shares = [0.0, 0.49, 0.51, 1.0];
        assert_eq!(shares.map(|share| sent(relay, share)), [Ticks(0), Ticks(0), Ticks(4095), Ticks(4095)]);
        assert_eq!(relay.pulse(Ticks(4095)), all, "what is on the wire is the same");
    }

    #[test]
    fn no_tick_inside_is_refused() {
        let clock = PwmClock::ideal(8, Hertz::new(50.0));
        assert!(clock.quantise(Position::new(1500.0), Position::new(1490.0), Position::new(1500.0)).is_err());
    }

    proptest! {
        #[test]
        fn ticks_stay_inside_the_endpoints(pulse in 0.0..4000.0f64, low in 300.0..1500.0f64, span in 10.0..1400.0f64) {
            let clock = PwmClock::expander(MHZ_25, Hertz::new(50.0));
            let (low, high) = (Position::new(low), Position::new(low + span));
            let sent = clock.pulse(clock.quantise(Position::new(pulse), low, high).unwrap());
            prop_assert!(sent.get() >= low.get() - 1e-6 && sent.get() <= high.get() + 1e-6);
        }

        #[test]
        fn a_whole_tick_survives_the_round_trip(ticks in 62u16..590) {
            let clock = PwmClock::expander(MHZ_25, Hertz::new(50.0));
            prop_assert_eq!(clock.quantise(clock.pulse(Ticks(ticks)), LOW, HIGH).unwrap(), Ticks(ticks));
        }
    }
}
