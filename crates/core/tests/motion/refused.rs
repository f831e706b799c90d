//! What is no sequence, said with the sequence, the step and what to do.

use super::*;
use wasvolta_core::rig::check::problems;

fn said(sequences: &str) -> Vec<String> {
    let text = text(sequences, [400.0; 3]);
    match load(&text) {
        Loaded::Sound(rig) => {
            assert!(problems(&rig).is_empty());
            Vec::new()
        }
        Loaded::Problems(problems) => {
            // What is said stands at a line of the file, and that is the right one.
            let line = |problem: &wasvolta_core::rig::file::Located| {
                let own = text.lines().nth(problem.line_column(&text).0 - 1).unwrap_or_default();
                format!("{}; {} | {own}", problem.message, problem.help)
            };
            problems.iter().map(line).collect()
        }
        other @ Loaded::Unreadable(_) => panic!("{other:?}"),
    }
}

fn one(steps: &str) -> Vec<String> {
    said(&format!("[[sequence]]\nname = \"s\"\n{steps}"))
}

#[test]
fn every_part_of_a_sequence_that_cannot_be_is_said() {
    let both = step("zero", "move_s = 1\nlabel = \"x\"")
        + &step("far", "move_s = 1\nlabel = \"y\"")
        + &step("zero", "move_s = 1\nlabel = \"z\"")
        + &step("far", "move_s = 1\nlabel = \"w\"");
    let looped = |more: &str| one(&(both.clone() + "[[sequence.loop]]\n" + more));
    let cases = [
        one("[[sequence.step]]\ndwell_s = 1\n"),
        one(&step("gone", "move_s = 1")),
        one(&step("zero", "move_s = 1\nspeed_deg_s = 5")),
        one(&(step("zero", "label = \"x\"") + &step("far", "label = \"x\""))),
        one("[[sequence.step]]\nplay = \"other\"\n"),
        one("[[sequence.step]]\nplay = \"s\"\n"),
        said("[[sequence]]\nname = \"s\"\n[[sequence.step]]\nplay = \"t\"\n[[sequence]]\nname = \"t\"\n[[sequence.step]]\nplay = \"s\"\n"),
        said(&("[[sequence]]\nname = \"s\"\n[[sequence.step]]\nplay = \"t\"\nwith = { strokes = 2 }\n[[sequence]]\nname = \"t\"\n".to_owned() + &step("zero", "move_s = 1"))),
        one("[[sequence.step]]\nplay = \"s\"\nmove_s = 1\n"),
        one(&wait("")),
        one(&wait("input = \"gone\", pressed = true")),
        one(&wait("input = \"gap\", pressed = true")),
        one(&wait("input = \"gap\", above = 3")),
        one(&wait("input = \"gap\", above = 0.5, below = 0.2")),
        one(&wait("key = \"go\"")),
        one(&wait("arrived_deg = 2")),
        one(&wait("arrived_deg = 0, at_most_s = 1")),
        one(&wait("arrived_deg = 2, at_most_s = 1, key = \"g\"")),
        looped("from = \"x\"\nto = \"y\"\nuntil = { arrived_deg = 2 }\n"),
        one(&wait("key = \"g\", then = \"end\"")),
        one(&wait("key = \"g\", at_most_s = 1, then = \"jump\"")),
        one(&wait("key = \"g\", at_most_s = 1, then = \"jump\", to = \"nowhere\"")),
        looped("from = \"x\"\nto = \"nowhere\"\n"),
        looped("from = \"y\"\nto = \"x\"\n"),
        looped("from = \"x\"\nto = \"y\"\ntimes = \"strokes\"\n"),
        looped("from = \"x\"\nto = \"y\"\nuntil = { key = \"g\", at_most_s = 3 }\n"),
        looped("from = \"x\"\nto = \"z\"\n[[sequence.loop]]\nfrom = \"y\"\nto = \"w\"\n"),
        one(&(step("zero", "move_s = 0\nlabel = \"x\"") + "[[sequence.loop]]\nfrom = \"x\"\nto = \"x\"\n")),
        one(&("at_end = \"again\"\n".to_owned() + &step("zero", "move_s = 0"))),
        one(&(step("zero", "move_s = 0\nlabel = \"x\"") + &wait("input = \"push\", pressed = true, at_most_s = 0, then = \"jump\", to = \"x\""))),
        one(&("at_most_deg = 5\n".to_owned() + &step("zero", "move_s = 1"))),
        one(&("tempo_percent = 5\n".to_owned() + &step("zero", "move_s = 1"))),
    ];
    let all: Vec<String> = cases.iter().map(|said| said.join("\n  ")).collect();
    assert!(cases.iter().all(|said| !said.is_empty()), "{all:#?}");
    insta::assert_snapshot!(all.join("\n"));
    assert_eq!(
        looped("from = \"x\"\nto = \"w\"\n[[sequence.loop]]\nfrom = \"y\"\nto = \"z\"\ntimes = 3\n"),
        [""; 0]
    );
}

#[test]
fn calls_go_eight_deep_and_come_to_no_more_steps_than_can_be_played() {
    let chain = |deep: usize| {
        let mut text = String::new();
        for n in 0..deep {
            write!(text, "[[sequence]]\nname = \"s{n}\"\n[[sequence.step]]\nplay = \"s{}\"\n", n + 1)
                .unwrap();
        }
        write!(text, "[[sequence]]\nname = \"s{deep}\"\n{}", step("zero", "move_s = 1")).unwrap();
        said(&text)
    };
    assert!(chain(8).is_empty(), "{:?}", chain(8));
    assert!(chain(9)[0].contains("more than 8 deep"), "{:?}", chain(9));
    let mut text = String::new();
    for n in 0..6 {
        write!(text, "[[sequence]]\nname = \"s{n}\"\n").unwrap();
        (0..10).for_each(|_| write!(text, "[[sequence.step]]\nplay = \"s{}\"\n", n + 1).unwrap());
    }
    write!(text, "[[sequence]]\nname = \"s6\"\n{}", step("zero", "move_s = 1")).unwrap();
    assert!(said(&text)[0].contains("more than 100000 steps"), "{:?}", said(&text));
}
