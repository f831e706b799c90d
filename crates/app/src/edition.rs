//! A rig as edited with everything that follows from it, made once an edit and not once a frame.

use crate::hardware;
use std::ops::Deref;
use std::sync::{Arc, OnceLock};
use wasvolta_core::fit::{Fit, NoFit};
use wasvolta_core::power::Budget;
use wasvolta_core::review::Review;
use wasvolta_core::rig::worry::{Worry, worries_of};
use wasvolta_core::rig::{
    Board, BoardId, Channel, Input, InputId, Link, LinkId, Rig, Sequence, SequenceId, Servo, ServoId,
};
use wasvolta_core::stage::ServoState;
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::traffic::Traffic;
use wasvolta_core::unit::Seconds;
use wasvolta_engine::snapshot::{self, ChannelState};
use wasvolta_engine::{Compiled, Snapshot};
use wasvolta_port::board::Evidence;
use wasvolta_port::firmata::{ANALOG, PULLED_UP};

/// See the module. What runs, and where its parts stand, is in [`Compiled`].
pub struct Edition {
    compiled: Arc<Compiled>,
    pub fits: Vec<Result<Fit, NoFit>>,
    /// The servos by their places, as the roster shows them.
    pub order: Vec<usize>,
    /// By port, what its boards ask of it.
    pub traffic: Vec<Traffic>,
    /// By rail, what hangs on it.
    pub budgets: Vec<Budget>,
    /// By servo, the state that each begins with.
    pub fresh: Vec<ServoState>,
    /// What is worth a word.
    pub worries: Vec<Worry>,
    /// By sequence, what was found in it: by whoever asks first.
    reviews: Vec<OnceLock<Review>>,
}

impl Deref for Edition {
    type Target = Compiled;

    fn deref(&self) -> &Compiled {
        &self.compiled
    }
}

impl Edition {
    /// What was found when a sequence was looked at, by its place.
    pub fn review(&self, place: usize) -> Option<&Review> {
        let found = self.reviews.get(place)?;
        Some(found.get_or_init(|| Review::of(self.compiled.parts(), &self.compiled.plan, place)))
    }

    /// All that follows from a rig.
    pub fn of(compiled: &Arc<Compiled>) -> Arc<Self> {
        let rig: &Rig = &compiled.rig;
        let beat = Seconds::new(hardware::BEAT.as_secs_f64());
        Arc::new(Self {
            fits: rig.servos.iter().map(Servo::fit).collect(),
            order: rig.by_group(),
            traffic: rig.ports.iter().map(|port| Traffic::of(rig, &port.name)).collect(),
            budgets: rig.rails.iter().map(|rail| Budget::of(rig, rail)).collect(),
            fresh: compiled.plan.servos.iter().map(ServoPlan::fresh).collect(),
            worries: worries_of(compiled.parts(), beat),
            reviews: rig.sequences.iter().map(|_| OnceLock::new()).collect(),
            compiled: Arc::clone(compiled),
        })
    }

    pub fn servo(&self, servo: ServoId) -> Option<&Servo> {
        self.rig.servos.get(self.index.servos.place(servo)?)
    }

    pub fn board(&self, board: BoardId) -> Option<&Board> {
        self.rig.boards.get(self.index.boards.place(board)?)
    }

    pub fn input(&self, input: InputId) -> Option<&Input> {
        self.rig.inputs.get(self.index.inputs.place(input)?)
    }

    pub fn link(&self, link: LinkId) -> Option<&Link> {
        self.rig.links.get(self.index.links.place(link)?)
    }

    /// Why a channel of a link can say nothing, as far as its board has told what its pins can do.
    pub fn unread_pin(&self, link: &Link, snapshot: &Snapshot) -> Option<String> {
        let (_, board) = self.rig.place_of(link)?;
        let board = board?;
        let evidence = self.board_state(snapshot, board.id)?.evidence.as_ref()?;
        let Evidence::Firmata(firmware) = evidence else { return None };
        let read = self.rig.protocol_of(link)?.row().read;
        let code = |input: &&Input| match read(&input.channel) {
            Some(Channel::Code(code)) => Some(code),
            _ => None,
        };
        let inputs = self.rig.inputs.iter().filter(|input| input.link == link.name);
        let unread = |input: &&Input| code(input).is_some_and(|code| !firmware.reads(code));
        let input = inputs.into_iter().find(unread)?;
        // Of its kind: analog channels, pins with a pull-up, or other pins.
        let (first, letter) = match code(&input)? {
            ANALOG.. => (ANALOG, "a"),
            PULLED_UP.. => (PULLED_UP, "d"),
            _ => (0, "d"),
        };
        let able: Vec<usize> = (0..128u16).filter(|n| firmware.reads(first + n)).map(usize::from).collect();
        let able = if able.is_empty() {
            "none can".to_owned()
        } else {
            format!("those that can: {letter} {}", snapshot::in_runs(&able))
        };
        Some(format!("{} of {} cannot be read for {}; {able}", input.channel, board.name, input.name))
    }

    /// What the channel of an input has said; none before it has said anything.
    pub fn channel_state<'s>(&self, input: &Input, snapshot: &'s Snapshot) -> Option<&'s ChannelState> {
        let link = self.parts().link(&input.link)?;
        let channel = (self.rig.protocol_of(link)?.row().read)(&input.channel)?;
        let report = snapshot.reports.iter().find(|report| report.id == link.id)?;
        report.channels.iter().find(|state| state.channel == channel)
    }

    pub fn sequence(&self, sequence: SequenceId) -> Option<&Sequence> {
        self.rig.sequences.get(self.index.sequences.place(sequence)?)
    }
}
