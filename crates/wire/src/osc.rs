//! OSC 1.0 over datagrams: each message's numbers as channels, by its address; behind a colon which of them, from 2.
//!
//! A datagram is a message or a bundle; bundles nest at most 8 deep here. What is no number is passed over. The library
//! reads the bytes; how deep a datagram is nested is looked at before it does.

use crate::decode::{Counts, Decode, Frame, Sink};
use rosc::{OscMessage, OscPacket, OscType};
use std::fmt::Write as _;
use std::time::Duration;

/// How deep bundles may nest.
pub const DEEPEST: usize = 8;
const BUNDLE: &[u8] = b"#bundle\0";
/// A bundle's head: its word, and its time.
const HEAD: usize = 16;

/// See the module.
#[derive(Debug, Clone, Default)]
pub struct Decoder {
    counts: Counts,
    /// The name of a channel behind a colon, made in the same room each time.
    name: String,
}

/// Whether bundles nest no deeper than is allowed, and every size fits.
fn is_flat(packet: &[u8], deep: usize) -> bool {
    if !packet.starts_with(BUNDLE) {
        return true;
    }
    let Some(mut rest) = packet.get(HEAD..).filter(|_| deep < DEEPEST) else { return false };
    while !rest.is_empty() {
        let Some((size, behind)) = rest.split_first_chunk::<4>() else { return false };
        let Ok(size) = usize::try_from(u32::from_be_bytes(*size)) else { return false };
        let Some((part, next)) = behind.split_at_checked(size) else { return false };
        if part.is_empty() || !is_flat(part, deep + 1) {
            return false;
        }
        rest = next;
    }
    true
}

/// A number of a message, where it is one.
fn number(value: &OscType) -> Option<f64> {
    let number = match value {
        OscType::Int(value) => f64::from(*value),
        OscType::Float(value) => f64::from(*value),
        OscType::Double(value) => *value,
        #[expect(clippy::cast_precision_loss, reason = "what is above 2^53 has no place on a servo")]
        OscType::Long(value) => *value as f64,
        OscType::Bool(value) => f64::from(u8::from(*value)),
        _ => return None,
    };
    Some(number).filter(|number| number.is_finite())
}

impl Decoder {
    fn packet(&mut self, packet: &OscPacket, sink: &mut dyn Sink) {
        match packet {
            OscPacket::Message(message) => self.message(message, sink),
            OscPacket::Bundle(bundle) => bundle.content.iter().for_each(|part| self.packet(part, sink)),
        }
    }

    fn message(&mut self, message: &OscMessage, sink: &mut dyn Sink) {
        for (place, value) in (1..=u16::MAX).zip(message.args.iter().filter_map(number)) {
            if place == 1 {
                sink.value(0, &message.addr, value);
            } else {
                self.name.clear();
                // To a text nothing can fail.
                let _ = write!(self.name, "{}:{place}", message.addr);
                sink.value(0, &self.name, value);
            }
        }
        self.counts.good += 1;
        sink.frame(Frame::Values);
    }
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], _: Option<Duration>, sink: &mut dyn Sink) {
        if bytes.is_empty() {
            return;
        }
        match is_flat(bytes, 0).then(|| rosc::decoder::decode_udp(bytes)) {
            Some(Ok(([], packet))) => self.packet(&packet, sink),
            _ => {
                self.counts.bad += 1;
                self.counts.skipped += bytes.len() as u64;
            }
        }
    }

    fn reopened(&mut self) {}

    fn counts(&self) -> Counts {
        self.counts
    }
}

/// A message of numbers.
///
/// # Errors
/// When the address is none.
pub fn emit(address: &str, numbers: &[f32]) -> Result<Vec<u8>, String> {
    if !address.starts_with('/') || !address.is_ascii() {
        return Err(format!("{address:?} is not an address: it begins with /"));
    }
    let args = numbers.iter().copied().map(OscType::Float).collect();
    let packet = OscPacket::Message(OscMessage { addr: address.to_owned(), args });
    rosc::encoder::encode(&packet).map_err(|error| format!("{error:?}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::Seen;
    use proptest::prelude::*;

    fn fed(bytes: &[u8]) -> (Seen, Counts) {
        let (mut decoder, mut seen) = (Decoder::default(), Seen::default());
        decoder.feed(bytes, None, &mut seen);
        (seen, decoder.counts())
    }

    fn bundle(parts: &[Vec<u8>]) -> Vec<u8> {
        let mut bytes = BUNDLE.to_vec();
        bytes.extend([0, 0, 0, 0, 0, 0, 0, 1]);
        for part in parts {
            bytes.extend(u32::try_from(part.len()).unwrap().to_be_bytes());
            bytes.extend(part);
        }
        bytes
    }

    #[test]
    fn a_messages_numbers_are_channels_by_its_address() {
        let (seen, counts) = fed(&emit("/wing", &[0.5, -2.0]).unwrap());
        assert_eq!(seen.values, [(0, "/wing".to_owned(), 0.5), (0, "/wing:2".to_owned(), -2.0)]);
        assert_eq!((counts.good, seen.frames.as_slice()), (1, &[Frame::Values][..]));
        // The bytes of the standard's own example: an address and one number, 440.
        let bytes = b"/oscillator/4/frequency\0,f\0\0\x43\xdc\0\0";
        assert_eq!(fed(bytes).0.values, [(0, "/oscillator/4/frequency".to_owned(), 440.0)]);
        let mixed = b"/m\0\0,isTFd\0\0\0\0\x03\xe8text\0\0\0\0\x40\x09\x21\xfb\x54\x44\x2d\x18";
        let values: Vec<f64> = fed(mixed).0.values.iter().map(|(_, _, value)| *value).collect();
        assert_eq!(values, [1000.0, 1.0, 0.0, std::f64::consts::PI], "what is no number is passed over");
        assert!(emit("wing", &[]).is_err());
    }

    #[test]
    fn bundles_nest_eight_deep_and_no_deeper() {
        let mut packet = emit("/x", &[1.0]).unwrap();
        for deep in 1..=DEEPEST {
            packet = bundle(&[packet]);
            assert_eq!(fed(&packet).1.good, 1, "{deep}");
        }
        let (seen, counts) = fed(&bundle(&[packet]));
        assert_eq!((seen.values.len(), counts.bad), (0, 1));
        // As deep as a datagram has room for.
        let mut deepest = emit("/x", &[1.0]).unwrap();
        while deepest.len() < 65_000 {
            deepest = bundle(&[deepest]);
        }
        assert_eq!(fed(&deepest).1.bad, 1);
    }

    proptest! {
        #[test]
        fn no_datagram_makes_it_panic(mut bytes in proptest::collection::vec(any::<u8>(), 0..300), cut in 0usize..80) {
            fed(&bytes);
            let whole = bundle(&[emit("/a", &[1.0, 2.0]).unwrap(), emit("/b", &[]).unwrap()]);
            fed(&whole[..cut.min(whole.len())]);
            let mut broken = whole.clone();
            let at = cut % broken.len();
            broken[at] ^= 0x55;
            fed(&broken);
            bytes.splice(0..0, BUNDLE.iter().copied());
            let (_, counts) = fed(&bytes);
            prop_assert!(counts.good + counts.bad <= 300);
        }
    }
}
