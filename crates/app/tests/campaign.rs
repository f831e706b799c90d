//! A campaign of mutations: rigs, cards, simulation files and recordings changed at random, by seeds, and given to every
//! command that reads them. Whatever comes, the program ends by itself with a code of its table, in bounded time and
//! memory, with words that name a place, and with nothing raw for the terminal.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Home, text};
use std::process::{Output, Stdio};
use std::time::{Duration, Instant};
use wasvolta_sim::truth::Dice;

/// Address space of a run, in KiB.
const MEMORY: &str = "1500000";
/// A run that takes longer hangs.
const PATIENCE: Duration = Duration::from_secs(20);

/// Numbers and words that something may choke on.
const ODD: [&str; 22] = [
    "nan",
    "inf",
    "-inf",
    "-1",
    "0",
    "1e308",
    "1e-320",
    "99999999999999999999",
    "-0.0",
    "true",
    "\"\"",
    "[]",
    "{}",
    "\"\\u001b[2J\"",
    "\"\u{202e}x\"",
    "[1, 2, 3]",
    "'x'",
    "2026-01-02",
    "0x7f",
    "{ a = 1 }",
    "[[]]",
    "\"heron.neck\"",
];

fn below(dice: &mut Dice, most: usize) -> usize {
    usize::try_from(dice.next() % u64::try_from(most.max(1)).unwrap()).unwrap()
}

/// A changed copy: values exchanged, lines lost, doubled or swapped, bytes flipped, cut off, or something put in.
fn mutated(dice: &mut Dice, original: &[u8]) -> Vec<u8> {
    let mut bytes = original.to_vec();
    for _ in 0..=below(dice, 3) {
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let mut lines: Vec<String> = text.split_inclusive('\n').map(str::to_owned).collect();
        if lines.is_empty() {
            return bytes;
        }
        let (here, there) = (below(dice, lines.len()), below(dice, lines.len()));
        match below(dice, 9) {
            0 | 1 => {
                // A value in the place of another: behind an equals sign, or of a number within the line.
                let odd = ODD[below(dice, ODD.len())];
                let line = &lines[here];
                lines[here] = match (line.split_once(" = "), line.find(|c: char| c.is_ascii_digit())) {
                    (Some((key, _)), _) if below(dice, 2) == 0 => format!("{key} = {odd}\n"),
                    (_, Some(at)) => {
                        let end =
                            line[at..].find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(0) + at;
                        format!("{}{odd}{}", &line[..at], &line[end.max(at + 1)..])
                    }
                    (Some((key, _)), None) => format!("{key} = {odd}\n"),
                    (None, None) => format!("{odd}\n"),
                };
            }
            2 => drop(lines.remove(here)),
            3 => lines.insert(there, lines[here].clone()),
            4 => lines.swap(here, there),
            5 => lines.insert(
                here,
                format!("{} = 1\n", ["colour", "\"\\u001b\"", "\u{9b}", "[[", "]"][below(dice, 5)]),
            ),
            6 => lines[here] = lines[here].replace("heron", "hern"),
            _ => {}
        }
        bytes = lines.concat().into_bytes();
        let at = below(dice, bytes.len());
        match below(dice, 12) {
            0 => bytes.truncate(at),
            1 => bytes[at] = u8::try_from(dice.next() & 0xff).unwrap(),
            2 => bytes.insert(at, [0, 0x1b, 0x07, 0x9b, 0xff, b'\r'][below(dice, 6)]),
            3 => drop(bytes.splice(at..at, "[".repeat(400).bytes())),
            _ => {}
        }
        if bytes.is_empty() {
            return bytes;
        }
    }
    bytes
}

/// Runs it with its memory bounded, and ends it when it hangs.
fn bounded(home: &Home, arguments: &[&str]) -> Output {
    let plain = home.command(arguments);
    let mut command = std::process::Command::new("sh");
    command.args(["-c", &format!("ulimit -v {MEMORY}; exec \"$0\" \"$@\"")]).arg(plain.get_program());
    command.args(plain.get_args()).current_dir(home.folder());
    for (name, value) in plain.get_envs() {
        command.env(name, value.unwrap());
    }
    let mut child =
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let readers: Vec<_> = [
        Box::new(child.stdout.take().unwrap()) as Box<dyn std::io::Read + Send>,
        Box::new(child.stderr.take().unwrap()),
    ]
    .into_iter()
    .map(|mut from| {
        std::thread::spawn(move || {
            let mut all = Vec::new();
            from.read_to_end(&mut all).map(|_| all).unwrap_or_default()
        })
    })
    .collect();
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        if begun.elapsed() > PATIENCE {
            let _ = child.kill();
            panic!("{arguments:?} hangs");
        }
        std::thread::park_timeout(Duration::from_millis(1));
    };
    let mut said = readers.into_iter().map(|reader| reader.join().unwrap());
    Output { status, stdout: said.next().unwrap(), stderr: said.next().unwrap() }
}

fn judge(what: &str, arguments: &[&str], output: &Output) {
    let (out, err) = (text(&output.stdout), text(&output.stderr));
    let code = output.status.code();
    assert!(matches!(code, Some(0..=2)), "{what} {arguments:?}: {:?} {out} {err}", output.status);
    assert!(!err.contains("has failed:") && !err.contains("panicked"), "{what} {arguments:?}: {err}");
    for said in [&out, &err] {
        let raw = said.chars().find(|&c| wasvolta_core::outside::is_unfit(c) && !matches!(c, '\n' | '\t'));
        assert_eq!(raw, None, "{what} {arguments:?}: {said:?}");
    }
    if code != Some(0) {
        assert!(!err.trim().is_empty() || !out.trim().is_empty(), "{what} {arguments:?} says nothing");
    }
    assert!(out.len() + err.len() < 400_000, "{what} {arguments:?} says {} bytes", out.len() + err.len());
}

/// Whether words name a place in a file: a line and a column, or a line.
fn names_a_place(said: &str) -> bool {
    let flat: String = said.split_whitespace().collect::<Vec<_>>().join(" ");
    let numbered = flat
        .match_indices(".toml:")
        .any(|(at, word)| flat[at + word.len()..].starts_with(|c: char| c.is_ascii_digit()));
    numbered || flat.contains("line ") || flat.contains("\"line\"")
}

#[test]
fn three_hundred_changed_rigs_are_read_or_refused_in_words() {
    let home = Home::new();
    let sample = std::fs::read(home.rig()).unwrap();
    let rig = home.path("mutant.rig.toml");
    std::fs::copy(home.path("marsh-clock.sim.toml"), home.path("mutant.sim.toml")).unwrap();
    let (mut refused, mut placed) = (0, 0);
    for seed in 0..300u64 {
        let mut dice = Dice::new(0xCA4E + seed);
        std::fs::write(&rig, mutated(&mut dice, &sample)).unwrap();
        let what = format!("rig {seed}");
        let checked = bounded(&home, &["check", &rig]);
        judge(&what, &["check"], &checked);
        if !checked.status.success() {
            refused += 1;
            placed += usize::from(names_a_place(&text(&checked.stderr)));
        }
        let more: &[&str] = match seed % 5 {
            0 => &["check", &rig, "--json", "--strict"],
            1 => &["list", &rig],
            2 => &["play", &rig, "wake", "--dry"],
            3 => &["why", &rig, "heron.neck"],
            _ => &["sheet", &rig, "calibration", "--servo", "heron.neck", "-o", "-"],
        };
        let output = bounded(&home, more);
        judge(&what, more, &output);
        assert!(
            output.status.code() >= checked.status.code() || checked.status.success() || seed % 5 == 0,
            "{what}: {more:?} takes what check refuses"
        );
    }
    println!("{refused} of 300 changed rigs are refused, {placed} with a place");
    assert!(refused > 150 && placed == refused, "{placed} of {refused} name a place");
}

#[test]
fn changed_cards_simulations_and_recordings_are_read_or_refused_in_words() {
    let home = Home::new();
    let (rig, card, tape) = (home.rig(), home.path("neck.servo.toml"), home.path("run.rec"));
    assert!(home.run(&["card", "save", &rig, "heron.neck", "-o", &card]).status.success());
    let recorded = home.run(&["play", &rig, "wake", "--drive", "--clock", "manual", "--record", &tape]);
    assert!(recorded.status.success(), "{}", text(&recorded.stderr));
    let (cards, tapes) = (std::fs::read(&card).unwrap(), std::fs::read(&tape).unwrap());
    let sim = std::fs::read(home.path("marsh-clock.sim.toml")).unwrap();
    let other = home.path("other.rig.toml");
    let (mutant, mutant_tape) = (home.path("mutant.servo.toml"), home.path("mutant.rec"));
    let mut refused = [0; 3];
    for seed in 0..120u64 {
        let mut dice = Dice::new(0x0CA4D + seed);
        let what = format!("seed {seed}");
        std::fs::write(&mutant, mutated(&mut dice, &cards)).unwrap();
        let compared = ["card", "compare", &card, &mutant];
        let output = bounded(&home, &compared);
        judge(&what, &compared, &output);
        std::fs::copy(&rig, &other).unwrap();
        let load = ["card", "load", &mutant, &other, "punt.rudder"];
        let output = bounded(&home, &load);
        judge(&what, &load, &output);
        refused[0] += usize::from(!output.status.success());
        let after = bounded(&home, &["check", &other]);
        assert!(after.status.success(), "{what}: a card has made the rig unsound: {}", text(&after.stderr));
        if seed % 2 == 0 {
            std::fs::write(&mutant_tape, mutated(&mut dice, &tapes)).unwrap();
            let replay = ["replay", &mutant_tape];
            let output = bounded(&home, &replay);
            judge(&what, &replay, &output);
            refused[1] += usize::from(!output.status.success());
            std::fs::write(home.path("other.sim.toml"), mutated(&mut dice, &sim)).unwrap();
            let scan = ["scan", &other];
            let output = bounded(&home, &scan);
            judge(&what, &scan, &output);
            refused[2] += usize::from(!output.status.success());
            std::fs::remove_file(home.path("other.sim.toml")).unwrap();
        }
    }
    println!(
        "refused: {} of 120 cards, {} of 60 recordings, {} of 60 simulation files",
        refused[0], refused[1], refused[2]
    );
    assert!(refused.iter().all(|n| *n > 15), "{refused:?}");
}

#[test]
fn eight_thousand_poses_of_one_name_are_refused_in_a_moment_with_their_number() {
    let home = Home::new();
    let sample = std::fs::read_to_string(home.rig()).unwrap();
    let pose = "\n[[pose]]\nname = \"look\"\nangles_deg = { \"heron.nick\" = 3 }\n";
    let rig = home.path("many.rig.toml");
    std::fs::write(&rig, format!("{sample}{}", pose.repeat(8000))).unwrap();
    let output = bounded(&home, &["check", &rig]);
    judge("8000 poses", &["check"], &output);
    let said = common::flat(&output.stderr);
    assert!(
        said.contains("problems to fix; here are the first 50"),
        "{}",
        said.chars().take(500).collect::<String>()
    );
    let report = bounded(&home, &["check", &rig, "--json"]);
    let report: serde_json::Value = serde_json::from_slice(&report.stdout).unwrap();
    assert_eq!(report["problems"].as_array().unwrap().len(), 50);
    assert!(report["all_problems"].as_u64().unwrap() >= 16_000, "{}", report["all_problems"]);
}
