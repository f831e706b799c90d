//! An I²C bus of the Linux kernel, `/dev/i2c-N`, by SMBus I²C-block transfers.
//!
//! The plain SMBus block call puts a count byte in front of the data and is not used. Only this file names
//! the kernel's interface.

use crate::claim;
use crate::i2c::{BusError, Fault, I2cBus, Transfer};
use i2cdev::core::I2CDevice;
use i2cdev::linux::{LinuxI2CDevice, LinuxI2CError};
use std::fs::File;
use std::path::{Path, PathBuf};

/// The most bytes one transfer carries; the kernel cuts longer ones silently.
const BLOCK: usize = 32;

/// An open bus.
pub struct LinuxI2c {
    device: LinuxI2CDevice,
    address: Option<u8>,
    path: PathBuf,
    /// Holds the addresses that are claimed; opened with the first.
    claims: Option<File>,
}

impl LinuxI2c {
    /// Opens a bus by its path.
    ///
    /// # Errors
    /// When the path does not exist, is not a bus, or may not be opened.
    pub fn open(path: &Path) -> Result<Self, BusError> {
        // Replaced before the first transfer; no driver of the kernel sits at this reserved address.
        let unused = 0x03;
        let device = LinuxI2CDevice::new(path, unused).map_err(|error| {
            let fault = match fault(&error) {
                Fault::Absent | Fault::Transfer => Fault::NoBus,
                other => other,
            };
            BusError { doing: "open", device: path.display().to_string(), fault }
        })?;
        Ok(Self { device, address: None, path: path.to_owned(), claims: None })
    }
}

impl I2cBus for LinuxI2c {
    fn claim(&mut self, address: u8) -> Result<(), BusError> {
        let failed =
            |fault| BusError { doing: "claim", device: format!("the board at {address:#04x}"), fault };
        let file = match self.claims.take() {
            Some(file) => file,
            None => File::options()
                .read(true)
                .write(true)
                .open(&self.path)
                .map_err(|error| failed(fault(&LinuxI2CError::Io(error))))?,
        };
        let claimed = claim::byte(&file, address).map_err(|taken| failed(Fault::Taken(taken)));
        self.claims = Some(file);
        claimed
    }

    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        if self.address != Some(address) {
            self.device
                .set_slave_address(u16::from(address))
                .map_err(|error| BusError::transfer(address, &transfer, fault(&error)))?;
            self.address = Some(address);
        }
        match transfer {
            Transfer::Write { register, bytes } => {
                if bytes.len() > BLOCK {
                    return Err(BusError::transfer(
                        address,
                        &Transfer::Write { register, bytes },
                        Fault::Transfer,
                    ));
                }
                self.device
                    .smbus_write_i2c_block_data(register, bytes)
                    .map_err(|e| BusError::transfer(address, &Transfer::Write { register, bytes }, fault(&e)))
            }
            Transfer::Read { register, into } => {
                let failed =
                    |fault| BusError::transfer(address, &Transfer::Read { register, into: &mut [] }, fault);
                let wanted = u8::try_from(into.len()).map_err(|_| failed(Fault::Transfer))?;
                let got = self
                    .device
                    .smbus_read_i2c_block_data(register, wanted)
                    .map_err(|error| failed(fault(&error)))?;
                if got.len() != into.len() {
                    return Err(failed(Fault::Transfer));
                }
                into.copy_from_slice(&got);
                Ok(())
            }
        }
    }
}

fn fault(error: &LinuxI2CError) -> Fault {
    use rustix::io::Errno;
    let io: std::io::Error = match error {
        LinuxI2CError::Errno(number) => std::io::Error::from_raw_os_error(*number),
        LinuxI2CError::Io(io) => std::io::Error::from_raw_os_error(io.raw_os_error().unwrap_or_default()),
    };
    match io.raw_os_error().map(Errno::from_raw_os_error) {
        Some(Errno::NXIO | Errno::NODEV | Errno::REMOTEIO) => Fault::Absent,
        Some(Errno::BUSY) => Fault::Busy,
        Some(Errno::ACCESS | Errno::PERM) => Fault::Denied,
        Some(Errno::NOENT) => Fault::NoBus,
        Some(Errno::NOTTY | Errno::INVAL) => Fault::OtherKind,
        Some(Errno::TIMEDOUT | Errno::AGAIN) => Fault::TimedOut,
        _ => Fault::Transfer,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bus_that_is_not_there_is_named_with_what_to_try() {
        let error = LinuxI2c::open(Path::new("/dev/i2c-250")).err().unwrap();
        assert_eq!(error.to_string(), "cannot open /dev/i2c-250: there is no such path");
        assert!(error.fault.help().contains("wasvolta scan"));
    }

    #[test]
    fn a_file_that_is_no_bus_is_not_taken_for_one() {
        assert_eq!(LinuxI2c::open(Path::new("/dev/null")).err().unwrap().fault, Fault::OtherKind);
    }

    #[test]
    fn the_kernels_numbers_are_told_apart() {
        let cases = [
            (6, Fault::Absent),
            (19, Fault::Absent),
            (121, Fault::Absent),
            (16, Fault::Busy),
            (13, Fault::Denied),
            (110, Fault::TimedOut),
            (2, Fault::NoBus),
        ];
        for (number, wanted) in cases {
            assert_eq!(fault(&LinuxI2CError::Errno(number)), wanted, "errno {number}");
        }
    }
}
