//! Sixty-two boards with 992 servos on one bus: what fits, how old a value gets, and whether the beat notices.

use crate::bus::fewest_bytes;
use crate::report::Row;
use crate::rigs;
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use wasvolta_core::rig::{Board, Index, Parts, Rig, Servo};
use wasvolta_core::stage::Command;
use wasvolta_core::traffic::Traffic;
use wasvolta_core::unit::{Hertz, Position, number};
use wasvolta_engine::worker::{self, Post};
use wasvolta_engine::{BoardPort, Engine, Setup, Way, Wiring};
use wasvolta_port::{Clock, WallClock};
use wasvolta_sim::{Bench, Logged, ManualClock, TimedBus, Truth};

const BOARDS: u8 = 62;
const CHANNELS: usize = 16;
const BEAT: Duration = Duration::from_millis(20);
const BIT: Duration = Duration::from_micros(1);
/// All are engaged by then: one after another on each board, 80 ms apart.
const ENGAGED: Duration = Duration::from_secs(4);
const MEASURED: Duration = Duration::from_secs(4);
const PORT: &str = "bus-0";

/// What the computation promises, and what a bus of that rate does.
pub fn measure() -> Vec<Row> {
    let rig = rig();
    let traffic = Traffic::of(&rig, PORT);
    let log = run(&rig);
    let mut rows = told(&traffic, &log);
    rows.push(bytes(&log));
    rows.extend(beat(&rig));
    rows
}

/// One bus at 1 MHz, every address that a board may have, a servo on every channel.
fn rig() -> Rig {
    let seed = rigs::of(16, 1);
    let addresses = (0x40..=0x7f).filter(|address| *address != 0x70).take(usize::from(BOARDS));
    let boards: Vec<Board> = addresses
        .map(|address| Board {
            name: format!("b{address}"),
            address: Some(address),
            ..seed.boards[0].clone()
        })
        .collect();
    let servo = |(n, board): (usize, &Board), channel: u8| Servo {
        name: format!("reed.b{n}-{channel}"),
        board: board.name.clone(),
        channel: Some(channel),
        ..seed.servos[0].clone()
    };
    let servos = boards.iter().enumerate().flat_map(|b| (0..16).map(move |c| servo(b, c))).collect();
    let mut rig = Rig {
        boards,
        servos,
        joints: vec![],
        inputs: vec![],
        mappings: vec![],
        poses: vec![],
        sequences: vec![],
        ..seed
    };
    rig.ports[0].bus_hz = Some(Hertz::new(1e6));
    rig.number_parts();
    rig
}

fn bench(rig: &Rig, clock: Arc<dyn Clock>) -> Bench {
    let bench = Bench::new(&Truth::default(), 1, clock);
    for board in &rig.boards {
        bench.ensure("bench", board.address.unwrap_or_default(), &[]);
    }
    bench
}

fn setup(way: Way, clock: Arc<dyn Clock>) -> Setup {
    Setup {
        boards: vec![BoardPort { name: PORT.into(), way }],
        opener: Box::new(wasvolta_engine::ways::opener),
        clock,
        beat: BEAT,
        record: None,
    }
}

/// Everything that is written while half of all channels, at random, change in every beat.
fn run(rig: &Rig) -> Vec<Logged> {
    let clock = Arc::new(ManualClock::default());
    let bench = bench(rig, clock.clone());
    let beats = Arc::new(Mutex::new(Beats { post: None, passed: 0, dice: 1 }));
    let (behind, shared, time) = (bench.clone(), Arc::clone(&beats), Arc::clone(&clock));
    let open = Box::new(move || {
        let beats = Arc::clone(&shared);
        let passes = move |now: Duration| Beats::until(&beats, now);
        Ok(Box::new(TimedBus::new(behind.bus("bench"), time.clone(), BIT, passes)) as Box<_>)
    });
    let wiring = {
        let bench = bench.clone();
        let way = Way::Bus(Box::new(move || Ok(Box::new(bench.bus("bench")) as Box<_>)));
        Wiring::of(Parts { rig, index: &Index::of(rig) }, &[setup(way, clock.clone()).boards[0].name.clone()])
    };
    let shared: Arc<dyn Clock> = clock.clone();
    let port = BoardPort { name: PORT.into(), way: Way::Bus(open) };
    let (mut workers, mut posts) = worker::make(vec![port], &wiring, &shared, &worker::Told::default());
    beats.lock().unwrap_or_else(PoisonError::into_inner).post = posts.pop();
    while clock.now() < ENGAGED + MEASURED {
        for worker in &mut workers {
            worker.service();
        }
        clock.advance(Duration::from_micros(200));
        Beats::until(&beats, clock.now());
    }
    bench.log().into_iter().filter(|entry| entry.write && entry.at > ENGAGED).collect()
}

/// The beats that pass beside the bus.
struct Beats {
    post: Option<Post>,
    passed: u32,
    dice: u64,
}

impl Beats {
    /// Lets every beat pass that is due by now.
    fn until(beats: &Mutex<Self>, now: Duration) {
        let mut beats = beats.lock().unwrap_or_else(PoisonError::into_inner);
        while BEAT * (beats.passed + 1) <= now {
            beats.passed += 1;
            let Self { post: Some(post), dice, .. } = &mut *beats else { return };
            move_half(post, dice);
        }
    }
}

/// Half of all channels get another value.
fn move_half(post: &mut Post, dice: &mut u64) {
    let heard: Vec<u32> = post.reports.read().iter().map(|state| state.interruptions).collect();
    for (n, board) in post.last.iter_mut().enumerate() {
        board.heard = [heard.get(n).copied().unwrap_or_default(); CHANNELS].into_iter().collect();
        *dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        for n in 0..CHANNELS {
            let before = board.orders.wanted.get(n).unwrap_or(200);
            let next = Some(if *dice >> (20 + n) & 1 == 1 { 200 + (before + 37) % 200 } else { before });
            board.orders.wanted.set(n, next);
        }
    }
    post.frames.input_buffer_mut().clone_from(&post.last);
    post.frames.publish();
}

/// How often a board is told something, and how long a channel stays untold, beside what was computed.
fn told(traffic: &Traffic, log: &[Logged]) -> Vec<Row> {
    let mut turns: BTreeMap<u8, Vec<Duration>> = BTreeMap::new();
    for entry in log {
        let turns = turns.entry(entry.address).or_default();
        // Transfers of one turn are closer together than any two turns.
        if turns.last().is_none_or(|last| entry.at.saturating_sub(*last) > Duration::from_millis(3)) {
            turns.push(entry.at);
        }
    }
    let fewest = turns.values().map(Vec::len).min().unwrap_or(0);
    let waits = turns.values().flat_map(|turns| turns.windows(2).map(|w| w[1].saturating_sub(w[0])));
    let oldest = (waits.max().unwrap_or_default() + BEAT).as_secs_f64() * 1e3;
    let bound = (traffic.longest_wait().get() + BEAT.as_secs_f64()) * 1e3;
    let (rate, computed) = (number(fewest) / MEASURED.as_secs_f64(), traffic.updates_a_second());
    vec![
        Row::new(
            "62 boards at 1 MHz, updates of each a second, half its channels changing",
            format!("{rate:.1}"),
        )
        .beside(format!("{computed:.1} computed before it runs, for all 992 channels changing at once")),
        Row::new("62 boards at 1 MHz, oldest value on a channel", format!("{oldest:.1} ms"))
            .beside(format!("{bound:.1} ms computed at most"))
            .ratio(oldest / bound)
            .wanted("≤ 1 ×", oldest <= bound),
    ]
}

/// Bytes beside the least that tell the same changes.
fn bytes(log: &[Logged]) -> Row {
    let mut registers: BTreeMap<u8, [u8; 256]> = BTreeMap::new();
    let (mut spent, mut least) = (0, 0);
    for turn in log.chunk_by(|a, b| a.address == b.address) {
        let mut moving = [false; CHANNELS];
        for entry in turn {
            spent += 2 + entry.bytes.len();
            let known = registers.entry(entry.address).or_insert([0; 256]);
            for (register, byte) in (usize::from(entry.register)..).zip(&entry.bytes) {
                let channel = register.saturating_sub(6) / 4;
                if let (Some(moves), true) = (moving.get_mut(channel), known[register] != *byte) {
                    *moves = true;
                }
                known[register] = *byte;
            }
        }
        least += fewest_bytes(&moving);
    }
    let (own, fewest) = (number(spent) / MEASURED.as_secs_f64(), number(least) / MEASURED.as_secs_f64());
    Row::new("62 boards, bytes a second", format!("{own:.0}"))
        .beside(format!("{fewest:.0}, the least of all choices of transfers"))
        .ratio(own / fewest)
        .wanted("≤ 1.05 ×", own <= 1.05 * fewest)
}

/// Whether a bus that takes longer than a beat makes the beat late.
fn beat(rig: &Rig) -> Vec<Row> {
    let clock: Arc<dyn Clock> = Arc::new(WallClock::default());
    let lateness = |delay: Duration| -> Option<(u64, Duration)> {
        let bench = bench(rig, Arc::clone(&clock));
        bench.faults().set_delay(delay);
        let way = Way::Bus(Box::new(move || Ok(Box::new(bench.bus("bench")) as Box<_>)));
        let mut engine = Engine::start(&Arc::new(rig.clone()), setup(way, Arc::clone(&clock))).ok()?;
        for servo in rig.servos.iter().map(|servo| servo.id) {
            let asked = clock.now();
            while !engine.command(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true })
            {
                if clock.now().saturating_sub(asked) > MEASURED {
                    return None;
                }
                std::thread::yield_now();
            }
        }
        let start = clock.now();
        while clock.now().saturating_sub(start) < MEASURED {
            clock.wait(BEAT);
            for servo in rig.servos.iter().step_by(8).map(|servo| servo.id) {
                engine.command(Command::Jog { servo, by: Position::new(9.0), repeat: false });
            }
        }
        let punctual = engine.snapshot().punctual;
        Some((punctual.late, punctual.worst))
    };
    let (Some((own, worst)), Some((beside, _))) =
        (lateness(Duration::from_micros(300)), lateness(Duration::ZERO))
    else {
        return Vec::new();
    };
    let row = Row::new(
        "62 boards, beats late while a round takes 90 ms",
        format!("{own} of 200, worst {worst:.1?}"),
    )
    .beside(format!("{beside} of 200 while it takes no time"));
    vec![row]
}
