//! From a sequence as it is written to the line of time that runs.
//!
//! Three passes: steps, waits and loops are laid out in line, with the calls in their places; each joint learns where it
//! comes from, in later rounds of loops too; then times are counted, and what moves becomes stretches. The cost grows with
//! the moves, not with servos times steps.

use super::program::{Counts, FlatStep, Jump, LOOPS, Op, OpKind, Program, Rounds, Waited};
use super::track::{Segment, Shape, Track, Variant};
use super::{At, MOST_CALLS, MOST_STEPS, UNRATED_SPEED};
use crate::bent::Bent;
use crate::easing::{Easing, passing_speed, trapezoid_time};
use crate::rig::{Awaited, Layer, Parts, Rig, Sequence, Servo, Step, StepJoint, Then, Times, Wait, What};
use crate::scale::Scale;
use crate::unit::{Degrees, DegreesPerSecondSquared};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};

/// What is known of something that may be moved.
#[derive(Debug, Clone)]
pub struct Mover {
    /// Its greatest speed, in °/s or %/s.
    pub speed: f64,
    /// That is known, and not assumed.
    pub known: bool,
    /// How hard its trapezoids may speed up, in °/s².
    acceleration: Option<f64>,
    /// What turns the joint unevenly, with the greatest speed of the servo's shaft.
    shaft: Option<(Arc<Bent>, f64)>,
    /// Where it is at the start.
    home: Option<f64>,
    /// It has an angle.
    turns: bool,
}

impl Mover {
    fn of(rig: Parts<'_>, servo: &Servo, scale: Option<&Scale>) -> Self {
        let speed = rig.speed_of(servo);
        let joint = rig.joint_of(&servo.name);
        let shaft = match (scale, servo.rated_speed()) {
            (Some(Scale::Bent(bent)), Some(speed)) => Some((Arc::clone(bent), speed.get())),
            _ => None,
        };
        let turns = servo.kind.has_angles();
        // What has a level stands still, or is off.
        let home = if turns { joint.and_then(|joint| joint.home_deg).map(Degrees::get) } else { Some(0.0) };
        Self {
            speed: speed.unwrap_or(UNRATED_SPEED).get(),
            known: speed.is_some(),
            acceleration: joint.and_then(|joint| joint.accel_deg_s2).map(DegreesPerSecondSquared::get),
            shaft,
            home,
            turns,
        }
    }

    pub(super) fn eased_needs(&self, distance: f64, easing: Easing) -> f64 {
        libm::fabs(distance) * easing.peak() / self.speed
    }

    pub(super) fn trapezoid_needs(&self, distance: f64, acceleration: f64) -> f64 {
        trapezoid_time(libm::fabs(distance), self.speed, acceleration)
    }

    /// The seconds that the shaft needs for a move of the joint, where that turns unevenly: found by looking at it in
    /// small steps. `way` is how much of the move is done at a share of its time.
    pub(super) fn shaft_needs(&self, from: f64, to: f64, way: impl Fn(f64) -> f64) -> f64 {
        const LOOKS: u32 = 100;
        let Some((bent, speed)) = &self.shaft else { return 0.0 };
        let shaft = |u: f64| bent.shaft_for(Degrees::new(from + (to - from) * way(u)));
        let mut before = shaft(0.0);
        let mut fastest = 0.0;
        for n in 1..=LOOKS {
            let at = shaft(f64::from(n) / f64::from(LOOKS));
            fastest = libm::fmax(fastest, (at - before).abs().get());
            before = at;
        }
        fastest * f64::from(LOOKS) / speed
    }

    /// The seconds for the whole of a move, from rest to rest.
    fn needs(&self, from: f64, leg: &Leg) -> f64 {
        let distance = leg.to - from;
        if distance == 0.0 {
            return 0.0;
        }
        let joint = match (leg.easing, leg.acceleration) {
            (Easing::Trapezoid, Some(acceleration)) => self.trapezoid_needs(distance, acceleration),
            (easing, _) => self.eased_needs(distance, easing),
        };
        libm::fmax(joint, self.shaft_needs(from, leg.to, |u| leg.easing.at(u)))
    }
}

/// What all sequences of a rig are compiled with: names are looked up once an edit.
#[derive(Debug)]
pub struct Library<'r> {
    rig: Parts<'r>,
    movers: Arc<[Mover]>,
    /// Of each pose, what it moves by servo index, and where to.
    poses: Vec<Vec<(u32, f64)>>,
    /// Of each servo, the name by which poses speak of it.
    names: Vec<Option<&'r str>>,
}

impl<'r> Library<'r> {
    /// Looks up what the sequences of a rig speak of; `scales` are those of its servos, in its order.
    pub fn of(rig: Parts<'r>, scales: &[Option<&Scale>]) -> Self {
        let names: Vec<Option<&'r str>> = rig.rig.servos.iter().map(|servo| rig.spoken_name(servo)).collect();
        let places: HashMap<(&str, bool), u32> = (0u32..)
            .zip(rig.rig.servos.iter().zip(&names))
            .filter_map(|(n, (servo, name))| Some((((*name)?, servo.kind.has_angles()), n)))
            .collect();
        let place = |name: &str, turns: bool| places.get(&(name, turns)).copied();
        let targets = |pose: &crate::rig::Pose| {
            let angles = pose.angles_deg.iter().filter_map(|(name, to)| Some((place(name, true)?, to.get())));
            let levels = pose.levels_percent.iter();
            let levels = levels.filter_map(|(name, to)| Some((place(name, false)?, to.get())));
            let mut all: Vec<(u32, f64)> = angles.chain(levels).collect();
            all.sort_by_key(|(servo, _)| *servo);
            all
        };
        let scale = |n: usize| scales.get(n).copied().flatten();
        let movers = rig.rig.servos.iter().enumerate().map(|(n, servo)| Mover::of(rig, servo, scale(n)));
        Self { movers: movers.collect(), poses: rig.rig.poses.iter().map(targets).collect(), names, rig }
    }

    /// Compiles the sequence at a place of a sound rig. What is not there is passed over.
    pub fn compile(&self, place: usize) -> Option<Program> {
        let sequence = self.rig.rig.sequences.get(place)?;
        let mut out = Layout {
            library: self,
            steps: Vec::new(),
            legs: Vec::new(),
            ops: Vec::new(),
            waits: Vec::new(),
            entries: Vec::new(),
            held: vec![None; self.names.len()],
            open: Vec::new(),
            spans: Vec::with_capacity(sequence.steps.len()),
            enters: Vec::with_capacity(sequence.steps.len()),
            marks: vec![(0, 0); self.names.len()],
            rounds: 0,
            added: sequence.layer == Layer::Added,
        };
        out.lay_out(sequence, place, sequence.tempo(), 0, &BTreeMap::new());
        Some(out.finish(sequence))
    }
}

/// How many steps a sequence comes to with all that it plays; none when it plays itself, or calls go too deep.
pub fn size(rig: &Rig, sequence: &Sequence) -> Option<usize> {
    fn count(rig: &Rig, sequence: &Sequence, left: usize) -> Option<usize> {
        let mut all = sequence.steps.len();
        for name in sequence.calls() {
            let called = rig.sequences.iter().find(|other| other.name == name);
            if let Some(called) = called {
                all = all.saturating_add(count(rig, called, left.checked_sub(1)?)?);
                if all > MOST_STEPS {
                    return Some(all);
                }
            }
        }
        Some(all)
    }
    count(rig, sequence, MOST_CALLS)
}

/// One joint's part in one step.
#[derive(Debug, Clone, Copy)]
struct Leg {
    servo: u32,
    step: u32,
    from: f64,
    to: f64,
    lag: f64,
    share: f64,
    easing: Easing,
    acceleration: Option<f64>,
    /// The first and the last of its entries.
    entries: (u32, u32),
}

/// Where a joint's first move in a loop begins in later rounds.
#[derive(Debug, Clone, Copy)]
struct Entry {
    leg: u32,
    slot: u8,
    from: f64,
    /// Where the loop begins, among what happens.
    begin: u32,
}

/// A loop that has begun and not ended.
#[derive(Debug, Clone, Copy)]
struct Open {
    begin: u32,
    first_leg: usize,
}

/// Where a step of the sequence being laid out begins.
#[derive(Debug, Clone)]
struct Begin {
    op: u32,
    step: u32,
    /// The loops around it, by where they begin.
    around: Vec<u32>,
}

struct Layout<'a, 'r> {
    library: &'a Library<'r>,
    steps: Vec<FlatStep>,
    legs: Vec<Leg>,
    ops: Vec<Op>,
    waits: Vec<Waited>,
    entries: Vec<Entry>,
    /// By servo, where it was sent last.
    held: Vec<Option<f64>>,
    open: Vec<Open>,
    spans: Vec<(u32, u32)>,
    enters: Vec<u32>,
    /// By servo, the number of the loop that has looked at it last, and its first leg there.
    marks: Vec<(u32, u32)>,
    rounds: u32,
    added: bool,
}

fn place32(n: usize) -> u32 {
    u32::try_from(n).unwrap_or(u32::MAX)
}

fn place(n: u32) -> usize {
    usize::try_from(n).unwrap_or(usize::MAX)
}

impl Layout<'_, '_> {
    fn lay_out(
        &mut self,
        sequence: &Sequence,
        of: usize,
        tempo: f64,
        depth: u8,
        given: &BTreeMap<String, u32>,
    ) {
        let loops: Vec<(usize, usize, &crate::rig::Loop)> = sequence
            .loops
            .iter()
            .filter_map(|own| Some((sequence.span(own)?, own)))
            .map(|((a, b), own)| (a, b, own))
            .collect();
        let rounds = |times: Option<&Times>| match times {
            None => Rounds::Forever,
            Some(Times::Count(count)) => Rounds::Fixed(*count),
            Some(Times::Parameter(name)) => {
                let usual = sequence.parameters.get(name).copied().unwrap_or(1);
                let at = sequence.parameters.keys().position(|own| own == name);
                match at.and_then(|at| u8::try_from(at).ok()).filter(|_| depth == 0) {
                    Some(at) => Rounds::Given(at),
                    None => Rounds::Fixed(given.get(name).copied().unwrap_or(usual)),
                }
            }
        };
        let outside = self.open.len();
        let mut begins: Vec<Begin> = Vec::with_capacity(sequence.steps.len());
        let mut jumps: Vec<(usize, usize, usize)> = Vec::new();
        let mut open: Vec<(usize, &crate::rig::Loop)> = Vec::new();
        for (n, step) in sequence.steps.iter().enumerate() {
            if depth == 0 {
                self.enters.push(place32(self.ops.len()));
            }
            begins.push(Begin {
                op: place32(self.ops.len()),
                step: place32(self.steps.len()),
                around: self.open.iter().map(|open| open.begin).collect(),
            });
            // Of those that begin here the longest is around the others.
            let mut here: Vec<_> = loops.iter().filter(|(from, ..)| *from == n).collect();
            here.sort_by_key(|(_, to, _)| std::cmp::Reverse(*to));
            for (_, to, own) in here {
                self.begin(of, n, depth, rounds(own.times.as_ref()));
                open.push((*to, own));
            }
            let first = self.steps.len();
            match step.what() {
                Some(What::Pose(pose)) => self.pose(step, pose, (of, n, depth), tempo),
                Some(What::Play(name)) => self.call(step, name, tempo, depth),
                Some(What::Wait(wait)) => {
                    jumps.extend(self.wait(wait, (of, n, depth), sequence));
                }
                None => {}
            }
            if depth == 0 {
                self.spans.push((place32(first), place32(self.steps.len())));
            }
            while let Some((_, own)) = open.pop_if(|(to, _)| *to == n) {
                self.repeat(of, n, depth, rounds(own.times.as_ref()), own.until.as_ref());
            }
        }
        self.open.truncate(outside);
        let over = Begin {
            op: place32(self.ops.len()),
            step: place32(self.steps.len()),
            around: self.open.iter().map(|open| open.begin).collect(),
        };
        for (op, from, to) in jumps {
            let target = begins.get(to).unwrap_or(&over);
            let around = begins.get(from).map_or(&[][..], |begin| &begin.around);
            let keeps = around.iter().zip(&target.around).take_while(|(a, b)| a == b).count();
            let jump = Jump {
                at: At::ZERO,
                op: target.op,
                before: target.step,
                keeps: u8::try_from(keeps).unwrap_or(0),
            };
            if let Some(Op { kind: OpKind::Wait { then, .. }, .. }) = self.ops.get_mut(op) {
                *then = Some(jump);
            }
        }
    }

    fn op(&mut self, (of, step, depth): (usize, usize, u8), kind: OpKind) -> usize {
        self.ops.push(Op { at: At::ZERO, before: place32(self.steps.len()), of: (of, step), depth, kind });
        self.ops.len() - 1
    }

    fn begin(&mut self, of: usize, step: usize, depth: u8, rounds: Rounds) {
        let slot = u8::try_from(self.open.len()).unwrap_or(u8::MAX);
        let begin = place32(self.op((of, step, depth), OpKind::Begin { slot, rounds, end: 0 }));
        self.open.push(Open { begin, first_leg: self.legs.len() });
    }

    fn repeat(&mut self, of: usize, step: usize, depth: u8, rounds: Rounds, until: Option<&Wait>) {
        let Some(Open { begin, first_leg }) = self.open.pop() else { return };
        let until = until.and_then(|until| self.waited(until));
        let slot = u8::try_from(self.open.len()).unwrap_or(u8::MAX);
        let here = place32(self.op((of, step, depth), OpKind::Repeat { slot, rounds, until, begin }));
        if let Some(Op { kind: OpKind::Begin { end, .. }, .. }) = self.ops.get_mut(place(begin)) {
            *end = here;
        }
        if matches!(rounds, Rounds::Fixed(0 | 1)) {
            return;
        }
        // Where each joint of the loop begins in later rounds: where its last move in it has left it.
        self.rounds += 1;
        let mut firsts = Vec::new();
        for n in first_leg..self.legs.len() {
            let Some(leg) = self.legs.get(n) else { break };
            let Some(mark) = self.marks.get_mut(place(leg.servo)) else { continue };
            if mark.0 != self.rounds {
                *mark = (self.rounds, place32(n));
                firsts.push(n);
            }
        }
        for n in firsts {
            let Some(leg) = self.legs.get(n) else { continue };
            let from = self.held.get(place(leg.servo)).copied().flatten().unwrap_or(leg.from);
            self.entries.push(Entry { leg: place32(n), slot, from, begin });
        }
    }

    fn call(&mut self, step: &Step, name: &str, tempo: f64, depth: u8) {
        let at = self.library.rig.index.sequences.named(name);
        let Some((at, sequence)) = at.and_then(|at| Some((at, self.library.rig.rig.sequences.get(at)?)))
        else {
            return;
        };
        if usize::from(depth) < MOST_CALLS && self.steps.len() < MOST_STEPS {
            self.lay_out(sequence, at, tempo * sequence.tempo(), depth + 1, &step.with);
        }
    }

    /// What is waited for, among the program's.
    fn waited(&mut self, wait: &Wait) -> Option<usize> {
        let waited = match wait.what()? {
            Awaited::Key(key) => Waited::Key(key),
            Awaited::Arrived(within) => Waited::Arrived { within, held: wait.held_s.duration() },
            Awaited::Input(input, test) => Waited::Input {
                input: self.library.rig.index.inputs.named(input)?,
                test,
                held: wait.held_s.duration(),
            },
        };
        self.waits.push(waited);
        Some(self.waits.len() - 1)
    }

    /// A wait; where it jumps to, by its own place, its step and the step that is meant; one behind the last is the end.
    fn wait(
        &mut self,
        wait: &Wait,
        here: (usize, usize, u8),
        sequence: &Sequence,
    ) -> Option<(usize, usize, usize)> {
        let what = self.waited(wait)?;
        let at_most = wait.at_most_s.map(crate::unit::Seconds::duration);
        let op = self.op(here, OpKind::Wait { what, at_most, then: None });
        let to = match wait.then {
            Then::GoOn => return None,
            Then::End => sequence.steps.len(),
            Then::Jump => sequence.labelled(wait.to.as_deref()?)?,
        };
        Some((op, here.1, to))
    }

    fn pose(&mut self, step: &Step, pose: &str, (of, n, depth): (usize, usize, u8), tempo: f64) {
        let flat = place32(self.steps.len());
        let targets = self.library.rig.index.poses.named(pose).and_then(|at| self.library.poses.get(at));
        for &(servo, to) in targets.map_or(&[][..], Vec::as_slice) {
            let own = self.own(step, servo);
            let mover = self.library.movers.get(place(servo));
            let to = if self.added && mover.is_none_or(|mover| !mover.turns) { 0.0 } else { to };
            let Some(held) = self.held.get_mut(place(servo)) else { continue };
            // Where nobody says where it starts, it is brought to where it goes first.
            let home = || if self.added { Some(0.0) } else { mover?.home };
            let from = held.or_else(home).unwrap_or(to);
            *held = Some(to);
            let accelerations =
                [step.accel_deg_s2.map(DegreesPerSecondSquared::get), mover.and_then(|m| m.acceleration)];
            self.legs.push(Leg {
                servo,
                step: flat,
                from,
                to,
                lag: own.map_or(0.0, |own| own.lag_s.get()),
                share: own.and_then(|own| own.share).unwrap_or(1.0),
                easing: own.and_then(|own| own.easing).unwrap_or(step.easing),
                acceleration: accelerations.into_iter().flatten().reduce(libm::fmin),
                entries: (0, 0),
            });
        }
        self.steps.push(FlatStep {
            sequence: of,
            step: n,
            depth,
            starts: At::ZERO,
            moves: At::ZERO,
            dwells: At::seconds_in(step.dwell_s.get() / tempo),
            tempo,
        });
    }

    fn own<'s>(&self, step: &'s Step, servo: u32) -> Option<&'s StepJoint> {
        if step.joints.is_empty() {
            return None;
        }
        step.joints.get(self.library.names.get(place(servo)).copied().flatten()?)
    }

    /// Counts the times, and makes stretches of what moves.
    fn finish(mut self, sequence: &Sequence) -> Program {
        self.order_entries();
        let end = self.count_times();
        let (tracks, segments, variants) = self.tracks();
        let most = sequence.at_most_deg.unwrap_or(Sequence::USUAL_ADDED).get();
        Program {
            id: sequence.id,
            layer: sequence.layer,
            at_most: most,
            at_end: sequence.at_end,
            lead_in: sequence.lead_in_s.map(crate::unit::Seconds::get),
            given: sequence.parameters.values().map(|v| u16::try_from(*v).unwrap_or(u16::MAX)).collect(),
            steps: self.steps,
            spans: self.spans,
            enters: self.enters,
            ops: self.ops,
            waits: self.waits,
            end,
            seamless: tracks.iter().all(|track| {
                let last = self.held.get(track.servo).copied().flatten();
                last.is_none_or(|last| last.to_bits() == track.start.get().to_bits())
            }),
            tracks,
            segments,
            variants,
            movers: Arc::clone(&self.library.movers),
            shorts: OnceLock::new(),
        }
    }

    /// Gives each leg its entries, the innermost loop first; those that change nothing go.
    fn order_entries(&mut self) {
        self.entries.sort_by_key(|entry| entry.leg);
        let legs = &mut self.legs;
        let mut kept: Vec<Entry> = Vec::with_capacity(self.entries.len());
        for own in self.entries.chunk_by(|a, b| a.leg == b.leg) {
            let Some(leg) = own.first().and_then(|entry| legs.get_mut(place(entry.leg))) else { continue };
            if own.iter().any(|entry| entry.from.to_bits() != leg.from.to_bits()) {
                let first = place32(kept.len());
                kept.extend_from_slice(own);
                leg.entries = (first, place32(kept.len()));
            }
        }
        self.entries = kept;
    }

    fn begins<'s>(entries: &'s [Entry], leg: &Leg) -> impl Iterator<Item = f64> + use<'s> {
        let later = entries.get(place(leg.entries.0)..place(leg.entries.1)).unwrap_or(&[]);
        std::iter::once(leg.from).chain(later.iter().map(|entry| entry.from))
    }

    /// Sets when every step and all that happens between is; gives when it is over.
    fn count_times(&mut self) -> At {
        let mut t = At::ZERO;
        let (mut next_op, mut next_leg) = (0, 0);
        for n in 0..self.steps.len() {
            next_op = self.place_ops(next_op, place32(n), &mut t);
            let first = next_leg;
            while self.legs.get(next_leg).is_some_and(|leg| place(leg.step) == n) {
                next_leg += 1;
            }
            let legs = self.legs.get(first..next_leg).unwrap_or(&[]);
            let Some(&FlatStep { sequence, step, tempo, .. }) = self.steps.get(n) else { break };
            let written = self.library.rig.rig.sequences.get(sequence).and_then(|of| of.steps.get(step));
            let moves = written.map_or(0.0, |written| self.move_time(written, legs, tempo));
            if let Some(flat) = self.steps.get_mut(n) {
                (flat.starts, flat.moves) = (t, At::seconds_in(moves));
                t = flat.ends();
            }
        }
        self.place_ops(next_op, place32(self.steps.len()), &mut t);
        for n in 0..self.ops.len() {
            let Some(Op { kind: OpKind::Wait { then: Some(jump), .. }, .. }) = self.ops.get(n) else {
                continue;
            };
            let target = self.ops.get(place(jump.op)).filter(|op| op.before <= jump.before);
            let step = self.steps.get(place(jump.before));
            let at = target.map(|op| op.at).or(step.map(|step| step.starts)).unwrap_or(t);
            if let Some(Op { kind: OpKind::Wait { then: Some(jump), .. }, .. }) = self.ops.get_mut(n) {
                jump.at = at;
            }
        }
        t
    }

    /// What stands before a step takes a nanosecond each.
    fn place_ops(&mut self, mut next: usize, before: u32, t: &mut At) -> usize {
        while let Some(op) = self.ops.get_mut(next).filter(|op| op.before <= before) {
            op.at = *t;
            *t = t.next();
            next += 1;
        }
        next
    }

    /// How long a step moves, at the tempo that it has.
    fn move_time(&self, step: &Step, legs: &[Leg], tempo: f64) -> f64 {
        if let Some(time) = step.move_s {
            return time.get() / tempo;
        }
        let each =
            || legs.iter().flat_map(|leg| Self::begins(&self.entries, leg).map(move |from| (leg, from)));
        let mover = |leg: &Leg| self.library.movers.get(place(leg.servo));
        if let Some(speed) = step.speed_deg_s {
            let turns = |leg: &Leg| mover(leg).is_some_and(|mover| mover.turns);
            let longest = |angles: bool| {
                let own = each().filter(|(leg, _)| !angles || turns(leg));
                own.map(|(leg, from)| libm::fabs(leg.to - from)).fold(0.0, libm::fmax)
            };
            let way = if legs.iter().any(turns) { longest(true) } else { longest(false) };
            return way / speed.get() / tempo;
        }
        // As fast as they can is that at any tempo as written.
        let need = |(leg, from): (&Leg, f64)| {
            let time = mover(leg).map_or(0.0, |mover| mover.needs(from, leg));
            if time > 0.0 { time / leg.share + leg.lag } else { 0.0 }
        };
        each().map(need).fold(0.0, libm::fmax)
    }

    /// Sorts the legs by joint, and makes stretches of those that move.
    fn tracks(&mut self) -> (Vec<Track>, Vec<Segment>, Vec<Variant>) {
        let mut firsts = vec![0usize; self.held.len() + 1];
        for leg in &self.legs {
            if let Some(count) = firsts.get_mut(place(leg.servo) + 1) {
                *count += 1;
            }
        }
        for n in 1..firsts.len() {
            firsts[n] += firsts[n - 1];
        }
        let mut order = vec![0u32; self.legs.len()];
        let mut next = firsts.clone();
        for (n, leg) in (0u32..).zip(&self.legs) {
            let Some(slot) = next.get_mut(place(leg.servo)) else { continue };
            if let Some(there) = order.get_mut(*slot) {
                *there = n;
            }
            *slot += 1;
        }
        let mut tracks = Vec::new();
        let mut segments = Vec::with_capacity(self.legs.len());
        let mut variants = Vec::with_capacity(self.entries.len());
        for (servo, range) in firsts.windows(2).enumerate() {
            let own = order.get(range[0]..range[1]).unwrap_or(&[]);
            let Some(first) = own.first().and_then(|n| self.legs.get(place(*n))) else { continue };
            let begin = segments.len();
            for leg in own.iter().filter_map(|n| self.legs.get(place(*n))) {
                self.stretch(leg, &mut segments, &mut variants);
            }
            flow(segments.get_mut(begin..).unwrap_or(&mut []), &variants);
            tracks.push(Track {
                servo,
                start: Degrees::new(first.from),
                first: place32(begin),
                end: place32(segments.len()),
            });
        }
        segments.shrink_to_fit();
        (tracks, segments, variants)
    }

    fn stretch(&self, leg: &Leg, segments: &mut Vec<Segment>, variants: &mut Vec<Variant>) {
        let Some(step) = self.steps.get(place(leg.step)) else { return };
        let entries = self.entries.get(place(leg.entries.0)..place(leg.entries.1)).unwrap_or(&[]);
        if entries.is_empty() && leg.from.to_bits() == leg.to.to_bits() {
            return;
        }
        let varies = place32(variants.len());
        variants.extend(entries.iter().map(|entry| Variant { slot: entry.slot, from: entry.from }));
        let count = u8::try_from(entries.len()).unwrap_or(u8::MAX);
        // Each loop's beginning, the outermost first: what its joint does there is what all around it say.
        for (n, entry) in (0u8..count).zip(entries).rev() {
            let Some(at) = self.ops.get(place(entry.begin)).map(|op| op.at.next()) else { continue };
            segments.push(Segment {
                starts: at,
                ends: at,
                from: leg.from,
                to: leg.from,
                shape: Shape::Eased(Easing::Linear),
                step: u32::MAX,
                varies: varies + u32::from(n),
                variants: count - n,
            });
        }
        let starts = step.starts + At::seconds_in(leg.lag / step.tempo);
        let span = At::seconds_in(step.moves.seconds() * leg.share);
        segments.push(Segment {
            starts,
            ends: starts + span,
            from: leg.from,
            to: leg.to,
            shape: match (leg.easing, leg.acceleration) {
                // Until its neighbours are known it flows from rest to rest.
                (Easing::Flow, _) => Shape::Flow(0.0, 0.0),
                (Easing::Trapezoid, Some(acceleration)) => Shape::Ramped(acceleration),
                (easing, _) => Shape::Eased(easing),
            },
            step: leg.step,
            varies,
            variants: count,
        });
    }
}

/// Lets one joint's stretches that flow and follow each other at once pass the pose between them without stopping.
fn flow(segments: &mut [Segment], variants: &[Variant]) {
    for n in 1..segments.len() {
        let [.., before, after] = segments.get_mut(..=n).unwrap_or(&mut []) else { continue };
        let flows = |segment: &Segment| {
            matches!(segment.shape, Shape::Flow(..)) && segment.ends > segment.starts && !segment.is_mark()
        };
        if !flows(before) || !flows(after) || before.ends != after.starts || after.variants > 0 {
            continue;
        }
        let own = variants.get(place(before.varies)..place(before.varies) + usize::from(before.variants));
        let begins = std::iter::once(before.from).chain(own.unwrap_or(&[]).iter().map(|own| own.from));
        let mean = (after.to - after.from) / after.seconds();
        let (to, seconds) = (before.to, before.seconds());
        // Wherever it may have begun, it is passed no faster than that allows.
        let speeds = begins.map(|from| passing_speed((to - from) / seconds, mean));
        let speed = speeds.reduce(|a, b| {
            if a * b <= 0.0 {
                0.0
            } else if libm::fabs(a) < libm::fabs(b) {
                a
            } else {
                b
            }
        });
        let speed = speed.unwrap_or(0.0);
        if let Shape::Flow(_, out) = &mut before.shape {
            *out = speed;
        }
        if let Shape::Flow(into, _) = &mut after.shape {
            *into = speed;
        }
    }
}

const _: () = assert!(size_of::<Segment>() <= 80 && LOOPS < 256 && size_of::<Counts>() == 4 * LOOPS);
