//! Smart servos on the screen: who is on a bus, ids, ends by feel, poses by hand, and what goes wrong.

use super::*;
use wasvolta_engine::why::{Verdict, first_not_proven};
use wasvolta_sim::SmartBus;

/// The demo with its neck picked.
fn neck() -> Bench {
    let mut bench = Bench::demo();
    pick(&mut bench, "heron.nape");
    bench.pass(30);
    bench
}

fn pick(bench: &mut Bench, name: &str) {
    let rig = bench.session.document.rig.clone();
    let place = rig.servos.iter().position(|servo| servo.name == name).unwrap();
    bench.model.pick_servo(&rig, place);
}

fn bus(bench: &Bench) -> SmartBus {
    bench.session.runner.simulated.as_ref().unwrap().smart_bus("neck").unwrap()
}

fn fault(bench: &Bench, said: &str, on: bool) {
    let simulated = bench.session.runner.simulated.as_ref().unwrap();
    simulated.faults().set(said.parse().unwrap(), on);
}

fn command(bench: &mut Bench, name: &str) {
    bench.text(":");
    bench.enter(name);
}

/// Lets beats pass until the bus that is lent is given back.
fn given_back(bench: &mut Bench) -> String {
    for _ in 0..5000 {
        if bench.model.in_wiring.lent.as_ref().is_some_and(|lent| lent.told) {
            return bench.frame(160, 47);
        }
        bench.pass(1);
    }
    panic!("never\n{}", bench.frame(160, 47));
}

#[test]
fn a_bus_is_drawn_with_who_is_on_it_and_what_a_beat_takes() {
    let mut bench = neck();
    bench.code(KeyCode::F(1));
    bench.pass(100);
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        insta::assert_snapshot!(format!("bus_{columns}x{rows}"), still(&bench.frame(columns, rows)));
    }
}

/// A frame without what a moment more or less changes.
fn still(frame: &str) -> String {
    let counted = |line: &&str| !line.contains("good and");
    let seen = |line: &str| line.split("seen:").next().unwrap_or_default().trim_end().to_owned();
    frame.lines().filter(counted).fold(String::new(), |text, line| text + &seen(line) + "\n")
}

#[test]
fn everyone_on_a_bus_is_asked_and_one_alone_gets_another_id_after_a_page_that_says_so() {
    let mut bench = neck();
    bench.code(KeyCode::F(1));
    bench.text("#");
    bench.code(KeyCode::Enter);
    bench.pass(3);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("neck-bus is asked: id ") && screen.contains("# stops it"), "{screen}");
    let screen = given_back(&mut bench);
    assert!(
        screen.contains("2 servos answer") && screen.contains("id 2 at 1 000 000 Bd, model 4242"),
        "{screen}"
    );
    bench.act("another id");
    bench.enter("5");
    let screen = bench.frame(160, 47);
    assert!(screen.contains("register 7, is written: 1 → 5"), "{screen}");
    assert_eq!(bus(&bench).memory_writes(), 0, "nothing before the page");
    bench.code(KeyCode::Enter);
    let screen = given_back(&mut bench);
    assert!(screen.contains("id 2 answers too; plug in only the one"), "{screen}");
    assert_eq!(bus(&bench).memory_writes(), 0, "two are on it");
    fault(&bench, "plug-out@id2", true);
    bench.act("another id");
    bench.enter("5");
    bench.code(KeyCode::Enter);
    let screen = given_back(&mut bench);
    assert!(
        screen.contains("it answers as id 5 now, read back; heron.nape has it in the rig too"),
        "{screen}"
    );
    assert_eq!((bus(&bench).memory_writes(), bus(&bench).place(5).is_some()), (1, true));
    assert_eq!(bench.session.document.rig.servo("heron.nape").unwrap().bus_id, Some(5));
    for (said, words) in
        [("5", "it has the id 5 already"), ("2", "heron.throat has the id 2"), ("x", "is not an id")]
    {
        bench.act("another id");
        bench.enter(said);
        let screen = bench.frame(160, 47);
        assert!(screen.contains(words), "{said}\n{screen}");
        bench.code(KeyCode::Esc);
    }
    assert_eq!(bus(&bench).memory_writes(), 1);
}

#[test]
fn another_rate_is_written_and_the_port_follows() {
    let mut bench = neck();
    bench.code(KeyCode::F(1));
    fault(&bench, "plug-out@id2", true);
    command(&mut bench, "another rate");
    for _ in 0..8 {
        bench.code(KeyCode::Backspace);
    }
    bench.enter("57600");
    let screen = bench.frame(160, 47);
    assert!(screen.contains("register 8, is written as 1: 57 600 Bd"), "{screen}");
    bench.code(KeyCode::Enter);
    let screen = given_back(&mut bench);
    assert!(screen.contains("id 1 answers at 57600 Bd now, read back; so does the rig's port"), "{screen}");
    bench.pass(50);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("twelve-bit, 57 600 Bd"), "{screen}");
    bench.pass(200);
    assert!(bench.frame(160, 47).contains("✓ answer"), "it is driven at that rate\n{}", bench.frame(160, 47));
}

#[test]
fn an_end_is_felt_by_keys_and_any_key_stops_it() {
    let mut bench = neck();
    pick(&mut bench, "heron.throat");
    command(&mut bench, "feel for ends");
    bench.code(KeyCode::Enter);
    bench.pass(100);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("heron.throat feels for its ends at 25 % of its push"), "{screen}");
    bench.text("e");
    let screen = given_back(&mut bench);
    assert!(screen.contains("stopped; it is limp again, read back"), "{screen}");
    bench.pass(20);
    assert_eq!(bus(&bench).is_stiff(2), Some(false), "the key did nothing else");
    command(&mut bench, "feel for ends");
    bench.code(KeyCode::Enter);
    given_back(&mut bench);
    bench.pass(1);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("Endpoints 2° inside: ") && screen.contains("(held up)"), "{screen}");
    bench.code(KeyCode::Enter);
    let rig = &bench.session.document.rig;
    let ends = rig.servo("heron.throat").unwrap().endpoints_counts.unwrap();
    assert!(
        (1380.0..1392.0).contains(&ends.low.get()) && (2710.0..2720.0).contains(&ends.high.get()),
        "{ends:?}"
    );
    assert_eq!(bus(&bench).memory_writes(), 0);
    // One that carries something is asked about.
    pick(&mut bench, "heron.nape");
    command(&mut bench, "feel for ends");
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("heron.nape carries something: pushing this gently"));
    bench.code(KeyCode::Esc);
    bench.pass(5);
    assert_eq!(bus(&bench).is_stiff(1), Some(false));
}

#[test]
fn a_pose_is_taught_by_hand_and_played_to_within_the_play() {
    let mut bench = neck();
    pick(&mut bench, "heron.throat");
    bench.text("e");
    bench.pass(50);
    assert_eq!(bus(&bench).is_stiff(2), Some(true));
    bench.text("r");
    bench.pass(20);
    assert_eq!(bus(&bench).is_stiff(2), Some(false), "it carries nothing: it is limp at once");
    command(&mut bench, "simulated hand");
    bench.enter("-20deg");
    bench.pass(20);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("by hand"), "{screen}");
    bench.text("k");
    bench.enter("dip");
    let pose = bench.session.document.rig.pose("dip").unwrap().clone();
    assert_eq!(pose.angles_deg.keys().collect::<Vec<_>>(), ["heron.throat"], "nobody else was moved");
    let kept = pose.angles_deg["heron.throat"].get();
    assert!((kept + 20.0).abs() < 0.3, "{kept}");
    // Elsewhere, stiff without a jump, and back by the pose.
    command(&mut bench, "simulated hand");
    bench.enter("15deg");
    bench.pass(10);
    let before = bus(&bench).place(2).unwrap();
    bench.text("e");
    bench.pass(30);
    assert!((bus(&bench).place(2).unwrap() - before).abs() < 5.0, "stiff where it is");
    bench.enter("-20deg");
    bench.pass(200);
    let at = bus(&bench).place(2).unwrap();
    let wanted = 2010.0 + 20.0 * 4096.0 / 360.0;
    assert!((at - wanted).abs() < 0.5 * 4096.0 / 360.0, "{at} {wanted}");
}

#[test]
fn what_carries_something_is_asked_about_before_it_sags() {
    let mut bench = neck();
    bench.text("e");
    bench.pass(50);
    bench.text("r");
    assert!(bench.frame(160, 47).contains("heron.nape carries something: limp, it sags"));
    bench.pass(20);
    assert_eq!(bus(&bench).is_stiff(1), Some(true));
    bench.code(KeyCode::Enter);
    bench.pass(20);
    assert_eq!(bus(&bench).is_stiff(1), Some(false));
}

#[test]
fn what_goes_wrong_on_a_bus_is_said_in_one_word_and_at_its_link_and_the_other_servo_goes_on() {
    let faults = [
        "plug-out@id1",
        "mute@id1",
        "twins@id1",
        "late@id1",
        "stuck@id1",
        "hot@id1",
        "rail-dip@id1",
        "resets",
        "noise",
        "echo",
        "absent",
    ];
    let mut grid = String::new();
    for said in faults {
        let mut bench = neck();
        for name in ["heron.nape", "heron.throat"] {
            pick(&mut bench, name);
            bench.text("e");
            bench.pass(30);
        }
        fault(&bench, said, true);
        pick(&mut bench, "heron.nape");
        bench.pass(5);
        for servo in ["heron.nape", "heron.throat"] {
            pick(&mut bench, servo);
            bench.enter("12deg");
        }
        pick(&mut bench, "heron.nape");
        bench.pass(250);
        let scene = bench.model.scene(&bench.session);
        let picked = scene.picked().unwrap();
        let word = crate::screen::health::word(&picked).map_or("-", |(word, _)| word);
        let link = scene.chain().and_then(first_not_proven).map_or("-", |link| match link.verdict {
            Verdict::Failed => link.name,
            _ => "-",
        });
        let at = |place: f64, zero: f64, sign: f64| sign * (place - zero) * 360.0 / 4096.0;
        let other = bus(&bench).place(2).map(|place| at(place, 2010.0, -1.0)).unwrap();
        let stiff = bus(&bench).is_stiff(1).unwrap();
        let there = (other - 12.0).abs() < 1.0;
        let row = format!(
            "{said:14} says {word:14} fails at {link:12} really {:5} the other {}\n",
            if stiff { "stiff" } else { "limp" },
            if there { "is there" } else { "is not there" }
        );
        grid.push_str(&row);
        assert_eq!(bus(&bench).memory_writes(), 0, "{said}");
    }
    insta::assert_snapshot!("bus_faults", grid);
}

#[test]
fn a_servo_that_begins_to_ail_and_is_well_again_is_in_the_log() {
    let mut bench = neck();
    fault(&bench, "silent@id1", true);
    bench.pass(100);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("heron.nape: silent"), "{screen}");
    fault(&bench, "silent@id1", false);
    bench.pass(100);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("heron.nape: well again"), "{screen}");
    // What comes and goes has one line, with a count.
    for n in 0..6 {
        fault(&bench, "hot@id2", n % 2 == 0);
        bench.pass(60);
    }
    let screen = bench.frame(160, 47);
    assert!(screen.contains("heron.throat: well again, 6"), "{screen}");
}

#[test]
fn after_a_cut_a_silent_servo_is_said_to_be_unheard_and_not_limp() {
    let mut bench = neck();
    pick(&mut bench, "heron.throat");
    bench.text("e");
    bench.pass(60);
    fault(&bench, "silent@id2", true);
    bench.pass(60);
    bench.session.runner.engine.stop().cut();
    // Until what was said last has left the place of the next line.
    bench.pass(400);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("whether heron.throat is stiff cannot be heard"), "{screen}");
    assert_eq!(bus(&bench).is_stiff(2), Some(true), "nor is it limp");
    fault(&bench, "silent@id2", false);
    bench.pass(400);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("no smart servo is stiff"), "{screen}");
}

/// Lets the throat go 40° further and gives how many beats that takes.
fn beats_for_a_move(bench: &mut Bench) -> u32 {
    bench.enter("-20deg");
    bench.pass(400);
    bench.enter("20deg");
    let goal = 2010.0 - 20.0 * 4096.0 / 360.0;
    for beat in 0..1000 {
        if (bus(bench).place(2).unwrap() - goal).abs() < 8.0 {
            return beat;
        }
        bench.pass(1);
    }
    panic!("never there\n{}", bench.frame(160, 47));
}

#[test]
fn what_ails_goes_slower_holds_or_goes_limp_as_its_joint_says_and_is_well_again() {
    let mut bench = neck();
    pick(&mut bench, "heron.throat");
    bench.text("e");
    bench.pass(50);
    let well = beats_for_a_move(&mut bench);
    fault(&bench, "hot@id2", true);
    bench.pass(60);
    let screen = bench.frame(160, 47);
    assert!(screen.contains("✗ hot") && screen.contains("it is too hot. It runs at half speed"), "{screen}");
    let hot = beats_for_a_move(&mut bench);
    assert!(hot > well * 3 / 2, "at half its speed: {hot} after {well} beats");
    fault(&bench, "hot@id2", false);
    bench.pass(60);
    let again = beats_for_a_move(&mut bench);
    assert!(again.abs_diff(well) <= 3, "{again} {well}");
    // On its way it stops where it is.
    command(&mut bench, "on servo fault");
    bench.enter("hold");
    assert!(
        bench
            .session
            .document
            .rig
            .joint("heron.throat")
            .is_some_and(|joint| joint.ailing == wasvolta_core::rig::Ailing::Hold)
    );
    bench.enter("-40deg");
    bench.pass(5);
    fault(&bench, "hot@id2", true);
    bench.pass(100);
    let (stopped, goal) = (bus(&bench).place(2).unwrap(), 2010.0 + 40.0 * 4096.0 / 360.0);
    assert!((stopped - goal).abs() > 60.0, "{stopped} is not {goal}");
    bench.pass(100);
    assert!((bus(&bench).place(2).unwrap() - stopped).abs() < 6.0, "it stays");
    assert_eq!(bus(&bench).is_stiff(2), Some(true));
    fault(&bench, "hot@id2", false);
    bench.pass(60);
    command(&mut bench, "on servo fault");
    bench.enter("limp");
    fault(&bench, "hot@id2", true);
    bench.pass(100);
    assert_eq!(bus(&bench).is_stiff(2), Some(false));
}

/// Plays the drink, the neck's line pulled from the 50th beat on for some beats; by beat the pulse of a hobby servo in the
/// same poses, where the nape is, and where it is told to be.
fn drinking(pulled_for: u32) -> Vec<(f64, f64, bool)> {
    let mut bench = neck();
    for name in ["heron.neck", "heron.beak", "heron.nape", "heron.throat"] {
        pick(&mut bench, name);
        bench.text("e");
        // A hobby servo asks where it stands.
        if bench.model.dialog.is_some() {
            bench.code(KeyCode::Enter);
        }
        bench.pass(60);
        // The hand gives it to the sequence.
        bench.text("g");
    }
    let sequences = &bench.session.document.rig.sequences;
    let sequence = sequences.iter().position(|sequence| sequence.name == "drink").unwrap();
    bench.tell(wasvolta_core::stage::Command::Play { sequence });
    let mut seen = Vec::new();
    for beat in 0..500 {
        if beat == 50 && pulled_for > 0 {
            bus(&bench).set_plugged(false);
        }
        if beat == 50 + pulled_for {
            bus(&bench).set_plugged(true);
        }
        bench.pass(1);
        let engine = &mut bench.session.runner.engine;
        let pulse = engine.snapshot().servos[0].pulse.get();
        seen.push((pulse, bus(&bench).place(1).unwrap(), bus(&bench).is_stiff(1).unwrap()));
    }
    seen
}

#[test]
fn a_line_that_is_pulled_for_three_seconds_leaves_the_others_alone_and_comes_back_from_where_it_is() {
    let (whole, pulled) = (drinking(0), drinking(150));
    let moved = whole.iter().map(|row| row.0).fold(0.0, f64::max)
        - whole.iter().map(|row| row.0).fold(f64::MAX, f64::min);
    assert!(moved > 100.0, "the sequence moves the neck by {moved} µs");
    for (beat, (whole, pulled)) in whole.iter().zip(&pulled).enumerate() {
        assert!((whole.0 - pulled.0).abs() < 1e-9, "beat {beat}: the other servo is as it would have been");
    }
    let counts_a_degree = 4096.0 / 360.0;
    for (beat, pair) in pulled.windows(2).enumerate() {
        let step = (pair[1].1 - pair[0].1).abs() / counts_a_degree;
        assert!(step < 7.0, "beat {beat}: it jumped by {step}°");
    }
    // While it cannot be told anything it keeps holding.
    assert!(pulled[100..190].iter().all(|row| row.2));
    let end = |rows: &[(f64, f64, bool)]| rows.last().unwrap().1;
    assert!((end(&whole) - end(&pulled)).abs() < 2.0 * counts_a_degree, "{} {}", end(&whole), end(&pulled));
    let apart =
        whole.iter().zip(&pulled).map(|(whole, pulled)| (whole.1 - pulled.1).abs()).fold(0.0, f64::max);
    assert!(apart > 5.0 * counts_a_degree, "it was behind by {apart} counts meanwhile");
}

#[test]
fn nothing_said_of_a_smart_servo_is_in_microseconds() {
    let mut leaks = Vec::new();
    let mut seen = 0;
    for action in crate::screen::commands::all() {
        let mut bench = neck();
        bench.text("e");
        bench.pass(60);
        bench.code(KeyCode::F(2));
        let scene = bench.model.scene(&bench.session);
        // A cut is about all of the rig, and so is a scale of other code.
        if (action.ready)(&scene).is_err()
            || matches!(action.name, "quit" | "cut")
            || action.name.contains("scale")
        {
            continue;
        }
        command(&mut bench, action.name);
        let still_it = bench.model.scene(&bench.session).picked().is_some_and(|p| p.servo.kind.is_smart());
        if !still_it
            || bench.model.view != crate::screen::calibrate::VIEW
            || matches!(bench.model.dialog, Some(Dialog::Help { .. } | Dialog::Palette { .. }))
        {
            continue;
        }
        seen += 1;
        let frame = bench.frame(160, 47);
        let leak = |line: &&str| ["µs", "pulse", "tick"].iter().any(|word| line.contains(word));
        // What stands behind the roster is about the picked one; so are the lines below.
        let parts = frame.lines().map(|line| line.split_once('│').map_or(line, |(_, own)| own));
        leaks.extend(parts.filter(leak).map(|line| format!("{}: {}", action.name, line.trim())));
    }
    assert!(seen > 40, "{seen}");
    assert!(leaks.is_empty(), "{}", leaks.join("\n"));
}

#[test]
fn poses_of_two_joints_are_taught_by_hand_and_come_again_within_the_play() {
    // What the servos in the simulated neck can be turned while they stand.
    const PLAY_DEG: f64 = 0.3;
    let counts_a_degree = 4096.0 / 360.0;
    let mut bench = neck();
    let mut taught = Vec::new();
    for (pose, nape, throat) in
        [("peer", "20deg", "-12deg"), ("lean", "-30deg", "25deg"), ("doze", "5deg", "38deg")]
    {
        for (servo, to) in [("heron.throat", throat), ("heron.nape", nape)] {
            pick(&mut bench, servo);
            command(&mut bench, "simulated hand");
            bench.enter(to);
        }
        bench.pass(3);
        bench.text("k");
        bench.enter(pose);
        let kept = bench.session.document.rig.pose(pose).unwrap().angles_deg.clone();
        assert_eq!(kept.keys().collect::<Vec<_>>(), ["heron.nape", "heron.throat"]);
        taught.push((pose, [bus(&bench).place(1).unwrap(), bus(&bench).place(2).unwrap()]));
    }
    for servo in ["heron.nape", "heron.throat"] {
        pick(&mut bench, servo);
        bench.text("e");
        bench.pass(30);
    }
    let mut rounds: [Vec<[f64; 2]>; 2] = [Vec::new(), Vec::new()];
    for round in &mut rounds {
        for (pose, _) in &taught {
            command(&mut bench, "go to pose");
            bench.enter(pose);
            bench.pass(400);
            round.push([bus(&bench).place(1).unwrap(), bus(&bench).place(2).unwrap()]);
        }
    }
    let apart = |a: &[f64; 2], b: &[f64; 2]| {
        (0..2).map(|n| (a[n] - b[n]).abs() / counts_a_degree).fold(0.0, f64::max)
    };
    for (n, (pose, by_hand)) in taught.iter().enumerate() {
        let (first, second) = (&rounds[0][n], &rounds[1][n]);
        assert!(apart(first, by_hand) < 2.0 * PLAY_DEG, "{pose}: {first:?}, taught {by_hand:?}");
        assert!(apart(first, second) < PLAY_DEG, "{pose}: {first:?} and again {second:?}");
    }
}
