//! Laws of the calculations, each held against a computation of its own: slopes against differences, least squares against
//! what is left over, angles against the drawing, times against a clock.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{BEAT, Came, Run, US, rig};
use proptest::prelude::*;
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::bent::{Bent, WITHIN_DEG};
use wasvolta_core::curve::{Cubic, Curve, Line};
use wasvolta_core::easing::Easing;
use wasvolta_core::fit::{Fit, Seen, Shape as Form, Side};
use wasvolta_core::link::{Health, Link, Rules};
use wasvolta_core::linkage::{Branch, FourBar, Transmission};
use wasvolta_core::rate::{Band, Rates, Turning, timed};
use wasvolta_core::rig::edit::joint;
use wasvolta_core::rig::{Board, Idle, Kind, Limit, Rig, Servo};
use wasvolta_core::sequence::{At, rounded_up};
use wasvolta_core::shape::{Curve as Bend, Memory, Shape, Span, smoothing_share};
use wasvolta_core::stage::exercise::Exercise;
use wasvolta_core::stage::{Command, EventKind, Owner, Placed};
use wasvolta_core::traffic::Traffic;
use wasvolta_core::unit::{Degrees, Hertz, Millimetres, Rpm, Seconds};

const DEG: fn(f64) -> Degrees = Degrees::new;
const MM: fn(f64) -> Millimetres = Millimetres::new;

/// Pulses 60 to 400 µs apart with angles that only rise, or only fall.
fn monotone() -> impl Strategy<Value = Vec<(f64, f64)>> {
    let steps = proptest::collection::vec((60.0..400.0f64, 4.0..60.0f64), 3..7);
    (steps, proptest::bool::ANY).prop_map(|(steps, falls)| {
        let (mut pulse, mut angle) = (600.0, -70.0);
        let mut points = vec![(pulse, angle)];
        for (wide, high) in steps {
            pulse += wide;
            angle += if falls { -high } else { high };
            points.push((pulse, angle));
        }
        points
    })
}

fn cubic(points: &[(f64, f64)]) -> Cubic {
    let points: Vec<_> = points.iter().map(|&(p, a)| (US(p), DEG(a))).collect();
    Cubic::through(&points).unwrap()
}

proptest! {
    #[test]
    fn a_curve_meets_its_points_its_slope_is_its_rise_and_the_way_back_undoes_the_way(
        points in monotone(), at in 0.0..1.0f64,
    ) {
        let curve = cubic(&points);
        let (low, high) = (points[0].0, points[points.len() - 1].0);
        for &(pulse, angle) in &points {
            prop_assert!((curve.angle_at(US(pulse)).get() - angle).abs() < 1e-9);
        }
        // Within, and beyond both ends.
        let pulse = low - 100.0 + (high - low + 200.0) * at;
        let angle = curve.angle_at(US(pulse));
        prop_assert!((curve.pulse_at(angle).get() - pulse).abs() < 1e-5, "{pulse}");
        let rise = |pulse: f64| (curve.angle_at(US(pulse + 1e-3)) - curve.angle_at(US(pulse - 1e-3))).get() / 2e-3;
        prop_assert!((rise(pulse) - curve.slope_at(US(pulse))).abs() < 1e-4);
        let steepest = curve.steepest(US(low), US(high));
        let seen = (0..=64).map(|n| rise(low + (high - low) * f64::from(n) / 64.0).abs()).fold(0.0, f64::max);
        prop_assert!((steepest - seen).abs() < 0.02 * seen, "{steepest} and {seen}");
    }

    #[test]
    fn equal_steps_of_pulse_are_no_curve(points in monotone(), n in 1usize..3) {
        let mut points: Vec<_> = points.iter().map(|&(p, a)| (US(p), DEG(a))).collect();
        points[n].0 = points[n - 1].0;
        prop_assert!(Cubic::through(&points).is_none());
    }

    #[test]
    fn a_table_is_as_near_as_it_says_and_its_slopes_are_those_of_what_it_tabulates(
        points in monotone(), at in 0.0..1.0f64,
    ) {
        let curve = Curve::Cubic(Arc::new(cubic(&points)));
        let (low, high) = (points[0].0, points[points.len() - 1].0);
        let table = Bent::of(&curve, Transmission::DIRECT);
        let pulse = low + (high - low) * at;
        let (joint, shaft) = table.at(US(pulse));
        let real = curve.angle_at(US(pulse));
        prop_assert!((joint - real).abs().get() <= WITHIN_DEG && (shaft - real).abs().get() <= WITHIN_DEG);
        prop_assert_eq!(table.joint_at(US(pulse)), joint);
        prop_assert!((table.pulse_at(joint) - US(pulse)).abs().get() < 1e-6);
        prop_assert!((table.pulse_for(shaft) - US(pulse)).abs().get() < 1e-6);
        prop_assert!((table.shaft_for(joint) - shaft).abs().get() < 1e-9);
        let (back, with) = table.with(joint);
        prop_assert!((back - US(pulse)).abs().get() < 1e-6 && (with - shaft).abs().get() < 1e-9);
        // A table is straight between its knots: its slope is the rise of a stretch around, and the steepest is one of them.
        let rise = (table.joint_at(US(pulse + 1e-4)) - table.joint_at(US(pulse - 1e-4))).get() / 2e-4;
        prop_assert!((table.slope_at(US(pulse)) - rise).abs() < 0.02, "{rise}");
        let most = table.steepest(US(low), US(high));
        prop_assert!(most >= table.slope_at(US(pulse)).abs() - 1e-9);
        prop_assert!((most - table.steepest_shaft(US(low), US(high))).abs() < 1e-9, "nothing is between them");
        let seen = (0..400)
            .map(|n| table.slope_at(US(low + (high - low) * (f64::from(n) + 0.5) / 400.0)).abs())
            .fold(0.0, f64::max);
        prop_assert!((most - seen).abs() <= 0.05 * most, "{most} and {seen}");
    }
}

fn seen(points: &[(f64, f64)]) -> Vec<Seen> {
    let one = |&(p, a): &(f64, f64)| Seen {
        pulse: US(p),
        angle: DEG(a),
        error: DEG(1.0),
        from: Side::Unknown,
        sure: false,
    };
    points.iter().map(one).collect()
}

/// Student's t for a two-sided 95 % interval, from one degree of freedom on.
const T: [f64; 9] = [12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306, 2.262];

/// Marks on a line, each read a little off.
fn scattered() -> impl Strategy<Value = Vec<(f64, f64)>> {
    (
        proptest::collection::vec((50.0..150.0f64, -0.9..0.9f64), 4..8),
        prop_oneof![0.05..0.2f64, -0.2..-0.05f64],
    )
        .prop_map(|(steps, gain)| {
            let mut pulse = 700.0;
            let mut points = Vec::new();
            for (wide, off) in steps {
                pulse += wide;
                points.push((pulse, (pulse - 1500.0) * gain + off));
            }
            points
        })
}

proptest! {
    #[test]
    fn what_a_line_leaves_over_has_no_mean_and_no_slope(points in scattered()) {
        let marks = seen(&points);
        let fit = Fit::of(&marks, None, Form::Line).unwrap();
        let left: Vec<f64> = marks.iter().map(|mark| fit.off_by(mark).get()).collect();
        let mean: f64 = left.iter().sum();
        let moment: f64 = left.iter().zip(&points).map(|(off, (pulse, _))| off * (pulse - 1200.0)).sum();
        prop_assert!(mean.abs() < 1e-8 && moment.abs() < 1e-5, "{mean} {moment}");
    }

    #[test]
    fn the_mark_that_tells_most_lessens_the_band_as_it_says(points in scattered(), at in 0u32..=20) {
        let fit = Fit::of(&seen(&points), None, Form::Line).unwrap();
        let (low, high) = (US(600.0), US(2400.0));
        // The spread of a line's value at a pulse, by marks at some pulses, times Student's t: the usual formula.
        let band = |pulses: &[f64]| {
            let n = pulses.iter().fold(0.0, |n, _| n + 1.0);
            let mean = pulses.iter().sum::<f64>() / n;
            let spread: f64 = pulses.iter().map(|p| (p - mean).powi(2)).sum();
            let of = |at: f64| (1.0 / n + (at - mean).powi(2) / spread).sqrt();
            T[pulses.len() - 3] * of(600.0).max(of(2400.0))
        };
        let pulses: Vec<f64> = points.iter().map(|point| point.0).collect();
        let with = |more: f64| band(&[&pulses[..], &[more]].concat()) / band(&pulses);
        let other = with(600.0 + 1800.0 * f64::from(at) / 20.0);
        match fit.mark_that_tells_most(low, high) {
            Some((pulse, share)) => {
                prop_assert!((with(pulse.get()) - share).abs() < 1e-9 && share < 0.9);
                prop_assert!(share <= other + 1e-9, "{share}, and {other} elsewhere");
            }
            None => prop_assert!(other >= 0.9 - 1e-9),
        }
    }
}

fn turning(pairs: &[(f64, f64)]) -> Vec<Turning> {
    pairs.iter().map(|&(p, r)| Turning { pulse: US(p), rate: Rpm::new(r) }).collect()
}

proptest! {
    #[test]
    fn rates_go_through_what_was_timed_and_levels_are_their_shares(
        steps in proptest::collection::vec((30.0..120.0f64, 3.0..20.0f64), 2..4), falls in proptest::bool::ANY,
    ) {
        let band = Band { low: US(1470.0), high: US(1530.0) };
        let sense = if falls { -1.0 } else { 1.0 };
        let (mut out, mut rate, mut timed) = (0.0, 0.0, Vec::new());
        for (wide, more) in steps {
            out += wide;
            rate += more;
            timed.extend([(1530.0 + out, sense * rate), (1470.0 - out, -sense * rate)]);
        }
        let rates = Rates::of(band, &turning(&timed)).unwrap();
        for &(pulse, rate) in &timed {
            prop_assert!((rates.rate_at(US(pulse)).get() - rate).abs() < 1e-9);
            prop_assert!((rates.pulse_for(Rpm::new(rate), US(1500.0)).get() - pulse).abs() < 1e-6);
        }
        prop_assert_eq!(rates.rate_at(US(1500.0)), Rpm::ZERO);
        prop_assert_eq!(rates.pulse_for(Rpm::ZERO, US(1500.0)), US(1500.0));
        prop_assert_eq!(rates.fastest(true), Rpm::new(sense * rate));
        // To the outermost that was timed.
        let (low, high) = (US(1470.0 - out), US(1530.0 + out));
        let levels = rates.levels((low, high), (US(1470.0), US(1530.0)));
        let share = |pulse: f64| timed.iter().find(|(p, _)| (p - pulse).abs() < 1e-9).map(|(_, r)| r * sense / rate);
        for (pulse, level) in &levels {
            let wanted = share(pulse.get()).unwrap_or(0.0) * 100.0;
            prop_assert!((level - wanted).abs() < 1e-6, "{level} % at {} µs, {wanted}", pulse.get());
        }
        prop_assert_eq!(levels.len(), timed.len() + 2);
        prop_assert!(levels.windows(2).all(|pair| pair[0].0 < pair[1].0 && pair[0].1 <= pair[1].1));
    }

    #[test]
    fn turns_are_counted_between_presses(turns in 1u32..20, each in 0.2..30.0f64, begin in 0.0..1e4f64) {
        let presses: Vec<f64> = (0..=turns).map(|n| begin + each * f64::from(n)).collect();
        prop_assert!((timed(&presses).unwrap().get() - 60.0 / each).abs() < 1e-6 / each);
    }

    #[test]
    fn a_time_that_is_needed_is_never_rounded_down(seconds in 0.0..1e4f64) {
        let up = rounded_up(seconds);
        prop_assert!(up >= seconds - 1e-9 && up < seconds + 0.01 + 1e-9);
        prop_assert!((up * 100.0 - (up * 100.0).round()).abs() < 1e-6);
    }
}

#[test]
fn the_wait_for_a_new_value_is_a_round_and_its_boards_checks() {
    // A check reads two modes, the divider, and eight channels of four bytes back. A read is an address, a register, an
    // address again and the bytes: nine bits each, a start, a second start and a stop.
    let read = |bytes: f64| (3.0 + bytes) * 9.0 + 3.0;
    let bits = read(2.0) + read(1.0) + read(32.0);
    // Behind a bridge each piece of sixteen bytes is a transfer that names the register and one that reads: eight bytes
    // around each, and the data.
    let bytes = 4.0 * (8.0 + 1.0 + 8.0) + 35.0;
    for (boards, baud) in [(1u8, None), (3, None), (2, Some(57_600u32))] {
        let mut rig = rig();
        let (board, servo) = (rig.boards[0].clone(), rig.servos[0].clone());
        rig.boards = (0..boards)
            .map(|n| Board { name: format!("b{n}"), address: Some(0x40 + n), ..board.clone() })
            .collect();
        rig.servos = rig.boards.iter().map(|b| Servo { board: b.name.clone(), ..servo.clone() }).collect();
        (rig.ports[0].bus_hz, rig.ports[0].baud) = (Some(Hertz::new(400e3)), baud);
        let traffic = Traffic::of(&rig, &board.port);
        let line = baud.map_or(0.0, |baud| bytes * 10.0 / f64::from(baud));
        let checks = f64::from(boards) * (bits / 400e3 + line);
        let frame = 1.0 / board.clock().unwrap().rate().get();
        let waits = traffic.longest_wait().get() - traffic.round().get();
        assert!((waits - frame - checks).abs() < 1e-9, "{boards} boards: {waits} s, {frame} and {checks}");
    }
}

#[test]
fn presses_at_one_moment_are_no_turn() {
    assert_eq!((timed(&[3.0, 3.0]), timed(&[3.0]), timed(&[])), (None, None, None));
}

fn smoothed(ms: u64) -> Shape {
    Shape {
        span: Span::OneEnded { low: 0.0, high: 100.0 },
        trim: 0.0,
        deadband: 0.0,
        curve: Bend::Expo(0.0),
        smoothing: Duration::from_millis(ms),
        rise: None,
        fall: None,
    }
}

proptest! {
    #[test]
    fn smoothing_goes_the_share_of_the_way_that_its_time_says_also_when_it_is_changed(
        ms in 20u64..500, other in 20u64..500, dts in proptest::collection::vec(0.005..0.1f64, 2..12),
    ) {
        let mut memory = Memory::default();
        let mut value = smoothed(ms).advance(&mut memory, 0.0, 0.02).shaped();
        for (n, dt) in dts.iter().enumerate() {
            // From the third call on it has another time constant, told as a swap tells it.
            let ms = if n < 2 { ms } else { other };
            if n == 2 {
                memory.shaped_anew();
            }
            // The same step twice: what was computed for it is used again.
            for _ in 0..2 {
                value += (1.0 - value) * (1.0 - (-dt / Duration::from_millis(ms).as_secs_f64()).exp());
                let found = smoothed(ms).advance(&mut memory, 100.0, *dt).shaped();
                prop_assert!((found - value).abs() < 1e-9, "{found} and {value} in call {n}");
            }
        }
        prop_assert!((smoothing_share(0.05, 0.05) - 0.632_120_558).abs() < 1e-8);
        prop_assert!(smoothed(0).advance(&mut memory, 0.0, 0.02).shaped().abs() < 1e-12);
    }

    #[test]
    fn a_link_is_as_old_as_its_last_frame_late_behind_three_intervals_and_lost_behind_its_time(
        every in 5u64..60, frames in 100u64..200, lost in 400u64..900,
    ) {
        let rules = Rules::Streaming { lost_after: Duration::from_millis(lost), stuck_is_lost: false };
        let mut link = Link::default();
        prop_assert_eq!((link.age(Duration::ZERO), link.health(Duration::ZERO, &rules)), (None, Health::Absent));
        for n in 0..frames {
            link.hear(Duration::from_millis(n * every), &Came::value(1.0).heard, &rules);
        }
        let last = Duration::from_millis((frames - 1) * every);
        let after = |ms: u64| last + Duration::from_millis(ms);
        prop_assert_eq!(link.age(after(7)), Some(Duration::from_millis(7)));
        let usual = link.usual();
        prop_assert!(usual.abs_diff(Duration::from_millis(every)) <= Duration::from_millis(every / 3 + 1));
        prop_assert_eq!(link.health(last + usual * 3, &rules), Health::Fresh);
        prop_assert_eq!(link.health(last + usual * 3 + Duration::from_nanos(10), &rules), Health::Late);
        let silence = Duration::from_millis(lost).max(usual * 5);
        prop_assert_eq!(link.health(last + silence, &rules), Health::Late);
        prop_assert_eq!(link.health(last + silence + Duration::from_nanos(10), &rules), Health::Lost);
    }
}

fn bars() -> impl Strategy<Value = FourBar> {
    let length = || 15.0..60.0f64;
    (length(), 10.0..90.0f64, length(), 40.0..90.0f64, 50.0..130.0f64, proptest::bool::ANY).prop_map(
        |(horn, rod, arm, pivots, at, crossed)| FourBar {
            horn_mm: MM(horn),
            rod_mm: MM(rod),
            arm_mm: MM(arm),
            pivots_mm: MM(pivots),
            horn_at_deg: DEG(at),
            branch: if crossed { Branch::Crossed } else { Branch::SameSide },
            offset_deg: DEG(0.0),
            reversed: false,
        },
    )
}

proptest! {
    #[test]
    fn a_linkages_pins_keep_their_distances_and_its_angles_are_those_of_the_drawing(bars in bars(), at in 0.0..1.0f64) {
        let Ok(through) = Transmission::linked(bars) else { return Ok(()) };
        let linked = through.linkage().unwrap();
        let (low, high) = linked.usable();
        let servo = low + (high - low) * at;
        let standing = linked.standing(servo);
        let far = |a: (f64, f64), b: (f64, f64)| ((a.0 - b.0).powi(2) + (a.1 - b.1).powi(2)).sqrt();
        prop_assert!((far(standing.tip, (0.0, 0.0)) - bars.horn_mm.get()).abs() < 1e-6);
        prop_assert!((far(standing.tip, standing.arm) - bars.rod_mm.get()).abs() < 1e-6);
        prop_assert!((far(standing.arm, standing.axis) - bars.arm_mm.get()).abs() < 1e-6);
        // Between rod and arm, at the arm's pin.
        let rod = (standing.tip.0 - standing.arm.0, standing.tip.1 - standing.arm.1);
        let arm = (standing.axis.0 - standing.arm.0, standing.axis.1 - standing.arm.1);
        let cos = (rod.0 * arm.0 + rod.1 * arm.1) / (bars.rod_mm.get() * bars.arm_mm.get());
        let angle = cos.abs().min(1.0).acos().to_degrees();
        prop_assert!((linked.transmission_angle(servo).get() - angle).abs() < 1e-4);
        // The ratio is the rise of the joint, and it keeps its sign and its bounds all the way.
        if at > 0.02 && at < 0.98 {
            let rise = (through.joint_at(servo + DEG(1e-4)) - through.joint_at(servo - DEG(1e-4))).get() / 2e-4;
            let ratio = through.ratio_at(servo);
            prop_assert!((ratio - rise).abs() < 1e-3 * (1.0 + ratio.abs()), "{ratio} and {rise}");
            prop_assert!((1.0 / 20.5..=20.5).contains(&ratio.abs()), "{ratio}");
        }
        prop_assert!((through.servo_at(through.joint_at(servo)) - servo).abs().get() < 1e-6);
        // Where it is driven no further something ends: the ratio, or a degree of horn is left to where it closes.
        let (first, last) = linked.closes();
        for (end, closes) in [(low, first), (high, last)] {
            let ratio = through.ratio_at(end).abs();
            let bounded = !(1.0 / 19.0..=19.0).contains(&ratio);
            prop_assert!(bounded || (end - closes).abs().get() < 1.0 + 1e-6, "{ratio} at {}, closes {}", end.get(), closes.get());
        }
    }
}

fn engage(servo: usize, pulse: f64) -> Placed {
    Command::Engage { servo, pulse: US(pulse), stands_there: true }
}

#[test]
fn what_the_hand_leaves_alone_is_released_after_its_time_and_not_a_beat_before() {
    let mut rig = rig();
    rig.release_after_s = Some(Seconds::new(5.0));
    let mut run = Run::new(&rig);
    run.beat(&[engage(0, 1500.0)]);
    run.beat(&[Command::GoTo { servo: 0, pulse: US(1500.0) }]);
    let left = |run: &Run| run.stage.servos()[0].released_in(&run.stage.plan().servos[0]);
    assert_eq!(
        left(&run),
        Some(Duration::from_secs(5).saturating_sub(BEAT)),
        "the beat in which it stands counts"
    );
    let mut before = None;
    let begun = run.now;
    while run.stage.servos()[0].engaged {
        run.beat(&[]);
        if let (Some(before), Some(now)) = (before, left(&run)) {
            assert_eq!(now + BEAT, before, "it counts down");
        }
        before = left(&run);
        assert!(run.now.saturating_sub(begun) < Duration::from_secs(6), "never released");
    }
    let took = run.now.saturating_sub(begun);
    assert!(took.abs_diff(Duration::from_secs(5)) <= BEAT, "{took:?}");
    // Whoever is driven by something else is not left alone.
    let mut run = Run::new(&rig);
    run.beat(&[engage(0, 1500.0), Command::GiveBack { servo: 0 }]);
    for _ in 0..400 {
        run.beat(&[]);
        assert!(left(&run).is_none() || run.stage.servos()[0].owner == Owner::Hand);
    }
    assert!(run.stage.servos()[0].engaged);
}

#[test]
fn standing_still_ends_an_exercise_where_the_servo_is() {
    let mut run = Run::new(&rig());
    run.beat(&[engage(0, 1500.0)]);
    let what = Exercise {
        low: US(1300.0),
        high: US(1700.0),
        centre: US(1500.0),
        us_per_s: 200.0,
        pause_ms: 100,
        times: Some(9),
    };
    run.beat(&[Command::Exercise { servo: 0, what }]);
    (0..50).for_each(|_| run.beat(&[]));
    assert!(run.stage.servos()[0].exercise().is_some());
    let there = run.pulse(0);
    run.beat(&[Command::StandStill { servo: 0 }]);
    assert!(run.stage.servos()[0].exercise().is_none());
    (0..50).for_each(|_| run.beat(&[]));
    assert!((run.pulse(0) - there).abs() <= 200.0 * 0.02 + 1e-9, "{there} and then {}", run.pulse(0));
    assert_eq!(run.stage.servos()[0].owner, Owner::Hand);
}

/// The beak's servo as a winch: continuous, its stop at 1490 µs, told by a level.
fn winch() -> Rig {
    let mut rig = rig();
    rig.joints.retain(|joint| joint.servo != rig.servos[1].name);
    (rig.poses, rig.sequences, rig.mappings) = (Vec::new(), Vec::new(), Vec::new());
    let winch = &mut rig.servos[1];
    (winch.kind, winch.idle, winch.rated) = (Kind::Continuous, Idle::Pulse, None);
    (winch.marks, winch.centre_us, winch.gear, winch.linkage) =
        (Vec::new(), Some(US(1490.0).micros()), None, None);
    rig
}

#[test]
fn a_continuous_servo_stops_when_it_is_told_to_stand_still() {
    let rig = winch();
    let mut run = Run::new(&rig);
    run.beat(&[engage(1, 1490.0)]);
    run.beat(&[Command::GoTo { servo: 1, pulse: US(1700.0) }]);
    (0..200).for_each(|_| run.beat(&[]));
    assert!((run.pulse(1) - 1700.0).abs() < 1e-6, "{}", run.pulse(1));
    run.beat(&[Command::StandStill { servo: 1 }]);
    (0..200).for_each(|_| run.beat(&[]));
    assert!((run.pulse(1) - 1490.0).abs() < 1e-6, "{}", run.pulse(1));
}

#[test]
fn a_wiggle_of_a_continuous_servo_takes_a_tenth_of_its_way_about_its_stop() {
    let rig = winch();
    let ends = rig.servos[1].endpoints_us;
    let way = (ends.high - ends.low).get();
    let mut run = Run::new(&rig);
    run.beat(&[engage(1, 1490.0)]);
    run.beat(&[Command::Wiggle { servo: 1 }]);
    let (mut least, mut most) = (f64::INFINITY, 0.0f64);
    for _ in 0..400 {
        run.beat(&[]);
        (least, most) = (least.min(run.pulse(1)), most.max(run.pulse(1)));
    }
    // It glides towards each turning and need not be there at the beat that is looked at.
    assert!(most <= 1490.0 + way / 20.0 + 1e-6 && most > 1490.0 + way / 20.0 * 0.8, "{most} µs of {way}");
    assert!(least >= 1490.0 - way / 20.0 - 1e-6 && least < 1490.0 - way / 20.0 * 0.8, "{least} µs of {way}");
    assert!((run.pulse(1) - 1490.0).abs() < 1e-6, "{}", run.pulse(1));
}

#[test]
fn a_knob_that_jogs_a_trimmed_servo_takes_it_where_it_stands() {
    let mut run = Run::new(&winch());
    let knob = |value: f64| Came::value(value);
    run.read(knob(512.0), &[engage(1, 1490.0), Command::Trim { servo: 1, by: US(20.0) }]);
    // The hand lets it turn; a knob that is taken then begins there.
    run.read(knob(512.0), &[Command::GoTo { servo: 1, pulse: US(1600.0) }]);
    (0..100).for_each(|_| run.read(knob(512.0), &[]));
    let stood = run.pulse(1);
    assert!((stood - 1620.0).abs() < 1e-6, "{stood}");
    run.read(knob(512.0), &[Command::Knob { servo: 1, input: 0, low: US(1200.0), high: US(1800.0) }]);
    (0..100).for_each(|_| run.read(knob(512.0), &[]));
    assert!((run.pulse(1) - stood).abs() < 1e-6, "taken at {stood}, went to {}", run.pulse(1));
    // At the knob's ends it is at the pulses that were named, with the trim on top.
    for (value, wanted) in [(1023.0, 1820.0), (0.0, 1220.0)] {
        (0..300).for_each(|_| run.read(knob(value), &[]));
        assert!((run.pulse(1) - wanted).abs() < 1e-6, "{}", run.pulse(1));
    }
    // One that nobody drives is taken where it stands, too.
    let mut run = Run::new(&winch());
    run.read(knob(512.0), &[engage(1, 1490.0), Command::Trim { servo: 1, by: US(20.0) }]);
    run.read(knob(512.0), &[Command::GiveBack { servo: 1 }]);
    (0..100).for_each(|_| run.read(knob(512.0), &[]));
    assert!((run.pulse(1) - 1510.0).abs() < 1e-6, "it stops there: {}", run.pulse(1));
    run.read(knob(512.0), &[Command::Knob { servo: 1, input: 0, low: US(1200.0), high: US(1800.0) }]);
    (0..100).for_each(|_| run.read(knob(512.0), &[]));
    assert!((run.pulse(1) - 1510.0).abs() < 1e-6, "{}", run.pulse(1));
}

#[test]
fn a_link_that_is_lost_and_that_comes_back_is_said_once_each() {
    let mut run = Run::new(&rig());
    let fresh = Came::value(500.0);
    let gone = Came::gone();
    let mut said = Vec::new();
    for came in [fresh, fresh, gone, gone, Came::default(), fresh, fresh, fresh, fresh] {
        run.read(came, &[]);
        said.extend(run.stage.events().iter().filter_map(|event| match event.kind {
            EventKind::Link(health) => Some(health),
            _ => None,
        }));
    }
    assert_eq!(said, [Health::Fresh, Health::Lost, Health::Fresh]);
}

proptest! {
    #[test]
    fn the_time_that_a_flowing_move_behind_a_linkage_needs_is_that_of_its_fastest_moment(
        to in 5.0..40.0f64, off in -15.0..15.0f64, moves in 0.05..0.4f64, easing in prop_oneof![Just(Easing::Flow), Just(Easing::MinimumJerk), Just(Easing::Linear)],
    ) {
        let mut rig = rig();
        rig.joints[0].low = None;
        rig.joints[0].high = None;
        rig.joints[0].home_deg = None;
        let bars = FourBar {
            horn_mm: MM(20.0), rod_mm: MM(40.0), arm_mm: MM(22.0), pivots_mm: MM(50.0), horn_at_deg: DEG(90.0),
            branch: Branch::SameSide, offset_deg: DEG(0.0), reversed: false,
        };
        let mut rig = joint::set_linkage(&rig, "heron.neck", bars).unwrap();
        let run = Run::new(&rig);
        let scale = run.stage.plan().servos[0].scale.clone().unwrap();
        let middle = scale.angle_at(US(1500.0)) + DEG(off);
        for (pose, angle) in rig.poses.iter_mut().zip([middle, scale.angle_at(US(1500.0)) + DEG(to - 20.0)]) {
            pose.angles_deg = [("heron.neck".to_owned(), angle)].into_iter().collect();
        }
        let steps = &mut rig.sequences[0].steps;
        steps[1].move_s = Some(Seconds::new(moves));
        steps[1].easing = easing;
        let run = Run::new(&rig);
        let program = &run.stage.plan().programs[0];
        let step = program.step(1).unwrap();
        // What shaft and joint must do at most, looked at in steps ten times as fine.
        let at = |u: f64| program.first_at(0, At::seconds_in(step.starts + moves * u)).unwrap();
        let most = |of: &dyn Fn(f64) -> f64| {
            (1..=1000u32).map(|n| (of(f64::from(n) / 1000.0) - of(f64::from(n - 1) / 1000.0)).abs() * 1000.0 / moves).fold(0.0, f64::max)
        };
        let servo = &rig.servos[0];
        let rated = servo.rated_speed().unwrap().get();
        let shaft_curve = servo.fit().unwrap().curve;
        let shaft = most(&|u| shaft_curve.angle_at(scale.pulse_at(at(u))).get());
        let joint = most(&|u| at(u).get());
        let allowed = rig.speed_of(servo).unwrap().get();
        let wanted = moves * f64::max(shaft / rated, joint / allowed);
        match program.shorts().iter().find(|short| short.step == 1) {
            Some(short) => prop_assert!((short.needs / wanted - 1.0).abs() < 0.03, "{} and {wanted}", short.needs),
            None => prop_assert!(wanted < moves * 1.03 + 1e-3, "{wanted} s in {moves}"),
        }
    }
}

#[test]
fn limits_hold_at_their_own_ends_whichever_way_the_servo_turns() {
    for falls in [false, true] {
        let mut rig = rig();
        (rig.poses, rig.sequences, rig.mappings) = (Vec::new(), Vec::new(), Vec::new());
        let sense = if falls { -1.0 } else { 1.0 };
        for mark in &mut rig.servos[0].marks {
            mark.angle_deg = mark.angle_deg.map(|angle| angle * sense);
        }
        let name = rig.servos[0].name.clone();
        let joint = rig.joints.iter_mut().find(|joint| joint.servo == name).unwrap();
        let limit = |angle: f64| Some(Limit { angle_deg: DEG(angle), reason: String::new() });
        (joint.low, joint.high, joint.home_deg) = (limit(-20.0), limit(35.0), Some(DEG(0.0)));
        let mut run = Run::new(&rig);
        let scale = run.stage.plan().servos[0].scale.clone().unwrap();
        run.beat(&[engage(0, scale.pulse_at(DEG(0.0)).get())]);
        for (pulse, wanted) in
            [(500.0, if falls { 35.0 } else { -20.0 }), (2500.0, if falls { -20.0 } else { 35.0 })]
        {
            run.beat(&[Command::GoTo { servo: 0, pulse: US(pulse) }]);
            (0..400).for_each(|_| run.beat(&[]));
            let stands = scale.angle_at(US(run.pulse(0))).get();
            assert!((stands - wanted).abs() < 0.01, "{stands}° for {pulse} µs, {wanted}° is the limit");
        }
    }
}

#[test]
fn a_line_through_a_point_is_straight() {
    let line = Line::through(US(1500.0), DEG(10.0), -0.09);
    assert!((line.angle_at(US(1600.0)).get() - 1.0).abs() < 1e-9);
    assert!((line.pulse_at(DEG(1.0)).get() - 1600.0).abs() < 1e-9);
}
