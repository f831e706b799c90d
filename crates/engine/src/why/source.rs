//! Why a servo is where it is: one line from the source to the wire.

use crate::{Compiled, Snapshot};
use wasvolta_core::guard::Stopped;
use wasvolta_core::rig::ServoId;
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::stage::{Owner, ServoState};

/// The line, with every value that it passes: `knob 0.41 → curve 0.35 → -31.0° → limit -30.0° → 1191 µs → 244
/// ticks`. `None` while the snapshot is of another rig.
pub fn from_source_to_wire(compiled: &Compiled, snapshot: &Snapshot, servo: ServoId) -> Option<String> {
    let place = compiled.index.servos.place(servo)?;
    let state = snapshot.servos.get(place)?;
    let own = compiled.plan.servos.get(place)?;
    let mut parts = source(compiled, snapshot, own, state)?;
    // Where nobody drives it, nobody wants it anywhere.
    if let Some(scale) = own.scale.as_ref().filter(|_| state.engaged) {
        parts.push(own.kind.show(scale.angle_at(state.target - state.trim())));
    }
    if state.arming().is_some() {
        parts.push("sees its neutral first".to_owned());
    } else if state.is_wiggling() {
        parts.push(if own.kind.is_accessory() { "blinks" } else { "wiggles" }.to_owned());
    } else if let Some(exercising) = state.exercise() {
        let (done, of) = exercising.count();
        parts.push(format!("exercised, {done} of {of}"));
    } else if state.gliding {
        parts.push("on its way".to_owned());
    }
    parts.extend(bound(state, own));
    match state.ticks {
        Some(ticks) if own.kind.is_accessory() => {
            parts.push(format!("{} of {} ticks", ticks.0, own.guard.clock.longest()));
        }
        Some(ticks) => {
            parts.push(format!("{:.0} µs", own.guard.clock.pulse(ticks).get()));
            parts.push(format!("{} ticks", ticks.0));
        }
        None => parts.push("nothing is sent".to_owned()),
    }
    Some(parts.join(" → "))
}

/// Who wants it somewhere, and the values on the way to its angle.
fn source(
    compiled: &Compiled,
    snapshot: &Snapshot,
    own: &ServoPlan,
    state: &ServoState,
) -> Option<Vec<String>> {
    let rig = &compiled.rig;
    Some(match state.owner {
        Owner::Nobody => vec!["nobody drives it".to_owned()],
        Owner::Hand => vec!["hand".to_owned()],
        Owner::Home => vec!["home".to_owned()],
        Owner::Rest => vec!["stays where it was let go".to_owned()],
        Owner::Sequence => {
            let player = &snapshot.player;
            let name = compiled.index.sequences.place(player.sequence).and_then(|n| rig.sequences.get(n));
            let name = name.map_or("", |s| s.name.as_str());
            vec![format!("{name} at {:.2} s", player.at.as_secs_f64())]
        }
        Owner::Mapping | Owner::LostMapping => {
            let input = compiled.plan.mappings.get(own.mapping?)?.input;
            let (name, is) = (&rig.inputs.get(input)?.name, snapshot.inputs.get(input)?);
            let link = compiled.plan.inputs.get(input)?.link;
            if state.owner == Owner::LostMapping {
                let health = snapshot.links.get(link)?.health.word();
                let link = &rig.links.get(link)?.name;
                vec![format!("{name} over {link}, {health}"), "as told for a lost link".to_owned()]
            } else {
                let raw = is.raw.map_or_else(|| "–".to_owned(), |raw| format!("{raw:.0}"));
                vec![format!("{name} {raw}"), format!("shaped {:+.2}", is.stages.shaped() + 0.0)]
            }
        }
    })
}

/// What holds it back from there.
fn bound(state: &ServoState, plan: &ServoPlan) -> Option<String> {
    let (bound, _) = plan.guard.bound(state.target);
    let what = match state.stopped? {
        Stopped::LimitLow | Stopped::LimitHigh => "limit",
        Stopped::EndpointLow | Stopped::EndpointHigh => "endpoint",
        Stopped::NotANumber => return Some("not a number, so it stays".to_owned()),
    };
    Some(match &plan.scale {
        Some(scale) => format!("{what} {}", plan.kind.show(scale.angle_at(bound))),
        None => format!("{what} {:.0} µs", bound.get()),
    })
}
