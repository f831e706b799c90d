//! Keys while something is being asked. Esc leaves without a change, everywhere.

use crate::recovery::Offer;
use crate::screen::calibrate::{acts as calibrate, continuous, hand, marks, test_move};
use crate::screen::context::Context;
use crate::screen::dial::Dial;
use crate::screen::dial::Does;
use crate::screen::dialog::{Dialog, Purpose, Scale};
use crate::screen::entry::PulseContext;
use crate::screen::everywhere::acts as general;
use crate::screen::form::Form;
use crate::screen::inputs::{faders, listen, rows as inputs};
use crate::screen::intent::Intent;
use crate::screen::keys::Key;
use crate::screen::many;
use crate::screen::model::Tone;
use crate::screen::sequence::{acts as sequence, rows as sequence_rows};
use crate::screen::step::moved;
use crate::screen::typing::Typing;
use crate::screen::update::questions;
use crate::screen::view::palette;
use crate::screen::{commands, entry};
use wasvolta_core::range::{ANGLE, PULSE};
use wasvolta_core::rig::edit;
use wasvolta_core::rig::{BoardId, Limit, ReadAt};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{Degrees, Hertz, Position};
use wasvolta_port::expander::{Decision, Found};

/// Takes a key for the dialog that is open.
pub fn key(desk: &mut Context, key: Key) {
    let Some(dialog) = desk.model.dialog.take() else { return };
    // What was wrong with the answer before is no longer there to be read once another is given.
    desk.model.said.take_if(|(tone, ..)| *tone == Tone::Refused);
    let does = dialog.does(key);
    // Only the very next Enter says yes to replacing a file.
    if does != Some(Does::Answer) {
        desk.model.replacing = None;
    }
    if does == Some(Does::Leave) && !matches!(dialog, Dialog::Recover { .. }) {
        if let Dialog::Trim { before } = dialog {
            continuous::untrim(desk, before);
        }
        return;
    }
    // What a dialog does not end it stays open as it returns; what it opened itself stays too.
    let next = match dialog {
        Dialog::Engage { dial, scale, from } => engage(desk, (key, does), dial, scale, from),
        Dialog::Mark { dial, at, change } => mark(desk, (key, does), dial, (at, change)),
        Dialog::Contradiction { what, back } => marks::contradiction(desk, does, (what, back)),
        Dialog::Test(test) => test_move::key(desk, (key, does), test),
        Dialog::Stopwatch { presses } => continuous::timing(desk, does, presses),
        Dialog::Trim { before } => continuous::trimming(desk, does, before),
        Dialog::Drift { what, by } => continuous::drift(desk, does, what, by),
        Dialog::Fineness { wish } => fineness((key, does), wish),
        Dialog::Compare { .. } | Dialog::Alike { .. } => None,
        Dialog::Endpoint { end, pulse } => endpoint(desk, does, end, pulse),
        Dialog::Limit { end, dial, reason } => limit(desk, (key, does), (end, dial, reason)),
        Dialog::Entry { purpose, typing } => typed(desk, (key, does), purpose, typing),
        Dialog::Palette { query, pick } => choose(desk, (key, does), query, pick),
        Dialog::Help { query, from } => Some(help(desk, (key, does), query, from)),
        Dialog::Quit => quit(desk, does),
        Dialog::Recover { offer, from } => recover(desk, does, offer, from),
        Dialog::Listen(listen) => listen::key(desk, does, listen),
        Dialog::Watch(watching) => listen::watching(desk, does, watching),
        Dialog::Faders => Some(faders::key(desk, does)),
        Dialog::Form(form) => answered(desk, (key, does), form),
        Dialog::Found { board, found } => decide(desk, does, board, &found),
    };
    if next.is_some() {
        desk.model.dialog = next;
    }
}

/// A key that was pressed, with what it means here.
type Pressed = (Key, Option<Does>);

/// Takes a key for a form; once all is typed, does what its question says.
fn answered(desk: &mut Context, (key, does): Pressed, mut form: Form) -> Option<Dialog> {
    if does != Some(Does::Answer) {
        form.press(key, &desk.model.recalled);
        return Some(Dialog::Form(form));
    }
    form.keep(&mut desk.model.recalled);
    let question = questions::of(form.question)?;
    let several = question.goes_for_each() && many::count(desk.model, &desk.session.runner.edition) > 1;
    let taken = if several {
        many::answer(desk, question, &form)
    } else {
        (question.take)(desk, &form.subject, &form)
    };
    match taken {
        Ok(words) if words.is_empty() => None,
        Ok(words) => {
            desk.say(&words);
            None
        }
        Err(words) => {
            desk.refuse(&words);
            Some(Dialog::Form(form))
        }
    }
}

/// Types what is wished.
fn fineness((key, does): Pressed, mut wish: Typing) -> Option<Dialog> {
    if does == Some(Does::Answer) {
        return None;
    }
    wish.press(key, &[]);
    Some(Dialog::Fineness { wish })
}

fn endpoint(desk: &mut Context, does: Option<Does>, end: edit::End, pulse: Position) -> Option<Dialog> {
    match does {
        Some(Does::Answer) => calibrate::set_endpoint(desk, end, pulse),
        Some(Does::BackOff) => calibrate::buzzes(desk),
        Some(Does::Stops) => calibrate::stops(desk),
        _ => return Some(Dialog::Endpoint { end, pulse }),
    }
    None
}

fn engage(
    desk: &mut Context,
    pressed: Pressed,
    mut dial: Dial,
    scale: Scale,
    from: String,
) -> Option<Dialog> {
    if pressed.1 != Some(Does::Answer) {
        dial.press(pressed, if scale == Scale::Pulses { 10.0 } else { 1.0 });
        let range = if scale == Scale::Pulses { PULSE } else { ANGLE };
        dial.value = dial.value.clamp(range.least, range.greatest);
        return Some(Dialog::Engage { dial, scale, from });
    }
    let scene = desk.model.scene(desk.session);
    let picked = scene.picked()?;
    let line = picked.drawn().map(|(scale, _)| scale);
    // Before there is a fit its angles are those of the data sheet.
    let context =
        PulseContext { present: Position::new(dial.value), scale: line.clone(), ..picked.judges(scene.rig) };
    let pulse = match (scale, line) {
        (Scale::Fitted | Scale::Rated, Some(line)) => {
            dial.angle_of(Some(&context)).map(|angle| line.pulse_at(angle))
        }
        _ if dial.typing.is_empty() => Ok(Position::new(dial.value)),
        _ => entry::pulse(dial.typing.text(), &context),
    };
    match pulse {
        Ok(pulse) => {
            let stands_there = scale == Scale::Fitted;
            desk.servo_command(|servo| Command::Engage { servo, pulse, stands_there });
            None
        }
        Err(words) => {
            desk.refuse(&words);
            dial.typing.clear();
            Some(Dialog::Engage { dial, scale, from })
        }
    }
}

fn mark(
    desk: &mut Context,
    pressed: Pressed,
    mut dial: Dial,
    (at, change): (ReadAt, Option<usize>),
) -> Option<Dialog> {
    if pressed.1 == Some(Does::Other) && change.is_none() {
        return Some(marks::other_place(desk, at, change));
    }
    if pressed.1 != Some(Does::Answer) {
        dial.press(pressed, 1.0);
        return Some(Dialog::Mark { dial, at, change });
    }
    match dial.angle() {
        Ok(angle) => {
            marks::keep_angle(desk, angle, at, change);
            None
        }
        Err(words) => {
            desk.refuse(&words);
            dial.typing.clear();
            Some(Dialog::Mark { dial, at, change })
        }
    }
}

fn limit(
    desk: &mut Context,
    (key, does): Pressed,
    (mut end, mut dial, reason): (edit::End, Dial, Option<Typing>),
) -> Option<Dialog> {
    let Some(mut words) = reason else {
        match does {
            Some(Does::Other) => end = end.other(),
            Some(Does::Answer) => {
                return match dial.angle_of(desk.pulse_context().as_ref()) {
                    Ok(angle) => {
                        let dial = Dial::at(angle.get());
                        Some(Dialog::Limit {
                            end,
                            dial,
                            reason: Some(Typing::prefilled(known_reason(desk, end))),
                        })
                    }
                    Err(words) => {
                        desk.refuse(&words);
                        dial.typing.clear();
                        Some(Dialog::Limit { end, dial, reason: None })
                    }
                };
            }
            _ => {
                dial.press((key, does), 1.0);
            }
        }
        return Some(Dialog::Limit { end, dial, reason: None });
    };
    if does != Some(Does::Answer) {
        words.press(key, desk.model.recalled.of(REASON));
        return Some(Dialog::Limit { end, dial, reason: Some(words) });
    }
    desk.model.recalled.keep(REASON, words.text());
    let joint = desk.model.scene(desk.session).picked()?.joint?.name.clone();
    let limit = Limit { angle_deg: Degrees::new(dial.value), reason: words.text().trim().to_owned() };
    let done = format!("{} limit {:+.1}°", end.word(), dial.value);
    desk.edit(&done, |rig| edit::set_limit(rig, &joint, end, Some(limit)));
    None
}

fn known_reason(desk: &Context, end: edit::End) -> String {
    let scene = desk.model.scene(desk.session);
    let joint = scene.picked().and_then(|p| p.joint);
    let limit = joint.and_then(|j| if end == edit::End::Low { j.low.as_ref() } else { j.high.as_ref() });
    limit.map_or_else(String::new, |l| l.reason.clone())
}

/// What reasons of limits are kept by.
const REASON: &str = "reason";

fn typed(desk: &mut Context, (key, does): Pressed, purpose: Purpose, mut typing: Typing) -> Option<Dialog> {
    if does != Some(Does::Answer) {
        typing.press(key, desk.model.recalled.of(purpose.label()));
        return Some(Dialog::Entry { purpose, typing });
    }
    let text = typing.text().to_owned();
    desk.model.recalled.keep(purpose.label(), &text);
    let done = match purpose {
        Purpose::Pulse => go_to(desk, &text),
        Purpose::InputRow => inputs::enter(desk, &text),
        Purpose::SequenceRow => sequence_rows::enter(desk, &text),
        Purpose::Clock => correct_clock(desk, &text),
        Purpose::Pose => sequence::keep_pose_as(desk, text.trim()),
        Purpose::Beats => pass_beats(desk, &text),
        Purpose::Sheet(kind) => general::write_sheet(desk, kind, &text),
    };
    // Junk changes nothing; the entry stays open to be mended.
    let words = done.err()?;
    desk.refuse(&words);
    Some(Dialog::Entry { purpose, typing })
}

fn go_to(desk: &mut Context, text: &str) -> Result<(), String> {
    let Some(context) = desk.pulse_context() else { return Ok(()) };
    let pulse = entry::pulse(text, &context)?;
    hand::glide(desk, pulse);
    Ok(())
}

fn correct_clock(desk: &mut Context, text: &str) -> Result<(), String> {
    let measured = Hertz::new(entry::hertz(text)?);
    let Some(board) = desk.model.scene(desk.session).picked().map(|p| p.board.name.clone()) else {
        return Ok(());
    };
    let words = format!("clock of {board} corrected: {:.3} Hz; ticks and angles stay", measured.get());
    desk.edit(&words, |rig| edit::correct_clock(rig, &board, measured));
    Ok(())
}

fn pass_beats(desk: &mut Context, text: &str) -> Result<(), String> {
    let beats: u32 = text.trim().parse().map_err(|_| "write a whole number of beats".to_owned())?;
    desk.session.runner.pass_beats(beats.min(100_000));
    desk.say(&format!("{beats} beats passed"));
    Ok(())
}

fn choose(desk: &mut Context, (key, does): Pressed, mut query: Typing, pick: usize) -> Option<Dialog> {
    let Ok(intent) = query.text().parse::<Intent>();
    let found = palette::commands(&desk.model.scene(desk.session), query.text());
    let pick = match does {
        Some(Does::Up) => pick.saturating_sub(1),
        Some(Does::Down) => moved(pick, 1, found.len()),
        Some(Does::PageUp) => pick.saturating_sub(10),
        Some(Does::PageDown) => moved(pick, 10, found.len()),
        Some(Does::Answer) => {
            let Some(&action) = found.get(pick) else {
                desk.refuse("no command is called that; Esc leaves");
                return Some(Dialog::Palette { query, pick });
            };
            if let Some(view) = action.view {
                desk.model.view = view;
            }
            desk.model.recent.retain(|name| *name != action.name);
            desk.model.recent.insert(0, action.name);
            desk.model.intent = Some(Intent { action: action.name.to_owned(), ..intent });
            return None;
        }
        _ => {
            query.press(key, &[]);
            0
        }
    };
    Some(Dialog::Palette { query, pick })
}

fn help(desk: &Context, (key, does): Pressed, mut query: Typing, from: usize) -> Dialog {
    let from = match does {
        Some(Does::Up) => from.saturating_sub(1),
        Some(Does::Down) => from + 1,
        Some(Does::PageUp) => from.saturating_sub(10),
        Some(Does::PageDown) => from + 10,
        _ => {
            query.press(key, &[]);
            0
        }
    };
    let lines = commands::help(desk.model.view, &desk.model.keys, query.text()).len();
    Dialog::Help { query, from: from.min(lines.saturating_sub(5)) }
}

fn quit(desk: &mut Context, does: Option<Does>) -> Option<Dialog> {
    match does {
        Some(Does::Save) => {
            general::save(desk);
            if !desk.session.document.is_edited() {
                general::end(desk);
            }
            None
        }
        Some(Does::Without) => {
            desk.session.document.discard();
            general::end(desk);
            None
        }
        _ => Some(Dialog::Quit),
    }
}

/// Esc leaves the edits too: they are kept aside, for a new copy must not take their place.
fn recover(desk: &mut Context, does: Option<Does>, offer: Box<Offer>, from: usize) -> Option<Dialog> {
    let from = match does {
        Some(Does::Answer) => {
            desk.session.recover(*offer);
            desk.say("your edits are back, unsaved; ‹undo› undoes that, ‹save› saves");
            return None;
        }
        Some(Does::Leave) => {
            let words = format!("left; they are kept in {}", offer.refuse().display());
            desk.say(&words);
            return None;
        }
        Some(Does::Up) => from.saturating_sub(1),
        Some(Does::Down) => (from + 1).min(offer.lines.len().saturating_sub(5)),
        _ => from,
    };
    Some(Dialog::Recover { offer, from })
}

fn decide(desk: &mut Context, does: Option<Does>, board: BoardId, found: &Found) -> Option<Dialog> {
    match (does, found) {
        (Some(Does::Adopt), Found::Pulsing { ticks, adoptable: true }) => {
            for command in desk.session.runner.kept(board, ticks) {
                desk.command(command);
            }
            desk.session.runner.engine.decide(board, Decision::Adopt);
            desk.say("kept: these servos go on where they are, by hand");
            None
        }
        (Some(Does::Release), _) => {
            desk.session.runner.engine.decide(board, Decision::Release);
            desk.say("the board is started anew; its pulses stopped");
            None
        }
        _ => Some(Dialog::Found { board, found: found.clone() }),
    }
}
