//! Input signals.

use super::bounds::{self, Named, Worded};
use super::number::{self, numbers};
use super::{Ends, InputId, Switch, is_zero, strict};
use crate::unit::Volts;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// An input signal, with its shaping.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(transform = bounds::input)]
#[schemars(transform = number::ranged::<Input>)]
pub struct Input {
    /// What it keeps while its name changes.
    #[serde(skip)]
    pub id: InputId,
    /// Its name, which other parts refer to.
    #[schemars(transform = Named)]
    pub name: String,
    /// The link that carries it.
    pub link: String,
    /// The channel of that link, named as the link's protocol names it.
    #[schemars(transform = Worded)]
    pub channel: String,
    /// Raw values at its ends.
    pub ends: Ends<f64>,
    /// Its raw values are degrees of the joint. They are not scaled to its ends; a value beyond them is reported.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<OwnUnit>,
    /// Raw value at rest, of an input that returns to its middle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub centre: Option<f64>,
    /// Makes it a switch: which raw values count as pressed, or as which position.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switch: Option<Switch>,
    /// Added to the value after the span, in shaped units.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub trim: f64,
    /// The share of its travel around rest that counts as rest.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub deadband: f64,
    /// How much of a cubic the curve has: 0 is straight, negative is steeper around rest.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub expo: f64,
    /// Points of a curve instead of expo, as `[[from, to], …]`.
    #[serde(default, deserialize_with = "strict::pairs", skip_serializing_if = "Vec::is_empty")]
    #[schemars(transform = bounds::points)]
    pub curve: Vec<(f64, f64)>,
    /// Time constant of the smoothing, in milliseconds.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub smoothing_ms: f64,
    /// Fastest rise, in shaped units a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rise_per_s: Option<f64>,
    /// Fastest fall, in shaped units a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fall_per_s: Option<f64>,
    /// The highest voltage of its signal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signal_volts: Option<Volts>,
    /// The highest voltage that its pin tolerates.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pin_volts: Option<Volts>,
}

numbers! {
    Input {
        ends: RAW, centre: RAW, trim: TRIM = [0.0], deadband: DEADBAND = [0.0], expo: EXPO = [0.0], smoothing_ms: SMOOTHING = [0.0],
        rise_per_s: RATE, fall_per_s: RATE, signal_volts: SIGNAL_VOLTS,
        pin_volts: SIGNAL_VOLTS,
    }
}

/// The unit of raw values that need no span.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum OwnUnit {
    /// Degrees of the joint.
    Deg,
}

impl Input {
    /// An input with nothing said about its shaping yet.
    pub fn new(name: &str, link: &str, channel: &str, ends: Ends<f64>) -> Self {
        Self {
            id: InputId::default(),
            name: name.to_owned(),
            link: link.to_owned(),
            channel: channel.to_owned(),
            ends,
            unit: None,
            centre: None,
            switch: None,
            trim: 0.0,
            deadband: 0.0,
            expo: 0.0,
            curve: Vec::new(),
            smoothing_ms: 0.0,
            rise_per_s: None,
            fall_per_s: None,
            signal_volts: None,
            pin_volts: None,
        }
    }
}
