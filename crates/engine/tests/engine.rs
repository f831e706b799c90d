//! The engine with a simulated bench: values flow, and however it ends, every channel is released.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

mod tell;

use std::sync::Arc;
use std::time::{Duration, Instant};
use tell::{Tell, at};
use wasvolta_core::guard::Stopped;
use wasvolta_core::link::Health;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::stage::{Command, EventKind, Output, Owner, Play};
use wasvolta_core::unit::Position;
use wasvolta_engine::{BoardPort, Engine, Opener, Setup, Snapshot, Way, ways};
use wasvolta_port::expander::Phase;
use wasvolta_port::{Clock, WallClock};
use wasvolta_sim::bench::released_at_the_end;
use wasvolta_sim::faults::{Faulty, Kind};
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::truth::KnobTruth;
use wasvolta_sim::{Bench, ManualClock, Sender, Truth};
use wasvolta_wire::expander::Channel;

const BEAT: Duration = Duration::from_millis(20);

fn rig() -> Rig {
    match load(include_str!("../../core/tests/data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

fn setup(bench: &Bench, clock: Arc<dyn Clock>, opener: Opener) -> Setup {
    let bench = bench.clone();
    let open = Box::new(move || Ok(Box::new(bench.bus("bench-bus")) as Box<_>));
    Setup {
        boards: vec![BoardPort { name: "bench-bus".into(), way: Way::Bus(open) }],
        opener,
        clock,
        beat: BEAT,
        record: None,
    }
}

fn bench(clock: Arc<dyn Clock>) -> Bench {
    let bench = Bench::new(&Truth::default(), 1, clock);
    bench.ensure("bench-bus", 0x40, &[1, 2]);
    bench
}

fn live() -> (Bench, Engine) {
    let clock = Arc::new(WallClock::default());
    let bench = bench(clock.clone());
    let engine = Engine::start(&Arc::new(rig()), setup(&bench, clock, Box::new(ways::opener))).unwrap();
    (bench, engine)
}

/// Waits for a condition; a minute without it is a failure.
fn until(engine: &mut Engine, what: &str, mut holds: impl FnMut(&Snapshot) -> bool) {
    let start = Instant::now();
    while !holds(engine.snapshot()) {
        assert!(start.elapsed() < Duration::from_secs(20), "never: {what}");
        std::thread::yield_now();
    }
}

fn engage_both(engine: &mut Engine) {
    for servo in [0, 1] {
        engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
    }
    until(engine, "both on the wire", |s| s.boards[0][0].sent.used().count() == 2);
}

struct ByHand {
    clock: Arc<ManualClock>,
    bench: Bench,
    engine: Engine,
}

fn by_hand() -> ByHand {
    let clock = Arc::new(ManualClock::default());
    let bench = bench(clock.clone());
    let engine =
        Engine::by_hand(&Arc::new(rig()), setup(&bench, clock.clone(), Box::new(ways::opener))).unwrap();
    ByHand { clock, bench, engine }
}

impl ByHand {
    fn pass(&mut self, beats: u32) {
        for _ in 0..beats {
            self.clock.advance(BEAT);
            self.engine.pass();
        }
    }
}

#[test]
fn dropping_the_engine_releases_every_channel_last() {
    let (bench, mut engine) = live();
    engage_both(&mut engine);
    drop(engine);
    assert_eq!(released_at_the_end(&bench.log()), [1, 2]);
}

#[test]
fn a_panic_beside_the_engine_releases_every_channel_last() {
    let (bench, mut engine) = live();
    engage_both(&mut engine);
    let outcome = std::thread::spawn(move || {
        let _engine = engine;
        panic!("a fault of the screen");
    })
    .join();
    assert!(outcome.is_err());
    assert_eq!(released_at_the_end(&bench.log()), [1, 2]);
}

#[test]
fn a_panic_in_a_worker_releases_its_channels_and_stops_the_rest() {
    let (bench, mut engine) = live();
    engage_both(&mut engine);
    bench.faults().panic_next();
    let start = Instant::now();
    while !engine.is_stopped() {
        assert!(start.elapsed() < Duration::from_secs(20));
        std::thread::yield_now();
    }
    drop(engine);
    assert_eq!(released_at_the_end(&bench.log()), [1, 2]);
}

#[test]
fn cut_works_though_the_queue_is_full() {
    let (bench, mut engine) = live();
    engage_both(&mut engine);
    let stop = Arc::clone(engine.stop());
    bench.faults().set_delay(Duration::from_millis(1));
    while engine.tell(Command::Jog { servo: 0, by: Position::new(1.0), repeat: false }) {}
    stop.cut();
    until(&mut engine, "cut", |s| s.output == Output::Cut && s.boards[0][0].sent.used().count() == 0);
    assert!(bench.pulse_us("bench-bus", 0x40, 1).is_none());
}

#[test]
fn a_missing_board_is_named_and_comes_back() {
    let (bench, mut engine) = live();
    until(&mut engine, "started", |s| s.boards[0][0].phase == Phase::Started);
    engage_both(&mut engine);
    bench.faults().set_everywhere(Kind::Absent, true);
    until(&mut engine, "missing", |s| s.boards[0][0].trouble.is_some());
    bench.faults().set_everywhere(Kind::Absent, false);
    until(&mut engine, "back and engaged", |s| {
        s.boards[0][0].trouble.is_none() && s.boards[0][0].sent.used().count() == 2
    });
}

/// What a bus of some unreliability does to a run: nothing forbidden is ever sent, all is well once it is well,
/// and in the end everything is released.
#[test]
fn an_unreliable_bus_delays_but_never_breaks() {
    for (seed, share) in [(1, 0.01), (2, 0.1), (3, 0.3), (4, 0.6)] {
        let clock = Arc::new(ManualClock::default());
        let bench = bench(clock.clone());
        let mut setup = setup(&bench, clock.clone(), Box::new(ways::opener));
        let (behind, healed) = (bench.clone(), Arc::new(std::sync::atomic::AtomicBool::new(false)));
        let heals = Arc::clone(&healed);
        let mut opened = seed;
        setup.boards[0].way = Way::Bus(Box::new(move || {
            opened += 100;
            let share = if heals.load(std::sync::atomic::Ordering::SeqCst) { 0.0 } else { share };
            Ok(Box::new(Faulty::new(behind.bus("bench-bus"), opened, share)))
        }));
        let mut engine = Engine::by_hand(&Arc::new(rig()), setup).unwrap();
        for servo in [0, 1] {
            engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
        }
        let pass = |engine: &mut Engine, beats: u32| {
            for beat in 0..beats {
                let by = Position::new(if beat % 100 < 50 { 9.0 } else { -9.0 });
                engine.tell(Command::Jog { servo: 0, by, repeat: false });
                clock.advance(BEAT);
                engine.pass();
            }
        };
        pass(&mut engine, 1500);
        healed.store(true, std::sync::atomic::Ordering::SeqCst);
        // The faults go when the bus is opened anew; a bus that no longer fails is never closed, so pull it once.
        bench.faults().set_everywhere(Kind::Absent, true);
        pass(&mut engine, 100);
        bench.faults().set_everywhere(Kind::Absent, false);
        pass(&mut engine, 1000);
        let board = &engine.snapshot().boards[0][0];
        assert!(board.trouble.is_none(), "{share}: {:?}", board.trouble);
        assert_eq!(board.sent.used().count(), 2, "{share}");
        drop(engine);
        assert_eq!(released_at_the_end(&bench.log()), [1, 2], "{share}");
        // What every channel is after each transfer: parts of a channel may be written alone.
        let mut registers = [0u8; 70];
        let mut seen = Vec::new();
        (9..70).step_by(4).for_each(|off_high| registers[off_high] = 0x10);
        for entry in bench.log().into_iter().filter(|e| e.write && (6..=69).contains(&e.register)) {
            let start = usize::from(entry.register);
            registers[start..start + entry.bytes.len()].copy_from_slice(&entry.bytes);
            seen.extend(registers[6..].as_chunks::<4>().0.iter().copied().map(Channel::parse));
        }
        for channel in seen {
            // 900 to 2100 µs are 185 to 430 ticks.
            let allowed = match channel {
                Channel::Pulse { ticks, .. } => (185..=430).contains(&ticks),
                Channel::Released => true,
                Channel::FullyOn => false,
            };
            assert!(allowed, "{share}: {channel:?}");
        }
    }
}

#[test]
fn one_missing_board_does_not_stop_the_other_on_its_bus() {
    let mut rig = rig();
    let second =
        wasvolta_core::rig::Board { name: "lower".into(), address: Some(0x41), ..rig.boards[0].clone() };
    rig.boards.push(second);
    rig.number_parts();
    rig.servos[1].board = "lower".into();
    let clock = Arc::new(ManualClock::default());
    let bench = bench(clock.clone());
    let mut engine =
        Engine::by_hand(&Arc::new(rig.clone()), setup(&bench, clock.clone(), Box::new(ways::opener)))
            .unwrap();
    for servo in [0, 1] {
        engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
    }
    for beat in 0..500 {
        if beat % 10 == 5 {
            engine.tell(Command::Jog { servo: 0, by: Position::new(5.0), repeat: false });
        }
        clock.advance(BEAT);
        engine.pass();
        let boards = &engine.snapshot().boards[0];
        assert!(boards[0].trouble.is_none() && boards[1].trouble.is_some() || beat == 0, "beat {beat}");
    }
    let boards = engine.snapshot().boards[0].clone();
    assert_eq!((boards[0].starts, boards[1].starts), (1, 0));
    assert!((bench.pulse_us("bench-bus", 0x40, 1).unwrap() - 1750.0).abs() < 5.0);
    // Plugged in later, it comes up and its servo is engaged.
    bench.ensure("bench-bus", 0x41, &[2]);
    for _ in 0..500 {
        clock.advance(BEAT);
        engine.pass();
    }
    assert!(bench.pulse_us("bench-bus", 0x41, 2).is_some());
    drop(engine);
    let released =
        bench.log().iter().rev().filter(|e| e.write).take(2).map(|e| e.address).collect::<Vec<_>>();
    assert_eq!(released, [0x41, 0x40]);
}

#[test]
fn a_knob_over_a_pty_moves_a_servo_and_its_pulled_plug_is_lost() {
    let folder = std::env::temp_dir().join(format!("wasvolta-engine-{}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let knob = Box::new(Fields::new(vec![KnobTruth::of("knob", "knob")]));
    let knob = Sender::plug_in(knob, 1, &folder.join("line-knob")).unwrap();
    knob.run();
    let clock = Arc::new(WallClock::default());
    let bench = bench(clock.clone());
    let mut engine = Engine::start(&Arc::new(rig()), setup(&bench, clock, at(knob.path()))).unwrap();
    until(&mut engine, "fresh", |s| s.links[0].health == Health::Fresh);
    engage_both(&mut engine);
    engine.tell(Command::GiveBack { servo: 1 });
    let beak = |s: &Snapshot| s.servos[1].pulse.get();
    until(&mut engine, "at half, 20°", |s| {
        s.servos[1].owner == Owner::Mapping && (beak(s) - 1200.0).abs() < 3.0
    });
    knob.turn("knob", 0.5);
    until(&mut engine, "at 40°", |s| (beak(s) - 1400.0).abs() < 3.0);
    // Rubbish is counted and changes nothing.
    for rubbish in [&[b'9'; 4000][..], b"\n\xFF\xFE\x00knob=\nknob=7 x\n", b"hello\n"] {
        knob.send(rubbish);
    }
    until(&mut engine, "counted", |s| s.reports[0].counts.bad >= 3);
    assert!(engine.snapshot().inputs[0].raw.unwrap() > 1000.0);
    knob.unplug();
    until(&mut engine, "lost", |s| s.links[0].health == Health::Lost);
    until(&mut engine, "failsafe at 5°", |s| {
        s.servos[1].owner == Owner::LostMapping && (beak(s) - 1050.0).abs() < 1.0
    });
    until(&mut engine, "cannot open", |_| true);
    knob.replug().unwrap();
    until(&mut engine, "fresh again", |s| {
        s.links[0].health == Health::Fresh && (beak(s) - 1400.0).abs() < 3.0
    });
    knob.stop();
    drop(engine);
    std::fs::remove_dir_all(&folder).unwrap();
}

#[test]
fn a_sequence_plays_by_hand_to_the_same_ticks_every_time() {
    let run = || {
        let mut by_hand = by_hand();
        by_hand.pass(2);
        for servo in [0, 1] {
            by_hand.engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
            by_hand.pass(5);
            by_hand.engine.tell(Command::GiveBack { servo });
        }
        by_hand.pass(60);
        by_hand.engine.tell(Command::Play { sequence: 0 });
        let mut trace = Vec::new();
        for _ in 0..110 {
            by_hand.pass(1);
            trace.push(by_hand.engine.snapshot().boards[0][0].sent.clone());
        }
        assert_eq!(by_hand.engine.snapshot().players.last().unwrap().play, Play::Ended);
        assert!((by_hand.engine.snapshot().servos[0].pulse.get() - 1900.0).abs() < 0.5, "at 40°");
        assert!((by_hand.bench.pulse_us("bench-bus", 0x40, 1).unwrap() - 1900.0).abs() < 3.0);
        trace
    };
    assert_eq!(run(), run());
}

#[test]
fn the_hand_keeps_a_joint_until_it_is_given_back() {
    let mut by_hand = by_hand();
    by_hand.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
    by_hand.pass(3);
    by_hand.engine.tell(Command::Jog { servo: 0, by: Position::new(50.0), repeat: false });
    by_hand.engine.tell(Command::Play { sequence: 0 });
    by_hand.pass(120);
    let neck = by_hand.engine.snapshot().servos[0];
    assert_eq!((neck.owner, neck.pulse), (Owner::Hand, Position::new(1550.0)));
    by_hand.engine.tell(Command::GiveBack { servo: 0 });
    by_hand.pass(120);
    let neck = by_hand.engine.snapshot().servos[0];
    assert_eq!((neck.owner, neck.pulse), (Owner::Home, Position::new(1500.0)));
}

#[test]
fn a_servo_that_is_not_engaged_refuses_to_jog_and_says_why() {
    let mut by_hand = by_hand();
    by_hand.engine.tell(Command::Jog { servo: 1, by: Position::new(5.0), repeat: false });
    by_hand.pass(1);
    let (_, event) = by_hand.engine.snapshot().events[0];
    let EventKind::Refused(why) = event.kind else { panic!("{event:?}") };
    assert_eq!(why.words(), "gets no pulses, so it cannot move: engage it with ‹engage›");
    assert!(by_hand.engine.snapshot().servos.iter().all(|s| s.ticks().is_none()));
}

#[test]
fn a_held_key_ends_within_a_tenth_of_a_second_and_stops_at_the_limit() {
    let mut by_hand = by_hand();
    by_hand.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
    by_hand.pass(3);
    for beat in 0..200 {
        by_hand.engine.tell(Command::Jog { servo: 0, by: Position::new(50.0), repeat: beat > 0 });
        by_hand.pass(1);
    }
    assert!(
        by_hand
            .engine
            .snapshot()
            .events
            .iter()
            .any(|(_, e)| e.kind == EventKind::Stopped(Stopped::LimitHigh))
    );
    // The limit at 45° is 1950 µs.
    assert!((by_hand.engine.snapshot().servos[0].pulse.get() - 1950.0).abs() < 1e-6);
    by_hand.engine.tell(Command::Jog { servo: 0, by: Position::new(-50.0), repeat: false });
    for _ in 0..6 {
        by_hand.engine.tell(Command::Jog { servo: 0, by: Position::new(-50.0), repeat: true });
        by_hand.pass(1);
    }
    by_hand.pass(5);
    let stood = by_hand.engine.snapshot().servos[0].pulse;
    by_hand.pass(50);
    assert_eq!(by_hand.engine.snapshot().servos[0].pulse, stood, "nothing moves 100 ms after the last key");
}

#[test]
fn hold_keeps_the_pulses_and_drive_goes_on() {
    let mut by_hand = by_hand();
    by_hand.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1300.0), stands_there: true });
    by_hand.pass(3);
    by_hand.engine.tell(Command::GiveBack { servo: 0 });
    by_hand.pass(5);
    by_hand.engine.tell(Command::Hold);
    by_hand.pass(2);
    let held = by_hand.engine.snapshot().servos[0].ticks();
    by_hand.pass(50);
    let snapshot = by_hand.engine.snapshot();
    assert_eq!((snapshot.output, snapshot.servos[0].ticks()), (Output::Held, held));
    by_hand.engine.tell(Command::Drive);
    by_hand.pass(100);
    assert_eq!(by_hand.engine.snapshot().servos[0].pulse, Position::new(1500.0));
}

#[test]
fn a_corrected_clock_leaves_the_ticks_on_the_wire_alone() {
    let mut by_hand = by_hand();
    by_hand.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
    by_hand.pass(5);
    let before = by_hand.engine.snapshot().servos[0];
    let rig =
        wasvolta_core::rig::edit::correct_clock(&rig(), "upper", wasvolta_core::unit::Hertz::new(52.230))
            .unwrap();
    tell::run(&mut by_hand.engine, rig);
    by_hand.pass(5);
    let after = by_hand.engine.snapshot().servos[0];
    assert_eq!(after.ticks(), before.ticks());
    assert!((after.pulse.get() - 1500.0 * 25.0 / 26.1).abs() < 0.01, "{:?}", after.pulse);
}
