//! Points of a line that is drawn by hand: the curve of an input, the course of a mapping.

/// Points are no nearer to each other than that, along the line.
pub const APART: f64 = 0.01;

/// Points by where they come from and where they go to, ordered by the first.
pub type Points = Vec<(f64, f64)>;

/// The points with one more, and its place; none where there is one already, or as good as.
pub fn with(points: &[(f64, f64)], point: (f64, f64)) -> Option<(Points, usize)> {
    let near = |(from, _): &(f64, f64)| (from - point.0).abs() < APART;
    if !point.0.is_finite() || points.iter().any(near) {
        return None;
    }
    let place = points.partition_point(|(from, _)| *from < point.0);
    let mut points = points.to_vec();
    points.insert(place, point);
    Some((points, place))
}

/// Where a point may come from that is wished elsewhere: between its neighbours, or from `least` to `most`. None where
/// there is no room.
pub fn from_for(points: &[(f64, f64)], place: usize, wish: f64, (least, most): (f64, f64)) -> Option<f64> {
    let near = |n: Option<usize>| n.and_then(|n| points.get(n)).map(|point| point.0);
    let least = near(place.checked_sub(1)).map_or(least, |from| from + APART);
    let most = near(Some(place + 1)).map_or(most, |from| from - APART);
    (least <= most && wish.is_finite()).then(|| (wish.clamp(least, most) * 1e4).round() / 1e4)
}

/// Where a point of a line that only rises, or only falls, may go to: between its neighbours, or from `least` to `most`.
pub fn to_for(points: &[(f64, f64)], place: usize, wish: f64, (least, most): (f64, f64)) -> f64 {
    let near = |n: Option<usize>| n.and_then(|n| points.get(n)).map(|point| point.1);
    let (before, after) = (near(place.checked_sub(1)), near(Some(place + 1)));
    let others = || points.iter().enumerate().filter(|(n, _)| *n != place).map(|(_, point)| point.1);
    // Two ends that are all there is may go anywhere: either way is one way.
    let falls = others().next().zip(others().next_back()).is_some_and(|(first, last)| last < first);
    let (low, high) = match points.len() {
        0..=2 => (least, most),
        _ if falls => (after.unwrap_or(least), before.unwrap_or(most)),
        _ => (before.unwrap_or(least), after.unwrap_or(most)),
    };
    if low <= high { wish.clamp(low, high) } else { low }
}

#[cfg(test)]
#[expect(clippy::float_cmp, reason = "ends are reached to the last bit")]
mod tests {
    use super::*;
    use crate::shape::along_points;
    use proptest::prelude::*;

    const LINE: [(f64, f64); 3] = [(-1.0, -1.0), (0.0, 0.2), (1.0, 1.0)];
    const ALL: (f64, f64) = (-1.0, 1.0);

    #[test]
    fn a_point_stands_in_its_order_and_not_upon_another() {
        let (points, place) = with(&LINE, (0.5, 0.4)).unwrap_or_default();
        assert_eq!((points.len(), place, points.get(2)), (4, 2, Some(&(0.5, 0.4))));
        assert_eq!(with(&LINE, (0.005, 0.0)), None);
        assert_eq!(with(&LINE, (f64::NAN, 0.0)), None);
        assert_eq!(with(&[], (0.5, 0.4)), Some((vec![(0.5, 0.4)], 0)));
    }

    #[test]
    fn a_point_passes_no_neighbour() {
        assert_eq!(from_for(&LINE, 1, 3.0, ALL), Some(0.99));
        assert_eq!(from_for(&LINE, 0, -3.0, ALL), Some(-1.0));
        assert_eq!(from_for(&LINE, 0, f64::NAN, ALL), None);
        assert_eq!(from_for(&[(0.0, 0.0), (0.005, 1.0), (0.01, 2.0)], 1, 0.5, ALL), None);
        assert_eq!([-3.0, 0.4, 3.0].map(|wish| to_for(&LINE, 1, wish, ALL)), [-1.0, 0.4, 1.0]);
        assert_eq!(to_for(&LINE, 0, 0.9, ALL), 0.2);
        let falls = LINE.map(|(from, to)| (from, -to));
        assert_eq!([-3.0, 3.0].map(|wish| to_for(&falls, 2, wish, ALL)), [-1.0, -0.2]);
        assert_eq!(to_for(&LINE[..2], 1, -3.0, ALL), -1.0);
    }

    proptest! {
        #[test]
        fn whatever_is_wished_a_line_stays_one_that_only_rises_or_only_falls(
            falls: bool, wishes in proptest::collection::vec((0usize..6, -2.0..2.0f64, -2.0..2.0f64), 1..60)
        ) {
            let sign = if falls { -1.0 } else { 1.0 };
            let mut points = LINE.map(|(from, to)| (from, sign * to)).to_vec();
            for (place, from, to) in wishes {
                let from_here = from.clamp(-1.0, 1.0);
                if place == 5
                    && let Some((more, _)) = with(&points, (from_here, along_points(&points, from_here)))
                {
                    points = more;
                }
                let place = place.min(points.len() - 1);
                if let Some(from) = from_for(&points, place, from, ALL) {
                    points[place].0 = from;
                }
                points[place].1 = to_for(&points, place, to, ALL);
                let up = points.windows(2).all(|w| w[1].1 >= w[0].1);
                let down = points.windows(2).all(|w| w[1].1 <= w[0].1);
                prop_assert!(up || down, "{points:?}");
                prop_assert!(points.windows(2).all(|w| w[1].0 - w[0].0 >= APART - 2e-4), "{points:?}");
            }
        }
    }
}
