//! Laws of what several servos turn together, of what bends, of boards that go and come back, and of edits: nothing
//! jumps, whatever happens.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Run, US, rig};
use proptest::prelude::*;
use wasvolta_core::bent::WITHIN_DEG;
use wasvolta_core::estimate::Known;
use wasvolta_core::linkage::{Branch, FourBar, Gear, Hand, Steering};
use wasvolta_core::rig::edit::{self, End, Observation, joint, roster};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Back, Ends, Limit, Mark, MarkKind, ReadAt, Rig, Side};
use wasvolta_core::stage::exercise::Exercise;
use wasvolta_core::stage::{Command, EventKind, Owner, Placed, Plan, Prepared, Refusal, Said};
use wasvolta_core::unit::{Degrees, DegreesPerSecond, Millimetres, Position, Seconds, Ticks};

const DEG: fn(f64) -> Degrees = Degrees::new;
const MM: fn(f64) -> Millimetres = Millimetres::new;

/// Without poses, so that joints may be tied and changed at will.
fn bare() -> Rig {
    Rig { poses: Vec::new(), sequences: Vec::new(), mappings: Vec::new(), ..rig() }
}

impl Run {
    fn beats(&mut self, count: u32) {
        (0..count).for_each(|_| self.beat(&[]));
    }

    /// Where a servo has its joint, in degrees.
    fn joint(&self, servo: usize) -> f64 {
        let scale = self.stage.plan().servos[servo].scale.as_ref().unwrap();
        scale.angle_at(self.stage.servos()[servo].pulse).get()
    }

    fn events(&self) -> Vec<EventKind> {
        self.stage.events().iter().map(|event| event.kind).collect()
    }
}

fn engage(servo: usize, pulse: f64) -> Placed {
    Command::Engage { servo, pulse: US(pulse), stands_there: true }
}

fn mark(pulse: f64, angle: f64) -> Mark {
    Mark { pulse_us: Some(US(pulse).micros()), angle_deg: Some(DEG(angle)), ..Mark::default() }
}

/// The beak turns the neck's joint too, by a curve that bends.
fn coupled() -> Rig {
    let mut rig = joint::couple(&bare(), "heron.neck", "heron.beak").unwrap();
    rig.servos[1].endpoints_us = Ends { low: US(900.0).micros(), high: US(2100.0).micros() };
    rig.servos[1].fit = wasvolta_core::fit::Shape::Cubic;
    rig.servos[1].marks = [(900.0, 60.0), (1200.0, 38.0), (1500.0, 4.0), (1800.0, -36.0), (2100.0, -58.0)]
        .map(|(pulse, angle)| mark(pulse, angle))
        .to_vec();
    rig
}

fn bars() -> FourBar {
    FourBar {
        horn_mm: MM(20.0),
        rod_mm: MM(40.0),
        arm_mm: MM(22.0),
        pivots_mm: MM(50.0),
        horn_at_deg: DEG(90.0),
        branch: Branch::SameSide,
        offset_deg: DEG(0.0),
        reversed: false,
    }
}

/// The neck behind a linkage whose endpoints pass its reach.
fn linked() -> Rig {
    let mut rig = Rig { joints: rig().joints, ..bare() };
    rig.joints[0].low = None;
    rig.joints[0].high = None;
    rig.joints[0].home_deg = None;
    rig.servos[0].endpoints_us = Ends { low: US(1000.0).micros(), high: US(2000.0).micros() };
    rig.servos[0].marks = vec![mark(1000.0, -60.0), mark(2000.0, 60.0)];
    joint::set_linkage(&rig, "heron.neck", bars()).unwrap()
}

mod together {
    use super::*;

    #[test]
    fn what_turns_one_joint_stays_at_one_angle_while_it_moves() {
        let pair = Steering { track_mm: MM(190.0), wheelbase_mm: MM(310.0) };
        let steered = joint::set_steering(&coupled(), "heron.neck", Some(pair)).unwrap();
        for rig in [coupled(), steered] {
            let mut run = Run::new(&rig);
            run.beat(&[engage(0, 1500.0)]);
            for target in [1900.0, 1100.0, 1480.0, 2100.0] {
                run.beat(&[Command::GoTo { servo: 0, pulse: US(target) }]);
                for _ in 0..200 {
                    run.beat(&[]);
                    assert!((run.joint(0) - run.joint(1)).abs() <= 1e-6, "{} {}", run.joint(0), run.joint(1));
                }
            }
        }
    }

    #[test]
    fn the_slowest_of_them_sets_the_pace_where_it_is() {
        let mut rig = coupled();
        rig.servos[1].rated.as_mut().unwrap().s_per_60_deg = Some(Seconds::new(1.0));
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0), Command::Jog { servo: 0, by: US(400.0), repeat: false }]);
        let mut fastest = 0.0f64;
        while run.pulse(0) < 1899.0 {
            let before = run.joint(0);
            run.beat(&[]);
            fastest = fastest.max((run.joint(0) - before).abs() / 0.02);
        }
        assert!((55.0..=60.0 + 1e-6).contains(&fastest), "{fastest} °/s of 60");
    }

    #[test]
    fn the_wheels_of_a_steered_pair_turn_about_one_middle_all_the_way() {
        let pair = Steering { track_mm: MM(190.0), wheelbase_mm: MM(310.0) };
        let rig = joint::set_steering(&coupled(), "heron.neck", Some(pair)).unwrap();
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0), Command::Jog { servo: 0, by: US(300.0), repeat: false }]);
        for _ in 0..100 {
            run.beat(&[]);
            let wheel = |n: usize| rig.servos[n].fit().unwrap().curve.angle_at(run.stage.servos()[n].pulse);
            let middle = DEG(run.joint(0));
            assert!((wheel(0) - pair.wheel(Hand::Left, middle)).abs().get() <= 2.0 * WITHIN_DEG);
            assert!((wheel(1) - pair.wheel(Hand::Right, middle)).abs().get() <= 2.0 * WITHIN_DEG);
        }
    }

    #[test]
    fn one_without_marks_neither_leads_nor_follows_and_two_that_would_pull_are_refused() {
        let mut rig = coupled();
        rig.servos[1].marks.clear();
        rig.servos[1].fit = wasvolta_core::fit::Shape::default();
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0)]);
        assert!(run.stage.servos()[1].ticks().is_none(), "no fit, no angle, no following");
        run.beat(&[engage(1, 1500.0)]);
        assert_eq!(run.events(), [EventKind::Refused(Refusal::NoMarks)]);
        run.beat(&[Command::Jog { servo: 0, by: US(350.0), repeat: false }]);
        run.beats(50);
        assert!(run.stage.servos()[1].ticks().is_none());
        // Alone it is moved by hand, to be marked.
        run.beat(&[Command::Release { servo: 0 }, engage(1, 1400.0)]);
        run.beat(&[Command::Jog { servo: 1, by: US(30.0), repeat: false }]);
        run.beats(5);
        assert!((run.pulse(1) - 1430.0).abs() < 1e-9 && run.stage.servos()[0].ticks().is_none());
        run.beat(&[engage(0, 1500.0)]);
        assert_eq!(run.events(), [EventKind::Refused(Refusal::NoMarks)]);
    }

    #[test]
    fn a_leader_that_an_edit_left_outside_glides_in_though_its_follower_is_slower() {
        let rig = joint::couple(&bare(), "heron.neck", "heron.beak").unwrap();
        let gear = Gear { ratio: 0.135, offset_deg: DEG(0.9) };
        let rig = joint::set_gear(&rig, "heron.neck", Some(gear)).unwrap();
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0)]);
        run.beats(200);
        assert!((run.pulse(0) - 1500.0).abs() < 1.0, "it was engaged there");
        let rig = edit::set_endpoint(&rig, "heron.neck", End::Low, US(1785.0)).unwrap();
        run.stage.swap(Prepared::new(Plan::of(&rig)));
        let most = run.stage.plan().servos[0].pace.glide * 0.02 + 1e-6;
        for _ in 0..600 {
            let before = run.pulse(0);
            run.beat(&[]);
            let now = run.pulse(0);
            assert!(
                (now - before).abs() <= most,
                "from {before} to {now} µs; a glide takes {most} µs at most"
            );
        }
        assert!((run.pulse(0) - 1785.0).abs() < 1e-6, "{} µs", run.pulse(0));
    }

    #[test]
    fn an_exercise_of_a_follower_goes_between_the_pulses_that_were_asked_of_it() {
        let mut run = Run::new(&coupled());
        run.beat(&[engage(0, 1500.0)]);
        let what = Exercise {
            low: US(1300.0),
            high: US(1700.0),
            centre: US(1450.0),
            us_per_s: 400.0,
            pause_ms: 40,
            times: Some(2),
        };
        run.beat(&[Command::Exercise { servo: 1, what }]);
        let (mut least, mut most) = (f64::INFINITY, 0.0f64);
        for _ in 0..1000 {
            run.beat(&[]);
            (least, most) = (least.min(run.pulse(1)), most.max(run.pulse(1)));
        }
        // The table of a bend is as near as it says; a twentieth of a degree is less than a microsecond here.
        assert!((least - 1300.0).abs() < 1.0 && (most - 1700.0).abs() < 1.0, "{least} to {most} µs");
        assert!(run.stage.servos()[0].exercise().is_none(), "it is over");
        assert!((run.pulse(1) - 1450.0).abs() < 1.0, "{} µs at the end", run.pulse(1));
    }

    #[test]
    fn a_joint_waits_for_the_one_whose_board_is_away() {
        let mut run = Run::new(&coupled());
        run.beat(&[engage(0, 1500.0)]);
        run.beat(&[
            Command::Wire { servo: 1, said: Said::Away },
            Command::Jog { servo: 0, by: US(200.0), repeat: false },
        ]);
        run.beats(20);
        assert!((run.pulse(0) - 1500.0).abs() < 1e-9, "they turn together");
    }
}

mod bends {
    use super::*;

    #[test]
    fn limits_and_a_linkages_reach_hold_together_the_tighter_one_at_each_end() {
        let rig = linked();
        let free = |rig: &Rig| {
            let (low, high) = Plan::of(rig).servos[0].guard.free();
            (low.get(), high.get())
        };
        let scale = Plan::of(&rig).servos[0].scale.clone().unwrap();
        let (low, high) = free(&rig);
        for (from, to) in [(0.2, 0.9), (0.1, 0.6), (0.3, 0.7)] {
            let [from, to] = [from, to].map(|share| low + (high - low) * share);
            let (a, b) = (scale.angle_at(US(from)), scale.angle_at(US(to)));
            let limit = |angle| Some(Limit { angle_deg: angle, reason: String::new() });
            let mut limited = rig.clone();
            let (least, most) = if a < b { (a, b) } else { (b, a) };
            (limited.joints[0].low, limited.joints[0].high) = (limit(least), limit(most));
            let (low, high) = free(&limited);
            assert!(
                (low - from).abs() < 0.5 && (high - to).abs() < 0.5,
                "{low} to {high}, {from} to {to} were set"
            );
        }
    }

    #[test]
    fn endpoints_beyond_a_linkages_reach_are_taken_inwards_and_it_moves_to_its_end() {
        let rig = linked();
        let plan = Plan::of(&rig);
        let (low, high) = plan.servos[0].guard.free();
        let (reach_low, reach_high) = plan.servos[0].scale.as_ref().unwrap().bent().unwrap().reach().unwrap();
        assert!(
            low >= US(1000.0)
                && high <= US(2000.0)
                && (low, high)
                    == (reach_low.within(US(1000.0), US(2000.0)), reach_high.within(US(1000.0), US(2000.0)))
        );
        assert!(low > US(1000.0) || high < US(2000.0), "one of them is beyond");
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0)]);
        for target in [2000.0, 1000.0] {
            run.beat(&[Command::GoTo { servo: 0, pulse: US(target) }]);
            run.beats(400);
            assert!(
                (run.pulse(0) - target.clamp(low.get(), high.get())).abs() < 1e-6,
                "{target}: {}",
                run.pulse(0)
            );
        }
    }

    proptest! {
        #[test]
        fn the_joint_and_the_shaft_are_never_too_fast_and_it_always_arrives(
            to in 1000.0..2000.0f64, from in 1000.0..2000.0f64, speed in 20.0..300.0f64,
        ) {
            let mut rig = linked();
            rig.joints[0].speed_deg_s = Some(DegreesPerSecond::new(speed));
            let mut run = Run::new(&rig);
            let plan = Plan::of(&rig);
            let (low, high) = plan.servos[0].guard.free();
            let bent = plan.servos[0].scale.as_ref().unwrap().bent().unwrap();
            run.beat(&[engage(0, US(from).within(low, high).get())]);
            run.beat(&[Command::Jog { servo: 0, by: US(to - run.pulse(0)), repeat: false }]);
            let wanted = US(to).within(low, high).get();
            let mut beats = 0;
            while (run.pulse(0) - wanted).abs() > 1e-6 {
                let before = run.stage.servos()[0].pulse;
                run.beat(&[]);
                let after = run.stage.servos()[0].pulse;
                let moved = (bent.joint_at(after) - bent.joint_at(before)).abs().get();
                let turned = (bent.at(after).1 - bent.at(before).1).abs().get();
                // 0.15 s/60° is 400 °/s.
                prop_assert!(moved <= speed * 0.02 + 1e-6 && turned <= 8.0 + 1e-6, "{moved} {turned}");
                beats += 1;
                prop_assert!(beats < 2000, "it stands at {} on its way to {wanted}", run.pulse(0));
            }
        }
    }

    #[test]
    fn as_fast_as_it_can_ends_where_it_should_behind_a_curve() {
        let text = include_str!("data/small.rig.toml")
            .replace("{ pulse_us = 1100, angle_deg = -40 },", "{ pulse_us = 950, angle_deg = -60 }, { pulse_us = 1200, angle_deg = -50 }, { pulse_us = 1500, angle_deg = 0 },")
            .replace("{ pulse_us = 1900, angle_deg = 40 },", "{ pulse_us = 1800, angle_deg = 50 }, { pulse_us = 2050, angle_deg = 60 },")
            .replace("endpoints_us = [900, 2100]", "fit = \"cubic\"\nendpoints_us = [900, 2100]")
            + "\n[[pose]]\nname = \"far\"\nangles_deg = { \"heron.neck\" = 44 }\n[[pose]]\nname = \"back\"\nangles_deg = { \"heron.neck\" = -44 }\n\
               [[sequence]]\nname = \"fast\"\n[[sequence.step]]\npose = \"far\"\neasing = \"linear\"\n[[sequence.step]]\npose = \"back\"\neasing = \"linear\"\n";
        let Loaded::Sound(rig) = load(&text) else { panic!("{:?}", load(&text)) };
        let n = rig.sequences.iter().position(|s| s.name == "fast").unwrap();
        let mut run = Run::new(&rig);
        run.beat(&[engage(0, 1500.0)]);
        run.beat(&[Command::GiveBack { servo: 0 }, Command::Play { sequence: n }]);
        run.beats(100);
        let Some(program) = run.stage.plan().programs.get(n) else { panic!() };
        assert!(program.shorts().is_empty());
        assert!((run.joint(0) + 44.0).abs() < 1e-6, "{}", run.joint(0));
        // The way from 44° to −44° takes what its speed says: 400 °/s, so 0.22 s.
        assert!((program.steps[1].moves.seconds() - 88.0 / 400.0).abs() < 1e-6, "{:?}", program.steps[1]);
    }
}

mod wires {
    use super::*;

    fn said(servo: usize, said: Said) -> Placed {
        Command::Wire { servo, said }
    }

    /// Engaged, its pulse on the wire.
    fn engaged(rig: &Rig) -> Run {
        let mut run = Run::new(rig);
        run.beat(&[said(0, Said::Waits), said(1, Said::Waits)]);
        run.beat(&[engage(0, 1500.0), engage(1, 1200.0)]);
        run.beat(&[]);
        let arrives =
            |run: &Run, n: usize| said(n, Said::Arrives { ticks: run.stage.servos()[n].ticks().unwrap() });
        let both = [arrives(&run, 0), arrives(&run, 1)];
        run.beat(&both);
        run
    }

    #[test]
    fn nothing_moves_before_its_first_pulse_has_arrived() {
        let mut run = Run::new(&rig());
        run.beat(&[said(0, Said::Waits)]);
        run.beat(&[engage(0, 1700.0)]);
        run.beat(&[Command::GiveBack { servo: 0 }]);
        run.beats(20);
        assert!((run.pulse(0) - 1700.0).abs() < 1e-9, "home is elsewhere, and it waits");
        let ticks = run.stage.servos()[0].ticks().unwrap();
        run.beat(&[said(0, Said::Arrives { ticks })]);
        run.beats(200);
        assert!((run.pulse(0) - 1500.0).abs() < 1e-9);
    }

    #[test]
    fn out_of_reach_it_stays_and_refuses_the_hand() {
        let mut run = engaged(&rig());
        run.beat(&[said(0, Said::Away)]);
        run.beat(&[Command::Jog { servo: 0, by: US(50.0), repeat: false }]);
        assert_eq!(run.events(), [EventKind::Refused(Refusal::Away)]);
        run.beats(50);
        assert!((run.pulse(0) - 1500.0).abs() < 1e-9);
    }

    #[test]
    fn what_kept_its_pulse_goes_on_from_it_with_a_glide_one_after_another() {
        let mut run = engaged(&rig());
        run.beat(&[
            Command::Jog { servo: 0, by: US(300.0), repeat: false },
            Command::Jog { servo: 1, by: US(300.0), repeat: false },
        ]);
        run.beat(&[said(0, Said::Away), said(1, Said::Away)]);
        run.beats(100);
        // The wire holds an earlier pulse than the stage had come to.
        let held = [Ticks(310), Ticks(250)];
        run.beat(&[said(0, Said::Arrives { ticks: held[0] }), said(1, Said::Arrives { ticks: held[1] })]);
        assert!(run.events().contains(&EventKind::Resumed));
        let clock = run.stage.plan().servos[0].guard.steps;
        let (mut begun, mut before) = ([None; 2], [0, 1].map(|n| run.pulse(n)));
        assert!((before[1] - clock.place(held[1]).get()).abs() < 1e-9);
        for beat in 0..100 {
            run.beat(&[]);
            for n in 0..2 {
                let moved = (run.pulse(n) - before[n]).abs();
                assert!(moved <= 12.0 + 1e-9, "60 °/s are 12 µs a beat: {moved}");
                if moved > 0.0 && begun[n].is_none() {
                    begun[n] = Some(beat);
                }
                before[n] = run.pulse(n);
            }
        }
        let [Some(first), Some(second)] = begun else { panic!("{begun:?}") };
        // The first went on in the very beat in which it was heard of.
        assert_eq!((first, second), (0, 3), "80 ms apart");
        assert!((run.pulse(0) - 1800.0).abs() < 1e-9 && (run.pulse(1) - 1500.0).abs() < 1e-9);
    }

    #[test]
    fn what_lost_its_pulses_is_met_at_the_last_one_or_asked_about_as_its_joint_says() {
        let stopped = |fallen| said(0, Said::Stopped { told: Ticks(320), fallen });
        // By the joint: loaded, its own word, the supply; and what becomes of it.
        let cases = [
            (false, None, false, Back::Last),
            (true, None, false, Back::Ask),
            (false, None, true, Back::Ask),
            (true, Some(Back::Last), true, Back::Last),
            (false, Some(Back::Ask), false, Back::Ask),
            (false, Some(Back::StayReleased), false, Back::StayReleased),
        ];
        for (loaded, word, fallen, back) in cases {
            let mut rig = rig();
            (rig.joints[0].loaded, rig.joints[0].back) = (loaded, word);
            let mut run = engaged(&rig);
            run.beat(&[said(0, Said::Away)]);
            run.beat(&[stopped(fallen)]);
            assert!(run.events().contains(&EventKind::Interrupted(back)), "{loaded} {word:?} {fallen}");
            let state = run.stage.servos()[0];
            assert_eq!(state.engaged, back == Back::Last);
            assert_eq!(state.lost_place, back == Back::Ask);
            if back == Back::Last {
                assert_eq!(state.ticks(), Some(Ticks(320)), "its last pulse, nowhere else");
                assert_eq!(state.estimate.known, Known::Assumed);
                run.beats(10);
                assert_eq!(run.stage.servos()[0].ticks(), Some(Ticks(320)), "until that has arrived");
                run.beat(&[said(0, Said::Arrives { ticks: Ticks(320) })]);
                let before = run.pulse(0);
                run.beats(1);
                assert!((run.pulse(0) - before).abs() <= 12.0 + 1e-9);
                run.beats(100);
                assert!((run.pulse(0) - 1500.0).abs() < 1e-9);
            } else {
                assert_eq!((state.ticks(), state.estimate.known), (None, Known::Unknown));
            }
            assert!(run.stage.servos()[1].engaged, "the other goes on");
        }
    }

    #[test]
    fn what_a_person_engaged_meanwhile_keeps_its_place() {
        let mut run = engaged(&rig());
        run.beat(&[said(0, Said::Away)]);
        run.beat(&[Command::Release { servo: 0 }]);
        run.beat(&[engage(0, 1400.0)]);
        run.beat(&[said(0, Said::Stopped { told: Ticks(320), fallen: false })]);
        assert!((run.pulse(0) - 1400.0).abs() < 1e-9 && run.stage.servos()[0].engaged);
    }

    proptest! {
        /// Whatever boards say and whoever drives, no two pulses of a servo differ by more than a beat's way, but where
        /// a board said what its wire holds, or a person placed the first one.
        #[test]
        fn no_pulse_jumps(happens in proptest::collection::vec((0usize..2, 0u8..8, -400.0..400.0f64, 1u32..30), 1..40)) {
            let mut rig = rig();
            rig.joints.iter_mut().for_each(|joint| joint.back = Some(Back::Last));
            let mut run = engaged(&rig);
            // At 0.15 and 0.12 s/60° on 0.1 °/µs: 4000 and 5000 µs/s.
            let fastest = [80.0, 100.0];
            for (n, what, by, beats) in happens {
                let state = run.stage.servos()[n];
                let ticks = state.ticks().unwrap_or(Ticks(307));
                let (command, free) = match what {
                    0 => (said(n, Said::Away), false),
                    1 => (said(n, Said::Arrives { ticks }), true),
                    2 => (said(n, Said::Stopped { told: ticks, fallen: false }), true),
                    3 => (Command::GiveBack { servo: n }, false),
                    4 => (Command::Play { sequence: 0 }, false),
                    5 => (engage(n, 1500.0 + by), !state.engaged),
                    6 => (said(n, Said::Waits), false),
                    _ => (Command::Jog { servo: n, by: US(by), repeat: false }, false),
                };
                for beat in 0..beats {
                    let before = [0, 1].map(|n| run.pulse(n));
                    if beat == 0 { run.beat(&[command]) } else { run.beat(&[]) }
                    for m in 0..2 {
                        let told = free && beat == 0 && m == n;
                        let most = if told && what != 5 { fastest[m] + 4.88 } else { fastest[m] };
                        let moved = (run.pulse(m) - before[m]).abs();
                        prop_assert!(moved <= most + 1e-9 || (told && what == 5), "{moved} µs at {what}");
                    }
                }
            }
        }
    }
}

mod edits {
    use super::*;

    #[expect(clippy::unnecessary_wraps, reason = "limits are optional where it is used")]
    fn limit(angle: f64) -> Option<Limit> {
        Some(Limit { angle_deg: DEG(angle), reason: String::new() })
    }

    fn seen(pulse: f64, angle: f64) -> Observation {
        Observation {
            pulse: US(pulse),
            ticks: Ticks(307),
            seen: MarkKind::Aligned,
            from: Side::Unknown,
            angle: Some(DEG(angle)),
            at: ReadAt::Servo,
            rate: None,
        }
    }

    type Edit = (&'static str, fn(&Rig, f64) -> edit::Edited);

    /// Every kind of edit that can move what may stand where.
    const EDITS: &[Edit] = &[
        ("low endpoint", |rig, x| edit::set_endpoint(rig, "heron.neck", End::Low, US(1500.0 + 500.0 * x))),
        ("high endpoint", |rig, x| edit::set_endpoint(rig, "heron.neck", End::High, US(1500.0 + 500.0 * x))),
        ("low limit", |rig, x| edit::set_limit(rig, "heron.neck", End::Low, limit(40.0 * x))),
        ("high limit", |rig, x| edit::set_limit(rig, "heron.neck", End::High, limit(40.0 * x))),
        ("gear", |rig, x| {
            joint::set_gear(rig, "heron.neck", Some(Gear { ratio: 3.0 * x, offset_deg: DEG(20.0 * x) }))
        }),
        ("linkage", |rig, x| {
            joint::set_linkage(rig, "heron.neck", FourBar { horn_at_deg: DEG(90.0 + 60.0 * x), ..bars() })
        }),
        ("couple", |rig, _| joint::couple(rig, "heron.neck", "heron.beak")),
        ("uncouple", |rig, _| joint::uncouple(rig, "heron.beak")),
        ("steer", |rig, x| {
            joint::set_steering(
                rig,
                "heron.neck",
                Some(Steering { track_mm: MM(100.0 + 90.0 * x), wheelbase_mm: MM(150.0) }),
            )
        }),
        ("reverse", |rig, _| joint::reverse(rig, "heron.neck", joint::About::Ends)),
        ("mark", |rig, x| edit::keep_mark(rig, "heron.beak", seen(1500.0 + 300.0 * x, 50.0 + 25.0 * x))),
        ("rate", |rig, x| {
            joint::set_frame_rate(rig, "upper", wasvolta_core::unit::Hertz::new(60.0 + 15.0 * x))
        }),
        ("remove", |rig, _| roster::remove_servo(rig, "heron.beak")),
    ];

    #[test]
    fn a_steered_pair_whose_limits_cannot_be_met_is_refused_with_the_angle_at_which_it_fails() {
        let mut rig = coupled();
        let wide = |low: f64, high: f64| (limit(low), limit(high));
        (rig.joints[0].low, rig.joints[0].high) = wide(-80.0, 80.0);
        let pair = Steering { track_mm: MM(100.0), wheelbase_mm: MM(150.0) };
        let refused = joint::set_steering(&rig, "heron.neck", Some(pair)).unwrap_err().to_string();
        // tan 71.57° = 2·150/100, less a degree.
        assert!(refused.contains("-80°") && refused.contains("-70.6°"), "{refused}");
        (rig.joints[0].low, rig.joints[0].high) = wide(-40.0, 40.0);
        joint::set_steering(&rig, "heron.neck", Some(pair)).unwrap();
    }

    #[test]
    fn a_linkage_whose_limits_cannot_be_met_is_refused_with_the_angle_at_which_it_fails() {
        let mut rig = bare();
        rig.joints[0].home_deg = None;
        rig.joints[0].low = limit(-30.0);
        rig.joints[0].high = limit(140.0);
        let refused = joint::set_linkage(&rig, "heron.neck", bars()).unwrap_err().to_string();
        assert!(refused.contains("limit at 140°") && refused.contains("reaches"), "{refused}");
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

        /// After an edit an engaged servo glides at most, and stands at the nearest place where it may.
        #[test]
        fn an_edit_never_moves_what_is_engaged_by_more_than_a_glide(
            first in 0..EDITS.len(), then in proptest::collection::vec((0..EDITS.len(), -1.0..1.0f64), 1..4),
            x in -1.0..1.0f64, pulses in (950.0..2050.0f64, 1000.0..2000.0f64), given_back: bool,
        ) {
            let start = bare();
            let mut rig = EDITS[first].1(&start, x).unwrap_or(start);
            let mut run = Run::new(&rig);
            run.beat(&[engage(0, pulses.0)]);
            run.beat(&[engage(1, pulses.1)]);
            if given_back {
                run.beat(&[Command::GiveBack { servo: 0 }]);
            }
            run.beats(200);
            for (n, x) in then {
                let Ok(next) = EDITS[n].1(&rig, x) else { continue };
                rig = next;
                let stood: Vec<Position> = run.stage.servos().iter().map(|s| s.pulse).collect();
                let held: Vec<bool> = run.stage.servos().iter().map(|s| s.engaged && s.owner == Owner::Hand).collect();
                run.stage.swap(Prepared::new(Plan::of(&rig)));
                // Through a gear of one to a hundred they move together for long: until all stand, or a minute.
                let (mut beat, mut moves) = (0, true);
                while beat < 300 || (moves && beat < 3000) {
                    let before: Vec<Position> = run.stage.servos().iter().map(|s| s.pulse).collect();
                    run.beat(&[]);
                    for (m, state) in run.stage.servos().iter().enumerate() {
                        if !state.engaged { continue }
                        let plan = &run.stage.plan().servos[m];
                        // Two seconds of patience; what is not caught by then is met at full speed.
                        let speed = if beat < 100 { plan.pace.glide } else { plan.pace.most };
                        let reached = plan.go(before[m], state.pulse, speed, 0.02 + 1e-6);
                        prop_assert!((reached - state.pulse).abs().get() < 1e-3, "{}: servo {m} went from {:?} to {:?} in beat {beat}", EDITS[n].0, before[m], state.pulse);
                    }
                    moves = run.stage.servos().iter().zip(&before).any(|(state, before)| state.pulse != *before);
                    beat += 1;
                }
                if moves {
                    let slow = rig.servos.iter().filter_map(|s| s.gear).any(|gear| gear.ratio.abs() < 0.01);
                    prop_assert!(slow, "{}: it never stands", EDITS[n].0);
                    continue;
                }
                for (m, state) in run.stage.servos().iter().enumerate() {
                    let plan = &run.stage.plan().servos[m];
                    if state.engaged {
                        prop_assert!(plan.guard.bound(state.pulse).1.is_none(), "it stands where it may not");
                    }
                    if state.engaged && held.get(m) == Some(&true) && plan.led.is_none() && m < stood.len() {
                        let nearest = plan.guard.bound(stood[m]).0;
                        prop_assert!((state.pulse - nearest).abs().get() < 1e-6, "{}: servo {m} stood at {:?} and stands at {:?}", EDITS[n].0, stood[m], state.pulse);
                    }
                }
            }
        }
    }
}
