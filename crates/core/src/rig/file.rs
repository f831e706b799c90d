//! The rig as a TOML text: reading with errors that know their place, and writing that keeps what a person
//! wrote.
//!
//! No disk is touched here: texts come in and go out.

pub(crate) mod format;
mod keys;
mod place;

use super::check::{Problem, problems};
use super::{Rig, merge};
use format::Versioned;
use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use std::ops::Range;
use toml_edit::{Document, DocumentMut};

/// Something wrong in a rig file, with where.
#[derive(Debug, Clone, PartialEq)]
pub struct Located {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: String,
    /// The bytes of the text it is about, if it is about any.
    pub span: Option<Range<usize>>,
}

impl Located {
    /// Line and column, both from 1, counted in characters.
    pub fn line_column(&self, text: &str) -> (usize, usize) {
        let start = self.span.as_ref().map_or(0, |s| s.start).min(text.len());
        let before = text.get(..start).unwrap_or_default();
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
    }
}

/// What a text turned out to be.
#[derive(Debug, Clone, PartialEq)]
pub enum Loaded {
    /// A sound rig.
    Sound(Box<Rig>),
    /// It reads as a rig, but does not fit together.
    Problems(Vec<Located>),
    /// It does not read as a rig.
    Unreadable(Located),
}

/// Why a text gave no values. Every place is one of the text as it was given, whatever its format.
#[derive(Debug, Clone, PartialEq)]
pub enum Unfit {
    /// It is no TOML, or of a newer format.
    Unreadable(Located),
    /// Its keys or their values are others than those that there are.
    Problems(Vec<Located>),
}

/// A text that was read.
pub(super) struct Reading<'t, T> {
    /// What it says.
    pub(super) values: T,
    /// Where everything stands in it.
    disk: Document<&'t str>,
    /// The same raised to the newest format, where it is of an older one.
    raised: Option<Raised>,
}

impl<T> Reading<'_, T> {
    /// A problem with the place in the text as it was given.
    pub(super) fn locate(&self, problem: Problem) -> Located {
        let span = place::span_of(&self.disk, &problem.path);
        Located { message: problem.message, help: problem.help, span }
    }
}

/// Reads values from a text of any format, with the document that knows where they stand.
pub(super) fn read<T: DeserializeOwned + JsonSchema + Versioned>(
    text: &str,
) -> Result<Reading<'_, T>, Unfit> {
    let disk = Document::parse(text).map_err(|error| {
        let help = "correct the TOML at the place shown".to_owned();
        Unfit::Unreadable(Located { message: tidy(error.message()), help, span: error.span() })
    })?;
    if let Some(newer) = newer_format(&disk, T::NEWEST) {
        return Err(Unfit::Unreadable(newer));
    }
    let raised = format::older::<T>(disk.as_table()).map(|from| {
        let mut document = text.parse().unwrap_or_default();
        format::raise::<T>(&mut document);
        Raised { from, text: document.to_string() }
    });
    let newest = raised.as_ref().map_or(text, |raised| &raised.text);
    match toml_edit::de::from_str(newest) {
        Ok(values) => Ok(Reading { values, disk, raised }),
        Err(error) => {
            // The first unknown key ends the reading: they are looked for by themselves, to be said at once.
            let document = Document::parse(newest).unwrap_or_else(|_| disk.clone());
            let mut found = keys::unknown(&document, &schemars::schema_for!(T));
            if found.is_empty() {
                let (message, help) = (tidy(error.message()), help_for(error.message()));
                found.push(Located { message, help, span: error.span() });
            }
            if raised.is_some() {
                for located in &mut found {
                    located.span =
                        located.span.as_ref().and_then(|span| place::carried(&document, span, &disk));
                }
            }
            Err(Unfit::Problems(found))
        }
    }
}

/// The small rig that the tests of edits change.
#[cfg(test)]
pub(crate) fn small() -> Rig {
    match load(include_str!("../../tests/data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// Reads a rig and checks that it fits together.
pub fn load(text: &str) -> Loaded {
    match Source::read(text.to_owned()) {
        Ok(source) => Loaded::Sound(Box::new(source.rig)),
        Err(Unfit::Unreadable(located)) => Loaded::Unreadable(located),
        Err(Unfit::Problems(found)) => Loaded::Problems(found),
    }
}

/// A rig out of values that are no TOML, as a recording has them; they may be of an older format.
///
/// # Errors
/// In words, when they are no rig.
pub fn from_values(values: &serde_json::Value) -> Result<Box<Rig>, String> {
    let mut document = toml_edit::ser::to_document(values).map_err(|error| error.to_string())?;
    format::raise::<Rig>(&mut document);
    let mut rig: Box<Rig> = toml_edit::de::from_document(document).map_err(|error| error.to_string())?;
    rig.number_parts();
    Ok(rig)
}

/// A rig as values, its numbers to the decimals that a file keeps.
///
/// # Errors
/// In words, when a part of it has no such form.
pub fn to_values(rig: &Rig) -> Result<serde_json::Value, String> {
    serde_json::to_value(rig).map_err(|error| error.to_string())
}

fn newer_format(document: &Document<&str>, known: u32) -> Option<Located> {
    let item = document.get("format")?;
    let format = item.as_integer()?;
    (format > i64::from(known)).then(|| Located {
        message: format!("this is format {format}, this program knows format {known}"),
        help: "open it with a newer wasvolta; nothing was changed".to_owned(),
        span: item.span(),
    })
}

/// How the reader names the types of Rust, and what a maker writes there.
const TYPES: [(&str, &str); 8] = [
    ("expected u8", "expected a whole number from 0 to 255"),
    ("expected u16", "expected a whole number from 0 to 65535"),
    ("expected u32", "expected a whole number from 0 up"),
    ("expected f64", "expected a number"),
    ("expected a sequence", "expected a list in [ ]"),
    ("expected a map", "expected a table in { }"),
    ("expected a boolean", "expected true or false"),
    ("expected a string", "expected a text in quotes"),
];

/// One line, as messages are, in words of the file.
fn tidy(message: &str) -> String {
    let line = message.split('\n').map(str::trim).filter(|l| !l.is_empty()).collect::<Vec<_>>().join("; ");
    let plain = TYPES.iter().find_map(|(rust, words)| Some(format!("{}{words}", line.strip_suffix(rust)?)));
    plain.unwrap_or(line)
}

fn help_for(message: &str) -> String {
    let help = if message.contains("missing field") {
        "add the missing key; docs/rig-format.md shows each"
    } else {
        "write the value as docs/rig-format.md shows it"
    };
    help.to_owned()
}

/// A rig file as it was last read or written: its text in the newest format, and the rig it says.
#[derive(Debug, Clone)]
pub struct Source {
    /// As it stands on the disk.
    disk: String,
    /// The same, raised to the newest format where it was of an older one.
    raised: Option<Raised>,
    rig: Rig,
}

/// A text of an older format in the newest.
#[derive(Debug, Clone)]
pub(super) struct Raised {
    from: u32,
    text: String,
}

/// The rig could not be written as TOML.
#[derive(Debug, thiserror::Error)]
#[error("the rig cannot be written as TOML: {0}")]
pub struct Unwritable(String);

impl Source {
    /// Reads a text of any format and checks that it fits together.
    ///
    /// # Errors
    /// With the places in the text as it was given.
    pub fn read(text: String) -> Result<Self, Unfit> {
        let (raised, rig) = {
            let mut reading = read::<Rig>(&text)?;
            reading.values.number_parts();
            let found = problems(&reading.values);
            if !found.is_empty() {
                return Err(Unfit::Problems(found.into_iter().map(|one| reading.locate(one)).collect()));
            }
            (reading.raised, reading.values)
        };
        let raised = raised.map(|raised| Raised { text: as_written(&text, &raised.text), ..raised });
        Ok(Self { disk: text, raised, rig })
    }

    /// The same text, for another rig: parts of it, or the same parts under other ids.
    #[must_use]
    pub fn saying(&self, rig: Rig) -> Self {
        Self { rig, ..self.clone() }
    }

    /// The text as it stands on the disk.
    pub fn disk(&self) -> &str {
        &self.disk
    }

    /// The text in the newest format.
    pub fn text(&self) -> &str {
        self.raised.as_ref().map_or(&self.disk, |raised| &raised.text)
    }

    /// The format of the text on the disk, where it is an older one.
    pub fn older_format(&self) -> Option<u32> {
        self.raised.as_ref().map(|raised| raised.from)
    }

    /// The rig that the text says.
    pub const fn rig(&self) -> &Rig {
        &self.rig
    }

    /// The text with what differs in `rig` changed, and nothing else: comments and order stay. What comes of it is
    /// taken to be on the disk.
    ///
    /// # Errors
    /// When a part of the rig has no form in TOML.
    pub fn with(&self, rig: &Rig) -> Result<Self, Unwritable> {
        if *rig == self.rig {
            return Ok(Self { disk: self.text().to_owned(), raised: None, rig: rig.clone() });
        }
        let unwritable = |error: &dyn std::fmt::Display| Unwritable(error.to_string());
        let before = toml_edit::ser::to_document(&self.rig).map_err(|e| unwritable(&e))?;
        let after = toml_edit::ser::to_document(rig).map_err(|e| unwritable(&e))?;
        let mut document: DocumentMut = self.text().parse().map_err(|e| unwritable(&e))?;
        merge::apply(document.as_table_mut(), before.as_table(), after.as_table());
        let disk = as_written(&self.disk, &document.to_string());
        Ok(Self { disk, raised: None, rig: rig.clone() })
    }
}

/// A changed text with the line ends of the one that it came from, and with its mark of the order of bytes.
fn as_written(before: &str, after: &str) -> String {
    const MARK: char = '\u{feff}';
    let after = after.trim_start_matches(MARK);
    let mark = if before.starts_with(MARK) { "\u{feff}" } else { "" };
    // The first line says it: a file of both kinds has one kind after its first change.
    let windows = before.find('\n').is_some_and(|at| before[..at].ends_with('\r'));
    let lines = after.replace("\r\n", "\n");
    if windows { format!("{mark}{}", lines.replace('\n', "\r\n")) } else { format!("{mark}{lines}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::unit::{Degrees, Micros};

    pub(crate) const SMALL: &str = include_str!("../../tests/data/small.rig.toml");

    fn sound(text: &str) -> Rig {
        match load(text) {
            Loaded::Sound(rig) => *rig,
            other => panic!("not sound: {other:?}"),
        }
    }

    fn first_problem(text: &str) -> (String, usize, String) {
        match load(text) {
            Loaded::Problems(found) => {
                let underlined = found[0].span.clone().map_or("", |s| &text[s]).to_owned();
                (found[0].message.clone(), found[0].line_column(text).0, underlined)
            }
            other => panic!("expected problems: {other:?}"),
        }
    }

    #[test]
    fn a_rig_that_is_not_changed_is_written_byte_for_byte() {
        let rig = sound(SMALL);
        let source = Source::read(SMALL.to_owned()).unwrap();
        assert_eq!(source.with(&rig).unwrap().text(), SMALL);
    }

    #[test]
    fn a_rig_with_line_ends_of_both_kinds_keeps_them_until_its_first_change() {
        let text = SMALL.replacen('\n', "\r\n", 3);
        let rig = sound(&text);
        let source = Source::read(text.clone()).unwrap();
        assert_eq!(source.with(&rig).unwrap().text(), text);
        let changed = source.with(&Rig { notes: "wet".to_owned(), ..rig }).unwrap();
        assert!(!changed.text().replace("\r\n", "").contains('\n'));
    }

    #[test]
    fn comments_and_order_survive_a_change() {
        let mut rig = sound(SMALL);
        rig.servos[0].endpoints_us.low = Micros::new(880.5);
        rig.servos[0].marks[1].angle_deg = Some(Degrees::new(41.0));
        let text = Source::read(SMALL.to_owned()).unwrap().with(&rig).unwrap().text().to_owned();
        assert!(text.contains("[880.5, 2100] # the plate is near"), "{text}");
        assert!(text.contains("# seen on the bench"), "{text}");
        let changed: Vec<_> = text.lines().zip(SMALL.lines()).filter(|(a, b)| a != b).collect();
        assert_eq!(changed.len(), 2, "{changed:?}");
        assert_eq!(sound(&text), rig);
    }

    #[test]
    fn an_older_format_is_raised_in_memory_and_in_the_file_by_a_save() {
        let older = SMALL.replace("format = 12", "format = 1 # of old");
        let source = Source::read(older.clone()).unwrap();
        assert_eq!((source.rig(), source.disk()), (&sound(SMALL), older.as_str()));
        assert!(source.text().contains("format = 12 # of old\n"), "{}", source.text());
        let changed = Rig { notes: "wet".to_owned(), ..source.rig().clone() };
        let text = source.with(&changed).unwrap().text().to_owned();
        assert!(text.contains("format = 12 # of old\n"), "{text}");
        assert_eq!(sound(&text), changed);
        assert!(!matches!(load(&SMALL.replace("format = 12", "format = 0")), Loaded::Sound(_)));
    }

    #[test]
    fn line_ends_and_the_mark_of_the_order_of_bytes_stay() {
        for (mark, end) in [("", "\n"), ("", "\r\n"), ("\u{feff}", "\n"), ("\u{feff}", "\r\n")] {
            let text = format!("{mark}{}", SMALL.replace('\n', end));
            let rig = sound(&text);
            assert_eq!(Source::read(text.clone()).unwrap().with(&rig).unwrap().text(), text);
            let mut more = rig.clone();
            let mark_of = more.servos[0].marks[0].clone();
            more.servos[0].marks.push(super::super::Mark { pulse_us: Some(Micros::new(1777.0)), ..mark_of });
            more.poses.push(super::super::Pose { name: "bow".to_owned(), ..more.poses[0].clone() });
            more.servos[0].notes = "two\nlines".to_owned();
            more.number_parts();
            let written = Source::read(text.clone()).unwrap().with(&more).unwrap().text().to_owned();
            assert_eq!(sound(&written).with_ids_of(&more), more);
            assert!(written.starts_with(mark) && written.matches('\u{feff}').count() == mark.chars().count());
            let bare = written.replace("\r\n", "");
            assert_eq!((bare.contains('\n'), bare.contains('\r')), (end == "\n", false), "{written:?}");
            let kept = text.lines().filter(|line| written.lines().any(|other| other == *line)).count();
            assert!(kept >= text.lines().count() - 1, "{kept} of {}", text.lines().count());
        }
    }

    #[test]
    fn places_in_a_text_with_a_mark_of_the_order_of_bytes_are_right() {
        let text = format!("\u{feff}{}", SMALL.replace("pulse_us = 1900", "pulse_us = 2930"));
        assert_eq!(first_problem(&text).2, "2930");
        let text = format!("\u{feff}{}", SMALL.replace("channel = 1", "chanel = 1\ncolur = 3"));
        let Loaded::Problems(found) = load(&text) else { panic!() };
        let underlined: Vec<&str> = found.iter().map(|one| &text[one.span.clone().unwrap()]).collect();
        assert_eq!(underlined, ["chanel", "colur"], "all of them");
        assert_eq!(found[0].help, "write channel");
    }

    #[test]
    fn a_value_of_another_type_is_told_what_stands_there_in_words_of_the_file() {
        let wrong = [
            ("channel = 1", "channel = 99999", "a whole number from 0 to 255"),
            ("frame_hz = 50", "frame_hz = \"fast\"", "a number"),
            ("rail = \"six-volt\"", "rail = 7", "a text in quotes"),
            ("marks = [", "exercised = 3\nmarks = [", "a list in [ ]"),
        ];
        for (from, to, wanted) in wrong {
            let (message, _, _) = first_problem(&SMALL.replacen(from, to, 1));
            assert!(message.ends_with(&format!("expected {wanted}")), "{message}");
        }
    }

    #[test]
    fn surplus_values_and_thousands_of_problems_are_said_in_time_that_grows_with_them() {
        let (message, _, _) = first_problem(&SMALL.replace("[900, 2100] #", "[900, 1500, 2100] #"));
        assert!(message.contains("expected two values, [low, high]"), "{message}");
        let twin = "\n[[pose]]\nname = \"look\"\nangles_deg = { \"heron.nick\" = 3 }\n";
        let Loaded::Problems(found) = load(&format!("{SMALL}{}", twin.repeat(8000))) else { panic!() };
        assert_eq!(found.len(), 16_000, "a second name and an unknown joint each");
        assert!(found.iter().map(|one| one.message.len() + one.help.len()).sum::<usize>() < 4_000_000);
    }

    #[test]
    fn marks_poses_and_steps_can_be_added_and_taken_away() {
        let mut rig = sound(SMALL);
        let source = Source::read(SMALL.to_owned()).unwrap();
        let mark = rig.servos[0].marks[0].clone();
        rig.servos[0].marks.push(super::super::Mark { pulse_us: Some(Micros::new(1777.0)), ..mark });
        let pose = super::super::Pose { name: "bow".to_owned(), ..rig.poses[0].clone() };
        rig.poses.push(pose);
        let step = rig.sequences[0].steps[0].clone();
        rig.sequences[0].steps.push(step);
        rig.number_parts();
        let more = source.with(&rig).unwrap();
        assert_eq!(sound(more.text()).with_ids_of(&rig), rig, "{}", more.text());
        let fewer = more.with(source.rig()).unwrap();
        assert_eq!(sound(fewer.text()), *source.rig(), "{}", fewer.text());
        assert!(fewer.text().contains("# seen on the bench"));
    }

    #[test]
    fn an_unknown_key_is_named_with_its_line() {
        let text = SMALL.replace("channel = 1", "chanel = 1");
        let (message, line, underlined) = first_problem(&text);
        assert_eq!(message, "there is no key `chanel` here");
        assert_eq!(underlined, "chanel");
        assert_eq!(text.lines().nth(line - 1), Some("chanel = 1"));
    }

    #[test]
    fn two_servos_on_one_channel_are_found() {
        let text = SMALL.replace("channel = 2", "channel = 1");
        let (message, _, underlined) = first_problem(&text);
        assert_eq!((message.as_str(), underlined.as_str()), ("heron.neck is on channel 1 of upper too", "1"));
    }

    #[test]
    fn a_name_that_does_not_exist_is_underlined_with_those_that_do() {
        let (message, _, underlined) = first_problem(&SMALL.replace("pose = \"rest\"", "pose = \"rset\""));
        assert_eq!(
            (message.as_str(), underlined.as_str()),
            ("step 1 of wake: no pose is called \"rset\"", "\"rset\"")
        );
    }

    #[test]
    fn numbers_outside_their_range_are_underlined() {
        let (message, _, underlined) = first_problem(&SMALL.replace("pulse_us = 1900", "pulse_us = 2930"));
        assert_eq!(message, "pulse is 2930 µs, outside 300 to 2900 µs");
        assert_eq!(underlined, "2930");
        let (message, _, underlined) = first_problem(&SMALL.replace("[900, 2100]", "[200, 2100]"));
        assert_eq!(
            (message.as_str(), underlined.as_str()),
            ("pulse is 200 µs, outside 300 to 2900 µs", "200")
        );
    }

    #[test]
    fn every_number_of_a_mark_is_one_that_it_can_have() {
        for (more, words) in [
            ("tick_us = 4.88, oscillator_hz = 25e6, ticks = 205, read = 2", None),
            ("tick_us = 0", Some("tick is 0 µs, outside 0.01 to 100 µs")),
            ("tick_us = -4.88", Some("tick is -4.88 µs")),
            ("tick_us = nan", Some("tick is NaN µs")),
            ("oscillator_hz = -25e6", Some("oscillator is -25000000 Hz")),
            ("oscillator_hz = nan", Some("oscillator is NaN Hz")),
            ("error_deg = 0", Some("reading error is 0°")),
            ("read = 0", Some("times read is 0, outside 1 to 250")),
        ] {
            let text = SMALL.replace("{ pulse_us = 1100,", &format!("{{ {more}, pulse_us = 1100,"));
            match (load(&text), words) {
                (Loaded::Sound(_), None) => {}
                (Loaded::Problems(found), Some(words)) => {
                    let said = found[0].message.replace(" °", "°");
                    assert!(said.starts_with(words), "{more}: {said}");
                }
                (other, _) => panic!("{more}: {other:?}"),
            }
        }
    }

    #[test]
    fn what_has_no_angles_is_told_levels_and_nothing_that_servos_have() {
        const CRANE: &str = include_str!("../../tests/data/crane.rig.toml");
        let rig = sound(CRANE);
        let source = Source::read(CRANE.to_owned()).unwrap();
        assert_eq!(source.with(&rig).unwrap().text(), CRANE);
        let with = |old: &str, new: &str| first_problem(&CRANE.replace(old, new));
        let lamp = "kind = \"dimmer\"\n";
        for (old, new, wanted) in [
            (
                lamp,
                "kind = \"dimmer\"\nmarks = [{ pulse_us = 1500, angle_deg = 3 }]\n",
                "a dimmer channel has no angles to mark",
            ),
            (lamp, "kind = \"dimmer\"\ncentre_us = 1500\n", "a dimmer channel has no servo pulses"),
            (lamp, "kind = \"dimmer\"\nendpoints_us = [900, 1500]\n", "a dimmer channel has no servo pulses"),
            (
                lamp,
                "rated = { travel_deg = 90, pulses_us = [1000, 2000] }\nkind = \"dimmer\"\n",
                "a dimmer channel has no rated travel",
            ),
            (lamp, "arming = { for_s = 1 }\nkind = \"dimmer\"\n", "a dimmer channel has no servo pulses"),
            (lamp, "", "the current of a servo belongs in rated"),
            ("for_s = 1 ", "for_s = 100 ", "arming time is 100 s, outside 0.1 to 60 s"),
            (
                "for_s = 1 ",
                "for_s = 1, pulse_us = 1950 ",
                "its arming pulse 1950 µs is not between its endpoints",
            ),
            ("centre_us = 1480", "centre_us = 1080", "its stop pulse 1080 µs is not between its endpoints"),
            ("\"crane.lamp\" = 40", "\"crane.lamp\" = -40", "level is -40 %, outside 0 to 100 %"),
            ("\"crane.winch\" = -20", "\"crane.winch\" = -200", "rate is -200 %, outside -100 to 100 %"),
            ("\"crane.lamp\" = 40", "\"crane.lump\" = 40", "no part with a level is called \"crane.lump\""),
            (
                "[[pose]]\nname = \"lift\"",
                "[[joint]]\nname = \"lamp\"\nservo = \"crane.lamp\"\n[[pose]]\nname = \"lift\"",
                "crane.lamp is dimmer and turns no joint",
            ),
        ] {
            assert_eq!(with(old, new).0, wanted, "{new}");
        }
        let armed = SMALL.replace("channel = 1", "channel = 1\narming = { for_s = 1 }");
        assert_eq!(first_problem(&armed).0, "only a continuous servo is armed");
    }

    #[test]
    fn broken_toml_and_newer_formats_are_unreadable() {
        assert!(matches!(load("name = ["), Loaded::Unreadable(_)));
        let Loaded::Unreadable(newer) = load(&SMALL.replace("format = 12", "format = 13")) else { panic!() };
        assert!(newer.message.contains("format 12"));
    }
}
