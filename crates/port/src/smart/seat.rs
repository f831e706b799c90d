//! One servo on a bus: how far it is known, what it is told, what it says.

use super::{CATCH_UP, LOOK_EVERY, NEAR, SmartServo, USUAL_RETURN_DELAY};
use crate::board::{Decision, Feedback, Stand};
use std::time::Duration;
use wasvolta_wire::smart::map::{Map, Register};
use wasvolta_wire::smart::{ALERT, Answer, Form, Refused};

/// A servo that did not answer is asked again at once so often, before it counts as silent.
const MISSES: u32 = 3;
/// One that is silent is asked again after this time, then ever more rarely.
const FIRST_AGAIN: Duration = Duration::from_millis(100);
const LAST_AGAIN: Duration = Duration::from_secs(2);
/// One that would not do as it was told is told again after this time.
const REFUSED_AGAIN: Duration = Duration::from_secs(1);
/// The least speed at which what it lags behind is made up for, in degrees a second.
const LEAST_SPEED: f64 = 15.0;
/// How long it counts how fast it was to go.
const LATELY: Duration = Duration::from_millis(500);
/// The most bytes that are read at once of its memory.
const MOST: u16 = 64;

/// What is asked of one servo next.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) enum Step {
    /// Who it is: what is kept in its memory.
    #[default]
    Memory,
    /// Who it is and how it is set up, where that does not stand among that: one register after the other.
    Extra(u8),
    /// Whether it drives.
    Drive,
    /// Where it is, before anything else is told.
    Place,
    /// Nothing: it is known.
    Ready,
    /// Where it is now, for there it is to be driven.
    EngagePlace,
    /// That it is to be where it is.
    EngageGoal,
    /// That it is to drive.
    EngageOn,
    /// Whether it does.
    EngageBack,
    /// That it is to be limp.
    OffWrite,
    /// Whether it is.
    OffBack,
}

/// What is asked: some registers, or that they become what stands in the bytes beside.
pub(super) enum Request {
    Read { address: u16, count: u16 },
    Write { address: u16 },
}

/// See the module.
#[derive(Debug)]
pub(super) struct Seat {
    pub servo: SmartServo,
    pub step: Step,
    pub feedback: Feedback,
    /// The goal that it was told last, and how fast, in steps of its register.
    pub sent: Option<(u16, u32)>,
    pub wanted: Option<u16>,
    /// How fast it is to go there, in counts a second.
    pub speed: f64,
    /// The fastest that it was to go lately, and when.
    peak: (f64, Duration),
    pub return_delay: Duration,
    /// Which of the blocks that say how it is comes next.
    pub looks: usize,
    /// Its last place.
    last: u16,
    /// Answers that did not come, one after the other.
    misses: u32,
    again_at: Duration,
    again_after: Duration,
    engage_at: Duration,
    /// The rig has it no more: it is let go, and then forgotten.
    leaves: bool,
    /// It was found driving, and is to be limp.
    pub stops: bool,
    /// The raw place before this one, to count turns.
    raw: Option<i64>,
}

/// The registers that say who it is and how it is set up.
fn set_up(map: &Map) -> impl Iterator<Item = Register> {
    let own = [
        Some(map.model),
        map.mode.map(|(mode, _)| mode),
        map.answers,
        map.torque_limit.map(|(limit, _)| limit),
    ];
    own.into_iter().flatten()
}

/// Those of them that do not stand in the block of memory that is read at once, by their place among them.
fn extra(map: &Map, n: u8) -> Option<Register> {
    let read = map.kept.0..=map.kept.1.min(map.kept.0.saturating_add(MOST - 1));
    let outside = |own: &Register| !read.contains(&own.at) || !read.contains(&(own.end() - 1));
    set_up(map).filter(outside).nth(n.into())
}

impl Seat {
    pub fn of(servo: &SmartServo) -> Self {
        Self {
            servo: servo.clone(),
            step: Step::default(),
            feedback: Feedback::default(),
            sent: None,
            wanted: None,
            speed: 0.0,
            peak: (0.0, Duration::ZERO),
            return_delay: USUAL_RETURN_DELAY,
            looks: 0,
            last: u16::MAX,
            misses: 0,
            again_at: Duration::ZERO,
            again_after: FIRST_AGAIN,
            engage_at: Duration::ZERO,
            leaves: false,
            stops: false,
            raw: None,
        }
    }

    /// The same, as the rig has it now.
    pub fn with(mut self, servo: &SmartServo) -> Self {
        if servo.model != self.servo.model {
            // What it may be told depends on it.
            self.step = Step::Memory;
        }
        (self.servo, self.leaves) = (servo.clone(), false);
        self
    }

    /// The rig has it no more; none where it is not driven.
    pub fn leaving(mut self) -> Option<Self> {
        self.leaves = true;
        (self.may_drive()).then_some(self)
    }

    pub const fn is_gone(&self) -> bool {
        self.leaves && !self.may_drive()
    }

    /// What was found out goes.
    pub fn forget(&mut self) {
        (self.step, self.raw, self.return_delay) = (Step::Memory, None, USUAL_RETURN_DELAY);
        self.feedback = Feedback {
            interruptions: self.feedback.interruptions + 1,
            missed: self.feedback.missed,
            ..Feedback::default()
        };
    }

    /// The line is gone: whether it goes on as it was told is not known until it is asked.
    pub const fn lost(&mut self) {
        (self.step, self.misses) = (Step::Memory, 0);
        (self.again_at, self.again_after) = (Duration::ZERO, FIRST_AGAIN);
        self.feedback.stand = Stand::Unasked;
    }

    /// Whether its drive may be on, for all that is known.
    pub const fn may_drive(&self) -> bool {
        self.sent.is_some() || matches!(self.feedback.stand, Stand::Stiff)
    }

    /// What it was told last, while it is taken to do that.
    pub fn told(&self) -> Option<u16> {
        self.sent.map(|(target, _)| target)
    }

    /// The place where it is, as a target.
    pub fn here(&self) -> u16 {
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a saturating cast, wanted here"
        )]
        let here = self.feedback.position.round() as u16;
        here.min(self.last)
    }

    pub fn is_acquainted(&self) -> bool {
        match self.feedback.stand {
            Stand::Unasked => false,
            Stand::Silent => true,
            _ => self.step == Step::Ready,
        }
    }

    pub const fn is_engaging(&self) -> bool {
        matches!(self.step, Step::EngageGoal | Step::EngageOn | Step::EngageBack)
    }

    /// It is asked with the others where it is.
    pub fn is_in_round(&self) -> bool {
        self.step == Step::Ready && self.misses == 0 && self.feedback.stand.answers()
    }

    /// It is to be asked by itself as soon as it may be.
    pub fn is_stepping(&self, now: Duration) -> bool {
        now >= self.again_at && (self.step != Step::Ready || self.misses > 0)
    }

    pub fn wants_look(&self, now: Duration) -> bool {
        self.is_in_round()
            && (self.looks > 0 || self.feedback.looked_at.is_none_or(|at| now >= at + LOOK_EVERY))
    }

    /// It did not answer.
    pub fn missed(&mut self, now: Duration, garbled: bool) {
        self.feedback.garbled = garbled;
        self.misses += 1;
        self.feedback.missed = self.feedback.missed.saturating_add(1);
        if self.misses < MISSES {
            return;
        }
        if self.feedback.stand != Stand::Silent {
            self.feedback.stand = Stand::Silent;
            self.feedback.interruptions += 1;
            self.again_after = FIRST_AGAIN;
        }
        // When it answers again it is got to know anew: it may have been exchanged, or started anew.
        self.step = Step::Memory;
        self.again_at = now + self.again_after;
        self.again_after = (self.again_after * 2).min(LAST_AGAIN);
    }

    /// It answered: what its error says is taken in.
    pub const fn heard(&mut self, map: &Map, answer: &Answer) {
        (self.misses, self.again_at, self.feedback.garbled) = (0, Duration::ZERO, false);
        match map.form {
            Form::One => self.feedback.faults = answer.error,
            // Which it is its register says.
            Form::Two if answer.error & ALERT == 0 => self.feedback.faults = 0,
            Form::Two => {}
        }
    }

    /// What is asked of it next, if anything may be.
    pub fn next_step(&mut self, now: Duration, started: bool, may_engage: bool) -> Option<(u8, Step)> {
        if now < self.again_at {
            return None;
        }
        if self.step == Step::Ready && started {
            let is_to_drive = self.wanted.is_some() && self.sent.is_none() && !self.leaves;
            if self.feedback.stand.may_drive() && is_to_drive && may_engage && now >= self.engage_at {
                self.step = Step::EngagePlace;
            } else if self.stops && self.feedback.stand == Stand::Stiff {
                self.step = Step::OffWrite;
            }
        }
        let let_go = self.wanted.is_none() || !started;
        if self.step == Step::EngagePlace && let_go {
            self.step = Step::Ready;
        } else if self.is_engaging() && let_go {
            // It was let go meanwhile.
            self.step = Step::OffWrite;
        }
        match self.step {
            // Asked with the others, it did not answer: by itself it is asked again.
            Step::Ready if self.misses > 0 => Some((self.servo.id, Step::Ready)),
            Step::Ready => None,
            step => Some((self.servo.id, step)),
        }
    }

    /// What its step asks or tells; what is told stands in `bytes`.
    pub fn request(&self, step: Step, map: &Map, bytes: &mut Vec<u8>) -> Request {
        let whole = |register: Register| Request::Read { address: register.at, count: register.bytes.into() };
        match step {
            Step::Memory => {
                let (first, last) = map.kept;
                Request::Read { address: first, count: (last - first + 1).min(MOST) }
            }
            Step::Extra(n) => whole(extra(map, n).unwrap_or(map.model)),
            Step::Drive | Step::OffBack | Step::EngageBack => whole(map.drive),
            Step::Place | Step::EngagePlace | Step::Ready => whole(map.position),
            Step::EngageGoal => {
                // As slowly as it can: it is there already.
                map.goal(self.here(), 1, bytes);
                Request::Write { address: map.goal_place().0 }
            }
            Step::EngageOn | Step::OffWrite => {
                map.drive.write(i64::from(step == Step::EngageOn), map.high_byte_first, bytes);
                Request::Write { address: map.drive.at }
            }
        }
    }

    /// What an answer to its step says, and what comes next. Whether it drives from now on.
    pub fn stepped(&mut self, map: &Map, answer: &Answer, now: Duration) -> bool {
        let data = answer.data();
        let whole = |register: Register| map.number(register, register.at, data);
        let refused = map.form == Form::Two && Refused::of(answer.error).is_some();
        match self.step {
            Step::Memory => self.learn_memory(map, data),
            Step::Extra(n) => {
                let register = extra(map, n);
                if let Some((register, value)) = register.and_then(|own| Some((own, whole(own)?))) {
                    self.learn(map, register, value);
                }
                // One that stays out is not asked any further.
                if matches!(self.step, Step::Extra(_)) {
                    self.step = extra(map, n + 1).map_or(Step::Drive, |_| Step::Extra(n + 1));
                }
            }
            Step::Drive => {
                self.known(whole(map.drive).is_some_and(|value| value != 0));
                self.step = Step::Place;
            }
            Step::Place | Step::Ready => {
                if let Some(at) = whole(map.position) {
                    self.is_at(map, at, now);
                }
                self.step = Step::Ready;
            }
            Step::EngagePlace => {
                if let Some(at) = whole(map.position) {
                    self.is_at(map, at, now);
                    self.step = Step::EngageGoal;
                }
            }
            Step::EngageGoal => self.step = if refused { Step::OffWrite } else { Step::EngageOn },
            Step::EngageOn => {
                // From here on it may drive, whatever is heard of it.
                self.sent = Some((self.here(), 1));
                self.step = Step::EngageBack;
            }
            Step::EngageBack => {
                let drives = whole(map.drive).is_some_and(|value| value != 0);
                self.step = Step::Ready;
                self.is_driven(drives);
                self.feedback.refusals += u32::from(!drives);
                self.engage_at = if drives { Duration::ZERO } else { now + REFUSED_AGAIN };
                self.feedback.interruptions += u32::from(drives);
                return drives;
            }
            Step::OffWrite => self.step = Step::OffBack,
            Step::OffBack => {
                let drives = whole(map.drive).is_some_and(|value| value != 0);
                self.is_driven(drives);
                self.step = if drives { Step::OffWrite } else { Step::Ready };
                if drives {
                    self.again_at = now + super::FRAME;
                }
            }
        }
        false
    }

    /// Who it is, by what is kept in its memory.
    fn learn_memory(&mut self, map: &Map, data: &[u8]) {
        let kept = |register: Register| map.number(register, map.kept.0, data);
        if let Some((register, each)) = map.return_delay
            && let Some(value) = kept(register)
        {
            let seconds = to_number(value) * each / 1e6;
            self.return_delay = Duration::from_secs_f64(seconds.clamp(0.0, 0.01));
        }
        let limits = map.limits.and_then(|(low, high)| Some((small(kept(low)?), small(kept(high)?))));
        self.feedback.limits = limits.filter(|limits| *limits != (0, 0));
        // What was said of it before is said anew.
        self.feedback.stand = Stand::Unasked;
        self.step = extra(map, 0).map_or(Step::Drive, |_| Step::Extra(0));
        for register in set_up(map) {
            if let Some(value) = kept(register) {
                self.learn(map, register, value);
            }
        }
    }

    /// Who it is, or how it is set up, by one register. What is worse is said: another model before another mode.
    fn learn(&mut self, map: &Map, register: Register, value: i64) {
        if register == map.model {
            self.is_model(map, value);
        } else if matches!(self.feedback.stand, Stand::OtherModel(_) | Stand::UnknownModel(_)) {
            // Nothing else matters then.
        } else if map.mode.is_some_and(|(mode, is)| register == mode && value != i64::from(is)) {
            self.stays_out(Stand::OtherMode(u32::try_from(value).unwrap_or(u32::MAX)));
        } else if map.answers == Some(register) && value != 2 {
            self.stays_out(Stand::Curt);
        } else if map.torque_limit.is_some_and(|(limit, _)| register == limit && value == 0) {
            self.stays_out(Stand::Weak);
        }
    }

    /// Nothing is written to it, and that is said.
    const fn stays_out(&mut self, stand: Stand) {
        (self.feedback.stand, self.step) = (stand, Step::Place);
    }

    fn is_model(&mut self, map: &Map, model: i64) {
        let model = u16::try_from(model).unwrap_or(u16::MAX);
        self.feedback.model = model;
        if !map.is_for(model) || self.servo.model.is_some_and(|own| own != model) {
            self.stays_out(Stand::OtherModel(model));
        } else if map.models.is_empty() && self.servo.model.is_none() {
            self.stays_out(Stand::UnknownModel(model));
        }
    }

    /// It has said whether it drives, after it was got to know.
    fn known(&mut self, drives: bool) {
        let before = self.sent.is_some();
        self.is_driven(drives);
        // It was silent, or the line was gone; or it was started anew and drives no more.
        self.feedback.interruptions += u32::from(before);
    }

    /// It has said whether it drives.
    pub const fn is_driven(&mut self, drives: bool) {
        self.feedback.stand = if drives { Stand::Stiff } else { Stand::Limp };
        if !drives {
            (self.sent, self.stops) = (None, false);
        }
    }

    /// What is to become of one that was found driving.
    pub const fn decided(&mut self, decision: Decision, at: u16) {
        match decision {
            Decision::Adopt => self.sent = Some((at, 1)),
            Decision::Release => self.stops = true,
        }
    }

    /// It is driven and is to be limp, and was not told so yet.
    pub fn is_to_go(&self) -> bool {
        let told = matches!(self.step, Step::OffWrite | Step::OffBack);
        self.sent.is_some()
            && (self.wanted.is_none() || self.leaves)
            && !told
            && self.feedback.stand != Stand::Silent
    }

    /// It was told to be limp; whether it is is read back next.
    pub const fn goes(&mut self) {
        self.step = Step::OffBack;
    }

    /// Its present position.
    pub fn is_at(&mut self, map: &Map, raw: i64, now: Duration) {
        let around = i64::from(map.steps);
        if map.ring {
            let was = *self.raw.get_or_insert(raw);
            // More than half a turn in so short a time is the seam.
            if raw - was > around / 2 {
                self.feedback.turns -= 1;
            } else if was - raw > around / 2 {
                self.feedback.turns += 1;
            }
        }
        self.raw = Some(raw);
        self.last = u16::try_from(map.steps.saturating_sub(1)).unwrap_or(u16::MAX);
        (self.feedback.position, self.feedback.at) = (to_number(raw), Some(now));
    }

    /// How it is, by one of the blocks that say so.
    pub fn looked(&mut self, map: &Map, blocks: &[(u16, u16)], data: &[u8], now: Duration) {
        let Some(&(first, _)) = blocks.get(self.looks) else {
            self.looks = 0;
            return;
        };
        let number = |register: Register| map.number(register, first, data).map(to_number);
        let stepped =
            |of: Option<(Register, f64)>| of.and_then(|(register, each)| Some(number(register)? * each));
        let all =
            [stepped(map.speed_now), stepped(map.load), stepped(map.volts), map.celsius.and_then(number)];
        let Feedback { speed, load, volts, celsius, .. } = &mut self.feedback;
        for (place, value) in [speed, load, volts, celsius].into_iter().zip(all) {
            if let Some(value) = value {
                *place = single(value);
            }
        }
        if let Some(faults) = map.faults.and_then(|register| map.number(register, first, data)) {
            self.feedback.faults = u8::try_from(faults).unwrap_or(u8::MAX);
        }
        let drives = number(map.drive).map(|value| value != 0.0);
        if drives == Some(false) && self.feedback.stand == Stand::Stiff {
            // Its supply dipped, or it has let go by itself.
            self.known(false);
        }
        self.looks += 1;
        if self.looks >= blocks.len() {
            (self.looks, self.feedback.looked_at) = (0, Some(now));
        }
    }

    /// What it is to be told from now on.
    pub fn take(&mut self, wanted: Option<u16>, speed: f64, now: Duration) {
        (self.wanted, self.speed) = (wanted, speed);
        if speed >= self.peak.0 || now.saturating_sub(self.peak.1) > LATELY {
            self.peak = (speed, now);
        }
    }

    /// What it is to be told, if that is another goal than it has, or it is to get there sooner.
    pub fn next_goal(&self, map: &Map) -> Option<(u16, u32)> {
        let ((target, speed), wanted) = self.sent.zip(self.wanted)?;
        if self.step != Step::Ready || self.feedback.stand != Stand::Stiff || self.leaves {
            return None;
        }
        let off = (f64::from(wanted) - self.feedback.position).abs();
        // What it lags behind it makes up for no faster than it was told to go lately; and it never creeps.
        let most = self.peak.0.max(map.counts_a_degree * LEAST_SPEED);
        let behind = if off > NEAR { (off / CATCH_UP).min(most) } else { 0.0 };
        let needs = map.speed_steps(self.speed.max(behind).min(self.servo.most));
        // A servo that stands where it is to be needs no other speed.
        let slow = off > NEAR && needs > speed + speed / 2;
        (wanted != target || slow).then_some((wanted, needs))
    }
}

const fn single(value: f64) -> f32 {
    #[expect(clippy::cast_possible_truncation, reason = "seven digits are enough to be looked at")]
    {
        value as f32
    }
}

const fn to_number(value: i64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "a register has 32 bits at most")]
    {
        value as f64
    }
}

fn small(value: i64) -> i32 {
    i32::try_from(value).unwrap_or(i32::MAX)
}
