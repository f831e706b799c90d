//! The views: each a function from a scene to an area of the buffer.

mod calibrate;
pub mod compare;
pub mod fineness;
pub mod help;
mod inputs;
mod level;
mod mechanism;
pub mod palette;
pub mod prompt;
mod protractor;
pub mod recover;
mod ruler;
mod sequence;
mod wiring;

use super::model::View;
use super::pen::Pen;
use super::scene::Scene;

/// Draws the view one is in.
pub fn draw(pen: &mut Pen<'_>, scene: &Scene) {
    match scene.model.view {
        View::Wiring => wiring::draw(pen, scene),
        View::Calibrate => calibrate::draw(pen, scene),
        View::Inputs => inputs::draw(pen, scene),
        View::Sequence => sequence::draw(pen, scene),
    }
}
