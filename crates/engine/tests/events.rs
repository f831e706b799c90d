//! Links that speak when something changes: what faults make of them, whatever carries them. Nothing jumps, nothing is
//! lost that was said, and what is pulled out is lost at once and back as soon.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod tell;

use std::fmt::Write as _;
use std::io::Write as _;
use std::net::UdpSocket;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tell::Tell;
use wasvolta_core::link::Health;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Pressed, Rig, Switch};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::Position;
use wasvolta_engine::{BoardPort, Engine, Opener, Setup, Way, ways};
use wasvolta_port::inlet::Shut;
use wasvolta_port::{Fault, gpio, pad};
use wasvolta_sim::sender::midi::Instrument;
use wasvolta_sim::truth::Dice;
use wasvolta_sim::{Bench, ManualClock, Sender, SimChip, SimPad, StandIn, Truth};
use wasvolta_wire::{midi, osc};

const BEAT: Duration = Duration::from_millis(20);
const ALL: [&str; 6] = ["midi", "device", "osc", "evdev", "gpio", "firmata"];

/// What is at the other end.
enum Far {
    Instrument(Sender),
    /// A MIDI device is a file that is read.
    Device(PathBuf, Option<std::fs::File>),
    Datagrams(UdpSocket, u16),
    Pad(SimPad),
    Chip(SimChip),
    Board(wasvolta_sim::FirmataBoard),
}

struct Run {
    clock: Arc<ManualClock>,
    engine: Engine,
    far: Far,
    last: f64,
    _folder: tempfile::TempDir,
}

/// The port, the link and the channel of one of them, with its ends.
fn said(kind: &str, path: &str) -> (String, &'static str, &'static str, &'static str) {
    let port = |kind: &str, path: &str| format!("name = \"way\"\nkind = \"{kind}\"\npath = \"{path}\"");
    match kind {
        "midi" => (port("serial", path), "on = \"way\"\nprotocol = \"midi\"", "1/cc7", "[0, 127]"),
        "device" => (port("midi", path), "on = \"way\"", "1/cc7", "[0, 127]"),
        "osc" => (port("udp", path), "on = \"way\"\nprotocol = \"osc\"", "/beak", "[0, 1]"),
        "evdev" => (port("evdev", "sim:pad"), "on = \"way\"", "abs-x", "[0, 255]"),
        "gpio" => (port("gpio", "sim:chip"), "on = \"way\"", "line BELL", "[0, 1]"),
        _ => (port("serial", "sim:desk"), "on = \"desk\"", "a0", "[0, 1023]"),
    }
}

fn rig(kind: &str, path: &str) -> Rig {
    let (port, link, channel, ends) = said(kind, path);
    let board = if kind == "firmata" {
        "[[board]]\nname = \"desk\"\nport = \"way\"\nchip = \"firmata\"\n"
    } else {
        ""
    };
    let text = include_str!("../../core/tests/data/small.rig.toml")
        .replace("name = \"knob-line\"\nkind = \"serial\"\npath = \"sim:knob\"\nbaud = 115200", &port)
        .replace("on = \"knob-line\"", link)
        .replace("channel = \"knob\"", &format!("channel = \"{channel}\""))
        .replace("ends = [0, 1023]", &format!("ends = {ends}"));
    let text = text.replacen("[[board]]", &format!("{board}[[board]]"), 1);
    match load(&text) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{kind}: {other:?}\n{text}"),
    }
}

fn far(kind: &str, folder: &std::path::Path, bench: &Bench) -> (Far, String) {
    let path = folder.join("way");
    let shown = path.display().to_string();
    match kind {
        "midi" => {
            (Far::Instrument(Sender::plug_in(Box::new(Instrument::default()), 1, &path).unwrap()), shown)
        }
        "device" => {
            let mut far = Far::Device(path, None);
            far.replug();
            (far, shown)
        }
        "osc" => {
            let free = UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
            (Far::Datagrams(UdpSocket::bind("127.0.0.1:0").unwrap(), free), free.to_string())
        }
        "evdev" => (Far::Pad(SimPad::new().unwrap()), String::new()),
        "gpio" => (Far::Chip(SimChip::new().unwrap()), String::new()),
        _ => (Far::Board(bench.firmata("desk")), String::new()),
    }
}

fn opener(far: &Far) -> Opener {
    let shut =
        |why: std::io::Error| Shut { words: why.to_string(), help: "plug it in".into(), fault: Fault::NoBus };
    match far {
        Far::Pad(pad) => {
            let pad = pad.clone();
            Box::new(move |_| {
                let pad = pad.clone();
                Box::new(move || pad.open().map(pad::inlet).map_err(shut))
            })
        }
        Far::Chip(chip) => {
            let chip = chip.clone();
            Box::new(move |setup| {
                let chip = chip.clone();
                let plan = gpio::Plan::of(setup.channels.iter().map(String::as_str));
                Box::new(move || {
                    chip.open(&plan.lines).map(|lines| gpio::inlet(lines, plan.clone())).map_err(shut)
                })
            })
        }
        _ => Box::new(ways::opener),
    }
}

impl Far {
    /// Lets the channel stand somewhere between its ends.
    fn stands(&mut self, at: f64) {
        let share = |most: f64| (at * most).round();
        #[expect(clippy::cast_possible_truncation, reason = "between the ends of a channel")]
        match self {
            Self::Instrument(sender) => {
                sender.turn("1/cc7", at - sender.position("1/cc7").unwrap());
                sender.say();
            }
            Self::Device(_, file) => {
                let code = midi::code(midi::CONTROLLER, 0, 7);
                file.as_mut().unwrap().write_all(&midi::emit(code, share(127.0) as i32)).unwrap();
            }
            Self::Datagrams(socket, port) => {
                let packet = osc::emit("/beak", &[at as f32]).unwrap();
                let _ = socket.send_to(&packet, ("127.0.0.1", *port));
            }
            Self::Pad(pad) => pad.set("abs-x", share(255.0) as i32),
            Self::Chip(chip) => chip.set("BELL", at > 0.5),
            Self::Board(board) => board.set_analog(0, at),
        }
    }

    /// Says what means nothing, where bytes are said.
    fn rubbish(&mut self, dice: &mut Dice) {
        #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a byte")]
        let bytes: Vec<u8> = (0..200).map(|_| dice.between(0.0, 256.0) as u8).collect();
        match self {
            Self::Instrument(sender) => {
                sender.send(&bytes);
            }
            Self::Device(_, file) => file.as_mut().unwrap().write_all(&bytes).unwrap(),
            Self::Datagrams(socket, port) => {
                let _ = socket.send_to(&bytes, ("127.0.0.1", *port));
            }
            Self::Pad(_) | Self::Chip(_) | Self::Board(_) => panic!("it says none"),
        }
    }

    fn unplug(&mut self) {
        match self {
            Self::Instrument(sender) => sender.unplug(),
            Self::Device(path, file) => {
                *file = None;
                std::fs::remove_file(path).unwrap();
            }
            Self::Datagrams(..) => panic!("it has no plug"),
            Self::Pad(pad) => pad.unplug(),
            Self::Chip(chip) => chip.unplug(),
            Self::Board(board) => StandIn::unplug(board),
        }
    }

    fn replug(&mut self) {
        match self {
            Self::Instrument(sender) => sender.replug().unwrap(),
            Self::Device(path, file) => {
                let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
                rustix::fs::mknodat(rustix::fs::CWD, &*path, rustix::fs::FileType::Fifo, mode, 0).unwrap();
                // Both ways, so that it opens before anybody reads.
                *file = Some(std::fs::File::options().read(true).write(true).open(path).unwrap());
            }
            Self::Datagrams(..) => panic!("it has no plug"),
            Self::Pad(pad) => pad.replug(),
            Self::Chip(chip) => chip.replug(),
            Self::Board(board) => StandIn::replug(board).unwrap(),
        }
    }
}

impl Run {
    fn new(kind: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        bench.ensure("bench-bus", 0x40, &[1, 2]);
        let (far, path) = far(kind, folder.path(), &bench);
        let desk = bench.clone();
        let open = Box::new(move || Ok(Box::new(bench.bus("bench-bus")) as Box<_>));
        let line = Box::new(move || Ok(Box::new(desk.firmata("desk").open()?) as Box<_>));
        let mut boards = vec![BoardPort { name: "bench-bus".into(), way: Way::Bus(open) }];
        if kind == "firmata" {
            boards.push(BoardPort { name: "way".into(), way: Way::Line(line) });
        }
        let setup = Setup { boards, opener: opener(&far), clock: clock.clone(), beat: BEAT, record: None };
        let engine = Engine::by_hand(&Arc::new(rig(kind, &path)), setup).unwrap();
        let mut run = Self { clock, engine, far, last: 1200.0, _folder: folder };
        // A board takes its time to start.
        run.beats(200);
        for at in [0.5, 0.0, 1.0] {
            run.far.stands(at);
            run.beats(3);
        }
        run.engine.tell(Command::Engage { servo: 1, pulse: Position::new(1200.0), stands_there: true });
        run.beats(3);
        run.engine.tell(Command::GiveBack { servo: 1 });
        run.beats(100);
        run
    }

    /// One beat, in which nothing jumps.
    fn beat(&mut self) {
        self.clock.advance(BEAT);
        self.engine.pass();
        let plan = Arc::clone(&self.engine.compiled().plan);
        let servo = &plan.servos[1];
        let state = &self.engine.snapshot().servos[1];
        let pulse = state.pulse.get();
        let most = servo.pace.most * BEAT.as_secs_f64() + servo.guard.step().get() + 1e-6;
        if state.engaged {
            assert!((pulse - self.last).abs() <= most, "{} {pulse}", self.last);
            let (low, high) = servo.guard.free();
            assert!(state.pulse >= low && state.pulse <= high, "{pulse}");
        }
        self.last = pulse;
    }

    fn beats(&mut self, count: u32) {
        (0..count).for_each(|_| self.beat());
    }

    fn health(&mut self) -> Health {
        self.engine.snapshot().links[0].health
    }

    /// Where the input stands between its ends.
    fn heard(&mut self) -> f64 {
        let ends = self.engine.compiled().rig.inputs[0].ends;
        self.engine.snapshot().inputs[0].raw.map_or(f64::NAN, |raw| (raw - ends.low) / (ends.high - ends.low))
    }
}

/// A fault, and what it does in each beat.
type Trouble = (&'static str, fn(&mut Run, u32, &mut Dice));

const FAULTS: &[Trouble] = &[
    ("none", |run, n, _| run.far.stands(f64::from(n % 10 / 5))),
    ("silence", |_, _, _| {}),
    ("rubbish", |run, _, dice| run.far.rubbish(dice)),
    ("flood", |run, n, _| {
        for k in 0..300 {
            run.far.stands(f64::from((n + k) % 2));
        }
    }),
    ("pulled", |run, n, _| {
        if n == 0 {
            run.far.unplug();
        }
    }),
];

/// Datagrams have no plug; the kernel and a board say nothing that means nothing.
fn can_happen(kind: &str, fault: &str) -> bool {
    match fault {
        "rubbish" => ["midi", "device", "osc"].contains(&kind),
        "pulled" => kind != "osc",
        _ => true,
    }
}

fn trial(kind: &str, (name, fault): &Trouble) -> String {
    let mut run = Run::new(kind);
    assert_eq!(run.health(), Health::Fresh, "{kind} before");
    assert!((run.heard() - 1.0).abs() < 0.01, "{kind} {}", run.heard());
    let mut dice = Dice::new(7);
    let (mut words, mut before) = (String::new(), Health::Fresh);
    for n in 0..300u32 {
        fault(&mut run, n, &mut dice);
        run.beat();
        let health = run.health();
        if health != before {
            write!(words, "{} {:.1} s, ", health.word(), f64::from(n + 1) * 0.02).unwrap();
            before = health;
        }
    }
    write!(words, "ends {}", before.word()).unwrap();
    if *name == "pulled" {
        run.far.replug();
    }
    // Well again, and what is said now is what is heard.
    for n in 0..250u32 {
        if n % 10 == 0 {
            run.far.stands(if n % 20 == 0 { 0.0 } else { 1.0 });
        }
        run.beat();
    }
    assert_eq!(run.health(), Health::Fresh, "{kind} {name}: well again");
    run.far.stands(0.0);
    run.beats(5);
    assert!(run.heard().abs() < 0.01, "{kind} {name} {}", run.heard());
    words
}

#[test]
fn the_grid_of_ways_that_speak_of_changes_and_faults() {
    let threads: Vec<std::thread::JoinHandle<Vec<_>>> = ALL
        .into_iter()
        .map(|kind| {
            let can = move |fault: &&Trouble| can_happen(kind, fault.0);
            let trials =
                move || FAULTS.iter().filter(can).map(|fault| (fault.0, trial(kind, fault))).collect();
            std::thread::spawn(trials)
        })
        .collect();
    let mut grid = String::new();
    for (kind, thread) in ALL.into_iter().zip(threads) {
        for (fault, words) in thread.join().unwrap() {
            writeln!(grid, "{kind:<8} {fault:<8} {words}").unwrap();
        }
    }
    insta::assert_snapshot!("events", grid);
}

#[test]
fn a_press_that_begins_and_ends_between_two_beats_is_pressed_for_a_while() {
    let mut run = Run::new("gpio");
    let mut rig = run.engine.compiled().rig.as_ref().clone();
    rig.inputs[0].switch = Some(Switch::between(rig.inputs[0].ends, Pressed::High));
    tell::run(&mut run.engine, rig);
    run.far.stands(0.0);
    run.beats(20);
    let presses = |run: &mut Run| run.engine.snapshot().inputs[0].switch.changes;
    let before = presses(&mut run);
    run.far.stands(1.0);
    run.far.stands(0.0);
    run.beat();
    let shaped = run.engine.snapshot().inputs[0].stages.shaped();
    assert!((shaped - 1.0).abs() < 1e-12, "{shaped}");
    run.beats(5);
    assert_eq!(
        (presses(&mut run), run.engine.snapshot().inputs[0].stages.shaped() > 0.0),
        (before + 1, false)
    );
}
