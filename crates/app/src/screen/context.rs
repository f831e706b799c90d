//! What an action works on: the screen's state, the rig with its engine, and how what comes of it is said.

use crate::screen::dialog::Dialog;
use crate::screen::entry::PulseContext;
use crate::screen::form::{Field, Form, Subject};
use crate::screen::model::{Model, Tone, View};
use crate::screen::scene::Picked;
use crate::screen::step::moved;
use crate::session::Session;
use std::time::Duration;
use wasvolta_core::rig::edit::Edited;
use wasvolta_core::rig::{Board, Input, Rig, Servo, ServoId};
use wasvolta_core::stage::Command;

/// What an action works on.
pub struct Context<'a> {
    /// The screen's state.
    pub model: &'a mut Model,
    /// The rig and its engine.
    pub session: &'a mut Session,
    /// The time since the screen was opened.
    pub now: Duration,
    /// The key came so soon after the same one that it is being held.
    pub held: bool,
    /// It came so soon that it may be the first repeat of a held key.
    pub hurried: bool,
    /// An edit goes on with the one before: both are undone at once.
    pub joined: bool,
}

impl Context<'_> {
    /// Asks the engine for something.
    pub fn command(&mut self, command: Command) {
        if !self.session.runner.engine.command(command) {
            self.refuse("the engine is busy: that was not carried out, try again");
        }
    }

    /// Makes an edit and says so, or says why not. Whether it was made.
    pub fn edit(&mut self, what: &str, edit: impl FnOnce(&Rig) -> Edited) -> bool {
        self.edit_on(self.joined, what, edit)
    }

    /// The same, where it may go on with the last one: then both are undone at once.
    pub fn edit_on(&mut self, on: bool, what: &str, edit: impl FnOnce(&Rig) -> Edited) -> bool {
        match self.session.edit_on(what, on, edit) {
            Ok(()) => {
                self.say(what);
                true
            }
            Err(refused) => {
                self.refuse(&refused.to_string());
                false
            }
        }
    }

    /// Says that something was done.
    pub fn say(&mut self, words: &str) {
        self.model.say(Tone::Done, words, self.now);
    }

    /// Says that something was not done, and why.
    pub fn refuse(&mut self, words: &str) {
        self.model.say(Tone::Refused, words, self.now);
    }

    /// The command for the picked servo, if there is one.
    pub fn servo_command(&mut self, command: impl FnOnce(ServoId) -> Command) {
        if let Some(servo) = self.servo().map(|servo| servo.id) {
            self.command(command(servo));
        }
    }

    /// The picked servo, as edited last.
    pub fn servo(&self) -> Option<&Servo> {
        self.session.runner.edition.servo(self.model.servo.id)
    }

    /// The place of the picked servo, as edited last.
    pub fn place(&self) -> Option<usize> {
        self.session.runner.edition.index.servos.place(self.model.servo.id)
    }

    /// The picked input, as edited last.
    pub fn input(&self) -> Option<&Input> {
        self.session.runner.edition.input(self.model.input.id)
    }

    /// The board of the picked channel, as edited last.
    pub fn board(&self) -> Option<&Board> {
        self.session.runner.edition.board(self.model.in_wiring.plug.0.id)
    }

    /// Makes an edit; gives the words that say so.
    ///
    /// # Errors
    /// In words, when it is refused.
    pub fn done(&mut self, words: &str, edit: impl FnOnce(&Rig) -> Edited) -> Result<String, String> {
        self.session.edit_on(words, self.joined, edit).map_err(|refused| refused.to_string())?;
        Ok(words.to_owned())
    }

    /// Opens a form that asks a question, by the question's name.
    pub fn ask(&mut self, question: &'static str, about: Subject, fields: Vec<Field>) {
        self.model.dialog = Some(Dialog::Form(Form::new(question, about, fields)));
    }

    /// What is to be known of the picked servo.
    pub fn picked<R>(&self, look: impl FnOnce(&Picked) -> R) -> Option<R> {
        self.model.scene(self.session).picked().map(|picked| look(&picked))
    }

    /// What a pulse entry is judged by, for the picked servo.
    pub fn pulse_context(&self) -> Option<PulseContext> {
        let rig = &self.session.document.rig;
        self.picked(|picked| picked.judges(rig))
    }

    /// Picks the servo above or below in the roster.
    pub fn pick_servo_by(&mut self, by: isize) {
        let order = &self.session.runner.edition.order;
        let here = order.iter().position(|n| Some(*n) == self.place()).unwrap_or(0);
        if let Some(&servo) = order.get(moved(here, by, order.len())) {
            self.model.pick_servo(&self.session.document.rig, servo);
        }
    }

    /// Goes to a view; what was said in another is over. `entered` is what its room does then.
    pub fn show(&mut self, view: View, entered: fn(&mut Context)) {
        self.model.view = view;
        self.model.said = None;
        entered(self);
    }
}
