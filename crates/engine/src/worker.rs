//! One worker a port: takes the newest frame, brings its boards there, and releases them as its last act.

use crate::pins::Pins;
use crate::snapshot::{BoardState, Trouble};
use crate::stop::Stop;
use crate::wiring::{Wired, Wiring};
use crate::{BoardPort, Open, Way};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use triple_buffer::{Input, Output, triple_buffer};
use wasvolta_core::rig::BoardId;
use wasvolta_port::board::{
    BoardSettings, Channels, Decision, Found, Lapse, Noted, Orders, Phase, Stay, Wanted, may_pulse, unchanged,
};
use wasvolta_port::expander::Expander;
use wasvolta_port::firmata::Firmata;
use wasvolta_port::pwm::Pwm;
use wasvolta_port::smart::Smart;
use wasvolta_port::smart::errand::Errand;
use wasvolta_port::{BusError, Clock, Driver};

/// What one board should be.
#[derive(Debug, PartialEq)]
pub struct BoardFrame {
    /// Which board, by its id in the rig.
    pub id: BoardId,
    /// Steps by channel, and how fast each goes there where its board takes that.
    pub orders: Orders,
    /// Channels that keep their pulse when the program ends.
    pub stay: Stay,
    /// Ticks at which a channel's part stands still, where it would go on turning with its last ones.
    pub stop: Wanted,
    /// What the board is to be.
    pub settings: BoardSettings,
    /// The maker's word on pulses found running, with a number that grows with each word.
    pub decision: Option<(u32, Decision)>,
    /// What the bus is lent for; one that is over is of no more interest.
    pub errand: Option<Arc<Errand>>,
    /// Output is cut: what was found running is stopped too, whoever is still being asked about it.
    pub cut: bool,
    /// The interruptions that the stage has heard of, by channel. Until it has heard of all, nothing new is told there.
    pub heard: Channels<u32>,
}

/// All boards of a port.
pub type Frame = Vec<BoardFrame>;
/// All boards of a port, as they are.
pub type Report = Vec<BoardState>;

/// When the beat was last seen to be alive. Frames come only when something changes.
#[derive(Debug, Default)]
pub struct Alive(AtomicU64);

impl Alive {
    /// Notes that the beat is alive at this moment.
    pub fn beat(&self, now: Duration) {
        let now = u64::try_from(now.as_micros()).unwrap_or(u64::MAX);
        // Zero is for a beat that has not begun: nothing is stalled before.
        self.0.store(now.max(1), Ordering::Relaxed);
    }

    fn is_stalled(&self, now: Duration) -> bool {
        let last = self.0.load(Ordering::Relaxed);
        last != 0 && now.saturating_sub(Duration::from_micros(last)) > STALLED
    }
}

/// The beat's end of a mailbox.
pub struct Post {
    /// Told in every beat.
    pub alive: Arc<Alive>,
    /// Where the next frame goes.
    pub frames: Input<Frame>,
    /// The frame that was sent last: the same again wakes nobody.
    pub last: Frame,
    /// Where reports come from.
    pub reports: Output<Report>,
}

struct Driven<D> {
    driver: D,
    state: BoardState,
    decided: u32,
    again: Again,
    /// The last service failed. What is wrong with a board may stand longer than that.
    failing: bool,
    /// It was out of reach since it did what it was told last.
    away: bool,
    /// It is started at another rate: what it was told means nothing there.
    retimed: bool,
    /// The channels that had a pulse at any time: at the end they are read back.
    pulsed: Channels<bool>,
}

/// A worker of any kind of port.
pub trait Work: Send {
    /// Works until stopped; then releases everything.
    fn run(self: Box<Self>, stop: &Stop);

    /// One round over all boards; the time until the next is worth while.
    fn service(&mut self) -> Duration;
}

/// See the module.
struct Worker<D: Driver> {
    open: Open<D::Way>,
    way: Option<D::Way>,
    boards: Vec<Driven<D>>,
    /// Boards that have left the rig and could not be released yet.
    leaving: Vec<Driven<D>>,
    frames: Output<Frame>,
    reports: Input<Report>,
    clock: Arc<dyn Clock>,
    alive: Arc<Alive>,
    reopen: Again,
    released: bool,
    name: String,
    told: Told,
    /// What a board has read in this round.
    read: Vec<(u16, f64)>,
}

/// Where workers write what others look for.
#[derive(Clone, Default)]
pub struct Told {
    /// How their boards ended.
    pub ended: Endings,
    /// What their boards read.
    pub(crate) pins: Pins,
    /// Nothing is driven: whatever pulses is left as it was found.
    pub(crate) hands_off: Arc<AtomicBool>,
}

/// How the pulses of a board ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ended {
    /// The port's name.
    pub port: String,
    /// The board's address, where its port has several.
    pub address: Option<u8>,
    /// The channels that had pulses and were to have none.
    pub channels: Vec<usize>,
    /// What is known of them now.
    pub proof: Proof,
}

/// What is known of channels that were released.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Proof {
    /// They were read back: no pulses.
    ReadBack,
    /// They were told, and it cannot be read back whether they did so.
    Unsaid,
    /// They may still pulse.
    MayPulse {
        /// Those of them that may.
        channels: Vec<usize>,
        /// What went wrong last; none where the board did as told and pulses all the same.
        why: Option<BusError>,
    },
}

/// Where every worker writes how its boards ended.
pub type Endings = Arc<Mutex<Vec<Ended>>>;

/// When something that failed is tried again: soon at first, then ever more rarely.
#[derive(Debug, Clone, Copy)]
struct Again {
    at: Duration,
    after: Duration,
}

impl Again {
    const NOW: Self = Self { at: Duration::ZERO, after: FIRST_RETRY };

    const fn worked(&mut self) {
        *self = Self::NOW;
    }

    fn failed(&mut self, now: Duration) {
        self.at = now + self.after;
        self.after = (self.after * 2).min(LAST_RETRY);
    }
}

const FIRST_RETRY: Duration = Duration::from_millis(100);
const LAST_RETRY: Duration = Duration::from_secs(2);
/// A release that fails is tried again for so long, this often.
const RELEASE_TAKES: Duration = Duration::from_secs(2);
const RELEASE_AGAIN: Duration = Duration::from_millis(50);
/// A board is looked at this often even when nothing changes.
const IDLE: Duration = Duration::from_millis(250);
/// A beat that was not seen for so long has stalled: what would go on turning is stopped.
const STALLED: Duration = Duration::from_millis(500);

/// Workers and their mailboxes for all ports.
pub fn make(
    ports: Vec<BoardPort>,
    wiring: &Wiring,
    clock: &Arc<dyn Clock>,
    told: &Told,
) -> (Vec<Box<dyn Work>>, Vec<Post>) {
    ports.into_iter().zip(&wiring.boards).map(|(port, boards)| of(port, boards, clock, told)).unzip()
}

/// The worker of one port with its mailbox.
pub fn of(
    BoardPort { name, way }: BoardPort,
    boards: &[Wired],
    clock: &Arc<dyn Clock>,
    told: &Told,
) -> (Box<dyn Work>, Post) {
    match way {
        Way::Bus(open) => worker::<Expander>((name, open), boards, clock, told),
        Way::Line(open) => worker::<Firmata>((name, open), boards, clock, told),
        Way::Smart(open) => worker::<Smart>((name, open), boards, clock, told),
        Way::Files(open) => worker::<Pwm>((name, open), boards, clock, told),
    }
}

fn worker<D: Driver + 'static>(
    (name, open): (String, Open<D::Way>),
    boards: &[Wired],
    clock: &Arc<dyn Clock>,
    told: &Told,
) -> (Box<dyn Work>, Post) {
    let frame: Frame = boards.iter().map(BoardFrame::idle).collect();
    let report: Report = boards.iter().map(|board| BoardState::of(board.id)).collect();
    let (frames_in, frames) = triple_buffer(&frame);
    let (reports, reports_out) = triple_buffer(&report);
    let worker = Worker::<D> {
        open,
        way: None,
        boards: boards.iter().filter_map(|board| Driven::of(board.id, &board.settings)).collect(),
        leaving: Vec::new(),
        frames,
        reports,
        clock: Arc::clone(clock),
        alive: Arc::default(),
        reopen: Again::NOW,
        released: false,
        name,
        told: told.clone(),
        read: Vec::new(),
    };
    let alive = Arc::clone(&worker.alive);
    (Box::new(worker), Post { alive, frames: frames_in, last: frame, reports: reports_out })
}

impl Clone for BoardFrame {
    fn clone(&self) -> Self {
        let mut frame = Self::idle(&Wired { id: self.id, settings: self.settings.clone() });
        frame.clone_from(self);
        frame
    }

    /// Keeps the room that it has: the beat writes one in every turn.
    fn clone_from(&mut self, from: &Self) {
        (self.id, self.decision, self.cut) = (from.id, from.decision, from.cut);
        self.orders.wanted.copy_from(&from.orders.wanted);
        self.orders.speeds.copy_from(&from.orders.speeds);
        self.stay.copy_from(&from.stay);
        self.stop.copy_from(&from.stop);
        self.heard.copy_from(&from.heard);
        self.settings.clone_from(&from.settings);
        self.errand.clone_from(&from.errand);
    }
}

impl BoardFrame {
    /// A board with no pulses.
    pub fn idle(board: &Wired) -> Self {
        Self {
            id: board.id,
            orders: Orders::default(),
            stay: Stay::NONE,
            stop: Wanted::NONE,
            settings: board.settings.clone(),
            decision: None,
            errand: None,
            cut: false,
            heard: Channels::NONE,
        }
    }

    /// The same in the room that there is.
    pub fn idle_again(&mut self, board: &Wired) {
        self.id = board.id;
        self.orders.wanted.clear();
        self.orders.speeds.clear();
        self.stay.clear();
        self.stop.clear();
        self.heard.clear();
        self.settings.clone_from(&board.settings);
        (self.decision, self.errand, self.cut) = (None, None, false);
    }

    /// What is to be told with everything standing still that would go on turning.
    fn stopped(&self) -> Orders {
        let Orders { wanted, speeds } = &self.orders;
        let still = wanted.iter().map(|(channel, wanted)| wanted.and(self.stop.get(channel)).or(wanted));
        Orders { wanted: still.collect(), speeds: speeds.clone() }
    }
}

impl<D: Driver> Work for Worker<D> {
    fn run(mut self: Box<Self>, stop: &Stop) {
        while !stop.is_set() {
            let until = self.service();
            if !self.frames.updated() {
                std::thread::park_timeout(until.clamp(Duration::from_micros(200), IDLE));
            }
        }
        self.release();
    }

    fn service(&mut self) -> Duration {
        self.frames.update();
        self.fit_boards();
        let now = self.clock.now();
        self.let_leave();
        let needed = !self.boards.is_empty() || !self.leaving.is_empty();
        if self.way.is_none() && needed && now >= self.reopen.at {
            match (self.open)() {
                Ok(way) => {
                    self.way = Some(way);
                    self.reopen.worked();
                }
                Err(error) => {
                    self.reopen.failed(now);
                    for board in &mut self.boards {
                        if D::READS {
                            self.told.pins.served(board.state.id, &Phase::Down, &[]);
                        }
                        board.fail(&error, now);
                    }
                }
            }
        }
        let next = self.round(now);
        self.report();
        next
    }
}

impl<D: Driver> Worker<D> {
    /// Serves every board once; one that fails is tried again later and does not stop the others. Each gets what
    /// is newest when its turn comes, so that on a slow bus nothing queues and none waits longer than a round.
    fn round(&mut self, now: Duration) -> Duration {
        let Some(way) = self.way.as_mut() else { return IDLE };
        let clock = &*self.clock;
        let mut next = IDLE;
        let mut now = now;
        for (n, board) in self.boards.iter_mut().enumerate() {
            self.frames.update();
            // A frame of other boards is for the next round.
            let Some(frame) = self.frames.output_buffer().get(n).filter(|f| board.is_for(f)) else {
                return Duration::ZERO;
            };
            if now < board.again.at {
                next = next.min(board.again.at.saturating_sub(now));
                continue;
            }
            let still = self.alive.is_stalled(now).then(|| frame.stopped());
            let orders = still.as_ref().unwrap_or(&frame.orders);
            match board.service(way, now, (frame, orders), clock) {
                Ok(()) => {
                    if D::READS {
                        self.read.clear();
                        board.driver.take_read(&mut |code, value| self.read.push((code, value)));
                        self.told.pins.served(frame.id, &board.driver.phase(), &self.read);
                    }
                    board.failing = false;
                    board.again.worked();
                    if let Some(due) = board.driver.due(now, &frame.orders.wanted) {
                        next = next.min(due.saturating_sub(now));
                    }
                }
                Err(error) => {
                    if D::READS {
                        self.told.pins.served(frame.id, &Phase::Down, &[]);
                    }
                    board.fail(&error, now);
                }
            }
            now = self.clock.now();
        }
        // When none answers, the way to them may have gone: an adapter that was pulled must be opened anew. Where no
        // board is left, it is for others to use.
        if self.leaving.is_empty() && self.boards.iter().all(|board| board.failing) {
            self.way = None;
        }
        next
    }

    /// Boards may come and go with an edit. A driver goes with its address; what no board is left for is released.
    fn fit_boards(&mut self) {
        let frames = self.frames.output_buffer();
        let fits = self.boards.len() == frames.len()
            && self.boards.iter().zip(frames.iter()).all(|(b, f)| b.is_for(f));
        if fits {
            return;
        }
        let mut before = std::mem::take(&mut self.boards);
        for frame in frames {
            let place = before.iter().position(|board| board.is_for(frame));
            self.boards.extend(
                place.map(|n| before.swap_remove(n)).or_else(|| Driven::of(frame.id, &frame.settings)),
            );
        }
        self.leaving.append(&mut before);
    }

    /// Releases what has left the rig; what does not answer is tried again as long as it may still send pulses.
    fn let_leave(&mut self) {
        let (Some(way), now) = (self.way.as_mut(), self.clock.now()) else { return };
        let clock = &*self.clock;
        self.leaving.retain_mut(|board| {
            if now < board.again.at {
                return true;
            }
            let told = board.driver.release(way, &Stay::NONE, clock);
            let released = match told.and_then(|()| board.driver.read_back(way, clock)) {
                Ok(true) => board.driver.sent().used().next().is_none(),
                Ok(false) => true,
                Err(_) => false,
            };
            if !released {
                board.again.failed(now);
            }
            !released
        });
    }

    fn report(&mut self) {
        let reports = self.reports.input_buffer_mut();
        reports.clear();
        for board in &mut self.boards {
            board.state.phase = board.driver.phase();
            board.state.sent = board.driver.sent();
            board.state.evidence = board.driver.evidence();
            let BoardState { feedback, .. } = &mut board.state;
            feedback.clear();
            board.driver.feedback(&mut |channel, own| feedback.set(channel, *own));
            reports.push(board.state.clone());
        }
        self.reports.publish();
    }

    /// Stops every pulse, told or found, that is not to stay, and reads back whether it has stopped. What fails is
    /// tried again for a while.
    fn release(&mut self) {
        self.released = true;
        if self.told.hands_off.load(Ordering::SeqCst) {
            return;
        }
        self.boards.append(&mut self.leaving);
        let begun = self.clock.now();
        let frames = self.frames.output_buffer();
        let stay_of = |board: &Driven<D>| {
            frames.iter().find(|f| board.is_for(f)).map_or(Stay::NONE, |f| f.stay.clone())
        };
        let mut left: Vec<Leaving> = Vec::new();
        for (place, board) in self.boards.iter().enumerate() {
            let stay = stay_of(board);
            let may = may_pulse(&board.driver);
            let those = |had: &Channels<bool>| -> Vec<usize> {
                had.used().filter(|channel| !stay.get(*channel)).collect()
            };
            let mut had = board.pulsed.clone();
            may.used().for_each(|channel| had.set(channel, true));
            let (channels, owed) = (those(&had), those(&may));
            if !channels.is_empty() {
                left.push(Leaving { place, stay, channels, owed, proof: None, over: false });
            }
        }
        loop {
            // A way that was lost a moment ago may be back.
            if self.way.is_none() && left.iter().any(|board| !board.is_over()) {
                match (self.open)() {
                    Ok(way) => self.way = Some(way),
                    Err(error) => left.iter_mut().for_each(|board| board.failed(&error)),
                }
            }
            if let Some(way) = self.way.as_mut() {
                for leaving in left.iter_mut().filter(|leaving| !leaving.is_over()) {
                    if let Some(board) = self.boards.get_mut(leaving.place) {
                        leaving.release(&mut board.driver, way, &*self.clock);
                    }
                }
            }
            if left.iter().all(Leaving::is_over) || self.clock.now().saturating_sub(begun) >= RELEASE_TAKES {
                break;
            }
            self.way = None;
            self.clock.wait(RELEASE_AGAIN);
        }
        let mut ended = self.told.ended.lock().unwrap_or_else(PoisonError::into_inner);
        for Leaving { place, channels, owed, proof, .. } in left {
            let address = self.boards.get(place).and_then(|board| board.driver.address());
            let proof = proof.unwrap_or(Proof::MayPulse { channels: owed, why: None });
            ended.push(Ended { port: self.name.clone(), address, channels, proof });
        }
    }
}

/// A board whose pulses are to end.
struct Leaving {
    place: usize,
    stay: Stay,
    channels: Vec<usize>,
    /// Those of them that are not known to be released.
    owed: Vec<usize>,
    proof: Option<Proof>,
    over: bool,
}

impl Leaving {
    /// It was read back, or the board is none that can say; what failed is tried again.
    const fn is_over(&self) -> bool {
        self.over
    }

    fn failed(&mut self, error: &BusError) {
        self.proof = Some(if self.owed.is_empty() {
            // Released before, and told so then; now it cannot be asked.
            Proof::Unsaid
        } else {
            Proof::MayPulse { channels: self.owed.clone(), why: Some(error.clone()) }
        });
    }

    fn release<D: Driver>(&mut self, driver: &mut D, way: &mut D::Way, clock: &dyn Clock) {
        // What was told counts as told; what it did is read back, also when telling it failed.
        let told = driver.release(way, &self.stay, clock);
        match (told, driver.read_back(way, clock)) {
            (told, Ok(true)) => {
                let has = driver.sent();
                let still = self.channels.iter().copied().filter(|n| has.get(*n).is_some());
                self.owed = still.collect();
                self.over = self.owed.is_empty();
                self.proof = Some(if self.over {
                    Proof::ReadBack
                } else {
                    Proof::MayPulse { channels: self.owed.clone(), why: told.err() }
                });
            }
            (Ok(()), Ok(false)) => (self.proof, self.over) = (Some(Proof::Unsaid), true),
            (Err(error), _) | (_, Err(error)) => self.failed(&error),
        }
    }
}

impl<D: Driver> Drop for Worker<D> {
    fn drop(&mut self) {
        if !self.released {
            self.release();
        }
    }
}

impl<D: Driver> Driven<D> {
    fn of(id: BoardId, settings: &BoardSettings) -> Option<Self> {
        Some(Self {
            driver: D::of(settings)?,
            state: BoardState::of(id),
            decided: 0,
            again: Again::NOW,
            failing: false,
            away: false,
            retimed: false,
            pulsed: Channels::NONE,
        })
    }

    /// Whether a frame is meant for the board that this drives.
    fn is_for(&self, frame: &BoardFrame) -> bool {
        self.driver.is_for(&frame.settings)
    }

    fn fail(&mut self, error: &BusError, now: Duration) {
        let reached = self.driver.phase() == Phase::Started;
        self.keep_told(&self.driver.sent());
        self.driver.lost();
        (self.failing, self.away, self.state.quiet) = (true, true, false);
        self.again.failed(now);
        self.state.trouble = Some(Trouble { doing: error.doing, fault: error.fault });
        self.state.interruptions += u32::from(reached);
    }

    /// Keeps what the channels were told last, until the stage has heard of it.
    fn keep_told(&mut self, sent: &Wanted) {
        for (channel, sent) in sent.iter().filter(|(_, sent)| sent.is_some()) {
            self.state.told.set(channel, sent);
        }
    }

    fn service(
        &mut self,
        way: &mut D::Way,
        now: Duration,
        (frame, orders): (&BoardFrame, &Orders),
        clock: &dyn Clock,
    ) -> Result<(), BusError> {
        let started = self.driver.phase() == Phase::Started;
        // The same chip may be another board of the rig since an edit.
        self.state.id = frame.id;
        self.driver.configure(&frame.settings);
        if let Some(errand) = frame.errand.as_ref().filter(|errand| !errand.is_over()) {
            if frame.cut {
                errand.give_up();
            }
            self.driver.errand(errand);
        }
        self.retimed |= started && self.driver.phase() != Phase::Started;
        if let Phase::Asking(found) = self.driver.phase() {
            let decision = frame.decision.filter(|(number, _)| *number != self.decided);
            let cut = frame.cut && matches!(found, Found::Pulsing { .. });
            if let Some(decision) = decision.map(|(_, word)| word).or(cut.then_some(Decision::Release)) {
                self.driver.decide(decision, way, clock)?;
                self.decided = frame.decision.map_or(self.decided, |(number, _)| number);
                self.state.interruptions += 1;
            }
        }
        let before = self.driver.sent();
        may_pulse(&self.driver).used().for_each(|channel| self.pulsed.set(channel, true));
        // Heard again or not: what was wanted while it was quiet is not told before it is known where that goes on from.
        let noted = if !self.state.quiet && self.is_heard(frame) {
            self.state.told.clear();
            self.driver.service(way, now, orders, clock)?
        } else {
            let held = self.held_back(frame, orders, &before);
            self.driver.service(way, now, &held, clock)?
        };
        if noted != Noted::Nothing {
            self.note(noted, &before, now);
        }
        let quiet = self.driver.holds_back(now, &frame.orders.wanted);
        if std::mem::replace(&mut self.state.quiet, quiet) && !quiet {
            // It is heard again: what went on meanwhile goes on from what it has.
            self.state.interruptions += 1;
        }
        // While a board is being got to know again, what was wrong with it still stands.
        if self.driver.phase() != Phase::Down {
            self.state.trouble = None;
        }
        Ok(())
    }

    /// Whether the stage has heard of all that came between what a channel was told and what it does.
    fn has_heard(&self, frame: &BoardFrame, channel: usize) -> bool {
        let own = self.state.feedback.get(channel).interruptions;
        frame.heard.get(channel) == self.state.interruptions + own
    }

    /// The same of every channel that is to have a pulse.
    fn is_heard(&self, frame: &BoardFrame) -> bool {
        frame.orders.wanted.used().all(|channel| self.has_heard(frame, channel))
    }

    /// What is told meanwhile: of a channel that the stage has not heard of nothing new, but for a release.
    fn held_back(&self, frame: &BoardFrame, orders: &Orders, before: &Wanted) -> Orders {
        if self.state.quiet {
            return Orders::of(unchanged(before, &orders.wanted));
        }
        let told = |(channel, wanted): (usize, Option<u16>)| {
            let heard = self.has_heard(frame, channel);
            (channel, if heard { wanted } else { wanted.and(before.get(channel)) })
        };
        Orders { wanted: orders.wanted.iter().map(told).collect(), speeds: orders.speeds.clone() }
    }

    /// Something came between what the board was told and what it does.
    fn note(&mut self, noted: Noted, before: &Wanted, now: Duration) {
        self.state.interruptions += 1;
        if self.retimed {
            self.state.told.clear();
        } else {
            self.keep_told(before);
        }
        self.state.fallen = false;
        self.state.starts += u32::from(noted == Noted::Started);
        if let Noted::Lapsed(lapse) = noted {
            self.state.lapses += 1;
            self.state.lapse = Some((now, lapse));
            self.state.fallen = D::POWERED_BY_ITS_WAY && self.away && lapse == Lapse::Reset;
        }
        if self.driver.phase() == Phase::Started {
            (self.retimed, self.away) = (false, false);
        }
    }
}
