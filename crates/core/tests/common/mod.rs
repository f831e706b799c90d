//! The small rig, and a stage that runs it beat by beat.

use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::stage::{Placed, Plan, Prepared};
use wasvolta_core::unit::Position;

pub const BEAT: Duration = Duration::from_millis(20);
pub const US: fn(f64) -> Position = Position::new;

pub fn rig() -> Rig {
    match load(include_str!("../data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// What came over the small rig's only link, which has one channel.
#[derive(Debug, Clone, Copy, Default)]
pub struct Came {
    pub heard: Heard,
    pub batch: Batch,
}

#[allow(dead_code, reason = "not every test hears something")]
impl Came {
    pub fn value(value: f64) -> Self {
        Self { heard: Heard { frames: 1, changed: true, ..Heard::default() }, batch: Batch::of(value) }
    }

    pub fn gone() -> Self {
        Self { heard: Heard { way: Way::Gone, ..Heard::default() }, batch: Batch::default() }
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
        self.read(Came::default(), commands);
    }

    pub fn read(&mut self, came: Came, commands: &[Placed]) {
        self.now += BEAT;
        // Tests speak of parts by their places; what is not there is asked for in vain.
        let plan = self.stage.plan();
        let commands: Vec<_> = commands.iter().filter_map(|command| command.named(plan)).collect();
        self.stage.advance(
            self.now,
            Inflow { links: &[came.heard], inputs: &[came.batch], measured: &[] },
            &commands,
        );
    }

    pub fn pulse(&self, servo: usize) -> f64 {
        self.stage.servos()[servo].pulse.get()
    }
}
