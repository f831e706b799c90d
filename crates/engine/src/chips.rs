//! What the engine knows of each chip beside what `core` says of it: how its driver is set up, and which links lead a pulse
//! to its channels. A row a chip.

use crate::why::Judge;
use crate::why::board::{EXPANDER, FIRMATA, PWM};
use std::time::Duration;
use wasvolta_core::rig::{Board, Channel, Chip, Protocol, Rig, Signal};
use wasvolta_core::unit::count16;
use wasvolta_port::board::BoardSettings;
use wasvolta_port::{expander, firmata, pwm};

/// See the module.
pub struct ChipRow {
    /// What a board is to be.
    pub settings: fn(&Rig, &Board) -> BoardSettings,
    /// The links between its port and its channels, in the order in which a pulse passes them.
    pub links: &'static [(&'static str, Judge)],
}

/// The row of a chip.
pub const fn row(chip: Chip) -> &'static ChipRow {
    match chip {
        Chip::PwmExpander => &ChipRow { settings: expander, links: &EXPANDER },
        Chip::Firmata => &ChipRow { settings: firmata, links: &FIRMATA },
        Chip::LinuxPwm => &ChipRow { settings: pwm, links: &PWM },
    }
}

/// The widest pulse that is ever allowed, in µs.
const WIDEST_US: f64 = 2900.0;

fn frame(board: &Board) -> Duration {
    Duration::try_from_secs_f64(board.clock().period().get() / 1e6).unwrap_or_default()
}

fn expander(_: &Rig, board: &Board) -> BoardSettings {
    BoardSettings::Expander(expander::ExpanderSettings {
        address: board.address.unwrap_or_default(),
        prescale: board.prescale(),
        frame: frame(board),
        widest: count16((WIDEST_US / board.clock().tick().get()).ceil()).min(4095),
    })
}

fn firmata(rig: &Rig, board: &Board) -> BoardSettings {
    let pins = |signal: Signal| {
        let pins = rig.servos_on(&board.name).filter(|s| s.kind.signal() == signal).map(|s| s.channel);
        pins.fold(0, |bits, pin| bits | 1u128.checked_shl(u32::from(pin)).unwrap_or(0))
    };
    BoardSettings::Firmata(firmata::FirmataSettings {
        levels: pins(Signal::Share),
        switches: pins(Signal::Switch),
        reads: reads(rig, board),
    })
}

/// The pins that inputs are read from, over the links that stand on a board.
fn reads(rig: &Rig, board: &Board) -> firmata::Reads {
    let mut reads = firmata::Reads::default();
    let Some(link) = rig.link_on(board) else { return reads };
    for input in rig.inputs.iter().filter(|input| input.link == link.name) {
        let Some(Channel::Code(code)) = (Protocol::Firmata.row().read)(&input.channel) else { continue };
        if let Some(channel) = code.checked_sub(firmata::ANALOG) {
            reads.analog |= 1u16.checked_shl(channel.into()).unwrap_or(0);
        } else {
            let pin = 1u128 << (code % firmata::PULLED_UP);
            reads.digital |= pin;
            reads.pulled_up |= if code >= firmata::PULLED_UP { pin } else { 0 };
        }
    }
    reads
}

fn pwm(_: &Rig, board: &Board) -> BoardSettings {
    BoardSettings::Pwm(pwm::PwmSettings { frame: frame(board) })
}
