//! The chain of one servo, judged from what a board said: each link holds or breaks on its own, and nothing is claimed of
//! what lies behind a broken one.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use proptest::prelude::*;
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Board, Chip, Rig};
use wasvolta_engine::why::{Facts, Link, Verdict, chain, first_not_proven};
use wasvolta_port::board::Evidence;
use wasvolta_port::expander::Seen;
use wasvolta_wire::expander::{CHANNELS, Channel};

fn rig() -> Rig {
    match load(include_str!("../../core/tests/data/small.rig.toml")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// A chip that runs as the board wants it, with a pulse on the neck's channel.
fn seen(board: &Board, ticks: u16) -> Seen {
    let mut channels = [Channel::Released; CHANNELS];
    channels[1] = Channel::Pulse { on: 0, ticks };
    Seen { modes: [0x21, 0x04], prescale: board.prescale(), own: [0xE2, 0xE4, 0xE8, 0xE0], channels }
}

fn facts<'a>(rig: &'a Rig, evidence: Option<&'a Evidence>) -> Facts<'a> {
    let (servo, board) = (&rig.servos[0], &rig.boards[0]);
    Facts {
        feedback: None,
        servo,
        board,
        port: rig.port(&board.port).unwrap(),
        trouble: None,
        holder: None,
        evidence,
        lapse: None,
        asks: None,
        kernel_chip: None,
        run: None,
    }
}

/// The first link that does not hold, after checking that all before it do and nothing is said of those behind.
fn breaks_at(links: &[Link]) -> (&'static str, Verdict, String) {
    let first = first_not_proven(links).unwrap();
    let place = links.iter().position(|link| link.name == first.name).unwrap();
    assert!(links[..place].iter().all(|link| link.verdict == Verdict::Proven && !link.words.is_empty()));
    let behind = &links[place + 1..];
    let by_hand = first.verdict == Verdict::Unprovable && behind.len() < 3;
    assert!(
        by_hand || behind.iter().all(|link| link.verdict == Verdict::Behind && link.words.is_empty()),
        "{links:?}"
    );
    assert!(!first.help.is_empty(), "it says what to try");
    (first.name, first.verdict, first.words.clone())
}

#[test]
fn each_link_of_an_expander_breaks_by_itself() {
    let rig = rig();
    let board = &rig.boards[0];
    let good = seen(board, 300);
    let judged = |seen: Seen, change: fn(&mut Facts)| {
        let evidence = Evidence::Expander(seen);
        let mut facts = facts(&rig, Some(&evidence));
        change(&mut facts);
        breaks_at(&chain(&facts))
    };
    let (name, verdict, _) = judged(good, |_| {});
    assert_eq!((name, verdict), ("supply", Verdict::Unprovable), "all that can be seen holds");
    let (name, _, words) = judged(good, |facts| facts.holder = Some("process 4711"));
    assert_eq!(name, "other holder");
    assert!(words.contains("process 4711"), "{words}");
    let other = Seen { prescale: good.prescale + 1, ..good };
    let (name, _, words) = judged(other, |_| {});
    assert_eq!(name, "frame rate");
    assert!(
        words.contains(&other.prescale.to_string()) && words.contains(&good.prescale.to_string()),
        "{words}"
    );
    assert_eq!(judged(Seen { modes: [0x31, 0x04], ..good }, |_| {}).0, "awake");
    assert_eq!(judged(Seen { modes: [0x21, 0x14], ..good }, |_| {}).0, "registers");
    let released = Seen { channels: [Channel::Released; CHANNELS], ..good };
    assert_eq!(judged(released, |_| {}).0, "engaged");
}

#[test]
fn a_line_that_was_not_opened_is_not_said_to_answer() {
    let mut rig = rig();
    rig.boards[0].chip = Chip::Firmata;
    rig.boards[0].port = "knob-line".to_owned();
    let (name, verdict, _) = breaks_at(&chain(&facts(&rig, None)));
    assert_eq!((name, verdict), ("answer", Verdict::Unprovable));
}

proptest! {
    /// What a chip holds is inside the servo's endpoints, give or take a tick, or the pulse is the link that breaks.
    #[test]
    fn a_pulse_that_somebody_left_is_judged_by_the_endpoints(ticks in 1u16..4095) {
        let rig = rig();
        let (servo, board) = (&rig.servos[0], &rig.boards[0]);
        let evidence = Evidence::Expander(seen(board, ticks));
        let (name, _, words) = breaks_at(&chain(&facts(&rig, Some(&evidence))));
        let tick = board.clock().unwrap().tick().get();
        let pulse = f64::from(ticks) * tick;
        let inside = pulse >= servo.ends().low.get() - tick && pulse <= servo.ends().high.get() + tick;
        prop_assert_eq!(name, if inside { "supply" } else { "pulse" });
        prop_assert!(inside || words.contains(&format!("{pulse:.0} µs")), "{}", words);
    }
}
