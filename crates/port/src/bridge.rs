//! An I²C bus behind a serial line: a bridge chip that carries out transfers and says what became of each.
//!
//! A transfer costs a round trip on the line, and an adapter may sit on the answer for some milliseconds. Blocks are
//! cut to what the bridge buffers, never within a channel of an expander.

use crate::i2c::{BusError, Fault, I2cBus, Transfer};
use crate::serial::{Got, Serial, Stream};
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::path::Path;
use std::time::Duration;
use wasvolta_wire::bridge::{MOST, Status, ToBridge};
use wasvolta_wire::expander::{CHANNEL_0, CHANNEL_BYTES};

/// An answer takes no longer than this, beside its bits: adapters may sit on bytes for 16 ms.
const PATIENCE: Duration = Duration::from_millis(150);
/// Bits of a byte on the line.
const BITS_A_BYTE: u32 = 10;

/// See the module.
pub struct Bridge {
    line: Serial,
    byte: Duration,
    out: Vec<u8>,
}

impl Bridge {
    /// Opens the line at its rate.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(path: &Path, baud: u32) -> Result<Self, BusError> {
        let line = Serial::open(path, baud).map_err(|error| {
            let fault = error.fault();
            BusError { doing: "open", device: error.path, fault }
        })?;
        let byte = Duration::from_secs(1) / baud.max(1) * BITS_A_BYTE;
        Ok(Self { line, byte, out: Vec::with_capacity(64) })
    }

    /// Tells the bridge to do something, and hears what it read and what became of it.
    fn ask(&mut self, what: ToBridge<'_>, into: &mut [u8]) -> Result<(), Fault> {
        // What came too late for the last question is no answer to this one.
        while let Got::Bytes(_) = self.line.read(&mut [0; 64]) {}
        self.out.clear();
        what.emit(&mut self.out);
        ToBridge::AskStatus.emit(&mut self.out);
        self.line.write(&self.out)?;
        let on_the_line = u32::try_from(self.out.len() + into.len()).unwrap_or(u32::MAX);
        let mut answer = [0; MOST + 1];
        let wanted = into.len() + 1;
        let heard =
            self.hear(answer.get_mut(..wanted).unwrap_or_default(), PATIENCE + self.byte * on_the_line)?;
        let (data, status) = match heard {
            all if all == wanted => answer.split_at(into.len()),
            // What could not be read is left out: only why comes.
            1 => answer.split_at(0),
            _ => return Err(Fault::TimedOut),
        };
        match status.first().map(|status| Status::parse(*status)) {
            Some(Status::Done) if heard == wanted => {
                into.copy_from_slice(data);
                Ok(())
            }
            Some(Status::NoAddress) => Err(Fault::Absent),
            Some(Status::Done) => Err(Fault::TimedOut),
            Some(Status::NoData | Status::TimedOut | Status::Unknown(_)) | None => Err(Fault::Transfer),
        }
    }

    /// Hears bytes until there are enough or none come any more; gives how many came.
    fn hear(&mut self, into: &mut [u8], patience: Duration) -> Result<usize, Fault> {
        let mut heard = 0;
        while heard < into.len() {
            match self.line.read(into.get_mut(heard..).unwrap_or_default()) {
                Got::Bytes(count) => heard += count,
                Got::Gone => return Err(Fault::NoBus),
                Got::Nothing if !self.waits(patience) => break,
                Got::Nothing => {}
            }
        }
        Ok(heard)
    }

    /// Waits for a byte; whether one came.
    fn waits(&self, patience: Duration) -> bool {
        let timeout = Timespec {
            tv_sec: i64::try_from(patience.as_secs()).unwrap_or(i64::MAX),
            tv_nsec: i64::from(patience.subsec_nanos()),
        };
        // An interrupted wait is tried as if something had come.
        poll(&mut [PollFd::new(&self.line, PollFlags::IN)], Some(&timeout)) != Ok(0)
    }

    fn write(&mut self, address: u8, register: u8, bytes: &[u8]) -> Result<(), Fault> {
        let (mut register, mut bytes) = (register, bytes);
        loop {
            let mut data = [register; MOST];
            let count = piece(register, bytes.len());
            let (now, later) = bytes.split_at(count);
            data[1..=count].copy_from_slice(now);
            self.ask(ToBridge::Write { address, data: &data[..=count] }, &mut [])?;
            if later.is_empty() {
                return Ok(());
            }
            register = register.wrapping_add(u8::try_from(count).unwrap_or(0));
            bytes = later;
        }
    }

    fn read(&mut self, address: u8, register: u8, into: &mut [u8]) -> Result<(), Fault> {
        let mut place = register;
        for piece in into.chunks_mut(MOST) {
            self.ask(ToBridge::Write { address, data: &[place] }, &mut [])?;
            let count = u8::try_from(piece.len()).unwrap_or(0);
            self.ask(ToBridge::Read { address, count }, piece)?;
            place = place.wrapping_add(count);
        }
        Ok(())
    }
}

/// How many of the bytes that are left go in one write from a register on: all of them, or as many whole channels as
/// the bridge buffers beside the register.
fn piece(register: u8, left: usize) -> usize {
    let room = MOST - 1;
    if left <= room {
        return left;
    }
    let into_channel = usize::from(register.wrapping_sub(CHANNEL_0.address)) % CHANNEL_BYTES;
    (room + into_channel) / CHANNEL_BYTES * CHANNEL_BYTES - into_channel
}

impl I2cBus for Bridge {
    fn transfer(&mut self, address: u8, mut transfer: Transfer<'_>) -> Result<(), BusError> {
        let done = match &mut transfer {
            Transfer::Write { register, bytes } => self.write(address, *register, bytes),
            Transfer::Read { register, into } => self.read(address, *register, into),
        };
        done.map_err(|fault| BusError::transfer(address, &transfer, fault))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_is_cut_at_whole_channels() {
        let pieces = |mut register: u8, mut left: usize| {
            let mut all = Vec::new();
            while left > 0 {
                let count = piece(register, left);
                all.push(count);
                (register, left) = (register + u8::try_from(count).unwrap(), left - count);
            }
            all
        };
        assert_eq!(pieces(6, 32), [12, 12, 8], "eight channels: three, three, two");
        assert_eq!(pieces(8, 30), [14, 12, 4], "from the end of the first one's pulse on");
        assert_eq!(pieces(6, 4), [4]);
        assert_eq!(pieces(0, 1), [1]);
    }
}
