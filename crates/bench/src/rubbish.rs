//! Serial links on which nothing but rubbish comes, as fast as a line can bring it, beside the same links in silence.

use crate::report::Row;
use crate::rigs;
use crate::screen::resident;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wasvolta_core::rig::{Link, Port, PortKind, Protocol, Rig};
use wasvolta_engine::{BoardPort, Engine, Setup, Way, ways};
use wasvolta_port::WallClock;
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::truth::KnobTruth;
use wasvolta_sim::{Bench, Sender, Truth};

const SPOKEN: [Protocol; 4] = [Protocol::Lines, Protocol::Ibus, Protocol::Sbus, Protocol::Crsf];
/// What 420000 baud bring in five milliseconds, ten bits a byte.
const AT_ONCE: usize = 210;
const EVERY: Duration = Duration::from_millis(5);
const SILENCE: Duration = Duration::from_secs(10);
const RUBBISH: Duration = Duration::from_mins(1);
/// Until what is kept for each link has its room.
const SETTLED: Duration = Duration::from_secs(5);

/// A minute of it.
pub fn measure() -> Vec<Row> {
    run().unwrap_or_default()
}

fn rig(folder: &Path) -> Rig {
    let mut rig = rigs::of(16, 10);
    rig.links.clear();
    rig.inputs.clear();
    rig.mappings.clear();
    for protocol in SPOKEN {
        let name = protocol.word();
        rig.ports.push(Port::new(name, PortKind::Serial, &folder.join(name).display().to_string()));
        rig.links.push(Link::new(name, name, Some(protocol)));
    }
    rig.number_parts();
    rig
}

fn run() -> Option<Vec<Row>> {
    let folder = tempfile::tempdir().ok()?;
    let line = |protocol: &Protocol| {
        let name = protocol.word();
        Sender::plug_in(Box::new(Fields::new(vec![KnobTruth::of(name, "v")])), 1, &folder.path().join(name))
            .ok()
    };
    let lines: Vec<Sender> = SPOKEN.iter().map(line).collect::<Option<_>>()?;
    let clock = Arc::new(WallClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    let open = Box::new(move || Ok(Box::new(bench.bus("bench")) as Box<_>));
    let setup = Setup {
        boards: vec![BoardPort { name: "bus-0".into(), way: Way::Bus(open) }],
        opener: Box::new(ways::opener),
        clock,
        beat: Duration::from_millis(20),
        record: None,
    };
    let mut engine = Engine::start(&Arc::new(rig(folder.path())), setup).ok()?;
    std::thread::sleep(SETTLED);
    let silent = beats(&mut engine, SILENCE);
    let over = Arc::new(AtomicBool::new(false));
    let talk = {
        let over = Arc::clone(&over);
        std::thread::spawn(move || speak(&lines, &over))
    };
    std::thread::sleep(SETTLED);
    let begun = resident("self")?;
    let rubbish = beats(&mut engine, RUBBISH);
    let ended = resident("self")?;
    over.store(true, Ordering::SeqCst);
    let came = talk.join().ok()?;
    let skipped: u64 = engine.snapshot().reports.iter().map(|report| report.counts.skipped).sum();
    let share = |(late, all): (u64, u64)| {
        #[expect(clippy::cast_precision_loss, reason = "some thousands")]
        let share = late as f64 / all as f64;
        share
    };
    Some(vec![
        Row::new(
            "a minute of rubbish on four serial links, 42 kB/s each: beats late",
            format!("{} of {}", rubbish.0, rubbish.1),
        )
        .beside(format!("{} of {} in silence", silent.0, silent.1))
        .wanted("≤ 1 % more", share(rubbish) <= share(silent) + 0.01),
        Row::new("memory held after that minute", format!("{ended:.1} MB"))
            .beside(format!(
                "{begun:.1} MB five seconds into it; {:.1} MB came, {:.1} MB were skipped",
                mega(came),
                mega(skipped)
            ))
            .ratio(ended / begun)
            .wanted("≤ 1.02 ×", ended <= begun * 1.02),
    ])
}

#[expect(clippy::cast_precision_loss, reason = "some millions")]
fn mega(bytes: u64) -> f64 {
    bytes as f64 / 1e6
}

/// How many beats were late in a time, and how many there were.
fn beats(engine: &mut Engine, time: Duration) -> (u64, u64) {
    let at = |engine: &mut Engine| {
        let snapshot = engine.snapshot();
        (snapshot.punctual.late, snapshot.punctual.beats)
    };
    let before = at(engine);
    std::thread::sleep(time);
    let after = at(engine);
    (after.0 - before.0, after.1 - before.1)
}

/// Sends bytes that follow from nothing until the end; gives how many were taken.
fn speak(lines: &[Sender], over: &AtomicBool) -> u64 {
    let mut random = 0x9E37_79B9_7F4A_7C15u64;
    let mut sent = 0;
    while !over.load(Ordering::SeqCst) {
        for line in lines {
            let mut bytes = [0; AT_ONCE];
            for byte in &mut bytes {
                random ^= random << 13;
                random ^= random >> 7;
                random ^= random << 17;
                *byte = random.to_le_bytes()[4];
            }
            sent += line.send(&bytes) as u64;
        }
        std::thread::sleep(EVERY);
    }
    sent
}
