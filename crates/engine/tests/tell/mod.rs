//! Tests speak of parts by their places in the rig that was given to run last.

#![allow(dead_code, reason = "not every test runs another rig")]

use std::sync::Arc;
use wasvolta_core::rig::Rig;
use wasvolta_core::stage::Placed;
use wasvolta_engine::Engine;

pub trait Tell {
    /// Asks for something of parts by their places.
    fn tell(&mut self, command: Placed) -> bool;
}

/// Runs another rig from the next beat on.
pub fn run(engine: &mut Engine, rig: Rig) {
    let compiled = engine.compile(Arc::new(rig));
    assert!(engine.run(&compiled));
}

impl Tell for Engine {
    fn tell(&mut self, command: Placed) -> bool {
        let plan = Arc::clone(&self.compiled().plan);
        command.named(&plan).is_some_and(|command| self.command(command))
    }
}
