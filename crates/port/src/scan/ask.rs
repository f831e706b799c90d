//! Asking a serial port what is on it. Opening it resets many boards, and their servos twitch: only on purpose.

use super::Answer;
use crate::serial::{Got, Stream};
use std::time::Duration;
use wasvolta_wire::decode::{Carrier, DECODERS, Frame, Sink};
use wasvolta_wire::firmata::{Decoder, FromBoard, ToBoard};

/// A board that was reset by the opening speaks by then.
const RESET_TAKES: Duration = Duration::from_secs(3);
/// An answer takes no longer than this.
const ANSWER: Duration = Duration::from_secs(1);
const LOOK: Duration = Duration::from_millis(10);
/// So many good frames of a protocol are no accident.
const SURE: u64 = 3;

/// What the frames say is not looked at here.
struct Unheard;

impl Sink for Unheard {
    fn value(&mut self, _: u16, _: &str, _: f64) {}
    fn frame(&mut self, _: Frame) {}
}

/// Listens, then asks, as the drivers do; what is heard first settles it.
pub fn ask(line: &mut dyn Stream, wait: &dyn Fn(Duration)) -> Answer {
    let mut firmata = Decoder::default();
    let mut decoders: Vec<_> = DECODERS
        .iter()
        .filter(|row| row.is_telling)
        .map(|row| (row.protocol, (row.make)(Carrier::Stream)))
        .collect();
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
                for (protocol, decoder) in &mut decoders {
                    decoder.feed(bytes, None, &mut Unheard);
                    if decoder.counts().good >= SURE {
                        return Answer::Link { protocol };
                    }
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
