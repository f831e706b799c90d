//! Worked examples and laws of what inputs move: shares, courses, goals, when they hold, how they are met, and what
//! becomes of them when a link is lost.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]
#![allow(clippy::float_cmp, reason = "ends are reached to the last bit")]

mod goals;
mod laws;
mod owners;
mod refused;

use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Does, Rig, SequenceId, WaveShape};
use wasvolta_core::stage::{
    AsIf, Command, EventKind, Output, Owner, Placed, Plan, Play, Prepared, Stand, Told,
};
use wasvolta_core::unit::{Degrees, Position};

const BEAT: Duration = Duration::from_millis(20);
const US: fn(f64) -> Position = Position::new;

/// Six inputs on two links, and a servo of each kind; mappings and presses are each test's own.
const PARTS: &str = include_str!("../data/mappings.rig.toml");

const NECK: usize = 0;
const BEAK: usize = 1;
const WINCH: usize = 2;
const MOON: usize = 3;
const STICK: usize = 0;
const KNOB: usize = 1;
const PAD: usize = 2;
const PUSH: usize = 3;
const MODE: usize = 4;
const VANE: usize = 5;

fn rig(mappings: &str) -> Rig {
    match load(&format!("{PARTS}{mappings}")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// What is wrong with the parts and some mappings.
fn wrong(mappings: &str) -> String {
    match load(&format!("{PARTS}{mappings}")) {
        Loaded::Problems(found) => found[0].message.clone(),
        other => panic!("{other:?}"),
    }
}

struct Bench {
    stage: Stage,
    now: Duration,
    values: [f64; 6],
    /// Frames come over them.
    hand: bool,
    radio: bool,
}

impl Bench {
    /// Every servo engaged where it stands and given back, both links heard, all inputs in their middle.
    fn of(rig: &Rig) -> Self {
        let stage = Stage::new(Prepared::new(Plan::of(rig)), BEAT);
        let values = [0.0, 0.5, 0.0, 0.0, 0.0, 0.0];
        let mut bench = Self { stage, now: Duration::ZERO, values, hand: true, radio: true };
        bench.beats(5);
        for servo in 0..4 {
            let pulse = US([1500.0, 1500.0, 1480.0, 0.0][servo]);
            bench.beat(&[Command::Engage { servo, pulse, stands_there: true }]);
        }
        for servo in 0..4 {
            bench.beat(&[Command::GiveBack { servo }]);
        }
        bench
    }

    fn beat(&mut self, commands: &[Placed]) {
        self.now += BEAT;
        let heard = |comes| Heard { frames: u32::from(comes), changed: comes, ..Heard::default() };
        let comes = |n: usize| if n == PAD { self.radio } else { self.hand };
        let batch = |n: usize| if comes(n) { Batch::of(self.values[n]) } else { Batch::default() };
        let links = [heard(self.hand), heard(self.radio)];
        let inputs: [Batch; 6] = std::array::from_fn(batch);
        let plan = self.stage.plan();
        let commands: Vec<_> = commands.iter().filter_map(|command| command.named(plan)).collect();
        self.stage.advance(self.now, Inflow { links: &links, inputs: &inputs, measured: &[] }, &commands);
    }

    fn beats(&mut self, count: u32) {
        (0..count).for_each(|_| self.beat(&[]));
    }

    fn set(&mut self, input: usize, value: f64) -> &mut Self {
        self.values[input] = value;
        self
    }

    /// Beats until all stand.
    fn settle(&mut self) {
        self.beats(400);
    }

    fn pulse(&self, servo: usize) -> f64 {
        self.stage.servos()[servo].pulse.get()
    }

    fn angle(&self, servo: usize) -> f64 {
        let scale = self.stage.plan().servos[servo].scale.as_ref().unwrap();
        scale.angle_at(self.stage.servos()[servo].pulse).get()
    }

    fn owner(&self, servo: usize) -> Owner {
        self.stage.servos()[servo].owner
    }

    /// The pulse that an angle or level has.
    fn pulse_of(&self, servo: usize, angle: f64) -> f64 {
        self.stage.plan().servos[servo].scale.as_ref().unwrap().pulse_at(Degrees::new(angle)).get()
    }

    /// How far a servo goes in the next beat.
    fn step(&mut self, servo: usize) -> f64 {
        let before = self.pulse(servo);
        self.beat(&[]);
        self.pulse(servo) - before
    }
}
