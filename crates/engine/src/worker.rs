//! One worker a bus: takes the newest frame, brings its boards there, and releases them as its last act.

use crate::snapshot::{BoardState, Trouble};
use crate::stop::Stop;
use crate::wiring::Wiring;
use crate::{BusPort, OpenBus};
use std::sync::Arc;
use std::time::Duration;
use triple_buffer::{Input, Output, triple_buffer};
use wasvolta_port::expander::{Decision, Expander, Noted, Phase, Settings, Wanted};
use wasvolta_port::{BusError, Clock, I2cBus};
use wasvolta_wire::expander::CHANNELS;

/// What one board should be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BoardFrame {
    /// Ticks by channel.
    pub wanted: Wanted,
    /// Channels that keep their pulse when the program ends.
    pub stay: [bool; CHANNELS],
    /// What the board is to be.
    pub settings: Settings,
    /// The maker's word on pulses found running, with a number that grows with each word.
    pub decision: Option<(u32, Decision)>,
}

/// All boards of a port.
pub type Frame = Vec<BoardFrame>;
/// All boards of a port, as they are.
pub type Report = Vec<BoardState>;

/// The beat's end of a mailbox.
pub struct Post {
    /// Where the next frame goes.
    pub frames: Input<Frame>,
    /// The frame that was sent last: the same again wakes nobody.
    pub last: Frame,
    /// Where reports come from.
    pub reports: Output<Report>,
}

struct Driven {
    driver: Expander,
    state: BoardState,
    decided: u32,
    again: Again,
}

/// See the module.
pub struct Worker {
    open: OpenBus,
    bus: Option<Box<dyn I2cBus>>,
    boards: Vec<Driven>,
    frames: Output<Frame>,
    reports: Input<Report>,
    clock: Arc<dyn Clock>,
    reopen: Again,
    released: bool,
}

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
/// A board is looked at this often even when nothing changes.
const IDLE: Duration = Duration::from_millis(250);

/// Workers and their mailboxes for all ports.
pub fn make(ports: Vec<BusPort>, wiring: &Wiring, clock: &Arc<dyn Clock>) -> (Vec<Worker>, Vec<Post>) {
    ports
        .into_iter()
        .zip(&wiring.boards)
        .map(|(port, boards)| {
            let frame: Frame = boards.iter().copied().map(BoardFrame::idle).collect();
            let report: Report = vec![BoardState::default(); boards.len()];
            let (frames_in, frames) = triple_buffer(&frame);
            let (reports, reports_out) = triple_buffer(&report);
            let boards = boards.iter().copied().map(Driven::new).collect();
            let worker = Worker {
                open: port.open,
                bus: None,
                boards,
                frames,
                reports,
                clock: Arc::clone(clock),
                reopen: Again::NOW,
                released: false,
            };
            (worker, Post { frames: frames_in, last: frame, reports: reports_out })
        })
        .unzip()
}

impl BoardFrame {
    /// A board with no pulses.
    pub const fn idle(settings: Settings) -> Self {
        Self { wanted: [None; CHANNELS], stay: [false; CHANNELS], settings, decision: None }
    }
}

impl Worker {
    /// Works until stopped; then releases everything.
    pub(crate) fn run(mut self, stop: &Stop) {
        while !stop.is_set() {
            let until = self.service();
            if !self.frames.updated() {
                std::thread::park_timeout(until.clamp(Duration::from_micros(200), IDLE));
            }
        }
        self.release();
    }

    /// One round over all boards; the time until the next is worth while.
    pub fn service(&mut self) -> Duration {
        self.frames.update();
        self.fit_boards();
        let now = self.clock.now();
        if self.bus.is_none() && now >= self.reopen.at {
            match (self.open)() {
                Ok(bus) => {
                    self.bus = Some(bus);
                    self.reopen.worked();
                }
                Err(error) => {
                    self.reopen.failed(now);
                    self.boards.iter_mut().for_each(|board| board.fail(&error, now));
                }
            }
        }
        let next = self.round(now);
        self.report();
        next
    }

    /// Serves every board once; one that fails is tried again later and does not stop the others. Each gets what
    /// is newest when its turn comes, so that on a slow bus nothing queues and none waits longer than a round.
    fn round(&mut self, now: Duration) -> Duration {
        let Some(bus) = self.bus.as_deref_mut() else { return IDLE };
        let wait = |time| self.clock.wait(time);
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
            match board.service(bus, now, frame, &wait) {
                Ok(()) => {
                    board.again.worked();
                    if let Some(due) = board.driver.due(&frame.wanted) {
                        next = next.min(due.saturating_sub(now));
                    }
                }
                Err(error) => board.fail(&error, now),
            }
            now = self.clock.now();
        }
        // When none answers, the way to them may have gone: an adapter that was pulled must be opened anew.
        if self.boards.iter().all(|board| board.state.trouble.is_some()) {
            self.bus = None;
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
        for frame in frames.iter() {
            let place = before.iter().position(|board| board.is_for(frame));
            self.boards.push(place.map_or_else(|| Driven::new(frame.settings), |n| before.swap_remove(n)));
        }
        let Some(bus) = self.bus.as_deref_mut() else { return };
        for board in &mut before {
            // A board that does not answer any more has nothing left to be released.
            let _ = board.driver.release_all(bus, &[false; CHANNELS]);
        }
    }

    fn report(&mut self) {
        let reports = self.reports.input_buffer_mut();
        reports.clear();
        for board in &mut self.boards {
            board.state.phase = board.driver.phase();
            board.state.sent = *board.driver.sent();
            board.state.seen = board.driver.seen().copied();
            reports.push(board.state);
        }
        self.reports.publish();
    }

    fn release(&mut self) {
        self.released = true;
        // A way that was lost a moment ago may be back.
        if self.bus.is_none() && self.boards.iter().any(|b| b.driver.sent().iter().any(Option::is_some)) {
            self.bus = (self.open)().ok();
        }
        let Some(bus) = self.bus.as_deref_mut() else { return };
        let frames = self.frames.output_buffer();
        for board in &mut self.boards {
            let stay = frames.iter().find(|f| board.is_for(f)).map_or([false; CHANNELS], |f| f.stay);
            // One more try: a single failed transfer must not leave a servo driven.
            if board.driver.release_all(bus, &stay).is_err() {
                let _ = board.driver.release_all(bus, &stay);
            }
        }
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        if !self.released {
            self.release();
        }
    }
}

impl Driven {
    fn new(settings: Settings) -> Self {
        Self { driver: Expander::new(settings), state: BoardState::default(), decided: 0, again: Again::NOW }
    }

    /// Whether a frame is meant for the chip that this drives.
    const fn is_for(&self, frame: &BoardFrame) -> bool {
        self.driver.settings().address == frame.settings.address
    }

    fn fail(&mut self, error: &BusError, now: Duration) {
        self.driver.lost();
        self.again.failed(now);
        self.state.trouble = Some(Trouble { doing: error.doing, fault: error.fault });
    }

    fn service(
        &mut self,
        bus: &mut dyn I2cBus,
        now: Duration,
        frame: &BoardFrame,
        wait: &dyn Fn(Duration),
    ) -> Result<(), BusError> {
        if frame.settings != self.driver.settings() {
            self.driver.reconfigure(frame.settings);
        }
        if let Some((number, decision)) = frame.decision
            && number != self.decided
            && matches!(self.driver.phase(), Phase::Asking(_))
        {
            self.driver.decide(decision, bus, wait)?;
            self.decided = number;
        }
        match self.driver.service(bus, now, &frame.wanted, wait)? {
            Noted::Started => self.state.starts += 1,
            Noted::Lapsed(lapse) => {
                self.state.lapses += 1;
                self.state.lapse = Some((now, lapse));
            }
            Noted::Asks | Noted::Nothing => {}
        }
        self.state.trouble = None;
        Ok(())
    }
}
