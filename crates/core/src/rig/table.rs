//! Marks as a table of comma-separated values, one a line under a head that says the units.
//!
//! What cannot be read is named with its line; nothing is taken over then.

use super::{Mark, MarkKind, ReadAt, Side};
use crate::range::{self, Range};
use crate::unit::{Counts, Degrees, Hertz, Micros, Rpm, Ticks};
use thiserror::Error;

/// The columns in the order in which they are written. In a table that is read, they may stand in any order, and only
/// one of the first two must be there: pulses, or the counts of a smart servo.
const COLUMNS: [&str; 11] = [
    "pulse_us",
    "counts",
    "angle_deg",
    "seen",
    "from",
    "at",
    "error_deg",
    "rpm",
    "ticks",
    "tick_us",
    "oscillator_hz",
];

/// Why a table was not taken over.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum BadTable {
    /// It does not read as one.
    #[error("line {line}: {why}; nothing was read in")]
    Line {
        /// The line, from 1.
        line: u64,
        /// What is wrong there.
        why: String,
    },
    /// There is no column of pulses.
    #[error(
        "line 1: no column is called pulse_us; the header is {head:?}, expected {expected}; nothing was read in"
    )]
    Head {
        /// What stands there.
        head: String,
        /// What could have stood there.
        expected: String,
    },
    /// It has a head and nothing else.
    #[error("it has no rows: write one line for each mark under the header")]
    Empty,
}

/// Writes marks as comma-separated values, a line each, under a head line.
pub fn write(marks: &[Mark]) -> String {
    let mut text = COLUMNS.join(",");
    text.push('\n');
    for mark in marks {
        let cells = COLUMNS.map(|column| cell(mark, column));
        text.push_str(&cells.join(","));
        text.push('\n');
    }
    text
}

fn cell(mark: &Mark, column: &str) -> String {
    let number =
        |value: Option<f64>| value.map_or_else(String::new, |v| format!("{}", libm::round(v * 1e6) / 1e6));
    match column {
        "pulse_us" => number(mark.pulse_us.map(Micros::get)),
        "counts" => number(mark.counts.map(Counts::get)),
        "angle_deg" => number(mark.angle_deg.map(Degrees::get)),
        "seen" => mark.seen.word().to_owned(),
        "from" => match mark.from {
            Side::Unknown => "",
            Side::Below => "below",
            Side::Above => "above",
        }
        .to_owned(),
        "at" => if mark.at == ReadAt::Joint { "joint" } else { "servo" }.to_owned(),
        "error_deg" => number(mark.error_deg.map(Degrees::get)),
        "rpm" => number(mark.rpm.map(Rpm::get)),
        "ticks" => number(mark.ticks.map(|t| f64::from(t.0))),
        "tick_us" => number(mark.tick_us.map(Micros::get)),
        _ => number(mark.oscillator_hz.map(Hertz::get)),
    }
}

/// Reads marks.
///
/// # Errors
/// Says the line, and what is wrong in it.
pub fn read(text: &str) -> Result<Vec<Mark>, BadTable> {
    let mut reader =
        csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(text.as_bytes());
    let broken = |error: &csv::Error| BadTable::Line {
        line: error.position().map_or(1, csv::Position::line),
        why: match error.kind() {
            csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
                format!("{len} values, where the header has {expected_len}")
            }
            _ => "this is not comma-separated text".to_owned(),
        },
    };
    let head = reader.headers().map_err(|error| broken(&error))?.clone();
    if !head.iter().any(|name| name == "pulse_us" || name == "counts") {
        let expected = COLUMNS.join(",");
        return Err(BadTable::Head { head: head.iter().collect::<Vec<_>>().join(","), expected });
    }
    if let Some(unknown) = head.iter().find(|name| !COLUMNS.contains(name)) {
        let why = format!("no column is called {unknown:?}; there are {}", COLUMNS.join(", "));
        return Err(BadTable::Line { line: 1, why });
    }
    let mut marks = Vec::new();
    for record in reader.records() {
        let record = record.map_err(|error| broken(&error))?;
        let line = record.position().map_or(1, csv::Position::line);
        let value = |column: &str| {
            let place = head.iter().position(|name| name == column);
            place.and_then(|n| record.get(n)).filter(|cell| !cell.is_empty())
        };
        marks.push(mark(value).map_err(|why| BadTable::Line { line, why })?);
    }
    if marks.is_empty() { Err(BadTable::Empty) } else { Ok(marks) }
}

fn mark<'a>(value: impl Fn(&str) -> Option<&'a str>) -> Result<Mark, String> {
    let number = |column: &str, range: &Range| -> Result<Option<f64>, String> {
        let Some(cell) = value(column) else { return Ok(None) };
        let found: f64 = cell.parse().map_err(|_| format!("{column} is {cell:?}, not a number"))?;
        range.check(found).map_err(|outside| outside.to_string())?;
        Ok(Some(found))
    };
    let seen = match value("seen") {
        None => MarkKind::Aligned,
        Some(word) => {
            let all =
                [MarkKind::Aligned, MarkKind::Starts, MarkKind::Stops, MarkKind::Buzzes, MarkKind::Turns];
            let found = all.into_iter().find(|how| how.word() == word);
            found.ok_or_else(|| format!("seen is {word:?}, not aligned, starts, stops, buzzes or turns"))?
        }
    };
    let from = match value("from") {
        None => Side::Unknown,
        Some("below") => Side::Below,
        Some("above") => Side::Above,
        Some(word) => return Err(format!("from is {word:?}, not below or above")),
    };
    let at = match value("at") {
        None | Some("servo") => ReadAt::Servo,
        Some("joint") => ReadAt::Joint,
        Some(word) => return Err(format!("at is {word:?}, not servo or joint")),
    };
    let angle = number("angle_deg", &range::ANGLE)?;
    let rate = number("rpm", &range::RPM)?;
    match seen {
        MarkKind::Aligned if angle.is_none() => return Err("an aligned mark needs angle_deg".to_owned()),
        MarkKind::Turns if rate.is_none() => return Err("a mark of how it turns needs rpm".to_owned()),
        _ => {}
    }
    let (pulse, counts) = (number("pulse_us", &range::PULSE)?, number("counts", &range::STEPS)?);
    match (pulse, counts) {
        (None, None) => return Err("there is no pulse_us".to_owned()),
        (Some(_), Some(_)) => return Err("there are pulse_us and counts: keep one of the two".to_owned()),
        _ => {}
    }
    Ok(Mark {
        pulse_us: pulse.map(Micros::new),
        counts: counts.map(Counts::new),
        angle_deg: angle.map(Degrees::new),
        at,
        rpm: rate.map(Rpm::new),
        seen,
        from,
        error_deg: number("error_deg", &range::READING)?.map(Degrees::new),
        ticks: number("ticks", &range::COUNT)?.map(|count| Ticks(crate::unit::count16(count))),
        oscillator_hz: number("oscillator_hz", &range::OSCILLATOR)?.map(Hertz::new),
        tick_us: number("tick_us", &range::TICK)?.map(Micros::new),
        ..Mark::default()
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_table_of_two_columns_is_enough() {
        let marks = read("angle_deg, pulse_us\n# by hand\n-40, 1100\n 40, 1900\n").unwrap();
        assert_eq!(marks.len(), 2);
        assert_eq!(
            (marks[0].pulse_us, marks[0].angle_deg),
            (Some(Micros::new(1100.0)), Some(Degrees::new(-40.0)))
        );
    }

    #[test]
    fn what_cannot_be_read_is_named_with_its_line() {
        let said = |text: &str| read(text).unwrap_err().to_string();
        let head = "pulse_us,angle_deg,seen\n";
        for (rows, wanted) in [
            (
                "1100,-40,aligned\n1900,forty,aligned\n",
                "line 3: angle_deg is \"forty\", not a number; nothing was read in",
            ),
            (
                "1100,-40,aligned\n19000,40,aligned\n",
                "line 3: pulse is 19000 µs, outside 300 to 2900 µs; nothing was read in",
            ),
            ("1100,-40\n", "line 2: 2 values, where the header has 3; nothing was read in"),
            ("1100,,aligned\n", "line 2: an aligned mark needs angle_deg; nothing was read in"),
            (",3,aligned\n", "line 2: there is no pulse_us; nothing was read in"),
            (
                "1100,3,felt\n",
                "line 2: seen is \"felt\", not aligned, starts, stops, buzzes or turns; nothing was read in",
            ),
            ("", "it has no rows: write one line for each mark under the header"),
        ] {
            assert_eq!(said(&format!("{head}{rows}")), wanted);
        }
        assert!(
            said("puls,angle\n1,2\n")
                .starts_with("line 1: no column is called pulse_us; the header is \"puls,angle\"")
        );
        assert!(said("pulse_us,colour\n1100,2\n").starts_with("line 1: no column is called \"colour\""));
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(pulse in 300.0..2900.0f64, angle in -90.0..90.0f64, side in 0..3usize, joint: bool) {
            let mark = Mark {
                pulse_us: Some(Micros::new(libm::round(pulse * 100.0) / 100.0)),
                angle_deg: Some(Degrees::new(libm::round(angle * 100.0) / 100.0)),
                from: [Side::Unknown, Side::Below, Side::Above][side],
                at: if joint { ReadAt::Joint } else { ReadAt::Servo },
                ticks: Some(Ticks(307)),
                ..Mark::default()
            };
            prop_assert_eq!(read(&write(std::slice::from_ref(&mark))).unwrap(), vec![mark]);
        }

        #[test]
        fn no_text_breaks_it(text in ".{0,200}") {
            let _ = read(&text);
            let _ = read(&format!("pulse_us,angle_deg\n{text}"));
        }
    }
}
