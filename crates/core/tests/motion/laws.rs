//! What holds for any sequence.

use super::twin::steps;
use super::*;
use proptest::prelude::*;
use wasvolta_core::rig::Rig;
use wasvolta_core::sequence::rounded_up;
use wasvolta_core::unit::Seconds;

fn sequence(steps: &str) -> String {
    format!("[[sequence]]\nname = \"s\"\n{steps}[[sequence.loop]]\nfrom = \"l0\"\nto = \"l1\"\ntimes = 3\n")
}

/// Every short step gets the time that it needs.
fn stretched(rig: &Rig) -> Rig {
    let mut rig = rig.clone();
    for short in Plan::of(&rig.clone()).programs[0].shorts() {
        let step = &mut rig.sequences[0].steps[short.step];
        let needs = rounded_up(short.needs).max(step.move_s.unwrap().get());
        step.move_s = Some(Seconds::new(needs));
    }
    rig
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]

    #[test]
    fn both_ends_of_every_move_are_reached_and_nothing_jumps(steps in steps(true)) {
        let line = program(&steps, [400.0; 3]);
        for (n, track) in line.tracks.iter().enumerate() {
            for segment in line.segments_of(track) {
                prop_assert_eq!(at_of(&line, n, segment.starts), segment.from);
                prop_assert_eq!(at_of(&line, n, segment.ends), segment.to);
                // At 186° in 0.09 s, the most there is here, and any easing, less than 5° a millisecond.
                let mut t = segment.starts;
                let mut before = segment.from;
                while t < segment.ends {
                    t = t + At::seconds_in(0.001);
                    let now = at_of(&line, n, t);
                    prop_assert!((now - before).abs() < 5.0, "from {before} to {now}");
                    before = now;
                }
            }
        }
    }

    #[test]
    fn where_it_flows_the_speed_does_not_jump_either(steps in steps(true)) {
        let line = program(&steps.replace("easing = \"linear\"", "easing = \"flow\"").replace("easing = \"trapezoid\"", "easing = \"flow\""), [400.0; 3]);
        for n in 0..line.tracks.len() {
            let speed = |t: f64| (at_of(&line, n, At::seconds_in(t + 1e-4)) - at_of(&line, n, At::seconds_in(t - 1e-4))) / 2e-4;
            let mut t = 0.01;
            while t + 0.01 < line.length() {
                prop_assert!((speed(t + 2e-4) - speed(t)).abs() < 40.0, "at {t}: {} then {}", speed(t), speed(t + 2e-4));
                t += 2e-4;
            }
        }
    }

    #[test]
    fn any_order_of_asking_gives_the_same_bits(steps in steps(true), times in proptest::collection::vec(0.0..20.0f64, 1..60), rounds in 0u32..3) {
        let line = program(&(steps + "[[sequence.loop]]\nfrom = \"l0\"\nto = \"l1\"\ntimes = 3\n"), [400.0; 3]);
        let mut counts = NONE;
        counts[0] = rounds;
        for track in &line.tracks {
            let mut cursor = 0;
            for t in &times {
                let t = At::seconds_in(*t);
                let one = line.at(track, t, &counts, &mut cursor).get();
                prop_assert_eq!(one.to_bits(), line.at(track, t, &counts, &mut 0).get().to_bits());
                let mut wild = 4_000_000_000;
                prop_assert_eq!(one.to_bits(), line.at(track, t, &counts, &mut wild).get().to_bits());
            }
        }
    }

    #[test]
    fn a_stretched_sequence_is_short_nowhere_and_no_joint_goes_faster_than_it_can(steps in steps(true), speed in 60.0..400.0f64) {
        let rig = stretched(&rig_of(&text(&sequence(&steps), [speed; 3])));
        // A time that grows may let a neighbour flow faster: twice settles it.
        let rig = stretched(&stretched(&rig));
        let line = Plan::of(&rig).programs.remove(0);
        prop_assert!(line.shorts().is_empty(), "{:?}", line.shorts());
        for track in &line.tracks {
            for segment in line.segments_of(track).iter().filter(|segment| segment.seconds() > 0.0) {
                for from in line.begins(segment) {
                    let peak = segment.shape.peak_speed(segment.to - from, segment.seconds());
                    prop_assert!(peak <= speed * 1.01, "{peak} °/s of {speed}");
                }
            }
        }
    }

    #[test]
    fn limits_hold_whatever_is_played_sought_paused_and_edited(
        steps in steps(true),
        others in steps(true),
        asked in proptest::collection::vec((0u8..9, 0.0..8.0f64), 1..40),
    ) {
        let both = format!("{}[[sequence]]\nname = \"t\"\nlayer = \"added\"\n{others}", sequence(&steps));
        let limited = |text: String| text.replacen("home_deg = 0\n", "home_deg = 0\nlow = { angle_deg = -30 }\nhigh = { angle_deg = 60 }\n", 1)
            .replace("a = 96", "a = 58").replace("a = 75", "a = 59").replace("a = -40", "a = -29");
        let rig = rig_of(&limited(text(&both, [200.0; 3])));
        let edited = rig_of(&limited(text(&both.replacen("move_s = ", "move_s = 1", 1), [200.0; 3])));
        let mut show = Show::of(&rig);
        let mut before = [0, 1, 2].map(|servo| show.angle(servo));
        for (what, number) in asked {
            let at = Duration::from_secs_f64(number);
            let command = match what {
                0 => Command::Play { sequence: 0 },
                1 => Command::Play { sequence: 1 },
                2 => Command::Seek { sequence: 0, at },
                3 => Command::Pause,
                4 => Command::Tempo { percent: 10.0 + number * 48.0 },
                5 => Command::FinishLoop { sequence: 0 },
                6 => Command::StopOne { sequence: 1 },
                7 => Command::PlayFrom { sequence: 0, at: Some(at), given: wasvolta_core::stage::Given::default(), one_step: true },
                _ => {
                    show.stage.swap(Prepared::new(Plan::of(if number < 4.0 { &edited } else { &rig })));
                    Command::Drive
                }
            };
            show.beat(&[command]);
            for n in 0..17 {
                if n > 0 {
                    show.beat(&[]);
                }
                let now = [0, 1, 2].map(|servo| show.angle(servo));
                prop_assert!(now[0] >= -30.0 - 1e-9 && now[0] <= 60.0 + 1e-9, "{}", now[0]);
                for (now, before) in now.iter().zip(&before) {
                    prop_assert!((now - before).abs() <= 200.0 * 0.02 + 1e-9, "from {before} to {now} in a beat");
                }
                before = now;
            }
        }
    }
}

fn at_of(line: &Program, track: usize, t: At) -> f64 {
    line.at(&line.tracks[track], t, &NONE, &mut 0).get()
}

#[test]
fn cost_in_memory_is_that_of_the_moves() {
    for count in [10usize, 100, 1000] {
        let steps: String = (0..count).map(|n| step(["far", "zero"][n % 2], "move_s = 0.1")).collect();
        let line = program(&steps, [400.0; 3]);
        let (bytes, segments) = line.room();
        assert_eq!(segments, 3 * count);
        // A step has some of its own, here for three moves.
        assert!(bytes <= segments * 64 + (count + count) * 64, "{bytes} bytes for {segments}");
        assert!(size_of_val(&line.segments_of(&line.tracks[0])[0]) <= 80);
    }
}
