//! Laws of the stage: whatever is asked, nothing leaves that may not.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{BEAT, Came, Run, US, rig};
use proptest::prelude::*;
use std::time::Duration;
use wasvolta_core::estimate::Known;
use wasvolta_core::link::Health;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::sequence::At;
use wasvolta_core::stage::{About, Command, EventKind, Output, Owner, Placed, Plan, Prepared};

fn knob(value: f64) -> Came {
    Came::value(value)
}

fn engage(servo: usize, pulse: f64) -> Placed {
    Command::Engage { servo, pulse: US(pulse), stands_there: true }
}

#[test]
fn a_new_owner_is_met_with_a_glide_and_then_followed() {
    let mut run = Run::new(&rig());
    run.read(knob(1023.0), &[engage(1, 1000.0)]);
    run.read(knob(1023.0), &[Command::GiveBack { servo: 1 }]);
    let before = run.pulse(1);
    run.read(knob(1023.0), &[]);
    // 60 °/s are 600 µs/s on this servo: 12 µs a beat while gliding.
    assert!((run.pulse(1) - before - 12.0).abs() < 1e-9 && run.stage.servos()[1].gliding);
    for _ in 0..60 {
        run.read(knob(1023.0), &[]);
    }
    assert!(!run.stage.servos()[1].gliding);
    assert!((run.pulse(1) - 1400.0).abs() < 1e-9, "40° is 1400 µs");
    run.read(knob(1000.0), &[]);
    assert!((run.pulse(1) - 1391.0).abs() < 0.1, "once met, it follows at once");
}

#[test]
fn a_lost_link_does_as_told_and_coming_back_is_a_glide() {
    let mut run = Run::new(&rig());
    run.read(knob(1023.0), &[engage(1, 1400.0)]);
    run.read(knob(1023.0), &[Command::GiveBack { servo: 1 }]);
    for _ in 0..30 {
        run.read(knob(1023.0), &[]);
    }
    let gone = Came::gone();
    run.read(gone, &[]);
    assert_eq!(run.stage.links()[0].health, Health::Lost);
    // 35° in half a second are 14 µs a beat.
    let before = run.pulse(1);
    run.read(Came::default(), &[]);
    assert!((before - run.pulse(1) - 14.0).abs() < 1e-6, "{before} {}", run.pulse(1));
    for _ in 0..40 {
        run.read(Came::default(), &[]);
    }
    assert!((run.pulse(1) - 1050.0).abs() < 1e-9);
    for _ in 0..4 {
        run.read(knob(1023.0), &[]);
    }
    assert_eq!((run.stage.servos()[1].owner, run.stage.servos()[1].gliding), (Owner::Mapping, true));
}

#[test]
fn without_a_failsafe_angle_a_lost_link_means_stay() {
    let mut rig = rig();
    rig.mappings[0].failsafe = None;
    let mut run = Run::new(&rig);
    run.read(knob(500.0), &[engage(1, 1200.0)]);
    run.read(knob(500.0), &[Command::GiveBack { servo: 1 }]);
    for _ in 0..20 {
        run.read(knob(500.0), &[]);
    }
    let before = run.pulse(1);
    run.read(Came::gone(), &[]);
    for _ in 0..20 {
        run.beat(&[]);
    }
    assert!((run.pulse(1) - before).abs() < 1e-9);
    assert_eq!(run.stage.servos()[1].owner, Owner::LostMapping);
}

#[test]
fn a_failsafe_angle_that_is_edited_while_the_link_is_lost_is_gone_to() {
    let mut rig = rig();
    let mut run = Run::new(&rig);
    run.read(knob(1023.0), &[engage(1, 1400.0)]);
    run.read(knob(1023.0), &[Command::GiveBack { servo: 1 }]);
    run.read(Came::gone(), &[]);
    for _ in 0..80 {
        run.beat(&[]);
    }
    assert!((run.pulse(1) - 1050.0).abs() < 1e-9, "at 5°");
    rig.mappings[0].failsafe.as_mut().unwrap().angle_deg = Some(wasvolta_core::unit::Degrees::new(20.0));
    run.stage.swap(Prepared::new(Plan::of(&rig)));
    for _ in 0..80 {
        run.beat(&[]);
    }
    assert!((run.pulse(1) - 1200.0).abs() < 1e-9, "{}", run.pulse(1));
}

fn player(run: &Run) -> wasvolta_core::stage::Player {
    *run.stage.players().last().unwrap()
}

#[test]
fn playing_begins_at_zero_whenever_it_is_asked_for() {
    let mut run = Run::new(&rig());
    run.beat(&[engage(0, 1500.0)]);
    run.beat(&[Command::GiveBack { servo: 0 }, Command::Play { sequence: 0 }]);
    assert_eq!(player(&run).at, At::ZERO);
    run.beat(&[]);
    assert_eq!(player(&run).at, At::of(BEAT));
    run.beat(&[Command::Pause]);
    run.beat(&[]);
    run.beat(&[Command::Play { sequence: 0 }]);
    assert_eq!(player(&run).at, At::of(BEAT), "going on begins where it stood");
}

#[test]
fn a_late_engine_does_not_jump() {
    let mut run = Run::new(&rig());
    run.beat(&[engage(0, 1500.0)]);
    run.beat(&[Command::GoTo { servo: 0, pulse: US(1900.0) }]);
    let before = run.pulse(0);
    run.now += Duration::from_secs(5);
    run.beat(&[]);
    // Two beats of a 60 °/s glide at 0.1 °/µs: 24 µs.
    assert!((run.pulse(0) - before - 24.0).abs() < 1e-9);
}

#[test]
fn cut_drops_everything_but_what_stays_stiff_until_enabled_on_purpose() {
    let mut rig = rig();
    rig.joints[0].cut = wasvolta_core::rig::CutTo::StayStiff;
    let mut run = Run::new(&rig);
    run.beat(&[engage(0, 1500.0), engage(1, 1200.0)]);
    run.beat(&[Command::Cut]);
    assert_eq!(run.stage.output(), Output::Cut);
    assert!(run.stage.servos()[0].ticks().is_some() && run.stage.servos()[1].ticks().is_none());
    run.beat(&[engage(1, 1200.0), Command::Jog { servo: 0, by: US(50.0), repeat: false }]);
    assert_eq!(run.stage.events().iter().filter(|e| matches!(e.kind, EventKind::Refused(_))).count(), 2);
    assert!((run.pulse(0) - 1500.0).abs() < 1e-9);
    run.beat(&[Command::Drive]);
    assert_eq!(run.stage.output(), Output::Driving);
}

#[test]
fn a_loaded_joint_that_was_released_is_unknown_and_a_free_one_assumed() {
    let mut rig = rig();
    rig.joints[0].loaded = true;
    let mut run = Run::new(&rig);
    run.beat(&[engage(0, 1500.0), engage(1, 1200.0)]);
    run.beat(&[Command::Release { servo: 0 }, Command::Release { servo: 1 }]);
    let known: Vec<Known> = run.stage.servos().iter().map(|s| s.estimate.known).collect();
    assert_eq!(known, [Known::Unknown, Known::Assumed]);
    assert_eq!(run.stage.output(), Output::Off);
}

#[test]
fn with_output_off_a_sequence_moves_the_screen_only() {
    let mut run = Run::new(&rig());
    run.beat(&[Command::Play { sequence: 0 }]);
    for _ in 0..20 {
        run.beat(&[]);
    }
    assert!(player(&run).screen_only && player(&run).at > At::ZERO);
    run.beat(&[engage(0, 1500.0), Command::GiveBack { servo: 0 }]);
    run.beat(&[]);
    assert_eq!(run.stage.servos()[0].owner, Owner::Home, "it does not suddenly drive");
}

fn any_command() -> impl Strategy<Value = Placed> {
    let servo = 0usize..3;
    prop_oneof![
        (servo.clone(), 0.0..4000.0f64, any::<bool>()).prop_map(|(servo, p, stands_there)| Command::Engage {
            servo,
            pulse: US(p),
            stands_there
        }),
        servo.clone().prop_map(|servo| Command::Release { servo }),
        (servo.clone(), -500.0..500.0f64, any::<bool>()).prop_map(|(servo, p, repeat)| Command::Jog {
            servo,
            by: US(p),
            repeat
        }),
        (servo.clone(), prop_oneof![0.0..4000.0f64, Just(f64::NAN), Just(f64::INFINITY)])
            .prop_map(|(servo, p)| Command::GoTo { servo, pulse: US(p) }),
        servo.clone().prop_map(|servo| Command::Wiggle { servo }),
        servo.prop_map(|servo| Command::GiveBack { servo }),
        Just(Command::Play { sequence: 0 }),
        Just(Command::Pause),
        (0u64..3000).prop_map(|ms| Command::Seek { sequence: 0, at: Duration::from_millis(ms) }),
        Just(Command::StopPlaying),
        Just(Command::Hold),
        Just(Command::Drive),
        Just(Command::Cut),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn whatever_is_asked_endpoints_limits_speed_and_cut_hold(
        asked in proptest::collection::vec((proptest::collection::vec(any_command(), 0..3), 0.0..1100.0f64), 1..120)
    ) {
        let mut run = Run::new(&rig());
        // At 0.15 and 0.12 s/60° on 0.1 °/µs: 4000 and 5000 µs/s.
        let fastest = [4000.0 * 0.02, 5000.0 * 0.02];
        for (commands, raw) in asked {
            let before: Vec<_> = run.stage.servos().to_vec();
            run.read(knob(raw), &commands);
            let plan = run.stage.plan();
            for (n, (state, plan)) in run.stage.servos().iter().zip(&plan.servos).enumerate() {
                prop_assert_eq!(state.ticks().is_some(), state.engaged);
                if run.stage.output() == Output::Cut || run.stage.output() == Output::Off {
                    prop_assert!(state.ticks().is_none());
                }
                let Some(ticks) = state.ticks() else { continue };
                let sent = plan.guard.pulse(ticks);
                let (low, high) = plan.guard.endpoints;
                prop_assert!(sent >= low && sent <= high, "{sent:?} is outside");
                // A servo engaged anew is where the maker says its horn stands.
                let engaged_now = run.stage.events().iter().any(|e| e.kind == EventKind::Engaged && e.about == About::Servo(plan.id));
                if before[n].engaged && !engaged_now {
                    let moved = (state.pulse - before[n].pulse).abs().get();
                    prop_assert!(moved <= fastest[n] + 1e-9, "moved {moved} µs in a beat");
                    // It is told how fast it goes, in ticks a second.
                    let told = f64::from(state.setpoint.unwrap().speed) * plan.guard.step().get() * 0.02;
                    prop_assert!((told - moved).abs() <= 1e-4 * moved.max(1.0), "told {told} µs a beat, moved {moved}");
                    let (inner_low, inner_high) = plan.guard.free();
                    let was_free = before[n].pulse >= inner_low && before[n].pulse <= inner_high;
                    let is_free = state.pulse.get() >= inner_low.get() - 1e-6 && state.pulse.get() <= inner_high.get() + 1e-6;
                    prop_assert!(!was_free || is_free, "left its limits");
                }
            }
        }
    }
}

#[test]
fn a_servo_on_another_channel_or_gone_gets_no_pulses_until_it_is_engaged_anew() {
    use wasvolta_core::rig::edit::roster::{move_servo, remove_servo};
    let mut run = Run::new(&rig());
    run.beat(&[engage(0, 1500.0), engage(1, 1400.0)]);
    let moved = move_servo(&rig(), "heron.neck", "upper", 9).unwrap();
    run.stage.swap(Prepared::new(Plan::of(&moved)));
    run.beat(&[]);
    let servos = run.stage.servos();
    assert!(!servos[0].engaged && servos[0].ticks().is_none() && servos[0].estimate.known == Known::Unknown);
    assert!(servos[1].engaged, "the other goes on");
    assert_eq!(run.stage.output(), Output::Driving);
    let alone = remove_servo(&moved, "heron.beak").unwrap();
    run.stage.swap(Prepared::new(Plan::of(&alone)));
    assert_eq!(run.stage.output(), Output::Off, "nothing is engaged any more");
    run.stage.swap(Prepared::new(Plan::of(&moved)));
    run.beat(&[]);
    assert!(run.stage.servos().iter().all(|s| !s.engaged), "brought back, it waits to be engaged");
}

#[test]
fn a_wiggle_goes_20_us_to_either_side_three_times_and_leaves_it_as_before() {
    let mut run = Run::new(&rig());
    run.beat(&[engage(0, 1500.0)]);
    run.beat(&[Command::Wiggle { servo: 0 }]);
    assert!(run.stage.servos()[0].is_wiggling());
    let mut seen = Vec::new();
    while run.stage.servos()[0].is_wiggling() {
        seen.push(run.pulse(0));
        run.beat(&[]);
    }
    let (least, most) = seen.iter().fold((1500.0f64, 1500.0f64), |(l, m), p| (l.min(*p), m.max(*p)));
    assert!((least - 1480.0).abs() < 0.5 && (most - 1520.0).abs() < 0.5, "{least} {most}");
    let crossings = seen.windows(2).filter(|w| w[0] > 1500.0 && w[1] <= 1500.0).count();
    assert_eq!(crossings, 3, "three times");
    assert!((140..=155).contains(&seen.len()), "3 s of beats, not {}", seen.len());
    assert!((run.pulse(0) - 1500.0).abs() < 1e-9 && run.stage.servos()[0].owner == Owner::Hand);
}

#[test]
fn a_wiggle_stays_inside_the_endpoints_and_ends_with_a_hold_or_a_jog() {
    let mut run = Run::new(&rig());
    // Its endpoints are 900 and 2100 µs.
    run.beat(&[engage(0, 2095.0)]);
    run.beat(&[Command::Wiggle { servo: 0 }]);
    for _ in 0..60 {
        run.beat(&[]);
        assert!(run.pulse(0) <= 2100.0);
    }
    run.beat(&[Command::Jog { servo: 0, by: US(-10.0), repeat: false }]);
    assert!(!run.stage.servos()[0].is_wiggling());
    run.beat(&[Command::Wiggle { servo: 0 }]);
    run.beat(&[Command::Hold]);
    assert!(!run.stage.servos()[0].is_wiggling());
    run.beat(&[Command::Wiggle { servo: 0 }]);
    assert!(!run.stage.servos()[0].is_wiggling(), "held, nothing moves");
    run.beat(&[Command::Drive, Command::Release { servo: 0 }, Command::Wiggle { servo: 0 }]);
    assert!(run.stage.events().iter().any(|e| matches!(e.kind, EventKind::Refused(_))));
}

fn crane() -> Rig {
    match load(include_str!("data/crane.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

#[test]
fn a_winch_whose_arming_is_taken_away_follows_and_a_lamp_that_becomes_a_servo_is_released() {
    use wasvolta_core::rig::Kind;
    use wasvolta_core::rig::edit::roster::{set_arming, set_kind};
    let rig = crane();
    let mut run = Run::new(&rig);
    run.beat(&[engage(0, 1480.0), engage(1, 0.0)]);
    run.beat(&[Command::Disarm { servo: 0 }]);
    assert!(run.stage.servos()[0].is_unarmed());
    let at_once = set_arming(&rig, "crane.winch", None).unwrap();
    run.stage.swap(Prepared::new(Plan::of(&at_once)));
    run.beat(&[Command::Jog { servo: 0, by: US(50.0), repeat: false }]);
    for _ in 0..20 {
        run.beat(&[]);
    }
    assert!((run.pulse(0) - 1530.0).abs() < 1e-9, "{}", run.pulse(0));
    let servo = set_kind(&at_once, "crane.lamp", Kind::Positional).unwrap();
    run.stage.swap(Prepared::new(Plan::of(&servo)));
    run.beat(&[]);
    assert!(!run.stage.servos()[1].engaged && run.stage.servos()[1].ticks().is_none());
    assert!(run.stage.servos()[0].engaged, "what did not change goes on");
}

proptest! {
    #[test]
    fn whatever_is_asked_of_a_winch_a_hold_stops_it_and_its_endpoints_hold(
        asked in proptest::collection::vec((0u8..5, -900.0..900.0f64), 1..60),
    ) {
        let mut run = Run::new(&crane());
        run.beat(&[engage(0, 1480.0)]);
        for (what, by) in asked {
            let command = match what {
                0 => Command::Jog { servo: 0, by: US(by), repeat: false },
                1 => Command::GoTo { servo: 0, pulse: US(1500.0 + by) },
                2 => Command::GiveBack { servo: 0 },
                3 => Command::Play { sequence: 0 },
                _ => Command::Wiggle { servo: 0 },
            };
            run.beat(&[command]);
            for _ in 0..20 {
                run.beat(&[]);
                prop_assert!((1100.0..=1900.0).contains(&run.pulse(0)), "{:?}", run.pulse(0));
            }
        }
        run.beat(&[Command::Hold]);
        prop_assert!((run.pulse(0) - 1480.0).abs() < 1e-9);
    }
}
