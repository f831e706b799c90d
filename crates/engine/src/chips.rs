//! What the engine knows of each chip beside what `core` says of it: how its driver is set up, and which links lead a pulse
//! to its channels. A row a chip.

use crate::why::Judge;
use crate::why::board::{EXPANDER, FIRMATA, PWM};
use std::time::Duration;
use wasvolta_core::rig::{Board, Chip, Rig, Signal};
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
    })
}

fn pwm(_: &Rig, board: &Board) -> BoardSettings {
    BoardSettings::Pwm(pwm::PwmSettings { frame: frame(board) })
}
