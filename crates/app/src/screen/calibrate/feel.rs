//! A smart servo feels for the ends of its way itself: gently, slowly, until it is held up; what it found is proposed.

use crate::screen::context::Context;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::questions;
use crate::screen::ready::{Ready, need, servo};
use crate::screen::scene::{Picked, Scene};
use crate::screen::wiring::servo_bus;
use wasvolta_core::rig::Ends;
use wasvolta_core::rig::edit;
use wasvolta_core::unit::{Position, count16};
use wasvolta_port::board::Stand;
use wasvolta_port::smart::errand::{Feel, Felt, What};

/// How hard it pushes by default, in percent of what it can.
const PUSH: u8 = 25;
/// How fast it creeps, and how far behind it counts as held up, in degrees of its shaft.
const SPEED_DEG_S: f64 = 15.0;
const BEHIND_DEG: f64 = 3.0;
/// How far inside what it felt its endpoints are proposed, in degrees of its shaft.
const MARGIN_DEG: f64 = 2.0;

questions! {
    FEEL("feel for ends") => |desk, about, form| asked(desk, about, form);
    FEEL_LOADED("feel with a load", label: "feel", words: |_, form| {
        format!(
            "{} carries something: pushing this gently it may not hold it, and at the end it is limp and sags. Hold what it \
             carries; Enter begins, any key stops it.",
            form.subject.of
        )
    }) => |desk, about, _| begin(desk, about);
    FELT("keep felt ends", label: "endpoints", words: |_, form| form.subject.words.clone()) => |desk, about, _| {
        let (low, high) = about.with.split_once(' ').ok_or("the ends are lost")?;
        let end = |word: &str| word.parse().map(Position::new).map_err(|_| "the ends are lost".to_owned());
        let ends = Ends { low: end(low)?, high: end(high)? };
        let words = format!("endpoints {low} and {high} counts, as felt");
        desk.done(&words, |rig| edit::set_endpoints(rig, &about.of, ends))
    };
}

/// A limp smart servo that says where it is.
pub fn feelable(scene: &Scene) -> Ready {
    servo(scene)?;
    let Some(picked) = scene.picked() else { return Ok(()) };
    need(picked.servo.kind.is_smart(), "only a smart servo can feel for its ends: it reports where it is")?;
    need(!picked.state.engaged, "make it limp first: ‹release›")?;
    let limp = picked.feedback.is_some_and(|own| own.stand == Stand::Limp);
    need(limp && picked.measured().is_some(), "it has not said that it is limp, and where")
}

/// Asks how hard it may push.
pub fn ask(desk: &mut Context) {
    let Some(name) = desk.servo().map(|servo| servo.name.clone()) else { return };
    let fields = vec![
        Field::new("push", format!("{PUSH}%"), "torque limit, 5 to 60 % of what it can"),
        Field::new(
            "inside",
            format!("{MARGIN_DEG}deg"),
            "how far inside the felt ends the endpoints should be",
        ),
    ];
    desk.ask(FEEL.name, Subject::of(&name), fields);
}

fn number(said: Option<&str>, unit: &str, range: std::ops::RangeInclusive<f64>) -> Result<f64, String> {
    let said = said.unwrap_or_default();
    let number: f64 =
        said.trim_end_matches(unit).trim().parse().map_err(|_| format!("{said:?} is not a number"))?;
    if range.contains(&number) {
        return Ok(number);
    }
    Err(format!("{said} is outside {} to {} {unit}", range.start(), range.end()))
}

fn asked(desk: &mut Context, about: &Subject, form: &Form) -> Result<String, String> {
    let push = number(form.said("push"), "%", 5.0..=60.0)?;
    let inside = number(form.said("inside"), "deg", 0.0..=20.0)?;
    let about = Subject { with: format!("{push} {inside}"), ..about.clone() };
    let rig = &desk.session.document.rig;
    if rig.joint_of(&about.of).is_some_and(|joint| joint.loaded) {
        desk.ask(FEEL_LOADED.name, about, Vec::new());
        return Ok(String::new());
    }
    begin(desk, &about)
}

fn begin(desk: &mut Context, about: &Subject) -> Result<String, String> {
    let (push, _) = two(&about.with)?;
    let scene = desk.model.scene(desk.session);
    let place = scene.rig.servos.iter().position(|servo| servo.name == about.of);
    let picked = place.and_then(|n| scene.servo(n)).ok_or("it is gone")?;
    let layout = picked.layout.ok_or("its layout is gone")?;
    let counts = |degrees: f64| count16(degrees * layout.counts_a_degree());
    let last = count16(f64::from(layout.steps - 1));
    // Its own limits hold: what is told beyond them it refuses.
    let own = picked.feedback.and_then(|own| own.limits);
    let within =
        own.map_or((0, last), |(low, high)| (count16(f64::from(low)), count16(f64::from(high)).min(last)));
    let what = Feel {
        id: picked.servo.plug(),
        push: u8::try_from(count16(push)).unwrap_or(PUSH),
        speed: counts(SPEED_DEG_S),
        behind: counts(BEHIND_DEG),
        within,
    };
    let board = picked.board.name.clone();
    servo_bus::lend(desk, &board, What::Feel(what))?;
    desk.model.in_wiring.feels = Some(about.clone());
    // What it does is said while it does it.
    Ok(String::new())
}

fn two(said: &str) -> Result<(f64, f64), String> {
    let parts = said.split_once(' ').and_then(|(a, b)| Some((a.parse().ok()?, b.parse().ok()?)));
    parts.ok_or_else(|| format!("{said:?} was not understood"))
}

/// Proposes what was felt, once it was.
pub fn propose(desk: &mut Context) {
    if !servo_bus::has_felt(desk) {
        return;
    }
    let Some(about) = desk.model.in_wiring.feels.take() else { return };
    let felt = desk.model.in_wiring.lent.as_ref().map(|lent| lent.errand.said().feels);
    let Some(Felt { low: Some(low), high: Some(high), .. }) = felt else { return };
    let inside = two(&about.with).map_or(MARGIN_DEG, |(_, inside)| inside);
    let scene = desk.model.scene(desk.session);
    let place = scene.rig.servos.iter().position(|servo| servo.name == about.of);
    let Some(layout) = place.and_then(|n| scene.servo(n)).and_then(|picked| picked.layout) else { return };
    let margin = inside * layout.counts_a_degree();
    let by = |held: bool| if held { "held up" } else { "the end of its endpoints" };
    let (a, b) = ((f64::from(low.0) + margin).ceil(), (f64::from(high.0) - margin).floor());
    if a >= b {
        return desk.refuse(&format!(
            "{} felt {} to {} counts, and has no room to move between them",
            about.of, low.0, high.0
        ));
    }
    let words = format!(
        "{} felt {} counts ({}) and {} counts ({}). Endpoints {inside}° inside: {a} and {b} counts? Enter keeps them.",
        about.of,
        low.0,
        by(low.1),
        high.0,
        by(high.1)
    );
    desk.ask(FELT.name, Subject { words, with: format!("{a} {b}"), of: about.of }, Vec::new());
}

/// What is said while it feels.
pub fn words(scene: &Scene, picked: &Picked) -> Option<String> {
    let lent = scene.model.in_wiring.lent.as_ref().filter(|lent| !lent.errand.is_over())?;
    let What::Feel(feel) = lent.errand.what else { return None };
    if feel.id != picked.servo.plug() || lent.board != picked.board.id {
        return None;
    }
    let said = lent.errand.said().feels;
    let end = |end: Option<(u16, bool)>| end.map_or_else(|| "…".to_owned(), |(at, _)| format!("{at} counts"));
    Some(format!(
        "{} feels for its ends at {} % of its push: low {}, high {}. Any key stops it.",
        picked.servo.name,
        feel.push,
        end(said.low),
        end(said.high)
    ))
}
