//! The one way in which anything that was asked for is carried out: an action by its name, then the answers to what it asks.

use super::dialog;
use crate::screen::commands;
use crate::screen::context::Context;
use crate::screen::dialog::Dialog;
use crate::screen::intent::Intent;
use crate::screen::keys::Key;
use crate::screen::model::Tone;
use crate::screen::typing::Typing;
use crossterm::event::KeyCode;

/// Carries out what was asked for, or says why not. What is asked beyond the answers stays open, for a person.
pub fn carry_out(desk: &mut Context, intent: &Intent) {
    let Some(action) = commands::named(&intent.action, desk.model.view) else {
        return desk.refuse(&format!("no command is called {:?}", intent.action));
    };
    if intent.answers.is_empty() {
        return action.carry_out(desk);
    }
    desk.model.said = None;
    action.carry_out(desk);
    // What was refused, or waits, asks nothing.
    let is_refused = matches!(desk.model.said, Some((Tone::Refused, ..)));
    if !is_refused && desk.model.waiting.is_none() {
        answer(desk, &intent.answers);
    }
}

/// Answers what is asked: each field of a form, else one thing after another.
fn answer(desk: &mut Context, answers: &[String]) {
    if let Some(Dialog::Form(form)) = &mut desk.model.dialog
        && !form.fields.is_empty()
    {
        if answers.len() > form.fields.len() {
            let labels: Vec<&str> = form.fields.iter().map(|field| field.label).collect();
            let words = format!("{} answers are too many: it asks for {}", answers.len(), labels.join(", "));
            return desk.refuse(&words);
        }
        for (field, answer) in form.fields.iter_mut().zip(answers) {
            field.typing = Typing::begun(answer);
        }
        return enter(desk);
    }
    for answer in answers {
        let Some(dialog) = &mut desk.model.dialog else {
            return desk.refuse(&format!("{answer:?} is one answer too many"));
        };
        let typing = match dialog {
            Dialog::Engage { dial, .. }
            | Dialog::Mark { dial, .. }
            | Dialog::Limit { dial, reason: None, .. } => &mut dial.typing,
            Dialog::Limit { reason: Some(typing), .. } | Dialog::Entry { typing, .. } => typing,
            // What is only confirmed is confirmed by that word.
            Dialog::Form(_) if answer == "yes" => {
                enter(desk);
                continue;
            }
            Dialog::Form(_) => return desk.refuse("it asks whether you are sure: answer yes, or Esc"),
            _ => return desk.refuse("this has keys of its own"),
        };
        *typing = Typing::begun(answer.as_str());
        enter(desk);
    }
}

fn enter(desk: &mut Context) {
    dialog::key(desk, Key::of(KeyCode::Enter));
}
