//! How long an I²C bus takes, before anything runs: what fits between two beats, and how old a value may get.
//!
//! Counts bits as the wire carries them: nine a byte, one each for start and stop. What an adapter adds of its
//! own is not known here, so these are the least times. Behind a bridge every byte passes a serial line too, with what
//! the bridge wants around it.

use crate::rig::{Board, Rig};
use crate::unit::{Hertz, Seconds, number};

/// The rate of a bus that nobody has said anything about.
pub const USUAL_RATE: Hertz = Hertz::new(100e3);
/// Rates that the I²C standard names, rising.
pub const RATES: [Hertz; 3] = [Hertz::new(100e3), Hertz::new(400e3), Hertz::new(1e6)];
/// Channels in one transfer at most.
const GROUP: u8 = 8;
/// Bits of the start and the stop.
const EDGES: usize = 2;
/// Bits of a byte with its acknowledge.
const BYTE: usize = 9;
/// Bits a board's check takes, once a second: two modes, the divider, and eight channels are read back. A read has
/// three bytes before its data and a second start.
const CHECK: usize = read(2) + read(1) + read(32);
/// Bits to see that a board still is as it was left, before it is told anything new: its mode is read.
const LOOK: usize = read(1);
/// Bits of a byte on a serial line.
const LINE_BYTE: usize = 10;
/// Bytes on the line around the data of one transfer of a bridge: start, address, count and stop, then its status.
const BRIDGED: usize = 8;
/// Bytes on the line that a board's check takes: two, one and thirty-two bytes read, in pieces of sixteen, each behind
/// a transfer that names the register.
const BRIDGED_CHECK: usize = 4 * (1 + 2 * BRIDGED) + 2 + 1 + 32;
/// Bytes on the line to see that.
const BRIDGED_LOOK: usize = 1 + 2 * BRIDGED + 1;
const CHECKS_A_SECOND: f64 = 1.0;

const fn read(bytes: usize) -> usize {
    (3 + bytes) * BYTE + EDGES + 1
}

/// What all boards of one bus ask of it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Traffic {
    /// Boards on the bus.
    pub boards: usize,
    /// Channels with a servo.
    pub channels: usize,
    /// Bits a second.
    pub rate: Hertz,
    /// The serial rate of the bridge before it, where there is one.
    pub line: Option<Hertz>,
    /// Bits that tell every channel once.
    round_bits: usize,
    /// Bytes on a bridge's line that do.
    round_bytes: usize,
    slowest_frame: Seconds,
}

impl Traffic {
    /// The traffic of a port.
    pub fn of(rig: &Rig, port: &str) -> Self {
        let rate = rig.port(port).and_then(|p| p.bus_hz).unwrap_or(USUAL_RATE);
        let boards: Vec<&Board> = rig.boards.iter().filter(|b| b.port == port).collect();
        let mut all = Self {
            boards: boards.len(),
            channels: 0,
            rate,
            line: rig.port(port).and_then(|p| p.baud).map(|baud| Hertz::new(f64::from(baud))),
            round_bits: 0,
            round_bytes: 0,
            slowest_frame: Seconds::ZERO,
        };
        for board in boards {
            let mut used = [false; 16];
            for servo in rig.servos_on(&board.name) {
                if let Some(place) = used.get_mut(usize::from(servo.plug())) {
                    *place = true;
                }
            }
            all.channels += used.iter().filter(|used| **used).count();
            let tells = usize::from(used.contains(&true));
            all.round_bits += round_bits(&used) + tells * LOOK;
            all.round_bytes += round_bytes(&used) + tells * BRIDGED_LOOK;
            let Some(clock) = board.clock() else { continue };
            let frame = Seconds::new(1.0 / clock.rate().get());
            if frame > all.slowest_frame {
                all.slowest_frame = frame;
            }
        }
        all
    }

    /// The same boards at another rate.
    #[must_use]
    pub const fn at(self, rate: Hertz) -> Self {
        Self { rate, ..self }
    }

    /// The time to tell every channel once.
    pub fn round(&self) -> Seconds {
        self.time(self.round_bits, self.round_bytes)
    }

    /// The time that bits on the bus take, with the bytes that they are on a bridge's line.
    fn time(&self, bits: usize, bytes: usize) -> Seconds {
        let line = self.line.map_or(0.0, |line| number(bytes * LINE_BYTE) / line.get());
        Seconds::new(number(bits) / self.rate.get() + line)
    }

    /// The time that a second's checks of all boards take.
    fn checks(&self) -> Seconds {
        self.time(self.boards * CHECK, self.boards * BRIDGED_CHECK)
    }

    /// How often a second every channel can change, with the checks that go on beside it.
    pub fn updates_a_second(&self) -> f64 {
        let left = 1.0 - self.checks().get() * CHECKS_A_SECOND;
        left.max(0.0) / self.round().get()
    }

    /// Whether every channel can change in every beat.
    pub fn fits(&self, beat: Seconds) -> bool {
        self.channels == 0 || self.updates_a_second() * beat.get() >= 1.0
    }

    /// Channels that can change in one beat, of all.
    pub fn channels_a_beat(&self, beat: Seconds) -> f64 {
        let share = (self.updates_a_second() * beat.get()).min(1.0);
        libm::floor(number(self.channels) * share)
    }

    /// The least standard rate at which everything fits in a beat, if one does.
    pub fn rate_that_fits(&self, beat: Seconds) -> Option<Hertz> {
        RATES.into_iter().find(|&rate| self.at(rate).fits(beat))
    }

    /// How long a new value may wait at most until it is told: every other board first, each with its check. No
    /// channel changes twice in a frame; a round that is longer than one has no need to wait for that.
    pub fn longest_wait(&self) -> Seconds {
        let frame = if self.round() < self.slowest_frame { self.slowest_frame } else { Seconds::ZERO };
        self.round() + self.checks() + frame
    }
}

/// Bits that tell every used channel of a board the end of its pulse. Neighbours go together, over a gap or the
/// middle a transfer of its own is shorter; of the first channel only the last two bytes go.
fn round_bits(used: &[bool; 16]) -> usize {
    let mut bits = 0;
    let mut before = false;
    for (channel, &here) in (0u8..).zip(used) {
        if here {
            let begins = !before || channel % GROUP == 0;
            // Address, register and two bytes of its own; or four more bytes of a transfer under way.
            bits += 4 * BYTE + if begins { EDGES } else { 0 };
        }
        before = here;
    }
    bits
}

/// Bytes on a bridge's line that tell every used channel: at most four whole channels go in a transfer, the first
/// without where its pulse begins.
fn round_bytes(used: &[bool; 16]) -> usize {
    const PIECE: usize = 4;
    let runs = used.chunks(usize::from(GROUP)).flat_map(|group| group.split(|used| !used));
    let bytes = |channels: usize| 4 * channels - 2 + channels.div_ceil(PIECE) * (1 + BRIDGED);
    runs.map(<[bool]>::len).filter(|channels| *channels > 0).map(bytes).sum()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rig::file::{Loaded, load};

    const BEAT: Seconds = Seconds::new(0.02);

    fn rig(boards: u8) -> Rig {
        let Loaded::Sound(rig) = load(include_str!("../tests/data/small.rig.toml")) else { panic!() };
        let mut rig = *rig;
        let (board, servo) = (rig.boards[0].clone(), rig.servos[0].clone());
        let addresses = (0x40..=0x7f).filter(|a| *a != 0x70);
        rig.boards = addresses
            .take(usize::from(boards))
            .map(|address| Board { name: format!("b{address}"), address: Some(address), ..board.clone() })
            .collect();
        rig.servos = rig
            .boards
            .iter()
            .flat_map(|b| (0..16).map(|channel| (b.name.clone(), channel)))
            .map(|(board, channel)| crate::rig::Servo { board, channel: Some(channel), ..servo.clone() })
            .collect();
        rig
    }

    #[test]
    fn a_full_board_is_two_blocks_of_eight_channels() {
        // 2 + 30 bytes each: nine bits a byte, and two for start and stop.
        assert_eq!(round_bits(&[true; 16]), 2 * (32 * 9 + 2));
        let mut two = [false; 16];
        (two[3], two[12]) = (true, true);
        assert_eq!(round_bits(&two), 2 * (4 * 9 + 2));
        assert_eq!(round_bits(&[false; 16]), 0);
    }

    #[test]
    fn one_full_board_fits_a_beat_at_the_usual_rate() {
        let traffic = Traffic::of(&rig(1), "bench-bus");
        // 580 bits tell the channels; the look before them takes four bytes, a start more and the edges.
        assert_eq!(LOOK, 4 * 9 + 3);
        assert!((traffic.round().get() - 6.19e-3).abs() < 1e-6, "{:?}", traffic.round());
        assert!(traffic.fits(BEAT) && traffic.rate_that_fits(BEAT) == Some(USUAL_RATE));
    }

    #[test]
    fn sixty_two_boards_get_about_25_updates_a_second_at_the_fastest_rate() {
        let traffic = Traffic::of(&rig(62), "bench-bus");
        assert_eq!((traffic.boards, traffic.channels), (62, 992));
        let fast = traffic.at(RATES[2]);
        assert!((fast.updates_a_second() - 25.4).abs() < 0.1, "{}", fast.updates_a_second());
        assert!(!fast.fits(BEAT) && fast.rate_that_fits(BEAT).is_none());
        assert!((fast.channels_a_beat(BEAT) - 503.0).abs() < 2.0, "{}", fast.channels_a_beat(BEAT));
        assert!(traffic.updates_a_second() < 2.5);
        assert!(fast.longest_wait() > fast.round() && fast.longest_wait().get() < 0.085);
    }

    #[test]
    fn behind_a_bridge_the_line_is_what_takes_the_time() {
        let mut rig = rig(1);
        rig.ports[0].baud = Some(9600);
        let slow = Traffic::of(&rig, "bench-bus");
        // Two groups: thirty bytes of channels in two pieces each, nine bytes around a piece.
        assert_eq!(round_bytes(&[true; 16]), 2 * (30 + 2 * 9));
        // Eighteen bytes are on the line for the look before.
        assert_eq!(BRIDGED_LOOK, 18);
        let wanted = 6.19e-3 + (960.0 + 180.0) / 9600.0;
        assert!((slow.round().get() - wanted).abs() < 1e-6, "{:?}", slow.round());
        assert!(!slow.fits(BEAT) && slow.rate_that_fits(BEAT).is_none(), "no rate of the bus helps");
        rig.ports[0].baud = Some(460_800);
        assert!(Traffic::of(&rig, "bench-bus").fits(BEAT));
    }

    #[test]
    fn five_boards_want_the_next_rate() {
        let traffic = Traffic::of(&rig(5), "bench-bus");
        assert!(!traffic.fits(BEAT));
        assert_eq!(traffic.rate_that_fits(BEAT), Some(RATES[1]));
    }
}
