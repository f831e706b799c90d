//! A rig is set up by keys alone, from an empty one: a board, servos, a link, and inputs that are found by moving them.

use crate::harness::{Home, PROGRAM, Pane, number_behind, until};
use std::io::Write;
use std::process::{Child, Command, Stdio};
use wasvolta_core::rig::Rig;
use wasvolta_core::rig::file::{Loaded, load};

/// A receiver of its own on a real pty, moved by what is typed to it.
struct Radio(Child);

impl Radio {
    fn start(home: &Home, protocol: &str) -> Self {
        let link = home.path("radio");
        let child = Command::new(PROGRAM)
            .args(["sim", "radio", "--protocol", protocol, "--link"])
            .arg(&link)
            .envs(home.environment())
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .unwrap();
        until(|| link.exists().then_some(()), || "no receiver".to_owned());
        Self(child)
    }

    fn says(&mut self, order: &str) {
        writeln!(self.0.stdin.as_mut().unwrap(), "{order}").unwrap();
    }
}

impl Drop for Radio {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

fn saved(home: &Home) -> Option<Rig> {
    match load(&std::fs::read_to_string(home.path("new.rig.toml")).ok()?) {
        Loaded::Sound(rig) => Some(*rig),
        _ => None,
    }
}

/// One command of the palette with its answers.
fn command(pane: &mut Pane, line: &str, seen: &str) {
    pane.keys(&[":"]);
    pane.see("Type some of its name");
    pane.text(line);
    pane.keys(&["Enter"]);
    pane.see(seen);
}

#[test]
fn sixteen_servos_and_eight_inputs_are_set_up_by_keys_from_an_empty_rig() {
    let home = Home::new();
    let mut radio = Radio::start(&home, "crsf");
    let rig = home.path("new.rig.toml");
    // A simulated bus to try it on; nothing hangs there yet.
    let text =
        "format = 12\nname = \"New marsh\"\n\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"sim:bus\"\n";
    std::fs::write(&rig, text).unwrap();
    let mut pane = Pane::start(&home, &["open", rig.to_str().unwrap()]);
    pane.see("New marsh");
    pane.keys(&["F1"]);
    command(&mut pane, "add board: upper; 0x40; bus; pwm-expander", "upper added");
    for channel in 0..16 {
        let name = format!("reed.s{channel}");
        command(&mut pane, &format!("add servo: {name}; {channel}"), &name);
    }
    // The link, on a real line; then inputs by moving the one that is meant.
    command(
        &mut pane,
        &format!("add link: radio; {}; crsf", home.path("radio").display()),
        "radio listens on",
    );
    pane.keys(&["F3"]);
    pane.see("● fresh");
    for channel in 1..=8 {
        pane.keys(&["I"]);
        // Once it is known what each does by itself one is moved.
        pane.see("Move the one you mean, and nothing else.");
        for at in ["0.9", "0.1", "0.9", "0.5"] {
            radio.says(&format!("ch{channel} {at}"));
            radio.says("wait 0.3");
        }
        pane.see(&format!("Enter makes an input of ch{channel} of radio."));
        pane.keys(&["Enter"]);
        pane.see("what it is, as tiller or gap");
        pane.text(&format!("stick{channel}"));
        pane.keys(&["Enter"]);
        pane.see(&format!("stick{channel} is an input now"));
    }
    pane.keys(&["C-s"]);
    // "saved" alone is a part of "unsaved", which stands there already.
    pane.see("saved to");
    let rig = saved(&home).expect("what was saved is sound");
    assert_eq!((rig.servos.len(), rig.inputs.len(), rig.links.len()), (16, 8, 1));
    for (n, input) in (1..).zip(&rig.inputs) {
        assert_eq!(
            (input.name.as_str(), input.channel.as_str()),
            (&*format!("stick{n}"), &*format!("ch{n}"))
        );
    }
    // The transmitter goes off: this receiver says so by sending no channels.
    radio.says("off");
    pane.see("✗ lost");
    radio.says("well");
    pane.see("● fresh");
}

/// A heron and a crane on a simulated bus, calibrated, and a receiver with two switches.
const RIG: &str = r#"format = 12
name = "Stick marsh"
[[port]]
name = "bus"
kind = "i2c"
path = "sim:bus"
[[port]]
name = "air"
kind = "serial"
path = "RADIO"
[[board]]
name = "upper"
port = "bus"
chip = "pwm-expander"
address = 0x40
[[servo]]
name = "heron.neck"
board = "upper"
channel = 0
marks = [{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]
[[servo]]
name = "heron.beak"
board = "upper"
channel = 1
marks = [{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]
[[servo]]
name = "crane.slew"
board = "upper"
channel = 2
marks = [{ pulse_us = 1100, angle_deg = -40 }, { pulse_us = 1900, angle_deg = 40 }]
[[joint]]
name = "heron.neck"
servo = "heron.neck"
low = { angle_deg = -30 }
high = { angle_deg = 30 }
[[joint]]
name = "heron.beak"
servo = "heron.beak"
[[joint]]
name = "crane.slew"
servo = "crane.slew"
low = { angle_deg = -20 }
high = { angle_deg = 20 }
[[link]]
name = "radio"
on = "air"
protocol = "crsf"
[[input]]
name = "knob"
link = "radio"
channel = "ch3"
ends = [1000, 2000]
centre = 1500
[[input]]
name = "mode"
link = "radio"
channel = "ch5"
ends = [1000, 2000]
switch = { positions = [1000, 1500, 2000] }
[[input]]
name = "grab"
link = "radio"
channel = "ch6"
ends = [1000, 2000]
switch = { on_above = 1600, off_below = 1400 }
[[pose]]
name = "shut"
angles_deg = { "heron.beak" = 0 }
[[pose]]
name = "open"
angles_deg = { "heron.beak" = 30 }
"#;

/// Goes down, or up, to a row.
fn row(pane: &mut Pane, name: &str) {
    let picked = |screen: &str| {
        let line = screen.lines().find(|line| line.contains("│ ▌"))?;
        Some(line.rsplit_once('▌')?.1.to_owned())
    };
    for key in ["Down", "Up"] {
        for _ in 0..45 {
            let before = until(|| picked(&pane.screen()), || pane.screen());
            // Its name stands behind its stage, before its value.
            if before.chars().skip(11).take(12).collect::<String>().trim() == name {
                return;
            }
            pane.keys(&[key]);
            let moved = || picked(&pane.screen()).filter(|now| *now != before);
            let start = std::time::Instant::now();
            // At an end of the list it stays where it is.
            if until_or(moved, start).is_none() {
                break;
            }
        }
    }
    panic!("no row is called {name} on\n{}", pane.screen());
}

/// What comes within a moment, if anything does.
fn until_or<T>(mut look: impl FnMut() -> Option<T>, start: std::time::Instant) -> Option<T> {
    loop {
        if let Some(found) = look() {
            return Some(found);
        }
        if start.elapsed() > std::time::Duration::from_millis(700) {
            return None;
        }
        std::thread::yield_now();
    }
}

/// Picks a servo by its name, in the roster.
fn pick(pane: &mut Pane, servo: &str) {
    let (_, short) = servo.split_once('.').unwrap();
    let is_picked = |screen: &str| screen.lines().any(|line| line.starts_with('▌') && line.contains(short));
    for key in ["PageUp", "PageUp", "PageUp", "PageDown", "PageDown", "PageDown"] {
        if until_or(|| is_picked(&pane.screen()).then_some(()), std::time::Instant::now()).is_some() {
            return;
        }
        pane.keys(&[key]);
    }
    pane.see(short);
}

/// Lets a button toggle the beak, and presses it twice.
fn toggles_by_a_button(pane: &mut Pane, radio: &mut Radio) {
    row(pane, "input");
    pane.keys(&["Right", "Right"]);
    pane.see("grab (3 of 4)");
    pick(pane, "heron.beak");
    pane.keys(&["O"]);
    pane.see("as it is called in the list");
    pane.text("snap");
    pane.keys(&["Tab"]);
    pane.text("toggle");
    pane.keys(&["Tab"]);
    pane.text("shut open");
    pane.keys(&["Enter"]);
    pane.see("grab toggles shut and open now");
    pane.keys(&["e"]);
    pane.see("Where does the horn stand now");
    pane.keys(&["Enter"]);
    pane.see("heron.beak engaged");
    pane.keys(&["g"]);
    pane.see("to shut → asks +0.0°");
    for pose in ["open → asks +30.0°", "shut → asks +0.0°"] {
        radio.says("ch6 1");
        radio.says("wait 0.2");
        radio.says("ch6 0");
        pane.see(&format!("to {pose}"));
    }
}

#[test]
fn a_stick_is_learned_tied_to_two_joints_bent_shared_lost_switched_and_a_button_toggles() {
    let home = Home::new();
    let mut radio = Radio::start(&home, "crsf");
    let path = home.path("new.rig.toml");
    std::fs::write(&path, RIG.replace("RADIO", &home.path("radio").display().to_string())).unwrap();
    let mut pane = Pane::start(&home, &["open", path.to_str().unwrap()]);
    pane.see("Stick marsh");
    for channel in [5, 6] {
        radio.says(&format!("ch{channel} 0"));
    }
    pane.keys(&["F3"]);
    pane.see("● fresh");
    // Learned by moving it.
    pane.keys(&["I"]);
    pane.see("Move the one you mean, and nothing else.");
    for at in ["0.9", "0.1", "0.9", "0.5"] {
        radio.says(&format!("ch1 {at}"));
        radio.says("wait 0.3");
    }
    pane.see("Enter makes an input of ch1 of radio.");
    pane.keys(&["Enter"]);
    pane.see("what it is, as tiller or gap");
    pane.text("stick");
    pane.keys(&["Enter"]);
    pane.see("stick is an input now");
    // Tied to two joints, and each is engaged and given to it.
    for servo in ["heron.neck", "crane.slew"] {
        pick(&mut pane, servo);
        pane.keys(&["t"]);
        pane.see(&format!("stick tied to {servo}"));
        pane.keys(&["e"]);
        pane.see("Where does the horn stand now");
        pane.keys(&["Enter"]);
        pane.see(&format!("{servo} engaged"));
        pane.keys(&["g"]);
        pane.see(" map");
    }
    pick(&mut pane, "heron.neck");
    row(&mut pane, "mapping");
    pane.keys(&["Left"]);
    pane.see("heron.neck (1 of 2)");
    pane.see("heron.neck follows");
    // Its course is bent where the stick stands, and that point is moved.
    radio.says("ch1 0.75");
    pane.see("shaped +0.50");
    pane.keys(&["B"]);
    pane.see("a point at +0.50");
    row(&mut pane, "to");
    let asked = |screen: &str| number_behind(screen, "asks ");
    let before = until(|| asked(&pane.screen()), || pane.screen());
    pane.keys(&["Left", "Left"]);
    until(|| asked(&pane.screen()).filter(|now| *now < before - 1.0), || pane.screen());
    // A second input has a share in it.
    row(&mut pane, "input");
    for _ in 0..3 {
        pane.keys(&["Left"]);
    }
    pane.see("knob (1 of 4)");
    pane.keys(&["Y"]);
    pane.see("knob has a share of 0.2 in heron.neck");
    radio.says("ch3 1");
    pane.see("and stick");
    pane.see("together +0.70");
    // Lost, and back.
    radio.says("off");
    pane.see("does as told for a lost link");
    radio.says("well");
    pane.see("heron.neck follows");
    // It holds only while a switch is at its first position.
    row(&mut pane, "while");
    pane.keys(&["Right"]);
    pane.see("mode is 1 of 3");
    pane.see("heron.neck follows");
    radio.says("ch5 0.5");
    pane.see("mode is not at its position");
    radio.says("ch5 0");
    pane.see("heron.neck follows");
    toggles_by_a_button(&mut pane, &mut radio);
    pane.keys(&["C-s"]);
    pane.see("saved to");
    let saved = saved(&home).expect("what was saved is sound");
    let neck = saved.mappings.iter().find(|own| own.to.joint.as_deref() == Some("heron.neck")).unwrap();
    assert_eq!((neck.from.len(), neck.to.points.len()), (2, 3));
    assert_eq!(neck.only_while.as_ref().unwrap().input, "mode");
    assert_eq!(saved.mappings.iter().filter(|own| own.from.contains_key("stick")).count(), 2);
    assert_eq!(saved.mapping("snap").unwrap().to.toggle, ["shut", "open"]);
}

#[test]
fn a_handle_is_dragged_by_the_mouse_unless_it_is_left_to_the_terminal() {
    let home = Home::new();
    let path = home.path("new.rig.toml");
    std::fs::write(&path, RIG.replace("RADIO", "sim:air")
        + "[[mapping]]\nname = \"turn\"\nfrom = { knob = 1 }\nto = { joint = \"heron.neck\", angles_deg = [-20, 17] }\n")
        .unwrap();
    let mut pane = Pane::start(&home, &["open", path.to_str().unwrap()]);
    pane.see("Stick marsh");
    until(|| pane.has_mouse().then_some(()), || pane.screen());
    pane.keys(&["F3"]);
    row(&mut pane, "at high end");
    pane.see("+17.0°");
    // Wherever the handle stands at the right edge of the drawing: it is taken there and drawn down.
    for line in 8..38 {
        pane.mouse(&[(0, (158, line), 'M'), (32, (158, line + 2), 'M'), (0, (158, line + 2), 'm')]);
    }
    pane.see("turn: at high end");
    pane.see_no_more("at high end +17.0°");
    // Left at once, whatever it was doing, it leaves the terminal as it was.
    pane.signal("-TERM");
    until(|| (!pane.has_mouse()).then_some(()), || pane.screen());

    let elsewhere = Home::new();
    let mut pane = Pane::start(&elsewhere, &["open", path.to_str().unwrap(), "--no-mouse"]);
    pane.see("Stick marsh");
    pane.keys(&["F3"]);
    pane.see("knob (1 of 3)");
    pane.keys(&["Down"]);
    assert!(!pane.has_mouse());
}
