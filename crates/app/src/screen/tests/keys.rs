//! Everything that is done by keys, once, with what it leaves in the rig.

use super::Bench;
use crate::screen::dialog::Dialog;
use crate::screen::keys::Key;
use crate::screen::update;
use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use wasvolta_core::easing::Easing;
use wasvolta_core::rig::Ends;
use wasvolta_core::stage::Output;
use wasvolta_core::unit::Position;

/// The neck engaged at 0°.
fn neck() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageUp);
    bench.press(Key::char('e'));
    bench.enter("0");
    bench.pass(10);
    bench
}

fn screen(bench: &Bench) -> String {
    bench.frame(160, 47)
}

#[test]
fn a_limit_is_set_from_where_it_stands_with_its_reason() {
    let mut bench = neck();
    bench.enter("50deg");
    bench.pass(200);
    bench.press(Key::char('l'));
    assert!(screen(&bench).contains("The high limit is at +50.0°"), "{}", screen(&bench));
    bench.text("57");
    bench.code(KeyCode::Enter);
    assert!(screen(&bench).contains("because: the cable in the neck is short"), "the old reason is offered");
    bench.code(KeyCode::End);
    bench.text(" now");
    bench.code(KeyCode::Enter);
    let limit = bench.session.document.rig.joints[0].high.clone().unwrap();
    assert_eq!(
        (limit.angle_deg.get().to_bits(), limit.reason.as_str()),
        (57f64.to_bits(), "the cable in the neck is short now")
    );
    // A limit inside a pose is refused, and says which pose is in the way.
    bench.press(Key::char('l'));
    bench.enter("20");
    bench.code(KeyCode::Enter);
    assert!(screen(&bench).contains("is beyond the high limit"), "{}", screen(&bench));
    assert_eq!(bench.session.document.rig.joints[0].high, Some(limit));
}

#[test]
fn tab_sets_the_other_limit() {
    let mut bench = neck();
    bench.press(Key::char('l'));
    let offered = |bench: &Bench, end: &str| screen(bench).contains(&format!("The {end} limit is at"));
    assert!(offered(&bench, "low"));
    bench.code(KeyCode::Tab);
    assert!(offered(&bench, "high"));
    bench.code(KeyCode::Tab);
    bench.enter("-50");
    bench.code(KeyCode::Enter);
    let low = bench.session.document.rig.joints[0].low.clone().unwrap();
    assert_eq!(low.angle_deg.get().to_bits(), (-50f64).to_bits());
}

#[test]
fn endpoint_centre_and_home_are_taken_from_where_it_stands() {
    let mut bench = neck();
    bench.enter("1000us");
    bench.pass(200);
    bench.press(Key::char('c'));
    bench.press(Key::char('h'));
    bench.press(Key::char('E'));
    let servo = &bench.session.document.rig.servos[0];
    // As it was typed: the 205 ticks on the wire are 1000.4 µs.
    assert!((servo.ends().low.get() - 1000.0).abs() < 1e-9, "{:?}", servo.ends());
    assert!((servo.centre_us.unwrap().get() - 1000.0).abs() < 1e-9);
    let home = bench.session.document.rig.joints[0].home_deg.unwrap().get();
    assert!((home + 48.77).abs() < 0.01, "{home}");
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert!(!bench.session.document.is_unsaved());
}

#[test]
fn nothing_is_taken_from_where_it_stands_before_it_stands() {
    let mut bench = neck();
    bench.enter("0deg");
    bench.pass(100);
    let before = bench.session.document.rig.clone();
    bench.enter("-20deg");
    bench.pass(3);
    for (key, name) in [('E', "endpoint"), ('c', "centre"), ('l', "limit"), ('h', "home")] {
        bench.press(Key::char(key));
        assert!(screen(&bench).contains(&format!("{name} here: once it stands")), "{}", screen(&bench));
        bench.watch(2);
    }
    assert_eq!(*bench.session.document.rig, *before);
    bench.watch(200);
    let home = bench.session.document.rig.joints[0].home_deg.unwrap().get();
    assert!((home + 20.0).abs() < 1e-9, "the last that was asked for, as it was typed: {home}");
    assert_eq!(
        bench.session.document.rig.servos[0], before.servos[0],
        "what another key gave up is not done"
    );
}

#[test]
fn what_was_told_in_the_same_beat_counts_as_moving() {
    let mut bench = neck();
    bench.enter("0deg");
    bench.pass(100);
    bench.text("-20deg");
    // No beat between the two: all that is seen of the servo is from before the first.
    for code in [KeyCode::Enter, KeyCode::Char('h')] {
        let event = Event::Key(KeyEvent::new(code, KeyModifiers::NONE));
        update::event(&mut bench.model, &mut bench.session, &event, bench.now);
    }
    assert!(screen(&bench).contains("home here: once it stands"), "{}", screen(&bench));
    bench.watch(200);
    let home = bench.session.document.rig.joints[0].home_deg.unwrap().get();
    assert!((home + 20.0).abs() < 1e-9, "{home}");
}

#[test]
fn a_sign_is_the_values_own_and_by_is_a_way_and_the_entry_says_where_it_goes() {
    let mut bench = neck();
    bench.enter("10deg");
    bench.pass(200);
    bench.text("-20deg");
    assert!(screen(&bench).contains("Go to -20deg▏  → "), "{}", screen(&bench));
    bench.code(KeyCode::Enter);
    bench.pass(200);
    let angle = |bench: &Bench| {
        let scale = bench.session.runner.edition.plan.servos[0].scale.clone().unwrap();
        scale.angle_at(bench.model.snapshot.servos[0].pulse).get()
    };
    assert!((angle(&bench) + 20.0).abs() < 1e-6, "{}", angle(&bench));
    bench.press(Key::char('D'));
    bench.text("-5deg");
    assert!(screen(&bench).contains("Go by -5deg▏  5 deg further down → "), "{}", screen(&bench));
    bench.code(KeyCode::Enter);
    bench.pass(200);
    assert!((angle(&bench) + 25.0).abs() < 1e-6, "{}", angle(&bench));
}

#[test]
fn where_nothing_is_shown_only_what_stops_things_works() {
    let mut bench = neck();
    bench.pass(100);
    let before = bench.model.snapshot.servos[0].pulse;
    bench.model.too_small = true;
    for key in [Key::of(KeyCode::Right), Key::char('n'), Key::char('W'), Key::char('r'), Key::char('m')] {
        bench.press(key);
        bench.pass(10);
    }
    bench.enter("1000us");
    bench.pass(50);
    assert_eq!(bench.model.snapshot.servos[0].pulse, before);
    assert!(bench.model.dialog.is_none() && bench.model.snapshot.output == Output::Driving);
    bench.code(KeyCode::Esc);
    bench.pass(3);
    assert_eq!(bench.model.snapshot.output, Output::Held);
    bench.press(Key::char('q'));
    assert!(bench.model.quit);
}

#[test]
fn marks_are_kept_with_what_was_on_the_wire_and_dropped_again() {
    let mut bench = neck();
    bench.enter("1300us");
    bench.pass(200);
    bench.press(Key::char('m'));
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Left);
    bench.code(KeyCode::Enter);
    let marks = &bench.session.document.rig.servos[0].marks;
    assert_eq!(marks.len(), 6);
    let mark = marks.iter().find(|m| m.ticks.is_some()).unwrap();
    assert_eq!(mark.ticks.unwrap().0, 266);
    assert!((mark.place().get() - 1298.08).abs() < 0.01 && mark.oscillator_hz.is_some());
    bench.code(KeyCode::Delete);
    assert_eq!(bench.session.document.rig.servos[0].marks.len(), 5);
}

#[test]
fn the_nudge_is_chosen_with_comma_and_point() {
    let mut bench = neck();
    let jog = |bench: &mut Bench| {
        let before = bench.session.runner.engine.snapshot().servos[0].pulse;
        bench.code(KeyCode::Right);
        bench.pass(20);
        (bench.session.runner.engine.snapshot().servos[0].pulse - before).get()
    };
    assert!((jog(&mut bench) - 10.0).abs() < 1e-9);
    bench.press(Key::char(','));
    assert!((jog(&mut bench) - 5.0).abs() < 1e-9);
    bench.press(Key::char(','));
    assert!((jog(&mut bench) - 4.88).abs() < 1e-9, "a tick");
    for _ in 0..3 {
        bench.press(Key::char('.'));
    }
    assert!((jog(&mut bench) - 100.0 / 9.8625).abs() < 1e-6, "a degree");
}

#[test]
fn release_and_give_back_do_what_they_say() {
    let mut bench = neck();
    bench.enter("1300us");
    bench.pass(200);
    bench.press(Key::char('g'));
    bench.pass(200);
    assert!(screen(&bench).contains("home"));
    assert!((bench.session.runner.engine.snapshot().servos[0].pulse.get() - 1494.525).abs() < 0.01);
    bench.press(Key::char('r'));
    bench.pass(2);
    assert_eq!(bench.session.runner.engine.snapshot().output, Output::Off);
    bench.press(Key::char('e'));
    assert!(screen(&bench).contains("where it was left"), "{}", screen(&bench));
}

#[test]
fn hold_and_cut_close_in_on_the_palette_too() {
    let mut bench = neck();
    bench.code(KeyCode::Esc);
    bench.pass(2);
    assert_eq!(bench.session.runner.engine.snapshot().output, Output::Held);
    bench.press(Key::char('d'));
    bench.pass(2);
    assert_eq!(bench.session.runner.engine.snapshot().output, Output::Driving);
    bench.code(KeyCode::Esc);
    bench.press(Key::char('r'));
    bench.pass(2);
    let neck = bench.session.runner.engine.snapshot().servos[0];
    assert!(!neck.engaged && neck.ticks().is_none(), "what is held may be released");
    bench.press(Key::char('d'));
    bench.press(Key::char(':'));
    bench.enter("cut");
    bench.pass(2);
    assert_eq!(bench.session.runner.engine.snapshot().output, Output::Cut);
    assert!(bench.session.runner.engine.snapshot().servos.iter().all(|s| s.ticks().is_none()));
}

#[test]
fn an_input_is_tied_to_the_picked_joint_and_untied() {
    let mut bench = neck();
    bench.code(KeyCode::F(3));
    bench.press(Key::char('t'));
    let tied = bench.session.document.rig.mappings.last().unwrap();
    assert_eq!((tied.from.keys().next().unwrap().as_str(), tied.to.name()), ("knob", Some("heron.neck")));
    let ends = tied.to.ends().unwrap();
    assert!((ends.low + 60.0).abs() < 1e-9 && (ends.high - 60.0).abs() < 1e-9);
    bench.press(Key::char('g'));
    bench.pass(200);
    let angle = bench.session.runner.edition.plan.servos[0]
        .scale
        .clone()
        .unwrap()
        .angle_at(bench.session.runner.engine.snapshot().servos[0].pulse);
    assert!((angle.get() - (-60.0 + 120.0 * 0.245)).abs() < 1.0, "{angle:?}");
    bench.press(Key::char('t'));
    assert_eq!(bench.session.document.rig.mappings.len(), 3);
    // The rudder has no angles: it cannot be tied, and says why.
    bench.code(KeyCode::PageDown);
    bench.code(KeyCode::PageDown);
    bench.press(Key::char('t'));
    assert!(screen(&bench).contains("it has no angles yet: keep two marks with m"));
}

#[test]
fn stages_are_changed_by_arrows_and_typed() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(3));
    let go_to = |bench: &mut Bench, row: &str| {
        for _ in 0..20 {
            bench.code(KeyCode::Up);
        }
        for _ in 0..20 {
            let here = screen(bench).lines().any(|l| l.contains('▌') && l.contains(row));
            if here {
                return;
            }
            bench.code(KeyCode::Down);
        }
        panic!("no row {row}");
    };
    go_to(&mut bench, "expo");
    bench.code(KeyCode::Right);
    go_to(&mut bench, "smoothing");
    bench.enter("80");
    go_to(&mut bench, "trim");
    bench.enter("-2.5%");
    go_to(&mut bench, "low end");
    bench.enter("20");
    go_to(&mut bench, "rise");
    bench.code(KeyCode::Right);
    go_to(&mut bench, "at high end");
    bench.enter("38deg");
    go_to(&mut bench, "when lost");
    bench.press(Key::char('+'));
    bench.code(KeyCode::Backspace);
    bench.enter("stay");
    let input = &bench.session.document.rig.inputs[0];
    assert!((input.expo - 0.35).abs() < 1e-9 && (input.trim + 0.025).abs() < 1e-9, "{input:?}");
    assert!((input.smoothing_ms - 80.0).abs() < 1e-9 && (input.ends.low - 20.0).abs() < 1e-9, "{input:?}");
    assert_eq!(input.rise_per_s, Some(1.0));
    let mapping = &bench.session.document.rig.mappings[0];
    let ends = mapping.to.ends().unwrap();
    assert!((ends.high - 38.0).abs() < 1e-9 && mapping.failsafe.is_none());
    // Beyond its range is refused in words.
    go_to(&mut bench, "deadband");
    bench.enter("2");
    assert!(screen(&bench).contains("deadband is 2, outside 0 to 0.99"), "{}", screen(&bench));
    assert!((bench.session.document.rig.inputs[0].deadband - 0.02).abs() < 1e-9);
}

#[test]
fn steps_are_made_changed_and_removed() {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(4));
    bench.press(Key::char('i'));
    let wake = |bench: &Bench| bench.session.document.rig.sequences[0].clone();
    assert_eq!(wake(&bench).steps.len(), 4);
    bench.code(KeyCode::Down);
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Down);
    bench.code(KeyCode::Down);
    bench.enter("750ms");
    bench.code(KeyCode::Down);
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Down);
    bench.code(KeyCode::Right);
    let step = wake(&bench).steps[1].clone();
    assert_eq!((step.pose.as_deref(), step.easing), (Some("look"), Easing::Sine));
    assert!((step.move_s.unwrap().get() - 0.75).abs() < 1e-9 && (step.dwell_s.get() - 0.1).abs() < 1e-9);
    bench.press(Key::char('n'));
    assert_eq!(bench.model.in_sequence.step, 2);
    bench.code(KeyCode::Delete);
    assert_eq!(wake(&bench).steps.len(), 3);
    for _ in 0..12 {
        bench.code(KeyCode::Up);
    }
    bench.code(KeyCode::Down);
    bench.enter("1.5s");
    assert!((bench.model.in_sequence.time - 1.5).abs() < 1e-9);
    assert!(screen(&bench).contains("looking only: output is off"));
}

#[test]
fn the_clock_is_corrected_in_one_edit() {
    let mut bench = neck();
    let before = bench.session.document.rig.clone();
    bench.act("correct clock");
    bench.enter("52.230");
    let board = &bench.session.document.rig.boards[0];
    assert!((board.oscillator_hz.get() - 26.1e6).abs() < 1e3 && board.prescale() == 121);
    let Ends { low, high: _ } = bench.session.document.rig.servos[0].ends();
    assert!((low - Position::new(620.0 * 25.0 / 26.1)).abs().get() < 0.01);
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before);
}

#[test]
fn views_are_reached_by_their_keys_and_tab() {
    let mut bench = Bench::new();
    for (code, view) in [
        (KeyCode::F(3), crate::screen::inputs::VIEW),
        (KeyCode::F(4), crate::screen::sequence::VIEW),
        (KeyCode::F(1), crate::screen::wiring::VIEW),
        (KeyCode::F(2), crate::screen::calibrate::VIEW),
    ] {
        bench.code(code);
        assert_eq!(bench.model.view, view);
    }
    for view in [
        crate::screen::inputs::VIEW,
        crate::screen::sequence::VIEW,
        crate::screen::wiring::VIEW,
        crate::screen::calibrate::VIEW,
    ] {
        bench.code(KeyCode::Tab);
        assert_eq!(bench.model.view, view);
    }
    bench.press(Key::char('Z'));
    assert!(screen(&bench).contains("Z does nothing here; ? shows the keys that do"));
    assert_eq!(bench.model.dialog, None::<Dialog>);
}

#[test]
fn enter_goes_on_to_the_next_servo_once_the_next_line_says_so() {
    let mut bench = neck();
    assert!(screen(&bench).contains("Enter goes on"), "{}", screen(&bench));
    bench.code(KeyCode::Enter);
    assert_eq!(bench.picked(), 1);
    assert!(!screen(&bench).contains("Enter"), "{}", screen(&bench));
    bench.code(KeyCode::Enter);
    assert_eq!(bench.picked(), 1, "what is not shown does nothing");
    assert!(screen(&bench).contains("Enter does nothing now: PgDn picks the next servo"));
}

/// Types a word in the place of what a form offers.
fn fill(bench: &mut Bench, text: &str) {
    bench.text(text);
    bench.code(KeyCode::Tab);
}

#[test]
fn a_servo_is_added_renamed_moved_and_removed_by_keys_and_all_is_undone() {
    let mut bench = Bench::new();
    let first = bench.session.document.rig.clone();
    bench.press(Key::char('a'));
    insta::assert_snapshot!("add_servo", bench.frame(100, 30));
    fill(&mut bench, "crane.jib");
    bench.enter("9");
    let jib = |bench: &Bench| bench.session.document.rig.servos.last().unwrap().clone();
    assert_eq!((jib(&bench).name.as_str(), jib(&bench).plug()), ("crane.jib", 9));
    assert_eq!(bench.picked(), 9, "the new one is picked");
    // A taken channel and a wrong name are said, and what was typed can be mended.
    bench.act("move servo");
    bench.enter("1");
    assert!(bench.frame(160, 47).contains("heron.neck is on channel 1 of upper: move that first"));
    bench.code(KeyCode::Backspace);
    bench.enter("12");
    assert_eq!(jib(&bench).plug(), 12);
    bench.press(Key::char('R'));
    bench.enter("two words");
    assert!(bench.frame(160, 47).contains("a name is 1 to 40 letters"));
    bench.code(KeyCode::Esc);
    bench.press(Key::char('R'));
    bench.enter("crane.hook");
    assert_eq!(jib(&bench).name, "crane.hook");
    // The neck is spoken of by five poses.
    for _ in 0..7 {
        bench.code(KeyCode::PageUp);
    }
    bench.press(Key::char('X'));
    let asked = bench.frame(160, 47);
    assert!(asked.contains("Remove heron.neck, its joint and marks and what 5 poses say of it?"), "{asked}");
    bench.code(KeyCode::Enter);
    assert!(bench.session.document.rig.servos.iter().all(|s| s.name != "heron.neck"));
    for _ in 0..4 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, first);
}

#[test]
fn an_engaged_servo_is_neither_moved_nor_removed_and_an_undone_move_leaves_it_released() {
    let mut bench = Bench::new();
    bench.act("move servo");
    bench.enter("7");
    bench.press(Key::char('o'));
    bench.pass(5);
    for name in ["move servo", "remove servo"] {
        bench.act(name);
        assert!(bench.frame(160, 47).contains("it is engaged: release it first with r"));
    }
    assert!(bench.model.snapshot.servos[2].engaged);
    bench.press(Key::char('u'));
    bench.pass(5);
    assert!(!bench.model.snapshot.servos[2].engaged, "what hangs on the old channel stands elsewhere");
    let sent = &bench.model.snapshot.boards[0][0].sent;
    assert!(sent.used().next().is_none(), "{sent:?}");
}

#[test]
fn edits_of_an_earlier_run_are_offered_taken_and_undone() {
    let state = tempfile::tempdir().unwrap();
    let mut bench = Bench::new();
    let first = bench.session.document.rig.clone();
    bench.session.document.keep_edits(state.path()).unwrap();
    bench.press(Key::char('a'));
    fill(&mut bench, "crane.jib");
    bench.enter("9");
    let edited = bench.session.document.rig.clone();
    let path = bench.session.document.path().to_owned();
    // The program ends without saving and without being asked: as at a signal.
    let folder = std::mem::replace(&mut bench.folder, tempfile::tempdir().unwrap());
    drop(bench);
    let mut bench = Bench::reopened(&path, folder);
    let left = bench.session.document.keep_edits(state.path()).unwrap();
    bench.model.greet(&bench.session, left);
    // How long ago it was depends on how busy the machine is.
    let frame = bench.frame(100, 30).replace(|c: char| c.is_ascii_digit(), "0");
    insta::assert_snapshot!("recover", frame.replace("second ago", "seconds ago"));
    bench.code(KeyCode::Enter);
    assert_eq!(bench.session.document.rig, edited);
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, first);
}
