//! Threads that keep time between the stage and the ports.
//!
//! The beat thread runs the stage on absolute deadlines and when bytes arrive; each blocking port has a
//! worker with a mailbox in which the newest frame replaces the old. Commands go down, snapshots come up.
//! However it ends, every engaged channel is released.

pub mod beat;
pub mod chips;
pub mod compiled;
mod links;
mod pins;
pub mod record;
pub mod snapshot;
pub mod stop;
pub mod ways;
pub mod why;
pub mod wiring;
pub mod worker;

pub use compiled::Compiled;
pub use snapshot::Snapshot;
pub use stop::Stop;
pub use wiring::{WaySetup, Wiring};

use beat::Beat;
use links::{Keeper, Kept, Trouble, WayEnd, WayId};
use pins::Pins;
use record::{Recording, Scribe};
use rtrb::{Producer, RingBuffer};
use std::io::Write;
use std::sync::Arc;
use std::sync::mpsc::Sender;
use std::thread::JoinHandle;
use std::time::Duration;
use wasvolta_core::rig::{BoardId, InputId, Rig};
use wasvolta_core::stage::{Command, Prepared};
use wasvolta_port::board::Decision;
use wasvolta_port::inlet::{OpenInlet, Shut};
use wasvolta_port::pwm::Files;
use wasvolta_port::serial::Stream;
use wasvolta_port::smart::errand::Errand;
use wasvolta_port::{BusError, Clock, I2cBus};
use worker::{Ended, Told, Work};

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
    /// A line with smart servos.
    Smart(Open<Box<dyn Stream>>),
}

/// A port with boards, by its name in the rig.
pub struct BoardPort {
    /// The port's name.
    pub name: String,
    /// How it is reached.
    pub way: Way,
}

/// Says how a way in is opened: on this machine as [`ways::opener`] does, or by a stand-in.
pub type Opener = Box<dyn Fn(&WaySetup) -> OpenInlet + Send>;

/// What reaches hardware, and how time passes.
pub struct Setup {
    /// Ports with boards, in rig order.
    pub boards: Vec<BoardPort>,
    /// How ports with links on them are opened.
    pub opener: Opener,
    /// What time it is: the machine's, or a test's.
    pub clock: Arc<dyn Clock>,
    /// The time between two beats.
    pub beat: Duration,
    /// Where the run is recorded, if it is.
    pub record: Option<Box<dyn Write + Send>>,
}

/// What goes down to the beat thread.
pub(crate) enum Downward {
    /// A command for the stage, carried out at the next beat.
    Command(Command),
    /// Keep every beat of this input.
    Trace(InputId),
    /// Run this from now on.
    Plan(Box<NextPlan>),
    /// The maker's word on pulses that were found running.
    Decide { board: BoardId, decision: Decision },
    /// A bus is lent.
    Lend { board: BoardId, errand: Arc<Errand> },
    /// A port that was not there at the start.
    Port(NewPort),
}

/// A port's mailbox, with the thread that waits for it.
pub(crate) struct NewPort {
    pub(crate) post: worker::Post,
    pub(crate) waker: Option<std::thread::Thread>,
}

/// A plan with all the room it needs, made outside the beat.
pub(crate) struct NextPlan {
    pub(crate) stage: Prepared,
    pub(crate) compiled: Arc<Compiled>,
    pub(crate) ways: Vec<WayEnd>,
}

/// A way in that the engine has had opened.
struct KnownWay {
    id: WayId,
    setup: WaySetup,
    trouble: Trouble,
}

/// The ways in as they are now, and what makes others.
struct WaysIn {
    opener: Opener,
    /// What boards read from their pins.
    pins: Pins,
    /// In the order of the wiring that was given to run last.
    known: Vec<KnownWay>,
    /// The id that the next one gets.
    next: WayId,
    to_keeper: Sender<Kept>,
    /// The thread that opens them, to be woken.
    keeper: Option<std::thread::Thread>,
}

impl WaysIn {
    /// The beat's ends of the ways of a wiring. A way that is set up as one before stays as it is; any other is new, and
    /// what is set up in no way any more is closed once the beat has let it go.
    fn ends(&mut self, wiring: &Wiring) -> Vec<WayEnd> {
        let mut before = std::mem::take(&mut self.known);
        let mut ends = Vec::with_capacity(wiring.ways_in.len());
        for way in &wiring.ways_in {
            let carrier = ways::carrier(way.setup.port.kind);
            let same = before.iter().position(|known| known.setup == way.setup);
            let (known, held) = if let Some(place) = same {
                (before.swap_remove(place), None)
            } else {
                let trouble = Trouble::default();
                let open = match way.setup.board {
                    Some(board) => self.pins.opener(board),
                    None => (self.opener)(&way.setup),
                };
                let (kept, held) = links::way(open, trouble.clone());
                // The keeper ends only with the engine.
                let _ = self.to_keeper.send(kept);
                self.next += 1;
                (KnownWay { id: self.next, setup: way.setup.clone(), trouble }, Some(held))
            };
            ends.push(WayEnd::new(known.id, held, carrier, &way.links));
            self.known.push(known);
        }
        if let Some(keeper) = &self.keeper {
            keeper.unpark();
        }
        ends
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
    drive: Drive,
    clock: Arc<dyn Clock>,
    /// The names of the ports with boards, in the order in which they were opened.
    ports: Vec<String>,
    ways_in: WaysIn,
    compiled: Arc<Compiled>,
    recording: Option<Recording>,
    told: Told,
    /// When the last command was given.
    commanded: Option<Duration>,
    /// The input whose beats are kept.
    traced: InputId,
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
        let opening = spawn("ways in", &engine.stop, move |stop| keeper.run(stop))?;
        engine.ways_in.keeper = Some(opening.thread().clone());
        threads.push(opening);
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
        let ports: Vec<String> = setup.boards.iter().map(|port| port.name.clone()).collect();
        let recorded = setup.record.is_some();
        let compiled = Arc::new(Compiled::of(Arc::clone(rig), &ports, 0, recorded));
        let (tape, scribe, recording) = match setup.record {
            Some(out) => {
                let (tape, scribe, recording) = record::start(&record::as_recorded(rig), setup.beat, out)?;
                (Some(tape), Some(scribe), Some(recording))
            }
            None => (None, None, None),
        };
        let told = Told::default();
        let (workers, posts) = worker::make(setup.boards, &compiled.wiring, &setup.clock, &told);
        let (keeper, to_keeper) = Keeper::new();
        let mut ways_in = WaysIn {
            opener: setup.opener,
            pins: told.pins.clone(),
            known: Vec::new(),
            next: 0,
            to_keeper,
            keeper: None,
        };
        let first = next_plan(&compiled, &mut ways_in);
        let clock = Arc::clone(&setup.clock);
        let (beat, up) = Beat::new(first, from_above, posts, (setup.clock, setup.beat), tape);
        let drive = Drive::Threads(Vec::new());
        let engine = Self {
            down,
            up,
            stop,
            drive,
            clock,
            ports,
            ways_in,
            compiled,
            recording,
            told,
            commanded: None,
            traced: InputId::default(),
        };
        Ok((engine, ByHand { beat, workers, keeper, scribe }))
    }

    /// Asks the stage for something. A full queue loses the command and says so.
    pub fn command(&mut self, command: Command) -> bool {
        let sent = self.send(Downward::Command(command));
        self.commanded = Some(self.clock.now());
        sent
    }

    /// Keeps every beat of one input in the snapshots from now on, for whoever looks at it.
    pub fn trace(&mut self, input: InputId) {
        if self.traced != input && self.send(Downward::Trace(input)) {
            self.traced = input;
        }
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
        Arc::new(Compiled::of(rig, &self.ports, self.compiled.version + 1, self.recording.is_some()))
    }

    /// Runs a rig from the next beat on; whether it was taken.
    pub fn run(&mut self, compiled: &Arc<Compiled>) -> bool {
        if let Some(recording) = &self.recording {
            // The scribe ends only with the engine.
            let _ = recording.rigs.send((compiled.version, record::as_recorded(&compiled.rig)));
        }
        let next = next_plan(compiled, &mut self.ways_in);
        let taken = self.send(Downward::Plan(Box::new(next)));
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
        self.ports.iter().any(|port| port == name)
    }

    /// Takes another port with boards, behind those that are there; a rig that names it may run from then on.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn add_port(&mut self, port: BoardPort) -> std::io::Result<()> {
        self.ports.push(port.name.clone());
        let (worker, post) = worker::of(port, &[], &self.clock, &self.told);
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

    /// Lends a bus of smart servos to an errand: it goes on beside the beat, and says itself how far it is. While anything
    /// on the bus may be stiff it is refused.
    pub fn lend(&mut self, board: BoardId, errand: Arc<Errand>) -> bool {
        self.send(Downward::Lend { board, errand })
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

    /// Nothing is driven from now on: what pulses on a board is left as it was found, also at the end.
    pub fn keep_hands_off(&self) {
        self.told.hands_off.store(true, std::sync::atomic::Ordering::SeqCst);
    }

    /// Why the way of a link cannot be opened, and what to try; by the link's place in the rig that was given to run last.
    pub fn link_trouble(&self, link: usize) -> Option<Shut> {
        let way = self.compiled.wiring.way_of_link.get(link).copied().flatten()?;
        self.ways_in.known.get(way)?.trouble.get()
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
        std::mem::take(&mut *self.told.ended.lock().unwrap_or_else(std::sync::PoisonError::into_inner))
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

/// A plan with all that it needs, made outside the beat.
fn next_plan(compiled: &Arc<Compiled>, ways_in: &mut WaysIn) -> NextPlan {
    NextPlan {
        stage: Prepared::new(Arc::clone(&compiled.plan)),
        compiled: Arc::clone(compiled),
        ways: ways_in.ends(&compiled.wiring),
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
