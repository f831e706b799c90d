//! A rig at work: its engine and hardware, the hold on its file, and where its servos were left.
//!
//! Whatever shows or plays a rig has one of these, and with it the same safety: one process a rig and a port, and an end
//! that stops every pulse and says what was read back.

use crate::edition::Edition;
use crate::ending::Ending;
use crate::files;
use crate::files::output::Outputs;
use crate::hardware::{self, Hardware, Simulated, Surroundings};
use crate::holder::{self, Hold};
use crate::keyboard::Keyboard;
use crate::last_known::LastKnown;
use crate::lookout::Lookout;
use miette::{IntoDiagnostic, WrapErr};
use std::collections::VecDeque;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use wasvolta_core::rig::{BoardId, Chip, Rig, Servo, ServoId};
use wasvolta_core::stage::Command;
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::unit::Ticks;
use wasvolta_engine::snapshot::BoardState;
use wasvolta_engine::{Engine, Snapshot, wiring};
use wasvolta_port::board::Wanted;
use wasvolta_port::{Fault, claim};
use wasvolta_sim::{ManualClock, StandIn};

/// See the module.
pub struct Runner {
    /// The rig that runs, with what follows from it.
    pub edition: Arc<Edition>,
    /// Those before it that a snapshot may still be of, oldest first.
    earlier: VecDeque<Arc<Edition>>,
    pub engine: Engine,
    /// What is simulated.
    pub simulated: Option<Simulated>,
    /// The faders that keys move.
    pub keyboard: Keyboard,
    /// The clock, where beats pass by hand.
    pub manual: Option<Arc<ManualClock>>,
    /// Where servos were left.
    pub last_known: LastKnown,
    /// What the machine has.
    pub lookout: Lookout,
    /// The rig's file, which no other program may work on meanwhile.
    hold: Option<Hold>,
    outputs: Outputs,
    /// When places were kept last.
    kept_at: Instant,
}

impl Runner {
    /// Starts the engine of a rig that is kept at a path.
    ///
    /// # Errors
    /// When another program has the rig or a device of it, or the simulation cannot be made.
    pub fn start(
        path: &Path,
        rig: &Arc<Rig>,
        around: &Surroundings,
        outputs: &Outputs,
    ) -> miette::Result<Self> {
        tracing::info!("opens {}: {} servos", path.display(), rig.servos.len());
        let hold = holder::hold(path).into_diagnostic()?;
        // Nobody else can be writing it now.
        files::tidy(path);
        let hardware = hardware::resolve(rig, path, around, outputs)?;
        let Hardware { setup, manual, simulated, keyboard } = hardware;
        let engine = if manual.is_some() { Engine::by_hand(rig, setup) } else { Engine::start(rig, setup) }
            .into_diagnostic()
            .wrap_err("cannot start the engine")?;
        Ok(Self {
            edition: Edition::of(engine.compiled()),
            earlier: VecDeque::new(),
            engine,
            simulated,
            keyboard,
            manual,
            last_known: LastKnown::read(path),
            lookout: Lookout::default(),
            hold,
            outputs: outputs.clone(),
            kept_at: Instant::now(),
        })
    }

    /// Only some boards of a rig, and nothing else that it could drive; all where none is named.
    ///
    /// # Errors
    /// When it has no such board.
    pub fn boards_only(rig: &Rig, boards: &[String]) -> miette::Result<Rig> {
        let mut rig = rig.clone();
        if let Some(missing) = boards.iter().find(|name| rig.board(name).is_none()) {
            let there: Vec<&str> = rig.boards.iter().map(|b| b.name.as_str()).collect();
            let help = format!("there is: {}", there.join(", "));
            return Err(miette::miette!(help = help, "no board is called {missing:?}"));
        }
        if !boards.is_empty() {
            rig.boards.retain(|board| boards.contains(&board.name));
        }
        let named = |port: &str| rig.boards.iter().any(|board| board.port == port);
        let ports: Vec<_> = rig.ports.iter().filter(|port| named(&port.name)).cloned().collect();
        rig.ports = ports;
        let on: Vec<_> = rig.servos.iter().filter(|s| rig.board(&s.board).is_some()).cloned().collect();
        rig.servos = on;
        (rig.joints, rig.links) = (Vec::new(), Vec::new());
        (rig.inputs, rig.mappings, rig.presses) = (Vec::new(), Vec::new(), Vec::new());
        (rig.poses, rig.sequences) = (Vec::new(), Vec::new());
        Ok(rig)
    }

    /// Runs another rig from the next beat on: an edit of the one that runs.
    pub fn adopt(&mut self, rig: &Arc<Rig>) {
        self.open_ports(rig);
        let compiled = self.engine.compile(Arc::clone(rig));
        let before = std::mem::replace(&mut self.edition, Edition::of(&compiled));
        self.earlier.push_back(before);
        if let Some(simulated) = &self.simulated {
            simulated.plug_in(rig);
        }
        // The queue is drained every beat; it is full only when the engine has stopped, and then all ends.
        self.engine.run(&compiled);
    }

    /// Holds the rig's file after it was written: what was written is another file. Whoever was quicker has it now, and
    /// both are told when they save.
    pub fn hold_anew(&mut self, path: &Path) {
        self.hold = holder::hold(path).ok().flatten();
    }

    /// What helps with a fault of a board.
    pub fn help(&self, board: &str, fault: Fault) -> String {
        self.lookout.help(&self.edition.rig, board, fault)
    }

    /// The edition that a snapshot is about: while an edit is on its way to the stage, one before the newest.
    pub fn edition_of(&self, snapshot: &Snapshot) -> &Arc<Edition> {
        let there = |edition: &&Arc<Edition>| edition.version == snapshot.version;
        self.earlier.iter().find(there).unwrap_or(&self.edition)
    }

    /// Forgets the editions that no later snapshot will be about.
    pub fn forget_before(&mut self, snapshot: &Snapshot) {
        while self.earlier.front().is_some_and(|edition| edition.version < snapshot.version) {
            self.earlier.pop_front();
        }
    }

    /// Opens ports with boards that were not there before. One that cannot be had yet is tried again by its worker.
    fn open_ports(&mut self, rig: &Rig) {
        for port in wiring::board_ports(rig) {
            if self.engine.has_port(&port.name) {
                continue;
            }
            if let Err(error) = self.engine.add_port(hardware::board_port(rig, port, self.simulated.as_ref()))
            {
                tracing::error!("no thread for the port {}: {error}", port.name);
                return;
            }
        }
    }

    /// A name for a port that a board of a kind brings with it: one that no port has had in this run, for a name
    /// stands for its path as long as the engine runs.
    ///
    /// # Errors
    /// In words, when something else has that path.
    pub fn name_for_port(&self, chip: Chip, path: &str) -> Result<String, String> {
        // A bus may be shared, board by board; a line or a chip is one program's.
        let whole = !chip.port().row().is_shared;
        if let Some(holder) = claim::who(Path::new(path), None).filter(|_| whole) {
            return Err(format!("{path} is in use: {holder} has it; close that first"));
        }
        let word = chip.port().row().name;
        let taken = |name: &String| self.engine.has_port(name) || self.edition.rig.port(name).is_some();
        let numbered = (2..).map(|n| format!("{word}-{n}"));
        Ok(std::iter::once(word.to_owned()).chain(numbered).find(|name| !taken(name)).unwrap_or_default())
    }

    /// What stands in for what a link hears.
    pub fn sender(&self, link: &str) -> Option<Box<dyn StandIn>> {
        let rig = &self.edition.rig;
        let (port, board) = rig.place_of(rig.link(link)?)?;
        self.simulated.as_ref()?.stand_in(port.simulated()?, board.is_some())
    }

    /// Lets beats pass where time passes by hand; simulated senders send as they would.
    pub fn pass_beats(&mut self, beats: u32) {
        let Some(clock) = self.manual.clone() else { return };
        for _ in 0..beats {
            clock.advance(hardware::BEAT);
            if let Some(simulated) = &self.simulated {
                simulated.senders.pass(hardware::BEAT);
            }
            self.engine.pass();
        }
    }

    /// What engages every servo on a channel of a board that pulses already, at that very pulse.
    pub fn kept(&self, board: BoardId, ticks: &Wanted) -> Vec<Command> {
        let Some(board) = self.edition.board(board) else { return Vec::new() };
        let here = |(servo, plan): (&Servo, &ServoPlan)| {
            let ticks = Ticks(ticks.get(usize::from(servo.plug()))?);
            let pulse = plan.guard.pulse(ticks);
            Some(Command::Engage { servo: servo.id, pulse, stands_there: true })
        };
        let parts = self.edition.rig.servos.iter().zip(&self.edition.plan.servos);
        parts.filter(|(servo, _)| servo.board == board.name).filter_map(here).collect()
    }

    /// The channels of a servo's board that could drive it, by what the board has said.
    pub fn able(&self, snapshot: &Snapshot, servo: ServoId) -> Option<String> {
        let edition = self.edition_of(snapshot);
        let servo = edition.servo(servo)?;
        let board = edition.parts().board(&servo.board)?;
        edition.board_state(snapshot, board.id)?.able(wiring::role(servo.kind))
    }

    /// The servos whose pulses stay on the wire when the program ends: engaged and told to stay stiff.
    pub fn staying(&mut self) -> Vec<String> {
        let snapshot = self.engine.snapshot().clone();
        let edition = self.edition_of(&snapshot);
        let parts = edition.rig.servos.iter().zip(&edition.plan.servos).zip(&snapshot.servos);
        parts
            .filter(|((_, plan), state)| plan.stay_stiff && state.engaged)
            .map(|((servo, _), _)| {
                format!("{} ({})", servo.name, edition.rig.plug_words(&servo.board, servo.plug()))
            })
            .collect()
    }

    /// Ends: stops every pulse that is not to stay, and says what was read back of it.
    pub fn finish(mut self) -> Ending {
        self.keep_last_known();
        let staying = self.staying();
        let snapshot = self.engine.snapshot().clone();
        let unheard = |state: &BoardState| state.evidence.is_none() && state.starts == 0;
        let boards = self.edition.boards(&snapshot);
        let unheard =
            boards.filter(|(_, state)| unheard(state)).map(|(board, _)| board.name.clone()).collect();
        if self.engine.is_recording_broken() {
            self.outputs.trouble(
                "the recording is not whole: this machine could not write it fast enough".to_owned(),
            );
        }
        let ended = self.engine.finish();
        Ending::of(&self.edition.rig, &ended, staying, unheard)
    }

    /// Keeps where all servos are as that changes, at most once a second and on a thread of its own: what is killed has
    /// left it there.
    pub fn keep_places(&mut self) {
        if self.kept_at.elapsed() < KEEP_EVERY {
            return;
        }
        self.kept_at = Instant::now();
        if self.note_places() {
            self.last_known.keep();
        }
    }

    /// Notes where all servos are, for the next run.
    pub fn keep_last_known(&mut self) {
        self.note_places();
        self.last_known.write();
    }

    /// Whether any place is another than was noted.
    fn note_places(&mut self) -> bool {
        let snapshot = self.engine.snapshot().clone();
        let edition = Arc::clone(self.edition_of(&snapshot));
        let mut changed = false;
        for (servo, state) in edition.rig.servos.iter().zip(&snapshot.servos) {
            // Without pulses a lamp is dark and a motor stands: nothing of theirs is left for the next run.
            let stands = servo.kind.has_angles();
            if stands && state.estimate.known != wasvolta_core::estimate::Known::Unknown {
                changed |= self.last_known.note(&servo.name, state.pulse, state.engaged);
            } else if stands && state.lost_place {
                // It was released under load, or its supply fell: nobody knows any more.
                self.last_known.forget(&servo.name);
            }
        }
        changed
    }
}

/// Places are written down at most this often.
const KEEP_EVERY: Duration = Duration::from_millis(500);
