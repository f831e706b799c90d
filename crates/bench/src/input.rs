//! From a byte on a line to a register on a bus, beside a loop that polls, reads and writes and does no more.

use crate::report::Row;
use crate::rigs;
use crate::share::Times;
use rustix::event::{PollFd, PollFlags, poll};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};
use wasvolta_core::rig::{Ends, Input, Link, Port, PortKind, Rated, Rig};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{DegreesPerSecond, Position, Seconds};
use wasvolta_engine::{BoardPort, Engine, Opener, Setup, Way, ways};
use wasvolta_port::serial::{Got, Serial};
use wasvolta_port::{BusError, I2cBus, Transfer, WallClock};
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::truth::KnobTruth;
use wasvolta_sim::{Bench, Sender, SimBus, Truth};

const SAMPLES: u32 = 400;
/// Longer than two frames: what comes then is the first change after a quiet one.
const QUIET: Duration = Duration::from_millis(45);
const PATIENCE: Duration = Duration::from_secs(2);
const FRAME: Duration = Duration::from_micros(19_989);

/// The chip that the bare loop writes to.
const BARE_CHIP: u8 = 0x41;

type Told = std::sync::mpsc::Sender<Instant>;

/// A simulated bus that tells when a pulse is written.
struct Telling {
    bus: SimBus,
    told: Told,
}

impl I2cBus for Telling {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        if matches!(transfer, Transfer::Write { register: 6..=69, .. }) {
            let _ = self.told.send(Instant::now());
        }
        self.bus.transfer(address, transfer)
    }
}

/// Links with ten inputs each that send 200 times a second while the way of one value is measured.
const BUSY: usize = 4;
const FIELDS: usize = 10;
const BUSY_EVERY: Duration = Duration::from_millis(5);

/// A knob on a pseudo-terminal that speaks when it is told to.
fn knob(folder: &std::path::Path, name: &str) -> Option<Sender> {
    let fields = Fields::new(vec![KnobTruth::of(name, "v0")]);
    Sender::plug_in(Box::new(fields), 1, &folder.join(name)).ok()
}

/// Microcontrollers that print ten numbers each, again and again until the end.
fn busy(folder: &std::path::Path) -> Option<Vec<Sender>> {
    let sender = |n: usize| {
        let name = format!("busy-{n}");
        let fields = (0..FIELDS).map(|k| KnobTruth::of(&name, &format!("b{k}"))).collect();
        Sender::plug_in(Box::new(Fields::new(fields)), 1, &folder.join(&name)).ok()
    };
    (0..BUSY).map(sender).collect()
}

/// One servo behind an input without smoothing, as fast as a rig may say.
fn rig() -> Rig {
    let mut rig = rigs::of(2, 10);
    rig.inputs[0].smoothing_ms = 0.0;
    (rig.inputs[0].rise_per_s, rig.inputs[0].fall_per_s) = (None, None);
    "v0".clone_into(&mut rig.inputs[0].channel);
    for n in 0..BUSY {
        let name = format!("busy-{n}");
        rig.ports.push(Port::new(&name, PortKind::Serial, &name));
        rig.links.push(Link::new(&name, &name, None));
        let ends = Ends { low: 0.0, high: 1023.0 };
        let inputs = (0..FIELDS).map(|k| Input::new(&format!("{name}-{k}"), &name, &format!("b{k}"), ends));
        rig.inputs.extend(inputs);
    }
    rig.number_parts();
    // As fast as the joint: what a slower one has left of the way hides what is measured.
    let rated = wasvolta_core::preset::ALL[0].rated.clone();
    rig.servos[1].rated = rated.map(|sheet| Rated { s_per_60_deg: Some(Seconds::new(0.006)), ..sheet });
    rig.joints[1].speed_deg_s = Some(DegreesPerSecond::new(10_000.0));
    rig
}

/// The first change after a quiet frame, again and again.
pub fn measure() -> Vec<Row> {
    run().unwrap_or_default()
}

fn run() -> Option<Vec<Row>> {
    let folder = tempfile::tempdir().ok()?;
    let (own, bare) = (knob(folder.path(), "own")?, knob(folder.path(), "bare")?);
    let clock = Arc::new(WallClock::default());
    let bench = Bench::new(&Truth::default(), 1, clock.clone());
    bench.ensure("bench", 0x40, &[0, 1]);
    // Its own chip: what another program writes to a chip is an interruption of whoever drives it.
    bench.ensure("bench", BARE_CHIP, &[0, 1]);
    let (told, writes) = channel();
    let busy = busy(folder.path())?;
    let engine = follow(&own, folder.path(), &bench, clock, told)?;
    let over = Arc::new(AtomicBool::new(false));
    let talk = {
        let over = Arc::clone(&over);
        std::thread::spawn(move || {
            while !over.load(Ordering::SeqCst) {
                for sender in &busy {
                    sender.say();
                }
                std::thread::sleep(BUSY_EVERY);
            }
        })
    };
    let bare_writes = bare_loop(&bare, &bench)?;
    let (mut own_times, mut bare_times, mut ages) = (Vec::new(), Vec::new(), Vec::new());
    let begin = Instant::now();
    for n in 0..SAMPLES {
        // At every place within a beat.
        std::thread::sleep(QUIET + Duration::from_micros(u64::from(n * 7919 % 20_000)));
        let value = if n % 2 == 0 { 200 } else { 800 };
        let asked = (Instant::now(), first(&own, &writes, value));
        own_times.extend(asked.1);
        bare_times.extend(first(&bare, &bare_writes, value));
        ages.extend(asked.1.map(|took| age_at_frame(asked.0.duration_since(begin), took)));
    }
    over.store(true, Ordering::SeqCst);
    let _ = talk.join();
    drop(engine);
    Some(rows(&Times::of(own_times), &Times::of(bare_times), &Times::of(ages)))
}

/// An engine whose one servo has caught up with a knob and follows it at once.
fn follow(
    knob: &Sender,
    folder: &std::path::Path,
    bench: &Bench,
    clock: Arc<WallClock>,
    told: Told,
) -> Option<Engine> {
    let bus = bench.clone();
    let open =
        Box::new(move || Ok(Box::new(Telling { bus: bus.bus("bench"), told: told.clone() }) as Box<_>));
    let rig = rig();
    let (own, folder) = (knob.path().display().to_string(), folder.to_owned());
    let opener: Opener = Box::new(move |setup| {
        let mut setup = setup.clone();
        let path = &mut setup.port.path;
        *path =
            if path.starts_with("busy") { folder.join(&*path).display().to_string() } else { own.clone() };
        ways::opener(&setup)
    });
    let setup = Setup {
        boards: vec![BoardPort { name: "bus-0".into(), way: Way::Bus(open) }],
        opener,
        clock,
        beat: Duration::from_millis(20),
        record: None,
    };
    let servo = rig.servos[1].id;
    let mut engine = Engine::start(&Arc::new(rig), setup).ok()?;
    for n in 0..30u32 {
        knob.send(format!("v0={}\n", 500 + n).as_bytes());
        std::thread::sleep(Duration::from_millis(20));
    }
    engine.command(Command::Engage { servo, pulse: Position::new(1500.0), stands_there: true });
    std::thread::sleep(Duration::from_millis(100));
    engine.command(Command::GiveBack { servo });
    // The new owner is met with a glide; what follows it at once is measured. The line must not fall silent.
    for _ in 0..60 {
        knob.send(b"v0=500\n");
        std::thread::sleep(Duration::from_millis(50));
    }
    Some(engine)
}

fn rows(own: &Times, bare: &Times, ages: &Times) -> Vec<Row> {
    let row = |name: &str, per_mille: usize| {
        Row::new(
            format!("byte to register, 40 more inputs at 200 Hz, {name} of {}", own.count()),
            format!("{:.0} µs", own.at(per_mille)),
        )
        .beside(format!("{:.0} µs, a loop that polls, reads and writes", bare.at(per_mille)))
        .ratio(own.at(per_mille) / bare.at(per_mille))
    };
    let (p99, bare_99) = (own.at(990), bare.at(990));
    vec![
        row("half", 500),
        row("99 %", 990).wanted("≤ 2 ms and ≤ 1.5 ×", p99 <= 2000.0 && p99 <= 1.5 * bare_99),
        Row::new("age of the value when its frame starts, half", format!("{:.1} ms", ages.at(500) / 1e3))
            .beside(format!("99 %: {:.1} ms; a frame is 20 ms", ages.at(990) / 1e3)),
    ]
}

/// Sends a value and waits for the first pulse written behind it.
fn first(knob: &Sender, writes: &Receiver<Instant>, value: u32) -> Option<Duration> {
    while writes.try_recv().is_ok() {}
    let sent = Instant::now();
    knob.send(format!("v0={value}\n").as_bytes());
    writes.recv_timeout(PATIENCE).ok().map(|at| at.saturating_duration_since(sent))
}

/// The chip takes up what was written when its next frame starts.
fn age_at_frame(at: Duration, took: Duration) -> Duration {
    let written = at + took;
    let into = Duration::from_nanos((written.as_nanos() % FRAME.as_nanos()).try_into().unwrap_or(0));
    took + FRAME.saturating_sub(into)
}

/// The least that could be done: wait for bytes, take the number, write a pulse.
fn bare_loop(knob: &Sender, bench: &Bench) -> Option<Receiver<Instant>> {
    let serial = Serial::open(knob.path(), 115_200).ok()?;
    let (told, writes) = channel();
    let mut bus = Telling { bus: bench.bus("bench"), told };
    std::thread::spawn(move || {
        let mut bytes = [0; 256];
        loop {
            let _ = poll(&mut [PollFd::new(&serial, PollFlags::IN)], None);
            let Got::Bytes(count) = serial.read(&mut bytes) else { return };
            let digits = bytes.iter().take(count).filter(|b| b.is_ascii_digit());
            let value =
                digits.skip(1).fold(0u16, |sum, b| sum.wrapping_mul(10).wrapping_add(u16::from(b - b'0')));
            let off = (200 + value / 5).to_le_bytes();
            if bus
                .transfer(BARE_CHIP, Transfer::Write { register: 6, bytes: &[0, 0, off[0], off[1]] })
                .is_err()
            {
                return;
            }
        }
    });
    Some(writes)
}
