//! Worked examples and laws of what inputs move: shares, courses, goals, when they hold, how they are met, and what
//! becomes of them when a link is lost.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]
#![allow(clippy::float_cmp, reason = "ends are reached to the last bit")]

use proptest::prelude::*;
use std::time::Duration;
use wasvolta_core::Stage;
use wasvolta_core::inflow::{Batch, Inflow};
use wasvolta_core::link::{Heard, Way};
use wasvolta_core::rig::file::{Loaded, load};
use wasvolta_core::rig::{Does, Rig, WaveShape};
use wasvolta_core::stage::{AsIf, Command, EventKind, Output, Owner, Placed, Plan, Play, Prepared, Stand};
use wasvolta_core::unit::{Degrees, Micros};

const BEAT: Duration = Duration::from_millis(20);
const US: fn(f64) -> Micros = Micros::new;

/// Six inputs on two links, and a servo of each kind; mappings and presses are each test's own.
const PARTS: &str = r#"format = 9
name = "Marsh"
[[port]]
name = "bus"
kind = "i2c"
path = "sim:bus"
[[port]]
name = "line"
kind = "serial"
path = "sim:line"
[[port]]
name = "air"
kind = "serial"
path = "sim:air"
[[board]]
name = "upper"
port = "bus"
chip = "pwm-expander"
address = 0x40
[[servo]]
name = "heron.neck"
board = "upper"
channel = 0
endpoints_us = [900, 2100]
marks = [{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]
[[servo]]
name = "heron.beak"
board = "upper"
channel = 1
endpoints_us = [900, 2100]
marks = [{ pulse_us = 1100, angle_deg = 40 }, { pulse_us = 1900, angle_deg = -40 }]
[[servo]]
name = "crane.winch"
board = "upper"
channel = 2
kind = "continuous"
endpoints_us = [1000, 2000]
centre_us = 1480
[[servo]]
name = "marsh.moon"
board = "upper"
channel = 3
kind = "dimmer"
[[joint]]
name = "heron.neck"
servo = "heron.neck"
low = { angle_deg = -35 }
high = { angle_deg = 35 }
home_deg = 3
[[joint]]
name = "heron.beak"
servo = "heron.beak"
[[link]]
name = "hand"
on = "line"
[[link]]
name = "radio"
on = "air"
protocol = "lines"
[[input]]
name = "stick"
link = "hand"
channel = "stick"
ends = [-1, 1]
centre = 0
[[input]]
name = "knob"
link = "hand"
channel = "knob"
ends = [0, 1]
[[input]]
name = "pad"
link = "radio"
channel = "pad"
ends = [-1, 1]
centre = 0
[[input]]
name = "push"
link = "hand"
channel = "push"
ends = [0, 1]
switch = { on_above = 0.6, off_below = 0.4, debounce_ms = 0 }
[[input]]
name = "mode"
link = "hand"
channel = "mode"
ends = [0, 2]
switch = { positions = [0, 1, 2], debounce_ms = 0 }
[[input]]
name = "vane"
link = "hand"
channel = "vane"
ends = [-60, 60]
unit = "deg"
[[pose]]
name = "rest"
angles_deg = { "heron.neck" = -12.3, "heron.beak" = 7.1 }
levels_percent = { "marsh.moon" = 10 }
[[pose]]
name = "look"
angles_deg = { "heron.neck" = 22.7, "heron.beak" = -15.9 }
levels_percent = { "marsh.moon" = 90 }
[[pose]]
name = "bow"
angles_deg = { "heron.neck" = 1.1, "heron.beak" = 2.2 }
[[sequence]]
name = "wake"
[[sequence.step]]
pose = "rest"
move_s = 2
[[sequence.step]]
pose = "look"
move_s = 2
"#;

const NECK: usize = 0;
const BEAK: usize = 1;
const WINCH: usize = 2;
const MOON: usize = 3;
const STICK: usize = 0;
const KNOB: usize = 1;
const PAD: usize = 2;
const PUSH: usize = 3;
const MODE: usize = 4;
const VANE: usize = 5;

fn rig(mappings: &str) -> Rig {
    match load(&format!("{PARTS}{mappings}")) {
        Loaded::Sound(rig) => *rig,
        other => panic!("{other:?}"),
    }
}

/// What is wrong with the parts and some mappings.
fn wrong(mappings: &str) -> String {
    match load(&format!("{PARTS}{mappings}")) {
        Loaded::Problems(found) => found[0].message.clone(),
        other => panic!("{other:?}"),
    }
}

struct Bench {
    stage: Stage,
    now: Duration,
    values: [f64; 6],
    /// Frames come over them.
    hand: bool,
    radio: bool,
    flip: f64,
}

impl Bench {
    /// Every servo engaged where it stands and given back, both links heard, all inputs in their middle.
    fn of(rig: &Rig) -> Self {
        let stage = Stage::new(Prepared::new(Plan::of(rig)), BEAT);
        let values = [0.0, 0.5, 0.0, 0.0, 0.0, 0.0];
        let mut bench = Self { stage, now: Duration::ZERO, values, hand: true, radio: true, flip: 0.0 };
        bench.beats(5);
        for servo in 0..4 {
            let pulse = US([1500.0, 1500.0, 1480.0, 0.0][servo]);
            bench.beat(&[Command::Engage { servo, pulse, stands_there: true }]);
        }
        for servo in 0..4 {
            bench.beat(&[Command::GiveBack { servo }]);
        }
        bench
    }

    fn beat(&mut self, commands: &[Placed]) {
        self.now += BEAT;
        self.flip = 1.0 - self.flip;
        let heard = |comes| Heard { frames: u32::from(comes), changed: comes, ..Heard::default() };
        let comes = |n: usize| if n == PAD { self.radio } else { self.hand };
        let batch = |n: usize| if comes(n) { Batch::of(self.values[n]) } else { Batch::default() };
        let links = [heard(self.hand), heard(self.radio)];
        let inputs: [Batch; 6] = std::array::from_fn(batch);
        let plan = self.stage.plan();
        let commands: Vec<_> = commands.iter().filter_map(|command| command.named(plan)).collect();
        self.stage.advance(self.now, Inflow { links: &links, inputs: &inputs }, &commands);
    }

    fn beats(&mut self, count: u32) {
        (0..count).for_each(|_| self.beat(&[]));
    }

    fn set(&mut self, input: usize, value: f64) -> &mut Self {
        self.values[input] = value;
        self
    }

    /// Beats until all stand.
    fn settle(&mut self) {
        self.beats(400);
    }

    fn pulse(&self, servo: usize) -> f64 {
        self.stage.servos()[servo].pulse.get()
    }

    fn angle(&self, servo: usize) -> f64 {
        let scale = self.stage.plan().servos[servo].scale.as_ref().unwrap();
        scale.angle_at(self.stage.servos()[servo].pulse).get()
    }

    fn owner(&self, servo: usize) -> Owner {
        self.stage.servos()[servo].owner
    }

    /// The pulse that an angle or level has.
    fn pulse_of(&self, servo: usize, angle: f64) -> f64 {
        self.stage.plan().servos[servo].scale.as_ref().unwrap().pulse_at(Degrees::new(angle)).get()
    }

    /// How far a servo goes in the next beat.
    fn step(&mut self, servo: usize) -> f64 {
        let before = self.pulse(servo);
        self.beat(&[]);
        self.pulse(servo) - before
    }
}

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
    assert_eq!((neck.engaged, neck.ticks, released.owner(NECK)), (false, None, Owner::Nobody));
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
    assert_eq!(bench.stage.player().play, Play::Playing);
    assert_eq!(kinds(&bench), [EventKind::Pressed { place: 1, does: Does::Play }]);
    bench.set(PUSH, 0.0).beats(20);
    let at = bench.stage.player().at;
    bench.set(PUSH, 1.0).beats(2);
    assert!(bench.stage.player().at > at, "what plays already is not begun again");
    bench.set(MODE, 1.0).beats(2);
    assert_eq!(bench.stage.output(), Output::Held);
    bench.beat(&[Command::Drive]);
    // Cut by a switch in the same beat as a key that would drive on.
    bench.set(MODE, 2.0);
    bench.beat(&[Command::Drive]);
    bench.beat(&[Command::Drive]);
    bench.set(MODE, 0.0).beats(2);
    bench.set(MODE, 2.0);
    bench.beat(&[Command::Drive]);
    bench.beat(&[]);
    assert_eq!((bench.stage.output(), bench.stage.servos()[NECK].ticks), (Output::Cut, None));
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
}

/// What makes no mapping: its shares, its goal, more keys, and what is said of it.
fn unsound() -> Vec<(&'static str, &'static str, &'static str, &'static str)> {
    const NECK: &str = "{ joint = \"heron.neck\", angles_deg = [0, 10] }";
    let (neck, one) = (NECK, "{ stick = 1 }");
    vec![
        ("{ }", neck, "", "no input moves it"),
        (one, "{ angles_deg = [0, 1] }", "", "this is not a goal"),
        (one, "{ joint = \"heron.neck\" }", "", "where it goes is not said"),
        (
            one,
            "{ joint = \"heron.neck\", angles_deg = [0, 1], points = [[-1, 0], [1, 1]] }",
            "",
            "the goal's course is said more than once",
        ),
        (one, "{ joint = \"heron.neck\", points = [[0, 0], [0, 1]] }", "", "this is not a course"),
        (
            one,
            "{ joint = \"heron.neck\", points = [[-1, 0], [1, 99999]] }",
            "",
            "angle is 99999 °, outside -3600 to 3600 °",
        ),
        (
            one,
            "{ joint = \"heron.neck\", levels_percent = [0, 1] }",
            "",
            "a goal that is a joint has no levels_percent",
        ),
        (
            one,
            "{ level = \"crane.winch\", levels_percent = [0, 1] }",
            "",
            "crane.winch is continuous, and what it is told is a rate",
        ),
        (
            one,
            "{ rate = \"crane.winch\", rates_deg_s = [0, 1] }",
            "",
            "a goal that is a rate has no rates_deg_s",
        ),
        (
            one,
            "{ level = \"marsh.moon\", levels_percent = [-5, 1] }",
            "",
            "level is -5 %, outside 0 to 100 %",
        ),
        (one, "{ blend = [\"rest\"] }", "", "a blend has 2 to 64 poses"),
        (one, "{ blend = [\"rest\", \"fly\"] }", "", "no pose is called \"fly\""),
        (
            one,
            "{ blend = [\"rest\", \"bow\"], joints = [\"marsh.moon\"] }",
            "",
            "marsh.moon is not in all of these poses",
        ),
        (one, "{ toggle = [\"rest\", \"look\"] }", "", "a toggle follows the presses of one switch"),
        (
            "{ vane = 1, stick = 1 }",
            "{ joint = \"heron.neck\" }",
            "",
            "an input in degrees has no share in this",
        ),
        ("{ vane = 1 }", neck, "", "the goal's course is said more than once"),
        (one, neck, "while = { input = \"knob\", pressed = true }\n", "knob is not a switch"),
        (one, neck, "while = { input = \"mode\", position = 4 }\n", "mode has 3 positions"),
        (one, neck, "while = { input = \"mode\" }\n", "this is no position"),
        (
            one,
            neck,
            "when_lost = \"home\"\nfailsafe = { angle_deg = 0, over_s = 1 }\n",
            "two things are said for a lost link",
        ),
        (
            one,
            neck,
            "failsafe = { pose = \"rest\", over_s = 1 }\n",
            "this failsafe is none of a goal that is a joint",
        ),
        (
            one,
            "{ rate = \"heron.neck\", rates_deg_s = [-1, 1] }",
            "failsafe = { angle_deg = 0, over_s = 1 }\n",
            "what is told a rate stops when its link is lost",
        ),
        ("{ stick = 11 }", neck, "", "weight is 11, outside -10 to 10"),
        ("{ tiller = 1 }", neck, "", "no input is called \"tiller\""),
    ]
}

#[test]
fn mappings_that_cannot_be_are_refused_with_words() {
    let of = |from: &str, to: &str, more: &str| {
        format!("[[mapping]]\nname = \"m\"\nfrom = {from}\nto = {to}\n{more}")
    };
    let neck = "{ joint = \"heron.neck\", angles_deg = [0, 10] }";
    let one = "{ stick = 1 }";
    for (from, to, more, words) in unsound() {
        assert_eq!(wrong(&of(from, to, more)), words, "{from} {to} {more}");
    }
    let both = format!(
        "{}[[mapping]]\nname = \"n\"\nfrom = {one}\nto = {{ blend = [\"rest\", \"look\"] }}\n",
        of(one, neck, "")
    );
    assert_eq!(wrong(&both), "m and n both move heron.neck");
    for (press, words) in [
        ("input = \"knob\"\ndoes = \"hold\"", "knob is not a switch"),
        ("input = \"push\"\ndoes = \"play\"", "play needs a sequence"),
        ("input = \"push\"\ndoes = \"play\"\nsequence = \"crossing\"", "no sequence is called \"crossing\""),
        ("input = \"push\"\ndoes = \"cut\"\npose = \"x\"", "a press that does cut has no pose"),
        (
            "input = \"push\"\ndoes = \"cut\"\n[[press]]\ninput = \"push\"\ndoes = \"hold\"",
            "push already does cut there",
        ),
    ] {
        assert_eq!(wrong(&format!("[[press]]\n{press}\n")), words);
    }
}

/// The place of the mapping that tells a rate among all of them.
const SLEW: usize = 1;

/// Every kind of goal at once, each with an input of its own kind.
const ALL: &str = "[[mapping]]\nname = \"gaze\"\nfrom = { knob = 1, pad = 0.3 }\nto = { blend = [\"rest\", \"look\"], joints = [\"heron.neck\"] }\n\
                   while = { input = \"mode\", position = 1 }\nwhen_lost = \"home\"\n\
                   [[mapping]]\nname = \"slew\"\nfrom = { stick = 1 }\nto = { rate = \"heron.neck\", rates_deg_s = [-400, 400] }\n\
                   while = { input = \"mode\", position = 2 }\n\
                   [[mapping]]\nname = \"vane\"\nfrom = { vane = 1 }\nto = { joint = \"heron.neck\" }\nwhile = { input = \"mode\", position = 3 }\n\
                   failsafe = { angle_deg = 20, over_s = 0.3 }\n\
                   [[mapping]]\nname = \"beak\"\nfrom = { pad = 2 }\nto = { joint = \"heron.beak\", points = [[-1, 300], [0.2, -300], [1, 80]] }\ntake = \"pick-up\"\n\
                   [[mapping]]\nname = \"hoist\"\nfrom = { stick = -3 }\nto = { rate = \"crane.winch\", levels_percent = [-100, 100] }\nwhen_lost = \"home\"\n\
                   [[mapping]]\nname = \"glow\"\nfrom = { knob = 1 }\nto = { level = \"marsh.moon\", levels_percent = [0, 100] }\n";

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]

    /// Whatever comes, is lost, is asked by hand or plays: no servo leaves what it may have, none moves faster than it may,
    /// and a new owner is never met with a jump.
    #[test]
    fn nothing_leaves_its_limits_or_jumps_whatever_comes(
        turns in proptest::collection::vec((0usize..9, -2.0..2.0f64, 1u32..12), 1..60),
    ) {
        let rig = rig(ALL);
        let mut bench = Bench::of(&rig);
        let (mut before, mut owners) = ([0.0; 4], [Owner::Nobody; 4]);
        for servo in 0..4 {
            (before[servo], owners[servo]) = (bench.pulse(servo), bench.owner(servo));
        }
        for (what, value, beats) in turns {
            let wild = if value.abs() < 0.1 { f64::NAN } else if value > 1.9 { f64::INFINITY } else { value };
            let commands: Vec<Placed> = match what {
                0 => { bench.set(STICK, wild); vec![] }
                1 => { bench.set(KNOB, wild); vec![] }
                2 => { bench.set(PAD, wild); vec![] }
                3 => { bench.set(VANE, value * 60.0); vec![] }
                4 => { bench.set(MODE, (value.abs() * 1.4).floor()); vec![] }
                5 => { bench.hand = value > -1.0; vec![] }
                6 => { bench.radio = value > -1.0; vec![] }
                7 => vec![Command::GoTo { servo: NECK, pulse: US(1500.0 + 200.0 * value) }, Command::Play { sequence: 0 }],
                _ => vec![Command::GiveBack { servo: NECK }, Command::GiveBack { servo: BEAK }, Command::StopPlaying],
            };
            bench.beat(&commands);
            for n in 0..beats {
                if n > 0 { bench.beat(&[]); }
                for servo in 0..4 {
                    let (plan, state) = (&bench.stage.plan().servos[servo], &bench.stage.servos()[servo]);
                    let (low, high) = plan.guard.free();
                    let pulse = bench.pulse(servo);
                    prop_assert!(pulse >= low.get() - 1e-6 && pulse <= high.get() + 1e-6, "{servo} at {pulse}");
                    // The fastest that it may be, and while it meets a new owner no more than a glide.
                    let most = plan.pace.most * BEAT.as_secs_f64();
                    let step = (pulse - before[servo]).abs();
                    prop_assert!(plan.stop.is_some() || step <= most + 1e-6, "{servo} jumps {step}");
                    // A new owner is met with a glide: of those that have a place of their own, and no failsafe's time.
                    let is_met = state.owner != owners[servo]
                        && !matches!(state.owner, Owner::Hand | Owner::LostMapping)
                        && !(servo == NECK && state.mapping() == Some(SLEW))
                        && plan.stop.is_none();
                    let glide = plan.pace.glide * BEAT.as_secs_f64();
                    prop_assert!(!is_met || step <= glide + 1e-6, "{servo} meets {:?} with {step}", state.owner);
                    (before[servo], owners[servo]) = (pulse, state.owner);
                }
            }
        }
    }

    /// Before the input has passed it, what is picked up does not move at all.
    #[test]
    fn what_is_picked_up_never_moves_before_the_crossing(
        from in 1000.0..2000.0f64,
        sticks in proptest::collection::vec(-1.0..1.0f64, 1..40),
    ) {
        let rig = rig("[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.beak\", angles_deg = [-45, 45] }\ntake = \"pick-up\"\n");
        let mut bench = Bench::of(&rig);
        bench.beat(&[Command::GoTo { servo: BEAK, pulse: US(from) }]);
        bench.settle();
        let stands = bench.pulse(BEAK);
        let asked = |bench: &Bench, stick: f64| bench.pulse_of(BEAK, 45.0 * stick) - stands;
        bench.set(STICK, sticks[0]);
        bench.beat(&[]);
        bench.beat(&[Command::GiveBack { servo: BEAK }]);
        let first = asked(&bench, sticks[0]);
        let mut crossed = first.abs() < 1e-6;
        for stick in sticks {
            bench.set(STICK, stick).beats(3);
            crossed |= asked(&bench, stick) * first <= 0.0;
            prop_assert!(crossed || bench.pulse(BEAK) == stands, "it moved before");
        }
    }

    /// With smoothing the ends are reached all but a millionth in fifteen of its times.
    #[test]
    fn a_smoothed_input_reaches_its_ends(smoothing_ms in 20.0..200.0f64) {
        let mut rig = rig("[[mapping]]\nname = \"turn\"\nfrom = { stick = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-30, 30] }\n");
        rig.inputs[STICK].smoothing_ms = smoothing_ms;
        let mut bench = Bench::of(&rig);
        bench.set(STICK, -1.0).settle();
        bench.set(STICK, 1.0);
        let beats = (15.0 * smoothing_ms / 20.0).ceil();
        bench.beats(wasvolta_core::unit::count16(beats).into());
        prop_assert!((bench.stage.mappings()[0].value - 30.0).abs() <= 60.0 * 1e-6);
    }
}

#[test]
fn a_link_that_is_gone_is_lost_at_once() {
    let mut bench = Bench::of(&rig(ALL));
    bench.settle();
    bench.now += BEAT;
    let gone = Heard { way: Way::Gone, ..Heard::default() };
    bench.stage.advance(bench.now, Inflow { links: &[gone, gone], inputs: &[] }, &[]);
    assert!(bench.stage.mappings().iter().all(|state| state.stand != Stand::Moves));
}
