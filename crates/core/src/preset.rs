//! What servos of a class usually are, for one whose sheet is lost: a place to begin, never what was seen.

use crate::rig::{Ends, Kind, Rated};
use crate::unit::{Amps, Degrees, Micros, Seconds};

/// A class of servos.
#[derive(Debug, Clone, PartialEq)]
pub struct Preset {
    /// Its name, which other parts refer to.
    pub name: &'static str,
    /// What such a one is.
    pub kind: Kind,
    /// What its data sheet would say, where it goes to an angle.
    pub rated: Option<Rated>,
    /// The number of teeth on its spline.
    pub teeth: u8,
    /// What it draws at most.
    pub draw: Amps,
}

/// Travel in degrees, its pulses, seconds for 60°, and what it draws standing, moving and stalled.
const fn rated(travel: f64, pulses: (f64, f64), s: f64, (idle, moving, stall): (f64, f64, f64)) -> Rated {
    Rated {
        travel_deg: Degrees::new(travel),
        pulses_us: Some(Ends { low: Micros::new(pulses.0), high: Micros::new(pulses.1) }),
        counts: None,
        s_per_60_deg: Some(Seconds::new(s)),
        idle_a: Some(Amps::new(idle)),
        moving_a: Some(Amps::new(moving)),
        stall_a: Some(Amps::new(stall)),
        ..Rated::NOTHING
    }
}

/// All classes, the smallest first.
pub const ALL: [Preset; 6] = [
    Preset {
        name: "micro",
        kind: Kind::Positional,
        rated: Some(rated(90.0, (1000.0, 2000.0), 0.10, (0.01, 0.15, 0.7))),
        teeth: 21,
        draw: Amps::new(0.7),
    },
    Preset {
        name: "mini",
        kind: Kind::Positional,
        rated: Some(rated(90.0, (1000.0, 2000.0), 0.12, (0.01, 0.2, 1.0))),
        teeth: 23,
        draw: Amps::new(1.0),
    },
    Preset {
        name: "standard",
        kind: Kind::Positional,
        rated: Some(rated(120.0, (900.0, 2100.0), 0.17, (0.01, 0.25, 1.5))),
        teeth: 25,
        draw: Amps::new(1.5),
    },
    Preset {
        name: "large",
        kind: Kind::Positional,
        rated: Some(rated(120.0, (900.0, 2100.0), 0.20, (0.02, 0.6, 3.5))),
        teeth: 15,
        draw: Amps::new(3.5),
    },
    Preset {
        name: "winch",
        kind: Kind::Positional,
        rated: Some(rated(1260.0, (1000.0, 2000.0), 0.14, (0.02, 0.4, 2.5))),
        teeth: 25,
        draw: Amps::new(2.5),
    },
    Preset { name: "continuous", kind: Kind::Continuous, rated: None, teeth: 25, draw: Amps::new(1.2) },
];

/// The class that a word begins to name.
pub fn named(said: &str) -> Option<&'static Preset> {
    let said = said.trim().to_lowercase();
    ALL.iter().find(|preset| !said.is_empty() && preset.name.starts_with(&said))
}

/// The class whose travel is nearest to `times` that of a sheet, for a servo that turned so much more or less.
pub fn nearest(rated: &Rated, times: f64) -> Option<&'static str> {
    let slope = libm::fabs(rated.slope().gain * times);
    let off = |preset: &Preset| {
        let own = preset.rated.as_ref()?.slope().gain;
        Some((libm::fabs(libm::log(own / slope)), preset.name))
    };
    ALL.iter().filter_map(off).min_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_class_can_be_named_by_its_beginning_and_is_sound() {
        for preset in &ALL {
            assert_eq!(named(preset.name), Some(preset));
            assert_eq!(preset.rated.is_some(), preset.kind == Kind::Positional);
            if let Some(rated) = &preset.rated {
                assert!(rated.slope().gain > 0.05 && rated.stall_a == Some(preset.draw), "{}", preset.name);
            }
        }
        assert_eq!((named("st").map(|p| p.name), named(""), named("x")), (Some("standard"), None, None));
    }

    #[test]
    fn a_servo_that_turns_much_more_is_of_another_class() {
        let standard = named("standard").unwrap().rated.clone().unwrap();
        assert_eq!(nearest(&standard, 12.0), Some("winch"));
    }
}
