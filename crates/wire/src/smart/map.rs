//! Where the registers of a kind of smart servo stand, and how numbers are put there and read from there.

use super::Form;

/// The most bytes that are read at once of how a servo is.
const MOST_LOOK: u16 = 32;

/// How a register has a sign.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Sign {
    /// It has none.
    #[default]
    None,
    /// As two's complement.
    Twos,
    /// This bit of it is set below zero; the others are the size.
    Bit(u8),
}

/// A register of a smart servo: where it stands and how it is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Register {
    /// The address of its first byte.
    pub at: u16,
    /// How many bytes it has: at most 4.
    pub bytes: u8,
    /// How a negative number stands in it.
    pub sign: Sign,
}

/// See the module.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Map {
    /// The form of the packets.
    pub form: Form,
    /// Its registers have the high byte first.
    pub high_byte_first: bool,
    /// How many places it has.
    pub steps: u32,
    /// How many of them are a degree of its shaft.
    pub counts_a_degree: f64,
    /// Its positions form a ring: the first follows the last.
    pub ring: bool,
    /// The first and the last register that are kept in memory.
    pub kept: (u16, u16),
    /// The model numbers that this is for; any where there are none.
    pub models: Vec<u16>,
    /// Its model number.
    pub model: Register,
    /// The id of the servo on its bus.
    pub id: Register,
    /// The number of its baud rate.
    pub baud: Register,
    /// Numbers of rates, each with the rate.
    pub bauds: Vec<(u8, u32)>,
    /// 1 where it drives.
    pub drive: Register,
    /// Its target position.
    pub target: Register,
    /// The speed of its moves.
    pub speed: Register,
    /// Places a second that one step of that is.
    pub counts_s: f64,
    /// The largest number that may be written.
    pub most_speed: u32,
    /// What stands between target and speed, and what is written there.
    pub time: Option<(Register, u32)>,
    /// Its present position.
    pub position: Register,
    /// How fast it turns, with places a second of one step.
    pub speed_now: Option<(Register, f64)>,
    /// How hard it pushes, with percent of one step.
    pub load: Option<(Register, f64)>,
    /// Its supply, with volts of one step.
    pub volts: Option<(Register, f64)>,
    /// How warm it is.
    pub celsius: Option<Register>,
    /// Whether it is moving.
    pub moving: Option<Register>,
    /// What is wrong with it.
    pub faults: Option<Register>,
    /// How hard it may push, with the greatest number that may be written there.
    pub torque_limit: Option<(Register, u32)>,
    /// Its own position limit.
    pub limits: Option<(Register, Register)>,
    /// How it is driven, and what must stand there.
    pub mode: Option<(Register, u32)>,
    /// How long it waits before it answers, with µs of one step.
    pub return_delay: Option<(Register, f64)>,
    /// What it answers.
    pub answers: Option<Register>,
    /// What opens and shuts its memory.
    pub lock: Option<Register>,
}

impl Register {
    /// The number in some bytes that begin at an address; none where it does not lie among them.
    pub fn within(&self, first: u16, bytes: &[u8], high_byte_first: bool) -> Option<i64> {
        let from = usize::from(self.at.checked_sub(first)?);
        Some(self.read(bytes.get(from..from + usize::from(self.bytes))?, high_byte_first))
    }

    /// The number in its own bytes.
    pub fn read(&self, bytes: &[u8], high_byte_first: bool) -> i64 {
        let add = |value: i64, byte: &u8| value << 8 | i64::from(*byte);
        let value = if high_byte_first { bytes.iter().fold(0, add) } else { bytes.iter().rev().fold(0, add) };
        match self.sign {
            Sign::None => value,
            Sign::Twos => {
                let bits = u32::from(self.bytes) * 8;
                if bits > 0 && value >> (bits - 1) & 1 == 1 { value - (1i64 << bits) } else { value }
            }
            Sign::Bit(bit) => {
                let sign = 1i64 << bit;
                if value & sign == 0 { value } else { -(value & !sign) }
            }
        }
    }

    /// Puts a number into its bytes, behind those that are there.
    pub fn write(&self, value: i64, high_byte_first: bool, out: &mut Vec<u8>) {
        let value = match self.sign {
            Sign::Bit(bit) if value < 0 => -value | 1i64 << bit,
            _ => value,
        };
        let bytes = value.to_le_bytes();
        let own = bytes.iter().take(usize::from(self.bytes)).copied();
        if high_byte_first { out.extend(own.rev()) } else { out.extend(own) }
    }

    /// The address behind it.
    pub const fn end(&self) -> u16 {
        self.at + self.bytes as u16
    }
}

impl Map {
    /// The registers of a goal, in the order in which they stand: target, speed, and what is between.
    fn goal_parts(&self) -> [Option<Register>; 3] {
        let mut parts = [Some(self.target), Some(self.speed), self.time.map(|(register, _)| register)];
        parts.sort_by_key(|part| part.map_or(u16::MAX, |register| register.at));
        parts
    }

    /// Where a goal begins, and how many bytes it has.
    pub fn goal_place(&self) -> (u16, u16) {
        let parts = self.goal_parts();
        let first = parts.iter().flatten().map(|part| part.at).min().unwrap_or_default();
        let end = parts.iter().flatten().map(Register::end).max().unwrap_or_default();
        (first, end - first)
    }

    /// The bytes of a goal: a place, and a step of speed of at least 1, for 0 would be as fast as it can.
    pub fn goal(&self, target: u16, speed: u32, out: &mut Vec<u8>) {
        for part in self.goal_parts().into_iter().flatten() {
            let value = if part == self.target {
                i64::from(target)
            } else if part == self.speed {
                i64::from(speed.clamp(1, self.most_speed.max(1)))
            } else {
                i64::from(self.time.map_or(0, |(_, value)| value))
            };
            part.write(value, self.high_byte_first, out);
        }
    }

    /// Steps of its speed register for places a second: at least 1, at most what it takes.
    pub fn speed_steps(&self, counts_s: f64) -> u32 {
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "a saturating cast, wanted here"
        )]
        let steps = (counts_s / self.counts_s + 0.5) as u32;
        steps.clamp(1, self.most_speed.max(1))
    }

    /// Whether a model number is one that this is for, as far as that is said.
    pub fn is_for(&self, model: u16) -> bool {
        self.models.is_empty() || self.models.contains(&model)
    }

    /// Whether a register is kept in memory.
    pub const fn keeps(&self, address: u16) -> bool {
        self.kept.0 <= address && address <= self.kept.1
    }

    /// The blocks of registers that say how a servo is: whether it drives, its load, supply, warmth, faults; those that
    /// lie close are read at once. Each with its address and its bytes.
    pub fn looks(&self) -> Vec<(u16, u16)> {
        let stepped =
            [self.load, self.speed_now, self.volts].into_iter().flatten().map(|(register, _)| register);
        let plain = [Some(self.drive), self.celsius, self.faults].into_iter().flatten();
        let mut all: Vec<Register> = stepped.chain(plain).collect();
        all.sort_by_key(|register| register.at);
        let mut blocks: Vec<(u16, u16)> = Vec::new();
        for register in all {
            match blocks.last_mut() {
                Some((first, count)) if register.end() - *first <= MOST_LOOK => {
                    *count = register.end() - *first;
                }
                _ => blocks.push((register.at, u16::from(register.bytes))),
            }
        }
        blocks
    }

    /// A register's number among bytes that begin at an address.
    pub fn number(&self, register: Register, first: u16, bytes: &[u8]) -> Option<i64> {
        register.within(first, bytes, self.high_byte_first)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const fn register(at: u16, bytes: u8, sign: Sign) -> Register {
        Register { at, bytes, sign }
    }

    #[test]
    fn signs_are_read_as_each_kind_has_them() {
        let ten = register(38, 2, Sign::Bit(10));
        assert_eq!([ten.read(&[5, 0], false), ten.read(&[5, 4], false)], [5, -5]);
        let twos = register(132, 4, Sign::Twos);
        assert_eq!(
            [twos.read(&[166, 0, 0, 0], false), twos.read(&[0xFD, 0xFF, 0xFF, 0xFF], false)],
            [166, -3]
        );
        let compact = register(56, 2, Sign::Bit(15));
        assert_eq!([compact.read(&[0, 8], false), compact.read(&[10, 0x80], false)], [2048, -10]);
        assert_eq!(
            register(0, 2, Sign::None).read(&[2, 5], true),
            517,
            "a sister family: the high byte first"
        );
    }

    #[test]
    fn a_goal_is_one_block_in_the_order_of_its_registers() {
        let ten = Map {
            target: register(30, 2, Sign::None),
            speed: register(32, 2, Sign::None),
            most_speed: 1023,
            counts_s: 2.27,
            ..Map::default()
        };
        let goal = |map: &Map, target, speed| {
            let mut out = Vec::new();
            map.goal(target, speed, &mut out);
            out
        };
        assert_eq!((ten.goal_place(), goal(&ten, 512, 200)), ((30, 4), vec![0, 2, 200, 0]));
        let twelve = Map {
            target: register(116, 4, Sign::None),
            speed: register(112, 4, Sign::None),
            most_speed: 32767,
            ..Map::default()
        };
        assert_eq!((twelve.goal_place(), goal(&twelve, 512, 0)), ((112, 8), vec![1, 0, 0, 0, 0, 2, 0, 0]));
        let compact = Map {
            target: register(42, 2, Sign::None),
            time: Some((register(44, 2, Sign::None), 0)),
            speed: register(46, 2, Sign::None),
            most_speed: 32767,
            counts_s: 1.0,
            ..Map::default()
        };
        assert_eq!((compact.goal_place(), goal(&compact, 2048, 1500)), ((42, 6), vec![0, 8, 0, 0, 0xDC, 5]));
        assert_eq!(
            [0.0, 0.4, 1.6, 1e12].map(|v| compact.speed_steps(v)),
            [1, 1, 2, 32767],
            "0 would be no limit"
        );
        assert_eq!(ten.speed_steps(f64::NAN), 1);
    }

    #[test]
    fn a_number_is_found_among_the_bytes_of_a_block() {
        let map = Map::default();
        let block = [0, 0, 0, 0, 166, 0, 0, 0, 9];
        assert_eq!(map.number(register(132, 4, Sign::Twos), 128, &block), Some(166));
        assert_eq!(map.number(register(134, 4, Sign::Twos), 128, &block), None);
        assert_eq!(map.number(register(127, 1, Sign::None), 128, &block), None);
    }

    proptest! {
        #[test]
        fn numbers_come_back(value in -1000i64..1000, bytes in prop_oneof![Just(2u8), Just(4)], high: bool, bit: bool) {
            let sign = if bit { Sign::Bit(bytes * 8 - 1) } else { Sign::Twos };
            let own = register(7, bytes, sign);
            let mut out = Vec::new();
            own.write(value, high, &mut out);
            prop_assert_eq!((out.len(), own.read(&out, high)), (usize::from(bytes), value));
        }
    }
}
