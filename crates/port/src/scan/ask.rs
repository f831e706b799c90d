//! Asking a serial port what is on it. Opening it resets many boards, and their servos twitch: only on purpose.

use super::Answer;
use crate::serial::{Got, Stream};
use std::time::Duration;
use wasvolta_wire::firmata::{Decoder, FromBoard, ToBoard};
use wasvolta_wire::lines;

/// A board that was reset by the opening speaks by then.
const RESET_TAKES: Duration = Duration::from_secs(3);
/// An answer takes no longer than this.
const ANSWER: Duration = Duration::from_secs(1);
const LOOK: Duration = Duration::from_millis(10);
/// So many lines of numbers are no accident.
const SURE: u32 = 3;

/// Listens, then asks, as the drivers do; what is heard first settles it.
pub fn ask(line: &mut dyn Stream, wait: &dyn Fn(Duration)) -> Answer {
    let mut firmata = Decoder::default();
    let (mut numbers, mut lines) = (lines::Decoder::default(), 0);
    let mut asked = false;
    let mut passed = Duration::ZERO;
    let mut heard = 0;
    let mut bytes = [0; 256];
    while passed < RESET_TAKES + ANSWER {
        match line.read(&mut bytes) {
            Got::Bytes(count) => {
                heard += count;
                let bytes = bytes.get(..count).unwrap_or_default();
                for &byte in bytes {
                    let frame = firmata.from_board(byte);
                    if let Some(FromBoard::Version { major, minor }) =
                        frame.as_ref().and_then(FromBoard::parse)
                    {
                        return Answer::Firmata { major, minor };
                    }
                }
                numbers.feed(bytes, |_| lines += 1);
                if lines >= SURE {
                    return Answer::Numbers;
                }
            }
            Got::Nothing => {}
            Got::Gone => return Answer::Gone,
        }
        if passed >= RESET_TAKES && !std::mem::replace(&mut asked, true) {
            // Refused or not: silence says the same.
            let _ = line.write(ToBoard::AskVersion.emit().as_slice());
        }
        wait(LOOK);
        passed += LOOK;
    }
    if heard == 0 { Answer::Silence } else { Answer::Something }
}
