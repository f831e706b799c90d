//! What is allowed in a rig but worth a word: a supply that is too small, a bus that is too slow, an address that
//! others may use. What does not fit together at all is [`super::check`]'s.

use super::{PortKind, Rig};
use crate::power::Budget;
use crate::traffic::Traffic;
use crate::unit::{Hertz, Seconds};

/// From here on addresses are reserved by the I²C standard.
pub const RESERVED_FROM: u8 = 0x78;

/// One thing worth a word.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Worry {
    /// The name of the board, rail or port that it is about.
    pub about: String,
    /// What.
    pub words: String,
    /// What to do.
    pub help: String,
}

impl Worry {
    fn new(about: &str, words: impl Into<String>, help: impl Into<String>) -> Self {
        Self { about: about.to_owned(), words: words.into(), help: help.into() }
    }
}

/// Everything worth a word, in the order of ports, boards, rails. `beat` is the time between two beats.
pub fn worries(rig: &Rig, beat: Seconds) -> Vec<Worry> {
    let mut all = Vec::new();
    all.extend(rig.ports.iter().filter(|p| p.kind == PortKind::I2c).filter_map(|p| bus(rig, &p.name, beat)));
    for board in &rig.boards {
        if let Some(address) = board.address.filter(|address| *address >= RESERVED_FROM) {
            let words = format!("address {address:#04x} is reserved by the I²C standard");
            all.push(Worry::new(&board.name, words, "other devices may answer there: solder another jumper"));
        }
        if board.rail.is_none() && rig.servos_on(&board.name).next().is_some() {
            let words = "nobody has said which supply feeds its servos";
            all.push(Worry::new(
                &board.name,
                words,
                "the command rail of the board says which, and what it gives",
            ));
        }
    }
    all.extend(rig.rails.iter().flat_map(|rail| supply(rig, rail)));
    all
}

fn bus(rig: &Rig, port: &str, beat: Seconds) -> Option<Worry> {
    let traffic = Traffic::of(rig, port);
    if traffic.fits(beat) {
        return None;
    }
    let words = format!(
        "{:.0} of {} channels fit in a beat of {:.0} ms at {}; all of them change {:.0} times a second at most",
        traffic.channels_a_beat(beat),
        traffic.channels,
        beat.get() * 1e3,
        rate(traffic.rate),
        traffic.updates_a_second()
    );
    let help = match traffic.rate_that_fits(beat) {
        Some(faster) => format!("set the bus to {} and write bus_hz = {:.0}", rate(faster), faster.get()),
        None if traffic.line.is_some() => {
            "set the bridge and its port to a higher baud; until then the channels take turns".to_owned()
        }
        None => "spread the boards over more buses; until then the channels take turns".to_owned(),
    };
    Some(Worry::new(port, words, help))
}

fn supply(rig: &Rig, rail: &super::Rail) -> Vec<Worry> {
    let budget = Budget::of(rig, rail);
    let mut all = Vec::new();
    if budget.is_tight() {
        let words = format!(
            "≈ {:.1} A when {}, its supply gives {:.1} A",
            budget.stall.get(),
            budget.worst(),
            budget.supply.get()
        );
        let help =
            format!("a supply of {:.1} A would be safe, or fewer servos on it", budget.safe_supply().get());
        all.push(Worry::new(&rail.name, words, help));
    }
    if !budget.uncounted.is_empty() {
        let words = format!("nobody has said what {} draw", listed(&budget.uncounted));
        all.push(Worry::new(
            &rail.name,
            words,
            "add stall_a to rated, or draw_a: it stands on the sheet, or on a meter",
        ));
    }
    all
}

/// A bus rate as people say it.
pub fn rate(rate: Hertz) -> String {
    if rate.get() >= 1e6 {
        format!("{:.0} MHz", rate.get() / 1e6)
    } else {
        format!("{:.0} kHz", rate.get() / 1e3)
    }
}

/// The first few of some names.
fn listed(names: &[String]) -> String {
    const SHOWN: usize = 3;
    let first = names.iter().take(SHOWN).map(String::as_str).collect::<Vec<_>>().join(", ");
    match names.len() {
        0..=SHOWN => first,
        more => format!("{first} and {} more", more - SHOWN),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::edit::boards::{NewBoard, add_board};
    use crate::rig::file::{Loaded, load};
    use crate::rig::{Rail, Servo};
    use crate::unit::{Amps, Volts};

    const BEAT: Seconds = Seconds::new(0.02);

    fn rig() -> Rig {
        match load(include_str!("../../tests/data/small.rig.toml")) {
            Loaded::Sound(rig) => Rig { rails: vec![six(8.0)], ..*rig },
            other => panic!("{other:?}"),
        }
    }

    fn six(amps: f64) -> Rail {
        Rail { name: "six-volt".into(), volts: Volts::new(6.0), amps: Amps::new(amps) }
    }

    fn said(rig: &Rig) -> Vec<String> {
        worries(rig, BEAT).into_iter().map(|w| format!("{}: {}; {}", w.about, w.words, w.help)).collect()
    }

    #[test]
    fn a_reserved_address_and_a_board_without_a_rail_are_worth_a_word() {
        let port = rig().ports[0].name.clone();
        let mut more = add_board(&rig(), &NewBoard::expander("far", &port, 0x79)).unwrap();
        assert_eq!(
            said(&more).iter().filter(|w| w.contains("0x79")).collect::<Vec<_>>(),
            [
                "far: address 0x79 is reserved by the I²C standard; other devices may answer there: solder another \
              jumper"
            ]
        );
        more.boards[0].rail = None;
        assert!(said(&more).iter().any(|w| w.starts_with("upper: nobody has said which supply")));
    }

    #[test]
    fn a_supply_that_is_too_small_is_told_what_would_do() {
        let mut rig = rig();
        rig.boards[0].rail = Some("six-volt".into());
        for servo in &mut rig.servos {
            let rated = "travel_deg = 120\npulses_us = [900, 2100]\nstall_a = 1.5\n";
            servo.rated = Some(toml_edit::de::from_str(rated).unwrap());
        }
        assert_eq!(said(&rig), [""; 0]);
        rig.rails = vec![six(2.0)];
        let words = "six-volt: ≈ 3.0 A when all 2 servos stall, its supply gives 2.0 A; a supply of 3.3 A would be \
                     safe, or fewer servos on it";
        assert_eq!(said(&rig), [words]);
        rig.servos[1].rated = None;
        assert!(said(&rig).iter().any(|w| w.starts_with("six-volt: nobody has said what heron.beak draw")));
    }

    #[test]
    fn a_bus_that_is_too_slow_is_told_which_rate_would_do() {
        let mut rig = rig();
        let (board, servo) = (rig.boards[0].clone(), rig.servos[0].clone());
        rig.boards = (0x40..0x45)
            .map(|address| crate::rig::Board {
                name: format!("b{address}"),
                address: Some(address),
                ..board.clone()
            })
            .collect();
        let board = rig.boards.clone();
        rig.servos = board
            .iter()
            .flat_map(|b| (0..16).map(|channel| Servo { board: b.name.clone(), channel, ..servo.clone() }))
            .collect();
        let words = said(&rig);
        assert!(words[0].contains("of 80 channels fit in a beat of 20 ms at 100 kHz"), "{}", words[0]);
        assert!(words[0].contains("set the bus to 400 kHz and write bus_hz = 400000"), "{}", words[0]);
        rig.ports[0].bus_hz = Some(Hertz::new(400e3));
        assert!(!said(&rig).iter().any(|w| w.contains("fit in a beat")));
    }
}
