//! What is found when a sequence is looked at, and how long it plays.

use super::*;
use proptest::prelude::*;
use wasvolta_core::power::Budget;
use wasvolta_core::review::{Review, Start};
use wasvolta_core::rig::{Index, Parts};
use wasvolta_core::sequence::Lasts;
use wasvolta_core::unit::Amps;

fn review(rig: &Rig) -> Review {
    Review::of(Parts { rig, index: &Index::of(rig) }, &Plan::of(rig), 0)
}

/// The three joints of `text` on a rail of so many amperes; a and c on one board, b on another, each as it draws.
fn on_a_rail(steps: &str, amps: f64) -> Rig {
    let mut text = text(&format!("[[sequence]]\nname = \"s\"\n{steps}"), [400.0; 3])
        .replace("address = 64\n", "address = 64\nrail = \"six\"\n[[board]]\nname = \"lower\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = 65\nrail = \"six\"\n")
        .replace("[[port]]\nname = \"bus\"", &format!("[[rail]]\nname = \"six\"\nvolts = 6\namps = {amps}\n[[port]]\nname = \"bus\""))
        .replacen("name = \"b\"\nboard = \"upper\"", "name = \"b\"\nboard = \"lower\"", 1);
    for (name, idle, moving, stall) in [("a", 0.1, 0.4, 1.0), ("b", 0.2, 0.7, 2.0), ("c", 0.1, 0.5, 1.5)] {
        let board = if name == "b" { "lower" } else { "upper" };
        let from = format!("name = \"{name}\"\nboard = \"{board}\"");
        let start = text.find(&from).unwrap();
        let rated = start + text[start..].find("s_per_60_deg = 0.006").unwrap();
        text.insert_str(rated, &format!("idle_a = {idle}, moving_a = {moving}, stall_a = {stall}, "));
    }
    rig_of(&text)
}

#[test]
fn a_rail_gives_the_most_while_the_most_move_and_says_who() {
    let steps = step("a30", "move_s = 1\ndwell_s = 1") + &step("far", "move_s = 1\ndwell_s = 1");
    let rig = on_a_rail(&steps, 8.0);
    let review = review(&rig);
    let [rail] = review.rails.as_slice() else { panic!("{:?}", review.rails) };
    let amps = |seconds: f64| rail.at(At::seconds_in(seconds)).get();
    // All three stand, a moves, all three stand, all three move: (0.1 + 0.2 + 0.1), + 0.3, and + 0.3 + 0.5 + 0.4 A.
    for (at, wanted) in [(0.5, 0.7), (1.5, 0.4), (2.5, 1.6), (3.5, 0.4)] {
        assert!((amps(at) - wanted).abs() < 1e-9, "{} at {at} s", amps(at));
    }
    assert!((rail.peak.get() - 1.6).abs() < 1e-9 && rail.at == At::seconds_in(2.0) && rail.who == [0, 1, 2]);
    assert_eq!(rail.playing(&rig), "≈ 1.6 A at 2.00 s while a, b, c move");
    assert!(rail.uncounted.is_empty() && !rail.is_tight());
    let budget = Budget::of(&rig, &rig.rails[0]);
    assert!(rail.peak <= budget.moving && rail.start.peak <= budget.stall);
}

#[test]
fn servos_start_one_after_another_on_each_board_and_boards_at_the_same_time() {
    let steps = step("far", "move_s = 1");
    let rig = on_a_rail(&steps, 8.0);
    let review_ = review(&rig);
    let rail = &review_.rails[0];
    // At first a (1.0 A) and b (2.0 A) together; then c (1.5 A), while those stand (0.1 and 0.2 A).
    assert!((rail.start.peak.get() - 3.0).abs() < 1e-9 && rail.start.who == [0, 1], "{:?}", rail.start);
    assert!(rail.starts_hardest() && rail.most() == rail.start.peak);
    assert_eq!(rail.worst(&rig), "≈ 3.0 A while a, b start");
    assert!(!rail.is_tight());
    assert!(review(&on_a_rail(&steps, 3.2)).rails[0].is_tight(), "more than nine tenths of 3.2 A");
    // On one board the last one is the worst: c, while a stands.
    let mut rig = rig;
    rig.servos[1].board = "upper".to_owned();
    rig.servos[1].channel = Some(9);
    rig.servos[1].rated.as_mut().unwrap().stall_a = Some(Amps::new(1.3));
    let start = &review(&rig).rails[0].start;
    assert!((start.peak.get() - 1.8).abs() < 1e-9 && start.who == [2], "{start:?}");
    // What nobody has rated is left out, and said.
    rig.servos[2].rated = None;
    let review_ = review(&rig);
    assert_eq!(review_.rails[0].uncounted, [2]);
    assert!((review_.rails[0].start.peak.get() - 1.4).abs() < 1e-9);
    // A lamp takes nothing when it is off.
    let lit = on_a_rail(&step("lit", "move_s = 1"), 8.0);
    assert_eq!(review(&lit).rails[0].start, Start::default());
}

#[test]
fn an_angle_beyond_an_endpoint_is_found_with_its_step_and_what_it_gets() {
    let steps = step("a30", "move_s = 1") + &step("far", "move_s = 1");
    let plain = text(&format!("[[sequence]]\nname = \"s\"\n{steps}"), [400.0; 3]);
    // Its endpoint of 2300 µs is at 80°.
    let limited = plain.replacen("endpoints_us = [500, 2500]", "endpoints_us = [500, 2300]", 1);
    let met = review(&rig_of(&limited)).met;
    let [one] = met.as_slice() else { panic!("{met:?}") };
    assert_eq!((one.sequence, one.step, one.servo), (0, 1, 0));
    assert!((one.asked.get() - 96.0).abs() < 1e-9 && (one.gets.get() - 80.0).abs() < 1e-9, "{one:?}");
    assert!(review(&rig_of(&plain)).met.is_empty());
}

#[test]
fn a_move_of_less_than_a_tick_is_found_and_one_of_more_is_not() {
    // One tick of 4.88 µs here is 0.49°.
    let fine = |angle: f64| {
        let own = format!("[[pose]]\nname = \"hair\"\nangles_deg = {{ a = {angle} }}\n");
        let steps = format!("{own}[[sequence]]\nname = \"s\"\n{}", step("hair", "move_s = 1"));
        review(&rig_of(&text(&steps, [400.0; 3]))).fine
    };
    let found = fine(0.3);
    let [one] = found.as_slice() else { panic!("{found:?}") };
    assert!(
        (one.moves.get() - 0.3).abs() < 1e-9 && one.least.get() > 0.45 && one.least.get() < 0.5,
        "{one:?}"
    );
    assert!(!one.slack && one.servo == 0 && one.step == 0);
    assert!(fine(0.6).is_empty());
}

#[test]
fn the_fastest_moment_of_each_joint_is_said_with_what_it_can() {
    // A cubic move of 30° in 1 s is fastest in its middle, at 45 °/s; a minimum jerk one of 75° in 1 s at 140.6 °/s.
    let steps = step("a30", "move_s = 1\neasing = \"cubic\"")
        + &step("zero", "move_s = 4")
        + &step("a75", "move_s = 1\neasing = \"minimum-jerk\"");
    let rig = rig_of(&text(&format!("[[sequence]]\nname = \"s\"\n{steps}"), [100.0; 3]));
    let peaks = review(&rig).peaks;
    let own = peaks.iter().find(|peak| peak.servo == 0).unwrap();
    assert!((own.speed - 75.0 * 1.875).abs() < 1e-6, "{own:?}");
}

#[test]
fn how_long_it_plays_counts_every_round_and_says_what_nobody_can_know() {
    let length = |more: &str| {
        let steps =
            step("a75", "label = \"x\"\nmove_s = 0.5") + &step("zero", "label = \"y\"\nmove_s = 0.5") + more;
        programs(&format!("[[sequence]]\nname = \"s\"\nparameters = {{ strokes = 3 }}\n{steps}"), [400.0; 3])
            [0]
        .lasts(&[3])
    };
    let looped = |times: &str| format!("[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\n{times}");
    assert_eq!(length(""), Lasts::Seconds(1.0));
    assert_eq!(length(&looped("times = 4")), Lasts::Seconds(4.0));
    assert_eq!(length(&looped("times = \"strokes\"")), Lasts::Seconds(3.0));
    assert_eq!(length(&looped("")), Lasts::Forever);
    let until = "until = { input = \"push\", pressed = true }";
    assert_eq!(length(&looped(until)), Lasts::Waits(1.0));
    assert_eq!(length(&looped(&format!("times = 4\n{until}"))), Lasts::Waits(4.0));
    assert_eq!(length(&wait("input = \"push\", pressed = true")), Lasts::Waits(1.0));
    assert_eq!(
        length(&wait("input = \"push\", pressed = true, at_most_s = 0")),
        Lasts::Seconds(1.0),
        "a test takes no time"
    );
}

#[test]
fn once_its_loop_is_to_end_only_the_rest_of_its_round_is_left() {
    let steps = step("a75", "label = \"x\"\nmove_s = 0.5")
        + &step("zero", "label = \"y\"\nmove_s = 0.5")
        + &step("b20", "label = \"z\"\nmove_s = 0.5")
        + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\ntimes = 5\n[[sequence.loop]]\nfrom = \"z\"\nto = \"z\"\ntimes = 4\n";
    let rig = rig(&format!("[[sequence]]\nname = \"s\"\n{steps}"));
    let program = Plan::of(&rig).programs.remove(0);
    let mut show = Show::of(&rig);
    show.play(0);
    show.beats(60);
    let left = |show: &Show| match show.player().unwrap().lasts(&program) {
        Lasts::Seconds(left) => left,
        other => panic!("{other:?}"),
    };
    assert!((left(&show) - (7.0 - 1.2)).abs() < 1e-6, "{}", left(&show));
    show.beat(&[Command::FinishLoop { sequence: 0 }]);
    // The rest of this round, and the last step once.
    assert!((left(&show) - (0.78 + 0.5)).abs() < 0.03, "{}", left(&show));
    let begun = show.now;
    let said = left(&show);
    show.until(|show| show.stands() == Play::Ended);
    let took = show.now.saturating_sub(begun).as_secs_f64();
    assert!((took - said).abs() < 0.03, "{said} s were said, and it took {took} s");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// At every beat what was played and what is left are the whole, whatever loops and calls there are.
    #[test]
    fn what_is_left_and_what_was_played_are_the_whole(text in super::twin::looped()) {
        let rig = rig_of(&super::text(&text, [10_000.0; 3]));
        let program = Plan::of(&rig).programs.remove(0);
        let Lasts::Seconds(whole) = program.lasts(&program.given) else { panic!("{:?}", program.lasts(&program.given)) };
        let mut show = Show::of(&rig);
        show.play(0);
        let mut played = 0.0;
        while show.stands() != Play::Ended {
            let Lasts::Seconds(left) = show.player().unwrap().lasts(&program) else { panic!("it lasts") };
            prop_assert!((played + left - whole).abs() < 1e-6, "{played} s played, {left} s left of {whole}");
            show.beat(&[]);
            played += 0.02;
        }
        prop_assert!((played - whole).abs() < 0.05, "{played} of {whole}");
    }
}
