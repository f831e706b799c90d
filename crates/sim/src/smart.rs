//! A simulated bus of smart servos: registers, packets and times as on the wire, and bodies that weigh, rub, warm up and
//! can be moved by hand.
//!
//! With its times on, every byte takes the time that it takes: what is sent leaves one byte after the other, a servo
//! waits its return delay, and whoever speaks into an answer breaks it. Without them everything is there at once.

mod body;

use crate::faults::{Faults, Kind, ON_A_BUS, Struck};
use crate::journal::Journal;
use crate::plugged::{Look, Sight, read_off};
use crate::truth::{Dice, SmartServoTruth};
use body::Body;
use std::collections::{BTreeMap, VecDeque};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::serial::{Got, Stream};
use wasvolta_port::{BusError, Clock, Fault};
use wasvolta_wire::smart::exchange::Timing;
use wasvolta_wire::smart::map::{Map, Register};
use wasvolta_wire::smart::{Ask, EVERYONE, Form, Packets};

/// The longest packet that is heard here.
const ROOM: usize = 4096;
const STEP: Duration = Duration::from_millis(1);
/// A servo that was looked at longer ago than this is not caught up for.
const LONGEST_CATCH_UP: Duration = Duration::from_secs(5);
/// What a late answer is late.
const LATE: Duration = Duration::from_millis(30);
/// How often a supply dips.
const RESETS: Duration = Duration::from_secs(3);

/// Errors of form 2.
const RANGE: u8 = 4;
const ACCESS: u8 = 7;

/// A simulated servo on the bus: registers, drive, load.
struct Servo {
    id: u8,
    /// What stands in its registers, but for what its body says.
    registers: Vec<u8>,
    prepared: Option<(u16, Vec<u8>)>,
    body: Body,
    /// Its supply is gone.
    dark: bool,
}

/// A byte on its way back, and when it arrives.
type Due = (Duration, u8);

struct Inner {
    map: Map,
    servos: Vec<Servo>,
    packets: Packets<ROOM>,
    back: VecDeque<Due>,
    /// The wire is free from then on.
    free_at: Duration,
    baud: u32,
    timed: bool,
    adapter: Duration,
    at: Duration,
    seed: u64,
    dice: Dice,
    /// Everything that was asked and answered, in its order, where that is kept.
    dialogue: Option<Vec<Said>>,
    /// Its name there, and where what passes is written.
    journal: (String, Journal),
    /// Writes to registers that are kept in memory.
    memory_writes: u64,
    /// Bytes that were sent into an answer.
    spoken_into: u64,
    /// Bytes on the wire, both ways, and return delays, since they were counted.
    used: Duration,
}

/// A packet on the wire, as bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// By a servo; else to them.
    pub back: bool,
    /// What went over the wire, whole.
    pub bytes: Vec<u8>,
}

/// A handle to a bus; all handles are the same one.
#[derive(Clone)]
pub struct SmartBus {
    inner: Arc<Mutex<Inner>>,
    clock: Arc<dyn Clock>,
    faults: Arc<Faults>,
    plug_out: Arc<AtomicBool>,
}

impl SmartBus {
    /// A bus with nobody on it.
    pub fn new(map: Map, seed: u64, clock: Arc<dyn Clock>, faults: Arc<Faults>) -> Self {
        let inner = Inner {
            packets: Packets::new(map.form),
            map,
            servos: Vec::new(),
            back: VecDeque::new(),
            free_at: Duration::ZERO,
            baud: 1_000_000,
            timed: false,
            adapter: Duration::ZERO,
            at: clock.now(),
            seed,
            dice: Dice::new(seed),
            dialogue: None,
            journal: Default::default(),
            memory_writes: 0,
            spoken_into: 0,
            used: Duration::ZERO,
        };
        Self { inner: Arc::new(Mutex::new(inner)), clock, faults, plug_out: Arc::default() }
    }

    /// Plugs in a servo as its truth says; one that is there already stays.
    pub fn put(&self, truth: SmartServoTruth) {
        let mut inner = self.lock();
        if !inner.servos.iter().any(|servo| servo.id == truth.id) {
            let servo = Servo::new(&inner.map, truth, inner.baud);
            inner.servos.push(servo);
            inner.servos.sort_by_key(|servo| servo.id);
        }
    }

    /// Makes sure that a servo is there, drawn from the seed where nothing was said of it.
    pub fn ensure(&self, id: u8, model: Option<u16>) {
        let (seed, steps) = {
            let inner = self.lock();
            (inner.seed, inner.map.steps)
        };
        self.put(SmartServoTruth {
            model: model.unwrap_or(SmartServoTruth::MODEL),
            ..SmartServoTruth::drawn(seed, id, steps)
        });
    }

    /// Everything takes the time that it takes on a wire of that rate, behind an adapter that sits on bytes.
    pub fn takes_time(&self, baud: u32, adapter: Duration) {
        let mut inner = self.lock();
        (inner.timed, inner.baud, inner.adapter) = (true, baud, adapter);
    }

    /// Its line has this rate from now on; what was on its way at another is lost.
    pub fn hears_at(&self, baud: u32) {
        let mut inner = self.lock();
        if inner.baud != baud {
            inner.baud = baud;
            inner.back.clear();
        }
    }

    /// Keeps what is said from now on.
    pub fn keeps_dialogue(&self) {
        self.lock().dialogue = Some(Vec::new());
    }

    /// Writes what passes to a journal, and what registers keep in memory, under a name for this bus.
    pub fn log_to(&self, line: &str, journal: Journal) {
        self.lock().journal = (line.to_owned(), journal);
    }

    /// What was said since it was kept, or asked for last.
    pub fn dialogue(&self) -> Vec<Said> {
        self.lock().dialogue.as_mut().map(std::mem::take).unwrap_or_default()
    }

    /// Opens its line.
    ///
    /// # Errors
    /// When a fault keeps it from being opened.
    pub fn open(&self) -> Result<SmartLine, BusError> {
        let barred = self.faults.on().into_iter().find_map(|fault| match fault.kind {
            Kind::NoBus | Kind::Absent | Kind::Pulled if fault.strikes(fault.kind, ON_A_BUS) => {
                Some(Fault::NoBus)
            }
            Kind::Denied if fault.strikes(fault.kind, ON_A_BUS) => Some(Fault::Denied),
            Kind::Held if fault.strikes(fault.kind, ON_A_BUS) => Some(Fault::Busy),
            _ => None,
        });
        if let Some(fault) = barred.or(self.is_gone().then_some(Fault::NoBus)) {
            return Err(BusError { doing: "open", device: "the simulated bus".to_owned(), fault });
        }
        self.lock().back.clear();
        Ok(SmartLine(self.clone()))
    }

    /// Pulls its plug, or puts it in again. The servos have their supply elsewhere.
    pub fn set_plugged(&self, is_in: bool) {
        self.plug_out.store(!is_in, Ordering::SeqCst);
    }

    /// Whether its plug is in.
    pub fn is_plugged(&self) -> bool {
        !self.plug_out.load(Ordering::SeqCst)
    }

    fn is_gone(&self) -> bool {
        let gone = |kind| self.faults.on().iter().any(|fault| fault.strikes(kind, ON_A_BUS));
        !self.is_plugged() || [Kind::NoBus, Kind::Absent, Kind::Pulled].into_iter().any(gone)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn caught_up(&self) -> MutexGuard<'_, Inner> {
        let (now, faults) = (self.clock.now(), self.faults.on());
        let mut inner = self.lock();
        inner.catch_up(now, &faults);
        inner
    }

    /// Takes bytes as they come over the line.
    pub fn take(&self, bytes: &[u8]) {
        let (now, faults) = (self.clock.now(), self.faults.on());
        self.caught_up().take(bytes, now, &faults);
    }

    /// Gives what has arrived, as much as there is room for.
    pub fn give(&self, into: &mut [u8]) -> usize {
        let now = self.clock.now();
        let mut inner = self.caught_up();
        let mut count = 0;
        while count < into.len()
            && let Some((_, byte)) = inner.back.front().copied().filter(|(at, _)| *at <= now)
        {
            if let Some(place) = into.get_mut(count) {
                *place = byte;
            }
            inner.back.pop_front();
            count += 1;
        }
        count
    }

    /// When the next byte arrives, if one is on its way.
    pub fn next_at(&self) -> Option<Duration> {
        self.lock().back.front().map(|(at, _)| *at)
    }

    /// Moves a servo by hand, as far as it lets itself be moved; in counts.
    pub fn move_by_hand(&self, id: u8, to: f64) {
        let mut inner = self.caught_up();
        if let Some(servo) = inner.servos.iter_mut().find(|servo| servo.id == id) {
            servo.body.move_by_hand(to);
        }
    }

    /// Where a servo really is, in counts; for tests.
    pub fn place(&self, id: u8) -> Option<f64> {
        self.caught_up().servos.iter().find(|servo| servo.id == id).map(|servo| servo.body.place)
    }

    /// Whether its drive is on; for tests.
    pub fn is_stiff(&self, id: u8) -> Option<bool> {
        let inner = self.caught_up();
        let servo = inner.servos.iter().find(|servo| servo.id == id)?;
        Some(servo.number(&inner.map, inner.map.drive) != 0)
    }

    /// What stands in a register; for tests.
    pub fn register(&self, id: u8, register: Register) -> Option<i64> {
        let inner = self.caught_up();
        let servo = inner.servos.iter().find(|servo| servo.id == id)?;
        Some(servo.number(&inner.map, register))
    }

    /// Puts something into a register from outside, as another program would; for tests.
    pub fn set_register(&self, id: u8, register: Register, value: i64) {
        let mut inner = self.caught_up();
        let map = inner.map.clone();
        if let Some(servo) = inner.servos.iter_mut().find(|servo| servo.id == id) {
            servo.set(&map, register, value);
        }
    }

    /// Writes to memory so far.
    pub fn memory_writes(&self) -> u64 {
        self.lock().memory_writes
    }

    /// Bytes that were sent into an answer so far.
    pub fn spoken_into(&self) -> u64 {
        self.lock().spoken_into
    }

    /// The time that bytes and return delays have taken since this was asked last.
    pub fn take_used(&self) -> Duration {
        std::mem::take(&mut self.lock().used)
    }

    /// One look at a servo's horn.
    pub fn look(&self, id: u8) -> Option<Look> {
        let inner = self.caught_up();
        let servo = inner.servos.iter().find(|servo| servo.id == id)?;
        Some(Look {
            sight: Sight::Horn(read_off(servo.body.horn_deg(&inner.map), inner.seed, id)),
            buzzes: servo.body.pushes(),
            twitches: false,
            joint_deg: None,
            turns: 0.0,
        })
    }
}

impl Servo {
    fn new(map: &Map, truth: SmartServoTruth, baud: u32) -> Self {
        let mut servo = Self {
            id: truth.id,
            registers: vec![0; 256],
            prepared: None,
            body: Body::new(truth),
            dark: false,
        };
        servo.set(map, map.model, i64::from(truth.model));
        servo.set(map, map.id, i64::from(truth.id));
        let number = map.bauds.iter().find(|(_, rate)| *rate == baud).map_or(0, |(number, _)| *number);
        servo.set(map, map.baud, i64::from(number));
        if let Some((delay, each)) = map.return_delay {
            let steps = truth.return_delay_us / each;
            servo.set(map, delay, body::whole(steps));
        }
        if let Some((mode, is)) = map.mode {
            servo.set(map, mode, i64::from(is));
        }
        if let Some((low, high)) = map.limits {
            servo.set(map, low, 0);
            servo.set(map, high, i64::from(map.steps) - 1);
        }
        if let Some(answers) = map.answers {
            servo.set(map, answers, 2);
        }
        servo.power_up(map);
        servo
    }

    /// What is not kept in memory is as after power-on: limp, and no speed set.
    fn power_up(&mut self, map: &Map) {
        self.set(map, map.drive, 0);
        self.set(map, map.target, body::whole(self.body.place));
        self.set(map, map.speed, 0);
        if let Some((torque, most)) = map.torque_limit {
            self.set(map, torque, i64::from(most));
        }
        if let Some(lock) = map.lock {
            self.set(map, lock, 1);
        }
        self.prepared = None;
    }

    fn set(&mut self, map: &Map, register: Register, value: i64) {
        let mut bytes = Vec::new();
        register.write(value, map.high_byte_first, &mut bytes);
        let at = usize::from(register.at);
        for (place, byte) in self.registers.iter_mut().skip(at).zip(bytes) {
            *place = byte;
        }
    }

    fn number(&self, map: &Map, register: Register) -> i64 {
        map.number(register, 0, &self.registers).unwrap_or(0)
    }

    /// What its body says is put into its registers.
    fn refresh(&mut self, map: &Map) {
        let body = &self.body;
        let (place, speed, load) = (body.place, body.speed, body.load_percent());
        let (volts, celsius, moves) = (body.volts(), body.celsius, body.moves());
        let faults = body.faults();
        self.set(map, map.position, body::whole(place));
        let put = |servo: &mut Self, of: Option<(Register, f64)>, value: f64| {
            if let Some((register, each)) = of {
                servo.set(map, register, body::whole(value / each));
            }
        };
        put(self, map.speed_now, speed);
        put(self, map.load, load);
        put(self, map.volts, volts);
        if let Some(register) = map.celsius {
            self.set(map, register, body::whole(celsius));
        }
        if let Some(register) = map.moving {
            self.set(map, register, i64::from(moves));
        }
        if let Some(register) = map.faults {
            self.set(map, register, i64::from(faults));
        }
    }

    /// What is wrong with it, as its answers say.
    fn error(&self, form: Form) -> u8 {
        match (form, self.body.faults()) {
            (Form::One, faults) => faults,
            (Form::Two, 0) => 0,
            (Form::Two, _) => 0x80,
        }
    }

    /// Writes; the number of an error of form 2, and whether that was a write to memory.
    fn write(&mut self, map: &Map, address: u16, bytes: &[u8]) -> (u8, bool) {
        let keeps = map.keeps(address);
        let driven = self.number(map, map.drive) != 0;
        if keeps && map.form == Form::Two && driven {
            return (ACCESS, false);
        }
        if keeps && map.lock.is_some_and(|lock| self.number(map, lock) != 0) {
            return (0, false);
        }
        let at = usize::from(address);
        let Some(places) = self.registers.get_mut(at..at + bytes.len()) else { return (RANGE, false) };
        places.copy_from_slice(bytes);
        let holds =
            |register: Register| address <= register.at && register.end() <= address + bytes_end(bytes);
        if holds(map.target) {
            if map.form == Form::Two && self.number(map, map.target) >= i64::from(map.steps) {
                return (RANGE, false);
            }
            // A target may itself switch the drive on.
            if map.form == Form::One {
                self.set(map, map.drive, 1);
            }
        }
        if keeps {
            self.id = u8::try_from(self.number(map, map.id)).unwrap_or(self.id);
        }
        (0, keeps)
    }

    /// A millisecond passes.
    fn step(&mut self, map: &Map, struck: &[Kind], at: Duration) {
        let dark = struck.contains(&Kind::RailDip)
            || (struck.contains(&Kind::Resets) && at.as_millis().is_multiple_of(RESETS.as_millis()));
        if dark && !self.dark {
            self.power_up(map);
        }
        self.dark = dark;
        let drives = !dark && self.number(map, map.drive) != 0;
        let torque = map.torque_limit.map_or(1.0, |(register, most)| {
            body::number(self.number(map, register)) / f64::from(most.max(1))
        });
        // 0 is no limit at all.
        let speed = match self.number(map, map.speed) {
            0 => f64::INFINITY,
            steps => body::number(steps) * map.counts_s,
        };
        let goal = body::number(self.number(map, map.target));
        let wants = drives.then_some(body::Wants { goal, speed, torque });
        self.body.step(map, wants, struck.contains(&Kind::Stuck), struck.contains(&Kind::Hot));
    }
}

fn bytes_end(bytes: &[u8]) -> u16 {
    u16::try_from(bytes.len()).unwrap_or(u16::MAX)
}

impl Inner {
    fn struck(faults: &[Struck], id: u8) -> Vec<Kind> {
        faults.iter().filter(|f| f.hits(f.kind, ON_A_BUS, usize::from(id))).map(|f| f.kind).collect()
    }

    fn catch_up(&mut self, now: Duration, faults: &[Struck]) {
        self.at = self.at.max(now.saturating_sub(LONGEST_CATCH_UP));
        let struck: BTreeMap<u8, Vec<Kind>> =
            self.servos.iter().map(|servo| (servo.id, Self::struck(faults, servo.id))).collect();
        while self.at + STEP <= now {
            self.at += STEP;
            for servo in &mut self.servos {
                servo.step(&self.map, struck.get(&servo.id).map_or(&[][..], Vec::as_slice), self.at);
            }
        }
    }

    fn timing(&self) -> Timing {
        Timing { baud: self.baud, return_delay: Duration::ZERO, latency: Duration::ZERO }
    }

    fn take(&mut self, bytes: &[u8], now: Duration, faults: &[Struck]) {
        let on = |kind: Kind| faults.iter().any(|fault| fault.strikes(kind, ON_A_BUS));
        let takes = if self.timed { self.timing().on_wire(bytes.len()) } else { Duration::ZERO };
        if self.timed && self.free_at > now && !self.back.is_empty() {
            // Somebody answers: both are lost.
            self.spoken_into += u64::try_from(bytes.len()).unwrap_or(u64::MAX);
            for (at, byte) in &mut self.back {
                if *at >= now {
                    *byte ^= 0x55;
                }
            }
            return;
        }
        self.free_at = self.free_at.max(now) + takes;
        self.used += takes;
        if on(Kind::Echo) {
            let at = self.free_at + self.adapter;
            self.back.extend(bytes.iter().map(|byte| (at, *byte)));
        }
        let mut heard = bytes.to_vec();
        if on(Kind::Noise) {
            self.spoil(&mut heard);
        }
        self.note("asked", bytes);
        if let Some(dialogue) = &mut self.dialogue {
            dialogue.push(Said { back: false, bytes: bytes.to_vec() });
        }
        let form = self.map.form;
        let mut asked: Vec<(u8, Owned)> = Vec::new();
        self.packets.feed(&heard, |packet| {
            if let Some(ask) = packet.as_ask(form) {
                asked.push((packet.id, Owned::of(&ask)));
            }
        });
        for (id, ask) in asked {
            self.hear(id, &ask, faults);
        }
    }

    fn note(&self, verb: &str, bytes: &[u8]) {
        let (line, journal) = &self.journal;
        journal.line(self.at, format_args!("{line} {verb}"), bytes);
    }

    /// Tips a bit, now and then.
    fn spoil(&mut self, bytes: &mut [u8]) {
        for byte in bytes {
            if self.dice.between(0.0, 1.0) < 0.003 {
                *byte ^= 0x10;
            }
        }
    }

    fn hear(&mut self, id: u8, ask: &Owned, faults: &[Struck]) {
        let all: Vec<u8> = self.servos.iter().map(|servo| servo.id).collect();
        match ask {
            Owned::GroupRead(address, count, ids) => {
                for id in ids {
                    // Each waits for the one before it: behind one that is silent nobody speaks.
                    if !self.obey(*id, &Owned::Read(*address, *count), true, faults) {
                        break;
                    }
                }
            }
            Owned::GroupWrite(address, count, parts) => {
                for part in parts.chunks(usize::from(*count) + 1) {
                    if let Some((id, bytes)) = part.split_first() {
                        self.obey(*id, &Owned::Write(*address, bytes.to_vec()), false, faults);
                    }
                }
            }
            ask if id == EVERYONE => {
                let answers = self.map.form == Form::Two && matches!(ask, Owned::Ping);
                for id in all {
                    self.obey(id, ask, answers, faults);
                }
            }
            ask => {
                self.obey(id, ask, true, faults);
            }
        }
    }

    /// Lets a servo do as it is asked, and answer; whether it did.
    fn obey(&mut self, id: u8, ask: &Owned, answers: bool, faults: &[Struck]) -> bool {
        let mut struck = Self::struck(faults, id);
        let form = self.map.form;
        let is_shared = self.servos.iter().filter(|servo| servo.id == id).count() > 1;
        if is_shared {
            struck.push(Kind::Twins);
        }
        let Self { map, servos, memory_writes, baud, journal: (line, journal), at, .. } = self;
        let mut keep = |address: u16, bytes: &[u8]| {
            *memory_writes += 1;
            journal.line(*at, format_args!("{line} id {id} keeps in memory from {address}:"), bytes);
        };
        let Some(servo) = servos.iter_mut().find(|servo| servo.id == id) else { return false };
        // At another rate it hears nothing but noise.
        let rate = servo.number(map, map.baud);
        let is_deaf = map.bauds.iter().any(|(number, rate_of)| i64::from(*number) == rate && rate_of != baud);
        if is_deaf || servo.dark || struck.contains(&Kind::PlugOut) || struck.contains(&Kind::Silent) {
            return false;
        }
        servo.refresh(map);
        let (mut number, mut data) = (0, Vec::new());
        match ask {
            Owned::Ping if form == Form::Two => {
                let [low, high, ..] = servo.number(map, map.model).to_le_bytes();
                data.extend([low, high, 1]);
            }
            Owned::Read(address, count) => {
                let from = usize::from(*address);
                match servo.registers.get(from..from + usize::from(*count)) {
                    Some(bytes) => data.extend_from_slice(bytes),
                    None => number = RANGE,
                }
            }
            Owned::Write(address, bytes) => {
                let (error, kept) = servo.write(map, *address, bytes);
                if kept {
                    keep(*address, bytes);
                }
                number = error;
            }
            Owned::Prepare(address, bytes) => servo.prepared = Some((*address, bytes.clone())),
            Owned::Start => {
                if let Some((address, bytes)) = servo.prepared.take() {
                    let (error, kept) = servo.write(map, address, &bytes);
                    if kept {
                        keep(address, &bytes);
                    }
                    number = error;
                }
            }
            Owned::Reboot => servo.power_up(map),
            Owned::Ping | Owned::GroupRead(..) | Owned::GroupWrite(..) => {}
        }
        let error = match form {
            Form::One => servo.error(form),
            Form::Two => servo.error(form) | number,
        };
        let what_is_answered = map.answers.map_or(2, |register| servo.number(map, register));
        let is_read = matches!(ask, Owned::Read(..));
        let curt = match what_is_answered {
            0 => !matches!(ask, Owned::Ping),
            1 => !is_read && !matches!(ask, Owned::Ping),
            _ => false,
        };
        if !answers || curt || struck.contains(&Kind::Mute) {
            return true;
        }
        let delay =
            map.return_delay.map_or(0.0, |(register, each)| body::number(servo.number(map, register)) * each);
        let answers_as =
            if matches!(ask, Owned::Write(address, _) if map.keeps(*address)) { id } else { servo.id };
        let mut bytes = Vec::new();
        form.answer(answers_as, error, &data, &mut bytes);
        self.answer(bytes, Duration::from_secs_f64(delay / 1e6), &struck);
        true
    }

    fn answer(&mut self, mut bytes: Vec<u8>, delay: Duration, struck: &[Kind]) {
        self.note("answered", &bytes);
        if let Some(dialogue) = &mut self.dialogue {
            dialogue.push(Said { back: true, bytes: bytes.clone() });
        }
        if struck.contains(&Kind::Noise) {
            self.spoil(&mut bytes);
        }
        if struck.contains(&Kind::Twins) {
            // Two speak at the same time: a wire is low where either pulls it, and they are never quite in step.
            let shifted: Vec<u8> = std::iter::once(0xFF).chain(bytes.iter().copied()).collect();
            for (place, (byte, other)) in bytes.iter_mut().zip(shifted).enumerate() {
                if place > 3 {
                    *byte &= other.rotate_left(3);
                }
            }
        }
        let late = if struck.contains(&Kind::Late) { LATE } else { Duration::ZERO };
        if !self.timed {
            let at = if late.is_zero() { Duration::ZERO } else { self.at + late };
            self.back.extend(bytes.into_iter().map(|byte| (at, byte)));
            return;
        }
        let begins = self.free_at + delay + late;
        let timing = self.timing();
        self.free_at = begins + timing.on_wire(bytes.len());
        self.used += delay + timing.on_wire(bytes.len());
        for (n, byte) in bytes.into_iter().enumerate() {
            self.back.push_back((begins + timing.on_wire(n + 1) + self.adapter, byte));
        }
    }
}

/// A request that was heard.
enum Owned {
    Ping,
    Read(u16, u16),
    Write(u16, Vec<u8>),
    Prepare(u16, Vec<u8>),
    Start,
    Reboot,
    GroupRead(u16, u16, Vec<u8>),
    GroupWrite(u16, u16, Vec<u8>),
}

impl Owned {
    fn of(ask: &Ask<'_>) -> Self {
        match *ask {
            Ask::Ping => Self::Ping,
            Ask::Read { address, count } => Self::Read(address, count),
            Ask::Write { address, bytes } => Self::Write(address, bytes.to_vec()),
            Ask::Prepare { address, bytes } => Self::Prepare(address, bytes.to_vec()),
            Ask::StartPrepared => Self::Start,
            Ask::Reboot => Self::Reboot,
            Ask::GroupRead { address, count, ids } => Self::GroupRead(address, count, ids.to_vec()),
            Ask::GroupWrite { address, count, parts } => Self::GroupWrite(address, count, parts.to_vec()),
        }
    }
}

/// An open line to a bus.
pub struct SmartLine(SmartBus);

impl Stream for SmartLine {
    fn read(&mut self, into: &mut [u8]) -> Got {
        if self.0.is_gone() {
            return Got::Gone;
        }
        match self.0.give(into) {
            0 => Got::Nothing,
            count => Got::Bytes(count),
        }
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        if self.0.is_gone() {
            return Err(Fault::NoBus);
        }
        self.0.take(bytes);
        Ok(())
    }

    fn flush(&mut self) {}

    fn set_baud(&mut self, baud: u32) -> Result<(), Fault> {
        if self.0.is_gone() {
            return Err(Fault::NoBus);
        }
        self.0.hears_at(baud);
        Ok(())
    }

    fn rest(&mut self, at_most: Duration, clock: &dyn Clock) {
        let now = clock.now();
        let next = self.0.next_at().map_or(at_most, |at| at.saturating_sub(now));
        clock.wait(next.clamp(Duration::from_nanos(1), at_most));
    }
}
