//! Actions on one servo: engaging, jogging, marks, endpoints, limits.

use super::Desk;
use crate::last_known::ago;
use crate::screen::model::{Dial, Dialog, Purpose, Scale};
use crate::screen::rows::NUDGES;
use crate::screen::scene::Picked;
use wasvolta_core::estimate::Known;
use wasvolta_core::rig::edit::{self, End, Observation};
use wasvolta_core::rig::{How, Kind};
use wasvolta_core::rig::{Mark, Side};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{Degrees, Micros};

/// How far *stops* and *buzzes* back off.
const MARGIN: Micros = Micros::new(15.0);
/// How far one press widens.
const WIDEN: Micros = Micros::new(10.0);
const HORN_ON: Micros = Micros::new(1500.0);

/// Runs something with the picked servo, if there is one.
fn with<R>(desk: &Desk, look: impl FnOnce(&Picked) -> R) -> Option<R> {
    let scene = desk.model.scene(desk.session);
    scene.picked().map(|picked| look(&picked))
}

/// Nudges the servo. Of a held key one nudge counts a frame.
pub fn jog(desk: &mut Desk, direction: f64) {
    if std::mem::replace(&mut desk.model.jogged, true) {
        return;
    }
    let nudge = NUDGES.get(desk.model.nudge).copied().unwrap_or(NUDGES[0]);
    if let Some(by) = with(desk, |p| p.nudge(nudge) * direction) {
        desk.model.rising = direction > 0.0;
        let repeat = desk.held;
        desk.servo_command(|servo| Command::Jog { servo, by, repeat });
    }
}

/// Asks where the horn stands.
pub fn engage(desk: &mut Desk) {
    let scene = desk.model.scene(desk.session);
    let Some(picked) = scene.picked() else { return };
    // A lamp or a motor stands nowhere: it begins off, or at its neutral.
    if picked.servo.kind != Kind::Positional {
        let pulse = picked.plan.start();
        return desk.servo_command(|servo| Command::Engage { servo, pulse, told: true });
    }
    let known = desk.session.last_known.of(&picked.servo.name);
    let (pulse, from) = match (picked.state.estimate.known, known) {
        (Known::Assumed | Known::Modelled, _) => {
            (picked.state.estimate.pulse, "where it was left".to_owned())
        }
        (Known::Unknown, Some((pulse, time))) => (pulse, format!("last known, {}", ago(time))),
        (Known::Unknown, None) => (picked.servo.centre(), "not known yet".to_owned()),
    };
    let (value, scale) = match picked.drawn_line() {
        Some((line, true)) => (line.angle_at(pulse).get(), Scale::Fitted),
        Some((line, false)) => (line.angle_at(pulse).get(), Scale::Rated),
        None => (pulse.get(), Scale::Pulses),
    };
    let dial = Dial { value: value.round() + 0.0, text: String::new() };
    desk.model.dialog = Some(Dialog::Engage { dial, scale, from });
}

/// First pulse at the middle, with the horn off.
pub fn horn_on(desk: &mut Desk) {
    desk.servo_command(|servo| Command::Engage { servo, pulse: HORN_ON, told: false });
    desk.say("first pulse at 1500 µs: put the horn on where its middle should be");
}

/// Asks for the angle seen, with the prediction in it.
pub fn mark(desk: &mut Desk) {
    let predicted =
        with(desk, |p| p.drawn_line().map_or(0.0, |(line, _)| line.angle_at(p.wire_pulse()).get()));
    let value = predicted.unwrap_or(0.0).round() + 0.0;
    desk.model.dialog = Some(Dialog::Mark(Dial { value, text: String::new() }));
}

/// Keeps an aligned mark at the present pulse.
pub fn keep_mark(desk: &mut Desk, angle: Degrees) {
    if keep(desk, How::Aligned, Some(angle)) {
        desk.model.bell = true;
    }
}

fn keep(desk: &mut Desk, seen: How, angle: Option<Degrees>) -> bool {
    let from = if desk.model.rising { Side::Below } else { Side::Above };
    let Some(Some((name, what))) = with(desk, |p| {
        let what = Observation { pulse: p.wire_pulse(), ticks: p.state.ticks?, seen, from, angle };
        Some((p.servo.name.clone(), what))
    }) else {
        desk.refuse("there is no pulse on the wire to mark");
        return false;
    };
    let pulse = what.pulse.get();
    let words = match angle {
        Some(angle) => format!("mark kept: {:+.1}° at {pulse:.0} µs", angle.get()),
        None => {
            format!("mark kept: {} at {pulse:.0} µs", if seen == How::Stops { "stops" } else { "buzzes" })
        }
    };
    desk.edit(&words, |rig| edit::keep_mark(rig, &name, what))
}

/// Drops the mark nearest to the present pulse.
pub fn drop_mark(desk: &mut Desk) {
    if let Some((name, pulse)) = with(desk, |p| (p.servo.name.clone(), p.state.pulse)) {
        desk.edit("mark dropped", |rig| edit::drop_mark(rig, &name, pulse));
    }
}

/// Glides to the next pulse worth a mark.
pub fn next_mark(desk: &mut Desk) {
    let Some((to, rising)) = with(desk, |p| {
        let to = next_useful(p.plan.guard.free(), p.servo.centre(), &p.servo.marks);
        (to, to >= p.state.pulse)
    }) else {
        return;
    };
    desk.model.rising = rising;
    desk.servo_command(|servo| Command::GoTo { servo, pulse: to });
    desk.say(&format!("gliding to {:.0} µs; when it stands, m keeps the angle you see", to.get()));
}

/// The pulse that tells most: the centre, the two ends, then ever finer between, wherever no mark is near.
pub fn next_useful((low, high): (Micros, Micros), centre: Micros, marks: &[Mark]) -> Micros {
    const SHARES: [f64; 8] = [0.0, 1.0, 0.25, 0.75, 0.125, 0.875, 0.375, 0.625];
    let span = high - low;
    let near = span * 0.06;
    let candidates = std::iter::once(centre.within(low, high)).chain(SHARES.map(|share| low + span * share));
    let aligned = |m: &&Mark| m.seen == How::Aligned;
    let distance = |p: Micros| {
        marks.iter().filter(aligned).map(|m| (m.pulse_us - p).abs().get()).fold(f64::INFINITY, f64::min)
    };
    let mut least_known = centre.within(low, high);
    for candidate in candidates {
        if distance(candidate) > near.get() {
            return candidate;
        }
        if distance(candidate) > distance(least_known) {
            least_known = candidate;
        }
    }
    least_known
}

/// Moves the nearer endpoint and the pulse outwards together; never from a held key.
pub fn widen(desk: &mut Desk) {
    if desk.hurried {
        return desk.refuse("a held key does not widen: listen to the servo, then press W again");
    }
    let Some((name, end, gap)) = with(desk, |p| {
        let end = p.nearer_end();
        let (low, high) = p.plan.guard.endpoints;
        let at = match end {
            End::Low => low,
            End::High => high,
        };
        (p.servo.name.clone(), end, (p.state.pulse - at).abs())
    }) else {
        return;
    };
    // A whisker more than one press away counts as there: the pulse is kept in fractions.
    if gap > WIDEN + Micros::new(0.5) {
        let words = format!(
            "first jog to the {} endpoint, {:.0} µs away; widening goes on from there",
            end.word(),
            gap.get()
        );
        return desk.refuse(&words);
    }
    let sign = if end == End::Low { -1.0 } else { 1.0 };
    if desk.edit(&format!("{} endpoint widened by {:.0} µs", end.word(), WIDEN.get()), |rig| {
        edit::widen(rig, &name, end, WIDEN)
    }) {
        desk.servo_command(|servo| Command::Jog { servo, by: (WIDEN + gap) * sign, repeat: false });
    }
}

/// It buzzes here.
pub fn buzzes(desk: &mut Desk) {
    back_off(desk, How::Buzzes);
}

/// The horn stopped following here.
pub fn stops(desk: &mut Desk) {
    back_off(desk, How::Stops);
}

/// Keeps what was seen, moves inwards by the margin at once, and proposes the endpoint there.
fn back_off(desk: &mut Desk, seen: How) {
    let Some((end, pulse)) = with(desk, |p| (p.nearer_end(), p.wire_pulse())) else { return };
    let inwards = if end == End::Low { MARGIN } else { -MARGIN };
    desk.servo_command(|servo| Command::Jog { servo, by: inwards, repeat: false });
    if keep(desk, seen, None) {
        desk.model.dialog = Some(Dialog::Endpoint { end, pulse: pulse + inwards });
    }
}

/// Makes the present pulse the nearer endpoint.
pub fn endpoint(desk: &mut Desk) {
    if let Some((end, pulse)) = with(desk, |p| (p.nearer_end(), p.wire_pulse())) {
        set_endpoint(desk, end, pulse);
    }
}

/// Sets an endpoint of the picked servo.
pub fn set_endpoint(desk: &mut Desk, end: End, pulse: Micros) {
    if let Some(name) = with(desk, |p| p.servo.name.clone()) {
        let words = format!("{} endpoint {:.0} µs", end.word(), pulse.get());
        desk.edit(&words, |rig| edit::set_endpoint(rig, &name, end, pulse));
    }
}

/// Asks for a limit, beginning with where it stands.
pub fn limit(desk: &mut Desk) {
    let Some((angle, end)) = with(desk, |p| {
        let angle = p.angle().unwrap_or_default();
        let middle = p.plan.scale.map_or(Degrees::ZERO, |line| line.angle_at(p.servo.centre()));
        (angle, if angle < middle { End::Low } else { End::High })
    }) else {
        return;
    };
    let dial = Dial { value: angle.get().round() + 0.0, text: String::new() };
    desk.model.dialog = Some(Dialog::Limit { end, dial, reason: None });
}

/// Makes the present pulse the centre.
pub fn centre(desk: &mut Desk) {
    if let Some((name, pulse)) = with(desk, |p| (p.servo.name.clone(), p.wire_pulse())) {
        desk.edit(&format!("centre {:.0} µs", pulse.get()), |rig| edit::set_centre(rig, &name, pulse));
    }
}

/// Makes the present angle home.
pub fn home(desk: &mut Desk) {
    let found = with(desk, |p| Some((p.joint?.name.clone(), p.angle()?)));
    if let Some(Some((joint, angle))) = found {
        desk.edit(&format!("home {:+.1}°", angle.get()), |rig| edit::set_home(rig, &joint, angle));
    }
}

/// Asks what a meter shows.
pub fn clock(desk: &mut Desk) {
    desk.model.dialog = Some(Dialog::Entry { purpose: Purpose::Clock, text: String::new() });
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mark(pulse: f64) -> Mark {
        Mark {
            pulse_us: Micros::new(pulse),
            angle_deg: Some(Degrees::ZERO),
            seen: How::Aligned,
            from: Side::Unknown,
            error_deg: None,
            ticks: None,
            oscillator_hz: None,
        }
    }

    #[test]
    fn marks_are_proposed_where_they_tell_most() {
        let ends = (Micros::new(1000.0), Micros::new(2000.0));
        let mut marks = Vec::new();
        let mut visited = Vec::new();
        for _ in 0..5 {
            let next = next_useful(ends, Micros::new(1500.0), &marks);
            visited.push(next.get());
            marks.push(mark(next.get()));
        }
        assert_eq!(visited, [1500.0, 1000.0, 2000.0, 1250.0, 1750.0]);
    }
}
