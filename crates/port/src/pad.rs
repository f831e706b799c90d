//! Input devices of the kernel as a way in: game pads, wheels, keyboards, rotary encoders.
//!
//! What the kernel says stands behind [`Events`]: on Linux that is its event device, and a stand-in speaks the same
//! events. When the kernel has had to drop some, everything is read anew.

use crate::i2c::Fault;
use crate::inlet::{Drained, Inlet, Outlet, Shut};
use rustix::fd::BorrowedFd;
use std::collections::HashMap;
use std::path::Path;
use std::time::Duration;
use wasvolta_wire::decode::Frame;

/// Events taken in one turn at most.
const MOST: usize = 1024;

/// One event, as the kernel numbers it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Event {
    /// The kind of event, as the kernel numbers them (`EV_KEY`, `EV_ABS`).
    pub kind: u16,
    /// What of that type.
    pub code: u16,
    /// What the event says, as the kernel has it: 1 is pressed, an axis has counts.
    pub value: i32,
}

/// The types of event that matter here.
pub mod kind {
    /// Between groups of events that happened at once.
    pub const SYNC: u16 = 0;
    /// A key or a button: 1 while it is pressed, 2 while it repeats.
    pub const KEY: u16 = 1;
    /// Steps of something that turns or moves without a stop at either end.
    pub const RELATIVE: u16 = 2;
    /// The place of an axis.
    pub const ABSOLUTE: u16 = 3;
    /// A switch that stays.
    pub const SWITCH: u16 = 5;
}

/// Of the type [`kind::SYNC`]: the group is whole.
pub const REPORT: u16 = 0;
/// Of the type [`kind::SYNC`]: some were dropped, up to the next report.
pub const DROPPED: u16 = 3;

/// Something on a device that can be moved.
#[derive(Debug, Clone, PartialEq)]
pub struct Control {
    /// The type of its events.
    pub kind: u16,
    /// Which of that type.
    pub code: u16,
    /// The kernel's name for it, in lower case with `-` for `_`.
    pub name: String,
    /// Its least and its greatest value, of an axis.
    pub ends: Option<(f64, f64)>,
    /// How it stands now; none of what has no place.
    pub now: Option<f64>,
}

/// An open input device.
pub trait Events: Send {
    /// What says that events wait.
    fn descriptor(&self) -> BorrowedFd<'_>;
    /// Hands on what waits, and never blocks.
    ///
    /// # Errors
    /// When the device is gone.
    fn take(&mut self, each: &mut dyn FnMut(Event)) -> std::io::Result<()>;
    /// What can be moved on it, and how it stands.
    ///
    /// # Errors
    /// When the device is gone.
    fn controls(&mut self) -> std::io::Result<Vec<Control>>;
}

/// The name of a control, as it stands in a rig: `ABS_X` is `abs-x`.
pub fn name(kernels: &str) -> String {
    kernels.to_lowercase().replace('_', "-")
}

/// An input device as a way in.
struct Pad<E> {
    device: E,
    /// Names of what it has, by type and code, with the sum of the steps of what turns.
    names: HashMap<(u16, u16), (Box<str>, f64)>,
    /// Nothing was told yet of what it has.
    is_new: bool,
    /// The kernel dropped events up to the next report.
    dropped: bool,
}

/// A way in over an open device.
pub fn inlet(device: impl Events + 'static) -> Box<dyn Inlet> {
    Box::new(Pad { device, names: HashMap::new(), is_new: true, dropped: false })
}

impl<E: Events> Pad<E> {
    /// Tells what it has and how that stands.
    fn tell_all(&mut self, out: &mut dyn Outlet) -> std::io::Result<()> {
        for control in self.device.controls()? {
            let key = (control.kind, control.code);
            let known = self.names.entry(key).or_insert_with(|| (control.name.as_str().into(), 0.0));
            out.has(0, &known.0, control.ends);
            let now = if control.kind == kind::RELATIVE { Some(known.1) } else { control.now };
            if let Some(now) = now {
                out.value(0, &known.0, now);
            }
        }
        out.frame(Frame::Values);
        Ok(())
    }

    fn turn(&mut self, out: &mut dyn Outlet) -> std::io::Result<()> {
        if std::mem::take(&mut self.is_new) {
            self.tell_all(out)?;
        }
        let Self { device, names, dropped, .. } = self;
        let (mut any, mut left, mut anew) = (false, MOST, false);
        device.take(&mut |event| {
            let Some(less) = left.checked_sub(1) else {
                // A flood: what comes beyond is read anew as it stands in the end.
                anew = true;
                return;
            };
            left = less;
            match (event.kind, event.code) {
                (kind::SYNC, DROPPED) => *dropped = true,
                (kind::SYNC, REPORT) => {
                    anew |= std::mem::take(dropped);
                    if std::mem::take(&mut any) {
                        out.frame(Frame::Values);
                    }
                }
                _ if *dropped => {}
                // A key that repeats has said so already.
                (kind::KEY, _) if event.value == 2 => {}
                key => {
                    let Some((name, sum)) = names.get_mut(&key) else { return };
                    let value = f64::from(event.value);
                    if event.kind == kind::RELATIVE {
                        *sum += value;
                        out.value(0, name, *sum);
                    } else {
                        out.value(0, name, value);
                    }
                    any = true;
                }
            }
        })?;
        if anew { self.tell_all(out) } else { Ok(()) }
    }
}

impl<E: Events> Inlet for Pad<E> {
    fn descriptor(&self) -> Option<BorrowedFd<'_>> {
        Some(self.device.descriptor())
    }

    fn drain(&mut self, _: Duration, out: &mut dyn Outlet) -> Drained {
        if self.turn(out).is_ok() { Drained::Open } else { Drained::Gone }
    }
}

/// Opens an input device. It is not kept from others: a keyboard goes on to type.
///
/// # Errors
/// When it is not there, when this user may not open it, and when it is no input device.
pub fn open(path: &Path) -> Result<Box<dyn Inlet>, Shut> {
    kernel::open(path).map_err(|error| {
        use std::io::ErrorKind;
        let (fault, help) = match error.kind() {
            ErrorKind::NotFound => (Fault::NoBus, "plug it in; `wasvolta scan` lists the input devices that are there"),
            ErrorKind::PermissionDenied => (
                Fault::Denied,
                "input devices belong to the group input: add your user to it (usermod -aG input USER), and log in again",
            ),
            ErrorKind::Unsupported => (Fault::OtherKind, "input devices are read on Linux alone"),
            _ => (Fault::OtherKind, "write the path of an input device: one of /dev/input/by-id that ends in -event-…"),
        };
        let words = error.to_string();
        let words = words.split(" (os error").next().unwrap_or_default().to_lowercase();
        Shut { words: format!("cannot open {}: {words}", path.display()), help: help.to_owned(), fault }
    })
}

#[cfg(target_os = "linux")]
mod kernel {
    //! The kernel's own devices. What stands here is run only where there are some.

    use super::{Control, Event, Events, Inlet, Path, inlet, kind, name};
    use evdev::raw_stream::RawDevice;
    use rustix::fd::{AsFd, BorrowedFd};
    use rustix::fs::{OFlags, fcntl_getfl, fcntl_setfl};

    struct Device(RawDevice);

    pub(super) fn open(path: &Path) -> std::io::Result<Box<dyn Inlet>> {
        let device = RawDevice::open(path)?;
        fcntl_setfl(&device, fcntl_getfl(&device)? | OFlags::NONBLOCK)?;
        Ok(inlet(Device(device)))
    }

    impl Events for Device {
        fn descriptor(&self) -> BorrowedFd<'_> {
            self.0.as_fd()
        }

        fn take(&mut self, each: &mut dyn FnMut(Event)) -> std::io::Result<()> {
            loop {
                match self.0.fetch_events() {
                    Ok(events) => {
                        for event in events {
                            each(Event {
                                kind: event.event_type().0,
                                code: event.code(),
                                value: event.value(),
                            });
                        }
                    }
                    Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => return Ok(()),
                    Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                    Err(error) => return Err(error),
                }
            }
        }

        fn controls(&mut self) -> std::io::Result<Vec<Control>> {
            let mut all = Vec::new();
            let mut add = |kind, code, called: String, ends, now| {
                all.push(Control { kind, code, name: name(&called), ends, now });
            };
            for (axis, info) in self.0.get_absinfo()? {
                let ends = Some((f64::from(info.minimum()), f64::from(info.maximum())));
                add(kind::ABSOLUTE, axis.0, format!("{axis:?}"), ends, Some(f64::from(info.value())));
            }
            let on = |is| Some(f64::from(u8::from(is)));
            if let Some(keys) = self.0.supported_keys() {
                let pressed = self.0.get_key_state()?;
                for key in keys {
                    add(kind::KEY, key.0, format!("{key:?}"), None, on(pressed.contains(key)));
                }
            }
            if let Some(switches) = self.0.supported_switches() {
                let set = self.0.get_switch_state()?;
                for switch in switches {
                    add(kind::SWITCH, switch.0, format!("{switch:?}"), None, on(set.contains(switch)));
                }
            }
            for axis in self.0.supported_relative_axes().into_iter().flat_map(|axes| axes.iter()) {
                add(kind::RELATIVE, axis.0, format!("{axis:?}"), None, None);
            }
            Ok(all)
        }
    }
}

#[cfg(not(target_os = "linux"))]
mod kernel {
    use super::{Inlet, Path};

    pub(super) fn open(_: &Path) -> std::io::Result<Box<dyn Inlet>> {
        Err(std::io::ErrorKind::Unsupported.into())
    }
}
