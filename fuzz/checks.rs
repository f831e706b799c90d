//! What holds of every decoder, whatever bytes come.

use std::time::Duration;
use wasvolta_wire::decode::{Carrier, Counts, DECODERS, Decode, Frame, Row, Sink};
use wasvolta_wire::smart::exchange::{Exchange, Expected, Happened, Timing};
use wasvolta_wire::smart::{Ask, Form, Packets};
use wasvolta_wire::{bridge, crsf, firmata, ibus, lines, mqtt, sbus};

/// All that can be checked, by name.
pub const ALL: [&str; 10] =
    ["lines", "ibus", "sbus", "crsf", "midi", "osc", "mqtt", "firmata", "bridge", "smart"];

/// Checks one of them with some bytes.
///
/// # Panics
/// When something does not hold.
pub fn check(name: &str, data: &[u8]) {
    match name {
        "mqtt" => message(data),
        "firmata" => board(data),
        "bridge" => bridge_of(data),
        "smart" => {
            smart_bus(Form::One, data);
            smart_bus(Form::Two, data);
        }
        protocol => {
            let row = DECODERS.iter().find(|row| row.protocol == protocol).expect("a decoder of that name");
            way_in(row, data);
        }
    }
}

/// What a decoder has said.
#[derive(Debug, Default, PartialEq)]
struct Said {
    values: Vec<(u16, String, u64)>,
    frames: Vec<Frame>,
}

impl Sink for Said {
    fn value(&mut self, code: u16, name: &str, value: f64) {
        assert!(value.is_finite(), "{name} {code} says {value}");
        self.values.push((code, name.to_owned(), value.to_bits()));
    }

    fn frame(&mut self, frame: Frame) {
        self.frames.push(frame);
    }

    fn once(&mut self, name: &str, value: f64) {
        self.value(0, name, value);
    }
}

/// A radio's receiver says pulses, and how well it hears.
fn is_in_range(protocol: &str, value: f64) -> bool {
    match protocol {
        "ibus" => (0.0..=65_535.0).contains(&value),
        "sbus" | "crsf" => (-200.0..=2500.0).contains(&value),
        "midi" => (-8192.0..=16_383.0).contains(&value),
        _ => true,
    }
}

fn fed(
    row: &Row,
    carrier: Carrier,
    data: &[u8],
    mut sizes: impl Iterator<Item = usize>,
) -> (Said, Counts, Box<dyn Decode>) {
    let mut decoder = (row.make)(carrier);
    let mut said = Said::default();
    let mut rest = data;
    while !rest.is_empty() {
        let size = sizes.next().unwrap_or(rest.len()).clamp(1, rest.len());
        let (now, later) = rest.split_at(size);
        decoder.feed(now, None, &mut said);
        rest = later;
    }
    let counts = decoder.counts();
    (said, counts, decoder)
}

fn way_in(row: &Row, data: &[u8]) {
    let carrier = if row.streams { Carrier::Stream } else { Carrier::Datagrams };
    let (said, counts, mut decoder) = fed(row, carrier, data, std::iter::empty());
    assert!(counts.skipped <= data.len() as u64, "more is skipped than came");
    assert!(said.frames.len() as u64 <= counts.good + counts.bad, "a frame is counted");
    for (code, name, bits) in &said.values {
        assert!(is_in_range(row.protocol, f64::from_bits(*bits)), "{name} {code}");
    }
    if row.streams {
        // Sizes that follow from the bytes themselves.
        let sizes = data.iter().map(|byte| usize::from(byte % 7) + 1).chain(std::iter::repeat(3));
        let (split, split_counts, _) = fed(row, carrier, data, sizes);
        assert_eq!((&said, counts), (&split, split_counts), "the same in any split");
        comes_back(row.protocol, &mut *decoder);
    }
    decoder.reopened();
    decoder.feed(data, None, &mut Said::default());
}

/// Behind whatever came, good frames are heard: at the latest after the longest frame and two of its own.
fn comes_back(protocol: &str, decoder: &mut dyn Decode) {
    let (frame, longest): (Vec<u8>, usize) = match protocol {
        "lines" => (b"7\n".to_vec(), lines::LONGEST),
        "ibus" => (ibus::emit(&[1500; ibus::CHANNELS]).to_vec(), 32),
        "sbus" => (sbus::emit(&[992; 16], 0).to_vec(), 25),
        "crsf" => (crsf::emit(&[992; 16]), 64),
        _ => return,
    };
    let before = decoder.counts().good;
    let frames = longest.div_ceil(frame.len()) + 3;
    let mut said = Said::default();
    for _ in 0..frames {
        decoder.feed(&frame, None, &mut said);
    }
    assert!(decoder.counts().good > before, "{protocol} never comes back");
}

/// The first byte is the length of the topic.
fn message(data: &[u8]) {
    let Some((length, rest)) = data.split_first() else { return };
    let (topic, payload) = rest.split_at(usize::from(*length).min(rest.len()));
    let Ok(topic) = std::str::from_utf8(topic) else { return };
    let mut said = Said::default();
    mqtt::read(topic, payload, length % 2 == 0, &mut said);
    assert!(said.values.len() <= 33, "a message has so many numbers at most");
    mqtt::is_there(payload);
}

/// What a board says, and what it is told.
fn board(data: &[u8]) {
    let mut decoder = firmata::Decoder::default();
    for &byte in data {
        if let Some(frame) = decoder.from_board(byte) {
            let parsed = firmata::FromBoard::parse(&frame);
            if let Some(firmata::FromBoard::Capabilities(of)) = &parsed {
                assert!(of.can(firmata::mode::INPUT).count() <= data.len());
            }
        }
    }
    let mut decoder = firmata::Decoder::default();
    for &byte in data {
        if let Some(told) = decoder.to_board(byte).and_then(|frame| firmata::ToBoard::parse(&frame)) {
            let emitted = told.emit();
            assert!(!emitted.as_slice().is_empty());
        }
    }
}

fn bridge_of(data: &[u8]) {
    let mut decoder = bridge::Decoder::default();
    for &byte in data {
        if let Some(told) = decoder.take(byte) {
            let mut out = Vec::new();
            told.emit(&mut out);
            assert!(!out.is_empty());
        }
    }
}

/// What servos answer, and what they are asked. The first byte of each part is its length.
fn smart_bus(form: Form, data: &[u8]) {
    let mut packets = Packets::<512>::new(form);
    packets.feed(data, |packet| {
        // What is read as a request is written as the same bytes: the same id, instruction and rest.
        if let Some(ask) = packet.as_ask(form) {
            let mut out = Vec::new();
            form.ask(packet.id, &ask, &mut out).expect("what was said can be said");
            let mut again = 0;
            Packets::<512>::new(form).feed(&out, |same| {
                assert_eq!((same.id, same.as_ask(form)), (packet.id, Some(ask)));
                again += 1;
            });
            assert_eq!(again, 1);
        }
    });
    assert!(packets.counts().skipped <= data.len() as u64);
    let mut exchange = Exchange::new(form);
    let timing = Timing { baud: 57_600, return_delay: Duration::from_micros(500), latency: Timing::LATENCY };
    let (mut rest, mut now) = (data, Duration::ZERO);
    while let Some((&length, after)) = rest.split_first() {
        let (part, later) = after.split_at(usize::from(length).min(after.len()));
        let ask = Ask::Read { address: 36, count: u16::from(length % 5) };
        let expected = Expected::Each(&[7], usize::from(length % 5));
        exchange.ask(now, timing, (7, &ask), expected).expect("a read can be said");
        exchange.hear(part, now);
        now += Duration::from_millis(u64::from(length));
        exchange.pass(now);
        let mut ends = 0;
        while let Some(happened) = exchange.take_happened() {
            ends += 1;
            if let Happened::Answer(answer) = happened {
                assert_eq!(answer.id, 7);
            }
        }
        assert!(ends <= 1, "one was asked, and one answers or does not");
        rest = later;
    }
}
