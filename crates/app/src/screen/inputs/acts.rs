//! Actions on inputs: changing a stage, tying an input to a joint, the simulated plug.

use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::pick::Pick;
use crate::screen::rows::{InputRow, moved};
use wasvolta_core::rig::edit::{self, End};
use wasvolta_core::rig::{Failsafe, Input, Pressed, Switch};
use wasvolta_core::unit::{Degrees, Seconds};
use wasvolta_sim::{Mood, StandIn};

fn picked_row(desk: &Context) -> Option<(InputRow, Input)> {
    let scene = desk.model.scene(desk.session);
    let row = scene.input_rows().get(desk.model.in_inputs.row).copied()?;
    Some((row, scene.input()?.clone()))
}

/// Changes the picked row by a step.
pub fn change(desk: &mut Context, direction: f64) {
    let Some((row, input)) = picked_row(desk) else { return };
    let by = row.step(desk.model.nudge) * direction;
    match row {
        InputRow::Which => {
            let by = if direction > 0.0 { 1 } else { -1 };
            let edition = &desk.session.runner.edition;
            let here = edition.index.inputs.place(desk.model.input.id).unwrap_or(0);
            desk.model.input = Pick::at(&edition.rig.inputs, moved(here, by, edition.rig.inputs.len()));
            desk.model.in_inputs.strip.clear();
        }
        InputRow::Turn => {
            if let Some(sender) = desk.session.runner.sender(&input.link) {
                sender.turn(&input.channel, by);
            }
        }
        InputRow::Pressed => press_the_other_way(desk, &input),
        _ => {
            let value = value(desk, row).unwrap_or(0.0);
            // A rate that is off begins at one whole way a second; stepping it under its least turns it off.
            let begins = matches!(row, InputRow::Rise | InputRow::Fall) && value == 0.0;
            let next = if begins { direction.max(0.0) } else { value + by };
            set(desk, row, (next * 1e4).round() / 1e4);
        }
    }
}

/// No switch, one that reads more when it is pressed, one that reads less: to the next of them, and round.
fn press_the_other_way(desk: &mut Context, input: &Input) {
    let round = [None, Some(Pressed::High), Some(Pressed::Low)];
    let here = input.switch.as_ref().and_then(Switch::pressed);
    let at = round.iter().position(|pressed| *pressed == here).unwrap_or(0);
    let next = round[(at + 1) % round.len()];
    let switch = next.map(|pressed| Switch {
        debounce_ms: input.switch.as_ref().map_or(Switch::USUAL_DEBOUNCE_MS, |switch| switch.debounce_ms),
        ..Switch::between(input.ends, pressed)
    });
    let words = switch.as_ref().map_or_else(|| "no switch".to_owned(), Switch::words);
    desk.edit(&format!("{}: {words}", input.name), |rig| {
        edit::change_input(rig, &input.name, |input| {
            // It has no rest in its middle then; one that is a stick again learns its own by V.
            input.centre = input.centre.filter(|_| switch.is_none());
            input.switch = switch;
        })
    });
}

/// Makes the picked input a switch; one that is a switch is pressed the other way, or is none.
pub fn make_switch(desk: &mut Context) {
    let Some(input) = desk.input().cloned() else { return };
    press_the_other_way(desk, &input);
}

/// The present value of a row; zero for what is off.
pub fn value(desk: &Context, row: InputRow) -> Option<f64> {
    let scene = desk.model.scene(desk.session);
    let input = scene.input()?;
    Some(match row {
        InputRow::Which | InputRow::Turn | InputRow::Pressed => return None,
        InputRow::Debounce => input.switch.as_ref()?.debounce_ms,
        InputRow::Low => input.ends.low,
        InputRow::Centre => input.centre?,
        InputRow::High => input.ends.high,
        InputRow::Trim => input.trim,
        InputRow::Deadband => input.deadband,
        InputRow::Expo => input.expo,
        InputRow::Smoothing => input.smoothing_ms,
        InputRow::Rise => input.rise_per_s.unwrap_or(0.0),
        InputRow::Fall => input.fall_per_s.unwrap_or(0.0),
        InputRow::MapLow => scene.mapping()?.angles_deg.low.get(),
        InputRow::MapHigh => scene.mapping()?.angles_deg.high.get(),
        InputRow::Failsafe => scene.mapping()?.failsafe.as_ref().map_or(0.0, |f| f.angle_deg.get()),
    })
}

/// Sets a row to a value.
fn set(desk: &mut Context, row: InputRow, value: f64) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input().map(|i| i.name.clone()) else { return };
    let joint = scene.mapping().map(|m| m.joint.clone()).unwrap_or_default();
    let off = (value > 0.0).then_some(value);
    let words = format!("{input}: {} {value}", row.name());
    let angle = Degrees::new(value);
    desk.edit(&words, |rig| match row {
        InputRow::MapLow => edit::set_mapping_end(rig, &joint, End::Low, angle),
        InputRow::MapHigh => edit::set_mapping_end(rig, &joint, End::High, angle),
        InputRow::Failsafe => {
            edit::set_failsafe(rig, &joint, Some(Failsafe { angle_deg: angle, over_s: Seconds::new(0.8) }))
        }
        _ => edit::change_input(rig, &input, |input| match row {
            InputRow::Low => input.ends.low = value,
            InputRow::Centre => input.centre = Some(value),
            InputRow::High => input.ends.high = value,
            InputRow::Debounce => {
                if let Some(switch) = &mut input.switch {
                    switch.debounce_ms = value;
                }
            }
            InputRow::Trim => input.trim = value,
            InputRow::Deadband => input.deadband = value,
            InputRow::Expo => input.expo = value,
            InputRow::Smoothing => input.smoothing_ms = value,
            InputRow::Rise => input.rise_per_s = off,
            InputRow::Fall => input.fall_per_s = off,
            _ => {}
        }),
    });
}

/// Sets the picked row from what was typed.
///
/// # Errors
/// Says what is understood; nothing has changed then.
pub fn enter(desk: &mut Context, text: &str) -> Result<(), String> {
    let Some((row, input)) = picked_row(desk) else { return Ok(()) };
    match row {
        InputRow::Which => return Err("← and → choose the input".to_owned()),
        InputRow::Turn => {
            let share = entry::plain(text)?;
            if let Some(sender) = desk.session.runner.sender(&input.link) {
                sender.turn(&input.channel, share - sender.position(&input.channel).unwrap_or(0.0));
            }
        }
        InputRow::Failsafe if text.trim() == "stay" => set_stay(desk),
        InputRow::MapLow | InputRow::MapHigh | InputRow::Failsafe => {
            set(desk, row, entry::angle(text)?.get());
        }
        InputRow::Pressed => return Err("← and → choose which way; V watches it, and finds where".to_owned()),
        InputRow::Smoothing | InputRow::Debounce => {
            set(desk, row, entry::seconds(&with_ms(text))? * 1000.0);
        }
        _ => set(desk, row, entry::plain(text)?),
    }
    Ok(())
}

/// A bare time of smoothing or debouncing is in milliseconds, as it is shown.
fn with_ms(text: &str) -> String {
    if text.trim().ends_with(|c: char| c.is_ascii_digit() || c == '.') {
        format!("{text}ms")
    } else {
        text.to_owned()
    }
}

fn set_stay(desk: &mut Context) {
    let joint = desk.model.scene(desk.session).mapping().map(|m| m.joint.clone()).unwrap_or_default();
    desk.edit("when lost: stay", |rig| edit::set_failsafe(rig, &joint, None));
}

/// Ties the input to the picked servo's joint over its limits, or unties it.
pub fn tie(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let (Some(input), Some(picked)) = (scene.input(), scene.picked()) else { return };
    let (Some(joint), Some(line)) = (picked.joint, picked.plan.scale.as_ref()) else { return };
    let (input, name) = (input.name.clone(), joint.name.clone());
    let tied = scene.rig.mapping_of(&name).is_some_and(|m| m.input == input);
    let (low, high) = picked.plan.guard.free();
    let (a, b) = (line.angle_at(low), line.angle_at(high));
    let span = if a < b { (a, b) } else { (b, a) };
    if tied {
        desk.edit(&format!("{name} untied from {input}"), |rig| edit::untie(rig, &name));
    } else {
        desk.edit(&format!("{input} tied to {name}; g gives it the joint"), |rig| {
            edit::tie(rig, &input, &name, span)
        });
    }
}

fn picked_sender(desk: &Context) -> Option<Box<dyn StandIn>> {
    let link = desk.model.scene(desk.session).input()?.link.clone();
    desk.session.runner.sender(&link)
}

/// Switches the simulated transmitter off, or on again: what its receiver says then is its protocol's way.
pub fn transmitter(desk: &mut Context) {
    let Some(sender) = picked_sender(desk) else { return };
    let (mood, words) = if sender.mood() == Mood::Off {
        (Mood::Well, "transmitter on again")
    } else {
        (Mood::Off, "transmitter off; o switches it on again")
    };
    sender.set_mood(mood);
    desk.say(words);
}

/// Pulls the simulated plug, or puts it in again.
pub fn plug(desk: &mut Context) {
    let Some(sender) = picked_sender(desk) else { return };
    if sender.is_plugged() {
        sender.unplug();
        desk.say("plug pulled; z puts it in again");
    } else {
        match sender.replug() {
            Ok(()) => desk.say("plug put in again"),
            Err(error) => desk.refuse(&format!("cannot simulate the line: {error}")),
        }
    }
}

/// ↑ and ↓
pub fn pick_row(desk: &mut Context, by: isize) {
    let rows = desk.model.scene(desk.session).input_rows().len();
    desk.model.in_inputs.row = moved(desk.model.in_inputs.row, by, rows);
}

/// Takes in where the picked input rests now.
pub fn take_rest(desk: &mut Context) {
    let Some((id, name)) = desk.input().map(|input| (input.id, input.name.clone())) else { return };
    let Some(rest) = desk.model.in_inputs.rests.moved(id) else { return };
    let rest = if rest.abs() >= 100.0 { rest.round() } else { (rest * 1e3).round() / 1e3 };
    desk.edit(&format!("{name} rests at {rest}"), |rig| {
        edit::change_input(rig, &name, |input| input.centre = Some(rest))
    });
}
