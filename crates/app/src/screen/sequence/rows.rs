//! The rows of Sequence: the picked step by what it does, the loop around it, and the sequence itself.

use super::state::STEP;
use super::{acts, steps};
use crate::screen::context::Context;
use crate::screen::dialog::{Dialog, Purpose};
use crate::screen::entry;
use crate::screen::rows::{ANGLE, Holds, LEVEL, RATE_LEVEL, Row, Set, TEMPO, TIME, Unit};
use crate::screen::scene::Scene;
use crate::screen::step::{moved, wrapped};
use crate::screen::typing::Typing;
use wasvolta_core::range;
use wasvolta_core::rig::edit::sequences as edit;
use wasvolta_core::rig::{AtEnd, Layer, Sequence};
use wasvolta_core::unit::{Degrees, Percent, Seconds};

const TENS: [f64; 6] = [0.5, 1.0, 1.0, 5.0, 5.0, 20.0];

/// A speed of a joint.
static SPEED: Unit = Unit {
    steps: [1.0, 1.0, 2.0, 5.0, 10.0, 20.0],
    show: |value| format!("{value:.1} °/s"),
    read: |text| {
        entry::plain(text.trim().trim_end_matches("/s").trim_end_matches('°').trim_end_matches("deg"))
    },
    range: &range::SPEED,
};

/// How hard a joint speeds up.
static ACCELERATION: Unit = Unit {
    steps: [10.0, 10.0, 20.0, 50.0, 100.0, 200.0],
    show: |value| format!("{value:.0} °/s²"),
    read: |text| {
        entry::plain(text.trim().trim_end_matches("/s²").trim_end_matches("/s2").trim_end_matches('°'))
    },
    range: &range::ACCELERATION,
};

/// A share of a move's time.
static SHARE: Unit =
    Unit { steps: TENS, show: |value| format!("{value:.0} %"), read: percent, range: &range::MOVE_PERCENT };

/// A threshold of a shaped value.
static THRESHOLD: Unit = Unit {
    steps: [0.01, 0.01, 0.02, 0.05, 0.1, 0.2],
    show: |value| format!("{value:+.2}"),
    read: entry::plain,
    range: &range::THRESHOLD,
};

/// The most that is added to an angle.
static ADDED: Unit = Unit {
    steps: [0.1, 0.5, 0.5, 1.0, 2.0, 5.0],
    show: |value| format!("{value:.1}°"),
    read: |text| entry::angle(text).map(Degrees::get),
    range: &range::ADDED,
};

fn percent(text: &str) -> Result<f64, String> {
    entry::plain(text.trim().trim_end_matches('%').trim_end())
}

/// In the order in which they are drawn. A row a line or two, as a table is.
#[rustfmt::skip]
static ROWS: &[Row] = &[
    Row::choice("", "sequence", which, acts::next_sequence),
    Row::number("", "look at", |_| &TIME, |scene| Some(scene.model.in_sequence.time), Set::By(acts::look_at)),
    Row::choice("", "step", step, acts::step_by).typed(acts::go_to_step),
    Row::choice("", "pose", |s| acts::present_step(s).and_then(|step| step.pose.clone()).unwrap_or_default(), steps::next_pose).typed(steps::set_pose).when(steps::is_pose),
    Row::choice("", "timed by", steps::timed, steps::next_timed).when(steps::is_pose),
    Row::number("", "move", |_| &TIME, steps::written_move, Set::By(steps::set_move)).when(steps::by_time),
    Row::number("", "speed", |_| &SPEED, |s| Some(acts::present_step(s)?.speed_deg_s?.get()), Set::By(steps::set_speed)).when(steps::by_speed),
    Row::number("", "dwell", |_| &TIME, |s| Some(acts::present_step(s)?.dwell_s.get()), Set::By(steps::set_dwell)).when(steps::is_pose),
    Row::choice("", "easing", |s| acts::present_step(s).map_or("–", |step| step.easing.name()).to_owned(), steps::next_easing).when(steps::is_pose),
    Row::number("", "ramps", |_| &ACCELERATION, |s| Some(acts::present_step(s)?.accel_deg_s2?.get()), Set::By(steps::set_acceleration)).or("a quarter each").when(|s| steps::is_pose(s) && acts::present_step(s).is_some_and(|step| step.easing == wasvolta_core::easing::Easing::Trapezoid)),
    Row::choice("", "plays", steps::called, steps::next_called).when(steps::is_call),
    Row::choice("", "with", steps::given, steps::next_given).typed(steps::set_given).when(steps::has_given),
    Row::choice("", "waits for", steps::awaited, steps::next_awaited).typed(steps::set_awaited).when(steps::is_wait),
    Row::number("", "threshold", |_| &THRESHOLD, steps::threshold, Set::By(steps::set_threshold)).when(steps::has_threshold),
    Row::number("", "held for", |_| &TIME, |s| Some(steps::wait(s)?.held_s.get()), Set::By(steps::set_held)).when(steps::may_last),
    Row::number("", "at most", |_| &TIME, |s| Some(steps::wait(s)?.at_most_s?.get()), Set::By(steps::set_at_most)).or("as it takes").when(steps::is_wait),
    Row::choice("", "then", steps::then, steps::next_then).when(steps::has_at_most),
    Row::number("", "joint to", target_unit, steps::joint_target, Set::By(steps::set_joint_target)).or("not in the pose").when(steps::has_joint),
    Row::number("", "  later by", |_| &TIME, |s| Some(steps::lag(s)), Set::By(steps::set_lag)).when(|s| steps::has_joint(s) && steps::joint_target(s).is_some()),
    Row::number("", "  takes", |_| &SHARE, |s| Some(steps::share(s)), Set::By(steps::set_share)).when(|s| steps::has_joint(s) && steps::joint_target(s).is_some()),
    Row::choice("", "  easing", steps::joint_easing, steps::next_joint_easing).when(|s| steps::has_joint(s) && steps::joint_target(s).is_some()),
    Row::choice("", "label", steps::label, |desk, _| desk.refuse("‹go on› writes a label, or none")).typed(steps::set_label).when(|s| acts::present_step(s).is_some()),
    Row::choice("", "loop", |s| steps::the_loop(s).map_or_else(String::new, steps::rounds), steps::next_rounds).typed(steps::set_rounds).when(|s| steps::the_loop(s).is_some()),
    Row::number("", "tempo", |_| &TEMPO, |s| Some(s.sequence()?.0.tempo() * 100.0), Set::By(set_tempo)),
    Row::number("", "lead-in", |_| &TIME, |s| Some(s.sequence()?.0.lead_in_s?.get()), Set::By(set_lead_in)).or("a glide"),
    Row::choice("", "at its end", |s| s.sequence().map_or("", |(own, _)| at_end(own.at_end)).to_owned(), next_at_end),
    Row::choice("", "layer", |s| s.sequence().map_or("", |(own, _)| layer(own.layer)).to_owned(), next_layer),
    Row::number("", "adds", |_| &ADDED, |s| Some(s.sequence()?.0.at_most_deg.unwrap_or(Sequence::USUAL_ADDED).get()), Set::By(set_added)).when(|s| s.sequence().is_some_and(|(own, _)| own.layer == Layer::Added)),
];

/// The rows that are there now.
pub fn shown(scene: &Scene) -> Vec<&'static Row> {
    if scene.sequence().is_none() {
        return Vec::new();
    }
    ROWS.iter().filter(|row| (row.applies)(scene)).collect()
}

/// What the picked joint is told in a pose.
fn target_unit(scene: &Scene) -> &'static Unit {
    match scene.picked().map(|picked| picked.servo.kind) {
        Some(kind) if kind.turns_on() => &RATE_LEVEL,
        Some(kind) if !kind.has_angles() => &LEVEL,
        _ => &ANGLE,
    }
}

/// The picked row.
pub fn picked(scene: &Scene) -> Option<&'static Row> {
    let all = shown(scene);
    all.get(scene.model.in_sequence.row).or_else(|| all.get(STEP)).copied()
}

/// What stands in a row.
pub fn value(scene: &Scene, row: &Row) -> String {
    let step = acts::present_step(scene);
    let more = match row.name {
        "move" if step.is_some_and(|step| step.move_s.is_none()) => ", fastest".to_owned(),
        "move" | "dwell" => at_tempo(scene, row.name),
        "joint to" => scene.picked().map_or_else(String::new, |picked| {
            let named = steps::joint_target(scene).and_then(|angle| {
                let pulse = picked.plan.scale.as_ref()?.pulse_at(Degrees::new(angle));
                scene.rig.in_scales(picked.servo.kind, pulse).next()
            });
            let named = named.map_or_else(String::new, |named| format!(", {named}"));
            format!("{named}  {}", picked.servo.name)
        }),
        _ => String::new(),
    };
    format!("{}{more}", row.show(scene))
}

/// What a time becomes at the tempo of its sequence, where that is another.
fn at_tempo(scene: &Scene, row: &str) -> String {
    let Some(((sequence, _), (_, moves, dwells))) = scene.sequence().zip(acts::times(scene)) else {
        return String::new();
    };
    let seconds = if row == "move" { moves } else { dwells };
    // No time stays none.
    let is_other = (sequence.tempo() - 1.0).abs() > 1e-9 && seconds > 0.0;
    if is_other { format!(", {seconds:.2} s here") } else { String::new() }
}

/// Whether the arrows change it by a size.
pub const fn is_number(row: &Row) -> bool {
    matches!(row.holds, Holds::Number { .. })
}

fn which(scene: &Scene) -> String {
    let Some((sequence, _)) = scene.sequence() else { return "–".to_owned() };
    let place = scene.edition.index.sequences.place(sequence.id).unwrap_or(0);
    format!("{} ({} of {})", sequence.name, place + 1, scene.rig.sequences.len())
}

fn step(scene: &Scene) -> String {
    let steps = scene.sequence().map_or(0, |(sequence, _)| sequence.steps.len());
    let (from, to) = scene.model.in_sequence.picked();
    match steps {
        0 => "–".to_owned(),
        _ if from != to => format!("{} to {} of {steps}", from + 1, to + 1),
        _ => format!("{} of {steps}", from + 1),
    }
}

const fn at_end(at_end: AtEnd) -> &'static str {
    match at_end {
        AtEnd::Stay => "joints stay",
        AtEnd::Home => "joints are let go",
        AtEnd::Release => "pulses stop",
        AtEnd::Again => "plays again",
    }
}

const fn layer(layer: Layer) -> &'static str {
    match layer {
        Layer::Beside => "beside others",
        Layer::Over => "over others",
        Layer::Added => "added to others",
    }
}

fn change_sequence(desk: &mut Context, what: &str, change: impl FnOnce(&mut Sequence)) {
    let Some((name, _)) = acts::picked(desk) else { return };
    desk.edit(&format!("{name}: {what}"), |rig| edit::change_sequence(rig, &name, change));
}

fn set_tempo(desk: &mut Context, percent: Option<f64>) {
    let Some(percent) = percent else { return };
    let written = Some(Percent::new(percent)).filter(|_| (percent - 100.0).abs() > 1e-9);
    change_sequence(desk, &format!("tempo {percent:.0} %"), |own| own.tempo_percent = written);
}

fn set_lead_in(desk: &mut Context, seconds: Option<f64>) {
    let words = seconds.map_or_else(|| "led in by a glide".to_owned(), |s| format!("led in in {s:.2} s"));
    change_sequence(desk, &words, |own| own.lead_in_s = seconds.map(Seconds::new));
}

fn next_at_end(desk: &mut Context, by: isize) {
    let now = desk.model.scene(desk.session).sequence().map(|(own, _)| own.at_end).unwrap_or_default();
    let here = AtEnd::ALL.iter().position(|one| *one == now).unwrap_or(0);
    let next = AtEnd::ALL.get(wrapped(here, by, AtEnd::ALL.len())).copied().unwrap_or_default();
    change_sequence(desk, &format!("at its end {}", at_end(next)), |own| own.at_end = next);
}

fn next_layer(desk: &mut Context, by: isize) {
    let now = desk.model.scene(desk.session).sequence().map(|(own, _)| own.layer).unwrap_or_default();
    let here = Layer::ALL.iter().position(|one| *one == now).unwrap_or(0);
    let next = Layer::ALL.get(wrapped(here, by, Layer::ALL.len())).copied().unwrap_or_default();
    change_sequence(desk, &format!("plays {}", layer(next)), |own| {
        own.layer = next;
        if next != Layer::Added {
            own.at_most_deg = None;
        }
    });
}

fn set_added(desk: &mut Context, most: Option<f64>) {
    let Some(most) = most else { return };
    change_sequence(desk, &format!("adds {most:.1}° at most"), |own| {
        own.at_most_deg = Some(Degrees::new(most));
    });
}

/// Changes the picked row by a step.
pub fn change(desk: &mut Context, direction: f64) {
    match picked(&desk.model.scene(desk.session)) {
        Some(row) => row.change(desk, direction),
        None => desk
            .refuse("there is no sequence yet: ‹keep pose› keeps a pose, ‹insert step› inserts it as a step"),
    }
}

/// Sets the picked row from what was typed.
///
/// # Errors
/// Says what is understood; nothing has changed then.
pub fn enter(desk: &mut Context, text: &str) -> Result<(), String> {
    match picked(&desk.model.scene(desk.session)) {
        Some(row) => row.enter(desk, text, desk.pulse_context().as_ref()),
        None => Err("there is no sequence yet: ‹keep pose› keeps a pose, ‹insert step› inserts it as a step"
            .to_owned()),
    }
}

/// Picks a row so many further down; up where that is negative.
pub fn pick_row(desk: &mut Context, by: isize) {
    let rows = shown(&desk.model.scene(desk.session)).len();
    desk.model.in_sequence.row = moved(desk.model.in_sequence.row.min(rows.saturating_sub(1)), by, rows);
}

/// Begins an entry where the picked row takes words; on any other row it opens the call that is picked, or shuts it.
pub fn write_or_open(desk: &mut Context) {
    let scene = desk.model.scene(desk.session);
    let takes_words = picked(&scene)
        .is_some_and(|row| row.name != "step" && matches!(row.holds, Holds::Choice { enter: Some(_), .. }));
    if takes_words {
        desk.model.dialog =
            Some(Dialog::Entry { purpose: Purpose::SequenceRow, typing: Typing::prefilled(String::new()) });
        return;
    }
    steps::open_call(desk);
}
