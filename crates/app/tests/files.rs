//! Files as careful and as hostile users give them: nothing is written over unasked, nothing that is no file is read,
//! a full disk ends a file and not the show, and no text from outside reaches a terminal raw.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Home, flat, text};
use std::os::unix::fs::{MetadataExt, PermissionsExt};

#[test]
fn no_output_replaces_what_its_command_reads_nor_what_is_there() {
    let home = Home::new();
    let rig = home.rig();
    let tape = home.path("run.rec");
    let recorded = home.run(&["play", &rig, "wake", "--drive", "--clock", "manual", "--record", &tape]);
    assert!(recorded.status.success(), "{}", text(&recorded.stderr));
    let card = home.path("neck.servo.toml");
    assert!(home.run(&["card", "save", &rig, "heron.neck", "-o", &card]).status.success());
    let there = home.path("there.svg");
    let (sim, demo) = (home.path("marsh-clock.sim.toml"), home.path("wasvolta/marsh-clock.rig.toml"));
    std::fs::create_dir_all(home.path("wasvolta")).unwrap();
    std::fs::copy(&rig, &demo).unwrap();
    std::fs::write(&there, "of somebody").unwrap();
    let drive = ["play", &rig, "wake", "--drive", "--clock", "manual"];
    let with = |base: &[&str], more: &[&str]| -> Vec<String> {
        base.iter().chain(more).map(|word| (*word).to_owned()).collect()
    };
    let mut cases = vec![
        (with(&["play", &rig, "wake", "--dry"], &["--trace", &rig]), &rig, true),
        (with(&drive, &["--record", &rig]), &rig, true),
        (with(&drive, &["--sim-log", &rig]), &rig, true),
        (with(&drive, &["--trace", &rig]), &rig, true),
        (with(&["check", &rig], &["--log", &rig]), &rig, true),
        (with(&["replay", &tape], &["--trace", &tape]), &tape, true),
        (with(&["replay", &tape], &["--log", &tape]), &tape, true),
        (with(&["card", "save", &rig, "heron.neck"], &["-o", &rig]), &rig, true),
        (with(&["play", &rig, "wake", "--dry"], &["--trace", &sim]), &sim, true),
        (with(&drive, &["--trace", &sim]), &sim, true),
        (with(&["demo"], &["--log", &demo]), &demo, true),
    ];
    for output in [
        with(&["play", &rig, "wake", "--dry"], &["--trace", &there]),
        with(&["replay", &tape], &["--trace", &there]),
        with(&drive, &["--record", &there]),
        with(&drive, &["--sim-log", &there]),
        with(&["check", &rig], &["--log", &there]),
        with(&["card", "save", &rig, "heron.neck"], &["-o", &there]),
        with(&["sheet", &rig, "calibration", "--servo", "heron.neck"], &["-o", &there]),
    ] {
        cases.push((output, &there, false));
    }
    for (arguments, unharmed, even_forced) in cases {
        let before = std::fs::read(unharmed).unwrap();
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        let output = home.run(&arguments);
        assert_eq!(output.status.code(), Some(1), "{arguments:?} {}", text(&output.stdout));
        assert!(flat(&output.stderr).contains("give another name"), "{arguments:?} {}", text(&output.stderr));
        assert!(std::fs::read(unharmed).unwrap() == before, "{arguments:?}");
        if even_forced {
            let output = home.run(&[&arguments[..], &["--force"]].concat());
            assert_eq!(output.status.code(), Some(1), "{arguments:?}");
            assert!(flat(&output.stderr).contains("it is never written over"), "{}", text(&output.stderr));
            assert!(std::fs::read(unharmed).unwrap() == before, "{arguments:?} --force");
        }
    }
    let forced = home.run(&["play", &rig, "wake", "--dry", "--trace", &there, "--force"]);
    assert!(forced.status.success(), "{}", text(&forced.stderr));
    assert!(std::fs::read_to_string(&there).unwrap().starts_with("t_s,servo"));
    let twice = home.run(&[&drive[..], &["--trace", "x", "--sim-log", "x"]].concat());
    assert!(flat(&twice.stderr).contains("is already another output"), "{}", text(&twice.stderr));
}

#[test]
fn what_is_no_file_or_no_text_is_refused_at_once_with_its_kind_or_its_place() {
    let home = Home::new();
    let (rig, pipe, odd) = (home.rig(), home.path("pipe"), home.path("odd"));
    let made = std::process::Command::new("mkfifo").arg(&pipe).status().unwrap();
    assert!(made.success());
    let large = home.path("large");
    std::fs::File::create(&large).unwrap().set_len(1 << 40).unwrap();
    let folder = home.path("");
    for (path, words) in [
        ("/dev/zero", "it is a device"),
        (pipe.as_str(), "it is a pipe"),
        (folder.as_str(), "it is a folder"),
    ] {
        for arguments in [
            vec!["check", path],
            vec!["list", path],
            vec!["play", path, "wake", "--dry"],
            vec!["why", path, "heron.neck"],
            vec!["replay", path],
            vec!["card", "compare", path, path],
            vec!["card", "load", path, &rig, "heron.neck"],
        ] {
            let output = home.run(&arguments);
            assert_eq!(output.status.code(), Some(2), "{arguments:?}");
            assert!(flat(&output.stderr).contains(words), "{arguments:?} {}", text(&output.stderr));
        }
    }
    for (arguments, words) in [
        (vec!["check", large.as_str()], "a rig has 16 MiB at most"),
        (vec!["card", "compare", &large, &large], "a servo card has 4 MiB at most"),
        (vec!["replay", &large], "this is not a recording"),
    ] {
        let output = home.run(&arguments);
        assert_eq!(output.status.code(), Some(2), "{arguments:?}");
        assert!(flat(&output.stderr).contains(words), "{arguments:?} {}", text(&output.stderr));
    }
    let sixteen: Vec<u8> = "\u{feff}format = 6\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    for (bytes, words) in [
        (
            &b"format = 6\nname = \"K\xfchler Grund\"\n"[..],
            "line 2, column 10: this is not UTF-8, it looks like Latin-1",
        ),
        (&sixteen, "line 1, column 1: this is not UTF-8, it looks like UTF-16"),
    ] {
        std::fs::write(&odd, bytes).unwrap();
        for command in ["check", "list"] {
            let output = home.run(&[command, &odd]);
            assert_eq!(output.status.code(), Some(2));
            assert!(flat(&output.stderr).contains(words), "{}", text(&output.stderr));
        }
    }
}

#[test]
fn a_full_disk_ends_the_file_and_not_the_show_and_is_said_once() {
    let home = Home::new();
    let rig = home.rig();
    let drive = ["play", &rig, "wake", "--drive", "--clock", "manual"];
    for (option, what) in [
        ("--record", "the recording /dev/full is not whole"),
        ("--sim-log", "the simulation log /dev/full is not whole"),
        ("--trace", "the trace /dev/full is not whole"),
        ("--log", "the log /dev/full is not whole"),
    ] {
        let output = home.run(&[&drive[..], &[option, "/dev/full"]].concat());
        assert_eq!(output.status.code(), Some(1), "{option}");
        assert!(
            text(&output.stdout).contains("played to the end: released"),
            "{option} {}",
            text(&output.stderr)
        );
        assert_eq!(flat(&output.stderr).matches(what).count(), 1, "{option} {}", text(&output.stderr));
    }
    let dry = home.run(&["play", &rig, "wake", "--dry", "--trace", "/dev/full"]);
    assert_eq!(dry.status.code(), Some(1));
    assert!(text(&dry.stderr).contains("No space left"), "{}", text(&dry.stderr));
}

#[test]
fn standard_output_may_be_full_or_closed_or_the_file_itself() {
    let home = Home::new();
    let rig = home.rig();
    for arguments in [&["list", rig.as_str()][..], &["check", &rig, "--json"], &["completions", "bash"]] {
        let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
        let output =
            home.command(arguments).stdout(full).stderr(std::process::Stdio::piped()).spawn().unwrap();
        let output = output.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(1), "{arguments:?}");
        assert!(text(&output.stderr).contains("standard output could not be written: No space left"));
        let (unread, out) = std::io::pipe().unwrap();
        drop(unread);
        let output = home.command(arguments).stdout(out).output().unwrap();
        assert_eq!((output.status.code(), text(&output.stderr)), (Some(0), String::new()), "{arguments:?}");
    }
    let traced = home.run(&["play", &rig, "strike", "--dry", "--trace", "-"]);
    assert!(traced.status.success() && text(&traced.stdout).starts_with("t_s,servo,"));
    assert!(
        text(&traced.stdout).lines().all(|line| line.split(',').count() == 9),
        "nothing else stands in it"
    );
    assert!(text(&traced.stderr).contains("strike: "), "{}", text(&traced.stderr));
    let drawn = home.run(&["sheet", &rig, "wiring", "-o", "-"]);
    assert!(text(&drawn.stdout).starts_with("<svg ") && text(&drawn.stdout).ends_with("</svg>\n"));
    let card = home.run(&["card", "save", &rig, "heron.neck", "-o", "-"]);
    assert!(text(&card.stdout).contains("[[mark]]"));
    let piped = home.piped(&["check", "-"], &std::fs::read(&rig).unwrap());
    assert!(text(&piped.stdout).contains("- is sound: "), "{}", text(&piped.stderr));
    let piped = home.piped(&["card", "compare", "-", "-"], &card.stdout);
    assert_eq!(piped.status.code(), Some(1), "standard input has one card only");
    let drives = home.piped(&["play", "-", "wake", "--drive"], &std::fs::read(&rig).unwrap());
    assert!(drives.status.code() == Some(1) && text(&drives.stderr).contains("--drive works on a file"));
    let dry = home.piped(&["play", "-", "strike", "--dry"], &std::fs::read(&rig).unwrap());
    assert!(dry.status.success() && text(&dry.stdout).starts_with("strike: 4.25 s"));
    let quiet = home.run(&["check", &rig, "--quiet"]);
    assert!(quiet.status.success() && !text(&quiet.stdout).contains("is sound"));
}

#[test]
fn standard_output_has_one_output_and_is_no_log() {
    let home = Home::new();
    let rig = home.rig();
    let play: &[&str] = &["play", &rig, "strike", "--drive", "--trace", "-", "--record", "-"];
    for (arguments, words) in [
        (play, "standard output is already another output"),
        (&["check", &rig, "--log", "-"], "- is standard output: give the name of a file"),
    ] {
        let refused = home.run(arguments);
        assert_eq!(refused.status.code(), Some(1), "{arguments:?}");
        assert!(text(&refused.stderr).contains(words), "{}", text(&refused.stderr));
        assert!(!text(&refused.stdout).contains("wasvolta_recording"), "{arguments:?}");
    }
}

#[test]
fn a_card_put_on_a_servo_keeps_line_ends_owner_and_mode_of_the_rig() {
    let home = Home::new();
    let rig = home.rig();
    let windows = format!("\u{feff}{}", std::fs::read_to_string(&rig).unwrap().replace('\n', "\r\n"));
    std::fs::write(&rig, &windows).unwrap();
    std::fs::set_permissions(&rig, std::fs::Permissions::from_mode(0o640)).unwrap();
    // Only root may give it to somebody else; without that the owner is the same before and after.
    let _ = std::os::unix::fs::chown(&rig, Some(4242), Some(4242));
    let before = std::fs::metadata(&rig).unwrap();
    let card = home.path("neck.servo.toml");
    assert!(home.run(&["card", "save", &rig, "heron.neck", "-o", &card]).status.success());
    let put = home.run(&["card", "load", &card, &rig, "punt.rudder"]);
    assert!(put.status.success(), "{}", text(&put.stderr));
    let after = std::fs::metadata(&rig).unwrap();
    let owned = |m: &std::fs::Metadata| (m.uid(), m.gid(), m.mode() & 0o777);
    assert_eq!(owned(&after), owned(&before));
    let written = std::fs::read_to_string(&rig).unwrap();
    assert!(written.starts_with('\u{feff}') && written != windows);
    assert_eq!(written.matches('\n').count(), written.matches("\r\n").count());
}

/// What must never reach a terminal, a log or a sheet: an escape, a bell, a control of the second set, marks that turn
/// the direction of reading, and one that cannot be seen.
const ODD: &str = "x\u{1b}[31m\u{7}\u{9b}2J\u{202e}\u{2066}\u{200b}y";

/// The same as a TOML text may hold it.
const ODD_IN_TOML: &str = r"x\u001b[31m\u0007\u009b2J\u202e\u2066\u200by";

fn is_fit(output: &std::process::Output, route: &str) {
    for (name, bytes) in [("stdout", &output.stdout), ("stderr", &output.stderr)] {
        let said = text(bytes);
        let odd = said.chars().find(|&c| wasvolta_core::outside::is_unfit(c) && !matches!(c, '\n' | '\t'));
        assert_eq!(odd, None, "{route}, {name}: {said:?}");
    }
}

/// Every route by which text from outside comes to be shown, with what shows that it went that way.
#[test]
fn no_text_from_outside_reaches_a_terminal_a_log_or_a_sheet_raw() {
    let home = Home::new();
    let rig = home.rig();
    let sample = std::fs::read_to_string(&rig).unwrap();
    let file = |name: &str, content: &str| {
        let path = home.path(name);
        std::fs::write(&path, content).unwrap();
        path
    };
    let log = home.path("run.log");
    let named = file(&format!("{ODD}.rig.toml"), &sample);
    let card = home.run(&["card", "save", &rig, "heron.neck", "-o", "-"]);
    let card = text(&card.stdout);
    let bad_card =
        file("bad.servo.toml", &card.replace("name = \"heron.neck\"", &format!("name = \"{ODD_IN_TOML}\"")));
    let raw_card = file("raw.servo.toml", &format!("{card}\n# {ODD}\nodd = [\n"));
    file(&format!("{ODD}.servo.toml"), "junk");
    let path_of = |path: &str| sample.replacen("sim:bench-bus", path, 1);
    let port = file("port.rig.toml", &path_of(ODD_IN_TOML));
    let label = file(
        "label.rig.toml",
        &sample.replacen("name = \"Marsh Clock\"", &format!("name = \"{ODD_IN_TOML}\""), 1),
    );
    let reason = "reason = \"the neck touches the hip plate\"";
    assert!(sample.contains(reason), "the demo has another reason");
    let reason = file("reason.rig.toml", &sample.replacen(reason, &format!("reason = \"{ODD_IN_TOML}\""), 1));
    let key = file("key.rig.toml", &format!("{sample}\n[[pose]]\n\"{ODD_IN_TOML}\" = 1\n"));
    let line = file("line.rig.toml", &format!("{sample}\n# {ODD}\nname = {ODD}\n"));
    let joint = file(
        "joint.rig.toml",
        &format!("{sample}\n[[pose]]\nname = \"odd\"\nangles_deg = {{ \"{ODD_IN_TOML}\" = 1 }}\n"),
    );
    let tape = file(
        "odd.rec",
        &format!(
            "{{\"wasvolta_recording\":{{\"format\":9,\"program\":\"{ODD_IN_TOML}\",\"beat_ns\":20000000}}}}\n"
        ),
    );
    let broken = file(
        "broken.rec",
        &format!(
            "{{\"wasvolta_recording\":{{\"format\":3,\"program\":\"x\",\"beat_ns\":20000000}}}}\n{{\"{ODD_IN_TOML}\":1}}\n"
        ),
    );
    let line_tape = file("line.rec", &format!("{ODD}\n"));
    let bench = file("sim.rig.toml", &sample);
    file("sim.sim.toml", &format!("\"{ODD_IN_TOML}\" = 1\n"));
    let none = home.path(&format!("none{ODD}"));
    let routes: Vec<(&str, Vec<&str>, i32)> = vec![
        ("a file's name, in an answer", vec!["check", &named], 0),
        ("a file's name, in an error", vec!["check", &none], 2),
        ("a file's name, in a refused output", vec!["play", &rig, "wake", "--dry", "--trace", &named], 1),
        ("a rig's title", vec!["check", &label], 1),
        ("a reason", vec!["check", &reason], 1),
        ("a port's path", vec!["check", &port], 1),
        ("an unknown key", vec!["check", &key], 1),
        ("a line of the source", vec!["check", &line], 2),
        ("a name that is not known", vec!["check", &joint], 1),
        ("the same as JSON", vec!["check", &joint, "--json"], 1),
        ("a servo that is not there", vec!["why", &rig, ODD], 1),
        ("a sequence that is not there", vec!["play", &rig, ODD, "--dry"], 1),
        ("a board that is not there", vec!["release", &rig, "--board", ODD], 1),
        ("a card's values", vec!["card", "compare", &bad_card, &bad_card], 1),
        ("a card's source", vec!["card", "compare", &raw_card, &raw_card], 2),
        ("cards' file names", vec!["card", "list", home.folder()], 0),
        ("a recording's program", vec!["replay", &tape], 2),
        ("a recording's broken line", vec!["replay", &broken], 2),
        ("a recording that is none", vec!["replay", &line_tape], 2),
        ("a simulation file", vec!["scan", &bench], 2),
        ("a fault's name on the command line", vec!["scan", "--fault", ODD], 2),
        ("a port that is asked", vec!["scan", "--ask", &none], 1),
        ("a sheet's name", vec!["sheet", &rig, "wiring", "-o", &none], 1),
    ];
    for (route, arguments, code) in routes {
        let output = home.run(&[&arguments[..], &["--log", &log]].concat());
        assert_eq!(output.status.code(), Some(code), "{route}: {}", text(&output.stderr));
        is_fit(&output, route);
        let said = text(&output.stdout) + &text(&output.stderr);
        assert!(
            said.contains('?')
                || said.contains("u001b")
                || said.contains("\\u{1b}")
                || route.contains("program")
                || route.contains("is none"),
            "{route} shows nothing of it: {said}"
        );
    }
    let logged = std::fs::read_to_string(&log).unwrap();
    assert!(logged.chars().all(|c| c == '\n' || !wasvolta_core::outside::is_unfit(c)), "the log");
    assert!(logged.contains("none"), "{logged}");
}
