//! What this machine has: looks at its buses and ports, taken on threads of their own, for both may be slow.

use crate::hardware::Simulated;
use crate::survey::{self, Outlook};
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, channel};
use wasvolta_core::rig::Rig;
use wasvolta_engine::Snapshot;
use wasvolta_port::Fault;
use wasvolta_port::scan::{PwmChip, Roots, Scan};

/// See the module.
pub struct Lookout {
    /// Where the machine lists its devices.
    pub roots: Roots,
    /// The kernel's PWM chips, as they were looked at last.
    pub chips: Vec<PwmChip>,
    /// Where the look that is being taken will arrive.
    looking: Option<Receiver<Scan>>,
    /// Where the answer of the serial port that is being asked will arrive.
    asking: Option<Receiver<String>>,
}

impl Default for Lookout {
    fn default() -> Self {
        let roots = Roots::default();
        Self { chips: roots.pwm_chips(), roots, looking: None, asking: None }
    }
}

impl Lookout {
    /// Takes a look at what is there, on a thread of its own: buses may be slow.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn look_around(&mut self, rig: &Rig, simulated: Option<&Simulated>) -> std::io::Result<()> {
        let outlook = Outlook::of(&self.roots, Some(rig), simulated);
        let (found, arrives) = channel();
        self.looking = Some(arrives);
        // Nobody may wait for it any more when it is over.
        std::thread::Builder::new().name("scan".to_owned()).spawn(move || found.send(outlook.take()))?;
        Ok(())
    }

    /// What a look has found, once it is over.
    pub fn found(&mut self) -> Option<Scan> {
        let found = self.looking.as_ref()?.try_recv().ok()?;
        self.looking = None;
        Some(found)
    }

    /// Asks a serial port what is on it, on a thread of its own: a board that was reset takes its time.
    ///
    /// # Errors
    /// In words, when the rig uses that port itself, or the system gives no thread.
    pub fn ask_port(&mut self, rig: &Rig, path: &str) -> Result<(), String> {
        if let Some(port) = rig.ports.iter().find(|port| port.path == path) {
            return Err(format!("{path} is {} of this rig: what is on it is shown already", port.name));
        }
        let (answer, arrives) = channel();
        let path = PathBuf::from(path);
        let ask = move || answer.send(survey::ask(&path));
        std::thread::Builder::new().name("ask".to_owned()).spawn(ask).map_err(|error| error.to_string())?;
        self.asking = Some(arrives);
        Ok(())
    }

    /// What the serial port that was asked has said, once.
    pub fn answer(&mut self) -> Option<String> {
        let answer = self.asking.as_ref()?.try_recv().ok()?;
        self.asking = None;
        Some(answer)
    }

    /// Whether a look is being taken.
    pub const fn is_looking(&self) -> bool {
        self.looking.is_some()
    }

    /// What helps with a fault of a board.
    pub fn help(&self, rig: &Rig, board: &str, fault: Fault) -> String {
        rig.board(board)
            .map_or_else(|| fault.help().to_owned(), |board| survey::help(rig, board, fault, &self.chips))
    }

    /// Looks at the kernel's PWM chips where one of its drivers has a board of the rig: only then is it of use. Not for
    /// every frame.
    pub fn look_at_chips(&mut self, snapshot: &Snapshot) {
        let mut boards = snapshot.boards.iter().flatten();
        if boards.any(|board| board.trouble.is_some_and(|trouble| trouble.fault == Fault::Busy)) {
            self.chips = self.roots.pwm_chips();
        }
    }
}
