//! The next line: from how things stand, what to do now. It never asks for what strips a gear. What each room has to say
//! stands in its own file; what comes before it in every room stands here.

use crate::screen::scene::Scene;
use std::time::Duration;
use wasvolta_core::stage::Output;
use wasvolta_port::board::{Found, Phase};

/// A piece of advice: its words where it applies.
pub type Rule = fn(&Scene) -> Option<String>;

/// What may be said anywhere, in order: the first that applies is said.
const RULES: &[Rule] = &[file_changed, unseen_cut, board_trouble, lost_place, stopped, soon_released];

/// What to do next, by what a room has to say.
pub fn next(scene: &Scene, own: &[Rule]) -> String {
    RULES.iter().chain(own).find_map(|rule| rule(scene)).unwrap_or_default()
}

/// Words where something holds.
pub fn when(holds: bool, words: impl Into<String>) -> Option<String> {
    holds.then(|| words.into())
}

fn file_changed(scene: &Scene) -> Option<String> {
    let words = "Another program has written this rig's file. ‹read the file again› takes that in; \
                 ‹save› twice overwrites it.";
    when(scene.changed_outside, words)
}

fn stopped(scene: &Scene) -> Option<String> {
    match scene.model.snapshot.output {
        Output::Cut => Some(cut(scene)),
        Output::Held => when(
            true,
            "Held: all keep their last command, continuous servos stop, and nothing moves. ‹drive on› drives on, ‹cut› cuts.",
        ),
        Output::Off | Output::Driving => None,
    }
}

/// What a cut has left, by what the boards have said since.
fn cut(scene: &Scene) -> String {
    let pulsing = scene.pulsing();
    let (stiff, unheard) = scene.stiff();
    let has_smart = scene.rig.servos.iter().any(|servo| servo.kind.is_smart());
    let pulses = if pulsing.is_empty() {
        ": no pulses".to_owned()
    } else {
        format!("; pulses stay on {}", pulsing.join(", "))
    };
    let smart = match (stiff.as_slice(), unheard.as_slice()) {
        ([], []) if has_smart => ", and no smart servo is stiff".to_owned(),
        ([], []) => String::new(),
        (stiff, []) => format!("; {} stays stiff", stiff.join(", ")),
        ([], unheard) => format!("; whether {} is stiff cannot be heard", unheard.join(", ")),
        (stiff, unheard) => {
            format!(
                "; {} stays stiff, and whether {} is cannot be heard",
                stiff.join(", "),
                unheard.join(", ")
            )
        }
    };
    let left = format!("{pulses}{smart}");
    format!(
        "Output is cut{left}. ‹drive on› enables it again, then ‹engage› engages each servo where it stands."
    )
}

/// A cut that no board has confirmed: what to do comes before what is wrong with the board.
fn unseen_cut(scene: &Scene) -> Option<String> {
    let unknown = scene.unknown_boards();
    when(
        scene.model.snapshot.output == Output::Cut && !unknown.is_empty(),
        format!(
            "Output is cut, but whether {} still pulses cannot be seen: unplug the supply of its servos to be sure.",
            unknown.join(", ")
        ),
    )
}

/// A servo whose pulses had stopped, and that nobody has said the place of.
fn lost_place(scene: &Scene) -> Option<String> {
    let states = scene.servos();
    let mut lost = states.filter(|(_, state)| state.lost_place).map(|(servo, _)| servo.name.as_str());
    let first = lost.next()?;
    let more = match lost.count() {
        0 => String::new(),
        more => format!(", and {more} more"),
    };
    Some(format!(
        "{first} lost its pulses and may have moved{more}. Pick it, look where its horn stands, and ‹engage› gives the first pulse there."
    ))
}

fn board_trouble(scene: &Scene) -> Option<String> {
    for (board, state) in scene.edition.boards(&scene.model.snapshot) {
        if let Some(trouble) = state.trouble {
            return Some(format!(
                "{} {}: {}. {}. It is tried again by itself.",
                board.name,
                board.at(),
                trouble.fault,
                sentence(&scene.help(board, trouble.fault))
            ));
        }
        match state.phase {
            Phase::Asking(Found::Pulsing { .. }) => {
                return Some(format!(
                    "{} sends pulses that nobody here has sent. ‹found pulses› keeps or releases them; ‹cut› stops them at once.",
                    board.name
                ));
            }
            Phase::Asking(Found::Unfamiliar) => {
                return Some(format!(
                    "{} may be another kind of chip. ‹found pulses› says what to do with it.",
                    board.name
                ));
            }
            Phase::Down | Phase::Started => {}
        }
    }
    None
}

/// The first letter large.
pub fn sentence(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().chain(chars).collect())
}

/// A servo that is left alone is not released without a word before it.
fn soon_released(scene: &Scene) -> Option<String> {
    const SOON: Duration = Duration::from_secs(20);
    let states = scene.servos().zip(&scene.edition.plan.servos);
    let soon = states.filter_map(|((servo, state), plan)| Some((state.released_in(plan)?, &servo.name)));
    let (left, name) = soon.min_by_key(|(left, _)| *left).filter(|(left, _)| *left <= SOON)?;
    Some(format!(
        "{name} is released in {:.0} s: nothing was asked of it for long. ‹less› ‹more› or any move of it keeps it.",
        left.as_secs_f64().ceil()
    ))
}
