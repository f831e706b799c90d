//! SBUS: a radio receiver's sixteen channels of 11 bits and two of one, 25 bytes a frame, at 100000 baud with even parity
//! and two stop bits, inverted, every 7 or 14 ms.
//!
//! `0F`, 22 bytes of channels with the lowest bit first, flags, `00` or `x4`. There is no checksum: any byte may look like
//! a beginning. After rubbish a frame counts when it follows a silence of 2 ms; where silences cannot be seen, when three
//! follow each other and the same bytes cannot be read as frames in another way. A held frame may hold a false `0F` that
//! comes back for ever.

use crate::decode::{Counts, Decode, Frame, Sink, Window, eleven_bits, pack_eleven_bits};
use std::time::Duration;

/// The length of a frame in bytes.
pub const LENGTH: usize = 25;
/// A silence before a frame that tells where it begins.
pub const SILENCE: Duration = Duration::from_millis(2);
const START: u8 = 0x0F;
/// The frames that must follow each other where silences cannot be seen.
const IN_A_ROW: usize = 3;
const ROOM: usize = IN_A_ROW * LENGTH;

/// The flags of a frame.
pub mod flags {
    /// Channel 17 is on.
    pub const CHANNEL_17: u8 = 1;
    /// Channel 18 is on.
    pub const CHANNEL_18: u8 = 2;
    /// The receiver has missed a frame of its transmitter.
    pub const FRAME_LOST: u8 = 4;
    /// The receiver does not hear its transmitter any more.
    pub const FAILSAFE: u8 = 8;
}

/// See the module.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    window: Window<ROOM>,
    /// The window begins where a frame does.
    in_step: bool,
    /// Where in the window the newest silence was.
    silence_at: Option<usize>,
    counts: Counts,
}

/// Whether bytes can be a frame.
fn passes(held: &[u8], at: usize) -> bool {
    let ends = |byte: &u8| *byte == 0 || byte & 0x0F == 4;
    held.get(at) == Some(&START) && held.get(at + LENGTH - 1).is_some_and(ends)
}

impl Decoder {
    /// Takes all that can be told by now.
    fn settle(&mut self, sink: &mut dyn Sink) {
        loop {
            let held = self.window.held();
            if self.in_step {
                // A silence within a frame: either the adapter hands it on in two parts, or the rest of it was lost and
                // another begins there. Which one is known once that other one would be whole.
                let within = self.silence_at.filter(|at| (1..LENGTH).contains(at));
                if held.len() < within.unwrap_or_default() + LENGTH {
                    return;
                }
                if let Some(at) = within.filter(|at| passes(held, *at)) {
                    self.counts.bad += 1;
                    self.skip(at);
                } else if passes(held, 0) {
                    self.take(sink);
                } else {
                    self.counts.bad += 1;
                    self.in_step = false;
                }
            } else if let Some(at) = self.silence_at
                && held.len() >= at + LENGTH
            {
                if passes(held, at) {
                    self.skip(at);
                    self.in_step = true;
                } else {
                    self.silence_at = None;
                }
            } else if held.len() < ROOM {
                return;
            } else if self.is_in_a_row() {
                self.in_step = true;
            } else {
                self.skip(1);
            }
        }
    }

    /// Whether what is held are frames in a row, and cannot be read otherwise.
    fn is_in_a_row(&self) -> bool {
        let held = self.window.held();
        let all = |from: usize| (from..=ROOM - LENGTH).step_by(LENGTH).all(|at| passes(held, at));
        all(0) && !(1..LENGTH).any(all)
    }

    fn forget(&mut self, count: usize) {
        self.window.drop_first(count);
        self.silence_at = self.silence_at.and_then(|at| at.checked_sub(count));
    }

    fn skip(&mut self, count: usize) {
        self.counts.skipped += count as u64;
        self.forget(count);
    }

    /// Takes the frame at the beginning.
    fn take(&mut self, sink: &mut dyn Sink) {
        let held = self.window.held();
        let flags = held.get(LENGTH - 2).copied().unwrap_or_default();
        if flags & (flags::FAILSAFE | flags::FRAME_LOST) == 0 {
            let channels = held.get(1..LENGTH - 2).unwrap_or_default();
            for (channel, value) in (1..).zip(eleven_bits(channels)) {
                sink.value(channel, "", micros(value));
            }
            for (channel, bit) in [(17, flags::CHANNEL_17), (18, flags::CHANNEL_18)] {
                sink.value(channel, "", if flags & bit == 0 { 1000.0 } else { 2000.0 });
            }
            self.counts.good += 1;
            sink.frame(Frame::Values);
        } else {
            // The receiver repeats what it had: nobody has moved a stick to there now.
            self.counts.bad += 1;
            if flags & flags::FAILSAFE != 0 {
                sink.frame(Frame::Failsafe);
            }
        }
        self.forget(LENGTH);
    }
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], quiet: Option<Duration>, sink: &mut dyn Sink) {
        if quiet.is_some_and(|quiet| quiet >= SILENCE) {
            self.silence_at = Some(self.window.held().len());
        }
        for &byte in bytes {
            self.window.push(byte);
            self.settle(sink);
        }
    }

    fn reopened(&mut self) {
        *self = Self { counts: self.counts, ..Self::default() };
    }

    fn counts(&self) -> Counts {
        self.counts
    }
}

/// A value as a pulse in µs.
pub(crate) fn micros(value: u16) -> f64 {
    880.0 + 0.625 * f64::from(value)
}

/// A pulse in µs as a value: the nearest that there is.
pub fn value_of(micros: f64) -> u16 {
    let value = ((micros - 880.0) / 0.625).round().clamp(0.0, 2047.0);
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "0 to 2047")]
    let value = value as u16;
    value
}

/// A frame of sixteen values of 0 to 2047, with its flags.
pub fn emit(values: &[u16; 16], flags: u8) -> [u8; LENGTH] {
    let mut frame = [0; LENGTH];
    let bytes = std::iter::once(START).chain(pack_eleven_bits(values)).chain([flags, 0]);
    frame.iter_mut().zip(bytes).for_each(|(place, byte)| *place = byte);
    frame
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::{Seen, fed, hex};
    use proptest::prelude::*;

    const FRAME: &str = "0F E0 63 C5 C4 D1 07 3E F0 81 0F 7C E0 03 1F F8 C0 07 3E F0 81 0F 7C 00 00";
    const VALUES: [u16; 16] =
        [992, 172, 1811, 1000, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992];
    const GAP: Option<Duration> = Some(SILENCE);

    fn after_a_gap(bytes: &[u8]) -> (Seen, Counts) {
        let (mut decoder, mut seen) = (Decoder::default(), Seen::default());
        decoder.feed(bytes, GAP, &mut seen);
        (seen, decoder.counts())
    }

    #[test]
    fn the_frame_of_the_description_is_read_and_written() {
        let (seen, _) = after_a_gap(&hex(FRAME));
        assert_eq!(seen.newest(18)[..4], [1500.0, 987.5, 2011.875, 1505.0]);
        assert_eq!(seen.newest(2), [1000.0, 1000.0]);
        assert_eq!(emit(&VALUES, 0).to_vec(), hex(FRAME));
        assert_eq!([value_of(1500.0), value_of(987.5), value_of(0.0), value_of(9e9)], [992, 172, 0, 2047]);
    }

    #[test]
    fn a_receivers_flags_are_lost_frames_and_a_failsafe_and_not_where_a_stick_stands() {
        for (flags, frames) in [(0x0C, vec![Frame::Failsafe]), (8, vec![Frame::Failsafe]), (4, vec![])] {
            let (seen, counts) = after_a_gap(&emit(&VALUES, flags));
            assert_eq!((seen.frames, seen.values.len()), (frames, 0));
            assert_eq!(counts, Counts { good: 0, bad: 1, skipped: 0 });
        }
        let (seen, _) = after_a_gap(&emit(&VALUES, 2));
        assert_eq!(seen.newest(2), [1000.0, 2000.0]);
    }

    #[test]
    fn without_a_silence_the_first_frame_does_not_count_and_after_one_it_does() {
        let frame = hex(FRAME);
        assert!(fed(&mut Decoder::default(), &frame, &[]).frames.is_empty());
        assert_eq!(fed(&mut Decoder::default(), &frame.repeat(3), &[]).frames.len(), 3);
        // A silence of less than 2 ms is none.
        let (mut decoder, mut seen) = (Decoder::default(), Seen::default());
        decoder.feed(&frame, Some(Duration::from_micros(1999)), &mut seen);
        assert!(seen.frames.is_empty());
    }

    #[test]
    fn a_held_frame_that_can_be_read_in_two_ways_waits_for_a_silence() {
        // A false beginning twelve bytes further on, with an end where it needs one, and nothing that moves.
        let mut frame = emit(&VALUES, 0);
        (frame[12], frame[11]) = (START, 0);
        let bytes = frame.repeat(200);
        let mut decoder = Decoder::default();
        assert!(fed(&mut decoder, &bytes[5..], &[]).frames.is_empty(), "nobody can say which");
        let mut seen = Seen::default();
        decoder.feed(&frame, GAP, &mut seen);
        assert_eq!(seen.frames.len(), 1);
        let moved =
            [emit(&VALUES, 0), emit(&[1000; 16], 0), emit(&[1001; 16], 0), emit(&[990; 16], 0)].concat();
        assert!(!fed(&mut Decoder::default(), &moved, &[]).frames.is_empty());
    }

    #[test]
    fn lost_bytes_cost_the_frames_that_they_were_in() {
        let frame = hex(FRAME);
        let mut decoder = Decoder::default();
        let mut seen = Seen::default();
        decoder.feed(&frame, GAP, &mut seen);
        decoder.feed(&frame[..20], GAP, &mut seen);
        for _ in 0..3 {
            decoder.feed(&frame, GAP, &mut seen);
        }
        assert_eq!((seen.frames.len(), decoder.counts().bad), (4, 1));
    }

    #[test]
    fn a_frame_that_an_adapter_hands_on_in_two_parts_is_whole() {
        let frame = emit(&VALUES, 0);
        let (mut decoder, mut seen) = (Decoder::default(), Seen::default());
        decoder.feed(&frame, GAP, &mut seen);
        for _ in 0..4 {
            decoder.feed(&frame[..13], GAP, &mut seen);
            decoder.feed(&frame[13..], GAP, &mut seen);
        }
        decoder.feed(&frame, GAP, &mut seen);
        assert!(seen.frames.len() >= 5 && decoder.counts().bad == 0, "{:?}", decoder.counts());
        for values in seen.values.chunks(18) {
            assert_eq!((values[0].2, values[2].2), (1500.0, 2011.875));
        }
    }

    proptest! {
        #[test]
        fn frames_come_back_at_the_latest_after_three(
            values in proptest::collection::vec(proptest::array::uniform16(0u16..2048), 4),
            rubbish in proptest::collection::vec(any::<u8>(), 0..100),
        ) {
            let frames: Vec<_> = values.iter().map(|values| emit(values, 0)).collect();
            // With silences the first one counts, whatever was before.
            let (mut decoder, mut seen) = (Decoder::default(), Seen::default());
            decoder.feed(&rubbish, None, &mut seen);
            for frame in &frames {
                decoder.feed(frame, GAP, &mut seen);
            }
            prop_assert_eq!(&seen.newest(18)[..16], &values[3].map(micros)[..]);
        }
    }
}
