//! Tests speak of parts by their places in the rig that was given to run last.

#![allow(dead_code, reason = "not every test runs another rig")]

use std::path::Path;
use std::sync::Arc;
use wasvolta_core::rig::Rig;
use wasvolta_core::stage::Placed;
use wasvolta_engine::{Engine, Opener, ways};

pub trait Tell {
    /// Asks for something of parts by their places.
    fn tell(&mut self, command: Placed) -> bool;
}

/// Opens every way in as it is said, with its port at another path: that of a stand-in's line.
pub fn at(path: &Path) -> Opener {
    let path = path.display().to_string();
    Box::new(move |setup| {
        let mut setup = setup.clone();
        setup.port.path.clone_from(&path);
        ways::opener(&setup)
    })
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
