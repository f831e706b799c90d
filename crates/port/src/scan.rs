//! What is there: devices on I²C buses, PWM chips of the kernel, serial ports, and what else could be a link. Looks
//! without moving anything.
//!
//! Buses are only read from. Serial ports are listed and never opened: opening resets many boards, and their servos
//! twitch. Nor is what could be a link.

mod ask;
mod inputs;
mod system;

pub use ask::ask;
pub use inputs::InputDevice;
pub use system::{PwmChip, Roots, SerialPort, Way};

use crate::expander::Seen;
use crate::i2c::{BusError, Fault, I2cBus, Transfer};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;
use wasvolta_wire::expander::{ADDRESSES, ALL_CALL, MODE1};

/// Everything that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Scan {
    /// The I²C buses, with what answers on each.
    pub buses: Vec<Bus>,
    /// PWM chips of the kernel.
    pub pwm: Vec<PwmChip>,
    /// Serial ports, unopened.
    pub serial: Vec<SerialPort>,
    /// Input devices, MIDI devices and GPIO chips, unopened.
    pub inputs: Vec<InputDevice>,
}

/// What is on a serial port that was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "answer", rename_all = "kebab-case")]
pub enum Answer {
    /// A microcontroller that speaks Firmata.
    Firmata {
        /// The version's first number.
        major: u8,
        /// The number behind the dot of its version.
        minor: u8,
    },
    /// A way in: what comes is understood.
    Link {
        /// Its protocol, as a rig has it: `lines` are numbers that a microcontroller prints.
        protocol: &'static str,
    },
    /// Bytes come that nothing here understands.
    Something,
    /// Nothing came while it was listened to.
    Silence,
    /// It was pulled out meanwhile.
    Gone,
}

impl Answer {
    /// What it is, and what to do with it.
    pub fn words(&self) -> String {
        match self {
            Self::Firmata { major, minor } if *major != 2 => {
                format!("speaks Firmata {major}.{minor}: load a firmware that speaks Firmata 2")
            }
            Self::Firmata { major, minor } => {
                format!(
                    "speaks Firmata {major}.{minor}: a board with chip = \"firmata\" on this port drives servos"
                )
            }
            Self::Link { protocol: "lines" } => {
                "prints lines of numbers: a link on this port reads them".to_owned()
            }
            Self::Link { protocol } => {
                format!("is a receiver: a link with protocol = \"{protocol}\" on this port reads it")
            }
            Self::Something => "says something that is not understood: is the rate different? Receivers \
             send at 115200, 100000 or 420000"
                .to_owned(),
            Self::Silence => "says nothing: is a firmware on it, and the rate right?".to_owned(),
            Self::Gone => "was pulled out".to_owned(),
        }
    }
}

/// A bus, and what answers on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Bus {
    /// Its path on this machine, or `sim:NAME`.
    pub path: String,
    /// Why it could not be looked at, and what helps.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
    /// What answers, by rising address.
    pub devices: Vec<Device>,
}

/// Something that answers at an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Device {
    /// Its 7-bit address.
    pub address: u8,
    /// What it is.
    #[serde(flatten)]
    pub kind: DeviceKind,
}

/// What answers at an address, as far as reading alone can tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum DeviceKind {
    /// A 16-channel PWM expander.
    PwmExpander {
        /// Its oscillator runs.
        awake: bool,
        /// Its divider less one.
        prescale: u8,
        /// Channels that send pulses.
        pulsing: usize,
    },
    /// The address at which every expander answers that was not told otherwise: no board of its own.
    AllCall,
    /// Another kind of chip.
    Other,
    /// A driver of the kernel holds it.
    HeldByKernel,
}

impl DeviceKind {
    /// What it is, in words; frequencies are computed with a usual oscillator of 25 MHz.
    pub fn words(&self) -> String {
        match self {
            Self::PwmExpander { awake, prescale, pulsing } => {
                let rate = 25e6 / 4096.0 / (f64::from(*prescale) + 1.0);
                match (awake, pulsing) {
                    (false, _) => "PWM expander, asleep".to_owned(),
                    (true, 0) => format!("PWM expander at {rate:.0} Hz, no pulses"),
                    (true, n) => format!("PWM expander at {rate:.0} Hz, pulses on {n} channels"),
                }
            }
            Self::AllCall => "all boards at once: the expanders above answer here too".to_owned(),
            Self::Other => "another kind of chip".to_owned(),
            Self::HeldByKernel => "held by a driver of the kernel: its PWM chip is the way to it".to_owned(),
        }
    }
}

/// Looks at every address that an expander can have, by reading only.
///
/// # Errors
/// When the bus fails altogether: three transfers in a row that are neither answered nor refused.
pub fn devices(bus: &mut dyn I2cBus) -> Result<Vec<Device>, BusError> {
    const PATIENCE: u32 = 3;
    let mut found = Vec::new();
    let mut failures = 0;
    let mut listens_to_all = false;
    for address in ADDRESSES {
        let mut byte = [0];
        match bus.transfer(address, Transfer::Read { register: MODE1.address, into: &mut byte }) {
            Ok(()) => {
                failures = 0;
                let kind = if address == ALL_CALL && listens_to_all {
                    DeviceKind::AllCall
                } else {
                    let (kind, all_call) = kind(bus, address)?;
                    listens_to_all |= all_call;
                    kind
                };
                found.push(Device { address, kind });
            }
            Err(error) => match error.fault {
                Fault::Absent => failures = 0,
                Fault::Busy => found.push(Device { address, kind: DeviceKind::HeldByKernel }),
                Fault::Transfer if failures + 1 < PATIENCE => failures += 1,
                _ => return Err(error),
            },
        }
    }
    Ok(found)
}

/// What answers at an address, and whether it listens to the all-call address too.
fn kind(bus: &mut dyn I2cBus, address: u8) -> Result<(DeviceKind, bool), BusError> {
    let seen = match Seen::read(bus, address) {
        Ok(seen) => seen,
        // What answers once and then no more is no expander.
        Err(error) if error.fault == Fault::Absent => return Ok((DeviceKind::Other, false)),
        Err(error) => return Err(error),
    };
    if !seen.is_familiar() {
        return Ok((DeviceKind::Other, false));
    }
    let expander = DeviceKind::PwmExpander {
        awake: seen.is_awake(),
        prescale: seen.prescale,
        pulsing: if seen.is_awake() { seen.pulsing() } else { 0 },
    };
    Ok((expander, seen.answers_all_call()))
}

/// One bus by its path, however it is opened.
pub fn bus(path: &str, opened: Result<Box<dyn I2cBus>, BusError>) -> Bus {
    let looked = opened.and_then(|mut bus| devices(&mut *bus));
    let (devices, trouble) = match looked {
        Ok(devices) => (devices, None),
        Err(error) => (Vec::new(), Some(format!("{error}; {}", error.fault.help()))),
    };
    Bus { path: path.to_owned(), trouble, devices }
}

/// Looks at the machine. `open` opens a bus by its path.
pub fn machine(roots: &Roots, open: impl Fn(&Path) -> Result<Box<dyn I2cBus>, BusError>) -> Scan {
    let look = |way: Way| match way.barred {
        Some(why) => Bus { path: way.path, trouble: Some(why), devices: Vec::new() },
        None => bus(&way.path, open(Path::new(&way.path))),
    };
    Scan {
        buses: roots.buses().into_iter().map(look).collect(),
        pwm: roots.pwm_chips(),
        serial: roots.serial_ports(),
        inputs: roots.input_devices(),
    }
}
