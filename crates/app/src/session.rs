//! A rig being worked on: the document and what runs it, kept in step.

use crate::document::{Document, NotSaved};
use crate::files::output::Outputs;
use crate::hardware::Surroundings;
use crate::recovery::Offer;
use crate::runner::Runner;
use std::path::Path;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::edit::{Edited, Refused};
use wasvolta_sim::practice::Deal;

/// See the module. Every change of the document goes through here, for what runs must follow it.
pub struct Session {
    /// The rig with its undo, its file and its copy.
    pub document: Document,
    /// The engine with its hardware.
    pub runner: Runner,
    /// What was dealt, where somebody practises.
    pub practice: Option<Deal>,
}

impl Session {
    /// Opens a rig and starts its engine.
    ///
    /// # Errors
    /// When the rig cannot be used, or another program has it.
    pub fn open(path: &Path, around: &Surroundings, outputs: &Outputs) -> miette::Result<Self> {
        let document = Document::open(path, outputs)?;
        let runner = Runner::start(path, &document.rig, around, outputs)?;
        Ok(Self { document, runner, practice: None })
    }

    /// Makes an edit; `what` is said at undo.
    ///
    /// # Errors
    /// When the edit is refused; nothing has changed then.
    pub fn edit(&mut self, what: &str, edit: impl FnOnce(&Rig) -> Edited) -> Result<(), Refused> {
        self.edit_on(what, false, edit)
    }

    /// Makes an edit that may go on with the last one: then both are undone at once.
    ///
    /// # Errors
    /// When the edit is refused; nothing has changed then.
    pub fn edit_on(
        &mut self,
        what: &str,
        goes_on: bool,
        edit: impl FnOnce(&Rig) -> Edited,
    ) -> Result<(), Refused> {
        if self.document.edit(what, goes_on, edit)? {
            self.follow();
        }
        Ok(())
    }

    /// Takes the last edit back; gives what it was.
    pub fn undo(&mut self) -> Option<String> {
        let what = self.document.undo()?;
        self.follow();
        Some(what)
    }

    /// Makes the edit again that was taken back last; gives what it was.
    pub fn redo(&mut self) -> Option<String> {
        let what = self.document.redo()?;
        self.follow();
        Some(what)
    }

    /// Takes the edits of an earlier run back, as one edit that can be undone.
    pub fn recover(&mut self, offer: Offer) {
        self.document.recover(offer);
        self.follow();
    }

    /// Reads the file again, as one edit; the rig as it was can be had back by undo.
    ///
    /// # Errors
    /// When it cannot be used; the rig here stays.
    pub fn read_again(&mut self) -> Result<(), NotSaved> {
        self.document.read_again()?;
        self.follow();
        Ok(())
    }

    /// Writes the rig.
    ///
    /// # Errors
    /// When the disk refuses, or another program changed the file; a second try then overwrites it.
    pub fn save(&mut self) -> Result<(), NotSaved> {
        self.document.save()?;
        self.runner.hold_anew(self.document.path());
        Ok(())
    }

    fn follow(&mut self) {
        self.runner.adopt(&self.document.rig);
    }
}

#[cfg(test)]
pub mod tests {
    use wasvolta_core::rig::Rig;
    use wasvolta_core::rig::file::{Loaded, load};

    /// Two servos on one board, for tests of what is said of them.
    pub fn small() -> Rig {
        match load(include_str!("../../core/tests/data/small.rig.toml")) {
            Loaded::Sound(rig) => *rig,
            other => panic!("{other:?}"),
        }
    }
}
