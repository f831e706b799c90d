//! What the screen remembers: where one is, what is being asked, what was said. Only `update` changes it.

use super::action::Action;
use super::errand::Errands;
use super::form::{Field, Form, Task};
use super::keys::Key;
use super::pick::Pick;
use super::scene::Scene;
use super::typing::{Recalled, Typing};
use super::update::ask::Ask;
use crate::edition::Edition;
use crate::paper::Kind;
use crate::recovery::{Left, Offer};
use crate::session::Session;
use std::cell::OnceCell;
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::diagnose::{Expected, Heard, Look as Seen};
use wasvolta_core::fit::TurnsBack;
use wasvolta_core::link::Health;
use wasvolta_core::rig::card::Difference;
use wasvolta_core::rig::edit::End;
use wasvolta_core::rig::edit::Observation;
use wasvolta_core::rig::{
    Back, Board, BoardId, Ends, InputId, ReadAt, Rig, SequenceId, Servo, ServoId, Side,
};
use wasvolta_core::stage::{About, Event, EventKind, Play, Refusal};
use wasvolta_core::unit::Micros;
use wasvolta_engine::Snapshot;
use wasvolta_engine::snapshot::BoardState;
use wasvolta_engine::why::Link;
use wasvolta_port::expander::{Found, Lapse, Phase};
use wasvolta_port::scan::Scan;
use wasvolta_sim::Look;

/// The views.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    /// Ports, boards, channels, rails, and why nothing moves.
    Wiring,
    /// One servo.
    Calibrate,
    /// What comes in.
    Inputs,
    /// Poses in time.
    Sequence,
}

impl Purpose {
    /// What lines typed for it are kept by.
    pub const fn label(&self) -> &'static str {
        match self {
            Self::Pulse => "pulse",
            Self::InputRow => "input row",
            Self::SequenceRow => "sequence row",
            Self::Clock => "clock",
            Self::Pose => "pose",
            Self::Beats => "beats",
            Self::Sheet(_) => "sheet",
        }
    }
}

impl View {
    /// In the order of their keys.
    pub const ALL: [Self; 4] = [Self::Wiring, Self::Calibrate, Self::Inputs, Self::Sequence];

    /// Key and name in the headline.
    pub const fn title(self) -> (&'static str, &'static str) {
        match self {
            Self::Wiring => ("F1", "Wiring"),
            Self::Calibrate => ("F2", "Calibrate"),
            Self::Inputs => ("F3", "Inputs"),
            Self::Sequence => ("F4", "Sequence"),
        }
    }
}

/// A value that arrows tilt and digits replace.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Dial {
    /// The value: degrees, or µs where there are no degrees.
    pub value: f64,
    /// What was typed instead.
    pub typing: Typing,
}

/// How the needle of the engage dialog is read.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Scale {
    /// By the fit.
    Fitted,
    /// By the data sheet: assumed.
    Rated,
    /// There are no angles: pulses.
    Pulses,
}

/// What an entry is for.
#[derive(Debug, Clone, PartialEq)]
pub enum Purpose {
    /// A pulse or angle for the selected servo.
    Pulse,
    /// The selected row of Inputs.
    InputRow,
    /// The selected row of Sequence.
    SequenceRow,
    /// What a meter shows at a board's outputs.
    Clock,
    /// The name of a pose to keep.
    Pose,
    /// How many beats to pass.
    Beats,
    /// Where to write a sheet of the picked servo.
    Sheet(Kind),
}

/// What is being asked.
#[derive(Debug, Clone, PartialEq)]
pub enum Dialog {
    /// Where the horn stands.
    Engage {
        /// The needle.
        dial: Dial,
        /// How it is read.
        scale: Scale,
        /// Where the first value came from.
        from: String,
    },
    /// The angle seen.
    Mark {
        /// The needle.
        dial: Dial,
        /// Whose angle it is.
        at: ReadAt,
        /// The mark that is changed, by its place in the list; none for a new one.
        change: Option<usize>,
    },
    /// A mark contradicts another one.
    Contradiction {
        /// What was to be kept.
        what: Observation,
        /// The two that cannot both be.
        back: TurnsBack,
    },
    /// A test move: what should be seen, then what is.
    Test(TestMove),
    /// Turns are counted by a stopwatch, in seconds since the screen was opened.
    Stopwatch {
        /// When each turn was complete.
        presses: Vec<f64>,
    },
    /// Where a continuous servo stands still is shifted.
    Trim {
        /// The trim it had before.
        before: Micros,
    },
    /// It starts to turn elsewhere than its marks say.
    Drift {
        /// What was seen.
        what: Observation,
        /// How far off that is.
        by: Micros,
    },
    /// A card beside a servo, line by line.
    Compare {
        /// What the card's servo was called.
        card: String,
        /// The lines.
        rows: Vec<Difference>,
    },
    /// How fine other rates and depths would be.
    Fineness {
        /// What is wished, in degrees, as typed.
        wish: Typing,
    },
    /// An endpoint after *stops* or *buzzes*.
    Endpoint {
        /// Which.
        end: End,
        /// Where.
        pulse: Micros,
    },
    /// A limit's angle, then its reason.
    Limit {
        /// Which.
        end: End,
        /// The angle.
        dial: Dial,
        /// The reason, once it is asked for.
        reason: Option<Typing>,
    },
    /// Anything typed.
    Entry {
        /// What for.
        purpose: Purpose,
        /// What stands there.
        typing: Typing,
    },
    /// Every command.
    Palette {
        /// What was typed.
        query: Typing,
        /// Which row.
        pick: usize,
    },
    /// All keys.
    Help {
        /// First line shown.
        from: usize,
    },
    /// Unsaved edits at quit.
    Quit,
    /// Edits that an earlier run has left.
    Recover {
        /// What they are.
        offer: Box<Offer>,
        /// First line shown.
        from: usize,
    },
    /// Some words at once, each under its label.
    Form(Form),
    /// Pulses that run on a board already.
    Found {
        /// The board.
        board: BoardId,
        /// What was found.
        found: Found,
    },
}

/// A test move under way.
#[derive(Debug, Clone)]
pub struct TestMove {
    /// What it is judged by.
    pub expected: Expected,
    /// The pulses it goes to, in order, and from which side.
    pub moves: [(Micros, Side); 4],
    /// Which of them is next, or under way.
    pub step: usize,
    /// It was told to go there.
    pub gone: bool,
    /// The angle that is seen there.
    pub dial: Dial,
    /// What else is seen or heard there.
    pub heard: Heard,
    /// What was seen so far.
    pub looks: Vec<Seen>,
}

impl PartialEq for TestMove {
    fn eq(&self, other: &Self) -> bool {
        (self.step, self.gone, &self.dial, self.heard) == (other.step, other.gone, &other.dial, other.heard)
            && self.looks == other.looks
    }
}

impl TestMove {
    /// What should be seen at the next pulse, and that pulse.
    pub fn prediction(&self) -> Option<(Micros, f64)> {
        let (pulse, _) = *self.moves.get(self.step)?;
        Some((pulse, self.expected.curve.angle_at(pulse).get()))
    }
}

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
    /// The nudge's size, an index into `rows::NUDGES`.
    pub nudge: usize,
    /// The channel picked in Wiring: the board, and the channel there.
    pub plug: (Pick<BoardId>, u8),
    /// What the last look has found.
    pub scan: Option<Scan>,
    /// What the serial port that was asked last has said.
    pub answer: Option<String>,
    /// What is wrong with the simulated bench, as its faults are said.
    pub faults: Vec<String>,
    /// The chain of the picked servo, traced when it is asked for first in a frame.
    pub(super) chain: OnceCell<Option<Vec<Link>>>,
    /// What is still to be done, step by step.
    pub errands: Errands,
    /// The input picked.
    pub input: Pick<InputId>,
    /// The row picked in Inputs.
    pub input_row: usize,
    /// The sequence picked.
    pub sequence: Pick<SequenceId>,
    /// The row picked in Sequence.
    pub sequence_row: usize,
    /// The step picked.
    pub step: usize,
    /// The time looked at, in seconds.
    pub time: f64,
    /// The mark picked in the list, by its place.
    pub mark: Option<usize>,
    /// The servo of which an endpoint was widened last.
    pub widened: Option<ServoId>,
    /// What a test move has found, and of which servo.
    pub finding: Option<(ServoId, String)>,
    /// What the last exercise went over, and how often.
    pub exercised: Option<(Ends<Micros>, u32)>,
    /// The mechanism is drawn in the place of the protractor, where there is room for one only.
    pub mechanism: bool,
    /// What is being asked, the innermost last.
    pub dialog: Option<Dialog>,
    /// A file that is there already: the next key replaces it, if that is Enter.
    pub replacing: Option<std::path::PathBuf>,
    /// What was last said, and until when.
    pub said: Option<(Tone, String, Duration)>,
    /// What happened, oldest first.
    pub log: VecDeque<(Duration, String)>,
    /// The newest snapshot.
    pub snapshot: Snapshot,
    /// What an eye sees of the picked servo, in a simulated rig, with that servo.
    pub seen: Option<(ServoId, Look)>,
    /// What a meter at the picked servo's board shows, in a simulated rig.
    pub meter: Option<f64>,
    /// Raw and shaped values of the picked input, oldest first: time, place in the span, shaped.
    pub strip: VecDeque<(Duration, f64, f64)>,
    /// Levels of the picked servo, where it has one, oldest first; not a number while it gets no pulses.
    pub levels: VecDeque<(Duration, f64)>,
    /// Whose levels those are.
    levels_of: ServoId,
    /// Why the picked input's line cannot be opened, and what to try.
    pub line_trouble: Option<String>,
    /// The pose kept last.
    pub last_pose: Option<String>,
    pub(super) last_key: Option<(Key, Duration)>,
    pub(super) jogged: bool,
    /// From which side the present pulse was reached, as far as the hand knows.
    pub(super) side: Side,
    /// The pulse before the last step outwards: nothing was heard there.
    pub(super) quiet: Option<Micros>,
    events_seen: u64,
    asked_about: Vec<BoardId>,
    boards_seen: Vec<BoardState>,
    /// Servos whose board was started anew: they get their pulses back one by one.
    engaging: Vec<ServoId>,
    told_of_recording: bool,
    /// What was typed before, by what for.
    pub recalled: Recalled,
    /// What is done once the picked servo stands; any key that is pressed before gives it up.
    pub waiting: Option<&'static Action>,
    /// The window shows nothing but how large it must be: only what stops things works.
    pub too_small: bool,
}

const LOG_KEPT: usize = 200;
const SAID_FOR: Duration = Duration::from_secs(6);

/// What becomes of a servo whose pulses had stopped.
pub const fn interrupted(back: Back) -> &'static str {
    match back {
        Back::Last => "lost its pulses for a while: it glides on from its last one",
        Back::Ask => "lost its pulses and may have moved: e asks where it stands",
        Back::StayReleased => "lost its pulses and stays released, as its joint says",
    }
}

impl Model {
    /// A screen that opens on the first servo that still wants calibrating.
    pub fn new(session: &mut Session) -> Self {
        let mut fits = session.runner.edition.fits.iter().zip(&session.document.rig.servos);
        let wanting = |(fit, servo): (&Result<_, _>, &Servo)| fit.is_err() && servo.kind.has_angles();
        let uncalibrated = fits.position(wanting);
        let snapshot = session.runner.engine.snapshot().clone();
        Self {
            quit: false,
            bell: false,
            view: View::Calibrate,
            servo: Pick::at(&session.document.rig.servos, uncalibrated.unwrap_or(0)),
            nudge: 3,
            plug: (Pick::at(&session.document.rig.boards, 0), 0),
            scan: None,
            answer: None,
            faults: Vec::new(),
            chain: OnceCell::new(),
            errands: Errands::default(),
            input: Pick::at(&session.document.rig.inputs, 0),
            input_row: 0,
            sequence: Pick::at(&session.document.rig.sequences, 0),
            sequence_row: 2,
            step: 0,
            time: 0.0,
            mark: None,
            widened: None,
            finding: None,
            exercised: None,
            mechanism: false,
            dialog: None,
            replacing: None,
            said: None,
            log: VecDeque::new(),
            seen: None,
            meter: None,
            strip: VecDeque::new(),
            levels: VecDeque::new(),
            levels_of: ServoId::default(),
            line_trouble: None,
            last_pose: None,
            last_key: None,
            jogged: false,
            side: Side::Unknown,
            quiet: None,
            events_seen: 0,
            asked_about: Vec::new(),
            boards_seen: Vec::new(),
            engaging: Vec::new(),
            told_of_recording: false,
            recalled: Recalled::default(),
            waiting: None,
            too_small: false,
            snapshot,
        }
    }

    /// Begins with what an earlier run has left, and with what a save would change of the file.
    pub fn greet(&mut self, session: &Session, left: Left) {
        if let Some(format) = session.document.older_format() {
            let newest = wasvolta_core::rig::FORMAT;
            let words = format!(
                "this file has format {format}: a save writes it in format {newest}, with your comments"
            );
            self.say(Tone::Done, words.clone(), Duration::ZERO);
            self.note(Duration::ZERO, words);
        }
        match left {
            Left::Nothing => {}
            Left::Edits(offer) => self.dialog = Some(Dialog::Recover { offer, from: 0 }),
            Left::Damaged(aside) => {
                let words = format!(
                    "the copy of an earlier run's unsaved edits is damaged; it is kept in {}, your file is whole",
                    aside.display()
                );
                self.say(Tone::Refused, words, Duration::ZERO);
            }
        }
    }

    /// Takes in what has happened since the last frame.
    pub fn observe(&mut self, session: &mut Session, now: Duration) {
        self.snapshot.clone_from(session.runner.engine.snapshot());
        session.runner.forget_before(&self.snapshot);
        if let Some(found) = session.runner.lookout.found() {
            self.scan = Some(found);
        }
        if let Some(answer) = session.runner.lookout.answer() {
            self.say(Tone::Done, answer.clone(), now);
            self.answer = Some(answer);
        }
        self.look(session);
        let events: Vec<(u64, Event)> =
            self.snapshot.events.iter().copied().filter(|(number, _)| *number > self.events_seen).collect();
        for (number, event) in events {
            self.events_seen = number;
            self.hear(session, event, now);
        }
        self.follow_boards();
        self.note_boards(session.runner.edition_of(&self.snapshot));
        self.settle(session);
        let edition = session.runner.edition_of(&self.snapshot);
        let line = edition.input(self.input.id).and_then(|i| edition.wiring.line(&i.port));
        self.line_trouble =
            line.and_then(|n| session.runner.engine.line_trouble(n)).map(|e| format!("{e}; {}", e.help));
        if self.snapshot.player.play == Play::Playing && self.snapshot.player.sequence == self.sequence.id {
            self.time = self.snapshot.player.at.as_secs_f64();
        }
        if let Some(input) =
            edition.index.inputs.place(self.input.id).and_then(|n| self.snapshot.inputs.get(n))
            && input.raw.is_some()
        {
            if self.strip.len() == STRIP {
                self.strip.pop_front();
            }
            // Nothing came: the line breaks off instead of going on as if it did.
            let alive = !matches!(input.health, Health::Absent | Health::Lost);
            let gap = if alive { 0.0 } else { f64::NAN };
            let raw = input.stages.span + input.stages.clipped + gap;
            self.strip.push_back((self.snapshot.now, raw, input.stages.shaped() + gap));
        }
        self.follow_level(session);
        if session.runner.engine.is_recording_broken()
            && !std::mem::replace(&mut self.told_of_recording, true)
        {
            let words = "the recording is not whole: this machine could not write it as fast as it came; all else goes on";
            self.say(Tone::Refused, words.to_owned(), now);
        }
        if self.said.as_ref().is_some_and(|(_, _, until)| now > *until) {
            self.said = None;
        }
    }

    /// What the picked servo was given lately, where that is a level.
    fn follow_level(&mut self, session: &Session) {
        if std::mem::replace(&mut self.levels_of, self.servo.id) != self.servo.id {
            self.levels.clear();
        }
        let level = self.scene(session).picked().and_then(|p| Some((p.level()?, p.state.engaged)));
        let Some((level, engaged)) = level else { return };
        if self.levels.len() == STRIP {
            self.levels.pop_front();
        }
        self.levels.push_back((self.snapshot.now, if engaged { level } else { f64::NAN }));
    }

    fn look(&mut self, session: &Session) {
        let Some(simulated) = &session.runner.simulated else { return };
        self.faults = simulated.faults().on().iter().map(ToString::to_string).collect();
        let rig = &session.document.rig;
        let picked = session.runner.edition.servo(self.servo.id);
        self.seen = picked.and_then(|servo| Some((servo.id, simulated.look(rig, servo)?)));
        self.meter = picked.and_then(|servo| simulated.meter_hz(rig, rig.board(&servo.board)?));
    }

    fn hear(&mut self, session: &Session, event: Event, now: Duration) {
        let edition = Arc::clone(session.runner.edition_of(&self.snapshot));
        let rig: &Rig = &edition.rig;
        let (servo, input) = match event.about {
            About::Servo(servo) => (edition.servo(servo).map_or("", |s| s.name.as_str()), ""),
            About::Input(input) => ("", edition.input(input).map_or("", |i| i.name.as_str())),
            About::Output => ("", ""),
        };
        let words = match event.kind {
            EventKind::Refused(Refusal::Cannot) => {
                let pins = event.about.servo().and_then(|servo| session.runner.able(&self.snapshot, servo));
                let pins = pins.map_or_else(String::new, |pins| format!("; those that can: {pins}"));
                self.bell = true;
                self.say(Tone::Refused, format!("{servo} {}{pins}", Refusal::Cannot.words()), now);
                return;
            }
            EventKind::Refused(why) => {
                self.say(Tone::Refused, format!("{servo} {}", why.words()).trim().to_owned(), now);
                return;
            }
            EventKind::Stopped(stopped) => {
                self.bell = true;
                let words = format!("{servo} is {}", rig.stopped_words(servo, stopped));
                self.say(Tone::Refused, words, now);
                return;
            }
            EventKind::Engaged => format!("{servo} engaged"),
            EventKind::Released => format!("{servo} released"),
            EventKind::IdleReleased => {
                let words = format!("{servo} was released: nothing was asked of it for long");
                self.say(Tone::Done, words.clone(), now);
                words
            }
            EventKind::Exercised => {
                self.ask_what_was_seen(event.about, servo);
                format!("{servo} exercised")
            }
            EventKind::Cut => "output cut".to_owned(),
            EventKind::Held => "held".to_owned(),
            EventKind::Enabled => "enabled again".to_owned(),
            EventKind::SequenceEnded => "sequence ended".to_owned(),
            EventKind::Link(health) => format!("{input} {}", health.word()),
            EventKind::NotANumber => format!("{servo}: target not a number"),
            EventKind::Resumed => format!("{servo} goes on from the pulse it kept"),
            EventKind::Interrupted(back) => {
                let words = format!("{servo} {}", interrupted(back));
                if back != Back::Last {
                    self.bell = true;
                    self.say(Tone::Refused, words.clone(), now);
                }
                words
            }
            EventKind::Displaced => {
                let words = format!("{servo} glides to where it may stand: the edit left it outside");
                self.say(Tone::Done, words.clone(), now);
                words
            }
        };
        self.note(event.at, words);
    }

    /// Once the picked servo was exercised, what was seen is worth a word.
    fn ask_what_was_seen(&mut self, about: About, servo: &str) {
        if about == About::Servo(self.servo.id) && self.dialog.is_none() {
            let hint = "in words, kept with the servo; Esc keeps nothing";
            let fields = vec![Field::new("what was seen", "", hint)];
            self.dialog = Some(Dialog::Form(Form::new(Task::Ask(Ask::Seen, servo.to_owned()), fields)));
        }
    }

    /// Whatever a board asks is asked anew.
    pub fn ask_again(&mut self) {
        self.asked_about.clear();
        self.follow_boards();
    }

    /// Speaks up when a board asks something, once a question.
    fn follow_boards(&mut self) {
        for state in self.snapshot.boards.iter().flatten() {
            let asked = self.asked_about.contains(&state.id);
            match state.phase {
                Phase::Asking(found) if !asked && self.dialog.is_none() => {
                    self.dialog = Some(Dialog::Found { board: state.id, found });
                    self.asked_about.push(state.id);
                }
                Phase::Started => self.asked_about.retain(|board| *board != state.id),
                _ => {}
            }
        }
    }

    /// What is picked may be gone after an undo: then the one in its place is picked, or the last that is there.
    fn settle(&mut self, session: &Session) {
        let last = |count: usize| count.saturating_sub(1);
        let (rig, index) = (&session.document.rig, &session.runner.edition.index);
        self.servo.settle(&rig.servos, &index.servos);
        self.input.settle(&rig.inputs, &index.inputs);
        self.sequence.settle(&rig.sequences, &index.sequences);
        self.plug.0.settle(&rig.boards, &index.boards);
        let marks = session.runner.edition.servo(self.servo.id).map_or(0, |servo| servo.marks.len());
        self.mark = self.mark.filter(|_| marks > 0).map(|mark| mark.min(last(marks)));
        let steps =
            session.runner.edition.sequence(self.sequence.id).map_or(0, |sequence| sequence.steps.len());
        self.step = self.step.min(last(steps));
    }

    /// Notes what became of each board: missing, back, not as it was left. One line each, and one for every servo
    /// that gets its pulses back.
    fn note_boards(&mut self, edition: &Edition) {
        let rig = &edition.rig;
        let states: Vec<(&Board, BoardState)> =
            edition.boards(&self.snapshot).map(|(board, state)| (board, *state)).collect();
        let next = states.iter().map(|(_, state)| *state).collect();
        let before = std::mem::replace(&mut self.boards_seen, next);
        for (board, is) in states {
            let was = before.iter().find(|was| was.id == board.id).copied().unwrap_or_default();
            let lapse = is.lapse.filter(|_| is.lapses > was.lapses).map(|(_, lapse)| lapse);
            let words = match (was.trouble, is.trouble) {
                (None, Some(trouble)) => Some(format!("{}: {}", board.name, trouble.fault)),
                (Some(_), None) if was.starts > 0 => Some(match lapse {
                    Some(lapse) => format!("{} is back; it {}", board.name, lapse.words()),
                    None => format!("{} is back", board.name),
                }),
                _ if lapse.is_some() => lapse.map(|lapse| format!("{} {}", board.name, lapse.words())),
                _ if is.starts > was.starts => Some(format!("{} started", board.name)),
                _ => None,
            };
            if let Some(words) = words {
                self.note(self.snapshot.now, words);
            }
            let again = (is.starts > was.starts && was.starts > 0) || lapse.is_some_and(Lapse::is_restart);
            for servo in rig.servos_on(&board.name) {
                let place = usize::from(servo.channel);
                let (had, has) =
                    (was.sent.get(place).copied().flatten(), is.sent.get(place).copied().flatten());
                if again && had.is_some() {
                    self.engaging.push(servo.id);
                }
                if has.is_some() && self.engaging.contains(&servo.id) {
                    self.engaging.retain(|engaging| *engaging != servo.id);
                    self.note(self.snapshot.now, format!("{} engaged again", servo.name));
                }
            }
        }
    }

    /// Picks a servo by its place, and the channel it is on.
    pub fn pick_servo(&mut self, rig: &Rig, place: usize) {
        let picked = Pick::at(&rig.servos, place);
        if self.servo.id != picked.id {
            (self.side, self.quiet, self.mark) = (Side::Unknown, None, None);
        }
        self.servo = picked;
        self.follow_servo(rig);
    }

    /// The picked channel is that of the picked servo.
    pub fn follow_servo(&mut self, rig: &Rig) {
        if let Some(servo) = rig.servos.iter().find(|servo| servo.id == self.servo.id)
            && let Some(board) = rig.boards.iter().position(|b| b.name == servo.board)
        {
            self.plug = (Pick::at(&rig.boards, board), servo.channel);
        }
    }

    /// A line in the log.
    pub fn note(&mut self, at: Duration, words: String) {
        tracing::info!("{:.3} s {}", at.as_secs_f64(), words);
        if self.log.len() == LOG_KEPT {
            self.log.pop_front();
        }
        self.log.push_back((at, words));
    }

    /// Says something in the place of the next line, for a while.
    pub fn say(&mut self, tone: Tone, words: String, now: Duration) {
        tracing::debug!("{tone:?}: {}", words);
        self.said = Some((tone, words, now + SAID_FOR));
    }

    /// A new frame: a held key may nudge once more.
    pub fn new_frame(&mut self) {
        self.jogged = false;
        self.chain.take();
    }

    /// Whether something moves on the screen though the output is off.
    pub fn is_lively(&self) -> bool {
        self.snapshot.player.play == Play::Playing || (self.view == View::Inputs && !self.strip.is_empty())
    }

    /// What an action may look at: the newest edition, with what is known of its parts.
    pub fn scene<'a>(&'a self, session: &'a Session) -> Scene<'a> {
        self.scene_of(session, &session.runner.edition)
    }

    /// What a drawing may look at: the edition that the snapshot is about.
    pub fn shown<'a>(&'a self, session: &'a Session) -> Scene<'a> {
        self.scene_of(session, session.runner.edition_of(&self.snapshot))
    }

    fn scene_of<'a>(&'a self, session: &'a Session, edition: &'a Edition) -> Scene<'a> {
        let port = edition.input(self.input.id).map(|i| i.port.as_str());
        let knob = port.and_then(|p| session.runner.knob(p)).map(|k| (k.position(), k.is_plugged()));
        Scene {
            model: self,
            rig: &edition.rig,
            edition,
            shown: session.runner.edition_of(&self.snapshot),
            chips: &session.runner.lookout.chips,
            unsaved: session.document.is_unsaved(),
            changed_outside: session.document.is_changed_outside(),
            undo: session.document.can_undo_redo(),
            by_hand: session.runner.manual.is_some(),
            knob,
            line_trouble: self.line_trouble.as_deref(),
            looking: session.runner.lookout.is_looking(),
            heard: session.runner.engine.is_heard(self.snapshot.now),
            simulated: session.runner.simulated.is_some(),
        }
    }
}
