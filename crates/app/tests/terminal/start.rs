//! Where a maker begins: without a rig, and with one that was open lately. And a run that is kept.

use crate::harness::{Home, PROGRAM, Pane, number_behind, until};
use std::process::Command;

#[test]
fn without_a_rig_it_asks_and_what_was_made_is_offered_the_next_time() {
    let home = Home::new();
    let mut pane = Pane::start_in(&home, &[]);
    pane.see("What do you want to work on?");
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
        pane.see("What do you want to work on?");
        pane.signal(signal);
        pane.see("left with 0");
        pane.see_no_more("What do you want to work on?");
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

/// Where the servo is told to be and where its horn stands, as the screen says it.
fn told_and_seen(pane: &Pane) -> Option<(String, f64)> {
    let screen = pane.screen();
    let line = screen.lines().find(|line| line.contains("━ commanded") && line.contains("simulated"))?;
    let told = line.split("━ commanded").nth(1)?.split('◇').next()?.trim().to_owned();
    Some((told, number_behind(line, "horn")?))
}

/// Waits until the servo stands, elsewhere than it was told before; gives both.
fn stands(pane: &Pane, before: Option<&str>) -> (String, f64) {
    // Looks in a row that were the same.
    const ENOUGH: usize = 30;
    let (mut last, mut same) = (None, 0);
    until(
        || {
            let now = told_and_seen(pane);
            same = if now == last { same + 1 } else { 0 };
            last = now;
            last.clone().filter(|(told, _)| same >= ENOUGH && before != Some(told.as_str()))
        },
        || pane.screen(),
    )
}

/// Reads the horn and keeps that as a mark; gives what was told there.
fn mark(pane: &mut Pane, before: Option<&str>) -> String {
    let (told, angle) = stands(pane, before);
    pane.keys(&["m"]);
    pane.see("the horn stands at");
    pane.text(&format!("{angle:.0}"));
    pane.keys(&["Enter"]);
    pane.see("mark kept");
    told
}

/// What is to be read, and the keys that it asks for.
type Steps = &'static [(&'static str, &'static [&'static str])];

fn follow(pane: &mut Pane, steps: Steps) {
    for (wanted, keys) in steps {
        pane.see(wanted);
        pane.keys(keys);
    }
}

/// Goes on at one text; where another one stands there, the key that it asks for comes first.
fn unless(pane: &mut Pane, goes_on: &str, (other, key): (&str, &str)) {
    let either = |screen: String| (screen.contains(goes_on) || screen.contains(other)).then_some(());
    until(|| either(pane.screen()), || pane.screen());
    if !pane.screen().contains(goes_on) {
        pane.keys(&[key]);
    }
    pane.see(goes_on);
}

const TO_A_FIRST_PULSE: Steps = &[
    ("▌ a new rig, simulated", &["Enter"]),
    ("sim:bench", &["Enter"]),
    ("This rig has no servo yet. a adds one", &["a"]),
    ("add servo", &["b", "e", "a", "k", "Enter"]),
    ("e gives beak its first pulse", &["e"]),
    ("first pulse at 1500 µs", &["Enter"]),
    ("then m keeps it as a mark", &[]),
];

const TO_A_KNOB: Steps = &[
    ("Ctrl-S saves that; then F3 ties a knob to it", &["C-s"]),
    ("Saved. F3 ties a knob to it", &["F3"]),
    ("K adds one", &["K"]),
    ("sim:knob", &["Enter"]),
    ("I adds one: move the one you mean", &["I"]),
    // The row of its channel.
    ("knob             link", &["Right", "Right"]),
    ("makes an input of knob", &["Enter"]),
    ("what it is, as tiller or gap", &["Enter"]),
    ("t ties it to beak", &["t"]),
    ("The hand has beak: g gives it to knob", &["g"]),
];

const TO_TWO_STEPS: Steps = &[
    ("F4 sets poses in time", &["F4"]),
    ("k keeps where the joints stand as a pose", &["k"]),
    ("as the pose pose-1", &["Enter"]),
    ("pose pose-1 kept", &["i"]),
    ("One step. Move the joints elsewhere", &["F3"]),
    ("knob of link", &["Left", "Left", "Left", "Left", "k"]),
    ("as the pose pose-2", &["Enter"]),
    ("pose pose-2 kept", &["F4"]),
    ("One step. Move the joints elsewhere", &["i"]),
    ("2 steps", &[]),
];

#[test]
fn from_nothing_to_a_saved_servo_on_a_knob_in_a_sequence_takes_no_more_than_ninety_keys() {
    let home = Home::new();
    let mut pane = Pane::start_in(&home, &[]);
    let rows = pane.see("a new rig, simulated");
    // What this machine has stands before it, and costs a key each.
    let here = rows.lines().filter(|line| line.contains("a new rig on ")).count();
    pane.keys(&vec!["Down"; here + 2]);
    follow(&mut pane, TO_A_FIRST_PULSE);
    let mut told = mark(&mut pane, None);
    for marks in 2..=5 {
        pane.see(if marks == 2 { "n glides to the next useful pulse" } else { "n, m and Enter again" });
        pane.keys(&["n"]);
        told = mark(&mut pane, Some(told.as_str()));
    }
    unless(&mut pane, "Ctrl-S saves that", ("B draws a curve", "B"));
    follow(&mut pane, TO_A_KNOB);
    follow(&mut pane, TO_TWO_STEPS);
    // Where the knob was turned far, the time that a new step has is short.
    unless(&mut pane, "next  p plays.", ("f stretches it", "f"));
    follow(
        &mut pane,
        &[("next  p plays.", &["p"]), ("Played; its joints keep the last pose", &["C-s"]), ("saved to", &[])],
    );
    println!("from nothing to a servo on a knob in a sequence: {} keys", pane.pressed);
    assert!(pane.pressed <= 90, "{} keys", pane.pressed);
    let saved = std::fs::read_to_string(home.path("my.rig.toml")).unwrap();
    assert!(saved.matches("[[sequence.step]]").count() == 2 && saved.contains("[[mapping]]"), "{saved}");
}

#[test]
fn a_dealt_servo_is_calibrated_and_its_truth_shown_and_nobody_deals_over_it_meanwhile() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["practice", "--deal", "3"]);
    pane.see("deal 3: a standard servo by its label");
    pane.see("e gives heron.wing its first pulse");
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.keys(&["Enter"]);
    let told = mark(&mut pane, None);
    pane.see("n glides to the next useful pulse");
    pane.keys(&["n"]);
    mark(&mut pane, Some(told.as_str()));
    // The same deal in another window would write over what is being worked on.
    let rig = home.path("data/wasvolta/practice-3.rig.toml");
    let before = std::fs::read(&rig).unwrap();
    let twice = Pane::start(&home, &["practice", "--deal", "3"]);
    twice.see("is in use");
    twice.see("left with 1");
    assert_eq!(std::fs::read(&rig).unwrap(), before);
    pane.act("show the truth");
    let page = pane.see("what is wrong");
    assert!(page.contains("its travel bends") && page.contains("Deal 3, "), "{page}");
    pane.keys(&["Escape"]);
    pane.see_no_more("what is wrong");
    // What was marked is only asked about, as everywhere.
    pane.keys(&["q"]);
    pane.see("There are unsaved edits");
    pane.keys(&["q"]);
    pane.see("left with 0");
}
