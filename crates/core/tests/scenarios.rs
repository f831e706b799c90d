//! Whole-rig scenarios as data: what comes in, what is asked, and what must then be so.
//!
//! A scenario is a text file beside this one. Each line is a word with its values:
//! `rig NAME` (begins anew with another) · `beats N` · `knob RAW` (from now on, a frame a beat) · `silence` · `unplug` · `engage SERVO PULSE` ·
//! `release SERVO` · `jog SERVO US` · `goto SERVO PULSE` · `disarm SERVO` · `arm SERVO` · `give-back SERVO` · `play SEQUENCE` · `pause` · `seek SEQUENCE S` ·
//! `stop` · `hold` · `drive` · `cut` · `expect WHAT …`, where WHAT is `angle SERVO DEG`, `level SERVO PERCENT`, `arming SERVO yes`, `pulse SERVO US`, `ticks SERVO N`,
//! `owner SERVO WORD`, `released SERVO`, `output WORD`, `link WORD`, `play WORD`.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::path::Path;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Rig, SequenceId, ServoId};
use wasvolta_core::stage::{Command, Plan, Play, Prepared};
use wasvolta_core::unit::Position;

const BEAT: Duration = Duration::from_millis(20);

struct Scene {
    rig: Rig,
    stage: Stage,
    now: Duration,
    knob: Option<f64>,
    last: Option<f64>,
    unplugged: bool,
}

impl Scene {
    /// The rig of that name beside this file.
    fn of(name: &str) -> Self {
        let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
        let text = std::fs::read_to_string(data.join(format!("{name}.rig.toml"))).unwrap();
        let Loaded::Sound(rig) = load(&text) else { panic!("{name} is not sound") };
        let stage = Stage::new(Prepared::new(Plan::of(&rig)), BEAT);
        Self { rig: *rig, stage, now: Duration::ZERO, knob: None, last: None, unplugged: false }
    }

    fn servo(&self, name: &str) -> ServoId {
        self.rig.servo(name).unwrap_or_else(|| panic!("no servo {name}")).id
    }

    fn place(&self, name: &str) -> usize {
        self.stage.plan().servo_place(self.servo(name)).unwrap()
    }

    fn sequence(&self, name: &str) -> SequenceId {
        let found = self.rig.sequences.iter().find(|s| s.name == name);
        found.unwrap_or_else(|| panic!("no sequence {name}")).id
    }

    fn beat(&mut self, commands: &[Command]) {
        self.now += BEAT;
        let heard = Heard {
            frames: u32::from(self.knob.is_some()),
            changed: self.knob.map(f64::to_bits) != self.last.map(f64::to_bits),
            failsafe: false,
            way: if std::mem::take(&mut self.unplugged) { Way::Gone } else { Way::Same },
        };
        let batch = self.knob.map(Batch::of).unwrap_or_default();
        self.last = self.knob.or(self.last);
        self.stage.advance(self.now, Inflow { links: &[heard], inputs: &[batch], measured: &[] }, commands);
    }

    fn order(&self, words: &[&str]) -> Option<Command> {
        let number = |n: usize| words[n].parse::<f64>().unwrap();
        Some(match words[0] {
            "engage" => Command::Engage {
                servo: self.servo(words[1]),
                pulse: Position::new(number(2)),
                stands_there: true,
            },
            "release" => Command::Release { servo: self.servo(words[1]) },
            "jog" => {
                Command::Jog { servo: self.servo(words[1]), by: Position::new(number(2)), repeat: false }
            }
            "goto" => Command::GoTo { servo: self.servo(words[1]), pulse: Position::new(number(2)) },
            "arm" => Command::Arm { servo: self.servo(words[1]) },
            "disarm" => Command::Disarm { servo: self.servo(words[1]) },
            "give-back" => Command::GiveBack { servo: self.servo(words[1]) },
            "play" => Command::Play { sequence: self.sequence(words[1]) },
            "pause" => Command::Pause,
            "seek" => {
                Command::Seek { sequence: self.sequence(words[1]), at: Duration::from_secs_f64(number(2)) }
            }
            "stop" => Command::StopPlaying,
            "hold" => Command::Hold,
            "drive" => Command::Drive,
            "cut" => Command::Cut,
            _ => return None,
        })
    }

    /// What is, in the words of `expect`; and whether it is what was expected.
    fn expect(&self, words: &[&str]) -> (String, bool) {
        let state = || &self.stage.servos()[self.place(words[1])];
        let near = |is: f64, within: f64| {
            (format!("{is:.3}"), (is - words[2].parse::<f64>().unwrap()).abs() <= within)
        };
        let word = |is: String, wanted: &str| (is.clone(), is == wanted);
        match words[0] {
            "angle" | "level" => {
                let scale = self.stage.plan().servos[self.place(words[1])].scale.clone().unwrap();
                near(scale.angle_at(state().pulse).get(), 0.05)
            }
            "pulse" => near(state().pulse.get(), 0.01),
            "ticks" => near(f64::from(state().ticks().map_or(0, |t| t.0)), 0.0),
            "owner" => word(state().owner.word().to_owned(), words[2]),
            "arming" => word(if state().arming().is_some() { "yes" } else { "no" }.to_owned(), words[2]),
            "released" => (format!("{:?}", state().ticks()), state().ticks().is_none()),
            "output" => word(format!("{:?}", self.stage.output()).to_lowercase(), words[1]),
            "link" => word(self.stage.links()[0].health.word().to_owned(), words[1]),
            "play" => word(
                format!("{:?}", self.stage.players().last().map_or(Play::Stopped, |player| player.play))
                    .to_lowercase(),
                words[1],
            ),
            other => panic!("expect what? {other}"),
        }
    }

    fn line(&mut self, line: &str) -> Result<(), String> {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            [] => {}
            [first, ..] if first.starts_with('#') => {}
            ["beats", count] => (0..count.parse().unwrap()).for_each(|_: u32| self.beat(&[])),
            ["knob", raw] => self.knob = Some(raw.parse().unwrap()),
            ["rig", name] => *self = Self::of(name),
            ["silence"] => self.knob = None,
            ["unplug"] => (self.knob, self.unplugged) = (None, true),
            ["expect", what @ ..] => {
                let (is, holds) = self.expect(what);
                if !holds {
                    return Err(format!("expected {}, but it is {is}", what.join(" ")));
                }
            }
            other => {
                let command = self.order(other).ok_or(format!("what is {line:?}?"))?;
                self.beat(&[command]);
            }
        }
        Ok(())
    }
}

#[test]
fn every_scenario_holds_to_its_last_line() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/scenarios");
    let mut files: Vec<_> = std::fs::read_dir(folder).unwrap().map(|f| f.unwrap().path()).collect();
    files.sort();
    assert!(files.len() >= 5, "the scenarios are gone");
    for file in files {
        let mut scene = Scene::of("small");
        let text = std::fs::read_to_string(&file).unwrap();
        assert!(text.contains("expect"), "{} expects nothing", file.display());
        for (number, line) in (1..).zip(text.lines()) {
            if let Err(why) = scene.line(line) {
                panic!("{}:{number}: {why}", file.display());
            }
        }
    }
}
