//! What a click means, by the part of the window it falls on. Whoever draws something that can be picked says so there
//! and then, so that what is clicked is always what is seen.

use super::keys::Key;
use ratatui::layout::{Position, Rect};

/// A part of the window with what a click on it means.
#[derive(Debug, Clone, PartialEq)]
pub struct Touch {
    pub part: Rect,
    /// What it means.
    pub what: Touched,
}

/// What was clicked.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Touched {
    /// A servo of the roster, by its place in the rig.
    Servo(usize),
    /// An action, by its name: a view's tab, a word of the keys line.
    Action(&'static str),
    /// A key of what is being asked.
    Key(Key),
    /// A row of what is being asked, by its place.
    Line(usize),
    /// A mark of the picked servo, by its place.
    Mark(usize),
    /// A channel of a board, by the board's place.
    Channel(usize, u8),
    /// An input, by its place.
    Input(usize),
    /// A row of the view, by how many rows it is below the picked one.
    Row(isize),
    Needle(Needle),
}

/// Where the needle turns, so that a cell has an angle.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Needle {
    /// The axis, in columns and rows of the window.
    pub axis: (f64, f64),
    /// Where 0° points, in degrees clockwise from straight up.
    pub mounted: f64,
    /// 1 where angles rise clockwise, −1 where anticlockwise.
    pub sense: f64,
}

/// How high a cell is beside its width, as the drawing takes it.
const HIGH: f64 = 2.0;

impl Needle {
    /// The angle of a cell about the axis, in degrees from −180 up to 180; none at the axis itself.
    pub fn angle_at(&self, (column, row): (u16, u16)) -> Option<f64> {
        let right = f64::from(column) + 0.5 - self.axis.0;
        let up = HIGH * (self.axis.1 - f64::from(row) - 0.5);
        let turned = (right.hypot(up) > HIGH).then(|| right.atan2(up).to_degrees())?;
        let angle = (turned - self.mounted) * self.sense;
        Some(if angle.abs() <= 180.0 { angle } else { angle - 360.0 * (angle / 360.0).round() })
    }
}

/// What lies uppermost at a cell.
pub fn at(touches: &[Touch], (column, row): (u16, u16)) -> Option<Touched> {
    touches
        .iter()
        .rev()
        .find(|touch| touch.part.contains(Position { x: column, y: row }))
        .map(|touch| touch.what)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cell_of_the_protractor_has_the_angle_that_is_drawn_there() {
        let up = Needle { axis: (40.0, 20.0), mounted: 0.0, sense: 1.0 };
        let at = |needle: Needle, cell| needle.angle_at(cell).unwrap().round().to_string();
        assert_eq!(
            (at(up, (39, 5)), at(up, (59, 9)), at(up, (19, 9))),
            ("-1".to_owned(), "43".to_owned(), "-44".to_owned())
        );
        assert_eq!(at(up, (60, 19)), "87");
        assert_eq!(at(Needle { sense: -1.0, ..up }, (59, 9)), "-43");
        assert_eq!(at(Needle { mounted: 90.0, ..up }, (60, 19)), "-3", "0° to the right");
        assert_eq!(at(Needle { mounted: 170.0, ..up }, (19, 9)), "146", "across the lower side");
        assert_eq!(up.angle_at((40, 19)), None, "the axis has no angle");
    }

    #[test]
    fn what_was_drawn_last_lies_uppermost() {
        let part = |x, width| Rect { x, y: 2, width, height: 1 };
        let touches = [
            Touch { part: part(0, 9), what: Touched::Line(1) },
            Touch { part: part(4, 2), what: Touched::Mark(3) },
        ];
        assert_eq!(at(&touches, (4, 2)), Some(Touched::Mark(3)));
        assert_eq!(at(&touches, (6, 2)), Some(Touched::Line(1)));
        assert_eq!((at(&touches, (9, 2)), at(&touches, (4, 3))), (None, None));
    }
}
