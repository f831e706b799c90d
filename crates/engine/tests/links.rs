//! Links at work: what faults make of their health, that they come and go while the rest runs, and that nothing leaves
//! its limits whatever comes.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod tell;

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tell::{Tell, run};
use wasvolta_core::link::Health;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Ends, Input, Link, Port, PortKind, Protocol, Rig};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::Position;
use wasvolta_engine::{BoardPort, Engine, Opener, Setup, Snapshot, Way, ways};
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::sender::radio::{Radio, Speech};
use wasvolta_sim::sender::{Mood, Sender, Speaker};
use wasvolta_sim::truth::{Dice, KnobTruth, RadioTruth};
use wasvolta_sim::{Bench, ManualClock, Truth};

const BEAT: Duration = Duration::from_millis(20);

fn speaker(protocol: Protocol) -> Box<dyn Speaker> {
    let radio = |speech| Box::new(Radio::new(RadioTruth::of("line", speech))) as Box<dyn Speaker>;
    match protocol {
        Protocol::Ibus => radio(Speech::Ibus),
        Protocol::Sbus => radio(Speech::Sbus),
        Protocol::Crsf => radio(Speech::Crsf),
        _ => Box::new(Fields::new(vec![KnobTruth::of("line", "ch1"), KnobTruth::of("line", "ch2")])),
    }
}

/// The small heron, its beak driven by the first channel of a protocol.
fn rig(protocol: Protocol) -> Rig {
    let text = include_str!("../../core/tests/data/small.rig.toml")
        .replace("on = \"knob-line\"\n", &format!("on = \"knob-line\"\nprotocol = \"{}\"\n", protocol.word()))
        .replace("channel = \"knob\"", "channel = \"ch1\"")
        .replace("path = \"sim:knob\"\nbaud = 115200", "path = \"line\"");
    let text = if protocol == Protocol::Lines {
        text
    } else {
        text.replace("ends = [0, 1023]", "ends = [1000, 2000]")
    };
    match load(&text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// An engine whose time passes by hand, with a sender on a line.
struct Run {
    clock: Arc<ManualClock>,
    engine: Engine,
    sender: Sender,
    carry: Duration,
    _folder: tempfile::TempDir,
}

/// Opens lines by their paths within a folder.
fn within(folder: &Path) -> Opener {
    let folder = folder.to_owned();
    Box::new(move |setup| {
        let mut setup = setup.clone();
        if setup.port.kind == PortKind::Serial {
            setup.port.path = folder.join(&setup.port.path).display().to_string();
        }
        ways::opener(&setup)
    })
}

impl Run {
    fn new(protocol: Protocol) -> Self {
        Self::of(rig(protocol), speaker(protocol))
    }

    fn of(rig: Rig, speaker: Box<dyn Speaker>) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        bench.ensure("bench-bus", 0x40, &[1, 2]);
        let open = Box::new(move || Ok(Box::new(bench.bus("bench-bus")) as Box<_>));
        let setup = Setup {
            boards: vec![BoardPort { name: "bench-bus".into(), way: Way::Bus(open) }],
            opener: within(folder.path()),
            clock: clock.clone(),
            beat: BEAT,
            record: None,
        };
        let sender = Sender::plug_in(speaker, 1, &folder.path().join("line")).unwrap();
        let engine = Engine::by_hand(&Arc::new(rig), setup).unwrap();
        Self { clock, engine, sender, carry: Duration::ZERO, _folder: folder }
    }

    /// One beat, with the frames that come in it.
    fn beat(&mut self) {
        self.clock.advance(BEAT);
        self.carry += BEAT;
        let every = if self.sender.controls().len() > 3 { Duration::from_millis(7) } else { BEAT };
        while self.carry >= every {
            self.carry -= every;
            self.sender.say();
        }
        self.engine.pass();
    }

    fn beats(&mut self, count: u32) {
        (0..count).for_each(|_| self.beat());
    }

    /// The stick goes to and fro, for so many beats.
    fn moves(&mut self, count: u32) {
        for n in 0..count {
            self.sender.turn("ch1", if (n / 10).is_multiple_of(2) { 0.04 } else { -0.04 });
            self.beat();
        }
    }

    fn health(&mut self) -> Health {
        self.engine.snapshot().links[0].health
    }

    fn drive(&mut self) {
        self.engine.tell(Command::Engage { servo: 1, pulse: Position::new(1200.0), stands_there: true });
        self.beats(3);
        self.engine.tell(Command::GiveBack { servo: 1 });
        self.beats(20);
    }

    /// Whether every servo is inside its endpoints and its limits.
    fn is_inside(&mut self) -> bool {
        let plan = Arc::clone(&self.engine.compiled().plan);
        let snapshot = self.engine.snapshot();
        snapshot.servos.iter().zip(&plan.servos).filter(|(state, _)| state.engaged).all(|(state, plan)| {
            let (low, high) = plan.guard.free();
            state.pulse >= low && state.pulse <= high
        })
    }
}

/// A fault, and what it does to a sender in each beat.
type Fault = (&'static str, fn(&mut Run, u32));

const FAULTS: &[Fault] = &[
    ("none", |run, n| run.moves_one(n)),
    ("drop half", |run, n| {
        run.sender.set_mood(if n % 2 == 0 { Mood::Silent } else { Mood::Well });
        run.moves_one(n);
    }),
    ("flip a bit", |run, n| {
        run.moves_one(n);
        run.sender.send(&[0x80 >> (n % 8)]);
    }),
    ("delay 0.4 s", |run, n| {
        run.sender.set_mood(if n % 21 == 20 { Mood::Well } else { Mood::Silent });
        run.moves_one(n);
    }),
    ("rubbish", |run, _| run.sender.set_mood(Mood::Rubbish)),
    ("rubbish between", |run, n| {
        run.moves_one(n);
        run.sender.send(&n.wrapping_mul(2_654_435_761).to_le_bytes());
    }),
    ("silence", |run, _| run.sender.set_mood(Mood::Silent)),
    ("flood", |run, n| {
        run.moves_one(n);
        run.sender.send(&[0xAA; 3000]);
    }),
    ("frozen", |run, _| run.sender.set_mood(Mood::Frozen)),
    ("transmitter off", |run, _| run.sender.set_mood(Mood::Off)),
    ("plug pulled", |run, n| {
        if n == 0 {
            run.sender.unplug();
        }
    }),
];

impl Run {
    fn moves_one(&mut self, n: u32) {
        self.sender.turn("ch1", if (n / 10).is_multiple_of(2) { 0.04 } else { -0.04 });
    }
}

/// What became of a link under a fault: each change of its health with the time since the fault began, how it stood in
/// the end, and after how long it was well again once the fault was gone.
fn trial(protocol: Protocol, (_, fault): &Fault) -> String {
    let mut run = Run::new(protocol);
    run.beats(10);
    run.drive();
    run.moves(150);
    assert_eq!(run.health(), Health::Fresh, "{protocol:?} before");
    let mut words = String::new();
    let mut before = Health::Fresh;
    let mut changes = 0;
    for n in 0..400u32 {
        fault(&mut run, n);
        run.beat();
        assert!(run.is_inside(), "{protocol:?} at beat {n}");
        let health = run.health();
        if health != before {
            changes += 1;
            let seconds = f64::from(n + 1) * 0.02;
            // A busy machine may carry what was sent a beat later: tenths of a second are the same all the same.
            match health {
                _ if changes > 3 => {}
                Health::Late => write!(words, "late, ").unwrap(),
                Health::Fresh => write!(words, "fresh, ").unwrap(),
                _ => write!(words, "{} {seconds:.1} s, ", health.word()).unwrap(),
            }
            before = health;
        }
    }
    if changes > 3 {
        write!(words, "and so on, ").unwrap();
    }
    write!(words, "ends {}", before.word()).unwrap();
    run.sender.set_mood(Mood::Well);
    if !run.sender.is_plugged() {
        run.sender.replug().unwrap();
    }
    let mut well = None;
    for n in 0..200u32 {
        run.moves_one(n);
        run.beat();
        assert!(run.is_inside());
        if run.health() == Health::Fresh && well.is_none() {
            well = Some(f64::from(n + 1) * 0.02);
        }
    }
    assert_eq!(run.health(), Health::Fresh, "{protocol:?}: well again");
    let well = well.unwrap();
    assert!(well <= 0.3, "{protocol:?}: {well} s");
    write!(words, "; fresh again within 0.3 s").unwrap();
    words
}

#[test]
fn the_grid_of_protocols_and_faults() {
    let protocols = [Protocol::Lines, Protocol::Ibus, Protocol::Sbus, Protocol::Crsf];
    let threads: Vec<_> = protocols
        .into_iter()
        .map(|protocol| {
            std::thread::spawn(move || {
                FAULTS.iter().map(|fault| (fault.0, trial(protocol, fault))).collect::<Vec<_>>()
            })
        })
        .collect();
    let mut grid = String::new();
    for (protocol, thread) in protocols.into_iter().zip(threads) {
        for (fault, words) in thread.join().unwrap() {
            writeln!(grid, "{:<6} {fault:<16} {words}", protocol.word()).unwrap();
        }
    }
    insta::assert_snapshot!("grid", grid);
}

#[test]
fn a_receiver_that_repeats_its_last_frame_is_stuck_in_time_and_as_soon_the_second_time() {
    for protocol in [Protocol::Ibus, Protocol::Sbus, Protocol::Crsf] {
        let mut run = Run::new(protocol);
        for round in 0..2 {
            run.sender.set_mood(Mood::Well);
            // Noise at rest, and short stretches in which nothing changes.
            run.moves(200);
            run.sender.set_mood(Mood::Frozen);
            run.beats(15);
            run.sender.set_mood(Mood::Well);
            run.moves(50);
            assert_eq!(run.health(), Health::Fresh, "{protocol:?} {round}");
            run.sender.set_mood(Mood::Frozen);
            let mut beats = 0;
            while run.health() != Health::Stuck {
                run.beat();
                beats += 1;
                assert!(beats < 300, "{protocol:?} {round}");
            }
            assert!((200..=225).contains(&beats), "{protocol:?} {round}: {} s", f64::from(beats) * 0.02);
        }
    }
}

#[test]
fn a_stick_held_still_with_its_noise_is_not_stuck_and_neither_is_a_quiet_channel_beside_a_live_one() {
    let mut run = Run::new(Protocol::Ibus);
    run.moves(200);
    run.beats(1500);
    assert_eq!(run.health(), Health::Fresh, "thirty seconds of its usual noise");
    // Only the fourteenth stick is touched now; the one that drives the beak says the very same again and again.
    run.sender.set_noise(0.0);
    for n in 0..1500u32 {
        run.sender.turn("ch14", if (n / 10).is_multiple_of(2) { 0.04 } else { -0.04 });
        run.beat();
    }
    assert_eq!(run.health(), Health::Fresh, "health is the link's");
}

#[test]
fn ports_links_and_inputs_come_move_and_go_while_the_rest_runs() {
    let mut run_ = Run::new(Protocol::Ibus);
    run_.drive();
    run_.moves(100);
    let good = |run: &mut Run| run.engine.snapshot().reports[0].counts.good;
    let first = good(&mut run_);
    let base = run_.engine.compiled().rig.as_ref().clone();
    // A second link with an input on a port of its own.
    let mut more = base.clone();
    more.ports.push(Port::new("idle", PortKind::Wave, ""));
    more.links.push(Link::new("swell", "idle", None));
    more.inputs.push(Input::new("breath", "swell", "wave", Ends { low: 0.0, high: 1.0 }));
    more.number_parts();
    run(&mut run_.engine, more);
    run_.moves(50);
    let second = good(&mut run_);
    assert!(second - first >= 140, "no frame of the radio was lost: {first} {second}");
    let snapshot = run_.engine.snapshot().clone();
    assert_eq!((snapshot.links[1].health, snapshot.links[0].health), (Health::Fresh, Health::Fresh));
    assert!(snapshot.inputs[1].raw.is_some());
    // The first is re-pointed at a line that is not there: it is lost, and the other goes on.
    let compiled = Arc::clone(run_.engine.compiled());
    let mut moved = compiled.rig.as_ref().clone();
    moved.ports.iter_mut().find(|port| port.name == "knob-line").unwrap().path = "nowhere".to_owned();
    run(&mut run_.engine, moved.clone());
    run_.moves(5);
    assert_eq!(run_.health(), Health::Lost);
    assert!(run_.engine.link_trouble(0).is_some_and(|shut| shut.words.contains("there is no such device")));
    assert_eq!(run_.engine.snapshot().links[1].health, Health::Fresh);
    // And back: nothing jumps.
    run(&mut run_.engine, compiled.rig.as_ref().clone());
    let pulse = |run: &mut Run| run.engine.snapshot().servos[1].pulse.get();
    let mut last = pulse(&mut run_);
    for _ in 0..100 {
        run_.moves(1);
        let now = pulse(&mut run_);
        assert!((now - last).abs() < 120.0, "{last} {now}");
        last = now;
    }
    assert_eq!((run_.health(), run_.engine.link_trouble(0)), (Health::Fresh, None));
    // All of it goes; the line is free for another program then.
    let mut without = base.clone();
    (without.links, without.inputs, without.mappings) = (Vec::new(), Vec::new(), Vec::new());
    without.ports.retain(|port| port.name != "knob-line");
    run(&mut run_.engine, without);
    run_.beats(3);
    assert!(run_.engine.snapshot().links.is_empty());
    until(|| wasvolta_port::serial::Serial::open(run_.sender.path(), 115_200).is_ok());
}

/// Waits for what another thread does.
fn until(done: impl Fn() -> bool) {
    for _ in 0..2000 {
        if done() {
            return;
        }
        std::thread::park_timeout(Duration::from_millis(5));
    }
    panic!("it never came");
}

#[test]
fn any_number_of_ways_is_waited_for() {
    const WAYS: usize = 70;
    let mut rig = rig(Protocol::Lines);
    for n in 0..WAYS {
        let name = format!("idle-{n}");
        rig.ports.push(Port::new(&name, PortKind::Udp, &format!("{}", 23_100 + n)));
        rig.links.push(Link::new(&name, &name, Some(Protocol::Lines)));
    }
    rig.number_parts();
    let mut run = Run::of(rig, speaker(Protocol::Lines));
    run.beats(20);
    let open = |snapshot: &Snapshot| snapshot.reports.iter().filter(|report| report.open).count();
    assert_eq!(open(run.engine.snapshot()), WAYS + 1);
    let sender = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    for n in 0..WAYS {
        sender.send_to(b"ch1=7", ("127.0.0.1", u16::try_from(23_100 + n).unwrap())).unwrap();
    }
    run.beats(5);
    let heard = run.engine.snapshot().reports.iter().skip(1).filter(|report| report.counts.good == 1).count();
    assert_eq!(heard, WAYS);
}

#[test]
fn escape_sequences_from_outside_name_no_channel() {
    let mut run = Run::new(Protocol::Lines);
    run.beats(10);
    for name in ["\u{1b}[31mred", "\u{202e}evil", "bell\u{7}", "fine"] {
        run.sender.send(format!("{name}=3\n").as_bytes());
    }
    run.beats(3);
    let names: BTreeMap<String, PathBuf> = run.engine.snapshot().reports[0]
        .channels
        .iter()
        .map(|channel| (Protocol::Lines.name(&channel.channel), PathBuf::new()))
        .collect();
    assert!(
        names.contains_key("fine")
            && names.keys().all(|name| !name.contains(['\u{1b}', '\u{202e}', '\u{7}']))
    );
}

#[test]
fn a_stage_whose_links_fail_at_random_keeps_every_limit_and_every_speed() {
    use wasvolta_core::Stage;
    use wasvolta_core::inflow::{Batch, Inflow};
    use wasvolta_core::link::{Heard, Way};
    use wasvolta_core::stage::{Plan, Prepared};
    const RUNS: u64 = 10_000;
    let rig = rig(Protocol::Ibus);
    let plan = Arc::new(Plan::of(&rig));
    let speed = plan.servos[1].pace.most * BEAT.as_secs_f64() + plan.servos[1].guard.step().get();
    let (low, high) = plan.servos[1].guard.free();
    let threads: Vec<_> = (0..2u64)
        .map(|half| {
            let plan = Arc::clone(&plan);
            std::thread::spawn(move || {
                for seed in (half..RUNS).step_by(2) {
                    let mut dice = Dice::new(seed);
                    let mut stage = Stage::new(Prepared::new(Arc::clone(&plan)), BEAT);
                    let mut now = Duration::ZERO;
                    let mut last: Option<f64> = None;
                    let mut raw = 1500.0;
                    for n in 0..150u32 {
                        // A late engine too.
                        now += BEAT * (1 + u32::from(dice.next().is_multiple_of(50)) * 7);
                        let roll = dice.next() % 100;
                        raw =
                            if roll < 3 { dice.between(-9e8, 9e8) } else { raw + dice.between(-80.0, 80.0) };
                        let heard = Heard {
                            frames: if roll < 60 { 1 + u32::try_from(dice.next() % 4).unwrap() } else { 0 },
                            changed: !dice.next().is_multiple_of(3),
                            failsafe: roll == 61,
                            way: match roll {
                                62 => Way::Gone,
                                63 => Way::Opened,
                                _ => Way::Same,
                            },
                        };
                        let batch = if heard.frames > 0 { Batch::of(raw) } else { Batch::default() };
                        let id = plan.servos[1].id;
                        let commands = match n {
                            0 => vec![Command::Engage {
                                servo: id,
                                pulse: Position::new(1300.0),
                                stands_there: true,
                            }],
                            2 => vec![Command::GiveBack { servo: id }],
                            _ => Vec::new(),
                        };
                        stage.advance(
                            now,
                            Inflow { links: &[heard], inputs: &[batch], measured: &[] },
                            &commands,
                        );
                        let state = &stage.servos()[1];
                        let pulse = state.pulse;
                        assert!(pulse >= low && pulse <= high, "run {seed}, beat {n}: {pulse:?}");
                        if let Some(last) = last {
                            // Time counts for two beats at most.
                            let moved = (pulse.get() - last).abs();
                            assert!(moved <= speed * 2.0, "run {seed}, beat {n}: {moved} µs");
                        }
                        last = state.engaged.then(|| pulse.get());
                    }
                    // All is well again.
                    for n in 0..10 {
                        now += BEAT;
                        let way = if n == 0 { Way::Opened } else { Way::Same };
                        let heard = Heard { frames: 1, changed: true, way, ..Heard::default() };
                        let batch = Batch::of(1500.0 + f64::from(n));
                        stage.advance(now, Inflow { links: &[heard], inputs: &[batch], measured: &[] }, &[]);
                    }
                    assert_eq!(stage.links()[0].health, Health::Fresh, "run {seed}");
                }
            })
        })
        .collect();
    for thread in threads {
        thread.join().unwrap();
    }
}
