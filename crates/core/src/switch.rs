//! Switches: what a raw value means where there are positions and nothing between.
//!
//! A button acts at once, and is deaf for its debounce time after that, so that its contacts may bounce. A switch of more
//! positions passes some on its way to others: one counts when it has stayed for the debounce time. In neither case is a
//! press lost that began and ended between two beats.

use crate::inflow::Batch;
use crate::unit::number;

/// The most positions that a switch has.
pub const MOST: usize = 8;

/// Where two neighbouring positions part: beyond `up` it is the higher one, below `down` the lower one, and between the
/// two it stays what it was.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Edge {
    up: f64,
    down: f64,
}

/// What a switch's raw values mean.
#[derive(Debug, Clone, PartialEq)]
pub struct Switch {
    /// Between neighbours, from the lowest raw value up.
    edges: Vec<Edge>,
    /// What each place is called, from the lowest raw value up: positions from 0.
    order: Vec<u8>,
    /// Its contacts are quiet after so long, in seconds.
    debounce: f64,
}

/// The share of the way between two positions that separates their thresholds.
const HYSTERESIS: f64 = 0.2;

impl Switch {
    /// Pressed above one raw value, and not pressed below another.
    pub fn above(on: f64, off: f64, debounce: f64) -> Self {
        Self { edges: vec![Edge { up: on, down: off }], order: vec![0, 1], debounce }
    }

    /// Pressed below one raw value, and not pressed above another.
    pub fn below(on: f64, off: f64, debounce: f64) -> Self {
        Self { edges: vec![Edge { up: off, down: on }], order: vec![1, 0], debounce }
    }

    /// Positions by their raw values, the first called 0: the nearest counts, and between two it stays what it was.
    pub fn of_positions(positions: &[f64], debounce: f64) -> Self {
        let mut sorted: Vec<(f64, u8)> = positions.iter().copied().zip(0..).collect();
        sorted.sort_by(|one, other| one.0.total_cmp(&other.0));
        let edge = |pair: &[(f64, u8)]| {
            let (low, high) = (pair[0].0, pair[1].0);
            let (middle, half) = (f64::midpoint(low, high), (high - low) * HYSTERESIS / 2.0);
            Edge { up: middle + half, down: middle - half }
        };
        let order = sorted.iter().map(|(_, place)| *place).collect();
        Self { edges: sorted.windows(2).map(edge).collect(), order, debounce }
    }

    /// How many positions it has.
    pub const fn positions(&self) -> usize {
        self.order.len()
    }

    /// The greatest number that its position has: what it is over, as a one-ended span.
    pub fn last(&self) -> f64 {
        number(self.edges.len())
    }

    const fn is_button(&self) -> bool {
        self.edges.len() < 2
    }

    /// The place of a raw value, counted from the lowest, coming from another place; none where it comes from nowhere.
    fn place(&self, raw: f64, from: Option<u8>) -> u8 {
        let Some(from) = from else {
            let beyond = |edge: &&Edge| raw > f64::midpoint(edge.up, edge.down);
            return u8::try_from(self.edges.iter().take_while(beyond).count()).unwrap_or(u8::MAX);
        };
        let mut place = usize::from(from).min(self.edges.len());
        while self.edges.get(place).is_some_and(|edge| raw > edge.up) {
            place += 1;
        }
        while place.checked_sub(1).and_then(|below| self.edges.get(below)).is_some_and(|edge| raw < edge.down)
        {
            place -= 1;
        }
        u8::try_from(place).unwrap_or(u8::MAX)
    }

    fn called(&self, place: u8) -> u8 {
        self.order.get(usize::from(place)).copied().unwrap_or_default()
    }

    /// Takes what came in `dt` seconds; `raw` is the newest raw value, whether it came just now or earlier. Gives the
    /// position that counts, from 0.
    pub fn advance(&self, state: &mut State, batch: &Batch, raw: f64, dt: f64) -> f64 {
        let Some(at) = state.at else {
            let place = self.place(raw, None);
            // How it stood when it was first heard is no press.
            *state = State { at: Some(place), toward: place, since: self.debounce, changes: state.changes };
            return f64::from(self.called(place));
        };
        let now = if self.is_button() {
            self.button(state, batch, raw, dt, at)
        } else {
            self.many(state, raw, dt, at)
        };
        if now != at {
            state.at = Some(now);
            // A button counts as it is pressed; what has more positions, at each change.
            if !self.is_button() || self.called(now) == 1 {
                state.changes = state.changes.wrapping_add(1);
            }
        }
        f64::from(self.called(now))
    }

    /// At once, then deaf for a while. One change a call: whoever looks once a beat sees each.
    fn button(&self, state: &mut State, batch: &Batch, raw: f64, dt: f64, at: u8) -> u8 {
        state.since += dt;
        let mut seen = None;
        let mut take = |toward: &mut u8, value: f64| {
            *toward = self.place(value, Some(*toward));
            if *toward != at {
                seen = seen.or(Some(*toward));
            }
        };
        if batch.edges.kept().is_empty() && batch.count > 0 {
            // Their order is not known; what it is in the end comes last.
            take(&mut state.toward, batch.least);
            take(&mut state.toward, batch.greatest);
        }
        batch.edges.kept().iter().for_each(|value| take(&mut state.toward, *value));
        take(&mut state.toward, raw);
        match seen {
            Some(other) if state.since >= self.debounce => {
                state.since = 0.0;
                other
            }
            _ => at,
        }
    }

    /// When it has stayed.
    fn many(&self, state: &mut State, raw: f64, dt: f64, at: u8) -> u8 {
        let toward = self.place(raw, Some(state.toward));
        state.since = if toward == state.toward { state.since + dt } else { 0.0 };
        state.toward = toward;
        if state.since >= self.debounce { toward } else { at }
    }
}

/// How a switch stands.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct State {
    /// The place that counts, from the lowest raw value; none before anything was heard.
    at: Option<u8>,
    /// Where its values are going.
    toward: u8,
    /// Of a button: since it last changed. Of others: since its values stay. In seconds.
    since: f64,
    /// How often it was pressed; of more than two positions, how often it changed.
    pub changes: u32,
}

impl State {
    /// Its link is not heard: how it stands when it is heard again is no press.
    pub const fn unheard(&mut self) {
        self.at = None;
    }

    /// The position that counts, from 0; none while nothing is heard.
    pub fn position(&self, switch: &Switch) -> Option<usize> {
        self.at.map(|place| usize::from(switch.called(place)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const BEAT: f64 = 0.01;

    fn batch(values: &[f64], is_event: bool) -> Batch {
        let mut batch = Batch::default();
        for value in values {
            batch.push(*value, is_event);
        }
        batch
    }

    /// The positions that a switch goes through, a beat each.
    fn run(switch: &Switch, state: &mut State, beats: &[&[f64]], is_event: bool) -> Vec<u16> {
        let mut newest = 0.0;
        let positions = beats.iter().map(|values| {
            newest = values.last().copied().unwrap_or(newest);
            switch.advance(state, &batch(values, is_event), newest, BEAT)
        });
        positions.map(crate::unit::count16).collect()
    }

    #[test]
    fn a_press_between_two_beats_is_seen_and_counted_once_though_it_bounces() {
        let switch = Switch::above(0.6, 0.4, 0.02);
        let mut state = State::default();
        let beats: [&[f64]; 8] = [&[0.0], &[1.0, 0.0, 1.0, 0.0], &[], &[], &[], &[1.0], &[], &[]];
        assert_eq!(run(&switch, &mut state, &beats, true), [0, 1, 1, 0, 0, 1, 1, 1]);
        assert_eq!((state.changes, state.position(&switch)), (2, Some(1)));
        // The same of what streams, by its extremes.
        let mut state = State::default();
        let beats: [&[f64]; 5] = [&[100.0], &[100.0, 900.0, 100.0], &[100.0], &[100.0], &[100.0]];
        assert_eq!(run(&Switch::above(600.0, 400.0, 0.02), &mut state, &beats, false), [0, 1, 1, 0, 0]);
        assert_eq!(state.changes, 1);
    }

    #[test]
    fn between_its_thresholds_it_stays_what_it_was() {
        let switch = Switch::above(614.0, 409.0, 0.0);
        let mut state = State::default();
        let beats: [&[f64]; 7] = [&[500.0], &[600.0], &[615.0], &[410.0], &[408.0], &[614.0], &[700.0]];
        assert_eq!(run(&switch, &mut state, &beats, false), [0, 0, 1, 1, 0, 0, 1]);
    }

    #[test]
    fn pressed_may_be_low() {
        let switch = Switch::below(0.4, 0.6, 0.0);
        let mut state = State::default();
        assert_eq!(run(&switch, &mut state, &[&[1.0], &[0.0], &[1.0], &[0.0]], true), [0, 1, 0, 1]);
        assert_eq!(state.changes, 2);
    }

    #[test]
    fn how_it_stands_when_it_is_first_heard_is_no_press() {
        let switch = Switch::above(0.6, 0.4, 0.02);
        let mut state = State::default();
        assert_eq!(run(&switch, &mut state, &[&[1.0], &[]], true), [1, 1]);
        assert_eq!(state.changes, 0);
        state.unheard();
        assert_eq!(state.position(&switch), None);
        assert_eq!(run(&switch, &mut state, &[&[1.0]], true), [1]);
        assert_eq!(state.changes, 0);
    }

    #[test]
    fn a_position_that_is_passed_on_the_way_does_not_count() {
        let switch = Switch::of_positions(&[2000.0, 1500.0, 1000.0], 0.02);
        let mut state = State::default();
        let beats: [&[f64]; 6] = [&[1000.0], &[1480.0], &[2000.0], &[2000.0], &[2000.0], &[1700.0]];
        assert_eq!(
            run(&switch, &mut state, &beats, false),
            [2, 2, 2, 2, 0, 0],
            "in the order that they are told in"
        );
        assert_eq!(state.changes, 1);
        // Hysteresis is a fifth of the way: 1750 ± 50 is neither.
        let beats: [&[f64]; 4] = [&[1699.0], &[1699.0], &[1699.0], &[1790.0]];
        assert_eq!(run(&switch, &mut state, &beats, false), [0, 0, 1, 1]);
        assert_eq!((switch.positions(), switch.last()), (3, 2.0));
    }

    proptest! {
        /// Whatever comes, a position is one of its own, and one that stays long enough counts.
        #[test]
        fn the_nearest_position_counts_in_the_end(
            positions in prop::collection::btree_set(-1000i32..1000, 2..=MOST),
            values in prop::collection::vec(-2000.0..2000.0f64, 1..40),
            pick in any::<prop::sample::Index>(),
        ) {
            let positions: Vec<f64> = positions.into_iter().map(f64::from).collect();
            let switch = Switch::of_positions(&positions, 0.02);
            let mut state = State::default();
            for value in values {
                let at = switch.advance(&mut state, &Batch::of(value), value, BEAT);
                prop_assert!((0.0..=switch.last()).contains(&at));
            }
            let n = pick.index(positions.len());
            for _ in 0..5 {
                switch.advance(&mut state, &Batch::of(positions[n]), positions[n], BEAT);
            }
            prop_assert_eq!(state.position(&switch), Some(n));
        }

        /// Of a button every press counts that lasts longer than its contacts bounce.
        #[test]
        fn presses_are_counted(presses in 0..30u32, bounces in 1..8usize, high in any::<bool>()) {
            let switch = if high { Switch::above(0.6, 0.4, 0.02) } else { Switch::below(0.4, 0.6, 0.02) };
            let (on, off) = if high { (1.0, 0.0) } else { (0.0, 1.0) };
            let mut state = State::default();
            let to = |state: &mut State, value: f64, other: f64| {
                let mut values: Vec<f64> = std::iter::repeat_n([value, other], bounces).flatten().collect();
                values.push(value);
                switch.advance(state, &batch(&values, true), value, BEAT);
                (0..4).for_each(|_| { switch.advance(state, &Batch::default(), value, BEAT); });
            };
            switch.advance(&mut state, &batch(&[off], true), off, BEAT);
            for _ in 0..presses {
                to(&mut state, on, off);
                to(&mut state, off, on);
            }
            prop_assert_eq!(state.changes, presses);
        }
    }
}
