//! Lines of numbers: what any microcontroller that can print can send.
//!
//! Lines end with LF or CRLF; fields are split by comma, semicolon, tab or spaces; a field is a decimal
//! number, `name=number` or `name:number`. The first line after opening or overflow is dropped, for it may
//! have begun in the middle of a number.

use crate::decode::{Carrier, Counts, Decode, Frame, Sink};
use std::time::Duration;

/// The longest line, without its end, in bytes.
pub const LONGEST: usize = 512;

/// What a byte completed.
enum LineKind {
    Unfinished,
    Finished,
}

/// Takes bytes in any split and keeps at most one line of them.
#[derive(Debug, Clone)]
pub struct Decoder {
    line: [u8; LONGEST],
    used: usize,
    /// Until the next line end everything is dropped.
    dropping: bool,
    /// Each feed is a whole: it begins with a line and ends one.
    in_datagrams: bool,
    counts: Counts,
}

impl Default for Decoder {
    fn default() -> Self {
        Self::carried_by(Carrier::Stream)
    }
}

impl Decoder {
    /// A decoder for what is carried in that way.
    pub fn carried_by(carrier: Carrier) -> Self {
        let in_datagrams = carrier == Carrier::Datagrams;
        Self { line: [0; LONGEST], used: 0, dropping: !in_datagrams, in_datagrams, counts: Counts::default() }
    }

    /// A line has ended.
    fn end(&mut self, sink: &mut dyn Sink) {
        let line = self.line.get(..self.used).unwrap_or_default();
        if let Some(numbers) = Numbers::parse(line) {
            self.counts.good += 1;
            for (place, (name, value)) in (1..).zip(numbers.iter()) {
                sink.value(place, name, value);
            }
            sink.frame(Frame::Values);
        } else {
            self.counts.bad += 1;
            self.counts.skipped += line.len() as u64;
        }
        self.used = 0;
    }

    fn take(&mut self, byte: u8) -> LineKind {
        let ends = byte == b'\n';
        if self.dropping {
            self.counts.skipped += 1;
            self.dropping = !ends;
            return LineKind::Unfinished;
        }
        if ends {
            return LineKind::Finished;
        }
        if let Some(place) = self.line.get_mut(self.used) {
            *place = byte;
            self.used += 1;
        } else {
            self.counts.bad += 1;
            self.counts.skipped += self.used as u64 + 1;
            self.used = 0;
            self.dropping = true;
        }
        LineKind::Unfinished
    }
}

impl Decode for Decoder {
    fn feed(&mut self, bytes: &[u8], _: Option<Duration>, sink: &mut dyn Sink) {
        for &byte in bytes {
            if let LineKind::Finished = self.take(byte) {
                self.end(sink);
            }
        }
        if self.in_datagrams {
            if self.used > 0 {
                self.end(sink);
            }
            self.dropping = false;
        }
    }

    fn reopened(&mut self) {
        self.dropping = !self.in_datagrams;
        self.used = 0;
    }

    fn counts(&self) -> Counts {
        self.counts
    }
}

/// A line that holds numbers only. A view: nothing is copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Numbers<'a>(&'a str);

impl<'a> Numbers<'a> {
    /// Checks a line without its end.
    pub fn parse(line: &'a [u8]) -> Option<Self> {
        let text = std::str::from_utf8(line.strip_suffix(b"\r").unwrap_or(line)).ok()?;
        let mut fields = fields(text).peekable();
        fields.peek()?;
        fields.all(|field| field.is_some()).then_some(Self(text))
    }

    /// All fields in order, with their names where they have them.
    pub fn iter(&self) -> impl Iterator<Item = (&'a str, f64)> {
        fields(self.0).flatten()
    }
}

const fn splits(c: char) -> bool {
    matches!(c, ',' | ';' | '\t' | ' ')
}

/// The fields of a line: name and number, or nothing where a field is neither.
fn fields(text: &str) -> impl Iterator<Item = Option<(&str, f64)>> {
    let mut rest = text;
    std::iter::from_fn(move || {
        rest = rest.trim_start_matches(splits);
        if rest.is_empty() {
            return None;
        }
        let end = rest.find(splits).unwrap_or(rest.len());
        let (mut field, mut after) = rest.split_at(end);
        // Blanks after = or : belong to the field.
        if field.ends_with(['=', ':']) {
            let blanks = after.len() - after.trim_start_matches([' ', '\t']).len();
            let number = after.get(blanks..).unwrap_or_default();
            let length = blanks + number.find(splits).unwrap_or(number.len());
            field = rest.get(..end + length).unwrap_or(field);
            after = rest.get(end + length..).unwrap_or_default();
        }
        rest = after;
        Some(parse_field(field))
    })
}

fn parse_field(field: &str) -> Option<(&str, f64)> {
    let (name, number) =
        field.split_once(['=', ':']).map_or(("", field), |(name, number)| (name, number.trim()));
    let plain = number.bytes().all(|b| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E'));
    let value: f64 = if plain { number.parse().ok()? } else { return None };
    let named_well = name.is_empty() != field.contains(['=', ':']);
    (value.is_finite() && named_well).then_some((name, value))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Lines of fields, each with its name.
    #[derive(Default)]
    struct Lines(Vec<Vec<(String, f64)>>, Vec<(String, f64)>);

    impl Sink for Lines {
        fn value(&mut self, place: u16, name: &str, value: f64) {
            self.1.push((name.to_owned(), value));
            assert_eq!(usize::from(place), self.1.len());
        }

        fn frame(&mut self, frame: Frame) {
            assert_eq!(frame, Frame::Values);
            self.0.push(std::mem::take(&mut self.1));
        }
    }

    fn lines(decoder: &mut Decoder, bytes: &[u8]) -> Vec<Vec<(String, f64)>> {
        let mut all = Lines::default();
        decoder.feed(bytes, None, &mut all);
        all.0
    }

    fn opened() -> Decoder {
        let mut decoder = Decoder::default();
        lines(&mut decoder, b"\n");
        decoder
    }

    #[test]
    fn the_first_line_may_be_half_a_number_and_is_dropped() {
        let mut decoder = Decoder::default();
        assert_eq!(lines(&mut decoder, b"23\n1023\n"), [[(String::new(), 1023.0)]]);
        decoder.reopened();
        assert_eq!(lines(&mut decoder, b"3\r\n7\r\n"), [[(String::new(), 7.0)]]);
    }

    #[test]
    fn all_the_separators_and_both_name_signs_are_understood() {
        let got = lines(&mut opened(), b"1,2;3\t4  5\nknob=512 pot: -0.5,gap=  3e2\n");
        assert_eq!(got[0].iter().map(|f| f.1).collect::<Vec<_>>(), [1.0, 2.0, 3.0, 4.0, 5.0]);
        let named: Vec<_> = got[1].iter().map(|(n, v)| (n.as_str(), *v)).collect();
        assert_eq!(named, [("knob", 512.0), ("pot", -0.5), ("gap", 300.0)]);
    }

    #[test]
    fn a_datagram_is_a_whole_and_needs_no_line_end() {
        let mut decoder = Decoder::carried_by(Carrier::Datagrams);
        assert_eq!(lines(&mut decoder, b"4 knob=512"), [[(String::new(), 4.0), ("knob".to_owned(), 512.0)]]);
        assert_eq!(lines(&mut decoder, b"1\n2\n").len(), 2);
        assert!(lines(&mut decoder, &[b'1'; 600]).is_empty(), "too long, and the next is not part of it");
        assert_eq!(lines(&mut decoder, b"7").len(), 1);
    }

    #[test]
    fn what_is_not_a_number_makes_the_line_bad() {
        for bad in ["nan", "inf", "-inf", "1e999", "hello", "3 x", "=4", "a=", "", "  ", "0x10", "infinity"] {
            assert!(Numbers::parse(bad.as_bytes()).is_none(), "{bad:?}");
        }
        assert!(Numbers::parse(&[0xFF, 0xFE]).is_none());
    }

    #[test]
    fn an_overlong_line_is_dropped_with_the_one_it_runs_into() {
        let mut decoder = opened();
        let long = vec![b'1'; 10_000_000];
        assert!(lines(&mut decoder, &long).is_empty());
        assert_eq!(decoder.counts().bad, 1);
        assert_eq!(lines(&mut decoder, b"5\n6\n"), [[(String::new(), 6.0)]]);
        assert_eq!(decoder.counts().skipped, 1 + 10_000_000 + 2);
        let exact = [vec![b'1'; 1], vec![b' '; LONGEST - 1], vec![b'\n']].concat();
        assert_eq!(lines(&mut decoder, &exact).len(), 1, "512 bytes are allowed");
    }

    proptest! {
        #[test]
        fn any_split_gives_the_same_lines(text in "([0-9]{1,4}[,; ]){1,5}\n(x|7|k=3)\r?\n", cut in 0usize..40) {
            let bytes = text.as_bytes();
            let whole = lines(&mut opened(), bytes);
            let mut decoder = opened();
            let (a, b) = bytes.split_at(cut.min(bytes.len()));
            let mut parts = lines(&mut decoder, a);
            parts.extend(lines(&mut decoder, b));
            prop_assert_eq!(whole, parts);
        }
    }
}
