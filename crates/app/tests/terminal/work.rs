//! The first hour: start, knob, poses, playing, saving, and what goes wrong on the way.

use crate::harness::{Home, Pane, number_behind, rig_beside, until};

fn engage(pane: &mut Pane, name: &str) {
    pane.see(&format!("e engages {name} where its horn stands"));
    let stands = until(|| number_behind(&pane.screen(), "◇ horn"), || pane.screen());
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now?");
    pane.text(&format!("{stands:.0}"));
    pane.keys(&["Enter"]);
    pane.see(&format!("{name} engaged"));
    pane.see_no_more("Where does the horn stand now?");
}

/// Neck and beak engaged and given back.
pub fn engage_heron(pane: &mut Pane) {
    pane.see("punt.rudder");
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp"]);
    engage(pane, "heron.neck");
    pane.keys(&["g", "PageDown"]);
    engage(pane, "heron.beak");
    pane.keys(&["g"]);
}

#[test]
fn the_first_start_shows_the_servos_and_what_to_do_next() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    let screen = pane.see("e gives punt.rudder its first pulse");
    for wanted in [
        "OFF",
        "Marsh Clock",
        "neck",
        "beak",
        "rudder",
        "F2",
        "Calibrate",
        "its data sheet: 150° over 900 to 2100 µs",
    ] {
        assert!(screen.contains(wanted), "{wanted:?} is missing from\n{screen}");
    }
    for absent in ["F5", "Run"] {
        assert!(!screen.contains(absent), "{absent} is not there yet");
    }
    pane.keys(&["?"]);
    pane.see("drop all pulses at once");
    pane.keys(&["Escape", ":"]);
    pane.see("Type some of its name");
    pane.keys(&["Escape", "q"]);
    pane.see("nothing was driven");
    pane.see("left with 0");
}

#[test]
fn a_knob_over_the_pty_moves_the_servo_and_a_pulled_plug_is_lost() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    engage_heron(&mut pane);
    pane.keys(&["F3", "Down"]);
    pane.see("heron.neck follows");
    let ticks = |screen: &str| {
        let line = screen.lines().find(|l| l.contains("heron.neck follows"))?.to_owned();
        let before = line.split(" ticks").next()?.rsplit(", ").next()?.trim().to_owned();
        before.parse::<f64>().ok()
    };
    let before = until(|| ticks(&pane.screen()), || pane.screen());
    for _ in 0..4 {
        pane.keys(&["Right"]);
    }
    until(
        // From rest to a look, which is 35° the other way.
        || ticks(&pane.screen()).filter(|now| *now < before - 8.0),
        || format!("from {before}\n{}", pane.screen()),
    );
    pane.act("pull the plug");
    let screen = pane.see("✗ lost");
    assert!(screen.contains("does as told for a lost link"), "{screen}");
    // It goes to rest, which is 306 ticks.
    pane.see(", 306 ticks");
    pane.act("pull the plug");
    pane.see("● fresh");
    pane.see("heron.neck follows");
}

#[test]
fn poses_are_kept_and_a_sequence_plays_to_its_end() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    engage_heron(&mut pane);
    pane.keys(&["PageUp", "PageUp", "PageUp"]);
    pane.text("-20deg");
    pane.keys(&["Enter"]);
    pane.see("commanded -19.9°");
    pane.keys(&["k"]);
    pane.see("Keep where the joints stand as the pose pose-1");
    pane.keys(&["Enter"]);
    pane.see("pose pose-1 kept: 2 joints");
    pane.text("20deg");
    pane.keys(&["Enter"]);
    pane.see("commanded +20.1°");
    pane.keys(&["g", "F4"]);
    pane.see("wake (1 of 7)");
    pane.keys(&["i"]);
    pane.see("step 2 inserted: pose-1");
    pane.keys(&["p"]);
    pane.see("playing");
    pane.see("is over");
    pane.see("Played; its joints keep the last pose");
    pane.keys(&["u"]);
    pane.see("undone: step 2 inserted");
    pane.keys(&["C-r"]);
    pane.see("again: step 2 inserted");
}

#[test]
fn a_short_step_is_said_and_stretched() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("punt.rudder");
    pane.keys(&["F4", "Up", "Up", "Right"]);
    pane.see("strike (2 of 7)");
    pane.see("Step 2 is short: f stretches it to the 0.43 s it needs.");
    pane.keys(&["f"]);
    pane.see("stretched to 0.43 s");
    pane.see_no_more("is short");
    pane.keys(&["p"]);
    pane.see("on the screen only: output is off");
}

#[test]
fn what_was_saved_is_found_again() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("punt.rudder");
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp"]);
    engage(&mut pane, "heron.neck");
    pane.text("1400us");
    pane.see("→ 1400.0 µs, -9.3°");
    pane.keys(&["Enter"]);
    pane.see("287 ticks");
    pane.keys(&["c"]);
    // As it was typed, once it stands.
    pane.see("centre 1400 µs");
    pane.see("·unsaved");
    pane.keys(&["q"]);
    pane.see("There are unsaved edits");
    pane.keys(&["s"]);
    pane.see("left with 0");
    let text = std::fs::read_to_string(home.demo_rig()).unwrap();
    assert!(text.contains("centre_us = 1400\n"), "{text}");
    assert!(text.contains("# Two marks are enough for a beak."), "comments stay");
    drop(pane);
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("punt.rudder");
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp", "e"]);
    pane.see("last known, ");
    assert!(!pane.screen().contains("unsaved"));
}

#[test]
fn what_cannot_be_done_is_refused_in_words_and_nothing_moves() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("punt.rudder");
    pane.keys(&["Right"]);
    pane.see("punt.rudder gets no pulses, so it cannot move: engage it with e");
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp"]);
    engage(&mut pane, "heron.neck");
    let before = until(|| number_behind(&pane.screen(), "on the wire"), || pane.screen());
    pane.text("12parsec");
    pane.keys(&["Enter"]);
    pane.see("is not a unit here: us, deg, % or t (ticks) are understood");
    // In one write, as a fast hand or a slow line delivers it: Esc is not lost as an Alt.
    pane.text("\u{1b}1.5");
    pane.keys(&["Enter"]);
    pane.see("did you mean 1.5ms, or 1500us?");
    pane.keys(&["Escape"]);
    pane.see_no_more("Go to");
    let after = until(|| number_behind(&pane.screen(), "on the wire"), || pane.screen());
    assert!((after - before).abs() < 0.5, "{before} {after}");
}

#[test]
fn endpoints_are_widened_and_a_buzz_backs_off() {
    let home = Home::new();
    // A stop that is met beyond 1980 µs.
    let rig = rig_beside(&home, str::to_owned, |sim| {
        sim.replace("stops_deg = [-68, 66]", "stops_deg = [-68, 42.5]")
    });
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("Horn off? o gives 1500 µs");
    pane.keys(&["o"]);
    pane.see("DRIVING");
    pane.text("1990us");
    pane.keys(&["Enter"]);
    // 408 ticks are 1991 µs; the difference is shown once it stands.
    pane.see("asked 1990.0 µs");
    pane.keys(&["W"]);
    pane.see("high endpoint widened by 10 µs");
    pane.see("2010");
    pane.see("it buzzes");
    pane.keys(&["b"]);
    pane.see("Backed off to 197");
    pane.see_no_more("it buzzes");
    pane.keys(&["Enter"]);
    pane.see("high endpoint 197");
    pane.keys(&["u", "u"]);
    pane.see("undone: mark kept: buzzes");
    pane.see("2010");
}

#[test]
fn a_read_only_file_is_said_and_the_edits_stay() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned);
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("punt.rudder");
    let mut only_read = std::fs::metadata(&rig).unwrap().permissions();
    only_read.set_readonly(true);
    std::fs::set_permissions(&rig, only_read).unwrap();
    pane.keys(&["F4", "i"]);
    pane.see("·unsaved");
    pane.keys(&["C-s"]);
    pane.see("your edits stay here");
    pane.see("·unsaved");
}

#[test]
fn missing_hardware_is_named_with_what_to_try_and_the_rest_runs() {
    let home = Home::new();
    let rig = rig_beside(
        &home,
        |rig| rig.replace("sim:bench-bus", "/dev/i2c-250").replace("sim:knob", "/dev/tty-none"),
        str::to_owned,
    );
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("upper: there is no such path");
    pane.see("`wasvolta scan` lists what is there");
    pane.keys(&["F3", "F4"]);
    pane.see("wake (1 of 7)");
    pane.keys(&["q"]);
    pane.see("left with 0");
}

#[test]
fn pulses_that_run_already_are_kept_or_released_as_the_maker_says() {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, |sim| {
        sim.replace("oscillator_hz = 25_000_000", "oscillator_hz = 25_000_000\nrunning = [[1, 320]]")
    });
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("upper sends pulses already, on channel 1. a keeps them as they are, r releases them.");
    pane.keys(&["a"]);
    pane.see("these servos go on where they are");
    pane.keys(&["PageUp", "PageUp", "PageUp", "PageUp"]);
    pane.see("320 ticks");
    pane.see("DRIVING");
}

#[test]
fn a_second_program_is_told_who_holds_the_rig() {
    let home = Home::new();
    let pane = Pane::start(&home, &["demo"]);
    pane.see("punt.rudder");
    let second = Pane::start(&home, &["demo"]);
    second.see("is in use: process");
    second.see("left with 1");
}

#[test]
fn a_small_window_says_what_is_needed() {
    let home = Home::new();
    let pane = Pane::sized(&home, &["demo"], (60, 15));
    pane.see("wasvolta needs 80");
    let other = Home::new();
    let small = Pane::sized(&other, &["demo"], (80, 24));
    small.see("e gives punt.rudder its first pulse");
}

#[test]
fn a_full_disk_is_said_on_the_screen_and_at_the_end_and_nothing_else_writes_there() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo", "--log", "/dev/full", "--record", "/dev/full"]);
    pane.see("is not whole: No space left");
    engage_heron(&mut pane);
    let screen = pane.screen();
    assert!(
        !screen.contains("tracing") && screen.lines().next().unwrap_or_default().contains("DRIVING"),
        "{screen}"
    );
    pane.keys(&["q"]);
    pane.see("the recording /dev/full is not whole");
    pane.see("the log /dev/full is not whole");
}

#[test]
fn nothing_else_is_written_where_the_screen_is() {
    let home = Home::new();
    let pane = Pane::start(&home, &["demo", "--record", "-"]);
    pane.see("- is standard output, where the screen is: give the name of a file");
    let screen = pane.see("left with 1");
    assert!(!screen.contains("wasvolta_recording"), "{screen}");
}
