//! The command set of a UART-to-I²C bridge (the SC18IM700 set): an I²C bus behind a serial line.
//!
//! Start `S`, the address with its direction bit, a count, the data, stop `P`. A read answers with its bytes. What
//! became of the last transfer stands in a register of the bridge itself, read by `R`, its number, `P`.

/// The rate after power-on, 8N1.
pub const USUAL_BAUD: u32 = 9600;
/// Data bytes that a transfer keeps to: the bridge buffers that many in either direction.
pub const MOST: usize = 16;
/// Bytes on the line around the data of a write: `S`, address, count, `P`.
pub const AROUND: usize = 4;
/// Bytes on the line to learn what became of it: `R`, the register, `P`, and the answer.
pub const STATUS: usize = 4;

const START: u8 = b'S';
const STOP: u8 = b'P';
const READ_REGISTER: u8 = b'R';
const WRITE_REGISTER: u8 = b'W';
/// The register that says what became of the last transfer.
const I2C_STAT: u8 = 0x0A;

/// What is said to a bridge.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToBridge<'a> {
    /// Write to a device.
    Write {
        /// Its 7-bit address.
        address: u8,
        /// At most 255 bytes; [`MOST`] are safe.
        data: &'a [u8],
    },
    /// Read from a device.
    Read {
        /// Its 7-bit address.
        address: u8,
        /// How many bytes.
        count: u8,
    },
    /// What became of the last transfer?
    AskStatus,
    /// A register of the bridge that is not used here.
    Other(u8),
}

/// What became of a transfer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// It was carried out.
    Done,
    /// No device answered at the address.
    NoAddress,
    /// The device refused a byte.
    NoData,
    /// The bus hangs.
    TimedOut,
    /// Nothing that a bridge says.
    Unknown(u8),
}

impl ToBridge<'_> {
    /// Writes it as bytes.
    pub fn emit(&self, out: &mut Vec<u8>) {
        match *self {
            Self::Write { address, data } => {
                let count = u8::try_from(data.len()).unwrap_or(u8::MAX);
                out.extend([START, address << 1, count]);
                out.extend(data.iter().take(usize::from(count)));
                out.push(STOP);
            }
            Self::Read { address, count } => out.extend([START, address << 1 | 1, count, STOP]),
            Self::AskStatus => out.extend([READ_REGISTER, I2C_STAT, STOP]),
            Self::Other(register) => out.extend([READ_REGISTER, register, STOP]),
        }
    }
}

impl Status {
    /// What a byte says.
    pub const fn parse(byte: u8) -> Self {
        match byte {
            0xF0 => Self::Done,
            0xF1 => Self::NoAddress,
            0xF2 => Self::NoData,
            0xF8 => Self::TimedOut,
            other => Self::Unknown(other),
        }
    }

    /// The byte of it.
    pub const fn emit(self) -> u8 {
        match self {
            Self::Done => 0xF0,
            Self::NoAddress => 0xF1,
            Self::NoData => 0xF2,
            Self::TimedOut => 0xF8,
            Self::Unknown(byte) => byte,
        }
    }
}

/// Where in a command the bytes are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum At {
    #[default]
    Between,
    Address,
    Count {
        address: u8,
    },
    Data {
        address: u8,
        left: u8,
    },
    Registers,
    Settings,
}

/// Cuts what comes to a bridge into what it says, for stand-ins. Takes bytes in any split, never grows, and goes on
/// after rubbish with the next start.
#[derive(Debug)]
pub struct Decoder {
    at: At,
    room: [u8; 255],
    len: usize,
    skipped: u64,
}

impl Default for Decoder {
    fn default() -> Self {
        Self { at: At::Between, room: [0; 255], len: 0, skipped: 0 }
    }
}

impl Decoder {
    /// Bytes outside any command.
    pub const fn skipped(&self) -> u64 {
        self.skipped
    }

    /// Takes one byte; gives what it completes.
    pub fn take(&mut self, byte: u8) -> Option<ToBridge<'_>> {
        match (self.at, byte) {
            (At::Between, START) => self.at = At::Address,
            (At::Between, READ_REGISTER) => self.at = At::Registers,
            (At::Between, WRITE_REGISTER) => self.at = At::Settings,
            (At::Between, STOP) => {}
            (At::Between, _) => self.skipped += 1,
            (At::Address, address) => self.at = At::Count { address },
            (At::Count { address }, count) if address & 1 == 1 => {
                self.at = At::Between;
                return Some(ToBridge::Read { address: address >> 1, count });
            }
            (At::Count { address }, 0) => {
                self.at = At::Between;
                return Some(ToBridge::Write { address: address >> 1, data: &[] });
            }
            (At::Count { address }, left) => (self.at, self.len) = (At::Data { address, left }, 0),
            (At::Data { address, left }, byte) => return self.data(address, left, byte),
            (At::Registers | At::Settings, STOP) => self.at = At::Between,
            (At::Registers, I2C_STAT) => return Some(ToBridge::AskStatus),
            (At::Registers, register) => return Some(ToBridge::Other(register)),
            (At::Settings, _) => {}
        }
        None
    }

    fn data(&mut self, address: u8, left: u8, byte: u8) -> Option<ToBridge<'_>> {
        if let Some(place) = self.room.get_mut(self.len) {
            *place = byte;
            self.len += 1;
        }
        if left > 1 {
            self.at = At::Data { address, left: left - 1 };
            return None;
        }
        self.at = At::Between;
        Some(ToBridge::Write { address: address >> 1, data: self.room.get(..self.len)? })
    }
}

#[cfg(test)]
mod tests {
    use super::Status::{Done, NoAddress, NoData, TimedOut, Unknown};
    use super::*;
    use proptest::prelude::*;

    fn bytes(said: ToBridge<'_>) -> Vec<u8> {
        let mut out = Vec::new();
        said.emit(&mut out);
        out
    }

    #[test]
    fn commands_are_byte_for_byte_as_the_chip_takes_them() {
        let write = ToBridge::Write { address: 0x40, data: &[0x06, 0x00, 0x00, 0x33, 0x01] };
        assert_eq!(bytes(write), [0x53, 0x80, 5, 0x06, 0x00, 0x00, 0x33, 0x01, 0x50]);
        assert_eq!(bytes(ToBridge::Read { address: 0x40, count: 2 }), [0x53, 0x81, 2, 0x50]);
        assert_eq!(bytes(ToBridge::AskStatus), [0x52, 0x0A, 0x50]);
        let said = [0xF0, 0xF1, 0xF2, 0xF8, 0x33].map(Status::parse);
        assert_eq!(said, [Done, NoAddress, NoData, TimedOut, Unknown(0x33)]);
        assert_eq!(said.map(Status::emit), [0xF0, 0xF1, 0xF2, 0xF8, 0x33]);
        assert_eq!(bytes(write).len() - 5, AROUND);
        assert_eq!(bytes(ToBridge::AskStatus).len() + 1, STATUS);
    }

    #[test]
    fn a_repeated_start_and_rubbish_between_are_understood() {
        let mut decoder = Decoder::default();
        let mut found = Vec::new();
        for byte in
            [0x07, 0x53, 0x80, 1, 0xFE, 0x53, 0x81, 1, 0x50, 0x52, 0x0A, 0x02, 0x50, 0x57, 0x00, 0x50, 0x50]
        {
            found.extend(decoder.take(byte).map(|said| format!("{said:?}")));
        }
        assert_eq!(
            found,
            ["Write { address: 64, data: [254] }", "Read { address: 64, count: 1 }", "AskStatus", "Other(2)"]
        );
        assert_eq!(decoder.skipped(), 1);
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(bytes: Vec<u8>) {
            let mut decoder = Decoder::default();
            for byte in bytes {
                decoder.take(byte);
            }
        }

        #[test]
        fn what_is_said_is_understood(address in 0u8..128, data in proptest::collection::vec(any::<u8>(), 0..200)) {
            let mut decoder = Decoder::default();
            let said = bytes(ToBridge::Write { address, data: &data });
            let found: Vec<Vec<u8>> = said.iter().filter_map(|byte| match decoder.take(*byte) {
                Some(ToBridge::Write { address: to, data }) if to == address => Some(data.to_vec()),
                _ => None,
            }).collect();
            prop_assert_eq!(found, vec![data]);
            prop_assert_eq!(decoder.skipped(), 0);
        }
    }
}
