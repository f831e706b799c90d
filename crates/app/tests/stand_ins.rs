//! Stand-ins over a real pty: one process is the board, or the bridge before it, another drives it.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

const RIG: &str = r#"format = 4
name = "Reeds"

[[port]]
name = "line"
kind = "serial"
path = "reeds.line"

[[board]]
name = "reeds"
port = "line"
chip = "firmata"

[[servo]]
name = "reeds.sway"
board = "reeds"
channel = 9
marks = [{ pulse_us = 1000, angle_deg = -40 }, { pulse_us = 2000, angle_deg = 40 }]

[[joint]]
name = "reeds.sway"
servo = "reeds.sway"
home_deg = 0

[[pose]]
name = "left"
angles_deg = { "reeds.sway" = -30 }

[[sequence]]
name = "sway"

[[sequence.step]]
pose = "left"
move_s = 0.4
"#;

fn wasvolta(home: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_wasvolta"));
    for name in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
        command.env(name, home);
    }
    command.env("NO_COLOR", "1").current_dir(home).args(arguments);
    command
}

/// A board that runs until it is dropped.
struct Board(Child);

impl Board {
    fn start(home: &Path, more: &[&str]) -> Self {
        Self::of("firmata", home, more)
    }

    fn of(kind: &str, home: &Path, more: &[&str]) -> Self {
        let arguments = [&["sim", kind, "--link", "reeds.line"][..], more].concat();
        let child = wasvolta(home, &arguments).stdout(Stdio::null()).spawn().unwrap();
        let start = Instant::now();
        while !home.join("reeds.line").exists() {
            assert!(start.elapsed() < Duration::from_secs(20), "the board does not listen");
            std::thread::yield_now();
        }
        Self(child)
    }
}

impl Drop for Board {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

fn play(home: &Path) -> Output {
    play_rig(home, RIG)
}

fn play_rig(home: &Path, rig: &str) -> Output {
    std::fs::write(home.join("reeds.rig.toml"), rig).unwrap();
    wasvolta(home, &["play", "reeds.rig.toml", "sway", "--drive", "--trace", "t.csv"]).output().unwrap()
}

#[test]
fn a_sequence_is_played_on_a_board_over_a_pty_and_its_link_goes_with_it() {
    let home = tempfile::tempdir().unwrap();
    let board = Board::start(home.path(), &[]);
    let output = play(home.path());
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{words}");
    let csv = std::fs::read_to_string(home.path().join("t.csv")).unwrap();
    // −30° is 1125 µs, and a tick is a microsecond there.
    assert!(csv.lines().last().unwrap().contains("reeds.sway,-30.000,1125.00,1125"), "{csv}");
    drop(board);
    assert!(!home.path().join("reeds.line").exists());
}

/// The same servo on an expander behind a bridge.
fn bridged() -> String {
    RIG.replace("kind = \"serial\"\n", "kind = \"i2c\"\nbaud = 115200\n")
        .replace("chip = \"firmata\"\n", "chip = \"pwm-expander\"\naddress = 0x41\n")
}

#[test]
fn a_sequence_is_played_on_an_expander_behind_a_bridge_over_a_pty() {
    let home = tempfile::tempdir().unwrap();
    let board = Board::of("expander", home.path(), &["--address", "0x40", "--address", "0x41"]);
    let output = play_rig(home.path(), &bridged());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let csv = std::fs::read_to_string(home.path().join("t.csv")).unwrap();
    assert!(csv.lines().last().unwrap().contains("reeds.sway,-30.000,1127.28,231"), "{csv}");
    // By reading only, from the path to the chip: released, so it sends no pulse.
    let why = wasvolta(home.path(), &["why", "reeds.rig.toml", "reeds.sway"]).output().unwrap();
    let words = String::from_utf8_lossy(&why.stdout).into_owned();
    assert!(words.contains("it answers at 0x41") && words.contains("no pulse on channel 9"), "{words}");
    let elsewhere = bridged().replace("0x41", "0x42");
    let output = play_rig(home.path(), &elsewhere);
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(words.contains("nothing answers"), "{words}");
    drop(board);
    assert!(!home.path().join("reeds.line").exists());
}

#[test]
fn a_rig_for_a_bus_behind_a_bridge_is_made_without_an_editor() {
    let home = tempfile::tempdir().unwrap();
    let arguments = ["new", "reeds", "--bus", "reeds.line", "--baud", "115200", "--address", "0x41"];
    assert!(wasvolta(home.path(), &arguments).status().unwrap().success());
    let text = std::fs::read_to_string(home.path().join("reeds.rig.toml")).unwrap();
    assert!(text.contains("kind = \"i2c\"\npath = \"reeds.line\"\nbaud = 115200\n"), "{text}");
}

#[test]
fn a_board_that_speaks_something_else_is_named() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &["--fault", "wrong-firmware"]);
    let output = play(home.path());
    assert_eq!(output.status.code(), Some(1));
    let words = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(words.contains("it speaks something else"), "{words}");
    assert!(words.contains("load a firmware that speaks Firmata 2"), "{words}");
}

#[test]
fn a_serial_port_is_asked_only_on_purpose_and_says_what_is_on_it() {
    let home = tempfile::tempdir().unwrap();
    let _board = Board::start(home.path(), &[]);
    let asked = |more: &[&str]| {
        let output =
            wasvolta(home.path(), &[&["scan", "--ask", "reeds.line"][..], more].concat()).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    assert!(asked(&[]).starts_with("reeds.line at 57600 baud speaks Firmata 2.7: a board with chip ="));
    let json: serde_json::Value = serde_json::from_str(&asked(&["--json"])).unwrap();
    assert_eq!((json["answer"].as_str(), json["major"].as_u64()), (Some("firmata"), Some(2)));
    let none = wasvolta(home.path(), &["scan", "--ask", "no.line"]).output().unwrap();
    assert_eq!(none.status.code(), Some(1));
    let words = String::from_utf8_lossy(&none.stderr).into_owned();
    assert!(words.contains("there is no such device") && words.contains("plug it in"), "{words}");
}

#[test]
fn why_does_not_open_a_line_and_says_so() {
    let home = tempfile::tempdir().unwrap();
    std::fs::write(home.path().join("reeds.rig.toml"), RIG).unwrap();
    let output = wasvolta(home.path(), &["why", "reeds.rig.toml", "reeds.sway"]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let words = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(
        words.contains("✗ answer        it was not asked: opening its line resets many boards"),
        "{words}"
    );
}
