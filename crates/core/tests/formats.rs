//! Files of every format that there ever was: they are read, changed, written and read again, and nothing that a person
//! wrote in them is lost.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use wasvolta_core::rig::card::{self, Card};
use wasvolta_core::rig::file::{Source, Unfit};
use wasvolta_core::rig::{FORMAT, Kind};

/// A rig of each format, from 1.
const RIGS: &[&str] = &[
    include_str!("data/old/format-1.rig.toml"),
    include_str!("data/old/format-2.rig.toml"),
    include_str!("data/old/format-3.rig.toml"),
    include_str!("data/old/format-4.rig.toml"),
    include_str!("data/old/format-5.rig.toml"),
    include_str!("data/old/format-6.rig.toml"),
    include_str!("data/old/format-7.rig.toml"),
    include_str!("data/old/format-8.rig.toml"),
    include_str!("data/old/format-9.rig.toml"),
    include_str!("data/old/format-10.rig.toml"),
    include_str!("data/old/format-11.rig.toml"),
];

/// A card of each format, from 1.
const CARDS: &[&str] = &[
    include_str!("data/old/format-1.servo.toml"),
    include_str!("data/old/format-2.servo.toml"),
    include_str!("data/old/format-3.servo.toml"),
    include_str!("data/old/format-4.servo.toml"),
];

#[test]
fn there_is_a_sample_of_every_older_format() {
    assert_eq!((RIGS.len() + 1, CARDS.len() + 1), (FORMAT as usize, card::FORMAT as usize));
    for (n, text) in RIGS.iter().chain(CARDS).enumerate() {
        let format = if n < RIGS.len() { n } else { n - RIGS.len() } + 1;
        assert!(
            text.contains(&format!("\nformat = {format}")) || text.starts_with(&format!("format = {format}"))
        );
    }
}

/// The comments of a text.
fn comments(text: &str) -> Vec<&str> {
    text.lines().filter_map(|line| line.split_once('#')).map(|(_, comment)| comment).collect()
}

/// A text without its links and mappings, and without the lines by which inputs speak of where they come from: formats 8
/// and 9 have those otherwise.
fn without_moved(text: &str) -> Vec<&str> {
    let mut kept = Vec::new();
    let mut in_link = false;
    for line in text.lines() {
        in_link = matches!(line, "[[link]]" | "[[mapping]]") || in_link && !line.starts_with("[[");
        let moved =
            ["link = ", "channel = \"", "port = \"knob", "field = ", "lost_after_ms", "stuck_is_lost"];
        if !in_link && !moved.iter().any(|key| line.starts_with(key)) && !line.is_empty() {
            kept.push(line);
        }
    }
    kept
}

#[test]
fn an_inputs_own_silence_is_its_links_now() {
    let raised = Source::read(RIGS[6].to_owned()).unwrap();
    let [link] = raised.rig().links.as_slice() else { panic!("one a port") };
    assert_eq!(
        (link.name.as_str(), link.on.as_str(), link.lost_after_ms),
        ("knob-line", "knob-line", Some(900.0))
    );
    assert!(link.stuck_is_lost && raised.text().contains("lost_after_ms = 900 # it prints slowly\n"));
    let from: Vec<_> = raised.rig().inputs.iter().map(|i| (i.link.as_str(), i.channel.as_str())).collect();
    assert_eq!(from, [("knob-line", "field 2"), ("knob-line", "slide")]);
}

#[test]
fn a_rig_of_any_format_is_read_edited_written_and_read_again() {
    for (format, text) in (1..).zip(RIGS) {
        for windows in [false, true] {
            let text = if windows { text.replace('\n', "\r\n") } else { (*text).to_owned() };
            let source = Source::read(text.clone()).unwrap();
            assert_eq!((source.disk(), source.older_format()), (text.as_str(), Some(format)));
            assert_eq!(source.text().contains('\r'), windows);
            let mut edited = source.rig().clone();
            edited.servos[0].notes = "seen on the bench".to_owned();
            let written = source.with(&edited).unwrap();
            assert_eq!((written.text(), written.older_format()), (written.disk(), None));
            assert_eq!(comments(written.text()), comments(&text), "in their order");
            let again = Source::read(written.text().to_owned()).unwrap();
            assert_eq!((again.rig(), again.older_format()), (&edited, None));
            // Saved without an edit it is raised, and nothing else.
            let raised = source.with(source.rig()).unwrap();
            assert_eq!((raised.disk(), raised.older_format()), (source.text(), None));
            assert_eq!(Source::read(raised.disk().to_owned()).unwrap().rig(), source.rig());
            let wanted = text
                .replace(&format!("format = {format}"), &format!("format = {FORMAT}"))
                .replace("\"endless\"", "\"continuous\"");
            assert_eq!(without_moved(raised.disk()), without_moved(&wanted));
        }
    }
}

#[test]
fn what_an_older_format_calls_otherwise_is_what_it_was() {
    for text in &RIGS[2..7] {
        let source = Source::read((*text).to_owned()).unwrap();
        assert_eq!(source.rig().servo("crane.winch").unwrap().kind, Kind::Continuous);
    }
    let source = Source::read(RIGS[7].to_owned()).unwrap();
    let [beak] = source.rig().mappings.as_slice() else { panic!("one") };
    assert_eq!((beak.name.as_str(), beak.from["knob"].to_bits()), ("heron.beak", 1f64.to_bits()));
    assert_eq!((beak.to.name(), beak.to.ends().map(|ends| ends.high)), (Some("heron.beak"), Some(40.0)));
    assert_eq!(beak.failsafe.as_ref().unwrap().angle_deg.unwrap().get().to_bits(), 5f64.to_bits());
    let newest = RIGS[2].replace("format = 3", &format!("format = {FORMAT}"));
    let Err(Unfit::Problems(found)) = Source::read(newest) else {
        panic!("the old word is none of this format's")
    };
    assert!(found[0].message.contains("endless"), "{}", found[0].message);
}

#[test]
fn what_is_wrong_in_an_older_file_is_shown_where_it_stands_in_it() {
    let text = RIGS[2].replace("kind = \"endless\"", "kind    =    \"endless\"   # the winch");
    let said = |old: &str, new: &str| {
        let text = text.replacen(old, new, 1);
        assert!(text.contains(new));
        let Err(Unfit::Problems(found)) = Source::read(text.clone()) else { panic!("{new} is sound") };
        let places = found.iter().map(|one| text[one.span.clone().unwrap()].to_owned());
        let lines: Vec<usize> = found.iter().map(|one| one.line_column(&text).0).collect();
        let wanted = text.lines().position(|line| line.contains(new.trim())).unwrap() + 1;
        assert!(lines.contains(&wanted), "{lines:?} {wanted}");
        places.collect::<Vec<_>>().join(" ")
    };
    // An unknown key, a value of another kind, a number outside its range, a name that there is not, a missing key.
    assert_eq!(said("draw_a = 0.3", "draw = 0.3"), "draw");
    assert_eq!(said("draw_a = 0.3", "draw_a = \"much\""), "\"much\"");
    assert_eq!(said("draw_a = 0.3", "draw_a = 9999"), "9999");
    assert_eq!(said("pose = \"lift\"", "pose = \"lit\""), "\"lit\"");
    assert_eq!(said("for_s = 1", "for_s = true"), "true");
    let newer = text.replace("format = 3", "format = 99");
    let Err(Unfit::Unreadable(newer)) = Source::read(newer) else { panic!() };
    assert!(newer.message.starts_with("this is format 99, this program knows format"), "{}", newer.message);
}

#[test]
fn a_card_of_any_format_is_read_written_and_read_again() {
    for text in CARDS {
        let card = Card::load(text).unwrap();
        assert_eq!((card.kind, card.format), (Kind::Continuous, card::FORMAT));
        assert_eq!(Card::load(&card.text().unwrap()).unwrap(), card);
        let wrong = text.replace("idle = \"pulse\"", "idle = \"pulze\"");
        let Err(Unfit::Problems(found)) = Card::load(&wrong) else { panic!() };
        assert_eq!(&wrong[found[0].span.clone().unwrap()], "\"pulze\"");
    }
}
