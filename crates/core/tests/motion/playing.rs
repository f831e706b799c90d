//! How a sequence plays: loops, waits, jumps, pauses, tempo, ends.

use super::*;
use wasvolta_core::stage::{Among, Given, Owner};

const TO_AND_FRO: &str = "[[sequence]]\nname = \"s\"\n[[sequence.step]]\nlabel = \"x\"\npose = \"a30\"\nmove_s = 0.5\n\
    [[sequence.step]]\nlabel = \"y\"\npose = \"zero\"\nmove_s = 0.5\n";

#[test]
fn it_begins_when_its_joints_are_where_it_begins() {
    let mut show = Show::of(&rig(TO_AND_FRO));
    show.beat(&[Command::GoTo { servo: 0, pulse: Position::new(1800.0) }]);
    show.beats(100);
    show.beat(&[Command::GiveBack { servo: 0 }, Command::Play { sequence: 0 }]);
    assert_eq!(show.stands(), Play::Leading);
    show.beats(10);
    assert!(show.stands() == Play::Leading && show.seconds() == 0.0 && show.angle(0) < 30.0);
    show.until(|show| show.stands() == Play::Playing);
    assert!(show.angle(0).abs() < 0.2, "{}", show.angle(0));
    show.until(|show| show.stands() == Play::Ended);
    assert_eq!(show.told.iter().map(|told| told.0).collect::<Vec<_>>(), [Told::Starts, Told::Ended]);
}

#[test]
fn from_home_it_begins_at_once_and_takes_its_own_time() {
    let mut show = Show::of(&rig(TO_AND_FRO));
    show.play(0);
    show.beats(50);
    assert_eq!(show.stands(), Play::Ended);
    assert!(show.stage.servos()[0].owner == Owner::Sequence, "its last pose is kept");
}

#[test]
fn a_lead_in_takes_its_time_but_never_more_speed_than_there_is() {
    for (lead_in, least, most) in [(2.0, 1.9, 2.2), (0.1, 0.2, 0.4)] {
        let text = TO_AND_FRO.replace("name = \"s\"\n", &format!("name = \"s\"\nlead_in_s = {lead_in}\n"));
        let mut show = Show::of(&rig_of(&super::text(&text, [100.0; 3])));
        show.beat(&[Command::GoTo { servo: 0, pulse: Position::new(1800.0) }]);
        show.beats(100);
        show.beat(&[Command::GiveBack { servo: 0 }, Command::Play { sequence: 0 }]);
        let begun = show.now;
        show.until(|show| show.stands() == Play::Playing);
        let took = show.now.saturating_sub(begun).as_secs_f64();
        assert!((least..most).contains(&took), "30° at 100 °/s, in {lead_in} s: {took} s");
    }
}

#[test]
fn a_loop_is_played_as_often_as_it_says_or_as_it_is_given() {
    let looped = TO_AND_FRO.replace("name = \"s\"\n", "name = \"s\"\nparameters = { strokes = 2 }\n")
        + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\ntimes = \"strokes\"\n";
    let length = |given: Option<u16>| {
        let mut show = Show::of(&rig(&looped));
        let mut values = Given::default();
        values.values[0] = given;
        show.beat(&[Command::PlayFrom { sequence: 0, at: None, given: values, one_step: false }]);
        let begun = show.now;
        show.until(|show| show.stands() == Play::Ended);
        show.now.saturating_sub(begun).as_secs_f64()
    };
    assert!((length(None) - 2.0).abs() < 0.05 && (length(Some(5)) - 5.0).abs() < 0.05);
    assert!(length(Some(0)) < 0.1, "not at all");
}

#[test]
fn after_ten_thousand_rounds_every_position_is_the_same_to_the_bit() {
    let looped = TO_AND_FRO.to_owned() + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\n";
    let mut show = Show::of(&rig(&looped));
    show.play(0);
    show.beats(51);
    let round: Vec<u64> = (0..50)
        .map(|_| {
            show.beat(&[]);
            show.pulse(0).get().to_bits()
        })
        .collect();
    show.beats(50 * 10_000);
    assert!(show.player().unwrap().counts[0] > 10_000);
    for (n, wanted) in round.iter().enumerate() {
        show.beat(&[]);
        assert_eq!(show.pulse(0).get().to_bits(), *wanted, "beat {n}");
    }
}

#[test]
fn to_finish_a_loop_is_to_play_it_to_its_end_and_go_on_behind_it() {
    let looped = TO_AND_FRO.to_owned()
        + &step("a75", "move_s = 0.5")
        + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\n";
    let mut show = Show::of(&rig(&looped));
    show.play(0);
    show.beats(110);
    show.beat(&[Command::FinishLoop { sequence: 0 }]);
    show.until(|show| show.stands() == Play::Ended);
    assert!((show.angle(0) - 75.0).abs() < 1e-9);
}

#[test]
fn a_wait_goes_on_when_its_button_is_pressed_long_enough_and_says_so() {
    let text = TO_AND_FRO.to_owned()
        + &wait("input = \"push\", pressed = true, held_s = 0.2")
        + &step("a75", "move_s = 0");
    let mut show = Show::of(&rig(&text));
    show.play(0);
    show.until(|show| show.stands() == Play::Waiting);
    show.beats(100);
    assert!(show.angle(0).abs() < 1e-9, "a step of no time behind it has not begun");
    show.says[0] = 1.0;
    show.beats(5);
    show.says[0] = 0.0;
    show.beats(20);
    assert_eq!(show.stands(), Play::Waiting, "not long enough");
    show.says[0] = 1.0;
    show.until(|show| show.stands() == Play::Ended);
    show.beats(50);
    assert!((show.angle(0) - 75.0).abs() < 1e-9);
    let told: Vec<Told> = show.told.iter().map(|told| told.0).collect();
    assert_eq!(told, [Told::Starts, Told::Waits, Told::GoesOn, Told::Ended]);
    assert!((show.told[1].1 - 1.0).abs() < 1e-6, "with the place where it was: {:?}", show.told);
}

#[test]
fn a_wait_for_an_arrival_goes_on_when_all_have_arrived_and_not_before() {
    // 96° at 40 °/s take 2.4 s, though the step asks for none: 2° before its end they have arrived.
    let steps = |how: &str| {
        "[[sequence]]\nname = \"s\"\n".to_owned()
            + &step("zero", "move_s = 0.5")
            + &step("far", "move_s = 0")
            + &wait(how)
            + &step("zero", "move_s = 3")
    };
    let play = |how: &str| {
        let mut show = Show::of(&rig_of(&text(&steps(how), [40.0, 400.0, 400.0])));
        show.play(0);
        show.until(|show| show.stands() == Play::Waiting);
        let waits = show.now;
        show.until(|show| show.stands() != Play::Waiting);
        let lasted = show.now.saturating_sub(waits).as_secs_f64();
        (lasted, show.angle(0), show.told.last().unwrap().0)
    };
    let (lasted, angle, told) = play("arrived_deg = 2, at_most_s = 5");
    assert!(
        (lasted - 2.35).abs() < 0.1 && angle >= 94.0 && told == Told::GoesOn,
        "{lasted} {angle} {told:?}"
    );
    let (longer, closer, _) = play("arrived_deg = 0.5, at_most_s = 5, held_s = 0.3");
    assert!(longer > lasted + 0.3 && closer > 95.9, "{longer} {closer}");
    let (given_up, angle, told) = play("arrived_deg = 2, at_most_s = 0.5");
    assert!((given_up - 0.5).abs() < 0.03 && angle < 25.0 && told == Told::InVain, "{given_up} {angle}");
}

#[test]
fn a_smart_servo_that_says_nothing_has_not_arrived() {
    let smart = "[[board]]\nname = \"bus\"\nport = \"line\"\nchip = \"smart-bus\"\nlayout = \"twelve-bit\"\n\
                 [[servo]]\nname = \"d\"\nkind = \"smart\"\nboard = \"bus\"\nid = 1\nendpoints_counts = [1000, 3000]\n\
                 rated = { travel_deg = 360, counts = [0, 4096] }\nmarks = [{ counts = 2048, angle_deg = 0 }]\n\
                 [[joint]]\nname = \"d\"\nservo = \"d\"\nhome_deg = 0\n\
                 [[pose]]\nname = \"d30\"\nangles_deg = { d = 30 }\n\
                 [[pose]]\nname = \"d0\"\nangles_deg = { d = 0 }\n[[sequence]]\nname = \"s\"\n"
        .to_owned();
    let steps = smart
        + &step("d0", "move_s = 0.5")
        + &step("d30", "move_s = 1")
        + &wait("arrived_deg = 2, at_most_s = 0.6");
    // A port has one use: the micro's line is not wanted here.
    let text = text(&steps, [400.0; 3]).replace("[[link]]\nname = \"micro\"\non = \"line\"", "[[port]]\nname = \"other\"\nkind = \"serial\"\npath = \"z\"\n[[link]]\nname = \"micro\"\non = \"other\"");
    let mut show = Show::of(&rig_of(&text));
    show.play(0);
    show.until(|show| show.stands() == Play::Waiting);
    show.until(|show| show.stands() != Play::Waiting);
    assert_eq!(show.told.iter().rev().find(|told| told.0 != Told::Ended).unwrap().0, Told::InVain);
}

#[test]
fn whoever_is_in_the_hand_is_not_waited_for() {
    let steps = "[[sequence]]\nname = \"s\"\n".to_owned()
        + &step("zero", "move_s = 0.5")
        + &step("far", "move_s = 0")
        + &wait("arrived_deg = 2, at_most_s = 5");
    let mut show = Show::of(&rig_of(&text(&steps, [40.0, 400.0, 400.0])));
    show.play(0);
    show.until(|show| show.stands() == Play::Waiting);
    show.beat(&[Command::Jog { servo: 0, by: Position::new(1.0), repeat: false }]);
    show.beats(30);
    assert_eq!(show.stands(), Play::Ended, "b and c are there, and a is in the hand");
}

#[test]
fn a_wait_in_vain_goes_on_ends_or_jumps() {
    let of = |then: &str| {
        let text = TO_AND_FRO.replacen("label = \"x\"", "label = \"top\"", 1)
            + &wait(&format!("input = \"gap\", above = 0.5, at_most_s = 0.4{then}"))
            + &step("a75", "move_s = 0.5");
        let mut show = Show::of(&rig(&text));
        show.play(0);
        show.until(|show| show.stands() == Play::Waiting);
        let waits = show.now;
        show.until(|show| show.stands() != Play::Waiting);
        assert!((show.now.saturating_sub(waits).as_secs_f64() - 0.4).abs() < 0.03);
        assert_eq!(show.told.last().unwrap().0, Told::InVain);
        show
    };
    let mut on = of("");
    on.until(|show| show.stands() == Play::Ended);
    assert!((on.angle(0) - 75.0).abs() < 1e-9);
    let mut end = of(", then = \"end\"");
    end.until(|show| show.stands() == Play::Ended);
    assert!(end.angle(0).abs() < 1e-6 || end.angle(0) <= 75.0);
    let mut again = of(", then = \"jump\", to = \"top\"");
    again.until(|show| show.stands() == Play::Waiting);
    assert_eq!(again.told.iter().filter(|told| told.0 == Told::Waits).count(), 2);
    // Once the knob is up it goes on.
    again.says[1] = 0.9;
    again.until(|show| show.stands() == Play::Ended);
}

#[test]
fn a_test_takes_no_time_and_a_key_is_heard_while_it_is_waited_for() {
    let text = TO_AND_FRO.to_owned()
        + &wait("input = \"gap\", below = 0.5, at_most_s = 0, then = \"jump\", to = \"key\"")
        + &step("a75", "move_s = 0.5")
        + "[[sequence.step]]\nlabel = \"key\"\nwait_for = { key = \"g\" }\n";
    let mut low = Show::of(&rig(&text));
    low.play(0);
    low.until(|show| show.stands() == Play::Waiting);
    assert!((low.angle(0) - 75.0).abs() < 1e-9);
    let mut high = Show::of(&rig(&text));
    high.says[1] = 0.9;
    high.beat(&[Command::Play { sequence: 0 }, Command::Key { key: 'g' }]);
    high.until(|show| show.stands() == Play::Waiting);
    assert!(high.angle(0).abs() < 1e-9, "the step between is left out");
    high.beats(20);
    assert_eq!(high.stands(), Play::Waiting, "a key pressed before does not count");
    high.beat(&[Command::Key { key: 'h' }]);
    high.beats(2);
    assert_eq!(high.stands(), Play::Waiting);
    high.beat(&[Command::Key { key: 'g' }]);
    high.beats(2);
    assert_eq!(high.stands(), Play::Ended);
}

#[test]
fn a_loop_ends_when_what_ends_it_is_so_once_its_round_is_over() {
    let text = TO_AND_FRO.to_owned()
        + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\nuntil = { input = \"gap\", above = 0.5 }\n";
    let mut show = Show::of(&rig(&text));
    show.play(0);
    show.beats(260);
    show.says[1] = 1.0;
    show.beats(10);
    assert_eq!(show.stands(), Play::Playing);
    show.until(|show| show.stands() == Play::Ended);
    assert_eq!(show.angle(0), 0.0);
}

#[test]
fn while_something_is_waited_for_what_turns_stops_unless_the_wait_has_an_end() {
    for (more, turns) in [("", false), (", at_most_s = 60", true)] {
        let text = format!(
            "[[sequence]]\nname = \"s\"\n{}{}",
            step("wind", "move_s = 0.5\ndwell_s = 0.5"),
            wait(&format!("input = \"push\", pressed = true{more}"))
        );
        let mut show = Show::of(&rig(&text));
        show.play(0);
        show.beats(40);
        assert!(show.angle(4) > 40.0, "{}", show.angle(4));
        show.until(|show| show.stands() == Play::Waiting);
        show.beats(60);
        assert_eq!(show.angle(4) > 40.0, turns, "{}", show.angle(4));
        show.beat(&[Command::Pause]);
        show.beats(60);
        assert!(show.angle(4).abs() < 1e-9, "standing still it stops in any case");
    }
}

#[test]
fn it_pauses_and_goes_on_and_plays_step_by_step() {
    let mut show = Show::of(&rig(TO_AND_FRO));
    let one_step = |at| Command::PlayFrom { sequence: 0, at, given: Given::default(), one_step: true };
    show.beat(&[one_step(Some(Duration::ZERO))]);
    show.until(|show| show.stands() == Play::Paused);
    assert!((show.seconds() - 0.5).abs() < 1e-9 && (show.angle(0) - 30.0).abs() < 1e-9);
    show.beats(20);
    show.beat(&[one_step(None)]);
    show.beats(10);
    show.beat(&[Command::Pause]);
    let stands = show.angle(0);
    show.beats(20);
    assert_eq!(show.angle(0), stands);
    show.play(0);
    show.until(|show| show.stands() == Play::Ended);
    assert_eq!(show.angle(0), 0.0);
}

#[test]
fn the_tempo_changes_while_it_plays_and_nothing_jumps() {
    let looped = TO_AND_FRO.to_owned() + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\n";
    let mut show = Show::of(&rig(&looped));
    show.play(0);
    let mut before = show.angle(0);
    for n in 0..400u32 {
        let percent = [10.0, 400.0, 100.0, 35.0][usize::try_from(n / 7 % 4).unwrap()];
        show.beat(&[Command::Tempo { percent }]);
        // 30° in half a second, cubic, is 90 °/s at 100 %.
        assert!((show.angle(0) - before).abs() <= 90.0 * 4.0 * 0.02 + 1e-6);
        before = show.angle(0);
    }
    show.beat(&[Command::Tempo { percent: 5.0 }]);
    assert_eq!(show.stage.tempo(), 4.0, "less than a tenth is none");
}

#[test]
fn what_becomes_of_its_joints_at_the_end() {
    let of = |at_end: &str| {
        let text = TO_AND_FRO
            .replace("pose = \"zero\"", "pose = \"a75\"")
            .replace("name = \"s\"\n", &format!("name = \"s\"\nat_end = \"{at_end}\"\n"));
        let mut show = Show::of(&rig(&text));
        show.play(0);
        show.beats(60);
        show
    };
    let mut home = of("home");
    assert_eq!(home.stands(), Play::Stopped);
    home.beats(200);
    assert!(home.stage.servos()[0].owner == Owner::Home && home.angle(0).abs() < 1e-9);
    let release = of("release");
    assert!(release.stage.servos()[0].ticks().is_none() && release.stage.servos()[1].ticks().is_some());
    let mut again = of("again");
    assert_eq!(again.stands(), Play::Leading, "it goes back to where it begins first");
    again.until(|show| show.stands() == Play::Playing);
    again.beat(&[Command::FinishLoop { sequence: 0 }]);
    again.until(|show| show.stands() == Play::Stopped || show.stands() == Play::Ended);
}

#[test]
fn only_one_joint_or_all_but_one_is_moved_and_the_others_stay() {
    let text = format!("[[sequence]]\nname = \"s\"\n{}", step("far", "move_s = 1"));
    let rig = rig(&text);
    let a = rig.servos[0].id;
    for (among, moved) in [(Among::Only(a), [true, false, false]), (Among::Without(a), [false, true, true])] {
        let mut show = Show::of(&rig);
        show.beat(&[Command::Play { sequence: 0 }, Command::Among { sequence: 0, among }]);
        show.beats(80);
        let is = [0, 1, 2].map(|servo| show.angle(servo).abs() > 1.0);
        assert_eq!(is, moved, "{among:?}");
        show.beat(&[Command::Among { sequence: 0, among: Among::All }]);
        show.beats(150);
        assert_eq!([0, 1, 2].map(|servo| show.angle(servo).round()), [96.0, 35.0, 50.0]);
    }
}

#[test]
fn an_edit_while_it_plays_does_not_jump_and_stays_in_its_step() {
    let mut show = Show::of(&rig(TO_AND_FRO));
    show.play(0);
    show.beats(36);
    let (at, stands) = (show.seconds(), show.angle(0));
    assert!((at - 0.7).abs() < 0.03);
    let longer = TO_AND_FRO.replacen("move_s = 0.5", "move_s = 2", 1);
    show.stage.swap(Prepared::new(Plan::of(&rig(&longer))));
    assert!((show.seconds() - 1.5 - at).abs() < 1e-6, "as far in its second step: {}", show.seconds());
    show.beat(&[]);
    assert!((show.angle(0) - stands).abs() < 3.0);
    // Other poses, a step more: wherever it is then, it gets there with a glide.
    let other = TO_AND_FRO.replace("pose = \"zero\"", "pose = \"far\"") + &step("zero", "move_s = 1");
    show.stage.swap(Prepared::new(Plan::of(&rig(&other))));
    let mut before = [0, 1, 2].map(|servo| show.angle(servo));
    for _ in 0..100 {
        show.beat(&[]);
        let now = [0, 1, 2].map(|servo| show.angle(servo));
        for (now, before) in now.iter().zip(&before) {
            assert!((now - before).abs() <= 400.0 * 0.02 + 1e-6);
        }
        before = now;
    }
}
