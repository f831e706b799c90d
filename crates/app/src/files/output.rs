//! Files that go out: the one place that decides whether something may be written where it was asked for.
//!
//! An output never replaces what the same command reads, nor the rig, nor another of its outputs. Standard output takes
//! one of them, and none where the screen is. What is there already
//! is replaced only when that was asked for. Nothing but a file is replaced at all: a device or a pipe is written into,
//! a folder is refused. What cannot be written while a show goes on ends that file and never the show.

use super::{Unwritten, input, write};
use crate::say;
use std::fs::File;
use std::io::{BufWriter, Error, ErrorKind, Write};
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use thiserror::Error;

/// Why something is not written there. What is there is unharmed.
#[derive(Debug, Error)]
pub enum Refused {
    /// The command reads it.
    #[error("{path} is what is read here: it is never written over; give another name")]
    Read { path: String },
    /// The command writes something else there.
    #[error("{path} is already another output: give each output its own name")]
    Twice { path: String },
    /// It is there already.
    #[error("{path} is there already: give another name, or --force to replace it")]
    There { path: String },
    /// It is no log.
    #[error("{path} is not a log of this program: give another name, or --force to replace it")]
    NoLog { path: String },
    /// It is no file.
    #[error("{path} is {kind}: give the name of a file")]
    NoFile {
        path: String,
        /// What it is.
        kind: &'static str,
    },
    /// The disk says no.
    #[error(transparent)]
    Disk(#[from] Unwritten),
}

/// What one run of the program writes, reads, and could not write.
#[derive(Debug, Clone, Default)]
pub struct Outputs(Arc<Mutex<Known>>);

#[derive(Debug, Default)]
struct Known {
    force: bool,
    has_screen: bool,
    read: Vec<PathBuf>,
    written: Vec<PathBuf>,
    troubles: Vec<String>,
    told: usize,
}

/// Whether what is there may be replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Replace {
    /// As the command line says.
    AsTold,
    /// A person was asked and has said so.
    Asked,
}

/// Where an output may go.
enum Target {
    Standard,
    New,
    File,
    /// A device or a pipe: it is written into and stays what it is.
    Into,
}

impl Outputs {
    /// Outputs of a run; `force` lets them replace files.
    pub fn new(force: bool) -> Self {
        let outputs = Self::default();
        outputs.known().force = force;
        outputs
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A file that is read, or is the rig: nothing is written over it.
    pub fn reads(&self, path: &Path) {
        self.known().read.push(path.to_owned());
    }

    /// The screen is on standard output: nothing else is written there.
    pub fn show_screen(&self) {
        self.known().has_screen = true;
    }

    /// The one rule.
    fn place(&self, path: &Path, replace: Replace) -> Result<Target, Refused> {
        let named = || path.display().to_string();
        let mut known = self.known();
        if path == Path::new("-") {
            if known.has_screen {
                return Err(Refused::NoFile { path: named(), kind: "standard output, where the screen is" });
            }
            if known.written.iter().any(|written| written == path) {
                return Err(Refused::Twice { path: "standard output".to_owned() });
            }
            known.written.push(path.to_owned());
            return Ok(Target::Standard);
        }
        let place = match std::fs::metadata(path) {
            Err(_) => Target::New,
            Ok(found) if found.file_type().is_char_device() || found.file_type().is_fifo() => Target::Into,
            Ok(found) => {
                if let Some(kind) = input::kind(&found) {
                    return Err(Refused::NoFile { path: named(), kind });
                }
                Target::File
            }
        };
        if !matches!(place, Target::Into) {
            if known.read.iter().any(|read| is_same(read, path)) {
                return Err(Refused::Read { path: named() });
            }
            if known.written.iter().any(|written| is_same(written, path)) {
                return Err(Refused::Twice { path: named() });
            }
        }
        if matches!(place, Target::File) && replace == Replace::AsTold && !known.force {
            return Err(Refused::There { path: named() });
        }
        known.written.push(path.to_owned());
        Ok(place)
    }

    /// Begins a file that is written as the run goes; its folder must be there. `what` says in a word or two what it is.
    ///
    /// # Errors
    /// When it must not be written there, or cannot be.
    pub fn begin(&self, what: &'static str, path: &Path) -> Result<Stream, Refused> {
        let out: Box<dyn Write + Send> = match self.place(path, Replace::AsTold)? {
            Target::Standard => Box::new(std::io::stdout()),
            place => Box::new(created(path, &place).map_err(|why| Unwritten::new(path, why))?),
        };
        Ok(self.stream(what, path, out))
    }

    fn stream(&self, what: &'static str, path: &Path, out: Box<dyn Write + Send>) -> Stream {
        let name = format!("the {what} {}", path.display());
        Stream { out: Some(BufWriter::new(out)), name, outputs: self.clone() }
    }

    /// Writes a whole file, or nothing; gives its full path.
    ///
    /// # Errors
    /// When it must not be written there, or cannot be.
    pub fn write(&self, path: &Path, content: &[u8], replace: Replace) -> Result<PathBuf, Refused> {
        let place = self.place(path, replace)?;
        let written = match place {
            Target::Standard => {
                if let Err(error) = std::io::stdout().write_all(content) {
                    say::failed(error);
                }
                Ok(())
            }
            Target::Into => created(path, &place)
                .and_then(|mut file| file.write_all(content))
                .map_err(|why| Unwritten::new(path, why)),
            Target::New | Target::File => write(path, content),
        };
        // Whole at once: a later one of the same name replaces a finished file, and is asked about as one.
        self.known().written.retain(|known| known != path);
        written?;
        Ok(path.canonicalize().unwrap_or_else(|_| path.to_owned()))
    }

    /// Whether a log may be written there: behind an older one, and behind nothing else.
    ///
    /// # Errors
    /// When something else is there, or it cannot be written.
    pub fn log(&self, path: &Path) -> Result<(), Refused> {
        let is_log = || {
            let mut first = [0; 11];
            let read = File::open(path).and_then(|mut file| std::io::Read::read(&mut file, &mut first));
            // Each line begins with its time, 2026-01-02T…; what is empty is nothing yet.
            read.is_ok_and(|n| {
                n == 0 || (n == first.len() && first[4] == b'-' && first[7] == b'-' && first[10] == b'T')
            })
        };
        let there = std::fs::metadata(path).is_ok_and(|found| found.is_file());
        let replace = if there && is_log() { Replace::Asked } else { Replace::AsTold };
        match self.place(path, replace) {
            Err(Refused::There { path }) => Err(Refused::NoLog { path }),
            Err(refused) => Err(refused),
            // The rotating writer would wait for a pipe to be read.
            Ok(Target::Into) if std::fs::metadata(path).is_ok_and(|found| found.file_type().is_fifo()) => {
                Err(Refused::NoFile { path: path.display().to_string(), kind: "a pipe" })
            }
            // It is kept short by putting older parts away.
            Ok(Target::Standard) => {
                Err(Refused::NoFile { path: path.display().to_string(), kind: "standard output" })
            }
            Ok(_) => {
                let mut options = File::options();
                // The rotating writer says nothing of a file that it cannot open: asked first, and in words.
                let opened = options.create(true).append(true).open(path).and_then(|file| {
                    if replace == Replace::AsTold && there { file.set_len(0) } else { Ok(()) }
                });
                opened.map_err(|why| Refused::Disk(Unwritten::new(path, why)))
            }
        }
    }

    /// Something could not be written, and what it was for goes on.
    pub fn trouble(&self, words: String) {
        let mut known = self.known();
        if !known.troubles.contains(&words) {
            known.troubles.push(words);
        }
    }

    /// The next trouble that was not told yet.
    pub fn news(&self) -> Option<String> {
        let mut known = self.known();
        let words = known.troubles.get(known.told).cloned()?;
        known.told += 1;
        Some(words)
    }

    /// Says at the end what could not be written; whether there was something.
    pub fn tell(&self) -> bool {
        let mut known = self.known();
        known.told = 0;
        let troubles = std::mem::take(&mut known.troubles);
        drop(known);
        for words in &troubles {
            say::trouble(words);
        }
        !troubles.is_empty()
    }
}

fn created(path: &Path, place: &Target) -> std::io::Result<File> {
    let mut options = File::options();
    match place {
        // What has come there since it was looked at is not replaced.
        Target::New => options.write(true).create_new(true),
        Target::File => options.write(true).truncate(true),
        // A pipe that nobody reads is an error at once, and not waited for.
        Target::Standard | Target::Into => options.write(true).custom_flags(not_waiting()),
    };
    let file = options.open(path)?;
    if matches!(place, Target::Into) {
        // Who reads may be slow, and is waited for.
        let flags = rustix::fs::fcntl_getfl(&file)?;
        rustix::fs::fcntl_setfl(&file, flags - rustix::fs::OFlags::NONBLOCK)?;
    }
    Ok(file)
}

fn not_waiting() -> i32 {
    i32::try_from(rustix::fs::OFlags::NONBLOCK.bits()).unwrap_or_default()
}

/// Whether two paths lead to one file, by whatever links.
fn is_same(one: &Path, other: &Path) -> bool {
    match (std::fs::metadata(one), std::fs::metadata(other)) {
        (Ok(a), Ok(b)) => (a.dev(), a.ino()) == (b.dev(), b.ino()),
        // What is not there yet is the same where its folder is, and its name.
        _ => place_of(one).is_some_and(|place| Some(place) == place_of(other)),
    }
}

fn place_of(path: &Path) -> Option<PathBuf> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    Some(folder.canonicalize().ok()?.join(path.file_name()?))
}

/// A file that is written as the run goes. Once it cannot be written it has ended: that is remembered and told, and
/// whoever writes to it is not kept from going on.
pub struct Stream {
    out: Option<BufWriter<Box<dyn Write + Send>>>,
    name: String,
    outputs: Outputs,
}

impl Stream {
    fn end(&mut self, why: &Error) {
        // What waits to be written is not tried again.
        if let Some(out) = self.out.take() {
            drop(out.into_parts());
        }
        // A reader that has gone wanted no more.
        if why.kind() != ErrorKind::BrokenPipe {
            self.outputs.trouble(format!("{} is not whole: {why}", self.name));
        }
    }
}

impl Write for Stream {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        if let Some(Err(why)) = self.out.as_mut().map(|out| out.write_all(bytes)) {
            self.end(&why);
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        if let Some(Err(why)) = self.out.as_mut().map(Write::flush) {
            self.end(&why);
        }
        Ok(())
    }
}

impl Drop for Stream {
    fn drop(&mut self) {
        let _ = self.flush();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn refusal(outputs: &Outputs, path: &Path) -> String {
        outputs.begin("trace", path).err().map_or_else(String::new, |refused| refused.to_string())
    }

    #[test]
    fn an_output_never_replaces_what_is_read_by_whatever_link() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        std::fs::write(path("a.rig.toml"), "rig").unwrap();
        std::os::unix::fs::symlink(path("a.rig.toml"), path("link")).unwrap();
        std::fs::hard_link(path("a.rig.toml"), path("hard")).unwrap();
        let outputs = Outputs::new(true);
        outputs.reads(&path("a.rig.toml"));
        for name in ["a.rig.toml", "link", "hard", "../x/../a.rig.toml"] {
            let name = name
                .replace("../x/..", &format!("../{}", folder.path().file_name().unwrap().to_string_lossy()));
            let words = refusal(&outputs, &path(&name));
            assert!(words.ends_with("is never written over; give another name"), "{name} {words}");
        }
        assert_eq!(std::fs::read_to_string(path("a.rig.toml")).unwrap(), "rig");
        let _first = outputs.begin("trace", &path("t")).unwrap();
        assert!(refusal(&outputs, &folder.path().join("./t")).contains("give each output its own name"));
    }

    #[test]
    fn a_file_that_is_there_is_replaced_only_when_that_was_asked_for() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("t.csv");
        std::fs::write(&path, "old").unwrap();
        let words = refusal(&Outputs::new(false), &path);
        assert!(words.ends_with("is there already: give another name, or --force to replace it"), "{words}");
        assert!(Outputs::new(false).write(&path, b"new", Replace::AsTold).is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "old");
        let outputs = Outputs::new(false);
        outputs.write(&path, b"asked", Replace::Asked).unwrap();
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "asked");
        drop(Outputs::new(true).begin("trace", &path).unwrap());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "");
        assert!(refusal(&Outputs::new(true), folder.path()).contains("is a folder"));
    }

    #[test]
    fn a_device_is_written_into_and_stays_a_device() {
        let null = Path::new("/dev/null");
        Outputs::new(false).write(null, b"x", Replace::AsTold).unwrap();
        assert!(std::fs::metadata(null).unwrap().file_type().is_char_device());
    }

    #[test]
    fn standard_output_takes_one_output_and_none_where_the_screen_is() {
        let dash = Path::new("-");
        let outputs = Outputs::new(true);
        let _trace = outputs.begin("trace", dash).unwrap();
        let twice = "standard output is already another output: give each output its own name";
        assert_eq!(refusal(&outputs, dash), twice);
        assert_eq!(outputs.write(dash, b"x", Replace::AsTold).unwrap_err().to_string(), twice);
        let whole = Outputs::new(false);
        whole.write(dash, b"", Replace::AsTold).unwrap();
        whole.write(dash, b"", Replace::AsTold).unwrap();
        let screen = Outputs::new(true);
        screen.show_screen();
        let words = "- is standard output, where the screen is: give the name of a file";
        assert_eq!(refusal(&screen, dash), words);
        assert_eq!(screen.write(dash, b"x", Replace::Asked).unwrap_err().to_string(), words);
        let words = Outputs::new(true).log(dash).unwrap_err().to_string();
        assert_eq!(words, "- is standard output: give the name of a file");
    }

    #[test]
    fn a_pipe_that_nobody_reads_is_not_waited_for() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, rustix::fs::FileType::Fifo, mode, 0).unwrap();
        assert!(refusal(&Outputs::new(false), &pipe).starts_with("cannot write "));
        assert!(Outputs::new(false).log(&pipe).unwrap_err().to_string().contains("is a pipe"));
        let mut reader = File::options().read(true).custom_flags(not_waiting()).open(&pipe).unwrap();
        let mut stream = Outputs::new(false).begin("trace", &pipe).unwrap();
        stream.write_all(b"row\n").unwrap();
        stream.flush().unwrap();
        let mut read = [0; 8];
        assert_eq!(std::io::Read::read(&mut reader, &mut read).unwrap(), 4);
    }

    #[test]
    fn a_full_disk_ends_the_file_and_not_who_writes_to_it() {
        let outputs = Outputs::new(false);
        let mut stream = outputs.begin("trace", Path::new("/dev/full")).unwrap();
        for _ in 0..3 {
            stream.write_all(b"row\n").unwrap();
            stream.flush().unwrap();
        }
        let words = outputs.news().unwrap();
        assert!(words.starts_with("the trace /dev/full is not whole: No space left"), "{words}");
        assert_eq!(outputs.news(), None, "once");
        assert!(outputs.tell() && !outputs.tell());
        outputs.trouble("another".to_owned());
        assert_eq!(outputs.news().as_deref(), Some("another"));
    }

    #[test]
    fn a_log_goes_on_behind_a_log_and_behind_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        std::fs::write(path("log"), "2026-01-02T10:00:00Z  INFO begins\n").unwrap();
        std::fs::write(path("rig"), "format = 5\n# a rig\n").unwrap();
        Outputs::new(false).log(&path("log")).unwrap();
        Outputs::new(false).log(&path("new")).unwrap();
        let words = Outputs::new(false).log(&path("rig")).unwrap_err().to_string();
        assert!(words.contains("is not a log of this program"), "{words}");
        let outputs = Outputs::new(true);
        outputs.reads(&path("rig"));
        assert!(matches!(outputs.log(&path("rig")), Err(Refused::Read { .. })));
        assert_eq!(std::fs::read_to_string(path("rig")).unwrap(), "format = 5\n# a rig\n");
    }
}
