//! Goes on with what takes several steps. Each frame it is looked whether the next step can be taken. A cut, a hold, or a
//! step that does not come about ends it in words; nothing is tried twice.

use crate::screen::calibrate::acts as calibrate;
use crate::screen::context::Context;
use crate::screen::errand::Step;
use crate::screen::wiring::acts as wiring;
use std::time::Duration;
use wasvolta_core::rig::{BoardId, ServoId};
use wasvolta_core::stage::{Command, Output};
use wasvolta_core::unit::Position;

/// The time between the first pulses of two servos.
const APART: Duration = Duration::from_millis(80);

/// What came of looking at a step.
enum Progress {
    /// It is over.
    Done,
    /// Not yet; what is waited for must come soon.
    Waits,
    /// Not yet; a person may take their time.
    Asks,
}

/// Takes the steps that can be taken now.
pub fn go_on(desk: &mut Context) {
    while let Some(step) = desk.model.errands.steps.front().copied() {
        let stopped = matches!(desk.model.snapshot.output, Output::Cut | Output::Held);
        if stopped && desk.model.errands.give_up() {
            return desk.refuse("the cut or hold ended what was under way");
        }
        let since = *desk.model.errands.since.get_or_insert(desk.now);
        match look(desk, step) {
            Progress::Done => desk.model.errands.done(),
            Progress::Waits if desk.now.saturating_sub(since) > step.patience() => {
                desk.model.errands.give_up();
                return desk.refuse(&late(desk, step));
            }
            Progress::Waits | Progress::Asks => return,
        }
    }
}

fn late(desk: &Context, step: Step) -> String {
    let edition = &desk.session.runner.edition;
    let name = |servo| edition.servo(servo).map_or("it", |servo| servo.name.as_str());
    match step {
        Step::Released { board, channel } => {
            let board = edition.board(board).map_or("its board", |board| board.name.as_str());
            let plug = edition.rig.plug_words(board, channel);
            format!("{plug} was not released: nothing was engaged")
        }
        Step::GoHome(servo) => {
            format!("{} did not get home: ‹quit› ends the program all the same", name(servo))
        }
        Step::Quit => String::new(),
        Step::Engage { servo, .. } | Step::Engaged(servo) | Step::Ask(servo) | Step::Name(servo) => {
            format!("{} gets no pulses: the chain in Wiring says why; the others wait", name(servo))
        }
    }
}

fn look(desk: &mut Context, step: Step) -> Progress {
    match step {
        Step::Released { board, channel } => {
            if is_on_the_wire(desk, board, channel) {
                Progress::Waits
            } else {
                Progress::Done
            }
        }
        Step::Engage { servo, pulse } => {
            if desk.session.runner.edition.servo(servo).is_some() {
                desk.command(Command::Engage { servo, pulse, stands_there: false });
            }
            Progress::Done
        }
        Step::Engaged(servo) => engaged(desk, servo),
        Step::Ask(servo) => ask(desk, servo),
        Step::Name(servo) => name(desk, servo),
        Step::GoHome(servo) => go_home(desk, servo),
        Step::Quit => {
            desk.model.quit = true;
            Progress::Done
        }
    }
}

fn go_home(desk: &mut Context, servo: ServoId) -> Progress {
    let scene = desk.model.scene(desk.session);
    let Some(picked) = place(desk, servo).and_then(|n| scene.servo(n)) else { return Progress::Done };
    let Some(home) = picked.plan.home else { return Progress::Done };
    if !picked.state.engaged || (picked.state.pulse - home).abs() < Position::new(0.5) {
        return Progress::Done;
    }
    if desk.model.errands.came.replace(desk.now).is_none() {
        desk.command(Command::GoTo { servo, pulse: home });
    }
    Progress::Waits
}

fn place(desk: &Context, servo: ServoId) -> Option<usize> {
    desk.session.runner.edition.index.servos.place(servo)
}

fn is_engaged(desk: &Context, servo: ServoId) -> bool {
    let scene = desk.model.scene(desk.session);
    place(desk, servo).and_then(|n| scene.state(n)).is_some_and(|state| state.engaged)
}

fn is_on_the_wire(desk: &Context, board: BoardId, channel: u8) -> bool {
    let state = desk.session.runner.edition.board_state(&desk.model.snapshot, board);
    state.is_some_and(|state| state.sent.get(usize::from(channel)).is_some())
}

fn engaged(desk: &mut Context, servo: ServoId) -> Progress {
    let edition = &desk.session.runner.edition;
    let board = edition.servo(servo).and_then(|s| Some((edition.parts().board(&s.board)?.id, s.plug())));
    let Some((board, channel)) = board else { return Progress::Done };
    if !is_engaged(desk, servo) || !is_on_the_wire(desk, board, channel) {
        return Progress::Waits;
    }
    let came = *desk.model.errands.came.get_or_insert(desk.now);
    if desk.now.saturating_sub(came) >= APART { Progress::Done } else { Progress::Waits }
}

/// Opens the question once; Esc leaves it unanswered, which is an answer.
fn ask(desk: &mut Context, servo: ServoId) -> Progress {
    let Some(n) = place(desk, servo) else { return Progress::Done };
    if desk.model.dialog.is_some() {
        return Progress::Asks;
    }
    if is_engaged(desk, servo) || desk.model.errands.came.is_some() {
        return Progress::Done;
    }
    desk.model.errands.came = Some(desk.now);
    desk.model.pick_servo(&desk.session.document.rig, n);
    calibrate::engage(desk);
    if desk.model.dialog.is_some() { Progress::Asks } else { Progress::Done }
}

fn name(desk: &mut Context, servo: ServoId) -> Progress {
    let Some(n) = place(desk, servo) else { return Progress::Done };
    if desk.model.dialog.is_some() {
        return Progress::Asks;
    }
    if !is_engaged(desk, servo) {
        // Left unanswered, or not told to the stage yet.
        return Progress::Waits;
    }
    desk.model.pick_servo(&desk.session.document.rig, n);
    wiring::ask_which(desk);
    Progress::Done
}
