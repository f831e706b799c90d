//! Several sequences at once: beside each other, over each other, added.

use super::*;
use wasvolta_core::stage::{About, Owner};

fn two(first: &str, second: &str, layer: &str) -> String {
    format!("[[sequence]]\nname = \"first\"\n{first}[[sequence]]\nname = \"second\"\n{layer}{second}")
}

#[test]
fn two_play_at_once_when_they_share_no_joint_and_are_refused_with_it_when_they_do() {
    let text = two(&step("a75", "move_s = 2"), &step("b20", "move_s = 1"), "")
        + "[[sequence]]\nname = \"third\"\n"
        + &step("far", "move_s = 1");
    let rig = rig(&text);
    let mut show = Show::of(&rig);
    show.beat(&[Command::Play { sequence: 0 }, Command::Play { sequence: 1 }]);
    show.beats(60);
    assert!((show.angle(1) - 20.0).abs() < 1e-9 && show.angle(0) > 20.0);
    show.play(2);
    let refused =
        show.stage.events().iter().find(|event| matches!(event.kind, EventKind::Shares { .. })).unwrap();
    assert_eq!(refused.kind, EventKind::Shares { with: rig.sequences[0].id });
    assert_eq!(refused.about, About::Sequence(rig.sequences[2].id, Some(rig.servos[0].id)));
    assert_eq!(show.stage.players().play(rig.sequences[2].id), Play::Stopped);
    // Nor is it looked at while its joints are another one's.
    show.beat(&[Command::Seek { sequence: 2, at: Duration::from_millis(500) }]);
    assert!(show.stage.events().iter().any(|event| matches!(event.kind, EventKind::Shares { .. })));
    // What has ended leaves its joints to the next.
    show.until(|show| show.stage.players().play(rig.sequences[0].id) == Play::Ended);
    show.play(2);
    show.beats(150);
    assert_eq!([0, 1, 2].map(|servo| show.angle(servo).round()), [96.0, 35.0, 50.0]);
    assert_eq!(show.stage.players().all().count(), 1);
}

#[test]
fn what_plays_over_others_takes_its_joints_with_a_glide_and_gives_them_back() {
    let text = two(
        &(step("zero", "move_s = 1\nlabel = \"x\"")
            + &step("a30", "move_s = 1\nlabel = \"y\"")
            + "[[sequence.loop]]\nfrom = \"x\"\nto = \"y\"\n"),
        &step("a-40", "move_s = 0.5\ndwell_s = 1"),
        "layer = \"over\"\n",
    );
    let mut show = Show::of(&rig(&text));
    show.play(0);
    show.beats(120);
    show.play(1);
    let mut before = show.angle(0);
    let mut least = 0.0f64;
    for _ in 0..200 {
        show.beat(&[]);
        assert!((show.angle(0) - before).abs() <= 400.0 * 0.02 + 1e-6);
        before = show.angle(0);
        least = least.min(before);
    }
    assert!((least + 40.0).abs() < 1e-6);
    assert_eq!(show.stage.players().all().count(), 1, "it has given them back");
    show.beats(100);
    assert!(show.angle(0) >= -0.1 && show.stage.servos()[0].owner == Owner::Sequence);
}

#[test]
fn what_is_added_comes_on_top_at_most_so_much_and_goes_no_faster_than_a_glide() {
    let text = two(
        &step("a30", "move_s = 1\ndwell_s = 60"),
        &step("a75", "move_s = 0.1\ndwell_s = 5"),
        "layer = \"added\"\nat_most_deg = 8\n",
    );
    let mut show = Show::of(&rig(&text));
    show.play(0);
    show.beats(60);
    assert!((show.angle(0) - 30.0).abs() < 1e-9);
    show.play(1);
    let mut before = show.angle(0);
    for _ in 0..60 {
        show.beat(&[]);
        assert!(show.angle(0) - before <= 60.0 * 0.02 + 1e-9);
        before = show.angle(0);
    }
    assert!((show.angle(0) - 38.0).abs() < 1e-9, "{}", show.angle(0));
    show.beat(&[Command::StopOne { sequence: 1 }]);
    assert!((show.angle(0) - 36.8).abs() < 1e-9, "it goes as it has come");
    show.beats(60);
    assert!((show.angle(0) - 30.0).abs() < 1e-9);
    // The hand is left alone.
    show.beat(&[
        Command::Play { sequence: 1 },
        Command::Jog { servo: 0, by: Position::new(0.0), repeat: false },
    ]);
    show.beats(100);
    assert!((show.angle(0) - 30.0).abs() < 1e-9);
}

fn swayed(goal: &str) -> Rig {
    let sequences =
        format!("[[sequence]]\nname = \"s\"\n{}{}", step("a75", "move_s = 2"), step("zero", "move_s = 2"));
    rig(&format!("[[mapping]]\nname = \"sway\"\nfrom = {{ gap = 1 }}\nto = {{ {goal} }}\n{sequences}"))
}

#[test]
fn an_input_sets_the_tempo_of_what_plays() {
    let mut show = Show::of(&swayed("tempo_percent = [20, 220]"));
    show.says[1] = 0.4;
    show.play(0);
    let begun = show.now;
    show.until(|show| show.stands() == Play::Ended);
    assert!((show.now.saturating_sub(begun).as_secs_f64() - 4.0).abs() < 0.1, "at 100 %");
    show.says[1] = 0.0;
    show.beats(2);
    assert!((show.stage.tempo() - 0.2).abs() < 1e-9);
    show.says[1] = 1.0;
    show.beats(2);
    assert!((show.stage.tempo() - 2.2).abs() < 1e-9);
    // Where a switch lets go of it, everything goes as it is written.
    let goal = "tempo_percent = [20, 220] }\nwhile = { input = \"push\", pressed = true";
    let mut show = Show::of(&swayed(goal));
    show.says = [1.0, 1.0];
    show.beats(5);
    assert!((show.stage.tempo() - 2.2).abs() < 1e-9);
    show.says[0] = 0.0;
    show.beats(5);
    assert!((show.stage.tempo() - 1.0).abs() < 1e-9);
}

#[test]
fn an_input_sets_the_place_in_a_sequence_until_that_is_played_and_picks_it_up_again() {
    let mut show = Show::of(&swayed("place = \"s\""));
    show.says[1] = 0.25;
    show.beats(100);
    assert!(show.stands() == Play::Paused && (show.angle(0) - 37.5).abs() < 1e-6, "{}", show.angle(0));
    show.says[1] = 0.5;
    show.beats(100);
    assert!((show.angle(0) - 75.0).abs() < 1e-6);
    // Played it goes on from there, whatever the input says.
    show.says[1] = 0.1;
    show.beats(60);
    show.play(0);
    show.until(|show| show.stands() == Play::Playing);
    show.says[1] = 0.2;
    show.beats(30);
    show.beat(&[Command::Pause]);
    let stands = show.angle(0);
    show.says[1] = 0.15;
    show.beats(30);
    assert!((show.angle(0) - stands).abs() < 1e-9, "the input has not passed it yet");
    show.says[1] = 0.6;
    show.beats(120);
    assert!((show.seconds() - 2.4).abs() < 1e-6, "now it has: {}", show.seconds());
    // One that was left is taken again by turning.
    show.beat(&[Command::StopPlaying]);
    show.beats(10);
    assert_eq!(show.stands(), Play::Stopped);
    show.says[1] = 0.8;
    show.beats(5);
    assert_eq!(show.stands(), Play::Paused);
}
