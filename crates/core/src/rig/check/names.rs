//! What names in a rig speak of, looked up once a check.

use crate::rig::{PortKind, Protocol, Rig};
use std::collections::HashMap;

/// The names of one list of a rig, each with the place where it stands first.
#[derive(Default)]
pub(super) struct Listed<'r> {
    pub(super) what: &'static str,
    pub(super) places: HashMap<&'r str, usize>,
    /// In order, as they are offered.
    pub(super) listed: Vec<&'r str>,
}

impl<'r> Listed<'r> {
    fn of(what: &'static str, names: impl Iterator<Item = &'r str>) -> Self {
        let listed: Vec<&str> = names.collect();
        let mut places = HashMap::with_capacity(listed.len());
        for (n, name) in listed.iter().enumerate() {
            places.entry(*name).or_insert(n);
        }
        Self { what, places, listed }
    }

    /// The first of them: nobody reads a thousand.
    pub(super) fn offered(&self) -> String {
        const SHOWN: usize = 12;
        let first = self.listed.iter().take(SHOWN).copied().collect::<Vec<_>>().join(", ");
        match self.listed.len() {
            0..=SHOWN => first,
            all => format!("{first} and {} more", all - SHOWN),
        }
    }
}

/// Everything that names speak of, looked up once a check.
pub(super) struct Names<'r> {
    pub(super) rails: Listed<'r>,
    pub(super) ports: HashMap<PortKind, Listed<'r>>,
    /// Ports that a link may stand on.
    pub(super) ways_in: Listed<'r>,
    pub(super) links: Listed<'r>,
    pub(super) boards: Listed<'r>,
    pub(super) servos: Listed<'r>,
    pub(super) joints: Listed<'r>,
    pub(super) inputs: Listed<'r>,
    pub(super) poses: Listed<'r>,
    pub(super) sequences: Listed<'r>,
    /// Parts that have a level.
    pub(super) levels: Listed<'r>,
    /// What steps of a sequence speak of.
    pub(super) spoken: Listed<'r>,
}

impl<'r> Names<'r> {
    pub(super) fn of(rig: &'r Rig) -> Self {
        let ports = |kind| {
            let of_kind = rig.ports.iter().filter(move |port| port.kind == kind);
            (kind, Listed::of("port", of_kind.map(|port| port.name.as_str())))
        };
        let firsts = rig.joints.iter().map(|joint| (joint.servo.as_str(), joint.name.as_str()));
        let firsts: HashMap<&str, &str> = firsts.collect();
        let spoken = rig.servos.iter().filter_map(|servo| {
            if servo.kind.has_angles() { firsts.get(servo.name.as_str()).copied() } else { Some(&servo.name) }
        });
        let levels = rig.servos.iter().filter(|servo| servo.kind.levels().is_some());
        Self {
            rails: Listed::of("rail", rig.rails.iter().map(|rail| rail.name.as_str())),
            ports: PortKind::ALL.map(ports).into(),
            ways_in: Listed::of("port", ways_in(rig)),
            links: Listed::of("link", rig.links.iter().map(|link| link.name.as_str())),
            boards: Listed::of("board", rig.boards.iter().map(|board| board.name.as_str())),
            servos: Listed::of("servo", rig.servos.iter().map(|servo| servo.name.as_str())),
            joints: Listed::of("joint", rig.joints.iter().map(|joint| joint.name.as_str())),
            inputs: Listed::of("input", rig.inputs.iter().map(|input| input.name.as_str())),
            poses: Listed::of("pose", rig.poses.iter().map(|pose| pose.name.as_str())),
            sequences: Listed::of("sequence", rig.sequences.iter().map(|sequence| sequence.name.as_str())),
            levels: Listed::of("part with a level", levels.map(|servo| servo.name.as_str())),
            spoken: Listed::of("joint", spoken),
        }
    }
}

/// Ports that a link may stand on, and boards.
fn ways_in(rig: &Rig) -> impl Iterator<Item = &str> {
    let ports = rig.ports.iter().filter(|port| may_have_links(port.kind)).map(|port| port.name.as_str());
    let boards = rig.boards.iter().filter(|board| board.chip.row().reports.is_some());
    ports.chain(boards.map(|board| board.name.as_str()))
}

fn may_have_links(kind: PortKind) -> bool {
    Protocol::on(kind).next().is_some()
}
