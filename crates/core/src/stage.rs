//! The stage: the only place where inputs, mappings, a playing sequence, the hand and the guard meet.
//!
//! `advance` takes the time, what came in and what was asked, and gives the ticks for every servo. It is
//! deterministic and allocates nothing; threads, devices and the screen are all above it.

pub mod command;
mod drive;
pub mod plan;
mod player;
mod wiggle;

pub use command::{Command, Event, EventKind, Refusal};
pub use plan::Plan;
pub use player::{Play, Player};

use crate::estimate::{Estimate, Known};
use crate::guard::Stopped;
use crate::link::{Health, Link};
use crate::rig::Id;
use crate::shape::{Memory, Stages};
use crate::unit::{Micros, Ticks};
use drive::{Beat, Sources};
use std::time::Duration;
use wiggle::Wiggle;

/// What leaves the program as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Output {
    /// No pulses yet.
    #[default]
    Off,
    /// Engaged servos follow.
    Driving,
    /// The last pulses stay.
    Held,
    /// Dropped until re-enabled on purpose.
    Cut,
}

/// Who drives a joint.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Owner {
    /// Nobody: it gets no pulses.
    #[default]
    Nobody,
    /// The maker.
    Hand,
    /// A sequence.
    Sequence,
    /// An input.
    Mapping,
    /// An input whose link is lost; it does as told for that.
    LostMapping,
    /// Nothing else: it goes home.
    Home,
    /// Nothing else and no home: it stays.
    Rest,
}

impl Owner {
    /// The word in the roster.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Nobody => "off",
            Self::Hand => "hand",
            Self::Sequence => "seq",
            Self::Mapping => "map",
            Self::LostMapping => "lost",
            Self::Home => "home",
            Self::Rest => "rest",
        }
    }
}

/// One servo as it stands.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ServoState {
    /// It gets pulses.
    pub engaged: bool,
    /// The pulse it is commanded to, before rounding; the last one while released.
    pub pulse: Micros,
    /// What is on the wire, if anything.
    pub ticks: Option<Ticks>,
    /// Where its owner wants it.
    pub target: Micros,
    /// Who drives it.
    pub owner: Owner,
    /// It is on its way to meet a new owner.
    pub gliding: bool,
    /// What keeps it from its target.
    pub stopped: Option<Stopped>,
    /// Where it is, as far as can be known.
    pub estimate: Estimate,
    hand: Option<Micros>,
    wiggle: Option<Wiggle>,
    /// What is left of the time that it must see its neutral; all there is while that cannot begin.
    arming: Duration,
    glided: Duration,
    failsafe_speed: f64,
}

impl ServoState {
    /// The time that it must still see its neutral before it follows; none when it follows.
    pub const fn arming(&self) -> Option<Duration> {
        if self.arming.is_zero() { None } else { Some(self.arming) }
    }

    /// Whether its neutral does not reach it, so that its arming has not begun.
    pub fn is_unarmed(&self) -> bool {
        self.arming == Duration::MAX
    }

    /// Whether it moves to and fro to be told from the others.
    pub const fn is_wiggling(&self) -> bool {
        self.wiggle.is_some()
    }
}

/// One input as it stands.
#[derive(Debug, Clone, Default)]
pub struct InputState {
    /// The newest raw value.
    pub raw: Option<f64>,
    /// The value after each stage.
    pub stages: Stages,
    /// The health of what carries it.
    pub health: Health,
    /// The age of the newest frame.
    pub age: Option<Duration>,
    memory: Memory,
    link: Link,
}

/// What came in for one input since the last call.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Reading {
    /// The newest value, if any frame came.
    pub value: Option<f64>,
    /// How many good frames came.
    pub frames: u32,
    /// Whether any value differed from the one before it.
    pub changed: bool,
    /// The way to it is gone.
    pub gone: bool,
}

/// What the servos are to get: ticks, or no pulse.
pub type Setpoints = [Option<Ticks>];

/// A plan with room for its state, made outside the beat.
#[derive(Debug)]
pub struct Prepared {
    plan: Plan,
    servos: Vec<ServoState>,
    inputs: Vec<InputState>,
    setpoints: Vec<Option<Ticks>>,
    player: Player,
}

impl Prepared {
    /// Makes room for a plan's state.
    pub fn new(plan: Plan) -> Self {
        let servos =
            plan.servos.iter().map(|s| ServoState { pulse: s.start(), ..ServoState::default() }).collect();
        Self {
            servos,
            inputs: vec![InputState::default(); plan.inputs.len()],
            setpoints: vec![None; plan.servos.len()],
            player: Player::with_room_for(plan.servos.len()),
            plan,
        }
    }
}

const MOST_EVENTS: usize = 64;
/// A glide that has not caught up by then goes on at full speed.
const GLIDE_PATIENCE: Duration = Duration::from_secs(2);
/// A held key's next nudge waits until what is left of the last takes no longer than this.
const REPEAT_REACH: Duration = Duration::from_millis(50);

/// See the module.
#[derive(Debug)]
pub struct Stage {
    run: Prepared,
    output: Output,
    now: Option<Duration>,
    beat: Duration,
    events: Vec<Event>,
}

impl Stage {
    /// A stage with output off. `beat` is the usual time between two calls of `advance`.
    pub fn new(prepared: Prepared, beat: Duration) -> Self {
        Self { run: prepared, output: Output::Off, now: None, beat, events: Vec::with_capacity(MOST_EVENTS) }
    }

    /// The plan that runs.
    pub const fn plan(&self) -> &Plan {
        &self.run.plan
    }

    /// The output's state.
    pub const fn output(&self) -> Output {
        self.output
    }

    /// The servos in rig order.
    pub fn servos(&self) -> &[ServoState] {
        &self.run.servos
    }

    /// The inputs in rig order.
    pub fn inputs(&self) -> &[InputState] {
        &self.run.inputs
    }

    /// What is playing.
    pub const fn player(&self) -> &Player {
        &self.run.player
    }

    /// What happened in the last call, in order; beyond 64 nothing more is kept.
    pub fn events(&self) -> &[Event] {
        &self.events
    }

    /// Puts another plan in place between two beats and gives the old one back to be freed elsewhere.
    ///
    /// What a servo or input remembers goes with its id. The hand keeps its pulse, other owners glide. A
    /// corrected oscillator keeps the ticks and so re-expresses the pulse. A servo on another channel than
    /// before is released.
    pub fn swap(&mut self, mut next: Prepared) -> Prepared {
        std::mem::swap(&mut self.run, &mut next);
        let old = next;
        for (n, plan) in self.run.plan.servos.iter().enumerate() {
            let Some(m) = old.plan.servos.iter().position(|s| s.id == plan.id) else { continue };
            let (Some(state), Some(before), Some(was)) =
                (self.run.servos.get_mut(n), old.servos.get(m), old.plan.servos.get(m))
            else {
                continue;
            };
            *state = *before;
            let factor = was.oscillator / plan.oscillator;
            state.wiggle = None;
            state.pulse = state.pulse * factor;
            state.target = state.target * factor;
            state.hand = state.hand.map(|p| p * factor);
            state.estimate.pulse = state.estimate.pulse * factor;
            if plan.arming.is_none() {
                state.arming = Duration::ZERO;
            }
            // What hangs on the new channel stands somewhere else: no pulse for it until it is engaged there. Nor
            // is a lamp's pulse one for a servo.
            if (&was.plug, was.kind) != (&plan.plug, plan.kind) {
                state.engaged = false;
                state.hand = None;
                state.wiggle = None;
                state.estimate.release(true);
            }
            // Met anew under the new plan: with a glide, and with a failsafe's speed as it is now.
            if state.owner != Owner::Hand {
                state.owner = Owner::Nobody;
            }
        }
        for (n, plan) in self.run.plan.inputs.iter().enumerate() {
            let m = old.plan.inputs.iter().position(|i| i.id == plan.id);
            if let (Some(state), Some(before)) =
                (self.run.inputs.get_mut(n), m.and_then(|m| old.inputs.get(m)))
            {
                state.clone_from(before);
                state.memory.shaped_anew();
            }
        }
        if self.output == Output::Driving && !self.run.servos.iter().any(|s| s.engaged) {
            self.output = Output::Off;
        }
        let place = |id: Id| old.plan.servos.iter().position(|s| s.id == id);
        self.run.player.carry(&old.player, &self.run.plan, place);
        old
    }

    /// Moves everything on to `now`. `readings` are in the order of the plan's inputs.
    pub fn advance(&mut self, now: Duration, readings: &[Reading], commands: &[Command]) -> &Setpoints {
        self.events.clear();
        // A late engine must not jump: time counts for two beats at most.
        let dt = self.now.map_or(Duration::ZERO, |before| now.saturating_sub(before)).min(self.beat * 2);
        self.now = Some(now);
        for &command in commands {
            self.obey(now, command);
        }
        self.read(now, readings, dt.as_secs_f64());
        if self.output != Output::Held && self.run.player.advance(&self.run.plan, dt) {
            self.note(now, EventKind::SequenceEnded, None);
        }
        self.drive(now, dt);
        &self.run.setpoints
    }

    fn note(&mut self, at: Duration, kind: EventKind, servo: Option<usize>) {
        if self.events.len() < MOST_EVENTS {
            self.events.push(Event { at, kind, part: servo });
        }
    }

    fn read(&mut self, now: Duration, readings: &[Reading], dt: f64) {
        for (n, (state, plan)) in self.run.inputs.iter_mut().zip(&self.run.plan.inputs).enumerate() {
            let reading = readings.get(n).copied().unwrap_or_default();
            if reading.frames > 0 {
                state.link.frame(now, reading.changed, &plan.rules);
                for _ in 1..reading.frames {
                    state.link.frame(now, false, &plan.rules);
                }
            }
            if reading.gone {
                state.link.disconnect();
            }
            state.raw = reading.value.or(state.raw);
            let health = state.link.health(now, &plan.rules);
            state.age = state.link.age(now);
            if let Some(raw) = state.raw {
                state.stages = plan.shape.advance(&mut state.memory, raw, dt);
            }
            let before = std::mem::replace(&mut state.health, health);
            let matters = before != health
                && !matches!((before, health), (Health::Fresh, Health::Late) | (Health::Late, Health::Fresh));
            if matters && self.events.len() < MOST_EVENTS {
                self.events.push(Event { at: now, kind: EventKind::Link(health), part: Some(n) });
            }
        }
    }

    /// Brings every servo a beat further and sets its setpoint.
    fn drive(&mut self, now: Duration, dt: Duration) {
        let Prepared { plan, servos, inputs, setpoints, player } = &mut self.run;
        let sources = Sources { plan, inputs, player, moment: player.moment(plan), beat: self.beat };
        let standing = matches!(self.output, Output::Held | Output::Cut);
        let beat = Beat { now, dt, seconds: dt.as_secs_f64() };
        let parts = servos.iter_mut().zip(&plan.servos).zip(setpoints.iter_mut());
        for (n, ((state, plan), setpoint)) in parts.enumerate() {
            if !state.engaged {
                state.owner = Owner::Nobody;
                state.ticks = None;
            } else if standing {
                state.stand(plan, &beat);
            } else {
                let fault = state.follow(&sources.wanted(n, plan, state), plan, &beat);
                if fault && self.events.len() < MOST_EVENTS {
                    self.events.push(Event { at: now, kind: EventKind::NotANumber, part: Some(n) });
                }
            }
            *setpoint = state.ticks;
        }
    }

    fn refuse(&mut self, now: Duration, servo: usize, why: Refusal) {
        self.note(now, EventKind::Refused(why), Some(servo));
    }

    fn obey(&mut self, now: Duration, command: Command) {
        match command {
            Command::Cut => self.cut(now),
            Command::Hold => self.hold(now),
            Command::Drive => self.drive_on(now),
            Command::Engage { servo, pulse, told } => self.engage(now, servo, pulse, told),
            Command::Release { servo } => self.release(now, servo),
            Command::Jog { servo, by, repeat } => self.jog(now, servo, by, repeat),
            Command::GoTo { servo, pulse } => self.go_to(now, servo, pulse),
            Command::Wiggle { servo } => self.wiggle(now, servo),
            Command::Disarm { servo } => self.arm(servo, |_| Duration::MAX),
            Command::Arm { servo } => self.arm(servo, |time| time),
            Command::GiveBack { servo } => self.give_back(now, servo),
            Command::Play { sequence } => {
                let (driving, run) = (self.output == Output::Driving, &mut self.run);
                run.player.start(&run.plan, &run.servos, sequence, driving);
            }
            Command::Pause => self.run.player.pause(),
            Command::Seek { sequence, at } => {
                let (driving, run) = (self.output == Output::Driving, &mut self.run);
                run.player.seek(&run.plan, &run.servos, sequence, at, driving);
                for servo in run.servos.iter_mut().filter(|s| s.owner == Owner::Sequence) {
                    servo.start_glide();
                }
            }
            Command::StopPlaying => self.run.player.stop(),
        }
    }

    fn cut(&mut self, now: Duration) {
        self.output = Output::Cut;
        self.run.player.stop();
        for (state, plan) in self.run.servos.iter_mut().zip(&self.run.plan.servos) {
            state.hand = state.engaged.then_some(plan.stop.unwrap_or(state.pulse));
            state.wiggle = None;
            if state.engaged && !plan.stay_stiff {
                state.engaged = false;
                state.estimate.release(plan.loaded);
            }
        }
        self.note(now, EventKind::Cut, None);
    }

    fn hold(&mut self, now: Duration) {
        if self.output != Output::Driving {
            return;
        }
        self.output = Output::Held;
        for (state, plan) in self.run.servos.iter_mut().zip(&self.run.plan.servos) {
            state.wiggle = None;
            state.hand = state.hand.map(|_| plan.stop.unwrap_or(state.pulse));
        }
        self.note(now, EventKind::Held, None);
    }

    fn drive_on(&mut self, now: Duration) {
        self.output = if self.run.servos.iter().any(|s| s.engaged) { Output::Driving } else { Output::Off };
        for state in self.run.servos.iter_mut().filter(|s| s.engaged && s.hand.is_none()) {
            state.start_glide();
        }
        self.note(now, EventKind::Enabled, None);
    }

    /// Why a servo may not be moved now, if it may not.
    fn hindrance(&self, servo: usize) -> Option<Refusal> {
        match self.output {
            Output::Cut => Some(Refusal::Cut),
            Output::Held => Some(Refusal::Held),
            _ => match self.run.servos.get(servo)? {
                state if !state.engaged => Some(Refusal::NotEngaged),
                state => state.arming().map(|_| Refusal::Arming),
            },
        }
    }

    fn engage(&mut self, now: Duration, servo: usize, pulse: Micros, told: bool) {
        match self.hindrance(servo) {
            Some(Refusal::NotEngaged) => {}
            // It is engaged already.
            Some(Refusal::Arming) | None => return,
            Some(why) => return self.refuse(now, servo, why),
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let (low, high) = plan.guard.endpoints;
        // What turns without end stands nowhere: its first pulse is its neutral, whatever was asked.
        let pulse = plan.arming.map(|(neutral, _)| neutral).or(plan.stop).unwrap_or(pulse).within(low, high);
        state.arming = plan.arming.map_or(Duration::ZERO, |(_, time)| time);
        state.engaged = true;
        state.pulse = pulse;
        state.target = pulse;
        // The first pulse stands at once, also when a hold follows within the same beat.
        state.ticks = plan.guard.clock.quantise(pulse, low, high).ok();
        state.hand = Some(pulse);
        state.owner = Owner::Hand;
        state.gliding = false;
        // Not told where it stands, it may have come from the far end; it is known when it had the time.
        let farthest = if pulse - low > high - pulse { low } else { high };
        state.estimate = Estimate::assumed(if told { pulse } else { farthest }, now);
        if told {
            state.estimate.known = Known::Modelled;
        }
        self.output = Output::Driving;
        self.note(now, EventKind::Engaged, Some(servo));
    }

    fn release(&mut self, now: Duration, servo: usize) {
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        if !state.engaged {
            return;
        }
        state.engaged = false;
        state.hand = None;
        state.wiggle = None;
        state.estimate.release(plan.loaded);
        if self.output == Output::Driving && !self.run.servos.iter().any(|s| s.engaged) {
            self.output = Output::Off;
        }
        self.note(now, EventKind::Released, Some(servo));
    }

    fn jog(&mut self, now: Duration, servo: usize, by: Micros, repeat: bool) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let from = state.hand.unwrap_or(state.pulse);
        let left = (from - state.pulse).abs().get();
        if repeat && left > plan.guard.speed * REPEAT_REACH.as_secs_f64() {
            return;
        }
        let (to, stopped) = plan.guard.bound(from + by);
        state.wiggle = None;
        state.hand = Some(to);
        if let Some(stopped) = stopped {
            self.note(now, EventKind::Stopped(stopped), Some(servo));
        }
    }

    fn go_to(&mut self, now: Duration, servo: usize, pulse: Micros) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let (Some(state), Some(plan)) = (self.run.servos.get_mut(servo), self.run.plan.servos.get(servo))
        else {
            return;
        };
        let (to, stopped) = plan.guard.bound(pulse);
        state.wiggle = None;
        state.hand = Some(to);
        state.owner = Owner::Hand;
        state.start_glide();
        if let Some(stopped) = stopped {
            self.note(now, EventKind::Stopped(stopped), Some(servo));
        }
    }

    fn wiggle(&mut self, now: Duration, servo: usize) {
        if let Some(why) = self.hindrance(servo) {
            return self.refuse(now, servo, why);
        }
        let reach = self.run.plan.servos.get(servo).map(|plan| plan.wiggle);
        if let (Some(state), Some(reach)) = (self.run.servos.get_mut(servo), reach) {
            state.wiggle.get_or_insert(Wiggle::around(state.pulse, reach));
        }
    }

    /// Sets what is left of a servo's arming, from the whole of it; nothing for one that follows at once.
    fn arm(&mut self, servo: usize, left: impl FnOnce(Duration) -> Duration) {
        let time = self.run.plan.servos.get(servo).and_then(|plan| plan.arming).map(|(_, time)| time);
        if let (Some(state), Some(time)) = (self.run.servos.get_mut(servo), time) {
            state.arming = left(time);
            state.wiggle = None;
        }
    }

    fn give_back(&mut self, now: Duration, servo: usize) {
        if let Some(why) = self.hindrance(servo).filter(|why| *why != Refusal::Arming) {
            return self.refuse(now, servo, why);
        }
        if self.run.player.play == Play::Ended {
            self.run.player.stop();
        }
        if let Some(state) = self.run.servos.get_mut(servo) {
            state.hand = None;
        }
    }
}
