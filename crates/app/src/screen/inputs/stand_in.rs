//! What stands in for the picked input for a while: a hand on the keyboard, or a wave.

use crate::screen::context::Context;
use crate::screen::scene::Scene;
use crate::screen::step::round;
use wasvolta_core::rig::WaveShape;
use wasvolta_core::stage::{AsIf, Command};

/// What may be chosen, by what it is called.
const CHOICES: [Option<WaveShape>; 5] =
    [None, Some(WaveShape::Sine), Some(WaveShape::Ramp), Some(WaveShape::Steps), Some(WaveShape::Noise)];
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
        Some(AsIf::Wave { shape, .. }) => format!("a wave: {}", word(shape)),
    }
}

const fn word(shape: WaveShape) -> &'static str {
    match shape {
        WaveShape::Sine => "sine",
        WaveShape::Ramp => "ramp",
        WaveShape::Steps => "steps",
        WaveShape::Noise => "noise",
    }
}

/// Goes on: its link, by hand, then wave by wave.
pub fn next(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input() else { return };
    let here = present(&scene);
    // By hand is the place between its link and the waves: there it stands where it stood.
    let stood = scene.input_place().and_then(|n| {
        let span = &scene.edition.plan.inputs.get(n)?.shape.span;
        Some(span.share(scene.input_state(n)?.stages.span).clamp(0.0, 1.0))
    });
    let hand = AsIf::Hand(stood.filter(|share| share.is_finite()).unwrap_or(0.5));
    let wave = |shape| AsIf::Wave { shape, period_s: period(&scene).unwrap_or(USUAL_ROUND) };
    let next = match here {
        None if by > 0 => Some(hand),
        None => Some(wave(WaveShape::Noise)),
        Some(AsIf::Hand(_)) if by > 0 => Some(wave(WaveShape::Sine)),
        Some(AsIf::Hand(_)) => None,
        Some(AsIf::Wave { shape: WaveShape::Sine, .. }) if by < 0 => Some(hand),
        Some(AsIf::Wave { shape, .. }) => round(&CHOICES, Some(shape), by).map(wave),
    };
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
        AsIf::Wave { .. } => None,
    }
}

/// Moves it.
pub fn set_share(desk: &mut Context, percent: Option<f64>) {
    let Some((input, percent)) = desk.input().map(|input| input.id).zip(percent) else { return };
    desk.command(Command::AsIf { input, by: Some(AsIf::Hand(percent / 100.0)) });
}

/// The time of one round of the wave, in seconds.
pub fn period(scene: &Scene) -> Option<f64> {
    match present(scene)? {
        AsIf::Wave { period_s, .. } => Some(period_s),
        AsIf::Hand(_) => None,
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
    let period_s = period_s.clamp(wasvolta_core::range::PERIOD.least, wasvolta_core::range::PERIOD.greatest);
    desk.command(Command::AsIf { input, by: Some(AsIf::Wave { shape, period_s }) });
}
