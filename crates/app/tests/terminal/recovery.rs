//! Edits that outlive the program, seen in a terminal: offered, taken, refused, damaged.

use crate::harness::{Home, Pane, copy_in, rig_beside, until};
use std::path::Path;

/// A rig in a pane, with a servo more than its file has.
fn opened_and_edited(home: &Home, rig: &Path) -> Pane {
    let mut pane = Pane::start(home, &["open", rig.to_str().unwrap()]);
    pane.see("punt.rudder");
    pane.keys(&["a"]);
    pane.see("add servo");
    pane.text("crane.jib");
    pane.keys(&["Enter"]);
    pane.see("crane.jib added on channel 0 of upper");
    pane
}

#[test]
fn after_a_kill_the_edits_are_offered_and_taken_back() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned);
    let pane = opened_and_edited(&home, &rig);
    until(|| copy_in(&home).filter(|text| text.contains("crane.jib")), || "no copy was written".to_owned());
    pane.kill();
    drop(pane);
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("An earlier run ended without saving");
    pane.see("+ name = \"crane.jib\"");
    pane.keys(&["Enter"]);
    pane.see("your edits are back, unsaved");
    pane.keys(&["C-s"]);
    pane.see("saved to");
    pane.keys(&["q"]);
    pane.see("left with 0");
    assert!(std::fs::read_to_string(&rig).unwrap().contains("crane.jib"));
    until(|| copy_in(&home).is_none().then_some(()), || "the copy stays".to_owned());
}

#[test]
fn quitting_asks_and_what_is_discarded_is_not_offered_again() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned);
    let mut pane = opened_and_edited(&home, &rig);
    pane.keys(&["q"]);
    pane.see("There are unsaved edits");
    pane.keys(&["q"]);
    pane.see("left with 0");
    assert!(copy_in(&home).is_none());
}

#[test]
fn a_damaged_copy_is_said_and_put_aside() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned);
    let pane = opened_and_edited(&home, &rig);
    until(|| copy_in(&home), || "no copy was written".to_owned());
    pane.kill();
    drop(pane);
    let folder = home.path("state/wasvolta/recovery");
    let copy = std::fs::read_dir(&folder).unwrap().flatten().next().unwrap().path();
    let text = std::fs::read_to_string(&copy).unwrap();
    std::fs::write(&copy, &text[..text.len() / 2]).unwrap();
    let pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("the copy of an earlier run's unsaved edits is damaged");
    let aside: Vec<String> =
        std::fs::read_dir(&folder).unwrap().flatten().map(|e| e.file_name().into_string().unwrap()).collect();
    assert!(aside.len() == 1 && aside[0].contains("damaged-"), "{aside:?}");
}
