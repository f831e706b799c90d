//! `play`: a sequence without the screen, dry in virtual time or driving real servos.

use super::trace::Trace;
use crate::cli::{Live, Play};
use crate::exit::Exit;
use crate::files;
use crate::hardware::BEAT;
use crate::say;
use crate::session::Session;
use miette::{IntoDiagnostic, Report, miette};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use wasvolta_core::Stage;
use wasvolta_core::rig::{Kind, Rig};
use wasvolta_core::stage::{self, Command, Owner, Plan, Prepared};
use wasvolta_port::expander::Phase;

/// Plays; gives the exit code.
///
/// # Errors
/// When the rig or the sequence cannot be used, or the trace cannot be written.
pub fn run(play: &Play) -> miette::Result<ExitCode> {
    let source = files::open(&play.rig)?;
    let rig = source.rig();
    let Some(sequence) = rig.sequences.iter().position(|s| s.name == play.sequence) else {
        let names: Vec<&str> = rig.sequences.iter().map(|s| s.name.as_str()).collect();
        let there = if names.is_empty() { "this rig has none".to_owned() } else { names.join(", ") };
        return Err(miette!(
            help = format!("there is: {there}"),
            "no sequence is called {:?}",
            play.sequence
        ));
    };
    let trace = play.trace.as_deref().map(Trace::create).transpose()?;
    if play.way.dry { dry(rig, sequence, trace) } else { drive(&play.rig, &play.live, sequence, trace) }
}

/// Virtual time, no device: everything starts at home, and the last row is the end itself.
fn dry(rig: &Rig, sequence: usize, mut trace: Option<Trace>) -> miette::Result<ExitCode> {
    let plan = Plan::of(rig);
    let (shorts, first_move) = advance_notice(rig, &plan, sequence);
    let length = plan.timelines.get(sequence).map_or(0.0, |line| line.length(first_move));
    let mut stage = Stage::new(Prepared::new(plan), BEAT);
    let engage: Vec<Command> = at_home(rig, stage.plan());
    let base = armed(&mut stage, &engage);
    let servos = 0..rig.servos.len();
    let mut start: Vec<Command> = servos.map(|servo| Command::GiveBack { servo }).collect();
    start.push(Command::Play { sequence });
    let begin = Instant::now();
    stage.advance(base, &[], &start);
    let end = Duration::try_from_secs_f64(length).unwrap_or_default();
    let mut at = Duration::ZERO;
    loop {
        if let Some(trace) = &mut trace {
            trace.rows(at, rig, stage.plan(), stage.servos())?;
        }
        if at >= end {
            break;
        }
        at = (at + BEAT).min(end);
        stage.advance(base + at, &[], &[]);
    }
    let took = begin.elapsed().as_secs_f64();
    if let Some(trace) = trace {
        trace.finish()?;
    }
    say::line(format_args!(
        "{}: {length:.2} s in {took:.4} s, {shorts} short step{}",
        rig.sequences[sequence].name,
        if shorts == 1 { "" } else { "s" }
    ));
    Ok(Exit::Done.into())
}

/// Engages, and passes the time until what must see its neutral first has seen it; gives when that is.
fn armed(stage: &mut Stage, engage: &[Command]) -> Duration {
    let mut now = Duration::ZERO;
    stage.advance(now, &[], engage);
    while stage.servos().iter().any(|servo| servo.arming().is_some()) {
        now += BEAT;
        stage.advance(now, &[], &[]);
    }
    now
}

fn at_home(rig: &Rig, plan: &Plan) -> Vec<Command> {
    (0..rig.servos.len())
        .filter_map(|servo| {
            let pulse = plan.servos.get(servo)?.home?;
            Some(Command::Engage { servo, pulse, told: true })
        })
        .collect()
}

/// Says which steps are too short; gives how many, and the time of the first move.
fn advance_notice(rig: &Rig, plan: &Plan, sequence: usize) -> (usize, f64) {
    let home = |servo: usize| {
        let plan = plan.servos.get(servo)?;
        Some(plan.scale.as_ref()?.angle_at(plan.home?))
    };
    let Some(line) = plan.timelines.get(sequence) else { return (0, 0.0) };
    let shorts = line.shorts(home);
    for short in &shorts {
        let name = rig.servos.get(short.servo).map_or("", |s| s.name.as_str());
        say::trouble(format_args!("step {} is short: {name} needs {:.3} s", short.step + 1, short.needs));
    }
    (shorts.len(), line.first_move(home))
}

/// Engages what the sequence moves, glides in, plays, and releases.
fn drive(path: &Path, live: &Live, sequence: usize, mut trace: Option<Trace>) -> miette::Result<ExitCode> {
    let mut session = Session::open(path, live)?;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP] {
        signal_hook::flag::register(signal, Arc::clone(&stop)).into_diagnostic()?;
    }
    let moved: Vec<usize> = session.derived.plan.timelines[sequence].tracks.iter().map(|t| t.servo).collect();
    let (names, commands) = first_pulses(&session, &moved);
    if commands.is_empty() {
        return Err(Report::msg(
            "nothing in this sequence can move: its joints have no fit; calibrate them first",
        ));
    }
    say::line(format_args!("moves: {}", names.join(", ")));
    say::line("Ctrl-C ends it and releases everything");
    let wanted = commands.len();
    let arming = session.derived.plan.servos.iter().filter_map(|s| s.arming).map(|(_, time)| time).max();
    let deadline = Duration::from_secs(8)
        + Duration::from_millis(80) * u32::try_from(wanted).unwrap_or(0)
        + arming.unwrap_or_default();
    for command in commands {
        session.engine.command(command);
    }
    let on_wire = |s: &wasvolta_engine::Snapshot| {
        s.boards.iter().flatten().map(|b| b.sent.iter().flatten().count()).sum::<usize>()
    };
    if !wait(&mut session, &stop, deadline, |s| {
        on_wire(s) >= wanted && s.servos.iter().all(|servo| servo.arming().is_none())
    }) {
        return refuse(&mut session);
    }
    for &servo in &moved {
        session.engine.command(Command::GiveBack { servo });
    }
    session.engine.command(Command::Play { sequence });
    wait(&mut session, &stop, Duration::from_secs(2), |s| s.player.play == stage::Play::Playing);
    follow(&mut session, &stop, trace.as_mut())?;
    if let Some(trace) = trace {
        trace.finish()?;
    }
    session.keep_last_known();
    let stopped = stop.load(Ordering::SeqCst);
    say::line(if stopped { "stopped: released" } else { "played to its end: released" });
    Ok(if stopped { Exit::Failed } else { Exit::Done }.into())
}

/// The first pulse of each servo that the sequence moves, and in words where that comes from.
fn first_pulses(session: &Session, moved: &[usize]) -> (Vec<String>, Vec<Command>) {
    let mut names = Vec::new();
    let mut commands = Vec::new();
    for &servo in moved {
        let (Some(plan), Some(part)) =
            (session.derived.plan.servos.get(servo), session.rig.servos.get(servo))
        else {
            continue;
        };
        if plan.scale.is_none() {
            say::trouble(format_args!("{} has no fit and does not move: calibrate it first", part.name));
            continue;
        }
        let (pulse, how, told) = match session.last_known.of(&part.name) {
            _ if part.kind == Kind::Endless => (plan.start(), "stands still first".to_owned(), true),
            _ if part.kind.is_accessory() => (plan.start(), "off at first".to_owned(), true),
            Some((pulse, time)) => (pulse, format!("last known, {}", crate::last_known::ago(time)), true),
            None => (plan.start(), "assumed at home: it may jump".to_owned(), false),
        };
        names.push(format!("{} ({how})", part.name));
        commands.push(Command::Engage { servo, pulse, told });
    }
    (names, commands)
}

/// Waits for a condition on the snapshot; whether it came before the time was over.
fn wait(
    session: &mut Session,
    stop: &AtomicBool,
    most: Duration,
    mut holds: impl FnMut(&wasvolta_engine::Snapshot) -> bool,
) -> bool {
    let start = Instant::now();
    loop {
        if holds(session.engine.snapshot()) {
            return true;
        }
        if stop.load(Ordering::SeqCst) || session.engine.is_stopped() || start.elapsed() > most {
            return false;
        }
        beat(session);
    }
}

fn beat(session: &mut Session) {
    if session.manual.is_some() {
        session.pass_beats(1);
    } else {
        std::thread::sleep(BEAT / 4);
    }
}

fn follow(session: &mut Session, stop: &AtomicBool, mut trace: Option<&mut Trace>) -> miette::Result<()> {
    let rig = Arc::clone(&session.rig);
    let mut traced = None;
    loop {
        let snapshot = session.engine.snapshot().clone();
        let player = &snapshot.player;
        if let Some(trace) = trace.as_deref_mut()
            && traced != Some(player.at)
        {
            traced = Some(player.at);
            trace.rows(player.at, &rig, &session.derived.plan, &snapshot.servos)?;
        }
        let arrived = snapshot.servos.iter().all(|s| s.owner != Owner::Sequence || !s.gliding);
        let over = player.play == stage::Play::Ended && arrived;
        if over || stop.load(Ordering::SeqCst) || session.engine.is_stopped() {
            return Ok(());
        }
        beat(session);
    }
}

fn refuse(session: &mut Session) -> miette::Result<ExitCode> {
    let snapshot = session.engine.snapshot().clone();
    for (board, state) in session.wiring.boards_in(&session.rig, &snapshot) {
        if let Some(trouble) = state.trouble {
            say::trouble(format_args!(
                "{}: cannot {} it: {}; {}",
                board.name,
                trouble.doing,
                trouble.fault,
                trouble.fault.help()
            ));
        } else if matches!(state.phase, Phase::Asking(_)) {
            say::trouble(format_args!(
                "{}: pulses run on it already; open the rig on the screen and say what to do with them",
                board.name
            ));
        }
    }
    Err(Report::msg("not every servo could be engaged: nothing was played"))
}
