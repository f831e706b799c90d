//! The driver that talks to the kernel, here talking to the simulated chip: what goes over the bus, and what
//! comes out at the pins.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::time::Duration;
use wasvolta_core::rig::Ends;
use wasvolta_port::expander::{Decision, Expander, ExpanderSettings, Found, Lapse, Noted, Phase, Wanted};
use wasvolta_port::{Clock, Fault};
use wasvolta_sim::faults::Kind;
use wasvolta_sim::truth::{BoardTruth, Part};
use wasvolta_sim::{Bench, Logged, ManualClock, Sight, SimBus, Truth};

const SETTINGS: ExpanderSettings =
    ExpanderSettings { address: 0x40, prescale: 121, frame: Duration::from_micros(19_989), widest: 595 };
const BEAT: Duration = Duration::from_millis(20);

struct Rig {
    clock: Arc<ManualClock>,
    bench: Bench,
    bus: SimBus,
    driver: Expander,
}

impl Rig {
    fn new(running: &[(u8, u16)]) -> Self {
        let board = BoardTruth {
            bus: "b".into(),
            address: 0x40,
            oscillator_hz: 25e6,
            running: running
                .iter()
                .map(|(channel, ticks)| Ends { low: u16::from(*channel), high: *ticks })
                .collect(),
            servos: vec![],
        };
        let truth = Truth { boards: vec![board], ..Truth::default() };
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&truth, 1, clock.clone());
        bench.ensure("b", 0x40, &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15]);
        let bus = bench.bus("b");
        Self { clock, bench, bus, driver: Expander::new(SETTINGS) }
    }

    fn service(&mut self, wanted: &Wanted) -> Noted {
        let clock = Arc::clone(&self.clock);
        let now = clock.now();
        self.driver.service(&mut self.bus, now, wanted, &|time| clock.wait(time)).unwrap()
    }

    /// Beats until everything wanted has been sent.
    fn settle(&mut self, wanted: &Wanted) {
        while self.driver.sent() != wanted {
            self.service(wanted);
            self.clock.advance(BEAT);
        }
        self.clock.advance(BEAT);
    }

    fn writes(&self) -> Vec<Logged> {
        self.bench.log().into_iter().filter(|e| e.write).collect()
    }
}

fn wanted(channels: &[(usize, u16)]) -> Wanted {
    let mut wanted = [None; 16];
    for &(channel, ticks) in channels {
        wanted[channel] = Some(ticks);
    }
    wanted
}

#[test]
fn the_start_sequence_is_that_of_the_data_sheet() {
    let mut rig = Rig::new(&[]);
    assert_eq!(rig.service(&[None; 16]), Noted::Started);
    let log = rig.bench.log();
    let first_write = log.iter().position(|e| e.write).unwrap();
    let own: Vec<u8> =
        log[..first_write].iter().filter(|e| (2..=5).contains(&e.register)).map(|e| e.bytes[0]).collect();
    assert_eq!(own, [0xE2, 0xE4, 0xE8, 0xE0]);
    let writes: Vec<_> = rig.writes().into_iter().map(|e| (e.register, e.bytes)).collect();
    let wanted: [(u8, &[u8]); 5] = [(253, &[0x10]), (0, &[0x30]), (1, &[0x04]), (254, &[121]), (0, &[0x20])];
    assert_eq!(writes.len(), wanted.len());
    for ((register, bytes), wanted) in writes.iter().zip(wanted) {
        assert_eq!((*register, bytes.as_slice()), wanted);
    }
    let ends: Vec<_> = log.iter().rev().take(2).map(|e| (e.write, e.register)).collect();
    assert_eq!(ends, [(false, 254), (false, 0)], "it is read back");
}

#[test]
fn a_pulse_goes_out_as_the_design_writes_it() {
    let mut rig = Rig::new(&[]);
    rig.service(&[None; 16]);
    rig.clock.advance(BEAT);
    rig.settle(&wanted(&[(0, 307)]));
    let last = rig.writes().pop().unwrap();
    assert_eq!((last.register, last.bytes.as_slice()), (6, &[0x00, 0x00, 0x33, 0x01][..]));
    assert!((rig.bench.pulse_us("b", 0x40, 0).unwrap() - 1498.16).abs() < 1e-6);
    rig.settle(&wanted(&[(0, 307), (3, 307)]));
    let last = rig.writes().pop().unwrap();
    assert_eq!((last.register, u16::from_le_bytes([last.bytes[0], last.bytes[1]])), (18, 3 * 218));
    rig.settle(&wanted(&[(0, 307)]));
    let last = rig.writes().pop().unwrap();
    assert_eq!((last.register, last.bytes.as_slice()), (18, &[0x00, 0x00, 0x00, 0x10][..]));
}

#[test]
fn first_pulses_come_one_after_another() {
    let mut rig = Rig::new(&[]);
    let all: Wanted = [Some(300); 16];
    rig.settle(&all);
    let firsts: Vec<_> =
        rig.writes().into_iter().filter(|e| (6..=69).contains(&e.register)).map(|e| e.at).collect();
    assert_eq!(firsts.len(), 16);
    assert!(
        firsts.windows(2).all(|w| w[1].checked_sub(w[0]).unwrap() >= Duration::from_millis(80)),
        "{firsts:?}"
    );
}

#[test]
fn neighbours_go_out_in_one_block_and_nothing_twice_a_frame() {
    let mut rig = Rig::new(&[]);
    rig.settle(&[Some(300); 16]);
    let before = rig.writes().len();
    let mut next = [Some(300); 16];
    (next[1], next[2], next[4], next[9]) = (Some(310), Some(315), Some(320), Some(330));
    rig.service(&next);
    let new: Vec<_> = rig.writes()[before..].iter().map(|e| (e.register, e.bytes.len())).collect();
    // Where a pulse begins was told when it was engaged: of the first of a block only the two bytes of its end.
    assert_eq!(new, [(12, 6), (24, 2), (44, 2)], "channels 1 and 2 together, 4 and 9 by themselves");
    next[1] = Some(311);
    rig.service(&next);
    assert_eq!(rig.writes().len(), before + 3, "not twice in one frame");
    assert!(rig.driver.due(&next).unwrap() > rig.clock.now());
    next[2] = None;
    rig.service(&next);
    assert_eq!(rig.writes().len(), before + 4, "a release does not wait");
    assert_eq!(rig.driver.sent()[2], None);
    rig.clock.advance(BEAT);
    rig.settle(&next);
    for (channel, ticks) in [(1, 311), (3, 300), (4, 320), (9, 330)] {
        let us = rig.bench.pulse_us("b", 0x40, channel).unwrap();
        assert!((us - f64::from(ticks) * 4.88).abs() < 0.01, "channel {channel} gets {us} µs");
    }
}

#[test]
fn a_board_that_restarts_is_noticed_and_engaged_anew_one_by_one() {
    let mut rig = Rig::new(&[]);
    let two = wanted(&[(0, 300), (5, 400)]);
    rig.settle(&two);
    rig.bench.power_cycle("b", 0x40);
    rig.clock.advance(Duration::from_secs(1));
    assert_eq!(rig.service(&two), Noted::Lapsed(Lapse::Reset));
    assert_eq!(rig.driver.sent().iter().flatten().count(), 0, "first it is known above");
    rig.service(&two);
    assert_eq!(rig.driver.sent().iter().flatten().count(), 1);
    rig.settle(&two);
    assert!(rig.bench.pulse_us("b", 0x40, 5).is_some());
}

#[test]
fn a_chip_that_restarts_in_mid_move_is_noticed_before_it_is_told_anything_new() {
    let mut rig = Rig::new(&[]);
    rig.settle(&wanted(&[(0, 300)]));
    for ticks in 301..310 {
        rig.service(&wanted(&[(0, ticks)]));
        rig.clock.advance(BEAT);
    }
    rig.bench.power_cycle("b", 0x40);
    assert_eq!(rig.driver.sent()[0], Some(309));
    let before = rig.writes().len();
    assert_eq!(rig.service(&wanted(&[(0, 310)])), Noted::Lapsed(Lapse::Reset));
    let told = rig.writes()[before..].iter().any(|e| (6..70).contains(&e.register));
    assert!(!told, "no channel was told anything: 309 is where it stood");
}

#[test]
fn a_board_that_was_only_out_of_reach_goes_on_without_a_gap() {
    let mut rig = Rig::new(&[]);
    let two = wanted(&[(0, 300), (5, 400)]);
    rig.settle(&two);
    rig.driver.lost();
    let before = rig.writes().len();
    assert_eq!(rig.service(&wanted(&[(0, 310)])), Noted::Resumed);
    assert_eq!(rig.writes().len(), before, "no start, nothing told: what it holds was read back");
    assert_eq!(rig.driver.sent(), &two);
    rig.clock.advance(BEAT);
    rig.settle(&wanted(&[(0, 310)]));
    assert_eq!(rig.bench.pulse_us("b", 0x40, 5), None, "what is no longer wanted is released then");
}

#[test]
fn what_a_failed_write_has_left_is_read_back() {
    let mut rig = Rig::new(&[]);
    rig.settle(&wanted(&[(0, 300)]));
    let clock = Arc::clone(&rig.clock);
    // The look before passes, the write itself does not.
    rig.service(&wanted(&[(0, 300)]));
    rig.bench.faults().refuse_next(1);
    let now = clock.now();
    assert!(rig.driver.service(&mut rig.bus, now, &wanted(&[(0, 320)]), &|t| clock.wait(t)).is_err());
    rig.driver.lost();
    assert_eq!(rig.service(&wanted(&[(0, 330)])), Noted::Resumed);
    assert_eq!(rig.driver.sent()[0], Some(300));
}

#[test]
fn a_pulse_whose_write_failed_is_released_in_the_end_all_the_same() {
    let mut rig = Rig::new(&[]);
    rig.service(&[None; 16]);
    rig.clock.advance(BEAT);
    rig.bench.faults().refuse_next(1);
    let clock = Arc::clone(&rig.clock);
    let now = clock.now();
    assert!(rig.driver.service(&mut rig.bus, now, &wanted(&[(3, 307)]), &|t| clock.wait(t)).is_err());
    rig.driver.release_all(&mut rig.bus, &[false; 16]).unwrap();
    assert_eq!(wasvolta_sim::bench::released_at_the_end(&rig.bench.log()), [3]);
}

#[test]
fn running_pulses_are_not_touched_before_the_maker_decides() {
    let mut rig = Rig::new(&[(1, 310)]);
    assert_eq!(rig.service(&[None; 16]), Noted::Asks);
    assert!(rig.writes().is_empty());
    let Phase::Asking(Found::Pulsing { ticks, adoptable }) = rig.driver.phase() else { panic!() };
    assert_eq!((ticks.get(1), ticks.used().count()), (Some(310), 1));
    assert!(adoptable, "its clock is the one wanted");
    let mut other = Rig::new(&[(1, 310)]);
    other.driver = Expander::new(ExpanderSettings { prescale: 101, ..SETTINGS });
    other.service(&[None; 16]);
    assert!(matches!(other.driver.phase(), Phase::Asking(Found::Pulsing { adoptable: false, .. })));
}

#[test]
fn pulses_with_the_wanted_clock_are_adopted_without_a_gap() {
    let mut rig = Rig::new(&[]);
    rig.settle(&wanted(&[(1, 310)]));
    // Another run of the program finds the board as the first one left it.
    rig.driver = Expander::new(SETTINGS);
    let before = rig.writes().len();
    assert_eq!(rig.service(&[None; 16]), Noted::Asks);
    let clock = Arc::clone(&rig.clock);
    rig.driver.decide(Decision::Adopt, &mut rig.bus, &|t| clock.wait(t)).unwrap();
    rig.service(&wanted(&[(1, 310)]));
    assert_eq!(rig.writes().len(), before, "nothing had to be written");
    rig.clock.advance(BEAT);
    rig.service(&wanted(&[(1, 315)]));
    assert_eq!(u16::from_le_bytes([rig.writes()[before].bytes[0], rig.writes()[before].bytes[1]]), 218);
}

#[test]
fn releasing_is_the_other_answer_and_starts_the_board() {
    let mut rig = Rig::new(&[(1, 310)]);
    rig.service(&[None; 16]);
    let clock = Arc::clone(&rig.clock);
    rig.driver.decide(Decision::Release, &mut rig.bus, &|t| clock.wait(t)).unwrap();
    assert_eq!(rig.driver.phase(), Phase::Started);
    assert_eq!(rig.bench.pulse_us("b", 0x40, 1), None);
}

#[test]
fn the_last_act_releases_each_channel_but_those_that_stay_stiff() {
    let mut rig = Rig::new(&[]);
    rig.settle(&wanted(&[(0, 300), (1, 310), (7, 320)]));
    let mut stay = [false; 16];
    stay[1] = true;
    rig.driver.release_all(&mut rig.bus, &stay).unwrap();
    assert_eq!(wasvolta_sim::bench::released_at_the_end(&rig.bench.log()), [0, 7]);
    rig.clock.advance(BEAT);
    assert!(rig.bench.pulse_us("b", 0x40, 1).is_some());
}

#[test]
fn dangerous_bits_are_never_written() {
    let mut rig = Rig::new(&[(1, 310)]);
    rig.service(&[None; 16]);
    let clock = Arc::clone(&rig.clock);
    rig.driver.decide(Decision::Release, &mut rig.bus, &|t| clock.wait(t)).unwrap();
    rig.settle(&[Some(300); 16]);
    rig.bench.power_cycle("b", 0x40);
    rig.clock.advance(Duration::from_secs(1));
    rig.settle(&[Some(305); 16]);
    for entry in rig.writes() {
        match entry.register {
            0 => assert_eq!(entry.bytes[0] & 0xC0, 0, "RESTART or EXTCLK"),
            1 => assert_eq!(entry.bytes[0] & 0x10, 0, "INVRT"),
            6..=69 => {
                assert!(entry.bytes.len() <= 32 && usize::from(entry.register) + entry.bytes.len() <= 70);
                assert!(entry.bytes.as_chunks::<4>().0.iter().all(|c| c[1] & 0x10 == 0), "fully on");
            }
            _ => {}
        }
    }
}

#[test]
fn faults_are_told_apart() {
    let mut rig = Rig::new(&[]);
    rig.bench.faults().set_everywhere(Kind::Held, true);
    let clock = Arc::clone(&rig.clock);
    let busy = rig.driver.service(&mut rig.bus, BEAT, &[None; 16], &|t| clock.wait(t)).unwrap_err();
    assert_eq!(busy.fault, Fault::Busy);
    rig.bench.faults().set_everywhere(Kind::Held, false);
    rig.bench.faults().refuse_next(1);
    let refused = rig.driver.service(&mut rig.bus, BEAT, &[None; 16], &|t| clock.wait(t)).unwrap_err();
    assert_eq!(refused.fault, Fault::Transfer);
    assert_eq!(rig.service(&[None; 16]), Noted::Started);
}

#[test]
fn a_first_pulse_whose_write_failed_is_told_as_a_whole_again() {
    let mut rig = Rig::new(&[]);
    rig.settle(&[None; 16]);
    rig.bench.faults().refuse_next(1);
    let first = wanted(&[(3, 300)]);
    let clock = Arc::clone(&rig.clock);
    assert!(rig.driver.service(&mut rig.bus, clock.now(), &first, &|t| clock.wait(t)).is_err());
    rig.clock.advance(BEAT);
    rig.settle(&wanted(&[(3, 310)]));
    let us = rig.bench.pulse_us("b", 0x40, 3).unwrap();
    assert!((us - 310.0 * 4.88).abs() < 0.01, "{us} µs: the pulse begins where it was meant to");
}

#[test]
fn a_cut_of_a_full_board_is_one_short_transfer() {
    let mut rig = Rig::new(&[]);
    let all = [Some(307); 16];
    rig.settle(&all);
    let before = rig.writes().len();
    rig.service(&[None; 16]);
    let new: Vec<_> = rig.writes()[before..].iter().map(|e| (e.register, e.bytes.clone())).collect();
    assert_eq!(new, [(253, vec![0x10])]);
    assert!((0..16).all(|n| rig.bench.pulse_us("b", 0x40, n).is_none()));
    rig.settle(&all);
    assert!((0..16).all(|n| rig.bench.pulse_us("b", 0x40, n).is_some()), "and they come back");
}

#[test]
fn what_else_has_its_way_with_a_chip_is_named_and_mended() {
    let cases = [
        (Kind::Asleep, Lapse::Asleep),
        (Kind::OtherRate, Lapse::OtherRate),
        (Kind::Overwritten, Lapse::Overwritten),
        (Kind::Pulled, Lapse::Reset),
    ];
    for (kind, lapse) in cases {
        let mut rig = Rig::new(&[]);
        let two = wanted(&[(0, 300), (5, 400)]);
        rig.settle(&two);
        rig.bench.faults().set_everywhere(kind, true);
        rig.clock.advance(Duration::from_millis(150));
        assert!(rig.bench.pulse_us("b", 0x40, 0).is_none_or(|us| kind == Kind::Pulled || us < 1230.0));
        rig.bench.faults().set_everywhere(kind, false);
        rig.clock.advance(Duration::from_secs(1));
        let noted = (0..3).map(|_| {
            rig.clock.advance(Duration::from_secs(1));
            rig.service(&two)
        });
        assert!(noted.collect::<Vec<_>>().contains(&Noted::Lapsed(lapse)), "{kind:?}");
        rig.settle(&two);
        assert!((rig.bench.pulse_us("b", 0x40, 5).unwrap() - 400.0 * 4.88).abs() < 0.01, "{kind:?}");
    }
}

#[test]
fn an_address_that_speaks_to_all_is_heard_by_boards_that_listen_to_it() {
    use wasvolta_port::{I2cBus, Transfer};
    let mut rig = Rig::new(&[]);
    let mut byte = [0];
    rig.bus.transfer(0x70, Transfer::Read { register: 0, into: &mut byte }).unwrap();
    assert_eq!(byte, [0x11], "one board, found at two addresses");
    rig.service(&[None; 16]);
    let silent = rig.bus.transfer(0x70, Transfer::Read { register: 0, into: &mut byte }).unwrap_err();
    assert_eq!(silent.fault, Fault::Absent, "a started board listens to its own address only");
}

#[test]
fn a_lamp_goes_from_dark_to_all_but_a_tick_of_the_frame_and_is_not_taken_for_overwritten() {
    let mut rig = Rig::new(&[]);
    rig.bench.ensure_parts("b", 0x40, &[(3, Part::Lamp)]);
    rig.service(&[None; 16]);
    rig.clock.advance(BEAT);
    let light = |rig: &Rig| rig.bench.eye().look("b", 0x40, 3).unwrap().sight;
    // Dark: fully off, with where its pulse would begin.
    rig.settle(&wanted(&[(3, 0)]));
    let last = rig.writes().pop().unwrap();
    assert_eq!((last.register, last.bytes.as_slice()), (18, &[0x8E, 0x02, 0x00, 0x10][..]));
    // Only the end of its pulse is told from then on, also where that wraps past the frame.
    for (ticks, off, percent) in
        [(1638, [0xF4, 0x08], 40.0), (4095, [0x8D, 0x02], 100.0), (0, [0x00, 0x10], 0.0)]
    {
        rig.settle(&wanted(&[(3, ticks)]));
        let last = rig.writes().pop().unwrap();
        assert_eq!((last.register, last.bytes.as_slice()), (20, &off[..]), "{ticks}");
        rig.clock.advance(BEAT * 3);
        assert_eq!(light(&rig), Sight::Light(percent));
        // Its registers are read back meanwhile, and hold what was told.
        for _ in 0..150 {
            assert_eq!(rig.service(&wanted(&[(3, ticks)])), Noted::Nothing);
            rig.clock.advance(BEAT);
        }
    }
}
