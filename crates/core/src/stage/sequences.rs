//! How sequences play on the stage: several at once where they share no joint, and layers over or on top of others.

use super::mix::{Grip, Sways};
use super::player::{Among, Brought, Given, PLAYERS, Player, Players, Told};
use super::{EventKind, InputState, Output, Owner, Plan, Play, Prepared, ServoState, Stage, Stand};
use crate::estimate::Known;
use crate::rig::{AtEnd, Layer, OwnUnit, SequenceId, Test};
use crate::sequence::{At, Counts, Eased, Left, Program, Waited};
use std::time::Duration;

/// A value that has passed a threshold must fall this far below it to be on the other side again.
const SLACK: f64 = 0.02;
/// The same in degrees.
const SLACK_DEG: f64 = 1.0;

/// Something that a program waits for, as it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Waiting {
    /// It is so, for as long as it must be.
    pub holds: bool,
    /// It is so now.
    now: bool,
    /// For how long already.
    held: Duration,
}

impl Waiting {
    fn see(&mut self, now: bool, least: Duration, dt: Duration) {
        self.held = if now && self.now { self.held + dt } else { Duration::ZERO };
        self.now = now;
        self.holds = now && self.held >= least;
    }
}

/// The keys that were pressed since the last beat.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Keys([Option<char>; 8]);

impl Keys {
    pub fn press(&mut self, key: char) {
        if let Some(free) = self.0.iter_mut().find(|slot| slot.is_none()) {
            *free = Some(key);
        }
    }

    fn has(&self, key: char) -> bool {
        self.0.contains(&Some(key))
    }
}

/// Which players a servo follows.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Played {
    /// The one that moves it, and its track there.
    pub by: Option<(u8, u32)>,
    /// The one that has moved it before that was looked at anew.
    was: Option<(u8, u32)>,
    /// That one moves others only: it stays.
    pub stays: bool,
    /// The one that adds to it.
    pub added: Option<(u8, u32)>,
    /// What was found last on the lines of the two.
    pub cursors: (u32, u32),
    /// Where a jump of the one that moves it has left it.
    pub left: Option<Left>,
}

impl Plan {
    /// Where among what is waited for that of a program begins.
    fn waits_of(&self, program: usize) -> std::ops::Range<usize> {
        let at = |n: usize| self.wait_bases.get(n).copied().unwrap_or(0);
        at(program)..at(program + 1)
    }
}

impl Prepared {
    /// Lets every servo know which players it follows.
    pub(super) fn assign(&mut self) {
        for state in &mut self.servos {
            let Played { by, cursors, left, .. } = state.played;
            state.played = Played { cursors, left, was: by, ..Played::default() };
        }
        let mut order: [usize; PLAYERS] = std::array::from_fn(|n| n);
        order.sort_unstable_by_key(|n| self.players.0.get(*n).map_or(0, |player| player.begun));
        // What lies over others comes last.
        let layer = |n: usize| {
            let player = self.players.0.get(n)?;
            Some(self.plan.programs.get(player.place)?.layer)
        };
        order.sort_by_key(|n| layer(*n) != Some(Layer::Beside));
        for slot in order {
            let Some(player) = self.players.0.get(slot) else { continue };
            if player.play == Play::Stopped || player.screen_only {
                continue;
            }
            let Some(program) = self.plan.programs.get(player.place) else { continue };
            let number = u8::try_from(slot).unwrap_or(0);
            for (place, track) in (0u32..).zip(&program.tracks) {
                let (Some(state), Some(plan)) =
                    (self.servos.get_mut(track.servo), self.plan.servos.get(track.servo))
                else {
                    continue;
                };
                let moves = player.among.moves(plan.id);
                if program.layer == Layer::Added {
                    state.played.added = Some((number, place)).filter(|_| moves);
                } else {
                    (state.played.by, state.played.stays) = (Some((number, place)), !moves);
                }
            }
        }
        for state in self.servos.iter_mut().filter(|state| state.played.by != state.played.was) {
            state.played.left = None;
        }
    }

    /// Whether joints of a player are still on their way to where it is.
    fn leads(&self, slot: usize, now: Duration) -> bool {
        let number = u8::try_from(slot).ok();
        self.servos.iter().any(|state| {
            state.engaged
                && state.gliding
                && state.owner == Owner::Sequence
                && state.played.by.map(|(by, _)| by) == number
                && !state.is_frozen(now)
        })
    }

    /// A player has jumped: its joints stay where they were until they move next.
    fn stay(&mut self, slot: usize, (from, counts): (At, Counts)) {
        let Some(player) = self.players.0.get(slot) else { return };
        let Some(program) = self.plan.programs.get(player.place) else { return };
        let number = u8::try_from(slot).ok();
        for state in &mut self.servos {
            let Some((_, track)) = state.played.by.filter(|(by, _)| Some(*by) == number) else { continue };
            let Some(track) = usize::try_from(track).ok().and_then(|n| program.tracks.get(n)) else {
                continue;
            };
            let mut left = state.played.left;
            let at = (&mut state.played.cursors.0, &mut left);
            let was = program.at_from(track, from, &counts, at, &mut Eased::default());
            state.played.left = Some(program.left(track, was, player.at));
        }
    }

    /// What moves with a player is met anew.
    fn meet_anew(&mut self, slot: usize) {
        let number = u8::try_from(slot).ok();
        for state in &mut self.servos {
            if state.played.by.map(|(by, _)| by) == number {
                state.played.left = None;
                if state.owner == Owner::Sequence {
                    state.start_glide();
                }
            }
        }
    }
}

impl Stage {
    /// Looks at what is waited for, and moves every player on.
    pub(super) fn advance_players(&mut self, now: Duration, dt: Duration) {
        for slot in 0..PLAYERS {
            let Some(mut player) = self.run.players.0.get(slot).copied().filter(|p| p.play.goes_on()) else {
                continue;
            };
            self.look(&player, dt);
            let leads = player.play == Play::Leading && self.run.leads(slot, now);
            let Some(program) = self.run.plan.programs.get(player.place) else { continue };
            player.tempo = self.tempo_of(program);
            let waiting = self.run.waiting.get(self.run.plan.waits_of(player.place)).unwrap_or(&[]);
            let brought = player.advance(program, waiting, dt, leads);
            self.bring(now, slot, player, brought);
        }
        self.keys = Keys::default();
    }

    /// What mappings do to sequences: how fast they go, and where one stands.
    pub(super) fn sway(&mut self) {
        for n in 0..self.run.plan.mappings.len() {
            let Some(sways) = self.run.plan.mappings.get(n).and_then(|mapping| mapping.sways) else {
                continue;
            };
            let Some(state) = self.run.mappings.get(n).copied() else { continue };
            if state.stand != Stand::Moves {
                // Where its switch lets go of it, what plays goes as it is written; while a link is lost, as it did last.
                if (sways, state.stand, state.grip) == (Sways::Tempo, Stand::Waits, Grip::Holds) {
                    self.tempo = 1.0;
                    if let Some(state) = self.run.mappings.get_mut(n) {
                        state.grip = Grip::Fresh;
                    }
                }
                continue;
            }
            match sways {
                Sways::Tempo if state.value.is_finite() => {
                    let (least, greatest) = (crate::range::TEMPO.least, crate::range::TEMPO.greatest);
                    self.tempo = crate::unit::held(state.value, least, greatest) / 100.0;
                    if let Some(state) = self.run.mappings.get_mut(n) {
                        state.grip = Grip::Holds;
                    }
                }
                Sways::Tempo => {}
                Sways::Place(sequence) => {
                    let grip = self.scrub(sequence, state.value, state.grip);
                    if let Some(state) = self.run.mappings.get_mut(n) {
                        state.grip = grip;
                    }
                }
            }
        }
    }

    /// Puts a sequence where an input says, 0–1, unless it was taken from that: then that has it again once it passes where
    /// the sequence stands.
    fn scrub(&mut self, sequence: usize, share: f64, grip: Grip) -> Grip {
        let Some(end) = self.run.plan.programs.get(sequence).map(|program| program.end) else { return grip };
        if !share.is_finite() {
            return grip;
        }
        let share = crate::unit::held(share, 0.0, 1.0);
        let screen_only = self.output != Output::Driving;
        let at = At::seconds_in(end.seconds() * share);
        let player = self.run.players.0.iter().position(|p| p.play != Play::Stopped && p.place == sequence);
        let stands =
            player.and_then(|slot| self.run.players.0.get(slot)).map(|player| (player.play, player.at));
        let where_it_stands = |(_, at): (Play, At)| at.seconds() / end.seconds();
        match (grip, stands) {
            // Where another one has its joints it waits for the next turn.
            (Grip::Fresh, None) => {
                if self.seek(sequence, at) {
                    Grip::Holds
                } else {
                    Grip::Waits(share)
                }
            }
            (Grip::Holds, Some((Play::Paused, _))) => {
                let plan = std::sync::Arc::clone(&self.run.plan);
                let program = plan.programs.get(sequence);
                let place = player.and_then(|slot| self.run.players.0.get_mut(slot));
                match (place, program) {
                    (Some(player), Some(program)) if player.screen_only == screen_only => {
                        player.put(program, at);
                    }
                    // The output has begun to drive, or has ended.
                    _ => {
                        self.seek(sequence, at);
                    }
                }
                Grip::Holds
            }
            (Grip::Waits(before), Some(stands)) if !stands.0.goes_on() => {
                let there = where_it_stands(stands);
                if (before - there) * (share - there) <= 0.0 {
                    self.seek(sequence, at);
                    return Grip::Holds;
                }
                Grip::Waits(before)
            }
            // Nothing stands there any more: any turn takes it.
            (Grip::Waits(before), None) if libm::fabs(share - before) > SLACK => Grip::Fresh,
            (Grip::Waits(before), _) => Grip::Waits(before),
            _ => Grip::Waits(share),
        }
    }

    /// How fast a sequence plays now, beside what is written.
    fn tempo_of(&self, program: &Program) -> f64 {
        // A layer goes by itself: what plays is what is meant.
        if program.layer == Layer::Added { 1.0 } else { self.tempo }
    }

    fn bring(&mut self, now: Duration, slot: usize, player: Player, brought: Brought) {
        let at = player.at.duration();
        if let Some(place) = self.run.players.0.get_mut(slot) {
            *place = player;
        }
        if let Some(told) = brought.told {
            self.note_sequence(now, player.sequence, EventKind::Sequence { told, at });
        }
        if let Some(left) = brought.left {
            self.run.stay(slot, left);
        }
        if brought.again {
            self.run.meet_anew(slot);
        }
        if brought.told == Some(Told::Ended) {
            if player.play == Play::Stopped && !player.screen_only {
                self.release_at_end(now, slot, &player);
            }
            self.run.assign();
        }
    }

    /// Releases what a sequence has moved, where that is what it says.
    fn release_at_end(&mut self, now: Duration, slot: usize, player: &Player) {
        let releases = |program: &Program| program.at_end == AtEnd::Release && program.layer == Layer::Beside;
        if !self.run.plan.programs.get(player.place).is_some_and(releases) {
            return;
        }
        let number = u8::try_from(slot).ok();
        for n in 0..self.run.servos.len() {
            let own = |state: &ServoState| {
                state.owner == Owner::Sequence && state.played.by.map(|(by, _)| by) == number
            };
            if self.run.servos.get(n).is_some_and(own) {
                self.release(now, n);
            }
        }
    }

    /// Looks at all that a player's program waits for.
    fn look(&mut self, player: &Player, dt: Duration) {
        let Prepared { plan, inputs, waiting, servos, .. } = &mut self.run;
        let range = plan.waits_of(player.place);
        let Some(program) = plan.programs.get(player.place) else { return };
        for (state, waited) in waiting.get_mut(range).unwrap_or(&mut []).iter_mut().zip(&program.waits) {
            match waited {
                Waited::Key(key) => state.see(self.keys.has(*key), Duration::ZERO, dt),
                Waited::Arrived { within, held } => {
                    let now =
                        program.tracks.iter().all(|track| has_arrived(plan, servos, track.servo, *within));
                    state.see(now, *held, dt);
                }
                Waited::Input { input, test, held } => {
                    let now = is_so(plan, inputs, (*input, *test), state.now);
                    state.see(now, *held, dt);
                }
            }
        }
    }

    /// Plays a sequence from a place; from its beginning where none is given, or on after a pause.
    pub(super) fn play_from(
        &mut self,
        now: Duration,
        sequence: usize,
        from: Option<At>,
        given: &Given,
        one_step: bool,
    ) {
        let screen_only = self.output != Output::Driving;
        let plan = std::sync::Arc::clone(&self.run.plan);
        let Some(program) = plan.programs.get(sequence).filter(|program| !program.steps.is_empty()) else {
            return;
        };
        let slot = self
            .run
            .players
            .0
            .iter()
            .position(|player| player.play != Play::Stopped && player.place == sequence);
        let old = slot.and_then(|slot| self.run.players.0.get(slot)).copied();
        let goes_on =
            old.filter(|old| old.play == Play::Paused && from.is_none() && old.screen_only == screen_only);
        if let Some((other, joint)) = self.shared(program, sequence).filter(|_| !screen_only) {
            let kind = EventKind::Shares { with: other };
            return self.note_about(now, program.id, joint, kind);
        }
        let Some(slot) = slot.or_else(|| self.free_slot()) else {
            return self.note_sequence(now, program.id, EventKind::TooMany);
        };
        let mut player =
            goes_on.unwrap_or_else(|| Player::new(program, sequence, from.unwrap_or_default(), given));
        player.screen_only = screen_only;
        player.rehearses = self.rehearses;
        self.begun += 1;
        player.begun = self.begun;
        player.go(program, one_step);
        if let Some(place) = self.run.players.0.get_mut(slot) {
            *place = player;
        }
        for wait in self.run.waiting.get_mut(plan.waits_of(sequence)).unwrap_or(&mut []) {
            *wait = Waiting::default();
        }
        self.give_way(program, slot);
        self.run.assign();
        let number = u8::try_from(slot).ok();
        for state in &mut self.run.servos {
            if state.owner == Owner::Sequence && state.played.by.map(|(by, _)| by) == number {
                if goes_on.is_some() {
                    state.start_glide();
                } else {
                    // It is met as a new one is, in the time that it says.
                    (state.owner, state.played.left) = (Owner::Rest, None);
                }
            }
        }
        self.note_sequence(
            now,
            program.id,
            EventKind::Sequence { told: Told::Starts, at: player.at.duration() },
        );
    }

    /// Puts a sequence to a place, where it stands; says so where another one that plays has its joints.
    pub(super) fn look_at(&mut self, now: Duration, sequence: usize, at: At) {
        if !self.seek(sequence, at)
            && let Some(program) = self.run.plan.programs.get(sequence)
            && let Some((other, joint)) = self.shared(program, sequence)
        {
            let id = program.id;
            self.note_about(now, id, joint, EventKind::Shares { with: other });
        }
    }

    /// Puts a sequence to a place, where it stands; whether it does.
    fn seek(&mut self, sequence: usize, at: At) -> bool {
        let screen_only = self.output != Output::Driving;
        let plan = std::sync::Arc::clone(&self.run.plan);
        let Some(program) = plan.programs.get(sequence) else { return false };
        let known = |player: &Player| player.play != Play::Stopped && player.place == sequence;
        let slot = self.run.players.0.iter().position(known);
        let Some(slot) = slot.or_else(|| self.free_slot()) else { return false };
        if self.shared(program, sequence).is_some() && !screen_only {
            return false;
        }
        let Some(place) = self.run.players.0.get_mut(slot) else { return false };
        if !known(place) || place.screen_only != screen_only {
            *place = Player::new(program, sequence, at, &Given::default());
        }
        place.put(program, at);
        place.screen_only = screen_only;
        place.play = Play::Paused;
        self.give_way(program, slot);
        self.run.assign();
        self.run.meet_anew(slot);
        true
    }

    /// A sequence that plays and would fight with a program over a joint; with that joint's servo.
    fn shared(&self, program: &Program, sequence: usize) -> Option<(SequenceId, usize)> {
        if program.layer == Layer::Over {
            return None;
        }
        self.run.players.0.iter().find_map(|player| {
            let other = self.run.plan.programs.get(player.place)?;
            let fights = player.play.goes_on()
                && !player.screen_only
                && player.place != sequence
                && other.layer == program.layer;
            let shared = || program.tracks.iter().find(|track| other.track_place(track.servo).is_some());
            Some((other.id, shared().filter(|_| fights)?.servo))
        })
    }

    /// What stands, or has ended, leaves its joints to a program that begins.
    fn give_way(&mut self, program: &Program, slot: usize) {
        for n in (0..PLAYERS).filter(|n| *n != slot) {
            let Some(player) = self.run.players.0.get(n) else { continue };
            let Some(other) = self.run.plan.programs.get(player.place) else { continue };
            let shares = || program.tracks.iter().any(|track| other.track_place(track.servo).is_some());
            let stands = matches!(player.play, Play::Paused | Play::Ended)
                || player.screen_only && player.play != Play::Stopped;
            if stands && other.layer == program.layer && shares() {
                self.stop_player(n);
            }
        }
    }

    fn free_slot(&self) -> Option<usize> {
        self.run.players.0.iter().position(|player| player.play == Play::Stopped)
    }

    fn stop_player(&mut self, slot: usize) {
        if let Some(player) = self.run.players.0.get_mut(slot) {
            player.play = Play::Stopped;
        }
    }

    /// Leaves every sequence.
    pub(super) fn stop_playing(&mut self) {
        for player in &mut self.run.players.0 {
            player.play = Play::Stopped;
        }
        self.run.assign();
    }

    /// Does something to the players of one sequence, or of all.
    pub(super) fn each_player(&mut self, sequence: Option<usize>, change: impl Fn(&mut Player)) {
        let meant = |player: &&mut Player| {
            player.play != Play::Stopped && sequence.is_none_or(|sequence| player.place == sequence)
        };
        self.run.players.0.iter_mut().filter(meant).for_each(change);
        self.run.assign();
    }

    /// Which of its joints a sequence moves from now on.
    pub(super) fn set_among(&mut self, sequence: usize, among: Among) {
        self.each_player(Some(sequence), |player| player.among = among);
        for slot in 0..PLAYERS {
            if self.run.players.0.get(slot).is_some_and(|player| player.place == sequence) {
                self.run.meet_anew(slot);
            }
        }
    }

    /// Takes the players over from those of an earlier plan.
    pub(super) fn carry_players(&mut self, old: &Prepared) {
        let mut same = [false; PLAYERS];
        for ((slot, before), same) in self.run.players.0.iter_mut().zip(&old.players.0).zip(&mut same) {
            let place = self.run.plan.sequence_place(before.sequence);
            let program = place.and_then(|place| Some((place, self.run.plan.programs.get(place)?)));
            let was = old.plan.programs.get(before.place);
            if let (Some((place, program)), Some(was)) = (program, was)
                && before.play != Play::Stopped
                && !program.steps.is_empty()
            {
                *slot = before.carried(was, program, place);
                *same = was == program;
                let (from, to) = (old.plan.waits_of(before.place), self.run.plan.waits_of(place));
                if from.len() == to.len()
                    && let (Some(from), Some(to)) = (old.waiting.get(from), self.run.waiting.get_mut(to))
                {
                    to.copy_from_slice(from);
                }
            }
        }
        // Where a jump has left a joint means nothing on another line.
        for state in &mut self.run.servos {
            let slot = state.played.by.and_then(|(slot, _)| same.get(usize::from(slot)));
            if slot != Some(&true) {
                state.played.left = None;
            }
        }
        self.run.assign();
    }

    /// From now on nothing is waited for, and what has no end is played once: for a dry run, which nobody is at.
    pub const fn rehearse(&mut self) {
        self.rehearses = true;
    }

    /// How fast what plays goes beside what is written, 1 being as written.
    pub const fn tempo(&self) -> f64 {
        self.tempo
    }

    /// Everything that plays, stands, or has ended and stays.
    pub const fn players(&self) -> &Players {
        &self.run.players
    }
}

/// Whether a servo that a sequence moves is where it is told to be, within so many degrees of its joint; one that cannot
/// get there is where it is stopped.
fn has_arrived(plan: &Plan, servos: &[ServoState], servo: usize, within: f64) -> bool {
    let (Some(state), Some(own)) = (servos.get(servo), plan.servos.get(servo)) else { return true };
    let Some(scale) = &own.scale else { return true };
    // Whoever is released, or follows somebody else, is not on its way for the sequence.
    if !state.engaged || state.owner != Owner::Sequence {
        return true;
    }
    let to = if state.stopped.is_some() { state.pulse } else { state.target };
    let angle = |at| scale.angle_at(at).get();
    // A smart servo has arrived by its own word alone: a silent one has said nothing.
    let is_known = if own.kind.is_smart() {
        state.estimate.known == Known::Measured
    } else {
        state.estimate.known != Known::Unknown
    };
    is_known && libm::fabs(angle(state.estimate.pulse) - angle(to)) <= within
}

/// Whether an input is what it is to be; what is not heard is nothing.
fn is_so(plan: &Plan, inputs: &[InputState], (input, test): (usize, Test), was: bool) -> bool {
    let (Some(state), Some(of)) = (inputs.get(input).filter(|state| state.live), plan.inputs.get(input))
    else {
        return false;
    };
    let slack = if of.unit == Some(OwnUnit::Deg) { SLACK_DEG } else { SLACK };
    let slack = if was { slack } else { 0.0 };
    match (test, &of.switch) {
        (Test::Pressed(pressed), Some(switch)) => {
            state.switch.position(switch).is_some_and(|place| (place > 0) == pressed)
        }
        (Test::Pressed(_), None) => false,
        (Test::Above(value), _) => state.stages.shaped() > value - slack,
        (Test::Below(value), _) => state.stages.shaped() < value + slack,
    }
}
