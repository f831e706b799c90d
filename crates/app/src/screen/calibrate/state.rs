//! What the screen remembers of Calibrate.

use crate::screen::calibrate::lag::Behind;
use wasvolta_core::rig::{Ends, ServoId, Side};
use wasvolta_core::unit::Position;

/// See the module.
#[derive(Debug, Default)]
pub struct State {
    /// The mark picked in the list, by its place.
    pub mark: Option<usize>,
    /// The servo of which an endpoint was widened last.
    pub widened: Option<ServoId>,
    /// What a test move has found, and of which servo.
    pub finding: Option<(ServoId, String)>,
    /// What the last exercise went over, and how often.
    pub exercised: Option<(Ends<Position>, u32)>,
    /// The mechanism is drawn in the place of the protractor, where there is room for one only.
    pub mechanism: bool,
    /// From which side the present pulse was reached, as far as the hand knows.
    pub side: Side,
    /// The pulse before the last step outwards: nothing was heard there.
    pub quiet: Option<Position>,
    /// A held key has nudged in this frame.
    pub jogged: bool,
    /// How far the picked servo lagged behind lately, where it says where it is.
    pub behind: Behind,
}
