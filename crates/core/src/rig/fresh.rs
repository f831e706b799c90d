//! The text of a new rig: what a person would write for one board or one line, with its comments.

use super::FORMAT;
use super::file::{Located, Source, Unfit};
use std::fmt::Write;

/// What a new rig begins with.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Beginning {
    /// What it is called.
    pub name: String,
    /// The path of an I²C bus and the address of the board on it.
    pub bus: Option<(String, u8)>,
    /// The rate of the line before that bus, where it is behind a bridge.
    pub baud: Option<u32>,
    /// The path of a serial line that prints numbers.
    pub serial: Option<String>,
    /// The path of a serial line with a board that speaks Firmata.
    pub firmata: Option<String>,
    /// The path of a PWM chip of the kernel.
    pub pwm: Option<String>,
    /// The path of a serial line with a bus of smart servos, and the layout of their registers.
    pub smart: Option<(String, String)>,
}

impl Beginning {
    /// Whether there would be nothing to drive and nothing to hear.
    pub const fn is_empty(&self) -> bool {
        self.bus.is_none()
            && self.serial.is_none()
            && self.firmata.is_none()
            && self.pwm.is_none()
            && self.smart.is_none()
    }
}

/// A new rig with its text.
///
/// # Errors
/// With what is wrong in what was asked for, as for a file that a person wrote.
pub fn rig(beginning: &Beginning) -> Result<Source, Located> {
    let text = text(beginning);
    Source::read(text).map_err(|unfit| match unfit {
        Unfit::Problems(found) => found.into_iter().next().unwrap_or_else(nothing),
        Unfit::Unreadable(one) => one,
    })
}

fn nothing() -> Located {
    Located { message: "nothing to begin with".to_owned(), help: "give a bus".to_owned(), span: None }
}

fn text(beginning: &Beginning) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let mut text = format!(
        "format = {FORMAT}\nname = {}\n\n# A servo that the hand leaves alone this long is released, unless its joint is loaded.\nrelease_after_s = 300\n",
        quoted(&beginning.name)
    );
    if let Some((path, address)) = &beginning.bus {
        let baud = beginning.baud.map_or_else(String::new, |baud| format!("baud = {baud}\n"));
        let _ = write!(
            text,
            "\n[[port]]\nname = \"bus\"\nkind = \"i2c\"\npath = {}\n{baud}\n\
             # Its address is set by solder jumpers: none closed is 0x40.\n\
             [[board]]\nname = \"board\"\nport = \"bus\"\nchip = \"pwm-expander\"\naddress = {address:#04x}\n",
            quoted(path)
        );
    }
    let alone = [
        (&beginning.firmata, "micro", "serial", "firmata", "Its channels are its pins."),
        (
            &beginning.pwm,
            "kernel",
            "pwm",
            "linux-pwm",
            "The path of its device stays where the number of its chip moves.",
        ),
    ];
    for (path, name, kind, chip, about) in alone {
        let Some(path) = path else { continue };
        let _ = write!(
            text,
            "\n[[port]]\nname = \"{name}-port\"\nkind = \"{kind}\"\npath = {}\n\n\
             # {about}\n[[board]]\nname = \"{name}\"\nport = \"{name}-port\"\nchip = \"{chip}\"\n",
            quoted(path)
        );
    }
    if let Some((path, layout)) = &beginning.smart {
        let _ = write!(
            text,
            "\n[[port]]\nname = \"servo-line\"\nkind = \"serial\"\npath = {}\n\n\
             # Smart servos, each with an id of its own; the layout says where their registers stand.\n\
             [[board]]\nname = \"servo-bus\"\nport = \"servo-line\"\nchip = \"smart-bus\"\nlayout = {}\n",
            quoted(path),
            quoted(layout)
        );
    }
    if let Some(path) = &beginning.serial {
        let _ = write!(
            text,
            "\n[[port]]\nname = \"line\"\nkind = \"serial\"\npath = {}\n\n\
             [[link]]\nname = \"micro\"\non = \"line\"\n\n\
             # The first number of each line; its two ends are seen when it is turned.\n\
             [[input]]\nname = \"knob\"\nlink = \"micro\"\nchannel = \"field 1\"\nends = [0, 1023]\n",
            quoted(path)
        );
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn beginning() -> Beginning {
        Beginning {
            name: "reeds \"one\"".to_owned(),
            bus: Some(("/dev/i2c-1".to_owned(), 0x41)),
            serial: Some("/dev/ttyACM0".to_owned()),
            ..Beginning::default()
        }
    }

    #[test]
    fn a_new_rig_is_sound_and_reads_as_a_person_writes() {
        let source = rig(&beginning()).unwrap();
        assert!(source.text().contains("address = 0x41\n"), "{}", source.text());
        assert_eq!(source.rig().name, "reeds \"one\"");
        assert_eq!((source.rig().boards[0].address, source.rig().inputs.len()), (Some(0x41), 1));
        assert!(source.rig().servos.is_empty());
    }

    #[test]
    fn boards_that_are_alone_on_their_port_can_be_begun_with() {
        let all = Beginning {
            firmata: Some("/dev/ttyACM1".to_owned()),
            pwm: Some("/sys/devices/soc/pwm".to_owned()),
            smart: Some(("/dev/ttyUSB0".to_owned(), "ten-bit".to_owned())),
            ..beginning()
        };
        let source = rig(&all).unwrap();
        let chips: Vec<_> = source.rig().boards.iter().map(|b| b.chip.word()).collect();
        assert_eq!(chips, ["PWM expander", "Firmata board", "kernel PWM", "smart bus"]);
        assert_eq!(source.rig().boards[3].layout.as_deref(), Some("ten-bit"));
        let strange = Beginning { smart: Some(("x".to_owned(), "eleven-bit".to_owned())), ..beginning() };
        assert!(rig(&strange).unwrap_err().message.contains("eleven-bit"));
        assert!(!all.is_empty() && Beginning::default().is_empty());
    }

    #[test]
    fn what_cannot_be_is_said_as_for_any_file() {
        let all = rig(&Beginning { bus: Some(("/dev/i2c-1".to_owned(), 0x70)), ..beginning() }).unwrap_err();
        assert_eq!(all.message, "0x70 is the all-call address");
        let far = rig(&Beginning { bus: Some(("/dev/i2c-1".to_owned(), 3)), ..beginning() }).unwrap_err();
        assert!(far.message.contains("64 to 127"), "{}", far.message);
        assert!(rig(&Beginning { name: String::new(), ..beginning() }).is_err());
    }
}
