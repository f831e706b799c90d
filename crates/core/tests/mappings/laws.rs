//! What holds whatever comes.

use super::*;
use proptest::prelude::*;

/// The place of the mapping that tells a rate among all of them.
const SLEW: usize = 1;

/// Every kind of goal at once, each with an input of its own kind.
const ALL: &str = "[[mapping]]\nname = \"gaze\"\nfrom = { knob = 1, pad = 0.3 }\nto = { blend = [\"rest\", \"look\"], joints = [\"heron.neck\"] }\n\
                   while = { input = \"mode\", position = 1 }\nwhen_lost = \"home\"\n\
                   [[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.neck\", rates_deg_s = [-400, 400] }\n\
                   while = { input = \"mode\", position = 2 }\n\
                   [[mapping]]\nname = \"vane\"\nfrom = { vane = 1 }\nto = { joint = \"heron.neck\" }\nwhile = { input = \"mode\", position = 3 }\n\
                   failsafe = { angle_deg = 20, over_s = 0.3 }\n\
                   [[mapping]]\nname = \"beak\"\nfrom = { pad = 2 }\nto = { joint = \"heron.beak\", points = [[-1, 300], [0.2, -300], [1, 80]] }\ntake = \"pick-up\"\n\
                   [[mapping]]\nname = \"hoist\"\nfrom = { stick = -3 }\nto = { rate = \"crane.winch\", levels_percent = [-100, 100] }\nwhen_lost = \"home\"\n\
                   [[mapping]]\nname = \"glow\"\nfrom = { knob = 1 }\nto = { level = \"marsh.moon\", levels_percent = [0, 100] }\n";

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Whatever comes, is lost, is asked by hand or plays: no servo leaves what it may have, none moves faster than it may,
    /// and a new owner is never met with a jump.
    #[test]
    fn nothing_leaves_its_limits_or_jumps_whatever_comes(
        turns in proptest::collection::vec((0usize..9, -2.0..2.0f64, 1u32..12), 1..60),
    ) {
        let rig = rig(ALL);
        let mut bench = Bench::of(&rig);
        let (mut before, mut owners) = ([0.0; 4], [Owner::Nobody; 4]);
        for servo in 0..4 {
            (before[servo], owners[servo]) = (bench.pulse(servo), bench.owner(servo));
        }
        for (what, value, beats) in turns {
            let wild = if value.abs() < 0.1 { f64::NAN } else if value > 1.9 { f64::INFINITY } else { value };
            let commands: Vec<Placed> = match what {
                0 => { bench.set(STICK, wild); vec![] }
                1 => { bench.set(KNOB, wild); vec![] }
                2 => { bench.set(PAD, wild); vec![] }
                3 => { bench.set(VANE, value * 60.0); vec![] }
                4 => { bench.set(MODE, (value.abs() * 1.4).floor()); vec![] }
                5 => { bench.hand = value > -1.0; vec![] }
                6 => { bench.radio = value > -1.0; vec![] }
                7 => vec![Command::GoTo { servo: NECK, pulse: US(1500.0 + 200.0 * value) }, Command::Play { sequence: 0 }],
                _ => vec![Command::GiveBack { servo: NECK }, Command::GiveBack { servo: BEAK }, Command::StopPlaying],
            };
            bench.beat(&commands);
            for n in 0..beats {
                if n > 0 { bench.beat(&[]); }
                for servo in 0..4 {
                    let (plan, state) = (&bench.stage.plan().servos[servo], &bench.stage.servos()[servo]);
                    let (low, high) = plan.guard.free();
                    let pulse = bench.pulse(servo);
                    prop_assert!(pulse >= low.get() - 1e-6 && pulse <= high.get() + 1e-6, "{servo} at {pulse}");
                    // The fastest that it may be, and while it meets a new owner no more than a glide.
                    let most = plan.pace.most * BEAT.as_secs_f64();
                    let step = (pulse - before[servo]).abs();
                    prop_assert!(plan.stop.is_some() || step <= most + 1e-6, "{servo} jumps {step}");
                    // A new owner is met with a glide: of those that have a place of their own, and no failsafe's time.
                    let is_met = state.owner != owners[servo]
                        && !matches!(state.owner, Owner::Hand | Owner::LostMapping)
                        && !(servo == NECK && state.mapping() == Some(SLEW))
                        && plan.stop.is_none();
                    let glide = plan.pace.glide * BEAT.as_secs_f64();
                    prop_assert!(!is_met || step <= glide + 1e-6, "{servo} meets {:?} with {step}", state.owner);
                    (before[servo], owners[servo]) = (pulse, state.owner);
                }
            }
        }
    }

    /// Before the input has passed it, what is picked up does not move at all.
    #[test]
    fn what_is_picked_up_never_moves_before_the_crossing(
        from in 1000.0..2000.0f64,
        sticks in proptest::collection::vec(-1.0..1.0f64, 1..40),
    ) {
        let rig = rig("[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.beak\", angles_deg = [-45, 45] }\ntake = \"pick-up\"\n");
        let mut bench = Bench::of(&rig);
        bench.beat(&[Command::GoTo { servo: BEAK, pulse: US(from) }]);
        bench.settle();
        let stands = bench.pulse(BEAK);
        let asked = |bench: &Bench, stick: f64| bench.pulse_of(BEAK, 45.0 * stick) - stands;
        bench.set(STICK, sticks[0]);
        bench.beat(&[]);
        bench.beat(&[Command::GiveBack { servo: BEAK }]);
        let first = asked(&bench, sticks[0]);
        let mut crossed = first.abs() < 1e-6;
        for stick in sticks {
            bench.set(STICK, stick).beats(3);
            crossed |= asked(&bench, stick) * first <= 0.0;
            prop_assert!(crossed || bench.pulse(BEAK) == stands, "it moved before");
        }
    }

    /// With smoothing the ends are reached all but a millionth in fifteen of its times.
    #[test]
    fn a_smoothed_input_reaches_its_ends(smoothing_ms in 20.0..200.0f64) {
        let mut rig = rig("[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n");
        rig.inputs[STICK].smoothing_ms = smoothing_ms;
        let mut bench = Bench::of(&rig);
        bench.set(STICK, -1.0).settle();
        bench.set(STICK, 1.0);
        let beats = (15.0 * smoothing_ms / 20.0).ceil();
        bench.beats(wasvolta_core::unit::count16(beats).into());
        prop_assert!((bench.stage.mappings()[0].value - 30.0).abs() <= 60.0 * 1e-6);
    }
}

#[test]
fn a_link_that_is_gone_is_lost_at_once() {
    let mut bench = Bench::of(&rig(ALL));
    bench.settle();
    bench.now += BEAT;
    let gone = Heard { way: Way::Gone, ..Heard::default() };
    bench.stage.advance(bench.now, Inflow { links: &[gone, gone], inputs: &[], measured: &[] }, &[]);
    assert!(bench.stage.mappings().iter().all(|state| state.stand != Stand::Moves));
}
