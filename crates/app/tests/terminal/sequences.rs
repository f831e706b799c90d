//! A sequence by keys alone, from a rig that has none: poses, steps, a loop, a call, a wait, a layer; stretched, played,
//! slowed, stood in, looked along by a knob, and all of it undone.

use crate::harness::{Home, PROGRAM, Pane, rig_beside, until};
use crate::work::engage_heron;

/// The Marsh Clock without what it does: no mappings, no poses, no sequences.
fn bare(home: &Home) -> String {
    let cut = |text: &str| text.split("# The knob turns the heron").next().unwrap().to_owned();
    rig_beside(home, cut, str::to_owned).display().to_string()
}

/// The picked row, as it is drawn.
fn picked(pane: &Pane) -> String {
    let screen = pane.screen();
    let row = screen.lines().find_map(|line| line.split("│ ▌ ").nth(1));
    row.unwrap_or_default().to_owned()
}

/// Goes to a row, from wherever it is.
fn row(pane: &mut Pane, name: &str) {
    for key in ["Up", "Down"] {
        for _ in 0..24 {
            let here = picked(pane);
            let there = if key == "Up" { "sequence " } else { name };
            if here.starts_with(there) {
                break;
            }
            pane.keys(&[key]);
            until(|| (picked(pane) != here).then_some(()), || format!("{key} from {here} to {name}"));
        }
    }
    assert!(picked(pane).starts_with(name), "{}", pane.screen());
}

fn command(pane: &mut Pane, words: &str) {
    pane.text(":");
    pane.see("command");
    pane.text(words);
    pane.keys(&["Enter"]);
}

#[test]
fn a_sequence_with_a_loop_a_call_a_wait_and_a_layer_is_made_played_and_undone_by_keys() {
    let home = Home::new();
    let rig = bare(&home);
    let mut pane = Pane::start(&home, &["open", &rig]);
    engage_heron(&mut pane);
    pane.keys(&["PageUp", "PageUp", "PageUp"]);
    for (angle, commanded, pose) in [("-20deg", "-19.9°", "pose-1"), ("20deg", "+20.1°", "pose-2")] {
        pane.text(angle);
        pane.keys(&["Enter"]);
        pane.see(&format!("commanded {commanded}"));
        pane.keys(&["k", "Enter"]);
        pane.see(&format!("pose {pose} kept"));
    }
    // A pose that stands on the bench is a step by five keys at most: here by one.
    pane.keys(&["F4"]);
    pane.see("no sequence yet");
    command(&mut pane, "new sequence: breathe");
    pane.see("breathe is a sequence now");
    pane.keys(&["i"]);
    pane.see("step 1 inserted: pose-2");
    row(&mut pane, "layer");
    pane.keys(&["Right", "Right"]);
    pane.see("added to others");
    command(&mut pane, "new sequence: nod");
    pane.see("nod is a sequence now");
    pane.keys(&["i", "i"]);
    pane.see("step 2 inserted: pose-2");
    row(&mut pane, "pose");
    pane.keys(&["Left"]);
    pane.see("step 2: pose pose-1");
    pane.keys(&["S-Left"]);
    pane.see("steps 1 to 2 are picked");
    pane.text("&");
    pane.see("steps 1 to 2 are played twice");
    pane.see("× 2");
    pane.text("n_");
    pane.see("step 3 inserted: wait until visitor is pressed");
    pane.keys(&["C"]);
    pane.see("step 4 inserted: play breathe");
    pane.keys(&["i", "i"]);
    pane.see("step 6 inserted: pose-2");
    // The second one asks for more than the neck can.
    row(&mut pane, "step");
    pane.text("2");
    pane.keys(&["Enter"]);
    row(&mut pane, "move");
    pane.text("50ms");
    pane.keys(&["Enter"]);
    pane.see("Step 2 is short: f stretches it");
    pane.keys(&["f"]);
    pane.see("step 2: stretched to");
    // It waits for the visitor; the knob would be turned in Inputs.
    pane.text("G*");
    pane.see("tempo 120 %");
    pane.keys(&["p"]);
    pane.see("waits until visitor is pressed");
    pane.keys(&["p"]);
    pane.see("Paused. ");
    pane.text(";");
    pane.see("waits until visitor is pressed");
    pane.keys(&["x"]);
    pane.see("p plays.");
    pane.keys(&["F3"]);
    pane.see("knob");
    command(&mut pane, "add mapping: leaf; place; nod; ");
    pane.see("sets the place in nod");
    pane.keys(&["F4"]);
    pane.see("Paused. ");
    for _ in 0..60 {
        if pane.screen().contains("there is nothing to undo") {
            break;
        }
        pane.keys(&["u"]);
    }
    pane.see("there is nothing to undo");
    pane.see("no sequence yet");
}

#[test]
fn a_key_that_a_driven_show_waits_for_is_typed_in_its_terminal() {
    let home = Home::new();
    let bow = "\n[[sequence]]\nname = \"bow\"\n[[sequence.step]]\npose = \"rest\"\nmove_s = 0.1\n\
               [[sequence.step]]\nwait_for = { key = \"k\" }\n[[sequence.step]]\npose = \"look\"\nmove_s = 0.1\n";
    let rig = rig_beside(&home, |text| text.to_owned() + bow, str::to_owned).display().to_string();
    let mut pane = Pane::sized(&home, &["play", &rig, "bow", "--drive"], (120, 24));
    pane.see("when it waits for a key, type that key here and press Enter");
    pane.see("waits until the key k is pressed");
    pane.keys(&["x", "Enter"]);
    pane.see("pressedx");
    assert!(!pane.screen().contains("played to the end"), "another key is not the one");
    pane.keys(&["k", "Enter"]);
    pane.see("played to the end: released: no pulses remain");
    pane.see("left with 0");
    // Where nobody can type, it is refused before anything moves.
    let mut pane = Pane::shell(&home);
    pane.text(&format!("{PROGRAM} play '{rig}' bow --drive < /dev/null; echo left with $?"));
    pane.keys(&["Enter"]);
    pane.see("waits for the key k, and there is no terminal here to press it in");
    pane.see("left with 1");
}

#[test]
fn an_edge_of_a_step_is_dragged_by_the_mouse() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned).display().to_string();
    let mut pane = Pane::start(&home, &["open", &rig]);
    pane.see("Marsh Clock");
    pane.keys(&["F4"]);
    until(|| pane.has_mouse().then_some(()), || pane.screen());
    let screen = pane.see("move, dwell");
    // The two rows of the steps; wherever the edge stands along the upper one, it is taken there and drawn on.
    let line = screen.lines().position(|line| line.contains("│ move, dwell")).unwrap();
    let line = u16::try_from(line).unwrap();
    for column in (70..150).step_by(3) {
        pane.mouse(&[(0, (column, line), 'M'), (32, (column + 3, line), 'M'), (0, (column + 3, line), 'm')]);
    }
    pane.see("·unsaved");
}
