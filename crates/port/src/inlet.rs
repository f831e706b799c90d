//! Ways in: what can be waited on, and drained of all that has come.
//!
//! A byte way hands on bytes, and a decoder makes values of them; any other way hands on values itself. Nothing here
//! blocks: whoever drains is called when the descriptor says that something waits, or with every beat.

use crate::i2c::Fault;
use crate::serial::{Framing, Got, Serial, SerialError};
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use rustix::io::Errno;
use std::net::{SocketAddr, UdpSocket};
use std::path::Path;
use std::time::Duration;
use thiserror::Error;
use wasvolta_wire::decode::Sink;

/// Bytes read from one way in one turn at most; what is left waits for the next.
const MOST_BYTES: usize = 16 * 1024;
/// Datagrams taken in one turn at most.
const MOST_DATAGRAMS: usize = 64;
/// The longest datagram that there can be: none is cut, for half of one may say something else.
const LONGEST_DATAGRAM: usize = 65_536;

/// Takes what comes.
pub trait Outlet: Sink {
    /// Bytes for a decoder. `quiet` is how long the way was silent before them, where that was seen.
    fn bytes(&mut self, bytes: &[u8], quiet: Option<Duration>);
}

/// What became of a way while it was drained.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Drained {
    /// It is open.
    Open,
    /// It is gone, and must be opened anew.
    Gone,
}

/// An open way in. See the module.
pub trait Inlet: Send {
    /// What says that something waits; none where it is to be drained with every beat.
    fn descriptor(&self) -> Option<BorrowedFd<'_>>;

    /// Takes all that waits, to the newest. `now` is the time of the clock that beats are counted by.
    fn drain(&mut self, now: Duration, out: &mut dyn Outlet) -> Drained;

    /// What is to be known about it though it works.
    fn note(&self) -> Option<&'static str> {
        None
    }
}

/// A way in that could not be opened.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{words}")]
pub struct Shut {
    /// What was done, to what, and what is wrong.
    pub words: String,
    /// What to try.
    pub help: String,
    /// The kind of failure.
    pub fault: Fault,
}

impl From<SerialError> for Shut {
    fn from(error: SerialError) -> Self {
        Self { words: error.to_string(), help: error.help.to_owned(), fault: error.fault() }
    }
}

/// Opens a way, again and again if it must. It may take its time.
pub type OpenInlet = Box<dyn FnMut() -> Result<Box<dyn Inlet>, Shut> + Send>;

/// How long a way was silent, by when bytes came last.
#[derive(Debug, Clone, Copy, Default)]
struct Quiet(Option<Duration>);

impl Quiet {
    /// Bytes came at `now`.
    fn ends(&mut self, now: Duration) -> Option<Duration> {
        let before = self.0.replace(now);
        before.map(|before| now.saturating_sub(before))
    }
}

/// A serial line.
struct Line {
    serial: Serial,
    quiet: Quiet,
}

/// Opens a serial line.
///
/// # Errors
/// As [`Serial::open`].
pub fn line(path: &Path, baud: u32, framing: Framing) -> Result<Box<dyn Inlet>, Shut> {
    Ok(Box::new(Line { serial: Serial::open_as(path, baud, framing)?, quiet: Quiet::default() }))
}

impl Inlet for Line {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.serial.as_fd())
    }

    fn drain(&mut self, now: Duration, out: &mut dyn Outlet) -> Drained {
        read_all(&mut self.quiet, now, out, |into| self.serial.read(into))
    }

    fn note(&self) -> Option<&'static str> {
        self.serial.is_plainer().then_some(
            "the line did not accept even parity and two stop bits, as a pty does not: bytes with errors go unnoticed",
        )
    }
}

/// A device of the kernel that gives bytes: a MIDI device.
struct Bytes {
    device: OwnedFd,
    quiet: Quiet,
}

/// Opens a device that gives bytes.
///
/// # Errors
/// When it is not there, when this user may not open it, and when another program has it.
pub fn device(path: &Path) -> Result<Box<dyn Inlet>, Shut> {
    use rustix::fs::{Mode, OFlags, open};
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let opened = open(path, flags, Mode::empty());
    opened.map(|device| Box::new(Bytes { device, quiet: Quiet::default() }) as Box<dyn Inlet>).map_err(|error| {
        let (fault, help) = match error {
            Errno::NOENT | Errno::NODEV | Errno::NXIO => {
                (Fault::NoBus, "plug it in; `wasvolta scan` lists the MIDI devices that are there")
            }
            Errno::ACCESS | Errno::PERM => (
                Fault::Denied,
                "sound devices belong to the group audio: add your user to it (usermod -aG audio USER), and log in again",
            ),
            Errno::BUSY => (Fault::Busy, "another program has it: close that first"),
            _ => (Fault::OtherKind, "write the path of a MIDI device, as /dev/snd/midiC1D0"),
        };
        let words = plain(&error.into());
        Shut { words: format!("cannot open {}: {words}", path.display()), help: help.to_owned(), fault }
    })
}

impl Inlet for Bytes {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.device.as_fd())
    }

    fn drain(&mut self, now: Duration, out: &mut dyn Outlet) -> Drained {
        read_all(&mut self.quiet, now, out, |into| match rustix::io::read(&self.device, into) {
            Ok(0) => Got::Gone,
            Ok(count) => Got::Bytes(count),
            Err(Errno::AGAIN | Errno::INTR) => Got::Nothing,
            Err(_) => Got::Gone,
        })
    }
}

/// Reads until nothing waits, or it has had its share of this turn.
fn read_all(
    quiet: &mut Quiet,
    now: Duration,
    out: &mut dyn Outlet,
    mut read: impl FnMut(&mut [u8]) -> Got,
) -> Drained {
    let mut bytes = [0; 1024];
    let mut total = 0;
    while total < MOST_BYTES {
        match read(&mut bytes) {
            Got::Bytes(count) => {
                // What follows at once was waiting already.
                let before = if total == 0 { quiet.ends(now) } else { None };
                total += count;
                out.bytes(bytes.get(..count).unwrap_or_default(), before);
            }
            Got::Nothing => return Drained::Open,
            Got::Gone => return Drained::Gone,
        }
    }
    Drained::Open
}

/// This program's standard input.
#[derive(Default)]
struct StandardInput {
    quiet: Quiet,
}

/// Opens standard input. What has ended is not to be had again.
///
/// # Errors
/// When it is a terminal, or has ended.
pub fn standard_input() -> Result<Box<dyn Inlet>, Shut> {
    let input = rustix::stdio::stdin();
    let shut = |words: &str, help: &str| Shut {
        words: words.to_owned(),
        help: help.to_owned(),
        fault: Fault::OtherKind,
    };
    if rustix::termios::isatty(input) {
        let help = "pipe numbers into it: sender | wasvolta RIG";
        return Err(shut("standard input is this terminal", help));
    }
    if waits(input) == Got::Gone {
        return Err(shut(
            "standard input has ended",
            "start the program again with a sender that keeps running",
        ));
    }
    Ok(Box::new(StandardInput::default()))
}

/// Whether something waits on a descriptor that may block.
fn waits(fd: BorrowedFd<'_>) -> Got {
    use rustix::event::{PollFd, PollFlags, Timespec, poll};
    let mut asked = [PollFd::new(&fd, PollFlags::IN)];
    let at_once = Timespec { tv_sec: 0, tv_nsec: 0 };
    match poll(&mut asked, Some(&at_once)) {
        Ok(0) | Err(_) => Got::Nothing,
        Ok(_) if asked[0].revents().contains(PollFlags::IN) => Got::Bytes(0),
        Ok(_) => Got::Gone,
    }
}

impl Inlet for StandardInput {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(rustix::stdio::stdin())
    }

    fn drain(&mut self, now: Duration, out: &mut dyn Outlet) -> Drained {
        let input = rustix::stdio::stdin();
        read_all(&mut self.quiet, now, out, |into| match waits(input) {
            Got::Bytes(_) => match rustix::io::read(input, into) {
                Ok(0) => Got::Gone,
                Ok(count) => Got::Bytes(count),
                Err(Errno::AGAIN | Errno::INTR) => Got::Nothing,
                Err(_) => Got::Gone,
            },
            other => other,
        })
    }
}

/// A socket that datagrams come to.
struct Datagrams {
    socket: UdpSocket,
    /// Room for the longest, asked for once.
    room: Vec<u8>,
    /// Other machines are heard too.
    is_open: bool,
}

/// Listens for datagrams.
///
/// # Errors
/// When the address is not this machine's, or another program listens there.
pub fn datagrams(at: SocketAddr) -> Result<Box<dyn Inlet>, Shut> {
    use std::io::ErrorKind;
    let opened = UdpSocket::bind(at).and_then(|socket| socket.set_nonblocking(true).map(|()| socket));
    let room = vec![0; LONGEST_DATAGRAM];
    opened
        .map(|socket| Box::new(Datagrams { socket, room, is_open: !at.ip().is_loopback() }) as Box<dyn Inlet>)
        .map_err(|error| {
            let (fault, help) = match error.kind() {
                ErrorKind::AddrInUse => {
                    (Fault::Busy, "another program listens there: close it, or write another port")
                }
                ErrorKind::PermissionDenied => {
                    (Fault::Denied, "ports below 1024 are the system's: write one above")
                }
                ErrorKind::AddrNotAvailable => {
                    (Fault::NoBus, "write an address of this machine, or the port alone")
                }
                _ => (Fault::NoBus, "check the address"),
            };
            Shut { words: format!("cannot listen at {at}: {}", plain(&error)), help: help.to_owned(), fault }
        })
}

/// An error of the system without its number.
fn plain(error: &std::io::Error) -> String {
    let words = error.to_string();
    words.split(" (os error").next().unwrap_or_default().to_lowercase()
}

impl Inlet for Datagrams {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.socket.as_fd())
    }

    fn drain(&mut self, _: Duration, out: &mut dyn Outlet) -> Drained {
        for _ in 0..MOST_DATAGRAMS {
            match self.socket.recv(&mut self.room) {
                Ok(count) => out.bytes(self.room.get(..count).unwrap_or_default(), None),
                // A sender that this machine answered to is gone; that says nothing of what else may come.
                Err(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {}
                Err(_) => break,
            }
        }
        Drained::Open
    }

    fn note(&self) -> Option<&'static str> {
        self.is_open.then_some(
            "other machines are heard too, for its port has an address: any of them may move what it drives",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wasvolta_wire::decode::Frame;

    #[derive(Default)]
    struct Bytes(Vec<(Vec<u8>, Option<Duration>)>);

    impl Sink for Bytes {
        fn value(&mut self, _: u16, _: &str, _: f64) {}
        fn frame(&mut self, _: Frame) {}
    }

    impl Outlet for Bytes {
        fn bytes(&mut self, bytes: &[u8], quiet: Option<Duration>) {
            self.0.push((bytes.to_vec(), quiet));
        }
    }

    fn until_something_waits(inlet: &dyn Inlet) {
        let fd = inlet.descriptor().unwrap();
        let mut ready = [rustix::event::PollFd::new(&fd, rustix::event::PollFlags::IN)];
        rustix::event::poll(&mut ready, None).unwrap();
    }

    #[test]
    fn datagrams_come_as_wholes_and_a_place_that_is_taken_is_said() {
        let mut inlet = (20_000..)
            .find_map(|port| {
                datagrams(SocketAddr::from(([127, 0, 0, 1], port))).ok().map(|inlet| (port, inlet))
            })
            .unwrap();
        let at = SocketAddr::from(([127, 0, 0, 1], inlet.0));
        assert_eq!(inlet.1.note(), None, "this machine alone");
        let open =
            (20_500..).find_map(|port| datagrams(SocketAddr::from(([0, 0, 0, 0], port))).ok()).unwrap();
        assert!(open.note().is_some_and(|note| note.starts_with("other machines are heard too")));
        let taken = datagrams(at).err().unwrap();
        assert_eq!(taken.fault, Fault::Busy);
        assert!(
            taken.words.starts_with(&format!("cannot listen at {at}: address already in use")),
            "{taken}"
        );
        let sender = UdpSocket::bind("127.0.0.1:0").unwrap();
        for datagram in [&b"1 2"[..], b"", b"knob=3\n"] {
            sender.send_to(datagram, at).unwrap();
        }
        let mut got = Bytes::default();
        while got.0.len() < 3 {
            until_something_waits(inlet.1.as_ref());
            assert_eq!(inlet.1.drain(Duration::ZERO, &mut got), Drained::Open);
        }
        let bytes: Vec<&[u8]> = got.0.iter().map(|(bytes, _)| bytes.as_slice()).collect();
        assert_eq!(bytes, [&b"1 2"[..], b"", b"knob=3\n"]);
        assert!(
            datagrams(SocketAddr::from(([203, 0, 113, 1], 7000)))
                .is_err_and(|shut| shut.fault == Fault::NoBus)
        );
    }

    #[test]
    fn how_long_a_line_was_silent_goes_with_the_bytes() {
        let mut quiet = Quiet::default();
        let ms = Duration::from_millis;
        assert_eq!(
            [quiet.ends(ms(5)), quiet.ends(ms(12)), quiet.ends(ms(12))],
            [None, Some(ms(7)), Some(ms(0))]
        );
    }
}
