//! What the screen may know: one coherent picture of a beat.

use std::time::Duration;
use wasvolta_core::rig::{BoardId, Channel, InputId, LinkId, Protocol};
use wasvolta_core::stage::{Event, InputState, LinkState, MappingState, Output, Players, ServoState};
use wasvolta_port::Fault;
use wasvolta_port::board::{BoardSettings, Channels, Evidence, Feedback, Found, Lapse, Phase, Stand, Wanted};
use wasvolta_port::firmata::Role;
use wasvolta_wire::decode::Counts;

/// What went wrong with a bus last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trouble {
    /// What was being done.
    pub doing: &'static str,
    /// What is wrong.
    pub fault: Fault,
}

/// One board as its driver last left it.
#[derive(Debug, PartialEq, Default)]
pub struct BoardState {
    /// Which board, by its id in the rig.
    pub id: BoardId,
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
    /// How often what it was told may not have arrived, or stood no longer: it was started, out of reach, or found not
    /// as it was left.
    pub interruptions: u32,
    /// What each channel was told last before that; only until the stage has heard of it.
    pub told: Wanted,
    /// The supply of what hangs on it may have fallen meanwhile.
    pub fallen: bool,
    /// It has not shown for a while that it hears: what is wanted is held back.
    pub quiet: bool,
    /// What those on its channels say of themselves, where they can.
    pub feedback: Channels<Feedback>,
}

impl Clone for BoardState {
    fn clone(&self) -> Self {
        let mut state = Self::default();
        state.clone_from(self);
        state
    }

    /// Keeps the room that it has: the beat writes one in every turn.
    fn clone_from(&mut self, from: &Self) {
        let Self { id, phase, sent, trouble, evidence, lapses, lapse, starts, .. } = from;
        (self.id, self.trouble, self.evidence) = (*id, *trouble, *evidence);
        (self.lapses, self.lapse, self.starts) = (*lapses, *lapse, *starts);
        (self.interruptions, self.fallen, self.quiet) = (from.interruptions, from.fallen, from.quiet);
        self.phase.clone_from(phase);
        self.sent.copy_from(sent);
        self.told.copy_from(&from.told);
        self.feedback.copy_from(&from.feedback);
    }
}

impl BoardState {
    /// A board of which nothing is known yet.
    pub fn of(id: BoardId) -> Self {
        Self { id, ..Self::default() }
    }

    /// Whether what it is told arrives.
    pub fn is_reached(&self) -> bool {
        self.phase == Phase::Started && self.trouble.is_none() && !self.quiet
    }

    /// Whether what one of its channels is told arrives: a servo on a bus may be silent while the bus is well.
    pub fn reaches(&self, channel: usize) -> bool {
        self.is_reached() && !matches!(self.feedback.get(channel).stand, Stand::Silent)
    }

    /// Where what hangs on a channel says it is, in whole steps; none where it says nothing.
    pub fn here(&self, channel: usize) -> Option<u16> {
        let feedback = self.feedback.get(channel);
        feedback.at?;
        Some(wasvolta_core::unit::count16(feedback.position))
    }

    /// How often what a channel was told may not have arrived, or stood no longer.
    pub fn interruptions_of(&self, channel: usize) -> u32 {
        self.interruptions + self.feedback.get(channel).interruptions
    }

    /// Whether what runs on it can be read back: a firmware may not know that question.
    pub const fn says_what_runs(&self) -> bool {
        match self.evidence {
            Some(Evidence::Firmata(firmware)) => firmware.says_pins,
            Some(_) => true,
            None => false,
        }
    }

    /// Whether what its channels have is known by what it has said: it is reached, or asked about, and can be read.
    pub fn is_known(&self) -> bool {
        let asks = matches!(self.phase, Phase::Asking(Found::Pulsing { .. }));
        self.is_reached() && self.says_what_runs() || asks && self.trouble.is_none()
    }

    /// Whether it has said that a channel cannot do what it is to do there.
    pub fn cannot(&self, settings: &BoardSettings, channel: usize) -> bool {
        match (&self.evidence, settings) {
            (Some(Evidence::Firmata(firmware)), BoardSettings::Firmata(settings)) => {
                !firmware.can(settings.role(channel), channel)
            }
            (Some(Evidence::Pwm(chip)), _) => channel >= chip.channels,
            (_, BoardSettings::Smart(_)) => {
                let stand = self.feedback.get(channel).stand;
                stand.answers() && !stand.may_drive()
            }
            _ => false,
        }
    }

    /// The channels that can do something there, as [`able`] says.
    pub fn able(&self, role: Role) -> Option<String> {
        able(self.evidence.as_ref()?, role)
    }

    /// What its channels have, or what is left on it from before, for all that is known: whoever asks for *no pulses*
    /// must look here.
    pub fn pulsing(&self) -> impl Iterator<Item = usize> + use<> {
        let mut any: Channels<bool> = self.sent.used().map(|channel| (channel, true)).collect();
        if let Phase::Asking(Found::Pulsing { ticks, .. }) = &self.phase {
            ticks.used().for_each(|channel| any.set(channel, true));
        }
        any.used().collect::<Vec<_>>().into_iter()
    }
}

/// One channel of a link: one that an input stands on, or one that was heard.
#[derive(Debug, Clone, PartialEq)]
pub struct ChannelState {
    /// Which channel of the link.
    pub channel: Channel,
    /// What it said last, if it has said anything.
    pub newest: Option<f64>,
    /// The least that it has said.
    pub least: f64,
    /// The greatest that it has said.
    pub greatest: f64,
    /// How many values it has said.
    pub count: u64,
    /// The raw values at its ends, where its device gives them.
    pub ends: Option<(f64, f64)>,
    /// What it said last it said nobody knows when: a broker kept it.
    pub is_old: bool,
    /// The newest of them, in a ring: the one that was said as number `n` from 0 stands at `n % RECENT`.
    pub recent: [f64; RECENT],
}

/// The values of a channel that a snapshot keeps: whoever looks ten times a second misses none of a receiver's.
pub const RECENT: usize = 16;

impl ChannelState {
    /// The values that were said since there were `seen` of them, oldest first; at most the newest [`RECENT`].
    pub fn since(&self, seen: u64) -> impl Iterator<Item = f64> + '_ {
        let from = seen.max(self.count.saturating_sub(RECENT as u64));
        let place = |n: u64| usize::try_from(n % RECENT as u64).unwrap_or_default();
        (from..self.count).filter_map(move |n| self.recent.get(place(n)).copied())
    }
}

/// The way of a link, and what comes over it.
#[derive(Debug, PartialEq, Default)]
pub struct LinkReport {
    /// Which link, by its id in the rig.
    pub id: LinkId,
    /// Its way is open.
    pub open: bool,
    /// What is to be known about the way though it works.
    pub note: Option<&'static str>,
    /// Frames and bytes so far.
    pub counts: Counts,
    /// When bytes came last that were not understood, since the newest good frame.
    pub strange_at: Option<Duration>,
    /// Its channels: those that inputs stand on first.
    pub channels: Vec<ChannelState>,
}

/// What came longer ago says nothing of what comes.
const LATELY: Duration = Duration::from_secs(2);

impl LinkReport {
    /// Why nothing good comes, as far as it can be told: bytes that are nothing of its protocol, or none.
    pub fn silence(&self, now: Duration, protocol: Protocol) -> String {
        let row = protocol.row();
        if self.strange_at.is_some_and(|at| now.saturating_sub(at) < LATELY) {
            format!("bytes come that do not read as {}: is the rate or the protocol different?", row.word)
        } else {
            format!("nothing comes: {}", row.silent)
        }
    }
}

impl Clone for LinkReport {
    fn clone(&self) -> Self {
        let mut report = Self::default();
        report.clone_from(self);
        report
    }

    /// Keeps the room that it has: the beat writes one in every turn.
    fn clone_from(&mut self, from: &Self) {
        (self.id, self.open, self.note, self.counts) = (from.id, from.open, from.note, from.counts);
        self.strange_at = from.strange_at;
        self.channels.clone_from(&from.channels);
    }
}

/// An input in one beat.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Sample {
    /// When it came, in engine time.
    pub at: Duration,
    /// What came last.
    pub raw: f64,
    /// Where that is on its span, not clipped.
    pub place: f64,
    /// What the stages made of it.
    pub shaped: f64,
    /// What it said may move something.
    pub live: bool,
}

/// The last beats of the one input that is looked at, in a ring.
#[derive(Debug, PartialEq, Default)]
pub struct Trace {
    /// The input whose beats these are; none before one was looked at.
    pub of: Option<InputId>,
    /// How many beats of it were kept so far.
    pub count: u64,
    /// The newest of them: that of number `n` from 0 stands at `n % TRACED`.
    ring: Vec<Sample>,
}

/// The beats of an input that a snapshot keeps: whoever looks ten times a second misses none of 500 a second.
pub const TRACED: usize = 64;

impl Clone for Trace {
    fn clone(&self) -> Self {
        Self { of: self.of, count: self.count, ring: self.ring.clone() }
    }

    /// Keeps the room that it has: the beat writes one in every turn.
    fn clone_from(&mut self, from: &Self) {
        (self.of, self.count) = (from.of, from.count);
        self.ring.clone_from(&from.ring);
    }
}

impl Trace {
    /// Keeps one more beat of an input; of another one than before it begins anew.
    pub fn keep(&mut self, of: InputId, sample: Sample) {
        if self.of != Some(of) {
            (self.of, self.count) = (Some(of), 0);
        }
        self.ring.resize(TRACED, Sample::default());
        let place = usize::try_from(self.count % TRACED as u64).unwrap_or_default();
        if let Some(kept) = self.ring.get_mut(place) {
            *kept = sample;
        }
        self.count += 1;
    }

    /// The beats since there were `seen` of them, oldest first; at most the newest [`TRACED`].
    pub fn since(&self, seen: u64) -> impl Iterator<Item = Sample> + '_ {
        let from = seen.max(self.count.saturating_sub(TRACED as u64));
        let place = |n: u64| usize::try_from(n % TRACED as u64).unwrap_or_default();
        (from..self.count).filter_map(move |n| self.ring.get(place(n)).copied())
    }
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
    /// When it was taken, since the engine was started.
    pub now: Duration,
    /// The output's state.
    pub output: Output,
    /// How each servo stands, in the plan's order.
    pub servos: Vec<ServoState>,
    /// How each input stands, in the plan's order.
    pub inputs: Vec<InputState>,
    /// The input that is looked at, beat by beat.
    pub trace: Trace,
    /// How each mapping stands, in the plan's order.
    pub mappings: Vec<MappingState>,
    /// What is playing.
    pub players: Players,
    /// How fast that goes beside what is written, 1 being as written.
    pub tempo: f64,
    /// By port, then by board.
    pub boards: Vec<Vec<BoardState>>,
    /// By link, its health.
    pub links: Vec<LinkState>,
    /// By link, its way and its channels.
    pub reports: Vec<LinkReport>,
    /// What happened lately, with running numbers, oldest first.
    pub events: Vec<(u64, Event)>,
    /// How punctual the beat is.
    pub punctual: Punctuality,
}

/// The channels of a board that can do something, by what it has said: `2–13, 19`; none of a kind on which all can.
pub fn able(evidence: &Evidence, role: Role) -> Option<String> {
    let able: Vec<usize> = match evidence {
        Evidence::Firmata(firmware) => {
            (0..wasvolta_port::firmata::PINS).filter(|pin| firmware.can(role, *pin)).collect()
        }
        Evidence::Pwm(chip) => (0..chip.channels).collect(),
        Evidence::Expander(_) | Evidence::Smart(_) => return None,
    };
    Some(in_runs(&able))
}

/// Numbers in rising order, shortly: `2–13, 19`.
pub fn in_runs(numbers: &[usize]) -> String {
    let runs = numbers.chunk_by(|a, b| a + 1 == *b).filter_map(|run| Some((*run.first()?, *run.last()?)));
    let words = runs.map(|(a, b)| if a == b { a.to_string() } else { format!("{a}–{b}") });
    words.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_that_are_not_understood_are_said_while_they_come_and_silence_behind_them() {
        let report = LinkReport { strange_at: Some(Duration::from_secs(1)), ..LinkReport::default() };
        let at = |seconds| report.silence(Duration::from_secs(seconds), Protocol::Ibus);
        assert!(at(2).starts_with("bytes come that do not read as ibus: is the rate"));
        assert!(at(4).starts_with("nothing comes"));
        assert!(LinkReport::default().silence(Duration::ZERO, Protocol::Ibus).starts_with("nothing comes"));
    }
}
