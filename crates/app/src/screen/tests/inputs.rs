//! Links and inputs by keys: they are added, found by moving them, watched, renamed, moved and removed.

use super::Bench;
use crate::screen::dialog::Dialog;
use crate::screen::keys::Key;
use crossterm::event::KeyCode;
use wasvolta_core::link::Health;
use wasvolta_sim::Mood;

/// Inputs of the Marsh Clock.
fn inputs() -> Bench {
    let mut bench = Bench::new();
    bench.code(KeyCode::F(3));
    bench
}

/// Lets a stand-in's control stand somewhere.
fn stands(bench: &Bench, link: &str, channel: &str, at: f64) {
    let sender = bench.session.runner.sender(link).unwrap();
    sender.turn(channel, at - sender.position(channel).unwrap());
}

fn moves(bench: &mut Bench, link: &str, channel: &str, places: &[f64]) {
    for at in places {
        let from = bench.session.runner.sender(link).unwrap().position(channel).unwrap();
        for step in 1..=10 {
            stands(bench, link, channel, from + (at - from) * f64::from(step) / 10.0);
            bench.watch(2);
        }
        bench.watch(40);
    }
}

#[test]
fn the_one_that_is_moved_becomes_an_input() {
    let mut bench = inputs();
    bench.press(Key::char('I'));
    bench.watch(40);
    assert!(bench.frame(160, 47).contains("Move the one you mean, and nothing else"));
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("nothing has moved yet"), "{}", bench.frame(160, 47));
    moves(&mut bench, "radio", "ch7", &[0.9, 0.2]);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("Enter makes an input of ch7 of radio."), "{frame}");
    for (columns, rows) in [(160, 47), (100, 30), (80, 24)] {
        bench.frame(columns, rows);
    }
    bench.code(KeyCode::Enter);
    bench.text("winch-stick");
    bench.code(KeyCode::Enter);
    let rig = &bench.session.document.rig;
    let input = rig.inputs.last().unwrap();
    assert_eq!(
        (input.name.as_str(), input.link.as_str(), input.channel.as_str()),
        ("winch-stick", "radio", "ch7")
    );
    assert_eq!(
        (input.ends.low, input.centre, input.ends.high),
        (1000.0, Some(1500.0), 2000.0),
        "usual for it"
    );
    bench.pass(5);
    assert!(bench.frame(160, 47).contains("winch-stick"), "{}", bench.frame(160, 47));
    assert!(bench.model.snapshot.inputs.last().unwrap().raw.is_some_and(|raw| (raw - 1200.0).abs() < 3.0));
    bench.press(Key::char('u'));
    assert!(bench.session.document.rig.inputs.iter().all(|input| input.name != "winch-stick"));
}

#[test]
fn a_row_of_the_list_is_picked_by_hand_too_and_the_list_stays_as_it_is() {
    let mut bench = inputs();
    bench.press(Key::char('I'));
    bench.watch(40);
    for _ in 0..5 {
        bench.code(KeyCode::Down);
    }
    let before = bench.frame(160, 47);
    moves(&mut bench, "radio", "ch9", &[0.9, 0.2]);
    let Some(Dialog::Listen(listen)) = &bench.model.dialog else { panic!("it is open") };
    assert_eq!(listen.pick, Some(4));
    let row = |frame: &str| frame.lines().position(|line| line.contains("ch9 "));
    assert_eq!(row(&before), row(&bench.frame(160, 47)), "nothing changes its place under one's fingers");
    // ← → move what is simulated there.
    bench.code(KeyCode::Right);
    bench.watch(4);
    let position = |bench: &Bench| bench.session.runner.sender("radio").unwrap().position("ch2").unwrap();
    assert!((position(&bench) - 0.4).abs() < 1e-9, "{}", position(&bench));
    bench.code(KeyCode::Esc);
    assert_eq!(bench.model.dialog, None);
}

#[test]
fn a_stick_that_is_watched_is_known_and_all_is_kept_in_one_edit() {
    let mut bench = inputs();
    for _ in 0..3 {
        bench.code(KeyCode::Right);
    }
    assert!(bench.frame(160, 47).contains("ch1 of radio"));
    bench.press(Key::char('V'));
    bench.watch(30);
    bench.code(KeyCode::Enter);
    assert!(bench.frame(160, 47).contains("it has not moved yet"), "{}", bench.frame(160, 47));
    moves(&mut bench, "radio", "ch1", &[0.95, 0.5, 0.1, 0.5, 0.95, 0.5]);
    let frame = bench.frame(160, 47);
    for words in ["goes back to its rest", "rest 1500", "noise", "deadband", "/s"] {
        assert!(frame.contains(words), "{words}: {frame}");
    }
    insta::assert_snapshot!("watch_160x47", frame);
    insta::assert_snapshot!("watch_80x24", bench.frame(80, 24));
    bench.code(KeyCode::Enter);
    let tiller = bench.session.document.rig.inputs.iter().find(|i| i.name == "tiller").unwrap().clone();
    assert!((tiller.ends.low - 1100.0).abs() < 4.0 && (tiller.ends.high - 1950.0).abs() < 4.0, "{tiller:?}");
    assert!((tiller.centre.unwrap() - 1500.0).abs() < 2.0 && tiller.deadband < 0.02, "{tiller:?}");
    bench.press(Key::char('u'));
    assert!((bench.session.document.rig.inputs[3].ends.low - 1000.0).abs() < 1e-9, "one edit");
}

#[test]
fn a_link_is_added_renamed_moved_and_removed_while_the_rest_runs() {
    let mut bench = inputs();
    let good = |bench: &Bench, link: &str| {
        let edition = &bench.session.runner.edition;
        let id = edition.rig.link(link).unwrap().id;
        edition
            .link_state(&bench.model.snapshot, id)
            .map(|(state, report)| (state.health, report.counts.good))
    };
    bench.press(Key::char('K'));
    for word in ["swell", "wave", ""] {
        for _ in 0..12 {
            bench.code(KeyCode::Backspace);
        }
        bench.text(word);
        bench.code(KeyCode::Tab);
    }
    let before = good(&bench, "micro").unwrap();
    bench.code(KeyCode::Enter);
    bench.pass(20);
    assert!(bench.frame(160, 47).contains("swell"), "{}", bench.frame(160, 47));
    assert_eq!(good(&bench, "swell").unwrap().0, Health::Fresh);
    let after = good(&bench, "micro").unwrap();
    assert!(
        after.0 == Health::Fresh && after.1 > before.1 + 15,
        "nothing was lost on the other: {before:?} {after:?}"
    );
    bench.press(Key::char(':'));
    bench.enter("add input by name: idle; swell; wave");
    bench.pass(10);
    let at = bench.model.snapshot.inputs.last().unwrap().raw;
    assert!(at.is_some_and(|raw| (0.0..=1.0).contains(&raw)), "{at:?}");
    bench.press(Key::char(':'));
    bench.enter("rename link: swell; breath");
    assert_eq!(bench.session.document.rig.inputs.last().unwrap().link, "breath");
    // What stands on it goes first.
    bench.press(Key::char(':'));
    bench.enter("remove link: breath");
    assert!(bench.frame(160, 47).contains("1 input stands on breath: move or remove it first"));
    bench.code(KeyCode::Esc);
    // The radio's link goes to another line, and comes back fresh there; its inputs and what they drive stay.
    bench.press(Key::char(':'));
    bench.enter("move link: radio; sim:other-radio; sbus");
    bench.pass(3);
    assert!(good(&bench, "radio").unwrap().1 < 20, "nothing that came over the other line counts here");
    bench.pass(40);
    assert_eq!(good(&bench, "radio").unwrap().0, Health::Fresh, "{}", bench.frame(160, 47));
    assert!(
        bench.session.document.rig.port("radio-line").is_none()
            && bench.session.document.rig.mappings.len() == 3
    );
    for _ in 0..4 {
        bench.press(Key::char('u'));
    }
    bench.pass(20);
    assert_eq!(bench.session.document.rig.links.len(), 3);
    assert_eq!(good(&bench, "radio").unwrap().0, Health::Fresh, "back on its own line");
}

#[test]
fn what_cannot_be_is_said_and_changes_nothing() {
    let mut bench = inputs();
    let first = bench.session.document.rig.clone();
    for (command, words) in [
        ("add link: second; knob-line; lines", "micro is on knob-line already"),
        ("add link: bus; bench-bus; lines", "no port is called \"bench-bus\""),
        ("add link: far; udp:99999; osc", "is not an address to listen at"),
        ("add link: odd; /dev/ttyUSB9; morse", "\"morse\" is not a protocol: there are lines, ibus"),
        ("add link: micro; wave; wave", "a second link is called"),
        ("add input by name: x; radio; ch99", "radio has no channel \"ch99\""),
        ("add input by name: x; radar; ch1", "no link is called \"radar\": there is dial, micro, radio"),
        ("input's channel: radar; ch1", "no link is called \"radar\""),
        ("rename input: two words", "a name is"),
    ] {
        bench.press(Key::char(':'));
        bench.enter(command);
        let frame = bench.frame(160, 47);
        assert!(frame.contains(words), "{command}: {frame}");
        bench.code(KeyCode::Esc);
        assert_eq!(bench.session.document.rig, first, "{command}");
    }
}

#[test]
fn an_input_is_renamed_put_on_another_channel_and_removed_with_what_it_drives() {
    let mut bench = inputs();
    bench.press(Key::char(':'));
    bench.enter("rename input: dial");
    assert!(bench.session.document.rig.mappings[0].from.contains_key("dial"));
    bench.act("swap channel");
    bench.watch(40);
    moves(&mut bench, "radio", "ch3", &[1.0, 0.0]);
    assert!(bench.frame(160, 47).contains("Enter lets dial read ch3 of radio."), "{}", bench.frame(160, 47));
    bench.code(KeyCode::Enter);
    let dial = &bench.session.document.rig.inputs[0];
    assert_eq!((dial.link.as_str(), dial.channel.as_str()), ("radio", "ch3"));
    assert_eq!(bench.session.document.rig.mappings[0].to.name(), Some("heron.beak"), "what it drives stays");
    bench.press(Key::char(':'));
    bench.enter("remove input");
    assert!(bench.frame(160, 47).contains("Remove the input dial? What it drives is untied."));
    bench.code(KeyCode::Enter);
    assert_eq!((bench.session.document.rig.inputs.len(), bench.session.document.rig.mappings.len()), (4, 2));
}

#[test]
fn an_input_on_another_channel_asks_for_nothing_before_that_has_spoken_and_nothing_jumps() {
    let mut bench = Bench::new();
    bench.engage(1, 1200.0);
    bench.tell(wasvolta_core::stage::Command::GiveBack { servo: 1 });
    bench.pass(100);
    let pulse = |bench: &Bench| bench.model.snapshot.servos[1].pulse.get();
    let before = pulse(&bench);
    stands(&bench, "radio", "ch5", 1.0);
    bench.code(KeyCode::F(3));
    bench.press(Key::char(':'));
    bench.enter("input's channel: radio; ch5");
    let mut last = before;
    let most = 500.0 / 0.12 / 60.0 * 10.0; // µs in a beat at its rated speed, and more
    for _ in 0..100 {
        bench.pass(1);
        assert!((pulse(&bench) - last).abs() < most, "{last} {}", pulse(&bench));
        last = pulse(&bench);
    }
    assert!(last > before + 50.0, "and it follows the other one then: {before} {last}");
}

#[test]
fn a_transmitter_that_goes_off_is_stuck_in_all_places_and_once_in_the_log() {
    let mut bench = inputs();
    for _ in 0..3 {
        bench.code(KeyCode::Right);
    }
    moves(&mut bench, "radio", "ch1", &[0.9, 0.5]);
    bench.act("transmitter");
    assert_eq!(bench.session.runner.sender("radio").unwrap().mood(), Mood::Off);
    bench.pass(190);
    assert!(bench.frame(160, 47).contains("2 links fresh"), "{}", bench.frame(160, 47));
    bench.pass(30);
    assert!(bench.frame(160, 47).contains("✗ radio stuck"));
    // What was said about the key is over.
    bench.pass(200);
    let frame = bench.frame(160, 47);
    for words in ["✗ radio stuck", "✗ stuck", "link radio stuck", "a receiver may repeat its last frame"]
    {
        assert!(frame.contains(words), "{words}: {frame}");
    }
    bench.pass(500);
    assert_eq!(bench.frame(160, 47).matches("link radio stuck").count(), 1);
    bench.act("transmitter");
    bench.pass(20);
    assert!(bench.frame(160, 47).contains("2 links fresh"));
}

#[test]
fn what_is_said_again_and_again_is_one_line_with_a_count() {
    let mut bench = Bench::new();
    let (seconds, words) = (std::time::Duration::from_secs, |bench: &Bench| -> Vec<String> {
        bench
            .model
            .log
            .iter()
            .map(|(_, words)| words.clone())
            .filter(|words| words.starts_with("knob"))
            .collect()
    });
    for at in [100, 104, 110] {
        bench.model.note(seconds(at), "knob lost");
        bench.model.note(seconds(at), "knob is well");
    }
    assert_eq!(words(&bench), ["knob lost, 3 times in 10 s", "knob is well, 3 times in 10 s"]);
    // Long after, it is said anew, and what was folded stays.
    bench.model.note(seconds(200), "knob lost");
    assert_eq!(words(&bench)[2], "knob lost");
    // What only begins alike is another line.
    bench.model.note(seconds(201), "knob lost its plug");
    bench.model.note(seconds(202), "knob lost");
    assert!(words(&bench).contains(&"knob lost its plug".to_owned()), "{:?}", words(&bench));
    assert!(bench.model.flaps.len() < 4, "what is long over is not kept");
}

#[test]
fn a_link_that_flaps_is_one_line_with_a_count() {
    let mut bench = inputs();
    bench.code(KeyCode::Right);
    for _ in 0..6 {
        bench.act("pull the plug");
        bench.watch(40);
        bench.act("pull the plug");
        bench.watch(40);
    }
    let about: Vec<&String> =
        bench.model.log.iter().map(|(_, words)| words).filter(|w| w.contains("link micro")).collect();
    assert!(about.len() <= 2, "{about:?}");
    assert!(about.last().unwrap().contains("changes in"), "{about:?}");
    // What becomes of the others is said as ever.
    assert!(bench.model.log.iter().any(|(_, words)| words.contains("link radio fresh")));
}

#[test]
fn wiring_shows_every_link_and_why_one_cannot_be_opened() {
    let mut bench = Bench::with(|rig| rig.replace("path = \"sim:radio\"", "path = \"/dev/tty-none\""));
    bench.code(KeyCode::F(1));
    bench.pass(40);
    let frame = bench.frame(160, 47);
    for words in [
        "micro       ● fresh",
        "pins of a Firmata board on sim:desk, 1 input",
        "lines of numbers on sim:knob, 2 inputs",
        "radio       ○ absent",
        "iBUS receiver on /dev/tty-none",
    ] {
        assert!(frame.contains(words), "{words}: {frame}");
    }
    assert!(
        frame.contains("✗ radio: cannot open /dev/tty-none: there is no such device; plug it in"),
        "{frame}"
    );
    bench.code(KeyCode::F(3));
    for _ in 0..3 {
        bench.code(KeyCode::Right);
    }
    bench.pass(400);
    assert!(
        bench.frame(160, 47).contains("radio is absent: cannot open /dev/tty-none"),
        "{}",
        bench.frame(160, 47)
    );
}

#[test]
fn a_switch_says_whether_it_is_pressed_is_turned_over_and_learned_by_doing() {
    let mut bench = inputs();
    bench.code(KeyCode::Right);
    let visitor = |bench: &Bench| bench.session.document.rig.inputs[1].clone();
    let says = |bench: &mut Bench, at: f64| {
        stands(bench, "micro", "button", at);
        bench.watch(10);
        let frame = bench.frame(160, 47);
        frame.lines().find(|line| line.contains("visitor  ")).unwrap().to_owned()
    };
    assert!(says(&mut bench, 0.0).contains("not pressed"));
    assert!(says(&mut bench, 1.0).contains(" pressed") && !says(&mut bench, 1.0).contains("not pressed"));
    assert!(bench.frame(160, 47).contains("button of micro on sim:knob, pressed once"));
    // By its row the other way, then none, then as it was.
    while !bench.frame(160, 47).lines().any(|line| line.contains('▌') && line.contains("pressed   ")) {
        bench.code(KeyCode::Down);
    }
    bench.code(KeyCode::Right);
    assert!(says(&mut bench, 1.0).contains("not pressed"));
    // While a sequence waits for its presses it stays a switch.
    bench.press(Key::char(':'));
    bench.enter("switch");
    assert!(
        bench.frame(160, 47).contains("step 1 of lift: visitor is not a switch"),
        "{}",
        bench.frame(160, 47)
    );
    let without = |rig: &wasvolta_core::rig::Rig| wasvolta_core::rig::edit::remove_step(rig, "lift", 0);
    bench.session.edit("no wait", without).unwrap();
    bench.press(Key::char(':'));
    bench.enter("switch");
    assert_eq!(visitor(&bench).switch, None);
    assert!(says(&mut bench, 1.0).contains("+1.000"), "a plain input again");
    // Watched: pressed is where it is for less of the time, unless it is told.
    let learn = |bench: &mut Bench, told: bool| {
        bench.press(Key::char('V'));
        for _ in 0..3 {
            stands(bench, "micro", "button", 1.0);
            bench.watch(10);
            stands(bench, "micro", "button", 0.0);
            bench.watch(40);
        }
        if told {
            bench.press(Key::char('p'));
            bench.watch(1);
        }
        let frame = bench.frame(160, 47);
        bench.code(KeyCode::Enter);
        frame
    };
    let frame = learn(&mut bench, false);
    assert!(
        frame.contains("at 1, not at 0") && frame.contains("it was there for the shorter time"),
        "{frame}"
    );
    assert_eq!(visitor(&bench).switch.unwrap().words(), "pressed above 0.6, not below 0.4");
    let frame = learn(&mut bench, true);
    assert!(frame.contains("at 0, not at 1") && frame.contains("as you said"), "{frame}");
    assert_eq!(visitor(&bench).switch.unwrap().words(), "pressed below 0.4, not above 0.6");
}

#[test]
fn a_trim_that_was_moved_is_said_once_and_taken_in_by_a_key() {
    let mut bench = inputs();
    for _ in 0..3 {
        bench.code(KeyCode::Right);
    }
    let before = bench.session.document.rig.clone();
    bench.act("take the new rest");
    assert!(bench.frame(160, 47).contains("it rests where it was learned, as far as was seen"));
    moves(&mut bench, "radio", "ch1", &[0.56, 0.95, 0.56, 0.95, 0.56]);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("tiller rests at 1560 now: was the transmitter's trim moved?"), "{frame}");
    bench.model.said = None;
    let frame = bench.frame(160, 47);
    assert!(
        frame.contains("was the transmitter's trim moved? :take the new rest keeps the new rest."),
        "{frame}"
    );
    let said = bench.model.log.iter().filter(|(_, words)| words.contains("tiller rests at 15")).count();
    assert_eq!((said, bench.session.document.rig == before), (1, true), "nothing is changed by itself");
    bench.act("take the new rest");
    bench.watch(5);
    let centre = bench.session.document.rig.inputs[3].centre.unwrap();
    assert!((centre - 1560.0).abs() <= 3.0, "{centre}");
    assert!(!bench.frame(160, 47).contains("N takes that in"));
    bench.press(Key::char('u'));
    assert_eq!(bench.session.document.rig, before);
}

#[test]
fn faders_on_the_screen_are_an_input_as_any_other() {
    let keys = "[[port]]\nname = \"keys\"\nkind = \"keys\"\n[[link]]\nname = \"desk-keys\"\non = \"keys\"\n[[input]]\n\
                name = \"swing\"\nlink = \"desk-keys\"\nchannel = \"fader1\"\nends = [0, 100]\n[[input]]\nname = \"go\"\n\
                link = \"desk-keys\"\nchannel = \"toggle1\"\nends = [0, 1]\nswitch = { on_above = 0.6, off_below = 0.4 }\n";
    let mut bench = Bench::with(|rig| format!("{rig}\n{keys}"));
    bench.code(KeyCode::F(3));
    bench.pass(5);
    bench.press(Key::char('J'));
    for _ in 0..5 {
        bench.code(KeyCode::Right);
    }
    bench.press(Key::char('1'));
    bench.pass(3);
    let frame = bench.frame(160, 47);
    assert!(frame.contains("fader1 10 %") && frame.contains("toggle1 on"), "{frame}");
    let raw = |bench: &Bench, n: usize| bench.model.snapshot.inputs[n].raw;
    assert_eq!((raw(&bench, 5), raw(&bench, 6)), (Some(10.0), Some(1.0)));
    bench.code(KeyCode::Esc);
    assert_eq!(bench.model.dialog, None);
    bench.code(KeyCode::Right);
    assert!(bench.frame(160, 47).contains("visitor"), "the arrows are the view's again");
}

#[test]
fn a_pin_that_the_board_cannot_read_is_said_with_those_that_it_can_and_one_that_is_read_is_drawn() {
    let input = |name: &str, channel: &str| {
        format!("[[input]]\nname = \"{name}\"\nlink = \"dial\"\nchannel = \"{channel}\"\nends = [0, 1]\n")
    };
    let mut bench = Bench::with(|rig| format!("{rig}\n{}", input("bell", "d7 pull-up")));
    bench.pass(150);
    bench.code(KeyCode::F(1));
    assert_eq!(bench.model.in_wiring.link_troubles[0], None);
    bench.code(KeyCode::Right);
    bench.code(KeyCode::Right);
    assert!(bench.frame(160, 47).contains("← bell"), "{}", bench.frame(160, 47));
    let mut bench = Bench::with(|rig| format!("{rig}\n{}", input("far", "a9")));
    bench.pass(150);
    bench.code(KeyCode::F(1));
    let words = "a9 of desk cannot be read for far; those that can: a 0–5";
    assert!(bench.frame(160, 47).contains(words), "{}", bench.frame(160, 47));
}
