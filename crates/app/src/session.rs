//! A rig being worked on: the file, the edits with their undo, and the engine that runs it.

use crate::cli::Live;
use crate::files;
use crate::hardware::{self, Hardware, Simulated};
use crate::holder::{self, Hold};
use crate::last_known::LastKnown;
use miette::{IntoDiagnostic, WrapErr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;
use wasvolta_core::fit::{Fit, NoFit};
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::edit::{Edited, Refused};
use wasvolta_core::rig::file::Source;
use wasvolta_core::stage::Plan;
use wasvolta_engine::{Engine, Wiring};
use wasvolta_sim::{Knob, ManualClock};

const MOST_UNDO: usize = 500;

/// What follows from a rig, computed once an edit and not once a frame.
pub struct Derived {
    /// By servo.
    pub fits: Vec<Result<Fit, NoFit>>,
    /// What the engine runs.
    pub plan: Plan,
}

impl Derived {
    fn of(rig: &Rig) -> Self {
        Self { fits: rig.servos.iter().map(wasvolta_core::rig::Servo::fit).collect(), plan: Plan::of(rig) }
    }
}

/// One remembered state, with the words for what led away from it.
struct Past {
    rig: Arc<Rig>,
    what: String,
}

/// See the module.
pub struct Session {
    /// The rig as edited.
    pub rig: Arc<Rig>,
    /// What follows from it.
    pub derived: Derived,
    /// The engine.
    pub engine: Engine,
    /// Its wiring.
    pub wiring: Wiring,
    /// What is simulated.
    pub simulated: Option<Simulated>,
    /// The clock, where beats pass by hand.
    pub manual: Option<Arc<ManualClock>>,
    /// Where servos were left.
    pub last_known: LastKnown,
    path: PathBuf,
    source: Source,
    written: Option<SystemTime>,
    past: Vec<Past>,
    future: Vec<Past>,
    _holds: Vec<Hold>,
}

/// Why a rig was not saved. The edits stay.
#[derive(Debug, thiserror::Error)]
pub enum NotSaved {
    /// The disk says no.
    #[error("{0}; your edits stay here, free the disk or its permissions and save again")]
    Disk(#[from] files::Unwritten),
    /// Someone else wrote it.
    #[error("{0} was changed by another program since it was read; save again to overwrite it")]
    Changed(String),
    /// It has no form in TOML.
    #[error("{0}")]
    Form(#[from] wasvolta_core::rig::file::Unwritable),
}

impl Session {
    /// Opens a rig and starts its engine.
    ///
    /// # Errors
    /// When the rig cannot be used, or another program has it.
    pub fn open(path: &Path, live: &Live) -> miette::Result<Self> {
        let source = files::open(path)?;
        let rig = Arc::new(source.rig().clone());
        let mut holds: Vec<Hold> =
            holder::hold(&holder::file_name(path)).into_diagnostic()?.into_iter().collect();
        let hardware = hardware::resolve(&rig, path, live)?;
        let Hardware { setup, manual, simulated, holds: buses } = hardware;
        holds.extend(buses);
        let wiring = Wiring::of(&rig, &setup);
        let engine = if manual.is_some() { Engine::by_hand(&rig, setup) } else { Engine::start(&rig, setup) }
            .into_diagnostic()
            .wrap_err("cannot start the engine")?;
        Ok(Self {
            derived: Derived::of(&rig),
            rig,
            engine,
            wiring,
            simulated,
            manual,
            last_known: LastKnown::read(path),
            path: path.to_owned(),
            source,
            written: written(path),
            past: Vec::new(),
            future: Vec::new(),
            _holds: holds,
        })
    }

    /// Where the rig is kept.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether there are edits that the file does not have.
    pub fn is_unsaved(&self) -> bool {
        *self.rig != *self.source.rig()
    }

    /// Makes an edit; `what` is said at undo.
    ///
    /// # Errors
    /// When the edit is refused; nothing has changed then.
    pub fn edit(&mut self, what: &str, edit: impl FnOnce(&Rig) -> Edited) -> Result<(), Refused> {
        let next = Arc::new(edit(&self.rig)?);
        if self.past.len() == MOST_UNDO {
            self.past.remove(0);
        }
        self.past.push(Past { rig: Arc::clone(&self.rig), what: what.to_owned() });
        self.future.clear();
        self.adopt(next);
        Ok(())
    }

    /// Takes the last edit back; gives what it was.
    pub fn undo(&mut self) -> Option<String> {
        let past = self.past.pop()?;
        self.future.push(Past { rig: Arc::clone(&self.rig), what: past.what.clone() });
        self.adopt(past.rig);
        Some(past.what)
    }

    /// Makes the edit again that was taken back last; gives what it was.
    pub fn redo(&mut self) -> Option<String> {
        let next = self.future.pop()?;
        self.past.push(Past { rig: Arc::clone(&self.rig), what: next.what.clone() });
        self.adopt(next.rig);
        Some(next.what)
    }

    /// Whether there is something to undo, and something to redo.
    pub const fn can_undo_redo(&self) -> (bool, bool) {
        (!self.past.is_empty(), !self.future.is_empty())
    }

    fn adopt(&mut self, rig: Arc<Rig>) {
        self.rig = rig;
        self.derived = Derived::of(&self.rig);
        self.wiring = self.wiring.again(&self.rig);
        // The queue is drained every beat; it is full only when the engine has stopped, and then all ends.
        self.engine.run_rig(&self.rig, self.wiring.clone());
    }

    /// Writes the rig.
    ///
    /// # Errors
    /// When the disk refuses, or another program changed the file; a second try then overwrites it.
    pub fn save(&mut self) -> Result<(), NotSaved> {
        let now = written(&self.path);
        if now != self.written {
            self.written = now;
            return Err(NotSaved::Changed(self.path.display().to_string()));
        }
        let next = self.source.with(&self.rig)?;
        files::write(&self.path, next.text())?;
        self.source = next;
        self.written = written(&self.path);
        Ok(())
    }

    /// The simulated knob on a serial port.
    pub fn knob(&self, port: &str) -> Option<&Knob> {
        self.simulated.as_ref()?.knobs.iter().find(|(name, _)| name == port).map(|(_, knob)| knob)
    }

    /// Lets beats pass where time passes by hand; simulated knobs print as they would.
    pub fn pass_beats(&mut self, beats: u32) {
        let Some(clock) = self.manual.clone() else { return };
        for _ in 0..beats {
            clock.advance(hardware::BEAT);
            for (_, knob) in self.simulated.iter().flat_map(|s| &s.knobs) {
                knob.print();
            }
            self.engine.pass();
        }
    }

    /// The servos whose pulses stay on the wire when the program ends: engaged and told to stay stiff.
    pub fn staying(&mut self) -> Vec<String> {
        let states = &self.engine.snapshot().servos;
        let parts = self.rig.servos.iter().zip(&self.derived.plan.servos).zip(states);
        parts
            .filter(|((_, plan), state)| plan.stay_stiff && state.engaged)
            .map(|((servo, _), _)| format!("{} (channel {} of {})", servo.name, servo.channel, servo.board))
            .collect()
    }

    /// Notes where all servos are, for the next run.
    pub fn keep_last_known(&mut self) {
        let servos = self.engine.snapshot().servos.clone();
        for (servo, state) in self.rig.servos.iter().zip(servos) {
            if state.estimate.known != wasvolta_core::estimate::Known::Unknown {
                self.last_known.note(&servo.name, state.pulse);
            }
        }
        self.last_known.write(&self.path);
    }
}

fn written(path: &Path) -> Option<SystemTime> {
    std::fs::metadata(path).and_then(|m| m.modified()).ok()
}
