//! `sim`: a simulated board by itself, for this program or any other that opens its path.

mod bus;
mod link;

use self::link::Link;
use crate::cli::{RadioProtocol, Sim, SimKind};
use crate::exit::Exit;
use crate::files::input::{self, What};
use crate::files::{self, BadFile};
use crate::say;
use miette::{IntoDiagnostic, WrapErr, miette};
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use wasvolta_core::range::{self, Range};
use wasvolta_port::WallClock;
use wasvolta_sim::sender::Speaker;
use wasvolta_sim::sender::fields::Fields;
use wasvolta_sim::sender::midi::Instrument;
use wasvolta_sim::sender::radio::{Radio, Speech};
use wasvolta_sim::truth::{KnobTruth, RadioTruth};
use wasvolta_sim::{Bench, Mood, Sender, Truth, pty, serve};

/// What the bus behind a bridge is called on the bench.
const BUS: &str = "bridged";
/// Pins with a servo on them.
const SERVO_PINS: std::ops::Range<u8> = 2..20;

/// Runs until a signal ends it.
///
/// # Errors
/// When the system gives no pty, or the link cannot be made.
pub fn run(wanted: &Sim) -> miette::Result<ExitCode> {
    match wanted.board {
        SimKind::Expander if wanted.steady => return Err(miette!("--steady is about a Firmata board")),
        SimKind::Firmata if !wanted.addresses.is_empty() => {
            return Err(miette!("a Firmata board has no address: leave --address out"));
        }
        kind if kind != SimKind::Bus && wanted.is_about_a_bus() => {
            return Err(miette!(
                "--form, --layout and --ids are about a bus of smart servos: leave them out"
            ));
        }
        SimKind::Bus | SimKind::Radio | SimKind::Lines | SimKind::Midi | SimKind::Osc
            if wanted.steady || !wanted.addresses.is_empty() =>
        {
            return Err(miette!("--steady and --address are about boards: leave them out"));
        }
        SimKind::Expander
        | SimKind::Bus
        | SimKind::Firmata
        | SimKind::Radio
        | SimKind::Lines
        | SimKind::Midi
        | SimKind::Osc => {}
    }
    let stop = Arc::new(AtomicBool::new(false));
    for signal in signal_hook::consts::TERM_SIGNALS {
        signal_hook::flag::register(*signal, Arc::clone(&stop)).into_diagnostic()?;
    }
    if wanted.board == SimKind::Bus {
        return bus::run(wanted, &stop);
    }
    if wanted.board == SimKind::Osc {
        return osc(wanted, &stop);
    }
    if let Some(speaker) = speaker(wanted) {
        return send(wanted, speaker, &stop);
    }
    let bench = Bench::new(&Truth::default(), wanted.bench.seed, Arc::new(WallClock::default()));
    for fault in &wanted.bench.faults {
        bench.faults().set(*fault, true);
    }
    let (far, near) = pty::pair().into_diagnostic().wrap_err("the system gives no pty")?;
    let link = wanted.link.as_deref().map(|link| Link::make(link, &near)).transpose()?;
    let shown = link.as_ref().map_or(near.as_path(), |link| link.path);
    match wanted.board {
        SimKind::Expander => {
            let addresses = if wanted.addresses.is_empty() { &[0x40][..] } else { &wanted.addresses };
            let channels: Vec<u8> = (0..16).collect();
            for address in addresses {
                bench.ensure(BUS, *address, &channels);
            }
            let listed: Vec<String> = addresses.iter().map(|address| format!("{address:#04x}")).collect();
            say::line(format_args!(
                "a simulated bridge with expanders at {} listens at {}; in a rig: kind = \"i2c\", baud = 9600; Ctrl-C \
                 ends it",
                listed.join(", "),
                shown.display()
            ));
            serve::bridge(&mut serve::BridgedBus::new(bench.bus(BUS)), &far, &stop);
        }
        SimKind::Firmata => {
            let board = bench.firmata("line");
            board.resets_when_opened(!wanted.steady);
            SERVO_PINS.for_each(|pin| board.ensure(pin, wasvolta_sim::truth::Part::Servo));
            say::line(format_args!(
                "a simulated Firmata board listens at {}; Ctrl-C ends it",
                shown.display()
            ));
            serve::firmata(&board, &far, &stop);
        }
        // What speaks by itself was sent off above, and so was a bus of smart servos.
        SimKind::Bus | SimKind::Radio | SimKind::Lines | SimKind::Midi | SimKind::Osc => {}
    }
    drop(link);
    Ok(Exit::Done.into())
}

/// What speaks by itself; none of a board, which is asked.
fn speaker(wanted: &Sim) -> Option<Box<dyn Speaker>> {
    let speech = match wanted.protocol {
        RadioProtocol::Ibus => Speech::Ibus,
        RadioProtocol::Sbus => Speech::Sbus,
        RadioProtocol::Crsf => Speech::Crsf,
    };
    match wanted.board {
        SimKind::Radio => Some(Box::new(Radio::new(RadioTruth::of("radio", speech)))),
        SimKind::Lines => {
            let usual = ["knob".to_owned()];
            let names = if wanted.fields.is_empty() { &usual[..] } else { &wanted.fields };
            let fields = names.iter().map(|name| KnobTruth::of("lines", name)).collect();
            Some(Box::new(Fields::new(fields)))
        }
        SimKind::Midi => Some(Box::new(Instrument::default())),
        SimKind::Expander | SimKind::Bus | SimKind::Firmata | SimKind::Osc => None,
    }
}

/// Lets something speak on a pty, moved by what is typed or by a script, until a signal ends it.
fn send(wanted: &Sim, speaker: Box<dyn Speaker>, stop: &AtomicBool) -> miette::Result<ExitCode> {
    let folder = files::passing().into_diagnostic().wrap_err("cannot make a folder for the line")?;
    let script = wanted.script.as_deref().map(|path| input::text(path, What::Script)).transpose();
    let script = script.map_err(|why| BadFile::Unreadable { path: shown(wanted.script.as_deref()), why })?;
    let own = folder.path().join("line");
    let sender = Sender::plug_in(speaker, wanted.bench.seed, &own)
        .into_diagnostic()
        .wrap_err("the system gives no pty")?;
    let link = wanted.link.as_deref().map(|link| Link::make(link, &own)).transpose()?;
    let listens = link.as_ref().map_or(own.as_path(), |link| link.path);
    let what = match wanted.board {
        SimKind::Radio => format!("receiver ({:?})", wanted.protocol).to_lowercase(),
        SimKind::Midi => "instrument (midi)".to_owned(),
        _ => "microcontroller".to_owned(),
    };
    say::line(format_args!(
        "a simulated {what} sends at {}; it has {}; `{} 0.3` moves one, 0 to 1, `off` and `well` switch it; Ctrl-C ends it",
        listens.display(),
        sender.controls().join(" "),
        sender.controls().first().map_or("ch1", String::as_str),
    ));
    sender.run();
    let moved = sender.clone();
    std::thread::spawn(move || {
        let follow = |order: &str| {
            if let Err(why) = obey(&moved, order) {
                say::trouble(format_args!("{why}"));
            }
        };
        match script {
            Some(text) => text.lines().for_each(follow),
            None => std::io::stdin().lines().map_while(Result::ok).for_each(|order| follow(&order)),
        }
    });
    while !stop.load(Ordering::SeqCst) {
        std::thread::sleep(Duration::from_millis(20));
    }
    sender.stop();
    sender.unplug();
    drop(link);
    Ok(Exit::Done.into())
}

/// Sends what is typed, or what a script says, as OSC messages, until a signal ends it or the lines do.
fn osc(wanted: &Sim, stop: &AtomicBool) -> miette::Result<ExitCode> {
    let script = wanted.script.as_deref().map(|path| input::text(path, What::Script)).transpose();
    let script = script.map_err(|why| BadFile::Unreadable { path: shown(wanted.script.as_deref()), why })?;
    let local: std::net::SocketAddr =
        if wanted.to.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() };
    let socket = std::net::UdpSocket::bind(local).into_diagnostic().wrap_err("the system gives no socket")?;
    say::line(format_args!("sends OSC to {}; a line each, as `/wing 0.5`; Ctrl-C ends it", wanted.to));
    let send = |order: &str| {
        if stop.load(Ordering::SeqCst) {
            return;
        }
        if let Err(why) = said(order).and_then(|message| match message {
            Some(bytes) => socket.send_to(&bytes, wanted.to).map(drop).map_err(|error| error.to_string()),
            None => Ok(()),
        }) {
            say::trouble(format_args!("{why}"));
        }
    };
    match script {
        Some(text) => text.lines().for_each(send),
        None => std::io::stdin().lines().map_while(Result::ok).for_each(|order| send(&order)),
    }
    Ok(Exit::Done.into())
}

/// The message of one line; none where it waits, or says nothing.
fn said(order: &str) -> Result<Option<Vec<u8>>, String> {
    let words: Vec<&str> = order.split_whitespace().collect();
    match words.as_slice() {
        [] => Ok(None),
        [comment, ..] if comment.starts_with('#') => Ok(None),
        ["wait", time] => {
            let seconds: f64 = time.parse().map_err(|_| format!("{time:?} is not a number"))?;
            range::TIME.check(seconds).map_err(|why| why.to_string())?;
            std::thread::sleep(Duration::from_secs_f64(seconds));
            Ok(None)
        }
        [address, numbers @ ..] => {
            let number = |text: &&str| text.parse::<f32>().map_err(|_| format!("{text:?} is not a number"));
            let numbers = numbers.iter().map(number).collect::<Result<Vec<_>, _>>()?;
            wasvolta_wire::osc::emit(address, &numbers).map(Some)
        }
    }
}

fn shown(path: Option<&Path>) -> String {
    path.map(|path| path.display().to_string()).unwrap_or_default()
}

/// Carries out one line of a script.
///
/// # Errors
/// Says what is understood.
fn obey(sender: &Sender, order: &str) -> Result<(), String> {
    let words: Vec<&str> = order.split_whitespace().collect();
    let number = |text: &str, range: &Range| {
        let value: f64 = text.parse().map_err(|_| format!("{text:?} is not a number"))?;
        range.check(value).map(|()| value).map_err(|why| why.to_string())
    };
    match words.as_slice() {
        [] => {}
        [comment, ..] if comment.starts_with('#') => {}
        ["unplug"] => sender.unplug(),
        ["plug"] => sender.replug().map_err(|error| format!("cannot plug it in: {error}"))?,
        ["wait", time] => {
            let time = Duration::from_secs_f64(number(time, &range::TIME)?);
            std::thread::sleep(time);
        }
        ["noise", noise] => sender.set_noise(number(noise, &range::RAW)?),
        [channel, at] => {
            let at = number(at, &range::SHARE)?;
            let Some(before) = sender.position(channel) else {
                return Err(format!("there is no {channel}: it has {}", sender.controls().join(" ")));
            };
            sender.turn(channel, at - before);
        }
        [word] => {
            let moods = Mood::ALL.map(|(_, word)| word).join(", ");
            let understood = || {
                format!(
                    "{word:?} is not understood: a channel with a number, {moods}, wait, noise, unplug or plug"
                )
            };
            sender.set_mood(Mood::of(word).ok_or_else(understood)?);
        }
        _ => {
            return Err(format!(
                "{order:?} is not understood: a channel and a number from 0 to 1, as ch1 0.3"
            ));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_moves_what_is_there_and_says_what_it_does_not_understand() {
        let folder = tempfile::tempdir().unwrap();
        let radio = Box::new(Radio::new(RadioTruth::of("r", Speech::Sbus)));
        let sender = Sender::plug_in(radio, 1, &folder.path().join("line")).unwrap();
        for order in ["# left", "", "ch1 0.25", "noise 3", "failsafe", "unplug", "plug"] {
            assert_eq!(obey(&sender, order), Ok(()), "{order}");
        }
        assert_eq!((sender.position("ch1"), sender.mood()), (Some(0.25), Mood::Failsafe));
        for (order, words) in [
            ("ch99 0.5", "there is no ch99: it has ch1 ch2"),
            ("ch1 7", "share is 7, outside 0 to 1"),
            ("ch1 much", "\"much\" is not a number"),
            ("merry", "\"merry\" is not understood"),
            ("ch1 0.5 now", "\"ch1 0.5 now\" is not understood"),
        ] {
            assert!(obey(&sender, order).unwrap_err().starts_with(words), "{order}");
        }
    }
}
