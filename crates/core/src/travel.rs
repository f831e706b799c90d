//! Positions along a servo's travel, in the conventions that other gear uses.
//!
//! Fits are not made here; limits come after whatever this gives.

use crate::unit::Position;

/// The pulse for a position −1..1 when the two sides of the centre are unequal.
pub fn about_centre(position: f64, low: Position, centre: Position, high: Position) -> Position {
    let side = if position < 0.0 { centre - low } else { high - centre };
    centre + side * position.clamp(-1.0, 1.0)
}

/// The pulse mirrored about the centre: 2c − p.
pub fn mirrored_about_centre(pulse: Position, centre: Position) -> Position {
    centre * 2.0 - pulse
}

/// The pulse mirrored between the ends: low + high − p. Not the same as about the centre.
pub fn mirrored_between_ends(pulse: Position, low: Position, high: Position) -> Position {
    low + high - pulse
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn unequal_sides_meet_at_the_centre() {
        let (low, centre, high) = (Position::new(1180.0), Position::new(1465.0), Position::new(1690.0));
        for (position, pulse) in [(-1.0, 1180.0), (-0.5, 1322.5), (0.0, 1465.0), (0.5, 1577.5), (1.0, 1690.0)]
        {
            assert_eq!(about_centre(position, low, centre, high), Position::new(pulse));
        }
    }

    #[test]
    fn the_two_ways_to_reverse_differ_unless_the_centre_is_the_middle() {
        let (low, centre, high) = (Position::new(1180.0), Position::new(1465.0), Position::new(1690.0));
        let pulse = Position::new(1300.0);
        assert_eq!(mirrored_about_centre(pulse, centre), Position::new(1630.0));
        assert_eq!(mirrored_between_ends(pulse, low, high), Position::new(1570.0));
    }
}
