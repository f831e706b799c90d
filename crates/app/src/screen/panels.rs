//! The one table of panels: their order is that of Tab, of the headline and of the help.

use super::model::View;
use super::panel::Panel;
use super::{calibrate, inputs, sequence, wiring};

pub static TABLE: [&Panel; 4] = [&wiring::PANEL, &calibrate::PANEL, &inputs::PANEL, &sequence::PANEL];

/// The panel of a view.
pub fn of(view: View) -> &'static Panel {
    TABLE.into_iter().find(|panel| panel.view == view).unwrap_or(TABLE[0])
}
