//! Text files that come in: refused by kind and size before anything of them is read, and by their first byte that is
//! no UTF-8.

use std::fs::{File, Metadata};
use std::io::{Error, Read};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::Path;
use thiserror::Error;

/// What a file is read as, and with that how large it may be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A rig, or a copy of one.
    Rig,
    /// A servo card.
    Card,
    /// A table of marks.
    Table,
    /// What a simulated bench is like.
    Bench,
    /// A recording, which is read line by line.
    Recording,
    /// Where the registers of a kind of smart servo stand.
    Layout,
    /// What a stand-in is told to do.
    Script,
    /// What a person has set for good.
    Settings,
    /// What this program keeps between runs.
    Kept,
}

const MIB: u64 = 1 << 20;

impl What {
    /// What it is called.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Rig => "rig",
            Self::Card => "servo card",
            Self::Table => "table of marks",
            Self::Bench => "simulation file",
            Self::Recording => "recording",
            Self::Layout => "layout",
            Self::Script => "script",
            Self::Settings => "file of settings",
            Self::Kept => "file of this kind",
        }
    }

    /// The most that is read, in bytes. A rig of a thousand servos with ten marks each has two MiB.
    const fn most(self) -> u64 {
        match self {
            Self::Rig | Self::Kept => 16 * MIB,
            Self::Card | Self::Table | Self::Bench | Self::Layout | Self::Script | Self::Settings => 4 * MIB,
            Self::Recording => u64::MAX,
        }
    }
}

/// Why a file was not read.
#[derive(Debug, Error)]
pub enum Unread {
    /// The system says no.
    #[error("{0}")]
    System(#[from] Error),
    /// It is something else than a file.
    #[error("it is {kind}; a {what} must be a file")]
    NoFile {
        /// What it is.
        kind: &'static str,
        /// What was wanted.
        what: &'static str,
    },
    /// It is too large to be what it should be.
    #[error("it has {} MiB and more, a {what} has {} MiB at most", most / MIB, most / MIB)]
    TooLarge {
        /// What was wanted.
        what: &'static str,
        /// The most it may have, in bytes.
        most: u64,
    },
    /// It is text of another kind.
    #[error("line {line}, column {column}: this is not UTF-8, {looks}; save it as UTF-8")]
    NotText {
        line: usize,
        /// From 1, in signs.
        column: usize,
        /// What it looks like.
        looks: &'static str,
    },
}

impl Unread {
    /// What to do about it.
    pub const fn help(&self) -> &'static str {
        match self {
            Self::System(_) => "check the path and its permissions; `wasvolta demo` needs no file",
            Self::NoFile { .. } | Self::TooLarge { .. } => "check the path: nothing of it was read",
            Self::NotText { .. } => "nothing was changed: an editor can save it anew in UTF-8",
        }
    }
}

/// What something is that is no file.
pub fn kind(found: &Metadata) -> Option<&'static str> {
    let kind = found.file_type();
    match () {
        () if kind.is_dir() => Some("a folder"),
        () if kind.is_fifo() => Some("a pipe"),
        () if kind.is_socket() => Some("a socket"),
        () if kind.is_block_device() || kind.is_char_device() => Some("a device"),
        () => None,
    }
}

/// Opens a file for reading. Whatever else has that path is not opened: a pipe would wait, a board be reset.
///
/// # Errors
/// When it is no file or may not be opened.
pub fn open(path: &Path, what: What) -> Result<File, Unread> {
    let no_file = |found: &Metadata| match kind(found) {
        Some(kind) => Err(Unread::NoFile { kind, what: what.word() }),
        None => Ok(()),
    };
    no_file(&std::fs::metadata(path)?)?;
    // It may be another one by now, and still must not be waited for.
    let flags = rustix::fs::OFlags::NONBLOCK | rustix::fs::OFlags::NOCTTY;
    let flags = i32::try_from(flags.bits()).unwrap_or_default();
    let file = File::options().read(true).custom_flags(flags).open(path)?;
    no_file(&file.metadata()?)?;
    Ok(file)
}

/// Reads a text; a path of `-` is standard input.
///
/// # Errors
/// When it is no file, too large, or no UTF-8.
pub fn text(path: &Path, what: What) -> Result<String, Unread> {
    if path == Path::new("-") { within(std::io::stdin(), what) } else { within(open(path, what)?, what) }
}

fn within(from: impl Read, what: What) -> Result<String, Unread> {
    let most = what.most();
    let mut bytes = Vec::new();
    from.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    if u64::try_from(bytes.len()).is_ok_and(|length| length > most) {
        return Err(Unread::TooLarge { what: what.word(), most });
    }
    String::from_utf8(bytes).map_err(|error| not_text(error.as_bytes(), error.utf8_error().valid_up_to()))
}

/// Where a text stops being UTF-8, and what it may be instead.
fn not_text(bytes: &[u8], at: usize) -> Unread {
    let before = String::from_utf8_lossy(bytes.get(..at).unwrap_or_default());
    let line = before.matches('\n').count() + 1;
    let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
    let sixteen = bytes.starts_with(b"\xff\xfe") || bytes.starts_with(b"\xfe\xff");
    let zeros = bytes.iter().take(4096).filter(|byte| **byte == 0).count();
    let looks = match () {
        () if sixteen => "it looks like UTF-16",
        () if zeros > 0 => "and it holds zero bytes: it may be no text at all",
        () => "it looks like Latin-1 or another set of eight bits",
    };
    Unread::NotText { line, column, looks }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_file_is_refused_by_its_kind_and_not_waited_for() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        rustix::fs::mknodat(
            rustix::fs::CWD,
            &pipe,
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR,
            0,
        )
        .unwrap();
        for (path, words) in [
            (folder.path(), "it is a folder; a rig must be a file"),
            (pipe.as_path(), "it is a pipe; a rig must be a file"),
            (Path::new("/dev/zero"), "it is a device; a rig must be a file"),
        ] {
            assert_eq!(text(path, What::Rig).unwrap_err().to_string(), words);
        }
    }

    #[test]
    fn what_is_too_large_or_no_utf8_is_named() {
        let said = |bytes: &[u8]| within(bytes, What::Card).unwrap_err().to_string();
        let large = vec![b' '; 4 * (1 << 20) + 1];
        assert_eq!(said(&large), "it has 4 MiB and more, a servo card has 4 MiB at most");
        assert!(within(&large[1..], What::Card).is_ok());
        assert_eq!(
            said(b"name = 1\nnotes = \"k\xfchl\"\n"),
            "line 2, column 11: this is not UTF-8, it looks like Latin-1 or another set of eight bits; save it as UTF-8"
        );
        assert!(
            said(b"\xff\xfen\0a\0").starts_with("line 1, column 1: this is not UTF-8, it looks like UTF-16")
        );
        assert_eq!(within(&b"k\xc3\xbchl"[..], What::Card).unwrap(), "kühl");
    }
}
