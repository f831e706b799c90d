//! Stand-ins that run by themselves on a pty, for any program that opens its path.

use crate::firmata::FirmataBoard;
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// The line is looked at this often.
const LOOK: Duration = Duration::from_millis(2);

/// Lets a microcontroller listen and speak on the far end of a pty until `stop`. Opening the near end resets it, as
/// opening the line of many boards does.
pub fn firmata(board: &FirmataBoard, far: &OwnedFd, stop: &AtomicBool) {
    let mut bytes = [0; 512];
    let mut open = false;
    while !stop.load(Ordering::SeqCst) {
        let was_open = open;
        match rustix::io::read(far, &mut bytes) {
            Ok(count) => {
                open = true;
                board.take(bytes.get(..count).unwrap_or_default());
            }
            // Nothing waits, but somebody has it open.
            Err(Errno::AGAIN | Errno::INTR) => open = true,
            Err(_) => open = false,
        }
        if open && !was_open {
            board.reset();
        }
        let count = if open { board.give(&mut bytes) } else { 0 };
        // A full line loses what is said, as on the wire.
        let _ = rustix::io::write(far, bytes.get(..count).unwrap_or_default());
        std::thread::sleep(LOOK);
    }
}
