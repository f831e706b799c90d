//! What an edit costs: checking a rig, looking up its parts, compiling it; small and large.

use crate::report::Row;
use crate::rigs;
use std::hint::black_box;
use std::time::Instant;
use wasvolta_core::easing::Easing;
use wasvolta_core::rig::check::problems;
use wasvolta_core::rig::{Index, Parts, Pose, Rig, Step};
use wasvolta_core::stage::Plan;
use wasvolta_core::unit::{Degrees, Seconds};

/// A rig whose one sequence goes through `poses` poses, each of all its servos.
fn rig(servos: u16, poses: u16) -> Rig {
    let mut rig = rigs::of(servos, 1);
    let pose = |n: u16| {
        let angle = Degrees::new(f64::from(n % 40));
        let angles_deg = rig.joints.iter().map(|joint| (joint.name.clone(), angle)).collect();
        Pose { name: format!("p{n}"), angles_deg, ..Pose::default() }
    };
    let step =
        |n: u16| Step { easing: Easing::MinimumJerk, ..Step::to_pose(&format!("p{n}"), Seconds::new(1.0)) };
    rig.poses = (0..poses).map(pose).collect();
    rig.sequences[0].steps = (0..poses).map(step).collect();
    rig.number_parts();
    rig
}

/// Seconds of the best of a few runs.
fn best<R>(work: impl Fn() -> R) -> f64 {
    let took = || {
        let start = Instant::now();
        black_box(work());
        start.elapsed().as_secs_f64()
    };
    (0..3).map(|_| took()).fold(f64::MAX, f64::min)
}

/// See the module.
pub fn measure() -> Vec<Row> {
    let costs = |servos: u16, poses: u16| {
        let rig = rig(servos, poses);
        let check = best(|| problems(&rig));
        let index = best(|| Index::of(&rig));
        let known = Index::of(&rig);
        let plan = best(|| Plan::of_parts(Parts { rig: &rig, index: &known }));
        (f64::from(servos) * f64::from(poses), [check, index, plan])
    };
    let (little, few) = costs(100, 100);
    let (much, many) = costs(992, 1000);
    let names = ["checked", "its parts looked up", "compiled"];
    let rows = names.into_iter().zip(many).zip(few).map(|((name, own), small)| {
        Row::new(format!("992 servos × 1000 poses, {name}"), format!("{:.0} ms", own * 1e3))
            .beside(format!(
                "{:.2} ms for 100 × 100; the ratio is the growth beside that of the work",
                small * 1e3
            ))
            .ratio((own / small) / (much / little))
    });
    let mut rows: Vec<Row> = rows.collect();
    rows.push(shorts());
    rows
}

/// What the Sequence view asks for in every drawing.
fn shorts() -> Row {
    let plan = Plan::of(&rig(256, 1000));
    let line = &plan.programs[0];
    let ask = || line.shorts().len();
    let start = Instant::now();
    black_box(ask());
    let first = start.elapsed().as_secs_f64();
    let next = best(ask);
    Row::new("short steps of 256 servos × 1000 steps, in every drawing", format!("{:.2} ms", next * 1e3))
        .beside(format!("{:.0} ms in the first after an edit", first * 1e3))
        .wanted("≤ 2 ms", next <= 2e-3)
}
