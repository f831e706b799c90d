//! What there is to do in Calibrate, step by step.

use super::practice;
use crate::screen::advice::{Rule, sentence, when};
use crate::screen::scene::{Picked, Scene};
use wasvolta_core::fit::{NoFit, Shape};
use wasvolta_core::rate::NoRates;
use wasvolta_core::rig::edit::End;
use wasvolta_core::rig::{Ail, Ailing, Ends, Mark, MarkKind, Servo, Side, Signal};
use wasvolta_core::stage::Owner;
use wasvolta_core::unit::Rpm;
use wasvolta_port::board::Stand;

/// Marks that make a fit sure.
const ENOUGH: usize = 5;

/// What may be said here, in order.
pub const RULES: &[Rule] = &[
    no_servo,
    feels,
    ails,
    exercised,
    with_level,
    not_engaged,
    contradicting,
    too_few_marks,
    odd_mark,
    bends,
    enough,
    slack,
    widen,
    practised,
    set_limits,
    set_home,
    awkward,
    all_known,
];

fn feels(scene: &Scene) -> Option<String> {
    super::feel::words(scene, &scene.picked()?)
}

/// What ails is said with what its joint does meanwhile.
fn ails(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    if let Some(Stand::UnknownModel(model)) = picked.feedback.map(|own| own.stand) {
        let layout = picked.board.layout.as_deref().unwrap_or("its layout");
        return Some(format!(
            "{} says that it is model {model}. ‹engage› keeps that number, if {layout} matches its data sheet.",
            picked.servo.name
        ));
    }
    let worst = crate::screen::health::ails(&picked).into_iter().find(|ail| ail.is_lasting())?;
    let name = &picked.servo.name;
    let spared = matches!(worst, Ail::Hot | Ail::Overload | Ail::Current) && picked.state.engaged;
    let does = match picked.joint.map(|joint| joint.ailing).unwrap_or_default() {
        Ailing::Slower if spared => " It runs at half speed until the fault is over.",
        Ailing::Hold if spared => " It was stopped where it is.",
        _ => "",
    };
    Some(format!("{name} says that {}.{does} ‹on servo fault› decides what happens.", worst.words().1))
}

fn exercised(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let (done, of) = picked.state.exercise()?.count();
    Some(format!(
        "{} goes back and forth, {done} of {of}. ‹exercise› ends it, an arrow takes it back, ‹hold› holds.",
        picked.servo.name
    ))
}

/// Enough is known to go on with. What would make it better is named too; once that is begun, it is led through.
fn enough(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let slack = scene.fit()?.as_ref().is_ok_and(|fit| fit.slack.is_some());
    let begun = slack || scene.model.in_calibrate.widened == Some(picked.servo.id);
    let plain = picked.servo.ends() == Ends::cautious().places() && picked.plan.follows.is_empty();
    if begun || !plain || scene.practice.is_some() {
        return None;
    }
    let better = "Better still: ‹next› and ‹mark› tell its slack, ‹widen› finds its ends.";
    let next = if scene.unsaved { "‹save› saves that; then" } else { "Saved." };
    Some(format!("{fit} {next} ‹Inputs› ties a knob to it. {better}"))
}

/// What a mark costs a reading is worth: a place read twice from both sides tells the slack.
fn slack(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let fit = scene.fit()?.as_ref().ok()?;
    let cautious = picked.servo.ends() == Ends::cautious().places();
    when(
        fit.slack.is_none() && cautious,
        format!(
            "{} marks fit. ‹next› goes to one of them from its other side: ‹mark› there again tells the slack.",
            aligned(picked.servo)
        ),
    )
}

fn contradicting(scene: &Scene) -> Option<String> {
    let Err(NoFit::TurnsBack(back)) = scene.fit()? else { return None };
    Some(format!(
        "The marks at {:.0} and {} contradict each other: it would turn back. {}",
        back.low.pulse.get(),
        scene.picked()?.at(back.high.pulse),
        if scene.model.in_calibrate.mark.is_some() {
            "‹go to the mark› goes to the picked one, and ‹mark› takes it again; ‹change the mark› changes its angle, ‹remove› drops it."
        } else {
            "‹row above› picks one, then ‹go to the mark› and ‹mark› take it again, ‹change the mark› changes it, ‹remove› drops it."
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
            "The mark at {} says {:+.1}°, the line of the others {:+.1}°. Misread, or does it bend? ‹next›, \
             ‹mark› and Enter between them tell.",
            picked.at(odd.seen.pulse),
            odd.seen.angle.get() + 0.0,
            odd.expected.get() + 0.0
        ));
    }
    let keys = if scene.model.in_calibrate.mark == Some(place) {
        "‹go to the mark› goes there, and ‹mark› takes it again; ‹change the mark› changes its angle, ‹remove› drops it."
    } else {
        "‹row above› picks it, then ‹go to the mark› and ‹mark› take it again, ‹change the mark› changes it, ‹remove› drops it."
    };
    Some(format!(
        "The mark at {} says {:+.1}°, all others say {:+.1}° there. Misread? {keys}",
        picked.at(odd.seen.pulse),
        odd.seen.angle.get() + 0.0,
        odd.expected.get() + 0.0
    ))
}

fn bends(scene: &Scene) -> Option<String> {
    let fit = scene.fit()?.as_ref().ok()?;
    when(
        fit.wants_to_bend(),
        format!(
            "A straight line misses a mark by {:.1}°, more than a misreading explains: ‹bend› draws a curve through all of them.",
            fit.worst().get()
        ),
    )
}

fn awkward(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let servo = picked.through.servo_at(picked.angle()?);
    let caution = picked.through.caution(servo)?;
    Some(sentence(&format!("{caution}. Set a limit before that point: ‹limit here›.")))
}

fn aligned(servo: &Servo) -> usize {
    servo.marks.iter().filter(|m| m.seen == MarkKind::Aligned).count()
}

fn no_servo(scene: &Scene) -> Option<String> {
    let words = "This rig has no servo yet. ‹add servo› adds one: its name, and the channel its plug is on.";
    when(scene.picked().is_none(), words)
}

fn not_engaged(scene: &Scene) -> Option<String> {
    let picked = scene.picked().filter(|p| !p.state.engaged)?;
    let name = &picked.servo.name;
    if picked.servo.kind.is_smart() {
        return Some(match (picked.taught, picked.plan.scale.is_some()) {
            (true, true) => {
                format!(
                    "{name} was moved by hand: ‹keep pose› keeps a pose of that, ‹engage› makes it stiff where it is."
                )
            }
            (_, true) => format!(
                "‹engage› makes {name} stiff where it is. Limp, it may be moved by hand, and ‹keep pose› keeps a pose."
            ),
            (_, false) => {
                format!("‹engage› makes {name} stiff where it is; then ‹mark› marks the angle that you see.")
            }
        });
    }
    Some(if picked.plan.scale.is_some() {
        format!("‹engage› engages {name} where its horn stands; nothing moves before that.")
    } else {
        format!(
            "‹engage› gives {name} its first pulse where its horn stands. Horn off? ‹horn on› gives 1500 µs to put it on."
        )
    })
}

/// What has no angles wants no marks.
fn with_level(scene: &Scene) -> Option<String> {
    let picked = scene.picked().filter(|p| !p.servo.kind.has_angles())?;
    let name = &picked.servo.name;
    let words = match (picked.state.engaged, picked.servo.kind.signal(), picked.state.arming()) {
        (false, Signal::Pulse, _) => {
            format!("‹engage› gives {name} its first pulse, at which it stands still.")
        }
        (false, _, _) => format!("‹engage› switches {name} to 0 %, ready to be told its level."),
        (true, _, Some(_)) => format!("{name} sees its neutral first: wait, then ‹less› ‹more› turn it."),
        (true, Signal::Switch, _) => {
            format!(
                "‹less› ‹more› switch {name}; ‹keep pose› keeps a pose with it, ‹give back› gives it to the sequence."
            )
        }
        (true, Signal::Share, _) => {
            format!(
                "‹less› ‹more› dim {name}, or type 40; ‹keep pose› keeps a pose with it, ‹give back› gives it to the sequence."
            )
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
            "Jog up with ‹more› tick by tick from where {name} stands still; where it just starts to turn, ‹starts› keeps that edge."
        ),
        (true, false, _) => format!(
            "Now down with ‹less› through the standstill, tick by tick; where {name} starts to turn the other way, ‹starts›."
        ),
        (true, true, Err(NoRates::None)) => {
            "Its stop band is known. Jog to where it turns well: ‹test or time› times its turns.".to_owned()
        }
        (true, true, Err(why)) => sentence(&format!("{why}.")),
        (true, true, Ok(rates)) if rates.fastest(true) == Rpm::ZERO || rates.fastest(false) == Rpm::ZERO => {
            "One side is timed. Jog to the other side and time it too: ‹test or time›.".to_owned()
        }
        (true, true, Ok(_)) => {
            "‹less› ‹more› turn it, 30rpm or 40% is understood. When warm: jog to an edge, ‹starts› says how far it has moved.".to_owned()
        }
    }
}

fn too_few_marks(scene: &Scene) -> Option<String> {
    let picked = scene.picked()?;
    let marks = aligned(picked.servo);
    match (marks, scene.fit()?) {
        (0, _) => when(
            true,
            "Jog with ‹less› ‹more› until the horn stands at an angle you can read, then ‹mark› keeps it as a mark.",
        ),
        (1, Ok(_)) if picked.servo.kind.is_smart() => when(
            true,
            "One mark places it. Jog with ‹more›: if the horn turns against the needle, ‹reverse› mends \
             that. Then ‹next›, ‹mark› to be sure.",
        ),
        (1, _) => when(
            true,
            "‹next› glides to the next useful pulse; read the angle, ‹mark›, Enter. Two marks make a fit.",
        ),
        (_, Err(why)) => Some(sentence(&format!("{why}."))),
        (n, Ok(_)) if n < ENOUGH => {
            Some(format!("{n} marks make a fit. ‹next›, ‹mark› and Enter again: {ENOUGH} make it sure."))
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
    let below = |m: &Mark| (m.place() < servo.centre()) == (end == End::Low);
    servo.marks.iter().any(|m| matches!(m.seen, MarkKind::Buzzes | MarkKind::Stops) && below(m))
}

fn widen(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let [low, high] = [End::Low, End::High].map(|end| is_heard(picked.servo, end));
    let begun = low || high || scene.model.in_calibrate.widened == Some(picked.servo.id);
    if !begun && picked.servo.ends() != Ends::cautious().places() {
        return None;
    }
    let words = match (low, high) {
        (true, true) => return None,
        (false, false) => {
            "To go further: ‹widen› goes to the nearer endpoint, then widens it by a nudge; at the first buzz ‹buzzes› backs off."
        }
        (true, false) => {
            "The low end is set. The high one: jog up, ‹widen› goes there and widens it; at the first buzz ‹buzzes›."
        }
        (false, true) => {
            "The high end is set. The low one: jog down, ‹widen› goes there and widens it; at the first buzz ‹buzzes›."
        }
    };
    let asked = picked.joint.is_none_or(|j| j.low.is_none() || j.high.is_none());
    when(asked, format!("{fit} {words}"))
}

/// A servo to practise on needs no limits: its truth is the next thing to see.
fn practised(scene: &Scene) -> Option<String> {
    practice::practised(scene).ok()?;
    let (_, fit) = fitted(scene)?;
    Some(format!("{fit} ‹show the truth› shows what the servo really is, and how many keys you took."))
}

fn set_limits(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let open = picked.joint.is_some_and(|j| j.low.is_none() || j.high.is_none());
    when(open, format!("{fit} Jog to where it may go at most, ‹limit here› sets a limit with its reason."))
}

fn set_home(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let homeless = picked.joint.is_some_and(|j| j.home_deg.is_none());
    when(homeless, format!("{fit} Jog to where it should rest, ‹home here› makes that its home."))
}

fn all_known(scene: &Scene) -> Option<String> {
    let (picked, fit) = fitted(scene)?;
    let kept = picked.state.owner == Owner::Hand && !picked.plan.follows.is_empty();
    let words = if kept {
        "The hand has it; ‹give back› gives it back to its input. ‹go on› goes on to the next servo."
    } else {
        "‹go on› goes on to the next servo; ‹Inputs› ties a knob to it, ‹Sequence› sets poses in time."
    };
    Some(format!("{fit} {words}"))
}
