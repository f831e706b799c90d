//! What is said about a servo from what was seen of it, each told apart from its neighbour: a stop from a servo that only
//! turns less, slack from a misreading, a turning back from a stopwatch's scatter.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use proptest::prelude::*;
use wasvolta_core::curve::{Curve, Line};
use wasvolta_core::diagnose::{Cause, Expected, Heard, Look, cause};
use wasvolta_core::fit::{Fit, NoFit, Seen, Shape, Side, odd_one};
use wasvolta_core::rate::{Band, NoRates, Rates, Turning};
use wasvolta_core::unit::{Degrees, Hertz, Position, Rpm};

const US: fn(f64) -> Position = Position::new;
const DEG: fn(f64) -> Degrees = Degrees::new;

/// A servo that is expected to turn `gain` degrees for a microsecond about 1500 µs.
fn expected(gain: f64, absolute: bool) -> Expected {
    Expected {
        curve: Curve::Line(Line::through(US(1500.0), DEG(0.0), gain)),
        absolute,
        centre: US(1500.0),
        rate: Hertz::new(50.0),
    }
}

fn look(pulse: f64, from: Side, seen: f64, heard: Heard) -> Look {
    Look { pulse: US(pulse), from, seen: DEG(seen), heard }
}

/// Degrees for a microsecond, either way.
fn gain() -> impl Strategy<Value = f64> {
    prop_oneof![0.06..0.15f64, -0.15..-0.06f64]
}

proptest! {
    /// However the servo turns, wherever its horn sits and whichever end is meant: where it buzzes and is short of where
    /// the others point, it was stopped; where it buzzes and is not short, it was not.
    #[test]
    fn a_stop_is_where_it_buzzes_and_is_short(
        gain in gain(), times in 0.6..1.4f64, horn in -40.0..40.0f64, upper in proptest::bool::ANY, short in -8.0..8.0f64,
    ) {
        prop_assume!((short - 1.5).abs() > 0.1);
        let stands = |pulse: f64| horn + times * gain * (pulse - 1500.0);
        let outer = if upper { 2000.0 } else { 1000.0 };
        let outward = (stands(outer) - stands(1500.0)).signum();
        let looks = [
            look(1800.0, Side::Unknown, stands(1800.0), Heard::Quiet),
            look(1500.0, Side::Unknown, stands(1500.0), Heard::Quiet),
            look(1200.0, Side::Unknown, stands(1200.0), Heard::Quiet),
            look(outer, Side::Unknown, stands(outer) - outward * short, Heard::Buzzes),
        ];
        let stopped = matches!(cause(&expected(gain, false), &looks), Cause::StopHit { pulse } if pulse == US(outer));
        prop_assert_eq!(stopped, short > 1.5);
        // The same angles without a sound are no stop.
        let silent = looks.map(|look| Look { heard: Heard::Quiet, ..look });
        let stopped = matches!(cause(&expected(gain, false), &silent), Cause::StopHit { .. });
        prop_assert!(!stopped);
    }

    /// What the two sides differ by at one pulse is slack, between two degrees and twenty; at two pulses it is not, and what
    /// else is wrong is found between the sides.
    #[test]
    fn slack_is_what_two_sides_differ_by_at_one_pulse(
        gain in gain(), by in 2.1..19.9f64, other in prop_oneof![Just(1.0f64), Just(0.7)], apart in prop_oneof![0.0..5.9f64, 6.1..40.0],
        above_is_more in proptest::bool::ANY, middle in prop_oneof![Just(0.0f64), 5.0..20.0f64],
    ) {
        let half = if above_is_more { by / 2.0 } else { -by / 2.0 };
        let stands = |pulse: f64, side: Side| {
            let off = if side == Side::Above { half } else { -half };
            let reach = gain * (pulse - 1500.0);
            middle + other * reach + off
        };
        let at = |pulse: f64, side| look(pulse, side, stands(pulse, side), Heard::Quiet);
        let looks = [
            at(1900.0, Side::Below),
            at(1500.0, Side::Above),
            at(1100.0, Side::Above),
            at(1500.0 + apart, Side::Below),
        ];
        let said = cause(&expected(gain, true), &looks);
        if apart < 6.0 {
            // The pulses are taken as one, though they may be a little apart: the angle of that is in it.
            let seen = by - (if above_is_more { 1.0 } else { -1.0 }) * gain * other * apart;
            match said {
                Cause::Slack { by: said } => {
                    prop_assert!(middle.abs() < 1.6 && other > 0.9, "there was something else");
                    prop_assert!((said.get() - seen).abs() < 1e-6, "{} and {seen}", said.get());
                }
                Cause::MovedHorn { by: said } => prop_assert!(other > 0.9 && (said.get() - middle).abs() < 1.0),
                said => prop_assert!(other < 0.9 || !(2.1..=19.9).contains(&seen), "{said:?}"),
            }
        } else {
            let is_slack = matches!(said, Cause::Slack { .. });
            prop_assert!(!is_slack, "{apart} µs apart");
        }
    }

    /// Five marks and more, one of them off: it is named from three reading errors on, not below, and what it should have
    /// been is said from the others.
    #[test]
    fn one_mark_that_the_others_disagree_with_is_named(
        gain in gain(), more in 0usize..5, place in 0usize..5, errors in prop_oneof![0.2..20.0f64, 2.5..3.5f64, -3.5..-2.5f64, -20.0..-0.2f64],
        error in 0.3..3.0f64,
    ) {
        let off = errors * error;
        let mut marks: Vec<Seen> = (0..5 + more)
            .map(|n| {
                let pulse = 900.0 + 110.0 * f64::from(u32::try_from(n).unwrap());
                let angle = DEG(gain * (pulse - 1500.0));
                Seen { pulse: US(pulse), angle, error: DEG(error), from: Side::Unknown, sure: false }
            })
            .collect();
        let right = marks[place].angle;
        marks[place].angle = right + DEG(off);
        // Marks that turn nothing on the whole have no line to judge by.
        let flat = matches!(Fit::of(&marks, None, Shape::Line), Err(NoFit::Flat { .. }));
        prop_assume!(!flat);
        let odd = odd_one(&marks);
        // Beside marks that agree to the hair it must stand out of half a reading error, three times, too.
        prop_assume!((off.abs() - 3.0 * error).abs() > 0.01);
        if let Some(odd) = &odd {
            prop_assert_eq!(odd.place, place);
            prop_assert!((odd.expected - right).abs().get() < 1e-6);
            prop_assert!(off.abs() > 3.0 * error, "{off}° off where {error}° may be misread");
        } else {
            prop_assert!(off.abs() < 3.0 * error, "{off}° off where {error}° may be misread");
        }
        // One that was read twice is not misread.
        marks[place].sure = true;
        prop_assert!(odd_one(&marks).is_none_or(|odd| odd.place != place));
    }

    /// Two at one pulse tell slack up to both their errors and two degrees; beyond that one of them was misread, and it
    /// is the one that is farther from the line of the others.
    #[test]
    fn too_much_slack_at_one_pulse_is_a_misreading(
        gain in gain(), by in 0.5..30.0f64, own in 1.5..2.0f64, twin in 0.3..0.9f64, right in proptest::bool::ANY,
    ) {
        let mark = |pulse: f64, from, off: f64, error: f64| Seen {
            pulse: US(pulse), angle: DEG(gain * (pulse - 1500.0) + off), error: DEG(error), from, sure: false,
        };
        let (above, below) = if right { (by, 0.0) } else { (0.0, -by) };
        let marks = [
            mark(900.0, Side::Unknown, 0.0, 1.0),
            mark(1100.0, Side::Unknown, 0.0, 1.0),
            mark(1500.0, Side::Above, above, if right { own } else { twin }),
            mark(1500.0, Side::Below, below, if right { twin } else { own }),
            mark(1900.0, Side::Unknown, 0.0, 1.0),
        ];
        // Less than three errors of its own, so that it is not odd for being off the line.
        let most = own + twin + 2.0;
        prop_assume!((by - most).abs() > 0.01);
        let odd = odd_one(&marks).filter(|odd| odd.seen.from != Side::Unknown);
        prop_assert_eq!(odd.as_ref().is_some_and(|odd| odd.expected == marks[if right { 3 } else { 2 }].angle), by > most);
        if by > most {
            prop_assert_eq!(odd.unwrap().place, if right { 2 } else { 3 });
        }
    }

    /// A stopwatch is off by a twentieth of the fastest; what falls back by less is levelled, by more is refused.
    #[test]
    fn rates_that_fall_back_are_levelled_or_refused(fastest in 5.0..200.0f64, back in 0.0..0.2f64, falls in proptest::bool::ANY) {
        prop_assume!((back - 0.05).abs() > 1e-3);
        let sense = if falls { -1.0 } else { 1.0 };
        let turning = |pulse: f64, rate: f64| Turning { pulse: US(pulse), rate: Rpm::new(sense * rate) };
        let timed = [
            turning(1200.0, -0.8 * fastest),
            turning(1400.0, -0.3 * fastest),
            turning(1600.0, fastest),
            turning(1800.0, fastest * (1.0 - back)),
        ];
        let band = Band { low: US(1470.0), high: US(1530.0) };
        match Rates::of(band, &timed) {
            Ok(rates) => {
                prop_assert!(back < 0.05);
                prop_assert!((rates.rate_at(US(1800.0)).get() - sense * fastest).abs() < 1e-9, "levelled");
            }
            Err(NoRates::TurnsBack(a, b)) => {
                prop_assert!(back > 0.05);
                prop_assert_eq!((a.pulse, b.pulse), (US(1600.0), US(1800.0)));
            }
            Err(other) => prop_assert!(false, "{other:?}"),
        }
    }

    /// From either side the curve is the same one, as far apart as the slack that the marks tell.
    #[test]
    fn the_two_sides_of_a_fit_are_its_slack_apart(
        gain in gain(), by in 0.5..3.0f64, bends in proptest::bool::ANY, at in 700.0..2300.0f64,
    ) {
        let bend = |pulse: f64| if bends { 6.0 * gain.signum() * ((pulse - 1500.0) / 600.0).powi(2) } else { 0.0 };
        let mark = |pulse: f64, from, off: f64| Seen {
            pulse: US(pulse), angle: DEG(gain * (pulse - 1500.0) + bend(pulse) + off), error: DEG(1.0), from, sure: false,
        };
        let marks: Vec<Seen> = [900.0, 1200.0, 1500.0, 1800.0, 2100.0]
            .into_iter()
            .flat_map(|pulse| [mark(pulse, Side::Above, by / 2.0), mark(pulse, Side::Below, -by / 2.0)])
            .collect();
        let fit = Fit::of(&marks, None, if bends { Shape::Cubic } else { Shape::Line }).unwrap();
        let angle = |side| fit.from_side(side).angle_at(US(at)).get();
        prop_assert!((angle(Side::Above) - angle(Side::Below) - by).abs() < 1e-9);
        prop_assert!((angle(Side::Above) + angle(Side::Below) - 2.0 * angle(Side::Unknown)).abs() < 1e-9);
    }
}

#[test]
fn each_side_has_a_word_and_an_unknown_one_has_none() {
    let words = [Side::Unknown, Side::Below, Side::Above].map(Side::word);
    assert!(
        words[0].is_empty() && !words[1].is_empty() && !words[2].is_empty() && words[1] != words[2],
        "{words:?}"
    );
}
