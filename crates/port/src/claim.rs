//! Who may drive a device: a lock on the device itself, so that no name, folder, user or spelling of a path makes two
//! programs miss each other. There is no lock file.
//!
//! A line or a chip is locked as a whole; of an I²C bus the byte that is a board's address, for a bus may be shared. The
//! system lets go when the program ends, however it ends. Reading never asks for a lock.

use rustix::fs::{FlockOperation, Mode, OFlags, flock};
use std::fmt;
use std::fs::File;
use std::os::fd::AsFd;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// A program that has a device, as far as this user may see it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Holder {
    /// The process that holds it, by its number.
    pub process: u32,
    name: [u8; NAME],
}

/// The system keeps no more of a program's name.
const NAME: usize = 15;

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let end = self.name.iter().position(|byte| *byte == 0).unwrap_or(NAME);
        let name = String::from_utf8_lossy(self.name.get(..end).unwrap_or_default());
        // A program may call itself anything.
        let plain: String = name.chars().map(|c| if c.is_control() { '?' } else { c }).collect();
        write!(f, "process {} ({plain})", self.process)
    }
}

/// Somebody else has it: who, where that can be seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taken(pub Option<Holder>);

impl fmt::Display for Taken {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Some(holder) => write!(f, "{holder} has it"),
            None => f.write_str("another user's program has it"),
        }
    }
}

/// Claims what is open as a whole, until it is closed.
///
/// # Errors
/// Names who has it.
pub fn whole(open: impl AsFd) -> Result<(), Taken> {
    match flock(&open, FlockOperation::NonBlockingLockExclusive) {
        Err(rustix::io::Errno::WOULDBLOCK) => Err(Taken(holder(Inode::of_open(&open), Some("FLOCK")))),
        // What knows no locks cannot be held by anybody.
        _ => Ok(()),
    }
}

/// Claims one byte of what is open for writing, until it is closed: a board's address on a bus.
///
/// # Errors
/// Names who has it.
#[cfg(target_os = "linux")]
pub fn byte(open: &File, at: u8) -> Result<(), Taken> {
    use nix::fcntl::{FcntlArg, fcntl};
    use std::os::fd::AsRawFd;
    let lock = nix::libc::flock {
        l_type: i16::try_from(nix::libc::F_WRLCK).unwrap_or_default(),
        l_whence: i16::try_from(nix::libc::SEEK_SET).unwrap_or_default(),
        // It has 32 bits on some machines.
        l_start: nix::libc::off_t::from(at),
        l_len: 1,
        l_pid: 0,
    };
    match fcntl(open.as_raw_fd(), FcntlArg::F_OFD_SETLK(&lock)) {
        Err(nix::errno::Errno::EAGAIN | nix::errno::Errno::EACCES) => {
            Err(Taken(holder(Inode::of_open(open), Some(&format!("OFDLCK:{at}")))))
        }
        _ => Ok(()),
    }
}

/// Opens something that is only to be claimed: it is neither read nor written.
///
/// # Errors
/// When it is not there, or may not be opened.
pub fn open(path: &Path) -> std::io::Result<File> {
    let flags = OFlags::RDONLY | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::CLOEXEC;
    Ok(rustix::fs::open(path, flags, Mode::empty())?.into())
}

/// Who has the device behind a path, without asking for it; of a bus, its board at an address.
pub fn who(path: &Path, address: Option<u8>) -> Option<Holder> {
    let lock = address.map_or_else(|| "FLOCK".to_owned(), |at| format!("OFDLCK:{at}"));
    holder(Inode::of_path(path), Some(&lock))
}

/// Who has the device behind a path open, locked or not: for a path that the system itself does not let be opened.
pub fn who_opened(path: &Path) -> Option<Holder> {
    holder(Inode::of_path(path), None)
}

/// A file or a device, however it is spelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Inode {
    device: u64,
    number: u64,
}

impl Inode {
    fn of_path(path: &Path) -> Option<Self> {
        let found = std::fs::metadata(path).ok()?;
        Some(Self { device: found.dev(), number: found.ino() })
    }

    fn of_open(open: impl AsFd) -> Option<Self> {
        let found = rustix::fs::fstat(open).ok()?;
        Some(Self { device: found.st_dev, number: found.st_ino })
    }
}

/// Looks through what every process has open; of one of another user nothing can be seen.
fn holder(inode: Option<Inode>, lock: Option<&str>) -> Option<Holder> {
    let inode = inode?;
    let processes = std::fs::read_dir("/proc").ok()?;
    let numbered = processes.flatten().filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    for process in numbered {
        let Ok(open) = std::fs::read_dir(format!("/proc/{process}/fd")) else { continue };
        for fd in open.flatten() {
            if Inode::of_path(&fd.path()) != Some(inode) {
                continue;
            }
            let locked = lock.is_none_or(|lock| has_lock(process, &fd.file_name().to_string_lossy(), lock));
            if locked && (lock.is_some() || process != std::process::id()) {
                return Some(Holder { process, name: name_of(process) });
            }
        }
    }
    None
}

/// Whether a process holds a lock by a descriptor: `lock: 1: OFDLCK ADVISORY WRITE -1 00:05:12 64 64`.
fn has_lock(process: u32, fd: &str, lock: &str) -> bool {
    let about = std::fs::read_to_string(format!("/proc/{process}/fdinfo/{fd}")).unwrap_or_default();
    let (kind, at) = lock.split_once(':').map_or((lock, None), |(kind, at)| (kind, Some(at)));
    about.lines().filter(|line| line.starts_with("lock:")).any(|line| {
        let words: Vec<&str> = line.split_whitespace().collect();
        let first = words.len().checked_sub(2).and_then(|n| words.get(n));
        words.contains(&kind) && at.is_none_or(|at| first == Some(&at))
    })
}

fn name_of(process: u32) -> [u8; NAME] {
    let mut name = [0; NAME];
    let said = std::fs::read(format!("/proc/{process}/comm")).unwrap_or_default();
    let said = said.strip_suffix(b"\n").unwrap_or(&said);
    name.iter_mut().zip(said).for_each(|(place, byte)| *place = *byte);
    name
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(count: usize) -> (tempfile::NamedTempFile, Vec<File>) {
        let made = tempfile::NamedTempFile::new().unwrap();
        let open = || File::options().read(true).write(true).open(made.path()).unwrap();
        let all = (0..count).map(|_| open()).collect();
        (made, all)
    }

    fn mine(taken: Result<(), Taken>) -> bool {
        matches!(taken, Err(Taken(Some(holder))) if holder.process == std::process::id())
    }

    #[test]
    fn the_second_is_told_who_has_it_however_the_path_is_spelled() {
        let (made, files) = files(2);
        whole(&files[0]).unwrap();
        assert!(mine(whole(&files[1])));
        let folder = made.path().parent().unwrap();
        let twice =
            folder.join("..").join(folder.file_name().unwrap()).join(made.path().file_name().unwrap());
        assert!(mine(whole(open(&twice).unwrap())));
        assert_eq!(who(&twice, None).unwrap().process, std::process::id());
        assert!(who(made.path(), None).unwrap().to_string().starts_with("process "));
        drop(files);
        assert_eq!(who(made.path(), None), None);
        whole(open(&twice).unwrap()).unwrap();
    }

    #[test]
    fn boards_of_a_bus_are_claimed_one_by_one() {
        let (made, files) = files(3);
        byte(&files[0], 0x40).unwrap();
        byte(&files[1], 0x41).unwrap();
        assert!(mine(byte(&files[2], 0x40)) && mine(byte(&files[1], 0x40)));
        assert_eq!(byte(&files[0], 0x40), Ok(()), "one's own is had already");
        assert!(who(made.path(), Some(0x41)).is_some() && who(made.path(), Some(0x42)).is_none());
        byte(&files[2], 0x42).unwrap();
    }

    #[test]
    fn nobody_that_can_be_seen_is_said_so() {
        assert_eq!(Taken(None).to_string(), "another user's program has it");
        let mut name = [0; NAME];
        name[..3].copy_from_slice(b"a\x1bb");
        assert_eq!(Taken(Some(Holder { process: 7, name })).to_string(), "process 7 (a?b) has it");
    }
}
