//! Where each servo should be, on whose word, and how it goes there: propose, settle, commit.
//!
//! *Propose*: the sources are asked in their order, and what they say goes through the guard as far as this beat gets.
//! *Settle* is [`super::couple`]'s: what turns a joint together agrees how far that gets. *Commit* sets it.

use super::exercise::Exercising;
use super::mix::{Along, Follow, Lost, MappingState, Stand};
use super::plan::ServoPlan;
use super::sequences::Played;
use super::{Act, GLIDE_PATIENCE, InputState, Output, Owner, Plan, Play, Player, Players, ServoState, Wire};
use crate::guard::HAIR;
use crate::guard::{Setpoint, Stopped};
use crate::rig::Take;
use crate::sequence::{Eased, OpKind, Program, Waited};
use crate::unit::{Degrees, Position};
use std::time::Duration;

/// The time that passes in one call.
pub(super) struct Beat {
    pub now: Duration,
    pub dt: Duration,
    /// `dt` once more, as what speeds are multiplied with.
    pub seconds: f64,
    /// Of such beats there are so many a second; none of one that takes no time.
    pub a_second: f64,
}

impl Beat {
    pub fn of(now: Duration, dt: Duration) -> Self {
        let seconds = dt.as_secs_f64();
        Self { now, dt, seconds, a_second: if dt.is_zero() { 0.0 } else { 1.0 / seconds } }
    }
}

/// Where a servo should be, on whose word, and how. Given on by value everywhere, so that it stays in registers: in memory
/// it is written in parts and copied as a whole, and there the processor stalls.
#[derive(Clone, Copy)]
pub(super) struct Wanted {
    target: Position,
    owner: Owner,
    /// The place of the mapping whose word it is.
    by: usize,
    how: How,
}

/// How something is wanted.
#[derive(Debug, Clone, Copy, PartialEq)]
enum How {
    /// As soon as it may be.
    Soon,
    /// In so many seconds.
    Over(f64),
    /// So fast, in place of a target; with the pulse's sign, in the unit of its speeds.
    AtRate(f64),
    /// It is to get no pulse.
    LetGo,
}

impl Wanted {
    const fn new(target: Position, owner: Owner) -> Self {
        Self { target, owner, by: 0, how: How::Soon }
    }
}

/// Whether the input has passed the place where the servo stands since a mapping has it.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) enum Catch {
    /// It has, or need not.
    #[default]
    Caught,
    /// Nothing was compared yet.
    Fresh,
    /// Not yet; it asks for a longer pulse than there is, or for a shorter one.
    Waits { longer: bool },
}

impl Catch {
    /// What becomes of it when what is asked is `off` away from where it stands.
    fn met(self, off: f64) -> Self {
        match self {
            Self::Waits { longer } if off.is_nan() || (off != 0.0 && longer == (off > 0.0)) => self,
            Self::Fresh if libm::fabs(off) > HAIR || off.is_nan() => Self::Waits { longer: off > 0.0 },
            _ => Self::Caught,
        }
    }
}

/// What a servo would do in this beat.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) enum Proposal {
    /// It gets no pulse.
    #[default]
    Released,
    /// It stays as a hold leaves it.
    Stands,
    /// What is sent does not arrive, or it waits for its turn: its pulse stays what it was last told.
    Frozen,
    /// It goes where its leader does.
    Led,
    /// Its pulses stop.
    LetsGo,
    /// It goes to a pulse, on its way to a target.
    Goes(Going),
}

/// A way that is proposed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Going {
    /// Where it is after this beat.
    pub pulse: Position,
    target: Position,
    stopped: Option<Stopped>,
    speed: f64,
}

impl ServoState {
    /// Stands as a hold leaves it: at its last pulse, or stopped where that would go on turning. What it is told then.
    pub(super) fn stand(&mut self, plan: &ServoPlan, beat: &Beat) -> Option<Setpoint> {
        let told = if let Some(stop) = plan.stop {
            let stop = plan.guard.bound(stop + self.trim).0;
            (self.pulse, self.target) = (stop, stop);
            (!plan.idle_release).then(|| plan.guard.standing(stop))
        } else {
            self.setpoint.map(|told| Setpoint { speed: 0.0, ..told })
        };
        self.estimate.follow(self.pulse, plan.follow, beat.now, beat.seconds);
        told
    }

    /// Whether the hand has left it alone for as long as that by now; nothing is counted while it moves.
    pub(super) fn is_left_alone(&mut self, limit: Duration, output: Output, dt: Duration) -> bool {
        let stands = self.engaged
            && output == Output::Driving
            && self.act.is_none()
            && (self.pulse - self.target).abs().get() <= HAIR;
        self.idle = if stands { self.idle + dt } else { Duration::ZERO };
        self.idle >= limit
    }

    /// Whether an exercise has ended; then it stands.
    pub(super) fn ends_exercise(&mut self, plan: &ServoPlan) -> bool {
        let over = self.exercise().is_some_and(Exercising::is_over);
        if over {
            self.act = None;
            // Where it went last, a continuous servo would go on turning.
            self.hand = plan.stop.or(self.hand);
        }
        over
    }

    /// The hand follows the knob that jogs it: from where both stood when it was taken, to the pulses at its ends.
    pub(super) fn turn(&mut self, inputs: &[InputState], plan: &Plan) {
        let Some(knob) = &mut self.knob else { return };
        let (Some(input), Some(shape)) = (inputs.get(knob.input.1), plan.inputs.get(knob.input.1)) else {
            return;
        };
        // A knob that is not heard turns nothing.
        if !input.live {
            // It may be turned meanwhile: when it is heard again it is taken anew, where both stand then.
            knob.taken = None;
            return;
        }
        let at = shape.shape.span.share(input.stages.shaped());
        let (taken, from) = *knob.taken.get_or_insert((at, self.hand.unwrap_or(self.pulse - self.trim)));
        let before = self.hand;
        self.hand = Some(match at {
            at if at > taken => from + (knob.high - from) * ((at - taken) / (1.0 - taken)),
            at if at < taken => from + (knob.low - from) * ((taken - at) / taken),
            _ => from,
        });
        if before != self.hand {
            self.idle = Duration::ZERO;
        }
    }

    /// Some of its arming is over; where its neutral does not arrive it does not begin.
    fn count_arming(&mut self, dt: Duration) {
        if !self.is_unarmed() {
            self.arming = self.arming.saturating_sub(dt);
        }
    }

    pub(super) const fn start_glide(&mut self) {
        self.gliding = true;
        self.glided = Duration::ZERO;
    }

    /// Whether its pulse stays what it was last told, for what would be sent does not arrive, or others go first.
    pub(super) fn is_frozen(&self, now: Duration) -> bool {
        self.wire != Wire::Arrives || now < self.goes_on_at
    }

    /// Another one has its word.
    #[inline(never)]
    fn meet(&mut self, wanted: Wanted, plan: &ServoPlan) {
        // The hand takes over where the servo is, and so does a rate: there is nothing to meet.
        if wanted.owner == Owner::Hand || matches!(wanted.how, How::AtRate(_)) {
            self.gliding = false;
        } else {
            self.start_glide();
        }
        let target = wanted.target + self.trim;
        self.failsafe_speed = match wanted.how {
            How::Over(over) => plan.way(self.pulse, target) / over,
            _ => plan.pace.glide,
        };
        (self.owner, self.by, self.aim) = (wanted.owner, wanted.by, self.pulse);
        let take = plan.follows.iter().find(|follow| follow.mapping == wanted.by).map(|follow| follow.take);
        let picks_up = wanted.owner == Owner::Mapping && take == Some(Take::PickUp);
        self.catch = if picks_up { Catch::Fresh } else { Catch::Caught };
    }

    /// Where it is to be after a beat at a rate, between its limits.
    fn aimed(&mut self, rate: f64, plan: &ServoPlan, seconds: f64) -> Position {
        let (low, high) = plan.guard.free();
        if rate.is_nan() {
            return Position::new(rate);
        }
        if rate != 0.0 {
            self.aim = plan.go(self.aim, if rate > 0.0 { high } else { low }, libm::fabs(rate), seconds);
        }
        self.aim
    }

    /// Goes a beat towards what is wanted, through the guard, as far as it may by itself.
    #[inline]
    pub(super) fn propose(&mut self, wanted: Wanted, plan: &ServoPlan, beat: &Beat) -> Proposal {
        let Wanted { target, owner, by, how } = wanted;
        let mut target = target + self.trim;
        if owner != self.owner || by != self.by {
            if how == How::LetGo {
                return Proposal::LetsGo;
            }
            self.meet(wanted, plan);
        }
        if self.is_frozen(beat.now) {
            self.target = target;
            return Proposal::Frozen;
        }
        let waits = self.catch != Catch::Caught && {
            // What turns on stands where it stops.
            let stands = plan.stop.map_or(self.pulse, |stop| stop + self.trim);
            let rate = if let How::AtRate(rate) = how { Some(rate) } else { None };
            self.catch = self.catch.met(rate.unwrap_or_else(|| (target - stands).get()));
            let waits = self.catch != Catch::Caught;
            if waits {
                target = stands;
            } else if rate.is_none() {
                self.start_glide();
            }
            waits
        };
        if let (How::AtRate(rate), false) = (how, waits) {
            target = self.aimed(rate, plan, beat.seconds);
        }
        let speed = if self.gliding {
            // What is to be there in a time of its own is told how fast; what leads in to a sequence too.
            let timed = owner == Owner::LostMapping || matches!(how, How::Over(_));
            match (timed, self.glided < GLIDE_PATIENCE) {
                (true, _) => self.failsafe_speed,
                (false, true) => plan.pace.glide,
                (false, false) => plan.pace.most,
            }
        } else {
            plan.pace.most
        };
        let speed = speed * (1.0 - self.eased);
        let target = if let (Some((neutral, _)), false) = (plan.arming, self.arming.is_zero()) {
            self.count_arming(beat.dt);
            neutral
        } else if let Some(act) = &mut self.act {
            match act {
                Act::Wiggle(wiggle) => wiggle.advance(beat.dt),
                Act::Exercise(exercising) => match exercising.advance(beat.dt) {
                    Some(at) => {
                        // Once it is over, or broken off, the hand has it where it is.
                        self.hand = Some(at - self.trim);
                        at
                    }
                    None => target,
                },
            }
        } else {
            match plan.arrival {
                // Nothing moves it yet, also not to another flank.
                Some(told) if !waits => self.approach.aim(self.pulse, target, told, plan.guard.free()),
                _ => target,
            }
        };
        let go = |from: Position, to: Position| plan.go(from, to, speed, beat.seconds);
        let mut passed = plan.guard.pass(self.pulse, target, go);
        if let (Some(stop), Some(Stopped::NotANumber)) = (plan.stop, passed.stopped) {
            // To stay where it is would be to go on turning.
            let stop = stop + self.trim;
            passed.pulse = plan.guard.pass(stop, stop, go).pulse;
        }
        Proposal::Goes(Going { pulse: passed.pulse, target, stopped: passed.stopped, speed })
    }

    /// Does what was proposed and settled; what it is told then.
    #[inline]
    pub(super) fn commit(&mut self, going: &Going, plan: &ServoPlan, beat: &Beat) -> Option<Setpoint> {
        let &Going { pulse, target, stopped, speed } = going;
        if matches!(&self.act, Some(Act::Wiggle(wiggle)) if wiggle.is_over(pulse)) {
            self.act = None;
            // What drives it has gone on meanwhile.
            self.start_glide();
        } else if self.gliding && self.act.is_none() {
            self.gliding = plan.way(pulse, plan.guard.bound(target).0) > speed * beat.seconds;
            // Counted in the time that counts: a late engine must not use up a glide's patience.
            self.glided += beat.dt;
        }
        (self.target, self.pulse, self.stopped) = (target, pulse, stopped);
        self.estimate.follow(pulse, plan.follow, beat.now, beat.seconds);
        let stands = plan.idle_release && plan.stop.is_some_and(|stop| pulse == stop + self.trim);
        (!stands).then(|| plan.guard.going(self.before, pulse, beat.a_second))
    }
}

/// Everything that may want a servo somewhere, but for the hand.
pub(super) struct Sources<'a> {
    pub mappings: &'a [MappingState],
    pub players: &'a Players,
    pub programs: &'a [Program],
    pub inputs: &'a [InputState],
    /// The usual time of a beat, in seconds.
    pub beat: f64,
    /// How far the last joint was that a sequence moves.
    pub eased: Eased,
}

impl Sources<'_> {
    /// Where a servo should be: hand before sequence before mapping before home; with what is added to it.
    #[inline]
    pub(super) fn wanted(&mut self, plan: &ServoPlan, state: &mut ServoState, seconds: f64) -> Wanted {
        let mut wanted = self.plainly(plan, state);
        // By its bits: most have nothing added, and have nothing but the zero that they began with.
        if state.played.added.is_some() || state.added.to_bits() != 0 {
            wanted.target = self.added(wanted, plan, state, seconds);
        }
        wanted
    }

    /// What layers add to an angle; it comes and goes no faster than a glide. To a hand nothing is added, nor where
    /// nothing says where it should be.
    #[inline(never)]
    fn added(&self, wanted: Wanted, plan: &ServoPlan, state: &mut ServoState, seconds: f64) -> Position {
        let offset = state.played.added.and_then(|(slot, track)| {
            let player = self.players.0.get(usize::from(slot))?;
            let program = self.programs.get(player.place)?;
            let track = program.tracks.get(usize::try_from(track).ok()?)?;
            let angle = program.at(track, player.at, &player.counts, &mut state.played.cursors.1).get();
            Some(crate::unit::held(angle, -program.at_most, program.at_most))
        });
        let on_top = plan.kind.has_angles()
            && matches!(wanted.owner, Owner::Sequence | Owner::Mapping | Owner::Home)
            && !matches!(wanted.how, How::AtRate(_) | How::LetGo);
        let to = if on_top { offset.unwrap_or(0.0) } else { 0.0 };
        let step = super::plan::GLIDE.get() * seconds;
        state.added += crate::unit::held(to - state.added, -step, step);
        let Some(scale) = plan.scale.as_ref().filter(|_| on_top) else { return wanted.target };
        scale.pulse_at(scale.angle_at(wanted.target) + Degrees::new(state.added))
    }

    /// Where the player that a servo follows wants it.
    #[inline]
    fn played(&mut self, plan: &ServoPlan, state: &mut ServoState) -> Option<Wanted> {
        let (slot, track) = state.played.by?;
        let player = self.players.0.get(usize::from(slot))?;
        let program = self.programs.get(player.place)?;
        let scale = plan.scale.as_ref()?;
        let wanted = |target, how| Wanted { target, owner: Owner::Sequence, by: usize::from(slot), how };
        if state.played.stays {
            return Some(wanted(plan.stop.unwrap_or(state.pulse - state.trim), How::Soon));
        }
        let how = match program.lead_in {
            Some(over) if player.play == Play::Leading => How::Over(libm::fmax(over, self.beat)),
            _ => How::Soon,
        };
        if let Some(stop) = plan.stop.filter(|_| !self.may_turn(player, program)) {
            return Some(wanted(stop, how));
        }
        let track = program.tracks.get(usize::try_from(track).ok()?)?;
        let Played { cursors, left, .. } = &mut state.played;
        let angle =
            program.at_from(track, player.at, &player.counts, (&mut cursors.0, left), &mut self.eased);
        Some(wanted(scale.pulse_at(angle), how))
    }

    /// Whether what turns may go on turning: standing still within a sequence, or at its end, does not mean that. While
    /// something is waited for it may where that has an end, and can be heard.
    fn may_turn(&self, player: &Player, program: &Program) -> bool {
        let Some(op) = player.waits_at(program) else { return player.play == Play::Playing };
        let OpKind::Wait { what, at_most: Some(_), .. } = op.kind else { return false };
        match program.waits.get(what) {
            Some(Waited::Input { input, .. }) => self.inputs.get(*input).is_some_and(|input| input.live),
            _ => true,
        }
    }

    #[inline]
    fn plainly(&mut self, plan: &ServoPlan, state: &mut ServoState) -> Wanted {
        if let Some(hand) = state.hand {
            return Wanted::new(hand, Owner::Hand);
        }
        if let Some(wanted) = self.played(plan, state) {
            return wanted;
        }
        for follow in &plan.follows {
            match self.mappings.get(follow.mapping) {
                Some(mapping) if mapping.stand == Stand::Moves => {
                    return moved(follow, mapping.value, plan, state);
                }
                Some(mapping) if mapping.stand == Stand::Lost => return self.lost(follow, plan, state),
                _ => {}
            }
        }
        plan.home
            .map_or(Wanted::new(state.pulse - state.trim, Owner::Rest), |home| Wanted::new(home, Owner::Home))
    }

    fn lost(&self, follow: &Follow, plan: &ServoPlan, state: &ServoState) -> Wanted {
        let stay = plan.stop.unwrap_or(state.pulse);
        let wanted = Wanted { by: follow.mapping, ..Wanted::new(stay, Owner::LostMapping) };
        match (follow.lost, plan.stop) {
            (Lost::Release, _) => Wanted { how: How::LetGo, ..wanted },
            (Lost::Stay, _) | (_, Some(_)) => wanted,
            (Lost::Home, _) => Wanted { target: plan.home.unwrap_or(stay), ..wanted },
            (Lost::To(target, over), _) => {
                // Nothing goes anywhere in less than a beat.
                Wanted { target, how: How::Over(libm::fmax(over, self.beat)), ..wanted }
            }
        }
    }
}

/// Where a mapping with that value wants a servo.
#[inline]
fn moved(follow: &Follow, value: f64, plan: &ServoPlan, state: &ServoState) -> Wanted {
    let wanted = |target, how| Wanted { target, owner: Owner::Mapping, by: follow.mapping, how };
    if let Along::Rate(factor) = follow.along {
        return wanted(state.aim - state.trim, How::AtRate(value * factor));
    }
    let angle = follow.along.angle(value).map(Degrees::new);
    // Without a fit it has no angles: then this is nothing that the guard lets pass, and it stays.
    let pulse = plan.scale.as_ref().zip(angle).map_or(f64::NAN, |(scale, angle)| scale.pulse_at(angle).get());
    wanted(Position::new(pulse), How::Soon)
}
