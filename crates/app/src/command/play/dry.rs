//! Virtual time and no device: everything starts where the sequences begin, nothing is waited for, and the last row is the
//! end itself.

use super::summary::{Played, Report};
use super::wanted::Wanted;
use crate::cli::Play;
use crate::command::trace::Trace;
use crate::exit::Exit;
use crate::hardware::BEAT;
use crate::say;
use std::process::ExitCode;
use std::time::{Duration, Instant};
use wasvolta_core::Stage;
use wasvolta_core::inflow::Inflow;
use wasvolta_core::rig::Rig;
use wasvolta_core::stage::{Command, Plan, Prepared};

/// Plays.
///
/// # Errors
/// When the trace cannot be written.
pub fn run(play: &Play, rig: &Rig, wanted: &Wanted, mut trace: Option<Trace>) -> miette::Result<ExitCode> {
    let plan = Plan::of(rig);
    let found = wanted.looked_at(rig, &plan, play.json);
    let mut show = Show::engaged(plan, wanted);
    let mut start = vec![Command::Tempo { percent: wanted.tempo }];
    start.extend(rig.servos.iter().map(|servo| Command::GiveBack { servo: servo.id }));
    start.extend(wanted.layers.iter().filter_map(|layer| wanted.begins(rig, *layer, false)));
    let begin = Instant::now();
    let mut first = true;
    for _ in 0..wanted.times {
        for &place in &wanted.order {
            start.extend(wanted.begins(rig, place, first));
            show.stage.advance(show.base + show.at, Inflow::default(), &start);
            start.clear();
            if first && let Some(trace) = &mut trace {
                show.row(rig, trace)?;
            }
            first = false;
            while let Some(left) = show.left(place) {
                show.at += left.min(BEAT);
                show.stage.advance(show.base + show.at, Inflow::default(), &[]);
                if let Some(trace) = &mut trace {
                    show.row(rig, trace)?;
                }
            }
        }
    }
    let took = begin.elapsed().as_secs_f64();
    if let Some(trace) = trace {
        trace.finish()?;
    }
    let seconds = show.at.as_secs_f64();
    if play.json {
        say::json(&Report::of(
            rig,
            show.stage.plan(),
            (wanted.tempo, wanted.times),
            &found,
            Played::Dry { seconds, took },
        ));
        return Ok(Exit::Done.into());
    }
    let shorts = found.iter().map(|(_, review)| review.shorts.len()).sum();
    let names: Vec<&str> =
        wanted.order.iter().filter_map(|n| rig.sequences.get(*n)).map(|s| s.name.as_str()).collect();
    say::note(format_args!(
        "{}: {seconds:.2} s in {took:.4} s, {}",
        names.join(", "),
        say::counted(shorts, "short step")
    ));
    Ok(Exit::Done.into())
}

struct Show {
    stage: Stage,
    /// When it begins, by the stage's clock.
    base: Duration,
    /// The time since.
    at: Duration,
}

impl Show {
    /// Engages everything where it is at the beginning, and passes the time until what must see its neutral first has seen
    /// it.
    fn engaged(plan: Plan, wanted: &Wanted) -> Self {
        let mut engage = Vec::new();
        for (n, servo) in plan.servos.iter().enumerate() {
            let mut programs = wanted.order.iter().filter_map(|place| plan.programs.get(*place));
            let start = programs.find_map(|program| program.track_of(n)).map(|track| track.start);
            let start = start.and_then(|start| Some(servo.scale.as_ref()?.pulse_at(start)));
            if let Some(pulse) = servo.home.or(start) {
                engage.push(Command::Engage { servo: servo.id, pulse, stands_there: true });
            }
        }

        let mut stage = Stage::new(Prepared::new(plan), BEAT);
        stage.rehearse();
        let mut base = Duration::ZERO;
        stage.advance(base, Inflow::default(), &engage);
        while stage.servos().iter().any(|servo| servo.arming().is_some()) {
            base += BEAT;
            stage.advance(base, Inflow::default(), &[]);
        }
        Self { stage, base, at: Duration::ZERO }
    }

    /// The time that a sequence still plays, a beat where that is not known; none when it is over.
    fn left(&self, place: usize) -> Option<Duration> {
        let program = self.stage.plan().programs.get(place)?;
        let player = self.stage.players().of(program.id).filter(|player| player.play.goes_on())?;
        Some(player.left(program).unwrap_or(BEAT))
    }

    fn row(&self, rig: &Rig, trace: &mut Trace) -> miette::Result<()> {
        trace.rows(self.at, rig, self.stage.plan(), self.stage.servos())
    }
}
