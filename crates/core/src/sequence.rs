//! A sequence as it runs: where each joint should be at a time, and which steps are too short for it.
//!
//! Pure: where a joint is depends on where it started and on the time, asked in any order. Limits, speed
//! guards and who drives a joint are the stage's.

use crate::bent::Bent;
use crate::easing::{Easing, Quintic, passing_speed};
use crate::rig::{Parts, Sequence, SequenceId, Servo, Step};
use crate::scale::Scale;
use crate::unit::{Degrees, DegreesPerSecond, held};
use std::sync::{Arc, OnceLock};

/// A speed to plan with where nothing is known of a servo.
pub const UNRATED_SPEED: DegreesPerSecond = DegreesPerSecond::new(100.0);

/// A time that is needed, to a hundredth of a second upwards: rounded down it would still be short.
pub fn rounded_up(seconds: f64) -> f64 {
    libm::ceil(seconds * 100.0) / 100.0
}

/// When a step happens, in seconds from the start.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct StepTime {
    /// Its move begins.
    pub starts: f64,
    /// How long it moves.
    pub moves: f64,
    /// How long it then stands.
    pub dwells: f64,
}

impl StepTime {
    /// Its move is over.
    pub fn arrives(&self) -> f64 {
        self.starts + self.moves
    }

    /// It is over.
    pub fn ends(&self) -> f64 {
        self.arrives() + self.dwells
    }
}

/// A time within a sequence: the step under way, and when that happens.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Moment {
    t: f64,
    step: usize,
    time: StepTime,
    first_move: f64,
}

/// One joint's part in one step.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Leg {
    /// Where it is to be after the step; none while no pose has named the joint yet.
    target: Option<Degrees>,
    lag: f64,
    share: f64,
    easing: Easing,
}

/// One joint through the whole sequence.
#[derive(Debug, Clone, PartialEq)]
pub struct Track {
    /// The index of the servo that turns the joint.
    pub servo: usize,
    /// The joint's greatest speed, where it is known.
    pub speed: Option<DegreesPerSecond>,
    /// What turns the joint unevenly, with the greatest speed of the servo's shaft.
    shaft: Option<(Arc<Bent>, DegreesPerSecond)>,
    legs: Vec<Leg>,
}

/// A step that asks more than a joint can do.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Short {
    /// The step's index.
    pub step: usize,
    /// The servo's index.
    pub servo: usize,
    /// The move time that the joint needs, in seconds.
    pub needs: f64,
}

/// A sequence, resolved.
#[derive(Debug, Clone, PartialEq)]
pub struct Timeline {
    /// The sequence's id.
    pub id: SequenceId,
    /// When each step happens, if the first move takes the time written here.
    pub steps: Vec<StepTime>,
    /// One track for each joint that any step moves, in rig order.
    pub tracks: Vec<Track>,
    /// The place of each servo's track, by servo index.
    by_servo: Vec<Option<usize>>,
    /// The first step is as fast as its joints can, so its time depends on where they start.
    first_is_fastest: bool,
    /// The short steps that do not depend on where the joints start: found once, by whoever asks first.
    settled: OnceLock<Vec<Short>>,
}

impl Timeline {
    /// Resolves a sequence of a sound rig; `scales` are those of its servos, in its order. Names that do not exist are
    /// passed over.
    pub fn of(rig: Parts<'_>, sequence: &Sequence, scales: &[Option<&Scale>]) -> Self {
        let scale = |n: usize| scales.get(n).copied().flatten();
        let tracks: Vec<Track> =
            (0..rig.servos.len()).filter_map(|n| track(rig, sequence, n, scale(n))).collect();
        let mut by_servo = vec![None; rig.servos.len()];
        for (n, track) in tracks.iter().enumerate() {
            by_servo[track.servo] = Some(n);
        }
        let mut line = Self {
            id: sequence.id,
            by_servo,
            steps: Vec::with_capacity(sequence.steps.len()),
            tracks,
            first_is_fastest: sequence.steps.first().is_some_and(|s| s.move_s.is_none()),
            settled: OnceLock::new(),
        };
        let mut starts = 0.0;
        for (n, step) in sequence.steps.iter().enumerate() {
            let moves = step.move_s.map_or_else(|| line.fastest(n, |_| None), crate::unit::Seconds::get);
            let time = StepTime { starts, moves, dwells: step.dwell_s.get() };
            starts = time.ends();
            line.steps.push(time);
        }
        line
    }

    /// The whole length in seconds, with a first move of the given time.
    pub fn length(&self, first_move: f64) -> f64 {
        self.steps.last().map_or(0.0, |last| last.ends() + first_move - self.nominal_first())
    }

    fn nominal_first(&self) -> f64 {
        self.steps.first().map_or(0.0, |s| s.moves)
    }

    /// The time of the first move when the joints start where `start` says (by servo index).
    pub fn first_move(&self, start: impl Fn(usize) -> Option<Degrees>) -> f64 {
        if self.first_is_fastest { self.fastest(0, start) } else { self.nominal_first() }
    }

    /// When a step happens, with a first move of the given time.
    pub fn step(&self, index: usize, first_move: f64) -> Option<StepTime> {
        let mut time = *self.steps.get(index)?;
        if index == 0 {
            time.moves = first_move;
        } else {
            time.starts += first_move - self.nominal_first();
        }
        Some(time)
    }

    /// The step under way at `t` seconds; the last one from its end on.
    pub fn step_at(&self, t: f64, first_move: f64) -> usize {
        let shift = first_move - self.nominal_first();
        self.steps.partition_point(|s| t >= s.starts + shift).max(1) - 1
    }

    /// What all joints have in common at `t` seconds, found once for all of them.
    pub fn moment(&self, t: f64, first_move: f64) -> Moment {
        let step = self.step_at(t, first_move);
        Moment { t, step, time: self.step(step, first_move).unwrap_or_default(), first_move }
    }

    /// The track of a servo, by its index.
    pub fn track_of(&self, servo: usize) -> Option<&Track> {
        self.tracks.get((*self.by_servo.get(servo)?)?)
    }

    /// The least time step `n` needs for all its joints to start and arrive at once.
    fn fastest(&self, n: usize, start: impl Fn(usize) -> Option<Degrees>) -> f64 {
        let need = |track: &Track| {
            let leg = track.legs.get(n)?;
            let from = track.before(n, start(track.servo))?;
            let to = leg.target?;
            let distance = (to - from).abs().get();
            let speed = track.speed.unwrap_or(UNRATED_SPEED).get();
            let joint = distance * leg.easing.peak() / speed;
            Some(libm::fmax(joint, track.shaft_needs(from, to, |u| leg.easing.at(u))) / leg.share + leg.lag)
        };
        self.tracks.iter().filter_map(need).fold(0.0, f64::max)
    }

    /// Where a joint should be at `t` seconds, having started at `start`; `start` itself while no pose has
    /// named it.
    pub fn at(&self, track: &Track, t: f64, start: Degrees, first_move: f64) -> Degrees {
        self.at_moment(track, &self.moment(t, first_move), start)
    }

    /// Where a joint should be at a moment, having started at `start`.
    #[inline]
    pub fn at_moment(&self, track: &Track, moment: &Moment, start: Degrees) -> Degrees {
        let &Moment { t, step: n, time, first_move } = moment;
        let Some(leg) = track.legs.get(n) else { return start };
        let from = track.before(n, Some(start)).unwrap_or(start);
        let Some(to) = leg.target else { return from };
        let span = leg.share * time.moves;
        let u = if span > 0.0 { held((t - time.starts - leg.lag) / span, 0.0, 1.0) } else { 1.0 };
        let way = if leg.easing == Easing::Flow && span > 0.0 {
            return Degrees::new(self.flow(track, n, start, first_move, from, to).at(u));
        } else {
            leg.easing.at(u)
        };
        from + (to - from) * way
    }

    /// The flowing move of one leg, in degrees over its own unit of time.
    #[inline(never)]
    fn flow(
        &self,
        track: &Track,
        n: usize,
        start: Degrees,
        first_move: f64,
        from: Degrees,
        to: Degrees,
    ) -> Quintic {
        let span = self.step(n, first_move).map_or(0.0, |s| s.moves);
        let here = (to - from).get() / span;
        let joined = |a: usize, b: usize| {
            let flows =
                |i: usize| track.legs.get(i).is_some_and(|l| l.easing == Easing::Flow && l.lag == 0.0);
            flows(a) && flows(b) && self.steps.get(a).is_some_and(|s| s.dwells == 0.0)
        };
        let mean = |i: usize| {
            let time = self.step(i, first_move)?;
            let from = track.before(i, Some(start))?;
            Some((track.legs.get(i)?.target? - from).get() / time.moves)
        };
        let into = n.checked_sub(1).filter(|&p| joined(p, n)).and_then(mean);
        let out = Some(n + 1).filter(|&f| joined(n, f)).and_then(mean);
        let v0 = into.map_or(0.0, |before| passing_speed(before, here));
        let v1 = out.map_or(0.0, |after| passing_speed(here, after));
        Quintic::new(from.get(), to.get(), v0 * span, v1 * span)
    }

    /// Every joint of every step that cannot get there in time, in step order.
    pub fn shorts(&self, start: impl Fn(usize) -> Option<Degrees>) -> Vec<Short> {
        let first_move = self.first_move(&start);
        let mut found: Vec<Short> = self.settled_shorts().to_vec();
        for track in &self.tracks {
            let start = start(track.servo);
            for step in 0..track.settles_at().min(self.steps.len()) {
                let needs = self.needs(track, step, start, first_move);
                found.extend(needs.map(|needs| Short { step, servo: track.servo, needs }));
            }
        }
        found.sort_by_key(|short| (short.step, short.servo));
        found
    }

    /// Those of the short steps that are the same wherever the joints start.
    fn settled_shorts(&self) -> &[Short] {
        self.settled.get_or_init(|| {
            let nominal = self.nominal_first();
            let of = |track: &Track, step: usize| {
                let needs = self.needs(track, step, None, nominal)?;
                Some(Short { step, servo: track.servo, needs })
            };
            let all = self.tracks.iter().flat_map(|track| {
                (track.settles_at()..self.steps.len()).filter_map(move |step| of(track, step))
            });
            all.collect()
        })
    }

    fn needs(&self, track: &Track, n: usize, start: Option<Degrees>, first_move: f64) -> Option<f64> {
        // Times are written with three decimals; what is right to them is not short.
        const HAIR: f64 = 5e-4;
        let leg = track.legs.get(n)?;
        let time = self.step(n, first_move)?;
        let (from, to, speed) = (track.before(n, start)?, leg.target?, track.speed?.get());
        let distance = (to - from).abs().get();
        let peak = if leg.easing == Easing::Flow && distance > 0.0 && time.moves > 0.0 {
            self.flow(track, n, start.unwrap_or(from), first_move, from, to).peak_speed() / distance
        } else {
            leg.easing.peak()
        };
        let way = |u: f64| {
            if leg.easing == Easing::Flow && distance > 0.0 && time.moves > 0.0 {
                let place = self.flow(track, n, start.unwrap_or(from), first_move, from, to).at(u);
                (place - from.get()) / (to - from).get()
            } else {
                leg.easing.at(u)
            }
        };
        let needs = libm::fmax(distance * peak / speed, track.shaft_needs(from, to, way)) / leg.share;
        (needs > time.moves + HAIR).then_some(needs)
    }
}

impl Track {
    /// The seconds that the shaft needs for a move of the joint, where that turns unevenly: found by looking at it in
    /// small steps. `way` is how much of the move is done at a share of its time.
    fn shaft_needs(&self, from: Degrees, to: Degrees, way: impl Fn(f64) -> f64) -> f64 {
        const LOOKS: u32 = 100;
        let Some((bent, speed)) = &self.shaft else { return 0.0 };
        let mut before = bent.shaft_for(from);
        let mut fastest = 0.0;
        for n in 1..=LOOKS {
            let at = bent.shaft_for(from + (to - from) * way(f64::from(n) / f64::from(LOOKS)));
            fastest = libm::fmax(fastest, (at - before).abs().get());
            before = at;
        }
        fastest * f64::from(LOOKS) / speed.get()
    }

    /// Where the joint stands before step `n`: the last target named, else where it started.
    fn before(&self, n: usize, start: Option<Degrees>) -> Option<Degrees> {
        n.checked_sub(1).and_then(|last| self.legs.get(last)?.target).or(start)
    }

    /// The first step whose move is the same wherever the joint starts: it begins at a pose, and does not flow out of
    /// the move that began where the joint was.
    fn settles_at(&self) -> usize {
        self.legs.iter().position(|leg| leg.target.is_some()).map_or(self.legs.len(), |first| first + 2)
    }

    /// Its target after step `n`.
    pub fn target(&self, n: usize) -> Option<Degrees> {
        self.legs.get(n)?.target
    }
}

fn track<'r>(rig: Parts<'r>, sequence: &Sequence, servo: usize, scale: Option<&Scale>) -> Option<Track> {
    let driven: &'r Servo = rig.rig.servos.get(servo)?;
    let name = rig.spoken_name(driven)?;
    let mut held = None;
    let mut leg = |step: &Step| {
        let own = step.joints.get(name);
        held = rig.pose(&step.pose).and_then(|pose| pose.target(driven.kind, name)).or(held);
        Leg {
            target: held,
            lag: own.map_or(0.0, |o| o.lag_s.get()),
            share: own.and_then(|o| o.share).unwrap_or(1.0),
            easing: own.and_then(|o| o.easing).unwrap_or(step.easing),
        }
    };
    let legs: Vec<Leg> = sequence.steps.iter().map(&mut leg).collect();
    held?;
    let speed = rig.speed_of(driven);
    let shaft = match (scale, driven.rated_speed()) {
        (Some(Scale::Bent(bent)), Some(speed)) => Some((Arc::clone(bent), speed)),
        _ => None,
    };
    Some(Track { servo, speed, shaft, legs })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};
    use crate::rig::{Index, Rig};
    use proptest::prelude::*;

    #[expect(clippy::format_push_string, reason = "a test's text, made once")]
    fn rig(steps: &str, speeds: [f64; 3]) -> Rig {
        let mut text = "format = 7\nname = \"t\"\n[[port]]\nname = \"p\"\nkind = \"i2c\"\npath = \"x\"\n[[board]]\nname = \"b\"\nport = \"p\"\nchip = \"pwm-expander\"\naddress = 64\n".to_owned();
        for (n, (name, speed)) in ["a", "b", "c"].into_iter().zip(speeds).enumerate() {
            text.push_str(&format!(
                "[[servo]]\nname = \"{name}\"\nboard = \"b\"\nchannel = {n}\n[[joint]]\nname = \"{name}\"\nservo = \"{name}\"\nspeed_deg_s = {speed}\n"
            ));
        }
        text += "[[pose]]\nname = \"zero\"\nangles_deg = { a = 0, b = 0, c = 0 }\n[[pose]]\nname = \"far\"\nangles_deg = { a = 96, b = 35, c = 50 }\n[[pose]]\nname = \"only-a\"\nangles_deg = { a = 75 }\n[[pose]]\nname = \"a30\"\nangles_deg = { a = 30 }\n[[pose]]\nname = \"a120\"\nangles_deg = { a = 120 }\n[[sequence]]\nname = \"s\"\n";
        text += steps;
        match load(&text) {
            Loaded::Sound(rig) => *rig,
            other => panic!("{other:?}"),
        }
    }

    fn line(steps: &str, speeds: [f64; 3]) -> Timeline {
        let rig = rig(steps, speeds);
        Timeline::of(Parts { rig: &rig, index: &Index::of(&rig) }, &rig.sequences[0], &[])
    }

    fn step(pose: &str, move_s: &str, easing: &str, dwell: f64) -> String {
        format!("[[sequence.step]]\npose = \"{pose}\"\n{move_s}\neasing = \"{easing}\"\ndwell_s = {dwell}\n")
    }

    #[test]
    fn together_the_slowest_sets_the_time() {
        let steps = step("zero", "move_s = 1", "linear", 0.0) + &step("far", "", "linear", 0.0);
        let line = line(&steps, [120.0, 60.0, 40.0]);
        assert!((line.steps[1].moves - 1.25).abs() < 1e-12);
        for (track, speed) in line.tracks.iter().zip([76.8, 28.0, 40.0]) {
            let at = |t| line.at(track, t, Degrees::ZERO, 1.0).get();
            assert!(((at(2.0) - at(1.5)) / 0.5 - speed).abs() < 1e-9);
        }
    }

    #[test]
    fn a_cubic_move_stands_at_44_0625_after_a_quarter() {
        let line = line(&step("a120", "move_s = 1.2", "cubic", 0.0), [500.0; 3]);
        let at = line.at(&line.tracks[0], 0.3, Degrees::new(30.0), 1.2);
        assert!((at.get() - 44.0625).abs() < 1e-12);
    }

    #[test]
    fn a_short_step_says_the_time_it_needs() {
        let rated = 60.0 / 0.14;
        assert!((rated - 428.571f64).abs() < 5e-4);
        for (easing, needs) in
            [("linear", 0.175), ("cubic", 0.2625), ("sine", 0.27489), ("minimum-jerk", 0.328125)]
        {
            let steps = step("only-a", "move_s = 0.1", easing, 0.0);
            let shorts = line(&steps, [rated; 3]).shorts(|_| Some(Degrees::ZERO));
            assert_eq!(shorts.len(), 1);
            assert!((shorts[0].needs - needs).abs() < 5e-6, "{easing} {}", shorts[0].needs);
            let enough = step("only-a", &format!("move_s = {}", needs + 0.0005), easing, 0.0);
            assert!(line(&enough, [rated; 3]).shorts(|_| Some(Degrees::ZERO)).is_empty());
        }
        let wide = step("a120", "move_s = 0.2", "linear", 0.0);
        let shorts = line(&wide, [400.0; 3]).shorts(|_| Some(Degrees::new(10.0)));
        assert!((shorts[0].needs - 0.275).abs() < 1e-12);
    }

    #[test]
    fn a_joint_that_no_pose_names_keeps_what_it_had() {
        let steps = step("far", "move_s = 1", "cubic", 0.5) + &step("only-a", "move_s = 1", "cubic", 0.0);
        let line = line(&steps, [500.0; 3]);
        assert_eq!(line.at(&line.tracks[1], 2.5, Degrees::ZERO, 1.0), Degrees::new(35.0));
        let only = super::tests::line(&step("only-a", "move_s = 1", "cubic", 0.0), [500.0; 3]);
        assert_eq!(only.tracks.len(), 1, "b and c are not in it");
    }

    #[test]
    fn lag_and_share_shift_one_joint_within_the_step() {
        let steps =
            step("far", "move_s = 1", "linear", 0.0) + "joint = { a = { lag_s = 0.5, share = 0.5 } }\n";
        let line = line(&steps, [500.0; 3]);
        assert_eq!(line.at(&line.tracks[0], 0.5, Degrees::ZERO, 1.0), Degrees::ZERO);
        assert!((line.at(&line.tracks[0], 0.75, Degrees::ZERO, 1.0).get() - 48.0).abs() < 1e-9);
        assert_eq!(line.at(&line.tracks[0], 1.0, Degrees::ZERO, 1.0), Degrees::new(96.0));
    }

    #[test]
    fn flow_passes_a_pose_without_stopping_and_stands_at_a_turn() {
        let steps = step("a30", "move_s = 1", "flow", 0.0)
            + &step("only-a", "move_s = 1", "flow", 0.0)
            + &step("zero", "move_s = 1", "flow", 0.0);
        let line = line(&steps, [500.0; 3]);
        let speed = |t: f64| {
            let at = |t| line.at(&line.tracks[0], t, Degrees::ZERO, 1.0).get();
            (at(t + 1e-5) - at(t - 1e-5)) / 2e-5
        };
        assert!((speed(1.0) - 37.5).abs() < 0.1, "{}", speed(1.0));
        assert!(speed(2.0).abs() < 0.1, "{}", speed(2.0));
        assert_eq!(line.at(&line.tracks[0], 1.0, Degrees::ZERO, 1.0), Degrees::new(30.0));
    }

    #[test]
    fn a_first_step_as_fast_as_they_can_depends_on_the_start() {
        let line = line(
            &(step("only-a", "", "linear", 1.0) + &step("zero", "move_s = 1", "linear", 0.0)),
            [50.0; 3],
        );
        let first = line.first_move(|_| Some(Degrees::new(25.0)));
        assert!((first - 1.0).abs() < 1e-12 && (line.length(first) - 3.0).abs() < 1e-12);
        assert_eq!(line.step_at(1.9, first), 0);
        assert_eq!(line.step_at(2.0, first), 1);
    }

    /// The slow twin: every step of every joint, from where that starts.
    fn all_shorts(line: &Timeline, start: impl Fn(usize) -> Option<Degrees>) -> Vec<Short> {
        let first_move = line.first_move(&start);
        let steps = 0..line.steps.len();
        let each = steps.flat_map(|step| line.tracks.iter().map(move |track| (step, track)));
        let short = |(step, track): (usize, &Track)| {
            let needs = line.needs(track, step, start(track.servo), first_move)?;
            Some(Short { step, servo: track.servo, needs })
        };
        each.filter_map(short).collect()
    }

    proptest! {
        #[test]
        fn short_steps_that_are_kept_are_those_that_are_looked_for(
            asked in proptest::collection::vec((0usize..5, 0usize..6, 0.0..1.5f64, prop_oneof![Just(0.0), 0.0..0.5f64]), 1..9),
            starts in proptest::array::uniform3(proptest::option::of(-90.0..90.0f64)),
            others in proptest::array::uniform3(proptest::option::of(-90.0..90.0f64)),
        ) {
            let steps = asked.iter().enumerate().map(|(n, (pose, easing, time, dwell))| {
                let pose = ["zero", "far", "only-a", "a30", "a120"][*pose];
                let easing = ["linear", "cubic", "sine", "minimum-jerk", "trapezoid", "flow"][*easing];
                // The first may be as fast as its joints can.
                let time = if n == 0 && *time < 0.3 { String::new() } else { format!("move_s = {}", time + 0.05) };
                step(pose, &time, easing, *dwell)
            });
            let line = line(&steps.collect::<String>(), [60.0, 80.0, 100.0]);
            for starts in [starts, others, starts] {
                let start = |n: usize| starts[n].map(Degrees::new);
                prop_assert_eq!(line.shorts(start), all_shorts(&line, start));
            }
        }

        #[test]
        fn both_ends_are_reached_and_nothing_jumps(easing in 0usize..6, start in -90.0..90.0f64, move_s in 0.1..3.0f64) {
            let name = ["linear", "cubic", "sine", "minimum-jerk", "trapezoid", "flow"][easing];
            let steps = step("far", &format!("move_s = {move_s}"), name, 0.2) + &step("zero", "move_s = 1", name, 0.0);
            let line = line(&steps, [500.0; 3]);
            let at = |t: f64| line.at(&line.tracks[0], t, Degrees::new(start), move_s).get();
            prop_assert!((at(0.0) - start).abs() < 1e-9);
            prop_assert!((at(move_s) - 96.0).abs() < 1e-9 && (at(line.length(move_s))).abs() < 1e-9);
            let fastest = 1.876 * (186.0 / move_s).max(96.0) * 0.001;
            let mut t = 0.0;
            while t < line.length(move_s) {
                prop_assert!((at(t + 0.001) - at(t)).abs() <= fastest + 1e-9, "jumps at {t}");
                t += 0.001;
            }
        }
    }
}
