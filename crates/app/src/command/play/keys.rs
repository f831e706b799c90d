//! The keys that a show waits for, where a terminal is there to press them: each is typed, with Enter behind it.
//!
//! By whole lines, so that the terminal stays as it is: Ctrl-C and Ctrl-Z go on being signals.

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::io::Errno;
use std::io::{BufRead, IsTerminal, stdin};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Duration;
use wasvolta_core::rig::{PortKind, Rig};

/// See the module.
pub struct Keys(Option<Receiver<char>>);

/// How often it is looked whether there is anything to read, and anybody to read it for.
const PITCH: Duration = Duration::from_millis(200);

impl Keys {
    /// Listens from now on, where a show waits for keys and somebody may type them: not where the rig itself reads what is
    /// typed.
    pub fn listen(rig: &Rig, are_awaited: bool) -> Self {
        let is_read = || rig.ports.iter().any(|port| port.kind == PortKind::Stdin);
        if !are_awaited || !stdin().is_terminal() || is_read() {
            return Self(None);
        }
        let (typed, keys) = channel();
        // It ends with the program, or when nobody takes its keys any more.
        let thread = std::thread::Builder::new().name("typed keys".to_owned()).spawn(move || read(&typed));
        Self(thread.ok().map(|_| keys))
    }

    /// Whether anything is listened to.
    pub const fn are_heard(&self) -> bool {
        self.0.is_some()
    }

    /// What was typed since the last look.
    pub fn typed(&self) -> impl Iterator<Item = char> {
        self.0.iter().flat_map(Receiver::try_iter)
    }
}

fn read(typed: &Sender<char>) {
    let pitch = Timespec { tv_sec: 0, tv_nsec: i64::from(PITCH.subsec_nanos()) };
    loop {
        let standard = stdin();
        let mut fds = [PollFd::new(&standard, PollFlags::IN)];
        match poll(&mut fds, Some(&pitch)) {
            Ok(0) | Err(Errno::INTR) => continue,
            Ok(_) => {}
            // Nothing will ever be typed there.
            Err(_) => return,
        }
        // In the background a read would stop the program, with everything driven.
        let ours =
            rustix::termios::tcgetpgrp(&standard).is_ok_and(|group| group == rustix::process::getpgrp());
        if !ours {
            std::thread::sleep(PITCH);
            continue;
        }
        let mut line = String::new();
        if standard.lock().read_line(&mut line).unwrap_or(0) == 0 {
            return;
        }
        if line.trim().chars().any(|key| typed.send(key).is_err()) {
            return;
        }
    }
}
