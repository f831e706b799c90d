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
use wasvolta_core::range::BEAT;
use wasvolta_core::rig::check::problems;
use wasvolta_core::rig::file::{from_values, to_values};
use wasvolta_core::rig::{PartNumbers, Rig};
use wasvolta_core::stage::{Command, Placed, Plan, Prepared, Reading, Setpoints};
use wasvolta_core::unit::Ticks;

/// The form of the recordings that this program writes. It reads 1 too, in which commands have places, not ids.
pub const FORMAT: u32 = 2;
/// Entries that may wait to be written: more than ten seconds of a busy rig.
const ROOM: usize = 1 << 16;
/// Servos whose last setpoints the tape remembers without asking for memory.
const SERVOS: usize = 1024;

/// What happened, in order: what belongs to a turn comes before it, its setpoints behind it.
#[derive(Debug, Clone, Copy)]
enum Entry {
    Plan { version: u64 },
    Reading { input: usize, reading: Reading },
    Command(Command),
    Turn { now: Duration },
    Setpoint { servo: usize, ticks: Option<Ticks> },
}

/// What this program writes.
type TapeLine = RecordedLine<Command>;

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
        readings: &[Reading],
        commands: &[Command],
        setpoints: &Setpoints,
    ) {
        for (input, &reading) in readings.iter().enumerate().filter(|(_, r)| **r != Reading::default()) {
            self.put(Entry::Reading { input, reading });
        }
        for &command in commands {
            self.put(Entry::Command(command));
        }
        self.put(Entry::Turn { now });
        for (servo, &ticks) in setpoints.iter().enumerate() {
            if self.last.get(servo) != Some(&ticks) {
                self.put(Entry::Setpoint { servo, ticks });
            }
        }
        self.last.clear();
        self.last.extend_from_slice(setpoints);
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

/// A line of a recording, by how its commands name parts.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
enum RecordedLine<C> {
    /// The first.
    WasvoltaRecording { format: u32, program: String, beat_ns: u64 },
    /// This rig runs from here on.
    Plan {
        /// As values: it may be of an older format.
        rig: serde_json::Value,
        #[serde(flatten)]
        ids: PartNumbers,
    },
    /// One call of the stage.
    Turn(Turn<C>),
    /// Not everything could be written.
    Lost,
}

#[derive(Debug, Serialize, Deserialize)]
struct Turn<C> {
    /// Nanoseconds since the start.
    t: u64,
    /// By input: the value's bits, frames, changed, gone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    r: Vec<(usize, Option<u64>, u32, bool, bool)>,
    /// Commands in order.
    #[serde(default = "Vec::new", skip_serializing_if = "Vec::is_empty")]
    c: Vec<C>,
    /// By servo whose setpoint is another than in the turn before: ticks, or none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    s: Vec<(usize, Option<u16>)>,
}

impl<C> Turn<C> {
    const fn at(t: u64) -> Self {
        Self { t, r: Vec::new(), c: Vec::new(), s: Vec::new() }
    }

    /// The same with its commands named otherwise.
    fn with(self, rename: impl Fn(C) -> Option<Command>) -> Turn<Command> {
        let Self { t, r, c, s } = self;
        Turn { t, r, c: c.into_iter().filter_map(rename).collect(), s }
    }
}

/// The end of a recording that writes it down.
pub(crate) struct Scribe {
    entries: Consumer<Entry>,
    rigs: Receiver<(u64, Arc<Rig>)>,
    out: Box<dyn Write + Send>,
    turn: Option<Turn<Command>>,
    next: Turn<Command>,
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
        next: Turn::at(0),
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
            Entry::Reading { input, reading } => {
                self.end_turn()?;
                let Reading { value, frames, changed, gone } = reading;
                self.next.r.push((input, value.map(f64::to_bits), frames, changed, gone));
            }
            Entry::Command(command) => {
                self.end_turn()?;
                self.next.c.push(command);
            }
            Entry::Turn { now } => {
                self.end_turn()?;
                let next = std::mem::replace(&mut self.next, Turn::at(0));
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
    /// Something else.
    #[error("this is not a recording: record one with --record FILE")]
    NotOne,
    /// Of another version of this program.
    #[error(
        "this recording has format {found} and was made by version {program}; this program runs format {FORMAT}: \
         run it with that version, or record anew"
    )]
    Version {
        /// Its format.
        found: u32,
        /// What made it.
        program: String,
    },
    /// A line in its middle is broken.
    #[error("line {line} cannot be understood ({why}): the file was changed or damaged; record anew")]
    Broken {
        /// From 1.
        line: usize,
        /// Why.
        why: String,
    },
    /// The stage does something else now.
    #[error(
        "at {at:?} (turn {turn}) {servo} gets {now:?} ticks, the recording has {then:?}: this program does not do what \
         the recorded one did"
    )]
    Differs {
        /// When.
        at: Duration,
        /// Which turn, from 1.
        turn: u64,
        /// Which servo.
        servo: String,
        /// Ticks now.
        now: Option<u16>,
        /// Ticks then.
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
    let (format, beat) = header(&first.text)?;
    let mut run = Rerun { beat, stage: None, then: Vec::new(), replayed: Replayed::default() };
    let mut number = 1;
    while let Some(Read { text, is_whole }) = next_line(&mut recording)? {
        number += 1;
        let said = if format == FORMAT { serde_json::from_slice(&text) } else { run.raised(&text) };
        match said {
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
    /// A line of the first format: its commands name parts by their places in the rig that runs.
    fn raised(&self, text: &[u8]) -> serde_json::Result<TapeLine> {
        Ok(match serde_json::from_slice::<RecordedLine<Placed>>(text)? {
            RecordedLine::WasvoltaRecording { format, program, beat_ns } => {
                TapeLine::WasvoltaRecording { format, program, beat_ns }
            }
            RecordedLine::Plan { rig, ids } => TapeLine::Plan { rig, ids },
            RecordedLine::Turn(turn) => {
                let plan = self.stage.as_ref().map(|(_, stage)| stage.plan());
                TapeLine::Turn(turn.with(|command| command.named(plan?)))
            }
            RecordedLine::Lost => TapeLine::Lost,
        })
    }

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
    fn turn(&mut self, turn: &Turn<Command>) -> Option<Result<Duration, BadRecording>> {
        let (rig, stage) = self.stage.as_mut()?;
        let mut readings = vec![Reading::default(); stage.inputs().len()];
        for &(input, value, frames, changed, gone) in &turn.r {
            if let Some(reading) = readings.get_mut(input) {
                *reading = Reading { value: value.map(f64::from_bits), frames, changed, gone };
            }
        }
        let at = Duration::from_nanos(turn.t);
        let setpoints = stage.advance(at, &readings, &turn.c);
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
            let (now, then) = (now.map(|t| t.0), *then);
            if now != then {
                let servo = rig.servos.get(servo).map_or_else(String::new, |servo| servo.name.clone());
                return Some(Err(BadRecording::Differs { at, turn, servo, now, then }));
            }
            self.replayed.compared += 1;
        }
        Some(Ok(at))
    }
}

/// The format of a recording, and its beat.
fn header(line: &[u8]) -> Result<(u32, Duration), BadRecording> {
    match serde_json::from_slice(line) {
        Ok(TapeLine::WasvoltaRecording { format: format @ 1..=FORMAT, beat_ns, .. }) => {
            let beat = Duration::from_nanos(beat_ns);
            let why = || {
                format!("its beat is {} s, outside {} to {} s", beat.as_secs_f64(), BEAT.least, BEAT.greatest)
            };
            if BEAT.holds(beat.as_secs_f64()) {
                Ok((format, beat))
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
