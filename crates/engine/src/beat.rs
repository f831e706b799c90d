//! The beat: commands and readings into the stage, setpoints into the mailboxes, a snapshot for the screen.
//!
//! In its turn it makes no blocking call and takes no lock; old plans are handed to another thread to be
//! freed.

use crate::links::WayEnd;
use crate::record::Tape;
use crate::snapshot::{BoardState, LinkReport, Punctuality, Sample, Snapshot, Trace};
use crate::stop::Stop;
use crate::wiring::{ChannelPlace, Wired};
use crate::worker::{BoardFrame, Post};
use crate::{Compiled, Downward, NextPlan, Wiring};
use rtrb::Consumer;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::sync::Arc;
use std::sync::mpsc::{Sender, channel};
use std::thread::Thread;
use std::time::Duration;
use triple_buffer::{Input, Output, triple_buffer};
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow, Measured};
use wasvolta_core::link::Heard;
use wasvolta_core::rig::{Ailing, InputId, Link};
use wasvolta_core::stage::{Command, Output as StageOutput, Prepared, Said, Wire};
use wasvolta_core::unit::{Position, Ticks};
use wasvolta_port::Clock;
use wasvolta_port::board::Decision;
use wasvolta_port::inlet::Inlet;
use wasvolta_port::smart::errand::Errand;

const COMMANDS_A_TURN: usize = 64;
const EVENTS_KEPT: usize = 64;
/// So many descriptors are waited on without asking for memory.
const FEW: usize = 32;

/// What is known of a servo's way.
#[derive(Debug, Clone, Copy, Default)]
struct Known {
    /// The interruptions of its board that the stage has heard of.
    interruptions: u32,
    /// Those at which it was armed last.
    armed_with: u32,
    /// What the stage has been told of it, once it was told anything.
    wire: Option<Wire>,
    /// When it said last where it is.
    measured_at: Option<Duration>,
    /// It was driven and said that it ails.
    ails: bool,
}

/// What is known of a board beside what it reports.
#[derive(Debug, Clone)]
struct Followed {
    board: Wired,
    /// The maker's word on its running pulses, with a number that grows with each word.
    decision: Option<(u32, Decision)>,
    /// What it is lent for.
    errand: Option<Arc<Errand>>,
}

impl Followed {
    const fn new(board: Wired) -> Self {
        Self { board, decision: None, errand: None }
    }

    /// Whether it is the same device as the rig has there now: what was said of one is not meant for another.
    fn is(&self, board: &Wired) -> bool {
        self.board.id == board.id && self.board.settings.address() == board.settings.address()
    }
}

/// How much slower a joint goes whose servo ails, in percent.
const SLOWER: u8 = 50;

fn followed(wiring: &Wiring) -> Vec<Vec<Followed>> {
    wiring.boards.iter().map(|boards| boards.iter().cloned().map(Followed::new).collect()).collect()
}

/// The most commands of a turn: a cut, what the boards have said of every servo and of its arming, and what was asked.
fn room_for(wiring: &Wiring) -> usize {
    1 + 3 * wiring.servos.len() + COMMANDS_A_TURN
}

/// What the beat is done with.
#[expect(dead_code, reason = "it is there to be dropped elsewhere")]
enum Old {
    Plan(Box<NextPlan>),
    Inlet(Box<dyn Inlet>),
}

/// A report for each link, of which nothing is known yet.
fn reports(compiled: &Compiled) -> Vec<LinkReport> {
    let of = |link: &Link| LinkReport { id: link.id, ..LinkReport::default() };
    compiled.rig.links.iter().map(of).collect()
}

fn report<'p>(posts: &'p [Post], place: &ChannelPlace) -> Option<&'p BoardState> {
    posts.get(place.port)?.reports.output_buffer().get(place.board)
}

/// See the module.
pub struct Beat {
    stage: Stage,
    compiled: Arc<Compiled>,
    from_above: Consumer<Downward>,
    posts: Vec<Post>,
    ways: Vec<WayEnd>,
    heard: Vec<Heard>,
    batches: Vec<Batch>,
    /// By servo, where it has said it is since the last turn.
    measured: Vec<Option<Measured>>,
    reports: Vec<LinkReport>,
    commands: Vec<Command>,
    /// By port, then by board on it.
    boards: Vec<Vec<Followed>>,
    /// By servo, what its board said of it when it was looked at last.
    wires: Vec<Known>,
    up: Input<Snapshot>,
    events_so_far: u64,
    events: Vec<(u64, wasvolta_core::stage::Event)>,
    punctual: Punctuality,
    clock: Arc<dyn Clock>,
    period: Duration,
    to_free: Sender<Old>,
    wakers: Vec<Thread>,
    tape: Option<Tape>,
    /// Every beat of the input that is looked at.
    trace: Trace,
    traced: Option<InputId>,
}

impl Beat {
    pub(crate) fn new(
        first: NextPlan,
        from_above: Consumer<Downward>,
        posts: Vec<Post>,
        (clock, period): (Arc<dyn Clock>, Duration),
        tape: Option<Tape>,
    ) -> (Self, Output<Snapshot>) {
        let NextPlan { stage, compiled, ways } = first;
        let stage = Stage::new(stage, period);
        let wiring = &compiled.wiring;
        let room = room_for(wiring);
        let mut snapshot = Snapshot {
            servos: stage.servos().to_vec(),
            inputs: stage.inputs().to_vec(),
            mappings: stage.mappings().to_vec(),
            players: *stage.players(),
            tempo: stage.tempo(),
            boards: posts
                .iter()
                .map(|post| post.last.iter().map(|frame| BoardState::of(frame.id)).collect())
                .collect(),
            links: stage.links().to_vec(),
            reports: reports(&compiled),
            ..Snapshot::default()
        };
        snapshot.events.reserve(EVENTS_KEPT);
        let (up, out) = triple_buffer(&snapshot);
        let (to_free, old) = channel();
        // Frees what the beat is done with; ends when the beat does.
        std::thread::spawn(move || for _old in old {});
        let beat = Self {
            heard: vec![Heard::default(); wiring.way_of_link.len()],
            batches: vec![Batch::default(); wiring.inputs],
            measured: vec![None; wiring.servos.len()],
            reports: reports(&compiled),
            boards: followed(wiring),
            wires: vec![Known::default(); wiring.servos.len()],
            stage,
            compiled,
            from_above,
            posts,
            ways,
            commands: Vec::with_capacity(room),
            up,
            events_so_far: 0,
            events: Vec::with_capacity(EVENTS_KEPT),
            punctual: Punctuality::default(),
            clock,
            period,
            to_free,
            wakers: Vec::new(),
            tape,
            trace: Trace::default(),
            traced: None,
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
        let descriptors = || self.ways.iter().filter_map(WayEnd::descriptor);
        let wait_on = |fd| PollFd::from_borrowed_fd(fd, PollFlags::IN);
        // An interrupted wait is a wake-up like any other.
        let _ = if descriptors().count() < FEW {
            let mut few: [PollFd<'_>; FEW] = std::array::from_fn(|_| PollFd::new(stop, PollFlags::IN));
            let mut used = 1;
            for (place, fd) in few.iter_mut().skip(1).zip(descriptors()) {
                *place = wait_on(fd);
                used += 1;
            }
            poll(few.get_mut(..used).unwrap_or_default(), Some(&timeout))
        } else {
            let all = std::iter::once(PollFd::new(stop, PollFlags::IN)).chain(descriptors().map(wait_on));
            poll(&mut all.collect::<Vec<_>>(), Some(&timeout))
        };
        stop.slept();
    }

    /// Where time passes by hand: gives the system a moment to carry what was sent on the lines.
    pub(crate) fn settle(&self) {
        const MOMENT: Timespec = Timespec { tv_sec: 0, tv_nsec: 5_000_000 };
        for fd in self.ways.iter().filter_map(WayEnd::descriptor) {
            let _ = poll(&mut [PollFd::from_borrowed_fd(fd, PollFlags::IN)], Some(&MOMENT));
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
        for post in &mut self.posts {
            post.reports.update();
        }
        self.follow_wires();
        self.take_orders(now);
        self.follow_arming();
        self.drain(now);
        self.measure();
        let inflow = Inflow { links: &self.heard, inputs: &self.batches, measured: &self.measured };
        let setpoints = self.stage.advance(now, inflow, &self.commands);
        if let Some(tape) = &mut self.tape {
            tape.turn(now, inflow, &self.commands, setpoints);
        }
        self.keep_events();
        self.keep_trace(now);
        self.post();
        if publish || self.events_so_far != before {
            self.publish(now);
        }
    }

    /// Takes the plan that waits, without a turn, and shows it.
    pub(crate) fn take_plan(&mut self) {
        let now = self.clock.now();
        self.commands.clear();
        self.take_orders(now);
        if !self.commands.is_empty() {
            self.advance(now);
        }
        self.publish(now);
    }

    /// Carries out what was asked before an edit, for the plan before it.
    fn advance(&mut self, now: Duration) {
        let nothing = Inflow::default();
        let setpoints = self.stage.advance(now, nothing, &self.commands);
        if let Some(tape) = &mut self.tape {
            tape.turn(now, nothing, &self.commands, setpoints);
        }
        self.keep_events();
        self.commands.clear();
    }

    fn take_orders(&mut self, now: Duration) {
        // What the boards have said stands before them, and keeps none of them waiting.
        let most = self.commands.len() + COMMANDS_A_TURN;
        while self.commands.len() < most
            && let Ok(item) = self.from_above.pop()
        {
            match item {
                Downward::Command(command) => self.commands.push(command),
                Downward::Trace(input) => self.traced = Some(input),
                Downward::Decide { board, decision } => {
                    let mut boards = self.boards.iter_mut().flatten();
                    if let Some(there) = boards.find(|there| there.board.id == board) {
                        there.decision = Some((there.decision.map_or(1, |(n, _)| n + 1), decision));
                    }
                }
                Downward::Lend { board, errand } => {
                    let mut boards = self.boards.iter_mut().flatten();
                    match boards.find(|there| there.board.id == board) {
                        Some(there) => there.errand = Some(errand),
                        None => errand.end(Err("the rig has no such bus".to_owned())),
                    }
                }
                Downward::Port(port) => {
                    // The workers' threads stand first, in port order.
                    if let Some(waker) = port.waker {
                        self.wakers.insert(self.posts.len().min(self.wakers.len()), waker);
                    }
                    self.posts.push(port.post);
                    self.boards.push(Vec::new());
                }
                Downward::Plan(next) => {
                    // What was asked before the change is meant for the plan before it.
                    if !self.commands.is_empty() {
                        self.advance(now);
                    }
                    let NextPlan { stage, compiled, ways } = *next;
                    let stage = self.stage.swap(stage);
                    let compiled = std::mem::replace(&mut self.compiled, compiled);
                    let mut ways = std::mem::replace(&mut self.ways, ways);
                    self.ways.iter_mut().for_each(|way| way.take_over(&mut ways));
                    self.heard.resize(self.compiled.wiring.way_of_link.len(), Heard::default());
                    self.batches.resize(self.compiled.wiring.inputs, Batch::default());
                    self.measured.clear();
                    self.measured.resize(self.compiled.wiring.servos.len(), None);
                    self.reports = reports(&self.compiled);
                    self.follow_boards();
                    self.keep_known(&stage);
                    if let Some(tape) = &mut self.tape {
                        tape.plan(self.compiled.version);
                    }
                    let _ = self.to_free.send(Old::Plan(Box::new(NextPlan { stage, compiled, ways })));
                }
            }
        }
    }

    /// Tells the stage what each board says of its channels, where that is news.
    fn follow_wires(&mut self) {
        let Self { compiled, stage, posts, commands, wires, .. } = self;
        let wiring = &compiled.wiring;
        let parts = stage.plan().servos.iter().zip(&wiring.servos).zip(wires.iter_mut());
        for ((plan, place), known) in parts {
            let Some(board) = place.as_ref().and_then(|place| report(posts, place)) else { continue };
            let Some(place) = place else { continue };
            let sent = board.sent.get(place.channel);
            let interruptions = board.interruptions_of(place.channel);
            let interrupted = known.interruptions != interruptions;
            let Some(wired) = wiring.boards.get(place.port).and_then(|boards| boards.get(place.board)) else {
                continue;
            };
            // A report of the boards from before an edit.
            if board.id != wired.id {
                continue;
            }
            let said = match (board.reaches(place.channel), sent) {
                (false, _) => Said::Away,
                _ if board.cannot(&wired.settings, place.channel) => Said::Cannot,
                // One that says where it is goes on from there, whatever it was told.
                (true, Some(ticks)) => {
                    Said::Arrives { ticks: Ticks(board.here(place.channel).unwrap_or(ticks)) }
                }
                (true, None) => match board.told.get(place.channel) {
                    Some(told) if interrupted => Said::Stopped { told: Ticks(told), fallen: board.fallen },
                    _ if known.wire == Some(Wire::Arrives) && plan.kind.is_smart() => Said::Stopped {
                        told: Ticks(board.here(place.channel).unwrap_or_default()),
                        fallen: true,
                    },
                    _ => Said::Waits,
                },
            };
            let wire = Some(said.wire());
            let reached = board.reaches(place.channel);
            if wire != known.wire || (interrupted && reached) {
                commands.push(Command::Wire { servo: plan.id, said });
                known.wire = wire;
            }
            if reached {
                known.interruptions = interruptions;
            }
        }
    }

    /// What must see its neutral first counts from when that arrives, and anew when its board had lost it.
    fn follow_arming(&mut self) {
        let Self { stage, compiled, posts, commands, wires, .. } = self;
        let places = &compiled.wiring.servos;
        let parts = stage.plan().servos.iter().zip(stage.servos()).zip(places).zip(wires.iter_mut());
        for (((plan, state), place), known) in parts {
            let servo = plan.id;
            let (Some(_), true, Some(place)) = (plan.arming, state.engaged, place) else { continue };
            let Some(board) = report(posts, place) else { continue };
            let arrives = board.is_reached() && board.sent.get(place.channel).is_some();
            // Started anew, or found not as it was left: either way it may have missed what was sent.
            let anew = std::mem::replace(&mut known.armed_with, board.interruptions) != board.interruptions;
            match (arrives, state.is_unarmed()) {
                (false, false) => commands.push(Command::Disarm { servo }),
                (true, unarmed) if unarmed || anew => commands.push(Command::Arm { servo }),
                _ => {}
            }
        }
    }

    /// After an edit servos have other places: what is known of each goes with it, unless it hangs elsewhere now.
    fn keep_known(&mut self, old: &Prepared) {
        let Self { compiled, posts, wires, stage, .. } = self;
        let known = std::mem::take(wires);
        wires.extend(stage.plan().servos.iter().zip(&compiled.wiring.servos).map(|(plan, place)| {
            let before = old.plan();
            let was = before.servo_place(plan.id);
            let was = was.filter(|n| before.servos.get(*n).is_some_and(|servo| servo.plug == plan.plug));
            let fresh = || {
                let interruptions = place
                    .as_ref()
                    .and_then(|place| Some(report(posts, place)?.interruptions_of(place.channel)))
                    .unwrap_or(0);
                Known { interruptions, armed_with: interruptions, ..Known::default() }
            };
            was.and_then(|n| known.get(n).copied()).unwrap_or_else(fresh)
        }));
        self.commands.reserve(room_for(&self.compiled.wiring));
    }

    /// What the stage has heard of a board, and what the maker said of its pulses, goes with that board; it is not meant
    /// for another one that takes its place in the list.
    fn follow_boards(&mut self) {
        let before = std::mem::replace(&mut self.boards, followed(&self.compiled.wiring));
        for followed in self.boards.iter_mut().flatten() {
            if let Some(was) = before.iter().flatten().find(|was| was.is(&followed.board)) {
                followed.decision = was.decision;
                followed.errand.clone_from(&was.errand);
            }
        }
    }

    /// Takes what servos have said of where they are, where that is news.
    fn measure(&mut self) {
        let Self { compiled, posts, measured, wires, stage, commands, .. } = self;
        let parts = stage.plan().servos.iter().zip(stage.servos()).zip(&compiled.wiring.ails);
        let places = compiled.wiring.servos.iter().zip(measured).zip(wires).zip(parts);
        for (((place, measured), known), ((plan, state), (mask, ailing))) in places {
            let feedback = place.as_ref().and_then(|place| {
                let board = report(posts, place)?;
                let wired = compiled.wiring.boards.get(place.port)?.get(place.board)?;
                (board.id == wired.id).then(|| board.feedback.get(place.channel))
            });
            let ails = state.engaged && feedback.as_ref().is_some_and(|own| own.faults & mask != 0);
            if std::mem::replace(&mut known.ails, ails) != ails {
                let servo = plan.id;
                let here = feedback.as_ref().map_or(state.pulse, |own| Position::new(own.position));
                match (ails, ailing) {
                    (true, Ailing::Slower) => commands.push(Command::Ease { servo, percent: SLOWER }),
                    (false, Ailing::Slower) => commands.push(Command::Ease { servo, percent: 0 }),
                    (true, Ailing::Hold) => commands.push(Command::GoTo { servo, pulse: here }),
                    (true, Ailing::Limp) => commands.push(Command::Release { servo }),
                    (_, Ailing::GoOn) | (false, _) => {}
                }
            }
            let news = feedback.filter(|own| own.at.is_some() && own.at != known.measured_at);
            *measured =
                news.and_then(|own| Some(Measured { at: Position::new(own.position), when: own.at? }));
            if let Some(own) = news {
                known.measured_at = own.at;
            }
        }
    }

    /// Takes all that has come over every way, for the stage.
    fn drain(&mut self, now: Duration) {
        self.heard.fill(Heard::default());
        self.batches.fill(Batch::default());
        for way in &mut self.ways {
            if let Some(gone) = way.drain(now) {
                let _ = self.to_free.send(Old::Inlet(gone));
            }
            way.hand_over(&mut self.heard, &mut self.batches);
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
            let boards = self.boards.get(port).map_or(&[][..], Vec::as_slice);
            let frame = post.frames.input_buffer_mut();
            // Grows only when an edit brought another board.
            frame.truncate(boards.len());
            frame.extend(boards.iter().skip(frame.len()).map(|followed| BoardFrame::idle(&followed.board)));
            for (board, followed) in frame.iter_mut().zip(boards) {
                board.idle_again(&followed.board);
                board.cut = self.stage.output() == StageOutput::Cut;
                board.decision = followed.decision;
                board.errand.clone_from(&followed.errand);
            }
            let servos = self.stage.servos().iter().zip(&plan.servos).zip(&self.compiled.wiring.servos);
            for (((state, plan), place), known) in servos.zip(&self.wires) {
                let Some(place) = place.filter(|p| p.port == port) else { continue };
                let Some(board) = frame.get_mut(place.board) else { continue };
                let told = state.setpoint.filter(|_| state.engaged);
                board.orders.wanted.set(place.channel, told.map(|told| told.target.0));
                if plan.kind.is_smart() {
                    board.orders.speeds.set(place.channel, told.map_or(0.0, |told| told.speed));
                }
                board.stay.set(place.channel, plan.stay_stiff);
                board.heard.set(place.channel, known.interruptions);
                // Where it stands still at present, trimmed as it is.
                let stop = plan.stop.filter(|_| !plan.idle_release);
                board.stop.set(place.channel, stop.map(|stop| plan.guard.nearest(stop + state.trim()).0));
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

    /// Keeps how the input stands that is looked at.
    fn keep_trace(&mut self, now: Duration) {
        let Some(input) = self.traced else { return };
        let place = self.compiled.index.inputs.place(input);
        let Some(state) = place.and_then(|place| self.stage.inputs().get(place)) else { return };
        let Some(raw) = state.counts else { return };
        let stages = &state.stages;
        let place = stages.span + stages.clipped;
        self.trace.keep(input, Sample { at: now, raw, place, shaped: stages.shaped(), live: state.live });
    }

    fn publish(&mut self, now: Duration) {
        let snapshot = self.up.input_buffer_mut();
        snapshot.version = self.compiled.version;
        snapshot.now = now;
        snapshot.output = self.stage.output();
        snapshot.servos.clear();
        snapshot.servos.extend_from_slice(self.stage.servos());
        snapshot.inputs.clone_from_slice_or_grow(self.stage.inputs());
        snapshot.mappings.clone_from_slice_or_grow(self.stage.mappings());
        snapshot.players = *self.stage.players();
        snapshot.tempo = self.stage.tempo();
        // Grows only when a port was added.
        snapshot.boards.resize_with(self.posts.len(), Vec::new);
        for (port, post) in snapshot.boards.iter_mut().zip(&mut self.posts) {
            port.clone_from_slice_or_grow(post.reports.output_buffer());
        }
        for way in &self.ways {
            way.report(now, &mut self.reports);
        }
        snapshot.links.clone_from_slice_or_grow(self.stage.links());
        snapshot.reports.clone_from_slice_or_grow(&self.reports);
        snapshot.events.clear();
        snapshot.events.extend_from_slice(&self.events);
        snapshot.punctual = self.punctual;
        snapshot.trace.clone_from(&self.trace);
        self.up.publish();
    }

    /// Publishes once more, so that a screen driven by hand sees what the workers did in the same beat.
    pub(crate) fn collect(&mut self) {
        for post in &mut self.posts {
            post.reports.update();
        }
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
