//! Many boards on one bus: what fits, who waits how long, and what becomes of one that is pulled out.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod tell;

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tell::Tell;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Back, Board, Index, Joint, Parts, Rig, Servo};
use wasvolta_core::stage::Command;
use wasvolta_core::traffic::Traffic;
use wasvolta_core::unit::{Hertz, Position, Seconds};
use wasvolta_engine::worker::{self, Post, Told};
use wasvolta_engine::{BoardPort, Engine, Setup, Way, Wiring, ways};
use wasvolta_port::expander::Phase;
use wasvolta_port::{Clock, board};
use wasvolta_sim::faults::{Kind, Struck};
use wasvolta_sim::{Bench, Logged, ManualClock, Sight, TimedBus, Truth};
use wasvolta_wire::expander::{Channel, channel_register, spread};

const BEAT: Duration = Duration::from_millis(20);
const CHANNELS: usize = 16;

fn small() -> Rig {
    match load(include_str!("../../core/tests/data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// The small rig's bus with as many full boards as there are addresses for.
fn full(boards: usize) -> Rig {
    let mut rig = small();
    let (board, servo) = (rig.boards[0].clone(), rig.servos[0].clone());
    let addresses = (0x40..=0x7f).filter(|a| *a != 0x70);
    rig.boards = addresses
        .take(boards)
        .map(|address| Board { name: format!("b{address}"), address: Some(address), ..board.clone() })
        .collect();
    let boards = rig.boards.clone();
    rig.servos = boards
        .iter()
        .flat_map(|b| (0..16).map(|channel| (b.name.clone(), channel)))
        .map(|(board, channel)| Servo { board, channel: Some(channel), ..servo.clone() })
        .collect();
    rig.number_parts();
    rig
}

fn setup(bench: &Bench, clock: Arc<ManualClock>) -> Setup {
    let bench = bench.clone();
    let open = Box::new(move || Ok(Box::new(bench.open("bench-bus")?) as Box<_>));
    Setup {
        boards: vec![BoardPort { name: "bench-bus".into(), way: Way::Bus(open) }],
        opener: Box::new(ways::opener),
        clock,
        beat: BEAT,
        record: None,
    }
}

/// Every channel gets another value in every beat; a value's ticks say which beat it is from.
fn post(mailbox: &mut Post, beat: u16) {
    let frame = mailbox.frames.input_buffer_mut();
    frame.clone_from(&mailbox.last);
    let wanted: board::Wanted = [Some(200 + beat % 200); CHANNELS].into_iter().collect();
    for (board, said) in frame.iter_mut().zip(mailbox.reports.read()) {
        board.orders.wanted.clone_from(&wanted);
        board.heard = [said.interruptions; CHANNELS].into_iter().collect();
    }
    mailbox.frames.publish();
}

#[test]
fn sixty_two_boards_take_turns_and_no_value_is_older_than_was_computed() {
    let mut rig = full(62);
    rig.ports[0].bus_hz = Some(Hertz::new(1e6));
    let traffic = Traffic::of(&rig, "bench-bus");
    assert_eq!(traffic.channels, 992);
    let clock = Arc::new(ManualClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    for board in &rig.boards {
        bench.ensure("bench-bus", board.address.unwrap(), &[]);
    }
    let index = Index::of(&rig);
    let wiring = Wiring::of(
        Parts { rig: &rig, index: &index },
        &[setup(&bench, clock.clone()).boards[0].name.clone()],
    );
    let mailbox: Arc<Mutex<Option<Post>>> = Arc::default();
    let (behind, held, time) = (bench.clone(), Arc::clone(&mailbox), Arc::clone(&clock));
    let open = Box::new(move || {
        let (held, mut beats) = (Arc::clone(&held), 0u16);
        let passes = move |now: Duration| {
            while BEAT * u32::from(beats + 1) <= now {
                beats += 1;
                post(held.lock().unwrap().as_mut().unwrap(), beats);
            }
        };
        let bit = Duration::from_micros(1);
        Ok(Box::new(TimedBus::new(behind.bus("bench-bus"), time.clone(), bit, passes)) as Box<_>)
    });
    let port = BoardPort { name: "bench-bus".into(), way: Way::Bus(open) };
    let shared: Arc<dyn Clock> = clock.clone();
    let (mut workers, mut posts) = worker::make(vec![port], &wiring, &shared, &Told::default());
    *mailbox.lock().unwrap() = posts.pop();
    while clock.now() < Duration::from_secs(8) {
        workers[0].service();
        clock.advance(Duration::from_micros(200));
    }
    // Judged once every channel is engaged: one after another, 80 ms apart, on all boards at the same time.
    let from = Duration::from_secs(4);
    let log: Vec<Logged> = bench.log().into_iter().filter(|e| e.write && e.at > from).collect();
    let mut updates: BTreeMap<(u8, u8), Vec<Duration>> = BTreeMap::new();
    for entry in &log {
        // Only the end of the first channel's pulse is told; that of the others with where it begins.
        let channel = usize::from((entry.register - 8) / 4);
        let ticks = u16::from_le_bytes([entry.bytes[0], entry.bytes[1]]) - spread(channel, 595);
        let posted = u16::try_from(entry.at.as_millis() / BEAT.as_millis()).unwrap();
        let newest = [posted, posted - 1].map(|beat| 200 + beat % 200);
        assert!(newest.contains(&ticks), "{ticks} at beat {posted}: the newest value wins");
        updates.entry((entry.address, entry.register)).or_default().push(entry.at);
    }
    assert_eq!(updates.len(), 62 * 2, "two transfers a board, always the same ones");
    let seconds = 4.0;
    let fewest = updates.values().map(Vec::len).min().unwrap();
    let most = updates.values().map(Vec::len).max().unwrap();
    assert!(most - fewest <= 1, "{fewest} and {most}: turns are fair");
    #[expect(clippy::cast_precision_loss, reason = "small")]
    let rate = fewest as f64 / seconds;
    assert!((rate - traffic.updates_a_second()).abs() < 1.5, "{rate} beside {}", traffic.updates_a_second());
    // A value is a beat old at most when it is sent, and stays until the channel's next turn.
    let bound = traffic.longest_wait() + Seconds::new(BEAT.as_secs_f64());
    for times in updates.values() {
        for pair in times.windows(2) {
            let age = (pair[1].saturating_sub(pair[0]) + BEAT).as_secs_f64();
            assert!(age <= bound.get(), "{age} s is over {} s", bound.get());
        }
    }
}

/// Two boards that drive one servo each, by hand.
fn pair() -> (Rig, Arc<ManualClock>, Bench, Engine) {
    let mut rig = small();
    rig.boards.push(Board { name: "lower".into(), address: Some(0x41), ..rig.boards[0].clone() });
    for (n, servo) in rig.servos.iter_mut().enumerate() {
        if n == 0 { "upper" } else { "lower" }.clone_into(&mut servo.board);
    }
    let twin = Servo { name: "heron.tail".into(), channel: Some(9), ..rig.servos[1].clone() };
    rig.servos.push(twin);
    rig.number_parts();
    let clock = Arc::new(ManualClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    bench.ensure("bench-bus", 0x40, &[1]);
    bench.ensure("bench-bus", 0x41, &[2, 9]);
    let engine = Engine::by_hand(&Arc::new(rig.clone()), setup(&bench, clock.clone())).unwrap();
    (rig, clock, bench, engine)
}

fn first_pulses(bench: &Bench, address: u8, since: Duration) -> Vec<(Duration, u8)> {
    let begins = |e: &Logged| matches!(e.bytes.as_slice(), [a, b, c, d] if matches!(Channel::parse([*a, *b, *c, *d]), Channel::Pulse { .. }));
    bench
        .log()
        .into_iter()
        .filter(|e| e.write && e.address == address && e.at >= since && begins(e))
        .map(|e| (e.at, e.register))
        .collect()
}

#[test]
fn a_board_that_is_pulled_for_five_seconds_leaves_the_other_alone_and_is_engaged_anew_one_by_one() {
    let (mut rig, clock, bench, mut engine) = pair();
    let twin = Joint { name: "heron.tail".into(), servo: "heron.tail".into(), ..rig.joints[1].clone() };
    rig.joints.push(twin);
    // Its supply may have fallen with it: unless these joints say so, they are asked about.
    rig.joints.iter_mut().for_each(|joint| joint.back = Some(Back::Last));
    tell::run(&mut engine, rig);
    let pass = |engine: &mut Engine, beats: u32| {
        for beat in 0..beats {
            // What moves is seen in every beat on the wire.
            let by = Position::new(if beat % 20 < 10 { 6.0 } else { -6.0 });
            engine.tell(Command::Jog { servo: 0, by, repeat: false });
            clock.advance(BEAT);
            engine.pass();
        }
    };
    for servo in 0..3 {
        engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
    }
    pass(&mut engine, 50);
    assert!(engine.snapshot().boards[0][1].sent.used().count() == 2);
    let pulled = Struck { kind: Kind::Pulled, address: Some(0x41), channel: None };
    let start = clock.now();
    bench.faults().set(pulled, true);
    pass(&mut engine, 250);
    assert!(engine.snapshot().boards[0][1].trouble.is_some());
    let writes = bench.log().into_iter().filter(|e| e.write && e.address == 0x40 && e.at > start).count();
    assert!(writes >= 245, "{writes} writes in 250 beats: the other board goes on in every beat");
    let back = clock.now();
    bench.faults().set(pulled, false);
    // It is tried again ever more rarely, every two seconds at last.
    pass(&mut engine, 150);
    let state = &engine.snapshot().boards[0][1];
    assert!(
        state.trouble.is_none() && state.phase == Phase::Started && state.lapses == 1 && state.fallen,
        "{state:?}"
    );
    let firsts = first_pulses(&bench, 0x41, back);
    assert_eq!(
        firsts.iter().map(|(_, r)| *r).collect::<Vec<_>>(),
        [channel_register(2), channel_register(9)]
    );
    assert!(firsts[1].0.saturating_sub(firsts[0].0) >= Duration::from_millis(80), "one after another");
    assert!(bench.pulse_us("bench-bus", 0x41, 9).is_some());
}

#[test]
fn boards_come_go_and_change_their_address_while_it_runs() {
    let (rig, clock, bench, mut engine) = pair();
    let pass = |engine: &mut Engine, beats: u32| {
        for _ in 0..beats {
            clock.advance(BEAT);
            engine.pass();
        }
    };
    for servo in 0..3 {
        engine.tell(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
    }
    pass(&mut engine, 50);
    // The first board goes: the second keeps its pulses, though it is the first of the list now.
    let mut fewer = rig.clone();
    fewer.boards.remove(0);
    fewer.servos.remove(0);
    let before = bench.log().len();
    tell::run(&mut engine, fewer.clone());
    pass(&mut engine, 50);
    let released = |address: u8| {
        bench.log()[before..]
            .iter()
            .any(|e| e.write && e.address == address && e.bytes == Channel::Released.emit())
    };
    assert!(released(0x40) && !released(0x41));
    assert_eq!(bench.pulse_us("bench-bus", 0x40, 1), None);
    assert!(bench.pulse_us("bench-bus", 0x41, 9).is_some());
    assert_eq!(engine.snapshot().boards[0].len(), 1);
    // A third comes at an address where nothing is yet.
    let mut more = fewer.clone();
    let id = wasvolta_core::rig::BoardId::default();
    more.boards.push(Board { id, name: "third".into(), address: Some(0x52), ..rig.boards[0].clone() });
    more.number_parts();
    tell::run(&mut engine, more.clone());
    pass(&mut engine, 3);
    let boards = engine.snapshot().boards[0].clone();
    assert!(boards[0].trouble.is_none() && boards[1].trouble.is_some());
    bench.ensure("bench-bus", 0x52, &[]);
    pass(&mut engine, 500);
    assert_eq!(engine.snapshot().boards[0][1].phase, Phase::Started);
    // The jumpers were set anew: what got pulses at the old address is released there.
    more.boards[0].address = Some(0x43);
    bench.ensure("bench-bus", 0x43, &[]);
    tell::run(&mut engine, more.clone());
    pass(&mut engine, 100);
    assert_eq!(bench.pulse_us("bench-bus", 0x41, 9), None);
    assert!(bench.pulse_us("bench-bus", 0x43, 9).is_some());
}

/// A winch behind a speed controller that must see its neutral for a second, on a simulated bus.
fn winch() -> (Arc<ManualClock>, Bench, Engine) {
    let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/crane.rig.toml")) else { panic!() };
    let clock = Arc::new(ManualClock::default());
    let motor = "[[board]]\nbus = \"bench-bus\"\naddress = 65\n[[board.servo]]\nchannel = 2\npart = \"motor\"\nzero_us = 1480\ndeadband_us = 12\narms_after_s = 0.9\n";
    let bench = Bench::new(&Truth::parse(motor).unwrap(), 1, clock.clone());
    let engine = Engine::by_hand(&Arc::new(Rig::clone(&rig)), setup(&bench, clock.clone())).unwrap();
    (clock, bench, engine)
}

#[test]
fn a_speed_controller_sees_its_neutral_when_it_arrives_and_again_when_its_board_comes_back() {
    let (clock, bench, mut engine) = winch();
    let pass = |engine: &mut Engine, beats: u32| {
        for _ in 0..beats {
            clock.advance(BEAT);
            engine.pass();
        }
    };
    let turns = || bench.eye().look("bench-bus", 0x41, 2).unwrap().sight != Sight::Turning(0.0);
    let arming = |engine: &mut Engine| engine.snapshot().servos[0].arming();
    // Nothing answers yet: the second does not begin.
    let gone = Struck { kind: Kind::Pulled, address: Some(0x41), channel: None };
    bench.faults().set(gone, true);
    pass(&mut engine, 10);
    engine.tell(Command::Engage { servo: 0, pulse: Position::new(1700.0), stands_there: true });
    pass(&mut engine, 100);
    assert!(arming(&mut engine).is_some() && engine.snapshot().servos[0].is_unarmed());
    bench.faults().set(gone, false);
    let until = |engine: &mut Engine, holds: &dyn Fn(&mut Engine) -> bool| {
        for beat in 0..400u32 {
            if holds(engine) {
                return beat;
            }
            pass(engine, 1);
        }
        panic!("it never came to that")
    };
    until(&mut engine, &|engine| arming(engine).is_some() && !engine.snapshot().servos[0].is_unarmed());
    let beats = until(&mut engine, &|engine| arming(engine).is_none());
    assert!((48..=52).contains(&beats), "{beats} beats for a second");
    let go = Command::GoTo { servo: 0, pulse: Position::new(1700.0) };
    engine.tell(go);
    pass(&mut engine, 60);
    assert!(turns(), "armed, it follows");
    // Out and in again: it turns no more before it has seen its neutral, and then not by itself.
    bench.faults().set(gone, true);
    until(&mut engine, &|engine| engine.snapshot().servos[0].is_unarmed());
    bench.faults().set(gone, false);
    until(&mut engine, &|engine| engine.snapshot().boards[0][0].trouble.is_none());
    pass(&mut engine, 20);
    assert!(arming(&mut engine).is_some() && !turns());
    until(&mut engine, &|engine| arming(engine).is_none());
    // Its supply dips for a moment only: the board is found restarted, and the same holds.
    pass(&mut engine, 60);
    bench.power_cycle("bench-bus", 0x41);
    until(&mut engine, &|engine| arming(engine).is_some());
    assert_eq!(engine.snapshot().boards[0][0].lapses, 1);
}

#[test]
fn an_edit_that_moves_a_winch_in_the_list_does_not_stop_it() {
    let Loaded::Sound(rig) = load(include_str!("../../core/tests/data/crane.rig.toml")) else { panic!() };
    let mut rig = *rig;
    rig.servos.reverse();
    let clock = Arc::new(ManualClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    bench.ensure("bench-bus", 0x41, &[2]);
    let first = setup(&bench, clock.clone());
    let mut engine = Engine::by_hand(&Arc::new(rig.clone()), first).unwrap();
    let pass = |engine: &mut Engine, beats: u32| {
        for _ in 0..beats {
            clock.advance(BEAT);
            engine.pass();
        }
    };
    engine.tell(Command::Engage { servo: 2, pulse: Position::new(1480.0), stands_there: true });
    pass(&mut engine, 100);
    engine.tell(Command::GoTo { servo: 2, pulse: Position::new(1700.0) });
    pass(&mut engine, 60);
    let turning = bench.pulse_us("bench-bus", 0x41, 2);
    assert!(turning.unwrap() > 1690.0, "{turning:?}");
    let mut fewer = rig.clone();
    fewer.servos.remove(0);
    tell::run(&mut engine, fewer.clone());
    pass(&mut engine, 5);
    assert_eq!(engine.snapshot().servos[1].arming(), None);
    assert_eq!(bench.pulse_us("bench-bus", 0x41, 2), turning);
}

#[test]
fn when_the_beat_stalls_what_would_go_on_turning_is_stopped() {
    let rig = small();
    let clock = Arc::new(ManualClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    bench.ensure("bench-bus", 0x40, &[1, 2]);
    let setup = setup(&bench, clock.clone());
    let index = Index::of(&rig);
    let wiring = Wiring::of(
        Parts { rig: &rig, index: &index },
        &setup.boards.iter().map(|b| b.name.clone()).collect::<Vec<_>>(),
    );
    let shared: Arc<dyn Clock> = clock.clone();
    let (mut workers, mut posts) = worker::make(setup.boards, &wiring, &shared, &Told::default());
    let (worker, post) = (&mut workers[0], &mut posts[0]);
    let mut frame = post.last.clone();
    // A winch that turns, beside a servo that stands: the winch has ticks at which it stops.
    frame[0].orders.wanted.set(1, Some(400));
    frame[0].stop.set(1, Some(303));
    frame[0].orders.wanted.set(2, Some(350));
    // The board has started once by then.
    frame[0].heard = [1; CHANNELS].into_iter().collect();
    post.frames.write(frame);
    let mut pass = |beats: u32, alive: bool| {
        for _ in 0..beats {
            clock.advance(BEAT);
            if alive {
                post.alive.beat(clock.now());
            }
            worker.service();
        }
    };
    let ticks = |channel: usize| bench.pulse_us("bench-bus", 0x40, channel).map(|us| (us / 4.88).round());
    pass(60, true);
    assert_eq!((ticks(1), ticks(2)), (Some(400.0), Some(350.0)));
    pass(20, false);
    assert_eq!(ticks(1), Some(400.0), "it may be late");
    pass(20, false);
    assert_eq!((ticks(1), ticks(2)), (Some(303.0), Some(350.0)), "it has stalled");
    pass(5, true);
    assert_eq!(ticks(1), Some(400.0), "and goes on");
}

#[test]
fn a_port_may_come_while_it_runs_and_a_board_that_left_unreachable_is_released_when_it_is_back() {
    let (rig, clock, bench, mut engine) = pair();
    let pass = |engine: &mut Engine, beats: u32| {
        for _ in 0..beats {
            clock.advance(BEAT);
            engine.pass();
        }
    };
    engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
    engine.tell(Command::Engage { servo: 1, pulse: Position::new(1500.0), stands_there: true });
    pass(&mut engine, 20);
    // Another bus, with a board and a servo on it; what runs already is not disturbed.
    bench.ensure("other-bus", 0x40, &[5]);
    let behind = bench.clone();
    let open = Box::new(move || Ok(Box::new(behind.open("other-bus")?) as Box<_>));
    engine.add_port(BoardPort { name: "other-bus".into(), way: Way::Bus(open) }).unwrap();
    let mut more = rig.clone();
    more.ports.push(wasvolta_core::rig::Port { name: "other-bus".into(), ..rig.ports[0].clone() });
    more.boards.push(Board { name: "far".into(), port: "other-bus".into(), ..rig.boards[0].clone() });
    let servo =
        Servo { name: "heron.wing".into(), board: "far".into(), channel: Some(5), ..rig.servos[0].clone() };
    more.servos.push(servo);
    more.number_parts();
    assert!(engine.has_port("other-bus"));
    tell::run(&mut engine, more.clone());
    pass(&mut engine, 5);
    engine.tell(Command::Engage { servo: 3, pulse: Position::new(1500.0), stands_there: true });
    pass(&mut engine, 20);
    assert!(bench.pulse_us("other-bus", 0x40, 5).is_some() && bench.pulse_us("bench-bus", 0x40, 1).is_some());
    assert_eq!(engine.snapshot().boards.len(), 2);
    // The lower board leaves the rig while nothing answers at its address: its pulses go on, and are still owed.
    let absent = Struck { kind: Kind::Absent, address: Some(0x41), channel: None };
    bench.faults().set(absent, true);
    pass(&mut engine, 60);
    let mut fewer = more.clone();
    fewer.boards.remove(1);
    fewer.servos.retain(|servo| servo.board != "lower");
    tell::run(&mut engine, fewer.clone());
    pass(&mut engine, 60);
    assert!(bench.pulse_us("bench-bus", 0x41, 2).is_some());
    bench.faults().set(absent, false);
    pass(&mut engine, 250);
    assert_eq!(bench.pulse_us("bench-bus", 0x41, 2), None);
    assert!(bench.pulse_us("bench-bus", 0x40, 1).is_some());
    drop(engine);
    assert_eq!(bench.pulse_us("other-bus", 0x40, 5), None, "all are released as the last act");
}
