//! Why nothing moves: the chain from the port's path to the horn, link by link.
//!
//! Facts come from a running engine, or from a look at the bus that reads only. Each link is proven, failed, or
//! cannot be proven from here; what lies behind a failed one is not known.

mod source;

pub use source::from_source_to_wire;

use crate::snapshot::BoardState;
use crate::{Snapshot, Wiring};
use serde::Serialize;
use std::time::Duration;
use wasvolta_core::guard::Stopped;
use wasvolta_core::rig::{Board, Port, Rig, Servo};
use wasvolta_core::stage::plan::ServoPlan;
use wasvolta_core::stage::{Output, Plan, ServoState};
use wasvolta_core::unit::Ticks;
use wasvolta_port::Fault;
use wasvolta_port::expander::{Found, Lapse, Phase, Seen};
use wasvolta_wire::expander::{Channel, mode2};

/// How long ago a lapse still counts as the reason.
const RECENT: Duration = Duration::from_secs(5);

/// What is known of a link.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// It holds.
    Proven,
    /// It is broken.
    Failed,
    /// It cannot be seen from here.
    Unprovable,
    /// It lies behind a broken one.
    Behind,
}

/// One link of the chain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Link {
    /// A word for it.
    pub name: &'static str,
    /// What is known of it.
    pub verdict: Verdict,
    /// What was found.
    pub words: String,
    /// What to try, where it is not proven.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub help: String,
}

/// What runs a servo, where a program does.
#[derive(Debug, Clone, Copy)]
pub struct Run<'a> {
    /// The output's state.
    pub output: Output,
    /// The servo's.
    pub state: &'a ServoState,
    /// Its plan.
    pub plan: &'a ServoPlan,
}

/// What is known of one servo's chain.
#[derive(Debug, Clone, Copy)]
pub struct Facts<'a> {
    /// The servo.
    pub servo: &'a Servo,
    /// Its board.
    pub board: &'a Board,
    /// The board's port.
    pub port: &'a Port,
    /// What went wrong with the bus or the board, if anything did.
    pub trouble: Option<Fault>,
    /// Another program of this kind that holds the port: its process.
    pub holder: Option<&'a str>,
    /// What the board's registers said last.
    pub seen: Option<&'a Seen>,
    /// How the board was found not to be as it was left, and how long ago.
    pub lapse: Option<(Duration, Lapse)>,
    /// What the board asks the maker.
    pub asks: Option<Found>,
    /// The run, where one is going on.
    pub run: Option<Run<'a>>,
}

/// What a link came to.
enum Came {
    Proven(String),
    Failed(String, String),
}

fn proven(words: impl Into<String>) -> Came {
    Came::Proven(words.into())
}

fn failed(words: impl Into<String>, help: impl Into<String>) -> Came {
    Came::Failed(words.into(), help.into())
}

/// The links that can be judged, in the order in which a pulse passes them.
const LINKS: [(&str, fn(&Facts) -> Came); 11] = [
    ("path", path),
    ("permission", permission),
    ("other holder", holder),
    ("address", address),
    ("chip", chip),
    ("awake", awake),
    ("frame rate", frame_rate),
    ("registers", registers),
    ("output", output),
    ("engaged", engaged),
    ("pulse", pulse),
];

/// What only a person on the bench can prove.
const BY_HAND: [(&str, &str, &str); 3] = [
    (
        "supply",
        "the servos' supply cannot be seen",
        "measure it at the board while the servo should move; join all grounds",
    ),
    ("plug", "nor how the plug sits", "darkest lead to ground, lightest to signal, on this very channel"),
    (
        "horn",
        "nor whether gears and horn hold",
        "listen: a motor that runs with a still horn has a stripped gear",
    ),
];

/// The whole chain of a servo.
pub fn chain(facts: &Facts) -> Vec<Link> {
    let mut links = Vec::new();
    let mut broken = false;
    for (name, judge) in LINKS {
        let (verdict, words, help) = match (broken, judge) {
            (true, _) => (Verdict::Behind, String::new(), String::new()),
            (false, judge) => match judge(facts) {
                Came::Proven(words) => (Verdict::Proven, words, String::new()),
                Came::Failed(words, help) => (Verdict::Failed, words, help),
            },
        };
        broken |= verdict == Verdict::Failed;
        links.push(Link { name, verdict, words, help });
    }
    for (name, words, help) in BY_HAND {
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
pub fn of_running<'a>(
    (rig, plan, wiring): (&'a Rig, &'a Plan, &Wiring),
    snapshot: &'a Snapshot,
    servo: usize,
) -> Option<Facts<'a>> {
    let state: &ServoState = snapshot.servos.get(servo)?;
    let (plan, servo) = (plan.servos.get(servo)?, rig.servos.get(servo)?);
    let board = rig.board(&servo.board)?;
    let (port, place) = wiring.board(rig, &board.name)?;
    let is: &BoardState = snapshot.boards.get(port)?.get(place)?;
    Some(Facts {
        servo,
        board,
        port: rig.port(&board.port)?,
        trouble: is.trouble.map(|t| t.fault),
        holder: None,
        seen: is.seen.as_ref(),
        lapse: is.lapse.map(|(at, lapse)| (snapshot.now.saturating_sub(at), lapse)),
        asks: match is.phase {
            Phase::Asking(found) => Some(found),
            Phase::Down | Phase::Started => None,
        },
        run: Some(Run { output: snapshot.output, state, plan }),
    })
}

fn path(facts: &Facts) -> Came {
    let path = &facts.port.path;
    match facts.trouble {
        Some(fault @ Fault::NoBus) => failed(format!("{path} does not exist"), fault.help()),
        _ => proven(path.clone()),
    }
}

fn permission(facts: &Facts) -> Came {
    match facts.trouble {
        Some(fault @ Fault::Denied) => failed(format!("you may not open {}", facts.port.path), fault.help()),
        _ => proven("it may be opened"),
    }
}

fn holder(facts: &Facts) -> Came {
    match (facts.trouble, facts.holder) {
        (Some(Fault::Busy), _) => failed(
            format!("a kernel driver holds the chip at {:#04x}", facts.board.address),
            "unbind that driver, or drive the chip through its entry in /sys/class/pwm",
        ),
        (_, Some(process)) => failed(
            format!("process {process} drives this bus"),
            "ask there: its Wiring view, F1, shows this chain; or close it",
        ),
        _ => proven("nobody else has it"),
    }
}

fn address(facts: &Facts) -> Came {
    let address = facts.board.address;
    match facts.trouble {
        Some(fault @ Fault::Transfer) => {
            failed(format!("transfers with {address:#04x} fail on the way"), fault.help())
        }
        Some(fault) => failed(format!("nothing answers at {address:#04x}"), fault.help()),
        None if facts.seen.is_none() => failed(
            format!("nothing has been heard of {address:#04x} yet"),
            "wait a moment; when it stays so, scan the bus",
        ),
        None => proven(format!("{address:#04x} answers")),
    }
}

fn chip(facts: &Facts) -> Came {
    let unfamiliar = facts.seen.is_some_and(|seen| !seen.is_familiar());
    match facts.asks {
        Some(Found::Pulsing { .. }) => failed(
            "it was found sending pulses already, and you have not said what to do with them",
            "answer in the next line: keep them, or release them",
        ),
        _ if unfamiliar => failed(
            format!(
                "what answers at {:#04x} is not a PWM expander as it left the factory",
                facts.board.address
            ),
            "check the address jumpers: another device may sit there",
        ),
        _ => proven("a PWM expander"),
    }
}

/// The words of a lapse, if one of a kind was seen lately.
fn lately(facts: &Facts, is_it: impl Fn(Lapse) -> bool) -> Option<String> {
    let (ago, lapse) = facts.lapse.filter(|(ago, lapse)| *ago <= RECENT && is_it(*lapse))?;
    Some(format!("{:.0} s ago it {}", ago.as_secs_f64(), lapse.words()))
}

fn awake(facts: &Facts) -> Came {
    let told_by_nobody = facts.run.is_none();
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::Asleep) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::Reset) {
        return failed(
            words,
            "give the board a supply of its own, not shared with the servos; check its plug",
        );
    }
    match facts.seen {
        Some(seen) if seen.is_awake() => proven("its oscillator runs"),
        _ if told_by_nobody => failed(
            "it sleeps, as after power-on: no program has started it",
            "open the rig, and engage the servo",
        ),
        _ => failed(
            "it sleeps",
            "it is started again by itself; when it stays so, something else puts it to sleep",
        ),
    }
}

fn frame_rate(facts: &Facts) -> Came {
    if let Some(words) = lately(facts, |lapse| lapse == Lapse::OtherRate) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    let wanted = facts.board.prescale();
    match facts.seen {
        Some(seen) if seen.prescale != wanted => failed(
            format!(
                "its divider is {}, for {:.0} Hz it must be {wanted}",
                seen.prescale,
                facts.board.frame_hz.get()
            ),
            "open the rig: it is set at the start; or another program has set it",
        ),
        _ => proven(format!("{:.2} Hz", facts.board.clock().rate().get())),
    }
}

fn registers(facts: &Facts) -> Came {
    let foreign = |lapse| matches!(lapse, Lapse::Overwritten | Lapse::OtherOutputs);
    if let Some(words) = lately(facts, foreign) {
        return failed(words, "find the other program that drives this bus, and close it");
    }
    let inverted = facts.seen.is_some_and(|seen| seen.modes[1] & mode2::INVRT != 0);
    if inverted {
        return failed("its outputs are inverted", "open the rig: they are set at the start");
    }
    proven("they hold what was told")
}

fn output(facts: &Facts) -> Came {
    match facts.run.map(|run| run.output) {
        Some(Output::Cut) => failed("output is cut", "d enables it again"),
        Some(Output::Held) => failed("output is held: the last pulses stay, nothing moves", "d drives on"),
        Some(Output::Off) => failed("output is off: no servo is engaged", "e engages the servo"),
        Some(Output::Driving) => proven("driving"),
        None => proven("no program of this kind drives it now"),
    }
}

/// The pulse on the servo's channel as the chip holds it.
fn held_pulse(facts: &Facts) -> Option<Ticks> {
    match facts.seen?.channels.get(usize::from(facts.servo.channel))? {
        Channel::Pulse { ticks, .. } if *ticks > 0 => Some(Ticks(*ticks)),
        _ => None,
    }
}

fn engaged(facts: &Facts) -> Came {
    let channel = facts.servo.channel;
    match facts.run {
        Some(run) if !run.state.engaged => {
            failed(format!("it is not engaged: no pulse on channel {channel}"), "e engages it")
        }
        None if held_pulse(facts).is_none() => {
            failed(format!("no pulse on channel {channel}"), "open the rig and engage it")
        }
        _ => proven(format!("pulses on channel {channel}")),
    }
}

fn pulse(facts: &Facts) -> Came {
    let clock = facts.board.clock();
    let (low, high) = (facts.servo.endpoints_us.0, facts.servo.endpoints_us.1);
    let Some(run) = facts.run else {
        return match held_pulse(facts).map(|ticks| clock.pulse(ticks)) {
            Some(pulse) if pulse < low - clock.tick() || pulse > high + clock.tick() => failed(
                format!(
                    "{:.0} µs lies outside its endpoints {:.0} to {:.0} µs",
                    pulse.get(),
                    low.get(),
                    high.get()
                ),
                "another program has sent it; open the rig and release it",
            ),
            pulse => proven(format!("{:.0} µs, inside its endpoints", pulse.map_or(0.0, |p| p.get()))),
        };
    };
    let at = run.state.ticks.map_or(0.0, |ticks| clock.pulse(ticks).get());
    match run.state.stopped {
        Some(Stopped::NotANumber) => {
            failed("it was asked for something that is not a number", "look at its input's shaping")
        }
        Some(stopped @ (Stopped::LimitLow | Stopped::LimitHigh)) => failed(
            format!("{at:.0} µs: it is {}", stopped.words()),
            "go the other way, or move the limit with l",
        ),
        Some(stopped) => failed(
            format!("{at:.0} µs: it is {}", stopped.words()),
            "go the other way, or widen with W in Calibrate, when nothing buzzes",
        ),
        None => proven(format!("{at:.0} µs, inside {:.0} to {:.0} µs", low.get(), high.get())),
    }
}
