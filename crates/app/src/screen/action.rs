//! One action: its keys, its name, where it works, what it says, when it may, and what it does. Actions stand in tables,
//! one a room; [`super::commands`] joins them.

use super::context::Context;
use super::keys::Key;
use super::many;
use super::model::View;
use super::ready::{Ready, STILL_MOVES};
use super::scene::Scene;
use crossterm::event::KeyCode;

pub struct Action {
    /// Its name in the palette.
    pub name: &'static str,
    /// Its keys; none for what only the palette offers.
    pub keys: &'static [Key],
    /// Where its keys work; none means everywhere.
    pub view: Option<View>,
    /// A word or two for the keys line; empty for what is not shown there.
    pub short: &'static str,
    /// A sentence for the help.
    pub long: &'static str,
    /// Whether it may be done now.
    pub ready: fn(&Scene) -> Ready,
    pub run: fn(&mut Context),
}

impl Action {
    /// Whether it is done by itself once the servo stands, where it was asked for before.
    pub fn waits(&self) -> bool {
        matches!(self.name, "limit here" | "endpoint here" | "centre here" | "home here")
    }

    /// Whether it works while the window is too small to show anything: it stops something.
    pub fn works_unseen(&self) -> bool {
        matches!(self.name, "cut" | "hold" | "quit")
    }

    /// Whether it is done to each servo where several are picked.
    pub fn goes_for_each(&self) -> bool {
        matches!(self.name, "engage" | "release" | "give back" | "home here" | "save card" | "wiggle")
    }

    /// Does it if it may be done, else says why not.
    pub fn carry_out(&'static self, desk: &mut Context) {
        if self.goes_for_each() && many::count(desk.model, &desk.session.runner.edition) > 1 {
            return many::carry_out(desk, self.name, self.ready, self.run);
        }
        let ready = (self.ready)(&desk.model.scene(desk.session));
        match ready {
            Ok(()) => (self.run)(desk),
            Err(STILL_MOVES) if self.waits() => {
                desk.model.waiting = Some(self.name);
                desk.say(&format!("{}: once it stands", self.name));
            }
            Err(why) => desk.refuse(why),
        }
    }

    /// Whether its keys work in a view.
    pub fn works_in(&self, view: View) -> bool {
        self.view.is_none_or(|own| own == view)
    }
}

/// A letter's key.
pub const fn key(c: char) -> Key {
    Key::char(c)
}

/// A key of a code.
pub const fn code(code: KeyCode) -> Key {
    Key::of(code)
}
