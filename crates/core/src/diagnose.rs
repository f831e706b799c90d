//! Predict, then look: from what a test move should have shown and what was seen, the most likely cause.
//!
//! Each cause says how the angles would have come out: the one that comes nearest to what was seen is named, if what
//! was expected does not come near enough by itself.

use crate::curve::{Curve, Line};
use crate::fit::Side;
use crate::unit::{Degrees, Hertz, Position, number};

/// What was heard or seen beside the angle.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Heard {
    /// Nothing: it stands still.
    #[default]
    Quiet,
    /// It is heard to buzz at the pulse.
    Buzzes,
    /// It twitches, or lights go dim.
    Twitches,
}

/// One look during a test move.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// The pulse that was sent.
    pub pulse: Position,
    /// From which side it came.
    pub from: Side,
    /// The angle that was seen.
    pub seen: Degrees,
    /// What else was heard or seen.
    pub heard: Heard,
}

/// What a test is judged by.
#[derive(Debug, Clone)]
pub struct Expected {
    /// The angle at each pulse.
    pub curve: Curve,
    /// Its zero was seen too: marks tell it. A data sheet tells only how far it turns.
    pub absolute: bool,
    /// The pulse about which another class of servo turns more or less.
    pub centre: Position,
    /// The board's frames a second, as it is taken to be.
    pub rate: Hertz,
}

/// Why it was not as expected.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cause {
    /// It was as expected.
    None,
    /// The board sends at another rate altogether.
    WrongFrequency {
        /// What it seems to send.
        rate: Hertz,
    },
    /// The board's clock is off by some percent.
    WrongClock {
        /// What it seems to send.
        rate: Hertz,
    },
    /// It turns more or less than its data sheet says.
    OtherClass {
        /// How much of what was expected.
        times: f64,
    },
    /// It turns the other way.
    Reversed,
    /// It stands differently when it comes from the other side.
    Slack {
        /// By how much.
        by: Degrees,
    },
    /// It ran into something.
    StopHit {
        /// At this pulse it did not follow any more.
        pulse: Position,
    },
    /// Its supply gives way.
    SaggingSupply,
    /// Its horn sits elsewhere.
    MovedHorn {
        /// By how much.
        by: Degrees,
    },
    /// Nothing of that fits.
    Unclear,
}

impl Cause {
    /// The name by which people speak of it.
    pub const fn name(&self) -> &'static str {
        match self {
            Self::None => "as expected",
            Self::WrongFrequency { .. } => "wrong frequency",
            Self::WrongClock { .. } => "wrong clock",
            Self::OtherClass { .. } => "another class of servo",
            Self::Reversed => "reversed",
            Self::Slack { .. } => "slack",
            Self::StopHit { .. } => "a stop hit",
            Self::SaggingSupply => "a sagging supply",
            Self::MovedHorn { .. } => "a moved horn",
            Self::Unclear => "none of the usual causes",
        }
    }

    /// What speaks for it, and what to do.
    pub fn words(&self) -> String {
        match self {
            Self::None => "it turns as it should".to_owned(),
            Self::WrongFrequency { rate } => format!(
                "as if the board sent {:.0} frames a second: check frame_hz, then measure it and correct it with ‹correct clock›",
                rate.get()
            ),
            Self::WrongClock { rate } => format!(
                "as if the board sent {:.1} frames a second: measure its rate with a meter; ‹correct clock› corrects it",
                rate.get()
            ),
            Self::OtherClass { times } => format!(
                "it turns {:.0} % of its rated travel: correct the rated data, or trust your marks",
                times * 100.0
            ),
            Self::Reversed => "it turns the other way: ‹reverse› turns its angles about".to_owned(),
            Self::Slack { by } => format!(
                "{:.1}° between the two sides: keep marks from both, or let it always arrive from one side",
                by.get()
            ),
            Self::StopHit { pulse } => format!(
                "at {:.0} µs it did not follow and buzzed: ‹stops› or ‹buzzes› backs off and sets the endpoint before that",
                pulse.get()
            ),
            Self::SaggingSupply => {
                "it falls short and twitches: give it a stronger supply, with short thick leads".to_owned()
            }
            Self::MovedHorn { by } => format!(
                "everything is {:+.1}° off: was the horn taken off and put on again? ‹horn moved› shifts the marks by that",
                by.get()
            ),
            Self::Unclear => "check the angles again, the horn's screw, and what it drives".to_owned(),
        }
    }
}

/// How far a reading may be off without anything being wrong.
const READING: f64 = 1.5;
/// The least slack that stands out of two readings.
const LEAST_SLACK: f64 = 2.0;
/// More than this is no slack any more.
const MOST_SLACK: f64 = 20.0;
/// Pulses this near to each other are one, though they were counted in ticks.
const SAME_PULSE: f64 = 6.0;
/// A clock is off by less than this; more is another frequency.
const CLOCK_WITHIN: f64 = 0.1;

/// The cause that explains best what was seen, from three looks or more.
pub fn cause(expected: &Expected, looks: &[Look]) -> Cause {
    let plain = |look: &&Look| look.heard == Heard::Quiet;
    let spans = |of: fn(&Expected, &Look) -> f64| {
        let values = looks.iter().map(|look| of(expected, look));
        values.clone().fold(f64::NEG_INFINITY, libm::fmax) - values.fold(f64::INFINITY, libm::fmin)
    };
    let (should, did) = (spans(|e, l| e.curve.angle_at(l.pulse).get()), spans(|_, l| l.seen.get()));
    if looks.iter().any(|look| look.heard == Heard::Twitches) && did < should + READING {
        return Cause::SaggingSupply;
    }
    if let Some(hit) = stop_hit(expected, looks) {
        return Cause::StopHit { pulse: hit };
    }
    let quiet: Vec<Look> = looks.iter().filter(plain).copied().collect();
    let looks = if quiet.len() >= 2 { quiet.as_slice() } else { looks };
    // What the two sides differ by is one thing, where the middle between them lies is another.
    let slack = slack(looks);
    let between: Vec<Look> = looks.iter().map(|look| look.without(slack)).collect();
    best_model(expected, &between)
        .or_else(|| slack.map(|by| Cause::Slack { by: by.abs() }))
        .unwrap_or(Cause::None)
}

impl Look {
    /// The same look with half the slack taken off, by the side it was taken from.
    fn without(&self, slack: Option<Degrees>) -> Self {
        let half = slack.unwrap_or(Degrees::ZERO) * 0.5;
        let off = match self.from {
            Side::Above => half,
            Side::Below => -half,
            Side::Unknown => Degrees::ZERO,
        };
        Self { seen: self.seen - off, ..*self }
    }
}

/// How much looks at one pulse differ by the side it came from, falling − rising.
fn slack(looks: &[Look]) -> Option<Degrees> {
    let mut pairs = looks.iter().enumerate().flat_map(|(n, a)| looks[n + 1..].iter().map(move |b| (a, b)));
    let both = pairs.find(|(a, b)| (a.pulse - b.pulse).abs().get() < SAME_PULSE && a.from != b.from);
    let by = both.map(|(a, b)| if a.from == Side::Above { a.seen - b.seen } else { b.seen - a.seen })?;
    (LEAST_SLACK..=MOST_SLACK).contains(&by.abs().get()).then_some(by)
}

/// The pulse at which it buzzed and fell short of where the others point.
fn stop_hit(expected: &Expected, looks: &[Look]) -> Option<Position> {
    let quiet: Vec<Look> = looks.iter().filter(|look| look.heard == Heard::Quiet).copied().collect();
    let (times, off) = line(expected, &quiet)?;
    let short = |look: &&Look| {
        let should = expected.curve.angle_at(look.pulse).get();
        let middle = expected.curve.angle_at(expected.centre).get();
        let missed = (times * should + off - look.seen.get()) * (should - middle).signum() * times.signum();
        look.heard == Heard::Buzzes && missed > READING
    };
    looks.iter().find(short).map(|look| look.pulse)
}

/// Slope and offset of what was seen over what was expected.
fn line(expected: &Expected, looks: &[Look]) -> Option<(f64, f64)> {
    let points: Vec<(f64, f64)> =
        looks.iter().map(|l| (expected.curve.angle_at(l.pulse).get(), l.seen.get())).collect();
    let n = number(points.len());
    let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
    let (x, y) = (mean(|p| p.0), mean(|p| p.1));
    let spread: f64 = points.iter().map(|p| (p.0 - x) * (p.0 - x)).sum();
    let product: f64 = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum();
    // Looks at one place tell no slope: as expected then.
    let times = if spread > 1.0 { product / spread } else { 1.0 };
    (!points.is_empty()).then_some((times, y - times * x))
}

/// The cause whose angles come nearest to what was seen; none where what was expected does already.
fn best_model(expected: &Expected, looks: &[Look]) -> Option<Cause> {
    let (times, off) = line(expected, looks)?;
    let curve = &expected.curve;
    let middle = curve.angle_at(expected.centre).get();
    // What a data sheet says has no zero of its own: the horn may have been put on anywhere.
    let zero = if expected.absolute { 0.0 } else { off + times * middle - middle };
    let miss = |model: &dyn Fn(Position) -> f64| {
        let squares = looks.iter().map(|l| {
            let rest = l.seen.get() - zero - model(l.pulse);
            rest * rest
        });
        libm::sqrt(squares.sum::<f64>() / number(looks.len()))
    };
    let as_expected = miss(&|p| curve.angle_at(p).get());
    if as_expected <= READING {
        return None;
    }
    if times < -0.3 {
        return Some(Cause::Reversed);
    }
    let mut models: Vec<(f64, Cause)> = Vec::new();
    let about = |p: Position| middle + times * (curve.angle_at(p).get() - middle);
    models.push((miss(&about), Cause::OtherClass { times }));
    if expected.absolute {
        let by = looks.iter().map(|l| l.seen.get() - curve.angle_at(l.pulse).get()).sum::<f64>()
            / number(looks.len());
        models.push((miss(&|p| curve.angle_at(p).get() + by), Cause::MovedHorn { by: Degrees::new(by) }));
        let factor = pulse_factor(curve, looks);
        let rate = Hertz::new(expected.rate.get() / factor);
        let clock = if libm::fabs(1.0 / factor - 1.0) < CLOCK_WITHIN {
            Cause::WrongClock { rate }
        } else {
            Cause::WrongFrequency { rate }
        };
        models.push((miss(&|p| curve.angle_at(p * factor).get()), clock));
    }
    let best = models.into_iter().min_by(|a, b| a.0.total_cmp(&b.0));
    Some(best.filter(|(miss, _)| *miss <= READING).map_or(Cause::Unclear, |(_, cause)| cause))
}

/// How much longer or shorter the pulses seem to be than they were meant.
fn pulse_factor(curve: &Curve, looks: &[Look]) -> f64 {
    let factor = |l: &Look| curve.pulse_at(l.seen) / l.pulse;
    looks.iter().map(factor).sum::<f64>() / number(looks.len())
}

/// What a sheet claims, as something to expect.
pub fn from_sheet(slope: crate::fit::RatedSlope) -> Curve {
    Curve::Line(Line::through(slope.middle, Degrees::ZERO, slope.gain))
}

/// The pulses of a test, in order, from which each of the causes can be told: to one side, back, to the other, back.
pub fn moves((low, high): (Position, Position), centre: Position) -> [(Position, Side); 4] {
    const SHARE: f64 = 0.8;
    let centre = centre.within(low, high);
    [
        (centre + (high - centre) * SHARE, Side::Below),
        (centre, Side::Above),
        (centre + (low - centre) * SHARE, Side::Above),
        (centre, Side::Below),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn expected(absolute: bool) -> Expected {
        let curve = Curve::Line(Line::through(Position::new(1500.0), Degrees::ZERO, 0.125));
        Expected { curve, absolute, centre: Position::new(1500.0), rate: Hertz::new(50.0) }
    }

    fn looks(seen: impl Fn(f64, Side) -> (f64, Heard)) -> Vec<Look> {
        let ends = (Position::new(1000.0), Position::new(2000.0));
        let look = |(pulse, from): (Position, Side)| {
            let (angle, heard) = seen(pulse.get(), from);
            Look { pulse, from, seen: Degrees::new(libm::round(angle)), heard }
        };
        moves(ends, Position::new(1500.0)).map(look).to_vec()
    }

    fn named(absolute: bool, seen: impl Fn(f64, Side) -> f64) -> &'static str {
        cause(&expected(absolute), &looks(|p, side| (seen(p, side), Heard::Quiet))).name()
    }

    #[test]
    fn a_sheet_of_150_degrees_over_900_to_2100_expects_125_over_1000_to_2000() {
        let expected = expected(false);
        let angle = |p: f64| expected.curve.angle_at(Position::new(p)).get();
        assert!((angle(2000.0) - angle(1000.0) - 125.0).abs() < 1e-9);
    }

    #[test]
    fn what_was_expected_needs_no_cause() {
        assert_eq!(named(true, |p, _| (p - 1500.0) * 0.125 + 0.7), "as expected");
        assert_eq!(named(false, |p, _| (p - 1500.0) * 0.125 + 31.0), "as expected", "a sheet has no zero");
    }

    #[test]
    fn each_cause_is_told_from_the_others() {
        let turn = |p: f64| (p - 1500.0) * 0.125;
        assert_eq!(named(true, |p, _| turn(p * 50.0 / 60.0)), "wrong frequency");
        assert_eq!(named(true, |p, _| turn(p * 25.0 / 26.1)), "wrong clock");
        assert_eq!(named(true, |p, _| turn(p) * 0.7), "another class of servo");
        assert_eq!(named(false, |p, _| turn(p) * 1.4 + 12.0), "another class of servo");
        assert_eq!(named(false, |p, _| 5.0 - turn(p)), "reversed");
        assert_eq!(named(true, |p, _| turn(p) - 14.4), "a moved horn");
        let loose = |p: f64, side| turn(p) + if side == Side::Above { 1.5 } else { -1.5 };
        assert_eq!(named(true, loose), "slack");
        let stopped =
            looks(|p, _| if turn(p) > 35.0 { (35.0, Heard::Buzzes) } else { (turn(p), Heard::Quiet) });
        assert_eq!(cause(&expected(true), &stopped), Cause::StopHit { pulse: Position::new(1900.0) });
        let sagging = looks(|p, _| (turn(p) * 0.8, if p > 1800.0 { Heard::Twitches } else { Heard::Quiet }));
        assert_eq!(cause(&expected(true), &sagging), Cause::SaggingSupply);
        let wild = looks(|p, side| (turn(p) + if side == Side::Above { 25.0 } else { -9.0 }, Heard::Quiet));
        assert_eq!(cause(&expected(true), &wild), Cause::Unclear);
    }

    #[test]
    fn a_wrong_clock_is_named_with_the_rate_that_a_meter_would_show() {
        let found = cause(&expected(true), &looks(|p, _| ((p * 25.0 / 26.1 - 1500.0) * 0.125, Heard::Quiet)));
        let Cause::WrongClock { rate } = found else { panic!("{found:?}") };
        assert!((rate.get() - 52.2).abs() < 0.4, "{rate:?}");
    }
}
