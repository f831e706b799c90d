//! `sheet`: paper to lay beside the mechanism, or under its horn.

use crate::cli::{MountingSide, Sheet, SheetKind};
use crate::exit::Exit;
use crate::files;
use crate::files::output::{Outputs, Replace};
use crate::paper::{self, Kind, Order};
use crate::say;
use miette::{IntoDiagnostic, miette};
use std::path::Path;
use std::process::ExitCode;
use wasvolta_sheet::protractor::{Fitting, SeenFrom, Under};

/// Draws and writes; says where.
///
/// # Errors
/// When the rig or the sheet cannot be used; nothing half-written is left.
pub fn run(sheet: &Sheet, outputs: &Outputs) -> miette::Result<ExitCode> {
    let fitted = fitting(sheet) != Fitting::default();
    if fitted && sheet.kind != SheetKind::Protractor {
        return Err(miette!(
            "--horn, --hole, --joint and --seen-from are about a protractor: leave them out here"
        ));
    }
    if sheet.board.is_some() && sheet.kind != SheetKind::Wiring {
        return Err(miette!("--board is about the wiring sheet: leave it out here"));
    }
    if sheet.sequence.is_some() && sheet.kind != SheetKind::Sequence {
        return Err(miette!("--sequence is about the sequence sheet: leave it out here"));
    }
    let source = files::open(&sheet.rig)?;
    let kind = match sheet.kind {
        SheetKind::Calibration => Kind::Calibration,
        SheetKind::Protractor => Kind::Protractor(fitting(sheet)),
        SheetKind::Linkage => Kind::Linkage,
        SheetKind::Wiring => Kind::Wiring,
        SheetKind::Sequence => Kind::Sequence,
    };
    let paper = sheet.paper.into();
    let date = sheet.date.unwrap_or_else(crate::date::today);
    let of = match kind {
        Kind::Wiring => &sheet.board,
        Kind::Sequence => &sheet.sequence,
        _ => &sheet.servo,
    };
    let first = source.rig().boards.first().map_or("", |board| board.name.as_str());
    let order = Order { rig: source.rig(), of: of.as_deref().unwrap_or(first), kind, paper, date };
    let path = paper::make(&order, &sheet.output, outputs, Replace::AsTold).into_diagnostic()?;
    if sheet.output != Path::new("-") {
        say::note(path.display());
    }
    Ok(Exit::Done.into())
}

const fn fitting(sheet: &Sheet) -> Fitting {
    let seen_from = match sheet.seen_from {
        MountingSide::Horn => SeenFrom::Horn,
        MountingSide::Back => SeenFrom::Back,
    };
    let under = if sheet.joint { Under::Joint } else { Under::Horn };
    Fitting { horn_mm: sheet.horn, hole_mm: sheet.hole, seen_from, under }
}
