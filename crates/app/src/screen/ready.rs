//! What keeps an action from being done now, in words that say what to do.

use super::scene::Scene;
use wasvolta_core::rig::Protocol;
use wasvolta_core::stage::Output;
use wasvolta_port::board::Phase;

/// What keeps an action from being done now, in words; `Ok` when nothing does.
pub type Ready = Result<(), &'static str>;

/// Nothing keeps it from being done.
#[expect(clippy::unnecessary_wraps, reason = "one of the answers that the table's column holds")]
pub fn always(_: &Scene) -> Ready {
    Ok(())
}

/// A condition, with the words where it does not hold.
pub fn need(holds: bool, words: &'static str) -> Ready {
    if holds { Ok(()) } else { Err(words) }
}

/// There is a servo.
pub fn servo(scene: &Scene) -> Ready {
    need(scene.picked().is_some(), "this rig has no servo yet: ‹add servo› adds one")
}

/// Neither cut nor held.
pub fn free(scene: &Scene) -> Ready {
    match scene.model.snapshot.output {
        Output::Cut => Err("output is cut: ‹drive on› enables it again"),
        Output::Held => Err("output is held: ‹drive on› drives on"),
        Output::Off | Output::Driving => Ok(()),
    }
}

/// The picked servo gets pulses, and the output is free.
pub fn engaged(scene: &Scene) -> Ready {
    free(scene)?;
    let smart = scene.picked().is_some_and(|p| p.servo.kind.is_smart());
    let words = if smart {
        "it is not driven, so it cannot move: ‹engage› makes it stiff"
    } else {
        "it gets no pulses, so it cannot move: engage it with ‹engage›"
    };
    need(scene.picked().is_some_and(|p| p.state.engaged), words)
}

/// There is a servo that gets none.
pub fn released(scene: &Scene) -> Ready {
    servo(scene)?;
    free(scene)?;
    need(scene.picked().is_some_and(|p| !p.state.engaged), "it is engaged already; ‹release› releases it")
}

/// What is said of horns, angles and joints is said of positional servos.
pub fn positional(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.picked().is_none_or(|p| p.servo.kind.has_angles()), "it has a level, not angles")
}

/// What is counted in ticks of a clock: what a smart servo is told is not.
pub fn clocked(scene: &Scene) -> Ready {
    servo(scene)?;
    need(
        scene.picked().is_none_or(|p| p.clock().is_some()),
        "a smart servo gets counts: there is no clock to correct",
    )
}

/// Has angles, and what it is told is counted in ticks.
pub fn clocked_positional(scene: &Scene) -> Ready {
    positional(scene)?;
    clocked(scene)
}

/// What has servo pulses: no lamp or relay.
pub fn pulsed(scene: &Scene) -> Ready {
    engaged(scene)?;
    let accessory = scene.picked().is_some_and(|p| p.servo.kind.is_accessory());
    need(!accessory, "it gets no servo pulses but a share of each frame")
}

/// What gets servo pulses, whether engaged or not.
pub fn pulse_part(scene: &Scene) -> Ready {
    servo(scene)?;
    let accessory = scene.picked().is_some_and(|p| p.servo.kind.is_accessory());
    need(!accessory, "it gets no servo pulses but a share of each frame")
}

/// It turns a joint.
pub fn jointed(scene: &Scene) -> Ready {
    positional(scene)?;
    need(scene.picked().is_some_and(|p| p.joint.is_some()), "it turns no joint")
}

/// A linkage is between servo and joint.
pub fn linked(scene: &Scene) -> Ready {
    let linked = scene.picked().is_some_and(|p| p.through.linkage().is_some());
    need(linked, "there is no linkage: ‹linkage› puts one between servo and joint")
}

/// A mark is picked.
pub fn mark_picked(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.model.in_calibrate.mark.is_some(), "no mark is picked: ‹row above› ‹row below› pick one")
}

/// A mark is picked that one can go to.
pub fn mark_picked_engaged(scene: &Scene) -> Ready {
    mark_picked(scene)?;
    engaged(scene)
}

/// A continuous servo that gets pulses.
pub fn continuous_engaged(scene: &Scene) -> Ready {
    continuous(scene)?;
    engaged(scene)
}

/// A positional servo that gets none: its horn may be put on.
pub fn horn_off(scene: &Scene) -> Ready {
    positional(scene)?;
    released(scene)
}

/// A positional servo that gets pulses.
pub fn positional_engaged(scene: &Scene) -> Ready {
    positional(scene)?;
    engaged(scene)
}

/// A continuous servo.
pub fn continuous(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.picked().is_some_and(|p| p.servo.kind.turns_on()), "it is not continuous; ‹kind› makes it so")
}

/// It has a fit, and a joint.
pub fn fitted(scene: &Scene) -> Ready {
    positional(scene)?;
    need(
        scene.picked().is_some_and(|p| p.plan.scale.is_some() && p.joint.is_some()),
        "it has no angles yet: keep two marks with ‹mark›",
    )
}

/// What a calibration sheet has something to say of.
pub fn charted(scene: &Scene) -> Ready {
    let turns = scene.picked().is_some_and(|p| p.servo.kind.turns_on());
    if turns { continuous(scene) } else { fitted(scene) }
}

/// It gets pulses, and has a fit.
pub fn engaged_and_fitted(scene: &Scene) -> Ready {
    engaged(scene)?;
    fitted(scene)
}

/// What is read off a horn that still moves is not where it stands.
pub fn standing(scene: &Scene) -> Ready {
    positional_engaged(scene)?;
    still(scene)
}

/// Why something is not taken from where a servo is.
pub const STILL_MOVES: &str = "it still moves: wait until the horn stands";

pub fn still(scene: &Scene) -> Ready {
    let stands = scene.picked().is_some_and(|p| !p.state.engaged || (scene.heard && p.stands()));
    need(stands, STILL_MOVES)
}

/// It gets servo pulses, and stands.
pub fn pulsed_standing(scene: &Scene) -> Ready {
    pulsed(scene)?;
    still(scene)
}

/// It has a fit, and stands.
pub fn fitted_standing(scene: &Scene) -> Ready {
    fitted(scene)?;
    still(scene)
}

/// It gets pulses, has a fit, and stands.
pub fn engaged_standing(scene: &Scene) -> Ready {
    engaged_and_fitted(scene)?;
    still(scene)
}

/// Also while the output is held: what stands may be let go.
pub fn pulsing(scene: &Scene) -> Ready {
    need(scene.picked().is_some_and(|p| p.state.engaged), "it is released already")
}

/// What is plugged elsewhere, or taken out, must not be getting pulses.
pub fn unpulsed(scene: &Scene) -> Ready {
    servo(scene)?;
    need(scene.picked().is_some_and(|p| !p.state.engaged), "it is engaged: release it first with ‹release›")
}

/// There is a board.
pub fn boarded(scene: &Scene) -> Ready {
    need(!scene.rig.boards.is_empty(), "this rig has no board: ‹add board› in ‹Wiring› adds one")
}

/// The output drives.
pub fn driving(scene: &Scene) -> Ready {
    need(scene.model.snapshot.output == Output::Driving, "nothing is being driven")
}

/// The output was held or cut.
pub fn stopped(scene: &Scene) -> Ready {
    need(
        matches!(scene.model.snapshot.output, Output::Held | Output::Cut),
        "the output is neither held nor cut; ‹engage› engages a servo",
    )
}

/// It has a mark.
pub fn marked(scene: &Scene) -> Ready {
    need(scene.picked().is_some_and(|p| !p.servo.marks.is_empty()), "it has no mark to drop")
}

/// The picked sequence has a step.
pub fn playable(scene: &Scene) -> Ready {
    need(
        scene.sequence().is_some_and(|(_, line)| !line.steps.is_empty()),
        "there is no step to play: ‹keep pose› keeps a pose, ‹insert step› inserts it as a step",
    )
}

/// A sequence is played, or stands.
pub fn playing(scene: &Scene) -> Ready {
    need(scene.model.snapshot.players.last().is_some(), "nothing is being played")
}

/// There is a step.
pub fn stepped(scene: &Scene) -> Ready {
    need(scene.sequence().is_some_and(|(s, _)| !s.steps.is_empty()), "there is no step")
}

/// There is a scale from other code.
pub fn scaled(scene: &Scene) -> Ready {
    need(!scene.rig.scales.is_empty(), "there is no scale: ‹name a scale› describes one")
}

/// There are several.
pub fn scales_differ(scene: &Scene) -> Ready {
    need(scene.rig.scales.len() > 1, "there is only one scale: ‹name a scale› describes another")
}

/// There is a pose.
pub fn posed(scene: &Scene) -> Ready {
    need(!scene.rig.poses.is_empty(), "there is no pose yet: ‹keep pose› keeps one")
}

/// There is a pose, and the output is free.
pub fn posed_and_free(scene: &Scene) -> Ready {
    posed(scene)?;
    free(scene)
}

/// Something is engaged that a pose can speak of.
pub fn keepable(scene: &Scene) -> Ready {
    let mut parts = (0..scene.rig.servos.len()).filter_map(|n| scene.servo(n));
    let keeps = parts.any(|part| part.standing().is_some() && scene.rig.spoken_name(part.servo).is_some());
    need(keeps, "no engaged joint has angles: there is nothing to keep; ‹engage› engages, ‹mark› marks")
}

/// There is a sequence.
pub fn sequenced(scene: &Scene) -> Ready {
    need(scene.sequence().is_some(), "there is no sequence yet: ‹new sequence› begins one")
}

/// There is an input.
pub fn input(scene: &Scene) -> Ready {
    need(scene.input().is_some(), "this rig has no input: add one to its file")
}

/// There is an input, and a joint to tie it to.
pub fn tieable(scene: &Scene) -> Ready {
    input(scene)?;
    servo(scene)?;
    // What has a level needs no marks to be told one.
    if scene.picked().is_some_and(|picked| !picked.servo.kind.has_angles()) { Ok(()) } else { fitted(scene) }
}

/// The picked input moves something.
pub fn mapped(scene: &Scene) -> Ready {
    need(scene.mapping().is_some(), "this input moves nothing yet: ‹tie› ties it to the picked joint")
}

/// The input is heard: where it stands is known.
pub fn stands(scene: &Scene) -> Ready {
    let live = scene.input_place().and_then(|n| scene.input_state(n)).is_some_and(|state| state.live);
    need(live, "the input is not heard, and so stands nowhere")
}

/// The picked input is a switch.
pub fn is_switch(scene: &Scene) -> Ready {
    input(scene)?;
    need(
        scene.input().is_some_and(|input| input.switch.is_some()),
        "it is not a switch: ‹switch› makes it one, and ‹watch› watches it",
    )
}

/// The input's transmitter is simulated.
pub fn transmitter(scene: &Scene) -> Ready {
    let linked = scene.input().and_then(|input| scene.link_of(input));
    let is_radio = linked.is_some_and(|linked| linked.protocol.row().is_radio);
    need(scene.sender.is_some() && is_radio, "this input does not come from a simulated radio")
}

/// There is a link.
pub fn has_link(scene: &Scene) -> Ready {
    need(!scene.rig.links.is_empty(), "this rig has no link yet: ‹add link› adds one")
}

/// The picked input rests elsewhere than it was learned.
pub fn rest_moved(scene: &Scene) -> Ready {
    let moved = scene.input().and_then(|input| scene.model.in_inputs.rests.moved(input.id));
    need(moved.is_some(), "it rests where it was learned, as far as was seen")
}

/// There is a link from the keyboard.
pub fn keyboard(scene: &Scene) -> Ready {
    let any = scene.rig.links.iter().any(|link| scene.rig.protocol_of(link) == Some(Protocol::Keys));
    need(any, "this rig has no keyboard faders: ‹add link› adds a link, on keys")
}

/// What sends the input is simulated.
pub fn sender(scene: &Scene) -> Ready {
    need(scene.sender.is_some(), "this input is not simulated")
}

/// A servo on the picked channel; one that is released is asked about first.
pub fn wigglable(scene: &Scene) -> Ready {
    need(
        scene.plug().is_some_and(|(_, _, servo)| servo.is_some()),
        "no servo is on this channel: ‹add servo› adds one",
    )?;
    free(scene)
}

/// Something is simulated.
pub fn simulated(scene: &Scene) -> Ready {
    need(scene.simulated, "nothing is simulated here")
}

/// A board waits for the maker's word.
pub fn found(scene: &Scene) -> Ready {
    let asks =
        |(_, state): (_, &wasvolta_engine::snapshot::BoardState)| matches!(state.phase, Phase::Asking(_));
    let any = scene.edition.boards(&scene.model.snapshot).any(asks);
    need(any, "no board was found with pulses that nobody here has sent")
}

/// Time passes by hand.
pub fn by_hand(scene: &Scene) -> Ready {
    need(scene.by_hand, "time passes by itself here; --clock manual passes it by hand")
}
