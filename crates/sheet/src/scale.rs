//! Axes: from values to millimetres, with round numbers to write beside them.

/// A straight axis: two values and the two places they stand at, in mm.
#[derive(Debug, Clone, Copy)]
pub struct Axis {
    /// The values at its ends.
    pub values: (f64, f64),
    /// The places of these values.
    pub places: (f64, f64),
}

impl Axis {
    /// The place of a value; beyond the ends it goes on.
    pub fn place(&self, value: f64) -> f64 {
        let (from, to) = self.values;
        let (start, end) = self.places;
        start + (value - from) / (to - from) * (end - start)
    }

    /// Round values on it, at most `most` of them or so.
    pub fn ticks(&self, most: f64) -> Vec<f64> {
        let (from, to) = self.values;
        let step = round_step((to - from) / most);
        let first = (from / step).ceil();
        let count = wasvolta_core::unit::count16(((to / step).floor() - first).max(0.0));
        (0..=count).map(|n| (first + f64::from(n)) * step).collect()
    }
}

/// The least of 1, 2, 5 times a power of ten that is no less than `step`.
fn round_step(step: f64) -> f64 {
    let power = libm::pow(10.0, libm::floor(libm::log10(step.max(1e-9))));
    [1.0, 2.0, 5.0].into_iter().map(|n| n * power).find(|s| *s >= step - 1e-12).unwrap_or(10.0 * power)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_round_and_within() {
        let axis = Axis { values: (620.0, 2380.0), places: (0.0, 100.0) };
        assert_eq!(axis.ticks(9.0), [800.0, 1000.0, 1200.0, 1400.0, 1600.0, 1800.0, 2000.0, 2200.0]);
        assert!((axis.place(1500.0) - 50.0).abs() < 1e-9);
    }
}
