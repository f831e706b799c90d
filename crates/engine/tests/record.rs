//! A recorded run gives the same setpoints again, and a recording that is no recording is refused in words.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod tell;

use std::io::{BufReader, Write};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tell::{Tell, at};
use wasvolta_core::rig::edit::{self, End, mappings};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Kind, Rig, Take, WaveShape};
use wasvolta_core::stage::{AsIf, Command, Owner, ServoState};
use wasvolta_core::unit::{Hertz, Position};
use wasvolta_engine::record::{BadRecording, FORMAT, Replayed, replay};
use wasvolta_engine::{BoardPort, Engine, Setup, Way, ways};
use wasvolta_port::Clock;
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::truth::KnobTruth;
use wasvolta_sim::{Bench, ManualClock, Sender, Truth};

/// A beat's time, and of each servo the ticks on the wire and the pulse before rounding, to its last bit.
type Lived = (Duration, Vec<(Option<u16>, u64)>);

fn of_servo(state: &ServoState) -> (Option<u16>, u64) {
    (state.ticks().filter(|_| state.engaged).map(|t| t.0), state.pulse.get().to_bits())
}

const BEAT: Duration = Duration::from_millis(20);

/// A rig as a recording has it may be of an older format: it is raised as a file is.
#[test]
fn a_recording_with_a_rig_of_an_older_format_runs() {
    let text = include_str!("../../core/tests/data/old/format-6.rig.toml");
    let old: serde_json::Value = toml_edit::de::from_str(text).unwrap();
    let run = |rig: &serde_json::Value| {
        let header = serde_json::json!({
            "wasvolta_recording": { "format": wasvolta_engine::record::FORMAT, "program": "0", "beat_ns": 20_000_000 }
        });
        let plan = serde_json::json!({ "plan": { "rig": rig, "servos": [0, 1, 2], "links": [], "inputs": [], "sequences": [] } });
        let turn = serde_json::json!({ "turn": { "t": 0, "s": [] } });
        let tape = format!("{header}\n{plan}\n{turn}\n");
        let mut kinds = Vec::new();
        let done = replay(tape.as_bytes(), |_, rig, _| kinds.extend(rig.servos.iter().map(|s| s.kind)));
        done.map(|done| (done.turns, kinds))
    };
    let kinds = vec![Kind::Continuous, Kind::Dimmer, Kind::OnOff];
    assert_eq!(run(&old).unwrap(), (1, kinds));
    let mut newer = old;
    newer["format"] = serde_json::json!(wasvolta_core::rig::FORMAT + 1);
    assert!(matches!(run(&newer), Err(BadRecording::Broken { line: 2, .. })));
}

#[derive(Clone, Default)]
struct Shared(Arc<Mutex<Vec<u8>>>);

impl Write for Shared {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap().extend_from_slice(bytes);
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn rig() -> Rig {
    match load(include_str!("../../core/tests/data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// A rig at work with a knob on a line, time by hand, and everything recorded.
struct Run {
    clock: Arc<ManualClock>,
    engine: Engine,
    rig: Arc<Rig>,
    knob: Sender,
    tape: Shared,
    /// What each beat gave, as the engine said while it ran.
    lived: Vec<Lived>,
}

impl Run {
    fn new(folder: &std::path::Path) -> Self {
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        bench.ensure("bench-bus", 0x40, &[1, 2]);
        let knob = Box::new(Fields::new(vec![KnobTruth::of("knob", "knob")]));
        let knob = Sender::plug_in(knob, 1, &folder.join("line-knob")).unwrap();
        let open = Box::new(move || Ok(Box::new(bench.bus("bench-bus")) as Box<_>));
        let tape = Shared::default();
        let setup = Setup {
            boards: vec![BoardPort { name: "bench-bus".into(), way: Way::Bus(open) }],
            opener: at(knob.path()),
            clock: clock.clone(),
            beat: BEAT,
            record: Some(Box::new(tape.clone())),
        };
        let rig = Arc::new(rig());
        let engine = Engine::by_hand(&rig, setup).unwrap();
        Self { clock, engine, rig, knob, tape, lived: Vec::new() }
    }

    fn beat(&mut self) {
        self.clock.advance(BEAT);
        self.knob.say();
        self.engine.pass();
        let snapshot = self.engine.snapshot();
        self.lived.push((self.clock.now(), snapshot.servos.iter().map(of_servo).collect()));
    }

    fn edit(&mut self, next: Rig) {
        self.rig = Arc::new(next.clone());
        tell::run(&mut self.engine, next);
    }

    /// What a maker does in beat `n`: hand, knob and sequence by turns, and an edit now and then.
    fn work(&mut self, n: u32) {
        let servo = usize::try_from(n / 7 % 2).unwrap();
        match n % 97 {
            3 => {
                self.engine.tell(Command::Engage {
                    servo,
                    pulse: Position::new(1500.25),
                    stands_there: true,
                });
            }
            11 | 13 | 17 => {
                self.engine.tell(Command::Jog {
                    servo,
                    by: Position::new(1.0 / 3.0),
                    repeat: n.is_multiple_of(2),
                });
            }
            31 => {
                self.engine.tell(Command::GiveBack { servo });
            }
            41 => {
                self.engine.tell(Command::Play { sequence: 0 });
            }
            // Something stands in for the knob for a while, and how the beak is taken is changed.
            53 => {
                let wave = AsIf::Wave { shape: WaveShape::Noise, period_s: 1.0 / 3.0 };
                self.engine.tell(Command::AsIf { input: 0, by: Some(wave) });
            }
            59 => {
                self.engine.tell(Command::AsIf { input: 0, by: Some(AsIf::Hand(f64::from(n % 30) / 30.0)) });
            }
            67 => {
                self.engine.tell(Command::AsIf { input: 0, by: None });
            }
            61 if n.is_multiple_of(2) => {
                let take = if n.is_multiple_of(4) { Take::PickUp } else { Take::Glide };
                let rig = mappings::change(&self.rig, "heron.beak", |own| own.take = take).unwrap();
                self.edit(rig);
            }
            71 if n.is_multiple_of(5) => {
                self.engine.tell(Command::Hold);
            }
            73 => {
                self.engine.tell(Command::Drive);
            }
            79 if n.is_multiple_of(11) => self.engine.stop().cut(),
            83 => {
                self.engine.tell(Command::GoTo { servo, pulse: Position::new(1234.5) });
            }
            89 if n.is_multiple_of(3) => {
                let pulse = Position::new(1000.0 + f64::from(n % 50));
                let rig = edit::set_endpoint(&self.rig, "heron.beak", End::Low, pulse).unwrap();
                self.edit(rig);
            }
            // A clock as measured makes endpoints and marks of many decimals.
            91 if n.is_multiple_of(7) => {
                let measured = Hertz::new(50.0 + f64::from(n % 31) / 29.0);
                let rig = edit::correct_clock(&self.rig, "upper", measured).unwrap();
                self.edit(rig);
            }
            _ => {}
        }
        self.knob.turn("knob", f64::from(n % 29) / 29.0 - 0.5);
    }
}

fn recorded(folder: &std::path::Path, beats: u32) -> (Vec<Lived>, Vec<u8>) {
    let mut run = Run::new(folder);
    for n in 0..beats {
        run.work(n);
        run.beat();
    }
    let Run { engine, lived, tape, .. } = run;
    assert!(!engine.is_recording_broken());
    drop(engine);
    let bytes = tape.0.lock().unwrap().clone();
    (lived, bytes)
}

/// One line a beat: what would be on the wire.
fn as_bytes(lived: &[Lived]) -> Vec<u8> {
    lived.iter().flat_map(|(_, ticks)| format!("{ticks:?}\n").into_bytes()).collect()
}

#[test]
fn ten_minutes_of_hand_knob_and_sequence_give_the_same_setpoints_byte_for_byte() {
    let folder = tempfile::tempdir().unwrap();
    let (lived, bytes) = recorded(folder.path(), 10 * 60 * 50);
    let mut again: Vec<Lived> = Vec::new();
    let mut owners = std::collections::BTreeSet::new();
    let replayed = replay(BufReader::new(&bytes[..]), |at, _, stage| {
        // A change of rig may take a turn of its own within a beat; the beat ends with the last.
        if again.last().is_some_and(|(before, _)| *before == at) {
            again.pop();
        }
        again.push((at, stage.servos().iter().map(of_servo).collect()));
        owners.extend(stage.servos().iter().map(|s| s.owner.word()));
    })
    .unwrap();
    assert!(replayed.length >= Duration::from_mins(10));
    assert_eq!(again.len(), lived.len(), "a turn for every beat");
    assert!(replayed.turns >= 30_000 && replayed.compared >= 60_000 && !replayed.incomplete);
    for owner in [Owner::Hand, Owner::Mapping, Owner::Sequence, Owner::Nobody] {
        assert!(owners.contains(owner.word()), "nothing was ever {owner:?}: {owners:?}");
    }
    assert!(as_bytes(&lived) == as_bytes(&again), "the run and its replay differ");
}

fn refused(bytes: &[u8]) -> BadRecording {
    replay(BufReader::new(bytes), |_, _, _| {}).unwrap_err()
}

#[test]
fn a_recording_of_another_version_or_none_is_refused_in_words() {
    let folder = tempfile::tempdir().unwrap();
    let (_, bytes) = recorded(folder.path(), 300);
    let text = String::from_utf8(bytes).unwrap();
    let newer = text.replacen(&format!("\"format\":{FORMAT}"), "\"format\":7", 1);
    let words = refused(newer.as_bytes()).to_string();
    assert!(words.starts_with("this recording has format 7 and was made by version "), "{words}");
    // An older one kept no links.
    let older = text.replacen(&format!("\"format\":{FORMAT}"), "\"format\":2", 1);
    let words = refused(older.as_bytes()).to_string();
    assert!(words.starts_with("this recording has format 2 and was made by version "), "{words}");
    for none in ["", "hello\n", "{}\n", "\u{0}\u{1}"] {
        assert!(matches!(refused(none.as_bytes()), BadRecording::NotOne), "{none:?}");
    }
    let lines: Vec<&str> = text.lines().collect();
    let mut broken = lines.clone();
    broken[9] = "{\"turn\":{\"t\":";
    let error = refused((broken.join("\n") + "\n").as_bytes());
    assert!(matches!(error, BadRecording::Broken { line: 10, .. }), "{error}");
    // A setpoint that was changed by hand is found.
    let at = lines.iter().position(|l| l.contains("\"s\":[[0,3")).unwrap();
    let mut other = lines.clone();
    let changed = other[at].replacen("\"s\":[[0,3", "\"s\":[[0,4", 1);
    other[at] = &changed;
    let error = refused((other.join("\n") + "\n").as_bytes());
    assert!(matches!(error, BadRecording::Differs { ref servo, .. } if servo == "heron.neck"), "{error}");
}

#[test]
fn a_run_that_was_killed_can_be_replayed_up_to_there() {
    let folder = tempfile::tempdir().unwrap();
    let (_, bytes) = recorded(folder.path(), 300);
    let whole = replay(BufReader::new(&bytes[..]), |_, _, _| {}).unwrap();
    assert!(!whole.incomplete);
    let half = bytes.len() / 2;
    let cut = bytes[..half].iter().rposition(|b| *b == b'\n').unwrap() + 6;
    let Replayed { turns, incomplete, .. } = replay(BufReader::new(&bytes[..cut]), |_, _, _| {}).unwrap();
    assert!(incomplete && turns > 50 && turns < whole.turns);
}

#[test]
fn a_disk_that_refuses_ends_the_recording_and_not_the_run() {
    struct Full(usize);
    impl Write for Full {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            self.0 = self.0.checked_sub(bytes.len()).ok_or(std::io::ErrorKind::StorageFull)?;
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let clock = Arc::new(ManualClock::default());
    let record: Option<Box<dyn Write + Send>> = Some(Box::new(Full(9000)));
    let setup =
        Setup { boards: vec![], opener: Box::new(ways::opener), clock: clock.clone(), beat: BEAT, record };
    let mut engine = Engine::by_hand(&Arc::new(rig()), setup).unwrap();
    for _ in 0..1000 {
        clock.advance(BEAT);
        engine.pass();
    }
    assert!(engine.is_recording_broken());
    assert_eq!(engine.snapshot().now, clock.now(), "it goes on");
}
