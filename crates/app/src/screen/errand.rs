//! What takes several steps with waits between: engaging one servo after another, naming them one by one.
//!
//! What is still to be done is kept here; that it is done is [`crate::screen::update`]'s.

use std::collections::VecDeque;
use std::time::Duration;
use wasvolta_core::rig::{BoardId, ServoId};
use wasvolta_core::unit::Position;

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Step {
    /// Wait until a board's channel gets no pulse any more.
    Released { board: BoardId, channel: u8 },
    /// Give a servo its first pulse.
    Engage { servo: ServoId, pulse: Position },
    /// Wait until a servo's pulses are on the wire, and a moment more: they do not all draw at once.
    Engaged(ServoId),
    /// Ask where a servo's horn stands, and wait for the answer.
    Ask(ServoId),
    /// Wiggle a servo, and ask for its name.
    Name(ServoId),
    /// Let a servo go home, and wait until it is there.
    GoHome(ServoId),
    /// End the program.
    Quit,
}

/// How long a step may not come about; the way home may be long.
const PATIENCE: Duration = Duration::from_secs(3);
const WAY_HOME: Duration = Duration::from_secs(15);

impl Step {
    pub const fn patience(&self) -> Duration {
        match self {
            Self::GoHome(_) => WAY_HOME,
            _ => PATIENCE,
        }
    }
}
/// See the module.
#[derive(Debug, Default)]
pub struct Errands {
    pub steps: VecDeque<Step>,
    /// When the present step became the next.
    pub since: Option<Duration>,
    /// What the present step waits for has come about then.
    pub came: Option<Duration>,
}

impl Errands {
    /// Puts steps in the place of what was still to be done.
    pub fn begin(&mut self, steps: impl IntoIterator<Item = Step>) {
        *self = Self { steps: steps.into_iter().collect(), since: None, came: None };
    }

    /// Whether the end of the program is under way.
    pub fn is_quitting(&self) -> bool {
        self.steps.contains(&Step::Quit)
    }

    /// Forgets what was still to be done; whether there was something.
    pub fn give_up(&mut self) -> bool {
        !std::mem::take(self).steps.is_empty()
    }

    /// The present step is over.
    pub fn done(&mut self) {
        self.steps.pop_front();
        (self.since, self.came) = (None, None);
    }
}
