//! The driver of a bus of smart servos: who is there, what they are told, where they say they are.
//!
//! One request is open at a time. A service sends at most one and hears what came of the one before; goals go to all at
//! once and are answered by nobody, so they may go out while an answer is still on its way through the adapter. Nothing
//! is written before a servo has said which model it is. What is kept in memory is never written here.

pub mod errand;
mod seat;

use crate::board::{
    self, Decision, Driver, Evidence, Feedback, Found, Noted, Orders, Phase, Stand, Stay, Wanted,
};
use crate::clock::Clock;
use crate::i2c::{BusError, Fault};
use crate::serial::{Got, Stream};
use errand::{Errand, Work};
use seat::{Request, Seat, Step};
use std::sync::Arc;
use std::time::Duration;
use wasvolta_wire::smart::exchange::{Echo, Exchange, Expected, Happened, Seen, Timing};
use wasvolta_wire::smart::map::Map;
use wasvolta_wire::smart::{Answer, Ask, EVERYONE, Form};

/// A frame: goals go out this often at most, and everyone is asked where it is once in it where that fits.
pub const FRAME: Duration = Duration::from_millis(20);
/// Less than a frame: what was told late in one beat must not put off what is told in the next.
const TELLS_APART: Duration = Duration::from_millis(15);
/// The rate of a bus unless its port says another.
pub const USUAL_BAUD: u32 = 1_000_000;
/// What a servo waits before it answers, before it has said so: the most that the register takes.
pub const USUAL_RETURN_DELAY: Duration = Duration::from_micros(510);
/// Time between the first drives of two servos, so that they do not all draw at once.
const ENGAGE_APART: Duration = Duration::from_millis(80);
/// How a servo is, is looked at this often.
const LOOK_EVERY: Duration = Duration::from_millis(500);
/// A servo that lags behind its goal is to be there in this time.
const CATCH_UP: f64 = 0.05;
/// A servo this near to its goal is there, in counts.
const NEAR: f64 = 2.0;
/// What the adapter and the system add to an answer that comes at once.
const MARGIN: Duration = Duration::from_millis(1);
/// Answers are waited for here no longer than a moment beyond when they should be on the wire; the rest by coming back.
const COME_BACK: Duration = Duration::from_millis(1);

/// A servo that the rig has on a bus.
#[derive(Debug, Clone, PartialEq)]
pub struct SmartServo {
    /// Its id on the bus, 0 to 252.
    pub id: u8,
    /// The model that it said it is when it was added.
    pub model: Option<u16>,
    /// The fastest that it may be told to go, in counts a second.
    pub most: f64,
}

/// What a bus is to be.
#[derive(Debug, Clone, PartialEq)]
pub struct SmartSettings {
    /// Where the registers of its servos stand.
    pub map: Map,
    /// Bits a second.
    pub baud: u32,
    /// How long its adapter sits on bytes.
    pub adapter: Duration,
    /// Its servos, by id.
    pub servos: Vec<SmartServo>,
}

/// What was seen on a bus.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct BusSeen {
    /// Requests and answers.
    pub seen: Seen,
    /// Whether the line gives back what is sent.
    pub echo: Echo,
    /// How often each of those that answer was asked lately where it is, in times a second; none before it is known.
    pub hertz: Option<f64>,
    /// The share of the time in which the bus was in use lately, 0–1.
    pub used: f64,
    /// The longest time that one of them waits before it answers.
    pub return_delay: Duration,
    /// It is lent to an errand, and nobody is told anything meanwhile.
    pub lent: bool,
}

/// What the request that is open is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Doing {
    /// The next step of one servo.
    Step(u8),
    /// Where all of them are.
    Places,
    /// Where one is.
    Place(u8),
    /// How one is.
    Look(u8),
}

/// See the module.
#[derive(Debug)]
pub struct Smart {
    settings: Arc<SmartSettings>,
    exchange: Exchange,
    seats: Vec<Seat>,
    phase: Phase,
    doing: Option<Doing>,
    /// Answers of the open request are on the wire by then, if any come.
    on_wire: Duration,
    was_up: bool,
    engaged_at: Option<Duration>,
    told_at: Option<Duration>,
    /// When everyone was asked last where it is, and who was asked last of those that are asked one by one.
    places_at: Option<Duration>,
    last_place: u8,
    /// Rounds in which everyone was asked where it is, and since when they are counted.
    rounds: (u32, Duration, Option<f64>),
    /// Time on the wire since then.
    busy: (Duration, Duration, f64),
    bytes: Vec<u8>,
    parts: Vec<u8>,
    ids: Vec<u8>,
    /// What says how a servo is.
    looks: Vec<(u16, u16)>,
    /// The rate that the line was set to; none before it was, for it may be opened at another.
    spoken: Option<u32>,
    /// A round has ended: one may be asked how it is.
    owes_look: bool,
    /// What the bus is lent for, and what it was lent for last.
    errand: Option<Work>,
    errand_before: Option<Arc<Errand>>,
}

fn failed(doing: &'static str, fault: Fault) -> BusError {
    BusError { doing, device: "the servos on this line".to_owned(), fault }
}

impl Smart {
    fn new(settings: Arc<SmartSettings>) -> Self {
        let seats = settings.servos.iter().map(Seat::of).collect();
        let looks = settings.map.looks();
        Self {
            exchange: Exchange::new(settings.map.form),
            settings,
            seats,
            phase: Phase::Down,
            doing: None,
            on_wire: Duration::ZERO,
            was_up: false,
            engaged_at: None,
            told_at: None,
            places_at: None,
            last_place: 0,
            rounds: (0, Duration::ZERO, None),
            busy: (Duration::ZERO, Duration::ZERO, 0.0),
            bytes: Vec::with_capacity(64),
            parts: Vec::with_capacity(512),
            ids: Vec::with_capacity(64),
            looks,
            spoken: None,
            owes_look: false,
            errand: None,
            errand_before: None,
        }
    }

    /// The longest time that one of them waits before it answers.
    fn return_delay(&self) -> Duration {
        self.seats.iter().map(|seat| seat.return_delay).max().unwrap_or_default()
    }

    /// The times of a line, with the longest return delay that any of them has.
    fn timing(&self) -> Timing {
        let longest = self.return_delay();
        let latency = Timing::LATENCY.max(self.settings.adapter + Duration::from_millis(4));
        Timing { baud: self.settings.baud, return_delay: longest, latency }
    }

    fn seat(&mut self, id: u8) -> Option<&mut Seat> {
        self.seats.iter_mut().find(|seat| seat.servo.id == id)
    }

    /// Sends a request; what comes of it is heard later.
    fn ask(
        &mut self,
        line: &mut dyn Stream,
        now: Duration,
        (id, ask): (u8, &Ask<'_>),
        expected: Expected<'_>,
    ) -> Result<(), BusError> {
        let timing = self.timing();
        let (count, data) = match expected {
            Expected::Nobody => (0, 0),
            Expected::Each(ids, data) => (ids.len(), data),
            Expected::Anybody(data) => (1, data),
        };
        let answers = u32::try_from(count).unwrap_or(u32::MAX);
        let slot = timing.return_delay + timing.on_wire(self.exchange.form().answer_length(data));
        // What was asked so far is over: whoever answers now answers nothing.
        let sent = self.exchange.ask(now, timing, (id, ask), expected);
        let sent = sent.map_err(|_| failed("ask", Fault::Foreign))?;
        let takes = timing.on_wire(sent.len()) + slot * answers;
        line.write(sent).map_err(|fault| failed("tell", fault))?;
        self.on_wire = now + takes;
        self.busy.0 += takes;
        Ok(())
    }

    /// Tells all at once, while an answer may still be on its way through the adapter.
    fn tell(&mut self, line: &mut dyn Stream, ask: &Ask<'_>) -> Result<(), BusError> {
        let sent = self.exchange.tell((EVERYONE, ask)).map_err(|_| failed("tell", Fault::Foreign))?;
        let takes = Timing { ..Self::bare(self.settings.baud) }.on_wire(sent.len());
        line.write(sent).map_err(|fault| failed("tell", fault))?;
        self.busy.0 += takes;
        Ok(())
    }

    const fn bare(baud: u32) -> Timing {
        Timing { baud, return_delay: Duration::ZERO, latency: Timing::LATENCY }
    }

    /// Hears what has come, and waits for what should come at once.
    fn hear(&mut self, line: &mut dyn Stream, clock: &dyn Clock) -> Result<(), BusError> {
        let mut bytes = [0; 512];
        loop {
            let now = clock.now();
            match line.read(&mut bytes) {
                Got::Bytes(count) => {
                    self.exchange.hear(bytes.get(..count).unwrap_or_default(), now);
                    self.take_in(now);
                    continue;
                }
                Got::Gone => return Err(failed("hear", Fault::NoBus)),
                Got::Nothing => {}
            }
            self.exchange.pass(now);
            self.take_in(now);
            let until = self.on_wire + MARGIN;
            if !self.exchange.is_open() || now >= until {
                return Ok(());
            }
            line.rest(until.saturating_sub(now), clock);
        }
    }

    /// Takes in what came of the request that is open.
    fn take_in(&mut self, now: Duration) {
        let Some(doing) = self.doing else {
            while self.exchange.take_happened().is_some() {}
            return;
        };
        let mut missed = false;
        while let Some(happened) = self.exchange.take_happened() {
            match happened {
                Happened::Answer(answer) => self.answered(doing, &answer, now),
                // Behind one that is silent in a group the others wait for it, and say nothing either.
                Happened::Missed { id, .. } | Happened::Unsure { id } if !missed => {
                    missed = true;
                    let garbled = matches!(happened, Happened::Missed { garbled: true, .. });
                    if let Some(seat) = self.seat(id) {
                        seat.missed(now, garbled);
                    }
                }
                Happened::Missed { .. } | Happened::Unsure { .. } => {}
            }
        }
        if !self.exchange.is_open() {
            self.doing = None;
        }
    }

    fn answered(&mut self, doing: Doing, answer: &Answer, now: Duration) {
        let settings = Arc::clone(&self.settings);
        let map = &settings.map;
        let looks = std::mem::take(&mut self.looks);
        if let Some(seat) = self.seat(answer.id) {
            seat.heard(map, answer);
            match doing {
                Doing::Step(_) => {
                    if seat.stepped(map, answer, now) {
                        self.engaged_at = Some(now);
                    }
                }
                Doing::Places | Doing::Place(_) => {
                    if let Some(at) = map.number(map.position, map.position.at, answer.data()) {
                        seat.is_at(map, at, now);
                    }
                }
                Doing::Look(_) => seat.looked(map, &looks, answer.data(), now),
            }
        }
        self.looks = looks;
    }
    /// What they are to be told from now on.
    fn take_orders(&mut self, orders: &Orders, now: Duration) {
        for seat in &mut self.seats {
            let id = usize::from(seat.servo.id);
            seat.take(orders.wanted.get(id), f64::from(orders.speeds.get(id)), now);
        }
    }

    /// Switches the drives off of those that are to be limp: all at once, and then each is read back.
    fn let_go(&mut self, line: &mut dyn Stream) -> Result<bool, BusError> {
        let map = &self.settings.map;
        self.parts.clear();
        for seat in self.seats.iter_mut().filter(|seat| seat.is_to_go()) {
            self.parts.push(seat.servo.id);
            map.drive.write(0, map.high_byte_first, &mut self.parts);
            seat.goes();
        }
        if self.parts.is_empty() {
            return Ok(false);
        }
        let (address, count) = (map.drive.at, u16::from(map.drive.bytes));
        let parts = std::mem::take(&mut self.parts);
        let told = self.tell(line, &Ask::GroupWrite { address, count, parts: &parts });
        self.parts = parts;
        told.map(|()| true)
    }

    /// Tells goals to all that are to be elsewhere, or elsewhere sooner.
    fn tell_goals(&mut self, line: &mut dyn Stream, now: Duration) -> Result<bool, BusError> {
        if self.told_at.is_some_and(|at| now < at + TELLS_APART) {
            return Ok(false);
        }
        let settings = Arc::clone(&self.settings);
        let map = &settings.map;
        let (address, count) = map.goal_place();
        self.parts.clear();
        for seat in &mut self.seats {
            let Some((target, speed)) = seat.next_goal(map) else { continue };
            self.parts.push(seat.servo.id);
            map.goal(target, speed, &mut self.parts);
            seat.sent = Some((target, speed));
        }
        if self.parts.is_empty() {
            return Ok(false);
        }
        // A packet has room for so many.
        let one = usize::from(count) + 1;
        let most = if map.form == Form::One { (250 - 4) / one } else { 60 };
        let parts = std::mem::take(&mut self.parts);
        let told = parts
            .chunks(one * most)
            .try_for_each(|parts| self.tell(line, &Ask::GroupWrite { address, count, parts }));
        self.parts = parts;
        self.told_at = Some(now);
        told.map(|()| true)
    }

    /// Begins the next request, if there is one to make.
    fn begin(&mut self, line: &mut dyn Stream, now: Duration) -> Result<(), BusError> {
        let may_engage = self.engaged_at.is_none_or(|at| now >= at + ENGAGE_APART)
            && !self.seats.iter().any(Seat::is_engaging);
        let started = self.phase == Phase::Started;
        let step = self.seats.iter_mut().find_map(|seat| seat.next_step(now, started, may_engage));
        if let Some((id, step)) = step {
            return self.begin_step(line, now, id, step);
        }
        // Where the rounds leave no time, one is asked between two of them how it is.
        let owed = std::mem::take(&mut self.owes_look);
        if !owed && self.begin_places(line, now)? {
            return Ok(());
        }
        let asked =
            self.seats.iter().filter(|seat| seat.wants_look(now)).min_by_key(|seat| seat.feedback.looked_at);
        let asked = asked.and_then(|seat| Some((seat.servo.id, *self.looks.get(seat.looks)?)));
        if owed && asked.is_none() {
            self.begin_places(line, now)?;
        } else if let Some((id, (address, count))) = asked {
            self.doing = Some(Doing::Look(id));
            let ask = Ask::Read { address, count };
            return self.ask(line, now, (id, &ask), Expected::Each(&[id], count.into()));
        }
        Ok(())
    }

    fn begin_step(
        &mut self,
        line: &mut dyn Stream,
        now: Duration,
        id: u8,
        step: Step,
    ) -> Result<(), BusError> {
        let settings = Arc::clone(&self.settings);
        let map = &settings.map;
        let mut bytes = std::mem::take(&mut self.bytes);
        bytes.clear();
        let request = self.seat(id).map(|seat| seat.request(step, map, &mut bytes));
        self.doing = Some(Doing::Step(id));
        let asked = match request {
            Some(Request::Read { address, count }) => {
                let ask = Ask::Read { address, count };
                self.ask(line, now, (id, &ask), Expected::Each(&[id], count.into()))
            }
            Some(Request::Write { address }) => {
                let ask = Ask::Write { address, bytes: &bytes };
                self.ask(line, now, (id, &ask), Expected::Each(&[id], 0))
            }
            None => Ok(()),
        };
        self.bytes = bytes;
        asked
    }

    /// Asks where they are: all at once where the form can, else one after the other.
    fn begin_places(&mut self, line: &mut dyn Stream, now: Duration) -> Result<bool, BusError> {
        let map = &self.settings.map;
        let (address, count) = (map.position.at, u16::from(map.position.bytes));
        let mut ids = std::mem::take(&mut self.ids);
        ids.clear();
        ids.extend(self.seats.iter().filter(|seat| seat.is_in_round()).map(|seat| seat.servo.id));
        let due = self.places_at.is_none_or(|at| now >= at + FRAME);
        let mut begun = Ok(false);
        if map.form == Form::Two && ids.len() > 1 {
            if due {
                self.places_at = Some(now);
                self.count_round(now);
                self.doing = Some(Doing::Places);
                self.owes_look = true;
                let ask = Ask::GroupRead { address, count, ids: &ids };
                begun =
                    self.ask(line, now, (EVERYONE, &ask), Expected::Each(&ids, count.into())).map(|()| true);
            }
        } else if let Some(id) = ids.iter().copied().find(|id| *id > self.last_place).or(ids.first().copied())
        {
            // A round begins once a frame, or when the one before it is over.
            let first = ids.first() == Some(&id);
            if due || !first {
                if first {
                    self.places_at = Some(now);
                    self.count_round(now);
                }
                self.last_place = id;
                self.owes_look = ids.last() == Some(&id);
                self.doing = Some(Doing::Place(id));
                let ask = Ask::Read { address, count };
                begun = self.ask(line, now, (id, &ask), Expected::Each(&[id], count.into())).map(|()| true);
            }
        }
        self.ids = ids;
        begun
    }

    fn count_round(&mut self, now: Duration) {
        const OVER: Duration = Duration::from_secs(1);
        let (rounds, since, hertz) = &mut self.rounds;
        let passed = now.saturating_sub(*since);
        if passed >= OVER {
            *hertz = (*rounds > 0).then(|| f64::from(*rounds) / passed.as_secs_f64());
            (*rounds, *since) = (0, now);
            let (busy, _, used) = &mut self.busy;
            *used = busy.as_secs_f64() / passed.as_secs_f64();
            *busy = Duration::ZERO;
        }
        *rounds += 1;
    }

    /// Whether everyone was asked for who it is, and has said so or not.
    fn is_acquainted(&self) -> bool {
        self.seats.iter().all(Seat::is_acquainted)
    }

    /// Everyone was asked: goes on, or asks about those that drive already.
    fn come_up(&mut self) -> Noted {
        let strangers =
            self.seats.iter().filter(|seat| seat.feedback.stand == Stand::Stiff && seat.sent.is_none());
        let ticks: Wanted = strangers.map(|seat| (usize::from(seat.servo.id), Some(seat.here()))).collect();
        if ticks.used().next().is_some() {
            self.phase = Phase::Asking(Found::Pulsing { ticks, adoptable: true });
            return Noted::Asks;
        }
        self.phase = Phase::Started;
        if std::mem::replace(&mut self.was_up, true) { Noted::Resumed } else { Noted::Started }
    }

    /// Lets an errand go on, if the bus is lent to one; whether it was.
    fn is_lent(&mut self, line: &mut dyn Stream, clock: &dyn Clock) -> bool {
        let Some(work) = &mut self.errand else { return false };
        self.doing = None;
        let over = work.go_on(line, clock);
        if let Some(id) = work.drives()
            && let Some(seat) = self.seats.iter_mut().find(|seat| seat.servo.id == id)
        {
            // At the end it must be made limp like any other.
            seat.feedback.stand = Stand::Stiff;
            if let Some(at) = work.place_now() {
                seat.is_at(&self.settings.map, at.into(), clock.now());
            }
        }
        if over {
            let left = work.drives();
            self.errand = None;
            if let Some(seat) = left.and_then(|id| self.seat(id)) {
                // It could not be made limp: that is tried again.
                seat.stops = true;
            }
            // Whoever is there now is got to know anew.
            self.exchange = Exchange::new(self.settings.map.form);
            self.seats.iter_mut().for_each(Seat::lost);
        }
        true
    }

    /// One request and its end, with nothing else meanwhile: for a release and what is read back then.
    fn at_once(
        &mut self,
        line: &mut dyn Stream,
        clock: &dyn Clock,
        (id, ask): (u8, &Ask<'_>),
        data: usize,
    ) -> Result<Option<Answer>, BusError> {
        self.doing = None;
        let timing = self.timing();
        Ok(match errand::once(&mut self.exchange, line, clock, timing, (id, ask, data))? {
            Some(Happened::Answer(answer)) => Some(answer),
            _ => None,
        })
    }

    /// Whether one drives, by its own word; none where it does not say.
    fn drives(&mut self, line: &mut dyn Stream, clock: &dyn Clock, id: u8) -> Result<Option<bool>, BusError> {
        let map = Arc::clone(&self.settings);
        let drive = map.map.drive;
        let ask = Ask::Read { address: drive.at, count: drive.bytes.into() };
        for _ in 0..TRIES {
            if let Some(answer) = self.at_once(line, clock, (id, &ask), drive.bytes.into())? {
                return Ok(map.map.number(drive, drive.at, answer.data()).map(|value| value != 0));
            }
        }
        Ok(None)
    }
}

/// A question that matters is put so often.
const TRIES: u32 = 3;

impl Driver for Smart {
    type Way = Box<dyn Stream>;

    fn of(settings: &board::BoardSettings) -> Option<Self> {
        match settings {
            board::BoardSettings::Smart(settings) => Some(Self::new(Arc::clone(settings))),
            _ => None,
        }
    }

    fn is_for(&self, settings: &board::BoardSettings) -> bool {
        matches!(settings, board::BoardSettings::Smart(_))
    }

    fn configure(&mut self, settings: &board::BoardSettings) {
        let board::BoardSettings::Smart(settings) = settings else { return };
        if Arc::ptr_eq(settings, &self.settings) || **settings == *self.settings {
            return;
        }
        if settings.map != self.settings.map {
            // Other registers: everyone is got to know anew, and nothing is told meanwhile.
            self.looks = settings.map.looks();
            self.exchange = Exchange::new(settings.map.form);
            self.seats.iter_mut().for_each(Seat::forget);
            self.doing = None;
        }
        let mut before = std::mem::take(&mut self.seats);
        for servo in &settings.servos {
            let same = before.iter().position(|seat| seat.servo.id == servo.id);
            let seat = match same.map(|place| before.swap_remove(place)) {
                Some(seat) => seat.with(servo),
                None => Seat::of(servo),
            };
            self.seats.push(seat);
        }
        // What the rig has no more is let go before it is forgotten.
        self.seats.extend(before.into_iter().filter_map(Seat::leaving));
        self.settings = Arc::clone(settings);
    }

    fn phase(&self) -> Phase {
        self.phase.clone()
    }

    fn sent(&self) -> Wanted {
        self.seats.iter().map(|seat| (usize::from(seat.servo.id), seat.told())).collect()
    }

    fn evidence(&self) -> Option<Evidence> {
        let (seen, echo) = (self.exchange.seen(), self.exchange.echo());
        Some(Evidence::Smart(BusSeen {
            seen,
            echo,
            hertz: self.rounds.2,
            used: self.busy.2,
            return_delay: self.return_delay(),
            lent: self.errand.is_some(),
        }))
    }

    fn lost(&mut self) {
        self.phase = Phase::Down;
        self.spoken = None;
        self.doing = None;
        self.exchange = Exchange::new(self.settings.map.form);
        self.seats.iter_mut().for_each(Seat::lost);
    }

    fn decide(&mut self, decision: Decision, _: &mut Box<dyn Stream>, _: &dyn Clock) -> Result<(), BusError> {
        let Phase::Asking(Found::Pulsing { ticks, .. }) = &self.phase else { return Ok(()) };
        for seat in &mut self.seats {
            let Some(at) = ticks.get(usize::from(seat.servo.id)) else { continue };
            seat.decided(decision, at);
        }
        (self.phase, self.was_up) = (Phase::Started, true);
        Ok(())
    }

    fn read_back(&mut self, line: &mut Box<dyn Stream>, clock: &dyn Clock) -> Result<bool, BusError> {
        let asked: Vec<u8> =
            self.seats.iter().filter(|seat| seat.may_drive()).map(|seat| seat.servo.id).collect();
        for id in asked {
            match self.drives(&mut **line, clock, id)? {
                Some(drives) => {
                    if let Some(seat) = self.seat(id) {
                        seat.is_driven(drives);
                    }
                }
                None => return Err(failed("read back the drives of", Fault::Silent)),
            }
        }
        Ok(true)
    }

    fn service(
        &mut self,
        line: &mut Box<dyn Stream>,
        now: Duration,
        orders: &Orders,
        clock: &dyn Clock,
    ) -> Result<Noted, BusError> {
        let line = &mut **line;
        self.take_orders(orders, now);
        if self.spoken != Some(self.settings.baud) {
            line.set_baud(self.settings.baud).map_err(|fault| failed("set the rate of", fault))?;
            if self.spoken.replace(self.settings.baud).is_some() {
                // Whoever is heard at this rate is got to know anew.
                self.doing = None;
                self.exchange = Exchange::new(self.settings.map.form);
                self.seats.iter_mut().for_each(Seat::lost);
            }
        }
        if self.is_lent(line, clock) {
            return Ok(Noted::Nothing);
        }
        self.hear(line, clock)?;
        self.seats.retain(|seat| !seat.is_gone());
        // An answer that should be on the wire still is not spoken into.
        let free = !self.exchange.is_open() || clock.now() >= self.on_wire;
        let mut noted = Noted::Nothing;
        if self.phase == Phase::Down && self.is_acquainted() {
            noted = self.come_up();
        }
        if free && self.phase == Phase::Started {
            let let_go = self.let_go(line)?;
            if !let_go {
                self.tell_goals(line, now)?;
            }
        }
        if !self.exchange.is_open() {
            self.begin(line, clock.now())?;
        }
        self.hear(line, clock)?;
        Ok(noted)
    }

    fn feedback(&self, each: &mut dyn FnMut(usize, &Feedback)) {
        for seat in &self.seats {
            each(usize::from(seat.servo.id), &seat.feedback);
        }
    }

    fn errand(&mut self, errand: &Arc<Errand>) {
        if errand.is_over() || self.errand_before.as_ref().is_some_and(|before| Arc::ptr_eq(before, errand)) {
            return;
        }
        self.errand_before = Some(Arc::clone(errand));
        let driven: Vec<String> = self
            .seats
            .iter()
            .filter(|seat| seat.may_drive())
            .map(|seat| format!("id {}", seat.servo.id))
            .collect();
        if !driven.is_empty() {
            let which = driven.join(", ");
            return errand
                .end(Err(format!("{which} may be stiff: all servos of the bus must be limp first")));
        }
        if self.errand.is_some() {
            return errand.end(Err("the bus is busy with another job already".to_owned()));
        }
        let SmartSettings { map, baud, adapter, .. } = &*self.settings;
        self.errand = Some(Work::of(errand, map, *baud, *adapter));
    }

    fn due(&self, now: Duration, _wanted: &Wanted) -> Option<Duration> {
        if self.errand.is_some() {
            return Some(now);
        }
        if self.exchange.is_open() {
            return Some(now + COME_BACK);
        }
        let busy = self.seats.iter().any(|seat| seat.is_stepping(now));
        let next = [self.places_at, self.told_at].into_iter().flatten().min().map_or(now, |at| at + FRAME);
        let mid_round = self.settings.map.form == Form::One
            && self.seats.iter().any(|seat| seat.is_in_round() && seat.servo.id > self.last_place);
        let looks = self.seats.iter().any(|seat| seat.wants_look(now));
        Some(if busy || mid_round || looks { now } else { next.max(now) })
    }

    fn release(
        &mut self,
        line: &mut Box<dyn Stream>,
        stay: &Stay,
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let line = &mut **line;
        if let Some(mut work) = self.errand.take() {
            // What it began is ended by itself first; what then is still stiff, below.
            work.abandon(line, clock);
        }
        let settings = Arc::clone(&self.settings);
        let map = &settings.map;
        let mut off = Vec::new();
        map.drive.write(0, map.high_byte_first, &mut off);
        let go = |seat: &&Seat| seat.may_drive() && !stay.get(usize::from(seat.servo.id));
        let ids: Vec<u8> = self.seats.iter().filter(go).map(|seat| seat.servo.id).collect();
        if ids.is_empty() {
            return Ok(());
        }
        // All at once first, for it may matter; then each by itself, which answers.
        let parts: Vec<u8> =
            ids.iter().flat_map(|id| std::iter::once(*id).chain(off.iter().copied())).collect();
        let group = Ask::GroupWrite { address: map.drive.at, count: map.drive.bytes.into(), parts: &parts };
        self.ask(line, clock.now(), (EVERYONE, &group), Expected::Nobody)?;
        let mut first = Ok(());
        for id in ids {
            let write = Ask::Write { address: map.drive.at, bytes: &off };
            let answered = self.at_once(line, clock, (id, &write), 0)?;
            match answered {
                Some(_) => {
                    if let Some(seat) = self.seat(id) {
                        seat.is_driven(false);
                    }
                }
                None => first = first.and(Err(failed("release the servos of", Fault::Silent))),
            }
        }
        line.flush();
        first
    }
}
