//! Servos of a kind beside one another: how far apart they stand at the same pulse, and whether one is odd.
//!
//! Ten out of one box are bought as ten of the same. What their cards say decides whether one may take another's place.

use crate::fit::{Fit, NoFit};
use crate::rig::card::Card;
use crate::rig::{Ends, Kind};
use crate::unit::{Degrees, Position, number};
use thiserror::Error;

/// One of them.
#[derive(Debug, Clone, PartialEq)]
pub struct Member {
    /// What it is called on its card.
    pub name: String,
    /// What its marks say.
    pub fit: Fit,
    /// Its endpoints, in µs or counts as its kind has them.
    pub ends: Ends<Position>,
    /// How far it stands off the mean of all, at places from the least that all may be told to the greatest.
    pub off: Vec<(Position, Degrees)>,
}

/// Servos of a kind.
#[derive(Debug, Clone, PartialEq)]
pub struct Alike {
    /// All of them, in the order in which they were given; two or more.
    pub members: Vec<Member>,
    /// What they all are.
    pub kind: Kind,
    /// The places that all of their endpoints allow: what is compared.
    pub over: Ends<Position>,
    /// The most that two of them are apart at one place.
    pub apart: Degrees,
    /// The one that is like none of the others, by its place.
    pub odd: Option<usize>,
}

/// What is said of one of them, with units.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its number on the chart, from 1.
    pub number: usize,
    /// What it is called.
    pub name: String,
    /// Degrees for a hundred of its unit.
    pub slope: String,
    /// Where its 0° lies.
    pub zero: String,
    /// Its endpoints, in µs or counts as its kind has them.
    pub ends: String,
    /// How far it is off the mean of all where it is furthest, and where that is.
    pub off: String,
    /// It is like none of the others.
    pub is_odd: bool,
}

impl Row {
    /// In a line of its own.
    pub fn line(&self) -> String {
        let Self { number, name, slope, zero, ends, off, is_odd } = self;
        let sign = if *is_odd { "≠" } else { " " };
        format!("{sign} {number:>2}  {name:<20} {slope:>18}  0° at {zero:<10} {ends:<18} off the mean {off}")
    }
}

/// Why cards do not lie on one chart.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum NotAlike {
    /// There is nothing beside which to lay one.
    #[error("there {are} {count} card{s}: a chart needs two or more of a kind", are = if *count == 1 { "is" } else { "are" }, s = if *count == 1 { "" } else { "s" })]
    TooFew {
        /// How many cards there are.
        count: usize,
    },
    /// One of them goes to no angle.
    #[error("{name} is {kind}: it has no angles to lie on a chart with others; leave it out")]
    NoAngles {
        /// What it is called.
        name: String,
        /// What it is.
        kind: &'static str,
    },
    /// One is told pulses, another one counts.
    #[error("{one} is {of_one}, and {other} is {of_other}: only cards of one kind lie on one chart")]
    Mixed {
        /// What the first is called.
        one: String,
        /// What it is.
        of_one: &'static str,
        /// What another one is called.
        other: String,
        /// What that is.
        of_other: &'static str,
    },
    /// One has too few marks.
    #[error("{name} cannot lie on a chart yet: {why}")]
    NoFit {
        /// What it is called.
        name: String,
        /// What its marks lack.
        why: NoFit,
    },
    /// Their endpoints leave nothing that all may be told.
    #[error("their endpoints have no pulse in common")]
    Apart,
}

/// How many places are looked at.
const PLACES: u32 = 60;

impl Alike {
    /// Lays cards side by side.
    ///
    /// # Errors
    /// When they are fewer than two, of different kinds, or one has no angles or no fit.
    pub fn of(cards: &[Card]) -> Result<Self, NotAlike> {
        let first = cards.first().filter(|_| cards.len() > 1);
        let first = first.ok_or(NotAlike::TooFew { count: cards.len() })?;
        let mut members = Vec::with_capacity(cards.len());
        let mut over: Option<Ends<Position>> = None;
        for card in cards {
            let name = card.name.clone();
            if !card.kind.has_angles() {
                return Err(NotAlike::NoAngles { name, kind: card.kind.word() });
            }
            if card.kind != first.kind {
                let (one, of_one, of_other) = (first.name.clone(), first.kind.word(), card.kind.word());
                return Err(NotAlike::Mixed { one, of_one, other: name, of_other });
            }
            let servo = card.servo();
            let fit = servo.fit().map_err(|why| NotAlike::NoFit { name: name.clone(), why })?;
            let ends = servo.ends();
            over = Some(over.map_or(ends, |over| Ends {
                low: if ends.low > over.low { ends.low } else { over.low },
                high: if ends.high < over.high { ends.high } else { over.high },
            }));
            members.push(Member { name, fit, ends, off: Vec::new() });
        }
        let over = over.filter(|over| over.low < over.high).ok_or(NotAlike::Apart)?;
        compare(&mut members, over);
        let (apart, odd) = (apart(&members, None), odd(&members));
        Ok(Self { members, kind: first.kind, over, apart, odd })
    }

    /// Where one is furthest off the mean, and how far.
    pub fn furthest(&self, member: &Member) -> (Position, Degrees) {
        let none = (self.over.low, Degrees::ZERO);
        member.off.iter().fold(none, |most, one| if one.1.abs() > most.1.abs() { *one } else { most })
    }

    /// A row a member, as people read it.
    pub fn rows(&self) -> Vec<Row> {
        let unit = self.kind.place_unit();
        let row = |(n, own): (usize, &Member)| Row {
            number: n + 1,
            name: own.name.clone(),
            slope: format!("{:+.2} °/100 {unit}", own.fit.line.gain() * 100.0),
            zero: format!("{:.1} {unit}", own.fit.zero().get()),
            ends: format!("{:.0} to {:.0} {unit}", own.ends.low.get(), own.ends.high.get()),
            off: format!(
                "{:+.1}° at {:.0} {unit}",
                self.furthest(own).1.get() + 0.0,
                self.furthest(own).0.get()
            ),
            is_odd: self.odd == Some(n),
        };
        self.members.iter().enumerate().map(row).collect()
    }

    /// What they are together, in a sentence.
    pub fn words(&self) -> String {
        let (count, unit) = (self.members.len(), self.kind.place_unit());
        let Ends { low, high } = self.over;
        let mut words = format!(
            "{count} of a kind: at the same pulse any two stand within {:.1}° by their fits, from {:.0} to {:.0} {unit}.",
            self.apart.get(),
            low.get(),
            high.get()
        );
        if let Some(odd) = self.odd.and_then(|n| self.members.get(n)) {
            words += " ";
            words += &odd.name;
            words += " is like none of the others.";
        }
        words
    }
}

/// Tells each how far it is off the mean of all.
fn compare(members: &mut [Member], Ends { low, high }: Ends<Position>) {
    for n in 0..=PLACES {
        let at = low + (high - low) * (f64::from(n) / f64::from(PLACES));
        let angle = |own: &Member| own.fit.curve.angle_at(at);
        let sum = members.iter().map(|own| angle(own).get()).sum::<f64>();
        let mean = Degrees::new(sum / number(members.len()));
        for own in &mut *members {
            let off = angle(own) - mean;
            own.off.push((at, off));
        }
    }
}

/// The most that two of them are apart at one place, one of them left out.
fn apart(members: &[Member], without: Option<usize>) -> Degrees {
    let at = |place: usize| {
        let others = members.iter().enumerate().filter(|(n, _)| Some(*n) != without);
        let off = others.filter_map(|(_, own)| Some(own.off.get(place)?.1.get()));
        let (low, high) = off.fold((f64::MAX, f64::MIN), |(low, high), off| (low.min(off), high.max(off)));
        high - low
    };
    let places = members.first().map_or(0, |own| own.off.len());
    Degrees::new((0..places).map(at).fold(0.0, f64::max))
}

/// Of three and more the one without which the others stand less than half as far apart. What a mark may be misread by is
/// no oddness.
fn odd(members: &[Member]) -> Option<usize> {
    let all = apart(members, None);
    if members.len() < 3 || all.get() <= 2.0 {
        return None;
    }
    // Whoever is odd is furthest off somewhere: only the two that are furthest need to be left out.
    let most = |own: &Member| own.off.iter().map(|(_, off)| off.abs().get()).fold(0.0, f64::max);
    let mut far: Vec<usize> = (0..members.len()).collect();
    far.sort_by(|a, b| most(&members[*b]).total_cmp(&most(&members[*a])));
    far.into_iter().take(2).find(|&n| apart(members, Some(n)).get() < all.get() / 2.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::Mark;
    use crate::unit::Micros;

    fn card(name: &str, gain: f64, zero: f64) -> Card {
        let mark = |pulse: f64| Mark {
            pulse_us: Some(Micros::new(pulse)),
            angle_deg: Some(Degrees::new((pulse - zero) * gain / 100.0)),
            ..Mark::default()
        };
        Card {
            name: name.to_owned(),
            endpoints_us: Ends { low: Micros::new(1000.0), high: Micros::new(2000.0) },
            marks: vec![mark(1000.0), mark(1500.0), mark(2000.0)],
            ..Card::of(&crate::rig::file::small(), &crate::rig::file::small().servos[0], "2026-01-02")
        }
    }

    #[test]
    fn how_far_apart_they_stand_is_what_two_lines_say() {
        // 10 °/100 µs about 1500 and about 1510 µs are 1° apart everywhere.
        let two = Alike::of(&[card("a", 10.0, 1500.0), card("b", 10.0, 1510.0)]).unwrap();
        assert!((two.apart.get() - 1.0).abs() < 1e-9);
        let (_, off) = two.furthest(&two.members[0]);
        assert!((off.get() - 0.5).abs() < 1e-9);
        // 10 and 11 °/100 µs about one middle are 5° apart at the ends of 1000 to 2000 µs.
        let fan = Alike::of(&[card("a", 10.0, 1500.0), card("b", 11.0, 1500.0)]).unwrap();
        assert!((fan.apart.get() - 5.0).abs() < 1e-9);
        assert_eq!((two.odd, fan.odd), (None, None), "of two nobody is odd");
    }

    #[test]
    fn one_that_is_like_none_of_the_others_is_named() {
        let mut cards: Vec<Card> =
            (0..9).map(|n| card(&format!("s{n}"), 10.0 + f64::from(n) * 0.02, 1500.0)).collect();
        let near = Alike::of(&cards).unwrap();
        assert_eq!(near.odd, None, "{}", near.words());
        cards.insert(4, card("odd", 12.0, 1500.0));
        let box_of_ten = Alike::of(&cards).unwrap();
        assert_eq!(box_of_ten.odd, Some(4));
        assert!(box_of_ten.words().starts_with("10 of a kind"), "{}", box_of_ten.words());
        assert!(box_of_ten.words().ends_with("odd is like none of the others."), "{}", box_of_ten.words());
    }

    #[test]
    fn only_what_all_may_be_told_is_compared_and_what_does_not_belong_is_named() {
        let mut narrow = card("b", 10.0, 1500.0);
        narrow.endpoints_us = Ends { low: Micros::new(1200.0), high: Micros::new(2200.0) };
        let two = Alike::of(&[card("a", 10.0, 1500.0), narrow.clone()]).unwrap();
        assert_eq!((two.over.low.get(), two.over.high.get()), (1200.0, 2000.0));
        narrow.endpoints_us = Ends { low: Micros::new(2100.0), high: Micros::new(2200.0) };
        assert_eq!(Alike::of(&[card("a", 10.0, 1500.0), narrow]).unwrap_err(), NotAlike::Apart);
        let said = |cards: &[Card]| Alike::of(cards).unwrap_err().to_string();
        assert_eq!(said(&[card("a", 10.0, 1500.0)]), "there is 1 card: a chart needs two or more of a kind");
        assert_eq!(said(&[]), "there are 0 cards: a chart needs two or more of a kind");
        let lamp = Card { kind: Kind::Dimmer, ..card("moon", 10.0, 1500.0) };
        assert!(said(&[card("a", 10.0, 1500.0), lamp]).starts_with("moon is dimmer: it has no angles"));
        let smart = Card { kind: Kind::Smart, ..card("nape", 10.0, 1500.0) };
        assert!(said(&[card("a", 10.0, 1500.0), smart]).contains("nape is smart: only cards of one kind"));
        let bare = Card { marks: Vec::new(), ..card("new", 10.0, 1500.0) };
        assert!(said(&[card("a", 10.0, 1500.0), bare]).starts_with("new cannot lie on a chart yet"));
    }
}
