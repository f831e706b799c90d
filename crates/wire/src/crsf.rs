//! CRSF: a radio receiver's sixteen channels of 11 bits with a checksum, at 420000 baud, and how well it hears.
//!
//! A frame begins with `C8` (or `00`, `EA`, `EE`), then the length of what follows, 2 to 62, a type, what it says, and a
//! CRC-8 with the polynomial D5, from 0, over type and content. Type 0x16 has the channels, 0x14 the link. Without a
//! transmitter many receivers send the second only.

use crate::decode::{self, Counts, Decode, Frame, Look, Sink, Window, eleven_bits, pack_eleven_bits};
use crate::sbus::micros;
use std::time::Duration;

/// The longest frame in bytes.
pub const LONGEST: usize = 64;
/// How well the receiver hears, as a channel: 0 to 100 %.
pub const QUALITY: u16 = 101;
/// How strong the signal is at its better antenna, as a channel, in dBm.
pub const SIGNAL: u16 = 102;
const STARTS: [u8; 4] = [0xC8, 0x00, 0xEA, 0xEE];
const CHANNELS: u8 = 0x16;
const LINK: u8 = 0x14;

/// See the module.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    window: Window<LONGEST>,
    counts: Counts,
}

/// The CRC-8 of bytes.
pub fn crc(bytes: &[u8]) -> u8 {
    bytes.iter().fold(0, |crc, byte| {
        (0..8).fold(crc ^ byte, |crc: u8, _| if crc & 0x80 == 0 { crc << 1 } else { crc << 1 ^ 0xD5 })
    })
}

fn look(held: &[u8]) -> Look {
    match held {
        [start, ..] if !STARTS.contains(start) => Look::Skip,
        [_, length, rest @ ..] => {
            let length = usize::from(*length);
            if !(2..=LONGEST - 2).contains(&length) {
                return Look::Skip;
            }
            match rest.get(..length).and_then(<[u8]>::split_last) {
                Some((check, checked)) if crc(checked) == *check => Look::Good(length + 2),
                Some(_) => Look::Bad,
                None => Look::More,
            }
        }
        _ => Look::More,
    }
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], _: Option<Duration>, sink: &mut dyn Sink) {
        decode::scan(&mut self.window, &mut self.counts, bytes, look, |frame| match frame {
            [_, _, CHANNELS, packed @ .., _] if packed.len() == 22 => {
                for (channel, value) in (1..).zip(eleven_bits(packed)) {
                    sink.value(channel, "", micros(value));
                }
                sink.frame(Frame::Values);
            }
            [_, _, LINK, one, other, quality, ..] => {
                // An antenna that is not there says 0.
                let better = [*one, *other].into_iter().filter(|dbm| *dbm > 0).min();
                sink.value(QUALITY, "", f64::from(*quality));
                if let Some(dbm) = better {
                    sink.value(SIGNAL, "", -f64::from(dbm));
                }
                sink.frame(Frame::OfLink);
            }
            _ => {}
        });
    }

    fn reopened(&mut self) {
        self.window.clear();
    }

    fn counts(&self) -> Counts {
        self.counts
    }
}

fn frame(kind: u8, content: &[u8]) -> Vec<u8> {
    let mut checked = vec![kind];
    checked.extend_from_slice(content);
    let mut frame = vec![0xC8, u8::try_from(checked.len() + 1).unwrap_or(u8::MAX)];
    frame.extend_from_slice(&checked);
    frame.push(crc(&checked));
    frame
}

/// A frame of sixteen values of 0 to 2047.
pub fn emit(values: &[u16; 16]) -> Vec<u8> {
    frame(CHANNELS, &pack_eleven_bits(values))
}

/// A frame that tells of the link: its quality in percent, and its signal in dBm below zero.
pub fn emit_link(quality: u8, below_zero_dbm: u8) -> Vec<u8> {
    frame(LINK, &[below_zero_dbm, below_zero_dbm, quality, 8, 0, 2, 1, 55, 98, 9])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::{fed, hex};
    use proptest::prelude::*;

    const FRAME: &str = "C8 18 16 E0 63 C5 C4 D1 07 3E F0 81 0F 7C E0 03 1F F8 C0 07 3E F0 81 0F 7C 5F";
    const OF_LINK: &str = "C8 0C 14 3C 3E 64 08 00 02 01 37 62 09 40";
    const VALUES: [u16; 16] =
        [992, 172, 1811, 1000, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992, 992];

    #[test]
    fn the_frames_of_the_description_are_read_and_written() {
        let seen = fed(&mut Decoder::default(), &hex(FRAME), &[]);
        assert_eq!(seen.newest(16)[..4], [1500.0, 987.5, 2011.875, 1505.0]);
        assert_eq!(emit(&VALUES), hex(FRAME));
        let seen = fed(&mut Decoder::default(), &hex(OF_LINK), &[]);
        assert_eq!(seen.values, [(QUALITY, String::new(), 100.0), (SIGNAL, String::new(), -60.0)]);
        assert_eq!(seen.frames, [Frame::OfLink]);
        let seen = fed(&mut Decoder::default(), &emit_link(42, 0), &[]);
        assert_eq!(seen.values, [(QUALITY, String::new(), 42.0)], "no antenna says 0 dBm");
    }

    #[test]
    fn every_start_and_length_that_there_may_be_is_taken_and_no_other() {
        let starts = |start: u8| {
            let mut bytes = hex(FRAME);
            bytes[0] = start;
            fed(&mut Decoder::default(), &bytes, &[]).frames.len()
        };
        assert_eq!([0xC8, 0x00, 0xEA, 0xEE, 0xC7, 0xFF].map(starts), [1, 1, 1, 1, 0, 0]);
        for length in [0usize, 61, 62] {
            let frame = frame(0x29, &vec![7; length.saturating_sub(2)]);
            let mut decoder = Decoder::default();
            fed(&mut decoder, &frame, &[]);
            assert_eq!(decoder.counts().good, 1, "{length}: a type that says nothing here");
        }
        let mut decoder = Decoder::default();
        fed(&mut decoder, &[0xC8, 63, 1, 2, 3], &[]);
        assert_eq!(decoder.counts().skipped, 2 + 3);
    }

    proptest! {
        #[test]
        fn frames_come_back_and_after_any_rubbish_at_the_latest_behind_the_longest_frame_and_two(
            values in proptest::array::uniform16(0u16..2048),
            rubbish in proptest::collection::vec(any::<u8>(), 0..100),
        ) {
            let frame = emit(&values);
            let bytes = [&rubbish[..], &frame.repeat(LONGEST / frame.len() + 1 + 2)].concat();
            let seen = fed(&mut Decoder::default(), &bytes, &[]);
            prop_assert_eq!(seen.newest(16), values.map(micros));
        }
    }
}
