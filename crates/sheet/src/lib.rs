//! Drawings for paper, from a rig alone: what a maker pins beside the mechanism or puts under the horn.
//!
//! Shapes in millimetres become one display list ([`list`]), which [`svg`] and [`pdf`] write down; the
//! writers hold no geometry. The same rig and date give the same bytes. No file is touched here.

pub mod alike;
mod bar;
pub mod calibration;
mod font;
pub mod linkage;
pub mod list;
pub mod pdf;
pub mod protractor;
mod scale;
pub mod sequence;
pub mod svg;
mod trim;
pub mod wiring;

use list::List;
use thiserror::Error;
use wasvolta_core::fit::NoFit;
use wasvolta_core::rig::Rig;

/// A size of paper.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Paper {
    /// 210 × 297 mm.
    #[default]
    A4,
    /// 215.9 × 279.4 mm.
    Letter,
}

impl Paper {
    /// Width and height in mm, upright.
    pub const fn size_mm(self) -> (f64, f64) {
        match self {
            Self::A4 => (210.0, 297.0),
            Self::Letter => (215.9, 279.4),
        }
    }

    /// The name by which people speak of it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::A4 => "A4",
            Self::Letter => "Letter",
        }
    }
}

/// What every sheet is drawn from.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// The rig that it is about.
    pub rig: &'a Rig,
    /// The servo's name.
    pub servo: &'a str,
    /// The paper that it is laid out for.
    pub paper: Paper,
    /// The date as it stands on the sheet; nothing else on it depends on the day.
    pub date: &'a str,
}

/// Why a sheet cannot be drawn.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum NoSheet {
    /// Nothing of that name.
    #[error("there is no servo called {wanted:?}; there is: {there}")]
    NoServo {
        /// What was asked for.
        wanted: String,
        /// What the rig has.
        there: String,
    },
    /// No board of that name, or none at all.
    #[error("there is no board called {wanted:?}; there is: {there}")]
    NoBoard {
        /// What was asked for.
        wanted: String,
        /// What the rig has.
        there: String,
    },
    /// No sequence of that name, or none at all.
    #[error("there is no sequence called {wanted:?}; there is: {there}")]
    NoSequence {
        /// What was asked for.
        wanted: String,
        /// What the rig has.
        there: String,
    },
    /// There is nothing to be drawn in degrees.
    #[error("{servo} is {kind}: it has a level, and no angles to draw; the wiring sheet shows it")]
    NoAngles {
        /// What was asked for.
        servo: String,
        /// What it is.
        kind: &'static str,
    },
    /// The sheet of a continuous servo begins with where it stands still.
    #[error(
        "{servo} cannot have a calibration sheet yet: jog to where it just starts to turn, either way; ‹starts› keeps each"
    )]
    NoBand {
        /// The servo's name in the rig.
        servo: String,
    },
    /// Rows end with the paper.
    #[error("{count} cards are more than one sheet has rows for, {most}: take fewer at once")]
    TooMany {
        /// How many there are.
        count: usize,
        /// How many there may be.
        most: usize,
    },
    /// A linkage sheet draws one.
    #[error(
        "{servo} turns its joint without a linkage: the command linkage, or linkage = {{ … }} in the rig, describes one"
    )]
    NoLinkage {
        /// What was asked for.
        servo: String,
    },
    /// A calibration sheet shows marks.
    #[error("{servo} cannot have a calibration sheet yet: {why}")]
    NoFit {
        /// The servo's name in the rig.
        servo: String,
        /// Why it has no fit.
        why: NoFit,
    },
    /// True scale cannot be shrunk.
    #[error(
        "a horn of {horn_mm} mm needs {needs_mm:.0} mm {way}, {paper} has {has_mm:.0} mm between its margins: give \
         a shorter horn; the rays lead the eye outwards to a longer one"
    )]
    TooSmall {
        /// The horn's length.
        horn_mm: f64,
        /// Across or down the paper.
        way: &'static str,
        /// What it would take that way.
        needs_mm: f64,
        /// The name of the paper that is too small.
        paper: &'static str,
        /// What there is that way.
        has_mm: f64,
    },
    /// A length that no horn has.
    #[error(transparent)]
    Range(#[from] wasvolta_core::range::OutOfRange),
    /// The PDF could not be put together.
    #[error("the PDF could not be put together: {0}; write an .svg instead")]
    Pdf(String),
}

/// The forms a sheet is written in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// Scalable vector graphics.
    Svg,
    /// Portable document format.
    Pdf,
}

impl Form {
    /// The form that a file's ending asks for.
    pub fn of_ending(ending: &str) -> Option<Self> {
        match ending.to_ascii_lowercase().as_str() {
            "svg" => Some(Self::Svg),
            "pdf" => Some(Self::Pdf),
            _ => None,
        }
    }

    /// Writes a display list down.
    ///
    /// # Errors
    /// When the PDF cannot be put together.
    pub fn write(self, list: &List) -> Result<Vec<u8>, NoSheet> {
        match self {
            Self::Svg => Ok(svg::write(list).into_bytes()),
            Self::Pdf => pdf::write(list),
        }
    }
}

impl<'a> Subject<'a> {
    /// The servo itself, where it has angles to be drawn.
    ///
    /// # Errors
    /// When it has none.
    pub fn turning(&self) -> Result<&'a wasvolta_core::rig::Servo, NoSheet> {
        let servo = self.part()?;
        if servo.kind.has_angles() {
            return Ok(servo);
        }
        Err(NoSheet::NoAngles { servo: servo.name.clone(), kind: servo.kind.word() })
    }

    /// The servo itself.
    ///
    /// # Errors
    /// Names those that are there.
    pub fn part(&self) -> Result<&'a wasvolta_core::rig::Servo, NoSheet> {
        self.rig.servo(self.servo).ok_or_else(|| {
            let names: Vec<&str> = self.rig.servos.iter().map(|s| s.name.as_str()).collect();
            let there = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
            NoSheet::NoServo { wanted: self.servo.to_owned(), there }
        })
    }
}
