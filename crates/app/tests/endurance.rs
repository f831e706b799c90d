//! Killed at any moment of editing and saving: the file is whole, and no edit older than two seconds is lost.
//!
//! Two hundred lives of the real binary, several at once: a target of its own, for it keeps the machine busy.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

#[path = "terminal/harness.rs"]
#[allow(dead_code, reason = "the tests in panes use all of it, this one a part")]
mod harness;

use chrono::{DateTime, Utc};
use harness::{Home, PROGRAM, copy_in, on_a_terminal, rig_beside, until};
use std::fs::File;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use wasvolta_core::rig::file::{Loaded, load};

const TRIALS: u32 = 200;
const AT_ONCE: u32 = 8;
/// What may be lost.
const MOST_LOST: Duration = Duration::from_secs(2);
const CTRL_S: &[u8] = b"\x13";

/// The program on a terminal that is only a pair of descriptors.
struct Run {
    child: Child,
    keys: File,
    seen: Arc<Mutex<Vec<u8>>>,
}

impl Run {
    fn start(home: &Home, rig: &Path) -> Self {
        let mut command = Command::new(PROGRAM);
        command.args(["--log".as_ref(), log_of(home).as_os_str(), "open".as_ref(), rig.as_os_str()]);
        command.envs(home.environment());
        let (child, keys) = on_a_terminal(command, (80, 24));
        let mut screen = keys.try_clone().unwrap();
        let seen = Arc::new(Mutex::new(Vec::new()));
        let all = Arc::clone(&seen);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = screen.read(&mut bytes) {
                all.lock().unwrap().extend_from_slice(&bytes[..count]);
            }
        });
        Self { child, keys, seen }
    }

    fn see(&self, wanted: &str) {
        until(
            || {
                let seen = self.seen.lock().unwrap();
                seen.windows(wanted.len()).any(|w| w == wanted.as_bytes()).then_some(())
            },
            || format!("never saw {wanted:?}"),
        );
    }

    fn keys(&mut self, bytes: &[u8]) {
        self.keys.write_all(bytes).unwrap();
    }

    fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

fn log_of(home: &Home) -> PathBuf {
    home.path("run.log")
}

/// The number of the last edit that was made before a time, by the run's own log. A key that a busy machine has
/// not yet brought to the program is no edit.
fn edit_before(home: &Home, time: DateTime<Utc>) -> u32 {
    let log = std::fs::read_to_string(log_of(home)).unwrap_or_default();
    let number = |line: &str| -> Option<u32> {
        let (at, rest) = line.split_once(' ')?;
        let trim = rest.split_once("edit: knob: trim +0.")?.1;
        (at.parse::<DateTime<Utc>>().ok()? < time).then(|| trim.parse().ok())?
    };
    log.lines().filter_map(number).max().unwrap_or(0)
}

/// Small numbers that follow from a seed.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

/// The number of the last edit that a rig's text has: its knob's trim in thousandths.
fn edit_in(text: &str, what: &Path) -> u32 {
    match load(text) {
        Loaded::Sound(rig) => format!("{:.0}", rig.inputs[0].trim * 1000.0).parse().unwrap(),
        broken => panic!("{} is broken: {broken:?}", what.display()),
    }
}

/// One life and its end. Gives how many edits were saved, and how many more only the copy had.
fn trial(seed: u32, watched: &AtomicU32) -> (u32, u32) {
    let home = Home::new();
    let rig = rig_beside(&home, str::to_owned, str::to_owned);
    let mut dice = Dice(u64::from(seed) + 1);
    let mut run = Run::start(&home, &rig);
    run.see("Sequence");
    // Inputs, and there the row of the trim.
    run.keys(b"\x1bOR");
    run.keys(&b"\x1b[B".repeat(6));
    let life = Duration::from_millis(50 + dice.below(3200));
    let start = Instant::now();
    let mut sent = 0;
    while start.elapsed() < life {
        sent += 1;
        run.keys(format!("0.{sent:03}\r").as_bytes());
        // One half saves often; in the other half all hangs on the copy.
        if seed.is_multiple_of(2) && dice.below(6) == 0 {
            run.keys(CTRL_S);
        }
        // A person's edits have a time between them: this is what is random here, not a wait for something.
        std::thread::sleep(Duration::from_millis(dice.below(60)));
    }
    let due_by = Utc::now() - MOST_LOST;
    run.kill();
    let file = edit_in(&std::fs::read_to_string(&rig).unwrap(), &rig);
    let copy = copy_in(&home).map_or(0, |text| edit_in(&text, Path::new("the copy")));
    let (due, kept) = (edit_before(&home, due_by), file.max(copy));
    assert!(kept >= due, "seed {seed}: {kept} of {sent} edits kept, {due} were older than {MOST_LOST:?}");
    watched.fetch_add(u32::from(due > 0), Ordering::SeqCst);
    (file, kept - file)
}

#[test]
fn no_kill_breaks_a_file_or_loses_what_is_older_than_two_seconds() {
    let (next, saved, copied) = (AtomicU32::new(0), AtomicU32::new(0), AtomicU32::new(0));
    let (failed, watched) = (AtomicBool::new(false), AtomicU32::new(0));
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE {
            scope.spawn(|| {
                while !failed.load(Ordering::SeqCst) {
                    let seed = next.fetch_add(1, Ordering::SeqCst);
                    if seed >= TRIALS {
                        return;
                    }
                    let Ok((file, more)) = std::panic::catch_unwind(|| trial(seed, &watched)) else {
                        failed.store(true, Ordering::SeqCst);
                        return;
                    };
                    saved.fetch_add(u32::from(file > 0), Ordering::SeqCst);
                    copied.fetch_add(u32::from(more > 0), Ordering::SeqCst);
                }
            });
        }
    });
    assert!(!failed.load(Ordering::SeqCst), "a trial failed; its words stand above");
    // There was something to lose, and both ways out were really taken.
    let watched = watched.into_inner();
    assert!(watched > TRIALS / 4, "edits were due in {watched} of {TRIALS}");
    let (saved, copied) = (saved.into_inner(), copied.into_inner());
    assert!(saved > TRIALS / 4 && copied > TRIALS / 8, "saved in {saved}, copied in {copied} of {TRIALS}");
}
