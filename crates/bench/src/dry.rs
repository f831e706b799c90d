//! A dry run by the program itself: how many times faster than the clock.

use crate::report::Row;
use crate::{program, rigs};
use std::process::Command;
use wasvolta_core::rig::FORMAT;
use wasvolta_core::rig::file::Source;

/// Twenty-four servos, all in one sequence of ten minutes, fifty beats a second, no trace.
pub fn measure() -> Vec<Row> {
    run().into_iter().collect()
}

fn run() -> Option<Row> {
    let folder = tempfile::tempdir().ok()?;
    let path = folder.path().join("reeds.rig.toml");
    let mut rig = rigs::of(48, 600);
    rig.servos.truncate(24);
    rig.joints.truncate(24);
    rig.boards.truncate(2);
    rig.ports.truncate(1);
    rig.links.clear();
    rig.inputs.clear();
    rig.mappings.clear();
    let nothing = format!("format = {FORMAT}\nname = \"reeds\"\n");
    let text = Source::read(nothing).ok()?.with(&rig).ok()?;
    std::fs::write(&path, text.text()).ok()?;
    let mut best = 0.0f64;
    for _ in 0..5 {
        let output = Command::new(program()).arg("play").arg(&path).args(["wake", "--dry"]).output().ok()?;
        let words = String::from_utf8_lossy(&output.stdout).into_owned();
        // As "wake: 600.00 s in 0.0412 s, 0 short steps".
        let mut numbers = words.split_whitespace().filter_map(|w| w.parse::<f64>().ok());
        let (length, took) = (numbers.next()?, numbers.next()?);
        best = best.max(length / took);
    }
    let row = Row::new("dry run, 24 servos at 50 Hz, ten minutes", format!("{best:.0} × real time"));
    Some(row.wanted("≥ 10 000 ×", best >= 10_000.0))
}
