//! What a part of a rig keeps while its name and its place in a list change.
//!
//! Ids are never written in a file: reading numbers the parts, an edit numbers what is new, and no number is given twice
//! while a rig is being worked on. Commands, events, snapshots and dialogs speak of parts by their ids.

use super::{Board, Input, Joint, Layout, Link, Mapping, NamedScale, Port, Pose, Rail, Rig, Sequence, Servo};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use std::fmt::Debug;
use std::hash::Hash;

/// A number for a part that has none yet.
const NONE: u32 = u32::MAX;

/// The id of one kind of part.
pub trait PartId: Copy + Debug + Eq + Hash + Default {
    /// The id of a number.
    fn of(number: u32) -> Self;
    /// The number in it: counted up as parts are made, never used twice.
    fn number(self) -> u32;
}

macro_rules! ids {
    ($($(#[$doc:meta])+ $id:ident of $part:ident in $list:ident, $what:literal;)+) => {
        $(
            $(#[$doc])+
            #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
            #[serde(transparent)]
            pub struct $id(u32);

            impl Default for $id {
                /// Of no part: an edit gives it a number.
                fn default() -> Self {
                    Self(NONE)
                }
            }

            impl PartId for $id {
                fn of(number: u32) -> Self {
                    Self(number)
                }

                fn number(self) -> u32 {
                    self.0
                }
            }

            impl Part for $part {
                type Id = $id;
                const WHAT: &'static str = $what;

                fn id(&self) -> $id {
                    self.id
                }

                fn name(&self) -> &str {
                    &self.name
                }

                fn list(rig: &Rig) -> &[Self] {
                    &rig.$list
                }

                fn numbered(&mut self, number: u32) {
                    self.id = $id(number);
                }
            }
        )+

        impl Rig {
            /// Gives an id to every part that has none, or that has another one's: it is a copy of that.
            pub fn number_parts(&mut self) {
                let Self { ids, $($list,)+ .. } = self;
                $(ids.number($list);)+
            }

            /// The rig, read anew, with the ids that parts of the same name had before; others get ids of their own.
            #[must_use]
            pub fn with_ids_of(mut self, before: &Self) -> Self {
                self.ids = before.ids;
                $(keep(&mut self.$list, &before.$list);)+
                self.number_parts();
                self
            }
        }
    };
}

/// A part that has a name.
pub trait Part: Sized {
    /// Its kind of id.
    type Id: PartId;
    /// What it is, in a word.
    const WHAT: &'static str;
    /// The id by which everything in the program knows it; it never changes.
    fn id(&self) -> Self::Id;
    /// The name by which people speak of it.
    fn name(&self) -> &str;
    /// All of its kind, in rig order.
    fn list(rig: &Rig) -> &[Self];
    /// Takes a number.
    fn numbered(&mut self, number: u32);
}

ids! {
    /// A power supply's id.
    RailId of Rail in rails, "rail";
    /// A port's id.
    PortId of Port in ports, "port";
    /// A board's id.
    BoardId of Board in boards, "board";
    /// A register layout's id.
    LayoutId of Layout in layouts, "layout";
    /// A scale's id.
    ScaleId of NamedScale in scales, "scale";
    /// A servo's id, or that of what else hangs on a channel.
    ServoId of Servo in servos, "servo";
    /// A joint's id.
    JointId of Joint in joints, "joint";
    /// A link's id.
    LinkId of Link in links, "link";
    /// An input's id.
    InputId of Input in inputs, "input";
    /// A mapping's id.
    MappingId of Mapping in mappings, "mapping";
    /// A pose's id.
    PoseId of Pose in poses, "pose";
    /// A sequence's id.
    SequenceId of Sequence in sequences, "sequence";
}

/// The ids of the parts that commands speak of, in rig order: what a recording keeps beside a rig.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct PartNumbers {
    /// The ids of servos, in the rig's order.
    pub servos: Vec<ServoId>,
    /// The ids of links, in the rig's order.
    pub links: Vec<LinkId>,
    /// The ids of inputs, in the rig's order.
    pub inputs: Vec<InputId>,
    /// The ids of sequences, in the rig's order.
    pub sequences: Vec<SequenceId>,
    /// Of mappings; an older recording has none.
    #[serde(default)]
    pub mappings: Vec<MappingId>,
}

impl Rig {
    /// Its parts' ids.
    pub fn part_numbers(&self) -> PartNumbers {
        PartNumbers {
            servos: self.servos.iter().map(|part| part.id).collect(),
            links: self.links.iter().map(|part| part.id).collect(),
            inputs: self.inputs.iter().map(|part| part.id).collect(),
            sequences: self.sequences.iter().map(|part| part.id).collect(),
            mappings: self.mappings.iter().map(|part| part.id).collect(),
        }
    }

    /// The rig, read anew, with ids that were kept beside it; parts without one get their own.
    #[must_use]
    pub fn with_part_numbers(mut self, numbers: &PartNumbers) -> Self {
        self.servos.iter_mut().zip(&numbers.servos).for_each(|(part, id)| part.id = *id);
        self.links.iter_mut().zip(&numbers.links).for_each(|(part, id)| part.id = *id);
        self.inputs.iter_mut().zip(&numbers.inputs).for_each(|(part, id)| part.id = *id);
        self.sequences.iter_mut().zip(&numbers.sequences).for_each(|(part, id)| part.id = *id);
        self.mappings.iter_mut().zip(&numbers.mappings).for_each(|(part, id)| part.id = *id);
        self.number_parts();
        self
    }
}

/// The number that the next part gets. It is no part of what a rig says: rigs that differ in it only are equal.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ids(u32);

impl PartialEq for Ids {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Ids {
    fn number<P: Part>(&mut self, parts: &mut [P]) {
        let mut seen = HashSet::with_capacity(parts.len());
        for part in parts {
            let number = part.id().number();
            if number == NONE || !seen.insert(number) {
                part.numbered(self.0);
                seen.insert(self.0);
                self.0 += 1;
            }
            self.0 = self.0.max(part.id().number() + 1);
        }
    }
}

fn keep<P: Part>(parts: &mut [P], before: &[P]) {
    let known: std::collections::HashMap<&str, u32> =
        before.iter().map(|part| (part.name(), part.id().number())).collect();
    for part in parts {
        let number = known.get(part.name()).copied().unwrap_or(NONE);
        part.numbered(number);
    }
}
