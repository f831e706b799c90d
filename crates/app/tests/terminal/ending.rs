//! However it ends, and whatever blocks: cut works, and the last transfer on the bus is a release.

use crate::harness::{Home, PROGRAM, Pane, on_a_terminal, send_signal, until};
use std::fs::File;
use std::io::{Read, Write};
use std::process::{Child, Command};

fn driving(home: &Home) -> Pane {
    let log = home.sim_log();
    let mut pane = Pane::start(home, &["demo", "--sim-log", log.to_str().unwrap()]);
    pane.see("punt.rudder");
    for servo in ["heron.neck", "heron.beak"] {
        pane.keys(if servo == "heron.neck" {
            &["PageUp", "PageUp", "PageUp", "PageUp"]
        } else {
            &["PageDown"]
        });
        pane.see(&format!("e engages {servo}"));
        pane.keys(&["e"]);
        pane.see("Where does the horn stand now?");
        pane.keys(&["Enter"]);
        pane.see(&format!("{servo} engaged"));
    }
    // First pulses come one after another; both are to be on the wire.
    let starts = |line: &str, register: &str| line.contains(register) && !line.ends_with("10");
    let both = || {
        home.bus().iter().any(|l| starts(l, "write 10 ")) && home.bus().iter().any(|l| starts(l, "write 14 "))
    };
    until(|| both().then_some(()), || home.bus().join("\n"));
    pane
}

#[test]
fn quitting_releases_every_channel_last() {
    let home = Home::new();
    let mut pane = driving(&home);
    pane.keys(&["q"]);
    pane.see("left with 0");
    assert!(home.was_released_last(&[1, 2]), "{:?}", home.bus().last());
}

#[test]
fn signals_release_every_channel_last() {
    for signal in ["-TERM", "-HUP", "-QUIT", "-USR1", "-USR2", "-ALRM", "-ABRT"] {
        let home = Home::new();
        let pane = driving(&home);
        pane.signal(signal);
        pane.see("left with 0");
        assert!(home.was_released_last(&[1, 2]), "{signal}: {:?}", home.bus().last());
    }
}

#[test]
fn cut_works_from_inside_an_entry_and_does_not_quit() {
    let home = Home::new();
    let mut pane = driving(&home);
    pane.text("15");
    pane.see("Go to 15");
    pane.keys(&["C-c"]);
    pane.see("  CUT  ");
    pane.see_no_more("Go to 15");
    until(|| released(&home).then_some(()), || home.bus().join("\n"));
    pane.see("Output is cut: no pulses, and no smart servo is stiff. d enables it again");
    pane.keys(&["e"]);
    pane.see("output is cut: d enables it again");
    pane.keys(&["d"]);
    pane.see("OFF");
    pane.see("e engages heron.beak where its horn stands");
}

#[test]
fn stopping_holds_first_and_the_screen_comes_back() {
    let home = Home::new();
    let mut pane = Pane::shell(&home);
    pane.text(&format!("{PROGRAM} demo"));
    pane.keys(&["Enter"]);
    pane.see("Horn off?");
    pane.keys(&["o"]);
    pane.see("DRIVING");
    send_signal("-TSTP", pane.process());
    pane.see("Stopped");
    pane.text("fg");
    pane.keys(&["Enter"]);
    pane.see(" HELD ");
    pane.see("d drives on");
    pane.keys(&["d"]);
    pane.see("DRIVING");
    pane.keys(&["q"]);
    pane.see("released: no pulses remain");
}

#[test]
fn the_window_may_change_its_size_at_any_moment() {
    let home = Home::new();
    let pane = Pane::start(&home, &["demo"]);
    pane.see("Horn off?");
    for (columns, rows) in [(80, 24), (50, 10), (160, 47), (81, 25)] {
        pane.resize(columns, rows);
        let wanted = if columns < 80 { "wasvolta needs 80" } else { "e gives punt.rudder its first pulse" };
        pane.see(wanted);
        pane.see_no_more(if columns < 80 { "e gives" } else { "needs 80" });
    }
}

/// Both channels end released, in one block or in two.
fn released(home: &Home) -> bool {
    let bus = home.bus();
    let last = bus.iter().rev().find(|l| l.contains(" write "));
    last.is_some_and(|l| l.ends_with("0x40 write 253 10"))
}

/// A terminal that nobody reads, until it hangs up.
struct Unread {
    far: Option<File>,
    child: Child,
}

impl Unread {
    /// Starts the program, by way of another where one is named.
    fn start(home: &Home, by: &[&str]) -> Self {
        let log = home.sim_log();
        let words = [by, &[PROGRAM, "demo", "--sim-log", log.to_str().unwrap()]].concat();
        let mut command = Command::new(words[0]);
        command.args(&words[1..]).envs(home.environment()).env("TERM", "xterm-256color");
        let (child, far) = on_a_terminal(command, (160, 47));
        let program = Self { far: Some(far), child };
        program.read_until_drawn();
        program
    }

    /// Reads until the first picture has come; from then on nobody does.
    fn read_until_drawn(&self) {
        let mut seen = Vec::new();
        let mut bytes = [0; 4096];
        while !String::from_utf8_lossy(&seen).contains("all keys") {
            let count = self.far.as_ref().unwrap().read(&mut bytes).unwrap();
            seen.extend_from_slice(&bytes[..count]);
        }
    }

    fn press(&self, keys: &[u8]) {
        self.far.as_ref().unwrap().write_all(keys).unwrap();
    }

    /// Whether the program's first thread stands in a write to the terminal.
    fn is_blocked(&self) -> bool {
        let id = self.child.id();
        let call = std::fs::read_to_string(format!("/proc/{id}/task/{id}/syscall")).unwrap_or_default();
        // The call's number, which differs with the processor, then its arguments: a write to standard output.
        ["1 0x1 ", "64 0x1 "].iter().any(|write| call.starts_with(write))
    }
}

impl Drop for Unread {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn cut_works_while_the_screen_is_blocked() {
    let home = Home::new();
    let program = blocked_and_driving(&home);
    program.press(b"\x03");
    until(|| home.was_released_last(&[1]).then_some(()), || format!("{:?}", home.bus().last()));
    assert!(program.is_blocked(), "and the screen is blocked still");
}

#[test]
fn a_signal_ends_it_while_the_screen_is_blocked() {
    let home = Home::new();
    let mut program = blocked_and_driving(&home);
    send_signal("-TERM", program.child.id());
    until(|| home.was_released_last(&[1]).then_some(()), || format!("{:?}", home.bus().last()));
    until(|| program.child.try_wait().unwrap(), || "the process stays".to_owned());
    assert!(home.was_released_last(&[1]));
}

#[test]
fn a_terminal_that_hangs_up_releases_every_channel_last() {
    // Without a session only its reads and writes fail; as its session's first it gets a signal too.
    for by in [&[][..], &["setsid", "--ctty"]] {
        let home = Home::new();
        let mut program = driving_unread(&home, by);
        program.far = None;
        let left = until(|| program.child.try_wait().unwrap(), || "the process stays".to_owned());
        // Told by the signal it ends well; by a write that failed, with an error. Never by a fault of its own.
        assert!(matches!(left.code(), Some(0 | 1)), "{by:?}: {left}");
        assert!(home.was_released_last(&[1]), "{by:?}: {:?}", home.bus().last());
    }
}

/// A program that drives the neck, its terminal not read after the first picture.
fn driving_unread(home: &Home, by: &[&str]) -> Unread {
    let program = Unread::start(home, by);
    until(|| (home.bus().len() > 5).then_some(()), || "the board was never started".to_owned());
    // Up to the neck; engage where it is said to stand.
    let up = &b"\x1b[5~"[..];
    for keys in [up, up, up, up, b"e", b"\r"] {
        program.press(keys);
    }
    until(|| home.bus().iter().any(|l| l.contains("write 10 DA 00")).then_some(()), || home.bus().join("\n"));
    program
}

/// A program that drives the neck, on a terminal that takes nothing any more.
fn blocked_and_driving(home: &Home) -> Unread {
    let program = driving_unread(home, &[]);
    let mut times = 0;
    until(
        || {
            if program.is_blocked() {
                times += 1;
            } else {
                // Another view is a whole screen to write: that fills what nobody reads.
                times = 0;
                program.press(b"\t");
            }
            (times > 20).then_some(())
        },
        || "the screen never blocked".to_owned(),
    );
    program
}

#[test]
fn a_terminal_that_is_closed_at_the_first_question_ends_it() {
    let home = Home::new();
    let mut command = Command::new(PROGRAM);
    command.envs(home.environment()).env("TERM", "xterm-256color").current_dir(home.path(""));
    let (mut child, mut far) = on_a_terminal(command, (100, 30));
    let mut seen = Vec::new();
    let mut bytes = [0; 4096];
    while !String::from_utf8_lossy(&seen).contains("want") {
        let count = far.read(&mut bytes).unwrap();
        seen.extend_from_slice(&bytes[..count]);
    }
    // No signal comes with it: this terminal is nobody's session.
    drop(far);
    until(|| child.try_wait().unwrap(), || "it stays, and asks nobody".to_owned());
}
