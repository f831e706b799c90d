//! What the screen remembers: where one is, what is being asked, what was said. Only `update` changes it.

use super::calibrate::state::State as InCalibrate;
use super::inputs::state::State as InInputs;
use super::sequence::state::State as InSequence;
use super::wiring::state::State as InWiring;
use crate::edition::Edition;
use crate::recovery::Left;
use crate::screen::also::Also;
use crate::screen::dialog::Dialog;
use crate::screen::errand::Errands;
use crate::screen::intent::Intent;
use crate::screen::keymap::Keymap;
use crate::screen::keys::Key;
use crate::screen::moment::Moment;
use crate::screen::pick::Pick;
use crate::screen::taught::Taught;
use crate::screen::touch::{Needle, Touch};
use crate::screen::typing::Recalled;
use crate::session::Session;
use ratatui::layout::Rect;
use std::cell::OnceCell;
use std::collections::VecDeque;
use std::time::Duration;
use wasvolta_core::rig::{BoardId, InputId, Rig, SequenceId, Servo, ServoId, Side};
use wasvolta_engine::Snapshot;
use wasvolta_engine::snapshot::BoardState;
use wasvolta_engine::why::Link;
use wasvolta_sim::Look;

/// Where one is: a room, by its name. What belongs to it stands in its row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct View(pub &'static str);

/// How something is said.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// It was done.
    Done,
    /// It was not.
    Refused,
}

/// Points of a strip chart.
pub const STRIP: usize = 600;
/// Beats of an input that a strip chart keeps: twelve seconds at 200 a second, and some.
pub const TRACED: usize = 2600;

/// See the module.
#[expect(clippy::struct_excessive_bools, reason = "independent wishes to the loop, not modes")]
pub struct Model {
    /// The program is to end.
    pub quit: bool,
    /// The terminal's bell is to sound.
    pub bell: bool,
    /// Where one is.
    pub view: View,
    /// The servo picked.
    pub servo: Pick<ServoId>,
    /// What is picked beside it.
    pub also: Also,
    /// The nudge's size, an index into `step::NUDGES`.
    pub nudge: usize,
    /// The chain of the picked servo, traced when it is asked for first in a frame.
    pub chain: OnceCell<Option<Vec<Link>>>,
    /// What is still to be done, step by step.
    pub errands: Errands,
    /// The input picked.
    pub input: Pick<InputId>,
    /// The sequence picked.
    pub sequence: Pick<SequenceId>,
    /// What the screen remembers of Wiring.
    pub in_wiring: InWiring,
    /// Limp joints that were moved by hand.
    pub taught: Taught,
    /// Smart servos with which something was wrong at the last look, and what.
    pub ailing: Vec<(ServoId, &'static str)>,
    /// What the screen remembers of Calibrate.
    pub in_calibrate: InCalibrate,
    /// What the screen remembers of Inputs.
    pub in_inputs: InInputs,
    /// What the screen remembers of Sequence.
    pub in_sequence: InSequence,
    /// What was chosen to be carried out next.
    pub intent: Option<Intent>,
    /// What is being asked, the innermost last.
    pub dialog: Option<Dialog>,
    /// A file that is there already: the next key replaces it, if that is Enter.
    pub replacing: Option<std::path::PathBuf>,
    /// What was last said, and until when.
    pub said: Option<(Tone, String, Duration)>,
    /// What was said or has changed lately.
    pub flaps: Vec<Flap>,
    /// What happened, oldest first.
    pub log: VecDeque<(Duration, String)>,
    /// The newest snapshot.
    pub snapshot: Snapshot,
    /// What an eye sees of the picked servo, in a simulated rig, with that servo.
    pub seen: Option<(ServoId, Look)>,
    /// What a meter at the picked servo's board shows, in a simulated rig.
    pub meter: Option<f64>,
    /// The last seconds of the picked servo, oldest first.
    pub course: VecDeque<Moment>,
    /// Whose they are.
    pub course_of: ServoId,
    pub last_key: Option<(Key, Duration)>,
    /// Keys that were pressed since the screen was opened; one that is held counts once.
    pub presses: usize,
    pub events_seen: u64,
    pub asked_about: Vec<BoardId>,
    pub boards_seen: Vec<BoardState>,
    /// Servos whose board was started anew: they get their pulses back one by one.
    pub engaging: Vec<ServoId>,
    pub told_of_recording: bool,
    /// What was typed before, by what for.
    pub recalled: Recalled,
    /// The action that is done once the picked servo stands, by its name; any key that is pressed before gives it up.
    pub waiting: Option<&'static str>,
    /// The window shows nothing but how large it must be: only what stops things works.
    pub too_small: bool,
    /// The size of the window when it was drawn last.
    pub window: Rect,
    /// The needle that the mouse holds.
    pub grip: Option<Needle>,
    /// What could be clicked there.
    pub touches: Vec<Touch>,
    /// Which key does what.
    pub keys: Keymap,
    /// Commands that were chosen by name, the last first.
    pub recent: Vec<&'static str>,
}

const LOG_KEPT: usize = 200;
/// Changes of a link that follow each other within this time belong together.
const FLAPPING: Duration = Duration::from_secs(20);
/// So many of them have a line each.
const FEW_CHANGES: u32 = 2;

/// What is said or changes again and again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Flap {
    of: String,
    first: Duration,
    last: Duration,
    count: u32,
}
/// Before this format inputs had ports, and no links.
const LINKS_SINCE: u32 = 8;
/// How long is said what was done: until it is read. The next line waits behind it.
const DONE_FOR: Duration = Duration::from_secs(3);
/// How long is said why something was not done, and what to do.
const REFUSED_FOR: Duration = Duration::from_secs(6);

impl Model {
    /// The ends that the device behind a channel gives for it.
    pub fn snapshot_ends(&self, edition: &Edition, link: &str, channel: &str) -> Option<(f64, f64)> {
        let link = edition.rig.link(link)?;
        let protocol = edition.rig.protocol_of(link)?;
        let report = self.snapshot.reports.iter().find(|report| report.id == link.id)?;
        report.channels.iter().find(|state| protocol.name(&state.channel) == channel)?.ends
    }

    /// A screen that opens on the first servo that still wants calibrating.
    pub fn new(session: &mut Session, view: View) -> Self {
        session.runner.keyboard.show();
        let mut fits = session.runner.edition.fits.iter().zip(&session.document.rig.servos);
        let wanting = |(fit, servo): (&Result<_, _>, &Servo)| fit.is_err() && servo.kind.has_angles();
        let uncalibrated = fits.position(wanting);
        let snapshot = session.runner.engine.snapshot().clone();
        Self {
            quit: false,
            bell: false,
            view,
            servo: Pick::at(&session.document.rig.servos, uncalibrated.unwrap_or(0)),
            also: Also::default(),
            nudge: 3,
            chain: OnceCell::new(),
            errands: Errands::default(),
            input: Pick::at(&session.document.rig.inputs, 0),
            sequence: Pick::at(&session.document.rig.sequences, 0),
            taught: Taught::default(),
            ailing: Vec::new(),
            in_wiring: InWiring::new(&session.document.rig),
            in_calibrate: InCalibrate::default(),
            in_inputs: InInputs::default(),
            in_sequence: InSequence::default(),
            intent: None,
            dialog: None,
            replacing: None,
            said: None,
            flaps: Vec::new(),
            log: VecDeque::new(),
            seen: None,
            meter: None,
            course: VecDeque::new(),
            course_of: ServoId::default(),
            last_key: None,
            presses: 0,
            events_seen: 0,
            asked_about: Vec::new(),
            boards_seen: Vec::new(),
            engaging: Vec::new(),
            told_of_recording: false,
            recalled: Recalled::default(),
            waiting: None,
            too_small: false,
            window: Rect::ZERO,
            grip: None,
            touches: Vec::new(),
            keys: Keymap::default(),
            recent: Vec::new(),
            snapshot,
        }
    }

    /// Begins with what an earlier run has left, and with what a save would change of the file.
    pub fn greet(&mut self, session: &Session, left: Left) {
        if let Some(format) = session.document.older_format() {
            let newest = wasvolta_core::rig::FORMAT;
            let links = session.document.rig.links.len();
            let links = if format < LINKS_SINCE && links > 0 {
                format!("; its inputs come over {links} link{} now", if links == 1 { "" } else { "s" })
            } else {
                String::new()
            };
            let words = format!(
                "this file has format {format}: a save writes it in format {newest}, with your comments{links}"
            );
            self.say(Tone::Done, &words, Duration::ZERO);
            self.note(Duration::ZERO, &words);
        }
        if let Some(deal) = &session.practice {
            let words = format!(
                "deal {}: a {} servo by its label. Find out what it really is; ‹show the truth› compares",
                deal.number, deal.class.name
            );
            self.say(Tone::Done, &words, Duration::ZERO);
            self.note(Duration::ZERO, &words);
        }
        match left {
            Left::Nothing => {}
            Left::Edits(offer) => self.dialog = Some(Dialog::Recover { offer, from: 0 }),
            Left::Damaged(aside) => {
                let words = format!(
                    "the copy of an earlier run's unsaved edits is damaged; it is kept in {}. Your file is intact",
                    aside.display()
                );
                self.say(Tone::Refused, &words, Duration::ZERO);
            }
        }
    }

    /// Picks a servo by its place, and the channel it is on.
    pub fn pick_servo(&mut self, rig: &Rig, place: usize) {
        let picked = Pick::at(&rig.servos, place);
        if self.servo.id != picked.id {
            (self.in_calibrate.side, self.in_calibrate.quiet, self.in_calibrate.mark) =
                (Side::Unknown, None, None);
        }
        self.servo = picked;
        self.grip = None;
        self.also.clear();
        self.follow_servo(rig);
    }

    /// The picked channel is that of the picked servo.
    pub fn follow_servo(&mut self, rig: &Rig) {
        if let Some(servo) = rig.servos.iter().find(|servo| servo.id == self.servo.id)
            && let Some(board) = rig.boards.iter().position(|b| b.name == servo.board)
        {
            self.in_wiring.plug = (Pick::at(&rig.boards, board), servo.plug());
        }
    }

    /// A line in the log. One that comes again and again has one line, with a count.
    pub fn note(&mut self, at: Duration, words: &str) {
        let words = self.keys.spell(words).into_owned();
        match self.again(at, &words) {
            (_, 1) => {
                tracing::info!("{:.3} s {}", at.as_secs_f64(), words);
                self.log_line(at, words);
            }
            (first, count) => {
                let alike = |line: &str| {
                    line.strip_prefix(&words).is_some_and(|n| n.is_empty() || n.starts_with(", "))
                };
                self.fold(at, first, alike, count, &format!("{words}, {count} times"));
            }
        }
    }

    /// A line in the log about how something is: `link desk`, `heron.nape:`. One that changes again and again has one line,
    /// with a count.
    pub fn note_health(&mut self, at: Duration, of: &str, health: &str) {
        let (first, count) = self.again(at, of);
        if count <= FEW_CHANGES {
            return self.note(at, &format!("{of} {health}"));
        }
        let own = format!("{of} ");
        self.fold(
            at,
            first,
            |line| line.starts_with(&own),
            count,
            &format!("{of} {health}, {count} changes"),
        );
    }

    /// Counts what is the same and follows within a while: since when, and how often.
    fn again(&mut self, at: Duration, of: &str) -> (Duration, u32) {
        self.flaps.retain(|flap| at.saturating_sub(flap.last) <= FLAPPING);
        if let Some(flap) = self.flaps.iter_mut().find(|flap| flap.of == of) {
            (flap.last, flap.count) = (at, flap.count + 1);
            return (flap.first, flap.count);
        }
        self.flaps.push(Flap { of: of.to_owned(), first: at, last: at, count: 1 });
        (at, 1)
    }

    /// Puts one line in the place of those since `first` that are alike.
    fn fold(&mut self, at: Duration, first: Duration, alike: impl Fn(&str) -> bool, count: u32, words: &str) {
        self.log.retain(|(then, line)| *then < first || !alike(line));
        let words = format!("{words} in {:.0} s", at.saturating_sub(first).as_secs_f64());
        if count.is_power_of_two() {
            tracing::info!("{:.3} s {}", at.as_secs_f64(), words);
        }
        self.log_line(at, words);
    }

    fn log_line(&mut self, at: Duration, words: String) {
        if self.log.len() == LOG_KEPT {
            self.log.pop_front();
        }
        self.log.push_back((at, words));
    }

    /// Says something in the place of the next line, for a while.
    pub fn say(&mut self, tone: Tone, words: &str, now: Duration) {
        let words = self.keys.spell(words).into_owned();
        tracing::debug!("{tone:?}: {}", words);
        let time = if tone == Tone::Done { DONE_FOR } else { REFUSED_FOR };
        self.said = Some((tone, words, now + time));
    }

    /// A new frame: a held key may nudge once more.
    pub fn new_frame(&mut self) {
        self.in_calibrate.jogged = false;
        self.chain.take();
    }
}
