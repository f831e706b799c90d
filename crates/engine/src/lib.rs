//! Threads that keep time between the stage and the ports.
//!
//! The beat thread runs the stage on absolute deadlines and when bytes arrive; each blocking port has a
//! worker with a mailbox in which the newest frame replaces the old. Commands go down, snapshots come up.
//! However it ends, every engaged channel is released.

pub mod beat;
mod chips;
pub mod compiled;
pub mod lines;
pub mod record;
pub mod snapshot;
pub mod stop;
pub mod why;
pub mod wiring;
pub mod worker;

pub use compiled::Compiled;
pub use snapshot::Snapshot;
pub use stop::Stop;
pub use wiring::{Ways, Wiring};

use beat::Beat;
use lines::Keeper;
use record::{Recording, Scribe};
use rtrb::{Producer, RingBuffer};
use snapshot::LineTrouble;
use std::io::Write;
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::Duration;
use wasvolta_core::rig::{BoardId, Rig};
use wasvolta_core::stage::{Command, Prepared};
use wasvolta_port::board::Decision;
use wasvolta_port::pwm::Files;
use wasvolta_port::serial::Stream;
use wasvolta_port::{BusError, Clock, I2cBus};
use worker::{Ended, Endings, Work};

/// Opens a way, again and again if it must.
pub type Open<W> = Box<dyn FnMut() -> Result<W, BusError> + Send>;
/// Opens a bus.
pub type OpenBus = Open<Box<dyn I2cBus>>;

/// How a port with boards is reached.
pub enum Way {
    /// A bus with expanders.
    Bus(OpenBus),
    /// A line with a microcontroller that speaks Firmata.
    Line(Open<Box<dyn Stream>>),
    /// The files of a PWM chip of the kernel.
    Files(Open<Box<dyn Files>>),
}

/// A port with boards, by its name in the rig.
pub struct BoardPort {
    /// The port's name.
    pub name: String,
    /// How it is reached.
    pub way: Way,
}

/// A serial line, by the port's name in the rig.
#[derive(Debug, Clone)]
pub struct LinePort {
    /// The port's name.
    pub name: String,
    /// Its path.
    pub path: std::path::PathBuf,
    /// Its rate.
    pub baud: u32,
}

/// What reaches hardware, and how time passes.
pub struct Setup {
    /// Ports with boards, in rig order.
    pub boards: Vec<BoardPort>,
    /// Lines of numbers, in rig order.
    pub lines: Vec<LinePort>,
    /// The time.
    pub clock: Arc<dyn Clock>,
    /// The time between two beats.
    pub beat: Duration,
    /// Where the run is recorded, if it is.
    pub record: Option<Box<dyn Write + Send>>,
}

/// What goes down to the beat thread.
#[derive(Debug)]
pub(crate) enum Downward {
    /// Do this.
    Command(Command),
    /// Run this from now on.
    Plan(Box<NextPlan>),
    /// The maker's word on pulses that were found running.
    Decide { board: BoardId, decision: Decision },
    /// A port that was not there at the start.
    Port(NewPort),
}

/// A port's mailbox, with the thread that waits for it.
pub(crate) struct NewPort {
    pub(crate) post: worker::Post,
    pub(crate) waker: Option<std::thread::Thread>,
}

impl std::fmt::Debug for NewPort {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("NewPort").finish_non_exhaustive()
    }
}

/// A plan with all the room it needs, made outside the beat.
#[derive(Debug)]
pub(crate) struct NextPlan {
    pub(crate) stage: Prepared,
    pub(crate) compiled: Arc<Compiled>,
}

impl NextPlan {
    fn of(compiled: &Arc<Compiled>) -> Self {
        Self { stage: Prepared::new(Arc::clone(&compiled.plan)), compiled: Arc::clone(compiled) }
    }
}

/// How the parts are driven.
enum Drive {
    Threads(Vec<JoinHandle<()>>),
    ByHand(Box<ByHand>),
}

struct ByHand {
    beat: Beat,
    workers: Vec<Box<dyn Work>>,
    keeper: Keeper,
    scribe: Option<Scribe>,
}

/// A running engine. Dropping it releases every channel.
pub struct Engine {
    down: Producer<Downward>,
    up: triple_buffer::Output<Snapshot>,
    stop: Arc<Stop>,
    trouble: LineTrouble,
    drive: Drive,
    clock: Arc<dyn Clock>,
    ways: Ways,
    compiled: Arc<Compiled>,
    recording: Option<Recording>,
    ended: Endings,
    /// When the last command was given.
    commanded: Option<Duration>,
}

const COMMANDS_WAITING: usize = 256;

impl Engine {
    /// Starts the threads.
    ///
    /// # Errors
    /// When the system gives no descriptor or thread.
    pub fn start(rig: &Arc<Rig>, setup: Setup) -> std::io::Result<Self> {
        let (mut engine, parts) = Self::build(rig, setup)?;
        let ByHand { beat, workers, keeper, scribe } = parts;
        let (mut threads, mut others) = (Vec::new(), Vec::new());
        for worker in workers {
            threads.push(spawn("bus", &engine.stop, move |stop| worker.run(stop))?);
        }
        if let Some(scribe) = scribe {
            others.push(spawn("recording", &engine.stop, move |_| scribe.run())?);
        }
        threads.push(spawn("lines", &engine.stop, move |stop| keeper.run(stop))?);
        let wakers = threads.iter().map(|t| t.thread().clone()).collect();
        threads.push(spawn("beat", &engine.stop, move |stop| beat.run(stop, wakers))?);
        // Joined last: the scribe ends when the beat has.
        threads.extend(others);
        engine.drive = Drive::Threads(threads);
        Ok(engine)
    }

    /// Starts without threads: time passes only by [`Engine::pass`].
    ///
    /// # Errors
    /// When the system gives no descriptor.
    pub fn by_hand(rig: &Arc<Rig>, setup: Setup) -> std::io::Result<Self> {
        let (mut engine, parts) = Self::build(rig, setup)?;
        engine.drive = Drive::ByHand(Box::new(parts));
        Ok(engine)
    }

    fn build(rig: &Arc<Rig>, setup: Setup) -> std::io::Result<(Self, ByHand)> {
        let stop = Arc::new(Stop::new()?);
        let (down, from_above) = RingBuffer::new(COMMANDS_WAITING);
        let ways = Ways::of(&setup);
        let recorded = setup.record.is_some();
        let compiled = Arc::new(Compiled::of(Arc::clone(rig), &ways, 0, recorded));
        let (tape, scribe, recording) = match setup.record {
            Some(out) => {
                let (tape, scribe, recording) = record::start(&record::as_recorded(rig), setup.beat, out)?;
                (Some(tape), Some(scribe), Some(recording))
            }
            None => (None, None, None),
        };
        let ended = Endings::default();
        let (workers, posts) = worker::make(setup.boards, &compiled.wiring, &setup.clock, &ended);
        let trouble = LineTrouble::for_lines(setup.lines.len());
        let (keeper, inlets) = Keeper::new(setup.lines, trouble.clone());
        let first = NextPlan::of(&compiled);
        let clock = Arc::clone(&setup.clock);
        let (beat, up) = Beat::new(first, from_above, posts, inlets, (setup.clock, setup.beat), tape);
        let drive = Drive::Threads(Vec::new());
        let engine =
            Self { down, up, stop, trouble, drive, clock, ways, compiled, recording, ended, commanded: None };
        Ok((engine, ByHand { beat, workers, keeper, scribe }))
    }

    /// Asks the stage for something. A full queue loses the command and says so.
    pub fn command(&mut self, command: Command) -> bool {
        let sent = self.send(Downward::Command(command));
        self.commanded = Some(self.clock.now());
        sent
    }

    /// Whether a snapshot of that time shows what all commands so far have set off: one that is older may show a servo
    /// standing that was just told to go.
    pub fn is_heard(&self, now: Duration) -> bool {
        self.commanded.is_none_or(|at| now > at)
    }

    /// The rig that was given to run last; snapshots may still be of one before.
    pub const fn compiled(&self) -> &Arc<Compiled> {
        &self.compiled
    }

    /// Makes a changed rig ready to run on the ports there are.
    pub fn compile(&self, rig: Arc<Rig>) -> Arc<Compiled> {
        Arc::new(Compiled::of(rig, &self.ways, self.compiled.version + 1, self.recording.is_some()))
    }

    /// Runs a rig from the next beat on; whether it was taken.
    pub fn run(&mut self, compiled: &Arc<Compiled>) -> bool {
        if let Some(recording) = &self.recording {
            // The scribe ends only with the engine.
            let _ = recording.rigs.send((compiled.version, record::as_recorded(&compiled.rig)));
        }
        let taken = self.send(Downward::Plan(Box::new(NextPlan::of(compiled))));
        if taken {
            self.compiled = Arc::clone(compiled);
        }
        // Where time passes by hand nothing need wait for a beat.
        if let Drive::ByHand(parts) = &mut self.drive {
            parts.beat.take_plan();
        }
        taken
    }

    /// Whether there is a port with boards of that name.
    pub fn has_port(&self, name: &str) -> bool {
        self.ways.ports.iter().any(|port| port == name)
    }

    /// Takes another port with boards, behind those that are there; a rig that names it may run from then on.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn add_port(&mut self, port: BoardPort) -> std::io::Result<()> {
        self.ways.ports.push(port.name.clone());
        let (worker, post) = worker::of(port, &[], &self.clock, &self.ended);
        let mut port = NewPort { post, waker: None };
        match &mut self.drive {
            Drive::Threads(threads) => {
                let thread = spawn("bus", &self.stop, move |stop| worker.run(stop))?;
                port.waker = Some(thread.thread().clone());
                threads.push(thread);
            }
            Drive::ByHand(parts) => parts.workers.push(worker),
        }
        self.send(Downward::Port(port));
        Ok(())
    }

    /// Answers a board that asks what to do with running pulses.
    pub fn decide(&mut self, board: BoardId, decision: Decision) -> bool {
        self.send(Downward::Decide { board, decision })
    }

    fn send(&mut self, item: Downward) -> bool {
        let sent = self.down.push(item).is_ok();
        self.stop.wake();
        sent
    }

    /// Whether a recording could not be written as a whole; it holds what came before.
    pub fn is_recording_broken(&self) -> bool {
        self.recording.as_ref().is_some_and(Recording::is_incomplete)
    }

    /// The newest snapshot.
    pub fn snapshot(&mut self) -> &Snapshot {
        self.up.read()
    }

    /// What other threads use to cut and to stop.
    pub const fn stop(&self) -> &Arc<Stop> {
        &self.stop
    }

    /// Why serial lines cannot be opened, by line.
    pub fn line_trouble(&self, line: usize) -> Option<wasvolta_port::serial::SerialError> {
        self.trouble.get(line)
    }

    /// Lets one beat pass, where time passes by hand; else nothing.
    pub fn pass(&mut self) {
        let Drive::ByHand(parts) = &mut self.drive else { return };
        parts.keeper.service();
        parts.beat.settle();
        parts.beat.turn(&self.stop, true);
        for worker in &mut parts.workers {
            worker.service();
        }
        parts.beat.collect();
        if let Some(scribe) = &mut parts.scribe {
            scribe.write();
        }
    }

    /// Whether a thread has failed or someone has asked to stop.
    pub fn is_stopped(&self) -> bool {
        self.stop.is_set()
    }
}

impl Engine {
    /// Ends: every pulse is stopped that is not to stay. Gives what was read back of each board that had any.
    pub fn finish(mut self) -> Vec<Ended> {
        self.end();
        std::mem::take(&mut *self.ended.lock().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    fn end(&mut self) {
        self.stop.set();
        match std::mem::replace(&mut self.drive, Drive::Threads(Vec::new())) {
            Drive::Threads(threads) => {
                for thread in &threads {
                    thread.thread().unpark();
                }
                for thread in threads {
                    // A thread that panicked has released its channels while unwinding.
                    let _ = thread.join();
                }
            }
            // Workers release what they drive when they are dropped.
            Drive::ByHand(parts) => drop(parts),
        }
    }
}

impl Drop for Engine {
    fn drop(&mut self) {
        self.end();
    }
}

fn spawn(
    name: &str,
    stop: &Arc<Stop>,
    body: impl FnOnce(&Stop) + Send + 'static,
) -> std::io::Result<JoinHandle<()>> {
    let stop = Arc::clone(stop);
    std::thread::Builder::new().name(name.to_owned()).spawn(move || {
        let _tripwire = stop::Tripwire::new(&stop);
        body(&stop);
    })
}
