//! Faults: those of a simulated bench that can be switched on and off while it runs, and a wrapper that lets
//! any bus fail at random, from a seed.

use crate::truth::Dice;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use wasvolta_port::{BusError, Clock, Fault, I2cBus, Transfer};

/// What may be wrong with a simulated bench, each to be switched on and off while it runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// The bus's path does not exist.
    NoBus,
    /// This user may not open the bus.
    Denied,
    /// A kernel driver holds the chip.
    Held,
    /// Nothing answers, though boards run on.
    Absent,
    /// The board is pulled out; it comes back as after power-on.
    Pulled,
    /// The bus hangs: every transfer takes a second and fails.
    Silent,
    /// Every transfer takes 30 ms.
    Slow,
    /// One transfer in four fails.
    Refuses,
    /// The board loses its supply for a moment every three seconds.
    Resets,
    /// Another kind of chip answers.
    WrongChip,
    /// A microcontroller speaks another protocol.
    WrongFirmware,
    /// Something keeps putting the chip to sleep.
    Asleep,
    /// Something keeps setting another frame rate.
    OtherRate,
    /// Another program writes to the channels.
    Overwritten,
    /// The chip's oscillator is 5 % fast.
    Oscillator,
    /// The servos' supply is gone; the board's is not.
    RailDip,
    /// The servo's plug is out.
    PlugOut,
    /// Two smart servos have one id, and answer at the same time.
    Twins,
    /// A smart servo hears and does as it is told, and does not answer.
    Mute,
    /// Bits tip on a smart bus.
    Noise,
    /// A smart servo's answers come 30 ms late.
    Late,
    /// The adapter of a smart bus gives back what is sent.
    Echo,
    /// Something holds a smart servo's horn.
    Stuck,
    /// A smart servo says that it is too hot.
    Hot,
}

/// A kind's name and its words.
struct Row(Kind, &'static str, &'static str);

const TABLE: [Row; 24] = [
    Row(Kind::NoBus, "no-bus", "the bus's path does not exist"),
    Row(Kind::Denied, "denied", "this user may not open the bus"),
    Row(Kind::Held, "held", "a kernel driver holds the chip"),
    Row(Kind::Absent, "absent", "nothing answers, the boards run on"),
    Row(Kind::Pulled, "pulled", "the board is pulled out and comes back as after power-on"),
    Row(Kind::Silent, "silent", "the bus hangs: every transfer takes a second and fails"),
    Row(Kind::Slow, "slow", "every transfer takes 30 ms"),
    Row(Kind::Refuses, "refuses", "one transfer in four fails"),
    Row(Kind::Resets, "resets", "the board loses its supply for a moment every 3 s"),
    Row(Kind::WrongChip, "wrong-chip", "another kind of chip answers"),
    Row(Kind::WrongFirmware, "wrong-firmware", "a microcontroller speaks another protocol"),
    Row(Kind::Asleep, "asleep", "something keeps putting the chip to sleep"),
    Row(Kind::OtherRate, "other-rate", "something keeps setting another frame rate"),
    Row(Kind::Overwritten, "overwritten", "another program writes to the channels"),
    Row(Kind::Oscillator, "oscillator", "the chip's oscillator is 5 % fast"),
    Row(Kind::RailDip, "rail-dip", "the servos' supply is gone, the board's is not"),
    Row(Kind::PlugOut, "plug-out", "the servo's plug is out"),
    Row(Kind::Twins, "twins", "two smart servos have one id and answer at once"),
    Row(Kind::Mute, "mute", "a smart servo obeys and does not answer"),
    Row(Kind::Noise, "noise", "bits flip on a smart bus"),
    Row(Kind::Late, "late", "a smart servo's answers come 30 ms late"),
    Row(Kind::Echo, "echo", "the adapter of a smart bus gives back what is sent"),
    Row(Kind::Stuck, "stuck", "something holds a smart servo's horn"),
    Row(Kind::Hot, "hot", "a smart servo says that it is too hot"),
];

impl Kind {
    /// All of them.
    pub fn all() -> impl Iterator<Item = Self> {
        TABLE.iter().map(|Row(kind, _, _)| *kind)
    }

    fn row(self) -> (&'static str, &'static str) {
        TABLE.iter().find(|row| row.0 == self).map_or(("", ""), |Row(_, name, words)| (*name, *words))
    }

    /// Its name on the command line.
    pub fn name(self) -> &'static str {
        self.row().0
    }

    /// What it does.
    pub fn words(self) -> &'static str {
        self.row().1
    }
}

/// A fault with where it strikes: everywhere, at one board, at one channel of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Struck {
    /// What is wrong.
    pub kind: Kind,
    /// The board's address; all boards without it.
    pub address: Option<u8>,
    /// The channel; all channels without it.
    pub channel: Option<u8>,
}

/// What was said is not a fault.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{said:?} is not a fault: write KIND, KIND@0x40, KIND@0x40:3, or KIND@id3 of a smart servo, with KIND one of {}",
    names()
)]
pub struct NoFault {
    said: String,
}

fn names() -> String {
    Kind::all().map(Kind::name).collect::<Vec<_>>().join(", ")
}

/// A bus of smart servos has no address. This one, which no device can have, stands for it: what strikes an id strikes
/// nothing else.
pub(crate) const ON_A_BUS: u8 = u8::MAX;

impl std::str::FromStr for Struck {
    type Err = NoFault;

    fn from_str(said: &str) -> Result<Self, NoFault> {
        let no = || NoFault { said: said.to_owned() };
        let (name, place) = said.split_once('@').map_or((said, None), |(name, place)| (name, Some(place)));
        let kind = Kind::all().find(|kind| kind.name() == name).ok_or_else(no)?;
        let Some(place) = place else { return Ok(Self { kind, address: None, channel: None }) };
        if let Some(id) = place.strip_prefix("id") {
            return Ok(Self::at_id(kind, id.parse().map_err(|_| no())?));
        }
        let (address, channel) = place.split_once(':').map_or((place, None), |(a, c)| (a, Some(c)));
        let hex = address.strip_prefix("0x").ok_or_else(no)?;
        let address = u8::from_str_radix(hex, 16).ok().filter(|address| *address < 0x80).ok_or_else(no)?;
        let channel = channel.map(str::parse).transpose().map_err(|_| no())?;
        Ok(Self { kind, address: Some(address), channel })
    }
}

impl std::fmt::Display for Struck {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.kind.name())?;
        if let (Some(ON_A_BUS), Some(id)) = (self.address, self.channel) {
            return write!(f, "@id{id}");
        }
        if let Some(address) = self.address {
            write!(f, "@{address:#04x}")?;
        }
        self.channel.map_or(Ok(()), |channel| write!(f, ":{channel}"))
    }
}

impl Struck {
    /// What strikes a smart servo, by its id.
    pub const fn at_id(kind: Kind, id: u8) -> Self {
        Self { kind, address: Some(ON_A_BUS), channel: Some(id) }
    }

    fn is_at(&self, address: u8) -> bool {
        self.address.is_none_or(|own| own == address)
    }

    /// Whether it strikes a channel of a board.
    pub(crate) fn hits(&self, kind: Kind, address: u8, channel: usize) -> bool {
        self.kind == kind && self.is_at(address) && self.channel.is_none_or(|own| usize::from(own) == channel)
    }

    /// Whether it strikes a board.
    pub(crate) fn strikes(&self, kind: Kind, address: u8) -> bool {
        self.kind == kind && self.is_at(address)
    }
}

/// How long a hanging transfer takes until the adapter gives up.
const HANGS: Duration = Duration::from_secs(1);
const SLOW: Duration = Duration::from_millis(30);

/// What is wrong with the bench at present. Nothing at first.
#[derive(Debug, Default)]
pub struct Faults {
    on: Mutex<Vec<Struck>>,
    transfers: AtomicU32,
    refuse: AtomicU32,
    delay_us: AtomicU64,
    panic: AtomicBool,
}

impl Faults {
    /// Switches a fault on or off.
    pub fn set(&self, fault: Struck, on: bool) {
        let mut all = self.lock();
        all.retain(|other| *other != fault);
        if on {
            all.push(fault);
        }
    }

    /// Switches a fault of every board on or off.
    pub fn set_everywhere(&self, kind: Kind, on: bool) {
        self.set(Struck { kind, address: None, channel: None }, on);
    }

    /// What is switched on.
    pub fn on(&self) -> Vec<Struck> {
        self.lock().clone()
    }

    fn lock(&self) -> MutexGuard<'_, Vec<Struck>> {
        self.on.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The next transfers fail.
    pub fn refuse_next(&self, transfers: u32) {
        self.refuse.store(transfers, Ordering::SeqCst);
    }

    /// Every transfer takes this long.
    pub fn set_delay(&self, delay: Duration) {
        self.delay_us.store(u64::try_from(delay.as_micros()).unwrap_or(u64::MAX), Ordering::SeqCst);
    }

    /// The next transfer panics: a fault of the program, for tests of how it ends.
    pub fn panic_next(&self) {
        self.panic.store(true, Ordering::SeqCst);
    }

    /// What opening the bus meets.
    pub(crate) fn at_opening(&self) -> Option<Fault> {
        self.lock().iter().find_map(|fault| match fault.kind {
            Kind::NoBus => Some(Fault::NoBus),
            Kind::Denied => Some(Fault::Denied),
            _ => None,
        })
    }

    /// What the next transfer with a board meets.
    pub(crate) fn strike(&self, address: u8, clock: &dyn Clock) -> Option<Fault> {
        let delay = self.delay_us.load(Ordering::SeqCst);
        if delay > 0 {
            clock.wait(Duration::from_micros(delay));
        }
        assert!(!self.panic.swap(false, Ordering::SeqCst), "a panic that was asked for");
        let number = self.transfers.fetch_add(1, Ordering::SeqCst);
        for fault in self.on().iter().filter(|fault| fault.is_at(address)) {
            match fault.kind {
                Kind::NoBus | Kind::Absent | Kind::Pulled => return Some(Fault::Absent),
                Kind::Denied => return Some(Fault::Denied),
                Kind::Held => return Some(Fault::Busy),
                Kind::Silent => {
                    clock.wait(HANGS);
                    return Some(Fault::Transfer);
                }
                Kind::Slow => clock.wait(SLOW),
                Kind::Refuses if number.is_multiple_of(4) => return Some(Fault::Transfer),
                _ => {}
            }
        }
        let less = |left: u32| left.checked_sub(1);
        self.refuse.fetch_update(Ordering::SeqCst, Ordering::SeqCst, less).is_ok().then_some(Fault::Transfer)
    }
}

/// Any bus, of whose transfers a share fails: before it reached the device, or after.
#[derive(Debug)]
pub struct Faulty<B> {
    bus: B,
    dice: Dice,
    share: f64,
}

impl<B: I2cBus> Faulty<B> {
    /// Lets `share` (0–1) of all transfers of `bus` fail; the same seed, the same ones.
    pub const fn new(bus: B, seed: u64, share: f64) -> Self {
        Self { bus, dice: Dice::new(seed), share }
    }
}

impl<B: I2cBus> I2cBus for Faulty<B> {
    fn transfer(&mut self, address: u8, transfer: Transfer<'_>) -> Result<(), BusError> {
        if self.dice.between(0.0, 1.0) >= self.share {
            return self.bus.transfer(address, transfer);
        }
        let failure = BusError::transfer(address, &transfer, Fault::Transfer);
        // A write may have arrived though its acknowledge did not: that is the harder case for a driver.
        if matches!(transfer, Transfer::Write { .. }) && self.dice.between(0.0, 1.0) < 0.5 {
            self.bus.transfer(address, transfer)?;
        }
        Err(failure)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_is_said_with_its_place_or_without() {
        let said = |text: &str| text.parse::<Struck>();
        assert_eq!(said("slow").unwrap(), Struck { kind: Kind::Slow, address: None, channel: None });
        let twins = said("twins@id3").unwrap();
        assert_eq!(twins, Struck { kind: Kind::Twins, address: Some(ON_A_BUS), channel: Some(3) });
        assert_eq!(twins.to_string(), "twins@id3");
        let plug = said("plug-out@0x41:4").unwrap();
        assert_eq!(plug, Struck { kind: Kind::PlugOut, address: Some(0x41), channel: Some(4) });
        assert_eq!(plug.to_string(), "plug-out@0x41:4");
        assert!(plug.hits(Kind::PlugOut, 0x41, 4) && !plug.hits(Kind::PlugOut, 0x41, 3));
        for junk in ["", "sloow", "slow@41", "slow@0xff:3", "slow@0xzz", "twins@idx", "plug-out@0x41:x"] {
            assert!(said(junk).unwrap_err().to_string().contains("no-bus, denied"), "{junk}");
        }
    }

    #[test]
    fn every_kind_has_its_own_name() {
        let mut names: Vec<_> = Kind::all().map(Kind::name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), Kind::all().count());
        assert!(Kind::all().all(|kind| !kind.words().is_empty()));
    }
}
