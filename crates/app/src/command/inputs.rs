//! `inputs`: what comes over every link of a rig, live, without driving anything.

use crate::cli::Inputs;
use crate::exit::Exit;
use crate::hardware::{self, Surroundings};
use crate::keyboard::Keyboard;
use crate::senders;
use crate::{files, say};
use miette::{IntoDiagnostic, WrapErr};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::HashMap;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use wasvolta_core::link::Health;
use wasvolta_core::outside;
use wasvolta_core::rig::Rig;
use wasvolta_engine::snapshot::{ChannelState, LinkReport};
use wasvolta_engine::{Engine, Setup, Snapshot, wiring};
use wasvolta_port::WallClock;

/// So long links are listened to that say nothing yet.
const PATIENCE: Duration = Duration::from_secs(2);
/// A board takes so long to start where opening its port resets it.
const UP: Duration = Duration::from_secs(6);
/// A link is listened to for so long at least, so that its rate is known.
const LISTEN: Duration = Duration::from_millis(600);
const LOOK: Duration = Duration::from_millis(50);
/// A channel is told of at most this often while it is watched.
const TELL: Duration = Duration::from_millis(200);

/// How every link stands.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// In rig order.
    links: Vec<OneLink>,
}

/// A link, as heard since the command began.
#[derive(Serialize, JsonSchema)]
struct OneLink {
    /// The name of the link.
    name: String,
    /// The port that it stands on.
    on: String,
    /// What is spoken there.
    protocol: &'static str,
    /// absent, fresh, late, lost or stuck.
    health: &'static str,
    /// The age of its newest good frame.
    #[serde(skip_serializing_if = "Option::is_none")]
    age_ms: Option<f64>,
    /// Frames a second, as is usual for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    rate_hz: Option<f64>,
    /// Frames that passed every check.
    good: u64,
    /// Frames that did not, or that the sender itself calls bad.
    bad: u64,
    /// Bytes that belonged to no good frame.
    skipped_bytes: u64,
    /// Why it cannot be opened, and what to try; or what to look at where nothing comes.
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<String>,
    /// What is to be known about it though it works.
    #[serde(skip_serializing_if = "Option::is_none")]
    note: Option<&'static str>,
    /// Those that inputs stand on, and those that were heard.
    channels: Vec<OneChannel>,
}

/// A channel of a link.
#[derive(Serialize, JsonSchema)]
struct OneChannel {
    /// The channel, as the protocol names it.
    channel: String,
    /// What it said last; none while it has said nothing.
    value: Option<f64>,
    /// The unit of its values; nothing where they have none.
    unit: &'static str,
    /// The least that it has said since this began.
    #[serde(skip_serializing_if = "Option::is_none")]
    least: Option<f64>,
    /// The greatest that it has said since this began.
    #[serde(skip_serializing_if = "Option::is_none")]
    greatest: Option<f64>,
    /// The inputs that stand on it.
    inputs: Vec<String>,
}

/// Listens, and says what was heard.
///
/// # Errors
/// When the rig cannot be used, or the system gives no thread.
pub fn run(wanted: &Inputs) -> miette::Result<ExitCode> {
    let source = files::open(&wanted.rig)?;
    let around: Surroundings = (&wanted.bench).into();
    let bench = hardware::bench_of(source.rig(), &wanted.rig, &around)?;
    let opener = senders::opener(bench.as_ref().map(|simulated| &simulated.senders), &Keyboard::default());
    let clock = Arc::new(WallClock::default());
    let rig = Arc::new(without_servos(source.rig()));
    let boards =
        wiring::board_ports(&rig).map(|port| hardware::board_port(&rig, port, bench.as_ref())).collect();
    let setup = Setup { boards, opener, clock, beat: hardware::BEAT, record: None };
    let mut engine = Engine::start(&rig, setup).into_diagnostic().wrap_err("cannot start listening")?;
    engine.keep_hands_off();
    if rig.links.is_empty() {
        say::line("this rig has no link: nothing can come in");
    } else if wanted.watch {
        watch(&mut engine, &rig, wanted.json)?;
    } else {
        listen(&mut engine, if rig.boards.is_empty() { PATIENCE } else { UP });
        let report = Report::of(&mut engine, &rig);
        if wanted.json {
            say::json(&report);
        } else {
            report.tell();
        }
    }
    Ok(Exit::Done.into())
}

/// What comes in of a rig, and nothing that could be driven: of its boards those whose pins a link reads.
fn without_servos(rig: &Rig) -> Rig {
    let mut heard = rig.clone();
    heard.servos.clear();
    heard.joints.clear();
    heard.mappings.clear();
    heard.presses.clear();
    heard.poses.clear();
    heard.sequences.clear();
    heard.boards.retain(|board| rig.link_on(board).is_some());
    heard
}

/// Waits until every link was heard for a while, or patience ends.
fn listen(engine: &mut Engine, patience: Duration) {
    let start = Instant::now();
    loop {
        std::thread::sleep(LOOK);
        let all = engine.snapshot().links.iter().all(|link| link.health != Health::Absent);
        if start.elapsed() > patience || (all && start.elapsed() > LISTEN) {
            return;
        }
    }
}

/// Tells of every change until a signal ends it.
fn watch(engine: &mut Engine, rig: &Rig, json: bool) -> miette::Result<()> {
    let stop = Arc::new(AtomicBool::new(false));
    for signal in signal_hook::consts::TERM_SIGNALS {
        signal_hook::flag::register(*signal, Arc::clone(&stop)).into_diagnostic()?;
    }
    let mut told: HashMap<(String, String), String> = HashMap::new();
    while !stop.load(Ordering::SeqCst) && !engine.is_stopped() {
        std::thread::sleep(TELL);
        let report = Report::of(engine, rig);
        if json {
            say::json_line(&report);
            continue;
        }
        for link in &report.links {
            let mut news = |channel: &str, words: String| {
                let key = (link.name.clone(), channel.to_owned());
                if told.get(&key) != Some(&words) {
                    say::line(format_args!("{:<12} {words}", link.name));
                    told.insert(key, words);
                }
            };
            news("", link.state());
            let widest = link.widest();
            for channel in &link.channels {
                news(&channel.channel, channel.words(widest));
            }
        }
    }
    Ok(())
}

impl Report {
    fn of(engine: &mut Engine, rig: &Rig) -> Self {
        let snapshot = engine.snapshot().clone();
        let link = |place| OneLink::of(engine, rig, &snapshot, place);
        Self { links: (0..rig.links.len()).filter_map(link).collect() }
    }

    fn tell(&self) {
        for link in &self.links {
            say::line(format_args!("{:<12} {}", link.name, link.state()));
            if let Some(note) = link.note {
                say::line(format_args!("             {note}"));
            }
            let widest = link.widest();
            for channel in &link.channels {
                say::line(format_args!("  {}", channel.words(widest)));
            }
        }
    }
}

impl OneLink {
    fn of(engine: &Engine, rig: &Rig, snapshot: &Snapshot, place: usize) -> Option<Self> {
        let link = rig.links.get(place)?;
        let protocol = rig.protocol_of(link)?;
        let (state, report): (_, &LinkReport) = (snapshot.links.get(place)?, snapshot.reports.get(place)?);
        let silent = || {
            matches!(state.health, Health::Absent | Health::Lost)
                .then(|| report.silence(snapshot.now, protocol))
        };
        let shut = engine.link_trouble(place).map(|shut| format!("{shut}; {}", shut.help));
        let channel = |channel: &ChannelState| OneChannel {
            channel: protocol.name(&channel.channel),
            value: channel.newest,
            unit: (protocol.row().unit)(&channel.channel),
            least: (channel.count > 0).then_some(channel.least),
            greatest: (channel.count > 0).then_some(channel.greatest),
            inputs: rig
                .inputs
                .iter()
                .filter(|i| {
                    i.link == link.name && (protocol.row().read)(&i.channel) == Some(channel.channel.clone())
                })
                .map(|input| input.name.clone())
                .collect(),
        };
        Some(Self {
            name: link.name.clone(),
            on: link.on.clone(),
            protocol: protocol.word(),
            health: state.health.word(),
            age_ms: state.age.map(|age| (age.as_secs_f64() * 1e4).round() / 10.0),
            rate_hz: state.usual().map(|usual| (10.0 / usual.as_secs_f64()).round() / 10.0),
            good: report.counts.good,
            bad: report.counts.bad,
            skipped_bytes: report.counts.skipped,
            trouble: shut.or_else(silent),
            note: report.note,
            channels: report.channels.iter().map(channel).collect(),
        })
    }

    /// The columns that the names of its channels take.
    fn widest(&self) -> usize {
        let names = self.channels.iter().map(|channel| outside::line(&channel.channel).chars().count());
        names.max().unwrap_or(0).clamp(12, 40)
    }

    /// How it stands, without what changes all the time.
    fn state(&self) -> String {
        let trouble = self.trouble.as_ref().map_or_else(String::new, |why| format!("; {why}"));
        let rate = self.rate_hz.map_or_else(String::new, |rate| format!(", {rate:.0} frames a second"));
        let rate = if self.trouble.is_none() { rate } else { String::new() };
        format!("{}: {} on {}{rate}{trouble}", self.health, self.protocol, self.on)
    }
}

/// A number to three decimals, without zeros that say nothing.
fn short(value: f64) -> String {
    let text = format!("{value:.3}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

impl OneChannel {
    fn words(&self, widest: usize) -> String {
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        let value =
            self.value.map_or_else(|| "nothing yet".to_owned(), |value| format!("{}{unit}", short(value)));
        let inputs = if self.inputs.is_empty() {
            String::new()
        } else {
            format!("  input {}", self.inputs.join(", "))
        };
        format!("{:<widest$} {value:<14}{inputs}", outside::line(&self.channel)).trim_end().to_owned()
    }
}
