//! A continuous servo: the pulses at which it stands still, and how fast it turns at others.
//!
//! Made from what was seen: *starts* marks from either side bound the stop band, *turns* marks say the rate. A pulse
//! for a level in percent is [`crate::scale::Sides`]'.

use crate::fit::Side;
use crate::unit::{Position, Rpm, number};
use thiserror::Error;

/// A rate that was seen at a pulse.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Turning {
    /// The pulse, in µs.
    pub pulse: Position,
    /// Turns a minute; negative the other way.
    pub rate: Rpm,
}

/// The pulses at which it stands still.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Band {
    /// The least of them.
    pub low: Position,
    /// The greatest of them.
    pub high: Position,
}

impl Band {
    /// From where it was seen to start turning: the pulse rising towards the upper edge, falling towards the lower.
    /// Several looks at one edge are averaged.
    pub fn of(starts: &[(Position, Side)]) -> Option<Self> {
        let edge = |side: Side| {
            let seen: Vec<f64> =
                starts.iter().filter(|(_, from)| *from == side).map(|(p, _)| p.get()).collect();
            (!seen.is_empty()).then(|| Position::new(seen.iter().sum::<f64>() / number(seen.len())))
        };
        let (low, high) = (edge(Side::Above)?, edge(Side::Below)?);
        (low < high).then_some(Self { low, high })
    }

    /// Its middle, n.
    pub fn middle(&self) -> Position {
        (self.low + self.high) * 0.5
    }

    /// Half its width, b.
    pub fn half(&self) -> Position {
        (self.high - self.low) * 0.5
    }
}

/// How fast it turns at each pulse: standing still in its band, straight between what was seen, and no faster beyond
/// the outermost of a side.
#[derive(Debug, Clone, PartialEq)]
pub struct Rates {
    /// By pulse; the rate only rises or only falls.
    knots: Vec<Turning>,
    falls: bool,
}

/// Two rates that cannot both be.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum NoRates {
    /// Nothing was timed.
    #[error("no rate was timed yet: ‹test or time› times it, turn by turn")]
    None,
    /// Further from the stop it turned more slowly, by more than a stopwatch is off.
    #[error(
        "the rates turn back: {:.1} rpm at {:.0} µs and {:.1} rpm at {:.0} µs; drop or retake one",
        .0.rate.get(), .0.pulse.get(), .1.rate.get(), .1.pulse.get()
    )]
    TurnsBack(Turning, Turning),
}

/// What a stopwatch pressed by hand may be off.
const TIMED_WITHIN: f64 = 0.05;
/// Two rates as near as this are one: it turns no faster.
const SATURATED_WITHIN: f64 = 0.03;

impl Rates {
    /// From the band and the rates that were seen, in any order.
    ///
    /// # Errors
    /// When nothing was timed, or two rates contradict each other.
    pub fn of(band: Band, seen: &[Turning]) -> Result<Self, NoRates> {
        let mut knots: Vec<Turning> = seen.iter().copied().filter(|t| t.rate.is_finite()).collect();
        let outside = |t: &Turning| t.pulse < band.low || t.pulse > band.high;
        knots.retain(outside);
        if knots.is_empty() {
            return Err(NoRates::None);
        }
        let still = |pulse| Turning { pulse, rate: Rpm::ZERO };
        knots.extend([still(band.low), still(band.high)]);
        knots.sort_by(|a, b| a.pulse.get().total_cmp(&b.pulse.get()));
        let rising = knots.last().is_some_and(|t| t.rate.get() > 0.0)
            || knots.first().is_some_and(|t| t.rate.get() < 0.0);
        let sense = if rising { 1.0 } else { -1.0 };
        let bound = knots.iter().fold(0.0, |most: f64, t| most.max(t.rate.abs().get()));
        for pair in knots.windows(2) {
            if (pair[0].rate - pair[1].rate).get() * sense > TIMED_WITHIN * bound {
                return Err(NoRates::TurnsBack(pair[0], pair[1]));
            }
        }
        // What is left of a turning back is a stopwatch's: levelled, so that each rate has its pulse.
        let mut greatest = f64::NEG_INFINITY;
        for knot in &mut knots {
            greatest = greatest.max(knot.rate.get() * sense);
            knot.rate = Rpm::new(greatest * sense + 0.0);
        }
        Ok(Self { knots, falls: !rising })
    }

    /// Turns a minute at a pulse.
    pub fn rate_at(&self, pulse: Position) -> Rpm {
        let n = self.knots.partition_point(|t| t.pulse <= pulse);
        match (n.checked_sub(1).and_then(|n| self.knots.get(n)), self.knots.get(n)) {
            (Some(a), Some(b)) => a.rate + (b.rate - a.rate) * ((pulse - a.pulse) / (b.pulse - a.pulse)),
            (Some(only), None) | (None, Some(only)) => only.rate,
            (None, None) => Rpm::ZERO,
        }
    }

    /// The pulse for a rate, the one nearest to the stop; beyond what it can, that of its fastest. `stop` for no rate.
    pub fn pulse_for(&self, rate: Rpm, stop: Position) -> Position {
        let sense = if self.falls { -1.0 } else { 1.0 };
        let wanted = rate.get() * sense;
        if rate == Rpm::ZERO {
            return stop;
        }
        let reaches = |t: &&Turning| {
            if wanted > 0.0 { t.rate.get() * sense >= wanted } else { t.rate.get() * sense <= wanted }
        };
        let found = if wanted > 0.0 {
            let n = self.knots.iter().position(|t| reaches(&t));
            n.and_then(|n| Some((self.knots.get(n.checked_sub(1)?)?, self.knots.get(n)?)))
        } else {
            let n = self.knots.iter().rposition(|t| reaches(&t));
            n.and_then(|n| Some((self.knots.get(n + 1)?, self.knots.get(n)?)))
        };
        match found {
            Some((near, far)) => {
                near.pulse + (far.pulse - near.pulse) * ((rate - near.rate) / (far.rate - near.rate))
            }
            None => self.outermost(wanted > 0.0),
        }
    }

    /// The fastest it was seen to turn with longer pulses, or with shorter ones.
    pub fn fastest(&self, longer: bool) -> Rpm {
        let end = if longer { self.knots.last() } else { self.knots.first() };
        end.map_or(Rpm::ZERO, |t| t.rate)
    }

    /// Pulses with their levels in percent of the full rate of their side, from the pulse of −100 % to that of 100 %: by
    /// the rates, straight on by the last of them where none was timed as far out as that. A side on which nothing was
    /// timed is straight.
    pub fn levels(
        &self,
        (low, high): (Position, Position),
        still: (Position, Position),
    ) -> Vec<(Position, f64)> {
        let side = |longer: bool, full: Position, edge: Position| {
            let out = |t: &&Turning| if longer { t.pulse > edge } else { t.pulse < edge };
            let within = |t: &&Turning| if longer { t.pulse < full } else { t.pulse > full };
            let mut seen: Vec<Turning> = self.knots.iter().filter(out).copied().collect();
            if !longer {
                seen.reverse();
            }
            seen.insert(0, Turning { pulse: edge, rate: Rpm::ZERO });
            let last = seen.len() - 1;
            let beyond =
                seen.iter().position(|t| !within(&t) && t.pulse != edge).unwrap_or(last).max(1).min(last);
            let (a, b) = (seen[beyond.saturating_sub(1)], seen[beyond]);
            // Where the fastest was reached is known; else it goes on as it did last.
            let rate = if self.saturation(longer).is_some() {
                self.fastest(longer)
            } else if b.pulse == a.pulse {
                Rpm::ZERO
            } else {
                a.rate + (b.rate - a.rate) * ((full - a.pulse) / (b.pulse - a.pulse))
            };
            let sign = if longer { 100.0 } else { -100.0 };
            let mut levels = vec![(edge, 0.0)];
            if rate.abs().get() > 0.0 {
                let inner = seen.iter().skip(1).filter(|t| within(t));
                let level = |t: &Turning| (t.pulse, crate::unit::held(t.rate / rate, 0.0, 1.0) * sign);
                levels.extend(inner.map(level).filter(|(_, level)| libm::fabs(*level) < 100.0));
            }
            levels.push((full, sign));
            levels
        };
        let mut all = side(false, low, still.0);
        all.reverse();
        all.extend(side(true, high, still.1));
        // Each level has one pulse.
        all.dedup_by(|b, a| b.1 <= a.1 && b.1 != 0.0);
        all
    }

    /// The outermost pulse that was timed, of the longer or the shorter ones.
    fn outermost(&self, longer: bool) -> Position {
        let end = if longer { self.knots.last() } else { self.knots.first() };
        end.map_or(Position::ZERO, |t| t.pulse)
    }

    /// The pulse beyond which it turns no faster, of the longer or the shorter pulses: where the straight line of the
    /// rates before reaches the fastest. None until that was seen: two rates there, as fast as each other.
    pub fn saturation(&self, longer: bool) -> Option<Position> {
        let mut side: Vec<Turning> = self.knots.clone();
        if !longer {
            side.reverse();
        }
        let fastest = side.last().map(|t| t.rate).filter(|rate| *rate != Rpm::ZERO)?;
        let near = |t: &Turning| (t.rate - fastest).abs().get() <= SATURATED_WITHIN * fastest.abs().get();
        let first = side.iter().position(near).filter(|first| first + 1 < side.len())?;
        let reached = side.get(first)?.pulse;
        // Two points of the slope before it tell where that slope ends.
        let before = first.checked_sub(2).and_then(|n| Some((side.get(n)?, side.get(n + 1)?)));
        Some(match before {
            Some((a, b)) if b.rate != a.rate => {
                let bend = b.pulse + (b.pulse - a.pulse) * ((fastest - b.rate) / (b.rate - a.rate));
                bend.within(b.pulse, reached)
            }
            _ => reached,
        })
    }
}

/// Turns a minute from the moments at which a turn was complete, in seconds; the first press begins the first turn.
/// None before the second press.
pub fn timed(presses: &[f64]) -> Option<Rpm> {
    let turns = presses.len().checked_sub(1).filter(|turns| *turns > 0)?;
    let took = presses.last()? - presses.first()?;
    (took > 0.0).then(|| Rpm::new(60.0 * number(turns) / took))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn turning(pairs: &[(f64, f64)]) -> Vec<Turning> {
        pairs.iter().map(|&(p, r)| Turning { pulse: Position::new(p), rate: Rpm::new(r) }).collect()
    }
    const BAND: Band = Band { low: Position::new(1183.0), high: Position::new(1207.0) };

    #[test]
    fn the_band_lies_between_where_it_starts_from_either_side() {
        let starts = [(1206.0, Side::Below), (1208.0, Side::Below), (1183.0, Side::Above)]
            .map(|(p, s)| (Position::new(p), s));
        let band = Band::of(&starts).unwrap();
        assert_eq!((band, band.middle(), band.half()), (BAND, Position::new(1195.0), Position::new(12.0)));
        assert_eq!(Band::of(&starts[..2]), None, "one side is no band");
    }

    #[test]
    fn each_side_has_its_own_saturation() {
        let seen = turning(&[
            (1000.0, -20.0),
            (900.0, -29.0),
            (830.0, -29.2),
            (1300.0, 20.0),
            (1400.0, 40.0),
            (1600.0, 60.0),
            (1700.0, 60.4),
        ]);
        let rates = Rates::of(BAND, &seen).unwrap();
        let saturation = |longer| rates.saturation(longer).unwrap().get();
        assert!((saturation(true) - 1502.0).abs() < 1e-9);
        assert!((saturation(false) - 915.82).abs() < 1e-9, "the slope before it ends there");
        let few = Rates::of(BAND, &turning(&[(1000.0, -20.0), (1300.0, 20.0), (1400.0, 40.0)])).unwrap();
        assert_eq!(
            [few.saturation(true), few.saturation(false)],
            [None, None],
            "it was never seen to turn no faster"
        );
        assert_eq!((rates.fastest(true), rates.fastest(false)), (Rpm::new(60.4), Rpm::new(-29.2)));
        assert_eq!(rates.rate_at(Position::new(1350.0)), Rpm::new(30.0));
        assert_eq!(rates.rate_at(Position::new(1190.0)), Rpm::ZERO);
        assert_eq!(rates.pulse_for(Rpm::ZERO, BAND.middle()), BAND.middle());
    }

    #[test]
    fn rates_that_turn_back_are_named() {
        let seen = turning(&[(1300.0, 40.0), (1400.0, 30.0)]);
        let error = Rates::of(BAND, &seen).unwrap_err().to_string();
        assert_eq!(
            error,
            "the rates turn back: 40.0 rpm at 1300 µs and 30.0 rpm at 1400 µs; drop or retake one"
        );
        assert_eq!(Rates::of(BAND, &[]), Err(NoRates::None));
    }

    #[test]
    fn a_stopwatch_counts_turns_between_presses() {
        assert_eq!(timed(&[1.0, 3.0, 5.0]), Some(Rpm::new(30.0)));
        assert_eq!([timed(&[]), timed(&[2.0])], [None, None]);
    }

    proptest! {
        #[test]
        fn a_rate_comes_back_from_its_pulse(share in 0.01..0.99f64, falls: bool, longer: bool) {
            let sense = if falls { -1.0 } else { 1.0 };
            let seen = turning(&[(900.0, -50.0 * sense), (1050.0, -30.0 * sense), (1300.0, 22.0 * sense), (1500.0, 47.0 * sense)]);
            let rates = Rates::of(BAND, &seen).unwrap();
            let wanted = rates.fastest(longer) .get() * share;
            let pulse = rates.pulse_for(Rpm::new(wanted), BAND.middle());
            prop_assert!((rates.rate_at(pulse).get() - wanted).abs() < 1e-9);
        }
    }
}
