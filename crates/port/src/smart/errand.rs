//! What a bus is lent for while nobody on it is driven: to look who is there, at every id and every rate, by reading
//! only; and to give a servo another id or another rate, which is kept in its memory.
//!
//! An errand goes on a little at each turn, so that it can be given up at any time. What writes to memory is done in one
//! turn, from the write to what was read back: it is never left half done.

use super::{TRIES, USUAL_RETURN_DELAY};
use crate::clock::Clock;
use crate::i2c::{BusError, Fault};
use crate::serial::{Got, Stream};
use std::ops::RangeInclusive;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_wire::smart::exchange::{Exchange, Expected, Happened, Timing};
use wasvolta_wire::smart::map::{Map, Register};
use wasvolta_wire::smart::{Answer, Ask, Form};

/// A servo that was heard is asked so often where it is: two that share an id answer at once, and garble it.
const PROBES: u32 = 4;
/// From so many garbled answers of those on, two share the id.
const TWINS: u32 = 2;
/// What a servo needs to start.
const STARTING: Duration = Duration::from_millis(500);
/// What a servo needs to put something into its memory.
const KEEPING: Duration = Duration::from_millis(25);

/// What is to be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// Everyone is asked who is there.
    Seek {
        /// At these rates, in bits a second.
        bauds: Vec<u32>,
        /// The ids that are asked, lowest first.
        ids: RangeInclusive<u8>,
    },
    /// A servo gets another id.
    Id {
        /// The id that it has.
        from: u8,
        /// The id that it gets.
        to: u8,
    },
    /// The ends of a servo's way are felt for, gently: until it is held up.
    Feel(Feel),
    /// A servo is started anew, as after power-on; one that cannot be is allowed to push again.
    Anew {
        /// Its id on the bus, 0 to 252.
        id: u8,
    },
    /// A servo gets another rate.
    Baud {
        /// Its id on the bus, 0 to 252.
        id: u8,
        /// The rate that it gets.
        to: u32,
    },
}

/// How the ends of a servo's way are felt for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Feel {
    /// Its id on the bus, 0 to 252.
    pub id: u8,
    /// How hard it may push, in percent of what it can.
    pub push: u8,
    /// How fast it creeps, in counts a second.
    pub speed: u16,
    /// It is held up where it is so many counts behind, for a moment.
    pub behind: u16,
    /// The first and the last place that it may be told.
    pub within: (u16, u16),
}

/// Someone who answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Found {
    /// At this rate.
    pub baud: u32,
    /// Its id on the bus, 0 to 252.
    pub id: u8,
    /// The model that it says it is; none where its answers are garbled.
    pub model: Option<u16>,
    /// How many of its answers were garbled, of how many.
    pub garbled: (u32, u32),
}

impl Found {
    /// Two servos have this id, as far as can be told from what is heard.
    pub const fn is_twins(&self) -> bool {
        self.garbled.0 >= TWINS
    }
}

/// How far it is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Said {
    /// So many questions are put.
    pub done: usize,
    /// Of so many.
    pub of: usize,
    /// The rate and the id that are asked.
    pub at: (u32, u8),
    /// Who answered so far, in the order of the ids.
    pub found: Vec<Found>,
    /// Where a servo that feels for its ends is, in counts, and the ends that it has found: at lower and at higher counts.
    pub feels: Felt,
    /// How it ended, in words: what is so now, or why it is not.
    pub end: Option<Result<String, String>>,
}

/// An errand as it is given, watched and given up.
#[derive(Debug)]
pub struct Errand {
    /// What is to be done.
    pub what: What,
    is_given_up: AtomicBool,
    /// Read in every beat: it is in no lock.
    is_over: AtomicBool,
    said: Mutex<Said>,
}

impl PartialEq for Errand {
    /// One is only itself: the same may be asked twice.
    fn eq(&self, other: &Self) -> bool {
        std::ptr::eq(self, other)
    }
}

impl Errand {
    /// A new one.
    pub fn new(what: What) -> Arc<Self> {
        Arc::new(Self {
            what,
            is_given_up: AtomicBool::new(false),
            is_over: AtomicBool::new(false),
            said: Mutex::default(),
        })
    }

    /// It is to end.
    pub fn give_up(&self) {
        self.is_given_up.store(true, Ordering::SeqCst);
    }

    /// How far it is.
    pub fn said(&self) -> Said {
        self.lock().clone()
    }

    /// Whether it has ended.
    pub fn is_over(&self) -> bool {
        self.is_over.load(Ordering::SeqCst)
    }

    /// Ends it, unless it has ended.
    pub fn end(&self, how: Result<String, String>) {
        self.lock().end.get_or_insert(how);
        self.is_over.store(true, Ordering::SeqCst);
    }

    fn lock(&self) -> MutexGuard<'_, Said> {
        self.said.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What came of one question.
enum Heard {
    Answer(Answer),
    Nothing,
    Garbled,
}

/// One question and its end, with nothing else meanwhile; gives what came of it.
pub(super) fn once(
    exchange: &mut Exchange,
    line: &mut dyn Stream,
    clock: &dyn Clock,
    timing: Timing,
    (id, ask, data): (u8, &Ask<'_>, usize),
) -> Result<Option<Happened>, BusError> {
    let sent = exchange.ask(clock.now(), timing, (id, ask), Expected::Each(&[id], data));
    let sent = sent.map_err(|_| super::failed("ask", Fault::Foreign))?;
    line.write(sent).map_err(|fault| super::failed("tell", fault))?;
    let mut bytes = [0; 256];
    loop {
        let now = clock.now();
        match line.read(&mut bytes) {
            Got::Bytes(count) => exchange.hear(bytes.get(..count).unwrap_or_default(), now),
            Got::Gone => return Err(super::failed("hear", Fault::NoBus)),
            Got::Nothing => match exchange.until() {
                Some(until) if now < until => line.rest(until.saturating_sub(now), clock),
                _ => exchange.pass(now),
            },
        }
        if let Some(happened) = exchange.take_happened() {
            return Ok(Some(happened));
        }
        if !exchange.is_open() {
            return Ok(None);
        }
    }
}

/// An errand at work on a line.
#[derive(Debug)]
pub struct Work {
    errand: Arc<Errand>,
    map: Map,
    /// The rate that the line had, and has again at the end.
    usual: u32,
    adapter: Duration,
    exchange: Exchange,
    baud: u32,
    /// A servo that this errand has made stiff.
    drives: Option<u8>,
    creep: Creep,
    /// What is still to be asked, the last first.
    asks: Vec<(u32, u8)>,
}

impl Work {
    /// The work of an errand before its first request: which ids are asked, at which rates.
    pub fn of(errand: &Arc<Errand>, map: &Map, usual: u32, adapter: Duration) -> Self {
        let everyone = 0..=map.form.greatest_id();
        let (bauds, ids) = match &errand.what {
            What::Seek { bauds, ids } => (bauds.clone(), ids.clone()),
            What::Id { .. } | What::Baud { .. } => (vec![usual], everyone),
            // It is asked where it is soon enough.
            What::Feel(_) | What::Anew { .. } => (Vec::new(), everyone),
        };
        let mut asks: Vec<(u32, u8)> =
            bauds.iter().flat_map(|baud| ids.clone().map(|id| (*baud, id))).collect();
        asks.reverse();
        errand.lock().of = asks.len();
        Self {
            errand: Arc::clone(errand),
            map: map.clone(),
            usual,
            adapter,
            exchange: Exchange::new(map.form),
            baud: usual,
            drives: None,
            creep: Creep::default(),
            asks,
        }
    }

    /// Whether it is this errand.
    pub fn is_of(&self, errand: &Arc<Errand>) -> bool {
        Arc::ptr_eq(&self.errand, errand)
    }

    /// Ends it now, whatever it was doing: what it has made stiff is made limp.
    pub fn abandon(&mut self, line: &mut dyn Stream, clock: &dyn Clock) {
        self.errand.give_up();
        self.go_on(line, clock);
    }

    /// A little more of it; whether it is over.
    pub fn go_on(&mut self, line: &mut dyn Stream, clock: &dyn Clock) -> bool {
        if self.errand.is_over() {
            return true;
        }
        let ended = match self.turn(line, clock) {
            Ok(None) => return false,
            Ok(Some(end)) => end,
            Err(error) => {
                if let What::Feel(feel) = self.errand.what {
                    // Whatever went wrong, it is to be limp; whether it is, its driver asks next.
                    let _ = self.rest(line, clock, &feel);
                }
                Err(format!("{error}"))
            }
        };
        // However it ended, the line is as it was found.
        let restored = self.speak_at(line, self.usual);
        self.errand.end(ended.and_then(|words| restored.map(|()| words).map_err(|error| error.to_string())));
        true
    }

    /// Where a servo that feels for its ends is, in counts.
    pub fn place_now(&self) -> Option<u16> {
        self.errand.lock().feels.at
    }

    /// A servo that this errand has made stiff and not yet limp again.
    pub const fn drives(&self) -> Option<u8> {
        self.drives
    }

    fn turn(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
    ) -> Result<Option<Result<String, String>>, BusError> {
        if self.errand.is_given_up.load(Ordering::SeqCst) {
            if let (What::Feel(feel), true) = (&self.errand.what, self.drives.is_some()) {
                let feel = *feel;
                self.rest(line, clock, &feel)?;
                return Ok(Some(Err("stopped; it is limp again, read back".to_owned())));
            }
            return Ok(Some(Err("given up; nothing was written".to_owned())));
        }
        if let Some((baud, id)) = self.asks.pop() {
            self.errand.lock().at = (baud, id);
            self.speak_at(line, baud)?;
            if let Some(found) = self.probe(line, clock, id)? {
                self.errand.lock().found.push(found);
            }
            self.errand.lock().done += 1;
            return Ok(None);
        }
        let found = self.errand.lock().found.clone();
        match self.errand.what.clone() {
            What::Seek { .. } => Ok(Some(Ok(sum(&found)))),
            What::Id { from, to } => self.give_id(line, clock, &found, (from, to)).map(Some),
            What::Baud { id, to } => self.give_baud(line, clock, &found, (id, to)).map(Some),
            What::Feel(feel) => self.feel(line, clock, &feel),
            What::Anew { id } => self.start_anew(line, clock, id).map(Some),
        }
    }

    fn speak_at(&mut self, line: &mut dyn Stream, baud: u32) -> Result<(), BusError> {
        if self.baud != baud {
            line.set_baud(baud).map_err(|fault| super::failed("set the rate of", fault))?;
            self.baud = baud;
            // Whether it echoes is known; what came at another rate was noise.
            self.exchange = Exchange::new(self.map.form);
        }
        Ok(())
    }

    fn timing(&self) -> Timing {
        let latency = Timing::LATENCY.max(self.adapter + Duration::from_millis(4));
        Timing { baud: self.baud, return_delay: USUAL_RETURN_DELAY, latency }
    }

    fn ask(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        (id, ask, data): (u8, &Ask<'_>, usize),
    ) -> Result<Heard, BusError> {
        let timing = self.timing();
        Ok(match once(&mut self.exchange, line, clock, timing, (id, ask, data))? {
            Some(Happened::Answer(answer)) if answer.id == id => Heard::Answer(answer),
            Some(Happened::Missed { garbled: true, .. }) => Heard::Garbled,
            _ => Heard::Nothing,
        })
    }

    fn read(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        id: u8,
        register: Register,
    ) -> Result<Option<i64>, BusError> {
        let ask = Ask::Read { address: register.at, count: register.bytes.into() };
        for _ in 0..TRIES {
            if let Heard::Answer(answer) = self.ask(line, clock, (id, &ask, register.bytes.into()))?
                && let Some(value) = self.map.number(register, register.at, answer.data())
            {
                return Ok(Some(value));
            }
        }
        Ok(None)
    }

    /// Writes a number; whether it says that it has done so.
    fn write(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        id: u8,
        (register, value): (Register, i64),
    ) -> Result<bool, BusError> {
        let mut bytes = Vec::with_capacity(4);
        register.write(value, self.map.high_byte_first, &mut bytes);
        let ask = Ask::Write { address: register.at, bytes: &bytes };
        Ok(matches!(self.ask(line, clock, (id, &ask, 0))?, Heard::Answer(_)))
    }

    /// Who answers to an id, if anybody does.
    fn probe(&mut self, line: &mut dyn Stream, clock: &dyn Clock, id: u8) -> Result<Option<Found>, BusError> {
        let (model, place) = (self.map.model, self.map.position);
        let (mut says, mut garbled) = (None, 0);
        let ask = Ask::Read { address: model.at, count: model.bytes.into() };
        match self.ask(line, clock, (id, &ask, model.bytes.into()))? {
            Heard::Nothing => return Ok(None),
            Heard::Garbled => {}
            Heard::Answer(answer) => says = self.map.number(model, model.at, answer.data()),
        }
        let ask = Ask::Read { address: place.at, count: place.bytes.into() };
        let mut clean = 0;
        for _ in 0..PROBES {
            match self.ask(line, clock, (id, &ask, place.bytes.into()))? {
                Heard::Garbled => garbled += 1,
                Heard::Answer(_) => clean += 1,
                Heard::Nothing => {}
            }
        }
        // One crackle at an id that nobody has is no servo.
        let is_there = says.is_some() || clean > 0 || garbled >= TWINS;
        let model = says.and_then(|model| u16::try_from(model).ok());
        Ok(is_there.then_some(Found { baud: self.baud, id, model, garbled: (garbled, PROBES) }))
    }

    /// Whether one servo is on the bus, of the kind that is expected, and its drive is off; else why not.
    fn alone(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        found: &[Found],
        id: u8,
    ) -> Result<Result<(), String>, BusError> {
        let others: Vec<String> =
            found.iter().filter(|found| found.id != id).map(|found| found.id.to_string()).collect();
        let Some(own) = found.iter().find(|found| found.id == id) else {
            return Ok(Err(format!("no servo answers as id {id}; nothing was written")));
        };
        if own.is_twins() {
            return Ok(Err(format!(
                "two servos seem to answer as id {id}; unplug one of them. Nothing was written"
            )));
        }
        if !others.is_empty() {
            return Ok(Err(format!(
                "id {} answers too; plug in only the one that is to change. Nothing was written",
                others.join(", ")
            )));
        }
        let model = own.model.unwrap_or(u16::MAX);
        if !self.map.is_for(model) {
            return Ok(Err(format!(
                "it says it is model {model}, which this layout is not for; nothing was written"
            )));
        }
        // Memory is refused while it drives. Its drive is in no memory.
        if self.read(line, clock, id, self.map.drive)? != Some(0) {
            self.write(line, clock, id, (self.map.drive, 0))?;
            if self.read(line, clock, id, self.map.drive)? != Some(0) {
                return Ok(Err(format!("the drive of {id} cannot be switched off; nothing was written")));
            }
        }
        Ok(Ok(()))
    }

    /// Opens its memory, or shuts it again.
    fn lock(&mut self, line: &mut dyn Stream, clock: &dyn Clock, id: u8, shut: bool) -> Result<(), BusError> {
        match self.map.lock {
            Some(lock) => self.write(line, clock, id, (lock, i64::from(shut))).map(drop),
            None => Ok(()),
        }
    }

    /// One answers there, and is of a model that the layout is for; or in words why nothing is written to it.
    fn is_of_layout(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        id: u8,
    ) -> Result<Result<(), String>, BusError> {
        Ok(match self.read(line, clock, id, self.map.model)? {
            Some(model) if u16::try_from(model).is_ok_and(|model| self.map.is_for(model)) => Ok(()),
            Some(model) => Err(format!("it says it is model {model}, which this layout is not for")),
            None => Err(format!("no servo answers as id {id}")),
        })
    }

    /// Starts one anew, so that what it ails of is gone where that is over; nothing is kept in memory.
    fn start_anew(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        id: u8,
    ) -> Result<Result<String, String>, BusError> {
        if let Err(why) = self.is_of_layout(line, clock, id)? {
            return Ok(Err(why));
        }
        if self.map.form == Form::Two {
            self.ask(line, clock, (id, &Ask::Reboot, 0))?;
            clock.wait(STARTING);
        }
        if let Some((torque, most)) = self.map.torque_limit
            && self.read(line, clock, id, torque)? == Some(0)
            && !self.map.keeps(torque.at)
        {
            self.write(line, clock, id, (torque, most.into()))?;
            if self.read(line, clock, id, torque)? != Some(most.into()) {
                return Ok(Err(format!("id {id} does not accept a new torque limit")));
            }
        }
        Ok(match self.read(line, clock, id, self.map.drive)? {
            Some(0) => Ok(format!("id {id} is started anew, and limp, read back")),
            Some(_) => Err(format!("id {id} drives, and was not started anew")),
            None => Err(format!("id {id} does not answer since")),
        })
    }

    fn give_id(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        found: &[Found],
        (from, to): (u8, u8),
    ) -> Result<Result<String, String>, BusError> {
        if let Err(why) = self.alone(line, clock, found, from)? {
            return Ok(Err(why));
        }
        let register = self.map.id;
        self.lock(line, clock, from, false)?;
        self.write(line, clock, from, (register, to.into()))?;
        clock.wait(KEEPING);
        if self.read(line, clock, to, register)? == Some(to.into()) {
            self.lock(line, clock, to, true)?;
            return Ok(Ok(format!("it answers as id {to} now, read back")));
        }
        if self.read(line, clock, from, register)? == Some(from.into()) {
            self.lock(line, clock, from, true)?;
            return Ok(Err(format!("it did not take the id {to} and still answers as {from}")));
        }
        // It may have taken it and cannot be heard.
        self.write(line, clock, to, (register, from.into()))?;
        clock.wait(KEEPING);
        let is_back = self.read(line, clock, from, register)? == Some(from.into());
        if is_back {
            self.lock(line, clock, from, true)?;
        }
        Ok(Err(undone(is_back, &format!("id {to}"), &format!("id {from}"))))
    }

    fn give_baud(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        found: &[Found],
        (id, to): (u8, u32),
    ) -> Result<Result<String, String>, BusError> {
        let number = |map: &Map, baud: u32| map.bauds.iter().find(|(_, rate)| *rate == baud).map(|row| row.0);
        let (Some(new), Some(old)) = (number(&self.map, to), number(&self.map, self.usual)) else {
            return Ok(Err(format!("this layout has no number for {to} Bd; nothing was written")));
        };
        if let Err(why) = self.alone(line, clock, found, id)? {
            return Ok(Err(why));
        }
        let (register, usual) = (self.map.baud, self.usual);
        self.lock(line, clock, id, false)?;
        self.write(line, clock, id, (register, new.into()))?;
        clock.wait(KEEPING);
        self.speak_at(line, to)?;
        if self.read(line, clock, id, register)? == Some(new.into()) {
            self.lock(line, clock, id, true)?;
            return Ok(Ok(format!("id {id} answers at {to} Bd now, read back")));
        }
        self.speak_at(line, usual)?;
        if self.read(line, clock, id, register)? == Some(old.into()) {
            self.lock(line, clock, id, true)?;
            return Ok(Err(format!("it did not take {to} Bd and still answers at {usual} Bd")));
        }
        self.speak_at(line, to)?;
        self.write(line, clock, id, (register, old.into()))?;
        clock.wait(KEEPING);
        self.speak_at(line, usual)?;
        let is_back = self.read(line, clock, id, register)? == Some(old.into());
        if is_back {
            self.lock(line, clock, id, true)?;
        }
        Ok(Err(undone(is_back, &format!("{to} Bd"), &format!("{usual} Bd"))))
    }
}

/// Where a servo that feels for its ends is on its way.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
struct Creep {
    /// It began here.
    from: f64,
    goal: f64,
    /// When the goal was moved last.
    at: Option<Duration>,
    /// It goes to lower counts, then to higher ones, then back.
    leg: Leg,
    /// It is behind since then.
    held_since: Option<Duration>,
    /// Its own limit of how hard it may push, to be put back.
    torque: Option<i64>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Leg {
    #[default]
    Begin,
    Down,
    Up,
    Back,
}

/// It is held up when it is behind for so long.
const HELD_FOR: Duration = Duration::from_millis(150);
/// It is told a new goal this often.
const CREEPS: Duration = Duration::from_millis(20);

impl Work {
    /// Where it is, by its own word.
    fn place(&mut self, line: &mut dyn Stream, clock: &dyn Clock, id: u8) -> Result<f64, BusError> {
        let position = self.map.position;
        match self.read(line, clock, id, position)? {
            #[expect(clippy::cast_precision_loss, reason = "a place has 16 bits")]
            Some(at) => Ok(at as f64),
            None => Err(super::failed("hear", Fault::Silent)),
        }
    }

    /// Tells it a place, as fast as it is to creep.
    fn creep_to(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        feel: &Feel,
        to: f64,
    ) -> Result<bool, BusError> {
        let mut bytes = Vec::with_capacity(8);
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a saturating cast, wanted here"
        )]
        let target = (to + 0.5) as u16;
        // A little faster than the goal moves: else it would be behind of itself.
        let speed = self.map.speed_steps(f64::from(feel.speed) * 2.0);
        self.map.goal(target.clamp(feel.within.0, feel.within.1), speed, &mut bytes);
        let ask = Ask::Write { address: self.map.goal_place().0, bytes: &bytes };
        Ok(matches!(self.ask(line, clock, (feel.id, &ask, 0))?, Heard::Answer(_)))
    }

    /// Stiff where it is, pushing no harder than it may.
    fn feel_begins(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        feel: &Feel,
    ) -> Result<Result<(), String>, BusError> {
        let id = feel.id;
        if let Err(why) = self.is_of_layout(line, clock, id)? {
            return Ok(Err(why));
        }
        let Some((torque, most)) = self.map.torque_limit else {
            return Ok(Err("this layout has no torque limit".to_owned()));
        };
        if self.map.keeps(torque.at) {
            return Ok(
                Err("the torque limit is kept in memory in this layout: it is not written".to_owned()),
            );
        }
        let here = self.place(line, clock, id)?;
        let Some(own) = self.read(line, clock, id, torque)? else {
            return Ok(Err("it does not report its torque limit".to_owned()));
        };
        let gentle = i64::from(most) * i64::from(feel.push) / 100;
        self.write(line, clock, id, (torque, gentle.max(1)))?;
        if self.read(line, clock, id, torque)? != Some(gentle.max(1)) {
            return Ok(Err("it does not accept a torque limit; it stays limp".to_owned()));
        }
        (self.creep.from, self.creep.goal, self.creep.torque) = (here, here, Some(own));
        // From the goal on it may drive, whatever is heard of it.
        self.drives = Some(id);
        self.creep_to(line, clock, feel, here)?;
        self.write(line, clock, id, (self.map.drive, 1))?;
        if self.read(line, clock, id, self.map.drive)? != Some(1) {
            self.rest(line, clock, feel)?;
            return Ok(Err("it does not drive".to_owned()));
        }
        Ok(Ok(()))
    }

    /// Limp again, pushing as hard as before, both read back.
    fn rest(&mut self, line: &mut dyn Stream, clock: &dyn Clock, feel: &Feel) -> Result<(), BusError> {
        let id = feel.id;
        self.write(line, clock, id, (self.map.drive, 0))?;
        if self.read(line, clock, id, self.map.drive)? != Some(0) {
            return Err(super::failed("make limp the servo of", Fault::Silent));
        }
        self.drives = None;
        if let (Some((torque, _)), Some(own)) = (self.map.torque_limit, self.creep.torque.take()) {
            self.write(line, clock, id, (torque, own))?;
            if self.read(line, clock, id, torque)? != Some(own) {
                return Err(super::failed("read back the torque limit of", Fault::Foreign));
            }
        }
        Ok(())
    }

    /// A little further outwards; none while it goes on.
    fn feel(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        feel: &Feel,
    ) -> Result<Option<Result<String, String>>, BusError> {
        if self.creep.leg == Leg::Begin {
            if let Err(why) = self.feel_begins(line, clock, feel)? {
                return Ok(Some(Err(why)));
            }
            self.creep.leg = Leg::Down;
        }
        let now = clock.now();
        let passed = match self.creep.at {
            Some(at) if now < at + CREEPS => {
                clock.wait((at + CREEPS).saturating_sub(now));
                CREEPS
            }
            Some(at) => now.saturating_sub(at),
            None => CREEPS,
        };
        self.creep.at = Some(clock.now());
        let here = self.place(line, clock, feel.id)?;
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a saturating cast, wanted here"
        )]
        let whole = (here + 0.5) as u16;
        self.errand.lock().feels.at = Some(whole);
        let (low, high) = (f64::from(feel.within.0), f64::from(feel.within.1));
        let towards = match self.creep.leg {
            Leg::Down => low,
            Leg::Up => high,
            Leg::Begin | Leg::Back => self.creep.from,
        };
        let is_behind = (self.creep.goal - here).abs() > f64::from(feel.behind);
        let now = clock.now();
        self.creep.held_since = if is_behind { self.creep.held_since.or(Some(now)) } else { None };
        let is_held = self.creep.held_since.is_some_and(|since| now.saturating_sub(since) >= HELD_FOR);
        let is_there =
            (towards - here).abs() <= f64::from(feel.behind) && (self.creep.goal - towards).abs() < 1.0;
        if is_held || is_there {
            match self.creep.leg {
                Leg::Down => self.errand.lock().feels.low = Some((whole, is_held)),
                Leg::Up => self.errand.lock().feels.high = Some((whole, is_held)),
                Leg::Begin | Leg::Back => {
                    self.rest(line, clock, feel)?;
                    return Ok(Some(Ok("felt both ends; it is limp again, read back".to_owned())));
                }
            }
            self.creep.leg = if self.creep.leg == Leg::Down { Leg::Up } else { Leg::Back };
            // Off the stop at once: it goes on from where it is.
            (self.creep.goal, self.creep.held_since) = (here, None);
        } else if !is_behind {
            let step = f64::from(feel.speed) * passed.min(CREEPS * 5).as_secs_f64();
            let way = towards - self.creep.goal;
            self.creep.goal += way.clamp(-step, step);
        }
        let goal = self.creep.goal;
        self.creep_to(line, clock, feel, goal)?;
        Ok(None)
    }
}

/// What is said of a change that could not be read back.
fn undone(is_back: bool, new: &str, old: &str) -> String {
    if is_back {
        format!("it did not answer with {new}; it was set back, and answers with {old}, read back")
    } else {
        format!(
            "it answers neither with {new} nor with {old}; look for it at every id and rate, it may be there"
        )
    }
}

/// What was felt so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Felt {
    /// Its present position.
    pub at: Option<u16>,
    /// Where it was held up at lower counts, and whether it was: else it has come to the end of its endpoints.
    pub low: Option<(u16, bool)>,
    /// The same at higher counts.
    pub high: Option<(u16, bool)>,
}

/// Who was found, in one sentence.
fn sum(found: &[Found]) -> String {
    let twins = found.iter().filter(|found| found.is_twins()).count();
    let servos = match found.len() {
        0 => "no servo answers: check their supply; they may use another rate, or a layout of the other form"
            .to_owned(),
        1 => "one servo answers".to_owned(),
        many => format!("{many} servos answer"),
    };
    match twins {
        0 => servos,
        1 => format!("{servos}; two seem to share one id"),
        many => format!("{servos}; two seem to share each of {many} ids"),
    }
}
