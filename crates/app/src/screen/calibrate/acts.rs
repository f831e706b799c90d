//! Actions on one servo: engaging, jogging, endpoints, limits. What was seen of it stands in [`crate::screen::calibrate::marks`].

use crate::date::ago;
use crate::screen::calibrate::hand::{glide, goes};
use crate::screen::calibrate::marks;
use crate::screen::context::Context;
use crate::screen::dial::Dial;
use crate::screen::dialog::{Dialog, Purpose, Scale};
use crate::screen::form::Subject;
use crate::screen::question::questions;
use crate::screen::step::NUDGES;
use crate::screen::typing::Typing;
use crate::screen::wiring::servo_bus;
use wasvolta_core::estimate::Known;
use wasvolta_core::rig::edit::{self, End};
use wasvolta_core::rig::{Kind, Mark, MarkKind, Side};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{Degrees, Position};
use wasvolta_port::board::Stand;

/// How far *stops* and *buzzes* back off.
const MARGIN: Position = Position::new(15.0);
const HORN_ON: Position = Position::new(1500.0);
/// How far a knob jogs to either side where it is to be fine.
const NARROW: Position = Position::new(40.0);

/// Nudges the servo. Of a held key one nudge counts a frame.
pub fn jog(desk: &mut Context, direction: f64) {
    if std::mem::replace(&mut desk.model.in_calibrate.jogged, true) {
        return;
    }
    let nudge = NUDGES.get(desk.model.nudge).copied().unwrap_or(NUDGES[0]);
    if let Some(by) = desk.picked(|p| p.nudge(nudge) * direction) {
        goes(desk, by);
        let repeat = desk.held;
        desk.servo_command(|servo| Command::Jog { servo, by, repeat });
    }
}

/// A knob jogs: over a narrow window around where it stands, then over all, then no more.
pub fn knob(desk: &mut Context) {
    let input = desk.model.input.id;
    let Some((jogged, at, (low, high), kind)) =
        desk.picked(|p| (p.state.jogged_by(), p.state.pulse, p.plan.guard.free(), p.servo.kind))
    else {
        return;
    };
    let name = desk.input().map(|input| input.name.clone());
    let Some(name) = name else {
        return desk.refuse(
            "this rig has no input to jog with: in ‹Inputs›, ‹add link› adds a link and ‹add input› an input",
        );
    };
    let narrow = (at - NARROW, at + NARROW);
    match jogged {
        None => {
            desk.servo_command(|servo| Command::Knob { servo, input, low: narrow.0, high: narrow.1 });
            desk.say(&format!(
                "{name} jogs ±{} around {}; ‹knob jogs› again: over all",
                kind.show_place(NARROW),
                kind.show_place(at)
            ));
        }
        Some((_, from, to)) if to - from < (NARROW * 2.0 + Position::new(1.0)) => {
            desk.servo_command(|servo| Command::Knob { servo, input, low, high });
            desk.say(&format!(
                "{name} jogs from {:.0} to {}; ‹knob jogs› again lets it go",
                low.get(),
                kind.show_place(high)
            ));
        }
        Some(_) => {
            desk.servo_command(|servo| Command::StandStill { servo });
            desk.say(&format!("{name} no longer jogs"));
        }
    }
    desk.model.in_calibrate.side = Side::Unknown;
}

questions! {
    ENGAGE_TURNING("engage", words: |scene, form| {
        let pulse = scene.picked().map_or(0.0, |picked| picked.plan.start().get());
        let of = &form.subject.of;
        format!("{of} gets {pulse:.0} µs, at which it should stand still. It may turn: is it clear?")
    }) => |desk, Subject { of, .. }, _| {
        let part = desk.session.document.rig.servo(of).ok_or_else(|| format!("no servo is called {of:?}"))?;
        let plan = &desk.session.runner.edition.plan;
        let start = plan.servo_place(part.id).and_then(|n| plan.servos.get(n)).ok_or("it has no board")?.start();
        let servo = part.id;
        desk.command(Command::Engage { servo, pulse: start, stands_there: true });
        Ok(format!("{of} gets its first pulse"))
    };
}

/// Asks where the horn stands.
pub fn engage(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(picked) = scene.picked() else { return };
    // A lamp or a motor stands nowhere: it begins off, or at its neutral. What turns may do so at once.
    if picked.servo.kind.turns_on() {
        let subject = Subject::of(&picked.servo.name);
        return desk.ask(ENGAGE_TURNING.name, subject, Vec::new());
    }
    if !picked.servo.kind.has_angles() {
        let pulse = picked.plan.start();
        return desk.servo_command(|servo| Command::Engage { servo, pulse, stands_there: true });
    }
    // One that says where it is need not be asked about: it is driven there.
    if picked.servo.kind.is_smart() {
        return engage_smart(desk);
    }
    let known = desk.session.runner.last_known.of(&picked.servo.name);
    let (pulse, from) = match (picked.state.estimate.known, known) {
        (Known::Assumed | Known::Modelled | Known::Measured, _) => {
            (picked.state.estimate.pulse, "where it was left".to_owned())
        }
        (Known::Unknown, Some((pulse, time))) => (pulse, format!("last known, {}", ago(time))),
        (Known::Unknown, None) => (picked.servo.centre(), "not known yet".to_owned()),
    };
    let (value, scale) = match picked.drawn() {
        Some((scale, true)) => (scale.angle_at(pulse).get(), Scale::Fitted),
        Some((scale, false)) => (scale.angle_at(pulse).get(), Scale::Rated),
        None => (pulse.get(), Scale::Pulses),
    };
    let dial = Dial::at(value.round());
    desk.model.in_calibrate.side = Side::Unknown;
    desk.model.dialog = Some(Dialog::Engage { dial, scale, from });
}

/// Makes a smart servo stiff where it says that it is.
fn engage_smart(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let Some(picked) = scene.picked() else { return };
    let (name, kind, pulse) = (picked.servo.name.clone(), picked.servo.kind, picked.state.estimate.pulse);
    match picked.feedback.map(|own| own.stand) {
        Some(Stand::UnknownModel(_)) => return servo_bus::ask_model(desk),
        Some(Stand::OtherModel(model)) => {
            let words = format!(
                "{name} says that it is model {model}, not the one in the rig: nothing is sent to it. \
                 ‹keep model› takes it"
            );
            return desk.refuse(&words);
        }
        _ => {}
    }
    if picked.state.estimate.known != Known::Measured {
        let words = format!("{name} has not said where it is: ‹Wiring› shows why it is not heard");
        return desk.say(&words);
    }
    desk.model.in_calibrate.side = Side::Unknown;
    desk.servo_command(|servo| Command::Engage { servo, pulse, stands_there: true });
    desk.say(&format!("{name} becomes stiff where it stands, at {}", kind.show_place(pulse)));
}

/// First pulse at the middle, with the horn off.
pub fn horn_on(desk: &mut Context) {
    if let Some(true) = desk.picked(|p| p.servo.kind.is_smart()) {
        let centre = desk.picked(|p| p.servo.centre()).unwrap_or_default();
        engage_smart(desk);
        desk.servo_command(|servo| Command::GoTo { servo, pulse: centre });
        return desk.say("it goes to its centre: put the horn on where its middle should be");
    }
    desk.model.in_calibrate.side = Side::Unknown;
    desk.servo_command(|servo| Command::Engage { servo, pulse: HORN_ON, stands_there: false });
    desk.say("first pulse at 1500 µs: put the horn on where its middle should be");
}

/// Glides to the next pulse worth a mark.
pub fn next_mark(desk: &mut Context) {
    let next = desk.picked(|p| {
        let (low, high) = p.plan.guard.free();
        let tells = p.servo.fit().ok().and_then(|fit| fit.between_odd_and_next());
        tells.map_or_else(
            || next_useful((low, high), p.servo.centre(), &p.servo.marks, p.state.pulse),
            |pulse| pulse.within(low, high),
        )
    });
    let Some(to) = next else { return };
    glide(desk, to);
    let to = kind_of(desk).show_place(to);
    desk.say(&format!("gliding to {to}; when it stands, ‹mark› keeps the angle you see"));
}

/// The pulse that tells most: outwards from the centre to one side and to the other; then a place that was seen from
/// one side only, from its other side, which tells the slack; then ever finer between. `at` is where it stands.
pub fn next_useful(
    (low, high): (Position, Position),
    centre: Position,
    marks: &[Mark],
    at: Position,
) -> Position {
    const OUTWARDS: [f64; 4] = [0.5, 1.0, -0.5, -1.0];
    const FINER: [f64; 8] = [0.25, 0.75, -0.25, -0.75, 0.125, -0.125, 0.875, -0.875];
    let centre = centre.within(low, high);
    let near = (high - low) * 0.06;
    let place = |share: f64| {
        if share < 0.0 { centre + (centre - low) * share } else { centre + (high - centre) * share }
    };
    let aligned = || marks.iter().filter(|m| m.seen == MarkKind::Aligned);
    let distance = |p: Position| aligned().map(|m| (m.place() - p).abs().get()).fold(f64::INFINITY, f64::min);
    let unseen = |p: &Position| distance(*p) > near.get();
    if let Some(next) = std::iter::once(centre).chain(OUTWARDS.map(place)).find(unseen) {
        return next;
    }
    let seen_from = |p: Position, side: Side| {
        aligned().any(|m| (m.place() - p).abs() <= Position::new(3.0) && m.from == side)
    };
    let both = |m: &Mark| seen_from(m.place(), Side::Below) && seen_from(m.place(), Side::Above);
    if !aligned().any(both) {
        let reached = |m: &&Mark| match m.from {
            Side::Below => at > m.place() + near * 0.5,
            Side::Above => at < m.place() - near * 0.5,
            Side::Unknown => false,
        };
        let nearest = aligned()
            .filter(reached)
            .min_by(|a, b| (a.place() - at).abs().get().total_cmp(&(b.place() - at).abs().get()));
        if let Some(mark) = nearest {
            return mark.place();
        }
    }
    let farther = |a: &Position, b: &Position| distance(*a).total_cmp(&distance(*b));
    let finer = FINER.map(place);
    finer.into_iter().find(unseen).or_else(|| finer.into_iter().max_by(farther)).unwrap_or(centre)
}

/// Moves the nearer endpoint and the pulse outwards together; never from a held key.
pub fn widen(desk: &mut Context) {
    if desk.hurried {
        return desk.refuse("a held key does not widen: listen to the servo, then press ‹widen› again");
    }
    let nudge = NUDGES.get(desk.model.nudge).copied().unwrap_or(NUDGES[0]);
    let Some((name, end, at, gap, by)) = desk.picked(|p| {
        let end = p.nearer_end();
        let (low, high) = p.plan.guard.endpoints;
        let at = match end {
            End::Low => low,
            End::High => high,
        };
        (p.servo.name.clone(), end, at, (p.state.pulse - at).abs(), rounded_nudge(p.nudge(nudge)))
    }) else {
        return;
    };
    desk.model.in_calibrate.widened = desk.picked(|p| p.servo.id);
    // A whisker more than one press away counts as there: the pulse is kept in fractions.
    if gap > by + Position::new(0.5) {
        glide(desk, at);
        let at = kind_of(desk).show_place(at);
        desk.say(&format!("gliding to the {} endpoint, {at}; there ‹widen› widens it", end.word()));
        return;
    }
    let sign = if end == End::Low { -1.0 } else { 1.0 };
    goes(desk, by * sign);
    let unit = kind_of(desk).place_unit();
    if desk.edit(&format!("{} endpoint widened by {} {unit}", end.word(), by.get()), |rig| {
        edit::widen(rig, &name, end, by)
    }) {
        desk.servo_command(|servo| Command::Jog { servo, by: (by + gap) * sign, repeat: false });
    }
}

/// An endpoint moves by tenths of a microsecond, as it is written.
fn rounded_nudge(by: Position) -> Position {
    Position::new((by.get() * 10.0).round() / 10.0)
}

/// What the picked servo is.
fn kind_of(desk: &Context) -> Kind {
    desk.picked(|p| p.servo.kind).unwrap_or_default()
}

/// It buzzes here.
pub fn buzzes(desk: &mut Context) {
    back_off(desk, MarkKind::Buzzes);
}

/// The horn stopped following here.
pub fn stops(desk: &mut Context) {
    back_off(desk, MarkKind::Stops);
}

/// Keeps what was seen, moves inwards at once, and proposes the endpoint there: the margin inside the last pulse at
/// which nothing was heard.
fn back_off(desk: &mut Context, seen: MarkKind) {
    let quiet = desk.model.in_calibrate.quiet;
    let Some((end, pulse)) = desk.picked(|p| (p.nearer_end(), p.wire_pulse())) else { return };
    let inwards = if end == End::Low { MARGIN } else { -MARGIN };
    let quiet = quiet.filter(|quiet| (end == End::Low) == (*quiet > pulse));
    // Within its deadband a servo is quiet a little beyond its stop; a tick is more than that.
    let tick = desk.picked(|p| p.plan.guard.step()).unwrap_or(Position::ZERO);
    let spare = if end == End::Low { tick } else { -tick };
    let to = quiet.map_or(pulse, |quiet| quiet + spare) + inwards;
    let what = marks::observe(desk, seen, None);
    // To a place and not by a way: wherever it is on its way to by now, that is where it is to stand.
    desk.servo_command(|servo| Command::GoTo { servo, pulse: to });
    desk.model.in_calibrate.side = if end == End::Low { Side::Below } else { Side::Above };
    if what.is_some_and(|what| marks::keep_end(desk, what)) {
        desk.model.dialog = Some(Dialog::Endpoint { end, pulse: to });
    }
}

/// Asks how far it is to go from where it stands.
pub fn move_by(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Entry { purpose: Purpose::Pulse, typing: Typing::begun("by ") });
}

/// Makes the present pulse the nearer endpoint: as it was typed or jogged to, not as its ticks have it.
pub fn endpoint(desk: &mut Context) {
    if let Some((end, pulse)) = desk.picked(|p| (p.nearer_end(), p.state.pulse)) {
        set_endpoint(desk, end, pulse);
    }
}

/// Sets an endpoint of the picked servo.
pub fn set_endpoint(desk: &mut Context, end: End, pulse: Position) {
    if let Some(name) = desk.picked(|p| p.servo.name.clone()) {
        let words = format!("{} endpoint {}", end.word(), kind_of(desk).show_place(pulse));
        desk.edit(&words, |rig| edit::set_endpoint(rig, &name, end, pulse));
    }
}

/// Asks for a limit, beginning with where it stands.
pub fn limit(desk: &mut Context) {
    let Some((angle, end)) = desk.picked(|p| {
        let angle = p.angle().unwrap_or_default();
        let middle = p.plan.scale.as_ref().map_or(Degrees::ZERO, |scale| scale.angle_at(p.servo.centre()));
        (angle, if angle < middle { End::Low } else { End::High })
    }) else {
        return;
    };
    let dial = Dial::at(angle.get().round());
    desk.model.dialog = Some(Dialog::Limit { end, dial, reason: None });
}

/// Makes the present pulse the centre.
pub fn centre(desk: &mut Context) {
    let found = desk.picked(|p| (p.servo.name.clone(), p.state.pulse, p.servo.kind, p.servo.band()));
    let Some((name, pulse, kind, band)) = found else { return };
    if let (true, Some(band)) = (kind.turns_on(), band) {
        let words = format!(
            "its marks say that it stands still from {:.0} to {:.0} µs: ‹trim› shifts that, or drop those marks",
            band.low.get(),
            band.high.get()
        );
        return desk.refuse(&words);
    }
    desk.edit(&format!("centre {}", kind.show_place(pulse)), |rig| edit::set_centre(rig, &name, pulse));
}

/// Makes the present angle home.
pub fn home(desk: &mut Context) {
    let found = desk.picked(|p| {
        let angle = p.plan.scale.as_ref()?.angle_at(p.state.pulse);
        // The last bits of a way there and back are no angle; nor is there a −0.
        let angle = Degrees::new((angle.get() * 1e4).round() / 1e4 + 0.0);
        Some((p.joint?.name.clone(), angle))
    });
    if let Some(Some((joint, angle))) = found {
        desk.edit(&format!("home {:+.1}°", angle.get()), |rig| edit::set_home(rig, &joint, angle));
    }
}

/// Asks what a meter shows.
pub fn clock(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Entry { purpose: Purpose::Clock, typing: Typing::default() });
}

/// The mechanism in the place of the protractor, or back.
pub fn mechanism(desk: &mut Context) {
    desk.model.in_calibrate.mechanism = !desk.model.in_calibrate.mechanism;
}

/// How fine other rates and depths would be.
pub fn fineness(desk: &mut Context) {
    desk.model.dialog = Some(Dialog::Fineness { wish: Typing::prefilled("0.5") });
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mark(pulse: f64, from: Side) -> Mark {
        Mark {
            pulse_us: Some(wasvolta_core::unit::Micros::new(pulse)),
            angle_deg: Some(Degrees::ZERO),
            from,
            ..Mark::default()
        }
    }

    #[test]
    fn marks_are_proposed_outwards_and_then_from_the_other_side() {
        let ends = (Position::new(1000.0), Position::new(2000.0));
        let mut marks = Vec::new();
        let (mut visited, mut at) = (Vec::new(), 1500.0);
        for _ in 0..7 {
            let next = next_useful(ends, Position::new(1500.0), &marks, Position::new(at)).get();
            visited.push(next);
            let side = if next > at { Side::Below } else { Side::Above };
            marks.push(mark(next, if marks.is_empty() { Side::Unknown } else { side }));
            at = next;
        }
        assert_eq!(visited, [1500.0, 1750.0, 2000.0, 1250.0, 1000.0, 1250.0, 1625.0]);
        assert_eq!(marks[5].from, Side::Below, "a place that was seen from above");
    }
}
