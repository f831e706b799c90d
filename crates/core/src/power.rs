//! What hangs on a rail, and whether its supply is enough.
//!
//! The currents are those of data sheets, or usual shares of them: without an ammeter they are estimates and
//! are written with ≈.

use crate::rig::{Rail, Rig, Servo};
use crate::unit::Amps;

/// What a servo usually draws while it stands, where its data sheet does not say.
const USUAL_IDLE_A: f64 = 0.01;
/// The share of its stall current that a servo usually draws while it turns freely, 0–1.
const USUAL_MOVING_SHARE: f64 = 0.3;
/// More than this share of the supply in the worst case is worth a warning, 0–1.
const WORTH_A_WARNING: f64 = 0.9;

/// Sums over everything on a rail.
#[derive(Debug, Clone, PartialEq)]
pub struct Budget {
    /// How many servos were added up.
    pub servos: usize,
    /// Lamps and other accessories counted.
    pub accessories: usize,
    /// All of them stand.
    pub idle: Amps,
    /// All of them turn.
    pub moving: Amps,
    /// All of them are stalled: the worst case.
    pub stall: Amps,
    /// What the supply gives.
    pub supply: Amps,
    /// Servos left out, because their current is not known.
    pub uncounted: Vec<String>,
}

/// One servo's currents: standing, turning, stalled.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Draw {
    pub idle: Amps,
    pub moving: Amps,
    pub stall: Amps,
}

impl Draw {
    pub fn of(servo: &Servo) -> Option<Self> {
        let rated = servo.rated.as_ref();
        let most = servo.draw_a.or_else(|| rated?.stall_a)?;
        if servo.kind.is_accessory() {
            // Off it draws nothing; on it draws what it draws, whatever moves.
            return Some(Self { idle: Amps::ZERO, moving: most, stall: most });
        }
        Some(Self {
            idle: rated.and_then(|r| r.idle_a).unwrap_or(Amps::new(USUAL_IDLE_A)),
            moving: rated.and_then(|r| r.moving_a).unwrap_or(most * USUAL_MOVING_SHARE),
            stall: most,
        })
    }
}

impl Budget {
    /// The sums of a rail's boards' servos.
    pub fn of(rig: &Rig, rail: &Rail) -> Self {
        let mut budget = Self {
            servos: 0,
            accessories: 0,
            idle: Amps::ZERO,
            moving: Amps::ZERO,
            stall: Amps::ZERO,
            supply: rail.amps,
            uncounted: Vec::new(),
        };
        let boards = rig.boards.iter().filter(|b| b.rail.as_deref() == Some(rail.name.as_str()));
        for servo in boards.flat_map(|b| rig.servos_on(&b.name)) {
            match Draw::of(servo) {
                Some(draw) => {
                    let counted =
                        if servo.kind.is_accessory() { &mut budget.accessories } else { &mut budget.servos };
                    *counted += 1;
                    budget.idle = budget.idle + draw.idle;
                    budget.moving = budget.moving + draw.moving;
                    budget.stall = budget.stall + draw.stall;
                }
                None => budget.uncounted.push(servo.name.clone()),
            }
        }
        budget
    }

    /// The worst case in words: `all 3 servos stall`.
    pub fn worst(&self) -> String {
        let servos = match self.servos {
            1 => "its servo stalls".to_owned(),
            n => format!("all {n} servos stall"),
        };
        match (self.servos, self.accessories) {
            (0, n) => format!("all {n} accessories are on"),
            (_, 0) => servos,
            (_, n) => format!("{servos} with {n} accessor{} on", if n == 1 { "y" } else { "ies" }),
        }
    }

    /// Whether the worst case leaves less than a tenth of the supply.
    pub fn is_tight(&self) -> bool {
        self.stall > self.supply * WORTH_A_WARNING
    }

    /// What the supply should give at least for the worst case to leave a tenth of it.
    pub fn safe_supply(&self) -> Amps {
        self.stall * (1.0 / WORTH_A_WARNING)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};
    use crate::rig::{Kind, Rated};

    fn rig() -> Rig {
        match load(include_str!("../tests/data/small.rig.toml")) {
            Loaded::Sound(rig) => *rig,
            other => panic!("{other:?}"),
        }
    }

    fn rated(stall_a: Option<f64>, moving_a: Option<f64>) -> Rated {
        let text = "travel_deg = 120\npulses_us = [900, 2100]\n";
        let rated: Rated = toml_edit::de::from_str(text).unwrap();
        Rated { stall_a: stall_a.map(Amps::new), moving_a: moving_a.map(Amps::new), ..rated }
    }

    #[test]
    fn servos_on_a_rail_are_summed_and_what_is_not_known_is_named() {
        let mut rig = rig();
        rig.rails = vec![Rail {
            id: crate::rig::RailId::default(),
            name: "six".into(),
            volts: crate::unit::Volts::new(6.0),
            amps: Amps::new(2.0),
        }];
        rig.boards[0].rail = Some("six".into());
        rig.servos[0].rated = Some(rated(Some(1.5), None));
        rig.servos[1].rated = Some(rated(None, Some(0.2)));
        let budget = Budget::of(&rig, &rig.rails[0]);
        assert_eq!((budget.servos, budget.uncounted.as_slice()), (1, &["heron.beak".to_owned()][..]));
        assert!((budget.moving.get() - 0.45).abs() < 1e-12 && (budget.idle.get() - 0.01).abs() < 1e-12);
        assert!(!budget.is_tight(), "1.5 of 2 A leaves a quarter");
        rig.servos[1].rated = Some(rated(Some(0.4), Some(0.2)));
        let budget = Budget::of(&rig, &rig.rails[0]);
        assert!((budget.stall.get() - 1.9).abs() < 1e-12 && (budget.moving.get() - 0.65).abs() < 1e-12);
        assert!(budget.is_tight(), "1.9 of 2 A is over nine tenths");
        assert!((budget.safe_supply().get() - 1.9 / 0.9).abs() < 1e-12);
    }

    #[test]
    fn a_lamp_draws_what_it_draws_and_nothing_while_it_is_off() {
        let mut rig = rig();
        rig.rails = vec![Rail {
            id: crate::rig::RailId::default(),
            name: "six".into(),
            volts: crate::unit::Volts::new(6.0),
            amps: Amps::new(2.0),
        }];
        rig.boards[0].rail = Some("six".into());
        rig.servos[0].rated = Some(rated(Some(1.5), None));
        let lamp = &mut rig.servos[1];
        (lamp.kind, lamp.rated, lamp.draw_a) = (Kind::Dimmer, None, Some(Amps::new(0.3)));
        let budget = Budget::of(&rig, &rig.rails[0]);
        assert_eq!((budget.servos, budget.accessories, budget.uncounted.len()), (1, 1, 0));
        let sums = [budget.idle, budget.moving, budget.stall].map(Amps::get);
        assert!((sums[0] - 0.01).abs() < 1e-12 && (sums[1] - 0.75).abs() < 1e-12, "{sums:?}");
        assert!((sums[2] - 1.8).abs() < 1e-12);
        assert_eq!(budget.worst(), "its servo stalls with 1 accessory on");
    }

    #[test]
    fn a_board_without_a_rail_burdens_none() {
        let mut rig = rig();
        rig.rails = vec![Rail {
            id: crate::rig::RailId::default(),
            name: "six".into(),
            volts: crate::unit::Volts::new(6.0),
            amps: Amps::new(2.0),
        }];
        rig.boards[0].rail = None;
        assert_eq!(Budget::of(&rig, &rig.rails[0]).servos, 0);
    }
}
