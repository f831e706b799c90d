//! `card`: what was found out about single servos, in files that go from rig to rig.

use crate::cli::Card as Wish;
use crate::exit::Exit;
use crate::files::output::{Outputs, Replace};
use crate::{files, holder, paper, say};
use chrono::NaiveDate;
use miette::{IntoDiagnostic, WrapErr, miette};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use wasvolta_core::alike::Alike;
use wasvolta_core::rig::card::Card;
use wasvolta_sheet::Paper;

/// Lists, writes, puts or compares cards.
///
/// # Errors
/// When a file cannot be used; nothing half-written is left.
pub fn run(wish: &Wish, outputs: &Outputs) -> miette::Result<ExitCode> {
    match wish {
        Wish::List { folder } => list(folder),
        Wish::Save { rig, servo, output } => save(rig, servo, output, outputs),
        Wish::Load { card, rig, servo } => load(card, rig, servo),
        Wish::Alike { cards, output, date, paper } => {
            let (paper, date) = ((*paper).into(), date.unwrap_or_else(crate::date::today));
            alike(cards, output.as_deref(), (paper, date), outputs)
        }
        Wish::Compare { one, other } => compare(one, other),
    }
}

/// The cards in a folder, by name.
fn in_folder(folder: &Path) -> miette::Result<Vec<PathBuf>> {
    let entries =
        std::fs::read_dir(folder).into_diagnostic().wrap_err_with(|| folder.display().to_string())?;
    let mut paths: Vec<_> = entries.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.to_string_lossy().ends_with(".servo.toml"));
    paths.sort_unstable();
    Ok(paths)
}

/// Says how cards of a kind stand beside one another, and draws them.
fn alike(
    said: &[PathBuf],
    output: Option<&Path>,
    (paper, date): (Paper, NaiveDate),
    outputs: &Outputs,
) -> miette::Result<ExitCode> {
    let mut paths = Vec::new();
    for path in said {
        if path.is_dir() {
            paths.extend(in_folder(path)?);
        } else {
            paths.push(path.clone());
        }
    }
    let cards = paths.iter().map(|path| files::card(path)).collect::<Result<Vec<_>, _>>()?;
    let found = Alike::of(&cards).into_diagnostic()?;
    if output != Some(Path::new("-")) {
        for row in found.rows() {
            say::line(row.line());
        }
        say::line(found.words());
    }
    if let Some(output) = output {
        let path =
            paper::make_alike((&found, paper, date), output, outputs, Replace::AsTold).into_diagnostic()?;
        if output != Path::new("-") {
            say::note(path.display());
        }
    }
    Ok(Exit::Done.into())
}

fn list(folder: &Path) -> miette::Result<ExitCode> {
    let paths = in_folder(folder)?;
    for path in &paths {
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        match files::card(path) {
            Ok(card) => {
                let ends = card.servo().ends();
                say::line(format!(
                    "{name}: {}, {}, kept {}, {} marks, endpoints {:.0} to {}",
                    card.name,
                    card.kind.word(),
                    card.kept,
                    card.marks.len(),
                    ends.low.get(),
                    card.kind.show_place(ends.high)
                ));
            }
            Err(bad) => say::line(format!("{name}: {bad}")),
        }
    }
    if paths.is_empty() {
        say::line(format!("no *.servo.toml in {}; card save writes one", folder.display()));
    }
    Ok(Exit::Done.into())
}

fn save(rig: &Path, servo: &str, output: &Path, outputs: &Outputs) -> miette::Result<ExitCode> {
    let source = files::open(rig)?;
    let part = source
        .rig()
        .servo(servo)
        .ok_or_else(|| miette!("no servo of {} is called {servo:?}", rig.display()))?;
    let text = Card::of(source.rig(), part, &crate::date::today().to_string()).text().into_diagnostic()?;
    let path = outputs.write(output, text.as_bytes(), Replace::AsTold).into_diagnostic()?;
    if output != Path::new("-") {
        say::note(path.display());
    }
    Ok(Exit::Done.into())
}

fn load(card: &Path, rig: &Path, servo: &str) -> miette::Result<ExitCode> {
    let found = files::card(card)?;
    // A program that works on the rig would not see what is put into it here.
    let _held = holder::hold(rig).into_diagnostic()?;
    let source = files::open(rig)?;
    let next = found.put(source.rig(), servo).into_diagnostic()?;
    files::write(rig, source.with(&next).into_diagnostic()?.text()).into_diagnostic()?;
    say::note(format!("{servo} of {} is what the card of {} says", rig.display(), found.name));
    Ok(Exit::Done.into())
}

fn compare(one: &Path, other: &Path) -> miette::Result<ExitCode> {
    let rows = files::card(one)?.beside(&files::card(other)?);
    for row in &rows {
        let sign = if row.agrees() { " " } else { "≠" };
        say::line(format!("{sign} {:<10} {:<24} {}", row.what, row.one, row.other));
    }
    let differs = rows.iter().any(|row| !row.agrees() && !matches!(row.what, "name" | "kept"));
    Ok(if differs { Exit::Failed } else { Exit::Done }.into())
}
