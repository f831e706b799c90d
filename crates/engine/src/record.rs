//! Recording a run, and running a recording: the stage is deterministic, so the same wake times, readings and
//! commands give the same setpoints, byte for byte.
//!
//! The beat puts small entries on a tape and never waits; a thread of its own writes them down, a line a turn.
//! The setpoints are written beside what led to them, so that a replay can compare.

use rtrb::{Consumer, Producer, RingBuffer};
use serde::{Deserialize, Serialize};
use std::io::{BufRead, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;
use thiserror::Error;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Edges, Inflow, Measured};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::range::BEAT;
use wasvolta_core::rig::check::problems;
use wasvolta_core::rig::file::{from_values, to_values};
use wasvolta_core::rig::{PartNumbers, Rig};
use wasvolta_core::stage::{Command, Plan, Prepared, Setpoints};
use wasvolta_core::unit::{Position, Ticks};

/// The form of the recordings that this program writes and reads. Older ones kept what came in for each input alone, and
/// so cannot say how a link stood; or knew of no servo that says where it is: those are run too.
pub const FORMAT: u32 = 4;
/// Entries that may wait to be written: more than ten seconds of a busy rig.
const ROOM: usize = 1 << 16;
/// Servos whose last setpoints the tape remembers without asking for memory.
const SERVOS: usize = 1024;

/// What happened, in order: what belongs to a turn comes before it, its setpoints behind it.
#[derive(Debug, Clone, Copy)]
enum Entry {
    Plan {
        version: u64,
    },
    Heard {
        link: usize,
        heard: Heard,
    },
    Batch {
        input: usize,
        newest: f64,
        least: f64,
        greatest: f64,
        count: u32,
        more_edges: u32,
    },
    /// An edge of the batch before.
    Edge(f64),
    Measured {
        servo: usize,
        measured: Measured,
    },
    Command(Command),
    Turn {
        now: Duration,
    },
    Setpoint {
        servo: usize,
        ticks: Option<Ticks>,
    },
}

/// The beat's end of a recording.
pub(crate) struct Tape {
    entries: Producer<Entry>,
    last: Vec<Option<Ticks>>,
    lost: Arc<AtomicBool>,
}

impl Tape {
    /// A turn of the stage: what went in and what came out.
    pub(crate) fn turn(
        &mut self,
        now: Duration,
        inflow: Inflow<'_>,
        commands: &[Command],
        setpoints: &Setpoints,
    ) {
        for (link, &heard) in inflow.links.iter().enumerate().filter(|(_, heard)| **heard != Heard::default())
        {
            self.put(Entry::Heard { link, heard });
        }
        for (input, batch) in inflow.inputs.iter().enumerate().filter(|(_, batch)| batch.count > 0) {
            let Batch { newest, least, greatest, count, edges } = *batch;
            self.put(Entry::Batch { input, newest, least, greatest, count, more_edges: edges.more });
            edges.kept().iter().for_each(|edge| self.put(Entry::Edge(*edge)));
        }
        for (servo, measured) in inflow.measured.iter().enumerate() {
            if let Some(measured) = *measured {
                self.put(Entry::Measured { servo, measured });
            }
        }
        for &command in commands {
            self.put(Entry::Command(command));
        }
        self.put(Entry::Turn { now });
        for (servo, setpoint) in setpoints.iter().enumerate() {
            // What no way carries is not kept: a replay finds the same speed where it finds the same pulses.
            let ticks = setpoint.map(|setpoint| setpoint.target);
            if self.last.get(servo) != Some(&ticks) {
                self.put(Entry::Setpoint { servo, ticks });
            }
        }
        self.last.clear();
        self.last.extend(setpoints.iter().map(|setpoint| setpoint.map(|setpoint| setpoint.target)));
    }

    /// From here on another plan runs.
    pub(crate) fn plan(&mut self, version: u64) {
        self.put(Entry::Plan { version });
    }

    fn put(&mut self, entry: Entry) {
        if self.entries.push(entry).is_err() {
            self.lost.store(true, Ordering::SeqCst);
        }
    }
}

/// A line of a recording.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum TapeLine {
    /// The head line: the format, what wrote it, and the length of a beat in nanoseconds.
    WasvoltaRecording { format: u32, program: String, beat_ns: u64 },
    /// This rig runs from here on.
    Plan {
        /// As values: it may be of an older format.
        rig: serde_json::Value,
        #[serde(flatten)]
        ids: PartNumbers,
    },
    /// One call of the stage.
    Turn(Turn),
    /// Not everything could be written.
    Lost,
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Turn {
    /// Nanoseconds since the start.
    t: u64,
    /// What was heard of links.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    l: Vec<HeardLine>,
    /// What came for inputs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    b: Vec<BatchLine>,
    /// Where servos have said that they are: a servo's place in the rig, the bits of where it is, nanoseconds.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    m: Vec<(usize, u64, u64)>,
    /// Commands in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    c: Vec<Command>,
    /// By servo whose setpoint is another than in the turn before: ticks, or none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    s: Vec<(usize, Option<u16>)>,
}

/// What was heard of a link: its place, frames, whether they changed, a receiver's failsafe, and its way: 1 where it was
/// opened, 2 where it went.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
struct HeardLine(usize, u32, bool, bool, u8);

impl HeardLine {
    const fn of(link: usize, heard: Heard) -> Self {
        let way = match heard.way {
            Way::Same => 0,
            Way::Opened => 1,
            Way::Gone => 2,
        };
        Self(link, heard.frames, heard.changed, heard.failsafe, way)
    }

    const fn heard(self) -> Heard {
        let Self(_, frames, changed, failsafe, way) = self;
        let way = match way {
            1 => Way::Opened,
            2 => Way::Gone,
            _ => Way::Same,
        };
        Heard { frames, changed, failsafe, way }
    }
}

/// A batch: its input's place, the bits of its newest, least and greatest value, how many there were, the bits of its
/// edges, and how many more of those.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct BatchLine(usize, u64, u64, u64, u32, Vec<u64>, u32);

impl BatchLine {
    fn batch(&self) -> Batch {
        let Self(_, newest, least, greatest, count, edges, more) = self;
        let mut batch = Batch {
            newest: f64::from_bits(*newest),
            least: f64::from_bits(*least),
            greatest: f64::from_bits(*greatest),
            count: *count,
            edges: Edges::default(),
        };
        for edge in edges {
            batch.edges.push(f64::from_bits(*edge));
        }
        batch.edges.more = *more;
        batch
    }
}

/// The end of a recording that writes it down.
pub(crate) struct Scribe {
    entries: Consumer<Entry>,
    rigs: Receiver<(u64, Arc<Rig>)>,
    out: Box<dyn Write + Send>,
    turn: Option<Turn>,
    next: Turn,
    lost: Arc<AtomicBool>,
    said_lost: bool,
}

/// What the engine keeps of a recording.
pub(crate) struct Recording {
    /// Rigs by version, sent down before their plans.
    pub(crate) rigs: Sender<(u64, Arc<Rig>)>,
    lost: Arc<AtomicBool>,
}

impl Recording {
    /// Whether something could not be written.
    pub(crate) fn is_incomplete(&self) -> bool {
        self.lost.load(Ordering::SeqCst)
    }
}

/// Starts a recording of a rig into `out`.
///
/// # Errors
/// When its first lines cannot be written.
pub(crate) fn start(
    rig: &Rig,
    beat: Duration,
    mut out: Box<dyn Write + Send>,
) -> std::io::Result<(Tape, Scribe, Recording)> {
    let (entries, taken) = RingBuffer::new(ROOM);
    let (rigs, from_above) = channel();
    let lost = Arc::new(AtomicBool::new(false));
    let program = env!("CARGO_PKG_VERSION").to_owned();
    write_line(
        &mut out,
        &TapeLine::WasvoltaRecording { format: FORMAT, program, beat_ns: nanoseconds(beat) },
    )?;
    write_line(&mut out, &plan_line(rig)?)?;
    let tape = Tape { entries, last: Vec::with_capacity(SERVOS), lost: Arc::clone(&lost) };
    let scribe = Scribe {
        entries: taken,
        rigs: from_above,
        out,
        turn: None,
        next: Turn::default(),
        lost: Arc::clone(&lost),
        said_lost: false,
    };
    Ok((tape, scribe, Recording { rigs, lost }))
}

fn plan_line(rig: &Rig) -> std::io::Result<TapeLine> {
    let values = to_values(rig).map_err(std::io::Error::other)?;
    Ok(TapeLine::Plan { rig: values, ids: rig.part_numbers() })
}

/// The rig as a recording has it: numbers to the decimals that a file keeps. While a run is recorded this is what
/// runs, so that its replay runs the very same.
pub(crate) fn as_recorded(rig: &Arc<Rig>) -> Arc<Rig> {
    let read = to_values(rig).and_then(|values| from_values(&values));
    // What a rig holds was read from a text once; a number that has no form there is refused by every edit.
    read.map_or_else(|_| Arc::clone(rig), |read| Arc::new(read.with_part_numbers(&rig.part_numbers())))
}

fn write_line(out: &mut dyn Write, line: &TapeLine) -> std::io::Result<()> {
    serde_json::to_writer(&mut *out, line)?;
    out.write_all(b"\n")
}

fn nanoseconds(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

impl Scribe {
    /// Writes until the beat has ended, to its last entry: half a turn would not replay.
    pub(crate) fn run(mut self) {
        const NAP: Duration = Duration::from_millis(50);
        loop {
            // Asked before writing: what was put there before the end is written too.
            let over = self.entries.is_abandoned();
            self.write();
            if over {
                return;
            }
            std::thread::park_timeout(NAP);
        }
    }

    /// Writes what waits. A disk that refuses ends the recording, never the run.
    pub(crate) fn write(&mut self) {
        while let Ok(entry) = self.entries.pop() {
            if self.take(entry).is_err() {
                self.lost.store(true, Ordering::SeqCst);
            }
        }
        if self.lost.load(Ordering::SeqCst) && !self.said_lost {
            self.said_lost = true;
            let _ = write_line(&mut self.out, &TapeLine::Lost);
        }
        let _ = self.out.flush();
    }

    fn take(&mut self, entry: Entry) -> std::io::Result<()> {
        if self.said_lost {
            return Ok(());
        }
        match entry {
            Entry::Plan { version } => {
                self.end_turn()?;
                while let Ok((sent, rig)) = self.rigs.try_recv() {
                    if sent == version {
                        return write_line(&mut self.out, &plan_line(&rig)?);
                    }
                }
            }
            Entry::Heard { link, heard } => {
                self.end_turn()?;
                self.next.l.push(HeardLine::of(link, heard));
            }
            Entry::Batch { input, newest, least, greatest, count, more_edges } => {
                self.end_turn()?;
                let [newest, least, greatest] = [newest, least, greatest].map(f64::to_bits);
                self.next.b.push(BatchLine(input, newest, least, greatest, count, Vec::new(), more_edges));
            }
            Entry::Edge(value) => {
                if let Some(BatchLine(.., edges, _)) = self.next.b.last_mut() {
                    edges.push(value.to_bits());
                }
            }
            Entry::Measured { servo, measured: Measured { at, when } } => {
                self.end_turn()?;
                self.next.m.push((servo, at.get().to_bits(), nanoseconds(when)));
            }
            Entry::Command(command) => {
                self.end_turn()?;
                self.next.c.push(command);
            }
            Entry::Turn { now } => {
                self.end_turn()?;
                let next = std::mem::take(&mut self.next);
                self.turn = Some(Turn { t: nanoseconds(now), ..next });
            }
            Entry::Setpoint { servo, ticks } => {
                if let Some(turn) = &mut self.turn {
                    turn.s.push((servo, ticks.map(|t| t.0)));
                }
            }
        }
        Ok(())
    }

    fn end_turn(&mut self) -> std::io::Result<()> {
        self.turn.take().map_or(Ok(()), |turn| write_line(&mut self.out, &TapeLine::Turn(turn)))
    }
}

impl Drop for Scribe {
    fn drop(&mut self) {
        self.write();
        let _ = self.end_turn();
        let _ = self.out.flush();
    }
}

/// Why a recording cannot be run.
#[derive(Debug, Error)]
pub enum BadRecording {
    /// The disk says no.
    #[error("it cannot be read: {0}")]
    Unreadable(#[from] std::io::Error),
    /// The file does not begin as a recording does.
    #[error("this is not a recording: record one with --record FILE")]
    NotOne,
    /// Of another version of this program.
    #[error(
        "this recording has format {found} and was made by version {program}; this program runs format {FORMAT}: \
         run it with that version, or record anew"
    )]
    Version {
        /// The format that it says it has.
        found: u32,
        /// What made it.
        program: String,
    },
    /// A line in its middle is broken.
    #[error("line {line} cannot be understood ({why}): the file was changed or damaged; record anew")]
    Broken {
        /// The line in the file, counted from 1.
        line: usize,
        /// What the reader said of it.
        why: String,
    },
    /// The stage does something else now.
    #[error(
        "at {at:?} (turn {turn}) {servo} gets {now:?} ticks, the recording has {then:?}: this program does \
         something else than the recorded one"
    )]
    Differs {
        /// When it happened, since the engine was started.
        at: Duration,
        /// Which turn, from 1.
        turn: u64,
        /// The servo's name in the rig.
        servo: String,
        /// What it is told now, in ticks; none for no pulse.
        now: Option<u16>,
        /// What it was told when it was recorded, in ticks; none for no pulse.
        then: Option<u16>,
    },
}

/// How a recording ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Replayed {
    /// Calls of the stage.
    pub turns: u64,
    /// The time of the last.
    pub length: Duration,
    /// Setpoints that were compared, a servo a turn.
    pub compared: u64,
    /// The recording ends within a line, or its writer could not follow.
    pub incomplete: bool,
}

/// Runs a recording, comparing every setpoint; `each` sees the stage after every turn.
///
/// # Errors
/// When it is not a whole recording of this format, or a setpoint differs.
pub fn replay(
    recording: impl BufRead,
    mut each: impl FnMut(Duration, &Rig, &Stage),
) -> Result<Replayed, BadRecording> {
    let mut recording = recording;
    let first = next_line(&mut recording)?.filter(|line| line.is_whole).ok_or(BadRecording::NotOne)?;
    let beat = header(&first.text)?;
    let mut run = Rerun { beat, stage: None, then: Vec::new(), replayed: Replayed::default() };
    let mut number = 1;
    while let Some(Read { text, is_whole }) = next_line(&mut recording)? {
        number += 1;
        match serde_json::from_slice(&text) {
            Ok(said) => run.take(number, said, &mut each)?,
            // The last line of a run that was killed.
            Err(_) if !is_whole => run.replayed.incomplete = true,
            Err(why) => return Err(BadRecording::Broken { line: number, why: why.to_string() }),
        }
    }
    Ok(run.replayed)
}

/// The longest line that is read, in bytes: a rig of the greatest size that is read as a file has less.
const LONGEST: u64 = 64 << 20;

/// A line without its end.
struct Read {
    text: Vec<u8>,
    /// It had one.
    is_whole: bool,
}

/// The next line; none at the end. What never ends a line does not fill the memory.
fn next_line(from: &mut impl BufRead) -> Result<Option<Read>, BadRecording> {
    let mut text = Vec::new();
    let length = std::io::Read::take(&mut *from, LONGEST + 1).read_until(b'\n', &mut text)?;
    if u64::try_from(length).is_ok_and(|length| length > LONGEST) {
        return Err(BadRecording::NotOne);
    }
    let is_whole = text.pop_if(|last| *last == b'\n').is_some();
    Ok((length > 0).then_some(Read { text, is_whole }))
}

/// A recording being run.
struct Rerun {
    beat: Duration,
    stage: Option<(Rig, Stage)>,
    /// The setpoints as they were recorded.
    then: Vec<Option<u16>>,
    replayed: Replayed,
}

impl Rerun {
    fn take(
        &mut self,
        line: usize,
        said: TapeLine,
        each: &mut impl FnMut(Duration, &Rig, &Stage),
    ) -> Result<(), BadRecording> {
        let broken = |why: &str| BadRecording::Broken { line, why: why.to_owned() };
        match said {
            TapeLine::WasvoltaRecording { .. } => return Err(broken("a second beginning")),
            TapeLine::Lost => self.replayed.incomplete = true,
            TapeLine::Plan { rig, ids } => {
                let rig = from_values(&rig).map_err(|why| broken(&why))?;
                // What ran was checked; what does not pass now was changed since.
                if let Some(problem) = problems(&rig).first() {
                    return Err(broken(&format!("{}: {}", problem.path, problem.message)));
                }
                self.plan(rig.with_part_numbers(&ids));
            }
            TapeLine::Turn(turn) => {
                let at = self.turn(&turn).ok_or_else(|| broken("a turn before any rig"))??;
                if let Some((rig, stage)) = &self.stage {
                    each(at, rig, stage);
                }
            }
        }
        Ok(())
    }

    fn plan(&mut self, rig: Rig) {
        let prepared = Prepared::new(Plan::of(&rig));
        let stage = match self.stage.take() {
            None => Stage::new(prepared, self.beat),
            Some((_, mut stage)) => {
                stage.swap(prepared);
                stage
            }
        };
        self.stage = Some((rig, stage));
    }

    /// One call of the stage, compared; none when there is no stage yet.
    fn turn(&mut self, turn: &Turn) -> Option<Result<Duration, BadRecording>> {
        let (rig, stage) = self.stage.as_mut()?;
        let mut heard = vec![Heard::default(); stage.links().len()];
        let mut batches = vec![Batch::default(); stage.inputs().len()];
        for line in &turn.l {
            if let Some(place) = heard.get_mut(line.0) {
                *place = line.heard();
            }
        }
        for line in &turn.b {
            if let Some(place) = batches.get_mut(line.0) {
                *place = line.batch();
            }
        }
        let at = Duration::from_nanos(turn.t);
        let mut measured = vec![None; stage.servos().len()];
        for &(servo, bits, when) in &turn.m {
            if let Some(place) = measured.get_mut(servo) {
                let (at, when) = (Position::new(f64::from_bits(bits)), Duration::from_nanos(when));
                *place = Some(Measured { at, when });
            }
        }
        let inflow = Inflow { links: &heard, inputs: &batches, measured: &measured };
        let setpoints = stage.advance(at, inflow, &turn.c);
        self.then.resize(setpoints.len(), None);
        for &(servo, ticks) in &turn.s {
            if let Some(place) = self.then.get_mut(servo) {
                *place = ticks;
            }
        }
        self.replayed.turns += 1;
        self.replayed.length = at;
        let turn = self.replayed.turns;
        for (servo, (now, then)) in setpoints.iter().zip(&self.then).enumerate() {
            let (now, then) = (now.map(|setpoint| setpoint.target.0), *then);
            if now != then {
                let servo = rig.servos.get(servo).map_or_else(String::new, |servo| servo.name.clone());
                return Some(Err(BadRecording::Differs { at, turn, servo, now, then }));
            }
            self.replayed.compared += 1;
        }
        Some(Ok(at))
    }
}

/// The beat of a recording.
fn header(line: &[u8]) -> Result<Duration, BadRecording> {
    match serde_json::from_slice(line) {
        // What is new in the newest format an older one has not.
        Ok(TapeLine::WasvoltaRecording { format: FORMAT | 3, beat_ns, .. }) => {
            let beat = Duration::from_nanos(beat_ns);
            let why = || {
                format!("its beat is {} s, outside {} to {} s", beat.as_secs_f64(), BEAT.least, BEAT.greatest)
            };
            if BEAT.holds(beat.as_secs_f64()) {
                Ok(beat)
            } else {
                Err(BadRecording::Broken { line: 1, why: why() })
            }
        }
        Ok(TapeLine::WasvoltaRecording { format, program, .. }) => {
            Err(BadRecording::Version { found: format, program })
        }
        _ => Err(BadRecording::NotOne),
    }
}
