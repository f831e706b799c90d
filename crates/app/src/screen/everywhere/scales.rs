//! Scales from other code: told once, then typed behind a number and shown beside µs and degrees.

use crate::screen::context::Context;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::question::questions;
use wasvolta_core::rig::NamedScale;
use wasvolta_core::rig::edit::scales as edit;

questions! {
    NAME_SCALE("name a scale", label: "scale") => |desk, _, form| named(desk, form);
    FIRST("scale first", label: "first") => |desk, _, form| {
        let name = called(desk, form)?;
        desk.done(&format!("{name} is the scale that is shown where there is room for one"), |rig| edit::scale_first(rig, &name))
    };
    FORGET("forget scale", label: "forget") => |desk, _, form| {
        let name = called(desk, form)?;
        desk.done(&format!("{name} is forgotten; ‹undo› brings it back"), |rig| edit::remove_scale(rig, &name))
    };
}

/// Asks for a scale: its name, and its numbers in a line.
pub fn name(desk: &mut Context) {
    let fields = vec![
        Field::new(
            "name",
            "",
            "the word behind its numbers, as lib in 90 lib; a known name is described anew",
        ),
        Field::new("numbers", "", edit::FORMS),
    ];
    desk.ask(NAME_SCALE.name, Subject::default(), fields);
}

fn named(desk: &mut Context, form: &Form) -> Result<String, String> {
    let scale = edit::read(form.word(0), form.word(1))?;
    let words = format!("{}: {}; type it behind a number", scale.name, scale.described());
    desk.done(&words, |rig| edit::tell_scale(rig, &scale))
}

/// The scale that a form names, by its own name.
fn called(desk: &Context, form: &Form) -> Result<String, String> {
    let rig = &desk.session.document.rig;
    let known = rig.scale(form.word(0)).map(|scale| scale.name.clone());
    known.ok_or_else(|| {
        let all: Vec<&str> = rig.scales.iter().map(|scale| scale.name.as_str()).collect();
        format!("{:?} is not a scale: there are {}", form.word(0), all.join(", "))
    })
}

/// The question which scale, with the one of that place in the rig as its likely answer.
fn which(desk: &Context, likely: usize) -> Vec<Field> {
    let scales = &desk.session.document.rig.scales;
    let words = |scale: &NamedScale| format!("{}: {}", scale.name, scale.described());
    let hint = scales.iter().map(words).collect::<Vec<_>>().join("; ");
    let mut names: Vec<String> = scales.iter().map(|scale| scale.name.clone()).collect();
    names.rotate_left(likely.min(scales.len()));
    vec![Field::new("scale", "", hint).offering(names)]
}

/// Asks which scale is to be shown where there is room for one.
pub fn first(desk: &mut Context) {
    // The one that is first is no answer.
    let fields = which(desk, 1);
    desk.ask(FIRST.name, Subject::default(), fields);
}

/// Asks which scale is to go.
pub fn forget(desk: &mut Context) {
    let fields = which(desk, 0);
    desk.ask(FORGET.name, Subject::default(), fields);
}
