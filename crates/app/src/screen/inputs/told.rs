//! What the goal of a mapping is told in.

use crate::screen::scene::Scene;
use wasvolta_core::rig::{GoalKind, Mapping};

/// The goal's unit, where it has one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Told {
    Degrees,
    /// % of a level, or of a row of poses
    Levels,
    /// % of a rate
    RateLevels,
    Rates,
    /// % of a tempo
    Tempos,
}

impl Told {
    /// What a mapping's goal is told in; none of a toggle, or of a place in a sequence.
    pub fn of(scene: &Scene, mapping: &Mapping) -> Option<Self> {
        Some(match mapping.to.kind()? {
            GoalKind::Joint => Self::Degrees,
            GoalKind::Level | GoalKind::Blend => Self::Levels,
            GoalKind::Rate => {
                let turns_on = |name: &str| scene.rig.servo(name).is_some_and(|servo| servo.kind.turns_on());
                if mapping.to.name().is_some_and(turns_on) { Self::RateLevels } else { Self::Rates }
            }
            GoalKind::Tempo => Self::Tempos,
            GoalKind::Toggle | GoalKind::Place => return None,
        })
    }

    /// A value, as it is written.
    pub fn show(self, value: f64) -> String {
        let value = value + 0.0;
        match self {
            Self::Degrees => format!("{value:+.1}°"),
            Self::Levels | Self::Tempos => format!("{value:.0} %"),
            Self::RateLevels => format!("{value:+.0} %"),
            Self::Rates => format!("{value:+.1} °/s"),
        }
    }
}
