//! The small rig, and a stage that runs it beat by beat.

use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::stage::{Placed, Plan, Prepared, Reading};
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

    pub fn beat(&mut self, commands: &[Placed]) {
        self.read(&[], commands);
    }

    pub fn read(&mut self, readings: &[Reading], commands: &[Placed]) {
        self.now += BEAT;
        // Tests speak of parts by their places; what is not there is asked for in vain.
        let plan = self.stage.plan();
        let commands: Vec<_> = commands.iter().filter_map(|command| command.named(plan)).collect();
        self.stage.advance(self.now, readings, &commands);
    }

    pub fn pulse(&self, servo: usize) -> f64 {
        self.stage.servos()[servo].pulse.get()
    }
}
