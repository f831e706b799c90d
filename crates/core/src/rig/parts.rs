//! The parts of a rig by their names and by their ids, looked up in maps that are made once an edit.

use super::id::{Part, PartId};
use super::{
    Board, BoardId, Input, InputId, Joint, JointId, LinkId, Mapping, MappingId, Port, PortId, Pose, PoseId,
    Rail, RailId, Rig, Sequence, SequenceId, Servo, ServoId, speed_of, spoken_name, through_of,
};
use crate::linkage::Transmission;
use crate::scale::Scale;
use crate::unit::DegreesPerSecond;
use std::collections::HashMap;
use std::marker::PhantomData;
use std::ops::Deref;

/// The places of one kind of part.
#[derive(Debug, Clone)]
pub struct Places<Id> {
    by_name: HashMap<Box<str>, usize>,
    by_id: HashMap<u32, usize>,
    kind: PhantomData<Id>,
}

impl<Id: PartId> Places<Id> {
    fn of<P: Part<Id = Id>>(parts: &[P]) -> Self {
        let mut by_name = HashMap::with_capacity(parts.len());
        for (place, part) in parts.iter().enumerate() {
            // Of two with one name the first counts, as when a list is searched.
            by_name.entry(part.name().into()).or_insert(place);
        }
        let by_id = parts.iter().enumerate().map(|(place, part)| (part.id().number(), place)).collect();
        Self { by_name, by_id, kind: PhantomData }
    }

    /// The place of the part of that name.
    pub fn named(&self, name: &str) -> Option<usize> {
        self.by_name.get(name).copied()
    }

    /// The place of the part with that id.
    pub fn place(&self, id: Id) -> Option<usize> {
        self.by_id.get(&id.number()).copied()
    }
}

/// Where every part of a rig stands in its list.
#[derive(Debug, Clone)]
pub struct Index {
    /// Where rails stand in the rig's list, by their ids.
    pub rails: Places<RailId>,
    /// Where ports stand in the rig's list, by their ids.
    pub ports: Places<PortId>,
    /// Where boards stand in the rig's list, by their ids.
    pub boards: Places<BoardId>,
    /// Where servos stand in the rig's list, by their ids.
    pub servos: Places<ServoId>,
    /// Where joints stand in the rig's list, by their ids.
    pub joints: Places<JointId>,
    /// Where links stand in the rig's list, by their ids.
    pub links: Places<LinkId>,
    /// Where inputs stand in the rig's list, by their ids.
    pub inputs: Places<InputId>,
    /// Where mappings stand in the rig's list, by their ids.
    pub mappings: Places<MappingId>,
    /// Where poses stand in the rig's list, by their ids.
    pub poses: Places<PoseId>,
    /// Where sequences stand in the rig's list, by their ids.
    pub sequences: Places<SequenceId>,
    /// By a servo's name, the place of the joint that it turns.
    turned: HashMap<Box<str>, usize>,
    /// By the name that poses use, the places of the mappings that move it.
    mapped: HashMap<Box<str>, Vec<usize>>,
}

impl Index {
    /// The places in a rig.
    pub fn of(rig: &Rig) -> Self {
        let mut turned = HashMap::new();
        for (place, joint) in rig.joints.iter().enumerate() {
            for servo in joint.servos() {
                turned.entry(servo.into()).or_insert(place);
            }
        }
        let poses = Places::of(&rig.poses);
        let mut mapped: HashMap<Box<str>, Vec<usize>> = HashMap::new();
        for (place, mapping) in rig.mappings.iter().enumerate() {
            let find = |pose: &str| rig.poses.get(poses.named(pose)?);
            for name in super::mapping::moved(mapping, find) {
                mapped.entry(name.into()).or_default().push(place);
            }
        }
        Self {
            rails: Places::of(&rig.rails),
            ports: Places::of(&rig.ports),
            boards: Places::of(&rig.boards),
            servos: Places::of(&rig.servos),
            joints: Places::of(&rig.joints),
            links: Places::of(&rig.links),
            inputs: Places::of(&rig.inputs),
            mappings: Places::of(&rig.mappings),
            poses,
            sequences: Places::of(&rig.sequences),
            turned,
            mapped,
        }
    }
}

/// A rig with the places of its parts: what searches a list there is a look into a map here.
#[derive(Debug, Clone, Copy)]
pub struct Parts<'r> {
    /// The rig that it is about.
    pub rig: &'r Rig,
    /// Where its parts stand.
    pub index: &'r Index,
}

impl Deref for Parts<'_> {
    type Target = Rig;

    fn deref(&self) -> &Rig {
        self.rig
    }
}

impl<'r> Parts<'r> {
    /// The servo of that name.
    pub fn servo(self, name: &str) -> Option<&'r Servo> {
        self.rig.servos.get(self.index.servos.named(name)?)
    }

    /// The board of that name.
    pub fn board(self, name: &str) -> Option<&'r Board> {
        self.rig.boards.get(self.index.boards.named(name)?)
    }

    /// The port of that name.
    pub fn port(self, name: &str) -> Option<&'r Port> {
        self.rig.ports.get(self.index.ports.named(name)?)
    }

    /// The power supply of that name.
    pub fn rail(self, name: &str) -> Option<&'r Rail> {
        self.rig.rails.get(self.index.rails.named(name)?)
    }

    /// The input of that name.
    pub fn input(self, name: &str) -> Option<&'r Input> {
        self.rig.inputs.get(self.index.inputs.named(name)?)
    }

    /// The joint of that name.
    pub fn joint(self, name: &str) -> Option<&'r Joint> {
        self.rig.joints.get(self.index.joints.named(name)?)
    }

    /// The pose of that name.
    pub fn pose(self, name: &str) -> Option<&'r Pose> {
        self.rig.poses.get(self.index.poses.named(name)?)
    }

    /// The sequence of that name.
    pub fn sequence(self, name: &str) -> Option<&'r Sequence> {
        self.rig.sequences.get(self.index.sequences.named(name)?)
    }

    /// The joint a servo turns, alone or with others.
    pub fn joint_of(self, servo: &str) -> Option<&'r Joint> {
        self.rig.joints.get(*self.index.turned.get(servo)?)
    }

    /// The places of the mappings that move something, by the name that poses use.
    pub fn mapping_places(self, name: &str) -> &'r [usize] {
        self.index.mapped.get(name).map_or(&[], Vec::as_slice)
    }

    /// What a mapping moves, as [`Rig::moved_by`] says.
    pub fn moved_by(self, mapping: &'r Mapping) -> Vec<&'r str> {
        super::mapping::moved(mapping, |pose| self.pose(pose))
    }

    /// The mapping of that name.
    pub fn mapping(self, name: &str) -> Option<&'r Mapping> {
        self.rig.mappings.get(self.index.mappings.named(name)?)
    }

    /// What is between a servo's shaft and its joint, as [`Rig::through`] says.
    pub fn through(self, servo: &Servo) -> Transmission {
        through_of(servo, self.joint_of(&servo.name))
    }

    /// From pulse to the angle of a servo's joint, where there is a fit.
    pub fn scale_of(self, servo: &Servo) -> Option<Scale> {
        Some(Scale::of(servo.fit().ok()?.from_side(servo.arrive), self.through(servo)))
    }

    /// The greatest speed of a servo's joint, as [`Rig::speed_of`] says.
    pub fn speed_of(self, servo: &Servo) -> Option<DegreesPerSecond> {
        let joint = self.joint_of(&servo.name);
        speed_of(servo, joint, |name| self.servo(name))
    }

    /// The name by which poses and steps speak of a servo, as [`Rig::spoken_name`] says.
    pub fn spoken_name(self, servo: &'r Servo) -> Option<&'r str> {
        spoken_name(servo, self.joint_of(&servo.name))
    }
}
