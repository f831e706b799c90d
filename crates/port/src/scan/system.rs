//! What the kernel lists in its directories, and whether this user may use it.

use super::inputs::lasting_name;
use rustix::fs::{Access, AtFlags, CWD, accessat};
use schemars::JsonSchema;
use serde::Serialize;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

/// Where the kernel and the system keep their lists; tests put directories of their own in their place.
#[derive(Debug, Clone)]
pub struct Roots {
    /// The folder of devices, `/dev`.
    pub dev: PathBuf,
    /// The folder of the kernel's objects, `/sys`.
    pub sys: PathBuf,
    /// The folder of the system's settings, `/etc`.
    pub etc: PathBuf,
}

/// A path with what bars the way, if anything does.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Way {
    /// Its path on this machine, or `sim:NAME`.
    pub path: String,
    /// Why this user may not use it, and which group or rule helps.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub barred: Option<String>,
}

/// A PWM chip of the kernel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct PwmChip {
    /// Its entry; the number in it may be another after the next start.
    pub entry: String,
    /// Its device, whose path stays.
    pub device: String,
    /// How many channels it has.
    pub channels: u32,
    /// Why this user may not use it, and what helps.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub barred: Option<String>,
}

/// A serial port, not opened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SerialPort {
    #[serde(flatten)]
    /// Its path and whether it may be used.
    pub way: Way,
    /// The lasting name that it has under `by-id`, if it has one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lasting: Option<String>,
}

/// Serial ports that a board may hang on; the many built-in ones that lead nowhere are left out.
const SERIAL: [&str; 3] = ["ttyACM", "ttyUSB", "ttyAMA"];

impl Default for Roots {
    fn default() -> Self {
        Self { dev: "/dev".into(), sys: "/sys".into(), etc: "/etc".into() }
    }
}

impl Roots {
    /// The I²C buses.
    pub fn buses(&self) -> Vec<Way> {
        let both = Access::READ_OK | Access::WRITE_OK;
        named(&self.dev, &["i2c-"]).into_iter().map(|path| self.way(&path, both)).collect()
    }

    /// The serial ports.
    pub fn serial_ports(&self) -> Vec<SerialPort> {
        let lasting: Vec<PathBuf> = list(&self.dev.join("serial/by-id"));
        let both = Access::READ_OK | Access::WRITE_OK;
        let port =
            |path: PathBuf| SerialPort { way: self.way(&path, both), lasting: lasting_name(&path, &lasting) };
        named(&self.dev, &SERIAL).into_iter().map(port).collect()
    }

    /// The PWM chips.
    pub fn pwm_chips(&self) -> Vec<PwmChip> {
        let chips = list(&self.sys.join("class/pwm"));
        let chips = chips.into_iter().filter(|path| begins(path, &["pwmchip"]));
        chips
            .map(|entry| {
                let channels = std::fs::read_to_string(entry.join("npwm"));
                let channels = channels.ok().and_then(|text| text.trim().parse().ok()).unwrap_or(0);
                let device = entry.canonicalize().unwrap_or_else(|_| entry.clone());
                let export = entry.join("export");
                let barred = (!may(&export, Access::WRITE_OK)).then(|| {
                    format!(
                        "you may not write to {}: a udev rule that gives the group pwm the entry helps",
                        printable(&export)
                    )
                });
                PwmChip { entry: printable(&entry), device: printable(&device), channels, barred }
            })
            .collect()
    }

    /// A path, and whether this user may use it in that way.
    pub(super) fn way(&self, path: &Path, access: Access) -> Way {
        Way { path: printable(path), barred: (!may(path, access)).then(|| self.bar(path)) }
    }

    /// Who may use a path, and how one becomes one of them.
    fn bar(&self, path: &Path) -> String {
        let group = std::fs::metadata(path).ok().and_then(|m| self.group(m.gid()));
        match group.as_deref() {
            None | Some("root") => {
                format!("only root may open {}: a udev rule with GROUP=\"plugdev\" helps", printable(path))
            }
            Some(group) => format!(
                "the group {group} may open {}: `sudo usermod -aG {group} $USER`, then log in again",
                printable(path)
            ),
        }
    }

    fn group(&self, id: u32) -> Option<String> {
        let groups = std::fs::read_to_string(self.etc.join("group")).ok()?;
        groups.lines().find_map(|line| {
            let mut fields = line.split(':');
            let name = fields.next()?;
            (fields.nth(1)?.parse() == Ok(id)).then(|| name.to_owned())
        })
    }
}

fn may(path: &Path, access: Access) -> bool {
    accessat(CWD, path, access, AtFlags::empty()).is_ok()
}

fn begins(path: &Path, kinds: &[&str]) -> bool {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    kinds.iter().any(|kind| name.starts_with(kind))
}

/// What is in a directory under a name that begins in one of those ways.
pub(super) fn named(directory: &Path, kinds: &[&str]) -> Vec<PathBuf> {
    list(directory).into_iter().filter(|path| begins(path, kinds)).collect()
}

/// What is in a directory, by name, numbers in their order; nothing where it cannot be read.
pub(super) fn list(directory: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(directory);
    let mut paths: Vec<PathBuf> =
        entries.map(|all| all.flatten().map(|e| e.path()).collect()).unwrap_or_default();
    paths.sort_by_key(|path| {
        let name = printable(path);
        (name.len(), name)
    });
    paths
}

/// A path as it may be shown: what a device chose for its name must not reach the terminal as it is.
pub(super) fn printable(path: &Path) -> String {
    path.display().to_string().chars().filter(|c| !c.is_control()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    fn machine() -> (tempfile::TempDir, Roots) {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let roots = Roots { dev: at("dev"), sys: at("sys"), etc: at("etc") };
        fs::create_dir_all(roots.dev.join("serial/by-id")).unwrap();
        fs::create_dir_all(&roots.etc).unwrap();
        fs::write(roots.etc.join("group"), "root:x:0:\nmakers:x:4242:\n").unwrap();
        for name in ["i2c-10", "i2c-2", "ttyACM0", "ttyS0", "null"] {
            fs::write(roots.dev.join(name), "").unwrap();
        }
        symlink("../../ttyACM0", roots.dev.join("serial/by-id/usb-board\u{7}-1")).unwrap();
        let device = at("sys/devices/platform/soc/pwm/pwmchip3");
        fs::create_dir_all(&device).unwrap();
        fs::write(device.join("npwm"), "2\n").unwrap();
        fs::write(device.join("export"), "").unwrap();
        fs::create_dir_all(roots.sys.join("class/pwm")).unwrap();
        symlink(&device, roots.sys.join("class/pwm/pwmchip3")).unwrap();
        (folder, roots)
    }

    #[test]
    fn ports_are_listed_by_number_with_their_lasting_names() {
        let (_folder, roots) = machine();
        let names: Vec<String> = roots.buses().into_iter().map(|w| w.path).collect();
        assert!(names[0].ends_with("i2c-2") && names[1].ends_with("i2c-10") && names.len() == 2, "{names:?}");
        let serial = roots.serial_ports();
        assert_eq!(serial.len(), 1);
        assert!(serial[0].way.path.ends_with("/ttyACM0") && serial[0].way.barred.is_none());
        assert!(
            serial[0].lasting.as_ref().unwrap().ends_with("usb-board-1"),
            "without the control character"
        );
    }

    #[test]
    fn a_pwm_chip_is_known_by_its_devices_path() {
        let (_folder, roots) = machine();
        let chips = roots.pwm_chips();
        assert_eq!((chips.len(), chips[0].channels), (1, 2));
        assert!(chips[0].device.ends_with("devices/platform/soc/pwm/pwmchip3"), "{}", chips[0].device);
        assert_eq!(chips[0].barred, None);
        fs::remove_file(roots.sys.join("class/pwm/pwmchip3/export")).unwrap();
        assert!(roots.pwm_chips()[0].barred.as_ref().unwrap().contains("udev rule"));
    }

    #[test]
    fn who_may_open_a_port_is_named_with_how_to_become_one() {
        let (_folder, roots) = machine();
        assert_eq!(roots.group(4242).as_deref(), Some("makers"));
        assert_eq!(roots.group(1), None);
        let gone = roots.way(&roots.dev.join("i2c-77"), Access::READ_OK);
        assert!(gone.barred.unwrap().contains("udev rule"));
    }

    #[test]
    fn a_machine_without_anything_has_nothing() {
        let nowhere = Roots { dev: "/nowhere".into(), sys: "/nowhere".into(), etc: "/nowhere".into() };
        assert!(
            nowhere.buses().is_empty() && nowhere.serial_ports().is_empty() && nowhere.pwm_chips().is_empty()
        );
    }
}
