//! What was seen of a servo: keeping it, changing it, dropping it, and the ways out of a contradiction.

use crate::screen::calibrate::hand::glide;
use crate::screen::context::Context;
use crate::screen::dial::Dial;
use crate::screen::dial::Does;
use crate::screen::dialog::Dialog;
use crate::screen::step::moved;
use wasvolta_core::fit::{Shape, TurnsBack};
use wasvolta_core::rig::edit::{self, Observation, Refused, marks};
use wasvolta_core::rig::{Kind, MarkKind, ReadAt};
use wasvolta_core::unit::{Degrees, Position, Rpm};

/// What is seen now, at the pulse that is on the wire.
pub fn observe(desk: &Context, seen: MarkKind, angle: Option<(Degrees, ReadAt)>) -> Option<Observation> {
    let from = desk.model.in_calibrate.side;
    desk.picked(|p| {
        let (angle, at) = (angle.map(|(angle, _)| angle), angle.map_or(ReadAt::Servo, |(_, at)| at));
        // A trim is not the servo's: what is marked is the pulse that the marks would have asked for.
        let pulse = p.wire_pulse() - p.state.trim();
        Some(Observation { pulse, ticks: p.state.ticks()?, seen, from, angle, at, rate: None })
    })
    .flatten()
}

/// Asks for the angle seen, with the prediction in it; of what turns, it begins to time it.
pub fn mark(desk: &mut Context) {
    let Some(at) = desk.picked(|p| if p.through.is_direct() { ReadAt::Servo } else { last_place(p.servo) })
    else {
        return;
    };
    desk.model.dialog = Some(Dialog::Mark { dial: predicted(desk, at), at, change: None });
}

/// Where this servo was read last: who reads at the joint goes on reading there.
fn last_place(servo: &wasvolta_core::rig::Servo) -> ReadAt {
    servo.marks.iter().rev().find(|m| m.seen == MarkKind::Aligned).map_or(ReadAt::Joint, |m| m.at)
}

/// The angle that is expected here, at the servo or at its joint.
fn predicted(desk: &Context, at: ReadAt) -> Dial {
    let value = desk.picked(|p| {
        let joint = p.drawn().map(|(scale, _)| scale.angle_at(p.wire_pulse()));
        joint.map_or(0.0, |joint| if at == ReadAt::Joint { joint } else { p.through.servo_at(joint) }.get())
    });
    Dial::at(value.unwrap_or(0.0).round())
}

/// The other place to read at.
pub fn other_place(desk: &Context, at: ReadAt, change: Option<usize>) -> Dialog {
    let at = match at {
        ReadAt::Servo if desk.picked(|p| !p.through.is_direct()) == Some(true) => ReadAt::Joint,
        _ => ReadAt::Servo,
    };
    Dialog::Mark { dial: predicted(desk, at), at, change }
}

/// Keeps an aligned mark at the present pulse, or changes the one that is being changed.
pub fn keep_angle(desk: &mut Context, angle: Degrees, at: ReadAt, change: Option<usize>) {
    let Some(place) = change else {
        let Some(what) = observe(desk, MarkKind::Aligned, Some((angle, at))) else {
            return desk.refuse("there is no pulse on the wire to mark");
        };
        desk.model.bell |= match retaken(desk, &what) {
            Some(place) => retake(desk, place, what),
            None => keep(desk, what),
        };
        return;
    };
    let Some(name) = desk.picked(|p| p.servo.name.clone()) else { return };
    desk.edit(&format!("mark changed: {:+.1}°", angle.get()), |rig| {
        marks::change_mark(rig, &name, place, |mark| (mark.angle_deg, mark.at) = (Some(angle), at))
    });
}

/// The picked mark, where what is seen now is seen at its pulse: it is being taken again.
fn retaken(desk: &Context, what: &Observation) -> Option<usize> {
    let place = desk.model.in_calibrate.mark?;
    let near = desk.picked(|p| {
        let mark = p.servo.marks.get(place).filter(|mark| mark.seen == what.seen)?;
        Some((mark.place() - what.pulse).abs() < p.plan.guard.step())
    });
    (near.flatten() == Some(true)).then_some(place)
}

fn retake(desk: &mut Context, place: usize, what: Observation) -> bool {
    let Some(name) = desk.picked(|p| p.servo.name.clone()) else { return false };
    let words = words(kind_of(desk), &what).replace("mark kept", "mark taken again");
    let kept = desk.edit(&words, |rig| marks::retake_mark(rig, &name, place, what));
    desk.model.in_calibrate.mark = desk.model.in_calibrate.mark.filter(|_| !kept);
    kept
}

/// Keeps where it buzzes or stops following: one mark an end.
pub fn keep_end(desk: &mut Context, what: Observation) -> bool {
    let Some(name) = desk.picked(|p| p.servo.name.clone()) else { return false };
    {
        let words = words(kind_of(desk), &what);
        desk.edit(&words, |rig| marks::keep_end(rig, &name, what))
    }
}

/// Keeps a mark; of servos that turn a joint together, each keeps one of its own. Where it contradicts another one the
/// ways out are asked.
pub fn keep(desk: &mut Context, what: Observation) -> bool {
    let Some(all) = desk.picked(|p| p.servo.name.clone()).map(|name| together(desk, &name, what)) else {
        return false;
    };
    let words = words(kind_of(desk), &what);
    let kept = desk.session.edit(&words, |rig| {
        all.iter().try_fold(rig.clone(), |rig, (name, what)| edit::keep_mark(&rig, name, *what))
    });
    match kept {
        Ok(()) => {
            desk.say(&words);
            true
        }
        Err(Refused::Contradicts(back)) => {
            desk.model.dialog = Some(Dialog::Contradiction { what, back });
            false
        }
        Err(refused) => {
            desk.refuse(&refused.to_string());
            false
        }
    }
}

/// What the picked servo is.
fn kind_of(desk: &Context) -> Kind {
    desk.picked(|p| p.servo.kind).unwrap_or_default()
}

fn words(kind: Kind, what: &Observation) -> String {
    let (at, from) = (kind.show_place(what.pulse), what.from.word());
    let what = match (what.angle, what.rate) {
        (Some(angle), _) => format!("{:+.1}°", angle.get()),
        (None, Some(rate)) => format!("{:+.1} rpm", rate.get()),
        (None, None) => what.seen.word().to_owned(),
    };
    format!("mark kept: {what} at {at} {from}").trim_end().to_owned()
}

/// The same look, for each servo that turns the joint: an angle of the joint is all of theirs.
fn together(desk: &Context, name: &str, what: Observation) -> Vec<(String, Observation)> {
    let scene = desk.model.scene(desk.session);
    let rig = scene.rig;
    let own = vec![(name.to_owned(), what)];
    let Some(joint) = rig.joint_of(name).filter(|j| !j.others.is_empty() && j.steering.is_none()) else {
        return own;
    };
    if what.at == ReadAt::Servo
        && what.seen == MarkKind::Aligned
        && !scene.picked().is_some_and(|p| p.through.is_direct())
    {
        return own;
    }
    let members = joint.servos().filter_map(|member| {
        let n = rig.servos.iter().position(|s| s.name == member)?;
        let p = scene.servo(n)?;
        let what = Observation { pulse: p.wire_pulse(), ticks: p.state.ticks()?, ..what };
        Some((member.to_owned(), what))
    });
    let all: Vec<(String, Observation)> = members.collect();
    if all.is_empty() || what.seen != MarkKind::Aligned { own } else { all }
}

/// The ways out of a contradiction.
pub fn contradiction(
    desk: &mut Context,
    does: Option<Does>,
    (what, back): (Observation, TurnsBack),
) -> Option<Dialog> {
    let name = desk.picked(|p| p.servo.name.clone())?;
    let new = [back.low, back.high].into_iter().position(|seen| (seen.pulse - what.pulse).abs().get() < 1.0);
    let other = if new == Some(0) { back.high } else { back.low };
    match does {
        Some(Does::Drop) => {
            let kind = desk.picked(|p| p.servo.kind).unwrap_or_default();
            let words = format!("mark at {} dropped, the new one kept", kind.show_place(other.pulse));
            desk.edit(&words, |rig| edit::keep_mark(&edit::drop_mark(rig, &name, other.pulse)?, &name, what));
            None
        }
        Some(Does::Retake) => {
            Some(Dialog::Mark { dial: predicted(desk, what.at), at: what.at, change: None })
        }
        Some(Does::Shift) => {
            let words = "the horn was moved: the earlier marks are shifted, the new one kept";
            desk.edit(words, |rig| marks::keep_after_move(rig, &name, what));
            None
        }
        _ => Some(Dialog::Contradiction { what, back }),
    }
}

/// Drops the picked mark, or the one nearest to the present pulse.
pub fn drop(desk: &mut Context) {
    let Some((name, pulse)) = desk.picked(|p| (p.servo.name.clone(), p.state.pulse)) else { return };
    match desk.model.in_calibrate.mark {
        Some(place) => desk.edit("mark dropped", |rig| marks::drop_mark_at(rig, &name, place)),
        None => desk.edit("mark dropped", |rig| edit::drop_mark(rig, &name, pulse)),
    };
}

/// Picks a mark in the list; before the first one none is picked.
pub fn pick(desk: &mut Context, by: isize) {
    let Some(count) = desk.picked(|p| p.servo.marks.len()).filter(|count| *count > 0) else {
        return desk.say("no mark yet; ‹servo above› ‹servo below› pick a servo");
    };
    // The odd one is what one most often looks for.
    let odd = desk.picked(|p| p.servo.odd_mark(&p.servo.fit())).flatten();
    desk.model.in_calibrate.mark = match desk.model.in_calibrate.mark {
        None if odd.is_some() => odd.map(|(place, _)| place),
        None if by > 0 => Some(0),
        None => Some(count - 1),
        Some(0) if by < 0 => None,
        Some(place) => Some(moved(place, by, count)),
    };
}

/// Glides to the picked mark's pulse, to see it again.
pub fn visit(desk: &mut Context) {
    let Some(place) = desk.model.in_calibrate.mark else { return };
    let pulse = desk.picked(|p| p.servo.marks.get(place).map(wasvolta_core::rig::Mark::place)).flatten();
    let ends = desk.picked(|p| p.plan.guard.endpoints);
    let kind = desk.picked(|p| p.servo.kind).unwrap_or_default();
    if let (Some(pulse), Some((low, high))) = (pulse, ends) {
        if pulse < low || pulse > high {
            let words = format!(
                "that mark lies outside its endpoints, {:.0} to {}: it counts, but no pulse goes there",
                low.get(),
                kind.show_place(high)
            );
            return desk.refuse(&words);
        }
        glide(desk, pulse);
        desk.say(&format!("gliding to {}; ‹mark› takes the mark again", kind.show_place(pulse)));
    }
}

/// Asks for another angle of the picked mark.
pub fn change(desk: &mut Context) {
    let Some(place) = desk.model.in_calibrate.mark else { return };
    let found = desk.picked(|p| p.servo.marks.get(place).and_then(|m| Some((m.angle_deg?, m.at))));
    match found.flatten() {
        Some((angle, at)) => {
            let dial = Dial::at(angle.get());
            desk.model.dialog = Some(Dialog::Mark { dial, at, change: Some(place) });
        }
        None => desk.refuse("that mark has no angle to change: ‹remove› drops it"),
    }
}

/// The horn was put on elsewhere: asks what is seen now, and shifts the marks by the difference.
pub fn horn_moved(desk: &mut Context) {
    let Some((name, pulse, expected)) = desk
        .picked(|p| {
            let fit = p.servo.fit().ok()?;
            Some((p.servo.name.clone(), p.wire_pulse(), fit.curve.angle_at(p.wire_pulse()).get()))
        })
        .flatten()
    else {
        return desk.refuse("it has no angles yet: keep two marks with ‹mark›");
    };
    crate::screen::calibrate::forms::horn_moved(desk, &name, pulse, expected);
}

/// Joins the marks by a cubic instead of a line, or the other way round.
pub fn bend(desk: &mut Context) {
    let Some((name, fit, shape)) = desk.picked(|p| (p.servo.name.clone(), p.servo.fit(), p.servo.fit)) else {
        return;
    };
    if shape == Shape::Cubic {
        desk.edit("a straight line again", |rig| marks::set_shape(rig, &name, Shape::Line));
        return;
    }
    match fit {
        Ok(fit) if fit.wants_to_bend() => {
            desk.edit("a curve through all marks", |rig| marks::set_shape(rig, &name, Shape::Cubic));
        }
        Ok(fit) if fit.odd().is_some() => {
            desk.refuse("no curve explains one mark that disagrees with all others: ‹row above› picks it, \
             ‹go to the mark› and ‹mark› take it again");
        }
        Ok(_) => desk.refuse(
            "five marks or more that bend smoothly, and that a line misses by more than they may be misread, make a curve",
        ),
        Err(why) => desk.refuse(&why.to_string()),
    }
}

/// It starts to move here.
pub fn starts(desk: &mut Context) {
    let Some(what) = observe(desk, MarkKind::Starts, None) else {
        return desk.refuse("there is no pulse on the wire to mark");
    };
    let continuous = desk.picked(|p| p.servo.kind.turns_on()) == Some(true);
    if continuous && what.from == wasvolta_core::fit::Side::Unknown {
        return desk.refuse("jog out of the standstill to where it just starts to turn, then ‹starts›");
    }
    let drift = continuous.then(|| drifted(desk, &what)).flatten();
    if let Some(by) = drift {
        desk.model.dialog = Some(Dialog::Drift { what, by });
        return;
    }
    desk.model.bell |= keep(desk, what);
}

/// How far an edge of the stop band lies off what marks say of it, where that is more than a tick.
fn drifted(desk: &Context, what: &Observation) -> Option<Position> {
    desk.picked(|p| {
        let band = p.servo.band()?;
        let edge = if what.from == wasvolta_core::fit::Side::Below { band.high } else { band.low };
        let by = what.pulse - edge;
        (by.abs() > p.plan.guard.step()).then_some(by)
    })
    .flatten()
}

/// Keeps where a continuous servo starts to turn in the place of what its marks said of that edge.
pub fn keep_edge(desk: &mut Context, what: Observation) {
    let Some(name) = desk.picked(|p| p.servo.name.clone()) else { return };
    let words = words(kind_of(desk), &what);
    desk.model.bell |= desk.edit(&words, |rig| marks::replace_edge(rig, &name, what));
}

/// A rate that was timed.
pub fn keep_rate(desk: &mut Context, rate: Rpm) {
    let Some(what) = observe(desk, MarkKind::Turns, None) else {
        return desk.refuse("there is no pulse on the wire to mark");
    };
    // Shorter pulses turn it backwards, unless the maker says otherwise by a sign.
    let below = desk.picked(|p| p.wire_pulse() < p.servo.centre()) == Some(true);
    let rate = Rpm::new(if below { -rate.get() } else { rate.get() });
    desk.model.bell |= keep(desk, Observation { rate: Some(rate), ..what });
}
