//! iBUS: a radio receiver's fourteen channels of 16 bits, 32 bytes a frame, at 115200 baud, about every 7 ms.
//!
//! `20 40`, fourteen times a value low byte first, then 0xFFFF less the sum of the thirty bytes before. The protocol has no
//! word for a transmitter that is gone: many receivers go on sending the last values.

use crate::decode::{self, Counts, Decode, Frame, Look, Sink, Window};
use std::time::Duration;

/// The length of a frame in bytes.
pub const LENGTH: usize = 32;
/// The channels of a frame.
pub const CHANNELS: usize = 14;
const HEADER: [u8; 2] = [0x20, 0x40];
/// Some receivers pack four bits of further channels above each value.
const VALUE: u16 = 0x0FFF;

/// See the module.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    window: Window<LENGTH>,
    counts: Counts,
}

fn sum(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0xFFFF, |sum: u16, byte| sum.wrapping_sub(u16::from(*byte)))
}

fn look(held: &[u8]) -> Look {
    if held.iter().zip(HEADER).any(|(byte, wanted)| *byte != wanted) {
        return Look::Skip;
    }
    let Some((before, [low, high])) = held.get(..LENGTH).and_then(<[u8]>::split_last_chunk::<2>) else {
        return Look::More;
    };
    if u16::from_le_bytes([*low, *high]) == sum(before) { Look::Good(LENGTH) } else { Look::Bad }
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], _: Option<Duration>, sink: &mut dyn Sink) {
        decode::scan(&mut self.window, &mut self.counts, bytes, look, |frame| {
            let values = frame.get(2..).unwrap_or_default().as_chunks::<2>().0;
            for (channel, value) in (1..).zip(values.iter().take(CHANNELS)) {
                sink.value(channel, "", f64::from(u16::from_le_bytes(*value) & VALUE));
            }
            sink.frame(Frame::Values);
        });
    }

    fn reopened(&mut self) {
        self.window.clear();
    }

    fn counts(&self) -> Counts {
        self.counts
    }
}

/// A frame of fourteen values in µs.
pub fn emit(values: &[u16; CHANNELS]) -> [u8; LENGTH] {
    let mut frame = [0; LENGTH];
    let bytes = HEADER.into_iter().chain(values.iter().flat_map(|value| value.to_le_bytes()));
    frame.iter_mut().zip(bytes).for_each(|(place, byte)| *place = byte);
    let check = sum(frame.get(..LENGTH - 2).unwrap_or_default()).to_le_bytes();
    frame.iter_mut().skip(LENGTH - 2).zip(check).for_each(|(place, byte)| *place = byte);
    frame
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::{fed, hex};
    use proptest::prelude::*;

    const FRAME: &str =
        "20 40 DC 05 DC 05 E8 03 D0 07 D2 04 E5 06 DC 05 DC 05 DC 05 DC 05 DC 05 DC 05 DC 05 DC 05 52 F3";
    const VALUES: [u16; CHANNELS] =
        [1500, 1500, 1000, 2000, 1234, 1765, 1500, 1500, 1500, 1500, 1500, 1500, 1500, 1500];

    #[test]
    fn the_frame_of_the_description_is_read_and_written() {
        let seen = fed(&mut Decoder::default(), &hex(FRAME), &[]);
        assert_eq!(seen.newest(CHANNELS), VALUES.map(f64::from));
        assert_eq!(
            (seen.values[0].0, seen.values[13].0, seen.frames.as_slice()),
            (1, 14, &[Frame::Values][..])
        );
        assert_eq!(emit(&VALUES).to_vec(), hex(FRAME));
    }

    #[test]
    fn a_frame_with_a_wrong_sum_says_nothing_and_the_one_within_it_is_found() {
        let mut broken = hex(FRAME);
        broken[7] ^= 1;
        broken.extend(hex(FRAME));
        let mut decoder = Decoder::default();
        let seen = fed(&mut decoder, &broken, &[3, 40]);
        assert_eq!((seen.frames.len(), decoder.counts()), (1, Counts { good: 1, bad: 1, skipped: 32 }));
    }

    #[test]
    fn bits_above_a_value_are_not_part_of_it() {
        let mut values = VALUES;
        values[0] |= 0x3000;
        assert_eq!(fed(&mut Decoder::default(), &emit(&values), &[]).values[0], (1, String::new(), 1500.0));
    }

    proptest! {
        #[test]
        fn frames_come_back_and_after_any_rubbish_at_the_latest_the_third(
            values in proptest::array::uniform14(800u16..2200),
            rubbish in proptest::collection::vec(any::<u8>(), 0..100),
        ) {
            let frame = emit(&values);
            let bytes = [&rubbish[..], &frame, &frame, &frame].concat();
            let seen = fed(&mut Decoder::default(), &bytes, &[]);
            prop_assert_eq!(seen.newest(CHANNELS), values.map(f64::from));
        }
    }
}
