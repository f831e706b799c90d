//! Sheets for paper as files: the form by the file's ending, the date by the calendar.

use crate::files::output::{Outputs, Refused, Replace};
use chrono::NaiveDate;
use std::path::{Path, PathBuf};
use thiserror::Error;
use wasvolta_core::alike::Alike;
use wasvolta_core::rig::Rig;
use wasvolta_sheet::list::List;
use wasvolta_sheet::protractor::{Fitting, Under};
use wasvolta_sheet::{
    Form, NoSheet, Paper, Subject, alike, calibration, linkage, protractor, sequence, wiring,
};

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Kind {
    /// What a servo does with a pulse.
    Calibration,
    /// A scale in true size.
    Protractor(Fitting),
    /// What is between a servo and its joint.
    Linkage,
    /// Boards with who is on them, and rails.
    Wiring,
    /// Steps in time, a band a joint, rails.
    Sequence,
}

impl Kind {
    /// The word in a file's name.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Calibration => "calibration",
            Self::Protractor(Fitting { under: Under::Horn, .. }) => "protractor",
            Self::Protractor(Fitting { under: Under::Joint, .. }) => "joint-protractor",
            Self::Linkage => "linkage",
            Self::Wiring => "wiring",
            Self::Sequence => "sequence",
        }
    }
}

/// A sheet to be made.
#[derive(Debug, Clone, Copy)]
pub struct Order<'a> {
    /// From which rig.
    pub rig: &'a Rig,
    /// Of which servo; of wiring, from which board on; else of which sequence.
    pub of: &'a str,
    pub kind: Kind,
    /// On which paper.
    pub paper: Paper,
    /// The date on it.
    pub date: NaiveDate,
}

/// Why there is no sheet. No file was touched.
#[derive(Debug, Error)]
pub enum NotMade {
    /// The ending says no form.
    #[error("{0} must end in .svg or .pdf")]
    Ending(String),
    /// It cannot be drawn.
    #[error(transparent)]
    Drawing(#[from] NoSheet),
    /// It must not be written there, or cannot be.
    #[error(transparent)]
    Refused(#[from] Refused),
}

impl NotMade {
    /// Why it may not be written there, where that is it.
    pub const fn refused(&self) -> Option<&Refused> {
        match self {
            Self::Refused(refused) => Some(refused),
            Self::Ending(_) | Self::Drawing(_) => None,
        }
    }
}

/// Draws a sheet and writes it whole; gives its full path.
///
/// # Errors
/// Says what to do; nothing half-written is left.
pub fn make(order: &Order<'_>, path: &Path, outputs: &Outputs, replace: Replace) -> Result<PathBuf, NotMade> {
    let date = order.date.to_string();
    let subject = Subject { rig: order.rig, servo: order.of, paper: order.paper, date: &date };
    let list = || match order.kind {
        Kind::Calibration => calibration::draw(&subject),
        Kind::Protractor(fitting) => protractor::draw(&subject, &fitting),
        Kind::Linkage => linkage::draw(&subject),
        Kind::Wiring => wiring::draw(&subject, order.of),
        Kind::Sequence => sequence::draw(&subject, order.of),
    };
    write(list, path, outputs, replace)
}

/// Draws cards of a kind on one sheet and writes it whole; gives its full path.
///
/// # Errors
/// Says what to do; nothing half-written is left.
pub fn make_alike(
    (of, paper, date): (&Alike, Paper, NaiveDate),
    path: &Path,
    outputs: &Outputs,
    replace: Replace,
) -> Result<PathBuf, NotMade> {
    write(|| alike::draw(of, paper, &date.to_string()), path, outputs, replace)
}

fn write(
    draw: impl FnOnce() -> Result<List, NoSheet>,
    path: &Path,
    outputs: &Outputs,
    replace: Replace,
) -> Result<PathBuf, NotMade> {
    let ending = path.extension().map(|e| e.to_string_lossy().into_owned()).unwrap_or_default();
    let form = if path == Path::new("-") { Some(Form::Svg) } else { Form::of_ending(&ending) };
    let form = form.ok_or_else(|| NotMade::Ending(path.display().to_string()))?;
    Ok(outputs.write(path, &form.write(&draw()?)?, replace)?)
}
