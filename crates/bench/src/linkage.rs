//! What a linkage costs: a look at its table, a beat of its servo beside one of a straight servo, and a long show
//! compiled.

use crate::report::Row;
use crate::rigs;
use std::hint::black_box;
use std::time::{Duration, Instant};
use wasvolta_core::Stage;
use wasvolta_core::inflow::Inflow;
use wasvolta_core::linkage::{Branch, FourBar};
use wasvolta_core::rig::Rig;
use wasvolta_core::stage::Plan;
use wasvolta_core::unit::{Degrees, Millimetres, number};

const BEAT: Duration = Duration::from_millis(20);
const SERVOS: u16 = 64;
const BEATS: u32 = 2000;
const ROUNDS: usize = 40;
const LOOKS: u32 = 1_000_000;

/// A linkage that turns its joint unevenly.
pub const fn bars() -> FourBar {
    FourBar {
        horn_mm: Millimetres::new(16.0),
        rod_mm: Millimetres::new(50.0),
        arm_mm: Millimetres::new(22.0),
        pivots_mm: Millimetres::new(52.0),
        horn_at_deg: Degrees::new(90.0),
        branch: Branch::SameSide,
        offset_deg: Degrees::ZERO,
        reversed: false,
    }
}

/// Every servo plays a sequence, behind a linkage or straight.
fn rig(count: u16, steps: u16, linked: bool) -> Rig {
    // Twice as many, of which the first half is in the sequence.
    let mut rig = rigs::of(count * 2, steps);
    let kept = usize::from(count);
    rig.servos.truncate(kept);
    rig.joints.truncate(kept);
    rig.boards.retain(|board| rig.servos.iter().any(|servo| servo.board == board.name));
    (rig.inputs, rig.mappings) = (Vec::new(), Vec::new());
    for servo in &mut rig.servos {
        servo.linkage = linked.then_some(bars());
    }
    rig
}

/// See the module.
pub fn measure() -> Vec<Row> {
    vec![look(), beat(), compiled()]
}

fn look() -> Row {
    let plan = Plan::of(&rig(1, 1, true));
    let Some(bent) = plan.servos.first().and_then(|s| s.scale.as_ref()?.bent()) else {
        return Row::new("a look at a linkage's table", "not measured".to_owned());
    };
    let mut best = f64::MAX;
    for _ in 0..ROUNDS / 4 {
        let start = Instant::now();
        let mut sum = 0.0;
        for n in 0..LOOKS {
            // All over its stretch, in no order that a processor could learn.
            let angle = f64::from(n.wrapping_mul(2_654_435_761) % 1000) / 20.0 - 25.0;
            sum += bent.pulse_at(Degrees::new(black_box(angle))).get();
        }
        black_box(sum);
        best = best.min(start.elapsed().as_secs_f64() * 1e9 / f64::from(LOOKS));
    }
    Row::new("a look at a linkage's table", format!("{best:.0} ns")).wanted("≤ 50 ns", best <= 50.0)
}

fn beat() -> Row {
    let [mut bent, mut straight] = [true, false].map(|linked| Show::new(&rig(SERVOS, 3600, linked)));
    let (mut own, mut beside) = (f64::MAX, f64::MAX);
    // The two by turns, so that a busy moment of the machine meets both.
    for _ in 0..ROUNDS {
        own = own.min(bent.beats());
        beside = beside.min(straight.beats());
    }
    Row::new("a servo's beat behind a linkage", format!("{own:.0} ns"))
        .beside(format!("{beside:.0} ns, a straight servo in the same sequence"))
        .ratio(own / beside)
        .wanted("≤ 2 ×", own <= 2.0 * beside)
}

fn compiled() -> Row {
    let took = |linked: bool| {
        let rig = rig(24, 3600, linked);
        let start = Instant::now();
        let plan = Plan::of(&rig);
        let shorts: usize = plan.programs.iter().map(|program| program.shorts().len()).sum();
        black_box(shorts);
        start.elapsed().as_secs_f64()
    };
    let (own, beside) = (took(true), took(false));
    Row::new("24 linkages in 3600 steps, compiled and judged", format!("{own:.2} s"))
        .beside(format!("{beside:.2} s, straight servos"))
        .ratio(own / beside)
}

struct Show {
    stage: Stage,
    now: Duration,
    servos: usize,
}

impl Show {
    fn new(rig: &Rig) -> Self {
        let (stage, now) = rigs::playing(rig, BEAT);
        Self { stage, now, servos: rig.servos.len() }
    }

    /// Some beats; ns a servo.
    fn beats(&mut self) -> f64 {
        let start = Instant::now();
        for _ in 0..BEATS {
            self.now += BEAT;
            black_box(self.stage.advance(black_box(self.now), Inflow::default(), &[]));
        }
        start.elapsed().as_secs_f64() * 1e9 / f64::from(BEATS) / number(self.servos)
    }
}
