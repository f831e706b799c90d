//! The tutorial, done as it is written: its commands are run, its keys pressed, its words seen.

use crate::calibrate::eye;
use crate::harness::{Home, PROGRAM, Pane};
use std::process::Command;

const TUTORIAL: &str = include_str!("../../../../docs/tutorial.md");

/// The fenced blocks with what each is.
fn blocks() -> Vec<(&'static str, Vec<&'static str>)> {
    let mut found: Vec<(&str, Vec<&str>)> = Vec::new();
    let mut inside = false;
    for line in TUTORIAL.lines() {
        match (line.strip_prefix("```"), inside) {
            (Some(kind), false) => {
                found.push((kind, Vec::new()));
                inside = true;
            }
            (Some(_), true) => inside = false,
            (None, true) => found.last_mut().unwrap().1.push(line),
            (None, false) => {}
        }
    }
    found
}

/// Presses what a line of a block says, and waits for what it then promises.
fn press(pane: &mut Pane, line: &str) {
    let (keys, seen) = line.split_once("  ").unwrap_or_else(|| panic!("{line:?} promises nothing"));
    if matches!(keys.trim(), "m" | "h") {
        // As the text says: once the horn stands.
        eye(pane);
    }
    let seen = seen.trim();
    let before = pane.screen();
    assert!(
        !before.contains(seen),
        "{seen:?} stands there before {keys:?} is pressed, so it promises nothing:\n{before}"
    );
    let mut typed = false;
    for word in keys.split_whitespace() {
        let named = match word {
            "Ctrl-S" => Some("C-s"),
            "Esc" => Some("Escape"),
            "Shift-Left" => Some("S-Left"),
            "Enter" | "Tab" | "Left" | "Right" | "Down" | "F2" | "F3" | "F4" => Some(word),
            _ => None,
        };
        match (named, word) {
            (Some(key), _) => pane.keys(&[key]),
            (None, "‹angle›") => {
                let angle = eye(pane);
                pane.text(&format!("{angle:.0}"));
            }
            (None, word) => {
                if typed {
                    pane.text(" ");
                }
                pane.text(word);
                typed = true;
            }
        }
    }
    pane.see(seen);
    if keys.contains("‹angle›") {
        pane.see_no_more("the horn stands at");
    }
}

#[test]
fn what_the_tutorial_says_happens() {
    let home = Home::new();
    let mut pane: Option<Pane> = None;
    for (kind, lines) in blocks() {
        for line in lines {
            match kind {
                "sh" if line.starts_with("wasvolta open") => {
                    let words: Vec<&str> = line.split_whitespace().skip(1).collect();
                    let opened = Pane::start_in(&home, &words);
                    opened.see("next");
                    pane = Some(opened);
                }
                "sh" => {
                    pane = None;
                    let words = line.strip_prefix("wasvolta ").unwrap().split_whitespace();
                    let output = Command::new(PROGRAM)
                        .args(words)
                        .current_dir(home.path(""))
                        .envs(home.environment())
                        .output()
                        .unwrap();
                    assert!(output.status.success(), "{line}\n{}", String::from_utf8_lossy(&output.stderr));
                }
                "keys" => press(pane.as_mut().expect("keys are pressed in an open rig"), line),
                other => panic!("a block of kind {other:?} is not run"),
            }
        }
    }
    let made: Vec<&str> = ["crane.rig.toml", "crane.boom-protractor.pdf", "boom.pdf", "sequence-1.pdf"]
        .into_iter()
        .filter(|n| home.path(n).exists())
        .collect();
    assert_eq!(made.len(), 4, "{made:?}");
    let rig = std::fs::read_to_string(home.path("crane.rig.toml")).unwrap();
    assert_eq!(rig.matches("angle_deg =").count(), 6, "five marks and a limit:\n{rig}");
    assert!(rig.contains("the mast is in the way") && rig.contains("home_deg"), "{rig}");
}
