//! The command line: what it prints, how it exits, and what it writes.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test fails by panicking")]

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

const SAMPLE: &str = include_str!("../../../examples/marsh-clock.rig.toml");

fn run(home: &Path, arguments: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_wasvolta"));
    for name in ["HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
        command.env(name, home);
    }
    command.env("NO_COLOR", "1").args(arguments).output().unwrap()
}

/// Plays *wake* on the simulated boards by the manual clock.
fn drive(home: &Path, rig: &Path, more: &[&str]) -> Output {
    let play = ["play", rig.to_str().unwrap(), "wake", "--drive", "--clock", "manual"];
    run(home, &[&play[..], more].concat())
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn example() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/marsh-clock.rig.toml")
}

/// A copy of the demo for one test: a rig that is driven is held, and the others would be refused.
fn own_example(home: &Path) -> PathBuf {
    let folder = home.join("own");
    std::fs::create_dir_all(&folder).unwrap();
    for name in ["marsh-clock.rig.toml", "marsh-clock.sim.toml"] {
        std::fs::copy(example().with_file_name(name), folder.join(name)).unwrap();
    }
    folder.join("marsh-clock.rig.toml")
}

/// A changed copy of the demo's rig.
fn changed(home: &Path, from: &str, to: &str) -> PathBuf {
    assert!(SAMPLE.contains(from), "{from:?}");
    let path = home.join("changed.rig.toml");
    std::fs::write(&path, SAMPLE.replacen(from, to, 1)).unwrap();
    path
}

#[test]
fn check_tells_sound_from_broken_from_unreadable() {
    let home = tempfile::tempdir().unwrap();
    let cases = [
        (example(), 0, "is sound: 12 servos, 6 inputs, 15 poses, 7 sequences"),
        (changed(home.path(), "channel = 2", "channel = 1"), 1, ""),
        (home.path().join("none.rig.toml"), 2, ""),
    ];
    for (path, code, words) in cases {
        let output = run(home.path(), &["check", path.to_str().unwrap()]);
        assert_eq!(output.status.code(), Some(code), "{}", path.display());
        assert!(text(&output.stdout).contains(words));
        assert!(!text(&output.stderr).contains("backtrace"));
    }
    std::fs::write(home.path().join("broken.rig.toml"), "name = [").unwrap();
    let output = run(home.path(), &["check", home.path().join("broken.rig.toml").to_str().unwrap()]);
    assert_eq!(output.status.code(), Some(2));
}

#[test]
fn nobody_reading_what_it_says_is_no_fault() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    for arguments in [&["check", rig.to_str().unwrap()][..], &["completions", "bash"]] {
        let (unread, out) = std::io::pipe().unwrap();
        drop(unread);
        let mut command = Command::new(env!("CARGO_BIN_EXE_wasvolta"));
        let status = command.env("XDG_STATE_HOME", home.path()).args(arguments).stdout(out).status().unwrap();
        assert_eq!(status.code(), Some(0), "{arguments:?}");
    }
}

#[test]
fn without_a_terminal_the_screen_is_refused_before_any_device_is_touched() {
    let home = tempfile::tempdir().unwrap();
    let log = home.path().join("bus.log");
    for arguments in [&[][..], &["demo", "--sim-log", log.to_str().unwrap()]] {
        let output = run(home.path(), arguments);
        assert_eq!(output.status.code(), Some(1));
        let words = text(&output.stderr);
        assert!(words.contains("there is no terminal to draw on"), "{words}");
        assert!(words.contains("name a command that needs none"), "{words}");
        assert!(!log.exists());
    }
}

#[test]
fn a_problem_is_underlined_in_its_line_with_what_to_do() {
    let home = tempfile::tempdir().unwrap();
    let path = changed(home.path(), "channel = 2", "chanel = 2");
    let words = text(&run(home.path(), &["check", path.to_str().unwrap()]).stderr);
    for wanted in
        ["there is no key `chanel` here", "117 │ chanel = 2", "│ ━━━━━━ here", "help: write channel"]
    {
        assert!(words.contains(wanted), "{wanted:?} is missing from\n{words}");
    }
}

#[test]
fn check_as_json_gives_line_and_column() {
    let home = tempfile::tempdir().unwrap();
    let path = changed(home.path(), "pulse_us = 1900", "pulse_us = 2930");
    let output = run(home.path(), &["check", path.to_str().unwrap(), "--json"]);
    assert_eq!(output.status.code(), Some(1));
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let problem = &report["problems"][0];
    assert_eq!(report["sound"], false);
    assert_eq!(problem["message"], "pulse is 2930 µs, outside 300 to 2900 µs");
    let line = usize::try_from(problem["line"].as_u64().unwrap()).unwrap();
    let column = usize::try_from(problem["column"].as_u64().unwrap()).unwrap();
    let written = std::fs::read_to_string(&path).unwrap();
    let at = written.lines().nth(line - 1).unwrap();
    assert!(at[column - 1..].starts_with("2930"), "{at}");
}

#[test]
fn play_wants_exactly_one_way() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    assert_eq!(run(home.path(), &["play", rig, "wake"]).status.code(), Some(2));
    assert_eq!(run(home.path(), &["play", rig, "wake", "--dry", "--drive"]).status.code(), Some(2));
    let missing = run(home.path(), &["play", rig, "dance", "--dry"]);
    assert_eq!(missing.status.code(), Some(1));
    assert!(text(&missing.stderr).contains("there is: wake, strike"));
}

#[test]
fn a_dry_run_writes_the_trace_that_the_format_says() {
    let home = tempfile::tempdir().unwrap();
    let trace = home.path().join("t.csv");
    let rig = example();
    let arguments = ["play", rig.to_str().unwrap(), "strike", "--dry", "--trace", trace.to_str().unwrap()];
    let output = run(home.path(), &arguments);
    assert!(output.status.success());
    assert!(text(&output.stderr).contains("step 2 of strike is short: heron.neck needs 0.422 s"));
    let csv = std::fs::read_to_string(&trace).unwrap();
    assert!(!csv.contains('\r'));
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(
        lines[0],
        "t_s,servo,joint_deg,pulse_us,ticks,level_percent,pulse_us_per_s,counts,counts_per_s"
    );
    // 4.25 s at 20 ms a beat, both ends, and the end itself off the beat: 214 times twelve parts.
    assert_eq!(lines.len(), 1 + 12 * 214);
    assert_eq!(lines[1], "0.000,heron.neck,0.000,1493.28,306,,0.0,,");
    assert_eq!(lines[2], "0.000,heron.beak,4.000,1141.92,234,,0.0,,");
    assert_eq!(lines[3], "0.000,punt.rudder,,,,,,,");
    assert_eq!(lines[lines.len() - 12], "4.250,heron.neck,0.000,1493.28,306,,0.0,,");
    // A lamp has a level and no angle.
    assert_eq!(lines[8], "0.000,marsh.moon,,0.00,0,0.000,0.0,,");
    let again = home.path().join("again.csv");
    run(home.path(), &["play", rig.to_str().unwrap(), "strike", "--dry", "--trace", again.to_str().unwrap()]);
    assert_eq!(csv, std::fs::read_to_string(again).unwrap(), "byte for byte");
}

#[test]
fn a_winch_is_armed_before_a_dry_run_begins_and_stops_at_its_end() {
    let home = tempfile::tempdir().unwrap();
    let (trace, rig) = (home.path().join("t.csv"), example());
    let arguments = ["play", rig.to_str().unwrap(), "lift", "--dry", "--trace", trace.to_str().unwrap()];
    assert!(run(home.path(), &arguments).status.success());
    let csv = std::fs::read_to_string(&trace).unwrap();
    let winch =
        |t: &str| csv.lines().find(|l| l.starts_with(&format!("{t},crane.winch,"))).unwrap().to_owned();
    assert_eq!(winch("0.000"), "0.000,crane.winch,,1478.64,303,0.000,0.0,,");
    assert_eq!(winch("2.000"), "2.000,crane.winch,,1327.36,272,-40.000,0.0,,");
    assert_eq!(winch("6.500"), "6.500,crane.winch,,1478.64,303,0.000,3.8,,");
    let lantern = csv.lines().find(|l| l.starts_with("2.000,marsh.lantern,")).unwrap();
    assert_eq!(lantern, "2.000,marsh.lantern,,19983.60,4095,100.000,0.0,,");
}

#[test]
fn an_unwritable_trace_is_said_before_anything_is_played() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let arguments = ["play", rig.to_str().unwrap(), "wake", "--dry", "--trace", "/proc/none/t.csv"];
    let output = run(home.path(), &arguments);
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("cannot write /proc/none/t.csv"), "{}", text(&output.stderr));
    assert!(output.stdout.is_empty());
}

#[test]
fn driving_by_hand_clock_plays_to_the_end_and_releases_last() {
    let home = tempfile::tempdir().unwrap();
    let (log, trace) = (home.path().join("bus.log"), home.path().join("t.csv"));
    let more = ["--sim-log", log.to_str().unwrap(), "--trace", trace.to_str().unwrap()];
    let output = drive(home.path(), &own_example(home.path()), &more);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(text(&output.stdout).starts_with("moves: heron.neck (assumed at home: it may jump), heron.beak"));
    let bus = std::fs::read_to_string(log).unwrap();
    // Behind the releases they are read back.
    let last: Vec<&str> = bus.lines().rev().filter(|line| line.contains("write")).take(2).collect();
    assert!(
        last[0].ends_with("write 62 00 00 00 10") && last[1].ends_with("write 14 00 00 00 10"),
        "{last:?}"
    );
    let csv = std::fs::read_to_string(trace).unwrap();
    // Every beat of 3.6 s has its row for each of the twelve parts, from 0 to the end.
    let times: Vec<&str> = csv.lines().skip(1).step_by(12).filter_map(|l| l.split(',').next()).collect();
    assert_eq!((times.first(), times.last(), times.len()), (Some(&"0.000"), Some(&"3.600"), 181));
    // The second step looks to −35°, which the neck reaches.
    assert!(csv.lines().any(|l| l.contains("heron.neck,-35.000")), "the neck never looked");
}

#[test]
fn missing_hardware_ends_a_driven_run_with_what_to_try() {
    let home = tempfile::tempdir().unwrap();
    let path = changed(home.path(), "sim:bench-bus", "/dev/i2c-250");
    let output = run(home.path(), &["play", path.to_str().unwrap(), "wake", "--drive"]);
    assert_eq!(output.status.code(), Some(1));
    let words = text(&output.stderr);
    assert!(words.contains("upper: cannot open it: there is no such path; check the path"), "{words}");
    assert!(words.contains("nothing was played"), "{words}");
}

#[test]
fn the_sample_in_the_documentation_is_sound() {
    let page = include_str!("../../../docs/rig-format.md");
    let mut samples = page.split("```toml\n").skip(1).map(|block| block.split("```").next().unwrap());
    let (sample, levels) = (samples.next().unwrap(), samples.next().unwrap());
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join("sample.rig.toml");
    for shown in [sample.to_owned(), format!("{sample}{levels}")] {
        std::fs::write(&path, shown).unwrap();
        let output = run(home.path(), &["check", path.to_str().unwrap()]);
        assert!(output.status.success(), "{}", text(&output.stderr));
    }
    assert!((35..=60).contains(&sample.lines().count()), "{} lines", sample.lines().count());
}

/// What stands in a folder, by name.
fn names_in(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> =
        std::fs::read_dir(folder).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

/// All words of an error, whatever width it was broken at.
fn flat(bytes: &[u8]) -> String {
    text(bytes).replace(['│', '╰', '╭', '▸', '━', '─'], " ").split_whitespace().collect::<Vec<_>>().join(" ")
}

#[test]
fn a_sheet_is_the_same_bytes_for_the_same_date_and_leaves_nothing_half_written() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let draw = |kind: &str, servo: &str, name: &str, more: &[&str]| {
        let path = home.path().join(name);
        let base = ["sheet", rig.to_str().unwrap(), kind, "--servo", servo, "-o", path.to_str().unwrap()];
        let output = run(home.path(), &[&base[..], &["--date", "2026-01-02"], more].concat());
        (output, path)
    };
    for name in ["a.svg", "a.pdf"] {
        for (kind, servo) in [("calibration", "heron.neck"), ("protractor", "punt.rudder"), ("wiring", "")] {
            let (output, path) = draw(kind, servo, name, &["--paper", "letter"]);
            assert!(output.status.success(), "{}", text(&output.stderr));
            assert!(text(&output.stdout).trim().ends_with(name), "the path is said");
            let first = std::fs::read(&path).unwrap();
            let (output, _) = draw(kind, servo, name, &["--paper", "letter"]);
            assert!(flat(&output.stderr).contains("is there already: give another name, or --force"));
            assert!(draw(kind, servo, name, &["--paper", "letter", "--force"]).0.status.success());
            assert!(std::fs::read(&path).unwrap() == first);
            std::fs::remove_file(path).unwrap();
        }
    }
    let refused = [
        ("calibration", "punt.rudder", "b.pdf", vec![], "no mark yet"),
        ("protractor", "heron.neck", "b.pdf", vec!["--horn", "150"], "a horn of 150 mm needs"),
        ("calibration", "heron.neck", "b.txt", vec![], "must end in .svg or .pdf"),
        ("calibration", "heron.neck", "b.pdf", vec!["--horn", "30"], "are about a protractor"),
        ("calibration", "heron.neck", "b.pdf", vec!["--board", "upper"], "is about the wiring sheet"),
        ("wiring", "", "b.pdf", vec!["--board", "middle"], "there is: upper, lower"),
        ("calibration", "heron.tail", "b.pdf", vec![], "there is: heron.neck, heron.beak, punt.rudder"),
    ];
    for (kind, servo, name, more, words) in refused {
        let (output, _) = draw(kind, servo, name, &more);
        assert_eq!(output.status.code(), Some(1));
        assert!(flat(&output.stderr).contains(words), "{}", text(&output.stderr));
    }
    let (output, _) = draw("calibration", "heron.neck", "a.pdf/b.pdf", &[]);
    assert!(output.status.success(), "a missing folder is made");
    let (output, _) = draw("calibration", "heron.neck", "a.pdf", &[]);
    assert!(flat(&output.stderr).contains("is a folder: give the name of a file"));
    assert_eq!(names_in(home.path()), ["a.pdf"]);
    assert_eq!(names_in(&home.path().join("a.pdf")), ["b.pdf"]);
}

#[test]
fn a_new_rig_is_made_without_the_screen_and_overwrites_nothing() {
    let home = tempfile::tempdir().unwrap();
    let path = home.path().join("arm");
    let new = |more: &[&str]| run(home.path(), &[&["new", path.to_str().unwrap()], more].concat());
    let output = new(&["--bus", "/dev/i2c-1", "--address", "0x41", "--serial", "/dev/ttyACM0"]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let made = home.path().join("arm.rig.toml");
    let output = run(home.path(), &["check", made.to_str().unwrap()]);
    assert!(text(&output.stdout).contains("is sound: 0 servos, 1 input"), "{}", text(&output.stderr));
    let before = std::fs::read(&made).unwrap();
    for (more, code, words) in [
        (vec!["--bus", "/dev/i2c-1"], 1, "is there already"),
        (vec!["--bus", "/dev/i2c-1", "--address", "forty"], 1, "is not an address"),
        (vec![], 2, "--bus"),
    ] {
        let output = new(&more);
        assert_eq!(output.status.code(), Some(code));
        assert!(flat(&output.stderr).contains(words), "{}", text(&output.stderr));
    }
    assert_eq!(std::fs::read(&made).unwrap(), before);
}

#[test]
fn a_run_is_recorded_and_replayed_and_another_version_is_refused() {
    let home = tempfile::tempdir().unwrap();
    let path = |name: &str| home.path().join(name).display().to_string();
    let (tape, live, again) = (path("run.rec"), path("live.csv"), path("again.csv"));
    let output = drive(home.path(), &own_example(home.path()), &["--record", &tape, "--trace", &live]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    let output = run(home.path(), &["replay", &tape, "--trace", &again]);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(text(&output.stdout).contains("setpoints, the same byte for byte"));
    // What was traced while it ran is a part of what the replay traces, but for the time, which starts earlier.
    let rows = |file: &str| -> Vec<String> {
        let text = std::fs::read_to_string(file).unwrap();
        text.lines().skip(1).map(|l| l.split_once(',').unwrap().1.to_owned()).collect()
    };
    let (live, again) = (rows(&live), rows(&again));
    assert!(live.len() > 300 && again.windows(live.len()).any(|part| part == live));
    let text_of = std::fs::read_to_string(&tape).unwrap();
    std::fs::write(&tape, text_of.replacen("\"format\":4", "\"format\":5", 1)).unwrap();
    let output = run(home.path(), &["replay", &tape]);
    assert_eq!(output.status.code(), Some(2));
    assert!(flat(&output.stderr).contains("this recording has format 5"), "{}", text(&output.stderr));
    let unwritable = drive(home.path(), &own_example(home.path()), &["--record", "/proc/none/run.rec"]);
    assert_eq!(unwritable.status.code(), Some(1));
    assert!(flat(&unwritable.stderr).contains("cannot write /proc/none/run.rec"));
}

#[test]
fn help_manual_and_completions_come_from_one_place() {
    let home = tempfile::tempdir().unwrap();
    let help = text(&run(home.path(), &["--help"]).stdout);
    for code in ["  0  done", "  1  refused or failed", "  2  the command line was not understood"] {
        assert!(help.contains(code), "{help}");
    }
    let version = text(&run(home.path(), &["--version"]).stdout);
    let commit = version.trim().trim_end_matches(')').rsplit('(').next().unwrap().to_owned();
    assert!(commit == "unknown commit" || commit.chars().all(|c| c.is_ascii_hexdigit()), "{version}");
    let folder = home.path().join("pages");
    assert!(run(home.path(), &["man", folder.to_str().unwrap()]).status.success());
    for command in [
        "demo",
        "open",
        "new",
        "check",
        "scan",
        "why",
        "sim",
        "play",
        "replay",
        "sheet",
        "sequence",
        "man",
        "completions",
    ] {
        assert!(help.contains(command));
        let page = std::fs::read_to_string(folder.join(format!("wasvolta-{command}.1"))).unwrap();
        assert!(page.contains(".SH SYNOPSIS"), "{command}");
        for shell in ["bash", "zsh", "fish"] {
            let completions = text(&run(home.path(), &["completions", shell]).stdout);
            assert!(completions.contains(command), "{shell} knows no {command}");
        }
    }
    let page = std::fs::read_to_string(folder.join("wasvolta.1")).unwrap();
    assert!(page.contains("Exit codes"), "{page}");
    for name in ["NO_COLOR", "WASVOLTA\\_GLYPHS", "XDG\\_STATE\\_HOME", "TMPDIR"] {
        assert!(
            page.contains(name) || page.contains(&name.replace('\\', "")),
            "{name} is missing from\n{page}"
        );
    }
}

#[test]
fn a_press_that_cuts_ends_a_driven_run_with_its_words() {
    let home = tempfile::tempdir().unwrap();
    // The breeze is a switch that is pressed two seconds after the beginning.
    let text = SAMPLE
        .replace("wave = { shape = \"sine\", period_s = 6 }", "wave = { shape = \"steps\", period_s = 4 }")
        .replace(
            "channel = \"wave\"\nends = [0, 1]",
            "channel = \"wave\"\nends = [0, 1]\nswitch = { on_above = 0.6, off_below = 0.4 }",
        );
    for (does, code, words) in [
        ("does = \"cut\"", 1, "air was pressed: cut"),
        ("does = \"stop\"", 1, "air was pressed: stop"),
        ("does = \"keep\"\npose = \"x\"", 0, "air was pressed: a pose is kept only where the rig is open"),
    ] {
        let path = home.path().join("press.rig.toml");
        std::fs::write(&path, format!("{text}\n[[press]]\ninput = \"air\"\n{does}\n")).unwrap();
        let output = drive(home.path(), &path, &[]);
        let all = text_of(&output);
        assert_eq!(output.status.code(), Some(code), "{all}");
        assert!(all.contains(words), "{words}: {all}");
    }
}

/// What a command has said, wherever.
fn text_of(output: &Output) -> String {
    format!("{}{}", text(&output.stdout), text(&output.stderr))
}

#[test]
fn a_log_says_what_was_done_and_a_log_that_cannot_be_written_is_refused() {
    let home = tempfile::tempdir().unwrap();
    let log = home.path().join("run.log");
    let rig = own_example(home.path());
    assert!(drive(home.path(), &rig, &["--log", log.to_str().unwrap()]).status.success());
    let words = std::fs::read_to_string(&log).unwrap();
    assert!(words.contains("INFO wasvolta ") && words.contains("marsh-clock.rig.toml: 12 servos"), "{words}");
    let output = run(home.path(), &["--log", "/proc/none/x.log", "check", rig.to_str().unwrap()]);
    assert_eq!(output.status.code(), Some(1));
    assert!(flat(&output.stderr).contains("give --log a file that may be written"));
}

#[test]
fn what_cannot_be_read_ends_with_the_same_code_everywhere() {
    let home = tempfile::tempdir().unwrap();
    let none = home.path().join("none.rig.toml").display().to_string();
    let sheet = home.path().join("x.pdf").display().to_string();
    for arguments in [
        vec!["check", none.as_str()],
        vec!["play", &none, "wake", "--dry"],
        vec!["sheet", &none, "calibration", "--servo", "x", "-o", &sheet],
    ] {
        let output = run(home.path(), &arguments);
        assert_eq!(output.status.code(), Some(2), "{arguments:?}");
        assert!(flat(&output.stderr).contains("cannot read"), "{arguments:?}");
    }
}

#[test]
fn a_scan_names_what_answers_and_what_is_missing_and_is_json_too() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let said = run(home.path(), &["scan", rig]);
    assert_eq!(said.status.code(), Some(0));
    let words = text(&said.stdout);
    for wanted in [
        "sim:bench-bus\n  0x40  PWM expander, asleep: upper in the rig\n",
        "  0x48  another kind of chip\n",
        "  0x70  all boards at once: the expanders above answer here too\n",
    ] {
        assert!(words.contains(wanted), "{wanted:?} is missing from\n{words}");
    }
    let said = run(home.path(), &["scan", rig, "--fault", "absent@0x41"]);
    assert!(text(&said.stdout).contains("0x41  nothing answers, the rig has lower there"));
    let said = run(home.path(), &["scan", rig, "--json"]);
    let found: serde_json::Value = serde_json::from_slice(&said.stdout).unwrap();
    let bus = found["buses"].as_array().unwrap().iter().find(|b| b["path"] == "sim:bench-bus").unwrap();
    let kinds: Vec<&str> =
        bus["devices"].as_array().unwrap().iter().filter_map(|d| d["kind"].as_str()).collect();
    assert_eq!(kinds, ["pwm-expander", "pwm-expander", "other", "all-call"]);
}

#[test]
fn why_names_the_first_link_that_is_not_proven() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let cases = [
        ("no-bus", "path"),
        ("denied", "permission"),
        ("held", "other holder"),
        ("absent", "address"),
        ("silent", "address"),
        ("wrong-chip", "chip"),
        // Nothing has started a board that was just switched on.
        ("rail-dip", "awake"),
    ];
    for (fault, link) in cases {
        let output = run(home.path(), &["why", rig, "heron.neck", "--json", "--fault", fault]);
        assert_eq!(output.status.code(), Some(1), "{fault}");
        let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(report["look_at"], link, "{fault}");
    }
    let words = text(&run(home.path(), &["why", rig, "heron.neck", "--fault", "absent"]).stdout);
    assert!(words.contains("✗ address       nothing answers at 0x40\n"), "{words}");
    assert!(words.contains("try: check the board's supply, the two bus wires"), "{words}");
    let nobody = run(home.path(), &["why", rig, "heron.tail"]);
    assert_eq!(nobody.status.code(), Some(1));
    assert!(text(&nobody.stderr).contains("there is: heron.neck, heron.beak"), "{}", text(&nobody.stderr));
    let junk = run(home.path(), &["why", rig, "heron.neck", "--fault", "moonlight"]);
    assert_eq!(junk.status.code(), Some(2));
}

#[test]
fn cards_go_from_one_rig_to_another_on_the_command_line() {
    let home = tempfile::tempdir().unwrap();
    let rig = home.path().join("marsh-clock.rig.toml");
    std::fs::write(&rig, include_str!("../../../examples/marsh-clock.rig.toml")).unwrap();
    let run = |arguments: &[&str]| {
        let output = std::process::Command::new(env!("CARGO_BIN_EXE_wasvolta"))
            .args(arguments)
            .current_dir(home.path())
            .output()
            .unwrap();
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    };
    let card = |servo: &str, file: &str| run(&["card", "save", "marsh-clock.rig.toml", servo, "-o", file]);
    assert_eq!(card("heron.neck", "neck.servo.toml").0, Some(0));
    assert_eq!(card("crane.slew", "slew.servo.toml").0, Some(0));
    let twice = card("heron.neck", "neck.servo.toml");
    assert!(twice.0 == Some(1) && twice.2.contains("is there already"), "{twice:?}");
    let (_, listed, _) = run(&["card", "list"]);
    assert!(
        listed.contains("neck.servo.toml: heron.neck, positional") && listed.lines().count() == 2,
        "{listed}"
    );
    let (code, beside, _) = run(&["card", "compare", "neck.servo.toml", "slew.servo.toml"]);
    assert!(code == Some(1) && beside.contains("≠ slope") && beside.contains("9.86 °/100 µs"), "{beside}");
    assert_eq!(run(&["card", "compare", "neck.servo.toml", "neck.servo.toml"]).0, Some(0));
    let (code, alike, _) = run(&["card", "alike", ".", "-o", "box.svg"]);
    assert_eq!(code, Some(0));
    assert!(alike.contains("1  heron.neck") && alike.contains("2 of a kind: at the same pulse"), "{alike}");
    assert!(std::fs::read_to_string(home.path().join("box.svg")).unwrap().contains("crane.slew"));
    let one = run(&["card", "alike", "neck.servo.toml"]);
    assert!(one.0 == Some(1) && one.2.contains("there is 1 card"), "{one:?}");
    let (_, piped, _) = run(&["card", "alike", "neck.servo.toml", "slew.servo.toml", "-o", "-"]);
    assert!(piped.starts_with("<svg") || piped.starts_with("<?xml"), "{piped}");
    assert_eq!(run(&["card", "load", "neck.servo.toml", "marsh-clock.rig.toml", "punt.rudder"]).0, Some(0));
    let text = std::fs::read_to_string(&rig).unwrap();
    assert_eq!(
        text.matches("angle_deg = -78.5").count(),
        2,
        "the rudder has the neck's marks, the file its comments"
    );
    assert!(text.contains("# Straight out of its bag"));
    let winch = run(&["card", "load", "neck.servo.toml", "marsh-clock.rig.toml", "crane.winch"]);
    assert!(
        winch.0 == Some(1) && winch.2.contains("is continuous, the card is of one that is positional"),
        "{winch:?}"
    );
    assert!(
        winch.2.contains(":kind") && !winch.2.contains('‹'),
        "an action is named as it is found: {winch:?}"
    );
    std::fs::write(home.path().join("junk.servo.toml"), "junk").unwrap();
    let junk = run(&["card", "compare", "junk.servo.toml", "neck.servo.toml"]);
    assert!(junk.0 == Some(2) && junk.2.contains("does not read as a servo card"), "{junk:?}");
}

#[test]
fn release_says_of_each_board_what_was_found_and_writes_nothing_to_what_may_be_another_chip() {
    let home = tempfile::tempdir().unwrap();
    let rig = own_example(home.path());
    let output = run(home.path(), &["release", rig.to_str().unwrap(), "--fault", "wrong-chip@0x40"]);
    let said = text(&output.stdout) + &text(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{said}");
    assert!(said.contains("upper at 0x40: what answers was set up by something else"), "{said}");
    assert!(
        said.contains("nothing was written") && said.contains("lower at 0x41: no pulses run on it"),
        "{said}"
    );
}

#[test]
fn check_says_what_is_worth_a_word_and_where_a_linkage_ends() {
    let home = tempfile::tempdir().unwrap();
    let rig = home.path().join("linked.rig.toml");
    let rudder = std::fs::read_to_string(example()).unwrap();
    let linkage = "name = \"heron.neck\"\nlinkage = { horn_mm = 16, rod_mm = 50, arm_mm = 22, pivots_mm = 52, horn_at_deg = 90 }\nboard";
    let linked = rudder.replacen("name = \"heron.neck\"\nboard", linkage, 1);
    std::fs::write(&rig, linked).unwrap();
    let output = run(home.path(), &["check", rig.to_str().unwrap()]);
    let said = text(&output.stdout) + &text(&output.stderr);
    assert!(said.contains("heron.neck reaches from") || said.contains("can be driven from"), "{said}");
    let output = run(home.path(), &["check", example().to_str().unwrap(), "--json"]);
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert!(report["warnings"].as_array().is_some(), "{report}");
    assert!(output.status.success());
}

/// Each shape of JSON, of a sound rig and of a broken one, is what its documented schema says.
#[test]
fn what_is_said_as_json_has_the_documented_shape() {
    let home = tempfile::tempdir().unwrap();
    let (rig, broken) = (example(), changed(home.path(), "channel = 2", "channel = 1"));
    let (rig, broken) = (rig.to_str().unwrap(), broken.to_str().unwrap());
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json");
    for (file, arguments) in [
        ("check.schema.json", vec!["check", rig, "--json"]),
        ("check.schema.json", vec!["check", broken, "--json"]),
        ("check.schema.json", vec!["check", "/dev/zero", "--json"]),
        ("list.schema.json", vec!["list", rig, "--json"]),
        ("list.schema.json", vec!["list", rig, "inputs", "--json"]),
        ("scan.schema.json", vec!["scan", rig, "--json"]),
        ("why.schema.json", vec!["why", rig, "heron.neck", "--json"]),
        ("why.schema.json", vec!["why", rig, "heron.neck", "--json", "--fault", "absent"]),
    ] {
        let output = run(home.path(), &arguments);
        let said: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let schema = std::fs::read_to_string(docs.join(file)).unwrap();
        let schema: serde_json::Value = serde_json::from_str(&schema).unwrap();
        let validator = jsonschema::validator_for(&schema).unwrap();
        let errors: Vec<String> = validator.iter_errors(&said).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{arguments:?}: {errors:?} {said}");
    }
}

#[test]
fn list_names_what_is_there_and_a_dry_play_refuses_what_it_would_ignore() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let listed = text(&run(home.path(), &["list", rig]).stdout);
    for words in [
        "servo     heron.neck           positional, channel 1 of upper, 620 to 2380 µs, 5 marks\n",
        "servo     punt.rudder          positional, channel 4 of upper, 1000 to 2000 µs, 0 marks, no angles yet\n",
        "servo     heron.nape           smart, id 1 of neck-bus, 1300 to 2900 counts, 3 marks\n",
        "servo     marsh.moon           dimmer, channel 14 of upper\n",
        "sequence  strike               3 steps, 4.25 s from home\n",
        "input     knob                 a0 of dial, drives heron.neck, marsh.moon\n",
    ] {
        assert!(listed.contains(words), "{words:?} is missing from\n{listed}");
    }
    let poses = text(&run(home.path(), &["list", rig, "poses"]).stdout);
    assert!(poses.lines().count() == 15 && poses.lines().all(|line| line.starts_with("pose ")), "{poses}");
    for ignored in [
        &["--on-lost", "wait"][..],
        &["--adopt", "keep"],
        &["--seed", "3"],
        &["--fault", "absent"],
        &["--clock", "manual"],
        &["--record", "x"],
        &["--sim-log", "x"],
    ] {
        let output = run(home.path(), &[&["play", rig, "wake", "--dry"], ignored].concat());
        assert_eq!(output.status.code(), Some(2), "{ignored:?}");
        assert!(text(&output.stderr).contains("cannot be used with"), "{ignored:?}");
    }
}

#[test]
fn warnings_are_said_and_count_when_they_are_to() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let plain = run(home.path(), &["check", rig]);
    assert!(plain.status.success() && text(&plain.stdout).contains("; 2 warnings\n· crane-rail: ≈ 6.4 A"));
    assert_eq!(run(home.path(), &["check", rig, "--strict"]).status.code(), Some(1));
    assert_eq!(run(home.path(), &["check", rig, "--strict", "--json"]).status.code(), Some(1));
    let reserved = changed(home.path(), "address = 0x41", "address = 0x79");
    let said = text(&run(home.path(), &["check", reserved.to_str().unwrap()]).stdout);
    assert!(said.contains("address 0x79 is reserved"), "{said}");
}

#[test]
fn sequences_are_listed_shown_and_looked_at_before_they_run() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let said = |arguments: &[&str], code: i32| {
        let output = run(home.path(), arguments);
        assert_eq!(output.status.code(), Some(code), "{arguments:?}: {}", text(&output.stderr));
        text(&output.stdout)
    };
    let listed = said(&["sequence", "list", rig], 0);
    for words in [
        "strike               3 steps, 4.25 s; 1 short step\n",
        "lift                 4 steps, 6.50 s and what it waits for\n",
        "crossing             3 steps, 19.75 s; 1 short step\n",
        "breathe              2 steps, until it is stopped, added to others\n",
    ] {
        assert!(listed.contains(words), "{words:?} is missing from\n{listed}");
    }
    let shown = said(&["sequence", "show", rig, "crossing"], 0);
    for words in ["loop 4 times", "2.70 s    3  play strike with strokes = 3, 4.25 s", "needs 0.422 s"] {
        assert!(shown.contains(words), "{words:?} is missing from\n{shown}");
    }
    assert!(
        said(&["sequence", "show", rig, "lift"], 0)
            .contains("wait until visitor is pressed, 30 s at most, then go on")
    );
    assert!(said(&["sequence", "check", rig, "wake"], 0).contains("no problems found"));
    let json: serde_json::Value =
        serde_json::from_str(&said(&["sequence", "check", rig, "--json"], 1)).unwrap();
    assert_eq!((json["good"].as_bool(), json["sequences"].as_array().unwrap().len()), (Some(false), 7));
    let crossing = &json["sequences"][3];
    assert_eq!(crossing["short_steps"][0]["sequence"], "strike");
    assert!((crossing["length_s"].as_f64().unwrap() - 19.75).abs() < 1e-6);
    let rail = &json["sequences"][2]["rails"][1];
    assert_eq!(rail["name"], "crane-rail");
    assert!(rail["peak_a"].as_f64().unwrap() > rail["idle_a"].as_f64().unwrap());
    assert_eq!(run(home.path(), &["sequence", "show", rig, "dance"]).status.code(), Some(1));
}

#[test]
fn a_table_with_one_time_a_row_becomes_a_sequence() {
    let home = tempfile::tempdir().unwrap();
    let rig = changed(home.path(), "name = \"Marsh Clock\"", "name = \"Marsh Clock\"");
    let rig = rig.to_str().unwrap();
    let table = home.path().join("bow.csv");
    std::fs::write(&table, "time_s,heron.neck,marsh.moon\n1,-20,50\n0.05,30,\n").unwrap();
    let import = ["sequence", "import", rig, table.to_str().unwrap(), "--name", "bow"];
    let output = run(home.path(), &import);
    let said = text(&output.stdout);
    assert!(output.status.success(), "{}", text(&output.stderr));
    assert!(said.contains("bow has 2 steps now") && said.contains("step 2 of bow is short"), "{said}");
    assert!(said.contains("to bow-1 in 0.05 s, dwell 0.95 s, linear"), "{said}");
    let again = run(home.path(), &import);
    assert!(
        !again.status.success() && text(&again.stderr).contains("a second sequence"),
        "{}",
        text(&again.stderr)
    );
    let kept = std::fs::read_to_string(rig).unwrap();
    assert!(kept.contains("name = \"bow-2\"") && kept.contains("# On top of whatever else moves its neck"));
    std::fs::write(&table, "time_s,heron.tail\n1,-20\n").unwrap();
    let wrong = run(home.path(), &["sequence", "import", rig, table.to_str().unwrap(), "--name", "nod"]);
    assert!(text(&wrong.stderr).contains("no joint is called \"heron.tail\""), "{}", text(&wrong.stderr));
}

#[test]
fn a_show_is_played_by_label_tempo_times_and_parameters_and_summed_up() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let played = |more: &[&str]| {
        let output = run(home.path(), &[&["play", rig], more, &["--dry", "--json"]].concat());
        assert!(output.status.success(), "{}", text(&output.stderr));
        let json: serde_json::Value = serde_json::from_str(&text(&output.stdout)).unwrap();
        json["played_s"].as_f64().unwrap()
    };
    let near = |is: f64, wanted: f64| assert!((is - wanted).abs() < 0.1, "{is} and not {wanted}");
    near(played(&["strike"]), 4.25);
    near(played(&["strike", "--with", "strokes=3"]), 4.25 + 2.0 * 2.35);
    near(played(&["strike", "--tempo", "50"]), 8.5);
    // From home its joints are led to where that step begins first: 35° at 60 °/s.
    near(played(&["strike", "--from", "hit"]), 2.75 + 35.0 / 60.0);
    near(played(&["wake", "--times", "3"]), 10.8);
    // The second one is led in from where the first has left its joints.
    near(played(&["wake", "sleep", "breathe"]), 3.6 + 5.625);
    // Played twice it is the same bytes, with its loops, its call and what is added to it.
    let traced = |name: &str| {
        let file = home.path().join(name);
        let more = ["play", rig, "crossing", "breathe", "--dry", "--trace", file.to_str().unwrap()];
        assert!(run(home.path(), &more).status.success());
        std::fs::read(file).unwrap()
    };
    let (first, again) = (traced("first.csv"), traced("again.csv"));
    assert!(first.len() > 100_000 && first == again);
    for (wrong, words) in [
        (&["strike", "--tempo", "5"][..], "tempo is 5 %, outside 10 to 400 %"),
        (&["strike", "--from", "nowhere"], "no step of strike is labelled \"nowhere\""),
        (&["strike", "--with", "blows=3"], "no parameter is called \"blows\""),
        (&["strike", "--with", "strokes"], "does not set a parameter"),
    ] {
        let output = run(home.path(), &[&["play", rig], wrong, &["--dry"]].concat());
        assert_eq!(output.status.code(), Some(1), "{wrong:?}");
        assert!(text(&output.stderr).contains(words), "{}", text(&output.stderr));
    }
}

#[test]
fn colours_and_letters_are_chosen_for_every_command() {
    let home = tempfile::tempdir().unwrap();
    let rig = example();
    let rig = rig.to_str().unwrap();
    let ascii = run(home.path(), &["--glyphs", "ascii", "why", rig, "heron.neck"]);
    assert!(ascii.stdout.is_ascii() && text(&ascii.stdout).starts_with("+ path"), "{}", text(&ascii.stdout));
    let ascii = run(home.path(), &["--glyphs", "ascii", "check", "none"]);
    assert!(ascii.stderr.is_ascii() && text(&ascii.stderr).contains("cannot read none"));
    let coloured = run(home.path(), &["--colours", "16", "check", "none"]);
    assert!(text(&coloured.stderr).contains("\u{1b}[91m"), "{}", text(&coloured.stderr));
    let plain = run(home.path(), &["check", "none"]);
    assert!(!text(&plain.stderr).contains('\u{1b}'), "no terminal, no colours");
}
