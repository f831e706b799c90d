//! A rig being worked on: the file, the edits with their undo, and the engine that runs it.

use crate::cli::Live;
use crate::edition::Edition;
use crate::ending::Ending;
use crate::files;
use crate::files::output::{Outputs, Replace};
use crate::hardware::{self, Hardware, Simulated};
use crate::holder::{self, Hold};
use crate::last_known::LastKnown;
use crate::paper;
use crate::recovery::{self, Keeper, Left, Offer};
use crate::survey::{self, Outlook};
use miette::{IntoDiagnostic, WrapErr};
use std::collections::VecDeque;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant, SystemTime};
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::edit::{Edited, Refused};
use wasvolta_core::rig::file::Source;
use wasvolta_core::rig::{BoardId, Chip, Rig, Servo, ServoId};
use wasvolta_core::stage::Command;
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::unit::Ticks;
use wasvolta_engine::snapshot::BoardState;
use wasvolta_engine::{Engine, Snapshot, wiring};
use wasvolta_port::Fault;
use wasvolta_port::board::Wanted;
use wasvolta_port::claim;
use wasvolta_port::scan::{PwmChip, Roots, Scan};
use wasvolta_sim::{Knob, ManualClock};

const MOST_UNDO: usize = 500;

/// One remembered state, with the words for what led away from it.
struct Past {
    rig: Arc<Rig>,
    what: String,
}

/// See the module.
pub struct Session {
    /// The rig as edited.
    pub rig: Arc<Rig>,
    /// The same, with what follows from it.
    pub edition: Arc<Edition>,
    /// Those before it that a snapshot may still be of, oldest first.
    earlier: VecDeque<Arc<Edition>>,
    /// The engine.
    pub engine: Engine,
    /// What is simulated.
    pub simulated: Option<Simulated>,
    /// The clock, where beats pass by hand.
    pub manual: Option<Arc<ManualClock>>,
    /// Where servos were left.
    pub last_known: LastKnown,
    /// Where the machine lists its devices.
    pub roots: Roots,
    /// The kernel's PWM chips, as they were looked at last.
    pub chips: Vec<PwmChip>,
    path: PathBuf,
    source: Arc<Source>,
    /// The rig is another than the file says. Looked at once an edit: a whole rig is much to compare.
    edited: bool,
    written: Stamp,
    /// Another program has written the rig's file since it was read.
    changed_outside: bool,
    /// A save was refused for that: the next one overwrites.
    warned: bool,
    recovery: Option<Keeper>,
    /// Where the look that is being taken will arrive.
    looking: Option<Receiver<Scan>>,
    /// Where the answer of the serial port that is being asked will arrive.
    asking: Option<Receiver<String>>,
    past: Vec<Past>,
    future: Vec<Past>,
    /// The rig's file, which no other program may work on meanwhile.
    hold: Option<Hold>,
    /// What this run writes beside the rig.
    pub outputs: Outputs,
    /// When places were kept last.
    kept_at: Instant,
}

/// Why a rig was not saved. The edits stay.
#[derive(Debug, thiserror::Error)]
pub enum NotSaved {
    /// The disk says no.
    #[error("{0}; your edits stay here, free the disk or its permissions and save again")]
    Disk(#[from] files::Unwritten),
    /// Someone else wrote it.
    #[error(
        "{0} was changed by another program: save again to overwrite it, or read it again by the palette"
    )]
    Changed(String),
    /// It cannot be read again.
    #[error("{0}; the rig here stays as it is")]
    Unread(#[from] files::BadFile),
    /// It has no form in TOML.
    #[error("{0}")]
    Form(#[from] wasvolta_core::rig::file::Unwritable),
}

impl Session {
    /// Opens a rig and starts its engine.
    ///
    /// # Errors
    /// When the rig cannot be used, or another program has it.
    pub fn open(path: &Path, live: &Live, outputs: &Outputs) -> miette::Result<Self> {
        Self::start(path, live, files::open(path)?, outputs)
    }

    /// The same with some boards of the rig only, and nothing else that it could drive; with all where none is named.
    ///
    /// # Errors
    /// When the rig cannot be used, has no such board, or another program has a device of it.
    pub fn open_boards(
        path: &Path,
        live: &Live,
        boards: &[String],
        outputs: &Outputs,
    ) -> miette::Result<Self> {
        let source = files::open(path)?;
        let mut rig = source.rig().clone();
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
        (rig.joints, rig.inputs, rig.mappings) = (Vec::new(), Vec::new(), Vec::new());
        (rig.poses, rig.sequences) = (Vec::new(), Vec::new());
        Self::start(path, live, source.saying(rig), outputs)
    }

    fn start(path: &Path, live: &Live, source: Source, outputs: &Outputs) -> miette::Result<Self> {
        if path == Path::new("-") {
            return Err(miette::miette!("standard input has no file to work on: give the rig's path"));
        }
        let rig = Arc::new(source.rig().clone());
        outputs.reads(path);
        tracing::info!("opens {}: {} servos", path.display(), rig.servos.len());
        let hold = holder::hold(path).into_diagnostic()?;
        // Nobody else can be writing it now.
        files::tidy(path);
        let hardware = hardware::resolve(&rig, path, live, outputs)?;
        let Hardware { setup, manual, simulated } = hardware;
        let engine = if manual.is_some() { Engine::by_hand(&rig, setup) } else { Engine::start(&rig, setup) }
            .into_diagnostic()
            .wrap_err("cannot start the engine")?;
        Ok(Self {
            edition: Edition::of(engine.compiled()),
            earlier: VecDeque::new(),
            rig,
            engine,
            simulated,
            manual,
            last_known: LastKnown::read(path),
            chips: Roots::default().pwm_chips(),
            roots: Roots::default(),
            path: path.to_owned(),
            source: Arc::new(source),
            edited: false,
            written: stamp(path),
            changed_outside: false,
            warned: false,
            recovery: None,
            looking: None,
            asking: None,
            past: Vec::new(),
            future: Vec::new(),
            hold,
            outputs: outputs.clone(),
            kept_at: Instant::now(),
        })
    }

    /// Keeps edits in the state folder from now on, so that they outlive the program. Gives what an earlier
    /// run has left there.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn keep_edits(&mut self, state: &Path) -> std::io::Result<Left> {
        let left = recovery::look(state, &self.path, &self.source);
        self.recovery = Some(Keeper::start(state, &self.path, &self.outputs)?);
        Ok(left)
    }

    /// Takes the edits of an earlier run back, as one edit that can be undone.
    pub fn recover(&mut self, offer: Offer) {
        self.replace("taken back from the earlier run", offer.rig);
    }

    /// What is unsaved is not wanted: an end without saving.
    pub fn discard(&mut self) {
        if let Some(recovery) = &self.recovery {
            recovery.settled();
        }
    }

    /// Takes a look at what is there, on a thread of its own: buses may be slow.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn look_around(&mut self) -> std::io::Result<()> {
        let outlook = Outlook::of(&self.roots, Some(&self.rig), self.simulated.as_ref());
        let (found, arrives) = channel();
        self.looking = Some(arrives);
        // Nobody may wait for it any more when it is over.
        std::thread::Builder::new().name("scan".to_owned()).spawn(move || found.send(outlook.take()))?;
        Ok(())
    }

    /// What a look has found, once it is over.
    pub fn found(&mut self) -> Option<Scan> {
        let found = self.looking.as_ref()?.try_recv().ok()?;
        self.looking = None;
        Some(found)
    }

    /// Asks a serial port what is on it, on a thread of its own: a board that was reset takes its time.
    ///
    /// # Errors
    /// In words, when the rig uses that port itself, or the system gives no thread.
    pub fn ask_port(&mut self, path: &str) -> Result<(), String> {
        if let Some(port) = self.rig.ports.iter().find(|port| port.path == path) {
            return Err(format!("{path} is {} of this rig: what is on it is shown already", port.name));
        }
        let (answer, arrives) = channel();
        let path = PathBuf::from(path);
        let ask = move || answer.send(survey::ask(&path));
        std::thread::Builder::new().name("ask".to_owned()).spawn(ask).map_err(|error| error.to_string())?;
        self.asking = Some(arrives);
        Ok(())
    }

    /// What the serial port that was asked has said, once.
    pub fn answer(&mut self) -> Option<String> {
        let answer = self.asking.as_ref()?.try_recv().ok()?;
        self.asking = None;
        Some(answer)
    }

    /// Whether a look is being taken.
    pub const fn is_looking(&self) -> bool {
        self.looking.is_some()
    }

    /// Writes what is known of a servo on a card beside the rig; gives its file's name. No card is overwritten.
    ///
    /// # Errors
    /// When there is no such servo, or the disk refuses.
    pub fn keep_card(&self, servo: &str) -> Result<String, String> {
        let part = self.rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
        let date = paper::today().to_string();
        let text = Card::of(&self.rig, part, &date).text().map_err(|error| error.to_string())?;
        let names = std::iter::once(format!("{servo}-{date}.servo.toml"))
            .chain((2..).map(|n| format!("{servo}-{date}-{n}.servo.toml")));
        let mut free = names.filter(|name| !self.path.with_file_name(name).exists());
        let name = free.next().unwrap_or_default();
        let path = self.path.with_file_name(&name);
        let path = self.outputs.write(&path, text.as_bytes(), Replace::AsTold);
        path.map(|path| path.display().to_string()).map_err(|error| error.to_string())
    }

    /// The cards beside the rig, by their files' names.
    pub fn cards(&self) -> Vec<String> {
        let folder = self.path.parent().map(std::fs::read_dir).and_then(Result::ok);
        let names =
            folder.into_iter().flatten().flatten().filter_map(|entry| entry.file_name().into_string().ok());
        let mut cards: Vec<String> = names.filter(|name| name.ends_with(".servo.toml")).collect();
        cards.sort_unstable();
        cards
    }

    /// What helps with a fault of a board.
    pub fn help(&self, board: &str, fault: Fault) -> String {
        let board = self.rig.board(board);
        board.map_or_else(
            || fault.help().to_owned(),
            |board| survey::help(&self.rig, board, fault, &self.chips),
        )
    }

    /// Looks at the kernel's PWM chips where one of its drivers has a board of the rig: only then is it of use. Not for
    /// every frame.
    pub fn look_at_chips(&mut self) {
        let mut boards = self.engine.snapshot().boards.iter().flatten();
        if boards.any(|board| board.trouble.is_some_and(|trouble| trouble.fault == Fault::Busy)) {
            self.chips = self.roots.pwm_chips();
        }
    }

    /// Where the rig is kept.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether the file is another than a save would write: for edits, or because it is of an older format.
    pub fn is_unsaved(&self) -> bool {
        self.edited || self.source.older_format().is_some()
    }

    /// Whether there are edits that the file does not have.
    pub const fn is_edited(&self) -> bool {
        self.edited
    }

    /// The format of the file, where it is an older one: it is raised by the next save.
    pub fn older_format(&self) -> Option<u32> {
        self.source.older_format()
    }

    /// Makes an edit; `what` is said at undo.
    ///
    /// # Errors
    /// When the edit is refused; nothing has changed then.
    pub fn edit(&mut self, what: &str, edit: impl FnOnce(&Rig) -> Edited) -> Result<(), Refused> {
        let next = Arc::new(edit(&self.rig)?);
        tracing::info!("edit: {what}");
        self.remember(what);
        self.adopt(next);
        Ok(())
    }

    /// Puts a rig from a file in the place of this one, as one edit.
    fn replace(&mut self, what: &str, rig: Rig) {
        let rig = Arc::new(rig.with_ids_of(&self.rig));
        self.remember(what);
        self.adopt(rig);
    }

    fn remember(&mut self, what: &str) {
        if self.past.len() == MOST_UNDO {
            self.past.remove(0);
        }
        self.past.push(Past { rig: Arc::clone(&self.rig), what: what.to_owned() });
        self.future.clear();
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
        self.edited = *self.rig != *self.source.rig();
        self.open_ports();
        let compiled = self.engine.compile(Arc::clone(&self.rig));
        let before = std::mem::replace(&mut self.edition, Edition::of(&compiled));
        self.earlier.push_back(before);
        if let Some(simulated) = &self.simulated {
            simulated.plug_in(&self.rig);
        }
        // The queue is drained every beat; it is full only when the engine has stopped, and then all ends.
        self.engine.run(&compiled);
        self.keep_copy();
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
    fn open_ports(&mut self) {
        let rig = Arc::clone(&self.rig);
        for port in wiring::board_ports(&rig) {
            if self.engine.has_port(&port.name) {
                continue;
            }
            if let Err(error) = self.engine.add_port(hardware::board_port(port, self.simulated.as_ref())) {
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
        let taken = |name: &String| self.engine.has_port(name) || self.rig.port(name).is_some();
        let numbered = (2..).map(|n| format!("{word}-{n}"));
        Ok(std::iter::once(word.to_owned()).chain(numbered).find(|name| !taken(name)).unwrap_or_default())
    }

    fn keep_copy(&self) {
        match &self.recovery {
            Some(recovery) if self.edited => recovery.edited(&self.rig, &self.source),
            Some(recovery) => recovery.settled(),
            None => {}
        }
    }

    /// Writes the rig.
    ///
    /// # Errors
    /// When the disk refuses, or another program changed the file; a second try then overwrites it.
    pub fn save(&mut self) -> Result<(), NotSaved> {
        if self.look_at_file() && !std::mem::replace(&mut self.warned, true) {
            return Err(NotSaved::Changed(self.path.display().to_string()));
        }
        let next = self.source.with(&self.rig)?;
        files::write(&self.path, next.text())?;
        // What was written is another file; whoever was quicker has it now, and both are told when they save.
        self.hold = holder::hold(&self.path).ok().flatten();
        self.source = Arc::new(next);
        self.edited = false;
        self.written = stamp(&self.path);
        self.changed_outside = false;
        self.keep_copy();
        Ok(())
    }

    /// Looks whether another program has written the rig's file. Cheap while it has not.
    pub fn look_at_file(&mut self) -> bool {
        let now = stamp(&self.path);
        if now != self.written {
            self.written = now;
            // What is no rig's file any more has changed as well.
            let text = files::input::text(&self.path, files::input::What::Rig);
            self.changed_outside = text.map_or(self.path.exists(), |text| text != self.source.disk());
            self.warned = false;
        }
        self.changed_outside
    }

    /// Whether that look has found a file that another program has written.
    pub const fn is_changed_outside(&self) -> bool {
        self.changed_outside
    }

    /// Reads the file again, as one edit; the rig as it was can be had back by undo.
    ///
    /// # Errors
    /// When it cannot be used; the rig here stays.
    pub fn read_again(&mut self) -> Result<(), NotSaved> {
        let source = files::open(&self.path)?;
        let rig = source.rig().clone().with_ids_of(&self.rig);
        self.source = Arc::new(source.saying(rig.clone()));
        self.written = stamp(&self.path);
        self.changed_outside = false;
        self.replace("read again from the file", rig);
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

    /// What engages every servo on a channel of a board that pulses already, at that very pulse.
    pub fn kept(&self, board: BoardId, ticks: &Wanted) -> Vec<Command> {
        let Some(board) = self.edition.board(board) else { return Vec::new() };
        let here = |(servo, plan): (&Servo, &ServoPlan)| {
            let ticks = Ticks((*ticks.get(usize::from(servo.channel))?)?);
            let pulse = plan.guard.clock.pulse(ticks);
            Some(Command::Engage { servo: servo.id, pulse, stands_there: true })
        };
        let parts = self.rig.servos.iter().zip(&self.edition.plan.servos);
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
            .map(|((servo, _), _)| format!("{} (channel {} of {})", servo.name, servo.channel, servo.board))
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
                "the recording is not whole: this machine could not write it as fast as it came".to_owned(),
            );
        }
        let ended = self.engine.finish();
        Ending::of(&self.rig, &ended, staying, unheard)
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

/// What tells a file from the same file written anew: when it was written, and its length.
type Stamp = Option<(SystemTime, u64)>;

fn stamp(path: &Path) -> Stamp {
    let found = std::fs::metadata(path).ok()?;
    Some((found.modified().ok()?, found.len()))
}

#[cfg(test)]
pub mod tests {
    use wasvolta_core::rig::Rig;
    use wasvolta_core::rig::file::{Loaded, load};

    /// Two servos on one board, for tests of what is said of them.
    pub fn small() -> Rig {
        match load(include_str!("../../core/tests/data/small.rig.toml")) {
            Loaded::Sound(rig) => *rig,
            other => panic!("{other:?}"),
        }
    }
}
