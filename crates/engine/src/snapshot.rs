//! What the screen may know: one coherent picture of a beat.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use wasvolta_core::stage::{Event, InputState, Output, Player, ServoState};
use wasvolta_port::board::{CHANNELS, Evidence, Lapse, Phase, Wanted};
use wasvolta_port::{Fault, serial::SerialError};
use wasvolta_wire::lines::Counts;

/// What went wrong with a bus last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trouble {
    /// What was being done.
    pub doing: &'static str,
    /// What is wrong.
    pub fault: Fault,
}

/// One board as its driver last left it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BoardState {
    /// How it stands.
    pub phase: Phase,
    /// What it was last told.
    pub sent: Wanted,
    /// What is wrong with it, if anything.
    pub trouble: Option<Trouble>,
    /// What it said of itself when it was last asked.
    pub evidence: Option<Evidence>,
    /// How often it was found not to be as it was left.
    pub lapses: u32,
    /// When that was last, and in which way.
    pub lapse: Option<(Duration, Lapse)>,
    /// How often it was started.
    pub starts: u32,
}

impl Default for BoardState {
    fn default() -> Self {
        Self {
            phase: Phase::Down,
            sent: [None; CHANNELS],
            trouble: None,
            evidence: None,
            lapses: 0,
            lapse: None,
            starts: 0,
        }
    }
}

impl BoardState {
    /// How often what it was sent may not have arrived: it was started, or found not as it was left.
    pub const fn interruptions(&self) -> u32 {
        self.starts.wrapping_add(self.lapses)
    }
}

/// One serial line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct LineState {
    /// It is open.
    pub open: bool,
    /// Lines and bytes so far.
    pub counts: Counts,
}

/// How punctual the beat is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Punctuality {
    /// Beats so far.
    pub beats: u64,
    /// Beats that began more than a tenth of their period late.
    pub late: u64,
    /// The worst lateness.
    pub worst: Duration,
    /// Frames that a port had not taken when the next came.
    pub late_writes: u64,
}

/// See the module. Indices are those of the rig of the same version.
#[derive(Debug, Clone, Default)]
pub struct Snapshot {
    /// Which rig it is about.
    pub version: u64,
    /// When.
    pub now: Duration,
    /// The output's state.
    pub output: Output,
    /// By servo.
    pub servos: Vec<ServoState>,
    /// By input.
    pub inputs: Vec<InputState>,
    /// What is playing.
    pub player: Player,
    /// By port, then by board.
    pub boards: Vec<Vec<BoardState>>,
    /// By line.
    pub lines: Vec<LineState>,
    /// What happened lately, with running numbers, oldest first.
    pub events: Vec<(u64, Event)>,
    /// How punctual the beat is.
    pub punctual: Punctuality,
}

/// Why lines cannot be opened: written by the thread that opens them, read by the screen, never by the beat.
#[derive(Debug, Clone, Default)]
pub struct LineTrouble(Arc<Mutex<Vec<Option<SerialError>>>>);

impl LineTrouble {
    pub(crate) fn for_lines(lines: usize) -> Self {
        Self(Arc::new(Mutex::new(vec![None; lines])))
    }

    pub(crate) fn set(&self, line: usize, trouble: Option<SerialError>) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(place) = all.get_mut(line) {
            *place = trouble;
        }
    }

    pub(crate) fn get(&self, line: usize) -> Option<SerialError> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(line).cloned().flatten()
    }
}
