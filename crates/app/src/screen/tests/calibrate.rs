//! Calibrating by keys: the ways out of a contradiction, causes named after a test move, a joint behind a linkage, what
//! turns continuously, what jogs and what lets go by itself, and what is kept in files.

use super::*;
use crate::screen::dialog::Dialog;
use wasvolta_core::rig::edit::{Observation, joint, keep_mark, marks, roster};
use wasvolta_core::rig::{Ends, Idle, MarkKind, ReadAt, Servo, Side};
use wasvolta_core::stage::Command;
use wasvolta_core::unit::{Degrees, Position, Seconds};

pub const NECK: usize = 0;
pub const RUDDER: usize = 2;
const WINCH: usize = 5;

/// The demo with a servo engaged where its horn stands.
pub fn engaged(servo: usize) -> Bench {
    with_truth(servo, str::to_owned, |sim| sim)
}

/// The same, on a bench that is really otherwise.
pub fn with_truth(servo: usize, rig: impl Fn(&str) -> String, sim: impl Fn(String) -> String) -> Bench {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("marsh-clock.rig.toml");
    std::fs::write(&path, rig(&super::simple(include_str!("../../../../../examples/marsh-clock.rig.toml"))))
        .unwrap();
    let truth = include_str!("../../../../../examples/marsh-clock.sim.toml").to_owned();
    std::fs::write(folder.path().join("marsh-clock.sim.toml"), sim(truth)).unwrap();
    let mut bench = Bench::reopened(&path, folder);
    pick(&mut bench, servo);
    bench.press(Key::char('e'));
    // A continuous servo is not asked where it stands.
    if bench.model.dialog.is_some() {
        bench.code(KeyCode::Enter);
    }
    bench.pass(150);
    bench
}

pub fn pick(bench: &mut Bench, servo: usize) {
    bench.model.pick_servo(&bench.session.document.rig, servo);
    bench.pass(2);
}

fn servo(bench: &Bench, n: usize) -> &Servo {
    &bench.session.document.rig.servos[n]
}

pub fn said(bench: &Bench) -> String {
    bench.model.said.as_ref().map_or_else(String::new, |(_, words, _)| words.clone())
}

/// Goes to a pulse and keeps the angle given.
fn mark(bench: &mut Bench, pulse: &str, angle: &str) {
    bench.enter(pulse);
    bench.pass(150);
    bench.press(Key::char('m'));
    bench.enter(angle);
}

pub fn palette(bench: &mut Bench, name: &str) {
    bench.act(name);
}

/// Fills a form: a word for each field, none where it stays as it is.
pub fn fill(bench: &mut Bench, words: &[&str]) {
    for (n, word) in words.iter().enumerate() {
        if n > 0 {
            bench.code(KeyCode::Tab);
        }
        bench.text(word);
    }
    bench.code(KeyCode::Enter);
    bench.pass(2);
}

#[test]
fn a_contradiction_has_three_ways_out_and_keeps_nothing_before_one_is_taken() {
    for (key, wanted) in
        [('d', "dropped, the new one kept"), ('r', ""), ('h', "the earlier marks are shifted")]
    {
        let mut bench = engaged(NECK);
        let before = servo(&bench, NECK).marks.clone();
        let pulse = bench.model.snapshot.servos[NECK].pulse;
        mark(&mut bench, "1300", "41");
        assert!(matches!(bench.model.dialog, Some(Dialog::Contradiction { .. })));
        assert_eq!(servo(&bench, NECK).marks, before, "nothing is kept yet, nothing is lost");
        let frame = bench.frame(160, 47);
        assert!(frame.contains("would turn back") && frame.contains("d drop that one"), "{frame}");
        let now = bench.model.snapshot.servos[NECK].pulse;
        bench.press(Key::char(key));
        assert!(said(&bench).contains(wanted), "{}", said(&bench));
        match key {
            'r' => assert!(matches!(bench.model.dialog, Some(Dialog::Mark { change: None, .. }))),
            'd' => {
                assert!(servo(&bench, NECK).marks.len() == before.len() && said(&bench).contains("mark at"));
            }
            _ => assert_eq!(servo(&bench, NECK).marks.len(), before.len() + 1),
        }
        bench.pass(20);
        assert_eq!(
            bench.model.snapshot.servos[NECK].pulse, now,
            "nothing moves; it went from {pulse:?} by hand"
        );
        if key != 'r' {
            bench.press(Key::char('u'));
            assert_eq!(servo(&bench, NECK).marks, before, "undone in one");
        }
    }
}

#[test]
fn marks_are_picked_changed_and_dropped_in_the_list() {
    let mut bench = engaged(NECK);
    bench.code(KeyCode::Down);
    bench.code(KeyCode::Down);
    bench.press(Key::char('='));
    assert!(bench.frame(160, 47).contains("The mark at 1100.0 µs says that the horn stood at -39.2°"));
    bench.enter("-39");
    assert_eq!(servo(&bench, NECK).marks[1].angle_deg, Some(Degrees::new(-39.0)));
    bench.press(Key::char('v'));
    bench.pass(200);
    assert!((bench.model.snapshot.servos[NECK].pulse.get() - 1100.0).abs() < 3.0);
    bench.code(KeyCode::Delete);
    assert_eq!(servo(&bench, NECK).marks.len(), 4);
    assert!(servo(&bench, NECK).marks.iter().all(|m| m.angle_deg != Some(Degrees::new(-39.0))));
    bench.press(Key::char('u'));
    bench.press(Key::char('u'));
    assert_eq!(servo(&bench, NECK).marks[1].angle_deg, Some(Degrees::new(-39.2)));
}

/// How a bench really is otherwise.
type Change = Box<dyn Fn(String) -> String>;

/// A test move to its end, answering with what the eye sees; gives what was found.
fn tested(bench: &mut Bench) -> String {
    bench.press(Key::char('T'));
    assert!(bench.frame(160, 47).contains("1 of 4"), "{}", said(bench));
    bench.code(KeyCode::Enter);
    while let Some(Dialog::Test(test)) = bench.model.dialog.clone() {
        bench.pass(200);
        let look = bench.model.seen.unwrap().1;
        let angle = look.angle_deg().unwrap();
        if look.buzzes || look.twitches {
            bench.code(KeyCode::Tab);
            if look.twitches {
                bench.code(KeyCode::Tab);
            }
        }
        bench.text(&format!("{angle}"));
        bench.code(KeyCode::Enter);
        assert!(bench.model.dialog.as_ref() != Some(&Dialog::Test(test)), "it went on: {}", said(bench));
    }
    bench.model.in_calibrate.finding.clone().map_or_else(String::new, |(_, words)| words)
}

/// The neck's truth, as it stands in the simulation's file, changed.
fn neck_truth(change: &'static [(&'static str, &'static str)]) -> impl Fn(String) -> String {
    move |sim| {
        let (head, rest) = sim.split_once("[[board.servo]]\nchannel = 1\n").unwrap();
        let (own, tail) = rest.split_once("[[board.servo]]").unwrap();
        let own = change.iter().fold(own.to_owned(), |text, (old, new)| {
            assert!(text.contains(old), "{old}");
            text.replace(old, new)
        });
        format!("{head}[[board.servo]]\nchannel = 1\n{own}[[board.servo]]{tail}")
    }
}

#[test]
fn each_of_the_eight_causes_is_made_by_a_simulated_servo_and_named() {
    let narrow = |rig: &str| rig.replacen("endpoints_us = [620, 2380]", "endpoints_us = [1000, 2000]", 1);
    let fast = |sim: String| sim.replacen("= 25_000_000", "= 30_000_000", 1);
    let off = |sim: String| sim.replacen("= 25_000_000", "= 26_100_000", 1);
    let cases: Vec<(&str, Change)> = vec![
        ("as expected", Box::new(|sim| sim)),
        ("wrong frequency", Box::new(fast)),
        ("wrong clock", Box::new(off)),
        ("another class of servo", Box::new(neck_truth(&[("= 9.86", "= 6.4")]))),
        ("reversed", Box::new(neck_truth(&[("= 9.86", "= -9.86")]))),
        ("slack", Box::new(neck_truth(&[("slack_deg = 0.3", "slack_deg = 4")]))),
        ("a stop hit", Box::new(neck_truth(&[("stops_deg = [-88, 88]", "stops_deg = [-88, 27]")]))),
        ("a sagging supply", Box::new(neck_truth(&[("slack_deg = 0.3", "slack_deg = 0.3\nsag = 0.25")]))),
        ("a moved horn", Box::new(neck_truth(&[("zero_us = 1494.5", "zero_us = 1646")]))),
    ];
    for (wanted, change) in cases {
        let mut bench = with_truth(NECK, narrow, change);
        let found = tested(&mut bench);
        assert!(found.starts_with(wanted), "{wanted}: {found}");
        assert!(bench.model.log.iter().any(|(_, words)| words.contains(wanted)), "the log keeps it");
    }
}

#[test]
fn a_rudder_behind_a_linkage_is_calibrated_at_the_joint_and_shows_both_angles() {
    let mut bench = engaged(RUDDER);
    palette(&mut bench, "linkage");
    fill(&mut bench, &["16", "50", "22", "52", "90", "96"]);
    assert!(servo(&bench, RUDDER).linkage.is_some(), "{}", said(&bench));
    for pulse in ["1500", "1200", "1800"] {
        bench.enter(pulse);
        bench.pass(200);
        let seen = bench.model.seen.unwrap().1.joint_deg.unwrap();
        bench.press(Key::char('m'));
        assert!(bench.frame(160, 47).contains("the joint stands at"));
        bench.enter(&format!("{seen}"));
    }
    let rudder = servo(&bench, RUDDER);
    assert!(rudder.marks.iter().all(|m| m.at == ReadAt::Joint), "{:?}", rudder.marks);
    let gain = rudder.fit().unwrap().line.gain() * 100.0;
    assert!((gain - 9.1).abs() < 0.6, "taken back through the linkage: {gain}");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("at the servo") && frame.contains("for a degree; rod on"), "{frame}");
    insta::assert_snapshot!("linkage_160x47", frame);
    bench.press(Key::char('M'));
    assert!(bench.frame(80, 24).contains("servo"), "the mechanism in the place of the protractor");
    palette(&mut bench, "linkage");
    fill(&mut bench, &["16", "150"]);
    assert!(said(&bench).contains("the linkage cannot close"), "{}", said(&bench));
    assert_eq!(servo(&bench, RUDDER).linkage.unwrap().rod_mm.get().to_bits(), 50f64.to_bits());
}

#[test]
fn two_servos_on_one_joint_move_only_together_and_are_marked_together() {
    let mut bench = engaged(RUDDER);
    let slew = bench.session.document.rig.servos.iter().position(|s| s.name == "crane.slew").unwrap();
    bench.press(Key::char('r'));
    // Without marks of the first nobody knows what the other one is to follow.
    for (pulse, angle, ticks) in [(1200.0, -30.0, 246), (1800.0, 30.0, 369)] {
        let seen = Observation {
            pulse: Position::new(pulse),
            ticks: wasvolta_core::unit::Ticks(ticks),
            seen: MarkKind::Aligned,
            from: Side::Unknown,
            angle: Some(Degrees::new(angle)),
            at: ReadAt::Servo,
            rate: None,
        };
        bench.session.edit("marked", |rig| keep_mark(rig, "punt.rudder", seen)).unwrap();
    }
    bench.session.edit("coupled", |rig| joint::couple(rig, "punt.rudder", "crane.slew")).unwrap();
    bench.pass(5);
    bench.press(Key::char('o'));
    bench.pass(60);
    let pulses = |bench: &Bench| [RUDDER, slew].map(|n| bench.model.snapshot.servos[n].pulse.get());
    let before = pulses(&bench);
    assert!(bench.model.snapshot.servos[slew].engaged, "engaged with the first");
    bench.code(KeyCode::Right);
    bench.pass(40);
    let after = pulses(&bench);
    assert!(after[0] - before[0] > 9.0 && after[1] - before[1] > 5.0, "{before:?} {after:?}");
    let had = servo(&bench, slew).marks.len();
    bench.press(Key::char('m'));
    bench.enter("1");
    assert_eq!(
        (servo(&bench, RUDDER).marks.len(), servo(&bench, slew).marks.len()),
        (3, had + 1),
        "{:?} {}",
        servo(&bench, RUDDER).marks,
        said(&bench)
    );
    // Asked of the other one, both go too.
    pick(&mut bench, slew);
    bench.code(KeyCode::Left);
    bench.pass(40);
    assert!(pulses(&bench)[0] < after[0] - 5.0 && pulses(&bench)[1] < after[1] - 5.0);
    bench.press(Key::char('r'));
    bench.pass(5);
    let released = |n: &usize| {
        let state = &bench.model.snapshot.servos[*n];
        !state.engaged && state.ticks().is_none()
    };
    assert!([RUDDER, slew].iter().all(released));
}

#[test]
fn a_winch_is_timed_trimmed_and_told_in_turns_a_minute() {
    let mut bench = engaged(WINCH);
    bench.pass(200);
    for (pulse, side, from) in [("1497us", 'S', KeyCode::Right), ("1469us", 'S', KeyCode::Left)] {
        bench.enter(pulse);
        bench.pass(30);
        bench.code(from);
        bench.pass(20);
        bench.press(Key::char(side));
    }
    let band = servo(&bench, WINCH).band().unwrap();
    assert!(band.low.get() < 1475.0 && band.high.get() > 1490.0, "{band:?}");
    for pulse in ["1700us", "1800us", "1300us", "1200us"] {
        bench.enter(pulse);
        bench.pass(60);
        // At each turn of a mark on the drum.
        let turns = |bench: &Bench| bench.model.seen.unwrap().1.turns;
        bench.press(Key::char('T'));
        let begun = turns(&bench);
        for turn in 1..=4 {
            while (turns(&bench) - begun).abs() < f64::from(turn) {
                bench.pass(1);
            }
            // A key of the harness takes 200 ms of its own: the stopwatch reads the screen's time.
            bench.now -= Duration::from_millis(200);
            bench.press(Key::char('t'));
        }
        bench.code(KeyCode::Enter);
        assert!(said(&bench).contains("rpm at"), "{}", said(&bench));
    }
    let rates = servo(&bench, WINCH).rates().unwrap();
    let truth = |pulse: f64| ((pulse - 1483.0f64).abs() - 14.0) / 386.0 * 90.0;
    for pulse in [1700.0, 1300.0] {
        let found = rates.rate_at(Position::new(pulse)).get().abs();
        assert!((found - truth(pulse)).abs() < 0.1 * truth(pulse), "{pulse}: {found} {}", truth(pulse));
    }
    bench.enter("30rpm");
    bench.pass(200);
    let Some(wasvolta_sim::Sight::Turning(rpm)) = bench.model.seen.map(|(_, look)| look.sight) else {
        panic!()
    };
    assert!(
        (rpm - 30.0).abs() <= 3.0,
        "{rpm} {:?} {:?} {}",
        rates,
        bench.model.snapshot.servos[WINCH].pulse,
        said(&bench)
    );
    // It gets warm: the trim shifts its stop and is kept only when asked.
    let before = servo(&bench, WINCH).clone();
    bench.act("trim");
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Enter);
    bench.code(KeyCode::Esc);
    bench.pass(20);
    let trim = bench.model.snapshot.servos[WINCH].trim().get();
    let stop = bench.model.snapshot.servos[WINCH].pulse.get();
    assert!(
        trim > 9.0 && (stop - before.centre().get() - trim).abs() < 1e-6,
        "held, it stands at the trimmed stop"
    );
    assert_eq!(servo(&bench, WINCH), &before, "not kept");
    bench.press(Key::char('d'));
    bench.act("trim");
    bench.press(Key::char('k'));
    bench.pass(5);
    assert!(
        (servo(&bench, WINCH).centre() - before.centre()).get() > 9.0
            && bench.model.snapshot.servos[WINCH].trim() == Position::ZERO
    );
    bench.session.edit("idle", |rig| roster::set_idle(rig, "crane.winch", Idle::Release)).unwrap_err();
}

#[test]
fn a_servo_left_alone_is_released_with_a_word_before_and_a_loaded_one_never() {
    let after = |rig: &str| rig.replacen("release_after_s = 300", "release_after_s = 30", 1);
    let mut bench = with_truth(NECK, after, |sim| sim);
    let boom = bench.session.document.rig.servos.iter().position(|s| s.name == "crane.boom").unwrap();
    pick(&mut bench, boom);
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(1000);
    assert!(bench.frame(160, 47).contains("heron.neck is released in"), "{}", bench.frame(160, 47));
    bench.pass(700);
    assert!(!bench.model.snapshot.servos[NECK].engaged, "nobody asked anything of it");
    assert!(bench.model.snapshot.servos[boom].engaged, "it carries a load");
    bench.session.edit("never", |rig| roster::set_auto_release(rig, None)).unwrap();
    assert_eq!(bench.session.document.rig.release_after_s, None::<Seconds>);
}

#[test]
fn a_knob_jogs_from_where_both_stand_over_a_narrow_window_and_over_all() {
    let mut bench = engaged(NECK);
    bench.pass(60);
    let at = bench.model.snapshot.servos[NECK].pulse.get();
    bench.press(Key::char('j'));
    bench.pass(60);
    let now = |bench: &Bench| bench.model.snapshot.servos[NECK].pulse.get();
    assert!((now(&bench) - at).abs() < 0.5, "nothing jumps");
    let turn = |bench: &mut Bench, to: f64| {
        let knob = bench.session.runner.sender("dial").unwrap();
        knob.turn("a0", to - knob.position("a0").unwrap());
        for _ in 0..80 {
            bench.pass(2);
        }
    };
    turn(&mut bench, 1.0);
    assert!((now(&bench) - at - 40.0).abs() < 2.0, "{at} {}", now(&bench));
    bench.press(Key::char('j'));
    bench.pass(5);
    turn(&mut bench, 0.0);
    let low = bench.session.runner.edition.plan.servos[NECK].guard.free().0.get();
    assert!((now(&bench) - low).abs() < 6.0, "over all: {low} {}", now(&bench));
    bench.press(Key::char('j'));
    let held = now(&bench);
    turn(&mut bench, 0.7);
    assert!((now(&bench) - held).abs() < 0.5, "let go");
    // Pulled, turned, and put in again: nothing jumps, and giving it back is not taken back.
    bench.press(Key::char('j'));
    bench.pass(20);
    bench.code(KeyCode::F(3));
    bench.press(Key::char('z'));
    bench.pass(60);
    turn(&mut bench, 0.1);
    bench.press(Key::char('z'));
    bench.pass(100);
    assert!((now(&bench) - held).abs() < 0.5, "{held} {}", now(&bench));
    bench.press(Key::char('g'));
    bench.pass(10);
    assert_eq!(bench.model.snapshot.servos[NECK].owner, wasvolta_core::stage::Owner::Home);
}

#[test]
fn an_exercise_counts_ends_when_told_and_keeps_what_was_seen() {
    let mut bench = engaged(NECK);
    bench.press(Key::char('y'));
    fill(&mut bench, &["-10deg", "10deg", "120", "0.1s", "3"]);
    bench.pass(60);
    assert_eq!(bench.model.snapshot.servos[NECK].exercise().map(|e| e.count().1), Some(3));
    bench.pass(320);
    assert!(matches!(bench.model.dialog, Some(Dialog::Form(_))), "what was seen is asked");
    bench.enter("it hums at both ends");
    let noted = &servo(&bench, NECK).exercised[0];
    assert_eq!((noted.times, noted.seen.as_str()), (3, "it hums at both ends"));
    assert!(noted.over().low < Position::new(1500.0) && noted.over().high > Position::new(1500.0));
    bench.press(Key::char('y'));
    fill(&mut bench, &["1400us", "1600us", "60", "0.1s", "0"]);
    bench.pass(40);
    assert!(bench.model.snapshot.servos[NECK].exercise().is_some(), "the routine");
    bench.press(Key::char('y'));
    bench.code(KeyCode::Esc);
    let at = bench.model.snapshot.servos[NECK].pulse;
    bench.pass(40);
    assert_eq!(bench.model.snapshot.servos[NECK].pulse, at);
}

#[test]
fn it_arrives_from_one_side_past_its_slack() {
    let mut bench = engaged(NECK);
    bench
        .session
        .edit("arrive", |rig| marks::set_arrival(rig, "heron.neck", wasvolta_core::rig::Side::Below))
        .unwrap();
    bench.enter("1600us");
    bench.pass(200);
    bench.tell(Command::GoTo { servo: NECK, pulse: Position::new(1500.0) });
    let mut least = f64::INFINITY;
    for _ in 0..300 {
        bench.pass(1);
        least = least.min(bench.model.snapshot.servos[NECK].pulse.get());
    }
    assert!((1485.0..1492.0).contains(&least), "a degree past: {least}");
    assert!((bench.model.snapshot.servos[NECK].pulse.get() - 1500.0).abs() < 1e-6);
}

#[test]
fn junk_is_refused_in_words_with_its_line_and_nothing_changes() {
    let mut bench = engaged(NECK);
    let before = bench.session.document.rig.clone();
    let pulse = bench.model.snapshot.servos[NECK].pulse;
    let file = bench.folder.path().join("heron.neck-marks.csv");
    for (text, wanted) in [
        ("pulse_us,angle_deg\n1100,-40\n1500,none\n", "line 3: angle_deg is \"none\", not a number"),
        ("pulse_us,angle_deg\n1500,-70\n", "the marks turn back"),
        ("\u{0}\u{1}junk", "line 1: no column is called pulse_us"),
    ] {
        std::fs::write(&file, text).unwrap();
        palette(&mut bench, "marks from a table");
        bench.code(KeyCode::Enter);
        assert!(said(&bench).contains(wanted), "{}", said(&bench));
        bench.code(KeyCode::Esc);
    }
    std::fs::write(bench.folder.path().join("bad.servo.toml"), "format = 2\nname = 3\n").unwrap();
    palette(&mut bench, "load card");
    bench.enter("bad.servo.toml");
    assert!(said(&bench).contains("has one problem to fix: invalid type"), "{}", said(&bench));
    bench.code(KeyCode::Esc);
    palette(&mut bench, "ends");
    fill(&mut bench, &["1600us", "1400us"]);
    assert!(said(&bench).contains("the first pulse is not below the second"), "{}", said(&bench));
    bench.code(KeyCode::Esc);
    bench.pass(20);
    assert_eq!(bench.session.document.rig, before);
    assert_eq!(bench.model.snapshot.servos[NECK].pulse, pulse);
}

#[test]
fn cards_and_tables_go_out_and_come_back_on_another_channel() {
    let mut bench = engaged(NECK);
    palette(&mut bench, "save card");
    let beside =
        format!("card written: {}/heron.neck-", bench.folder.path().canonicalize().unwrap().display());
    assert!(said(&bench).contains(&beside), "{}", said(&bench));
    let card = bench.session.document.cards()[0].clone();
    pick(&mut bench, RUDDER);
    palette(&mut bench, "load card");
    bench.enter(&card);
    assert_ne!(servo(&bench, RUDDER).marks, servo(&bench, NECK).marks, "it is asked first");
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("Load the card of heron.neck")
            && frame.contains("into punt.rudder? It replaces its endpoints."),
        "{frame}"
    );
    bench.code(KeyCode::Enter);
    assert_eq!(servo(&bench, RUDDER).marks, servo(&bench, NECK).marks);
    assert_eq!(servo(&bench, RUDDER).ends(), Ends { low: Position::new(620.0), high: Position::new(2380.0) });
    bench.press(Key::char('u'));
    palette(&mut bench, "compare card");
    bench.enter(&card);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("9.86 °/100 µs") && frame.contains("no fit") && frame.contains("≠"), "{frame}");
    bench.code(KeyCode::Esc);
    pick(&mut bench, NECK);
    palette(&mut bench, "marks to a table");
    bench.code(KeyCode::Enter);
    assert!(said(&bench).contains("5 marks written"), "{}", said(&bench));
    pick(&mut bench, RUDDER);
    palette(&mut bench, "marks from a table");
    bench.enter("heron.neck-marks.csv");
    assert_eq!(servo(&bench, RUDDER).marks.len(), 5);
}

#[test]
fn marks_outside_the_endpoints_count_and_nothing_goes_there() {
    let mut bench = engaged(RUDDER);
    let file = bench.folder.path().join("punt.rudder-marks.csv");
    std::fs::write(&file, "pulse_us,angle_deg\n800,-66\n1500,-3\n").unwrap();
    palette(&mut bench, "marks from a table");
    bench.code(KeyCode::Enter);
    assert!(said(&bench).contains("1 outside its endpoints 1000 to 2000 µs"), "{}", said(&bench));
    let pulse = bench.model.snapshot.servos[RUDDER].pulse;
    bench.code(KeyCode::Down);
    bench.press(Key::char('v'));
    assert!(said(&bench).contains("that mark lies outside its endpoints"), "{}", said(&bench));
    bench.pass(50);
    assert_eq!(bench.model.snapshot.servos[RUDDER].pulse, pulse, "nothing moves");
    assert_eq!(servo(&bench, RUDDER).marks.len(), 2, "nothing is lost");
}

#[test]
fn a_joint_is_drawn_as_its_maker_sees_it() {
    let mut bench = engaged(NECK);
    let usual = bench.frame(160, 47);
    palette(&mut bench, "mounting");
    fill(&mut bench, &["90", "anticlockwise"]);
    let turned = bench.frame(160, 47);
    assert!(said(&bench).contains("drawn as you see it") && turned != usual);
    let joint = bench.session.document.rig.joint("heron.neck").unwrap();
    assert!(joint.anticlockwise && joint.mounted_deg == Degrees::new(90.0));
}

#[test]
fn what_a_joint_does_when_its_board_is_back_is_told_by_the_palette_and_undone() {
    use wasvolta_core::rig::Back;
    let mut bench = engaged(NECK);
    palette(&mut bench, "board back");
    fill(&mut bench, &["stay"]);
    assert_eq!(bench.session.document.rig.joints[0].back, Some(Back::StayReleased), "{}", said(&bench));
    palette(&mut bench, "board back");
    fill(&mut bench, &["never"]);
    assert!(said(&bench).contains("is not one of usual, last, ask, stay-released"), "{}", said(&bench));
    bench.code(KeyCode::Esc);
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig.joints[0].back, None);
}
