//! The scan, on simulated buses: what answers is named for what it is, and nothing is written.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use wasvolta_core::rig::Ends;
use wasvolta_port::scan::{self, DeviceKind};
use wasvolta_sim::faults::Kind;
use wasvolta_sim::truth::{BoardTruth, OtherTruth};
use wasvolta_sim::{Bench, ManualClock, Truth};

fn bench(addresses: &[u8], running: &[(u8, u16)]) -> Bench {
    let board = |address: u8| BoardTruth {
        bus: "b".into(),
        address,
        oscillator_hz: 25e6,
        running: running
            .iter()
            .map(|(channel, ticks)| Ends { low: u16::from(*channel), high: *ticks })
            .collect(),
        servos: vec![],
    };
    let boards = addresses.iter().copied().map(board).collect();
    let others = vec![OtherTruth { bus: "b".into(), address: 0x44, reads: 0x3f }];
    let truth = Truth { boards, others, ..Truth::default() };
    Bench::new(&truth, 1, Arc::new(ManualClock::default()))
}

fn look(bench: &Bench) -> scan::Bus {
    scan::bus("sim:b", bench.open("b").map(|bus| Box::new(bus) as Box<_>))
}

#[test]
fn one_board_at_two_addresses_is_one_board_and_another_chip_is_called_so() {
    let bench = bench(&[0x40, 0x41], &[]);
    let found: Vec<_> = look(&bench).devices.iter().map(|d| (d.address, d.kind.words())).collect();
    let words = |address: u8, words: &str| (address, words.to_owned());
    assert_eq!(
        found,
        [
            words(0x40, "PWM expander, asleep"),
            words(0x41, "PWM expander, asleep"),
            words(0x44, "another kind of chip"),
            words(0x70, "all boards at once: the expanders above answer here too"),
        ]
    );
    assert!(bench.log().iter().all(|entry| !entry.write), "nothing is written");
}

#[test]
fn a_board_that_sends_pulses_already_is_told_apart() {
    let found = look(&bench(&[0x42], &[(3, 307), (7, 300)]));
    assert_eq!(found.devices[0].kind, DeviceKind::PwmExpander { awake: true, prescale: 121, pulsing: 2 });
    assert_eq!(found.devices[0].kind.words(), "PWM expander at 50 Hz, pulses on 2 channels");
}

#[test]
fn what_keeps_a_bus_from_being_looked_at_is_said_with_what_helps() {
    for (kind, words) in [
        (Kind::NoBus, "cannot open sim:b: there is no such path; check the path"),
        (
            Kind::Denied,
            "cannot open sim:b: permission denied; your user may not open it: `wasvolta scan` names the group",
        ),
        (Kind::Silent, "the transfer failed; check the wires"),
    ] {
        let bench = bench(&[0x40], &[]);
        bench.faults().set_everywhere(kind, true);
        let trouble = look(&bench).trouble.unwrap();
        assert!(trouble.contains(words), "{trouble}");
    }
    let held = bench(&[0x40], &[]);
    held.faults().set_everywhere(Kind::Held, true);
    assert!(look(&held).devices.iter().all(|d| d.kind == DeviceKind::HeldByKernel));
}
