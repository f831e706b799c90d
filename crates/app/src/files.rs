//! Rig files on the disk: reading with errors that underline their place, and writing that never leaves half
//! a file.

use miette::{Diagnostic, NamedSource, Report, SourceSpan};
use std::io::Write;
use std::path::{Path, PathBuf};
use thiserror::Error;
use wasvolta_core::rig::file::{Loaded, Located, Source, load};

/// A rig file that could not be used.
#[derive(Debug, Error, Diagnostic)]
pub enum BadFile {
    /// The disk says no.
    #[error("cannot read {path}: {why}")]
    #[diagnostic(help("check the path and its permissions; `wasvolta demo` needs no file"))]
    Unreadable {
        /// Which file.
        path: String,
        /// Why.
        why: std::io::Error,
    },
    /// It is not a rig.
    #[error("{path} does not read as a rig")]
    Malformed {
        /// Which file.
        path: String,
        /// Where and why.
        #[related]
        places: Vec<Place>,
    },
    /// It is a rig with problems.
    #[error("{path} has {} to mend", counted(places.len()))]
    Problems {
        /// Which file.
        path: String,
        /// Where and why.
        #[related]
        places: Vec<Place>,
    },
}

/// One place in a rig file.
#[derive(Debug, Error, Diagnostic)]
#[error("{message}")]
pub struct Place {
    message: String,
    #[help]
    help: String,
    #[source_code]
    text: NamedSource<String>,
    #[label("here")]
    span: Option<SourceSpan>,
}

fn counted(n: usize) -> String {
    if n == 1 { "one problem".to_owned() } else { format!("{n} problems") }
}

fn place(path: &Path, text: &str, located: &Located) -> Place {
    Place {
        message: located.message.clone(),
        help: located.help.clone(),
        text: NamedSource::new(path.display().to_string(), text.to_owned()),
        span: located.span.clone().map(SourceSpan::from),
    }
}

/// Reads a text file.
///
/// # Errors
/// Says which file and why.
pub fn read(path: &Path) -> Result<String, BadFile> {
    std::fs::read_to_string(path).map_err(|why| BadFile::Unreadable { path: path.display().to_string(), why })
}

/// Reads a rig and checks it.
///
/// # Errors
/// Says what is wrong, with the places underlined.
pub fn open(path: &Path) -> Result<Source, BadFile> {
    let text = read(path)?;
    let named = path.display().to_string();
    match load(&text) {
        Loaded::Sound(rig) => Ok(Source::new(text, *rig)),
        Loaded::Problems(found) => Err(BadFile::Problems {
            path: named,
            places: found.iter().map(|l| place(path, &text, l)).collect(),
        }),
        Loaded::Unreadable(located) => {
            Err(BadFile::Malformed { path: named, places: vec![place(path, &text, &located)] })
        }
    }
}

/// A file that could not be written. What was there before is unharmed.
#[derive(Debug, Error)]
#[error("cannot write {path}: {why}; check the folder and its permissions, nothing was changed")]
pub struct Unwritten {
    path: String,
    why: std::io::Error,
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
    let old = std::fs::metadata(path).ok().map(|m| m.permissions());
    if old.as_ref().is_some_and(std::fs::Permissions::readonly) {
        return Err(std::io::Error::from(std::io::ErrorKind::PermissionDenied));
    }
    let beside = part(path);
    let written = write_part(&beside, content, old).and_then(|()| std::fs::rename(&beside, path));
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

fn write_part(part: &Path, content: &[u8], permissions: Option<std::fs::Permissions>) -> std::io::Result<()> {
    let mut file = std::fs::File::create(part)?;
    if let Some(permissions) = permissions {
        file.set_permissions(permissions)?;
    }
    file.write_all(content)?;
    file.sync_all()
}

/// Takes away what a run that was killed while writing has left beside a file.
pub fn tidy(path: &Path) {
    let _ = std::fs::remove_file(part(&path.canonicalize().unwrap_or_else(|_| path.to_owned())));
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
    /// What is remembered between runs.
    pub state: PathBuf,
}

/// # Errors
/// When there is no home folder.
pub fn folders() -> miette::Result<Folders> {
    let found = directories::ProjectDirs::from("", "", "wasvolta")
        .ok_or_else(|| Report::msg("there is no home folder to keep things in: set HOME"))?;
    let state = found.state_dir().unwrap_or_else(|| found.data_dir()).to_owned();
    Ok(Folders { data: found.data_dir().to_owned(), state })
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
