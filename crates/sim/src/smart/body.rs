//! The body of a smart servo: it has weight to carry, rubs, warms up, and stands where nothing moves it.

use crate::truth::SmartServoTruth;
use wasvolta_wire::smart::map::Map;

/// A step of time.
const DT: f64 = 1e-3;
/// Counts a second more in each second, at full torque.
const ACCELERATION: f64 = 60_000.0;
/// The air around it, in °C.
const AIR: f64 = 24.0;
/// What full load warms it up by, in °C a second, and what it gives off again of a degree.
const WARMS: f64 = 1.2;
const COOLS: f64 = 0.02;
/// The supply, and what full load takes of it.
const SUPPLY: f64 = 12.1;
const SAGS: f64 = 0.9;
/// A fault bit of both forms: too hot, overloaded.
const TOO_HOT: u8 = 1 << 2;
const OVERLOADED: u8 = 1 << 5;
/// It says that it is too hot from here on, in °C.
const HOT: f64 = 70.0;
/// It says that it is overloaded after so long a push, in s.
const PUSHES_FOR: f64 = 1.5;

/// What a driven servo is to do.
#[derive(Debug, Clone, Copy)]
pub(super) struct Wants {
    /// Where to be, in counts.
    pub goal: f64,
    /// How fast at most, in counts a second.
    pub speed: f64,
    /// How hard at most, 0–1.
    pub torque: f64,
}

/// See the module. Places in counts.
#[derive(Debug, Clone)]
pub(super) struct Body {
    truth: SmartServoTruth,
    pub place: f64,
    pub speed: f64,
    /// How hard it pushes, −1..1.
    load: f64,
    pub celsius: f64,
    pushed_for: f64,
    /// Where the horn stands behind its slack, in counts.
    horn: f64,
    /// It is heard to push against something.
    pushes: bool,
    hot: bool,
}

impl Body {
    pub const fn new(truth: SmartServoTruth) -> Self {
        Self {
            place: truth.stands_counts,
            horn: truth.stands_counts,
            truth,
            speed: 0.0,
            load: 0.0,
            celsius: AIR,
            pushed_for: 0.0,
            pushes: false,
            hot: false,
        }
    }

    /// How hard its load pulls it down here, −1..1 of its torque.
    fn weight(&self, map: &Map) -> f64 {
        let angle = self.degrees(map, self.place).to_radians();
        -self.truth.weight * libm::sin(angle)
    }

    fn degrees(&self, map: &Map, at: f64) -> f64 {
        let sense = if self.truth.reversed { -1.0 } else { 1.0 };
        (at - self.truth.zero_counts) / map.counts_a_degree * sense
    }

    /// A millisecond passes.
    pub fn step(&mut self, map: &Map, wants: Option<Wants>, stuck: bool, hot: bool) {
        self.hot = hot;
        let sense = if self.truth.reversed { -1.0 } else { 1.0 };
        let weight = self.weight(map) * sense;
        let before = self.place;
        match wants.filter(|wants| wants.torque > 0.0) {
            Some(wants) => {
                let off = wants.goal - self.place;
                let most = wants.speed.min(self.truth.speed_counts_s);
                let push = (wants.torque - self.truth.friction).max(0.0) * ACCELERATION;
                // It brakes in time: v² = 2·a·s.
                let braking = libm::sqrt(2.0 * push * off.abs());
                let aim = off.signum() * most.min(braking).min(off.abs() / DT);
                let change = (aim - self.speed).clamp(-push * DT, push * DT);
                self.speed += change;
                // What it cannot hold sinks.
                let lacks = (weight.abs() - wants.torque).max(0.0) * weight.signum();
                self.place += self.speed * DT + lacks * 600.0 * DT;
                self.load = (change / (ACCELERATION * DT) * 0.4 - weight).clamp(-wants.torque, wants.torque);
            }
            None => {
                // Limp it sags where its load is more than it rubs, and else stays.
                let pull = (weight.abs() - self.truth.friction).max(0.0) * weight.signum();
                self.speed = pull * 400.0;
                self.place += self.speed * DT;
                self.load = 0.0;
            }
        }
        if stuck {
            (self.place, self.speed) = (before, 0.0);
        }
        let (low, high) = (self.truth.stops_counts.low, self.truth.stops_counts.high);
        let against = self.place < low || self.place > high || stuck;
        self.place = self.place.clamp(low, high);
        let wanted = wants.filter(|wants| (wants.goal - self.place).abs() > 3.0);
        self.pushes = against && wanted.is_some();
        if let Some(wants) = wanted.filter(|_| against) {
            self.speed = 0.0;
            self.load = (wants.goal - self.place).signum() * wants.torque;
        }
        self.pushed_for = if self.load.abs() > 0.9 { self.pushed_for + DT } else { 0.0 };
        self.celsius += (self.load.abs() * WARMS - (self.celsius - AIR) * COOLS) * DT;
        let slack = self.truth.slack_deg / 2.0 * map.counts_a_degree;
        self.horn = self.horn.clamp(self.place - slack, self.place + slack);
    }

    /// A hand moves it, limp or against its drive.
    pub const fn move_by_hand(&mut self, to: f64) {
        self.place = to.clamp(self.truth.stops_counts.low, self.truth.stops_counts.high);
        (self.speed, self.horn) = (0.0, self.place);
    }

    /// The horn's angle.
    pub fn horn_deg(&self, map: &Map) -> f64 {
        self.degrees(map, self.horn)
    }

    pub const fn pushes(&self) -> bool {
        self.pushes
    }

    pub fn moves(&self) -> bool {
        self.speed.abs() > 1.0
    }

    pub fn load_percent(&self) -> f64 {
        self.load * 100.0
    }

    pub fn volts(&self) -> f64 {
        SUPPLY - SAGS * self.load.abs()
    }

    pub fn faults(&self) -> u8 {
        let hot = if self.hot || self.celsius >= HOT { TOO_HOT } else { 0 };
        hot | if self.pushed_for > PUSHES_FOR { OVERLOADED } else { 0 }
    }
}

/// The nearest whole number.
pub(super) fn whole(value: f64) -> i64 {
    #[expect(clippy::cast_possible_truncation, reason = "a saturating cast, wanted here")]
    {
        libm::round(value) as i64
    }
}

pub(super) const fn number(value: i64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "a register has 32 bits at most")]
    {
        value as f64
    }
}
