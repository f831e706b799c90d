//! Clicks and changed keys in the real program: the mouse's own reports, a real file of settings.

use crate::harness::{Home, Pane, until};
use std::process::Command;

/// Clicks the first letter of a text where it stands first, once it stays there: a screen may be half drawn when it is looked at.
fn click(pane: &mut Pane, text: &str) {
    let (mut seen, mut looks) = (None, 0);
    let cell = until(
        || {
            let at = place(&pane.screen(), text);
            looks = if at == seen { looks + 1 } else { 0 };
            seen = at;
            seen.filter(|_| looks >= 10)
        },
        || format!("{text:?} stays nowhere on\n{}", pane.screen()),
    );
    pane.mouse(&[(0, cell, 'M'), (0, cell, 'm')]);
}

/// The cell of a text's first letter, as column and row from 1, as terminals count.
fn place(screen: &str, text: &str) -> Option<(u16, u16)> {
    let (row, line) = screen.lines().enumerate().find(|(_, line)| line.contains(text))?;
    let column = line[..line.find(text)?].chars().count();
    Some((u16::try_from(column).ok()? + 1, u16::try_from(row).ok()? + 1))
}

fn settings(home: &Home, text: &str) {
    std::fs::create_dir_all(home.path("config/wasvolta")).unwrap();
    std::fs::write(home.path("config/wasvolta/config.toml"), text).unwrap();
}

fn wasvolta(home: &Home, arguments: &[&str]) -> std::process::Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_wasvolta"));
    command.args(arguments).envs(home.environment()).output().unwrap()
}

#[test]
fn clicks_and_the_wheel_pick_what_is_drawn() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("Horn off?");
    until(|| pane.has_mouse().then_some(()), || pane.screen());
    click(&mut pane, "lantern");
    pane.see("switches marsh.lantern");
    // The wheel over the roster: one row up.
    pane.mouse(&[(64, (5, 10), 'M')]);
    pane.see("switches marsh.moon");
    click(&mut pane, "F1 Wiring");
    pane.see("lower 0x41");
    click(&mut pane, "F2 Calibrate");
    click(&mut pane, "neck  ");
    pane.see("engages heron.neck");
    // A word of the keys line does what its key does, in a question too.
    click(&mut pane, "e engage   ");
    pane.see("Where does the horn stand now?");
    click(&mut pane, "Enter first pulse there");
    pane.see("DRIVING");
    click(&mut pane, "? all keys");
    pane.see("keys  find");
    click(&mut pane, "Esc close");
    pane.see_no_more("keys  find");
    // Cut by a click, from anywhere.
    click(&mut pane, "Ctrl-C cut");
    pane.see("  CUT  ");
}

#[test]
fn a_click_takes_a_row_of_the_first_screen() {
    let home = Home::new();
    let mut pane = Pane::start_in(&home, &[]);
    pane.see("a new rig, simulated");
    until(|| pane.has_mouse().then_some(()), || pane.screen());
    click(&mut pane, "a new rig, simulated");
    pane.see("I²C bus  sim:bench");
    click(&mut pane, "Esc back");
    pane.see_no_more("I²C bus  sim:bench");
    click(&mut pane, "the demo");
    pane.see("Horn off?");
}

#[test]
fn the_help_is_searched_and_a_command_is_found_by_some_of_its_letters() {
    let home = Home::new();
    let mut pane = Pane::start(&home, &["demo"]);
    pane.see("Horn off?");
    pane.keys(&["?"]);
    pane.see("keys  find");
    pane.text("swap plug");
    let screen = pane.see("keys  find swap plug");
    assert!(screen.contains(":swap plugs") && !screen.contains("drop all pulses"), "{screen}");
    pane.keys(&["Escape"]);
    pane.see_no_more("keys  find");
    pane.keys(&[":"]);
    pane.text("calsh");
    pane.see("▌ calibration sheet");
    pane.keys(&["Escape"]);
}

#[test]
fn a_file_that_swaps_two_keys_is_followed_by_the_screen_the_list_and_the_manual() {
    let home = Home::new();
    settings(&home, "# my own keys\n[keys]\nengage = \"n\"\nnext = \"e\"\n");
    let mut pane = Pane::start(&home, &["demo"]);
    let screen = pane.see("n gives punt.rudder its first pulse");
    assert!(screen.contains("n engage"), "{screen}");
    pane.keys(&["n"]);
    pane.see("assumed from its data sheet");
    let listed = String::from_utf8(wasvolta(&home, &["keys"]).stdout).unwrap();
    let key = |of: &str| {
        let own = listed.lines().find(|line| line.contains(of)).unwrap();
        own.split_whitespace().next().unwrap().to_owned()
    };
    assert_eq!(
        (key("give the servo its first pulse where").as_str(), key("glide to the next pulse").as_str()),
        ("n", "e")
    );
    let json = wasvolta(&home, &["keys", "--json"]).stdout;
    let json: serde_json::Value = serde_json::from_slice(&json).unwrap();
    let engage = json["actions"].as_array().unwrap().iter().find(|one| one["action"] == "engage").unwrap();
    assert_eq!(engage["keys"], serde_json::json!(["n"]));
    let folder = home.path("man");
    std::fs::create_dir_all(&folder).unwrap();
    assert!(wasvolta(&home, &["man", folder.to_str().unwrap()]).status.success());
    let page = std::fs::read_to_string(folder.join("wasvolta-keys.7")).unwrap();
    let (before, _) = page.split_once("give the servo its first pulse where").unwrap();
    assert!(before.lines().rev().take(3).any(|line| line.contains("\\fBn\\fR")), "{page}");
}

#[test]
fn wrong_keys_are_said_with_their_line_and_stop_the_screen_but_no_release() {
    let home = Home::new();
    settings(&home, "[keys]\nmark = \"n\"\n");
    let pane = Pane::start(&home, &["demo"]);
    let screen = pane.see("n is also the key of next in Calibrate");
    assert!(screen.contains("config.toml"), "{screen}");
    pane.see("left with 1");
    let rig = home.path("a.rig.toml");
    let new = wasvolta(&home, &["new", rig.to_str().unwrap(), "--bus", "sim:bench"]);
    assert!(new.status.success(), "{}", String::from_utf8_lossy(&new.stderr));
    assert!(wasvolta(&home, &["check", rig.to_str().unwrap()]).status.success());
    let keys = wasvolta(&home, &["keys"]);
    assert_eq!(keys.status.code(), Some(1), "{}", String::from_utf8_lossy(&keys.stderr));
}
