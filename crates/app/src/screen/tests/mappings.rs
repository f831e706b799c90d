//! What inputs move, by keys: mappings are made, bent, shared, held by a switch; presses act; something stands in.

use super::Bench;
use super::calibrate::palette;
use crate::screen::inputs::rows;
use crate::screen::inputs::view::handles;
use crate::screen::keys::Key;
use crate::screen::update;
use crossterm::event::{Event, KeyCode, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::Rect;
use std::fmt::Write;
use wasvolta_core::rig::{Does, GoalKind, Mapping, Take, WhenLost};
use wasvolta_core::stage::Owner;

/// Inputs of the Marsh Clock as it is, with the heron engaged and given back.
fn demo() -> Bench {
    ready(Bench::demo())
}

fn ready(mut bench: Bench) -> Bench {
    for servo in ["heron.neck", "heron.beak"] {
        pick(&mut bench, servo);
        bench.press(Key::char('e'));
        bench.code(KeyCode::Enter);
        bench.pass(20);
        bench.press(Key::char('g'));
    }
    bench.code(KeyCode::F(3));
    bench.pass(150);
    bench
}

fn pick(bench: &mut Bench, servo: &str) {
    let rig = &bench.session.document.rig;
    let place = rig.servos.iter().position(|own| own.name == servo).unwrap();
    bench.model.pick_servo(rig, place);
}

/// Picks an input by its name, by the keys of its row.
fn input(bench: &mut Bench, name: &str) {
    row(bench, "input");
    for key in [KeyCode::Left, KeyCode::Right] {
        for _ in 0..bench.session.document.rig.inputs.len() {
            if bench.session.runner.edition.input(bench.model.input.id).unwrap().name == name {
                return;
            }
            bench.code(key);
        }
    }
    panic!("{name} is not listed");
}

/// Goes to a row of the picked input.
fn row(bench: &mut Bench, name: &str) {
    for key in [KeyCode::Up, KeyCode::Down] {
        for _ in 0..40 {
            if rows::picked(&bench.model.scene(&bench.session)).unwrap().name.trim() == name {
                return;
            }
            bench.code(key);
        }
    }
    panic!("no row is called {name}: {}", bench.frame(160, 47));
}

fn stands(bench: &Bench, link: &str, channel: &str, at: f64) {
    let sender = bench.session.runner.sender(link).unwrap();
    sender.turn(channel, at - sender.position(channel).unwrap());
}

fn press_button(bench: &mut Bench) {
    for at in [1.0, 0.0] {
        stands(bench, "micro", "button", at);
        bench.pass(10);
    }
}

fn mapping<'a>(bench: &'a Bench, name: &str) -> &'a Mapping {
    bench.session.document.rig.mapping(name).unwrap()
}

#[test]
fn the_demos_knob_blends_its_button_toggles_and_its_reeds_sway() {
    let mut bench = demo();
    stands(&bench, "dial", "a0", 0.0);
    bench.pass(150);
    assert!(bench.frame(160, 47).contains("rest–look at 0 % → asks +0.0°"), "{}", bench.frame(160, 47));
    stands(&bench, "dial", "a0", 1.0);
    bench.pass(200);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("rest–look at 100 % → asks -35.0°") && frame.contains("heron.neck follows"),
        "{frame}"
    );
    input(&mut bench, "visitor");
    press_button(&mut bench);
    bench.pass(60);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("to beak-open → asks +38.0°") && frame.contains("heron.beak follows"), "{frame}");
    press_button(&mut bench);
    bench.pass(60);
    assert!(bench.frame(160, 47).contains("to beak-shut → asks +2.0°"));
    // The reeds go to and fro about their standstill.
    pick(&mut bench, "reeds.sway");
    bench.press(Key::char('e'));
    bench.code(KeyCode::Enter);
    bench.pass(20);
    bench.press(Key::char('g'));
    let sway = bench.picked();
    let levels: Vec<f64> = (0..400)
        .map(|_| {
            bench.pass(1);
            bench.model.scene(&bench.session).servo(sway).unwrap().level().unwrap()
        })
        .collect();
    let (most, least) =
        (levels.iter().fold(f64::MIN, |a, b| a.max(*b)), levels.iter().fold(f64::MAX, |a, b| a.min(*b)));
    assert!(most > 15.0 && least < -15.0, "{least} {most} {}", bench.frame(160, 47));
    assert!(levels.iter().all(|level| level.abs() < 19.0));
}

#[test]
fn something_stands_in_for_an_input_and_is_marked_wherever_that_is_shown() {
    let mut bench = demo();
    palette(&mut bench, "pull the plug");
    bench.pass(60);
    assert!(bench.frame(160, 47).contains("does as told for a lost link"));
    row(&mut bench, "as if");
    bench.code(KeyCode::Right);
    bench.pass(2);
    row(&mut bench, "stands at");
    bench.enter("100");
    bench.pass(150);
    let frame = bench.frame(160, 47);
    for words in [
        "knob as if",
        "as if → gaze",
        "knob as if at 100 % → shaped +1.00",
        "by hand, whatever its link says",
    ] {
        assert!(frame.contains(words), "{words}: {frame}");
    }
    assert!(frame.contains("heron.neck follows"), "its link is still lost: {frame}");
    let why = wasvolta_engine::why::from_source_to_wire(
        bench.session.runner.edition_of(&bench.model.snapshot),
        &bench.model.snapshot,
        bench.session.document.rig.servos[0].id,
    );
    assert!(why.as_ref().unwrap().starts_with("knob as if at 100 %"), "{why:?}");
    row(&mut bench, "as if");
    bench.code(KeyCode::Right);
    bench.pass(2);
    assert!(bench.frame(160, 47).contains("a wave: sine"));
    row(&mut bench, "a round");
    bench.enter("2s");
    row(&mut bench, "as if");
    bench.code(KeyCode::Left);
    bench.code(KeyCode::Left);
    bench.pass(30);
    let frame = bench.frame(160, 47);
    assert!(!frame.contains("knob as if") && frame.contains("does as told for a lost link"), "{frame}");
}

#[test]
fn a_keyboards_fader_stands_in_for_a_knob_that_is_pulled() {
    let keys = "[[port]]\nname = \"keys\"\nkind = \"keys\"\n[[link]]\nname = \"desk-keys\"\non = \"keys\"\n[[input]]\n\
                name = \"swing\"\nlink = \"desk-keys\"\nchannel = \"fader1\"\nends = [0, 100]\n";
    let demo = include_str!("../../../../../examples/marsh-clock.rig.toml");
    let mut bench = ready(Bench::with_text(&format!("{demo}\n{keys}")));
    palette(&mut bench, "pull the plug");
    bench.pass(60);
    row(&mut bench, "as if");
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Right);
    bench.pass(2);
    assert!(bench.frame(160, 47).contains("as swing stands; J moves that"), "{}", bench.frame(160, 47));
    bench.press(Key::char('J'));
    for _ in 0..30 {
        bench.code(KeyCode::Right);
    }
    bench.pass(200);
    bench.code(KeyCode::Esc);
    let frame = bench.frame(160, 47);
    for words in ["knob as if at 60 %", "heron.neck follows"] {
        assert!(frame.contains(words), "{words}: {frame}");
    }
    bench.code(KeyCode::F(1));
    bench.pass(2);
    let frame = bench.frame(160, 47);
    assert!(frame.contains(", 1 input as if"), "its link says so: {frame}");
    // What stood in is gone: nothing stands in, the link does not come back by itself, and that is said.
    bench.code(KeyCode::F(3));
    input(&mut bench, "swing");
    palette(&mut bench, "remove input");
    assert!(bench.frame(160, 47).contains("Another input takes its value, and gets none then."));
    bench.code(KeyCode::Enter);
    bench.pass(60);
    input(&mut bench, "knob");
    bench.pass(5);
    let frame = bench.frame(160, 47);
    for words in [
        "nothing: the input that stood in for it is gone",
        "the input that stood in for knob is gone",
        "does as told for a lost link",
    ] {
        assert!(frame.contains(words), "{words}: {frame}");
    }
}

#[test]
fn a_press_keeps_a_pose_and_what_it_does_is_chosen_by_keys() {
    let mut bench = demo();
    input(&mut bench, "visitor");
    row(&mut bench, "a press");
    assert!(bench.frame(160, 47).contains("does nothing by itself"));
    bench.code(KeyCode::Left);
    assert_eq!(bench.session.document.rig.presses[0].does, Does::Keep);
    for kept in ["kept", "kept-2"] {
        press_button(&mut bench);
        let pose =
            bench.session.document.rig.pose(kept).unwrap_or_else(|| panic!("{}", bench.frame(160, 47)));
        assert!(pose.angles_deg.contains_key("heron.neck") && pose.angles_deg.contains_key("heron.beak"));
        assert!(bench.frame(160, 47).contains(&format!("the pose {kept} is kept")));
    }
    bench.press(Key::char('u'));
    assert!(bench.session.document.rig.pose("kept-2").is_none(), "an edit like any other");
    palette(&mut bench, "press: play; strike");
    assert_eq!(bench.session.document.rig.presses[0].sequence.as_deref(), Some("strike"));
    press_button(&mut bench);
    assert!(
        bench.frame(160, 47).contains("visitor was pressed: it plays strike"),
        "{}",
        bench.frame(160, 47)
    );
    assert_eq!(
        bench.model.snapshot.players.last().unwrap().sequence,
        bench.session.document.rig.sequences[1].id
    );
    palette(&mut bench, "press: cut; ");
    press_button(&mut bench);
    assert!(bench.frame(160, 47).contains("CUT"));
    press_button(&mut bench);
    assert!(bench.frame(160, 47).contains("visitor was pressed: everything is cut already"));
    palette(&mut bench, "press: nothing; ");
    assert!(bench.session.document.rig.presses.is_empty());
}

#[test]
fn the_punt_steers_by_radio_with_unequal_sides_once_its_rudder_has_marks() {
    let steering = |text: &str| {
        let mut bench = Bench::with_text(text);
        pick(&mut bench, "punt.rudder");
        bench.press(Key::char('e'));
        bench.code(KeyCode::Enter);
        bench.pass(20);
        bench.press(Key::char('g'));
        bench.code(KeyCode::F(3));
        bench.pass(100);
        input(&mut bench, "tiller");
        bench.pass(2);
        bench
    };
    let demo = include_str!("../../../../../examples/marsh-clock.rig.toml");
    let bench = steering(demo);
    assert!(
        bench.frame(160, 47).contains("punt.rudder has no angles yet and cannot follow: F2 calibrates it.")
    );
    let rated = "channel = 4\nrated = ";
    let marks = "marks = [{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]";
    assert!(demo.contains(rated));
    let mut bench = steering(&demo.replace(rated, &format!("channel = 4\n{marks}\nrated = ")));
    let mut angle = |at: f64| {
        stands(&bench, "radio", "ch1", at);
        bench.pass(250);
        let scene = bench.model.scene(&bench.session);
        let rudder = scene.servo(bench.picked()).unwrap();
        rudder.plan.scale.as_ref().unwrap().angle_at(rudder.state.pulse).get()
    };
    for (at, wanted) in [(0.0, -32.0), (0.5, 0.0), (1.0, 24.0), (0.25, -16.0)] {
        let angle = angle(at);
        assert!((angle - wanted).abs() < 1.0, "{at}: {angle}° is not {wanted}°");
    }
}

#[test]
fn the_curve_of_an_input_is_bent_by_points_where_it_stands_and_straightened_again() {
    let mut bench = demo();
    let curve = |bench: &Bench| {
        let rig = &bench.session.document.rig;
        rig.inputs.iter().find(|input| input.name == "pole-stick").unwrap().curve.clone()
    };
    input(&mut bench, "pole-stick");
    row(&mut bench, "expo");
    bench.enter("0");
    row(&mut bench, "deadband");
    bench.enter("0");
    stands(&bench, "radio", "ch2", 0.75);
    bench.pass(10);
    row(&mut bench, "expo");
    bench.press(Key::char('B'));
    let line = curve(&bench);
    assert_eq!(
        (line.len(), line[0], line[1], line[3]),
        (4, (-1.0, -1.0), (0.0, 0.0), (1.0, 1.0)),
        "{line:?}"
    );
    assert!(
        (line[2].0 - line[2].1).abs() < 1e-4 && (line[2].0 - 0.5).abs() < 0.01,
        "where it stood: {line:?}"
    );
    assert!(mapping(&bench, "punt.pole").to.points.is_empty(), "the mapping is as it was");
    bench.press(Key::char('B'));
    assert!(bench.frame(160, 47).contains("a point is there already"));
    row(&mut bench, "to");
    bench.enter("0.2");
    bench.pass(5);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("point       3 of 4"), "{frame}");
    let n = bench.session.document.rig.inputs.iter().position(|input| input.name == "pole-stick").unwrap();
    assert!((bench.model.snapshot.inputs[n].stages.curve - 0.2).abs() < 0.01);
    // It goes on rising, and passes no neighbour.
    bench.enter("-0.7");
    assert_eq!(curve(&bench)[2].1.to_bits(), 0f64.to_bits());
    row(&mut bench, "from");
    bench.enter("-0.5");
    assert_eq!(curve(&bench)[2].0.to_bits(), 0.01f64.to_bits());
    row(&mut bench, "point");
    for left in [3, 2] {
        bench.code(KeyCode::Delete);
        assert_eq!(curve(&bench).len(), left);
    }
    bench.code(KeyCode::Delete);
    assert!(curve(&bench).is_empty(), "of two points a straight line is left");
    bench.press(Key::char('u'));
    assert_eq!(curve(&bench).len(), 2, "an edit like any other");
}

/// What the mouse does at a cell of a window of 160×47.
pub fn mouse(bench: &mut Bench, kind: MouseEventKind, (column, row): (u16, u16)) {
    bench.model.window = Rect::new(0, 0, 160, 47);
    let event = MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE };
    update::event(&mut bench.model, &mut bench.session, &Event::Mouse(event), bench.now);
    bench.pass(1);
}

/// The cell of a handle of the line that is drawn.
fn handle(bench: &Bench, n: usize) -> (u16, u16) {
    handles(&bench.model.scene(&bench.session), Rect::new(0, 0, 160, 47)).unwrap().cell(n).unwrap()
}

pub const DOWN: MouseEventKind = MouseEventKind::Down(MouseButton::Left);
pub const DRAG: MouseEventKind = MouseEventKind::Drag(MouseButton::Left);
pub const UP: MouseEventKind = MouseEventKind::Up(MouseButton::Left);

#[test]
fn handles_are_dragged_by_the_mouse_and_a_whole_drag_is_one_edit() {
    let mut bench = demo();
    input(&mut bench, "pole-stick");
    // Far from every handle nothing is taken.
    mouse(&mut bench, DOWN, (60, 5));
    mouse(&mut bench, DRAG, (60, 20));
    let before = std::sync::Arc::clone(&bench.session.document.rig);
    // An end of the course, up and down: it stands at its side.
    row(&mut bench, "at high end");
    let (x, y) = handle(&bench, 1);
    mouse(&mut bench, DOWN, (x, y));
    for to in [y + 2, y + 5, y + 4] {
        mouse(&mut bench, DRAG, (x - 3, to));
    }
    mouse(&mut bench, UP, (x - 3, y + 4));
    let ends = mapping(&bench, "punt.pole").to.ends().unwrap();
    assert!((ends.low + 25.0).abs() < 1e-9 && ends.high < 45.0 && ends.high > 20.0, "{ends:?}");
    mouse(&mut bench, DRAG, (x, y));
    assert_eq!(mapping(&bench, "punt.pole").to.ends().unwrap(), ends, "it was let go");
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before, "three steps of the mouse are one edit");
    // A point, along too, between its neighbours.
    stands(&bench, "radio", "ch2", 0.75);
    bench.pass(10);
    bench.press(Key::char('B'));
    let (x, y) = handle(&bench, 1);
    mouse(&mut bench, DOWN, (x + 1, y));
    mouse(&mut bench, DRAG, (x - 4, y - 3));
    let moved = mapping(&bench, "punt.pole").to.points[1];
    assert_eq!(handle(&bench, 1).0, x - 4, "under the pointer: {moved:?}");
    mouse(&mut bench, DRAG, (159, y - 3));
    assert_eq!(mapping(&bench, "punt.pole").to.points[1].0.to_bits(), 0.99f64.to_bits());
    mouse(&mut bench, UP, (159, y));
    // The input's own curve goes on rising.
    row(&mut bench, "expo");
    bench.press(Key::char('B'));
    let (x, y) = handle(&bench, 2);
    mouse(&mut bench, DOWN, (x, y));
    mouse(&mut bench, DRAG, (x, y + 1));
    mouse(&mut bench, DRAG, (x, 46));
    let rig = &bench.session.document.rig;
    let curve = rig.inputs.iter().find(|input| input.name == "pole-stick").unwrap().curve.clone();
    assert_eq!((curve[1], curve[2].1), ((0.0, 0.0), 0.0), "{curve:?}");
    mouse(&mut bench, UP, (x, 46));
    // What changed nothing at first is an edit of its own all the same.
    let there = handle(&bench, 2);
    mouse(&mut bench, DOWN, there);
    mouse(&mut bench, DRAG, (x, 46));
    mouse(&mut bench, DRAG, (x, y));
    mouse(&mut bench, UP, (x, y));
    bench.press(Key::char('u'));
    let rig = &bench.session.document.rig;
    assert_eq!(rig.inputs.iter().find(|input| input.name == "pole-stick").unwrap().curve, curve);
    // The wheel goes through the rows.
    let at = bench.model.in_inputs.row;
    mouse(&mut bench, MouseEventKind::ScrollDown, (60, 30));
    assert_eq!(bench.model.in_inputs.row, at + 1);
    mouse(&mut bench, MouseEventKind::ScrollUp, (60, 30));
    assert_eq!(bench.model.in_inputs.row, at);
    // A key lets go what is held.
    mouse(&mut bench, DOWN, there);
    bench.press(Key::char(','));
    mouse(&mut bench, DRAG, (x, y));
    let rig = &bench.session.document.rig;
    assert_eq!(rig.inputs.iter().find(|input| input.name == "pole-stick").unwrap().curve, curve);
    // Where something is asked it moves no handle, and a window that shows nothing leaves it to the terminal.
    bench.press(Key::char(':'));
    mouse(&mut bench, DOWN, there);
    mouse(&mut bench, DRAG, (x, y));
    let rig = &bench.session.document.rig;
    assert_eq!(rig.inputs.iter().find(|input| input.name == "pole-stick").unwrap().curve, curve);
    assert!(update::wants_mouse(&bench.model));
    bench.model.too_small = true;
    assert!(!update::wants_mouse(&bench.model));
}

#[test]
fn a_mapping_is_bent_straightened_taken_otherwise_and_told_what_to_do_when_it_is_lost() {
    let mut bench = demo();
    input(&mut bench, "pole-stick");
    stands(&bench, "radio", "ch2", 0.75);
    bench.pass(10);
    bench.press(Key::char('B'));
    assert_eq!(mapping(&bench, "punt.pole").to.points.len(), 3, "{}", bench.frame(160, 47));
    row(&mut bench, "to");
    bench.enter("10deg");
    row(&mut bench, "from");
    bench.enter("0.2");
    assert_eq!(mapping(&bench, "punt.pole").to.points, [(-1.0, -25.0), (0.2, 10.0), (1.0, 50.0)]);
    // No further than its neighbours.
    bench.enter("1");
    assert_eq!(mapping(&bench, "punt.pole").to.points[1].0.to_bits(), 0.99f64.to_bits());
    bench.code(KeyCode::Delete);
    let ends = mapping(&bench, "punt.pole").to.ends().unwrap();
    assert_eq!((ends.low.to_bits(), ends.high.to_bits()), ((-25f64).to_bits(), 50f64.to_bits()));
    row(&mut bench, "is taken");
    bench.code(KeyCode::Right);
    assert_eq!(mapping(&bench, "punt.pole").take, Take::PickUp);
    row(&mut bench, "when lost");
    bench.code(KeyCode::Left);
    let told = mapping(&bench, "punt.pole");
    assert_eq!((told.when_lost, &told.failsafe), (Some(WhenLost::Release), &None));
    bench.enter("12deg");
    row(&mut bench, "in");
    bench.enter("3s");
    let failsafe = mapping(&bench, "punt.pole").failsafe.clone().unwrap();
    assert_eq!(
        (failsafe.angle_deg.unwrap().get().to_bits(), failsafe.over_s.get().to_bits()),
        (12f64.to_bits(), 3f64.to_bits())
    );
    palette(&mut bench, "rename mapping: pole");
    assert!(bench.session.document.rig.mapping("pole").is_some());
    palette(&mut bench, "remove mapping");
    assert!(bench.session.document.rig.mapping("pole").is_none());
}

#[test]
fn every_kind_of_goal_is_made_by_its_command_and_what_cannot_be_is_refused_in_words() {
    let mut bench = demo();
    input(&mut bench, "gap");
    for (line, kind) in [
        ("add mapping: boom; joint; crane.boom; -10 60", GoalKind::Joint),
        ("add mapping: glow; level; marsh.lantern; ", GoalKind::Level),
        ("add mapping: winch; rate; crane.winch; -50 50", GoalKind::Rate),
        ("add mapping: slew; rate; crane.slew; ", GoalKind::Rate),
    ] {
        palette(&mut bench, line);
        let last = bench.session.document.rig.mappings.last().unwrap();
        assert_eq!(last.to.kind(), Some(kind), "{line}: {}", bench.frame(160, 47));
        assert!(last.from.contains_key("gap"));
    }
    assert_eq!(mapping(&bench, "slew").to.rates_deg_s.unwrap().high.get().to_bits(), 60f64.to_bits());
    for (line, words) in [
        ("add mapping: a; joint; heron.tail; 0 1", "no joint is called \"heron.tail\""),
        ("add mapping: a; dance; heron.neck; 0 1", "write joint, level, rate, blend, toggle, tempo or place"),
        ("add mapping: a; blend; rest; ", "name two poses or more"),
        ("add mapping: a; blend; rest look; ", "gaze and a both move heron.neck"),
        ("add mapping: a; toggle; beak-shut beak-open; ", "a toggle follows the presses of one switch"),
        ("add mapping: a; joint; crane.boom; 5", "give two numbers, as -30 30"),
    ] {
        palette(&mut bench, line);
        let frame = bench.frame(160, 47);
        assert!(frame.contains(words), "{words}: {frame}");
        bench.code(KeyCode::Esc);
    }
    // A second input on one joint has a share.
    pick(&mut bench, "crane.boom");
    input(&mut bench, "air");
    bench.press(Key::char('Y'));
    assert_eq!(mapping(&bench, "boom").from["air"].to_bits(), 0.2f64.to_bits());
    bench.press(Key::char('Y'));
    assert!(bench.frame(160, 47).contains("air has a share in boom already"));
}

/// Forty inputs on six links, with 16 mappings of two shares each.
fn forty(_: &str) -> String {
    let links = ["heron", "crane", "punt", "reeds", "bell", "marsh"];
    let mut text =
        "format = 12\nname = \"Forty reeds\"\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"sim:bus\"\n\
                    [[board]]\nname = \"upper\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = 0x40\n"
            .to_owned();
    for link in links {
        write!(text, "[[port]]\nname = \"p-{link}\"\nkind = \"serial\"\npath = \"sim:{link}\"\n").unwrap();
        write!(text, "[[link]]\nname = \"{link}\"\non = \"p-{link}\"\n").unwrap();
    }
    for n in 0..16 {
        let marks = "[{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]";
        write!(text, "[[servo]]\nname = \"reeds.s{n}\"\nboard = \"upper\"\nchannel = {n}\nmarks = {marks}\n")
            .unwrap();
        write!(text, "[[joint]]\nname = \"reeds.s{n}\"\nservo = \"reeds.s{n}\"\n").unwrap();
    }
    let name = |n: usize| format!("{}-{n}", links[n % 6]);
    for n in 0..40 {
        let (name, link) = (name(n), links[n % 6]);
        write!(text, "[[input]]\nname = \"{name}\"\nlink = \"{link}\"\nchannel = \"v{n}\"\nends = [-100, 100]\ncentre = 0\n")
            .unwrap();
    }
    for n in 0..16 {
        let from = format!("{{ {} = 1, {} = 0.3 }}", name(n), name(n + 16));
        let to = format!("{{ joint = \"reeds.s{n}\", angles_deg = [-30, 30] }}");
        write!(text, "[[mapping]]\nname = \"reeds.s{n}\"\nfrom = {from}\nto = {to}\n").unwrap();
    }
    text
}

#[test]
fn forty_inputs_of_six_links_are_gone_through_without_crowding() {
    let mut bench = Bench::with(forty);
    bench.code(KeyCode::F(3));
    bench.pass(30);
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        insta::assert_snapshot!(format!("forty_{columns}x{rows}"), bench.frame(columns, rows));
    }
    // Link by link, and each is seen when it is picked.
    for n in 0..40 {
        let name = bench.session.runner.edition.input(bench.model.input.id).unwrap().name.clone();
        for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
            let frame = bench.frame(columns, rows);
            assert!(frame.lines().any(|line| line.contains(&format!("  {name} "))), "{name}: {frame}");
            assert!(frame.contains(&format!("({} of 40)", n + 1)), "{n}: {frame}");
        }
        row(&mut bench, "input");
        bench.code(KeyCode::Right);
    }
    assert_eq!(bench.model.snapshot.servos[0].owner, Owner::Nobody);
}

#[test]
fn whatever_is_pressed_in_inputs_the_rig_stays_sound_and_every_size_is_drawn() {
    const KEYS: &[KeyCode] = &[
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Delete,
        KeyCode::Tab,
        KeyCode::PageUp,
        KeyCode::PageDown,
        KeyCode::F(3),
    ];
    for seed in 1..=12u64 {
        let mut bench = demo();
        let mut dice = seed;
        let mut below = |most: u64| {
            dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            usize::try_from((dice >> 33) % most).unwrap()
        };
        for n in 0..250 {
            let letters = b"tYOUQVNZIuegjo0159-.,";
            let key = match below(10) {
                0..=5 => Key::of(KEYS[below(KEYS.len() as u64)]),
                _ => Key::char(char::from(letters[below(letters.len() as u64)])),
            };
            bench.press(key);
            bench.pass(u32::try_from(below(4)).unwrap());
            if n % 10 == 0 {
                for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
                    bench.frame(columns, rows);
                }
            }
        }
        let problems = wasvolta_core::rig::check::problems(&bench.session.document.rig);
        assert!(problems.is_empty(), "{seed}: {problems:?}");
    }
}
