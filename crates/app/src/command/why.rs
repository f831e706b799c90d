//! `why`: the chain of one servo, from its port to its horn, by reading only.

use crate::cli;
use crate::exit::Exit;
use crate::{files, hardware, say, survey};
use miette::miette;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use wasvolta_core::rig::Rig;
use wasvolta_engine::why::{self, Facts, Link, Verdict};
use wasvolta_port::claim;
use wasvolta_port::scan::Roots;

/// What `why --json` says.
#[derive(Serialize, JsonSchema)]
pub struct Report<'a> {
    /// The servo's name.
    servo: &'a str,
    /// Its board's name.
    board: &'a str,
    /// Its channel there.
    channel: u8,
    /// The first link that is not proven.
    look_at: Option<&'static str>,
    /// The links, in the order in which a pulse passes them.
    links: &'a [Link],
}

/// Traces; 0 when no link has failed, 1 when one has.
///
/// # Errors
/// When the rig cannot be read or has no such servo.
pub fn run(wanted: &cli::Why) -> miette::Result<ExitCode> {
    let source = files::open(&wanted.rig)?;
    let rig = source.rig();
    let simulated = hardware::bench_of(rig, &wanted.rig, &(&wanted.bench).into())?;
    let links = trace(rig, &wanted.servo, simulated.as_ref())?;
    let servo = rig.servo(&wanted.servo);
    if wanted.json {
        let report = Report {
            servo: &wanted.servo,
            board: servo.map_or("", |s| s.board.as_str()),
            channel: servo.map_or(0, wasvolta_core::rig::Servo::plug),
            look_at: why::first_not_proven(&links).map(|link| link.name),
            links: &links,
        };
        say::json(&report);
    } else {
        tell(&links);
    }
    let failed = links.iter().any(|link| link.verdict == Verdict::Failed);
    Ok(if failed { Exit::Failed } else { Exit::Done }.into())
}

/// Reads what can be read of a servo's chain, and judges it.
fn trace(rig: &Rig, name: &str, simulated: Option<&hardware::Simulated>) -> miette::Result<Vec<Link>> {
    let Some(servo) = rig.servo(name) else {
        let names: Vec<&str> = rig.servos.iter().map(|s| s.name.as_str()).collect();
        return Err(miette!(help = format!("there is: {}", names.join(", ")), "no servo is called {name:?}"));
    };
    let found = rig.board(&servo.board).and_then(|board| Some((board, rig.port(&board.port)?)));
    let Some((board, port)) = found else { return Err(miette!("{name} has no board")) };
    let (evidence, trouble) = match hardware::look_at(rig, board, simulated) {
        Ok(evidence) => (evidence, None),
        Err(error) => (None, Some(error.fault)),
    };
    let real = port.simulated().is_none();
    let who = || claim::who(Path::new(&port.path), board.address.filter(|_| port.baud.is_none()));
    let holder = real.then(who).flatten().map(|holder| holder.to_string());
    let chips = Roots::default().pwm_chips();
    let held = board.address.filter(|_| real && port.baud.is_none());
    let facts = Facts {
        kernel_chip: held.and_then(|address| survey::kernel_chip(&chips, &port.path, address)),
        servo,
        board,
        port,
        trouble,
        holder: holder.as_deref(),
        evidence: evidence.as_ref(),
        lapse: None,
        asks: None,
        feedback: None,
        run: None,
    };
    Ok(why::chain(&facts))
}

fn tell(links: &[Link]) {
    for link in links {
        let sign = match link.verdict {
            Verdict::Proven => "✓",
            Verdict::Failed => "✗",
            Verdict::Unprovable => "?",
            Verdict::Behind => "·",
        };
        let words = if link.verdict == Verdict::Behind {
            "not looked at: a link before it is not proven"
        } else {
            &link.words
        };
        say::line(format_args!("{sign} {:<13} {words}", link.name));
        if !link.help.is_empty() {
            say::line(format_args!("{:16}try: {}", "", link.help));
        }
    }
}
