//! Which servos of the roster are picked beside the picked one.

use wasvolta_core::rig::ServoId;

/// See the module.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Also {
    anchor: Option<ServoId>,
    servos: Vec<ServoId>,
}

impl Also {
    /// These; `anchor` is the one from which picking with Shift goes on.
    pub const fn of(anchor: Option<ServoId>, servos: Vec<ServoId>) -> Self {
        Self { anchor, servos }
    }

    /// Only one is picked again.
    pub fn clear(&mut self) {
        *self = Self::default();
    }

    /// Where picking with Shift began, where it did.
    pub const fn anchor(&self) -> Option<ServoId> {
        self.anchor
    }

    /// Whether only one is picked.
    pub const fn is_empty(&self) -> bool {
        self.servos.is_empty()
    }

    /// Whether this one is picked too.
    pub fn has(&self, servo: ServoId) -> bool {
        self.servos.contains(&servo)
    }
}
