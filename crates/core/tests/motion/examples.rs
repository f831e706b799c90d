//! The worked examples of moves, and what steps mean.

use super::*;
use wasvolta_core::sequence::Shape;

#[test]
fn together_the_slowest_sets_the_time() {
    let program =
        program(&(step("zero", "move_s = 1") + &step("far", "easing = \"linear\"")), [120.0, 60.0, 40.0]);
    assert!((program.step(1).unwrap().moves - 1.25).abs() < 1e-9);
    for (servo, speed) in [76.8, 28.0, 40.0].into_iter().enumerate() {
        assert!(((at(&program, servo, 2.0) - at(&program, servo, 1.5)) / 0.5 - speed).abs() < 1e-6);
    }
}

#[test]
fn by_speed_the_longest_way_sets_the_time_and_a_lamp_does_not() {
    let steps = step("zero", "move_s = 1") + &step("far", "speed_deg_s = 48\neasing = \"linear\"");
    let line = program(&steps, [400.0; 3]);
    assert!((line.step(1).unwrap().moves - 2.0).abs() < 1e-9, "96° at 48 °/s");
    let lit = "[[pose]]\nname = \"all\"\nangles_deg = { a = 30 }\nlevels_percent = { lamp = 100 }\n\
               [[sequence]]\nname = \"s\"\n[[sequence.step]]\npose = \"all\"\nspeed_deg_s = 30\n";
    assert!((programs(lit, [400.0; 3])[0].length() - 1.0).abs() < 1e-9);
    let lamp = program(&step("lit", "speed_deg_s = 50"), [400.0; 3]);
    assert!((lamp.length() - 2.0).abs() < 1e-9, "alone it has a speed of its own, in % a second");
}

#[test]
fn a_cubic_move_stands_at_44_0625_after_a_quarter_and_peaks_at_112_5() {
    let text = "[[pose]]\nname = \"to\"\nangles_deg = { a = 100 }\n[[sequence]]\nname = \"s\"\n".to_owned()
        + &step("a30", "move_s = 1")
        + "[[sequence.step]]\npose = \"to\"\nmove_s = 1.2\n";
    let program = programs(&text.replace("a = 100", "a = 120"), [500.0; 3]).remove(0);
    assert!((at(&program, 0, 1.3) - 44.0625).abs() < 1e-9);
    let segment = program.segments_of(program.track_of(0).unwrap())[1];
    let peak = segment.shape.peak_speed(segment.to - segment.from, segment.seconds());
    assert!((peak - 112.5).abs() < 1e-9);
}

#[test]
fn a_short_step_says_the_time_it_needs() {
    let rated = 60.0 / 0.14;
    assert!((rated - 428.571f64).abs() < 5e-4);
    for (easing, needs) in
        [("linear", 0.175), ("cubic", 0.2625), ("sine", 0.27489), ("minimum-jerk", 0.328125)]
    {
        let line = program(&step("a75", &format!("move_s = 0.1\neasing = \"{easing}\"")), [rated; 3]);
        assert_eq!(line.shorts().len(), 1);
        assert!((line.shorts()[0].needs - needs).abs() < 5e-6, "{easing} {}", line.shorts()[0].needs);
        let enough = step("a75", &format!("move_s = {}\neasing = \"{easing}\"", needs + 0.0005));
        assert!(program(&enough, [rated; 3]).shorts().is_empty());
        assert_eq!(program(&enough, [rated; 3]).shorts_at(1.5).len(), 1, "at that tempo it is");
    }
    let wide = "[[pose]]\nname = \"wide\"\nangles_deg = { a = -50 }\n[[pose]]\nname = \"wider\"\nangles_deg = { a = 60 }\n\
        [[sequence]]\nname = \"s\"\n[[sequence.step]]\npose = \"wide\"\nmove_s = 1\n\
        [[sequence.step]]\npose = \"wider\"\nmove_s = 0.2\neasing = \"linear\"\n";
    let line = programs(wide, [400.0; 3]).remove(0);
    assert!((line.shorts()[0].needs - 0.275).abs() < 1e-9, "110° at 0.15 s/60°");
}

#[test]
fn what_nobody_has_rated_is_judged_by_a_usual_speed_and_that_is_said() {
    let text = text(
        &format!("[[sequence]]\nname = \"s\"\n{}", step("a75", "move_s = 0.5\neasing = \"linear\"")),
        [400.0; 3],
    );
    let rated = "rated = { travel_deg = 200, pulses_us = [500, 2500], s_per_60_deg = 0.006 }\n";
    let unrated =
        text.replacen(rated, "", 1).replacen("home_deg = 0\nspeed_deg_s = 400\n", "home_deg = 0\n", 1);
    let plan = Plan::of(&rig_of(&unrated));
    let shorts = plan.programs[0].shorts();
    assert!(shorts.len() == 1 && shorts[0].assumed && (shorts[0].needs - 0.75).abs() < 1e-9, "{shorts:?}");
    assert_eq!(plan.programs[0].speed_of(0), (100.0, false));
    assert_eq!(plan.programs[0].speed_of(1), (400.0, true));
}

#[test]
fn a_step_without_a_time_gives_one_to_a_joint_that_nobody_has_named_before() {
    // It comes from its home.
    let line = program(&step("a75", "easing = \"linear\""), [150.0; 3]);
    assert!((line.length() - 0.5).abs() < 1e-9);
    // Without a home it is brought there before, and is not waited for.
    let text = text(
        &format!("[[sequence]]\nname = \"s\"\n{}{}", step("a75", ""), step("a30", "easing = \"linear\"")),
        [150.0; 3],
    );
    let homeless = text.replacen("home_deg = 0\n", "", 1);
    let line = Plan::of(&rig_of(&homeless)).programs.remove(0);
    assert!((line.length() - 0.3).abs() < 1e-9, "{}", line.length());
    assert_eq!(at(&line, 0, 0.0), 75.0);
}

#[test]
fn a_joint_that_no_pose_names_keeps_what_it_had() {
    let line = program(&(step("far", "move_s = 1\ndwell_s = 0.5") + &step("a75", "move_s = 1")), [500.0; 3]);
    assert_eq!(at(&line, 1, 2.5), 35.0);
    assert_eq!(line.tracks.len(), 3);
    assert_eq!(program(&step("a75", "move_s = 1"), [500.0; 3]).tracks.len(), 1, "b and c are not in it");
}

#[test]
fn lag_and_share_shift_one_joint_within_the_step() {
    let line = program(
        &(step("far", "move_s = 1\neasing = \"linear\"") + "joint = { a = { lag_s = 0.5, share = 0.5 } }\n"),
        [500.0; 3],
    );
    assert_eq!(at(&line, 0, 0.5), 0.0);
    assert!((at(&line, 0, 0.75) - 48.0).abs() < 1e-9);
    assert_eq!(at(&line, 0, 1.0), 96.0);
    assert!((at(&line, 1, 0.5) - 17.5).abs() < 1e-9);
}

#[test]
fn tempo_scales_time_and_never_space() {
    let steps = step("a30", "move_s = 1\ndwell_s = 0.5")
        + &step("far", "move_s = 2\njoint = { b = { lag_s = 0.5, share = 0.5 } }");
    let [plain, slow] =
        ["", "tempo_percent = 50\n"].map(|tempo| program(&format!("{tempo}{steps}"), [500.0; 3]));
    assert!((slow.length() - 2.0 * plain.length()).abs() < 1e-9);
    for n in 0..70 {
        for servo in 0..3 {
            let t = f64::from(n) * 0.05;
            assert!((at(&plain, servo, t) - at(&slow, servo, 2.0 * t)).abs() < 1e-6);
        }
    }
    // As fast as they can is that at any tempo.
    let fast =
        |tempo: &str| program(&format!("{tempo}{}", step("a75", "easing = \"linear\"")), [150.0; 3]).length();
    assert_eq!(fast("tempo_percent = 200\n"), fast(""));
}

#[test]
fn flow_passes_a_pose_without_stopping_and_stands_at_a_turn() {
    let flows = |pose: &str| step(pose, "move_s = 1\neasing = \"flow\"");
    let line = program(&(flows("a30") + &flows("a75") + &flows("zero")), [500.0; 3]);
    let speed = |t: f64| (at(&line, 0, t + 1e-5) - at(&line, 0, t - 1e-5)) / 2e-5;
    assert!((speed(1.0) - 37.5).abs() < 0.1, "{}", speed(1.0));
    assert!(speed(2.0).abs() < 0.1, "{}", speed(2.0));
    assert!((at(&line, 0, 1.0) - 30.0).abs() < 1e-9);
}

#[test]
fn flow_over_a_leg_of_no_time_or_of_half_a_share_stands_there() {
    let flows = |pose: &str, more: &str| step(pose, &format!("easing = \"flow\"\n{more}"));
    // The one in the middle takes no time: its neighbours begin and end at rest.
    let line = program(
        &(flows("a30", "move_s = 1") + &flows("a75", "move_s = 0") + &flows("far", "move_s = 1")),
        [500.0; 3],
    );
    let mut before = 0.0;
    for n in 0..=200 {
        let now = at(&line, 0, f64::from(n) * 0.01);
        assert!(now >= before - 1e-9, "it never runs back: {before} then {now}");
        before = now;
    }
    let half = flows("a30", "move_s = 1\njoint = { a = { share = 0.5 } }") + &flows("a75", "move_s = 1");
    let line = program(&half, [500.0; 3]);
    let shapes: Vec<Shape> = line.segments_of(line.track_of(0).unwrap()).iter().map(|s| s.shape).collect();
    assert_eq!(shapes, [Shape::Flow(0.0, 0.0); 2], "it stands between, so it slows down before");
    // Over a wait it does not flow either: who knows how long that takes.
    let waits = flows("a30", "move_s = 1") + &wait("key = \"g\"") + &flows("a75", "move_s = 1");
    let line = program(&waits, [500.0; 3]);
    assert!(line.segments_of(line.track_of(0).unwrap()).iter().all(|s| s.shape == Shape::Flow(0.0, 0.0)));
}

#[test]
fn a_trapezoid_has_an_acceleration_of_its_own() {
    let to = "[[pose]]\nname = \"to\"\nangles_deg = { a = 90 }\n[[sequence]]\nname = \"s\"\n[[sequence.step]]\npose = \"to\"\neasing = \"trapezoid\"\n";
    let of = |more: &str| programs(&format!("{to}{more}\n"), [200.0, 200.0, 200.0]).remove(0);
    assert!((of("accel_deg_s2 = 800").length() - 0.7).abs() < 1e-9, "90°, 200 °/s, 800 °/s²");
    let longer = of("accel_deg_s2 = 800\nmove_s = 0.8");
    let segment = longer.segments_of(&longer.tracks[0])[0];
    assert!((segment.shape.peak_speed(90.0, 0.8) - 145.64).abs() < 5e-3);
    assert!((segment.shape.peak_acceleration(90.0, 0.8) - 800.0).abs() < 1e-6);
    assert!(longer.shorts().is_empty());
    let short = of("accel_deg_s2 = 800\nmove_s = 0.5");
    assert!((short.shorts()[0].needs - 0.7).abs() < 1e-9);
    // The joint's own holds where it is less.
    let text = text(&format!("{to}accel_deg_s2 = 5000\n"), [200.0; 3]).replacen(
        "speed_deg_s = 200\n",
        "speed_deg_s = 200\naccel_deg_s2 = 800\n",
        1,
    );
    assert!((Plan::of(&rig_of(&text)).programs[0].length() - 0.7).abs() < 1e-9);
}

#[test]
fn a_loop_begins_where_its_last_round_has_ended() {
    let steps = step("far", "move_s = 1\nlabel = \"a\"")
        + &step("a30", "move_s = 1\nlabel = \"b\"")
        + "[[sequence.loop]]\nfrom = \"a\"\nto = \"b\"\ntimes = 3\n";
    let line = program(&steps, [500.0; 3]);
    let track = line.track_of(0).unwrap();
    let start = line.step(0).unwrap().starts;
    let of = |round: u32, t: f64| {
        let mut counts = NONE;
        counts[0] = round;
        line.at(track, At::seconds_in(start + t), &counts, &mut 0).get()
    };
    assert_eq!((of(0, 0.0), of(1, 0.0), of(2, 0.0)), (0.0, 30.0, 30.0));
    assert!((of(0, 0.5) - 48.0).abs() < 1e-6 && (of(1, 0.5) - 63.0).abs() < 1e-6);
    assert_eq!((of(0, 1.0), of(1, 1.0), of(1, 2.0)), (96.0, 96.0, 30.0));
    // b stays at 35° from the first round on.
    let b = line.track_of(1).unwrap();
    let mut counts = NONE;
    counts[0] = 1;
    assert_eq!(line.at(b, At::seconds_in(start + 0.5), &counts, &mut 0).get(), 35.0);
}

#[test]
fn as_fast_as_they_can_in_a_loop_is_enough_for_every_round() {
    let steps = step("a-40", "move_s = 1")
        + &step("a30", "label = \"l\"\neasing = \"linear\"")
        + &step("far", "move_s = 1\nlabel = \"m\"")
        + "[[sequence.loop]]\nfrom = \"l\"\nto = \"m\"\n";
    let line = program(&steps, [100.0; 3]);
    // In the first round it comes from −40°, later from 96°.
    assert!((line.step(1).unwrap().moves - 0.7).abs() < 1e-9, "{:?}", line.step(1));
    let steps = steps.replace("pose = \"a-40\"", "pose = \"a30\"");
    assert!((program(&steps, [100.0; 3]).step(1).unwrap().moves - 0.66).abs() < 1e-9);
}

#[test]
fn a_call_is_laid_out_with_its_tempo_and_its_parameters() {
    let text = "[[sequence]]\nname = \"outer\"\n[[sequence.step]]\npose = \"a30\"\nmove_s = 1\n\
        [[sequence.step]]\nplay = \"inner\"\nwith = { strokes = 2 }\n[[sequence.step]]\npose = \"zero\"\nmove_s = 1\n\
        [[sequence]]\nname = \"inner\"\ntempo_percent = 200\nparameters = { strokes = 5 }\n\
        [[sequence.step]]\nlabel = \"x\"\npose = \"a75\"\nmove_s = 1\n[[sequence.step]]\nlabel = \"y\"\npose = \"b20\"\nmove_s = 3\n\
        [[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\ntimes = \"strokes\"\n";
    let all = programs(text, [500.0; 3]);
    let (outer, inner) = (&all[0], &all[1]);
    assert!((inner.length() - 2.0).abs() < 1e-6 && (outer.length() - 4.0).abs() < 1e-6);
    assert_eq!(outer.laid_out(1).len(), 2);
    assert!(outer.laid_out(1).iter().all(|step| (step.sequence, step.depth, step.tempo) == (1, 1, 2.0)));
    assert!(
        (at(outer, 0, 1.5) - 75.0).abs() < 1e-6 && (at(outer, 0, 1.0) - 30.0).abs() < 1e-6,
        "it goes on from 30°"
    );
    assert_eq!(&*inner.given, [5]);
    assert_eq!(
        (
            outer.step_at(At::seconds_in(0.5)),
            outer.step_at(At::seconds_in(1.5)),
            outer.step_at(At::seconds_in(3.5))
        ),
        (0, 1, 2)
    );
}

#[test]
fn joints_that_begin_and_arrive_together_each_keep_their_own_easing() {
    let own = "joint = { b = { easing = \"cubic\" }, c = { easing = \"minimum-jerk\" } }";
    let steps = step("far", &format!("move_s = 1\neasing = \"linear\"\n{own}"));
    let mut show = Show::of(&rig(&format!("[[sequence]]\nname = \"s\"\n{steps}")));
    show.play(0);
    show.until(|show| show.seconds() > 0.239);
    let t = show.seconds();
    let wanted =
        [96.0 * t, 35.0 * t * t * (3.0 - 2.0 * t), 50.0 * t * t * t * (10.0 - 15.0 * t + 6.0 * t * t)];
    for (servo, wanted) in wanted.into_iter().enumerate() {
        assert!((show.angle(servo) - wanted).abs() < 1e-9, "{servo}: {} and not {wanted}", show.angle(servo));
    }
}
