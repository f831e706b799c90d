//! A serial line of the system, opened by its path at any rate the adapter takes.
//!
//! Reads never block: the engine polls the descriptor. What the bytes mean is a decoder's business.

use crate::claim::{self, Taken};
use crate::clock::Clock;
use crate::i2c::Fault;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use rustix::fs::{Access, AtFlags, FileType, Mode, OFlags};
use rustix::io::Errno;
use rustix::termios::{ControlModes, OptionalActions, Termios};
use std::path::Path;
use std::time::Duration;
use thiserror::Error;

/// An open line.
#[derive(Debug)]
pub struct Serial {
    fd: OwnedFd,
    /// It was asked for parity, and does without.
    is_plainer: bool,
    framing: Framing,
}

/// The bits around each byte.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Framing {
    /// Eight bits, no parity, one stop bit.
    #[default]
    EightNone1,
    /// Eight bits, even parity, two stop bits.
    EightEven2,
}

/// What came of a read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Got {
    /// So many bytes.
    Bytes(usize),
    /// Nothing is waiting.
    Nothing,
    /// The device is gone.
    Gone,
}

/// A line that could not be opened.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("cannot open {path}: {reason}")]
pub struct SerialError {
    /// Its path on this machine, or `sim:NAME`.
    pub path: String,
    reason: String,
    fault: Fault,
    /// What to try.
    pub help: &'static str,
}

impl Serial {
    /// Opens a line: eight bits, no parity, no flow control, at `baud`.
    ///
    /// # Errors
    /// When the path does not exist, is no serial line, is held, or may not be opened.
    pub fn open(path: &Path, baud: u32) -> Result<Self, SerialError> {
        Self::open_as(path, baud, Framing::EightNone1)
    }

    /// Opens a line with other bits around each byte. Parity is asked for and read back; a line that does without, as a
    /// pty does, is opened all the same: [`Serial::is_plainer`].
    ///
    /// # Errors
    /// As [`Serial::open`].
    pub fn open_as(path: &Path, baud: u32, framing: Framing) -> Result<Self, SerialError> {
        let failed = |errno: Errno| SerialError {
            path: path.display().to_string(),
            reason: reason(errno, baud),
            fault: fault(errno),
            help: help(errno),
        };
        let flags = OFlags::RDWR | OFlags::NOCTTY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let taken = |taken: Taken| SerialError {
            path: path.display().to_string(),
            reason: taken.to_string(),
            fault: Fault::Taken(taken),
            help: help(Errno::BUSY),
        };
        let fd = match rustix::fs::open(path, flags, Mode::empty()) {
            // Who has it has said that nobody else may open it; the system lets only root pass.
            Err(Errno::BUSY) => return Err(taken(Taken(claim::who_opened(path)))),
            opened => opened.map_err(failed)?,
        };
        // Before anything is set or thrown away on a line that another program listens to.
        claim::whole(&fd).map_err(taken)?;
        let mut settings = rustix::termios::tcgetattr(&fd).map_err(failed)?;
        make_plain(&mut settings, baud, framing).map_err(failed)?;
        rustix::termios::tcsetattr(&fd, OptionalActions::Now, &settings).map_err(failed)?;
        // Only one program may read a line, or each gets half of it.
        rustix::termios::ioctl_tiocexcl(&fd).map_err(failed)?;
        // What waited before the opening is old news.
        rustix::termios::tcflush(&fd, rustix::termios::QueueSelector::IFlush).map_err(failed)?;
        let taken = rustix::termios::tcgetattr(&fd).map_err(failed)?.control_modes;
        let is_plainer = framing == Framing::EightEven2 && !taken.contains(EVEN | ControlModes::CSTOPB);
        Ok(Self { fd, is_plainer, framing })
    }

    /// Whether it was asked for parity and does without.
    pub const fn is_plainer(&self) -> bool {
        self.is_plainer
    }

    /// What can be said of a path without opening it, which resets many boards: whether it is there, may be one, and may
    /// be opened by this user.
    ///
    /// # Errors
    /// When it could not be opened as a line.
    pub fn look(path: &Path) -> Result<(), SerialError> {
        let failed = |errno: Errno| SerialError {
            path: path.display().to_string(),
            reason: reason(errno, 0),
            fault: fault(errno),
            help: help(errno),
        };
        let found = rustix::fs::stat(path).map_err(failed)?;
        if FileType::from_raw_mode(found.st_mode) != FileType::CharacterDevice {
            return Err(failed(Errno::NOTTY));
        }
        let access = Access::READ_OK | Access::WRITE_OK;
        rustix::fs::accessat(rustix::fs::CWD, path, access, AtFlags::EACCESS).map_err(failed)
    }

    /// Reads what is waiting, without waiting.
    pub fn read(&self, into: &mut [u8]) -> Got {
        match rustix::io::read(&self.fd, into) {
            Ok(0) => Got::Gone,
            Ok(count) => Got::Bytes(count),
            Err(Errno::AGAIN | Errno::INTR) => Got::Nothing,
            Err(_) => Got::Gone,
        }
    }
}

/// A line to talk over, in both directions. Nothing here waits, but for the end of a flush.
pub trait Stream: Send {
    /// Reads what is waiting.
    fn read(&mut self, into: &mut [u8]) -> Got;

    /// Writes all of it.
    ///
    /// # Errors
    /// When the line is gone, or does not take it.
    fn write(&mut self, bytes: &[u8]) -> Result<(), Fault>;

    /// Waits until what was written has left.
    fn flush(&mut self);

    /// Speaks at another rate from now on, in bits a second; what waited is thrown away.
    ///
    /// # Errors
    /// When the line is gone, or has no such rate.
    fn set_baud(&mut self, baud: u32) -> Result<(), Fault>;

    /// Waits until something may have come, for so long at most.
    fn rest(&mut self, at_most: Duration, clock: &dyn Clock) {
        clock.wait(at_most.min(LOOK_AGAIN));
    }
}

/// A line that cannot say when something has come is looked at this often.
const LOOK_AGAIN: Duration = Duration::from_micros(200);

impl Stream for Serial {
    fn read(&mut self, into: &mut [u8]) -> Got {
        Self::read(self, into)
    }

    fn write(&mut self, bytes: &[u8]) -> Result<(), Fault> {
        let mut left = bytes;
        while !left.is_empty() {
            match rustix::io::write(&self.fd, left) {
                Ok(count) => left = left.get(count..).unwrap_or_default(),
                Err(Errno::INTR) => {}
                Err(Errno::AGAIN) => return Err(Fault::Transfer),
                Err(_) => return Err(Fault::NoBus),
            }
        }
        Ok(())
    }

    fn flush(&mut self) {
        // A line that is gone has nothing left to wait for.
        let _ = rustix::termios::tcdrain(&self.fd);
    }

    fn set_baud(&mut self, baud: u32) -> Result<(), Fault> {
        let set = || {
            let mut settings = rustix::termios::tcgetattr(&self.fd)?;
            make_plain(&mut settings, baud, self.framing)?;
            rustix::termios::tcsetattr(&self.fd, OptionalActions::Drain, &settings)?;
            rustix::termios::tcflush(&self.fd, rustix::termios::QueueSelector::IFlush)
        };
        set().map_err(fault)
    }

    fn rest(&mut self, at_most: Duration, _: &dyn Clock) {
        let timeout = Timespec {
            tv_sec: i64::try_from(at_most.as_secs()).unwrap_or(i64::MAX),
            tv_nsec: i64::from(at_most.subsec_nanos()),
        };
        // An interrupted wait is a wake-up like any other.
        let _ = poll(&mut [PollFd::new(&self.fd, PollFlags::IN)], Some(&timeout));
    }
}

impl SerialError {
    /// What kind of failure it is.
    pub const fn fault(&self) -> Fault {
        self.fault
    }
}

impl AsFd for Serial {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.fd.as_fd()
    }
}

/// Even parity: on, and not odd.
const EVEN: ControlModes = ControlModes::PARENB;

fn make_plain(settings: &mut Termios, baud: u32, framing: Framing) -> Result<(), Errno> {
    settings.make_raw();
    settings.control_modes |= ControlModes::CLOCAL | ControlModes::CREAD;
    settings.control_modes &= !(ControlModes::CSTOPB | ControlModes::CRTSCTS | ControlModes::PARODD);
    if framing == Framing::EightEven2 {
        settings.control_modes |= EVEN | ControlModes::CSTOPB;
    }
    settings.set_speed(baud)
}

fn reason(errno: Errno, baud: u32) -> String {
    match errno {
        Errno::NOENT => "there is no such device".to_owned(),
        Errno::ACCESS | Errno::PERM => "permission denied".to_owned(),
        Errno::BUSY => "it is in use".to_owned(),
        Errno::NOTTY => "it is not a serial line".to_owned(),
        Errno::INVAL => format!("it does not take {baud} baud"),
        other => other.to_string(),
    }
}

const fn fault(errno: Errno) -> Fault {
    match errno {
        Errno::ACCESS | Errno::PERM => Fault::Denied,
        Errno::BUSY => Fault::Busy,
        Errno::NOTTY => Fault::OtherKind,
        _ => Fault::NoBus,
    }
}

const fn help(errno: Errno) -> &'static str {
    match errno {
        Errno::NOENT => "plug it in, or correct the path; adapters are listed in /dev/serial/by-id",
        Errno::ACCESS | Errno::PERM => "your user may not open it: join the dialout group and log in again",
        Errno::BUSY => "another program holds it; close that first",
        Errno::INVAL => "choose a rate the adapter can do",
        _ => "check the path",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

    fn pair() -> (OwnedFd, std::path::PathBuf) {
        let far = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&far).unwrap();
        unlockpt(&far).unwrap();
        let path = ptsname(&far, Vec::new()).unwrap().into_string().unwrap();
        (far, path.into())
    }

    #[test]
    fn bytes_come_through_as_they_are_at_unusual_rates() {
        for baud in [9600, 115_200, 100_000, 420_000] {
            let (far, path) = pair();
            let line = Serial::open(&path, baud).unwrap();
            let mut got = [0; 16];
            assert_eq!(line.read(&mut got), Got::Nothing);
            rustix::io::write(&far, b"\x03\r\n\x11\x00").unwrap();
            let mut ready = [rustix::event::PollFd::new(&line, rustix::event::PollFlags::IN)];
            rustix::event::poll(&mut ready, None).unwrap();
            assert_eq!(line.read(&mut got), Got::Bytes(5));
            assert_eq!(&got[..5], b"\x03\r\n\x11\x00");
        }
    }

    #[test]
    fn parity_is_asked_for_and_read_back() {
        let (far, path) = pair();
        let line = Serial::open_as(&path, 100_000, Framing::EightEven2).unwrap();
        let taken = rustix::termios::tcgetattr(&line).unwrap();
        assert_eq!(taken.output_speed(), 100_000);
        // What a pty takes depends on the kernel; what is said of it does not.
        assert_eq!(line.is_plainer(), !taken.control_modes.contains(EVEN | ControlModes::CSTOPB));
        rustix::io::write(&far, b"\x0F\x80").unwrap();
        let mut ready = [rustix::event::PollFd::new(&line, rustix::event::PollFlags::IN)];
        rustix::event::poll(&mut ready, None).unwrap();
        let mut got = [0; 4];
        assert_eq!((line.read(&mut got), &got[..2]), (Got::Bytes(2), &b"\x0F\x80"[..]));
        assert!(!Serial::open(&pair().1, 9600).is_ok_and(|line| line.is_plainer()));
    }

    #[test]
    fn a_line_that_another_reads_is_neither_set_nor_emptied() {
        let (far, path) = pair();
        let first = Serial::open(&path, 115_200).unwrap();
        rustix::io::write(&far, b"1,2").unwrap();
        let mut ready = [rustix::event::PollFd::new(&first, rustix::event::PollFlags::IN)];
        rustix::event::poll(&mut ready, None).unwrap();
        let error = Serial::open(&path, 9600).unwrap_err();
        assert!(matches!(error.fault(), Fault::Taken(_)), "{error}");
        assert_eq!(first.read(&mut [0; 8]), Got::Bytes(3), "what waited there still waits");
        let speed = rustix::termios::tcgetattr(&first).unwrap().output_speed();
        assert_eq!(speed, 115_200);
        drop(first);
        assert!(Serial::open(&path, 9600).is_ok());
    }

    #[test]
    fn a_pulled_plug_is_gone() {
        let (far, path) = pair();
        let line = Serial::open(&path, 115_200).unwrap();
        drop(far);
        assert_eq!(line.read(&mut [0; 4]), Got::Gone);
    }

    #[test]
    fn what_cannot_be_opened_is_named_with_what_to_try() {
        let error = Serial::open(Path::new("/dev/tty-none"), 9600).unwrap_err();
        assert_eq!(error.to_string(), "cannot open /dev/tty-none: there is no such device");
        let pipe = tempfile::tempdir().unwrap();
        let pipe = pipe.path().join("pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, FileType::Fifo, Mode::RUSR, 0).unwrap();
        let looked = |path: &Path| Serial::look(path).map_err(|error| error.fault());
        assert_eq!(looked(Path::new("/dev/tty-none")), Err(Fault::NoBus));
        assert_eq!(looked(&pipe), Err(Fault::OtherKind));
        assert_eq!(looked(&pair().1), Ok(()));
        let error = Serial::open(Path::new("/dev/null"), 9600).unwrap_err();
        assert_eq!(error.to_string(), "cannot open /dev/null: it is not a serial line");
    }
}
