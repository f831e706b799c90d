//! What a drawing may look at: the rig, what follows from it, the newest snapshot, and the screen's own state.

use crate::edition::Edition;
use crate::screen::entry::PulseContext;
use crate::screen::model::Model;
use crate::screen::step::Nudge;
use crate::session::Session;
use crate::survey;
use wasvolta_core::PwmClock;
use wasvolta_core::diagnose;
use wasvolta_core::estimate::Known;
use wasvolta_core::fit::{Fit, NoFit};
use wasvolta_core::linkage::Transmission;
use wasvolta_core::review::Review;
use wasvolta_core::rig::edit::End;
use wasvolta_core::rig::{
    Board, Input, Joint, Layout, Link, Mapping, Protocol, Rig, Sequence, Servo, Signal,
};
use wasvolta_core::scale::Scale;
use wasvolta_core::sequence::Program;
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::stage::{InputState, LinkState, Play, Player, ServoState};
use wasvolta_core::unit::{Degrees, Position, Ticks};
use wasvolta_engine::snapshot::{BoardState, LinkReport};
use wasvolta_engine::why;
use wasvolta_port::Fault;
use wasvolta_port::board::{Evidence, Feedback, Found, Phase, Stand, Wanted};
use wasvolta_port::firmata::Role;
use wasvolta_port::scan::{Bus, Device, PwmChip};
use wasvolta_sim::practice::Deal;
use wasvolta_sim::{Look, Mood};

/// Everything a drawing may look at.
#[derive(Clone, Copy)]
#[expect(clippy::struct_excessive_bools, reason = "facts of different things, not modes")]
pub struct Scene<'a> {
    /// The screen's own state, with the snapshot.
    pub model: &'a Model,
    /// The rig that is spoken of: what is drawn is the one that the snapshot is about, what is acted on is the newest.
    pub rig: &'a Rig,
    /// The same, with what follows from it.
    pub edition: &'a Edition,
    /// The edition that the snapshot is about.
    pub shown: &'a Edition,
    /// The kernel's PWM chips.
    pub chips: &'a [PwmChip],
    /// There are edits that the file does not have.
    pub unsaved: bool,
    /// Another program has written the file.
    pub changed_outside: bool,
    /// Something can be undone, and redone.
    pub undo: (bool, bool),
    /// Time passes by hand.
    pub by_hand: bool,
    /// What sends on the simulated line of the picked input.
    pub sender: Option<Sending>,
    /// Why the way of the picked input's link cannot be opened.
    pub link_trouble: Option<&'a str>,
    /// A look at what is there is being taken.
    pub looking: bool,
    /// The snapshot shows what every command has set off.
    pub heard: bool,
    /// Some of the hardware is simulated.
    pub simulated: bool,
    /// What was dealt, where somebody practises.
    pub practice: Option<&'a Deal>,
}

/// What sends on a simulated line.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Sending {
    /// Where the control behind the picked input's channel stands, 0–1; none where there is none.
    pub at: Option<f64>,
    /// Its plug is in.
    pub plugged: bool,
    /// How it fares.
    pub mood: Mood,
}

/// A link as the beat has it, with its health.
#[derive(Clone, Copy)]
pub struct Linked<'a> {
    pub link: &'a Link,
    /// What is spoken there.
    pub protocol: Protocol,
    pub state: &'a LinkState,
    /// Its way and its channels.
    pub report: &'a LinkReport,
}

/// The picked servo with all that belongs to it.
#[derive(Clone, Copy)]
pub struct Picked<'a> {
    pub servo: &'a Servo,
    pub joint: Option<&'a Joint>,
    pub board: &'a Board,
    pub plan: &'a ServoPlan,
    pub state: &'a ServoState,
    /// What is between its shaft and its joint.
    pub through: Transmission,
    /// What an eye sees of it.
    pub look: Option<Look>,
    /// What is on its wire.
    pub wire: OnWire,
    /// What it says of itself, if it is smart.
    pub feedback: Option<Feedback>,
    /// Where the registers of its bus stand, if it is smart.
    pub layout: Option<&'a Layout>,
    /// It is limp and was moved by hand.
    pub taught: bool,
}

/// What is on a servo's wire, as far as its board has shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OnWire {
    /// It was told, and hears what it is told.
    Told(Ticks),
    /// It was told this last; what it does now cannot be seen.
    Last(Ticks),
    /// It was found there, and nobody here has sent it.
    Found(Ticks),
    Nothing,
    /// Nobody can say.
    Unknown,
}

impl Model {
    /// What an action may look at: the newest edition, with what is known of its parts.
    pub fn scene<'a>(&'a self, session: &'a Session) -> Scene<'a> {
        self.scene_of(session, &session.runner.edition)
    }

    /// What a drawing may look at: the edition that the snapshot is about.
    pub fn shown<'a>(&'a self, session: &'a Session) -> Scene<'a> {
        self.scene_of(session, session.runner.edition_of(&self.snapshot))
    }

    fn scene_of<'a>(&'a self, session: &'a Session, edition: &'a Edition) -> Scene<'a> {
        let input = edition.input(self.input.id);
        let sender = input.and_then(|input| {
            let sender = session.runner.sender(&input.link)?;
            let (at, plugged, mood) = (sender.position(&input.channel), sender.is_plugged(), sender.mood());
            Some(Sending { at, plugged, mood })
        });
        Scene {
            model: self,
            rig: &edition.rig,
            edition,
            shown: session.runner.edition_of(&self.snapshot),
            chips: &session.runner.lookout.chips,
            unsaved: session.document.is_unsaved(),
            changed_outside: session.document.is_changed_outside(),
            undo: session.document.can_undo_redo(),
            by_hand: session.runner.manual.is_some(),
            sender,
            link_trouble: self.in_inputs.link_trouble.as_deref(),
            looking: session.runner.lookout.is_looking(),
            heard: session.runner.engine.is_heard(self.snapshot.now),
            simulated: session.runner.simulated.is_some(),
            practice: session.practice.as_ref(),
        }
    }
}

impl OnWire {
    /// The ticks that it is about, if it is about any.
    pub const fn ticks(self) -> Option<Ticks> {
        match self {
            Self::Told(ticks) | Self::Last(ticks) | Self::Found(ticks) => Some(ticks),
            Self::Nothing | Self::Unknown => None,
        }
    }

    /// What those ticks are, in full and in short.
    pub const fn label(self) -> (&'static str, &'static str) {
        match self {
            Self::Told(_) | Self::Nothing | Self::Unknown => ("on the wire", "wire"),
            Self::Last(_) => ("last sent", "last"),
            Self::Found(_) => ("left on", "left"),
        }
    }

    /// The words where there are no ticks.
    pub const fn without(self) -> &'static str {
        if matches!(self, Self::Unknown) { "not known" } else { "no pulse" }
    }
}

impl<'a> Scene<'a> {
    /// What has a pulse, or was found to have one, by what the boards have said last: servos by their names, channels
    /// that no servo of the rig is on by theirs.
    ///
    /// Smart servos have no pulses: of those [`Self::stiff`] tells.
    pub fn pulsing(&self) -> Vec<String> {
        let boards = self.edition.boards(&self.model.snapshot);
        let boards = boards.filter(|(board, _)| !board.chip.row().is_smart);
        let name = |board: &Board, channel: usize| {
            let mut servos = self.rig.servos_on(&board.name);
            let servo = servos.find(|servo| usize::from(servo.plug()) == channel);
            servo.map_or_else(|| self.rig.plug_words(&board.name, channel), |servo| servo.name.clone())
        };
        boards.flat_map(|(board, state)| state.pulsing().map(move |channel| name(board, channel))).collect()
    }

    /// Smart servos that say that they are stiff, and those that say neither that nor that they are limp.
    pub fn stiff(&self) -> (Vec<&'a str>, Vec<&'a str>) {
        let all = (0..self.rig.servos.len()).filter_map(|n| self.servo(n));
        let (mut stiff, mut unheard) = (Vec::new(), Vec::new());
        for picked in all.filter(|picked| picked.servo.kind.is_smart()) {
            match picked.feedback.map(|own| own.stand) {
                Some(Stand::Limp) => {}
                Some(Stand::Stiff) => stiff.push(picked.servo.name.as_str()),
                _ => unheard.push(picked.servo.name.as_str()),
            }
        }
        (stiff, unheard)
    }

    /// Boards of which nobody can say what they send.
    pub fn unknown_boards(&self) -> Vec<&str> {
        let driven = self.rig.boards.iter().filter(|board| self.edition.wiring.board(board.id).is_some());
        let unknown = driven.filter(|board| self.board_state(board).is_none_or(|state| !state.is_known()));
        unknown.map(|board| board.name.as_str()).collect()
    }

    /// Whether a board was found with pulses that nobody here has sent.
    pub fn finds_pulses(&self) -> bool {
        let mut boards = self.edition.boards(&self.model.snapshot);
        boards.any(|(_, state)| matches!(state.phase, Phase::Asking(Found::Pulsing { .. })))
    }

    /// The picked servo, if the rig has any.
    pub fn picked(&self) -> Option<Picked<'a>> {
        self.servo(self.place()?)
    }

    /// The place of the picked servo.
    pub fn place(&self) -> Option<usize> {
        self.edition.index.servos.place(self.model.servo.id)
    }

    /// The picked servo's fit.
    pub fn fit(&self) -> Option<&'a Result<Fit, NoFit>> {
        self.edition.fits.get(self.place()?)
    }

    /// The state of a servo by its place. One that the stage does not know yet has the state that it will begin with.
    pub fn state(&self, n: usize) -> Option<&'a ServoState> {
        let servo = self.rig.servos.get(n)?;
        let place = self.shown.index.servos.place(servo.id);
        place.and_then(|place| self.model.snapshot.servos.get(place)).or_else(|| self.edition.fresh.get(n))
    }

    /// The state of an input by its place, once the stage knows it.
    pub fn input_state(&self, n: usize) -> Option<&'a InputState> {
        let place = self.shown.index.inputs.place(self.rig.inputs.get(n)?.id)?;
        self.model.snapshot.inputs.get(place)
    }

    /// The links in rig order, as far as the beat knows them.
    pub fn links(&self) -> impl Iterator<Item = Linked<'a>> + use<'a> {
        let scene = *self;
        scene.rig.links.iter().filter_map(move |link| scene.linked(link))
    }

    /// How a link stands.
    pub fn linked(&self, link: &'a Link) -> Option<Linked<'a>> {
        let (state, report) = self.shown.link_state(&self.model.snapshot, link.id)?;
        Some(Linked { link, protocol: self.rig.protocol_of(link)?, state, report })
    }

    /// The link that an input comes over.
    pub fn link_of(&self, input: &Input) -> Option<Linked<'a>> {
        self.linked(self.edition.parts().link(&input.link)?)
    }

    /// Whether something is driven by what comes over a link.
    pub fn drives(&self, link: &Link) -> bool {
        let place = self.edition.index.links.place(link.id);
        place.and_then(|n| self.edition.plan.links.get(n)).is_some_and(|plan| plan.drives)
    }

    /// All servos with their states, in rig order.
    pub fn servos(&self) -> impl Iterator<Item = (&'a Servo, &'a ServoState)> + use<'a> {
        let scene = *self;
        scene.rig.servos.iter().enumerate().filter_map(move |(n, servo)| Some((servo, scene.state(n)?)))
    }

    /// The place of the picked input.
    pub fn input_place(&self) -> Option<usize> {
        self.edition.index.inputs.place(self.model.input.id)
    }

    /// The state of a board, as far as it has spoken.
    pub fn board_state(&self, board: &Board) -> Option<&'a BoardState> {
        self.edition.board_state(&self.model.snapshot, board.id)
    }

    /// The channel picked in Wiring: its board, its number, and the place of the servo on it.
    pub fn plug(&self) -> Option<(&'a Board, u8, Option<usize>)> {
        let (board, channel) = self.model.in_wiring.plug;
        let board = self.edition.board(board.id)?;
        let here = |s: &Servo| s.board == board.name && s.plug() == channel;
        Some((board, channel, self.rig.servos.iter().position(here)))
    }

    /// The channels of a board that are worth showing: all, or of a microcontroller's pins those that
    /// can drive a servo, as far as it has said so, and those that one is on.
    pub fn channels(&self, board: &Board) -> Vec<u8> {
        let state = self.board_state(board);
        let taken = |channel: u8| self.rig.servos_on(&board.name).any(|s| s.plug() == channel);
        let shown = |channel: &u8| match state.and_then(|state| state.evidence) {
            // Of the many ids that a bus has those are worth showing that somebody has.
            _ if board.chip.row().is_smart => false,
            Some(Evidence::Firmata(firmware)) => firmware.can(Role::Servo, usize::from(*channel)),
            Some(Evidence::Pwm(chip)) => usize::from(*channel) < chip.channels,
            Some(Evidence::Expander(_) | Evidence::Smart(_)) => true,
            None => board.chip.row().usual_channels.contains(channel),
        };
        let found = self.model.in_wiring.found(board.id);
        let answers = |channel: u8| found.iter().any(|found| found.id == channel);
        let there = |channel: &u8| shown(channel) || taken(*channel) || answers(*channel);
        (0..board.chip.channels()).filter(there).collect()
    }

    /// Why the picked servo does not move, link by link.
    pub fn chain(&self) -> Option<&'a [why::Link]> {
        let traced = self.model.chain.get_or_init(|| {
            let facts = why::of_running(self.edition, &self.model.snapshot, self.model.servo.id)?;
            let held = facts.board.address.filter(|_| facts.port.baud.is_none());
            let kernel_chip =
                held.and_then(|address| survey::kernel_chip(self.chips, &facts.port.path, address));
            Some(why::chain(&why::Facts { kernel_chip, ..facts }))
        });
        traced.as_deref()
    }

    /// What helps with a fault of a board.
    pub fn help(&self, board: &Board, fault: Fault) -> String {
        survey::help(self.rig, board, fault, self.chips)
    }

    /// Boards that the last look has found and the rig does not know, with their bus.
    pub fn found_boards(&self) -> impl Iterator<Item = (&'a Bus, &'a Device)> {
        let buses = self.model.in_wiring.scan.iter().flat_map(|scan| &scan.buses);
        let rig = self.rig;
        buses.flat_map(move |bus| survey::unknown(rig, bus).into_iter().map(move |device| (bus, device)))
    }

    /// Boards that the last look has missed, with the bus they should be on, and that do not answer now either.
    pub fn missing_boards(&self) -> impl Iterator<Item = (&'a Bus, &'a Board)> {
        let buses = self.model.in_wiring.scan.iter().flat_map(|scan| &scan.buses);
        let scene = *self;
        let answers = move |board: &Board| {
            let state = scene.board_state(board);
            state.is_some_and(|state| state.trouble.is_none() && state.phase == Phase::Started)
        };
        buses
            .flat_map(move |bus| survey::missing(scene.rig, bus).into_iter().map(move |board| (bus, board)))
            .filter(move |(_, board)| !answers(board))
    }

    /// A servo by its place.
    pub fn servo(&self, n: usize) -> Option<Picked<'a>> {
        let servo = self.rig.servos.get(n)?;
        let board = self.edition.parts().board(&servo.board)?;
        Some(Picked {
            servo,
            joint: self.edition.parts().joint_of(&servo.name),
            board,
            plan: self.edition.plan.servos.get(n)?,
            state: self.state(n)?,
            through: self.edition.parts().through(servo),
            look: self.model.seen.filter(|(seen, _)| *seen == servo.id).map(|(_, look)| look),
            wire: self.on_wire(n),
            feedback: self.feedback(n),
            taught: self.model.taught.has(servo.id),
            layout: board.layout.as_deref().and_then(|name| Layout::named(self.rig, name)),
        })
    }

    /// What a smart servo says of itself.
    fn feedback(&self, n: usize) -> Option<Feedback> {
        let servo = self.rig.servos.get(n).filter(|servo| servo.kind.is_smart())?;
        let state = self.board_state(self.edition.parts().board(&servo.board)?)?;
        Some(state.feedback.get(usize::from(servo.plug())))
    }

    fn on_wire(&self, n: usize) -> OnWire {
        let place = self.edition.wiring.servos.get(n).copied().flatten();
        let servo = self.rig.servos.get(n);
        let board = servo.and_then(|servo| self.edition.parts().board(&servo.board));
        let state = board.and_then(|board| self.board_state(board));
        let (Some(place), Some(state)) = (place, state) else { return OnWire::Unknown };
        let at = |ticks: &Wanted| ticks.get(place.channel).map(Ticks);
        if let Phase::Asking(Found::Pulsing { ticks, .. }) = &state.phase
            && let Some(ticks) = at(ticks)
        {
            return OnWire::Found(ticks);
        }
        match at(&state.sent) {
            Some(ticks) if state.reaches(place.channel) => OnWire::Told(ticks),
            Some(ticks) => OnWire::Last(ticks),
            None if state.is_known() => OnWire::Nothing,
            None => OnWire::Unknown,
        }
    }

    /// The picked input.
    pub fn input(&self) -> Option<&'a Input> {
        self.edition.input(self.model.input.id)
    }

    /// The picked sequence with its program.
    pub fn sequence(&self) -> Option<(&'a Sequence, &'a Program)> {
        let n = self.edition.index.sequences.place(self.model.sequence.id)?;
        Some((self.rig.sequences.get(n)?, self.edition.plan.programs.get(n)?))
    }

    /// What was found when the picked sequence was looked at.
    pub fn review(&self) -> Option<&'a Review> {
        self.edition.review(self.edition.index.sequences.place(self.model.sequence.id)?)
    }

    /// The player of the picked sequence, while it does anything.
    pub fn player(&self) -> Option<&'a Player> {
        self.model.snapshot.players.of(self.model.sequence.id)
    }

    /// How the picked sequence stands.
    pub fn play(&self) -> Play {
        self.player().map_or(Play::Stopped, |player| player.play)
    }

    /// The mappings that the picked input has a part in: by a share, or as the switch that they look at.
    pub fn mappings(&self) -> Vec<&'a Mapping> {
        let Some(input) = self.input() else { return Vec::new() };
        self.rig.mappings.iter().filter(|mapping| mapping.inputs().any(|name| name == input.name)).collect()
    }

    /// The one of them that is looked at.
    pub fn mapping(&self) -> Option<&'a Mapping> {
        let all = self.mappings();
        let picked = self.model.in_inputs.mapping.id;
        all.iter().find(|mapping| mapping.id == picked).or(all.first()).copied()
    }

    /// What that one moves: the picked servo where it is among them, else the first.
    pub fn moved(&self) -> Option<Picked<'a>> {
        let names = self.edition.parts().moved_by(self.mapping()?);
        let is_moved = |servo: &Servo| self.rig.spoken_name(servo).is_some_and(|name| names.contains(&name));
        let picked = self.picked().filter(|picked| is_moved(picked.servo));
        picked.or_else(|| self.servo(self.rig.servos.iter().position(is_moved)?))
    }
}

impl Picked<'_> {
    /// The pulse that was found on its channel, and that nobody here has sent.
    pub fn found(&self) -> Option<Position> {
        match self.wire {
            OnWire::Found(ticks) => Some(self.plan.guard.pulse(ticks)),
            _ => None,
        }
    }

    /// Whether the horn stands where it was sent, as far as can be known.
    pub fn stands(&self) -> bool {
        // Within its own tolerance a smart servo has arrived.
        let tick = self.plan.guard.step() * if self.servo.kind.is_smart() { 4.0 } else { 1.0 };
        (self.state.target - self.state.pulse).abs() <= tick
            && (self.place() - self.wire_pulse()).abs() <= tick
    }

    /// The words where it gets no command: a smart servo has no pulse that could be missing.
    pub const fn untold(&self) -> &'static str {
        match (self.wire, self.servo.kind.is_smart()) {
            (OnWire::Unknown, _) | (_, false) => self.wire.without(),
            (_, true) => "no command",
        }
    }

    /// What an entry for it is judged by, in its rig.
    pub fn judges(&self, rig: &Rig) -> PulseContext {
        PulseContext {
            present: self.state.pulse,
            kind: self.servo.kind,
            scale: self.plan.scale.clone(),
            clock: self.clock(),
            rates: self.servo.rates().ok(),
            scales: rig.scales.clone(),
        }
    }

    /// What it is told, or was told last, in every scale of the rig; nothing where that is not known.
    pub fn in_scales(&self, rig: &Rig) -> Vec<String> {
        // What turns on was stopped by its release, and its last pulse says nothing of now.
        let known = self.state.engaged || self.servo.kind.has_angles() && !self.is_unknown();
        let at = self.wire_pulse();
        rig.in_scales(self.servo.kind, at).filter(|_| known).collect()
    }

    /// The pulse on the wire, or the one it had last.
    pub fn wire_pulse(&self) -> Position {
        self.state.ticks().map_or(self.state.pulse, |t| self.plan.guard.pulse(t))
    }

    /// The angle of what is on the wire, where there is a fit.
    pub fn angle(&self) -> Option<Degrees> {
        Some(self.plan.scale.as_ref()?.angle_at(self.wire_pulse()))
    }

    /// The level of what is on the wire, in percent, where it has one.
    pub fn level(&self) -> Option<f64> {
        self.servo.kind.levels()?;
        Some(self.plan.scale.as_ref()?.angle_at(self.wire_pulse() - self.state.trim()).get() + 0.0)
    }

    /// What a pulse means as people read it, where it means an angle or a level.
    pub fn value(&self, pulse: Position) -> Option<String> {
        Some(self.servo.kind.show(self.plan.scale.as_ref()?.angle_at(pulse - self.state.trim())))
    }

    /// Where it is, as far as known; once it has arrived, what is on the wire.
    pub fn place(&self) -> Position {
        let at = self.state.estimate.pulse;
        if at == self.state.pulse { self.wire_pulse() } else { at }
    }

    /// Whether where it is cannot be told.
    pub fn is_unknown(&self) -> bool {
        self.state.estimate.known == Known::Unknown
    }

    /// What angles of the joint are drawn by: the fit, or what the sheet claims.
    pub fn drawn(&self) -> Option<(Scale, bool)> {
        match &self.plan.scale {
            Some(Scale::Level(_)) => return None,
            Some(scale) => return Some((scale.clone(), true)),
            None => {}
        }
        let sheet = diagnose::from_sheet(self.servo.rated.as_ref()?.slope());
        Some((Scale::of(sheet, self.through), false))
    }

    /// Degrees of the joint that a microsecond turns here, without its sign.
    pub fn slope(&self) -> Option<f64> {
        let (scale, _) = self.drawn()?;
        Some(scale.slope_at(self.wire_pulse()).abs()).filter(|slope| slope.is_finite() && *slope > 0.0)
    }

    /// A place of it as people read it: `1520 µs`, `2048 counts`.
    pub fn at(&self, place: Position) -> String {
        self.servo.kind.show_place(place)
    }

    /// The unit of its places.
    pub const fn unit(&self) -> &'static str {
        self.servo.kind.place_unit()
    }

    /// Where a smart servo says it is, while that is fresh.
    pub fn measured(&self) -> Option<Position> {
        (self.state.estimate.known == Known::Measured).then_some(self.state.estimate.pulse)
    }

    /// Where its joint stands, as far as a pose may keep it: where it is told to be while it is driven, or where it says it
    /// is where it is limp and was moved by hand.
    pub fn standing(&self) -> Option<Degrees> {
        if self.state.engaged {
            return self.angle();
        }
        let at = self.measured().filter(|_| self.taught)?;
        Some(self.plan.scale.as_ref()?.angle_at(at))
    }

    /// The clock of what goes on the wire; none of what is told counts.
    pub fn clock(&self) -> Option<PwmClock> {
        self.board.clock_of(self.servo.kind)
    }

    /// How large a nudge is, as a pulse.
    pub fn nudge(&self, nudge: Nudge) -> Position {
        let all = self.plan.guard.endpoints.1;
        match (self.servo.kind.signal(), nudge) {
            // What is on or off is nudged from one to the other.
            (Signal::Switch, _) => all,
            (Signal::Share, Nudge::Us(percent)) => all * (percent / 100.0),
            (Signal::Share, Nudge::Degree) => all * 0.02,
            (Signal::Pulse, Nudge::Degree) if self.servo.kind.turns_on() => Position::new(
                1.0 / self.plan.scale.as_ref().map_or(0.2, |scale| scale.slope_at(self.wire_pulse()).abs()),
            ),
            (_, Nudge::Us(us)) => Position::new(us),
            (_, Nudge::Tick) => self.plan.guard.step(),
            (_, Nudge::Degree) => Position::new(1.0 / self.slope().unwrap_or(0.1)),
        }
    }

    /// The end of the travel that the present pulse is nearer to.
    pub fn nearer_end(&self) -> End {
        let (low, high) = self.plan.guard.endpoints;
        if self.state.pulse - low < high - self.state.pulse { End::Low } else { End::High }
    }
}
