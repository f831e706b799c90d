//! Watching a channel while somebody moves it: what it spans, where it rests, what kind of thing it is, how noisy.
//!
//! Every value that comes is an observation. What is proposed follows from them and from nothing else: ends that were seen
//! at least three times, a rest from when it was left alone, noise from that rest.

use crate::rig::{Channel, Ends, Flow, Pressed, Protocol, Switch};
use std::collections::VecDeque;
use std::time::Duration;

/// The most values that are kept; what comes beyond changes nothing.
pub const MOST: usize = 8192;
/// Values that are further out than these many others count as outliers.
const SEEN: usize = 3;
/// It is left alone when it does not move for so long.
const REST: Duration = Duration::from_millis(400);
/// It rests at one place where two rests are no further apart than this share of its span.
const SAME_PLACE: f64 = 0.03;
/// Of a switch no more than this share of its values is between its positions.
const BETWEEN: f64 = 0.02;
/// A switch changes at no more than this share of its values, where values come by themselves.
const CHANGES: f64 = 0.2;
/// A hand takes so long between two changes, mostly; what changes faster is noise.
const BY_HAND: Duration = Duration::from_millis(50);
/// What is no switch has moved when it did by so many raw counts.
const MOVED: f64 = 8.0;
/// A button is not pressed for so many times as long as it is.
const LONGER: f64 = 1.5;
/// The most positions that a switch has.
const POSITIONS: usize = 6;
/// A rest this near to an end is that end.
const AT_END: f64 = 0.1;
/// The bars of a histogram.
pub const BARS: usize = 48;

/// What was seen so far.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Watch {
    values: Vec<(Duration, f64)>,
    /// It speaks only when something changes.
    speaks_of_changes: bool,
    /// Which way it is pressed as far as its channel says.
    usual: Option<Pressed>,
    /// The raw value at which somebody said that it is pressed.
    pressed_at: Option<f64>,
}

/// So long back it counts how lively a channel is.
const LATELY: Duration = Duration::from_secs(3);
/// Nobody has found what they mean to move before that.
const BEFORE: Duration = Duration::from_millis(600);
/// The share of values at either end that counts as no movement: echoes that did not come back.
const STRAY: f64 = 0.04;
/// What a channel does by itself varies from time to time.
const MARGIN: f64 = 1.5;

/// How lively a channel is beside what it does when nobody moves it: for *move the one you mean*.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Lively {
    recent: VecDeque<(Duration, f64)>,
    began: Option<Duration>,
    /// How far it moved before anybody can have moved it.
    by_itself: f64,
    /// That is known from before somebody was asked to move it.
    is_known: bool,
    /// The greatest that it has scored.
    best: f64,
}

impl Lively {
    /// Takes a value that came at a time; times only go forward.
    pub fn push(&mut self, at: Duration, value: f64) {
        if !value.is_finite() {
            return;
        }
        let began = *self.began.get_or_insert(at);
        self.recent.push_back((at, value));
        while self.recent.len() > 2
            && (self.recent.len() > MOST
                || self.recent.front().is_some_and(|(then, _)| at.saturating_sub(*then) > LATELY))
        {
            self.recent.pop_front();
        }
        if !self.is_known && at.saturating_sub(began) <= BEFORE {
            self.by_itself = libm::fmax(self.by_itself, self.range());
        }
    }

    /// From now on somebody is asked to move it. What it has done lately it does by itself; where it was heard for too
    /// short, what it does in the next moment counts as that.
    pub fn begin(&mut self) {
        let newest = self.recent.back().map_or(Duration::ZERO, |(at, _)| *at);
        let heard = self.began.is_some_and(|began| newest.saturating_sub(began) >= BEFORE);
        let recent = std::mem::take(&mut self.recent);
        *self = Self::default();
        if heard {
            // Whoever has tried it out before has let it rest by now.
            self.recent = recent;
            self.recent.retain(|(at, _)| newest.saturating_sub(*at) <= BEFORE);
            (self.by_itself, self.is_known, self.began) = (self.range(), true, Some(newest));
            self.recent.clear();
        }
    }

    /// Nobody says what they mean twice: what moved once stays where it is in the list.
    pub fn settle(&mut self) {
        self.best = libm::fmax(self.best, self.score());
    }

    /// Whether it is known what it does by itself: before that a movement cannot be told from it.
    pub fn is_ready(&self) -> bool {
        let newest = self.recent.back().map(|(at, _)| *at);
        let heard = self.began.zip(newest).map(|(began, newest)| newest.saturating_sub(began));
        self.is_known || heard.is_some_and(|heard| heard > BEFORE)
    }

    /// The greatest score so far.
    pub const fn best(&self) -> f64 {
        self.best
    }

    /// How many times further than by itself it moves now; 0 where it does not, and more than anything that moves by
    /// itself where it stood perfectly still before.
    pub fn score(&self) -> f64 {
        const OF_THE_STILL: f64 = 1.0e6;
        let by_itself = self.by_itself * MARGIN;
        let more = self.range() - by_itself;
        if more <= 0.0 {
            0.0
        } else if by_itself > 0.0 {
            more / by_itself
        } else {
            OF_THE_STILL + libm::fmin(more, OF_THE_STILL)
        }
    }

    fn range(&self) -> f64 {
        let mut values: Vec<f64> = self.recent.iter().map(|(_, value)| *value).collect();
        values.sort_by(f64::total_cmp);
        let stray = usize::from(crate::unit::count16(crate::unit::number(values.len()) * STRAY));
        match (values.get(stray), values.iter().rev().nth(stray)) {
            (Some(low), Some(high)) if high > low => high - low,
            _ => 0.0,
        }
    }
}

/// What kind of thing it is.
#[derive(Debug, Clone, PartialEq)]
pub enum Kind {
    /// It stays where it is left: a knob, a slider.
    Stays,
    /// It goes back to its rest by itself: a stick, a trigger.
    Returns,
    /// It has positions and nothing between, lowest first.
    Switch(Vec<f64>),
}

impl Kind {
    /// What it is, in words.
    pub fn words(&self) -> String {
        match self {
            Self::Stays => "stays where it is left".to_owned(),
            Self::Returns => "goes back to its rest".to_owned(),
            Self::Switch(positions) => format!("a switch with {} positions", positions.len()),
        }
    }
}

/// What follows from what was seen.
#[derive(Debug, Clone, PartialEq)]
pub struct Proposal {
    /// The raw values at its ends, each seen at least three times.
    pub ends: (f64, f64),
    /// The raw value at rest between them, of what returns to its middle.
    pub centre: Option<f64>,
    /// What it is.
    pub kind: Kind,
    /// Which way it is pressed, of a switch with two positions: as somebody said, else away from where it was for longer.
    pub pressed: Option<Pressed>,
    /// Its noise at rest as a standard deviation, in raw units; at least one raw count. None until it was left alone.
    pub noise: Option<f64>,
    /// Three times that noise, as a share of its shorter side.
    pub deadband: Option<f64>,
    /// Values a second.
    pub rate: f64,
    /// Values that were left out: further out than the ends.
    pub outliers: usize,
}

impl Proposal {
    /// What it is as a switch, as a rig has it; none of what is none.
    pub fn switch(&self) -> Option<Switch> {
        let Kind::Switch(positions) = &self.kind else { return None };
        let (low, high) = self.ends;
        Some(match self.pressed {
            Some(pressed) => Switch::between(Ends { low, high }, pressed),
            // What was seen has decimals from its mean.
            None if high - low >= 10.0 => {
                Switch::of_positions(positions.iter().map(|at| libm::round(*at)).collect())
            }
            None => Switch::of_positions(positions.clone()),
        })
    }
}

/// A stretch in which nobody moved it.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Rest {
    place: f64,
    noise: f64,
    /// Its place among the values.
    from: usize,
}

impl Watch {
    /// Of a channel of a protocol: it sends by itself or speaks when something changes, and may say which way it is
    /// pressed.
    pub fn of(protocol: Protocol, channel: &Channel) -> Self {
        let speaks_of_changes = protocol.flow_of(channel) == Flow::Event;
        Self { speaks_of_changes, usual: (protocol.row().pressed)(channel), ..Self::default() }
    }

    /// Nothing was seen of the same channel.
    #[must_use]
    pub fn anew(&self) -> Self {
        Self { speaks_of_changes: self.speaks_of_changes, usual: self.usual, ..Self::default() }
    }

    /// Takes a value that came at a time; times only go forward.
    pub fn push(&mut self, at: Duration, value: f64) {
        if value.is_finite() && self.values.len() < MOST {
            self.values.push((at, value));
        }
    }

    /// Somebody says that it is pressed just now.
    pub fn is_pressed(&mut self) {
        self.pressed_at = self.newest();
    }

    /// Whether somebody said when it is pressed.
    pub const fn was_told(&self) -> bool {
        self.pressed_at.is_some()
    }

    /// Which way it is pressed, between two positions.
    fn pressed(&self, low: f64, high: f64) -> Pressed {
        let middle = f64::midpoint(low, high);
        if let Some(at) = self.pressed_at {
            return if at > middle { Pressed::High } else { Pressed::Low };
        }
        let (mut below, mut above) = (Duration::ZERO, Duration::ZERO);
        for pair in self.values.windows(2) {
            let held = pair[1].0.saturating_sub(pair[0].0);
            *(if pair[0].1 > middle { &mut above } else { &mut below }) += held;
        }
        // Somebody who only tries it presses it for about as long as not.
        let much = |one: Duration, other: Duration| one > other.mul_f64(LONGER);
        match self.usual {
            _ if much(above, below) => Pressed::Low,
            _ if much(below, above) => Pressed::High,
            usual => usual.unwrap_or(if above > below { Pressed::Low } else { Pressed::High }),
        }
    }

    /// How many values were seen.
    pub fn count(&self) -> usize {
        self.values.len()
    }

    /// How far it has moved: from the third least to the third greatest value, so that what came once or twice is no
    /// movement.
    pub fn moved(&self) -> f64 {
        self.ends().map_or(0.0, |(low, high)| high - low)
    }

    /// The value that came last.
    pub fn newest(&self) -> Option<f64> {
        self.values.last().map(|(_, value)| *value)
    }

    fn sorted(&self) -> Vec<f64> {
        let mut sorted: Vec<f64> = self.values.iter().map(|(_, value)| *value).collect();
        sorted.sort_by(f64::total_cmp);
        sorted
    }

    fn ends(&self) -> Option<(f64, f64)> {
        let sorted = self.sorted();
        let high = sorted.len().checked_sub(SEEN)?;
        Some((*sorted.get(SEEN - 1)?, *sorted.get(high)?)).filter(|(low, high)| low <= high)
    }

    /// The least step between two of its values: one raw count.
    fn count_of(sorted: &[f64]) -> f64 {
        let steps = sorted.windows(2).map(|pair| pair[1] - pair[0]).filter(|step| *step > 0.0);
        steps.fold(f64::INFINITY, f64::min)
    }

    /// How often it was where, from its least to its greatest value, in [`BARS`] bars.
    pub fn histogram(&self) -> [u32; BARS] {
        let mut bars = [0; BARS];
        let Some((low, high)) = self.ends() else { return bars };
        let span = high - low;
        for (_, value) in &self.values {
            let share = if span > 0.0 { (value - low) / span } else { 0.5 };
            if (0.0..=1.0).contains(&share) {
                let bar = crate::unit::count16(libm::floor(share * crate::unit::number(BARS - 1) + 0.5));
                if let Some(bar) = bars.get_mut(usize::from(bar)) {
                    *bar += 1;
                }
            }
        }
        bars
    }

    /// The stretches in which it was left alone, in order.
    fn rests(&self, span: f64, count: f64) -> Vec<Rest> {
        let still = libm::fmax(span * SAME_PLACE, count * 2.5);
        let mut rests: Vec<Rest> = Vec::new();
        let mut from = 0;
        while let Some((began, first)) = self.values.get(from) {
            let (mut least, mut most) = (*first, *first);
            let near = self.values.iter().skip(from).take_while(|(_, value)| {
                (least, most) = (libm::fmin(least, *value), libm::fmax(most, *value));
                most - least <= still
            });
            let length = near.count();
            let stretch = self.values.get(from..from + length).unwrap_or_default();
            let lasted = stretch.last().map_or(Duration::ZERO, |(at, _)| at.saturating_sub(*began));
            if lasted >= REST {
                rests.push(Rest::of(stretch, from));
            }
            from += if lasted >= REST { length } else { 1 };
        }
        rests
    }

    /// What follows from what was seen; none while that is too little, or nothing has moved.
    pub fn judge(&self) -> Option<Proposal> {
        let sorted = self.sorted();
        let (low, high) = self.ends().filter(|(low, high)| low < high)?;
        let span = high - low;
        let count = Self::count_of(&sorted);
        let rests = self.rests(span, count);
        let noise = rests.last().map(|rest| libm::fmax(rest.noise, count));
        let positions = positions(&self.values, (low, high), count).filter(|_| self.is_by_hand(span));
        let kind = match positions {
            Some(positions) => Kind::Switch(positions),
            // As far as noise goes nobody has moved it.
            None if span < count * MOVED => return None,
            None if self.returns(&rests, span) => Kind::Returns,
            None => Kind::Stays,
        };
        let pressed = match &kind {
            Kind::Switch(positions) => match positions.as_slice() {
                [one, other] => Some(self.pressed(*one, *other)),
                _ => None,
            },
            _ => None,
        };
        let rest = rests.last().map(|rest| rest.place).filter(|_| kind == Kind::Returns);
        let centre = rest.filter(|rest| (rest - low).min(high - rest) > span * AT_END);
        let side = centre.map_or(span, |centre| libm::fmin(centre - low, high - centre));
        let (first, last) = (self.values.first()?.0, self.values.last()?.0);
        let seconds = last.saturating_sub(first).as_secs_f64();
        Some(Proposal {
            ends: (low, high),
            centre,
            kind,
            pressed,
            noise,
            deadband: noise.map(|noise| libm::fmin(3.0 * noise / side, 0.5)),
            rate: if seconds > 0.0 { crate::unit::number(self.values.len() - 1) / seconds } else { 0.0 },
            outliers: sorted.iter().filter(|value| **value < low || **value > high).count(),
        })
    }

    /// Whether it changes as seldom as a hand changes it: what changes from value to value is noise.
    fn is_by_hand(&self, span: f64) -> bool {
        let changes =
            || self.values.windows(2).filter(|pair| libm::fabs(pair[1].1 - pair[0].1) > span * SAME_PLACE);
        if !self.speaks_of_changes {
            return crate::unit::number(changes().count())
                <= crate::unit::number(self.values.len()) * CHANGES;
        }
        let mut held: Vec<Duration> = changes().map(|pair| pair[1].0.saturating_sub(pair[0].0)).collect();
        held.sort_unstable();
        held.get(held.len() / 2).is_some_and(|held| *held >= BY_HAND)
    }

    /// Whether it was let go at one place again and again, with movements between.
    fn returns(&self, rests: &[Rest], span: f64) -> bool {
        let Some(last) = rests.last() else { return false };
        let same = |rest: &&Rest| libm::fabs(rest.place - last.place) <= span * SAME_PLACE;
        rests.iter().filter(same).zip(rests.iter().filter(same).skip(1)).any(|(one, next)| {
            let between = self.values.get(one.from..next.from).unwrap_or_default();
            between.iter().any(|(_, value)| libm::fabs(value - last.place) > span / 4.0)
        })
    }
}

impl Rest {
    /// By its later half: in the earlier one it may still have been coming to rest.
    fn of(stretch: &[(Duration, f64)], from: usize) -> Self {
        let stretch = stretch.get(stretch.len() / 2..).unwrap_or_default();
        let n = crate::unit::number(stretch.len().max(1));
        let mean = stretch.iter().map(|(_, value)| value).sum::<f64>() / n;
        let square = stretch.iter().map(|(_, value)| (value - mean) * (value - mean)).sum::<f64>();
        Self { place: mean, noise: libm::sqrt(square / n), from }
    }
}

/// The positions of a switch, lowest first; none where values lie between them, or there are too many.
fn positions(values: &[(Duration, f64)], (low, high): (f64, f64), count: f64) -> Option<Vec<f64>> {
    let apart = libm::fmax((high - low) * 2.0 * SAME_PLACE, count * 0.5);
    let inside = values.iter().map(|(_, value)| *value).filter(|value| (low..=high).contains(value));
    let mut within: Vec<f64> = inside.collect();
    within.sort_by(f64::total_cmp);
    let mut groups: Vec<Vec<f64>> = Vec::new();
    for value in within {
        match groups.last_mut() {
            Some(group) if group.first().is_some_and(|first| value - first <= apart) => group.push(value),
            _ => groups.push(vec![value]),
        }
    }
    let all: usize = groups.iter().map(Vec::len).sum();
    let few = crate::unit::number(all) * BETWEEN;
    let (held, passed): (Vec<_>, Vec<_>) =
        groups.into_iter().partition(|group| crate::unit::number(group.len()) > libm::fmax(few, 2.0));
    let between: usize = passed.iter().map(Vec::len).sum();
    let is_switch = (2..=POSITIONS).contains(&held.len()) && crate::unit::number(between) <= few;
    let middle = |group: &Vec<f64>| group.get(group.len() / 2).copied().unwrap_or_default();
    is_switch.then(|| held.iter().map(middle).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Values every 7 ms, by a function of the time in seconds, with noise of ±1 that follows from the place.
    fn seen(seconds: f64, at: impl Fn(f64) -> f64) -> Watch {
        let mut watch = Watch::default();
        let mut n = 0u32;
        while f64::from(n) * 0.007 < seconds {
            let t = f64::from(n) * 0.007;
            let noise = f64::from((n * 7919) % 3) - 1.0;
            watch.push(Duration::from_secs_f64(t), libm::round(at(t)) + noise);
            n += 1;
        }
        watch
    }

    fn swings(t: f64, to: f64) -> f64 {
        libm::sin(t * std::f64::consts::PI) * to
    }

    #[test]
    fn a_stick_that_returns_has_its_centre_from_its_rest_and_a_deadband_from_its_noise() {
        // Left alone, all the way and back, left alone, again, left alone; its sides are unequal.
        let stick = |t: f64| match t {
            t if (1.0..3.0).contains(&t) => {
                1512.0 + if t < 2.0 { swings(t - 1.0, 456.0) } else { swings(t - 2.0, -472.0) }
            }
            t if (4.0..5.0).contains(&t) => 1512.0 + swings(t - 4.0, 300.0),
            _ => 1512.0,
        };
        let found = seen(6.0, stick).judge().unwrap();
        assert_eq!(found.kind, Kind::Returns);
        assert!((found.ends.0 - 1040.0).abs() <= 2.0 && (found.ends.1 - 1968.0).abs() <= 2.0, "{found:?}");
        assert!((found.centre.unwrap() - 1512.0).abs() < 1.0);
        let noise = found.noise.unwrap();
        assert!((0.9..=1.1).contains(&noise), "at least one count: {noise}");
        assert!((found.deadband.unwrap() - 3.0 * noise / 456.0).abs() < 1e-3);
        assert!((found.rate - 142.9).abs() < 1.0 && found.outliers <= 4);
    }

    #[test]
    fn a_knob_stays_where_it_is_left_and_a_trigger_goes_back_to_its_end() {
        let knob = |t: f64| match t {
            t if t < 1.0 => 200.0,
            t if t < 3.0 => 200.0 + (t - 1.0) * 400.0,
            t if t < 4.0 => 1000.0,
            t if t < 5.0 => 1000.0 - (t - 4.0) * 450.0,
            _ => 550.0,
        };
        let found = seen(6.0, knob).judge().unwrap();
        assert_eq!((found.kind.clone(), found.centre), (Kind::Stays, None), "{found:?}");
        let trigger = |t: f64| {
            if (1.0..2.0).contains(&t) || (3.0..4.0).contains(&t) {
                swings(t - libm::floor(t), 900.0).abs()
            } else {
                0.0
            }
        };
        let found = seen(5.0, trigger).judge().unwrap();
        assert_eq!(
            (found.kind.clone(), found.centre),
            (Kind::Returns, None),
            "its rest is an end: {found:?}"
        );
    }

    #[test]
    fn a_switch_has_positions_and_nothing_between() {
        for wanted in [vec![1000.0, 2000.0], vec![1000.0, 1500.0, 2000.0]] {
            let n = wanted.len();
            let place = |t: f64| usize::from(crate::unit::count16(libm::floor(t))) % n;
            let found = seen(7.0, |t| wanted[place(t)]).judge().unwrap();
            let Kind::Switch(positions) = found.kind else { panic!("{found:?}") };
            assert_eq!(positions.len(), n);
            assert!(positions.iter().zip(&wanted).all(|(a, b)| (a - b).abs() <= 1.0), "{positions:?}");
        }
    }

    /// A channel that speaks of changes, every so many milliseconds, between two values.
    fn changing(low: f64, high: f64, every: [u64; 2]) -> Watch {
        let mut watch = Watch::of(Protocol::Gpio, &Channel::Name("line BELL pull-up".into()));
        let mut at = 0;
        for n in 0..12 {
            watch.push(Duration::from_millis(at), if n % 2 == 0 { low } else { high });
            at += every[n % 2];
        }
        watch
    }

    #[test]
    fn a_button_that_speaks_of_changes_is_a_switch_and_jitter_is_none() {
        let found = changing(0.0, 1.0, [700, 150]).judge().unwrap();
        assert_eq!((found.kind.clone(), found.pressed), (Kind::Switch(vec![0.0, 1.0]), Some(Pressed::High)));
        assert_eq!(found.switch(), Some(Switch::between(Ends { low: 0.0, high: 1.0 }, Pressed::High)));
        assert_eq!(changing(127.0, 128.0, [20, 30]).judge(), None);
    }

    #[test]
    fn it_is_pressed_where_it_is_for_less_of_the_time_unless_somebody_says_otherwise() {
        let pulled_up = changing(0.0, 1.0, [150, 700]);
        assert_eq!(pulled_up.judge().unwrap().pressed, Some(Pressed::Low));
        let mut told = pulled_up.clone();
        assert!(!told.was_told());
        told.is_pressed();
        assert_eq!(
            changing(0.0, 1.0, [300, 300]).judge().unwrap().pressed,
            Some(Pressed::Low),
            "its pull-up says so"
        );
        assert_eq!((told.judge().unwrap().pressed, told.was_told()), (Some(Pressed::High), true));
        let three =
            seen(7.0, |t| [1000.0, 1500.0, 2000.0][usize::from(crate::unit::count16(libm::floor(t))) % 3])
                .judge()
                .unwrap();
        let switch = three.switch().unwrap();
        assert_eq!((switch.positions.len(), three.pressed), (3, None), "{switch:?}");
        assert!(switch.positions.iter().all(|at| at.fract() == 0.0));
    }

    #[test]
    fn what_came_once_or_twice_is_no_end() {
        let mut watch = seen(4.0, |t| 500.0 + swings(t, 400.0));
        for value in [9000.0, 9000.0, -5.0] {
            watch.push(Duration::from_secs(4), value);
        }
        let found = watch.judge().unwrap();
        assert!(found.ends.1 < 910.0 && found.ends.0 > 90.0, "{found:?}");
        assert!(found.outliers >= 3);
        watch.push(Duration::from_secs(4), 9000.0);
        assert!((watch.judge().unwrap().ends.1 - 9000.0).abs() < 1e-9, "three times is seen");
    }

    #[test]
    fn what_has_not_moved_or_was_hardly_seen_is_judged_by_nobody() {
        assert_eq!(Watch::default().judge(), None);
        let mut one = Watch::default();
        (0..2).for_each(|n| one.push(Duration::from_millis(n), 5.0));
        assert_eq!((one.judge(), one.moved().to_bits()), (None, 0.0f64.to_bits()));
        let mut still = Watch::default();
        (0..500).for_each(|n| still.push(Duration::from_millis(n * 7), 5.0));
        assert_eq!(still.judge(), None);
        still.push(Duration::from_secs(9), f64::NAN);
        assert_eq!(still.count(), 500, "what is no number was not seen");
        assert_eq!(seen(3.0, |_| 1500.0).judge(), None, "its noise is no movement");
    }

    #[test]
    fn the_histogram_counts_every_value_between_the_ends() {
        let watch = seen(4.0, |t| 500.0 + swings(t, 400.0));
        let bars = watch.histogram();
        let all: u32 = bars.iter().sum();
        assert!((all as usize) <= watch.count() && (all as usize) + 4 >= watch.count());
        assert!(bars[0] > bars[BARS / 4], "a swing is longest at its ends");
    }

    #[test]
    fn the_one_that_is_moved_is_livelier_than_those_that_are_noisy_by_themselves() {
        let (mut knob, mut gap, mut button, mut still) =
            (Lively::default(), Lively::default(), Lively::default(), Lively::default());
        for n in 0..400u32 {
            let at = Duration::from_millis(u64::from(n) * 20);
            let noise = f64::from((n * 7919) % 5) - 2.0;
            knob.push(at, 500.0 + noise + if n > 60 { f64::from(n % 60) } else { 0.0 });
            // A rangefinder that now and then hears no echo.
            gap.push(at, if n % 50 == 49 { 400.0 } else { 98.0 + noise });
            button.push(at, f64::from(u32::from((100..112).contains(&n))));
            still.push(at, 7.0);
            for one in [&mut knob, &mut gap, &mut button, &mut still] {
                one.settle();
            }
        }
        assert!(knob.best() > 3.0 && gap.best() < 0.5, "{} {}", knob.best(), gap.best());
        assert!(button.best() > knob.best(), "it stood perfectly still before");
        assert!(still.best() == 0.0 && button.score() == 0.0, "it is over");
        still.push(Duration::from_secs(99), f64::NAN);
        assert!(still.recent.len() > 100, "what is no number was not heard");
        still.push(Duration::from_secs(99), 7.0);
        assert!(still.recent.len() <= 2, "what is long over is forgotten");
    }

    #[test]
    fn what_is_moved_at_once_is_told_from_what_it_did_before_that_was_asked() {
        let mut stick = Lively::default();
        for n in 0..200u32 {
            if n == 100 {
                stick.begin();
            }
            let noise = f64::from((n * 7919) % 3) - 1.0;
            let moved = if n > 100 { f64::from((n - 100) % 50) * 8.0 } else { 0.0 };
            stick.push(Duration::from_millis(u64::from(n) * 7), 1500.0 + noise + moved);
            stick.settle();
        }
        assert!(stick.best() > 50.0, "{}", stick.best());
        let mut idle = Lively::default();
        for n in 0..200u32 {
            if n == 100 {
                idle.begin();
            }
            idle.push(Duration::from_millis(u64::from(n) * 7), 1500.0 + f64::from((n * 7919) % 3));
            idle.settle();
        }
        assert!(idle.best() <= 0.5, "{}", idle.best());
    }

    #[test]
    fn the_memory_of_a_watch_is_bounded() {
        let mut watch = Watch::default();
        for n in 0..20_000u32 {
            watch.push(Duration::from_millis(n.into()), f64::from(n));
        }
        assert_eq!(watch.count(), MOST);
    }
}
