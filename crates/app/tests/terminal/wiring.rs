//! Wiring, by keys in a real terminal: scan, add who is missing, swap two plugs, find the broken link.

use crate::harness::{Home, Pane};

/// The demo in its Wiring view.
fn wiring(home: &Home) -> Pane {
    let mut pane = Pane::start(home, &["demo"]);
    pane.see("punt.rudder");
    pane.keys(&["F1"]);
    pane.see("lower 0x41");
    pane
}

/// Types into the palette's row for faults of the simulated bench.
fn fault(pane: &mut Pane, fault: &str) {
    pane.act("simulated fault");
    pane.see("the same again ends it");
    pane.text(fault);
    pane.keys(&["Enter"]);
}

fn engage_neck(pane: &mut Pane) {
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp"]);
    pane.see("e gives heron.neck its first pulse");
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.keys(&["Enter"]);
    pane.see("? supply");
}

#[test]
fn a_look_around_names_what_answers_and_a_board_and_a_servo_are_added() {
    let home = Home::new();
    let mut pane = wiring(&home);
    pane.keys(&["L"]);
    pane.see("found on sim:bench-bus: 0x40 upper · 0x41 lower · 0x48 another kind of chip");
    pane.keys(&["N"]);
    pane.see("address 0x42");
    pane.text("reeds");
    pane.keys(&["Enter"]);
    pane.see("reeds added at 0x42: its jumpers are drawn beside it");
    pane.see("reeds 0x42");
    pane.see("A5□ A4□ A3□ A2□ A1■ A0□");
    pane.see("reeds started");
    pane.keys(&["Down", "Down", "Down"]);
    pane.see("Channel 3 of reeds is free");
    pane.keys(&["a"]);
    pane.see("add servo");
    pane.text("reeds.tuft");
    pane.keys(&["Enter"]);
    pane.see("reeds.tuft added on channel 3 of reeds");
    pane.keys(&["C-s"]);
    pane.see("saved to");
    let rig = std::fs::read_to_string(home.demo_rig()).unwrap();
    assert!(rig.contains("name = \"reeds.tuft\"") && rig.contains("address = 66"), "{rig}");
}

#[test]
fn two_plugs_are_swapped_and_the_pulses_follow() {
    let home = Home::new();
    let mut pane = wiring(&home);
    engage_neck(&mut pane);
    pane.act("swap plugs");
    pane.see("heron.neck is on the channel of heron.beak");
    pane.keys(&["Enter"]);
    pane.see("heron.neck and heron.beak have changed places");
    // The beak is on the neck's channel now, and gets what that channel got.
    pane.see("1 ■ ■ ■╶ heron.beak    1493 µs");
    pane.see("2 ■ ■ ■╶ heron.neck        off");
    pane.keys(&["u"]);
    pane.see("undone: heron.neck and heron.beak have changed places");
    pane.see("1 ■ ■ ■╶ heron.neck        off");
}

#[test]
fn a_broken_chain_is_named_link_by_link() {
    let home = Home::new();
    let mut pane = wiring(&home);
    pane.see("○ output");
    engage_neck(&mut pane);
    let cases = [
        ("no-bus", "✗ path         sim:bench-bus does not exist"),
        ("denied", "✗ permission   no permission to open"),
        ("held", "✗ other holder a kernel driver holds the chip"),
        ("absent", "✗ address      nothing answers at 0x40"),
        ("silent", "✗ address      transfers at 0x40 fail"),
        ("asleep", "✗ awake"),
        ("other-rate", "✗ frame rate"),
        ("overwritten", "✗ registers"),
        ("resets", "had restarted: its supply dipped"),
    ];
    for (kind, words) in cases {
        fault(&mut pane, kind);
        pane.see(words);
        fault(&mut pane, kind);
        pane.see("? supply");
    }
    pane.keys(&["Escape"]);
    pane.see("○ output       output is held");
    pane.keys(&["d"]);
    pane.see("? supply");
    pane.keys(&["C-c"]);
    pane.see("○ output       output is cut");
    pane.keys(&["q"]);
    pane.see("released: no pulses remain");
}

#[test]
fn a_wiggle_is_seen_and_a_pulled_board_comes_back_one_by_one() {
    let home = Home::new();
    let mut pane = wiring(&home);
    engage_neck(&mut pane);
    pane.keys(&["w"]);
    pane.see("wiggles");
    pane.see_no_more("wiggles");
    fault(&mut pane, "pulled@0x40");
    pane.see("upper: nothing answers");
    pane.see("✗ no answer");
    fault(&mut pane, "pulled@0x40");
    pane.see("upper is back");
    // Its supply may have fallen with its plug: nobody knows where the neck stands now.
    pane.see("heron.neck lost its pulses and may have moved");
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.keys(&["Enter"]);
    pane.see("heron.neck engaged");
}

#[test]
fn a_winch_is_armed_turns_and_stands_when_held_and_a_lamp_blinks() {
    let home = Home::new();
    let mut pane = wiring(&home);
    pane.keys(&["PageDown", "PageDown", "PageDown", "PageDown"]);
    pane.see("e gives crane.winch the pulse at which it stands still");
    pane.see("crane.winch, reeds.sway may go on turning");
    pane.keys(&["e"]);
    pane.see("crane.winch gets 1480 µs, at which it should stand still. It may turn: is it clear?");
    pane.keys(&["Enter"]);
    pane.see("it sees its neutral 1480 µs");
    pane.see("1479 µs, inside 1100 to 1900 µs");
    pane.keys(&["F2"]);
    pane.see("S keeps that edge");
    pane.text("30%");
    pane.see("→ 1606.0 µs, +30 %");
    pane.keys(&["Enter"]);
    pane.see("◇ simulated: +25 rpm");
    pane.keys(&["Escape"]);
    pane.see("◇ simulated: it stands still");
    pane.keys(&["d"]);
    pane.see("DRIVING");
    // Behind the reeds.
    pane.keys(&["PageDown", "PageDown"]);
    pane.see("e switches marsh.moon to 0 %");
    pane.keys(&["e"]);
    pane.see("0 of 4095 ticks");
    pane.keys(&["F1", "w"]);
    pane.see("blinks");
}
