//! Sequences and poses as wholes by keys, steps that change places, and what is typed again.

use super::calibrate::{NECK, engaged, fill, palette, said};
use super::*;
use crate::screen::dialog::Dialog;
use std::fmt::Write as _;
use wasvolta_core::stage::Play;

fn sequence_view() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(4));
    bench
}

fn names(bench: &Bench) -> Vec<&str> {
    bench.session.document.rig.sequences.iter().map(|s| s.name.as_str()).collect()
}

fn poses(bench: &Bench) -> Vec<&str> {
    bench.session.document.rig.poses.iter().map(|p| p.name.as_str()).collect()
}

fn steps(bench: &Bench) -> Vec<&str> {
    let sequence = bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap();
    sequence.steps.iter().filter_map(|step| step.pose.as_deref()).collect()
}

fn picked(bench: &Bench) -> &str {
    &bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap().name
}

#[test]
fn a_sequence_is_begun_filled_renamed_copied_removed_and_all_is_undone() {
    let mut bench = sequence_view();
    let first = bench.session.document.rig.clone();
    palette(&mut bench, "new sequence");
    fill(&mut bench, &["nod"]);
    bench.code(KeyCode::Enter);
    assert_eq!(names(&bench), ["wake", "strike", "lift", "crossing", "sleep", "breathe", "nod"]);
    assert_eq!((picked(&bench), steps(&bench).len()), ("nod", 0), "the new one is picked");
    let empty = bench.frame(100, 30);
    assert!(empty.contains("nod (7 of 7)") && !empty.contains("of 0"), "{empty}");
    palette(&mut bench, "rename sequence");
    bench.code(KeyCode::Enter);
    assert_eq!(picked(&bench), "nod", "the name it has: nothing to undo");
    bench.press(Key::char('p'));
    bench.pass(3);
    assert_eq!(
        bench.model.snapshot.players.last().map_or(Play::Stopped, |p| p.play),
        Play::Stopped,
        "it has no step: {}",
        said(&bench)
    );
    bench.press(Key::char('i'));
    assert_eq!(steps(&bench).len(), 1, "{}", said(&bench));
    palette(&mut bench, "rename sequence");
    fill(&mut bench, &["bow"]);
    bench.code(KeyCode::Enter);
    assert_eq!(picked(&bench), "bow", "a renamed one stays picked");
    palette(&mut bench, "copy sequence");
    bench.code(KeyCode::Enter);
    assert_eq!(names(&bench), ["wake", "strike", "lift", "crossing", "sleep", "breathe", "bow", "bow-2"]);
    assert_eq!(picked(&bench), "bow-2");
    palette(&mut bench, "remove sequence");
    let asked = bench.frame(160, 47);
    assert!(asked.contains("Remove the sequence bow-2 with its step? Its poses stay."), "{asked}");
    bench.code(KeyCode::Esc);
    assert_eq!(names(&bench).len(), 8, "Esc leaves it");
    palette(&mut bench, "remove sequence");
    bench.code(KeyCode::Enter);
    assert_eq!(names(&bench), ["wake", "strike", "lift", "crossing", "sleep", "breathe", "bow"]);
    for _ in 0..5 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, first);
}

#[test]
fn names_of_sequences_are_refused_where_they_are_taken_and_gone_to_where_they_are() {
    let mut bench = sequence_view();
    palette(&mut bench, "rename sequence");
    bench.enter("strike");
    assert!(bench.model.dialog.is_some(), "what was typed can be mended");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("strike") && names(&bench).len() == 6, "{frame}");
    bench.code(KeyCode::Esc);
    palette(&mut bench, "go to sequence");
    bench.enter("lift");
    assert_eq!(picked(&bench), "lift");
    palette(&mut bench, "go to sequence");
    bench.enter("sail");
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains(
            "no sequence is called \"sail\": there is wake, strike, lift, crossing, sleep, breathe"
        ),
        "{frame}"
    );
    bench.code(KeyCode::Esc);
    assert_eq!(picked(&bench), "lift");
}

#[test]
fn a_pose_takes_its_steps_along_when_it_is_renamed_and_stays_while_a_step_needs_it() {
    let mut bench = sequence_view();
    let first = bench.session.document.rig.clone();
    palette(&mut bench, "rename pose");
    fill(&mut bench, &["rest", "asleep"]);
    bench.code(KeyCode::Enter);
    assert_eq!(steps(&bench), ["asleep", "look", "asleep"]);
    palette(&mut bench, "copy pose");
    fill(&mut bench, &["look", "stare"]);
    bench.code(KeyCode::Enter);
    assert_eq!(poses(&bench)[..4], ["asleep", "look", "stare", "lunge"]);
    bench.press(Key::char('i'));
    assert!(steps(&bench).contains(&"stare"), "i inserts the pose that came last: {:?}", steps(&bench));
    palette(&mut bench, "remove pose");
    bench.enter("stare");
    let frame = bench.frame(160, 47);
    assert!(frame.contains("the pose stare is used by step 2 of wake: give those another pose"), "{frame}");
    bench.code(KeyCode::Esc);
    bench.press(Key::char('u'));
    palette(&mut bench, "remove pose");
    bench.enter("stare");
    assert!(!poses(&bench).contains(&"stare"), "{}", said(&bench));
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, first);
}

#[test]
fn going_to_a_pose_moves_what_is_engaged_and_says_what_is_not() {
    let mut bench = engaged(NECK);
    palette(&mut bench, "go to pose");
    bench.enter("look");
    assert!(said(&bench).starts_with("1 part glides to look;"), "{}", said(&bench));
    assert!(said(&bench).contains("2 of it get no pulses and stay"), "{}", said(&bench));
    bench.pass(200);
    let scene = bench.model.scene(&bench.session);
    let neck = scene.servo(NECK).unwrap();
    let angle = neck.plan.scale.as_ref().unwrap().angle_at(neck.state.pulse).get();
    assert!((angle + 35.0).abs() < 0.5, "{angle} °");
    bench.press(Key::char('r'));
    bench.pass(10);
    palette(&mut bench, "go to pose");
    bench.enter("look");
    assert!(bench.frame(160, 47).contains("no joint of look is engaged"));
}

#[test]
fn steps_change_their_places_and_the_picked_one_is_followed() {
    let mut bench = sequence_view();
    bench.press(Key::char('>'));
    assert_eq!((steps(&bench), bench.model.in_sequence.step), (vec!["look", "rest", "rest"], 1));
    bench.press(Key::char('<'));
    assert_eq!((steps(&bench), bench.model.in_sequence.step), (vec!["rest", "look", "rest"], 0));
    bench.press(Key::char('<'));
    assert!(said(&bench).contains("the step is at that end already"), "{}", said(&bench));
    bench.press(Key::char('%'));
    assert_eq!((steps(&bench), bench.model.in_sequence.step), (vec!["rest", "rest", "look", "rest"], 1));
    bench.press(Key::char('u'));
    assert_eq!(steps(&bench), ["rest", "look", "rest"]);
}

#[test]
fn what_was_typed_before_comes_back_with_up_and_is_edited_with_arrows() {
    let mut bench = engaged(NECK);
    bench.enter("1520");
    bench.pass(50);
    bench.enter("1480");
    bench.pass(50);
    bench.text("1");
    bench.code(KeyCode::Up);
    assert!(bench.frame(160, 47).contains("Go to 1480▏"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Up);
    bench.code(KeyCode::Left);
    bench.code(KeyCode::Backspace);
    bench.text("3");
    assert!(bench.frame(160, 47).contains("Go to 153▏0"), "{}", bench.frame(160, 47));
    bench.press(Key::ctrl('u'));
    bench.text("1510");
    bench.code(KeyCode::Esc);
    assert!(bench.model.dialog.is_none());
    assert_eq!(bench.model.view, crate::screen::calibrate::VIEW);
    assert!(bench.session.document.rig.servos[NECK].marks.len() >= 3, "nothing was kept by that");
}

#[test]
fn a_command_is_typed_with_its_answers_and_is_refused_where_they_do_not_fit() {
    let mut bench = Bench::new();
    palette(&mut bench, "keep pose: fold");
    assert!(
        said(&bench).starts_with("no engaged joint has angles"),
        "why, not that it answers nothing: {}",
        said(&bench)
    );
    let mut bench = engaged(NECK);
    palette(&mut bench, "new pose: fold");
    assert!(poses(&bench).contains(&"fold"), "it is found by what it makes, too: {}", said(&bench));
    palette(&mut bench, "go to pose: look");
    assert!(said(&bench).starts_with("1 part glides to look;"), "{}", said(&bench));
    bench.pass(200);
    palette(&mut bench, "rename pose: rest; asleep");
    assert!(poses(&bench).contains(&"asleep") && bench.model.dialog.is_none(), "{:?}", poses(&bench));
    // An answer that is refused can be mended.
    palette(&mut bench, "rename pose: look; asleep");
    assert!(matches!(bench.model.dialog, Some(Dialog::Form(_))), "{}", said(&bench));
    bench.code(KeyCode::Esc);
    palette(&mut bench, "rename pose: look; stare; more");
    assert!(
        bench.frame(160, 47).contains("3 answers are too many: it asks for pose, name"),
        "{}",
        bench.frame(160, 47)
    );
    bench.code(KeyCode::Esc);
    palette(&mut bench, "remove servo: yes");
    assert!(said(&bench).contains("it is engaged: release it first with r"), "{}", said(&bench));
    palette(&mut bench, "limit here: -40; the hip plate");
    let joint = bench.session.document.rig.joint_of("heron.neck").unwrap();
    let low = joint.low.as_ref().unwrap();
    assert_eq!((low.angle_deg.get(), low.reason.as_str()), (-40.0, "the hip plate"), "{}", said(&bench));
    palette(&mut bench, "undo: why");
    assert!(said(&bench).contains("\"why\" is one answer too many"), "{}", said(&bench));
    bench.press(Key::char('r'));
    bench.pass(10);
    palette(&mut bench, "remove servo: perhaps");
    assert!(bench.frame(160, 47).contains("answer yes, or Esc"));
    bench.code(KeyCode::Esc);
    palette(&mut bench, "remove servo: yes");
    assert!(bench.session.document.rig.servo("heron.neck").is_none(), "{}", said(&bench));
}

fn step_of(bench: &Bench, n: usize) -> wasvolta_core::rig::Step {
    bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap().steps[n].clone()
}

/// Goes to a row of the details by its name.
fn row(bench: &mut Bench, name: &str) {
    for key in [KeyCode::Up, KeyCode::Down] {
        for _ in 0..26 {
            let frame = bench.frame(160, 60);
            let here =
                frame.lines().find_map(|line| line.split("│ ▌ ").nth(1)).unwrap_or_default().to_owned();
            if key == KeyCode::Down && here.starts_with(name) {
                return;
            }
            bench.code(key);
        }
    }
    panic!("no row {name}: {}", bench.frame(160, 60));
}

#[test]
fn a_part_has_two_states_and_a_step_goes_from_one_to_the_other_by_a_key() {
    let mut bench = sequence_view();
    bench.act("other state");
    assert!(said(&bench).contains("its pose has no opposite"), "{}", said(&bench));
    palette(&mut bench, "two states: gape; 30; hide; 2");
    assert!(said(&bench).contains("gape and hide are the two states of punt.rudder"), "{}", said(&bench));
    bench.press(Key::char('i'));
    assert_eq!(step_of(&bench, 1).pose.as_deref(), Some("gape"));
    bench.act("other state");
    assert_eq!(step_of(&bench, 1).pose.as_deref(), Some("hide"));
    bench.act("other state");
    assert_eq!(step_of(&bench, 1).pose.as_deref(), Some("gape"));
}

#[test]
fn an_arrival_is_waited_for_no_longer_than_is_said() {
    let mut bench = sequence_view();
    bench.press(Key::char('_'));
    let waits = |bench: &Bench| {
        let step = bench.model.in_sequence.step;
        step_of(bench, step).wait_for.unwrap()
    };
    row(&mut bench, "waits for");
    bench.code(KeyCode::Enter);
    bench.enter("arrived 3deg");
    let wait = waits(&bench);
    assert_eq!(
        (wait.arrived_deg, wait.at_most_s.map(wasvolta_core::unit::Seconds::get)),
        (Some(3.0), Some(2.0))
    );
    assert!(bench.frame(160, 47).contains("all have arrived within 3°"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Enter);
    bench.enter("arrived 90deg");
    assert!(bench.frame(160, 47).contains("outside 0.1 to 45"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Esc);
    bench.code(KeyCode::Right);
    assert_eq!(waits(&bench).key.as_deref(), Some("g"));
    bench.code(KeyCode::Left);
    assert_eq!(waits(&bench).arrived_deg, Some(2.0));
    row(&mut bench, "held for");
    bench.enter("0.2s");
    assert!((waits(&bench).held_s.get() - 0.2).abs() < 1e-9);
}

#[test]
fn every_row_of_a_step_a_wait_a_call_a_loop_and_of_the_sequence_is_set_by_keys() {
    let mut bench = sequence_view();
    // A step: by speed, with ramps, one joint later than the others.
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageUp);
    row(&mut bench, "timed by");
    bench.code(KeyCode::Right);
    row(&mut bench, "speed");
    bench.enter("45");
    row(&mut bench, "easing");
    for _ in 0..3 {
        bench.code(KeyCode::Right);
    }
    row(&mut bench, "ramps");
    bench.enter("250");
    row(&mut bench, "joint to");
    bench.enter("12deg");
    row(&mut bench, "  later by");
    bench.enter("100ms");
    row(&mut bench, "  takes");
    bench.enter("60%");
    row(&mut bench, "label");
    bench.code(KeyCode::Enter);
    bench.enter("top");
    let step = step_of(&bench, 0);
    assert_eq!(step.speed_deg_s.map(wasvolta_core::unit::DegreesPerSecond::get), Some(45.0), "{step:?}");
    assert_eq!(step.accel_deg_s2.map(wasvolta_core::unit::DegreesPerSecondSquared::get), Some(250.0));
    let own = &step.joints["heron.neck"];
    assert!(
        (own.lag_s.get() - 0.1).abs() < 1e-9
            && own.share == Some(0.6)
            && step.label.as_deref() == Some("top")
    );
    let rest = bench.session.document.rig.pose("rest").unwrap().clone();
    assert!((rest.angles_deg["heron.neck"].get() - 12.0).abs() < 1e-9);
    bench.press(Key::char('!'));
    assert!(!bench.session.document.rig.pose("rest").unwrap().angles_deg.contains_key("heron.neck"));
    // A wait, in vain back to that step.
    bench.press(Key::char('_'));
    row(&mut bench, "waits for");
    bench.code(KeyCode::Enter);
    bench.enter("gap below 0.3");
    row(&mut bench, "held for");
    bench.enter("0.5s");
    row(&mut bench, "at most");
    bench.enter("4s");
    row(&mut bench, "then");
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Right);
    assert!(bench.frame(160, 47).contains("jump to top"), "{}", bench.frame(160, 47));
    let wait = step_of(&bench, 1).wait_for.unwrap();
    assert_eq!((wait.below, wait.to.as_deref(), wait.held_s.get()), (Some(0.3), Some("top"), 0.5));
    row(&mut bench, "waits for");
    bench.code(KeyCode::Enter);
    bench.enter("nobody pressed");
    assert!(bench.frame(160, 47).contains("no input is called \"nobody\""), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Esc);
    // A call with a parameter.
    bench.press(Key::char('C'));
    assert_eq!(step_of(&bench, 2).play.as_deref(), Some("strike"));
    row(&mut bench, "with");
    bench.code(KeyCode::Enter);
    bench.enter("strokes = 4");
    bench.code(KeyCode::Right);
    assert_eq!(step_of(&bench, 2).with["strokes"], 5);
    // A loop over the first two, as often as a parameter says.
    palette(&mut bench, "parameters: rounds = 3");
    row(&mut bench, "step");
    bench.enter("2");
    bench.press(Key::shift(KeyCode::Left));
    bench.press(Key::char('&'));
    row(&mut bench, "loop");
    bench.code(KeyCode::Enter);
    bench.enter("rounds");
    assert!(bench.frame(160, 47).contains("× rounds"), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Enter);
    bench.enter("until visitor pressed");
    let own = bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap().clone();
    assert!(own.loops[0].times.is_some() && own.loops[0].until.as_ref().unwrap().pressed == Some(true));
    // The sequence itself.
    row(&mut bench, "tempo");
    bench.enter("150%");
    row(&mut bench, "lead-in");
    bench.enter("2s");
    row(&mut bench, "at its end");
    bench.code(KeyCode::Right);
    let own = bench.session.runner.edition.sequence(bench.model.sequence.id).unwrap().clone();
    assert_eq!((own.tempo(), own.at_end), (1.5, wasvolta_core::rig::AtEnd::Home));
    assert_eq!(own.lead_in_s.map(wasvolta_core::unit::Seconds::get), Some(2.0));
    let before = bench.model.scene(&bench.session).sequence().unwrap().1.length();
    palette(&mut bench, &format!("fit to length: {:.2}", before + 1.0));
    let after = bench.model.scene(&bench.session).sequence().unwrap().1.length();
    assert!((after - before - 1.0).abs() < 0.02, "{before} then {after}: {}", said(&bench));
    for _ in 0..60 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig.sequences[0].steps.len(), 3, "all of it undone");
}

/// A flock: sixty joints on four boards, all of which one step moves.
fn flock() -> String {
    let mut text = "format = 12\nname = \"Marsh Clock\"\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"sim:bench-bus\"\n".to_owned();
    for board in 0..4 {
        write!(
            text,
            "[[board]]\nname = \"b{board}\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = {}\n",
            64 + board
        )
        .unwrap();
    }
    let mut angles = Vec::new();
    for n in 0..60 {
        write!(
            text,
            "[[servo]]\nname = \"reed.n{n}\"\nboard = \"b{}\"\nchannel = {}\nendpoints_us = [900, 2100]\n\
             marks = [{{ pulse_us = 1000, angle_deg = -45 }}, {{ pulse_us = 2000, angle_deg = 45 }}]\n\
             [[joint]]\nname = \"reed.n{n}\"\nservo = \"reed.n{n}\"\nhome_deg = 0\n",
            n / 16,
            n % 16
        )
        .unwrap();
        angles.push(format!("\"reed.n{n}\" = {}", n % 30 + 1));
    }
    write!(
        text,
        "[[pose]]\nname = \"gust\"\nangles_deg = {{ {} }}\n[[sequence]]\nname = \"gusts\"\n[[sequence.step]]\npose = \"gust\"\nmove_s = 1\n",
        angles.join(", ")
    )
    .unwrap();
    text
}

#[test]
fn of_sixty_joints_the_picked_one_is_shown_and_the_others_are_counted() {
    let mut bench = Bench::with_text(&flock());
    bench.code(KeyCode::F(4));
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        for (keys, key) in
            [(0, KeyCode::PageDown), (25, KeyCode::PageDown), (34, KeyCode::PageDown), (59, KeyCode::PageUp)]
        {
            for _ in 0..keys {
                bench.code(key);
            }
            let frame = bench.frame(columns, rows);
            let place = bench.picked();
            let name = format!("n{place}");
            // Beside the servos' list it has a band with its name.
            let band = |line: &&str| {
                line.split_once('│').is_some_and(|(_, right)| {
                    right
                        .split_whitespace()
                        .next()
                        .is_some_and(|word| word == name || word == format!("reed.{name}"))
                })
            };
            assert_eq!(frame.lines().filter(band).count(), 1, "{name}\n{frame}");
            let hidden =
                frame.lines().find(|line| line.contains("more joint")).unwrap_or_else(|| panic!("{frame}"));
            assert_eq!(hidden.contains('↑'), place > 20, "{hidden}");
            assert_eq!(hidden.contains('↓'), place < 59, "{hidden}");
        }
    }
}

#[test]
fn a_wait_at_the_very_end_can_be_read() {
    let mut bench = sequence_view();
    row(&mut bench, "step");
    bench.enter("3");
    bench.press(Key::char('_'));
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        let frame = bench.frame(columns, rows);
        assert!(frame.contains("◇ visitor is pressed"), "{frame}");
    }
    assert!(bench.frame(160, 47).contains("waits for  visitor is pressed"), "{}", bench.frame(160, 47));
}

#[test]
fn a_number_of_other_code_is_the_angle_of_a_joint_in_a_pose() {
    let mut bench = sequence_view();
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageUp);
    row(&mut bench, "joint to");
    bench.enter("90 old");
    // 1472 µs at 9.8625° for 100 µs, with 0° at 1494.525 µs.
    let rest = bench.session.document.rig.pose("rest").unwrap().clone();
    let angle = rest.angles_deg["heron.neck"].get();
    assert!((angle - (1472.0 - 1494.525) * 0.098_625).abs() < 1e-3, "{angle}");
    assert!(bench.frame(160, 60).contains("-2.2°, 90.0 old  heron.neck"), "{}", bench.frame(160, 60));
    bench.enter("90 new");
    assert!(bench.frame(160, 60).contains("\"new\" is not an angle"), "{}", bench.frame(160, 60));
}
