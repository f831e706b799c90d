//! Every goal by its worked examples.

use super::*;

#[test]
fn a_joint_goes_between_its_ends_and_both_are_reached_to_the_last_bit() {
    let mut bench = Bench::of(&rig(
        "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [31.3, -29.7] }\n",
    ));
    for (stick, angle) in [(-1.0, 31.3), (1.0, -29.7), (7.0, -29.7)] {
        bench.set(STICK, stick).settle();
        assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, angle), "{stick}");
        assert_eq!(bench.owner(NECK), Owner::Mapping);
    }
    bench.set(STICK, 0.5).settle();
    assert!((bench.angle(NECK) - (31.3 + 0.75 * (-29.7 - 31.3))).abs() < 1e-9);
}

#[test]
fn shares_are_added_by_weight_and_clipped_and_how_much_is_shown() {
    let mut bench =
        Bench::of(&rig("[[mapping]]\nname = \"turn\"\nfrom = { stick = 1, pad = -0.5, knob = 0.25 }\n\
         to = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n"));
    // The knob runs from 0 to 1, and counts from -1 to 1: in its middle it adds nothing.
    bench.set(STICK, 0.4).set(PAD, 0.2).settle();
    assert!((bench.angle(NECK) - 30.0 * (0.4 - 0.1)).abs() < 1e-9);
    bench.set(KNOB, 1.0).settle();
    assert!((bench.angle(NECK) - 30.0 * (0.4 - 0.1 + 0.25)).abs() < 1e-9);
    bench.set(STICK, 1.0).set(PAD, -1.0).settle();
    let state = bench.stage.mappings()[0];
    assert_eq!((state.sum, bench.angle(NECK)), (1.0, 30.0));
    assert!((state.clipped - 0.75).abs() < 1e-12, "{}", state.clipped);
}

#[test]
fn a_course_of_points_may_turn_back() {
    let mut bench = Bench::of(&rig(
        "[[mapping]]\nname = \"nod\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", points = [[-1, -20], [0, 25], [1, -10]] }\n",
    ));
    for (stick, angle) in [(-1.0, -20.0), (-0.5, 2.5), (0.0, 25.0), (0.5, 7.5), (1.0, -10.0)] {
        bench.set(STICK, stick).settle();
        assert!((bench.angle(NECK) - angle).abs() < 1e-9, "{stick}: {}", bench.angle(NECK));
    }
}

#[test]
fn an_input_in_degrees_needs_no_span_and_the_joint_stays_inside_its_limits() {
    let mut bench = Bench::of(&rig(
        "[[mapping]]\nname = \"vane\"\nfrom = { vane = 1 }\nto = { joint = \"heron.neck\" }\n",
    ));
    for (vane, angle) in [(-22.5, -22.5), (34.0, 34.0), (50.0, 35.0), (-90.0, -35.0)] {
        bench.set(VANE, vane).settle();
        assert!((bench.angle(NECK) - angle).abs() < 1e-9, "{vane}");
    }
    // What lies beyond its ends is kept to be said.
    assert!((bench.stage.inputs()[VANE].stages.clipped + 30.0).abs() < 1e-9);
}

#[test]
fn a_lamp_has_a_level_and_a_continuous_servo_a_rate() {
    let mut bench = Bench::of(&rig(
        "[[mapping]]\nname = \"glow\"\nfrom = { knob = 1 }\nto = { level = \"marsh.moon\", levels_percent = [20, 80] }\n\
         [[mapping]]\nname = \"hoist\"\nfrom = { stick = 1 }\nto = { rate = \"crane.winch\", levels_percent = [-50, 50] }\n",
    ));
    bench.set(KNOB, 0.25).set(STICK, 0.5).settle();
    assert!((bench.angle(MOON) - 35.0).abs() < 1e-9 && (bench.angle(WINCH) - 25.0).abs() < 1e-9);
    bench.set(STICK, 0.0).settle();
    assert_eq!(bench.pulse(WINCH), 1480.0, "at rest it gets its stop pulse");
    // A lost link stops it whatever it was told last, and leaves a lamp.
    bench.set(STICK, 1.0).settle();
    bench.hand = false;
    bench.beats(200);
    assert_eq!((bench.pulse(WINCH), bench.owner(WINCH)), (1480.0, Owner::LostMapping));
    assert!((bench.angle(MOON) - 35.0).abs() < 1e-9);
}

#[test]
fn a_rate_goes_on_from_where_the_joint_is_stops_at_limits_and_when_it_is_lost() {
    let text = "[[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.neck\", rates_deg_s = [-40, 40] }\n";
    let mut bench = Bench::of(&rig(text));
    assert_eq!(bench.pulse(NECK), 1500.0, "a stick at rest moves nothing");
    bench.set(STICK, 0.5).beats(50);
    // A second at 20 °/s.
    assert!((bench.angle(NECK) - 20.0).abs() < 1e-6, "{}", bench.angle(NECK));
    bench.set(STICK, 0.0).beats(20);
    let stands = bench.pulse(NECK);
    bench.beats(100);
    assert_eq!(bench.pulse(NECK), stands);
    bench.set(STICK, 1.0).beats(200);
    assert!((bench.angle(NECK) - 35.0).abs() < 1e-9, "no further than its limit");
    // There is nothing to unwind: it comes back at once.
    bench.set(STICK, -1.0);
    assert!((bench.step(NECK) + 8.0).abs() < 1e-6, "40 °/s are 8 µs a beat");
    bench.hand = false;
    bench.beats(60);
    let lost = bench.pulse(NECK);
    bench.beats(60);
    assert_eq!((bench.pulse(NECK), bench.owner(NECK)), (lost, Owner::LostMapping));
    bench.hand = true;
    bench.set(STICK, 0.0).beats(60);
    assert_eq!(
        (bench.pulse(NECK), bench.owner(NECK)),
        (lost, Owner::Mapping),
        "it comes back where it stands"
    );
}

#[test]
fn a_rate_turns_a_joint_the_same_way_whichever_way_its_servo_turns() {
    let text = "[[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.beak\", rates_deg_s = [-40, 40] }\n";
    let mut bench = Bench::of(&rig(text));
    bench.set(STICK, 0.25).beats(50);
    assert!((bench.angle(BEAK) - 10.0).abs() < 1e-6, "{}", bench.angle(BEAK));
    assert!(bench.pulse(BEAK) < 1500.0, "its pulse falls");
}

#[test]
fn behind_a_linkage_it_is_the_joint_that_turns_at_the_rate() {
    let linkage = "linkage = { horn_mm = 16, rod_mm = 50, arm_mm = 22, pivots_mm = 52, horn_at_deg = 90 }";
    let mapping = "[[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.beak\", rates_deg_s = [-20, 20] }\n";
    let text = format!("{PARTS}{mapping}")
        .replace("name = \"heron.beak\"\nboard", &format!("name = \"heron.beak\"\n{linkage}\nboard"));
    let Loaded::Sound(rig) = load(&text) else { panic!("{:?}", load(&text)) };
    for stick in [0.5, -0.5] {
        let mut bench = Bench::of(&rig);
        let before = bench.angle(BEAK);
        bench.set(STICK, stick).beats(50);
        let turned = bench.angle(BEAK) - before;
        assert!((turned - 20.0 * stick).abs() < 0.1, "{turned} for {stick}");
    }
}

#[test]
fn a_blend_at_its_ends_is_the_pose_to_the_last_bit_and_moves_what_all_poses_name() {
    let text = "[[mapping]]\nname = \"gaze\"\nfrom = { knob = 1 }\nto = { blend = [\"rest\", \"look\"] }\n";
    let mut bench = Bench::of(&rig(text));
    for (knob, angles) in [(0.0, [-12.3, 7.1, 10.0]), (1.0, [22.7, -15.9, 90.0])] {
        bench.set(KNOB, knob).settle();
        for (servo, angle) in [NECK, BEAK, MOON].into_iter().zip(angles) {
            assert_eq!(bench.pulse(servo), bench.pulse_of(servo, angle), "{knob} {servo}");
        }
    }
    bench.set(KNOB, 0.3).settle();
    assert!((bench.angle(NECK) - (-12.3 + 0.3 * 35.0)).abs() < 1e-9);
    assert_eq!(bench.owner(WINCH), Owner::Home, "no pose names it");
}

#[test]
fn a_blend_goes_along_a_row_of_poses_and_moves_only_the_joints_that_it_is_told() {
    let text = "[[mapping]]\nname = \"gaze\"\nfrom = { knob = 1 }\n\
                to = { blend = [\"rest\", \"look\", \"bow\"], joints = [\"heron.neck\"] }\n";
    let mut bench = Bench::of(&rig(text));
    for (knob, angle) in [(0.0, -12.3), (0.5, 22.7), (0.75, 11.9), (1.0, 1.1)] {
        bench.set(KNOB, knob).settle();
        assert!((bench.angle(NECK) - angle).abs() < 1e-9, "{knob}: {}", bench.angle(NECK));
    }
    assert_eq!((bench.owner(BEAK), bench.owner(MOON)), (Owner::Rest, Owner::Home));
}

#[test]
fn each_press_of_a_toggle_goes_to_the_other_pose_and_takes_its_time() {
    let text = "[[mapping]]\nname = \"snap\"\nfrom = { push = 1 }\nto = { toggle = [\"rest\", \"look\"], joints = [\"heron.neck\"], over_s = 2 }\n";
    let mut bench = Bench::of(&rig(text));
    let press = |bench: &mut Bench| {
        bench.set(PUSH, 1.0).beats(3);
        bench.set(PUSH, 0.0).beats(3);
    };
    bench.settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, -12.3), "not pressed yet");
    press(&mut bench);
    bench.beats(44);
    // Halfway in time, eased: halfway there.
    assert!((bench.angle(NECK) - 5.2).abs() < 1.5, "{}", bench.angle(NECK));
    bench.settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, 22.7));
    // Held down it is one press.
    bench.set(PUSH, 1.0).settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, -12.3));
    bench.set(PUSH, 0.0).settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, -12.3));
    // An edit in between presses nothing, and forgets nothing.
    press(&mut bench);
    let rig = rig(&text.replace("over_s = 2", "over_s = 1"));
    bench.stage.swap(Prepared::new(Plan::of(&rig)));
    bench.settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, 22.7));
}
