//! Lines of numbers: what any microcontroller that can print can send.
//!
//! Lines end with LF or CRLF; fields are split by comma, semicolon, tab or spaces; a field is a decimal
//! number, `name=number` or `name:number`. The first line after opening or overflow is dropped, for it may
//! have begun in the middle of a number.

/// The longest line, without its end, in bytes.
pub const LONGEST: usize = 512;

/// How a field of a line is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Field {
    /// By its place, from 1.
    Place(u16),
    /// By the name before its number.
    Name(String),
}

/// What a decoder has seen so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// Lines with numbers only.
    pub good: u64,
    /// Lines with something else, with no number, or too long.
    pub bad: u64,
    /// Bytes that were dropped with bad, too long and half lines.
    pub skipped: u64,
}

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
    counts: Counts,
}

impl Default for Decoder {
    fn default() -> Self {
        Self { line: [0; LONGEST], used: 0, dropping: true, counts: Counts::default() }
    }
}

impl Decoder {
    /// Takes bytes and calls `good` with each complete line in which every field is a number.
    pub fn feed(&mut self, bytes: &[u8], mut good: impl FnMut(Numbers<'_>)) {
        for &byte in bytes {
            if let LineKind::Finished = self.take(byte) {
                let line = self.line.get(..self.used).unwrap_or_default();
                match Numbers::parse(line) {
                    Some(numbers) => {
                        self.counts.good += 1;
                        good(numbers);
                    }
                    None => {
                        self.counts.bad += 1;
                        self.counts.skipped += line.len() as u64;
                    }
                }
                self.used = 0;
            }
        }
    }

    /// What has been seen so far.
    pub const fn counts(&self) -> Counts {
        self.counts
    }

    /// The line was opened anew: what comes first may be half a line.
    pub const fn reopened(&mut self) {
        self.dropping = true;
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

    /// The number in a field.
    pub fn get(&self, field: &Field) -> Option<f64> {
        let mut all = fields(self.0).flatten();
        match field {
            Field::Place(place) => Some(all.nth(usize::from(*place).checked_sub(1)?)?.1),
            Field::Name(name) => all.find(|(own, _)| own == name).map(|(_, number)| number),
        }
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

    fn lines(decoder: &mut Decoder, bytes: &[u8]) -> Vec<Vec<(String, f64)>> {
        let mut all = Vec::new();
        decoder.feed(bytes, |n| all.push(n.iter().map(|(name, v)| (name.to_owned(), v)).collect()));
        all
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
    fn fields_are_found_by_place_and_by_name() {
        let numbers = Numbers::parse(b"4 knob=512").unwrap();
        assert_eq!(numbers.get(&Field::Place(1)), Some(4.0));
        assert_eq!(numbers.get(&Field::Place(2)), Some(512.0));
        assert_eq!(numbers.get(&Field::Place(0)), None);
        assert_eq!(numbers.get(&Field::Place(3)), None);
        assert_eq!(numbers.get(&Field::Name("knob".into())), Some(512.0));
        assert_eq!(numbers.get(&Field::Name("pot".into())), None);
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

        #[test]
        fn no_bytes_make_it_panic(bytes in proptest::collection::vec(any::<u8>(), 0..2000)) {
            let mut decoder = Decoder::default();
            decoder.feed(&bytes, |numbers| assert!(numbers.iter().all(|(_, v)| v.is_finite())));
        }
    }
}
