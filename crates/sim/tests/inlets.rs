//! Ways in that are no bytes: a game pad and a GPIO chip, through the same code that reads the kernel's.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::time::Duration;
use wasvolta_port::gpio::{self, Plan};
use wasvolta_port::inlet::{Drained, Inlet, Outlet};
use wasvolta_port::pad;
use wasvolta_sim::{Bench, ManualClock, SimChip, SimPad, SimSensor, StandIn, Truth};
use wasvolta_wire::decode::{Frame, Sink};

#[derive(Default)]
struct Heard {
    values: Vec<(String, f64)>,
    has: Vec<(String, Option<(f64, f64)>)>,
    frames: usize,
}

impl Sink for Heard {
    fn value(&mut self, _: u16, name: &str, value: f64) {
        self.values.push((name.to_owned(), value));
    }
    fn frame(&mut self, _: Frame) {
        self.frames += 1;
    }
    fn has(&mut self, _: u16, name: &str, ends: Option<(f64, f64)>) {
        self.has.push((name.to_owned(), ends));
    }
}

impl Outlet for Heard {
    fn bytes(&mut self, _: &[u8], _: Option<Duration>) {
        panic!("these ways bring values");
    }
}

/// All that waits, once the descriptor says that something does.
fn drained(inlet: &mut Box<dyn Inlet>) -> (Heard, Drained) {
    let fd = inlet.descriptor().unwrap();
    let mut ready = [rustix::event::PollFd::new(&fd, rustix::event::PollFlags::IN)];
    rustix::event::poll(&mut ready, None).unwrap();
    begun(inlet)
}

fn begun(inlet: &mut Box<dyn Inlet>) -> (Heard, Drained) {
    let mut heard = Heard::default();
    let drained = inlet.drain(Duration::ZERO, &mut heard);
    (heard, drained)
}

fn values(wanted: &[(&str, f64)]) -> Vec<(String, f64)> {
    wanted.iter().map(|(name, value)| ((*name).to_owned(), *value)).collect()
}

#[test]
fn a_pad_tells_what_it_has_and_how_that_stands_then_each_move() {
    let pad = SimPad::new().unwrap();
    let mut inlet = pad::inlet(pad.open().unwrap());
    let (heard, _) = begun(&mut inlet);
    assert_eq!(
        heard.values,
        values(&[("abs-x", 128.0), ("abs-y", 128.0), ("btn-south", 0.0), ("rel-dial", 0.0)])
    );
    assert_eq!(heard.has[0], ("abs-x".to_owned(), Some((0.0, 255.0))), "the range is the kernel's");
    assert_eq!(heard.has[2].1, None);
    // A press that is over before anybody looks is heard whole; steps add up; a key that repeats says nothing new.
    for (name, value) in
        [("btn-south", 1), ("btn-south", 2), ("btn-south", 0), ("rel-dial", 2), ("rel-dial", -5)]
    {
        pad.set(name, value);
    }
    let (heard, _) = drained(&mut inlet);
    assert_eq!(
        heard.values,
        values(&[("btn-south", 1.0), ("btn-south", 0.0), ("rel-dial", 2.0), ("rel-dial", -3.0)])
    );
    assert_eq!(heard.frames, 4);
}

#[test]
fn what_the_kernel_dropped_is_read_anew() {
    let pad = SimPad::new().unwrap();
    let mut inlet = pad::inlet(pad.open().unwrap());
    begun(&mut inlet);
    // More than waits for a slow reader, and the last move is among what is dropped.
    for n in 0..129 {
        pad.set("abs-x", n);
    }
    pad.set("abs-y", 7);
    let (heard, _) = drained(&mut inlet);
    let last = |name: &str| heard.values.iter().rfind(|(own, _)| own == name).map(|(_, value)| *value);
    assert_eq!((last("abs-x"), last("abs-y")), (Some(128.0), Some(7.0)));
    assert!(heard.has.len() == 4, "asked again what there is: {:?}", heard.has);
}

#[test]
fn a_pad_that_is_pulled_is_gone_and_comes_back_as_it_stands_then() {
    let pad = SimPad::new().unwrap();
    let mut inlet = pad::inlet(pad.open().unwrap());
    begun(&mut inlet);
    pad.unplug();
    assert_eq!(drained(&mut inlet).1, Drained::Gone);
    assert!(pad.open().is_err());
    pad.set("abs-x", 200);
    pad.replug();
    assert_eq!(begun(&mut inlet).1, Drained::Gone, "the old one stays gone");
    let mut again = pad::inlet(pad.open().unwrap());
    assert_eq!(begun(&mut again).0.values[0], ("abs-x".to_owned(), 200.0));
}

fn chip(channels: &[&str]) -> (SimChip, Box<dyn Inlet>) {
    let chip = SimChip::new().unwrap();
    let plan = Plan::of(channels.iter().copied());
    let inlet = gpio::inlet(chip.open(&plan.lines).unwrap(), plan);
    (chip, inlet)
}

#[test]
fn a_switch_is_heard_with_every_bounce_and_a_line_is_held_once() {
    let plan = Plan::of(["line 17 pull-up", "counts 17 27", "what", "counts 5"]);
    assert_eq!(
        plan.lines.iter().map(|l| (l.line.as_str(), l.pull_up)).collect::<Vec<_>>(),
        [("17", true), ("27", false)]
    );
    let (chip, mut inlet) = chip(&["line BELL pull-up"]);
    assert_eq!(begun(&mut inlet).0.values, values(&[("line BELL pull-up", 1.0)]), "pulled up");
    for high in [false, true, false] {
        chip.set("BELL", high);
    }
    let (heard, _) = drained(&mut inlet);
    assert_eq!(heard.values.iter().map(|(_, value)| *value).collect::<Vec<_>>(), [0.0, 1.0, 0.0]);
    chip.unplug();
    assert_eq!(drained(&mut inlet).1, Drained::Gone);
    assert!(chip.open(&plan.lines).is_err(), "it is not there");
    chip.replug();
    assert!(chip.open(&plan.lines).is_ok());
}

/// A person moves something by a share of its way, and then nothing else does.
fn moved_by_a_person(stand_in: &dyn StandIn, channel: &str, by: f64) -> Option<f64> {
    stand_in.turn(channel, by);
    stand_in.position(channel)
}

#[test]
fn what_a_person_moves_nothing_else_moves_and_each_has_its_ends() {
    let pad = SimPad::new().unwrap();
    assert_eq!(moved_by_a_person(&pad, "abs-x", 9.0), Some(1.0));
    assert_eq!(moved_by_a_person(&pad, "btn-south", 0.1), Some(1.0));
    pad.pass(Duration::from_secs(1));
    assert_eq!(StandIn::position(&pad, "abs-x"), Some(1.0));
    assert_ne!(StandIn::position(&pad, "abs-y"), Some(128.0 / 255.0), "that one is nobody's");
    assert_eq!((moved_by_a_person(&pad, "rel-dial", 1.0), pad.position("knob")), (None, None));
    let (chip, _inlet) = chip(&["line BELL pull-up", "line LAMP"]);
    assert_eq!(moved_by_a_person(&chip, "line BELL pull-up", -0.1), Some(0.0));
    chip.play(Duration::from_millis(800));
    assert!(!chip.is_high("BELL") && !chip.is_high("LAMP"), "that one has gone down by itself");
    let bench = Bench::new(&Truth::default(), 1, Arc::new(ManualClock::default()));
    let board = bench.firmata("desk");
    assert_eq!(moved_by_a_person(&board, "a0", -9.0), Some(0.0));
    assert_eq!(moved_by_a_person(&board, "d99", 1.0), None);
    let folder = tempfile::tempdir().unwrap();
    let sensor = SimSensor::new(&folder.path().join("sensor")).unwrap();
    assert_eq!(moved_by_a_person(&sensor, "in_distance", 9.0), Some(1.0));
    let mut inlet = wasvolta_port::iio::open(sensor.directory()).unwrap();
    let mut heard = Heard::default();
    while heard.frames == 0 {
        rustix::event::poll(
            &mut [rustix::event::PollFd::new(&inlet.descriptor().unwrap(), rustix::event::PollFlags::IN)],
            None,
        )
        .unwrap();
        inlet.drain(Duration::ZERO, &mut heard);
    }
    let distance = heard.values.iter().find(|(name, _)| name == "in_distance").unwrap().1;
    assert!((distance - 2.0).abs() < 1e-9, "2000 mm: {distance} m");
    let all: [&dyn StandIn; 4] = [&pad, &chip, &board, &sensor];
    for one in all {
        one.unplug();
        assert!(!one.is_plugged());
        one.replug().unwrap();
        assert!(one.is_plugged());
    }
}

#[test]
fn an_encoder_counts_both_ways_and_a_step_that_may_be_either_is_none() {
    let (chip, mut inlet) = chip(&["counts A B"]);
    begun(&mut inlet);
    let set = |line: &str, high| chip.set(line, high);
    for (line, high) in [("B", true), ("A", true), ("B", false), ("A", false)] {
        set(line, high);
    }
    assert_eq!(drained(&mut inlet).0.values.last(), Some(&("counts A B".to_owned(), 4.0)));
    for (line, high) in [("A", true), ("B", true), ("A", false)] {
        set(line, high);
    }
    assert_eq!(drained(&mut inlet).0.values.last(), Some(&("counts A B".to_owned(), 1.0)));
    // A contact that bounces comes back to where it was.
    for high in [false, true, false, true] {
        set("B", high);
    }
    assert_eq!(drained(&mut inlet).0.values.last(), Some(&("counts A B".to_owned(), 1.0)));
}

#[test]
fn a_pulse_is_as_wide_as_its_edges_are_apart_and_what_is_none_is_left_out() {
    let (chip, mut inlet) = chip(&["pulse RADIO"]);
    assert!(begun(&mut inlet).0.values.is_empty(), "nothing was measured yet");
    let us = Duration::from_micros;
    for width in [1500, 20, 1012, 9000] {
        chip.set("RADIO", true);
        chip.pass(us(width));
        chip.set("RADIO", false);
        chip.pass(us(20_000 - width));
    }
    assert_eq!(drained(&mut inlet).0.values, values(&[("pulse RADIO", 1500.0), ("pulse RADIO", 1012.0)]));
}
