//! The stage alone: nanoseconds a servo, beside a loop that only interpolates and stores.

use crate::report::Row;
use crate::rigs;
use std::hint::black_box;
use std::time::{Duration, Instant};
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::Heard;
use wasvolta_core::stage::{Plan, ServoState, Setpoint};
use wasvolta_core::unit::Ticks;

const BEAT: Duration = Duration::from_millis(20);
const ROUNDS: usize = 200;
/// Servo-beats a round.
const WORK: u32 = 100_000;

/// Half the servos in a sequence, half behind an input of six stages.
pub fn measure() -> Vec<Row> {
    [16, 992].into_iter().flat_map(rows).chain([blends()]).collect()
}

/// 40 inputs that move 60 joints at 200 beats a second, by threes in blends, beside the same by themselves.
fn blends() -> Row {
    const QUICK: Duration = Duration::from_millis(5);
    let mut runs = [true, false].map(|blends| {
        let rig = rigs::mapped(40, 60, blends);
        Run::of(&rig, rigs::given_back(&rig, QUICK), QUICK)
    });
    let mut least = [f64::MAX; 2];
    for _ in 0..ROUNDS {
        for (run, least) in runs.iter_mut().zip(&mut least) {
            *least = least.min(each(WORK / 60, 60, || run.beat()));
        }
    }
    let [blended, plain] = least;
    Row::new("stage, 40 inputs to 60 joints by blends".to_owned(), format!("{blended:.1} ns a joint"))
        .beside(format!("{plain:.1} ns, the same inputs each to joints by themselves"))
        .ratio(blended / plain)
        .wanted("≤ 1.5 ×", blended <= 1.5 * plain)
}

fn rows(count: u16) -> [Row; 2] {
    let beats = WORK / u32::from(count);
    let mut run = Run::new(count);
    let mut bare = Bare::new(count);
    let (mut stage_ns, mut bare_ns) = (f64::MAX, f64::MAX);
    // The two by turns, so that a busy moment of the machine meets both; the best of each counts.
    for _ in 0..ROUNDS {
        stage_ns = stage_ns.min(each(beats, count, || run.beat()));
        bare_ns = bare_ns.min(each(beats, count, || bare.beat()));
    }
    let figure = format!("{stage_ns:.1} ns a servo");
    let beside = format!("{bare_ns:.1} ns, a loop over the same arrays that interpolates and stores");
    [
        Row::new(format!("stage, {count} servos"), &figure).wanted("≤ 60 ns", stage_ns <= 60.0),
        Row::new(format!("stage, {count} servos, beside bare work"), figure)
            .beside(beside)
            .ratio(stage_ns / bare_ns)
            .wanted("≤ 2 ×", stage_ns <= 2.0 * bare_ns),
    ]
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
    /// Some beats' readings, made before: what a decoder does is not the stage's.
    inputs: Vec<Vec<Batch>>,
    links: Vec<Heard>,
    now: Duration,
    step: Duration,
    n: usize,
}

impl Run {
    fn new(count: u16) -> Self {
        let rig = rigs::of(count, 3600);
        let at = rigs::playing(&rig, BEAT);
        Self::of(&rig, at, BEAT)
    }

    fn of(rig: &wasvolta_core::rig::Rig, (stage, now): (Stage, Duration), step: Duration) -> Self {
        let reading = |n: usize, k: usize| {
            let value = wasvolta_core::unit::number((n * 7 + k * 13) % 1024);
            Batch::of(value)
        };
        let inputs = rig.inputs.len();
        let inputs = (0..4).map(|n| (0..inputs).map(|k| reading(n, k)).collect()).collect();
        let links = vec![Heard { frames: 1, changed: true, ..Heard::default() }; rig.links.len()];
        Self { stage, inputs, links, now, step, n: 0 }
    }

    fn beat(&mut self) {
        self.n += 1;
        self.now += self.step;
        let inflow = Inflow { links: &self.links, inputs: &self.inputs[self.n % 4], measured: &[] };
        black_box(self.stage.advance(black_box(self.now), black_box(inflow), &[]));
    }
}

/// The least that must be done for a servo, over the stage's own arrays: a place between two pulses, as whole
/// ticks, stored.
struct Bare {
    plan: Plan,
    servos: Vec<ServoState>,
    n: u32,
}

impl Bare {
    fn new(count: u16) -> Self {
        let plan = Plan::of(&rigs::of(count, 10));
        Self { servos: vec![ServoState::default(); plan.servos.len()], plan, n: 0 }
    }

    fn beat(&mut self) {
        self.n += 1;
        let t = f64::from(self.n % 50) / 50.0;
        for (k, (state, plan)) in (0u32..).zip(self.servos.iter_mut().zip(&self.plan.servos)) {
            let u = (t + f64::from(k % 64) / 64.0).fract();
            let way = u * u * u * (10.0 - 15.0 * u + 6.0 * u * u);
            let (low, high) = plan.guard.endpoints;
            state.pulse = low + (high - low) * way;
            let ticks = state.pulse / plan.guard.step();
            let target = Ticks(wasvolta_core::unit::count16(ticks));
            state.setpoint = Some(Setpoint { target, speed: 0.0 });
        }
        black_box(&self.servos);
    }
}
