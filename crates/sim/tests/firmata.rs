//! The Firmata driver and the simulated microcontroller: a dialogue byte for byte, what it does when the board
//! restarts, is silent or foreign, and that the board is never the guard.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use std::sync::Arc;
use std::time::Duration;
use wasvolta_port::board::{BoardSettings, Driver, Lapse, Noted, Orders, Phase, Stay, Wanted};
use wasvolta_port::firmata::{self, Firmata, Role};
use wasvolta_port::serial::Stream;
use wasvolta_port::{BusError, Clock, Fault};
use wasvolta_sim::faults::{Faults, Kind};
use wasvolta_sim::firmata::FirmataBoard;
use wasvolta_sim::truth::Part;
use wasvolta_sim::{Bench, ManualClock, Sight, Truth};

/// Pin 5 dims, pin 7 switches, the rest drive servos.
const SETTINGS: firmata::FirmataSettings = firmata::FirmataSettings {
    levels: 1 << 5,
    switches: 1 << 7,
    reads: firmata::Reads { analog: 0, digital: 0, pulled_up: 0 },
};
const STEP: Duration = Duration::from_millis(10);

struct Rig {
    clock: Arc<ManualClock>,
    bench: Bench,
    board: FirmataBoard,
    line: Box<dyn Stream>,
    driver: Firmata,
}

impl Rig {
    fn new() -> Self {
        let clock = Arc::new(ManualClock::default());
        let bench = Bench::new(&Truth::default(), 1, clock.clone());
        let board = bench.firmata("reeds");
        for pin in [9, 3, 15] {
            board.ensure(pin, Part::Servo);
        }
        let line: Box<dyn Stream> = Box::new(board.open().unwrap());
        Self { clock, bench, board, line, driver: Firmata::of(&BoardSettings::Firmata(SETTINGS)).unwrap() }
    }

    fn faults(&self) -> &Faults {
        self.bench.faults()
    }

    fn service(&mut self, wanted: &Wanted) -> Result<Noted, BusError> {
        let clock = Arc::clone(&self.clock);
        self.driver.service(&mut self.line, clock.now(), &Orders::of(wanted.clone()), &*clock)
    }

    /// Passes time in small steps until something is noted or fails.
    fn until_noted(&mut self, wanted: &Wanted, most: Duration) -> Result<Noted, BusError> {
        for _ in 0..most.as_millis() / STEP.as_millis() {
            let noted = self.service(wanted)?;
            if noted != Noted::Nothing {
                return Ok(noted);
            }
            self.clock.advance(STEP);
        }
        Ok(Noted::Nothing)
    }

    fn pass(&mut self, wanted: &Wanted, time: Duration) {
        for _ in 0..time.as_millis() / STEP.as_millis() {
            self.service(wanted).unwrap();
            self.clock.advance(STEP);
        }
    }

    fn up(wanted: &Wanted) -> Self {
        let mut rig = Self::new();
        assert_eq!(rig.until_noted(wanted, Duration::from_secs(2)).unwrap(), Noted::Started);
        rig
    }
}

fn wanted(pins: &[(usize, u16)]) -> Wanted {
    pins.iter().map(|&(pin, us)| (pin, Some(us))).collect()
}

/// What a board heard, without the questions what a pin is.
fn unasked(heard: &[u8]) -> Vec<u8> {
    let mut left = Vec::new();
    let mut at = 0;
    while at < heard.len() {
        if heard[at..].starts_with(&[0xF0, 0x6D]) {
            at += 4;
        } else {
            left.push(heard[at]);
            at += 1;
        }
    }
    left
}

const NOBODY: Wanted = Wanted::NONE;

#[test]
fn the_dialogue_is_byte_for_byte_that_of_the_protocol() {
    let mut rig = Rig::up(&NOBODY);
    // It spoke first, for opening the line had reset it; then it is asked what its pins can do, and what they are.
    let heard = rig.board.heard();
    assert_eq!(heard[..6], [0xF0, 0x6B, 0xF7, 0xF0, 0x69, 0xF7]);
    // Behind them stands a question that every firmware answers.
    let (&end, asked) = heard[6..].split_last().unwrap();
    assert_eq!(end, 0xF9);
    let pins: Vec<u8> = asked.chunks(4).map(|ask| ask[2]).collect();
    assert!(asked.chunks(4).all(|ask| [ask[0], ask[1], ask[3]] == [0xF0, 0x6D, 0xF7]));
    assert_eq!(pins, (2..20).collect::<Vec<u8>>());
    let before = heard.len();
    let said = |rig: &Rig, from: usize| unasked(&rig.board.heard()[before..])[from - before..].to_vec();
    // The questions have left the line.
    rig.clock.advance(STEP * 2);
    rig.service(&wanted(&[(9, 1500)])).unwrap();
    // Pin 9: limits as wide as they go, 544 and 2912, and the value in the same write.
    let engaged = [0xF0, 0x70, 0x09, 0x20, 0x04, 0x60, 0x16, 0xF7, 0xE9, 0x5C, 0x0B];
    assert_eq!(said(&rig, before), engaged);
    assert_eq!(rig.board.pulse_us(9), Some(1500));
    rig.clock.advance(Duration::from_millis(20));
    rig.service(&wanted(&[(9, 1510)])).unwrap();
    assert_eq!(said(&rig, before + 11), [0xE9, 0x66, 0x0B]);
    // A second change within the same frame waits for the next.
    rig.clock.advance(Duration::from_millis(5));
    rig.service(&wanted(&[(9, 1520)])).unwrap();
    assert!(said(&rig, before + 14).is_empty());
    // A pin from 16 on would take the long form; 15 has the short one. It is engaged 80 ms after the first.
    rig.clock.advance(Duration::from_millis(80));
    rig.service(&wanted(&[(9, 1520), (15, 1000)])).unwrap();
    let both = [0xE9, 0x70, 0x0B, 0xF0, 0x70, 0x0F, 0x20, 0x04, 0x60, 0x16, 0xF7, 0xEF, 0x68, 0x07];
    assert_eq!(said(&rig, before + 14), both);
    // Released: an output, and low.
    rig.clock.advance(Duration::from_millis(20));
    rig.service(&wanted(&[(15, 1000)])).unwrap();
    assert_eq!(said(&rig, before + 28), [0xF4, 0x09, 0x01, 0xF5, 0x09, 0x00]);
    assert_eq!((rig.board.pulse_us(9), rig.board.pulse_us(15)), (None, Some(1000)));
    // The end: what is left.
    let stay = Stay::NONE;
    rig.driver.release(&mut rig.line, &stay, &ManualClock::default()).unwrap();
    assert_eq!(said(&rig, before + 34), [0xF4, 0x0F, 0x01, 0xF5, 0x0F, 0x00]);
    assert_eq!(rig.driver.sent(), NOBODY);
}

#[test]
fn a_lamp_and_a_relay_are_told_as_the_protocol_has_it() {
    let mut rig = Rig::up(&NOBODY);
    for pin in [5, 7] {
        rig.board.ensure(pin, Part::Lamp);
    }
    let before = rig.board.heard().len();
    let said = |rig: &Rig, from: usize| unasked(&rig.board.heard()[before..])[from - before..].to_vec();
    rig.clock.advance(STEP * 2);
    let light = |rig: &Rig, pin: u8| rig.board.look(pin).unwrap().sight;
    rig.service(&wanted(&[(5, 102)])).unwrap();
    assert_eq!(said(&rig, before), [0xF4, 0x05, 0x03, 0xE5, 0x66, 0x00]);
    rig.clock.advance(Duration::from_millis(80));
    rig.service(&wanted(&[(5, 102), (7, 255)])).unwrap();
    assert_eq!(said(&rig, before + 6), [0xF4, 0x07, 0x01, 0xF5, 0x07, 0x01]);
    rig.clock.advance(Duration::from_millis(80));
    assert_eq!((light(&rig, 5), light(&rig, 7)), (Sight::Light(40.0), Sight::Light(100.0)));
    rig.service(&wanted(&[(5, 0), (7, 0)])).unwrap();
    assert_eq!(said(&rig, before + 12), [0xE5, 0x00, 0x00, 0xF5, 0x07, 0x00]);
    // Released, both are low outputs; a pin that cannot dim is never asked to.
    rig.clock.advance(Duration::from_millis(80));
    rig.service(&NOBODY).unwrap();
    assert_eq!(said(&rig, before + 18), [0xF4, 5, 1, 0xF5, 5, 0, 0xF4, 7, 1, 0xF5, 7, 0]);
    rig.driver.configure(&BoardSettings::Firmata(firmata::FirmataSettings {
        levels: 1 << 8,
        switches: 0,
        ..SETTINGS
    }));
    rig.clock.advance(Duration::from_millis(80));
    rig.service(&wanted(&[(8, 102)])).unwrap();
    assert!(said(&rig, before + 30).is_empty());
}

#[test]
fn a_board_that_was_not_reset_is_asked_after_three_seconds() {
    let mut rig = Rig::new();
    // It has spoken to somebody else already.
    rig.clock.advance(Duration::from_secs(1));
    rig.line.read(&mut [0; 64]);
    let begun = rig.clock.now();
    while rig.board.heard().is_empty() {
        rig.service(&NOBODY).unwrap();
        rig.clock.advance(STEP);
    }
    assert_eq!(rig.board.heard()[..4], [0xF9, 0xF0, 0x79, 0xF7]);
    assert!(rig.clock.now().saturating_sub(begun) >= Duration::from_secs(3));
    assert_eq!(rig.until_noted(&NOBODY, Duration::from_secs(1)).unwrap(), Noted::Started);
    assert_eq!(rig.driver.phase(), Phase::Started);
}

#[test]
fn a_silent_board_and_one_that_speaks_something_else_are_told_apart() {
    let mut rig = Rig::new();
    rig.faults().set_everywhere(Kind::Silent, true);
    assert_eq!(rig.until_noted(&NOBODY, Duration::from_secs(8)).unwrap_err().fault, Fault::Silent);
    let mut rig = Rig::new();
    rig.faults().set_everywhere(Kind::WrongFirmware, true);
    let error = rig.until_noted(&NOBODY, Duration::from_secs(8)).unwrap_err();
    assert_eq!(
        (error.fault, error.to_string().as_str()),
        (Fault::Foreign, "cannot understand the board on this line: it speaks something else")
    );
    // One that falls silent later is missed within a few seconds, though nothing is wanted of it.
    let mut rig = Rig::up(&NOBODY);
    rig.faults().set_everywhere(Kind::Silent, true);
    assert_eq!(rig.until_noted(&NOBODY, Duration::from_secs(4)).unwrap_err().fault, Fault::Silent);
}

#[test]
fn a_restart_is_noticed_and_all_are_engaged_anew_one_by_one() {
    let both = wanted(&[(3, 1200), (9, 1800)]);
    let mut rig = Rig::up(&both);
    rig.pass(&both, Duration::from_millis(300));
    assert_eq!((rig.board.pulse_us(3), rig.board.pulse_us(9)), (Some(1200), Some(1800)));
    rig.board.reset();
    assert_eq!(rig.board.pulse_us(9), None);
    assert_eq!(rig.until_noted(&both, Duration::from_secs(2)).unwrap(), Noted::Lapsed(Lapse::Reset));
    assert_eq!(rig.until_noted(&both, Duration::from_secs(2)).unwrap(), Noted::Started);
    // What was asked last is still on the line.
    rig.clock.advance(STEP);
    rig.service(&both).unwrap();
    assert_eq!((rig.board.pulse_us(3), rig.board.pulse_us(9)), (Some(1200), None), "one by one");
    rig.pass(&both, Duration::from_millis(120));
    assert_eq!(rig.board.pulse_us(9), Some(1800));
}

#[test]
fn an_answer_that_was_asked_for_is_no_restart() {
    let one = wanted(&[(3, 1200)]);
    let mut rig = Rig::up(&one);
    for _ in 0..1000 {
        assert_eq!(rig.service(&one).unwrap(), Noted::Nothing);
        rig.clock.advance(STEP);
    }
    // Ten seconds: at least four times a second.
    let asked = rig.board.heard().windows(3).filter(|said| *said == [0xF0, 0x6D, 3]).count();
    assert!((35..60).contains(&asked), "{asked}");
}

#[test]
fn a_restart_is_noticed_however_slowly_it_boots_and_whether_or_not_it_says_what_its_pins_are() {
    let both = wanted(&[(3, 1200), (9, 1800)]);
    for boots in [50, 500, 1500] {
        for says in [true, false] {
            let mut rig = Rig::new();
            rig.board.says_pins(says);
            rig.until_noted(&both, Duration::from_secs(3)).unwrap();
            rig.board.boots_in(Duration::from_millis(boots));
            for time in 0..8 {
                rig.pass(&both, Duration::from_millis(337));
                assert_eq!((rig.board.pulse_us(3), rig.board.pulse_us(9)), (Some(1200), Some(1800)));
                rig.board.reset();
                let noted = rig.until_noted(&both, Duration::from_secs(3)).unwrap();
                assert_eq!(noted, Noted::Lapsed(Lapse::Reset), "{boots} ms, {says}, time {time}");
                assert_eq!(rig.until_noted(&both, Duration::from_secs(3)).unwrap(), Noted::Started);
            }
        }
    }
}

#[test]
fn nothing_new_is_told_before_the_last_was_heard() {
    let mut rig = Rig::up(&wanted(&[(9, 1500)]));
    rig.pass(&wanted(&[(9, 1500)]), Duration::from_millis(100));
    // It restarts in mid-move and says nothing for long: what it was told last is a frame from what it had.
    let mut told = 1500;
    for us in (1510..1600).step_by(10) {
        rig.service(&wanted(&[(9, us)])).unwrap();
        rig.clock.advance(Duration::from_millis(20));
        told = us;
    }
    rig.board.boots_in(Duration::from_secs(1));
    rig.board.reset();
    for us in (1600..1900).step_by(10) {
        rig.service(&wanted(&[(9, us)])).unwrap();
        rig.clock.advance(Duration::from_millis(20));
    }
    assert!(rig.driver.sent().get(9).unwrap() <= told + 10, "{:?} after {told}", rig.driver.sent().get(9));
}

#[test]
fn servos_that_run_already_are_asked_about_and_kept_or_released() {
    use wasvolta_port::board::{Decision, Found};
    let left = |resets: bool| {
        let mut rig = Rig::up(&wanted(&[(9, 1500)]));
        rig.pass(&wanted(&[(9, 1500)]), Duration::from_millis(100));
        // The program was killed: nobody released it, and a new one opens the line.
        rig.board.resets_when_opened(resets);
        rig.driver = Firmata::of(&BoardSettings::Firmata(firmata::FirmataSettings::default())).unwrap();
        rig.line = Box::new(rig.board.open().unwrap());
        rig
    };
    let mut rig = left(true);
    assert_eq!(rig.until_noted(&NOBODY, Duration::from_secs(5)).unwrap(), Noted::Started);
    for (decision, us) in [(Decision::Adopt, Some(1500)), (Decision::Release, None)] {
        let mut rig = left(false);
        assert_eq!(rig.until_noted(&NOBODY, Duration::from_secs(5)).unwrap(), Noted::Asks);
        let Phase::Asking(Found::Pulsing { ticks, adoptable }) = rig.driver.phase() else { panic!() };
        assert_eq!((ticks, adoptable), (wanted(&[(9, 1500)]), true));
        assert_eq!(rig.board.pulse_us(9), Some(1500), "nothing was written");
        rig.driver.decide(decision, &mut rig.line, &ManualClock::default()).unwrap();
        assert_eq!((rig.board.pulse_us(9), rig.driver.phase()), (us, Phase::Started));
        let clock = Arc::clone(&rig.clock);
        assert!(rig.driver.read_back(&mut rig.line, &*clock).unwrap());
        assert_eq!(rig.driver.sent().get(9).is_some(), us.is_some());
    }
    // Ended while it is still being asked, it is released all the same.
    let mut rig = left(false);
    rig.until_noted(&NOBODY, Duration::from_secs(5)).unwrap();
    rig.driver.release(&mut rig.line, &Stay::NONE, &ManualClock::default()).unwrap();
    assert_eq!(rig.board.pulse_us(9), None);
}

#[test]
fn the_boards_own_limits_never_cut_a_pulse() {
    let mut rig = Rig::up(&NOBODY);
    for us in [544, 600, 2400, 2899] {
        rig.pass(&wanted(&[(9, us)]), Duration::from_millis(100));
        assert_eq!(rig.board.pulse_us(9), Some(us));
    }
}

#[test]
fn a_pin_that_cannot_drive_a_servo_is_left_alone() {
    let mut rig = Rig::up(&NOBODY);
    let before = rig.board.heard().len();
    rig.pass(&wanted(&[(0, 1500), (40, 1500)]), Duration::from_millis(200));
    assert_eq!(rig.board.heard().len(), before);
    let firmware = rig.driver.evidence().unwrap();
    let wasvolta_port::board::Evidence::Firmata(firmware) = firmware else { panic!() };
    assert_eq!((firmware.version, firmware.pins), ((2, 7), 20));
    assert!([0, 2, 19, 20].map(|pin| firmware.can(Role::Servo, pin)) == [false, true, true, false]);
}

#[test]
fn a_plug_that_was_pulled_is_an_error_and_the_line_comes_back() {
    let one = wanted(&[(3, 1200)]);
    let mut rig = Rig::up(&one);
    rig.pass(&one, Duration::from_millis(100));
    rig.faults().set_everywhere(Kind::Pulled, true);
    assert_eq!(rig.service(&one).unwrap_err().fault, Fault::NoBus);
    assert!(rig.board.open().is_err());
    rig.faults().set_everywhere(Kind::Pulled, false);
    rig.driver.lost();
    rig.line = Box::new(rig.board.open().unwrap());
    assert_eq!(rig.board.pulse_us(3), None, "its supply came through the plug");
    assert_eq!(rig.until_noted(&one, Duration::from_secs(5)).unwrap(), Noted::Started);
    rig.pass(&one, Duration::from_millis(100));
    assert_eq!(rig.board.pulse_us(3), Some(1200));
}

#[test]
fn a_port_that_is_asked_says_what_is_on_it() {
    use wasvolta_port::scan::{Answer, ask};
    let asked = |kind: Option<Kind>| {
        let rig = Rig::new();
        if let Some(kind) = kind {
            rig.faults().set_everywhere(kind, true);
        }
        let mut line = rig.line;
        ask(&mut *line, &|time| rig.clock.wait(time))
    };
    assert_eq!(asked(None), Answer::Firmata { major: 2, minor: 7 });
    assert_eq!(asked(Some(Kind::WrongFirmware)), Answer::Firmata { major: 1, minor: 0 });
    assert_eq!(asked(Some(Kind::Silent)), Answer::Silence);
    assert_eq!(asked(Some(Kind::Pulled)), Answer::Gone);
    assert!(Answer::Firmata { major: 1, minor: 0 }.words().contains("load a firmware"));
    for answer in [Answer::Link { protocol: "lines" }, Answer::Something, Answer::Silence, Answer::Gone] {
        assert!(!answer.words().is_empty());
    }
    // A knob that prints numbers, and a device that speaks in tongues.
    for (text, answer) in [
        ("knob=1\n".repeat(9), Answer::Link { protocol: "lines" }),
        ("\u{ff}x\n".repeat(9), Answer::Something),
    ] {
        struct Printer(Vec<u8>);
        impl Stream for Printer {
            fn read(&mut self, into: &mut [u8]) -> wasvolta_port::serial::Got {
                let count = into.len().min(self.0.len());
                into[..count].copy_from_slice(&self.0[..count]);
                self.0.drain(..count);
                if count == 0 {
                    wasvolta_port::serial::Got::Nothing
                } else {
                    wasvolta_port::serial::Got::Bytes(count)
                }
            }
            fn write(&mut self, _: &[u8]) -> Result<(), Fault> {
                Ok(())
            }
            fn flush(&mut self) {}

            fn set_baud(&mut self, _: u32) -> Result<(), Fault> {
                Err(Fault::OtherKind)
            }
        }
        let mut printer = Printer(text.into_bytes());
        assert_eq!(ask(&mut printer, &|_| {}), answer);
    }
}

fn read(rig: &mut Rig) -> Vec<(u16, f64)> {
    let mut all = Vec::new();
    rig.driver.take_read(&mut |code, value| all.push((code, value)));
    all
}

#[test]
fn pins_are_read_beside_those_that_are_driven_and_told_anew_after_a_restart() {
    const PIN_2: u16 = 2;
    let reads = firmata::Reads { analog: 1, digital: 1 << 2 | 1 << 4, pulled_up: 1 << 4 };
    let mut rig = Rig::up(&NOBODY);
    let before = rig.board.heard().len();
    rig.driver.configure(&BoardSettings::Firmata(firmata::FirmataSettings { reads, ..SETTINGS }));
    rig.board.set_analog(0, 0.5);
    let driven = wanted(&[(9, 1500)]);
    rig.pass(&driven, Duration::from_millis(200));
    // Twenty ms between reports; pin 14 analog, reported; 2 an input, 4 with its pull-up; their port reported.
    let told = unasked(&rig.board.heard()[before..]);
    let begins = [0xF0, 0x7A, 0x14, 0, 0xF7, 0xF4, 14, 2, 0xC0, 1, 0xF4, 2, 0, 0xF4, 4, 0x0B, 0xD0, 1];
    assert_eq!(told[..begins.len()], begins);
    let all = read(&mut rig);
    let analog: Vec<f64> = all.iter().filter(|(code, _)| *code == firmata::ANALOG).map(|(_, v)| *v).collect();
    assert!(
        (8..=10).contains(&analog.len()) && analog.iter().all(|value| (511.0..=512.0).contains(value)),
        "{all:?}"
    );
    let digital = |all: &[(u16, f64)], code| {
        all.iter().filter(|(own, _)| *own == code).map(|(_, v)| *v).collect::<Vec<_>>()
    };
    assert_eq!((digital(&all, PIN_2), digital(&all, firmata::PULLED_UP + 4)), (vec![0.0], vec![1.0]));
    assert_eq!(rig.board.pulse_us(9), Some(1500), "and a servo is driven all the while");
    // Pressed to ground, and released.
    rig.board.set_pin(4, Some(false));
    rig.pass(&driven, Duration::from_millis(20));
    rig.board.set_pin(4, None);
    rig.pass(&driven, Duration::from_millis(20));
    assert_eq!(digital(&read(&mut rig), firmata::PULLED_UP + 4), [0.0, 1.0]);
    // What has started anew reports nothing until it is told again.
    rig.board.reset();
    assert!(matches!(rig.until_noted(&driven, Duration::from_secs(1)), Ok(Noted::Lapsed(_))));
    rig.until_noted(&driven, Duration::from_secs(2)).unwrap();
    read(&mut rig);
    rig.pass(&driven, Duration::from_millis(100));
    assert!(read(&mut rig).len() >= 4);
    // No more.
    rig.driver.configure(&BoardSettings::Firmata(SETTINGS));
    rig.pass(&driven, Duration::from_millis(20));
    read(&mut rig);
    rig.pass(&driven, Duration::from_millis(100));
    assert_eq!(read(&mut rig), []);
}
