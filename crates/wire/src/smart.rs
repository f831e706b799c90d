//! The half-duplex bus of smart servos, in both forms of its packets: what is asked and what is answered, as bytes.
//!
//! Form 1: `FF FF`, an id, a length, an instruction or an error, parameters, and a sum. Form 2: `FF FF FD 00`, an id, a
//! length of two bytes, an instruction, parameters, and a CRC-16; a run of `FF FF FD` among them is followed by one more
//! `FD`. One request is open at a time; [`exchange`] keeps it.

pub mod budget;
pub mod exchange;
pub mod map;

use crate::decode::{self, Counts, Look, Window};
use thiserror::Error;

/// The id that every servo listens to. Nobody answers it, but for the ping and the group read of form 2.
pub const EVERYONE: u8 = 0xFE;
/// Where an address or a count takes two bytes, the low one comes first.
const ANSWER: u8 = 0x55;
/// Bytes of data that one answer holds here.
pub const MOST_DATA: usize = 64;

/// What an instruction is on the wire.
pub mod instruction {
    /// Are you there?
    pub const PING: u8 = 0x01;
    /// What stands in your registers?
    pub const READ: u8 = 0x02;
    /// Put this into your registers.
    pub const WRITE: u8 = 0x03;
    /// The same, but later, when it is said.
    pub const PREPARE: u8 = 0x04;
    /// Now do what was prepared.
    pub const START_PREPARED: u8 = 0x05;
    /// Start anew. Form 2 only.
    pub const REBOOT: u8 = 0x08;
    /// What stands in the registers of each of you? Form 2 only.
    pub const GROUP_READ: u8 = 0x82;
    /// Put this into the registers of each of you.
    pub const GROUP_WRITE: u8 = 0x83;
}

/// The two forms of packets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Form {
    /// A length of one byte and a sum.
    #[default]
    One,
    /// A length of two bytes, stuffing and a CRC.
    Two,
}

/// A request that the form has no words for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("packets of this form cannot say that")]
pub struct Unsayable;

/// What is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ask<'a> {
    /// Are you there?
    Ping,
    /// What stands there?
    Read {
        /// The first register.
        address: u16,
        /// How many bytes.
        count: u16,
    },
    /// Put this there.
    Write {
        /// The first register.
        address: u16,
        /// The parameter's bytes, as they stand in the packet.
        bytes: &'a [u8],
    },
    /// Put this there when it is said.
    Prepare {
        /// The first register.
        address: u16,
        /// The parameter's bytes, as they stand in the packet.
        bytes: &'a [u8],
    },
    /// Do what was prepared.
    StartPrepared,
    /// Start anew, as after its supply was switched on.
    Reboot,
    /// What stands there, of each of these in turn?
    GroupRead {
        /// The first register.
        address: u16,
        /// How many bytes of each.
        count: u16,
        /// The ids that are asked, in the order in which they answer.
        ids: &'a [u8],
    },
    /// Put this there, for each its own.
    GroupWrite {
        /// The first register.
        address: u16,
        /// How many bytes for each.
        count: u16,
        /// One behind the other: an id, then its bytes.
        parts: &'a [u8],
    },
}

/// A packet whose check passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Packet<'a> {
    /// Whom it is for, or who answers.
    pub id: u8,
    /// The instruction. An answer of form 1 has its error there.
    pub code: u8,
    /// What follows, without its stuffing.
    pub rest: &'a [u8],
}

/// What came back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Answer {
    /// The id of the servo that answers.
    pub id: u8,
    /// Form 1: a bit for each thing that is wrong with the servo. Form 2: see [`Refused::of`] and [`ALERT`].
    pub error: u8,
    bytes: [u8; MOST_DATA],
    used: usize,
}

/// The bit of an error of form 2 that says: something is wrong with the servo itself, ask its registers.
pub const ALERT: u8 = 0x80;

/// Why a servo of form 2 has not done what it was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refused {
    /// It could not.
    Failed,
    /// It does not know the instruction.
    Instruction,
    /// The check of what it heard failed.
    Check,
    /// The value is beyond what the register may hold.
    Range,
    /// The value has another length than the register.
    Length,
    /// The value is beyond the servo's own limits.
    Limit,
    /// The register may not be written, or not while the servo drives.
    Access,
    /// A number that the form does not have.
    Other(u8),
}

impl Refused {
    /// What the error of an answer of form 2 says; none where it did as asked.
    pub const fn of(error: u8) -> Option<Self> {
        match error & !ALERT {
            0 => None,
            1 => Some(Self::Failed),
            2 => Some(Self::Instruction),
            3 => Some(Self::Check),
            4 => Some(Self::Range),
            5 => Some(Self::Length),
            6 => Some(Self::Limit),
            7 => Some(Self::Access),
            other => Some(Self::Other(other)),
        }
    }
}

impl Answer {
    /// An answer with data, of which there are at most [`MOST_DATA`] bytes.
    pub fn new(id: u8, error: u8, data: &[u8]) -> Self {
        let mut bytes = [0; MOST_DATA];
        let used = data.len().min(MOST_DATA);
        bytes.iter_mut().zip(data).for_each(|(place, byte)| *place = *byte);
        Self { id, error, bytes, used }
    }

    /// What was read.
    pub fn data(&self) -> &[u8] {
        self.bytes.get(..self.used).unwrap_or_default()
    }
}

/// The sum of form 1, over all between the two `FF` and itself.
pub fn sum(bytes: &[u8]) -> u8 {
    !bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte))
}

/// The CRC-16 of form 2: polynomial 8005, from 0, not reflected.
pub fn crc(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |crc, byte| {
        (0..8).fold(
            crc ^ u16::from(*byte) << 8,
            |crc: u16, _| {
                if crc & 0x8000 == 0 { crc << 1 } else { crc << 1 ^ 0x8005 }
            },
        )
    })
}

impl Form {
    /// The greatest id that a servo may have.
    pub const fn greatest_id(self) -> u8 {
        match self {
            Self::One => 253,
            Self::Two => 252,
        }
    }

    /// Bytes of an answer with so much data, if nothing of it is stuffed.
    pub const fn answer_length(self, data: usize) -> usize {
        match self {
            Self::One => 6 + data,
            Self::Two => 11 + data,
        }
    }

    /// Writes a request as bytes behind those that are there.
    ///
    /// # Errors
    /// When packets of this form cannot say it; then nothing is written.
    pub fn ask(self, id: u8, ask: &Ask<'_>, out: &mut Vec<u8>) -> Result<(), Unsayable> {
        let begun = out.len();
        let said = self.begin(id, ask, out).and_then(|()| self.end(out, begun));
        if said.is_err() {
            out.truncate(begun);
        }
        said
    }

    /// Writes an answer as bytes behind those that are there; for stand-ins.
    pub fn answer(self, id: u8, error: u8, data: &[u8], out: &mut Vec<u8>) {
        let begun = out.len();
        match self {
            Self::One => out.extend([0xFF, 0xFF, id, 0, error]),
            Self::Two => out.extend([0xFF, 0xFF, 0xFD, 0, id, 0, 0, ANSWER, error]),
        }
        out.extend_from_slice(data);
        if self.end(out, begun).is_err() {
            out.truncate(begun);
        }
    }

    /// Puts a number of an address or a count.
    fn number(self, value: u16, out: &mut Vec<u8>) -> Result<(), Unsayable> {
        match self {
            Self::One => out.push(u8::try_from(value).map_err(|_| Unsayable)?),
            Self::Two => out.extend(value.to_le_bytes()),
        }
        Ok(())
    }

    fn begin(self, id: u8, ask: &Ask<'_>, out: &mut Vec<u8>) -> Result<(), Unsayable> {
        let code = match (ask, self) {
            (Ask::Ping, _) => instruction::PING,
            (Ask::Read { .. }, _) => instruction::READ,
            (Ask::Write { .. }, _) => instruction::WRITE,
            (Ask::Prepare { .. }, _) => instruction::PREPARE,
            (Ask::StartPrepared, _) => instruction::START_PREPARED,
            (Ask::GroupWrite { .. }, _) => instruction::GROUP_WRITE,
            (Ask::Reboot, Self::Two) => instruction::REBOOT,
            (Ask::GroupRead { .. }, Self::Two) => instruction::GROUP_READ,
            (Ask::Reboot | Ask::GroupRead { .. }, Self::One) => return Err(Unsayable),
        };
        match self {
            Self::One => out.extend([0xFF, 0xFF, id, 0, code]),
            Self::Two => out.extend([0xFF, 0xFF, 0xFD, 0, id, 0, 0, code]),
        }
        match *ask {
            Ask::Ping | Ask::StartPrepared | Ask::Reboot => {}
            Ask::Read { address, count } => {
                self.number(address, out)?;
                self.number(count, out)?;
            }
            Ask::Write { address, bytes } | Ask::Prepare { address, bytes } => {
                self.number(address, out)?;
                out.extend_from_slice(bytes);
            }
            Ask::GroupRead { address, count, ids: more }
            | Ask::GroupWrite { address, count, parts: more } => {
                self.number(address, out)?;
                self.number(count, out)?;
                out.extend_from_slice(more);
            }
        }
        Ok(())
    }

    /// Stuffs, sets the length, and adds the check to a packet that begins there.
    fn end(self, out: &mut Vec<u8>, begun: usize) -> Result<(), Unsayable> {
        match self {
            Self::One => {
                // The length counts the instruction, the parameters and the sum.
                let length = u8::try_from(out.len() - begun - 3).map_err(|_| Unsayable)?;
                *out.get_mut(begun + 3).ok_or(Unsayable)? = length;
                let sum = sum(out.get(begun + 2..).unwrap_or_default());
                out.push(sum);
            }
            Self::Two => {
                let mut at = begun + HEAD_TWO;
                while at + 3 <= out.len() {
                    if out.get(at..at + 3) == Some(&[0xFF, 0xFF, 0xFD]) {
                        out.insert(at + 3, 0xFD);
                        at += 4;
                    } else {
                        at += 1;
                    }
                }
                let length = u16::try_from(out.len() - begun - HEAD_TWO + 2).map_err(|_| Unsayable)?;
                for (place, byte) in out.iter_mut().skip(begun + 5).zip(length.to_le_bytes()) {
                    *place = byte;
                }
                let crc = crc(out.get(begun..).unwrap_or_default());
                out.extend(crc.to_le_bytes());
            }
        }
        Ok(())
    }
}

/// Bytes before the instruction of form 2.
const HEAD_TWO: usize = 7;

/// Finds packets among bytes, in any split. After rubbish it looks for the next within the `ROOM` that it has, which is
/// also the longest packet that it takes.
#[derive(Debug, Clone)]
pub struct Packets<const ROOM: usize> {
    form: Form,
    window: Window<ROOM>,
    counts: Counts,
    plain: [u8; ROOM],
}

impl<const ROOM: usize> Packets<ROOM> {
    /// Nothing has come yet.
    pub fn new(form: Form) -> Self {
        Self { form, window: Window::default(), counts: Counts::default(), plain: [0; ROOM] }
    }

    /// Packets found, packets whose check failed, bytes of neither.
    pub const fn counts(&self) -> Counts {
        self.counts
    }

    /// Forgets what has begun.
    pub const fn restart(&mut self) {
        self.window.clear();
    }

    /// Whether something has begun that is not over.
    pub fn has_begun(&self) -> bool {
        !self.window.held().is_empty()
    }

    /// Takes bytes, and hands on each packet that ends among them.
    pub fn feed(&mut self, bytes: &[u8], mut each: impl FnMut(Packet<'_>)) {
        let Self { form, window, counts, plain } = self;
        let form = *form;
        decode::scan(
            window,
            counts,
            bytes,
            |held| form.look(held, ROOM),
            |frame| {
                if let Some(packet) = form.packet(frame, plain) {
                    each(packet);
                }
            },
        );
    }
}

impl Form {
    fn look(self, held: &[u8], room: usize) -> Look {
        let head: &[u8] = match self {
            Self::One => &[0xFF, 0xFF],
            Self::Two => &[0xFF, 0xFF, 0xFD, 0],
        };
        if !held.iter().zip(head).all(|(byte, head)| byte == head) {
            return Look::Skip;
        }
        let (length, least) = match (self, held) {
            (Self::One, [_, _, 0xFF, ..]) => return Look::Skip,
            (Self::One, [_, _, _, length, ..]) => (usize::from(*length) + 4, 6),
            (Self::Two, [_, _, _, _, id, ..]) if *id >= 0xFD && *id != EVERYONE => return Look::Skip,
            (Self::Two, [_, _, _, _, _, low, high, ..]) => {
                (usize::from(u16::from_le_bytes([*low, *high])) + HEAD_TWO, HEAD_TWO + 3)
            }
            _ => return Look::More,
        };
        if length < least || length > room {
            return Look::Skip;
        }
        let Some(frame) = held.get(..length) else { return Look::More };
        let good = match self {
            Self::One => frame
                .split_last()
                .is_some_and(|(last, before)| sum(before.get(2..).unwrap_or_default()) == *last),
            Self::Two => {
                frame.split_last_chunk().is_some_and(|(before, last)| crc(before).to_le_bytes() == *last)
            }
        };
        if good { Look::Good(length) } else { Look::Bad }
    }

    /// What a frame says that was found good; what was stuffed is taken out into `plain`.
    fn packet<'p>(self, frame: &'p [u8], plain: &'p mut [u8]) -> Option<Packet<'p>> {
        match (self, frame) {
            (Self::One, [_, _, id, _, code, rest @ .., _]) => Some(Packet { id: *id, code: *code, rest }),
            (Self::Two, [_, _, _, _, id, _, _, stuffed @ .., _, _]) => {
                let (mut used, mut run) = (0, 0u32);
                for &byte in stuffed {
                    // Behind `FF FF FD` stands one that is not meant.
                    run = run << 8 | u32::from(byte);
                    if run == 0xFF_FF_FD_FD {
                        run = 0;
                        continue;
                    }
                    *plain.get_mut(used)? = byte;
                    used += 1;
                }
                let (code, rest) = plain.get(..used)?.split_first()?;
                Some(Packet { id: *id, code: *code, rest })
            }
            _ => None,
        }
    }
}

impl<'a> Packet<'a> {
    /// The same as an answer; none where it cannot be one. In form 1 a request looks like an answer.
    pub fn as_answer(&self, form: Form) -> Option<Answer> {
        let (error, data) = match form {
            Form::One => (self.code, self.rest),
            Form::Two if self.code == ANSWER => {
                self.rest.split_first().map(|(error, data)| (*error, data))?
            }
            Form::Two => return None,
        };
        (self.id <= form.greatest_id() && data.len() <= MOST_DATA).then(|| Answer::new(self.id, error, data))
    }

    /// The same as a request; none where it cannot be one.
    pub fn as_ask(&self, form: Form) -> Option<Ask<'a>> {
        let number = |rest: &'a [u8]| -> Option<(u16, &'a [u8])> {
            match (form, rest) {
                (Form::One, [value, rest @ ..]) => Some((u16::from(*value), rest)),
                (Form::Two, [low, high, rest @ ..]) => Some((u16::from_le_bytes([*low, *high]), rest)),
                _ => None,
            }
        };
        let two = |rest| {
            let (address, rest) = number(rest)?;
            let (count, rest) = number(rest)?;
            Some((address, count, rest))
        };
        Some(match self.code {
            instruction::PING if self.rest.is_empty() => Ask::Ping,
            instruction::READ => match two(self.rest)? {
                (address, count, []) => Ask::Read { address, count },
                _ => return None,
            },
            instruction::WRITE => number(self.rest).map(|(address, bytes)| Ask::Write { address, bytes })?,
            instruction::PREPARE => {
                number(self.rest).map(|(address, bytes)| Ask::Prepare { address, bytes })?
            }
            instruction::START_PREPARED if self.rest.is_empty() => Ask::StartPrepared,
            instruction::REBOOT if form == Form::Two && self.rest.is_empty() => Ask::Reboot,
            instruction::GROUP_READ if form == Form::Two => {
                two(self.rest).map(|(address, count, ids)| Ask::GroupRead { address, count, ids })?
            }
            instruction::GROUP_WRITE => {
                let (address, count, parts) = two(self.rest)?;
                let whole = parts.len().is_multiple_of(usize::from(count) + 1);
                whole.then_some(Ask::GroupWrite { address, count, parts })?
            }
            _ => return None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::decode::test::hex;
    use proptest::prelude::*;

    fn asked(form: Form, id: u8, ask: &Ask<'_>) -> Vec<u8> {
        let mut out = Vec::new();
        form.ask(id, ask, &mut out).unwrap();
        out
    }

    fn answered(form: Form, id: u8, error: u8, data: &[u8]) -> Vec<u8> {
        let mut out = Vec::new();
        form.answer(id, error, data, &mut out);
        out
    }

    /// Every packet in some bytes: id, code, rest.
    fn found(form: Form, bytes: &[u8]) -> Vec<(u8, u8, Vec<u8>)> {
        let mut all = Vec::new();
        Packets::<512>::new(form).feed(bytes, |p| all.push((p.id, p.code, p.rest.to_vec())));
        all
    }

    /// Says a request, and reads it again.
    fn both_ways(form: Form, id: u8, ask: &Ask<'_>, bytes: &str) {
        assert_eq!(asked(form, id, ask), hex(bytes), "{ask:?}");
        let mut seen = 0;
        Packets::<512>::new(form).feed(&hex(bytes), |packet| {
            assert_eq!((packet.id, packet.as_ask(form).as_ref()), (id, Some(ask)));
            seen += 1;
        });
        assert_eq!(seen, 1, "{bytes}");
    }

    #[test]
    fn the_packets_of_form_1_are_those_of_the_description() {
        both_ways(Form::One, 7, &Ask::Ping, "FF FF 07 02 01 F5");
        both_ways(Form::One, 7, &Ask::Read { address: 36, count: 2 }, "FF FF 07 04 02 24 02 CC");
        let goal = [0, 2, 200, 0];
        both_ways(
            Form::One,
            7,
            &Ask::Write { address: 30, bytes: &goal },
            "FF FF 07 07 03 1E 00 02 C8 00 06",
        );
        let parts = [1, 0x2C, 1, 100, 0, 2, 0xBC, 2, 150, 0];
        let group = Ask::GroupWrite { address: 30, count: 4, parts: &parts };
        both_ways(Form::One, EVERYONE, &group, "FF FF FE 0E 83 1E 04 01 2C 01 64 00 02 BC 02 96 00 66");
        let compact = [0, 8, 0, 0, 0xDC, 5];
        both_ways(
            Form::One,
            1,
            &Ask::Write { address: 42, bytes: &compact },
            "FF FF 01 09 03 2A 00 08 00 00 DC 05 DF",
        );
        assert_eq!(answered(Form::One, 7, 0, &517u16.to_le_bytes()), hex("FF FF 07 04 00 05 02 ED"));
        assert_eq!(found(Form::One, &hex("FF FF 07 04 00 05 02 ED")), [(7, 0, vec![5, 2])]);
    }

    #[test]
    fn the_packets_of_form_2_are_those_of_the_description() {
        both_ways(Form::Two, 1, &Ask::Ping, "FF FF FD 00 01 03 00 01 19 4E");
        both_ways(
            Form::Two,
            1,
            &Ask::Read { address: 132, count: 4 },
            "FF FF FD 00 01 07 00 02 84 00 04 00 1D 15",
        );
        let goal = 512u32.to_le_bytes();
        both_ways(
            Form::Two,
            1,
            &Ask::Write { address: 116, bytes: &goal },
            "FF FF FD 00 01 09 00 03 74 00 00 02 00 00 CA 89",
        );
        let group = Ask::GroupRead { address: 132, count: 4, ids: &[1, 2] };
        both_ways(Form::Two, EVERYONE, &group, "FF FF FD 00 FE 09 00 82 84 00 04 00 01 02 CE FA");
        let parts = [1, 150, 0, 0, 0, 2, 170, 0, 0, 0];
        let group = Ask::GroupWrite { address: 116, count: 4, parts: &parts };
        both_ways(
            Form::Two,
            EVERYONE,
            &group,
            "FF FF FD 00 FE 11 00 83 74 00 04 00 01 96 00 00 00 02 AA 00 00 00 82 87",
        );
        let answer = "FF FF FD 00 01 08 00 55 00 A6 00 00 00 8C C0";
        assert_eq!(answered(Form::Two, 1, 0, &166u32.to_le_bytes()), hex(answer));
        assert_eq!(found(Form::Two, &hex(answer)), [(1, ANSWER, vec![0, 0xA6, 0, 0, 0])]);
    }

    #[test]
    fn what_looks_like_a_header_is_stuffed_and_comes_back() {
        let bytes = [0xFF, 0xFF, 0xFD, 0];
        let write = "FF FF FD 00 01 0A 00 03 74 00 FF FF FD FD 00 21 E7";
        both_ways(Form::Two, 1, &Ask::Write { address: 116, bytes: &bytes }, write);
        let answer = "FF FF FD 00 01 09 00 55 00 FF FF FD FD 00 D8 9C";
        assert_eq!(answered(Form::Two, 1, 0, &bytes), hex(answer));
        assert_eq!(found(Form::Two, &hex(answer)), [(1, ANSWER, vec![0, 0xFF, 0xFF, 0xFD, 0])]);
    }

    #[test]
    fn a_servo_says_what_is_wrong() {
        let two = |error| Refused::of(error);
        let all = [0, 1, 2, 3, 4, 5, 6, 7, 9, ALERT, ALERT | 7].map(two);
        let named = [
            None,
            Some(Refused::Failed),
            Some(Refused::Instruction),
            Some(Refused::Check),
            Some(Refused::Range),
            Some(Refused::Length),
            Some(Refused::Limit),
            Some(Refused::Access),
            Some(Refused::Other(9)),
            None,
            Some(Refused::Access),
        ];
        assert_eq!(all, named);
    }

    #[test]
    fn what_a_form_cannot_say_is_refused_and_leaves_nothing() {
        let mut out = vec![1, 2];
        let none: [Ask<'_>; 4] = [
            Ask::Reboot,
            Ask::GroupRead { address: 1, count: 2, ids: &[1] },
            Ask::Read { address: 256, count: 2 },
            Ask::Write { address: 1, bytes: &[0; 253] },
        ];
        for ask in none {
            assert_eq!(Form::One.ask(1, &ask, &mut out), Err(Unsayable), "{ask:?}");
        }
        assert_eq!(out, [1, 2]);
        assert_eq!(Form::One.ask(1, &Ask::Write { address: 1, bytes: &[0; 251] }, &mut out), Ok(()));
    }

    #[test]
    fn ids_and_lengths_that_cannot_be_are_skipped() {
        assert_eq!(found(Form::One, &hex("FF FF FF 07 02 01 F5")).len(), 1, "one more FF before it");
        assert_eq!(found(Form::One, &[0xFF, 0xFF, 7, 1, 0xF7]), [], "no room for a code and a sum");
        let mut bytes = asked(Form::Two, 1, &Ask::Ping);
        bytes[4] = 0xFD;
        let crc = crc(&bytes[..8]).to_le_bytes();
        bytes[8..].copy_from_slice(&crc);
        assert_eq!(found(Form::Two, &bytes), []);
        // Too long for what there is room for: it is not waited for.
        let long = [0xFF, 0xFF, 0xFD, 0, 1, 0xFF, 0xFF];
        let bytes = [&long[..], &asked(Form::Two, 1, &Ask::Ping)].concat();
        assert_eq!(found(Form::Two, &bytes).len(), 1);
        // An answer of form 2 says that it is one.
        let ping = Packet { id: 1, code: instruction::PING, rest: &[] };
        assert_eq!(ping.as_answer(Form::Two), None);
        assert!(ping.as_answer(Form::One).is_some());
    }

    fn form() -> impl Strategy<Value = Form> {
        prop_oneof![Just(Form::One), Just(Form::Two)]
    }

    proptest! {
        #[test]
        fn answers_come_back_in_any_split_and_behind_any_rubbish(
            form in form(), id in 0u8..=252, error in any::<u8>(),
            data in proptest::collection::vec(prop_oneof![3 => Just(0xFF), 1 => Just(0xFD), 2 => any::<u8>()], 0..40),
            rubbish in proptest::collection::vec(prop_oneof![Just(0xFFu8), any::<u8>()], 0..40),
            cut in 1usize..9,
        ) {
            let packet = answered(form, id, error, &data);
            // What began in the rubbish is over behind so many bytes.
            let bytes = [&rubbish[..], &packet.repeat(512 / packet.len() + 2)].concat();
            let mut packets = Packets::<512>::new(form);
            let mut last = None;
            for part in bytes.chunks(cut) {
                packets.feed(part, |packet| last = packet.as_answer(form));
            }
            prop_assert_eq!(last, Some(Answer::new(id, error, &data)));
            prop_assert!(packets.counts().skipped <= bytes.len() as u64);
        }

        #[test]
        fn a_bit_that_tips_is_noticed(
            form in form(), data in proptest::collection::vec(any::<u8>(), 0..20), place in any::<prop::sample::Index>(), bit in 0u8..8,
        ) {
            let mut packet = answered(form, 9, 0, &data);
            let place = place.index(packet.len());
            packet[place] ^= 1 << bit;
            let code = if form == Form::One { 0 } else { ANSWER };
            let sent = if form == Form::One { data } else { [&[0], &data[..]].concat() };
            prop_assert!(!found(form, &packet).contains(&(9, code, sent)));
        }
    }
}
