//! Why a servo is where it is: one line from the source to the wire.

use crate::{Compiled, Snapshot};
use wasvolta_core::guard::Stopped;
use wasvolta_core::rig::{GoalKind, SequenceId, ServoId};
use wasvolta_core::stage::AsIf;
use wasvolta_core::stage::mix::{Along, Follow, MappingPlan, Share};
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::stage::{MappingState, Owner, ServoState, Stand};

/// The line, with every value that it passes: `knob 0.41 → curve 0.35 → -31.0° → limit -30.0° → 1191 µs → 244
/// ticks`. `None` while the snapshot is of another rig.
pub fn from_source_to_wire(compiled: &Compiled, snapshot: &Snapshot, servo: ServoId) -> Option<String> {
    let place = compiled.index.servos.place(servo)?;
    let state = snapshot.servos.get(place)?;
    let own = compiled.plan.servos.get(place)?;
    let mut parts = source(compiled, snapshot, own, state)?;
    if let Some((player, added)) = state.added(&snapshot.players).filter(|(_, added)| *added != 0.0) {
        parts.push(format!("{added:+.1}° of {}", sequence(compiled, player.sequence)));
    }
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
    match state.ticks() {
        Some(ticks) if own.kind.is_accessory() => {
            let most = own.guard.nearest(own.guard.endpoints.1);
            parts.push(format!("{} of {} ticks", ticks.0, most.0));
        }
        Some(ticks) => {
            parts.push(own.kind.show_place(own.guard.pulse(ticks)));
            if !own.kind.is_smart() {
                parts.push(format!("{} ticks", ticks.0));
            }
        }
        None => parts.push("nothing is sent".to_owned()),
    }
    Some(parts.join(" → "))
}

/// The name of a sequence.
fn sequence(compiled: &Compiled, id: SequenceId) -> &str {
    let place = compiled.index.sequences.place(id);
    place.and_then(|n| compiled.rig.sequences.get(n)).map_or("", |sequence| sequence.name.as_str())
}

/// Who wants it somewhere, and the values on the way to its angle.
fn source(
    compiled: &Compiled,
    snapshot: &Snapshot,
    own: &ServoPlan,
    state: &ServoState,
) -> Option<Vec<String>> {
    Some(match state.owner {
        Owner::Nobody => vec!["nobody drives it".to_owned()],
        Owner::Hand => vec!["hand".to_owned()],
        Owner::Home => vec!["home".to_owned()],
        Owner::Rest => vec!["stays where it was let go".to_owned()],
        Owner::Sequence => {
            let player = state.player(&snapshot.players)?;
            vec![format!("{} at {:.2} s", sequence(compiled, player.sequence), player.at.seconds())]
        }
        Owner::Mapping | Owner::LostMapping => {
            let mapping = state.mapping()?;
            let mut parts = asked(compiled, snapshot, mapping)?;
            let follow = own.follows.iter().find(|follow| follow.mapping == mapping)?;
            if state.owner == Owner::LostMapping {
                parts.push("as told for a lost link".to_owned());
            } else if let Some(longer) = state.picked_up_from() {
                parts.push(format!("waits to be passed: it asks for {}", way(own, follow, longer)));
            } else if matches!(follow.along, Along::Rate(_)) {
                parts.push(format!("{:+.1} °/s", snapshot.mappings.get(mapping)?.value + 0.0));
            }
            parts
        }
    })
}

/// More or less than there is, as whoever turns the input sees it.
fn way(own: &ServoPlan, follow: &Follow, longer: bool) -> &'static str {
    let (low, high) = own.guard.endpoints;
    let falls = !matches!(follow.along, Along::Rate(_))
        && own.scale.as_ref().is_some_and(|scale| scale.falls(low, high));
    if longer == falls { "less" } else { "more" }
}

/// What a mapping makes of its inputs, from what they say to what it asks for: `knob 512 → shaped +0.35`, or with the
/// part of each where several have a share, and what of it is beyond its ends. `None` while the snapshot is of another
/// rig.
pub fn asked(compiled: &Compiled, snapshot: &Snapshot, mapping: usize) -> Option<Vec<String>> {
    let rig = &compiled.rig;
    let (of, plan) = (rig.mappings.get(mapping)?, compiled.plan.mappings.get(mapping)?);
    let state = snapshot.mappings.get(mapping)?;
    let mut parts = Vec::new();
    match state.stand {
        Stand::Lost => parts.push(silent(compiled, snapshot, plan)?),
        Stand::Waits => {
            let only = of.only_while.as_ref()?;
            parts.push(format!("{} is not at its position", only.input));
        }
        Stand::Moves => {
            let shares: Option<Vec<String>> =
                plan.shares.iter().map(|share| said(compiled, snapshot, share)).collect();
            parts.push(shares?.join(" and "));
            if of.to.kind() == Some(GoalKind::Toggle) {
                let pose = of.to.toggle.get(usize::from(state.sum > 0.0))?;
                parts.push(format!("to {pose}"));
            } else {
                parts.push(sum(snapshot, plan, state)?);
            }
        }
    }
    if of.to.kind() == Some(GoalKind::Tempo) && state.stand == Stand::Moves {
        parts.push(format!("tempo {:.0} %", state.value));
    }
    if let Some(place) = of.to.place.as_ref().filter(|_| state.stand == Stand::Moves) {
        parts.push(format!("{place} at {:.0} %", state.value * 100.0));
    }
    if of.to.kind() == Some(GoalKind::Blend) && state.stand == Stand::Moves {
        parts.push(format!("{} at {:.0} %", of.to.blend.join("–"), state.value * 100.0));
    }
    Some(parts)
}

/// What came of all shares together, and how much of it was clipped; of one that is all there is, as its stages show it.
fn sum(snapshot: &Snapshot, plan: &MappingPlan, state: &MappingState) -> Option<String> {
    let clipped = if state.clipped.abs() < 5e-3 {
        String::new()
    } else {
        format!(", {:.2} clipped", state.clipped.abs())
    };
    Some(match &*plan.shares {
        _ if plan.is_own() => format!("{:+.1}°{clipped}", state.sum + 0.0),
        [only] if only.is_whole() => {
            format!("shaped {:+.2}", snapshot.inputs.get(only.input)?.stages.shaped() + 0.0)
        }
        _ => format!("together {:+.2}{clipped}", state.sum + 0.0),
    })
}

/// What an input says, and its part where that is not all of it.
fn said(compiled: &Compiled, snapshot: &Snapshot, share: &Share) -> Option<String> {
    let (input, is) = (compiled.rig.inputs.get(share.input)?, snapshot.inputs.get(share.input)?);
    let raw = match (is.as_if, is.counts) {
        (Some(_), Some(raw)) => {
            let percent = compiled.plan.inputs.get(share.input)?.share_at(raw) * 100.0;
            format!("as if at {percent:.0} %")
        }
        (Some(_), None) => "as if, –".to_owned(),
        (None, Some(raw)) => format!("{}", (raw * 100.0).round() / 100.0 + 0.0),
        (None, None) => "–".to_owned(),
    };
    let out = if is.stages.clipped == 0.0 {
        String::new()
    } else {
        format!(" ({} its span)", if is.stages.clipped > 0.0 { "beyond" } else { "below" })
    };
    let weight = if share.is_whole() { String::new() } else { format!(" × {}", share.weight + 0.0) };
    Some(format!("{} {raw}{out}{weight}", input.name))
}

/// Which of its links are not heard, each with the inputs that are needed of it.
fn silent(compiled: &Compiled, snapshot: &Snapshot, plan: &MappingPlan) -> Option<String> {
    let needed = compiled.plan.inputs_of(plan).filter_map(|input| compiled.index.inputs.place(input));
    let (mut links, mut gone): (Vec<(usize, Vec<&str>)>, Vec<String>) = (Vec::new(), Vec::new());
    for input in needed.filter(|input| snapshot.inputs.get(*input).is_some_and(|state| !state.live)) {
        let name = compiled.rig.inputs.get(input)?.name.as_str();
        let from = match snapshot.inputs.get(input)?.as_if {
            // What stands in for it is not heard: then it is that one's link that is silent.
            Some(AsIf::Like(other)) => compiled.index.inputs.place(other),
            _ => Some(input),
        };
        let Some(from) = from else {
            gone.push(format!("the input that stood in for {name} is gone"));
            continue;
        };
        let link = compiled.plan.inputs.get(from)?.link;
        match links.iter_mut().find(|(own, _)| *own == link) {
            Some((_, inputs)) => inputs.push(name),
            None => links.push((link, vec![name])),
        }
    }
    let words = |(link, inputs): &(usize, Vec<&str>)| {
        let (health, name) = (snapshot.links.get(*link)?.health, &compiled.rig.links.get(*link)?.name);
        // A link may be heard while one of its channels has said nothing yet.
        let how = if health.is_heard() { "which has not reported it yet" } else { health.word() };
        Some(format!("{} over {name}, {how}", inputs.join(", ")))
    };
    gone.extend(links.iter().map(words).collect::<Option<Vec<_>>>()?);
    Some(gone.join("; "))
}

/// The limit or endpoint that holds it back from its target.
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
