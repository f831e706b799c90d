//! What hangs on the channels of one board, of whatever kind the board is, and what a person sees of it.
//!
//! A servo follows the length of its pulse, a lamp the share of the frame that is high, a motor behind a speed
//! controller turns once it has seen its neutral for long enough.

use crate::servo::SimServo;
use crate::truth::{Dice, Part, ServoTruth};
use std::time::Duration;

/// Everything is simulated in steps of this.
pub const STEP: Duration = Duration::from_millis(1);
/// After a long silence only the last stretch is worth simulating: everything has arrived by then.
const LONGEST_CATCH_UP: Duration = Duration::from_secs(20);
/// A motor turns at its greatest speed this far off its stop pulse.
const FULL_US: f64 = 400.0;
/// A speed controller takes this much around its stop pulse for neutral.
const NEUTRAL_US: f64 = 15.0;

/// What a channel gives, in seconds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Signal {
    /// How long it is high.
    pub high: f64,
    /// In a frame of this length.
    pub frame: f64,
}

/// What a person sees and hears of one part.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// What is seen.
    pub sight: Sight,
    /// It is pushed against something, or past its end, and buzzes.
    pub buzzes: bool,
    /// It does not stand still at one pulse.
    pub twitches: bool,
    /// What the horn moves by a rod stands at this angle, read as the horn is.
    pub joint_deg: Option<f64>,
    /// How often a shaft has turned since it was plugged in.
    pub turns: f64,
}

/// What is seen of a part.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Sight {
    /// A horn's angle as read off a protractor, to a degree.
    Horn(f64),
    /// A shaft turns, in turns a minute as a stopwatch gives them, to one, or to a tenth where it creeps; backwards is
    /// negative.
    Turning(f64),
    /// A lamp is this bright, 0–100 %.
    Light(f64),
}

impl Look {
    /// The horn's angle, where there is a horn.
    pub const fn angle_deg(&self) -> Option<f64> {
        match self.sight {
            Sight::Horn(angle) => Some(angle),
            Sight::Turning(_) | Sight::Light(_) => None,
        }
    }
}

/// A motor behind its speed controller.
#[derive(Debug, Clone)]
struct Motor {
    truth: ServoTruth,
    rpm: f64,
    turns: f64,
    /// For how long it has seen its neutral.
    neutral_s: f64,
}

impl Motor {
    fn step(&mut self, pulse: Option<f64>, dt: f64) {
        let Some(pulse) = pulse else {
            // Without pulses it forgets that it was armed.
            (self.rpm, self.neutral_s) = (0.0, 0.0);
            return;
        };
        let off = pulse * 1e6 - self.truth.zero_us;
        let band = self.truth.deadband_us;
        if self.neutral_s < self.truth.arms_after_s {
            self.neutral_s = if off.abs() <= band.max(NEUTRAL_US) { self.neutral_s + dt } else { 0.0 };
            self.rpm = 0.0;
            return;
        }
        let rate = ((off.abs() - band).max(0.0) / (FULL_US - band)).min(1.0);
        let sense = off.signum() * self.truth.gain_deg_per_100us.signum();
        self.rpm = rate * sense * self.truth.speed_deg_s / 6.0;
        self.turns += self.rpm / 60.0 * dt;
    }
}

#[derive(Debug, Clone)]
enum Moves {
    Servo(SimServo),
    Motor(Motor),
    /// How bright it is, 0–1.
    Lamp(f64),
}

struct Plug {
    channel: usize,
    truth: ServoTruth,
    moves: Moves,
    /// It was drawn, not told: another kind may take its place.
    drawn: bool,
}

impl Plug {
    const fn new(truth: ServoTruth, drawn: bool) -> Self {
        let moves = match truth.part {
            Part::Servo => Moves::Servo(SimServo::new(truth)),
            Part::Motor => Moves::Motor(Motor { truth, rpm: 0.0, turns: 0.0, neutral_s: 0.0 }),
            Part::Lamp => Moves::Lamp(0.0),
        };
        Self { channel: truth.channel as usize, truth, moves, drawn }
    }
}

/// See the module.
pub struct Plugged {
    plugs: Vec<Plug>,
    at: Duration,
}

impl Plugged {
    /// Nothing is plugged in yet.
    pub const fn new(at: Duration) -> Self {
        Self { plugs: Vec::new(), at }
    }

    /// Plugs in what the truth says; what is there already stays.
    pub fn put(&mut self, truth: ServoTruth) {
        if self.truth(truth.channel).is_none() {
            self.plugs.push(Plug::new(truth, false));
        }
    }

    /// Makes sure that a part hangs on a channel, drawn from the seed. What the truth says is there stays.
    pub fn ensure(&mut self, seed: u64, channel: u8, part: Part) {
        let here = self.plugs.iter().position(|plug| plug.channel == usize::from(channel));
        if here.is_some_and(|n| !self.plugs[n].drawn || self.plugs[n].truth.part == part) {
            return;
        }
        let plug = Plug::new(ServoTruth { part, ..ServoTruth::drawn(seed, channel) }, true);
        match here {
            Some(n) => self.plugs[n] = plug,
            None => self.plugs.push(plug),
        }
    }

    /// The hidden truth of what is on a channel.
    pub fn truth(&self, channel: u8) -> Option<ServoTruth> {
        self.plugs.iter().find(|plug| plug.channel == usize::from(channel)).map(|plug| plug.truth)
    }

    /// When it was looked at last.
    pub const fn at(&self) -> Duration {
        self.at
    }

    /// The next millisecond up to `now`, if one has passed.
    pub fn next_step(&mut self, now: Duration) -> Option<Duration> {
        self.at = self.at.max(now.saturating_sub(LONGEST_CATCH_UP));
        (self.at + STEP <= now).then(|| {
            self.at += STEP;
            self.at
        })
    }

    /// A millisecond passes with what each channel gives.
    pub fn step(&mut self, signal: impl Fn(usize) -> Option<Signal>) {
        let dt = STEP.as_secs_f64();
        for plug in &mut self.plugs {
            let signal = signal(plug.channel);
            let pulse = signal.map(|s| s.high);
            match &mut plug.moves {
                Moves::Servo(servo) => servo.step(pulse, dt),
                Moves::Motor(motor) => motor.step(pulse, dt),
                Moves::Lamp(light) => *light = signal.map_or(0.0, |s| (s.high / s.frame).min(1.0)),
            }
        }
    }

    /// One look at what is on a channel.
    pub fn look(&self, channel: u8, seed: u64) -> Option<Look> {
        let plug = self.plugs.iter().find(|plug| plug.channel == usize::from(channel))?;
        let sight = match &plug.moves {
            Moves::Servo(servo) => Sight::Horn(read_off(servo.horn(), seed, channel)),
            Moves::Motor(motor) => Sight::Turning(by_stopwatch(motor.rpm)),
            Moves::Lamp(light) => Sight::Light(libm::round(light * 100.0)),
        };
        let servo = if let Moves::Servo(servo) = &plug.moves { Some(servo) } else { None };
        let turns = if let Moves::Motor(motor) = &plug.moves { motor.turns } else { 0.0 };
        Some(Look {
            sight,
            buzzes: servo.is_some_and(SimServo::buzzes),
            twitches: servo.is_some_and(SimServo::twitches),
            joint_deg: servo.and_then(SimServo::joint).map(|angle| read_off(angle, !seed, channel)),
            turns,
        })
    }
}

/// A rate as a person takes it: to one turn a minute, and what creeps to a tenth, for that is watched for long.
fn by_stopwatch(rpm: f64) -> f64 {
    let fine = if rpm.abs() < 2.0 { 10.0 } else { 1.0 };
    libm::round(rpm * fine) / fine + 0.0
}

/// An angle as a person reads it: to a degree, up to 0.2° wrong, and always the same for the same place.
pub(crate) fn read_off(angle: f64, seed: u64, channel: u8) -> f64 {
    let place = libm::round(angle * 4.0);
    let error = Dice::new(seed ^ place.to_bits() ^ (u64::from(channel) << 56)).between(-0.2, 0.2);
    libm::round(angle + error) + 0.0
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_eye_reads_to_a_degree_and_the_same_twice() {
        for tenth in -300..300 {
            let angle = f64::from(tenth) / 10.0;
            let seen = read_off(angle, 5, 2);
            assert!((seen - angle).abs() <= 0.7 + 1e-9, "{angle} {seen}");
            assert!(seen.fract().abs() < 1e-12 && seen.to_bits() == read_off(angle, 5, 2).to_bits());
        }
    }

    fn give(plugged: &mut Plugged, high_us: Option<f64>, milliseconds: u32) -> Sight {
        for _ in 0..milliseconds {
            plugged.step(|_| high_us.map(|us| Signal { high: us * 1e-6, frame: 0.02 }));
        }
        plugged.look(3, 1).unwrap().sight
    }

    #[test]
    fn a_speed_controller_turns_nothing_before_it_has_seen_its_neutral() {
        let mut plugged = Plugged::new(Duration::ZERO);
        let truth = ServoTruth {
            part: Part::Motor,
            zero_us: 1480.0,
            deadband_us: 10.0,
            gain_deg_per_100us: 1.0,
            speed_deg_s: 600.0,
            arms_after_s: 1.0,
            ..ServoTruth::drawn(1, 3)
        };
        plugged.put(truth);
        assert_eq!(give(&mut plugged, Some(1700.0), 2000), Sight::Turning(0.0), "not armed");
        assert_eq!(give(&mut plugged, Some(1485.0), 900), Sight::Turning(0.0));
        assert_eq!(give(&mut plugged, Some(1700.0), 10), Sight::Turning(0.0), "not for long enough");
        give(&mut plugged, Some(1485.0), 1001);
        assert_eq!(give(&mut plugged, Some(1685.0), 1), Sight::Turning(50.0));
        assert_eq!(give(&mut plugged, Some(1080.0), 1), Sight::Turning(-100.0));
        give(&mut plugged, None, 1);
        assert_eq!(give(&mut plugged, Some(1685.0), 100), Sight::Turning(0.0), "it forgot");
    }

    #[test]
    fn a_lamp_takes_the_share_of_the_frame() {
        let mut plugged = Plugged::new(Duration::ZERO);
        plugged.ensure(1, 3, Part::Lamp);
        assert_eq!(give(&mut plugged, Some(8000.0), 1), Sight::Light(40.0));
        assert_eq!(give(&mut plugged, None, 1), Sight::Light(0.0));
        plugged.ensure(1, 3, Part::Servo);
        assert!(matches!(give(&mut plugged, Some(1500.0), 1), Sight::Horn(_)), "what was drawn gives way");
    }
}
