//! Why nothing moves: the chain from the port's path to the horn, link by link.
//!
//! Facts come from a running engine, or from a look at the bus that reads only. Each link is proven, failed, or
//! cannot be proven from here; what lies behind a failed one is not known.

pub(crate) mod board;
mod source;

pub use board::ASKED;
pub use source::{asked, from_source_to_wire};

use crate::snapshot::BoardState;
use crate::{Compiled, Snapshot, chips};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Duration;
use wasvolta_core::guard::Stopped;
use wasvolta_core::rig::{Board, Chip, Port, Servo, ServoId};
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::stage::{Output, ServoState};
use wasvolta_core::unit::{Degrees, Ticks, count16};
use wasvolta_port::Fault;
use wasvolta_port::board::{Evidence, Feedback, Found, Lapse, Phase, Stand};
use wasvolta_wire::expander::Channel;

/// How long ago a lapse still counts as the reason.
const RECENT: Duration = Duration::from_secs(5);

/// What is known of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It was seen to hold.
    Proven,
    /// It is broken.
    Failed,
    /// It cannot be seen from here.
    Unprovable,
    /// It lies behind a broken one.
    Behind,
}

/// One link of the chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Link {
    /// A word for it.
    pub name: &'static str,
    /// What is known of it.
    pub verdict: Verdict,
    /// What was found.
    pub words: String,
    /// What to try, where it is not proven.
    #[serde(skip_serializing_if = "String::is_empty")]
    #[schemars(default)]
    pub help: String,
}

/// What runs a servo, where a program does.
#[derive(Debug, Clone, Copy)]
pub struct Run<'a> {
    /// The output's state.
    pub output: Output,
    /// How the servo stands in this beat.
    pub state: &'a ServoState,
    /// What the rig says of it, ready to be driven by.
    pub plan: &'a ServoPlan,
}

/// What is known of one servo's chain.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The servo that is asked about.
    pub servo: &'a Servo,
    /// The board that it hangs on.
    pub board: &'a Board,
    /// The board's port.
    pub port: &'a Port,
    /// What went wrong with the bus or the board, if anything did.
    pub trouble: Option<Fault>,
    /// Another program of this kind that holds the port: its process.
    pub holder: Option<&'a str>,
    /// What the board has said of itself last.
    pub evidence: Option<&'a Evidence>,
    /// How the board was found not to be as it was left, and how long ago.
    pub lapse: Option<(Duration, Lapse)>,
    /// What the board asks the maker.
    pub asks: Option<&'a Found>,
    /// What the servo says of itself, where it can.
    pub feedback: Option<Feedback>,
    /// The kernel's PWM chip that leads to the board, where a driver of the kernel holds it and that is known.
    pub kernel_chip: Option<&'a str>,
    /// The run, where one is going on.
    pub run: Option<Run<'a>>,
}

/// What a link came to.
pub enum Finding {
    /// It holds: what was found.
    Proven(String),
    /// It is broken: what was found, and what to try.
    Failed(String, String),
    /// It was not looked at, and so nothing is known of it nor of what lies behind.
    Unknown(String, String),
}

fn proven(words: impl Into<String>) -> Finding {
    Finding::Proven(words.into())
}

fn failed(words: impl Into<String>, help: impl Into<String>) -> Finding {
    Finding::Failed(words.into(), help.into())
}

/// Judges one link.
pub(crate) type Judge = fn(&Facts) -> Finding;

/// The links that can be judged, in the order in which a pulse passes them: the way, the board, the servo.
fn links_of(chip: Chip) -> impl Iterator<Item = (&'static str, Judge)> {
    const WAY: [(&str, Judge); 3] = [("path", path), ("permission", permission), ("other holder", holder)];
    const SERVO: &[(&str, Judge)] = &[("output", output), ("engaged", engaged), ("pulse", pulse)];
    // What answers has its supply and its plug: it says so itself.
    const SMART: &[(&str, Judge)] =
        &[("output", output), ("engaged", engaged), ("place", pulse), ("supply", fed), ("arrives", arrives)];
    let servo = if chip.row().is_smart { SMART } else { SERVO };
    WAY.into_iter().chain(chips::row(chip).links.iter().copied()).chain(servo.iter().copied())
}

/// A link's name, what is known of it, and what to try.
type ByHand = (&'static str, &'static str, &'static str);

/// What only a person on the bench can prove of a servo.
const SERVO_BY_HAND: &[ByHand] = &[
    (
        "supply",
        "the servos' supply cannot be seen",
        "measure it at the board while the servo should move; join all grounds",
    ),
    ("plug", "nor the plug", "darkest lead to ground, lightest to signal, on this very channel"),
    ("horn", "nor the gears and the horn", "listen: a motor that runs with a still horn has a stripped gear"),
];

/// What only a person on the bench can prove of a lamp or a relay.
const ACCESSORY_BY_HAND: &[ByHand] = &[
    ("supply", "its supply cannot be seen", "measure it at the lamp or relay; join all grounds"),
    (
        "plug",
        "nor what is in between",
        "a pin gives a signal, not power: a transistor or a driver must switch it",
    ),
    ("lamp", "nor whether it works", "try it straight on its supply"),
];

/// What a smart servo cannot say of itself.
const SMART_BY_HAND: &[ByHand] = &[(
    "horn",
    "nor what the shaft turns",
    "look: a shaft that turns under a still horn has a stripped spline",
)];

/// The whole chain of a servo.
pub fn chain(facts: &Facts) -> Vec<Link> {
    let mut links = Vec::new();
    let mut broken = false;
    for (name, judge) in links_of(facts.board.chip) {
        let (verdict, words, help) = match (broken, judge) {
            (true, _) => (Verdict::Behind, String::new(), String::new()),
            (false, judge) => match judge(facts) {
                Finding::Proven(words) => (Verdict::Proven, words, String::new()),
                Finding::Failed(words, help) => (Verdict::Failed, words, help),
                Finding::Unknown(words, help) => (Verdict::Unprovable, words, help),
            },
        };
        broken |= verdict != Verdict::Proven;
        links.push(Link { name, verdict, words, help });
    }
    let by_hand = match facts.servo.kind {
        kind if kind.is_accessory() => ACCESSORY_BY_HAND,
        kind if kind.is_smart() => SMART_BY_HAND,
        _ => SERVO_BY_HAND,
    };
    for (name, words, help) in by_hand.iter().copied() {
        let (verdict, words, help) =
            if broken { (Verdict::Behind, "", "") } else { (Verdict::Unprovable, words, help) };
        links.push(Link { name, verdict, words: words.to_owned(), help: help.to_owned() });
    }
    links
}

/// The first link that is not proven.
pub fn first_not_proven(links: &[Link]) -> Option<&Link> {
    links.iter().find(|link| link.verdict != Verdict::Proven)
}

/// The facts of a servo that runs, from a snapshot; `None` while the snapshot is of another rig.
pub fn of_running<'a>(compiled: &'a Compiled, snapshot: &'a Snapshot, servo: ServoId) -> Option<Facts<'a>> {
    let place = compiled.index.servos.place(servo)?;
    let state: &ServoState = snapshot.servos.get(place)?;
    let (plan, servo) = (compiled.plan.servos.get(place)?, compiled.rig.servos.get(place)?);
    let rig = compiled.parts();
    let board = rig.board(&servo.board)?;
    let is: &BoardState = compiled.board_state(snapshot, board.id)?;
    Some(Facts {
        servo,
        board,
        port: rig.port(&board.port)?,
        trouble: is.trouble.map(|t| t.fault),
        holder: None,
        evidence: is.evidence.as_ref(),
        lapse: is.lapse.map(|(at, lapse)| (snapshot.now.saturating_sub(at), lapse)),
        feedback: servo.kind.is_smart().then(|| is.feedback.get(usize::from(servo.plug()))),
        asks: match &is.phase {
            Phase::Asking(found) => Some(found),
            Phase::Down | Phase::Started => None,
        },
        kernel_chip: None,
        run: Some(Run { output: snapshot.output, state, plan }),
    })
}

fn path(facts: &Facts) -> Finding {
    let path = &facts.port.path;
    match facts.trouble {
        Some(fault @ Fault::NoBus) => failed(format!("{path} does not exist"), fault.help()),
        Some(fault @ Fault::OtherKind) => {
            let word = facts.port.kind.word();
            let article = if word.starts_with(['A', 'E', 'I', 'O', 'U']) { "an" } else { "a" };
            failed(format!("{path} is not {article} {word}"), fault.help())
        }
        _ => proven(path.clone()),
    }
}

fn permission(facts: &Facts) -> Finding {
    match facts.trouble {
        Some(fault @ Fault::Denied) => {
            failed(format!("no permission to open {}", facts.port.path), fault.help())
        }
        _ => proven("it may be opened"),
    }
}

fn holder(facts: &Facts) -> Finding {
    match (facts.trouble, facts.holder) {
        (Some(Fault::Busy), _) => failed(
            if facts.board.chip.has_address() {
                format!("a kernel driver holds the chip {}", facts.board.at())
            } else {
                "another program has it".to_owned()
            },
            match facts.kernel_chip {
                _ if !facts.board.chip.has_address() => "close that program".to_owned(),
                Some(path) => by_kernel_chip(path),
                None => {
                    "unbind that driver, or add its chip in /sys/class/pwm as a port of kind pwm".to_owned()
                }
            },
        ),
        (Some(Fault::Taken(taken)), _) => failed(taken.to_string(), "close that program"),
        (_, Some(holder)) => {
            failed(format!("{holder} drives it"), "ask there: ‹Wiring› shows this chain; or close it")
        }
        _ if facts.run.is_some() => proven("this program has it"),
        // Of programs of other users only root can see what they have.
        _ => proven("no program that can be seen has it"),
    }
}

/// What to do where a driver of the kernel holds a chip that it offers itself.
pub fn by_kernel_chip(path: &str) -> String {
    format!(
        "a driver of the kernel holds it: make its port one of kind pwm, at {path}, or unbind that driver"
    )
}

fn output(facts: &Facts) -> Finding {
    match facts.run.map(|run| run.output) {
        Some(Output::Cut) => failed("output is cut", "‹drive on› enables it again"),
        Some(Output::Held) => failed(
            "output is held: all keep their last command, continuous servos stop",
            "‹drive on› drives on",
        ),
        Some(Output::Off) => failed("output is off: no servo is engaged", "‹engage› engages the servo"),
        Some(Output::Driving) => proven("driving"),
        None => proven("no program of this kind drives it now"),
    }
}

/// The pulse on the servo's channel as the chip holds it, where that can be read.
fn held_pulse(facts: &Facts) -> Option<Ticks> {
    let channel = usize::from(facts.servo.plug());
    if let Some(Found::Pulsing { ticks, .. }) = facts.asks {
        return ticks.get(channel).map(Ticks);
    }
    if let Some(feedback) = facts.feedback {
        return (feedback.stand == Stand::Stiff).then(|| Ticks(count16(feedback.position)));
    }
    match facts.evidence? {
        Evidence::Pwm(chip) => chip.runs.get(channel).copied().flatten().map(Ticks),
        evidence => match evidence.registers()?.channels.get(channel)? {
            Channel::Pulse { ticks, .. } if *ticks > 0 => Some(Ticks(*ticks)),
            _ => None,
        },
    }
}

/// Whether a smart servo drives, by its own word.
fn stiff(facts: &Facts) -> Finding {
    let stand = facts.feedback.map(|feedback| feedback.stand);
    match (facts.run.map(|run| run.state.engaged), stand) {
        (Some(false), Some(Stand::Stiff)) => failed(
            "it is not engaged, and it is stiff all the same: something else left it so",
            "‹engage› engages it where it stands; ‹cut› makes limp what is found stiff",
        ),
        (Some(false), _) => failed("it is limp: it is not engaged", "‹engage› engages it where it stands"),
        (_, Some(Stand::Stiff)) => proven("it reports that it is stiff"),
        (Some(true), _) if facts.feedback.is_some_and(|feedback| feedback.refusals > 0) => failed(
            "it is told to drive, but does not",
            "it may be overloaded: take its load off, and its supply for a moment",
        ),
        (Some(true), _) => failed("it is limp still", "wait: servos are engaged one after another"),
        (None, _) => {
            Finding::Unknown("it was not asked".to_owned(), "open the rig, and look at ‹Wiring›".to_owned())
        }
    }
}

/// The volts at a smart servo, by its own word.
fn fed(facts: &Facts) -> Finding {
    match facts.feedback.filter(|feedback| feedback.looked_at.is_some()) {
        Some(own) => proven(format!("{:.1} V, as it reports", own.volts)),
        None => Finding::Unknown(
            "it has not reported its voltage yet".to_owned(),
            "wait: it is asked now and then; or measure them while it should move".to_owned(),
        ),
    }
}

/// So far from where it is told to be a smart servo that stands has not arrived: in degrees of its joint, and in counts
/// where those are not known.
const NOT_THERE_DEG: f64 = 2.0;
const NOT_THERE_COUNTS: f64 = 24.0;
/// What is slower than this stands: in counts a second.
const STANDS_COUNTS_S: f32 = 20.0;

/// Whether a smart servo gets to where it is told to be, by its own word.
fn arrives(facts: &Facts) -> Finding {
    let (Some(run), Some(own)) = (facts.run, facts.feedback.filter(|own| own.at.is_some())) else {
        return Finding::Unknown(
            "its position was not asked".to_owned(),
            "open the rig, and look at ‹Wiring›".to_owned(),
        );
    };
    let goes = run.state.stopped.is_none() && run.state.pulse != run.state.target;
    if goes || own.speed.abs() > STANDS_COUNTS_S {
        return proven("it is on its way");
    }
    let (is, told) = (run.state.estimate.pulse, run.state.pulse);
    let angle = |at| run.plan.scale.as_ref().map(|scale| scale.angle_at(at).get());
    let (off, unit, most) = match (angle(is), angle(told)) {
        (Some(is), Some(told)) => ((is - told).abs(), "°", NOT_THERE_DEG),
        _ => ((is - told).abs().get(), " counts", NOT_THERE_COUNTS),
    };
    if off <= most {
        return proven(format!("it is at its target, within {most:.0}{unit}"));
    }
    failed(
        format!("it is {off:.0}{unit} from its target, pushing with {:.0} %", own.load.abs()),
        "free it, or take load off it; ‹release› makes it limp",
    )
}

fn engaged(facts: &Facts) -> Finding {
    if facts.servo.kind.is_smart() {
        return stiff(facts);
    }
    let channel = facts.servo.plug();
    match facts.run {
        Some(run) if !run.state.engaged && held_pulse(facts).is_some() => failed(
            format!(
                "it is not engaged, and channel {channel} pulses all the same: something else left it so"
            ),
            "‹engage› engages it where it stands; ‹cut› stops what is found running",
        ),
        Some(run) if !run.state.engaged => {
            failed(format!("it is not engaged: no pulse on channel {channel}"), "‹engage› engages it")
        }
        None if held_pulse(facts).is_none() && !facts.servo.kind.is_smart() => {
            failed(format!("no pulse on channel {channel}"), "open the rig and engage it")
        }
        _ => proven(format!("pulses on channel {channel}")),
    }
}

/// What still keeps a speed controller from following.
fn unarmed(run: &Run) -> Option<Finding> {
    let (left, (neutral, _)) = (run.state.arming()?, run.plan.arming?);
    let neutral = neutral.get();
    if run.state.is_unarmed() {
        let words = format!("it must see its neutral {neutral:.0} µs first, and gets none yet");
        return Some(failed(words, "wait: channels get their first pulses one after another"));
    }
    let words = format!("it sees its neutral {neutral:.0} µs first, {:.1} s more", left.as_secs_f64());
    Some(failed(words, "wait: it follows then"))
}

/// What an accessory gets.
fn level(facts: &Facts) -> Finding {
    let longest = facts.board.clock_of(facts.servo.kind).map_or(1, |clock| clock.longest());
    let ticks = facts.run.map_or_else(|| held_pulse(facts), |run| run.state.ticks()).unwrap_or(Ticks(0));
    let percent = f64::from(ticks.0) / f64::from(longest) * 100.0;
    let level = facts.servo.kind.show(Degrees::new(percent));
    proven(format!("{level}, {} of {longest} ticks", ticks.0))
}

fn pulse(facts: &Facts) -> Finding {
    if facts.servo.kind.is_accessory() {
        return level(facts);
    }
    if let Some(came) = facts.run.as_ref().and_then(unarmed) {
        return came;
    }
    let (steps, kind) = (facts.board.steps_of(facts.servo.kind), facts.servo.kind);
    let (step, unit) = (steps.place(Ticks(1)), kind.place_unit());
    let (low, high) = (facts.servo.ends().low, facts.servo.ends().high);
    let Some(run) = facts.run else {
        return match held_pulse(facts).map(|ticks| steps.place(ticks)) {
            Some(pulse) if pulse < low - step || pulse > high + step => failed(
                format!(
                    "{} lies outside its endpoints {:.0} to {:.0} {unit}",
                    kind.show_place(pulse),
                    low.get(),
                    high.get()
                ),
                "another program has sent it; open the rig and release it",
            ),
            Some(pulse) => proven(format!("{}, inside its endpoints", kind.show_place(pulse))),
            None => proven("inside its endpoints"),
        };
    };
    let at = run.state.ticks().map_or(0.0, |ticks| steps.place(ticks).get());
    match run.state.stopped {
        Some(Stopped::NotANumber) => {
            failed("it was asked for something that is not a number", "look at its input's shaping")
        }
        Some(stopped @ (Stopped::LimitLow | Stopped::LimitHigh)) => failed(
            format!("{at:.0} {unit}: it is {}", stopped.words()),
            "go the other way, or move the limit with ‹limit here›",
        ),
        Some(stopped) => failed(
            format!("{at:.0} {unit}: it is {}", stopped.words()),
            "go the other way, or widen with ‹widen› in Calibrate, when nothing buzzes",
        ),
        None => proven(format!("{at:.0} {unit}, inside {:.0} to {:.0} {unit}", low.get(), high.get())),
    }
}
