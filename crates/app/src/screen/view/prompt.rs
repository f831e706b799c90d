//! What is being asked, in the place of the next line, so that nothing on the screen moves for it.

use crate::screen::dial::Dial;
use crate::screen::dialog::{Dialog, Purpose, Scale, TestMove};
use crate::screen::entry;
use crate::screen::form::Form;
use crate::screen::inputs::faders;
use crate::screen::inputs::heard::Listen;
use crate::screen::many;
use crate::screen::model::Tone;
use crate::screen::question::Question;
use crate::screen::scene::{Picked, Scene};
use crate::screen::typing::Typing;
use crate::screen::update::questions;
use crate::screen::{inputs, sequence};
use std::fmt::Write;
use wasvolta_core::diagnose::Heard;
use wasvolta_core::fit::TurnsBack;
use wasvolta_core::rate::timed;
use wasvolta_core::rig::edit::Observation;
use wasvolta_core::rig::{BoardId, ReadAt};
use wasvolta_core::unit::Position;
use wasvolta_port::expander::Found;

/// The label and the question.
pub fn words(scene: &Scene) -> Option<(&'static str, String)> {
    let dialog = scene.model.dialog.as_ref()?;
    let (label, words) = question(scene, dialog)?;
    Some((label, dialog.spell(&words).into_owned()))
}

fn question(scene: &Scene, dialog: &Dialog) -> Option<(&'static str, String)> {
    Some(match dialog {
        Dialog::Engage { dial, scale, from } => ("engage", engage(dial, *scale, from)),
        Dialog::Mark { dial, at, change } => ("mark", mark(scene, dial, *at, *change)),
        Dialog::Contradiction { what, back } => ("mark", contradiction(scene, what, back)),
        Dialog::Test(test) => ("test", test_move(test)),
        Dialog::Stopwatch { presses } => ("timing", stopwatch(presses)),
        Dialog::Trim { .. } => ("trim", trim(scene)),
        Dialog::Drift { what, by } => ("drift", drift(what, *by)),
        Dialog::Fineness { wish } => {
            ("fineness", format!("Which degrees for a tick would do? {}°", wish.shown()))
        }
        Dialog::Endpoint { end, pulse } => {
            let at = scene.picked().map_or_else(String::new, |picked| picked.at(*pulse));
            let end = end.word();
            (
                "endpoint",
                format!(
                    "Backed off to {at}. Still heard? ‹back off more› backs off more. Quiet? ‹set it› makes it the {end} endpoint."
                ),
            )
        }
        Dialog::Limit { end, dial, reason: None } => {
            ("limit", format!("The {} limit is at {}", end.word(), value(dial, "°")))
        }
        Dialog::Limit { end, dial, reason: Some(words) } => {
            ("limit", format!("{} limit {:+.1}°, because: {}", end.word(), dial.value, words.shown()))
        }
        Dialog::Entry { purpose, typing } => ("type", typed(scene, purpose, typing)),
        Dialog::Quit => {
            ("quit", "There are unsaved edits. ‹save and quit› saves and quits, ‹quit without saving› quits without them.".to_owned())
        }
        Dialog::Found { board, found } => ("found", found_words(scene, *board, found)),
        Dialog::Recover { offer, .. } => ("earlier", offer.words()),
        Dialog::Listen(listen) => ("listen", listening(scene, listen)),
        Dialog::Watch(_) => {
            ("watch", "Move it to both ends, let it rest, twice. ‹keep all› keeps what is proposed.".to_owned())
        }
        Dialog::Faders => ("faders", faders::words(scene)),
        Dialog::Form(form) => form_words(scene, form),
        Dialog::Compare { words, .. } | Dialog::Alike { words, .. } => ("compare", words.clone()),
        Dialog::Palette { .. } => (
            "command",
            "Type some of its name. What it asks may stand behind a colon, as in go to pose: look".to_owned(),
        ),
        Dialog::Help { .. } => return None,
    })
}

fn listening(scene: &Scene, listen: &Listen) -> String {
    let chosen = listen.chosen().and_then(|ear| {
        let link = scene.edition.link(ear.link)?;
        Some(format!("{} of {}", scene.rig.protocol_of(link)?.name(&ear.channel), link.name))
    });
    match (chosen, listen.for_input.and_then(|input| scene.edition.input(input))) {
        (Some(channel), None) => format!("‹take it› makes an input of {channel}."),
        (Some(channel), Some(input)) => format!("‹take it› lets {} read {channel}.", input.name),
        (None, _) => "Move the one you mean, and nothing else; or pick it with ↑ ↓.".to_owned(),
    }
}

fn form_words(scene: &Scene, form: &Form) -> (&'static str, String) {
    let question = questions::of(form.question);
    let label = question.map_or(form.question, |question| question.label);
    if let Some(words) = question.and_then(|question| question.words) {
        return (label, words(scene, form));
    }
    let several = many::count(scene.model, scene.edition);
    let for_all = question.is_some_and(Question::goes_for_each) && several > 1;
    let mut words = if for_all { format!("for all {several}: ") } else { String::new() };
    for (n, field) in form.fields.iter().enumerate() {
        let text = if n == form.here { field.typing.shown() } else { field.typing.text().to_owned() };
        let _ = write!(words, "{} {text}   ", field.label);
    }
    // Why an answer was refused needs the room more.
    if matches!(scene.model.said, Some((Tone::Refused, ..))) {
        return (label, words.trim_end().to_owned());
    }
    let hint = form.fields.get(form.here).map_or("", |f| f.hint.as_ref());
    (label, format!("{words}({hint})"))
}

/// A dial's value as it is read now.
fn value(dial: &Dial, unit: &str) -> String {
    if dial.typing.is_empty() { format!("{:+.1}{unit}", dial.value) } else { dial.typing.shown() }
}

fn engage(dial: &Dial, scale: Scale, from: &str) -> String {
    match scale {
        Scale::Fitted => format!("Where does the horn stand now? {}  ({from})", value(dial, "°")),
        Scale::Rated => {
            format!(
                "Where does the horn stand now? {}  assumed from its data sheet: it may jump. ({from})",
                value(dial, "°")
            )
        }
        Scale::Pulses => {
            let shown =
                if dial.typing.is_empty() { format!("{:.0} µs", dial.value) } else { dial.typing.shown() };
            format!("No marks, no data sheet: first pulse at {shown}; it may jump. ({from})")
        }
    }
}

fn mark(scene: &Scene, dial: &Dial, at: ReadAt, change: Option<usize>) -> String {
    let what = if at == ReadAt::Joint { "joint" } else { "horn" };
    let shown = |picked: &Picked, at: Position| format!("{:.1} {}", at.get(), picked.unit());
    let of = |n: usize| scene.picked().and_then(|p| p.servo.marks.get(n).map(|m| shown(&p, m.place())));
    if let Some(at) = change.and_then(of) {
        return format!("The mark at {at} says that the {what} stood at {}", value(dial, "°"));
    }
    let at = scene.picked().map_or_else(String::new, |p| shown(&p, p.wire_pulse()));
    let source = match scene.picked().and_then(|p| p.drawn()) {
        Some((_, true)) => "predicted by the fit",
        Some((_, false)) => "as its data sheet says",
        None => "no prediction yet",
    };
    format!("At {at} the {what} stands at {}  ({source})", value(dial, "°"))
}

fn contradiction(scene: &Scene, what: &Observation, back: &TurnsBack) -> String {
    let at = |place| scene.picked().map_or_else(String::new, |picked| picked.at(place));
    let other = if (back.low.pulse - what.pulse).abs().get() < 1.0 { back.high } else { back.low };
    format!(
        "{:+.1}° at {} contradicts {:+.1}° at {}: it would turn back. Drop that one, retake this one, or was the horn moved?",
        what.angle.map_or(0.0, wasvolta_core::unit::Degrees::get),
        at(what.pulse),
        other.angle.get(),
        at(other.pulse)
    )
}

fn test_move(test: &TestMove) -> String {
    let Some((pulse, angle)) = test.prediction() else { return String::new() };
    let (n, of) = (test.step + 1, test.moves.len());
    let turned = || {
        let from = test.expected.curve.angle_at(test.expected.centre).get();
        format!("{:+.0}° from its centre", angle - from)
    };
    let should =
        if test.expected.absolute { format!("stand at {angle:+.1}°") } else { format!("be {}", turned()) };
    if !test.gone {
        return format!(
            "{n} of {of}: to {:.0} µs; the horn should then {should}. Free to move?",
            pulse.get()
        );
    }
    let heard = match test.heard {
        Heard::Quiet => "",
        Heard::Buzzes => ", it buzzes",
        Heard::Twitches => ", it twitches",
    };
    format!(
        "{n} of {of}: at {:.0} µs it should {should}. You see {}{heard}",
        pulse.get(),
        value(&test.dial, "°")
    )
}

fn stopwatch(presses: &[f64]) -> String {
    let turns = presses.len().saturating_sub(1);
    let rate = timed(presses).map_or_else(String::new, |rate| format!(", {:.1} rpm", rate.get()));
    format!("Timing: {turns} whole turns{rate}. ‹a turn› each time the same mark comes round.")
}

fn trim(scene: &Scene) -> String {
    let Some(picked) = scene.picked() else { return String::new() };
    let stop = picked.servo.centre() + picked.state.trim();
    format!(
        "Trimmed by {:+.1} µs: it is to stand still at {:.1} µs. Until the program ends, or ‹keep› keeps it.",
        picked.state.trim().get(),
        stop.get()
    )
}

fn drift(what: &Observation, by: Position) -> String {
    format!(
        "It starts at {:.1} µs, {:+.1} µs off what its marks say: it got warm? ‹trim› trims by that, ‹keep as mark› keeps it as a mark.",
        what.pulse.get(),
        by.get()
    )
}

fn typed(scene: &Scene, purpose: &Purpose, typing: &Typing) -> String {
    let (text, shown) = (typing.text(), typing.shown());
    match purpose {
        Purpose::Pulse => {
            let to = if entry::is_way(text) { "" } else { "to " };
            format!("Go {to}{shown}  {}", understood(scene, text))
        }
        Purpose::InputRow => {
            let name = inputs::rows::picked(scene).map_or("", |row| row.name);
            format!("{name} {shown}")
        }
        Purpose::SequenceRow => {
            let name = sequence::rows::picked(scene).map_or("", |row| row.name);
            format!("{name} {shown}")
        }
        Purpose::Clock => {
            let board = scene.picked().map_or("", |p| p.board.name.as_str());
            format!("A meter at an output of {board} shows {shown} Hz. Marks keep their ticks and angles.")
        }
        Purpose::Pose => format!("Keep where the joints stand as the pose {shown}"),
        Purpose::Beats => format!("Pass {shown} beats of 20 ms"),
        Purpose::Sheet(kind) => format!("Write the {} sheet to {shown} (.pdf or .svg)", kind.word()),
    }
}

/// What a pulse entry would do, before Enter.
fn understood(scene: &Scene, text: &str) -> String {
    let Some(picked) = scene.picked() else { return String::new() };
    let context = picked.judges(scene.rig);
    match entry::pulse(text, &context) {
        Ok(pulse) => {
            let (bound, stopped) = picked.plan.guard.bound(pulse);
            let held = stopped.map_or_else(String::new, |s| scene.rig.stopped_words(&picked.servo.name, s));
            let value = picked.value(bound);
            if picked.servo.kind.is_accessory() {
                return format!("→ {}", value.unwrap_or_default());
            }
            let value = value.map_or_else(String::new, |value| format!(", {value}"));
            let named = scene.rig.in_scales(picked.servo.kind, bound).next();
            let named = named.map_or_else(String::new, |named| format!(", {named}"));
            let way = entry::way_in_words(text).map_or_else(String::new, |words| format!("{words} "));
            format!("{way}→ {:.1} {}{value}{named} {held}", bound.get(), picked.unit())
        }
        Err(_) if picked.servo.kind.is_accessory() => "as 40, 40%, by 5".to_owned(),
        Err(_) if picked.servo.kind.is_smart() => "as -30deg, by 5deg, 2048counts".to_owned(),
        Err(_) if picked.servo.kind.turns_on() => "as 1520us, 25%, -25%".to_owned(),
        Err(_) => "as 1520us, -30deg, by 5deg, 8.5%".to_owned(),
    }
}

fn found_words(scene: &Scene, board: BoardId, found: &Found) -> String {
    let name = scene.edition.board(board).map_or("a board", |b| b.name.as_str());
    match found {
        Found::Pulsing { ticks, adoptable } => {
            let channels: Vec<String> = ticks.used().map(|n| n.to_string()).collect();
            let channels = channels.join(", ");
            let chip = scene.edition.board(board).map(|board| board.chip.row());
            let word = chip.map_or("channel", |chip| chip.channel_word);
            if chip.is_some_and(|chip| chip.is_smart) {
                format!(
                    "{name} has stiff servos already, {word} {channels}. ‹keep them› keeps them as they \
                     are, ‹release them› makes them limp: what they carry may sag."
                )
            } else if *adoptable {
                format!(
                    "{name} sends pulses already, on {word} {channels}. ‹keep them› keeps them as they are, ‹release them› releases them."
                )
            } else {
                format!(
                    "{name} sends pulses already, on {word} {channels}, at another clock: they cannot be \
                     kept. ‹release and start› releases them."
                )
            }
        }
        Found::Unfamiliar => {
            format!(
                "What answers as {name} was set up by something else. If it is the right chip, ‹release and start› starts it anew."
            )
        }
    }
}
