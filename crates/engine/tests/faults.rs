//! What a servo's wire sees when its board resets, is pulled out, refuses, or when the program stalls or was killed: on
//! every kind of board, measured at the pins.
//!
//! One grid as a snapshot, and one law over whatever happens: two pulses that follow each other never differ by more than
//! the way of a beat, or of two behind an interruption.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use proptest::prelude::*;
mod tell;

use std::fmt::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tell::Tell;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Back, Rig};
use wasvolta_core::stage::{Command, EventKind, Output, Wire};
use wasvolta_core::unit::Position;
use wasvolta_engine::worker::{Ended, Proof};
use wasvolta_engine::{BoardPort, Engine, Setup, Way, ways};
use wasvolta_port::board::{Decision, Found, Phase};
use wasvolta_port::pwm::Files;
use wasvolta_port::{BusError, Clock, I2cBus, Transfer};
use wasvolta_sim::faults::Kind as Fault;
use wasvolta_sim::{Bench, ManualClock, SimBus, Truth};

const BEAT: Duration = Duration::from_millis(20);
const MS: fn(u64) -> Duration = Duration::from_millis;
/// 100 °/s on 0.1 °/µs.
const A_BEAT_US: f64 = 20.0;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Board {
    Expander,
    Firmata,
    Pwm,
}

const BOARDS: [Board; 3] = [Board::Expander, Board::Firmata, Board::Pwm];

impl Board {
    /// The neck alone, on a board of this kind, going to and fro as fast as it may.
    fn rig(self, back: Option<Back>) -> Rig {
        let (port, board, channel) = match self {
            Self::Expander => ("kind = \"i2c\"", "chip = \"pwm-expander\"\naddress = 64", 1),
            Self::Firmata => ("kind = \"serial\"", "chip = \"firmata\"", 9),
            Self::Pwm => ("kind = \"pwm\"", "chip = \"linux-pwm\"", 1),
        };
        let steps = "[[sequence.step]]\npose = \"up\"\nmove_s = 1\neasing = \"linear\"\n[[sequence.step]]\npose = \"down\"\nmove_s = 1\neasing = \"linear\"\n";
        let text = format!(
            "format = 7\nname = \"Grid\"\n[[port]]\nname = \"way\"\n{port}\npath = \"sim:way\"\n[[board]]\nname = \"b\"\nport = \"way\"\n{board}\n\
             [[servo]]\nname = \"heron.neck\"\nboard = \"b\"\nchannel = {channel}\nendpoints_us = [900, 2100]\n\
             marks = [{{ pulse_us = 1000, angle_deg = -50 }}, {{ pulse_us = 2000, angle_deg = 50 }}]\n\
             [[joint]]\nname = \"heron.neck\"\nservo = \"heron.neck\"\nspeed_deg_s = 100\nhome_deg = 0\n\
             [[pose]]\nname = \"up\"\nangles_deg = {{ \"heron.neck\" = 45 }}\n[[pose]]\nname = \"down\"\nangles_deg = {{ \"heron.neck\" = -45 }}\n\
             [[sequence]]\nname = \"nod\"\n{}",
            steps.repeat(40)
        );
        let Loaded::Sound(mut rig) = load(&text) else { panic!("{:?}", load(&text)) };
        rig.joints[0].back = back;
        *rig
    }

    const fn channel(self) -> u8 {
        if matches!(self, Self::Firmata) { 9 } else { 1 }
    }
}

struct Run {
    board: Board,
    clock: Arc<ManualClock>,
    bench: Bench,
    engine: Engine,
    /// The last pulse that was on the wire.
    last: Option<f64>,
    largest: f64,
    words: Vec<String>,
    heard: u64,
}

impl Run {
    fn new(board: Board, back: Option<Back>) -> Self {
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        match board {
            Board::Expander => bench.ensure("way", 0x40, &[1]),
            Board::Firmata => bench.firmata("way").ensure(9, wasvolta_sim::truth::Part::Servo),
            Board::Pwm => bench.pwm("way").ensure(1, wasvolta_sim::truth::Part::Servo),
        }
        let engine = Self::engine(board, back, &bench, &clock);
        Self { board, clock, bench, engine, last: None, largest: 0.0, words: Vec::new(), heard: 0 }
    }

    fn engine(board: Board, back: Option<Back>, bench: &Bench, clock: &Arc<ManualClock>) -> Engine {
        let bench = bench.clone();
        let way = match board {
            Board::Expander => Way::Bus(Box::new(move || Ok(Box::new(bench.open("way")?) as Box<_>))),
            Board::Firmata => {
                Way::Line(Box::new(move || Ok(Box::new(bench.firmata("way").open()?) as Box<_>)))
            }
            Board::Pwm => Way::Files(Box::new(move || Ok(Box::new(bench.pwm("way").open()?) as Box<_>))),
        };
        Self::engine_on(board, back, way, clock)
    }

    fn engine_on(board: Board, back: Option<Back>, way: Way, clock: &Arc<ManualClock>) -> Engine {
        let setup = Setup {
            boards: vec![BoardPort { name: "way".into(), way }],
            opener: Box::new(ways::opener),
            clock: clock.clone(),
            beat: BEAT,
            record: None,
        };
        let rig = board.rig(back);
        Engine::by_hand(&Arc::new(rig), setup).unwrap()
    }

    fn decide(&mut self, decision: Decision) {
        let board = self.engine.compiled().rig.boards[0].id;
        assert!(self.engine.decide(board, decision));
    }

    /// What the pin gives, in µs.
    fn wire(&self) -> Option<f64> {
        match self.board {
            Board::Expander => self.bench.pulse_us("way", 0x40, 1),
            Board::Firmata => self.bench.firmata("way").pulse_us(9).map(f64::from),
            Board::Pwm => self.bench.pwm("way").pulse_us(1),
        }
    }

    fn beat(&mut self) {
        self.clock.advance(BEAT);
        self.engine.pass();
        if let Some(pulse) = self.wire() {
            let step = self.last.map_or(0.0, |last| (pulse - last).abs());
            self.largest = self.largest.max(step);
            self.last = Some(pulse);
        }
        let snapshot = self.engine.snapshot().clone();
        let state = &snapshot.boards[0][0];
        let mut said: Vec<String> = state.trouble.iter().map(|t| t.fault.to_string()).collect();
        said.extend(state.lapse.iter().map(|(_, lapse)| lapse.words().split(':').next().unwrap().to_owned()));
        for (number, event) in snapshot.events {
            if number > self.heard {
                self.heard = number;
                match event.kind {
                    EventKind::Interrupted(back) => said.push(format!("interrupted: {back:?}")),
                    EventKind::Resumed => said.push("resumed".to_owned()),
                    _ => {}
                }
            }
        }
        for words in said {
            if !self.words.contains(&words) {
                self.words.push(words);
            }
        }
    }

    fn pass(&mut self, time: Duration) {
        for _ in 0..time.as_millis() / BEAT.as_millis() {
            self.beat();
        }
    }

    fn moves(&mut self) -> bool {
        let state = self.engine.snapshot().servos[0];
        state.engaged && state.wire == Wire::Arrives && self.wire().is_some()
    }

    /// Engaged in the middle, playing, in mid-move.
    fn playing(board: Board, back: Option<Back>) -> Self {
        let mut run = Self::new(board, back);
        run.pass(MS(1000));
        run.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
        run.pass(MS(400));
        run.engine.tell(Command::GiveBack { servo: 0 });
        run.engine.tell(Command::Play { sequence: 0 });
        run.pass(MS(2500));
        assert!(run.moves(), "{board:?}");
        (run.largest, run.words) = (0.0, Vec::new());
        run
    }

    fn set(&self, fault: Fault, on: bool) {
        self.bench.faults().set_everywhere(fault, on);
    }

    fn reset(&self) {
        match self.board {
            Board::Expander => self.bench.power_cycle("way", 0x40),
            Board::Firmata => self.bench.firmata("way").reset(),
            // Another program has switched the channel off.
            Board::Pwm => self.bench.pwm("way").write("pwm1/enable", "0").unwrap(),
        }
    }

    /// Passes time until the servo moves again; how long that took.
    fn recovered(&mut self) -> Option<Duration> {
        let begun = self.clock.now();
        for _ in 0..500 {
            self.beat();
            if self.moves() {
                return Some(self.clock.now().saturating_sub(begun));
            }
        }
        None
    }
}

fn ended(ended: &[Ended]) -> String {
    let words = ended.iter().map(|board| match &board.proof {
        Proof::ReadBack => "released, read back".to_owned(),
        Proof::Unsaid => "released, unsaid".to_owned(),
        Proof::MayPulse { channels, why } => {
            format!(
                "may pulse: {channels:?}, {}",
                why.as_ref().map_or("it goes on".to_owned(), |e| e.fault.to_string())
            )
        }
    });
    words.collect::<Vec<_>>().join("; ")
}

/// Its way or its chip fails in mid-move, or the program stalls.
fn interruptions(board: Board, grid: &mut String) {
    let mut row = |name: &str, fault: &dyn Fn(&mut Run)| {
        let mut run = Run::playing(board, None);
        fault(&mut run);
        let took = run.recovered();
        run.pass(MS(3000));
        let took = took.map_or("stays released".to_owned(), |time| format!("back after {time:?}"));
        let words = run.words.join(" · ");
        writeln!(grid, "{board:?}, {name}: largest step {:.1} µs, {took}; {words}", run.largest).unwrap();
        // The law itself, for the snapshot may be written anew.
        assert!(run.largest <= 2.0 * A_BEAT_US + 4.88, "{board:?} {name}: {}", run.largest);
    };
    row("reset", &|run| run.reset());
    if board == Board::Firmata {
        row("slow reset", &|run| {
            run.bench.firmata("way").boots_in(MS(1500));
            run.reset();
        });
    }
    for pulled in [100, 2000, 10_000] {
        row(&format!("pulled for {pulled} ms"), &|run| {
            run.set(Fault::Pulled, true);
            run.pass(MS(pulled));
            run.set(Fault::Pulled, false);
        });
        row(&format!("out of reach for {pulled} ms"), &|run| {
            run.bench.firmata("way").resets_when_opened(false);
            let kind = if board == Board::Firmata { Fault::Silent } else { Fault::Absent };
            run.set(kind, true);
            run.pass(MS(pulled));
            run.set(kind, false);
        });
    }
    row("error on a write", &|run| match board {
        Board::Pwm => {
            run.set(Fault::Denied, true);
            run.pass(MS(60));
            run.set(Fault::Denied, false);
        }
        _ => {
            run.bench.faults().refuse_next(2);
            run.pass(MS(60));
        }
    });
    for stall in [100, 500, 2000] {
        row(&format!("stall of {stall} ms"), &|run| run.clock.advance(MS(stall)));
    }
}

/// The end of the program, as the last transfer finds the board.
fn ends(board: Board, grid: &mut String) {
    let mut end = |name: &str, fault: &dyn Fn(&mut Run)| {
        let mut run = Run::playing(board, None);
        fault(&mut run);
        let (bench, engine) = (run.bench.clone(), run.engine);
        let said = ended(&engine.finish());
        let still = match board {
            Board::Expander => bench.pulse_us("way", 0x40, 1),
            Board::Firmata => bench.firmata("way").pulse_us(9).map(f64::from),
            Board::Pwm => bench.pwm("way").pulse_us(1),
        };
        let still = if still.is_some() { "it pulses" } else { "no pulse" };
        writeln!(grid, "{board:?}, {name}: {said}; at the pin: {still}").unwrap();
    };
    end("end", &|_| {});
    end("end, the first transfers fail", &|run| {
        run.bench.faults().refuse_next(if board == Board::Expander { 3 } else { 0 });
    });
    // Released before: that it is so is still read back, as often as that needs.
    end("cut, end, the first transfers fail", &|run| {
        run.engine.stop().cut();
        run.pass(MS(100));
        assert_eq!(run.wire(), None);
        run.bench.faults().refuse_next(if board == Board::Expander { 3 } else { 0 });
    });
    end("end, nothing answers", &|run| {
        run.bench.firmata("way").resets_when_opened(false);
        run.set(if board == Board::Firmata { Fault::Silent } else { Fault::Absent }, true);
    });
}

/// The program was killed, and another one starts.
fn kills(board: Board, grid: &mut String) {
    for (word, decision) in
        [("kept", Some(Decision::Adopt)), ("released", Some(Decision::Release)), ("cut", None)]
    {
        let mut run = Run::playing(board, None);
        run.bench.firmata("way").resets_when_opened(false);
        let again = Run::engine(board, None, &run.bench, &run.clock);
        std::mem::forget(std::mem::replace(&mut run.engine, again));
        (run.heard, run.largest) = (0, 0.0);
        // What was told last acts from the next frame on.
        run.clock.advance(MS(60));
        let before = run.wire();
        run.pass(MS(4000));
        let Phase::Asking(Found::Pulsing { ticks, .. }) = run.engine.snapshot().boards[0][0].phase.clone()
        else {
            panic!("{board:?} does not ask: {:?}", run.engine.snapshot().boards[0][0].phase)
        };
        assert!(
            ticks.get(usize::from(board.channel())).is_some() && run.wire() == before,
            "nothing was written"
        );
        if decision == Some(Decision::Adopt) {
            // As whoever answers so does: engaged where it stands.
            let ticks = wasvolta_core::unit::Ticks(ticks.get(usize::from(board.channel())).unwrap());
            let pulse = wasvolta_core::stage::Plan::of(&board.rig(None)).servos[0].guard.pulse(ticks);
            run.engine.tell(Command::Engage { servo: 0, pulse, stands_there: true });
        }
        match decision {
            Some(decision) => run.decide(decision),
            None => run.engine.stop().cut(),
        }
        run.pass(MS(500));
        let at = if run.wire() == before {
            "as it was"
        } else if run.wire().is_none() {
            "no pulse"
        } else {
            "elsewhere"
        };
        let output = run.engine.snapshot().output;
        assert!(decision.is_some() || output == Output::Cut);
        writeln!(grid, "{board:?}, killed and started, {word}: {at}, largest step {:.1} µs", run.largest)
            .unwrap();
        let said = ended(
            &std::mem::replace(&mut run.engine, Run::engine(board, None, &run.bench, &run.clock)).finish(),
        );
        assert!(said == "released, read back" && run.wire().is_none(), "{board:?} {word}: {said}");
    }
}

#[test]
fn the_grid_of_boards_and_faults() {
    let mut grid = String::new();
    for board in BOARDS {
        interruptions(board, &mut grid);
        ends(board, &mut grid);
        kills(board, &mut grid);
    }
    insta::assert_snapshot!("grid", grid);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_two_pulses_that_follow_each_other_are_further_apart_than_the_way_between(
        kind in 0usize..3,
        happens in proptest::collection::vec((0u8..6, 1u64..60, 0u64..80), 1..8),
    ) {
        let board = BOARDS[kind];
        // Its supply may fall as well as its way: this one is to go on all the same, so that something is measured.
        let mut run = Run::playing(board, Some(Back::Last));
        for (what, lasts, then) in happens {
            match what {
                0 => run.reset(),
                1 => run.clock.advance(BEAT * u32::try_from(lasts).unwrap()),
                2 => run.bench.faults().refuse_next(u32::try_from(lasts % 5).unwrap()),
                fault => {
                    run.bench.firmata("way").resets_when_opened(fault != 3);
                    run.bench.firmata("way").boots_in(MS(lasts * 30));
                    let fault = match fault {
                        3 if board == Board::Firmata => Fault::Silent,
                        3 | 4 => Fault::Absent,
                        _ => Fault::Pulled,
                    };
                    run.set(fault, true);
                    run.pass(BEAT * u32::try_from(lasts).unwrap());
                    run.set(fault, false);
                }
            }
            run.pass(BEAT * u32::try_from(then).unwrap());
            prop_assert!(run.largest <= 2.0 * A_BEAT_US + 4.88, "{board:?} {what} for {lasts} beats: {} µs", run.largest);
        }
    }
}

#[test]
fn a_board_that_is_silent_while_it_is_asked_what_its_pins_are_is_not_one_that_cannot_say() {
    let mut run = Run::playing(Board::Firmata, Some(Back::Last));
    run.reset();
    run.pass(BEAT * 21);
    run.bench.firmata("way").resets_when_opened(false);
    for (fault, beats) in [(Fault::Silent, 26), (Fault::Absent, 1)] {
        run.set(fault, true);
        run.pass(BEAT * beats);
        run.set(fault, false);
        run.bench.firmata("way").resets_when_opened(true);
        run.bench.firmata("way").boots_in(MS(30));
        run.pass(BEAT * 20);
        assert!(run.largest <= 2.0 * A_BEAT_US + 4.88, "{fault:?}: {} µs", run.largest);
    }
}

#[test]
fn a_value_that_was_lost_on_the_way_is_not_made_up_for_in_one_step() {
    let mut run = Run::playing(Board::Firmata, Some(Back::Last));
    run.bench.firmata("way").boots_in(MS(420));
    for (fault, beats, then) in [(Fault::Absent, 14, 38), (Fault::Silent, 1, 40)] {
        run.bench.firmata("way").resets_when_opened(fault == Fault::Absent);
        run.set(fault, true);
        run.pass(BEAT * beats);
        run.set(fault, false);
        run.pass(BEAT * then);
        assert!(run.largest <= 2.0 * A_BEAT_US + 4.88, "{fault:?}: {} µs", run.largest);
    }
    assert!(run.moves());
}

/// A bus whose first words to a channel are lost once, though they seem to arrive.
struct Lossy {
    bus: SimBus,
    losses: Arc<AtomicU32>,
}

impl I2cBus for Lossy {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        let told = matches!(transfer, Transfer::Write { register: 6..=69, .. });
        let left = self.losses.load(Ordering::SeqCst);
        if told && left > 0 {
            self.losses.store(left - 1, Ordering::SeqCst);
            return Ok(());
        }
        self.bus.transfer(address, transfer)
    }
}

#[test]
fn a_release_that_was_told_and_not_heard_is_told_again() {
    for (losses, proof) in [(1, "released, read back"), (u32::MAX, "may pulse: [1], it goes on")] {
        let lost = Arc::new(AtomicU32::new(0));
        let mut run = Run::new(Board::Expander, None);
        let (bench, losses_of) = (run.bench.clone(), Arc::clone(&lost));
        let way = Way::Bus(Box::new(move || {
            Ok(Box::new(Lossy { bus: bench.open("way")?, losses: Arc::clone(&losses_of) }) as Box<_>)
        }));
        run.engine = Run::engine_on(Board::Expander, None, way, &run.clock);
        run.pass(MS(1000));
        run.engine.tell(Command::Engage { servo: 0, pulse: Position::new(1500.0), stands_there: true });
        run.pass(MS(400));
        assert!(run.moves());
        lost.store(losses, Ordering::SeqCst);
        let bench = run.bench.clone();
        assert_eq!(ended(&run.engine.finish()), proof);
        assert_eq!(bench.pulse_us("way", 0x40, 1).is_some(), losses > 1);
    }
}
