//! Which part of a list is picked. A pick goes with its part, wherever an edit puts that; when the part is gone, the one
//! that has taken its place in the list is picked.

use wasvolta_core::rig::PartId;
use wasvolta_core::rig::id::Part;
use wasvolta_core::rig::parts::Places;

/// See the module.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Pick<Id> {
    /// The part; of an empty list, none that there is.
    pub id: Id,
    /// Where it stood when it was last looked at.
    place: usize,
}

impl<Id: PartId> Pick<Id> {
    /// The part at a place of a list, or the last.
    pub fn at<P: Part<Id = Id>>(list: &[P], place: usize) -> Self {
        let place = place.min(list.len().saturating_sub(1));
        Self { id: list.get(place).map(P::id).unwrap_or_default(), place }
    }

    /// The same part in a changed list.
    pub fn settle<P: Part<Id = Id>>(&mut self, list: &[P], places: &Places<Id>) {
        match places.place(self.id) {
            Some(place) => self.place = place,
            None => *self = Self::at(list, self.place),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::session::tests::small;
    use wasvolta_core::rig::edit::roster;
    use wasvolta_core::rig::{Index, Kind, Rig};

    #[test]
    fn a_pick_goes_with_its_part_and_falls_to_the_one_that_comes_after() {
        let rig = small();
        let settled = |pick: Pick<_>, rig: &Rig| {
            let mut pick = pick;
            pick.settle(&rig.servos, &Index::of(rig).servos);
            pick
        };
        let beak = Pick::at(&rig.servos, 1);
        let mut turned = rig.clone();
        turned.servos.reverse();
        assert_eq!(settled(beak, &turned).id, rig.servos[1].id, "it stands elsewhere");
        let fewer = roster::remove_servo(&rig, "heron.neck").unwrap();
        assert_eq!(settled(beak, &fewer).id, rig.servos[1].id);
        let neck = Pick::at(&rig.servos, 0);
        assert_eq!(settled(neck, &fewer).id, rig.servos[1].id, "the next one took its place");
        let none = Rig { servos: Vec::new(), ..rig.clone() };
        let lost = settled(neck, &none);
        let more = roster::add_servo(&rig, "heron.tail", ("upper", 9), Kind::Positional).unwrap();
        assert_eq!(settled(lost, &more).id, rig.servos[0].id);
    }
}
