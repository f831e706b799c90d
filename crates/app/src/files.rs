//! Files on the disk: rigs read with errors that underline their place, and writing that never leaves half a file.
//! What may be read at all is [`input`]'s to say, what may be written [`output`]'s.

pub mod input;
pub mod output;

use input::{Unread, What};
use miette::{Diagnostic, NamedSource, Report, SourceSpan};
use rustix::fs::FlockOperation;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use thiserror::Error;
use wasvolta_core::rig::Layout;
use wasvolta_core::rig::card::Card;
use wasvolta_core::rig::file::{Located, Source, Unfit};
use wasvolta_engine::record::BadRecording;
use wasvolta_sim::truth::BadTruth;

/// A rig file that could not be used.
#[derive(Debug, Error, Diagnostic)]
pub enum BadFile {
    /// It is no file that can be read.
    #[error("cannot read {path}: {why}")]
    #[diagnostic(help("{}", why.help()))]
    Unreadable { path: String, why: Unread },
    /// It is something else.
    #[error("{path} does not read as a {what}")]
    Malformed {
        path: String,
        /// What it should be.
        what: &'static str,
        /// Where and why.
        #[related]
        places: Vec<ProblemPlace>,
    },
    /// It is no recording, or not one that can be run here.
    #[error("{path} could not be replayed to its end: {why}")]
    Recording { path: String, why: BadRecording },
    /// It says nothing that a simulated bench could be like.
    #[error("{path}: {why}")]
    Bench { path: String, why: BadTruth },
    /// It reads as what it should be, with problems.
    #[error("{path} has {} to fix{}", counted(*all), more(*all, places.len()))]
    Problems {
        path: String,
        /// How many there are.
        all: usize,
        /// Where and why.
        #[related]
        places: Vec<ProblemPlace>,
    },
}

impl BadFile {
    /// The first of the places where something is wrong.
    pub fn first(&self) -> Option<&ProblemPlace> {
        match self {
            Self::Malformed { places, .. } | Self::Problems { places, .. } => places.first(),
            Self::Unreadable { .. } | Self::Recording { .. } | Self::Bench { .. } => None,
        }
    }
}

/// One place in a file.
#[derive(Debug, Error, Diagnostic)]
#[error("{message}")]
pub struct ProblemPlace {
    message: String,
    #[help]
    help: String,
    #[source_code]
    text: Arc<NamedSource<String>>,
    #[label("here")]
    span: Option<SourceSpan>,
}

/// Problems that are said one by one; of more there is only their number.
pub const SHOWN: usize = 50;

fn more(all: usize, shown: usize) -> String {
    if shown < all { format!("; here are the first {shown}") } else { String::new() }
}

fn counted(n: usize) -> String {
    if n == 1 { "one problem".to_owned() } else { format!("{n} problems") }
}

/// The longest line that is shown, in bytes: a line of a megabyte is no place that one could see.
const LONGEST_SHOWN: usize = 1000;

fn place(text: &Arc<NamedSource<String>>, located: &Located) -> ProblemPlace {
    let span = located.span.clone();
    let shown = span.clone().filter(|span| longest_around(text.inner(), span.start) <= LONGEST_SHOWN);
    let message = if shown.is_none() && span.is_some() {
        let (line, column) = located.line_column(text.inner());
        format!("line {line}, column {column}: {}", located.message)
    } else {
        located.message.clone()
    };
    ProblemPlace {
        message,
        help: located.help.clone(),
        text: Arc::clone(text),
        span: shown.map(SourceSpan::from),
    }
}

/// The longest of the lines that would be shown with a place: its own, and those beside it.
fn longest_around(text: &str, at: usize) -> usize {
    let (before, after) = text.split_at_checked(at).unwrap_or((text, ""));
    let back: Vec<usize> = before.rsplit('\n').take(2).map(str::len).collect();
    let on: Vec<usize> = after.split('\n').take(2).map(str::len).collect();
    let own = back.first().unwrap_or(&0) + on.first().unwrap_or(&0);
    own.max(back.get(1).copied().unwrap_or(0)).max(on.get(1).copied().unwrap_or(0))
}

/// Reads a text file.
///
/// # Errors
/// Says which file and why.
pub fn read(path: &Path, what: What) -> Result<String, BadFile> {
    input::text(path, what).map_err(|why| BadFile::Unreadable { path: path.display().to_string(), why })
}

/// Reads a rig and checks it.
///
/// # Errors
/// Says what is wrong, with the places underlined.
pub fn open(path: &Path) -> Result<Source, BadFile> {
    let text = read(path, What::Rig)?;
    Source::read(text.clone()).map_err(|unfit| match unfit {
        Unfit::Problems(found) => problems(path, text, &found),
        Unfit::Unreadable(located) => malformed(path, What::Rig, text, &located),
    })
}

/// Reads a servo card and checks it.
///
/// # Errors
/// Says what is wrong, with the places underlined.
pub fn card(path: &Path) -> Result<Card, BadFile> {
    let text = read(path, What::Card)?;
    Card::load(&text).map_err(|unfit| match unfit {
        Unfit::Unreadable(located) => malformed(path, What::Card, text, &located),
        Unfit::Problems(found) => problems(path, text, &found),
    })
}

/// Reads a register layout and checks it.
///
/// # Errors
/// Says what is wrong, with the places underlined.
pub fn layout(path: &Path) -> Result<Layout, BadFile> {
    let text = read(path, What::Layout)?;
    Layout::load(&text).map_err(|unfit| match unfit {
        Unfit::Unreadable(located) => malformed(path, What::Layout, text, &located),
        Unfit::Problems(found) => problems(path, text, &found),
    })
}

fn named(path: &Path, text: String) -> Arc<NamedSource<String>> {
    Arc::new(NamedSource::new(path.display().to_string(), text))
}

pub fn problems(path: &Path, text: String, found: &[Located]) -> BadFile {
    let text = named(path, text);
    let places = found.iter().take(SHOWN).map(|located| place(&text, located)).collect();
    BadFile::Problems { path: path.display().to_string(), all: found.len(), places }
}

pub fn malformed(path: &Path, what: What, text: String, located: &Located) -> BadFile {
    let places = vec![place(&named(path, text), located)];
    BadFile::Malformed { path: path.display().to_string(), what: what.word(), places }
}

/// A file that could not be written. What was there before is unharmed.
#[derive(Debug, Error)]
#[error("cannot write {path}: {why}; check the folder and its permissions, nothing was changed")]
pub struct Unwritten {
    path: String,
    why: std::io::Error,
}

impl Unwritten {
    /// It could not be written there.
    pub fn new(path: &Path, why: std::io::Error) -> Self {
        Self { path: path.display().to_string(), why }
    }
}

/// Writes beside the file, makes sure it is on the disk, and renames it into place.
///
/// # Errors
/// When the folder or the disk refuses; the old file stays.
pub fn write(path: &Path, content: impl AsRef<[u8]>) -> Result<(), Unwritten> {
    write_whole(path, content.as_ref()).map_err(|why| Unwritten { path: path.display().to_string(), why })
}

fn write_whole(path: &Path, content: &[u8]) -> std::io::Result<()> {
    // A link stays a link: what it leads to is replaced.
    let path = &path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or_else(|| Path::new("."));
    std::fs::create_dir_all(folder)?;
    let old = std::fs::metadata(path).ok();
    if let Some(kind) = old.as_ref().and_then(input::kind) {
        // Renamed over, a device or a pipe would be gone for everybody.
        return Err(std::io::Error::other(format!("it is {kind}, not a file")));
    }
    if old.as_ref().is_some_and(|old| old.permissions().readonly()) {
        return Err(std::io::Error::from(std::io::ErrorKind::PermissionDenied));
    }
    let beside = part(path);
    let written = write_part(&beside, content, old.as_ref()).and_then(|()| std::fs::rename(&beside, path));
    if written.is_err() {
        let _ = std::fs::remove_file(&beside);
    }
    written?;
    std::fs::File::open(folder)?.sync_all()
}

/// Where a file is written before it is renamed. One name: what a power cut leaves, the next writing replaces.
fn part(path: &Path) -> PathBuf {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    path.with_file_name(format!(".{name}.part"))
}

/// A new file, owned and permitted as the one it will replace.
fn write_part(part: &Path, content: &[u8], old: Option<&std::fs::Metadata>) -> std::io::Result<()> {
    // Whatever stands there goes, and is not written through: it may be a link to somewhere else.
    match std::fs::remove_file(part) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let mut file = std::fs::File::options().write(true).create_new(true).open(part)?;
    if let Some(old) = old {
        let own = file.metadata()?;
        if (own.uid(), own.gid()) != (old.uid(), old.gid()) {
            // Only root may give a file away. Who else saves a file of another owner becomes its owner.
            let _ = std::os::unix::fs::fchown(&file, Some(old.uid()), Some(old.gid()));
        }
        file.set_permissions(std::fs::Permissions::from_mode(old.mode() & 0o7777))?;
    }
    file.write_all(content)?;
    file.sync_all()
}

/// Takes away what a run that was killed while writing has left beside a file.
pub fn tidy(path: &Path) {
    let _ = std::fs::remove_file(part(&path.canonicalize().unwrap_or_else(|_| path.to_owned())));
}

/// What folders for the time of a run begin with; the process stands behind it.
const PASSING: &str = ".wasvolta-run-";

/// A folder for the time of a run, locked as long as that lasts.
#[derive(Debug)]
pub struct Passing {
    folder: tempfile::TempDir,
    /// The lock goes with the process, however that ends.
    _lock: std::fs::File,
}

impl Passing {
    /// The path of the folder.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }
}

/// A folder for the time of this run. Those of runs that were killed go first.
///
/// # Errors
/// When the system's folder for such things takes none.
pub fn passing() -> std::io::Result<Passing> {
    let place = std::env::temp_dir();
    for entry in std::fs::read_dir(&place)?.flatten() {
        if is_left(&entry) {
            // Another run may be as quick.
            let _ = std::fs::remove_dir_all(entry.path());
        }
    }
    let folder =
        tempfile::Builder::new().prefix(&format!("{PASSING}{}-", std::process::id())).tempdir_in(place)?;
    let lock = std::fs::File::open(folder.path())?;
    rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive)?;
    Ok(Passing { folder, _lock: lock })
}

/// Whether it is such a folder, of this user, whose process is no more: neither by its number nor by its lock, for in
/// another container numbers are others.
fn is_left(entry: &std::fs::DirEntry) -> bool {
    let name = entry.file_name();
    let process = name.to_str().and_then(|name| name.strip_prefix(PASSING)?.split('-').next()?.parse().ok());
    let Some(process) = process.and_then(rustix::process::Pid::from_raw) else { return false };
    let own = rustix::process::getuid().as_raw();
    let ours =
        std::fs::symlink_metadata(entry.path()).is_ok_and(|found| found.is_dir() && found.uid() == own);
    let gone = rustix::process::test_kill_process(process) == Err(rustix::io::Errno::SRCH);
    ours && gone
        && std::fs::File::open(entry.path())
            .is_ok_and(|folder| rustix::fs::flock(&folder, FlockOperation::NonBlockingLockExclusive).is_ok())
}

/// A rig file's name without the ending that rigs have.
pub fn stem(rig: &Path) -> String {
    let name = rig.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    name.strip_suffix(".rig.toml").or_else(|| name.strip_suffix(".toml")).unwrap_or(&name).to_owned()
}

/// The folders that this program keeps things in, by the desktop's rules.
pub struct Folders {
    /// Rigs of the demo.
    pub data: PathBuf,
    /// What a person has set for good.
    pub config: PathBuf,
    /// What is remembered between runs.
    pub state: PathBuf,
}

/// # Errors
/// When there is no home folder.
pub fn folders() -> miette::Result<Folders> {
    let found = directories::ProjectDirs::from("", "", "wasvolta")
        .ok_or_else(|| Report::msg("there is no home folder to keep things in: set HOME"))?;
    let state = found.state_dir().unwrap_or_else(|| found.data_dir()).to_owned();
    Ok(Folders { data: found.data_dir().to_owned(), config: found.config_dir().to_owned(), state })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_replaced_whole_or_not_at_all() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/a.rig.toml");
        write(&path, "one").unwrap();
        write(&path, "two").unwrap();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "two");
        assert_eq!(
            std::fs::read_dir(path.parent().unwrap()).unwrap().count(),
            1,
            "nothing is left beside it"
        );
    }

    #[test]
    fn a_link_stays_a_link_and_what_a_kill_left_beside_is_tidied_up() {
        let folder = tempfile::tempdir().unwrap();
        let (real, link) = (folder.path().join("real.rig.toml"), folder.path().join("link.rig.toml"));
        write(&real, "one").unwrap();
        std::os::unix::fs::symlink(&real, &link).unwrap();
        std::fs::write(folder.path().join(".real.rig.toml.part"), "half").unwrap();
        write(&link, "two").unwrap();
        assert!(link.is_symlink());
        assert_eq!(std::fs::read_to_string(&real).unwrap(), "two");
        std::fs::write(folder.path().join(".real.rig.toml.part"), "half").unwrap();
        tidy(&link);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2);
    }

    #[test]
    fn a_device_is_never_renamed_over() {
        let why = write(Path::new("/dev/null"), "x").unwrap_err().to_string();
        assert!(why.contains("it is a device, not a file"), "{why}");
    }

    #[test]
    fn what_stands_beside_is_not_written_through() {
        let folder = tempfile::tempdir().unwrap();
        let (rig, other) = (folder.path().join("a.rig.toml"), folder.path().join("other"));
        std::fs::write(&other, "of somebody").unwrap();
        std::os::unix::fs::symlink(&other, part(&rig)).unwrap();
        write(&rig, "one").unwrap();
        assert_eq!(std::fs::read_to_string(&other).unwrap(), "of somebody");
        assert!(!rig.is_symlink() && std::fs::read_to_string(&rig).unwrap() == "one");
    }

    #[test]
    fn a_line_that_nobody_could_see_is_named_and_not_shown() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.rig.toml");
        std::fs::write(&path, format!("format = 6\na = {}\n", "[".repeat(50_000))).unwrap();
        let bad = open(&path).unwrap_err();
        let first = bad.first().unwrap();
        assert!(first.to_string().starts_with("line 2, column ") && first.span.is_none(), "{first}");
        std::fs::write(&path, "format = 6\na = [[\n").unwrap();
        assert!(open(&path).unwrap_err().first().unwrap().span.is_some());
    }

    #[test]
    fn what_killed_runs_left_is_cleaned_and_nothing_else() {
        let ours = passing().unwrap();
        let beside = |name: &str| std::env::temp_dir().join(name);
        // No process has the highest number that a number of a process can be.
        let (left, other) = (beside(".wasvolta-run-2147483647-x"), beside(".wasvolta-run-notes"));
        std::fs::create_dir_all(&left).unwrap();
        std::fs::create_dir_all(&other).unwrap();
        // A process that cannot be seen from here, and has its lock.
        let hidden = beside(".wasvolta-run-2147483646-x");
        std::fs::create_dir_all(&hidden).unwrap();
        let lock = std::fs::File::open(&hidden).unwrap();
        rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).unwrap();
        let again = passing().unwrap();
        assert!(hidden.exists());
        drop(lock);
        drop(passing().unwrap());
        assert!(!hidden.exists());
        assert!(!left.exists() && other.exists() && ours.path().exists() && again.path().exists());
        std::fs::remove_dir(other).unwrap();
    }

    #[test]
    fn owner_and_mode_stay() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.rig.toml");
        write(&path, "one").unwrap();
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
        // Only root may give it to somebody else; without that the owner is the same before and after.
        let _ = std::os::unix::fs::chown(&path, Some(4242), Some(4242));
        let before = std::fs::metadata(&path).unwrap();
        write(&path, "two").unwrap();
        let after = std::fs::metadata(&path).unwrap();
        let owned = |m: &std::fs::Metadata| (m.uid(), m.gid(), m.mode());
        assert_eq!((owned(&before), before.mode() & 0o777), (owned(&after), 0o640));
    }

    #[test]
    fn a_read_only_file_is_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.rig.toml");
        write(&path, "one").unwrap();
        let mut only_read = std::fs::metadata(&path).unwrap().permissions();
        only_read.set_readonly(true);
        std::fs::set_permissions(&path, only_read).unwrap();
        let error = write(&path, "two").unwrap_err().to_string();
        assert!(error.starts_with("cannot write"), "{error}");
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "one");
    }
}
