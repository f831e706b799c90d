//! What the picked input moves: which mapping is looked at, its goal, its course, when it holds, and what a press does.

use crate::screen::context::Context;
use crate::screen::entry;
use crate::screen::inputs::told::Told;
use crate::screen::pick::Pick;
use crate::screen::scene::Scene;
use crate::screen::step::{moved, round};
use wasvolta_core::rig::edit::mappings as edit;
use wasvolta_core::rig::switch::standing;
use wasvolta_core::rig::{
    Does, Failsafe, Goal, GoalKind, Mapping, Press, Rig, Switch, Take, WhenLost, While,
};
use wasvolta_core::unit::{Percent, Seconds};

/// The time of a failsafe that nothing was said of.
const USUAL_FAILSAFE: Seconds = Seconds::new(0.8);

/// Changes the picked mapping.
pub fn change(desk: &mut Context, what: &str, change: impl FnOnce(&mut Mapping)) {
    let Some(name) = desk.model.scene(desk.session).mapping().map(|mapping| mapping.name.clone()) else {
        return;
    };
    desk.edit(&format!("{name}: {what}"), |rig| edit::change(rig, &name, change));
}

fn kind(scene: &Scene) -> Option<GoalKind> {
    scene.mapping()?.to.kind()
}

/// A mapping in a few words.
pub fn words(mapping: &Mapping) -> String {
    let goal = &mapping.to;
    let what = match goal.kind() {
        Some(GoalKind::Blend) => format!("blends {}", goal.blend.join("–")),
        Some(GoalKind::Toggle) => format!("toggles {}", goal.toggle.join(" and ")),
        Some(GoalKind::Rate) => format!("turns {}", goal.name().unwrap_or_default()),
        Some(GoalKind::Tempo) => "sets the tempo of what plays".to_owned(),
        Some(GoalKind::Place) => format!("sets the place in {}", goal.place.as_deref().unwrap_or_default()),
        _ => goal.name().unwrap_or_default().to_owned(),
    };
    let course = match goal.kind() {
        Some(GoalKind::Joint) if goal.points.is_empty() && goal.ends().is_none() => " by degrees",
        _ if !goal.points.is_empty() => " by points",
        _ => "",
    };
    format!("{what}{course}")
}

/// A mapping as what an input does.
pub fn drives(mapping: &Mapping) -> String {
    let words = words(mapping);
    let sways = |kind| matches!(kind, GoalKind::Tempo | GoalKind::Place);
    if mapping.to.kind().is_some_and(|kind| kind.has_poses() || sways(kind)) || mapping.to.rate.is_some() {
        words
    } else {
        format!("drives {words}")
    }
}

/// Which mapping, of how many.
pub fn which(scene: &Scene) -> String {
    let Some(mapping) = scene.mapping() else { return "–".to_owned() };
    let all = scene.mappings();
    let place = all.iter().position(|own| own.id == mapping.id).unwrap_or(0);
    let of = if all.len() > 1 { format!(" ({} of {})", place + 1, all.len()) } else { String::new() };
    let what = words(mapping);
    // A mapping is mostly called as what it moves.
    if what.starts_with(&mapping.name) {
        format!("{what}{of}")
    } else {
        format!("{}: {what}{of}", mapping.name)
    }
}

/// Looks at another mapping of the input.
pub fn next_mapping(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let all: Vec<_> = scene.mappings().iter().map(|own| own.id).collect();
    let Some(here) = scene.mapping().map(|own| own.id) else { return };
    let at = all.iter().position(|id| *id == here).unwrap_or(0);
    let Some(next) = all.get(moved(at, by, all.len())).copied() else { return };
    pick(desk, |mapping| mapping.id == next);
}

/// Picks a mapping.
pub fn pick(desk: &mut Context, is: impl Fn(&Mapping) -> bool) {
    let mappings = &desk.session.document.rig.mappings;
    if let Some(place) = mappings.iter().position(is) {
        desk.model.in_inputs.mapping = Pick::at(mappings, place);
        desk.model.in_inputs.point = 0;
    }
}

/// Picks the mapping that came last.
pub fn pick_last(desk: &mut Context) {
    let mappings = &desk.session.document.rig.mappings;
    desk.model.in_inputs.mapping = Pick::at(mappings, mappings.len());
    desk.model.in_inputs.point = 0;
}

/// The weight of the picked input in it.
pub fn weight(scene: &Scene) -> Option<f64> {
    scene.mapping()?.from.get(&scene.input()?.name).copied()
}

/// The input has a share in it, and is not only its switch; of a toggle the share says nothing.
pub fn has_weight(scene: &Scene) -> bool {
    weight(scene).is_some() && kind(scene) != Some(GoalKind::Toggle)
}

/// Gives the picked input another weight.
pub fn set_weight(desk: &mut Context, weight: Option<f64>) {
    let scene = desk.model.scene(desk.session);
    let (Some(input), Some(mapping), Some(weight)) = (scene.input(), scene.mapping(), weight) else { return };
    let (input, mapping) = (input.name.clone(), mapping.name.clone());
    desk.edit(&format!("{mapping}: {input} × {weight:.2}"), |rig| {
        edit::set_share(rig, &mapping, &input, Some(weight))
    });
}

/// It moves what poses name.
pub fn has_poses(scene: &Scene) -> bool {
    kind(scene).is_some_and(GoalKind::has_poses)
}

/// It is a toggle.
pub fn is_toggle(scene: &Scene) -> bool {
    kind(scene) == Some(GoalKind::Toggle)
}

pub fn poses(scene: &Scene) -> String {
    scene.mapping().map_or_else(String::new, |mapping| mapping.to.poses().join(" – "))
}

/// Turns the row of its poses round.
pub fn turn_round(desk: &mut Context) {
    change(desk, "poses the other way round", |mapping| {
        mapping.to.blend.reverse();
        mapping.to.toggle.reverse();
    });
}

fn names(text: &str) -> Vec<String> {
    text.split([' ', ',', '–']).filter(|name| !name.is_empty()).map(str::to_owned).collect()
}

/// Gives it other poses.
///
/// # Errors
/// When there is no pose of that name.
pub fn set_poses(desk: &mut Context, text: &str) -> Result<(), String> {
    let poses = known_poses(&desk.session.document.rig, text)?;
    change(desk, &format!("poses {}", poses.join(" – ")), |mapping| {
        let own = if mapping.to.toggle.is_empty() { &mut mapping.to.blend } else { &mut mapping.to.toggle };
        *own = poses;
    });
    Ok(())
}

/// The poses that a text names.
///
/// # Errors
/// When there is no pose of one of the names, or there are not two.
pub fn known_poses(rig: &Rig, text: &str) -> Result<Vec<String>, String> {
    let poses = names(text);
    let there = || rig.poses.iter().map(|pose| pose.name.as_str()).collect::<Vec<_>>().join(", ");
    match poses.iter().find(|name| rig.pose(name).is_none()) {
        Some(unknown) if rig.poses.is_empty() => {
            Err(format!("no pose is called {unknown:?}: ‹keep pose› keeps one"))
        }
        Some(unknown) => Err(format!("no pose is called {unknown:?}: there is {}", there())),
        None if poses.len() < 2 => Err(format!("name two poses or more: there is {}", there())),
        None => Ok(poses),
    }
}

/// The time from one pose of a toggle to the other.
pub fn over(scene: &Scene) -> Option<f64> {
    Some(scene.mapping()?.to.over_s.unwrap_or(Goal::USUAL_TOGGLE).get())
}

/// Sets that time.
pub fn set_over(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change(desk, &format!("takes {seconds:.2} s"), |mapping| mapping.to.over_s = Some(Seconds::new(seconds)));
}

/// When it holds.
pub fn only_while(scene: &Scene) -> String {
    let Some(only) = scene.mapping().and_then(|mapping| mapping.only_while.as_ref()) else {
        return "always".to_owned();
    };
    let switch = scene.rig.inputs.iter().find(|input| input.name == only.input);
    let positions =
        switch.and_then(|input| input.switch.as_ref()?.works()).map_or(2, |works| works.positions());
    let place = usize::from(only.place().unwrap_or_default());
    format!("{} is {}", only.input, standing(place, positions))
}

/// Goes on: always, then at each position of each switch.
pub fn next_while(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(mapping) = scene.mapping() else { return };
    let mut all = vec![None];
    for input in &scene.rig.inputs {
        let Some(works) = input.switch.as_ref().and_then(Switch::works) else { continue };
        for place in 0..u8::try_from(works.positions()).unwrap_or_default() {
            let (pressed, position) =
                if works.positions() == 2 { (Some(place == 1), None) } else { (None, Some(place + 1)) };
            all.push(Some(While { input: input.name.clone(), pressed, position }));
        }
    }
    let same = |one: &Option<While>| match (one, &mapping.only_while) {
        (Some(one), Some(own)) => one.input == own.input && one.place() == own.place(),
        (one, own) => one.is_none() && own.is_none(),
    };
    let here = all.iter().position(same).unwrap_or(0);
    let Some(next) = all.get(moved(here, by, all.len())).cloned() else { return };
    if all.len() == 1 {
        return desk.say("it always holds: no input is a switch yet");
    }
    let words = next.as_ref().map_or_else(|| "always".to_owned(), |only| format!("while {}", only.input));
    change(desk, &words, |mapping| mapping.only_while = next);
}

/// How it is taken.
pub fn take(scene: &Scene) -> String {
    match scene.mapping().map(|mapping| mapping.take) {
        Some(Take::PickUp) => "when the input passes it".to_owned(),
        _ => "with a glide".to_owned(),
    }
}

/// With a glide, or when the input passes.
pub fn next_take(desk: &mut Context) {
    let now = desk.model.scene(desk.session).mapping().map(|mapping| mapping.take);
    let next = if now == Some(Take::PickUp) { Take::Glide } else { Take::PickUp };
    let words = if next == Take::Glide { "taken with a glide" } else { "taken when the input passes it" };
    change(desk, words, |mapping| mapping.take = next);
}

/// What becomes of what it moves when a link is lost.
pub fn when_lost(scene: &Scene) -> String {
    let Some(mapping) = scene.mapping() else { return String::new() };
    if let Some(failsafe) = &mapping.failsafe {
        let angle = failsafe.angle_deg.map(|angle| Told::Degrees.show(angle.get()));
        let level = || failsafe.level_percent.map(|level| Told::Levels.show(level.get()));
        let to = angle.or_else(level).or_else(|| failsafe.pose.clone()).unwrap_or_default();
        return format!("to {to}");
    }
    match mapping.when_lost {
        Some(own) => own.word().to_owned(),
        None => format!("{}, as the rig says", scene.rig.when_lost.word()),
    }
}

/// Goes on: as the rig says, then what may be said.
pub fn next_lost(desk: &mut Context, by: isize) {
    let Some(now) = desk.model.scene(desk.session).mapping().map(|mapping| mapping.when_lost) else { return };
    let [stay, home, release] = WhenLost::ALL.map(Some);
    let next = round(&[None, stay, home, release], now, by);
    let words = next
        .map_or_else(|| "when lost as the rig says".to_owned(), |own| format!("when lost {}", own.word()));
    change(desk, &words, |mapping| (mapping.when_lost, mapping.failsafe) = (next, None));
}

/// Gives it a place to go to when a link is lost, or a word.
///
/// # Errors
/// Says what is understood; nothing has changed then.
pub fn set_failsafe(desk: &mut Context, text: &str) -> Result<(), String> {
    let text = text.trim();
    if let Some(word) = WhenLost::ALL.into_iter().find(|own| own.word() == text) {
        change(desk, &format!("when lost {text}"), |mapping| {
            (mapping.when_lost, mapping.failsafe) = (Some(word), None);
        });
        return Ok(());
    }
    let over_s = desk.model.scene(desk.session).mapping().and_then(|own| Some(own.failsafe.as_ref()?.over_s));
    let plain = Failsafe { over_s: over_s.unwrap_or(USUAL_FAILSAFE), ..Failsafe::default() };
    let scene = desk.model.scene(desk.session);
    let of = scene.moved().map(|moved| moved.judges(scene.rig));
    let failsafe = match kind(&scene) {
        Some(GoalKind::Joint) => Failsafe { angle_deg: Some(entry::angle_of(text, of.as_ref())?), ..plain },
        Some(GoalKind::Level) => {
            let level = entry::plain(text.trim_end_matches('%').trim_end())?;
            Failsafe { level_percent: Some(Percent::new(level)), ..plain }
        }
        Some(GoalKind::Blend | GoalKind::Toggle) => {
            if desk.session.document.rig.pose(text).is_none() {
                return Err(format!("no pose is called {text:?}; or stay, home, release"));
            }
            Failsafe { pose: Some(text.to_owned()), ..plain }
        }
        _ => return Err("a rate stops by itself: write stay, home or release".to_owned()),
    };
    change(desk, &format!("when lost to {text}"), |mapping| {
        (mapping.when_lost, mapping.failsafe) = (None, Some(failsafe));
    });
    Ok(())
}

/// It goes somewhere when a link is lost.
pub fn has_failsafe(scene: &Scene) -> bool {
    failsafe_time(scene).is_some()
}

/// In which time.
pub fn failsafe_time(scene: &Scene) -> Option<f64> {
    Some(scene.mapping()?.failsafe.as_ref()?.over_s.get())
}

/// Sets that time.
pub fn set_failsafe_time(desk: &mut Context, seconds: Option<f64>) {
    let Some(seconds) = seconds else { return };
    change(desk, &format!("when lost in {seconds:.2} s"), |mapping| {
        if let Some(failsafe) = &mut mapping.failsafe {
            failsafe.over_s = Seconds::new(seconds);
        }
    });
}

/// The press of the picked switch that is looked at: the first that it has.
fn own_press<'a>(scene: &Scene<'a>) -> Option<&'a Press> {
    let name = &scene.input()?.name;
    scene.rig.presses.iter().find(|press| press.input == *name)
}

/// What a press does, in words.
pub fn does(press: &Press) -> String {
    match press.does {
        Does::Play => format!("plays {}", press.sequence.as_deref().unwrap_or_default()),
        Does::Stop => "stops what plays".to_owned(),
        Does::Hold => "holds".to_owned(),
        Does::Cut => "cuts".to_owned(),
        Does::Keep => format!("keeps a pose, {}", press.pose.as_deref().unwrap_or_default()),
    }
}

/// What presses of the picked switch do.
pub fn press(scene: &Scene) -> String {
    let Some(input) = scene.input() else { return String::new() };
    let all: Vec<String> = scene
        .rig
        .presses
        .iter()
        .filter(|press| press.input == input.name)
        .map(|press| match press.position {
            Some(position) => format!("{position}: {}", does(press)),
            None => does(press),
        })
        .collect();
    if all.is_empty() { "does nothing by itself".to_owned() } else { all.join("; ") }
}

/// Goes on: nothing, then what a press may do.
pub fn next_press(desk: &mut Context, by: isize) {
    let scene = desk.model.scene(desk.session);
    let Some(input) = scene.input().map(|input| input.name.clone()) else { return };
    let now = own_press(&scene);
    let place = now.map_or(1, Press::place);
    let position = now.and_then(|press| press.position);
    let sequence = now.and_then(|press| press.sequence.clone());
    let sequence = sequence.or_else(|| Some(scene.sequence()?.0.name.clone()));
    let [play, stop, hold, cut, keep] = Does::ALL.map(Some);
    let all = if sequence.is_some() {
        vec![None, play, stop, hold, cut, keep]
    } else {
        vec![None, stop, hold, cut, keep]
    };
    let next = round(&all, now.map(|press| press.does), by);
    let press = next.map(|does| Press {
        input: input.clone(),
        position,
        does,
        sequence: sequence.filter(|_| does == Does::Play),
        pose: (does == Does::Keep).then(|| "kept".to_owned()),
    });
    let words = press.as_ref().map_or_else(|| "does nothing by itself".to_owned(), does);
    desk.edit(&format!("a press of {input} {words}"), |rig| edit::set_press(rig, &input, place, press));
}
