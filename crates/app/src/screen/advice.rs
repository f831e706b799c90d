//! The next line: from how things stand, what to do now. It never asks for what strips a gear.

use super::model::View;
use super::scene::{Picked, Scene};
use std::time::Duration;
use wasvolta_core::fit::{NoFit, Shape};
use wasvolta_core::link::Health;
use wasvolta_core::rate::NoRates;
use wasvolta_core::rig::edit::End;
use wasvolta_core::rig::{Ends, Mark, MarkKind, Servo, Side, Signal};
use wasvolta_core::stage::{Output, Owner, Play};
use wasvolta_core::unit::Rpm;
use wasvolta_engine::why::Verdict;
use wasvolta_port::board::{Found, Phase};

/// Marks that make a fit sure.
const ENOUGH: usize = 5;

/// A piece of advice: its words where it applies.
type Rule = fn(&Scene) -> Option<String>;

/// What may be said, in order: the first that applies is said.
const RULES: &[Rule] = &[file_changed, unseen_cut, board_trouble, lost_place, stopped, soon_released];
const WIRING: &[Rule] =
    &[no_board, found_board, missing_board, free_channel, broken_link, to_engage_here, to_wiggle];
const CALIBRATE: &[Rule] = &[
    no_servo,
    exercised,
    with_level,
    not_engaged,
    contradicting,
    too_few_marks,
    odd_mark,
    bends,
    slack,
    widen,
    set_limits,
    set_home,
    awkward,
    all_known,
];
const INPUTS: &[Rule] =
    &[no_input, plug_out, silent, stuck, drives_nothing, cannot_follow, to_engage, in_hand, drives];
const SEQUENCE: &[Rule] = &[no_sequence, no_step, playing, short_step, still_released, ready_to_play];

/// What to do next.
pub fn next(scene: &Scene) -> String {
    let view = match scene.model.view {
        View::Wiring => WIRING,
        View::Calibrate => CALIBRATE,
        View::Inputs => INPUTS,
        View::Sequence => SEQUENCE,
    };
    RULES.iter().chain(view).find_map(|rule| rule(scene)).unwrap_or_default()
}

fn when(holds: bool, words: impl Into<String>) -> Option<String> {
    holds.then(|| words.into())
}

fn file_changed(scene: &Scene) -> Option<String> {
    let words = "Another program has written this rig's file. The command read the file again takes that in; \
                 Ctrl-S twice overwrites it.";
    when(scene.changed_outside, words)
}

fn stopped(scene: &Scene) -> Option<String> {
    match scene.model.snapshot.output {
        Output::Cut => Some(cut(&scene.pulsing())),
        Output::Held => when(true, "Held: the last pulses stay and nothing moves. d drives on, Ctrl-C cuts."),
        Output::Off | Output::Driving => None,
    }
}

/// What a cut has left, by what the boards have said since.
fn cut(pulsing: &[String]) -> String {
    let left = if pulsing.is_empty() {
        ": no pulses".to_owned()
    } else {
        format!("; pulses stay on {}", pulsing.join(", "))
    };
    format!("Output is cut{left}. d enables it again, then e engages each servo where it stands.")
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
        "{first} lost its pulses and may have moved{more}. Pick it, look where its horn stands, and e gives the first pulse there."
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
                    "{} sends pulses that nobody here has sent. F keeps or releases them; Ctrl-C stops them at once.",
                    board.name
                ));
            }
            Phase::Asking(Found::Unfamiliar) => {
                return Some(format!(
                    "{} may be another kind of chip. F says what to do with it.",
                    board.name
                ));
            }
            Phase::Down | Phase::Started => {}
        }
    }
    None
}

/// The first letter large.
fn sentence(words: &str) -> String {
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
        "{name} is released in {:.0} s: nothing was asked of it for long. ← → or any move of it keeps it.",
        left.as_secs_f64().ceil()
    ))
}

fn exercised(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let (done, of) = picked.state.exercise()?.count();
    Some(format!(
        "{} goes to and fro, {done} of {of}. y ends it, an arrow takes it back, Esc holds.",
        picked.servo.name
    ))
}

/// What a mark costs a reading is worth: a place read twice from both sides tells the slack.
fn slack(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let fit = scene.fit()?.as_ref().ok()?;
    let cautious = picked.servo.endpoints_us == Ends::cautious();
    when(
        fit.slack.is_none() && cautious,
        format!(
            "{} marks fit. n goes to one of them from its other side: m there again tells the slack.",
            aligned(picked.servo)
        ),
    )
}

fn contradicting(scene: &Scene) -> Option<String> {
    let Err(NoFit::TurnsBack(back)) = scene.fit()? else { return None };
    Some(format!(
        "The marks at {:.0} and {:.0} µs contradict each other: it would turn back. {}",
        back.low.pulse.get(),
        back.high.pulse.get(),
        if scene.model.mark.is_some() {
            "v goes to the picked one, and m takes it again; i changes its angle, Del drops it."
        } else {
            "↑ picks one, then v and m take it again, i changes it, Del drops it."
        }
    ))
}

/// One mark that the others do not agree with: bending a line to it would spread its error over all.
fn odd_mark(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let fit = scene.fit()?;
    let (place, odd) = picked.servo.odd_mark(fit)?;
    if odd.or_bends {
        return Some(format!(
            "The mark at {:.0} µs says {:+.1}°, the line of the others {:+.1}°. Misread, or does it bend? n, m and Enter between them tell.",
            odd.seen.pulse.get(),
            odd.seen.angle.get() + 0.0,
            odd.expected.get() + 0.0
        ));
    }
    let keys = if scene.model.mark == Some(place) {
        "v goes there, and m takes it again; i changes its angle, Del drops it."
    } else {
        "↑ picks it, then v and m take it again, i changes it, Del drops it."
    };
    Some(format!(
        "The mark at {:.0} µs says {:+.1}°, all others say {:+.1}° there. Misread? {keys}",
        odd.seen.pulse.get(),
        odd.seen.angle.get() + 0.0,
        odd.expected.get() + 0.0
    ))
}

fn bends(scene: &Scene) -> Option<String> {
    let fit = scene.fit()?.as_ref().ok()?;
    when(
        fit.wants_to_bend(),
        format!(
            "A line misses a mark by {:.1}°, more than it may be misread: B bends it through all of them.",
            fit.worst().get()
        ),
    )
}

fn awkward(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let servo = picked.through.servo_at(picked.angle()?);
    let caution = picked.through.caution(servo)?;
    Some(sentence(&format!("{caution}. A limit before that keeps it away: l.")))
}

fn aligned(servo: &Servo) -> usize {
    servo.marks.iter().filter(|m| m.seen == MarkKind::Aligned).count()
}

fn no_servo(scene: &Scene) -> Option<String> {
    let words = "This rig has no servo yet. a adds one: its name, and the channel its plug is on.";
    when(scene.picked().is_none(), words)
}

fn not_engaged(scene: &Scene) -> Option<String> {
    let picked = scene.picked().filter(|p| !p.state.engaged)?;
    let name = &picked.servo.name;
    Some(if picked.plan.scale.is_some() {
        format!("e engages {name} where its horn stands; nothing moves before that.")
    } else {
        format!(
            "e gives {name} its first pulse where its horn stands. Horn off? o gives 1500 µs to put it on."
        )
    })
}

/// What has no angles wants no marks.
fn with_level(scene: &Scene) -> Option<String> {
    let picked = scene.picked().filter(|p| !p.servo.kind.has_angles())?;
    let name = &picked.servo.name;
    let words = match (picked.state.engaged, picked.servo.kind.signal(), picked.state.arming()) {
        (false, Signal::Pulse, _) => format!("e gives {name} its first pulse, at which it stands still."),
        (false, _, _) => format!("e switches {name} to 0 %, ready to be told its level."),
        (true, _, Some(_)) => format!("{name} sees its neutral first: wait, then ← → turn it."),
        (true, Signal::Switch, _) => {
            format!("← → switch {name}; k keeps a pose with it, g gives it to the sequence.")
        }
        (true, Signal::Share, _) => {
            format!("← → dim {name}, or type 40; k keeps a pose with it, g gives it to the sequence.")
        }
        (true, _, _) => continuous(&picked),
    };
    Some(words)
}

/// From what is known of a continuous servo's stop and rates, what to find next.
fn continuous(picked: &Picked) -> String {
    let name = &picked.servo.name;
    let seen_from =
        |side: Side| picked.servo.marks.iter().any(|m| m.seen == MarkKind::Starts && m.from == side);
    match (seen_from(Side::Below), seen_from(Side::Above), picked.servo.rates()) {
        (false, _, _) => format!(
            "Jog up with → tick by tick from where {name} stands still; where it just starts to turn, S keeps that edge."
        ),
        (true, false, _) => format!(
            "Now down with ← through the standstill, tick by tick; where {name} starts to turn the other way, S."
        ),
        (true, true, Err(NoRates::None)) => {
            "Its stop band is known. Jog to where it turns well: t at each turn times it, Enter keeps the rate.".to_owned()
        }
        (true, true, Err(why)) => sentence(&format!("{why}.")),
        (true, true, Ok(rates)) if rates.fastest(true) == Rpm::ZERO || rates.fastest(false) == Rpm::ZERO => {
            "One side is timed. Jog to the other side and time it too: t at each turn, Enter.".to_owned()
        }
        (true, true, Ok(_)) => {
            "← → turn it, 30rpm or 40% is understood. When warm: jog to an edge, S says how far it has moved.".to_owned()
        }
    }
}

fn too_few_marks(scene: &Scene) -> Option<String> {
    let marks = aligned(scene.picked()?.servo);
    match (marks, scene.fit()?) {
        (0, _) => when(
            true,
            "Jog with ← → until the horn stands at an angle you can read, then m keeps it as a mark.",
        ),
        (1, _) => {
            when(true, "n glides to the next useful pulse; read the angle, m, Enter. Two marks make a fit.")
        }
        (_, Err(why)) => Some(sentence(&format!("{why}."))),
        (n, Ok(_)) if n < ENOUGH => {
            Some(format!("{n} marks make a fit. n, m and Enter again: {ENOUGH} make it sure."))
        }
        _ => None,
    }
}

/// How well the marks agree: what all advice about a calibrated servo begins with.
fn fitted<'a>(scene: &Scene<'a>) -> Option<(Picked<'a>, String)> {
    let picked = scene.picked()?;
    let fit = scene.fit()?.as_ref().ok()?;
    let worst = fit.worst().get();
    let shape = if picked.servo.fit == Shape::Cubic { "a curve" } else { "a line" };
    let words = format!("{} marks fit {shape}, worst miss {worst:.2}°.", aligned(picked.servo));
    Some((picked, words))
}

/// Whether something was heard at an end.
fn is_heard(servo: &Servo, end: End) -> bool {
    let below = |m: &Mark| (m.pulse_us < servo.centre()) == (end == End::Low);
    servo.marks.iter().any(|m| matches!(m.seen, MarkKind::Buzzes | MarkKind::Stops) && below(m))
}

fn widen(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let [low, high] = [End::Low, End::High].map(|end| is_heard(picked.servo, end));
    let begun = low || high || scene.model.widened == Some(picked.servo.id);
    if !begun && picked.servo.endpoints_us != Ends::cautious() {
        return None;
    }
    let words = match (low, high) {
        (true, true) => return None,
        (false, false) => {
            "To go further: W goes to the nearer endpoint, then widens it by a nudge; at the first buzz b backs off."
        }
        (true, false) => {
            "The low end is set. The high one: jog up, W goes there and widens it; at the first buzz b."
        }
        (false, true) => {
            "The high end is set. The low one: jog down, W goes there and widens it; at the first buzz b."
        }
    };
    let asked = picked.joint.is_none_or(|j| j.low.is_none() || j.high.is_none());
    when(asked, format!("{fit} {words}"))
}

fn set_limits(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let open = picked.joint.is_some_and(|j| j.low.is_none() || j.high.is_none());
    when(open, format!("{fit} Jog to where it may go at most, l sets a limit with its reason."))
}

fn set_home(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let homeless = picked.joint.is_some_and(|j| j.home_deg.is_none());
    when(homeless, format!("{fit} Jog to where it should rest, h makes that its home."))
}

fn all_known(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let kept = picked.state.owner == Owner::Hand && picked.plan.mapping.is_some();
    let words = if kept {
        "The hand has it; g gives it back to its input. Enter goes on to the next servo."
    } else {
        "Enter goes on to the next servo; F3 ties a knob to it, F4 sets poses in time."
    };
    Some(format!("{fit} {words}"))
}

fn no_board(scene: &Scene) -> Option<String> {
    let words = "No board in this rig. s looks what is there, b adds a board.";
    when(scene.rig.boards.is_empty(), words)
}

fn found_board(scene: &Scene) -> Option<String> {
    let (bus, device) = scene.found_boards().next()?;
    Some(format!(
        "{:#04x} answers on {} and is not in this rig: b adds it as a board.",
        device.address, bus.path
    ))
}

fn missing_board(scene: &Scene) -> Option<String> {
    let (bus, board) = scene.missing_boards().next()?;
    Some(format!(
        "{} does not answer {} on {}: check its supply, its two bus wires, its jumpers. s looks again.",
        board.name,
        board.at(),
        bus.path
    ))
}

fn free_channel(scene: &Scene) -> Option<String> {
    let (board, channel, servo) = scene.plug()?;
    let words =
        format!("Channel {channel} of {} is free. a adds a servo here; ↑ ↓ pick a channel.", board.name);
    when(servo.is_none(), words)
}

fn broken_link(scene: &Scene) -> Option<String> {
    let links = scene.chain()?;
    let failed = links.iter().find(|link| link.verdict == Verdict::Failed)?;
    // What is not engaged is not broken: that is said by itself.
    when(
        failed.name != "engaged" && failed.name != "output",
        format!("{}: {}. Try: {}.", failed.name, failed.words, failed.help),
    )
}

fn to_engage_here(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let name = &picked.servo.name;
    let words = match picked.servo.kind {
        kind if kind.has_angles() => {
            format!("e gives {name} its first pulse where its horn stands; then w wiggles it.")
        }
        kind if kind.turns_on() => {
            format!("e gives {name} the pulse at which it stands still; then w wiggles it.")
        }
        _ => format!("e switches {name} to 0 %; then w lets it blink."),
    };
    when(!picked.state.engaged, words)
}

fn to_wiggle(scene: &Scene) -> Option<String> {
    let name = &scene.picked()?.servo.name;
    Some(format!(
        "w moves {name} a little: is it the one you mean? R names it, S swaps two plugs, F2 calibrates it."
    ))
}

fn no_input(scene: &Scene) -> Option<String> {
    let words = "This rig has no input. Add an [[input]] to its file; docs/rig-format.md shows how.";
    when(scene.input().is_none(), words)
}

fn health(scene: &Scene) -> Health {
    scene.input_place().and_then(|n| scene.input_state(n)).map_or(Health::Absent, |i| i.health)
}

fn plug_out(scene: &Scene) -> Option<String> {
    let out = health(scene) == Health::Lost && scene.knob.is_some_and(|(_, plugged)| !plugged);
    when(out, format!("{} is lost: its plug is out. z puts it in again.", scene.input()?.name))
}

fn silent(scene: &Scene) -> Option<String> {
    let (input, health) = (scene.input()?, health(scene));
    if !matches!(health, Health::Absent | Health::Lost) {
        return None;
    }
    Some(match scene.line_trouble {
        Some(why) => format!("{} is {}: {why}. It is tried again by itself.", input.name, health.word()),
        None => format!(
            "Nothing comes from {} on {}. Is it plugged in, and does it print lines of numbers?",
            input.name, input.port
        ),
    })
}

fn stuck(scene: &Scene) -> Option<String> {
    let name = &scene.input()?.name;
    let words = format!("{name} has sent the very same value for long: move it. Is it still alive?");
    when(health(scene) == Health::Stuck, words)
}

fn drives_nothing(scene: &Scene) -> Option<String> {
    let name = &scene.input()?.name;
    when(
        scene.mapping().is_none(),
        format!("{name} drives nothing. Pick a servo with PgUp PgDn, then t ties it."),
    )
}

/// The servo that the picked input drives, with its joint's name.
fn driven<'a>(scene: &Scene<'a>) -> Option<(Picked<'a>, &'a str)> {
    let joint = scene.mapping()?.joint.as_str();
    let (n, _) = scene.rig.turned_by(joint)?;
    Some((scene.servo(n)?, joint))
}

fn cannot_follow(scene: &Scene) -> Option<String> {
    let (servo, joint) = driven(scene)?;
    when(
        servo.plan.scale.is_none(),
        format!("{joint} has no angles yet and cannot follow: F2 calibrates it."),
    )
}

fn to_engage(scene: &Scene) -> Option<String> {
    let ((servo, joint), input) = (driven(scene)?, &scene.input()?.name);
    let words = format!("Pick {joint} with PgUp PgDn and engage it with e; then g lets {input} drive it.");
    when(!servo.state.engaged, words)
}

fn in_hand(scene: &Scene) -> Option<String> {
    let ((servo, joint), input) = (driven(scene)?, &scene.input()?.name);
    let words = format!("The hand has {joint}. Pick it with PgUp PgDn; g gives it to {input}.");
    when(servo.state.owner == Owner::Hand, words)
}

fn drives(scene: &Scene) -> Option<String> {
    let (input, mapping) = (&scene.input()?.name, scene.mapping()?);
    let how = if scene.knob.is_some() {
        "On the row turn it, ← → turn the simulated knob."
    } else {
        "↑ ↓ pick a stage, ← → change it."
    };
    Some(format!("{input} drives {}. {how}", mapping.joint))
}

fn no_sequence(scene: &Scene) -> Option<String> {
    let words = "No sequence yet. k keeps where the joints stand as a pose, i makes a sequence of it.";
    when(scene.sequence().is_none(), words)
}

fn no_step(scene: &Scene) -> Option<String> {
    let empty = scene.sequence().is_some_and(|(s, _)| s.steps.is_empty());
    when(empty, "No step yet. k keeps where the joints stand as a pose, i inserts it.")
}

fn playing(scene: &Scene) -> Option<String> {
    let player = &scene.model.snapshot.player;
    let here = player.sequence == scene.model.sequence.id;
    // What the hand has does not move, whatever plays.
    let tracks = scene.sequence().map(|(_, line)| line.tracks.iter()).into_iter().flatten();
    let mut engaged = tracks.filter_map(|t| scene.servo(t.servo)).filter(|p| p.state.engaged).peekable();
    let all_in_hand = engaged.peek().is_some() && engaged.all(|p| p.state.owner == Owner::Hand);
    let words = match (player.play, player.screen_only) {
        (Play::Playing, false) if all_in_hand => {
            "Playing, and nothing moves: the hand has every engaged joint of it. G gives all back, g the picked one."
        }
        (Play::Ended, false) if all_in_hand => {
            "Played, and nothing has moved: the hand has every engaged joint of it. G gives all back; p plays again."
        }
        (Play::Playing, true) => "Playing on the screen only: output is off. p stands still.",
        (Play::Playing, false) => "Playing. p stands still, Esc holds, Ctrl-C cuts.",
        (Play::Paused, false) => "Standing in the sequence. p goes on, x leaves it.",
        (Play::Ended, false) => "Played; its joints keep the last pose. p plays again, x lets them go.",
        _ => return None,
    };
    when(here, words)
}

fn short_step(scene: &Scene) -> Option<String> {
    let (_, line) = scene.sequence()?;
    let shorts = line.shorts(|n| scene.start_of(n));
    let first = shorts.first()?.step;
    let needs = shorts.iter().filter(|s| s.step == first).map(|s| s.needs).fold(0.0, f64::max);
    let needs = wasvolta_core::sequence::rounded_up(needs);
    Some(format!("Step {} is short: f stretches it to the {needs:.2} s it needs.", first + 1))
}

fn still_released(scene: &Scene) -> Option<String> {
    let (_, line) = scene.sequence()?;
    let still = line.tracks.iter().filter_map(|t| scene.servo(t.servo)).find(|p| !p.state.engaged)?;
    let name = &still.servo.name;
    Some(format!("p plays. {name} is not engaged and will not move; pick it with PgUp PgDn, then e."))
}

fn ready_to_play(_: &Scene) -> Option<String> {
    when(true, "p plays. Joints held by hand stay where they are until g gives one back, G all.")
}

/// Whether words of advice speak of a key: it stands by itself. An `a` does only where it adds something.
pub fn names(advice: &str, key: &str) -> bool {
    let words: Vec<&str> = advice.split_whitespace().collect();
    words.iter().enumerate().any(|(n, word)| {
        let alone = word.trim_end_matches(['.', ',', ';', ':', '?']) == key;
        alone && (key != "a" || words.get(n + 1).is_some_and(|next| next.starts_with("add")))
    })
}
