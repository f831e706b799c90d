//! When a mapping holds, how it meets what it moves, what becomes of that when a link is lost, and what presses do.

use super::*;

fn wake() -> SequenceId {
    rig("").sequences[0].id
}

#[test]
fn what_is_pressed_while_a_toggle_does_not_hold_turns_nothing_round() {
    let text = "[[mapping]]\nname = \"snap\"\nfrom = { push = 1 }\nto = { toggle = [\"rest\", \"look\"], joints = [\"heron.neck\"] }\n\
                while = { input = \"mode\", position = 2 }\n";
    let mut bench = Bench::of(&rig(text));
    for _ in 0..3 {
        bench.set(PUSH, 1.0).beats(3);
        bench.set(PUSH, 0.0).beats(3);
    }
    bench.set(MODE, 1.0).settle();
    assert_eq!(bench.pulse(NECK), bench.pulse_of(NECK, -12.3));
}

#[test]
fn of_several_mappings_of_a_joint_the_one_holds_whose_position_the_switch_has_and_the_change_is_a_glide() {
    let text = "[[mapping]]\nname = \"left\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n\
                while = { input = \"mode\", position = 1 }\n\
                [[mapping]]\nname = \"right\"\nfrom = { pad = 1 }\nto = { joint = \"heron.neck\", angles_deg = [30, -30] }\n\
                while = { input = \"mode\", position = 2 }\n";
    let mut bench = Bench::of(&rig(text));
    bench.set(STICK, 0.5).set(PAD, 0.5).settle();
    assert!((bench.angle(NECK) - 15.0).abs() < 1e-9);
    bench.set(MODE, 1.0);
    // 60 °/s are 12 µs a beat.
    bench.beat(&[]);
    assert!((bench.step(NECK) + 12.0).abs() < 1e-6 && bench.stage.servos()[NECK].gliding);
    bench.settle();
    assert!((bench.angle(NECK) + 15.0).abs() < 1e-9);
    // At the third position nobody has it: it goes home.
    bench.set(MODE, 2.0).settle();
    assert_eq!((bench.owner(NECK), bench.angle(NECK).round()), (Owner::Home, 3.0));
    let stands: Vec<Stand> = bench.stage.mappings().iter().map(|state| state.stand).collect();
    assert_eq!(stands, [Stand::Waits, Stand::Waits]);
    // When the switch itself is not heard, what held last does as told for a lost link, and the other still waits.
    bench.set(MODE, 1.0).settle();
    bench.hand = false;
    bench.beats(60);
    let stands: Vec<Stand> = bench.stage.mappings().iter().map(|state| state.stand).collect();
    assert_eq!((stands, bench.owner(NECK)), (vec![Stand::Waits, Stand::Lost], Owner::LostMapping));
}

#[test]
fn one_share_that_is_lost_is_enough_to_be_lost() {
    let text = "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1, pad = 0.2 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n";
    let mut bench = Bench::of(&rig(text));
    bench.set(STICK, 0.5).settle();
    bench.radio = false;
    bench.beats(60);
    assert_eq!(bench.owner(NECK), Owner::LostMapping);
    let stands = bench.pulse(NECK);
    bench.set(STICK, -1.0).beats(60);
    assert_eq!(bench.pulse(NECK), stands, "the stick alone moves nothing");
}

#[test]
fn a_lost_link_leaves_releases_brings_home_or_elsewhere_as_told() {
    let with = |told: &str, of_rig: &str| {
        let mapping = "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n";
        let text = format!("{PARTS}{mapping}{told}").replacen(
            "name = \"Marsh\"",
            &format!("name = \"Marsh\"\n{of_rig}"),
            1,
        );
        let Loaded::Sound(rig) = load(&text) else { panic!("{:?}", load(&text)) };
        let mut bench = Bench::of(&rig);
        bench.set(STICK, 1.0).settle();
        bench.hand = false;
        bench.beats(30);
        let noted = bench.stage.servos()[NECK].engaged;
        bench.settle();
        (bench, noted)
    };
    let (stays, _) = with("", "");
    assert_eq!((stays.angle(NECK), stays.owner(NECK)), (30.0, Owner::LostMapping));
    for (told, of_rig) in [("when_lost = \"home\"\n", ""), ("", "when_lost = \"home\"\n")] {
        let (home, _) = with(told, of_rig);
        assert!((home.angle(NECK) - 3.0).abs() < 1e-9 && home.owner(NECK) == Owner::LostMapping);
    }
    let (own, _) = with("when_lost = \"stay\"\n", "when_lost = \"home\"\n");
    assert_eq!(own.angle(NECK), 30.0, "the mapping's own word counts");
    let (failsafe, _) = with("failsafe = { angle_deg = -10, over_s = 2 }\n", "when_lost = \"home\"\n");
    assert!((failsafe.angle(NECK) + 10.0).abs() < 1e-9);
    let (mut released, _) = with("when_lost = \"release\"\n", "");
    let neck = released.stage.servos()[NECK];
    assert_eq!((neck.engaged, neck.ticks(), released.owner(NECK)), (false, None, Owner::Nobody));
    // A link that is back engages nothing.
    released.hand = true;
    released.beats(20);
    assert!(!released.stage.servos()[NECK].engaged);
    assert!(released.stage.servos()[BEAK].engaged, "what it does not move goes on");
}

#[test]
fn what_is_picked_up_stands_until_the_input_has_passed_it() {
    let text = "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.beak\", angles_deg = [-30, 30] }\ntake = \"pick-up\"\n";
    let mut bench = Bench::of(&rig(text));
    // It was given back at 0°, which is where the stick is: nothing to wait for.
    bench.set(STICK, 0.5).settle();
    assert!((bench.angle(BEAK) - 15.0).abs() < 1e-9);
    bench.beat(&[Command::GoTo { servo: BEAK, pulse: US(1700.0) }]);
    bench.settle();
    bench.beat(&[Command::GiveBack { servo: BEAK }]);
    bench.beats(50);
    // It stands at -20°; the stick asks for 15°, which this servo has at a shorter pulse.
    assert_eq!((bench.pulse(BEAK), bench.owner(BEAK)), (1700.0, Owner::Mapping));
    assert_eq!(bench.stage.servos()[BEAK].picked_up_from(), Some(false));
    for stick in [0.2, -0.3, -0.6] {
        bench.set(STICK, stick).beats(10);
        assert_eq!(bench.pulse(BEAK), 1700.0);
    }
    bench.set(STICK, -0.7).beats(60);
    assert!((bench.angle(BEAK) + 21.0).abs() < 1e-9, "{}", bench.angle(BEAK));
    assert_eq!(bench.stage.servos()[BEAK].picked_up_from(), None);
    // After a loss it waits again.
    bench.hand = false;
    bench.set(STICK, 1.0).beats(60);
    bench.hand = true;
    bench.beats(60);
    assert!((bench.angle(BEAK) + 21.0).abs() < 1e-9);
    bench.set(STICK, -1.0).beats(60);
    assert!((bench.angle(BEAK) + 30.0).abs() < 1e-9);
}

#[test]
fn a_rate_that_is_picked_up_begins_once_the_stick_has_been_at_rest() {
    let text = "[[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.neck\", rates_deg_s = [-40, 40] }\ntake = \"pick-up\"\n";
    let mut bench = Bench::of(&rig(text));
    bench.set(STICK, 0.8).beat(&[Command::GoTo { servo: NECK, pulse: US(1450.0) }]);
    bench.settle();
    bench.beat(&[Command::GiveBack { servo: NECK }]);
    bench.beats(50);
    assert_eq!(bench.pulse(NECK), 1450.0);
    bench.set(STICK, 0.0).beats(2);
    bench.set(STICK, 0.5);
    bench.beat(&[]);
    assert!((bench.step(NECK) - 4.0).abs() < 1e-6);
}

#[test]
fn a_press_plays_stops_holds_and_cuts_and_a_cut_has_the_last_word() {
    let text = "[[press]]\ninput = \"push\"\ndoes = \"play\"\nsequence = \"wake\"\n\
                [[press]]\ninput = \"mode\"\nposition = 2\ndoes = \"hold\"\n[[press]]\ninput = \"mode\"\nposition = 3\ndoes = \"cut\"\n";
    let mut bench = Bench::of(&rig(text));
    let kinds = |bench: &Bench| bench.stage.events().iter().map(|event| event.kind).collect::<Vec<_>>();
    bench.set(PUSH, 1.0).beat(&[]);
    assert_eq!(bench.stage.players().play(wake()), Play::Leading);
    let told = EventKind::Sequence { told: Told::Starts, at: Duration::ZERO };
    assert_eq!(kinds(&bench), [told, EventKind::Pressed { place: 1, does: Does::Play, done: true }]);
    bench.set(PUSH, 0.0).beats(20);
    let at = bench.stage.players().last().unwrap().at;
    bench.set(PUSH, 1.0).beats(2);
    assert!(bench.stage.players().last().unwrap().at > at, "what plays already is not begun again");
    bench.set(PUSH, 0.0).beats(20);
    bench.set(PUSH, 1.0).beat(&[]);
    assert_eq!(kinds(&bench), [EventKind::Pressed { place: 1, does: Does::Play, done: false }]);
    bench.set(MODE, 1.0).beat(&[]);
    let hold = |done| EventKind::Pressed { place: 1, does: Does::Hold, done };
    assert_eq!(kinds(&bench), [hold(true), EventKind::Held]);
    assert_eq!(bench.stage.output(), Output::Held);
    bench.set(MODE, 0.0).beats(2);
    bench.set(MODE, 1.0).beat(&[]);
    assert_eq!(kinds(&bench), [hold(false)], "what is held already is not held by this press");
    bench.beat(&[Command::Drive]);
    // Cut by a switch in the same beat as a key that would drive on.
    bench.set(MODE, 2.0);
    bench.beat(&[Command::Drive]);
    bench.beat(&[Command::Drive]);
    bench.set(MODE, 0.0).beats(2);
    bench.set(MODE, 2.0);
    bench.beat(&[Command::Drive]);
    bench.beat(&[]);
    assert_eq!((bench.stage.output(), bench.stage.servos()[NECK].ticks()), (Output::Cut, None));
}

#[test]
fn a_press_that_stops_says_whether_anything_played() {
    let mut bench = Bench::of(&rig("[[press]]\ninput = \"push\"\ndoes = \"stop\"\n"));
    bench.beat(&[Command::Play { sequence: 0 }]);
    bench.beats(5);
    for done in [true, false] {
        bench.set(PUSH, 1.0).beat(&[]);
        let kinds: Vec<_> = bench.stage.events().iter().map(|event| event.kind).collect();
        assert_eq!(kinds, [EventKind::Pressed { place: 1, does: Does::Stop, done }]);
        assert_eq!(bench.stage.players().play(wake()), Play::Stopped);
        bench.set(PUSH, 0.0).beats(20);
    }
}

#[test]
fn what_a_switch_did_before_it_was_told_to_do_something_is_no_press() {
    let mut bench = Bench::of(&rig(""));
    for _ in 0..3 {
        bench.set(PUSH, 1.0).beats(2);
        bench.set(PUSH, 0.0).beats(2);
    }
    bench.stage.swap(Prepared::new(Plan::of(&rig("[[press]]\ninput = \"push\"\ndoes = \"cut\"\n"))));
    bench.beats(10);
    assert_ne!(bench.stage.output(), Output::Cut);
    bench.set(PUSH, 1.0).beats(2);
    assert_eq!(bench.stage.output(), Output::Cut);
}

#[test]
fn something_stands_in_for_an_input_until_it_is_taken_off_and_is_no_press() {
    let text = "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n\
                [[press]]\ninput = \"push\"\ndoes = \"cut\"\n";
    let mut bench = Bench::of(&rig(text));
    bench.hand = false;
    bench.beats(60);
    assert_eq!(bench.owner(NECK), Owner::LostMapping);
    bench.beat(&[Command::AsIf { input: STICK, by: Some(AsIf::Hand(0.75)) }]);
    bench.settle();
    assert_eq!((bench.owner(NECK), bench.angle(NECK).round()), (Owner::Mapping, 15.0));
    let wave = AsIf::Wave { shape: WaveShape::Sine, period_s: 4.0 };
    bench.beat(&[Command::AsIf { input: STICK, by: Some(wave) }]);
    bench.settle();
    let angles: Vec<f64> = (0..200).map(|_| (bench.beat(&[]), bench.angle(NECK)).1).collect();
    assert!(angles.iter().copied().fold(f64::MAX, f64::min) < -29.0);
    assert!(angles.iter().copied().fold(f64::MIN, f64::max) > 29.0);
    // A stand-in at the end where a switch is pressed has pressed nothing; moved there from the other end it has.
    bench.beat(&[Command::AsIf { input: PUSH, by: Some(AsIf::Hand(1.0)) }]);
    bench.beats(5);
    assert_ne!(bench.stage.output(), Output::Cut);
    for share in [0.0, 1.0] {
        bench.beat(&[Command::AsIf { input: PUSH, by: Some(AsIf::Hand(share)) }]);
        bench.beats(3);
    }
    assert_eq!(bench.stage.output(), Output::Cut);
    bench.beat(&[Command::AsIf { input: STICK, by: None }]);
    bench.beats(2);
    assert!(bench.stage.inputs()[STICK].as_if.is_none() && !bench.stage.inputs()[STICK].live);
    // It stands in also where the input is read from another channel now, and for one that has never said anything.
    bench.beat(&[Command::AsIf { input: STICK, by: Some(AsIf::Hand(0.75)) }]);
    let mut other = rig(text);
    other.inputs[STICK].channel = "elsewhere".to_owned();
    bench.stage.swap(Prepared::new(Plan::of(&other)));
    bench.beats(2);
    assert!(bench.stage.inputs()[STICK].live && bench.stage.inputs()[STICK].raw.is_none());
    bench.beat(&[Command::AsIf { input: STICK, by: None }]);
    bench.beats(2);
    assert!(!bench.stage.inputs()[STICK].live, "nobody has said where it stands");
    bench.beat(&[Command::AsIf { input: STICK, by: Some(AsIf::Hand(f64::NAN)) }]);
    assert!(bench.stage.inputs()[STICK].as_if.is_none(), "what is no share stands in for nothing");
    assert_eq!(bench.stage.events(), [], "and is not said to");
}

#[test]
fn an_input_stands_in_for_another_as_long_as_it_is_heard_itself() {
    let text = "[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n";
    let mut bench = Bench::of(&rig(text));
    let id = |n: usize| rig(text).inputs[n].id;
    // The pad runs from −1 to 1 over another link; at a half of its upper side it stands at three quarters of its span.
    bench.set(PAD, 0.5).set(STICK, -1.0);
    bench.beat(&[Command::AsIf { input: STICK, by: Some(AsIf::Like(id(PAD))) }]);
    bench.settle();
    assert_eq!((bench.owner(NECK), bench.angle(NECK).round()), (Owner::Mapping, 15.0));
    assert_eq!(bench.stage.inputs()[STICK].counts, Some(0.5));
    // One's own link says nothing meanwhile, and need not.
    bench.hand = false;
    bench.set(PAD, -0.5).settle();
    assert_eq!((bench.owner(NECK), bench.angle(NECK).round()), (Owner::Mapping, -15.0));
    // Where the other is not heard, nothing stands in, and its own link does not come back by itself.
    (bench.hand, bench.radio) = (true, false);
    bench.beats(60);
    assert_eq!((bench.owner(NECK), bench.stage.inputs()[STICK].counts), (Owner::LostMapping, None));
    bench.radio = true;
    bench.settle();
    assert_eq!((bench.owner(NECK), bench.angle(NECK).round()), (Owner::Mapping, -15.0));
    bench.beat(&[Command::AsIf { input: STICK, by: Some(AsIf::Like(id(STICK))) }]);
    assert!(bench.stage.inputs()[STICK].as_if.is_none(), "nothing stands in for itself");
    // Two that stand in for one another stay where they are.
    let like = |input, other| Command::AsIf { input, by: Some(AsIf::Like(id(other))) };
    bench.beat(&[like(STICK, PAD), like(PAD, STICK)]);
    bench.settle();
    let stands = bench.angle(NECK);
    bench.beats(50);
    assert!((bench.angle(NECK) - stands).abs() < 1e-9);
}
