//! How finely an output can place a servo, and which rate or depth would do for what is wished.

use crate::clock::PwmClock;
use crate::rig::Board;
use crate::unit::{Degrees, Hertz, Micros, Position};

/// What one tick and a whole travel come to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fineness {
    /// What one tick is worth, in µs.
    pub tick: Micros,
    /// What it turns where the servo turns fastest.
    pub step: Degrees,
    /// Whole ticks in the travel.
    pub steps: f64,
}

impl Fineness {
    /// With an output's clock, `steepest` degrees a microsecond, and a travel between two pulses.
    pub fn of(clock: &PwmClock, steepest: f64, (low, high): (Position, Position)) -> Self {
        Self { tick: clock.tick(), step: clock.fineness(steepest), steps: clock.steps_in(low, high) }
    }

    /// Whether a tick is worth a warning: it turns the joint by more than a degree.
    pub fn is_coarse(&self) -> bool {
        self.step > Degrees::new(1.0)
    }
}

/// What an offer would change.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Change {
    /// Nothing: as it is.
    None,
    /// The same board at another frame rate.
    Rate(Hertz),
    /// Another kind of output, with this many bits a frame.
    Bits(u8),
}

impl Change {
    /// What it is, in words.
    pub fn words(self) -> String {
        match self {
            Self::None => "as it is".to_owned(),
            Self::Rate(rate) => format!("{:.0} Hz", rate.get()),
            Self::Bits(bits) => format!("{bits} bit"),
        }
    }
}

/// One way to drive a servo.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Offer {
    /// What would be different.
    pub change: Change,
    /// What it would come to.
    pub fineness: Fineness,
    /// The longest pulse still fits in its frame.
    pub fits: bool,
}

impl Offer {
    /// Whether it is as fine as wished.
    pub fn does(&self, wish: Degrees) -> bool {
        self.fits && self.fineness.step <= wish
    }
}

/// Frame rates that are worth a thought; not every servo takes the higher ones.
const RATES: [f64; 5] = [50.0, 60.0, 100.0, 200.0, 330.0];
const DEPTHS: [u8; 5] = [8, 10, 12, 14, 16];
/// What a frame must have left behind its longest pulse.
const REST: Micros = Micros::new(50.0);

/// What there is beside a board as it is: its other frame rates, where they change a tick, and other depths.
pub fn offers(board: &Board, steepest: f64, travel: (Position, Position)) -> Vec<Offer> {
    let offer = |change, clock: PwmClock| Offer {
        change,
        fineness: Fineness::of(&clock, steepest, travel),
        fits: travel.1.micros() <= clock.period() - REST,
    };
    // What is told counts has no other rate or depth.
    let Some(own) = board.clock() else { return Vec::new() };
    let mut all = vec![offer(Change::None, own)];
    if board.chip.row().sets_frame_rate {
        let others =
            RATES.map(Hertz::new).into_iter().filter(|rate| (*rate - board.frame_hz).abs().get() > 0.5);
        all.extend(others.filter_map(|frame_hz| {
            Some(offer(Change::Rate(frame_hz), Board { frame_hz, ..board.clone() }.clock()?))
        }));
    }
    all.extend(DEPTHS.map(|bits| offer(Change::Bits(bits), PwmClock::ideal(bits, board.frame_hz))));
    all
}

/// A count that was taken over to a clock with finer ticks, with how far it may be off: half a coarse one.
pub fn carried(count: u16, from: &PwmClock, to: &PwmClock) -> (f64, f64) {
    let fine = from.tick() / to.tick();
    (f64::from(count) * fine, fine / 2.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};

    const TRAVEL: (Position, Position) = (Position::new(690.0), Position::new(2310.0));
    const GAIN: f64 = 160.0 / 1620.0;

    fn board() -> Board {
        let Loaded::Sound(rig) = load(include_str!("../tests/data/small.rig.toml")) else { panic!() };
        rig.boards[0].clone()
    }

    #[test]
    fn the_worked_depths_come_out() {
        let all = offers(&board(), GAIN, TRAVEL);
        let at = |change| all.iter().find(|o| o.change == change).unwrap().fineness;
        for (bits, step, steps) in [(8, 7.716, 20.0), (12, 0.4823, 331.0), (16, 0.03014, 5308.0)] {
            let found = at(Change::Bits(bits));
            assert!((found.step.get() - step).abs() < 5e-4 && found.steps.to_bits() == f64::to_bits(steps));
        }
        assert!(at(Change::Bits(8)).is_coarse() && !at(Change::None).is_coarse());
    }

    #[test]
    fn what_would_do_for_a_wish_is_told() {
        let all = offers(&board(), GAIN, TRAVEL);
        let does = |wish: f64| -> Vec<String> {
            all.iter().filter(|o| o.does(Degrees::new(wish))).map(|o| o.change.words()).collect()
        };
        assert_eq!(
            does(0.5),
            ["as it is", "60 Hz", "100 Hz", "200 Hz", "330 Hz", "12 bit", "14 bit", "16 bit"]
        );
        assert_eq!(does(0.1), ["330 Hz", "16 bit"]);
        let long = offers(&board(), GAIN, (Position::new(690.0), Position::new(2900.0)));
        assert!(
            long.iter().any(|o| !o.fits && o.change == Change::Rate(Hertz::new(330.0))),
            "no room in its frame"
        );
    }

    #[test]
    fn a_count_carried_to_a_finer_clock_keeps_its_error() {
        let [coarse, fine] = [10, 14].map(|bits| PwmClock::ideal(bits, Hertz::new(50.0)));
        assert_eq!(carried(47, &coarse, &fine), (752.0, 8.0));
    }
}
