//! The stage: the only place where inputs, mappings, a playing sequence, the hand and the guard meet.
//!
//! `advance` takes the time, what came in and what was asked, and gives the ticks for every servo. It is
//! deterministic and allocates nothing; threads, devices and the screen are all above it.

mod approach;
pub mod command;
mod couple;
mod drive;
pub mod exercise;
mod incoming;
pub mod mix;
mod obey;
pub mod plan;
mod player;
mod press;
mod sequences;
mod swap;
mod wiggle;

pub use crate::guard::Setpoint;
pub use command::{About, AsIf, Command, Event, EventKind, Placed, Refusal, Said};
pub use incoming::{InputState, LinkState};
pub use mix::{MappingState, Stand};
pub use plan::Plan;
pub use player::{Among, Given, PARAMETERS, PLAYERS, Play, Player, Players, Told};
pub use sequences::Waiting;

use crate::estimate::Estimate;
use crate::guard::Stopped;
use crate::inflow::Inflow;
use crate::rig::InputId;
use crate::sequence::Eased;
use crate::unit::{Position, Ticks};
use approach::Approach;
use drive::{Beat, Catch, Proposal, Sources};
use exercise::Exercising;
use sequences::{Keys, Played};
use std::sync::Arc;
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
    /// Whoever jogs it, at the keyboard or by a knob.
    Hand,
    /// A sequence that plays, or has played and holds its last pose.
    Sequence,
    /// A mapping, from one input or several.
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

/// What a servo does by itself for a while.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Act {
    Wiggle(Wiggle),
    Exercise(Exercising),
}

/// A knob that jogs: where it was taken, and the pulses at its ends.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Knob {
    /// The input, and its place in the plan.
    input: (InputId, usize),
    /// Where it stood when it was taken, 0–1, and the servo then: nothing jumps.
    taken: Option<(f64, Position)>,
    low: Position,
    high: Position,
}

/// The way to a servo.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Wire {
    /// What is sent arrives; so it is taken to be where nobody says otherwise.
    #[default]
    Arrives,
    /// Its channel has no pulse yet.
    Waits,
    /// Its board is out of reach.
    Away,
    /// Its channel cannot drive it.
    Cannot,
}

/// One servo as it stands.
#[expect(clippy::struct_excessive_bools, reason = "each is a fact of its own; no two of them make one state")]
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ServoState {
    /// It gets pulses.
    pub engaged: bool,
    /// The pulse it is commanded to, before rounding; the last one while released.
    pub pulse: Position,
    /// What it is told, if anything.
    pub setpoint: Option<Setpoint>,
    /// Where its owner wants it.
    pub target: Position,
    /// Who drives it.
    pub owner: Owner,
    /// It is on its way to meet a new owner.
    pub gliding: bool,
    /// What keeps it from its target.
    pub stopped: Option<Stopped>,
    /// Where it is, as far as can be known.
    pub estimate: Estimate,
    hand: Option<Position>,
    /// The pulses that the hand's knob stands for, while one has it.
    knob: Option<Knob>,
    /// What is added to every pulse of a continuous servo, for it stands still elsewhere when warm.
    trim: Position,
    act: Option<Act>,
    /// Which sequences it follows.
    played: Played,
    /// What those add to its angle now, in degrees.
    added: f64,
    approach: Approach,
    /// For how long the hand has left it alone.
    idle: Duration,
    /// What is left of the time that it must see its neutral; all there is while that cannot begin.
    arming: Duration,
    glided: Duration,
    failsafe_speed: f64,
    /// How much slower than it may it goes, 0–1: its servo ails.
    eased: f64,
    /// Whether what is sent arrives.
    pub wire: Wire,
    /// A pulse of it has arrived since it was engaged.
    arrived: bool,
    /// Until then others that were interrupted too go first.
    goes_on_at: Duration,
    /// Its pulses had stopped, and somebody must say where it stands.
    pub lost_place: bool,
    /// The pulse before this beat.
    before: Position,
    /// An edit left it where it may not stand.
    displaced: bool,
    /// The place of the mapping that drives it, while one does.
    by: usize,
    /// Where it is to be while it is told a rate.
    aim: Position,
    /// Whether the input has passed it since a mapping has it.
    catch: Catch,
}

impl ServoState {
    /// The whole ticks that it is told, if anything.
    #[inline]
    pub fn ticks(&self) -> Option<Ticks> {
        self.setpoint.map(|setpoint| setpoint.target)
    }

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
        matches!(self.act, Some(Act::Wiggle(_)))
    }

    /// The exercise that it goes through.
    pub const fn exercise(&self) -> Option<&Exercising> {
        match &self.act {
            Some(Act::Exercise(exercising)) => Some(exercising),
            _ => None,
        }
    }

    /// The place of the mapping that drives it, lost or not; none while something else does.
    pub fn mapping(&self) -> Option<usize> {
        matches!(self.owner, Owner::Mapping | Owner::LostMapping).then_some(self.by)
    }

    /// Whether the input that is to pick it up asks for a longer pulse than it has; none while nothing waits for that.
    pub fn picked_up_from(&self) -> Option<bool> {
        match self.catch {
            Catch::Waits { longer } if self.owner == Owner::Mapping => Some(longer),
            _ => None,
        }
    }

    /// The player that moves it, or would if nobody had its word before.
    pub fn player<'p>(&self, players: &'p Players) -> Option<&'p Player> {
        players.0.get(usize::from(self.played.by?.0))
    }

    /// The player that adds to its angle, and what is added now, in degrees.
    pub fn added<'p>(&self, players: &'p Players) -> Option<(&'p Player, f64)> {
        Some((players.0.get(usize::from(self.played.added?.0))?, self.added))
    }

    /// What is added to every pulse of a continuous servo.
    pub const fn trim(&self) -> Position {
        self.trim
    }

    /// The input that jogs it, and the pulses at that one's ends.
    pub fn jogged_by(&self) -> Option<(InputId, Position, Position)> {
        self.knob.map(|knob| (knob.input.0, knob.low, knob.high))
    }

    /// The time after which it is released because the hand leaves it alone; none while that does not count.
    pub fn released_in(&self, plan: &plan::ServoPlan) -> Option<Duration> {
        let limit = plan.idle?;
        (self.engaged && self.owner == Owner::Hand && !self.idle.is_zero())
            .then(|| limit.saturating_sub(self.idle))
    }

    /// Its pulses stop.
    const fn release(&mut self, loaded: bool) {
        self.engaged = false;
        self.hand = None;
        self.interrupt();
        self.estimate.release(loaded);
    }

    /// What it was doing by itself is over.
    const fn interrupt(&mut self) {
        self.act = None;
        self.knob = None;
        self.idle = Duration::ZERO;
    }
}

/// What the servos are told, in rig order; none for those that are to get no pulse.
pub type Setpoints = [Option<Setpoint>];

/// A plan with room for its state, made outside the beat.
#[derive(Debug)]
pub struct Prepared {
    plan: Arc<Plan>,
    servos: Vec<ServoState>,
    links: Vec<LinkState>,
    inputs: Vec<InputState>,
    mappings: Vec<MappingState>,
    /// How often the switch of each press had changed when it was looked at last.
    seen: Vec<u32>,
    setpoints: Vec<Option<Setpoint>>,
    proposals: Vec<Proposal>,
    players: Players,
    /// What programs wait for, one after the other.
    waiting: Vec<Waiting>,
}

impl Prepared {
    /// What it drives by: the rig with nothing left open.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// Makes room for a plan's state.
    pub fn new(plan: impl Into<Arc<Plan>>) -> Self {
        let plan = plan.into();
        Self {
            servos: plan.servos.iter().map(plan::ServoPlan::fresh).collect(),
            links: vec![LinkState::default(); plan.links.len()],
            inputs: vec![InputState::default(); plan.inputs.len()],
            mappings: vec![MappingState::default(); plan.mappings.len()],
            seen: vec![0; plan.presses.len()],
            setpoints: vec![None; plan.servos.len()],
            proposals: vec![Proposal::Released; plan.servos.len()],
            players: Players::default(),
            waiting: vec![Waiting::default(); plan.programs.iter().map(|program| program.waits.len()).sum()],
            plan,
        }
    }
}

const MOST_EVENTS: usize = 64;

/// Keeps what happened to a servo, as long as there is room.
fn note(events: &mut Vec<Event>, at: Duration, kind: EventKind, plan: &plan::ServoPlan) {
    if events.len() < MOST_EVENTS {
        events.push(Event { at, kind, about: About::Servo(plan.id) });
    }
}

/// A glide that has not caught up by then goes on at full speed.
const GLIDE_PATIENCE: Duration = Duration::from_secs(2);

/// See the module.
#[derive(Debug)]
pub struct Stage {
    run: Prepared,
    output: Output,
    now: Option<Duration>,
    beat: Duration,
    /// When the next of those that were interrupted may go on.
    next_goes_on: Duration,
    /// How fast what plays goes beside what is written, 1 being as written.
    tempo: f64,
    /// Nothing is waited for.
    rehearses: bool,
    /// How many players were begun.
    begun: u32,
    /// The keys that were pressed since the last call.
    keys: Keys,
    events: Vec<Event>,
}

impl Stage {
    /// A stage with output off. `beat` is the usual time between two calls of `advance`.
    pub fn new(prepared: Prepared, beat: Duration) -> Self {
        Self {
            run: prepared,
            output: Output::Off,
            now: None,
            beat,
            next_goes_on: Duration::ZERO,
            tempo: 1.0,
            rehearses: false,
            begun: 0,
            keys: Keys::default(),
            events: Vec::with_capacity(MOST_EVENTS),
        }
    }

    /// The plan that runs.
    pub fn plan(&self) -> &Plan {
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

    /// The links in rig order.
    pub fn links(&self) -> &[LinkState] {
        &self.run.links
    }

    /// The inputs in rig order.
    pub fn inputs(&self) -> &[InputState] {
        &self.run.inputs
    }

    /// The mappings in rig order.
    pub fn mappings(&self) -> &[MappingState] {
        &self.run.mappings
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
            let Some(m) = old.plan.servo_place(plan.id) else { continue };
            let (Some(state), Some(before), Some(was)) =
                (self.run.servos.get_mut(n), old.servos.get(m), old.plan.servos.get(m))
            else {
                continue;
            };
            // A knob goes with its input, wherever that stands in the list now.
            let place = |input: InputId| self.run.plan.input_place(input);
            *state = before.carried(was, plan, place);
        }
        for (n, plan) in self.run.plan.links.iter().enumerate() {
            let m = old.plan.link_place(plan.id);
            let was = m.and_then(|m| Some((old.links.get(m)?, old.plan.links.get(m)?)));
            if let (Some(state), Some((before, was))) = (self.run.links.get_mut(n), was)
                && was.place == plan.place
            {
                state.clone_from(before);
            }
        }
        for (n, plan) in self.run.plan.inputs.iter().enumerate() {
            let m = old.plan.input_place(plan.id);
            let was = m.and_then(|m| Some((old.inputs.get(m)?, old.plan.inputs.get(m)?)));
            // What stands in for an input does so wherever that is read from.
            if let (Some(state), Some((before, _))) = (self.run.inputs.get_mut(n), was) {
                state.as_if = before.as_if;
            }
            // What another channel has said is nothing that this one has.
            let link = |plan: &Plan, input: &plan::InputPlan| {
                plan.links.get(input.link).map(|link| (link.id, link.place.clone()))
            };
            if let (Some(state), Some((before, was))) = (self.run.inputs.get_mut(n), was)
                && was.channel == plan.channel
                && link(&old.plan, was) == link(&self.run.plan, plan)
            {
                state.clone_from(before);
                state.memory.shaped_anew();
                if was.switch != plan.switch {
                    state.switch.unheard();
                }
            }
        }
        for (n, plan) in self.run.plan.mappings.iter().enumerate() {
            let before = old.plan.mapping_place(plan.id).and_then(|m| old.mappings.get(m));
            if let Some(state) = self.run.mappings.get_mut(n) {
                *state = plan.carried(&before.copied().unwrap_or_default(), &self.run.inputs);
            }
        }
        // What was pressed before there was a press for it does nothing now.
        for (seen, plan) in self.run.seen.iter_mut().zip(&self.run.plan.presses) {
            *seen = plan.changes(&self.run.inputs);
        }
        self.off_when_all_are();
        self.carry_players(&old);
        old
    }

    /// Moves everything on to `now`, with what came in since the last call.
    pub fn advance(&mut self, now: Duration, inflow: Inflow<'_>, commands: &[Command]) -> &Setpoints {
        self.events.clear();
        // A late engine must not jump: time counts for two beats at most.
        let dt = self.now.map_or(Duration::ZERO, |before| now.saturating_sub(before)).min(self.beat * 2);
        self.now = Some(now);
        for &command in commands {
            self.obey(now, command);
        }
        self.read(now, inflow, dt.as_secs_f64());
        if !self.run.seen.is_empty() {
            self.presses(now);
        }
        for (state, plan) in self.run.mappings.iter_mut().zip(&self.run.plan.mappings) {
            plan.advance(state, &self.run.inputs, dt.as_secs_f64());
        }
        self.sway();
        if self.output != Output::Held {
            self.advance_players(now, dt);
        }
        self.drive(now, dt);
        &self.run.setpoints
    }

    /// Output is off once nothing is engaged any more.
    fn off_when_all_are(&mut self) {
        if self.output == Output::Driving && !self.run.servos.iter().any(|s| s.engaged) {
            self.output = Output::Off;
        }
    }

    fn note(&mut self, at: Duration, kind: EventKind, servo: Option<usize>) {
        let servo = servo.and_then(|n| self.run.plan.servos.get(n));
        if self.events.len() < MOST_EVENTS {
            self.events.push(Event { at, kind, about: servo.map_or(About::Output, |s| About::Servo(s.id)) });
        }
    }

    fn note_sequence(&mut self, at: Duration, sequence: crate::rig::SequenceId, kind: EventKind) {
        if self.events.len() < MOST_EVENTS {
            self.events.push(Event { at, kind, about: About::Sequence(sequence, None) });
        }
    }

    fn note_about(&mut self, at: Duration, sequence: crate::rig::SequenceId, servo: usize, kind: EventKind) {
        let servo = self.run.plan.servos.get(servo).map(|plan| plan.id);
        if self.events.len() < MOST_EVENTS {
            self.events.push(Event { at, kind, about: About::Sequence(sequence, servo) });
        }
    }

    fn note_input(&mut self, at: Duration, input: usize, kind: EventKind) {
        if let Some(input) = self.run.plan.inputs.get(input)
            && self.events.len() < MOST_EVENTS
        {
            self.events.push(Event { at, kind, about: About::Input(input.id) });
        }
    }

    /// Brings every servo a beat further and sets its setpoint.
    fn drive(&mut self, now: Duration, dt: Duration) {
        let beat = Beat::of(now, dt);
        self.propose(&beat);
        let Prepared { plan, servos, proposals, .. } = &mut self.run;
        couple::settle(plan, servos, proposals, &beat);
        let released = self.commit(&beat);
        if released {
            self.off_when_all_are();
        }
    }

    /// Where each servo would go by itself.
    fn propose(&mut self, beat: &Beat) {
        let Self { run, events, beat: number, .. } = self;
        let Prepared { plan, servos, inputs, mappings, players, proposals, .. } = run;
        let (programs, beat_s) = (&plan.programs, number.as_secs_f64());
        let mut sources =
            Sources { mappings, players, programs, inputs, beat: beat_s, eased: Eased::default() };
        let standing = matches!(self.output, Output::Held | Output::Cut);
        let plans: &Plan = plan;
        let parts = servos.iter_mut().zip(&plan.servos).zip(proposals.iter_mut());
        for ((state, plan), proposal) in parts {
            *proposal = if plan.led.is_some() {
                Proposal::Led
            } else {
                if state.knob.is_some() {
                    state.turn(inputs, plans);
                }
                if !state.engaged {
                    Proposal::Released
                } else if standing {
                    Proposal::Stands
                } else if std::mem::take(&mut state.displaced) {
                    state.start_glide();
                    note(events, beat.now, EventKind::Displaced, plan);
                    Proposal::Frozen
                } else {
                    let wanted = sources.wanted(plan, state, beat.seconds);
                    state.propose(wanted, plan, beat)
                }
            };
        }
    }

    /// Does what was settled; whether anything was released because it was left alone.
    fn commit(&mut self, beat: &Beat) -> bool {
        let mut released = false;
        let Self { run, events, output, .. } = self;
        let Prepared { plan, servos, setpoints, proposals, .. } = run;
        let parts = servos.iter_mut().zip(&plan.servos).zip(setpoints.iter_mut()).zip(proposals.iter());
        for (((state, plan), setpoint), proposal) in parts {
            // Who follows is told by where its leader was before.
            state.before = state.pulse;
            let told = match proposal {
                Proposal::Released => {
                    state.owner = Owner::Nobody;
                    None
                }
                Proposal::Stands => state.stand(plan, beat),
                Proposal::LetsGo => {
                    state.release(plan.loaded);
                    (state.owner, released) = (Owner::Nobody, true);
                    note(events, beat.now, EventKind::LostReleased, plan);
                    None
                }
                Proposal::Frozen => Some(plan.guard.standing(state.pulse)),
                Proposal::Led => continue,
                Proposal::Goes(going) => {
                    let was = state.stopped;
                    let told = state.commit(going, plan, beat);
                    if state.stopped == Some(Stopped::NotANumber) && was != state.stopped {
                        note(events, beat.now, EventKind::NotANumber, plan);
                    }
                    told
                }
            };
            // Both from one value: the processor stalls where it reads back at once what was written in parts.
            (state.setpoint, *setpoint) = (told, told);
            if state.act.is_some() && state.ends_exercise(plan) {
                note(events, beat.now, EventKind::Exercised, plan);
            }
            // Most are in nobody's hand.
            if state.owner != Owner::Hand {
                state.idle = Duration::ZERO;
            } else if let Some(limit) = plan.idle
                && state.is_left_alone(limit, *output, beat.dt)
            {
                state.release(plan.loaded);
                released = true;
                note(events, beat.now, EventKind::IdleReleased, plan);
            }
        }
        self.commit_led(beat);
        released
    }

    /// Brings what follows to where its leader is now.
    fn commit_led(&mut self, beat: &Beat) {
        let Prepared { plan, servos, setpoints, proposals, .. } = &mut self.run;
        for &n in &plan.followers {
            let (Some(plan), Some(Proposal::Led)) = (plan.servos.get(n), proposals.get(n)) else { continue };
            let Some(led) = &plan.led else { continue };
            let Some(leader) = servos.get(led.leader).copied() else { continue };
            let (Some(state), Some(setpoint)) = (servos.get_mut(n), setpoints.get_mut(n)) else { continue };
            state.before = state.pulse;
            couple::follow(led, &leader, state, plan, beat);
            *setpoint = state.setpoint;
        }
    }
}
