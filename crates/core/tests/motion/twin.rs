//! A slow twin: the sequence played out move after move, every round of every loop and every call written out, and then
//! asked where a joint is. It shares nothing with the program but the easings.

use super::*;
use proptest::prelude::*;
use std::collections::HashMap;
use wasvolta_core::easing::{Easing, Quintic, passing_speed};
use wasvolta_core::rig::{Rig, Sequence, Times, What};

/// A move as it is played.
#[derive(Debug, Clone)]
struct Move {
    starts: u64,
    moves: u64,
    dwells: u64,
    /// Of each joint: from, to, lag, share, easing.
    joints: HashMap<&'static str, (f64, f64, u64, f64, Easing)>,
}

const JOINTS: [&str; 3] = ["a", "b", "c"];

fn ns(seconds: f64) -> u64 {
    (seconds * 1e9).round() as u64
}

fn play(
    rig: &Rig,
    sequence: &Sequence,
    tempo: f64,
    with: &HashMap<&str, u32>,
    now: &mut u64,
    stands: &mut HashMap<&'static str, f64>,
    out: &mut Vec<Move>,
) {
    let mut n = 0;
    let mut played: HashMap<usize, u32> = HashMap::new();
    while let Some(step) = sequence.steps.get(n) {
        match step.what().unwrap() {
            What::Pose(pose) => {
                let pose = rig.pose(pose).unwrap();
                let moves = ns(step.move_s.unwrap().get() / tempo);
                let dwells = ns(step.dwell_s.get() / tempo);
                let mut joints = HashMap::new();
                for joint in JOINTS {
                    let own = step.joints.get(joint);
                    let from = stands[joint];
                    let to = pose.angles_deg.get(joint).map_or(from, |angle| angle.get());
                    let easing = own.and_then(|own| own.easing).unwrap_or(step.easing);
                    let lag = own.map_or(0.0, |own| own.lag_s.get());
                    joints.insert(
                        joint,
                        (from, to, ns(lag / tempo), own.and_then(|own| own.share).unwrap_or(1.0), easing),
                    );
                    stands.insert(joint, to);
                }
                out.push(Move { starts: *now, moves, dwells, joints });
                *now += moves + dwells;
            }
            What::Play(name) => {
                let other = rig.sequences.iter().find(|other| other.name == name).unwrap();
                let with = step.with.iter().map(|(name, value)| (name.as_str(), *value)).collect();
                play(rig, other, tempo * other.tempo(), &with, now, stands, out);
            }
            What::Wait(_) => {}
        }
        // The inner of two loops that end here is the one that began last.
        let mut ends: Vec<usize> = (0..sequence.loops.len())
            .filter(|m| sequence.span(&sequence.loops[*m]).unwrap().1 == n)
            .collect();
        ends.sort_by_key(|m| std::cmp::Reverse(sequence.span(&sequence.loops[*m]).unwrap().0));
        let mut next = n + 1;
        for m in ends {
            let times = match sequence.loops[m].times.as_ref().unwrap() {
                Times::Count(count) => *count,
                Times::Parameter(name) => {
                    with.get(name.as_str()).copied().unwrap_or(sequence.parameters[name])
                }
            };
            let rounds = played.entry(m).or_default();
            *rounds += 1;
            if *rounds < times {
                next = sequence.span(&sequence.loops[m]).unwrap().0;
                break;
            }
            *rounds = 0;
        }
        n = next;
    }
}

fn played_out(rig: &Rig) -> Vec<Move> {
    let mut stands: HashMap<&'static str, f64> = JOINTS.into_iter().map(|joint| (joint, 0.0)).collect();
    let mut out = Vec::new();
    let own: &Sequence = &rig.sequences[0];
    play(rig, own, own.tempo(), &HashMap::new(), &mut 0, &mut stands, &mut out);
    out
}

fn is_at(moves: &[Move], joint: &str, t: u64) -> f64 {
    let n = moves.iter().rposition(|own| own.starts <= t).unwrap();
    let own = &moves[n];
    let (from, to, lag, share, easing) = own.joints[joint];
    let span = share * own.moves as f64;
    let u =
        if span > 0.0 { ((t as f64 - own.starts as f64 - lag as f64) / span).clamp(0.0, 1.0) } else { 1.0 };
    if easing != Easing::Flow || from == to || span == 0.0 {
        return from + (to - from) * easing.at(u);
    }
    // It flows out of and into what follows at once and moves as well.
    let mean = |m: usize, n: usize| {
        let (before, after) = (&moves[m], &moves[n]);
        let ((a, b, lag, share, flows), (c, d, later, part, also)) =
            (before.joints[joint], after.joints[joint]);
        let at_once = before.dwells == 0 && lag == 0 && share == 1.0 && later == 0;
        let both = flows == Easing::Flow && also == Easing::Flow && at_once;
        let (x, y) = ((b - a) / (before.moves as f64), (d - c) / (after.moves as f64 * part));
        if both { passing_speed(x, y) } else { 0.0 }
    };
    let into = if n > 0 { mean(n - 1, n) } else { 0.0 };
    let out = if n + 1 < moves.len() { mean(n, n + 1) } else { 0.0 };
    Quintic::new(from, to, into * span, out * span).at(u)
}

/// Steps of random poses, times in whole milliseconds, easings, dwells, lags and shares.
pub fn steps(flow: bool) -> impl Strategy<Value = String> {
    let poses = prop_oneof![Just("zero"), Just("far"), Just("a30"), Just("a75"), Just("a-40"), Just("b20")];
    let easing = 0usize..if flow { 6 } else { 5 };
    let one = (
        poses,
        300u32..1500,
        easing,
        prop_oneof![Just(0u32), 1u32..400],
        prop_oneof![Just(None), (0u32..200, 0.3..0.8f64).prop_map(Some)],
    );
    proptest::collection::vec(one, 2..7).prop_map(|steps| {
        let mut text = String::new();
        for (n, (pose, ms, easing, dwell, own)) in steps.into_iter().enumerate() {
            let easing = ["linear", "cubic", "sine", "minimum-jerk", "trapezoid", "flow"][easing];
            let own = own.map_or(String::new(), |(lag, share)| {
                format!("joint = {{ a = {{ lag_s = {}, share = {share:.2} }} }}\n", f64::from(lag) / 1000.0 * f64::from(ms) / 1500.0)
            });
            let (ms, dwell) = (f64::from(ms) / 1000.0, f64::from(dwell) / 1000.0);
            write!(text, "[[sequence.step]]\nlabel = \"l{n}\"\npose = \"{pose}\"\nmove_s = {ms}\neasing = \"{easing}\"\ndwell_s = {dwell}\n{own}").unwrap();
        }
        text
    })
}

/// Two loops in each other, and a call of a sequence that has one too.
pub fn looped() -> impl Strategy<Value = String> {
    (steps(false), steps(false), 1u32..4, 1u32..4, 1u32..4, prop_oneof![Just(100), Just(200), Just(50)]).prop_map(|(outer, inner, a, b, c, tempo)| {
        let last = inner.matches("[[sequence.step]]").count() - 1;
        let end = outer.matches("[[sequence.step]]").count() - 1;
        format!(
            "[[sequence]]\nname = \"s\"\n{outer}[[sequence.step]]\nlabel = \"call\"\nplay = \"t\"\nwith = {{ strokes = {c} }}\n\
             [[sequence.loop]]\nfrom = \"l0\"\nto = \"l{end}\"\ntimes = {a}\n[[sequence.loop]]\nfrom = \"l1\"\nto = \"l1\"\ntimes = {b}\n\
             [[sequence.loop]]\nfrom = \"l{end}\"\nto = \"l{end}\"\ntimes = 1\n\
             [[sequence]]\nname = \"t\"\ntempo_percent = {tempo}\nparameters = {{ strokes = 9 }}\n{inner}\
             [[sequence.loop]]\nfrom = \"l0\"\nto = \"l{last}\"\ntimes = \"strokes\"\n"
        )
    })
}

fn agrees(sequences: &str) -> Result<(), TestCaseError> {
    let rig = rig_of(&text(sequences, [10_000.0; 3]));
    let moves = played_out(&rig);
    let end = moves.last().map_or(0, |last| last.starts + last.moves + last.dwells);
    let mut show = Show::of(&rig);
    show.play(0);
    let mut t = 0u64;
    while t + 20_000_000 < end {
        show.beat(&[]);
        t += 20_000_000;
        for (servo, joint) in JOINTS.into_iter().enumerate() {
            let (is, wanted) = (show.angle(servo), is_at(&moves, joint, t));
            prop_assert!(
                (is - wanted).abs() < 1e-9,
                "{joint} at {} s is {is} and not {wanted}",
                t as f64 / 1e9
            );
        }
    }
    show.beats(2);
    prop_assert_eq!(show.stands(), Play::Ended);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    #[test]
    fn steps_are_where_the_slow_twin_is(steps in steps(true), tempo in prop_oneof![Just(100), Just(50), Just(200)]) {
        agrees(&format!("[[sequence]]\nname = \"s\"\ntempo_percent = {tempo}\n{steps}"))?;
    }

    #[test]
    fn so_are_loops_in_loops_and_calls_with_loops(text in looped()) {
        agrees(&text)?;
    }
}
