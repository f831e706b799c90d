//! What the kernel lists that could be a link: input devices, MIDI devices, GPIO chips, sensors. None of them is opened.

use super::system::{Roots, Way, list, named, printable};
use rustix::fs::Access;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// A device that a link may stand on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct InputDevice {
    /// The `kind` of port that it would be in a rig.
    pub kind: &'static str,
    /// What a person calls it.
    #[serde(skip)]
    pub noun: &'static str,
    #[serde(flatten)]
    /// Its path and whether it may be used.
    pub way: Way,
    /// The lasting path that it has, if it has one: the number in the other may be another after the next start.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lasting: Option<String>,
    /// What it calls itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

impl InputDevice {
    /// The path to name in a rig.
    pub fn path(&self) -> &str {
        self.lasting.as_deref().unwrap_or(&self.way.path)
    }
}

/// Where the kernel lists one kind of device.
struct Place {
    kind: &'static str,
    noun: &'static str,
    /// Their folder: in `/sys` where it begins with that, else in `/dev`.
    folder: &'static str,
    /// How their names begin.
    begin: &'static str,
    /// Folders in `/dev` with lasting names for them, the best first.
    lasting: &'static [&'static str],
    /// Their folder in `/sys`, and the file in each that has its name.
    name: Option<(&'static str, &'static str)>,
}

const PLACES: [Place; 4] = [
    Place {
        kind: "evdev",
        noun: "input device",
        folder: "input",
        begin: "event",
        lasting: &["input/by-id", "input/by-path"],
        name: Some(("class/input", "device/name")),
    },
    Place {
        kind: "midi",
        noun: "MIDI device",
        folder: "snd",
        begin: "midiC",
        lasting: &[],
        name: Some(("class/sound", "device/id")),
    },
    Place { kind: "gpio", noun: "GPIO chip", folder: "", begin: "gpiochip", lasting: &[], name: None },
    Place {
        kind: "iio",
        noun: "sensor",
        folder: "sys/bus/iio/devices",
        begin: "iio:device",
        lasting: &[],
        name: Some(("bus/iio/devices", "name")),
    },
];

impl Roots {
    /// Devices that a link may stand on.
    pub fn input_devices(&self) -> Vec<InputDevice> {
        PLACES.iter().flat_map(|place| self.input_devices_at(place)).collect()
    }

    fn input_devices_at(&self, place: &Place) -> Vec<InputDevice> {
        let lasting: Vec<PathBuf> = place.lasting.iter().flat_map(|at| list(&self.dev.join(at))).collect();
        let folder = match place.folder.strip_prefix("sys/") {
            Some(folder) => self.sys.join(folder),
            None => self.dev.join(place.folder),
        };
        let devices = named(&folder, &[place.begin]);
        let device = |path: PathBuf| InputDevice {
            kind: place.kind,
            noun: place.noun,
            way: self.way(&path, Access::READ_OK),
            lasting: lasting_name(&path, &lasting),
            name: place.name.and_then(|(folder, file)| {
                own_name(&self.sys.join(folder).join(path.file_name()?).join(file))
            }),
        };
        devices.into_iter().map(device).collect()
    }
}

/// The first of the links that leads to a path.
pub(super) fn lasting_name(path: &Path, links: &[PathBuf]) -> Option<String> {
    let real = path.canonicalize().ok()?;
    links.iter().find(|link| link.canonicalize().ok().as_ref() == Some(&real)).map(|link| printable(link))
}

/// A name that a device chose for itself, as it may be shown.
fn own_name(file: &Path) -> Option<String> {
    const LONGEST: usize = 80;
    let text = std::fs::read_to_string(file).ok()?;
    let name: String = text.trim().chars().filter(|c| !c.is_control()).take(LONGEST).collect();
    (!name.is_empty()).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn devices_are_listed_with_their_own_and_their_lasting_names() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let roots = Roots { dev: at("dev"), sys: at("sys"), etc: at("etc") };
        assert!(roots.input_devices().is_empty(), "a machine without anything has nothing");
        for path in [
            "dev/input/by-id",
            "dev/snd",
            "sys/class/input/event12/device",
            "sys/class/sound/midiC1D0/device",
        ] {
            fs::create_dir_all(at(path)).unwrap();
        }
        let files =
            ["input/event2", "input/event12", "input/mouse0", "snd/midiC1D0", "snd/pcmC0D0p", "gpiochip0"];
        fs::create_dir_all(at("sys/bus/iio/devices/iio:device0")).unwrap();
        fs::write(at("sys/bus/iio/devices/iio:device0/name"), "range\n").unwrap();
        for file in files {
            fs::write(at("dev").join(file), "").unwrap();
        }
        symlink("../event12", at("dev/input/by-id/usb-pad-event-joystick")).unwrap();
        fs::write(at("sys/class/input/event12/device/name"), "Reed\u{1b}[31m pad\n").unwrap();
        fs::write(at("sys/class/sound/midiC1D0/device/id"), "Keys\n").unwrap();
        let found = roots.input_devices();
        let root = folder.path().to_str().unwrap();
        let said: Vec<_> =
            found.iter().map(|d| (d.kind, d.path().strip_prefix(root).unwrap(), d.name.as_deref())).collect();
        assert_eq!(
            said,
            [
                ("evdev", "/dev/input/event2", None),
                ("evdev", "/dev/input/by-id/usb-pad-event-joystick", Some("Reed[31m pad")),
                ("midi", "/dev/snd/midiC1D0", Some("Keys")),
                ("gpio", "/dev/gpiochip0", None),
                ("iio", "/sys/bus/iio/devices/iio:device0", Some("range")),
            ]
        );
    }
}
