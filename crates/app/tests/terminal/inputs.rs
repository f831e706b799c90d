//! A rig is set up by keys alone, from an empty one: a board, servos, a link, and inputs that are found by moving them.

use crate::harness::{Home, PROGRAM, Pane, until};
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
        "format = 9\nname = \"New marsh\"\n\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = \"sim:bus\"\n";
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
    pane.see("saved");
    let rig = until(|| saved(&home), || "nothing sound was saved".to_owned());
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
