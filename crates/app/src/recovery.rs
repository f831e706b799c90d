//! Edits that outlive the program: a full copy of the rig in the state folder, at most two seconds behind.
//!
//! A thread writes it, the newest edit replacing those that wait; once the rig's own file has everything, the
//! copy goes. The next start offers what it finds as a list of changed lines.

use crate::date::{ago, now};
use crate::files;
use crate::files::input::{self, What};
use crate::files::output::Outputs;
use crate::holder::{self, Held};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use similar::{ChangeTag, TextDiff};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::Source;

/// How long the first of some edits may wait for others before all are written.
const GATHER: Duration = Duration::from_millis(250);
/// The form of the copy.
const FORMAT: u32 = 1;

/// The copy as it stands on the disk.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Stored {
    recovery: u32,
    origin: String,
    /// The hash of the file that the edits grew from.
    origin_sha256: String,
    /// Seconds since 1970.
    at_s: u64,
    /// The hash of `text`: a copy that was damaged is not offered.
    text_sha256: String,
    text: String,
}

/// Where the copy of a rig stands.
pub fn place(state: &Path, rig: &Path) -> PathBuf {
    let full = crate::holder::file_name(rig);
    let name = rig.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    state.join("recovery").join(format!("{name}-{}.toml", &hash(&full)[..12]))
}

/// A rig's file is about to be written anew, and edits of an earlier run are to be forgotten.
///
/// # Errors
/// When another program works on it: that must not be written over.
pub fn forget(state: &Path, rig: &Path) -> Result<(), Held> {
    drop(holder::hold(rig)?);
    // Most often there are none.
    let _ = std::fs::remove_file(place(state, rig));
    Ok(())
}

fn hash(text: &str) -> String {
    let digest = Sha256::digest(text.as_bytes());
    digest
        .iter()
        .flat_map(|byte| [byte >> 4, byte & 15])
        .filter_map(|n| char::from_digit(n.into(), 16))
        .collect()
}

/// What an earlier run has left.
#[derive(Debug, Clone)]
pub enum Left {
    /// Nothing that the file does not have.
    Nothing,
    Edits(Box<Offer>),
    /// A copy that cannot be read; where it was put aside.
    Damaged(PathBuf),
}

/// Edits to be taken back or left.
#[derive(Debug, Clone, PartialEq)]
pub struct Offer {
    /// The rig with them.
    pub rig: Rig,
    /// How long ago the last was made.
    pub age: Duration,
    /// The rig's file is not the one they grew from.
    pub file_changed: bool,
    /// Lines that differ from the file's: `+` in the copy only, `-` in the file only.
    pub lines: Vec<(char, String)>,
    place: PathBuf,
}

/// Looks for a copy of the rig that `source` was read from.
pub fn look(state: &Path, rig: &Path, source: &Source) -> Left {
    let place = place(state, rig);
    let Ok(text) = input::text(&place, What::Kept) else {
        return if place.exists() { set_aside(&place, "damaged") } else { Left::Nothing };
    };
    let Some((stored, recovered)) = read(&text) else { return set_aside(&place, "damaged") };
    if recovered.rig() == source.rig() {
        let _ = std::fs::remove_file(&place);
        return Left::Nothing;
    }
    // Both in the newest format: what an older one called otherwise is no change.
    let lines = changed_lines(source.text(), recovered.text());
    let age = Duration::from_secs(now().saturating_sub(stored.at_s));
    let file_changed = stored.origin_sha256 != hash(source.disk());
    Left::Edits(Box::new(Offer { rig: recovered.rig().clone(), age, file_changed, lines, place }))
}

/// A copy that is whole and a sound rig.
fn read(text: &str) -> Option<(Stored, Source)> {
    let stored: Stored = toml_edit::de::from_str(text).ok()?;
    let whole = stored.recovery == FORMAT && stored.text_sha256 == hash(&stored.text);
    let source = Source::read(stored.text.clone()).ok()?;
    whole.then_some((stored, source))
}

fn set_aside(place: &Path, word: &str) -> Left {
    Left::Damaged(aside(place, word))
}

/// Renames a copy so that no later one replaces it; gives where it is.
fn aside(place: &Path, word: &str) -> PathBuf {
    let to = place.with_extension(format!("{word}-{}.toml", now()));
    match std::fs::rename(place, &to) {
        Ok(()) => to,
        Err(_) => place.to_owned(),
    }
}

fn changed_lines(file: &str, copy: &str) -> Vec<(char, String)> {
    let diff = TextDiff::from_lines(file, copy);
    diff.iter_all_changes()
        .filter_map(|change| {
            let sign = match change.tag() {
                ChangeTag::Equal => return None,
                ChangeTag::Delete => '-',
                ChangeTag::Insert => '+',
            };
            Some((sign, change.value().trim_end().to_owned()))
        })
        .filter(|(_, line)| !line.is_empty())
        .collect()
}

impl Offer {
    /// What it is, in a sentence.
    pub fn words(&self) -> String {
        let lines = self.lines.len();
        let changed =
            if self.file_changed { " The file was changed by another program since then." } else { "" };
        format!(
            "An earlier run ended without saving: {lines} line{} differ, last edit {}.{changed}",
            if lines == 1 { "" } else { "s" },
            ago(self.age)
        )
    }

    /// Leaves the edits; they are kept aside, and no later copy replaces them. Gives where.
    pub fn refuse(&self) -> PathBuf {
        aside(&self.place, "left")
    }
}

enum Note {
    Edited { rig: Arc<Rig>, source: Arc<Source> },
    Settled,
}

/// Keeps the copy up to date. Dropping it writes what still waits.
pub struct Keeper {
    notes: Option<Sender<Note>>,
    thread: Option<JoinHandle<()>>,
}

impl Keeper {
    /// Starts the thread that writes. Nothing is written before the first edit.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start(state: &Path, rig: &Path, outputs: &Outputs) -> std::io::Result<Self> {
        let (notes, from_session) = channel();
        let origin = crate::holder::file_name(rig);
        let writer = Writer { place: place(state, rig), origin, outputs: outputs.clone() };
        let thread = std::thread::Builder::new()
            .name("recovery".to_owned())
            .spawn(move || writer.run(&from_session))?;
        Ok(Self { notes: Some(notes), thread: Some(thread) })
    }

    /// The rig differs from its file.
    pub fn edited(&self, rig: &Arc<Rig>, source: &Arc<Source>) {
        self.tell(Note::Edited { rig: Arc::clone(rig), source: Arc::clone(source) });
    }

    /// The file has everything, or what it has not is not wanted: the copy goes.
    pub fn settled(&self) {
        self.tell(Note::Settled);
    }

    fn tell(&self, note: Note) {
        if let Some(notes) = &self.notes {
            // The thread ends only when the sender does.
            let _ = notes.send(note);
        }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.notes = None;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

struct Writer {
    place: PathBuf,
    origin: String,
    outputs: Outputs,
}

impl Writer {
    fn run(&self, notes: &Receiver<Note>) {
        while let Ok(first) = notes.recv() {
            let (newest, over) = newest_within(notes, first, GATHER);
            self.carry_out(&newest);
            if over {
                return;
            }
        }
    }

    /// A full disk costs the copy, never the edits: the screen still has them, and says that they have no copy.
    fn carry_out(&self, note: &Note) {
        match note {
            Note::Settled => {
                let _ = std::fs::remove_file(&self.place);
            }
            Note::Edited { rig, source } => {
                let Ok(next) = source.with(rig) else { return };
                let stored = Stored {
                    recovery: FORMAT,
                    origin: self.origin.clone(),
                    origin_sha256: hash(source.disk()),
                    at_s: now(),
                    text_sha256: hash(next.text()),
                    text: next.text().to_owned(),
                };
                let written = match toml_edit::ser::to_string_pretty(&stored) {
                    Ok(text) => files::write(&self.place, text).map_err(|error| error.to_string()),
                    Err(error) => Err(error.to_string()),
                };
                if let Err(why) = written {
                    self.outputs.trouble(format!("your edits have no copy ({why}): save them"));
                }
            }
        }
    }
}

/// The newest of what comes within a time; whether no more will come. What settles is not waited with.
fn newest_within(notes: &Receiver<Note>, first: Note, most: Duration) -> (Note, bool) {
    let start = Instant::now();
    let mut newest = first;
    loop {
        if matches!(newest, Note::Settled) {
            return (newest, false);
        }
        match notes.recv_timeout(most.saturating_sub(start.elapsed())) {
            Ok(note) => newest = note,
            Err(RecvTimeoutError::Timeout) => return (newest, false),
            Err(RecvTimeoutError::Disconnected) => return (newest, true),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_core::rig::edit;

    const TEXT: &str = include_str!("../../../examples/marsh-clock.rig.toml");

    fn source() -> Source {
        Source::read(TEXT.to_owned()).unwrap()
    }

    fn edited() -> Rig {
        edit::roster::add_servo(
            source().rig(),
            "heron.tail",
            ("upper", 9),
            wasvolta_core::rig::Kind::Positional,
        )
        .unwrap()
    }

    fn left(state: &Path) -> Left {
        look(state, Path::new("marsh-clock.rig.toml"), &source())
    }

    fn keep(state: &Path, edit: bool) -> PathBuf {
        let rig = Path::new("marsh-clock.rig.toml");
        let keeper = Keeper::start(state, rig, &Outputs::default()).unwrap();
        if edit {
            keeper.edited(&Arc::new(edited()), &Arc::new(source()));
        } else {
            keeper.settled();
        }
        drop(keeper);
        place(state, rig)
    }

    #[test]
    fn what_was_edited_is_offered_as_changed_lines() {
        let state = tempfile::tempdir().unwrap();
        assert!(matches!(left(state.path()), Left::Nothing));
        keep(state.path(), true);
        let Left::Edits(offer) = left(state.path()) else { panic!() };
        assert_eq!(offer.rig.clone().with_ids_of(&edited()), edited());
        assert!(!offer.file_changed);
        assert!(offer.lines.contains(&('+', "name = \"heron.tail\"".to_owned())), "{:?}", offer.lines);
        assert!(offer.words().starts_with("An earlier run ended without saving: "), "{}", offer.words());
        keep(state.path(), false);
        assert!(matches!(left(state.path()), Left::Nothing), "settled");
    }

    #[test]
    fn a_copy_that_cannot_be_written_is_said_and_loses_no_edit() {
        let state = tempfile::tempdir().unwrap();
        // No folder can be where a file is: as little as on a full disk.
        std::fs::write(state.path().join("recovery"), "in the way").unwrap();
        let outputs = Outputs::default();
        let keeper = Keeper::start(state.path(), Path::new("marsh-clock.rig.toml"), &outputs).unwrap();
        keeper.edited(&Arc::new(edited()), &Arc::new(source()));
        drop(keeper);
        let words = outputs.news().unwrap();
        assert!(words.starts_with("your edits have no copy (cannot write "), "{words}");
        assert!(words.ends_with(": save them") && outputs.news().is_none(), "once");
    }

    #[test]
    fn a_copy_of_an_older_format_is_raised_like_its_file() {
        const OLD: &str = include_str!("../../core/tests/data/old/format-3.rig.toml");
        let state = tempfile::tempdir().unwrap();
        let rig = Path::new("crane.rig.toml");
        let text = OLD.replace("centre_us = 1480", "centre_us = 1490");
        let stored = Stored {
            recovery: FORMAT,
            origin: crate::holder::file_name(rig),
            origin_sha256: hash(OLD),
            at_s: now(),
            text_sha256: hash(&text),
            text,
        };
        let place = place(state.path(), rig);
        std::fs::create_dir_all(place.parent().unwrap()).unwrap();
        std::fs::write(place, toml_edit::ser::to_string_pretty(&stored).unwrap()).unwrap();
        let source = Source::read(OLD.to_owned()).unwrap();
        let Left::Edits(offer) = look(state.path(), rig, &source) else { panic!() };
        assert!(!offer.file_changed, "{}", offer.words());
        let signs: Vec<_> = offer.lines.iter().map(|(sign, line)| format!("{sign}{line}")).collect();
        let place = "# it stands still here, not in the middle";
        assert_eq!(signs, [format!("-centre_us = 1480 {place}"), format!("+centre_us = 1490 {place}")]);
        let winch = offer.rig.servo("crane.winch").unwrap();
        assert_eq!((winch.kind, winch.centre().get()), (wasvolta_core::rig::Kind::Continuous, 1490.0));
    }

    #[test]
    fn what_is_refused_is_kept_aside() {
        let state = tempfile::tempdir().unwrap();
        let place = keep(state.path(), true);
        let Left::Edits(offer) = left(state.path()) else { panic!() };
        let aside = offer.refuse();
        assert!(aside.exists() && !place.exists());
        assert!(read(&std::fs::read_to_string(aside).unwrap()).is_some());
        assert!(matches!(left(state.path()), Left::Nothing));
    }

    #[test]
    fn a_damaged_copy_is_put_aside_and_never_offered() {
        let state = tempfile::tempdir().unwrap();
        let place = keep(state.path(), true);
        let whole = std::fs::read(&place).unwrap();
        for damage in [&whole[..whole.len() / 2], b"", b"\xff\xfe", &flipped(&whole)] {
            std::fs::write(&place, damage).unwrap();
            let Left::Damaged(aside) = left(state.path()) else { panic!("{}", damage.len()) };
            assert_eq!(std::fs::read(aside).unwrap(), damage, "nothing of it is lost");
            assert!(!place.exists());
        }
    }

    /// One letter of the rig's text is another.
    fn flipped(whole: &[u8]) -> Vec<u8> {
        String::from_utf8_lossy(whole).replace("heron.tail", "heron.tall").into_bytes()
    }

    #[test]
    fn a_file_that_changed_meanwhile_is_said() {
        let state = tempfile::tempdir().unwrap();
        keep(state.path(), true);
        let text = TEXT.replace("volts = 6", "volts = 5");
        let other = Source::read(text).unwrap();
        let Left::Edits(offer) = look(state.path(), Path::new("marsh-clock.rig.toml"), &other) else {
            panic!()
        };
        assert!(offer.file_changed && offer.words().contains("changed by another program"));
    }
}
