//! What is being asked, as values: each with its own table of keys, which makes its keys line too.

use super::beside::Beside;
use super::dial::{Dial, Does};
use super::form::Form;
use super::inputs::heard::{Listen, Watching};
use super::keymap::spell;
use super::keys::Key;
use super::typing::Typing;
use crate::paper::Kind;
use crate::recovery::Offer;
use crossterm::event::KeyCode;
use std::borrow::Cow;
use wasvolta_core::alike::Alike;
use wasvolta_core::diagnose::{Expected, Heard, Look as Seen};
use wasvolta_core::fit::TurnsBack;
use wasvolta_core::rig::edit::{End, Observation};
use wasvolta_core::rig::{BoardId, ReadAt, Side};
use wasvolta_core::unit::Position;
use wasvolta_port::expander::Found;

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
    /// The keyboard's faders are played.
    Faders,
    /// Where the horn stands.
    Engage {
        dial: Dial,
        /// How it is read.
        scale: Scale,
        /// Where the first value came from.
        from: String,
    },
    /// The angle seen.
    Mark {
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
        before: Position,
    },
    /// It starts to turn elsewhere than its marks say.
    Drift {
        /// What was observed.
        what: Observation,
        /// How far off that is.
        by: Position,
    },
    /// What is known of a servo beside what another source says, line by line.
    Compare {
        /// What the other source is.
        other: String,
        /// What is said below.
        words: String,
        rows: Vec<Beside>,
        /// The other's angles by pulse, in µs and degrees, to be drawn beside the fit; empty where there are none.
        angles: Vec<(f64, f64)>,
    },
    /// Servos of a kind beside one another.
    Alike {
        /// What is said below.
        words: String,
        alike: Box<Alike>,
    },
    /// How fine other rates and depths would be.
    Fineness {
        /// What is wished, in degrees, as typed.
        wish: Typing,
    },
    /// An endpoint after *stops* or *buzzes*.
    Endpoint { end: End, pulse: Position },
    /// A limit's angle, then its reason.
    Limit {
        end: End,
        dial: Dial,
        /// The reason, once it is asked for.
        reason: Option<Typing>,
    },
    Entry {
        purpose: Purpose,
        /// What stands there.
        typing: Typing,
    },
    Palette {
        /// What was typed.
        query: Typing,
        pick: usize,
    },
    Help {
        /// What is looked for.
        query: Typing,
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
    /// Channels are listened to: one of them is meant.
    Listen(Listen),
    /// An input is watched while it is moved.
    Watch(Watching),
    /// Pulses that run on a board already.
    Found {
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
    pub moves: [(Position, Side); 4],
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
    pub fn prediction(&self) -> Option<(Position, f64)> {
        let (pulse, _) = *self.moves.get(self.step)?;
        Some((pulse, self.expected.curve.angle_at(pulse).get()))
    }
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

/// A row of a dialog's table: how its keys stand in the keys line, the word behind them, and what each of them does.
/// Without keys it says what typing does; without a name it is not shown.
pub struct DialogKey {
    /// How they stand in the line.
    pub shown: &'static str,
    /// What they do, in a word or two.
    pub word: &'static str,
    /// Each of them, with what it does.
    pub keys: &'static [(Key, Does)],
}

const fn row(shown: &'static str, word: &'static str, keys: &'static [(Key, Does)]) -> DialogKey {
    DialogKey { shown, word, keys }
}

const ENTER: Key = Key::of(KeyCode::Enter);
const ESC: Key = Key::of(KeyCode::Esc);
const TAB: Key = Key::of(KeyCode::Tab);
const LEFT: Key = Key::of(KeyCode::Left);
const RIGHT: Key = Key::of(KeyCode::Right);
const UP: Key = Key::of(KeyCode::Up);
const DOWN: Key = Key::of(KeyCode::Down);

const TYPE: DialogKey = row("0-9", "type it", &[]);

const fn enter(word: &'static str) -> DialogKey {
    row("Enter", word, &[(ENTER, Does::Answer)])
}

const fn esc(word: &'static str) -> DialogKey {
    row("Esc", word, &[(ESC, Does::Leave)])
}

const LEAVE: DialogKey = esc("leave");

/// Either pair of arrows turns it.
const fn turns(word: &'static str) -> DialogKey {
    row("← →", word, &[(LEFT, Does::Less), (DOWN, Does::Less), (RIGHT, Does::More), (UP, Does::More)])
}

// What ends a question stands first: it must be seen in a narrow window too.
static ENGAGE: &[DialogKey] = &[
    enter("first pulse there"),
    row("← →", "tilt 1°", &[(LEFT, Does::Less), (RIGHT, Does::More)]),
    row("↓ ↑", "10°", &[(DOWN, Does::MuchLess), (UP, Does::MuchMore)]),
    TYPE,
    LEAVE,
];
static ENGAGE_PULSES: &[DialogKey] = &[enter("first pulse there"), turns("10 µs"), TYPE, LEAVE];
static MARK: &[DialogKey] =
    &[enter("keep"), turns("a degree"), TYPE, row("Tab", "at servo or joint", &[(TAB, Does::Other)]), LEAVE];
static CONTRADICTION: &[DialogKey] = &[
    row("d", "drop that one", &[(Key::char('d'), Does::Drop)]),
    row("r", "retake", &[(Key::char('r'), Does::Retake)]),
    row("h", "horn was moved", &[(Key::char('h'), Does::Shift)]),
    esc("keep neither"),
];
static TEST_TO_GO: &[DialogKey] = &[enter("move there"), LEAVE];
static TEST_TO_SEE: &[DialogKey] =
    &[enter("seen"), turns("a degree"), TYPE, row("Tab", "buzzes, twitches", &[(TAB, Does::Other)]), LEAVE];
static STOPWATCH: &[DialogKey] = &[
    row("t", "a turn", &[(Key::char('t'), Does::Turn), (Key::char(' '), Does::Turn)]),
    enter("keep the rate"),
    LEAVE,
];
static TRIM: &[DialogKey] = &[
    turns("a tick"),
    row("0", "none", &[(Key::char('0'), Does::Zero)]),
    enter("for now"),
    row("k", "keep", &[(Key::char('k'), Does::Keep)]),
    esc("as it was"),
];
static DRIFT: &[DialogKey] =
    &[row("t", "trim", &[(Key::char('t'), Does::Trim)]), enter("keep as mark"), LEAVE];
static FINENESS: &[DialogKey] = &[TYPE, enter("close"), row("", "", &[(ESC, Does::Leave)])];
static COMPARE: &[DialogKey] = &[row("any key", "close", &[])];
static ENDPOINT: &[DialogKey] = &[
    enter("set it"),
    row("b", "back off more", &[(Key::char('b'), Does::BackOff)]),
    esc("leave it as it was"),
    row("s", "no longer follows", &[(Key::char('s'), Does::Stops)]),
];
static LIMIT: &[DialogKey] = &[
    enter("on to the reason"),
    turns("a degree"),
    row("Tab", "the other limit", &[(TAB, Does::Other)]),
    TYPE,
    LEAVE,
];
static REASON: &[DialogKey] = &[enter("keep"), LEAVE];
static ENTRY: &[DialogKey] =
    &[enter("do it"), row("↑", "typed before", &[]), row("Ctrl-U", "clear", &[]), LEAVE];
static PALETTE: &[DialogKey] = &[
    enter("do it"),
    row("a-z", "find", &[]),
    row(
        "↑ ↓",
        "pick",
        &[
            (UP, Does::Up),
            (DOWN, Does::Down),
            (Key::of(KeyCode::PageUp), Does::PageUp),
            (Key::of(KeyCode::PageDown), Does::PageDown),
        ],
    ),
    LEAVE,
];
static HELP: &[DialogKey] = &[
    row("a-z", "find", &[]),
    row(
        "↑ ↓",
        "scroll",
        &[
            (UP, Does::Up),
            (DOWN, Does::Down),
            (Key::of(KeyCode::PageUp), Does::PageUp),
            (Key::of(KeyCode::PageDown), Does::PageDown),
        ],
    ),
    esc("close"),
];
static QUIT: &[DialogKey] = &[
    row("s", "save and quit", &[(Key::char('s'), Does::Save), (ENTER, Does::Save)]),
    row("q", "quit without saving", &[(Key::char('q'), Does::Without)]),
    esc("stay"),
];
static RECOVER: &[DialogKey] = &[
    enter("take the edits back"),
    row("n", "leave them, kept aside", &[(Key::char('n'), Does::Leave), (ESC, Does::Leave)]),
    row("↑ ↓", "scroll", &[(UP, Does::Up), (DOWN, Does::Down)]),
];
static LISTEN: &[DialogKey] =
    &[enter("take it"), row("↑ ↓", "pick by hand", &[(UP, Does::Up), (DOWN, Does::Down)]), LEAVE];
/// Either arrow moves what is simulated.
const STAND_IN: DialogKey = row("← →", "move the stand-in", &[(LEFT, Does::Less), (RIGHT, Does::More)]);
static LISTEN_SIMULATED: &[DialogKey] =
    &[enter("take it"), row("↑ ↓", "pick by hand", &[(UP, Does::Up), (DOWN, Does::Down)]), STAND_IN, LEAVE];
const PRESSED: DialogKey = row("p", "it is pressed now", &[(Key::char('p'), Does::Pressed)]);
const ANEW: DialogKey = row("r", "watch anew", &[(Key::char('r'), Does::Retake)]);
static WATCH_SIMULATED: &[DialogKey] = &[enter("keep all"), STAND_IN, PRESSED, ANEW, LEAVE];
static WATCH: &[DialogKey] = &[enter("keep all"), PRESSED, ANEW, LEAVE];
static FADERS: &[DialogKey] = &[
    row("← →", "fader1", &[(LEFT, Does::Less), (RIGHT, Does::More)]),
    row("↓ ↑", "fader2", &[(DOWN, Does::Down), (UP, Does::Up)]),
    row("1 2", "toggles", &[(Key::char('1'), Does::Number(2)), (Key::char('2'), Does::Number(3))]),
    row("3 4", "buttons", &[(Key::char('3'), Does::Number(4)), (Key::char('4'), Does::Number(5))]),
    LEAVE,
];
static CONFIRM: &[DialogKey] = &[enter("yes"), LEAVE];
static FORM: &[DialogKey] = &[enter("do it"), LEAVE];
static FORMS: &[DialogKey] = &[enter("do it"), row("Tab", "next field", &[]), LEAVE];
static PULSING: &[DialogKey] = &[
    row("a", "keep them", &[(Key::char('a'), Does::Adopt)]),
    row("r", "release them", &[(Key::char('r'), Does::Release)]),
    esc("later"),
];
static FOUND: &[DialogKey] =
    &[row("r", "release and start", &[(Key::char('r'), Does::Release)]), esc("later")];

impl Dialog {
    /// Every table, with what is asked then, for the help.
    pub const TABLES: [(&'static str, &'static [DialogKey]); 29] = [
        ("where the horn stands", ENGAGE),
        ("a first pulse", ENGAGE_PULSES),
        ("a mark's angle", MARK),
        ("marks that contradict each other", CONTRADICTION),
        ("before a test move", TEST_TO_GO),
        ("after a test move", TEST_TO_SEE),
        ("turns to be timed", STOPWATCH),
        ("a trim", TRIM),
        ("a standstill that has moved", DRIFT),
        ("how fine it is to be", FINENESS),
        ("a card, the truth, or others beside the servo", COMPARE),
        ("an endpoint", ENDPOINT),
        ("a limit", LIMIT),
        ("the reason of a limit", REASON),
        ("a value", ENTRY),
        ("a command", PALETTE),
        ("keys", HELP),
        ("unsaved edits", QUIT),
        ("edits of an earlier run", RECOVER),
        ("which channel is meant", LISTEN),
        ("which simulated channel is meant", LISTEN_SIMULATED),
        ("an input that is watched", WATCH),
        ("a simulated input that is watched", WATCH_SIMULATED),
        ("the keyboard's faders", FADERS),
        ("are you sure", CONFIRM),
        ("one word", FORM),
        ("several words", FORMS),
        ("pulses that were found", PULSING),
        ("a chip that was found", FOUND),
    ];

    /// Its own table of keys. The keys line is made from it, and so is what a key does.
    pub fn keys(&self) -> &'static [DialogKey] {
        match self {
            Self::Engage { scale: Scale::Pulses, .. } => ENGAGE_PULSES,
            Self::Engage { .. } => ENGAGE,
            Self::Mark { .. } => MARK,
            Self::Contradiction { .. } => CONTRADICTION,
            Self::Test(test) if !test.gone => TEST_TO_GO,
            Self::Test(_) => TEST_TO_SEE,
            Self::Stopwatch { .. } => STOPWATCH,
            Self::Trim { .. } => TRIM,
            Self::Drift { .. } => DRIFT,
            Self::Fineness { .. } => FINENESS,
            Self::Compare { .. } | Self::Alike { .. } => COMPARE,
            Self::Endpoint { .. } => ENDPOINT,
            Self::Limit { reason: None, .. } => LIMIT,
            Self::Limit { .. } => REASON,
            Self::Entry { .. } => ENTRY,
            Self::Palette { .. } => PALETTE,
            Self::Help { .. } => HELP,
            Self::Quit => QUIT,
            Self::Found { found: Found::Pulsing { adoptable: true, .. }, .. } => PULSING,
            Self::Found { .. } => FOUND,
            Self::Listen(listen) if listen.simulated => LISTEN_SIMULATED,
            Self::Listen(_) => LISTEN,
            Self::Watch(watching) if watching.simulated => WATCH_SIMULATED,
            Self::Watch(_) => WATCH,
            Self::Faders => FADERS,
            Self::Recover { .. } => RECOVER,
            Self::Form(form) => match form.fields.len() {
                0 => CONFIRM,
                1 => FORM,
                _ => FORMS,
            },
        }
    }

    /// A text with the keys of that table in the places of their words: `‹keep›` becomes `Enter` where that keeps.
    pub fn spell<'t>(&self, text: &'t str) -> Cow<'t, str> {
        let first = |row: &DialogKey| row.shown.split(' ').next().unwrap_or_default().to_owned();
        spell(text, |word| self.keys().iter().find(|row| row.word == word).map(first))
    }

    /// What a key does, by that table.
    pub fn does(&self, key: Key) -> Option<Does> {
        let keys = self.keys().iter().flat_map(|row| row.keys);
        keys.copied().find(|(own, _)| *own == key).map(|(_, does)| does)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_key_means_two_things_to_a_dialog_and_each_stands_as_it_is_named() {
        for (_, rows) in Dialog::TABLES {
            let keys: Vec<Key> = rows.iter().flat_map(|row| row.keys).map(|(key, _)| *key).collect();
            for key in &keys {
                assert_eq!(keys.iter().filter(|other| *other == key).count(), 1, "{key:?}");
            }
            for row in rows.iter().filter(|row| !row.shown.is_empty()) {
                for name in row.shown.split(' ').filter(|_| !row.keys.is_empty()) {
                    assert!(row.keys.iter().any(|(key, _)| key.name() == name), "{} {}", row.shown, row.word);
                }
            }
            // Every dialog can be left, and by a key that is shown unless any key leaves it.
            let any = rows.iter().any(|row| row.keys.is_empty() && row.shown.starts_with("any"));
            assert!(any || keys.contains(&ESC));
        }
    }
}
