//! A show on real servos: engages what it moves, leads in, plays, and releases; whatever happens, the end says what was
//! read back.

use super::keys::Keys;
use super::progress::Progress;
use super::summary::{Played, Report as Summary};
use super::wanted::{self, AwaitedKey, Wanted};
use crate::cli::{Adopt, OnLost, Play};
use crate::command::trace::Trace;
use crate::document::Document;
use crate::edition::Edition;
use crate::exit::Exit;
use crate::files::output::Outputs;
use crate::hardware::BEAT;
use crate::runner::Runner;
use crate::say;
use crate::signals::Told;
use miette::{IntoDiagnostic, Report, miette};
use std::process::ExitCode;
use std::sync::Arc;
use std::time::{Duration, Instant};
use wasvolta_core::estimate::Known;
use wasvolta_core::rig::{BoardId, Does, Rig, SequenceId};
use wasvolta_core::stage::{self, About, Command, EventKind, Output, Owner, Wire};
use wasvolta_core::unit::Position;
use wasvolta_engine::snapshot::BoardState;
use wasvolta_port::board::{Decision, Found, Phase};

/// How a show ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum End {
    /// It was played.
    Played,
    /// Somebody stopped it.
    Stopped,
    /// A board was lost.
    Lost,
}

/// Plays; gives the exit code.
///
/// # Errors
/// When the hardware cannot be opened, or not everything that is moved can be engaged.
pub fn run(
    play: &Play,
    wanted: &Wanted,
    trace: Option<Trace>,
    outputs: &Outputs,
) -> miette::Result<ExitCode> {
    let document = Document::open(&play.rig, outputs)?;
    let awaited = wanted::awaited_keys(&document.rig, wanted.all());
    let keys = Keys::listen(&document.rig, !awaited.is_empty());
    if let Some(AwaitedKey { sequence, key, .. }) = awaited.iter().find(|key| !key.has_end)
        && !keys.are_heard()
    {
        return Err(miette!(
            help = "give that wait at_most_s, play it from a terminal, or open the rig on the screen",
            "{} waits for the key {key}, and there is no terminal here to press it in",
            sequence.name
        ));
    }
    let mut runner = Runner::start(&play.rig, &document.rig, &(&play.live).into(), outputs)?;
    let told = Told::listen().into_diagnostic()?;
    let found = wanted.looked_at(&document.rig, &runner.edition.plan, play.json);
    let mut played = Duration::ZERO;
    let end = perform(&mut runner, (&told, &keys), (play, wanted), trace, &mut played);
    if play.json {
        let how = match end {
            Ok(End::Played) => "played",
            Ok(End::Stopped) => "stopped",
            Ok(End::Lost) => "lost",
            Err(_) => "failed",
        };
        let driven = Played::Driven { how, seconds: played.as_secs_f64() };
        say::json(&Summary::of(
            &document.rig,
            &runner.edition.plan,
            (wanted.tempo, wanted.times),
            &found,
            driven,
        ));
    }
    let exit = runner.finish().tell(match end {
        Ok(End::Played) => "played to the end: ",
        Ok(End::Stopped) => "stopped: ",
        Ok(End::Lost) => "stopped because a board was lost: ",
        Err(_) => "",
    });
    Ok(if end? == End::Played { exit } else { Exit::Failed }.into())
}

fn perform(
    runner: &mut Runner,
    (told, keys): (&Told, &Keys),
    (play, wanted): (&Play, &Wanted),
    mut trace: Option<Trace>,
    played: &mut Duration,
) -> miette::Result<End> {
    let moved = wanted.moved(&runner.edition.plan);
    let mut show = Show::new(runner, &moved, play.on_lost);
    until_known(runner, told);
    if let Some(word) = play.adopt {
        adopt(runner, told, word);
    }
    if show.asks(runner.engine.snapshot()) {
        return Err(refuse(runner));
    }
    engage(runner, told, &moved)?;
    for servo in moved.iter().filter_map(|n| runner.edition.rig.servos.get(*n)).map(|servo| servo.id) {
        runner.engine.command(Command::GiveBack { servo });
    }
    if keys.are_heard() {
        say::note("when it waits for a key, type that key here and press Enter");
    }
    runner.engine.command(Command::Tempo { percent: wanted.tempo });
    let rig = Arc::clone(&runner.edition.rig);
    for layer in wanted.layers.iter().filter_map(|layer| wanted.begins(&rig, *layer, false)) {
        runner.engine.command(layer);
    }
    let mut end = End::Played;
    let orders = (0..wanted.times).flat_map(|_| wanted.order.iter().copied());
    for (n, place) in orders.enumerate() {
        let Some(command) = wanted.begins(&rig, place, n == 0) else { continue };
        let Some(id) = rig.sequences.get(place).map(|sequence| sequence.id) else { continue };
        // What has ended before must not be taken for this one.
        let before = runner.engine.snapshot().now;
        let heard = runner.engine.snapshot().events.last().map_or(0, |(number, _)| *number);
        runner.engine.command(command);
        let begun = |s: &wasvolta_engine::Snapshot| {
            s.now > before && s.players.of(id).is_some_and(|player| player.play.goes_on())
        };
        wait(runner, told, Duration::from_secs(2), begun);
        let since = *played;
        end = follow(runner, (told, keys), (&mut show, id, heard), trace.as_mut(), (since, played))?;
        if end != End::Played {
            break;
        }
    }
    if let Some(trace) = trace {
        trace.finish()?;
    }
    Ok(end)
}

/// How long a servo that says where it is may take to arrive once it has been told all of a sequence.
const SETTLES: Duration = Duration::from_secs(2);
/// So near is arrived, in degrees.
const ARRIVED_DEG: f64 = 2.0;

/// Which smart servos are not where the sequence has told them to be, and how far off, or do not say where they are.
fn behind(edition: &Edition, snapshot: &wasvolta_engine::Snapshot) -> Vec<String> {
    let driven = snapshot
        .servos
        .iter()
        .enumerate()
        .filter(|(_, state)| state.engaged && state.owner == Owner::Sequence);
    let said = driven.filter_map(|(n, state)| {
        let plan = edition.plan.servos.get(n).filter(|plan| plan.kind.is_smart())?;
        let scale = plan.scale.as_ref()?;
        let (is, told) = (scale.angle_at(state.estimate.pulse), scale.angle_at(state.pulse));
        let name = &edition.rig.servos.get(n)?.name;
        if state.estimate.known != Known::Measured {
            return Some(format!("{name} does not say where it is: whether it has arrived is not known"));
        }
        ((is - told).abs().get() > ARRIVED_DEG)
            .then(|| format!("{name} has not arrived: it is at {:.1}°, told {:.1}°", is.get(), told.get()))
    });
    said.collect()
}

/// Gives everything that moves its first pulse, and waits until all of those arrive.
fn engage(runner: &mut Runner, told: &Told, moved: &[usize]) -> miette::Result<()> {
    let (names, firsts) = first_pulses(runner, moved);
    if firsts.is_empty() {
        return Err(Report::msg(
            "nothing in this sequence can move: its joints have no fit; calibrate them first",
        ));
    }
    say::note(format_args!("moves: {}", names.join(", ")));
    say::note("Ctrl-C ends it and releases everything");
    let arming = runner.edition.plan.servos.iter().filter_map(|s| s.arming).map(|(_, time)| time).max();
    let deadline = SETTLED
        + Duration::from_millis(80) * u32::try_from(firsts.len()).unwrap_or(0)
        + arming.unwrap_or_default();
    for &(n, pulse, stands_there) in &firsts {
        let Some(servo) = runner.edition.rig.servos.get(n).map(|servo| servo.id) else { continue };
        runner.engine.command(Command::Engage { servo, pulse, stands_there });
    }
    let engaged = |s: &wasvolta_engine::Snapshot| {
        let mut states = firsts.iter().filter_map(|(n, ..)| s.servos.get(*n));
        states.all(|servo| servo.engaged && servo.wire == Wire::Arrives && servo.arming().is_none())
    };
    if wait(runner, told, deadline, engaged) { Ok(()) } else { Err(refuse(runner)) }
}

/// The longest that boards take to say who they are, and to do what they are told then.
const SETTLED: Duration = Duration::from_secs(8);

/// Waits until every board has said who it is, or what is wrong with it.
fn until_known(runner: &mut Runner, told: &Told) {
    wait(runner, told, SETTLED, |s| {
        s.boards.iter().flatten().all(|b| b.phase != Phase::Down || b.trouble.is_some())
    });
}

/// Answers every board that asks what to do with pulses that run on it already.
fn adopt(runner: &mut Runner, told: &Told, word: Adopt) {
    let snapshot = runner.engine.snapshot().clone();
    for state in snapshot.boards.iter().flatten() {
        let Phase::Asking(Found::Pulsing { ticks, adoptable }) = &state.phase else { continue };
        let keep = word == Adopt::Keep && *adoptable;
        if word == Adopt::Keep && !adoptable {
            say::trouble("pulses that run at another clock cannot be kept: they are stopped");
        }
        if keep {
            for command in runner.kept(state.id, ticks) {
                runner.engine.command(command);
            }
        }
        let decision = if keep { Decision::Adopt } else { Decision::Release };
        runner.engine.decide(state.id, decision);
    }
    wait(runner, told, SETTLED, |s| {
        s.boards.iter().flatten().all(|b| !matches!(b.phase, Phase::Asking(Found::Pulsing { .. })))
    });
}

/// What is watched while a sequence plays: the boards it needs, and how long one has been out of reach.
struct Show {
    on_lost: OnLost,
    boards: Vec<Needed>,
    /// The servos it moves, with what was said of each.
    moved: Vec<(usize, bool)>,
    waiting: bool,
}

/// A board that a show needs.
struct Needed {
    id: BoardId,
    name: String,
    /// Since when it is out of reach.
    away_since: Option<Duration>,
    /// That was said.
    said: bool,
}

impl Needed {
    fn state<'s>(&self, snapshot: &'s wasvolta_engine::Snapshot) -> Option<&'s BoardState> {
        snapshot.boards.iter().flatten().find(|state| state.id == self.id)
    }
}

/// A board that is back sooner is not lost: its servos have waited for it.
const LOST_AFTER: Duration = Duration::from_secs(1);

impl Show {
    fn new(runner: &Runner, moved: &[usize], on_lost: OnLost) -> Self {
        let mut boards: Vec<Needed> = Vec::new();
        for servo in moved.iter().filter_map(|n| runner.edition.rig.servos.get(*n)) {
            let Some(id) = runner.edition.parts().board(&servo.board).map(|board| board.id) else {
                continue;
            };
            if !boards.iter().any(|known| known.id == id) {
                boards.push(Needed { id, name: servo.board.clone(), away_since: None, said: false });
            }
        }
        Self { on_lost, boards, moved: moved.iter().map(|n| (*n, false)).collect(), waiting: false }
    }

    /// Whether a board that it needs asks what only a person can answer.
    fn asks(&self, snapshot: &wasvolta_engine::Snapshot) -> bool {
        let mut states = self.boards.iter().filter_map(|board| board.state(snapshot));
        states.any(|state| matches!(state.phase, Phase::Asking(_)))
    }

    /// Looks at the boards and the servos; whether the show is to be stopped.
    fn look(&mut self, runner: &mut Runner, snapshot: &wasvolta_engine::Snapshot) -> bool {
        let mut any = false;
        for board in &mut self.boards {
            let Some(state) = board.state(snapshot) else { continue };
            if state.is_reached() {
                if std::mem::take(&mut board.said) {
                    notice(format_args!("{} is back", board.name));
                }
                board.away_since = None;
                continue;
            }
            let since = *board.away_since.get_or_insert(snapshot.now);
            let lost = snapshot.now.saturating_sub(since) >= LOST_AFTER;
            any |= lost;
            if lost && !std::mem::replace(&mut board.said, true) {
                let why = state.trouble.map_or_else(
                    || ": it does not answer".to_owned(),
                    |t| format!(": {}; {}", t.fault, runner.help(&board.name, t.fault)),
                );
                let then = match self.on_lost {
                    OnLost::Stop => "the show is stopped",
                    OnLost::Wait => "the show waits for it",
                    OnLost::GoOn => "the show goes on without it",
                };
                notice(format_args!("{} is out of reach{why}; {then}", board.name));
            }
        }
        for (servo, said) in &mut self.moved {
            let lost = snapshot.servos.get(*servo).is_some_and(|state| !state.engaged);
            if lost && !std::mem::replace(said, true) {
                let name = runner.edition.rig.servos.get(*servo).map_or("", |s| s.name.as_str());
                let why = "its pulses had stopped, and it may have moved; open the rig and engage it where it stands";
                notice(format_args!("{name} stays released: {why}"));
            }
        }
        match (self.on_lost, any) {
            (OnLost::Stop, true) => {
                runner.engine.command(Command::Hold);
                return true;
            }
            (OnLost::Wait, true) if !std::mem::replace(&mut self.waiting, true) => {
                runner.engine.command(Command::Pause);
            }
            (OnLost::Wait, false) if std::mem::take(&mut self.waiting) => {
                for player in snapshot.players.all().filter(|p| p.play == stage::Play::Paused) {
                    runner.engine.command(Command::Play { sequence: player.sequence });
                }
            }
            _ => {}
        }
        false
    }
}

/// A line of trouble, in the log too.
fn notice(words: std::fmt::Arguments<'_>) {
    tracing::warn!("{words}");
    say::trouble(words);
}

/// The first pulse of each servo that the sequence moves, whether it is known to stand there, and in words where that
/// comes from.
fn first_pulses(runner: &mut Runner, moved: &[usize]) -> (Vec<String>, Vec<(usize, Position, bool)>) {
    let mut names = Vec::new();
    let mut firsts = Vec::new();
    let kept: Vec<bool> = runner.engine.snapshot().servos.iter().map(|state| state.engaged).collect();
    for &servo in moved {
        let (Some(plan), Some(part)) =
            (runner.edition.plan.servos.get(servo), runner.edition.rig.servos.get(servo))
        else {
            continue;
        };
        if plan.scale.is_none() {
            say::trouble(format_args!("{} has no fit and does not move: calibrate it first", part.name));
            continue;
        }
        if kept.get(servo).copied().unwrap_or(false) {
            names.push(format!("{} (kept where it is)", part.name));
            firsts.push((servo, plan.start(), true));
            continue;
        }
        let (pulse, how, told) = match runner.last_known.of(&part.name) {
            _ if part.kind.turns_on() => (plan.start(), "stands still first".to_owned(), true),
            _ if part.kind.is_accessory() => (plan.start(), "off at first".to_owned(), true),
            // It is driven where it says it is, whatever is asked.
            _ if part.kind.is_smart() => (plan.start(), "where it says it is".to_owned(), false),
            Some((pulse, time)) => (pulse, format!("last known, {}", crate::date::ago(time)), true),
            None => (plan.start(), "assumed at home: it may jump".to_owned(), false),
        };
        names.push(format!("{} ({how})", part.name));
        firsts.push((servo, pulse, told));
    }
    (names, firsts)
}

/// Waits for a condition on the snapshot; whether it came before the time was over.
fn wait(
    runner: &mut Runner,
    told: &Told,
    most: Duration,
    mut holds: impl FnMut(&wasvolta_engine::Snapshot) -> bool,
) -> bool {
    let start = Instant::now();
    loop {
        if holds(runner.engine.snapshot()) {
            return true;
        }
        if told.to_end() || runner.engine.is_stopped() || start.elapsed() > most {
            return false;
        }
        beat(runner);
    }
}

fn beat(runner: &mut Runner) {
    if runner.manual.is_some() {
        runner.pass_beats(1);
    } else {
        std::thread::sleep(BEAT / 4);
    }
}

/// Follows one sequence to its end. `since` is how long those before it have played; what it has played itself is added to
/// `played`.
fn follow(
    runner: &mut Runner,
    (told, keys): (&Told, &Keys),
    (show, id, first): (&mut Show, SequenceId, u64),
    mut trace: Option<&mut Trace>,
    (since, played): (Duration, &mut Duration),
) -> miette::Result<End> {
    let rig = Arc::clone(&runner.edition.rig);
    let edition = Arc::clone(&runner.edition);
    let program = edition.plan.sequence_place(id).and_then(|place| edition.plan.programs.get(place));
    let begun = runner.engine.snapshot().now;
    let mut progress = Progress::new();
    let mut traced = None;
    let mut heard = first;
    let mut told_all_at = None;
    loop {
        for key in keys.typed() {
            runner.engine.command(Command::Key { key });
        }
        let snapshot = runner.engine.snapshot().clone();
        say_presses(&rig, &snapshot, &mut heard);
        let player = snapshot.players.of(id);
        let stands = player.map_or(stage::Play::Stopped, |player| player.play);
        // One that lets its joints go at its end is gone then; one that was stopped has said no end.
        let over = snapshot.events.iter().any(|(number, event)| {
            *number > first && event.kind.is_end() && event.about == About::Sequence(id, None)
        });
        let ended = stands == stage::Play::Ended || over;
        let at = snapshot.now.saturating_sub(begun);
        *played = since + at;
        if let (Some(program), Some(player)) = (program, player) {
            progress.show(&rig, program, player);
        }
        let arrived = snapshot.servos.iter().all(has_arrived);
        // Its last row is where it all came to stand.
        if let Some(trace) = trace.as_deref_mut()
            && traced != Some(snapshot.now)
            && (arrived || !ended)
        {
            traced = Some(snapshot.now);
            trace.rows(*played, &rig, &runner.edition.plan, &snapshot.servos)?;
        }
        if told.to_end() || runner.engine.is_stopped() {
            return Ok(End::Stopped);
        }
        // A press may leave the sequence, and a cut always does.
        if stands == stage::Play::Stopped && !ended {
            progress.clear();
            return Ok(End::Stopped);
        }
        if show.look(runner, &snapshot) {
            return Ok(End::Lost);
        }
        if told.to_stop() {
            stand(runner, told)?;
        }
        runner.keep_places();
        if ended && arrived {
            let since = snapshot.now.saturating_sub(*told_all_at.get_or_insert(snapshot.now));
            let behind = behind(&edition, &snapshot);
            if behind.is_empty() || since >= SETTLES {
                progress.clear();
                behind.into_iter().for_each(say::note);
                return Ok(End::Played);
            }
        }
        beat(runner);
    }
}

/// Says what a press has done since the last look; a pose is kept on the screen alone.
fn say_presses(rig: &Rig, snapshot: &wasvolta_engine::Snapshot, heard: &mut u64) {
    let seen = std::mem::replace(heard, snapshot.events.last().map_or(*heard, |(number, _)| *number));
    for (_, event) in snapshot.events.iter().filter(|(number, _)| *number > seen) {
        let (EventKind::Pressed { does, done, .. }, About::Input(id)) = (event.kind, event.about) else {
            continue;
        };
        let Some(input) = rig.inputs.iter().find(|input| input.id == id) else { continue };
        let what = match does {
            _ if !done => does.in_vain(),
            Does::Keep => "a pose is kept only where the rig is open",
            Does::Hold => "held: Ctrl-C ends this, and releases",
            own => own.word(),
        };
        say::note(format!("{} was pressed: {what}", input.name));
    }
}

/// Whether a servo is where the sequence wants it, as far as it can get there: one whose value waits has yet to.
fn has_arrived(servo: &stage::ServoState) -> bool {
    let gets_nothing = matches!(servo.wire, Wire::Away | Wire::Cannot);
    let stands = servo.pulse == servo.target || servo.stopped.is_some();
    servo.owner != Owner::Sequence || gets_nothing || (stands && !servo.gliding)
}

/// Nobody can reach a program that is stopped: it holds first, and what would go on turning stops. Continued, it goes on.
fn stand(runner: &mut Runner, told: &Told) -> miette::Result<()> {
    runner.engine.command(Command::Hold);
    let held = |s: &wasvolta_engine::Snapshot| s.output != Output::Driving;
    wait(runner, told, Duration::from_millis(200), held);
    // What was posted is on its way to the boards: a few frames are given to it.
    for _ in 0..20 {
        beat(runner);
    }
    say::note("held; it goes on when it is continued, with fg");
    told.stand().into_diagnostic()?;
    runner.engine.command(Command::Drive);
    Ok(())
}

fn refuse(runner: &mut Runner) -> Report {
    let snapshot = runner.engine.snapshot().clone();
    for (board, state) in runner.edition.boards(&snapshot) {
        if let Some(trouble) = state.trouble {
            notice(format_args!(
                "{}: cannot {} it: {}; {}",
                board.name,
                trouble.doing,
                trouble.fault,
                runner.help(&board.name, trouble.fault)
            ));
        } else if matches!(state.phase, Phase::Asking(Found::Pulsing { .. })) {
            notice(format_args!(
                "{}: pulses run on it already; say --adopt keep or --adopt release, or open the rig on the screen",
                board.name
            ));
        } else if matches!(state.phase, Phase::Asking(Found::Unfamiliar)) {
            notice(format_args!(
                "{}: what answers was set up by something else, and may be another kind of chip; open the rig on the screen",
                board.name
            ));
        }
    }
    let parts = runner.edition.rig.servos.iter().zip(&snapshot.servos);
    for (servo, _) in parts.filter(|(_, state)| state.wire == Wire::Cannot) {
        let name = &servo.name;
        let pins = runner
            .able(&snapshot, servo.id)
            .map_or_else(String::new, |pins| format!("; those that can: {pins}"));
        notice(format_args!("{name} is plugged where its board cannot drive it{pins}"));
    }
    Report::msg("not every servo could be engaged: nothing was played")
}
