//! Joints whose smart servo is limp and was moved by hand: a pose keeps where they are, by their own word.

use wasvolta_core::rig::ServoId;

/// One that was moved so far was moved by hand, in degrees of its shaft; less is play.
const MOVED_DEG: f64 = 2.0;

/// See the module.
#[derive(Debug, Default)]
pub struct Taught {
    /// Limp servos, where each was when it was first heard so, in degrees, and whether it was moved since.
    limp: Vec<(ServoId, f64, bool)>,
}

impl Taught {
    /// Takes in where a limp servo is, in degrees; none where it is stiff, or says nothing.
    pub fn look(&mut self, servo: ServoId, at: Option<f64>) {
        let place = self.limp.iter().position(|(own, _, _)| *own == servo);
        match (place, at) {
            (None, Some(at)) => self.limp.push((servo, at, false)),
            (Some(place), Some(at)) => {
                if let Some((_, from, moved)) = self.limp.get_mut(place) {
                    *moved |= (at - *from).abs() > MOVED_DEG;
                }
            }
            (Some(place), None) => {
                self.limp.swap_remove(place);
            }
            (None, None) => {}
        }
    }

    /// Whether a servo is limp and was moved by hand.
    pub fn has(&self, servo: ServoId) -> bool {
        self.limp.iter().any(|(own, _, moved)| *own == servo && *moved)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::PartId;

    #[test]
    fn who_is_moved_while_limp_is_taught_until_it_is_stiff() {
        let (one, other) = (ServoId::of(1), ServoId::of(2));
        let mut taught = Taught::default();
        for at in [10.0, 11.5, 8.5] {
            taught.look(one, Some(at));
            taught.look(other, Some(at * 2.0));
        }
        assert_eq!([one, other].map(|servo| taught.has(servo)), [false, true], "play is no movement");
        taught.look(other, Some(20.0));
        assert!(taught.has(other), "it was moved, and is back");
        taught.look(other, None);
        taught.look(other, Some(90.0));
        assert!(!taught.has(other), "it was stiff meanwhile");
    }
}
