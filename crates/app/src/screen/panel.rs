//! A room of the screen as one row: its actions, its arrows, what digits begin there, its advice, its drawing.

use super::action::Action;
use super::advice::Rule;
use super::context::Context;
use super::dialog::Purpose;
use super::model::{Model, View};
use super::pen::Pen;
use super::question::Question;
use super::scene::Scene;
use crossterm::event::MouseEvent;
use ratatui::layout::Rect;

/// What a digit begins.
pub enum Typed {
    For(Purpose),
    /// Nothing, for that reason.
    Nothing(&'static str),
}

/// See the module.
pub struct Panel {
    /// Where one is then; its name is in the headline.
    pub view: View,
    /// The action that goes there, with its key.
    pub show: Action,
    /// What may be done there.
    pub actions: &'static [Action],
    /// What is asked there.
    pub questions: &'static [&'static [&'static Question]],
    /// ← and →, as −1 and 1.
    pub change: fn(&mut Context, f64),
    /// ↑ and ↓, as −1 and 1.
    pub pick: fn(&mut Context, isize),
    /// What ← → and ↑ ↓ are called there; empty for what they are called anywhere.
    pub arrows: (&'static str, &'static str),
    /// Something is nudged there.
    pub nudges: bool,
    /// What a digit begins.
    pub typed: Typed,
    /// Actions that stand first in the keys line now, by their names.
    pub first: fn(&Scene) -> &'static [&'static str],
    /// What there is to do.
    pub advice: &'static [Rule],
    /// Done when one comes there.
    pub entered: fn(&mut Context),
    /// Whether something moves there though the output is off.
    pub lively: fn(&Model) -> bool,
    /// What the mouse does there, over a window of that size, where there is something for it.
    pub mouse: Option<fn(&mut Context, MouseEvent, Rect)>,
    pub draw: fn(&mut Pen<'_>, &Scene),
}
