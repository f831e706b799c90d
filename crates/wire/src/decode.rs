//! What every decoder of a way in has in common: bytes go in as they come, values of channels come out.
//!
//! A decoder takes bytes in any split, keeps a fixed room, and never panics. After rubbish it looks for the next frame
//! within what it holds. Only frames whose every check passed say anything.

use crate::{crsf, ibus, lines, midi, osc, sbus};
use std::time::Duration;

/// What a decoder has seen so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// Frames that passed every check.
    pub good: u64,
    /// Frames that did not, or whose sender says that it has missed what it should have sent.
    pub bad: u64,
    /// Bytes that belonged to no good frame.
    pub skipped: u64,
}

/// What kind of frame has ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Frame {
    /// The values before it are those of channels.
    Values,
    /// The values before it tell of the link itself: how well a receiver hears.
    OfLink,
    /// A receiver says that it does not hear its transmitter. What its channels say then is not what anybody wants.
    Failsafe,
}

/// Takes what a decoder finds: the values of a frame, then its end.
pub trait Sink {
    /// A channel's value. A channel has a number, or a name, or both: then the number is its place.
    fn value(&mut self, code: u16, name: &str, value: f64);

    /// The frame of the values before is over, and good.
    fn frame(&mut self, frame: Frame);

    /// A channel that is there, with the raw values at its ends where its device says them, before it has said any.
    fn has(&mut self, _code: u16, _name: &str, _ends: Option<(f64, f64)>) {}

    /// What a channel said once, nobody knows when: it can be seen, and moves nothing.
    fn once(&mut self, _name: &str, _value: f64) {}

    /// What the last will of a sender says, by the topic to which it goes: whether the sender is there.
    fn will(&mut self, _topic: &str, _is_there: bool) {}
}

/// See the module.
pub trait Decode: Send {
    /// Takes bytes. `quiet` is how long the line was silent before them, where that was seen.
    fn feed(&mut self, bytes: &[u8], quiet: Option<Duration>, sink: &mut dyn Sink);

    /// The way was opened anew: what comes first may be half a frame.
    fn reopened(&mut self);

    /// What was seen so far.
    fn counts(&self) -> Counts;
}

/// How bytes are carried.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Carrier {
    /// One behind the other.
    Stream,
    /// In datagrams, each a whole.
    Datagrams,
}

/// Makes a decoder.
pub type Make = fn(Carrier) -> Box<dyn Decode>;

/// A decoder's row.
pub struct Row {
    /// The word that a rig has for its protocol.
    pub protocol: &'static str,
    /// It reads a stream, in any split; else it wants datagrams.
    pub streams: bool,
    /// Its frames have a form that other bytes hardly ever have: hearing some tells that it is spoken.
    pub is_telling: bool,
    /// Makes a decoder at the start of its stream.
    pub make: Make,
}

const fn row(protocol: &'static str, streams: bool, make: Make) -> Row {
    Row { protocol, streams, is_telling: streams, make }
}

/// A decoder that takes almost anything for its own.
const fn credulous(protocol: &'static str, streams: bool, make: Make) -> Row {
    Row { is_telling: false, ..row(protocol, streams, make) }
}

/// Every decoder, under the name of its protocol.
pub const DECODERS: &[Row] = &[
    row("lines", true, |carrier| Box::new(lines::Decoder::carried_by(carrier))),
    row("ibus", true, |_| Box::new(ibus::Decoder::default())),
    row("sbus", true, |_| Box::new(sbus::Decoder::default())),
    row("crsf", true, |_| Box::new(crsf::Decoder::default())),
    credulous("midi", true, |_| Box::new(midi::Decoder::default())),
    row("osc", false, |_| Box::new(osc::Decoder::default())),
];

/// A decoder for a protocol; none where that brings values and no bytes.
pub fn decoder(protocol: &str, carrier: Carrier) -> Option<Box<dyn Decode>> {
    DECODERS.iter().find(|row| row.protocol == protocol).map(|row| (row.make)(carrier))
}

/// Bytes held until a frame among them is whole; beyond its room nothing is taken.
#[derive(Debug, Clone)]
pub(crate) struct Window<const ROOM: usize> {
    bytes: [u8; ROOM],
    used: usize,
}

impl<const ROOM: usize> Default for Window<ROOM> {
    fn default() -> Self {
        Self { bytes: [0; ROOM], used: 0 }
    }
}

impl<const ROOM: usize> Window<ROOM> {
    /// What is held.
    pub(crate) fn held(&self) -> &[u8] {
        self.bytes.get(..self.used).unwrap_or_default()
    }

    /// Takes one more byte; whoever calls keeps it from being full.
    pub(crate) fn push(&mut self, byte: u8) {
        if let Some(place) = self.bytes.get_mut(self.used) {
            *place = byte;
            self.used += 1;
        }
    }

    /// Forgets the first bytes.
    pub(crate) fn drop_first(&mut self, count: usize) {
        let count = count.min(self.used);
        self.bytes.copy_within(count..self.used, 0);
        self.used -= count;
    }

    /// Forgets what it has of a message, and waits for the next one's beginning.
    pub(crate) const fn clear(&mut self) {
        self.used = 0;
    }
}

/// What a look at the held bytes says.
pub(crate) enum Look {
    /// A good frame of so many bytes stands at the beginning.
    Good(usize),
    /// More bytes are needed to tell.
    More,
    /// What begins like a frame fails its check.
    Bad,
    /// No frame begins here.
    Skip,
}

/// Takes bytes one by one into a window and looks at its beginning after each, until nothing more can be told: what fails
/// is dropped byte by byte, and what is held behind it is looked at again.
pub(crate) fn scan<const ROOM: usize>(
    window: &mut Window<ROOM>,
    counts: &mut Counts,
    bytes: &[u8],
    look: impl Fn(&[u8]) -> Look,
    mut good: impl FnMut(&[u8]),
) {
    for &byte in bytes {
        window.push(byte);
        while !window.held().is_empty() {
            match look(window.held()) {
                Look::Good(length) => {
                    good(window.held().get(..length).unwrap_or_default());
                    counts.good += 1;
                    window.drop_first(length);
                }
                Look::More => break,
                skip => {
                    counts.bad += u64::from(matches!(skip, Look::Bad));
                    counts.skipped += 1;
                    window.drop_first(1);
                }
            }
        }
    }
}

/// Sixteen values of eleven bits, the lowest bit first, as two receivers' protocols pack them into 22 bytes.
pub(crate) fn eleven_bits(packed: &[u8]) -> impl Iterator<Item = u16> {
    (0..16usize).map(move |n| {
        let bit = n * 11;
        let at = |k: usize| u32::from(packed.get(bit / 8 + k).copied().unwrap_or_default());
        let three = at(0) | at(1) << 8 | at(2) << 16;
        (three >> (bit % 8) & 0x7FF) as u16
    })
}

/// Packs sixteen values of eleven bits into twenty-two bytes, lowest bit first.
pub(crate) fn pack_eleven_bits(values: &[u16; 16]) -> [u8; 22] {
    let mut packed = [0; 22];
    for (n, value) in values.iter().enumerate() {
        for bit in (0..11usize).filter(|bit| value >> bit & 1 == 1) {
            let place = n * 11 + bit;
            if let Some(byte) = packed.get_mut(place / 8) {
                *byte |= 1 << (place % 8);
            }
        }
    }
    packed
}

/// What tests of decoders share.
#[cfg(test)]
pub(crate) mod test {
    use super::*;

    /// Keeps what was found.
    #[derive(Debug, Default, PartialEq)]
    pub(crate) struct Seen {
        pub(crate) values: Vec<(u16, String, f64)>,
        pub(crate) frames: Vec<Frame>,
    }

    impl Sink for Seen {
        fn value(&mut self, code: u16, name: &str, value: f64) {
            self.values.push((code, name.to_owned(), value));
        }

        fn frame(&mut self, frame: Frame) {
            self.frames.push(frame);
        }
    }

    impl Seen {
        /// The values of channels from 1 of the newest frame.
        pub(crate) fn newest(&self, count: usize) -> Vec<f64> {
            let from = self.values.len().saturating_sub(count);
            self.values[from..].iter().map(|(_, _, value)| *value).collect()
        }
    }

    /// All that comes of bytes, cut at the given places.
    pub(crate) fn fed(decoder: &mut dyn Decode, bytes: &[u8], cuts: &[usize]) -> Seen {
        let mut seen = Seen::default();
        let mut rest = bytes;
        for cut in cuts {
            let (now, later) = rest.split_at((*cut).min(rest.len()));
            decoder.feed(now, None, &mut seen);
            rest = later;
        }
        decoder.feed(rest, None, &mut seen);
        seen
    }

    /// Bytes as they are written in a description: `20 40 DC`.
    pub(crate) fn hex(text: &str) -> Vec<u8> {
        text.split_whitespace().map(|byte| u8::from_str_radix(byte, 16).unwrap()).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::test::{Seen, fed};
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn no_bytes_make_any_decoder_panic_and_no_cut_changes_what_comes_of_them(
            bytes in proptest::collection::vec(prop_oneof![any::<u8>(), Just(0x20), Just(0x40), Just(0x0F), Just(0), Just(0xC8), Just(24), Just(b'\n'), Just(b'7')], 0..700),
            cuts in proptest::collection::vec(0usize..60, 0..20),
        ) {
            for Row { protocol: word, streams, make, .. } in DECODERS {
                let (mut whole, mut cut) = (make(Carrier::Stream), make(Carrier::Stream));
                let one = fed(whole.as_mut(), &bytes, &[]);
                let other = fed(cut.as_mut(), &bytes, &cuts);
                if *streams {
                    prop_assert_eq!(&one, &other, "{}", word);
                    prop_assert_eq!(whole.counts(), cut.counts());
                }
                prop_assert!(one.values.iter().all(|(_, _, value)| value.is_finite()));
                prop_assert!(whole.counts().skipped <= bytes.len() as u64);
                // Datagrams, and gaps anywhere, do no harm either.
                let mut other = make(Carrier::Datagrams);
                let mut seen = Seen::default();
                for chunk in bytes.chunks(37) {
                    other.feed(chunk, Some(Duration::from_millis(3)), &mut seen);
                }
            }
        }

        #[test]
        fn eleven_bits_come_back(values in proptest::array::uniform16(0u16..2048)) {
            let packed = pack_eleven_bits(&values);
            prop_assert_eq!(eleven_bits(&packed).collect::<Vec<_>>(), values.to_vec());
        }
    }

    #[test]
    fn ten_minutes_of_rubbish_leave_every_decoder_as_it_was() {
        // What a line at 420000 baud carries in ten minutes; the same bytes again and again, cut otherwise each time.
        const ALL: usize = 25_000_000;
        let mut z = 1u64;
        let rubbish: Vec<u8> = std::iter::repeat_with(|| {
            z = z.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (z >> 56) as u8
        })
        .take(65_521)
        .collect();
        for Row { protocol: word, make, is_telling, streams } in DECODERS {
            let mut decoder = make(Carrier::Stream);
            let mut given = 0;
            let mut size = 1;
            let mut seen = Seen::default();
            while given < ALL {
                for chunk in rubbish.chunks(size) {
                    decoder.feed(chunk, None, &mut seen);
                    given += chunk.len();
                }
                size = size % 4096 + 997;
                seen.values.clear();
            }
            let counts = decoder.counts();
            assert!(counts.skipped <= given as u64, "{word}: {counts:?} of {given}");
            // MIDI has no check of any kind: to it almost anything is music.
            let may = if *is_telling || !streams { 2000 } else { ALL as u64 };
            assert!(counts.good < may, "{word} finds {} frames in rubbish", counts.good);
        }
    }
}
