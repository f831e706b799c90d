//! `sequence`: what the sequences of a rig are, step by step, and what is found when they are looked at before they run.

use super::play::{OneSequence, lines};
use crate::cli;
use crate::exit::Exit;
use crate::files;
use crate::files::input::What;
use crate::holder;
use crate::say::{self, counted};
use miette::{IntoDiagnostic, miette};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::review::Review;
use wasvolta_core::rig::{Index, Layer, Loop, Parts, Rig, Sequence, Step, Times, What as Does, steps};
use wasvolta_core::sequence::{Lasts, Program};
use wasvolta_core::stage::Plan;

/// What `sequence check --json` says.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// What was found of each sequence that was asked for.
    sequences: Vec<OneSequence>,
    /// Whether nothing is to be said against any of them.
    good: bool,
}

/// Lists, shows or checks.
///
/// # Errors
/// When the rig cannot be read, or has no such sequence.
pub fn run(wanted: &cli::Sequence) -> miette::Result<ExitCode> {
    match wanted {
        cli::Sequence::List { rig } => {
            let source = files::open(rig)?;
            list(source.rig());
            Ok(Exit::Done.into())
        }
        cli::Sequence::Show { rig, sequence } => {
            let source = files::open(rig)?;
            show(source.rig(), sequence)?;
            Ok(Exit::Done.into())
        }
        cli::Sequence::Import { rig, table, name } => import(rig, table, name),
        cli::Sequence::Check { rig, sequence, json } => {
            let source = files::open(rig)?;
            check(source.rig(), sequence.as_deref(), *json)
        }
    }
}

fn import(path: &Path, table: &Path, name: &str) -> miette::Result<ExitCode> {
    let text = files::read(table, What::Table)?;
    // A program that works on the rig would not see what is put into it here.
    let _held = holder::hold(path).into_diagnostic()?;
    let source = files::open(path)?;
    let rows = steps::read(source.rig(), &text).map_err(|bad| miette!("{}, {bad}", table.display()))?;
    let next = steps::sequence(source.rig(), name, &rows).into_diagnostic()?;
    files::write(path, source.with(&next).into_diagnostic()?.text()).into_diagnostic()?;
    say::note(format_args!("{name} has {} now, in {}", counted(rows.len(), "step"), path.display()));
    show(&next, name)?;
    Ok(Exit::Done.into())
}

fn place(rig: &Rig, name: &str) -> miette::Result<usize> {
    rig.sequences.iter().position(|own| own.name == name).ok_or_else(|| {
        let names: Vec<&str> = rig.sequences.iter().map(|own| own.name.as_str()).collect();
        let there = if names.is_empty() { "this rig has none".to_owned() } else { names.join(", ") };
        miette!(help = format!("there is: {there}"), "no sequence is called {name:?}")
    })
}

fn lasts(review: &Review) -> String {
    match review.lasts {
        Lasts::Seconds(seconds) => format!("{seconds:.2} s"),
        Lasts::Waits(seconds) => format!("{seconds:.2} s and what it waits for"),
        Lasts::Forever => "until it is stopped".to_owned(),
    }
}

fn list(rig: &Rig) {
    let (plan, index) = (Plan::of(rig), Index::of(rig));
    let parts = Parts { rig, index: &index };
    for (n, sequence) in rig.sequences.iter().enumerate() {
        let review = Review::of(parts, &plan, n);
        let layer = match sequence.layer {
            Layer::Beside => "",
            Layer::Over => ", over others",
            Layer::Added => ", added to others",
        };
        let short = match review.shorts.len() {
            0 => String::new(),
            more => format!("; {}", counted(more, "short step")),
        };
        let steps = counted(sequence.steps.len(), "step");
        say::line(format_args!("{:<20} {steps}, {}{layer}{short}", sequence.name, lasts(&review)));
    }
}

fn show(rig: &Rig, name: &str) -> miette::Result<()> {
    let n = place(rig, name)?;
    let (plan, index) = (Plan::of(rig), Index::of(rig));
    let (Some(sequence), Some(program)) = (rig.sequences.get(n), plan.programs.get(n)) else { return Ok(()) };
    let review = Review::of(Parts { rig, index: &index }, &plan, n);
    say::line(format_args!("{name}: {}", lasts(&review)));
    for (n, step) in sequence.steps.iter().enumerate() {
        for own in sequence.loops.iter().filter(|own| sequence.labelled(&own.from) == Some(n)) {
            say::line(format_args!("          loop {}", rounds(own)));
        }
        say::line(format_args!("{}", line(sequence, program, n, step)));
    }
    for line in lines(rig, &review) {
        say::line(format_args!("· {line}"));
    }
    Ok(())
}

/// A step in a line: when it begins, its number, what it does, how long.
fn line(sequence: &Sequence, program: &Program, n: usize, step: &Step) -> String {
    let time = program.step(n).unwrap_or_default();
    let what = match step.what() {
        Some(Does::Pose(pose)) => {
            let how = match (step.move_s, step.speed_deg_s) {
                (Some(_), _) => format!("{:.2} s", time.moves),
                (None, Some(speed)) => format!("{:.2} s at {:.1} °/s", time.moves, speed.get()),
                (None, None) => format!("{:.2} s, as fast as they can", time.moves),
            };
            let dwell =
                if time.dwells > 0.0 { format!(", dwell {:.2} s", time.dwells) } else { String::new() };
            format!("to {pose} in {how}{dwell}, {}", step.easing.name())
        }
        Some(Does::Play(other)) => {
            let with: Vec<String> =
                step.with.iter().map(|(name, value)| format!("{name} = {value}")).collect();
            let with = if with.is_empty() { String::new() } else { format!(" with {}", with.join(", ")) };
            format!("play {other}{with}, {:.2} s", time.moves)
        }
        Some(Does::Wait(wait)) => {
            let most = wait.at_most_s.map_or_else(String::new, |most| {
                let then = match &wait.to {
                    Some(label) => format!("jump to {label}"),
                    None => wait.then.word().to_owned(),
                };
                format!(", {} s at most, then {then}", most.get())
            });
            format!("wait until {}{most}", wait.words())
        }
        None => "nothing".to_owned(),
    };
    let label = step.label.as_ref().map_or_else(String::new, |label| format!("  ({label})"));
    let ends = sequence.loops.iter().filter(|own| sequence.labelled(&own.to) == Some(n)).count();
    let ends = if ends == 0 {
        String::new()
    } else {
        format!("  loop ends{}", if ends == 1 { "" } else { ", all" })
    };
    format!("{:>8.2} s  {:>3}  {what}{label}{ends}", time.starts, n + 1)
}

fn rounds(own: &Loop) -> String {
    let times = match &own.times {
        Some(Times::Count(count)) => format!("{count} times"),
        Some(Times::Parameter(name)) => format!("{name} times"),
        None => "for ever".to_owned(),
    };
    let until = own.until.as_ref().map_or_else(String::new, |until| format!(", or until {}", until.words()));
    format!("{times}{until}")
}

fn check(rig: &Rig, only: Option<&str>, json: bool) -> miette::Result<ExitCode> {
    let places = match only {
        Some(name) => vec![place(rig, name)?],
        None => (0..rig.sequences.len()).collect(),
    };
    let (plan, index) = (Plan::of(rig), Index::of(rig));
    let parts = Parts { rig, index: &index };
    let mut all = Vec::new();
    let mut good = true;
    for n in places {
        let Some(sequence) = rig.sequences.get(n) else { continue };
        let review = Review::of(parts, &plan, n);
        good &= review.is_good();
        if json {
            all.push(OneSequence::of(rig, &sequence.name, &review));
            continue;
        }
        let found = lines(rig, &review);
        let words = if found.is_empty() { "no problems found" } else { "" };
        say::line(format_args!(
            "{}: {}{}{words}",
            sequence.name,
            lasts(&review),
            if words.is_empty() { "" } else { ", " }
        ));
        for line in found {
            say::line(format_args!("· {line}"));
        }
    }
    if json {
        say::json(&Report { sequences: all, good });
    }
    Ok(if good { Exit::Done } else { Exit::Failed }.into())
}
