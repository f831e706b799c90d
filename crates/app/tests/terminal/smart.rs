//! Smart servos by keys in a real terminal: who is on the bus, another id, one mark, an end by feel, a pose by hand.

use crate::harness::{Home, Pane};

/// The demo with the heron's throat picked, in Wiring.
fn throat(home: &Home) -> Pane {
    let log = home.sim_log();
    let mut pane = Pane::start(home, &["demo", "--sim-log", log.to_str().unwrap()]);
    pane.see("punt.rudder");
    pane.keys(&["PageUp"]);
    pane.see("heron.throat");
    pane.see("neck-bus started");
    pane
}

/// What the servos were made to keep in their memories, as the bus saw it.
fn kept(home: &Home) -> Vec<String> {
    let bus = home.bus();
    assert!(bus.iter().any(|line| line.contains("neck answered")), "nothing was heard of it");
    let kept = |line: String| line.split_once(" neck ").map(|(_, what)| what.to_owned());
    bus.into_iter().filter_map(kept).filter(|what| what.contains("keeps in memory")).collect()
}

#[test]
fn everyone_is_asked_and_one_alone_gets_another_id() {
    let home = Home::new();
    let mut pane = throat(&home);
    pane.keys(&["F1"]);
    pane.see("□ heron.throat");
    pane.text("#");
    pane.see("scan ids");
    pane.keys(&["Enter"]);
    pane.see("# stops it");
    pane.see("neck-bus: 2 servos answer");
    pane.act("simulated fault");
    pane.see("the same again ends it");
    // The other one is unplugged.
    pane.keys(&["C-u"]);
    pane.text("plug-out@id1");
    pane.keys(&["Enter"]);
    pane.see("simulated fault: plug-out@id1");
    pane.act("another id");
    pane.see("another id");
    pane.text("7");
    pane.keys(&["Enter"]);
    pane.see("is written: 2 → 7");
    assert!(kept(&home).is_empty(), "the page comes first");
    pane.keys(&["Enter"]);
    pane.see("it answers as id 7 now, read back");
    assert_eq!(kept(&home), ["id 2 keeps in memory from 7: 07"]);
    pane.see("╶7 □ heron.throat");
}

#[test]
fn a_smart_servo_is_calibrated_by_one_mark() {
    let home = Home::new();
    let mut pane = throat(&home);
    pane.see("2010    +0.0°");
    // Its only mark goes, and a new one is made where it stands.
    pane.keys(&["Down", "Delete"]);
    pane.see("none yet");
    pane.keys(&["e"]);
    // What is read off a horn that is not yet stiff would not be kept.
    pane.see("heron.throat engaged");
    pane.see("until the horn stands at");
    pane.keys(&["m"]);
    pane.see("mark  At");
    pane.text("5");
    pane.keys(&["Enter"]);
    pane.see("slope from its encoder");
    pane.see("+5.0°");
    pane.see("if the horn turns against the needle");
    // It does: the mark stays as it was read, and the other way is up.
    pane.act("reverse");
    pane.see("-8.79 °/100");
    pane.see("mark: about 1890");
    pane.keys(&["Enter"]);
    pane.see("reversed about its mark");
    pane.see_no_more("-8.79 °/100");
    pane.see("8.79 °/100");
    pane.see("+5.0°");
    assert!(kept(&home).is_empty());
}

#[test]
fn an_end_is_felt_and_kept_and_a_pose_is_taught_by_hand() {
    let home = Home::new();
    let mut pane = throat(&home);
    pane.act("feel for ends");
    pane.see("torque limit");
    pane.keys(&["Enter"]);
    pane.see("feels for its ends at 25 % of its push");
    pane.see("Enter keeps them");
    pane.keys(&["Enter"]);
    pane.see("as felt");
    pane.act("simulated hand");
    pane.see("2300counts");
    pane.text("-25deg");
    pane.keys(&["Enter"]);
    pane.see("heron.throat was moved by hand to");
    pane.see("was moved by hand: k keeps a pose");
    pane.keys(&["k"]);
    pane.see("Enter do it");
    pane.text("drooped");
    pane.keys(&["Enter"]);
    pane.see("pose drooped kept: 1 joint");
    pane.keys(&["C-s"]);
    pane.see("saved to");
    let rig = std::fs::read_to_string(home.demo_rig()).unwrap();
    assert!(rig.contains("name = \"drooped\""), "{rig}");
    assert!(kept(&home).is_empty());
}
