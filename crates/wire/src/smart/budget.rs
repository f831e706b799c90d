//! What a bus of smart servos has the time for, computed from bytes and delays before anything runs.

use super::Form;
use super::exchange::Timing;
use super::map::Map;
use std::time::Duration;

/// A line with servos on it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Load {
    /// How many servos it has.
    pub servos: usize,
    /// Bits a second.
    pub baud: u32,
    /// How long each waits before it answers.
    pub return_delay: Duration,
    /// How long the adapter sits on an answer.
    pub adapter: Duration,
    /// Goals go out this often.
    pub frame: Duration,
}

/// What such a line takes. See the module.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Budget {
    /// To tell all where to go, in one beat.
    pub goals: Duration,
    /// To ask all where they are, on the wire.
    pub places: Duration,
    /// The same with what the adapter sits on.
    pub round: Duration,
    /// To ask one how it is, with what the adapter sits on: once between two rounds at least.
    pub look: Duration,
    /// To hear all that one says of how it is, on the wire.
    pub looks: Duration,
    /// How often all can say where they are, in times a second.
    pub hertz: f64,
}

/// Bytes of a request around its parameters.
const fn around(form: Form) -> usize {
    match form {
        Form::One => 6,
        Form::Two => 10,
    }
}

/// Bytes that say an address, or how many bytes.
const fn word(form: Form) -> usize {
    match form {
        Form::One => 1,
        Form::Two => 2,
    }
}

impl Budget {
    /// Computes a line: all goals in each frame, places in the time that is left, and between two rounds of them one servo
    /// that is asked how it is.
    pub fn of(map: &Map, load: &Load) -> Self {
        let form = map.form;
        let servos = load.servos;
        if servos == 0 {
            return Self::default();
        }
        let times = u32::try_from(servos).unwrap_or(u32::MAX);
        let timing = Timing { baud: load.baud, return_delay: load.return_delay, latency: Timing::LATENCY };
        let wire = |bytes: usize| timing.on_wire(bytes);
        let asks = around(form) + 2 * word(form);
        let answer = |data: u16| wire(form.answer_length(data.into())) + load.return_delay;
        let goals = wire(asks + servos * (1 + usize::from(map.goal_place().1)));
        let place = answer(map.position.bytes.into());
        // Where one packet asks all, the adapter sits on the last bytes only.
        let (places, sits) = match form {
            Form::Two if servos > 1 => (wire(asks + servos) + place * times, 1),
            _ => ((wire(asks) + place) * times, times),
        };
        let longest = map.looks().iter().map(|(_, count)| *count).max().unwrap_or_default();
        let look = wire(asks) + answer(longest);
        let looks = map.looks().iter().map(|(_, count)| wire(asks) + answer(*count)).sum();
        let round = places + load.adapter * sits;
        // Goals are told while an adapter sits on an answer: then they take none of that time.
        let left = 1.0 - goals.as_secs_f64() / load.frame.as_secs_f64();
        let on_wire = left.max(0.0) / (places + look).as_secs_f64();
        let look = look + load.adapter;
        let hertz = on_wire.min(1.0 / (round + look).as_secs_f64()).min(1.0 / load.frame.as_secs_f64());
        Self { goals, places, round, look, looks, hertz }
    }

    /// Goals and places of all, as they are to fit into one beat.
    pub fn beat(&self) -> Duration {
        self.goals + self.places
    }
}

#[cfg(test)]
mod tests {
    use super::super::map::{Register, Sign};
    use super::*;

    fn twelve() -> Map {
        let own = |at, bytes| Register { at, bytes, sign: Sign::None };
        Map {
            form: Form::Two,
            speed: own(112, 4),
            target: own(116, 4),
            position: own(132, 4),
            drive: own(64, 1),
            ..Map::default()
        }
    }

    fn ten() -> Map {
        let own = |at, bytes| Register { at, bytes, sign: Sign::None };
        Map {
            form: Form::One,
            target: own(30, 2),
            speed: own(32, 2),
            position: own(36, 2),
            drive: own(24, 1),
            ..Map::default()
        }
    }

    const MICRO: fn(u64) -> Duration = Duration::from_micros;

    const fn line(servos: usize, return_delay: u64, adapter: u64) -> Load {
        Load {
            servos,
            baud: 1_000_000,
            return_delay: Duration::from_micros(return_delay),
            adapter: Duration::from_millis(adapter),
            frame: Duration::from_millis(20),
        }
    }

    #[test]
    fn a_group_tells_and_asks_twenty_four_in_a_beat() {
        // 10 bytes around, 4 of address and count, then 24 × 9; asked: 38 bytes, and 24 answers of 15.
        let at_once = Budget::of(&twelve(), &line(24, 0, 0));
        assert_eq!((at_once.goals, at_once.places), (MICRO(2300), MICRO(380 + 24 * 150)));
        assert!((at_once.hertz - 50.0).abs() < 1e-6, "{at_once:?}");
        let late = Budget::of(&twelve(), &line(24, 500, 0));
        assert_eq!(late.beat(), MICRO(2300 + 380 + 24 * 650), "fits 20 ms");
        assert!((late.hertz - 50.0).abs() < 1e-6, "{late:?}");
    }

    #[test]
    fn single_reads_wait_for_the_adapter_each() {
        // A read is 8 bytes and its answer 8; goals are 8 bytes and 24 × 5 a beat.
        let one = |adapter| Budget::of(&ten(), &line(24, 500, adapter));
        assert_eq!((one(0).goals, one(0).places), (MICRO(1280), MICRO(24 * 660)));
        assert!((one(0).hertz - 50.0).abs() < 1e-6, "{:?}", one(0));
        // Between two rounds one is asked how it is: 8 bytes, a delay, 7 bytes, and the adapter.
        let hertz = [1, 16].map(|adapter| one(adapter).hertz);
        assert!((hertz[0] - 1e6 / (24.0 * 1660.0 + 1650.0)).abs() < 1e-3, "{hertz:?}");
        assert!((hertz[1] - 1e6 / (24.0 * 16660.0 + 16650.0)).abs() < 1e-3, "{hertz:?}");
    }

    #[test]
    fn what_is_told_takes_from_the_places() {
        // At 57 600 Bd a beat of goals takes more than a beat has.
        let slow = Load { baud: 57_600, ..line(24, 500, 0) };
        assert!(Budget::of(&ten(), &slow).hertz < 1e-9);
        assert_eq!(Budget::of(&ten(), &line(0, 500, 1)), Budget::default());
    }
}
