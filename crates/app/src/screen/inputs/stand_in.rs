//! What stands in for the picked input for a while: a hand on the keyboard, a keyboard's fader, or a wave.

use crate::screen::context::Context;
use crate::screen::scene::Scene;
use crate::screen::step::wrapped;
use wasvolta_core::range::PERIOD;
use wasvolta_core::rig::{Input, Protocol, WaveShape};
use wasvolta_core::stage::{AsIf, Command};

/// The time of one round at first, in seconds.
const USUAL_ROUND: f64 = 4.0;

fn present(scene: &Scene) -> Option<AsIf> {
    scene.input_state(scene.input_place()?)?.as_if
}

/// How it stands.
pub fn show(scene: &Scene) -> String {
    match present(scene) {
        None => "its link".to_owned(),
        Some(AsIf::Hand(_)) => "by hand, whatever its link says".to_owned(),
        Some(AsIf::Like(_)) => like(scene).map_or_else(
            || "nothing: the input that stood in for it is gone".to_owned(),
            |other| format!("as {other} stands; ‹play faders› moves that"),
        ),
        Some(AsIf::Wave { shape, .. }) => format!("a wave: {}", shape.word()),
    }
}

/// The name of the input that stands in for the picked one.
pub fn like<'a>(scene: &Scene<'a>) -> Option<&'a str> {
    let AsIf::Like(other) = present(scene)? else { return None };
    scene.rig.inputs.iter().find(|input| input.id == other).map(|input| input.name.as_str())
}

/// All that may be chosen: its link, a hand, each fader of a keyboard, each wave.
fn choices(scene: &Scene, input: &Input) -> Vec<Option<AsIf>> {
    // By hand it stands where it stood.
    let stood = scene.input_place().and_then(|n| {
        let span = &scene.edition.plan.inputs.get(n)?.shape.span;
        Some(span.share(scene.input_state(n)?.stages.span).clamp(0.0, 1.0))
    });
    let hand = AsIf::Hand(stood.filter(|share| share.is_finite()).unwrap_or(0.5));
    let from_keys = |other: &&Input| {
        let link = scene.rig.links.iter().find(|link| link.name == other.link);
        other.id != input.id && link.and_then(|link| scene.rig.protocol_of(link)) == Some(Protocol::Keys)
    };
    let keys = scene.rig.inputs.iter().filter(from_keys).map(|other| AsIf::Like(other.id));
    let period_s = period(scene).unwrap_or(USUAL_ROUND);
    let waves = WaveShape::ALL.map(|shape| AsIf::Wave { shape, period_s });
    std::iter::once(None).chain([hand].into_iter().chain(keys).chain(waves).map(Some)).collect()
}

/// Whether two are the same choice, wherever each stands.
fn alike(one: Option<AsIf>, other: Option<AsIf>) -> bool {
    match (one, other) {
        (Some(AsIf::Hand(_)), Some(AsIf::Hand(_))) => true,
        (Some(AsIf::Wave { shape, .. }), Some(AsIf::Wave { shape: other, .. })) => shape == other,
        (one, other) => one == other,
    }
}

/// Goes on to the next, round and round.
pub fn next(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input() else { return };
    let (choices, here) = (choices(&scene, input), present(&scene));
    let at = choices.iter().position(|one| alike(*one, here)).unwrap_or(0);
    let next = choices.get(wrapped(at, by, choices.len())).copied().flatten();
    let (id, name) = (input.id, input.name.clone());
    desk.command(Command::AsIf { input: id, by: next });
    match next {
        None => desk.say(&format!("{name} is what its link says again")),
        Some(_) => desk.say(&format!("{name} reads as if it were moved, whatever its link says")),
    }
}

/// It is moved by hand.
pub fn by_hand(scene: &Scene) -> bool {
    matches!(present(scene), Some(AsIf::Hand(_)))
}

/// It moves by a wave.
pub fn by_wave(scene: &Scene) -> bool {
    matches!(present(scene), Some(AsIf::Wave { .. }))
}

/// Where the hand has it, in percent.
pub fn share(scene: &Scene) -> Option<f64> {
    match present(scene)? {
        AsIf::Hand(share) => Some((share * 1e4).round() / 100.0),
        AsIf::Wave { .. } | AsIf::Like(_) => None,
    }
}

pub fn set_share(desk: &mut Context, percent: Option<f64>) {
    let Some((input, percent)) = desk.input().map(|input| input.id).zip(percent) else { return };
    desk.command(Command::AsIf { input, by: Some(AsIf::Hand(percent / 100.0)) });
}

/// The time of one round of the wave, in seconds.
pub fn period(scene: &Scene) -> Option<f64> {
    match present(scene)? {
        AsIf::Wave { period_s, .. } => Some(period_s),
        AsIf::Hand(_) | AsIf::Like(_) => None,
    }
}

/// Lets the wave go round in another time.
pub fn set_period(desk: &mut Context, period: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let (Some(AsIf::Wave { shape, .. }), Some(period_s), Some(input)) =
        (present(&scene), period, desk.input().map(|input| input.id))
    else {
        return;
    };
    let period_s = period_s.clamp(PERIOD.least, PERIOD.greatest);
    desk.command(Command::AsIf { input, by: Some(AsIf::Wave { shape, period_s }) });
}
