//! A sequence looked at before it runs: what is short, what meets a limit, how fast and hard its joints go, what is too
//! fine to be seen, what its rails must give, and how long it takes. One pass over the program, each loop once.
//!
//! What a jump leads past is judged as it is written, one step after the other.

use crate::power::Draw;
use crate::rig::{Layer, Parts, Rig};
use crate::sequence::{At, Lasts, Program, Segment, Short, Track};
use crate::stage::Plan;
use crate::stage::plan::ServoPlan;
use crate::unit::{Amps, Degrees};

/// What has been found.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Review {
    /// Steps that are too short.
    pub shorts: Vec<Short>,
    /// Angles that limits or endpoints hold back.
    pub met: Vec<Met>,
    /// The greatest speed and acceleration of each joint.
    pub peaks: Vec<Peak>,
    /// Moves that nobody will see.
    pub fine: Vec<Fine>,
    /// What each rail must give.
    pub rails: Vec<Load>,
    /// How long it plays, in seconds.
    pub lasts: Lasts,
}

/// An angle that is not reached.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Met {
    /// The sequence that the step is written in, by its place in the rig.
    pub sequence: usize,
    /// The step, from 0.
    pub step: usize,
    /// The servo's index.
    pub servo: usize,
    /// What is asked for.
    pub asked: Degrees,
    /// Where it ends.
    pub gets: Degrees,
}

/// How fast and hard a joint goes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Peak {
    /// The servo's index.
    pub servo: usize,
    /// The greatest speed, in degrees a second at the joint.
    pub speed: f64,
    /// When that is.
    pub at: At,
    /// In °/s²; infinite where a speed jumps.
    pub acceleration: f64,
}

/// A move that is less than can be seen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fine {
    /// The sequence that the step is written in, by its place in the rig.
    pub sequence: usize,
    /// The step, from 0.
    pub step: usize,
    /// The servo's index.
    pub servo: usize,
    /// How far it goes.
    pub moves: Degrees,
    /// What it must be to be seen.
    pub least: Degrees,
    /// That is the play of its gears; else one tick.
    pub slack: bool,
}

/// What a rail must give along the time.
#[derive(Debug, Clone, PartialEq)]
pub struct Load {
    /// The rail, by its place in the rig.
    pub rail: usize,
    /// From each of these places on so much.
    pub line: Vec<(At, Amps)>,
    /// When nothing of the sequence moves.
    pub idle: Amps,
    /// The most that it draws at once, in amperes.
    pub peak: Amps,
    /// When that is.
    pub at: At,
    /// The servos that move then.
    pub who: Vec<usize>,
    /// The most while its servos get their first pulses, before anything plays.
    pub start: Start,
    /// What the supply gives.
    pub supply: Amps,
    /// Servos of the sequence whose current is not known.
    pub uncounted: Vec<usize>,
}

/// What a rail must give while servos start. Each board gives its channels their first pulses one after another, 80 ms
/// apart, in rig order; boards do so at the same time. One that starts may be stalled; those before it are taken to stand,
/// though a horn that was left far from where it is told needs longer to get there.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Start {
    /// The most that it draws at once, in amperes.
    pub peak: Amps,
    /// The servos that start then: one of each board.
    pub who: Vec<usize>,
}

impl Start {
    /// Of boards with their servos in the order in which they start.
    fn of(boards: &[Vec<(usize, Draw)>]) -> Self {
        let mut most = Self::default();
        let slots = boards.iter().map(Vec::len).max().unwrap_or(0);
        // What stands by then: all of those that have started.
        let mut standing = Amps::ZERO;
        for slot in 0..slots {
            let starting = || boards.iter().filter_map(|board| board.get(slot));
            let now = starting().fold(standing, |sum, (_, draw)| sum + draw.stall);
            if now > most.peak {
                most = Self { peak: now, who: starting().map(|(servo, _)| *servo).collect() };
            }
            standing = starting().fold(standing, |sum, (_, draw)| sum + draw.idle);
        }
        most
    }
}

impl Load {
    /// Whether what it must give leaves less than a tenth of the supply.
    pub fn is_tight(&self) -> bool {
        self.most() > self.supply * 0.9
    }

    /// The most that it must give, at the start or while the sequence plays.
    pub fn most(&self) -> Amps {
        if self.starts_hardest() { self.start.peak } else { self.peak }
    }

    /// Whether that is at the start.
    pub fn starts_hardest(&self) -> bool {
        self.start.peak > self.peak
    }

    /// The most in words, with when and who.
    pub fn worst(&self, rig: &Rig) -> String {
        if self.starts_hardest() { self.starting(rig) } else { self.playing(rig) }
    }

    /// The most while it plays, in words: `≈ 1.2 A at 0.50 s while heron.neck, heron.beak move`.
    pub fn playing(&self, rig: &Rig) -> String {
        let most = format!("≈ {:.1} A at {:.2} s", self.peak.get(), self.at.seconds());
        match self.who.as_slice() {
            [] => most,
            who => format!("{most} while {}", doing(rig, who, ("moves", "move"))),
        }
    }

    /// The most while its servos start, in words: `≈ 1.6 A while heron.neck starts`.
    pub fn starting(&self, rig: &Rig) -> String {
        let who = doing(rig, &self.start.who, ("starts", "start"));
        format!("≈ {:.1} A while {who}", self.start.peak.get())
    }

    /// What it must give at a place.
    pub fn at(&self, t: At) -> Amps {
        let n = self.line.partition_point(|(from, _)| *from <= t);
        n.checked_sub(1).and_then(|n| self.line.get(n)).map_or(self.idle, |(_, amps)| *amps)
    }
}

/// Servos by their names, and what one or several of them do.
fn doing(rig: &Rig, who: &[usize], (one, more): (&str, &str)) -> String {
    let names: Vec<&str> =
        who.iter().filter_map(|n| rig.servos.get(*n)).map(|servo| servo.name.as_str()).collect();
    format!("{} {}", names.join(", "), if who.len() == 1 { one } else { more })
}

impl Review {
    /// Looks at the program of a sequence at a place of a sound rig.
    pub fn of(rig: Parts<'_>, plan: &Plan, place: usize) -> Self {
        let Some(program) = plan.programs.get(place) else { return Self::default() };
        let mut review = Self {
            shorts: program.shorts().to_vec(),
            rails: loads(rig, program),
            lasts: program.lasts(&program.given),
            ..Self::default()
        };
        for track in &program.tracks {
            let Some(own) = plan.servos.get(track.servo) else { continue };
            review.peaks.extend(peak(program, track));
            let slack = rig.rig.servos.get(track.servo).and_then(|servo| servo.fit().ok()?.slack);
            for segment in program.segments_of(track).iter().filter(|segment| !segment.is_mark()) {
                let Some((_, step)) = program.step_of(segment) else { continue };
                if program.layer != Layer::Added {
                    review.met.extend(met(own, segment).map(|gets| Met {
                        sequence: step.sequence,
                        step: step.step,
                        servo: track.servo,
                        asked: Degrees::new(segment.to),
                        gets,
                    }));
                }
                let slack = slack.as_ref().map_or(0.0, |slack| slack.mean.get());
                review.fine.extend(fine(program, own, segment, slack).map(|(moves, least, slack)| Fine {
                    sequence: step.sequence,
                    step: step.step,
                    servo: track.servo,
                    moves: Degrees::new(moves),
                    least: Degrees::new(least),
                    slack,
                }));
            }
        }
        let by_step = |sequence: usize, step: usize, servo: usize| (sequence, step, servo);
        review.met.sort_by_key(|met| by_step(met.sequence, met.step, met.servo));
        review.met.dedup_by_key(|met| by_step(met.sequence, met.step, met.servo));
        review.fine.sort_by_key(|fine| by_step(fine.sequence, fine.step, fine.servo));
        review.fine.dedup_by_key(|fine| by_step(fine.sequence, fine.step, fine.servo));
        review
    }

    /// Whether no problem was found.
    pub fn is_good(&self) -> bool {
        self.shorts.is_empty()
            && self.met.is_empty()
            && self.fine.is_empty()
            && !self.rails.iter().any(Load::is_tight)
    }
}

/// Where limits and endpoints end a move that goes further.
fn met(own: &ServoPlan, segment: &Segment) -> Option<Degrees> {
    let scale = own.scale.as_ref().filter(|_| own.kind.has_angles())?;
    let (bound, stopped) = own.guard.bound(scale.pulse_at(Degrees::new(segment.to)));
    let gets = scale.angle_at(bound);
    // Beyond what a linkage can drive there is no pulse that says so.
    let off = libm::fabs(gets.get() - segment.to);
    (stopped.is_some() || off > 0.05).then_some(gets).filter(|_| off > 0.005)
}

/// A move that is less than a tick, or than the play of its gears.
fn fine(program: &Program, own: &ServoPlan, segment: &Segment, slack: f64) -> Option<(f64, f64, bool)> {
    let scale = own.scale.as_ref().filter(|_| own.kind.has_angles())?;
    let most = program.begins(segment).map(|from| libm::fabs(segment.to - from)).fold(0.0, f64::max);
    let tick = libm::fabs(scale.slope_at(scale.pulse_at(Degrees::new(segment.to)))) * own.guard.step().get();
    let (least, by_slack) = if slack > tick { (slack, true) } else { (tick, false) };
    (most > 0.0 && most < least).then_some((most, least, by_slack))
}

fn peak(program: &Program, track: &Track) -> Option<Peak> {
    let mut peak = Peak { servo: track.servo, speed: 0.0, at: At::ZERO, acceleration: 0.0 };
    for segment in program.segments_of(track).iter().filter(|segment| !segment.is_mark()) {
        for from in program.begins(segment) {
            let (distance, seconds) = (segment.to - from, segment.seconds());
            if distance == 0.0 {
                continue;
            }
            let speed = segment.shape.peak_speed(distance, seconds);
            if speed > peak.speed {
                (peak.speed, peak.at) = (speed, segment.starts);
            }
            peak.acceleration =
                libm::fmax(peak.acceleration, segment.shape.peak_acceleration(distance, seconds));
        }
    }
    (peak.speed > 0.0).then_some(peak)
}

/// What everything that the sequence moves draws, rail by rail.
fn loads(rig: Parts<'_>, program: &Program) -> Vec<Load> {
    let mut loads = Vec::new();
    for (n, rail) in rig.rig.rails.iter().enumerate() {
        let mut load = Load {
            rail: n,
            line: Vec::new(),
            idle: Amps::ZERO,
            peak: Amps::ZERO,
            at: At::ZERO,
            who: Vec::new(),
            start: Start::default(),
            supply: rail.amps,
            uncounted: Vec::new(),
        };
        let mut boards: Vec<(&str, Vec<(usize, Draw)>)> = Vec::new();
        // By how much more, from when on.
        let mut changes: Vec<(At, f64)> = Vec::new();
        let on_it = |servo: usize| {
            let servo = rig.rig.servos.get(servo)?;
            let board = rig.board(&servo.board)?;
            (board.rail.as_deref() == Some(rail.name.as_str())).then_some(servo)
        };
        let mut any = false;
        for track in &program.tracks {
            let Some(servo) = on_it(track.servo) else { continue };
            any = true;
            let Some(draw) = Draw::of(servo) else {
                load.uncounted.push(track.servo);
                continue;
            };
            load.idle = load.idle + draw.idle;
            if !servo.kind.is_accessory() {
                match boards.iter_mut().find(|(board, _)| *board == servo.board) {
                    Some((_, starts)) => starts.push((track.servo, draw)),
                    None => boards.push((&servo.board, vec![(track.servo, draw)])),
                }
            }
            for (from, to, more) in draws(program, track, servo.kind.has_angles(), &draw) {
                changes.extend([(from, more), (to, -more)]);
            }
        }
        if !any {
            continue;
        }
        let boards: Vec<Vec<(usize, Draw)>> = boards.into_iter().map(|(_, starts)| starts).collect();
        load.start = Start::of(&boards);
        changes.sort_by_key(|(at, _)| *at);
        load.peak = load.idle;
        let mut now = load.idle.get();
        for own in changes.chunk_by(|a, b| a.0 == b.0) {
            let Some(&(at, _)) = own.first() else { continue };
            now += own.iter().map(|(_, more)| more).sum::<f64>();
            load.line.push((at, Amps::new(now)));
            if now > load.peak.get() + 1e-9 {
                (load.peak, load.at) = (Amps::new(now), at);
            }
        }
        let moves = |track: &&Track| {
            program
                .segments_of(track)
                .iter()
                .any(|segment| segment.starts <= load.at && load.at < segment.ends && !segment.is_mark())
        };
        let who = program.tracks.iter().filter(|track| on_it(track.servo).is_some()).filter(moves);
        load.who = who.map(|track| track.servo).collect();
        loads.push(load);
    }
    loads
}

/// When something draws more than it does standing, from and to, and how much more, in amperes.
fn draws(program: &Program, track: &Track, turns: bool, draw: &Draw) -> Vec<(At, At, f64)> {
    let more = (draw.moving - draw.idle).get();
    let moves = program.segments_of(track).iter().filter(|segment| !segment.is_mark());
    if turns {
        return moves.map(|segment| (segment.starts, segment.ends, more)).collect();
    }
    // A lamp that is lit, and a winch that turns, draw until they are off.
    let all: Vec<&Segment> = moves.collect();
    let mut spans = Vec::new();
    for (n, segment) in all.iter().enumerate() {
        let next = all.get(n + 1).map_or(program.end, |next| next.starts);
        let share = |level: f64| libm::fmin(libm::fabs(level) / 100.0, 1.0);
        spans.push((segment.starts, segment.ends, more * libm::fmax(share(segment.from), share(segment.to))));
        spans.push((segment.ends, next, more * share(segment.to)));
    }
    spans.retain(|(from, to, more)| from < to && *more > 0.0);
    spans
}
