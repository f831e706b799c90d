//! Actions that mean the same in every view.

use crate::paper::{self, Kind, Order};
use crate::screen::context::Context;
use crate::screen::dialog::{Dialog, Purpose};
use crate::screen::errand::Step;
use crate::screen::form::Subject;
use crate::screen::question::questions;
use crate::screen::step::{NUDGES, moved};
use crate::screen::typing::Typing;
use crate::screen::written;
use crate::screen::{calibrate, panels};
use std::path::Path;
use std::sync::Arc;
use wasvolta_core::rig::{QuitTo, ServoId};
use wasvolta_core::stage::{Command, Output, Owner};
use wasvolta_sheet::Paper;
use wasvolta_sheet::protractor::{Fitting, Under};

questions! {
    LET_SAG("let it sag", label: "limp", words: |_, form| {
        let servo = &form.subject.of;
        format!("{servo} carries something: limp, it sags. Hold it with one hand; Enter lets go. ‹engage› makes it stiff where it is then.")
    }) => |desk, about, _| {
        // Another may have been picked meanwhile.
        let servo = desk.session.document.rig.servo(&about.of).ok_or("it is gone")?.id;
        desk.command(Command::Release { servo });
        Ok(String::new())
    };
}

pub fn less(desk: &mut Context) {
    change(desk, -1.0);
}

pub fn more(desk: &mut Context) {
    change(desk, 1.0);
}

fn change(desk: &mut Context, direction: f64) {
    (panels::of(desk.model.view).change)(desk, direction);
}

pub fn row_up(desk: &mut Context) {
    pick_row(desk, -1);
}

pub fn row_down(desk: &mut Context) {
    pick_row(desk, 1);
}

fn pick_row(desk: &mut Context, by: isize) {
    (panels::of(desk.model.view).pick)(desk, by);
}

pub fn servo_previous(desk: &mut Context) {
    desk.pick_servo_by(-1);
}

pub fn servo_next(desk: &mut Context) {
    desk.pick_servo_by(1);
}

pub fn smaller_nudge(desk: &mut Context) {
    change_nudge(desk, -1);
}

pub fn larger_nudge(desk: &mut Context) {
    change_nudge(desk, 1);
}

/// Goes to the next larger or smaller nudge: of the picked servo by what each really is, for a degree may be less than
/// 10 µs of one and more of another.
fn change_nudge(desk: &mut Context, by: isize) {
    let mut order: Vec<usize> = (0..NUDGES.len()).collect();
    if desk.model.view == calibrate::VIEW {
        let sizes = desk.picked(|p| NUDGES.map(|nudge| p.nudge(nudge).get()));
        if let Some(sizes) = sizes {
            order.sort_by(|a, b| sizes[*a].total_cmp(&sizes[*b]));
        }
    }
    let here = order.iter().position(|n| *n == desk.model.nudge).unwrap_or(0);
    desk.model.nudge = order.get(moved(here, by, order.len())).copied().unwrap_or(0);
}

/// Stops the picked servo's pulses; a smart one goes limp, and what it carries sags: then it asks first.
pub fn release(desk: &mut Context) {
    let carries = desk.picked(|p| (p.servo.kind.is_smart(), p.joint.is_some_and(|joint| joint.loaded)));
    if carries == Some((true, true))
        && let Some(name) = desk.servo().map(|servo| servo.name.clone())
    {
        return desk.ask(LET_SAG.name, Subject::of(&name), Vec::new());
    }
    let_go(desk);
}

fn let_go(desk: &mut Context) {
    desk.servo_command(|servo| Command::Release { servo });
}

/// The hand lets go.
pub fn give_back(desk: &mut Context) {
    desk.servo_command(|servo| Command::GiveBack { servo });
}

/// The hand lets everything go that it has.
pub fn give_all_back(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let parts = (0..scene.rig.servos.len()).filter_map(|n| scene.servo(n));
    let held: Vec<ServoId> = parts.filter(|p| p.state.owner == Owner::Hand).map(|p| p.servo.id).collect();
    if held.is_empty() {
        return desk.refuse("no joint is in your hand");
    }
    for servo in &held {
        desk.command(Command::GiveBack { servo: *servo });
    }
    let parts = if held.len() == 1 { "part" } else { "parts" };
    desk.say(&format!("{} {parts} given back to sequence, input or home", held.len()));
}

/// Holds the output.
pub fn hold(desk: &mut Context) {
    desk.command(Command::Hold);
}

/// Goes on, or enables again.
pub fn drive(desk: &mut Context) {
    desk.command(Command::Drive);
}

/// From the palette; the key itself never gets here.
pub fn cut(desk: &mut Context) {
    desk.session.runner.engine.stop().cut();
}

/// Takes the last edit back.
pub fn undo(desk: &mut Context) {
    if let Some(what) = desk.session.undo() {
        desk.say(&format!("undone: {what}"));
    }
}

/// Makes it again.
pub fn redo(desk: &mut Context) {
    if let Some(what) = desk.session.redo() {
        desk.say(&format!("again: {what}"));
    }
}

/// Saves the rig.
pub fn save(desk: &mut Context) {
    match desk.session.save() {
        Ok(()) => {
            let words = format!("saved to {}", desk.session.document.path().display());
            desk.say(&words);
        }
        Err(error) => desk.refuse(&error.to_string()),
    }
}

/// Takes in what another program has written.
pub fn read_again(desk: &mut Context) {
    match desk.session.read_again() {
        Ok(()) => desk.say("read again from the file; ‹undo› brings back what was here"),
        Err(error) => desk.refuse(&error.to_string()),
    }
}

/// Goes to the next view.
pub fn next_view(desk: &mut Context) {
    let here = panels::TABLE.iter().position(|panel| panel.view == desk.model.view).unwrap_or(0);
    if let Some(panel) = panels::TABLE.get((here + 1) % panels::TABLE.len()) {
        desk.show(panel.view, panel.entered);
    }
}

/// Every command by its name.
pub fn palette(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Palette { query: Typing::default(), pick: 0 });
}

pub fn help(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Help { query: Typing::default(), from: 0 });
}

/// Asks how many beats to pass.
pub fn beats(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Entry { purpose: Purpose::Beats, typing: Typing::default() });
}

/// Quits; asks first when edits are unsaved.
pub fn quit(desk: &mut Context) {
    if desk.session.document.is_edited() {
        desk.model.dialog = Some(Dialog::Quit);
    } else {
        end(desk);
    }
}

/// Ends the program. Joints that are told so go home first; a second time does not wait for them.
pub fn end(desk: &mut Context) {
    let driving = desk.model.snapshot.output == Output::Driving;
    let scene = desk.model.scene(desk.session);
    let homes: Vec<ServoId> = (0..scene.rig.servos.len())
        .filter_map(|n| scene.servo(n))
        .filter(|picked| driving && picked.state.engaged)
        .filter(|picked| picked.joint.is_some_and(|joint| joint.quit == QuitTo::HomeFirst))
        .map(|picked| picked.servo.id)
        .collect();
    let names =
        homes.iter().filter_map(|servo| Some(desk.session.runner.edition.servo(*servo)?.name.clone()));
    let names: Vec<String> = names.collect();
    if homes.is_empty() || desk.model.errands.is_quitting() {
        desk.model.quit = true;
        return;
    }
    desk.say(&format!("{} home first, then it quits; ‹quit› quits at once", listed(&names)));
    desk.model.errands.begin(homes.into_iter().map(Step::GoHome).chain([Step::Quit]));
}

fn listed(names: &[String]) -> String {
    if let [only] = names { format!("{only} goes") } else { format!("{} servos go", names.len()) }
}

/// Asks where to write the picked servo's calibration sheet.
pub fn calibration_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Calibration);
}

/// Asks where to write a protractor for the picked servo.
pub fn protractor_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Protractor(Fitting::default()));
}

/// Asks where to write a protractor for what the picked servo turns.
pub fn joint_protractor_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Protractor(Fitting { under: Under::Joint, ..Fitting::default() }));
}

/// Asks where to write the picked servo's linkage.
pub fn linkage_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Linkage);
}

/// Asks where to write the wiring plan, from the picked board on.
pub fn wiring_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Wiring);
}

/// Asks where to write the picked sequence's chart.
pub fn sequence_sheet(desk: &mut Context) {
    ask_for_sheet(desk, Kind::Sequence);
}

/// What a sheet is of: the picked board for a wiring plan, the picked sequence for its chart, else the picked servo.
fn sheet_of(desk: &Context, kind: Kind) -> Option<String> {
    match kind {
        Kind::Wiring => desk.board().map(|board| board.name.clone()),
        Kind::Sequence => {
            desk.session.runner.edition.sequence(desk.model.sequence.id).map(|own| own.name.clone())
        }
        Kind::Calibration | Kind::Linkage | Kind::Protractor(_) => desk.servo().map(|s| s.name.clone()),
    }
}

fn ask_for_sheet(desk: &mut Context, kind: Kind) {
    let Some(of) = sheet_of(desk, kind) else { return };
    let text = format!("{of}-{}.pdf", kind.word());
    desk.model.dialog =
        Some(Dialog::Entry { purpose: Purpose::Sheet(kind), typing: Typing::prefilled(text) });
}

/// Draws a sheet of the picked servo and says where it is.
pub fn write_sheet(desk: &mut Context, kind: Kind, path: &str) -> Result<(), String> {
    let rig = Arc::clone(&desk.session.document.rig);
    let Some(of) = sheet_of(desk, kind) else { return Ok(()) };
    let order = Order { rig: &rig, of: &of, kind, paper: Paper::default(), date: crate::date::today() };
    let make = |desk: &mut Context, path: &Path, replace| {
        paper::make(&order, path, &desk.session.document.outputs, replace)
    };
    let path = written::write(desk, path, make, paper::NotMade::refused)?;
    desk.say(&format!("written: {}", path.display()));
    Ok(())
}
