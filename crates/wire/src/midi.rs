//! MIDI 1.0: controllers, notes, the pitch wheel and pressure as channels. The library reads the bytes, running status and
//! what may stand anywhere included; what it drops is counted here.
//!
//! A channel's code is its kind in the bits above 11, the MIDI channel from 0 in the next four, its number in the lowest
//! seven. A controller of 14 bits is two: `n` has the upper seven bits and `n + 32` the lower, which come second.

use crate::decode::{Counts, Decode, Frame, Sink};
use midly::MidiMessage;
use midly::live::LiveEvent;
use midly::stream::MidiStream;
use std::time::Duration;

/// A controller, 0 to 127.
pub const CONTROLLER: u16 = 0;
/// A note, by how hard it is struck: 1 to 127, and 0 when it is let go.
pub const NOTE: u16 = 1;
/// The pitch wheel, −8192 to 8191.
pub const BEND: u16 = 2;
/// How hard all keys are held, 0 to 127.
pub const PRESSURE: u16 = 3;
/// A controller of two halves, 0 to 16383.
pub const WIDE_CONTROLLER: u16 = 4;

/// The code of a channel.
pub const fn code(kind: u16, channel: u16, number: u16) -> u16 {
    kind << 11 | channel << 7 | number
}

midly::stack_buffer! {
    /// What is longer than this is no message that says anything here.
    struct Held([u8; 64]);
}

/// See the module.
pub struct Decoder {
    stream: MidiStream<Held>,
    /// The upper halves of controllers, by MIDI channel and number; above 127 none came.
    upper: [[u8; 32]; 16],
    counts: Counts,
}

const NONE: u8 = 0xFF;

impl Default for Decoder {
    fn default() -> Self {
        Self {
            stream: MidiStream::with_buffer(Held::new()),
            upper: [[NONE; 32]; 16],
            counts: Counts::default(),
        }
    }
}

/// Hands on what a message says; whether it says anything.
fn says(upper: &mut [[u8; 32]; 16], channel: u8, message: MidiMessage, sink: &mut dyn Sink) -> bool {
    let on = u16::from(channel);
    let mut value =
        |kind, number: u8, value: i32| sink.value(code(kind, on, number.into()), "", value.into());
    match message {
        MidiMessage::Controller { controller, value: at } => {
            let (number, at) = (controller.as_int(), at.as_int());
            value(CONTROLLER, number, at.into());
            let place =
                upper.get_mut(usize::from(channel)).and_then(|all| all.get_mut(usize::from(number % 32)));
            match (number, place) {
                (0..32, Some(place)) => *place = at,
                (32..64, Some(place)) if *place != NONE => {
                    value(WIDE_CONTROLLER, number - 32, i32::from(*place) << 7 | i32::from(at));
                }
                _ => {}
            }
        }
        MidiMessage::NoteOn { key, vel } => value(NOTE, key.as_int(), vel.as_int().into()),
        MidiMessage::NoteOff { key, .. } => value(NOTE, key.as_int(), 0),
        MidiMessage::PitchBend { bend } => value(BEND, 0, bend.as_int().into()),
        MidiMessage::ChannelAftertouch { vel } => value(PRESSURE, 0, vel.as_int().into()),
        MidiMessage::Aftertouch { .. } | MidiMessage::ProgramChange { .. } => return false,
    }
    true
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], _: Option<Duration>, sink: &mut dyn Sink) {
        let Self { stream, upper, counts } = self;
        for byte in bytes {
            let mut taken = false;
            stream.feed(std::slice::from_ref(byte), |event| {
                taken = true;
                if let LiveEvent::Midi { channel, message } = event
                    && says(upper, channel.as_int(), message, sink)
                {
                    counts.good += 1;
                    sink.frame(Frame::Values);
                }
            });
            // A byte of a message that no status stands before says nothing.
            counts.skipped += u64::from(!taken && *byte < 0x80 && counts.good == 0);
        }
    }

    fn reopened(&mut self) {
        let counts = self.counts;
        *self = Self { counts, ..Self::default() };
    }

    fn counts(&self) -> Counts {
        self.counts
    }
}

/// The message that says a channel's value; none where it has no such channel. Values outside its range are those at its
/// ends, never others.
pub fn emit(code: u16, value: i32) -> Vec<u8> {
    let (kind, channel, number) = (code >> 11, code >> 7 & 0x0F, code & 0x7F);
    let status = |high: u8| high | u8::try_from(channel).unwrap_or_default();
    let seven = |value: i32| u8::try_from(value.clamp(0, 127)).unwrap_or_default();
    let number = seven(number.into());
    match kind {
        CONTROLLER => vec![status(0xB0), number, seven(value)],
        NOTE => vec![status(0x90), number, seven(value)],
        BEND => {
            let whole = value.clamp(-8192, 8191) + 8192;
            vec![status(0xE0), seven(whole & 0x7F), seven(whole >> 7)]
        }
        PRESSURE => vec![status(0xD0), seven(value)],
        WIDE_CONTROLLER => {
            let whole = value.clamp(0, 16_383);
            let status = status(0xB0);
            vec![status, number, seven(whole >> 7), status, number + 32, seven(whole & 0x7F)]
        }
        _ => Vec::new(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::{Seen, fed};
    use proptest::prelude::*;

    fn values(bytes: &[u8]) -> Vec<(u16, f64)> {
        let seen: Seen = fed(&mut Decoder::default(), bytes, &[]);
        assert!(seen.frames.iter().all(|frame| *frame == Frame::Values));
        seen.values.into_iter().map(|(code, _, value)| (code, value)).collect()
    }

    #[test]
    fn running_status_notes_let_go_and_bytes_that_may_stand_anywhere() {
        let cc7 = code(CONTROLLER, 0, 7);
        assert_eq!(values(&[0xB0, 7, 100, 7, 101, 7, 102]), [(cc7, 100.0), (cc7, 101.0), (cc7, 102.0)]);
        // A clock between the bytes of a message changes nothing.
        assert_eq!(values(&[0xB0, 0xF8, 7, 0xFE, 100]), [(cc7, 100.0)]);
        let note = code(NOTE, 2, 60);
        assert_eq!(values(&[0x92, 60, 64, 60, 0, 0x82, 60, 90]), [(note, 64.0), (note, 0.0), (note, 0.0)]);
        assert_eq!(
            values(&[0xE0, 0, 0x40, 0xD0, 33]),
            [(code(BEND, 0, 0), 0.0), (code(PRESSURE, 0, 0), 33.0)]
        );
        assert_eq!(
            values(&[0xE1, 0, 0, 0x7F, 0x7F]),
            [(code(BEND, 1, 0), -8192.0), (code(BEND, 1, 0), 8191.0)]
        );
    }

    #[test]
    fn a_controller_of_two_halves_is_whole_once_both_have_come() {
        let wide = code(WIDE_CONTROLLER, 0, 1);
        let of = |bytes: &[u8]| {
            values(bytes).into_iter().filter(|(code, _)| *code == wide).map(|(_, v)| v).collect::<Vec<_>>()
        };
        assert_eq!(of(&[0xB0, 33, 5]), [0.0; 0], "the lower half alone says nothing");
        assert_eq!(of(&[0xB0, 1, 64, 33, 5, 33, 6]), [8197.0, 8198.0]);
    }

    #[test]
    fn half_a_message_and_a_message_without_end_say_nothing() {
        assert!(values(&[0xB0, 7, 0xC0, 5]).is_empty());
        let mut long = vec![0xF0];
        long.extend([1; 10_000]);
        long.extend([0xF7, 0xB0, 7, 1]);
        assert_eq!(values(&long), [(code(CONTROLLER, 0, 7), 1.0)]);
        assert!(values(&[7, 100, 7, 100]).is_empty(), "no status stood before it");
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(kind in 0u16..5, channel in 0u16..16, number in 0u16..32, value in -9000i32..17_000) {
            let number = if kind == BEND || kind == PRESSURE { 0 } else { number };
            let code = code(kind, channel, number);
            let (least, most) = match kind { BEND => (-8192, 8191), WIDE_CONTROLLER => (0, 16_383), _ => (0, 127) };
            let read = values(&emit(code, value));
            prop_assert!(read.contains(&(code, f64::from(value.clamp(least, most)))), "{:?}", read);
        }
    }
}
