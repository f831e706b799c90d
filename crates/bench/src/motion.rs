//! Sequences: what it costs to lay them out in line, what they keep, and an hour of a show in virtual time.

use crate::report::Row;
use crate::{program, rigs};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::process::Command;
use std::time::Instant;
use wasvolta_core::rig::file::Source;
use wasvolta_core::rig::{AtEnd, FORMAT, Index, Layer, Loop, Parts, Pose, Rig, Sequence, Step, Times};
use wasvolta_core::sequence::Library;
use wasvolta_core::stage::Plan;
use wasvolta_core::unit::{Degrees, Seconds};

/// See the module.
pub fn measure() -> Vec<Row> {
    let mut rows = vec![
        laid_out("3600 steps of ten moving joints of 992", &rig(992, 3600, 10), "≤ 9 ms", 9e-3),
        laid_out("5000 steps of 24 joints that all move", &rig(24, 5000, 24), "≤ 30 ms", 30e-3),
    ];
    rows.extend(growth());
    rows.extend(hour());
    rows
}

/// A rig whose only sequence has so many steps; in each, so many joints move, one after the other in rig order.
fn rig(servos: u16, steps: u16, moving: u16) -> Rig {
    let mut rig = rigs::of(servos, 1);
    let joint = |n: u32| {
        let all = u32::from(servos);
        rig.joints[usize::try_from(n % all).unwrap_or(0)].name.clone()
    };
    let pose = |n: u16| {
        let first = u32::from(n) * u32::from(moving);
        // Never the same twice, so that all of them move.
        let angle = |m: u32| {
            Degrees::new(f64::from((first + m) / u32::from(servos) % 2) * 40.0 - 20.0 + f64::from(m))
        };
        let angles_deg: BTreeMap<String, Degrees> =
            (0..u32::from(moving)).map(|m| (joint(first + m), angle(m))).collect();
        Pose { name: format!("p{n}"), angles_deg, ..Pose::default() }
    };
    let poses: Vec<Pose> = (0..steps).map(pose).collect();
    rig.sequences[0].steps = (0..steps).map(|n| Step::to_pose(&format!("p{n}"), Seconds::new(1.0))).collect();
    rig.poses = poses;
    rig.number_parts();
    rig
}

/// The seconds to lay out the only sequence of a rig, its bytes and its stretches.
fn cost(rig: &Rig) -> (f64, usize, usize) {
    let index = Index::of(rig);
    let parts = Parts { rig, index: &index };
    let scales: Vec<_> = Plan::of_parts(parts).servos.into_iter().map(|servo| servo.scale).collect();
    let scales: Vec<_> = scales.iter().map(Option::as_ref).collect();
    let library = Library::of(parts, &scales);
    let mut best = f64::MAX;
    let mut room = (0, 0);
    for _ in 0..5 {
        let start = Instant::now();
        let program = black_box(library.compile(0));
        best = best.min(start.elapsed().as_secs_f64());
        room = program.map_or((0, 0), |program| program.room());
    }
    (best, room.0, room.1)
}

fn laid_out(what: &str, rig: &Rig, wanted: &'static str, most: f64) -> Row {
    let (took, bytes, stretches) = cost(rig);
    let count = wasvolta_core::unit::number(stretches);
    Row::new(format!("{what}, laid out"), format!("{:.1} ms", took * 1e3))
        .beside(format!(
            "{stretches} moves: {:.0} ns and {:.0} bytes each",
            took * 1e9 / count,
            wasvolta_core::unit::number(bytes) / count
        ))
        .wanted(wanted, took <= most && took * 1e9 / count <= 250.0 && bytes <= 80 * stretches)
}

/// Ten times the steps cost ten times as much.
fn growth() -> Vec<Row> {
    let of = |steps: u16| cost(&rig(992, steps, 10)).0 / f64::from(steps);
    let least = of(100);
    let row = |steps: u16| {
        let own = of(steps);
        Row::new(format!("{steps} steps of ten moving joints, a step"), format!("{:.2} µs", own * 1e6))
            .beside(format!("{:.2} µs for each of a hundred", least * 1e6))
            .ratio(own / least)
    };
    [10, 1000, 5000].map(row).into()
}

/// Twenty-four servos, two of them behind linkages, a loop, and a layer that breathes: an hour without a trace.
fn hour() -> Option<Row> {
    let folder = tempfile::tempdir().ok()?;
    let path = folder.path().join("reeds.rig.toml");
    let mut rig = rigs::of(48, 30);
    rig.servos.truncate(24);
    rig.joints.truncate(24);
    rig.boards.truncate(2);
    rig.ports.truncate(1);
    (rig.links, rig.inputs, rig.mappings) = (Vec::new(), Vec::new(), Vec::new());
    for servo in rig.servos.iter_mut().take(2) {
        servo.linkage = Some(crate::linkage::bars());
    }
    let narrow = |name: &str, angle: f64| {
        let linked = rig.joints.iter().take(2).map(|joint| (joint.name.clone(), Degrees::new(angle / 4.0)));
        let others = rig.joints.iter().skip(2).map(|joint| (joint.name.clone(), Degrees::new(angle)));
        Pose { name: name.to_owned(), angles_deg: linked.chain(others).collect(), ..Pose::default() }
    };
    let breath = |name: &str, angle: f64| {
        let joints = rig.joints.iter().skip(2).take(2);
        let angles_deg = joints.map(|joint| (joint.name.clone(), Degrees::new(angle))).collect();
        Pose { name: name.to_owned(), angles_deg, ..Pose::default() }
    };
    rig.poses = vec![narrow("low", -40.0), narrow("high", 40.0), breath("in", 2.0), breath("out", 0.0)];
    for joint in rig.joints.iter_mut().take(2) {
        (joint.low, joint.high, joint.home_deg) = (None, None, None);
    }
    let show = &mut rig.sequences[0];
    let last = show.steps.len() - 1;
    show.steps[0].label = Some("first".to_owned());
    show.steps[last].label = Some("last".to_owned());
    show.loops =
        vec![Loop { from: "first".into(), to: "last".into(), times: Some(Times::Count(120)), until: None }];
    let breathes = |pose: &str| Step::to_pose(pose, Seconds::new(1.7));
    rig.sequences.push(Sequence {
        name: "breathe".to_owned(),
        layer: Layer::Added,
        at_end: AtEnd::Again,
        steps: vec![breathes("in"), breathes("out")],
        ..Sequence::default()
    });
    let nothing = format!("format = {FORMAT}\nname = \"reeds\"\n");
    let text = Source::read(nothing).ok()?.with(&rig).ok()?;
    std::fs::write(&path, text.text()).ok()?;
    let mut best = f64::MAX;
    let mut length = 0.0;
    for _ in 0..5 {
        let output = Command::new(program())
            .arg("play")
            .arg(&path)
            .args(["wake", "breathe", "--dry"])
            .output()
            .ok()?;
        let words = String::from_utf8_lossy(&output.stdout).into_owned();
        let mut numbers = words.split_whitespace().filter_map(|w| w.parse::<f64>().ok());
        length = numbers.next()?;
        best = best.min(numbers.next()?);
    }
    let row = Row::new(
        format!("dry run of {length:.0} s: 24 servos, a loop, a layer, two linkages"),
        format!("{best:.3} s"),
    );
    Some(row.wanted("≤ 0.2 s", best <= 0.2 && length >= 3600.0))
}
