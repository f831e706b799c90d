//! What an I²C bus must be able to do, and what can go wrong with it.

use crate::claim::Taken;
use std::fmt;
use thiserror::Error;

/// One transfer with one device. Blocks are at most 32 bytes, the most an SMBus adapter carries.
#[derive(Debug)]
pub enum Transfer<'a> {
    /// Writes bytes from a register on.
    Write {
        /// The first register.
        register: u8,
        /// What to write.
        bytes: &'a [u8],
    },
    /// Reads bytes from a register on.
    Read {
        /// The first register.
        register: u8,
        /// Where to put them; all of it is filled.
        into: &'a mut [u8],
    },
}

impl Transfer<'_> {
    /// The first register.
    pub const fn register(&self) -> u8 {
        match self {
            Self::Write { register, .. } | Self::Read { register, .. } => *register,
        }
    }

    /// The word for it in messages.
    pub const fn verb(&self) -> &'static str {
        match self {
            Self::Write { .. } => "write",
            Self::Read { .. } => "read",
        }
    }
}

/// A bus. A transfer blocks until it is over; buses are used from a thread of their own.
pub trait I2cBus: Send {
    /// Carries out one transfer with the device at a 7-bit address.
    ///
    /// # Errors
    /// When the device does not answer or the bus refuses.
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError>;

    /// Claims a device for this program, before anything is written to it. A way that is claimed as a whole when it is
    /// opened has nothing to do.
    ///
    /// # Errors
    /// When another program has it.
    fn claim(&mut self, _address: u8) -> Result<(), BusError> {
        Ok(())
    }
}

impl<B: I2cBus + ?Sized> I2cBus for Box<B> {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        (**self).transfer(address, transfer)
    }

    fn claim(&mut self, address: u8) -> Result<(), BusError> {
        (**self).claim(address)
    }
}

/// What kind of failure it is, so that a caller can choose what to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The path does not exist.
    NoBus,
    /// What has that path is something else.
    OtherKind,
    /// No device answers at the address.
    Absent,
    /// No answer came in the time that one takes: the device may be there, and the way or this machine busy.
    TimedOut,
    /// Something else holds the bus or the chip.
    Busy,
    /// Another program drives it.
    Taken(Taken),
    /// This user may not.
    Denied,
    /// A transfer failed on the way; trying again may help.
    Transfer,
    /// The line is open and nothing is said on it.
    Silent,
    /// What is said is not what was expected.
    Foreign,
}

impl Fault {
    /// What to try.
    pub const fn help(self) -> &'static str {
        match self {
            Self::NoBus => "check the path and the plug; `wasvolta scan` lists what is there",
            Self::Absent => {
                "check the board's supply, the two bus wires, the common ground, and its address jumpers"
            }
            Self::OtherKind => "correct the path; `wasvolta scan` lists what is there",
            Self::TimedOut => {
                "it is tried again; when it stays so, check the wires, and whether this machine is busy"
            }
            Self::Busy => "another program or a kernel driver holds it; close that first",
            Self::Taken(_) => "close that first",
            Self::Denied => "your user may not open it: `wasvolta scan` names the group that may",
            Self::Transfer => "check the wires, their length and pull-ups; it is tried again",
            Self::Silent => "is the firmware on it, at this rate? press its reset button; it is tried again",
            Self::Foreign => "load a firmware that speaks Firmata 2 and can drive servos",
        }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Taken(taken) => return taken.fmt(f),
            Self::NoBus => "there is no such path",
            Self::OtherKind => "what has that path is something else",
            Self::Absent => "nothing answers",
            Self::TimedOut => "no answer came in time",
            Self::Busy => "it is in use",
            Self::Denied => "permission denied",
            Self::Transfer => "the transfer failed",
            Self::Silent => "it says nothing",
            Self::Foreign => "it speaks something else",
        })
    }
}

/// A transfer that did not happen.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("cannot {doing} {device}: {fault}")]
pub struct BusError {
    /// What was being done: open, read, write.
    pub doing: &'static str,
    /// The path, or the address with the register.
    pub device: String,
    /// What is wrong.
    pub fault: Fault,
}

impl BusError {
    /// A failed transfer with a device.
    pub fn transfer(address: u8, transfer: &Transfer<'_>, fault: Fault) -> Self {
        let device = format!("the board at {address:#04x}, register {}", transfer.register());
        Self { doing: transfer.verb(), device, fault }
    }
}
