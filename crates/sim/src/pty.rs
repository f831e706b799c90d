//! A pseudo-terminal as a serial line: the far end for a stand-in, the near end's path for any program.

use rustix::fd::OwnedFd;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};
use std::path::PathBuf;

/// A new pair: the far end, which never waits, and the path of the near one. Bytes pass as they are.
///
/// # Errors
/// When the system gives none.
pub fn pair() -> std::io::Result<(OwnedFd, PathBuf)> {
    let far = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
    grantpt(&far)?;
    unlockpt(&far)?;
    let mut settings = tcgetattr(&far)?;
    settings.make_raw();
    tcsetattr(&far, OptionalActions::Now, &settings)?;
    rustix::io::ioctl_fionbio(&far, true)?;
    let near = ptsname(&far, Vec::new())?;
    Ok((far, near.into_string().map_err(std::io::Error::other)?.into()))
}
