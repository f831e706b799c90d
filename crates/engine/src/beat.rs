//! The beat: commands and readings into the stage, setpoints into the mailboxes, a snapshot for the screen.
//!
//! In its turn it makes no blocking call and takes no lock; old plans are handed to another thread to be
//! freed.

use crate::lines::Inlet;
use crate::record::Tape;
use crate::snapshot::{BoardState, Punctuality, Snapshot};
use crate::stop::Stop;
use crate::wiring::Place;
use crate::worker::{BoardFrame, Post};
use crate::{Downward, NextPlan, Wiring};
use rtrb::Consumer;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};
use std::thread::Thread;
use std::time::Duration;
use triple_buffer::{Input, Output, triple_buffer};
use wasvolta_core::Stage;
use wasvolta_core::stage::{Command, Reading};
use wasvolta_port::Clock;
use wasvolta_port::board::{Decision, Phase};

const COMMANDS_A_TURN: usize = 64;
const EVENTS_KEPT: usize = 64;

/// See the module.
pub struct Beat {
    stage: Stage,
    wiring: Wiring,
    version: u64,
    from_above: Consumer<Downward>,
    posts: Vec<Post>,
    inlets: Vec<Inlet>,
    was_open: Vec<bool>,
    readings: Vec<Reading>,
    last: Vec<Option<f64>>,
    commands: Vec<Command>,
    decisions: Vec<Vec<Option<(u32, Decision)>>>,
    /// By servo, how often its board had been started or had lapsed when it was looked at last.
    starts: Vec<u32>,
    up: Input<Snapshot>,
    events_so_far: u64,
    events: Vec<(u64, wasvolta_core::stage::Event)>,
    punctual: Punctuality,
    clock: Arc<dyn Clock>,
    period: Duration,
    to_free: Sender<NextPlan>,
    wakers: Vec<Thread>,
    tape: Option<Tape>,
}

impl Beat {
    pub(crate) fn new(
        first: NextPlan,
        from_above: Consumer<Downward>,
        posts: Vec<Post>,
        inlets: Vec<Inlet>,
        (clock, period): (Arc<dyn Clock>, Duration),
        tape: Option<Tape>,
    ) -> (Self, Output<Snapshot>) {
        let NextPlan { stage, wiring, version } = first;
        let stage = Stage::new(stage, period);
        let mut snapshot = Snapshot {
            servos: stage.servos().to_vec(),
            inputs: stage.inputs().to_vec(),
            player: stage.player().clone(),
            boards: wiring.boards.iter().map(|b| vec![BoardState::default(); b.len()]).collect(),
            lines: inlets.iter().map(Inlet::state).collect(),
            ..Snapshot::default()
        };
        snapshot.events.reserve(EVENTS_KEPT);
        let (up, out) = triple_buffer(&snapshot);
        let (to_free, old_plans) = channel();
        // Frees what the beat is done with; ends when the beat does.
        std::thread::spawn(move || for _old in old_plans {});
        let beat = Self {
            readings: vec![Reading::default(); wiring.inputs.len()],
            last: vec![None; wiring.inputs.len()],
            was_open: vec![false; inlets.len()],
            decisions: wiring.boards.iter().map(|b| vec![None; b.len()]).collect(),
            starts: vec![0; wiring.servos.len()],
            stage,
            wiring,
            version,
            from_above,
            posts,
            inlets,
            commands: Vec::with_capacity(COMMANDS_A_TURN),
            up,
            events_so_far: 0,
            events: Vec::with_capacity(EVENTS_KEPT),
            punctual: Punctuality::default(),
            clock,
            period,
            to_free,
            wakers: Vec::new(),
            tape,
        };
        (beat, out)
    }

    /// Keeps time until stopped. `wakers` are the workers' threads, in port order, and others.
    pub(crate) fn run(mut self, stop: &Stop, wakers: Vec<Thread>) {
        self.wakers = wakers;
        let start = self.clock.now();
        let mut beats: u32 = 0;
        while !stop.is_set() {
            let deadline = start + self.period * beats;
            let now = self.clock.now();
            let due = now >= deadline;
            if due {
                self.punctual.count(now.saturating_sub(deadline), self.period);
                // Beats that were slept through are not made up for.
                let passed = now.saturating_sub(start).as_nanos() / self.period.as_nanos();
                beats = u32::try_from(passed).unwrap_or(u32::MAX).saturating_add(1);
            }
            self.turn(stop, due);
            self.wait(stop, start + self.period * beats);
        }
        for waker in &self.wakers {
            waker.unpark();
        }
    }

    fn wait(&self, stop: &Stop, deadline: Duration) {
        let left = deadline.saturating_sub(self.clock.now());
        let timeout = Timespec {
            tv_sec: i64::try_from(left.as_secs()).unwrap_or(i64::MAX),
            tv_nsec: i64::from(left.subsec_nanos()),
        };
        let mut ready: [PollFd<'_>; 8] = std::array::from_fn(|_| PollFd::new(stop, PollFlags::IN));
        let mut used = 1;
        for serial in self.inlets.iter().filter_map(Inlet::serial).take(ready.len() - 1) {
            if let Some(place) = ready.get_mut(used) {
                *place = PollFd::new(serial, PollFlags::IN);
                used += 1;
            }
        }
        // An interrupted wait is a wake-up like any other.
        let _ = poll(ready.get_mut(..used).unwrap_or_default(), Some(&timeout));
        stop.slept();
    }

    /// Where time passes by hand: gives the system a moment to carry what was sent on the lines.
    pub(crate) fn settle(&self) {
        const MOMENT: Timespec = Timespec { tv_sec: 0, tv_nsec: 5_000_000 };
        for serial in self.inlets.iter().filter_map(Inlet::serial) {
            let _ = poll(&mut [PollFd::new(serial, PollFlags::IN)], Some(&MOMENT));
        }
    }

    /// One turn: everything that waits is taken, the stage moves on to now.
    pub(crate) fn turn(&mut self, stop: &Stop, publish: bool) {
        let now = self.clock.now();
        self.commands.clear();
        if stop.take_cut() {
            self.commands.push(Command::Cut);
        }
        let before = self.events_so_far;
        self.take_orders(now);
        self.follow_arming();
        self.read_lines();
        let setpoints = self.stage.advance(now, &self.readings, &self.commands);
        if let Some(tape) = &mut self.tape {
            tape.turn(now, &self.readings, &self.commands, setpoints);
        }
        self.keep_events();
        self.post();
        if publish || self.events_so_far != before {
            self.publish(now);
        }
    }

    fn take_orders(&mut self, now: Duration) {
        while self.commands.len() < COMMANDS_A_TURN
            && let Ok(item) = self.from_above.pop()
        {
            match item {
                Downward::Command(command) => self.commands.push(command),
                Downward::Decide { port, board, decision } => {
                    if let Some(place) = self.decisions.get_mut(port).and_then(|p| p.get_mut(board)) {
                        *place = Some((place.map_or(1, |(n, _)| n + 1), decision));
                    }
                }
                Downward::Port(port) => {
                    // The workers' threads stand first, in port order.
                    if let Some(waker) = port.waker {
                        self.wakers.insert(self.posts.len().min(self.wakers.len()), waker);
                    }
                    self.posts.push(port.post);
                    self.decisions.push(Vec::new());
                }
                Downward::Plan(next) => {
                    // What was asked before the change is meant for the plan before it.
                    if !self.commands.is_empty() {
                        let setpoints = self.stage.advance(now, &[], &self.commands);
                        if let Some(tape) = &mut self.tape {
                            tape.turn(now, &[], &self.commands, setpoints);
                        }
                        self.keep_events();
                        self.commands.clear();
                    }
                    let NextPlan { stage, wiring, version } = *next;
                    let stage = self.stage.swap(stage);
                    let wiring = std::mem::replace(&mut self.wiring, wiring);
                    self.readings.resize(self.wiring.inputs.len(), Reading::default());
                    self.last.resize(self.wiring.inputs.len(), None);
                    self.follow_boards(&wiring);
                    self.follow_starts();
                    self.version = version;
                    if let Some(tape) = &mut self.tape {
                        tape.plan(version);
                    }
                    let _ = self.to_free.send(NextPlan { stage, wiring, version });
                }
            }
        }
    }

    /// What must see its neutral first counts from when that arrives, and anew when its board had lost it.
    fn follow_arming(&mut self) {
        let Self { stage, wiring, posts, commands, starts, .. } = self;
        let parts = stage.plan().servos.iter().zip(stage.servos()).zip(&wiring.servos).zip(starts.iter_mut());
        for (servo, (((plan, state), place), started)) in parts.enumerate() {
            let (Some(_), true, Some(place)) = (plan.arming, state.engaged, place) else { continue };
            let Some(board) = posts.get_mut(place.port).and_then(|p| p.reports.read().get(place.board))
            else {
                continue;
            };
            let arrives = board.phase == Phase::Started
                && board.trouble.is_none()
                && board.sent.get(place.channel).is_some_and(Option::is_some);
            // Started anew, or found not as it was left: either way it may have missed what was sent.
            let times = board.interruptions();
            let anew = std::mem::replace(started, times) != times;
            match (arrives, state.is_unarmed()) {
                (false, false) => commands.push(Command::Disarm { servo }),
                (true, unarmed) if unarmed || anew => commands.push(Command::Arm { servo }),
                _ => {}
            }
        }
    }

    /// After an edit servos have other places: how often their boards were interrupted is taken down anew, or one
    /// that turns would be armed again for nothing.
    fn follow_starts(&mut self) {
        let Self { wiring, posts, starts, .. } = self;
        let times = |place: &Option<Place>| {
            let place = (*place)?;
            posts.get_mut(place.port)?.reports.read().get(place.board).map(BoardState::interruptions)
        };
        starts.clear();
        starts.extend(wiring.servos.iter().map(times).map(Option::unwrap_or_default));
    }

    /// What the maker said of a board's pulses is not meant for another one that takes its place in the list.
    fn follow_boards(&mut self, before: &Wiring) {
        for (port, decisions) in self.decisions.iter_mut().enumerate() {
            let (now, then) = (self.wiring.addresses(port), before.addresses(port));
            if !now.eq(then) {
                decisions.clear();
                decisions.resize(self.wiring.boards.get(port).map_or(0, Vec::len), None);
            }
        }
    }

    fn read_lines(&mut self) {
        self.readings.fill(Reading::default());
        let Self { inlets, readings, last, wiring, was_open, .. } = self;
        for (n, inlet) in inlets.iter_mut().enumerate() {
            inlet.read(|take| {
                let parts = wiring.inputs.iter().zip(readings.iter_mut().zip(last.iter_mut()));
                for (source, (reading, last)) in parts {
                    if let Some(source) = source.as_ref().filter(|s| s.line == n) {
                        take(&source.field, reading, last);
                    }
                }
            });
            let open = inlet.serial().is_some();
            if let Some(was) = was_open.get_mut(n) {
                if *was && !open {
                    let mine = |s: &Option<crate::wiring::Source>| s.as_ref().is_some_and(|s| s.line == n);
                    for (_, reading) in wiring.inputs.iter().zip(readings.iter_mut()).filter(|(s, _)| mine(s))
                    {
                        reading.gone = true;
                    }
                }
                *was = open;
            }
        }
    }

    fn keep_events(&mut self) {
        for &event in self.stage.events() {
            self.events_so_far += 1;
            if self.events.len() == EVENTS_KEPT {
                self.events.remove(0);
            }
            self.events.push((self.events_so_far, event));
        }
    }

    fn post(&mut self) {
        let plan = self.stage.plan();
        let now = self.clock.now();
        for (port, post) in self.posts.iter_mut().enumerate() {
            post.alive.beat(now);
            let waiting = !post.frames.consumed();
            let settings = self.wiring.boards.get(port).map_or(&[][..], Vec::as_slice);
            let frame = post.frames.input_buffer_mut();
            // Grows only when an edit brought another board.
            frame.truncate(settings.len());
            frame.extend(settings.iter().skip(frame.len()).copied().map(BoardFrame::idle));
            for (n, (board, settings)) in frame.iter_mut().zip(settings).enumerate() {
                *board = BoardFrame::idle(*settings);
                board.decision = self.decisions.get(port).and_then(|d| d.get(n)).copied().flatten();
            }
            let servos = self.stage.servos().iter().zip(&plan.servos).zip(&self.wiring.servos);
            for ((state, plan), place) in servos {
                let Some(place) = place.filter(|p| p.port == port) else { continue };
                let Some(board) = frame.get_mut(place.board) else { continue };
                if let (Some(wanted), Some(stay)) =
                    (board.wanted.get_mut(place.channel), board.stay.get_mut(place.channel))
                {
                    *wanted = state.ticks.filter(|_| state.engaged).map(|t| t.0);
                    *stay = plan.stay_stiff;
                    // Where it stands still at present, trimmed as it is.
                    let stop = plan.stop.filter(|_| !plan.idle_release);
                    board.stop[place.channel] = stop.map(|stop| plan.guard.nearest(stop + state.trim()).0);
                }
            }
            if *frame == post.last {
                continue;
            }
            post.last.clone_from(frame);
            post.frames.publish();
            self.punctual.late_writes += u64::from(waiting);
            if let Some(waker) = self.wakers.get(port) {
                waker.unpark();
            }
        }
    }

    fn publish(&mut self, now: Duration) {
        let snapshot = self.up.input_buffer_mut();
        snapshot.version = self.version;
        snapshot.now = now;
        snapshot.output = self.stage.output();
        snapshot.servos.clear();
        snapshot.servos.extend_from_slice(self.stage.servos());
        snapshot.inputs.clone_from_slice_or_grow(self.stage.inputs());
        snapshot.player.clone_from(self.stage.player());
        // Grows only when a port was added.
        snapshot.boards.resize_with(self.posts.len(), Vec::new);
        for (port, post) in snapshot.boards.iter_mut().zip(&mut self.posts) {
            port.clear();
            port.extend_from_slice(post.reports.read());
        }
        for (line, inlet) in snapshot.lines.iter_mut().zip(&self.inlets) {
            *line = inlet.state();
        }
        snapshot.events.clear();
        snapshot.events.extend_from_slice(&self.events);
        snapshot.punctual = self.punctual;
        self.up.publish();
    }

    /// Publishes once more, so that a screen driven by hand sees what the workers did in the same beat.
    pub(crate) fn collect(&mut self) {
        self.publish(self.clock.now());
    }
}

trait CloneInto<T> {
    fn clone_from_slice_or_grow(&mut self, from: &[T]);
}

impl<T: Clone> CloneInto<T> for Vec<T> {
    /// Keeps the room it has; allocates only when the number of parts has grown.
    fn clone_from_slice_or_grow(&mut self, from: &[T]) {
        self.truncate(from.len());
        let (same, more) = from.split_at(self.len());
        self.clone_from_slice(same);
        self.extend_from_slice(more);
    }
}

impl Punctuality {
    fn count(&mut self, lateness: Duration, period: Duration) {
        self.beats += 1;
        self.late += u64::from(lateness > period / 10);
        self.worst = self.worst.max(lateness);
    }
}
