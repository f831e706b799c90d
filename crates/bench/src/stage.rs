//! The stage alone: nanoseconds a servo, beside a loop that only interpolates and stores.

use crate::report::Row;
use crate::rigs;
use std::hint::black_box;
use std::time::{Duration, Instant};
use wasvolta_core::Stage;
use wasvolta_core::clock::PwmClock;
use wasvolta_core::stage::{Command, Plan, Prepared, Reading};
use wasvolta_core::unit::{Hertz, Micros};

const BEAT: Duration = Duration::from_millis(20);
const ROUNDS: usize = 15;
/// Servo-beats a round.
const WORK: u32 = 200_000;

/// Half the servos in a sequence, half behind an input of six stages.
pub fn measure() -> Vec<Row> {
    [16, 992].into_iter().map(row).collect()
}

fn row(count: u16) -> Row {
    let beats = WORK / u32::from(count);
    let mut run = Run::new(count);
    let mut bare = Bare::new(count);
    let (mut stage_ns, mut bare_ns) = (f64::MAX, f64::MAX);
    // The two by turns, so that a busy moment of the machine meets both; the best of each counts.
    for _ in 0..ROUNDS {
        stage_ns = stage_ns.min(each(beats, count, || run.beat()));
        bare_ns = bare_ns.min(each(beats, count, || bare.beat()));
    }
    Row::new(format!("stage, {count} servos"), format!("{stage_ns:.1} ns a servo"))
        .beside(format!("{bare_ns:.1} ns, a loop that interpolates and stores"))
        .ratio(stage_ns / bare_ns)
        .wanted("≤ 60 ns and ≤ 2 ×", stage_ns <= 60.0 && stage_ns <= 2.0 * bare_ns)
}

fn each(beats: u32, count: u16, mut beat: impl FnMut()) -> f64 {
    let start = Instant::now();
    for _ in 0..beats {
        beat();
    }
    start.elapsed().as_secs_f64() * 1e9 / f64::from(beats) / f64::from(count)
}

struct Run {
    stage: Stage,
    readings: Vec<Reading>,
    now: Duration,
    n: u32,
}

impl Run {
    fn new(count: u16) -> Self {
        let rig = rigs::of(count, 3600);
        let mut stage = Stage::new(Prepared::new(Plan::of(&rig)), BEAT);
        let servos = 0..rig.servos.len();
        let pulse = Micros::new(1500.0);
        let engage: Vec<Command> =
            servos.clone().map(|servo| Command::Engage { servo, pulse, told: true }).collect();
        let give: Vec<Command> = servos.map(|servo| Command::GiveBack { servo }).collect();
        stage.advance(Duration::ZERO, &[], &engage);
        stage.advance(BEAT, &[], &give);
        stage.advance(BEAT * 2, &[], &[Command::Play { sequence: 0 }]);
        let readings = vec![Reading { value: Some(512.0), frames: 1, changed: true, gone: false }; rig.inputs.len()];
        Self { stage, readings, now: BEAT * 2, n: 0 }
    }

    fn beat(&mut self) {
        self.n += 1;
        self.now += BEAT;
        for (k, reading) in (0u32..).zip(&mut self.readings) {
            reading.value = Some(f64::from((self.n * 7 + k * 13) % 1024));
        }
        black_box(self.stage.advance(black_box(self.now), black_box(&self.readings), &[]));
    }
}

/// The least that must be done for a servo: a place between two values, as whole ticks, stored.
struct Bare {
    from: Vec<f64>,
    to: Vec<f64>,
    phase: Vec<f64>,
    ticks: Vec<u16>,
    tick: f64,
    n: u32,
}

impl Bare {
    fn new(count: u16) -> Self {
        let many = |value: f64| vec![value; usize::from(count)];
        let phase = (0..count).map(|n| f64::from(n) / f64::from(count)).collect();
        let tick = PwmClock::expander(Hertz::new(25e6), Hertz::new(50.0)).tick().get();
        Self { from: many(1100.0), to: many(1900.0), phase, ticks: vec![0; usize::from(count)], tick, n: 0 }
    }

    fn beat(&mut self) {
        self.n += 1;
        let t = f64::from(self.n % 50) / 50.0;
        let places = self.from.iter().zip(&self.to).zip(&self.phase).zip(&mut self.ticks);
        for (((from, to), phase), ticks) in places {
            let u = (t + phase).fract();
            let way = u * u * u * (10.0 - 15.0 * u + 6.0 * u * u);
            let pulse = (from + (to - from) * way).clamp(700.0, 2300.0);
            *ticks = wasvolta_core::unit::count16((pulse / self.tick).round());
        }
        black_box(&self.ticks);
    }
}
