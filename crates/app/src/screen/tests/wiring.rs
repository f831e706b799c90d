//! The Wiring view: who is on which pin, and which link of a chain is broken.

use super::Bench;
use crate::screen::dialog::Dialog;
use crate::screen::keys::Key;
use crossterm::event::KeyCode;
use std::time::Duration;
use wasvolta_core::rig::Back;
use wasvolta_core::rig::edit::joint;
use wasvolta_core::stage::{Command, Output};
use wasvolta_core::unit::Position;
use wasvolta_engine::why::{Verdict, first_not_proven};

fn wiring() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(1));
    bench
}

/// The demo with faults from the start.
fn faulty(faults: &[&str]) -> Bench {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("marsh-clock.rig.toml");
    std::fs::write(&path, include_str!("../../../../../examples/marsh-clock.rig.toml")).unwrap();
    let sim = include_str!("../../../../../examples/marsh-clock.sim.toml");
    std::fs::write(folder.path().join("marsh-clock.sim.toml"), sim).unwrap();
    Bench::with_faults(&path, folder, faults)
}

impl Bench {
    pub(super) fn engage(&mut self, servo: usize, pulse: f64) {
        self.tell(Command::Engage { servo, pulse: Position::new(pulse), stands_there: true });
        self.pass(10);
    }

    /// The first link that is not proven: its name, and whether it has failed.
    fn broken(&self) -> (&'static str, bool) {
        let links = self.model.scene(&self.session).chain().unwrap();
        let link = first_not_proven(links).unwrap();
        assert!(!link.words.is_empty() && !link.help.is_empty(), "{link:?}");
        (link.name, link.verdict == Verdict::Failed)
    }

    /// Lets beats pass with a look at the screen in each.
    pub(super) fn watch(&mut self, beats: u32) {
        (0..beats).for_each(|_| self.pass(1));
    }

    /// Lets a look be taken, which another thread does.
    fn look_around(&mut self) {
        self.press(Key::char('L'));
        while self.session.runner.lookout.is_looking() {
            self.pass(1);
        }
        self.pass(1);
    }
}

#[test]
fn boards_are_drawn_with_who_is_on_them() {
    let mut bench = wiring();
    bench.code(KeyCode::PageUp);
    bench.code(KeyCode::PageUp);
    bench.engage(0, 1500.0);
    bench.look_around();
    bench.pass(400);
    // As many beats passed as the look took: what was told before it is not drawn.
    bench.model.course.clear();
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        insta::assert_snapshot!(format!("wiring_{columns}x{rows}"), uncounted(&bench.frame(columns, rows)));
    }
}

/// A frame with the last digits before `good` left out: a look takes a beat more or less.
fn uncounted(frame: &str) -> String {
    let mut parts: Vec<String> = frame.split(" good and").map(str::to_owned).collect();
    let last = parts.len() - 1;
    for part in &mut parts[..last] {
        let kept = part.trim_end_matches(|c: char| c.is_ascii_digit()).len();
        part.replace_range(kept.., "###");
    }
    parts.join(" good and")
}

#[test]
fn each_fault_of_the_simulated_bench_is_found_at_its_link() {
    // What is wrong, the link that must be named, and whether it is seen to be broken.
    let cases = [
        ("no-bus", "path", true),
        ("denied", "permission", true),
        ("held", "other holder", true),
        ("absent", "address", true),
        ("pulled", "address", true),
        ("silent", "address", true),
        ("wrong-chip", "chip", true),
        ("asleep", "awake", true),
        ("resets", "awake", true),
        ("other-rate", "frame rate", true),
        ("overwritten", "registers", true),
        ("rail-dip", "supply", false),
        ("plug-out@0x40:1", "supply", false),
    ];
    for (fault, link, failed) in cases {
        let mut bench = faulty(&[fault]);
        // A board that asks has the keys.
        bench.model.view = crate::screen::wiring::VIEW;
        bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
        bench.engage(0, 1500.0);
        bench.pass(200);
        assert_eq!(bench.broken(), (link, failed), "{fault}");
        let screen = bench.frame(160, 47);
        assert!(screen.contains(&format!("simulated fault: {fault}")), "{fault}\n{screen}");
    }
}

#[test]
fn a_chain_that_the_program_itself_holds_up_is_named_too() {
    let mut bench = wiring();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.pass(1);
    assert_eq!(bench.broken(), ("output", true), "nothing is engaged");
    assert!(bench.frame(160, 47).contains("nobody drives it → nothing is sent"), "{}", bench.frame(160, 47));
    bench.engage(1, 1200.0);
    assert_eq!(bench.broken(), ("engaged", true), "another one is");
    bench.engage(0, 2100.0);
    assert_eq!(bench.broken(), ("supply", false), "all that can be seen is well");
    // Its limit of 60° is at 2104 µs.
    bench.tell(Command::Jog { servo: 0, by: Position::new(50.0), repeat: false });
    bench.tell(Command::GoTo { servo: 0, pulse: Position::new(2200.0) });
    bench.pass(50);
    bench.session.runner.engine.command(Command::Hold);
    bench.pass(2);
    assert_eq!(bench.broken(), ("output", true), "held");
    bench.session.runner.engine.stop().cut();
    bench.pass(2);
    assert_eq!(bench.model.snapshot.output, Output::Cut);
    assert_eq!(bench.broken(), ("output", true), "cut");
}

#[test]
fn a_sequence_that_wants_more_than_a_limit_allows_is_named_at_the_pulse() {
    let mut bench = Bench::with(|rig| {
        rig.replace(
            "high = { angle_deg = 60, reason = \"the cable in",
            "high = { angle_deg = 56, reason = \"the cable in",
        )
        .replace("angles_deg = [0, 40]", "angles_deg = [0, 80]")
    });
    bench.code(KeyCode::F(1));
    bench.model.pick_servo(&bench.session.document.rig.clone(), 1);
    bench.engage(1, 1200.0);
    bench.session.runner.sender("dial").unwrap().turn("a0", 1.0);
    bench.press(Key::char('g'));
    bench.pass(300);
    assert_eq!(bench.broken(), ("pulse", true));
    let screen = bench.frame(160, 47);
    assert!(screen.contains("it is at its limit"), "{screen}");
    // Why it is there, from the knob to the wire.
    assert!(screen.contains("limit +42.0°"), "{screen}");
}

#[test]
fn up_and_down_go_through_the_channels_and_left_and_right_to_the_board_beside() {
    let mut bench = wiring();
    assert_eq!((bench.plug(), bench.picked()), ((0, 4), 2), "where the picked servo is");
    bench.code(KeyCode::Down);
    assert_eq!((bench.plug(), bench.picked()), ((0, 5), 2));
    assert!(bench.frame(160, 47).contains("Channel 5 of upper is free. a adds a servo here"));
    bench.code(KeyCode::Right);
    assert_eq!(bench.plug(), (1, 5));
    for _ in 0..4 {
        bench.code(KeyCode::Up);
    }
    assert_eq!((bench.plug(), bench.picked()), ((1, 1), 4), "the boom");
    bench.code(KeyCode::Up);
    bench.code(KeyCode::Up);
    assert_eq!(bench.plug(), (0, 15), "the board before");
    bench.code(KeyCode::Left);
    bench.code(KeyCode::PageUp);
    assert_eq!((bench.plug(), bench.picked()), ((0, 14), 6), "the servo above is picked by its own key");
    bench.text("5");
    assert_eq!(bench.model.dialog, None);
}

#[test]
fn a_servo_is_added_on_the_picked_channel() {
    let mut bench = wiring();
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Down);
    bench.press(Key::char('a'));
    bench.text("crane.jib");
    bench.code(KeyCode::Enter);
    let jib = bench.session.document.rig.servo("crane.jib").unwrap();
    assert_eq!((jib.board.as_str(), jib.plug()), ("lower", 5));
}

#[test]
fn a_board_that_was_found_is_added_as_it_is() {
    let mut bench = Bench::with(|rig| {
        // The rig does not know the lower board, nor who is on it.
        let start = rig.find("# Its jumper A0 is closed.").unwrap();
        let end = rig.find("[[board]]\nname = \"desk\"").unwrap();
        let servos = rig.find("[[servo]]\nname = \"crane.slew\"").unwrap();
        let joints = rig.find("[[joint]]\nname = \"heron.neck\"").unwrap();
        let crane = rig.find("[[joint]]\nname = \"punt.pole\"").unwrap();
        let input = rig.find("[[link]]").unwrap();
        let lift = rig.find("# The crane swings out").unwrap();
        let pole = rig.find("[[mapping]]\nname = \"punt.rudder\"").unwrap();
        let poses = rig.find("[[pose]]").unwrap();
        let known = |line: &&str| !line.contains("marsh.moon");
        let rest = [&rig[input..pole], &rig[poses..lift]].concat();
        let rest = rest.lines().filter(known).collect::<Vec<_>>().join("\n");
        [&rig[..start], &rig[end..servos], &rig[joints..crane], &rest].concat()
    });
    bench.code(KeyCode::F(1));
    bench.look_around();
    let before = bench.session.document.rig.clone();
    assert!(bench.frame(160, 47).contains("0x41 PWM expander, asleep"), "{}", bench.frame(160, 47));
    bench.pass(400);
    assert!(bench.frame(160, 47).contains("0x41 answers on sim:bench-bus and is not in this rig: N adds it"));
    bench.press(Key::char('N'));
    bench.enter("lower");
    let added = bench.session.document.rig.board("lower").unwrap().clone();
    assert_eq!((added.address, added.port.as_str()), (Some(0x41), "bench-bus"));
    bench.pass(30);
    assert!(bench.frame(160, 47).contains("lower started"), "{}", bench.frame(160, 47));
    assert!(bench.frame(160, 47).contains("A5□ A4□ A3□ A2□ A1□ A0■"));
    // Renamed and taken out by the palette; junk is refused in words.
    for (command, words) in [("rename board", "crane"), ("remove board", "")] {
        bench.press(Key::char(':'));
        bench.enter(command);
        bench.enter(words);
    }
    assert!(
        bench.session.document.rig.board("lower").is_none()
            && bench.session.document.rig.board("crane").is_none()
    );
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert_eq!(bench.session.document.rig, before);
    bench.press(Key::char('N'));
    bench.text("third");
    bench.code(KeyCode::Tab);
    bench.enter("0x70");
    assert!(bench.frame(160, 47).contains("all-call"), "{}", bench.frame(160, 47));
}

#[test]
fn a_swap_releases_both_and_engages_them_one_by_one_where_their_channels_stood() {
    let mut bench = wiring();
    bench.engage(0, 1300.0);
    bench.engage(1, 1200.0);
    bench.pass(20);
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.act("swap plugs");
    assert!(bench.frame(160, 47).contains("heron.neck is on the channel of heron.beak"));
    bench.code(KeyCode::Enter);
    let state = |bench: &Bench, n: usize| bench.model.snapshot.servos[n];
    assert_eq!(
        (bench.session.document.rig.servos[0].plug(), bench.session.document.rig.servos[1].plug()),
        (2, 1)
    );
    assert!(!state(&bench, 0).engaged && !state(&bench, 1).engaged, "released first");
    let mut engaged = Vec::new();
    for beat in 0..30 {
        bench.pass(1);
        for n in [0, 1] {
            if state(&bench, n).engaged && !engaged.iter().any(|(m, _)| *m == n) {
                engaged.push((n, beat));
            }
        }
    }
    assert_eq!(engaged.iter().map(|(n, _)| *n).collect::<Vec<_>>(), [0, 1]);
    assert!(engaged[1].1 - engaged[0].1 >= 4, "80 ms apart: {engaged:?}");
    // Each goes on where its channel's last pulse was.
    assert!((state(&bench, 0).pulse.get() - 1200.0).abs() < 3.0, "{:?}", state(&bench, 0).pulse);
    assert!((state(&bench, 1).pulse.get() - 1300.0).abs() < 3.0, "{:?}", state(&bench, 1).pulse);
    bench.act("swap plugs");
    bench.enter("heron.tail");
    assert!(bench.frame(160, 47).contains("no servo is called \"heron.tail\""));
}

#[test]
fn a_released_servo_is_asked_about_before_it_wiggles() {
    let mut bench = wiring();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.press(Key::char('w'));
    assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })));
    bench.code(KeyCode::Enter);
    bench.pass(10);
    bench.press(Key::char('w'));
    bench.pass(5);
    assert!(bench.model.snapshot.servos[0].is_wiggling());
    assert!(bench.frame(160, 47).contains("wiggles"));
    bench.pass(200);
    assert!(!bench.model.snapshot.servos[0].is_wiggling());
}

#[test]
fn servos_are_named_one_by_one_as_they_wiggle() {
    let mut bench = wiring();
    for servo in 0..2 {
        bench.engage(servo, 1200.0);
    }
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.act("name by wiggling");
    bench.pass(2);
    assert!(bench.model.snapshot.servos[0].is_wiggling());
    bench.enter("heron.throat");
    bench.pass(5);
    assert_eq!(bench.session.document.rig.servos[0].name, "heron.throat");
    assert!(bench.model.snapshot.servos[1].is_wiggling(), "and on to the next");
    bench.code(KeyCode::Enter);
    bench.pass(5);
    // The third is not engaged: it is asked about first.
    assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })) && bench.picked() == 2);
    bench.code(KeyCode::Enter);
    bench.pass(10);
    assert!(bench.model.snapshot.servos[2].is_wiggling());
    bench.code(KeyCode::Esc);
    bench.watch(10);
    assert_eq!(bench.model.dialog, None, "Esc ends it");
}

#[test]
fn all_are_engaged_one_after_another_and_the_unknown_are_asked_about() {
    let mut bench = wiring();
    bench.engage(0, 1400.0);
    bench.press(Key::char('r'));
    bench.tell(Command::Release { servo: 0 });
    bench.pass(10);
    bench.press(Key::char('A'));
    bench.watch(40);
    assert!(bench.model.snapshot.servos[0].engaged, "where it was left");
    for servo in 1..5 {
        assert_eq!(bench.picked(), servo);
        assert!(matches!(bench.model.dialog, Some(Dialog::Engage { .. })), "{servo} is not known");
        bench.code(KeyCode::Enter);
        bench.watch(20);
    }
    assert_eq!(bench.picked(), 5);
    assert!(bench.frame(160, 47).contains("crane.winch gets 1480 µs"), "what turns is asked about too");
    bench.code(KeyCode::Enter);
    bench.watch(20);
    // The pole, which stands last in the rig.
    bench.code(KeyCode::Enter);
    bench.watch(20);
    assert!(bench.model.snapshot.servos.iter().all(|s| s.engaged));
    bench.press(Key::char('A'));
    assert!(bench.frame(160, 47).contains("all of them are engaged already"));
}

#[test]
fn a_cut_ends_what_was_under_way() {
    let mut bench = wiring();
    bench.press(Key::char('A'));
    bench.watch(2);
    bench.session.runner.engine.stop().cut();
    bench.watch(3);
    bench.code(KeyCode::Esc);
    bench.watch(3);
    assert!(!bench.model.errands.give_up(), "nothing is left to be done");
    assert!(bench.model.snapshot.servos.iter().all(|s| !s.engaged));
}

#[test]
fn a_board_that_was_pulled_comes_back_with_a_line_for_each_servo() {
    let mut bench = wiring();
    // One goes on from its last pulse, whatever fell; the other is asked about.
    bench.session.edit("back", |rig| joint::set_back(rig, "crane.slew", Some(Back::Last))).unwrap();
    bench.pass(2);
    for servo in [3, 4] {
        bench.engage(servo, 1500.0);
    }
    bench.press(Key::char(':'));
    bench.enter("simulated fault");
    bench.enter("pulled@0x41");
    bench.pass(250);
    assert!(bench.frame(160, 47).contains("lower: nothing answers"));
    // What is behind a cut wire is what was told last, and no more is said.
    bench.model.pick_servo(&bench.session.document.rig.clone(), 3);
    bench.code(KeyCode::F(2));
    let frame = bench.frame(160, 47);
    assert!(frame.contains("last sent") && !frame.contains("on the wire"), "{frame}");
    bench.code(KeyCode::F(1));
    bench.press(Key::char(':'));
    bench.enter("simulated fault");
    bench.enter("pulled@0x41");
    bench.watch(300);
    let log: Vec<&str> = bench.model.log.iter().map(|(_, words)| words.as_str()).collect();
    let from = log.iter().position(|words| *words == "lower: nothing answers").unwrap();
    assert_eq!(
        log[from..],
        [
            "lower: nothing answers",
            "lower is back; it had restarted: its supply dipped, or its plug is loose",
            "crane.slew lost its pulses for a while: it glides on from its last one",
            "crane.boom lost its pulses and may have moved: e asks where it stands",
            "crane.slew engaged again",
        ]
    );
    bench.model.pick_servo(&bench.session.document.rig.clone(), 4);
    assert!(bench.frame(160, 47).contains("crane.boom lost its pulses"), "{}", bench.frame(160, 47));
    assert!(bench.now > Duration::from_secs(5));
}

#[test]
fn a_replaced_servo_keeps_limits_and_poses_and_its_marks_go_to_a_card() {
    let mut bench = wiring();
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    bench.engage(0, 1500.0);
    bench.press(Key::char(':'));
    bench.enter("replace servo");
    assert!(bench.frame(160, 47).contains("it is engaged: release it first with r"));
    bench.press(Key::char('r'));
    let before = bench.session.document.rig.clone();
    for suffix in ["", "-2"] {
        bench.press(Key::char(':'));
        bench.enter("replace servo");
        assert!(bench.frame(160, 47).contains("Its marks and endpoints go to a card"));
        bench.code(KeyCode::Enter);
        let name = format!("heron.neck-{}{suffix}.servo.toml", crate::date::today());
        let card = std::fs::read_to_string(bench.folder.path().join(&name)).unwrap();
        assert_eq!(card.matches("[[mark]]").count(), if suffix.is_empty() { 5 } else { 0 });
        assert!(bench.frame(160, 47).contains(&name));
    }
    let neck = bench.session.document.rig.servo("heron.neck").unwrap();
    assert!(neck.marks.is_empty() && bench.session.document.rig.poses == before.poses);
    assert_eq!(bench.session.document.rig.joint_of("heron.neck"), before.joint_of("heron.neck"));
    bench.pass(3);
    assert!(bench.frame(160, 47).contains("off"), "where the new one stands is not known");
    bench.press(Key::char('u'));
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before);
}

#[test]
fn a_joint_that_is_told_so_goes_home_before_the_end_and_nobody_must_wait_for_it() {
    let home_first = |rig: &str| rig.replacen("home_deg = 0\n", "home_deg = 0\nquit = \"home-first\"\n", 1);
    let mut bench = Bench::with(home_first);
    bench.engage(0, 2000.0);
    bench.press(Key::char('q'));
    assert!(bench.frame(160, 47).contains("heron.neck goes home first, then it quits; q quits at once"));
    assert!(!bench.model.quit);
    bench.watch(150);
    assert!(bench.model.quit);
    let home = bench.session.runner.edition.plan.servos[0].home.unwrap();
    assert!((bench.model.snapshot.servos[0].pulse - home).abs().get() < 0.5);
    let mut bench = Bench::with(home_first);
    bench.engage(0, 2000.0);
    bench.press(Key::char('q'));
    bench.press(Key::char('q'));
    assert!(bench.model.quit, "the second time it does not wait");
    // Nothing to wait for: released, or cut.
    let mut bench = Bench::with(home_first);
    bench.press(Key::char('q'));
    assert!(bench.model.quit);
    bench.code(KeyCode::F(1));
    assert!(bench.frame(160, 47).contains("heron.neck home first, then all are"));
}

/// Stops a stand-in when it goes.
struct Ends<'a>(&'a std::sync::atomic::AtomicBool);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.store(true, std::sync::atomic::Ordering::SeqCst);
    }
}

#[test]
fn a_serial_port_is_asked_by_a_key_that_says_what_it_may_do() {
    let (far, near) = wasvolta_sim::pty::pair().unwrap();
    let clock: std::sync::Arc<dyn wasvolta_port::Clock> =
        std::sync::Arc::new(wasvolta_port::WallClock::default());
    let board = wasvolta_sim::Bench::new(&wasvolta_sim::Truth::default(), 1, clock).firmata("line");
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|threads| {
        threads.spawn(|| wasvolta_sim::serve::firmata(&board, &far, &stop));
        let _ends_however_this_ends = Ends(&stop);
        let mut bench = wiring();
        bench.act("ask serial port");
        assert!(bench.frame(160, 47).contains("opening it resets many boards: servos on it twitch"));
        bench.enter("sim:knob");
        assert!(bench.frame(160, 47).contains("sim:knob is knob-line of this rig"));
        for _ in 0.."sim:knob".len() {
            bench.code(KeyCode::Backspace);
        }
        bench.enter(near.to_str().unwrap());
        while bench.model.in_wiring.answer.is_none() {
            bench.pass(1);
            std::thread::yield_now();
        }
        assert!(
            bench.frame(160, 47).contains("at 57600 baud speaks Firmata 2.7"),
            "{}",
            bench.frame(160, 47)
        );
    });
}

#[test]
fn a_board_is_added_on_a_path_that_the_rig_did_not_know_and_its_rail_is_told() {
    let mut bench = wiring();
    bench.press(Key::char('N'));
    for word in ["far", "0x42", "sim:other-bus", "pwm"] {
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    insta::assert_snapshot!(
        "add_board",
        bench.frame(100, 30).lines().rev().take(4).collect::<Vec<_>>().join("\n")
    );
    bench.code(KeyCode::Enter);
    let rig = bench.session.document.rig.clone();
    let (board, port) = (rig.board("far").unwrap(), rig.port("bus").unwrap());
    assert_eq!((board.port.as_str(), port.path.as_str(), port.baud), ("bus", "sim:other-bus", None));
    bench.pass(60);
    assert!(bench.frame(160, 47).contains("far started"), "{}", bench.frame(160, 47));
    // A servo on it is driven at once.
    bench.press(Key::char('a'));
    for word in ["reeds.sway", "3", "far", "positional"] {
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    bench.code(KeyCode::Enter);
    let servo = bench.session.document.rig.servos.len() - 1;
    bench.engage(servo, 1500.0);
    bench.pass(20);
    assert!(bench.model.snapshot.servos[servo].ticks().is_some() && bench.session.runner.simulated.is_some());
    assert_eq!(bench.broken(), ("supply", false), "everything up to what no program sees is proven");
    // Its rail: a new one, with what it gives; a wrong number is refused in words.
    bench.press(Key::char(':'));
    bench.enter("rail of the board");
    for word in ["twelve", "a lot", "3"] {
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("volts: write a number, as on the supply"));
    bench.code(KeyCode::Tab);
    bench.text("12 V");
    bench.code(KeyCode::Enter);
    let rail = bench.session.document.rig.rails.last().unwrap();
    assert_eq!((rail.name.as_str(), rail.volts.get(), rail.amps.get()), ("twelve", 12.0, 3.0));
    assert_eq!(bench.session.document.rig.board("far").unwrap().rail.as_deref(), Some("twelve"));
    assert!(bench.frame(160, 47).contains("12 V 3 A"), "{}", bench.frame(160, 47));
    // What cannot be: another rate on a port that is there, a board on a line of numbers.
    for (place, kind, words) in [
        ("sim:other-bus@9600", "pwm", "bus is there already, at another rate"),
        ("knob-line", "firmata", "a link stands on knob-line"),
    ] {
        bench.press(Key::char('N'));
        for word in ["none", "0x43", place, kind] {
            bench.text(word);
            bench.code(KeyCode::Tab);
        }
        bench.code(KeyCode::Enter);
        assert!(bench.frame(160, 47).contains(words), "{}", bench.frame(160, 47));
        bench.code(KeyCode::Esc);
    }
    // Undone as a whole, and made again on another path: the name of the first is not taken for it.
    bench.press(Key::char('r'));
    for _ in 0..3 {
        bench.press(Key::char('u'));
    }
    assert!(
        bench.session.document.rig.port("bus").is_none() && bench.session.document.rig.board("far").is_none()
    );
    bench.press(Key::char('N'));
    for word in ["reeds", "0x40", "sim:reeds", "firmata"] {
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    bench.code(KeyCode::Enter);
    assert_eq!(bench.session.document.rig.board("reeds").unwrap().port, "line");
    bench.pass(250);
    assert!(bench.frame(160, 47).contains("reeds started"), "{}", bench.frame(160, 47));
}

/// The demo whose upper board pulses already, as a program that was killed has left it, behind a port of another kind.
fn left_pulsing() -> Bench {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("marsh-clock.rig.toml");
    let rig = include_str!("../../../../../examples/marsh-clock.rig.toml");
    let first = "[[port]]\nname = \"chips\"\nkind = \"pwm\"\npath = \"sim:chips\"\n\n\
                 [[board]]\nname = \"chips\"\nport = \"chips\"\nchip = \"linux-pwm\"\n\n[[port]]";
    std::fs::write(&path, rig.replacen("[[port]]", first, 1)).unwrap();
    let sim = include_str!("../../../../../examples/marsh-clock.sim.toml");
    let running = sim.replacen("oscillator_hz", "running = [[1, 310], [5, 250]]\noscillator_hz", 1);
    assert_ne!(sim, running);
    std::fs::write(folder.path().join("marsh-clock.sim.toml"), running).unwrap();
    let mut bench = Bench::with_faults(&path, folder, &[]);
    bench.pass(10);
    bench
}

#[test]
fn pulses_that_are_found_are_asked_about_by_their_board_and_said_until_they_have_stopped() {
    let mut bench = left_pulsing();
    let frame = bench.frame(160, 47);
    assert!(frame.contains("upper sends pulses already, on channel 1, 5. a keeps them"), "{frame}");
    assert!(frame.contains(" LEFT ON ") && frame.contains("✗ upper pulses"), "the headline says so: {frame}");
    bench.code(KeyCode::Esc);
    bench.code(KeyCode::F(1));
    bench.model.pick_servo(&bench.session.document.rig.clone(), 0);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("it was found sending pulses") && frame.contains("✗ 1513 µs"), "{frame}");
    assert!(frame.contains("left│"), "nor is it off in the roster: {frame}");
    assert!(frame.contains("F keeps or releases them"), "{frame}");
    bench.code(KeyCode::F(2));
    let frame = bench.frame(160, 47);
    assert!(frame.contains("left on      310 ticks") && !frame.contains("no pulse"), "{frame}");
    bench.press(Key::char('F'));
    assert!(bench.frame(160, 47).contains("upper sends pulses already"), "asked again");
    bench.code(KeyCode::Esc);
    // Cut, asked or not; and only what was read back is said.
    bench.session.runner.engine.stop().cut();
    bench.pass(1);
    bench.pass(5);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("Output is cut: no pulses, and no smart servo is stiff."), "{frame}");
    assert!(!frame.contains("✗ upper pulses"), "{frame}");
}

#[test]
fn a_cut_that_a_board_out_of_reach_cannot_confirm_says_so() {
    let mut bench = wiring();
    bench.engage(3, 1500.0);
    bench.press(Key::char(':'));
    bench.enter("simulated fault");
    bench.enter("pulled@0x41");
    bench.pass(50);
    bench.session.runner.engine.stop().cut();
    bench.pass(400);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("crane.slew          ?"), "what it does is not known: {frame}");
    assert!(
        frame.contains("Output is cut, but whether lower still pulses cannot be seen: unplug the supply"),
        "{frame}"
    );
}

#[test]
fn found_pulses_are_kept_and_their_servos_go_on_from_there() {
    let mut bench = left_pulsing();
    bench.press(Key::char('a'));
    bench.pass(10);
    let state = bench.model.snapshot.servos[0];
    assert!(state.engaged && state.ticks().is_some_and(|ticks| ticks.0 == 310), "{state:?}");
    // What nobody in the rig is on is stopped.
    let upper = bench.session.document.rig.board("upper").unwrap().id;
    let board = bench.session.runner.edition.board_state(&bench.model.snapshot, upper).unwrap();
    assert_eq!(board.sent.get(5), None);
}

#[test]
fn a_servo_on_a_pin_that_cannot_drive_one_is_refused_with_the_pins_that_can() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("reeds.rig.toml");
    let rig = "format = 12\nname = \"Reeds\"\n[[port]]\nname = \"line\"\nkind = \"serial\"\npath = \"sim:line\"\n\
               [[board]]\nname = \"reeds\"\nport = \"line\"\nchip = \"firmata\"\n\
               [[servo]]\nname = \"reeds.sway\"\nboard = \"reeds\"\nchannel = 1\n";
    std::fs::write(&path, rig).unwrap();
    let mut bench = Bench::with_faults(&path, folder, &[]);
    bench.code(KeyCode::F(2));
    bench.pass(60);
    bench.press(Key::char('o'));
    bench.pass(3);
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains(
            "its board cannot drive it: :move servo moves it to a pin that can; those that can: 2–19"
        ),
        "{frame}"
    );
    let state = bench.model.snapshot.servos[0];
    assert!(!state.engaged && state.ticks().is_none(), "{state:?}");
}
