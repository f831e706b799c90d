//! What has a level instead of an angle: lamps, relays, and a continuous servo.

use super::Bench;
use crate::screen::keys::Key;
use crate::screen::pick::Pick;
use crossterm::event::KeyCode;
use wasvolta_core::rig::Kind;
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{Percent, Position, Seconds, Ticks};

const WINCH: usize = 5;
const MOON: usize = 6;
const LANTERN: usize = 7;

/// Calibrate, with a servo picked by its index.
fn picked(servo: usize) -> Bench {
    let mut bench = Bench::new();
    bench.model.pick_servo(&bench.session.document.rig, servo);
    bench
}

fn ticks(bench: &Bench, servo: usize) -> Option<Ticks> {
    bench.model.snapshot.servos[servo].ticks()
}

#[test]
fn a_lamp_is_switched_to_dark_dimmed_by_arrows_and_by_typing_and_blinks() {
    let mut bench = picked(MOON);
    assert!(bench.frame(160, 47).contains("e switches marsh.moon to 0 %"));
    bench.press(Key::char('e'));
    bench.pass(30);
    assert!(bench.model.dialog.is_none(), "a lamp stands nowhere: nothing is asked");
    assert_eq!(ticks(&bench, MOON), Some(Ticks(0)));
    bench.text("40");
    assert!(bench.frame(160, 47).contains("Go to 40▏  → 40 %"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Enter);
    bench.watch(500);
    bench.code(KeyCode::Right);
    bench.watch(60);
    assert_eq!(ticks(&bench, MOON), Some(Ticks(2048)), "half of 4095, ten percent a nudge");
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        insta::assert_snapshot!(format!("dimmer_{columns}x{rows}"), bench.frame(columns, rows));
    }
    // What is said of horns is refused in words.
    for key in ['m', 'n', 'b', 's', 'l', 'h'] {
        bench.press(Key::char(key));
        assert!(bench.frame(160, 47).contains("it has a level, not angles"), "{key}");
    }
    bench.press(Key::char('W'));
    assert!(bench.frame(160, 47).contains("it gets no servo pulses"), "{}", bench.frame(160, 47));
    bench.text("140");
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("level is 140 %, outside 0 to 100 %"));
    bench.code(KeyCode::Esc);
    bench.code(KeyCode::F(1));
    bench.press(Key::char('w'));
    bench.pass(10);
    assert!(bench.frame(160, 47).contains("blinks"), "{}", bench.frame(160, 47));
}

#[test]
fn a_relay_knows_nothing_between_and_poses_keep_levels() {
    let mut bench = picked(LANTERN);
    bench.press(Key::char('e'));
    bench.pass(20);
    bench.text("30");
    bench.code(KeyCode::Enter);
    bench.pass(20);
    assert_eq!(ticks(&bench, LANTERN), Some(Ticks(0)), "under its middle it is off");
    bench.code(KeyCode::Right);
    bench.pass(20);
    assert_eq!(ticks(&bench, LANTERN), Some(Ticks(4095)));
    assert!(bench.frame(160, 47).contains("simulated: it is on"));
    bench.press(Key::char('k'));
    bench.enter("");
    let pose = bench.session.document.rig.poses.last().unwrap();
    assert!(pose.angles_deg.is_empty(), "{pose:?}");
    assert_eq!(pose.levels_percent.get("marsh.lantern"), Some(&Percent::new(100.0)));
    bench.code(KeyCode::Left);
    bench.pass(20);
    assert_eq!(ticks(&bench, LANTERN), Some(Ticks(0)));
}

#[test]
fn a_winch_sees_its_neutral_first_and_stops_when_held() {
    let mut bench = picked(WINCH);
    bench.press(Key::char('e'));
    let frame = bench.frame(160, 47);
    assert!(frame.contains("crane.winch gets 1480 µs, at which it should stand still."), "{frame}");
    assert!(!bench.model.snapshot.servos[WINCH].engaged, "it is asked first");
    bench.code(KeyCode::Enter);
    bench.pass(10);
    bench.code(KeyCode::Right);
    bench.pass(1);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("crane.winch is arming: it follows once"), "{frame}");
    assert!(frame.contains(" arms") && frame.contains("must see 1480 µs for 1.5 s"), "{frame}");
    bench.code(KeyCode::F(1));
    assert!(bench.frame(160, 47).contains("it sees its neutral 1480 µs first"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::F(2));
    bench.pass(150);
    bench.text("30%");
    bench.code(KeyCode::Enter);
    bench.watch(150);
    for (columns, rows) in [(160, 47), (80, 24)] {
        insta::assert_snapshot!(format!("winch_{columns}x{rows}"), bench.frame(columns, rows));
    }
    bench.code(KeyCode::Esc);
    bench.pass(5);
    assert!(bench.frame(160, 47).contains("simulated: it stands still"), "{}", bench.frame(160, 47));
}

/// A command of the palette.
fn command(bench: &mut Bench, name: &str) {
    bench.press(Key::char(':'));
    bench.enter(name);
}

#[test]
fn the_kind_and_the_arming_are_told_by_the_palette_and_undone() {
    let mut bench = picked(MOON);
    let before = bench.session.document.rig.clone();
    command(&mut bench, "kind");
    bench.enter("horn");
    assert!(
        bench
            .frame(160, 47)
            .contains("\"horn\" is not a kind: positional, continuous, dimmer, on-off or smart")
    );
    for _ in 0..4 {
        bench.code(KeyCode::Backspace);
    }
    bench.enter("continuous");
    assert_eq!(bench.session.document.rig.servos[MOON].kind, Kind::Continuous);
    command(&mut bench, "arming");
    bench.text("1000us");
    bench.code(KeyCode::Tab);
    bench.enter("3s");
    let arming = bench.session.document.rig.servos[MOON].arming.clone().unwrap();
    assert_eq!(
        (arming.pulse_us, arming.for_s),
        (Some(wasvolta_core::unit::Micros::new(1000.0)), Seconds::new(3.0))
    );
    assert_eq!(
        bench.session.document.rig.servos[MOON].centre(),
        Position::new(1000.0),
        "neutral is where it stands still"
    );
    command(&mut bench, "arming");
    bench.code(KeyCode::Tab);
    bench.enter("0");
    assert_eq!(bench.session.document.rig.servos[MOON].arming, None);
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, before);
    // A new one may be of any kind at once.
    bench.press(Key::char('a'));
    for word in ["marsh.star", "9", "upper", "dim"] {
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    bench.code(KeyCode::Enter);
    let star = bench.session.document.rig.servos.last().unwrap();
    assert_eq!((star.name.as_str(), star.kind), ("marsh.star", Kind::Dimmer));
    assert!(bench.session.document.rig.joint("marsh.star").is_none());
}

#[test]
fn everything_that_the_hand_has_is_given_back_by_one_key_and_a_sequence_plays_on_it() {
    let mut bench = Bench::new();
    bench.press(Key::char('G'));
    assert!(bench.frame(160, 47).contains("nothing is being driven"));
    for (servo, pulse) in [(3, 1500.0), (4, 1100.0), (WINCH, 1480.0), (LANTERN, 0.0)] {
        bench.tell(Command::Engage { servo, pulse: Position::new(pulse), stands_there: true });
    }
    bench.pass(200);
    bench.press(Key::char('G'));
    assert!(bench.frame(160, 47).contains("4 parts given back to sequence, input or home"));
    bench.press(Key::char('G'));
    assert!(bench.frame(160, 47).contains("no joint is in your hand"));
    let lift = bench.session.document.rig.sequences.iter().position(|s| s.name == "lift").unwrap();
    bench.model.sequence = Pick::at(&bench.session.document.rig.sequences, lift);
    bench.code(KeyCode::F(4));
    bench.press(Key::char('p'));
    bench.pass(5);
    // It waits for the visitor's button, and the winch stands.
    assert!(bench.frame(160, 47).contains("waits until visitor is pressed"), "{}", bench.frame(160, 47));
    let visitor = bench.session.document.rig.inputs.iter().position(|input| input.name == "visitor").unwrap();
    bench.tell(Command::AsIf { input: visitor, by: Some(wasvolta_core::stage::AsIf::Hand(1.0)) });
    bench.pass(97);
    let level =
        |bench: &Bench, n: usize| bench.model.scene(&bench.session).servo(n).unwrap().level().unwrap();
    assert!((level(&bench, WINCH) + 40.0).abs() < 1.0, "{}", level(&bench, WINCH));
    assert_eq!(ticks(&bench, LANTERN), Some(Ticks(4095)));
    for (columns, rows) in [(160, 47), (80, 24)] {
        insta::assert_snapshot!(format!("lift_{columns}x{rows}"), bench.frame(columns, rows));
    }
    bench.pass(300);
    assert!(level(&bench, WINCH).abs() < 1.0, "stopped at the end");
}
