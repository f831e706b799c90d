//! A servo to practise on: what its data sheet claims, what it really is, and perhaps one thing that is wrong with it.
//!
//! A deal is drawn from its number, so that the same number deals the same servo again. What it really is stays hidden
//! until a person asks for it.

use crate::truth::{Dice, Part, ServoTruth};
use std::fmt::Write as _;
use wasvolta_core::preset::{self, Preset};
use wasvolta_core::rig::Ends;

/// What may be wrong with a dealt servo.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wrong {
    /// It turns far more or far less than its data sheet says.
    Travel,
    /// Its angles rise with shorter pulses.
    Reversed,
    /// Its gears have play.
    Slack,
    /// Its travel bends off a straight line.
    Bends,
    /// Its travel ends early on one side.
    EndsEarly,
    /// Its supply gives way under it.
    Sags,
    /// The clock of its board is off.
    Clock,
}

impl Wrong {
    const ALL: [Self; 7] =
        [Self::Travel, Self::Reversed, Self::Slack, Self::Bends, Self::EndsEarly, Self::Sags, Self::Clock];

    /// What it is, and how it shows.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Travel => "another travel than its data sheet says: the slope of the fit shows it",
            Self::Reversed => "it turns the other way: the sign of the slope shows it",
            Self::Slack => "play in its gears: the same pulse from both sides shows it",
            Self::Bends => "its travel bends: a line misses marks by more than they are misread",
            Self::EndsEarly => "one end comes early: it buzzes there",
            Self::Sags => "its supply sags: it falls short and twitches away from its middle",
            Self::Clock => "its board's clock is off: a meter at an output shows another rate",
        }
    }
}

/// A dealt servo.
#[derive(Debug, Clone, PartialEq)]
pub struct Deal {
    /// Its number, 0 to 9999: the same number deals the same servo.
    pub number: u32,
    /// What its label says that it is.
    pub class: &'static Preset,
    /// What is wrong with it.
    pub wrong: Option<Wrong>,
    /// What it really is.
    pub servo: ServoTruth,
    /// The real oscillator of its board, in hertz; 25 MHz are right.
    pub oscillator_hz: f64,
}

impl Deal {
    /// The channel that its plug is on.
    pub const CHANNEL: u8 = 0;
    /// The bus that its board is on: the NAME of `sim:NAME`.
    pub const BUS: &'static str = "bench-bus";
    /// Its board's address on that bus.
    pub const ADDRESS: u8 = 0x40;
    /// The greatest number of a deal.
    pub const MOST: u32 = 9999;

    /// The deal of a number.
    pub fn of(number: u32) -> Self {
        let mut dice = Dice::new(u64::from(number) ^ 0x00D3_A100);
        let mut one_of = |count: usize| {
            let at = dice.between(0.0, wasvolta_core::unit::number(count));
            usize::from(wasvolta_core::unit::count16(libm::floor(at))).min(count - 1)
        };
        // Four classes go to an angle within a turn.
        let class = &preset::ALL[one_of(4)];
        // One in four is as its data sheet says.
        let wrong = Wrong::ALL.get(one_of(Wrong::ALL.len() * 4 / 3)).copied();
        let rated = class.rated.as_ref().map_or(0.1, |rated| rated.slope().gain);
        let mut servo =
            ServoTruth { part: Part::Servo, ..ServoTruth::drawn(u64::from(number), Self::CHANNEL) };
        let tenth = |value: f64| libm::round(value * 10.0) / 10.0;
        let gain = rated * 100.0 * dice.between(0.97, 1.03);
        servo.gain_deg_per_100us = libm::round(gain * 100.0) / 100.0;
        servo.zero_us = tenth(dice.between(1470.0, 1530.0));
        servo.curve_deg = 0.0;
        servo.slack_deg = tenth(dice.between(0.1, 0.4));
        servo.deadband_us = tenth(dice.between(1.0, 3.0));
        servo.speed_deg_s = libm::round(dice.between(300.0, 500.0));
        servo.stall_a = class.draw.get();
        let end = rated * dice.between(800.0, 880.0);
        servo.stops_deg = Ends { low: tenth(-end), high: tenth(rated * dice.between(800.0, 880.0)) };
        servo.stands_deg = libm::round(dice.between(-30.0, 30.0));
        let mut oscillator_hz = 25.0e6;
        match wrong {
            Some(Wrong::Travel) => {
                let share = if dice.between(0.0, 1.0) < 0.5 { 0.72 } else { 1.3 };
                servo.gain_deg_per_100us = libm::round(servo.gain_deg_per_100us * share * 100.0) / 100.0;
            }
            Some(Wrong::Reversed) => servo.gain_deg_per_100us = -servo.gain_deg_per_100us,
            Some(Wrong::Slack) => servo.slack_deg = tenth(dice.between(2.5, 4.5)),
            Some(Wrong::Bends) => servo.curve_deg = tenth(dice.between(3.0, 5.0)),
            Some(Wrong::EndsEarly) => servo.stops_deg.high = tenth(rated * dice.between(330.0, 420.0)),
            Some(Wrong::Sags) => servo.sag = 0.15,
            Some(Wrong::Clock) => oscillator_hz = libm::round(dice.between(26.2e6, 27.0e6) / 1e4) * 1e4,
            None => {}
        }
        Self { number, class, wrong, servo, oscillator_hz }
    }

    /// The bench file of it, as it stands beside its rig.
    pub fn bench(&self) -> String {
        let ServoTruth { stops_deg, .. } = self.servo;
        let mut text = format!(
            "# Deal {}: what this servo really is. Looking here spoils it.\n\n[[board]]\nbus = {:?}\naddress = {}\noscillator_hz = {:?}\n\n[[board.servo]]\nchannel = {}\n",
            self.number,
            Self::BUS,
            Self::ADDRESS,
            self.oscillator_hz,
            Self::CHANNEL,
        );
        for (key, value) in [
            ("gain_deg_per_100us", self.servo.gain_deg_per_100us),
            ("zero_us", self.servo.zero_us),
            ("curve_deg", self.servo.curve_deg),
            ("speed_deg_s", self.servo.speed_deg_s),
            ("deadband_us", self.servo.deadband_us),
            ("slack_deg", self.servo.slack_deg),
            ("stall_a", self.servo.stall_a),
            ("stands_deg", self.servo.stands_deg),
            ("sag", self.servo.sag),
        ] {
            let _ = writeln!(text, "{key} = {value:?}");
        }
        let _ = writeln!(text, "stops_deg = [{:?}, {:?}]", stops_deg.low, stops_deg.high);
        text
    }

    /// The pulse on the wire for one of which the board believes that it sends it, counted by an oscillator of so many
    /// hertz.
    fn on_the_wire(&self, pulse_us: f64, believed_hz: f64) -> f64 {
        pulse_us * believed_hz / self.oscillator_hz
    }

    /// Where the horn really stands at a pulse, in degrees, ends and all; slack aside.
    pub fn angle(&self, pulse_us: f64, believed_hz: f64) -> f64 {
        let Ends { low, high } = self.servo.stops_deg;
        let free = self.servo.angle(self.on_the_wire(pulse_us, believed_hz)) * (1.0 - self.servo.sag);
        free.clamp(low, high)
    }

    /// The pulses between which it really follows, the shorter first; in µs as the board believes them.
    pub fn follows(&self, believed_hz: f64) -> Ends<f64> {
        let at = |angle: f64| {
            // A bend of a few degrees is undone by going on from the straight line.
            let ServoTruth { gain_deg_per_100us: gain, zero_us, sag, .. } = self.servo;
            let mut pulse = zero_us;
            for _ in 0..50 {
                pulse += (angle - self.servo.angle(pulse) * (1.0 - sag)) / gain * 100.0 * 0.8;
            }
            pulse * self.oscillator_hz / believed_hz
        };
        let Ends { low, high } = self.servo.stops_deg;
        let (a, b) = (at(low), at(high));
        let Ends { low, high } = self.servo.follows_us;
        let believed = |pulse: f64| pulse * self.oscillator_hz / believed_hz;
        Ends { low: a.min(b).max(believed(low)), high: a.max(b).min(believed(high)) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Truth;
    use std::collections::HashSet;

    #[test]
    fn the_same_number_deals_the_same_servo_and_its_file_says_it() {
        for number in 0..300 {
            let deal = Deal::of(number);
            assert_eq!(deal, Deal::of(number));
            let truth = Truth::parse(&deal.bench()).unwrap_or_else(|bad| panic!("{number}: {bad}"));
            assert_eq!(truth.boards[0].servos, [deal.servo], "{number}");
            assert_eq!(truth.boards[0].oscillator_hz.to_bits(), deal.oscillator_hz.to_bits());
        }
        assert_ne!(Deal::of(1).servo, Deal::of(2).servo);
    }

    #[test]
    fn everything_that_may_be_wrong_is_dealt_and_some_are_as_their_sheet_says() {
        let dealt: Vec<Deal> = (0..300).map(Deal::of).collect();
        let wrong: HashSet<String> = dealt.iter().map(|deal| format!("{:?}", deal.wrong)).collect();
        assert_eq!(wrong.len(), Wrong::ALL.len() + 1, "{wrong:?}");
        let classes: HashSet<&str> = dealt.iter().map(|deal| deal.class.name).collect();
        assert_eq!(classes.len(), 4);
        let right = dealt.iter().filter(|deal| deal.wrong.is_none()).count();
        assert!((40..110).contains(&right), "{right}");
        for deal in dealt.iter().filter(|deal| deal.wrong != Some(Wrong::Travel)) {
            let rated = deal.class.rated.as_ref().unwrap().slope().gain * 100.0;
            let share = deal.servo.gain_deg_per_100us.abs() / rated;
            assert!((0.96..1.04).contains(&share), "{share}");
        }
    }

    #[test]
    fn it_follows_up_to_its_stops_and_no_further() {
        for number in 0..300 {
            let deal = Deal::of(number);
            for believed in [25.0e6, deal.oscillator_hz] {
                let Ends { low, high } = deal.follows(believed);
                assert!(300.0 < low && low < high && high < 2900.0, "{number}: {low} to {high}");
                let angle = |pulse| deal.angle(pulse, believed);
                // A little inside it still moves, beyond it does not.
                assert!((angle(low + 5.0) - angle(low)).abs() > 0.1, "{number}");
                assert!((angle(high - 5.0) - angle(high)).abs() > 0.1, "{number}");
                assert!((angle(low - 20.0) - angle(low)).abs() < 0.05, "{number}");
                assert!((angle(high + 20.0) - angle(high)).abs() < 0.05, "{number}");
            }
        }
        let clock = (0..1000).map(Deal::of).find(|deal| deal.wrong == Some(Wrong::Clock)).unwrap();
        // By a fast clock a pulse comes out shorter than it is believed to be.
        let middle = clock.servo.zero_us * clock.oscillator_hz / 25.0e6;
        assert!(clock.angle(middle, 25.0e6).abs() < 1e-9);
        assert!(clock.angle(clock.servo.zero_us, clock.oscillator_hz).abs() < 1e-9);
    }
}
