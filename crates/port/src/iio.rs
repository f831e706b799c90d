//! Sensors that the kernel has a driver for, as it lists them under `/sys/bus/iio`: converters, accelerometers, range,
//! temperature, light.
//!
//! A value is (raw + offset) × scale, each of them the channel's own or shared by all channels of its type, in the unit
//! that the kernel's ABI has for the type (`Documentation/ABI/testing/sysfs-bus-iio`). A driver may take its time to
//! measure: files are read on a thread of their own.

use crate::i2c::Fault;
use crate::inlet::{Inlet, Shut};
use crate::posted::{Poster, posted};
use std::path::{Path, PathBuf};
use std::time::Duration;
use wasvolta_wire::decode::{Frame, Sink};

/// The time between two rounds through the channels, where reading them takes none.
const EVERY: Duration = Duration::from_millis(20);
/// What is read of a file at most: a number.
const LONGEST: usize = 64;

/// A channel: the file that is read again and again, and what its number becomes.
#[derive(Debug, Clone, PartialEq)]
struct Channel {
    name: String,
    file: PathBuf,
    offset: f64,
    scale: f64,
}

/// Opens a sensor by its directory.
///
/// # Errors
/// When there is none, or it has nothing that can be read.
pub fn open(directory: &Path) -> Result<Box<dyn Inlet>, Shut> {
    let shut = |words: &str, help: &str, fault| Shut {
        words: format!("cannot open {}: {words}", directory.display()),
        help: help.to_owned(),
        fault,
    };
    let channels = channels(directory).map_err(|error| match error.kind() {
        std::io::ErrorKind::PermissionDenied => {
            let help = "a udev rule that lets your group read its files helps";
            shut("you may not read it", help, Fault::Denied)
        }
        _ => {
            let help = "is its driver loaded? `wasvolta scan` lists the sensors that are there";
            shut("there is no such sensor", help, Fault::NoBus)
        }
    })?;
    if channels.is_empty() {
        let help = "write the path of a sensor, as /sys/bus/iio/devices/iio:device0";
        return Err(shut("it has no channel that can be read", help, Fault::OtherKind));
    }
    let system = |why: std::io::Error| shut(&why.to_string(), "close some programs", Fault::OtherKind);
    let (poster, inlet) = posted().map_err(system)?;
    let work = move || measure(poster, &channels);
    std::thread::Builder::new().name("sensor".to_owned()).spawn(work).map_err(system)?;
    Ok(inlet)
}

/// Reads all channels again and again, until nobody listens or the sensor is gone.
fn measure(mut poster: Poster, channels: &[Channel]) {
    for channel in channels {
        poster.has(0, &channel.name, None);
    }
    while !poster.is_abandoned() {
        let mut any = false;
        for channel in channels {
            match number(&channel.file) {
                Ok(Some(raw)) => {
                    poster.value(0, &channel.name, (raw + channel.offset) * channel.scale);
                    any = true;
                }
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => return,
                // What is no number, or was not measured this time, is not said.
                Ok(None) | Err(_) => {}
            }
        }
        if any {
            poster.frame(Frame::Values);
        }
        std::thread::sleep(EVERY);
    }
}

/// What can be read of a sensor, by name.
fn channels(directory: &Path) -> std::io::Result<Vec<Channel>> {
    let mut channels = Vec::new();
    for entry in std::fs::read_dir(directory)? {
        let file = entry?.path();
        let Some(name) = file.file_name().and_then(|name| name.to_str()) else { continue };
        if !name.starts_with("in_") {
            continue;
        }
        if let Some(name) = name.strip_suffix("_raw") {
            let shared = |what: &str| {
                let mut files = shared_names(name).map(|own| directory.join(format!("{own}_{what}")));
                files.find_map(|file| number(&file).ok().flatten())
            };
            let (offset, scale) = (shared("offset").unwrap_or(0.0), shared("scale").unwrap_or(1.0));
            channels.push(Channel { name: name.to_owned(), offset, scale, file: file.clone() });
        } else if let Some(name) = name.strip_suffix("_input") {
            // It is in its unit already.
            channels.push(Channel { name: name.to_owned(), offset: 0.0, scale: 1.0, file: file.clone() });
        }
    }
    channels.sort_by(|one, other| one.name.cmp(&other.name));
    channels.dedup_by(|one, other| one.name == other.name);
    Ok(channels)
}

/// A channel's own name, then those under which it may share with others of its type: `in_accel_x` shares as `in_accel`,
/// `in_voltage0` as `in_voltage`.
fn shared_names(name: &str) -> impl Iterator<Item = String> {
    let digitless = |name: &str| name.chars().filter(|c| !c.is_ascii_digit()).collect::<String>();
    let of_type = name.rsplit_once('_').map(|(of_type, _)| of_type).filter(|of_type| *of_type != "in");
    let own = [name.to_owned(), digitless(name)].into_iter();
    own.chain(of_type.into_iter().flat_map(move |of_type| [of_type.to_owned(), digitless(of_type)]))
}

/// The number in a file; none where there is another thing.
fn number(file: &Path) -> std::io::Result<Option<f64>> {
    use std::io::Read;
    let mut text = [0; LONGEST];
    let count = std::fs::File::open(file)?.read(&mut text)?;
    let text = text.get(..count).unwrap_or_default();
    let word = std::str::from_utf8(text).ok().and_then(|text| text.split_whitespace().next());
    Ok(word.and_then(|word| word.parse().ok()).filter(|number: &f64| number.is_finite()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::inlet::Drained;
    use crate::posted::tests::Heard;
    use rustix::event::{PollFd, PollFlags, poll};

    fn sensor(files: &[(&str, &str)]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for (name, content) in files {
            std::fs::write(folder.path().join(name), content).unwrap();
        }
        folder
    }

    /// What comes until a round is whole.
    fn round(inlet: &mut dyn Inlet) -> (Heard, Drained) {
        let mut heard = Heard::default();
        loop {
            {
                let fd = inlet.descriptor().unwrap();
                poll(&mut [PollFd::new(&fd, PollFlags::IN)], None).unwrap();
            }
            let drained = inlet.drain(Duration::ZERO, &mut heard);
            if heard.frames > 0 || drained == Drained::Gone {
                return (heard, drained);
            }
        }
    }

    #[test]
    fn a_value_is_raw_and_offset_times_scale_each_its_own_or_its_types() {
        let folder = sensor(&[
            ("in_voltage0_raw", "2048\n"),
            ("in_voltage1_raw", "100\n"),
            ("in_voltage1_scale", "2\n"),
            ("in_voltage_scale", "0.500000000\n"),
            ("in_voltage_offset", "-48\n"),
            ("in_voltage0-voltage1_raw", "10\n"),
            ("in_voltage-voltage_scale", "4\n"),
            ("in_accel_x_raw", "-100\n"),
            ("in_accel_scale", "0.009806\n"),
            ("in_temp_raw", "300\n"),
            ("in_temp_offset", "-25.5\n"),
            ("in_temp_scale", "62.5\n"),
            ("in_distance_input", "0.412\n"),
            ("in_illuminance_raw", "rubbish\n"),
            ("out_voltage0_raw", "7\n"),
            ("name", "reed\n"),
        ]);
        let mut inlet = open(folder.path()).unwrap();
        let (heard, _) = round(&mut *inlet);
        let said: Vec<(&str, f64)> =
            heard.values.iter().map(|(_, name, value)| (name.as_str(), *value)).collect();
        let wanted = [
            ("in_accel_x", -0.9806),
            ("in_distance", 0.412),
            ("in_temp", 17_156.25),
            ("in_voltage0", 1000.0),
            ("in_voltage0-voltage1", 40.0),
            ("in_voltage1", 104.0),
        ];
        assert_eq!(said.len(), wanted.len(), "{said:?}");
        for (own, wanted) in said.iter().zip(wanted) {
            assert!(own.0 == wanted.0 && (own.1 - wanted.1).abs() < 1e-9, "{own:?} {wanted:?}");
        }
        assert_eq!(heard.has.len(), 7, "what says no number is there all the same");
    }

    #[test]
    fn a_sensor_that_goes_is_gone_and_one_that_takes_its_time_keeps_nobody_waiting() {
        let folder = sensor(&[("in_distance_raw", "5\n")]);
        let mut inlet = open(folder.path()).unwrap();
        assert!((round(&mut *inlet).0.values[0].2 - 5.0).abs() < 1e-12);
        std::fs::remove_file(folder.path().join("in_distance_raw")).unwrap();
        while round(&mut *inlet).1 != Drained::Gone {}
        // Nobody writes into this one: whoever reads it waits.
        let slow = sensor(&[]);
        let file = slow.path().join("in_accel_x_raw");
        let mode = rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR;
        rustix::fs::mknodat(rustix::fs::CWD, &file, rustix::fs::FileType::Fifo, mode, 0).unwrap();
        let mut inlet = open(slow.path()).unwrap();
        let mut heard = Heard::default();
        assert_eq!((inlet.drain(Duration::ZERO, &mut heard), heard.frames), (Drained::Open, 0));
        drop(inlet);
        // Lets the thread that reads go on to its end.
        drop(std::fs::File::options().read(true).write(true).open(&file));
    }

    #[test]
    fn what_is_no_sensor_is_said_with_what_to_do() {
        let none = open(Path::new("/nowhere/iio:device7")).err().unwrap();
        assert_eq!(none.words, "cannot open /nowhere/iio:device7: there is no such sensor");
        assert_eq!(none.fault, Fault::NoBus);
        let folder = sensor(&[("name", "reed\n"), ("in_voltage0_scale", "1\n")]);
        let empty = open(folder.path()).err().unwrap();
        assert!(empty.words.ends_with("it has no channel that can be read"), "{}", empty.words);
    }
}
