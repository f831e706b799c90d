//! The small rig, and a stage that runs it beat by beat.

use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::stage::{Command, Plan, Prepared, Reading};
use wasvolta_core::unit::Micros;

pub const BEAT: Duration = Duration::from_millis(20);
pub const US: fn(f64) -> Micros = Micros::new;

pub fn rig() -> Rig {
    match load(include_str!("../data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

pub struct Run {
    pub stage: Stage,
    pub now: Duration,
}

impl Run {
    pub fn new(rig: &Rig) -> Self {
        Self { stage: Stage::new(Prepared::new(Plan::of(rig)), BEAT), now: Duration::ZERO }
    }

    pub fn beat(&mut self, commands: &[Command]) {
        self.read(&[], commands);
    }

    pub fn read(&mut self, readings: &[Reading], commands: &[Command]) {
        self.now += BEAT;
        self.stage.advance(self.now, readings, commands);
    }

    pub fn pulse(&self, servo: usize) -> f64 {
        self.stage.servos()[servo].pulse.get()
    }
}
