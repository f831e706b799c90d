//! `card`: what was found out about single servos, in files that go from rig to rig.

use crate::cli::Card as Wish;
use crate::exit::Exit;
use crate::files::output::{Outputs, Replace};
use crate::{files, holder, say};
use miette::{IntoDiagnostic, WrapErr, miette};
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::rig::card::Card;

/// Lists, writes, puts or compares cards.
///
/// # Errors
/// When a file cannot be used; nothing half-written is left.
pub fn run(wish: &Wish, outputs: &Outputs) -> miette::Result<ExitCode> {
    match wish {
        Wish::List { folder } => list(folder),
        Wish::Save { rig, servo, output } => save(rig, servo, output, outputs),
        Wish::Load { card, rig, servo } => load(card, rig, servo),
        Wish::Compare { one, other } => compare(one, other),
    }
}

fn list(folder: &Path) -> miette::Result<ExitCode> {
    let entries =
        std::fs::read_dir(folder).into_diagnostic().wrap_err_with(|| folder.display().to_string())?;
    let mut paths: Vec<_> = entries.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.to_string_lossy().ends_with(".servo.toml"));
    paths.sort_unstable();
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
