//! A rig as a document: its file, the edits with their undo, saving, and the copy that outlives the program.
//!
//! It knows nothing of devices: whoever runs the rig is given each state of it in turn.

use crate::files;
use crate::files::output::{Outputs, Replace};
use crate::recovery::{self, Keeper, Left, Offer};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::edit::{Edited, Refused};
use wasvolta_core::rig::file::Source;

const MOST_UNDO: usize = 500;

/// One remembered state, with the words for what led away from it.
struct Past {
    rig: Arc<Rig>,
    what: String,
}

/// See the module.
pub struct Document {
    /// The rig as edited.
    pub rig: Arc<Rig>,
    /// What is written beside the rig.
    pub outputs: Outputs,
    path: PathBuf,
    source: Arc<Source>,
    /// The rig is another than the file says. Looked at once an edit: a whole rig is much to compare.
    edited: bool,
    written: Stamp,
    /// Another program has written the rig's file since it was read.
    changed_outside: bool,
    /// A save was refused for that: the next one overwrites.
    warned: bool,
    recovery: Option<Keeper>,
    past: Vec<Past>,
    future: Vec<Past>,
}

/// Why a rig was not saved. The edits stay.
#[derive(Debug, thiserror::Error)]
pub enum NotSaved {
    /// The disk says no.
    #[error("{0}; your edits stay here, free the disk or its permissions and save again")]
    Disk(#[from] files::Unwritten),
    /// Someone else wrote it.
    #[error(
        "{0} was changed by another program: save again to overwrite it, or read it again by the palette"
    )]
    Changed(String),
    /// It cannot be read again.
    #[error("{0}; the rig here stays as it is")]
    Unread(#[from] files::BadFile),
    /// It has no form in TOML.
    #[error("{0}")]
    Form(#[from] wasvolta_core::rig::file::Unwritable),
}

impl Document {
    /// Opens a rig's file.
    ///
    /// # Errors
    /// When it cannot be used.
    pub fn open(path: &Path, outputs: &Outputs) -> miette::Result<Self> {
        if path == Path::new("-") {
            return Err(miette::miette!("standard input has no file to work on: give the rig's path"));
        }
        // What is written while it is being read is noticed later.
        let written = stamp(path);
        let source = files::open(path)?;
        outputs.reads(path);
        Ok(Self {
            rig: Arc::new(source.rig().clone()),
            outputs: outputs.clone(),
            path: path.to_owned(),
            source: Arc::new(source),
            edited: false,
            written,
            changed_outside: false,
            warned: false,
            recovery: None,
            past: Vec::new(),
            future: Vec::new(),
        })
    }

    /// Keeps edits in the state folder from now on, so that they outlive the program. Gives what an earlier
    /// run has left there.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn keep_edits(&mut self, state: &Path) -> std::io::Result<Left> {
        let left = recovery::look(state, &self.path, &self.source);
        self.recovery = Some(Keeper::start(state, &self.path, &self.outputs)?);
        Ok(left)
    }

    /// What is unsaved is not wanted: an end without saving.
    pub fn discard(&mut self) {
        if let Some(recovery) = &self.recovery {
            recovery.settled();
        }
    }

    /// Writes what is known of a servo on a card beside the rig; gives its file's name. No card is overwritten.
    ///
    /// # Errors
    /// When there is no such servo, or the disk refuses.
    pub fn keep_card(&self, servo: &str) -> Result<String, String> {
        let part = self.rig.servo(servo).ok_or_else(|| format!("no servo is called {servo:?}"))?;
        let date = crate::date::today().to_string();
        let text = Card::of(&self.rig, part, &date).text().map_err(|error| error.to_string())?;
        let names = std::iter::once(format!("{servo}-{date}.servo.toml"))
            .chain((2..).map(|n| format!("{servo}-{date}-{n}.servo.toml")));
        let mut free = names.filter(|name| !self.path.with_file_name(name).exists());
        let name = free.next().unwrap_or_default();
        let path = self.path.with_file_name(&name);
        let path = self.outputs.write(&path, text.as_bytes(), Replace::AsTold);
        path.map(|path| path.display().to_string()).map_err(|error| error.to_string())
    }

    /// The cards beside the rig, by their files' names.
    pub fn cards(&self) -> Vec<String> {
        let folder = self.path.parent().map(std::fs::read_dir).and_then(Result::ok);
        let names =
            folder.into_iter().flatten().flatten().filter_map(|entry| entry.file_name().into_string().ok());
        let mut cards: Vec<String> = names.filter(|name| name.ends_with(".servo.toml")).collect();
        cards.sort_unstable();
        cards
    }

    /// Where the rig is kept.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether the file is another than a save would write: for edits, or because it is of an older format.
    pub fn is_unsaved(&self) -> bool {
        self.edited || self.source.older_format().is_some()
    }

    /// Whether there are edits that the file does not have.
    pub const fn is_edited(&self) -> bool {
        self.edited
    }

    /// The format of the file, where it is an older one: it is raised by the next save.
    pub fn older_format(&self) -> Option<u32> {
        self.source.older_format()
    }

    /// Makes an edit; `what` is said at undo. One that goes on with the last is undone with it. Gives whether it changed
    /// anything: what did not is nothing that `u` could take back.
    ///
    /// # Errors
    /// When the edit is refused; nothing has changed then.
    pub fn edit(
        &mut self,
        what: &str,
        goes_on: bool,
        edit: impl FnOnce(&Rig) -> Edited,
    ) -> Result<bool, Refused> {
        let next = Arc::new(edit(&self.rig)?);
        if next == self.rig {
            return Ok(false);
        }
        match self.past.last_mut().filter(|_| goes_on) {
            Some(past) => {
                what.clone_into(&mut past.what);
                self.future.clear();
            }
            None => {
                tracing::info!("edit: {what}");
                self.remember(what);
            }
        }
        self.adopt(next);
        Ok(true)
    }

    /// Puts a rig from a file in the place of this one, as one edit.
    fn replace(&mut self, what: &str, rig: Rig) {
        let rig = Arc::new(rig.with_ids_of(&self.rig));
        self.remember(what);
        self.adopt(rig);
    }

    fn remember(&mut self, what: &str) {
        if self.past.len() == MOST_UNDO {
            self.past.remove(0);
        }
        self.past.push(Past { rig: Arc::clone(&self.rig), what: what.to_owned() });
        self.future.clear();
    }

    /// Takes the last edit back; gives what it was.
    pub fn undo(&mut self) -> Option<String> {
        let past = self.past.pop()?;
        self.future.push(Past { rig: Arc::clone(&self.rig), what: past.what.clone() });
        self.adopt(past.rig);
        Some(past.what)
    }

    /// Makes the edit again that was taken back last; gives what it was.
    pub fn redo(&mut self) -> Option<String> {
        let next = self.future.pop()?;
        self.past.push(Past { rig: Arc::clone(&self.rig), what: next.what.clone() });
        self.adopt(next.rig);
        Some(next.what)
    }

    fn adopt(&mut self, rig: Arc<Rig>) {
        self.rig = rig;
        self.edited = *self.rig != *self.source.rig();
        self.keep_copy();
    }

    /// Whether there is something to undo, and something to redo.
    pub const fn can_undo_redo(&self) -> (bool, bool) {
        (!self.past.is_empty(), !self.future.is_empty())
    }

    fn keep_copy(&self) {
        match &self.recovery {
            Some(recovery) if self.edited => recovery.edited(&self.rig, &self.source),
            Some(recovery) => recovery.settled(),
            None => {}
        }
    }

    /// Writes the rig.
    ///
    /// # Errors
    /// When the disk refuses, or another program changed the file; a second try then overwrites it.
    pub fn save(&mut self) -> Result<(), NotSaved> {
        if self.look_at_file() && !std::mem::replace(&mut self.warned, true) {
            return Err(NotSaved::Changed(self.path.display().to_string()));
        }
        let next = self.source.with(&self.rig)?;
        files::write(&self.path, next.text())?;
        self.source = Arc::new(next);
        self.edited = false;
        self.written = stamp(&self.path);
        self.changed_outside = false;
        self.keep_copy();
        Ok(())
    }

    /// Looks whether another program has written the rig's file. Cheap while it has not.
    pub fn look_at_file(&mut self) -> bool {
        let now = stamp(&self.path);
        if now != self.written {
            self.written = now;
            // What is no rig's file any more has changed as well.
            let text = files::input::text(&self.path, files::input::What::Rig);
            self.changed_outside = text.map_or(self.path.exists(), |text| text != self.source.disk());
            self.warned = false;
        }
        self.changed_outside
    }

    /// Whether that look has found a file that another program has written.
    pub const fn is_changed_outside(&self) -> bool {
        self.changed_outside
    }

    /// Reads the file again, as one edit; the rig as it was can be had back by undo.
    ///
    /// # Errors
    /// When it cannot be used; the rig here stays.
    pub fn read_again(&mut self) -> Result<(), NotSaved> {
        let source = files::open(&self.path)?;
        let rig = source.rig().clone().with_ids_of(&self.rig);
        self.source = Arc::new(source.saying(rig.clone()));
        self.written = stamp(&self.path);
        self.changed_outside = false;
        self.replace("read again from the file", rig);
        Ok(())
    }

    /// Takes the edits of an earlier run back, as one edit that can be undone.
    pub fn recover(&mut self, offer: Offer) {
        self.replace("taken back from the earlier run", offer.rig);
    }
}

/// What tells a file from the same file written anew: when it was written, and its length.
type Stamp = Option<(SystemTime, u64)>;

fn stamp(path: &Path) -> Stamp {
    let found = std::fs::metadata(path).ok()?;
    Some((found.modified().ok()?, found.len()))
}
