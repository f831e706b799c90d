//! The simulated bench: chips on buses, servos on their channels, a log of every transfer, and the Eye.
//!
//! Time is the clock's; the bench catches up with it, a millisecond at a time, whenever it is touched.

use crate::chip::Chip;
use crate::faults::{Faults, Kind, Struck};
use crate::firmata::FirmataBoard;
use crate::journal::Journal;
use crate::plugged::{Look, Plugged, Signal};
use crate::pwm::PwmChip;
use crate::smart::SmartBus;
use crate::truth::{BoardTruth, OtherTruth, Part, ServoTruth, SmartTruth, Truth};
use std::collections::VecDeque;
use std::io::Write;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_core::rig::Ends;
use wasvolta_port::{BusError, Clock, Fault, I2cBus, Transfer};
use wasvolta_wire::expander::{ALL_CALL, CHANNELS, Channel, PRE_SCALE, SUBADR1, channel_register, mode1};
use wasvolta_wire::smart::map::Map;

const LOG_KEPT: usize = 100_000;

/// One transfer that a bus saw.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Logged {
    /// When it was, in the bench's own time.
    pub at: Duration,
    /// The address of the device, seven bits.
    pub address: u8,
    /// Whether it was a write.
    pub write: bool,
    /// The first register.
    pub register: u8,
    /// What went over the wire, whole.
    pub bytes: Vec<u8>,
}

struct Board {
    truth: BoardTruth,
    chip: Chip,
    plugged: Plugged,
    /// Faults that had their way with it in the last step.
    suffering: Vec<Kind>,
}

struct Inner {
    boards: Vec<Board>,
    others: Vec<OtherTruth>,
    firmata: Vec<(String, FirmataBoard)>,
    pwm: Vec<(String, PwmChip)>,
    smart: Vec<(String, SmartBus)>,
    smart_truths: Vec<SmartTruth>,
    seed: u64,
    log: VecDeque<Logged>,
    journal: Journal,
}

/// A bench that several handles share.
#[derive(Clone)]
pub struct Bench {
    inner: Arc<Mutex<Inner>>,
    clock: Arc<dyn Clock>,
    faults: Arc<Faults>,
}

/// Sees the bench as a person would: to a degree, with a small error of reading.
#[derive(Clone)]
pub struct Eye(Bench);

/// A bus of the bench, for the drivers.
pub struct SimBus {
    bench: Bench,
    bus: String,
}

impl Bench {
    /// A bench from its truth. Servos that the truth leaves out are drawn from `seed`.
    pub fn new(truth: &Truth, seed: u64, clock: Arc<dyn Clock>) -> Self {
        let boards = truth.boards.iter().map(|b| Board::new(b, clock.now())).collect();
        let others = truth.others.clone();
        let (firmata, pwm, smart) = (Vec::new(), Vec::new(), Vec::new());
        let smart_truths = truth.smart.clone();
        let inner = Inner {
            boards,
            others,
            firmata,
            pwm,
            smart,
            smart_truths,
            seed,
            log: VecDeque::new(),
            journal: Journal::default(),
        };
        let bench = Self { inner: Arc::new(Mutex::new(inner)), clock, faults: Arc::default() };
        for board in &truth.firmata {
            let made = bench.firmata(&board.line);
            for servo in &board.servos {
                made.put(*servo);
            }
            for (channel, at) in board.analog.iter().enumerate() {
                made.set_analog(channel, *at);
            }
        }
        bench
    }

    /// Makes sure that a board with servos stands on a bus; what is there already stays.
    pub fn ensure(&self, bus: &str, address: u8, channels: &[u8]) {
        let servos: Vec<_> = channels.iter().map(|channel| (*channel, Part::Servo)).collect();
        self.ensure_parts(bus, address, &servos);
    }

    /// Makes sure that a board with these parts stands on a bus.
    pub fn ensure_parts(&self, bus: &str, address: u8, parts: &[(u8, Part)]) {
        let now = self.clock.now();
        let mut inner = self.lock();
        let seed = inner.seed;
        if !inner.boards.iter().any(|b| b.is_at(bus, address)) {
            let truth = BoardTruth {
                bus: bus.to_owned(),
                address,
                oscillator_hz: 25e6,
                running: vec![],
                servos: vec![],
            };
            inner.boards.push(Board::new(&truth, now));
        }
        let Some(board) = inner.boards.iter_mut().find(|b| b.is_at(bus, address)) else { return };
        for &(channel, part) in parts {
            board.plugged.ensure(seed, channel, part);
        }
    }

    /// The microcontroller on a line; it is made when it is not there yet.
    pub fn firmata(&self, line: &str) -> FirmataBoard {
        let mut inner = self.lock();
        if let Some((_, board)) = inner.firmata.iter().find(|(name, _)| name == line) {
            return board.clone();
        }
        let board = FirmataBoard::new(inner.seed, Arc::clone(&self.clock), Arc::clone(&self.faults));
        inner.firmata.push((line.to_owned(), board.clone()));
        board
    }

    /// The bus of smart servos on a line, with registers as that map has them; it is made when it is not there yet.
    pub fn smart(&self, line: &str, map: &Map) -> SmartBus {
        let mut inner = self.lock();
        if let Some((_, bus)) = inner.smart.iter().find(|(name, _)| name == line) {
            return bus.clone();
        }
        let bus = SmartBus::new(map.clone(), inner.seed, Arc::clone(&self.clock), Arc::clone(&self.faults));
        let truths = inner.smart_truths.iter().filter(|truth| truth.line == line);
        truths.flat_map(|truth| &truth.servos).for_each(|servo| bus.put(*servo));
        bus.log_to(line, inner.journal.clone());
        inner.smart.push((line.to_owned(), bus.clone()));
        bus
    }

    /// The bus of smart servos on a line, if one was made.
    pub fn smart_bus(&self, line: &str) -> Option<SmartBus> {
        self.lock().smart.iter().find(|(name, _)| name == line).map(|(_, bus)| bus.clone())
    }

    /// The kernel's PWM chip of a name; it is made when it is not there yet.
    pub fn pwm(&self, name: &str) -> PwmChip {
        let mut inner = self.lock();
        if let Some((_, chip)) = inner.pwm.iter().find(|(other, _)| other == name) {
            return chip.clone();
        }
        let chip = PwmChip::new(inner.seed, Arc::clone(&self.clock), Arc::clone(&self.faults));
        inner.pwm.push((name.to_owned(), chip.clone()));
        chip
    }

    /// Writes every transfer as a line of text to `sink` too.
    pub fn log_to(&self, sink: Box<dyn Write + Send>) {
        self.lock().journal.begin(sink);
    }

    /// A bus of this bench.
    pub fn bus(&self, name: &str) -> SimBus {
        SimBus { bench: self.clone(), bus: name.to_owned() }
    }

    /// Opens a bus as its path would be opened.
    ///
    /// # Errors
    /// When a fault keeps it from being opened.
    pub fn open(&self, name: &str) -> Result<SimBus, BusError> {
        match self.faults.at_opening() {
            Some(fault) => Err(BusError { doing: "open", device: format!("sim:{name}"), fault }),
            None => Ok(self.bus(name)),
        }
    }

    /// Eyes on this bench.
    pub fn eye(&self) -> Eye {
        Eye(self.clone())
    }

    /// The faults that can be switched on.
    pub fn faults(&self) -> &Faults {
        &self.faults
    }

    /// Cuts a board's supply for a moment.
    pub fn power_cycle(&self, bus: &str, address: u8) {
        if let Some(board) = self.lock().boards.iter_mut().find(|b| b.is_at(bus, address)) {
            board.chip.power_cycle();
        }
    }

    /// Every transfer so far, oldest first; of very many only the newest.
    pub fn log(&self) -> Vec<Logged> {
        self.lock().log.iter().cloned().collect()
    }

    /// The pulse a channel gets now, in µs, for tests.
    pub fn pulse_us(&self, bus: &str, address: u8, channel: usize) -> Option<f64> {
        let inner = self.caught_up();
        let board = inner.boards.iter().find(|b| b.is_at(bus, address))?;
        board.chip.pulse(channel, board.plugged.at()).map(|s| s * 1e6)
    }

    /// A servo's hidden truth, for tests that judge what was found out.
    pub fn truth(&self, bus: &str, address: u8, channel: u8) -> Option<ServoTruth> {
        let inner = self.lock();
        let board = inner.boards.iter().find(|b| b.is_at(bus, address))?;
        board.plugged.truth(channel)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        // A bench whose user panicked is still a bench, and must still be released.
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn caught_up(&self) -> MutexGuard<'_, Inner> {
        let (now, faults) = (self.clock.now(), self.faults.on());
        let mut inner = self.lock();
        inner.catch_up(now, &faults);
        inner
    }
}

impl Board {
    fn new(truth: &BoardTruth, now: Duration) -> Self {
        let mut chip = Chip::new(truth.oscillator_hz);
        if !truth.running.is_empty() {
            chip.write(0, &[0x30], now);
            chip.write(254, &[121], now);
            chip.write(0, &[0x20], now);
            for &Ends { low: channel, high: ticks } in &truth.running {
                let channel = usize::from(channel);
                chip.write(channel_register(channel), &Channel::Pulse { on: 0, ticks }.emit(), now);
            }
        }
        let mut plugged = Plugged::new(now);
        truth.servos.iter().for_each(|servo| plugged.put(*servo));
        Self { truth: truth.clone(), chip, plugged, suffering: Vec::new() }
    }

    fn is_at(&self, bus: &str, address: u8) -> bool {
        self.truth.bus == bus && self.truth.address == address
    }

    /// Faults that strike this board or a part of it.
    fn struck_by(&self, faults: &[Struck]) -> Vec<Kind> {
        faults.iter().filter(|f| f.strikes(f.kind, self.truth.address)).map(|f| f.kind).collect()
    }

    /// What faults do to the chip when they begin and when they end.
    fn suffer(&mut self, faults: &[Struck], at: Duration) {
        let now = self.struck_by(faults);
        if now == self.suffering {
            return;
        }
        let before = std::mem::replace(&mut self.suffering, now);
        for begun in self.suffering.iter().filter(|kind| !before.contains(kind)) {
            match begun {
                Kind::Oscillator => self.chip.set_oscillator(self.truth.oscillator_hz * FAST),
                Kind::WrongChip => self.chip.write(SUBADR1.address, &[0xA5], at),
                _ => {}
            }
        }
        for ended in before.iter().filter(|kind| !self.suffering.contains(kind)) {
            match ended {
                Kind::Pulled | Kind::WrongChip => self.chip.power_cycle(),
                Kind::Oscillator => self.chip.set_oscillator(self.truth.oscillator_hz),
                _ => {}
            }
        }
    }

    /// A millisecond passes.
    fn step(&mut self, at: Duration, faults: &[Struck]) {
        let every = |period: Duration| at.as_millis().is_multiple_of(period.as_millis());
        for kind in &self.suffering {
            match kind {
                Kind::Resets if every(RESETS) => self.chip.power_cycle(),
                Kind::Asleep if every(MEDDLES) => self.chip.write(0, &[mode1::SLEEP | mode1::AI], at),
                Kind::OtherRate if every(MEDDLES) => {
                    self.chip.write(0, &[mode1::SLEEP | mode1::AI], at);
                    self.chip.write(PRE_SCALE.address, &[OTHER_PRESCALE], at);
                    self.chip.write(0, &[mode1::AI], at);
                }
                Kind::Overwritten if every(MEDDLES) => {
                    for channel in 0..CHANNELS {
                        let other = Channel::Pulse { on: 0, ticks: OTHER_TICKS };
                        self.chip.write(channel_register(channel), &other.emit(), at);
                    }
                }
                _ => {}
            }
        }
        let (address, chip) = (self.truth.address, &self.chip);
        let Some(frame) = chip.frame_hz().map(|hz| 1.0 / hz) else { return self.plugged.step(|_| None) };
        self.plugged.step(|channel| {
            let cut_off = [Kind::RailDip, Kind::PlugOut];
            let limp = faults.iter().any(|f| cut_off.iter().any(|kind| f.hits(*kind, address, channel)));
            chip.pulse(channel, at).filter(|_| !limp).map(|high| Signal { high, frame })
        });
    }
}

/// How often a board loses its supply.
const RESETS: Duration = Duration::from_secs(3);
/// How often something else has its way with a chip.
const MEDDLES: Duration = Duration::from_millis(100);
/// 60 Hz at 25 MHz.
const OTHER_PRESCALE: u8 = 101;
const OTHER_TICKS: u16 = 250;
const FAST: f64 = 1.05;

impl Inner {
    fn catch_up(&mut self, now: Duration, faults: &[Struck]) {
        for board in &mut self.boards {
            board.suffer(faults, now);
            while let Some(at) = board.plugged.next_step(now) {
                board.step(at, faults);
            }
        }
    }

    /// The boards that hear an address: one, or at the all-call address every one that listens to it.
    fn hearing(&mut self, bus: &str, address: u8) -> Vec<&mut Board> {
        let own = self.boards.iter().any(|b| b.is_at(bus, address));
        let all = address == ALL_CALL && !own;
        let hears = |b: &&mut Board| {
            b.is_at(bus, address) || (all && b.truth.bus == bus && b.chip.answers_all_call())
        };
        self.boards.iter_mut().filter(hears).collect()
    }

    fn note(&mut self, entry: Logged) {
        let verb = if entry.write { "write" } else { "read" };
        let what = format_args!("{:#04x} {verb} {}", entry.address, entry.register);
        self.journal.line(entry.at, what, &entry.bytes);
        if self.log.len() == LOG_KEPT {
            self.log.pop_front();
        }
        self.log.push_back(entry);
    }
}

impl Eye {
    /// One look at the servo on a microcontroller's pin.
    pub fn look_at_pin(&self, line: &str, pin: u8) -> Option<Look> {
        let board = self.0.lock().firmata.iter().find(|(name, _)| name == line)?.1.clone();
        board.look(pin)
    }

    /// One look at a smart servo by its id.
    pub fn look_at_smart(&self, line: &str, id: u8) -> Option<Look> {
        self.0.smart_bus(line)?.look(id)
    }

    /// One look at the servo on a channel of the kernel's PWM chip.
    pub fn look_at_pwm(&self, name: &str, channel: u8) -> Option<Look> {
        let chip = self.0.lock().pwm.iter().find(|(other, _)| other == name)?.1.clone();
        chip.look(channel)
    }

    /// One look at the servo on a channel.
    pub fn look(&self, bus: &str, address: u8, channel: u8) -> Option<Look> {
        let inner = self.0.caught_up();
        inner.boards.iter().find(|b| b.is_at(bus, address))?.plugged.look(channel, inner.seed)
    }

    /// What a frequency meter at a board's outputs shows, to a thousandth of a hertz.
    pub fn meter_hz(&self, bus: &str, address: u8) -> Option<f64> {
        let inner = self.0.lock();
        let hz = inner.boards.iter().find(|b| b.is_at(bus, address))?.chip.frame_hz()?;
        Some(libm::round(hz * 1000.0) / 1000.0)
    }
}

impl I2cBus for SimBus {
    fn transfer(&mut self, address: u8, mut transfer: Transfer<'_>) -> Result<(), BusError> {
        if let Some(fault) = self.bench.faults.strike(address, &*self.bench.clock) {
            return Err(BusError::transfer(address, &transfer, fault));
        }
        let mut inner = self.bench.caught_up();
        let now = self.bench.clock.now();
        let heard = inner.carry(&self.bus, address, &mut transfer, now);
        if !heard {
            return Err(BusError::transfer(address, &transfer, Fault::Absent));
        }
        let (write, bytes) = match &transfer {
            Transfer::Write { bytes, .. } => (true, bytes.to_vec()),
            Transfer::Read { into, .. } => (false, into.to_vec()),
        };
        inner.note(Logged { at: now, address, write, register: transfer.register(), bytes });
        Ok(())
    }
}

impl Inner {
    /// Lets everything at an address hear a transfer; whether anything is there.
    fn carry(&mut self, bus: &str, address: u8, transfer: &mut Transfer<'_>, now: Duration) -> bool {
        let other = self.others.iter().find(|o| o.bus == bus && o.address == address).map(|o| o.reads);
        let mut boards = self.hearing(bus, address);
        match transfer {
            Transfer::Write { register, bytes } => {
                for board in &mut boards {
                    board.chip.write(*register, bytes, now);
                }
            }
            Transfer::Read { register, into } => match (boards.first(), other) {
                (Some(board), _) => board.chip.read(*register, into),
                (None, Some(reads)) => into.fill(reads),
                (None, None) => {}
            },
        }
        !boards.is_empty() || other.is_some()
    }
}

/// Channels of a log's writes that were released last, in order; for tests of how a run ended.
pub fn released_at_the_end(log: &[Logged]) -> Vec<usize> {
    let released = Channel::Released.emit();
    let mut channels: Vec<usize> = log
        .iter()
        .rev()
        // What was told is read back behind it.
        .filter(|entry| entry.write)
        .take_while(|entry| entry.bytes == released)
        .filter_map(|entry| (0..CHANNELS).find(|&n| channel_register(n) == entry.register))
        .collect();
    channels.reverse();
    channels
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clock::ManualClock;

    #[test]
    fn an_absent_board_does_not_answer() {
        let bench = Bench::new(&Truth::default(), 1, Arc::new(ManualClock::default()));
        let error = bench.bus("b").transfer(0x40, Transfer::Write { register: 0, bytes: &[0] }).unwrap_err();
        assert_eq!(error.fault, Fault::Absent);
        bench.ensure("b", 0x40, &[0, 1]);
        assert!(bench.bus("b").transfer(0x40, Transfer::Write { register: 0, bytes: &[0] }).is_ok());
        assert_eq!(bench.log().len(), 1);
    }
}
