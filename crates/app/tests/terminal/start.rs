//! Where a maker begins: without a rig, and with one that was open lately. And a run that is kept.

use crate::harness::{Home, PROGRAM, Pane};
use std::process::Command;

#[test]
fn without_a_rig_it_asks_and_what_was_made_is_offered_the_next_time() {
    let home = Home::new();
    let mut pane = Pane::start_in(&home, &[]);
    pane.see("What shall it work on?");
    pane.see("the demo");
    // What the machine has stands between; the last row is always the one to type.
    pane.keys(&["Down"; 30]);
    pane.keys(&["Enter"]);
    pane.see("serial port");
    pane.text("sim:bench");
    // The file's name is the last word.
    pane.keys(&["Up"]);
    pane.text("crane");
    pane.keys(&["Enter"]);
    pane.see("This rig has no servo yet");
    pane.keys(&["q"]);
    pane.see("left with 0");
    assert!(home.path("crane.rig.toml").exists());
    drop(pane);
    let mut pane = Pane::start_in(&home, &[]);
    pane.see("crane.rig.toml");
    pane.keys(&["Down", "Enter"]);
    pane.see("This rig has no servo yet");
    pane.keys(&["q"]);
    pane.see("left with 0");
}

#[test]
fn a_rig_that_is_not_there_is_said_in_words() {
    let home = Home::new();
    let pane = Pane::start(&home, &["open", "none.rig.toml"]);
    pane.see("cannot read none.rig.toml");
    pane.see("left with 2");
}

#[test]
fn a_terminal_that_only_prints_lines_is_told_so() {
    let home = Home::new();
    let mut pane = Pane::shell(&home);
    pane.text(&format!("TERM=dumb {PROGRAM} demo; echo left with $?"));
    pane.keys(&["Enter"]);
    pane.see("a terminal of the kind dumb cannot place what is drawn");
    pane.see("left with 1");
}

#[test]
fn a_signal_ends_the_asking_and_gives_the_terminal_back() {
    for signal in ["-TERM", "-HUP"] {
        let home = Home::new();
        let pane = Pane::start_in(&home, &[]);
        pane.see("What shall it work on?");
        pane.signal(signal);
        pane.see("left with 0");
        pane.see_no_more("What shall it work on?");
    }
}

#[test]
fn a_live_run_with_hand_and_knob_is_recorded_and_replayed() {
    let home = Home::new();
    let tape = home.path("run.rec");
    let mut pane = Pane::start(&home, &["demo", "--record", tape.to_str().unwrap()]);
    pane.see("punt.rudder");
    pane.keys(&["PageUp", "PageUp", "PageUp"]);
    pane.see("e engages heron.beak");
    pane.keys(&["e", "Enter"]);
    pane.see("heron.beak engaged");
    pane.keys(&["Right", "Right", "g"]);
    pane.see(" map");
    // An edit in the middle of it: another plan runs from there.
    pane.keys(&["F3", "Down", "Down", "Down"]);
    pane.text("20");
    pane.keys(&["Enter"]);
    pane.see("unsaved");
    pane.keys(&["q"]);
    pane.see("There are unsaved edits");
    pane.keys(&["q"]);
    pane.see("left with 0");
    let output = Command::new(PROGRAM).arg("replay").arg(&tape).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(said.contains("setpoints, the same byte for byte"), "{said}");
    assert!(output.stderr.is_empty(), "the recording is whole");
    let recorded = std::fs::read_to_string(&tape).unwrap();
    assert_eq!(recorded.matches("{\"plan\":").count(), 2, "the rig, and the rig as edited");
}
